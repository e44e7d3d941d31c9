//! Loads and stores of one or two registers, of both banks.
//!
//! A function changes registers only after every access that may fault.

use sotto_isa::{IndexMode, Width};

use crate::arm64::op::{Op, Second};
use crate::arm64::{Cpu, SP};
use crate::code::processor::{Flow, Result};
use crate::{Fault, Memory, Observer};

/// The base register of a load or store; the stack pointer must be aligned to 16 bytes.
///
/// Source: Arm ARM, D1.8.2 "SP alignment checking"; Linux turns it on.
#[inline(always)]
fn base<O>(cpu: &Cpu, op: &Op<O>) -> Result<u64> {
    let base = cpu.get(op.n);
    if op.n == SP && !base.is_multiple_of(16) {
        return Err(Box::new(Fault::StackAlignment));
    }
    Ok(base)
}

/// The address of a load or store, and what its base becomes.
#[inline]
pub(super) fn address<O>(cpu: &Cpu, op: &Op<O>) -> Result<(u64, u64)> {
    let base = base(cpu, op)?;
    let offset = match op.second {
        Second::Extended(extend) => extend.apply(cpu.get(op.m)) << op.amount,
        _ => op.imm,
    };
    let moved = base.wrapping_add(offset);
    Ok(if op.mode == IndexMode::Post { (base, moved) } else { (moved, moved) })
}

#[inline]
pub(super) fn write_back<O>(cpu: &mut Cpu, op: &Op<O>, moved: u64) {
    if op.mode != IndexMode::Offset {
        cpu.put(op.n, moved);
    }
}

#[inline]
pub(super) fn after_store(memory: &Memory) -> Result {
    Ok(if memory.code_was_written() { Flow::Leave } else { Flow::Next })
}

/// The address of an access that does not move its base and has no index, if `PLAIN`; of any otherwise.
#[inline(always)]
fn address_of<const PLAIN: bool, O>(cpu: &Cpu, op: &Op<O>) -> Result<(u64, u64)> {
    if !PLAIN {
        return address(cpu, op);
    }
    let address = base(cpu, op)?.wrapping_add(op.imm);
    Ok((address, address))
}

pub(crate) fn load<const SIGNED: bool, const BYTES: u64, const PLAIN: bool, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let (address, moved) = address_of::<PLAIN, O>(cpu, op)?;
    let value = memory.load_value(address, BYTES, observer)?;
    if !PLAIN {
        write_back(cpu, op, moved);
    }
    if SIGNED {
        cpu.result(op, op.access.sign_extend(value) as u64);
    } else {
        cpu.put(op.d, value);
    }
    Ok(Flow::Next)
}

pub(crate) fn store<const BYTES: u64, const PLAIN: bool, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let (address, moved) = address_of::<PLAIN, O>(cpu, op)?;
    memory.store_value(address, BYTES, cpu.get(op.d), observer)?;
    if !PLAIN {
        write_back(cpu, op, moved);
    }
    after_store(memory)
}

/// LDR of a place relative to the program counter, and LDRSW.
pub(crate) fn load_literal<const SIGNED: bool, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let mut value = memory.load_value(op.imm, op.access.bytes(), observer)?;
    if SIGNED {
        value = op.access.sign_extend(value) as u64;
    }
    cpu.result(op, value);
    Ok(Flow::Next)
}

/// LDP and LDPSW.
pub(crate) fn load_pair<const SIGNED: bool, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let (address, moved) = address(cpu, op)?;
    let bytes = op.access.bytes();
    let first = memory.load_value(address, bytes, observer)?;
    let second = memory.load_value(address.wrapping_add(bytes), bytes, observer)?;
    write_back(cpu, op, moved);
    let extended = |value| if SIGNED { op.access.sign_extend(value) as u64 } else { value };
    cpu.put(op.d, extended(first));
    cpu.put(op.a, extended(second));
    Ok(Flow::Next)
}

pub(crate) fn store_pair<O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let (address, moved) = address(cpu, op)?;
    let bytes = op.access.bytes();
    let (first, second) = (cpu.get(op.d), cpu.get(op.a));
    // Both must be writable before either is written.
    memory.check_writable(address, 2 * bytes)?;
    memory.store_value(address, bytes, first, observer)?;
    memory.store_value(address.wrapping_add(bytes), bytes, second, observer)?;
    write_back(cpu, op, moved);
    after_store(memory)
}

/// Registers of the vector bank: a value of the access's width.
#[inline]
pub(super) fn load_bits<O: Observer>(
    memory: &mut Memory,
    address: u64,
    width: Width,
    observer: &mut O,
) -> Result<u128> {
    Ok(match width {
        Width::W128 => memory.load_vector(address, observer)?,
        width => u128::from(memory.load_value(address, width.bytes(), observer)?),
    })
}

#[inline]
fn store_bits<O: Observer>(
    memory: &mut Memory,
    address: u64,
    width: Width,
    value: u128,
    observer: &mut O,
) -> Result<()> {
    match width {
        Width::W128 => memory.store_vector(address, value, observer)?,
        width => memory.store_value(address, width.bytes(), value as u64, observer)?,
    }
    Ok(())
}

/// LDR of a scalar register of the vector bank; the bits above become zero.
pub(crate) fn load_scalar<O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let (address, moved) = address(cpu, op)?;
    let value = load_bits(memory, address, op.access, observer)?;
    write_back(cpu, op, moved);
    cpu.set_vector(op.d, value);
    Ok(Flow::Next)
}

pub(crate) fn store_scalar<O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let (address, moved) = address(cpu, op)?;
    store_bits(memory, address, op.access, cpu.vector(op.d), observer)?;
    write_back(cpu, op, moved);
    after_store(memory)
}

pub(crate) fn load_scalar_literal<O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let value = load_bits(memory, op.imm, op.access, observer)?;
    cpu.set_vector(op.d, value);
    Ok(Flow::Next)
}

pub(crate) fn load_scalar_pair<O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let (address, moved) = address(cpu, op)?;
    let first = load_bits(memory, address, op.access, observer)?;
    let upper = address.wrapping_add(op.access.bytes());
    let second = load_bits(memory, upper, op.access, observer)?;
    write_back(cpu, op, moved);
    cpu.set_vector(op.d, first);
    cpu.set_vector(op.a, second);
    Ok(Flow::Next)
}

pub(crate) fn store_scalar_pair<O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let (address, moved) = address(cpu, op)?;
    let bytes = op.access.bytes();
    // Both must be writable before either is written.
    memory.check_writable(address, 2 * bytes)?;
    store_bits(memory, address, op.access, cpu.vector(op.d), observer)?;
    store_bits(memory, address.wrapping_add(bytes), op.access, cpu.vector(op.a), observer)?;
    write_back(cpu, op, moved);
    after_store(memory)
}
