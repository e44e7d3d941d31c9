//! A processor with its decoded code: running, running under a watcher, and stepping.

use std::sync::Arc;

use sotto_isa::{Control, FlagSet, Instruction, Reg, RegisterId, Storage};

use crate::code::cache::Code;
use crate::code::calls::CallStack;
use crate::code::processor::{Event, Flow, Processor, Result, Run, fetch_instruction};
use crate::code::run::{Runner, note_transfer};
use crate::code::watch::Watcher;
use crate::memory::code_marks::CodeChange;
use crate::state::effects;
use crate::{Idle, Memory, StepEffects};

/// A processor with its decoded code.
pub(crate) struct Engine<C: Processor> {
    pub cpu: C,
    pub calls: CallStack,
    code: Code<C::Op<Idle>>,
    /// The same code for runs under a watcher, once there was one.
    watched_code: Option<Box<Code<C::Op<Watcher>>>>,
    stops: Vec<u64>,
    /// Where the instruction ends that makes the system call at which running or stepping stopped.
    syscall_end: u64,
    /// Instructions that were stepped lately.
    prepared: PreparedSteps<C::Op<StepEffects>>,
}

const PREPARED_ENTRIES: usize = 1024;

/// Steps by address, each in the entry that its address leads to.
type PreparedSteps<Op> = Box<[Option<Arc<PreparedStep<Op>>>]>;

/// An instruction with what stepping it needs to know of its row.
pub(crate) struct PreparedStep<Op> {
    pub instruction: Arc<Instruction>,
    op: Op,
    /// Registers that are read.
    pub reads: Box<[(Storage, Reg)]>,
    /// Registers that are written, each once, by the widest name used.
    pub writes: Box<[(Storage, Reg)]>,
    /// Registers of other banks that are written.
    pub banks: Box<[(RegisterId, Reg)]>,
    pub flags_written: FlagSet,
    /// The flags that are left undefined, unless that depends on a count.
    pub undefined: Option<FlagSet>,
}

impl<Op> PreparedStep<Op> {
    fn new(op: Op, instruction: Instruction) -> PreparedStep<Op> {
        let used = effects::registers_used(&instruction);
        let read = used.iter().filter(|(access, _)| access.reads());
        PreparedStep {
            op,
            reads: read.filter_map(|(_, reg)| Some((reg.storage()?, *reg))).collect(),
            writes: effects::written(&instruction).into(),
            banks: effects::written_in_banks(&instruction).into(),
            flags_written: instruction.flags().written(),
            undefined: Some(instruction.flags())
                .filter(|flags| flags.undefined_when.is_empty())
                .map(|flags| flags.undefined),
            instruction: Arc::new(instruction),
        }
    }
}

impl<C: Processor> Engine<C> {
    pub fn new(cpu: C) -> Engine<C> {
        let (code, calls) = (Code::new(), CallStack::default());
        let prepared = vec![None; PREPARED_ENTRIES].into();
        Engine { cpu, calls, code, watched_code: None, stops: Vec::new(), syscall_end: 0, prepared }
    }

    /// Sets the addresses before which running stops.
    pub fn set_stops(&mut self, stops: &[u64]) {
        if self.stops != stops {
            self.stops = stops.to_vec();
            self.forget_code();
        }
    }

    /// The addresses before which running stops.
    pub fn stops(&self) -> &[u64] {
        &self.stops
    }

    /// Whether running stops before an address.
    pub fn is_stop(&self, address: u64) -> bool {
        self.stops.contains(&address)
    }

    fn forget_code(&mut self) {
        self.drop_changed(&CodeChange::All);
    }

    /// Drops what was decoded of code that has changed.
    fn drop_changed(&mut self, change: &CodeChange) {
        self.code.drop_changed(change);
        if let Some(code) = &mut self.watched_code {
            code.drop_changed(change);
        }
        self.prepared.fill(None);
    }

    /// Drops what was decoded of code that was written over.
    fn drop_written(&mut self, memory: &mut Memory) {
        let change = memory.take_changed_code();
        if change.is_some() {
            self.drop_changed(&change);
        }
    }

    /// Runs until an event, or until `budget` instructions are completed. A stop at the first
    /// instruction does not count, so that running can go on from one.
    pub fn run(&mut self, memory: &mut Memory, budget: u64) -> Run {
        self.drop_written(memory);
        let Engine { cpu, calls, code, stops, syscall_end, .. } = self;
        let (run, change) =
            Runner { cpu, calls, code, stops, syscall_end }.run(memory, budget, &mut Idle);
        if change.is_some() {
            self.drop_changed(&change);
        }
        run
    }

    /// Runs likewise under a watcher, which can stop it with [`Event::Written`].
    pub fn run_watched(&mut self, memory: &mut Memory, budget: u64, watcher: &mut Watcher) -> Run {
        self.drop_written(memory);
        let Engine { cpu, calls, watched_code, stops, syscall_end, .. } = self;
        let code = watched_code.get_or_insert_with(|| Box::new(Code::new()));
        let (run, change) =
            Runner { cpu, calls, code, stops, syscall_end }.run(memory, budget, watcher);
        if change.is_some() {
            self.drop_changed(&change);
        }
        run
    }

    /// The instruction at the program counter, ready to be stepped.
    pub fn prepare(
        &mut self,
        memory: &mut Memory,
    ) -> Result<Arc<PreparedStep<C::Op<StepEffects>>>> {
        self.drop_written(memory);
        let pc = self.cpu.pc();
        let entry = (pc ^ pc >> 10) as usize % PREPARED_ENTRIES;
        if let Some(prepared) = &self.prepared[entry]
            && prepared.instruction.address == pc
        {
            return Ok(prepared.clone());
        }
        let instruction = fetch_instruction(self.cpu.arch(), memory, pc)?;
        let end = instruction.end();
        let prepared = Arc::new(PreparedStep::new(C::translate(&instruction), instruction));
        memory.mark_code(pc, end);
        self.prepared[entry] = Some(prepared.clone());
        Ok(prepared)
    }

    /// Carries out one instruction and collects its memory accesses. Its flow tells whether it makes a system call and is
    /// not completed yet; otherwise the program counter is moved on.
    pub fn step(
        &mut self,
        memory: &mut Memory,
        prepared: &PreparedStep<C::Op<StepEffects>>,
        effects: &mut StepEffects,
    ) -> Result {
        let instruction = &*prepared.instruction;
        let flow = self.cpu.execute(memory, &prepared.op, effects)?;
        if flow.event().is_some() {
            self.syscall_end = instruction.end();
            return Ok(flow);
        }
        self.cpu.time_and_entropy().clock += 1;
        match flow {
            Flow::Jump => {
                let control = instruction.control();
                if CallStack::notes(control, instruction.is_indirect()) {
                    let moment = self.cpu.time_and_entropy().clock;
                    let (from, end) = (instruction.address, instruction.end());
                    note_transfer(&mut self.calls, &self.cpu, control, from, end, moment);
                }
            }
            _ => self.cpu.set_pc(instruction.end()),
        }
        self.drop_written(memory);
        Ok(flow)
    }

    /// Completes the instruction that makes the system call at which running or stepping stopped.
    pub fn complete_syscall(&mut self, event: Event) {
        self.cpu.complete_syscall(event, self.syscall_end);
        self.cpu.set_pc(self.syscall_end);
        self.cpu.time_and_entropy().clock += 1;
    }

    /// Exchanges the thread that is run.
    pub fn swap(&mut self, cpu: &mut C, calls: &mut CallStack) {
        std::mem::swap(&mut self.cpu, cpu);
        std::mem::swap(&mut self.calls, calls);
    }

    /// Notes that a handler was just entered, as a call that counts as an instruction.
    pub fn note_handler(&mut self, from: u64, return_address: u64) {
        self.cpu.time_and_entropy().clock += 1;
        let moment = self.cpu.time_and_entropy().clock;
        note_transfer(&mut self.calls, &self.cpu, Control::Call, from, return_address, moment);
        self.calls.mark_handler();
    }
}
