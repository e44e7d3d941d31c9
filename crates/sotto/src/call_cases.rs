//! `sotto call --cases`: a table of cases for a routine, and what came of each.

use std::path::Path;

use serde_json::json;
use sotto_check::call::{Case, CaseError, CaseReport, Routine};

use crate::call;
use crate::console::{Tone, paint};
use crate::output::{self, Failure};
use crate::program::Program;

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
    let shown = output::shown(path);
    let text = String::from_utf8(output::read(path)?)
        .map_err(|_| Failure::plain(format!("{shown} is no UTF-8 text")))?;
    let cases = Case::parse_table(&text).map_err(|error| {
        Failure::new(
            format!("{shown}:{}: {error}", error.line),
            "a case is `[[case]]` with `name`, `arguments`, `expect` and `output`",
        )
    })?;
    let startup = call::startup(program);
    let mut failed: Vec<CaseReport> = Vec::new();
    for case in &cases {
        let in_case = |failure: Failure| failure.in_context(&format!("{shown}, {}", case.name));
        let arguments = call::arguments(program.image.arch, &case.arguments).map_err(in_case)?;
        let report = case.run(routine, &arguments, &startup, limit).map_err(|error| {
            in_case(match error {
                CaseError::Call(error) => call::refused(error),
                CaseError::Expectation(error) => call::no_expectation(&error),
            })
        })?;
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
