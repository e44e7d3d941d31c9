//! What is kept of a program between runs: breakpoints, watches and shown expressions.
//!
//! A small JSON file for each program in the user's state folder (`$XDG_STATE_HOME`, else
//! `~/.local/state`), never beside the source. Source: XDG Base Directory Specification, 0.8. A file that
//! cannot be read or written is no reason to trouble anybody: nothing is kept then.

use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use super::commander::Commander;
use crate::output;

/// The version of the file's format.
const VERSION: u32 = 1;

#[derive(Serialize, Deserialize, Default, PartialEq, Debug)]
struct Contents {
    version: u32,
    /// The program's first file, for people who read this one.
    program: String,
    breakpoints: Vec<KeptBreakpoint>,
    watches: Vec<String>,
    shown: Vec<String>,
}

#[derive(Serialize, Deserialize, PartialEq, Debug)]
struct KeptBreakpoint {
    place: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    when: Option<String>,
    after: u64,
}

/// The file of a program.
pub struct Kept {
    path: PathBuf,
    program: String,
}

impl Kept {
    /// The file for a program made of these files; `None` if there is no place for it.
    pub fn of(files: &[PathBuf]) -> Option<Kept> {
        let state = std::env::var_os("XDG_STATE_HOME")
            .map(PathBuf::from)
            .filter(|path| path.is_absolute())
            .or_else(|| {
                std::env::var_os("HOME").map(|home| Path::new(&home).join(".local").join("state"))
            })?;
        let program = std::fs::canonicalize(files.first()?).ok()?.display().to_string();
        let name = Path::new(&program).file_name()?.to_string_lossy().to_string();
        // Programs of one name in different folders are told apart by a number made of the folder's.
        let file = format!("{name}-{:016x}.json", number_of(&program));
        Some(Kept { path: state.join("sotto").join(file), program })
    }

    fn contents(&self) -> Option<Contents> {
        let text = std::fs::read_to_string(&self.path).ok()?;
        let contents: Contents = serde_json::from_str(&text).ok()?;
        (contents.version == VERSION).then_some(contents)
    }

    /// Sets again what was kept. What the program has no place for any more is left out.
    pub fn give_to(&self, commander: &mut Commander) {
        let Some(contents) = self.contents() else { return };
        for kept in &contents.breakpoints {
            let when = kept.when.as_deref();
            let _ = commander.session.add_breakpoint(&kept.place, when, kept.after);
        }
        for text in &contents.watches {
            let _ = commander.session.add_watch(text);
        }
        commander.shown = contents.shown;
    }

    /// Keeps what is set now; no file stays if nothing is.
    pub fn keep(&self, commander: &Commander) {
        let breakpoints = commander.session.breakpoints().iter().map(|breakpoint| KeptBreakpoint {
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
            let _ = output::write_whole(&self.path, (text + "\n").as_bytes(), false);
        }
    }
}

/// A number for a text, the same in every run: FNV-1a.
fn number_of(text: &str) -> u64 {
    text.bytes().fold(0xcbf2_9ce4_8422_2325, |number, byte| {
        (number ^ u64::from(byte)).wrapping_mul(0x0000_0100_0000_01b3)
    })
}
