//! `sotto call --cases`: a table of cases for a routine.
//!
//! ```toml
//! [[case]]
//! name = "four readings"
//! arguments = ["[9, 3, 7, 1]:4byte", 4]
//! expect = 5
//! ```
//!
//! Arguments are written as on the command line; numbers may stand without quotes. `expect` is the result, or a table of
//! results by name; `output` is what the routine writes.

use std::collections::BTreeMap;
use std::path::Path;

use serde::Deserialize;
use serde_json::{Value, json};
use sotto_check::call::{CallReport, Ending, Routine};

use crate::call::{self, Expectation};
use crate::console::{Tone, paint};
use crate::output::{self, Failure};
use crate::program::Program;
use crate::render;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Table {
    #[serde(rename = "case", default)]
    cases: Vec<Case>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Case {
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
    let table: Table = toml::from_str(&text).map_err(|error| {
        let message = error.message().lines().next().unwrap_or_default().to_string();
        let line = error.span().map_or(0, |span| text[..span.start].matches('\n').count() + 1);
        Failure::new(
            format!("{shown}:{line}: {message}"),
            "a case is `[[case]]` with `name`, `arguments`, `expect` and `output`",
        )
    })?;
    if table.cases.is_empty() {
        let help = "a case begins with `[[case]]`";
        return Err(Failure::new(format!("{shown} holds no case"), help));
    }
    let startup = call::startup(program);
    let mut failed = Vec::new();
    for (number, case) in table.cases.iter().enumerate() {
        let name = match case.name.is_empty() {
            true => format!("case {}", number + 1),
            false => case.name.clone(),
        };
        let in_case = |failure: Failure| failure.in_context(&format!("{shown}, {name}"));
        let typed: Vec<String> = case.arguments.iter().map(Scalar::typed).collect();
        let arguments = call::arguments(program.image.arch, &typed).map_err(in_case)?;
        let report = routine
            .call(&arguments, &startup, limit)
            .map_err(|error| in_case(call::refused(error)))?;
        let mut wrong = Vec::new();
        for text in case.expect.iter().flat_map(Expected::typed) {
            let expectation = Expectation::of(&text, &report.results).map_err(in_case)?;
            if !expectation.met {
                wrong.push(format!(
                    "expected {}, and it is {}",
                    expectation.wanted, expectation.got
                ));
            }
        }
        if let Some(output) = &case.output
            && output.as_bytes() != report.output
        {
            wrong.push(format!(
                "expected the output {}, and it is {}",
                render::quoted(output.as_bytes()),
                render::quoted(&report.output)
            ));
        }
        if let Some(words) = no_return(&report) {
            wrong.push(words);
        }
        wrong.extend(report.findings.iter().map(|f| format!("{}: {}", f.code, f.fact)));
        if as_json {
            let answer: Value = json!({
                "case": name,
                "arguments": typed,
                "passed": wrong.is_empty(),
                "wrong": wrong,
                "report": report,
            });
            output::say_json(&answer)?;
        } else {
            output::say(&line(&name, &routine.name, &typed, &report, &wrong))?;
        }
        if !wrong.is_empty() {
            failed.push((name, report));
        }
    }
    if !as_json {
        let all = table.cases.len();
        let passed = all - failed.len();
        output::say(&format!("{passed} of {all} cases passed"))?;
        if let Some((_, report)) = failed.first() {
            call::tell_findings(program, report)?;
        }
    }
    Ok(u8::from(!failed.is_empty()))
}

fn no_return(report: &CallReport) -> Option<String> {
    Some(match &report.ending {
        Ending::Returned => return None,
        Ending::Exited { status } => format!("it ended the program with status {status}"),
        // The fault is among the findings.
        Ending::Fault { .. } => return None,
        Ending::Limit { limit } => {
            format!("it runs on after {} instructions", render::thousands(*limit))
        }
        Ending::NeedsInput => "it waits for input".to_string(),
        Ending::MemoryLimit => "it wants more memory than it may have".to_string(),
    })
}

fn line(
    name: &str,
    routine: &str,
    typed: &[String],
    report: &CallReport,
    wrong: &[String],
) -> String {
    let result = report.results.first().map_or(String::new(), |r| format!(" = {}", r.value));
    let call = format!("{routine}({}){result}", typed.join(", "));
    match wrong.is_empty() {
        true => format!("{} {name}  {call}", paint(Tone::Changed, "passed")),
        false => {
            let mut text = format!("{} {name}  {call}", paint(Tone::Error, "failed"));
            for words in wrong {
                text.push_str(&format!("\n         {words}"));
            }
            text
        }
    }
}
