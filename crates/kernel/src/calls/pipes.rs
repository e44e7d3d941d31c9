//! Making pipes, opening those that have a name, reading and writing them. Sources: pipe(2), pipe(7), fifo(7).

use sotto_machine::Signal;

use crate::Errno;
use crate::arguments::Address;
use crate::calls::call::{Call, put, words};
use crate::calls::readiness::{POLLIN, POLLOUT, POLLRDNORM, POLLWRNORM};
use crate::files::epolls::Source;
use crate::files::inode::InodeId;
use crate::files::open::{OpenFile, OpenFlags, What};
use crate::files::pipes::{ATOMIC_BYTES, PipeId};
use crate::signals::Recipient;
use crate::signals::info::{Detail, SI_USER, SignalInfo};
use crate::system::System;
use crate::target::target;
use crate::task::Wait;

/// `pipe2(2)`: an end that is read and one that is written.
pub(crate) fn pipe2(call: &mut Call, Address(to): Address, flags: u64) -> Result<u64, Errno> {
    let bits = &target(call.abi.arch()).open_bits;
    let flags = flags & 0xffff_ffff;
    if flags & !(bits.close_on_exec | bits.nonblock | bits.direct) != 0 {
        return Err(Errno::EINVAL);
    }
    let close_on_exec = flags & bits.close_on_exec != 0;
    let system = &mut *call.system;
    let id = system.pipes.add(None);
    let end = |system: &mut System, open: OpenFlags, status: u64| {
        let mut open = open;
        open.set(OpenFlags::NONBLOCK, flags & bits.nonblock != 0);
        let name = format!("pipe:[{}]", inode_of(id));
        let status = status | flags & (bits.nonblock | bits.direct);
        system.open(OpenFile::new(What::Pipe(id), open, status, name.as_bytes()), close_on_exec)
    };
    let reads = end(system, OpenFlags::READ, 0)?;
    let writes = match end(system, OpenFlags::WRITE, 1) {
        Ok(writes) => writes,
        Err(errno) => {
            system.close(reads)?;
            return Err(errno);
        }
    };
    if let Err(errno) = put(system, to, &words(4, &[reads.into(), writes.into()])) {
        system.close(reads)?;
        system.close(writes)?;
        return Err(errno);
    }
    Ok(0)
}

/// `pipe(2)` as it was first
pub(crate) fn pipe(call: &mut Call, to: Address) -> Result<u64, Errno> {
    pipe2(call, to, 0)
}

/// Opens a pipe by its name. Who opens one end waits for who opens the other, unless it may not, or opens both.
/// Source: fifo(7).
pub(crate) fn open_fifo(
    call: &mut Call,
    inode: InodeId,
    access: OpenFlags,
    nonblock: bool,
) -> Result<Result<PipeId, Wait>, Errno> {
    let system = &mut *call.system;
    let id = system.pipes.of_fifo(inode).unwrap_or_else(|| system.pipes.add(Some(inode)));
    let (reads, writes) = (access.contains(OpenFlags::READ), access.contains(OpenFlags::WRITE));
    let other = if reads { OpenFlags::WRITE } else { OpenFlags::READ };
    let (own_end, other_end) = (usize::from(!reads), usize::from(reads));
    let task = system.running_task();
    let has_other = system.has_pipe_end(id, other);
    let Some(pipe) = system.pipes.get_mut(id) else { return Err(Errno::ENXIO) };
    if reads && writes {
        pipe.opened = pipe.opened.map(|count| count + 1);
        system.note_event();
        return Ok(Ok(id));
    }
    let begun = pipe.opening.iter().position(|(opener, ..)| *opener == task);
    let before = match begun {
        Some(at) => pipe.opening[at].2,
        None if nonblock && writes && !has_other => {
            system.drop_unused_pipe(id);
            return Err(Errno::ENXIO);
        }
        None => {
            pipe.opened[own_end] += 1;
            pipe.opened[other_end]
        }
    };
    let is_met = has_other || nonblock || pipe.opened[other_end] != before;
    match (is_met, begun) {
        (false, None) => pipe.opening.push((task, access, before)),
        (true, Some(at)) => {
            pipe.opening.remove(at);
        }
        (false, Some(at)) if call.interrupted => {
            pipe.opening.remove(at);
            system.drop_unused_pipe(id);
            return Err(Errno::EINTR);
        }
        _ => {}
    }
    if begun.is_none() {
        system.note_event();
    }
    Ok(if is_met { Ok(id) } else { Err(system.event_wait(None, true)) })
}

/// The number of the inode of a pipe, behind those of the streams.
pub(crate) fn inode_of(id: PipeId) -> u64 {
    110 + u64::from(id.0)
}

/// What a pipe has for who reads it.
pub(crate) enum Readable {
    Bytes(Vec<u8>),
    /// Nobody can write to it any more.
    Ended,
    /// Nothing yet.
    Empty,
}

impl System {
    /// The first bytes of a pipe, `count` at most.
    pub(crate) fn peek_pipe(&self, id: PipeId, count: usize) -> Readable {
        match self.pipes.get(id) {
            Some(pipe) if !pipe.bytes.is_empty() => Readable::Bytes(pipe.peek(count)),
            _ if self.has_pipe_end(id, OpenFlags::WRITE) => Readable::Empty,
            _ => Readable::Ended,
        }
    }

    /// Takes bytes that were read from a pipe.
    pub(crate) fn take_from_pipe(&mut self, id: PipeId, count: usize) {
        if let Some(pipe) = self.pipes.get_mut(id)
            && count > 0
        {
            let was_full = pipe.room() == 0;
            pipe.take(count);
            match was_full {
                true => self.note_ready(Source::Pipe(id), POLLOUT | POLLWRNORM),
                false => self.note_event(),
            }
        }
    }

    /// Bytes that a pipe takes now of so many that are to be written, of which a part was written before.
    ///
    /// # Errors
    ///
    /// EPIPE if nobody can read them; SIGPIPE is sent then.
    pub(crate) fn pipe_room(&mut self, id: PipeId, left: u64, before: u64) -> Result<u64, Errno> {
        if !self.has_pipe_end(id, OpenFlags::READ) {
            if before == 0 {
                self.send_pipe_signal();
            }
            return Err(Errno::EPIPE);
        }
        let room = self.pipes.get(id).map_or(0, |pipe| pipe.room() as u64);
        let is_atomic = before == 0 && left <= ATOMIC_BYTES;
        Ok(if is_atomic && room < left { 0 } else { room.min(left) })
    }

    /// Sends the running task SIGPIPE. Source: pipe(7), "I/O on pipes and FIFOs".
    pub(crate) fn send_pipe_signal(&mut self) {
        let number = Signal::SIGPIPE.number() as u32;
        let detail = Detail::Sender { process: self.process.id.0, user: 0, value: 0 };
        let task = self.running_task();
        self.send(SignalInfo { number, code: SI_USER, detail }, Recipient::Task(task));
    }

    /// Puts bytes into a pipe that has room for them.
    pub(crate) fn put_into_pipe(&mut self, id: PipeId, bytes: &[u8]) {
        if let Some(pipe) = self.pipes.get_mut(id)
            && !bytes.is_empty()
        {
            pipe.put(bytes);
            self.note_ready(Source::Pipe(id), POLLIN | POLLRDNORM);
        }
    }
}
