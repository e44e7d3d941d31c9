//! A run being examined: stepping, history, breakpoints, and reports of what happened.
//!
//! A [`Session`] holds a process together with the image and the sources it came from, so that
//! everything it says has a name and a line. It answers with plain data; whoever shows it computes
//! nothing. A moment is a number of completed instructions; going back restores the nearest earlier
//! checkpoint and executes again from there, which is exact since execution is deterministic.

mod faults;
mod interleavings;
pub mod protocol;
pub mod recording;
mod run;
mod views;

pub use faults::fault_report::{FaultReport, NamedRegister};
pub use interleavings::{Interleavings, RunEnding, RunResult, try_interleavings};
pub use run::changes::Change;
pub use run::evaluate::{EvaluateError, Evaluated};
pub use run::last_writer::{Target, Writer, Wrote};
pub use run::marks::{Comparison, Mark, MemoryDifference, RegisterDifference};
pub use run::observe::StepObserver;
pub use run::reload::CarriedOver;
pub use run::session::{LastMoment, Session, SessionError, StopReason};
pub use run::stops::{Breakpoint, Watch, WatchChange};
pub use run::tasks::{CircleView, TaskView, WaitView};
pub use run::variables::NamedVariable;
pub use views::code::CodeLine;
pub use views::frames::{Argument, Frame};
pub use views::places::{Place, SourceText, hex};
pub use views::reasons::{Compared, Reason};
pub use views::stack::{DEEP, SlotRole, SlotWriter, StackSlot, StackView};
pub use views::step_report::{
    BranchReport, FlagReport, FlagReports, FlagsRead, MemoryReport, OnStack, RegisterReport,
    StepReport, SyscallArgument, SyscallView, VectorReport,
};
pub use views::values::{Format, MemoryLine, Reading, Readings, format_words, read_as};
