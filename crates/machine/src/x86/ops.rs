//! What each x86 instruction does, once, generic over widths, operand places and observer.
//!
//! A function changes registers only after every access that may fault, so a faulting instruction
//! changes nothing.

use sotto_isa::x86::{Cond, flag, masked_count};
use sotto_isa::{FlagSet, Width};

use super::flags::{self, Kind};
use super::translate::Op;
use super::{ALWAYS_SET, Cpu, HIGH, R11, RAX, RBP, RCX, RDX, RSP};
use crate::engine::{Flow, Result};
use crate::{Fault, Memory, MemoryFault, MemoryFaultKind, Observer};

/// A width, as a type.
pub(super) trait Size {
    const WIDTH: Width;
}

macro_rules! sizes {
    ($($name:ident $width:ident),*) => {
        $(
            pub(super) struct $name;
            impl Size for $name {
                const WIDTH: Width = Width::$width;
            }
        )*
    };
}
sizes!(B8 W8, B16 W16, B32 W32, B64 W64);

impl Cpu {
    /// A register's value at a width, zero-extended.
    #[inline]
    pub(super) fn get<W: Size>(&self, code: u8) -> u64 {
        let value = self.regs[usize::from(code & 0x1f)];
        match W::WIDTH {
            Width::W8 if code & HIGH != 0 => value >> 8 & 0xff,
            width => value & width.mask(),
        }
    }

    /// Writes a register at a width: 32 bits clear the upper half, 8 and 16 keep the rest.
    #[inline]
    pub(super) fn put<W: Size>(&mut self, code: u8, value: u64) {
        let reg = &mut self.regs[usize::from(code & 0x1f)];
        match W::WIDTH {
            Width::W64 | Width::W128 => *reg = value,
            Width::W32 => *reg = value & 0xffff_ffff,
            Width::W16 => *reg = (*reg & !0xffff) | (value & 0xffff),
            Width::W8 if code & HIGH != 0 => *reg = (*reg & !0xff00) | (value & 0xff) << 8,
            Width::W8 => *reg = (*reg & !0xff) | (value & 0xff),
        }
    }

    #[inline]
    pub(super) fn effective_address<O>(&self, op: &Op<O>) -> u64 {
        self.address_beyond(op, 0)
    }

    /// The address of the memory operand moved by so many bytes.
    #[inline]
    pub(super) fn address_beyond<O>(&self, op: &Op<O>, bytes: u64) -> u64 {
        let base = self.regs[usize::from(op.base & 0x1f)];
        let index = self.regs[usize::from(op.index & 0x1f)] << op.shift;
        let address = base.wrapping_add(index).wrapping_add(op.disp).wrapping_add(bytes);
        if op.special { self.special_address(op, address) } else { address }
    }

    /// The address cut to its width, or moved by the base of a segment, or both.
    #[inline]
    fn special_address<O>(&self, op: &Op<O>, address: u64) -> u64 {
        let address = address & u64::MAX >> op.unused_bits;
        self.in_segment(op, address)
    }

    /// An address within the operation's segment.
    #[inline]
    pub(super) fn in_segment<O>(&self, op: &Op<O>, address: u64) -> u64 {
        if op.segment == super::ZERO { address } else { self.linear_address(op, address) }
    }

    /// The address moved by the base of its segment.
    #[cold]
    fn linear_address<O>(&self, op: &Op<O>, address: u64) -> u64 {
        match self.regs[usize::from(op.segment & 0x1f)] {
            NO_SEGMENT => NO_SEGMENT | address,
            base => address.wrapping_add(base) & self.address_mask,
        }
    }
}

/// The base of FS or GS when it holds the null selector in 32-bit mode: no address, so that every access
/// is refused.
pub(super) const NO_SEGMENT: u64 = 1 << 62;

/// Where an operand is.
pub(super) trait Operand {
    const IS_MEMORY: bool = false;
    fn get<W: Size, O: Observer>(
        cpu: &Cpu,
        memory: &mut Memory,
        op: &Op<O>,
        observer: &mut O,
    ) -> Result<u64>;
    fn put<W: Size, O: Observer>(
        cpu: &mut Cpu,
        memory: &mut Memory,
        op: &Op<O>,
        observer: &mut O,
        value: u64,
    ) -> Result<()>;
}

/// Memory.
pub(super) struct Mem;
/// The immediate, cut to the width.
pub(super) struct Imm;

/// A place that is a register, by the field of the operation that names it.
macro_rules! register_places {
    ($($(#[$doc:meta])* $name:ident $field:ident;)*) => {
        $(
            $(#[$doc])*
            pub(super) struct $name;

            impl Operand for $name {
                #[inline]
                fn get<W: Size, O: Observer>(
                    cpu: &Cpu,
                    _: &mut Memory,
                    op: &Op<O>,
                    _: &mut O,
                ) -> Result<u64> {
                    Ok(cpu.get::<W>(op.$field))
                }

                #[inline]
                fn put<W: Size, O: Observer>(
                    cpu: &mut Cpu,
                    _: &mut Memory,
                    op: &Op<O>,
                    _: &mut O,
                    value: u64,
                ) -> Result<()> {
                    cpu.put::<W>(op.$field, value);
                    Ok(())
                }
            }
        )*
    };
}
register_places! {
    /// The first register of the operation.
    First first;
    /// The second register of the operation.
    Second second;
    /// The third register of the operation.
    Third third;
}

/// A refused access of the stack: an address that is not canonical is a fault of the stack segment.
#[cold]
pub(super) fn of_stack(fault: MemoryFault) -> MemoryFault {
    if fault.kind == MemoryFaultKind::Alignment {
        return fault;
    }
    let canonical = (fault.address as i64) << 16 >> 16 == fault.address as i64;
    match canonical {
        true => fault,
        false => MemoryFault { kind: MemoryFaultKind::StackSegment, ..fault },
    }
}

/// A refused access of a memory operand; a base of RSP or RBP makes it one of the stack.
#[cold]
pub(super) fn by_segment<O>(op: &Op<O>, fault: MemoryFault) -> MemoryFault {
    if fault.address & NO_SEGMENT != 0 && op.next >> 32 == 0 && op.segment != super::ZERO {
        let address = fault.address & !NO_SEGMENT;
        return MemoryFault { kind: MemoryFaultKind::Segment, address, ..fault };
    }
    match usize::from(op.base) {
        RSP | RBP if op.segment == super::ZERO => of_stack(fault),
        _ => fault,
    }
}

impl Operand for Mem {
    const IS_MEMORY: bool = true;
    #[inline(always)]
    fn get<W: Size, O: Observer>(
        cpu: &Cpu,
        memory: &mut Memory,
        op: &Op<O>,
        observer: &mut O,
    ) -> Result<u64> {
        let address = cpu.effective_address(op);
        Ok(match memory.value_at_hand(address, W::WIDTH.bytes()) {
            Some(value) if !O::ACTIVE => value,
            _ => load_slowly::<W, O>(memory, op, address, observer)?,
        })
    }
    #[inline(always)]
    fn put<W: Size, O: Observer>(
        cpu: &mut Cpu,
        memory: &mut Memory,
        op: &Op<O>,
        observer: &mut O,
        value: u64,
    ) -> Result<()> {
        let address = cpu.effective_address(op);
        if O::ACTIVE || memory.put_value_at_hand(address, W::WIDTH.bytes(), value).is_none() {
            store_slowly::<W, O>(memory, op, address, observer, value)?;
        }
        Ok(())
    }
}

/// Loads a memory operand from a page that is not at hand, or for an observer. Kept apart with all that a fault
/// needs, so that the common load is short.
#[inline(never)]
fn load_slowly<W: Size, O: Observer>(
    memory: &mut Memory,
    op: &Op<O>,
    address: u64,
    observer: &mut O,
) -> Result<u64> {
    let loaded = memory.load_value(address, W::WIDTH.bytes(), observer);
    Ok(loaded.map_err(|fault| by_segment(op, fault))?)
}

/// Stores likewise.
#[inline(never)]
fn store_slowly<W: Size, O: Observer>(
    memory: &mut Memory,
    op: &Op<O>,
    address: u64,
    observer: &mut O,
    value: u64,
) -> Result<()> {
    let stored = memory.store_value(address, W::WIDTH.bytes(), value, observer);
    Ok(stored.map_err(|fault| by_segment(op, fault))?)
}

impl Operand for Imm {
    #[inline]
    fn get<W: Size, O: Observer>(_: &Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result<u64> {
        Ok(op.imm & W::WIDTH.mask())
    }
    fn put<W: Size, O: Observer>(
        _: &mut Cpu,
        _: &mut Memory,
        _: &Op<O>,
        _: &mut O,
        _: u64,
    ) -> Result<()> {
        unreachable!("no row writes an immediate")
    }
}

/// What comes after an operation that may have written memory of this kind.
#[inline]
pub(super) fn next<D: Operand>(memory: &Memory) -> Result {
    if D::IS_MEMORY && memory.code_was_written() { Ok(Flow::Leave) } else { Ok(Flow::Next) }
}

/// A two-operand operation that sets flags.
pub(super) trait Binary {
    /// Whether the result is written back.
    const WRITES: bool = true;
    fn apply<W: Size>(cpu: &mut Cpu, a: u64, b: u64) -> u64;
}

macro_rules! binary {
    ($($name:ident $writes:literal |$cpu:ident, $a:ident, $b:ident| $kind:ident $value:expr;)*) => {
        $(
            pub(super) struct $name;
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
pub(super) fn binary<F: Binary, D: Operand, S: Operand, W: Size, O: Observer>(
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
pub(super) trait Unary {
    fn apply<W: Size>(cpu: &mut Cpu, a: u64) -> u64;
}

pub(super) struct Inc;
impl Unary for Inc {
    #[inline]
    fn apply<W: Size>(cpu: &mut Cpu, a: u64) -> u64 {
        let value = a.wrapping_add(1) & W::WIDTH.mask();
        cpu.flags.after(Kind::Inc, W::WIDTH, a, 1, value);
        value
    }
}

pub(super) struct Dec;
impl Unary for Dec {
    #[inline]
    fn apply<W: Size>(cpu: &mut Cpu, a: u64) -> u64 {
        let value = a.wrapping_sub(1) & W::WIDTH.mask();
        cpu.flags.after(Kind::Dec, W::WIDTH, a, 1, value);
        value
    }
}

pub(super) struct Neg;
impl Unary for Neg {
    #[inline]
    fn apply<W: Size>(cpu: &mut Cpu, a: u64) -> u64 {
        let value = a.wrapping_neg() & W::WIDTH.mask();
        cpu.flags.after(Kind::Sub, W::WIDTH, 0, a, value);
        value
    }
}

pub(super) struct Not;
impl Unary for Not {
    #[inline]
    fn apply<W: Size>(_: &mut Cpu, a: u64) -> u64 {
        !a & W::WIDTH.mask()
    }
}

#[inline]
pub(super) fn unary<F: Unary, D: Operand, W: Size, O: Observer>(
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

pub(super) fn shift<D: Operand, S: Operand, W: Size, O: Observer>(
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
pub(super) fn shift_lazily<const KIND: u8, D: Operand, S: Operand, W: Size, O: Observer>(
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

pub(super) fn mov<D: Operand, S: Operand, W: Size, O: Observer>(
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
pub(super) trait BitChange {
    const WRITES: bool = true;
    fn apply(value: u64, bit: u64) -> u64;
}

macro_rules! bit_changes {
    ($($name:ident $writes:literal |$value:ident, $bit:ident| $result:expr;)*) => {
        $(
            pub(super) struct $name;
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
pub(super) fn bit_test<C: BitChange, D: Operand, S: Operand, W: Size, O: Observer>(
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
pub(super) fn bit_test_string<C: BitChange, W: Size, O: Observer>(
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
pub(super) fn popcnt<S: Operand, W: Size, O: Observer>(
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

pub(super) fn bswap<W: Size, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let value = cpu.get::<W>(op.first).swap_bytes() >> (64 - W::WIDTH.bits());
    cpu.put::<W>(op.first, value);
    Ok(Flow::Next)
}

pub(super) fn xadd<D: Operand, W: Size, O: Observer>(
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
pub(super) fn cmpxchg<D: Operand, W: Size, O: Observer>(
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
pub(super) fn carry<const HOW: u8, O: Observer>(
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
pub(super) fn extend<const SIGNED: bool, S: Operand, F: Size, W: Size, O: Observer>(
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

pub(super) fn lea<W: Size, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let address = cpu.effective_address(op);
    cpu.put::<W>(op.first, address);
    Ok(Flow::Next)
}

pub(super) fn xchg<D: Operand, W: Size, O: Observer>(
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

pub(super) fn push_value<W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    value: u64,
    observer: &mut O,
) -> Result<()> {
    let top = cpu.regs[RSP].wrapping_sub(W::WIDTH.bytes()) & cpu.address_mask;
    if O::ACTIVE || memory.put_value_at_hand(top, W::WIDTH.bytes(), value).is_none() {
        store_on_stack::<W, O>(memory, top, value, observer)?;
    }
    cpu.regs[RSP] = top;
    Ok(())
}

#[inline(never)]
fn store_on_stack<W: Size, O: Observer>(
    memory: &mut Memory,
    top: u64,
    value: u64,
    observer: &mut O,
) -> Result<()> {
    Ok(memory.store_value(top, W::WIDTH.bytes(), value, observer).map_err(of_stack)?)
}

/// What lies on top of the stack; it is still there.
pub(super) fn top_value<W: Size, O: Observer>(
    cpu: &Cpu,
    memory: &mut Memory,
    observer: &mut O,
) -> Result<u64> {
    Ok(match memory.value_at_hand(cpu.regs[RSP], W::WIDTH.bytes()) {
        Some(value) if !O::ACTIVE => value,
        _ => load_from_stack::<W, O>(memory, cpu.regs[RSP], observer)?,
    })
}

#[inline(never)]
fn load_from_stack<W: Size, O: Observer>(
    memory: &mut Memory,
    top: u64,
    observer: &mut O,
) -> Result<u64> {
    Ok(memory.load_value(top, W::WIDTH.bytes(), observer).map_err(of_stack)?)
}

/// The stack pointer moved up over so many bytes.
#[inline]
pub(super) fn above(cpu: &Cpu, bytes: u64) -> u64 {
    cpu.regs[RSP].wrapping_add(bytes) & cpu.address_mask
}

pub(super) fn push<S: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let value = S::get::<W, O>(cpu, memory, op, observer)?;
    push_value::<W, O>(cpu, memory, value, observer)?;
    next::<Mem>(memory)
}

pub(super) fn pop<D: Operand, W: Size, O: Observer>(
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

pub(super) fn leave<W: Size, O: Observer>(
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

pub(super) fn imul<const FROM_IMM: bool, S: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let source = W::WIDTH.sign_extend(S::get::<W, O>(cpu, memory, op, observer)?);
    let other = if FROM_IMM { op.imm & W::WIDTH.mask() } else { cpu.get::<W>(op.first) };
    // Only the product of the widest does not fit 64 bits.
    let (product, beyond) = source.overflowing_mul(W::WIDTH.sign_extend(other));
    let value = product as u64 & W::WIDTH.mask();
    cpu.put::<W>(op.first, value);
    set_product_flags::<W>(cpu, value, beyond || product != W::WIDTH.sign_extend(value));
    Ok(Flow::Next)
}

/// CF and OF say that the upper half matters.
fn set_product_flags<W: Size>(cpu: &mut Cpu, low: u64, overflow: bool) {
    cpu.flags.after(Kind::Product, W::WIDTH, 0, u64::from(overflow), low);
}

/// The value in the accumulator and data register, or in AX for bytes.
fn wide_accumulator<W: Size>(cpu: &Cpu) -> u128 {
    match W::WIDTH {
        Width::W8 => u128::from(cpu.regs[RAX] & 0xffff),
        width => {
            let high = u128::from(cpu.get::<W>(RDX as u8));
            high << width.bits() | u128::from(cpu.get::<W>(RAX as u8))
        }
    }
}

fn put_wide<W: Size>(cpu: &mut Cpu, low: u64, high: u64) {
    match W::WIDTH {
        Width::W8 => cpu.put::<B16>(RAX as u8, (low & 0xff) | (high & 0xff) << 8),
        _ => {
            cpu.put::<W>(RAX as u8, low);
            cpu.put::<W>(RDX as u8, high);
        }
    }
}

/// MUL, and IMUL with one operand.
pub(super) fn multiply<const SIGNED: bool, S: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let source = S::get::<W, O>(cpu, memory, op, observer)?;
    let accumulator = cpu.get::<W>(RAX as u8);
    let bits = W::WIDTH.bits();
    let (product, overflow) = if SIGNED {
        let product = i128::from(W::WIDTH.sign_extend(source))
            * i128::from(W::WIDTH.sign_extend(accumulator));
        (product as u128, product != i128::from(W::WIDTH.sign_extend(product as u64)))
    } else {
        let product = u128::from(source) * u128::from(accumulator);
        (product, product >> bits != 0)
    };
    put_wide::<W>(
        cpu,
        product as u64 & W::WIDTH.mask(),
        (product >> bits) as u64 & W::WIDTH.mask(),
    );
    set_product_flags::<W>(cpu, product as u64 & W::WIDTH.mask(), overflow);
    Ok(Flow::Next)
}

/// DIV and IDIV. The flags are undefined and keep their values.
pub(super) fn divide<const SIGNED: bool, S: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let divisor = S::get::<W, O>(cpu, memory, op, observer)?;
    if divisor == 0 {
        return Err(Box::new(Fault::DivideByZero));
    }
    let dividend = wide_accumulator::<W>(cpu);
    let bits = W::WIDTH.bits();
    let (quotient, remainder) = if SIGNED {
        let unused = 128 - 2 * bits;
        let dividend = (dividend << unused) as i128 >> unused;
        let divisor = W::WIDTH.sign_extend(divisor);
        // Most fit 64 bits, which are divided much faster. The one quotient that does not fit then fits no
        // register either, and so it is with 128.
        let divided = match i64::try_from(dividend) {
            Ok(narrow) => narrow.checked_div(divisor).map(i128::from),
            Err(_) => dividend.checked_div(i128::from(divisor)),
        };
        let quotient = divided.ok_or(Box::new(Fault::DivideOverflow))?;
        let limit = 1i128 << (bits - 1);
        if !(-limit..limit).contains(&quotient) {
            return Err(Box::new(Fault::DivideOverflow));
        }
        (quotient as u64, dividend.wrapping_sub(quotient * i128::from(divisor)) as u64)
    } else if let Ok(narrow) = u64::try_from(dividend) {
        let quotient = narrow / divisor;
        if bits < 64 && quotient >> bits != 0 {
            return Err(Box::new(Fault::DivideOverflow));
        }
        (quotient, narrow % divisor)
    } else {
        let quotient = dividend / u128::from(divisor);
        if quotient >> bits != 0 {
            return Err(Box::new(Fault::DivideOverflow));
        }
        (quotient as u64, (dividend % u128::from(divisor)) as u64)
    };
    put_wide::<W>(cpu, quotient & W::WIDTH.mask(), remainder & W::WIDTH.mask());
    Ok(Flow::Next)
}

/// CBW, CWDE and CDQE: from the half `F` to the whole `W`.
pub(super) fn extend_accumulator<F: Size, W: Size, O: Observer>(
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
pub(super) fn spread_sign<W: Size, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    _: &Op<O>,
    _: &mut O,
) -> Result {
    let negative = W::WIDTH.sign_extend(cpu.get::<W>(RAX as u8)) < 0;
    cpu.put::<W>(RDX as u8, if negative { W::WIDTH.mask() } else { 0 });
    Ok(Flow::Next)
}

#[inline(always)]
pub(super) fn jump_if(cpu: &mut Cpu, target: u64, taken: bool) -> Result {
    if taken {
        cpu.pc = target;
        Ok(Flow::Jump)
    } else {
        Ok(Flow::Next)
    }
}

pub(super) fn jump<O: Observer>(cpu: &mut Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result {
    cpu.pc = op.imm;
    Ok(Flow::Jump)
}

pub(super) fn jump_to<S: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    cpu.pc = S::get::<W, O>(cpu, memory, op, observer)?;
    Ok(Flow::Jump)
}

pub(super) fn jcc<O: Observer>(cpu: &mut Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result {
    let taken = cpu.flags.holds(op.cond);
    jump_if(cpu, op.imm, taken)
}

pub(super) fn setcc<D: Operand, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let value = u64::from(cpu.flags.holds(op.cond));
    D::put::<B8, O>(cpu, memory, op, observer, value)?;
    next::<D>(memory)
}

pub(super) fn cmovcc<S: Operand, W: Size, O: Observer>(
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

pub(super) fn call<W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    push_value::<W, O>(cpu, memory, op.next, observer)?;
    cpu.pc = op.imm;
    Ok(Flow::Jump)
}

pub(super) fn call_to<S: Operand, W: Size, O: Observer>(
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

pub(super) fn ret<W: Size, O: Observer>(
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
pub(super) fn loop_while<const WANTED: u8, W: Size, O: Observer>(
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
pub(super) fn jump_if_counter_zero<W: Size, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let zero = cpu.get::<W>(RCX as u8) == 0;
    jump_if(cpu, op.imm, zero)
}

pub(super) fn nop<O: Observer>(_: &mut Cpu, _: &mut Memory, _: &Op<O>, _: &mut O) -> Result {
    Ok(Flow::Next)
}

pub(super) fn syscall<O: Observer>(cpu: &mut Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result {
    cpu.regs[RCX] = op.next;
    cpu.regs[R11] = u64::from((cpu.flags.value() | cpu.control).0) | ALWAYS_SET;
    Ok(Flow::Syscall)
}

pub(super) fn int3<O: Observer>(cpu: &mut Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result {
    cpu.pc = op.next;
    Err(Box::new(Fault::Breakpoint))
}

pub(super) fn invalid<O: Observer>(_: &mut Cpu, _: &mut Memory, _: &Op<O>, _: &mut O) -> Result {
    Err(Box::new(Fault::Illegal))
}
