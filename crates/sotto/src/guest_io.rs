//! What goes into the guest and what comes out of it: our own streams, files, and what is kept of both.

use std::collections::HashMap;
use std::fs::File;
use std::io::{self, Read};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

use serde_json::json;
use sotto_kernel::{InputSource, Notice, RepeatedNotice, Store};
use sotto_session::Session;
use sotto_session::recording::Recorder;

use crate::console::{Stream, Tone, paint};
use crate::output::{self, Failure};
use crate::start::Start;

/// Bytes of input that are read at once.
const PIECE_BYTES: usize = 64 << 10;

/// Gives the session its input as it wants it, as far as that is not asked for. What the session keeps of input and output
/// goes to temporary files when it is much.
///
/// # Errors
///
/// If a file cannot be opened.
pub fn connect(session: &mut Session, start: &Start) -> Result<(), Failure> {
    let system = session.system_mut();
    system.set_stores(Box::<Spool>::default(), Box::<Spool>::default());
    start.give_input(session, None)
}

/// A file as a source of input.
///
/// # Errors
///
/// If it cannot be opened.
pub fn file_source(path: &Path) -> Result<InputSource, Failure> {
    let fail = |source| Failure::Read { path: path.to_path_buf(), source };
    let mut file = output::open(path).map_err(fail)?;
    let path = path.to_path_buf();
    Ok(Box::new(move || {
        let mut bytes = vec![0; PIECE_BYTES];
        loop {
            match file.read(&mut bytes) {
                Ok(0) => return None,
                Ok(count) => {
                    bytes.truncate(count);
                    return Some(bytes);
                }
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(source) => {
                    // To the program its input ends here.
                    output::failure(&Failure::Read { path: path.clone(), source }, false);
                    return None;
                }
            }
        }
    }))
}

/// Reads on from our own standard input, and tells the recorder of it. An interrupted read gives nothing and closes nothing.
///
/// # Errors
///
/// If it cannot be read.
pub fn more_input(session: &mut Session, recorder: Option<&Recorder>) -> Result<(), Failure> {
    let note = |piece: Option<&[u8]>| {
        if let Some(recorder) = recorder {
            recorder.note_input(piece);
        }
    };
    let mut bytes = vec![0; PIECE_BYTES];
    match io::stdin().lock().read(&mut bytes) {
        Ok(0) => {
            note(None);
            session.system_mut().close_input();
        }
        Ok(count) => {
            note(Some(&bytes[..count]));
            session.system_mut().give_input(&bytes[..count]);
        }
        Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
        Err(source) => return Err(Failure::Read { path: PathBuf::from("standard input"), source }),
    }
    Ok(())
}

/// Bytes of a log that stay in memory.
const IN_MEMORY: usize = 1 << 20;

/// The bytes of a log: in memory while they are few, then in a temporary file without a name, which goes with us.
#[derive(Default)]
pub struct Spool {
    first: Vec<u8>,
    rest: Option<File>,
    /// Bytes in the file.
    rest_bytes: u64,
}

impl Store for Spool {
    fn append(&mut self, bytes: &[u8]) -> io::Result<()> {
        if self.rest_bytes == 0 && self.first.len() + bytes.len() <= IN_MEMORY {
            self.first.extend_from_slice(bytes);
            return Ok(());
        }
        let file = match &self.rest {
            Some(file) => file,
            None => self.rest.insert(tempfile::tempfile()?),
        };
        file.write_all_at(bytes, self.rest_bytes)?;
        self.rest_bytes += bytes.len() as u64;
        Ok(())
    }

    fn read_at(&self, offset: u64, bytes: &mut [u8]) -> io::Result<()> {
        let in_memory = self.first.len() as u64;
        let here = in_memory.saturating_sub(offset).min(bytes.len() as u64) as usize;
        let (head, tail) = bytes.split_at_mut(here);
        if here > 0 {
            head.copy_from_slice(&self.first[offset as usize..offset as usize + here]);
        }
        match &self.rest {
            _ if tail.is_empty() => Ok(()),
            Some(file) => file.read_exact_at(tail, (offset + here as u64) - in_memory),
            None => Err(io::ErrorKind::UnexpectedEof.into()),
        }
    }

    fn truncate(&mut self, length: u64) -> io::Result<()> {
        let in_memory = self.first.len() as u64;
        self.rest_bytes = self.rest_bytes.min(length.saturating_sub(in_memory));
        self.first.truncate(length.min(in_memory) as usize);
        match &self.rest {
            Some(file) => file.set_len(self.rest_bytes),
            None => Ok(()),
        }
    }
}

/// Says what is suspicious about system calls: each thing once, and in the end how often.
#[derive(Default)]
pub struct Notices {
    told: HashMap<String, u64>,
}

/// Different notices that are told.
const MOST_NOTICES: usize = 100;

impl Notices {
    /// Tells of calls that were made.
    pub fn tell(&mut self, noticed: Vec<RepeatedNotice>, as_json: bool) {
        for RepeatedNotice { call, times: now } in noticed {
            let Some(Notice { message, help }) = &call.notice else { continue };
            if let Some(times) = self.told.get_mut(message) {
                *times += now;
                continue;
            }
            if self.told.len() == MOST_NOTICES {
                continue;
            }
            self.told.insert(message.clone(), now);
            // If standard error is closed there is nobody left to tell.
            let _ = if as_json {
                Stream::Error.say_json(&json!({ "notice": message, "help": help }))
            } else {
                let help = help.as_ref().map(|help| format!("; {help}")).unwrap_or_default();
                Stream::Error.say(&format!("{} {message}{help}", paint(Tone::Warning, "notice:")))
            };
        }
    }

    /// Says how often what was told of more than once was the case.
    pub fn tell_counts(&self, as_json: bool) {
        let mut repeated: Vec<_> = self.told.iter().filter(|(_, times)| **times > 1).collect();
        repeated.sort();
        for (message, times) in repeated {
            let _ = match as_json {
                true => Stream::Error.say_json(&json!({ "notice": message, "times": times })),
                false => Stream::Error.say(&format!(
                    "{} {} times: {message}",
                    paint(Tone::Warning, "notice:"),
                    crate::render::thousands(*times)
                )),
            };
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_spool_gives_back_what_it_was_given_wherever_it_is() {
        let mut spool = Spool::default();
        let mut model = Vec::new();
        for number in 0..40u8 {
            let piece = vec![number; 64 << 10];
            spool.append(&piece).unwrap();
            model.extend(piece);
        }
        assert!(spool.rest.is_some());
        let same = |spool: &Spool, model: &[u8], from: usize, count: usize| {
            let mut bytes = vec![0; count];
            spool.read_at(from as u64, &mut bytes).unwrap();
            assert!(bytes == model[from..from + count]);
        };
        same(&spool, &model, 0, model.len());
        same(&spool, &model, IN_MEMORY - 5, 10);
        same(&spool, &model, IN_MEMORY + 5, 10);
        for length in [IN_MEMORY + 100, IN_MEMORY - 100] {
            spool.truncate(length as u64).unwrap();
            model.truncate(length);
            spool.append(&[0xaa; 300]).unwrap();
            model.extend([0xaa; 300]);
            same(&spool, &model, length - 50, 350);
        }
        assert!(spool.read_at(model.len() as u64 - 1, &mut [0; 2]).is_err());
    }
}
