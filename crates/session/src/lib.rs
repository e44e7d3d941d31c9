//! A run being examined: stepping, history, breakpoints, and reports of what happened.
//!
//! A [`Session`] holds a process together with the image and the sources it came from, so that
//! everything it says has a name and a line. It answers with plain data; whoever shows it computes
//! nothing. A moment is a number of completed instructions; going back restores the nearest earlier
//! checkpoint and executes again from there, which is exact since execution is deterministic.

mod evaluate;
mod fault;
#[cfg(all(target_os = "linux", target_arch = "x86_64"))]
pub mod native;
mod place;
mod report;
mod session;
mod stack;
mod who;

pub use evaluate::{EvaluateError, Evaluated};
pub use fault::{FaultReport, RegisterValue};
pub use place::{Place, SourceText};
pub use report::{
    BranchReport, FlagReport, MemoryReport, RegisterReport, StepReport, SyscallArgument,
    SyscallView, VectorReport,
};
pub use session::{Breakpoint, Session, SessionError, StopReason};
pub use stack::{StackSlot, StackView};
pub use who::{Target, Writer};
