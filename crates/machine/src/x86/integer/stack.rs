//! Pushing and popping values, and what comes after an operation that may have written memory.

use crate::code::processor::{Flow, Result};
use crate::x86::operands::*;
use crate::x86::{Cpu, RSP};
use crate::{Memory, Observer};

/// The stack pointer moved up over so many bytes.
#[inline]
pub(crate) fn above(cpu: &Cpu, bytes: u64) -> u64 {
    cpu.regs[RSP].wrapping_add(bytes) & cpu.address_mask
}

/// What comes after an operation that may have written memory of this kind.
#[inline]
pub(crate) fn next<D: Operand>(memory: &Memory) -> Result {
    if D::IS_MEMORY && memory.code_was_written() { Ok(Flow::Leave) } else { Ok(Flow::Next) }
}

pub(crate) fn push_value<W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    value: u64,
    observer: &mut O,
) -> Result<()> {
    let top = cpu.regs[RSP].wrapping_sub(W::WIDTH.bytes()) & cpu.address_mask;
    if O::ACTIVE || memory.tlb_write_value(top, W::WIDTH.bytes(), value).is_none() {
        store_on_stack::<W, O>(memory, top, value, observer)?;
    }
    cpu.regs[RSP] = top;
    Ok(())
}

/// What lies on top of the stack; it is still there.
pub(crate) fn top_value<W: Size, O: Observer>(
    cpu: &Cpu,
    memory: &mut Memory,
    observer: &mut O,
) -> Result<u64> {
    Ok(match memory.tlb_read_value(cpu.regs[RSP], W::WIDTH.bytes()) {
        Some(value) if !O::ACTIVE => value,
        _ => load_from_stack::<W, O>(memory, cpu.regs[RSP], observer)?,
    })
}

#[inline(never)]
pub(crate) fn store_on_stack<W: Size, O: Observer>(
    memory: &mut Memory,
    top: u64,
    value: u64,
    observer: &mut O,
) -> Result<()> {
    Ok(memory.store_value(top, W::WIDTH.bytes(), value, observer).map_err(of_stack)?)
}

#[inline(never)]
pub(crate) fn load_from_stack<W: Size, O: Observer>(
    memory: &mut Memory,
    top: u64,
    observer: &mut O,
) -> Result<u64> {
    Ok(memory.load_value(top, W::WIDTH.bytes(), observer).map_err(of_stack)?)
}
