//! Running and stepping a process: the machine's events, and the system calls among them.

use std::sync::Arc;
use std::time::{Duration, Instant};

use sotto_machine::{Event, Fault, MemoryFault, MemoryFaultKind, Run, Step, Watcher};

use crate::abi::SyscallAbi;
use crate::calls::call::{Answer, Call, Outcome};
use crate::process::{CompletedCall, Process, Progress, RepeatedNotice, Stop, Termination};
use crate::report::{self, Notice, SyscallReport};
use crate::target::target;
use crate::{Errno, table, vdso};

/// A run with system calls in it pauses after so long, so that somebody can ask it to stop.
const LONGEST_WITH_CALLS: Duration = Duration::from_millis(20);

/// As many system calls are kept at least, and twice as many at most.
const KEPT_CALLS: usize = 128;

impl Process {
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
        let mut executed = 0;
        let mut started: Option<Instant> = None;
        loop {
            if let Some(ending) = self.ending {
                return Progress { executed, stop: Stop::Terminated(ending) };
            }
            (self.unfinished, self.at_memory_limit) = (false, false);
            let left = budget - executed;
            let run: Run = match &mut watcher {
                Some(watcher) => self.machine.run_watched(left, watcher),
                None => self.machine.run(left),
            };
            executed += run.executed;
            self.executed += run.executed;
            let stop = match run.event {
                Event::Budget => Some(Stop::Budget),
                Event::Paused => Some(Stop::Paused),
                Event::Unfinished => {
                    self.unfinished = true;
                    Some(Stop::Unfinished)
                }
                Event::Stop => Some(Stop::Place),
                Event::Written => Some(Stop::Written),
                Event::Fault(fault) => Some(self.stop_by(fault)),
                Event::Syscall | Event::Syscall32 | Event::Sysenter if self.stops_at_calls => {
                    self.undo_call(run.event);
                    executed -= 1;
                    Some(Stop::AtCall)
                }
                Event::Syscall | Event::Syscall32 | Event::Sysenter => {
                    let started = *started.get_or_insert_with(Instant::now);
                    let outputs = self.output.len();
                    let before = self.executed - 1;
                    let stop = self.syscall(run.event);
                    if let (Some(watcher), Some(call)) = (&mut watcher, self.made.last())
                        && call.moment == before
                    {
                        for written in &call.report.written {
                            watcher.note_kernel_write(written.address, written.bytes);
                        }
                        watcher.kernel_wrote(before, call.at);
                    }
                    let written = watcher.as_ref().is_some_and(|watcher| watcher.wants_stop());
                    match stop.or(written.then_some(Stop::Written)) {
                        Some(stop @ (Stop::NeedsInput | Stop::Unfinished)) => {
                            executed -= 1;
                            Some(stop)
                        }
                        Some(stop) => Some(stop),
                        None if self.output.len() > outputs => Some(Stop::Output),
                        // The machine takes the next run to start at a stop that was seen.
                        None if self.machine.is_stop(self.machine.pc()) => Some(Stop::Place),
                        // A call may take as long as many instructions.
                        None if started.elapsed() > LONGEST_WITH_CALLS => Some(Stop::Paused),
                        None => None,
                    }
                }
            };
            if let Some(stop) = stop {
                return Progress { executed, stop };
            }
        }
    }

    fn stop_by(&mut self, fault: Fault) -> Stop {
        if let Fault::Memory(MemoryFault { kind: MemoryFaultKind::Limit, .. }) = fault {
            self.at_memory_limit = true;
            return Stop::MemoryLimit;
        }
        let ending = Termination::Killed(fault.signal(), fault);
        self.ending = Some(ending);
        Stop::Terminated(ending)
    }

    /// Executes one instruction, a system call with it if it makes one, and says what it did.
    ///
    /// The stop is [`Stop::Budget`] if the program can go on, and [`Stop::Unfinished`] if the machine's interrupt was
    /// asked for in the middle of the instruction.
    pub fn step(&mut self) -> (Step, Option<Arc<CompletedCall>>, Stop) {
        if let Some(ending) = self.ending {
            let effects = Default::default();
            let step = Step { instruction: None, effects, event: None, jumped: false };
            return (step, None, Stop::Terminated(ending));
        }
        (self.unfinished, self.at_memory_limit) = (false, false);
        let mut step = self.machine.step();
        let stop = match step.event {
            Some(Event::Fault(fault)) => self.stop_by(fault),
            Some(Event::Unfinished) => {
                self.unfinished = true;
                Stop::Unfinished
            }
            Some(event @ (Event::Syscall | Event::Syscall32 | Event::Sysenter)) => {
                self.executed += 1;
                let mut stop = self.syscall(event).unwrap_or(Stop::Budget);
                while stop == Stop::Unfinished && !self.machine.is_interrupted() {
                    // The instruction is made again for the rest of what its call transfers.
                    self.machine.take_back(std::mem::take(&mut step.effects));
                    step = self.machine.step();
                    self.executed += 1;
                    self.unfinished = false;
                    stop = self.syscall(event).unwrap_or(Stop::Budget);
                }
                // The kernel wrote registers after the instruction itself.
                for change in &mut step.effects.registers {
                    if let Some(storage) = change.reg.storage() {
                        change.new = self.machine.register(storage);
                    }
                }
                stop
            }
            _ => {
                self.executed += 1;
                Stop::Budget
            }
        };
        let called =
            matches!(step.event, Some(Event::Syscall | Event::Syscall32 | Event::Sysenter));
        let made = self.made.last().filter(|call| called && call.moment + 1 == self.executed);
        let made = made.cloned();
        (step, made, stop)
    }

    /// The way into the kernel that the machine took.
    fn door(&self, event: Event) -> SyscallAbi {
        if matches!(event, Event::Syscall32 | Event::Sysenter) {
            return SyscallAbi::X86_32;
        }
        target(self.arch()).abi
    }

    /// Makes the system call that the machine stopped at; `None` if the program goes on.
    fn syscall(&mut self, event: Event) -> Option<Stop> {
        let stop = self.make_call(event);
        if event == Event::Sysenter && stop.is_none() {
            vdso::go_on(&mut self.machine);
        }
        stop
    }

    fn make_call(&mut self, event: Event) -> Option<Stop> {
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
            name: None,
            arguments: Vec::new(),
            written: Vec::new(),
            result: None,
            notice: None,
        };
        let Some(row) = table::by_number(abi, number) else {
            let result = Errno::ENOSYS.result();
            self.set_result(result);
            report.notice = Some(not_modelled(abi, number));
            report.result = Some(result);
            self.report(report);
            return None;
        };
        let Answer { outcome, notice } = match refused {
            Some(result) => Outcome::Returned(result).into(),
            None => {
                let mut six = [0; 6];
                six.iter_mut().zip(&values).for_each(|(register, value)| *register = *value);
                (row.perform)(&mut Call { process: self, abi }, &six)
            }
        };
        (report.name, report.notice) =
            (Some(row.name), report::cut(row.arguments, &given, &values).or(notice));
        let stop = match outcome {
            Outcome::Returned(result) => {
                self.set_result(result);
                report.result = Some(result);
                None
            }
            Outcome::NeedsInput | Outcome::Unfinished => {
                // It is made again when there is input, or for the rest.
                self.undo_call(event);
                if matches!(outcome, Outcome::Unfinished) {
                    self.unfinished = true;
                    return Some(Stop::Unfinished);
                }
                return Some(Stop::NeedsInput);
            }
            Outcome::Terminated(ending) => {
                self.ending = Some(ending);
                Some(Stop::Terminated(ending))
            }
        };
        report.written = std::mem::take(&mut self.written);
        let filled = report.result.and_then(|result| u64::try_from(result).ok()).filter(|&n| n > 0);
        report.arguments = report::arguments(row.arguments, &values, &mut self.machine, filled);
        self.report(report);
        stop
    }

    /// Goes back to the instruction that makes a system call, as if it had not been executed.
    fn undo_call(&mut self, event: Event) {
        self.executed -= 1;
        let at = self.machine.pc().wrapping_sub(self.arch().syscall_bytes());
        self.machine.undo_syscall(event, at, self.executed);
    }

    /// Puts a call's result where the program looks for it, as wide as a register is there.
    fn set_result(&mut self, result: i64) {
        let arch = self.arch();
        let value = result as u64 & arch.address_width().mask();
        self.machine.set_register(arch.convention().syscall_result, value);
    }

    fn report(&mut self, report: SyscallReport) {
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
        let at = self.machine.pc().wrapping_sub(self.arch().syscall_bytes());
        let moment = self.executed - 1;
        self.made.push(Arc::new(CompletedCall { moment, at, report }));
    }
}

/// What to say about a call that is not modelled.
fn not_modelled(abi: SyscallAbi, number: u64) -> Notice {
    let own_name = abi.name();
    let message = format!("system call {number} is not modelled on {own_name}; it returned ENOSYS");
    let elsewhere = table::elsewhere(abi, number);
    let help = elsewhere.first().map(|(machine, row)| {
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
