//! Running and stepping a system, and what becomes of the machine's events: endings, deliveries, answers of system calls.

use std::sync::Arc;
use std::time::{Duration, Instant};

use sotto_machine::{
    Event, Fault, MemoryFault, MemoryFaultKind, Run, Signal, Step, StepEffects, Watcher,
};

use crate::report::CompletedCall;
use crate::signals::Recipient;
use crate::signals::deliver::Delivery;
use crate::signals::info::{Detail, SI_USER, SignalInfo};
use crate::stop::{Progress, Stop, Termination};
use crate::system::System;
use crate::task::TaskId;

/// A run with system calls in it pauses after so long, so that somebody can ask it to stop.
const LONGEST_WITH_CALLS: Duration = Duration::from_millis(20);

/// What became of an event of the machine.
pub(crate) enum Handled {
    /// The instruction at which it happened is completed, or nothing was in the way of it: go on.
    GoOn,
    /// The running task waits; the instruction is not completed.
    Waits,
    /// Running stops.
    Stop(Stop),
}

impl System {
    /// Runs until the program ends, needs input, writes output, reaches a stop, or `budget`
    /// instructions are completed.
    pub fn run(&mut self, budget: u64) -> Progress {
        self.run_by(budget, None)
    }

    /// Runs likewise under a watcher, which can stop it with [`Stop::Written`].
    pub fn run_watched(&mut self, budget: u64, watcher: &mut Watcher) -> Progress {
        self.run_by(budget, Some(watcher))
    }

    fn run_by(&mut self, budget: u64, mut watcher: Option<&mut Watcher>) -> Progress {
        let start = self.executed;
        let mut started: Option<Instant> = None;
        // The task that ran last, until its time slice is used up.
        let mut same = Some(self.running_task());
        let stop = loop {
            if let Some(stop) = self.begin() {
                break stop;
            }
            let task = self.running_task();
            if same.replace(task) != Some(task)
                && self.wait_of(task).is_none()
                && self.machine.is_stop(self.machine.pc())
            {
                break Stop::Place;
            }
            let left = budget - (self.executed - start);
            if left > 0
                && let Some(delivery) = self.deliver()
            {
                let space = u64::from(self.space.id.0);
                let watcher = watcher.as_deref_mut().filter(|watcher| watcher.looks_at(space));
                match self.delivered(delivery, task, watcher) {
                    Some(stop) => break stop,
                    None => continue,
                }
            }
            let left = left.min(self.scheduler.left()).min(self.instructions_to_timer());
            let space = u64::from(self.space.id.0);
            let mut watcher = watcher.as_deref_mut().filter(|watcher| watcher.looks_at(space));
            let run: Run = match &mut watcher {
                Some(watcher) => {
                    watcher.watch_registers_of(u64::from(task.0));
                    self.machine.run_watched(left, watcher)
                }
                None => self.machine.run(left),
            };
            self.executed += run.executed;
            // A time slice ends with the event `Budget` or before the next instruction: any other event is of the task that ran.
            if self.count_slice(run.executed) {
                same = None;
            }
            if !run.event.is_syscall() {
                match self.handle(run.event) {
                    Handled::Stop(stop) => break stop,
                    Handled::GoOn | Handled::Waits if self.executed - start == budget => {
                        break Stop::Budget;
                    }
                    Handled::GoOn | Handled::Waits => continue,
                }
            }
            if self.stops_at_calls {
                break Stop::AtCall;
            }
            let started = *started.get_or_insert_with(Instant::now);
            let outputs = self.output.len();
            let caller = watcher.is_some().then(|| self.machine.next_instruction().ok()).flatten();
            let before = self.executed;
            let handled = self.handle(run.event);
            if let (Some(watcher), Some(instruction)) = (&mut watcher, &caller)
                && self.executed > before
            {
                let call = self.made.last().filter(|call| call.moment == before);
                for written in call.iter().flat_map(|call| &call.report.written) {
                    watcher.note_kernel_write(written.address, written.bytes);
                }
                watcher.completed_syscall(before, instruction);
            }
            match handled {
                Handled::Stop(stop) => break stop,
                Handled::Waits => continue,
                Handled::GoOn => {}
            }
            if watcher.as_ref().is_some_and(|watcher| watcher.wants_stop()) {
                break Stop::Written;
            }
            if self.output.len() > outputs {
                break Stop::Output;
            }
            // The machine takes the next run to start at a stop that was seen.
            if self.machine.is_stop(self.machine.pc()) {
                break Stop::Place;
            }
            // A call may take as long as many instructions.
            if started.elapsed() > LONGEST_WITH_CALLS {
                break Stop::Paused;
            }
        };
        Progress { executed: self.executed - start, stop }
    }

    /// What becomes of a run in which a signal was delivered to a task; `None` if it goes on.
    fn delivered(
        &mut self,
        delivery: Delivery,
        task: TaskId,
        watcher: Option<&mut Watcher>,
    ) -> Option<Stop> {
        let written = std::mem::take(&mut self.written);
        if let Delivery::Ended(ending) = delivery {
            return match self.end(ending) {
                Handled::Stop(stop) => Some(stop),
                Handled::GoOn | Handled::Waits => None,
            };
        }
        if let Some(watcher) = watcher {
            watcher.watch_registers_of(u64::from(task.0));
            for write in &written {
                watcher.note_kernel_write(write.address, write.bytes);
            }
            watcher.completed_delivery(self.executed - 1);
            if watcher.wants_stop() {
                return Some(Stop::Written);
            }
        }
        self.machine.is_stop(self.machine.pc()).then_some(Stop::Place)
    }

    /// Makes ready to execute something; the stop if that cannot be.
    fn begin(&mut self) -> Option<Stop> {
        if let Some(ending) = self.ending {
            return Some(Stop::Terminated(ending));
        }
        (self.unfinished, self.at_memory_limit) = (false, false);
        let stop = self.schedule();
        self.stuck = stop == Some(Stop::Stuck);
        self.interrupt_wait();
        stop
    }

    /// Carries out what an event of the machine asks for: an ending, the answer of a system call, a pause.
    fn handle(&mut self, event: Event) -> Handled {
        match event {
            // The time slice may have ended before the budget did.
            Event::Budget => Handled::GoOn,
            Event::Paused => Handled::Stop(Stop::Paused),
            Event::Unfinished => {
                self.unfinished = true;
                Handled::Stop(Stop::Unfinished)
            }
            Event::Stop => Handled::Stop(Stop::Place),
            Event::Written => Handled::Stop(Stop::Written),
            Event::Fault(Fault::Memory(MemoryFault { kind: MemoryFaultKind::Limit, .. })) => {
                self.at_memory_limit = true;
                Handled::Stop(Stop::MemoryLimit)
            }
            Event::Fault(fault) if self.raise(fault) => Handled::GoOn,
            Event::Fault(fault) => self.end(Termination::Killed(fault.signal(), fault)),
            Event::Syscall | Event::Syscall32 | Event::Sysenter => self.make_call(event),
        }
    }

    /// Executes one instruction, a system call with it if it makes one, and says what it did.
    ///
    /// The stop is [`Stop::Budget`] if the program can go on, and [`Stop::Unfinished`] if the machine's interrupt was
    /// asked for in the middle of the instruction. With [`Stop::Switched`] nothing was executed, since the task waits now;
    /// the next step is another task's.
    pub fn step(&mut self) -> (Step, Option<Arc<CompletedCall>>, Stop) {
        let nothing = |stop| {
            let effects = Default::default();
            (Step { instruction: None, effects, event: None, jumped: false }, None, stop)
        };
        let (task, before) = (self.running_task(), self.executed);
        loop {
            if let Some(stop) = self.begin() {
                return nothing(stop);
            }
            if self.running_task() != task {
                return nothing(Stop::Switched);
            }
            let has_signal = self.has_signal(self.scheduler.running);
            let before_delivery = has_signal.then(|| self.machine.cpu_state());
            match self.deliver() {
                Some(Delivery::Ended(ending)) => match self.end(ending) {
                    Handled::Stop(stop) => return nothing(stop),
                    Handled::GoOn | Handled::Waits => continue,
                },
                Some(Delivery::Handler(number)) => {
                    let (mut step, ..) = nothing(Stop::Budget);
                    if let Some(before) = before_delivery {
                        step.effects = self.machine.effects_since(&before);
                    }
                    self.delivery = std::mem::take(&mut self.written);
                    return (step, None, Stop::Delivered(number));
                }
                None => {}
            }
            let mut step = self.machine.step();
            let Some(event) = step.event else {
                self.executed += 1;
                self.count_slice(1);
                return (step, None, Stop::Budget);
            };
            let stop = match self.handle(event) {
                // A handler takes the signal of a fault, or it ended another process than the first.
                Handled::GoOn if matches!(event, Event::Fault(_)) => {
                    self.machine.take_back(step.effects);
                    continue;
                }
                Handled::GoOn => Stop::Budget,
                // The call is made again for the rest of what it transfers.
                Handled::Stop(Stop::Unfinished)
                    if event != Event::Unfinished && !self.machine.is_interrupted() =>
                {
                    self.unfinished = false;
                    self.machine.take_back(step.effects);
                    continue;
                }
                Handled::Stop(stop) => stop,
                Handled::Waits => {
                    self.machine.take_back(step.effects);
                    continue;
                }
            };
            let made =
                self.made.last().filter(|call| call.moment == before && self.executed > before);
            let made = made.cloned();
            if made.is_some() {
                self.add_answer(task, &mut step.effects);
            }
            return (step, made, stop);
        }
    }

    /// Makes the effects of an instruction that made a system call complete: what it and the kernel wrote into registers.
    fn add_answer(&mut self, task: TaskId, effects: &mut StepEffects) {
        if !self.show_task(task) {
            return;
        }
        for change in &mut effects.registers {
            if let Some(storage) = change.reg.storage() {
                change.new = self.machine.register(storage);
            }
        }
        self.show_running();
    }

    /// Whether the running task has begun a system call that waits.
    pub fn is_waiting(&self) -> bool {
        self.wait_of(self.running_task()).is_some()
    }

    /// Sends the process a signal from outside. `in_wait` says that the running task is about to begin a call that waits:
    /// the signal comes when it has.
    pub fn send_signal(&mut self, signal: Signal, in_wait: bool) {
        if in_wait && !self.is_waiting() {
            self.show_running();
            let step = self.machine.step();
            if let Some(event) = step.event {
                self.handle(event);
            }
            self.machine.take_back(step.effects);
        }
        let detail = Detail::Sender { process: 0, user: 0, value: 0 };
        let info = SignalInfo { number: signal.number() as u32, code: SI_USER, detail };
        self.send(info, Recipient::Process(self.first_process));
    }
}
