//! System calls that change what memory is there.
//!
//! Pages are 4096 bytes. Sources: brk(2), mmap(2), mprotect(2), mremap(2).

use std::sync::Arc;

use sotto_machine::{Memory, PAGE_BYTES, Permissions, RegionKind};

use crate::Errno;
use crate::abi::SyscallAbi;
use crate::arguments::{Address, Fd};
use crate::calls::call::{Call, Outcome, notice, put, read_path};
use crate::calls::identity::USER;
use crate::files::content::Content;
use crate::files::inode::{Device, Inode, InodeId, Kind};
use crate::files::open::{OpenFile, OpenFlags, What};
use crate::mapped_files::MappedFile;
use crate::report::Notice;
use crate::system::System;
use crate::target::target;

/// Mappings are not made below this.
const MAP_FLOOR: u64 = 0x1_0000;

/// Flags and protections. Source: mmap(2), <sys/mman.h>.
const PROT_READ: u64 = 1;
const PROT_WRITE: u64 = 2;
const PROT_EXEC: u64 = 4;
const MAP_TYPE: u64 = 0xf;
const MAP_SHARED: u64 = 1;
const MAP_PRIVATE: u64 = 2;
const MAP_FIXED: u64 = 0x10;
const MAP_ANONYMOUS: u64 = 0x20;
const MAP_FIXED_NOREPLACE: u64 = 0x10_0000;
const MREMAP_MAYMOVE: u64 = 1;
const MREMAP_FIXED: u64 = 2;

fn permissions(protection: u64) -> Permissions {
    Permissions {
        // A processor cannot write or execute what it may not read.
        read: protection & (PROT_READ | PROT_WRITE | PROT_EXEC) != 0,
        write: protection & PROT_WRITE != 0,
        execute: protection & PROT_EXEC != 0,
    }
}

/// The pages of a range: first address, and address after the last byte.
fn pages(system: &System, address: u64, length: u64) -> Result<(u64, u64), Errno> {
    let bits = target(system.arch()).address_bits;
    let end = address.checked_add(length).and_then(|end| end.checked_next_multiple_of(PAGE_BYTES));
    match end {
        Some(end) if address.is_multiple_of(PAGE_BYTES) && end < 1 << bits => Ok((address, end)),
        _ => Err(Errno::EINVAL),
    }
}

/// Moves the end of the heap if it can, and returns where it is.
fn move_end(system: &mut System, end: u64) -> u64 {
    let ((start, now), limit) = (system.space.heap, system.space.memory_limit);
    let memory = system.machine.memory_mut();
    let too_much = end.saturating_sub(now).saturating_add(memory.mapped_bytes()) > limit;
    if end < start || too_much {
        return now;
    }
    let readable = Permissions { read: true, write: true, execute: false };
    let done = match (now == start, end == start) {
        (true, true) => true,
        (true, false) => memory.map(RegionKind::Heap, start, end - start, readable).is_ok(),
        (false, true) => {
            memory.unmap(start, now.next_multiple_of(PAGE_BYTES));
            true
        }
        (false, false) => memory.resize(start, end).is_ok(),
    };
    if done {
        system.space.heap.1 = end;
    }
    system.space.heap.1
}

/// `brk(2)`
pub(crate) fn brk(call: &mut Call, Address(end): Address) -> (Outcome, Option<Notice>) {
    let now = move_end(call.system, end);
    let notice = over_limit(call.system, "brk", end.saturating_sub(now));
    (Outcome::Returned(now as i64), notice)
}

/// Maps memory.
pub(crate) fn map(
    call: &mut Call,
    Address(address): Address,
    length: u64,
    protection: u64,
    flags: u64,
    Fd(fd): Fd,
    offset: u64,
) -> (Outcome, Option<Notice>) {
    let system = &mut *call.system;
    if flags & MAP_ANONYMOUS == 0 && !system.is_open(fd) {
        let notice = Notice {
            message: format!("`mmap` of the file {}, which is not open", fd as i32),
            help: Some("for memory of your own, add MAP_ANONYMOUS (0x20) to the flags".into()),
        };
        return (Errno::EBADF.into(), Some(notice));
    }
    if length != 0 && !matches!(flags & MAP_TYPE, MAP_SHARED | MAP_PRIVATE) {
        let notice = Notice {
            message: "`mmap` with neither MAP_SHARED nor MAP_PRIVATE in its flags".to_string(),
            help: Some(
                "for memory of your own, the flags are MAP_PRIVATE + MAP_ANONYMOUS (0x22)".into(),
            ),
        };
        return (Errno::EINVAL.into(), Some(notice));
    }
    let is_shared = flags & MAP_TYPE != MAP_PRIVATE;
    if flags & MAP_FIXED != 0 {
        system.flush_all_shared();
    }
    let mut file = None;
    if flags & MAP_ANONYMOUS == 0 {
        let is_written = is_shared && protection & PROT_WRITE != 0;
        match file_bytes(system, fd, offset, length, is_written) {
            Ok(found) => file = found,
            Err(errno) => return (errno.into(), None),
        }
    }
    match place(system, address, length, protection, flags) {
        Ok(address) => {
            let end = (address + length).next_multiple_of(PAGE_BYTES);
            if is_shared && flags & MAP_ANONYMOUS != 0 {
                system.share_anonymous(address, end);
            }
            if let Some(FileBytes { path, inode, may_write, bytes }) = file {
                system.load_mapped(address, &bytes);
                let start = address;
                let is_anonymous = false;
                let file = MappedFile {
                    start,
                    end,
                    offset,
                    path,
                    inode,
                    is_shared,
                    may_write,
                    is_anonymous,
                };
                system.space.mapped.add(file);
            }
            (Outcome::Returned(address as i64), None)
        }
        Err(errno) => (errno.into(), over_limit(system, "mmap", length)),
    }
}

/// Maps memory; the offset counts pages of 4096 bytes.
pub(crate) fn map_pages(
    call: &mut Call,
    address: Address,
    length: u64,
    protection: u64,
    flags: u64,
    fd: Fd,
    offset: u64,
) -> (Outcome, Option<Notice>) {
    map(call, address, length, protection, flags, fd, offset.wrapping_mul(4096))
}

/// A part of a file that is to be mapped.
struct FileBytes {
    path: Arc<str>,
    inode: InodeId,
    may_write: bool,
    bytes: Vec<u8>,
}

/// The bytes of an open file that are to be mapped; none of a device that gives zeros.
fn file_bytes(
    system: &mut System,
    fd: u32,
    offset: u64,
    length: u64,
    is_written: bool,
) -> Result<Option<FileBytes>, Errno> {
    if !offset.is_multiple_of(PAGE_BYTES) || length == 0 {
        return Err(Errno::EINVAL);
    }
    let open = system.open_file(fd)?;
    if !open.flags.contains(OpenFlags::READ) || is_written && !open.flags.contains(OpenFlags::WRITE)
    {
        return Err(Errno::EACCES);
    }
    let What::Inode(id) = open.what else { return Err(Errno::ENODEV) };
    let (path, may_write) = (open.name.clone(), open.flags.contains(OpenFlags::WRITE));
    system.flush_shared(id);
    match &system.tree.get(id).kind {
        Kind::File(content) => {
            let count = content.len().saturating_sub(offset).min(length);
            let mut bytes = vec![0; count as usize];
            content.read(offset, &mut bytes);
            Ok(Some(FileBytes { path, inode: id, may_write, bytes }))
        }
        Kind::Device(Device::Zero) => Ok(None),
        _ => Err(Errno::ENODEV),
    }
}

/// What to say about a call that asked for so many bytes more and was refused, if the limit of memory is why: the
/// kernel might have given them.
fn over_limit(system: &System, call: &str, more: u64) -> Option<Notice> {
    let limit = system.space.memory_limit;
    if more.saturating_add(system.machine.memory().mapped_bytes()) <= limit {
        return None;
    }
    let message = format!("`{call}` asks for more memory than the program may have");
    notice(message, "ask for less, or start the program with a higher memory limit")
}

fn place(
    system: &mut System,
    address: u64,
    length: u64,
    protection: u64,
    flags: u64,
) -> Result<u64, Errno> {
    if length == 0 {
        return Err(Errno::EINVAL);
    }
    let bytes = length.checked_next_multiple_of(PAGE_BYTES).ok_or(Errno::ENOMEM)?;
    let top = target(system.arch()).mapping_top;
    let fixed = flags & (MAP_FIXED | MAP_FIXED_NOREPLACE) != 0;
    let range = if fixed { Some(pages(system, address, length)?) } else { None };
    let limit = system.space.memory_limit;
    let memory = system.machine.memory_mut();
    if bytes.saturating_add(memory.mapped_bytes()) > limit {
        return Err(Errno::ENOMEM);
    }
    let permissions = permissions(protection);
    if let Some((start, end)) = range {
        if flags & MAP_FIXED_NOREPLACE == 0 {
            memory.unmap(start, end);
            system.space.mapped.remove(start, end);
        }
        return match memory.map(RegionKind::Mapping, start, end - start, permissions) {
            Ok(()) => Ok(start),
            Err(_) => Err(Errno::EEXIST),
        };
    }
    // A place that is asked for is a wish.
    let wish = address & !(PAGE_BYTES - 1);
    if wish >= MAP_FLOOR && memory.map(RegionKind::Mapping, wish, bytes, permissions).is_ok() {
        return Ok(wish);
    }
    let start = memory.gap_below(top, MAP_FLOOR, bytes).ok_or(Errno::ENOMEM)?;
    memory.map(RegionKind::Mapping, start, bytes, permissions).map_err(|_| Errno::ENOMEM)?;
    Ok(start)
}

/// Takes pages away.
pub(crate) fn unmap(call: &mut Call, Address(address): Address, length: u64) -> Result<u64, Errno> {
    let system = &mut *call.system;
    let (start, end) = pages(system, address, length)?;
    if start == end {
        return Err(Errno::EINVAL);
    }
    system.take_away(start, end);
    Ok(0)
}

/// Changes what pages may be used for.
pub(crate) fn protect(
    call: &mut Call,
    Address(address): Address,
    length: u64,
    protection: u64,
) -> Result<u64, Errno> {
    let system = &mut *call.system;
    let (start, end) = pages(system, address, length)?;
    // What is before a gap, or before a file that may not be written, is changed.
    let mut at = start;
    while at < end {
        let region = system.machine.memory().region_at(at).ok_or(Errno::ENOMEM)?;
        let mut next = region.end.next_multiple_of(PAGE_BYTES).min(end);
        let mut files = system.space.mapped.0.iter();
        if let Some(file) = files.find(|file| file.start < next && at < file.end) {
            let is_refused = file.is_shared && !file.may_write && protection & PROT_WRITE != 0;
            match file.start <= at {
                true if is_refused => return Err(Errno::EACCES),
                true => next = next.min(file.end),
                false => next = file.start,
            }
        }
        let changed = system.machine.memory_mut().protect(at, next, permissions(protection));
        changed.map_err(|_| Errno::ENOMEM)?;
        at = next;
    }
    Ok(0)
}

/// Which arguments of mremap count: the new address with MREMAP_FIXED alone.
pub(crate) fn remap_counts(_: SyscallAbi, values: &[u64; 6]) -> u8 {
    if values[3] & MREMAP_FIXED != 0 { 0b1_1111 } else { 0b1111 }
}

/// `mremap(2)`: resizes a mapping, in place or elsewhere.
pub(crate) fn remap(
    call: &mut Call,
    Address(address): Address,
    old_length: u64,
    length: u64,
    flags: u64,
    Address(wanted): Address,
) -> Result<u64, Errno> {
    let system = &mut *call.system;
    let (moves, is_fixed) = (flags & MREMAP_MAYMOVE != 0, flags & MREMAP_FIXED != 0);
    if flags & !(MREMAP_MAYMOVE | MREMAP_FIXED) != 0 || is_fixed && !moves || length == 0 {
        return Err(Errno::EINVAL);
    }
    let (start, mut old_end) = pages(system, address, old_length)?;
    let (_, end) = pages(system, address, length)?;
    let top = target(system.arch()).mapping_top;
    let limit = system.space.memory_limit;
    if is_fixed {
        let (to, to_end) = pages(system, wanted, length)?;
        if start < to_end && to < old_end {
            return Err(Errno::EINVAL);
        }
        system.machine.memory().region_at(start).ok_or(Errno::EFAULT)?;
        system.take_away(to, to_end);
    }
    system.flush_all_shared();
    let first = system.machine.memory().region_at(start).ok_or(Errno::EFAULT)?;
    let permissions = first.permissions;
    if end <= old_end {
        system.take_away(end, old_end);
        old_end = end;
        if !is_fixed {
            return Ok(start);
        }
    }
    // What is moved or grows is one mapping.
    mapped_range(system, start, old_end - start).map_err(|_| Errno::EFAULT)?;
    let memory = system.machine.memory_mut();
    if (end - old_end).saturating_add(memory.mapped_bytes()) > limit {
        return Err(Errno::ENOMEM);
    }
    let grows = |memory: &mut Memory| {
        memory.map(RegionKind::Mapping, old_end, end - old_end, permissions).is_ok()
    };
    if !is_fixed && grows(memory) {
        system.space.mapped.relocate(start, old_end, start, end - start);
        system.load_grown(old_end, end);
        return Ok(start);
    }
    if !moves {
        return Err(Errno::ENOMEM);
    }
    let to = match is_fixed {
        true => wanted,
        false => memory.gap_below(top, MAP_FLOOR, end - start).ok_or(Errno::ENOMEM)?,
    };
    memory.map(RegionKind::Mapping, to, end - start, permissions).map_err(|_| Errno::ENOMEM)?;
    memory.move_pages(start, old_end, to);
    memory.unmap(start, old_end);
    system.space.mapped.relocate(start, old_end, to, end - start);
    system.load_grown(to + (old_end - start), to + (end - start));
    Ok(to)
}

impl System {
    /// Takes pages away, with what files are behind them.
    fn take_away(&mut self, start: u64, end: u64) {
        if start < end {
            self.flush_all_shared();
            let anonymous = self.space.mapped.anonymous_inodes();
            self.space.mapped.remove(start, end);
            self.machine.memory_mut().unmap(start, end);
            anonymous.into_iter().for_each(|id| self.drop_unused(id));
        }
    }

    /// Notes that memory without a file is shared with processes that are made: behind it is a file without a name.
    fn share_anonymous(&mut self, start: u64, end: u64) {
        let time = self.wall_time();
        let mut content = Content::default();
        content.set_length(end - start);
        let inode = Inode::new(Kind::File(content), 0o600, USER as u32, time);
        let Some(inode) = self.tree.add_unnamed(inode) else { return };
        self.space.mapped.add(MappedFile {
            start,
            end,
            offset: 0,
            path: "/dev/zero (deleted)".into(),
            inode,
            is_shared: true,
            may_write: true,
            is_anonymous: true,
        });
    }
}

/// Checks that a range begins at a page and is mapped as a whole: the address after it.
fn mapped_range(system: &System, address: u64, length: u64) -> Result<u64, Errno> {
    if !address.is_multiple_of(PAGE_BYTES) {
        return Err(Errno::EINVAL);
    }
    let (_, end) = pages(system, address, length).map_err(|_| Errno::ENOMEM)?;
    let mut at = address;
    while at < end {
        let region = system.machine.memory().region_at(at).ok_or(Errno::ENOMEM)?;
        at = region.end.next_multiple_of(PAGE_BYTES);
    }
    Ok(end)
}

/// Advice that is honoured: what is not needed is gone. Source: madvise(2).
const MADV_DONTNEED: u64 = 4;

/// `madvise(2)`
pub(crate) fn madvise(
    call: &mut Call,
    Address(address): Address,
    length: u64,
    advice: u64,
) -> Result<u64, Errno> {
    let system = &mut *call.system;
    let advice = advice & 0xffff_ffff;
    if !matches!(advice, 0..=4 | 8 | 9..=21) || !address.is_multiple_of(PAGE_BYTES) {
        return Err(Errno::EINVAL);
    }
    let end = mapped_range(system, address, length)?;
    if advice == MADV_DONTNEED {
        system.flush_all_shared();
        system.machine.memory_mut().clear(address, end);
        system.load_grown(address, end);
    }
    Ok(0)
}

/// `msync(2)`
pub(crate) fn msync(
    call: &mut Call,
    Address(address): Address,
    length: u64,
    flags: u64,
) -> Result<u64, Errno> {
    const MS_ASYNC: u64 = 1;
    const MS_SYNC: u64 = 4;
    let flags = flags & 0xffff_ffff;
    if flags & !7 != 0 || flags & MS_ASYNC != 0 && flags & MS_SYNC != 0 {
        return Err(Errno::EINVAL);
    }
    mapped_range(call.system, address, length)?;
    call.system.flush_all_shared();
    Ok(0)
}

/// `mlock(2)` and `munlock(2)`, which take all pages that hold a part of the range: nothing is moved out of memory.
pub(crate) fn lock(call: &mut Call, Address(address): Address, length: u64) -> Result<u64, Errno> {
    let start = address & !(PAGE_BYTES - 1);
    let length = length.checked_add(address - start).ok_or(Errno::EINVAL)?;
    if length == 0 {
        return Ok(0);
    }
    mapped_range(call.system, start, length).map(|_| 0)
}

/// `mlock2(2)`
pub(crate) fn lock_with(
    call: &mut Call,
    address: Address,
    length: u64,
    flags: u64,
) -> Result<u64, Errno> {
    if flags as u32 & !1 != 0 { Err(Errno::EINVAL) } else { lock(call, address, length) }
}

/// `mlockall(2)`
pub(crate) fn lock_all(_: &mut Call, flags: u64) -> Result<u64, Errno> {
    match flags as u32 {
        // What is to come, and what is there; "on fault" alone says neither.
        1..=3 | 5..=7 => Ok(0),
        _ => Err(Errno::EINVAL),
    }
}

/// `munlockall(2)`
pub(crate) fn unlock_all(_: &mut Call) -> Result<u64, Errno> {
    Ok(0)
}

/// `mincore(2)`: all pages are in memory.
pub(crate) fn mincore(
    call: &mut Call,
    Address(address): Address,
    length: u64,
    Address(to): Address,
) -> Result<u64, Errno> {
    let end = mapped_range(call.system, address, length)?;
    put(call.system, to, &vec![1; ((end - address) / PAGE_BYTES) as usize]).map(|()| 0)
}

/// `memfd_create(2)`
pub(crate) fn memfd_create(
    call: &mut Call,
    Address(name): Address,
    flags: u64,
) -> Result<u64, Errno> {
    const CLOEXEC: u64 = 1;
    const ALLOW_SEALING: u64 = 2;
    const MAX_NAME_BYTES: usize = 249;
    let flags = flags & 0xffff_ffff;
    if flags & !(CLOEXEC | ALLOW_SEALING) != 0 {
        return Err(Errno::EINVAL);
    }
    let name = read_path(call.system, name).map_err(|errno| match errno {
        Errno::ENAMETOOLONG => Errno::EINVAL,
        errno => errno,
    })?;
    if name.len() > MAX_NAME_BYTES {
        return Err(Errno::EINVAL);
    }
    let system = &mut *call.system;
    let time = system.wall_time();
    let inode = Inode::new(Kind::File(Content::default()), 0o777, USER as u32, time);
    let id = system.tree.add_unnamed(inode).ok_or(Errno::ENOSPC)?;
    let path = [b"/memfd:", &name[..], b" (deleted)"].concat();
    let open = OpenFlags::READ | OpenFlags::WRITE;
    let file = OpenFile::new(What::Inode(id), open, 2, &path);
    system.open(file, flags & CLOEXEC != 0).map(u64::from)
}
