//! A process: what its tasks share beside its memory.

use sotto_machine::PAGE_BYTES;
use sotto_object::Image;

use crate::load::Startup;

/// What the tasks of a process share. Its memory, with the code that was decoded of it, is in the machine.
#[derive(Clone)]
pub(crate) struct Process {
    /// A bit for each of the three streams that the program has not closed.
    open_streams: u8,
    /// Where the heap starts, and where it ends now.
    pub heap: (u64, u64),
    /// All of a program's memory together; pages take room only when they are touched.
    pub memory_limit: u64,
}

impl Process {
    /// A process as a program finds it that is started.
    pub fn new(image: &Image, startup: &Startup) -> Process {
        let end = image.segments.iter().map(|segment| segment.end()).max().unwrap_or(0);
        let start = end.next_multiple_of(PAGE_BYTES);
        Process { open_streams: 0b111, heap: (start, start), memory_limit: startup.memory_limit }
    }

    /// Whether a file descriptor, a 32-bit integer, is open.
    pub fn is_open(&self, fd: u64) -> bool {
        matches!(fd as u32, 0..=2) && self.open_streams >> (fd as u32) & 1 != 0
    }

    /// Closes one of the three streams.
    pub fn close(&mut self, fd: u64) {
        self.open_streams &= !(1 << (fd as u32));
    }
}
