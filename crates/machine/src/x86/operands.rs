//! Where operands are: registers of each width, memory, immediates; and what is read and written there.
//!
//! Functions are generic over these, so that each instruction is written once.

use sotto_isa::Width;

use crate::code::processor::Result;
use crate::x86::op::Op;
use crate::x86::{Cpu, HIGH, RBP, RSP};
use crate::{Memory, MemoryFault, MemoryFaultKind, Observer};

/// A width, as a type.
pub(crate) trait Size {
    const WIDTH: Width;
}

macro_rules! sizes {
    ($($name:ident $width:ident),*) => {
        $(
            pub(crate) struct $name;
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
    pub(crate) fn get<W: Size>(&self, code: u8) -> u64 {
        let value = self.regs[usize::from(code & 0x1f)];
        match W::WIDTH {
            Width::W8 if code & HIGH != 0 => value >> 8 & 0xff,
            width => value & width.mask(),
        }
    }

    /// Writes a register at a width: 32 bits clear the upper half, 8 and 16 keep the rest.
    #[inline]
    pub(crate) fn put<W: Size>(&mut self, code: u8, value: u64) {
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
    pub(crate) fn effective_address<O>(&self, op: &Op<O>) -> u64 {
        self.address_beyond(op, 0)
    }

    /// The address of the memory operand moved by so many bytes.
    #[inline]
    pub(crate) fn address_beyond<O>(&self, op: &Op<O>, bytes: u64) -> u64 {
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
    pub(crate) fn in_segment<O>(&self, op: &Op<O>, address: u64) -> u64 {
        if op.segment == crate::x86::ZERO { address } else { self.linear_address(op, address) }
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
pub(crate) const NO_SEGMENT: u64 = 1 << 62;

/// Where an operand is.
pub(crate) trait Operand {
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
pub(crate) struct Mem;
/// The immediate, cut to the width.
pub(crate) struct Imm;

/// A place that is a register, by the field of the operation that names it.
macro_rules! register_places {
    ($($(#[$doc:meta])* $name:ident $field:ident;)*) => {
        $(
            $(#[$doc])*
            pub(crate) struct $name;

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
pub(crate) fn of_stack(fault: MemoryFault) -> MemoryFault {
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
pub(crate) fn by_segment<O>(op: &Op<O>, fault: MemoryFault) -> MemoryFault {
    if fault.address & NO_SEGMENT != 0 && op.next >> 32 == 0 && op.segment != crate::x86::ZERO {
        let address = fault.address & !NO_SEGMENT;
        return MemoryFault { kind: MemoryFaultKind::Segment, address, ..fault };
    }
    match usize::from(op.base) {
        RSP | RBP if op.segment == crate::x86::ZERO => of_stack(fault),
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
        Ok(match memory.tlb_read_value(address, W::WIDTH.bytes()) {
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
        if O::ACTIVE || memory.tlb_write_value(address, W::WIDTH.bytes(), value).is_none() {
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
