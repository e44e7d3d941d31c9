//! Processes and threads that programs make: stepping, going back, `who`, breakpoints, what tasks wait for, and interleavings.

mod common;

use proptest::prelude::*;
use sotto_kernel::{Startup, TaskId, Termination};
use sotto_session::{
    Interleavings, RunEnding, Session, StopReason, TaskView, Wrote, try_interleavings,
};

const PARENT: TaskId = TaskId(1000);
const CHILD: TaskId = TaskId(1001);

/// A keeper forks a helper, which lights lamps in memory of its own and tells by a pipe how many.
const FORK: &str = ".target x86-64
        .global _start
        .data
lamps:  .quad 3
told:   .quad 0
        .bss
ends:   .skip 8
status: .skip 4
        .text
_start: lea rdi, [ends]
        mov eax, 22             # pipe
        syscall
        inc qword [lamps]
        mov eax, 57             # fork
        syscall
        test eax, eax
        jz helper
        mov ebx, eax
        mov edi, [ends]
        lea rsi, [told]
        mov edx, 8
        xor eax, eax            # read
        syscall
waits:  mov edi, ebx
        lea rsi, [status]
        xor edx, edx
        xor r10d, r10d
        mov eax, 61             # wait4
        syscall
        mov edi, [told]
        add edi, [lamps]
        mov eax, 231            # exit_group
        syscall
helper: mov ecx, 5
.lamp:  inc qword [lamps]
        dec ecx
        jnz .lamp
tells:  mov edi, [ends + 4]
        lea rsi, [lamps]
        mov edx, 8
        mov eax, 1              # write
        syscall
        mov edi, 7
        mov eax, 60             # exit
        syscall
";

/// Two keepers count 100 lamps each; the update of the count is the parameter.
fn counting(update: &str) -> String {
    format!(
        ".target x86-64
        .global _start
        .bss
        .balign 16
room:   .skip 4096
top:
lamps:  .quad 0
left:   .long 0
        .text
_start: mov dword [left], 1
        mov eax, 56             # clone
        mov edi, 0x10f00        # CLONE_VM | CLONE_FS | CLONE_FILES | CLONE_SIGHAND | CLONE_THREAD
        lea rsi, [top]
        xor edx, edx
        xor r10d, r10d
        xor r8d, r8d
        syscall
        test eax, eax
        jz second
        call light
waits:  mov eax, 202            # futex: FUTEX_WAIT
        lea rdi, [left]
        xor esi, esi
        mov edx, 1
        xor r10d, r10d
        syscall
        cmp dword [left], 0
        jne waits
        mov edi, [lamps]
        mov eax, 231
        syscall
second: call light
        mov dword [left], 0
        mov eax, 202            # FUTEX_WAKE
        lea rdi, [left]
        mov esi, 1
        mov edx, 1
        syscall
        mov eax, 60
        xor edi, edi
        syscall
light:  mov ecx, 100
.lamp:  {update}
        dec ecx
        jnz .lamp
        ret
"
    )
}

fn never() -> bool {
    false
}

fn value(session: &mut Session, text: &str) -> i128 {
    session.evaluate(text).unwrap().value
}

fn until(session: &mut Session, place: &str) {
    let address = session.resolve_place(place).unwrap();
    assert_eq!(session.resume(&[address], 10_000, &never), StopReason::Place);
}

fn task(session: &mut Session, id: TaskId) -> TaskView {
    session.tasks().into_iter().find(|task| task.task == id.0).unwrap()
}

#[test]
fn a_child_has_memory_of_its_own_and_tells_its_status() {
    let mut session = common::session(FORK);
    until(&mut session, "helper");
    assert_eq!(session.system().running_task(), CHILD);
    let parent = task(&mut session, PARENT);
    assert_eq!(parent.waits_in.unwrap().name, "read");
    assert!(!parent.is_running && parent.process == PARENT.0);
    until(&mut session, "tells");
    assert_eq!(value(&mut session, "[lamps]"), 9);
    assert!(session.select_task(PARENT));
    assert_eq!(value(&mut session, "[lamps]"), 4);
    assert_eq!(session.resume(&[], 10_000, &never), StopReason::Terminated);
    assert_eq!(session.ending(), Some(Termination::Exited(9 + 4)));
    assert_eq!(value(&mut session, "dword [status]"), 7 << 8);
    assert_eq!(session.tasks().len(), 1);
}

#[test]
fn who_finds_what_the_parent_wrote_before_the_child_was_made() {
    let mut session = common::session(FORK);
    let writer = |session: &mut Session, text: &str| {
        let target = session.target(text).unwrap();
        let writer = session.who(target);
        let writer = writer.instruction().unwrap();
        (writer.report.task, writer.report.place.line.unwrap())
    };
    until(&mut session, "helper");
    assert_eq!(writer(&mut session, "[lamps]"), (None, 13));
    session.go_to(0);
    until(&mut session, "tells");
    assert_eq!(writer(&mut session, "[lamps]"), (Some(CHILD.0), 35));
    // What the child wrote is not what the parent has.
    until(&mut session, "tells");
    assert!(session.select_task(PARENT));
    assert_eq!(writer(&mut session, "[lamps]"), (None, 13));
    until(&mut session, "waits");
    let told = session.target("[told]").unwrap();
    assert!(
        matches!(session.who(told), Wrote::Instruction(writer) if writer.report.syscall.is_some())
    );
}

#[test]
fn breakpoints_stop_in_the_child_too() {
    let mut session = common::session(FORK);
    session.add_breakpoint("helper.lamp", None, 1).unwrap();
    for _ in 0..5 {
        assert_eq!(session.resume(&[], 10_000, &never), StopReason::Breakpoint(1));
        assert_eq!(session.system().running_task(), CHILD);
    }
    assert_eq!(session.resume(&[], 10_000, &never), StopReason::Terminated);
}

#[test]
fn a_wake_is_told_with_who_made_it() {
    let mut session = common::session(&counting("lock inc qword [lamps]"));
    session.resume(&[], 10_000, &never);
    assert_eq!(session.ending(), Some(Termination::Exited(200)));
    let waited = task(&mut session, PARENT);
    assert_eq!(waited.woken_by, Some(CHILD.0));
    session.go_to(waited.woken_at.unwrap());
    let waits = task(&mut session, PARENT);
    assert_eq!(waits.waits_in.unwrap().name, "futex");
    assert!(waits.waits_since < waited.woken_at);
}

fn interleavings(text: &str, seeds: u64) -> Interleavings {
    let image = common::session(text).image().clone();
    let startup = Startup::with_arguments(["lamps"]);
    try_interleavings(&image, &startup, b"", seeds, 1_000_000, never).unwrap()
}

#[test]
fn a_count_without_a_lock_is_found_and_one_with_a_lock_is_not() {
    let found = interleavings(&counting("inc qword [lamps]"), 300);
    assert_eq!(found.plain.ending, RunEnding::Exited(200));
    let (seed, other) = found.differing.clone().unwrap();
    assert!(matches!(other.ending, RunEnding::Exited(count) if count < 200), "{other:?}");
    assert_eq!(found.tried, seed);
    assert_eq!(interleavings(&counting("inc qword [lamps]"), 300), found);
    let locked = interleavings(&counting("lock inc qword [lamps]"), 300);
    assert_eq!((locked.tried, locked.differing), (300, None));
    // Loading, adding and storing is divided by itself.
    let apart = "mov rax, [lamps]\n inc rax\n mov [lamps], rax";
    assert!(interleavings(&counting(apart), 300).differing.is_some());
}

/// A lock that is looked at and taken in two steps lets both keepers in; one that exchanges does not.
#[test]
fn a_lock_that_is_taken_in_two_steps_is_found() {
    let guarded = |take: &str| {
        let body = format!(
            "{take}\n mov rax, [lamps]\n inc rax\n mov [lamps], rax\n mov dword [guard], 0"
        );
        counting(&body).replace("left:   .long 0", "left:   .long 0\nguard:  .long 0")
    };
    let broken = guarded(".take: cmp dword [guard], 0\n jne .take\n mov dword [guard], 1");
    assert!(interleavings(&broken, 1000).differing.is_some());
    let whole = guarded(".take: mov edx, 1\n xchg [guard], edx\n test edx, edx\n jnz .take");
    assert_eq!(interleavings(&whole, 1000).differing, None);
}

#[test]
fn all_tasks_that_wait_for_each_other_are_stuck() {
    let text = counting("inc qword [lamps]")
        .replace("mov esi, 1\n        mov edx, 1", "xor esi, esi\n        xor edx, edx");
    let mut session = common::session(&text);
    assert_eq!(session.resume(&[], 10_000, &never), StopReason::Stuck);
    let tasks = session.tasks();
    assert!(tasks.iter().all(|task| task.waits_in.is_some()), "{tasks:?}");
    assert_eq!(interleavings(&text, 3).plain.ending, RunEnding::Stuck);
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
    Over,
    Ahead,
    Stack,
    Tasks,
}

fn a_move(places: [&'static str; 2]) -> impl Strategy<Value = Move> {
    prop_oneof![
        Just(Move::Step),
        (0u64..20).prop_map(Move::Back),
        (0u64..60).prop_map(Move::Go),
        prop::sample::select(places.to_vec()).prop_map(Move::Place),
        prop_oneof![Just("rcx"), Just("zero"), Just("[lamps]"), Just("[rsp]")].prop_map(Move::Who),
        prop_oneof![Just(PARENT), Just(CHILD)].prop_map(Move::Look),
        Just(Move::Over),
        Just(Move::Ahead),
        Just(Move::Stack),
        Just(Move::Tasks),
    ]
}

/// Registers, memory and waits of every task.
fn state(session: &mut Session) -> Vec<(u32, sotto_machine::CpuState, Vec<u8>, bool)> {
    let tasks: Vec<TaskId> = session.system().tasks().collect();
    let mut states = Vec::new();
    for task in tasks {
        assert!(session.select_task(task));
        let start = session.image().symbol("lamps").unwrap().address;
        let mut memory = vec![0; 16];
        session.system_mut().machine.memory_mut().read_bytes(start, &mut memory).unwrap();
        let waits = session.system().wait_of(task).is_some();
        states.push((task.0, session.system().machine.cpu_state(), memory, waits));
    }
    states
}

fn walk(text: &str, moves: &[Move]) {
    let mut session = common::session(text);
    for step in moves {
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
            Move::Over => drop(session.over(1000, &never)),
            Move::Ahead => drop(session.ahead()),
            Move::Stack => drop(session.stack(2, 6, 1000)),
            Move::Tasks => drop(session.tasks()),
        }
    }
    let moment = session.moment();
    let mut straight = common::session(text);
    straight.go_to(moment);
    assert_eq!(state(&mut session), state(&mut straight), "at {moment} after {moves:?}");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    /// However a moment was reached, everything there is as in a straight run to it, in every process.
    #[test]
    fn walks_over_a_fork_give_the_same_states(
        moves in proptest::collection::vec(a_move(["helper.lamp", "waits"]), 1..25),
    ) {
        walk(FORK, &moves);
    }

    #[test]
    fn walks_over_threads_give_the_same_states(
        moves in proptest::collection::vec(a_move(["light.lamp", "waits"]), 1..25),
    ) {
        walk(&counting("inc qword [lamps]"), &moves);
    }
}
