//! Signals: what is pending, what is done at one, and how a handler is entered and left.
//!
//! Source: signal(7), sigaction(2); Linux, `kernel/signal.c`.

pub(crate) mod arm64;
pub(crate) mod deliver;
pub(crate) mod info;
pub(crate) mod timers;
pub(crate) mod x86_32;
pub(crate) mod x86_64;
mod x86_state;

use std::sync::Arc;

use crate::process::ProcessId;
use crate::task::TaskId;
use info::SignalInfo;
use sotto_machine::Signal;
use timers::Timer;

/// Highest number of a signal. Source: signal(7), "Real-time signals".
pub(crate) const LAST_SIGNAL: u32 = 64;
/// The first real-time signal of the kernel.
const FIRST_REAL_TIME: u32 = 32;

/// Handlers that are none: the default action, and none. Source: <asm-generic/signal-defs.h>.
pub(crate) const SIG_DFL: u64 = 0;
pub(crate) const SIG_IGN: u64 = 1;

// Flags of an action. Source: sigaction(2), <asm-generic/signal-defs.h>.
pub(crate) const SA_NOCLDSTOP: u64 = 1;
pub(crate) const SA_NOCLDWAIT: u64 = 2;
pub(crate) const SA_SIGINFO: u64 = 4;
pub(crate) const SA_RESTORER: u64 = 0x0400_0000;
const SA_ONSTACK: u64 = 0x0800_0000;
const SA_RESTART: u64 = 0x1000_0000;
const SA_NODEFER: u64 = 0x4000_0000;
const SA_RESETHAND: u64 = 0x8000_0000;

/// A set of signals, a bit for each from number 1.
#[derive(Copy, Clone, PartialEq, Eq, Debug, Default)]
pub(crate) struct SignalSet(pub u64);

impl SignalSet {
    /// SIGKILL and SIGSTOP, which cannot be blocked or caught.
    const UNCATCHABLE: SignalSet = SignalSet(1 << 8 | 1 << 18);

    pub fn of(number: u32) -> SignalSet {
        SignalSet(1 << (number - 1))
    }

    pub fn contains(self, number: u32) -> bool {
        self.0 & SignalSet::of(number).0 != 0
    }

    /// The set as a mask: without the signals that cannot be blocked.
    pub fn as_mask(self) -> SignalSet {
        SignalSet(self.0 & !SignalSet::UNCATCHABLE.0)
    }

    pub fn with(self, other: SignalSet) -> SignalSet {
        SignalSet(self.0 | other.0)
    }
}

/// Whether a signal can be caught.
pub(crate) fn is_catchable(number: u32) -> bool {
    !SignalSet::UNCATCHABLE.contains(number)
}

/// What is done at a signal.
#[derive(Copy, Clone, PartialEq, Eq, Debug, Default)]
pub(crate) struct Action {
    /// The routine, or SIG_DFL or SIG_IGN.
    pub handler: u64,
    pub flags: u64,
    /// What the handler returns to.
    pub restorer: u64,
    /// Signals that are blocked while it runs.
    pub mask: SignalSet,
}

impl Action {
    /// Whether a signal with this action has no effect.
    pub fn ignores(&self, number: u32) -> bool {
        match self.handler {
            SIG_IGN => true,
            // Signals that stop a program and real-time signals have no effect here either.
            SIG_DFL => Signal::from_number(number.into())
                .is_none_or(|signal| signal.is_ignored() || signal.stops() && is_catchable(number)),
            _ => false,
        }
    }
}

/// Who a signal is sent to.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) enum Recipient {
    /// Any task of a process.
    Process(ProcessId),
    Task(TaskId),
}

/// What the tasks of a process share of signals.
#[derive(Clone)]
pub(crate) struct ProcessSignals {
    /// By number, from 1.
    actions: Arc<[Action; LAST_SIGNAL as usize]>,
    /// Sent to the process, and not taken by a task yet.
    pub pending: Vec<SignalInfo>,
    /// Timers that run, and those that the program made.
    pub timers: Vec<Timer>,
}

impl Default for ProcessSignals {
    fn default() -> ProcessSignals {
        let actions = Arc::new([Action::default(); LAST_SIGNAL as usize]);
        ProcessSignals { actions, pending: Vec::new(), timers: Vec::new() }
    }
}

impl ProcessSignals {
    /// What is done at a signal.
    pub fn action(&self, number: u32) -> Action {
        self.actions[number as usize - 1]
    }

    /// What a child starts with: the same actions, and nothing that is pending.
    pub fn of_child(&self) -> ProcessSignals {
        let actions = self.actions.clone();
        ProcessSignals { actions, pending: Vec::new(), timers: Vec::new() }
    }

    /// Forgets handlers; what is ignored stays so. Source: execve(2).
    pub fn reset_handlers(&mut self) {
        for action in Arc::make_mut(&mut self.actions) {
            *action = Action {
                handler: if action.handler == SIG_IGN { SIG_IGN } else { SIG_DFL },
                ..Action::default()
            };
        }
    }

    pub fn set_action(&mut self, number: u32, action: Action) {
        Arc::make_mut(&mut self.actions)[number as usize - 1] = action;
    }
}

/// What a task has of signals.
#[derive(Clone, Default)]
pub(crate) struct TaskSignals {
    /// The mask of blocked signals.
    pub mask: SignalSet,
    /// The mask from before a call that waits under another, to which the next handler returns.
    pub saved_mask: Option<SignalSet>,
    /// Sent to the task, and not taken yet.
    pub pending: Vec<SignalInfo>,
    /// The stack on which handlers run that ask for it.
    pub alternate: Option<AlternateStack>,
}

/// A stack for handlers. Source: sigaltstack(2).
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) struct AlternateStack {
    pub base: u64,
    pub size: u64,
}

impl AlternateStack {
    /// Whether a stack pointer is on it.
    pub fn holds(&self, stack_pointer: u64) -> bool {
        stack_pointer > self.base && stack_pointer - self.base <= self.size
    }
}

/// The name of a signal.
pub fn signal_name(number: u32) -> String {
    match Signal::from_number(number.into()) {
        Some(signal) => signal.name().to_string(),
        None => format!("real-time signal {number}"),
    }
}
