//! Frames of handlers on 64-bit ARM. Source: Linux, `arch/arm64/kernel/signal.c`, <asm/sigcontext.h>.

use sotto_isa::arm64::storage;
use sotto_isa::{Arch, FlagSet, RegisterValue, Storage};

use crate::layout::{Layout, number_at};
use crate::signals::deliver::{Entry, Restored, SignalFrames, stack_of, stack_words};
use crate::signals::info::{Detail, INFO_BYTES, SignalInfo};
use crate::signals::{SA_RESTORER, SignalSet};
use crate::system::System;
use crate::{Errno, vdso};

/// `siginfo`, then `ucontext`.
const UCONTEXT: usize = INFO_BYTES;
const MASK: usize = UCONTEXT + 40;
/// `sigcontext` stands at a multiple of 16, behind room for a larger mask.
const CONTEXT: usize = UCONTEXT + 176;
const RESERVED: usize = CONTEXT + 288;
const FRAME_BYTES: usize = RESERVED + 4096;
const FPSIMD_MAGIC: u32 = 0x4650_8001;
const FPSIMD_BYTES: u32 = 528;

/// The frames of the machine.
pub(crate) const FRAMES: SignalFrames =
    SignalFrames { enter, leave, info_of_fault: SignalInfo::of_arm64_fault };

/// Puts the frame onto the stack and sets the registers for the handler; the address to which it returns.
fn enter(system: &mut System, entry: &Entry) -> Result<u64, Errno> {
    let restorer = match entry.action.flags & SA_RESTORER {
        0 => vdso::sigreturn(&mut system.machine, true).ok_or(Errno::EFAULT)?,
        _ => entry.action.restorer,
    };
    let record = (entry.stack & !15).wrapping_sub(16);
    let frame = record.wrapping_sub(FRAME_BYTES as u64) & !15;
    let machine = &system.machine;
    let register = |storage| machine.register(storage);
    let (base, flags, size) = stack_words(entry.alternate, register(storage::SP));
    let mut layout = Layout(entry.info.layout(8));
    layout.put(8, [0, 0, base, flags.into(), size, entry.mask.0]);
    layout.fill_to(CONTEXT);
    let address = match entry.info.detail {
        Detail::Fault { address, .. } => address,
        _ => 0,
    };
    layout.put(8, [address]);
    layout.put(8, (0..31).map(|number| register(Storage(number))));
    layout.put(8, [register(storage::SP), machine.pc(), u64::from(machine.flags().0) << 28]);
    layout.fill_to(RESERVED);
    layout.put(4, [FPSIMD_MAGIC, FPSIMD_BYTES]);
    layout.put(4, [register(storage::FPSR), register(storage::FPCR)]);
    for (id, _) in Arch::Arm64.bank_registers() {
        let value = machine.bank_register(id).low_128();
        layout.put(8, [value as u64, (value >> 64) as u64]);
    }
    layout.fill_to(FRAME_BYTES);
    let mut caller = Layout::default();
    caller.put(8, [register(storage::FP), register(storage::LR)]);
    system.write_guest(record, &caller.0)?;
    system.write_guest(frame, &layout.0)?;

    let machine = &mut system.machine;
    machine.set_register(Storage(0), entry.info.number.into());
    machine.set_register(Storage(1), frame);
    machine.set_register(Storage(2), frame + UCONTEXT as u64);
    machine.set_register(storage::FP, record);
    machine.set_register(storage::LR, restorer);
    machine.set_register(storage::SP, frame);
    machine.set_register(storage::PC, entry.action.handler);
    machine.set_register(storage::EXCLUSIVE, 0);
    Ok(restorer)
}

/// Takes registers from the frame that a handler returned from; the mask, and the alternate stack.
fn leave(system: &mut System, _: bool) -> Result<Restored, Errno> {
    let at = system.machine.register(storage::SP);
    let mut frame = vec![0; FRAME_BYTES];
    let memory = system.machine.memory_mut();
    memory.read_bytes(at, &mut frame).map_err(|_| Errno::EFAULT)?;
    let word = |offset: usize| number_at(&frame, offset, 8);
    if number_at(&frame, RESERVED, 4) != u64::from(FPSIMD_MAGIC) {
        return Err(Errno::EFAULT);
    }
    let machine = &mut system.machine;
    for number in 0..31 {
        machine.set_register(Storage(number), word(CONTEXT + 8 + 8 * usize::from(number)));
    }
    let after = CONTEXT + 8 + 8 * 31;
    machine.set_register(storage::SP, word(after));
    machine.set_register(storage::PC, word(after + 8));
    machine.set_flags(FlagSet((word(after + 16) >> 28) as u32 & 15));
    machine.set_register(storage::FPSR, number_at(&frame, RESERVED + 8, 4));
    machine.set_register(storage::FPCR, number_at(&frame, RESERVED + 12, 4));
    for (number, (id, _)) in Arch::Arm64.bank_registers().enumerate() {
        let at = RESERVED + 16 + 16 * number;
        let value = u128::from(word(at + 8)) << 64 | u128::from(word(at));
        machine.set_bank_register(id, RegisterValue::from(value));
    }
    let stack = UCONTEXT + 16;
    let alternate = stack_of(word(stack), word(stack + 8) as u32, word(stack + 16));
    Ok(Restored { mask: SignalSet(word(MASK)), alternate: Some(alternate) })
}
