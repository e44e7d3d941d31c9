//! The scheduler: tasks are run in rotation, each for a time slice of so many instructions; or in an order and for slices that a
//! seed decides, so that what depends on the order is found.
//!
//! Nothing but the run itself decides when another task is run, so that executing again changes tasks at the same moments.

use sotto_machine::SplitMix64;

use crate::process::ProcessId;
use crate::signals::SignalSet;
use crate::stop::Stop;
use crate::system::System;
use crate::task::{Task, TaskId, TaskState, Wait};

/// Instructions of a time slice.
const TIME_SLICE: u64 = 10_000;
/// Time slices that are drawn have up to 2 to the power of a number below this.
const LONGEST_DRAWN: u64 = 15;

/// The tasks, and what is left of the time slice of the running one.
#[derive(Clone)]
pub(crate) struct Scheduler {
    /// The tasks, in the order in which they are run; there is at least one.
    pub tasks: Vec<Task>,
    /// The one that is to execute the next instruction.
    pub running: usize,
    /// The one whose registers are in the machine.
    pub shown: usize,
    /// The highest number that a task or a process had.
    pub last_id: u32,
    /// Instructions of a time slice.
    slice: u64,
    /// Instructions left of this one.
    left: u64,
    /// What time slices, and who has the next, are drawn from, if they are not in rotation and of one length.
    order: Option<SplitMix64>,
}

impl Scheduler {
    pub fn new(first: ProcessId, interleaving: Option<u64>) -> Scheduler {
        let tasks = vec![Task::new(TaskId(first.0), first, None)];
        let (slice, left) = (TIME_SLICE, TIME_SLICE);
        let order = interleaving.map(SplitMix64);
        let mut scheduler =
            Scheduler { tasks, running: 0, shown: 0, last_id: first.0, slice, left, order };
        scheduler.begin_slice();
        scheduler
    }

    /// Begins a time slice.
    fn begin_slice(&mut self) {
        self.left = match &mut self.order {
            None => self.slice,
            Some(order) => {
                // Short ones find what goes wrong within a few instructions, long ones let a task get far ahead.
                let longest = 1 << (order.next_number() % LONGEST_DRAWN);
                1 + order.next_number() % longest
            }
        };
    }

    /// A number for a task or a process that is made.
    pub fn next_id(&mut self) -> u32 {
        self.last_id += 1;
        self.last_id
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

    /// A wait for something that happens to a descriptor or to a process, up to a time.
    pub(crate) fn event_wait(&self, until: Option<u64>, restarts: bool) -> Wait {
        Wait::Event { since: self.events, until, signals: 0, restarts }
    }

    /// What there is to tell of each task, in the order in which they are run.
    pub fn task_states(&self) -> Vec<TaskState> {
        let state = |task: &Task| {
            let process = self.process(task.process)?;
            Some(TaskState {
                id: task.id,
                process: task.process,
                name: String::from_utf8_lossy(&process.name).into_owned(),
                waits_in: task.waits_in.clone().filter(|_| task.wait.is_some()),
                woken_by: task.woken_by,
                stopped_by: process.stopped,
                is_suspended: process.suspended,
            })
        };
        self.scheduler.tasks.iter().filter_map(state).collect()
    }

    /// The process of a task.
    pub fn process_of(&self, id: TaskId) -> Option<ProcessId> {
        Some(self.scheduler.tasks.iter().find(|task| task.id == id)?.process)
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
        let process = tasks[index].process;
        self.show_process(process);
    }

    /// Adds a task to the process that starts at an address, with registers as the running one has them but for the stack
    /// pointer.
    pub fn add_task(&mut self, start: u64, stack_pointer: u64) -> TaskId {
        self.show_running();
        let (pc, sp) = (self.arch().pc(), self.arch().stack_pointer());
        let id = TaskId(self.scheduler.next_id());
        let cpu = self.machine.cpu().without_calls();
        self.scheduler.tasks.push(Task::new(id, self.process.id, Some(cpu)));
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

    /// Ends the time slice of the running task with the call that it makes.
    pub(crate) fn end_slice(&mut self) {
        self.scheduler.left = 1;
    }

    /// Counts instructions that the running task completed, and runs another when its time slice is used up; whether it is.
    pub(crate) fn count_slice(&mut self, executed: u64) -> bool {
        if self.scheduler.tasks.len() == 1 {
            return false;
        }
        self.scheduler.left = self.scheduler.left.saturating_sub(executed);
        let is_over = self.scheduler.left == 0;
        if is_over {
            // On several processors others write between the reading and the writing of an instruction that is not indivisible.
            if self.scheduler.order.is_some() {
                self.scheduler.current().read_before = self.machine.divisible_update();
            }
            self.run_next();
        }
        is_over
    }

    /// Makes the next task the running one that can go on, which may be the same again. `false` if none can.
    fn run_next(&mut self) -> bool {
        let count = self.scheduler.tasks.len();
        let first = match &mut self.scheduler.order {
            None => self.scheduler.running + 1,
            Some(order) => (order.next_number() % count as u64) as usize,
        };
        let mut order = (0..count).map(|distance| (first + distance) % count);
        let next = order.find(|&index| self.can_go_on(index));
        if let Some(next) = next {
            self.run_task(next);
        }
        next.is_some()
    }

    fn run_task(&mut self, index: usize) {
        let scheduler = &mut self.scheduler;
        scheduler.running = index;
        scheduler.begin_slice();
        self.show(index);
        if let Some((address, bytes)) = self.scheduler.tasks[index].read_before.take()
            && !self.has_signal(index)
        {
            // The instruction is the next that is executed: nobody else sees what it reads.
            let _ = self.machine.memory_mut().load(address, &bytes);
        }
    }

    /// Whether what a task waits for is so; input is waited for by all.
    pub(crate) fn is_met(&mut self, index: usize) -> bool {
        let task = &self.scheduler.tasks[index];
        if task.wait.is_none() {
            return true;
        }
        let is_woken = task.futex.as_ref().is_some_and(|futex| futex.is_woken);
        let now = self.machine.time();
        match self.scheduler.tasks[index].wait {
            None => true,
            Some(Wait::Until(time)) => time <= now,
            Some(Wait::Input) => self.peek_input(1).is_some(),
            Some(Wait::Signal) => false,
            Some(Wait::SignalOf { set, until }) => {
                until.is_some_and(|time| time <= now) || self.has_pending(index, SignalSet(set))
            }
            Some(Wait::Event { since, until, signals, .. }) => {
                since != self.events
                    || until.is_some_and(|time| time <= now)
                    || self.has_pending(index, SignalSet(signals))
            }
            Some(Wait::Futex { until }) => is_woken || until.is_some_and(|time| time <= now),
        }
    }

    /// Whether a task has something to execute, or a signal to take.
    fn can_go_on(&mut self, index: usize) -> bool {
        let process = self.process(self.scheduler.tasks[index].process);
        if process.is_some_and(|process| process.stopped.is_some() || process.suspended) {
            return false;
        }
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
            let times = self.scheduler.tasks.iter().filter_map(|task| task.wait?.until());
            let Some(first) = times.chain(self.first_timer()).min() else {
                return Some(Stop::Stuck);
            };
            let now = self.machine.time();
            self.machine.pass_idle_time(first.saturating_sub(now));
        }
    }

    /// Takes tasks away; `false` if there would be none left, and they stay. If the running one is among them, the next is run.
    pub(crate) fn remove_tasks(&mut self, is_ended: impl Fn(&Task) -> bool) -> bool {
        let (count, running) = (self.scheduler.tasks.len(), self.scheduler.running);
        let order = (1..=count).map(|distance| (running + distance) % count);
        let left: Vec<usize> = order.filter(|&at| !is_ended(&self.scheduler.tasks[at])).collect();
        let Some(&first) = left.first() else { return false };
        if is_ended(&self.scheduler.tasks[running]) {
            let next = left.into_iter().find(|&index| self.can_go_on(index)).unwrap_or(first);
            self.run_task(next);
        }
        self.show_running();
        let running = self.running_task();
        let scheduler = &mut self.scheduler;
        scheduler.tasks.retain(|task| !is_ended(task));
        let at = scheduler.tasks.iter().position(|task| task.id == running).unwrap_or(0);
        (scheduler.running, scheduler.shown) = (at, at);
        true
    }
}
