//! Two tasks of one process, switched by a count of instructions: stepping, going back, `who`, watches and breakpoints.

mod common;

use proptest::prelude::*;
use sotto_kernel::{TaskId, Termination};
use sotto_session::{Session, StopReason, Wrote};

/// Two keepers: the first counts lamps and ends the program, the second counts bells, sleeps, and ends itself.
const KEEPERS: &str = ".target x86-64
        .global _start
        .data
lamps:  .quad 0
bells:  .quad 0
nap:    .quad 0, 100
        .text
_start: mov ecx, 60
.lamp:  inc qword [lamps]
        call rest
        dec ecx
        jnz .lamp
        mov edi, 3
        mov eax, 231
        syscall
second: mov ecx, 20
.bell:  add qword [bells], 2
        call rest
        dec ecx
        jnz .bell
        lea rdi, [nap]
        xor esi, esi
        mov eax, 35
        syscall
        mov ebx, 7
        xor edi, edi
        mov eax, 60
        syscall
rest:   push rcx
        mov ecx, 1
        pop rcx
        ret
";

const FIRST: TaskId = TaskId(1000);
const SECOND: TaskId = TaskId(1001);
const TIME_SLICE: u64 = 7;

fn never() -> bool {
    false
}

/// A session of a program whose second task starts at `second`.
fn session_of(text: &str) -> Session {
    let mut session = common::session(text);
    let start = session.resolve_place("second").unwrap();
    let stack = session.register(session.arch().stack_pointer()) - 0x8000;
    let system = session.system_mut();
    assert_eq!(system.add_task(start, stack), SECOND);
    system.set_time_slice(TIME_SLICE);
    session.begin_here();
    session
}

fn session() -> Session {
    session_of(KEEPERS)
}

fn value(session: &mut Session, text: &str) -> i128 {
    session.evaluate(text).unwrap().value
}

#[test]
fn tasks_are_run_in_rotation_and_end_by_themselves() {
    let mut session = session();
    let mut tasks = Vec::new();
    while let (Some(report), StopReason::Done) = session.step() {
        tasks.push(report.task);
    }
    assert_eq!(session.ending(), Some(Termination::Exited(3)));
    let slices: Vec<_> = tasks.chunks(TIME_SLICE as usize).take(6).collect();
    for (number, slice) in slices.iter().enumerate() {
        let task = if number % 2 == 0 { FIRST } else { SECOND };
        assert!(slice.iter().all(|stepped| *stepped == Some(task.0)), "{slices:?}");
    }
    // The second has ended, and the report of the one that is left need not name it.
    assert_eq!(tasks.last(), Some(&None));
    assert_eq!((value(&mut session, "[lamps]"), value(&mut session, "[bells]")), (60, 40));
    let mut ran = self::session();
    ran.resume(&[], 10_000, &never);
    assert_eq!((ran.moment(), ran.ending()), (session.moment(), session.ending()));
    assert_eq!(ran.system().machine.cpu_state(), session.system().machine.cpu_state());
}

#[test]
fn who_finds_the_instruction_of_the_task_that_is_looked_at() {
    let mut session = session();
    session.go_to(100);
    for (task, routine) in [(FIRST, "_start"), (SECOND, "second")] {
        session.go_to(100);
        assert!(session.select_task(task));
        // `rest` leaves rcx as it was, so that the target is the address to return to.
        let target = session.target("rcx").unwrap();
        let writer = session.who(target).instruction().unwrap();
        assert_eq!(writer.report.task, Some(task.0));
        session.go_to(100);
        let name = if task == FIRST { "[lamps]" } else { "[bells]" };
        let target = session.target(name).unwrap();
        let writer = session.who(target).instruction().unwrap();
        assert_eq!(writer.report.task, Some(task.0));
        assert!(
            writer.report.place.symbol.as_ref().is_some_and(|symbol| symbol.starts_with(routine))
        );
    }
    assert!(!session.select_task(TaskId(7)));
}

#[test]
fn a_register_that_only_the_other_task_wrote_has_no_writer() {
    let mut session = session();
    session.resume(&[], 10_000, &never);
    let end = session.moment();
    session.go_to(end - 20);
    let target = session.target("rbx").unwrap();
    assert!(matches!(session.who(target), Wrote::Nothing));
}

#[test]
fn watches_stop_for_the_task_that_they_were_set_in() {
    let mut session = session();
    assert!(session.select_task(SECOND));
    session.add_watch("ecx").unwrap();
    for _ in 0..4 {
        assert_eq!(session.resume(&[], 1000, &never), StopReason::Watch(1));
        let change = session.watch_change().unwrap();
        assert_eq!(change.report.task, Some(SECOND.0));
    }
    session.remove_stop(1).unwrap();
    session.add_watch("[bells]").unwrap();
    assert!(matches!(session.resume(&[], 1000, &never), StopReason::Watch(2)));
    assert_eq!(session.watch_change().unwrap().report.task, Some(SECOND.0));
}

#[test]
fn breakpoints_stop_any_task_or_one() {
    let mut session = session();
    session.add_breakpoint("rest", None, 1).unwrap();
    let mut seen = Vec::new();
    while session.resume(&[], 10_000, &never) == StopReason::Breakpoint(1) {
        seen.push(session.system().running_task());
    }
    let of = |task: TaskId| seen.iter().filter(|seen| **seen == task).count();
    assert_eq!((of(FIRST), of(SECOND)), (60, 20));
    session.go_to(0);
    session.set_breakpoint_task(1, Some(SECOND)).unwrap();
    for _ in 0..20 {
        assert_eq!(session.resume(&[], 10_000, &never), StopReason::Breakpoint(1));
        assert_eq!(session.system().running_task(), SECOND);
    }
    assert_eq!(session.resume(&[], 10_000, &never), StopReason::Terminated);
    assert!(session.set_breakpoint_task(9, None).is_err());
}

#[test]
fn frames_and_calls_are_those_of_a_task() {
    let mut session = session();
    let rest = session.resolve_place("rest").unwrap();
    session.resume(&[rest], 1000, &never);
    assert_eq!(session.system().running_task(), FIRST);
    assert_eq!(session.frames().len(), 2);
    assert!(session.select_task(SECOND));
    assert_eq!(session.frames().len(), 1);
    // What runs on is the running task, and a call is gone over in it.
    assert_eq!(session.out(1000, &never), StopReason::Done);
    assert_eq!(session.system().running_task(), FIRST);
    assert_eq!(session.frames().len(), 1);
    // The call is the third instruction.
    session.go_to(2);
    assert_eq!(session.over(1000, &never).1, StopReason::Done);
    assert_eq!((session.system().running_task(), session.here().line), (FIRST, Some(11)));
}

#[test]
fn changes_by_hand_are_of_the_task_that_is_looked_at() {
    let mut session = session();
    session.go_to(20);
    assert!(session.select_task(SECOND));
    session.change("ecx", "2").unwrap();
    assert_eq!(value(&mut session, "ecx"), 2);
    session.resume(&[], 10_000, &never);
    assert!(value(&mut session, "[bells]") < 40);
    let bells = value(&mut session, "[bells]");
    assert_eq!(value(&mut session, "[lamps]"), 60);
    session.go_to(0);
    session.resume(&[], 10_000, &never);
    assert_eq!(value(&mut session, "[bells]"), bells);
}

#[test]
fn time_passes_at_once_when_all_tasks_wait() {
    let text = ".target x86-64
        .global _start
        .bss
time:   .skip 16
        .data
long:   .quad 5, 0
short:  .quad 2, 0
        .text
_start: lea rdi, [long]
        xor esi, esi
        mov eax, 35
        syscall
        xor edi, edi
        lea rsi, [time]
        mov eax, 228
        syscall
        xor edi, edi
        mov eax, 231
        syscall
second: lea rdi, [short]
        xor esi, esi
        mov eax, 35
        syscall
        mov ebx, 1
.wait:  jmp .wait
";
    let mut session = session_of(text);
    let seconds = |session: &mut Session| value(session, "qword [time]") - 1_767_225_600;
    let resolved = session.resolve_place("second.wait").unwrap();
    assert_eq!(session.resume(&[resolved], 1000, &never), StopReason::Place);
    assert_eq!(session.system().running_task(), SECOND);
    let moment = session.moment();
    assert!(moment < 20, "nothing was executed while both slept");
    // The second keeps on running, so that three seconds are three thousand million instructions.
    assert_eq!(session.resume(&[], 100_000, &never), StopReason::Limit);
    assert!(session.system().wait_of(FIRST).is_some());
    let alone = text.replace(".wait:  jmp .wait", "mov eax, 60\n xor edi, edi\n syscall");
    let mut session = session_of(&alone);
    assert_eq!(session.resume(&[], 1000, &never), StopReason::Terminated);
    assert_eq!(seconds(&mut session), 5);
    assert!(session.moment() < 30);
}

#[test]
fn input_is_waited_for_by_all() {
    let text = ".target x86-64
        .global _start
        .bss
heard:  .skip 8
        .text
_start: xor edi, edi
        lea rsi, [heard]
        mov edx, 8
        xor eax, eax
        syscall
        xor edi, edi
        mov eax, 231
        syscall
second: inc ebx
        jmp second
";
    let mut session = session_of(text);
    assert_eq!(session.resume(&[], 1000, &never), StopReason::NeedsInput);
    let moment = session.moment();
    assert_eq!(session.step().1, StopReason::NeedsInput);
    assert_eq!((session.moment(), session.system().running_task()), (moment, FIRST));
    assert!(session.system_mut().give_input(b"fog"));
    assert_eq!(session.resume(&[], 1000, &never), StopReason::Terminated);
    assert_eq!(value(&mut session, "dword [heard]"), i128::from(u32::from_le_bytes(*b"fog\0")));
}

/// What a walk does.
#[derive(Clone, Debug)]
enum Move {
    Step,
    Back(u64),
    Go(u64),
    Place(&'static str),
    Who(&'static str),
    Look(TaskId),
    Out,
    Over,
    Ahead,
    Frames,
}

fn a_move() -> impl Strategy<Value = Move> {
    prop_oneof![
        Just(Move::Step),
        (0u64..20).prop_map(Move::Back),
        (0u64..700).prop_map(Move::Go),
        prop_oneof![Just("rest"), Just("second.bell"), Just("_start.lamp")].prop_map(Move::Place),
        prop_oneof![Just("rcx"), Just("zero"), Just("[bells]"), Just("[rsp]")].prop_map(Move::Who),
        prop_oneof![Just(FIRST), Just(SECOND)].prop_map(Move::Look),
        Just(Move::Out),
        Just(Move::Over),
        Just(Move::Ahead),
        Just(Move::Frames),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    /// However a moment was reached, everything there is as in a straight run to it, for both tasks.
    #[test]
    fn walks_give_the_same_states_as_straight_runs(moves in proptest::collection::vec(a_move(), 1..25)) {
        let mut session = session();
        for step in &moves {
            match step {
                Move::Step => drop(session.step()),
                Move::Back(count) => drop(session.back(*count)),
                Move::Go(moment) => drop(session.go_to(*moment)),
                Move::Place(text) => {
                    let address = session.resolve_place(text).unwrap();
                    session.resume(&[address], 1000, &never);
                }
                Move::Who(text) => {
                    if let Ok(target) = session.target(text) {
                        session.who(target);
                    }
                }
                Move::Look(task) => drop(session.select_task(*task)),
                Move::Out => drop(session.out(1000, &never)),
                Move::Over => drop(session.over(1000, &never)),
                Move::Ahead => drop(session.ahead()),
                Move::Frames => drop(session.frames()),
            }
        }
        let moment = session.moment();
        let mut straight = self::session();
        straight.go_to(moment);
        if session.ending().is_some() {
            straight.resume(&[], 1000, &never);
        }
        prop_assert_eq!(straight.moment(), moment);
        prop_assert_eq!(straight.system().running_task(), session.system().running_task());
        for task in [FIRST, SECOND] {
            prop_assert_eq!(straight.select_task(task), session.select_task(task));
            let (here, there) = (&session.system().machine, &straight.system().machine);
            prop_assert_eq!(there.cpu_state(), here.cpu_state());
            prop_assert_eq!(there.calls(), here.calls());
            prop_assert_eq!(straight.stack(2, 12, 1000), session.stack(2, 12, 1000));
        }
        prop_assert_eq!(value(&mut straight, "[bells]"), value(&mut session, "[bells]"));
    }
}
