//! A routine called on its own: arguments in, results out, held to its contract or to the convention.

mod argument;
mod cases;
mod expectation;
mod random;
mod result;
mod routine;
mod setup;

pub use argument::{Argument, ArgumentError, Element};
pub use cases::{Case, CaseError, CaseReport, CaseTable, CasesError};
pub use expectation::{Expectation, ExpectationError};
pub use random::{Difference, by_convention, compare};
pub use result::{BufferAfter, CallReport, CallResult, Ending, RegisterAfter, TouchedMemory};
pub use routine::{CallError, Routine};
