//! Segment registers, and going to other segments.
//!
//! Source: SDM Vol. 3A, chapters 3 and 5; the selectors are those of Linux, <asm/segment.h>.

use sotto_isa::x86::flag;
use sotto_isa::{Arch, Width};

use crate::code::processor::{Flow, Result};
use crate::x86::integer::arithmetic::{
    B16, Mem, NO_SEGMENT, Operand, Size, above, by_segment, next, of_stack, push_value, top_value,
};
use crate::x86::op::Op;
use crate::x86::system::instructions::set_all_flags;
use crate::x86::{Cpu, FS_BASE, RSP};
use crate::{AccessKind, Fault, Memory, MemoryFault, MemoryFaultKind, Observer};

/// Selectors that Linux gives programs: 64-bit code, 32-bit code, data and stack, and the segment whose
/// limit tells the processor's number. The lowest two bits of a selector say with which privilege it
/// is asked for.
const CODE_64: u64 = 0x33;
const CODE_32: u64 = 0x23;
pub(crate) const DATA: u64 = 0x2b;
const NUMBER: u64 = 0x7b;
/// The first of the three segments that a thread may describe for itself.
const FIRST_THREAD_ENTRY: u64 = 12;

/// The selector that CS holds.
fn code_selector(cpu: &Cpu) -> u64 {
    if cpu.arch == Arch::X86_32 { CODE_32 } else { CODE_64 }
}

/// Place of a segment register's selector in the packed selectors; `None` for CS and SS.
fn selector_shift(number: u8) -> Option<u32> {
    [Some(0), None, None, Some(16), Some(32), Some(48)][usize::from(number)]
}

/// What a segment register holds.
fn selector(cpu: &Cpu, number: u8) -> u64 {
    match selector_shift(number) {
        Some(shift) => cpu.selectors >> shift & 0xffff,
        None if number == 1 => code_selector(cpu),
        None => DATA,
    }
}

pub(crate) fn mov_from_segment<D: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    D::put::<W, O>(cpu, memory, op, observer, selector(cpu, op.second))?;
    next::<D>(memory)
}

/// The base of a segment that a selector names, if a program may load it into ES, DS, FS or GS.
fn base_of(cpu: &Cpu, selector: u64) -> Option<u64> {
    if selector < 4 {
        // In 64-bit mode the null selector is as good as any.
        return Some(if cpu.arch == Arch::X86_32 { NO_SEGMENT } else { 0 });
    }
    if [CODE_32, DATA, CODE_64, NUMBER].contains(&(selector | 3)) {
        return Some(0);
    }
    let entry = (selector >> 3).checked_sub(FIRST_THREAD_ENTRY)?;
    let described = *cpu.thread_segments.get(entry as usize)?;
    // Bit 2 would choose the other table.
    (selector & 4 == 0 && described >> 32 == 1).then_some(described & 0xffff_ffff)
}

/// Loads a segment register: the null selector, or one of those a program may use.
fn load_segment(cpu: &mut Cpu, number: u8, selector: u64) -> Result<()> {
    match (selector_shift(number), base_of(cpu, selector)) {
        (Some(shift), Some(base)) => {
            cpu.selectors = cpu.selectors & !(0xffff << shift) | selector << shift;
            if number >= 4 {
                cpu.regs[FS_BASE + usize::from(number - 4)] = base;
            }
        }
        (None, _) if selector == DATA => {}
        _ => return Err(Box::new(Fault::Selector)),
    }
    Ok(())
}

pub(crate) fn mov_to_segment<S: Operand, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    if op.first == 1 {
        return Err(Box::new(Fault::Illegal)); // only jumps, calls and returns load CS
    }
    let selector = S::get::<B16, O>(cpu, memory, op, observer)?;
    load_segment(cpu, op.first, selector)?;
    Ok(Flow::Next)
}

/// PUSH of a segment register. In a slot of 32 bits the processor writes the lower half alone.
pub(crate) fn push_segment<W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let selector = selector(cpu, op.first);
    if W::WIDTH == Width::W32 {
        let top = above(cpu, 4u64.wrapping_neg());
        memory.store_value(top, 2, selector, observer).map_err(of_stack)?;
        cpu.regs[RSP] = top;
    } else {
        push_value::<W, O>(cpu, memory, selector, observer)?;
    }
    next::<Mem>(memory)
}

/// POP of a segment register.
pub(crate) fn pop_segment<W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let value = top_value::<W, O>(cpu, memory, observer)?;
    load_segment(cpu, op.first, value & 0xffff)?;
    cpu.regs[RSP] = above(cpu, W::WIDTH.bytes());
    Ok(Flow::Next)
}

/// The offset and the selector of a far pointer in memory.
fn far_pointer<W: Size, O: Observer>(
    cpu: &Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result<(u64, u64)> {
    let (address, bytes) = (cpu.effective_address(op), W::WIDTH.bytes());
    let mut load = |address, bytes| {
        let loaded = memory.load_value(address, bytes, observer);
        loaded.map_err(|fault| by_segment(op, fault))
    };
    let offset = load(address, bytes)?;
    Ok((offset, load(address.wrapping_add(bytes) & cpu.address_mask, 2)?))
}

/// LDS and its kin: the segment register is the one that `third` numbers.
pub(crate) fn load_far<W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let (offset, selector) = far_pointer::<W, O>(cpu, memory, op, observer)?;
    load_segment(cpu, op.third, selector)?;
    cpu.put::<W>(op.first, offset);
    Ok(Flow::Next)
}

/// What sends a program into the other mode.
pub(crate) fn into_other_mode<O: Observer>(
    _: &mut Cpu,
    _: &mut Memory,
    _: &Op<O>,
    _: &mut O,
) -> Result {
    Err(Box::new(Fault::ModeChange))
}

/// Whether code may go to this selector: it must name the segment in which it runs. A return asks for
/// the program's own privilege, a jump or a call for any.
fn check_code(cpu: &Cpu, selector: u64, returning: bool) -> Result<()> {
    let asked = if returning { selector } else { selector | 3 };
    match asked {
        _ if asked == code_selector(cpu) => Ok(()),
        CODE_32 | CODE_64 => Err(Box::new(Fault::ModeChange)),
        _ => Err(Box::new(Fault::Selector)),
    }
}

/// Refuses to go to an address that is not canonical.
fn check_target(offset: u64) -> Result<()> {
    if (offset as i64) << 16 >> 16 == offset as i64 {
        return Ok(());
    }
    let (access, kind) = (AccessKind::Execute, MemoryFaultKind::Unmapped);
    Err(MemoryFault { address: offset, access, kind }.into())
}

/// JMP and CALL to another segment, which stands in the instruction or in memory.
pub(crate) fn far_transfer<const CALL: bool, const MEMORY: bool, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let (offset, selector) = match MEMORY {
        true => far_pointer::<W, O>(cpu, memory, op, observer)?,
        // The selector stands where a displacement would.
        false => (op.imm & W::WIDTH.mask(), op.disp),
    };
    check_code(cpu, selector, false)?;
    let old = cpu.regs[RSP];
    let mut leave = || -> Result<()> {
        if CALL {
            push_value::<W, O>(cpu, memory, code_selector(cpu), observer)?;
            push_value::<W, O>(cpu, memory, op.next, observer)?;
        }
        check_target(offset)
    };
    if let Err(fault) = leave() {
        // What was pushed stays in memory.
        cpu.regs[RSP] = old;
        return Err(fault);
    }
    cpu.pc = offset;
    Ok(Flow::Jump)
}

/// RET from another segment, and the bytes that it lets go.
pub(crate) fn far_return<W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let bytes = W::WIDTH.bytes();
    let offset = top_value::<W, O>(cpu, memory, observer)?;
    let slot = memory.load_value(above(cpu, bytes), bytes, observer).map_err(of_stack)?;
    check_code(cpu, slot & 0xffff, true)?;
    check_target(offset)?;
    cpu.pc = offset;
    cpu.regs[RSP] = above(cpu, (2 * bytes).wrapping_add(op.imm));
    Ok(Flow::Jump)
}

/// IRET: return address, CS and flags; in 64-bit mode the stack too.
pub(crate) fn interrupt_return<W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    _: &Op<O>,
    observer: &mut O,
) -> Result {
    // The return from a nested task, which no program has.
    if cpu.control.contains(flag::NT) {
        return Err(Box::new(Fault::Selector));
    }
    let bytes = W::WIDTH.bytes();
    let with_stack = cpu.arch != Arch::X86_32;
    let mut slots = [0; 5];
    let count = if with_stack { 5 } else { 3 };
    for (n, slot) in slots[..count].iter_mut().enumerate() {
        let address = above(cpu, n as u64 * bytes);
        *slot = memory.load_value(address, bytes, observer).map_err(of_stack)?;
    }
    let [offset, code, flags, stack, stack_segment] = slots;
    check_code(cpu, code & 0xffff, true)?;
    check_target(offset)?;
    if with_stack && stack_segment & 0xffff != DATA {
        return Err(Box::new(Fault::Selector));
    }
    cpu.regs[RSP] = if with_stack { stack } else { above(cpu, 3 * bytes) };
    set_all_flags::<W>(cpu, flags);
    cpu.pc = offset;
    Ok(Flow::Jump)
}

/// A write through CS, which no program may do.
pub(crate) fn write_to_code<O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let (address, access) = (cpu.effective_address(op), AccessKind::Write);
    Err(MemoryFault { address, access, kind: MemoryFaultKind::Segment }.into())
}

/// ARPL; memory is written only if there is something to raise.
pub(crate) fn adjust_privilege<D: Operand, const CODE: bool, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let a = D::get::<B16, O>(cpu, memory, op, observer)?;
    let wanted = cpu.get::<B16>(op.second) & 3;
    let lower = a & 3 < wanted;
    if lower && CODE {
        return write_to_code(cpu, memory, op, observer);
    }
    if lower {
        D::put::<B16, O>(cpu, memory, op, observer, a & !3 | wanted)?;
    }
    let flags = cpu.flags.value().without(flag::ZF);
    cpu.flags.set(flags | crate::x86::flags::when(lower, flag::ZF));
    next::<D>(memory)
}

/// The access rights and the limit of a segment that a selector names, if a program may ask for them. The
/// rights stand as they do in the upper half of a descriptor. Source: SDM Vol. 3A, 3.4.5.
fn described(cpu: &Cpu, selector: u64) -> Option<(u64, u64)> {
    const ALL: u64 = 0xffff_ffff;
    match selector | 3 {
        _ if selector < 4 => None,
        CODE_32 => Some((0xcf_fb00, ALL)),
        DATA => Some((0xcf_f300, ALL)),
        CODE_64 => Some((0xaf_fb00, ALL)),
        // Read-only, expanding down; its limit is the number of the processor.
        NUMBER => Some((0x40_f500, 0)),
        _ => base_of(cpu, selector).map(|_| (0xcf_f300, ALL)),
    }
}

/// Sets ZF alone.
fn tell(cpu: &mut Cpu, found: bool) {
    let flags = cpu.flags.value().without(flag::ZF);
    cpu.flags.set(flags | crate::x86::flags::when(found, flag::ZF));
}

/// LAR, and LSL if `LIMIT`.
pub(crate) fn load_rights<const LIMIT: bool, S: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let selector = S::get::<B16, O>(cpu, memory, op, observer)?;
    let segment = described(cpu, selector);
    if let Some((rights, limit)) = segment {
        cpu.put::<W>(op.first, if LIMIT { limit } else { rights });
    }
    tell(cpu, segment.is_some());
    Ok(Flow::Next)
}

/// VERR, and VERW if `WRITE`.
pub(crate) fn verify<const WRITE: bool, S: Operand, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let selector = S::get::<B16, O>(cpu, memory, op, observer)?;
    // Of data, bit 1 of the type says that it may be written; the code of programs may be read.
    let writable = |rights: u64| rights >> 8 & 0xa == 2;
    let may = described(cpu, selector).is_some_and(|(rights, _)| !WRITE || writable(rights));
    tell(cpu, may);
    Ok(Flow::Next)
}
