//! Vector instructions that move, pick, pack and compare bits; those on floats are in `floats`.

use sotto_isa::x86::flag;

use crate::code::processor::{Flow, Result};
use crate::x86::flags::when;
use crate::x86::integer::arithmetic::{Mem, Operand, Size, by_segment, next};
use crate::x86::op::Op;
use crate::x86::vector::packed::{
    bytes, doublewords, of_doublewords, of_quadwords, quadwords, words,
};
use crate::x86::vector::string_compare;
use crate::x86::{Cpu, RAX, RCX, RDX};
use crate::{AccessKind, Fault, Memory, MemoryFault, MemoryFaultKind, Observer, PAGE_BYTES};

/// Where a vector operand is, and how many of its bytes count.
pub(crate) trait Place {
    fn get<O: Observer>(
        cpu: &Cpu,
        memory: &mut Memory,
        op: &Op<O>,
        observer: &mut O,
    ) -> Result<u128>;

    /// Its low eight bytes, if they can be had without a fault and without anything to note; `None` says nothing.
    #[inline(always)]
    fn low_at_hand<O: Observer>(_: &Cpu, _: &Memory, _: &Op<O>) -> Option<u64> {
        None
    }
}

/// The vector register that the operation names first, or second.
pub(crate) struct FirstVector;
pub(crate) struct SecondVector;
/// Sixteen bytes of memory, aligned or at any address.
pub(crate) struct Aligned;
pub(crate) struct Unaligned;
/// The low bytes from memory, as wide as the type says, zero-extended; or from a general register.
pub(crate) struct Narrow<W>(std::marker::PhantomData<W>);
pub(crate) struct General<W>(std::marker::PhantomData<W>);

impl Place for FirstVector {
    #[inline]
    fn get<O: Observer>(cpu: &Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result<u128> {
        Ok(cpu.vectors[usize::from(op.first)])
    }
}

impl Place for SecondVector {
    #[inline]
    fn get<O: Observer>(cpu: &Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result<u128> {
        Ok(cpu.vectors[usize::from(op.second)])
    }

    #[inline(always)]
    fn low_at_hand<O: Observer>(cpu: &Cpu, _: &Memory, op: &Op<O>) -> Option<u64> {
        Some(cpu.vectors[usize::from(op.second % 16)] as u64)
    }
}

impl Place for Aligned {
    #[inline]
    fn get<O: Observer>(
        cpu: &Cpu,
        memory: &mut Memory,
        op: &Op<O>,
        observer: &mut O,
    ) -> Result<u128> {
        load_aligned(cpu, memory, op, observer)
    }
}

impl Place for Unaligned {
    #[inline]
    fn get<O: Observer>(
        cpu: &Cpu,
        memory: &mut Memory,
        op: &Op<O>,
        observer: &mut O,
    ) -> Result<u128> {
        let address = cpu.effective_address(op);
        Ok(memory.load_vector(address, observer).map_err(|fault| by_segment(op, fault))?)
    }
}

impl<W: Size> Place for Narrow<W> {
    #[inline]
    fn get<O: Observer>(
        cpu: &Cpu,
        memory: &mut Memory,
        op: &Op<O>,
        observer: &mut O,
    ) -> Result<u128> {
        Mem::get::<W, O>(cpu, memory, op, observer).map(u128::from)
    }

    #[inline(always)]
    fn low_at_hand<O: Observer>(cpu: &Cpu, memory: &Memory, op: &Op<O>) -> Option<u64> {
        memory.tlb_read_value(cpu.effective_address(op), W::WIDTH.bytes())
    }
}

impl<W: Size> Place for General<W> {
    #[inline]
    fn get<O: Observer>(cpu: &Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result<u128> {
        Ok(u128::from(cpu.get::<W>(op.second)))
    }
}

/// An address that must be a multiple of 16. One that is not canonical faults as such.
#[inline]
fn aligned_address<O>(cpu: &Cpu, op: &Op<O>, access: AccessKind) -> Result<u64> {
    let address = cpu.effective_address(op);
    if address & 15 != 0 {
        let kind = MemoryFaultKind::Alignment;
        return Err(by_segment(op, MemoryFault { address, access, kind }).into());
    }
    Ok(address)
}

pub(crate) fn load_aligned<O: Observer>(
    cpu: &Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result<u128> {
    let address = aligned_address(cpu, op, AccessKind::Read)?;
    Ok(memory.load_vector(address, observer).map_err(|fault| by_segment(op, fault))?)
}

pub(crate) fn store_aligned<O: Observer>(
    cpu: &Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
    value: u128,
) -> Result<()> {
    let address = aligned_address(cpu, op, AccessKind::Write)?;
    Ok(memory.store_vector(address, value, observer).map_err(|fault| by_segment(op, fault))?)
}

/// An instruction whose destination is a function of itself, the source and the immediate.
pub(crate) fn packed<S: Place, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let source = S::get(cpu, memory, op, observer)?;
    let to = &mut cpu.vectors[usize::from(op.first)];
    *to = (op.function)(*to, source, op.imm as u8);
    Ok(Flow::Next)
}

/// A load, or a copy between registers, zero-extended from the place's width.
pub(crate) fn load<S: Place, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    cpu.vectors[usize::from(op.first)] = S::get(cpu, memory, op, observer)?;
    Ok(Flow::Next)
}

/// A store of all sixteen bytes.
pub(crate) fn store<const ALIGNED: bool, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let value = cpu.vectors[usize::from(op.second)];
    if ALIGNED {
        store_aligned(cpu, memory, op, observer, value)?;
    } else {
        let address = cpu.effective_address(op);
        memory.store_vector(address, value, observer).map_err(|fault| by_segment(op, fault))?;
    }
    next::<Mem>(memory)
}

/// The low element to memory or a general register; from the high half if the immediate says so.
pub(crate) fn store_element<D: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let value = cpu.vectors[usize::from(op.second)] >> op.imm;
    D::put::<W, O>(cpu, memory, op, observer, value as u64 & W::WIDTH.mask())?;
    next::<D>(memory)
}

/// The low element between vector registers; what is above it is kept, or cleared.
pub(crate) fn copy_element<const KEEP: bool, W: Size, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let mask = u128::from(W::WIDTH.mask());
    let value = cpu.vectors[usize::from(op.second)] & mask;
    let to = &mut cpu.vectors[usize::from(op.first)];
    *to = if KEEP { *to & !mask | value } else { value };
    Ok(Flow::Next)
}

/// MOVMSKPS and its kin.
pub(crate) fn move_mask<W: Size, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let value = cpu.vectors[usize::from(op.second)];
    let bits = W::WIDTH.bits();
    let mask = (0..128 / bits).fold(0, |mask, n| mask | (value >> (n * bits + bits - 1) & 1) << n);
    cpu.regs[usize::from(op.first)] = mask as u64;
    Ok(Flow::Next)
}

/// PEXTRB and its kin: an element to a general register, zero-extended, or to memory.
pub(crate) fn extract<const TO_MEMORY: bool, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let bits = W::WIDTH.bits();
    let index = op.imm as u32 % (128 / bits);
    let value = (cpu.vectors[usize::from(op.second)] >> (index * bits)) as u64 & W::WIDTH.mask();
    if TO_MEMORY {
        Mem::put::<W, O>(cpu, memory, op, observer, value)?;
        return next::<Mem>(memory);
    }
    cpu.regs[usize::from(op.first)] = value;
    Ok(Flow::Next)
}

/// MASKMOVDQU. Bytes whose mask is clear are not accessed.
pub(crate) fn masked_store<O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let value = bytes(cpu.vectors[usize::from(op.first)]);
    let mask = bytes(cpu.vectors[usize::from(op.second)]);
    let chosen = || (0..16u64).filter(|&n| mask[n as usize] & 0x80 != 0);
    let at = |n: u64| cpu.address_beyond(op, n);
    let refuse = |fault| by_segment(op, fault);
    // All or nothing: each byte is written with its own value first. Of the page that refuses it processors tell the
    // upper eight bytes' address if they start there, whether or not the byte is one of them.
    let whole = |fault: MemoryFault| {
        let page_of = |address: u64| address & !(PAGE_BYTES - 1);
        let page = page_of(fault.address);
        let address = if page_of(at(8)) == page { at(8) } else { page.max(at(0)) };
        refuse(MemoryFault { address, ..fault })
    };
    // Without any byte chosen, too, all of them are looked at: SDM Vol. 2B, MASKMOVDQU leaves it to the processor.
    let none = chosen().next().is_none();
    let probed = (8..16).chain(0..8).filter(|&n: &u64| none || mask[n as usize] & 0x80 != 0);
    for n in probed {
        let old = memory.load_value(at(n), 1, &mut crate::Idle).map_err(whole)?;
        memory.store_value(at(n), 1, old, &mut crate::Idle).map_err(whole)?;
    }
    for n in chosen() {
        memory.store_value(at(n), 1, u64::from(value[n as usize]), observer).map_err(refuse)?;
    }
    next::<Mem>(memory)
}

/// PBLENDVB and its kin, by the signs of XMM0's elements.
pub(crate) fn blend_by_mask<S: Place, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let source = S::get(cpu, memory, op, observer)?;
    let chooser = cpu.vectors[0];
    let bits = W::WIDTH.bits();
    let mask = (0..128 / bits).fold(0u128, |mask, n| {
        let chosen = chooser >> (n * bits + bits - 1) & 1 != 0;
        mask | if chosen { u128::from(W::WIDTH.mask()) << (n * bits) } else { 0 }
    });
    let to = &mut cpu.vectors[usize::from(op.first)];
    *to = *to & !mask | source & mask;
    Ok(Flow::Next)
}

pub(crate) fn test_bits<S: Place, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let source = S::get(cpu, memory, op, observer)?;
    let destination = cpu.vectors[usize::from(op.first)];
    cpu.flags.set(
        when(destination & source == 0, flag::ZF) | when(!destination & source == 0, flag::CF),
    );
    Ok(Flow::Next)
}

/// PCMPESTRI, PCMPESTRM, PCMPISTRI and PCMPISTRM. Explicit lengths are in EAX and EDX.
pub(crate) fn compare_strings<const EXPLICIT: bool, const MASK: bool, S: Place, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let source = S::get(cpu, memory, op, observer)?;
    let first = cpu.vectors[usize::from(op.first)];
    let imm = op.imm as u8;
    let elements = if imm & 1 != 0 { 8 } else { 16 };
    let lengths = if EXPLICIT {
        let length = |register: usize| {
            let value = match op.wide_lengths {
                true => cpu.regs[register] as i64,
                false => i64::from(cpu.regs[register] as i32),
            };
            value.unsigned_abs().min(elements) as usize
        };
        (length(RAX), length(RDX))
    } else {
        let length = |value: u128| {
            let zero = if elements == 8 {
                words(value).iter().position(|&element| element == 0)
            } else {
                bytes(value).iter().position(|&element| element == 0)
            };
            zero.unwrap_or(elements as usize)
        };
        (length(first), length(source))
    };
    let matches = string_compare::matches(first, source, lengths, imm);
    let full = elements as usize;
    cpu.flags.set(
        when(matches != 0, flag::CF)
            | when(lengths.1 < full, flag::ZF)
            | when(lengths.0 < full, flag::SF)
            | when(matches & 1 != 0, flag::OF),
    );
    if MASK {
        cpu.vectors[0] = string_compare::mask(matches, imm);
    } else {
        cpu.regs[RCX] = string_compare::index(matches, elements as u32, imm);
    }
    Ok(Flow::Next)
}

pub(crate) fn load_control<O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let value = Mem::get::<crate::x86::integer::arithmetic::B32, O>(cpu, memory, op, observer)?;
    if value >> 16 != 0 {
        return Err(Box::new(Fault::Privileged)); // reserved bits
    }
    cpu.mxcsr = value as u32;
    Ok(Flow::Next)
}

pub(crate) fn store_control<O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let value = u64::from(cpu.mxcsr);
    Mem::put::<crate::x86::integer::arithmetic::B32, O>(cpu, memory, op, observer, value)?;
    next::<Mem>(memory)
}

/// Offsets in the area of FXSAVE, in 16-byte units from its start. Source: SDM Vol. 1, 10.5.1.
const SAVED_VECTORS: u64 = 10;
const STATE_BYTES: u64 = 512;

/// FXSAVE and FXRSTOR: the x87 unit is as a new program finds it.
pub(crate) fn state<const SAVE: bool, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let access = if SAVE { AccessKind::Write } else { AccessKind::Read };
    aligned_address(cpu, op, access)?;
    let refuse = |fault| by_segment(op, fault);
    // The last byte is looked at first.
    let last = cpu.address_beyond(op, STATE_BYTES - 1);
    let probe = memory.load_value(last, 1, &mut crate::Idle).map_err(refuse)?;
    if SAVE {
        memory.store_value(last, 1, probe, &mut crate::Idle).map_err(refuse)?;
    }
    let places: [u64; 32] = std::array::from_fn(|unit| cpu.address_beyond(op, 16 * unit as u64));
    let at = |unit: u64| places[unit as usize];
    // Those that 32-bit mode cannot name are left alone there.
    let count = cpu.arch.bank_registers().count();
    if SAVE {
        let header = of_quadwords([cpu.x87.packed(), 0]);
        let control = of_doublewords([0, 0, cpu.mxcsr, 0xffff]);
        memory.store_vector(at(0), header, observer).map_err(refuse)?;
        memory.store_vector(at(1), control, observer).map_err(refuse)?;
        for unit in 2..SAVED_VECTORS {
            memory.store_vector(at(unit), 0, observer).map_err(refuse)?;
        }
        for (number, value) in cpu.vectors.into_iter().take(count).enumerate() {
            memory
                .store_vector(at(SAVED_VECTORS + number as u64), value, observer)
                .map_err(refuse)?;
        }
        return next::<Mem>(memory);
    }
    let header = memory.load_vector(at(0), observer).map_err(refuse)?;
    let control = doublewords(memory.load_vector(at(1), observer).map_err(refuse)?)[2];
    let mut vectors = cpu.vectors;
    for (number, value) in vectors.iter_mut().take(count).enumerate() {
        *value = memory.load_vector(at(SAVED_VECTORS + number as u64), observer).map_err(refuse)?;
    }
    if control >> 16 != 0 {
        return Err(Box::new(Fault::Privileged));
    }
    (cpu.vectors, cpu.mxcsr) = (vectors, control);
    let words = crate::x86::x87::environment::Words::unpacked(quadwords(header)[0]);
    cpu.x87.set_control(words.control);
    cpu.x87.status = words.status;
    Ok(Flow::Next)
}
