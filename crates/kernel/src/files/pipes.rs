//! Pipes. Source: pipe(7).

use std::collections::{BTreeMap, VecDeque};
use std::sync::Arc;

use crate::files::open::{OpenFlags, What};
use crate::system::System;

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
    pub fn add(&mut self) -> PipeId {
        self.last += 1;
        let id = PipeId(self.last);
        self.open.insert(id, Pipe { bytes: Arc::default(), capacity: CAPACITY });
        id
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
    /// Whether an end of a pipe is open: that which is read, or that which is written.
    pub(crate) fn has_pipe_end(&self, id: PipeId, end: OpenFlags) -> bool {
        self.open_files.iter().any(|open| open.what == What::Pipe(id) && open.flags.contains(end))
    }

    /// Drops a pipe when both of its ends are closed.
    pub(crate) fn drop_pipe(&mut self, id: PipeId) {
        if !self.open_files.iter().any(|open| open.what == What::Pipe(id)) {
            self.pipes.open.remove(&id);
        }
    }
}
