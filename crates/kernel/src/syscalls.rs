//! What system calls do, shared by all machines.

use sotto_isa::Storage;
use sotto_machine::{Fault, Signal};

use crate::Errno;
use crate::process::{Ending, Process};
use crate::report::Notice;
use crate::table::{Door, Syscall};
use crate::{memory, status};

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
    door: Door,
    arguments: &[u64],
) -> (Outcome, Option<Notice>) {
    let [a, b, c, d, e, ..] = *arguments else { unreachable!("there are six arguments") };
    let plain = |outcome: Result<u64, Errno>| {
        let outcome = match outcome {
            Ok(value) => Outcome::Returned(value as i64),
            Err(errno) => errno.into(),
        };
        (outcome, None)
    };
    match call {
        Syscall::read => read(process, arguments[0], arguments[1], arguments[2]),
        Syscall::write => write(process, arguments[0], arguments[1], arguments[2]),
        Syscall::exit | Syscall::exit_group => {
            (Outcome::Ended(Ending::Exited(arguments[0] as u8 as i32)), None)
        }
        Syscall::writev => plain(writev(process, door, a, b, c)),
        Syscall::close | Syscall::lseek | Syscall::_llseek | Syscall::ioctl if a as u32 > 2 => {
            plain(Err(Errno::EBADF))
        }
        Syscall::close => plain(Ok(0)),
        Syscall::lseek | Syscall::_llseek => plain(Err(Errno::ESPIPE)),
        Syscall::ioctl => plain(Err(Errno::ENOTTY)),
        Syscall::fstat | Syscall::fstat64 => plain(status::of_stream(process, door, a, b)),
        Syscall::newfstatat | Syscall::fstatat64 => {
            plain(status::of_path(process, door, [a, b, c, d]))
        }
        Syscall::statx => plain(status::extended(process, [a, b, c, e])),
        Syscall::openat
        | Syscall::open
        | Syscall::access
        | Syscall::readlink
        | Syscall::readlinkat => plain(Err(Errno::ENOENT)),
        Syscall::brk => plain(Ok(memory::brk(process, a))),
        Syscall::mmap | Syscall::mmap2 => memory::map(process, arguments),
        Syscall::munmap => plain(memory::unmap(process, a, b)),
        Syscall::mprotect => plain(memory::protect(process, a, b, c)),
        Syscall::mremap => plain(memory::remap(process, a, b, c, d)),
        Syscall::madvise | Syscall::set_robust_list | Syscall::sched_yield => plain(Ok(0)),
        Syscall::arch_prctl => plain(arch_prctl(process, a, b)),
        Syscall::set_thread_area => plain(thread_segment(process, a)),
        Syscall::set_tid_address | Syscall::getpid | Syscall::gettid => plain(Ok(PROCESS)),
        // The fields that tell the number of the processor. Source: rseq(2).
        Syscall::rseq => plain(put(process, a, &[0; 8]).map(|()| 0)),
        Syscall::prlimit64 => plain(limit(process, 8, b, d)),
        Syscall::ugetrlimit => plain(limit(process, word_bytes(door), a, b)),
        Syscall::getrandom => plain(random(process, a, b)),
        Syscall::futex | Syscall::futex_time64 => plain(futex(process, a, b, c)),
        Syscall::clock_gettime => plain(time(process, word_bytes(door), b, 1)),
        Syscall::clock_gettime64 => plain(time(process, 8, b, 1)),
        Syscall::gettimeofday => plain(time(process, word_bytes(door), a, 1000)),
        // What was there before is told as zeros: the default action, and no signal held back.
        Syscall::rt_sigaction => plain(told_as_zeros(process, c, 8 + 3 * word_bytes(door))),
        Syscall::rt_sigprocmask => plain(told_as_zeros(process, c, 8)),
        Syscall::sigaltstack => plain(told_as_zeros(process, b, 3 * word_bytes(door))),
        Syscall::tgkill => signal(b, c),
        Syscall::kill => signal(a, b),
        Syscall::getuid | Syscall::geteuid | Syscall::getgid | Syscall::getegid => plain(Ok(USER)),
        Syscall::uname => plain(names(process, a)),
    }
}

/// The number of the process, of its one thread, of its user and group.
const PROCESS: u64 = 1000;
const USER: u64 = 1000;

/// Puts bytes into the program's memory.
pub(crate) fn put(process: &mut Process, address: u64, bytes: &[u8]) -> Result<(), Errno> {
    process.machine.memory_mut().write_bytes(address, bytes).map_err(|_| Errno::EFAULT)
}

/// The width of an address at a door, in bytes.
fn word_bytes(door: Door) -> usize {
    if door == Door::X86_32 { 4 } else { 8 }
}

/// Words in the order of memory, of so many bytes.
fn words(bytes: usize, values: &[u64]) -> Vec<u8> {
    values.iter().flat_map(|value| value.to_le_bytes()[..bytes].to_vec()).collect()
}

fn told_as_zeros(process: &mut Process, address: u64, bytes: usize) -> Result<u64, Errno> {
    if address != 0 {
        put(process, address, &vec![0; bytes])?;
    }
    Ok(0)
}

fn writev(
    process: &mut Process,
    door: Door,
    fd: u64,
    vector: u64,
    count: u64,
) -> Result<u64, Errno> {
    let width = word_bytes(door);
    // IOV_MAX. Source: writev(2).
    if count > 1024 {
        return Err(Errno::EINVAL);
    }
    let mut total = 0;
    for n in 0..count {
        let mut entry = vec![0; 2 * width];
        let at = vector.wrapping_add(n * 2 * width as u64);
        process.machine.memory_mut().read_bytes(at, &mut entry).map_err(|_| Errno::EFAULT)?;
        let word = |bytes: &[u8]| {
            bytes.iter().rev().fold(0u64, |value, byte| value << 8 | u64::from(*byte))
        };
        let (base, length) = (word(&entry[..width]), word(&entry[width..]));
        match write(process, fd, base, length).0 {
            Outcome::Returned(written @ 0..) => total += written as u64,
            Outcome::Returned(_) if total > 0 => break,
            Outcome::Returned(error) => {
                return Err(Errno::of_result(error).unwrap_or(Errno::EFAULT));
            }
            _ => unreachable!("a write returns"),
        }
    }
    Ok(total)
}

/// Codes of arch_prctl. Source: arch_prctl(2), <asm/prctl.h>.
const ARCH_SET_GS: u64 = 0x1001;
const ARCH_SET_FS: u64 = 0x1002;
const ARCH_GET_FS: u64 = 0x1003;
const ARCH_GET_GS: u64 = 0x1004;

fn arch_prctl(process: &mut Process, code: u64, address: u64) -> Result<u64, Errno> {
    // Storage of the segment bases: see [`Storage`].
    let (fs, gs) = (Storage(17), Storage(18));
    match code {
        ARCH_SET_FS => process.machine.set_register(fs, address),
        ARCH_SET_GS => process.machine.set_register(gs, address),
        ARCH_GET_FS | ARCH_GET_GS => {
            let base = process.machine.register(if code == ARCH_GET_FS { fs } else { gs });
            put(process, address, &base.to_le_bytes())?;
        }
        _ => return Err(Errno::EINVAL),
    }
    Ok(0)
}

/// The first of the segments that a thread describes for itself, and how many there are.
/// Source: <asm/segment.h>.
const FIRST_THREAD_ENTRY: u32 = 12;
const THREAD_ENTRIES: u32 = 3;

/// The structure holds the number of the segment, its base, its limit and its kind. A number of -1 asks
/// for one that is free, which is told in its place. Source: set_thread_area(2).
fn thread_segment(process: &mut Process, description: u64) -> Result<u64, Errno> {
    let mut words = [0; 8];
    process.machine.memory_mut().read_bytes(description, &mut words).map_err(|_| Errno::EFAULT)?;
    let word =
        |at: usize| u32::from_le_bytes([words[at], words[at + 1], words[at + 2], words[at + 3]]);
    let (number, base) = (word(0), word(4));
    // Storage of the bases: see [`Storage`].
    let storage = |entry: u32| Storage(22 + entry as u8);
    let entry = match number {
        u32::MAX => {
            let free = |entry: &u32| process.machine.register(storage(*entry)) == 0;
            let entry = (0..THREAD_ENTRIES).find(free).ok_or(Errno::ESRCH)?;
            put(process, description, &(FIRST_THREAD_ENTRY + entry).to_le_bytes())?;
            entry
        }
        _ => {
            let entry = number.checked_sub(FIRST_THREAD_ENTRY).ok_or(Errno::EINVAL)?;
            if entry >= THREAD_ENTRIES {
                return Err(Errno::EINVAL);
            }
            entry
        }
    };
    process.machine.set_register(storage(entry), 1 << 32 | u64::from(base));
    Ok(0)
}

/// Resource of the stack's size, and "no limit". Source: getrlimit(2), <sys/resource.h>.
const RLIMIT_STACK: u64 = 3;
const RLIM_INFINITY: u64 = u64::MAX;

fn limit(process: &mut Process, width: usize, resource: u64, old: u64) -> Result<u64, Errno> {
    if old != 0 {
        let soft = if resource == RLIMIT_STACK { crate::load::STACK_BYTES } else { RLIM_INFINITY };
        put(process, old, &words(width, &[soft, RLIM_INFINITY]))?;
    }
    Ok(0)
}

fn random(process: &mut Process, buffer: u64, count: u64) -> Result<u64, Errno> {
    // As much as one call gives without being interrupted. Source: getrandom(2).
    let count = count.min(1 << 20) as usize;
    let mut bytes = Vec::with_capacity(count + 8);
    while bytes.len() < count {
        bytes.extend(process.machine.next_random().to_le_bytes());
    }
    put(process, buffer, &bytes[..count])?;
    Ok(count as u64)
}

/// Operations of futex. Source: futex(2), <linux/futex.h>.
const FUTEX_WAIT: u64 = 0;
const FUTEX_WAIT_BITSET: u64 = 9;
const FUTEX_COMMAND: u64 = 0x7f;

fn futex(process: &mut Process, address: u64, operation: u64, value: u64) -> Result<u64, Errno> {
    if !matches!(operation & FUTEX_COMMAND, FUTEX_WAIT | FUTEX_WAIT_BITSET) {
        return Ok(0);
    }
    let mut word = [0; 4];
    process.machine.memory_mut().read_bytes(address, &mut word).map_err(|_| Errno::EFAULT)?;
    Err(if u32::from_le_bytes(word) == value as u32 { Errno::EDEADLK } else { Errno::EAGAIN })
}

/// 2026-01-01 00:00 UTC, in seconds of the clock that counts from 1970.
const START_SECONDS: u64 = 1_767_225_600;

/// The time in seconds and in parts of `unit` nanoseconds.
fn time(process: &mut Process, width: usize, address: u64, unit: u64) -> Result<u64, Errno> {
    if address != 0 {
        let now = process.executed();
        let seconds = START_SECONDS + now / 1_000_000_000;
        put(process, address, &words(width, &[seconds, now % 1_000_000_000 / unit]))?;
    }
    Ok(0)
}

fn signal(to: u64, number: u64) -> (Outcome, Option<Notice>) {
    let (to, number) = (to as i32, number as u32);
    if to != PROCESS as i32 && to != 0 {
        let message = format!("a signal to {to}, which is not this program");
        return (Errno::EINVAL.into(), notice(message, "this program is 1000"));
    }
    match Signal::from_number(number.into()) {
        Some(signal) => (Outcome::Ended(Ending::Killed(signal, Fault::Raised(signal))), None),
        None if number == 0 => (Outcome::Returned(0), None),
        None => (Errno::EINVAL.into(), None),
    }
}

/// The structure of uname: six names of 65 bytes. Source: uname(2).
fn names(process: &mut Process, address: u64) -> Result<u64, Errno> {
    let machine = crate::load::platform(process.arch());
    let mut bytes = Vec::new();
    for name in ["Linux", "skerry", "6.1.0", "#1 Sotto", machine, "(none)"] {
        let start = bytes.len();
        bytes.extend(name.as_bytes());
        bytes.resize(start + 65, 0);
    }
    put(process, address, &bytes)?;
    Ok(0)
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
