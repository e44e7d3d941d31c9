//! Frames of handlers on 32-bit x86: those of `sigaction` with SA_SIGINFO, and those without.
//!
//! Source: Linux, `arch/x86/include/asm/sigframe.h`, `arch/x86/kernel/signal_32.c`, <asm/sigcontext32.h>.

use sotto_isa::x86::{flag, storage};
use sotto_isa::{Arch, FlagSet, Storage};

use crate::layout::{Layout, number_at};
use crate::signals::deliver::{Entry, Restored, SignalFrames, stack_of, stack_words};
use crate::signals::info::{Detail, INFO_BYTES, SignalInfo};
use crate::signals::{SA_RESTORER, SA_SIGINFO, SignalSet, x86_state};
use crate::system::System;
use crate::{Errno, vdso};

/// The state of the x87 unit as FSAVE lays it out, which stands before that of FXSAVE.
const FSAVE_BYTES: usize = 112;
/// Its last word says that the other follows.
const X86_FXSR_MAGIC: u64 = 0;
const CONTEXT_BYTES: usize = 88;
/// Selectors of a program.
const CODE_SEGMENT: u32 = 0x23;
const STACK_SEGMENT: u32 = 0x2b;
const ALWAYS_SET: u32 = 0x202;
/// The registers of the context, in its order, behind the selectors.
const REGISTERS: [Storage; 8] = [
    storage::RDI,
    storage::RSI,
    storage::RBP,
    storage::RSP,
    storage::RBX,
    storage::RDX,
    storage::RCX,
    storage::RAX,
];

/// `sigcontext`
fn context(system: &System, entry: &Entry, state_at: u64) -> Vec<u8> {
    let machine = &system.machine;
    let register = |storage| machine.register(storage) as u32;
    let selectors = machine.register(storage::SELECTORS);
    let selector = |number: u32| (selectors >> (16 * number)) as u32 & 0xffff;
    let (trap, error, address) = match entry.info.detail {
        Detail::Fault { address, trap, error, is_page_fault } => {
            (trap as u32, error as u32, if is_page_fault { address as u32 } else { 0 })
        }
        _ => (0, 0, 0),
    };
    let mut layout = Layout::default();
    // GS, FS, ES, DS.
    layout.put(4, [selector(3), selector(2), selector(0), selector(1)]);
    layout.put(4, REGISTERS.map(register));
    layout.put(4, [trap, error, register(storage::RIP), CODE_SEGMENT]);
    layout.put(4, [machine.flags().0 | ALWAYS_SET, register(storage::RSP), STACK_SEGMENT]);
    layout.put(4, [state_at as u32, entry.mask.0 as u32, address]);
    layout.0
}

/// The frames of the machine.
pub(crate) const FRAMES: SignalFrames =
    SignalFrames { enter, leave, info_of_fault: SignalInfo::of_x86_fault };

/// Puts the frame onto the stack and sets the registers for the handler; the address to which it returns.
fn enter(system: &mut System, entry: &Entry) -> Result<u64, Errno> {
    let arch = Arch::X86_32;
    let with_info = entry.action.flags & SA_SIGINFO != 0;
    let words = system.machine.register(storage::X87_WORDS);
    let mut state = Layout::default();
    state.put(4, [words & 0xffff | 0xffff_0000, words >> 16 & 0xffff | 0xffff_0000, 0xffff_ffff]);
    state.fill_to(FSAVE_BYTES - 4);
    state.put(2, [words >> 16 & 0xffff, X86_FXSR_MAGIC]);
    state.0.extend(x86_state::saved(&system.machine, arch));
    let state_at = entry.stack.wrapping_sub(state.0.len() as u64) & 0xffff_ffc0;

    let restorer = match entry.action.flags & SA_RESTORER {
        0 => vdso::sigreturn(&mut system.machine, with_info).ok_or(Errno::EFAULT)?,
        _ => entry.action.restorer & 0xffff_ffff,
    };
    let context = context(system, entry, state_at);
    let mut layout = Layout::default();
    layout.put(4, [restorer, entry.info.number.into()]);
    let frame_at = |bytes: u64| (state_at.wrapping_sub(bytes).wrapping_add(4) & 0xffff_fff0) - 4;
    let (frame, info_at, context_at);
    if with_info {
        let stack_pointer = system.machine.register(storage::RSP);
        let (base, flags, size) = stack_words(entry.alternate, stack_pointer);
        let bytes = 16 + INFO_BYTES + 20 + CONTEXT_BYTES + 8 + 8;
        frame = frame_at(bytes as u64);
        (info_at, context_at) = (frame + 16, frame + 16 + INFO_BYTES as u64);
        layout.put(4, [info_at, context_at]);
        layout.0.extend(entry.info.layout(4));
        layout.put(4, [0u64, 0, base, flags.into(), size]);
        layout.0.extend(&context);
        layout.put(8, [entry.mask.0]);
        layout.fill_to(bytes);
    } else {
        let bytes = 8 + CONTEXT_BYTES + FSAVE_BYTES + x86_state::FXSAVE_BYTES + 4 + 8;
        frame = frame_at(bytes as u64);
        (info_at, context_at) = (0, 0);
        layout.0.extend(&context);
        // The room for the state is not used; the upper half of the mask stands behind it.
        layout.fill_to(bytes - 12);
        layout.put(4, [entry.mask.0 >> 32]);
        layout.fill_to(bytes);
    }
    system.write_guest(state_at, &state.0)?;
    system.write_guest(frame, &layout.0)?;

    let machine = &mut system.machine;
    machine.set_register(storage::RSP, frame);
    machine.set_register(storage::RIP, entry.action.handler & 0xffff_ffff);
    machine.set_register(storage::RAX, entry.info.number.into());
    machine.set_register(storage::RDX, info_at);
    machine.set_register(storage::RCX, context_at);
    machine.set_flags(machine.flags() & !flag::DF);
    Ok(restorer)
}

/// Takes registers from the frame that a handler returned from: by `sigreturn`, in front of which the number of the signal
/// was popped too, or by `rt_sigreturn`. The mask, and the alternate stack where the frame has it.
fn leave(system: &mut System, is_rt: bool) -> Result<Restored, Errno> {
    let at = system.machine.register(storage::RSP);
    let mut bytes = vec![0; 4096];
    let needed = match is_rt {
        true => 12 + INFO_BYTES + 20 + CONTEXT_BYTES + 8,
        false => CONTEXT_BYTES + FSAVE_BYTES + x86_state::FXSAVE_BYTES + 4,
    };
    bytes.truncate(needed);
    let memory = system.machine.memory_mut();
    memory.read_bytes(at, &mut bytes).map_err(|_| Errno::EFAULT)?;
    let word = |offset: usize| number_at(&bytes, offset, 4);
    let context = if is_rt { 12 + INFO_BYTES + 20 } else { 0 };
    let field = |number: usize| word(context + 4 * number);
    let state_at = field(19);
    if state_at != 0 {
        let mut state = [0; x86_state::FXSAVE_BYTES];
        let from = state_at + FSAVE_BYTES as u64;
        memory.read_bytes(from, &mut state).map_err(|_| Errno::EFAULT)?;
        x86_state::restore(&mut system.machine, Arch::X86_32, &state);
    }
    let machine = &mut system.machine;
    for (place, storage) in REGISTERS.into_iter().enumerate() {
        machine.set_register(storage, field(4 + place));
    }
    machine.set_register(storage::RIP, field(14));
    machine.set_flags(FlagSet(field(16) as u32) & (flag::STATUS | flag::DF));
    if !is_rt {
        let high = word(needed - 4);
        let mask = SignalSet(field(20) | high << 32);
        return Ok(Restored { mask, alternate: None });
    }
    let stack = 12 + INFO_BYTES + 8;
    let alternate = stack_of(word(stack), word(stack + 4) as u32, word(stack + 8));
    let mask = number_at(&bytes, context + CONTEXT_BYTES, 8);
    Ok(Restored { mask: SignalSet(mask), alternate: Some(alternate) })
}
