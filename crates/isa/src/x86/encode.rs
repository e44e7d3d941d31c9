//! Operands to bytes: matching rows, choosing among them, and laying the instruction out.

use std::ops::RangeInclusive;

use arrayvec::ArrayVec;

use super::encoding::NARROW_ADDRESSES;
use super::encoding::{Encoding, Mandatory, ModRm, immediate_bytes};
use super::is_32_bit;
use super::kinds::Kinds;
use super::{Form, Meaning, Pattern, Row, by_mnemonic, rows};
use crate::instruction::{closer, describe};
use crate::{
    Arch, EncodeError, Encoded, Field, Fixup, MAX_INSTRUCTION_BYTES, Mem, Operand, Reg, RegKind,
    Segment, Value, Width,
};

/// The shortest encoding of at least `min_bytes`; among equally short ones the first row.
///
/// # Errors
///
/// See [`crate::encode`].
pub fn encode(
    arch: Arch,
    mnemonic: &str,
    operands: &[Operand],
    address: u64,
    min_bytes: usize,
) -> Result<Encoded, EncodeError> {
    let rows = rows();
    let Some(numbers) = by_mnemonic(arch).rows(mnemonic) else {
        return Err(EncodeError::UnknownMnemonic { mnemonic: mnemonic.to_string(), arch });
    };
    let mut best: Option<Encoded> = None;
    let mut error = None;
    // Data widths of the matching forms whose width only the memory operand's keyword could tell.
    let mut untold_widths = 0u64;
    let kinds = Kinds::of_operands(operands);
    for &number in numbers {
        let row = &rows[usize::from(number)];
        if !row.kinds.allow(kinds) || !kinds_match(row.form, operands) {
            continue;
        }
        // What cannot be shorter is not laid out, unless it tells that a width has to be said.
        if let Some(best) = &best
            && usize::from(row.least_bytes) >= best.bytes.len()
            && untold_width(row.form, operands).is_none()
        {
            continue;
        }
        match layout(arch, row, number, operands, address) {
            Ok(encoded) if encoded.bytes.len() < min_bytes => {}
            Ok(encoded) => {
                if let Some(width) = untold_width(row.form, operands) {
                    untold_widths |= width.bytes();
                }
                if best.as_ref().is_none_or(|b| encoded.bytes.len() < b.bytes.len()) {
                    best = Some(encoded);
                }
            }
            Err(e) => error = Some(closer(error, e)),
        }
    }
    if untold_widths.count_ones() > 1 {
        let operand = operands.iter().position(|o| matches!(o, Operand::Mem(_))).unwrap_or(0);
        return Err(EncodeError::SizeUnknown { operand });
    }
    best.ok_or_else(|| {
        error.unwrap_or_else(|| EncodeError::NoSuchForm {
            mnemonic: mnemonic.to_string(),
            given: describe(operands),
            forms: forms_for(numbers, operands.first()),
        })
    })
}

/// The operands of the rows that take this first operand, or of all of them if none does.
fn forms_for(numbers: &[u16], first: Option<&Operand>) -> Vec<String> {
    let rows = || numbers.iter().map(|&number| super::form(number));
    let takes = |form: &&Form| match (form.operands.first(), first) {
        (Some(slot), Some(operand)) => kind_matches(slot.pattern, operand),
        _ => false,
    };
    let matching: Vec<String> = rows().filter(takes).map(super::syntax).collect();
    if matching.is_empty() { rows().map(super::syntax).collect() } else { matching }
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
    arch: Arch,
    number: u16,
    operands: &[Operand],
    address: u64,
) -> Result<Encoded, EncodeError> {
    let row = &rows()[usize::from(number)];
    if !kinds_match(row.form, operands) {
        return Err(EncodeError::NoSuchForm {
            mnemonic: row.form.mnemonic.to_string(),
            given: describe(operands),
            forms: vec![super::syntax(row.form)],
        });
    }
    layout(arch, row, number, operands, address)
}

/// Width of a form whose memory operand has no width and no register beside it to tell one.
fn untold_width(form: &Form, operands: &[Operand]) -> Option<Width> {
    let position =
        operands.iter().position(|o| matches!(o, Operand::Mem(mem) if mem.width.is_none()))?;
    let width = form.operands[position].pattern.data_width()?;
    // The source of CRC32 may be narrower than its destination.
    let told = !matches!(form.meaning, Meaning::Crc32(_));
    let told = told && form.operands.iter().any(|slot| slot.pattern.tells_width() == Some(width));
    (!told).then_some(width)
}

fn kinds_match(form: &Form, operands: &[Operand]) -> bool {
    form.operands.len() == operands.len()
        && form
            .operands
            .iter()
            .zip(operands)
            .all(|(slot, operand)| kind_matches(slot.pattern, operand))
}

/// Whether the operand is of the pattern's kind; values are looked at in [`layout`].
fn kind_matches(pattern: Pattern, operand: &Operand) -> bool {
    match (pattern, operand) {
        (
            Pattern::R(width)
            | Pattern::Rm(width)
            | Pattern::RegRm(width)
            | Pattern::RmNarrow(width, _)
            | Pattern::Vvvv(width),
            Operand::Reg(reg),
        ) => !matches!(reg.kind, RegKind::Ip | RegKind::Segment) && reg.width() == width,
        (Pattern::X | Pattern::Xm(_) | Pattern::XmUnaligned | Pattern::XRm, Operand::Reg(reg)) => {
            reg.kind == RegKind::Xmm
        }
        (Pattern::Xmm0, Operand::Reg(reg)) => reg.kind == RegKind::Xmm && reg.number == 0,
        (Pattern::Sreg, Operand::Reg(reg)) => reg.kind == RegKind::Segment,
        (Pattern::Segment(number), Operand::Reg(reg)) => {
            reg.kind == RegKind::Segment && reg.number == number
        }
        (
            Pattern::Mem(_)
            | Pattern::MemAligned
            | Pattern::RmNarrow(..)
            | Pattern::Xm(_)
            | Pattern::XmUnaligned,
            Operand::Mem(mem),
        ) => mem.width.is_none() || mem.width == pattern.memory_width(),
        (Pattern::R32NotEax, Operand::Reg(reg)) => reg.kind == RegKind::Dword && reg.number != 0,
        (Pattern::Acc(width), Operand::Reg(reg)) => *reg == Reg::x86(width, 0),
        (Pattern::Cl, Operand::Reg(reg)) => *reg == Reg::x86(Width::W8, 1),
        (Pattern::Dx, Operand::Reg(reg)) => *reg == Reg::x86(Width::W16, 2),
        (Pattern::Rm(width), Operand::Mem(mem)) => mem.width.is_none_or(|w| w == width),
        (Pattern::M | Pattern::Far(_), Operand::Mem(_)) => true,
        (
            Pattern::StringSource(_)
            | Pattern::StringDestination(_)
            | Pattern::TranslateTable
            | Pattern::MaskedDestination,
            Operand::Mem(mem),
        ) => {
            let base = mem.base.filter(|base| base.id().is_none() && base.kind != RegKind::Ip);
            base.map(|base| base.number) == pattern.fixed_address()
                && mem.index.is_none()
                && mem.disp == Value::Known(0)
                && (mem.width.is_none() || mem.width == pattern.memory_width())
        }
        (Pattern::Moffs(width), Operand::Mem(mem)) => {
            mem.width.is_none_or(|w| w == width) && mem.base.is_none() && mem.index.is_none()
        }
        (Pattern::One, Operand::Imm(value)) => *value == Value::Known(1),
        // A byte that is sign-extended cannot hold an address.
        (Pattern::Simm8, Operand::Imm(value)) => *value != Value::Unresolved,
        (
            Pattern::Imm(_)
            | Pattern::Simm32
            | Pattern::Uimm8
            | Pattern::Uimm16
            | Pattern::Selector,
            Operand::Imm(_),
        ) => true,
        (pattern, Operand::Target(_)) => pattern.is_target(),
        _ => false,
    }
}

/// Values an immediate may have, as the source writes them, at this operand width.
fn immediate_range(pattern: Pattern) -> RangeInclusive<i128> {
    match pattern {
        Pattern::Imm(width) => -(1 << (width.bits() - 1))..=(1 << width.bits()) - 1,
        Pattern::Simm8 => -128..=127,
        Pattern::Simm32 => -(1 << 31)..=(1 << 31) - 1,
        Pattern::Uimm8 => 0..=255,
        Pattern::Uimm16 | Pattern::Selector => 0..=65535,
        _ => 0..=0,
    }
}

/// The value as the field holds it, if it fits.
///
/// A sign-extended field also holds the unsigned values whose upper bits are all ones at the width
/// of the operation: `add eax, 0xffffffff` adds -1.
fn fit(pattern: Pattern, value: Value, width: Width) -> Result<i64, (i128, RangeInclusive<i128>)> {
    let range = immediate_range(pattern);
    let (exact, wrapped) = match value {
        Value::Unresolved => return Ok(0),
        Value::Known(v) => {
            let above = i128::from(v) - (1i128 << width.bits());
            (i128::from(v), if v > 0 { above } else { i128::from(v) })
        }
        Value::Above(v) if width == Width::W64 => (i128::from(v), i128::from(v) - (1i128 << 64)),
        Value::Above(v) => (i128::from(v), i128::from(v)),
    };
    let sign_extended = matches!(pattern, Pattern::Simm8 | Pattern::Simm32);
    if range.contains(&exact) || (sign_extended && wrapped < 0 && range.contains(&wrapped)) {
        Ok(exact as i64)
    } else {
        Err((exact, range))
    }
}

/// The parts of an instruction, gathered from its operands.
#[derive(Default)]
struct Parts {
    rex: u8,
    /// An operand needs a REX prefix even if none of its bits is set: `sil` and its like.
    rex_for: Option<Reg>,
    high_byte: Option<Reg>,
    /// The address needs the address-size prefix.
    address_size: bool,
    segment: Option<Segment>,
    /// The register that goes into the VEX prefix.
    vvvv: u8,
    opcode_reg: u8,
    modrm: u8,
    sib: Option<u8>,
    disp: ArrayVec<u8, 4>,
    disp_fixup: Option<(u8, Field)>,
    imm: ArrayVec<u8, 8>,
    imm_fixup: Option<(u8, Field)>,
    /// What stands behind the immediate.
    selector: Option<u16>,
    /// How wide the addresses of a string instruction are, once one of them has told.
    string_address: Option<Width>,
    /// The operand whose code offset counts from the end of the instruction, and its target.
    relative: Option<(usize, Value, usize)>,
}

const REX_W: u8 = 8;
const REX_R: u8 = 4;
const REX_X: u8 = 2;
const REX_B: u8 = 1;

impl Parts {
    /// Notes what a register needs of the REX prefix, and returns its low three bits.
    fn register(&mut self, reg: Reg, rex_bit: u8) -> u8 {
        if reg.kind == RegKind::HighByte {
            self.high_byte = Some(reg);
            return reg.number + 4;
        }
        if reg.number >= 8 {
            self.rex |= rex_bit;
            self.rex_for = Some(reg);
        } else if reg.kind == RegKind::Byte && reg.number >= 4 {
            self.rex_for = Some(reg);
        }
        reg.number & 7
    }

    /// Lays out a memory operand. Source: SDM Vol. 2A, tables 2-2 and 2-3, and 2.2.1.6.
    fn memory(&mut self, arch: Arch, operand: usize, mem: &Mem) -> Result<(), EncodeError> {
        self.segment = mem.segment;
        let long = arch != Arch::X86_32;
        let bad = |reason| EncodeError::BadAddress { operand, reason };
        let (mut base, mut index) = (mem.base, mem.index);
        // The stack pointer cannot be scaled, but as a plain second term it can be the base.
        if let (Some(i), Some(b)) = (index, base)
            && i.number == 4
            && mem.scale == 1
            && b.number != 4
        {
            (base, index) = (Some(i), Some(b));
        }
        if index.is_some_and(|i| i.number == 4) {
            return Err(bad("the stack pointer cannot be an index"));
        }
        for reg in [base, index].into_iter().flatten() {
            match reg.kind {
                RegKind::Dword => self.address_size = long,
                RegKind::Ip if long => self.address_size = reg.width() == Width::W32,
                RegKind::Qword if long => {}
                RegKind::Word if !long => return self.narrow_memory(operand, mem),
                _ if long => {
                    return Err(bad("an address is formed from 64-bit or 32-bit registers"));
                }
                _ => return Err(bad("an address is formed from 32-bit registers")),
            }
        }
        if let (Some(b), Some(i)) = (base, index)
            && b.width() != i.width()
        {
            return Err(bad("base and index must be equally wide"));
        }
        if index.is_some_and(|i| i.kind == RegKind::Ip)
            || (base.is_some_and(|b| b.kind == RegKind::Ip) && index.is_some())
        {
            return Err(bad("the instruction pointer goes with a displacement only"));
        }

        let disp = mem.disp.or_zero();
        // In 32-bit mode addresses wrap, so the upper half of them is negative displacements too.
        let wrapped = u32::try_from(disp).map(|disp| disp as i32).ok().filter(|_| !long);
        let disp32 = i32::try_from(disp).ok().or(wrapped).ok_or(EncodeError::OutOfRange {
            operand,
            value: i128::from(disp),
            range: i128::from(i32::MIN)..=i128::from(if long {
                i64::from(i32::MAX)
            } else {
                u32::MAX.into()
            }),
            rule: Some(if long {
                "a displacement is 32 bits, signed"
            } else {
                "an address has 32 bits"
            }),
        })?;
        let (disp, absolute) = match long {
            true => (disp, Field::Abs32Signed),
            false => (i64::from(disp32), Field::Abs32),
        };
        let late = mem.disp == Value::Unresolved;
        let four_bytes = |parts: &mut Parts, field| {
            parts.disp.extend(disp32.to_le_bytes());
            if late {
                parts.disp_fixup = Some((operand as u8, field));
            }
        };
        if base.is_none() && index.is_none() && !long {
            self.modrm |= 0b101;
            four_bytes(self, absolute);
            return Ok(());
        }
        let Some(base) = base else {
            self.modrm |= 0b100;
            let index_bits = match index {
                Some(index) => self.register(index, REX_X),
                None => 0b100,
            };
            self.sib = Some(scale_bits(mem.scale) << 6 | index_bits << 3 | 0b101);
            four_bytes(self, absolute);
            return Ok(());
        };
        if base.kind == RegKind::Ip {
            self.modrm |= 0b101;
            four_bytes(self, Field::Rel32);
            return Ok(());
        }
        let base_bits = self.register(base, REX_B);
        if index.is_some() || base_bits == 0b100 {
            let index_bits = match index {
                Some(index) => self.register(index, REX_X),
                None => 0b100,
            };
            self.modrm |= 0b100;
            self.sib = Some(scale_bits(mem.scale) << 6 | index_bits << 3 | base_bits);
        } else {
            self.modrm |= base_bits;
        }
        // With rBP or r13 as base, mode 00 means something else.
        if disp == 0 && !late && base_bits != 0b101 {
            return Ok(());
        }
        if let (Ok(disp8), false) = (i8::try_from(disp), late) {
            self.modrm |= 0b01 << 6;
            self.disp.push(disp8 as u8);
        } else {
            self.modrm |= 0b10 << 6;
            four_bytes(self, absolute);
        }
        Ok(())
    }

    /// What memory at a register that the opcode implies needs of the prefixes.
    fn fixed_memory(
        &mut self,
        arch: Arch,
        operand: usize,
        pattern: Pattern,
        mem: &Mem,
    ) -> Result<(), EncodeError> {
        let bad = |reason| EncodeError::BadAddress { operand, reason };
        let width = mem.base.map_or(arch.address_width(), Reg::width);
        let narrow = if is_32_bit(arch) { Width::W16 } else { Width::W32 };
        // Both addresses of a string instruction have one width.
        let other = self.string_address.replace(width);
        if (width != narrow && width != arch.address_width()) || other.is_some_and(|w| w != width) {
            return Err(bad("the addresses of a string instruction are equally wide"));
        }
        self.address_size = width == narrow;
        match (pattern, mem.segment) {
            // What the destination's segment is cannot be chosen.
            (Pattern::StringDestination(_), None | Some(Segment::Es)) => {}
            (Pattern::StringDestination(_), Some(_)) => {
                return Err(bad("the destination of a string instruction is always in es"));
            }
            (_, segment) => self.segment = segment,
        }
        Ok(())
    }

    /// Lays out a memory operand of 16-bit registers. Source: SDM Vol. 2A, table 2-1.
    fn narrow_memory(&mut self, operand: usize, mem: &Mem) -> Result<(), EncodeError> {
        self.address_size = true;
        let bad = |reason| EncodeError::BadAddress { operand, reason };
        let base = mem.base.map(|base| base.number);
        let index = mem.index.map(|index| index.number);
        let registers = |wanted: &(u8, Option<u8>)| {
            (Some(wanted.0), wanted.1) == (base, index)
                || (wanted.1, Some(wanted.0)) == (base, index)
        };
        let narrow = [mem.base, mem.index].iter().flatten().all(|reg| reg.kind == RegKind::Word);
        let bits = NARROW_ADDRESSES
            .iter()
            .position(registers)
            .filter(|_| mem.scale == 1 && narrow)
            .ok_or(bad("a 16-bit address is bx or bp, si or di, or one of the first with one of the second"))?;
        let disp = mem.disp.or_zero();
        if mem.disp == Value::Unresolved
            || i16::try_from(disp).or(u16::try_from(disp).map(|d| d as i16)).is_err()
        {
            return Err(bad("the displacement of a 16-bit address is a number of 16 bits"));
        }
        self.modrm |= bits as u8;
        match (disp as i16, i8::try_from(disp as i16)) {
            // BP alone has no form without a displacement.
            (0, _) if bits != 6 => {}
            (_, Ok(disp)) => {
                self.modrm |= 0b01 << 6;
                self.disp.push(disp as u8);
            }
            (disp, _) => {
                self.modrm |= 0b10 << 6;
                self.disp.extend(disp.to_le_bytes());
            }
        }
        Ok(())
    }
}

fn scale_bits(scale: u8) -> u8 {
    scale.trailing_zeros() as u8
}

fn layout(
    arch: Arch,
    row: &Row,
    number: u16,
    operands: &[Operand],
    address: u64,
) -> Result<Encoded, EncodeError> {
    let e = &row.encoding;
    let mut parts = Parts { rex: if e.rex_w { REX_W } else { 0 }, ..Parts::default() };
    if let ModRm::Digit(digit) = e.modrm {
        parts.modrm = digit << 3;
    }
    let width = super::operand_width(row.form);
    // PUSH sign-extends to the stack's width, not to that of an operand.
    let width = match row.form.meaning {
        Meaning::Push => arch.address_width(),
        Meaning::PushWord => Width::W16,
        // The immediates of vector instructions are bytes.
        Meaning::Vector(_) => Width::W8,
        _ => width,
    };
    for (index, (slot, operand)) in row.form.operands.iter().zip(operands).enumerate() {
        match (slot.pattern, *operand) {
            (Pattern::R(_) | Pattern::R32NotEax, Operand::Reg(reg)) if e.plus_reg => {
                parts.opcode_reg = parts.register(reg, REX_B);
            }
            (
                Pattern::R(_) | Pattern::R32NotEax | Pattern::X | Pattern::Sreg,
                Operand::Reg(reg),
            ) => {
                let bits = parts.register(reg, REX_R);
                parts.modrm |= bits << 3;
            }
            (Pattern::Vvvv(_), Operand::Reg(reg)) => parts.vvvv = reg.number,
            (
                Pattern::Rm(_)
                | Pattern::RegRm(_)
                | Pattern::RmNarrow(..)
                | Pattern::Xm(_)
                | Pattern::XmUnaligned
                | Pattern::XRm,
                Operand::Reg(reg),
            ) => {
                let bits = parts.register(reg, REX_B);
                parts.modrm |= 0b11 << 6 | bits;
            }
            (Pattern::Moffs(_), Operand::Mem(mem)) => {
                parts.segment = mem.segment;
                let bytes = arch.address_bytes() as usize;
                let (address, range) = (mem.disp.or_zero(), i64::from(i32::MIN)..1 << 32);
                if bytes == 4 && !range.contains(&address) {
                    return Err(EncodeError::OutOfRange {
                        operand: index,
                        value: i128::from(address),
                        range: 0..=i128::from(u32::MAX),
                        rule: Some("an address has 32 bits"),
                    });
                }
                parts.imm.extend(address.to_le_bytes()[..bytes].iter().copied());
                if mem.disp == Value::Unresolved {
                    let field = if bytes == 4 { Field::Abs32 } else { Field::Abs64 };
                    parts.imm_fixup = Some((index as u8, field));
                }
            }
            (pattern, Operand::Mem(mem)) if pattern.fixed_address().is_some() => {
                parts.fixed_memory(arch, index, pattern, &mem)?;
            }
            (_, Operand::Mem(mem)) => parts.memory(arch, index, &mem)?,
            (_, Operand::Target(target)) => {
                let bytes = immediate_bytes(slot.pattern, arch.address_width());
                parts.relative = Some((index, target, bytes));
            }
            (Pattern::One, _) => {} // the opcode implies it
            (Pattern::Selector, Operand::Imm(value)) => {
                let selector = fit(Pattern::Selector, value, Width::W16).ok();
                parts.selector = selector.map(|selector| selector as u16);
                if parts.selector.is_none() || value == Value::Unresolved {
                    return Err(EncodeError::OutOfRange {
                        operand: index,
                        value: i128::from(value.or_zero()),
                        range: 0..=65535,
                        rule: Some("a selector is a number of 16 bits"),
                    });
                }
            }
            (pattern, Operand::Imm(value)) => {
                let bytes = immediate_bytes(pattern, arch.address_width());
                let field = fit(pattern, value, width).map_err(|(value, range)| {
                    EncodeError::OutOfRange { operand: index, value, range, rule: None }
                })?;
                parts.imm.extend(field.to_le_bytes()[..bytes].iter().copied());
                if value == Value::Unresolved {
                    let field = match pattern {
                        Pattern::Simm32 => Field::Abs32Signed,
                        _ => match bytes {
                            1 => Field::Abs8,
                            2 => Field::Abs16,
                            4 => Field::Abs32,
                            _ => Field::Abs64,
                        },
                    };
                    parts.imm_fixup = Some((index as u8, field));
                }
            }
            _ => {} // the opcode implies it
        }
    }
    assemble_bytes(arch, row, number, parts, address)
}

/// What opens an opcode of each map.
const MAP_BYTES: [&[u8]; 4] = [&[], &[0x0f], &[0x0f, 0x38], &[0x0f, 0x3a]];

/// The VEX prefix in two bytes if it can be, else in three. Source: SDM Vol. 2A, 2.3.5.
fn vex_prefix(e: &Encoding, parts: &Parts, bytes: &mut ArrayVec<u8, MAX_INSTRUCTION_BYTES>) {
    let implied = match e.mandatory {
        Mandatory::OperandSize => 1,
        Mandatory::Repeat(0xf3) => 2,
        Mandatory::Repeat(_) => 3,
        _ => 0,
    };
    let last = (!parts.vvvv & 15) << 3 | implied;
    // R, X and B, inverted, in the upper bits.
    let upper = !parts.rex << 5;
    if e.map == 1 && parts.rex & !REX_R == 0 {
        bytes.extend([0xc5, upper & 0x80 | last]);
    } else {
        bytes.extend([0xc4, upper | e.map, (parts.rex & REX_W) << 4 | last]);
    }
}

/// The distance to a target of 16 bits, which wraps as they do.
fn cut_distance(operand: usize, target: i64, distance: i64) -> Result<i64, EncodeError> {
    if (0..1 << 16).contains(&target) {
        return Ok(i64::from(distance as i16));
    }
    Err(EncodeError::OutOfRange {
        operand,
        value: i128::from(target),
        range: 0..=0xffff,
        rule: Some("the prefix cuts the target to 16 bits"),
    })
}

fn assemble_bytes(
    arch: Arch,
    row: &Row,
    number: u16,
    parts: Parts,
    address: u64,
) -> Result<Encoded, EncodeError> {
    let e = &row.encoding;
    let needs_rex = parts.rex != 0 || parts.rex_for.is_some();
    if let (Some(high), true) = (parts.high_byte, needs_rex) {
        return Err(EncodeError::HighByteWithRex {
            high: high.name(),
            other: match parts.rex_for {
                Some(reg) => format!("`{}`", reg.name()),
                None => "a 64-bit operand".to_string(),
            },
        });
    }
    let mut out = Encoded { form: number, ..Encoded::default() };
    let bytes = &mut out.bytes;
    bytes.extend(parts.segment.map(Segment::prefix));
    if e.address_size || parts.address_size {
        bytes.push(0x67);
    }
    if e.no_track {
        bytes.push(0x3e);
    }
    if e.vex {
        vex_prefix(e, &parts, bytes);
    } else {
        if e.operand16 || e.mandatory == Mandatory::OperandSize {
            bytes.push(0x66);
        }
        if let Mandatory::Repeat(repeat) = e.mandatory {
            bytes.push(repeat);
        }
        if e.lock {
            bytes.push(0xf0);
        }
        if needs_rex {
            bytes.push(0x40 | parts.rex);
        }
        bytes.extend(MAP_BYTES[usize::from(e.map)].iter().copied());
    }
    bytes.push(e.opcode + parts.opcode_reg);
    bytes.extend(e.suffix);
    if e.modrm != ModRm::None {
        bytes.push(parts.modrm);
        bytes.extend(parts.sib);
    }
    let disp_offset = bytes.len();
    bytes.extend(parts.disp);
    let imm_offset = bytes.len();
    bytes.extend(parts.imm);
    bytes.extend(parts.selector.into_iter().flat_map(u16::to_le_bytes));
    if let Some((operand, target, size)) = parts.relative {
        let end = bytes.len() + size;
        let field = if size == 1 { Field::Rel8 } else { Field::Rel32 };
        let distance = match target {
            // No relocation says so, and none would be of use.
            Value::Unresolved if row.has_16bit_target => {
                let reason = "a target of 16 bits lies below 64 KiB, where the kernel lets no program have code";
                return Err(EncodeError::BadAddress { operand, reason });
            }
            Value::Unresolved => {
                out.fixups.push(Fixup {
                    offset: bytes.len() as u8,
                    field,
                    operand: operand as u8,
                    addend: -(size as i8),
                });
                0
            }
            known => {
                let target = known.or_zero();
                let distance = target.wrapping_sub(address.wrapping_add(end as u64) as i64);
                if row.has_16bit_target {
                    cut_distance(operand, target, distance)?
                // Addresses of 32-bit mode wrap.
                } else if arch == Arch::X86_32 {
                    i64::from(distance as i32)
                } else {
                    distance
                }
            }
        };
        let limit = 1i64 << (8 * size - 1);
        if !(-limit..limit).contains(&distance) {
            return Err(EncodeError::OutOfRange {
                operand,
                value: i128::from(distance),
                range: i128::from(-limit)..=i128::from(limit - 1),
                rule: Some("the distance from the end of the instruction, in bytes"),
            });
        }
        bytes.extend(distance.to_le_bytes()[..size].iter().copied());
    }
    let length = bytes.len() as i64;
    let fixups = [(parts.disp_fixup, disp_offset), (parts.imm_fixup, imm_offset)];
    for (fixup, offset) in fixups {
        if let Some((operand, field)) = fixup {
            let addend = if field == Field::Rel32 { (offset as i64 - length) as i8 } else { 0 };
            out.fixups.push(Fixup { offset: offset as u8, field, operand, addend });
        }
    }
    Ok(out)
}
