//! A system call as data, for showing.

use std::sync::Arc;

use sotto_machine::{Machine, Signal};

use crate::abi::SyscallAbi;
use crate::arguments::ArgumentKind;
use crate::calls::paths::AT_FDCWD;
use crate::errno::Errno;
use crate::system::System;
use crate::target::target;
use crate::task::TaskId;

/// Bytes of a buffer that are shown.
const SHOWN_BYTES: u64 = 40;

/// An argument of a system call.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct ArgumentReport {
    /// Its name.
    pub name: &'static str,
    /// Its value.
    pub value: u64,
    /// The value in words: what a descriptor names, a buffer's contents, the names of flags.
    pub shown: Option<String>,
    /// The words say all that the number says.
    pub is_named: bool,
    /// Whether the value is an address.
    pub is_address: bool,
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
    /// Its arguments; empty if it is not modelled.
    pub arguments: Vec<ArgumentReport>,
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
    /// The error it returned, if it did.
    pub fn error(&self) -> Option<Errno> {
        Errno::of_result(self.result?)
    }
}

/// Flags by their names, and the rest as a number.
fn flags(value: u64, names: &[(&str, u64)]) -> String {
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

/// The flags of `open`, the way in which the file is used first.
fn open_flags(value: u64, abi: SyscallAbi) -> String {
    let access = ["O_RDONLY", "O_WRONLY", "O_RDWR", "3"][(value & 3) as usize];
    match value & !3 {
        0 => access.to_string(),
        rest => format!("{access} | {}", flags(rest, &target(abi.arch()).open_bits.names())),
    }
}

/// The arguments of a call as it found them, to be described when it has been made.
pub(crate) struct ArgumentsBefore {
    descriptors: Vec<Option<Arc<str>>>,
}

impl ArgumentsBefore {
    /// What has to be looked at before a call is made, since the call may change it: what its descriptors name.
    pub fn new(
        arguments: &[(&'static str, ArgumentKind)],
        values: &[u64],
        system: &System,
    ) -> ArgumentsBefore {
        let shown = |(&(_, kind), &value): (&(&str, ArgumentKind), &u64)| match kind {
            ArgumentKind::Fd | ArgumentKind::DirFd => {
                system.open_file(value as u32).ok().map(|open| open.name.clone())
            }
            _ => None,
        };
        ArgumentsBefore { descriptors: arguments.iter().zip(values).map(shown).collect() }
    }
}

/// Describes a call's arguments. `filled` is how many bytes the call put into an output buffer.
pub(crate) fn arguments(
    arguments: &'static [(&'static str, ArgumentKind)],
    values: &[u64],
    abi: SyscallAbi,
    machine: &mut Machine,
    before: &ArgumentsBefore,
    filled: Option<u64>,
) -> Vec<ArgumentReport> {
    let is_wide = abi.word_bytes() == 8;
    // Where there are no upper halves the values of the registers go to the other arguments.
    let taken: Vec<(usize, &'static str, ArgumentKind)> = arguments
        .iter()
        .enumerate()
        .filter(|(_, (_, kind))| !(is_wide && *kind == ArgumentKind::High))
        .map(|(index, (name, kind))| (index, *name, *kind))
        .collect();
    let mut reports: Vec<ArgumentReport> = Vec::with_capacity(taken.len());
    for (&(index, name, kind), &value) in taken.iter().zip(values) {
        let shown = match kind {
            ArgumentKind::DirFd if value as u32 == AT_FDCWD => Some("AT_FDCWD".to_string()),
            ArgumentKind::Fd | ArgumentKind::DirFd => {
                before.descriptors.get(index).cloned().flatten().map(|name| name.to_string())
            }
            ArgumentKind::BytesIn(count) => text(machine, value, values[count]),
            ArgumentKind::BytesOut => filled.and_then(|filled| text(machine, value, filled)),
            ArgumentKind::Text => zero_ended(machine, value),
            ArgumentKind::Signal => Signal::from_number(value).map(|s| s.name().to_string()),
            ArgumentKind::Bits => Some(format!("{value:#x}")),
            ArgumentKind::Mode => Some(format!("{:#o}", value & 0o177_777)),
            ArgumentKind::OpenFlags => Some(open_flags(value, abi)),
            ArgumentKind::Flags(names) => Some(flags(value, names)),
            ArgumentKind::OneOf(names) => {
                let known = names.iter().find(|(_, number)| *number == value & 0xffff_ffff);
                known.map(|(name, _)| (*name).to_string())
            }
            ArgumentKind::Count
            | ArgumentKind::Status
            | ArgumentKind::Number
            | ArgumentKind::Signed
            | ArgumentKind::Int
            | ArgumentKind::High
            | ArgumentKind::Address => None,
        };
        let is_address = matches!(
            kind,
            ArgumentKind::BytesIn(_)
                | ArgumentKind::BytesOut
                | ArgumentKind::Address
                | ArgumentKind::Text
        );
        let is_named = shown.is_some()
            && matches!(
                kind,
                ArgumentKind::Bits
                    | ArgumentKind::Mode
                    | ArgumentKind::OpenFlags
                    | ArgumentKind::Flags(_)
                    | ArgumentKind::OneOf(_)
            )
            || shown.as_deref() == Some("AT_FDCWD");
        let value = match kind {
            // These are 32-bit integers in C.
            ArgumentKind::Fd | ArgumentKind::DirFd | ArgumentKind::Status | ArgumentKind::Int => {
                value as i32 as i64 as u64
            }
            ArgumentKind::Signed if !is_wide => value as i32 as i64 as u64,
            ArgumentKind::High => {
                if let Some(low) = reports.last_mut() {
                    low.value |= value << 32;
                }
                continue;
            }
            _ => value,
        };
        reports.push(ArgumentReport { name, value, shown, is_named, is_address });
    }
    reports
}

/// A text up to its zero byte, quoted, cut short if it is long; `None` if it cannot be read.
fn zero_ended(machine: &mut Machine, address: u64) -> Option<String> {
    let mut length = 0;
    while length <= SHOWN_BYTES {
        let mut byte = [0];
        machine.memory_mut().read_bytes(address.wrapping_add(length), &mut byte).ok()?;
        if byte == [0] {
            break;
        }
        length += 1;
    }
    text(machine, address, length)
}

/// Bytes as a quoted text, cut short if they are many; `None` if they cannot be read.
fn text(machine: &mut Machine, address: u64, count: u64) -> Option<String> {
    let mut bytes = vec![0; count.min(SHOWN_BYTES) as usize];
    machine.memory_mut().read_bytes(address, &mut bytes).ok()?;
    let escaped: String =
        bytes.iter().flat_map(|byte| byte.escape_ascii()).map(char::from).collect();
    let more = if count > SHOWN_BYTES { "..." } else { "" };
    Some(format!("\"{escaped}\"{more}"))
}

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
