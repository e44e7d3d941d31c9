//! Flags as a whole, segments, the clock, random numbers, CPUID, and what only a kernel may do.

use sotto_isa::FlagSet;
use sotto_isa::x86::flag;

use super::cpuid;
use super::flags::when;
use super::ops::{B8, B64, Mem, Operand, Size, next, of_stack, push_value};
use super::translate::Op;
use super::{ALWAYS_SET, Cpu, FS_BASE, RAX, RBP, RBX, RCX, RDX, RSP};
use crate::engine::{Flow, Result};
use crate::{Fault, Memory, Observer};

/// The flags that SAHF and LAHF move: the low byte of RFLAGS without OF, which is not in it.
const LOW_FLAGS: FlagSet = flag::STATUS.without(flag::OF);

/// CLD and STD.
pub(super) fn direction<const DOWN: bool, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    _: &Op<O>,
    _: &mut O,
) -> Result {
    cpu.control = cpu.control.without(flag::DF) | when(DOWN, flag::DF);
    Ok(Flow::Next)
}

pub(super) fn lahf<O: Observer>(cpu: &mut Cpu, _: &mut Memory, _: &Op<O>, _: &mut O) -> Result {
    // Bit 1 of the flags is always set.
    let low = u64::from((cpu.flags.value() & LOW_FLAGS).0) | 2;
    cpu.put::<B8>(super::HIGH, low);
    Ok(Flow::Next)
}

pub(super) fn sahf<O: Observer>(cpu: &mut Cpu, _: &mut Memory, _: &Op<O>, _: &mut O) -> Result {
    let high = FlagSet(cpu.get::<B8>(super::HIGH) as u32);
    let kept = cpu.flags.value() & flag::OF;
    cpu.flags.set(kept | (high & LOW_FLAGS));
    Ok(Flow::Next)
}

pub(super) fn pushf<W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    _: &Op<O>,
    observer: &mut O,
) -> Result {
    let value = u64::from((cpu.flags.value() | cpu.control).0) | ALWAYS_SET;
    push_value::<W, O>(cpu, memory, value & W::WIDTH.mask(), observer)?;
    next::<Mem>(memory)
}

/// The single-step flag is not modelled: what it would do is what the stepper does.
pub(super) fn popf<W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    _: &Op<O>,
    observer: &mut O,
) -> Result {
    let top = cpu.regs[RSP];
    let value = memory.load_value(top, W::WIDTH.bytes(), observer).map_err(of_stack)?;
    cpu.regs[RSP] = top.wrapping_add(W::WIDTH.bytes());
    let reached = FlagSet(W::WIDTH.mask() as u32);
    let flags = FlagSet(value as u32);
    cpu.flags.set(flags);
    cpu.control = (cpu.control & !reached) | (flags & flag::CONTROL & reached);
    Ok(Flow::Next)
}

pub(super) fn xlat<O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    _: &Op<O>,
    observer: &mut O,
) -> Result {
    let address = cpu.regs[RBX].wrapping_add(cpu.get::<B8>(RAX as u8));
    let value = memory.load_value(address, 1, observer)?;
    cpu.put::<B8>(RAX as u8, value);
    Ok(Flow::Next)
}

/// ENTER: the size in the immediate's low bits, the nesting level above them.
pub(super) fn enter<O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let (size, level) = (op.disp & 0xffff, op.imm & 31);
    let (old_stack, old_frame) = (cpu.regs[RSP], cpu.regs[RBP]);
    let mut build = || -> Result<()> {
        push_value::<B64, O>(cpu, memory, old_frame, observer)?;
        let frame = cpu.regs[RSP];
        for outer in 1..level {
            let link = old_frame.wrapping_sub(8 * outer);
            let value = memory.load_value(link, 8, observer).map_err(of_stack)?;
            push_value::<B64, O>(cpu, memory, value, observer)?;
        }
        if level > 0 {
            push_value::<B64, O>(cpu, memory, frame, observer)?;
        }
        let stack = cpu.regs[RSP].wrapping_sub(size);
        // The processor probes the new top for writing.
        let probe = memory.load_value(stack, 8, &mut crate::Idle).map_err(of_stack)?;
        memory.store_value(stack, 8, probe, &mut crate::Idle).map_err(of_stack)?;
        (cpu.regs[RSP], cpu.regs[RBP]) = (stack, frame);
        Ok(())
    };
    if let Err(fault) = build() {
        cpu.regs[RSP] = old_stack;
        return Err(fault);
    }
    next::<Mem>(memory)
}

/// Selectors that Linux gives a 64-bit program: its code, and its data and stack.
const CODE_SELECTOR: u64 = 0x33;
const DATA_SELECTOR: u64 = 0x2b;

/// Place of a segment register's selector in the packed selectors; `None` for CS and SS.
fn selector_shift(number: u8) -> Option<u32> {
    [Some(0), None, None, Some(16), Some(32), Some(48)][usize::from(number)]
}

pub(super) fn mov_from_segment<D: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let value = match selector_shift(op.second) {
        Some(shift) => cpu.selectors >> shift & 0xffff,
        None if op.second == 1 => CODE_SELECTOR,
        None => DATA_SELECTOR,
    };
    D::put::<W, O>(cpu, memory, op, observer, value)?;
    next::<D>(memory)
}

/// What else may be loaded: the code of 32-bit programs, and the segment that tells the processor's
/// number. The lowest two bits of a selector say with which privilege it is asked for.
const LOADABLE: [u64; 4] = [0x23, DATA_SELECTOR, CODE_SELECTOR, 0x7b];

/// MOV to a segment register: the null selector, or one of those a program may use. FS and GS lose
/// their base.
pub(super) fn mov_to_segment<S: Operand, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let selector = S::get::<super::ops::B16, O>(cpu, memory, op, observer)?;
    let number = op.first;
    if number == 1 {
        return Err(Box::new(Fault::Illegal)); // only jumps, calls and returns load CS
    }
    match selector_shift(number) {
        Some(shift) if selector < 4 || LOADABLE.contains(&(selector | 3)) => {
            cpu.selectors = cpu.selectors & !(0xffff << shift) | selector << shift;
            if number >= 4 {
                cpu.regs[FS_BASE + usize::from(number - 4)] = 0;
            }
        }
        None if selector == DATA_SELECTOR => {}
        _ => return Err(Box::new(Fault::Selector)),
    }
    Ok(Flow::Next)
}

/// RDFSBASE and RDGSBASE: the base is the register of the file that `second` names.
pub(super) fn read_base<W: Size, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let base = cpu.regs[usize::from(op.second)];
    cpu.put::<W>(op.first, base & W::WIDTH.mask());
    Ok(Flow::Next)
}

pub(super) fn write_base<W: Size, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let base = cpu.get::<W>(op.first);
    if (base as i64) << 16 >> 16 != base as i64 {
        return Err(Box::new(Fault::Selector)); // the base must be canonical
    }
    cpu.regs[usize::from(op.second)] = base;
    Ok(Flow::Next)
}

pub(super) fn cpuid<O: Observer>(cpu: &mut Cpu, _: &mut Memory, _: &Op<O>, _: &mut O) -> Result {
    let answer = cpuid::answer(cpu.regs[RAX] as u32, cpu.regs[RCX] as u32);
    for (register, value) in [RAX, RBX, RCX, RDX].into_iter().zip(answer) {
        cpu.regs[register] = u64::from(value);
    }
    Ok(Flow::Next)
}

/// RDTSC, and RDTSCP with the number of the processor, which is 0.
pub(super) fn rdtsc<const WITH_NUMBER: bool, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    _: &Op<O>,
    _: &mut O,
) -> Result {
    let clock = cpu.unseen.clock;
    cpu.regs[RAX] = clock & 0xffff_ffff;
    cpu.regs[RDX] = clock >> 32;
    if WITH_NUMBER {
        cpu.regs[RCX] = 0;
    }
    Ok(Flow::Next)
}

pub(super) fn rdpid<O: Observer>(cpu: &mut Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result {
    cpu.put::<B64>(op.first, 0);
    Ok(Flow::Next)
}

pub(super) fn rdrand<W: Size, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let value = cpu.unseen.next_random();
    cpu.put::<W>(op.first, value);
    cpu.flags.set(flag::CF);
    Ok(Flow::Next)
}

pub(super) fn privileged<O: Observer>(_: &mut Cpu, _: &mut Memory, _: &Op<O>, _: &mut O) -> Result {
    Err(Box::new(Fault::Privileged))
}

/// INT with a number: 3 is the breakpoint, 0x80 the door of 32-bit system calls; a program may use
/// no other.
pub(super) fn int<O: Observer>(cpu: &mut Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result {
    match op.imm {
        3 => {
            cpu.pc = op.next;
            Err(Box::new(Fault::Breakpoint))
        }
        4 => {
            cpu.pc = op.next;
            Err(Box::new(Fault::Overflow))
        }
        0x80 => Ok(Flow::Syscall32),
        _ => Err(Box::new(Fault::Privileged)),
    }
}
