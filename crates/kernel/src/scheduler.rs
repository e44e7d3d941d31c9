//! The scheduler: tasks are run in rotation, each for a time slice of so many instructions.
//!
//! Nothing but the run itself decides when another task is run, so that executing again changes tasks at the same moments.

use crate::signals::SignalSet;
use crate::stop::Stop;
use crate::system::System;
use crate::task::{Task, TaskId, Wait};

/// Instructions of a time slice.
const TIME_SLICE: u64 = 10_000;

/// The tasks, and what is left of the time slice of the running one.
#[derive(Clone)]
pub(crate) struct Scheduler {
    /// The tasks, in the order in which they are run; there is at least one.
    pub tasks: Vec<Task>,
    /// The one that is to execute the next instruction.
    pub running: usize,
    /// The one whose registers are in the machine.
    pub shown: usize,
    /// Instructions of a time slice.
    slice: u64,
    /// Instructions left of this one.
    left: u64,
}

impl Scheduler {
    pub fn new(first: TaskId) -> Scheduler {
        let tasks = vec![Task::new(first, None)];
        Scheduler { tasks, running: 0, shown: 0, slice: TIME_SLICE, left: TIME_SLICE }
    }

    /// The task that is to execute the next instruction.
    pub fn current(&mut self) -> &mut Task {
        &mut self.tasks[self.running]
    }

    /// Puts back the mask from before a call that waited under another, when no signal ended the wait.
    pub fn restore_mask(&mut self) {
        let signals = &mut self.current().signals;
        if let Some(mask) = signals.saved_mask.take() {
            signals.mask = mask;
        }
    }

    /// Instructions that may be executed before another task is run.
    pub fn left(&self) -> u64 {
        if self.tasks.len() > 1 { self.left } else { u64::MAX }
    }

    /// Bytes that a snapshot of it takes.
    pub fn bytes(&self) -> usize {
        self.tasks.iter().map(Task::bytes).sum()
    }
}

impl System {
    /// The tasks, in the order in which they are run.
    pub fn tasks(&self) -> impl Iterator<Item = TaskId> {
        self.scheduler.tasks.iter().map(|task| task.id)
    }

    /// The task that is to execute the next instruction.
    pub fn running_task(&self) -> TaskId {
        self.scheduler.tasks[self.scheduler.running].id
    }

    /// The task whose registers and calls [`System::machine`] has.
    pub fn shown_task(&self) -> TaskId {
        self.scheduler.tasks[self.scheduler.shown].id
    }

    /// What a task waits for, if it does.
    pub fn wait_of(&self, id: TaskId) -> Option<Wait> {
        self.scheduler.tasks.iter().find(|task| task.id == id)?.wait
    }

    /// Puts a task's registers and calls into the machine, to be looked at and changed; what runs on is the running
    /// task. `false` if there is no such task.
    pub fn show_task(&mut self, id: TaskId) -> bool {
        let found = self.scheduler.tasks.iter().position(|task| task.id == id);
        found.inspect(|&index| self.show(index)).is_some()
    }

    /// Puts the registers of the running task into the machine.
    pub fn show_running(&mut self) {
        self.show(self.scheduler.running);
    }

    fn show(&mut self, index: usize) {
        let Scheduler { tasks, shown, .. } = &mut self.scheduler;
        let Some(mut cpu) = tasks[index].cpu.take() else { return };
        self.machine.swap_cpu(&mut cpu);
        tasks[*shown].cpu = Some(cpu);
        *shown = index;
    }

    /// Adds a task to the process that starts at an address, with registers as the running one has them but for the stack
    /// pointer.
    pub fn add_task(&mut self, start: u64, stack_pointer: u64) -> TaskId {
        self.show_running();
        let (pc, sp) = (self.arch().pc(), self.arch().stack_pointer());
        let last = self.scheduler.tasks.iter().map(|task| task.id.0).max().unwrap_or_default();
        let id = TaskId(last + 1);
        self.scheduler.tasks.push(Task::new(id, Some(self.machine.cpu().without_calls())));
        self.show_task(id);
        self.machine.set_register(pc, start);
        self.machine.set_register(sp, stack_pointer);
        self.show_running();
        id
    }

    /// Sets how many instructions a time slice has, from the next one on.
    pub fn set_time_slice(&mut self, instructions: u64) {
        self.scheduler.slice = instructions.max(1);
        self.scheduler.left = self.scheduler.slice;
    }

    /// Counts instructions that the running task completed, and runs another when its time slice is used up; whether it is.
    pub(crate) fn count_slice(&mut self, executed: u64) -> bool {
        if self.scheduler.tasks.len() == 1 {
            return false;
        }
        self.scheduler.left = self.scheduler.left.saturating_sub(executed);
        let is_over = self.scheduler.left == 0;
        if is_over {
            self.run_next();
        }
        is_over
    }

    /// Makes the next task the running one that can go on, which may be the same again. `false` if none can.
    fn run_next(&mut self) -> bool {
        let (count, running) = (self.scheduler.tasks.len(), self.scheduler.running);
        let mut order = (1..=count).map(|distance| (running + distance) % count);
        let next = order.find(|&index| self.can_go_on(index));
        if let Some(next) = next {
            self.run_task(next);
        }
        next.is_some()
    }

    fn run_task(&mut self, index: usize) {
        self.scheduler.running = index;
        self.scheduler.left = self.scheduler.slice;
        self.show(index);
    }

    /// Whether what a task waits for is so; input is waited for by all.
    pub(crate) fn is_met(&mut self, index: usize) -> bool {
        if self.scheduler.tasks[index].wait.is_none() {
            return true;
        }
        let now = self.machine.time();
        match self.scheduler.tasks[index].wait {
            None => true,
            Some(Wait::Until(time)) => time <= now,
            Some(Wait::Input) => self.peek_input(1).is_some(),
            Some(Wait::Signal) => false,
            Some(Wait::SignalOf { set, until }) => {
                until.is_some_and(|time| time <= now) || self.has_pending(index, SignalSet(set))
            }
        }
    }

    /// Whether a task has something to execute, or a signal to take.
    fn can_go_on(&mut self, index: usize) -> bool {
        self.is_met(index) || self.has_signal(index)
    }

    /// Sees to it that the running task can go on, and if all wait, lets time pass up to the first of the
    /// times that they wait for. A stop if that needs something from outside.
    pub(crate) fn schedule(&mut self) -> Option<Stop> {
        self.show_running();
        loop {
            self.run_timers();
            let running = self.scheduler.running;
            if self.can_go_on(running) {
                return None;
            }
            if self.scheduler.tasks[running].wait == Some(Wait::Input) {
                return Some(Stop::NeedsInput);
            }
            if self.run_next() {
                return None;
            }
            let times = self.scheduler.tasks.iter().filter_map(|task| match task.wait {
                Some(Wait::Until(time)) => Some(time),
                Some(Wait::SignalOf { until, .. }) => until,
                _ => None,
            });
            let Some(first) = times.chain(self.first_timer()).min() else {
                return Some(Stop::Stuck);
            };
            let now = self.machine.time();
            self.machine.pass_idle_time(first.saturating_sub(now));
        }
    }

    /// Takes the running task away, if there are others; whether there were.
    pub(crate) fn end_task(&mut self) -> bool {
        let ended = self.scheduler.running;
        if self.scheduler.tasks.len() == 1 {
            return false;
        }
        if !self.run_next() || self.scheduler.running == ended {
            let next = (ended + 1) % self.scheduler.tasks.len();
            self.run_task(next);
        }
        self.scheduler.tasks.remove(ended);
        let Scheduler { running, shown, .. } = &mut self.scheduler;
        if *running > ended {
            *running -= 1;
        }
        *shown = *running;
        true
    }
}
