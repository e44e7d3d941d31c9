//! `sotto demo`: writes the demo programs and takes a short tour of them.

use std::path::Path;
use std::process::Command;

use sotto_check::KINDS;

use crate::cli::DemoArgs;
use crate::console::{Stream, Tone, paint};
use crate::output::{self, Failure, say};

/// The programs: file name, text, and what each shows.
const PROGRAMS: &[(&str, &str, &str)] = &[
    ("lamp.s", include_str!("../demos/lamp.s"), "first output, and exit"),
    ("tide.s", include_str!("../demos/tide.s"), "a loop over a table of tide readings"),
    ("flash.s", include_str!("../demos/flash.s"), "a routine, called and returned from"),
    ("swell.s", include_str!("../demos/swell.s"), "doubles beside each other, in vector registers"),
    ("bell.s", include_str!("../demos/bell.s"), "32-bit code: arguments on the stack, int 0x80"),
    ("keepers.s", include_str!("../demos/keepers.s"), "two threads that count together"),
    ("watch.s", include_str!("../demos/watch.s"), "the C library: assemble it with --object"),
    ("lamp_arm64.s", include_str!("../demos/lamp_arm64.s"), "the lamp on 64-bit ARM"),
    (
        "tide_arm64.s",
        include_str!("../demos/tide_arm64.s"),
        "there a table, a routine and its frame",
    ),
    ("swell_arm64.s", include_str!("../demos/swell_arm64.s"), "there floats, four at a time"),
    ("heights.c", include_str!("../demos/heights.c"), "C: cc -g -Og -static heights.c -o heights"),
];

/// The folder of programs with one mistake each, and of the same programs mended.
const MISTAKES_FOLDER: &str = "mistakes";

/// `sotto demo`
pub fn demo_command(args: &DemoArgs) -> Result<u8, Failure> {
    let folder = &args.folder;
    std::fs::create_dir_all(folder)
        .map_err(|source| Failure::Write { path: folder.clone(), source })?;
    say(
        "The Skerry light station has a lamp, a tide gauge and a fog signal. These programs run it:",
    )?;
    for (name, text, shows) in PROGRAMS {
        let kept = match write(&folder.join(name), text)? {
            true => "",
            false => " (kept as you changed it)",
        };
        say(&format!("  {name:<14} {shows}{kept}"))?;
    }
    let mistakes = folder.join(MISTAKES_FOLDER);
    std::fs::create_dir_all(&mistakes)
        .map_err(|source| Failure::Write { path: mistakes.clone(), source })?;
    for info in KINDS {
        write(&mistakes.join(format!("{}.s", info.code)), info.example)?;
        write(&mistakes.join(format!("{}_mended.s", info.code)), info.mended)?;
    }
    let count = KINDS.len();
    say(&format!("  {:<14} {count} programs with one mistake each, and mended", "mistakes/"))?;
    say("")?;
    tour(
        folder,
        "Assemble the first one to a program for this computer:",
        &["assemble", "lamp.s"],
    )?;
    tour(folder, "Run it under the emulator, from its source:", &["run", "lamp.s"])?;
    tour(
        folder,
        "The tide gauge exits with the mean of its readings as its status:",
        &["run", "tide.s"],
    )?;
    tour_script(folder)?;
    tour(folder, "The same commands run the ARM board's program:", &["run", "lamp_arm64.s"])?;
    let shown = output::shown(folder);
    say("Now you:")?;
    say(&format!("  cd {shown}"))?;
    for (command, what) in [
        ("sotto step flash.s", "step it yourself on the full screen; F1 helps"),
        ("sotto step tide.s --at 25", "start at a line"),
        ("sotto trace swell.s", "vectors, element by element"),
        ("sotto trace swell_arm64.s", "the same on 64-bit ARM"),
        ("sotto step bell.s", "a stack with arguments; `stack` shows its slots"),
        (
            "sotto step heights --at highest",
            "C, once it is compiled, with the instructions of its lines",
        ),
        ("sotto run --interleavings 100 keepers.s", "a count that depends on when threads go on"),
        ("sotto trace tide.s", "every instruction with what it changed, a line each"),
        ("sotto call flash.s lit_seconds 0xe61", "one routine, with an argument"),
        ("sotto check mistakes/C105.s", "a mistake, its place and its remedy"),
        ("sotto explain adc", "what an instruction does, to which flags"),
        ("sotto explain write", "a system call, with its number and registers"),
    ] {
        let command = format!("{command:<40}");
        say(&format!("  {} {}", paint(Tone::Strong, &command), paint(Tone::Quiet, what)))?;
    }
    Ok(0)
}

/// Writes a file, unless somebody has changed it: then it is theirs, and `false`.
fn write(path: &Path, text: &str) -> Result<bool, Failure> {
    if path.exists() && output::read(path)? != text.as_bytes() {
        return Ok(false);
    }
    output::write_whole(path, text.as_bytes())?;
    Ok(true)
}

/// Runs ourselves in the folder, as a person would.
fn tour(folder: &Path, what: &str, words: &[&str]) -> Result<(), Failure> {
    say(what)?;
    let status = ourselves(folder, words)?;
    say(&paint(Tone::Quiet, &format!("  exit status {status}")))?;
    say("")?;
    Ok(())
}

/// Steps the routine for a few instructions.
fn tour_script(folder: &Path) -> Result<(), Failure> {
    let script = tempfile::NamedTempFile::new()
        .map_err(|source| Failure::Write { path: "a temporary file".into(), source })?;
    let commands = "step\nuntil lit_seconds\nstep 4\nback 2\nshow edi\nuntil 50\nstep\nresume\n";
    output::write_whole(script.path(), commands.as_bytes())?;
    say("Step the flash pattern: every step says what it changed, and steps go back as well:")?;
    let path = script.path().to_string_lossy().into_owned();
    ourselves_as(
        folder,
        &["step", "flash.s", "--script", "..."],
        &["step", "flash.s", "--plain", "--script", &path],
    )?;
    say("")?;
    Ok(())
}

fn ourselves(folder: &Path, words: &[&str]) -> Result<i32, Failure> {
    ourselves_as(folder, words, words)
}

fn ourselves_as(folder: &Path, shown: &[&str], words: &[&str]) -> Result<i32, Failure> {
    let program = std::env::current_exe()
        .map_err(|source| Failure::Read { path: "our own program".into(), source })?;
    say(&format!("{} sotto {}", paint(Tone::Quiet, "$"), paint(Tone::Strong, &shown.join(" "))))?;
    let color = if Stream::Output.has_colour() { "always" } else { "never" };
    let status = Command::new(&program)
        .current_dir(folder)
        .args(["--color", color])
        .args(words)
        .stdin(std::process::Stdio::null())
        .status()
        .map_err(|source| Failure::Read { path: program, source })?;
    Ok(status.code().unwrap_or(-1))
}
