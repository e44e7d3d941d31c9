//! Kinds of operands as bits, which the encoder compares before it checks a row exactly.

use super::{Form, Pattern};
use crate::{Operand, Reg, RegKind, Width};

/// Kinds of operand by position, a bit each; what the exact check asks first.
#[derive(Copy, Clone)]
pub(crate) struct Kinds([u16; 4]);

impl Kinds {
    const IMMEDIATE: u16 = 1 << 4;
    const TARGET: u16 = 1 << 5;
    const MEMORY: u16 = 1 << 6;
    const ANY_MEMORY: u16 = 0b11_1111 << 6;
    const VECTOR: u16 = 1 << 12;
    const SEGMENT: u16 = 1 << 13;
    /// No operand there.
    const NOTHING: u16 = 1 << 15;

    pub const fn register(width: Width) -> u16 {
        width.bytes() as u16
    }

    pub const fn memory(width: Width) -> u16 {
        // Of this width, or of none that is said.
        Kinds::MEMORY | (width.bytes() as u16) << 7
    }

    /// What can stand in the positions of a form.
    pub const fn of_form(form: &Form) -> Kinds {
        let mut kinds = [Kinds::NOTHING; 4];
        let mut at = 0;
        while at < form.operands.len() {
            kinds[at] = match form.operands[at].pattern {
                Pattern::R(width)
                | Pattern::Acc(width)
                | Pattern::RegRm(width)
                | Pattern::Vvvv(width) => Kinds::register(width),
                Pattern::Mem(width) => Kinds::memory(width),
                Pattern::MemAligned | Pattern::MaskedDestination => Kinds::memory(Width::W128),
                Pattern::RmNarrow(reg, width) => Kinds::register(reg) | Kinds::memory(width),
                Pattern::X | Pattern::XRm | Pattern::Xmm0 => Kinds::VECTOR,
                Pattern::Xm(width) => Kinds::VECTOR | Kinds::memory(width),
                Pattern::XmUnaligned => Kinds::VECTOR | Kinds::memory(Width::W128),
                Pattern::Sreg | Pattern::Segment(_) => Kinds::SEGMENT,
                Pattern::Far(_) => Kinds::ANY_MEMORY,
                Pattern::StringSource(width) | Pattern::StringDestination(width) => {
                    Kinds::memory(width)
                }
                Pattern::TranslateTable => Kinds::memory(Width::W8),
                Pattern::R32NotEax => Kinds::register(Width::W32),
                Pattern::Cl => Kinds::register(Width::W8),
                Pattern::Dx => Kinds::register(Width::W16),
                Pattern::Rm(width) => Kinds::register(width) | Kinds::memory(width),
                Pattern::Moffs(width) => Kinds::memory(width),
                Pattern::M => Kinds::ANY_MEMORY,
                Pattern::Rel8 | Pattern::Rel16 | Pattern::Rel32 => Kinds::TARGET,
                Pattern::One
                | Pattern::Imm(_)
                | Pattern::Simm8
                | Pattern::Simm32
                | Pattern::Uimm8
                | Pattern::Uimm16
                | Pattern::Selector => Kinds::IMMEDIATE,
            };
            at += 1;
        }
        Kinds(kinds)
    }

    pub fn of_operands(operands: &[Operand]) -> Kinds {
        let mut kinds = [Kinds::NOTHING; 4];
        for (kind, operand) in kinds.iter_mut().zip(operands) {
            *kind = match operand {
                Operand::Reg(Reg { kind: RegKind::Xmm, .. }) => Kinds::VECTOR,
                Operand::Reg(Reg { kind: RegKind::Segment, .. }) => Kinds::SEGMENT,
                Operand::Reg(reg) => Kinds::register(reg.width()),
                Operand::Mem(mem) => match mem.width {
                    Some(width) => (width.bytes() as u16) << 7,
                    None => Kinds::MEMORY,
                },
                Operand::Imm(_) => Kinds::IMMEDIATE,
                Operand::Target(_) => Kinds::TARGET,
                _ => 0,
            };
        }
        Kinds(kinds)
    }

    pub fn allow(self, operands: Kinds) -> bool {
        self.0.iter().zip(operands.0).all(|(allowed, given)| allowed & given != 0)
    }
}
