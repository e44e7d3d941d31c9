//! Descriptors that name processes. Sources: pidfd_open(2), pidfd_send_signal(2), pidfd_getfd(2).

use crate::Errno;
use crate::arguments::{Address, Fd};
use crate::calls::call::{Call, Outcome};
use crate::calls::signals::{sent_info, to_process};
use crate::files::open::{OpenFile, OpenFlags, What};
use crate::process::ProcessId;
use crate::report::Notice;
use crate::system::System;
use crate::target::target;

impl System {
    /// Opens a descriptor that names a process.
    pub(crate) fn open_process(&mut self, id: ProcessId, nonblock: bool) -> Result<u32, Errno> {
        let mut flags = OpenFlags::READ | OpenFlags::WRITE;
        flags.set(OpenFlags::NONBLOCK, nonblock);
        let bits = &target(self.arch()).open_bits;
        let status = 2 | if nonblock { bits.nonblock } else { 0 };
        let file = OpenFile::new(What::Process(id), flags, status, b"anon_inode:[pidfd]");
        self.open(file, true)
    }

    /// The process that a descriptor names.
    ///
    /// # Errors
    ///
    /// EBADF if it is not open or names something else.
    pub(crate) fn named_process(&self, fd: u32) -> Result<ProcessId, Errno> {
        match self.open_file(fd)?.what {
            What::Process(id) => Ok(id),
            _ => Err(Errno::EBADF),
        }
    }
}

/// `pidfd_open(2)`
pub(crate) fn pidfd_open(call: &mut Call, process: i32, flags: u64) -> Result<u64, Errno> {
    let nonblock = target(call.abi.arch()).open_bits.nonblock;
    let flags = flags & 0xffff_ffff;
    if flags & !nonblock != 0 || process <= 0 {
        return Err(Errno::EINVAL);
    }
    let id = ProcessId(process as u32);
    match call.system.process(id) {
        Some(_) => call.system.open_process(id, flags != 0).map(u64::from),
        // The number of a thread that is no process.
        None if call.system.tasks().any(|task| task.0 == id.0) => Err(Errno::EINVAL),
        None => Err(Errno::ESRCH),
    }
}

/// `pidfd_send_signal(2)`
pub(crate) fn pidfd_send_signal(
    call: &mut Call,
    Fd(fd): Fd,
    number: u32,
    info: Address,
    flags: u64,
) -> (Outcome, Option<Notice>) {
    if flags as u32 != 0 {
        return (Errno::EINVAL.into(), None);
    }
    let sent = call.system.named_process(fd).and_then(|process| {
        let info = sent_info(call, process, number, info)?;
        if info.number != number {
            return Err(Errno::EINVAL);
        }
        Ok((process, info))
    });
    match sent {
        Ok((process, info)) => to_process(call.system, process.0 as i32, info),
        Err(errno) => (errno.into(), None),
    }
}

/// `pidfd_getfd(2)`
pub(crate) fn pidfd_getfd(
    call: &mut Call,
    Fd(fd): Fd,
    Fd(wanted): Fd,
    flags: u64,
) -> Result<u64, Errno> {
    if flags as u32 != 0 {
        return Err(Errno::EINVAL);
    }
    let system = &mut *call.system;
    let id = system.named_process(fd)?;
    let process = system.process(id).filter(|process| process.ended.is_none());
    let descriptors = &process.ok_or(Errno::ESRCH)?.descriptors;
    let found = descriptors.get(wanted as usize).copied().flatten().ok_or(Errno::EBADF)?;
    system.free_descriptor(0)?;
    system.open_files.share(found.file);
    system.install(found.file, true).map(u64::from)
}
