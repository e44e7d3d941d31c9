//! How x86 instructions move the stack pointer and the frame pointer.

use super::{Meaning, form};
use crate::{FrameStep, Instruction, Operand, Reg, Width};

/// See [`Instruction::frame_step`].
pub(crate) fn frame_step(instruction: &Instruction) -> FrameStep {
    let width = instruction.arch.address_width();
    let whole = |index: usize| match instruction.operands.get(index) {
        Some(Operand::Reg(reg)) if *reg == Reg::x86(width, reg.number) => Some(*reg),
        _ => None,
    };
    let number = |index: usize| match instruction.operands.get(index) {
        Some(Operand::Imm(value)) => value.known(),
        _ => None,
    };
    let offset = |to, from, amount| match (to, from, amount) {
        (Some(to), Some(from), Some(amount)) => FrameStep::Offset { to, from, amount },
        _ => FrameStep::Other,
    };
    // The width of the slot is that of a 16-bit operand, or else the mode's.
    let slot = match instruction.operands.first() {
        Some(Operand::Reg(reg)) if reg.width() == Width::W16 => 2,
        Some(Operand::Mem(mem)) if mem.width == Some(Width::W16) => 2,
        _ => width.bytes(),
    };
    match form(instruction.form).meaning {
        Meaning::Push => FrameStep::Push { bytes: slot, stored: whole(0) },
        Meaning::PushWord => FrameStep::Push { bytes: 2, stored: None },
        Meaning::Pushf(width) | Meaning::PushSegment(width) => {
            FrameStep::Push { bytes: width.bytes(), stored: None }
        }
        Meaning::Pusha(width) => FrameStep::Push { bytes: 8 * width.bytes(), stored: None },
        Meaning::Pop => FrameStep::Pop { bytes: slot, loaded: whole(0) },
        Meaning::Popf(width) | Meaning::PopSegment(width) => {
            FrameStep::Pop { bytes: width.bytes(), loaded: None }
        }
        Meaning::Leave => FrameStep::Leave,
        Meaning::Mov => offset(whole(0), whole(1), Some(0)),
        Meaning::Add => offset(whole(0), whole(0), number(1)),
        Meaning::Sub => offset(whole(0), whole(0), number(1).map(i64::wrapping_neg)),
        Meaning::Inc => offset(whole(0), whole(0), Some(1)),
        Meaning::Dec => offset(whole(0), whole(0), Some(-1)),
        Meaning::Lea => match instruction.operands.get(1) {
            Some(Operand::Mem(mem)) if mem.index.is_none() => {
                offset(whole(0), mem.base, mem.disp.known())
            }
            _ => FrameStep::Other,
        },
        Meaning::And => match (whole(0), number(1)) {
            (Some(to), Some(_)) => FrameStep::Align { to },
            _ => FrameStep::Other,
        },
        _ => FrameStep::Other,
    }
}
