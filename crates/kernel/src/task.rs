//! Tasks: what Linux calls threads, and processes of one thread.

use std::sync::Arc;

use sotto_machine::Cpu;

use crate::calls::futex::FutexWait;
use crate::process::ProcessId;
use crate::report::SyscallReport;
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
    /// Something that happens to a descriptor or to a process, up to a time.
    Event {
        /// How many events there had been when the wait began.
        since: u64,
        /// The time, in nanoseconds since the start, if it ends.
        until: Option<u64>,
        /// Signals that end it by being pending, a bit for each, from number 1.
        signals: u64,
        /// The call begins anew when a handler with SA_RESTART has returned.
        restarts: bool,
    },
    /// Another task that wakes it at a futex, up to a time.
    Futex {
        /// The time, in nanoseconds since the start, if it ends.
        until: Option<u64>,
    },
}

impl Wait {
    /// The time at which it ends at the latest, in nanoseconds since the start.
    pub fn until(self) -> Option<u64> {
        match self {
            Wait::Until(time) => Some(time),
            Wait::SignalOf { until, .. } | Wait::Event { until, .. } | Wait::Futex { until } => {
                until
            }
            Wait::Input | Wait::Signal => None,
        }
    }
}

/// What there is to tell of a task.
#[derive(Clone, Debug)]
pub struct TaskState {
    /// Its number.
    pub id: TaskId,
    /// Its process.
    pub process: ProcessId,
    /// The name of the program, or what the program said instead.
    pub name: String,
    /// The call in which it waits, and the moment at which it made that; `None` if it can go on.
    pub waits_in: Option<(Arc<SyscallReport>, u64)>,
    /// The task that woke it last at a futex, and the moment at which it did.
    pub woken_by: Option<(TaskId, u64)>,
    /// Its process was stopped by a signal of this number.
    pub stopped_by: Option<u32>,
    /// Its process waits in vfork for a child to execute a program or to end.
    pub is_suspended: bool,
}

/// A task.
#[derive(Clone)]
pub(crate) struct Task {
    pub id: TaskId,
    pub process: ProcessId,
    /// Its registers and calls; `None` while they are in the machine.
    pub cpu: Option<Cpu>,
    /// What the system call that it makes waits for. The instruction is not completed, and its registers are as before it.
    pub wait: Option<Wait>,
    /// That call, and the moment at which it was made.
    pub waits_in: Option<(Arc<SyscallReport>, u64)>,
    /// The task that woke it last, and the moment at which it did.
    pub woken_by: Option<(TaskId, u64)>,
    /// Bytes that the call has transferred so far, which is not completed.
    pub transferred: u64,
    /// The time at which the call ends at the latest, from when it was made first.
    pub deadline: Option<u64>,
    /// The futex that the call waits for.
    pub futex: Option<FutexWait>,
    /// Where a zero is written when it ends, with a wake, or 0. Source: set_tid_address(2).
    pub clear_at_end: u64,
    /// The head of its list of futexes that are told when it ends, or 0. Source: get_robust_list(2).
    pub robust_list: u64,
    /// What the next instruction reads from memory before it writes there again, since it was read before other tasks were run.
    pub read_before: Option<(u64, Vec<u8>)>,
    /// A signal ends what the call waits for: it is made again, and fails.
    pub interrupted: bool,
    pub signals: TaskSignals,
}

impl Task {
    pub fn new(id: TaskId, process: ProcessId, cpu: Option<Cpu>) -> Task {
        Task {
            id,
            process,
            cpu,
            wait: None,
            waits_in: None,
            woken_by: None,
            transferred: 0,
            deadline: None,
            futex: None,
            clear_at_end: 0,
            robust_list: 0,
            read_before: None,
            interrupted: false,
            signals: TaskSignals::default(),
        }
    }

    /// Bytes that a snapshot of it takes.
    pub fn bytes(&self) -> usize {
        size_of::<Task>() + self.cpu.as_ref().map_or(0, Cpu::bytes)
    }
}
