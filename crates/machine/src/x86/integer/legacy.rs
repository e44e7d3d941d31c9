//! What only 32-bit mode has: decimal numbers, all registers at once, and the check of an index.
//!
//! Source: SDM Vol. 2A, AAA to AAS, BOUND, DAA and DAS; Vol. 2B, POPA and PUSHA.

use sotto_isa::FlagSet;
use sotto_isa::x86::flag;

use crate::code::processor::{Flow, Result};
use crate::x86::flags::{of_result, when};
use crate::x86::integer::arithmetic::{B8, B16, Mem, Size, above, by_segment, next, of_stack};
use crate::x86::op::Op;
use crate::x86::{Cpu, HIGH, RAX, RSP};
use crate::{Fault, Memory, Observer};

/// DAA, and DAS if `SUBTRACT`. OF is undefined and cleared.
pub(crate) fn packed<const SUBTRACT: bool, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    _: &Op<O>,
    _: &mut O,
) -> Result {
    let flags = cpu.flags.value();
    let old = cpu.get::<B8>(RAX as u8);
    let low = old & 15 > 9 || flags.contains(flag::AF);
    let high = old > 0x99 || flags.contains(flag::CF);
    let correction = u64::from(low) * 6 + u64::from(high) * 0x60;
    // The low digit of a subtraction may borrow although the whole does not call for it.
    let borrow = SUBTRACT && low && old < 6;
    let value = match SUBTRACT {
        true => old.wrapping_sub(correction),
        false => old.wrapping_add(correction),
    } & 0xff;
    cpu.put::<B8>(RAX as u8, value);
    let carries = when(high || borrow, flag::CF) | when(low, flag::AF);
    cpu.flags.set(of_result(B8::WIDTH, value) | carries);
    Ok(Flow::Next)
}

/// AAA, and AAS if `SUBTRACT`. The other flags are undefined and cleared.
pub(crate) fn unpacked<const SUBTRACT: bool, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    _: &Op<O>,
    _: &mut O,
) -> Result {
    let old = cpu.get::<B16>(RAX as u8);
    let correct = old & 15 > 9 || cpu.flags.value().contains(flag::AF);
    let value = match (correct, SUBTRACT) {
        (false, _) => old,
        (true, false) => old.wrapping_add(0x106),
        (true, true) => old.wrapping_sub(0x106),
    };
    cpu.put::<B16>(RAX as u8, value & 0xff0f);
    cpu.flags.set(when(correct, flag::CF | flag::AF));
    Ok(Flow::Next)
}

/// The base of AAM and AAD: 10 in the form that does not write it.
fn base<O>(op: &Op<O>) -> u64 {
    op.imm & 0xff
}

fn put_digits(cpu: &mut Cpu, high: u64, low: u64) {
    cpu.put::<B8>(RAX as u8, low);
    cpu.put::<B8>(HIGH, high);
    cpu.flags.set(of_result(B8::WIDTH, low & 0xff));
}

pub(crate) fn aam<O: Observer>(cpu: &mut Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result {
    let value = cpu.get::<B8>(RAX as u8);
    if base(op) == 0 {
        return Err(Box::new(Fault::DivideByZero));
    }
    put_digits(cpu, value / base(op), value % base(op));
    Ok(Flow::Next)
}

pub(crate) fn aad<O: Observer>(cpu: &mut Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result {
    let (high, low) = (cpu.get::<B8>(HIGH), cpu.get::<B8>(RAX as u8));
    put_digits(cpu, 0, high.wrapping_mul(base(op)).wrapping_add(low) & 0xff);
    Ok(Flow::Next)
}

/// PUSHA: the general registers in encoding order, the stack pointer as it was.
pub(crate) fn push_all<W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    _: &Op<O>,
    observer: &mut O,
) -> Result {
    let bytes = W::WIDTH.bytes();
    for number in 0..8 {
        let address = above(cpu, bytes.wrapping_mul(u64::from(number) + 1).wrapping_neg());
        let value = cpu.get::<W>(number);
        memory.store_value(address, bytes, value, observer).map_err(of_stack)?;
    }
    cpu.regs[RSP] = above(cpu, (8 * bytes).wrapping_neg());
    next::<Mem>(memory)
}

/// POPA: the general registers, last first, but the stack pointer.
pub(crate) fn pop_all<W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    _: &Op<O>,
    observer: &mut O,
) -> Result {
    let bytes = W::WIDTH.bytes();
    let mut values = [0; 8];
    for (slot, value) in values.iter_mut().rev().enumerate() {
        let address = above(cpu, slot as u64 * bytes);
        *value = memory.load_value(address, bytes, observer).map_err(of_stack)?;
    }
    for (number, value) in values.into_iter().enumerate() {
        if number != RSP {
            cpu.put::<W>(number as u8, value);
        }
    }
    cpu.regs[RSP] = above(cpu, 8 * bytes);
    Ok(Flow::Next)
}

pub(crate) fn into<O: Observer>(cpu: &mut Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result {
    if cpu.flags.value() & flag::OF == FlagSet::NONE {
        return Ok(Flow::Next);
    }
    cpu.pc = op.next;
    Err(Box::new(Fault::Overflow))
}

/// BOUND: the limits stand one behind the other in memory.
pub(crate) fn bound<W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let (address, bytes) = (cpu.effective_address(op), W::WIDTH.bytes());
    let mut limit = |address| -> Result<i64> {
        let loaded = memory.load_value(address, bytes, observer);
        Ok(W::WIDTH.sign_extend(loaded.map_err(|fault| by_segment(op, fault))?))
    };
    let lower = limit(address)?;
    let upper = limit(address.wrapping_add(bytes) & cpu.address_mask)?;
    let index = W::WIDTH.sign_extend(cpu.get::<W>(op.first));
    match (lower..=upper).contains(&index) {
        true => Ok(Flow::Next),
        false => Err(Box::new(Fault::Bounds)),
    }
}
