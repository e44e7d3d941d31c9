//! System calls on the three standard streams, which are modelled as pipes.
//!
//! A pipe takes and gives bytes in pieces of a page. A piece whose memory cannot be accessed to its end is not
//! transferred; the pieces before it are, and if there are none the call fails with EFAULT.
//!
//! Sources: read(2), write(2), readv(2), pipe(7); Linux, `fs/read_write.c` for the order of the checks and
//! `fs/pipe.c` for the pieces.

use sotto_machine::PAGE_BYTES;

use crate::Errno;
use crate::arguments::{Address, Fd};
use crate::calls::call::{Call, Outcome, notice};
use crate::report::Notice;
use crate::system::System;
use crate::target::target;
use crate::task::Wait;

/// No call transfers more bytes at once. Source: write(2), NOTES.
const MAX_TRANSFER_BYTES: u64 = 0x7fff_f000;
/// Bytes of a piece of a pipe: PAGE_SIZE.
const PIECE_BYTES: usize = 4096;
/// IOV_MAX. Source: writev(2).
const MAX_VECTORS: u64 = 1024;

/// What a call says of a range of memory before it looks at the memory: whether programs may have such addresses.
fn check_range(system: &System, address: u64, count: u64) -> Result<(), Errno> {
    // Source: Linux, `access_ok`; the last page below the limit belongs to nobody.
    let Some(limit) = target(system.arch()).user_limit else { return Ok(()) };
    match address.checked_add(count) {
        Some(end) if end <= limit => Ok(()),
        _ => Err(Errno::EFAULT),
    }
}

/// The reason why a buffer was refused, for a notice.
fn refused_buffer(
    system: &mut System,
    call: &str,
    buffer: u64,
    count: u64,
    verb: &str,
) -> Option<Notice> {
    let usable = usable_bytes(system, buffer, count, verb == "written");
    let refusal = match (usable, verb) {
        _ if check_range(system, buffer, count).is_err() && (count as i64) < 0 => {
            format!("`{call}` was given the count {}, which reaches beyond memory", count as i64)
        }
        (0, "written") => {
            format!("`{call}` was given the buffer {buffer:#x}, which cannot be written")
        }
        (0, _) => format!("`{call}` was given the buffer {buffer:#x}, where nothing can be read"),
        _ => format!(
            "`{call}` was given {count} bytes at {buffer:#x}, of which only the first {usable} can be {verb}"
        ),
    };
    let help = match (usable, verb) {
        (1.., _) => "give it the number of bytes that the buffer has",
        (_, "written") => "give it the address of a buffer in .bss or on the stack",
        _ => "give it the address of the text, not the text",
    };
    notice(refusal, help)
}

/// Bytes from an address on that can be accessed, `count` at most.
fn usable_bytes(system: &System, address: u64, count: u64, to_write: bool) -> u64 {
    let memory = system.machine.memory();
    let end = address.saturating_add(count);
    let mut at = address;
    while at < end {
        let Some(region) = memory.region_at(at) else { break };
        let permissions = region.permissions;
        if !(if to_write { permissions.write } else { permissions.read }) {
            break;
        }
        at = region.end;
    }
    at.min(end) - address
}

/// Says why a file descriptor cannot be used.
fn bad_descriptor(system: &System, call: &str, fd: u32, remedy: &str) -> (Outcome, Option<Notice>) {
    let to = if call == "read" { "from" } else { "to" };
    let state = match fd {
        0..=2 if !system.process.is_open(fd.into()) => "which was closed".to_string(),
        0 => "which is standard input".to_string(),
        1 | 2 => "which is open for writing only".to_string(),
        _ => "which is not open".to_string(),
    };
    (Errno::EBADF.into(), notice(format!("`{call}` {to} {fd}, {state}"), remedy))
}

const INPUT_REMEDY: &str = "standard input is 0";
const OUTPUT_REMEDY: &str = "standard output is 1, standard error is 2";

/// `read(2)` from standard input.
pub(crate) fn read(
    call: &mut Call,
    Fd(fd): Fd,
    Address(buffer): Address,
    count: u64,
) -> (Outcome, Option<Notice>) {
    let system = &mut *call.system;
    if fd != 0 || !system.process.is_open(0) {
        return bad_descriptor(system, "read", fd, INPUT_REMEDY);
    }
    if let Err(errno) = check_range(system, buffer, count) {
        return (errno.into(), refused_buffer(system, "read", buffer, count, "written"));
    }
    let wanted = count.min(MAX_TRANSFER_BYTES) as usize;
    if wanted == 0 {
        return (Outcome::Returned(0), None);
    }
    let Some(bytes) = system.peek_input(wanted) else { return (Outcome::Waits(Wait::Input), None) };
    let mut taken = 0;
    for piece in bytes.chunks(PIECE_BYTES) {
        // What fits before the first bad page is written, although it is not taken from the pipe.
        if system.copy_out(buffer.wrapping_add(taken as u64), piece) < piece.len() {
            break;
        }
        taken += piece.len();
    }
    if taken == 0 && !bytes.is_empty() {
        let needed = bytes.len() as u64;
        return (Errno::EFAULT.into(), refused_buffer(system, "read", buffer, needed, "written"));
    }
    system.take_input(taken);
    (Outcome::Returned(taken as i64), None)
}

/// `write(2)` to standard output or standard error.
pub(crate) fn write(
    call: &mut Call,
    Fd(fd): Fd,
    Address(buffer): Address,
    count: u64,
) -> (Outcome, Option<Notice>) {
    let system = &mut *call.system;
    if !matches!(fd, 1 | 2) || !system.process.is_open(fd.into()) {
        return bad_descriptor(system, "write", fd, OUTPUT_REMEDY);
    }
    if let Err(errno) = check_range(system, buffer, count) {
        return (errno.into(), refused_buffer(system, "write", buffer, count, "read"));
    }
    let count = count.min(MAX_TRANSFER_BYTES);
    match transfer(system, fd as u8, &[(buffer, count)]) {
        // All of it, or whole pieces: then the next call finds the reason.
        Ok(outcome) => (outcome, None),
        Err(errno) => (errno.into(), refused_buffer(system, "write", buffer, count, "read")),
    }
}

/// Bytes that are transferred before others are given a chance; a whole number of pieces.
const BYTES_AT_ONCE: u64 = 1 << 20;

/// Writes ranges of memory to a stream as one, piece by piece. Many bytes take several calls, of which each but the last
/// leaves the call unfinished.
fn transfer(system: &mut System, fd: u8, ranges: &[(u64, u64)]) -> Result<Outcome, Errno> {
    let before = std::mem::take(system.transferred());
    let (mut skipped, mut bytes, mut refused, mut more) = (before, Vec::new(), false, false);
    'ranges: for &(start, count) in ranges {
        let mut done = skipped.min(count);
        skipped -= done;
        while done < count {
            let left = BYTES_AT_ONCE - bytes.len() as u64;
            if left == 0 {
                more = true;
                break 'ranges;
            }
            let at = start.wrapping_add(done);
            let take = (count - done).min(PAGE_BYTES - at % PAGE_BYTES).min(left) as usize;
            let old = bytes.len();
            bytes.resize(old + take, 0);
            if system.machine.memory_mut().read_bytes(at, &mut bytes[old..]).is_err() {
                bytes.truncate(old);
                refused = true;
                break 'ranges;
            }
            done += take as u64;
        }
    }
    if refused {
        bytes.truncate(bytes.len() / PIECE_BYTES * PIECE_BYTES);
        if bytes.is_empty() && before == 0 {
            return Err(Errno::EFAULT);
        }
    }
    let written = before + bytes.len() as u64;
    system.put_output(fd, &bytes);
    if more {
        *system.transferred() = written;
        return Ok(Outcome::Unfinished);
    }
    Ok(Outcome::Returned(written as i64))
}

/// `writev(2)` to standard output or standard error.
pub(crate) fn writev(
    call: &mut Call,
    Fd(fd): Fd,
    Address(vector): Address,
    count: u64,
) -> (Outcome, Option<Notice>) {
    let width = call.abi.word_bytes();
    let system = &mut *call.system;
    if !system.process.is_open(fd.into()) {
        return bad_descriptor(system, "writev", fd, OUTPUT_REMEDY);
    }
    let invalid =
        |message: String| (Errno::EINVAL.into(), notice(message, "a length is a number of bytes"));
    if count > MAX_VECTORS {
        let message = format!("`writev` was given {count} buffers; it takes {MAX_VECTORS} at most");
        return (Errno::EINVAL.into(), notice(message, "call it several times"));
    }
    let (mut ranges, mut total) = (Vec::new(), 0u64);
    for n in 0..count {
        let mut entry = [0; 16];
        let at = vector.wrapping_add(n * 2 * width as u64);
        if system.machine.memory_mut().read_bytes(at, &mut entry[..2 * width]).is_err() {
            let message =
                format!("`writev` was given a list at {at:#x}, where nothing can be read");
            return (
                Errno::EFAULT.into(),
                notice(message, "give it the address of pairs of address and length"),
            );
        }
        let word = |bytes: &[u8]| {
            bytes.iter().rev().fold(0u64, |value, byte| value << 8 | u64::from(*byte))
        };
        let (base, length) = (word(&entry[..width]), word(&entry[width..2 * width]));
        // The sign is that of a word of the machine.
        if length >> (8 * width - 1) & 1 != 0 {
            return invalid(format!("`writev` was given a negative length in buffer {n}"));
        }
        if let Err(errno) = check_range(system, base, length) {
            return (errno.into(), refused_buffer(system, "writev", base, length, "read"));
        }
        let length = length.min(MAX_TRANSFER_BYTES - total);
        total += length;
        ranges.push((base, length));
    }
    if fd == 0 {
        return bad_descriptor(system, "writev", fd, OUTPUT_REMEDY);
    }
    match transfer(system, fd as u8, &ranges) {
        Ok(outcome) => (outcome, None),
        Err(errno) => {
            let bad = ranges
                .iter()
                .find(|(start, count)| usable_bytes(system, *start, *count, false) < *count);
            let reason = bad
                .copied()
                .and_then(|(start, count)| refused_buffer(system, "writev", start, count, "read"));
            (errno.into(), reason)
        }
    }
}

/// `close(2)`.
pub(crate) fn close(call: &mut Call, Fd(fd): Fd) -> Result<u64, Errno> {
    let (system, fd) = (&mut *call.system, u64::from(fd));
    if !system.process.is_open(fd) {
        return Err(Errno::EBADF);
    }
    system.process.close(fd);
    Ok(0)
}
