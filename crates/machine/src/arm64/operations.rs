//! What each A64 instruction does, once, generic over width and observer.
//!
//! A function changes registers only after every access that may fault.

use sotto_isa::arm64::Logic;
use sotto_isa::{IndexMode, Shift, Width};

use crate::arm64::flags::add_with_carry;
use crate::arm64::op::{Op, Second};
use crate::arm64::{Cpu, SP};
use crate::code::cpu::{Flow, Result};
use crate::{Fault, Memory, Observer};

impl Cpu {
    /// A register at the operation's width, zero-extended.
    #[inline]
    fn at<O>(&self, op: &Op<O>, code: u8) -> u64 {
        self.get(code) & op.width.mask()
    }

    /// Writes the destination; a 32-bit write clears the upper half.
    #[inline]
    fn result<O>(&mut self, op: &Op<O>, value: u64) {
        self.put(op.d, value & op.width.mask());
    }

    #[inline]
    fn second<O>(&self, op: &Op<O>) -> u64 {
        match op.second {
            Second::Imm => op.imm & op.width.mask(),
            Second::Shifted(shift) => {
                shifted(op.width, self.at(op, op.m), shift, u32::from(op.amount))
            }
            Second::Extended(extend) => {
                (extend.apply(self.get(op.m)) << op.amount) & op.width.mask()
            }
        }
    }
}

/// `value` shifted by `amount`, which is below the width. Source: shared pseudocode `ShiftReg`.
pub(crate) fn shifted(width: Width, value: u64, shift: Shift, amount: u32) -> u64 {
    let mask = width.mask();
    match shift {
        Shift::Lsl => value << amount & mask,
        Shift::Lsr => value >> amount,
        Shift::Asr => (width.sign_extend(value) >> amount) as u64 & mask,
        Shift::Ror if amount == 0 => value,
        Shift::Ror => (value >> amount | value << (width.bits() - amount)) & mask,
    }
}

/// ADD and SUB with their flag-setting and result-less forms.
pub(crate) fn add_sub<const SUBTRACT: bool, const FLAGS: bool, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let a = cpu.at(op, op.n);
    let mut b = cpu.second(op);
    if SUBTRACT {
        b = !b & op.width.mask();
    }
    let value = a.wrapping_add(b).wrapping_add(u64::from(SUBTRACT));
    cpu.result(op, value);
    if FLAGS {
        cpu.flags.after_sum(op.width, a, b, SUBTRACT);
    }
    debug_assert_eq!(add_with_carry(op.width, a, b, SUBTRACT).0, value & op.width.mask());
    Ok(Flow::Next)
}

pub(crate) fn logic<const INVERT: bool, const FLAGS: bool, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let a = cpu.at(op, op.n);
    let mut b = cpu.second(op);
    if INVERT {
        b = !b & op.width.mask();
    }
    let value = match op.logic {
        Logic::And => a & b,
        Logic::Orr => a | b,
        Logic::Eor => a ^ b,
    };
    cpu.result(op, value);
    if FLAGS {
        cpu.flags.after_logic(op.width, value);
    }
    Ok(Flow::Next)
}

/// The register becomes the immediate: MOVZ, MOVN, ADR, and MOV of an immediate.
pub(crate) fn constant<O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    cpu.result(op, op.imm);
    Ok(Flow::Next)
}

pub(crate) fn movk<O: Observer>(cpu: &mut Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result {
    let kept = cpu.get(op.d) & !(0xffff << op.amount);
    cpu.result(op, kept | op.imm);
    Ok(Flow::Next)
}

/// LSL, LSR and ASR; the amount is taken modulo the width.
pub(crate) fn shift<O: Observer>(cpu: &mut Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result {
    let amount = cpu.second(op) as u32 % op.width.bits();
    let value = shifted(op.width, cpu.at(op, op.n), op.shift, amount);
    cpu.result(op, value);
    Ok(Flow::Next)
}

/// MADD, MSUB and MUL.
pub(crate) fn multiply<const SUBTRACT: bool, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let product = cpu.get(op.n).wrapping_mul(cpu.get(op.m));
    let addend = cpu.get(op.a);
    let value = if SUBTRACT { addend.wrapping_sub(product) } else { addend.wrapping_add(product) };
    cpu.result(op, value);
    Ok(Flow::Next)
}

/// SDIV and UDIV: toward zero; zero for a division by zero, no fault.
pub(crate) fn divide<const SIGNED: bool, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let (a, b) = (cpu.at(op, op.n), cpu.at(op, op.m));
    let value = match (b, SIGNED) {
        (0, _) => 0,
        (_, true) => op.width.sign_extend(a).wrapping_div(op.width.sign_extend(b)) as u64,
        (_, false) => a / b,
    };
    cpu.result(op, value);
    Ok(Flow::Next)
}

pub(crate) fn csel<O: Observer>(cpu: &mut Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result {
    let source = if cpu.flags.holds(op.cond) { op.n } else { op.m };
    let value = cpu.get(source);
    cpu.result(op, value);
    Ok(Flow::Next)
}

/// CSINC, CSINV and CSNEG: the second source is changed by `ADD` and `INVERT` if it is chosen.
pub(crate) fn csel_changed<const INVERT: bool, const ADD: u64, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let value = if cpu.flags.holds(op.cond) {
        cpu.get(op.n)
    } else {
        let second = cpu.get(op.m);
        (if INVERT { !second } else { second }).wrapping_add(ADD)
    };
    cpu.result(op, value);
    Ok(Flow::Next)
}

pub(crate) fn cset<O: Observer>(cpu: &mut Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result {
    let value = u64::from(cpu.flags.holds(op.cond));
    cpu.result(op, value);
    Ok(Flow::Next)
}

/// The address of a load or store, and what its base becomes.
#[inline]
fn address<O>(cpu: &Cpu, op: &Op<O>) -> Result<(u64, u64)> {
    let base = cpu.get(op.n);
    // Source: Arm ARM, D1.8.2 "SP alignment checking"; Linux turns it on.
    if op.n == SP && !base.is_multiple_of(16) {
        return Err(Box::new(Fault::StackAlignment));
    }
    let offset = match op.second {
        Second::Extended(extend) => extend.apply(cpu.get(op.m)) << op.amount,
        _ => op.imm,
    };
    let moved = base.wrapping_add(offset);
    Ok(if op.mode == IndexMode::Post { (base, moved) } else { (moved, moved) })
}

#[inline]
fn write_back<O>(cpu: &mut Cpu, op: &Op<O>, moved: u64) {
    if op.mode != IndexMode::Offset {
        cpu.put(op.n, moved);
    }
}

#[inline]
fn after_store(memory: &Memory) -> Result {
    Ok(if memory.code_was_written() { Flow::Leave } else { Flow::Next })
}

pub(crate) fn load<const SIGNED: bool, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let (address, moved) = address(cpu, op)?;
    let mut value = memory.load_value(address, op.access.bytes(), observer)?;
    if SIGNED {
        value = op.access.sign_extend(value) as u64;
    }
    write_back(cpu, op, moved);
    cpu.result(op, value);
    Ok(Flow::Next)
}

pub(crate) fn store<O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let (address, moved) = address(cpu, op)?;
    memory.store_value(address, op.access.bytes(), cpu.get(op.d), observer)?;
    write_back(cpu, op, moved);
    after_store(memory)
}

/// LDR of a place relative to the program counter.
pub(crate) fn load_literal<O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let value = memory.load_value(op.imm, op.access.bytes(), observer)?;
    cpu.result(op, value);
    Ok(Flow::Next)
}

pub(crate) fn load_pair<O: Observer>(
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
    cpu.put(op.d, first);
    cpu.put(op.a, second);
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

#[inline]
fn jump_to(cpu: &mut Cpu, target: u64) -> Result {
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
