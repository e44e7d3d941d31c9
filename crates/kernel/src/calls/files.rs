//! Calls that name files: there are none but the three streams, which are pipes.

use crate::Errno;
use crate::arguments::{Address, Fd};
use crate::calls::call::{Call, read_path};

/// There are no files.
fn no_file(call: &mut Call, Address(path): Address) -> Result<u64, Errno> {
    read_path(call.system, path)?;
    Err(Errno::ENOENT)
}

/// `open(2)`
pub(crate) fn open(call: &mut Call, path: Address, _: u64, _: u64) -> Result<u64, Errno> {
    no_file(call, path)
}

/// `openat(2)`
pub(crate) fn openat(call: &mut Call, _: Fd, path: Address, _: u64, _: u64) -> Result<u64, Errno> {
    no_file(call, path)
}

/// `access(2)`
pub(crate) fn access(call: &mut Call, path: Address, mode: u64) -> Result<u64, Errno> {
    match mode & !7 {
        0 => no_file(call, path),
        _ => Err(Errno::EINVAL),
    }
}

/// `readlink(2)`
pub(crate) fn readlink(
    call: &mut Call,
    path: Address,
    _: Address,
    size: u64,
) -> Result<u64, Errno> {
    if (size as i32) <= 0 { Err(Errno::EINVAL) } else { no_file(call, path) }
}

/// `readlinkat(2)`
pub(crate) fn readlinkat(
    call: &mut Call,
    _: Fd,
    path: Address,
    buffer: Address,
    size: u64,
) -> Result<u64, Errno> {
    readlink(call, path, buffer, size)
}

/// What a call on an open stream answers that no pipe can do.
fn on_stream(call: &Call, fd: Fd, errno: Errno) -> Result<u64, Errno> {
    Err(if call.system.process.is_open(fd.0.into()) { errno } else { Errno::EBADF })
}

/// `lseek(2)`
pub(crate) fn lseek(call: &mut Call, fd: Fd, _: u64, _: u64) -> Result<u64, Errno> {
    on_stream(call, fd, Errno::ESPIPE)
}

/// `_llseek(2)`
pub(crate) fn llseek(
    call: &mut Call,
    fd: Fd,
    _: u64,
    _: u64,
    _: Address,
    _: u64,
) -> Result<u64, Errno> {
    on_stream(call, fd, Errno::ESPIPE)
}

/// `ioctl(2)`
pub(crate) fn ioctl(call: &mut Call, fd: Fd, _: u64, _: Address) -> Result<u64, Errno> {
    on_stream(call, fd, Errno::ENOTTY)
}
