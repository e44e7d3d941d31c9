//! Running on: to a stop, over a call, out of a routine.

use sotto_isa::Control;
use sotto_kernel::Stop;
use sotto_machine::{OnWrite, Watcher};

use crate::run::history::CHECKPOINT_EVERY;
use crate::{Session, StepReport, StopReason};

impl Session {
    /// Runs until a breakpoint, a change of a watched expression, one of the `places`, the end, or
    /// `limit` instructions. Between slices `interrupted` is asked whether to stop.
    pub fn resume(
        &mut self,
        places: &[u64],
        limit: u64,
        interrupted: &dyn Fn() -> bool,
    ) -> StopReason {
        let reason = self.resume_plainly(places, limit, interrupted);
        self.read_modules();
        reason
    }

    fn resume_plainly(
        &mut self,
        places: &[u64],
        limit: u64,
        interrupted: &dyn Fn() -> bool,
    ) -> StopReason {
        self.select_running();
        let mut stops = self.stops.addresses();
        stops.extend(places);
        let end = self.moment().saturating_add(limit);
        let mut values = self.watched_values();
        // What an instruction that is not completed has written so far is still to be told.
        let mut unfinished: Option<Watcher> = None;
        loop {
            if interrupted() {
                self.settle();
                return StopReason::Interrupted;
            }
            if self.ending().is_some() {
                return StopReason::Terminated;
            }
            if self.moment() >= end {
                return StopReason::Limit;
            }
            self.system.set_stops(&stops);
            let budget = (end - self.moment()).min(CHECKPOINT_EVERY);
            let before = self.moment();
            // What is executed again for searches does not stop at calls.
            self.system.stop_at_calls(self.stops_at_calls);
            let stop = match values.is_empty() {
                true => self.run_on(budget, None),
                false => {
                    let mut watcher = match unfinished.take() {
                        Some(watcher) => watcher,
                        None => Watcher::new(self.watched(), OnWrite::Stop),
                    };
                    let stop = self.run_on(budget, Some(&mut watcher));
                    unfinished = (stop == Stop::Unfinished).then_some(watcher);
                    stop
                }
            };
            self.system.stop_at_calls(false);
            match stop {
                Stop::NeedsInput => return StopReason::NeedsInput,
                Stop::Stuck => return self.found_stuck(),
                Stop::MemoryLimit => return StopReason::MemoryLimit,
                Stop::Unfinished => continue,
                Stop::AtCall => return StopReason::Call,
                Stop::Budget
                | Stop::Switched
                | Stop::Delivered(_)
                | Stop::Paused
                | Stop::Output
                | Stop::Place
                | Stop::Written
                | Stop::Terminated(_) => {}
            }
            if self.moment() == before && self.ending().is_none() {
                continue;
            }
            // A slice may end just at a stop.
            let pc = self.system.machine.pc();
            let breakpoint = match stops.contains(&pc) && self.ending().is_none() {
                true => self.arrive(pc),
                false => None,
            };
            if !values.is_empty() {
                if let Some(number) = self.changed_watch(&values) {
                    return StopReason::Watch(number);
                }
                values = self.watched_values();
            }
            if self.ending().is_some() {
                return StopReason::Terminated;
            }
            if places.contains(&pc) {
                return StopReason::Place;
            }
            if let Some(number) = breakpoint {
                return StopReason::Breakpoint(number);
            }
        }
    }

    /// Executes one instruction, and what it calls, up to its return.
    pub fn over(
        &mut self,
        limit: u64,
        interrupted: &dyn Fn() -> bool,
    ) -> (Option<StepReport>, StopReason) {
        self.select_running();
        let next = self.next_instruction().map(|(instruction, _)| instruction);
        let Some(call) = next.filter(|instruction| instruction.control() == Control::Call) else {
            return self.step();
        };
        let depth = self.system.machine.call_depth();
        let task = self.system.running_task();
        let end = self.moment().saturating_add(limit);
        loop {
            let left = end.saturating_sub(self.moment());
            let reason = self.resume(&[call.end()], left, interrupted);
            if reason == StopReason::Place && self.system.running_task() != task {
                continue;
            }
            // A call of the same routine further down returns to the same place.
            if reason != StopReason::Place || self.system.machine.call_depth() <= depth {
                let reason = if reason == StopReason::Place { StopReason::Done } else { reason };
                return (None, reason);
            }
        }
    }

    /// Executes instructions until another source line is next, or until the routine has returned.
    /// Calls are gone over.
    pub fn over_line(&mut self, limit: u64, interrupted: &dyn Fn() -> bool) -> StopReason {
        let line = |session: &Session| session.image.lines.at(session.system.machine.pc());
        let here = line(self);
        let task = self.system.running_task();
        let end = self.moment().saturating_add(limit);
        loop {
            if interrupted() {
                return StopReason::Interrupted;
            }
            if self.system.running_task() != task {
                match self.step().1 {
                    StopReason::Done => continue,
                    reason => return reason,
                }
            }
            let depth = self.system.machine.call_depth();
            let (_, reason) = self.over(end.saturating_sub(self.moment()), interrupted);
            let stays = here.is_some() && line(self) == here;
            if reason != StopReason::Done || !stays || self.system.machine.call_depth() < depth {
                return reason;
            }
        }
    }

    /// Runs until the current routine has returned.
    pub fn out(&mut self, limit: u64, interrupted: &dyn Fn() -> bool) -> StopReason {
        self.select_running();
        let Some(call) = self.system.machine.calls().last().copied() else {
            return self.resume(&[], limit, interrupted);
        };
        let depth = self.system.machine.call_depth();
        let task = self.system.running_task();
        let end = self.moment().saturating_add(limit);
        loop {
            let left = end.saturating_sub(self.moment());
            let reason = self.resume(&[call.return_address], left, interrupted);
            if reason != StopReason::Place {
                return reason;
            }
            if self.system.running_task() == task && self.system.machine.call_depth() < depth {
                return StopReason::Done;
            }
        }
    }
}
