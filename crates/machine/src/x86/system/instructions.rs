//! Flags as a whole, segments, the clock, random numbers, CPUID, and what only a kernel may do.

use sotto_isa::FlagSet;
use sotto_isa::x86::flag;

use crate::code::processor::{Flow, Result};
use crate::x86::flags::when;
use crate::x86::integer::arithmetic::{
    B8, B64, Mem, Operand, Size, above, by_segment, next, of_stack, push_value, top_value,
};
use crate::x86::op::Op;
use crate::x86::system::cpuid;
use crate::x86::{ALWAYS_SET, Cpu, RAX, RBP, RBX, RCX, RDX, RSP};
use crate::{Fault, Memory, MemoryFault, Observer};

/// The flags that SAHF and LAHF move: the low byte of RFLAGS without OF, which is not in it.
const LOW_FLAGS: FlagSet = flag::STATUS.without(flag::OF);

/// CLD and STD.
pub(crate) fn direction<const DOWN: bool, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    _: &Op<O>,
    _: &mut O,
) -> Result {
    cpu.control = cpu.control.without(flag::DF) | when(DOWN, flag::DF);
    Ok(Flow::Next)
}

pub(crate) fn lahf<O: Observer>(cpu: &mut Cpu, _: &mut Memory, _: &Op<O>, _: &mut O) -> Result {
    // Bit 1 of the flags is always set.
    let low = u64::from((cpu.flags.value() & LOW_FLAGS).0) | 2;
    cpu.put::<B8>(crate::x86::HIGH, low);
    Ok(Flow::Next)
}

pub(crate) fn sahf<O: Observer>(cpu: &mut Cpu, _: &mut Memory, _: &Op<O>, _: &mut O) -> Result {
    let high = FlagSet(cpu.get::<B8>(crate::x86::HIGH) as u32);
    let kept = cpu.flags.value() & flag::OF;
    cpu.flags.set(kept | (high & LOW_FLAGS));
    Ok(Flow::Next)
}

pub(crate) fn pushf<W: Size, O: Observer>(
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
pub(crate) fn popf<W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    _: &Op<O>,
    observer: &mut O,
) -> Result {
    let value = top_value::<W, O>(cpu, memory, observer)?;
    cpu.regs[RSP] = above(cpu, W::WIDTH.bytes());
    set_all_flags::<W>(cpu, value);
    Ok(Flow::Next)
}

/// Every flag that a program may change, by the value of a slot.
pub(crate) fn set_all_flags<W: Size>(cpu: &mut Cpu, value: u64) {
    let reached = FlagSet(W::WIDTH.mask() as u32);
    let flags = FlagSet(value as u32);
    cpu.flags.set(flags);
    cpu.control = (cpu.control & !reached) | (flags & flag::CONTROL & reached);
}

pub(crate) fn xlat<O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let offset = cpu.regs[RBX].wrapping_add(cpu.get::<B8>(RAX as u8)) & u64::MAX >> op.unused_bits;
    let address = cpu.in_segment(op, offset);
    let value = memory.load_value(address, 1, observer).map_err(|f| by_segment(op, f))?;
    cpu.put::<B8>(RAX as u8, value);
    Ok(Flow::Next)
}

/// ENTER: the size in the immediate's low bits, the nesting level above them.
pub(crate) fn enter<W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let (size, level) = (op.disp & 0xffff, op.imm & 31);
    let (old_stack, old_frame) = (cpu.regs[RSP], cpu.regs[RBP]);
    let mut build = || -> Result<()> {
        let bytes = W::WIDTH.bytes();
        push_value::<W, O>(cpu, memory, old_frame, observer)?;
        let frame = cpu.regs[RSP];
        for outer in 1..level {
            let link = old_frame.wrapping_sub(bytes * outer) & cpu.address_mask;
            let value = memory.load_value(link, bytes, observer).map_err(of_stack)?;
            push_value::<W, O>(cpu, memory, value, observer)?;
        }
        if level > 0 {
            push_value::<W, O>(cpu, memory, frame, observer)?;
        }
        let stack = cpu.regs[RSP].wrapping_sub(size) & cpu.address_mask;
        // The processor probes the new top for writing.
        let probe = memory.load_value(stack, bytes, &mut crate::Idle).map_err(of_stack)?;
        memory.store_value(stack, bytes, probe, &mut crate::Idle).map_err(of_stack)?;
        cpu.regs[RSP] = stack;
        cpu.put::<W>(RBP as u8, frame);
        Ok(())
    };
    if let Err(fault) = build() {
        cpu.regs[RSP] = old_stack;
        return Err(fault);
    }
    next::<Mem>(memory)
}

/// RDFSBASE and RDGSBASE: the base is the register of the file that `second` names.
pub(crate) fn read_base<W: Size, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let base = cpu.regs[usize::from(op.second)];
    cpu.put::<W>(op.first, base & W::WIDTH.mask());
    Ok(Flow::Next)
}

pub(crate) fn write_base<W: Size, O: Observer>(
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

pub(crate) fn cpuid<O: Observer>(cpu: &mut Cpu, _: &mut Memory, _: &Op<O>, _: &mut O) -> Result {
    let answer = cpuid::answer(cpu.arch, cpu.regs[RAX] as u32, cpu.regs[RCX] as u32);
    for (register, value) in [RAX, RBX, RCX, RDX].into_iter().zip(answer) {
        cpu.regs[register] = u64::from(value);
    }
    Ok(Flow::Next)
}

/// RDTSC, and RDTSCP with the number of the processor, which is 0.
pub(crate) fn rdtsc<const WITH_NUMBER: bool, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    _: &Op<O>,
    _: &mut O,
) -> Result {
    let clock = cpu.time_and_entropy.now();
    cpu.regs[RAX] = clock & 0xffff_ffff;
    cpu.regs[RDX] = clock >> 32;
    if WITH_NUMBER {
        cpu.regs[RCX] = 0;
    }
    Ok(Flow::Next)
}

pub(crate) fn rdpid<O: Observer>(cpu: &mut Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result {
    cpu.put::<B64>(op.first, 0);
    Ok(Flow::Next)
}

pub(crate) fn rdrand<W: Size, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let value = cpu.time_and_entropy.next_random();
    cpu.put::<W>(op.first, value);
    cpu.flags.set(flag::CF);
    Ok(Flow::Next)
}

/// CLFLUSH: there are no caches, but the address must be one.
pub(crate) fn flush_line<O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    Mem::get::<B8, O>(cpu, memory, op, observer)?;
    Ok(Flow::Next)
}

/// What Linux answers in the place of a processor that refuses: the selector of the task, CR0, and the
/// addresses of tables without entries. Source: Linux,
/// arch/x86/kernel/umip.c.
pub(crate) const TASK: u64 = 0x40;
pub(crate) const MACHINE_STATUS: u64 = 0x8005_0033;
pub(crate) const GLOBAL_TABLE: u64 = 0xffff_ffff_fffe_0000;
pub(crate) const INTERRUPT_TABLE: u64 = 0xffff_ffff_ffff_0000;

/// SLDT, STR and SMSW.
pub(crate) fn word<D: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    D::put::<W, O>(cpu, memory, op, observer, op.imm)?;
    next::<D>(memory)
}

/// SGDT and SIDT: a limit of two bytes, 0, and the address of the table.
pub(crate) fn table<W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let bytes = W::WIDTH.bytes();
    let (start, base) = (cpu.address_beyond(op, 0), cpu.address_beyond(op, 2));
    // All or nothing: the last byte shows whether there is room. The kernel tells of the first in any case.
    let last = cpu.address_beyond(op, 1 + bytes);
    let refuse = |fault| by_segment(op, MemoryFault { address: start, ..fault });
    let probe = memory.load_value(last, 1, &mut crate::Idle).map_err(refuse)?;
    memory.store_value(last, 1, probe, &mut crate::Idle).map_err(refuse)?;
    memory.store_value(start, 2, 0, observer).map_err(refuse)?;
    memory.store_value(base, bytes, op.imm & W::WIDTH.mask(), observer).map_err(refuse)?;
    next::<Mem>(memory)
}

pub(crate) fn privileged<O: Observer>(_: &mut Cpu, _: &mut Memory, _: &Op<O>, _: &mut O) -> Result {
    Err(Box::new(Fault::Privileged))
}

/// INT with a number: 3 is the breakpoint, 0x80 the door of 32-bit system calls; a program may use
/// no other.
pub(crate) fn int<O: Observer>(cpu: &mut Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result {
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
