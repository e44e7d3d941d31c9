//! Timers that send signals when they run out.
//!
//! Sources: setitimer(2), timer_create(2); signal(7) for the codes.

use sotto_machine::Signal;

use crate::calls::time::is_cpu_clock;
use crate::process::{Process, ProcessId};
use crate::signals::info::{Detail, SI_KERNEL, SI_TIMER, SignalInfo};
use crate::signals::{Recipient, SignalSet};
use crate::system::System;
use crate::task::{TaskId, Wait};

/// Which timer it is.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) enum TimerId {
    /// That of setitimer which counts all time.
    Real,
    /// That which counts the time of the processor in the program.
    Virtual,
    /// That which counts the time of the processor in the program and in the kernel for it, which takes none.
    Profiling,
    /// One that the program made.
    Made {
        number: i32,
        /// Its clock.
        clock: u32,
    },
}

impl TimerId {
    /// The number of one that the program made.
    pub fn number(self) -> Option<i32> {
        match self {
            TimerId::Made { number, .. } => Some(number),
            TimerId::Real | TimerId::Virtual | TimerId::Profiling => None,
        }
    }

    /// The number of its clock. Source: clock_gettime(2).
    pub fn clock(self) -> u64 {
        match self {
            TimerId::Real => 1,
            TimerId::Virtual | TimerId::Profiling => 2,
            TimerId::Made { clock, .. } => clock.into(),
        }
    }

    fn is_cpu(self) -> bool {
        is_cpu_clock(self.clock())
    }

    /// The signal of a timer of setitimer.
    pub fn signal(self) -> u32 {
        let signal = match self {
            TimerId::Virtual => Signal::SIGVTALRM,
            TimerId::Profiling => Signal::SIGPROF,
            TimerId::Real | TimerId::Made { .. } => Signal::SIGALRM,
        };
        signal.number() as u32
    }
}

/// How a timer tells that it ran out.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) enum Notify {
    Nothing,
    /// By a signal with a value, to the process or to one of its tasks.
    Signal {
        number: u32,
        value: u64,
        task: Option<TaskId>,
    },
}

/// A timer.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) struct Timer {
    pub id: TimerId,
    /// When it runs out, in nanoseconds of its clock since the start; `None` if it does not run.
    pub at: Option<u64>,
    /// After how many nanoseconds it does so again; 0 if it does not.
    pub interval: u64,
    pub notify: Notify,
    /// How often it ran out while its signal was pending.
    pub overrun: u64,
}

impl System {
    /// The time of a timer's clock, in nanoseconds since the start.
    pub(crate) fn now_of(&mut self, id: TimerId) -> u64 {
        if id.is_cpu() { self.machine.busy_time() } else { self.machine.time() }
    }

    /// What is left until a timer runs out, 0 if it does not run, and its interval.
    pub(crate) fn remaining(&mut self, id: TimerId) -> (u64, u64) {
        let found = self.process.signals.timers.iter().find(|timer| timer.id == id).copied();
        let Some(timer) = found else { return (0, 0) };
        let now = self.now_of(id);
        // What has not run out has something left.
        let left = timer.at.map_or(0, |at| at.saturating_sub(now).max(1));
        (left, timer.interval)
    }

    /// Sends the signals of timers that ran out.
    pub(crate) fn run_timers(&mut self) {
        let has_any = |process: &Process| !process.signals.timers.is_empty();
        if !has_any(&self.process) && !self.processes.values().any(|process| has_any(process)) {
            return;
        }
        let with: Vec<ProcessId> =
            self.all_processes().filter(|it| has_any(it)).map(|it| it.id).collect();
        with.into_iter().for_each(|process| self.run_timers_of(process));
    }

    fn run_timers_of(&mut self, owner: ProcessId) {
        for index in 0.. {
            let found = self.process(owner).and_then(|it| it.signals.timers.get(index)).copied();
            let Some(Timer { id, at, interval, notify, overrun }) = found else { break };
            let now = self.now_of(id);
            let Some(at) = at.filter(|at| *at <= now) else { continue };
            let missed = (now - at).checked_div(interval).unwrap_or(0);
            let is_pending = match notify {
                Notify::Signal { number, task, .. } if id.number().is_some() => {
                    self.is_pending_from_timer(owner, number, task)
                }
                _ => false,
            };
            let process = self.process_mut(owner);
            let Some(timer) = process.and_then(|it| it.signals.timers.get_mut(index)) else {
                break;
            };
            timer.at =
                (interval != 0).then(|| at.saturating_add(interval.saturating_mul(missed + 1)));
            timer.overrun = if is_pending { overrun + missed + 1 } else { missed };
            if let Notify::Signal { number, value, task } = notify
                && !is_pending
            {
                let (code, detail) = match id {
                    TimerId::Made { number: timer, .. } => {
                        (SI_TIMER, Detail::Timer { timer, overrun: missed as u32, value })
                    }
                    _ => (SI_KERNEL, Detail::None),
                };
                let to = task.map_or(Recipient::Process(owner), Recipient::Task);
                self.send(SignalInfo { number, code, detail }, to);
            }
        }
    }

    fn is_pending_from_timer(&self, owner: ProcessId, number: u32, task: Option<TaskId>) -> bool {
        let is_it = |info: &SignalInfo| info.number == number && info.code == SI_TIMER;
        match task {
            None => self.process(owner).is_some_and(|it| it.signals.pending.iter().any(is_it)),
            Some(task) => {
                let mut tasks = self.scheduler.tasks.iter();
                tasks.any(|other| other.id == task && other.signals.pending.iter().any(is_it))
            }
        }
    }

    /// The first time at which a timer of all time runs out whose signal has an effect on what waits. Without one a timer
    /// that runs out again and again would keep the clock going for ever.
    pub(crate) fn first_timer(&self) -> Option<u64> {
        let timers = self
            .all_processes()
            .flat_map(|process| process.signals.timers.iter().map(move |timer| (process, timer)));
        let running =
            timers.filter(|(process, timer)| !timer.id.is_cpu() && self.has_effect(process, timer));
        running.filter_map(|(_, timer)| timer.at).min()
    }

    fn has_effect(&self, process: &Process, timer: &Timer) -> bool {
        let Notify::Signal { number, .. } = timer.notify else { return false };
        let is_taken = !process.signals.action(number).ignores(number);
        let mut tasks = self.scheduler.tasks.iter().filter(|task| task.process == process.id);
        tasks.any(|task| match task.wait {
            Some(Wait::SignalOf { set, .. }) if SignalSet(set).contains(number) => true,
            _ => is_taken && !task.signals.mask.contains(number),
        })
    }

    /// Instructions that may be executed before a timer runs out.
    pub(crate) fn instructions_to_timer(&mut self) -> u64 {
        let has_any = |process: &Process| !process.signals.timers.is_empty();
        if !has_any(&self.process) && !self.processes.values().any(|process| has_any(process)) {
            return u64::MAX;
        }
        let (now, busy) = (self.machine.time(), self.machine.busy_time());
        let left = |timer: &Timer| {
            let now = if timer.id.is_cpu() { busy } else { now };
            timer.at.map(|at| at.saturating_sub(now))
        };
        let timers = self.all_processes().flat_map(|process| &process.signals.timers);
        timers.filter_map(left).min().unwrap_or(u64::MAX)
    }
}
