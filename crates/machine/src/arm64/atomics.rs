//! Exclusive, ordered and atomic accesses.
//!
//! There is one processor, so that accesses are atomic as they are. An exclusive load marks its address; what leaves the
//! program (a system call, another exclusive store, CLREX) takes the mark away.
//!
//! Source: Arm ARM, B2.9 "Synchronization and semaphores".

use sotto_isa::Width;
use sotto_isa::arm64::AtomicOp;

use crate::arm64::Cpu;
use crate::arm64::memory::{address, after_store};
use crate::arm64::op::Op;
use crate::code::processor::{Flow, Result};
use crate::{AccessKind, Memory, MemoryFault, MemoryFaultKind, Observer};

/// The address of an access of this many bytes, which must be aligned.
#[inline]
fn aligned<O>(cpu: &Cpu, op: &Op<O>, bytes: u64, access: AccessKind) -> Result<u64> {
    let (address, _) = address(cpu, op)?;
    if !address.is_multiple_of(bytes) {
        let kind = MemoryFaultKind::AtomicAlignment;
        return Err(MemoryFault { address, access, kind }.into());
    }
    Ok(address)
}

pub(crate) fn load_ordered<O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let bytes = op.access.bytes();
    let address = aligned(cpu, op, bytes, AccessKind::Read)?;
    let value = memory.load_value(address, bytes, observer)?;
    cpu.result(op, value);
    Ok(Flow::Next)
}

pub(crate) fn store_ordered<O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let bytes = op.access.bytes();
    let address = aligned(cpu, op, bytes, AccessKind::Write)?;
    memory.store_value(address, bytes, cpu.get(op.d), observer)?;
    after_store(memory)
}

pub(crate) fn load_exclusive<O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let bytes = op.access.bytes();
    let address = aligned(cpu, op, bytes, AccessKind::Read)?;
    let value = memory.load_value(address, bytes, observer)?;
    cpu.exclusive = address.wrapping_add(1);
    cpu.result(op, value);
    Ok(Flow::Next)
}

pub(crate) fn load_exclusive_pair<O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let bytes = op.access.bytes();
    let address = aligned(cpu, op, 2 * bytes, AccessKind::Read)?;
    let first = memory.load_value(address, bytes, observer)?;
    let second = memory.load_value(address.wrapping_add(bytes), bytes, observer)?;
    cpu.exclusive = address.wrapping_add(1);
    cpu.put(op.d, first);
    cpu.put(op.a, second);
    Ok(Flow::Next)
}

/// STXR and STXP: `d` says whether it was done, `m` and for a pair `a` are stored.
pub(crate) fn store_exclusive<const PAIR: bool, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let bytes = op.access.bytes();
    let whole = if PAIR { 2 * bytes } else { bytes };
    let address = aligned(cpu, op, whole, AccessKind::Write)?;
    let marked = cpu.exclusive == address.wrapping_add(1);
    if marked {
        let (first, second) = (cpu.get(op.m), cpu.get(op.a));
        if PAIR {
            memory.check_writable(address, whole)?;
        }
        memory.store_value(address, bytes, first, observer)?;
        if PAIR {
            memory.store_value(address.wrapping_add(bytes), bytes, second, observer)?;
        }
    }
    cpu.exclusive = 0;
    cpu.put(op.d, u64::from(!marked));
    after_store(memory)
}

pub(crate) fn clear_exclusive<O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    _: &Op<O>,
    _: &mut O,
) -> Result {
    cpu.exclusive = 0;
    Ok(Flow::Next)
}

/// What an atomic operation makes of two values of a width.
fn combined(op: AtomicOp, width: Width, old: u64, operand: u64) -> u64 {
    let signed = |value: u64| width.sign_extend(value);
    match op {
        AtomicOp::Add => old.wrapping_add(operand),
        AtomicOp::Clear => old & !operand,
        AtomicOp::ExclusiveOr => old ^ operand,
        AtomicOp::Set => old | operand,
        AtomicOp::SignedMax if signed(operand) > signed(old) => operand,
        AtomicOp::SignedMin if signed(operand) < signed(old) => operand,
        AtomicOp::UnsignedMax => old.max(operand),
        AtomicOp::UnsignedMin => old.min(operand),
        AtomicOp::Swap => operand,
        AtomicOp::SignedMax | AtomicOp::SignedMin => old,
    }
}

/// LDADD and its like: `m` is the operand, `d` gets what memory held.
pub(crate) fn atomic<O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let bytes = op.access.bytes();
    let address = aligned(cpu, op, bytes, AccessKind::Read)?;
    let old = memory.load_value(address, bytes, observer)?;
    let operand = cpu.get(op.m) & op.access.mask();
    let new = combined(op.atomic, op.access, old, operand);
    memory.store_value(address, bytes, new & op.access.mask(), observer)?;
    cpu.put(op.d, old);
    after_store(memory)
}

/// CAS: `d` is compared and gets what memory held, `m` is stored.
pub(crate) fn compare_and_swap<O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let bytes = op.access.bytes();
    let address = aligned(cpu, op, bytes, AccessKind::Read)?;
    let old = memory.load_value(address, bytes, observer)?;
    // A swap that does not happen may write what was there; whether it may be written counts either way.
    memory.check_writable(address, bytes)?;
    if old == cpu.get(op.a) & op.access.mask() {
        memory.store_value(address, bytes, cpu.get(op.m), observer)?;
    }
    cpu.put(op.d, old);
    after_store(memory)
}

/// CASP: the same with the registers after these.
pub(crate) fn compare_and_swap_pair<O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let bytes = op.access.bytes();
    let address = aligned(cpu, op, 2 * bytes, AccessKind::Read)?;
    let upper = address.wrapping_add(bytes);
    let first = memory.load_value(address, bytes, observer)?;
    let second = memory.load_value(upper, bytes, observer)?;
    memory.check_writable(address, 2 * bytes)?;
    let mask = op.access.mask();
    // The register after x30 is the zero register.
    let next = |code: u8| if code == 30 { super::ZERO } else { code + 1 };
    if first == cpu.get(op.d) & mask && second == cpu.get(next(op.d)) & mask {
        memory.store_value(address, bytes, cpu.get(op.m), observer)?;
        memory.store_value(upper, bytes, cpu.get(next(op.m)), observer)?;
    }
    cpu.put(op.d, first);
    if op.d != 30 {
        cpu.put(op.d + 1, second);
    }
    after_store(memory)
}
