//! `sotto check`: a program run under the checker.

use serde_json::json;
use sotto_check::call::Routine;
use sotto_check::{Checker, Finding, Kind, Options, Severity, findings_of_code};
use sotto_kernel::Termination;
use sotto_session::{Session, StopReason};

use crate::cli::{CheckArgs, Deny};
use crate::console::{Tone, paint};
use crate::output::{self, Failure};
use crate::program::{self, Program};
use crate::start::Start;
use crate::{call, call_cases, findings, interrupt, render, with_c};

/// Status when something was found.
const FOUND: u8 = 1;

/// What was found, and how it was looked at.
#[derive(Default)]
struct Looked {
    findings: Vec<Finding>,
    /// How the run ended, or why there was none, and what came of the cases.
    run: String,
    /// Cases whose results are not what they should be.
    wrong: Vec<String>,
}

/// `sotto check`
pub fn check_command(args: &CheckArgs, as_json: bool) -> Result<u8, Failure> {
    let allow = args.allow.iter().map(|code| kind(code)).collect::<Result<_, _>>()?;
    let options = Options { libraries: args.libraries, allow, memory: false };
    let program = match args.with_c {
        true => with_c::load_program(&args.program, true, as_json)?,
        false => program::load_routines(&args.program, as_json)?,
    };
    interrupt::listen();
    let cases = cases(args, &program)?;
    let (starts, has_cases) = (program.starts, !args.cases.is_empty());
    let stdin = args.stdin.as_deref();
    let start = Start::new(&program, &args.system, &args.arguments, stdin, false)?;
    let mut session = start.session(program)?;
    let mut of_code = findings_of_code(&mut session, &options);
    let mut looked = match starts {
        true => run_program(args, &start, &mut session, &options)?,
        false => Looked::default(),
    };
    looked.run = match (starts, has_cases) {
        (true, _) => format!("the program {}", looked.run),
        (false, true) => String::new(),
        (false, false) => {
            format!("not run: it has no `{}`; `--cases FILE` runs routines", args.program.entry)
        }
    };
    if has_cases {
        let separator = if looked.run.is_empty() { "" } else { "; " };
        looked.run = format!("{}{separator}{}", looked.run, cases.run);
    }
    looked.wrong = cases.wrong;
    let allowed =
        |finding: &Finding| !Kind::of(finding).is_some_and(|kind| options.allow.contains(&kind));
    for finding in cases.findings.into_iter().filter(allowed) {
        looked.add(finding);
    }
    for finding in of_code.drain(..) {
        looked.add(finding);
    }
    // The worst come first; of one severity, in the order of the run.
    looked.findings.sort_by_key(|finding| std::cmp::Reverse(finding.severity));
    let denied = match args.deny {
        Deny::Hint => Severity::Hint,
        Deny::Warning => Severity::Warning,
        Deny::Error => Severity::Error,
    };
    let found = looked.findings.iter().any(|finding| finding.severity >= denied);
    tell(&session, &looked, as_json)?;
    Ok(if found || !looked.wrong.is_empty() { FOUND } else { 0 })
}

impl Looked {
    /// Adds a finding unless it was told already of this place.
    fn add(&mut self, finding: Finding) {
        let same = |known: &Finding| (known.code, &known.place) == (finding.code, &finding.place);
        if !self.findings.iter().any(same) {
            self.findings.push(finding);
        }
    }
}

/// Runs the program under the checker.
fn run_program(
    args: &CheckArgs,
    start: &Start,
    session: &mut Session,
    options: &Options,
) -> Result<Looked, Failure> {
    start.give_input(session, None)?;
    if args.stdin.is_none() {
        // Nobody is asked for input: a check runs by itself.
        session.system_mut().close_input();
    }
    let mut checker = Checker::new(session, options.clone());
    let run = watch(session, &mut checker, args.limit);
    checker.finish(session);
    Ok(Looked { findings: checker.into_findings(), run, wrong: Vec::new() })
}

/// Runs the tables of cases.
fn cases(args: &CheckArgs, program: &Program) -> Result<Looked, Failure> {
    let mut looked = Looked::default();
    let (mut count, mut passed) = (0, 0);
    for path in &args.cases {
        let table = call_cases::read(path)?;
        let stem = path.file_stem().unwrap_or_default().to_string_lossy().into_owned();
        let name = table.routine.unwrap_or(stem);
        let found = Routine::find(&program.image, &program.sources, &name);
        let routine =
            found.map_err(|error| call::refused(error).in_context(&output::shown(path)))?;
        for case in &table.cases {
            let report = call_cases::run_case(path, program, &routine, case, args.limit)?;
            count += 1;
            passed += u64::from(report.wrong.is_empty());
            // Findings are told by themselves.
            let told: Vec<String> =
                report.report.findings.iter().map(|f| format!("{}: {}", f.code, f.fact)).collect();
            let wrong = report.wrong.iter().filter(|text| !told.contains(text));
            looked.wrong.extend(wrong.map(|text| format!("{name}, {}: {text}", case.name)));
            report.report.findings.into_iter().for_each(|finding| looked.add(finding));
        }
    }
    looked.run = format!("{passed} of {count} cases passed");
    Ok(looked)
}

fn kind(code: &str) -> Result<Kind, Failure> {
    Kind::by_code(code).map(|info| info.kind).ok_or_else(|| {
        Failure::new(
            format!("no finding has the code `{code}`"),
            "a code is that of a finding: C201",
        )
    })
}

/// Runs the program; how that ended, in words.
fn watch(session: &mut Session, checker: &mut Checker, limit: u64) -> String {
    loop {
        if session.moment() >= limit {
            return format!("stopped after {} instructions", render::thousands(limit));
        }
        if session.moment().is_multiple_of(4096) && interrupt::asked() {
            return "interrupted".to_string();
        }
        match checker.step(session) {
            StopReason::Terminated => {
                let status = session.ending().map_or(0, Termination::shell_status);
                let count = render::thousands(session.moment());
                return format!("ended with status {status} after {count} instructions");
            }
            StopReason::MemoryLimit => {
                return "stopped: it wants more memory than it may have".to_string();
            }
            StopReason::NeedsInput => return "stopped: it wants input".to_string(),
            StopReason::Stuck => return format!("stopped: {}", crate::run::STUCK),
            _ => {}
        }
    }
}

fn tell(session: &Session, looked: &Looked, as_json: bool) -> Result<(), Failure> {
    let Looked { findings: found, run, wrong } = looked;
    if as_json {
        for finding in found {
            output::say_json(&json!(finding))?;
        }
        return output::say_json(&json!({ "run": run, "findings": found.len(), "wrong": wrong }));
    }
    for finding in found {
        output::say_rendered(&findings::to_text(session, finding))?;
        output::say("")?;
    }
    for text in wrong {
        output::say(&format!("{} {text}", paint(Tone::Error, "wrong:")))?;
    }
    let lines = session.image().lines.rows.is_empty() && session.image().contracts.is_empty();
    let what = match (found.is_empty(), lines) {
        (true, true) => "nothing was judged: the program has no source lines and no contracts; `--libraries` judges all code".to_string(),
        (true, false) => "nothing found".to_string(),
        _ => format!("found {}", findings::counts(found)),
    };
    output::say(&format!("{what}; {run}"))
}
