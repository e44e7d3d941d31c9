//! What is wrong with a program, as plain data: a code, places, the fact, the remedy and how bad it is.
//!
//! A [`Finding`] says nothing of how it was found or how it is shown.

mod place;

use serde::Serialize;

pub use place::{Place, hex, with_offset};

/// How bad a finding is.
#[derive(Copy, Clone, PartialEq, Eq, PartialOrd, Ord, Debug, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// Worth a look.
    Hint,
    /// Probably a mistake.
    Warning,
    /// A mistake.
    Error,
}

impl Severity {
    /// The severity in a word.
    pub const fn name(self) -> &'static str {
        match self {
            Severity::Hint => "hint",
            Severity::Warning => "warning",
            Severity::Error => "error",
        }
    }
}

/// Something that a program does and probably should not.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct Finding {
    /// The code, `C101`.
    pub code: &'static str,
    /// How bad.
    pub severity: Severity,
    /// Where: the instruction, or the label.
    pub place: Place,
    /// That instruction; `None` if the finding is about none.
    pub instruction: Option<String>,
    /// Instructions completed before it; `None` if it was found without running the program.
    pub moment: Option<u64>,
    /// What is the case, with the values, in one sentence.
    pub fact: String,
    /// Other places that matter, each with what happened there.
    pub history: Vec<Remark>,
    /// What to write instead.
    pub help: String,
}

/// A place that matters for a finding.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct Remark {
    /// Where.
    pub place: Place,
    /// What stands or happened there.
    pub text: String,
}
