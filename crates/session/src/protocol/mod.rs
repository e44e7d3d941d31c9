//! What is asked of a session and what it answers, as typed data with a version.
//!
//! A request is a line: a command of the stepper in words, or an object with the command and an id. Its answers follow in
//! order, each with the request's id, and an end that says whether it was carried out. Every answer has a tag, `answer`, and
//! its facts in fields of their own, beside the words for a person. Moments and counts are numbers; values of 64 bits are
//! strings in hexadecimal, since many readers of JSON lose bits above 2^53.

mod answer;
mod request;

pub use answer::{
    Answer, At, BreakpointAnswer, FlagAnswer, OutputText, Part, RegisterAnswer, Reply, Shown,
    SourceRow, StopTag, SyscallRow, WatchAnswer,
};
pub use request::{Request, RequestError};

/// The version of the protocol. It grows when a field changes its meaning or goes; new fields and answers do not change it.
pub const VERSION: u32 = 1;
