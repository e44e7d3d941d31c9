//! The machine as its users see it, whichever processor it has.

use std::sync::Arc;

use sotto_isa::{Arch, FlagSet, Instruction, RegisterId, RegisterValue, Storage};

use crate::code::calls::{Call, CallStack};
use crate::code::cpu::{Cpu, Flow, TimeAndEntropy, fetch_instruction};
use crate::code::engine::Engine;
use crate::state::effects::{BankChange, FlagChange, RegisterChange};
use crate::{
    Event, Fault, FlagOrigin, Memory, MemorySnapshot, Run, StepEffects, Watcher, arm64, x86,
};

#[allow(clippy::large_enum_variant, reason = "a program has one of them")]
enum Processor {
    X86(Engine<x86::Cpu>),
    Arm64(Engine<arm64::Cpu>),
}

/// Evaluates an expression on the engine, whichever processor it runs.
macro_rules! with_engine {
    ($processor:expr, $engine:ident => $value:expr) => {
        match $processor {
            Processor::X86($engine) => $value,
            Processor::Arm64($engine) => $value,
        }
    };
}

/// A processor with its memory.
pub struct Machine {
    arch: Arch,
    processor: Processor,
    memory: Memory,
    /// Room for the effects of the next step.
    spare: Option<Box<StepEffects>>,
    /// Whether somebody wants a long instruction to be left, asked now and then in the middle of one.
    interrupted: fn() -> bool,
}

/// The registers and flags of a processor.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct CpuState {
    /// Values by [`Storage`] index.
    pub registers: Vec<u64>,
    /// The status flags.
    pub flags: FlagSet,
    /// Values of the registers of other banks, in the order of [`Arch::bank_registers`].
    pub banks: Vec<RegisterValue>,
}

/// A machine at a moment.
#[derive(Clone)]
pub struct Snapshot {
    /// Registers and flags.
    pub cpu: CpuState,
    time_and_entropy: TimeAndEntropy,
    flag_origin: Option<FlagOrigin>,
    calls: CallStack,
    memory: MemorySnapshot,
}

impl Snapshot {
    /// Bytes that it takes beside its memory.
    pub fn own_bytes(&self) -> usize {
        size_of::<Snapshot>() + self.calls.bytes()
    }

    /// Its memory.
    pub fn memory(&self) -> &MemorySnapshot {
        &self.memory
    }
}

/// What came of one instruction.
#[derive(Clone, Debug)]
pub struct Step {
    /// The instruction, unless it could not be fetched.
    pub instruction: Option<Arc<Instruction>>,
    /// What it read and changed.
    pub effects: Box<StepEffects>,
    /// `None` if it just completed; else the system call or the fault.
    pub event: Option<Event>,
    /// It sent control somewhere, be it to the next instruction: a conditional jump was taken.
    pub jumped: bool,
}

impl Machine {
    /// A machine with zeros in its registers and nothing mapped.
    pub fn new(arch: Arch) -> Machine {
        let processor = match arch {
            Arch::Arm64 => Processor::Arm64(Engine::new(arm64::Cpu::default())),
            Arch::X86_64 | Arch::X86_32 => Processor::X86(Engine::new(x86::Cpu::new(arch))),
        };
        Machine { arch, processor, memory: Memory::new(), spare: None, interrupted: || false }
    }

    /// The kind of machine.
    pub fn arch(&self) -> Arch {
        self.arch
    }

    /// The memory.
    pub fn memory(&self) -> &Memory {
        &self.memory
    }

    /// The memory, to read it or change it.
    pub fn memory_mut(&mut self) -> &mut Memory {
        &mut self.memory
    }

    /// The program counter.
    pub fn pc(&self) -> u64 {
        self.register(self.arch.pc())
    }

    /// The value of a storage register.
    ///
    /// # Panics
    ///
    /// If the machine has no such register.
    pub fn register(&self, storage: Storage) -> u64 {
        with_engine!(&self.processor, engine => engine.cpu.register(storage))
    }

    /// Sets a storage register.
    ///
    /// # Panics
    ///
    /// If the machine has no such register.
    pub fn set_register(&mut self, storage: Storage, value: u64) {
        with_engine!(&mut self.processor, engine => engine.cpu.set_register(storage, value))
    }

    /// The status flags.
    pub fn flags(&self) -> FlagSet {
        with_engine!(&self.processor, engine => engine.cpu.flags())
    }

    /// Sets the status flags.
    pub fn set_flags(&mut self, flags: FlagSet) {
        with_engine!(&mut self.processor, engine => engine.cpu.set_flags(flags))
    }

    /// The operation that set the status flags last, if it is one that is known.
    pub fn flag_origin(&self) -> Option<FlagOrigin> {
        with_engine!(&self.processor, engine => engine.cpu.flag_origin())
    }

    /// The calls that have not returned, the outermost first.
    pub fn calls(&self) -> &[Call] {
        let calls = with_engine!(&self.processor, engine => engine.calls.calls());
        // One whose return address lies below the stack pointer, since it was popped, is over as well.
        let stack_pointer = self.register(self.arch.stack_pointer());
        let live = calls.iter().rposition(|call| call.stack_pointer >= stack_pointer);
        &calls[..live.map_or(0, |last| last + 1)]
    }

    /// How many calls have not returned: those of [`Machine::calls`], and in the middle of very many those that are
    /// only counted.
    pub fn call_depth(&self) -> u64 {
        let (left_out, outer) = with_engine!(&self.processor, engine => engine.calls.left_out());
        let live = self.calls().len();
        live as u64 + if live > outer { left_out } else { 0 }
    }

    /// How many calls are only counted, and how many are outside of them.
    pub fn calls_left_out(&self) -> (u64, usize) {
        with_engine!(&self.processor, engine => engine.calls.left_out())
    }

    /// The value of a register of a bank beside the general ones.
    ///
    /// # Panics
    ///
    /// If the machine has no such register.
    pub fn bank_register(&self, id: RegisterId) -> RegisterValue {
        with_engine!(&self.processor, engine => engine.cpu.bank_register(id))
    }

    /// Sets a register of a bank beside the general ones; bits above its width do not count.
    ///
    /// # Panics
    ///
    /// If the machine has no such register.
    pub fn set_bank_register(&mut self, id: RegisterId, value: RegisterValue) {
        with_engine!(&mut self.processor, engine => engine.cpu.set_bank_register(id, value))
    }

    /// The next random number.
    pub fn next_random(&mut self) -> u64 {
        with_engine!(&mut self.processor, engine => engine.cpu.time_and_entropy().next_random())
    }

    /// Sets what the random numbers of the processor come from.
    pub fn seed_random(&mut self, seed: u64) {
        with_engine!(&mut self.processor, engine => engine.cpu.time_and_entropy().random = seed)
    }

    /// Registers and flags together.
    pub fn cpu_state(&self) -> CpuState {
        let count = self.arch.storage_names().len() as u8;
        let registers = (0..count).map(|n| self.register(Storage(n))).collect();
        let banks = self.arch.bank_registers().map(|(id, _)| self.bank_register(id)).collect();
        CpuState { registers, flags: self.flags(), banks }
    }

    /// Sets registers and flags together.
    pub fn set_cpu_state(&mut self, state: &CpuState) {
        for (number, value) in state.registers.iter().enumerate() {
            self.set_register(Storage(number as u8), *value);
        }
        for ((id, _), value) in self.arch.bank_registers().zip(&state.banks) {
            self.set_bank_register(id, *value);
        }
        self.set_flags(state.flags);
    }

    /// Runs until an event or until `budget` instructions are completed.
    pub fn run(&mut self, budget: u64) -> Run {
        with_engine!(&mut self.processor, engine => engine.run(&mut self.memory, budget))
    }

    /// Runs likewise under a watcher, which can stop it with [`Event::Written`].
    pub fn run_watched(&mut self, budget: u64, watcher: &mut Watcher) -> Run {
        with_engine!(&mut self.processor, engine => {
            engine.run_watched(&mut self.memory, budget, watcher)
        })
    }

    /// Sets the addresses before which [`Machine::run`] stops.
    pub fn set_stops(&mut self, stops: &[u64]) {
        with_engine!(&mut self.processor, engine => engine.set_stops(stops));
    }

    /// Whether [`Machine::run`] stops before an address.
    pub fn is_stop(&self, address: u64) -> bool {
        with_engine!(&self.processor, engine => engine.is_stop(address))
    }

    /// Takes back the instruction at `address` that just made a system call, which `event` says, without an answer: the
    /// program counter and the registers that it wrote are as before it, and `completed` instructions are completed.
    pub fn undo_syscall(&mut self, event: Event, address: u64, completed: u64) {
        with_engine!(&mut self.processor, engine => {
            if event == Event::Syscall {
                engine.cpu.undo_syscall();
            }
            engine.cpu.set_pc(address);
            engine.cpu.time_and_entropy().clock = completed;
        });
    }

    /// The instruction at the program counter.
    ///
    /// # Errors
    ///
    /// The fault that executing it would raise.
    pub fn next_instruction(&mut self) -> Result<Instruction, Fault> {
        let pc = self.pc();
        self.instruction_at(pc)
    }

    /// The instruction at the program counter as a step will execute it, decoded once as long as it stays the same;
    /// `None` if it cannot be fetched.
    pub fn prepared_instruction(&mut self) -> Option<Arc<Instruction>> {
        let memory = &mut self.memory;
        with_engine!(&mut self.processor, engine => {
            engine.prepare(memory).ok().map(|prepared| prepared.instruction.clone())
        })
    }

    /// The instruction at an address.
    ///
    /// # Errors
    ///
    /// The fault that executing it would raise.
    pub fn instruction_at(&mut self, address: u64) -> Result<Instruction, Fault> {
        fetch_instruction(self.arch, &self.memory, address).map_err(|fault| *fault)
    }

    /// Sets what is asked now and then whether a step in the middle of a long instruction is to be left.
    pub fn set_interrupt(&mut self, interrupted: fn() -> bool) {
        self.interrupted = interrupted;
    }

    /// Whether what is going on is to be left.
    pub fn is_interrupted(&self) -> bool {
        (self.interrupted)()
    }

    /// Executes one instruction and says what it did. If it is left in the middle, the event is
    /// [`Event::Unfinished`]; another step goes on with it.
    pub fn step(&mut self) -> Step {
        let (memory, effects) = (&mut self.memory, self.spare.take().unwrap_or_default());
        let interrupted = self.interrupted;
        with_engine!(&mut self.processor, engine => step(engine, memory, effects, interrupted))
    }

    /// Takes back the effects of a step that nobody needs any more, whose room the next step will use.
    pub fn take_back(&mut self, mut effects: Box<StepEffects>) {
        effects.clear();
        self.spare = Some(effects);
    }

    /// The machine as it is now.
    pub fn snapshot(&mut self) -> Snapshot {
        let time_and_entropy =
            with_engine!(&mut self.processor, engine => *engine.cpu.time_and_entropy());
        let calls = with_engine!(&self.processor, engine => engine.calls.clone());
        let (cpu, flag_origin) = (self.cpu_state(), self.flag_origin());
        Snapshot { cpu, time_and_entropy, flag_origin, calls, memory: self.memory.snapshot() }
    }

    /// Puts the machine back to a snapshot of it.
    pub fn restore(&mut self, snapshot: &Snapshot) {
        self.set_cpu_state(&snapshot.cpu);
        with_engine!(&mut self.processor, engine => {
            *engine.cpu.time_and_entropy() = snapshot.time_and_entropy;
            engine.calls.clone_from(&snapshot.calls);
            if let Some(origin) = snapshot.flag_origin {
                engine.cpu.set_flag_origin(origin);
            }
        });
        self.memory.restore(&snapshot.memory);
    }
}

/// Executes one instruction of an engine and says what it did.
fn step<C: Cpu>(
    engine: &mut Engine<C>,
    memory: &mut Memory,
    mut effects: Box<StepEffects>,
    interrupted: fn() -> bool,
) -> Step {
    let prepared = match engine.prepare(memory) {
        Ok(prepared) => prepared,
        Err(fault) => {
            let event = Some(Event::Fault(*fault));
            return Step { instruction: None, effects, event, jumped: false };
        }
    };
    let old_flags = engine.cpu.flags();
    let cpu = &engine.cpu;
    effects.reads.extend(
        prepared.reads.iter().map(|&(storage, reg)| (reg, reg.part_of(cpu.register(storage)))),
    );
    effects.registers.extend(prepared.writes.iter().map(|&(storage, reg)| {
        let old = cpu.register(storage);
        RegisterChange { reg, old, new: old }
    }));
    effects.banks.extend(prepared.banks.iter().map(|&(id, reg)| {
        let old = cpu.bank_register(id);
        BankChange { reg, old, new: old }
    }));
    let instruction = &prepared.instruction;
    let undefined = prepared
        .undefined
        .unwrap_or_else(|| instruction.undefined_flags(count_operand(cpu, instruction)));
    let mut result = engine.step(memory, &prepared, &mut effects);
    while result == Ok(Flow::Again) && !interrupted() {
        result = engine.step(memory, &prepared, &mut effects);
    }
    let jumped = matches!(result, Ok(Flow::Jump));
    let event = match result {
        Ok(Flow::Syscall) => Some(Event::Syscall),
        Ok(Flow::Syscall32) => Some(Event::Syscall32),
        Ok(Flow::Sysenter) => Some(Event::Sysenter),
        Ok(Flow::Again) => Some(Event::Unfinished),
        Ok(Flow::Next | Flow::Jump | Flow::Leave) => None,
        Err(fault) => Some(Event::Fault(*fault)),
    };
    if matches!(event, Some(Event::Fault(_))) {
        effects.registers.clear();
        effects.banks.clear();
    } else {
        for (change, (storage, _)) in effects.registers.iter_mut().zip(&prepared.writes) {
            change.new = engine.cpu.register(*storage);
        }
        for (change, (id, _)) in effects.banks.iter_mut().zip(&prepared.banks) {
            change.new = engine.cpu.bank_register(*id);
        }
        let new = engine.cpu.flags();
        effects.flags =
            FlagChange { written: prepared.flags_written, undefined, old: old_flags, new };
    }
    Step { instruction: Some(instruction.clone()), effects, event, jumped }
}

/// The value of the operand that counts a shift, or 0.
fn count_operand<C: Cpu>(cpu: &C, instruction: &Instruction) -> u64 {
    match instruction.count_operand() {
        Some(sotto_isa::Operand::Reg(reg)) => {
            reg.storage().map_or(0, |storage| reg.part_of(cpu.register(storage)))
        }
        Some(sotto_isa::Operand::Imm(value)) => value.or_zero() as u64,
        _ => 0,
    }
}
