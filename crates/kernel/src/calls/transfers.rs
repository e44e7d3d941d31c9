//! Reading and writing open files: the standard streams, which are modelled as pipes, files of the tree, and devices.
//!
//! A pipe takes and gives bytes in pieces of a page. A piece whose memory cannot be accessed to its end is not
//! transferred; the pieces before it are, and if there are none the call fails with EFAULT. Of files and devices every byte
//! up to the first that cannot be accessed is transferred.
//!
//! Sources: read(2), write(2), readv(2), pread(2), pipe(7); Linux, `fs/read_write.c` for the order of the checks and
//! `fs/pipe.c` for the pieces.

use sotto_machine::PAGE_BYTES;

use crate::Errno;
use crate::arguments::{Address, Fd};
use crate::calls::call::{Call, Outcome, notice};
use crate::calls::events::{Events, read_events, write_events};
use crate::calls::pipes::Readable;
use crate::calls::receiving::read_socket;
use crate::calls::sending::Sending;
use crate::files::content::BLOCK_BYTES;
use crate::files::inode::{Device, InodeId, Kind};
use crate::files::open::{OpenFile, OpenFlags, What};
use crate::files::pipes::PipeId;
use crate::report::Notice;
use crate::system::System;
use crate::target::target;
use crate::task::Wait;

/// No call transfers more bytes at once. Source: write(2), NOTES.
const MAX_TRANSFER_BYTES: u64 = 0x7fff_f000;
/// Bytes of a piece of a pipe: PAGE_SIZE.
const PIECE_BYTES: usize = 4096;
/// IOV_MAX. Source: writev(2).
pub(crate) const MAX_VECTORS: u64 = 1024;

/// What a call says of a range of memory before it looks at the memory: whether programs may have such addresses.
fn check_range(system: &System, address: u64, count: u64) -> Result<(), Errno> {
    // Source: Linux, `access_ok`; the last page below the limit belongs to nobody.
    let Some(limit) = target(system.arch()).user_limit else { return Ok(()) };
    match address.checked_add(count) {
        Some(end) if end <= limit => Ok(()),
        _ => Err(Errno::EFAULT),
    }
}

/// The reason why a buffer was refused, for a notice.
fn refused_buffer(
    system: &mut System,
    call: &str,
    buffer: u64,
    count: u64,
    verb: &str,
) -> Option<Notice> {
    let usable = usable_bytes(system, buffer, count, verb == "written");
    let refusal = match (usable, verb) {
        _ if check_range(system, buffer, count).is_err() && (count as i64) < 0 => {
            format!("`{call}` was given the count {}, which reaches beyond memory", count as i64)
        }
        (0, "written") => {
            format!("`{call}` was given the buffer {buffer:#x}, which cannot be written")
        }
        (0, _) => format!("`{call}` was given the buffer {buffer:#x}, where nothing can be read"),
        _ => format!(
            "`{call}` was given {count} bytes at {buffer:#x}, of which only the first {usable} can be {verb}"
        ),
    };
    let help = match (usable, verb) {
        (1.., _) => "give it the number of bytes that the buffer has",
        (_, "written") => "give it the address of a buffer in .bss or on the stack",
        _ => "give it the address of the text, not the text",
    };
    notice(refusal, help)
}

/// Bytes from an address on that can be accessed, `count` at most.
fn usable_bytes(system: &System, address: u64, count: u64, to_write: bool) -> u64 {
    let memory = system.machine.memory();
    let end = address.saturating_add(count);
    let mut at = address;
    while at < end {
        let Some(region) = memory.region_at(at) else { break };
        let permissions = region.permissions;
        if !(if to_write { permissions.write } else { permissions.read }) {
            break;
        }
        at = region.end;
    }
    at.min(end) - address
}

/// Says why a file descriptor cannot be used.
fn bad_descriptor(system: &System, call: &str, fd: u32, reads: bool) -> Transferred {
    let to = if reads { "from" } else { "to" };
    let state = match system.open_file(fd) {
        Ok(open) if matches!(open.what, What::Input) => "which is standard input".to_string(),
        Ok(_) if reads => "which is open for writing only".to_string(),
        Ok(_) => "which is open for reading only".to_string(),
        Err(_) if fd <= 2 => "which was closed".to_string(),
        Err(_) => "which is not open".to_string(),
    };
    let remedy = match reads {
        true => "standard input is 0",
        false => "standard output is 1, standard error is 2",
    };
    let fd = fd as i32;
    (Errno::EBADF.into(), notice(format!("`{call}` {to} {fd}, {state}"), remedy))
}

/// Bytes that are transferred before others are given a chance; a whole number of pieces.
const BYTES_AT_ONCE: u64 = 1 << 20;

/// What came of a call, and a notice if it is probably a mistake.
pub(crate) type Transferred = (Outcome, Option<Notice>);

/// A call that transfers bytes.
pub(crate) struct Transfer<'a> {
    /// Its name.
    pub call: &'a str,
    pub fd: u32,
    /// The ranges of memory, in their order.
    pub ranges: &'a [(u64, u64)],
    /// Where in the file; where the last transfer ended unless it is said.
    pub position: Option<u64>,
}

impl Transfer<'_> {
    /// Bytes of the ranges together.
    pub fn total(&self) -> u64 {
        self.ranges.iter().map(|(_, count)| count).sum()
    }

    /// What to say when a range of memory was refused.
    pub fn refused(&self, system: &mut System, reads: bool) -> Transferred {
        let verb = if reads { "written" } else { "read" };
        let bad = self
            .ranges
            .iter()
            .find(|(start, count)| usable_bytes(system, *start, *count, reads) < *count);
        let reason = bad
            .copied()
            .and_then(|(start, count)| refused_buffer(system, self.call, start, count, verb));
        (Errno::EFAULT.into(), reason)
    }

    /// Reads into the ranges.
    fn read(&self, system: &mut System) -> Transferred {
        let (what, flags, offset) = match system.open_file(self.fd) {
            Ok(open) if open.flags.contains(OpenFlags::READ) => {
                (open.what.clone(), open.flags, open.offset)
            }
            _ => return bad_descriptor(system, self.call, self.fd, true),
        };
        if let Err(refused) = self.check(system, true) {
            return refused;
        }
        match read_events(system, self.fd, self.total()) {
            Ok(None) => {}
            Ok(Some(Events::Bytes(bytes))) => {
                let copied = self.scatter(system, 0, &bytes);
                return match copied == bytes.len() {
                    true => (Outcome::Returned(copied as i64), None),
                    false => self.refused(system, true),
                };
            }
            Ok(Some(Events::Waits(_))) if flags.contains(OpenFlags::NONBLOCK) => {
                return (Errno::EAGAIN.into(), None);
            }
            Ok(Some(Events::Waits(until))) => {
                return (Outcome::Waits(system.event_wait(until, true)), None);
            }
            Err(errno) => return (errno.into(), None),
        }
        if let What::Pipe(id) = what {
            return self.read_pipe(system, id, flags);
        }
        if let (What::Socket(id), 1..) = (&what, self.total()) {
            return read_socket(system, self, *id, !flags.contains(OpenFlags::NONBLOCK));
        }
        if self.total() == 0 && !matches!(what, What::Inode(_)) {
            return (Outcome::Returned(0), None);
        }
        if what == What::Input {
            return self.read_input(system);
        }
        let start = self.position.unwrap_or(offset);
        let before = std::mem::take(system.transferred());
        let wanted = (self.total() - before).min(BYTES_AT_ONCE);
        let bytes = match bytes_of(system, &what, start.saturating_add(before), wanted as usize) {
            Ok(bytes) => bytes,
            Err(errno) => return (errno.into(), None),
        };
        let copied = self.scatter(system, before, &bytes);
        if copied < bytes.len() && copied == 0 && before == 0 {
            return self.refused(system, true);
        }
        let read = before + copied as u64;
        if copied as u64 == BYTES_AT_ONCE && read < self.total() {
            *system.transferred() = read;
            return (Outcome::Unfinished, None);
        }
        self.finish(system, start + read);
        if let What::Inode(id) = what {
            system.note_access(id);
        }
        (Outcome::Returned(read as i64), None)
    }

    /// Moves on the position of the open file, unless the call said its own.
    fn finish(&self, system: &mut System, end: u64) {
        if let (None, Ok(open)) = (self.position, system.open_file_mut(self.fd)) {
            open.offset = end;
        }
    }

    /// Reads standard input.
    fn read_input(&self, system: &mut System) -> Transferred {
        let Some(bytes) = system.peek_input(self.total() as usize) else {
            return (Outcome::Waits(Wait::Input), None);
        };
        let taken = self.put_pieces(system, &bytes);
        if taken == 0 && !bytes.is_empty() {
            return self.refused_piece(system, &bytes);
        }
        system.take_input(taken);
        (Outcome::Returned(taken as i64), None)
    }

    /// Reads a pipe.
    fn read_pipe(&self, system: &mut System, id: PipeId, flags: OpenFlags) -> Transferred {
        if self.position.is_some() {
            return (Errno::ESPIPE.into(), None);
        }
        if self.total() == 0 {
            return (Outcome::Returned(0), None);
        }
        let bytes = match system.peek_pipe(id, self.total() as usize) {
            Readable::Bytes(bytes) => bytes,
            Readable::Ended => return (Outcome::Returned(0), None),
            Readable::Empty if flags.contains(OpenFlags::NONBLOCK) => {
                return (Errno::EAGAIN.into(), None);
            }
            Readable::Empty => return (Outcome::Waits(system.event_wait(None, true)), None),
        };
        let taken = self.put_pieces(system, &bytes);
        if taken == 0 {
            return self.refused_piece(system, &bytes);
        }
        system.take_from_pipe(id, taken);
        (Outcome::Returned(taken as i64), None)
    }

    /// What to say when the first piece has no place.
    fn refused_piece(&self, system: &mut System, bytes: &[u8]) -> Transferred {
        let needed = [(self.ranges[0].0, (bytes.len() as u64).min(self.ranges[0].1))];
        Transfer { ranges: &needed, ..*self }.refused(system, true)
    }

    /// Puts bytes of a pipe into the ranges, piece by piece; how many were taken.
    fn put_pieces(&self, system: &mut System, bytes: &[u8]) -> usize {
        let mut taken = 0;
        'ranges: for &(start, count) in self.ranges {
            let end = bytes.len().min(taken + count as usize);
            let first = taken;
            for piece in bytes[first..end].chunks(PIECE_BYTES) {
                // What fits before the first bad page is written, although it is not taken from the pipe.
                let at = start.wrapping_add((taken - first) as u64);
                if system.copy_out(at, piece) < piece.len() {
                    break 'ranges;
                }
                taken += piece.len();
            }
        }
        taken
    }

    /// Puts bytes into the ranges behind those that were transferred already; how many before the first that cannot be
    /// written.
    pub fn scatter(&self, system: &mut System, mut skipped: u64, bytes: &[u8]) -> usize {
        let mut done = 0;
        for &(start, count) in self.ranges {
            let from = skipped.min(count);
            skipped -= from;
            let take = (count - from).min((bytes.len() - done) as u64) as usize;
            let copied = system.copy_out(start.wrapping_add(from), &bytes[done..done + take]);
            done += copied;
            if copied < take || done == bytes.len() {
                break;
            }
        }
        done
    }

    /// Bytes of the ranges behind those that were transferred already, as many as are transferred at once; and whether some
    /// could not be read.
    pub fn gather(&self, system: &mut System, mut skipped: u64) -> (Vec<u8>, bool) {
        let mut bytes = Vec::new();
        for &(start, count) in self.ranges {
            let mut done = skipped.min(count);
            skipped -= done;
            while done < count {
                let left = BYTES_AT_ONCE - bytes.len() as u64;
                if left == 0 {
                    return (bytes, false);
                }
                let at = start.wrapping_add(done);
                let take = (count - done).min(PAGE_BYTES - at % PAGE_BYTES).min(left) as usize;
                let old = bytes.len();
                bytes.resize(old + take, 0);
                if system.machine.memory_mut().read_bytes(at, &mut bytes[old..]).is_err() {
                    bytes.truncate(old);
                    return (bytes, true);
                }
                done += take as u64;
            }
        }
        (bytes, false)
    }

    /// Writes the ranges as one. Many bytes take several calls, of which each but the last leaves the call unfinished.
    fn write(&self, system: &mut System) -> Transferred {
        let (what, flags, offset) = match system.open_file(self.fd) {
            Ok(open) if open.flags.contains(OpenFlags::WRITE) => {
                (open.what.clone(), open.flags, open.offset)
            }
            _ => return bad_descriptor(system, self.call, self.fd, false),
        };
        if let Err(refused) = self.check(system, false) {
            return refused;
        }
        if let What::Pipe(id) = what {
            return self.write_pipe(system, id, flags);
        }
        if let What::Socket(id) = what {
            let may_wait = !flags.contains(OpenFlags::NONBLOCK);
            let (flags, to, rights) = (0, None, Vec::new());
            return Sending { transfer: self, id, flags, may_wait, to, rights }.send(system);
        }
        let before = std::mem::take(system.transferred());
        let is_event = what.is_event();
        let file = match what {
            What::Output(_) => None,
            What::Inode(id) => match &system.tree.get(id).kind {
                Kind::Device(Device::Full) => return (Errno::ENOSPC.into(), None),
                Kind::Device(_) => return (Outcome::Returned(self.total() as i64), None),
                _ => Some(id),
            },
            _ if is_event => None,
            What::Epoll(_) | What::Process(_) => return (Errno::EINVAL.into(), None),
            _ => return (Errno::EBADF.into(), None),
        };
        let (mut bytes, refused) = self.gather(system, before);
        if refused && file.is_none() {
            bytes.truncate(bytes.len() / PIECE_BYTES * PIECE_BYTES);
        }
        if refused && bytes.is_empty() && before == 0 {
            return self.refused(system, false);
        }
        if let Some(answer) = write_events(system, self.fd, &bytes) {
            return (answer.outcome, None);
        }
        let mut end = 0;
        if let Some(id) = file {
            let start = match flags.contains(OpenFlags::APPEND) {
                true => system.tree.get(id).size(),
                false => self.position.unwrap_or(offset) + before,
            };
            match system.write_file(id, start, &mut bytes) {
                Ok(()) => end = start + bytes.len() as u64,
                Err(errno) if before == 0 => return (errno.into(), None),
                Err(_) => bytes.clear(),
            }
        } else if let What::Output(number) = what {
            system.put_output(number, &bytes);
        }
        let written = before + bytes.len() as u64;
        if bytes.len() as u64 == BYTES_AT_ONCE && !refused && written < self.total() {
            *system.transferred() = written;
            return (Outcome::Unfinished, None);
        }
        if file.is_some() && written > 0 {
            self.finish(system, end);
        }
        (Outcome::Returned(written as i64), None)
    }

    /// Writes to a pipe: what does not find room waits for it, unless it may not.
    fn write_pipe(&self, system: &mut System, id: PipeId, flags: OpenFlags) -> Transferred {
        if self.position.is_some() {
            return (Errno::ESPIPE.into(), None);
        }
        let before = std::mem::take(system.transferred());
        let left = self.total() - before;
        if left == 0 {
            return (Outcome::Returned(before as i64), None);
        }
        let done = |before: u64| (Outcome::Returned(before as i64), None);
        let room = match system.pipe_room(id, left, before) {
            Ok(room) => room,
            Err(_) if before > 0 => return done(before),
            Err(errno) => return (errno.into(), None),
        };
        let (mut bytes, refused) = self.gather(system, before);
        if refused {
            bytes.truncate(bytes.len() / PIECE_BYTES * PIECE_BYTES);
            if bytes.is_empty() {
                return if before > 0 { done(before) } else { self.refused(system, false) };
            }
        }
        bytes.truncate(room as usize);
        system.put_into_pipe(id, &bytes);
        let written = before + bytes.len() as u64;
        let waits = written < self.total() && !refused;
        match waits {
            true if !flags.contains(OpenFlags::NONBLOCK) => {
                *system.transferred() = written;
                (Outcome::Waits(system.event_wait(None, true)), None)
            }
            true if written == 0 => (Errno::EAGAIN.into(), None),
            _ => done(written),
        }
    }

    /// What a call says of its ranges before it looks at the memory.
    pub fn check(&self, system: &mut System, reads: bool) -> Result<(), Transferred> {
        let verb = if reads { "written" } else { "read" };
        for &(start, count) in self.ranges {
            if let Err(errno) = check_range(system, start, count) {
                let reason = refused_buffer(system, self.call, start, count, verb);
                return Err((errno.into(), reason));
            }
        }
        Ok(())
    }
}

/// Bytes that reading something at an offset gives.
pub(crate) fn bytes_of(
    system: &mut System,
    what: &What,
    offset: u64,
    count: usize,
) -> Result<Vec<u8>, Errno> {
    let mut bytes = vec![0; count];
    let id = match what {
        What::Inode(id) => *id,
        What::Proc(_, text) => {
            let from = text.len().min(usize::try_from(offset).unwrap_or(usize::MAX));
            return Ok(text[from..].iter().copied().take(count).collect());
        }
        What::Epoll(_) | What::Process(_) => return Err(Errno::EINVAL),
        _ => return Err(Errno::EBADF),
    };
    system.flush_shared(id);
    let device = match &system.tree.get(id).kind {
        Kind::File(content) => {
            let found = content.read(offset, &mut bytes);
            bytes.truncate(found);
            return Ok(bytes);
        }
        Kind::Device(device) => *device,
        Kind::Directory(_) => return Err(Errno::EISDIR),
        Kind::Link(_) | Kind::Proc(_) | Kind::Fifo | Kind::Socket => {
            return Err(Errno::EINVAL);
        }
    };
    match device {
        Device::Zero | Device::Full => {}
        Device::Random => {
            for chunk in bytes.chunks_mut(8) {
                let number = system.machine.next_random().to_le_bytes();
                chunk.copy_from_slice(&number[..chunk.len()]);
            }
        }
        Device::Null | Device::Terminal | Device::Stream(_) => bytes.clear(),
    }
    Ok(bytes)
}

/// One range, no longer than a call may transfer; its length as it was asked for is checked.
fn one(system: &mut System, transfer: Transfer, reads: bool) -> Transferred {
    let (start, count) = transfer.ranges[0];
    let is_open = |open: &OpenFile| {
        open.flags.contains(if reads { OpenFlags::READ } else { OpenFlags::WRITE })
    };
    if system.open_file(transfer.fd).is_ok_and(is_open)
        && let Err(refused) = transfer.check(system, reads)
    {
        return refused;
    }
    let ranges = [(start, count.min(MAX_TRANSFER_BYTES))];
    let transfer = Transfer { ranges: &ranges, ..transfer };
    if reads { transfer.read(system) } else { transfer.write(system) }
}

/// `read(2)`
pub(crate) fn read(
    call: &mut Call,
    Fd(fd): Fd,
    Address(buffer): Address,
    count: u64,
) -> Transferred {
    let ranges = [(buffer, count)];
    let transfer = Transfer { call: "read", fd, ranges: &ranges, position: None };
    one(call.system, transfer, true)
}

/// `write(2)`
pub(crate) fn write(
    call: &mut Call,
    Fd(fd): Fd,
    Address(buffer): Address,
    count: u64,
) -> Transferred {
    let ranges = [(buffer, count)];
    let transfer = Transfer { call: "write", fd, ranges: &ranges, position: None };
    one(call.system, transfer, false)
}

/// A position in a file, which only what is no stream has.
fn position(call: &Call, fd: u32, low: u64, high: u64) -> Result<u64, Errno> {
    let position = call.long(low, high);
    if (position as i64) < 0 {
        return Err(Errno::EINVAL);
    }
    match &call.system.open_file(fd)?.what {
        What::Inode(_) | What::Proc(..) => Ok(position),
        _ => Err(Errno::ESPIPE),
    }
}

/// `pread(2)`
pub(crate) fn pread(
    call: &mut Call,
    fd: Fd,
    buffer: Address,
    count: u64,
    low: u64,
    high: u64,
) -> Transferred {
    at_position(call, "pread64", fd, (buffer, count), (low, high), true)
}

/// `pwrite(2)`
pub(crate) fn pwrite(
    call: &mut Call,
    fd: Fd,
    buffer: Address,
    count: u64,
    low: u64,
    high: u64,
) -> Transferred {
    at_position(call, "pwrite64", fd, (buffer, count), (low, high), false)
}

fn at_position(
    call: &mut Call,
    name: &str,
    Fd(fd): Fd,
    (Address(buffer), count): (Address, u64),
    (low, high): (u64, u64),
    reads: bool,
) -> Transferred {
    match position(call, fd, low, high) {
        Ok(position) => {
            let (ranges, position) = ([(buffer, count)], Some(position));
            one(call.system, Transfer { call: name, fd, ranges: &ranges, position }, reads)
        }
        Err(errno) => (errno.into(), None),
    }
}

/// The ranges that a list in memory names.
pub(crate) fn ranges_of(
    call: &mut Call,
    name: &str,
    vector: u64,
    count: u64,
    reads: bool,
) -> Result<Vec<(u64, u64)>, Transferred> {
    let width = call.abi.word_bytes();
    let system = &mut *call.system;
    if count > MAX_VECTORS {
        let message = format!("`{name}` was given {count} buffers; it takes {MAX_VECTORS} at most");
        return Err((Errno::EINVAL.into(), notice(message, "call it several times")));
    }
    let (mut ranges, mut total) = (Vec::new(), 0u64);
    for n in 0..count {
        let mut entry = [0; 16];
        let at = vector.wrapping_add(n * 2 * width as u64);
        if system.machine.memory_mut().read_bytes(at, &mut entry[..2 * width]).is_err() {
            let message =
                format!("`{name}` was given a list at {at:#x}, where nothing can be read");
            let help = "give it the address of pairs of address and length";
            return Err((Errno::EFAULT.into(), notice(message, help)));
        }
        let word = |bytes: &[u8]| {
            bytes.iter().rev().fold(0u64, |value, byte| value << 8 | u64::from(*byte))
        };
        let (base, length) = (word(&entry[..width]), word(&entry[width..2 * width]));
        // The sign is that of a word of the machine.
        if length >> (8 * width - 1) & 1 != 0 {
            let message = format!("`{name}` was given a negative length in buffer {n}");
            let help = notice(message, "a length is a number of bytes");
            return Err((Errno::EINVAL.into(), help));
        }
        if let Err(errno) = check_range(system, base, length) {
            let verb = if reads { "written" } else { "read" };
            return Err((errno.into(), refused_buffer(system, name, base, length, verb)));
        }
        let length = length.min(MAX_TRANSFER_BYTES - total);
        total += length;
        ranges.push((base, length));
    }
    Ok(ranges)
}

/// Transfers between a file and the buffers of a list, at a position in two halves if there is one.
fn vectored(
    call: &mut Call,
    name: &str,
    Fd(fd): Fd,
    (Address(vector), count): (Address, u64),
    halves: Option<(u64, u64)>,
    reads: bool,
) -> Transferred {
    let position = match halves.map(|(low, high)| position(call, fd, low, high)).transpose() {
        Ok(position) => position,
        Err(errno) => return (errno.into(), None),
    };
    let flag = if reads { OpenFlags::READ } else { OpenFlags::WRITE };
    let Ok(open) = call.system.open_file(fd) else {
        return bad_descriptor(call.system, name, fd, reads);
    };
    let is_allowed = open.flags.contains(flag);
    // The list is checked before the way in which the file is open.
    let ranges = match ranges_of(call, name, vector, count, reads) {
        Ok(ranges) => ranges,
        Err(refused) => return refused,
    };
    if !is_allowed {
        return bad_descriptor(call.system, name, fd, reads);
    }
    let transfer = Transfer { call: name, fd, ranges: &ranges, position };
    if reads { transfer.read(call.system) } else { transfer.write(call.system) }
}

/// `readv(2)`
pub(crate) fn readv(call: &mut Call, fd: Fd, vector: Address, count: u64) -> Transferred {
    vectored(call, "readv", fd, (vector, count), None, true)
}

/// `writev(2)`
pub(crate) fn writev(call: &mut Call, fd: Fd, vector: Address, count: u64) -> Transferred {
    vectored(call, "writev", fd, (vector, count), None, false)
}

/// `preadv(2)`
pub(crate) fn preadv(
    call: &mut Call,
    fd: Fd,
    vector: Address,
    count: u64,
    low: u64,
    high: u64,
) -> Transferred {
    vectored(call, "preadv", fd, (vector, count), Some((low, high)), true)
}

/// `pwritev(2)`
pub(crate) fn pwritev(
    call: &mut Call,
    fd: Fd,
    vector: Address,
    count: u64,
    low: u64,
    high: u64,
) -> Transferred {
    vectored(call, "pwritev", fd, (vector, count), Some((low, high)), false)
}

/// Checks the flags of preadv2 and pwritev2: those that ask for haste or for safety are met anyway.
fn check_flags(flags: u64) -> Result<(), Transferred> {
    const HIPRI_DSYNC_SYNC_NOWAIT: u64 = 0xf;
    match flags & 0xffff_ffff & !HIPRI_DSYNC_SYNC_NOWAIT {
        0 => Ok(()),
        _ => Err((Errno::EOPNOTSUPP.into(), None)),
    }
}

/// The position that preadv2 and pwritev2 were given; -1 stands for none.
fn halves(call: &Call, low: u64, high: u64) -> Option<(u64, u64)> {
    (call.long(low, high) != u64::MAX).then_some((low, high))
}

/// `preadv2(2)`
pub(crate) fn preadv2(
    call: &mut Call,
    fd: Fd,
    vector: Address,
    count: u64,
    low: u64,
    high: u64,
    flags: u64,
) -> Transferred {
    if let Err(refused) = check_flags(flags) {
        return refused;
    }
    let position = halves(call, low, high);
    vectored(call, "preadv2", fd, (vector, count), position, true)
}

/// `pwritev2(2)`
pub(crate) fn pwritev2(
    call: &mut Call,
    fd: Fd,
    vector: Address,
    count: u64,
    low: u64,
    high: u64,
    flags: u64,
) -> Transferred {
    if let Err(refused) = check_flags(flags) {
        return refused;
    }
    let position = halves(call, low, high);
    vectored(call, "pwritev2", fd, (vector, count), position, false)
}

impl System {
    /// Writes bytes into a file of the tree, as many as there is room for.
    ///
    /// # Errors
    ///
    /// EFBIG if the file would be larger than a file may be, ENOSPC if there is no room for any.
    pub(crate) fn write_file(
        &mut self,
        id: InodeId,
        offset: u64,
        bytes: &mut Vec<u8>,
    ) -> Result<(), Errno> {
        if bytes.is_empty() {
            return Ok(());
        }
        let most = (i64::MAX as u64).saturating_sub(offset);
        if most == 0 {
            return Err(Errno::EFBIG);
        }
        let room = self.tree.room();
        bytes.truncate(most.min(bytes.len() as u64) as usize);
        if room < bytes.len() as u64 + 2 * BLOCK_BYTES as u64 {
            return Err(Errno::ENOSPC);
        }
        self.change_file(id, |content| content.write(offset, bytes));
        Ok(())
    }

    /// Notes that a file was read, as file systems do by default. Source: mount(8), "relatime".
    fn note_access(&mut self, id: InodeId) {
        let time = self.wall_time();
        let inode = self.tree.get(id);
        if inode.accessed <= inode.modified || inode.accessed <= inode.changed {
            self.tree.get_mut(id).accessed = time;
        }
    }
}
