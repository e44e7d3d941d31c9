//! Addresses and targets to fields.

use super::decode::after_bytes;
use super::encode::{Mismatch, Position, Word, is_base_like, known};
use super::field::{self, BitField};
use super::{Offset, Pattern, RegField};
use crate::{Extend, Field, IndexMode, Mem, RegKind, Value, Width};

impl Word {
    pub(super) fn put_memory(
        &mut self,
        pattern: Pattern,
        mem: &Mem,
        at: &Position,
    ) -> Result<(), Mismatch> {
        let mode = match pattern {
            Pattern::MemPre(..) => IndexMode::Pre,
            Pattern::MemPost(..) | Pattern::MemAfter(_) | Pattern::MemAfterReg => IndexMode::Post,
            _ => IndexMode::Offset,
        };
        if mem.mode != mode {
            return Err(None);
        }
        match pattern {
            Pattern::MemOffset(access, offset)
            | Pattern::MemPre(access, offset)
            | Pattern::MemPost(access, offset) => self.put_offset(access, offset, mem, at),
            Pattern::MemReg(access) => self.put_indexed(access, mem, at),
            Pattern::MemBase(_) | Pattern::MemStructures => {
                self.put_base(mem)?;
                match known(mem.disp)? {
                    0 if mem.index.is_none() => Ok(()),
                    disp if mem.index.is_none() => {
                        Err(at.out_of_range(disp, 0..=0, "the address is a register alone here"))
                    }
                    _ => Err(None),
                }
            }
            Pattern::MemAfter(bytes) => {
                self.put_base(mem)?;
                let (disp, bytes) = (known(mem.disp)?, after_bytes(bytes, self.bits).ok_or(None)?);
                match (mem.index, disp == i64::from(bytes)) {
                    (None, true) => Ok(()),
                    (None, false) => {
                        let (bytes, rule) = (i64::from(bytes), "the bytes that are transferred");
                        Err(at.out_of_range(disp, bytes..=bytes, rule))
                    }
                    _ => Err(None),
                }
            }
            Pattern::MemAfterReg => {
                self.put_base(mem)?;
                match mem.index {
                    Some(index) if index.kind == RegKind::X && index.number != 31 => {
                        self.register(RegField::Rm, index.number)
                    }
                    _ => Err(None),
                }
            }
            _ => Err(None),
        }
    }

    fn put_base(&mut self, mem: &Mem) -> Result<(), Mismatch> {
        let base = mem.base.filter(|base| is_base_like(*base, Width::W64)).ok_or(None)?;
        self.register(RegField::Rn, base.number)
    }

    fn put_offset(
        &mut self,
        access: Width,
        offset: Offset,
        mem: &Mem,
        at: &Position,
    ) -> Result<(), Mismatch> {
        if mem.index.is_some() {
            return Err(None);
        }
        self.put_base(mem)?;
        if mem.disp == Value::Unresolved && matches!(offset, Offset::Scaled12) {
            self.fixup(Field::AccessLow12(access), at);
            return Ok(());
        }
        let disp = known(mem.disp)?;
        let unit = access.bytes() as i64;
        let (field, unit, range) = match offset {
            Offset::Scaled12 => (field::IMM12, unit, 0..=4095 * unit),
            Offset::Signed9 => (field::IMM9, 1, -256..=255),
            Offset::Scaled7 => (field::IMM7, unit, -64 * unit..=63 * unit),
        };
        if !range.contains(&disp) || disp % unit != 0 {
            let rule = if unit == 1 { "" } else { "and a multiple of the width of the access" };
            return Err(at.out_of_range(disp, range, rule));
        }
        self.put_signed(field, disp / unit)
    }

    fn put_indexed(&mut self, access: Width, mem: &Mem, at: &Position) -> Result<(), Mismatch> {
        let (Some(reg), Some(0)) = (mem.index, mem.disp.known()) else { return Err(None) };
        self.put_base(mem)?;
        let extend = match (reg.kind, mem.extend) {
            (RegKind::X, None) => Extend::Uxtx,
            (RegKind::X, Some(e @ (Extend::Uxtx | Extend::Sxtx))) => e,
            (RegKind::W, Some(e @ (Extend::Uxtw | Extend::Sxtw))) => e,
            _ => return Err(None),
        };
        let amount = mem.scale.trailing_zeros();
        if amount != 0 && u64::from(mem.scale) != access.bytes() {
            let range = 0..=i64::from(access.bytes().trailing_zeros());
            let rule = "the shift is 0, or what multiplies by the width of the access";
            return Err(at.out_of_range(i64::from(amount), range, rule));
        }
        let shifted = amount != 0 || (mem.shows_shift && access == Width::W8);
        self.register(RegField::Rm, reg.number)?;
        self.put(field::OPTION, extend as u32)?;
        self.put(field::SCALED, u32::from(shifted))
    }

    fn put_signed(&mut self, field: BitField, value: i64) -> Result<(), Mismatch> {
        self.put(field, value as u32 & (u32::MAX >> (32 - field.width)))
    }

    pub(super) fn put_target(
        &mut self,
        pattern: Pattern,
        target: Value,
        at: &Position,
    ) -> Result<(), Mismatch> {
        let (field, relocated) = match pattern {
            Pattern::Label26 => (field::IMM26, Field::Branch26),
            Pattern::Label19 => (field::IMM19, Field::Branch19),
            Pattern::Label14 => (field::IMM14, Field::Branch14),
            Pattern::AdrLabel => (field::IMM_HIGH, Field::Adr21),
            Pattern::AdrpLabel => (field::IMM_HIGH, Field::AdrPage21),
            _ => return Err(None),
        };
        let Some(target) = target.known() else {
            self.fixup(relocated, at);
            return Ok(());
        };
        let distance = target.wrapping_sub(at.address as i64);
        match pattern {
            Pattern::AdrLabel => self.put_adr(distance, "the distance in bytes", at),
            Pattern::AdrpLabel => {
                let pages = (target >> 12).wrapping_sub(at.address as i64 >> 12);
                self.put_adr(pages, "the distance in pages of 4 KiB", at)
            }
            _ => {
                let limit = 1i64 << (field.width + 1);
                if !(-limit..limit).contains(&distance) || distance % 4 != 0 {
                    let rule = "the distance in bytes, a multiple of 4";
                    return Err(at.out_of_range(distance, -limit..=limit - 4, rule));
                }
                self.put_signed(field, distance / 4)
            }
        }
    }

    fn put_adr(
        &mut self,
        distance: i64,
        rule: &'static str,
        at: &Position,
    ) -> Result<(), Mismatch> {
        if !(-(1 << 20)..1 << 20).contains(&distance) {
            return Err(at.out_of_range(distance, -(1 << 20)..=(1 << 20) - 1, rule));
        }
        self.put(field::IMM_LOW, distance as u32 & 3)?;
        self.put_signed(field::IMM_HIGH, distance >> 2)
    }
}
