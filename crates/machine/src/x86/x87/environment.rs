//! The x87 unit as far as it is modelled: its control and status words, which C libraries read and write
//! also where they compute with vectors. Its stack is empty, and no exception is pending.
//!
//! Source: SDM Vol. 1, 8.1.

use sotto_isa::x86::X87;

use crate::code::processor::{Flow, Result};
use crate::x86::Cpu;
use crate::x86::integer::arithmetic::{B16, Mem, Operand, next};
use crate::x86::op::Op;
use crate::{Memory, Observer};

/// Bits of the control word that a program can change, the one that is always set, and those that
/// mask the exceptions. Source: SDM Vol. 1, 8.1.5.
const CHANGEABLE: u16 = 0x1f3f;
const ALWAYS_SET: u16 = 0x40;
const MASKS: u16 = 0x3f;
/// Bits of the status word that tell of exceptions. Source: SDM Vol. 1, 8.1.3.
const EXCEPTIONS: u16 = 0x80ff;

/// The words of the x87 unit.
#[derive(Copy, Clone)]
pub(crate) struct Words {
    pub control: u16,
    pub status: u16,
}

impl Default for Words {
    /// As FNINIT and a new program have them.
    fn default() -> Words {
        Words { control: 0x37f, status: 0 }
    }
}

impl Words {
    pub fn set_control(&mut self, value: u16) {
        self.control = value & CHANGEABLE | ALWAYS_SET;
    }

    /// Both words as the value of their storage.
    pub fn packed(self) -> u64 {
        u64::from(self.control) | u64::from(self.status) << 16
    }

    pub fn unpacked(value: u64) -> Words {
        Words { control: value as u16, status: (value >> 16) as u16 }
    }
}

/// The first words of the environment in memory: control, status, tags; then four of the last
/// instruction, of which there is none. The upper halves are ones. Source: SDM Vol. 1, figure 8-9.
const ENVIRONMENT_WORDS: u64 = 7;
const NO_TAGS: u16 = 0xffff;

pub(crate) fn x87<O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let at = |cpu: &Cpu, word: u64| cpu.address_beyond(op, 4 * word);
    let last_byte = |cpu: &Cpu| cpu.address_beyond(op, 4 * ENVIRONMENT_WORDS - 1);
    match op.x87 {
        X87::LoadControl => {
            let value = Mem::get::<B16, O>(cpu, memory, op, observer)?;
            cpu.x87.set_control(value as u16);
            return Ok(Flow::Next);
        }
        X87::StoreControl => {
            let value = u64::from(cpu.x87.control);
            Mem::put::<B16, O>(cpu, memory, op, observer, value)?;
        }
        X87::StoreStatus => {
            let value = u64::from(cpu.x87.status);
            Mem::put::<B16, O>(cpu, memory, op, observer, value)?;
        }
        X87::StatusToAx => {
            cpu.put::<B16>(crate::x86::RAX as u8, u64::from(cpu.x87.status));
            return Ok(Flow::Next);
        }
        X87::StoreEnvironment => {
            let words = [cpu.x87.control, cpu.x87.status, NO_TAGS, 0, 0, 0, 0];
            // All or nothing: the first word and the last byte show whether there is room.
            for (place, bytes) in [(at(cpu, 0), 4), (last_byte(cpu), 1)] {
                let old = memory.load_value(place, bytes, &mut crate::Idle)?;
                memory.store_value(place, bytes, old, &mut crate::Idle)?;
            }
            for (n, word) in (0..).zip(words) {
                let upper = if (3..=5).contains(&n) { 0 } else { 0xffff_0000 };
                memory.store_value(at(cpu, n), 4, u64::from(word) | upper, observer)?;
            }
            cpu.x87.control |= MASKS;
        }
        X87::LoadEnvironment => {
            let control = memory.load_value(at(cpu, 0), 4, observer)?;
            memory.load_value(last_byte(cpu), 1, &mut crate::Idle)?;
            let status = memory.load_value(at(cpu, 1), 4, observer)?;
            cpu.x87.set_control(control as u16);
            cpu.x87.status = status as u16;
            return Ok(Flow::Next);
        }
        X87::ClearExceptions => {
            cpu.x87.status &= !EXCEPTIONS;
            return Ok(Flow::Next);
        }
        X87::Initialize => {
            cpu.x87 = Words::default();
            return Ok(Flow::Next);
        }
    }
    next::<Mem>(memory)
}
