//! Jumps, calls and returns within a segment, loops, and what else goes by a condition.

use sotto_isa::x86::Cond;

use crate::code::processor::{Flow, Result};
use crate::x86::integer::stack::{above, next, push_value, top_value};
use crate::x86::op::Op;
use crate::x86::operands::{B8, Operand, Size};
use crate::x86::{Cpu, RCX, RSP};
use crate::{Memory, Observer};

#[inline(always)]
pub(crate) fn jump_if(cpu: &mut Cpu, target: u64, taken: bool) -> Result {
    if taken {
        cpu.pc = target;
        Ok(Flow::Jump)
    } else {
        Ok(Flow::Next)
    }
}

pub(crate) fn jump<O: Observer>(cpu: &mut Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result {
    cpu.pc = op.imm;
    Ok(Flow::Jump)
}

pub(crate) fn jump_to<S: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    cpu.pc = S::get::<W, O>(cpu, memory, op, observer)?;
    Ok(Flow::Jump)
}

pub(crate) fn jcc<O: Observer>(cpu: &mut Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result {
    let taken = cpu.flags.holds(op.cond);
    jump_if(cpu, op.imm, taken)
}

pub(crate) fn setcc<D: Operand, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let value = u64::from(cpu.flags.holds(op.cond));
    D::put::<B8, O>(cpu, memory, op, observer, value)?;
    next::<D>(memory)
}

pub(crate) fn cmovcc<S: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    // The source is read, and may fault, even if the condition does not hold.
    let source = S::get::<W, O>(cpu, memory, op, observer)?;
    let value = if cpu.flags.holds(op.cond) { source } else { cpu.get::<W>(op.first) };
    cpu.put::<W>(op.first, value);
    Ok(Flow::Next)
}

pub(crate) fn call<W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    push_value::<W, O>(cpu, memory, op.next, observer)?;
    cpu.pc = op.imm;
    Ok(Flow::Jump)
}

pub(crate) fn call_to<S: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let target = S::get::<W, O>(cpu, memory, op, observer)?;
    push_value::<W, O>(cpu, memory, op.next, observer)?;
    cpu.pc = target;
    Ok(Flow::Jump)
}

pub(crate) fn ret<W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    cpu.pc = top_value::<W, O>(cpu, memory, observer)?;
    cpu.regs[RSP] = above(cpu, W::WIDTH.bytes().wrapping_add(op.imm));
    Ok(Flow::Jump)
}

/// LOOP and its conditional forms: `WANTED` is the state of ZF asked for, 2 for none.
pub(crate) fn loop_while<const WANTED: u8, W: Size, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let count = cpu.get::<W>(RCX as u8).wrapping_sub(1) & W::WIDTH.mask();
    cpu.put::<W>(RCX as u8, count);
    let flag = WANTED == 2 || cpu.flags.holds(Cond::E) == (WANTED == 1);
    jump_if(cpu, op.imm, count != 0 && flag)
}

/// JRCXZ, JECXZ and JCXZ.
pub(crate) fn jump_if_counter_zero<W: Size, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let zero = cpu.get::<W>(RCX as u8) == 0;
    jump_if(cpu, op.imm, zero)
}
