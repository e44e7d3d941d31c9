//! Tasks: what Linux calls threads, and processes of one thread.

use sotto_machine::Cpu;

use crate::signals::TaskSignals;

/// The number of a task, as `gettid(2)` tells it.
#[derive(Copy, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub struct TaskId(pub u32);

/// What a task waits for in a system call.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Wait {
    /// Standard input. It comes from outside, where no time of the program's passes, so that all tasks wait for it.
    Input,
    /// A time, in nanoseconds since the start.
    Until(u64),
    /// A signal that a handler takes.
    Signal,
    /// One of some signals, which need no handler, up to a time.
    SignalOf {
        /// A bit for each, from number 1.
        set: u64,
        /// The time, in nanoseconds since the start, if it ends.
        until: Option<u64>,
    },
}

/// A task.
#[derive(Clone)]
pub(crate) struct Task {
    pub id: TaskId,
    /// Its registers and calls; `None` while they are in the machine.
    pub cpu: Option<Cpu>,
    /// What the system call that it makes waits for. The instruction is not completed, and its registers are as before it.
    pub wait: Option<Wait>,
    /// Bytes that the call has transferred so far, which is not completed.
    pub transferred: u64,
    /// A signal ends what the call waits for: it is made again, and fails.
    pub interrupted: bool,
    pub signals: TaskSignals,
}

impl Task {
    pub fn new(id: TaskId, cpu: Option<Cpu>) -> Task {
        let signals = TaskSignals::default();
        Task { id, cpu, wait: None, transferred: 0, interrupted: false, signals }
    }

    /// Bytes that a snapshot of it takes.
    pub fn bytes(&self) -> usize {
        size_of::<Task>() + self.cpu.as_ref().map_or(0, Cpu::bytes)
    }
}
