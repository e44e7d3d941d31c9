//! What is kept of a program between runs: breakpoints, watches and shown expressions.
//!
//! A small JSON file for each program in the user's state folder (`$XDG_STATE_HOME`, else
//! `~/.local/state`), never beside the source. Source: XDG Base Directory Specification, 0.8. Where no
//! file can be made nothing is kept; a file that is not understood is left as it is, and that is said.

use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::output;
use crate::stepper::line::commander::Commander;

/// The version of the file's format.
const VERSION: u32 = 1;

#[derive(Serialize, Deserialize, Default, PartialEq, Debug)]
struct Contents {
    version: u32,
    /// The program's first file, for people who read this one.
    program: String,
    breakpoints: Vec<SavedBreakpoint>,
    watches: Vec<String>,
    shown: Vec<String>,
}

#[derive(Serialize, Deserialize, PartialEq, Debug)]
struct SavedBreakpoint {
    place: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    when: Option<String>,
    after: u64,
}

/// The file of a program.
pub struct SavedState {
    path: PathBuf,
    program: String,
    /// There is a file that we do not understand, or that is none: it is left alone.
    is_foreign: bool,
}

/// No file of ours is larger.
const MOST_BYTES: u64 = 1 << 20;

impl SavedState {
    /// The file for a program made of these files; `None` if there is no place for it.
    pub fn of(files: &[PathBuf]) -> Option<SavedState> {
        let folder = |name: &str| {
            // A relative folder would be another one from every place.
            std::env::var_os(name).map(PathBuf::from).filter(|path| path.is_absolute())
        };
        let state = folder("XDG_STATE_HOME")
            .or_else(|| folder("HOME").map(|home| home.join(".local").join("state")))?;
        let program = std::fs::canonicalize(files.first()?).ok()?.display().to_string();
        let name = Path::new(&program).file_name()?.to_string_lossy().to_string();
        // Programs of one name in different folders are told apart by a number made of the folder's.
        let file = format!("{name}-{:016x}.json", number_of(&program));
        Some(SavedState { path: state.join("sotto").join(file), program, is_foreign: false })
    }

    /// What is in the file; nothing if there is none.
    fn contents(&self) -> Result<Option<Contents>, String> {
        let Ok(metadata) = self.path.metadata() else { return Ok(None) };
        if !metadata.is_file() || metadata.len() > MOST_BYTES {
            return Err("is no file of ours".to_string());
        }
        let bytes = output::read(&self.path).map_err(|error| error.to_string())?;
        #[derive(Deserialize)]
        struct Version {
            version: u32,
        }
        match serde_json::from_slice(&bytes) {
            Ok(Version { version }) if version > VERSION => {
                Err(format!("is of version {version}, and we know version {VERSION}"))
            }
            Ok(Version { version: VERSION }) => serde_json::from_slice(&bytes)
                .map(Some)
                .map_err(|error| format!("is damaged: {error}")),
            Ok(_) => Ok(None),
            Err(error) => Err(format!("is damaged: {error}")),
        }
    }

    /// Sets again what was kept. What the program has no place for any more is left out. A file that is not
    /// understood is left alone; then this says so.
    pub fn give_to(&mut self, commander: &mut Commander) -> Option<String> {
        let contents = match self.contents() {
            Ok(contents) => contents?,
            Err(reason) => {
                self.is_foreign = true;
                let path = output::shown(&self.path);
                return Some(format!("{path} {reason}; it is left alone, and nothing is kept"));
            }
        };
        for kept in &contents.breakpoints {
            let when = kept.when.as_deref();
            let _ = commander.session.add_breakpoint(&kept.place, when, kept.after);
        }
        for text in &contents.watches {
            let _ = commander.session.add_watch(text);
        }
        commander.shown = contents.shown;
        None
    }

    /// Keeps what is set now; no file stays if nothing is.
    pub fn keep(&self, commander: &Commander) {
        if self.is_foreign {
            return;
        }
        let breakpoints =
            commander.session.breakpoints().iter().map(|breakpoint| SavedBreakpoint {
                place: breakpoint.text.clone(),
                when: breakpoint.condition.as_ref().map(|(text, _)| text.clone()),
                after: breakpoint.from_arrival,
            });
        let watches = commander.session.watches().iter().map(|watch| watch.text.clone());
        let contents = Contents {
            version: VERSION,
            program: self.program.clone(),
            breakpoints: breakpoints.collect(),
            watches: watches.collect(),
            shown: commander.shown.clone(),
        };
        let empty = contents.breakpoints.is_empty()
            && contents.watches.is_empty()
            && contents.shown.is_empty();
        if empty {
            let _ = std::fs::remove_file(&self.path);
            return;
        }
        if let (Some(folder), Ok(text)) =
            (self.path.parent(), serde_json::to_string_pretty(&contents))
        {
            let _ = std::fs::create_dir_all(folder);
            let _ = output::write_whole(&self.path, (text + "\n").as_bytes());
        }
    }
}

/// A number for a text, the same in every run: FNV-1a.
fn number_of(text: &str) -> u64 {
    text.bytes().fold(0xcbf2_9ce4_8422_2325, |number, byte| {
        (number ^ u64::from(byte)).wrapping_mul(0x0000_0100_0000_01b3)
    })
}
