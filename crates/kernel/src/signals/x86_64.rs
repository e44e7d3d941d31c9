//! Frames of handlers on x86-64. Source: Linux, `arch/x86/include/asm/sigframe.h`, <asm/sigcontext.h>; psABI x86-64, 3.2.2.

use sotto_isa::x86::{flag, storage};
use sotto_isa::{Arch, FlagSet, Storage};

use crate::Errno;
use crate::layout::{Layout, number_at};
use crate::signals::deliver::{Entry, Restored, SignalFrames, stack_of, stack_words};
use crate::signals::info::{Detail, SignalInfo};
use crate::signals::{SA_RESTORER, SignalSet, x86_state};
use crate::system::System;

/// Below the stack pointer lie bytes that belong to the routine. Source: psABI x86-64, 3.2.2 "The Stack Frame".
const RED_ZONE: u64 = 128;
/// The return address, `ucontext`, `siginfo`.
const FRAME_BYTES: u64 = 440;
const UCONTEXT: u64 = 8;
const SIGCONTEXT: usize = 40;
const MASK: usize = SIGCONTEXT + 256;
const UCONTEXT_BYTES: usize = MASK + 8;
const INFO: u64 = UCONTEXT + UCONTEXT_BYTES as u64;
/// UC_SIGCONTEXT_SS and UC_STRICT_RESTORE_SS: the frame holds SS.
const UC_FLAGS: u64 = 6;
/// The registers of the context, in its order, without the instruction pointer.
const REGISTERS: [u8; 16] = [8, 9, 10, 11, 12, 13, 14, 15, 7, 6, 5, 3, 2, 0, 1, 4];
/// CS and SS of a program.
const CODE_SEGMENT: u64 = 0x33;
const STACK_SEGMENT: u64 = 0x2b;
/// Bits of the flags that a program sees and cannot change.
const ALWAYS_SET: u64 = 0x202;

/// The frames of the machine.
pub(crate) const FRAMES: SignalFrames =
    SignalFrames { enter, leave, info_of_fault: SignalInfo::of_x86_fault };

/// Puts the frame onto the stack and sets the registers for the handler; the address to which it returns.
fn enter(system: &mut System, entry: &Entry) -> Result<u64, Errno> {
    // A handler without a restorer has nothing to return to.
    if entry.action.flags & SA_RESTORER == 0 {
        return Err(Errno::EFAULT);
    }
    let arch = Arch::X86_64;
    let red_zone = if entry.is_own_stack { RED_ZONE } else { 0 };
    let state = x86_state::saved(&system.machine, arch);
    let state_at = entry.stack.wrapping_sub(red_zone + state.len() as u64) & !63;
    let frame = (state_at.wrapping_sub(FRAME_BYTES) & !15).wrapping_sub(8);

    let machine = &system.machine;
    let stack_pointer = machine.register(storage::RSP);
    let (base, flags, size) = stack_words(entry.alternate, stack_pointer);
    let mut layout = Layout::default();
    layout.put(8, [entry.action.restorer, UC_FLAGS, 0]);
    layout.put(8, [base, flags.into(), size]);
    layout.put(8, REGISTERS.map(|number| machine.register(Storage(number))));
    layout.put(8, [machine.pc(), u64::from(machine.flags().0) | ALWAYS_SET]);
    layout.put(8, [CODE_SEGMENT | STACK_SEGMENT << 48]);
    let (trap, error, address) = match entry.info.detail {
        Detail::Fault { address, trap, error, is_page_fault } => {
            (trap, error, if is_page_fault { address } else { 0 })
        }
        _ => (0, 0, 0),
    };
    layout.put(8, [error, trap, entry.mask.0, address, state_at]);
    layout.fill_to(UCONTEXT as usize + MASK);
    layout.put(8, [entry.mask.0]);
    layout.0.extend(entry.info.layout(8));
    system.write_guest(state_at, &state)?;
    system.write_guest(frame, &layout.0)?;

    let machine = &mut system.machine;
    machine.set_register(storage::RSP, frame);
    machine.set_register(storage::RIP, entry.action.handler);
    machine.set_register(storage::RDI, entry.info.number.into());
    machine.set_register(storage::RSI, frame + INFO);
    machine.set_register(storage::RDX, frame + UCONTEXT);
    machine.set_register(storage::RAX, 0);
    machine.set_flags(machine.flags() & !flag::DF);
    Ok(entry.action.restorer)
}

/// Takes registers from the frame that a handler returned from; the mask, and the alternate stack.
fn leave(system: &mut System, _: bool) -> Result<Restored, Errno> {
    // The return address was popped.
    let at = system.machine.register(storage::RSP);
    let mut context = [0; UCONTEXT_BYTES];
    let memory = system.machine.memory_mut();
    memory.read_bytes(at, &mut context).map_err(|_| Errno::EFAULT)?;
    let word = |offset: usize| number_at(&context, offset, 8);
    let register = |number: usize| word(SIGCONTEXT + 8 * number);
    let state_at = register(23);
    let mut state = [0; x86_state::FXSAVE_BYTES];
    if state_at != 0 {
        memory.read_bytes(state_at, &mut state).map_err(|_| Errno::EFAULT)?;
        x86_state::restore(&mut system.machine, Arch::X86_64, &state);
    }
    let machine = &mut system.machine;
    for (place, number) in REGISTERS.into_iter().enumerate() {
        machine.set_register(Storage(number), register(place));
    }
    machine.set_register(storage::RIP, register(16));
    machine.set_flags(FlagSet(register(17) as u32) & (flag::STATUS | flag::DF));
    let alternate = stack_of(word(16), word(24) as u32, word(32));
    Ok(Restored { mask: SignalSet(word(MASK)), alternate: Some(alternate) })
}
