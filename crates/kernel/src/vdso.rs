//! The page of the kernel's own code in a program: what SYSENTER comes back to, and what handlers of signals return to
//! that bring no restorer along.
//!
//! SYSENTER keeps nothing of where it was called. So the kernel takes the stack pointer from EBP, where a
//! program must have pushed ECX, EDX and EBP below a return address, and goes on in code of its own that pops
//! them and returns. Source: vdso(7); Linux, `arch/x86/entry/vdso/vdso32/system_call.S`, `sigreturn.S`.

use sotto_isa::x86::SYSENTER_STACK;
use sotto_isa::{Arch, Width};
use sotto_machine::{Machine, Permissions, RegionKind};

use crate::target::{Vdso, target};

/// The sixth argument of a call by SYSENTER, which lies on top of the stack; `None` if that cannot be read.
pub(crate) fn sixth_argument(machine: &mut Machine) -> Option<u64> {
    let top = machine.register(SYSENTER_STACK);
    let read = machine.memory_mut().read::<4>(top);
    read.ok().map(|bytes| u64::from(u32::from_le_bytes(bytes)))
}

/// Sends the program on from a call by SYSENTER. Without room for the page it stays behind the instruction.
pub(crate) fn go_on(machine: &mut Machine) {
    let arch = Arch::X86_32;
    let Some(page) = page(machine) else { return };
    let stack = machine.register(SYSENTER_STACK) & Width::W32.mask();
    machine.set_register(arch.stack_pointer(), stack);
    machine.set_register(arch.pc(), page);
}

/// What a handler without a restorer returns to; `None` if there is no room for the page.
pub(crate) fn sigreturn(machine: &mut Machine, with_info: bool) -> Option<u64> {
    let offset = target(machine.arch()).vdso.sigreturn[usize::from(with_info)];
    Some(page(machine)? + offset)
}

/// The page, mapped if it is not yet.
fn page(machine: &mut Machine) -> Option<u64> {
    let Vdso { place, code, .. } = target(machine.arch()).vdso;
    let memory = machine.memory_mut();
    let is_there = |region: &&sotto_machine::Region| region.kind == RegionKind::Vdso;
    if let Some(region) = memory.regions().iter().find(is_there) {
        return Some(region.start);
    }
    let bytes = sotto_machine::PAGE_BYTES;
    let at = memory.gap_below(place + bytes, bytes, bytes)?;
    let permissions = Permissions { read: true, write: false, execute: true };
    memory.map(RegionKind::Vdso, at, code.len() as u64, permissions).ok()?;
    memory.load(at, code).ok()?;
    Some(at)
}
