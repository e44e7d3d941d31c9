//! Words to operands.

use super::{Offset, Pattern, RegField, Row, bitmask, table};
use crate::{
    Arch, DecodeError, Extend, IndexMode, Instruction, Mem, Operand, Operands, Reg, RegKind, Shift,
    Value, Width,
};

/// Decodes the word at the start of `bytes`, which stands at `address`.
///
/// # Errors
///
/// See [`crate::decode`].
pub fn decode(bytes: &[u8], address: u64) -> Result<Instruction, DecodeError> {
    let bytes: [u8; 4] = bytes.get(..4).ok_or(DecodeError::CutOff)?.try_into().expect("four bytes");
    let bits = u32::from_le_bytes(bytes);
    let table = table();
    for &number in &table.by_top_byte[(bits >> 24) as usize] {
        let row = &table.rows[usize::from(number)];
        if bits & row.mask != row.value {
            continue;
        }
        let word = Word { row, bits, address };
        let operands: Option<Operands> =
            row.form.operands.iter().map(|slot| word.operand(slot.pattern)).collect();
        if let Some(operands) = operands {
            return Ok(Instruction {
                arch: Arch::Arm64,
                form: number,
                operands,
                address,
                length: 4,
            });
        }
    }
    Err(DecodeError::Invalid)
}

struct Word<'a> {
    row: &'a Row,
    bits: u32,
    address: u64,
}

impl Word<'_> {
    fn get(&self, field: &str) -> u32 {
        let (at, width) = self.row.field(field);
        self.bits >> at & (u32::MAX >> (32 - width))
    }

    fn signed(&self, field: &str) -> i64 {
        let (_, width) = self.row.field(field);
        let unused = 64 - width;
        (i64::from(self.get(field)) << unused) >> unused
    }

    fn number(&self, field: RegField) -> u8 {
        (self.bits >> field.shift() & 31) as u8
    }

    fn reg(&self, width: Width, field: RegField) -> Reg {
        let kind = if width == Width::W64 { RegKind::X } else { RegKind::W };
        Reg::new(kind, self.number(field))
    }

    fn reg_sp(&self, width: Width, field: RegField) -> Reg {
        match self.number(field) {
            31 => stack_pointer(width),
            _ => self.reg(width, field),
        }
    }

    /// The operand, or `None` if the word does not stand for this row after all.
    fn operand(&self, pattern: Pattern) -> Option<Operand> {
        let imm = |value: u64| Operand::Imm(Value::Known(value as i64));
        Some(match pattern {
            Pattern::R(width, field) => Operand::Reg(self.reg(width, field)),
            Pattern::RSp(width, field) => Operand::Reg(self.reg_sp(width, field)),
            Pattern::Sp(width) => Operand::Reg(stack_pointer(width)),
            Pattern::AddSubImm => {
                let value = Value::Known(i64::from(self.get("imm12")));
                match self.get("sh") {
                    0 => Operand::Imm(value),
                    _ => Operand::ShiftedImm(value, 12),
                }
            }
            Pattern::Bitmask(width) => imm(self.bitmask(width)?),
            Pattern::MovBitmask(width) => {
                let value = self.bitmask(width)?;
                if mov_wide_makes(value, width) {
                    return None;
                }
                imm(value)
            }
            Pattern::MoveWide(_) => {
                let value = Value::Known(i64::from(self.get("imm16")));
                match self.get("hw") {
                    0 => Operand::Imm(value),
                    hw => Operand::ShiftedImm(value, (hw * 16) as u8),
                }
            }
            Pattern::MovImm(_) => {
                let (part, hw) = (self.get("imm16"), self.get("hw"));
                if part == 0 && hw != 0 {
                    return None;
                }
                imm(u64::from(part) << (16 * hw))
            }
            Pattern::MovInverted(width) => {
                let (part, hw) = (self.get("imm16"), self.get("hw"));
                // The architecture keeps MOVN for what MOVZ can make.
                if part == 0 && hw != 0 || width == Width::W32 && part == 0xffff {
                    return None;
                }
                let value = !(u64::from(part) << (16 * hw));
                Operand::Imm(Value::Known(width.sign_extend(value)))
            }
            Pattern::ShiftedReg(width, ror) => {
                let reg = self.reg(width, RegField::Rm);
                let shift = Shift::ALL[self.get("shift") as usize];
                let amount = self.get("imm6") as u8;
                match (shift, amount) {
                    (Shift::Ror, _) if !ror => return None,
                    (Shift::Lsl, 0) => Operand::Reg(reg),
                    _ => Operand::Shifted(reg, shift, amount),
                }
            }
            Pattern::ExtendedReg(width) => self.extended(width)?,
            Pattern::LeftShift(width) => {
                let amount = width.bits() - 1 - self.get("imms");
                if self.get("immr") != (width.bits() - amount) % width.bits() {
                    return None;
                }
                imm(u64::from(amount))
            }
            Pattern::RightShift(_) => imm(u64::from(self.get("immr"))),
            Pattern::Cond => Operand::Cond(self.get("cond") as u8),
            Pattern::InvertedCond => {
                let cond = self.get("cond") as u8;
                if cond >= 14 {
                    return None;
                }
                Operand::Cond(cond ^ 1)
            }
            Pattern::MemOffset(access, offset) => self.memory(access, offset, IndexMode::Offset),
            Pattern::MemPre(access, offset) => self.memory(access, offset, IndexMode::Pre),
            Pattern::MemPost(access, offset) => self.memory(access, offset, IndexMode::Post),
            Pattern::MemReg(access) => {
                let extend = Extend::ALL[self.get("option") as usize];
                let width = match extend {
                    Extend::Uxtx | Extend::Sxtx => Width::W64,
                    Extend::Uxtw | Extend::Sxtw => Width::W32,
                    _ => return None,
                };
                let scale = if self.get("S") == 1 { access.bytes() as u8 } else { 1 };
                Operand::Mem(Mem {
                    base: Some(self.reg_sp(Width::W64, RegField::Rn)),
                    index: Some(self.reg(width, RegField::Rm)),
                    scale,
                    extend: (extend != Extend::Uxtx).then_some(extend),
                    width: Some(access),
                    ..Mem::absolute(0)
                })
            }
            Pattern::Label26 => self.target(self.signed("imm26") * 4),
            Pattern::Label19 => self.target(self.signed("imm19") * 4),
            Pattern::Label14 => self.target(self.signed("imm14") * 4),
            Pattern::Bit(base) => imm(u64::from(self.get("b40") + u32::from(base))),
            Pattern::AdrLabel => {
                self.target(self.signed("immhi") << 2 | i64::from(self.get("immlo")))
            }
            Pattern::AdrpLabel => {
                let pages = self.signed("immhi") << 2 | i64::from(self.get("immlo"));
                let page = self.address as i64 & !0xfff;
                Operand::Target(Value::Known(page.wrapping_add(pages << 12)))
            }
            Pattern::Imm16 => imm(u64::from(self.get("imm16"))),
            Pattern::Hint => imm(u64::from(self.get("imm7"))),
        })
    }

    fn bitmask(&self, width: Width) -> Option<u64> {
        bitmask::decode(self.get("N"), self.get("immr"), self.get("imms"), width)
    }

    fn target(&self, distance: i64) -> Operand {
        Operand::Target(Value::Known((self.address as i64).wrapping_add(distance)))
    }

    fn extended(&self, width: Width) -> Option<Operand> {
        let extend = Extend::ALL[self.get("option") as usize];
        let amount = self.get("imm3") as u8;
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
    fn shows_sp(&self) -> bool {
        self.row.form.operands.iter().any(|slot| match slot.pattern {
            Pattern::RSp(_, field) => self.number(field) == 31,
            _ => false,
        })
    }

    fn memory(&self, access: Width, offset: Offset, mode: IndexMode) -> Operand {
        let unit = access.bytes() as i64;
        let disp = match offset {
            Offset::Scaled12 => i64::from(self.get("imm12")) * unit,
            Offset::Signed9 => self.signed("imm9"),
            Offset::Scaled7 => self.signed("imm7") * unit,
        };
        let base = self.reg_sp(Width::W64, RegField::Rn);
        Operand::Mem(Mem { width: Some(access), mode, ..Mem::base_disp(base, disp) })
    }
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
