//! Calls on open files beside transfers: closing, duplicating, moving about, entries of directories, flags.
//!
//! Sources: close(2), dup(2), fcntl(2), lseek(2), getdents(2), ioctl(2), fsync(2), flock(2).

use std::sync::Arc;

use crate::Errno;
use crate::abi::SyscallAbi;
use crate::arguments::{Address, Fd};
use crate::calls::call::{Call, Outcome, notice, put};
use crate::files::inode::{Device, Kind};
use crate::files::open::{MAX_DESCRIPTORS, OpenFlags, What};
use crate::files::sockets::{SocketKind, State};
use crate::layout::number_at;
use crate::report::Notice;
use crate::system::System;
use crate::target::target;

/// `close(2)`
pub(crate) fn close(call: &mut Call, Fd(fd): Fd) -> Result<u64, Errno> {
    call.system.close(fd).map(|()| 0)
}

/// `dup(2)`
pub(crate) fn dup(call: &mut Call, Fd(fd): Fd) -> Result<u64, Errno> {
    call.system.descriptor(fd)?;
    let to = call.system.free_descriptor(0)?;
    call.system.duplicate(fd, to, false).map(u64::from)
}

/// `dup2(2)`
pub(crate) fn dup2(call: &mut Call, Fd(fd): Fd, Fd(to): Fd) -> Result<u64, Errno> {
    call.system.descriptor(fd)?;
    match to {
        _ if to == fd => Ok(to.into()),
        MAX_DESCRIPTORS.. => Err(Errno::EBADF),
        _ => call.system.duplicate(fd, to, false).map(u64::from),
    }
}

/// `dup3(2)`
pub(crate) fn dup3(call: &mut Call, Fd(fd): Fd, Fd(to): Fd, flags: u64) -> Result<u64, Errno> {
    let close_on_exec = target(call.abi.arch()).open_bits.close_on_exec;
    if flags & !close_on_exec != 0 || fd == to {
        return Err(Errno::EINVAL);
    }
    if to >= MAX_DESCRIPTORS {
        return Err(Errno::EBADF);
    }
    call.system.duplicate(fd, to, flags != 0).map(u64::from)
}

const F_DUPFD: u64 = 0;
const F_GETFD: u64 = 1;
const F_SETFD: u64 = 2;
const F_GETFL: u64 = 3;
const F_SETFL: u64 = 4;
const F_DUPFD_CLOEXEC: u64 = 1030;
const FD_CLOEXEC: u64 = 1;
const F_GETLK: u64 = 5;
const F_SETLK: u64 = 6;
const F_SETLKW: u64 = 7;
const F_GETLK64: u64 = 12;
const F_SETLK64: u64 = 13;
const F_SETLKW64: u64 = 14;
const F_OFD_GETLK: u64 = 36;
const F_OFD_SETLK: u64 = 37;
const F_OFD_SETLKW: u64 = 38;

/// Locks of a part of a file: there is one process, which gets every lock. Source: fcntl(2), "Advisory record locking".
fn lock(system: &mut System, fd: u32, command: u64, at: u64) -> Result<u64, Errno> {
    const F_UNLCK: u16 = 2;
    let bytes = system.machine.memory_mut().read::<4>(at).map_err(|_| Errno::EFAULT)?;
    let (kind, from) = (number_at(&bytes, 0, 2) as i16, number_at(&bytes, 2, 2));
    if !(0..=2).contains(&kind) || from > 2 {
        return Err(Errno::EINVAL);
    }
    let flags = system.open_file(fd)?.flags;
    match command {
        F_GETLK | F_GETLK64 | F_OFD_GETLK if kind == F_UNLCK as i16 => Err(Errno::EINVAL),
        F_GETLK | F_GETLK64 | F_OFD_GETLK => put(system, at, &F_UNLCK.to_le_bytes()).map(|()| 0),
        _ if kind == 0 && !flags.contains(OpenFlags::READ) => Err(Errno::EBADF),
        _ if kind == 1 && !flags.contains(OpenFlags::WRITE) => Err(Errno::EBADF),
        _ => Ok(0),
    }
}

/// `close_range(2)`
pub(crate) fn close_range(
    call: &mut Call,
    first: u64,
    last: u64,
    flags: u64,
) -> Result<u64, Errno> {
    const UNSHARE: u32 = 2;
    const CLOEXEC: u32 = 4;
    let (first, last, flags) = (first as u32, last as u32, flags as u32);
    if first > last || flags & !(UNSHARE | CLOEXEC) != 0 {
        return Err(Errno::EINVAL);
    }
    for fd in first..=last.min(MAX_DESCRIPTORS) {
        match flags & CLOEXEC {
            0 => drop(call.system.close(fd)),
            _ => call.system.set_close_on_exec(fd, true),
        }
    }
    Ok(0)
}

/// Which arguments of fcntl count: what only asks takes none.
pub(crate) fn fcntl_counts(_: SyscallAbi, values: &[u64; 6]) -> u8 {
    if matches!(values[1], F_GETFD | F_GETFL) { 0b11 } else { 0b111 }
}

/// `fcntl(2)`
pub(crate) fn fcntl(
    call: &mut Call,
    Fd(fd): Fd,
    command: u64,
    argument: u64,
) -> (Outcome, Option<Notice>) {
    let bits = target(call.abi.arch()).open_bits;
    let system = &mut *call.system;
    let Ok(descriptor) = system.descriptor(fd) else { return (Errno::EBADF.into(), None) };
    let result = match command & 0xffff_ffff {
        F_DUPFD | F_DUPFD_CLOEXEC => match argument {
            0..=1023 => {
                let close_on_exec = command == F_DUPFD_CLOEXEC;
                let free = system.free_descriptor(argument as u32);
                free.and_then(|to| system.duplicate(fd, to, close_on_exec)).map(u64::from)
            }
            _ => Err(Errno::EINVAL),
        },
        F_GETFD => Ok(u64::from(descriptor.close_on_exec)),
        F_SETFD => {
            system.set_close_on_exec(fd, argument & FD_CLOEXEC != 0);
            Ok(0)
        }
        F_GETFL => system.open_file(fd).map(|open| open.status),
        F_SETFL => system.open_file_mut(fd).map(|open| {
            let changed = bits.append | bits.nonblock | bits.direct;
            open.status = open.status & !changed | argument & changed;
            open.flags.set(OpenFlags::APPEND, argument & bits.append != 0);
            open.flags.set(OpenFlags::NONBLOCK, argument & bits.nonblock != 0);
            0
        }),
        F_GETLK | F_SETLK | F_SETLKW | F_GETLK64 | F_SETLK64 | F_SETLKW64 | F_OFD_GETLK
        | F_OFD_SETLK | F_OFD_SETLKW => lock(system, fd, command & 0xffff_ffff, argument),
        other => {
            let message = format!("`fcntl` command {other} is not modelled; it returned EINVAL");
            return (
                Errno::EINVAL.into(),
                notice(message, "leases, owners, seals and pipes' sizes are not there"),
            );
        }
    };
    (result.map_or_else(Outcome::from, |value| Outcome::Returned(value as i64)), None)
}

const SEEK_SET: u64 = 0;
const SEEK_CUR: u64 = 1;
const SEEK_END: u64 = 2;
const SEEK_DATA: u64 = 3;
const SEEK_HOLE: u64 = 4;

fn seek(system: &mut System, fd: u32, offset: i64, from: u64) -> Result<u64, Errno> {
    let open = system.open_file(fd)?;
    let now = open.offset;
    let id = match &open.what {
        What::Inode(_) if open.flags.contains(OpenFlags::PATH) => return Err(Errno::EBADF),
        What::Inode(id) => *id,
        What::Proc(_, text) => {
            let end = text.len() as i64;
            let base = [0, now as i64, end].get(from as usize).copied().ok_or(Errno::EINVAL)?;
            return set_offset(system, fd, base.checked_add(offset));
        }
        // Moving about has no effect on events.
        what if what.is_event() => return Ok(0),
        _ => return Err(Errno::ESPIPE),
    };
    let inode = system.tree.get(id);
    let size = inode.size();
    let target = match (&inode.kind, from as u32 as u64) {
        // Devices have no place to be at.
        (Kind::Device(Device::Null | Device::Zero | Device::Full), _) => Some(0),
        (Kind::Device(_), SEEK_SET..=SEEK_END) => Some(0),
        (_, SEEK_SET) => Some(offset),
        (_, SEEK_CUR) => (now as i64).checked_add(offset),
        (Kind::Directory(_), SEEK_END) => return Err(Errno::EINVAL),
        (_, SEEK_END) => (size as i64).checked_add(offset),
        (Kind::File(content), SEEK_DATA | SEEK_HOLE) => {
            let offset = u64::try_from(offset).map_err(|_| Errno::ENXIO)?;
            if offset >= size {
                return Err(Errno::ENXIO);
            }
            let found = match from {
                SEEK_DATA => content.next_data(offset).ok_or(Errno::ENXIO)?,
                _ => content.next_hole(offset),
            };
            Some(found as i64)
        }
        _ => return Err(Errno::EINVAL),
    };
    set_offset(system, fd, target)
}

fn set_offset(system: &mut System, fd: u32, target: Option<i64>) -> Result<u64, Errno> {
    let offset = u64::try_from(target.ok_or(Errno::EOVERFLOW)?).map_err(|_| Errno::EINVAL)?;
    system.open_file_mut(fd)?.offset = offset;
    Ok(offset)
}

/// `lseek(2)`
pub(crate) fn lseek(call: &mut Call, Fd(fd): Fd, offset: u64, from: u64) -> Result<u64, Errno> {
    let offset = call.signed(offset);
    let reached = seek(call.system, fd, offset, from)?;
    if call.abi.word_bytes() == 4 && reached > i32::MAX as u64 {
        return Err(Errno::EOVERFLOW);
    }
    Ok(reached)
}

/// `_llseek(2)`
pub(crate) fn llseek(
    call: &mut Call,
    Fd(fd): Fd,
    high: u64,
    low: u64,
    Address(result): Address,
    from: u64,
) -> Result<u64, Errno> {
    let offset = (high << 32 | low & 0xffff_ffff) as i64;
    let reached = seek(call.system, fd, offset, from)?;
    put(call.system, result, &reached.to_le_bytes())?;
    Ok(0)
}

/// Types of entries. Source: readdir(3), <dirent.h>.
fn entry_type(mode: u32) -> u8 {
    (mode >> 12) as u8
}

/// `getdents64(2)`
pub(crate) fn getdents64(
    call: &mut Call,
    Fd(fd): Fd,
    Address(buffer): Address,
    count: u64,
) -> Result<u64, Errno> {
    entries(call.system, fd, buffer, count, |inode, offset, kind, name| {
        let length = (19 + name.len() + 1).next_multiple_of(8);
        let mut entry = Vec::with_capacity(length);
        entry.extend(inode.to_le_bytes());
        entry.extend(offset.to_le_bytes());
        entry.extend((length as u16).to_le_bytes());
        entry.push(kind);
        entry.extend(name);
        entry.resize(length, 0);
        entry
    })
}

/// `getdents(2)`, whose entries have words of the machine, and their type behind the name.
pub(crate) fn getdents(
    call: &mut Call,
    Fd(fd): Fd,
    Address(buffer): Address,
    count: u64,
) -> Result<u64, Errno> {
    let width = call.abi.word_bytes();
    entries(call.system, fd, buffer, count, |inode, offset, kind, name| {
        let length = (2 * width + 2 + name.len() + 2).next_multiple_of(width);
        let mut entry = Vec::with_capacity(length);
        entry.extend(&inode.to_le_bytes()[..width]);
        entry.extend(&offset.to_le_bytes()[..width]);
        entry.extend((length as u16).to_le_bytes());
        entry.extend(name);
        entry.resize(length, 0);
        entry[length - 1] = kind;
        entry
    })
}

fn entries(
    system: &mut System,
    fd: u32,
    buffer: u64,
    count: u64,
    lay_out: impl Fn(u64, u64, u8, &[u8]) -> Vec<u8>,
) -> Result<u64, Errno> {
    let open = system.open_file(fd)?;
    if open.flags.contains(OpenFlags::PATH) {
        return Err(Errno::EBADF);
    }
    let (start, What::Inode(id)) = (open.offset, open.what.clone()) else {
        return Err(Errno::ENOTDIR);
    };
    let names = match &open.names {
        Some(names) if start != 0 => names.clone(),
        _ => {
            if id == system.tree.descriptors {
                system.refresh_descriptors();
            }
            let entries = system.tree.entries(id).ok_or(Errno::ENOTDIR)?;
            let names: Arc<[Arc<[u8]>]> = entries.keys().cloned().collect();
            system.open_file_mut(fd)?.names = Some(names.clone());
            names
        }
    };
    let own: [(&[u8], _); 2] = [(b".", id), (b"..", system.tree.parent(id))];
    let mut bytes = Vec::new();
    let mut told = start;
    for position in start as usize..names.len() + own.len() {
        let found = match position.checked_sub(own.len()) {
            None => Some(own[position]),
            Some(at) => system.tree.entry(id, &names[at]).map(|id| (&*names[at], id)),
        };
        // What was removed since the first were told is told no more.
        let Some((name, id)) = found else {
            told += 1;
            continue;
        };
        let number = u64::from(id.0) + 1;
        let entry = lay_out(number, told + 1, entry_type(system.tree.get(id).mode()), name);
        if bytes.len() + entry.len() > count as u32 as usize {
            if bytes.is_empty() {
                return Err(Errno::EINVAL);
            }
            break;
        }
        bytes.extend(entry);
        told += 1;
    }
    put(system, buffer, &bytes)?;
    system.open_file_mut(fd)?.offset = told;
    Ok(bytes.len() as u64)
}

// Requests that every file understands. Source: ioctl(2), <asm-generic/ioctls.h>.
const FIONREAD: u64 = 0x541b;
const FIONBIO: u64 = 0x5421;
const FIONCLEX: u64 = 0x5450;
const FIOCLEX: u64 = 0x5451;

/// `ioctl(2)`
pub(crate) fn ioctl(
    call: &mut Call,
    Fd(fd): Fd,
    request: u64,
    Address(argument): Address,
) -> Result<u64, Errno> {
    let system = &mut *call.system;
    let open = system.open_file(fd)?;
    if open.flags.contains(OpenFlags::PATH) {
        return Err(Errno::EBADF);
    }
    match request & 0xffff_ffff {
        FIOCLEX | FIONCLEX => {
            system.set_close_on_exec(fd, request & 0xffff_ffff == FIOCLEX);
            Ok(0)
        }
        FIONBIO => {
            let mut word = [0; 4];
            let memory = system.machine.memory_mut();
            memory.read_bytes(argument, &mut word).map_err(|_| Errno::EFAULT)?;
            system.open_file_mut(fd)?.flags.set(OpenFlags::NONBLOCK, word != [0; 4]);
            Ok(0)
        }
        FIONREAD => {
            let left = match &open.what {
                What::Inode(id) => match &system.tree.get(*id).kind {
                    Kind::File(content) => content.len() as i64 - open.offset as i64,
                    _ => return Err(Errno::ENOTTY),
                },
                What::Pipe(id) => system.pipes.get(*id).map_or(0, |pipe| pipe.bytes.len() as i64),
                What::Socket(id) => {
                    let socket = system.socket(*id)?;
                    if matches!(socket.state, State::Listening { .. }) {
                        return Err(Errno::EINVAL);
                    }
                    match socket.kind {
                        SocketKind::Stream => socket.queued as i64,
                        _ => socket.first().map_or(0, |first| first.bytes.len() as i64),
                    }
                }
                _ => return Err(Errno::ENOTTY),
            };
            put(system, argument, &(left as u32).to_le_bytes())?;
            Ok(0)
        }
        _ => Err(Errno::ENOTTY),
    }
}

/// `fsync(2)` and `fdatasync(2)`: nothing is behind memory.
pub(crate) fn fsync(call: &mut Call, Fd(fd): Fd) -> Result<u64, Errno> {
    let open = call.system.open_file(fd)?;
    match &open.what {
        _ if open.flags.contains(OpenFlags::PATH) => Err(Errno::EBADF),
        What::Inode(id) => match call.system.tree.get(*id).kind {
            Kind::Device(_) => Err(Errno::EINVAL),
            _ => Ok(0),
        },
        _ => Err(Errno::EINVAL),
    }
}

/// `sync(2)`
pub(crate) fn sync(_: &mut Call) -> Result<u64, Errno> {
    Ok(0)
}

/// `flock(2)`: there is one process, which gets every lock.
pub(crate) fn flock(call: &mut Call, Fd(fd): Fd, operation: u64) -> Result<u64, Errno> {
    const LOCK_NB: u64 = 4;
    let open = call.system.open_file(fd)?;
    if open.flags.contains(OpenFlags::PATH) {
        return Err(Errno::EBADF);
    }
    match operation & !LOCK_NB {
        1 | 2 | 8 => Ok(0),
        _ => Err(Errno::EINVAL),
    }
}

/// `fallocate(2)`
pub(crate) fn fallocate(
    call: &mut Call,
    Fd(fd): Fd,
    mode: u64,
    first: u64,
    second: u64,
    third: u64,
    fourth: u64,
) -> Result<u64, Errno> {
    const KEEP_SIZE: u64 = 1;
    let (offset, length) = (call.long(first, second), call.long(third, fourth));
    let system = &mut *call.system;
    let open = system.open_file(fd)?;
    let (offset, length) = (offset as i64, length as i64);
    if offset < 0 || length <= 0 {
        return Err(Errno::EINVAL);
    }
    if mode & !KEEP_SIZE != 0 {
        return Err(Errno::EOPNOTSUPP);
    }
    if !open.flags.contains(OpenFlags::WRITE) {
        return Err(Errno::EBADF);
    }
    let What::Inode(id) = open.what else { return Err(Errno::ESPIPE) };
    let end = offset.checked_add(length).ok_or(Errno::EFBIG)? as u64;
    match system.tree.get(id).kind {
        Kind::File(_) if end > system.tree.room() => Err(Errno::ENOSPC),
        Kind::File(_) => {
            system.change_file(id, |content| {
                content.allocate(offset as u64, end);
                if mode & KEEP_SIZE == 0 && end > content.len() {
                    content.set_length(end);
                }
            });
            Ok(0)
        }
        Kind::Directory(_) => Err(Errno::EISDIR),
        _ => Err(Errno::ENODEV),
    }
}
