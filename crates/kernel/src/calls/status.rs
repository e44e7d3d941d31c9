//! What `fstat` and its kin tell: the three streams are pipes, and there are no other files.
//!
//! Source: stat(2); the layouts from <asm/stat.h> of each machine.

use crate::Errno;
use crate::abi::SyscallAbi;
use crate::arguments::{Address, Fd};
use crate::calls::call::{Call, put, read_path};

/// A pipe that its owner may read and write: S_IFIFO and 0600. Source: inode(7).
const PIPE_MODE: u32 = 0o010_600;
/// Preferred size of a transfer.
const BLOCK_BYTES: u64 = 4096;
/// Only the flag that lets a path be empty matters. Source: stat(2).
const AT_EMPTY_PATH: u64 = 0x1000;

/// Tells about one of the three streams.
pub(crate) fn of_stream(
    call: &mut Call,
    Fd(fd): Fd,
    Address(address): Address,
) -> Result<u64, Errno> {
    let (system, abi) = (&mut *call.system, call.abi);
    if !system.process.is_open(fd.into()) {
        return Err(Errno::EBADF);
    }
    // Device, inode and owner are made up; sizes and times are zero.
    let (device, inode, user) = (8u64, 100 + u64::from(fd), 1000u32);
    let mut bytes = Vec::new();
    bytes.extend(device.to_le_bytes());
    bytes.extend(inode.to_le_bytes());
    match abi {
        SyscallAbi::Arm64 => {
            for word in [PIPE_MODE, 1, user, user] {
                bytes.extend(word.to_le_bytes());
            }
            bytes.extend([0; 24]); // device of a device, padding, size
            bytes.extend((BLOCK_BYTES as u32).to_le_bytes());
            bytes.resize(128, 0);
        }
        SyscallAbi::X86_32 => {
            // The inode's low half stands behind padding, all of it at the end.
            bytes.truncate(8);
            for word in [0, inode as u32, PIPE_MODE, 1, user, user] {
                bytes.extend(word.to_le_bytes());
            }
            bytes.extend([0; 20]); // device of a device, padding, size
            bytes.extend((BLOCK_BYTES as u32).to_le_bytes());
            bytes.resize(88, 0);
            bytes.extend(inode.to_le_bytes());
        }
        SyscallAbi::X86_64 => {
            bytes.extend(1u64.to_le_bytes());
            for word in [PIPE_MODE, user, user, 0] {
                bytes.extend(word.to_le_bytes());
            }
            bytes.extend([0; 16]); // device of a device, size
            bytes.extend(BLOCK_BYTES.to_le_bytes());
            bytes.resize(144, 0);
        }
    }
    put(system, address, &bytes)?;
    Ok(0)
}

/// What `statx` tells: mode and type, links, owner, times, inode, size, blocks. Source: statx(2).
const STATX_BASIC_STATS: u32 = 0x7ff;

/// Tells about an open file named by an empty path, in the structure of `statx`.
pub(crate) fn extended(
    call: &mut Call,
    Fd(fd): Fd,
    Address(path): Address,
    flags: u64,
    _: u64,
    Address(address): Address,
) -> Result<u64, Errno> {
    let system = &mut *call.system;
    if !read_path(system, path)?.is_empty() || flags & AT_EMPTY_PATH == 0 {
        return Err(Errno::ENOENT);
    }
    if !system.process.is_open(fd.into()) {
        return Err(Errno::EBADF);
    }
    let user = 1000u32;
    let mut bytes = Vec::new();
    for word in [STATX_BASIC_STATS, BLOCK_BYTES as u32, 0, 0, 1, user, user, PIPE_MODE] {
        bytes.extend(word.to_le_bytes());
    }
    bytes.extend((100 + u64::from(fd)).to_le_bytes());
    bytes.resize(136, 0); // size, blocks and times; then the device
    bytes.extend(0u32.to_le_bytes());
    bytes.extend(8u32.to_le_bytes());
    bytes.resize(256, 0);
    put(system, address, &bytes)?;
    Ok(0)
}

/// Tells about an open file named by an empty path.
pub(crate) fn of_path(
    call: &mut Call,
    fd: Fd,
    Address(path): Address,
    address: Address,
    flags: u64,
) -> Result<u64, Errno> {
    if read_path(call.system, path)?.is_empty() && flags & AT_EMPTY_PATH != 0 {
        return of_stream(call, fd, address);
    }
    Err(Errno::ENOENT)
}
