//! A process: what its tasks share beside its memory.
//!
//! Source: credentials(7) for the numbers, wait(2) for what is left of one that ended.

use std::sync::Arc;

use crate::calls::limits::{Limits, first_limits};
use crate::files::inode::InodeId;
use crate::files::open::Descriptor;
use crate::load::Startup;
use crate::signals::ProcessSignals;
use crate::space::SpaceId;
use crate::stop::Termination;

/// The number of a process, as `getpid(2)` tells it: that of its first task.
#[derive(Copy, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub struct ProcessId(pub u32);

/// The process that started the first one, and to which processes belong whose parent has ended. It waits for them at once.
pub(crate) const OUTSIDE: ProcessId = ProcessId(1);

/// What the tasks of a process share. Its memory, with the code that was decoded of it, is in its address space.
#[derive(Clone)]
pub(crate) struct Process {
    pub id: ProcessId,
    pub parent: ProcessId,
    /// The process group and the session that it is in.
    pub group: u32,
    pub session: u32,
    pub space: SpaceId,
    /// The signal that its parent gets when it ends, or 0.
    pub exit_signal: u32,
    /// How it ended, if its parent has not been told yet.
    pub ended: Option<Termination>,
    /// It was stopped by this signal, and waits for SIGCONT.
    pub stopped: Option<u32>,
    /// What its parent was not told of: that it was stopped, or goes on.
    pub news: Option<News>,
    /// It executed a program after it was made.
    pub has_executed: bool,
    /// Its parent waits in vfork(2) for it to execute a program or to end.
    pub suspends_parent: bool,
    /// It waits in vfork(2) for a child.
    pub suspended: bool,
    /// Nanoseconds of the processor that its tasks had up to when it was shown last, and those of its children that it waited for.
    pub used_time: u64,
    pub children_time: u64,
    /// Nanoseconds of the processor that all had when it was shown last.
    pub shown_since: u64,
    /// What file descriptors name, by their number.
    pub descriptors: Vec<Option<Descriptor>>,
    /// The working directory.
    pub directory: InodeId,
    /// The file mode creation mask.
    pub umask: u32,
    /// The arguments and the environment that it was started with.
    pub arguments: Arc<[Vec<u8>]>,
    pub environment: Arc<[Vec<u8>]>,
    /// Its name, of up to 15 bytes.
    pub name: Arc<[u8]>,
    /// How much it gives way to others: from -20, not at all, to 19.
    pub nice: i32,
    /// It said that it will not get privileges.
    pub has_no_new_privileges: bool,
    pub limits: Limits,
    pub signals: ProcessSignals,
}

/// A change of a process that its parent can wait for.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) enum News {
    Stopped(u32),
    Continued,
}

impl Process {
    /// The process as the first program finds it.
    pub fn first(
        id: ProcessId,
        space: SpaceId,
        startup: &Startup,
        descriptors: Vec<Option<Descriptor>>,
        directory: InodeId,
    ) -> Process {
        Process {
            id,
            parent: OUTSIDE,
            group: id.0,
            session: OUTSIDE.0,
            space,
            exit_signal: 0,
            ended: None,
            stopped: None,
            news: None,
            has_executed: false,
            suspends_parent: false,
            suspended: false,
            used_time: 0,
            children_time: 0,
            shown_since: 0,
            descriptors,
            directory,
            umask: 0o022,
            arguments: startup.arguments.clone().into(),
            environment: startup.environment.clone().into(),
            name: name_of(startup.arguments.first().map_or(&b""[..], Vec::as_slice)).into(),
            nice: 0,
            has_no_new_privileges: false,
            limits: first_limits(),
            signals: ProcessSignals::default(),
        }
    }

    /// Bytes that a snapshot of it takes.
    pub fn bytes(&self) -> usize {
        size_of::<Process>() + self.descriptors.len() * size_of::<Option<Descriptor>>()
    }
}

/// The name of the program, without directories. Source: proc(5), "comm".
pub(crate) fn name_of(path: &[u8]) -> &[u8] {
    let name = path.rsplit(|byte| *byte == b'/').next().unwrap_or_default();
    &name[..name.len().min(15)]
}
