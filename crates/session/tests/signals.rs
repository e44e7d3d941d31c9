//! Signals: a C program of many scenes tells the same natively and emulated, on every machine; and stepping through handlers.

#![cfg(all(target_os = "linux", target_arch = "x86_64"))]

mod common;

use std::os::unix::process::ExitStatusExt;
use std::path::{Path, PathBuf};
use std::process::Command;

use sotto_kernel::{Startup, Stop, System};
use sotto_object::{Image, read_executable};
use sotto_session::{Session, SlotRole, StopReason};

fn compiled(folder: &Path, compiler: &str, options: &[&str]) -> Option<PathBuf> {
    if !common::has(compiler) {
        return None;
    }
    let program = folder.join("watch");
    let status = Command::new(compiler)
        .args(options)
        .args(["-O1", "-w", "-static", "-o"])
        .args([&program, &common::data().join("signals/watch.c")])
        .status();
    assert!(status.unwrap().success());
    Some(program)
}

/// What it wrote, and the signal that ended it.
fn emulated(image: &Image) -> (String, i32) {
    let mut system = System::start(image, &Startup::with_arguments(["watch"])).unwrap();
    let ending = loop {
        match system.run(u64::MAX).stop {
            Stop::Terminated(ending) => break ending,
            Stop::Output | Stop::Paused | Stop::Unfinished => {}
            other => panic!("{other:?}"),
        }
    };
    let parts = system.output().into_iter().filter(|part| part.fd == 1);
    let text = String::from_utf8(parts.flat_map(|part| part.bytes).collect()).unwrap();
    (text, ending.shell_status() - 128)
}

#[test]
fn signals_are_what_the_kernel_makes_of_them() {
    let folder = tempfile::tempdir().unwrap();
    let Some(program) = compiled(folder.path(), "cc", &[]) else {
        eprintln!("skipped: no C compiler");
        return;
    };
    let natively = Command::new(&program).output().unwrap();
    let natively =
        (String::from_utf8(natively.stdout).unwrap(), natively.status.signal().unwrap_or(0));
    let image = read_executable(&std::fs::read(&program).unwrap()).unwrap();
    let compare = |(text, signal): (String, i32), what: &str| {
        for (ours, theirs) in text.lines().zip(natively.0.lines()) {
            assert_eq!(ours, theirs, "{what}");
        }
        assert_eq!((text.lines().count(), signal), (natively.0.lines().count(), natively.1));
    };
    compare(emulated(&image), "x86-64");
    for compiler in ["i686-linux-gnu-gcc", "aarch64-linux-gnu-gcc"] {
        match compiled(folder.path(), compiler, &[]) {
            Some(other) => {
                let image = read_executable(&std::fs::read(&other).unwrap()).unwrap();
                compare(emulated(&image), compiler);
            }
            None => eprintln!("skipped: no {compiler}"),
        }
    }
}

/// A program with a handler of its own, without a library.
const BELL: &str = ".target x86-64
        .global _start
        .data
rung:   .quad 0
action: .quad handler, 0x04000004, restore, 0
        .text
_start: mov edi, 10             // SIGUSR1
        lea rsi, [action]
        xor edx, edx
        mov r10d, 8
        mov eax, 13             // rt_sigaction
        syscall
        mov r12d, 5
        mov edi, 1000
        mov esi, 10
        mov eax, 62             // kill
        syscall
        inc r12
        xor edi, edi
        mov eax, 60
        syscall
handler:
        inc qword [rung]
        mov r12d, 99
        ret
restore:
        mov eax, 15             // rt_sigreturn
        syscall
";

fn never() -> bool {
    false
}

fn at_the_handler() -> Session {
    let mut session = common::session(BELL);
    let handler = session.resolve_place("handler").unwrap();
    assert_eq!(session.resume(&[handler], 1000, &never), StopReason::Place);
    session
}

#[test]
fn a_delivery_is_a_step_of_its_own_and_can_be_gone_back_over() {
    let mut session = at_the_handler();
    let moment = session.moment();
    let report = session.last_report().unwrap();
    assert_eq!(&*report.instruction, "(SIGUSR1 is delivered to `handler`)");
    assert_eq!((report.moment, report.place.line), (moment, Some(18)));
    assert!(report.registers.iter().any(|register| register.name == "rdi" && register.new == 10));
    session.back(1);
    assert_eq!((session.moment(), session.here().line), (moment - 1, Some(18)));
    let (report, reason) = session.step();
    assert_eq!((report.unwrap().moment, reason), (moment, StopReason::Done));
    assert_eq!(session.here().line, Some(23));
    // What the handler was entered with comes from the delivery.
    let target = session.target("rdi").unwrap();
    let writer = session.who(target).instruction().unwrap();
    assert!(writer.report.instruction.contains("delivered"));
    assert_eq!(session.moment(), moment - 1);
}

#[test]
fn the_handler_is_a_frame_above_what_it_interrupted_and_registers_come_back() {
    let mut session = at_the_handler();
    let frames = session.frames();
    let routines: Vec<_> = frames.iter().map(|frame| frame.routine.as_str()).collect();
    assert_eq!(routines, ["handler", "_start"]);
    assert_eq!(frames[1].at.line, Some(18));
    let slots = session.stack(0, 4, 10_000).slots;
    let roles: Vec<_> = slots.into_iter().map(|slot| slot.role).collect();
    assert_eq!(roles[0], SlotRole::ReturnAddress);
    assert!(roles[1..].iter().all(|role| *role == SlotRole::SignalFrame), "{roles:?}");
    assert_eq!(session.resume(&[], 1000, &never), StopReason::Terminated);
    assert_eq!(session.evaluate("r12").unwrap().value, 6);
    assert_eq!(session.evaluate("[rung]").unwrap().value, 1);
    let end = session.moment();
    // However it is reached, each moment has one state.
    for moment in (0..end).rev() {
        session.go_to(moment);
        let state = session.system().machine.cpu_state();
        let mut straight = common::session(BELL);
        straight.go_to(moment);
        assert_eq!(straight.system().machine.cpu_state(), state, "#{moment}");
    }
}

#[test]
fn a_program_that_waits_for_ever_says_so_and_takes_a_signal_from_outside() {
    let text = BELL.replace("mov eax, 62             // kill", "mov eax, 34             // pause");
    let mut session = common::session(&text);
    assert_eq!(session.resume(&[], 1000, &never), StopReason::Stuck);
    assert_eq!(session.here().line, Some(17));
    let moment = session.moment();
    session.send_signal(sotto_machine::Signal::SIGUSR1).unwrap();
    assert_eq!(session.resume(&[], 1000, &never), StopReason::Terminated);
    assert_eq!(session.evaluate("[rung]").unwrap().value, 1);
    // It is part of the run.
    session.go_to(0);
    assert_eq!(session.resume(&[], 1000, &never), StopReason::Terminated);
    assert_eq!(session.evaluate("[rung]").unwrap().value, 1);
    assert_eq!(session.edited_at(), [moment]);
}

#[test]
fn a_signal_that_no_handler_takes_ends_the_program_and_says_so() {
    let text = BELL.replace("mov eax, 62             // kill", "mov eax, 34             // pause");
    let mut session = common::session(&text);
    assert_eq!(session.resume(&[], 1000, &never), StopReason::Stuck);
    session.send_signal(sotto_machine::Signal::SIGTERM).unwrap();
    assert_eq!(session.resume(&[], 1000, &never), StopReason::Terminated);
    let report = session.fault_report().unwrap();
    assert_eq!(report.message, "SIGTERM came, and no handler takes it");
    // A frame for which there is no room is told as such.
    let text = BELL.replace("mov r12d, 5", "mov esp, 64");
    let mut session = common::session(&text);
    assert_eq!(session.resume(&[], 1000, &never), StopReason::Terminated);
    let report = session.fault_report().unwrap();
    assert!(report.message.contains("the frame of a signal handler"), "{}", report.message);
    assert!(report.help.unwrap().contains("SA_RESTORER"));
}

/// A timer that runs out again and again, and whose signal does nothing, wakes nobody.
#[test]
fn a_timer_without_effect_does_not_keep_a_waiting_program_going() {
    let text = ".target x86-64
        .global _start
        .data
action: .quad 1, 0x04000000, 0, 0   // SIG_IGN
timer:  .quad 0, 1000, 0, 1000
nap:    .quad 100, 0
        .text
_start: mov edi, 14
        lea rsi, [action]
        xor edx, edx
        mov r10d, 8
        mov eax, 13
        syscall
        xor edi, edi
        lea rsi, [timer]
        mov eax, 38
        syscall
        lea rdi, [nap]
        xor esi, esi
        mov eax, 35
        syscall
        mov eax, 34
        syscall
";
    let mut session = common::session(text);
    assert_eq!(session.resume(&[], 1000, &never), StopReason::Stuck);
    assert_eq!((session.here().line, session.moment()), (Some(23), 15));
}
