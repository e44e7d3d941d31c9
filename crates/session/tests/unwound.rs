//! Frames by unwind tables: where the instruction pointer was changed by hand, and on stacks that a program makes
//! for itself.

mod common;

use sotto_session::{Frame, Session, StopReason};

/// The lamp is lit by the keeper, who is sent by the station.
const X86_64: &str = " .target x86-64
 .global _start
 .text
 .type keeper, @function
keeper: push rbx
 push r12
 sub rsp, 24
 mov rbx, rdi
 call lamp
 add rsp, 24
 pop r12
 pop rbx
 ret
 .size keeper, . - keeper
 .type lamp, @function
lamp: push rbp
 mov rbp, rsp
 sub rsp, 64
 mov [rbp - 8], rdi
 leave
 ret
 .size lamp, . - lamp
_start: mov edi, 7
 call keeper
 mov eax, 60
 xor edi, edi
 syscall
";

const X86_32: &str = " .target x86-32
 .global _start
 .text
 .type keeper, @function
keeper: push ebx
 sub esp, 8
 push 7
 call lamp
 add esp, 12
 pop ebx
 ret
 .size keeper, . - keeper
 .type lamp, @function
lamp: push ebp
 mov ebp, esp
 mov eax, [ebp + 8]
 pop ebp
 ret
 .size lamp, . - lamp
_start: call keeper
 mov eax, 1
 xor ebx, ebx
 int 0x80
";

const ARM64: &str = " .target arm64
 .global _start
 .text
 .type keeper, %function
keeper: stp x29, x30, [sp, #-32]!
 mov x29, sp
 str x19, [sp, #16]
 bl lamp
 ldr x19, [sp, #16]
 ldp x29, x30, [sp], #32
 ret
 .size keeper, . - keeper
 .type lamp, %function
lamp: sub sp, sp, #16
 str x0, [sp, #8]
 add sp, sp, #16
 ret
 .size lamp, . - lamp
_start: mov x0, #7
 bl keeper
 mov x8, #93
 mov x0, #0
 svc #0
";

fn never() -> bool {
    false
}

/// What a frame is known by: routine, place, caller and extent.
fn known_by(frames: &[Frame]) -> Vec<(String, u64, Option<u64>, u64, u64)> {
    let facts = |f: &Frame| (f.routine.clone(), f.at.address, f.call_address, f.start, f.end);
    frames.iter().map(facts).collect()
}

/// Asks for the tables by a change of the instruction pointer to what it is.
fn by_tables(session: &mut Session) -> Vec<Frame> {
    let counter = session.arch().pc();
    let here = format!("{:#x}", session.register(counter));
    session.change(session.arch().storage_name(counter), &here).unwrap();
    session.frames()
}

#[test]
fn tables_worked_out_from_code_tell_what_execution_does_after_each_instruction() {
    for (name, text) in [("lamp64.s", X86_64), ("lamp32.s", X86_32), ("lamp_a64.s", ARM64)] {
        let mut session = common::session(text);
        let mut deepest = 0;
        while session.ending().is_none() {
            let followed = session.frames();
            let unwound = by_tables(&mut session);
            let moment = session.moment();
            assert_eq!(known_by(&unwound), known_by(&followed), "{name} #{moment}");
            deepest = deepest.max(unwound.len());
            session.resume(&[], 1, &never);
        }
        assert_eq!(deepest, 3, "{name}");
    }
}

#[test]
fn a_routine_that_was_entered_by_hand_shows_who_its_stack_returns_to() {
    let mut session = common::session(X86_64);
    // In the middle of `keeper`, with what it would have on its stack by then.
    let middle = session.resolve_places("lamp.s:9").unwrap()[0];
    session.change("rsp", "rsp - 48").unwrap();
    let back = session.image().symbol("_start").unwrap().address + 10;
    session.change("qword [rsp + 40]", &format!("{back:#x}")).unwrap();
    session.change("rip", &format!("{middle:#x}")).unwrap();
    let frames = session.frames();
    let names: Vec<&str> = frames.iter().map(|frame| frame.routine.as_str()).collect();
    assert_eq!(names, ["keeper", "_start"]);
    assert_eq!((frames[0].moment, frames[0].end - frames[0].start), (None, 48));
    assert_eq!(frames[0].call.as_ref().and_then(|call| call.line), Some(24));
    let view = session.stack(0, 6, 0);
    assert_eq!(view.slots[5].role, sotto_session::SlotRole::ReturnAddress);
    // Calls from there on are followed again.
    assert_eq!(
        session.resume(&[session.image().symbol("lamp").unwrap().address], 9, &never),
        StopReason::Place
    );
    assert!(session.frames()[0].moment.is_some());
}

#[test]
fn a_stack_of_its_own_making_has_frames_of_its_own() {
    let text = X86_64.replace("_start: mov edi, 7", "_start: mov edi, 7\n lea rsp, [own + 512]")
        + " .bss\n .align 16\nown: .skip 512\n";
    let mut session = common::session(&text);
    let inside = session.resolve_places("lamp.s:19").unwrap()[0];
    assert_eq!(session.resume(&[inside], 100, &never), StopReason::Place);
    let frames = session.frames();
    let names: Vec<&str> = frames.iter().map(|frame| frame.routine.as_str()).collect();
    assert_eq!(names, ["lamp", "keeper", "_start"]);
    let top = session.image().symbol("own").unwrap().address + 512;
    assert_eq!((frames[2].start, frames[2].end), (top, top));
    assert!(frames[0].moment.is_some(), "execution knows when it was entered");
}

#[test]
fn without_a_table_execution_is_believed() {
    let text =
        X86_64.replace(" .type keeper, @function\n", "").replace(" .type lamp, @function\n", "");
    let mut session = common::session(&text);
    let inside = session.resolve_places("lamp.s:18").unwrap()[0];
    assert_eq!(session.resume(&[inside], 100, &never), StopReason::Place);
    let followed = session.frames();
    assert_eq!(known_by(&by_tables(&mut session)), known_by(&followed));
    assert_eq!(followed.len(), 3);
}
