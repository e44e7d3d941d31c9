//! What `fstat` and its kin tell: the three streams are pipes, and there are no other files.
//!
//! Source: stat(2); the layouts from <asm/stat.h> of each machine.

use crate::Errno;
use crate::process::Process;
use crate::syscalls::put;
use crate::table::Door;

/// A pipe that its owner may read and write: S_IFIFO and 0600. Source: inode(7).
const PIPE_MODE: u32 = 0o010_600;
/// Preferred size of a transfer.
const BLOCK_BYTES: u64 = 4096;
/// Only the flag that lets a path be empty matters. Source: stat(2).
const AT_EMPTY_PATH: u64 = 0x1000;

/// Tells about one of the three streams.
pub(crate) fn of_stream(
    process: &mut Process,
    door: Door,
    fd: u64,
    address: u64,
) -> Result<u64, Errno> {
    if fd as u32 > 2 {
        return Err(Errno::EBADF);
    }
    // Device, inode and owner are made up; sizes and times are zero.
    let (device, inode, user) = (8u64, 100 + u64::from(fd as u32), 1000u32);
    let mut bytes = Vec::new();
    bytes.extend(device.to_le_bytes());
    bytes.extend(inode.to_le_bytes());
    match door {
        Door::Arm64 => {
            for word in [PIPE_MODE, 1, user, user] {
                bytes.extend(word.to_le_bytes());
            }
            bytes.extend([0; 24]); // device of a device, padding, size
            bytes.extend((BLOCK_BYTES as u32).to_le_bytes());
            bytes.resize(128, 0);
        }
        _ => {
            bytes.extend(1u64.to_le_bytes());
            for word in [PIPE_MODE, user, user, 0] {
                bytes.extend(word.to_le_bytes());
            }
            bytes.extend([0; 16]); // device of a device, size
            bytes.extend(BLOCK_BYTES.to_le_bytes());
            bytes.resize(144, 0);
        }
    }
    put(process, address, &bytes)?;
    Ok(0)
}

/// Tells about an open file named by an empty path: folder, path, address, flags.
pub(crate) fn of_path(
    process: &mut Process,
    door: Door,
    [fd, path, address, flags]: [u64; 4],
) -> Result<u64, Errno> {
    let mut first = [0];
    process.machine.memory_mut().read_bytes(path, &mut first).map_err(|_| Errno::EFAULT)?;
    if first == [0] && flags & AT_EMPTY_PATH != 0 {
        return of_stream(process, door, fd, address);
    }
    Err(Errno::ENOENT)
}
