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

/// Replaces a file by one with these contents, or leaves it as it was. Links stay, and what they lead to is
/// replaced; to what cannot be replaced, a device, a pipe or a file that is open already, the contents are appended.
///
/// # Errors
///
/// [`Failure::Write`].
pub fn write_whole(path: &Path, contents: &[u8], executable: bool) -> Result<(), Failure> {
    let fail = |source| Failure::Write { path: path.to_path_buf(), source };
    match destination(path).map_err(fail)? {
        Destination::Open(path) => append(&path, contents).map_err(fail),
        Destination::File(path) => replace(&path, contents, executable).map_err(fail),
    }
}

/// Writes behind what was written there. To where our own output goes by that way only, or each would overwrite
/// the other's.
fn append(path: &Path, contents: &[u8]) -> io::Result<()> {
    let ours = folder_of(path).canonicalize()? == Path::new("/proc/self/fd").canonicalize()?;
    let mut to: Box<dyn Write> = match path.file_name().and_then(|name| name.to_str()) {
        Some("1") if ours => Box::new(io::stdout()),
        Some("2") if ours => Box::new(io::stderr()),
        _ => Box::new(std::fs::OpenOptions::new().append(true).open(path)?),
    };
    to.write_all(contents)?;
    to.flush()
}

/// Puts a new file in the place of one, or where there is none.
fn replace(path: &Path, contents: &[u8], executable: bool) -> io::Result<()> {
    use std::os::unix::fs::PermissionsExt;
    if path.is_dir() {
        return Err(io::Error::from(io::ErrorKind::IsADirectory));
    }
    let mode = if executable { 0o777 } else { 0o666 };
    let mut file = tempfile::Builder::new()
        .prefix(".sotto-")
        .permissions(PermissionsExt::from_mode(mode))
        .tempfile_in(folder_of(path))?;
    file.write_all(contents)?;
    file.persist(path)?;
    Ok(())
}

fn folder_of(path: &Path) -> &Path {
    match path.parent() {
        Some(parent) if !parent.as_os_str().is_empty() => parent,
        _ => Path::new("."),
    }
}

/// What a name leads to.
enum Destination {
    /// What can only be written to.
    Open(PathBuf),
    /// A file that can be replaced, whether or not there is one.
    File(PathBuf),
}

/// Follows links, of which the kernel follows forty. Source: path_resolution(7).
fn destination(path: &Path) -> io::Result<Destination> {
    let mut path = path.to_path_buf();
    for _ in 0..40 {
        // The links there stand for open files, whatever else these are called. Source: proc(5).
        if folder_of(&path).canonicalize().is_ok_and(|folder| folder.starts_with("/proc")) {
            return Ok(Destination::Open(path));
        }
        let Ok(metadata) = path.symlink_metadata() else { return Ok(Destination::File(path)) };
        if metadata.is_symlink() {
            path = folder_of(&path).join(path.read_link()?);
        } else if metadata.is_file() || metadata.is_dir() {
            return Ok(Destination::File(path));
        } else {
            return Ok(Destination::Open(path));
        }
    }
    Err(io::Error::from_raw_os_error(nix::libc::ELOOP))
}

/// Reads a file.
///
/// # Errors
///
/// [`Failure::Read`].
pub fn read(path: &Path) -> Result<Vec<u8>, Failure> {
    std::fs::read(path).map_err(|source| Failure::Read { path: path.to_path_buf(), source })
}
