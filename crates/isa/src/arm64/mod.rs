//! A64, the 64-bit instruction set of the Arm architecture.
//!
//! # Encoding notation
//!
//! A row's `encoding` lists the 32 bits from the most significant down, as the manual's diagrams
//! do: literal bits, and fields as `name:width`. `Rd Rn Rm Ra Rt Rt2` stand for five bits without
//! saying so. Source: Arm ARM, C4 "A64 Instruction Set Encoding".

mod bitmask;
mod decode;
mod encode;
mod frame_step;
// Rows stay one line each, to be held against the manual.
#[rustfmt::skip]
mod table;
#[cfg(test)]
mod tests;

use std::sync::OnceLock;

pub use decode::decode;
pub use encode::{encode, encode_form};
pub(crate) use frame_step::frame_step;

use crate::mnemonics::mnemonics;
use crate::{Arch, FlagInfo, FlagRole, FlagSet, FormDoc, OperandContext, Width};

/// The condition flags, at their bits in NZCV less 28. Source: Arm ARM, C5.2 "NZCV".
pub mod flag {
    use crate::FlagSet;

    /// Negative.
    pub const N: FlagSet = FlagSet(8);
    /// Zero.
    pub const Z: FlagSet = FlagSet(4);
    /// Carry; after a subtraction it means "no borrow".
    pub const C: FlagSet = FlagSet(2);
    /// Overflow.
    pub const V: FlagSet = FlagSet(1);
    /// All four.
    pub const NZCV: FlagSet = FlagSet(15);
}

/// The condition flags in report order.
pub const FLAGS: &[FlagInfo] = &[
    FlagInfo { flag: flag::N, role: FlagRole::Sign, name: "N", word: "negative" },
    FlagInfo { flag: flag::Z, role: FlagRole::Zero, name: "Z", word: "zero" },
    FlagInfo { flag: flag::C, role: FlagRole::Carry, name: "C", word: "carry" },
    FlagInfo { flag: flag::V, role: FlagRole::Overflow, name: "V", word: "overflow" },
];

/// A row of the A64 table.
pub type Form = crate::Form<Meaning, Pattern>;
/// An operand position of a row.
pub type OperandSpec = crate::OperandSpec<Pattern>;

/// A bitwise operation.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
#[allow(missing_docs, reason = "the names are the architecture's own")]
pub enum Logic {
    And,
    Orr,
    Eor,
}

/// Numbers of the registers in the register file; see [`Storage`].
pub mod storage {
    use crate::Storage;

    /// The frame pointer by convention, X29.
    pub const FP: Storage = Storage(29);
    /// The link register, X30.
    pub const LR: Storage = Storage(30);
    /// The stack pointer.
    pub const SP: Storage = Storage(31);
    /// The program counter.
    pub const PC: Storage = Storage(32);
}

/// What an instruction does. Each has one semantic function in the machine crate.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
#[allow(missing_docs, reason = "each is the manual's instruction of that name")]
pub enum Meaning {
    /// Destination, first operand, second operand.
    Add {
        flags: bool,
    },
    Sub {
        flags: bool,
    },
    /// CMP: a subtraction whose result is thrown away.
    Compare,
    /// CMN: an addition whose result is thrown away.
    CompareNegative,
    /// NEG, NEGS: the second operand taken from zero.
    Negate {
        flags: bool,
    },
    /// `invert` applies to the second operand.
    Logic {
        op: Logic,
        invert: bool,
        flags: bool,
    },
    /// TST: an AND whose result is thrown away.
    TestBits,
    /// MVN.
    Not,
    /// MOV of a register or an immediate.
    Mov,
    Movz,
    Movn,
    Movk,
    Lsl,
    Lsr,
    Asr,
    Madd,
    Msub,
    Mul,
    Sdiv,
    Udiv,
    Csel,
    /// CSINC: the second source, if it is chosen, has 1 added.
    Csinc,
    /// CSINV: the second source, if it is chosen, is inverted.
    Csinv,
    /// CSNEG: the second source, if it is chosen, is negated.
    Csneg,
    Cset,
    /// Loads of `access` bits, extended to the register's width.
    Load {
        access: Width,
        signed: bool,
    },
    Store {
        access: Width,
    },
    LoadPair {
        access: Width,
    },
    StorePair {
        access: Width,
    },
    Adr,
    /// The page, of 4 KiB, that an address is on.
    Adrp,
    B,
    BranchIf(u8),
    Cbz,
    Cbnz,
    Tbz,
    Tbnz,
    Bl,
    Br,
    Blr,
    Ret,
    Nop,
    Svc,
    Brk,
    Udf,
}

impl Meaning {
    /// The condition, of an instruction whose mnemonic carries one.
    pub const fn condition(self) -> Option<u8> {
        match self {
            Meaning::BranchIf(cond) => Some(cond),
            _ => None,
        }
    }

    /// What is the case when the condition, on flags or on a register, holds or does not.
    pub fn condition_words(self, holds: bool) -> Option<&'static str> {
        Some(match (self, holds) {
            (Meaning::Cbz, true) | (Meaning::Cbnz, false) => "register zero",
            (Meaning::Cbz, false) | (Meaning::Cbnz, true) => "register not zero",
            (Meaning::Tbz, true) | (Meaning::Tbnz, false) => "bit clear",
            (Meaning::Tbz, false) | (Meaning::Tbnz, true) => "bit set",
            _ => {
                let cond = self.condition()?;
                condition_words(if holds { cond } else { cond ^ 1 })
            }
        })
    }
}

/// The field of an encoding that holds a register number.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
#[allow(missing_docs, reason = "the names are the architecture's own")]
pub enum RegField {
    Rd,
    Rn,
    Rm,
    Ra,
    Rt,
    Rt2,
}

impl RegField {
    pub(crate) const fn shift(self) -> u32 {
        match self {
            RegField::Rd | RegField::Rt => 0,
            RegField::Rn => 5,
            RegField::Ra | RegField::Rt2 => 10,
            RegField::Rm => 16,
        }
    }
}

/// How an addressing mode holds its offset.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Offset {
    /// `imm12`, unsigned, in units of the access.
    Scaled12,
    /// `imm9`, signed, in bytes.
    Signed9,
    /// `imm7`, signed, in units of the access.
    Scaled7,
}

/// What may stand in an operand position.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Pattern {
    /// A register; number 31 is the zero register.
    R(Width, RegField),
    /// A register; number 31 is the stack pointer.
    RSp(Width, RegField),
    /// The stack pointer itself.
    Sp(Width),
    /// `imm12`, optionally shifted left by 12.
    AddSubImm,
    /// A bitmask immediate in `N:immr:imms`.
    Bitmask(Width),
    /// `imm16`, optionally shifted left by a multiple of 16.
    MoveWide(Width),
    /// A value that MOVZ can make.
    MovImm(Width),
    /// A value that MOVN can make.
    MovInverted(Width),
    /// A value that ORR with a bitmask immediate can make, and neither MOVZ nor MOVN.
    MovBitmask(Width),
    /// `Rm`, optionally shifted by a constant; the flag says whether ROR is allowed.
    ShiftedReg(Width, bool),
    /// `Rm`, optionally extended and shifted left by 0 to 4; the width is the destination's.
    ExtendedReg(Width),
    /// The amount of a left shift, held as a bitfield move's `immr` and `imms`.
    LeftShift(Width),
    /// The amount of a right shift, held in `immr`.
    RightShift(Width),
    /// A condition in `cond`.
    Cond,
    /// A condition, held inverted.
    InvertedCond,
    /// `[base, #offset]`, for an access of this width.
    MemOffset(Width, Offset),
    /// `[base, #offset]!`
    MemPre(Width, Offset),
    /// `[base], #offset`
    MemPost(Width, Offset),
    /// `[base, index, extend #amount]`
    MemReg(Width),
    /// A target in words, in `imm26`.
    Label26,
    /// A target in words, in `imm19`.
    Label19,
    /// A target in words, in `imm14`.
    Label14,
    /// The number of a bit, less the given number, in `b40`.
    Bit(u8),
    /// An address in bytes, in `immhi:immlo`.
    AdrLabel,
    /// The page of an address, in pages, in `immhi:immlo`.
    AdrpLabel,
    /// An unsigned 16-bit number.
    Imm16,
    /// `CRm:op2`, the number of a hint.
    Hint,
}

impl Pattern {
    fn syntax(self) -> String {
        let r = |width: Width| if width == Width::W64 { "x" } else { "w" };
        match self {
            Pattern::R(w, field) => format!("{}{}", r(w), &format!("{field:?}")[1..]),
            Pattern::RSp(w, field) => format!("{}{}|sp", r(w), &format!("{field:?}")[1..]),
            Pattern::Sp(_) => "sp".into(),
            Pattern::AddSubImm => "#imm12{, lsl #12}".into(),
            Pattern::Bitmask(_) | Pattern::MovBitmask(_) => "#bitmask".into(),
            Pattern::MoveWide(_) => "#imm16{, lsl #shift}".into(),
            Pattern::MovImm(_) => "#imm16 at a multiple of 16 bits".into(),
            Pattern::MovInverted(_) => "#inverted imm16 at a multiple of 16 bits".into(),
            Pattern::ShiftedReg(w, _) => format!("{}m{{, shift #amount}}", r(w)),
            Pattern::ExtendedReg(w) => format!("{}m{{, extend #amount}}", r(w)),
            Pattern::LeftShift(_) | Pattern::RightShift(_) => "#shift".into(),
            Pattern::Cond | Pattern::InvertedCond => "condition".into(),
            Pattern::MemOffset(..) => "[xn|sp{, #offset}]".into(),
            Pattern::MemPre(..) => "[xn|sp, #offset]!".into(),
            Pattern::MemPost(..) => "[xn|sp], #offset".into(),
            Pattern::MemReg(_) => "[xn|sp, xm{, lsl #amount}]".into(),
            Pattern::Label26
            | Pattern::Label19
            | Pattern::Label14
            | Pattern::AdrLabel
            | Pattern::AdrpLabel => "label".into(),
            Pattern::Bit(_) => "#bit".into(),
            Pattern::Imm16 => "#imm16".into(),
            Pattern::Hint => "#imm7".into(),
        }
    }
}

const CONDITIONS: [&str; 16] = [
    "eq", "ne", "cs", "cc", "mi", "pl", "vs", "vc", "hi", "ls", "ge", "lt", "gt", "le", "al", "nv",
];

/// The name of a condition. Source: Arm ARM, C1.2.4.
///
/// # Panics
///
/// If `cond` is above 15.
pub fn condition_name(cond: u8) -> &'static str {
    CONDITIONS[usize::from(cond)]
}

/// The condition of this name, in lower case; `hs` and `lo` are `cs` and `cc`.
pub fn condition_by_name(name: &str) -> Option<u8> {
    let name = match name {
        "hs" => "cs",
        "lo" => "cc",
        other => other,
    };
    CONDITIONS.iter().position(|c| *c == name).map(|n| n as u8)
}

/// A condition in words.
pub fn condition_words(cond: u8) -> &'static str {
    match cond {
        0 => "equal",
        1 => "not equal",
        2 => "above or equal (unsigned)",
        3 => "below (unsigned)",
        4 => "negative",
        5 => "not negative",
        6 => "signed overflow",
        7 => "no signed overflow",
        8 => "above (unsigned)",
        9 => "below or equal (unsigned)",
        10 => "greater or equal (signed)",
        11 => "less (signed)",
        12 => "greater (signed)",
        13 => "less or equal (signed)",
        _ => "always",
    }
}

/// The flags a condition reads.
pub const fn condition_flags(cond: u8) -> FlagSet {
    match cond >> 1 {
        0 => flag::Z,
        1 => flag::C,
        2 => flag::N,
        3 => flag::V,
        4 => flag::C.with(flag::Z),
        5 => flag::N.with(flag::V),
        6 => flag::Z.with(flag::N).with(flag::V),
        _ => FlagSet::NONE,
    }
}

/// Whether a condition holds for these flags. Source: Arm ARM, shared pseudocode `ConditionHolds`.
pub const fn condition_holds(cond: u8, flags: FlagSet) -> bool {
    let n = flags.contains(flag::N);
    let z = flags.contains(flag::Z);
    let c = flags.contains(flag::C);
    let v = flags.contains(flag::V);
    let result = match cond >> 1 {
        0 => z,
        1 => c,
        2 => n,
        3 => v,
        4 => c && !z,
        5 => n == v,
        6 => n == v && !z,
        _ => return true,
    };
    result != (cond & 1 == 1)
}

/// A row with its encoding parsed.
pub(crate) struct Row {
    pub form: &'static Form,
    /// Bits that are literal.
    pub mask: u32,
    /// Their values.
    pub value: u32,
    /// Fields: name, lowest bit, width.
    pub fields: Vec<(&'static str, u32, u32)>,
}

impl Row {
    /// # Panics
    ///
    /// If the row is not written in the notation above; a test walks all rows.
    fn parse(form: &'static Form) -> Row {
        let mut row = Row { form, mask: 0, value: 0, fields: Vec::new() };
        let mut at = 32;
        for token in form.encoding.split_ascii_whitespace() {
            if token.bytes().all(|b| b == b'0' || b == b'1') {
                for bit in token.bytes() {
                    at -= 1;
                    row.mask |= 1 << at;
                    row.value |= u32::from(bit == b'1') << at;
                }
            } else {
                let (name, width) = match token.split_once(':') {
                    Some((name, width)) => (name, width.parse().expect("a field width")),
                    None => (token, 5),
                };
                at -= width;
                row.fields.push((name, at, width));
            }
        }
        assert_eq!(at, 0, "{} {}", form.mnemonic, form.encoding);
        row
    }

    /// Lowest bit and width of a field.
    ///
    /// # Panics
    ///
    /// If the row's operands ask for a field that its encoding lacks; a test walks all rows.
    pub fn field(&self, name: &str) -> (u32, u32) {
        let found = self.fields.iter().find(|field| field.0 == name);
        let (_, at, width) = found.expect("the encoding has the fields its operands need");
        (*at, *width)
    }
}

pub(crate) struct Table {
    pub rows: Vec<Row>,
    /// Rows that may match a word, by its top byte, best first.
    pub by_top_byte: Vec<Vec<u16>>,
}

pub(crate) fn table() -> &'static Table {
    static TABLE: OnceLock<Table> = OnceLock::new();
    TABLE.get_or_init(|| {
        let rows: Vec<Row> =
            table::GROUPS.iter().flat_map(|group| group.iter()).map(Row::parse).collect();
        let by_top_byte = (0..256u32)
            .map(|top| {
                let mut list: Vec<u16> = (0..rows.len() as u16)
                    .filter(|&number| {
                        let row = &rows[usize::from(number)];
                        (top << 24 ^ row.value) & row.mask & 0xff00_0000 == 0
                    })
                    .collect();
                // An alias fixes more bits than the instruction it stands for.
                list.sort_by_key(|&number| {
                    let row = &rows[usize::from(number)];
                    (row.form.accepted_only, 32 - row.mask.count_ones(), number)
                });
                list
            })
            .collect();
        Table { rows, by_top_byte }
    })
}

/// The row with this number.
///
/// # Panics
///
/// If there is no such row.
pub fn form(number: u16) -> &'static Form {
    table().rows[usize::from(number)].form
}

/// How many rows there are.
pub fn form_count() -> u16 {
    table().rows.len() as u16
}

/// Every mnemonic, aliases included, sorted.
pub fn mnemonics() -> &'static [&'static str] {
    MNEMONICS.sorted
}

/// The rows with this mnemonic.
pub fn form_docs(mnemonic: &str) -> Vec<FormDoc> {
    let table = table();
    let numbers = MNEMONICS.rows(mnemonic).unwrap_or_default();
    let form = |number: &u16| table.rows[usize::from(*number)].form;
    let doc = |form: &'static Form| form.doc(syntax(form), form.meaning.condition_words(true));
    numbers.iter().map(|number| doc(form(number))).collect()
}

/// The mnemonic that the word is, as the table spells it, and what its operands can be.
pub fn find_mnemonic(word: &str) -> Option<(&'static str, OperandContext)> {
    MNEMONICS.mnemonic(word)
}

mnemonics!(pub(crate) MNEMONICS: table::GROUPS, Arch::Arm64, context_of);

/// What the operands of the row with this number can be.
const fn context_of(number: u16) -> OperandContext {
    let (mut at, mut group) = (number as usize, 0);
    while at >= table::GROUPS[group].len() {
        at -= table::GROUPS[group].len();
        group += 1;
    }
    let form = &table::GROUPS[group][at];
    let (operands, traits) = (form.operands, form.traits);
    let mut context = OperandContext { target: false, page: false, condition: false, traits };
    at = 0;
    while at < operands.len() {
        match operands[at].pattern {
            Pattern::AdrpLabel => (context.target, context.page) = (true, true),
            Pattern::Label26 | Pattern::Label19 | Pattern::Label14 | Pattern::AdrLabel => {
                context.target = true;
            }
            Pattern::Cond | Pattern::InvertedCond => context.condition = true,
            _ => {}
        }
        at += 1;
    }
    context
}

fn syntax(form: &Form) -> String {
    form.operands.iter().map(|slot| slot.pattern.syntax()).collect::<Vec<_>>().join(", ")
}
