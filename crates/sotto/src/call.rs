//! `sotto call`: one routine with arguments, as a question or as a test.

use std::path::PathBuf;

use serde_json::json;
use sotto_check::call::{
    Argument, CallError, CallReport, Ending, Expectation, ExpectationError, Routine, by_convention,
};
use sotto_isa::Arch;
use sotto_kernel::Startup;
use sotto_session::Session;

use crate::call_cases;
use crate::cli::{CallArgs, ProgramArgs};
use crate::console::{Tone, paint};
use crate::output::{self, Failure};
use crate::program::{self, Program};
use crate::{findings, render, with_c};

/// Status when the routine did not do what was expected, or broke something.
const FAILED: u8 = 1;

/// `sotto call`
pub fn call_command(args: &CallArgs, as_json: bool) -> Result<u8, Failure> {
    let program = load(args, &[], as_json)?;
    if let (Some(rounds), Some(against)) = (args.random, &args.against) {
        return compare(args, program, rounds, against, as_json);
    }
    let routine =
        Routine::find(&program.image, &program.sources, &args.routine).map_err(refused)?;
    if let Some(path) = &args.cases {
        return call_cases::run(path, &program, &routine, args.limit, as_json);
    }
    let arch = program.image.arch;
    let arguments = arguments(arch, &args.arguments)?;
    let report = routine.call(&arguments, &startup(&program), args.limit).map_err(refused)?;
    let mut expectations = Vec::new();
    for text in &args.expect {
        let compared = Expectation::of(text, &report.results);
        expectations.push(compared.map_err(|error| no_expectation(&error))?);
    }
    let met = expectations.iter().all(|expectation| expectation.met);
    if as_json {
        let answer = json!({
            "routine": routine.name,
            "arguments": args.arguments,
            "report": report,
            "expectations": expectations,
        });
        output::say_json(&answer)?;
    } else {
        let head = format!("{}({})", args.routine, args.arguments.join(", "));
        output::say(&to_text(&head, &report))?;
        for expectation in &expectations {
            output::say(&expectation_line(expectation))?;
        }
        tell_findings(&program, &report)?;
    }
    let fine = met && matches!(report.ending, Ending::Returned) && report.findings.is_empty();
    Ok(if fine { 0 } else { FAILED })
}

/// Makes the program that has the routine.
fn load(args: &CallArgs, more: &[PathBuf], as_json: bool) -> Result<Program, Failure> {
    let mut files = vec![args.file.clone()];
    files.extend(args.link.iter().chain(more).cloned());
    let program = ProgramArgs {
        files,
        target: args.target,
        entry: args.routine.clone(),
        operands: None,
        include_path: args.include_path.clone(),
    };
    program::load_routine(&program, as_json)
}

/// Compares the routine with a C function on random arguments.
fn compare(
    args: &CallArgs,
    program: Program,
    rounds: u64,
    against: &str,
    as_json: bool,
) -> Result<u8, Failure> {
    let Some((file, function)) = against.rsplit_once(':') else {
        let help = "write the file and the function: `--against mean.c:mean`";
        return Err(Failure::new(format!("`{against}` names no function"), help));
    };
    let arch = program.image.arch;
    let cannot =
        |error: std::io::Error| Failure::plain(format!("cannot make a temporary folder: {error}"));
    let folder = tempfile::tempdir().map_err(cannot)?;
    let object = folder.path().join("reference.o");
    with_c::compile(arch, file.as_ref(), &object)?;
    drop(program);
    let program = load(args, &[object], as_json)?;
    let find = |name: &str| Routine::find(&program.image, &program.sources, name).map_err(refused);
    let (routine, mut reference) = (find(&args.routine)?, find(function)?);
    let Some(contract) = &routine.contract else {
        return Err(Failure::new(
            format!("`{}` has no contract, which says what its arguments are", args.routine),
            "write one above it: `;: takes edi = depth: i32` and `;: returns eax = deeper`",
        ));
    };
    reference.contract = Some(by_convention(arch, contract));
    let found =
        sotto_check::call::compare(&routine, &reference, rounds, args.seed, &startup(&program))
            .map_err(refused)?;
    let count = render::thousands(rounds);
    let Some(difference) = found else {
        match as_json {
            true => output::say_json(&json!({ "calls": rounds, "difference": null }))?,
            false => output::say(&format!(
                "{} `{}` and `{function}` agree on {count} calls",
                paint(Tone::Changed, "same:"),
                args.routine
            ))?,
        }
        return Ok(0);
    };
    let typed: Vec<String> = difference.arguments.iter().map(Argument::typed).collect();
    if as_json {
        let answer = json!({ "arguments": typed, "what": difference.what });
        output::say_json(&json!({ "calls": rounds, "difference": answer }))?;
        return Ok(FAILED);
    }
    let call = format!("{}({})", args.routine, typed.join(", "));
    output::say(&format!("{} {call}", paint(Tone::Error, "differs:")))?;
    output::say(&format!("  {}", difference.what))?;
    let quoted: Vec<String> = typed.iter().map(|argument| format!("'{argument}'")).collect();
    let file = output::shown(&args.file);
    output::say(&format!(
        "  {} sotto call {file} {} {}",
        paint(Tone::Help, "shown by:"),
        args.routine,
        quoted.join(" ")
    ))?;
    Ok(FAILED)
}

/// What the routine's program starts with.
pub fn startup(program: &Program) -> Startup {
    use std::os::unix::ffi::OsStrExt;
    Startup::with_arguments([program.argument.as_bytes()])
}

/// The arguments as typed; files are read.
///
/// # Errors
///
/// An argument that is none, or a file that cannot be read.
pub fn arguments(arch: Arch, texts: &[String]) -> Result<Vec<Argument>, Failure> {
    texts
        .iter()
        .map(|text| {
            let argument = Argument::parse(arch, text)
                .map_err(|error| Failure::new(error.to_string(), error.help))?;
            match argument {
                Argument::File(path) => output::read(path.as_ref()).map(Argument::Bytes),
                argument => Ok(argument),
            }
        })
        .collect()
}

/// Why a call cannot be made, with what to do.
pub fn refused(error: CallError) -> Failure {
    let message = error.to_string();
    match error {
        CallError::NoRoutine { name, known } => {
            match sotto_asm::nearest(&name, known.iter().map(String::as_str)) {
                Some(near) => Failure::new(message, format!("did you mean `{near}`?")),
                None => {
                    let list: Vec<&str> = known.iter().take(12).map(String::as_str).collect();
                    Failure::new(message, format!("the file has {}", list.join(", ")))
                }
            }
        }
        CallError::Count { takes, .. } if !takes.is_empty() => {
            Failure::new(message, format!("it takes {takes}"))
        }
        _ => Failure::plain(message),
    }
}

/// An expectation that is none, with what to write.
pub fn no_expectation(error: &ExpectationError) -> Failure {
    Failure::new(error.to_string(), "write a number: `--expect 5`, or `--expect mean=5`")
}

fn expectation_line(expectation: &Expectation) -> String {
    match expectation.words() {
        None => format!("  {} {}", paint(Tone::Changed, "as expected:"), expectation.expected),
        Some(words) => format!("  {} {words}", paint(Tone::Error, "wrong:")),
    }
}

/// A report of a call as text.
fn to_text(head: &str, report: &CallReport) -> String {
    let mut lines = vec![paint(Tone::Strong, head)];
    for result in &report.results {
        let name = if result.name.is_empty() { String::new() } else { format!(" {}", result.name) };
        lines.push(format!(
            "  {:<10}{}{name} = {}  {}",
            "returns",
            result.location,
            paint(Tone::Changed, &result.value),
            paint(Tone::Quiet, result.kind.name())
        ));
    }
    for buffer in &report.buffers {
        let name = if buffer.name.is_empty() { String::new() } else { format!(" {}", buffer.name) };
        let contents = render::bytes_as(&buffer.bytes, buffer.element_bytes, buffer.is_text);
        let changed = if buffer.changed { "" } else { "  (unchanged)" };
        lines.push(format!("  {:<10}{}{name} = {contents}{changed}", "argument", buffer.argument));
    }
    lines.push(match (report.ending.words(), &report.ending) {
        (None, _) => format!(
            "  {:<10}{} instructions{}",
            "took",
            render::thousands(report.instructions),
            match report.stack_bytes {
                0 => String::new(),
                bytes => format!(", {bytes} bytes of stack"),
            }
        ),
        (Some(words), Ending::Fault { .. }) => {
            format!("  {} {words}", paint(Tone::Error, "fault:"))
        }
        (Some(words), _) => format!("  {} {words}", paint(Tone::Warning, "no return:")),
    });
    if !report.touched.is_empty() {
        let parts: Vec<String> = report
            .touched
            .iter()
            .map(|touched| {
                let how = match (touched.read, touched.written) {
                    (true, true) => "read and written",
                    (false, true) => "written",
                    _ => "read",
                };
                format!("{} bytes of {} {how}", touched.bytes, touched.what)
            })
            .collect();
        lines.push(format!("  {:<10}{}", "memory", parts.join(", ")));
    }
    if !report.changed.is_empty() {
        let names: Vec<&str> = report.changed.iter().map(|register| register.name).collect();
        lines.push(format!("  {:<10}{}", "changed", names.join(", ")));
    }
    if !report.output.is_empty() {
        lines.push(format!("  {:<10}{}", "wrote", render::quoted(&report.output)));
    }
    lines.join("\n")
}

/// Prints what the routine broke.
pub fn tell_findings(program: &Program, report: &CallReport) -> Result<(), Failure> {
    if report.findings.is_empty() {
        return Ok(());
    }
    // Findings are shown with the lines of the sources.
    let session = Session::start(program.image.clone(), program.sources.clone(), &startup(program))
        .map_err(|error| Failure::plain(error.to_string()))?;
    for finding in &report.findings {
        output::say("")?;
        output::say_rendered(&findings::to_text(&session, finding))?;
    }
    Ok(())
}
