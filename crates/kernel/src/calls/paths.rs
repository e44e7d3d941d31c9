//! Calls that name files: opening, making and taking away names, permissions and times.
//!
//! Sources: open(2), mkdir(2), unlink(2), rmdir(2), link(2), symlink(2), rename(2), access(2), chmod(2), chown(2),
//! truncate(2), utimensat(2), readlink(2), chdir(2), path_resolution(7); Linux, `fs/namei.c` for the order of the checks.

use crate::Errno;
use crate::abi::SyscallAbi;
use crate::arguments::{Address, Fd};
use crate::calls::call::{Call, Outcome, put, read_path};
use crate::calls::identity::USER;
use crate::calls::pipes::open_fifo;
use crate::files::inode::{
    Device, Directory, Inode, InodeId, Kind, S_IFIFO, S_IFREG, S_IFSOCK, S_ISVTX, Want,
};
use crate::files::open::{OpenFile, OpenFlags, What};
use crate::files::tree::ROOT;
use crate::files::walk::{Found, Last, LastLink, walk};
use crate::system::System;
use crate::target::{OpenBits, target};

/// The directory of the process, in place of a descriptor. Source: openat(2).
pub(crate) const AT_FDCWD: u32 = -100i32 as u32;
pub(crate) const AT_SYMLINK_NOFOLLOW: u64 = 0x100;
const AT_REMOVEDIR: u64 = 0x200;
const AT_SYMLINK_FOLLOW: u64 = 0x400;
pub(crate) const AT_EMPTY_PATH: u64 = 0x1000;

/// The directory from which relative paths of a call start.
fn start_of(system: &System, fd: u32) -> Result<InodeId, Errno> {
    if fd == AT_FDCWD {
        return Ok(system.process.directory);
    }
    match system.open_file(fd)?.what {
        What::Inode(id) if system.tree.get(id).is_directory() => Ok(id),
        _ => Err(Errno::ENOTDIR),
    }
}

/// Follows a path that a program names.
pub(crate) fn find(
    system: &mut System,
    Fd(fd): Fd,
    Address(path): Address,
    last_link: LastLink,
) -> Result<Found, Errno> {
    let path = read_path(system, path)?;
    find_path(system, fd, &path, last_link)
}

pub(crate) fn find_path(
    system: &mut System,
    fd: u32,
    path: &[u8],
    last_link: LastLink,
) -> Result<Found, Errno> {
    if path.is_empty() {
        return Err(Errno::ENOENT);
    }
    let start = if path[0] == b'/' { ROOT } else { start_of(system, fd)? };
    if path.windows(3).any(|part| part == b"/fd") || start == system.tree.descriptors {
        system.refresh_descriptors();
    }
    walk(&mut system.tree, start, path, last_link)
}

const HERE: Fd = Fd(AT_FDCWD);

/// A name that is to be made in a directory. The parts `.` and `..` are there already.
fn new_name(found: &Found) -> Result<&[u8], Errno> {
    match &found.last {
        _ if found.inode.is_some() => Err(Errno::EEXIST),
        Last::Name(name) => Ok(name),
        Last::Dot | Last::DotDot => Err(Errno::EEXIST),
    }
}

impl System {
    /// The time of day, in nanoseconds since 1970.
    pub(crate) fn wall_time(&mut self) -> u64 {
        self.start_time.saturating_add(self.machine.time())
    }

    /// Whether names may be made in a directory.
    fn check_making(&self, directory: InodeId) -> Result<(), Errno> {
        let inode = self.tree.get(directory);
        // What was taken away takes no new names.
        if inode.links < 2 {
            return Err(Errno::ENOENT);
        }
        inode.check(Want::Write)
    }

    /// Whether a name may be taken away from a directory. Source: Linux, `may_delete`.
    fn check_taking(&self, directory: InodeId, id: InodeId) -> Result<(), Errno> {
        let inode = self.tree.get(directory);
        inode.check(Want::Write)?;
        let others = inode.permissions & S_ISVTX != 0;
        if others && !inode.is_own() && !self.tree.get(id).is_own() {
            return Err(Errno::EPERM);
        }
        Ok(())
    }

    /// Makes an inode under a name.
    pub(crate) fn make(
        &mut self,
        found: &Found,
        kind: Kind,
        permissions: u32,
    ) -> Result<InodeId, Errno> {
        let name = new_name(found)?;
        self.check_making(found.directory)?;
        let time = self.wall_time();
        let inode = Inode::new(kind, permissions, USER as u32, time);
        self.tree.add(found.directory, name, inode).ok_or(Errno::ENOSPC)
    }
}

/// Whether flags of open ask for permissions: those of a file that is made.
fn asks_for_mode(abi: SyscallAbi, flags: u64) -> bool {
    let bits = &target(abi.arch()).open_bits;
    let temporary = bits.temporary | bits.directory;
    flags & bits.create != 0 || flags & temporary == temporary
}

/// Which arguments of open count.
pub(crate) fn open_counts(abi: SyscallAbi, values: &[u64; 6]) -> u8 {
    if asks_for_mode(abi, values[1]) { 0b111 } else { 0b11 }
}

/// Which arguments of openat count.
pub(crate) fn openat_counts(abi: SyscallAbi, values: &[u64; 6]) -> u8 {
    if asks_for_mode(abi, values[2]) { 0b1111 } else { 0b111 }
}

/// `open(2)`
pub(crate) fn open(call: &mut Call, path: Address, flags: u64, mode: u64) -> Outcome {
    openat(call, HERE, path, flags, mode)
}

/// `creat(2)`
pub(crate) fn creat(call: &mut Call, path: Address, mode: u64) -> Outcome {
    let bits = OpenBits::COMMON;
    openat(call, HERE, path, bits.write_only | bits.create | bits.truncate, mode)
}

/// `openat(2)`
pub(crate) fn openat(
    call: &mut Call,
    Fd(fd): Fd,
    Address(path): Address,
    flags: u64,
    mode: u64,
) -> Outcome {
    let bits = target(call.abi.arch()).open_bits;
    read_path(call.system, path)
        .and_then(|path| open_path(call, fd, &path, flags, mode, &bits))
        .unwrap_or_else(Outcome::from)
}

fn open_path(
    call: &mut Call,
    fd: u32,
    path: &[u8],
    flags: u64,
    mode: u64,
    bits: &OpenBits,
) -> Result<Outcome, Errno> {
    let system = &mut *call.system;
    let has = |bit: u64| flags & bit != 0;
    let is_path = has(bits.path);
    let (create, truncate) = (has(bits.create) && !is_path, has(bits.truncate) && !is_path);
    if create && has(bits.directory) {
        return Err(Errno::EINVAL);
    }
    if has(bits.temporary) && !is_path {
        return Err(Errno::EOPNOTSUPP);
    }
    let mut access = match flags & 3 {
        _ if is_path => OpenFlags::PATH,
        0 => OpenFlags::READ,
        1 => OpenFlags::WRITE,
        _ => OpenFlags::READ | OpenFlags::WRITE,
    };
    // What is created exclusively is not behind a symbolic link.
    let exclusive = create && has(bits.exclusive);
    let follow = !has(bits.no_follow) && !exclusive;
    let last_link = match create {
        // A name with a slash is no name of a file, whatever is behind it.
        true if !follow || path.ends_with(b"/") => LastLink::Name,
        _ => LastLink::followed_if(follow),
    };
    let found = find_path(system, fd, path, last_link)?;
    if create && found.slash {
        return Err(Errno::EISDIR);
    }
    system.free_descriptor(0)?;
    let (id, is_new) = match found.inode {
        Some(_) if exclusive => return Err(Errno::EEXIST),
        Some(_) => (found.existing(&system.tree)?, false),
        None if create => {
            let permissions = mode as u32 & 0o7777 & !system.process.umask;
            (system.make(&found, Kind::File(Default::default()), permissions)?, true)
        }
        None => return Err(Errno::ENOENT),
    };
    let system = &mut *call.system;
    let inode = system.tree.get(id);
    let proc_file = match &inode.kind {
        Kind::Link(_) if !is_path => return Err(Errno::ELOOP),
        Kind::Directory(_) if create => return Err(Errno::EISDIR),
        Kind::Directory(_) if access.contains(OpenFlags::WRITE) || truncate => {
            return Err(Errno::EISDIR);
        }
        Kind::Directory(_) => None,
        _ if has(bits.directory) => return Err(Errno::ENOTDIR),
        Kind::Proc(file) => Some(*file),
        _ => None,
    };
    if !is_new && !is_path {
        if access.contains(OpenFlags::READ) {
            inode.check(Want::Read)?;
        }
        if access.contains(OpenFlags::WRITE) || truncate {
            inode.check(Want::Write)?;
        }
        if let Kind::File(content) = &inode.kind
            && !truncate
            && !content.is_readable()
        {
            return Err(Errno::EACCES);
        }
    }
    let mut what = What::Inode(id);
    match inode.kind {
        _ if is_path => {}
        Kind::Device(Device::Terminal) | Kind::Socket => return Err(Errno::ENXIO),
        Kind::Fifo => match open_fifo(call, id, access, has(bits.nonblock))? {
            Ok(pipe) => what = What::Pipe(pipe),
            Err(wait) => return Ok(Outcome::Waits(wait)),
        },
        Kind::Device(Device::Stream(number)) => {
            what = if number == 0 { What::Input } else { What::Output(number) };
        }
        _ => {}
    }
    let system = &mut *call.system;
    if let (Some(file), false) = (proc_file, is_path) {
        what = What::Proc(id, system.proc_text(file));
    }
    if truncate && !is_new {
        system.change_file(id, |content| content.set_length(0));
    }
    access.set(OpenFlags::APPEND, has(bits.append));
    access.set(OpenFlags::NONBLOCK, has(bits.nonblock));
    let mut status = flags & 0xffff_ffff & !bits.of_opening();
    if is_path {
        status &= bits.path | bits.directory | bits.no_follow;
    } else if system.arch().address_bytes() == 8 {
        // A program of 64 bits need not ask for large files.
        status |= bits.large_file;
    }
    let mut file = OpenFile::new(what, access, status, path);
    if let Last::Name(name) = found.last {
        file.place = Some((found.directory, name.into()));
    }
    let opened = system.open(file, has(bits.close_on_exec))?;
    Ok(Outcome::Returned(opened.into()))
}

/// `mknod(2)`
pub(crate) fn mknod(call: &mut Call, path: Address, mode: u64, device: u64) -> Result<u64, Errno> {
    mknodat(call, HERE, path, mode, device)
}

/// `mknodat(2)`: pipes, sockets and files. Devices are for administrators.
pub(crate) fn mknodat(
    call: &mut Call,
    fd: Fd,
    path: Address,
    mode: u64,
    _: u64,
) -> Result<u64, Errno> {
    const TYPE: u32 = 0o170_000;
    let kind = match mode as u32 & TYPE {
        0 | S_IFREG => Kind::File(Default::default()),
        S_IFIFO => Kind::Fifo,
        S_IFSOCK => Kind::Socket,
        0o020_000 | 0o060_000 => return Err(Errno::EPERM),
        0o040_000 => return Err(Errno::EPERM),
        _ => return Err(Errno::EINVAL),
    };
    let system = &mut *call.system;
    let found = find(system, fd, path, LastLink::Name)?;
    if found.slash && found.inode.is_none() {
        return Err(Errno::ENOENT);
    }
    let permissions = mode as u32 & 0o7777 & !system.process.umask;
    system.make(&found, kind, permissions)?;
    Ok(0)
}

/// `mkdir(2)`
pub(crate) fn mkdir(call: &mut Call, path: Address, mode: u64) -> Result<u64, Errno> {
    mkdirat(call, HERE, path, mode)
}

/// `mkdirat(2)`
pub(crate) fn mkdirat(call: &mut Call, fd: Fd, path: Address, mode: u64) -> Result<u64, Errno> {
    let system = &mut *call.system;
    let found = find(system, fd, path, LastLink::Name)?;
    let permissions = mode as u32 & 0o1777 & !system.process.umask;
    let kind = Kind::Directory(Directory::empty());
    system.make(&found, kind, permissions)?;
    Ok(0)
}

/// `symlink(2)`
pub(crate) fn symlink(call: &mut Call, to: Address, path: Address) -> Result<u64, Errno> {
    symlinkat(call, to, HERE, path)
}

/// `symlinkat(2)`
pub(crate) fn symlinkat(
    call: &mut Call,
    Address(to): Address,
    fd: Fd,
    path: Address,
) -> Result<u64, Errno> {
    let system = &mut *call.system;
    let to = read_path(system, to)?;
    if to.is_empty() {
        return Err(Errno::ENOENT);
    }
    let found = find(system, fd, path, LastLink::Name)?;
    if found.slash && found.inode.is_none() {
        return Err(Errno::ENOENT);
    }
    system.make(&found, Kind::Link(to.into()), 0o777)?;
    Ok(0)
}

/// `link(2)`
pub(crate) fn link(call: &mut Call, old: Address, new: Address) -> Result<u64, Errno> {
    linkat(call, HERE, old, HERE, new, 0)
}

/// `linkat(2)`
pub(crate) fn linkat(
    call: &mut Call,
    old_fd: Fd,
    old: Address,
    new_fd: Fd,
    new: Address,
    flags: u64,
) -> Result<u64, Errno> {
    let system = &mut *call.system;
    if flags & !(AT_SYMLINK_FOLLOW | AT_EMPTY_PATH) != 0 {
        return Err(Errno::EINVAL);
    }
    let from = find(system, old_fd, old, LastLink::followed_if(flags & AT_SYMLINK_FOLLOW != 0))?;
    let id = from.existing(&system.tree)?;
    let to = find(system, new_fd, new, LastLink::Name)?;
    let name = new_name(&to)?;
    if to.slash {
        return Err(Errno::ENOENT);
    }
    let inode = system.tree.get(id);
    // Who does not own a file links to it only if it is a plain one to read and write. Source: proc(5), protected_hardlinks.
    let plain = matches!(inode.kind, Kind::File(_))
        && inode.check(Want::Read).is_ok()
        && inode.check(Want::Write).is_ok();
    if !inode.is_own() && !plain {
        return Err(Errno::EPERM);
    }
    system.check_making(to.directory)?;
    if system.tree.get(id).is_directory() {
        return Err(Errno::EPERM);
    }
    let time = system.wall_time();
    system.tree.link(to.directory, name, id, time);
    Ok(0)
}

/// `unlink(2)`
pub(crate) fn unlink(call: &mut Call, path: Address) -> Result<u64, Errno> {
    unlinkat(call, HERE, path, 0)
}

/// `rmdir(2)`
pub(crate) fn rmdir(call: &mut Call, path: Address) -> Result<u64, Errno> {
    unlinkat(call, HERE, path, AT_REMOVEDIR)
}

/// `unlinkat(2)`
pub(crate) fn unlinkat(call: &mut Call, fd: Fd, path: Address, flags: u64) -> Result<u64, Errno> {
    let system = &mut *call.system;
    if flags & !AT_REMOVEDIR != 0 {
        return Err(Errno::EINVAL);
    }
    let found = find(system, fd, path, LastLink::Name)?;
    let removes_directory = flags & AT_REMOVEDIR != 0;
    let name = match &found.last {
        Last::Name(name) => name.clone(),
        Last::DotDot if removes_directory => return Err(Errno::ENOTEMPTY),
        Last::Dot if removes_directory && found.directory == ROOT && found.slash => {
            return Err(Errno::EBUSY);
        }
        Last::Dot if removes_directory => return Err(Errno::EINVAL),
        Last::Dot | Last::DotDot => return Err(Errno::EISDIR),
    };
    let id = found.inode.ok_or(Errno::ENOENT)?;
    let is_directory = system.tree.get(id).is_directory();
    if !removes_directory && found.slash {
        return Err(if is_directory { Errno::EISDIR } else { Errno::ENOTDIR });
    }
    system.check_taking(found.directory, id)?;
    match (is_directory, removes_directory) {
        (true, true) if !system.tree.is_empty_directory(id) => return Err(Errno::ENOTEMPTY),
        (true, false) => return Err(Errno::EISDIR),
        (false, true) => return Err(Errno::ENOTDIR),
        _ => {}
    }
    let time = system.wall_time();
    system.tree.unlink(found.directory, &name, time);
    system.drop_unused(id);
    Ok(0)
}

const RENAME_NOREPLACE: u64 = 1;
const RENAME_EXCHANGE: u64 = 2;

/// `rename(2)`
pub(crate) fn rename(call: &mut Call, old: Address, new: Address) -> Result<u64, Errno> {
    renameat2(call, HERE, old, HERE, new, 0)
}

/// `renameat(2)`
pub(crate) fn renameat(
    call: &mut Call,
    old_fd: Fd,
    old: Address,
    new_fd: Fd,
    new: Address,
) -> Result<u64, Errno> {
    renameat2(call, old_fd, old, new_fd, new, 0)
}

/// `renameat2(2)`
pub(crate) fn renameat2(
    call: &mut Call,
    old_fd: Fd,
    old: Address,
    new_fd: Fd,
    new: Address,
    flags: u64,
) -> Result<u64, Errno> {
    let system = &mut *call.system;
    let exchanges = flags & RENAME_EXCHANGE != 0;
    let keeps = flags & RENAME_NOREPLACE != 0;
    if flags & !(RENAME_NOREPLACE | RENAME_EXCHANGE) != 0 || (exchanges && keeps) {
        return Err(Errno::EINVAL);
    }
    let from = find(system, old_fd, old, LastLink::Name)?;
    let to = find(system, new_fd, new, LastLink::Name)?;
    let Last::Name(old_name) = &from.last else { return Err(Errno::EBUSY) };
    let Last::Name(new_name) = &to.last else {
        return Err(if keeps { Errno::EEXIST } else { Errno::EBUSY });
    };
    let id = from.inode.ok_or(Errno::ENOENT)?;
    if keeps && to.inode.is_some() {
        return Err(Errno::EEXIST);
    }
    if exchanges && to.inode.is_none() {
        return Err(Errno::ENOENT);
    }
    let tree = &system.tree;
    let is_directory = tree.get(id).is_directory();
    if !is_directory && from.slash {
        return Err(Errno::ENOTDIR);
    }
    if exchanges {
        let other = to.inode.ok_or(Errno::ENOENT)?;
        if !tree.get(other).is_directory() && to.slash {
            return Err(Errno::ENOTDIR);
        }
    } else if !is_directory && to.slash {
        return Err(Errno::ENOTDIR);
    }
    if is_directory && tree.is_within(to.directory, id) {
        return Err(Errno::EINVAL);
    }
    // What lies around the old name cannot give way to it.
    if let Some(other) = to.inode
        && tree.get(other).is_directory()
        && tree.is_within(from.directory, other)
    {
        return Err(if exchanges { Errno::EINVAL } else { Errno::ENOTEMPTY });
    }
    if to.inode == Some(id) {
        return Ok(0);
    }
    system.check_taking(from.directory, id)?;
    match to.inode {
        Some(other) => {
            system.check_taking(to.directory, other)?;
            let tree = &mut system.tree;
            match (is_directory, tree.get(other).is_directory()) {
                _ if exchanges => {}
                (true, true) if !tree.is_empty_directory(other) => return Err(Errno::ENOTEMPTY),
                (true, false) => return Err(Errno::ENOTDIR),
                (false, true) => return Err(Errno::EISDIR),
                _ => {}
            }
        }
        None => system.check_making(to.directory)?,
    }
    // A directory that moves is told of its new parent.
    let exchanged = to.inode.filter(|_| exchanges);
    for moved in [Some(id), exchanged].into_iter().flatten() {
        let inode = system.tree.get(moved);
        if inode.is_directory() && from.directory != to.directory {
            inode.check(Want::Write)?;
        }
    }
    let time = system.wall_time();
    if let Some(other) = to.inode {
        system.tree.unlink(to.directory, new_name, time);
        if exchanges {
            system.tree.unlink(from.directory, old_name, time);
            system.tree.link(from.directory, old_name, other, time);
            system.tree.link(to.directory, new_name, id, time);
            return Ok(0);
        }
        system.drop_unused(other);
    }
    system.tree.unlink(from.directory, old_name, time);
    system.tree.link(to.directory, new_name, id, time);
    Ok(0)
}

/// `access(2)`
pub(crate) fn access(call: &mut Call, path: Address, mode: u64) -> Result<u64, Errno> {
    faccessat(call, HERE, path, mode)
}

/// `faccessat(2)` as the system call, which takes no flags.
pub(crate) fn faccessat(call: &mut Call, fd: Fd, path: Address, mode: u64) -> Result<u64, Errno> {
    check_access(call.system, fd, path, mode, true)
}

/// `faccessat2(2)`
pub(crate) fn faccessat2(
    call: &mut Call,
    fd: Fd,
    path: Address,
    mode: u64,
    flags: u64,
) -> Result<u64, Errno> {
    const AT_EACCESS: u64 = 0x200;
    if flags & !(AT_EACCESS | AT_SYMLINK_NOFOLLOW | AT_EMPTY_PATH) != 0 {
        return Err(Errno::EINVAL);
    }
    check_access(call.system, fd, path, mode, flags & AT_SYMLINK_NOFOLLOW == 0)
}

fn check_access(
    system: &mut System,
    fd: Fd,
    path: Address,
    mode: u64,
    follow: bool,
) -> Result<u64, Errno> {
    if mode & !7 != 0 {
        return Err(Errno::EINVAL);
    }
    let id = find(system, fd, path, LastLink::followed_if(follow))?.existing(&system.tree)?;
    let inode = system.tree.get(id);
    for want in [Want::Read, Want::Write, Want::Execute] {
        if mode & want as u64 != 0 {
            inode.check(want)?;
        }
    }
    Ok(0)
}

/// `readlink(2)`
pub(crate) fn readlink(
    call: &mut Call,
    path: Address,
    buffer: Address,
    size: u64,
) -> Result<u64, Errno> {
    readlinkat(call, HERE, path, buffer, size)
}

/// `readlinkat(2)`
pub(crate) fn readlinkat(
    call: &mut Call,
    fd: Fd,
    path: Address,
    Address(buffer): Address,
    size: u64,
) -> Result<u64, Errno> {
    let system = &mut *call.system;
    if (size as i32) <= 0 {
        return Err(Errno::EINVAL);
    }
    let id = find(system, fd, path, LastLink::Meant)?.existing(&system.tree)?;
    let Kind::Link(target) = system.tree.get(id).kind.clone() else { return Err(Errno::EINVAL) };
    let count = target.len().min(size as u32 as usize);
    put(system, buffer, &target[..count])?;
    Ok(count as u64)
}

/// `chmod(2)`
pub(crate) fn chmod(call: &mut Call, path: Address, mode: u64) -> Result<u64, Errno> {
    fchmodat(call, HERE, path, mode)
}

/// `fchmodat(2)` as the system call, which takes no flags.
pub(crate) fn fchmodat(call: &mut Call, fd: Fd, path: Address, mode: u64) -> Result<u64, Errno> {
    let id = find(call.system, fd, path, LastLink::Followed)?.existing(&call.system.tree)?;
    set_permissions(call.system, id, mode)
}

/// `fchmod(2)`
pub(crate) fn fchmod(call: &mut Call, fd: Fd, mode: u64) -> Result<u64, Errno> {
    match open_inode(call.system, fd)? {
        Some(id) => set_permissions(call.system, id, mode),
        None => Ok(0),
    }
}

/// The inode behind a descriptor; `None` if that is a stream.
pub(crate) fn open_inode(system: &System, Fd(fd): Fd) -> Result<Option<InodeId>, Errno> {
    let open = system.open_file(fd)?;
    if open.flags.contains(OpenFlags::PATH) {
        return Err(Errno::EBADF);
    }
    Ok(open.what.inode())
}

fn set_permissions(system: &mut System, id: InodeId, mode: u64) -> Result<u64, Errno> {
    let time = system.wall_time();
    if !system.tree.get(id).is_own() {
        return Err(Errno::EPERM);
    }
    let inode = system.tree.get_mut(id);
    (inode.permissions, inode.changed) = (mode as u32 & 0o7777, time);
    Ok(0)
}

/// Numbers of a user and a group as the machine had them first: on 32-bit x86 of 16 bits, of which all ones are -1.
fn first_owner(call: &Call, user: u64, group: u64) -> (u64, u64) {
    let wide = |number: u64| match (call.abi.word_bytes(), number & 0xffff) {
        (8, _) => number,
        (_, 0xffff) => u64::from(u32::MAX),
        (_, low) => low,
    };
    (wide(user), wide(group))
}

/// `chown(2)` as the machine had it first.
pub(crate) fn chown_first(
    call: &mut Call,
    path: Address,
    user: u64,
    group: u64,
) -> Result<u64, Errno> {
    let (user, group) = first_owner(call, user, group);
    chown(call, path, user, group)
}

/// `lchown(2)` as the machine had it first.
pub(crate) fn lchown_first(
    call: &mut Call,
    path: Address,
    user: u64,
    group: u64,
) -> Result<u64, Errno> {
    let (user, group) = first_owner(call, user, group);
    lchown(call, path, user, group)
}

/// `fchown(2)` as the machine had it first.
pub(crate) fn fchown_first(call: &mut Call, fd: Fd, user: u64, group: u64) -> Result<u64, Errno> {
    let (user, group) = first_owner(call, user, group);
    fchown(call, fd, user, group)
}

/// `chown(2)`
pub(crate) fn chown(call: &mut Call, path: Address, user: u64, group: u64) -> Result<u64, Errno> {
    fchownat(call, HERE, path, user, group, 0)
}

/// `lchown(2)`
pub(crate) fn lchown(call: &mut Call, path: Address, user: u64, group: u64) -> Result<u64, Errno> {
    fchownat(call, HERE, path, user, group, AT_SYMLINK_NOFOLLOW)
}

/// `fchown(2)`
pub(crate) fn fchown(call: &mut Call, fd: Fd, user: u64, group: u64) -> Result<u64, Errno> {
    match open_inode(call.system, fd)? {
        Some(id) => set_owner(call.system, id, user, group),
        None => Ok(0),
    }
}

/// `fchownat(2)`
pub(crate) fn fchownat(
    call: &mut Call,
    fd: Fd,
    path: Address,
    user: u64,
    group: u64,
    flags: u64,
) -> Result<u64, Errno> {
    if flags & !(AT_SYMLINK_NOFOLLOW | AT_EMPTY_PATH) != 0 {
        return Err(Errno::EINVAL);
    }
    let follow = flags & AT_SYMLINK_NOFOLLOW == 0;
    let id =
        find(call.system, fd, path, LastLink::followed_if(follow))?.existing(&call.system.tree)?;
    set_owner(call.system, id, user, group)
}

/// The user may give a file to itself and to its own group only, which changes nothing but the time.
fn set_owner(system: &mut System, id: InodeId, user: u64, group: u64) -> Result<u64, Errno> {
    let time = system.wall_time();
    let stays = |wanted: u64| matches!(wanted as u32, u32::MAX) || wanted as u32 == USER as u32;
    let inode = system.tree.get(id);
    let unchanged = user as u32 == u32::MAX && group as u32 == u32::MAX;
    if !(unchanged || inode.is_own() && stays(user) && stays(group)) {
        return Err(Errno::EPERM);
    }
    system.tree.get_mut(id).changed = time;
    Ok(0)
}

/// `umask(2)`
pub(crate) fn umask(call: &mut Call, mask: u64) -> Result<u64, Errno> {
    let old = std::mem::replace(&mut call.system.process.umask, mask as u32 & 0o777);
    Ok(old.into())
}

/// `truncate(2)`
pub(crate) fn truncate(call: &mut Call, path: Address, length: u64) -> Result<u64, Errno> {
    let length = call.signed(length);
    truncate_path(call, path, length)
}

/// `truncate(2)` with a length of two halves
pub(crate) fn truncate64(
    call: &mut Call,
    path: Address,
    low: u64,
    high: u64,
) -> Result<u64, Errno> {
    let length = call.long(low, high) as i64;
    truncate_path(call, path, length)
}

fn truncate_path(call: &mut Call, path: Address, length: i64) -> Result<u64, Errno> {
    let system = &mut *call.system;
    if length < 0 {
        return Err(Errno::EINVAL);
    }
    let id = find(system, HERE, path, LastLink::Followed)?.existing(&system.tree)?;
    let inode = system.tree.get(id);
    match inode.kind {
        Kind::Directory(_) => return Err(Errno::EISDIR),
        Kind::File(_) => inode.check(Want::Write)?,
        _ => return Err(Errno::EINVAL),
    }
    set_length(system, id, length as u64)
}

fn set_length(system: &mut System, id: InodeId, length: u64) -> Result<u64, Errno> {
    system.change_file(id, |content| content.set_length(length));
    Ok(0)
}

/// `ftruncate(2)`
pub(crate) fn ftruncate(call: &mut Call, fd: Fd, length: u64) -> Result<u64, Errno> {
    let length = call.signed(length);
    truncate_open(call, fd, length)
}

/// `ftruncate(2)` with a length of two halves
pub(crate) fn ftruncate64(call: &mut Call, fd: Fd, low: u64, high: u64) -> Result<u64, Errno> {
    let length = call.long(low, high) as i64;
    truncate_open(call, fd, length)
}

fn truncate_open(call: &mut Call, fd: Fd, length: i64) -> Result<u64, Errno> {
    if length < 0 {
        return Err(Errno::EINVAL);
    }
    let writable = call.system.open_file(fd.0)?.flags.contains(OpenFlags::WRITE);
    match open_inode(call.system, fd)? {
        Some(id) if writable && matches!(call.system.tree.get(id).kind, Kind::File(_)) => {
            set_length(call.system, id, length as u64)
        }
        _ => Err(Errno::EINVAL),
    }
}

const UTIME_NOW: i64 = 0x3fff_ffff;
const UTIME_OMIT: i64 = 0x3fff_fffe;

/// `utimensat(2)`
pub(crate) fn utimensat(
    call: &mut Call,
    fd: Fd,
    path: Address,
    times: Address,
    flags: u64,
) -> Result<u64, Errno> {
    let width = call.abi.word_bytes();
    set_times(call, fd, path, times, flags, width)
}

/// `utimensat(2)` with seconds of 64 bits
pub(crate) fn utimensat64(
    call: &mut Call,
    fd: Fd,
    path: Address,
    times: Address,
    flags: u64,
) -> Result<u64, Errno> {
    set_times(call, fd, path, times, flags, 8)
}

fn set_times(
    call: &mut Call,
    fd: Fd,
    path: Address,
    Address(times): Address,
    flags: u64,
    width: usize,
) -> Result<u64, Errno> {
    let system = &mut *call.system;
    let now = system.wall_time();
    let mut chosen = [Some(now); 2];
    if times != 0 {
        for (number, chosen) in chosen.iter_mut().enumerate() {
            let at = times.wrapping_add((2 * width * number) as u64);
            let [seconds, part] = system.read_words(at, width)?;
            *chosen = match part {
                UTIME_NOW => Some(now),
                UTIME_OMIT => None,
                0..=999_999_999 => {
                    Some((seconds as u64).wrapping_mul(1_000_000_000).wrapping_add(part as u64))
                }
                _ => return Err(Errno::EINVAL),
            };
        }
        if chosen == [None, None] {
            return Ok(0);
        }
    }
    if flags & !(AT_SYMLINK_NOFOLLOW | AT_EMPTY_PATH) != 0 {
        return Err(Errno::EINVAL);
    }
    let id = match path {
        Address(0) if fd.0 == AT_FDCWD => return Err(Errno::EFAULT),
        // Without a path the open file is meant.
        Address(0) => match open_inode(system, fd)? {
            Some(id) => id,
            None => return Ok(0),
        },
        path => {
            let follow = flags & AT_SYMLINK_NOFOLLOW == 0;
            find(system, fd, path, LastLink::followed_if(follow))?.existing(&system.tree)?
        }
    };
    let inode = system.tree.get(id);
    if !inode.is_own() {
        match times {
            0 => inode.check(Want::Write)?,
            _ => return Err(Errno::EPERM),
        }
    }
    let inode = system.tree.get_mut(id);
    inode.accessed = chosen[0].unwrap_or(inode.accessed);
    inode.modified = chosen[1].unwrap_or(inode.modified);
    inode.changed = now;
    Ok(0)
}

/// `getcwd(2)` as the system call, which returns the bytes of the path with its zero.
pub(crate) fn getcwd(call: &mut Call, Address(buffer): Address, size: u64) -> Result<u64, Errno> {
    let system = &mut *call.system;
    let mut path = system.tree.path(system.process.directory).ok_or(Errno::ENOENT)?;
    path.push(0);
    if path.len() as u64 > size {
        return Err(Errno::ERANGE);
    }
    put(system, buffer, &path)?;
    Ok(path.len() as u64)
}

/// `chdir(2)`
pub(crate) fn chdir(call: &mut Call, path: Address) -> Result<u64, Errno> {
    let id = find(call.system, HERE, path, LastLink::Followed)?.existing(&call.system.tree)?;
    change_directory(call.system, id)
}

/// `fchdir(2)`
pub(crate) fn fchdir(call: &mut Call, Fd(fd): Fd) -> Result<u64, Errno> {
    match call.system.open_file(fd)?.what {
        What::Inode(id) => change_directory(call.system, id),
        _ => Err(Errno::ENOTDIR),
    }
}

fn change_directory(system: &mut System, id: InodeId) -> Result<u64, Errno> {
    if !system.tree.get(id).is_directory() {
        return Err(Errno::ENOTDIR);
    }
    system.tree.get(id).check(Want::Execute)?;
    let old = std::mem::replace(&mut system.process.directory, id);
    system.drop_unused(old);
    Ok(0)
}
