//! Recordings: all that a run depends on, so that it can be repeated elsewhere, whatever has become of the files, the time and the
//! environment here. docs/recordings.md describes the format.

mod bytes;
mod folders;
mod identity;
mod recorder;

use serde::{Deserialize, Serialize};
use sotto_kernel::{Startup, Termination};
use sotto_object::Image;

pub use folders::{RecordedDirectory, RecordedEntry, RecordedFile, RecordedFolder, RecordedKind};
pub use identity::identity;
pub use recorder::{Outputs, Recorder};

use bytes::Bytes;

/// The version of the format that is written, and the only one that is read.
pub const VERSION: u32 = 1;

/// All that a run depends on, and what came of it.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Recording {
    /// The version of the format.
    #[serde(rename = "sotto_recording")]
    pub version: u32,
    /// What was run.
    pub program: RecordedProgram,
    /// Its arguments, its own name first.
    arguments: Vec<Bytes>,
    /// Its environment, as `NAME=value`.
    environment: Vec<Bytes>,
    /// Decides the random bytes that it is given.
    random: u64,
    /// Bytes of memory that it may map, and touch.
    memory: u64,
    /// The time of day at which it starts, in seconds since 1970.
    clock: u64,
    /// Decides when another task is run, if they are not run in rotation.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    seed: Option<u64>,
    /// Its standard input.
    pub input: RecordedInput,
    /// The folders of the computer that it was shown, as far as it looked into them.
    folders: Vec<RecordedFolder>,
    /// What came of the run.
    pub result: RecordedResult,
}

/// What a program is recognised by.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RecordedProgram {
    /// The name of its first file, for showing.
    pub name: String,
    /// The machine.
    pub machine: String,
    /// See [`identity`].
    pub sha256: String,
}

/// What a program was given as standard input.
#[derive(Clone, PartialEq, Eq, Debug, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RecordedInput {
    /// The pieces in which it came: a read gives bytes of one piece.
    pieces: Vec<Bytes>,
    /// The input ended with them.
    pub ended: bool,
}

impl RecordedInput {
    /// The pieces in which it came.
    pub fn pieces(&self) -> impl Iterator<Item = &[u8]> {
        self.pieces.iter().map(|piece| &piece.0[..])
    }
}

/// What came of a run.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RecordedResult {
    /// Instructions that were completed.
    pub instructions: u64,
    /// How it ended.
    pub ending: RecordedEnding,
    /// SHA-256 of what it wrote to standard output and to standard error, in hexadecimal digits.
    pub output: [String; 2],
}

/// How a run ended.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum RecordedEnding {
    /// With this exit status.
    Exited(i32),
    /// Killed by the signal of this name.
    Killed(String),
    /// Stopped from outside: by a limit, by Ctrl-C, or since all tasks waited.
    Stopped,
}

impl From<Option<Termination>> for RecordedEnding {
    fn from(ending: Option<Termination>) -> RecordedEnding {
        match ending {
            Some(Termination::Exited(status)) => RecordedEnding::Exited(status),
            Some(Termination::Killed(signal, _)) => RecordedEnding::Killed(signal.name().into()),
            None => RecordedEnding::Stopped,
        }
    }
}

impl std::fmt::Display for RecordedEnding {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            RecordedEnding::Exited(status) => write!(f, "exit status {status}"),
            RecordedEnding::Killed(signal) => write!(f, "killed by {signal}"),
            RecordedEnding::Stopped => f.write_str("stopped"),
        }
    }
}

/// Why a recording is refused.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
pub enum RecordingError {
    /// It is not JSON of this shape.
    #[error("it is no recording: {0}")]
    Syntax(String),
    /// It has another version.
    #[error("it is a recording of version {0}; this Sotto reads version {VERSION}")]
    Version(u64),
    /// A value that no run can have.
    #[error("it is damaged: {0}")]
    Damaged(String),
    /// Another program was recorded.
    #[error("the program is not the one that was recorded, `{recorded}` for {machine}")]
    OtherProgram {
        /// Its name.
        recorded: String,
        /// Its machine.
        machine: String,
    },
}

impl Recording {
    /// Reads a recording, which may come from anybody.
    ///
    /// # Errors
    ///
    /// See [`RecordingError`].
    pub fn parse(text: &[u8]) -> Result<Recording, RecordingError> {
        /// What every version begins with.
        #[derive(Deserialize)]
        struct Head {
            sotto_recording: u64,
        }
        let syntax = |error: serde_json::Error| RecordingError::Syntax(error.to_string());
        let value: serde_json::Value = serde_json::from_slice(text).map_err(syntax)?;
        let head = value.as_object().and_then(|_| Head::deserialize(&value).ok());
        let no_head = || RecordingError::Syntax("it has no version, `sotto_recording`".into());
        let head = head.ok_or_else(no_head)?;
        if head.sotto_recording != u64::from(VERSION) {
            return Err(RecordingError::Version(head.sotto_recording));
        }
        drop(value);
        let recording: Recording = serde_json::from_slice(text).map_err(syntax)?;
        recording.check()?;
        Ok(recording)
    }

    /// The recording as it is kept in a file.
    pub fn to_text(&self) -> Vec<u8> {
        let mut text = serde_json::to_vec(self).unwrap_or_default();
        text.push(b'\n');
        text
    }

    fn check(&self) -> Result<(), RecordingError> {
        let damaged = |what: String| Err(RecordingError::Damaged(what));
        for text in self.arguments.iter().chain(&self.environment) {
            if text.0.contains(&0) {
                return damaged("an argument or a part of the environment has a zero byte".into());
            }
        }
        if self.arguments.is_empty() {
            return damaged("the program has no name".into());
        }
        if self.input.pieces.iter().any(|piece| piece.0.is_empty()) {
            return damaged("a piece of input is empty".into());
        }
        self.folders.iter().try_for_each(|folder| folder.check())
    }

    /// What the program starts with.
    pub fn startup(&self) -> Startup {
        let texts = |texts: &[Bytes]| texts.iter().map(|text| text.0.clone()).collect();
        Startup {
            arguments: texts(&self.arguments),
            environment: texts(&self.environment),
            seed: self.random,
            memory_limit: self.memory,
            clock: self.clock,
            interleaving: self.seed,
            folders: self.folders.iter().map(RecordedFolder::shown).collect(),
        }
    }

    /// Whether a program is the one that was recorded.
    ///
    /// # Errors
    ///
    /// [`RecordingError::OtherProgram`].
    pub fn check_program(&self, image: &Image) -> Result<(), RecordingError> {
        let RecordedProgram { name, machine, sha256 } = &self.program;
        match *sha256 == identity(image) {
            true => Ok(()),
            false => Err(RecordingError::OtherProgram {
                recorded: name.clone(),
                machine: machine.clone(),
            }),
        }
    }
}
