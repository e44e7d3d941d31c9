//! Branches, calls, returns, and what enters the kernel or traps.

use crate::arm64::Cpu;
use crate::arm64::op::Op;
use crate::code::processor::{Flow, Result};
use crate::{Fault, Memory, Observer};

#[inline]
pub(super) fn jump_to(cpu: &mut Cpu, target: u64) -> Result {
    if !target.is_multiple_of(4) {
        return Err(Box::new(Fault::PcAlignment));
    }
    cpu.pc = target;
    Ok(Flow::Jump)
}

pub(crate) fn branch<O: Observer>(cpu: &mut Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result {
    jump_to(cpu, op.imm)
}

pub(crate) fn branch_if<O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    if cpu.flags.holds(op.cond) { jump_to(cpu, op.imm) } else { Ok(Flow::Next) }
}

/// CBZ and CBNZ.
pub(crate) fn branch_if_zero<const WANTED: bool, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let zero = cpu.at(op, op.d) == 0;
    if zero == WANTED { jump_to(cpu, op.imm) } else { Ok(Flow::Next) }
}

/// TBZ and TBNZ.
pub(crate) fn branch_if_bit<const WANTED: bool, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let set = cpu.get(op.d) >> op.amount & 1 == 1;
    if set == WANTED { jump_to(cpu, op.imm) } else { Ok(Flow::Next) }
}

pub(crate) fn branch_and_link<O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    cpu.put(30, op.next);
    jump_to(cpu, op.imm)
}

/// BR and RET.
pub(crate) fn branch_to<O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let target = cpu.get(op.n);
    jump_to(cpu, target)
}

pub(crate) fn call_to<O: Observer>(cpu: &mut Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result {
    let target = cpu.get(op.n);
    let flow = jump_to(cpu, target)?;
    cpu.put(30, op.next);
    Ok(flow)
}

pub(crate) fn nop<O: Observer>(_: &mut Cpu, _: &mut Memory, _: &Op<O>, _: &mut O) -> Result {
    Ok(Flow::Next)
}

pub(crate) fn svc<O: Observer>(_: &mut Cpu, _: &mut Memory, _: &Op<O>, _: &mut O) -> Result {
    Ok(Flow::Syscall)
}

pub(crate) fn brk<O: Observer>(cpu: &mut Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result {
    // Unlike on x86 the program counter stays at the instruction.
    cpu.pc = op.next.wrapping_sub(4);
    Err(Box::new(Fault::Breakpoint))
}

pub(crate) fn undefined<O: Observer>(_: &mut Cpu, _: &mut Memory, _: &Op<O>, _: &mut O) -> Result {
    Err(Box::new(Fault::Illegal))
}
