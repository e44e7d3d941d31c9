//! What a run starts with and is given: from the command line, or from a recording.

use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use sotto_kernel::Startup;
use sotto_session::Session;
use sotto_session::recording::{Recorder, Recording};

use crate::cli::SystemArgs;
use crate::guest_io;
use crate::host_files::{self, Folder};
use crate::output::{self, Failure, shown};
use crate::program::Program;
use crate::run;

/// What a run starts with and is given.
pub struct Start {
    pub startup: Startup,
    /// The folders of this computer that the program is shown.
    pub folders: Vec<Folder>,
    /// The file that it reads as standard input, if one was named.
    stdin: Option<PathBuf>,
    /// What all that is taken from, if it is not the command line.
    pub recording: Option<Recording>,
}

impl Start {
    /// What was asked for. `writes` says that changes of folders may be written back.
    ///
    /// # Errors
    ///
    /// A folder or a recording that cannot be read, and a recording of another program.
    pub fn new(
        program: &Program,
        system: &SystemArgs,
        arguments: &[OsString],
        stdin: Option<&Path>,
        writes: bool,
    ) -> Result<Start, Failure> {
        let stdin = stdin.map(Path::to_path_buf);
        if let Some(path) = &system.replay {
            let recording = read_recording(path)?;
            recording.check_program(&program.image).map_err(|error| {
                Failure::new(
                    format!("{}: {error}", shown(path)),
                    "give the files as they were then, or record this program anew",
                )
            })?;
            let startup = recording.startup();
            let (folders, recording) = (Vec::new(), Some(recording));
            return Ok(Start { startup, folders, stdin, recording });
        }
        let folders = match writes {
            true => host_files::folders(&system.folders)?,
            false => host_files::folders_to_read(&system.folders)?,
        };
        let startup = startup(&program.argument, arguments, system, &folders);
        Ok(Start { startup, folders, stdin, recording: None })
    }

    /// Keeps from now on what the run depends on.
    pub fn record(&mut self, program: &Program) -> Recorder {
        let mut recorder = Recorder::new(&program.name, &program.image);
        for folder in &mut self.folders {
            folder.record(&mut recorder);
        }
        self.startup.folders = self.folders.iter().map(Folder::shown).collect();
        recorder
    }

    /// A session of the program.
    ///
    /// # Errors
    ///
    /// See [`run::session`].
    pub fn session(&self, program: Program) -> Result<Session, Failure> {
        run::session(program, &self.startup)
    }

    /// Gives a session its input, as far as it does not come from our own, and tells the recorder of it.
    ///
    /// # Errors
    ///
    /// If a file cannot be opened.
    pub fn give_input(
        &self,
        session: &mut Session,
        recorder: Option<&Recorder>,
    ) -> Result<(), Failure> {
        if let Some(path) = &self.stdin {
            let source = guest_io::file_source(path)?;
            let source = match recorder {
                Some(recorder) => recorder.input(source),
                None => source,
            };
            session.system_mut().set_input_source(source);
        }
        let Some(recording) = &self.recording else { return Ok(()) };
        for piece in recording.input.pieces() {
            session.system_mut().give_input(piece);
        }
        if recording.input.ended {
            session.system_mut().close_input();
        }
        Ok(())
    }

    /// Forgets what was read of the folders, so that another run finds them as they are then.
    ///
    /// # Errors
    ///
    /// A folder that cannot be read.
    pub fn read_folders_anew(&mut self, system: &SystemArgs) -> Result<(), Failure> {
        if self.recording.is_none() {
            self.folders = host_files::folders_to_read(&system.folders)?;
            self.startup.folders = self.folders.iter().map(Folder::shown).collect();
        }
        Ok(())
    }
}

fn read_recording(path: &Path) -> Result<Recording, Failure> {
    let text = output::read(path)?;
    Recording::parse(&text).map_err(|error| {
        let message = format!("{}: {error}", shown(path));
        Failure::new(message, "`sotto run --record FILE` writes one")
    })
}

/// What a program starts with that is given these arguments, its own name first, in such a system with these folders.
fn startup(
    name: &OsStr,
    arguments: &[OsString],
    system: &SystemArgs,
    folders: &[Folder],
) -> Startup {
    let all = std::iter::once(name).chain(arguments.iter().map(OsString::as_os_str));
    let mut startup = Startup::with_arguments(all.map(OsStrExt::as_bytes));
    startup.memory_limit = system.memory.unwrap_or(startup.memory_limit);
    startup.clock = system.clock.unwrap_or(startup.clock);
    startup.interleaving = system.seed;
    startup.folders = folders.iter().map(Folder::shown).collect();
    startup
}
