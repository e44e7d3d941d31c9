//! A checker that goes along with a session wherever a person takes it.

use sotto_session::{Session, StepReport, StopReason};

use crate::checker::{Checker, Options};
use sotto_finding::Finding;

/// Findings of the run of a session up to the furthest moment that was looked at.
///
/// Steps are looked at as they are made. What the session ran over meanwhile is executed again to be looked at, which
/// gives the same since execution is deterministic. After a change by a person, the run is looked at again from its
/// start.
#[derive(Default)]
pub struct Follower {
    options: Options,
    /// `None` while the run has not been looked at from its start.
    checker: Option<Checker>,
    /// Everything before this moment has been looked at.
    seen: u64,
    /// Changes that were made by a person when it was.
    branches: usize,
}

impl Follower {
    /// Instructions that [`Follower::catch_up`] executes again, at most, when nobody has asked for findings: about a third
    /// of a second.
    pub const UNASKED: u64 = 1 << 20;

    /// A follower of a session, which may be anywhere.
    pub fn new(options: Options) -> Follower {
        Follower { options, checker: None, seen: 0, branches: 0 }
    }

    /// Whether anything of the session's program is judged: it has source lines or contracts, or libraries are judged too.
    pub fn has_work(&self, session: &Session) -> bool {
        let image = session.image();
        let own = !image.lines.rows.is_empty() || !image.contracts.is_empty();
        own || self.options.libraries
    }

    /// Executes one instruction as [`Session::step`] does, and looks at it if everything before has been looked at.
    pub fn step(&mut self, session: &mut Session) -> (Option<StepReport>, StopReason) {
        let Some(checker) = self.checker_at_now(session) else { return session.step() };
        let before = session.moment();
        let result = session.step_under(Some(checker));
        self.stepped(session, before);
        result
    }

    /// Does the same as [`Session::step_into`] does it.
    pub fn step_into(
        &mut self,
        session: &mut Session,
        report: &mut StepReport,
    ) -> (bool, StopReason) {
        let Some(checker) = self.checker_at_now(session) else { return session.step_into(report) };
        let before = session.moment();
        let result = session.step_into_observed(report, Some(checker));
        self.stepped(session, before);
        result
    }

    /// The checker, if what it has not seen begins now.
    fn checker_at_now(&mut self, session: &Session) -> Option<&mut Checker> {
        self.forget_what_changed(session);
        let at_start = self.checker.is_none() && session.moment() == 0;
        if at_start && session.ending().is_none() && self.has_work(session) {
            self.checker = Some(Checker::new(session, self.options.clone()));
            self.seen = 0;
        }
        self.checker.as_mut().filter(|_| self.seen == session.moment())
    }

    fn stepped(&mut self, session: &mut Session, before: u64) {
        if let Some(checker) = &mut self.checker
            && session.moment() > before
        {
            checker.tell_found(session);
            self.seen = session.moment();
        }
    }

    /// Forgets findings of a run that a person made another.
    fn forget_what_changed(&mut self, session: &Session) {
        let made = session.branches();
        let new = made.get(self.branches..).unwrap_or(made);
        if self.branches > made.len() || new.iter().any(|moment| *moment < self.seen) {
            (self.checker, self.seen) = (None, 0);
        }
        self.branches = made.len();
    }

    /// Looks at everything up to now, if that is at most `most` instructions; whether everything has been looked at then.
    /// The session is where it was.
    pub fn catch_up(
        &mut self,
        session: &mut Session,
        most: u64,
        interrupted: &dyn Fn() -> bool,
    ) -> bool {
        /// Instructions between two questions whether to stop.
        const SLICE: u64 = 4096;
        self.forget_what_changed(session);
        let (now, ending) = (session.moment(), session.ending());
        if self.checker.is_some() && self.seen >= now {
            return true;
        }
        if now - self.seen > most || !self.has_work(session) {
            return false;
        }
        session.go_to(self.seen);
        if self.checker.is_none() {
            self.checker = Some(Checker::new(session, self.options.clone()));
        }
        if let Some(checker) = &mut self.checker {
            while session.moment() < now {
                let before = session.moment();
                session.step_observed(checker);
                if session.moment() == before {
                    break;
                }
                checker.tell_found(session);
                self.seen = session.moment();
                if self.seen.is_multiple_of(SLICE) && interrupted() {
                    break;
                }
            }
        }
        session.return_to(now, ending);
        self.seen >= now
    }

    /// The moment up to which the run was looked at.
    pub fn seen(&self) -> u64 {
        self.seen
    }

    /// The findings of instructions that began at moments of a range, in the order of the run.
    pub fn findings(&self, moments: std::ops::Range<u64>) -> &[Finding] {
        let all = self.checker.as_ref().map_or(&[][..], Checker::findings);
        let first = |moment: u64| all.partition_point(|found| found.moment < Some(moment));
        &all[first(moments.start)..first(moments.end)]
    }
}
