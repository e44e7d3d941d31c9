//! Going back to what was so before, and the names and code that a person goes by.

mod common;

use proptest::prelude::*;
use sotto_isa::Arch;
use sotto_session::{Session, StopReason};

/// Two routines with a dotted label of one name, and numbered labels.
const BUOYS: &str = " .target x86-64
 .global _start
 .data
total: dd 0
 .text
_start:
 mov ecx, 5
.next:
 mov edi, ecx
 call add_up
 loop .next
1:
 dec ecx
 js 1f
 jmp 1b
1:
 xor edi, edi
 mov eax, 60
 syscall
add_up:
 test dil, 1
 jz .next
 add [total], edi
.next:
 ret
";

fn never() -> bool {
    false
}

fn at_the_end() -> Session {
    let mut session = common::session(BUOYS);
    assert_eq!(session.resume(&[], 1000, &never), StopReason::Terminated);
    session
}

/// The moments at which something is so, by stepping.
fn moments(is_so: impl Fn(&mut Session) -> bool) -> Vec<u64> {
    let mut session = common::session(BUOYS);
    let mut moments = Vec::new();
    loop {
        if is_so(&mut session) {
            moments.push(session.moment());
        }
        if session.step().1 != StopReason::Done {
            return moments;
        }
    }
}

#[test]
fn back_to_a_place_goes_through_its_visits_from_the_last_to_the_first() {
    let mut session = at_the_end();
    let place = session.resolve_places("add_up.next").unwrap();
    let mut visits = moments(|session| session.here_address() == place[0]);
    assert_eq!(visits.len(), 5);
    while let Some(visit) = visits.pop() {
        assert!(session.back_to(&place, &never));
        assert_eq!(session.moment(), visit);
    }
    let first = session.moment();
    assert!(!session.back_to(&place, &never));
    assert_eq!(session.moment(), first);
}

#[test]
fn back_to_a_breakpoint_holds_its_condition() {
    let mut session = common::session(BUOYS);
    let number = session.add_breakpoint("add_up", Some("edi == 4"), 1).unwrap().number;
    session.resume(&[], 1000, &never);
    let stopped = session.moment();
    session.go_to(u64::MAX / 2);
    assert_eq!(session.back_to_breakpoint(&never), Some(number));
    assert_eq!(session.moment(), stopped);
    assert_eq!(session.back_to_breakpoint(&never), None);
    assert_eq!(session.moment(), stopped);
}

#[test]
fn back_to_a_change_stands_before_the_instruction_that_made_it() {
    let mut session = at_the_end();
    let number = session.add_watch("[total]").unwrap().number;
    for total in [8, 5, 0] {
        assert_eq!(session.back_to_change(&never), Some(number));
        assert_eq!(session.evaluate("[total]").unwrap().value, total);
        assert_eq!(session.here().symbol.as_deref(), Some("add_up"));
    }
    let change = session.watch_change().unwrap();
    assert_eq!((change.old, change.new, change.moved), (Some(0), Some(5), None));
    assert_eq!(session.back_to_change(&never), None);
}

#[test]
fn a_watch_whose_address_moved_says_so() {
    let mut session =
        common::session(" .target x86-64\n .global _start\n_start: push 5\n pop rax\n");
    session.add_watch("[rsp]").unwrap();
    session.resume(&[], 10, &never);
    let (before, now) = session.watch_change().unwrap().moved.unwrap();
    assert_eq!(before - now, 8);
}

#[test]
fn dotted_and_numbered_labels_are_places_of_the_routine_that_runs() {
    let mut session = common::session(BUOYS);
    let line = |session: &mut Session, place: &str| {
        let address = session.resolve_place(place)?;
        Ok::<_, sotto_session::SessionError>(session.place(address).line.unwrap())
    };
    // Where two routines have it, that of the routine that runs is meant.
    assert_eq!(line(&mut session, ".next").unwrap(), 9);
    assert_eq!(line(&mut session, "add_up.next").unwrap(), 25);
    assert_eq!(line(&mut session, "1f").unwrap(), 13);
    let places = session.resolve_places("add_up").unwrap();
    session.resume(&places, 100, &never);
    assert_eq!(line(&mut session, ".next").unwrap(), 25);
    assert_eq!(line(&mut session, "1b").unwrap(), 17);
    let missing = session.resolve_place("1f").unwrap_err().to_string();
    assert_eq!(missing, "no label `1` comes after this place");
    let next = session.resolve_place("_start.next").unwrap();
    assert_eq!(session.place(next).name().unwrap(), ".next");
    assert_eq!(session.place(next + 2).name().unwrap(), ".next + 2");
    assert_eq!(session.place(next + 2).symbol_name().unwrap(), "_start + 7");
}

#[test]
fn code_is_shown_before_a_place_and_through_what_is_no_instruction() {
    let text =
        " .target x86-64\n .global _start\n_start: mov eax, 5\n jmp on\n .byte 0x06\non: nop\n";
    let mut session = common::session(text);
    let on = session.resolve_place("on").unwrap();
    let texts: Vec<String> =
        session.code_around(on, 9, 20).into_iter().map(|line| line.text).collect();
    assert_eq!(texts, ["mov eax, 5", "jmp on", ".byte 0x06", "nop"]);
    let text = " .target arm64\n .global _start\n_start: nop\n .inst 0xffffffff\non: nop\n";
    let mut session = common::session(text);
    assert_eq!(session.arch(), Arch::Arm64);
    let on = session.resolve_place("on").unwrap();
    let texts: Vec<String> =
        session.code_around(on, 1, 20).into_iter().map(|line| line.text).collect();
    assert_eq!(texts, [".inst 0xffffffff", "nop"]);
}

proptest! {
    /// From anywhere, the last visit before is found.
    #[test]
    fn the_last_visit_before_a_moment_is_found(moment in 0u64..60) {
        let mut session = common::session(BUOYS);
        session.go_to(moment);
        let now = session.moment();
        let place = session.resolve_places("_start.next").unwrap();
        let visits = moments(|session| session.here_address() == place[0]);
        let wanted = visits.into_iter().rfind(|visit| *visit < now);
        prop_assert_eq!(session.back_to(&place, &never), wanted.is_some());
        prop_assert_eq!(session.moment(), wanted.unwrap_or(now));
    }
}
