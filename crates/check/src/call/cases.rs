//! Tables of cases for a routine.
//!
//! ```toml
//! [[case]]
//! name = "four readings"
//! arguments = ["[9, 3, 7, 1]:4byte", 4]
//! expect = 5
//! ```
//!
//! Arguments are written as on the command line; numbers may stand without quotes. `expect` is the result, or a table of
//! results by name; `output` is what the routine writes. `routine = "mean"` above the cases names the routine
//! where the command line does not.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use sotto_kernel::Startup;

use crate::call::argument::Argument;
use crate::call::expectation::{Expectation, ExpectationError};
use crate::call::result::{CallReport, Ending};
use crate::call::routine::{CallError, Routine};

/// Cases of a routine.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct CaseTable {
    /// The routine's name, if the table says it.
    pub routine: Option<String>,
    /// At least one.
    pub cases: Vec<Case>,
}

/// One case.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Case {
    /// Its name, or its number in words.
    pub name: String,
    /// Arguments as they are typed.
    pub arguments: Vec<String>,
    /// Results as [`Expectation::of`] takes them.
    pub expected: Vec<String>,
    /// What the routine writes, if that is asked.
    pub output: Option<String>,
}

/// Why a text is no table of cases.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[error("{message}")]
pub struct CasesError {
    /// The line, from 1.
    pub line: usize,
    /// What is wrong.
    pub message: String,
}

/// Why a case cannot be run.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
pub enum CaseError {
    /// The call cannot be made.
    #[error(transparent)]
    Call(#[from] CallError),
    /// The expectation is none.
    #[error(transparent)]
    Expectation(#[from] ExpectationError),
}

/// What came of a case.
#[derive(Clone, Debug, Serialize)]
pub struct CaseReport {
    /// The case's name.
    pub case: String,
    /// Its arguments as they are typed.
    pub arguments: Vec<String>,
    /// Whether nothing is wrong.
    pub passed: bool,
    /// What is wrong, a line each.
    pub wrong: Vec<String>,
    /// The call.
    pub report: CallReport,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Table {
    routine: Option<String>,
    #[serde(rename = "case", default)]
    cases: Vec<Row>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Row {
    #[serde(default)]
    name: String,
    #[serde(default)]
    arguments: Vec<Scalar>,
    expect: Option<Expected>,
    output: Option<String>,
}

#[derive(Deserialize)]
#[serde(untagged)]
enum Scalar {
    Integer(i64),
    Float(f64),
    Text(String),
}

#[derive(Deserialize)]
#[serde(untagged)]
enum Expected {
    One(Scalar),
    Named(BTreeMap<String, Scalar>),
}

impl Scalar {
    /// As it is typed on the command line.
    fn typed(&self) -> String {
        match self {
            Scalar::Integer(value) => value.to_string(),
            Scalar::Float(value) => format!("{value:?}"),
            Scalar::Text(text) => text.clone(),
        }
    }
}

impl Expected {
    fn typed(&self) -> Vec<String> {
        match self {
            Expected::One(value) => vec![value.typed()],
            Expected::Named(values) => {
                values.iter().map(|(name, value)| format!("{name}={}", value.typed())).collect()
            }
        }
    }
}

impl CaseTable {
    /// Reads a table of cases.
    ///
    /// # Errors
    ///
    /// The first thing that is wrong with the text. A table without cases is none.
    pub fn parse(text: &str) -> Result<CaseTable, CasesError> {
        let table: Table = toml::from_str(text).map_err(|error| CasesError {
            line: error.span().map_or(1, |span| text[..span.start].matches('\n').count() + 1),
            message: error.message().lines().next().unwrap_or_default().to_string(),
        })?;
        if table.cases.is_empty() {
            return Err(CasesError { line: 1, message: "the table holds no case".to_string() });
        }
        let case = |(number, row): (usize, &Row)| Case {
            name: match row.name.is_empty() {
                true => format!("case {}", number + 1),
                false => row.name.clone(),
            },
            arguments: row.arguments.iter().map(Scalar::typed).collect(),
            expected: row.expect.iter().flat_map(Expected::typed).collect(),
            output: row.output.clone(),
        };
        let cases = table.cases.iter().enumerate().map(case).collect();
        Ok(CaseTable { routine: table.routine, cases })
    }
}

impl Case {
    /// Calls the routine. `arguments` are those of the case, with the contents of files in them.
    ///
    /// # Errors
    ///
    /// If the arguments or the expectations do not go with the routine.
    pub fn run(
        &self,
        routine: &Routine,
        arguments: &[Argument],
        startup: &Startup,
        limit: u64,
    ) -> Result<CaseReport, CaseError> {
        let report = routine.call(arguments, startup, limit)?;
        let mut wrong = Vec::new();
        for text in &self.expected {
            wrong.extend(Expectation::of(text, &report.results)?.words());
        }
        if let Some(output) = &self.output
            && output.as_bytes() != report.output
        {
            wrong.push(format!(
                "expected the output \"{}\", and it is \"{}\"",
                output.as_bytes().escape_ascii(),
                report.output.escape_ascii()
            ));
        }
        // A fault is among the findings.
        if !matches!(report.ending, Ending::Fault { .. }) {
            wrong.extend(report.ending.words());
        }
        wrong.extend(report.findings.iter().map(|f| format!("{}: {}", f.code, f.fact)));
        let (case, arguments) = (self.name.clone(), self.arguments.clone());
        Ok(CaseReport { case, arguments, passed: wrong.is_empty(), wrong, report })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tables_are_read_and_mistakes_have_their_line() {
        let table = "[[case]]\narguments = [\"ebb\", 4, -1.5]\nexpect = { mean = 9 }\n\n[[case]]\nname = \"none\"\n";
        let cases = CaseTable::parse(table).unwrap().cases;
        assert_eq!(cases[0].name, "case 1");
        assert_eq!(cases[0].arguments, ["ebb", "4", "-1.5"]);
        assert_eq!(cases[0].expected, ["mean=9"]);
        assert_eq!((cases[1].name.as_str(), cases[1].expected.len()), ("none", 0));
        for (text, line) in [("", 1), ("[[case]]\nargument = 1\n", 2), ("\n\n[[case\n", 3)] {
            assert_eq!(CaseTable::parse(text).unwrap_err().line, line, "{text}");
        }
    }
}
