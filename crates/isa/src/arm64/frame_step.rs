//! How A64 instructions move the stack pointer and the frame pointer.

use super::{Meaning, form};
use crate::{FrameStep, Instruction, Operand, Width};

/// See [`Instruction::frame_step`].
pub(crate) fn frame_step(instruction: &Instruction) -> FrameStep {
    let whole = |index: usize| match instruction.operands.get(index) {
        Some(Operand::Reg(reg)) if reg.width() == Width::W64 && !reg.is_a64_vector() => Some(*reg),
        _ => None,
    };
    let amount = match instruction.operands.get(2) {
        Some(Operand::Imm(value)) => value.known(),
        Some(Operand::ShiftedImm(value, shift)) => value.known().map(|value| value << shift),
        _ => None,
    };
    let offset = |amount| match (whole(0), whole(1), amount) {
        (Some(to), Some(from), Some(amount)) => FrameStep::Offset { to, from, amount },
        _ => FrameStep::Other,
    };
    match form(instruction.form).meaning {
        Meaning::Add { flags: false } => offset(amount),
        Meaning::Sub { flags: false } => offset(amount.map(|amount| -amount)),
        Meaning::Mov => offset(Some(0)),
        meaning @ (Meaning::Load { .. }
        | Meaning::LoadPair { .. }
        | Meaning::LoadScalar { .. }
        | Meaning::LoadScalarPair { .. }
        | Meaning::Store { .. }
        | Meaning::StorePair { .. }
        | Meaning::StoreScalar { .. }
        | Meaning::StoreScalarPair { .. }) => {
            let loads = matches!(
                meaning,
                Meaning::Load { .. }
                    | Meaning::LoadPair { .. }
                    | Meaning::LoadScalar { .. }
                    | Meaning::LoadScalarPair { .. }
            );
            let Some(Operand::Mem(mem)) = instruction.operands.last() else {
                return FrameStep::Other;
            };
            match (mem.base, mem.index, mem.disp.known()) {
                (Some(base), None, Some(offset)) => FrameStep::Transfer {
                    loads,
                    base,
                    offset,
                    mode: mem.mode,
                    registers: [whole(0), whole(1)],
                },
                _ => FrameStep::Other,
            }
        }
        _ => FrameStep::Other,
    }
}
