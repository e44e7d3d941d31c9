//! Reports of faults say where they came from.

mod common;

fn report(text: &str) -> String {
    let mut session = common::session(text);
    session.resume(&[], 100_000, &|| false);
    let (moment, ending) = (session.moment(), session.ending());
    let report = session.fault_report().expect("it dies");
    assert_eq!((session.moment(), session.ending()), (moment, ending), "the session stays");
    let mut lines = vec![report.message];
    lines.extend(report.facts);
    lines.extend(report.help.map(|help| format!("help: {help}")));
    lines.join("\n")
}

const X86: &str = ".target x86-64\n.global _start\n";

#[test]
fn a_smashed_return_address_names_the_store_that_did_it() {
    let text = format!(
        "{X86}_start: call copy
 ud2
copy: sub rsp, 16
 mov rsi, rsp
 mov ecx, 20
.next: mov al, 0x41
 mov [rsi], al
 inc rsi
 loop .next
 add rsp, 16
 ret
"
    );
    insta::assert_snapshot!(report(&text), @r"
    returned to 0x41414141, where there is nothing
    the return address of `copy`, 0x401005, was overwritten at #82 by `mov [rsi], al`, lamp.s:9
    help: that store must not reach 0x7fffffffee58, where `copy` has its return address
    ");
}

#[test]
fn a_push_without_its_pop_is_counted() {
    let text =
        format!("{X86}_start: call tide\n ud2\ntide: push rbx\n push rcx\n mov ebx, 5\n ret\n");
    insta::assert_snapshot!(report(&text), @r"
    returned to 0x0, where there is nothing
    the return address of `tide`, 0x401005, lies 16 bytes higher, at 0x7fffffffee58
    help: `tide` left rsp lower than it was at its start: 2 pushes of it have no pop
    ");
}

#[test]
fn a_misaligned_stack_names_the_call() {
    let text = format!(
        "{X86}_start: push rax\n call swell\n ud2\nswell: sub rsp, 24\n movaps [rsp], xmm0\n ud2\n"
    );
    insta::assert_snapshot!(report(&text), @r"
    tried to write 16 bytes at 0x7fffffffee38, which is not a multiple of 16
    rsp was 0x7fffffffee58 at the call of `swell` (lamp.s:4), which is not a multiple of 16
    help: before that call rsp must be a multiple of 16: push one register more, or `sub rsp, 8` and add it back
    ");
}

#[test]
fn a_call_through_a_wild_pointer_names_the_variable() {
    let loaded = format!(
        "{X86}.data\nhandler: .quad 0\n.text\n_start: mov rax, [handler]\n nop\n call rax\n ud2\n"
    );
    insta::assert_snapshot!(report(&loaded), @r"
    called 0x0, where there is nothing
    rax was loaded from `handler`, which held 0x0, at #1 by `mov rax, [handler]`, lamp.s:6
    ");
    let direct =
        format!("{X86}.data\nhandler: .quad 0x123456\n.text\n_start: call [handler]\n ud2\n");
    insta::assert_snapshot!(report(&direct), @r"
    called 0x123456, where there is nothing
    the address came from `handler`, which holds 0x123456
    ");
}

#[test]
fn on_arm_the_link_register_or_its_slot_is_named() {
    let slot = ".target arm64\n.global _start\n_start: bl tide\n brk #1
tide: stp x29, x30, [sp, #-32]!
 mov x1, #0x4140
 str x1, [sp, #8]
 ldp x29, x30, [sp], #32
 ret
";
    insta::assert_snapshot!(report(slot), @r"
    returned to 0x4140, where there is nothing
    x30 was loaded from 0x7fffffffee38, where `tide` kept its return address 0x401004, and which was overwritten at #4 by `str x1, [sp, #8]`, lamp.s:7
    help: that store must not reach 0x7fffffffee38, where `tide` has its return address
    ");
    let register =
        ".target arm64\n.global _start\n_start: bl tide\n brk #1\ntide: mov x30, #64\n ret\n";
    insta::assert_snapshot!(report(register), @r"
    returned to 0x40, where there is nothing
    x30, 0x401004 when `tide` was called, was overwritten at #2 by `mov x30, #64`, lamp.s:5
    help: save x30 on the stack when `tide` starts, and load it before ret
    ");
    let pair = ".target arm64\n.global _start\n_start: mov x0, #64\n stp x1, x2, [x0]\n";
    assert!(report(pair).starts_with("tried to write 0x40, where there is nothing"));
}
