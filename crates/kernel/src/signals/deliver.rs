//! Sending and taking signals, entering handlers and coming back from them.

use sotto_machine::{Fault, Signal};

use crate::Errno;
use crate::process::{News, ProcessId};
use crate::signals::info::SignalInfo;
use crate::signals::{
    Action, AlternateStack, FIRST_REAL_TIME, Recipient, SA_NODEFER, SA_ONSTACK, SA_RESETHAND,
    SA_RESTART, SIG_DFL, SIG_IGN, SignalSet, is_catchable,
};
use crate::stop::Termination;
use crate::system::System;
use crate::target::target;
use crate::task::{Task, Wait};

/// A handler that is to be entered.
pub(crate) struct Entry {
    pub info: SignalInfo,
    pub action: Action,
    /// The mask to which the handler returns.
    pub mask: SignalSet,
    /// The stack pointer below which the frame goes: that of the program, or the end of the alternate stack.
    pub stack: u64,
    /// The frame goes below what the program uses, and not onto the alternate stack.
    pub is_own_stack: bool,
    /// What the frame tells of the alternate stack.
    pub alternate: Option<AlternateStack>,
}

/// What a frame restores beside registers.
pub(crate) struct Restored {
    /// The mask of blocked signals.
    pub mask: SignalSet,
    /// The alternate stack, of frames that tell of it: one, or none.
    pub alternate: Option<Option<AlternateStack>>,
}

/// How frames of handlers are made and taken on a machine.
#[derive(Copy, Clone)]
pub(crate) struct SignalFrames {
    /// Puts the frame onto the stack and sets the registers for the handler; the address to which it returns.
    pub enter: fn(&mut System, &Entry) -> Result<u64, Errno>,
    /// Takes the registers from the frame that a handler returned from; whether by `rt_sigreturn`.
    pub leave: fn(&mut System, bool) -> Result<Restored, Errno>,
    /// What is told of the signal of a fault at an address.
    pub info_of_fault: fn(Fault, u64) -> SignalInfo,
}

/// What came of looking for a signal to deliver.
pub(crate) enum Delivery {
    /// A handler was entered for the signal of this number; a moment has passed.
    Handler(u32),
    /// The program ended.
    Ended(Termination),
}

/// Signals that a fault raises come before others. Source: Linux, `SYNCHRONOUS_MASK`.
const SYNCHRONOUS: [Signal; 6] = [
    Signal::SIGSEGV,
    Signal::SIGBUS,
    Signal::SIGILL,
    Signal::SIGTRAP,
    Signal::SIGFPE,
    Signal::SIGSYS,
];

/// Adds a signal to those that are pending. Of a standard signal there is one at most.
fn add(pending: &mut Vec<SignalInfo>, info: SignalInfo) {
    let is_there = pending.iter().any(|other| other.number == info.number);
    if !is_there || info.number >= FIRST_REAL_TIME {
        pending.push(info);
    }
}

/// The place of the next signal among pending ones: those of faults first, then by number, then in their order.
fn next_of(pending: &[SignalInfo], wanted: impl Fn(u32) -> bool) -> Option<usize> {
    let is_synchronous =
        |number: u32| SYNCHRONOUS.iter().any(|signal| signal.number() as u32 == number);
    let found = pending.iter().enumerate().filter(|(_, info)| wanted(info.number));
    found.min_by_key(|(_, info)| (!is_synchronous(info.number), info.number)).map(|(at, _)| at)
}

impl System {
    /// Sends a signal.
    pub(crate) fn send(&mut self, info: SignalInfo, to: Recipient) {
        let id = match to {
            Recipient::Process(id) => Some(id),
            Recipient::Task(id) => self.process_of(id),
        };
        let Some(process) = id.and_then(|id| self.process(id)).filter(|it| it.ended.is_none())
        else {
            return;
        };
        let (id, action) = (process.id, process.signals.action(info.number));
        self.note_event();
        if self.stops_or_continues(id, info.number, action) {
            return;
        }
        let tasks = &mut self.scheduler.tasks;
        let is_blocked = |task: &Task| task.signals.mask.contains(info.number);
        let target = match to {
            Recipient::Task(id) => tasks.iter().position(|task| task.id == id),
            Recipient::Process(id) => {
                let mut own = tasks.iter();
                own.position(|task| task.process == id && !is_blocked(task))
            }
        };
        match target {
            // A blocked signal may get another action before it is delivered.
            Some(at) if action.ignores(info.number) && !is_blocked(&tasks[at]) => {}
            Some(at) => add(&mut tasks[at].signals.pending, info),
            None => {
                if let Some(process) = self.process_mut(id) {
                    add(&mut process.signals.pending, info);
                }
            }
        }
    }

    /// What a signal does to a process when it is sent, beside being delivered: stopping it or letting it go on. `true` if it has
    /// no other effect. The first process has nobody who would let it go on, and is not stopped.
    fn stops_or_continues(&mut self, id: ProcessId, number: u32, action: Action) -> bool {
        let signal = Signal::from_number(number.into());
        if matches!(signal, Some(Signal::SIGCONT | Signal::SIGKILL)) {
            self.change_stop(id, News::Continued);
            return false;
        }
        let is_default = action.handler == SIG_DFL || !is_catchable(number);
        let stops = signal.is_some_and(Signal::stops) && is_default && id != self.first_process;
        let mut tasks = self.scheduler.tasks.iter().filter(|task| task.process == id);
        let is_open = tasks.any(|task| !task.signals.mask.contains(number));
        if stops && is_open {
            self.change_stop(id, News::Stopped(number));
        }
        stops && is_open
    }

    /// Takes a pending signal of a set from the running task, or from its process.
    pub(crate) fn take_pending(&mut self, set: SignalSet) -> Option<SignalInfo> {
        let wanted = |number: u32| set.contains(number);
        let own = &mut self.scheduler.current().signals.pending;
        if let Some(at) = next_of(own, wanted) {
            return Some(own.remove(at));
        }
        let shared = &mut self.process.signals.pending;
        next_of(shared, wanted).map(|at| shared.remove(at))
    }

    /// Whether a task has a pending signal of a set.
    pub(crate) fn has_pending(&self, index: usize, set: SignalSet) -> bool {
        let task = &self.scheduler.tasks[index];
        let shared = self.process(task.process).map(|process| &process.signals.pending);
        let mut all = task.signals.pending.iter().chain(shared.into_iter().flatten());
        all.any(|info| set.contains(info.number))
    }

    /// Whether a task has a signal to take before it goes on.
    pub(crate) fn has_signal(&self, index: usize) -> bool {
        let task = &self.scheduler.tasks[index];
        let process = self.process(task.process);
        let is_empty = process.is_none_or(|process| process.signals.pending.is_empty());
        !(is_empty && task.signals.pending.is_empty())
            && self.has_pending(index, SignalSet(!task.signals.mask.0))
    }

    /// Raises the signal of a fault, if a handler takes it; `false` if it ends the program.
    pub(crate) fn raise(&mut self, fault: Fault) -> bool {
        let signal = fault.signal();
        let number = signal.number() as u32;
        let action = self.process.signals.action(number);
        let task = self.scheduler.current();
        if matches!(action.handler, SIG_DFL | SIG_IGN) || task.signals.mask.contains(number) {
            return false;
        }
        let pc = self.machine.pc();
        let info = (target(self.arch()).signal_frames.info_of_fault)(fault, pc);
        self.scheduler.current().signals.pending.push(info);
        true
    }

    /// What a signal does to a call of the running task that waits: it is made again and fails with EINTR, or begins anew
    /// when the handler has returned. Source: signal(7), "Interruption of system calls".
    pub(crate) fn interrupt_wait(&mut self) {
        let running = self.scheduler.running;
        let Some(wait) = self.scheduler.tasks[running].wait else { return };
        if self.is_met(running) || !self.has_signal(running) {
            return;
        }
        let set = SignalSet(!self.scheduler.current().signals.mask.0);
        let own = self.scheduler.current().signals.pending.clone();
        let all = [own, self.process.signals.pending.clone()].concat();
        let next = next_of(&all, |number| set.contains(number)).map(|at| all[at].number);
        let restarts =
            next.is_some_and(|number| self.process.signals.action(number).flags & SA_RESTART != 0);
        let task = self.scheduler.current();
        match wait {
            Wait::Input | Wait::Event { restarts: true, .. } | Wait::Futex { until: None }
                if restarts && task.transferred == 0 =>
            {
                (task.wait, task.futex, task.deadline) = (None, None, None);
                task.waits_in = None;
            }
            _ => task.interrupted = true,
        }
    }

    /// Takes the next signal of the running task and enters its handler; `None` if there is none to take.
    pub(crate) fn deliver(&mut self) -> Option<Delivery> {
        loop {
            let running = self.scheduler.running;
            let task = &self.scheduler.tasks[running];
            // A call that is being made comes first.
            if task.wait.is_some() || task.interrupted || !self.has_signal(running) {
                return None;
            }
            let set = SignalSet(!task.signals.mask.0);
            let info = self.take_pending(set)?;
            let action = self.process.signals.action(info.number);
            if action.ignores(info.number) {
                continue;
            }
            let signal = Signal::from_number(info.number.into());
            if action.handler == SIG_DFL {
                let signal = signal?;
                return Some(Delivery::Ended(Termination::Killed(
                    signal,
                    Fault::Delivered(signal),
                )));
            }
            return Some(match self.enter(info, action) {
                Ok(()) => Delivery::Handler(info.number),
                // Without room for the frame the program is killed. Source: Linux, `signal_setup_done`.
                Err(_) => {
                    let fault = Fault::SignalFrame;
                    Delivery::Ended(Termination::Killed(fault.signal(), fault))
                }
            });
        }
    }

    fn enter(&mut self, info: SignalInfo, action: Action) -> Result<(), Errno> {
        let stack_pointer = self.machine.register(self.arch().stack_pointer());
        let from = self.machine.pc();
        let task = self.scheduler.current();
        let mask = task.signals.saved_mask.take().unwrap_or(task.signals.mask);
        let alternate = task.signals.alternate;
        let unused =
            alternate.filter(|stack| action.flags & SA_ONSTACK != 0 && !stack.holds(stack_pointer));
        let entry = Entry {
            info,
            action,
            mask,
            stack: unused.map_or(stack_pointer, |stack| stack.base + stack.size),
            is_own_stack: unused.is_none(),
            alternate,
        };
        let return_address = (target(self.arch()).signal_frames.enter)(self, &entry)?;
        let task = self.scheduler.current();
        task.signals.mask = task.signals.mask.with(action.mask).as_mask();
        if action.flags & SA_NODEFER == 0 {
            task.signals.mask = task.signals.mask.with(SignalSet::of(info.number)).as_mask();
        }
        if action.flags & SA_RESETHAND != 0 && is_catchable(info.number) {
            self.process.signals.set_action(info.number, Action::default());
        }
        self.machine.note_handler(from, return_address);
        self.executed += 1;
        Ok(())
    }

    /// Comes back from a handler: the registers, the mask and the alternate stack are those of the frame.
    ///
    /// # Errors
    ///
    /// EFAULT if there is no frame.
    pub(crate) fn leave_handler(&mut self, is_rt: bool) -> Result<(), Errno> {
        let Restored { mask, alternate } = (target(self.arch()).signal_frames.leave)(self, is_rt)?;
        let task = self.scheduler.current();
        task.signals.mask = mask.as_mask();
        if let Some(alternate) = alternate {
            task.signals.alternate = alternate;
        }
        Ok(())
    }
}

/// Flags of an alternate stack. Source: sigaltstack(2).
pub(crate) const SS_ONSTACK: u32 = 1;
pub(crate) const SS_DISABLE: u32 = 2;

/// The alternate stack as `stack_t` tells it: base, flags and size.
pub(crate) fn stack_words(
    alternate: Option<AlternateStack>,
    stack_pointer: u64,
) -> (u64, u32, u64) {
    match alternate {
        None => (0, SS_DISABLE, 0),
        Some(stack) if stack.holds(stack_pointer) => (stack.base, SS_ONSTACK, stack.size),
        Some(stack) => (stack.base, 0, stack.size),
    }
}

/// The alternate stack that `stack_t` describes.
pub(crate) fn stack_of(base: u64, flags: u32, size: u64) -> Option<AlternateStack> {
    (flags & SS_DISABLE == 0).then_some(AlternateStack { base, size })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::signals::info::Detail;

    fn info(number: u32, code: i32) -> SignalInfo {
        SignalInfo { number, code, detail: Detail::None }
    }

    #[test]
    fn standard_signals_are_pending_once_and_real_time_signals_each_time() {
        let mut pending = Vec::new();
        for (number, code) in [(12, 0), (12, 1), (40, 2), (40, 3)] {
            add(&mut pending, info(number, code));
        }
        assert_eq!(pending, [info(12, 0), info(40, 2), info(40, 3)]);
    }

    #[test]
    fn signals_of_faults_come_first_then_the_lowest_number_then_the_order_of_sending() {
        let mut pending =
            [(40, 1), (12, 0), (40, 2), (1, 0), (11, 0)].map(|(n, c)| info(n, c)).to_vec();
        let mut taken = Vec::new();
        while let Some(at) = next_of(&pending, |number| number != 12) {
            let SignalInfo { number, code, .. } = pending.remove(at);
            taken.push((number, code));
        }
        assert_eq!(taken, [(11, 0), (1, 0), (40, 1), (40, 2)]);
        assert_eq!(pending, [info(12, 0)]);
    }

    #[test]
    fn the_alternate_stack_is_told_as_used_disabled_or_ready() {
        let stack = stack_of(0x1000, 0, 0x100);
        assert_eq!(stack_words(None, 0x1080), (0, SS_DISABLE, 0));
        assert_eq!(stack_words(stack, 0x1080), (0x1000, SS_ONSTACK, 0x100));
        // The stack grows down: its end is on it, its base is not.
        assert_eq!(stack_words(stack, 0x1100).1, SS_ONSTACK);
        assert_eq!(stack_words(stack, 0x1000).1, 0);
        assert_eq!(stack_of(0x1000, SS_DISABLE, 0x100), None);
    }
}
