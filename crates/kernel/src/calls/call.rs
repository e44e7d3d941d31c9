//! A system call that is being made, and what comes of it.

use crate::Errno;
use crate::abi::SyscallAbi;
use crate::calls::programs::Program;
use crate::processes::NewTask;
use crate::report::Notice;
use crate::stop::Termination;
use crate::system::System;
use crate::task::Wait;

/// A system call that is being made.
pub(crate) struct Call<'s> {
    /// The process that makes it.
    pub system: &'s mut System,
    /// Whose numbers and registers it uses.
    pub abi: SyscallAbi,
    /// What the call has waited for, if it is made again after waiting.
    pub waited: Option<Wait>,
    /// A signal ends the wait.
    pub interrupted: bool,
}

impl Call<'_> {
    /// A number of 64 bits: one register where these are wide enough, and two halves where not.
    pub fn long(&self, low: u64, high: u64) -> u64 {
        match self.abi.word_bytes() {
            8 => low,
            _ => high << 32 | low & 0xffff_ffff,
        }
    }

    /// See [`System::deadline`].
    pub fn deadline(&mut self, duration: u64) -> u64 {
        self.system.deadline(duration)
    }

    /// A word of the machine as a signed number.
    pub fn signed(&self, value: u64) -> i64 {
        match self.abi.word_bytes() {
            8 => value as i64,
            _ => i64::from(value as i32),
        }
    }
}

impl System {
    /// When the call that is being made ends at the latest, which may take so many nanoseconds from when it was made first; in
    /// nanoseconds since the start.
    pub(crate) fn deadline(&mut self, duration: u64) -> u64 {
        let now = self.machine.time();
        *self.scheduler.current().deadline.get_or_insert(now.saturating_add(duration))
    }
}

/// What came of a call.
pub(crate) enum Outcome {
    /// It returned this.
    Returned(i64),
    /// It cannot go on before something is so, and is made again then.
    Waits(Wait),
    /// It has transferred a part, and goes on with the rest when it is made again.
    Unfinished,
    /// A handler returned: registers are restored from its frame, by `rt_sigreturn` or by `sigreturn`.
    Sigreturn { is_rt: bool },
    /// A task was made, whose number it returned.
    Started(Box<NewTask>),
    /// The process executes another program.
    Executed(Box<Program>),
    /// The task ended with this status, and the program with its last task.
    TaskEnded(i32),
    /// The program ended.
    Terminated(Termination),
}

impl From<Errno> for Outcome {
    fn from(errno: Errno) -> Outcome {
        Outcome::Returned(errno.result())
    }
}

/// What a call answers: what came of it, and a notice if it is probably a mistake.
pub(crate) struct Answer {
    /// What came of it.
    pub outcome: Outcome,
    /// What to say about it.
    pub notice: Option<Notice>,
}

impl From<Outcome> for Answer {
    fn from(outcome: Outcome) -> Answer {
        Answer { outcome, notice: None }
    }
}

impl From<(Outcome, Option<Notice>)> for Answer {
    fn from((outcome, notice): (Outcome, Option<Notice>)) -> Answer {
        Answer { outcome, notice }
    }
}

impl From<Result<u64, Errno>> for Answer {
    fn from(result: Result<u64, Errno>) -> Answer {
        match result {
            Ok(value) => Outcome::Returned(value as i64).into(),
            Err(errno) => Outcome::from(errno).into(),
        }
    }
}

/// Puts bytes into the program's memory, all of them or none.
pub(crate) fn put(system: &mut System, address: u64, bytes: &[u8]) -> Result<(), Errno> {
    system.write_guest(address, bytes)
}

/// Longest path with its zero byte. Source: <limits.h>, PATH_MAX.
const MAX_PATH_BYTES: u64 = 4096;

/// A path that ends with a zero byte.
///
/// # Errors
///
/// EFAULT if it cannot be read, ENAMETOOLONG if it is longer than a path may be.
pub(crate) fn read_path(system: &mut System, address: u64) -> Result<Vec<u8>, Errno> {
    read_string(system, address, MAX_PATH_BYTES)?.ok_or(Errno::ENAMETOOLONG)
}

/// A string that ends with a zero byte, without it; `None` if there is none among the first `most` bytes.
///
/// # Errors
///
/// EFAULT if it cannot be read.
pub(crate) fn read_string(
    system: &mut System,
    address: u64,
    most: u64,
) -> Result<Option<Vec<u8>>, Errno> {
    let mut text = Vec::new();
    for at in 0..most {
        let byte = system.machine.memory_mut().read::<1>(address.wrapping_add(at));
        match byte.map_err(|_| Errno::EFAULT)? {
            [0] => return Ok(Some(text)),
            [byte] => text.push(byte),
        }
    }
    Ok(None)
}

/// Words in the order of memory, of so many bytes.
pub(crate) fn words(bytes: usize, values: &[u64]) -> Vec<u8> {
    values.iter().flat_map(|value| value.to_le_bytes()[..bytes].to_vec()).collect()
}

pub(crate) fn notice(message: String, help: &str) -> Option<Notice> {
    Some(Notice { message, help: Some(help.to_string()) })
}
