//! Operands to words.

use std::ops::RangeInclusive;

use arrayvec::ArrayVec;

use super::{MNEMONICS, Offset, Pattern, RegField, Row, bitmask, table};
use crate::instruction::{closer, describe};
use crate::{
    Arch, EncodeError, Encoded, Extend, Field, Fixup, IndexMode, Mem, Operand, Operands, Reg,
    RegKind, Shift, Value, Width,
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
    let table = table();
    let Some(numbers) = MNEMONICS.rows(mnemonic) else {
        return Err(EncodeError::UnknownMnemonic {
            mnemonic: mnemonic.to_string(),
            arch: Arch::Arm64,
        });
    };
    let mut error = None;
    for &number in numbers {
        match attempt(&table.rows[usize::from(number)], number, operands, address) {
            Ok(encoded) => return Ok(encoded),
            Err(Some(e)) => error = Some(closer(error, e)),
            Err(None) => {}
        }
    }
    Err(error.unwrap_or_else(|| EncodeError::NoSuchForm {
        mnemonic: mnemonic.to_string(),
        given: describe(operands),
        forms: super::form_docs(mnemonic).into_iter().map(|doc| doc.syntax).collect(),
    }))
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
    let row = &table().rows[usize::from(number)];
    attempt(row, number, operands, address).map_err(|error| {
        error.unwrap_or_else(|| EncodeError::NoSuchForm {
            mnemonic: row.form.mnemonic.to_string(),
            given: describe(operands),
            forms: vec![super::syntax(row.form)],
        })
    })
}

/// A word being built from a row.
struct Word<'a> {
    row: &'a Row,
    bits: u32,
    fixups: ArrayVec<Fixup, 2>,
}

impl Word<'_> {
    fn put(&mut self, field: &str, value: u32) {
        let (at, width) = self.row.field(field);
        debug_assert!(value >> width == 0 || width == 32, "{field} holds {width} bits");
        self.bits |= value << at;
    }

    fn register(&mut self, field: RegField, reg: Reg) {
        self.bits |= u32::from(reg.number) << field.shift();
    }
}

/// Why a row does not take the operands: a value out of range, or (`None`) another kind of operand.
type Mismatch = Option<EncodeError>;

fn attempt(
    row: &Row,
    number: u16,
    operands: &[Operand],
    address: u64,
) -> Result<Encoded, Mismatch> {
    if row.form.operands.len() != operands.len() {
        return Err(None);
    }
    let mut word = Word { row, bits: row.value, fixups: ArrayVec::new() };
    // A value out of range counts only if all the kinds are right.
    let mut out_of_range = None;
    for (index, (slot, operand)) in row.form.operands.iter().zip(operands).enumerate() {
        match put_operand(&mut word, slot.pattern, operand, index, address) {
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

fn range_error(
    operand: usize,
    value: i64,
    range: RangeInclusive<i128>,
    rule: &'static str,
) -> Mismatch {
    let rule = (!rule.is_empty()).then_some(rule);
    Some(EncodeError::OutOfRange { operand, value: i128::from(value), range, rule })
}

/// The value of an immediate at `width`: as written if it fits signed or unsigned, upper bits cut.
fn at_width(value: i64, width: Width, operand: usize) -> Result<u64, Mismatch> {
    if width == Width::W64 || (-(1i64 << 31)..1 << 32).contains(&value) {
        Ok(value as u64 & width.mask())
    } else {
        let range = -(1i128 << 31)..=(1i128 << 32) - 1;
        Err(range_error(operand, value, range, ""))
    }
}

/// The one 16-bit part that is not zero, and its index; `(0, 0)` for zero.
fn wide_part(value: u64) -> Option<(u32, u32)> {
    (0..4).find_map(|hw| {
        let part = value >> (16 * hw) & 0xffff;
        (part << (16 * hw) == value).then_some((part as u32, hw))
    })
}

fn known(value: Value) -> Result<i64, Mismatch> {
    // No A64 field of these kinds can be filled by a relocation that we write.
    value.known().ok_or(None)
}

fn put_operand(
    word: &mut Word,
    pattern: Pattern,
    operand: &Operand,
    index: usize,
    address: u64,
) -> Result<(), Mismatch> {
    const MOV_RULE: &str = "MOV takes 16 bits at a multiple of 16, the inverse of that, or a repeating run of ones; build others with movz and movk";
    const BITMASK_RULE: &str =
        "the immediate must be a run of ones, rotated and repeated across the register";
    let any_range = -(1i128 << 63)..=(1i128 << 64) - 1;
    match (pattern, *operand) {
        (Pattern::R(width, field), Operand::Reg(reg)) => {
            let wanted = if width == Width::W64 { RegKind::X } else { RegKind::W };
            if reg.kind != wanted {
                return Err(None);
            }
            word.register(field, reg);
        }
        (Pattern::RSp(width, field), Operand::Reg(reg)) => {
            if !is_base_like(reg, width) {
                return Err(None);
            }
            word.register(field, reg);
        }
        (Pattern::Sp(width), Operand::Reg(reg)) => {
            if !matches!(reg.kind, RegKind::Sp | RegKind::Wsp) || reg.width() != width {
                return Err(None);
            }
        }
        (Pattern::AddSubImm, Operand::Imm(Value::Unresolved)) => {
            let (field, operand) = (Field::AddLow12, index as u8);
            word.fixups.push(Fixup { offset: 0, field, operand, addend: 0 });
        }
        (Pattern::AddSubImm, Operand::Imm(value)) => {
            let value = known(value)?;
            if (0..4096).contains(&value) {
                word.put("imm12", value as u32);
            } else if value & 0xfff == 0 && (0..4096 << 12).contains(&value) {
                word.put("sh", 1);
                word.put("imm12", (value >> 12) as u32);
            } else {
                let rule = "0 to 4095, or such a number shifted left by 12";
                return Err(range_error(index, value, 0..=4095, rule));
            }
        }
        (Pattern::AddSubImm, Operand::ShiftedImm(Value::Unresolved, shift @ (0 | 12))) => {
            word.put("sh", u32::from(shift == 12));
            let (field, operand) = (Field::AddLow12, index as u8);
            word.fixups.push(Fixup { offset: 0, field, operand, addend: 0 });
        }
        (Pattern::AddSubImm, Operand::ShiftedImm(value, shift @ (0 | 12))) => {
            let value = known(value)?;
            if !(0..4096).contains(&value) {
                return Err(range_error(index, value, 0..=4095, ""));
            }
            word.put("sh", u32::from(shift == 12));
            word.put("imm12", value as u32);
        }
        (Pattern::Bitmask(width), Operand::Imm(value)) => {
            let value = known(value)?;
            let (n, immr, imms) = bitmask::encode(at_width(value, width, index)?, width)
                .ok_or_else(|| range_error(index, value, any_range, BITMASK_RULE))?;
            put_bitmask(word, n, immr, imms);
        }
        (Pattern::MovImm(width) | Pattern::MovInverted(width), Operand::Imm(value)) => {
            let value = known(value)?;
            let inverted = matches!(pattern, Pattern::MovInverted(_));
            let bits = at_width(value, width, index)?;
            let bits = if inverted { !bits & width.mask() } else { bits };
            let (part, hw) =
                wide_part(bits).ok_or_else(|| range_error(index, value, any_range, MOV_RULE))?;
            word.put("imm16", part);
            word.put("hw", hw);
        }
        (Pattern::MovBitmask(width), Operand::Imm(value)) => {
            let value = known(value)?;
            let bits = at_width(value, width, index)?;
            let (n, immr, imms) = bitmask::encode(bits, width)
                .ok_or_else(|| range_error(index, value, any_range, MOV_RULE))?;
            put_bitmask(word, n, immr, imms);
        }
        (Pattern::MoveWide(width), Operand::Imm(value) | Operand::ShiftedImm(value, _)) => {
            let value = known(value)?;
            let shift = match operand {
                Operand::ShiftedImm(_, shift) => *shift,
                _ => 0,
            };
            if shift % 16 != 0 || u32::from(shift) >= width.bits() {
                let range = 0..=i128::from(width.bits() - 16);
                return Err(range_error(
                    index,
                    i64::from(shift),
                    range,
                    "the shift is a multiple of 16",
                ));
            }
            if !(0..65536).contains(&value) {
                return Err(range_error(index, value, 0..=65535, ""));
            }
            word.put("imm16", value as u32);
            word.put("hw", u32::from(shift / 16));
        }
        (Pattern::ShiftedReg(width, ror), Operand::Reg(_) | Operand::Shifted(..)) => {
            let (reg, shift, amount) = match *operand {
                Operand::Shifted(reg, shift, amount) => (reg, shift, amount),
                Operand::Reg(reg) => (reg, Shift::Lsl, 0),
                _ => return Err(None),
            };
            put_operand(word, Pattern::R(width, RegField::Rm), &Operand::Reg(reg), index, address)?;
            if shift == Shift::Ror && !ror {
                return Err(None);
            }
            if u32::from(amount) >= width.bits() {
                let range = 0..=i128::from(width.bits() - 1);
                return Err(range_error(index, i64::from(amount), range, ""));
            }
            word.put("shift", shift as u32);
            word.put("imm6", u32::from(amount));
        }
        (Pattern::ExtendedReg(width), _) => put_extended(word, width, operand, index)?,
        (Pattern::LeftShift(width) | Pattern::RightShift(width), Operand::Imm(value)) => {
            let value = known(value)?;
            let bits = width.bits();
            if !(0..i64::from(bits)).contains(&value) {
                return Err(range_error(index, value, 0..=i128::from(bits - 1), ""));
            }
            let amount = value as u32;
            if matches!(pattern, Pattern::LeftShift(_)) {
                word.put("immr", (bits - amount) % bits);
                word.put("imms", bits - 1 - amount);
            } else {
                word.put("immr", amount);
            }
        }
        (Pattern::Cond, Operand::Cond(cond)) => word.put("cond", u32::from(cond)),
        // There is no inverse of "always".
        (Pattern::InvertedCond, Operand::Cond(cond)) if cond < 14 => {
            word.put("cond", u32::from(cond ^ 1));
        }
        (Pattern::MemOffset(access, offset), Operand::Mem(mem)) => {
            put_memory(word, access, offset, &mem, IndexMode::Offset, index)?;
        }
        (Pattern::MemPre(access, offset), Operand::Mem(mem)) => {
            put_memory(word, access, offset, &mem, IndexMode::Pre, index)?;
        }
        (Pattern::MemPost(access, offset), Operand::Mem(mem)) => {
            put_memory(word, access, offset, &mem, IndexMode::Post, index)?;
        }
        (Pattern::MemReg(access), Operand::Mem(mem)) => put_indexed(word, access, &mem, index)?,
        (Pattern::Label26, Operand::Target(target)) => {
            put_target(word, target, address, "imm26", Field::Branch26, index)?;
        }
        (Pattern::Label19, Operand::Target(target)) => {
            put_target(word, target, address, "imm19", Field::Branch19, index)?;
        }
        (Pattern::Label14, Operand::Target(target)) => {
            put_target(word, target, address, "imm14", Field::Branch14, index)?;
        }
        (Pattern::Bit(base), Operand::Imm(value)) => {
            let (value, base) = (known(value)?, i64::from(base));
            if !(base..base + 32).contains(&value) {
                return Err(range_error(
                    index,
                    value,
                    i128::from(base)..=i128::from(base + 31),
                    "",
                ));
            }
            word.put("b40", (value - base) as u32);
        }
        (Pattern::AdrLabel, Operand::Target(target)) => put_adr(word, target, address, index)?,
        (Pattern::AdrpLabel, Operand::Target(target)) => {
            put_adrp(word, target, address, index)?;
        }
        (Pattern::Imm16, Operand::Imm(value)) => {
            let value = known(value)?;
            if !(0..65536).contains(&value) {
                return Err(range_error(index, value, 0..=65535, ""));
            }
            word.put("imm16", value as u32);
        }
        (Pattern::Hint, Operand::Imm(value)) => {
            let value = known(value)?;
            if !(0..128).contains(&value) {
                return Err(range_error(index, value, 0..=127, ""));
            }
            word.put("imm7", value as u32);
        }
        _ => return Err(None),
    }
    Ok(())
}

fn put_bitmask(word: &mut Word, n: u32, immr: u32, imms: u32) {
    word.put("N", n);
    word.put("immr", immr);
    word.put("imms", imms);
}

/// Whether the register may stand where number 31 means the stack pointer.
fn is_base_like(reg: Reg, width: Width) -> bool {
    match reg.kind {
        RegKind::Sp | RegKind::Wsp => reg.width() == width,
        RegKind::X | RegKind::W => reg.width() == width && reg.number != 31,
        _ => false,
    }
}

fn put_extended(
    word: &mut Word,
    width: Width,
    operand: &Operand,
    index: usize,
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
        Extend::Uxtx | Extend::Sxtx if width == Width::W64 => RegKind::X,
        _ => RegKind::W,
    };
    if reg.kind != wanted {
        return Err(None);
    }
    if amount > 4 {
        return Err(range_error(index, i64::from(amount), 0..=4, ""));
    }
    word.register(RegField::Rm, reg);
    word.put("option", extend as u32);
    word.put("imm3", u32::from(amount));
    Ok(())
}

fn put_base(word: &mut Word, mem: &Mem) -> Result<(), Mismatch> {
    let base = mem.base.filter(|base| is_base_like(*base, Width::W64)).ok_or(None)?;
    word.register(RegField::Rn, base);
    Ok(())
}

fn put_memory(
    word: &mut Word,
    access: Width,
    offset: Offset,
    mem: &Mem,
    mode: IndexMode,
    index: usize,
) -> Result<(), Mismatch> {
    if mem.mode != mode || mem.index.is_some() {
        return Err(None);
    }
    put_base(word, mem)?;
    if mem.disp == Value::Unresolved && matches!(offset, Offset::Scaled12) {
        let (field, operand) = (Field::AccessLow12(access), index as u8);
        word.fixups.push(Fixup { offset: 0, field, operand, addend: 0 });
        return Ok(());
    }
    let disp = known(mem.disp)?;
    let unit = access.bytes() as i64;
    let (field, bits, unit, range) = match offset {
        Offset::Scaled12 => ("imm12", 12, unit, 0..=4095 * unit),
        Offset::Signed9 => ("imm9", 9, 1, -256..=255),
        Offset::Scaled7 => ("imm7", 7, unit, -64 * unit..=63 * unit),
    };
    if !range.contains(&disp) || disp % unit != 0 {
        let rule = if unit == 1 { "" } else { "and a multiple of the width of the access" };
        let range = i128::from(*range.start())..=i128::from(*range.end());
        return Err(range_error(index, disp, range, rule));
    }
    word.put(field, (disp / unit) as u32 & ((1 << bits) - 1));
    Ok(())
}

fn put_indexed(word: &mut Word, access: Width, mem: &Mem, index: usize) -> Result<(), Mismatch> {
    let (Some(reg), IndexMode::Offset, Some(0)) = (mem.index, mem.mode, mem.disp.known()) else {
        return Err(None);
    };
    put_base(word, mem)?;
    let extend = match (reg.kind, mem.extend) {
        (RegKind::X, None) => Extend::Uxtx,
        (RegKind::X, Some(e @ (Extend::Uxtx | Extend::Sxtx))) => e,
        (RegKind::W, Some(e @ (Extend::Uxtw | Extend::Sxtw))) => e,
        _ => return Err(None),
    };
    let amount = mem.scale.trailing_zeros();
    if amount != 0 && u64::from(mem.scale) != access.bytes() {
        let range = 0..=i128::from(access.bytes().trailing_zeros());
        let rule = "the shift is 0, or what multiplies by the width of the access";
        return Err(range_error(index, i64::from(amount), range, rule));
    }
    word.register(RegField::Rm, reg);
    word.put("option", extend as u32);
    word.put("S", u32::from(amount != 0));
    Ok(())
}

fn put_target(
    word: &mut Word,
    target: Value,
    address: u64,
    name: &str,
    field: Field,
    index: usize,
) -> Result<(), Mismatch> {
    let Some(target) = target.known() else {
        word.fixups.push(Fixup { offset: 0, field, operand: index as u8, addend: 0 });
        return Ok(());
    };
    let distance = target.wrapping_sub(address as i64);
    let (_, width) = word.row.field(name);
    let limit = 1i64 << (width + 1);
    if !(-limit..limit).contains(&distance) || distance % 4 != 0 {
        let range = i128::from(-limit)..=i128::from(limit - 4);
        return Err(range_error(index, distance, range, "the distance in bytes, a multiple of 4"));
    }
    word.put(name, (distance / 4) as u32 & ((1 << width) - 1));
    Ok(())
}

fn put_adrp(word: &mut Word, target: Value, address: u64, index: usize) -> Result<(), Mismatch> {
    let Some(target) = target.known() else {
        let (field, operand) = (Field::AdrPage21, index as u8);
        word.fixups.push(Fixup { offset: 0, field, operand, addend: 0 });
        return Ok(());
    };
    let pages = (target >> 12).wrapping_sub(address as i64 >> 12);
    if !(-(1 << 20)..1 << 20).contains(&pages) {
        let range = -(1i128 << 20)..=(1i128 << 20) - 1;
        return Err(range_error(index, pages, range, "the distance in pages of 4 KiB"));
    }
    word.put("immlo", pages as u32 & 3);
    word.put("immhi", (pages >> 2) as u32 & 0x7ffff);
    Ok(())
}

fn put_adr(word: &mut Word, target: Value, address: u64, index: usize) -> Result<(), Mismatch> {
    let Some(target) = target.known() else {
        let fixup = Fixup { offset: 0, field: Field::Adr21, operand: index as u8, addend: 0 };
        word.fixups.push(fixup);
        return Ok(());
    };
    let distance = target.wrapping_sub(address as i64);
    if !(-(1 << 20)..1 << 20).contains(&distance) {
        let range = -(1i128 << 20)..=(1i128 << 20) - 1;
        return Err(range_error(index, distance, range, "the distance in bytes"));
    }
    word.put("immlo", distance as u32 & 3);
    word.put("immhi", (distance >> 2) as u32 & 0x7ffff);
    Ok(())
}
