//! A system call as data, for showing.

use std::sync::Arc;

use sotto_machine::{Machine, Signal};

use crate::abi::SyscallAbi;
use crate::arguments::ArgumentKind;
use crate::calls::paths::AT_FDCWD;
use crate::errno::Errno;
use crate::structures::flags;
use crate::system::System;
use crate::table::SyscallRow;
use crate::target::target;
use crate::task::TaskId;

/// Bytes of a buffer that are shown.
const SHOWN_BYTES: u64 = 40;

/// An argument of a system call.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct ArgumentReport {
    /// Its name.
    pub name: &'static str,
    /// Which of the convention's argument registers has it, from 0.
    pub register: usize,
    /// Its value.
    pub value: u64,
    /// The value in words: what a descriptor names, a buffer's contents, the names of flags.
    pub shown: Option<String>,
    /// The words say all that the number says.
    pub is_named: bool,
    /// Whether the value is an address.
    pub is_address: bool,
    /// Whether it is the address of bytes that the call takes, as many as it returns.
    pub is_sent: bool,
}

/// A system call that was made.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct SyscallReport {
    /// Whose table its number is of.
    pub abi: SyscallAbi,
    /// Its number.
    pub number: u64,
    /// Its name, if there is a call of this number.
    pub name: Option<&'static str>,
    /// Whether it is modelled.
    pub is_modelled: bool,
    pub(crate) captured: CapturedArguments,
    /// What it wrote into the program's memory, in the order of writing.
    pub written: Vec<KernelWrite>,
    /// What it returned; `None` if it did not return.
    pub result: Option<i64>,
    /// The result is an address.
    pub result_is_address: bool,
    /// What there is to say about it.
    pub notice: Option<Notice>,
}

/// Bytes beside each other that a system call wrote into the program's memory.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct KernelWrite {
    /// First address.
    pub address: u64,
    /// How many bytes; at least one.
    pub bytes: u64,
    /// The first eight bytes, or as many as there are, before: little-endian, zero-extended.
    pub old: u64,
    /// The same bytes after.
    pub new: u64,
}

/// Something about a system call that is probably a mistake.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Notice {
    /// The fact.
    pub message: String,
    /// What to do, when we are sure.
    pub help: Option<String>,
}

/// A system call that was made at a moment.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct CompletedCall {
    /// Instructions completed before the one that made it.
    pub moment: u64,
    /// The task that made it.
    pub task: TaskId,
    /// Where that instruction stands.
    pub at: u64,
    /// What it was.
    pub report: SyscallReport,
}

/// System calls about which there is the same to say.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct RepeatedNotice {
    /// The first of them.
    pub call: SyscallReport,
    /// How many there were.
    pub times: u64,
}

impl SyscallReport {
    /// Its arguments in words; none if it is not modelled.
    pub fn arguments(&self) -> Vec<ArgumentReport> {
        self.captured.describe(self.abi)
    }

    /// The first descriptor that it was given, if it takes one.
    pub(crate) fn first_descriptor(&self) -> Option<u32> {
        let mut taken = self.captured.taken(self.abi);
        let (index, _) = taken.find(|(_, kind)| *kind == ArgumentKind::Fd)?;
        Some(self.captured.values[index] as u32)
    }

    /// The error it returned, if it did.
    pub fn error(&self) -> Option<Errno> {
        Errno::of_result(self.result?)
    }
}

/// The flags of `open`, the way in which the file is used first.
fn open_flags(value: u64, abi: SyscallAbi) -> String {
    let access = ["O_RDONLY", "O_WRONLY", "O_RDWR", "3"][(value & 3) as usize];
    match value & !3 {
        0 => access.to_string(),
        rest => format!("{access} | {}", flags(rest, &target(abi.arch()).open_bits.names())),
    }
}

/// Arguments of a call.
pub(crate) const MOST_ARGUMENTS: usize = 6;

/// The arguments of a call, with what they pointed to as far as it is shown. Words are made of them when they are asked for:
/// few calls are looked at.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub(crate) struct CapturedArguments {
    kinds: &'static [(&'static str, ArgumentKind)],
    values: [u64; MOST_ARGUMENTS],
    /// A bit for each argument that counts.
    counts: u8,
    contents: Vec<(u8, Content)>,
}

/// What an argument pointed to, or named.
#[derive(Clone, PartialEq, Eq, Debug)]
enum Content {
    /// A name, or a structure in words.
    Words(Arc<str>),
    /// The first bytes of a text or buffer, and whether there were more.
    Bytes { bytes: [u8; SHOWN_BYTES as usize], count: u8, more: bool },
}

impl Content {
    /// Bytes from an address on; `None` if they cannot be read.
    fn of(machine: &Machine, address: u64, count: u64) -> Option<Content> {
        let mut bytes = [0; SHOWN_BYTES as usize];
        let shown = count.min(SHOWN_BYTES);
        machine.memory().read_bytes(address, &mut bytes[..shown as usize]).ok()?;
        Some(Content::Bytes { bytes, count: shown as u8, more: count > SHOWN_BYTES })
    }

    /// A text up to its zero byte; `None` if it cannot be read.
    fn of_text(machine: &Machine, address: u64) -> Option<Content> {
        let mut length = 0;
        while length <= SHOWN_BYTES {
            let mut byte = [0];
            machine.memory().read_bytes(address.wrapping_add(length), &mut byte).ok()?;
            if byte == [0] {
                break;
            }
            length += 1;
        }
        Content::of(machine, address, length)
    }

    fn words(&self) -> String {
        match self {
            Content::Words(words) => words.to_string(),
            Content::Bytes { bytes, count, more } => {
                let more = if *more { "..." } else { "" };
                format!("\"{}\"{more}", bytes[..usize::from(*count)].escape_ascii())
            }
        }
    }
}

impl CapturedArguments {
    /// The arguments before a call is made, with what that may change: what descriptors name, and structures that it reads.
    pub fn before(
        row: &'static SyscallRow,
        values: [u64; MOST_ARGUMENTS],
        abi: SyscallAbi,
        system: &System,
    ) -> CapturedArguments {
        let (kinds, counts) = (row.arguments, (row.counts)(abi, &values));
        let mut captured = CapturedArguments { kinds, values, counts, contents: Vec::new() };
        for (index, kind) in captured.taken(abi) {
            let value = values[index];
            let words = match kind {
                ArgumentKind::Fd | ArgumentKind::DirFd => {
                    system.open_file(value as u32).ok().map(|open| open.name.clone())
                }
                ArgumentKind::In(structure) => {
                    structure.show(&system.machine, abi, value, &values, 0).map(Arc::from)
                }
                _ => None,
            };
            if let Some(words) = words {
                captured.contents.push((index as u8, Content::Words(words)));
            }
        }
        captured
    }

    /// Adds what a call left. `filled` is how many bytes it put into an output buffer, and `written` is all that it wrote.
    pub fn after(
        &mut self,
        machine: &Machine,
        abi: SyscallAbi,
        filled: Option<u64>,
        written: &[KernelWrite],
    ) {
        for (index, kind) in self.taken(abi) {
            let value = self.values[index];
            let content = match kind {
                ArgumentKind::BytesIn(count) => Content::of(machine, value, self.values[count]),
                ArgumentKind::BytesOut => {
                    filled.and_then(|filled| Content::of(machine, value, filled))
                }
                ArgumentKind::Text => Content::of_text(machine, value),
                ArgumentKind::Out(structure) => {
                    // What the call did not fill is not told.
                    let near = |write: &KernelWrite| write.address.wrapping_sub(value) < 64;
                    let filled = filled.unwrap_or_default();
                    let show = || structure.show(machine, abi, value, &self.values, filled);
                    let words = written.iter().any(near).then(show).flatten();
                    words.map(|words| Content::Words(words.into()))
                }
                _ => None,
            };
            if let Some(content) = content {
                self.contents.push((index as u8, content));
            }
        }
    }

    /// The arguments that registers have, with the numbers of these. Where there are no upper halves the registers go to the
    /// other arguments.
    fn taken(&self, abi: SyscallAbi) -> impl Iterator<Item = (usize, ArgumentKind)> + use<> {
        let is_wide = abi.word_bytes() == 8;
        let kinds = self.kinds.iter().map(|(_, kind)| *kind);
        kinds.filter(move |kind| !(is_wide && *kind == ArgumentKind::High)).enumerate()
    }

    /// The arguments in words.
    fn describe(&self, abi: SyscallAbi) -> Vec<ArgumentReport> {
        let is_wide = abi.word_bytes() == 8;
        let named = self.kinds.iter().filter(|(_, kind)| !(is_wide && *kind == ArgumentKind::High));
        let mut reports: Vec<ArgumentReport> = Vec::new();
        for ((index, kind), (name, _)) in self.taken(abi).zip(named) {
            if self.counts >> index & 1 == 0 {
                continue;
            }
            let value = self.values[index];
            let content = self.contents.iter().find(|(at, _)| usize::from(*at) == index);
            let content = content.map(|(_, content)| content.words());
            let shown = match kind {
                ArgumentKind::DirFd if value as u32 == AT_FDCWD => Some("AT_FDCWD".to_string()),
                ArgumentKind::Signal => Signal::from_number(value).map(|s| s.name().to_string()),
                ArgumentKind::Bits => Some(format!("{value:#x}")),
                ArgumentKind::Mode => Some(format!("{:#o}", value & 0o177_777)),
                ArgumentKind::OpenFlags => Some(open_flags(value, abi)),
                ArgumentKind::Flags(names) => Some(flags(value, names)),
                ArgumentKind::Operation(names) => {
                    let (low, high) = (value & OPERATION, value & 0xffff_ffff & !OPERATION);
                    let known = names.iter().find(|(_, number)| *number == low);
                    known.map(|(name, _)| match high {
                        0 => (*name).to_string(),
                        high => format!("{name} | {}", flags(high, names)),
                    })
                }
                ArgumentKind::OneOf(names) => {
                    let known = names.iter().find(|(_, number)| *number == value & 0xffff_ffff);
                    known.map(|(name, _)| (*name).to_string())
                }
                _ => content,
            };
            let is_address = matches!(
                kind,
                ArgumentKind::BytesIn(_)
                    | ArgumentKind::BytesOut
                    | ArgumentKind::Address
                    | ArgumentKind::In(_)
                    | ArgumentKind::Out(_)
                    | ArgumentKind::Text
            );
            let is_named = shown.is_some()
                && matches!(
                    kind,
                    ArgumentKind::Bits
                        | ArgumentKind::Mode
                        | ArgumentKind::OpenFlags
                        | ArgumentKind::Flags(_)
                        | ArgumentKind::Operation(_)
                        | ArgumentKind::OneOf(_)
                )
                || shown.as_deref() == Some("AT_FDCWD");
            let value = match kind {
                // These are 32-bit integers in C.
                ArgumentKind::Fd
                | ArgumentKind::DirFd
                | ArgumentKind::Status
                | ArgumentKind::Int => value as i32 as i64 as u64,
                ArgumentKind::Signed if !is_wide => value as i32 as i64 as u64,
                ArgumentKind::High => {
                    if let Some(low) = reports.last_mut() {
                        low.value |= value << 32;
                    }
                    continue;
                }
                _ => value,
            };
            let is_sent = matches!(kind, ArgumentKind::BytesIn(_));
            let register = index;
            reports.push(ArgumentReport {
                name,
                register,
                value,
                shown,
                is_named,
                is_address,
                is_sent,
            });
        }
        reports
    }
}

/// The bits of an operation; those above are flags.
const OPERATION: u64 = 0x7f;

/// What to say about arguments that the ABI truncates to 32 bits, if that changes one.
pub(crate) fn cut(
    arguments: &[(&str, ArgumentKind)],
    given: &[u64],
    used: &[u64],
) -> Option<Notice> {
    let names = arguments.iter().map(|(name, _)| name);
    let (name, (given, used)) = names.zip(given.iter().zip(used)).find(|(_, (a, b))| a != b)?;
    Some(Notice {
        message: format!(
            "`int 0x80` takes 32 bits of each argument: `{name}` {given:#x} became {used:#x}"
        ),
        help: Some(
            "use `syscall`: the 64-bit number in rax, arguments in rdi, rsi, rdx, r10, r8, r9"
                .into(),
        ),
    })
}
