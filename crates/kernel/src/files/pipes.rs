//! Pipes. Source: pipe(7).

use std::collections::{BTreeMap, VecDeque};
use std::sync::Arc;

use crate::calls::readiness::{POLLERR, POLLHUP, POLLIN, POLLOUT, POLLRDNORM, POLLWRNORM};
use crate::files::epolls::Source;
use crate::files::inode::InodeId;
use crate::files::open::{OpenFile, OpenFlags, What};
use crate::system::System;
use crate::task::TaskId;

/// Bytes that a pipe holds, unless another number is asked for. Source: pipe(7), "Pipe capacity".
pub(crate) const CAPACITY: usize = 65_536;
/// As many bytes are written at once or not at all: PIPE_BUF.
pub(crate) const ATOMIC_BYTES: u64 = 4096;

/// The number of a pipe.
#[derive(Copy, Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub(crate) struct PipeId(pub u32);

/// A pipe.
#[derive(Clone)]
pub(crate) struct Pipe {
    /// What was written and not read yet.
    pub bytes: Arc<VecDeque<u8>>,
    pub capacity: usize,
    /// The file by whose name it is opened, if it has one.
    pub fifo: Option<InodeId>,
    /// Tasks that wait in open(2) for the other end to be opened: which end they open, and how often the other had been opened
    /// before. Source: fifo(7).
    pub opening: Vec<(TaskId, OpenFlags, u64)>,
    /// How often the end that is read was opened, and the one that is written.
    pub opened: [u64; 2],
}

impl Pipe {
    /// Bytes that can be written.
    pub fn room(&self) -> usize {
        self.capacity.saturating_sub(self.bytes.len())
    }

    /// The first bytes, `count` at most.
    pub fn peek(&self, count: usize) -> Vec<u8> {
        self.bytes.iter().take(count).copied().collect()
    }

    pub fn take(&mut self, count: usize) {
        Arc::make_mut(&mut self.bytes).drain(..count);
    }

    pub fn put(&mut self, bytes: &[u8]) {
        Arc::make_mut(&mut self.bytes).extend(bytes);
    }
}

/// The pipes that are open.
#[derive(Clone, Default)]
pub(crate) struct Pipes {
    open: BTreeMap<PipeId, Pipe>,
    last: u32,
}

impl Pipes {
    /// Makes a pipe.
    pub fn add(&mut self, fifo: Option<InodeId>) -> PipeId {
        self.last += 1;
        let id = PipeId(self.last);
        let (opening, opened) = (Vec::new(), [0; 2]);
        let pipe = Pipe { bytes: Arc::default(), capacity: CAPACITY, fifo, opening, opened };
        self.open.insert(id, pipe);
        id
    }

    /// The pipe that is open by the name of a file.
    pub fn of_fifo(&self, inode: InodeId) -> Option<PipeId> {
        self.open.iter().find(|(_, pipe)| pipe.fifo == Some(inode)).map(|(id, _)| *id)
    }

    pub fn get(&self, id: PipeId) -> Option<&Pipe> {
        self.open.get(&id)
    }

    pub fn get_mut(&mut self, id: PipeId) -> Option<&mut Pipe> {
        self.open.get_mut(&id)
    }

    /// Bytes that a snapshot of them takes.
    pub fn bytes(&self) -> usize {
        self.open.values().map(|pipe| size_of::<Pipe>() + pipe.bytes.len()).sum()
    }
}

impl System {
    /// Whether an end of a pipe is open, or is being opened: that which is read, or that which is written.
    pub(crate) fn has_pipe_end(&self, id: PipeId, end: OpenFlags) -> bool {
        let is_it = |open: &OpenFile| open.what == What::Pipe(id) && open.flags.contains(end);
        let opening = self.pipes.get(id).into_iter().flat_map(|pipe| &pipe.opening);
        let mut opening = opening.filter(|(_, opened, _)| opened.contains(end));
        self.open_files.iter().any(is_it)
            || opening.any(|(task, ..)| self.tasks().any(|other| other == *task))
    }

    /// Notes that an end of a pipe was closed, and drops the pipe with both.
    pub(crate) fn close_pipe_end(&mut self, id: PipeId) {
        self.note_ready(Source::Pipe(id), POLLIN | POLLRDNORM | POLLHUP | POLLERR);
        self.note_ready(Source::Pipe(id), POLLOUT | POLLWRNORM | POLLHUP | POLLERR);
        self.drop_unused_pipe(id);
    }

    /// Drops a pipe of which no end is open.
    pub(crate) fn drop_unused_pipe(&mut self, id: PipeId) {
        let is_open = self.open_files.iter().any(|open| open.what == What::Pipe(id));
        let is_opened = self.pipes.get(id).is_some_and(|pipe| !pipe.opening.is_empty());
        if !is_open && !is_opened {
            let dropped = self.pipes.open.remove(&id);
            dropped.and_then(|pipe| pipe.fifo).into_iter().for_each(|id| self.drop_unused(id));
        }
    }
}
