//! Findings of a session that is taken forwards and backwards, and of which things are changed.

mod common;

use common::image_of_routine;
use proptest::prelude::*;
use sotto_check::{Checker, Follower, Kind, Options};
use sotto_kernel::Startup;
use sotto_session::{Session, SourceText, StopReason};

/// Counts three lamps; a register is lost in each call, and another was never set.
const LAMPS: &str = "\
        .target x86-64
        .global _start, fog
        .text
fog:    mov     ecx, 9
        ret
_start: mov     ebx, 3
        xor     edx, edx
.again: mov     ecx, ebx
        call    fog
        add     edx, ecx
        jz      .on
        test    r12d, r12d
        jz      .on
.on:    dec     ebx
        jnz     .again
        mov     eax, 60
        xor     edi, edi
        syscall
";

fn session() -> Session {
    let image = image_of_routine(LAMPS, "_start");
    let sources = vec![SourceText::new("station.s".into(), LAMPS.into())];
    Session::start(image, sources, &Startup::with_arguments(["station"])).unwrap()
}

fn facts<'a>(
    findings: impl IntoIterator<Item = &'a sotto_check::Finding>,
) -> Vec<(Option<u64>, String)> {
    findings.into_iter().map(|finding| (finding.moment, finding.fact.clone())).collect()
}

/// What a plain run under a checker finds.
fn all_findings() -> Vec<(Option<u64>, String)> {
    let mut session = session();
    let mut checker = Checker::new(&session, Options::default());
    while checker.step(&mut session) == StopReason::Done {}
    facts(checker.findings())
}

#[test]
fn a_finding_belongs_to_the_step_that_uses_the_value() {
    let mut session = session();
    let mut follower = Follower::default();
    let mut found = Vec::new();
    while let (Some(report), _) = follower.step(&mut session) {
        let moments = report.moment - 1..report.moment;
        found.extend(
            follower
                .findings(moments)
                .iter()
                .map(|one| (Kind::of(one).unwrap(), report.place.line)),
        );
    }
    assert_eq!(found, [(Kind::LostInCall, Some(11)), (Kind::Unset, Some(13))]);
}

#[test]
fn a_change_by_hand_has_the_run_looked_at_again() {
    let mut session = session();
    let mut follower = Follower::default();
    session.go_to(10);
    assert!(follower.catch_up(&mut session, u64::MAX, &|| false));
    let before = facts(follower.findings(0..u64::MAX));
    assert!(!before.is_empty());
    session.go_to(2);
    session.change("r12", "0").unwrap();
    session.change("edx", "5").unwrap();
    session.go_to(10);
    assert!(follower.catch_up(&mut session, u64::MAX, &|| false));
    assert_eq!(session.moment(), 10);
    // What was changed is a part of the run that is looked at.
    assert_eq!(session.evaluate("edx").unwrap().value, 14);
}

#[test]
fn what_is_longer_than_allowed_is_not_looked_at() {
    let mut session = session();
    let mut follower = Follower::default();
    session.go_to(10);
    assert!(!follower.catch_up(&mut session, 8, &|| false));
    assert_eq!((follower.seen(), session.moment()), (0, 10));
    assert!(follower.findings(0..10).is_empty());
}

proptest! {
    /// However one gets to the end, the findings are those of a plain run.
    #[test]
    fn findings_do_not_depend_on_the_way(ways in prop::collection::vec((0u8..4, 1u64..12), 1..20)) {
        let mut session = session();
        let mut follower = Follower::default();
        for (way, count) in ways {
            match way {
                0 => for _ in 0..count {
                    follower.step(&mut session);
                },
                1 => drop(session.back(count)),
                2 => drop(session.go_to(session.moment() + count)),
                _ => drop(follower.catch_up(&mut session, count, &|| false)),
            }
        }
        session.go_to(u64::MAX / 2);
        let (moment, ending) = (session.moment(), session.ending());
        prop_assert!(follower.catch_up(&mut session, u64::MAX, &|| false));
        prop_assert_eq!((session.moment(), session.ending()), (moment, ending));
        prop_assert_eq!(facts(follower.findings(0..u64::MAX)), all_findings());
    }
}
