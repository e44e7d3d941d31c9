//! String instructions.
//!
//! A repeated one is a single instruction: the registers move with every element, so that a fault in
//! the middle leaves them where the next try goes on. Source: SDM Vol. 2B, REP.

use sotto_isa::x86::{Repeat, StringOp, flag};

use super::flags::Kind;
use super::ops::Size;
use super::translate::Op;
use super::{Cpu, RAX, RCX, RDI, RSI};
use crate::engine::{Flow, Result};
use crate::{Memory, Observer};

/// One element; whether the two compared were equal.
#[inline]
fn element<W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    kind: StringOp,
    observer: &mut O,
) -> Result<bool> {
    let bytes = W::WIDTH.bytes();
    let step = if cpu.control.contains(flag::DF) { bytes.wrapping_neg() } else { bytes };
    let (source, destination) = (cpu.regs[RSI], cpu.regs[RDI]);
    let compare = |cpu: &mut Cpu, a: u64, b: u64| {
        cpu.flags.after(Kind::Sub, W::WIDTH, a, b, a.wrapping_sub(b) & W::WIDTH.mask());
        a == b
    };
    let mut equal = true;
    match kind {
        StringOp::Movs => {
            let value = memory.load_value(source, bytes, observer)?;
            memory.store_value(destination, bytes, value, observer)?;
        }
        StringOp::Stos => {
            memory.store_value(destination, bytes, cpu.get::<W>(RAX as u8), observer)?;
        }
        StringOp::Lods => {
            let value = memory.load_value(source, bytes, observer)?;
            cpu.put::<W>(RAX as u8, value);
        }
        StringOp::Scas => {
            let value = memory.load_value(destination, bytes, observer)?;
            equal = compare(cpu, cpu.get::<W>(RAX as u8), value);
        }
        StringOp::Cmps => {
            let a = memory.load_value(source, bytes, observer)?;
            let b = memory.load_value(destination, bytes, observer)?;
            equal = compare(cpu, a, b);
        }
    }
    if matches!(kind, StringOp::Movs | StringOp::Cmps | StringOp::Lods) {
        cpu.regs[RSI] = source.wrapping_add(step) & cpu.address_mask;
    }
    if !matches!(kind, StringOp::Lods) {
        cpu.regs[RDI] = destination.wrapping_add(step) & cpu.address_mask;
    }
    Ok(equal)
}

/// A string instruction, alone or repeated.
pub(super) fn string<W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let (kind, repeat) = op.string;
    if repeat == Repeat::Once {
        element::<W, O>(cpu, memory, kind, observer)?;
    } else {
        while cpu.regs[RCX] != 0 {
            let equal = element::<W, O>(cpu, memory, kind, observer)?;
            cpu.regs[RCX] -= 1;
            match repeat {
                Repeat::WhileEqual if !equal => break,
                Repeat::WhileNotEqual if equal => break,
                _ => {}
            }
        }
    }
    let written = matches!(kind, StringOp::Movs | StringOp::Stos);
    if written && memory.code_was_written() { Ok(Flow::Leave) } else { Ok(Flow::Next) }
}
