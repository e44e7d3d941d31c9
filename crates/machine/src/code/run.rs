//! The loop that runs decoded blocks.

use sotto_isa::{Control, Instruction};

use crate::code::cache::{Block, Code, MAX_BLOCK, NO_BLOCK, NO_KEY};
use crate::code::calls::{Call, CallStack, ReturnAddress};
use crate::code::processor::{BlockKey, Event, Flow, Processor, Result, Run, fetch_instruction};
use crate::code::watch::{RunObserver, Writes};
use crate::memory::code_marks::CodeChange;
use crate::{Memory, Observer};

/// How running blocks that follow each other ended.
struct ChainEnd {
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

/// What running needs of an engine.
pub(crate) struct Runner<'a, C: Processor, O: Observer> {
    pub cpu: &'a mut C,
    pub calls: &'a mut CallStack,
    pub code: &'a mut Code<C::Op<O>>,
    pub stops: &'a [u64],
    /// Where the instruction ends that makes a system call, when running stops at one.
    pub syscall_end: &'a mut u64,
}

impl<C: Processor, O: RunObserver> Runner<'_, C, O> {
    /// Runs, and says what decoded code was written over meanwhile.
    pub fn run(mut self, memory: &mut Memory, budget: u64, observer: &mut O) -> (Run, CodeChange) {
        let start = self.cpu.time_and_entropy().clock;
        let (run, written) = self.run_blocks(memory, budget, start, observer);
        self.cpu.time_and_entropy().clock = start + run.executed;
        (run, written)
    }

    fn run_blocks(
        &mut self,
        memory: &mut Memory,
        budget: u64,
        start: u64,
        observer: &mut O,
    ) -> (Run, CodeChange) {
        let mut executed = 0u64;
        let mut previous = NO_BLOCK;
        let mut written = CodeChange::NONE;
        loop {
            if memory.wants_attention() {
                let change = memory.take_changed_code();
                if change.is_some() {
                    self.code.drop_changed(&change);
                    written.add(change);
                    previous = NO_BLOCK;
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
                self.cpu.time_and_entropy().clock = start + executed;
            }
            let budget = budget - executed;
            let ChainEnd { number, before, count, flow, stopped } = match O::ACTIVE {
                true => self.run_watched(memory, number, budget, start + executed, observer),
                false => self.run_chained(memory, number, budget, start + executed, observer),
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
            if let Some(event) = flow.event() {
                let done = count - 1;
                self.cpu.set_pc(if done == 0 { block.start } else { block.ends[done - 1] });
                *self.syscall_end = block.ends[done];
                let executed = executed + done as u64;
                if event == Event::Unfinished {
                    memory.take_pause();
                }
                return (Run { executed, event }, written);
            }
            executed += count as u64;
            match flow {
                Flow::Jump if block.transfers => {
                    note_block_transfer(block, self.calls, self.cpu, count, start + executed);
                }
                Flow::Jump => {}
                _ => self.cpu.set_pc(block.ends[count - 1]),
            }
            if O::ACTIVE && stopped {
                return (Run { executed, event: Event::Written }, written);
            }
            previous = number;
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
    ) -> ChainEnd {
        let block = &self.code.blocks[number as usize];
        let ops = &block.ops[..block.ops.len().min(usize::try_from(budget).unwrap_or(usize::MAX))];
        let mut ended =
            ChainEnd { number, before: 0, count: 0, flow: Ok(Flow::Next), stopped: false };
        for (index, op) in ops.iter().enumerate() {
            ended.count = index + 1;
            ended.flow = self.cpu.execute(memory, op, observer);
            let address = if index == 0 { block.start } else { block.ends[index - 1] };
            // What an instruction that is not completed wrote is told of when it is.
            let completed = matches!(ended.flow, Ok(flow) if flow.event().is_none());
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
    fn run_chained(
        &mut self,
        memory: &mut Memory,
        mut number: u32,
        budget: u64,
        start: u64,
        observer: &mut O,
    ) -> ChainEnd {
        let Runner { cpu, calls, code, .. } = self;
        let mut before = 0;
        let mut block = &code.blocks[number as usize];
        if block.ends.len() as u64 > budget {
            let (count, flow) = run_ops(*cpu, memory, block.first_ops(budget as usize), observer);
            return ChainEnd { number, before, count, flow, stopped: false };
        }
        loop {
            let ops = &block.ops[..block.whole];
            let (ran, flow) = run_ops(*cpu, memory, ops, observer);
            if ran < ops.len() {
                return ChainEnd { number, before, count: ran, flow, stopped: false };
            }
            let count = if flow.is_ok() { block.ends.len() } else { ran };
            match flow {
                Ok(Flow::Jump) => {}
                Ok(Flow::Next) => cpu.set_pc(block.end),
                _ => return ChainEnd { number, before, count, flow, stopped: false },
            }
            let key = cpu.block_key();
            let after = before + count as u64;
            let next = match block.successor(key) {
                // A return goes to many places.
                NO_BLOCK => code.looked_up(key),
                number => number,
            };
            let following = match code.blocks.get(next as usize) {
                Some(block)
                    if block.plain_key == key
                        && block.ends.len() as u64 <= budget - after
                        && !memory.wants_attention() =>
                {
                    block
                }
                _ => return ChainEnd { number, before, count, flow, stopped: false },
            };
            if block.transfers && matches!(flow, Ok(Flow::Jump)) {
                note_block_transfer(block, calls, *cpu, count, start + after);
            }
            (number, before, block) = (next, after, following);
        }
    }

    /// The block at the program counter, decoded if it is not yet.
    #[inline(always)]
    fn block(&mut self, memory: &mut Memory, previous: u32) -> Result<u32> {
        let key = self.cpu.block_key();
        let lately = self.code.blocks.get(previous as usize).map(|block| block.successor(key));
        match lately {
            Some(number)
                if self.code.blocks.get(number as usize).is_some_and(|block| block.key == key) =>
            {
                Ok(number)
            }
            _ => self.find_block(memory, previous, key),
        }
    }

    /// As [`Runner::block`], of one that did not follow the previous one lately.
    #[inline(never)]
    fn find_block(&mut self, memory: &mut Memory, previous: u32, key: BlockKey) -> Result<u32> {
        let number = match self.code.looked_up(key) {
            NO_BLOCK => match self.code.find(key) {
                Some(number) => number,
                None => self.decode_block(memory, key)?,
            },
            number => number,
        };
        if previous != NO_BLOCK {
            let successors = &mut self.code.blocks[previous as usize].successors;
            successors[1] = successors[0];
            successors[0] = (key, number);
        }
        Ok(number)
    }

    fn decode_block(&mut self, memory: &mut Memory, key: BlockKey) -> Result<u32> {
        let start = self.cpu.pc();
        let mut ops = Vec::new();
        let mut ends = Vec::new();
        let mut writes = Vec::new();
        let mut control = Control::Next;
        let mut asks_clock = false;
        let mut last: Option<Instruction> = None;
        let mut fused = None;
        let mut is_indirect = false;
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
                is_indirect = instruction.is_indirect();
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
        let is_stop = self.stops.contains(&start);
        Ok(self.code.add(Block {
            key,
            start,
            ops: ops.into(),
            whole,
            ends: ends.into(),
            end: pc,
            writes: writes.into(),
            control,
            successors: [(NO_KEY, NO_BLOCK); 2],
            is_stop,
            asks_clock,
            plain_key: if is_stop || asks_clock { NO_KEY } else { key },
            transfers: CallStack::notes(control, is_indirect),
        }))
    }
}

/// Carries out operations up to one that control does not simply go on from; how many, with that one, and where
/// it goes. After a fault the last of them was not completed.
#[inline(always)]
fn run_ops<C: Processor, O: Observer>(
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

/// Notes the call or the return that the last of `count` instructions was.
#[inline]
fn note_block_transfer<Op, C: Processor>(
    block: &Block<Op>,
    calls: &mut CallStack,
    cpu: &C,
    count: usize,
    moment: u64,
) {
    let from = if count == 1 { block.start } else { block.ends[count - 2] };
    note_transfer(calls, cpu, block.control, from, block.ends[count - 1], moment);
}

/// Notes that control was just sent somewhere by an instruction for which [`CallStack::notes`] holds.
#[inline]
pub(crate) fn note_transfer<C: Processor>(
    calls: &mut CallStack,
    cpu: &C,
    control: Control,
    from: u64,
    return_address: u64,
    moment: u64,
) {
    let arch = cpu.arch();
    let place = match arch.stacks_return_address() {
        true => ReturnAddress::OnStack,
        false => ReturnAddress::InRegister,
    };
    let stack_pointer = cpu.register(arch.stack_pointer());
    let is_handler = false;
    let call = Call { from, return_address, routine: cpu.pc(), stack_pointer, moment, is_handler };
    calls.note(control, place, call);
}
