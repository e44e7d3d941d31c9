//! Making a recording of a run.

use std::sync::{Arc, Mutex, PoisonError};

use sha2::{Digest, Sha256};
use sotto_kernel::{InputSource, ShownFolder, Startup, Termination};
use sotto_object::Image;

use super::bytes::Bytes;
use super::folders::Observed;
use super::identity::{hexadecimal, identity};
use super::{RecordedInput, RecordedProgram, RecordedResult, Recording, VERSION};

/// What a run writes, as its recording has it.
#[derive(Clone, Default)]
pub struct Outputs {
    streams: [Sha256; 2],
}

impl Outputs {
    /// Notes bytes that were written to standard output, 1, or to standard error, 2.
    pub fn note(&mut self, fd: u8, bytes: &[u8]) {
        self.streams[usize::from(fd == 2)].update(bytes);
    }

    fn digests(self) -> [String; 2] {
        self.streams.map(|stream| hexadecimal(&stream.finalize()))
    }

    /// What came of a run that wrote this, and completed so many instructions.
    pub fn result(self, instructions: u64, ending: Option<Termination>) -> RecordedResult {
        RecordedResult { instructions, ending: ending.into(), output: self.digests() }
    }
}

/// Keeps what a run depends on while it goes on.
pub struct Recorder {
    program: RecordedProgram,
    folders: Vec<Arc<Observed>>,
    input: Arc<Mutex<RecordedInput>>,
}

impl Recorder {
    /// A recorder of a run of a program, by the name of its first file.
    pub fn new(name: &str, image: &Image) -> Recorder {
        let (name, machine) = (name.to_string(), image.arch.to_string());
        let program = RecordedProgram { name, machine, sha256: identity(image) };
        Recorder { program, folders: Vec::new(), input: Arc::default() }
    }

    /// A folder that the program is shown, in place of which it is to be shown the one returned.
    pub fn folder(&mut self, folder: &ShownFolder) -> ShownFolder {
        let observed = Observed::of(folder);
        let shown = observed.shown();
        self.folders.push(observed);
        shown
    }

    /// A source of input, in place of which the program is to be given the one returned.
    pub fn input(&self, mut source: InputSource) -> InputSource {
        let input = self.input.clone();
        Box::new(move || {
            let piece = source();
            note(&input, piece.as_deref());
            piece
        })
    }

    /// Notes a piece of input that the program was given, or its end.
    pub fn note_input(&self, piece: Option<&[u8]>) {
        note(&self.input, piece);
    }

    /// The recording of the run, with what the program started with and what came of it.
    pub fn finish(self, startup: &Startup, result: RecordedResult) -> Recording {
        let texts = |texts: &[Vec<u8>]| texts.iter().cloned().map(Bytes).collect();
        let input = self.input.lock().unwrap_or_else(PoisonError::into_inner).clone();
        Recording {
            version: VERSION,
            program: self.program,
            arguments: texts(&startup.arguments),
            environment: texts(&startup.environment),
            random: startup.seed,
            memory: startup.memory_limit,
            clock: startup.clock,
            seed: startup.interleaving,
            input,
            folders: self.folders.iter().map(|folder| folder.recorded()).collect(),
            result,
        }
    }
}

fn note(input: &Mutex<RecordedInput>, piece: Option<&[u8]>) {
    let mut input = input.lock().unwrap_or_else(PoisonError::into_inner);
    match piece {
        Some([]) => {}
        Some(bytes) => input.pieces.push(Bytes(bytes.to_vec())),
        None => input.ended = true,
    }
}
