//! Shadow state: which bytes of registers and memory are uninitialised, and which instructions use them.
//!
//! A byte is clean or has a *taint*: the number of an [`Origin`], which says why the byte is uninitialised. Copies, pushes
//! and arithmetic pass taints on; the result of an instruction has the taint of its operands. A use is reported where a
//! tainted value decides a branch, is an address, or reaches a system call. Vector registers have no shadow: what goes
//! through them is clean.

use std::collections::HashMap;

use sotto_isa::{
    Access, Arch, Control, FrameStep, IndexMode, Instruction, Mem, Operand, Reg, Storage, Traits,
};
use sotto_kernel::SyscallReport;
use sotto_machine::{Machine, PAGE_BYTES, RegionKind, StepEffects};

/// Why a byte is uninitialised.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) enum Cause {
    /// The register was not set since the start.
    Unset(Storage),
    /// A call from this address changed the register.
    Call(Storage, u64),
    /// A system call at this address destroyed the register.
    Syscall(Storage, u64),
    /// Memory at this address was never written.
    Unwritten(u64),
    /// Memory at this address was below the stack pointer when a call from the second address returned.
    Stale(u64, u64),
}

/// The origin of tainted bytes.
#[derive(Clone, Debug)]
pub(crate) struct Origin {
    pub cause: Cause,
    /// The first instruction that read such a byte as data; a copy does not count.
    pub first_read: Option<u64>,
    reported: bool,
}

/// A use of an uninitialised value.
pub(crate) struct TaintedUse {
    pub cause: Cause,
    /// The instruction that read it first.
    pub first_read: u64,
    /// The instruction that uses it.
    pub at: u64,
    /// What it is used as.
    pub how: &'static str,
}

type Taint = u32;
const CLEAN: Taint = 0;
/// Taints of memory that get an origin when an instruction reads the byte.
const UNWRITTEN: Taint = u32::MAX;
const STALE: Taint = u32::MAX - 1;

type Bytes = [Taint; 8];

/// The state of every byte.
pub(crate) struct Shadow {
    arch: Arch,
    registers: Vec<Bytes>,
    flags: Taint,
    /// Pages that hold taints.
    pages: HashMap<u64, Box<[Taint; PAGE_BYTES as usize]>, foldhash::fast::RandomState>,
    origins: Vec<Origin>,
    /// The stack that was never written: from its start to the first stack pointer.
    unwritten: (u64, u64),
    /// The lowest byte of the stack that was written since the last return.
    lowest: u64,
    /// The last call that returned.
    returned_from: u64,
}

/// Origins that are kept; afterwards new ones count as clean.
const MOST_ORIGINS: usize = 1 << 20;

impl Shadow {
    /// The shadow of a machine at its start: no register but the stack pointer is set, and the stack below the stack pointer
    /// is not written.
    pub fn new(machine: &Machine) -> Shadow {
        let arch = machine.arch();
        let sp = machine.register(arch.stack_pointer());
        let start = machine
            .memory()
            .region_at(sp)
            .filter(|region| region.kind == RegionKind::Stack)
            .map_or(sp, |region| region.start);
        let mut shadow = Shadow {
            arch,
            registers: vec![[CLEAN; 8]; arch.storage_names().len()],
            flags: CLEAN,
            pages: HashMap::default(),
            origins: vec![Origin { cause: Cause::Unwritten(0), first_read: None, reported: true }],
            unwritten: (start, sp),
            lowest: sp,
            returned_from: 0,
        };
        for storage in arch.general_storages() {
            if storage != arch.stack_pointer() && storage != arch.pc() {
                shadow.registers[usize::from(storage.0)] =
                    [shadow.origin(Cause::Unset(storage)); 8];
            }
        }
        shadow
    }

    /// Marks so many low bytes of a register as set.
    pub fn set(&mut self, storage: Storage, bytes: usize) {
        self.registers[usize::from(storage.0)][..bytes].fill(CLEAN);
    }

    /// Marks a register as lost in a call from an address.
    pub fn lose(&mut self, storage: Storage, from: u64) {
        let taint = self.origin(Cause::Call(storage, from));
        self.registers[usize::from(storage.0)] = [taint; 8];
    }

    /// Marks memory as written.
    pub fn set_memory(&mut self, address: u64, bytes: u64) {
        self.fill(address, bytes, CLEAN);
    }

    fn origin(&mut self, cause: Cause) -> Taint {
        if self.origins.len() >= MOST_ORIGINS {
            return CLEAN;
        }
        self.origins.push(Origin { cause, first_read: None, reported: false });
        (self.origins.len() - 1) as Taint
    }

    fn memory_taint(&self, address: u64) -> Taint {
        match self.pages.get(&(address / PAGE_BYTES)) {
            Some(page) => page[(address % PAGE_BYTES) as usize],
            None if (self.unwritten.0..self.unwritten.1).contains(&address) => UNWRITTEN,
            None => CLEAN,
        }
    }

    fn fill(&mut self, address: u64, bytes: u64, taint: Taint) {
        let mut at = address;
        let end = address.saturating_add(bytes);
        while at < end {
            let page_end = (at / PAGE_BYTES + 1).saturating_mul(PAGE_BYTES).min(end);
            let (number, unwritten) = (at / PAGE_BYTES, self.unwritten);
            let in_stack = number * PAGE_BYTES < unwritten.1 && page_end > unwritten.0;
            if taint != CLEAN || in_stack || self.pages.contains_key(&number) {
                let page = self.pages.entry(number).or_insert_with(|| {
                    let mut page = Box::new([CLEAN; PAGE_BYTES as usize]);
                    for (offset, byte) in page.iter_mut().enumerate() {
                        let address = number * PAGE_BYTES + offset as u64;
                        if (unwritten.0..unwritten.1).contains(&address) {
                            *byte = UNWRITTEN;
                        }
                    }
                    page
                });
                let from = (at % PAGE_BYTES) as usize;
                page[from..from + (page_end - at) as usize].fill(taint);
            }
            at = page_end;
        }
    }

    /// The taint of memory of which every byte is uninitialised.
    fn read_whole(&mut self, address: u64, bytes: u64) -> Taint {
        let limit = bytes.min(4096);
        let initialised = (0..limit).any(|at| self.memory_taint(address.wrapping_add(at)) == CLEAN);
        if initialised { CLEAN } else { self.read_memory(address, bytes) }
    }

    /// The taint of memory, with an origin: the first byte that has one. What was only marked gets its origin now.
    fn read_memory(&mut self, address: u64, bytes: u64) -> Taint {
        let limit = bytes.min(4096);
        for at in address..address.saturating_add(limit) {
            let taint = match self.memory_taint(at) {
                CLEAN => continue,
                UNWRITTEN => self.origin(Cause::Unwritten(at)),
                STALE => self.origin(Cause::Stale(at, self.returned_from)),
                taint => return taint,
            };
            // The marked bytes beside each other share it.
            let marked = |taint| matches!(taint, UNWRITTEN | STALE);
            let mut end = at;
            while end < address + limit && marked(self.memory_taint(end)) {
                end += 1;
            }
            self.fill(at, end - at, taint);
            return taint;
        }
        CLEAN
    }

    /// The taints of a part of a register, the lowest byte first.
    fn part(&self, reg: Reg) -> &[Taint] {
        let Some(storage) = reg.storage() else { return &[] };
        let first = (reg.shift() / 8) as usize;
        let last = first + (reg.width().bytes() as usize).min(8);
        &self.registers[usize::from(storage.0)][first..last]
    }

    /// The taint of a part of a register. A part of which some bytes are initialised counts as initialised: an extraction,
    /// or a comparison of a structure with padding, does not depend on the others.
    fn read_register(&self, reg: Reg) -> Taint {
        let part = self.part(reg);
        match part.contains(&CLEAN) {
            true => CLEAN,
            false => part.first().copied().unwrap_or(CLEAN),
        }
    }

    /// Writes taints through a name of a register.
    fn write_register(&mut self, reg: Reg, taints: impl Fn(usize) -> Taint) {
        let Some(storage) = reg.storage() else { return };
        if storage == self.arch.stack_pointer() || storage == self.arch.pc() {
            return;
        }
        let first = (reg.shift() / 8) as usize;
        let bytes = (reg.width().bytes() as usize).min(8);
        let whole = &mut self.registers[usize::from(storage.0)];
        for byte in 0..bytes {
            whole[first + byte] = taints(byte);
        }
        if bytes == 4 {
            whole[4..].fill(CLEAN);
        }
    }

    /// Why the lowest byte of a register is uninitialised, if it is.
    pub fn cause_of(&self, storage: Storage) -> Option<&Cause> {
        let taint = self.registers[usize::from(storage.0)][0];
        (taint != CLEAN).then(|| &self.origins[taint as usize].cause)
    }

    fn first_read(&mut self, taint: Taint, at: u64) {
        if taint != CLEAN {
            self.origins[taint as usize].first_read.get_or_insert(at);
        }
    }

    /// The use of a value with this taint; each origin is reported once.
    fn report_use(&mut self, taint: Taint, at: u64, how: &'static str) -> Option<TaintedUse> {
        if taint == CLEAN {
            return None;
        }
        let origin = &mut self.origins[taint as usize];
        if origin.reported {
            return None;
        }
        origin.reported = true;
        let first_read = *origin.first_read.get_or_insert(at);
        Some(TaintedUse { cause: origin.cause.clone(), first_read, at, how })
    }

    /// Notes a return: the memory below the stack pointer is uninitialised from now on.
    pub fn returned(&mut self, machine: &Machine, from: u64) {
        let sp = machine.register(self.arch.stack_pointer());
        let on_stack = (self.unwritten.0..=self.unwritten.1).contains(&sp);
        if on_stack && self.lowest < sp {
            self.returned_from = from;
            self.fill(self.lowest, sp - self.lowest, STALE);
            self.lowest = sp;
        }
    }

    /// Follows an instruction that was completed, and gives the uses in it.
    pub fn step(&mut self, instruction: &Instruction, effects: &StepEffects) -> Vec<TaintedUse> {
        let at = instruction.address;
        let mut uses = Vec::new();
        let control = instruction.control();
        let computes = !instruction.traits().contains(Traits::ADDRESS_ONLY);
        let zeroing = instruction.is_zeroing();
        // What is read as data, and what as a part of an address.
        let mut data = CLEAN;
        let add = |taint: Taint, data: &mut Taint| {
            if *data == CLEAN {
                *data = taint;
            }
        };
        for (index, operand) in instruction.operands.iter().enumerate() {
            match operand {
                Operand::Mem(mem) => {
                    for reg in [mem.base, mem.index].into_iter().flatten() {
                        let taint = self.read_register(reg);
                        match computes {
                            true => uses.extend(self.report_use(taint, at, "as an address")),
                            false => add(taint, &mut data),
                        }
                    }
                }
                _ if zeroing || !instruction.access(index).reads() => {}
                operand => {
                    for reg in data_registers(operand) {
                        let taint = self.read_register(reg);
                        add(taint, &mut data);
                    }
                }
            }
        }
        if !zeroing {
            for implicit in instruction.implicit() {
                let pointer = implicit.reg.storage() == Some(self.arch.stack_pointer());
                if implicit.access.reads() && !pointer {
                    let taint = self.read_register(implicit.reg);
                    add(taint, &mut data);
                }
            }
        }
        for read in &effects.memory_reads {
            let taint = self.read_whole(read.address, read.bytes * read.elements);
            add(taint, &mut data);
        }
        if !instruction.flags().tested.is_empty() && control != Control::Syscall {
            let flags = self.flags;
            add(flags, &mut data);
        }
        let copies = ByteCopy::of(instruction, effects);
        if copies.is_empty() {
            self.first_read(data, at);
        }
        match control {
            Control::Branch => uses.extend(self.report_use(data, at, "to decide a branch")),
            Control::Call | Control::Jump | Control::Return if instruction.is_indirect() => {
                uses.extend(self.report_use(data, at, "as the address to go to"));
            }
            Control::Return if self.arch.stacks_return_address() => {
                uses.extend(self.report_use(data, at, "as the address to go to"));
            }
            _ => {}
        }
        // What is written has the taint of what was read.
        if matches!(control, Control::Call | Control::Syscall) {
            data = CLEAN;
        }
        if copies.is_empty() {
            for change in &effects.registers {
                if makes_frame(instruction, change.reg) {
                    self.write_register(change.reg, |_| CLEAN);
                } else if !is_moved_base(instruction, change.reg) {
                    self.write_register(change.reg, |_| data);
                }
            }
            for change in &effects.memory {
                self.write_memory(change.address, change.bytes * change.elements, data);
            }
        }
        for copy in copies {
            self.copy(copy, at);
        }
        if !effects.flags.written.is_empty() {
            self.flags = data;
        }
        uses
    }

    fn write_memory(&mut self, address: u64, bytes: u64, taint: Taint) {
        if (self.unwritten.0..self.unwritten.1).contains(&address) {
            self.lowest = self.lowest.min(address);
        }
        self.fill(address, bytes, taint);
    }

    fn copy(&mut self, copy: ByteCopy, reader: u64) {
        let from: Vec<Taint> = match copy.from {
            Side::Register(reg) => self.part(reg).to_vec(),
            Side::Memory(address, bytes) => {
                (0..bytes).map(|byte| self.memory_taint(address.wrapping_add(byte))).collect()
            }
            Side::Constant => Vec::new(),
        };
        let mut taints: Vec<Taint> = Vec::with_capacity(from.len());
        for (byte, taint) in from.into_iter().enumerate() {
            // A mark becomes an origin as soon as it leaves its place.
            taints.push(match (taint, copy.from) {
                (UNWRITTEN | STALE, Side::Memory(address, _)) => {
                    let taint = self.read_memory(address.wrapping_add(byte as u64), 1);
                    self.first_read(taint, reader);
                    taint
                }
                _ => taint,
            });
        }
        let at = |byte: usize| taints.get(byte).copied().unwrap_or(CLEAN);
        match copy.to {
            Side::Register(reg) => self.write_register(reg, at),
            Side::Memory(address, bytes) => {
                self.write_memory(address, bytes, CLEAN);
                for byte in 0..bytes {
                    let taint = at(byte as usize);
                    if taint != CLEAN {
                        self.fill(address.wrapping_add(byte), 1, taint);
                    }
                }
            }
            Side::Constant => {}
        }
    }

    /// Follows a system call, and gives the uses in it.
    pub fn system_call(
        &mut self,
        instruction: &Instruction,
        call: &SyscallReport,
        destroyed: &[Storage],
    ) -> Vec<TaintedUse> {
        let at = instruction.address;
        let mut uses = Vec::new();
        let convention = call.abi.arch().convention();
        let number = self.read_register(convention.syscall_number);
        uses.extend(self.report_use(number, at, "as the number of a system call"));
        for argument in call.arguments() {
            let Some(storage) = convention.syscall_arguments.get(argument.register) else {
                continue;
            };
            // Descriptors, counts and flags are narrower; addresses are whole.
            let width = if argument.is_address { self.arch.address_bytes() } else { 4 };
            let low = &self.registers[usize::from(storage.0)][..width as usize];
            let taint = low.iter().copied().find(|taint| *taint != CLEAN).unwrap_or(CLEAN);
            uses.extend(self.report_use(taint, at, "as an argument of a system call"));
        }
        for written in &call.written {
            self.set_memory(written.address, written.bytes);
        }
        self.set(convention.syscall_result, 8);
        for &storage in destroyed {
            let taint = self.origin(Cause::Syscall(storage, at));
            self.registers[usize::from(storage.0)] = [taint; 8];
        }
        uses
    }

    /// A use of memory whose bytes leave the program.
    pub fn written_out(&mut self, at: u64, address: u64, bytes: u64) -> Option<TaintedUse> {
        let taint = self.read_memory(address, bytes);
        self.report_use(taint, at, "as output")
    }
}

/// Registers that a register operand reads as data.
fn data_registers(operand: &Operand) -> impl Iterator<Item = Reg> {
    let reg = match operand {
        Operand::Reg(reg) | Operand::Shifted(reg, ..) | Operand::Extended(reg, ..) => Some(*reg),
        _ => None,
    };
    reg.into_iter()
}

/// Whether a register that was written is one of an address that moves, which stays what it was.
fn is_moved_base(instruction: &Instruction, reg: Reg) -> bool {
    instruction.operands.iter().any(|operand| match operand {
        Operand::Mem(Mem { base: Some(base), mode, .. }) => {
            *mode != IndexMode::Offset && base.storage() == reg.storage()
        }
        _ => false,
    })
}

/// Whether a register becomes the frame pointer of a frame that the instruction makes, on x86: ENTER.
fn makes_frame(instruction: &Instruction, reg: Reg) -> bool {
    let arch = instruction.arch;
    let updates = |storage| {
        let mut implicit = instruction.implicit().iter();
        implicit.any(|i| i.reg.storage() == Some(storage) && i.access == Access::ReadWrite)
    };
    reg.storage() == Some(arch.frame_pointer())
        && instruction.operands.iter().all(|operand| matches!(operand, Operand::Imm(_)))
        && !instruction.operands.is_empty()
        && updates(arch.stack_pointer())
        && updates(arch.frame_pointer())
}

/// One side of a copy.
#[derive(Copy, Clone, Debug)]
enum Side {
    Register(Reg),
    Memory(u64, u64),
    Constant,
}

/// A copy of bytes as they are.
#[derive(Copy, Clone, Debug)]
struct ByteCopy {
    from: Side,
    to: Side,
}

impl ByteCopy {
    /// The copies that an instruction made, if it made them and did nothing else: a move, a push, a pop, a load or store of
    /// whole registers.
    fn of(instruction: &Instruction, effects: &StepEffects) -> Vec<ByteCopy> {
        match instruction.frame_step() {
            FrameStep::Push { stored: Some(reg), .. } => {
                let [change] = effects.memory[..] else { return Vec::new() };
                let to = Side::Memory(change.address, change.bytes);
                return vec![ByteCopy { from: Side::Register(reg), to }];
            }
            FrameStep::Pop { loaded: Some(reg), .. } => {
                let [read] = effects.memory_reads[..] else { return Vec::new() };
                let from = Side::Memory(read.address, read.bytes);
                return vec![ByteCopy { from, to: Side::Register(reg) }];
            }
            FrameStep::Transfer { loads, .. } => {
                return ByteCopy::transfers(instruction, effects, loads);
            }
            _ => {}
        }
        let all = ByteCopy::all_registers(instruction, effects);
        if !all.is_empty() {
            return all;
        }
        ByteCopy::moved(instruction, effects).into_iter().collect()
    }

    /// Those of PUSHA and POPA: the registers that the row lists, the first of them at the highest address.
    fn all_registers(instruction: &Instruction, effects: &StepEffects) -> Vec<ByteCopy> {
        let listed = instruction.implicit();
        if listed.len() < 8 || !instruction.operands.is_empty() {
            return Vec::new();
        }
        let pushes = !effects.memory.is_empty();
        let mut places: Vec<(u64, u64)> = match pushes {
            true => effects.memory.iter().map(|change| (change.address, change.bytes)).collect(),
            false => effects.memory_reads.iter().map(|read| (read.address, read.bytes)).collect(),
        };
        places.sort_unstable_by(|a, b| b.cmp(a));
        let pointer = Some(instruction.arch.stack_pointer());
        // What is popped for the stack pointer goes nowhere, and may not be read.
        let all = places.len() == listed.len();
        let registers = listed.iter().map(|i| i.reg).filter(|reg| all || reg.storage() != pointer);
        let copy = |(reg, (address, bytes)): (Reg, (u64, u64))| {
            let memory = Side::Memory(address, bytes);
            let register =
                if reg.storage() == pointer { Side::Constant } else { Side::Register(reg) };
            match pushes {
                true => ByteCopy { from: register, to: memory },
                false => ByteCopy { from: memory, to: register },
            }
        };
        registers.zip(places).map(copy).collect()
    }

    /// Those of whole registers that stand in memory one after the other.
    fn transfers(instruction: &Instruction, effects: &StepEffects, loads: bool) -> Vec<ByteCopy> {
        let accessed: Vec<(u64, u64)> = match loads {
            true => {
                effects.memory_reads.iter().map(|r| (r.address, r.bytes * r.elements)).collect()
            }
            false => effects.memory.iter().map(|w| (w.address, w.bytes * w.elements)).collect(),
        };
        let Some(first) = accessed.iter().map(|(address, _)| *address).min() else {
            return Vec::new();
        };
        let registers: Vec<Reg> = instruction
            .operands
            .iter()
            .filter_map(|operand| match operand {
                Operand::Reg(reg) => Some(*reg),
                _ => None,
            })
            .collect();
        // A load of a byte reads one, however wide its register is.
        let all: u64 = accessed.iter().map(|(_, bytes)| bytes).sum();
        let bytes = all / registers.len().max(1) as u64;
        registers
            .into_iter()
            .enumerate()
            .map(|(number, reg)| {
                let memory = Side::Memory(first.wrapping_add(number as u64 * bytes), bytes);
                // The zero register, and vectors, give and take nothing that is followed.
                let register = match reg.storage() {
                    Some(_) => Side::Register(reg),
                    None => Side::Constant,
                };
                match loads {
                    true => ByteCopy { from: memory, to: register },
                    false => ByteCopy { from: register, to: memory },
                }
            })
            .collect()
    }

    /// That of an instruction that copies its source as it is.
    fn moved(instruction: &Instruction, effects: &StepEffects) -> Option<ByteCopy> {
        if !instruction.traits().contains(Traits::HAS_EXTENDING_FORM)
            || !effects.flags.written.is_empty()
        {
            return None;
        }
        let [first, second] = instruction.operands[..] else { return None };
        if instruction.access(0) != Access::Write {
            return None;
        }
        let from = match second {
            Operand::Reg(reg) if reg.storage().is_some() => Side::Register(reg),
            Operand::Mem(_) => {
                let [read] = effects.memory_reads[..] else { return None };
                Side::Memory(read.address, read.bytes)
            }
            Operand::Imm(_) => Side::Constant,
            _ => return None,
        };
        let to = match first {
            Operand::Reg(reg) if reg.storage().is_some() => Side::Register(reg),
            Operand::Mem(_) => {
                let [change] = effects.memory[..] else { return None };
                Side::Memory(change.address, change.bytes)
            }
            _ => return None,
        };
        Some(ByteCopy { from, to })
    }
}
