//! Copying from one open file to another without the program's memory, and advice about what will be read.
//!
//! Sources: sendfile(2), copy_file_range(2), splice(2), readahead(2), posix_fadvise(2), sync_file_range(2).

use crate::Errno;
use crate::arguments::{Address, Fd};
use crate::calls::call::{Call, put};
use crate::calls::transfers::bytes_of;
use crate::files::inode::{InodeId, Kind};
use crate::files::open::{OpenFlags, What};
use crate::system::System;

/// Bytes that are copied by one call; more is the business of the next.
const MOST_BYTES: u64 = 1 << 20;

/// Where the bytes are in a file: where the last transfer ended, or where a number in memory says, which is moved on.
struct Position {
    fd: u32,
    /// Where the number is, and how many bytes it has.
    at: Option<(u64, usize)>,
}

impl Position {
    fn new(Fd(fd): Fd, Address(at): Address, width: usize) -> Position {
        Position { fd, at: (at != 0).then_some((at, width)) }
    }

    fn offset(&self, system: &mut System) -> Result<u64, Errno> {
        let Some((at, width)) = self.at else { return Ok(system.open_file(self.fd)?.offset) };
        let mut bytes = [0; 8];
        let read = system.machine.memory_mut().read_bytes(at, &mut bytes[..width]);
        read.map_err(|_| Errno::EFAULT)?;
        let offset = u64::from_le_bytes(bytes);
        if (offset as i64) < 0 { Err(Errno::EINVAL) } else { Ok(offset) }
    }

    fn finish(&self, system: &mut System, offset: u64) -> Result<(), Errno> {
        match self.at {
            Some((at, width)) => put(system, at, &offset.to_le_bytes()[..width]),
            None => {
                system.open_file_mut(self.fd)?.offset = offset;
                Ok(())
            }
        }
    }
}

/// The regular file that a descriptor names; `None` if it names something else.
fn regular(system: &System, fd: u32) -> Result<Option<InodeId>, Errno> {
    match system.open_file(fd)?.what {
        What::Inode(id) => match system.tree.get(id).kind {
            Kind::File(_) => Ok(Some(id)),
            Kind::Directory(_) => Err(Errno::EISDIR),
            _ => Ok(None),
        },
        _ => Ok(None),
    }
}

/// Writes bytes to where a descriptor goes on; how many were written.
fn write_on(system: &mut System, to: &Position, mut bytes: Vec<u8>) -> Result<u64, Errno> {
    let open = system.open_file(to.fd)?;
    let (what, appends) = (open.what.clone(), open.flags.contains(OpenFlags::APPEND));
    match what {
        What::Output(number) => system.put_output(number, &bytes),
        What::Inode(id) => match system.tree.get(id).kind {
            Kind::File(_) => {
                let start = match appends {
                    true => system.tree.get(id).size(),
                    false => to.offset(system)?,
                };
                system.write_file(id, start, &mut bytes)?;
                to.finish(system, start + bytes.len() as u64)?;
            }
            Kind::Device(crate::files::inode::Device::Full) => return Err(Errno::ENOSPC),
            Kind::Device(_) => {}
            _ => return Err(Errno::EINVAL),
        },
        _ => return Err(Errno::EINVAL),
    }
    Ok(bytes.len() as u64)
}

fn check_modes(system: &System, from: u32, to: u32) -> Result<(), Errno> {
    let reads = system.open_file(from)?.flags.contains(OpenFlags::READ);
    let writes = system.open_file(to)?.flags.contains(OpenFlags::WRITE);
    if reads && writes { Ok(()) } else { Err(Errno::EBADF) }
}

fn send(call: &mut Call, to: Fd, from: Position, count: u64) -> Result<u64, Errno> {
    let system = &mut *call.system;
    check_modes(system, from.fd, to.0)?;
    let Some(_) = regular(system, from.fd).map_err(|_| Errno::EINVAL)? else {
        return Err(if from.at.is_some() { Errno::ESPIPE } else { Errno::EINVAL });
    };
    if system.open_file(to.0)?.flags.contains(OpenFlags::APPEND) {
        return Err(Errno::EINVAL);
    }
    if (count as i64) < 0 {
        return Err(Errno::EINVAL);
    }
    let offset = from.offset(system)?;
    let what = system.open_file(from.fd)?.what.clone();
    let bytes = bytes_of(system, &what, offset, count.min(MOST_BYTES) as usize)?;
    let to = Position { fd: to.0, at: None };
    let written = write_on(system, &to, bytes)?;
    from.finish(system, offset + written)?;
    Ok(written)
}

/// `sendfile(2)`, with an offset of a word.
pub(crate) fn sendfile(
    call: &mut Call,
    to: Fd,
    from: Fd,
    offset: Address,
    count: u64,
) -> Result<u64, Errno> {
    let width = call.abi.word_bytes();
    send(call, to, Position::new(from, offset, width), count)
}

/// `sendfile(2)`, with an offset of 64 bits.
pub(crate) fn sendfile64(
    call: &mut Call,
    to: Fd,
    from: Fd,
    offset: Address,
    count: u64,
) -> Result<u64, Errno> {
    send(call, to, Position::new(from, offset, 8), count)
}

/// `copy_file_range(2)`
pub(crate) fn copy_file_range(
    call: &mut Call,
    from: Fd,
    from_offset: Address,
    to: Fd,
    to_offset: Address,
    count: u64,
    flags: u64,
) -> Result<u64, Errno> {
    let system = &mut *call.system;
    let from = Position::new(from, from_offset, 8);
    let to = Position::new(to, to_offset, 8);
    if flags != 0 {
        return Err(Errno::EINVAL);
    }
    let (start, end) = (from.offset(system)?, to.offset(system)?);
    let (Some(source), Some(goal)) = (regular(system, from.fd)?, regular(system, to.fd)?) else {
        return Err(Errno::EINVAL);
    };
    check_modes(system, from.fd, to.fd)?;
    if system.open_file(to.fd)?.flags.contains(OpenFlags::APPEND) {
        return Err(Errno::EBADF);
    }
    let overlaps = start < end.saturating_add(count) && end < start.saturating_add(count);
    if source == goal && overlaps && count > 0 {
        return Err(Errno::EINVAL);
    }
    let bytes = bytes_of(system, &What::Inode(source), start, count.min(MOST_BYTES) as usize)?;
    let written = write_on(system, &to, bytes)?;
    from.finish(system, start + written)?;
    Ok(written)
}

/// `readahead(2)`: everything is at hand already.
pub(crate) fn readahead(call: &mut Call, Fd(fd): Fd, _: u64, _: u64, _: u64) -> Result<u64, Errno> {
    if !call.system.open_file(fd)?.flags.contains(OpenFlags::READ) {
        return Err(Errno::EBADF);
    }
    match regular(call.system, fd) {
        Ok(Some(_)) => Ok(0),
        _ => Err(Errno::EINVAL),
    }
}

/// Checks what advice is given of a file. Source: posix_fadvise(2).
fn check_advice(call: &mut Call, fd: u32, length: u64, advice: u64) -> Result<u64, Errno> {
    let open = call.system.open_file(fd)?;
    match open.what {
        _ if open.flags.contains(OpenFlags::PATH) => Err(Errno::EBADF),
        What::Input | What::Output(_) | What::Pipe(_) | What::Socket(_) => Err(Errno::ESPIPE),
        _ if (length as i64) < 0 || advice as u32 > 5 => Err(Errno::EINVAL),
        _ => Ok(0),
    }
}

/// `posix_fadvise(2)`, with a length of a word.
pub(crate) fn fadvise64(
    call: &mut Call,
    Fd(fd): Fd,
    _: u64,
    _: u64,
    length: u64,
    advice: u64,
) -> Result<u64, Errno> {
    let length = call.signed(length) as u64;
    check_advice(call, fd, length, advice)
}

/// `posix_fadvise(2)`, with a length of 64 bits.
pub(crate) fn fadvise64_64(
    call: &mut Call,
    Fd(fd): Fd,
    _: u64,
    _: u64,
    low: u64,
    high: u64,
    advice: u64,
) -> Result<u64, Errno> {
    let length = call.long(low, high);
    check_advice(call, fd, length, advice)
}

/// `sync_file_range(2)`
pub(crate) fn sync_file_range(
    call: &mut Call,
    Fd(fd): Fd,
    offset: u64,
    offset_high: u64,
    length: u64,
    length_high: u64,
    flags: u64,
) -> Result<u64, Errno> {
    let (offset, length) = (call.long(offset, offset_high), call.long(length, length_high));
    let open = call.system.open_file(fd)?;
    if flags as u32 & !7 != 0 || (offset as i64) < 0 || (length as i64) < 0 {
        return Err(Errno::EINVAL);
    }
    match open.what {
        What::Input | What::Output(_) | What::Pipe(_) | What::Socket(_) => Err(Errno::ESPIPE),
        _ => Ok(0),
    }
}
