//! `sotto call --cases`: a table of cases for a routine, and what came of each.

use std::path::Path;

use serde_json::json;
use sotto_check::call::{Case, CaseError, CaseReport, CaseTable, Routine};

use crate::call;
use crate::console::{Tone, paint};
use crate::output::{self, Failure};
use crate::program::Program;

/// Reads a table of cases.
///
/// # Errors
///
/// A file that cannot be read or is no table of cases.
pub fn read(path: &Path) -> Result<CaseTable, Failure> {
    let shown = output::shown(path);
    let text = String::from_utf8(output::read(path)?)
        .map_err(|_| Failure::plain(format!("{shown} is no UTF-8 text")))?;
    CaseTable::parse(&text).map_err(|error| {
        Failure::new(
            format!("{shown}:{}: {error}", error.line),
            "a case is `[[case]]` with `name`, `arguments`, `expect` and `output`",
        )
    })
}

/// Runs every case and prints a table; the exit status.
///
/// # Errors
///
/// A file that cannot be read or is no table of cases, or a case whose arguments do not go with the routine.
pub fn run(
    path: &Path,
    program: &Program,
    routine: &Routine,
    limit: u64,
    as_json: bool,
) -> Result<u8, Failure> {
    let cases = read(path)?.cases;
    let mut failed: Vec<CaseReport> = Vec::new();
    for case in &cases {
        let report = run_case(path, program, routine, case, limit)?;
        match as_json {
            true => output::say_json(&json!(report))?,
            false => output::say(&line(&routine.name, &report))?,
        }
        if !report.passed {
            failed.push(report);
        }
    }
    if !as_json {
        let all = cases.len();
        output::say(&format!("{} of {all} cases passed", all - failed.len()))?;
        if let Some(first) = failed.first() {
            call::tell_findings(program, &first.report)?;
        }
    }
    Ok(u8::from(!failed.is_empty()))
}

/// Runs a case of the table in a file.
///
/// # Errors
///
/// Arguments or expectations that do not go with the routine.
pub fn run_case(
    path: &Path,
    program: &Program,
    routine: &Routine,
    case: &Case,
    limit: u64,
) -> Result<CaseReport, Failure> {
    let context = format!("{}, {}", output::shown(path), case.name);
    let in_case = |failure: Failure| failure.in_context(&context);
    let arguments = call::arguments(program.image.arch, &case.arguments).map_err(in_case)?;
    case.run(routine, &arguments, &call::startup(program), limit).map_err(|error| {
        in_case(match error {
            CaseError::Call(error) => call::refused(error),
            CaseError::Expectation(error) => call::no_expectation(&error),
        })
    })
}

fn line(routine: &str, case: &CaseReport) -> String {
    let first = case.report.results.first();
    let result = first.map_or(String::new(), |result| format!(" = {}", result.value));
    let (tone, word) = match case.passed {
        true => (Tone::Changed, "passed"),
        false => (Tone::Error, "failed"),
    };
    let call = format!("{routine}({}){result}", case.arguments.join(", "));
    let mut text = format!("{} {}  {call}", paint(tone, word), case.case);
    for words in &case.wrong {
        text.push_str(&format!("\n         {words}"));
    }
    text
}
