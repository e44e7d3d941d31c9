//! The stepper on programs that a C compiler made, with its line table, with frame pointers and without.

mod common;

use sotto_session::{Frame, Session, StopReason};

const BUOYS: &str = "#include <stdio.h>
static int depths[] = { 4, 9, 2, 7 };
__attribute__((noinline)) int deepest(const int *chain, int count)
{
    if (count == 1)
        return chain[0];
    int rest = deepest(chain + 1, count - 1);
    return rest > chain[0] ? rest : chain[0];
}
int main(void)
{
    int found = deepest(depths, 4);
    printf(\"deepest %d\\n\", found);
    return found;
}
";

fn never() -> bool {
    false
}

/// A session of the program, compiled with these options; `None` if there is no compiler.
fn session(options: &[&str]) -> Option<Session> {
    let options = [&["-fno-optimize-sibling-calls"], options].concat();
    common::compiled_session("gcc", &options, "buoys.c", BUOYS)
}

#[test]
fn breakpoints_frames_and_writers_are_right_with_and_without_frame_pointers() {
    let ways: [&[&str]; 4] =
        [&["-O0"], &["-O1"], &["-O2", "-fomit-frame-pointer"], &["-O0", "-fno-omit-frame-pointer"]];
    for options in ways {
        let Some(mut session) = session(options) else { return };
        session.add_breakpoint("buoys.c:6", None, 1).unwrap();
        assert!(matches!(session.resume(&[], 1 << 30, &never), StopReason::Breakpoint(1)));
        let frames = session.frames();
        let names: Vec<&str> =
            frames.iter().map(|f| f.entry.symbol.as_deref().unwrap_or("?")).collect();
        assert_eq!(names[..5], ["deepest", "deepest", "deepest", "deepest", "main"], "{options:?}");
        let counts: Vec<u64> = frames[..4].iter().map(|f| f.arguments[1].value).collect();
        assert_eq!(counts, [1, 2, 3, 4], "{options:?}");
        assert_eq!(frames[0].call.as_ref().and_then(|place| place.line), Some(7), "{options:?}");
        // Return addresses lie where the frames end.
        let slot = 8;
        for frame in &frames[..4] {
            let view = session.stack_from(frame.end - slot, 1, 0);
            assert_eq!(view.slots[0].role, sotto_session::SlotRole::ReturnAddress, "{options:?}");
        }
        // Out of all of them, and back into the last.
        session.remove_stop(1).unwrap();
        for left in [3, 2, 1, 0] {
            assert_eq!(session.out(1 << 30, &never), StopReason::Done, "{options:?}");
            let depth = session.frames().iter().filter(|f| f.routine == "deepest").count();
            assert_eq!(depth, left, "{options:?}");
        }
        let target = session.target("eax").unwrap();
        let writer = session.who(target).instruction().unwrap();
        assert_eq!(writer.report.place.symbol.as_deref(), Some("deepest"), "{options:?}");
        assert_eq!(session.resume(&[], 1 << 30, &never), StopReason::Terminated, "{options:?}");
        assert_eq!(session.ending().unwrap().shell_status(), 9, "{options:?}");
        assert_eq!(session.syscalls().last().unwrap().2.name, "exit_group");
    }
}

/// What a frame is known by: routine, place, caller and extent.
fn known_by(frames: &[Frame]) -> Vec<(String, u64, Option<u64>, u64, u64)> {
    let facts = |f: &Frame| (f.routine.clone(), f.at.address, f.call_address, f.start, f.end);
    frames.iter().map(facts).collect()
}

/// Unwind tables are asked where the instruction pointer was changed by hand; to what it was, in this case. Two
/// ways that share nothing give one chain.
#[test]
fn unwind_tables_and_execution_tell_the_same_frames() {
    for options in [&["-O0"][..], &["-O2", "-fomit-frame-pointer"]] {
        let Some(mut session) = session(options) else { return };
        session.add_breakpoint("main", None, 1).unwrap();
        assert!(matches!(session.resume(&[], 1 << 30, &never), StopReason::Breakpoint(1)));
        let mut deepest = 0;
        while session.ending().is_none() {
            let followed = session.frames();
            let here = session.register(session.arch().pc());
            session.change("rip", &format!("{here:#x}")).unwrap();
            let unwound = session.frames();
            assert_eq!(known_by(&unwound), known_by(&followed), "{options:?} {:#x}", here);
            deepest = deepest.max(unwound.len());
            session.resume(&[], 37, &never);
        }
        assert!(deepest > 6, "{deepest} frames at most");
    }
}

#[test]
fn lines_of_c_are_gone_over_and_back_over() {
    let Some(mut session) = session(&["-O0"]) else { return };
    let addresses = session.resolve_places("buoys.c:12").unwrap();
    assert_eq!(session.resume(&addresses[..1], 1 << 30, &never), StopReason::Place);
    let start = session.moment();
    assert_eq!(session.over_line(1 << 30, &never), StopReason::Done);
    assert_eq!(session.here().line, Some(13));
    assert_eq!(session.back_line(), StopReason::Done);
    assert_eq!((session.here().line, session.moment()), (Some(12), start));
    // A variable in memory is watched by its address.
    session.add_watch("dword [rbp - 4]").unwrap();
    assert!(matches!(session.resume(&[], 1 << 30, &never), StopReason::Watch(_)));
}
