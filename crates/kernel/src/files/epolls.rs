//! Sets of descriptors that are waited for. Source: epoll(7).

use std::collections::BTreeMap;

use crate::calls::readiness::{POLLERR, POLLHUP, POLLIN};
use crate::files::open::{FileId, OpenFlags, What};
use crate::files::pipes::PipeId;
use crate::files::sockets::SocketId;
use crate::process::ProcessId;
use crate::system::System;

/// The number of a set.
#[derive(Copy, Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub(crate) struct EpollId(u32);

/// What is told once for each change, EPOLLET; what is told once, EPOLLONESHOT; what wakes one of those who wait, EPOLLEXCLUSIVE;
/// what keeps a computer awake, EPOLLWAKEUP. Source: epoll_ctl(2).
pub(crate) const EDGE: u64 = 1 << 31;
pub(crate) const ONE_SHOT: u64 = 1 << 30;
pub(crate) const WAKE_UP: u64 = 1 << 29;
pub(crate) const EXCLUSIVE: u64 = 1 << 28;
/// The flags of an entry that are no events.
const FLAGS: u64 = EDGE | ONE_SHOT | WAKE_UP | EXCLUSIVE;

/// A descriptor of a set: the open file, and the number by which it was added.
pub(crate) type Key = (FileId, u32);

/// What is asked of a descriptor.
#[derive(Clone, Debug)]
pub(crate) struct Entry {
    /// Events and flags.
    pub events: u64,
    /// What is told with them.
    pub data: u64,
    /// The time at which a timer ran out that was last seen to have done so.
    pub seen: Option<u64>,
}

impl Entry {
    /// The events that are told: errors and hang-ups always are, unless all were told once.
    pub fn wanted(&self) -> u64 {
        match self.events & !FLAGS {
            0 if self.events & ONE_SHOT != 0 => 0,
            events => events | POLLERR | POLLHUP,
        }
    }
}

/// A set of descriptors.
#[derive(Clone, Default, Debug)]
pub(crate) struct Epoll {
    pub entries: BTreeMap<Key, Entry>,
    /// Entries that became ready, in this order, and are to be looked at.
    pub ready: Vec<Key>,
}

impl Epoll {
    /// Puts an entry behind those that are to be looked at.
    pub fn queue(&mut self, key: Key) {
        if !self.ready.contains(&key) {
            self.ready.push(key);
        }
    }

    /// Takes an entry out; `None` if there is none.
    pub fn remove(&mut self, key: Key) -> Option<Entry> {
        self.ready.retain(|ready| *ready != key);
        self.entries.remove(&key)
    }
}

/// The sets that are open.
#[derive(Clone, Default)]
pub(crate) struct Epolls {
    open: BTreeMap<EpollId, Epoll>,
    last: u32,
}

impl Epolls {
    /// Makes a set.
    pub fn add(&mut self) -> EpollId {
        self.last += 1;
        self.open.insert(EpollId(self.last), Epoll::default());
        EpollId(self.last)
    }

    pub fn get(&self, id: EpollId) -> Option<&Epoll> {
        self.open.get(&id)
    }

    pub fn get_mut(&mut self, id: EpollId) -> Option<&mut Epoll> {
        self.open.get_mut(&id)
    }

    pub fn remove(&mut self, id: EpollId) {
        self.open.remove(&id);
    }

    /// Bytes that a snapshot of them takes.
    pub fn bytes(&self) -> usize {
        let each = |set: &Epoll| set.entries.len() * size_of::<(Key, Entry)>();
        self.open.values().map(|set| size_of::<Epoll>() + each(set)).sum()
    }
}

/// What became ready.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) enum Source {
    /// An end of a pipe: that which is read, if the events are those of reading.
    Pipe(PipeId),
    Socket(SocketId),
    Process(ProcessId),
    /// A file that nothing is behind.
    File(FileId),
}

impl System {
    /// Notes that something happened which tasks may wait for.
    pub(crate) fn note_event(&mut self) {
        self.events += 1;
    }

    /// Notes that something became ready for these events, also for the sets that it is in.
    pub(crate) fn note_ready(&mut self, source: Source, events: u64) {
        self.note_event();
        for set in self.epolls.open.values_mut() {
            for (key, entry) in &set.entries {
                let Some(open) = self.open_files.get(key.0) else { continue };
                let is_it = match (source, &open.what) {
                    (Source::Pipe(id), What::Pipe(own)) => {
                        let read = events & POLLIN != 0;
                        let end = if read { OpenFlags::READ } else { OpenFlags::WRITE };
                        id == *own && open.flags.contains(end)
                    }
                    (Source::Socket(id), What::Socket(own)) => id == *own,
                    (Source::Process(id), What::Process(own)) => id == *own,
                    (Source::File(file), _) => file == key.0,
                    _ => false,
                };
                if is_it && entry.wanted() & events != 0 && !set.ready.contains(key) {
                    set.ready.push(*key);
                }
            }
        }
    }

    /// Takes an open file that was closed out of the sets.
    pub(crate) fn unwatch(&mut self, file: FileId) {
        for set in self.epolls.open.values_mut() {
            set.entries.retain(|key, _| key.0 != file);
            set.ready.retain(|key| key.0 != file);
        }
    }
}
