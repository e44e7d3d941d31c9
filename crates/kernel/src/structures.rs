//! Structures that arguments of system calls point to, in words.

use std::fmt::Write;

use sotto_machine::Machine;

use crate::abi::SyscallAbi;
use crate::calls::epoll;
use crate::files::addresses::{MAX_ADDRESS_BYTES, SocketAddress};
use crate::layout::number_at;
use crate::signals::signal_name;

/// A structure in the program's memory. Words are those of the machine.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Structure {
    /// Seconds and nanoseconds. Source: timespec(3type).
    Timespec,
    /// The same with words of 64 bits.
    Timespec64,
    /// Two of them: of the last access, and of the last change. Source: utimensat(2).
    TwoTimespecs,
    /// The same with words of 64 bits.
    TwoTimespecs64,
    /// Seconds and microseconds. Source: timeval(3type).
    Timeval,
    /// An interval and a value, in seconds and nanoseconds. Source: itimerspec(3type).
    Itimerspec,
    /// The same with words of 64 bits.
    Itimerspec64,
    /// An interval and a value, in seconds and microseconds. Source: setitimer(2).
    Itimerval,
    /// A set of signals, of 64 bits. Source: sigsetops(3).
    SignalSet,
    /// What is done at a signal, as the kernel takes it. Source: sigaction(2).
    SignalAction,
    /// What is told of a signal. Source: siginfo_t(3type).
    SignalInfo,
    /// An alternate stack. Source: sigaltstack(2).
    SignalStack,
    /// Two limits of words. Source: getrlimit(2).
    Limits,
    /// Two limits of 64 bits.
    Limits64,
    /// What is told of a file. Source: stat(3type), <asm/stat.h>.
    Stat,
    /// The same with sizes of 64 bits, on 32-bit machines.
    Stat64,
    /// What is told of a file by statx(2).
    Statx,
    /// Descriptors to be waited for, as many as the argument at this index says. Source: poll(2).
    Poll(usize),
    /// Buffers, as many as the argument at this index says. Source: iovec(3type).
    Vector(usize),
    /// Entries of a directory, as many bytes as the call returned. Source: getdents(2).
    Entries,
    /// What a process has used. Source: getrusage(2).
    Usage,
    /// An offset in a file, of 64 bits.
    Offset,
    /// A number of 32 bits.
    Number,
    /// Two descriptors.
    Descriptors,
    /// An address of a socket, as long as the argument at this index says. Source: sockaddr(3type).
    SocketAddress(usize),
    /// An address of a socket that is told, with its length where the argument at this index says.
    ToldAddress(usize),
    /// A message with its buffers. Source: recvmsg(2).
    Message,
    /// Events that are waited for. Source: epoll_event(3type).
    EpollEvent,
    /// Events that are told, as many as the call returned.
    EpollEvents,
}

/// Pieces of a list that are shown.
const SHOWN_PIECES: u64 = 8;
/// Bytes of a piece that are shown.
const SHOWN_BYTES: u64 = 32;

/// Flags of sigaction(2).
const ACTION_FLAGS: [(&str, u64); 8] = [
    ("SA_NOCLDSTOP", 1),
    ("SA_NOCLDWAIT", 2),
    ("SA_SIGINFO", 4),
    ("SA_RESTORER", 0x0400_0000),
    ("SA_ONSTACK", 0x0800_0000),
    ("SA_RESTART", 0x1000_0000),
    ("SA_NODEFER", 0x4000_0000),
    ("SA_RESETHAND", 0x8000_0000),
];
/// Events of poll(2).
const POLL_EVENTS: [(&str, u64); 9] = [
    ("POLLIN", 1),
    ("POLLPRI", 2),
    ("POLLOUT", 4),
    ("POLLERR", 8),
    ("POLLHUP", 0x10),
    ("POLLNVAL", 0x20),
    ("POLLRDNORM", 0x40),
    ("POLLWRNORM", 0x100),
    ("POLLRDHUP", 0x2000),
];
/// Events of epoll_ctl(2).
const EPOLL_EVENTS: [(&str, u64); 12] = [
    ("EPOLLIN", 1),
    ("EPOLLPRI", 2),
    ("EPOLLOUT", 4),
    ("EPOLLERR", 8),
    ("EPOLLHUP", 0x10),
    ("EPOLLRDNORM", 0x40),
    ("EPOLLWRNORM", 0x100),
    ("EPOLLRDHUP", 0x2000),
    ("EPOLLEXCLUSIVE", 1 << 28),
    ("EPOLLWAKEUP", 1 << 29),
    ("EPOLLONESHOT", 1 << 30),
    ("EPOLLET", 1 << 31),
];

/// Reads structures out of the memory of a program.
struct Reader<'a> {
    machine: &'a Machine,
    word: usize,
}

impl Reader<'_> {
    fn bytes(&self, address: u64, count: usize) -> Option<Vec<u8>> {
        let mut bytes = vec![0; count];
        self.machine.memory().read_bytes(address, &mut bytes).ok()?;
        Some(bytes)
    }

    fn numbers<const N: usize>(&self, address: u64, width: usize) -> Option<[u64; N]> {
        let bytes = self.bytes(address, N * width)?;
        Some(std::array::from_fn(|index| number_at(&bytes, index * width, width)))
    }

    /// A time of two words, of which the second counts parts of a second.
    fn time(&self, address: u64, width: usize, parts: u64) -> Option<String> {
        let [seconds, rest] = self.numbers(address, width)?;
        let shift = 64 - 8 * width as u32;
        let (seconds, rest) = ((seconds << shift) as i64 >> shift, (rest << shift) as i64 >> shift);
        Some(match rest {
            UTIME_NOW if parts == NANOSECONDS => "now".to_string(),
            UTIME_OMIT if parts == NANOSECONDS => "as it is".to_string(),
            rest if (0..parts as i64).contains(&rest) => {
                let digits = parts.ilog10() as usize;
                let text = format!("{seconds}.{rest:0digits$}");
                format!("{} s", text.trim_end_matches('0').trim_end_matches('.'))
            }
            rest => format!("{{{seconds}, {rest}}}"),
        })
    }

    fn times(&self, address: u64, width: usize, parts: u64) -> Option<[String; 2]> {
        let second = address.wrapping_add(2 * width as u64);
        Some([self.time(address, width, parts)?, self.time(second, width, parts)?])
    }

    fn timer(&self, address: u64, width: usize, parts: u64) -> Option<String> {
        let [interval, value] = self.times(address, width, parts)?;
        Some(match interval.as_str() {
            "0 s" => format!("{{{value}}}"),
            _ => format!("{{{value}, then every {interval}}}"),
        })
    }

    /// Bytes as a quoted text, cut short if they are many.
    fn text(&self, address: u64, count: u64) -> Option<String> {
        let bytes = self.bytes(address, count.min(SHOWN_BYTES) as usize)?;
        let more = if count > SHOWN_BYTES { "..." } else { "" };
        Some(format!("\"{}\"{more}", bytes.escape_ascii()))
    }

    fn list(&self, count: u64, piece: impl Fn(u64) -> Option<String>) -> Option<String> {
        let shown: Option<Vec<String>> = (0..count.min(SHOWN_PIECES)).map(piece).collect();
        let more = if count > SHOWN_PIECES { ", ..." } else { "" };
        Some(format!("[{}{more}]", shown?.join(", ")))
    }

    fn action(&self, address: u64) -> Option<String> {
        let [handler, action, _] = self.numbers(address, self.word)?;
        let [mask] = self.numbers(address.wrapping_add(3 * self.word as u64), 8)?;
        let handler = match handler {
            0 => "SIG_DFL".to_string(),
            1 => "SIG_IGN".to_string(),
            routine => format!("{routine:#x}"),
        };
        let mut text = format!("{{{handler}");
        if action != 0 {
            let _ = write!(text, ", {}", flags(action, &ACTION_FLAGS));
        }
        if mask != 0 {
            let _ = write!(text, ", mask {}", signals(mask));
        }
        Some(text + "}")
    }

    fn signal(&self, address: u64) -> Option<String> {
        let [number, _, code] = self.numbers(address, 4)?;
        let from = if self.word == 8 { 16 } else { 12 };
        let [process, user] = self.numbers(address.wrapping_add(from), 4)?;
        let name = signal_name(number as u32);
        Some(match code as i32 {
            0 => format!("{{{name}, SI_USER, from {process}, user {user}}}"),
            -1 => format!("{{{name}, SI_QUEUE, from {process}, user {user}}}"),
            -2 => format!("{{{name}, SI_TIMER}}"),
            -6 => format!("{{{name}, SI_TKILL, from {process}, user {user}}}"),
            0x80 => format!("{{{name}, SI_KERNEL}}"),
            code => format!("{{{name}, code {code}}}"),
        })
    }

    fn limits(&self, address: u64, width: usize) -> Option<String> {
        let mask = if width == 8 { u64::MAX } else { u32::MAX.into() };
        let limit = |value: u64| match value == mask {
            true => "unlimited".to_string(),
            false => value.to_string(),
        };
        let [soft, hard] = self.numbers(address, width)?;
        Some(format!("{{{}, at most {}}}", limit(soft), limit(hard)))
    }

    /// Mode and size, at their offsets with their widths.
    fn file(&self, address: u64, mode: (u64, usize), size: (u64, usize)) -> Option<String> {
        let [mode] = self.numbers(address.wrapping_add(mode.0), mode.1)?;
        let [size] = self.numbers::<1>(address.wrapping_add(size.0), size.1)?;
        let kind = match mode >> 12 & 0xf {
            1 => "pipe",
            2 => "device",
            4 => "directory",
            8 => "file",
            10 => "link",
            12 => "socket",
            _ => "nameless",
        };
        let plural = if size == 1 { "" } else { "s" };
        Some(format!("{{{kind}, {:#o}, {size} byte{plural}}}", mode & 0o7777))
    }

    fn entries(&self, address: u64, bytes: u64) -> Option<String> {
        let (mut at, mut names) = (0, Vec::new());
        while at < bytes {
            let start = address.wrapping_add(at);
            let [length] = self.numbers(start.wrapping_add(16), 2)?;
            let name = self.bytes(start.wrapping_add(19), (length as usize).checked_sub(19)?)?;
            let end = name.iter().position(|byte| *byte == 0).unwrap_or(name.len());
            names.push(format!("\"{}\"", name[..end].escape_ascii()));
            at += length;
        }
        let more = if names.len() as u64 > SHOWN_PIECES { ", ..." } else { "" };
        names.truncate(SHOWN_PIECES as usize);
        Some(format!("[{}{more}]", names.join(", ")))
    }
}

impl Reader<'_> {
    /// Buffers, as many as there are said to be.
    fn vector(&self, address: u64, count: u64) -> Option<String> {
        self.list(count, |number| {
            let at = address.wrapping_add(2 * self.word as u64 * number);
            let [base, length] = self.numbers(at, self.word)?;
            Some(self.text(base, length).unwrap_or_else(|| format!("{length} at {base:#x}")))
        })
    }

    /// Events, and the data that comes with them.
    fn event(&self, address: u64, data: usize) -> Option<String> {
        let [events] = self.numbers(address, 4)?;
        let [data] = self.numbers(address.wrapping_add(data as u64), 8)?;
        let data = if data < 10 { data.to_string() } else { format!("{data:#x}") };
        Some(format!("{{{}, {data}}}", flags(events, &EPOLL_EVENTS)))
    }
}

const NANOSECONDS: u64 = 1_000_000_000;
const MICROSECONDS: u64 = 1_000_000;
const UTIME_NOW: i64 = 0x3fff_ffff;
const UTIME_OMIT: i64 = 0x3fff_fffe;

impl Structure {
    /// The structure at an address in words; `None` if it cannot be read. `values` are all arguments of the call, and `result` is
    /// what it returned.
    pub(crate) fn show(
        self,
        machine: &Machine,
        abi: SyscallAbi,
        address: u64,
        values: &[u64],
        result: u64,
    ) -> Option<String> {
        if address == 0 {
            return None;
        }
        let word = abi.word_bytes();
        let reader = Reader { machine, word };
        match self {
            Structure::Timespec => reader.time(address, word, NANOSECONDS),
            Structure::Timespec64 => reader.time(address, 8, NANOSECONDS),
            Structure::TwoTimespecs => reader
                .times(address, word, NANOSECONDS)
                .map(|times| format!("[{}]", times.join(", "))),
            Structure::TwoTimespecs64 => {
                reader.times(address, 8, NANOSECONDS).map(|times| format!("[{}]", times.join(", ")))
            }
            Structure::Timeval => reader.time(address, word, MICROSECONDS),
            Structure::Itimerspec => reader.timer(address, word, NANOSECONDS),
            Structure::Itimerspec64 => reader.timer(address, 8, NANOSECONDS),
            Structure::Itimerval => reader.timer(address, word, MICROSECONDS),
            Structure::SignalSet => reader.numbers(address, 8).map(|[set]| signals(set)),
            Structure::SignalAction => reader.action(address),
            Structure::SignalInfo => reader.signal(address),
            Structure::SignalStack => {
                let [base, state, size] = reader.numbers(address, word)?;
                Some(match state as u32 & 2 {
                    0 => format!("{{{size} bytes from {base:#x}}}"),
                    _ => "{none}".to_string(),
                })
            }
            Structure::Limits => reader.limits(address, word),
            Structure::Limits64 => reader.limits(address, 8),
            Structure::Stat => match abi {
                SyscallAbi::X86_64 => reader.file(address, (24, 4), (48, 8)),
                SyscallAbi::X86_32 => reader.file(address, (8, 2), (20, 4)),
                SyscallAbi::Arm64 => reader.file(address, (16, 4), (48, 8)),
            },
            Structure::Stat64 => reader.file(address, (16, 4), (44, 8)),
            Structure::Statx => reader.file(address, (28, 2), (40, 8)),
            Structure::Poll(count) => reader.list(*values.get(count)?, |number| {
                let at = address.wrapping_add(8 * number);
                let [fd] = reader.numbers(at, 4)?;
                let [events, found] = reader.numbers(at.wrapping_add(4), 2)?;
                let events = flags(events, &POLL_EVENTS);
                Some(match found {
                    0 => format!("{} {events}", fd as i32),
                    found => format!("{} {events} -> {}", fd as i32, flags(found, &POLL_EVENTS)),
                })
            }),
            Structure::Vector(count) => reader.vector(address, *values.get(count)?),
            Structure::Message => {
                let [name, bytes, vector, count] = reader.numbers(address, word)?;
                let buffers = reader.vector(vector, count)?;
                let length = (bytes & 0xffff_ffff).min(MAX_ADDRESS_BYTES as u64) as usize;
                let name = reader.bytes(name, length).filter(|_| name != 0);
                Some(match name.and_then(|name| SocketAddress::show(&name)) {
                    Some(name) => format!("{{{name}, {buffers}}}"),
                    None => format!("{{{buffers}}}"),
                })
            }
            Structure::Descriptors => {
                let [one, other] = reader.numbers(address, 4)?;
                Some(format!("[{}, {}]", one as i32, other as i32))
            }
            Structure::SocketAddress(length) => {
                let length = (*values.get(length)? as usize).min(MAX_ADDRESS_BYTES);
                SocketAddress::show(&reader.bytes(address, length)?)
            }
            Structure::ToldAddress(length) => {
                let [length] = reader.numbers(*values.get(length)?, 4)?;
                let length = (length as usize).min(MAX_ADDRESS_BYTES);
                SocketAddress::show(&reader.bytes(address, length)?)
            }
            Structure::EpollEvent => reader.event(address, epoll::data_offset(abi)),
            Structure::EpollEvents => {
                let offset = epoll::data_offset(abi);
                let size = offset as u64 + 8;
                let at = |number| address.wrapping_add(size * number);
                reader.list(result, |number| reader.event(at(number), offset))
            }
            Structure::Entries => reader.entries(address, result),
            Structure::Usage => {
                let time = reader.time(address, word, MICROSECONDS)?;
                let [memory] = reader.numbers(address.wrapping_add(4 * word as u64), word)?;
                Some(format!("{{{time}, {memory} KiB}}"))
            }
            Structure::Offset => reader.numbers(address, 8).map(|[offset]| format!("[{offset}]")),
            Structure::Number => {
                reader.numbers(address, 4).map(|[number]| format!("[{}]", number as i32))
            }
        }
    }
}

/// Flags by their names, and the rest as a number.
pub(crate) fn flags(value: u64, names: &[(&str, u64)]) -> String {
    let mut rest = value;
    let mut found: Vec<String> = Vec::new();
    for (name, bits) in names {
        if rest & bits == *bits && *bits != 0 {
            found.push((*name).to_string());
            rest &= !bits;
        }
    }
    if rest != 0 || found.is_empty() {
        found.push(if rest < 10 { rest.to_string() } else { format!("{rest:#x}") });
    }
    found.join(" | ")
}

/// The signals of a set, or those that are not in it, if these are fewer.
fn signals(set: u64) -> String {
    let (start, set) = if set.count_ones() > 32 { ("all but ", !set) } else { ("", set) };
    let names = (1..=64u32).filter(|number| set >> (number - 1) & 1 != 0).map(signal_name);
    match (start, set) {
        ("all but ", 0) => "[all]".to_string(),
        _ => format!("{start}[{}]", names.collect::<Vec<String>>().join(", ")),
    }
}
