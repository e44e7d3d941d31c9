//! Failures, and files: read with a limit, and written whole or not at all.

use std::fs::{File, OpenOptions};
use std::io::{self, Read, Write};
use std::os::unix::fs::{FileTypeExt, MetadataExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};

use nix::sys::signal::{SigSet, SigmaskHow, Signal};
use serde_json::json;

use crate::console::{Stream, Tone, in_line, paint};

/// Why a command could not be carried out.
#[derive(Debug, thiserror::Error)]
pub enum Failure {
    /// The sources have errors, which were printed already.
    #[error("the sources have errors")]
    Reported,
    /// A file cannot be read.
    #[error("cannot read {}: {source}", shown(.path))]
    Read {
        /// The file.
        path: PathBuf,
        /// What the operating system says.
        source: io::Error,
    },
    /// A file cannot be written.
    #[error("cannot write {}: {source}", shown(.path))]
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

    /// The same with what it belongs to before the message.
    #[must_use]
    pub fn in_context(self, context: &str) -> Failure {
        let text = self.to_string();
        match self {
            Failure::Other { help, .. } => {
                Failure::Other { message: format!("{context}: {text}"), help }
            }
            failure => failure,
        }
    }

    /// A failure without one.
    pub fn plain(message: impl Into<String>) -> Failure {
        Failure::Other { message: message.into(), help: None }
    }
}

/// A path for a message: control characters in it are shown as escapes.
pub fn shown(path: &Path) -> String {
    in_line(&path.display().to_string()).into_owned()
}

/// Prints a failure to standard error.
pub fn failure(failure: &Failure, json: bool) {
    let help = match failure {
        Failure::Reported => return,
        Failure::Other { help, .. } => help.as_deref(),
        _ => None,
    };
    // If standard error is closed there is nobody left to tell.
    if json {
        let _ = Stream::Error.say_json(&json!({ "error": failure.to_string(), "help": help }));
        return;
    }
    let mut text = format!("{} {failure}", paint(Tone::Error, "error:"));
    if let Some(help) = help {
        text += &format!("\n  {} {help}", paint(Tone::Help, "help:"));
    }
    let _ = Stream::Error.say(&text);
}

/// Turns what a stream answered into a failure.
pub fn stdout_failed(source: io::Error) -> Failure {
    Failure::Write { path: PathBuf::from("standard output"), source }
}

/// Prints a text to standard output.
///
/// # Errors
///
/// [`Failure::Write`].
pub fn say(text: &str) -> Result<(), Failure> {
    Stream::Output.say(text).map_err(stdout_failed)
}

/// Prints a text that was rendered already, with its escape sequences, to standard output.
///
/// # Errors
///
/// [`Failure::Write`].
pub fn say_rendered(text: &str) -> Result<(), Failure> {
    use std::io::Write as _;
    writeln!(anstream::stdout().lock(), "{text}").map_err(stdout_failed)
}

/// Prints data to standard output, as a line of JSON.
///
/// # Errors
///
/// [`Failure::Write`].
pub fn say_json(value: &serde_json::Value) -> Result<(), Failure> {
    Stream::Output.say_json(value).map_err(stdout_failed)
}

/// Files to be written together: all are prepared beside their places, then all are put there.
#[derive(Default)]
pub struct Outputs<'a> {
    files: Vec<NewFile<'a>>,
}

struct NewFile<'a> {
    path: &'a Path,
    contents: std::borrow::Cow<'a, [u8]>,
    executable: bool,
}

/// What is to be done once everything is prepared.
enum Prepared {
    /// A file beside the place, to be moved there.
    Replace(tempfile::NamedTempFile, PathBuf),
    /// Something open to write to.
    Append(Box<dyn Write>),
}

impl<'a> Outputs<'a> {
    /// Adds a file with these contents.
    pub fn add(&mut self, path: &'a Path, contents: impl Into<std::borrow::Cow<'a, [u8]>>) {
        self.files.push(NewFile { path, contents: contents.into(), executable: false });
    }

    /// Adds a program.
    pub fn add_program(&mut self, path: &'a Path, contents: Vec<u8>) {
        self.files.push(NewFile { path, contents: contents.into(), executable: true });
    }

    /// Writes all files. Links stay, and what they lead to is replaced; to what cannot be replaced, a device, a pipe or a
    /// file that is open already, the contents are appended. A file that is replaced leaves its permissions to the new
    /// one.
    ///
    /// # Errors
    ///
    /// [`Failure::Write`]; then every file that can be replaced is as it was, unless putting one in its place failed
    /// after it was prepared.
    pub fn write(self) -> Result<(), Failure> {
        // A signal that ends us waits until no file that is half made lies about.
        let _blocked = BlockedSignals::new();
        let mut prepared = Vec::new();
        for file in &self.files {
            let fail = |source| Failure::Write { path: file.path.to_path_buf(), source };
            prepared.push(match destination(file.path).map_err(fail)? {
                Destination::Open(path) => Prepared::Append(open_to_append(&path).map_err(fail)?),
                Destination::File(path) => {
                    let new = beside(&path, &file.contents, file.executable).map_err(fail)?;
                    Prepared::Replace(new, path)
                }
            });
        }
        let mut waiting = Vec::new();
        for (file, prepared) in self.files.iter().zip(prepared) {
            let fail = |source| Failure::Write { path: file.path.to_path_buf(), source };
            match prepared {
                Prepared::Replace(new, path) => {
                    new.persist(path).map_err(|error| fail(error.error))?;
                }
                Prepared::Append(to) => waiting.push((file, to)),
            }
        }
        // A reader may let us wait for ever, and then signals must come through.
        drop(_blocked);
        for (file, mut to) in waiting {
            let written = to.write_all(&file.contents).and_then(|()| to.flush());
            written.map_err(|source| Failure::Write { path: file.path.to_path_buf(), source })?;
        }
        Ok(())
    }
}

/// Writes one file; see [`Outputs::write`].
///
/// # Errors
///
/// [`Failure::Write`].
pub fn write_whole(path: &Path, contents: &[u8]) -> Result<(), Failure> {
    let mut outputs = Outputs::default();
    outputs.add(path, contents);
    outputs.write()
}

/// Signals that end a process, held back while this lives.
struct BlockedSignals {
    before: Option<SigSet>,
}

impl BlockedSignals {
    fn new() -> BlockedSignals {
        let mut signals = SigSet::empty();
        for signal in [Signal::SIGINT, Signal::SIGTERM, Signal::SIGHUP, Signal::SIGQUIT] {
            signals.add(signal);
        }
        BlockedSignals { before: signals.thread_swap_mask(SigmaskHow::SIG_BLOCK).ok() }
    }
}

impl Drop for BlockedSignals {
    fn drop(&mut self) {
        if let Some(before) = &self.before {
            // What waited comes now.
            let _ = before.thread_set_mask();
        }
    }
}

/// Opens something to write behind what was written there. To where our own output goes by that way only, or each
/// would overwrite the other's.
fn open_to_append(path: &Path) -> io::Result<Box<dyn Write>> {
    let ours = folder_of(path).canonicalize()? == Path::new("/proc/self/fd").canonicalize()?;
    Ok(match path.file_name().and_then(|name| name.to_str()) {
        Some("1") if ours => Box::new(io::stdout()),
        Some("2") if ours => Box::new(io::stderr()),
        _ => Box::new(OpenOptions::new().append(true).open(path)?),
    })
}

/// A new file with these contents beside the place where it will be put.
fn beside(path: &Path, contents: &[u8], executable: bool) -> io::Result<tempfile::NamedTempFile> {
    if path.is_dir() {
        return Err(io::Error::from(io::ErrorKind::IsADirectory));
    }
    let mode = if executable { 0o777 } else { 0o666 };
    let mut file = tempfile::Builder::new()
        .prefix(".sotto-")
        .permissions(PermissionsExt::from_mode(mode))
        .tempfile_in(folder_of(path))?;
    file.write_all(contents)?;
    if let Ok(old) = path.metadata() {
        let kept = old.permissions().mode() & 0o7777;
        // Who may read a program may run it.
        let mode = if executable { kept | (kept & 0o444) >> 2 } else { kept };
        file.as_file().set_permissions(PermissionsExt::from_mode(mode))?;
    }
    Ok(file)
}

/// What a path leads to, so that two paths can be told to lead to the same: the file's device and inode; where there is
/// none yet, those of its folder, and its name.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Identity {
    device: u64,
    inode: u64,
    name: Option<std::ffi::OsString>,
}

impl Identity {
    /// What a path leads to; `None` if it leads nowhere.
    pub fn of(path: &Path) -> Option<Identity> {
        let identity = |path: &Path, name| {
            let metadata = path.metadata().ok()?;
            Some(Identity { device: metadata.dev(), inode: metadata.ino(), name })
        };
        identity(path, None).or_else(|| {
            // The last part of a link that leads to no file yet, or of a plain name.
            let Ok(Destination::File(path)) = destination(path) else { return None };
            identity(folder_of(&path), Some(path.file_name()?.to_os_string()))
        })
    }

    /// Whether a path leads to a file that can be replaced.
    fn is_replaceable(path: &Path) -> bool {
        matches!(destination(path), Ok(Destination::File(_)))
    }
}

/// Refuses outputs that would replace a file that is read, or another output.
///
/// # Errors
///
/// A failure that names both paths.
pub fn check_outputs(inputs: &[PathBuf], outputs: &[&Path]) -> Result<(), Failure> {
    let read: Vec<(&PathBuf, Option<Identity>)> =
        inputs.iter().map(|path| (path, Identity::of(path))).collect();
    for (number, path) in outputs.iter().enumerate() {
        let Some(identity) = Identity::of(path).filter(|_| Identity::is_replaceable(path)) else {
            continue;
        };
        if let Some((input, _)) = read.iter().find(|(_, other)| other.as_ref() == Some(&identity)) {
            let message = match *input == path {
                true => format!("the output {} is one of the inputs", shown(path)),
                false => format!("the output {} is the input {}", shown(path), shown(input)),
            };
            return Err(Failure::new(message, "choose another name for it"));
        }
        let same =
            outputs[..number].iter().find(|other| Identity::of(other) == Some(identity.clone()));
        if let Some(other) = same {
            let message = match other == path {
                true => format!("{} would be written twice", shown(path)),
                false => format!("{} and {} are one file", shown(other), shown(path)),
            };
            return Err(Failure::new(message, "give each output a name of its own"));
        }
    }
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

/// A source, an object or a program may have so many bytes: places in texts have 32 bits.
const MAX_FILE_BYTES: u64 = (1 << 32) - 1;
/// What is no file, a pipe say, may give so many.
const MAX_STREAM_BYTES: u64 = 256 << 20;

/// Opens a file to read it, so that opening never waits for a special file that behaves as one.
pub fn open(path: &Path) -> io::Result<File> {
    let metadata = path.metadata()?;
    if metadata.is_dir() {
        return Err(io::Error::from(io::ErrorKind::IsADirectory));
    }
    match metadata.is_file() {
        true => OpenOptions::new().read(true).custom_flags(nix::libc::O_NONBLOCK).open(path),
        false => File::open(path),
    }
}

/// Reads a whole file, or a pipe to its end.
///
/// # Errors
///
/// [`Failure::Read`]; a device, or a pipe that gives too much, is refused.
pub fn read(path: &Path) -> Result<Vec<u8>, Failure> {
    let fail = |source| Failure::Read { path: path.to_path_buf(), source };
    let refuse = |why: &str| Err(fail(io::Error::other(why.to_string())));
    let file = open(path).map_err(fail)?;
    let metadata = file.metadata().map_err(fail)?;
    let kind = metadata.file_type();
    if kind.is_block_device() || kind.is_char_device() && !is_terminal_or_null(&file, &metadata) {
        return refuse("it is a device");
    }
    let most = if metadata.is_file() { MAX_FILE_BYTES } else { MAX_STREAM_BYTES };
    if metadata.len() > most {
        return refuse("it is larger than 4 GiB");
    }
    let mut bytes = Vec::new();
    file.take(most + 1).read_to_end(&mut bytes).map_err(fail)?;
    match bytes.len() as u64 > most {
        true => refuse("it goes on for more than 256 MiB"),
        false => Ok(bytes),
    }
}

/// Whether a character device has an end: a person ends what a terminal gives, and the null device has nothing.
fn is_terminal_or_null(file: &File, metadata: &std::fs::Metadata) -> bool {
    // Source: null(4): major number 1, minor number 3.
    io::IsTerminal::is_terminal(file) || metadata.rdev() == nix::libc::makedev(1, 3)
}
