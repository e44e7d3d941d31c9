//! The cache of decoded blocks, and the loop that runs them.

use std::collections::HashMap;
use std::sync::Arc;

use sotto_isa::{Arch, Control, DecodeError, FlagSet, Instruction, Reg, Storage, decode};

use crate::code::calls::{CallStack, ReturnAddress};
use crate::code::watch::{RunObserver, Watcher, Writes};
use crate::state::effects;
use crate::{
    AccessKind, Call, Fault, FlagOrigin, Idle, Memory, MemoryFault, MemoryFaultKind, Observer,
    StepEffects,
};

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
    /// Into the kernel; the program counter is at the next instruction.
    Syscall,
    /// Into the kernel by the door of 32-bit programs.
    Syscall32,
    /// Into the kernel by SYSENTER, whose way back is the kernel's affair.
    Sysenter,
}

pub(crate) type Result<T = Flow> = std::result::Result<T, Box<Fault>>;

/// What a program can only ask for by instructions of their own: the clock and random numbers.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) struct Unseen {
    /// Instructions completed before the one that asks.
    pub clock: u64,
    /// State of the generator.
    pub random: u64,
}

impl Default for Unseen {
    fn default() -> Unseen {
        Unseen { clock: 0, random: 1 }
    }
}

impl Unseen {
    /// The next random number, by the SplitMix64 generator.
    pub fn next_random(&mut self) -> u64 {
        self.random = self.random.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.random;
        z = (z ^ z >> 30).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ z >> 27).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ z >> 31
    }
}

/// A processor: its registers, and how it carries out instructions.
pub(crate) trait Cpu {
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
    /// The value of a vector register.
    fn vector(&self, number: u8) -> u128;
    fn set_vector(&mut self, number: u8, value: u128);
    /// The clock and the random numbers, where instructions can ask for them.
    fn unseen(&mut self) -> &mut Unseen;
    /// Whether the instruction asks for the clock, so that it must stand first in its block.
    fn asks_clock(_: &Instruction) -> bool {
        false
    }
    /// Puts back the registers that the instruction which made the last system call has written.
    fn undo_syscall(&mut self) {}
    fn pc(&self) -> u64;
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
    /// A system call instruction was executed; the program counter is after it.
    Syscall,
    /// `int 0x80` was executed: a system call by the table of 32-bit x86.
    Syscall32,
    /// SYSENTER was executed: the same, and the kernel says where the program goes on.
    Sysenter,
    /// An instruction wrote what is watched.
    Written,
    /// The program counter reached one of the stops.
    Stop,
    /// An instruction could not complete.
    Fault(Fault),
}

/// What came of running.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct Run {
    /// Instructions completed.
    pub executed: u64,
    /// Why it stopped.
    pub event: Event,
}

/// Blocks end after this many instructions.
const MAX_BLOCK: usize = 64;
const LOOKUP_ENTRIES: usize = 4096;
const NO_BLOCK: u32 = u32::MAX;

struct Block<Op> {
    start: u64,
    /// An operation for each instruction; if the last two are fused, what they are fused to before them.
    ops: Box<[Op]>,
    /// How many operations from the first on carry out the whole block.
    whole: usize,
    /// Address after each instruction.
    ends: Box<[u64]>,
    /// Address after the last one.
    end: u64,
    /// What each instruction writes, for observers who ask.
    writes: Box<[Writes]>,
    /// Where control goes after the last one.
    control: Control,
    /// Blocks that followed this one last: address and number.
    successors: [(u64, u32); 2],
    /// The program is to be stopped before this block.
    is_stop: bool,
    /// Its first instruction asks for the clock; others cannot.
    asks_clock: bool,
    /// Neither of the two.
    is_plain: bool,
    /// Its last instruction is a call or a return.
    transfers: bool,
}

/// How running blocks that follow each other ended.
struct Ended {
    /// The last block.
    number: u32,
    /// Instructions that were completed before it.
    before: u64,
    /// Its instructions that were carried out; after a fault the last of them was not completed.
    count: usize,
    /// Where control goes.
    flow: Result,
    /// The observer wants to stop.
    stopped: bool,
}

impl<Op> Block<Op> {
    /// Operations from the start of the block for `most` instructions, which are fewer than the block has and at
    /// least one.
    #[cold]
    fn first_ops(&self, most: usize) -> &[Op] {
        let plain = if self.whole < self.ends.len() { self.whole - 1 } else { self.whole };
        match plain.min(most) {
            // The first of two that are fused stands behind what they are fused to.
            0 => &self.ops[1..2],
            count => &self.ops[..count],
        }
    }

    /// The block that followed this one lately, and is at an address; [`NO_BLOCK`] if there is none.
    #[inline(always)]
    fn successor(&self, address: u64) -> u32 {
        let [(first, a), (second, b)] = self.successors;
        if first == address {
            a
        } else if second == address {
            b
        } else {
            NO_BLOCK
        }
    }

    /// Notes the call or the return that the last of `count` instructions was.
    #[inline]
    fn note_transfer<C: Cpu>(&self, calls: &mut CallStack, cpu: &C, count: usize, moment: u64) {
        let from = if count == 1 { self.start } else { self.ends[count - 2] };
        note_transfer(calls, cpu, self.control, from, self.ends[count - 1], moment);
    }
}

/// Decoded code, as operations for one kind of observer.
struct Code<Op> {
    blocks: Vec<Block<Op>>,
    by_address: HashMap<u64, u32>,
    lookup: Box<[(u64, u32)]>,
}

impl<Op> Code<Op> {
    fn new() -> Code<Op> {
        Code {
            blocks: Vec::new(),
            by_address: HashMap::new(),
            lookup: vec![(0, NO_BLOCK); LOOKUP_ENTRIES].into(),
        }
    }

    /// Where in the table of look-ups a block is, if it was looked up lately.
    #[inline(always)]
    fn slot(address: u64) -> usize {
        (address ^ address >> 12) as usize % LOOKUP_ENTRIES
    }

    /// The block at an address, if it was looked up lately; else [`NO_BLOCK`].
    #[inline(always)]
    fn looked_up(&self, address: u64) -> u32 {
        let (other, number) = self.lookup[Self::slot(address)];
        if other == address { number } else { NO_BLOCK }
    }

    fn forget(&mut self) {
        self.blocks.clear();
        self.by_address.clear();
        self.lookup.fill((0, NO_BLOCK));
    }
}

/// A processor with its decoded code.
pub(crate) struct Engine<C: Cpu> {
    pub cpu: C,
    pub calls: CallStack,
    code: Code<C::Op<Idle>>,
    /// The same code for runs under a watcher, once there was one.
    watched_code: Option<Box<Code<C::Op<Watcher>>>>,
    stops: Vec<u64>,
    /// Instructions that were stepped lately.
    plans: Plans<C::Op<StepEffects>>,
}

const PLAN_ENTRIES: usize = 1024;

/// Plans by address, each in the entry that its address leads to.
type Plans<Op> = Box<[Option<Arc<Plan<Op>>>]>;

/// An instruction with what stepping it needs to know of its row.
pub(crate) struct Plan<Op> {
    pub instruction: Arc<Instruction>,
    op: Op,
    /// Registers that are read.
    pub reads: Box<[(Storage, Reg)]>,
    /// Registers that are written, each once, by the widest name used.
    pub writes: Box<[(Storage, Reg)]>,
    /// Vector registers that are written.
    pub vectors: Box<[(u8, Reg)]>,
    pub flags_written: FlagSet,
    /// The flags that are left undefined, unless that depends on a count.
    pub undefined: Option<FlagSet>,
}

impl<Op> Plan<Op> {
    fn new(op: Op, instruction: Instruction) -> Plan<Op> {
        let used = effects::registers_used(&instruction);
        let read = used.iter().filter(|(access, _)| access.reads());
        Plan {
            op,
            reads: read.filter_map(|(_, reg)| Some((reg.storage()?, *reg))).collect(),
            writes: effects::written(&instruction).into(),
            vectors: effects::written_vectors(&instruction).into(),
            flags_written: instruction.flags().written(),
            undefined: Some(instruction.flags())
                .filter(|flags| flags.undefined_when.is_empty())
                .map(|flags| flags.undefined),
            instruction: Arc::new(instruction),
        }
    }
}

impl<C: Cpu> Engine<C> {
    pub fn new(cpu: C) -> Engine<C> {
        let (code, calls) = (Code::new(), CallStack::default());
        let plans = vec![None; PLAN_ENTRIES].into();
        Engine { cpu, calls, code, watched_code: None, stops: Vec::new(), plans }
    }

    /// Sets the addresses before which running stops.
    pub fn set_stops(&mut self, stops: &[u64]) {
        if self.stops != stops {
            self.stops = stops.to_vec();
            self.forget_code();
        }
    }

    /// Whether running stops before an address.
    pub fn is_stop(&self, address: u64) -> bool {
        self.stops.contains(&address)
    }

    fn forget_code(&mut self) {
        self.code.forget();
        self.watched_code = None;
        self.plans.fill(None);
    }

    /// Runs until an event, or until `budget` instructions are completed. A stop at the first
    /// instruction does not count, so that running can go on from one.
    pub fn run(&mut self, memory: &mut Memory, budget: u64) -> Run {
        if memory.take_code_written() {
            self.forget_code();
        }
        let Engine { cpu, calls, code, stops, .. } = self;
        let run = Runner { cpu, calls, code, stops }.run(memory, budget, &mut Idle);
        if run.1 {
            self.watched_code = None;
            self.plans.fill(None);
        }
        run.0
    }

    /// Runs likewise under a watcher, which can stop it with [`Event::Written`].
    pub fn run_watched(&mut self, memory: &mut Memory, budget: u64, watcher: &mut Watcher) -> Run {
        if memory.take_code_written() {
            self.forget_code();
        }
        let Engine { cpu, calls, watched_code, stops, .. } = self;
        let code = watched_code.get_or_insert_with(|| Box::new(Code::new()));
        let run = Runner { cpu, calls, code, stops }.run(memory, budget, watcher);
        if run.1 {
            self.code.forget();
            self.plans.fill(None);
        }
        run.0
    }

    /// The instruction at the program counter, ready to be stepped.
    pub fn plan(&mut self, memory: &mut Memory) -> Result<Arc<Plan<C::Op<StepEffects>>>> {
        if memory.take_code_written() {
            self.forget_code();
        }
        let pc = self.cpu.pc();
        let entry = (pc ^ pc >> 10) as usize % PLAN_ENTRIES;
        if let Some(plan) = &self.plans[entry]
            && plan.instruction.address == pc
        {
            return Ok(plan.clone());
        }
        let instruction = fetch_instruction(self.cpu.arch(), memory, pc)?;
        let end = instruction.end();
        let plan = Arc::new(Plan::new(C::translate(&instruction), instruction));
        memory.mark_code(pc, end);
        self.plans[entry] = Some(plan.clone());
        Ok(plan)
    }

    /// Carries out one instruction and collects its memory accesses. Its flow tells whether it was a
    /// system call; the program counter is moved on.
    pub fn step(
        &mut self,
        memory: &mut Memory,
        plan: &Plan<C::Op<StepEffects>>,
        effects: &mut StepEffects,
    ) -> Result {
        let instruction = &*plan.instruction;
        let flow = self.cpu.execute(memory, &plan.op, effects)?;
        if flow == Flow::Again {
            return Ok(flow);
        }
        self.cpu.unseen().clock += 1;
        match flow {
            Flow::Jump => {
                let moment = self.cpu.unseen().clock;
                let (from, end) = (instruction.address, instruction.end());
                note_transfer(&mut self.calls, &self.cpu, instruction.control(), from, end, moment);
            }
            _ => self.cpu.set_pc(instruction.end()),
        }
        if memory.take_code_written() {
            self.forget_code();
        }
        Ok(flow)
    }
}

/// Notes that control was just sent somewhere, if that was a call or a return.
#[inline]
fn note_transfer<C: Cpu>(
    calls: &mut CallStack,
    cpu: &C,
    control: Control,
    from: u64,
    return_address: u64,
    moment: u64,
) {
    if !matches!(control, Control::Call | Control::Return) {
        return;
    }
    let arch = cpu.arch();
    let place = match arch.stacks_return_address() {
        true => ReturnAddress::OnStack,
        false => ReturnAddress::InRegister,
    };
    let stack_pointer = cpu.register(arch.stack_pointer());
    let call = Call { from, return_address, routine: cpu.pc(), stack_pointer, moment };
    calls.note(control, place, call);
}

/// What running needs of an engine.
struct Runner<'a, C: Cpu, O: Observer> {
    cpu: &'a mut C,
    calls: &'a mut CallStack,
    code: &'a mut Code<C::Op<O>>,
    stops: &'a [u64],
}

impl<C: Cpu, O: RunObserver> Runner<'_, C, O> {
    /// Runs, and says whether code was written over meanwhile.
    fn run(mut self, memory: &mut Memory, budget: u64, observer: &mut O) -> (Run, bool) {
        let start = self.cpu.unseen().clock;
        let (run, written) = self.run_blocks(memory, budget, start, observer);
        self.cpu.unseen().clock = start + run.executed;
        (run, written)
    }

    fn run_blocks(
        &mut self,
        memory: &mut Memory,
        budget: u64,
        start: u64,
        observer: &mut O,
    ) -> (Run, bool) {
        let mut executed = 0u64;
        let mut previous = NO_BLOCK;
        let mut written = false;
        loop {
            if memory.wants_attention() {
                if memory.take_code_written() {
                    self.code.forget();
                    (previous, written) = (NO_BLOCK, true);
                }
                if memory.take_pause() {
                    return (Run { executed, event: Event::Paused }, written);
                }
            }
            if executed == budget {
                return (Run { executed, event: Event::Budget }, written);
            }
            let number = match self.block(memory, previous) {
                Ok(number) => number,
                Err(fault) => return (Run { executed, event: Event::Fault(*fault) }, written),
            };
            let block = &self.code.blocks[number as usize];
            if block.is_stop && executed > 0 {
                return (Run { executed, event: Event::Stop }, written);
            }
            if block.asks_clock {
                self.cpu.unseen().clock = start + executed;
            }
            let budget = budget - executed;
            let Ended { number, before, count, flow, stopped } = match O::ACTIVE {
                true => self.run_watched(memory, number, budget, start + executed, observer),
                false => self.run_following(memory, number, budget, start + executed, observer),
            };
            executed += before;
            let block = &self.code.blocks[number as usize];
            let flow = match flow {
                Ok(flow) => flow,
                Err(fault) => {
                    // The last one was not completed; of two that are fused, the first.
                    let done = count - 1;
                    if !fault.is_trap() {
                        self.cpu.set_pc(if done == 0 { block.start } else { block.ends[done - 1] });
                    }
                    let executed = executed + done as u64;
                    return (Run { executed, event: Event::Fault(*fault) }, written);
                }
            };
            if flow == Flow::Again {
                let done = count - 1;
                self.cpu.set_pc(if done == 0 { block.start } else { block.ends[done - 1] });
                let executed = executed + done as u64;
                memory.take_pause();
                return (Run { executed, event: Event::Unfinished }, written);
            }
            executed += count as u64;
            match flow {
                Flow::Jump if block.transfers => {
                    block.note_transfer(self.calls, self.cpu, count, start + executed);
                }
                Flow::Jump => {}
                _ => self.cpu.set_pc(block.ends[count - 1]),
            }
            match flow {
                Flow::Next | Flow::Jump | Flow::Leave if O::ACTIVE && stopped => {
                    return (Run { executed, event: Event::Written }, written);
                }
                // Those to go on from; the last was left above.
                Flow::Next | Flow::Jump | Flow::Leave | Flow::Again => previous = number,
                Flow::Syscall => return (Run { executed, event: Event::Syscall }, written),
                Flow::Syscall32 => return (Run { executed, event: Event::Syscall32 }, written),
                Flow::Sysenter => return (Run { executed, event: Event::Sysenter }, written),
            }
        }
    }

    /// Carries out a block, or what `budget` allows of it, telling the observer of each instruction.
    #[inline(always)]
    fn run_watched(
        &mut self,
        memory: &mut Memory,
        number: u32,
        budget: u64,
        start: u64,
        observer: &mut O,
    ) -> Ended {
        let block = &self.code.blocks[number as usize];
        let ops = &block.ops[..block.ops.len().min(usize::try_from(budget).unwrap_or(usize::MAX))];
        let mut ended = Ended { number, before: 0, count: 0, flow: Ok(Flow::Next), stopped: false };
        for (index, op) in ops.iter().enumerate() {
            ended.count = index + 1;
            ended.flow = self.cpu.execute(memory, op, observer);
            let address = if index == 0 { block.start } else { block.ends[index - 1] };
            // What an instruction that is not completed wrote is told of when it is.
            let completed = !matches!(ended.flow, Err(_) | Ok(Flow::Again));
            ended.stopped = completed
                && observer.completed(start + index as u64, address, block.writes.get(index));
            if ended.stopped || !matches!(ended.flow, Ok(Flow::Next)) {
                break;
            }
        }
        ended
    }

    /// Carries out a block, and on from there as long as control goes where it was lately, to blocks that want no
    /// more than to be carried out, and `budget` has room for them. This is where programs spend their time:
    /// what happens seldom is left to who calls it.
    #[inline(always)]
    fn run_following(
        &mut self,
        memory: &mut Memory,
        mut number: u32,
        budget: u64,
        start: u64,
        observer: &mut O,
    ) -> Ended {
        let Runner { cpu, calls, code, .. } = self;
        let mut before = 0;
        let mut block = &code.blocks[number as usize];
        if block.ends.len() as u64 > budget {
            let (count, flow) = run_ops(*cpu, memory, block.first_ops(budget as usize), observer);
            return Ended { number, before, count, flow, stopped: false };
        }
        loop {
            let ops = &block.ops[..block.whole];
            let (ran, flow) = run_ops(*cpu, memory, ops, observer);
            if ran < ops.len() {
                return Ended { number, before, count: ran, flow, stopped: false };
            }
            let count = if flow.is_ok() { block.ends.len() } else { ran };
            let pc = match flow {
                Ok(Flow::Jump) => cpu.pc(),
                Ok(Flow::Next) => block.end,
                _ => return Ended { number, before, count, flow, stopped: false },
            };
            let after = before + count as u64;
            let next = match block.successor(pc) {
                // A return goes to many places.
                NO_BLOCK => code.looked_up(pc),
                number => number,
            };
            let following = match code.blocks.get(next as usize) {
                Some(block)
                    if block.is_plain
                        && block.ends.len() as u64 <= budget - after
                        && !memory.wants_attention() =>
                {
                    block
                }
                _ => return Ended { number, before, count, flow, stopped: false },
            };
            match flow {
                Ok(Flow::Jump) if block.transfers => {
                    block.note_transfer(calls, *cpu, count, start + after);
                }
                Ok(Flow::Jump) => {}
                _ => cpu.set_pc(pc),
            }
            (number, before, block) = (next, after, following);
        }
    }

    /// The block at the program counter, decoded if it is not yet.
    #[inline(always)]
    fn block(&mut self, memory: &mut Memory, previous: u32) -> Result<u32> {
        let pc = self.cpu.pc();
        let lately = self.code.blocks.get(previous as usize).map(|block| block.successor(pc));
        match lately {
            Some(number) if number != NO_BLOCK => Ok(number),
            _ => self.find_block(memory, previous),
        }
    }

    /// As [`Runner::block`], of one that did not follow the previous one lately.
    #[inline(never)]
    fn find_block(&mut self, memory: &mut Memory, previous: u32) -> Result<u32> {
        let pc = self.cpu.pc();
        let number = match self.code.looked_up(pc) {
            NO_BLOCK => {
                let number = match self.code.by_address.get(&pc) {
                    Some(&number) => number,
                    None => self.decode_block(memory, pc)?,
                };
                self.code.lookup[Code::<C::Op<O>>::slot(pc)] = (pc, number);
                number
            }
            number => number,
        };
        if previous != NO_BLOCK {
            let successors = &mut self.code.blocks[previous as usize].successors;
            successors[1] = successors[0];
            successors[0] = (pc, number);
        }
        Ok(number)
    }

    fn decode_block(&mut self, memory: &mut Memory, start: u64) -> Result<u32> {
        let mut ops = Vec::new();
        let mut ends = Vec::new();
        let mut writes = Vec::new();
        let mut control = Control::Next;
        let mut asks_clock = false;
        let mut last: Option<Instruction> = None;
        let mut fused = None;
        let mut pc = start;
        while ops.len() < MAX_BLOCK {
            if !ops.is_empty() && self.stops.contains(&pc) {
                break;
            }
            let instruction = match fetch_instruction(self.cpu.arch(), memory, pc) {
                Ok(instruction) => instruction,
                Err(fault) if ops.is_empty() => return Err(fault),
                Err(_) => break,
            };
            if C::asks_clock(&instruction) {
                if !ops.is_empty() {
                    break;
                }
                asks_clock = true;
            }
            pc = instruction.end();
            ops.push(C::translate(&instruction));
            ends.push(pc);
            if O::ACTIVE {
                writes.push(Writes::of(&instruction));
            }
            control = instruction.control();
            if control != Control::Next {
                // Who watches is told of each.
                if !O::ACTIVE {
                    fused = last.and_then(|last| C::fuse(&last, &instruction));
                }
                break;
            }
            last = Some(instruction);
        }
        let mut whole = ops.len();
        if let Some(fused) = fused {
            whole -= 1;
            ops.insert(whole - 1, fused);
        }
        memory.mark_code(start, pc);
        let number = self.code.blocks.len() as u32;
        let is_stop = self.stops.contains(&start);
        self.code.blocks.push(Block {
            start,
            ops: ops.into(),
            whole,
            ends: ends.into(),
            end: pc,
            writes: writes.into(),
            control,
            successors: [(0, NO_BLOCK); 2],
            is_stop,
            asks_clock,
            is_plain: !is_stop && !asks_clock,
            transfers: matches!(control, Control::Call | Control::Return),
        });
        self.code.by_address.insert(start, number);
        Ok(number)
    }
}

/// Carries out operations up to one that control does not simply go on from; how many, with that one, and where
/// it goes. After a fault the last of them was not completed.
#[inline(always)]
fn run_ops<C: Cpu, O: Observer>(
    cpu: &mut C,
    memory: &mut Memory,
    ops: &[C::Op<O>],
    observer: &mut O,
) -> (usize, Result) {
    for (index, op) in ops.iter().enumerate() {
        let result = cpu.execute(memory, op, observer);
        if !matches!(result, Ok(Flow::Next)) {
            return (index + 1, result);
        }
    }
    (ops.len(), Ok(Flow::Next))
}

/// Fetches and decodes the instruction at an address.
pub(crate) fn fetch_instruction(arch: Arch, memory: &mut Memory, pc: u64) -> Result<Instruction> {
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
