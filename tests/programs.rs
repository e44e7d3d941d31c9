//! The test programs, with what their first lines promise. Included by the tests of several crates.

use std::path::{Path, PathBuf};

/// A program with its input, and the output and status it promises.
pub struct Program {
    pub path: PathBuf,
    pub text: String,
    pub input: String,
    pub output: String,
    pub status: i32,
}

/// The folder of the test data of the workspace.
pub fn data() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../tests/data")
}

/// Every program for a machine.
///
/// # Panics
///
/// If there is none: a test that finds no case has failed.
pub fn programs(arch: &str) -> Vec<Program> {
    let folder = data().join("programs").join(arch);
    let mut paths: Vec<PathBuf> =
        std::fs::read_dir(&folder).unwrap().map(|entry| entry.unwrap().path()).collect();
    paths.sort();
    assert!(!paths.is_empty(), "no programs in {}", folder.display());
    paths.into_iter().map(program).collect()
}

fn program(path: PathBuf) -> Program {
    let text = std::fs::read_to_string(&path).unwrap();
    let promise = |name: &str| {
        let line = text.lines().find_map(|line| {
            line.trim_start_matches([';', '/', '#', ' ']).strip_prefix(name)?.strip_prefix(": ")
        });
        line.unwrap_or("").replace("\\n", "\n")
    };
    let (input, output) = (promise("input"), promise("output"));
    let status = promise("status").parse().expect("a program promises its status");
    Program { path, input, output, status, text }
}
