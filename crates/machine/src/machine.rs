//! The machine as its users see it, whichever processor it has.

use std::sync::Arc;

use sotto_isa::{Arch, FlagSet, Instruction, Reg, RegisterId, RegisterValue, Storage, Traits};

use crate::code::calls::{Call, CallStack};
use crate::code::engine::Engine;
use crate::code::processor::{Flow, Processor, TimeAndEntropy, fetch_instruction};
use crate::state::effects::{BankChange, FlagChange, RegisterChange};
use crate::{
    Event, Fault, FlagOrigin, Memory, MemorySnapshot, Run, StepEffects, Watcher, arm64, x86,
};

#[allow(clippy::large_enum_variant, reason = "a program has one of them")]
enum AnyEngine {
    X86(Engine<x86::Cpu>),
    Arm64(Engine<arm64::Cpu>),
}

/// Evaluates an expression on the engine, whichever processor it runs.
macro_rules! with_engine {
    ($any:expr, $engine:ident => $value:expr) => {
        match $any {
            AnyEngine::X86($engine) => $value,
            AnyEngine::Arm64($engine) => $value,
        }
    };
}

/// A processor with its memory.
pub struct Machine {
    arch: Arch,
    engine: AnyEngine,
    memory: Memory,
    /// Room for the effects of the next step.
    spare: Option<Box<StepEffects>>,
    /// Whether somebody wants a long instruction to be left, asked now and then in the middle of one.
    interrupted: fn() -> bool,
}

/// The state of a thread that is not running: its registers, and the calls that have not returned.
#[derive(Clone)]
pub struct Cpu(AnyCpu);

#[derive(Clone)]
enum AnyCpu {
    X86(Box<x86::Cpu>, CallStack),
    Arm64(Box<arm64::Cpu>, CallStack),
}

impl Cpu {
    /// The same registers, in a thread that has made no calls.
    #[must_use]
    pub fn without_calls(mut self) -> Cpu {
        let (AnyCpu::X86(_, calls) | AnyCpu::Arm64(_, calls)) = &mut self.0;
        *calls = CallStack::default();
        self
    }

    /// Bytes that it takes.
    pub fn bytes(&self) -> usize {
        match &self.0 {
            AnyCpu::X86(cpu, calls) => size_of_val(&**cpu) + calls.bytes(),
            AnyCpu::Arm64(cpu, calls) => size_of_val(&**cpu) + calls.bytes(),
        }
    }
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
        let engine = match arch {
            Arch::Arm64 => AnyEngine::Arm64(Engine::new(arm64::Cpu::default())),
            Arch::X86_64 | Arch::X86_32 => AnyEngine::X86(Engine::new(x86::Cpu::new(arch))),
        };
        Machine { arch, engine, memory: Memory::new(), spare: None, interrupted: || false }
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
        with_engine!(&self.engine, engine => engine.cpu.register(storage))
    }

    /// Sets a storage register.
    ///
    /// # Panics
    ///
    /// If the machine has no such register.
    pub fn set_register(&mut self, storage: Storage, value: u64) {
        with_engine!(&mut self.engine, engine => engine.cpu.set_register(storage, value))
    }

    /// The status flags.
    pub fn flags(&self) -> FlagSet {
        with_engine!(&self.engine, engine => engine.cpu.flags())
    }

    /// Sets the status flags.
    pub fn set_flags(&mut self, flags: FlagSet) {
        with_engine!(&mut self.engine, engine => engine.cpu.set_flags(flags))
    }

    /// The operation that set the status flags last, if it is one that is known.
    pub fn flag_origin(&self) -> Option<FlagOrigin> {
        with_engine!(&self.engine, engine => engine.cpu.flag_origin())
    }

    /// The calls that have not returned, the outermost first.
    pub fn calls(&self) -> &[Call] {
        let calls = with_engine!(&self.engine, engine => engine.calls.calls());
        // One whose return address lies below the stack pointer, since it was popped, is over as well.
        let stack_pointer = self.register(self.arch.stack_pointer());
        let live = calls.iter().rposition(|call| call.stack_pointer >= stack_pointer);
        &calls[..live.map_or(0, |last| last + 1)]
    }

    /// How many calls have not returned: those of [`Machine::calls`], and in the middle of very many those that are
    /// only counted.
    pub fn call_depth(&self) -> u64 {
        let (left_out, outer) = with_engine!(&self.engine, engine => engine.calls.left_out());
        let live = self.calls().len();
        live as u64 + if live > outer { left_out } else { 0 }
    }

    /// How many calls are only counted, and how many are outside of them.
    pub fn calls_left_out(&self) -> (u64, usize) {
        with_engine!(&self.engine, engine => engine.calls.left_out())
    }

    /// The value of a register of a bank beside the general ones.
    ///
    /// # Panics
    ///
    /// If the machine has no such register.
    pub fn bank_register(&self, id: RegisterId) -> RegisterValue {
        with_engine!(&self.engine, engine => engine.cpu.bank_register(id))
    }

    /// Sets a register of a bank beside the general ones; bits above its width do not count.
    ///
    /// # Panics
    ///
    /// If the machine has no such register.
    pub fn set_bank_register(&mut self, id: RegisterId, value: RegisterValue) {
        with_engine!(&mut self.engine, engine => engine.cpu.set_bank_register(id, value))
    }

    /// The next random number.
    pub fn next_random(&mut self) -> u64 {
        with_engine!(&mut self.engine, engine => engine.cpu.time_and_entropy().next_random())
    }

    /// Sets what the random numbers of the processor come from.
    pub fn seed_random(&mut self, seed: u64) {
        with_engine!(&mut self.engine, engine => engine.cpu.time_and_entropy().random = seed)
    }

    /// The state of the thread that the machine runs.
    pub fn cpu(&self) -> Cpu {
        Cpu(match &self.engine {
            AnyEngine::X86(engine) => AnyCpu::X86(engine.cpu.clone().into(), engine.calls.clone()),
            AnyEngine::Arm64(engine) => {
                AnyCpu::Arm64(engine.cpu.clone().into(), engine.calls.clone())
            }
        })
    }

    /// Runs another thread from now on; `cpu` is then the state of the one before. The clock and the random numbers are
    /// those of the machine.
    ///
    /// # Panics
    ///
    /// If it is a thread of another kind of machine.
    pub fn swap_cpu(&mut self, cpu: &mut Cpu) {
        let time_and_entropy =
            with_engine!(&mut self.engine, engine => *engine.cpu.time_and_entropy());
        match (&mut self.engine, &mut cpu.0) {
            (AnyEngine::X86(engine), AnyCpu::X86(cpu, calls)) => engine.swap(cpu, calls),
            (AnyEngine::Arm64(engine), AnyCpu::Arm64(cpu, calls)) => engine.swap(cpu, calls),
            _ => panic!("a thread of another kind of machine"),
        }
        with_engine!(&mut self.engine, engine => *engine.cpu.time_and_entropy() = time_and_entropy);
    }

    /// Another machine with the same memory, which both share until one writes to it, and with the same stops. Its registers are
    /// to be set.
    pub fn fork(&mut self) -> Machine {
        let mut other = self.like();
        other.memory.restore(&self.memory.snapshot());
        other
    }

    /// Another machine of the same kind with the same stops and limits, and nothing mapped.
    pub fn like(&self) -> Machine {
        let mut other = Machine::new(self.arch);
        other.interrupted = self.interrupted;
        other.memory.set_limit(self.memory.limit());
        let stops = with_engine!(&self.engine, engine => engine.stops());
        other.set_stops(stops);
        other
    }

    /// Gives the thread that runs, with the clock and the random numbers, to another machine, whose own it takes.
    ///
    /// # Panics
    ///
    /// If that is a machine of another kind.
    pub fn exchange_cpu(&mut self, other: &mut Machine) {
        match (&mut self.engine, &mut other.engine) {
            (AnyEngine::X86(one), AnyEngine::X86(other)) => {
                one.swap(&mut other.cpu, &mut other.calls);
            }
            (AnyEngine::Arm64(one), AnyEngine::Arm64(other)) => {
                one.swap(&mut other.cpu, &mut other.calls);
            }
            _ => panic!("a machine of another kind"),
        }
    }

    /// Takes over what another machine is asked to stop at: the interrupt.
    pub fn take_settings_of(&mut self, other: &Machine) {
        self.interrupted = other.interrupted;
    }

    /// Goes on with the clock and the random numbers of another machine.
    pub fn take_time_of(&mut self, other: &mut Machine) {
        let time = with_engine!(&mut other.engine, engine => *engine.cpu.time_and_entropy());
        with_engine!(&mut self.engine, engine => *engine.cpu.time_and_entropy() = time);
    }

    /// Lets time pass in which nothing is executed, in nanoseconds.
    pub fn pass_idle_time(&mut self, nanoseconds: u64) {
        with_engine!(&mut self.engine, engine => {
            let time = engine.cpu.time_and_entropy();
            time.idle = time.idle.saturating_add(nanoseconds);
        });
    }

    /// Nanoseconds since the start in which something was executed.
    pub fn busy_time(&mut self) -> u64 {
        let idle = with_engine!(&mut self.engine, engine => engine.cpu.time_and_entropy().idle);
        self.time() - idle
    }

    /// Nanoseconds since the start: one for each completed instruction, and those in which nothing was executed.
    pub fn time(&mut self) -> u64 {
        with_engine!(&mut self.engine, engine => engine.cpu.time_and_entropy().now())
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
        with_engine!(&mut self.engine, engine => engine.run(&mut self.memory, budget))
    }

    /// Runs likewise under a watcher, which can stop it with [`Event::Written`].
    pub fn run_watched(&mut self, budget: u64, watcher: &mut Watcher) -> Run {
        with_engine!(&mut self.engine, engine => {
            engine.run_watched(&mut self.memory, budget, watcher)
        })
    }

    /// Sets the addresses before which [`Machine::run`] stops.
    pub fn set_stops(&mut self, stops: &[u64]) {
        with_engine!(&mut self.engine, engine => engine.set_stops(stops));
    }

    /// Whether [`Machine::run`] stops before an address.
    pub fn is_stop(&self, address: u64) -> bool {
        with_engine!(&self.engine, engine => engine.is_stop(address))
    }

    /// Completes the instruction at which running or a step stopped with one of the events of system calls, which the
    /// kernel has answered: the program counter is behind it then.
    pub fn complete_syscall(&mut self, event: Event) {
        with_engine!(&mut self.engine, engine => engine.complete_syscall(event));
    }

    /// Notes that a handler of a signal was just entered, from an address, which returns to another: it counts as a
    /// completed instruction and as a call.
    pub fn note_handler(&mut self, from: u64, return_address: u64) {
        with_engine!(&mut self.engine, engine => engine.note_handler(from, return_address));
    }

    /// What differs from an earlier state, as effects: registers by their full names.
    pub fn effects_since(&self, before: &CpuState) -> Box<StepEffects> {
        let mut effects = Box::<StepEffects>::default();
        for (number, &old) in before.registers.iter().enumerate() {
            let storage = Storage(number as u8);
            let new = self.register(storage);
            if old != new
                && let Some(reg) = Reg::parse(self.arch, self.arch.storage_name(storage))
            {
                effects.registers.push(RegisterChange { reg, old, new });
            }
        }
        let (old, new) = (before.flags, self.flags());
        effects.flags = FlagChange { written: FlagSet::NONE, undefined: FlagSet::NONE, old, new };
        effects
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

    /// What the next instruction will read and write back, if another processor can write in between: the address and the bytes
    /// there. Nothing changes.
    pub fn divisible_update(&mut self) -> Option<(u64, Vec<u8>)> {
        let instruction = self.next_instruction().ok()?;
        let traits = instruction.traits();
        if !traits.contains(Traits::LOCKABLE) || traits.contains(Traits::INDIVISIBLE) {
            return None;
        }
        let mut before = self.cpu();
        let time = with_engine!(&mut self.engine, engine => *engine.cpu.time_and_entropy());
        let step = self.step();
        let changed = step.effects.memory.first().copied();
        let found = changed.filter(|change| step.event.is_none() && change.elements == 1);
        let found = found.map(|change| {
            let bytes = change.old.to_le_bytes()[..change.bytes as usize].to_vec();
            // It was just written.
            let _ = self.memory.load(change.address, &bytes);
            (change.address, bytes)
        });
        self.swap_cpu(&mut before);
        with_engine!(&mut self.engine, engine => *engine.cpu.time_and_entropy() = time);
        self.take_back(step.effects);
        found
    }

    /// The instruction at the program counter as a step will execute it, decoded once as long as it stays the same;
    /// `None` if it cannot be fetched.
    pub fn prepared_instruction(&mut self) -> Option<Arc<Instruction>> {
        let memory = &mut self.memory;
        with_engine!(&mut self.engine, engine => {
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
        with_engine!(&mut self.engine, engine => step(engine, memory, effects, interrupted))
    }

    /// Takes back the effects of a step that nobody needs any more, whose room the next step will use.
    pub fn take_back(&mut self, mut effects: Box<StepEffects>) {
        effects.clear();
        self.spare = Some(effects);
    }

    /// The machine as it is now.
    pub fn snapshot(&mut self) -> Snapshot {
        let time_and_entropy =
            with_engine!(&mut self.engine, engine => *engine.cpu.time_and_entropy());
        let calls = with_engine!(&self.engine, engine => engine.calls.clone());
        let (cpu, flag_origin) = (self.cpu_state(), self.flag_origin());
        Snapshot { cpu, time_and_entropy, flag_origin, calls, memory: self.memory.snapshot() }
    }

    /// Puts the machine back to a snapshot of it.
    pub fn restore(&mut self, snapshot: &Snapshot) {
        self.set_cpu_state(&snapshot.cpu);
        with_engine!(&mut self.engine, engine => {
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
fn step<C: Processor>(
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
        Ok(flow) => flow.event(),
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
fn count_operand<C: Processor>(cpu: &C, instruction: &Instruction) -> u64 {
    match instruction.count_operand() {
        Some(sotto_isa::Operand::Reg(reg)) => {
            reg.storage().map_or(0, |storage| reg.part_of(cpu.register(storage)))
        }
        Some(sotto_isa::Operand::Imm(value)) => value.or_zero() as u64,
        _ => 0,
    }
}
