//! Why running stopped, and how a program ended.

use sotto_machine::{Fault, Signal};

/// How a program ended.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Termination {
    /// It exited with this status, 0 to 255.
    Exited(i32),
    /// A fault raised this signal.
    Killed(Signal, Fault),
}

impl Termination {
    /// The status a shell would show: the exit status, or 128 and the signal's number.
    pub fn shell_status(self) -> i32 {
        match self {
            Termination::Exited(status) => status,
            Termination::Killed(signal, _) => 128 + signal.number(),
        }
    }
}

/// Why running stopped.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Stop {
    /// The budget is used up.
    Budget,
    /// Much was done for a few instructions; go on.
    Paused,
    /// The same in the middle of an instruction, whose moment is not reached yet; go on.
    Unfinished,
    /// The program touches more memory than it may; the instruction that does so is not completed.
    MemoryLimit,
    /// The program counter reached a stop.
    Place,
    /// The program wrote output; take it, and go on.
    Output,
    /// The next instruction makes a system call, and such stops were asked for.
    AtCall,
    /// A task wants input, and there is none yet. Give some or close the input, and go on.
    NeedsInput,
    /// Every task waits for another, or for a signal that nothing will send.
    Stuck,
    /// A handler was entered for the signal of this number, which is a step of its own; go on.
    Delivered(u32),
    /// The task that was to be stepped waits, and another is the running one now; step again.
    Switched,
    /// An instruction, or a system call, wrote what is watched.
    Written,
    /// The program ended.
    Terminated(Termination),
}

/// What came of running.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct Progress {
    /// Instructions completed.
    pub executed: u64,
    /// Why it stopped.
    pub stop: Stop,
}
