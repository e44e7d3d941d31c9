//! The A64 processor: registers, condition flags, and its operations.

mod atomics;
mod branches;
mod flags;
mod integer;
mod memory;
mod op;
mod structures;
mod system;
#[cfg(test)]
mod tests;
mod translate;
mod vector;

use sotto_isa::arm64::names::register;
use sotto_isa::arm64::storage;
use sotto_isa::{Arch, FlagSet, Instruction, Named, Operand, RegisterId, RegisterValue, Storage};

use crate::code::processor::{self, Event};
use crate::code::processor::{Result, TimeAndEntropy};
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
#[derive(Clone, Default)]
pub(crate) struct Cpu {
    /// `x0` to `x30`, the stack pointer, zero, and where writes to the zero register go.
    regs: Registers,
    pc: u64,
    flags: LazyFlags,
    vectors: [u128; 32],
    /// Control and status of floating point.
    fpcr: u32,
    fpsr: u32,
    /// The thread pointer.
    tpidr: u64,
    /// The address that is marked for an exclusive store plus 1, or 0.
    exclusive: u64,
    time_and_entropy: TimeAndEntropy,
}

#[derive(Clone)]
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

    #[inline]
    fn vector(&self, number: u8) -> u128 {
        self.vectors[usize::from(number)]
    }

    #[inline]
    fn set_vector(&mut self, number: u8, value: u128) {
        self.vectors[usize::from(number)] = value;
    }
}

impl processor::Processor for Cpu {
    type Op<O: Observer> = Op<O>;

    fn arch(&self) -> Arch {
        Arch::Arm64
    }

    fn translate<O: Observer>(instruction: &Instruction) -> Op<O> {
        translate::translate(instruction)
    }

    fn fuse<O: Observer>(first: &Instruction, second: &Instruction) -> Option<Op<O>> {
        translate::fuse(first, second)
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
        match storage {
            storage::PC => self.pc,
            storage::TPIDR_EL0 => self.tpidr,
            storage::FPCR => u64::from(self.fpcr),
            storage::FPSR => u64::from(self.fpsr),
            storage::EXCLUSIVE => self.exclusive,
            Storage(n) => self.regs.0[usize::from(n)],
        }
    }

    fn set_register(&mut self, storage: Storage, value: u64) {
        match storage {
            storage::PC => self.pc = value,
            storage::TPIDR_EL0 => self.tpidr = value,
            storage::FPCR => self.fpcr = value as u32,
            storage::FPSR => self.fpsr = value as u32,
            storage::EXCLUSIVE => self.exclusive = value,
            Storage(n) => self.regs.0[usize::from(n)] = value,
        }
    }

    fn flag_origin(&self) -> Option<FlagOrigin> {
        self.flags.origin()
    }

    fn set_flag_origin(&mut self, origin: FlagOrigin) {
        self.flags.set_origin(origin);
    }

    fn bank_register(&self, id: RegisterId) -> RegisterValue {
        self.vector(id.index).into()
    }

    fn set_bank_register(&mut self, id: RegisterId, value: RegisterValue) {
        self.set_vector(id.index, value.low_128());
    }

    fn asks_clock(instruction: &Instruction) -> bool {
        instruction.operands.iter().any(|operand| {
            matches!(
                operand,
                Operand::Named(Named::System(register::CNTVCT_EL0 | register::CNTPCT_EL0))
            )
        })
    }

    fn complete_syscall(&mut self, _: Event, _: u64) {
        // Returning from the kernel clears the mark. Source: Arm ARM, B2.9.1.
        self.exclusive = 0;
    }

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
