//! System calls that change what memory is there.
//!
//! Memory that no file is behind; pages are 4096 bytes. Sources: brk(2), mmap(2), mprotect(2), mremap(2).

use sotto_machine::{PAGE_BYTES, Permissions, RegionKind};

use crate::Errno;
use crate::arguments::{Address, Fd};
use crate::calls::call::{Call, Outcome, notice};
use crate::files::inode::{Device, Kind};
use crate::files::open::{OpenFlags, What};
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
    let ((start, now), limit) = (system.process.heap, system.process.memory_limit);
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
        system.process.heap.1 = end;
    }
    system.process.heap.1
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
    let mut bytes = Vec::new();
    if flags & MAP_ANONYMOUS == 0 {
        match file_bytes(system, fd, offset, length) {
            Ok(found) => bytes = found,
            Err(errno) => return (errno.into(), None),
        }
        if flags & MAP_TYPE == MAP_SHARED && protection & PROT_WRITE != 0 {
            let message = "`mmap` of a file to be written through memory, which is not modelled";
            let help = "write it with `pwrite64`, or map it with MAP_PRIVATE";
            return (Errno::ENODEV.into(), notice(message.to_string(), help));
        }
    }
    match place(system, address, length, protection, flags) {
        Ok(address) if !bytes.is_empty() => {
            system.load_mapped(address, &bytes);
            (Outcome::Returned(address as i64), None)
        }
        Ok(address) => (Outcome::Returned(address as i64), None),
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

/// The bytes of an open file that are to be mapped.
fn file_bytes(system: &System, fd: u32, offset: u64, length: u64) -> Result<Vec<u8>, Errno> {
    if !offset.is_multiple_of(PAGE_BYTES) || length == 0 {
        return Err(Errno::EINVAL);
    }
    let open = system.open_file(fd)?;
    if !open.flags.contains(OpenFlags::READ) {
        return Err(Errno::EACCES);
    }
    let What::Inode(id) = open.what else { return Err(Errno::ENODEV) };
    match &system.tree.get(id).kind {
        Kind::File(content) => {
            let count = content.len().saturating_sub(offset).min(length);
            let mut bytes = vec![0; count as usize];
            content.read(offset, &mut bytes);
            Ok(bytes)
        }
        Kind::Device(Device::Zero) => Ok(Vec::new()),
        _ => Err(Errno::ENODEV),
    }
}

/// What to say about a call that asked for so many bytes more and was refused, if the limit of memory is why: the
/// kernel might have given them.
fn over_limit(system: &System, call: &str, more: u64) -> Option<Notice> {
    let limit = system.process.memory_limit;
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
    let limit = system.process.memory_limit;
    let memory = system.machine.memory_mut();
    if bytes.saturating_add(memory.mapped_bytes()) > limit {
        return Err(Errno::ENOMEM);
    }
    let permissions = permissions(protection);
    if let Some((start, end)) = range {
        if flags & MAP_FIXED_NOREPLACE == 0 {
            memory.unmap(start, end);
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
    system.machine.memory_mut().unmap(start, end);
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
    let changed = system.machine.memory_mut().protect(start, end, permissions(protection));
    changed.map(|()| 0).map_err(|_| Errno::ENOMEM)
}

/// Resizes a mapping, in place or elsewhere.
pub(crate) fn remap(
    call: &mut Call,
    Address(address): Address,
    old_length: u64,
    length: u64,
    flags: u64,
) -> Result<u64, Errno> {
    let system = &mut *call.system;
    let (start, old_end) = pages(system, address, old_length)?;
    let top = target(system.arch()).mapping_top;
    let (_, end) = pages(system, address, length)?;
    if length == 0 {
        return Err(Errno::EINVAL);
    }
    let limit = system.process.memory_limit;
    let memory = system.machine.memory_mut();
    let region = memory.region_at(start).ok_or(Errno::EFAULT)?;
    let permissions = region.permissions;
    if end <= old_end {
        memory.unmap(end, old_end);
        return Ok(start);
    }
    if (end - old_end).saturating_add(memory.mapped_bytes()) > limit {
        return Err(Errno::ENOMEM);
    }
    if memory.map(RegionKind::Mapping, old_end, end - old_end, permissions).is_ok() {
        return Ok(start);
    }
    if flags & MREMAP_MAYMOVE == 0 {
        return Err(Errno::ENOMEM);
    }
    let to = memory.gap_below(top, MAP_FLOOR, end - start).ok_or(Errno::ENOMEM)?;
    memory.map(RegionKind::Mapping, to, end - start, permissions).map_err(|_| Errno::ENOMEM)?;
    memory.move_pages(start, old_end, to);
    memory.unmap(start, old_end);
    Ok(to)
}

/// `madvise(2)`
pub(crate) fn madvise(_: &mut Call, _: Address, _: u64, _: u64) -> Result<u64, Errno> {
    Ok(0)
}
