//! The modelled Linux: loading, system calls, streams, and how a program ends.
//!
//! A [`System`] is a loaded [`Image`](sotto_object::Image) on a machine, with all that it can observe: a process, its
//! tasks, time, input and output. It runs until the program ends, needs input, reaches a stop or uses up its budget.
//! Everything it does is deterministic: tasks are scheduled by counts of instructions, input comes from a log, output goes to
//! one, and random bytes come from a seed.
//!
//! One [table](table::SYSCALLS) gives each system call its numbers, name and typed arguments; dispatch,
//! the printed form and the reference come from it. A call that is not modelled returns ENOSYS and
//! leaves a notice.

mod abi;
mod answers;
mod arguments;
mod calls;
mod errno;
mod execution;
mod files;
mod guest_memory;
mod layout;
mod load;
mod mapped_files;
pub mod names;
mod process;
mod processes;
mod report;
mod scheduler;
mod signals;
mod space;
mod stop;
mod structures;
mod system;
pub mod table;
mod target;
mod task;
mod vdso;
mod waits;

pub use abi::SyscallAbi;
pub use errno::Errno;
pub use files::changes::{Change, ChangeKind};
pub use files::logs::{MemoryStore, Output, Store};
pub use files::shown::{FolderReader, ShownEntry, ShownFolder, ShownKind};
pub use files::tree::HOME;
pub use load::{DEFAULT_CLOCK, DEFAULT_MEMORY_LIMIT, StartError, Startup, auxiliary_name};
pub use mapped_files::MappedFile;
pub use process::ProcessId;
pub use report::{
    ArgumentReport, CompletedCall, KernelWrite, Notice, RepeatedNotice, SyscallReport,
};
pub use signals::signal_name;
pub use space::{SpaceId, SpaceOrigin};
pub use stop::{Progress, Stop, Termination};
pub use structures::Structure;
pub use system::{InputSource, System, SystemSnapshot};
pub use target::{Target, target};
pub use task::{TaskId, TaskState, Wait};
pub use waits::Awaited;
