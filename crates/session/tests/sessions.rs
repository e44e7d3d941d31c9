//! Stepping, going back, stopping and explaining, on both machines.

mod common;

use proptest::prelude::*;
use sotto_machine::Signal;
use sotto_session::{Session, StopReason, Wrote};

const TIDE: &str = " .target x86-64
 .global _start
 .data
tide: dd 4, 7, 9
 .text
_start:
 xor eax, eax
 mov ecx, 3
.next:
 add eax, [tide + rcx*4 - 4]
 call twice
 loop .next
 mov edi, eax
 mov eax, 60
 syscall
twice:
 push rbx
 mov ebx, eax
 add eax, ebx
 pop rbx
 ret
";

fn never() -> bool {
    false
}

fn run_to_end(session: &mut Session) -> StopReason {
    session.resume(&[], 10_000_000, &never)
}

#[test]
fn programs_of_both_machines_keep_their_promises_run_and_stepped() {
    for arch in ["x86-64", "x86-32", "arm64"] {
        for program in common::programs(arch) {
            let what = program.path.display().to_string();
            let mut stepped_status = None;
            for stepped in [false, true] {
                let mut session = common::session(&program.text);
                session.system_mut().give_input(program.input.as_bytes());
                session.system_mut().close_input();
                if stepped {
                    while session.step().1 == StopReason::Done {}
                } else {
                    assert_eq!(run_to_end(&mut session), StopReason::Terminated, "{what}");
                }
                let ending = session.ending().expect("it ended");
                assert_eq!(ending.shell_status(), program.status, "{what}");
                let output: Vec<u8> =
                    session.system().output().iter().flat_map(|o| o.bytes.clone()).collect();
                assert_eq!(String::from_utf8_lossy(&output), program.output, "{what}");
                let moment = session.moment();
                assert_eq!(*stepped_status.get_or_insert(moment), moment, "{what}");
            }
        }
    }
}

#[test]
fn a_step_reports_the_place_the_line_and_the_effects() {
    let mut session = common::session(TIDE);
    let report = session.step().0.unwrap();
    assert_eq!(report.place.location().as_deref(), Some("lamp.s:7"));
    assert_eq!(report.place.source.as_deref(), Some("xor eax, eax"));
    assert_eq!(&*report.instruction, "xor eax, eax");
    let changed: Vec<_> =
        report.flags.iter().filter(|f| f.old != f.new && !f.undefined).map(|f| f.name).collect();
    assert_eq!(changed, ["ZF", "PF"]);
    session.step();
    let report = session.step().0.unwrap();
    assert_eq!((report.registers[0].name, report.registers[0].new), ("eax", 9));
    assert_eq!(report.reads[0].place.name().as_deref(), Some("tide + 8"));
    let report = session.step().0.unwrap();
    assert_eq!(report.memory[0].on_stack.map(|at| at.to_string()).as_deref(), Some("rsp"));
    assert_eq!(report.registers[0].name, "rsp");
}

#[test]
fn a_syscall_is_reported_with_named_arguments() {
    let text = include_str!("../../sotto/demos/lamp_arm64.s");
    let mut session = common::session(text);
    let call = loop {
        if let Some(call) = session.step().0.unwrap().syscall {
            break call;
        }
    };
    let shown: Vec<_> = call
        .arguments
        .iter()
        .map(|a| (a.name, a.shown.as_str(), a.words.as_deref().unwrap_or("")))
        .collect();
    assert_eq!(
        shown,
        [("fd", "1", "standard output"), ("buf", "text", "\"lamp lit\\n\""), ("count", "9", "")]
    );
    assert_eq!((call.name.as_str(), call.result), ("write", Some(9)));
}

#[test]
fn over_steps_across_a_call_and_out_runs_to_the_return() {
    let mut session = common::session(TIDE);
    for _ in 0..3 {
        session.step();
    }
    let (report, reason) = session.over(1000, &never);
    assert!(report.is_none());
    assert_eq!((reason, session.here().line), (StopReason::Done, Some(12)));
    session.until_line(16);
    assert_eq!(session.out(1000, &never), StopReason::Done);
    assert_eq!(session.here().line, Some(12));
}

trait UntilLine {
    fn until_line(&mut self, line: u32);
}

impl UntilLine for Session {
    fn until_line(&mut self, line: u32) {
        let address = self.resolve_place(&line.to_string()).unwrap();
        assert_eq!(self.resume(&[address], 10_000, &never), StopReason::Place);
    }
}

#[test]
fn breakpoints_stop_every_time_or_when_their_condition_holds() {
    let mut session = common::session(TIDE);
    session.add_breakpoint("twice", None, 1).unwrap();
    for _ in 0..3 {
        assert_eq!(run_to_end(&mut session), StopReason::Breakpoint(1));
        assert_eq!(session.here().symbol.as_deref(), Some("twice"));
    }
    assert_eq!(run_to_end(&mut session), StopReason::Terminated);

    session.go_to(0);
    session.remove_stop(1).unwrap();
    session.add_breakpoint("twice", Some("ecx == 2"), 1).unwrap();
    assert_eq!(run_to_end(&mut session), StopReason::Breakpoint(2));
    assert_eq!(session.evaluate("ecx").unwrap().value, 2);
    assert_eq!(run_to_end(&mut session), StopReason::Terminated);
    assert!(session.remove_stop(7).is_err());
}

#[test]
fn expressions_name_registers_symbols_and_memory() {
    let mut session = common::session(TIDE);
    session.step();
    session.step();
    for (text, wanted) in [
        ("ecx + 1", 4),
        ("[tide]", 4),
        ("[tide + rcx*4 - 4]", 9),
        ("byte [tide + 8]", 9),
        ("tide == 0x402000", 1),
        ("rsp & 15", 0),
    ] {
        assert_eq!(session.evaluate(text).unwrap().value, wanted, "{text}");
    }
    let error = session.evaluate("tyde").unwrap_err().to_string();
    assert_eq!(error, "no symbol `tyde`; did you mean `tide`?");
    assert_eq!(session.evaluate("[0]").unwrap_err().to_string(), "0x0 cannot be read");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    /// Going to any moment and back gives the state that was there.
    #[test]
    fn going_back_restores_registers_memory_and_output(first in 0u64..40, second in 0u64..40) {
        let mut there = common::session(TIDE);
        there.go_to(first);
        let state = |session: &mut Session| {
            let stack = session.stack(4, 4, 100);
            (session.system().machine.cpu_state(), stack, session.moment(), session.ending())
        };
        let wanted = state(&mut there);
        let mut session = common::session(TIDE);
        session.go_to(second);
        session.go_to(first);
        prop_assert_eq!(state(&mut session), wanted.clone());
        let moment = session.moment();
        if session.ending().is_none() && session.step().1 == StopReason::Done {
            session.back(1);
            prop_assert_eq!(session.moment(), moment);
            prop_assert_eq!(state(&mut session), wanted);
        }
    }
}

#[test]
fn faults_are_explained_with_their_place_and_remedy() {
    let prologue = " .target x86-64\n .global _start\n .rodata\ntext: db \"fog\"\n .bss\nlog: .skip 8\n .text\n";
    let cases: &[(&str, Signal, &str, &str)] = &[
        ("_start: mov eax, 1\n mov edi, 2\n", Signal::SIGSEGV, "ran off the end", "exit call"),
        ("_start: mov eax, 1\n ret\n", Signal::SIGSEGV, "returned to 0x1", "exit call"),
        ("_start: mov rax, [8]\n", Signal::SIGSEGV, "read 0x8", ""),
        ("_start: mov byte [text], 1\n", Signal::SIGSEGV, "write 0x402000", ".data"),
        ("_start: xor ecx, ecx\n div ecx\n", Signal::SIGFPE, "division by zero", ""),
        (
            "_start: mov eax, 1\n mov edx, 9\n mov ecx, 3\n div ecx\n",
            Signal::SIGFPE,
            "does not fit",
            "clear edx",
        ),
        (
            "_start: mov eax, -1\n mov ecx, 2\n mov edx, 5\n idiv ecx\n",
            Signal::SIGFPE,
            "does not fit",
            "`cdq`",
        ),
        ("_start: ud2\n", Signal::SIGILL, "invalid on purpose", ""),
        ("_start: nop\n .byte 6\n", Signal::SIGILL, "06 ", "data"),
        ("_start: int3\n", Signal::SIGTRAP, "breakpoint", ""),
        ("_start: call _start\n", Signal::SIGSEGV, "where there is nothing", "calls itself"),
        ("_start: mov rax, text\n jmp rax\n", Signal::SIGSEGV, "holds data, not code", ""),
        (
            "_start: mov ecx, 99\n mov rax, log\n mov eax, [rax + rcx*8 + 8000]\n",
            Signal::SIGSEGV,
            "read 0x",
            "",
        ),
    ];
    for (body, signal, message, help) in cases {
        let mut session = common::session(&format!("{prologue}{body}"));
        assert_eq!(run_to_end(&mut session), StopReason::Terminated, "{body}");
        let report = session.fault_report().unwrap_or_else(|| panic!("{body}"));
        assert_eq!(report.signal, *signal, "{body}");
        assert!(report.message.contains(message), "{body}: {}", report.message);
        let remedy = report.help.clone().unwrap_or_default();
        assert!(remedy.contains(help), "{body}: {remedy}");
        assert_eq!(report.place.file.as_deref(), Some("lamp.s"), "{body}");
        // Explaining leaves the session where it was.
        assert_eq!(session.fault_report(), Some(report));
    }
}

#[test]
fn arm64_faults_are_explained_too() {
    let prologue = " .target arm64\n .global _start\n .text\n";
    let cases: &[(&str, Signal, &str, &str)] = &[
        ("_start: mov x0, #1\n", Signal::SIGSEGV, "ran off the end", "exit call"),
        ("_start: ret\n", Signal::SIGSEGV, "returned to 0x0", "x30"),
        ("_start: ldr x0, [x1]\n", Signal::SIGSEGV, "read 0x0", ""),
        ("_start: sub sp, sp, #8\n str x0, [sp]\n", Signal::SIGBUS, "multiple of 16", "stp"),
        ("_start: mov x0, #2\n br x0\n", Signal::SIGBUS, "multiple of 4", ""),
        ("_start: brk #0\n", Signal::SIGTRAP, "breakpoint", ""),
        ("_start: .word 0\n", Signal::SIGILL, "invalid on purpose", ""),
    ];
    for (body, signal, message, help) in cases {
        let mut session = common::session(&format!("{prologue}{body}"));
        assert_eq!(run_to_end(&mut session), StopReason::Terminated, "{body}");
        let report = session.fault_report().unwrap_or_else(|| panic!("{body}"));
        assert_eq!(report.signal, *signal, "{body}");
        assert!(report.message.contains(message), "{body}: {}", report.message);
        assert!(report.help.clone().unwrap_or_default().contains(help), "{body}");
    }
}

#[test]
fn back_from_a_fault_is_before_the_instruction_that_faulted() {
    let mut session =
        common::session(" .target x86-64\n .global _start\n_start: mov eax, 1\n mov rbx, [8]\n");
    assert_eq!(run_to_end(&mut session), StopReason::Terminated);
    session.back(1);
    assert_eq!((session.moment(), session.ending()), (1, None));
    assert_eq!(session.here().line, Some(4));
    session.back(1);
    assert_eq!(session.moment(), 0);
    assert_eq!(session.back(1), StopReason::AtStart);
}

#[test]
fn reading_waits_for_input_and_goes_on_with_it() {
    let program = &common::programs("x86-64").into_iter().find(|p| !p.input.is_empty()).unwrap();
    let mut session = common::session(&program.text);
    assert_eq!(run_to_end(&mut session), StopReason::NeedsInput);
    let moment = session.moment();
    assert_eq!(session.step().1, StopReason::NeedsInput);
    assert_eq!(session.moment(), moment);
    session.system_mut().give_input(program.input.as_bytes());
    assert_eq!(run_to_end(&mut session), StopReason::Terminated);
    assert_eq!(session.ending().unwrap().shell_status(), program.status);
    // Input that was given stays given.
    session.go_to(0);
    assert_eq!(run_to_end(&mut session), StopReason::Terminated);
    assert_eq!(session.ending().unwrap().shell_status(), program.status);
}

#[test]
fn who_finds_the_last_writer_of_registers_and_memory_and_goes_there() {
    let mut session = common::session(TIDE);
    assert_eq!(run_to_end(&mut session), StopReason::Terminated);
    let end = session.moment();
    // edi was written once, rbx last by the pop of the last call, rcx by the system call.
    for (text, line, ago) in [("edi", 13, 3), ("rbx", 20, 6), ("ecx", 15, 1), ("[rsp - 8]", 11, 10)]
    {
        session.go_to(end);
        let target = session.target(text).unwrap();
        let writer = session.who(target).instruction().unwrap_or_else(|| panic!("{text}"));
        assert_eq!(writer.report.place.line, Some(line), "{text}");
        assert_eq!(writer.ago, ago, "{text}");
        assert_eq!(session.moment(), end - ago);
        assert_eq!(session.here().line, Some(line), "{text}");
    }
    session.go_to(end);
    for text in ["[tide]", "tide", "r15"] {
        let target = session.target(text).unwrap();
        assert_eq!(session.who(target), Wrote::Nothing, "{text}");
        assert_eq!(session.moment(), end);
    }
    assert!(session.target("tyde").is_err() && session.target("5 +").is_err());
}

#[test]
fn who_knows_that_a_system_call_filled_a_buffer() {
    for arch in ["x86-64", "arm64"] {
        let program = common::programs(arch).into_iter().find(|p| !p.input.is_empty()).unwrap();
        let mut session = common::session(&program.text);
        session.system_mut().give_input(program.input.as_bytes());
        session.system_mut().close_input();
        session.resume(&[], 20, &never);
        let target = session.target("byte [line + 2]").unwrap();
        let writer = session.who(target).instruction().unwrap();
        assert_eq!(writer.report.syscall.unwrap().name, "read", "{arch}");
    }
}

#[test]
fn ahead_tells_the_next_step_and_changes_nothing() {
    let mut session = common::session(TIDE);
    for _ in 0..20 {
        let before =
            (session.system().machine.cpu_state(), session.moment(), session.stack(2, 2, 100));
        let ahead = session.ahead().unwrap();
        let after =
            (session.system().machine.cpu_state(), session.moment(), session.stack(2, 2, 100));
        assert_eq!(before, after);
        assert_eq!(session.step().0.unwrap(), ahead);
    }
    let mut session = common::session(" .target x86-64\n .global _start\n_start: mov rax, [8]\n");
    assert_eq!(session.ahead(), None);
    assert_eq!(session.ending(), None);
}

#[test]
fn the_stack_says_what_its_words_are() {
    let mut session = common::session(TIDE);
    session.until_line(16);
    let view = session.stack(1, 4, 100);
    let top = view.slots.iter().find(|slot| slot.offset == 0).unwrap();
    assert_eq!(top.meaning.as_deref(), Some("return address: _start + 19 (lamp.s:12)"));
    // Above it lie the number of arguments, and the address of the first.
    let first = view.slots.iter().find(|slot| slot.offset == 16).unwrap();
    assert_eq!(first.meaning.as_deref(), Some("address of \"lamp\""));
    assert!(view.slots.iter().any(|slot| slot.offset == -8));
}

#[test]
fn going_on_from_an_earlier_moment_is_the_same_run_again() {
    let program = common::programs("arm64").into_iter().find(|p| !p.input.is_empty()).unwrap();
    let mut session = common::session(&program.text);
    session.system_mut().give_input(program.input.as_bytes());
    session.system_mut().close_input();
    assert_eq!(run_to_end(&mut session), StopReason::Terminated);
    let (end, state) = (session.moment(), session.system().machine.cpu_state());
    for moment in [0, 1, end / 2, end - 1] {
        session.go_to(moment);
        assert_eq!((session.moment(), session.ending()), (moment, None));
        assert_eq!(run_to_end(&mut session), StopReason::Terminated);
        assert_eq!((session.moment(), session.system().machine.cpu_state()), (end, state.clone()));
        let output: Vec<u8> =
            session.system().output().iter().flat_map(|o| o.bytes.clone()).collect();
        assert_eq!(String::from_utf8_lossy(&output), program.output);
    }
}

#[test]
fn long_runs_are_gone_back_in_by_checkpoints() {
    let text = " .target x86-64\n .global _start\n_start: mov ecx, 2000000\n.next: add eax, ecx\n loop .next\n mov eax, 60\n syscall\n";
    let mut session = common::session(text);
    assert_eq!(run_to_end(&mut session), StopReason::Terminated);
    let end = session.moment();
    session.back(10);
    assert_eq!(session.moment(), end - 10);
    let target = session.target("ecx").unwrap();
    assert_eq!(session.who(target).instruction().unwrap().ago, 1);
    session.go_to(1 << 20);
    let halfway = session.evaluate("ecx").unwrap().value;
    session.go_to(end);
    session.go_to(1 << 20);
    assert_eq!(session.evaluate("ecx").unwrap().value, halfway);
}

#[test]
fn an_interrupt_and_a_limit_stop_a_run_where_it_is() {
    let mut session = common::session(" .target x86-64\n .global _start\n_start: jmp _start\n");
    assert_eq!(session.resume(&[], 1000, &never), StopReason::Limit);
    assert_eq!(session.moment(), 1000);
    assert_eq!(session.resume(&[], u64::MAX, &|| true), StopReason::Interrupted);
    assert_eq!(session.out(500, &never), StopReason::Limit);
    assert_eq!(session.here().line, Some(3));
}

#[test]
fn over_a_recursive_call_returns_at_its_own_depth() {
    let program =
        common::programs("x86-64").into_iter().find(|p| p.path.ends_with("buoy_chain.s")).unwrap();
    let mut session = common::session(&program.text);
    session.step();
    let (_, reason) = session.over(10_000, &never);
    assert_eq!(reason, StopReason::Done);
    assert_eq!(session.evaluate("eax").unwrap().value, i128::from(program.status));
    // From inside, over the inner call: the frame is the same before and after.
    session.go_to(0);
    let call = session.resolve_place("35").unwrap();
    session.resume(&[call], 10_000, &never);
    session.resume(&[call], 10_000, &never);
    let frame = session.evaluate("rbp").unwrap();
    assert_eq!(session.over(10_000, &never).1, StopReason::Done);
    assert_eq!(session.evaluate("rbp").unwrap(), frame);
    assert_eq!(session.evaluate("eax").unwrap().value, 3);
}

/// Echoes what each read returns, then faults at the end of the input.
const ECHO: &str = " .target x86-64
 .global _start
 .bss
line: .skip 64
 .text
_start: xor eax, eax
 xor edi, edi
 lea rsi, [line]
 mov edx, 64
 syscall
 mov ebx, eax
 mov edx, eax
 mov eax, 1
 mov edi, 1
 syscall
 test ebx, ebx
 jnz _start
 ud2
";

#[test]
fn what_a_read_returned_it_returns_again_whatever_was_fed_since() {
    let mut session = common::session(ECHO);
    let mut moments = Vec::new();
    for line in ["fog\n", "at four\n"] {
        session.system_mut().give_input(line.as_bytes());
        assert_eq!(run_to_end(&mut session), StopReason::NeedsInput);
        moments.push((session.moment(), session.evaluate("ebx").unwrap().value));
    }
    assert_eq!(moments.iter().map(|m| m.1).collect::<Vec<_>>(), [4, 8]);
    for (moment, length) in moments {
        session.go_to(0);
        session.go_to(moment);
        assert_eq!(session.evaluate("ebx").unwrap().value, length);
    }
    session.system_mut().close_input();
    // After its end there is no more input.
    assert!(!session.system_mut().give_input(b"late\n"));
    assert_eq!(run_to_end(&mut session), StopReason::Terminated);
    let end = session.moment();
    let report = session.fault_report().expect("it died");
    assert_eq!((report.signal, session.moment()), (Signal::SIGILL, end));
    // Looking for a writer in vain leaves a dead program dead.
    let target = session.target("r15").unwrap();
    assert_eq!(session.who(target), Wrote::Nothing);
    assert!(session.ending().is_some());
}
