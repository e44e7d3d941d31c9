//! String instructions.
//!
//! A repeated one is a single instruction: the registers move with every element, so that a fault in
//! the middle leaves them where the next try goes on. Source: SDM Vol. 2B, REP.

use sotto_isa::x86::{Repeat, StringOp, flag};

use crate::code::processor::{Flow, Result};
use crate::x86::flags::Kind;
use crate::x86::integer::arithmetic::{B16, B32, Size, by_segment};
use crate::x86::op::Op;
use crate::x86::{Cpu, RAX, RCX, RDI, RSI};
use crate::{Memory, Observer};

/// Elements that a repeated instruction goes over before others are given a chance.
const ELEMENTS_AT_ONCE: u64 = 1 << 20;

/// A register at the width of an address.
fn address_register<O>(cpu: &Cpu, op: &Op<O>, register: usize) -> u64 {
    cpu.regs[register] & u64::MAX >> op.unused_bits
}

/// Moves such a register on; half of a register of 64 bits clears the rest, and of 32 keeps it.
fn move_on<O>(cpu: &mut Cpu, op: &Op<O>, register: usize, step: u64) {
    let value = cpu.regs[register].wrapping_add(step);
    match op.unused_bits {
        48 => cpu.put::<B16>(register as u8, value),
        32 => cpu.put::<B32>(register as u8, value),
        _ => cpu.regs[register] = value,
    }
}

/// One element; whether the two compared were equal.
#[inline]
fn element<W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result<bool> {
    let (kind, bytes) = (op.string.0, W::WIDTH.bytes());
    let step = if cpu.control.contains(flag::DF) { bytes.wrapping_neg() } else { bytes };
    let source = cpu.in_segment(op, address_register(cpu, op, RSI));
    let destination = address_register(cpu, op, RDI);
    let refuse = |fault| by_segment(op, fault);
    let compare = |cpu: &mut Cpu, a: u64, b: u64| {
        cpu.flags.after(Kind::Sub, W::WIDTH, a, b, a.wrapping_sub(b) & W::WIDTH.mask());
        a == b
    };
    let mut equal = true;
    match kind {
        StringOp::Movs => {
            let value = memory.load_value(source, bytes, observer).map_err(refuse)?;
            memory.store_value(destination, bytes, value, observer)?;
        }
        StringOp::Stos => {
            memory.store_value(destination, bytes, cpu.get::<W>(RAX as u8), observer)?;
        }
        StringOp::Lods => {
            let value = memory.load_value(source, bytes, observer).map_err(refuse)?;
            cpu.put::<W>(RAX as u8, value);
        }
        StringOp::Scas => {
            let value = memory.load_value(destination, bytes, observer)?;
            equal = compare(cpu, cpu.get::<W>(RAX as u8), value);
        }
        StringOp::Cmps => {
            // Where neither can be read, it is the destination that is told of.
            let b = memory.load_value(destination, bytes, observer)?;
            let a = memory.load_value(source, bytes, observer).map_err(refuse)?;
            equal = compare(cpu, a, b);
        }
    }
    if matches!(kind, StringOp::Movs | StringOp::Cmps | StringOp::Lods) {
        move_on(cpu, op, RSI, step);
    }
    if !matches!(kind, StringOp::Lods) {
        move_on(cpu, op, RDI, step);
    }
    Ok(equal)
}

/// A string instruction, alone or repeated.
pub(crate) fn string<W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let (kind, repeat) = op.string;
    if repeat == Repeat::Once {
        element::<W, O>(cpu, memory, op, observer)?;
    } else {
        // Half of the counter is the counter, and what is above it goes even if there is nothing to do; of
        // the instructions that write, so does what is above the addresses.
        if op.unused_bits == 32 {
            cpu.regs[RCX] &= 0xffff_ffff;
            if kind == StringOp::Movs {
                cpu.regs[RSI] &= 0xffff_ffff;
            }
            if matches!(kind, StringOp::Movs | StringOp::Stos) {
                cpu.regs[RDI] &= 0xffff_ffff;
            }
        }
        let mut elements = 0;
        while address_register(cpu, op, RCX) != 0 {
            // As the processor takes interrupts between elements. Source: SDM Vol. 2B, REP.
            if elements == ELEMENTS_AT_ONCE {
                memory.note_work(elements);
                return Ok(Flow::Again);
            }
            elements += 1;
            let equal = element::<W, O>(cpu, memory, op, observer)?;
            move_on(cpu, op, RCX, 1u64.wrapping_neg());
            match repeat {
                Repeat::WhileEqual if !equal => break,
                Repeat::WhileNotEqual if equal => break,
                _ => {}
            }
        }
        memory.note_work(elements);
    }
    let written = matches!(kind, StringOp::Movs | StringOp::Stos);
    if written && memory.code_was_written() { Ok(Flow::Leave) } else { Ok(Flow::Next) }
}
