//! A process: what its tasks share beside its memory.

use std::sync::Arc;

use sotto_machine::PAGE_BYTES;
use sotto_object::Image;

use crate::calls::limits::{Limits, first_limits};
use crate::files::inode::InodeId;
use crate::files::open::Descriptor;
use crate::load::Startup;
use crate::mapped_files::MappedFiles;
use crate::signals::ProcessSignals;

/// What the tasks of a process share. Its memory, with the code that was decoded of it, is in the machine.
#[derive(Clone)]
pub(crate) struct Process {
    /// What file descriptors name, by their number.
    pub descriptors: Vec<Option<Descriptor>>,
    /// The working directory.
    pub directory: InodeId,
    /// The file mode creation mask.
    pub umask: u32,
    /// The arguments and the environment that it was started with.
    pub arguments: Arc<[Vec<u8>]>,
    pub environment: Arc<[Vec<u8>]>,
    /// Its name, of up to 15 bytes.
    pub name: Arc<[u8]>,
    /// How much it gives way to others: from -20, not at all, to 19.
    pub nice: i32,
    /// It said that it will not get privileges.
    pub has_no_new_privileges: bool,
    pub limits: Limits,
    pub signals: ProcessSignals,
    /// The files that are mapped into its memory.
    pub mapped: MappedFiles,
    /// Where the heap starts, and where it ends now.
    pub heap: (u64, u64),
    /// All of a program's memory together; pages take room only when they are touched.
    pub memory_limit: u64,
}

impl Process {
    /// A process as a program finds it that is started.
    pub fn new(
        image: &Image,
        startup: &Startup,
        descriptors: Vec<Option<Descriptor>>,
        directory: InodeId,
    ) -> Process {
        let end = image.segments.iter().map(|segment| segment.end()).max().unwrap_or(0);
        let start = end.next_multiple_of(PAGE_BYTES);
        Process {
            descriptors,
            directory,
            umask: 0o022,
            arguments: startup.arguments.clone().into(),
            environment: startup.environment.clone().into(),
            name: name_of(startup).into(),
            nice: 0,
            has_no_new_privileges: false,
            limits: first_limits(),
            signals: ProcessSignals::default(),
            mapped: MappedFiles::default(),
            heap: (start, start),
            memory_limit: startup.memory_limit,
        }
    }

    /// Bytes that a snapshot of it takes.
    pub fn bytes(&self) -> usize {
        size_of::<Process>() + self.descriptors.len() * size_of::<Option<Descriptor>>()
    }
}

/// The name of the program, without directories. Source: proc(5), "comm".
fn name_of(startup: &Startup) -> &[u8] {
    let path = startup.arguments.first().map_or(&b""[..], Vec::as_slice);
    let name = path.rsplit(|byte| *byte == b'/').next().unwrap_or_default();
    &name[..name.len().min(15)]
}
