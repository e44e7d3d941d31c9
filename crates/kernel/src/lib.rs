//! The modelled Linux: loading, system calls, streams, and how a program ends.
//!
//! A [`Process`] is a loaded [`Image`](sotto_object::Image) on a machine. It runs until it ends, needs
//! input, reaches a stop or uses up its budget. Everything it does is deterministic: input comes from
//! a log, output goes to one, and random bytes come from a seed.
//!
//! One [table](table::SYSCALLS) gives each system call its numbers, name and typed arguments; dispatch,
//! the printed form and the reference come from it. A call that is not modelled returns ENOSYS and
//! leaves a notice.

mod abi;
mod arguments;
mod calls;
mod errno;
mod execution;
mod files;
mod load;
mod process;
mod report;
pub mod table;
mod target;
mod vdso;

pub use abi::SyscallAbi;
pub use errno::Errno;
pub use files::logs::{MemoryStore, Output, Store};
pub use load::{DEFAULT_MEMORY_LIMIT, StartError, Startup, auxiliary_name};
pub use process::{
    CompletedCall, InputSource, Process, ProcessSnapshot, Progress, RepeatedNotice, Stop,
    Termination,
};
pub use report::{ArgumentReport, KernelWrite, Notice, SyscallReport};
pub use target::{Target, target};
