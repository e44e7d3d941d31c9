//! The table of system calls.

use std::sync::OnceLock;

use sotto_isa::Arch;

use crate::abi::SyscallAbi;
use crate::arguments::{
    ACCESS, AF, ARCH, AT, AT_ACCESS, AT_REMOVE, Argument, ArgumentKind, CLOCK, CLOSE_RANGE, EFD,
    EPOLL, EPOLL_CTL, FALLOC, FCNTL, FUTEX, IOCTL, ITIMER, LOCK, MADV, MAP, MCL, MFD, MREMAP, MS,
    MSG, PIDFD, PIPE, PRCTL, PROT, RENAME, RLIMIT, RWF, SEEK, SFD, SHUT, SIG, SOCK, SOCKETCALL,
    SOL, TFD, TIMER, XATTR,
};
use crate::calls::call::{Answer, Call};
use crate::calls::cloning::CLONE;
use crate::calls::{
    attributes, cloning, copies, descriptors, epoll, events, futex, identity, limits, memory,
    messages, paths, pidfds, pipes, polling, programs, scheduling, signals, socket_options,
    sockets, status, threads, time, timers, transfers, users, waiting,
};
use crate::structures::Structure;
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
    /// What it returns is an address.
    pub returns_address: bool,
    /// One line in words.
    pub summary: &'static str,
    /// Which of its arguments count, given all of them: a bit for each. The others are neither looked at nor shown.
    pub(crate) counts: fn(SyscallAbi, &[u64; 6]) -> u8,
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
    // Where registers have 64 bits there are no upper halves.
    (High, $registers:ident, $call:ident) => {
        match $call.abi.word_bytes() {
            8 => 0,
            _ => $registers.next().unwrap_or_default(),
        }
    };
    ($kind:ident, $registers:ident, $call:ident) => {
        Argument::from_register($registers.next().unwrap_or_default())
    };
}

/// Which arguments count: all, unless a function says.
macro_rules! counts {
    () => {
        |_, _| u8::MAX
    };
    ($counts:path) => {
        $counts
    };
}

/// Makes the table. What stands behind `counting` says which arguments count.
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
        ($($argument:ident: $kind:ident $(($detail:expr))?),*) $(-> $returns:ident)? => $function:path $(, counting $counts:path)?;
    )*) => {
        /// Every system call that is modelled.
        pub const SYSCALLS: &[SyscallRow] = &[$(
            SyscallRow {
                name: stringify!($name),
                perform: |call, _arguments| {
                    let mut _rest = _arguments.iter().copied();
                    Answer::from($function(
                        call,
                        $(argument!($kind, _rest, call),)*
                    ))
                },
                numbers: Numbers {
                    x86_64: number!($x86_64),
                    x86_32: number!($x86_32),
                    arm64: number!($arm64),
                    arm32: number!($arm32),
                },
                arguments: &[$((stringify!($argument), ArgumentKind::$kind $(($detail))?)),*],
                counts: counts!($($counts)?),
                returns_address: false $(|| matches!(ArgumentKind::$returns, ArgumentKind::Address))?,
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
    /// Source: read(2).
    read { x86_64: 0, x86_32: 3, arm64: 63, arm32: 3 } (fd: Fd, buf: BytesOut, count: Count) => transfers::read;

    /// Writes up to `count` bytes starting at `buf` to the open file `fd`.
    ///
    /// Returns the bytes written.
    /// Source: write(2).
    write { x86_64: 1, x86_32: 4, arm64: 64, arm32: 4 } (fd: Fd, buf: BytesIn(2), count: Count) => transfers::write;

    /// Reads up to `count` bytes from `offset` in the open file `fd` into `buf`.
    ///
    /// Source: pread(2).
    pread64 { x86_64: 17, x86_32: 180, arm64: 67, arm32: 180 } (fd: Fd, buf: BytesOut, count: Count, offset: Number, high: High) => transfers::pread;

    /// Writes up to `count` bytes starting at `buf` to `offset` in the open file `fd`.
    ///
    /// Source: pwrite(2).
    pwrite64 { x86_64: 18, x86_32: 181, arm64: 68, arm32: 181 } (fd: Fd, buf: BytesIn(2), count: Count, offset: Number, high: High) => transfers::pwrite;

    /// Reads from the open file `fd` into the `count` buffers that `vector` lists.
    ///
    /// Source: readv(2).
    readv { x86_64: 19, x86_32: 145, arm64: 65, arm32: 145 } (fd: Fd, vector: Out(Structure::Vector(2)), count: Number) => transfers::readv;

    /// Reads from `offset` in the open file `fd` into the `count` buffers that `vector` lists.
    ///
    /// Source: readv(2).
    preadv { x86_64: 295, x86_32: 333, arm64: 69, arm32: 361 } (fd: Fd, vector: Out(Structure::Vector(2)), count: Number, offset: Number, high: High) => transfers::preadv;

    /// Writes the `count` buffers that `vector` lists to `offset` in the open file `fd`.
    ///
    /// Source: writev(2).
    pwritev { x86_64: 296, x86_32: 334, arm64: 70, arm32: 362 } (fd: Fd, vector: In(Structure::Vector(2)), count: Number, offset: Number, high: High) => transfers::pwritev;

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
    /// Source: writev(2).
    writev { x86_64: 20, x86_32: 146, arm64: 66, arm32: 146 } (fd: Fd, vector: In(Structure::Vector(2)), count: Number) => transfers::writev;

    /// Closes the file `fd`.
    ///
    /// Source: close(2).
    close { x86_64: 3, x86_32: 6, arm64: 57, arm32: 6 } (fd: Fd) => descriptors::close;

    /// Opens the file `path`, and with O_CREAT makes it with the permissions `mode`.
    ///
    /// Returns the lowest file descriptor that is free. Files are in memory, and are gone when the program ends.
    /// Source: open(2).
    open { x86_64: 2, x86_32: 5, arm64: _, arm32: 5 } (path: Text, flags: OpenFlags, mode: Mode) => paths::open, counting paths::open_counts;

    /// Opens the file `path`, from the directory `fd`, and with O_CREAT makes it with the permissions `mode`.
    ///
    /// Returns the lowest file descriptor that is free. Files are in memory, and are gone when the program ends.
    /// Source: open(2).
    openat { x86_64: 257, x86_32: 295, arm64: 56, arm32: 322 } (fd: DirFd, path: Text, flags: OpenFlags, mode: Mode) => paths::openat, counting paths::openat_counts;

    /// Makes the file `path` with the permissions `mode`, or empties it, and opens it for writing.
    ///
    /// Source: open(2).
    creat { x86_64: 85, x86_32: 8, arm64: _, arm32: 8 } (path: Text, mode: Mode) => paths::creat;

    /// Makes another file descriptor for what `fd` names.
    ///
    /// Source: dup(2).
    dup { x86_64: 32, x86_32: 41, arm64: 23, arm32: 41 } (fd: Fd) => descriptors::dup;

    /// Makes `to` another file descriptor for what `fd` names.
    ///
    /// Source: dup(2).
    dup2 { x86_64: 33, x86_32: 63, arm64: _, arm32: 63 } (fd: Fd, to: Fd) => descriptors::dup2;

    /// Makes `to` another file descriptor for what `fd` names.
    ///
    /// Source: dup(2).
    dup3 { x86_64: 292, x86_32: 330, arm64: 24, arm32: 358 } (fd: Fd, to: Fd, flags: OpenFlags) => descriptors::dup3;

    /// Does to the open file `fd` what `command` says.
    ///
    /// Modelled: duplicating, and reading and setting flags. Not modelled: locks, signals, leases (EINVAL).
    /// Source: fcntl(2).
    fcntl { x86_64: 72, x86_32: 55, arm64: 25, arm32: 55 } (fd: Fd, command: OneOf(FCNTL), argument: Bits) => descriptors::fcntl, counting descriptors::fcntl_counts;

    /// Does to the open file `fd` what `command` says.
    ///
    /// Modelled: as fcntl.
    /// Source: fcntl(2).
    fcntl64 { x86_64: _, x86_32: 221, arm64: _, arm32: 221 } (fd: Fd, command: OneOf(FCNTL), argument: Bits) => descriptors::fcntl, counting descriptors::fcntl_counts;

    /// Sets the file offset of the open file `fd`.
    ///
    /// The standard streams are pipes, which have none: ESPIPE.
    /// Source: lseek(2).
    lseek { x86_64: 8, x86_32: 19, arm64: 62, arm32: 19 } (fd: Fd, offset: Signed, from: OneOf(SEEK)) => descriptors::lseek;

    /// Sets the file offset of the open file `fd`, by an offset in two halves.
    ///
    /// Source: _llseek(2).
    _llseek { x86_64: _, x86_32: 140, arm64: _, arm32: 140 } (fd: Fd, high: Number, low: Number, result: Address, from: OneOf(SEEK)) => descriptors::llseek;

    /// Tells entries of the directory `fd` in the structures at `entries`.
    ///
    /// They are told in the order of their names. Returns the bytes filled: 0 behind the last.
    /// Source: getdents(2).
    getdents64 { x86_64: 217, x86_32: 220, arm64: 61, arm32: 217 } (fd: Fd, entries: Out(Structure::Entries), count: Count) => descriptors::getdents64;

    /// Tells entries of the directory `fd` in the structures at `entries`, as they were first.
    ///
    /// Source: getdents(2).
    getdents { x86_64: 78, x86_32: 141, arm64: _, arm32: 141 } (fd: Fd, entries: Address, count: Count) => descriptors::getdents;

    /// Asks the device behind the file `fd` for something.
    ///
    /// Modelled: FIOCLEX, FIONCLEX, FIONBIO, FIONREAD. Nothing is a terminal: ENOTTY.
    /// Source: ioctl(2).
    ioctl { x86_64: 16, x86_32: 54, arm64: 29, arm32: 54 } (fd: Fd, request: OneOf(IOCTL), argument: Address) => descriptors::ioctl;

    /// Waits until the file `fd` is on its disk.
    ///
    /// Files are in memory: there is nothing to wait for.
    /// Source: fsync(2).
    fsync { x86_64: 74, x86_32: 118, arm64: 82, arm32: 118 } (fd: Fd) => descriptors::fsync;

    /// Waits until the contents of the file `fd` are on its disk.
    ///
    /// Files are in memory: there is nothing to wait for.
    /// Source: fsync(2).
    fdatasync { x86_64: 75, x86_32: 148, arm64: 83, arm32: 148 } (fd: Fd) => descriptors::fsync;

    /// Writes all files to their disks.
    ///
    /// Files are in memory: there is nothing to do.
    /// Source: sync(2).
    sync { x86_64: 162, x86_32: 36, arm64: 81, arm32: 36 } () => descriptors::sync;

    /// Acquires or releases an advisory lock on the open file `fd`.
    ///
    /// There is one process, which gets every lock.
    /// Source: flock(2).
    flock { x86_64: 73, x86_32: 143, arm64: 32, arm32: 143 } (fd: Fd, operation: Flags(LOCK)) => descriptors::flock;

    /// Makes room for `length` bytes from `offset` on in the file `fd`.
    ///
    /// Modelled: the length of the file. Not modelled: taking room away (EOPNOTSUPP).
    /// Source: fallocate(2).
    fallocate { x86_64: 285, x86_32: 324, arm64: 47, arm32: 352 } (fd: Fd, mode: Flags(FALLOC), offset: Number, high: High, length: Number, length_high: High) => descriptors::fallocate;

    /// Tells about the file `path` in the structure at `status`.
    ///
    /// Source: stat(2).
    stat { x86_64: 4, x86_32: 106, arm64: _, arm32: 106 } (path: Text, status: Out(Structure::Stat)) => status::stat;

    /// Tells about the file `path` in the structure at `status`, about a symbolic link itself.
    ///
    /// Source: stat(2).
    lstat { x86_64: 6, x86_32: 107, arm64: _, arm32: 107 } (path: Text, status: Out(Structure::Stat)) => status::lstat;

    /// Tells about the open file `fd` in the structure at `status`.
    ///
    /// The standard streams are pipes.
    /// Source: stat(2).
    fstat { x86_64: 5, x86_32: 108, arm64: 80, arm32: 108 } (fd: Fd, status: Out(Structure::Stat)) => status::of_open_first;

    /// Tells about the file `path` in the structure at `status`, with sizes of 64 bits.
    ///
    /// Source: stat64(2).
    stat64 { x86_64: _, x86_32: 195, arm64: _, arm32: 195 } (path: Text, status: Out(Structure::Stat64)) => status::stat64;

    /// Tells about the file `path` in the structure at `status`, with sizes of 64 bits, about a symbolic link itself.
    ///
    /// Source: lstat64(2).
    lstat64 { x86_64: _, x86_32: 196, arm64: _, arm32: 196 } (path: Text, status: Out(Structure::Stat64)) => status::lstat64;

    /// Tells about the open file `fd` in the structure at `status`, with sizes of 64 bits.
    ///
    /// The standard streams are pipes.
    /// Source: fstat64(2).
    fstat64 { x86_64: _, x86_32: 197, arm64: _, arm32: 197 } (fd: Fd, status: Out(Structure::Stat64)) => status::of_open;

    /// Tells about the file `path`, from the directory `fd`, in the structure at `status`.
    ///
    /// Source: stat(2).
    newfstatat { x86_64: 262, x86_32: _, arm64: 79, arm32: _ } (fd: DirFd, path: Text, status: Out(Structure::Stat), flags: Flags(AT)) => status::of_path;

    /// Tells about the file `path`, from the directory `fd`, in the structure at `status`, with sizes of 64 bits.
    ///
    /// Source: fstatat64(2).
    fstatat64 { x86_64: _, x86_32: 300, arm64: _, arm32: 327 } (fd: DirFd, path: Text, status: Out(Structure::Stat64), flags: Flags(AT)) => status::of_path;

    /// Tells what `mask` asks for about the file `path`, from the directory `fd`, in the structure at `status`.
    ///
    /// The time of birth is not told.
    /// Source: statx(2).
    statx { x86_64: 332, x86_32: 383, arm64: 291, arm32: 397 } (fd: DirFd, path: Text, flags: Flags(AT), mask: Bits, status: Out(Structure::Statx)) => status::extended;

    /// Tells about the file system that the file `path` is on in the structure at `status`.
    ///
    /// Source: statfs(2).
    statfs { x86_64: 137, x86_32: 99, arm64: 43, arm32: 99 } (path: Text, status: Address) => status::statfs;

    /// Tells about the file system that the open file `fd` is on in the structure at `status`.
    ///
    /// Source: statfs(2).
    fstatfs { x86_64: 138, x86_32: 100, arm64: 44, arm32: 100 } (fd: Fd, status: Address) => status::fstatfs;

    /// Asks whether the file `path` may be used.
    ///
    /// Source: access(2).
    access { x86_64: 21, x86_32: 33, arm64: _, arm32: 33 } (path: Text, mode: Flags(ACCESS)) => paths::access;

    /// Asks whether the file `path`, from the directory `fd`, may be used.
    ///
    /// Source: access(2).
    faccessat { x86_64: 269, x86_32: 307, arm64: 48, arm32: 334 } (fd: DirFd, path: Text, mode: Flags(ACCESS)) => paths::faccessat;

    /// Asks whether the file `path`, from the directory `fd`, may be used.
    ///
    /// Source: access(2).
    faccessat2 { x86_64: 439, x86_32: 439, arm64: 439, arm32: 439 } (fd: DirFd, path: Text, mode: Flags(ACCESS), flags: Flags(AT_ACCESS)) => paths::faccessat2;

    /// Makes the directory `path` with the permissions `mode`.
    ///
    /// Source: mkdir(2).
    mkdir { x86_64: 83, x86_32: 39, arm64: _, arm32: 39 } (path: Text, mode: Mode) => paths::mkdir;

    /// Makes the directory `path`, from the directory `fd`, with the permissions `mode`.
    ///
    /// Source: mkdir(2).
    mkdirat { x86_64: 258, x86_32: 296, arm64: 34, arm32: 323 } (fd: DirFd, path: Text, mode: Mode) => paths::mkdirat;

    /// Removes the empty directory `path`.
    ///
    /// Source: rmdir(2).
    rmdir { x86_64: 84, x86_32: 40, arm64: _, arm32: 40 } (path: Text) => paths::rmdir;

    /// Removes the name `path`, and the file with its last name.
    ///
    /// Source: unlink(2).
    unlink { x86_64: 87, x86_32: 10, arm64: _, arm32: 10 } (path: Text) => paths::unlink;

    /// Removes the name `path`, from the directory `fd`, and the file with its last name.
    ///
    /// Source: unlink(2).
    unlinkat { x86_64: 263, x86_32: 301, arm64: 35, arm32: 328 } (fd: DirFd, path: Text, flags: Flags(AT_REMOVE)) => paths::unlinkat;

    /// Makes `new` a hard link to the file `old`.
    ///
    /// Source: link(2).
    link { x86_64: 86, x86_32: 9, arm64: _, arm32: 9 } (old: Text, new: Text) => paths::link;

    /// Makes `new` a hard link to the file `old`, each from a directory.
    ///
    /// Source: link(2).
    linkat { x86_64: 265, x86_32: 303, arm64: 37, arm32: 330 } (old_fd: DirFd, old: Text, new_fd: DirFd, new: Text, flags: Flags(AT)) => paths::linkat;

    /// Makes the symbolic link `path`, which leads to `target`.
    ///
    /// Source: symlink(2).
    symlink { x86_64: 88, x86_32: 83, arm64: _, arm32: 83 } (target: Text, path: Text) => paths::symlink;

    /// Makes the symbolic link `path`, from the directory `fd`, which leads to `target`.
    ///
    /// Source: symlink(2).
    symlinkat { x86_64: 266, x86_32: 304, arm64: 36, arm32: 331 } (target: Text, fd: DirFd, path: Text) => paths::symlinkat;

    /// Reads where the symbolic link `path` leads.
    ///
    /// Source: readlink(2).
    readlink { x86_64: 89, x86_32: 85, arm64: _, arm32: 85 } (path: Text, buf: BytesOut, size: Count) => paths::readlink;

    /// Reads where the symbolic link `path`, from the directory `fd`, leads.
    ///
    /// Source: readlink(2).
    readlinkat { x86_64: 267, x86_32: 305, arm64: 78, arm32: 332 } (fd: DirFd, path: Text, buf: BytesOut, size: Count) => paths::readlinkat;

    /// Renames the file `old` to `new`.
    ///
    /// Source: rename(2).
    rename { x86_64: 82, x86_32: 38, arm64: _, arm32: 38 } (old: Text, new: Text) => paths::rename;

    /// Renames the file `old` to `new`, each from a directory.
    ///
    /// Source: rename(2).
    renameat { x86_64: 264, x86_32: 302, arm64: 38, arm32: 329 } (old_fd: DirFd, old: Text, new_fd: DirFd, new: Text) => paths::renameat;

    /// Renames the file `old` to `new`, each from a directory, or exchanges the two.
    ///
    /// Not modelled: RENAME_WHITEOUT (EINVAL).
    /// Source: rename(2).
    renameat2 { x86_64: 316, x86_32: 353, arm64: 276, arm32: 382 } (old_fd: DirFd, old: Text, new_fd: DirFd, new: Text, flags: Flags(RENAME)) => paths::renameat2;

    /// Sets the permissions of the file `path`.
    ///
    /// Source: chmod(2).
    chmod { x86_64: 90, x86_32: 15, arm64: _, arm32: 15 } (path: Text, mode: Mode) => paths::chmod;

    /// Sets the permissions of the open file `fd`.
    ///
    /// Source: chmod(2).
    fchmod { x86_64: 91, x86_32: 94, arm64: 52, arm32: 94 } (fd: Fd, mode: Mode) => paths::fchmod;

    /// Sets the permissions of the file `path`, from the directory `fd`.
    ///
    /// Source: chmod(2).
    fchmodat { x86_64: 268, x86_32: 306, arm64: 53, arm32: 333 } (fd: DirFd, path: Text, mode: Mode) => paths::fchmodat;

    /// Gives the file `path` to a user and a group; -1 leaves one as it is.
    ///
    /// The user of the program may give files to nobody else: EPERM.
    /// Source: chown(2).
    chown { x86_64: 92, x86_32: 182, arm64: _, arm32: 182 } (path: Text, user: Number, group: Number) => paths::chown_first;

    /// Gives the file `path` to a user and a group; -1 leaves one as it is.
    ///
    /// The user of the program may give files to nobody else: EPERM.
    /// Source: chown(2).
    chown32 { x86_64: _, x86_32: 212, arm64: _, arm32: 212 } (path: Text, user: Number, group: Number) => paths::chown;

    /// Gives the file `path` to a user and a group, a symbolic link itself; -1 leaves one as it is.
    ///
    /// Source: chown(2).
    lchown { x86_64: 94, x86_32: 16, arm64: _, arm32: 16 } (path: Text, user: Number, group: Number) => paths::lchown_first;

    /// Gives the file `path` to a user and a group, a symbolic link itself; -1 leaves one as it is.
    ///
    /// Source: chown(2).
    lchown32 { x86_64: _, x86_32: 198, arm64: _, arm32: 198 } (path: Text, user: Number, group: Number) => paths::lchown;

    /// Gives the open file `fd` to a user and a group; -1 leaves one as it is.
    ///
    /// Source: chown(2).
    fchown { x86_64: 93, x86_32: 95, arm64: 55, arm32: 95 } (fd: Fd, user: Number, group: Number) => paths::fchown_first;

    /// Gives the open file `fd` to a user and a group; -1 leaves one as it is.
    ///
    /// Source: chown(2).
    fchown32 { x86_64: _, x86_32: 207, arm64: _, arm32: 207 } (fd: Fd, user: Number, group: Number) => paths::fchown;

    /// Gives the file `path`, from the directory `fd`, to a user and a group; -1 leaves one as it is.
    ///
    /// Source: chown(2).
    fchownat { x86_64: 260, x86_32: 298, arm64: 54, arm32: 325 } (fd: DirFd, path: Text, user: Number, group: Number, flags: Flags(AT)) => paths::fchownat;

    /// Sets the file mode creation mask, and returns the one before.
    ///
    /// It is 022 when a program starts.
    /// Source: umask(2).
    umask { x86_64: 95, x86_32: 60, arm64: 166, arm32: 60 } (mask: Mode) => paths::umask;

    /// Cuts the file `path` to `length` bytes, or makes it longer with zeros.
    ///
    /// Source: truncate(2).
    truncate { x86_64: 76, x86_32: 92, arm64: 45, arm32: 92 } (path: Text, length: Signed) => paths::truncate;

    /// Cuts the open file `fd` to `length` bytes, or makes it longer with zeros.
    ///
    /// Source: truncate(2).
    ftruncate { x86_64: 77, x86_32: 93, arm64: 46, arm32: 93 } (fd: Fd, length: Signed) => paths::ftruncate;

    /// Cuts the file `path` to `length` bytes, or makes it longer with zeros.
    ///
    /// Source: truncate64(2).
    truncate64 { x86_64: _, x86_32: 193, arm64: _, arm32: 193 } (path: Text, length: Number, high: High) => paths::truncate64;

    /// Cuts the open file `fd` to `length` bytes, or makes it longer with zeros.
    ///
    /// Source: ftruncate64(2).
    ftruncate64 { x86_64: _, x86_32: 194, arm64: _, arm32: 194 } (fd: Fd, length: Number, high: High) => paths::ftruncate64;

    /// Sets the times of access and of change of the file `path`, from the directory `fd`.
    ///
    /// Source: utimensat(2).
    utimensat { x86_64: 280, x86_32: 320, arm64: 88, arm32: 348 } (fd: DirFd, path: Text, times: In(Structure::TwoTimespecs), flags: Flags(AT)) => paths::utimensat;

    /// Sets the times of access and of change of the file `path`, from the directory `fd`, with seconds of 64 bits.
    ///
    /// Source: utimensat(2).
    utimensat_time64 { x86_64: _, x86_32: 412, arm64: _, arm32: 412 } (fd: DirFd, path: Text, times: In(Structure::TwoTimespecs64), flags: Flags(AT)) => paths::utimensat64;

    /// Tells the path of the working directory in `buf`.
    ///
    /// Returns the bytes of the path with its zero. It is /home/keeper when a program starts.
    /// Source: getcwd(2).
    getcwd { x86_64: 79, x86_32: 183, arm64: 17, arm32: 183 } (buf: BytesOut, size: Count) => paths::getcwd;

    /// Changes the working directory to `path`.
    ///
    /// Source: chdir(2).
    chdir { x86_64: 80, x86_32: 12, arm64: 49, arm32: 12 } (path: Text) => paths::chdir;

    /// Changes the working directory to the open directory `fd`.
    ///
    /// Source: chdir(2).
    fchdir { x86_64: 81, x86_32: 133, arm64: 50, arm32: 133 } (fd: Fd) => paths::fchdir;

    /// Moves the end of the heap to `end`, and returns where it is.
    ///
    /// The heap starts on the page after the program's data. An end that cannot be had changes nothing.
    /// Source: brk(2), "C library/kernel differences".
    brk { x86_64: 12, x86_32: 45, arm64: 214, arm32: 45 } (end: Address) -> Address => memory::brk;

    /// Maps `length` bytes of memory, at `address` if it is given and free.
    ///
    /// Modelled: memory that no file is behind, and private mappings of files. Not modelled: mappings that are written to files
    /// (ENODEV).
    /// Source: mmap(2).
    mmap { x86_64: 9, x86_32: _, arm64: 222, arm32: _ } (address: Address, length: Count, protection: Flags(PROT), flags: Flags(MAP), fd: Fd, offset: Number) -> Address => memory::map;

    /// Maps `length` bytes of memory, at `address` if it is given and free; `offset` counts pages.
    ///
    /// Modelled: as mmap.
    /// Source: mmap2(2).
    mmap2 { x86_64: _, x86_32: 192, arm64: _, arm32: 192 } (address: Address, length: Count, protection: Flags(PROT), flags: Flags(MAP), fd: Fd, offset: Number) -> Address => memory::map_pages;

    /// Unmaps the pages of `length` bytes from `address`.
    ///
    /// Source: munmap(2).
    munmap { x86_64: 11, x86_32: 91, arm64: 215, arm32: 91 } (address: Address, length: Count) => memory::unmap;

    /// Changes what the pages of `length` bytes from `address` may be used for.
    ///
    /// Source: mprotect(2).
    mprotect { x86_64: 10, x86_32: 125, arm64: 226, arm32: 125 } (address: Address, length: Count, protection: Flags(PROT)) => memory::protect;

    /// Resizes the mapping at `address`, moving it if it must and may be moved.
    ///
    /// Source: mremap(2).
    mremap { x86_64: 25, x86_32: 163, arm64: 216, arm32: 163 } (address: Address, old_length: Count, length: Count, flags: Flags(MREMAP), to: Address) -> Address => memory::remap, counting memory::remap_counts;

    /// Advises the kernel about the pages of `length` bytes from `address`.
    ///
    /// Modelled: with MADV_DONTNEED the pages hold again what they held when they were mapped; other advice changes nothing.
    /// Source: madvise(2).
    madvise { x86_64: 28, x86_32: 219, arm64: 233, arm32: 220 } (address: Address, length: Count, advice: OneOf(MADV)) => memory::madvise;

    /// Sets or reads the base of the segment FS or GS, as `code` says.
    ///
    /// Source: arch_prctl(2).
    arch_prctl { x86_64: 158, x86_32: _, arm64: _, arm32: _ } (code: OneOf(ARCH), address: Address) => threads::arch_prctl;

    /// Describes a segment of the thread's own: the structure at `description` tells which and where.
    ///
    /// Modelled: the base; the limit is that of all memory.
    /// Source: set_thread_area(2).
    set_thread_area { x86_64: 205, x86_32: 243, arm64: _, arm32: _ } (description: Address) => threads::set_thread_area;

    /// Says where to clear and wake when the thread ends, and returns its number.
    ///
    /// Source: set_tid_address(2).
    set_tid_address { x86_64: 218, x86_32: 258, arm64: 96, arm32: 256 } (address: Address) => futex::set_tid_address;

    /// Says where the thread keeps the list of its locks.
    ///
    /// Source: set_robust_list(2).
    set_robust_list { x86_64: 273, x86_32: 311, arm64: 99, arm32: 338 } (head: Address, length: Count) => futex::set_robust_list;

    /// Tells where a thread keeps the list of its locks.
    ///
    /// Source: get_robust_list(2).
    get_robust_list { x86_64: 274, x86_32: 312, arm64: 100, arm32: 339 } (tid: Number, head: Address, length: Address) => futex::get_robust_list;

    /// Registers the area through which the kernel tells on which processor the thread runs.
    ///
    /// Modelled: it is told once that it is processor 0.
    /// Source: rseq(2).
    rseq { x86_64: 334, x86_32: 386, arm64: 293, arm32: 398 } (area: Address, length: Count, flags: Bits, signature: Bits) => threads::rseq;

    /// Reads or sets a limit of the process.
    ///
    /// Modelled: that of open files is kept to, the others are kept alone.
    /// Source: prlimit(2).
    prlimit64 { x86_64: 302, x86_32: 340, arm64: 261, arm32: 369 } (pid: Number, resource: OneOf(RLIMIT), new: In(Structure::Limits64), old: Out(Structure::Limits64)) => limits::prlimit64;

    /// Reads a limit of the process.
    ///
    /// Source: getrlimit(2).
    ugetrlimit { x86_64: _, x86_32: 191, arm64: _, arm32: 191 } (resource: OneOf(RLIMIT), limits: Out(Structure::Limits)) => limits::getrlimit;

    /// Fills `buf` with `count` random bytes.
    ///
    /// They come from the seed of the run.
    /// Source: getrandom(2).
    getrandom { x86_64: 318, x86_32: 355, arm64: 278, arm32: 384 } (buf: BytesOut, count: Count, flags: Bits) => threads::getrandom;

    /// Waits at, or wakes those who wait at, the word at `address`.
    ///
    /// Modelled: waiting, waking, moving waiters, locks that know their owner; priorities are not inherited, since there are none.
    /// Source: futex(2).
    futex { x86_64: 202, x86_32: 240, arm64: 98, arm32: 240 } (address: Address, operation: Operation(FUTEX), value: Number, timeout: Number, address2: Address, value3: Number) => futex::futex, counting futex::counts;

    /// Tells the time of a clock in the structure at `time`.
    ///
    /// One instruction takes a nanosecond; the day begins with the first, on 2026-01-01 at 00:00 UTC.
    /// Source: clock_gettime(2).
    clock_gettime { x86_64: 228, x86_32: 265, arm64: 113, arm32: 263 } (clock: OneOf(CLOCK), time: Out(Structure::Timespec)) => time::clock_gettime;

    /// Tells the time of a clock in the structure at `time`, with seconds of 64 bits.
    ///
    /// One instruction takes a nanosecond; the day begins with the first, on 2026-01-01 at 00:00 UTC.
    /// Source: clock_gettime(2).
    clock_gettime64 { x86_64: _, x86_32: 403, arm64: _, arm32: 403 } (clock: OneOf(CLOCK), time: Out(Structure::Timespec64)) => time::clock_gettime64;

    /// Waits at, or wakes those who wait at, the word at `address`, with a time of 64 bits.
    ///
    /// Modelled: as futex.
    /// Source: futex(2).
    futex_time64 { x86_64: _, x86_32: 422, arm64: _, arm32: 422 } (address: Address, operation: Operation(FUTEX), value: Number, timeout: Number, address2: Address, value3: Number) => futex::futex_time64, counting futex::counts;

    /// Tells the time of day in the structure at `time`.
    ///
    /// One instruction takes a nanosecond; the day begins with the first, on 2026-01-01 at 00:00 UTC.
    /// Source: gettimeofday(2).
    gettimeofday { x86_64: 96, x86_32: 78, arm64: 169, arm32: 78 } (time: Out(Structure::Timeval), zone: Address) => time::gettimeofday;

    /// Waits for as long as the structure at `time` says.
    ///
    /// The time passes at once, unless other threads use it. A signal that a handler takes ends it: EINTR, and `remaining` says what is left.
    /// Source: nanosleep(2).
    nanosleep { x86_64: 35, x86_32: 162, arm64: 101, arm32: 162 } (time: In(Structure::Timespec), remaining: Out(Structure::Timespec)) => time::nanosleep;

    /// Waits for as long as the structure at `time` says, or up to that time of a clock.
    ///
    /// The time passes at once, unless other threads use it. A signal that a handler takes ends it: EINTR, and `remaining` says what is left.
    /// Source: clock_nanosleep(2).
    clock_nanosleep { x86_64: 230, x86_32: 267, arm64: 115, arm32: 265 } (clock: OneOf(CLOCK), flags: Flags(TIMER), time: In(Structure::Timespec), remaining: Out(Structure::Timespec)) => time::clock_nanosleep;

    /// Waits for as long as the structure at `time` says, or up to that time of a clock, with seconds of 64 bits.
    ///
    /// The time passes at once, unless other threads use it. A signal that a handler takes ends it: EINTR, and `remaining` says what is left.
    /// Source: clock_nanosleep(2).
    clock_nanosleep_time64 { x86_64: _, x86_32: 407, arm64: _, arm32: 407 } (clock: OneOf(CLOCK), flags: Flags(TIMER), time: In(Structure::Timespec64), remaining: Out(Structure::Timespec64)) => time::clock_nanosleep64;

    /// Changes or reads what is done at a signal.
    ///
    /// Source: sigaction(2).
    rt_sigaction { x86_64: 13, x86_32: 174, arm64: 134, arm32: 174 } (signal: Signal, new: In(Structure::SignalAction), old: Out(Structure::SignalAction), size: Count) => signals::rt_sigaction;

    /// Changes or reads the mask of blocked signals.
    ///
    /// Source: sigprocmask(2).
    rt_sigprocmask { x86_64: 14, x86_32: 175, arm64: 135, arm32: 175 } (how: OneOf(SIG), new: In(Structure::SignalSet), old: Out(Structure::SignalSet), size: Count) => signals::rt_sigprocmask;

    /// Tells which signals are pending in the set at `set`.
    ///
    /// Source: sigpending(2).
    rt_sigpending { x86_64: 127, x86_32: 176, arm64: 136, arm32: 176 } (set: Out(Structure::SignalSet), size: Count) => signals::rt_sigpending;

    /// Waits for a signal that a handler takes, under the mask at `mask`.
    ///
    /// Source: sigsuspend(2).
    rt_sigsuspend { x86_64: 130, x86_32: 179, arm64: 133, arm32: 179 } (mask: In(Structure::SignalSet), size: Count) => signals::rt_sigsuspend;

    /// Takes a signal of the set at `set`, and waits for one as long as the structure at `time` says.
    ///
    /// Returns the number of the signal; EAGAIN when the time is over.
    /// Source: sigwaitinfo(2).
    rt_sigtimedwait { x86_64: 128, x86_32: 177, arm64: 137, arm32: 177 } (set: In(Structure::SignalSet), info: Out(Structure::SignalInfo), time: In(Structure::Timespec), size: Count) => signals::rt_sigtimedwait;

    /// Takes a signal of the set at `set`, and waits for one as long as the structure at `time` says, with seconds of 64 bits.
    ///
    /// Source: sigwaitinfo(2).
    rt_sigtimedwait_time64 { x86_64: _, x86_32: 421, arm64: _, arm32: 421 } (set: In(Structure::SignalSet), info: Out(Structure::SignalInfo), time: In(Structure::Timespec64), size: Count) => signals::rt_sigtimedwait_time64;

    /// Says on which stack handlers of signals run that ask for it.
    ///
    /// Source: sigaltstack(2).
    sigaltstack { x86_64: 131, x86_32: 186, arm64: 132, arm32: 186 } (new: In(Structure::SignalStack), old: Out(Structure::SignalStack)) => signals::sigaltstack;

    /// Returns from a handler: registers are what they were when the signal came.
    ///
    /// It is called by what a handler returns to, with the frame of the signal on the stack.
    /// Source: sigreturn(2).
    rt_sigreturn { x86_64: 15, x86_32: 173, arm64: 139, arm32: 173 } () => signals::rt_sigreturn;

    /// Returns from a handler that was set without SA_SIGINFO.
    ///
    /// Source: sigreturn(2).
    sigreturn { x86_64: _, x86_32: 119, arm64: _, arm32: 119 } () => signals::sigreturn;

    /// Waits for a signal that a handler takes.
    ///
    /// Source: pause(2).
    pause { x86_64: 34, x86_32: 29, arm64: _, arm32: 29 } () => signals::pause;

    /// Waits until one of the `count` descriptors in the structures at `fds` is ready, at most `timeout` milliseconds.
    ///
    /// Returns how many are ready. Standard input is ready when there is some, or at its end; files always are.
    /// Source: poll(2).
    poll { x86_64: 7, x86_32: 168, arm64: _, arm32: 168 } (fds: Out(Structure::Poll(1)), count: Number, timeout: Int) => polling::poll;

    /// Waits until one of the `count` descriptors in the structures at `fds` is ready, as long as the structure at `time` says,
    /// under the mask at `mask`.
    ///
    /// Source: poll(2).
    ppoll { x86_64: 271, x86_32: 309, arm64: 73, arm32: 336 } (fds: Out(Structure::Poll(1)), count: Number, time: In(Structure::Timespec), mask: In(Structure::SignalSet), size: Count) => polling::ppoll;

    /// Waits until one of the `count` descriptors in the structures at `fds` is ready, with seconds of 64 bits.
    ///
    /// Source: poll(2).
    ppoll_time64 { x86_64: _, x86_32: 414, arm64: _, arm32: 414 } (fds: Out(Structure::Poll(1)), count: Number, time: In(Structure::Timespec64), mask: In(Structure::SignalSet), size: Count) => polling::ppoll_time64;

    /// Sends SIGALRM after `seconds`; 0 disarms the timer.
    ///
    /// Returns the seconds that were left of the timer before.
    /// Source: alarm(2).
    alarm { x86_64: 37, x86_32: 27, arm64: _, arm32: _ } (seconds: Number) => timers::alarm;

    /// Sets a timer that sends a signal, once or again and again.
    ///
    /// Modelled: ITIMER_REAL. Not modelled: timers of processor time (EINVAL).
    /// Source: setitimer(2).
    setitimer { x86_64: 38, x86_32: 104, arm64: 103, arm32: 104 } (which: OneOf(ITIMER), new: In(Structure::Itimerval), old: Out(Structure::Itimerval)) => timers::setitimer;

    /// Tells what is left of a timer in the structure at `value`.
    ///
    /// Modelled: ITIMER_REAL.
    /// Source: setitimer(2).
    getitimer { x86_64: 36, x86_32: 105, arm64: 102, arm32: 105 } (which: OneOf(ITIMER), value: Out(Structure::Itimerval)) => timers::getitimer;

    /// Sends a signal to a thread of a process.
    ///
    /// Modelled: signals to the program itself. Those that stop a program have no effect.
    /// Source: tgkill(2).
    tgkill { x86_64: 234, x86_32: 270, arm64: 131, arm32: 268 } (pid: Number, tid: Number, signal: Signal) => signals::tgkill;

    /// Sends a signal to a thread.
    ///
    /// Source: tkill(2).
    tkill { x86_64: 200, x86_32: 238, arm64: 130, arm32: 238 } (tid: Number, signal: Signal) => signals::tkill;

    /// Sends a signal to a process.
    ///
    /// 0 names the own group, -1 every other process, and a negated number that group.
    /// Source: kill(2).
    kill { x86_64: 62, x86_32: 37, arm64: 129, arm32: 37 } (pid: Number, signal: Signal) => signals::kill;

    /// Sends a signal to a process, with what is told of it in the structure at `info`.
    ///
    /// Source: rt_sigqueueinfo(2).
    rt_sigqueueinfo { x86_64: 129, x86_32: 178, arm64: 138, arm32: 178 } (pid: Number, signal: Signal, info: Address) => signals::rt_sigqueueinfo;

    /// Returns the number of the process, which is 1000.
    ///
    /// Source: getpid(2).
    getpid { x86_64: 39, x86_32: 20, arm64: 172, arm32: 20 } () => waiting::process_number;

    /// Returns the number of the thread; that of the first is the number of the process.
    ///
    /// Source: gettid(2).
    gettid { x86_64: 186, x86_32: 224, arm64: 178, arm32: 224 } () => identity::task_number;

    /// Returns the number of the user, which is 1000.
    ///
    /// Source: getuid(2).
    getuid { x86_64: 102, x86_32: 24, arm64: 174, arm32: 24 } () => identity::user_number;

    /// Returns the number of the user, which is 1000.
    ///
    /// Source: getuid(2).
    getuid32 { x86_64: _, x86_32: 199, arm64: _, arm32: 199 } () => identity::user_number;

    /// Returns the number of the user with whose rights the program runs, which is 1000.
    ///
    /// Source: getuid(2).
    geteuid { x86_64: 107, x86_32: 49, arm64: 175, arm32: 49 } () => identity::user_number;

    /// Returns the number of the user with whose rights the program runs, which is 1000.
    ///
    /// Source: getuid(2).
    geteuid32 { x86_64: _, x86_32: 201, arm64: _, arm32: 201 } () => identity::user_number;

    /// Returns the number of the group, which is 1000.
    ///
    /// Source: getgid(2).
    getgid { x86_64: 104, x86_32: 47, arm64: 176, arm32: 47 } () => identity::user_number;

    /// Returns the number of the group, which is 1000.
    ///
    /// Source: getgid(2).
    getgid32 { x86_64: _, x86_32: 200, arm64: _, arm32: 200 } () => identity::user_number;

    /// Returns the number of the group with whose rights the program runs, which is 1000.
    ///
    /// Source: getgid(2).
    getegid { x86_64: 108, x86_32: 50, arm64: 177, arm32: 50 } () => identity::user_number;

    /// Returns the number of the group with whose rights the program runs, which is 1000.
    ///
    /// Source: getgid(2).
    getegid32 { x86_64: _, x86_32: 202, arm64: _, arm32: 202 } () => identity::user_number;

    /// Lets other threads run.
    ///
    /// Modelled: there are none.
    /// Source: sched_yield(2).
    sched_yield { x86_64: 24, x86_32: 158, arm64: 124, arm32: 158 } () => threads::sched_yield;

    /// Tells the names of the system and of the machine in the structure at `names`.
    ///
    /// Source: uname(2).
    uname { x86_64: 63, x86_32: 122, arm64: 160, arm32: 122 } (names: Address) => identity::uname;

    /// Tells the number of the process that started the program.
    ///
    /// Source: getppid(2).
    getppid { x86_64: 110, x86_32: 64, arm64: 173, arm32: 64 } () => waiting::parent;

    /// Tells the process group of the program.
    ///
    /// Source: getpgid(2).
    getpgrp { x86_64: 111, x86_32: 65, arm64: _, arm32: 65 } () => waiting::group;

    /// Tells the process group of the process `pid`, or of this one if it is 0.
    ///
    /// Source: getpgid(2).
    getpgid { x86_64: 121, x86_32: 132, arm64: 155, arm32: 132 } (pid: Number) => waiting::group_of;

    /// Tells the session of the process `pid`, or of this one if it is 0.
    ///
    /// Source: getsid(2).
    getsid { x86_64: 124, x86_32: 147, arm64: 156, arm32: 147 } (pid: Number) => waiting::session_of;

    /// Puts the process `pid`, or this one if it is 0, into a process group.
    ///
    /// Source: setpgid(2).
    setpgid { x86_64: 109, x86_32: 57, arm64: 154, arm32: 57 } (pid: Number, group: Number) => waiting::set_group;

    /// Makes a new session, with the process as its leader.
    ///
    /// Modelled: the process leads its group, so that it may not.
    /// Source: setsid(2).
    setsid { x86_64: 112, x86_32: 66, arm64: 157, arm32: 66 } () => waiting::set_session;

    /// Tells the groups of the user beside his own.
    ///
    /// Modelled: there are none.
    /// Source: getgroups(2).
    getgroups { x86_64: 115, x86_32: 80, arm64: 158, arm32: 80 } (size: Int, groups: Address) => users::groups;

    /// Sets the groups of the user beside his own.
    ///
    /// Modelled: the user may not.
    /// Source: getgroups(2).
    setgroups { x86_64: 116, x86_32: 81, arm64: 159, arm32: 81 } (size: Number, groups: Address) => users::set_groups;

    /// Tells the groups of the user beside his own.
    ///
    /// Modelled: there are none.
    /// Source: getgroups(2).
    getgroups32 { x86_64: _, x86_32: 205, arm64: _, arm32: 205 } (size: Int, groups: Address) => users::groups;

    /// Sets the groups of the user beside his own.
    ///
    /// Modelled: the user may not.
    /// Source: getgroups(2).
    setgroups32 { x86_64: _, x86_32: 206, arm64: _, arm32: 206 } (size: Number, groups: Address) => users::set_groups;

    /// Tells the real, effective and saved number of the user.
    ///
    /// Source: getresuid(2).
    getresuid { x86_64: 118, x86_32: 165, arm64: 148, arm32: 165 } (real: Address, effective: Address, saved: Address) => users::first_three_numbers;

    /// Tells the real, effective and saved number of the group.
    ///
    /// Source: getresuid(2).
    getresgid { x86_64: 120, x86_32: 171, arm64: 150, arm32: 171 } (real: Address, effective: Address, saved: Address) => users::first_three_numbers;

    /// Tells the real, effective and saved number of the user.
    ///
    /// Source: getresuid(2).
    getresuid32 { x86_64: _, x86_32: 209, arm64: _, arm32: 209 } (real: Address, effective: Address, saved: Address) => users::three_numbers;

    /// Tells the real, effective and saved number of the group.
    ///
    /// Source: getresuid(2).
    getresgid32 { x86_64: _, x86_32: 211, arm64: _, arm32: 211 } (real: Address, effective: Address, saved: Address) => users::three_numbers;

    /// Sets the number of the user.
    ///
    /// Modelled: the user may take the number that he has, and no other.
    /// Source: setuid(2).
    setuid { x86_64: 105, x86_32: 23, arm64: 146, arm32: 23 } (user: Number) => users::first_set_one;

    /// Sets the number of the user.
    ///
    /// Modelled: the user may take the number that he has, and no other.
    /// Source: setuid(2).
    setuid32 { x86_64: _, x86_32: 213, arm64: _, arm32: 213 } (user: Number) => users::set_one;

    /// Sets the real and effective number of the user; -1 leaves one as it is.
    ///
    /// Modelled: the user may take the number that he has, and no other.
    /// Source: setreuid(2).
    setreuid { x86_64: 113, x86_32: 70, arm64: 145, arm32: 70 } (real: Number, effective: Number) => users::first_set_two;

    /// Sets the real and effective number of the user; -1 leaves one as it is.
    ///
    /// Modelled: the user may take the number that he has, and no other.
    /// Source: setreuid(2).
    setreuid32 { x86_64: _, x86_32: 203, arm64: _, arm32: 203 } (real: Number, effective: Number) => users::set_two;

    /// Sets the real, effective and saved number of the user; -1 leaves one as it is.
    ///
    /// Modelled: the user may take the number that he has, and no other.
    /// Source: setresuid(2).
    setresuid { x86_64: 117, x86_32: 164, arm64: 147, arm32: 164 } (real: Number, effective: Number, saved: Number) => users::first_set_three;

    /// Sets the real, effective and saved number of the user; -1 leaves one as it is.
    ///
    /// Modelled: the user may take the number that he has, and no other.
    /// Source: setresuid(2).
    setresuid32 { x86_64: _, x86_32: 208, arm64: _, arm32: 208 } (real: Number, effective: Number, saved: Number) => users::set_three;

    /// Sets the number of the user by which files are checked, and tells the one before.
    ///
    /// Source: setfsuid(2).
    setfsuid { x86_64: 122, x86_32: 138, arm64: 151, arm32: 138 } (user: Number) => users::set_file_user;

    /// Sets the number of the user by which files are checked, and tells the one before.
    ///
    /// Source: setfsuid(2).
    setfsuid32 { x86_64: _, x86_32: 215, arm64: _, arm32: 215 } (user: Number) => users::set_file_user;

    /// Sets the number of the group.
    ///
    /// Modelled: the user may take the number that he has, and no other.
    /// Source: setgid(2).
    setgid { x86_64: 106, x86_32: 46, arm64: 144, arm32: 46 } (group: Number) => users::first_set_one;

    /// Sets the number of the group.
    ///
    /// Modelled: the user may take the number that he has, and no other.
    /// Source: setgid(2).
    setgid32 { x86_64: _, x86_32: 214, arm64: _, arm32: 214 } (group: Number) => users::set_one;

    /// Sets the real and effective number of the group; -1 leaves one as it is.
    ///
    /// Modelled: the user may take the number that he has, and no other.
    /// Source: setreuid(2).
    setregid { x86_64: 114, x86_32: 71, arm64: 143, arm32: 71 } (real: Number, effective: Number) => users::first_set_two;

    /// Sets the real and effective number of the group; -1 leaves one as it is.
    ///
    /// Modelled: the user may take the number that he has, and no other.
    /// Source: setreuid(2).
    setregid32 { x86_64: _, x86_32: 204, arm64: _, arm32: 204 } (real: Number, effective: Number) => users::set_two;

    /// Sets the real, effective and saved number of the group; -1 leaves one as it is.
    ///
    /// Modelled: the user may take the number that he has, and no other.
    /// Source: setresuid(2).
    setresgid { x86_64: 119, x86_32: 170, arm64: 149, arm32: 170 } (real: Number, effective: Number, saved: Number) => users::first_set_three;

    /// Sets the real, effective and saved number of the group; -1 leaves one as it is.
    ///
    /// Modelled: the user may take the number that he has, and no other.
    /// Source: setresuid(2).
    setresgid32 { x86_64: _, x86_32: 210, arm64: _, arm32: 210 } (real: Number, effective: Number, saved: Number) => users::set_three;

    /// Sets the number of the group by which files are checked, and tells the one before.
    ///
    /// Source: setfsgid(2).
    setfsgid { x86_64: 123, x86_32: 139, arm64: 152, arm32: 139 } (group: Number) => users::set_file_user;

    /// Sets the number of the group by which files are checked, and tells the one before.
    ///
    /// Source: setfsgid(2).
    setfsgid32 { x86_64: _, x86_32: 216, arm64: _, arm32: 216 } (group: Number) => users::set_file_user;

    /// Tells the capabilities of a thread.
    ///
    /// Modelled: the user has none.
    /// Source: capget(2).
    capget { x86_64: 125, x86_32: 184, arm64: 90, arm32: 184 } (header: Address, data: Address) => users::capabilities;

    /// Sets the capabilities of a thread.
    ///
    /// Modelled: none can be added.
    /// Source: capget(2).
    capset { x86_64: 126, x86_32: 185, arm64: 91, arm32: 185 } (header: Address, data: Address) => users::set_capabilities;

    /// Waits for a child to change its state.
    ///
    /// Of what the child used its time is told.
    /// Source: wait4(2).
    wait4 { x86_64: 61, x86_32: 114, arm64: 260, arm32: 114 } (pid: Int, status: Address, options: Bits, usage: Address) => waiting::wait4;

    /// Waits for a child to change its state.
    ///
    /// Source: wait(2).
    waitpid { x86_64: _, x86_32: 7, arm64: _, arm32: _ } (pid: Int, status: Address, options: Bits) => waiting::waitpid;

    /// Makes a copy of the process.
    ///
    /// Returns the number of the child, and 0 in the child.
    /// Source: fork(2).
    fork { x86_64: 57, x86_32: 2, arm64: _, arm32: 2 } () => cloning::fork;

    /// Makes a process in the same memory, and waits until it executes a program or ends.
    ///
    /// Returns the number of the child, and 0 in the child.
    /// Source: vfork(2).
    vfork { x86_64: 58, x86_32: 190, arm64: _, arm32: 190 } () => cloning::vfork;

    /// Makes a thread or a process.
    ///
    /// Modelled: threads of a process, copies of it, and processes in the same memory for which the maker waits. On x86-64 the fourth
    /// argument is where the child's number goes and the fifth the thread pointer; elsewhere it is the other way round.
    /// Source: clone(2).
    clone { x86_64: 56, x86_32: 120, arm64: 220, arm32: 120 } (flags: Flags(CLONE), stack: Address, parent_tid: Address, child_tid_or_tls: Number, tls_or_child_tid: Number) => cloning::clone, counting cloning::counts;

    /// Makes a thread or a process as the structure at `arguments` says.
    ///
    /// Modelled: as clone.
    /// Source: clone(2).
    clone3 { x86_64: 435, x86_32: 435, arm64: 435, arm32: 435 } (arguments: Address, size: Count) => cloning::clone3;

    /// Puts the program at `path` in the place of this one.
    ///
    /// Returns only if it fails.
    /// Source: execve(2).
    execve { x86_64: 59, x86_32: 11, arm64: 221, arm32: 11 } (path: Text, arguments: Address, environment: Address) => programs::execve;

    /// Puts a program that is named from an open directory in the place of this one.
    ///
    /// Returns only if it fails.
    /// Source: execveat(2).
    execveat { x86_64: 322, x86_32: 358, arm64: 281, arm32: 387 } (directory: DirFd, path: Text, arguments: Address, environment: Address, flags: Flags(AT)) => programs::execveat;

    /// Makes a pipe, and writes the descriptors of its ends, that to read and that to write, to `ends`.
    ///
    /// Source: pipe(2).
    pipe { x86_64: 22, x86_32: 42, arm64: _, arm32: 42 } (ends: Out(Structure::Descriptors)) => pipes::pipe;

    /// Makes a pipe, and writes the descriptors of its ends, that to read and that to write, to `ends`.
    ///
    /// Source: pipe(2).
    pipe2 { x86_64: 293, x86_32: 331, arm64: 59, arm32: 359 } (ends: Out(Structure::Descriptors), flags: Flags(PIPE)) => pipes::pipe2;

    /// Waits for a child to change its state.
    ///
    /// Of what the child used its time is told.
    /// Source: wait(2).
    waitid { x86_64: 247, x86_32: 284, arm64: 95, arm32: 280 } (kind: Number, id: Number, info: Address, options: Bits, usage: Address) => waiting::waitid;

    /// Tells the processors on which a thread may run.
    ///
    /// Modelled: there is one. Returns the bytes of the set.
    /// Source: sched_setaffinity(2).
    sched_getaffinity { x86_64: 204, x86_32: 242, arm64: 123, arm32: 242 } (pid: Number, size: Count, mask: Address) => scheduling::affinity;

    /// Sets the processors on which a thread may run.
    ///
    /// Modelled: there is one.
    /// Source: sched_setaffinity(2).
    sched_setaffinity { x86_64: 203, x86_32: 241, arm64: 122, arm32: 241 } (pid: Number, size: Count, mask: Address) => scheduling::set_affinity;

    /// Tells the scheduling policy of a thread.
    ///
    /// Source: sched_setscheduler(2).
    sched_getscheduler { x86_64: 145, x86_32: 157, arm64: 120, arm32: 157 } (pid: Number) => scheduling::policy;

    /// Sets the scheduling policy of a thread.
    ///
    /// Modelled: real-time policies are refused, others change nothing.
    /// Source: sched_setscheduler(2).
    sched_setscheduler { x86_64: 144, x86_32: 156, arm64: 119, arm32: 156 } (pid: Number, policy: Int, parameters: Address) => scheduling::set_policy;

    /// Tells the real-time priority of a thread.
    ///
    /// Source: sched_getparam(2).
    sched_getparam { x86_64: 143, x86_32: 155, arm64: 121, arm32: 155 } (pid: Number, parameters: Address) => scheduling::parameters;

    /// Sets the real-time priority of a thread.
    ///
    /// Source: sched_setparam(2).
    sched_setparam { x86_64: 142, x86_32: 154, arm64: 118, arm32: 154 } (pid: Number, parameters: Address) => scheduling::set_parameters;

    /// Tells the highest priority of a scheduling policy.
    ///
    /// Source: sched_get_priority_max(2).
    sched_get_priority_max { x86_64: 146, x86_32: 159, arm64: 125, arm32: 159 } (policy: Number) => scheduling::highest_priority;

    /// Tells the lowest priority of a scheduling policy.
    ///
    /// Source: sched_get_priority_max(2).
    sched_get_priority_min { x86_64: 147, x86_32: 160, arm64: 126, arm32: 160 } (policy: Number) => scheduling::lowest_priority;

    /// Tells the processor on which the thread runs, and its memory node.
    ///
    /// Source: getcpu(2).
    getcpu { x86_64: 309, x86_32: 318, arm64: 168, arm32: 345 } (processor: Address, node: Address, unused: Address) => scheduling::processor;

    /// Tells how much a process gives way to others.
    ///
    /// Returns 20 less the nice value, so that it is never negative.
    /// Source: getpriority(2).
    getpriority { x86_64: 140, x86_32: 96, arm64: 141, arm32: 96 } (which: Number, who: Number) => scheduling::nice;

    /// Sets how much a process gives way to others.
    ///
    /// Source: getpriority(2).
    setpriority { x86_64: 141, x86_32: 97, arm64: 140, arm32: 97 } (which: Number, who: Number, nice: Int) => scheduling::set_nice;

    /// Orders accesses to memory of all threads.
    ///
    /// Modelled: tells that no command is there.
    /// Source: membarrier(2).
    membarrier { x86_64: 324, x86_32: 375, arm64: 283, arm32: 389 } (command: Number, flags: Bits) => scheduling::membarrier;

    /// Tells or sets the kind of system that the program was made for.
    ///
    /// Modelled: it is Linux, and stays that.
    /// Source: personality(2).
    personality { x86_64: 135, x86_32: 136, arm64: 92, arm32: 136 } (persona: Bits) => scheduling::personality;

    /// Tells what the process has used: time of the processor, and memory.
    ///
    /// Modelled: the time in the program, and the memory that was touched.
    /// Source: getrusage(2).
    getrusage { x86_64: 98, x86_32: 77, arm64: 165, arm32: 77 } (who: Int, usage: Out(Structure::Usage)) => scheduling::getrusage;

    /// Tells the time of the processor that the process has used, in ticks of a hundredth of a second.
    ///
    /// Returns the time since the start.
    /// Source: times(2).
    times { x86_64: 100, x86_32: 43, arm64: 153, arm32: 43 } (times: Address) => scheduling::times;

    /// Tells of the memory and the load of the system.
    ///
    /// Source: sysinfo(2).
    sysinfo { x86_64: 99, x86_32: 116, arm64: 179, arm32: 116 } (info: Address) => scheduling::sysinfo;

    /// Does to the process what `option` says.
    ///
    /// Modelled: its name (PR_SET_NAME, PR_GET_NAME), the signal at the end of its parent, PR_SET_DUMPABLE, PR_SET_NO_NEW_PRIVS.
    /// Source: prctl(2).
    prctl { x86_64: 157, x86_32: 172, arm64: 167, arm32: 172 } (option: OneOf(PRCTL), second: Bits) => scheduling::prctl;

    /// Tells a limit of the process.
    ///
    /// Source: getrlimit(2).
    getrlimit { x86_64: 97, x86_32: 76, arm64: 163, arm32: _ } (resource: OneOf(RLIMIT), limits: Out(Structure::Limits)) => limits::getrlimit;

    /// Sets a limit of the process.
    ///
    /// Modelled: that of open files is kept to, the others are kept alone.
    /// Source: getrlimit(2).
    setrlimit { x86_64: 160, x86_32: 75, arm64: 164, arm32: 75 } (resource: OneOf(RLIMIT), limits: In(Structure::Limits)) => limits::setrlimit;

    /// Sets the extended attribute `name` of `path`.
    ///
    /// Modelled: attributes of the class `user`.
    /// Source: setxattr(2).
    setxattr { x86_64: 188, x86_32: 226, arm64: 5, arm32: 226 } (path: Text, name: Text, value: Address, size: Count, flags: Flags(XATTR)) => attributes::setxattr;

    /// Tells the extended attribute `name` of `path`.
    ///
    /// Returns the bytes of the value; with a size of 0 these alone are asked for.
    /// Source: getxattr(2).
    getxattr { x86_64: 191, x86_32: 229, arm64: 8, arm32: 229 } (path: Text, name: Text, value: Address, size: Count) => attributes::getxattr;

    /// Tells the names of the extended attributes of `path`.
    ///
    /// Returns the bytes of the names, each with a zero byte.
    /// Source: listxattr(2).
    listxattr { x86_64: 194, x86_32: 232, arm64: 11, arm32: 232 } (path: Text, names: Address, size: Count) => attributes::listxattr;

    /// Removes the extended attribute `name` of `path`.
    ///
    /// Source: removexattr(2).
    removexattr { x86_64: 197, x86_32: 235, arm64: 14, arm32: 235 } (path: Text, name: Text) => attributes::removexattr;

    /// Sets the extended attribute `name` of `path`, which may be a link.
    ///
    /// Modelled: attributes of the class `user`.
    /// Source: setxattr(2).
    lsetxattr { x86_64: 189, x86_32: 227, arm64: 6, arm32: 227 } (path: Text, name: Text, value: Address, size: Count, flags: Flags(XATTR)) => attributes::lsetxattr;

    /// Tells the extended attribute `name` of `path`, which may be a link.
    ///
    /// Returns the bytes of the value; with a size of 0 these alone are asked for.
    /// Source: getxattr(2).
    lgetxattr { x86_64: 192, x86_32: 230, arm64: 9, arm32: 230 } (path: Text, name: Text, value: Address, size: Count) => attributes::lgetxattr;

    /// Tells the names of the extended attributes of `path`, which may be a link.
    ///
    /// Returns the bytes of the names, each with a zero byte.
    /// Source: listxattr(2).
    llistxattr { x86_64: 195, x86_32: 233, arm64: 12, arm32: 233 } (path: Text, names: Address, size: Count) => attributes::llistxattr;

    /// Removes the extended attribute `name` of `path`, which may be a link.
    ///
    /// Source: removexattr(2).
    lremovexattr { x86_64: 198, x86_32: 236, arm64: 15, arm32: 236 } (path: Text, name: Text) => attributes::lremovexattr;

    /// Sets the extended attribute `name` of the open file `fd`.
    ///
    /// Modelled: attributes of the class `user`.
    /// Source: setxattr(2).
    fsetxattr { x86_64: 190, x86_32: 228, arm64: 7, arm32: 228 } (fd: Fd, name: Text, value: Address, size: Count, flags: Flags(XATTR)) => attributes::fsetxattr;

    /// Tells the extended attribute `name` of the open file `fd`.
    ///
    /// Returns the bytes of the value; with a size of 0 these alone are asked for.
    /// Source: getxattr(2).
    fgetxattr { x86_64: 193, x86_32: 231, arm64: 10, arm32: 231 } (fd: Fd, name: Text, value: Address, size: Count) => attributes::fgetxattr;

    /// Tells the names of the extended attributes of the open file `fd`.
    ///
    /// Returns the bytes of the names, each with a zero byte.
    /// Source: listxattr(2).
    flistxattr { x86_64: 196, x86_32: 234, arm64: 13, arm32: 234 } (fd: Fd, names: Address, size: Count) => attributes::flistxattr;

    /// Removes the extended attribute `name` of the open file `fd`.
    ///
    /// Source: removexattr(2).
    fremovexattr { x86_64: 199, x86_32: 237, arm64: 16, arm32: 237 } (fd: Fd, name: Text) => attributes::fremovexattr;

    /// Copies up to `count` bytes of the open file `from` to the open file `to`.
    ///
    /// Returns the bytes that were copied. Where `offset` is an address, the offset in the file is there.
    /// Source: sendfile(2).
    sendfile { x86_64: 40, x86_32: 187, arm64: 71, arm32: 187 } (to: Fd, from: Fd, offset: Address, count: Count) => copies::sendfile;

    /// Copies up to `count` bytes of the open file `from` to the open file `to`.
    ///
    /// Returns the bytes that were copied. Where `offset` is an address, the offset in the file is there, in 64 bits.
    /// Source: sendfile(2).
    sendfile64 { x86_64: _, x86_32: 239, arm64: _, arm32: 239 } (to: Fd, from: Fd, offset: In(Structure::Offset), count: Count) => copies::sendfile64;

    /// Copies up to `count` bytes of the regular file `from` to the regular file `to`.
    ///
    /// Returns the bytes that were copied. Where an offset is an address, the offset in the file is there.
    /// Source: copy_file_range(2).
    copy_file_range { x86_64: 326, x86_32: 377, arm64: 285, arm32: 391 } (from: Fd, from_offset: In(Structure::Offset), to: Fd, to_offset: In(Structure::Offset), count: Count, flags: Bits) => copies::copy_file_range;

    /// Says that `count` bytes from `offset` on will be read.
    ///
    /// Modelled: everything is at hand already.
    /// Source: readahead(2).
    readahead { x86_64: 187, x86_32: 225, arm64: 213, arm32: 225 } (fd: Fd, offset: Number, high: High, count: Count) => copies::readahead;

    /// Says how a part of a file will be read.
    ///
    /// Modelled: advice is taken and changes nothing.
    /// Source: posix_fadvise(2).
    fadvise64 { x86_64: 221, x86_32: 250, arm64: 223, arm32: _ } (fd: Fd, offset: Number, high: High, length: Count, advice: Number) => copies::fadvise64;

    /// Says how a part of a file will be read.
    ///
    /// Modelled: advice is taken and changes nothing.
    /// Source: posix_fadvise(2).
    fadvise64_64 { x86_64: _, x86_32: 272, arm64: _, arm32: _ } (fd: Fd, offset: Number, high: High, length: Count, length_high: High, advice: Number) => copies::fadvise64_64;

    /// Has a part of a file written to its device.
    ///
    /// Source: sync_file_range(2).
    sync_file_range { x86_64: 277, x86_32: 314, arm64: 84, arm32: _ } (fd: Fd, offset: Number, high: High, length: Count, length_high: High, flags: Bits) => copies::sync_file_range;

    /// Has all files written to their device.
    ///
    /// Source: sync(2).
    syncfs { x86_64: 306, x86_32: 344, arm64: 267, arm32: 373 } (fd: Fd) => descriptors::fsync;

    /// Reads from `offset` in the open file `fd` into the `count` buffers that `vector` lists.
    ///
    /// An offset of -1 stands for where the last transfer ended.
    /// Source: readv(2).
    preadv2 { x86_64: 327, x86_32: 378, arm64: 286, arm32: 392 } (fd: Fd, vector: Out(Structure::Vector(2)), count: Number, offset: Number, high: Number, flags: Flags(RWF)) => transfers::preadv2;

    /// Writes the `count` buffers that `vector` lists to `offset` in the open file `fd`.
    ///
    /// An offset of -1 stands for where the last transfer ended.
    /// Source: readv(2).
    pwritev2 { x86_64: 328, x86_32: 379, arm64: 287, arm32: 393 } (fd: Fd, vector: In(Structure::Vector(2)), count: Number, offset: Number, high: Number, flags: Flags(RWF)) => transfers::pwritev2;

    /// Closes the file descriptors from `first` to `last`.
    ///
    /// Source: close_range(2).
    close_range { x86_64: 436, x86_32: 436, arm64: 436, arm32: 436 } (first: Number, last: Number, flags: Flags(CLOSE_RANGE)) => descriptors::close_range;

    /// Makes a timer that sends a signal when it runs out.
    ///
    /// Source: timer_create(2).
    timer_create { x86_64: 222, x86_32: 259, arm64: 107, arm32: 257 } (clock: OneOf(CLOCK), event: Address, timer: Out(Structure::Number)) => timers::timer_create;

    /// Sets a timer, and tells what was left of it.
    ///
    /// Source: timer_settime(2).
    timer_settime { x86_64: 223, x86_32: 260, arm64: 110, arm32: 258 } (timer: Number, flags: Flags(TIMER), new: In(Structure::Itimerspec), old: Out(Structure::Itimerspec)) => timers::timer_settime;

    /// Tells what is left of a timer.
    ///
    /// Source: timer_settime(2).
    timer_gettime { x86_64: 224, x86_32: 261, arm64: 108, arm32: 259 } (timer: Number, value: Out(Structure::Itimerspec)) => timers::timer_gettime;

    /// Sets a timer, and tells what was left of it.
    ///
    /// Source: timer_settime(2).
    timer_settime64 { x86_64: _, x86_32: 409, arm64: _, arm32: 409 } (timer: Number, flags: Flags(TIMER), new: In(Structure::Itimerspec64), old: Out(Structure::Itimerspec64)) => timers::timer_settime64;

    /// Tells what is left of a timer.
    ///
    /// Source: timer_settime(2).
    timer_gettime64 { x86_64: _, x86_32: 408, arm64: _, arm32: 408 } (timer: Number, value: Out(Structure::Itimerspec64)) => timers::timer_gettime64;

    /// Tells how often a timer ran out while its signal was pending.
    ///
    /// Source: timer_getoverrun(2).
    timer_getoverrun { x86_64: 225, x86_32: 262, arm64: 109, arm32: 260 } (timer: Number) => timers::timer_getoverrun;

    /// Takes a timer away.
    ///
    /// Source: timer_delete(2).
    timer_delete { x86_64: 226, x86_32: 263, arm64: 111, arm32: 261 } (timer: Number) => timers::timer_delete;

    /// Opens a counter of events that stands at `count`.
    ///
    /// Source: eventfd(2).
    eventfd { x86_64: 284, x86_32: 323, arm64: _, arm32: 351 } (count: Number) => events::eventfd;

    /// Opens a counter of events that stands at `count`.
    ///
    /// Source: eventfd(2).
    eventfd2 { x86_64: 290, x86_32: 328, arm64: 19, arm32: 356 } (count: Number, flags: Flags(EFD)) => events::eventfd2;

    /// Opens a timer that is read.
    ///
    /// Source: timerfd_create(2).
    timerfd_create { x86_64: 283, x86_32: 322, arm64: 85, arm32: 350 } (clock: OneOf(CLOCK), flags: Flags(TFD)) => events::timerfd_create;

    /// Sets a timer that is read, and tells what was left of it.
    ///
    /// Source: timerfd_create(2).
    timerfd_settime { x86_64: 286, x86_32: 325, arm64: 86, arm32: 353 } (fd: Fd, flags: Flags(TIMER), new: In(Structure::Itimerspec), old: Out(Structure::Itimerspec)) => events::timerfd_settime;

    /// Tells what is left of a timer that is read.
    ///
    /// Source: timerfd_create(2).
    timerfd_gettime { x86_64: 287, x86_32: 326, arm64: 87, arm32: 354 } (fd: Fd, value: Out(Structure::Itimerspec)) => events::timerfd_gettime;

    /// Sets a timer that is read, and tells what was left of it.
    ///
    /// Source: timerfd_create(2).
    timerfd_settime64 { x86_64: _, x86_32: 411, arm64: _, arm32: 411 } (fd: Fd, flags: Flags(TIMER), new: In(Structure::Itimerspec64), old: Out(Structure::Itimerspec64)) => events::timerfd_settime64;

    /// Tells what is left of a timer that is read.
    ///
    /// Source: timerfd_create(2).
    timerfd_gettime64 { x86_64: _, x86_32: 410, arm64: _, arm32: 410 } (fd: Fd, value: Out(Structure::Itimerspec64)) => events::timerfd_gettime64;

    /// Opens a set of signals that are read, or changes it.
    ///
    /// Source: signalfd(2).
    signalfd { x86_64: 282, x86_32: 321, arm64: _, arm32: 349 } (fd: Int, set: In(Structure::SignalSet), size: Count) => events::signalfd;

    /// Opens a set of signals that are read, or changes it.
    ///
    /// Source: signalfd(2).
    signalfd4 { x86_64: 289, x86_32: 327, arm64: 74, arm32: 355 } (fd: Int, set: In(Structure::SignalSet), size: Count, flags: Flags(SFD)) => events::signalfd4;

    /// Tells the resolution of a clock: a nanosecond.
    ///
    /// Source: clock_getres(2).
    clock_getres { x86_64: 229, x86_32: 266, arm64: 114, arm32: 264 } (clock: OneOf(CLOCK), resolution: Out(Structure::Timespec)) => time::clock_getres;

    /// Tells the resolution of a clock: a nanosecond.
    ///
    /// Source: clock_getres(2).
    clock_getres_time64 { x86_64: _, x86_32: 406, arm64: _, arm32: 406 } (clock: OneOf(CLOCK), resolution: Out(Structure::Timespec64)) => time::clock_getres64;

    /// Sets a clock.
    ///
    /// Modelled: the user may not.
    /// Source: clock_settime(2).
    clock_settime { x86_64: 227, x86_32: 264, arm64: 112, arm32: 262 } (clock: OneOf(CLOCK), time: In(Structure::Timespec)) => time::clock_settime;

    /// Sets the clock.
    ///
    /// Modelled: the user may not.
    /// Source: gettimeofday(2).
    settimeofday { x86_64: 164, x86_32: 79, arm64: 170, arm32: 79 } (time: Address, zone: Address) => time::settimeofday;

    /// Tells the seconds since 1970.
    ///
    /// Source: time(2).
    time { x86_64: 201, x86_32: 13, arm64: _, arm32: _ } (time: Address) => time::seconds;

    /// Brings what was written into mapped files to them.
    ///
    /// Modelled: it is there already.
    /// Source: msync(2).
    msync { x86_64: 26, x86_32: 144, arm64: 227, arm32: 144 } (address: Address, length: Count, flags: Flags(MS)) => memory::msync;

    /// Keeps pages in memory.
    ///
    /// Source: mlock(2).
    mlock { x86_64: 149, x86_32: 150, arm64: 228, arm32: 150 } (address: Address, length: Count) => memory::lock;

    /// Keeps pages in memory no longer.
    ///
    /// Source: mlock(2).
    munlock { x86_64: 150, x86_32: 151, arm64: 229, arm32: 151 } (address: Address, length: Count) => memory::lock;

    /// Keeps pages in memory.
    ///
    /// Source: mlock(2).
    mlock2 { x86_64: 325, x86_32: 376, arm64: 284, arm32: 390 } (address: Address, length: Count, flags: Bits) => memory::lock_with;

    /// Keeps all pages in memory.
    ///
    /// Source: mlock(2).
    mlockall { x86_64: 151, x86_32: 152, arm64: 230, arm32: 152 } (flags: Flags(MCL)) => memory::lock_all;

    /// Keeps no pages in memory any longer.
    ///
    /// Source: mlock(2).
    munlockall { x86_64: 152, x86_32: 153, arm64: 231, arm32: 153 } () => memory::unlock_all;

    /// Tells which pages are in memory.
    ///
    /// Modelled: all are.
    /// Source: mincore(2).
    mincore { x86_64: 27, x86_32: 218, arm64: 232, arm32: 219 } (address: Address, length: Count, vector: Address) => memory::mincore;

    /// Opens a file in memory that has no name.
    ///
    /// Not modelled: seals, huge pages (EINVAL).
    /// Source: memfd_create(2).
    memfd_create { x86_64: 319, x86_32: 356, arm64: 279, arm32: 385 } (name: Text, flags: Flags(MFD)) => memory::memfd_create;

    /// Waits until one of the descriptors below `count` in three sets is ready.
    ///
    /// Returns how many are.
    /// Source: select(2).
    _newselect { x86_64: _, x86_32: 142, arm64: _, arm32: 142 } (count: Int, reads: Address, writes: Address, exceptions: Address, time: In(Structure::Timeval)) => polling::select;

    /// Waits until one of the descriptors below `count` in three sets is ready.
    ///
    /// Returns how many are.
    /// Source: select(2).
    select { x86_64: 23, x86_32: _, arm64: _, arm32: _ } (count: Int, reads: Address, writes: Address, exceptions: Address, time: In(Structure::Timeval)) => polling::select;

    /// Waits under another signal mask until one of the descriptors below `count` in three sets is ready.
    ///
    /// Returns how many are.
    /// Source: select(2).
    pselect6 { x86_64: 270, x86_32: 308, arm64: 72, arm32: 335 } (count: Int, reads: Address, writes: Address, exceptions: Address, time: In(Structure::Timespec), mask: Address) => polling::pselect6;

    /// Waits under another signal mask until one of the descriptors below `count` in three sets is ready.
    ///
    /// Returns how many are.
    /// Source: select(2).
    pselect6_time64 { x86_64: _, x86_32: 413, arm64: _, arm32: 413 } (count: Int, reads: Address, writes: Address, exceptions: Address, time: In(Structure::Timespec64), mask: Address) => polling::pselect6_time64;

    /// Makes a socket of the family `domain`, and opens it.
    ///
    /// Modelled: AF_UNIX, and AF_INET and AF_INET6 between the processes of the program: streams and datagrams. No other computer can be reached.
    /// Source: socket(2).
    socket { x86_64: 41, x86_32: 359, arm64: 198, arm32: 281 } (domain: OneOf(AF), type: Operation(SOCK), protocol: Number) => sockets::socket;

    /// Makes two sockets that are connected with each other, and writes their descriptors to `ends`.
    ///
    /// Source: socketpair(2).
    socketpair { x86_64: 53, x86_32: 360, arm64: 199, arm32: 288 } (domain: OneOf(AF), type: Operation(SOCK), protocol: Number, ends: Out(Structure::Descriptors)) => sockets::socketpair;

    /// Gives the socket `fd` the name at `address`.
    ///
    /// A path becomes a file. Ports below 1024 are for administrators: EACCES.
    /// Source: bind(2), unix(7), ip(7).
    bind { x86_64: 49, x86_32: 361, arm64: 200, arm32: 282 } (fd: Fd, address: In(Structure::SocketAddress(2)), length: Count) => sockets::bind;

    /// Makes the socket `fd` one that takes connections, of which `backlog` may wait.
    ///
    /// Source: listen(2).
    listen { x86_64: 50, x86_32: 363, arm64: 201, arm32: 284 } (fd: Fd, backlog: Int) => sockets::listen;

    /// Takes a connection that waits at the socket `fd`, and opens it.
    ///
    /// Source: accept(2).
    accept { x86_64: 43, x86_32: _, arm64: 202, arm32: 285 } (fd: Fd, address: Out(Structure::ToldAddress(2)), length: Address) => sockets::accept;

    /// Takes a connection that waits at the socket `fd`, and opens it with flags.
    ///
    /// Source: accept(2).
    accept4 { x86_64: 288, x86_32: 364, arm64: 242, arm32: 366 } (fd: Fd, address: Out(Structure::ToldAddress(2)), length: Address, flags: Operation(SOCK)) => sockets::accept4;

    /// Connects the socket `fd` with the one at `address`.
    ///
    /// Addresses that are not the computer's own cannot be reached: ENETUNREACH.
    /// Source: connect(2).
    connect { x86_64: 42, x86_32: 362, arm64: 203, arm32: 283 } (fd: Fd, address: In(Structure::SocketAddress(2)), length: Count) => sockets::connect;

    /// Shuts down one direction of the connection `fd`, or both.
    ///
    /// Source: shutdown(2).
    shutdown { x86_64: 48, x86_32: 373, arm64: 210, arm32: 293 } (fd: Fd, how: OneOf(SHUT)) => sockets::shutdown;

    /// Tells the name of the socket `fd`.
    ///
    /// Source: getsockname(2).
    getsockname { x86_64: 51, x86_32: 367, arm64: 204, arm32: 286 } (fd: Fd, address: Out(Structure::ToldAddress(2)), length: Address) => sockets::getsockname;

    /// Tells the name of the socket that `fd` is connected with.
    ///
    /// Source: getpeername(2).
    getpeername { x86_64: 52, x86_32: 368, arm64: 205, arm32: 287 } (fd: Fd, address: Out(Structure::ToldAddress(2)), length: Address) => sockets::getpeername;

    /// Sends `count` bytes starting at `buf` by the socket `fd`, to `address` if it is not connected.
    ///
    /// Source: send(2).
    sendto { x86_64: 44, x86_32: 369, arm64: 206, arm32: 290 } (fd: Fd, buf: BytesIn(2), count: Count, flags: Flags(MSG), address: In(Structure::SocketAddress(5)), length: Count) => messages::sendto;

    /// Receives up to `count` bytes by the socket `fd` into `buf`, and tells who sent them.
    ///
    /// Source: recv(2).
    recvfrom { x86_64: 45, x86_32: 371, arm64: 207, arm32: 292 } (fd: Fd, buf: BytesOut, count: Count, flags: Flags(MSG), address: Out(Structure::ToldAddress(5)), length: Address) => messages::recvfrom;

    /// Sends the buffers of a message by the socket `fd`, with descriptors if it carries such.
    ///
    /// Source: send(2), unix(7).
    sendmsg { x86_64: 46, x86_32: 370, arm64: 211, arm32: 296 } (fd: Fd, message: In(Structure::Message), flags: Flags(MSG)) => messages::sendmsg;

    /// Receives into the buffers of a message by the socket `fd`, with descriptors if it carries such.
    ///
    /// Source: recv(2), unix(7).
    recvmsg { x86_64: 47, x86_32: 372, arm64: 212, arm32: 297 } (fd: Fd, message: Out(Structure::Message), flags: Flags(MSG)) => messages::recvmsg;

    /// Sends `count` messages by the socket `fd`.
    ///
    /// Returns how many were sent.
    /// Source: sendmmsg(2).
    sendmmsg { x86_64: 307, x86_32: 345, arm64: 269, arm32: 374 } (fd: Fd, messages: Address, count: Number, flags: Flags(MSG)) => messages::sendmmsg;

    /// Receives up to `count` messages by the socket `fd`.
    ///
    /// Returns how many were received.
    /// Source: recvmmsg(2).
    recvmmsg { x86_64: 299, x86_32: 337, arm64: 243, arm32: 365 } (fd: Fd, messages: Address, count: Number, flags: Flags(MSG), time: In(Structure::Timespec)) => messages::recvmmsg;

    /// Receives up to `count` messages by the socket `fd`, with seconds of 64 bits.
    ///
    /// Source: recvmmsg(2).
    recvmmsg_time64 { x86_64: _, x86_32: 417, arm64: _, arm32: 417 } (fd: Fd, messages: Address, count: Number, flags: Flags(MSG), time: In(Structure::Timespec64)) => messages::recvmmsg_time64;

    /// Sets an option of the socket `fd`.
    ///
    /// Modelled: times after which calls give up, SO_PASSCRED, SO_REUSEADDR, IPV6_V6ONLY. Others are kept and have no effect.
    /// Source: getsockopt(2), socket(7), tcp(7).
    setsockopt { x86_64: 54, x86_32: 366, arm64: 208, arm32: 294 } (fd: Fd, level: OneOf(SOL), option: Number, value: Address, length: Count) => socket_options::setsockopt;

    /// Tells an option of the socket `fd`.
    ///
    /// Source: getsockopt(2), socket(7), tcp(7).
    getsockopt { x86_64: 55, x86_32: 365, arm64: 209, arm32: 295 } (fd: Fd, level: OneOf(SOL), option: Number, value: Address, length: Address) => socket_options::getsockopt;

    /// Makes one of the calls of sockets, with its arguments in words at `arguments`.
    ///
    /// Source: socketcall(2).
    socketcall { x86_64: _, x86_32: 102, arm64: _, arm32: 102 } (call: OneOf(SOCKETCALL), arguments: Address) => sockets::socketcall;

    /// Opens a set of descriptors that are waited for.
    ///
    /// Source: epoll_create(2).
    epoll_create { x86_64: 213, x86_32: 254, arm64: _, arm32: 250 } (size: Int) => epoll::epoll_create;

    /// Opens a set of descriptors that are waited for.
    ///
    /// Source: epoll_create(2).
    epoll_create1 { x86_64: 291, x86_32: 329, arm64: 20, arm32: 357 } (flags: Flags(EPOLL)) => epoll::epoll_create1;

    /// Adds the descriptor `fd` to the set `set`, changes what is asked of it, or takes it out.
    ///
    /// Files and directories are always ready, and are refused: EPERM.
    /// Source: epoll_ctl(2), epoll(7).
    epoll_ctl { x86_64: 233, x86_32: 255, arm64: 21, arm32: 251 } (set: Fd, operation: OneOf(EPOLL_CTL), fd: Fd, event: In(Structure::EpollEvent)) => epoll::epoll_ctl;

    /// Waits until a descriptor of the set `set` is ready, at most `timeout` milliseconds.
    ///
    /// Returns how many are, up to `count`.
    /// Source: epoll_wait(2).
    epoll_wait { x86_64: 232, x86_32: 256, arm64: _, arm32: 252 } (set: Fd, events: Out(Structure::EpollEvents), count: Int, timeout: Int) => epoll::epoll_wait;

    /// Waits under another signal mask until a descriptor of the set `set` is ready, at most `timeout` milliseconds.
    ///
    /// Source: epoll_wait(2).
    epoll_pwait { x86_64: 281, x86_32: 319, arm64: 22, arm32: 346 } (set: Fd, events: Out(Structure::EpollEvents), count: Int, timeout: Int, mask: In(Structure::SignalSet), size: Count) => epoll::epoll_pwait;

    /// Waits under another signal mask until a descriptor of the set `set` is ready, as long as the structure at `time` says.
    ///
    /// Source: epoll_wait(2).
    epoll_pwait2 { x86_64: 441, x86_32: 441, arm64: 441, arm32: 441 } (set: Fd, events: Out(Structure::EpollEvents), count: Int, time: In(Structure::Timespec64), mask: In(Structure::SignalSet), size: Count) => epoll::epoll_pwait2;

    /// Opens a descriptor that names a process.
    ///
    /// It can be read when the process has ended.
    /// Source: pidfd_open(2).
    pidfd_open { x86_64: 434, x86_32: 434, arm64: 434, arm32: 434 } (pid: Int, flags: Flags(PIDFD)) => pidfds::pidfd_open;

    /// Sends a signal to the process that `fd` names.
    ///
    /// Source: pidfd_send_signal(2).
    pidfd_send_signal { x86_64: 424, x86_32: 424, arm64: 424, arm32: 424 } (fd: Fd, signal: Signal, info: In(Structure::SignalInfo), flags: Number) => pidfds::pidfd_send_signal;

    /// Makes another descriptor for what `wanted` names in the process that `fd` names.
    ///
    /// Source: pidfd_getfd(2).
    pidfd_getfd { x86_64: 438, x86_32: 438, arm64: 438, arm32: 438 } (fd: Fd, wanted: Number, flags: Number) => pidfds::pidfd_getfd;

    /// Makes the file `path`: a pipe that has a name, or an empty file.
    ///
    /// Devices are for administrators: EPERM.
    /// Source: mknod(2), fifo(7).
    mknod { x86_64: 133, x86_32: 14, arm64: _, arm32: 14 } (path: Text, mode: Mode, device: Number) => paths::mknod;

    /// Makes the file `path`, from the directory `fd`: a pipe that has a name, or an empty file.
    ///
    /// Source: mknod(2), fifo(7).
    mknodat { x86_64: 259, x86_32: 297, arm64: 33, arm32: 324 } (fd: DirFd, path: Text, mode: Mode, device: Number) => paths::mknodat;
}

impl SyscallRow {
    /// Whether it is one of the calls that first programs make: their numbers of another machine are common mistakes.
    pub fn is_basic(&self) -> bool {
        matches!(self.name, "read" | "write" | "open" | "exit")
    }

    /// Whether it ends a thread or the program.
    pub fn exits(&self) -> bool {
        matches!(self.name, "exit" | "exit_group")
    }

    /// Whether it waits for a child to change its state.
    pub fn waits_for_child(&self) -> bool {
        matches!(self.name, "wait4" | "waitid" | "waitpid")
    }

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

/// The calls of a machine by their numbers; `u16::MAX` where there is none.
fn index(abi: SyscallAbi) -> &'static [u16] {
    static INDICES: [OnceLock<Box<[u16]>>; 3] = [const { OnceLock::new() }; 3];
    INDICES[abi as usize].get_or_init(|| {
        let numbers = SYSCALLS.iter().enumerate();
        let numbers = numbers.filter_map(|(row, call)| Some((call.number_in(abi)?, row)));
        let numbers: Vec<(u64, usize)> = numbers.collect();
        let highest = numbers.iter().map(|(number, _)| *number).max().unwrap_or(0);
        let mut index = vec![u16::MAX; highest as usize + 1];
        for (number, row) in numbers {
            index[number as usize] = row as u16;
        }
        index.into()
    })
}

/// The call with this number.
pub fn by_number(abi: SyscallAbi, number: u64) -> Option<&'static SyscallRow> {
    let row = index(abi).get(usize::try_from(number).ok()?)?;
    SYSCALLS.get(usize::from(*row))
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
        assert!(by_number(SyscallAbi::X86_64, 400).is_none());
        let names: Vec<_> =
            elsewhere(SyscallAbi::X86_64, 7).iter().map(|(m, r)| (*m, r.name)).collect();
        assert_eq!(names, [("32-bit x86", "waitpid"), ("arm64", "fsetxattr")]);
        let names: Vec<_> =
            elsewhere(SyscallAbi::X86_64, 64).iter().map(|(m, r)| (*m, r.name)).collect();
        assert_eq!(names[0], ("arm64", "write"));
    }
}
