//! Running and stepping a system, and what becomes of the machine's events: endings, answers of system calls, turns.

use std::sync::Arc;
use std::time::{Duration, Instant};

use sotto_machine::{
    Event, Fault, MemoryFault, MemoryFaultKind, Run, Signal, Step, StepEffects, Watcher,
};

use crate::abi::SyscallAbi;
use crate::calls::call::{Answer, Call, Outcome};
use crate::report::{self, ArgumentsBefore, CompletedCall, Notice, RepeatedNotice, SyscallReport};
use crate::signals::deliver::Delivery;
use crate::signals::info::{Detail, SI_USER, SignalInfo};
use crate::stop::{Progress, Stop, Termination};
use crate::system::System;
use crate::table::SyscallRow;
use crate::target::target;
use crate::task::TaskId;
use crate::{Errno, names, table, vdso};

/// A run with system calls in it pauses after so long, so that somebody can ask it to stop.
const LONGEST_WITH_CALLS: Duration = Duration::from_millis(20);

/// As many system calls are kept at least, and twice as many at most.
const KEPT_CALLS: usize = 128;

/// What became of an event of the machine.
enum Handled {
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
        // The task that ran last, while its turn lasts.
        let mut turn_of = Some(self.running_task());
        let stop = loop {
            if let Some(stop) = self.begin() {
                break stop;
            }
            let task = self.running_task();
            if turn_of.replace(task) != Some(task)
                && self.wait_of(task).is_none()
                && self.machine.is_stop(self.machine.pc())
            {
                break Stop::Place;
            }
            let left = budget - (self.executed - start);
            if left > 0 {
                match self.deliver() {
                    Some(Delivery::Ended(ending)) => {
                        self.ending = Some(ending);
                        break Stop::Terminated(ending);
                    }
                    Some(Delivery::Handler(_)) => {
                        if let Some(watcher) = &mut watcher {
                            watcher.watch_registers_of(u64::from(task.0));
                            for written in &std::mem::take(&mut self.written) {
                                watcher.note_kernel_write(written.address, written.bytes);
                            }
                            watcher.completed_delivery(self.executed - 1);
                            if watcher.wants_stop() {
                                break Stop::Written;
                            }
                        }
                        self.written.clear();
                        if self.machine.is_stop(self.machine.pc()) {
                            break Stop::Place;
                        }
                        continue;
                    }
                    None => {}
                }
            }
            let left = left.min(self.scheduler.left()).min(self.instructions_to_timer());
            let run: Run = match &mut watcher {
                Some(watcher) => {
                    watcher.watch_registers_of(u64::from(task.0));
                    self.machine.run_watched(left, watcher)
                }
                None => self.machine.run(left),
            };
            self.executed += run.executed;
            // A turn ends with the event `Budget` or before the next instruction, so that what is left to do is the task's.
            if self.count_turn(run.executed) {
                turn_of = None;
            }
            let is_call = matches!(run.event, Event::Syscall | Event::Syscall32 | Event::Sysenter);
            if !is_call {
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
            // The turn may have ended before the budget did.
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

    fn end(&mut self, ending: Termination) -> Handled {
        self.ending = Some(ending);
        Handled::Stop(Stop::Terminated(ending))
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
                Some(Delivery::Ended(ending)) => {
                    self.ending = Some(ending);
                    return nothing(Stop::Terminated(ending));
                }
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
                self.count_turn(1);
                return (step, None, Stop::Budget);
            };
            let stop = match self.handle(event) {
                // A handler takes the signal of a fault.
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
        self.send(info, None);
    }

    /// The way into the kernel that the machine took.
    fn door(&self, event: Event) -> SyscallAbi {
        if matches!(event, Event::Syscall32 | Event::Sysenter) {
            return SyscallAbi::X86_32;
        }
        target(self.arch()).abi
    }

    /// Completes the instruction that makes a system call, with the result if the call returns.
    fn complete(&mut self, event: Event, result: Option<i64>) {
        self.machine.complete_syscall(event);
        self.executed += 1;
        if let Some(result) = result {
            // As wide as a register is there.
            let arch = self.arch();
            let value = result as u64 & arch.address_width().mask();
            self.machine.set_register(arch.convention().syscall_result, value);
        }
        if event == Event::Sysenter && result.is_some() {
            vdso::go_on(&mut self.machine);
        }
    }

    /// Makes the system call that the next instruction asks for.
    fn make_call(&mut self, event: Event) -> Handled {
        let (moment, at, task) = (self.executed, self.machine.pc(), self.running_task());
        let abi = self.door(event);
        let convention = self.arch().convention();
        let number_register = convention.syscall_number;
        let number = number_register.storage().map_or(0, |storage| self.machine.register(storage));
        let registers = abi.arch().convention().syscall_arguments;
        let mut given: Vec<u64> =
            registers.iter().map(|storage| self.machine.register(*storage)).collect();
        let mut refused = None;
        if let (Event::Sysenter, Some(sixth)) = (event, given.get_mut(5)) {
            match vdso::sixth_argument(&mut self.machine) {
                Some(value) => *sixth = value,
                // Nothing is called then. Source: Linux, `arch/x86/entry/common.c`, `do_fast_syscall_32`.
                None => refused = Some(Errno::EFAULT.result()),
            }
        }
        let cut = |value: u64| if abi == SyscallAbi::X86_32 { value & 0xffff_ffff } else { value };
        // To the kernel the number is an int. Source: Linux, `do_syscall_64`, `el0_svc_common`.
        let (number, values) =
            (number & 0xffff_ffff, given.iter().map(|&v| cut(v)).collect::<Vec<u64>>());
        let mut report = SyscallReport {
            abi,
            number,
            name: names::name(abi, number),
            is_modelled: false,
            arguments: Vec::new(),
            written: Vec::new(),
            result: None,
            result_is_address: false,
            notice: None,
        };
        let Some(row) = table::by_number(abi, number) else {
            let result = Errno::ENOSYS.result();
            report.notice = Some(not_modelled(abi, number));
            report.result = Some(result);
            self.complete(event, Some(result));
            self.keep(CompletedCall { moment, task, at, report });
            self.count_turn(1);
            return Handled::GoOn;
        };
        let before = ArgumentsBefore::new(row.arguments, &values, self);
        let Answer { outcome, notice } = match refused {
            Some(result) => Outcome::Returned(result).into(),
            None => {
                let mut six = [0; 6];
                six.iter_mut().zip(&values).for_each(|(register, value)| *register = *value);
                let task = self.scheduler.current();
                let waited = task.wait.take();
                let interrupted = std::mem::take(&mut task.interrupted);
                let mut call = Call { system: self, abi, waited, interrupted };
                let mut answer = (row.perform)(&mut call, &six);
                if interrupted && matches!(answer.outcome, Outcome::Waits(_)) {
                    answer.outcome = Errno::EINTR.into();
                }
                answer
            }
        };
        (report.name, report.is_modelled) = (Some(row.name), true);
        report.result_is_address = row.returns_address;
        let mistaken = || match outcome {
            Outcome::Returned(result) if result == Errno::EFAULT.result() => mistaken(abi, row),
            _ => None,
        };
        let cut = report::cut(row.arguments, &given, &values);
        report.notice = cut.or(notice).or_else(mistaken);
        let result = match outcome {
            Outcome::Returned(result) => Some(result),
            Outcome::TaskEnded(_) | Outcome::Terminated(_) => None,
            Outcome::LeavesHandler { .. } => None,
            // It is made again when that is so, or for the rest.
            Outcome::Waits(wait) => {
                self.written.clear();
                self.scheduler.current().wait = Some(wait);
                return Handled::Waits;
            }
            Outcome::Unfinished => {
                self.unfinished = true;
                return Handled::Stop(Stop::Unfinished);
            }
        };
        report.result = result;
        report.written = std::mem::take(&mut self.written);
        let filled = result.and_then(|result| u64::try_from(result).ok()).filter(|&n| n > 0);
        report.arguments =
            report::arguments(row.arguments, &values, abi, &mut self.machine, &before, filled);
        self.complete(event, result);
        self.keep(CompletedCall { moment, task, at, report });
        let ending = match outcome {
            Outcome::Terminated(ending) => Some(ending),
            Outcome::TaskEnded(status) if !self.end_task() => Some(Termination::Exited(status)),
            Outcome::TaskEnded(_) => None,
            // Without a frame the program is killed. Source: Linux, `signal_fault`.
            Outcome::LeavesHandler { is_first_form }
                if self.leave_handler(is_first_form).is_err() =>
            {
                let signal = Signal::SIGSEGV;
                Some(Termination::Killed(signal, Fault::Raised(signal)))
            }
            _ => {
                self.count_turn(1);
                None
            }
        };
        ending.map_or(Handled::GoOn, |ending| self.end(ending))
    }

    /// Keeps what a call was, and what there is to say about it.
    fn keep(&mut self, call: CompletedCall) {
        let report = &call.report;
        if report.notice.is_some() {
            let same = |noticed: &&mut RepeatedNotice| noticed.call.notice == report.notice;
            let has_room = self.noticed.len() < KEPT_CALLS;
            match self.noticed.iter_mut().find(same) {
                Some(noticed) => noticed.times += 1,
                // Who does not collect them is told of the first ones.
                None if has_room => {
                    self.noticed.push(RepeatedNotice { call: report.clone(), times: 1 });
                }
                None => {}
            }
        }
        if self.made.len() >= 2 * KEPT_CALLS {
            self.made.drain(..KEPT_CALLS);
        }
        self.made.push(Arc::new(call));
    }
}

/// What to say about a call that found no memory where it was told, if its number is that of a common call elsewhere.
fn mistaken(abi: SyscallAbi, row: &SyscallRow) -> Option<Notice> {
    let number = row.number_in(abi)?;
    let (machine, meant) =
        table::elsewhere(abi, number).into_iter().find(|(_, row)| is_common(row.name))?;
    let (name, own_name, own) = (meant.name, abi.name(), meant.number_in(abi)?);
    Some(Notice {
        message: format!("`{}` returned EFAULT", row.name),
        help: Some(format!("{number} is `{name}` on {machine}; on {own_name} `{name}` is {own}")),
    })
}

/// Whether a call is one of those that first programs make.
fn is_common(name: &str) -> bool {
    matches!(name, "read" | "write" | "open" | "exit")
}

/// What to say about a call that is not modelled.
fn not_modelled(abi: SyscallAbi, number: u64) -> Notice {
    let own_name = abi.name();
    let message = match names::name(abi, number) {
        Some(name) => {
            format!(
                "`{name}`, system call {number} of {own_name}, is not modelled; it returned ENOSYS"
            )
        }
        None => format!("{own_name} has no system call {number}; it returned ENOSYS"),
    };
    // A number that means something else here is a mistake only if it is one that people know.
    let is_unknown = names::name(abi, number).is_none();
    let elsewhere = table::elsewhere(abi, number);
    let mut elsewhere = elsewhere.iter().filter(|(_, row)| is_unknown || is_common(row.name));
    let help = elsewhere.next().map(|(machine, row)| {
        let name = row.name;
        match row.number_in(abi) {
            Some(own) => {
                format!("{number} is `{name}` on {machine}; on {own_name} `{name}` is {own}")
            }
            None => format!("{number} is `{name}` on {machine}; {own_name} has no such call"),
        }
    });
    Notice { message, help }
}
