//! Operands to words.

use std::ops::RangeInclusive;

use arrayvec::ArrayVec;

use super::field::{self, BitField};
use super::pattern::NamedKind;
use super::row::{Row, rows};
use super::{MNEMONICS, Pattern, RegField, bitmask};
use crate::instruction::{closer, describe};
use crate::{
    Arch, EncodeError, Encoded, Extend, Field, Fixup, Operand, Operands, Reg, RegKind, Shift,
    Value, Width,
};

/// The first row that takes the operands, or that of the instruction which does the same with the
/// immediate turned round: `add x, x, #-5` is a SUB, `bic` with an immediate an AND.
///
/// # Errors
///
/// See [`crate::encode`].
pub fn encode(mnemonic: &str, operands: &[Operand], address: u64) -> Result<Encoded, EncodeError> {
    encode_as_written(mnemonic, operands, address).or_else(|error| {
        let Some((other, operands)) = turned_round(mnemonic, operands) else { return Err(error) };
        encode_as_written(other, &operands, address).map_err(|_| error)
    })
}

fn turned_round(mnemonic: &str, operands: &[Operand]) -> Option<(&'static str, Operands)> {
    let (other, inverted) = match mnemonic {
        "add" => ("sub", false),
        "sub" => ("add", false),
        "adds" => ("subs", false),
        "subs" => ("adds", false),
        "cmp" => ("cmn", false),
        "cmn" => ("cmp", false),
        "bic" => ("and", true),
        "orn" => ("orr", true),
        "eon" => ("eor", true),
        _ => return None,
    };
    let mut operands: Operands = operands.iter().copied().collect();
    let narrow = matches!(operands.first(), Some(Operand::Reg(reg)) if reg.width() != Width::W64);
    match operands.last_mut() {
        Some(Operand::Imm(Value::Known(value))) if inverted => {
            *value = if narrow { !*value & 0xffff_ffff } else { !*value };
        }
        Some(Operand::Imm(Value::Known(value))) if *value < 0 => *value = value.wrapping_neg(),
        _ => return None,
    }
    Some((other, operands))
}

fn encode_as_written(
    mnemonic: &str,
    operands: &[Operand],
    address: u64,
) -> Result<Encoded, EncodeError> {
    let Some(numbers) = MNEMONICS.rows(mnemonic) else {
        return Err(EncodeError::UnknownMnemonic {
            mnemonic: mnemonic.to_string(),
            arch: Arch::Arm64,
        });
    };
    let mut error = None;
    for &number in numbers {
        match attempt(&rows()[usize::from(number)], number, operands, address) {
            Ok(encoded) => return Ok(encoded),
            Err(Some(e)) => error = Some(closer(error, e)),
            Err(None) => {}
        }
    }
    Err(error.unwrap_or_else(|| {
        // The rows that take most of the operands first.
        let mut nearest = numbers.to_vec();
        nearest.sort_by_key(|number| {
            let row = &rows()[usize::from(*number)];
            let other_count = row.form.operands.len() != operands.len();
            (std::cmp::Reverse(fitting(row, operands, address)), other_count)
        });
        let syntax = |number: &u16| super::syntax(rows()[usize::from(*number)].form);
        EncodeError::NoSuchForm {
            mnemonic: mnemonic.to_string(),
            given: describe(operands),
            forms: nearest.iter().map(syntax).collect(),
        }
    }))
}

/// How many of the operands a row takes, each by itself.
fn fitting(row: &Row, operands: &[Operand], address: u64) -> usize {
    let slots = row.form.operands.iter().zip(operands).enumerate();
    let fits = slots.filter(|(index, (slot, operand))| {
        let mut word = Word { bits: row.value, set: row.mask, fixups: ArrayVec::new() };
        let at = Position { index: *index, address };
        !matches!(word.put_operand(slot.pattern, operand, &at), Err(None))
    });
    fits.count()
}

/// Encodes in the given row, or says why not.
///
/// # Errors
///
/// See [`crate::encode`].
///
/// # Panics
///
/// If there is no such row.
pub fn encode_form(
    number: u16,
    operands: &[Operand],
    address: u64,
) -> Result<Encoded, EncodeError> {
    let row = &rows()[usize::from(number)];
    attempt(row, number, operands, address).map_err(|error| {
        error.unwrap_or_else(|| EncodeError::NoSuchForm {
            mnemonic: row.form.mnemonic.to_string(),
            given: describe(operands),
            forms: vec![super::syntax(row.form)],
        })
    })
}

/// A word being built from a row.
pub(super) struct Word {
    pub bits: u32,
    /// Bits that are decided: literal, or put by an operand.
    set: u32,
    fixups: ArrayVec<Fixup, 2>,
}

impl Word {
    /// Puts a value into a field.
    ///
    /// # Errors
    ///
    /// `None` if another operand, or the row, has decided on another value.
    pub fn put(&mut self, field: BitField, value: u32) -> Result<(), Mismatch> {
        self.put_bits(field.mask(), value << field.at)
    }

    /// Puts some bits.
    ///
    /// # Errors
    ///
    /// As for [`Word::put`].
    pub fn put_bits(&mut self, mask: u32, bits: u32) -> Result<(), Mismatch> {
        if bits & !mask != 0 || (self.bits ^ bits) & mask & self.set != 0 {
            return Err(None);
        }
        self.bits |= bits;
        self.set |= mask;
        Ok(())
    }

    pub fn register(&mut self, field: RegField, number: u8) -> Result<(), Mismatch> {
        self.put(field.field(), u32::from(number))
    }
}

/// Why a row does not take the operands: a value out of range, or (`None`) another kind of operand.
pub(super) type Mismatch = Option<EncodeError>;

fn attempt(
    row: &Row,
    number: u16,
    operands: &[Operand],
    address: u64,
) -> Result<Encoded, Mismatch> {
    if row.form.operands.len() != operands.len() {
        return Err(None);
    }
    let mut word = Word { bits: row.value, set: row.mask, fixups: ArrayVec::new() };
    // A value out of range counts only if all the kinds are right.
    let mut out_of_range = None;
    for (index, (slot, operand)) in row.form.operands.iter().zip(operands).enumerate() {
        match word.put_operand(slot.pattern, operand, &Position { index, address }) {
            Ok(()) => {}
            Err(None) => return Err(None),
            Err(Some(error)) => out_of_range = out_of_range.or(Some(error)),
        }
    }
    if out_of_range.is_some() {
        return Err(out_of_range);
    }
    let mut encoded = Encoded { form: number, fixups: word.fixups, ..Encoded::default() };
    encoded.bytes.extend(word.bits.to_le_bytes());
    Ok(encoded)
}

/// Which operand it is, and where the instruction stands.
pub(super) struct Position {
    pub index: usize,
    pub address: u64,
}

impl Position {
    /// The error of a value that does not fit its field; `rule` may be empty.
    pub fn out_of_range(
        &self,
        value: i64,
        range: RangeInclusive<i64>,
        rule: &'static str,
    ) -> Mismatch {
        let range = i128::from(*range.start())..=i128::from(*range.end());
        self.not_in(value, range, rule)
    }

    /// The error of a value that no field of the instruction can hold, whichever it is.
    fn not_encodable(&self, value: i64, rule: &'static str) -> Mismatch {
        self.not_in(value, -(1 << 63)..=(1 << 64) - 1, rule)
    }

    fn not_in(&self, value: i64, range: RangeInclusive<i128>, rule: &'static str) -> Mismatch {
        let rule = (!rule.is_empty()).then_some(rule);
        Some(EncodeError::OutOfRange { operand: self.index, value: i128::from(value), range, rule })
    }

    /// A value that is known and in the range.
    pub fn number(&self, value: Value, range: RangeInclusive<i64>) -> Result<u32, Mismatch> {
        let value = known(value)?;
        match range.contains(&value) {
            true => Ok(value as u32),
            false => Err(self.out_of_range(value, range, "")),
        }
    }
}

/// The value of an immediate at `width`: as written if it fits signed or unsigned, upper bits cut.
fn at_width(value: i64, width: Width, at: &Position) -> Result<u64, Mismatch> {
    if width == Width::W64 || (-(1i64 << 31)..1 << 32).contains(&value) {
        Ok(value as u64 & width.mask())
    } else {
        Err(at.out_of_range(value, -(1 << 31)..=(1 << 32) - 1, ""))
    }
}

/// The one 16-bit part that is not zero, and its index; `(0, 0)` for zero.
fn wide_part(value: u64) -> Option<(u32, u32)> {
    (0..4).find_map(|hw| {
        let part = value >> (16 * hw) & 0xffff;
        (part << (16 * hw) == value).then_some((part as u32, hw))
    })
}

pub(super) fn known(value: Value) -> Result<i64, Mismatch> {
    // No A64 field of these kinds can be filled by a relocation that we write.
    value.known().ok_or(None)
}

const MOV_RULE: &str = "MOV takes 16 bits at a multiple of 16, the inverse of that, or a repeating run of ones; build others with movz and movk";
const BITMASK_RULE: &str =
    "the immediate must be a run of ones, rotated and repeated across the register";

impl Word {
    /// Leaves a field open for a relocation.
    pub fn fixup(&mut self, field: Field, at: &Position) {
        self.fixups.push(Fixup { offset: 0, field, operand: at.index as u8, addend: 0 });
    }

    fn put_operand(
        &mut self,
        pattern: Pattern,
        operand: &Operand,
        at: &Position,
    ) -> Result<(), Mismatch> {
        match operand {
            Operand::Reg(_) | Operand::Shifted(..) | Operand::Extended(..) => {
                self.put_register(pattern, operand, at)
            }
            Operand::Imm(_)
            | Operand::ShiftedImm(..)
            | Operand::ShiftedOnes(..)
            | Operand::Float(_) => match self.put_vector_immediate(pattern, operand, at) {
                Some(done) => done,
                None => self.put_immediate(pattern, operand, at),
            },
            Operand::Mem(mem) => self.put_memory(pattern, mem, at),
            Operand::Target(target) => self.put_target(pattern, *target, at),
            Operand::Cond(cond) => match pattern {
                Pattern::Cond => self.put(field::COND, u32::from(*cond)),
                // There is no inverse of "always".
                Pattern::InvertedCond if *cond < 14 => self.put(field::COND, u32::from(cond ^ 1)),
                _ => Err(None),
            },
            Operand::Vector(..) | Operand::Element(..) | Operand::List(_) | Operand::Named(_) => {
                self.put_vector_operand(pattern, operand)
            }
        }
    }

    /// A register, shifted or extended where the pattern takes that.
    fn put_register(
        &mut self,
        pattern: Pattern,
        operand: &Operand,
        at: &Position,
    ) -> Result<(), Mismatch> {
        match (pattern, *operand) {
            (Pattern::R(width, field), Operand::Reg(reg)) => {
                self.register(field, general(reg, width)?)
            }
            (Pattern::RSp(width, field), Operand::Reg(reg)) if is_base_like(reg, width) => {
                self.register(field, reg.number)
            }
            (Pattern::Sp(width), Operand::Reg(reg)) => {
                let is_sp = matches!(reg.kind, RegKind::Sp | RegKind::Wsp);
                if is_sp && reg.width() == width { Ok(()) } else { Err(None) }
            }
            (Pattern::RTwice(width), Operand::Reg(reg)) => {
                let number = general(reg, width)?;
                self.register(RegField::Rn, number)?;
                self.register(RegField::Rm, number)
            }
            (Pattern::REven(width, field), Operand::Reg(reg)) => {
                let number = general(reg, width)?;
                if number % 2 != 0 {
                    return Err(None);
                }
                self.register(field, number)
            }
            (Pattern::RNext(width, field), Operand::Reg(reg)) => {
                // The first of the pair has been put.
                let first = field.field().get(self.bits) as u8;
                if general(reg, width)? == first | 1 { Ok(()) } else { Err(None) }
            }
            (Pattern::ShiftedReg(width, ror), Operand::Reg(_) | Operand::Shifted(..)) => {
                let (reg, shift, amount) = match *operand {
                    Operand::Shifted(reg, shift, amount) => (reg, shift, amount),
                    Operand::Reg(reg) => (reg, Shift::Lsl, 0),
                    _ => return Err(None),
                };
                self.register(RegField::Rm, general(reg, width)?)?;
                if shift == Shift::Ror && !ror {
                    return Err(None);
                }
                if u32::from(amount) >= width.bits() {
                    let range = 0..=i64::from(width.bits() - 1);
                    return Err(at.out_of_range(i64::from(amount), range, ""));
                }
                self.put(field::SHIFT, shift as u32)?;
                self.put(field::IMM6, u32::from(amount))
            }
            (Pattern::ExtendedReg(width), _) => self.put_extended(width, operand, at),
            (_, Operand::Reg(reg)) => self.put_scalar(pattern, reg),
            _ => Err(None),
        }
    }

    fn put_extended(
        &mut self,
        width: Width,
        operand: &Operand,
        at: &Position,
    ) -> Result<(), Mismatch> {
        let natural = if width == Width::W64 { Extend::Uxtx } else { Extend::Uxtw };
        let (reg, extend, amount) = match *operand {
            Operand::Reg(reg) => (reg, natural, 0),
            Operand::Shifted(reg, Shift::Lsl, amount) => (reg, natural, amount),
            Operand::Extended(reg, extend, amount) => (reg, extend, amount),
            _ => return Err(None),
        };
        // Only UXTX and SXTX take all of an X register; the others take a W register.
        let wanted = match extend {
            Extend::Uxtx | Extend::Sxtx if width == Width::W64 => Width::W64,
            _ => Width::W32,
        };
        let number = general(reg, wanted)?;
        if amount > 4 {
            return Err(at.out_of_range(i64::from(amount), 0..=4, ""));
        }
        self.register(RegField::Rm, number)?;
        self.put(field::OPTION, extend as u32)?;
        self.put(field::IMM3, u32::from(amount))
    }

    fn put_immediate(
        &mut self,
        pattern: Pattern,
        operand: &Operand,
        at: &Position,
    ) -> Result<(), Mismatch> {
        let (value, shift) = match *operand {
            Operand::Imm(value) => (value, None),
            Operand::ShiftedImm(value, shift) => (value, Some(shift)),
            _ => return Err(None),
        };
        match (pattern, shift) {
            (Pattern::AddSubImm, None | Some(0 | 12)) => self.put_add_sub(value, shift, at),
            (Pattern::MoveWide(width), _) => self.put_move_wide(width, value, shift, at),
            (_, Some(_)) => Err(None),
            (Pattern::Bitmask(width), _) => {
                let value = known(value)?;
                let mask = bitmask::encode(at_width(value, width, at)?, width);
                self.put_bitmask(mask.ok_or_else(|| at.not_encodable(value, BITMASK_RULE))?)
            }
            (Pattern::MovImm(width) | Pattern::MovInverted(width), _) => {
                let value = known(value)?;
                let inverted = matches!(pattern, Pattern::MovInverted(_));
                let bits = at_width(value, width, at)?;
                let bits = if inverted { !bits & width.mask() } else { bits };
                let (part, half) =
                    wide_part(bits).ok_or_else(|| at.not_encodable(value, MOV_RULE))?;
                self.put(field::IMM16, part)?;
                self.put(field::HALF, half)
            }
            (Pattern::MovBitmask(width), _) => {
                let value = known(value)?;
                let mask = bitmask::encode(at_width(value, width, at)?, width);
                self.put_bitmask(mask.ok_or_else(|| at.not_encodable(value, MOV_RULE))?)
            }
            (Pattern::LeftShift(width), _) => {
                let bits = width.bits();
                let amount = at.number(value, 0..=i64::from(bits - 1))?;
                self.put(field::IMMR, (bits - amount) % bits)?;
                self.put(field::IMMS, bits - 1 - amount)
            }
            (Pattern::InsertLsb(width), _) => {
                let bits = width.bits();
                let lsb = at.number(value, 0..=i64::from(bits - 1))?;
                self.put(field::IMMR, (bits - lsb) % bits)
            }
            (Pattern::InsertWidth(width), _) => {
                let bits = width.bits();
                let lsb = (bits - field::IMMR.get(self.bits)) % bits;
                let count = at.number(value, 1..=i64::from(bits - lsb))?;
                self.put(field::IMMS, count - 1)
            }
            (Pattern::ExtractWidth(width), _) => {
                let lsb = field::IMMR.get(self.bits);
                let count = at.number(value, 1..=i64::from(width.bits() - lsb))?;
                self.put(field::IMMS, lsb + count - 1)
            }
            (Pattern::Bit(base), _) => {
                let base = i64::from(base);
                let bit = at.number(value, base..=base + 31)?;
                self.put(field::BIT40, bit - base as u32)
            }
            // What has no name is written as its number.
            (Pattern::Named(NamedKind::Prefetch), _) => {
                let number = at.number(value, 0..=31)?;
                self.put(field::PREFETCH, number)
            }
            (Pattern::Named(NamedKind::Barrier), _) => {
                let number = at.number(value, 0..=15)?;
                self.put(field::CRM, number)
            }
            (Pattern::Unsigned(field), _) => {
                let value = at.number(value, 0..=(1 << field.width) - 1)?;
                self.put(field, value)
            }
            _ => Err(None),
        }
    }

    fn put_add_sub(
        &mut self,
        value: Value,
        shift: Option<u8>,
        at: &Position,
    ) -> Result<(), Mismatch> {
        if value == Value::Unresolved {
            self.fixup(Field::AddLow12, at);
            return self.put(field::SHIFT12, u32::from(shift == Some(12)));
        }
        let value = known(value)?;
        let (part, shifted) = match shift {
            None if value & 0xfff == 0 && value >> 12 != 0 => (value >> 12, true),
            None => (value, false),
            Some(shift) => (value, shift == 12),
        };
        if !(0..4096).contains(&part) {
            let rule = match shift {
                None => "0 to 4095, or such a number shifted left by 12",
                Some(_) => "",
            };
            return Err(at.out_of_range(value, 0..=4095, rule));
        }
        self.put(field::SHIFT12, u32::from(shifted))?;
        self.put(field::IMM12, part as u32)
    }

    fn put_move_wide(
        &mut self,
        width: Width,
        value: Value,
        shift: Option<u8>,
        at: &Position,
    ) -> Result<(), Mismatch> {
        let amount = shift.unwrap_or(0);
        if !amount.is_multiple_of(16) || u32::from(amount) >= width.bits() {
            let range = 0..=i64::from(width.bits() - 16);
            let rule = "the shift is a multiple of 16";
            return Err(at.out_of_range(i64::from(amount), range, rule));
        }
        if value == Value::Unresolved {
            self.fixup(Field::MoveWide16, at);
            return self.put(field::HALF, u32::from(amount / 16));
        }
        let value = at.number(value, 0..=65535)?;
        self.put(field::IMM16, value)?;
        self.put(field::HALF, u32::from(amount / 16))
    }

    fn put_bitmask(&mut self, (n, immr, imms): (u32, u32, u32)) -> Result<(), Mismatch> {
        self.put(field::N, n)?;
        self.put(field::IMMR, immr)?;
        self.put(field::IMMS, imms)
    }
}

/// The number of a general register of this width, the zero register included.
fn general(reg: Reg, width: Width) -> Result<u8, Mismatch> {
    let wanted = if width == Width::W64 { RegKind::X } else { RegKind::W };
    if reg.kind == wanted { Ok(reg.number) } else { Err(None) }
}

/// Whether the register may stand where number 31 means the stack pointer.
pub(super) fn is_base_like(reg: Reg, width: Width) -> bool {
    match reg.kind {
        RegKind::Sp | RegKind::Wsp => reg.width() == width,
        RegKind::X | RegKind::W => reg.width() == width && reg.number != 31,
        _ => false,
    }
}
