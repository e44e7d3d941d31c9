//! A finding: what is wrong, as plain data.

use serde::Serialize;
use sotto_session::Place;

use crate::kinds::{Kind, Severity};

/// Something that a program does and probably should not.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct Finding {
    /// The code, `C101`.
    pub code: &'static str,
    /// What it is, as a row of the table.
    #[serde(skip)]
    pub kind: Kind,
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
