//! The prefixes that sources write before an instruction.

use crate::Arch;

/// A prefix. With it an instruction is a row of its own in the table, named by both words.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct Prefix {
    /// As sources write it.
    pub name: &'static str,
    /// As it is encoded.
    pub byte: u8,
    /// The first words of the rows that it can stand for, the likeliest first.
    pub rows: &'static [&'static str],
    /// One line in words.
    pub summary: &'static str,
    /// What it goes before, in words.
    pub takes: &'static str,
    /// Manual and page heading.
    pub source: &'static str,
}

const REPEATED: Prefix = Prefix {
    name: "rep",
    byte: 0xf3,
    rows: &["rep", "repe"],
    summary: "repeats the instruction RCX times (ECX in 32-bit mode)",
    takes: "a string instruction: `movs`, `stos`, `lods`, and as `repe` `cmps` and `scas`",
    source: "SDM Vol. 2B, REP",
};
const WHILE_EQUAL: Prefix = Prefix {
    name: "repe",
    byte: 0xf3,
    rows: &["repe", "rep"],
    summary: "repeats the instruction up to RCX times (ECX in 32-bit mode), while the elements are equal",
    takes: "`cmps` and `scas`",
    source: "SDM Vol. 2B, REP",
};
const WHILE_NOT_EQUAL: Prefix = Prefix {
    name: "repne",
    byte: 0xf2,
    rows: &["repne"],
    summary: "repeats the instruction up to RCX times (ECX in 32-bit mode), while the elements differ",
    ..WHILE_EQUAL
};

/// Every prefix.
pub const PREFIXES: &[Prefix] = &[
    REPEATED,
    WHILE_EQUAL,
    Prefix { name: "repz", ..WHILE_EQUAL },
    WHILE_NOT_EQUAL,
    Prefix { name: "repnz", ..WHILE_NOT_EQUAL },
    Prefix {
        name: "lock",
        byte: 0xf0,
        rows: &["lock"],
        summary: "makes reading and writing memory one step that no other processor can come between",
        takes: "an instruction that reads and writes memory, such as `add`, `xchg` or `cmpxchg`",
        source: "SDM Vol. 2A, LOCK",
    },
    Prefix {
        name: "notrack",
        byte: 0x3e,
        rows: &["notrack"],
        summary: "exempts the target of a jump from having to be marked by ENDBR64",
        takes: "an indirect `jmp` or `call`",
        source: "SDM Vol. 1, 17.3.5",
    },
    Prefix {
        name: "data16",
        byte: 0x66,
        rows: &["data16"],
        summary: "truncates the target to its low 16 bits; what a call pushes and a return pops has 16 bits",
        takes: "`jmp`, `call`, `ret`, a conditional jump or a loop, in 32-bit mode",
        source: "SDM Vol. 1, 3.6.1",
    },
];

/// The byte of a prefix, and whether it is one that only stands for its byte: a size that the instruction has
/// already, which compilers write to fill room.
pub fn prefix_byte(arch: Arch, word: &str) -> Option<(u8, bool)> {
    let is = |name: &str| word.eq_ignore_ascii_case(name);
    if is("data16") {
        return Some((0x66, true));
    }
    if is("rex64") && arch == Arch::X86_64 {
        return Some((0x48, true));
    }
    let prefix = PREFIXES.iter().find(|prefix| is(prefix.name))?;
    Some((prefix.byte, false))
}
