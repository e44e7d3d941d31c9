//! What system calls do, shared by all machines.

use sotto_isa::x86::storage;
use sotto_machine::{Fault, Signal};

use crate::Errno;
use crate::calls::{memory, status, streams};
use crate::process::{Process, Termination};
use crate::report::Notice;
use crate::table::{Syscall, SyscallAbi};
use crate::target::target;

/// What came of a call.
pub(crate) enum Outcome {
    /// It returned this.
    Returned(i64),
    /// It cannot go on before there is input.
    NeedsInput,
    /// It has transferred a part, and goes on with the rest when it is made again.
    Unfinished,
    /// The program ended.
    Terminated(Termination),
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
    abi: SyscallAbi,
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
        Syscall::read => streams::read(process, a, b, c),
        Syscall::write => streams::write(process, a, b, c),
        Syscall::exit | Syscall::exit_group => {
            (Outcome::Terminated(Termination::Exited(arguments[0] as u8 as i32)), None)
        }
        Syscall::writev => streams::writev(process, abi, a, b, c),
        Syscall::close => plain(streams::close(process, a)),
        Syscall::lseek | Syscall::_llseek | Syscall::ioctl if !process.is_open(a) => {
            plain(Err(Errno::EBADF))
        }
        Syscall::lseek | Syscall::_llseek => plain(Err(Errno::ESPIPE)),
        Syscall::ioctl => plain(Err(Errno::ENOTTY)),
        Syscall::fstat | Syscall::fstat64 => plain(status::of_stream(process, abi, a, b)),
        Syscall::newfstatat | Syscall::fstatat64 => {
            plain(status::of_path(process, abi, [a, b, c, d]))
        }
        Syscall::statx => plain(status::extended(process, [a, b, c, e])),
        Syscall::openat => plain(no_file(process, b)),
        Syscall::open => plain(no_file(process, a)),
        Syscall::access if b & !7 != 0 => plain(Err(Errno::EINVAL)),
        Syscall::access => plain(no_file(process, a)),
        Syscall::readlink if (c as i32) <= 0 => plain(Err(Errno::EINVAL)),
        Syscall::readlink => plain(no_file(process, a)),
        Syscall::readlinkat if (d as i32) <= 0 => plain(Err(Errno::EINVAL)),
        Syscall::readlinkat => plain(no_file(process, b)),
        Syscall::brk => {
            let now = memory::brk(process, a);
            let notice = memory::over_limit(process, "brk", a.saturating_sub(now));
            (Outcome::Returned(now as i64), notice)
        }
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
        Syscall::ugetrlimit => plain(limit(process, abi.word_bytes(), a, b)),
        Syscall::getrandom => plain(random(process, a, b)),
        Syscall::futex | Syscall::futex_time64 => plain(futex(process, a, b, c)),
        Syscall::clock_gettime | Syscall::clock_gettime64 if !is_clock(a) => {
            plain(Err(Errno::EINVAL))
        }
        Syscall::clock_gettime => plain(time(process, abi.word_bytes(), b, 1)),
        Syscall::clock_gettime64 => plain(time(process, 8, b, 1)),
        Syscall::gettimeofday if a == 0 => plain(Ok(0)),
        Syscall::gettimeofday => plain(time(process, abi.word_bytes(), a, 1000)),
        // What was there before is told as zeros: the default action, and no signal held back.
        Syscall::rt_sigaction => plain(told_as_zeros(process, c, 8 + 3 * abi.word_bytes())),
        Syscall::rt_sigprocmask => plain(told_as_zeros(process, c, 8)),
        Syscall::sigaltstack => plain(told_as_zeros(process, b, 3 * abi.word_bytes())),
        Syscall::tgkill => signal_thread(a, b, c),
        Syscall::kill => signal_process(a, b),
        Syscall::getuid | Syscall::geteuid | Syscall::getgid | Syscall::getegid => plain(Ok(USER)),
        Syscall::uname => plain(names(process, a)),
    }
}

/// The number of the process, of its one thread, of its user and group.
const PROCESS: u64 = 1000;
const USER: u64 = 1000;

/// Puts bytes into the program's memory, all of them or none.
pub(crate) fn put(process: &mut Process, address: u64, bytes: &[u8]) -> Result<(), Errno> {
    process.write_guest(address, bytes)
}

/// Longest path with its zero byte. Source: <limits.h>, PATH_MAX.
const MAX_PATH_BYTES: u64 = 4096;

/// A path that ends with a zero byte.
///
/// # Errors
///
/// EFAULT if it cannot be read, ENAMETOOLONG if it is longer than a path may be.
pub(crate) fn read_path(process: &mut Process, address: u64) -> Result<Vec<u8>, Errno> {
    let mut path = Vec::new();
    for at in 0..MAX_PATH_BYTES {
        let byte = process.machine.memory_mut().read::<1>(address.wrapping_add(at));
        match byte.map_err(|_| Errno::EFAULT)? {
            [0] => return Ok(path),
            [byte] => path.push(byte),
        }
    }
    Err(Errno::ENAMETOOLONG)
}

/// There are no files.
fn no_file(process: &mut Process, path: u64) -> Result<u64, Errno> {
    read_path(process, path)?;
    Err(Errno::ENOENT)
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

/// Codes of arch_prctl. Source: arch_prctl(2), <asm/prctl.h>.
const ARCH_SET_GS: u64 = 0x1001;
const ARCH_SET_FS: u64 = 0x1002;
const ARCH_GET_FS: u64 = 0x1003;
const ARCH_GET_GS: u64 = 0x1004;

fn arch_prctl(process: &mut Process, code: u64, address: u64) -> Result<u64, Errno> {
    let (fs, gs) = (storage::FS_BASE, storage::GS_BASE);
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
const THREAD_ENTRIES: u32 = storage::THREAD_SEGMENTS as u32;

/// The structure holds the number of the segment, its base, its limit and its kind. A number of -1 asks
/// for one that is free, which is told in its place. Source: set_thread_area(2).
fn thread_segment(process: &mut Process, description: u64) -> Result<u64, Errno> {
    let mut words = [0; 8];
    process.machine.memory_mut().read_bytes(description, &mut words).map_err(|_| Errno::EFAULT)?;
    let word =
        |at: usize| u32::from_le_bytes([words[at], words[at + 1], words[at + 2], words[at + 3]]);
    let (number, base) = (word(0), word(4));
    let storage = |entry: u32| storage::thread_segment(entry as u8);
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
    match process.copy_out(buffer, &bytes[..count]) {
        0 if count > 0 => Err(Errno::EFAULT),
        copied => Ok(copied as u64),
    }
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

/// Whether there is a clock of this number. Source: clock_gettime(2), <linux/time.h>.
fn is_clock(number: u64) -> bool {
    matches!(number as u32, 0..=9 | 11)
}

/// The time in seconds and in parts of `unit` nanoseconds.
fn time(process: &mut Process, width: usize, address: u64, unit: u64) -> Result<u64, Errno> {
    let now = process.executed();
    let seconds = START_SECONDS + now / 1_000_000_000;
    put(process, address, &words(width, &[seconds, now % 1_000_000_000 / unit]))?;
    Ok(0)
}

/// Highest number of a signal. Source: signal(7), "Real-time signals".
const LAST_SIGNAL: u32 = 64;

/// `kill(2)`: a positive number names a process, 0 and the negated number of a group that group, -1 every other
/// process.
fn signal_process(to: u64, number: u64) -> (Outcome, Option<Notice>) {
    match to as i32 as i64 {
        0 => signal(number),
        to if to.unsigned_abs() == PROCESS => signal(number),
        to => no_such_process(to),
    }
}

/// `tgkill(2)`.
fn signal_thread(process: u64, thread: u64, number: u64) -> (Outcome, Option<Notice>) {
    match (process as i32 as i64, thread as i32 as i64) {
        (..=0, _) | (_, ..=0) => (Errno::EINVAL.into(), None),
        (process, thread) if [process, thread] == [PROCESS as i64; 2] => signal(number),
        (_, thread) => no_such_process(thread),
    }
}

fn no_such_process(to: i64) -> (Outcome, Option<Notice>) {
    let message = format!("a signal to {to}, which is not this program");
    (Errno::ESRCH.into(), notice(message, "this program is 1000"))
}

/// Sends the program itself a signal.
fn signal(number: u64) -> (Outcome, Option<Notice>) {
    let number = number as u32;
    if number > LAST_SIGNAL {
        return (Errno::EINVAL.into(), None);
    }
    match Signal::from_number(number.into()) {
        // Source: signal(7), "Standard signals", the column "Action".
        Some(signal) if signal.is_ignored() => (Outcome::Returned(0), None),
        Some(signal) if !signal.stops() => {
            (Outcome::Terminated(Termination::Killed(signal, Fault::Raised(signal))), None)
        }
        None if number == 0 => (Outcome::Returned(0), None),
        _ => {
            let message = format!(
                "signal {number} stops a program or is a real-time signal, which is not modelled"
            );
            (
                Outcome::Returned(0),
                notice(message, "the program goes on as if it had not been sent"),
            )
        }
    }
}

/// The structure of uname: six names of 65 bytes. Source: uname(2).
fn names(process: &mut Process, address: u64) -> Result<u64, Errno> {
    let machine = target(process.arch()).platform;
    let mut bytes = Vec::new();
    for name in ["Linux", "skerry", "6.1.0", "#1 Sotto", machine, "(none)"] {
        let start = bytes.len();
        bytes.extend(name.as_bytes());
        bytes.resize(start + 65, 0);
    }
    put(process, address, &bytes)?;
    Ok(0)
}

pub(crate) fn notice(message: String, help: &str) -> Option<Notice> {
    Some(Notice { message, help: Some(help.to_string()) })
}
