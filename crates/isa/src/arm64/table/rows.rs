//! What rows are written with: operands, and macros for rows that differ in little.

use crate::arm64::pattern::{Count, Elements, LaneSource};
use crate::arm64::{Form, Meaning, OperandSpec, Pattern, RegField, flag};
use crate::{Access, FlagEffects, LaneKind, Lanes, Width};

pub(super) const W32: Width = Width::W32;
pub(super) const W64: Width = Width::W64;
pub(super) const W8: Width = Width::W8;
pub(super) const W16: Width = Width::W16;
pub(super) const W128: Width = Width::W128;

pub(super) const fn spec(access: Access, pattern: Pattern) -> OperandSpec {
    OperandSpec { access, pattern }
}

/// A register that is read; 31 is the zero register.
pub(super) const fn r(width: Width, field: RegField) -> OperandSpec {
    spec(Access::Read, Pattern::R(width, field))
}

/// A register that is written; 31 is the zero register.
pub(super) const fn w(width: Width, field: RegField) -> OperandSpec {
    spec(Access::Write, Pattern::R(width, field))
}

/// A register that is read; 31 is the stack pointer.
pub(super) const fn r_sp(width: Width, field: RegField) -> OperandSpec {
    spec(Access::Read, Pattern::RSp(width, field))
}

/// A register that is written; 31 is the stack pointer.
pub(super) const fn w_sp(width: Width, field: RegField) -> OperandSpec {
    spec(Access::Write, Pattern::RSp(width, field))
}

/// Another pattern that is read.
pub(super) const fn p(pattern: Pattern) -> OperandSpec {
    spec(Access::Read, pattern)
}

pub(super) const PLAIN: Form = Form::plain(Meaning::Nop);

pub(super) const SETS_NZCV: FlagEffects = FlagEffects { modified: flag::NZCV, ..FlagEffects::NONE };
pub(super) const SETS_NZ: FlagEffects = FlagEffects {
    modified: flag::N.with(flag::Z),
    cleared: flag::C.with(flag::V),
    ..FlagEffects::NONE
};

/// Lays several groups of rows end to end.
pub(super) const fn join<const N: usize>(groups: &[&[Form]]) -> [Form; N] {
    let mut rows = [PLAIN; N];
    let (mut at, mut group) = (0, 0);
    while group < groups.len() {
        let mut row = 0;
        while row < groups[group].len() {
            rows[at] = groups[group][row];
            at += 1;
            row += 1;
        }
        group += 1;
    }
    assert!(at == N, "N is the number of rows");
    rows
}
pub(super) const fn mem_read(pattern: Pattern) -> OperandSpec {
    spec(Access::Read, pattern)
}

pub(super) const fn mem_write(pattern: Pattern) -> OperandSpec {
    spec(Access::Write, pattern)
}

/// How many rows the groups have together.
pub(super) const fn total(groups: &[&[Form]]) -> usize {
    let (mut count, mut at) = (0, 0);
    while at < groups.len() {
        count += groups[at].len();
        at += 1;
    }
    count
}

/// A row with this name, meaning, line in words and page.
pub(super) const fn named(
    mnemonic: &'static str,
    meaning: Meaning,
    summary: &'static str,
    source: &'static str,
) -> Form {
    Form { mnemonic, meaning, summary, source, ..PLAIN }
}

/// The rows of 32 and 64 bits, which differ in the highest bit of the encoding.
macro_rules! both {
    ($base:expr, $width:ident => [$($operand:expr),* $(,)?], $rest:literal) => {
        [
            {
                const $width: Width = Width::W32;
                Form { operands: &[$($operand),*], encoding: concat!("0 ", $rest), ..$base }
            },
            {
                const $width: Width = Width::W64;
                Form { operands: &[$($operand),*], encoding: concat!("1 ", $rest), ..$base }
            },
        ]
    };
}
pub(super) use both;

/// A list of rows from lists of rows.
macro_rules! rows {
    ($($group:expr),* $(,)?) => {{
        const GROUPS: &[&[Form]] = &[$(&$group),*];
        &join::<{ total(GROUPS) }>(GROUPS)
    }};
}
pub(super) use rows;

/// Widths of elements, as bits of a set.
pub(super) const B: u8 = 1;
pub(super) const H: u8 = 2;
pub(super) const S: u8 = 4;
pub(super) const D: u8 = 8;

/// Elements whose width a field says, of these.
pub(super) const fn elements(source: LaneSource, widths: u8, count: Count) -> Elements {
    Elements { source, widths, wide: false, count }
}

/// The same, twice as wide as the field says.
pub(super) const fn wide(source: LaneSource, widths: u8, count: Count) -> Elements {
    Elements { source, widths, wide: true, count }
}

/// Elements of one width.
pub(super) const fn fixed(width: Width, count: Count) -> Elements {
    elements(LaneSource::Fixed(width), 1 << width as u8, count)
}

/// A vector that is read.
pub(super) const fn v(field: RegField, elements: Elements) -> OperandSpec {
    spec(Access::Read, Pattern::V(field, elements))
}

/// A vector that is written.
pub(super) const fn vw(field: RegField, elements: Elements) -> OperandSpec {
    spec(Access::Write, Pattern::V(field, elements))
}

/// A vector that is read and written.
pub(super) const fn vrw(field: RegField, elements: Elements) -> OperandSpec {
    spec(Access::ReadWrite, Pattern::V(field, elements))
}

/// A scalar register of the vector bank that is read.
pub(super) const fn f(width: Width, field: RegField) -> OperandSpec {
    spec(Access::Read, Pattern::F(width, field))
}

/// A scalar register of the vector bank that is written.
pub(super) const fn fw(width: Width, field: RegField) -> OperandSpec {
    spec(Access::Write, Pattern::F(width, field))
}

/// A row on floating-point numbers.
pub(super) const fn floats(base: Form) -> Form {
    Form { elements: Lanes::new(LaneKind::Float, Width::W64), ..base }
}

/// A row on signed integers.
pub(super) const fn integers(base: Form) -> Form {
    Form { elements: Lanes::new(LaneKind::Signed, Width::W64), ..base }
}
