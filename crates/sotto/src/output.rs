//! Failures, and files that are written whole or not at all.

use std::io::{self, Write};
use std::path::{Path, PathBuf};

use serde_json::json;

use crate::render::{Tone, paint};

/// Why a command could not be carried out.
#[derive(Debug, thiserror::Error)]
pub enum Failure {
    /// The sources have errors, which were printed already.
    #[error("the sources have errors")]
    Reported,
    /// A file cannot be read.
    #[error("cannot read {}: {source}", .path.display())]
    Read {
        /// The file.
        path: PathBuf,
        /// What the operating system says.
        source: io::Error,
    },
    /// A file cannot be written.
    #[error("cannot write {}: {source}", .path.display())]
    Write {
        /// The file.
        path: PathBuf,
        /// What the operating system says.
        source: io::Error,
    },
    /// Something else, with what to do about it.
    #[error("{message}")]
    Other {
        /// The fact.
        message: String,
        /// The remedy.
        help: Option<String>,
    },
}

impl Failure {
    /// A failure with a remedy.
    pub fn new(message: impl Into<String>, help: impl Into<String>) -> Failure {
        Failure::Other { message: message.into(), help: Some(help.into()) }
    }

    /// A failure without one.
    pub fn plain(message: impl Into<String>) -> Failure {
        Failure::Other { message: message.into(), help: None }
    }
}

/// Prints a failure to standard error.
pub fn failure(failure: &Failure, json: bool) {
    let help = match failure {
        Failure::Reported => return,
        Failure::Other { help, .. } => help.as_deref(),
        _ => None,
    };
    let mut out = anstream::stderr();
    // If standard error is closed there is nobody left to tell.
    if json {
        let value = json!({ "error": failure.to_string(), "help": help });
        let _ = writeln!(out, "{value}");
        return;
    }
    let _ = writeln!(out, "{} {failure}", paint(Tone::Error, "error:"));
    if let Some(help) = help {
        let _ = writeln!(out, "  {} {help}", paint(Tone::Help, "help:"));
    }
}

/// Replaces a file by one with these contents, or leaves it as it was.
///
/// # Errors
///
/// [`Failure::Write`].
pub fn write_whole(path: &Path, contents: &[u8], executable: bool) -> Result<(), Failure> {
    use std::os::unix::fs::PermissionsExt;
    let fail = |source| Failure::Write { path: path.to_path_buf(), source };
    if path.is_dir() {
        return Err(fail(io::Error::from(io::ErrorKind::IsADirectory)));
    }
    // A device or a pipe cannot be replaced.
    if path.exists() && !path.is_file() {
        return std::fs::write(path, contents).map_err(fail);
    }
    let folder = match path.parent() {
        Some(parent) if !parent.as_os_str().is_empty() => parent,
        _ => Path::new("."),
    };
    let mode = if executable { 0o777 } else { 0o666 };
    let mut file = tempfile::Builder::new()
        .prefix(".sotto-")
        .permissions(PermissionsExt::from_mode(mode))
        .tempfile_in(folder)
        .map_err(fail)?;
    file.write_all(contents).map_err(fail)?;
    file.persist(path).map_err(|error| fail(error.error))?;
    Ok(())
}

/// Reads a file.
///
/// # Errors
///
/// [`Failure::Read`].
pub fn read(path: &Path) -> Result<Vec<u8>, Failure> {
    std::fs::read(path).map_err(|source| Failure::Read { path: path.to_path_buf(), source })
}
