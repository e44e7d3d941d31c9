//! What open files are ready for, and what makes them so. Sources: poll(2), epoll(7); Linux, the `poll` function of each kind.

use crate::files::epolls::EpollId;
use crate::files::open::{FileId, OpenFlags, What};
use crate::files::pipes::{ATOMIC_BYTES, PipeId};
use crate::system::System;

pub(crate) const POLLIN: u64 = 1;
pub(crate) const POLLOUT: u64 = 4;
pub(crate) const POLLERR: u64 = 8;
pub(crate) const POLLHUP: u64 = 0x10;
pub(crate) const POLLNVAL: u64 = 0x20;
pub(crate) const POLLRDNORM: u64 = 0x40;
pub(crate) const POLLWRNORM: u64 = 0x100;
pub(crate) const POLLWRBAND: u64 = 0x200;
pub(crate) const POLLRDHUP: u64 = 0x2000;

/// Sets may be in sets, so deep. Source: epoll_ctl(2), ELOOP.
pub(crate) const DEEPEST: u32 = 5;

/// What can make files ready that are not.
#[derive(Copy, Clone, Default, Debug)]
pub(crate) struct Wakes {
    /// A time, in nanoseconds since the start.
    pub until: Option<u64>,
    /// Signals that one of them is read for, a bit for each, from number 1.
    pub signals: u64,
    /// Standard input.
    pub input: bool,
}

impl Wakes {
    /// What can make either of two ready.
    pub fn or(self, other: Wakes) -> Wakes {
        Wakes {
            until: self.until.into_iter().chain(other.until).min(),
            signals: self.signals | other.signals,
            input: self.input || other.input,
        }
    }
}

impl System {
    /// What an open file is ready for.
    pub(crate) fn readiness(&mut self, file: FileId) -> u64 {
        self.readiness_within(file, DEEPEST)
    }

    fn readiness_within(&mut self, file: FileId, depth: u32) -> u64 {
        let now = self.machine.time();
        let Some(open) = self.open_files.get(file) else { return POLLNVAL };
        let flags = open.flags;
        match open.what {
            What::Event { count, .. } => {
                u64::from(count > 0) * POLLIN + u64::from(count < u64::MAX - 1) * POLLOUT
            }
            What::Timer { at, .. } => u64::from(at.is_some_and(|at| at <= now)) * POLLIN,
            What::Signals(set) => u64::from(self.has_pending(self.scheduler.running, set)) * POLLIN,
            What::Pipe(id) => self.pipe_readiness(id, flags),
            What::Socket(id) => self.socket_readiness(id),
            What::Epoll(id) => match depth {
                0 => 0,
                depth => u64::from(self.has_ready(id, depth - 1)) * (POLLIN | POLLRDNORM),
            },
            What::Process(id) => match self.process(id) {
                None => POLLIN | POLLRDNORM | POLLHUP,
                Some(process) if process.ended.is_some() => POLLIN | POLLRDNORM,
                Some(_) => 0,
            },
            What::Input => match self.peek_input(1) {
                None => 0,
                Some(bytes) if bytes.is_empty() => POLLHUP,
                Some(_) => POLLIN | POLLRDNORM,
            },
            What::Output(_) => POLLOUT | POLLWRNORM,
            What::Inode(_) | What::Proc(..) => POLLIN | POLLOUT | POLLRDNORM | POLLWRNORM,
        }
    }

    /// What an end of a pipe is ready for.
    fn pipe_readiness(&self, id: PipeId, flags: OpenFlags) -> u64 {
        let mut ready = 0;
        let pipe = self.pipes.get(id);
        if flags.contains(OpenFlags::READ) {
            if pipe.is_some_and(|pipe| !pipe.bytes.is_empty()) {
                ready |= POLLIN | POLLRDNORM;
            }
            // By a name it can be opened for reading before anybody has opened it for writing: nobody hung up then.
            let was_written = pipe.is_some_and(|pipe| pipe.fifo.is_none() || pipe.opened[1] > 0);
            if was_written && !self.has_pipe_end(id, OpenFlags::WRITE) {
                ready |= POLLHUP;
            }
        }
        if flags.contains(OpenFlags::WRITE) {
            if pipe.is_some_and(|pipe| pipe.room() as u64 >= ATOMIC_BYTES) {
                ready |= POLLOUT | POLLWRNORM;
            }
            if !self.has_pipe_end(id, OpenFlags::READ) {
                ready |= POLLERR;
            }
        }
        ready
    }

    /// Whether a set has something to tell.
    fn has_ready(&mut self, id: EpollId, depth: u32) -> bool {
        let Some(set) = self.epolls.get(id) else { return false };
        let entries: Vec<(FileId, u64)> =
            set.entries.iter().map(|(key, entry)| (key.0, entry.wanted())).collect();
        entries.into_iter().any(|(file, wanted)| self.readiness_within(file, depth) & wanted != 0)
    }

    /// What makes an open file ready to be read that is no action of a task: a time, a signal, input.
    pub(crate) fn wakes(&self, file: FileId) -> Wakes {
        self.wakes_within(file, DEEPEST)
    }

    fn wakes_within(&self, file: FileId, depth: u32) -> Wakes {
        match self.open_files.get(file).map(|open| &open.what) {
            Some(What::Timer { at, .. }) => Wakes { until: *at, ..Wakes::default() },
            Some(What::Signals(set)) => Wakes { signals: set.0, ..Wakes::default() },
            Some(What::Input) => Wakes { input: true, ..Wakes::default() },
            Some(What::Epoll(id)) if depth > 0 => {
                let entries = self.epolls.get(*id).into_iter().flat_map(|set| &set.entries);
                let asked = entries.filter(|(_, entry)| entry.wanted() & POLLIN != 0);
                let each = asked.map(|(key, _)| self.wakes_within(key.0, depth - 1));
                each.fold(Wakes::default(), Wakes::or)
            }
            _ => Wakes::default(),
        }
    }
}
