//! The x86 processor in 64-bit and 32-bit mode: registers, flags, and its operations.
//!
//! Both modes have one register file: in 32-bit mode the upper halves and the upper eight registers are
//! zero and stay so, and addresses are cut to 32 bits.

mod flags;
pub(crate) mod integer;
pub(crate) mod op;
mod operands;
pub(crate) mod system;
pub(crate) mod translate;
pub(crate) mod vector;
pub(crate) mod x87;

use sotto_isa::x86::flag;
use sotto_isa::{Arch, Bank, FlagSet, Instruction, Reg, RegisterId, RegisterValue, Storage};

use crate::code::processor::Result;
use crate::code::processor::TimeAndEntropy;
use crate::code::processor::{self, Event};
use crate::{FlagOrigin, Memory, Observer};
use flags::LazyFlags;
pub(crate) use op::Op;

/// Index in the register file of a register that is always zero: for addresses without a base.
const ZERO: u8 = 16;
/// Indices of the segment bases, which are no general registers but terms of an address as well.
const FS_BASE: usize = 17;
const GS_BASE: usize = 18;
/// Added to a register's number to name bits 8 to 15 of it.
const HIGH: u8 = 0x20;

const RAX: usize = 0;
const RCX: usize = 1;
const RDX: usize = 2;
const RBX: usize = 3;
const RSP: usize = 4;
const RBP: usize = 5;
const RSI: usize = 6;
const RDI: usize = 7;
const R11: usize = 11;

/// Bits of RFLAGS that are always set in user mode: the reserved bit 1 and IF.
const ALWAYS_SET: u64 = 0x202;

/// Storage numbers beyond the instruction pointer. See [`Storage`].
const MXCSR: u8 = 19;
const X87_WORDS: u8 = 20;
const SELECTORS: u8 = 21;
const THREAD_SEGMENTS: u8 = 22;

/// The register file.
#[derive(Clone)]
pub(crate) struct Cpu {
    arch: Arch,
    /// The bits of an address that the mode has.
    address_mask: u64,
    /// The general registers in encoding order, then zero, then the bases of FS and GS. As many as five bits can
    /// name, so that no number needs to be checked.
    regs: [u64; 32],
    pc: u64,
    flags: LazyFlags,
    /// Flags that a program can change beside the status flags: DF and its kin.
    control: FlagSet,
    vectors: [u128; 16],
    /// Control and status of floating-point arithmetic on vectors. Source: SDM Vol. 1, 10.2.3.
    mxcsr: u32,
    x87: x87::environment::Words,
    /// What ES, DS, FS and GS hold, 16 bits each from the lowest.
    selectors: u64,
    /// The bases of the segments that a thread describes for itself, with bit 32 set if it did.
    thread_segments: [u64; 3],
    time_and_entropy: TimeAndEntropy,
}

/// MXCSR when a program starts: every exception masked, rounding to nearest.
const INITIAL_MXCSR: u32 = 0x1f80;

impl Cpu {
    /// A processor in the mode of `arch`, with zeros in its registers.
    pub fn new(arch: Arch) -> Cpu {
        let mut regs = [0; 32];
        let mut selectors = 0;
        // In 32-bit mode ES and DS hold the data segment when a program starts, FS and GS nothing.
        if arch == Arch::X86_32 {
            (regs[FS_BASE], regs[GS_BASE]) = (operands::NO_SEGMENT, operands::NO_SEGMENT);
            selectors = system::segments::DATA << 16 | system::segments::DATA;
        }
        Cpu {
            arch,
            address_mask: arch.address_width().mask(),
            regs,
            pc: 0,
            flags: LazyFlags::default(),
            control: FlagSet::NONE,
            vectors: [0; 16],
            mxcsr: INITIAL_MXCSR,
            x87: x87::environment::Words::default(),
            selectors,
            thread_segments: [0; 3],
            time_and_entropy: TimeAndEntropy::default(),
        }
    }
}

impl processor::Processor for Cpu {
    type Op<O: Observer> = Op<O>;

    fn arch(&self) -> Arch {
        self.arch
    }

    fn asks_clock(instruction: &Instruction) -> bool {
        use sotto_isa::x86::{Meaning, form};
        matches!(form(instruction.form).meaning, Meaning::Rdtsc | Meaning::Rdtscp)
    }

    fn translate<O: Observer>(instruction: &Instruction) -> Op<O> {
        translate::general::translate(instruction)
    }

    fn fuse<O: Observer>(first: &Instruction, second: &Instruction) -> Option<Op<O>> {
        translate::fused::fuse(first, second)
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
            MXCSR => u64::from(self.mxcsr),
            X87_WORDS => self.x87.packed(),
            SELECTORS => self.selectors,
            n @ THREAD_SEGMENTS.. => self.thread_segments[usize::from(n - THREAD_SEGMENTS)],
            n => self.regs[usize::from(n)],
        }
    }

    fn set_register(&mut self, storage: Storage, value: u64) {
        match storage.0 {
            16 => self.pc = value,
            MXCSR => self.mxcsr = value as u32 & 0xffff,
            X87_WORDS => self.x87 = x87::environment::Words::unpacked(value),
            SELECTORS => self.selectors = value,
            n @ THREAD_SEGMENTS.. => {
                self.thread_segments[usize::from(n - THREAD_SEGMENTS)] = value;
            }
            n => self.regs[usize::from(n)] = value,
        }
    }

    fn flags(&self) -> FlagSet {
        self.flags.value() | self.control
    }

    fn set_flags(&mut self, flags: FlagSet) {
        self.flags.set(flags);
        self.control = flags & flag::CONTROL;
    }

    fn flag_origin(&self) -> Option<FlagOrigin> {
        self.flags.origin()
    }

    fn set_flag_origin(&mut self, origin: FlagOrigin) {
        self.flags.set_origin(origin);
    }

    fn bank_register(&self, id: RegisterId) -> RegisterValue {
        match id.bank {
            Bank::Vector => self.vectors[usize::from(id.index)].into(),
        }
    }

    fn set_bank_register(&mut self, id: RegisterId, value: RegisterValue) {
        match id.bank {
            Bank::Vector => self.vectors[usize::from(id.index)] = value.low_128(),
        }
    }

    fn time_and_entropy(&mut self) -> &mut TimeAndEntropy {
        &mut self.time_and_entropy
    }

    fn complete_syscall(&mut self, event: Event, next: u64) {
        // Source: SDM Vol. 2, SYSCALL. The other ways into the kernel leave the registers.
        if event == Event::Syscall {
            self.regs[RCX] = next;
            self.regs[R11] = u64::from(self.flags().0) | ALWAYS_SET;
        }
    }

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
