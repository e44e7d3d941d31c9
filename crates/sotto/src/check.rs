//! `sotto check`: a program run under the checker.

use serde_json::json;
use sotto_check::{Checker, Finding, Kind, Options, Outcome, Severity, findings_of_code};
use sotto_kernel::Stop;
use sotto_session::Session;

use crate::cli::{CheckArgs, Deny};
use crate::output::{self, Failure};
use crate::{findings, guest_io, interrupt, render, run, with_c};

/// Status when something was found.
const FOUND: u8 = 1;

/// `sotto check`
pub fn check_command(args: &CheckArgs, as_json: bool) -> Result<u8, Failure> {
    let allow = args.allow.iter().map(|code| kind(code)).collect::<Result<_, _>>()?;
    let options = Options { libraries: args.libraries, allow, memory: false };
    let program = with_c::load_program(&args.program, args.with_c, as_json)?;
    let startup = run::startup(&program.argument, &args.arguments, args.memory);
    let mut session = run::session(program, &startup)?;
    match &args.stdin {
        Some(path) => {
            session.process_mut().set_input_source(guest_io::file_source(path)?);
        }
        // Nobody is asked for input: a check runs by itself.
        None => session.process_mut().close_input(),
    }
    interrupt::listen();
    let of_code = findings_of_code(&mut session, &options);
    let mut checker = Checker::new(&session, options);
    let ending = watch(&mut session, &mut checker, args.limit);
    checker.finish(&mut session);
    let mut found: Vec<Finding> = checker.into_findings();
    // What the run showed is not told again.
    let told = |one: &Finding| found.iter().any(|f| (f.kind, &f.place) == (one.kind, &one.place));
    let of_code: Vec<Finding> = of_code.into_iter().filter(|one| !told(one)).collect();
    found.extend(of_code);
    // The worst come first; of one severity, in the order of the run.
    found.sort_by_key(|finding| std::cmp::Reverse(finding.severity));
    let denied = match args.deny {
        Deny::Hint => Severity::Hint,
        Deny::Warning => Severity::Warning,
        Deny::Error => Severity::Error,
    };
    let status = found.iter().any(|finding| finding.severity >= denied);
    tell(&session, &found, &ending, as_json)?;
    Ok(if status { FOUND } else { 0 })
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
            Outcome::Continues
            | Outcome::Stopped(Stop::Output | Stop::Paused | Stop::Unfinished) => {}
            Outcome::Stopped(Stop::Terminated(ending)) => {
                let status = ending.shell_status();
                let count = render::thousands(session.moment());
                return format!("ended with status {status} after {count} instructions");
            }
            Outcome::Stopped(Stop::MemoryLimit) => {
                return "stopped: it wants more memory than it may have".to_string();
            }
            Outcome::Stopped(_) => return "stopped: it wants input".to_string(),
        }
    }
}

fn tell(session: &Session, found: &[Finding], ending: &str, as_json: bool) -> Result<(), Failure> {
    if as_json {
        for finding in found {
            output::say_json(&json!(finding))?;
        }
        return output::say_json(&json!({ "run": ending, "findings": found.len() }));
    }
    for finding in found {
        output::say_rendered(&findings::to_text(session, finding))?;
        output::say("")?;
    }
    let lines = session.image().lines.rows.is_empty() && session.image().contracts.is_empty();
    let what = match (found.is_empty(), lines) {
        (true, true) => "nothing was judged: the program has no source lines and no contracts; `--libraries` judges all code".to_string(),
        (true, false) => "nothing found".to_string(),
        _ => format!("found {}", findings::counts(found)),
    };
    output::say(&format!("{what}; the program {ending}"))
}
