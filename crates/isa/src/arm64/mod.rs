//! A64, the 64-bit instruction set of the Arm architecture.
//!
//! # Encoding notation
//!
//! A row's `encoding` lists the 32 bits from the most significant down, as the manual's diagrams
//! do: literal bits, and fields as `name:width`. `Rd Rn Rm Ra Rt Rt2` stand for five bits without
//! saying so. Source: Arm ARM, C4 "A64 Instruction Set Encoding".

mod bitmask;
mod condition;
mod decode;
mod encode;
mod encode_memory;
mod encode_vector;
pub(crate) mod field;
mod frame_step;
mod meaning;
pub mod names;
mod pattern;
mod row;
// Rows stay one line each, to be held against the manual.
#[rustfmt::skip]
mod table;
#[cfg(test)]
mod tests;
mod unpredictable;
pub mod vector;

pub use condition::{
    condition_by_name, condition_flags, condition_holds, condition_name, condition_words,
};
pub(crate) use decode::decode_into;
pub use decode::{decode, decode_form, fill_row};
pub use encode::{encode, encode_form};
pub(crate) use frame_step::frame_step;
pub use meaning::{AtomicOp, Bitfield, BitfieldFields, Logic, Meaning};
pub use pattern::{Offset, Pattern, RegField};
pub(crate) use row::{Index, index};
pub use unpredictable::unpredictable;

use crate::mnemonics::mnemonics;
use crate::{Arch, FlagInfo, FlagRole, FormDoc, OperandContext};
use row::rows;

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
    /// The thread pointer, TPIDR_EL0.
    pub const TPIDR_EL0: Storage = Storage(33);
    /// The control register of floating point.
    pub const FPCR: Storage = Storage(34);
    /// The status register of floating point.
    pub const FPSR: Storage = Storage(35);
    /// The address that is marked for exclusive access plus 1, or 0.
    pub const EXCLUSIVE: Storage = Storage(36);
}

/// The row with this number.
///
/// # Panics
///
/// If there is no such row.
pub fn form(number: u16) -> &'static Form {
    rows()[usize::from(number)].form
}

/// How many rows there are.
pub fn form_count() -> u16 {
    rows().len() as u16
}

/// Every mnemonic, aliases included, sorted.
pub fn mnemonics() -> &'static [&'static str] {
    MNEMONICS.sorted
}

/// The rows with this mnemonic.
pub fn form_docs(mnemonic: &str) -> Vec<FormDoc> {
    let numbers = MNEMONICS.rows(mnemonic).unwrap_or_default();
    let form = |number: &u16| rows()[usize::from(*number)].form;
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
    let mut context =
        OperandContext { target: false, page: false, condition: false, names: 0, traits };
    at = 0;
    while at < operands.len() {
        match operands[at].pattern {
            Pattern::AdrpLabel => (context.target, context.page) = (true, true),
            Pattern::Label26 | Pattern::Label19 | Pattern::Label14 | Pattern::AdrLabel => {
                context.target = true;
            }
            Pattern::Cond | Pattern::InvertedCond => context.condition = true,
            Pattern::Named(kind) => context.names |= kind.mask(),
            _ => {}
        }
        at += 1;
    }
    context
}

fn syntax(form: &Form) -> String {
    form.operands.iter().map(|slot| slot.pattern.syntax()).collect::<Vec<_>>().join(", ")
}
