//! Driving the built program on files in a temporary folder.
#![allow(dead_code, unused_imports, reason = "each test file uses a part of this")]

use std::path::{Path, PathBuf};

use assert_cmd::Command;

#[path = "../../../../tests/programs.rs"]
mod programs;
pub mod terminal;
pub use programs::{Program, data, has, kernel_runs_32_bit, programs};

/// A folder that goes away, with files in it.
pub struct Folder(tempfile::TempDir);

impl Folder {
    /// A folder with these files.
    pub fn new(files: &[(&str, &str)]) -> Folder {
        let folder = Folder(tempfile::tempdir().unwrap());
        for (name, text) in files {
            folder.write(name, text);
        }
        folder
    }

    pub fn write(&self, name: &str, text: &str) {
        std::fs::write(self.path(name), text).unwrap();
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.0.path().join(name)
    }

    /// `sotto WORDS`, to be run in the folder.
    pub fn sotto(&self, words: &[&str]) -> Command {
        let mut command = Command::cargo_bin("sotto").unwrap();
        command.current_dir(self.0.path()).args(words).env("NO_COLOR", "1");
        command
    }

    /// What `sotto WORDS` prints and how it ends, as one text.
    pub fn transcript(&self, words: &[&str], input: &str) -> String {
        let output = self.sotto(words).write_stdin(input).output().unwrap();
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).trim_end().to_string();
        let (out, err) = (text(&output.stdout), text(&output.stderr));
        let mut parts = Vec::new();
        if !out.is_empty() {
            parts.push(out);
        }
        if !err.is_empty() {
            parts.push(format!("--- standard error\n{err}"));
        }
        parts.push(format!("--- status {}", output.status.code().unwrap_or(-1)));
        parts.join("\n")
    }
}

/// A demo program.
pub fn demo(name: &str) -> String {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("demos").join(name);
    std::fs::read_to_string(path).unwrap()
}
