//! `sotto run --interleavings N`: whether what a program does depends on when its threads and processes go on.

use std::fs;

use serde_json::{Value, json};
use sotto_kernel::Startup;
use sotto_session::{Interleavings, RunEnding, RunResult, try_interleavings};

use crate::cli::RunArgs;
use crate::console::{Tone, paint};
use crate::output::{self, Failure, shown};
use crate::program::Program;
use crate::{interrupt, render, run};

/// Status if a seed gives another result.
const DIFFERS: u8 = 1;

/// Tries the seeds and tells what came of it.
pub fn command(
    program: Program,
    startup: Startup,
    seeds: u64,
    args: &RunArgs,
    as_json: bool,
) -> Result<u8, Failure> {
    let input = match &args.stdin {
        Some(path) => fs::read(path)
            .map_err(|error| Failure::plain(format!("cannot read {}: {error}", shown(path))))?,
        None => Vec::new(),
    };
    interrupt::listen();
    let limit = args.limit.unwrap_or(u64::MAX);
    let found = try_interleavings(&program.image, &startup, &input, seeds, limit, interrupt::asked)
        .map_err(|error| run::refused(&error))?;
    if as_json {
        output::say_json(&as_value(&found))?;
    } else {
        output::say(&as_text(&found, args))?;
    }
    Ok(if found.differing.is_some() { DIFFERS } else { 0 })
}

fn ending(ending: RunEnding) -> String {
    match ending {
        RunEnding::Exited(status) => format!("exit status {status}"),
        RunEnding::Killed(signal) => format!("killed by {}", signal.name()),
        RunEnding::Stuck => "all tasks wait for each other".to_string(),
        RunEnding::Limit => "at the limit on instructions".to_string(),
        RunEnding::MemoryLimit => "at the limit on memory".to_string(),
        RunEnding::Interrupted => "interrupted".to_string(),
    }
}

fn summary(result: &RunResult) -> String {
    let bytes = match result.output.len() + result.errors.len() {
        0 => "no output".to_string(),
        1 => "1 byte of output".to_string(),
        count => format!("{} bytes of output", render::thousands(count as u64)),
    };
    format!("{}, {bytes}", ending(result.ending))
}

/// The first line in which two outputs differ: its number, and what it is in both.
fn first_difference<'a>(one: &'a [u8], other: &'a [u8]) -> Option<(usize, [Option<&'a [u8]>; 2])> {
    let lines = |bytes: &'a [u8]| bytes.split_inclusive(|byte| *byte == b'\n');
    let (mut ones, mut others) = (lines(one), lines(other));
    (1..).find_map(|number| match (ones.next(), others.next()) {
        (None, None) => Some(None),
        (a, b) if a != b => Some(Some((number, [a, b]))),
        _ => None,
    })?
}

fn line(bytes: Option<&[u8]>) -> String {
    const MOST: usize = 60;
    match bytes {
        None => "nothing".to_string(),
        Some(bytes) => {
            let text = String::from_utf8_lossy(bytes.strip_suffix(b"\n").unwrap_or(bytes));
            let cut: String = text.escape_debug().take(MOST).collect();
            format!("`{cut}`")
        }
    }
}

fn as_text(found: &Interleavings, args: &RunArgs) -> String {
    let tried = match found.tried {
        1 => "1 seed".to_string(),
        tried => format!("{} seeds", render::thousands(tried)),
    };
    let Some((seed, other)) = &found.differing else {
        return format!("{tried} gave the same result: {}", summary(&found.plain));
    };
    let mut text = format!(
        "{} seed {seed} gives another result\n  in rotation: {}\n  seed {seed}: {}",
        paint(Tone::Warning, "differs:"),
        summary(&found.plain),
        summary(other),
    );
    let streams = [
        ("standard output", &found.plain.output, &other.output),
        ("standard error", &found.plain.errors, &other.errors),
    ];
    for (name, one, other) in streams {
        if let Some((number, [one, other])) = first_difference(one, other) {
            text += &format!("\n  line {number} of {name}: {} became {}", line(one), line(other));
        }
    }
    let files: Vec<String> = args.program.files.iter().map(|path| shown(path)).collect();
    text + &format!("\n  see it happen: sotto step --seed {seed} {}", files.join(" "))
}

fn as_value(found: &Interleavings) -> Value {
    let result = |result: &RunResult| {
        json!({
            "ending": ending(result.ending),
            "output": String::from_utf8_lossy(&result.output),
            "errors": String::from_utf8_lossy(&result.errors),
        })
    };
    let differing = found.differing.as_ref();
    json!({
        "tried": found.tried,
        "in_rotation": result(&found.plain),
        "seed": differing.map(|(seed, _)| seed),
        "with_seed": differing.map(|(_, other)| result(other)),
    })
}
