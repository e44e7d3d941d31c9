//! What the stepper offers beyond stepping: watches, frames, changes, marks, reloading, deep history.

mod common;

use proptest::prelude::*;
use sotto_session::{Format, Session, SlotRole, StopReason, Wrote};

/// The buoy chain: recursion, with what was saved, a local and an argument on the stack.
const BUOYS: &str = " .target x86-64
 .global _start
 .data
chain: dq 0
depth: db 0
 .text
_start:
 mov edi, 3
 call buoy
 mov [chain], rax
 xor edi, edi
 mov eax, 60
 syscall
buoy:
 push rbp
 mov rbp, rsp
 push rbx
 sub rsp, 24
 mov ebx, edi
 mov [rbp - 16], rdi
 inc byte [depth]
 xor eax, eax
 test edi, edi
 jz .end
 lea edi, [rbx - 1]
 call buoy
.end:
 add eax, ebx
 add rsp, 24
 pop rbx
 pop rbp
 ret
";

fn never() -> bool {
    false
}

fn resume(session: &mut Session) -> StopReason {
    session.resume(&[], 100_000_000, &never)
}

fn until(session: &mut Session, place: &str) {
    let addresses = session.resolve_places(place).unwrap();
    assert_eq!(session.resume(&addresses, 1_000_000, &never), StopReason::Place, "{place}");
}

fn value(session: &mut Session, text: &str) -> i128 {
    session.evaluate(text).unwrap().value
}

#[test]
fn a_watch_stops_after_the_instruction_that_changed_the_value_and_names_it() {
    let mut session = common::session(BUOYS);
    session.add_watch("[depth]").unwrap();
    session.add_watch("rbx").unwrap();
    let mut seen = Vec::new();
    loop {
        match resume(&mut session) {
            StopReason::Watch(number) => {
                let change = session.watch_change().unwrap();
                assert_eq!(change.number, number);
                let (old, new) = (change.old.unwrap(), change.new.unwrap());
                seen.push((number, old, new, change.report.place.line.unwrap()));
            }
            StopReason::Terminated => break,
            other => panic!("{other:?}"),
        }
    }
    let expected = [
        (2, 0, 3, 19),
        (1, 0, 1, 21),
        (2, 3, 2, 19),
        (1, 1, 2, 21),
        (2, 2, 1, 19),
        (1, 2, 3, 21),
        (2, 1, 0, 19),
        (1, 3, 4, 21),
        (2, 0, 1, 30),
        (2, 1, 2, 30),
        (2, 2, 3, 30),
        (2, 3, 0, 30),
    ];
    assert_eq!(seen, expected);
    assert!(session.add_watch("[dpeth]").is_err());
}

#[test]
fn a_watched_address_follows_the_registers_that_it_is_made_of() {
    let mut session = common::session(BUOYS);
    until(&mut session, "15");
    session.add_watch("[rbp - 16]").unwrap();
    // The frame pointer moves first, and with it what is watched; then the store.
    assert!(matches!(resume(&mut session), StopReason::Watch(1)));
    assert_eq!(session.watch_change().unwrap().report.place.line, Some(16));
    assert!(matches!(resume(&mut session), StopReason::Watch(1)));
    assert_eq!(session.watch_change().unwrap().report.place.line, Some(20));
}

#[test]
fn breakpoints_count_arrivals_and_can_wait_for_the_nth() {
    let mut session = common::session(BUOYS);
    session.add_breakpoint("buoy", None, 3).unwrap();
    assert_eq!(resume(&mut session), StopReason::Breakpoint(1));
    assert_eq!(value(&mut session, "edi"), 1);
    assert_eq!(session.breakpoints()[0].arrivals(session.moment()), 3);
    // Counts go back with time, and are not counted twice on the way forward.
    session.go_to(2);
    assert_eq!(session.breakpoints()[0].arrivals(session.moment()), 1);
    assert_eq!(resume(&mut session), StopReason::Breakpoint(1));
    assert_eq!(value(&mut session, "edi"), 1);
    assert_eq!(session.breakpoints()[0].arrivals(session.moment()), 3);
}

#[test]
fn a_line_of_a_macro_is_every_place_that_it_was_expanded_to() {
    let text = " .target x86-64\n .macro flash count\n mov ecx, \\count\n .endm\n .global _start\n\
                _start:\n flash 1\n flash 2\n mov eax, 60\n syscall\n";
    let mut session = common::session(text);
    assert_eq!(session.resolve_places("3").unwrap().len(), 2);
    session.add_breakpoint("3", None, 1).unwrap();
    session.go_to(0);
    assert_eq!(resume(&mut session), StopReason::Breakpoint(1));
    assert_eq!(session.moment(), 1);
}

#[test]
fn frames_come_from_execution_with_arguments_and_extents() {
    let mut session = common::session(BUOYS);
    session.add_breakpoint("29", Some("ebx == 1"), 1).unwrap();
    assert_eq!(resume(&mut session), StopReason::Breakpoint(1));
    let frames = session.frames();
    let names: Vec<&str> = frames.iter().map(|frame| frame.routine.as_str()).collect();
    assert_eq!(names, ["buoy", "buoy", "buoy", "_start"]);
    let arguments: Vec<Vec<(&str, u64)>> = frames
        .iter()
        .map(|frame| frame.arguments.iter().map(|a| (a.name.as_str(), a.value)).collect())
        .collect();
    assert_eq!(arguments, [vec![("rdi", 1)], vec![("rdi", 2)], vec![("rdi", 3)], vec![]]);
    for pair in frames.windows(2) {
        assert_eq!(pair[0].end, pair[1].start, "frames lie beside each other");
    }
    assert_eq!(frames[0].call.as_ref().and_then(|place| place.line), Some(26));
    assert_eq!(frames[1].at.line, Some(28));
    // Asking does not move the session.
    assert_eq!(session.here().line, Some(29));
    session.back_out();
    assert_eq!((session.here().line, value(&mut session, "edi")), (Some(26), 1));
}

#[test]
fn frames_of_every_machine_end_with_their_routines() {
    for arch in ["x86-64", "x86-32", "arm64"] {
        for program in common::programs(arch) {
            let mut session = common::session(&program.text);
            session.system_mut().give_input(program.input.as_bytes());
            session.system_mut().close_input();
            let mut most = 0;
            while session.step().1 == StopReason::Done && session.moment() < 20_000 {
                let calls = session.system().machine.calls().len();
                most = most.max(calls);
            }
            let left = session.system().machine.calls().len();
            assert!(left <= 1 && left <= most, "{}: {left} of {most}", program.path.display());
        }
    }
}

#[test]
fn slots_of_the_stack_say_what_they_are_for_and_who_wrote_them() {
    let mut session = common::session(BUOYS);
    until(&mut session, "21");
    let view = session.stack(1, 10, 1000);
    let roles: Vec<(i64, SlotRole, Option<u32>)> = view
        .slots
        .iter()
        .map(|slot| {
            let line = slot.writer.as_ref().and_then(|writer| writer.place.line);
            (slot.offset, slot.role.clone(), line)
        })
        .collect();
    let wanted = [
        (-8, SlotRole::RedZone, None),
        // Of the room, one word is used.
        (0, SlotRole::Gap, None),
        (8, SlotRole::Gap, None),
        (16, SlotRole::Local, Some(20)),
        (24, SlotRole::Saved("rbx"), Some(17)),
        (32, SlotRole::FrameLink("rbp"), Some(15)),
        (40, SlotRole::ReturnAddress, Some(9)),
        (48, SlotRole::Startup("count of arguments".into()), None),
        (56, SlotRole::Startup("argument 0".into()), None),
        (64, SlotRole::Startup("end of arguments".into()), None),
        (72, SlotRole::Startup("environment 0".into()), None),
    ];
    let names: Vec<Option<&str>> = view.slots.iter().map(|slot| slot.name.as_deref()).collect();
    assert_eq!(names[3], Some("[rbp - 16]"));
    // rbp - 16 is the slot that `push rbx` made room below.
    assert_eq!(roles[..8], wanted[..8]);
    assert_eq!(roles[8..10], wanted[8..10]);
    // Stepping keeps what is known up to date.
    session.step();
    assert_eq!(session.stack(1, 10, 1000).slots[3].writer, view.slots[3].writer);
}

/// A caller that passes more than registers hold, and a routine that has not filled its room yet.
const SIGNALS: &str = "        .target x86-64
        .global _start
_start: push    8
        push    7
        mov     edi, 1
        call    sum
        mov     edi, eax
        mov     eax, 60
        syscall
sum:    sub     rsp, 24
        lea     eax, [rdi + 0]
        add     rax, [rsp + 32]
        add     rax, [rsp + 40]
        mov     [rsp + 8], rax
        add     rsp, 24
        ret
";

#[test]
fn what_is_passed_on_the_stack_is_told_from_room_and_gaps() {
    let mut session = common::session(SIGNALS);
    until(&mut session, "14");
    let frames = session.frames();
    let arguments: Vec<(&str, u64)> =
        frames[0].arguments.iter().map(|a| (a.name.as_str(), a.value)).collect();
    assert_eq!(arguments, [("rdi", 1), ("argument 7", 7), ("argument 8", 8)]);
    let roles = |session: &mut Session| -> Vec<SlotRole> {
        session.stack(0, 6, 1000).slots.into_iter().map(|slot| slot.role).collect()
    };
    let gap = SlotRole::Gap;
    let above = [SlotRole::ReturnAddress, SlotRole::Argument(7), SlotRole::Argument(8)];
    let wanted = |room| [&[gap.clone(), room, gap.clone()][..], &above].concat();
    assert_eq!(roles(&mut session), wanted(SlotRole::Unwritten));
    session.step();
    assert_eq!(roles(&mut session), wanted(SlotRole::Local));
    // What the kernel laid down is named as the standard names it.
    let labels: Vec<SlotRole> =
        session.stack(0, 56, 1000).slots.into_iter().map(|slot| slot.role).collect();
    for name in ["AT_PAGESZ (auxiliary vector)", "value of AT_PAGESZ", "AT_NULL (auxiliary vector)"]
    {
        assert!(labels.contains(&SlotRole::Startup(name.into())), "{labels:?}");
    }
}

#[test]
fn a_change_branches_history_and_is_made_again_when_time_comes_back() {
    let mut session = common::session(BUOYS);
    until(&mut session, "buoy");
    let moment = session.moment();
    assert_eq!(resume(&mut session), StopReason::Terminated);
    assert_eq!(value(&mut session, "[chain]"), 6);
    session.go_to(moment);
    let change = session.change("edi", "1").unwrap();
    assert_eq!((change.old, change.new, change.bits, change.moment), (3, 1, 32, moment));
    let target = session.target("edi").unwrap();
    assert_eq!(session.who(target), Wrote::Person(moment));
    assert_eq!(resume(&mut session), StopReason::Terminated);
    assert_eq!(value(&mut session, "[chain]"), 1);
    // Before it nothing is changed; after it everything is as it became.
    session.go_to(moment - 1);
    assert_eq!(value(&mut session, "edi"), 3);
    session.step();
    assert_eq!(value(&mut session, "edi"), 1);
    session.change("[depth]", "9").unwrap();
    session.change("carry", "1").unwrap();
    session.change("rip", "_start").unwrap();
    assert_eq!(session.here().symbol.as_deref(), Some("_start"));
    assert_eq!((value(&mut session, "[depth]"), value(&mut session, "cf")), (9, 1));
    let error = |session: &mut Session, target: &str, value: &str| {
        session.change(target, value).unwrap_err().to_string()
    };
    assert_eq!(error(&mut session, "[depth]", "256"), "256 does not fit; it holds -128 to 255");
    assert_eq!(error(&mut session, "zero", "2"), "2 does not fit; it holds 0 to 1");
    assert!(error(&mut session, "5", "2").contains("nothing that can be changed"));
    assert!(error(&mut session, "[0]", "2").contains("cannot be read"));
}

#[test]
fn compare_lists_what_differs_since_a_mark_in_short() {
    let mut session = common::session(BUOYS);
    until(&mut session, "buoy");
    session.mark("first");
    until(&mut session, "22");
    let comparison = session.compare("first").unwrap();
    let registers: Vec<&str> = comparison.registers.iter().map(|r| r.name.as_str()).collect();
    assert_eq!(registers, ["rbx", "rsp", "rbp", "rip"]);
    let names: Vec<Option<String>> =
        comparison.memory.iter().map(|memory| memory.place.name()).collect();
    assert_eq!(names[0].as_deref(), Some("depth"));
    assert_eq!(comparison.memory[0].values(), Some((0, 1)));
    assert_eq!(comparison.memory.len(), 2, "{:?}", comparison.memory);
    let moment = session.moment();
    assert_eq!(session.compare(&format!("#{moment}")).unwrap().registers, []);
    assert_eq!(
        session.compare("second").unwrap_err().to_string(),
        "no mark `second`; `mark second` sets it"
    );
}

#[test]
fn going_back_by_lines_and_calls_lands_where_a_reader_expects() {
    let mut session = common::session(BUOYS);
    until(&mut session, "10");
    let after = session.moment();
    assert_eq!(session.back_line(), StopReason::Done);
    assert_eq!((session.here().line, session.moment()), (Some(9), 1));
    session.go_to(after);
    until(&mut session, "12");
    session.back_line();
    assert_eq!(session.here().line, Some(11));
    session.go_to(5);
    assert_eq!(session.back_out(), StopReason::Done);
    assert_eq!(session.here().line, Some(9));
    assert_eq!(session.back_line(), StopReason::Done);
    assert_eq!(session.back_line(), StopReason::AtStart);
}

#[test]
fn without_lines_a_line_is_an_instruction() {
    let mut image = common::image("lamp.s", BUOYS);
    image.lines = Default::default();
    let startup = sotto_kernel::Startup::with_arguments(["lamp"]);
    let mut session = Session::start(image, Vec::new(), &startup).unwrap();
    session.go_to(5);
    assert_eq!(session.back_line(), StopReason::Done);
    assert_eq!(session.moment(), 4);
    assert_eq!(session.over_line(1000, &never), StopReason::Done);
    assert_eq!(session.moment(), 5);
}

#[test]
fn a_changed_source_is_taken_over_at_the_same_line_and_count() {
    let mut old = common::session(BUOYS);
    old.add_breakpoint("23", None, 1).unwrap();
    old.add_breakpoint("chain_end", None, 1).unwrap_err();
    old.add_watch("[depth]").unwrap();
    for _ in 0..6 {
        resume(&mut old);
    }
    assert_eq!((old.here().line, value(&mut old, "ebx")), (Some(23), 1));
    let text = BUOYS.replace("_start:\n", "_start:\n nop\n nop\n");
    let mut new = common::session(&text);
    let told = new.take_over(&mut old, 1_000_000, &never);
    assert!(told.returned && told.lost.is_empty(), "{told:?}");
    assert_eq!((new.here().line, value(&mut new, "ebx")), (Some(25), 1));
    assert_eq!(new.place(new.breakpoints()[0].addresses[0]).line, Some(25));
    assert_eq!(new.watches().len(), 1);

    let text = text.replace("depth", "depths");
    let mut renamed = common::session(&text);
    let told = renamed.take_over(&mut new, 1_000_000, &never);
    assert_eq!(told.lost, ["watch 2 is gone: no symbol `depth`; did you mean `depths`?"]);
}

#[test]
fn memory_is_shown_as_declared_or_as_asked() {
    let text = " .target x86-64\n .global _start\n .data\ntide: dw 3, -2\nname: .asciz \"Skerry\"\n\
                level: .double 2.5\nwhere: dq tide\n .text\n_start: mov eax, 60\n syscall\n";
    let mut session = common::session(text);
    let mut lines = |place: &str, count: Option<u64>, format: &str| {
        let lines = session
            .memory_lines(place, count, Format::parse(format, session.arch()).unwrap(), 16)
            .unwrap();
        lines.into_iter().flat_map(|line| line.values).collect::<Vec<String>>()
    };
    assert_eq!(lines("tide", None, ""), ["0x0003", "0xfffe"]);
    assert_eq!(lines("tide", None, "signed"), ["3", "-2"]);
    assert_eq!(lines("name", None, "text"), ["\"Skerry\""]);
    assert_eq!(lines("level", None, ""), ["2.5"]);
    assert_eq!(lines("where", Some(1), "address"), ["0x402000 = tide"]);
    assert_eq!(lines("tide", Some(2), "binary byte"), ["0000_0011", "0000_0000"]);
    assert_eq!(
        session.show("[tide + 2]", Format::parse("signed", session.arch()).unwrap()).unwrap(),
        "-2"
    );
    assert_eq!(
        session.show("tide", Format::parse("address", session.arch()).unwrap()).unwrap(),
        "0x402000 = tide"
    );
}

/// A table that is summed over and over; `first` is written once, at the start.
const LONG: &str = " .target x86-64
 .global _start
 .data
first: dq 0
sums: dq 0
 .text
_start:
 mov qword [first], 7
 mov r12d, 5
 mov ecx, 12500000
.next:
 add rax, rcx
 mov [rsp - 64], rax
 mov rdx, [sums]
 add rdx, 3
 mov [sums], rdx
 xor edx, ecx
 dec ecx
 jnz .next
 mov edi, 0
 mov eax, 60
 syscall
";

#[test]
fn back_and_who_answer_after_a_hundred_million_instructions() {
    let mut session = common::session(LONG);
    assert_eq!(session.resume(&[], 200_000_000, &never), StopReason::Terminated);
    let end = session.moment();
    assert_eq!(end, 3 + 12_500_000 * 8 + 3);
    assert_eq!(session.back(1), StopReason::Done);
    assert_eq!(value(&mut session, "eax"), 60);
    assert_eq!(value(&mut session, "[sums]"), 37_500_000);
    for (text, line, moment) in [("[first]", 8, 0), ("r12", 9, 1), ("[sums]", 16, end - 3 - 4)] {
        session.go_to(end);
        let target = session.target(text).unwrap();
        let writer = session.who(target).instruction().unwrap();
        assert_eq!((writer.report.place.line, session.moment()), (Some(line), moment), "{text}");
    }
    assert!(session.history_bytes() < 200 << 20);
}

/// What a walk does.
#[derive(Clone, Debug)]
enum Move {
    Step,
    Back(u64),
    Go(u64),
    Line(u32),
    Who(&'static str),
    Ahead,
    Frames,
    Compare(u64),
}

fn a_move() -> impl Strategy<Value = Move> {
    prop_oneof![
        Just(Move::Step),
        (0u64..20).prop_map(Move::Back),
        (0u64..90).prop_map(Move::Go),
        (8u32..32).prop_map(Move::Line),
        prop_oneof![Just("rax"), Just("zero"), Just("[depth]"), Just("[rsp]")].prop_map(Move::Who),
        Just(Move::Ahead),
        Just(Move::Frames),
        (0u64..90).prop_map(Move::Compare),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    /// However a moment was reached, everything there is as in a straight run to it.
    #[test]
    fn walks_give_the_same_states_as_straight_runs(moves in proptest::collection::vec(a_move(), 1..25)) {
        let mut session = common::session(BUOYS);
        for step in &moves {
            match step {
                Move::Step => drop(session.step()),
                Move::Back(count) => drop(session.back(*count)),
                Move::Go(moment) => drop(session.go_to(*moment)),
                Move::Line(line) => {
                    if let Ok(addresses) = session.resolve_places(&line.to_string()) {
                        session.resume(&addresses, 1000, &never);
                    }
                }
                Move::Who(text) => {
                    if let Ok(target) = session.target(text) {
                        session.who(target);
                    }
                }
                Move::Ahead => drop(session.ahead()),
                Move::Frames => drop(session.frames()),
                Move::Compare(moment) => drop(session.compare(&format!("#{moment}"))),
            }
        }
        let moment = session.moment();
        let mut straight = common::session(BUOYS);
        straight.go_to(moment);
        if session.ending().is_some() {
            straight.resume(&[], 1000, &never);
        }
        prop_assert_eq!(straight.moment(), moment);
        prop_assert_eq!(straight.system().machine.cpu_state(), session.system().machine.cpu_state());
        prop_assert_eq!(straight.system().machine.calls(), session.system().machine.calls());
        prop_assert_eq!(straight.stack(2, 12, 1000), session.stack(2, 12, 1000));
        prop_assert_eq!(value(&mut straight, "[depth]"), value(&mut session, "[depth]"));
    }
}

/// What a caller saved and keeps on the stack in front of a call is not passed to it, also where the code of what is
/// called cannot all be read.
#[test]
fn saved_registers_and_locals_of_a_caller_are_not_taken_for_arguments() {
    let mut session = common::session(
        ".target x86-32
        .global _start
        .text
_start: call lamp
        ud2
lamp:   push ebp
        mov ebp, esp
        push ebx
        push esi
        sub esp, 4
        mov dword [ebp - 12], 7
        push 5
        push offset bell
        call fog
        ud2
        .byte 0x9a, 0, 0, 0, 0, 0x23, 0
bell:   ret
fog:    push ebp
        mov ebp, esp
        and esp, -16
        nop
",
    );
    let at = session.resolve_place("21").unwrap();
    session.resume(&[at], 1000, &|| false);
    session.step();
    let frame = session.register(sotto_isa::Storage(5));
    let view = session.stack_from(frame, 10, 1000);
    let roles: Vec<SlotRole> = view.slots.iter().map(|slot| slot.role.clone()).collect();
    assert_eq!(
        roles[..9],
        [
            SlotRole::FrameLink("ebp"),
            SlotRole::ReturnAddress,
            SlotRole::Argument(1),
            SlotRole::Argument(2),
            SlotRole::Local,
            SlotRole::Saved("esi"),
            SlotRole::Saved("ebx"),
            SlotRole::FrameLink("ebp"),
            SlotRole::ReturnAddress,
        ]
    );
    // The bytes before the routine would be a call through a selector, but it begins there.
    assert_eq!(view.slots[2].meaning.as_deref(), Some("code: bell (lamp.s:17)"));
}

/// A line may begin where another has its bytes: the brace of a function that the compiler made nothing of.
#[test]
fn a_breakpoint_on_a_compiled_line_stops_at_each_of_its_rows() {
    if !common::has("cc") {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let source = folder.path().join("buoys.c");
    let text = "static int buoys(int n)\n{\n    if (n < 2) return n;\n    return buoys(n - 1) + buoys(n - 2);\n}\nint main(void)\n{\n    return buoys(10);\n}\n";
    std::fs::write(&source, text).unwrap();
    for level in ["-O0", "-O1"] {
        let program = folder.path().join("buoys");
        let mut cc = std::process::Command::new("cc");
        cc.args(["-g", "-static", "-fno-inline", level, "-o"]).args([&program, &source]);
        assert!(cc.status().unwrap().success());
        let image = sotto_object::read_executable(&std::fs::read(&program).unwrap()).unwrap();
        let startup = sotto_kernel::Startup::with_arguments(["buoys"]);
        let mut session = sotto_session::Session::start(image, Vec::new(), &startup).unwrap();
        session.add_breakpoint("buoys.c:2", None, 1).unwrap();
        session.add_breakpoint("buoys.c:3", None, 1).unwrap();
        while session.resume(&[], 10_000_000, &|| false) != StopReason::Terminated {}
        let end = session.moment();
        for breakpoint in session.breakpoints() {
            let times = breakpoint.arrivals(end);
            assert!(times >= 177, "{level} {}: {times}", breakpoint.text);
        }
    }
}
