//! The floating-point state of x86 in the frames of handlers, as FXSAVE lays it out. Source: SDM Vol. 1, 10.5.1.

use sotto_isa::x86::storage;
use sotto_isa::{Arch, RegisterValue};
use sotto_machine::Machine;

use crate::layout::{Layout, number_at};

/// Bytes of the image.
pub(super) const FXSAVE_BYTES: usize = 512;
const XMM_OFFSET: usize = 160;
/// Bits of MXCSR that may be set.
const MXCSR_MASK: u64 = 0xffff;

/// The state as FXSAVE stores it.
pub(super) fn saved(machine: &Machine, arch: Arch) -> Vec<u8> {
    let words = machine.register(storage::X87_WORDS);
    let mut layout = Layout::default();
    layout.put(2, [words & 0xffff, words >> 16 & 0xffff]);
    layout.fill_to(24);
    layout.put(4, [machine.register(storage::MXCSR), MXCSR_MASK]);
    layout.fill_to(XMM_OFFSET);
    for (id, _) in arch.bank_registers() {
        let value = machine.bank_register(id).low_128();
        layout.put(8, [value as u64, (value >> 64) as u64]);
    }
    layout.fill_to(FXSAVE_BYTES);
    layout.0
}

/// Takes the state from such an image.
pub(super) fn restore(machine: &mut Machine, arch: Arch, image: &[u8]) {
    let words = number_at(image, 0, 2) | number_at(image, 2, 2) << 16;
    machine.set_register(storage::X87_WORDS, words);
    machine.set_register(storage::MXCSR, number_at(image, 24, 4) & MXCSR_MASK);
    for (number, (id, _)) in arch.bank_registers().enumerate() {
        let at = XMM_OFFSET + 16 * number;
        let (low, high) = (number_at(image, at, 8), number_at(image, at + 8, 8));
        let value = u128::from(high) << 64 | u128::from(low);
        machine.set_bank_register(id, RegisterValue::from(value));
    }
}
