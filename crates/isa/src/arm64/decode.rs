//! Words to operands.

use super::field;
use super::names::Named;
use super::pattern::{AfterBytes, LaneIndex, LaneSource, NamedKind};
use super::row::{Index, Row, index, rows};
use super::{Offset, Pattern, RegField, bitmask, names};
use crate::{
    Arch, Arrangement, DecodeError, Extend, IndexMode, Instruction, ListElements, Mem, Operand,
    Operands, Reg, RegKind, RegisterList, Shift, Value, Width,
};

/// Decodes the word at the start of `bytes`, which stands at `address`.
///
/// # Errors
///
/// See [`crate::decode`].
pub fn decode(bytes: &[u8], address: u64) -> Result<Instruction, DecodeError> {
    let mut instruction = Instruction::none(Arch::Arm64, address);
    decode_into(index(), bytes, &mut instruction)?;
    Ok(instruction)
}

/// The same, into an instruction that says where the bytes stand.
#[inline]
pub(crate) fn decode_into(
    index: &Index,
    bytes: &[u8],
    instruction: &mut Instruction,
) -> Result<(), DecodeError> {
    let bytes = bytes.first_chunk().ok_or(DecodeError::CutOff)?;
    let bits = u32::from_le_bytes(*bytes);
    for &number in index.candidates(bits) {
        let row = &rows()[usize::from(number)];
        if bits & row.mask == row.value
            && operands(row, bits, instruction.address, &mut instruction.operands)
        {
            (instruction.form, instruction.length) = (number, 4);
            return Ok(());
        }
    }
    Err(DecodeError::Invalid)
}

/// The operands of this word in the row with this number; `None` if it does not stand for that row.
///
/// # Panics
///
/// If there is no such row.
pub fn decode_form(number: u16, bits: u32, address: u64) -> Option<Operands> {
    let row = &rows()[usize::from(number)];
    let mut list = Operands::new();
    (bits & row.mask == row.value && operands(row, bits, address, &mut list)).then_some(list)
}

/// A word with the literal bits of the row with this number, and these others.
///
/// # Panics
///
/// If there is no such row.
pub fn fill_row(number: u16, others: u32) -> u32 {
    let row = &rows()[usize::from(number)];
    row.value | others & !row.mask
}

#[inline]
fn operands(row: &Row, bits: u32, address: u64, list: &mut Operands) -> bool {
    let word = Word { row, bits, address };
    list.clear();
    for slot in row.form.operands {
        let Some(operand) = word.operand(slot.pattern) else { return false };
        list.push(operand);
    }
    true
}

#[derive(Copy, Clone)]
struct Word<'a> {
    row: &'a Row,
    bits: u32,
    address: u64,
}

fn imm(value: u64) -> Operand {
    Operand::Imm(Value::Known(value as i64))
}

impl Word<'_> {
    fn get(self, field: field::BitField) -> u32 {
        field.get(self.bits)
    }

    fn number(self, field: RegField) -> u8 {
        self.get(field.field()) as u8
    }

    fn reg(self, width: Width, field: RegField) -> Reg {
        let kind = if width == Width::W64 { RegKind::X } else { RegKind::W };
        Reg::new(kind, self.number(field))
    }

    fn reg_sp(self, width: Width, field: RegField) -> Reg {
        match self.number(field) {
            31 => stack_pointer(width),
            _ => self.reg(width, field),
        }
    }

    /// The operand, or `None` if the word does not stand for this row after all.
    #[inline]
    fn operand(self, pattern: Pattern) -> Option<Operand> {
        Some(match pattern {
            Pattern::R(width, field) => Operand::Reg(self.reg(width, field)),
            Pattern::RSp(width, field) => Operand::Reg(self.reg_sp(width, field)),
            Pattern::Sp(width) => Operand::Reg(stack_pointer(width)),
            Pattern::RTwice(width) => {
                let reg = self.reg(width, RegField::Rn);
                if self.number(RegField::Rm) != reg.number {
                    return None;
                }
                Operand::Reg(reg)
            }
            Pattern::REven(width, field) => {
                let reg = self.reg(width, field);
                if !reg.number.is_multiple_of(2) {
                    return None;
                }
                Operand::Reg(reg)
            }
            Pattern::RNext(width, field) => {
                let reg = self.reg(width, field);
                Operand::Reg(Reg::new(reg.kind, reg.number | 1))
            }
            Pattern::AddSubImm => {
                let value = Value::Known(i64::from(self.get(field::IMM12)));
                match self.get(field::SHIFT12) {
                    0 => Operand::Imm(value),
                    _ => Operand::ShiftedImm(value, 12),
                }
            }
            Pattern::ShiftedReg(width, ror) => {
                let reg = self.reg(width, RegField::Rm);
                let shift = Shift::ALL[self.get(field::SHIFT) as usize];
                let amount = self.get(field::IMM6) as u8;
                match (shift, amount) {
                    (Shift::Ror, _) if !ror => return None,
                    (Shift::Lsl, 0) => Operand::Reg(reg),
                    _ => Operand::Shifted(reg, shift, amount),
                }
            }
            Pattern::ExtendedReg(width) => self.extended(width)?,
            Pattern::Unsigned(field) => imm(u64::from(self.get(field))),
            Pattern::Cond => Operand::Cond(self.get(field::COND) as u8),
            Pattern::InvertedCond => {
                let cond = self.get(field::COND) as u8;
                if cond >= 14 {
                    return None;
                }
                Operand::Cond(cond ^ 1)
            }
            Pattern::MemBase(access) => self.memory(Some(access), 0, IndexMode::Offset),
            Pattern::MemOffset(access, offset) => {
                self.memory(Some(access), self.offset(access, offset), IndexMode::Offset)
            }
            Pattern::MemPre(access, offset) => {
                self.memory(Some(access), self.offset(access, offset), IndexMode::Pre)
            }
            Pattern::MemPost(access, offset) => {
                self.memory(Some(access), self.offset(access, offset), IndexMode::Post)
            }
            Pattern::Label26 => self.target(field::IMM26.get_signed(self.bits) * 4),
            Pattern::Label19 => self.target(field::IMM19.get_signed(self.bits) * 4),
            Pattern::Label14 => self.target(field::IMM14.get_signed(self.bits) * 4),
            Pattern::Bit(base) => imm(u64::from(self.get(field::BIT40) + u32::from(base))),
            Pattern::F(width, field) => Operand::Reg(Reg::a64_scalar(width, self.number(field))),
            Pattern::V(field, elements) => self.vector(field, elements.of(self.bits)?, elements),
            _ => return self.rarer_operand(pattern),
        })
    }

    /// The same for what few instructions have.
    fn rarer_operand(self, pattern: Pattern) -> Option<Operand> {
        Some(match pattern {
            Pattern::Bitmask(width) => imm(self.bitmask(width)?),
            Pattern::MovBitmask(width) => {
                let value = self.bitmask(width)?;
                if mov_wide_makes(value, width) {
                    return None;
                }
                imm(value)
            }
            Pattern::MoveWide(_) => {
                let value = Value::Known(i64::from(self.get(field::IMM16)));
                match self.get(field::HALF) {
                    0 => Operand::Imm(value),
                    half => Operand::ShiftedImm(value, (half * 16) as u8),
                }
            }
            Pattern::MovImm(_) => {
                let (part, half) = (self.get(field::IMM16), self.get(field::HALF));
                if part == 0 && half != 0 {
                    return None;
                }
                imm(u64::from(part) << (16 * half))
            }
            Pattern::MovInverted(width) => {
                let (part, half) = (self.get(field::IMM16), self.get(field::HALF));
                // The architecture keeps MOVN for what MOVZ can make.
                if part == 0 && half != 0 || width == Width::W32 && part == 0xffff {
                    return None;
                }
                let value = !(u64::from(part) << (16 * half));
                Operand::Imm(Value::Known(width.sign_extend(value)))
            }
            Pattern::LeftShift(width) => {
                let amount = width.bits() - 1 - self.get(field::IMMS);
                if self.get(field::IMMR) != (width.bits() - amount) % width.bits() {
                    return None;
                }
                imm(u64::from(amount))
            }
            Pattern::InsertLsb(width) => {
                let bits = width.bits();
                imm(u64::from((bits - self.get(field::IMMR)) % bits))
            }
            Pattern::InsertWidth(_) => {
                let (immr, imms) = (self.get(field::IMMR), self.get(field::IMMS));
                if imms >= immr {
                    return None;
                }
                imm(u64::from(imms + 1))
            }
            Pattern::ExtractWidth(_) => {
                let (immr, imms) = (self.get(field::IMMR), self.get(field::IMMS));
                imm(u64::from(imms.checked_sub(immr)? + 1))
            }
            Pattern::MemReg(access) => {
                let extend = Extend::ALL[self.get(field::OPTION) as usize];
                let width = match extend {
                    Extend::Uxtx | Extend::Sxtx => Width::W64,
                    Extend::Uxtw | Extend::Sxtw => Width::W32,
                    _ => return None,
                };
                // The amount of a byte is 0 either way, and written where S is set.
                let scaled = self.get(field::SCALED) == 1;
                Operand::Mem(Mem {
                    base: Some(self.reg_sp(Width::W64, RegField::Rn)),
                    index: Some(self.reg(width, RegField::Rm)),
                    scale: if scaled { access.bytes() as u8 } else { 1 },
                    shows_shift: scaled && access == Width::W8,
                    extend: (extend != Extend::Uxtx).then_some(extend),
                    width: Some(access),
                    ..Mem::absolute(0)
                })
            }
            Pattern::MemStructures => self.memory(None, 0, IndexMode::Offset),
            Pattern::MemAfter(bytes) => {
                let bytes = after_bytes(bytes, self.bits)?;
                self.memory(None, i64::from(bytes), IndexMode::Post)
            }
            Pattern::MemAfterReg => {
                let index = self.reg(Width::W64, RegField::Rm);
                if index.number == 31 {
                    return None;
                }
                let base = self.reg_sp(Width::W64, RegField::Rn);
                let (index, mode) = (Some(index), IndexMode::Post);
                Operand::Mem(Mem { index, mode, ..Mem::base_disp(base, 0) })
            }
            Pattern::AdrLabel => self.target(self.adr_distance()),
            Pattern::AdrpLabel => {
                let page = self.address as i64 & !0xfff;
                let distance = self.adr_distance() << 12;
                Operand::Target(Value::Known(page.wrapping_add(distance)))
            }
            Pattern::Named(kind) => Operand::Named(named(kind, self.bits)?),
            Pattern::VTwice(elements) => {
                if self.number(RegField::Rm) != self.number(RegField::Rn) {
                    return None;
                }
                self.vector(RegField::Rn, elements.of(self.bits)?, elements)
            }
            Pattern::Lane(field, index) => self.lane(field, index)?,
            Pattern::List(field, count, elements) => Operand::List(RegisterList {
                first: self.number(field),
                count,
                elements: ListElements::All(elements.of(self.bits)?),
            }),
            Pattern::ListLane(count, width) => {
                let index = self.get(field::Q) << 3
                    | self.get(field::LIST_S) << 2
                    | self.get(field::LIST_SIZE);
                let elements = ListElements::One(width, (index >> (width as u32)) as u8);
                Operand::List(RegisterList { first: self.number(RegField::Rt), count, elements })
            }
            Pattern::FloatImm => {
                let imm8 = self.get(field::FLOAT8) as u8;
                Operand::Float(names::float_of_imm8(imm8).to_bits())
            }
            Pattern::FloatVectorImm => Operand::Float(names::float_of_imm8(self.byte()).to_bits()),
            Pattern::FloatZero => Operand::Float(0),
            Pattern::Zero => imm(0),
            Pattern::Byte => imm(u64::from(self.byte())),
            Pattern::ShiftedByte(width) => {
                let shift = self.get(field::CMODE) >> 1 & if width == Width::W16 { 1 } else { 3 };
                let value = Value::Known(i64::from(self.byte()));
                match shift {
                    0 => Operand::Imm(value),
                    _ => Operand::ShiftedImm(value, 8 * shift as u8),
                }
            }
            Pattern::OnesShiftedByte => {
                let shift = 8 << (self.get(field::CMODE) & 1);
                Operand::ShiftedOnes(Value::Known(i64::from(self.byte())), shift)
            }
            Pattern::ByteMask => {
                let byte = self.byte();
                let ones = |n: u32| (u64::from(byte >> n & 1) * 0xff) << (8 * n);
                imm((0..8).map(ones).fold(0, |mask, byte| mask | byte))
            }
            Pattern::VectorRightShift => {
                let (amount, width) = self.vector_shift()?;
                imm(u64::from(2 * width.bits() - amount))
            }
            Pattern::VectorLeftShift => {
                let (amount, width) = self.vector_shift()?;
                imm(u64::from(amount - width.bits()))
            }
            Pattern::LaneBits => imm(8 << self.get(field::SIZE)),
            Pattern::FractionBits(width) => {
                let bits = 64 - self.get(field::SCALE);
                if bits > width.bits() {
                    return None;
                }
                imm(u64::from(bits))
            }
            // `operand` has them.
            _ => return None,
        })
    }

    fn bitmask(self, width: Width) -> Option<u64> {
        let (n, immr, imms) = (self.get(field::N), self.get(field::IMMR), self.get(field::IMMS));
        bitmask::decode(n, immr, imms, width)
    }

    fn adr_distance(self) -> i64 {
        field::IMM_HIGH.get_signed(self.bits) << 2 | i64::from(self.get(field::IMM_LOW))
    }

    fn byte(self) -> u8 {
        (self.get(field::ABC) << 5 | self.get(field::DEFGH)) as u8
    }

    fn target(self, distance: i64) -> Operand {
        Operand::Target(Value::Known((self.address as i64).wrapping_add(distance)))
    }

    /// `immh:immb`, and the width of the narrower elements.
    fn vector_shift(self) -> Option<(u32, Width)> {
        let immh = self.get(field::IMMH);
        let width = *Width::ALL.get(immh.checked_ilog2()? as usize)?;
        Some((immh << 3 | self.get(field::IMMB), width))
    }

    fn vector(
        self,
        field: RegField,
        arrangement: Arrangement,
        elements: super::pattern::Elements,
    ) -> Operand {
        match elements.count {
            super::pattern::Count::One => {
                Operand::Reg(Reg::a64_scalar(arrangement.lane, self.number(field)))
            }
            _ => Operand::Vector(Reg::new(RegKind::V, self.number(field)), arrangement),
        }
    }

    fn lane(self, field: RegField, index: LaneIndex) -> Option<Operand> {
        let imm5 = self.get(field::LANE);
        let imm5_width = || Width::ALL.get(imm5.trailing_zeros() as usize).copied();
        let mut number = self.number(field);
        let (h, l, m) = (self.get(field::H), self.get(field::L), self.get(field::M));
        let single = |lane: Width| Arrangement { lane, lanes: 1 };
        let (arrangement, at) = match index {
            LaneIndex::Imm5(widths) => {
                let width = imm5_width()?;
                if widths >> width as u32 & 1 == 0 || width == Width::W128 {
                    return None;
                }
                (single(width), imm5 >> (width as u32 + 1))
            }
            LaneIndex::Imm4 => {
                let width = imm5_width().filter(|width| *width != Width::W128)?;
                // The lowest bits of imm4 mean nothing.
                let from = self.get(field::LANE_FROM);
                (single(width), from >> width as u32)
            }
            LaneIndex::Hlm(source) => {
                let width = match source {
                    LaneSource::Fixed(width) => width,
                    LaneSource::Sz if self.get(field::SZ) == 1 => Width::W64,
                    LaneSource::Sz => Width::W32,
                    _ => *Width::ALL.get(self.get(field::SIZE) as usize)?,
                };
                let at = match width {
                    Width::W16 => {
                        number &= 15;
                        h << 2 | l << 1 | m
                    }
                    Width::W32 => h << 1 | l,
                    Width::W64 if l == 0 => h,
                    _ => return None,
                };
                (single(width), at)
            }
            LaneIndex::Bytes4 => (Arrangement { lane: Width::W8, lanes: 4 }, h << 1 | l),
            LaneIndex::Is(width, at) => (single(width), u32::from(at)),
        };
        Some(Operand::Element(Reg::new(RegKind::V, number), arrangement, at as u8))
    }

    fn extended(self, width: Width) -> Option<Operand> {
        let extend = Extend::ALL[self.get(field::OPTION) as usize];
        let amount = self.get(field::IMM3) as u8;
        if amount > 4 {
            return None;
        }
        let natural = if width == Width::W64 { Extend::Uxtx } else { Extend::Uxtw };
        let takes_x = width == Width::W64 && matches!(extend, Extend::Uxtx | Extend::Sxtx);
        let reg = self.reg(if takes_x { Width::W64 } else { Width::W32 }, RegField::Rm);
        // Beside the stack pointer the natural extension is written as a plain register or LSL.
        let beside_sp = self.number(RegField::Rn) == 31 || self.number(RegField::Rd) == 31;
        Some(match amount {
            0 if extend == natural && beside_sp && self.shows_sp() => Operand::Reg(reg),
            _ if extend == natural && beside_sp && self.shows_sp() => {
                Operand::Shifted(reg, Shift::Lsl, amount)
            }
            _ => Operand::Extended(reg, extend, amount),
        })
    }

    /// Whether an operand of this word is printed as the stack pointer, so that text with a plain
    /// register cannot be read as the shifted-register form.
    fn shows_sp(self) -> bool {
        self.row.form.operands.iter().any(|slot| match slot.pattern {
            Pattern::RSp(_, field) => self.number(field) == 31,
            _ => false,
        })
    }

    fn offset(self, access: Width, offset: Offset) -> i64 {
        let unit = access.bytes() as i64;
        match offset {
            Offset::Scaled12 => i64::from(self.get(field::IMM12)) * unit,
            Offset::Signed9 => field::IMM9.get_signed(self.bits),
            Offset::Scaled7 => field::IMM7.get_signed(self.bits) * unit,
        }
    }

    fn memory(self, width: Option<Width>, disp: i64, mode: IndexMode) -> Operand {
        let base = self.reg_sp(Width::W64, RegField::Rn);
        Operand::Mem(Mem { width, mode, ..Mem::base_disp(base, disp) })
    }
}

/// Bytes that an access to structures transfers.
pub(super) fn after_bytes(bytes: AfterBytes, word: u32) -> Option<u32> {
    Some(match bytes {
        AfterBytes::Registers(count) => u32::from(count) * (8 << field::Q.get(word)),
        AfterBytes::Elements(count) => u32::from(count) << field::LIST_SIZE.get(word),
        AfterBytes::Fixed(bytes) => u32::from(bytes),
    })
}

/// The fields that hold a named operand's number, the highest bits first.
pub(super) const fn named_fields(kind: NamedKind) -> &'static [field::BitField] {
    match kind {
        NamedKind::System => &[field::SYSTEM],
        NamedKind::Barrier => &[field::CRM],
        NamedKind::Prefetch => &[field::PREFETCH],
        NamedKind::DataCache | NamedKind::InstructionCache => &[field::OP1, field::CRM, field::OP2],
        NamedKind::BranchTarget => &[field::OP2],
    }
}

fn named(kind: NamedKind, word: u32) -> Option<Named> {
    let join = |number: u32, field: &field::BitField| number << field.width | field.get(word);
    let number = named_fields(kind).iter().fold(0, join) as u16;
    let named = match kind {
        NamedKind::System => Named::System(number),
        NamedKind::Barrier => Named::Barrier(number as u8),
        NamedKind::Prefetch => Named::Prefetch(number as u8),
        NamedKind::DataCache => Named::DataCache(number),
        NamedKind::InstructionCache => Named::InstructionCache(number),
        NamedKind::BranchTarget => Named::BranchTarget(number as u8),
    };
    // Other operations are written as `sys` and `hint`.
    let needs_name = !matches!(kind, NamedKind::System | NamedKind::Barrier | NamedKind::Prefetch);
    (!needs_name || named.has_name()).then_some(named)
}

const fn stack_pointer(width: Width) -> Reg {
    match width {
        Width::W64 => Reg::new(RegKind::Sp, 31),
        _ => Reg::new(RegKind::Wsp, 31),
    }
}

/// Whether MOVZ or MOVN can make the value; then MOV stands for them and not for ORR.
fn mov_wide_makes(value: u64, width: Width) -> bool {
    let one_part = |value: u64| (0..4).any(|hw| value & (0xffff << (16 * hw)) == value);
    one_part(value) || one_part(!value & width.mask())
}
