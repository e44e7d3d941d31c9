//! A run being examined: stepping, history, breakpoints, and reports of what happened.
//!
//! A [`Session`] holds a process together with the image and the sources it came from, so that
//! everything it says has a name and a line. It answers with plain data; whoever shows it computes
//! nothing. A moment is a number of completed instructions; going back restores the nearest earlier
//! checkpoint and executes again from there, which is exact since execution is deterministic.

mod call_notices;
mod change;
mod evaluate;
mod fault;
mod fault_origin;
mod frame_code;
mod frames;
mod history;
mod marks;
#[cfg(all(target_os = "linux", target_arch = "x86_64"))]
pub mod native;
mod place;
mod readings;
mod reasons;
mod reload;
mod remarks;
mod report;
mod running;
mod session;
mod stack;
mod stops;
mod texts;
mod unwound;
mod who;

pub use change::Change;
pub use evaluate::{EvaluateError, Evaluated};
pub use fault::{FaultReport, RegisterValue};
pub use frames::{Argument, Frame};
pub use marks::{Comparison, Mark, MemoryDifference, RegisterDifference};
pub use place::{Place, SourceText};
pub use readings::{Format, MemoryLine, Reading, Readings, format_words, read_as};
pub use reasons::{Compared, Reason};
pub use reload::TakenOver;
pub use report::{
    BranchReport, FlagReport, FlagReports, FlagsRead, MemoryReport, OnStack, RegisterReport,
    StepReport, SyscallArgument, SyscallView, VectorReport,
};
pub use session::{LastMoment, Session, SessionError, StopReason};
pub use stack::{DEEP, SlotRole, SlotWriter, StackSlot, StackView};
pub use stops::{Breakpoint, Watch, WatchChange};
pub use who::{Target, Writer, Wrote};
