//! C programs of the corpus, and what they do on this computer's own processor.

use std::io::{ErrorKind, Write};
use std::os::unix::process::ExitStatusExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

pub const INPUT: &str = "04: 1.25\n05: 2.5\nfog\n";
pub const ARGUMENTS: [&str; 2] = ["bell", "fog horn"];
/// What a program wrote to its two streams, and the status that a shell shows.
#[derive(PartialEq, Eq, Debug)]
pub struct Outcome {
    pub output: String,
    pub errors: String,
    pub status: i32,
}

/// Runs a program with the corpus's arguments and input.
pub fn natively(program: &Path) -> Outcome {
    let mut command = Command::new(program);
    command.args(ARGUMENTS).stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut child = loop {
        match command.spawn() {
            Ok(child) => break child,
            // A process that another test starts just now has the file open for writing until it executes its own.
            Err(error) if error.kind() == ErrorKind::ExecutableFileBusy => std::thread::yield_now(),
            Err(error) => panic!("{error}"),
        }
    };
    // A program that does not read its input may be gone already.
    let _ = child.stdin.take().unwrap().write_all(INPUT.as_bytes());
    let result = child.wait_with_output().unwrap();
    let status = result.status;
    Outcome {
        output: String::from_utf8(result.stdout).unwrap(),
        errors: String::from_utf8(result.stderr).unwrap(),
        status: status.code().unwrap_or_else(|| 128 + status.signal().unwrap()),
    }
}

/// The C sources, in order.
pub fn c_programs() -> Vec<PathBuf> {
    let folder = std::fs::read_dir(super::data().join("c")).unwrap();
    let mut paths: Vec<PathBuf> = folder.map(|entry| entry.unwrap().path()).collect();
    paths.sort();
    assert!(paths.len() >= 40, "{} programs", paths.len());
    paths
}
