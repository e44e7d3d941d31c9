//! What system calls do, shared by all machines.

use crate::Errno;
use crate::process::{Ending, Process};
use crate::report::Notice;
use crate::table::Syscall;

/// No call transfers more bytes at once. Source: write(2), NOTES.
const MAX_TRANSFER_BYTES: u64 = 0x7fff_f000;

/// What came of a call.
pub(crate) enum Outcome {
    /// It returned this.
    Returned(i64),
    /// It cannot go on before there is input.
    NeedsInput,
    /// The program ended.
    Ended(Ending),
}

impl From<Errno> for Outcome {
    fn from(errno: Errno) -> Outcome {
        Outcome::Returned(errno.result())
    }
}

/// Carries a call out. A notice is left if it is probably a mistake.
pub(crate) fn perform(
    process: &mut Process,
    call: Syscall,
    arguments: &[u64],
) -> (Outcome, Option<Notice>) {
    match call {
        Syscall::read => read(process, arguments[0], arguments[1], arguments[2]),
        Syscall::write => write(process, arguments[0], arguments[1], arguments[2]),
        Syscall::exit | Syscall::exit_group => {
            (Outcome::Ended(Ending::Exited(arguments[0] as u8 as i32)), None)
        }
    }
}

fn notice(message: String, help: &str) -> Option<Notice> {
    Some(Notice { message, help: Some(help.to_string()) })
}

fn read(process: &mut Process, fd: u64, buffer: u64, count: u64) -> (Outcome, Option<Notice>) {
    // A file descriptor is a 32-bit integer; the upper half of the register does not matter.
    let fd = fd as u32;
    if fd != 0 {
        let notice = match fd {
            1 | 2 => notice(
                format!("`read` from {fd}, which is open for writing only"),
                "standard input is 0",
            ),
            _ => notice(format!("`read` from {fd}, which is not open"), "standard input is 0"),
        };
        return (Errno::EBADF.into(), notice);
    }
    let count = count.min(MAX_TRANSFER_BYTES) as usize;
    if count == 0 {
        return (Outcome::Returned(0), None);
    }
    let Some(bytes) = process.peek_input(count) else { return (Outcome::NeedsInput, None) };
    // What fits before the first bad page is kept, as the kernel does.
    let mut written = 0;
    for (index, byte) in bytes.iter().enumerate() {
        if process.machine.memory_mut().write(buffer.wrapping_add(index as u64), [*byte]).is_err() {
            break;
        }
        written = index + 1;
    }
    if written == 0 && !bytes.is_empty() {
        let message = format!("`read` was given the buffer {buffer:#x}, which cannot be written");
        return (
            Errno::EFAULT.into(),
            notice(message, "give it the address of a buffer in .bss or on the stack"),
        );
    }
    process.take_input(written);
    (Outcome::Returned(written as i64), None)
}

fn write(process: &mut Process, fd: u64, buffer: u64, count: u64) -> (Outcome, Option<Notice>) {
    let fd = fd as u32;
    if fd != 1 && fd != 2 {
        let notice = match fd {
            0 => notice(
                "`write` to 0, which is standard input".to_string(),
                "standard output is 1, standard error is 2",
            ),
            _ => notice(
                format!("`write` to {fd}, which is not open"),
                "standard output is 1, standard error is 2",
            ),
        };
        return (Errno::EBADF.into(), notice);
    }
    let count = count.min(MAX_TRANSFER_BYTES);
    let mut bytes = Vec::new();
    let mut page = vec![0; 4096];
    while (bytes.len() as u64) < count {
        let at = buffer.wrapping_add(bytes.len() as u64);
        let take = (count - bytes.len() as u64).min(4096 - at % 4096) as usize;
        if process.machine.memory_mut().read_bytes(at, &mut page[..take]).is_err() {
            break;
        }
        bytes.extend_from_slice(&page[..take]);
    }
    if bytes.is_empty() && count > 0 {
        let message =
            format!("`write` was given the buffer {buffer:#x}, where nothing can be read");
        return (
            Errno::EFAULT.into(),
            notice(message, "give it the address of the text, not the text"),
        );
    }
    let written = bytes.len() as i64;
    process.put_output(fd as u8, bytes);
    (Outcome::Returned(written), None)
}
