//! What one instruction read and changed.

use sotto_isa::{
    Access, FlagSet, Instruction, Operand, Reg, RegKind, RegisterId, RegisterValue, Storage,
};

use crate::Observer;

/// A register that an instruction wrote, by the name it was written through.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct RegisterChange {
    /// The name written through; its width is the width of the write.
    pub reg: Reg,
    /// The whole storage register before.
    pub old: u64,
    /// The whole storage register after.
    pub new: u64,
}

/// A register of a bank beside the general ones that an instruction wrote.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct BankChange {
    /// The name written through.
    pub reg: Reg,
    /// The whole register before.
    pub old: RegisterValue,
    /// The whole register after.
    pub new: RegisterValue,
}

/// Flags that an instruction wrote.
#[derive(Copy, Clone, PartialEq, Eq, Debug, Default)]
pub struct FlagChange {
    /// Flags that the instruction may write, undefined ones included.
    pub written: FlagSet,
    /// Flags it leaves undefined.
    pub undefined: FlagSet,
    /// All flags before.
    pub old: FlagSet,
    /// All flags after.
    pub new: FlagSet,
}

/// Bytes of memory that an instruction wrote.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct MemoryChange {
    /// First address.
    pub address: u64,
    /// How many bytes an element has: 1, 2, 4 or 8.
    pub bytes: u64,
    /// How many elements beside each other; more than one only of instructions that write very many.
    pub elements: u64,
    /// The value before, little-endian, zero-extended; of several, that of the first that was written.
    pub old: u64,
    /// The value after.
    pub new: u64,
}

/// Bytes of memory that an instruction read.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct MemoryRead {
    /// First address.
    pub address: u64,
    /// How many bytes an element has: 1, 2, 4 or 8.
    pub bytes: u64,
    /// How many elements beside each other; more than one only of instructions that read very many.
    pub elements: u64,
    /// The value, little-endian, zero-extended; of several, that of the first that was read.
    pub value: u64,
}

/// What one instruction read and changed.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct StepEffects {
    /// Registers read, with their values before.
    pub reads: Vec<(Reg, u64)>,
    /// Registers written, whether or not the value changed.
    pub registers: Vec<RegisterChange>,
    /// Registers of other banks written, whether or not the value changed.
    pub banks: Vec<BankChange>,
    /// Flags written.
    pub flags: FlagChange,
    /// Memory read.
    pub memory_reads: Vec<MemoryRead>,
    /// Memory written, whether or not the value changed.
    pub memory: Vec<MemoryChange>,
}

impl StepEffects {
    /// Forgets everything, and keeps the room.
    pub(crate) fn clear(&mut self) {
        self.reads.clear();
        self.registers.clear();
        self.banks.clear();
        self.flags = FlagChange::default();
        self.memory_reads.clear();
        self.memory.clear();
    }
}

/// Accesses of one instruction that are kept one by one; more become runs of elements.
const KEPT_ACCESSES: usize = 64;

/// Adds an access to one of the last two runs (a comparison of strings has two that take turns), if there are many
/// accesses already and it is next to one. A run: its first address, the bytes of an element, and how many there are.
#[inline]
fn joins<'a>(
    runs: impl DoubleEndedIterator<Item = (&'a mut u64, u64, &'a mut u64)> + ExactSizeIterator,
    address: u64,
    bytes: u64,
) -> bool {
    if runs.len() < KEPT_ACCESSES {
        return false;
    }
    for (start, element, count) in runs.rev().take(2) {
        if element != bytes {
            continue;
        }
        if start.wrapping_add(bytes.wrapping_mul(*count)) == address {
            *count += 1;
            return true;
        }
        if address.wrapping_add(bytes) == *start {
            (*start, *count) = (address, *count + 1);
            return true;
        }
    }
    false
}

impl Observer for StepEffects {
    const ACTIVE: bool = true;

    fn read(&mut self, address: u64, bytes: u64, value: u64) {
        let runs = self.memory_reads.iter_mut().map(|r| (&mut r.address, r.bytes, &mut r.elements));
        if !joins(runs, address, bytes) {
            self.memory_reads.push(MemoryRead { address, bytes, elements: 1, value });
        }
    }

    fn write(&mut self, address: u64, bytes: u64, old: u64, new: u64) {
        let runs = self.memory.iter_mut().map(|w| (&mut w.address, w.bytes, &mut w.elements));
        if !joins(runs, address, bytes) {
            self.memory.push(MemoryChange { address, bytes, elements: 1, old, new });
        }
    }
}

/// The registers an instruction reads and writes by its row: explicit operands, then implicit ones.
pub fn registers_used(instruction: &Instruction) -> Vec<(Access, Reg)> {
    let mut used = Vec::new();
    let mut add = |access: Access, reg: Reg| {
        if reg.kind != RegKind::Ip && reg.storage().is_some() {
            used.push((access, reg));
        }
    };
    for (index, operand) in instruction.operands.iter().enumerate() {
        let access = instruction.access(index);
        match operand {
            Operand::Reg(reg) => add(access, *reg),
            Operand::Shifted(reg, ..) | Operand::Extended(reg, ..) => add(Access::Read, *reg),
            Operand::Mem(mem) => {
                let written_back = mem.mode != sotto_isa::IndexMode::Offset;
                if let Some(reg) = mem.base {
                    add(if written_back { Access::ReadWrite } else { Access::Read }, reg);
                }
                if let Some(reg) = mem.index {
                    add(Access::Read, reg);
                }
            }
            Operand::Imm(_)
            | Operand::ShiftedImm(..)
            | Operand::Target(_)
            | Operand::Cond(_)
            | Operand::ShiftedOnes(..)
            | Operand::Float(_)
            | Operand::Vector(..)
            | Operand::Element(..)
            | Operand::List(_)
            | Operand::Named(_) => {}
        }
    }
    for implicit in instruction.implicit() {
        add(implicit.access, implicit.reg);
    }
    used
}

/// The registers of other banks that an instruction writes by its row.
pub(crate) fn written_in_banks(instruction: &Instruction) -> Vec<(RegisterId, Reg)> {
    let mut written = Vec::new();
    let mut add = |reg: Reg| written.extend(reg.id().map(|id| (id, reg)));
    for (index, operand) in instruction.operands.iter().enumerate() {
        if !instruction.access(index).writes() {
            continue;
        }
        match operand {
            Operand::Reg(reg) | Operand::Vector(reg, _) | Operand::Element(reg, ..) => add(*reg),
            Operand::List(list) => list.registers().for_each(&mut add),
            _ => {}
        }
    }
    for implicit in instruction.implicit() {
        if implicit.access.writes() {
            add(implicit.reg);
        }
    }
    written
}

/// The storage registers an instruction writes by its row, each once, by the widest name used.
pub(crate) fn written(instruction: &Instruction) -> Vec<(Storage, Reg)> {
    let mut written: Vec<(Storage, Reg)> = Vec::new();
    for (access, reg) in registers_used(instruction) {
        let (true, Some(storage)) = (access.writes(), reg.storage()) else { continue };
        match written.iter_mut().find(|(s, _)| *s == storage) {
            // `ax` and `ah` of a division: the wider name covers both.
            Some((_, known)) if known.width() < reg.width() => *known = reg,
            Some(_) => {}
            None => written.push((storage, reg)),
        }
    }
    written
}
