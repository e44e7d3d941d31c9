//! Operands of the vector bank, and named ones, to fields.

use super::decode::named_fields;
use super::encode::{Mismatch, Position, Word, known};
use super::field;
use super::names;
use super::pattern::{Count, Elements, LaneIndex, LaneSource, NamedKind};
use super::{Pattern, RegField};
use crate::{Arrangement, ListElements, Named, Operand, Reg, RegKind, RegisterList, Width};

impl Word {
    /// A scalar register of the vector bank.
    pub(super) fn put_scalar(&mut self, pattern: Pattern, reg: Reg) -> Result<(), Mismatch> {
        if reg.id().is_none() || reg.kind == RegKind::V {
            return Err(None);
        }
        match pattern {
            Pattern::F(width, field) if reg.width() == width => self.register(field, reg.number),
            Pattern::V(field, elements) if elements.count == Count::One => {
                self.put_elements(elements, Arrangement { lane: reg.width(), lanes: 1 })?;
                self.register(field, reg.number)
            }
            _ => Err(None),
        }
    }

    pub(super) fn put_vector_operand(
        &mut self,
        pattern: Pattern,
        operand: &Operand,
    ) -> Result<(), Mismatch> {
        match (pattern, *operand) {
            (Pattern::V(field, elements), Operand::Vector(reg, arrangement))
                if elements.count != Count::One =>
            {
                self.put_elements(elements, arrangement)?;
                self.register(field, reg.number)
            }
            (Pattern::VTwice(elements), Operand::Vector(reg, arrangement)) => {
                self.put_elements(elements, arrangement)?;
                self.register(RegField::Rn, reg.number)?;
                self.register(RegField::Rm, reg.number)
            }
            (Pattern::Lane(field, index), Operand::Element(reg, arrangement, at)) => {
                self.put_lane(field, index, reg.number, arrangement, at)
            }
            (Pattern::List(field, count, elements), Operand::List(list)) => {
                let RegisterList { first, count: given, elements: ListElements::All(all) } = list
                else {
                    return Err(None);
                };
                if given != count {
                    return Err(None);
                }
                self.put_elements(elements, all)?;
                self.register(field, first)
            }
            (Pattern::ListLane(count, width), Operand::List(list)) => {
                let RegisterList { first, count: given, elements: ListElements::One(lane, at) } =
                    list
                else {
                    return Err(None);
                };
                if given != count || lane != width || u32::from(at) >= 128 / width.bits() {
                    return Err(None);
                }
                let index = u32::from(at) << width as u32;
                self.put(field::Q, index >> 3)?;
                self.put(field::LIST_S, index >> 2 & 1)?;
                // What the index leaves of `size` tells the width, by the row.
                let used = 3 & !((1 << (width as u32).min(2)) - 1);
                self.put_bits(used << field::LIST_SIZE.at, (index & used) << field::LIST_SIZE.at)?;
                self.register(RegField::Rt, first)
            }
            (Pattern::Named(kind), Operand::Named(named)) => self.put_named(kind, named),
            _ => Err(None),
        }
    }

    /// Puts how a vector is cut into elements.
    fn put_elements(&mut self, elements: Elements, given: Arrangement) -> Result<(), Mismatch> {
        let number = (given.lane as u32).checked_sub(u32::from(elements.wide)).ok_or(None)?;
        if elements.widths >> number & 1 == 0 {
            return Err(None);
        }
        match (elements.count, given.bits()) {
            (Count::One, _) if given.lanes == 1 => {}
            (Count::Two, _) if given.lanes == 2 => {}
            (Count::Half, 64) | (Count::Whole, 128) => {}
            (Count::Q, _) if given.lanes == 1 => return Err(None),
            (Count::Q | Count::QOrOne, bits @ (64 | 128)) => {
                self.put(field::Q, u32::from(bits == 128))?;
            }
            _ => return Err(None),
        }
        match elements.source {
            LaneSource::Fixed(width) if width as u32 == number => Ok(()),
            LaneSource::Fixed(_) => Err(None),
            LaneSource::Size => self.put(field::SIZE, number),
            LaneSource::Sz => self.put(field::SZ, number.checked_sub(2).ok_or(None)?),
            LaneSource::ListSize => self.put(field::LIST_SIZE, number),
            // Only the highest bit is told; those below it are part of the amount.
            LaneSource::Immh => {
                let known = 15 & !((1 << number) - 1);
                self.put_bits(known << field::IMMH.at, 1 << number << field::IMMH.at)
            }
            LaneSource::ImmhAlone => self.put(field::IMMH, 1 << number),
            // Only the lowest bit is told; those above it are the number of an element.
            LaneSource::Imm5 => {
                let known = (2 << number) - 1;
                self.put_bits(known << field::LANE.at, 1 << number << field::LANE.at)
            }
        }
    }

    fn put_lane(
        &mut self,
        field: RegField,
        index: LaneIndex,
        number: u8,
        given: Arrangement,
        at: u8,
    ) -> Result<(), Mismatch> {
        let at = u32::from(at);
        let lane = given.lane;
        let is_group = given.lanes != 1;
        let in_vector = at < 128 / given.bits();
        match index {
            _ if !in_vector || is_group != (index == LaneIndex::Bytes4) => return Err(None),
            LaneIndex::Imm5(widths) => {
                if widths >> lane as u32 & 1 == 0 {
                    return Err(None);
                }
                self.put(field::LANE, (at << 1 | 1) << lane as u32)?;
            }
            LaneIndex::Imm4 => {
                // Both elements are of the width that `imm5` says.
                let step = lane as u32;
                let known = (2 << step) - 1;
                self.put_bits(known << field::LANE.at, 1 << (step + u32::from(field::LANE.at)))?;
                self.put(field::LANE_FROM, at << step)?;
            }
            LaneIndex::Hlm(source) => {
                match source {
                    LaneSource::Fixed(width) if width == lane => {}
                    LaneSource::Fixed(_) => return Err(None),
                    LaneSource::Sz => {
                        self.put(field::SZ, (lane as u32).checked_sub(2).ok_or(None)?)?;
                    }
                    _ => self.put(field::SIZE, lane as u32)?,
                }
                let (h, l, m) = match lane {
                    Width::W16 => (at >> 2, at >> 1 & 1, at & 1),
                    Width::W32 => (at >> 1, at & 1, u32::from(number) >> 4),
                    Width::W64 => (at, 0, u32::from(number) >> 4),
                    Width::W8 | Width::W128 => return Err(None),
                };
                // With 16-bit elements `M` is part of the number, and the register one of the first sixteen.
                if lane == Width::W16 && number > 15 {
                    return Err(None);
                }
                self.put(field::H, h)?;
                self.put(field::L, l)?;
                self.put(field::M, m)?;
                return self.put(field::RM_LOW, u32::from(number) & 15);
            }
            LaneIndex::Bytes4 => {
                if lane != Width::W8 {
                    return Err(None);
                }
                self.put(field::H, at >> 1)?;
                self.put(field::L, at & 1)?;
            }
            LaneIndex::Is(width, wanted) => {
                if lane != width || at != u32::from(wanted) {
                    return Err(None);
                }
            }
        }
        self.register(field, number)
    }

    fn put_named(&mut self, kind: NamedKind, named: Named) -> Result<(), Mismatch> {
        let fits = matches!(
            (kind, named),
            (NamedKind::System, Named::System(_))
                | (NamedKind::Barrier, Named::Barrier(_))
                | (NamedKind::Prefetch, Named::Prefetch(_))
                | (NamedKind::DataCache, Named::DataCache(_))
                | (NamedKind::InstructionCache, Named::InstructionCache(_))
                | (NamedKind::BranchTarget, Named::BranchTarget(_))
        );
        if !fits {
            return Err(None);
        }
        let mut number = u32::from(named.number());
        for field in named_fields(kind).iter().rev() {
            self.put(*field, number & ((1 << field.width) - 1))?;
            number >>= field.width;
        }
        Ok(())
    }

    fn put_byte(&mut self, byte: u32) -> Result<(), Mismatch> {
        self.put(field::ABC, byte >> 5)?;
        self.put(field::DEFGH, byte & 31)
    }

    /// An immediate of a vector or of floating point; `None` if the pattern is of neither.
    pub(super) fn put_vector_immediate(
        &mut self,
        pattern: Pattern,
        operand: &Operand,
        at: &Position,
    ) -> Option<Result<(), Mismatch>> {
        const FLOAT_RULE: &str = "a floating-point immediate is n/16 * 2^r with n from 16 to 31 and r from -3 to 4, positive or negative; load others from memory";
        Some(match pattern {
            Pattern::FloatImm | Pattern::FloatVectorImm => {
                let value = match *operand {
                    Operand::Float(bits) => f64::from_bits(bits),
                    Operand::Imm(value) => match value.known() {
                        Some(value) => value as f64,
                        None => return Some(Err(None)),
                    },
                    _ => return Some(Err(None)),
                };
                match names::imm8_of_float(value) {
                    Some(imm8) if pattern == Pattern::FloatImm => {
                        self.put(field::FLOAT8, u32::from(imm8))
                    }
                    Some(imm8) => self.put_byte(u32::from(imm8)),
                    None => Err(Some(crate::EncodeError::NotAFloatImmediate {
                        operand: at.index,
                        value: format!("{value}"),
                        rule: FLOAT_RULE,
                    })),
                }
            }
            Pattern::FloatZero => match *operand {
                Operand::Float(0) => Ok(()),
                Operand::Imm(value) if value.known() == Some(0) => Ok(()),
                _ => Err(None),
            },
            _ => {
                let Operand::Imm(value) = *operand else {
                    return self.put_shifted_byte(pattern, operand, at);
                };
                match pattern {
                    Pattern::Zero => match value.known() {
                        Some(0) => Ok(()),
                        _ => Err(None),
                    },
                    // A byte may be written as a signed number too.
                    Pattern::Byte => {
                        at.number(value, -128..=255).and_then(|byte| self.put_byte(byte & 0xff))
                    }
                    Pattern::ByteMask => known(value).and_then(|value| self.put_byte_mask(value)),
                    Pattern::VectorRightShift | Pattern::VectorLeftShift => {
                        self.put_vector_shift(pattern == Pattern::VectorRightShift, value, at)
                    }
                    Pattern::LaneBits => {
                        let bits = 8 << field::SIZE.get(self.bits);
                        at.number(value, bits..=bits).map(|_| ())
                    }
                    Pattern::FractionBits(width) => at
                        .number(value, 1..=i64::from(width.bits()))
                        .and_then(|bits| self.put(field::SCALE, 64 - bits)),
                    Pattern::ShiftedByte(_) => return self.put_shifted_byte(pattern, operand, at),
                    _ => return None,
                }
            }
        })
    }

    fn put_shifted_byte(
        &mut self,
        pattern: Pattern,
        operand: &Operand,
        at: &Position,
    ) -> Option<Result<(), Mismatch>> {
        let (byte, cmode, mask) = match (pattern, *operand) {
            (Pattern::ShiftedByte(width), Operand::Imm(value)) => {
                // The fields that hold the shift are decided too: it is none.
                (value, 0, if width == Width::W16 { 2 } else { 6 })
            }
            (Pattern::ShiftedByte(width), Operand::ShiftedImm(value, shift)) => {
                let steps = if width == Width::W16 { 1 } else { 3 };
                if shift % 8 != 0 || u32::from(shift / 8) > steps {
                    let range = 0..=i64::from(8 * steps);
                    let rule = "the shift is a multiple of 8";
                    return Some(Err(at.out_of_range(i64::from(shift), range, rule)));
                }
                (value, u32::from(shift / 8) << 1, steps << 1)
            }
            (Pattern::OnesShiftedByte, Operand::ShiftedOnes(value, shift @ (8 | 16))) => {
                (value, u32::from(shift == 16), 1)
            }
            (Pattern::ShiftedByte(_) | Pattern::OnesShiftedByte, _) => return Some(Err(None)),
            _ => return None,
        };
        let done = at.number(byte, 0..=255).and_then(|byte| {
            self.put_byte(byte)?;
            self.put_bits(mask << field::CMODE.at, cmode << field::CMODE.at)
        });
        Some(done)
    }

    fn put_byte_mask(&mut self, value: i64) -> Result<(), Mismatch> {
        let mut byte = 0;
        for (number, part) in value.to_le_bytes().into_iter().enumerate() {
            match part {
                0 => {}
                0xff => byte |= 1 << number,
                _ => return Err(None),
            }
        }
        self.put_byte(byte)
    }

    /// The amount of a shift of elements, whose width a vector operand before it has told.
    fn put_vector_shift(
        &mut self,
        right: bool,
        value: crate::Value,
        at: &Position,
    ) -> Result<(), Mismatch> {
        let told = field::IMMH.get(self.bits);
        let bits = 8u32 << told.checked_ilog2().ok_or(None)?;
        let amount = match right {
            true => 2 * bits - at.number(value, 1..=i64::from(bits))?,
            false => bits + at.number(value, 0..=i64::from(bits - 1))?,
        };
        self.put(field::IMMH, amount >> 3)?;
        self.put(field::IMMB, amount & 7)
    }
}
