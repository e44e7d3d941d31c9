//! What each x86 instruction does, once, generic over widths, operand places and observer.
//!
//! A function changes registers only after every access that may fault, so a faulting instruction
//! changes nothing.

use sotto_isa::FlagSet;
use sotto_isa::x86::{flag, masked_count};

use crate::code::processor::{Flow, Result};
use crate::x86::flags;
use crate::x86::flags::Kind;
pub(crate) use crate::x86::integer::jumps::*;
pub(crate) use crate::x86::integer::products::*;
pub(crate) use crate::x86::integer::stack::*;
use crate::x86::op::Op;
pub(crate) use crate::x86::operands::*;
use crate::x86::{Cpu, RAX, RBP, RDX, RSP};
use crate::{Fault, Memory, Observer};

/// A two-operand operation that sets flags.
pub(crate) trait Binary {
    /// Whether the result is written back.
    const WRITES: bool = true;
    fn apply<W: Size>(cpu: &mut Cpu, a: u64, b: u64) -> u64;
}

macro_rules! binary {
    ($($name:ident $writes:literal |$cpu:ident, $a:ident, $b:ident| $kind:ident $value:expr;)*) => {
        $(
            pub(crate) struct $name;
            impl Binary for $name {
                const WRITES: bool = $writes;
                #[inline]
                fn apply<W: Size>($cpu: &mut Cpu, $a: u64, $b: u64) -> u64 {
                    let value = $value & W::WIDTH.mask();
                    $cpu.flags.after(Kind::$kind, W::WIDTH, $a, $b, value);
                    value
                }
            }
        )*
    };
}
binary! {
    Add true |cpu, a, b| Add a.wrapping_add(b);
    Adc true |cpu, a, b| Add a.wrapping_add(b).wrapping_add(u64::from(cpu.flags.carry()));
    Sub true |cpu, a, b| Sub a.wrapping_sub(b);
    Sbb true |cpu, a, b| Sub a.wrapping_sub(b).wrapping_sub(u64::from(cpu.flags.carry()));
    Cmp false |cpu, a, b| Sub a.wrapping_sub(b);
    And true |cpu, a, b| Logic a & b;
    Or true |cpu, a, b| Logic a | b;
    Xor true |cpu, a, b| Logic a ^ b;
    Test false |cpu, a, b| Logic a & b;
}

#[inline]
pub(crate) fn binary<F: Binary, D: Operand, S: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let b = S::get::<W, O>(cpu, memory, op, observer)?;
    let a = D::get::<W, O>(cpu, memory, op, observer)?;
    let old = cpu.flags;
    let value = F::apply::<W>(cpu, a, b);
    if F::WRITES {
        if let Err(fault) = D::put::<W, O>(cpu, memory, op, observer, value) {
            cpu.flags = old;
            return Err(fault);
        }
        return next::<D>(memory);
    }
    Ok(Flow::Next)
}

/// A one-operand operation.
pub(crate) trait Unary {
    fn apply<W: Size>(cpu: &mut Cpu, a: u64) -> u64;
}

pub(crate) struct Inc;
impl Unary for Inc {
    #[inline]
    fn apply<W: Size>(cpu: &mut Cpu, a: u64) -> u64 {
        let value = a.wrapping_add(1) & W::WIDTH.mask();
        cpu.flags.after(Kind::Inc, W::WIDTH, a, 1, value);
        value
    }
}

pub(crate) struct Dec;
impl Unary for Dec {
    #[inline]
    fn apply<W: Size>(cpu: &mut Cpu, a: u64) -> u64 {
        let value = a.wrapping_sub(1) & W::WIDTH.mask();
        cpu.flags.after(Kind::Dec, W::WIDTH, a, 1, value);
        value
    }
}

pub(crate) struct Neg;
impl Unary for Neg {
    #[inline]
    fn apply<W: Size>(cpu: &mut Cpu, a: u64) -> u64 {
        let value = a.wrapping_neg() & W::WIDTH.mask();
        cpu.flags.after(Kind::Sub, W::WIDTH, 0, a, value);
        value
    }
}

pub(crate) struct Not;
impl Unary for Not {
    #[inline]
    fn apply<W: Size>(_: &mut Cpu, a: u64) -> u64 {
        !a & W::WIDTH.mask()
    }
}

#[inline]
pub(crate) fn unary<F: Unary, D: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let a = D::get::<W, O>(cpu, memory, op, observer)?;
    let old = cpu.flags;
    let value = F::apply::<W>(cpu, a);
    if let Err(fault) = D::put::<W, O>(cpu, memory, op, observer, value) {
        cpu.flags = old;
        return Err(fault);
    }
    next::<D>(memory)
}

pub(crate) fn shift<D: Operand, S: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let count = S::get::<B8, O>(cpu, memory, op, observer)?;
    let a = D::get::<W, O>(cpu, memory, op, observer)?;
    let result = flags::shift(op.shift_kind, W::WIDTH, a, count, cpu.flags.value());
    // A count of 0 still writes the destination: a 32-bit register loses its upper half.
    let value = result.map_or(a, |(value, _)| value);
    D::put::<W, O>(cpu, memory, op, observer, value)?;
    if let Some((_, flags)) = result {
        cpu.flags.set(flags);
    }
    next::<D>(memory)
}

/// SHL, SHR and SAR, whose flags wait until they are read; `KIND` is their [`flags::Shift`].
pub(crate) fn shift_lazily<const KIND: u8, D: Operand, S: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let kind = const { flags::Shift::LAZY[KIND as usize] };
    let count = masked_count(W::WIDTH, S::get::<B8, O>(cpu, memory, op, observer)?);
    let a = D::get::<W, O>(cpu, memory, op, observer)?;
    // A count of 0 still writes the destination: a 32-bit register loses its upper half.
    let value = if count == 0 { a } else { flags::shifted(kind, W::WIDTH, a, count).0 };
    D::put::<W, O>(cpu, memory, op, observer, value)?;
    if count != 0 {
        cpu.flags.after(Kind::Shift(kind), W::WIDTH, a, u64::from(count), value);
    }
    next::<D>(memory)
}

pub(crate) fn mov<D: Operand, S: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let value = S::get::<W, O>(cpu, memory, op, observer)?;
    D::put::<W, O>(cpu, memory, op, observer, value)?;
    next::<D>(memory)
}

/// What a bit test does to the bit.
pub(crate) trait BitChange {
    const WRITES: bool = true;
    fn apply(value: u64, bit: u64) -> u64;
}

macro_rules! bit_changes {
    ($($name:ident $writes:literal |$value:ident, $bit:ident| $result:expr;)*) => {
        $(
            pub(crate) struct $name;
            impl BitChange for $name {
                const WRITES: bool = $writes;
                #[inline]
                fn apply($value: u64, $bit: u64) -> u64 {
                    $result
                }
            }
        )*
    };
}
bit_changes! {
    Keep false |value, _bit| value;
    SetBit true |value, bit| value | bit;
    ClearBit true |value, bit| value & !bit;
    Invert true |value, bit| value ^ bit;
}

/// BT, BTS, BTR, BTC of a register, or of memory with a constant: the number of the bit counts
/// modulo the width.
pub(crate) fn bit_test<C: BitChange, D: Operand, S: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let number = S::get::<W, O>(cpu, memory, op, observer)?;
    let value = D::get::<W, O>(cpu, memory, op, observer)?;
    let bit = 1 << (number & u64::from(W::WIDTH.bits() - 1));
    if C::WRITES {
        D::put::<W, O>(cpu, memory, op, observer, C::apply(value, bit))?;
    }
    cpu.flags.set_carry(value & bit != 0);
    next::<D>(memory)
}

/// The same of memory with the number in a register: a signed offset from the address, in bits.
pub(crate) fn bit_test_string<C: BitChange, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let offset = W::WIDTH.sign_extend(cpu.get::<W>(op.second));
    let (bits, bytes) = (i64::from(W::WIDTH.bits()), W::WIDTH.bytes());
    let words = offset.div_euclid(bits);
    let address = cpu.address_beyond(op, (words as u64).wrapping_mul(bytes));
    let loaded = memory.load_value(address, bytes, observer);
    let value = loaded.map_err(|fault| by_segment(op, fault))?;
    let bit = 1 << offset.rem_euclid(bits);
    if C::WRITES {
        let stored = memory.store_value(address, bytes, C::apply(value, bit), observer);
        stored.map_err(|fault| by_segment(op, fault))?;
    }
    cpu.flags.set_carry(value & bit != 0);
    next::<Mem>(memory)
}

/// POPCNT: every flag is cleared but ZF.
pub(crate) fn popcnt<S: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let source = S::get::<W, O>(cpu, memory, op, observer)?;
    cpu.put::<W>(op.first, u64::from(source.count_ones()));
    cpu.flags.set(if source == 0 { flag::ZF } else { FlagSet::NONE });
    Ok(Flow::Next)
}

pub(crate) fn bswap<W: Size, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let value = cpu.get::<W>(op.first).swap_bytes() >> (64 - W::WIDTH.bits());
    cpu.put::<W>(op.first, value);
    Ok(Flow::Next)
}

pub(crate) fn xadd<D: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let a = D::get::<W, O>(cpu, memory, op, observer)?;
    let b = cpu.get::<W>(op.second);
    let value = a.wrapping_add(b) & W::WIDTH.mask();
    if D::IS_MEMORY {
        D::put::<W, O>(cpu, memory, op, observer, value)?;
        cpu.put::<W>(op.second, a);
    } else {
        // Of one register twice, the sum stays.
        cpu.put::<W>(op.second, a);
        D::put::<W, O>(cpu, memory, op, observer, value)?;
    }
    cpu.flags.after(Kind::Add, W::WIDTH, a, b, value);
    next::<D>(memory)
}

/// CMPXCHG; memory is written in either case, with its own value if it differed.
pub(crate) fn cmpxchg<D: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let a = D::get::<W, O>(cpu, memory, op, observer)?;
    let accumulator = cpu.get::<W>(RAX as u8);
    if accumulator == a {
        let b = cpu.get::<W>(op.second);
        D::put::<W, O>(cpu, memory, op, observer, b)?;
    } else {
        // A register that differs is left alone, its upper half too.
        if D::IS_MEMORY {
            D::put::<W, O>(cpu, memory, op, observer, a)?;
        }
        cpu.put::<W>(RAX as u8, a);
    }
    let value = accumulator.wrapping_sub(a) & W::WIDTH.mask();
    cpu.flags.after(Kind::Sub, W::WIDTH, accumulator, a, value);
    next::<D>(memory)
}

/// CLC, STC, CMC: 0 clears, 1 sets, anything else inverts.
pub(crate) fn carry<const HOW: u8, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    _: &Op<O>,
    _: &mut O,
) -> Result {
    let carry = match HOW {
        0 => false,
        1 => true,
        _ => !cpu.flags.carry(),
    };
    cpu.flags.set_carry(carry);
    Ok(Flow::Next)
}

/// MOVZX and MOVSX: the source is of width `F`, the destination of width `W`.
pub(crate) fn extend<const SIGNED: bool, S: Operand, F: Size, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let mut value = S::get::<F, O>(cpu, memory, op, observer)?;
    if SIGNED {
        value = F::WIDTH.sign_extend(value) as u64;
    }
    cpu.put::<W>(op.first, value);
    Ok(Flow::Next)
}

pub(crate) fn lea<W: Size, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let address = cpu.effective_address(op);
    cpu.put::<W>(op.first, address);
    Ok(Flow::Next)
}

pub(crate) fn xchg<D: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let a = D::get::<W, O>(cpu, memory, op, observer)?;
    let b = cpu.get::<W>(op.second);
    D::put::<W, O>(cpu, memory, op, observer, b)?;
    cpu.put::<W>(op.second, a);
    next::<D>(memory)
}

pub(crate) fn push<S: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let value = S::get::<W, O>(cpu, memory, op, observer)?;
    push_value::<W, O>(cpu, memory, value, observer)?;
    next::<Mem>(memory)
}

pub(crate) fn pop<D: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let old = cpu.regs[RSP];
    let value = top_value::<W, O>(cpu, memory, observer)?;
    // The stack pointer moves first: POP [RSP + 8] uses the new one, and POP RSP overwrites it.
    cpu.regs[RSP] = above(cpu, W::WIDTH.bytes());
    if let Err(fault) = D::put::<W, O>(cpu, memory, op, observer, value) {
        cpu.regs[RSP] = old;
        return Err(fault);
    }
    next::<D>(memory)
}

pub(crate) fn leave<W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    _: &Op<O>,
    observer: &mut O,
) -> Result {
    let frame = cpu.regs[RBP];
    let bytes = W::WIDTH.bytes();
    let value = memory.load_value(frame, bytes, observer).map_err(of_stack)?;
    cpu.put::<W>(RBP as u8, value);
    cpu.regs[RSP] = frame.wrapping_add(bytes) & cpu.address_mask;
    Ok(Flow::Next)
}

/// CBW, CWDE and CDQE: from the half `F` to the whole `W`.
pub(crate) fn extend_accumulator<F: Size, W: Size, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    _: &Op<O>,
    _: &mut O,
) -> Result {
    let value = F::WIDTH.sign_extend(cpu.get::<F>(RAX as u8));
    cpu.put::<W>(RAX as u8, value as u64);
    Ok(Flow::Next)
}

/// CWD, CDQ and CQO.
pub(crate) fn spread_sign<W: Size, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    _: &Op<O>,
    _: &mut O,
) -> Result {
    let negative = W::WIDTH.sign_extend(cpu.get::<W>(RAX as u8)) < 0;
    cpu.put::<W>(RDX as u8, if negative { W::WIDTH.mask() } else { 0 });
    Ok(Flow::Next)
}

pub(crate) fn nop<O: Observer>(_: &mut Cpu, _: &mut Memory, _: &Op<O>, _: &mut O) -> Result {
    Ok(Flow::Next)
}

pub(crate) fn syscall<O: Observer>(_: &mut Cpu, _: &mut Memory, _: &Op<O>, _: &mut O) -> Result {
    Ok(Flow::Syscall)
}

pub(crate) fn sysenter<O: Observer>(_: &mut Cpu, _: &mut Memory, _: &Op<O>, _: &mut O) -> Result {
    Ok(Flow::Sysenter)
}

pub(crate) fn int3<O: Observer>(cpu: &mut Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result {
    cpu.pc = op.next;
    Err(Box::new(Fault::Breakpoint))
}

pub(crate) fn invalid<O: Observer>(_: &mut Cpu, _: &mut Memory, _: &Op<O>, _: &mut O) -> Result {
    Err(Box::new(Fault::Illegal))
}
