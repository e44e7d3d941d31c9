//! Findings: what a program does against contracts, calling conventions and common sense, and routines called on their
//! own.
//!
//! A [`Checker`] watches a program step by step. Everything it says is a [`Finding`]: plain data with a code, a place, the
//! fact, the reason and the remedy. What findings there are is one table, [`KINDS`]. A routine is called with arguments by
//! [`call::Routine`], under the same checker.

pub mod call;
mod called;
mod checker;
mod code;
mod conventions;
mod declared;
mod follower;
mod kinds;
mod raw_finding;
mod shadow;

pub use checker::{Checker, Options};
pub use code::findings_of_code;
pub use follower::Follower;
pub use kinds::{KINDS, Kind, KindInfo};
pub use sotto_finding::{Finding, Remark, Severity};
