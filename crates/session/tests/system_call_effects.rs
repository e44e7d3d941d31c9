//! What the kernel does is seen like what an instruction does: by `who`, by watches, by the stack and in reports.

mod common;

use sotto_isa::Storage;
use sotto_kernel::Stop;
use sotto_session::{StopReason, Wrote};

fn never() -> bool {
    false
}

/// Tells the time into `now` and into the stack, and reads two bytes into `log`.
const WATCH: &str = "
        .target x86-64
        .global _start
        .data
now:    .quad 0, 0
log:    .skip 16
        .text
_start: mov     eax, 228
        xor     edi, edi
        lea     rsi, [now]
        syscall
        nop
        sub     rsp, 16
        mov     eax, 228
        xor     edi, edi
        mov     rsi, rsp
        syscall
        xor     eax, eax
        xor     edi, edi
        lea     rsi, [log]
        mov     edx, 2
        mov     ecx, 7
        mov     r11d, 9
reads:  syscall
        mov     eax, 60
        syscall
";

#[test]
fn who_finds_the_call_that_told_the_time() {
    let mut session = common::session(WATCH);
    session.resume(&[], 12, &never);
    for (target, line) in [("[now]", 11), ("[now + 8]", 11), ("[rsp]", 17), ("[rsp + 8]", 17)] {
        let end = session.moment();
        let target = session.target(target).unwrap();
        let writer = session.who(target).instruction().unwrap_or_else(|| panic!("{line}"));
        assert_eq!(writer.report.place.line, Some(line));
        assert_eq!(writer.report.syscall.unwrap().name, "clock_gettime");
        session.go_to(end);
    }
    let target = session.target("[log]").unwrap();
    assert_eq!(session.who(target), Wrote::Nothing);
}

#[test]
fn a_watch_stops_at_the_call_that_told_the_time() {
    let mut session = common::session(WATCH);
    session.add_watch("[now]").unwrap();
    assert_eq!(session.resume(&[], 1000, &never), StopReason::Watch(1));
    assert_eq!(session.moment(), 4);
    let change = session.watch_change().unwrap();
    assert_eq!((change.old, change.new), (Some(0), Some(1_767_225_600)));
    assert_eq!(change.report.syscall.as_ref().unwrap().name, "clock_gettime");
}

#[test]
fn a_step_reports_the_memory_that_the_kernel_wrote() {
    let mut session = common::session(WATCH);
    session.resume(&[], 3, &never);
    let report = session.step().0.unwrap();
    let [written] = &report.memory[..] else { panic!("{:?}", report.memory) };
    assert_eq!((written.name(), written.bytes, written.elements), ("now".into(), 16, Some(2)));
    assert_eq!((written.old, written.new), (0, 1_767_225_600));
    // The slots of the stack that the second call wrote are told to be its.
    session.resume(&[], 6, &never);
    let view = session.stack(0, 2, 1000);
    let lines = view.slots.iter().map(|slot| slot.writer.as_ref().and_then(|w| w.place.line));
    assert_eq!(lines.collect::<Vec<_>>(), [Some(17), Some(17)]);
}

#[test]
fn a_stop_right_behind_a_call_that_printed_nothing_is_not_missed() {
    for place in ["12", "18"] {
        let mut session = common::session(WATCH);
        let at = session.resolve_place(place).unwrap();
        assert_eq!(session.resume(&[at], 1000, &never), StopReason::Place, "{place}");
        assert_eq!(session.here().address, at);
        // The same with a breakpoint, and from the middle.
        let mut session = common::session(WATCH);
        session.add_breakpoint(place, None, 1).unwrap();
        session.step();
        assert_eq!(session.resume(&[], 1000, &never), StopReason::Breakpoint(1), "{place}");
    }
}

#[test]
fn a_call_that_waits_for_input_has_changed_nothing() {
    let mut session = common::session(WATCH);
    let at = session.resolve_place("reads").unwrap();
    assert_eq!(session.resume(&[at], 1000, &never), StopReason::Place);
    let before = session.system().machine.cpu_state();
    assert_eq!(before.registers[1], 7);
    assert_eq!(session.step().1, StopReason::NeedsInput);
    assert_eq!(session.system().machine.cpu_state(), before);
    assert_eq!(session.system_mut().run(10).stop, Stop::NeedsInput);
    assert_eq!(session.system().machine.cpu_state(), before);
    // With input the call is made, and leaves what it leaves.
    session.system_mut().give_input(b"7\n");
    assert_eq!(session.step().1, StopReason::Done);
    assert_eq!(session.register(Storage(0)), 2);
    assert_ne!(session.register(Storage(1)), 7);
}

#[test]
fn running_can_stop_before_each_call() {
    let mut session = common::session(WATCH);
    session.system_mut().close_input();
    session.stop_at_calls(true);
    let mut names = Vec::new();
    loop {
        match session.resume(&[], 1000, &never) {
            StopReason::Call => {
                let report = session.step().0.unwrap();
                names.push((report.moment, report.syscall.unwrap().name));
            }
            reason => {
                assert_eq!(reason, StopReason::Terminated);
                break;
            }
        }
        if session.ending().is_some() {
            break;
        }
    }
    let names: Vec<_> = names.iter().map(|(moment, name)| (*moment, name.as_str())).collect();
    assert_eq!(names, [(4, "clock_gettime"), (10, "clock_gettime"), (17, "read"), (19, "exit")]);
}

/// The kernel's numbers of calls are as `step` counts moments.
#[test]
fn calls_are_listed_by_the_moment_after_them() {
    let mut session = common::session(WATCH);
    session.resume(&[], 4, &never);
    assert_eq!(session.syscalls().iter().map(|call| call.0).collect::<Vec<_>>(), [4]);
    assert_eq!(session.moment(), 4);
}

#[test]
fn what_no_instruction_writes_is_no_target_and_what_is_no_moment_cannot_be_compared_with() {
    let mut session = common::session(WATCH);
    for text in ["5", "rax + rbx", "rsp + 8", "2 * now"] {
        let error = session.target(text).unwrap_err().to_string();
        assert!(error.starts_with(&format!("`{text}` is not a target")), "{error}");
    }
    assert!(session.target("now + 8").is_ok() && session.target("[rsp + 8]").is_ok());
    session.system_mut().close_input();
    let error = session.compare("#99999").unwrap_err().to_string();
    assert_eq!(error, "no moment #99999; the program ended at #19");
    assert_eq!(session.moment(), 0);
    assert!(session.compare("#3").is_ok());
}

/// `call` that is only to push an address, which is popped again.
#[test]
fn a_frame_whose_return_address_was_popped_is_over() {
    let mut session = common::session(
        ".target x86-64\n.global _start\n_start: call tide\n ud2\ntide: call .here\n.here: pop rax\n nop\n ret\n",
    );
    let depths: Vec<usize> = (0..4)
        .map(|_| {
            session.step();
            session.frames().len()
        })
        .collect();
    assert_eq!(depths, [2, 3, 2, 2]);
}

/// LSS loads a far pointer, although its name ends as those of instructions on floats do.
#[test]
fn elements_are_told_by_the_row_and_not_by_letters() {
    let session = |text: &str| {
        common::session(&format!(
            ".target x86-32\n.global _start\n.data\np: .long 1\n .short 0x2b\n.text\n_start: {text}\n nop\n"
        ))
    };
    let report = session("lss eax, [p]").step().0.unwrap();
    assert!(report.reads.iter().all(|read| read.number.is_none()), "{:?}", report.reads);
    let report = session("movss xmm0, [p]").step().0.unwrap();
    assert_eq!(report.reads[0].number.as_deref(), Some("1e-45"));
}

/// A string instruction is left in the middle when it goes over very much, and what it wrote before that is not lost.
#[test]
fn a_watch_sees_what_a_long_string_instruction_wrote_first() {
    let text = ".target x86-64\n.global _start\n.bss\nroom: .skip 3 << 20\n.text\n_start: lea rdi, [room]\n mov ecx, 3 << 20\n mov al, 7\n rep stosb\n nop\n mov eax, 60\n syscall\n";
    let mut session = common::session(text);
    session.add_watch("byte [room + 5]").unwrap();
    assert_eq!(session.resume(&[], 1000, &never), StopReason::Watch(1));
    assert_eq!(session.moment(), 4);
    let report = session.watch_change().unwrap().report.clone();
    assert_eq!(report.place.line, Some(9));
    let [written] = &report.memory[..] else { panic!("{:?}", report.memory) };
    assert_eq!((written.bytes, written.elements), (3 << 20, Some(3 << 20)));
    // One moment has one state: interrupted in the middle, the session is before the instruction.
    let mut session = common::session(text);
    let asked = std::cell::Cell::new(0);
    let reason = session.resume(&[], 1000, &|| {
        asked.set(asked.get() + 1);
        asked.get() == 3
    });
    assert_eq!((reason, session.moment()), (StopReason::Interrupted, 3));
    assert_eq!(session.register(Storage(1)), 3 << 20);
    assert_eq!(session.evaluate("byte [room + 5]").unwrap().value, 0);
}
