//! Looking out for writes while the program runs: what is watched, and where it was written.

use std::ops::Range;

use sotto_isa::{FlagSet, Instruction, RegisterId, Storage};

use crate::Observer;
use crate::state::effects;

/// Registers, flags and memory that instructions may write.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Watched {
    /// A bit for each storage register.
    registers: u64,
    /// A bit for each register of other banks: [`RegisterId::mask`].
    banks: u64,
    flags: FlagSet,
    memory: Vec<Range<u64>>,
    /// From the first watched byte to the last.
    hull: Range<u64>,
}

/// Ranges of memory that are told apart.
pub const MAX_RANGES: usize = 64;

impl Watched {
    /// Adds a register, whichever part of it is written.
    pub fn add_register(&mut self, storage: Storage) {
        self.registers |= 1 << storage.0;
    }

    /// Adds a register of a bank beside the general ones.
    pub fn add_bank_register(&mut self, id: RegisterId) {
        self.banks |= id.mask();
    }

    /// Adds flags.
    pub fn add_flags(&mut self, flags: FlagSet) {
        self.flags = self.flags | flags;
    }

    /// Adds bytes of memory. Those beyond the address space are left out.
    pub fn add_memory(&mut self, address: u64, bytes: u64) {
        let range = address..address.saturating_add(bytes);
        self.hull = match self.memory.is_empty() {
            true => range.clone(),
            false => self.hull.start.min(range.start)..self.hull.end.max(range.end),
        };
        self.memory.push(range);
    }

    /// The watched memory.
    pub fn memory(&self) -> &[Range<u64>] {
        &self.memory
    }

    /// Whether nothing but memory is watched.
    pub fn is_memory_only(&self) -> bool {
        self.registers == 0 && self.banks == 0 && self.flags.is_empty()
    }

    /// The ranges that some of the bytes lie in, a bit each; ranges beyond the 64th share the last.
    #[inline]
    fn ranges_with(&self, address: u64, bytes: u64) -> u64 {
        let end = address.saturating_add(bytes);
        if address >= self.hull.end || self.hull.start >= end {
            return 0;
        }
        let meets = |range: &Range<u64>| address < range.end && range.start < end;
        let found = self.memory.iter().enumerate().filter(|(_, range)| meets(range));
        found.fold(0, |all, (number, _)| all | 1 << number.min(MAX_RANGES - 1))
    }

    /// Whether an instruction writes some of the registers or flags by its row.
    fn is_written_by(&self, writes: Writes) -> bool {
        self.registers & writes.registers | self.banks & writes.banks != 0
            || !(self.flags & writes.flags).is_empty()
    }
}

/// What an instruction writes beside memory, by its row.
#[derive(Copy, Clone, Debug)]
pub(crate) struct Writes {
    registers: u64,
    banks: u64,
    flags: FlagSet,
}

impl Writes {
    pub fn of(instruction: &Instruction) -> Writes {
        let registers =
            effects::written(instruction).iter().fold(0, |all, (storage, _)| all | 1 << storage.0);
        let banks =
            effects::written_in_banks(instruction).iter().fold(0, |all, (id, _)| all | id.mask());
        // What is for the system's use is changed by instructions that do not name it; whether it was, the value tells.
        let others = u64::MAX << (instruction.arch.pc().0 + 1);
        let registers = registers | others;
        Writes { registers, banks, flags: instruction.flags().written() }
    }
}

/// What happens when something watched is written.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum OnWrite {
    /// Running stops after the instruction.
    Stop,
    /// Running goes on, and the moment is kept.
    Note,
}

/// Looks out for writes.
#[derive(Clone, Debug)]
pub struct Watcher {
    watched: Watched,
    on_write: OnWrite,
    /// Instructions completed before the last instruction that wrote something watched.
    last: Option<u64>,
    /// The same for each range of memory, and where that instruction stands.
    last_of_ranges: Vec<Option<RangeWrite>>,
    /// The ranges that the instruction being carried out has written to, a bit each.
    touched: u64,
    /// The task whose registers and flags are watched, if not those of any.
    task: Option<u64>,
    /// The task that is running is another.
    memory_only: bool,
    /// The address space whose memory is watched, if not that of any.
    space: Option<u64>,
}

/// The last write to a range of memory.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct RangeWrite {
    /// Instructions completed before the one that wrote.
    pub moment: u64,
    /// Where that instruction stands.
    pub address: u64,
}

impl Watcher {
    /// A watcher that has seen nothing yet.
    pub fn new(watched: Watched, on_write: OnWrite) -> Watcher {
        let last_of_ranges = vec![None; watched.memory.len().min(MAX_RANGES)];
        Watcher {
            watched,
            on_write,
            last: None,
            last_of_ranges,
            touched: 0,
            task: None,
            memory_only: false,
            space: None,
        }
    }

    /// The same, of which nothing is seen while another address space is in use.
    #[must_use]
    pub fn in_space(self, space: u64) -> Watcher {
        Watcher { space: Some(space), ..self }
    }

    /// Whether it looks out while an address space is in use.
    pub fn looks_at(&self, space: u64) -> bool {
        self.space.is_none_or(|own| own == space)
    }

    /// What it watches.
    pub fn watched(&self) -> &Watched {
        &self.watched
    }

    /// Instructions completed before the last instruction that wrote something watched.
    pub fn last_write(&self) -> Option<u64> {
        self.last
    }

    /// Whether to stop for what was seen.
    pub fn wants_stop(&self) -> bool {
        self.on_write == OnWrite::Stop && self.last.is_some()
    }

    /// The last write to each of the ranges of memory, in their order, up to [`MAX_RANGES`].
    pub fn last_of_ranges(&self) -> &[Option<RangeWrite>] {
        &self.last_of_ranges
    }

    /// Notes that the kernel wrote memory for the instruction that was just completed.
    pub fn note_kernel_write(&mut self, address: u64, bytes: u64) {
        self.touched |= self.watched.ranges_with(address, bytes);
    }

    /// Notes that an instruction which makes a system call was completed after `moment` others.
    pub fn completed_syscall(&mut self, moment: u64, instruction: &Instruction) {
        self.completed(moment, instruction.address, Some(&Writes::of(instruction)));
    }

    /// Notes that a handler was entered after `moment` instructions: its registers are new.
    pub fn completed_delivery(&mut self, moment: u64) {
        // No instruction wrote it.
        self.take_touched(moment, 0);
        if !self.memory_only && !self.watched.is_memory_only() {
            self.last = Some(moment);
        }
    }

    /// The same watcher, for registers and flags of the task of this number alone.
    #[must_use]
    pub fn of_task(mut self, task: u64) -> Watcher {
        self.task = Some(task);
        self
    }

    /// Says whose registers those are that instructions write from now on.
    pub fn watch_registers_of(&mut self, task: u64) {
        self.memory_only = self.task.is_some_and(|watched| watched != task);
    }

    fn take_touched(&mut self, moment: u64, address: u64) {
        if self.touched == 0 {
            return;
        }
        self.last = Some(moment);
        for (number, last) in self.last_of_ranges.iter_mut().enumerate() {
            if self.touched & 1 << number != 0 {
                *last = Some(RangeWrite { moment, address });
            }
        }
        self.touched = 0;
    }
}

impl Observer for Watcher {
    const ACTIVE: bool = true;

    fn read(&mut self, _: u64, _: u64, _: u64) {}

    fn write(&mut self, address: u64, bytes: u64, _: u64, _: u64) {
        self.touched |= self.watched.ranges_with(address, bytes);
    }
}

/// An observer of whole runs.
pub(crate) trait RunObserver: Observer {
    /// The instruction at `address` was completed after `moment` others; whether to stop here.
    fn completed(&mut self, moment: u64, address: u64, writes: Option<&Writes>) -> bool;
}

impl RunObserver for crate::Idle {
    #[inline]
    fn completed(&mut self, _: u64, _: u64, _: Option<&Writes>) -> bool {
        false
    }
}

impl RunObserver for Watcher {
    #[inline]
    fn completed(&mut self, moment: u64, address: u64, writes: Option<&Writes>) -> bool {
        self.take_touched(moment, address);
        if !self.memory_only && writes.is_some_and(|writes| self.watched.is_written_by(*writes)) {
            self.last = Some(moment);
        }
        self.wants_stop()
    }
}
