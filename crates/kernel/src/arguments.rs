//! Arguments of system calls: what each is, and the types in which the functions take them.

use crate::structures::Structure;

/// What an argument is, for checking it and for showing it.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum ArgumentKind {
    /// A file descriptor.
    Fd,
    /// Address of bytes that the call reads; their number is the argument at this index.
    BytesIn(usize),
    /// Address of bytes that the call fills; their number is the result.
    BytesOut,
    /// A number of bytes.
    Count,
    /// An exit status; the low 8 bits count.
    Status,
    /// A number.
    Number,
    /// A number whose bits are what counts.
    Bits,
    /// An address of something in the program's memory.
    Address,
    /// Address of a structure that the call reads.
    In(Structure),
    /// Address of a structure that the call fills.
    Out(Structure),
    /// Address of a text that ends with a zero byte.
    Text,
    /// A signal's number.
    Signal,
    /// A file descriptor of a directory, or AT_FDCWD.
    DirFd,
    /// A signed number.
    Signed,
    /// A signed number of 32 bits.
    Int,
    /// The upper half of the argument before, on machines whose registers have 32 bits; elsewhere it is not there.
    High,
    /// Permissions of a file.
    Mode,
    /// Flags of `open`, with the way in which the file is used.
    OpenFlags,
    /// Flags that have names.
    Flags(&'static [(&'static str, u64)]),
    /// One of some values that have names, in the lowest seven bits, and flags that have names too.
    Operation(&'static [(&'static str, u64)]),
    /// One of some values that have names.
    OneOf(&'static [(&'static str, u64)]),
}

/// Flags of calls that name files. Source: openat(2).
pub(crate) const AT: &[(&str, u64)] = &[
    ("AT_SYMLINK_NOFOLLOW", 0x100),
    ("AT_SYMLINK_FOLLOW", 0x400),
    ("AT_NO_AUTOMOUNT", 0x800),
    ("AT_EMPTY_PATH", 0x1000),
];
/// Flags of unlinkat(2).
pub(crate) const AT_REMOVE: &[(&str, u64)] = &[("AT_REMOVEDIR", 0x200)];
/// Flags of faccessat2(2).
pub(crate) const AT_ACCESS: &[(&str, u64)] =
    &[("AT_SYMLINK_NOFOLLOW", 0x100), ("AT_EACCESS", 0x200), ("AT_EMPTY_PATH", 0x1000)];
/// Protection of memory. Source: mmap(2).
pub(crate) const PROT: &[(&str, u64)] = &[("PROT_READ", 1), ("PROT_WRITE", 2), ("PROT_EXEC", 4)];
/// Flags of mmap(2).
pub(crate) const MAP: &[(&str, u64)] = &[
    ("MAP_SHARED", 1),
    ("MAP_PRIVATE", 2),
    ("MAP_FIXED", 0x10),
    ("MAP_ANONYMOUS", 0x20),
    ("MAP_GROWSDOWN", 0x100),
    ("MAP_DENYWRITE", 0x800),
    ("MAP_NORESERVE", 0x4000),
    ("MAP_POPULATE", 0x8000),
    ("MAP_STACK", 0x2_0000),
    ("MAP_FIXED_NOREPLACE", 0x10_0000),
];
/// Flags of mremap(2).
pub(crate) const MREMAP: &[(&str, u64)] = &[("MREMAP_MAYMOVE", 1), ("MREMAP_FIXED", 2)];
/// What access(2) asks.
pub(crate) const ACCESS: &[(&str, u64)] = &[("R_OK", 4), ("W_OK", 2), ("X_OK", 1)];
/// Where lseek(2) counts from.
pub(crate) const SEEK: &[(&str, u64)] =
    &[("SEEK_SET", 0), ("SEEK_CUR", 1), ("SEEK_END", 2), ("SEEK_DATA", 3), ("SEEK_HOLE", 4)];
/// Commands of fcntl(2).
pub(crate) const FCNTL: &[(&str, u64)] = &[
    ("F_DUPFD", 0),
    ("F_GETFD", 1),
    ("F_SETFD", 2),
    ("F_GETFL", 3),
    ("F_SETFL", 4),
    ("F_GETLK", 5),
    ("F_SETLK", 6),
    ("F_SETLKW", 7),
    ("F_OFD_GETLK", 36),
    ("F_OFD_SETLK", 37),
    ("F_OFD_SETLKW", 38),
    ("F_DUPFD_CLOEXEC", 1030),
];
/// Flags of renameat2(2).
pub(crate) const RENAME: &[(&str, u64)] = &[("RENAME_NOREPLACE", 1), ("RENAME_EXCHANGE", 2)];
/// Clocks. Source: clock_gettime(2).
pub(crate) const CLOCK: &[(&str, u64)] = &[
    ("CLOCK_REALTIME", 0),
    ("CLOCK_MONOTONIC", 1),
    ("CLOCK_PROCESS_CPUTIME_ID", 2),
    ("CLOCK_THREAD_CPUTIME_ID", 3),
    ("CLOCK_MONOTONIC_RAW", 4),
    ("CLOCK_REALTIME_COARSE", 5),
    ("CLOCK_MONOTONIC_COARSE", 6),
    ("CLOCK_BOOTTIME", 7),
    ("CLOCK_REALTIME_ALARM", 8),
    ("CLOCK_BOOTTIME_ALARM", 9),
    ("CLOCK_TAI", 11),
];
/// How sigprocmask(2) changes a mask.
pub(crate) const SIG: &[(&str, u64)] = &[("SIG_BLOCK", 0), ("SIG_UNBLOCK", 1), ("SIG_SETMASK", 2)];
/// Timers of setitimer(2).
pub(crate) const ITIMER: &[(&str, u64)] =
    &[("ITIMER_REAL", 0), ("ITIMER_VIRTUAL", 1), ("ITIMER_PROF", 2)];
/// Flags of clock_nanosleep(2).
pub(crate) const TIMER: &[(&str, u64)] = &[("TIMER_ABSTIME", 1)];
/// Codes of arch_prctl(2).
pub(crate) const ARCH: &[(&str, u64)] = &[
    ("ARCH_SET_GS", 0x1001),
    ("ARCH_SET_FS", 0x1002),
    ("ARCH_GET_FS", 0x1003),
    ("ARCH_GET_GS", 0x1004),
];
/// Resources of getrlimit(2).
pub(crate) const RLIMIT: &[(&str, u64)] = &[
    ("RLIMIT_CPU", 0),
    ("RLIMIT_FSIZE", 1),
    ("RLIMIT_DATA", 2),
    ("RLIMIT_STACK", 3),
    ("RLIMIT_CORE", 4),
    ("RLIMIT_RSS", 5),
    ("RLIMIT_NPROC", 6),
    ("RLIMIT_NOFILE", 7),
    ("RLIMIT_MEMLOCK", 8),
    ("RLIMIT_AS", 9),
    ("RLIMIT_LOCKS", 10),
    ("RLIMIT_SIGPENDING", 11),
    ("RLIMIT_MSGQUEUE", 12),
    ("RLIMIT_NICE", 13),
    ("RLIMIT_RTPRIO", 14),
    ("RLIMIT_RTTIME", 15),
];
/// Options of prctl(2).
pub(crate) const PRCTL: &[(&str, u64)] = &[
    ("PR_SET_PDEATHSIG", 1),
    ("PR_GET_PDEATHSIG", 2),
    ("PR_GET_DUMPABLE", 3),
    ("PR_SET_DUMPABLE", 4),
    ("PR_SET_NAME", 15),
    ("PR_GET_NAME", 16),
    ("PR_GET_SECCOMP", 21),
    ("PR_SET_NO_NEW_PRIVS", 38),
    ("PR_GET_NO_NEW_PRIVS", 39),
    ("PR_SET_VMA", 0x5356_4d41),
];
/// Advice of madvise(2).
pub(crate) const MADV: &[(&str, u64)] = &[
    ("MADV_NORMAL", 0),
    ("MADV_RANDOM", 1),
    ("MADV_SEQUENTIAL", 2),
    ("MADV_WILLNEED", 3),
    ("MADV_DONTNEED", 4),
    ("MADV_FREE", 8),
    ("MADV_REMOVE", 9),
    ("MADV_HUGEPAGE", 14),
    ("MADV_NOHUGEPAGE", 15),
];
/// Requests of ioctl(2) on terminals and on every file.
pub(crate) const IOCTL: &[(&str, u64)] = &[
    ("TCGETS", 0x5401),
    ("TCSETS", 0x5402),
    ("TIOCGPGRP", 0x540f),
    ("TIOCSPGRP", 0x5410),
    ("TIOCGWINSZ", 0x5413),
    ("FIONREAD", 0x541b),
    ("FIONBIO", 0x5421),
    ("FIONCLEX", 0x5450),
    ("FIOCLEX", 0x5451),
];
/// Flags of eventfd(2).
pub(crate) const EFD: &[(&str, u64)] =
    &[("EFD_SEMAPHORE", 1), ("EFD_NONBLOCK", 0o4000), ("EFD_CLOEXEC", 0o2_000_000)];
/// Operations of futex(2), with their flags.
pub(crate) const FUTEX: &[(&str, u64)] = &[
    ("FUTEX_CLOCK_REALTIME", 0x100),
    ("FUTEX_PRIVATE_FLAG", 0x80),
    ("FUTEX_WAIT", 0),
    ("FUTEX_WAKE", 1),
    ("FUTEX_REQUEUE", 3),
    ("FUTEX_CMP_REQUEUE", 4),
    ("FUTEX_WAKE_OP", 5),
    ("FUTEX_LOCK_PI", 6),
    ("FUTEX_UNLOCK_PI", 7),
    ("FUTEX_TRYLOCK_PI", 8),
    ("FUTEX_WAIT_BITSET", 9),
    ("FUTEX_WAKE_BITSET", 10),
    ("FUTEX_WAIT_REQUEUE_PI", 11),
    ("FUTEX_CMP_REQUEUE_PI", 12),
    ("FUTEX_LOCK_PI2", 13),
];
/// Families of sockets. Source: socket(2).
pub(crate) const AF: &[(&str, u64)] =
    &[("AF_UNIX", 1), ("AF_INET", 2), ("AF_INET6", 10), ("AF_NETLINK", 16), ("AF_PACKET", 17)];
/// Types of sockets, with their flags.
pub(crate) const SOCK: &[(&str, u64)] = &[
    ("SOCK_NONBLOCK", 0o4000),
    ("SOCK_CLOEXEC", 0o2_000_000),
    ("SOCK_STREAM", 1),
    ("SOCK_DGRAM", 2),
    ("SOCK_RAW", 3),
    ("SOCK_SEQPACKET", 5),
];
/// Flags of send(2) and recv(2).
pub(crate) const MSG: &[(&str, u64)] = &[
    ("MSG_OOB", 1),
    ("MSG_PEEK", 2),
    ("MSG_DONTROUTE", 4),
    ("MSG_TRUNC", 0x20),
    ("MSG_DONTWAIT", 0x40),
    ("MSG_EOR", 0x80),
    ("MSG_WAITALL", 0x100),
    ("MSG_ERRQUEUE", 0x2000),
    ("MSG_NOSIGNAL", 0x4000),
    ("MSG_MORE", 0x8000),
    ("MSG_WAITFORONE", 0x1_0000),
    ("MSG_CMSG_CLOEXEC", 0x4000_0000),
];
/// What shutdown(2) shuts down.
pub(crate) const SHUT: &[(&str, u64)] = &[("SHUT_RD", 0), ("SHUT_WR", 1), ("SHUT_RDWR", 2)];
/// Levels of options of sockets. Source: getsockopt(2).
pub(crate) const SOL: &[(&str, u64)] =
    &[("IPPROTO_IP", 0), ("SOL_SOCKET", 1), ("IPPROTO_TCP", 6), ("IPPROTO_IPV6", 41)];
/// The calls that socketcall(2) makes. Source: <linux/net.h>.
pub(crate) const SOCKETCALL: &[(&str, u64)] = &[
    ("SYS_SOCKET", 1),
    ("SYS_BIND", 2),
    ("SYS_CONNECT", 3),
    ("SYS_LISTEN", 4),
    ("SYS_ACCEPT", 5),
    ("SYS_GETSOCKNAME", 6),
    ("SYS_GETPEERNAME", 7),
    ("SYS_SOCKETPAIR", 8),
    ("SYS_SEND", 9),
    ("SYS_RECV", 10),
    ("SYS_SENDTO", 11),
    ("SYS_RECVFROM", 12),
    ("SYS_SHUTDOWN", 13),
    ("SYS_SETSOCKOPT", 14),
    ("SYS_GETSOCKOPT", 15),
    ("SYS_SENDMSG", 16),
    ("SYS_RECVMSG", 17),
    ("SYS_ACCEPT4", 18),
    ("SYS_RECVMMSG", 19),
    ("SYS_SENDMMSG", 20),
];
/// Operations of epoll_ctl(2).
pub(crate) const EPOLL_CTL: &[(&str, u64)] =
    &[("EPOLL_CTL_ADD", 1), ("EPOLL_CTL_DEL", 2), ("EPOLL_CTL_MOD", 3)];
/// Flags of epoll_create1(2).
pub(crate) const EPOLL: &[(&str, u64)] = &[("EPOLL_CLOEXEC", 0o2_000_000)];
/// Flags of pidfd_open(2).
pub(crate) const PIDFD: &[(&str, u64)] = &[("PIDFD_NONBLOCK", 0o4000)];
/// Flags of pipe2(2).
pub(crate) const PIPE: &[(&str, u64)] =
    &[("O_NONBLOCK", 0o4000), ("O_DIRECT", 0o40_000), ("O_CLOEXEC", 0o2_000_000)];
/// Flags of timerfd_create(2).
pub(crate) const TFD: &[(&str, u64)] = &[("TFD_NONBLOCK", 0o4000), ("TFD_CLOEXEC", 0o2_000_000)];
/// Flags of signalfd(2).
pub(crate) const SFD: &[(&str, u64)] = &[("SFD_NONBLOCK", 0o4000), ("SFD_CLOEXEC", 0o2_000_000)];
/// Flags of mlockall(2).
pub(crate) const MCL: &[(&str, u64)] = &[("MCL_CURRENT", 1), ("MCL_FUTURE", 2), ("MCL_ONFAULT", 4)];
/// Flags of close_range(2).
pub(crate) const CLOSE_RANGE: &[(&str, u64)] =
    &[("CLOSE_RANGE_UNSHARE", 2), ("CLOSE_RANGE_CLOEXEC", 4)];
/// Flags of memfd_create(2).
pub(crate) const MFD: &[(&str, u64)] =
    &[("MFD_CLOEXEC", 1), ("MFD_ALLOW_SEALING", 2), ("MFD_HUGETLB", 4)];
/// Flags of msync(2).
pub(crate) const MS: &[(&str, u64)] = &[("MS_ASYNC", 1), ("MS_INVALIDATE", 2), ("MS_SYNC", 4)];
/// Flags of preadv2(2).
pub(crate) const RWF: &[(&str, u64)] =
    &[("RWF_HIPRI", 1), ("RWF_DSYNC", 2), ("RWF_SYNC", 4), ("RWF_NOWAIT", 8), ("RWF_APPEND", 0x10)];
/// Flags of setxattr(2).
pub(crate) const XATTR: &[(&str, u64)] = &[("XATTR_CREATE", 1), ("XATTR_REPLACE", 2)];
/// Operations of flock(2).
pub(crate) const LOCK: &[(&str, u64)] =
    &[("LOCK_SH", 1), ("LOCK_EX", 2), ("LOCK_NB", 4), ("LOCK_UN", 8)];
/// Modes of fallocate(2).
pub(crate) const FALLOC: &[(&str, u64)] =
    &[("FALLOC_FL_KEEP_SIZE", 1), ("FALLOC_FL_PUNCH_HOLE", 2)];

/// A file descriptor: a 32-bit integer, the upper half of the register does not matter.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) struct Fd(pub u32);

/// An address in the program's memory.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) struct Address(pub u64);

/// An argument as a function takes it.
pub(crate) trait Argument {
    /// The argument in a register.
    fn from_register(value: u64) -> Self;
}

impl Argument for Fd {
    fn from_register(value: u64) -> Fd {
        Fd(value as u32)
    }
}

impl Argument for Address {
    fn from_register(value: u64) -> Address {
        Address(value)
    }
}

impl Argument for u64 {
    fn from_register(value: u64) -> u64 {
        value
    }
}

impl Argument for u32 {
    fn from_register(value: u64) -> u32 {
        value as u32
    }
}

impl Argument for i32 {
    fn from_register(value: u64) -> i32 {
        value as i32
    }
}
