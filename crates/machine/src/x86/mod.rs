//! The x86-64 processor: registers, flags, and its operations.

mod flags;
mod ops;
mod translate;

use sotto_isa::{Arch, FlagSet, Instruction, Reg, Storage};

use crate::engine::Result;
use crate::{Memory, Observer, engine};
use flags::LazyFlags;
pub(crate) use translate::Op;

/// Index in the register file of a register that is always zero: for addresses without a base.
const ZERO: u8 = 16;
/// Added to a register's number to name bits 8 to 15 of it.
const HIGH: u8 = 0x20;

const RAX: usize = 0;
const RCX: usize = 1;
const RDX: usize = 2;
const RSP: usize = 4;
const RBP: usize = 5;
const R11: usize = 11;

/// Bits of RFLAGS that are always set in user mode: the reserved bit 1 and IF.
const ALWAYS_SET: u64 = 0x202;

/// The register file.
#[derive(Default)]
pub(crate) struct Cpu {
    /// The general registers in encoding order, then zero.
    regs: [u64; 17],
    pc: u64,
    flags: LazyFlags,
}

impl engine::Cpu for Cpu {
    const ARCH: Arch = Arch::X86_64;
    type Op<O: Observer> = Op<O>;

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
            16 => self.pc,
            n => self.regs[usize::from(n)],
        }
    }

    fn set_register(&mut self, storage: Storage, value: u64) {
        match storage.0 {
            16 => self.pc = value,
            n => self.regs[usize::from(n)] = value,
        }
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

/// A register's code in an operation.
fn code(reg: Reg) -> u8 {
    if reg.shift() == 8 { reg.number | HIGH } else { reg.number }
}
