//! The table of system calls.

use sotto_isa::Arch;

use crate::abi::SyscallAbi;
use crate::arguments::{Argument, ArgumentKind};
use crate::calls::call::{Answer, Call};
use crate::calls::{files, identity, memory, signals, status, streams, threads, time};
use crate::target::target;

/// The numbers of a call on each machine that Linux has tables for and we speak of; `None` where there
/// is no such call.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
#[allow(missing_docs, reason = "the names are the machines'")]
pub struct Numbers {
    pub x86_64: Option<u64>,
    pub x86_32: Option<u64>,
    pub arm64: Option<u64>,
    pub arm32: Option<u64>,
}

/// A system call.
#[derive(Copy, Clone, Debug)]
pub struct SyscallRow {
    /// Its name, as in the man-pages.
    pub name: &'static str,
    /// Its numbers.
    pub numbers: Numbers,
    /// Its arguments: names and kinds.
    pub arguments: &'static [(&'static str, ArgumentKind)],
    /// One line in words.
    pub summary: &'static str,
    /// The function that carries it out, given its six registers.
    pub(crate) perform: fn(&mut Call, &[u64; 6]) -> Answer,
    /// What is modelled and what is not, and where the rules come from.
    pub details: &'static str,
}

/// A number of the table, or `_` for none.
macro_rules! number {
    (_) => {
        None
    };
    ($number:literal) => {
        Some($number)
    };
}

/// The next argument, in the type in which functions take one of its kind.
macro_rules! argument {
    ($kind:ident, $registers:ident) => {
        Argument::from_register($registers.next().unwrap_or_default())
    };
}

/// Makes the table.
///
/// ```text
/// /// Summary.            ->  SyscallRow { name: "close", arguments: &[("fd", ArgumentKind::Fd)],
/// /// Details.                             perform: |call, registers| streams::close(call, fd).into(), ... }
/// close { x86_64: 3, x86_32: 6, arm64: 57, arm32: 6 } (fd: Fd) => streams::close;
/// ```
macro_rules! syscalls {
    ($(
        #[doc = $summary:literal]
        $(#[doc = $details:literal])*
        $name:ident { x86_64: $x86_64:tt, x86_32: $x86_32:tt, arm64: $arm64:tt, arm32: $arm32:tt }
        ($($argument:ident: $kind:ident $(($index:literal))?),*) => $function:path;
    )*) => {
        /// Every system call that is modelled.
        pub const SYSCALLS: &[SyscallRow] = &[$(
            SyscallRow {
                name: stringify!($name),
                perform: |call, _arguments| {
                    let mut _rest = _arguments.iter().copied();
                    Answer::from($function(
                        call,
                        $(argument!($kind, _rest),)*
                    ))
                },
                numbers: Numbers {
                    x86_64: number!($x86_64),
                    x86_32: number!($x86_32),
                    arm64: number!($arm64),
                    arm32: number!($arm32),
                },
                arguments: &[$((stringify!($argument), ArgumentKind::$kind $(($index))?)),*],
                summary: $summary,
                details: concat!($($details, "\n"),*),
            },
        )*];
    };
}

syscalls! {
    /// Reads up to `count` bytes from the open file `fd` into `buf`.
    ///
    /// Returns the bytes read: 0 at the end of the input.
    /// Modelled: standard input. Not modelled: other files.
    /// Source: read(2).
    read { x86_64: 0, x86_32: 3, arm64: 63, arm32: 3 } (fd: Fd, buf: BytesOut, count: Count) => streams::read;

    /// Writes up to `count` bytes starting at `buf` to the open file `fd`.
    ///
    /// Returns the bytes written.
    /// Modelled: standard output and standard error. Not modelled: other files.
    /// Source: write(2).
    write { x86_64: 1, x86_32: 4, arm64: 64, arm32: 4 } (fd: Fd, buf: BytesIn(2), count: Count) => streams::write;

    /// Ends the calling thread with `status`.
    ///
    /// The program ends with its last thread.
    /// Source: _exit(2).
    exit { x86_64: 60, x86_32: 1, arm64: 93, arm32: 1 } (status: Status) => identity::exit;

    /// Ends all threads of the program with `status`.
    ///
    /// Source: exit_group(2).
    exit_group { x86_64: 231, x86_32: 252, arm64: 94, arm32: 248 } (status: Status) => identity::exit_group;

    /// Writes the `count` buffers that `vector` lists to the open file `fd`.
    ///
    /// Returns the bytes written.
    /// Modelled: standard output and standard error. Not modelled: other files.
    /// Source: writev(2).
    writev { x86_64: 20, x86_32: 146, arm64: 66, arm32: 146 } (fd: Fd, vector: Address, count: Number) => streams::writev;

    /// Closes the file `fd`.
    ///
    /// Modelled: the three streams, which stay open all the same.
    /// Source: close(2).
    close { x86_64: 3, x86_32: 6, arm64: 57, arm32: 6 } (fd: Fd) => streams::close;

    /// Tells about the open file `fd` in the structure at `status`.
    ///
    /// Modelled: the three streams, as pipes.
    /// Source: stat(2).
    fstat { x86_64: 5, x86_32: _, arm64: 80, arm32: _ } (fd: Fd, status: Address) => status::of_stream;

    /// Tells about the file `path`, from the folder `fd`, in the structure at `status`.
    ///
    /// Modelled: an open file named by an empty path. There are no other files: ENOENT.
    /// Source: stat(2).
    newfstatat { x86_64: 262, x86_32: _, arm64: 79, arm32: _ } (fd: Fd, path: Text, status: Address, flags: Bits) => status::of_path;

    /// Tells about the open file `fd` in the structure at `status`, with sizes of 64 bits.
    ///
    /// Modelled: the three streams, as pipes.
    /// Source: fstat64(2).
    fstat64 { x86_64: _, x86_32: 197, arm64: _, arm32: 197 } (fd: Fd, status: Address) => status::of_stream;

    /// Tells about the file `path`, from the folder `fd`, in the structure at `status`, with sizes of 64 bits.
    ///
    /// Modelled: an open file named by an empty path. There are no other files: ENOENT.
    /// Source: fstatat64(2).
    fstatat64 { x86_64: _, x86_32: 300, arm64: _, arm32: 327 } (fd: Fd, path: Text, status: Address, flags: Bits) => status::of_path;

    /// Tells what `mask` asks for about the file `path`, from the folder `fd`, in the structure at `status`.
    ///
    /// Modelled: an open file named by an empty path. There are no other files: ENOENT.
    /// Source: statx(2).
    statx { x86_64: 332, x86_32: 383, arm64: 291, arm32: 397 } (fd: Fd, path: Text, flags: Bits, mask: Bits, status: Address) => status::extended;

    /// Opens the file `path`, from the folder `fd`.
    ///
    /// Modelled: there are no files, so the answer is ENOENT.
    /// Source: open(2).
    openat { x86_64: 257, x86_32: 295, arm64: 56, arm32: 322 } (fd: Fd, path: Text, flags: Bits, mode: Bits) => files::openat;

    /// Opens the file `path`.
    ///
    /// Modelled: there are no files, so the answer is ENOENT.
    /// Source: open(2).
    open { x86_64: 2, x86_32: 5, arm64: _, arm32: 5 } (path: Text, flags: Bits, mode: Bits) => files::open;

    /// Asks whether the file `path` may be used.
    ///
    /// Modelled: there are no files, so the answer is ENOENT.
    /// Source: access(2).
    access { x86_64: 21, x86_32: 33, arm64: _, arm32: 33 } (path: Text, mode: Bits) => files::access;

    /// Reads where the symbolic link `path` leads.
    ///
    /// Modelled: there are no files, so the answer is ENOENT.
    /// Source: readlink(2).
    readlink { x86_64: 89, x86_32: 85, arm64: _, arm32: 85 } (path: Text, buf: Address, size: Count) => files::readlink;

    /// Reads where the symbolic link `path`, from the folder `fd`, leads.
    ///
    /// Modelled: there are no files, so the answer is ENOENT.
    /// Source: readlink(2).
    readlinkat { x86_64: 267, x86_32: 305, arm64: 78, arm32: 332 } (fd: Fd, path: Text, buf: Address, size: Count) => files::readlinkat;

    /// Moves the place in the file `fd` where reading and writing go on.
    ///
    /// Modelled: the three streams are pipes, so the answer is ESPIPE.
    /// Source: lseek(2).
    lseek { x86_64: 8, x86_32: 19, arm64: 62, arm32: 19 } (fd: Fd, offset: Number, from: Number) => files::lseek;

    /// Moves the place in the file `fd` where reading and writing go on, by an offset in two halves.
    ///
    /// Modelled: the three streams are pipes, so the answer is ESPIPE.
    /// Source: _llseek(2).
    _llseek { x86_64: _, x86_32: 140, arm64: _, arm32: 140 } (fd: Fd, high: Number, low: Number, result: Address, from: Number) => files::llseek;

    /// Asks the device behind the file `fd` for something.
    ///
    /// Modelled: the three streams are pipes and no terminals, so the answer is ENOTTY.
    /// Source: ioctl(2).
    ioctl { x86_64: 16, x86_32: 54, arm64: 29, arm32: 54 } (fd: Fd, request: Bits, argument: Address) => files::ioctl;

    /// Moves the end of the heap to `end`, and returns where it is.
    ///
    /// The heap starts on the page after the program's data. An end that cannot be had changes nothing.
    /// Source: brk(2), "C library/kernel differences".
    brk { x86_64: 12, x86_32: 45, arm64: 214, arm32: 45 } (end: Address) => memory::brk;

    /// Maps `length` bytes of memory, at `address` if it is given and free.
    ///
    /// Modelled: memory that no file is behind. Not modelled: files.
    /// Source: mmap(2).
    mmap { x86_64: 9, x86_32: _, arm64: 222, arm32: _ } (address: Address, length: Count, protection: Bits, flags: Bits, fd: Fd, offset: Number) => memory::map;

    /// Maps `length` bytes of memory, at `address` if it is given and free; `offset` counts pages.
    ///
    /// Modelled: memory that no file is behind. Not modelled: files.
    /// Source: mmap2(2).
    mmap2 { x86_64: _, x86_32: 192, arm64: _, arm32: 192 } (address: Address, length: Count, protection: Bits, flags: Bits, fd: Fd, offset: Number) => memory::map;

    /// Takes the pages of `length` bytes from `address` away.
    ///
    /// Source: munmap(2).
    munmap { x86_64: 11, x86_32: 91, arm64: 215, arm32: 91 } (address: Address, length: Count) => memory::unmap;

    /// Changes what the pages of `length` bytes from `address` may be used for.
    ///
    /// Source: mprotect(2).
    mprotect { x86_64: 10, x86_32: 125, arm64: 226, arm32: 125 } (address: Address, length: Count, protection: Bits) => memory::protect;

    /// Resizes the mapping at `address`, moving it if it must and may be moved.
    ///
    /// Source: mremap(2).
    mremap { x86_64: 25, x86_32: 163, arm64: 216, arm32: 163 } (address: Address, old_length: Count, length: Count, flags: Bits) => memory::remap;

    /// Advises the kernel about the pages of `length` bytes from `address`.
    ///
    /// Modelled: advice is taken and changes nothing.
    /// Source: madvise(2).
    madvise { x86_64: 28, x86_32: 219, arm64: 233, arm32: 220 } (address: Address, length: Count, advice: Number) => memory::madvise;

    /// Sets or reads the base of the segment FS or GS, as `code` says.
    ///
    /// Source: arch_prctl(2).
    arch_prctl { x86_64: 158, x86_32: _, arm64: _, arm32: _ } (code: Bits, address: Address) => threads::arch_prctl;

    /// Describes a segment of the thread's own: the structure at `description` tells which and where.
    ///
    /// Modelled: the base; the limit is that of all memory.
    /// Source: set_thread_area(2).
    set_thread_area { x86_64: 205, x86_32: 243, arm64: _, arm32: _ } (description: Address) => threads::set_thread_area;

    /// Says where to clear and wake when the thread ends, and returns its number.
    ///
    /// Modelled: the number; there is one thread.
    /// Source: set_tid_address(2).
    set_tid_address { x86_64: 218, x86_32: 258, arm64: 96, arm32: 256 } (address: Address) => threads::set_tid_address;

    /// Says where the thread keeps the list of its locks.
    ///
    /// Modelled: accepted, and never looked at; there is one thread.
    /// Source: set_robust_list(2).
    set_robust_list { x86_64: 273, x86_32: 311, arm64: 99, arm32: 338 } (head: Address, length: Count) => threads::set_robust_list;

    /// Registers the area through which the kernel tells on which processor the thread runs.
    ///
    /// Modelled: it is told once that it is processor 0.
    /// Source: rseq(2).
    rseq { x86_64: 334, x86_32: 386, arm64: 293, arm32: 398 } (area: Address, length: Count, flags: Bits, signature: Bits) => threads::rseq;

    /// Reads or sets a limit of the process.
    ///
    /// Modelled: reading; the stack has 8 MiB, nothing else is limited. Setting is accepted and forgotten.
    /// Source: prlimit(2).
    prlimit64 { x86_64: 302, x86_32: 340, arm64: 261, arm32: 369 } (pid: Number, resource: Number, new: Address, old: Address) => threads::prlimit64;

    /// Reads a limit of the process.
    ///
    /// Modelled: the stack has 8 MiB, nothing else is limited.
    /// Source: getrlimit(2).
    ugetrlimit { x86_64: _, x86_32: 191, arm64: _, arm32: 191 } (resource: Number, limits: Address) => threads::ugetrlimit;

    /// Fills `buf` with `count` random bytes.
    ///
    /// They come from the seed of the run.
    /// Source: getrandom(2).
    getrandom { x86_64: 318, x86_32: 355, arm64: 278, arm32: 384 } (buf: BytesOut, count: Count, flags: Bits) => threads::getrandom;

    /// Waits at, or wakes those who wait at, the word at `address`.
    ///
    /// Modelled: nobody waits, since there is one thread; waking wakes none, and waiting fails.
    /// Source: futex(2).
    futex { x86_64: 202, x86_32: 240, arm64: 98, arm32: 240 } (address: Address, operation: Number, value: Number) => threads::futex;

    /// Tells the time of a clock in the structure at `time`.
    ///
    /// One instruction takes a nanosecond; the day begins with the first, on 2026-01-01 at 00:00 UTC.
    /// Source: clock_gettime(2).
    clock_gettime { x86_64: 228, x86_32: 265, arm64: 113, arm32: 263 } (clock: Number, time: Address) => time::clock_gettime;

    /// Tells the time of a clock in the structure at `time`, with seconds of 64 bits.
    ///
    /// One instruction takes a nanosecond; the day begins with the first, on 2026-01-01 at 00:00 UTC.
    /// Source: clock_gettime(2).
    clock_gettime64 { x86_64: _, x86_32: 403, arm64: _, arm32: 403 } (clock: Number, time: Address) => time::clock_gettime64;

    /// Waits at, or wakes those who wait at, the word at `address`, with a time of 64 bits.
    ///
    /// Modelled: as futex.
    /// Source: futex(2).
    futex_time64 { x86_64: _, x86_32: 422, arm64: _, arm32: 422 } (address: Address, operation: Number, value: Number) => threads::futex;

    /// Tells the time of day in the structure at `time`.
    ///
    /// One instruction takes a nanosecond; the day begins with the first, on 2026-01-01 at 00:00 UTC.
    /// Source: gettimeofday(2).
    gettimeofday { x86_64: 96, x86_32: 78, arm64: 169, arm32: 78 } (time: Address, zone: Address) => time::gettimeofday;

    /// Waits for as long as the structure at `time` says.
    ///
    /// The time passes at once, unless other threads use it. Nothing interrupts the wait, so that `remaining` is not written.
    /// Source: nanosleep(2).
    nanosleep { x86_64: 35, x86_32: 162, arm64: 101, arm32: 162 } (time: Address, remaining: Address) => time::nanosleep;

    /// Waits for as long as the structure at `time` says, or up to that time of a clock.
    ///
    /// The time passes at once, unless other threads use it. Nothing interrupts the wait, so that `remaining` is not written.
    /// Source: clock_nanosleep(2).
    clock_nanosleep { x86_64: 230, x86_32: 267, arm64: 115, arm32: 265 } (clock: Number, flags: Bits, time: Address, remaining: Address) => time::clock_nanosleep;

    /// Waits for as long as the structure at `time` says, or up to that time of a clock, with seconds of 64 bits.
    ///
    /// The time passes at once, unless other threads use it. Nothing interrupts the wait, so that `remaining` is not written.
    /// Source: clock_nanosleep(2).
    clock_nanosleep_time64 { x86_64: _, x86_32: 407, arm64: _, arm32: 407 } (clock: Number, flags: Bits, time: Address, remaining: Address) => time::clock_nanosleep64;

    /// Changes or reads what is done at a signal.
    ///
    /// Modelled: accepted and told back as the default; a handler is never called.
    /// Source: sigaction(2).
    rt_sigaction { x86_64: 13, x86_32: 174, arm64: 134, arm32: 174 } (signal: Signal, new: Address, old: Address, size: Count) => signals::rt_sigaction;

    /// Changes or reads which signals are held back.
    ///
    /// Modelled: accepted and told back as none.
    /// Source: sigprocmask(2).
    rt_sigprocmask { x86_64: 14, x86_32: 175, arm64: 135, arm32: 175 } (how: Number, new: Address, old: Address, size: Count) => signals::rt_sigprocmask;

    /// Says on which stack handlers of signals run.
    ///
    /// Modelled: accepted; a handler is never called.
    /// Source: sigaltstack(2).
    sigaltstack { x86_64: 131, x86_32: 186, arm64: 132, arm32: 186 } (new: Address, old: Address) => signals::sigaltstack;

    /// Sends a signal to a thread of a process.
    ///
    /// Modelled: a signal to itself, which ends the program.
    /// Source: tgkill(2).
    tgkill { x86_64: 234, x86_32: 270, arm64: 131, arm32: 268 } (pid: Number, tid: Number, signal: Signal) => signals::tgkill;

    /// Sends a signal to a process.
    ///
    /// Modelled: a signal to itself, which ends the program.
    /// Source: kill(2).
    kill { x86_64: 62, x86_32: 37, arm64: 129, arm32: 37 } (pid: Number, signal: Signal) => signals::kill;

    /// Returns the number of the process, which is 1000.
    ///
    /// Source: getpid(2).
    getpid { x86_64: 39, x86_32: 20, arm64: 172, arm32: 20 } () => identity::process_number;

    /// Returns the number of the thread; that of the first is the number of the process.
    ///
    /// Source: gettid(2).
    gettid { x86_64: 186, x86_32: 224, arm64: 178, arm32: 224 } () => identity::task_number;

    /// Returns the number of the user, which is 1000.
    ///
    /// Source: getuid(2).
    getuid { x86_64: 102, x86_32: 199, arm64: 174, arm32: 199 } () => identity::user_number;

    /// Returns the number of the user with whose rights the program runs, which is 1000.
    ///
    /// Source: getuid(2).
    geteuid { x86_64: 107, x86_32: 201, arm64: 175, arm32: 201 } () => identity::user_number;

    /// Returns the number of the group, which is 1000.
    ///
    /// Source: getgid(2).
    getgid { x86_64: 104, x86_32: 200, arm64: 176, arm32: 200 } () => identity::user_number;

    /// Returns the number of the group with whose rights the program runs, which is 1000.
    ///
    /// Source: getgid(2).
    getegid { x86_64: 108, x86_32: 202, arm64: 177, arm32: 202 } () => identity::user_number;

    /// Lets other threads run.
    ///
    /// Modelled: there are none.
    /// Source: sched_yield(2).
    sched_yield { x86_64: 24, x86_32: 158, arm64: 124, arm32: 158 } () => threads::sched_yield;

    /// Tells the names of the system and of the machine in the structure at `names`.
    ///
    /// Source: uname(2).
    uname { x86_64: 63, x86_32: 122, arm64: 160, arm32: 122 } (names: Address) => identity::uname;
}

impl SyscallRow {
    /// Its number on a machine that we run.
    pub fn number(&self, arch: Arch) -> Option<u64> {
        self.number_in(target(arch).abi)
    }

    /// Its number in an ABI.
    pub fn number_in(&self, abi: SyscallAbi) -> Option<u64> {
        match abi {
            SyscallAbi::X86_64 => self.numbers.x86_64,
            SyscallAbi::X86_32 => self.numbers.x86_32,
            SyscallAbi::Arm64 => self.numbers.arm64,
        }
    }
}

/// The call with this number.
pub fn by_number(abi: SyscallAbi, number: u64) -> Option<&'static SyscallRow> {
    SYSCALLS.iter().find(|row| row.number_in(abi) == Some(number))
}

/// The call with this name.
pub fn by_name(name: &str) -> Option<&'static SyscallRow> {
    SYSCALLS.iter().find(|row| row.name == name)
}

/// Calls that have this number on another machine: the machine's name, and the call.
pub fn elsewhere(abi: SyscallAbi, number: u64) -> Vec<(&'static str, &'static SyscallRow)> {
    let mut found = Vec::new();
    for row in SYSCALLS {
        let Numbers { x86_64, x86_32, arm64, arm32 } = row.numbers;
        let others = [
            ("x86-64", x86_64, abi == SyscallAbi::X86_64),
            ("32-bit x86", x86_32, abi == SyscallAbi::X86_32),
            ("arm64", arm64, abi == SyscallAbi::Arm64),
            ("32-bit ARM", arm32, false),
        ];
        for (name, n, own) in others {
            if n == Some(number) && !own && row.number_in(abi) != n {
                found.push((name, row));
            }
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_unique_on_each_machine_and_lead_back_to_their_row() {
        for &arch in Arch::ALL {
            for row in SYSCALLS {
                let Some(number) = row.number(arch) else { continue };
                let found = by_number(target(arch).abi, number).map(|r| r.name);
                assert_eq!(found, Some(row.name));
            }
        }
        assert!(by_number(SyscallAbi::X86_64, 4).is_none());
        let names: Vec<_> =
            elsewhere(SyscallAbi::X86_64, 4).iter().map(|(m, r)| (*m, r.name)).collect();
        assert_eq!(names, [("32-bit x86", "write"), ("32-bit ARM", "write")]);
    }
}
