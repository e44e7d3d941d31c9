//! Answering system calls: from the registers of the call to the function of its row, and back.

use std::sync::Arc;

use sotto_machine::{Event, Fault};

use crate::abi::SyscallAbi;
use crate::calls::call::{Answer, Call, Outcome};
use crate::execution::Handled;
use crate::report::{
    self, CapturedArguments, CompletedCall, MOST_ARGUMENTS, Notice, RepeatedNotice, SyscallReport,
};
use crate::stop::{Stop, Termination};
use crate::system::System;
use crate::table::SyscallRow;
use crate::target::target;
use crate::{Errno, names, table, vdso};

/// As many system calls are kept at least, and twice as many at most.
const KEPT_CALLS: usize = 128;

impl System {
    /// The system-call ABI of the instruction that makes a call.
    fn abi_of(&self, event: Event) -> SyscallAbi {
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
    pub(crate) fn make_call(&mut self, event: Event) -> Handled {
        let (moment, at, task) = (self.executed, self.machine.pc(), self.running_task());
        let abi = self.abi_of(event);
        let convention = self.arch().convention();
        let number_register = convention.syscall_number;
        let number = number_register.storage().map_or(0, |storage| self.machine.register(storage));
        let registers = abi.arch().convention().syscall_arguments;
        let mut given = [0; MOST_ARGUMENTS];
        for (value, storage) in given.iter_mut().zip(registers) {
            *value = self.machine.register(*storage);
        }
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
        let (number, values) = (number & 0xffff_ffff, given.map(cut));
        let mut report = SyscallReport {
            abi,
            number,
            name: None,
            is_modelled: false,
            captured: CapturedArguments::default(),
            written: Vec::new(),
            result: None,
            result_is_address: false,
            notice: None,
        };
        let Some(row) = table::by_number(abi, number) else {
            let result = Errno::ENOSYS.result();
            report.name = names::name(abi, number);
            report.notice = Some(not_modelled(abi, number));
            report.result = Some(result);
            self.complete(event, Some(result));
            self.keep(CompletedCall { moment, task, at, report });
            self.count_slice(1);
            return Handled::GoOn;
        };
        report.captured = CapturedArguments::before(row, values, abi, self);
        let Answer { outcome, notice } = match refused {
            Some(result) => Outcome::Returned(result).into(),
            None => {
                let task = self.scheduler.current();
                let waited = task.wait.take();
                let interrupted = std::mem::take(&mut task.interrupted);
                let mut call = Call { system: self, abi, waited, interrupted };
                let mut answer = (row.perform)(&mut call, &values);
                if interrupted && matches!(answer.outcome, Outcome::Waits(_)) {
                    // What was transferred so far is what the call returns.
                    answer.outcome = match std::mem::take(self.transferred()) {
                        0 => Errno::EINTR.into(),
                        done => Outcome::Returned(done as i64),
                    };
                }
                if !matches!(answer.outcome, Outcome::Waits(_)) {
                    let task = self.scheduler.current();
                    (task.deadline, task.waits_in) = (None, None);
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
        let result = match &outcome {
            Outcome::Returned(result) => Some(*result),
            Outcome::Started(task) => Some(task.id.into()),
            Outcome::Executed(_) => None,
            Outcome::TaskEnded(_) | Outcome::Terminated(_) => None,
            Outcome::Sigreturn { .. } => None,
            // It is made again when that is so, or for the rest.
            Outcome::Waits(wait) => {
                self.written.clear();
                let wait = *wait;
                let task = self.scheduler.current();
                task.wait = Some(wait);
                if task.waits_in.is_none() {
                    task.waits_in = Some((Arc::new(report), moment));
                }
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
        report.captured.after(&self.machine, abi, filled, &report.written);
        self.complete(event, result);
        self.keep(CompletedCall { moment, task, at, report });
        let ending = match outcome {
            Outcome::Terminated(ending) => Some(ending),
            Outcome::TaskEnded(status) => {
                let (own, process) = (self.running_task(), self.process.id);
                self.clear_at_end();
                let mut others = self.scheduler.tasks.iter();
                match others.any(|task| task.process == process && task.id != own) {
                    true => {
                        self.remove_tasks(|task| task.id == own);
                        None
                    }
                    false => Some(Termination::Exited(status)),
                }
            }
            Outcome::Started(new) => {
                self.count_slice(1);
                self.start_task(*new);
                None
            }
            Outcome::Executed(program) => {
                self.execute(*program);
                None
            }
            // Without a frame the program is killed. Source: Linux, `signal_fault`.
            Outcome::Sigreturn { is_rt } if self.leave_handler(is_rt).is_err() => {
                let fault = Fault::SignalFrame;
                Some(Termination::Killed(fault.signal(), fault))
            }
            _ => {
                self.count_slice(1);
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
        table::elsewhere(abi, number).into_iter().find(|(_, row)| row.is_basic())?;
    let (name, own_name, own) = (meant.name, abi.name(), meant.number_in(abi)?);
    Some(Notice {
        message: format!("`{}` returned EFAULT", row.name),
        help: Some(format!("{number} is `{name}` on {machine}; on {own_name} `{name}` is {own}")),
    })
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
    let mut elsewhere = elsewhere.iter().filter(|(_, row)| is_unknown || row.is_basic());
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
