//! The A64 processor: registers, condition flags, and its operations.

mod flags;
mod op;
pub(crate) mod operations;
#[cfg(test)]
mod tests;
mod translate;

use sotto_isa::{Arch, FlagSet, Instruction, RegisterId, RegisterValue, Storage};

use crate::code::cpu;
use crate::code::cpu::{Result, TimeAndEntropy};
use crate::{FlagOrigin, Memory, Observer};
use flags::LazyFlags;
pub(crate) use op::Op;

/// Index in the register file of the stack pointer.
const SP: u8 = 31;
/// Index of the zero register as a source: always zero.
const ZERO: u8 = 32;
/// Index of the zero register as a destination: never read.
const NOWHERE: u8 = 33;

/// The register file.
#[derive(Default)]
pub(crate) struct Cpu {
    /// `x0` to `x30`, the stack pointer, zero, and where writes to the zero register go.
    regs: Registers,
    pc: u64,
    flags: LazyFlags,
    time_and_entropy: TimeAndEntropy,
}

struct Registers([u64; 34]);

impl Default for Registers {
    fn default() -> Registers {
        Registers([0; 34])
    }
}

impl Cpu {
    #[inline]
    fn get(&self, code: u8) -> u64 {
        self.regs.0[usize::from(code)]
    }

    #[inline]
    fn put(&mut self, code: u8, value: u64) {
        self.regs.0[usize::from(code)] = value;
    }
}

impl cpu::Cpu for Cpu {
    type Op<O: Observer> = Op<O>;

    fn arch(&self) -> Arch {
        Arch::Arm64
    }

    fn translate<O: Observer>(instruction: &Instruction) -> Op<O> {
        translate::translate(instruction)
    }

    #[inline]
    fn execute<O: Observer>(
        &mut self,
        memory: &mut Memory,
        op: &Op<O>,
        observer: &mut O,
    ) -> Result {
        (op.run)(self, memory, op, observer)
    }

    fn register(&self, storage: Storage) -> u64 {
        match storage.0 {
            32 => self.pc,
            n => self.regs.0[usize::from(n)],
        }
    }

    fn set_register(&mut self, storage: Storage, value: u64) {
        match storage.0 {
            32 => self.pc = value,
            n => self.regs.0[usize::from(n)] = value,
        }
    }

    fn flag_origin(&self) -> Option<FlagOrigin> {
        self.flags.origin()
    }

    fn set_flag_origin(&mut self, origin: FlagOrigin) {
        self.flags.set_origin(origin);
    }

    /// There are none yet.
    fn bank_register(&self, _: RegisterId) -> RegisterValue {
        RegisterValue::ZERO
    }

    fn set_bank_register(&mut self, _: RegisterId, _: RegisterValue) {}

    fn time_and_entropy(&mut self) -> &mut TimeAndEntropy {
        &mut self.time_and_entropy
    }

    fn flags(&self) -> FlagSet {
        self.flags.value()
    }

    fn set_flags(&mut self, flags: FlagSet) {
        self.flags.set(flags);
    }

    #[inline]
    fn pc(&self) -> u64 {
        self.pc
    }

    fn set_pc(&mut self, pc: u64) {
        self.pc = pc;
    }
}
