//! What `stat` and its kin tell of files.
//!
//! Source: stat(2), statx(2), inode(7), statfs(2); the layouts from <asm/stat.h> of each machine.

use crate::Errno;
use crate::abi::SyscallAbi;
use crate::arguments::{Address, Fd};
use crate::calls::call::{Call, put, read_path};
use crate::calls::identity::USER;
use crate::calls::paths::{AT_EMPTY_PATH, AT_FDCWD, AT_SYMLINK_NOFOLLOW, find};
use crate::calls::pipes::inode_of;
use crate::calls::sockets;
use crate::files::content::BLOCK_BYTES;
use crate::files::inode::{InodeId, Kind, S_IFIFO, S_IFSOCK};
use crate::files::open::What;
use crate::files::tree::MAX_BYTES;
use crate::files::walk::LastLink;
use crate::layout::Layout;
use crate::system::System;

/// What is told of a file.
struct Status {
    device: u64,
    inode: u64,
    mode: u32,
    links: u32,
    owner: u32,
    group: u32,
    /// Major and minor number of a device.
    number: (u32, u32),
    size: u64,
    /// Bytes that its blocks take.
    allocated: u64,
    /// Times of access, contents and any change, in nanoseconds since 1970.
    times: [u64; 3],
}

/// The device of the pipes, and that of the tree.
const PIPES: u64 = 8;
const TREE: u64 = 9;

impl Status {
    /// Of one of the three streams: a pipe that its owner may read and write.
    fn of_stream(number: u64) -> Status {
        let user = USER as u32;
        Status {
            device: PIPES,
            inode: 100 + number,
            mode: S_IFIFO | 0o600,
            links: 1,
            owner: user,
            group: user,
            number: (0, 0),
            size: 0,
            allocated: 0,
            times: [0; 3],
        }
    }

    fn of_inode(system: &System, id: InodeId) -> Status {
        let inode = system.tree.get(id);
        Status {
            device: TREE,
            inode: u64::from(id.0) + 1,
            mode: inode.mode(),
            // What is left of a directory without a name is told as nothing.
            links: if inode.is_directory() && inode.links == 1 { 0 } else { inode.links },
            owner: inode.owner,
            group: inode.group,
            number: match inode.kind {
                Kind::Device(device) => device.number(),
                _ => (0, 0),
            },
            size: inode.size(),
            allocated: match &inode.kind {
                Kind::File(content) => content.kept(),
                _ => 0,
            },
            times: [inode.accessed, inode.modified, inode.changed],
        }
    }

    fn of_open(system: &System, fd: u32) -> Result<Status, Errno> {
        Ok(match &system.open_file(fd)?.what {
            What::Input => Status::of_stream(0),
            What::Output(number) => Status::of_stream(u64::from(*number)),
            What::Inode(id) | What::Proc(id, _) => Status::of_inode(system, *id),
            What::Pipe(id) => match system.pipes.get(*id).and_then(|pipe| pipe.fifo) {
                Some(inode) => Status::of_inode(system, inode),
                None => Status { inode: inode_of(*id), ..Status::of_stream(0) },
            },
            What::Socket(id) => Status {
                inode: sockets::inode_of(*id),
                mode: S_IFSOCK | 0o777,
                ..Status::of_stream(0)
            },
            What::Event { .. }
            | What::Timer { .. }
            | What::Signals(_)
            | What::Epoll(_)
            | What::Process(_) => Status { mode: 0o600, ..Status::of_stream(3) },
        })
    }

    /// The number of a device in one word. Source: makedev(3).
    fn device_number(&self) -> u64 {
        let (major, minor) = self.number;
        u64::from(minor & 0xff | major << 8 | (minor & !0xff) << 12)
    }

    /// Blocks of 512 bytes.
    fn blocks(&self) -> u64 {
        self.allocated / 512
    }

    /// Seconds and nanoseconds of the three times.
    fn time_words(&self) -> impl Iterator<Item = u64> {
        self.times.into_iter().flat_map(|time| [time / 1_000_000_000, time % 1_000_000_000])
    }

    /// `struct stat` of a machine; that with sizes of 64 bits, where there are two.
    fn layout(&self, abi: SyscallAbi) -> Vec<u8> {
        let mut layout = Layout::default();
        let block = BLOCK_BYTES as u64;
        match abi {
            SyscallAbi::X86_64 => {
                layout.put(8, [self.device, self.inode, self.links.into()]);
                layout.put(4, [self.mode, self.owner, self.group, 0]);
                layout.put(8, [self.device_number(), self.size, block, self.blocks()]);
                layout.put(8, self.time_words());
                layout.0.resize(144, 0);
            }
            SyscallAbi::Arm64 => {
                layout.put(8, [self.device, self.inode]);
                let words = [self.mode, self.links, self.owner, self.group];
                layout.put(4, words);
                layout.put(8, [self.device_number(), 0, self.size]);
                layout.put(4, [block, 0]);
                layout.put(8, [self.blocks()]);
                layout.put(8, self.time_words());
                layout.0.resize(128, 0);
            }
            SyscallAbi::X86_32 => {
                layout.put(8, [self.device]);
                let inode = self.inode as u32;
                let words = [0, inode, self.mode, self.links, self.owner, self.group];
                layout.put(4, words);
                layout.put(8, [self.device_number()]);
                layout.put(4, [0u64]);
                layout.put(8, [self.size]);
                layout.put(4, [block]);
                layout.put(8, [self.blocks()]);
                layout.put(4, self.time_words());
                layout.put(8, [self.inode]);
            }
        }
        layout.0
    }

    /// `struct stat` of 32-bit x86 with sizes of 32 bits.
    fn small_layout(&self) -> Result<Vec<u8>, Errno> {
        let mut layout = Layout::default();
        if self.size > i32::MAX as u64 {
            return Err(Errno::EOVERFLOW);
        }
        layout.put(4, [self.device, self.inode]);
        let words = [self.mode, self.links, self.owner, self.group];
        layout.put(2, words);
        let block = BLOCK_BYTES as u64;
        layout.put(4, [self.device_number(), self.size, block, self.blocks()]);
        layout.put(4, self.time_words());
        layout.0.resize(64, 0);
        Ok(layout.0)
    }

    /// `struct statx`.
    fn extended_layout(&self) -> Vec<u8> {
        /// Mode and type, links, owner, times, inode, size, blocks.
        const STATX_BASIC_STATS: u32 = 0x7ff;
        let mut layout = Layout::default();
        layout.put(4, [STATX_BASIC_STATS, BLOCK_BYTES as u32]);
        layout.put(8, [0u64]);
        layout.put(4, [self.links, self.owner, self.group]);
        layout.put(2, [self.mode, 0]);
        layout.put(8, [self.inode, self.size, self.blocks(), 0]);
        // The time of birth stands between those of access and change, and is not told.
        let [accessed, modified, changed] = self.times;
        for time in [accessed, 0, changed, modified] {
            layout.put(8, [time / 1_000_000_000]);
            layout.put(8, [time % 1_000_000_000]);
        }
        let (major, minor) = self.number;
        layout.put(4, [major, minor, 0, self.device as u32]);
        layout.0.resize(256, 0);
        layout.0
    }
}

/// Tells about an open file.
pub(crate) fn of_open(
    call: &mut Call,
    Fd(fd): Fd,
    Address(address): Address,
) -> Result<u64, Errno> {
    let bytes = Status::of_open(call.system, fd)?.layout(call.abi);
    put(call.system, address, &bytes).map(|()| 0)
}

/// `fstat(2)` as the machine had it first.
pub(crate) fn of_open_first(
    call: &mut Call,
    fd: Fd,
    Address(address): Address,
) -> Result<u64, Errno> {
    match call.abi {
        SyscallAbi::X86_32 => {
            let bytes = Status::of_open(call.system, fd.0)?.small_layout()?;
            put(call.system, address, &bytes).map(|()| 0)
        }
        SyscallAbi::X86_64 | SyscallAbi::Arm64 => of_open(call, fd, Address(address)),
    }
}

fn status(call: &mut Call, fd: Fd, path: Address, flags: u64) -> Result<Status, Errno> {
    const AT_NO_AUTOMOUNT: u64 = 0x800;
    const AT_STATX_SYNC_TYPE: u64 = 0x6000;
    let known = AT_SYMLINK_NOFOLLOW | AT_NO_AUTOMOUNT | AT_EMPTY_PATH | AT_STATX_SYNC_TYPE;
    if flags & !known != 0 {
        return Err(Errno::EINVAL);
    }
    let system = &mut *call.system;
    // Since Linux 6.11 no path is an empty one.
    let is_empty = path == Address(0) || read_path(system, path.0)?.is_empty();
    if flags & AT_EMPTY_PATH != 0 && is_empty {
        return match fd.0 {
            AT_FDCWD => Ok(Status::of_inode(system, system.process.directory)),
            fd => Status::of_open(system, fd),
        };
    }
    let found = find(system, fd, path, LastLink::followed_if(flags & AT_SYMLINK_NOFOLLOW == 0))?;
    Ok(Status::of_inode(system, found.existing(&system.tree)?))
}

/// `stat(2)` as the machine had it first.
pub(crate) fn stat(call: &mut Call, path: Address, address: Address) -> Result<u64, Errno> {
    of_path_first(call, path, address, 0)
}

/// `lstat(2)` as the machine had it first.
pub(crate) fn lstat(call: &mut Call, path: Address, address: Address) -> Result<u64, Errno> {
    of_path_first(call, path, address, AT_SYMLINK_NOFOLLOW)
}

fn of_path_first(
    call: &mut Call,
    path: Address,
    Address(address): Address,
    flags: u64,
) -> Result<u64, Errno> {
    let status = status(call, Fd(AT_FDCWD), path, flags)?;
    let bytes = match call.abi {
        SyscallAbi::X86_32 => status.small_layout()?,
        abi @ (SyscallAbi::X86_64 | SyscallAbi::Arm64) => status.layout(abi),
    };
    put(call.system, address, &bytes).map(|()| 0)
}

/// `stat64(2)`
pub(crate) fn stat64(call: &mut Call, path: Address, address: Address) -> Result<u64, Errno> {
    of_path(call, Fd(AT_FDCWD), path, address, 0)
}

/// `lstat64(2)`
pub(crate) fn lstat64(call: &mut Call, path: Address, address: Address) -> Result<u64, Errno> {
    of_path(call, Fd(AT_FDCWD), path, address, AT_SYMLINK_NOFOLLOW)
}

/// `fstatat(2)`
pub(crate) fn of_path(
    call: &mut Call,
    fd: Fd,
    path: Address,
    Address(address): Address,
    flags: u64,
) -> Result<u64, Errno> {
    let bytes = status(call, fd, path, flags)?.layout(call.abi);
    put(call.system, address, &bytes).map(|()| 0)
}

/// `statx(2)`
pub(crate) fn extended(
    call: &mut Call,
    fd: Fd,
    path: Address,
    flags: u64,
    mask: u64,
    Address(address): Address,
) -> Result<u64, Errno> {
    const STATX_RESERVED: u64 = 0x8000_0000;
    if mask & STATX_RESERVED != 0 || flags & 0x6000 == 0x6000 {
        return Err(Errno::EINVAL);
    }
    let bytes = status(call, fd, path, flags)?.extended_layout();
    put(call.system, address, &bytes).map(|()| 0)
}

/// The file system of the tree. Source: statfs(2), TMPFS_MAGIC.
fn file_system(call: &mut Call, address: u64) -> Result<u64, Errno> {
    const TMPFS_MAGIC: u64 = 0x0102_1994;
    let room = call.system.tree.room();
    let width = call.abi.word_bytes();
    let block = BLOCK_BYTES as u64;
    let (total, free) = (MAX_BYTES / block, room / block);
    let mut layout = Layout::default();
    layout.put(width, [TMPFS_MAGIC, block, total, free, free, 1 << 20, 1 << 19]);
    // The number of the file system, the longest name, the size of a fragment, the flags.
    layout.put(8, [0u64]);
    layout.put(width, [255, block, 0x20]);
    layout.put(width, [0u64; 4]);
    put(call.system, address, &layout.0).map(|()| 0)
}

/// `statfs(2)`
pub(crate) fn statfs(call: &mut Call, path: Address, Address(to): Address) -> Result<u64, Errno> {
    find(call.system, Fd(AT_FDCWD), path, LastLink::Followed)?.existing(&call.system.tree)?;
    file_system(call, to)
}

/// `fstatfs(2)`
pub(crate) fn fstatfs(call: &mut Call, Fd(fd): Fd, Address(to): Address) -> Result<u64, Errno> {
    call.system.open_file(fd)?;
    file_system(call, to)
}
