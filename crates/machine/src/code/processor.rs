//! What a processor is to the code that runs it: registers, and how instructions become operations.

use sotto_isa::{
    Arch, DecodeError, FlagSet, Instruction, RegisterId, RegisterValue, Storage, decode,
};

use crate::random::SplitMix64;
use crate::{AccessKind, Fault, FlagOrigin, Memory, MemoryFault, MemoryFaultKind, Observer};

/// Where control goes after an operation.
///
/// As wide as a pointer: a [`Result`] of it then comes back in two registers, and not through memory.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
#[repr(usize)]
pub(crate) enum Flow {
    /// To the next operation of the block.
    Next,
    /// Out of the block; the program counter is set.
    Jump,
    /// Out of the block to the next instruction: code may have changed.
    Leave,
    /// To the same operation again: its instruction is not completed, and goes on from where the registers are.
    Again,
    /// Into the kernel: the instruction is completed by [`Processor::complete_syscall`], once the kernel has answered.
    Syscall,
    /// Into the kernel by the door of 32-bit programs.
    Syscall32,
    /// Into the kernel by SYSENTER, whose way back is the kernel's affair.
    Sysenter,
}

impl Flow {
    /// What running stops for, if the instruction is not completed.
    #[inline]
    pub fn event(self) -> Option<Event> {
        match self {
            Flow::Next | Flow::Jump | Flow::Leave => None,
            Flow::Again => Some(Event::Unfinished),
            Flow::Syscall => Some(Event::Syscall),
            Flow::Syscall32 => Some(Event::Syscall32),
            Flow::Sysenter => Some(Event::Sysenter),
        }
    }
}

pub(crate) type Result<T = Flow> = std::result::Result<T, Box<Fault>>;

/// An address of code together with the state in which it is decoded.
///
/// Machines whose decoding depends on more than the address (the instruction set, the state of a conditional block)
/// have addresses of 32 bits, and hold that state in the upper half.
#[derive(Copy, Clone, PartialEq, Eq, Hash, Debug)]
pub(crate) struct BlockKey(pub u64);

/// What a program can only ask for by instructions of their own: the clock and random numbers.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) struct TimeAndEntropy {
    /// Instructions completed before the one that asks.
    pub clock: u64,
    /// Nanoseconds that passed while nothing was executed.
    pub idle: u64,
    /// State of the generator.
    pub random: u64,
}

impl Default for TimeAndEntropy {
    fn default() -> TimeAndEntropy {
        TimeAndEntropy { clock: 0, idle: 0, random: 1 }
    }
}

impl TimeAndEntropy {
    /// Nanoseconds since the start: one for each instruction, and those in which nothing was executed.
    pub fn now(&self) -> u64 {
        self.clock.saturating_add(self.idle)
    }

    /// The next random number.
    pub fn next_random(&mut self) -> u64 {
        let mut generator = SplitMix64(self.random);
        let number = generator.next_number();
        self.random = generator.0;
        number
    }
}

/// A processor: its registers, and how it carries out instructions.
pub(crate) trait Processor {
    /// A compact operation, for a given observer.
    type Op<O: Observer>;

    /// The machine whose instructions it carries out.
    fn arch(&self) -> Arch;

    /// An instruction to a compact operation.
    fn translate<O: Observer>(instruction: &Instruction) -> Self::Op<O>;

    /// Carries an operation out.
    fn execute<O: Observer>(
        &mut self,
        memory: &mut Memory,
        op: &Self::Op<O>,
        observer: &mut O,
    ) -> Result;

    /// Two instructions that follow each other as one operation, if there is one that does no less; only the first
    /// of them may be refused, and neither writes memory.
    fn fuse<O: Observer>(_: &Instruction, _: &Instruction) -> Option<Self::Op<O>> {
        None
    }

    /// The value of a storage register.
    fn register(&self, storage: Storage) -> u64;
    fn set_register(&mut self, storage: Storage, value: u64);
    /// The status flags.
    fn flags(&self) -> FlagSet;
    fn set_flags(&mut self, flags: FlagSet);
    /// What the flags come from, if that is known.
    fn flag_origin(&self) -> Option<FlagOrigin>;
    /// Says what the flags come from, which are set already.
    fn set_flag_origin(&mut self, origin: FlagOrigin);
    /// The value of a register of a bank beside the general ones.
    fn bank_register(&self, id: RegisterId) -> RegisterValue;
    fn set_bank_register(&mut self, id: RegisterId, value: RegisterValue);
    /// The clock and the random numbers, where instructions can ask for them.
    fn time_and_entropy(&mut self) -> &mut TimeAndEntropy;
    /// Whether the instruction asks for the clock, so that it must stand first in its block.
    fn asks_clock(_: &Instruction) -> bool {
        false
    }
    /// Does to registers what the instruction that makes a system call does when the program goes on at `next`.
    fn complete_syscall(&mut self, event: Event, next: u64);
    fn pc(&self) -> u64;
    /// What the block at the program counter is found by.
    #[inline]
    fn block_key(&self) -> BlockKey {
        BlockKey(self.pc())
    }
    fn set_pc(&mut self, pc: u64);
}

/// Why running stopped.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Event {
    /// The budget is used up.
    Budget,
    /// Much was done for a few instructions; running can go on.
    Paused,
    /// The same in the middle of an instruction, which is not completed.
    Unfinished,
    /// The next instruction makes a system call. It is completed by [`Machine::complete_syscall`](crate::Machine).
    Syscall,
    /// The same of `int 0x80`: a system call by the table of 32-bit x86.
    Syscall32,
    /// The same of SYSENTER; the kernel says where the program goes on.
    Sysenter,
    /// An instruction wrote what is watched.
    Written,
    /// The program counter reached one of the stops.
    Stop,
    /// An instruction could not complete.
    Fault(Fault),
}

impl Event {
    /// Whether the next instruction makes a system call, by whichever instruction.
    pub fn is_syscall(&self) -> bool {
        matches!(self, Event::Syscall | Event::Syscall32 | Event::Sysenter)
    }
}

/// What came of running.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct Run {
    /// Instructions completed.
    pub executed: u64,
    /// Why it stopped.
    pub event: Event,
}

/// Fetches and decodes the instruction at an address.
pub(crate) fn fetch_instruction(arch: Arch, memory: &Memory, pc: u64) -> Result<Instruction> {
    let mut bytes = [0; 15];
    let available = memory.fetch(pc, &mut bytes)?;
    decode(arch, &bytes[..available], pc).map_err(|error| match error {
        DecodeError::Invalid => Box::new(Fault::Illegal),
        DecodeError::CutOff => {
            let address = pc.wrapping_add(available as u64);
            let (access, kind) = (AccessKind::Execute, MemoryFaultKind::PastCode);
            MemoryFault { address, access, kind }.into()
        }
    })
}
