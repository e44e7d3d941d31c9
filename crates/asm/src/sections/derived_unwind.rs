//! Unwind rules for routines that have no directives, worked out from their code.
//!
//! The stack pointer is followed through a routine, along its jumps; where that cannot be done, or
//! where two ways lead to one place with different frames, the routine gets no table rather than a
//! wrong one.

use std::collections::{BTreeMap, HashMap};

use sotto_isa::{Arch, Control, FrameStep, IndexMode, Instruction, Operand, Reg, Storage, decode};
use sotto_object::{
    Binding, Object, Place, Section, SectionIndex, SymbolKind, UnwindRule, UnwindTable,
};

/// Tables for the routines of an object that have none: functions, and global labels in code.
pub(crate) fn derive(object: &Object) -> Vec<UnwindTable> {
    let mut tables = Vec::new();
    for (number, section) in object.sections.iter().enumerate() {
        if !section.flags.exec {
            continue;
        }
        let index = SectionIndex(number as u32);
        let mut starts = BTreeMap::new();
        for symbol in &object.symbols {
            let Place::Section(at, offset) = symbol.place else { continue };
            let routine = symbol.kind == SymbolKind::Function
                || (symbol.binding != Binding::Local && symbol.kind == SymbolKind::None);
            // Where a program starts there is no caller.
            if at == index && routine && symbol.name != "_start" && offset < section.size {
                starts.insert(offset, symbol.size);
            }
        }
        let ends: Vec<u64> = starts.keys().skip(1).copied().chain([section.size]).collect();
        for ((start, size), end) in starts.into_iter().zip(ends) {
            let end = if size == 0 { end } else { end.min(start + size) };
            let covered = |table: &UnwindTable| {
                table.section == index && (table.start..table.start + table.size).contains(&start)
            };
            if object.unwind.iter().any(covered) {
                continue;
            }
            if let Some(rules) = follow(object.arch, section, start, end) {
                let (size, handler) = (end - start, None);
                tables.push(UnwindTable { section: index, start, size, rules, handler });
            }
        }
    }
    tables
}

/// What is known of a frame before an instruction.
#[derive(Clone, PartialEq, Eq, Debug)]
struct Frame {
    /// Bytes from the stack pointer up to the frame address; `None` once it is not known.
    depth: Option<i64>,
    /// The frame address counts from the frame pointer, by this many bytes.
    by_frame: Option<i64>,
    /// Callee-saved registers in memory, and how far below the frame address.
    stored: BTreeMap<u16, i64>,
}

/// The rules of the routine at `start..end`, or `None` if the code does things to its stack that
/// cannot be followed.
fn follow(arch: Arch, section: &Section, start: u64, end: u64) -> Option<Vec<(u64, UnwindRule)>> {
    let code = section.data.get(start as usize..end as usize)?;
    let fields: Vec<u64> = section.relocations.iter().map(|r| r.offset).collect();
    // A call that pushes its return address leaves it in the frame.
    let depth = arch.return_address_slot() as i64;
    let first = Frame { depth: Some(depth), by_frame: None, stored: BTreeMap::new() };
    // Frames that jumps bring to places further on, and the frame before each instruction so far.
    let mut arrivals: HashMap<u64, Frame> = HashMap::new();
    let mut seen: HashMap<u64, Frame> = HashMap::new();
    let mut guessed: Vec<u64> = Vec::new();
    let mut before: Option<Frame> = Some(first.clone());
    let mut last = first.clone();
    let mut shown = first;
    let mut rules = Vec::new();
    let mut at = 0u64;
    while (at as usize) < code.len() {
        let frame = match (before.take(), arrivals.remove(&at)) {
            (Some(fallen), Some(jumped)) if fallen != jumped => return None,
            (Some(frame), _) | (None, Some(frame)) => frame,
            // Nothing leads here any more: padding, or data.
            (None, None) if arrivals.is_empty() => break,
            // Reached from further down, if at all. A jump back will have to agree.
            (None, None) => {
                guessed.push(at);
                last.clone()
            }
        };
        let instruction = decode(arch, &code[at as usize..], at).ok()?;
        rules.extend(changes(arch, &shown, &frame)?.into_iter().map(|rule| (at, rule)));
        seen.insert(at, frame.clone());
        shown = frame.clone();
        last = frame.clone();
        let next = step(&instruction, frame)?;
        let range = start + at..start + instruction.end();
        let field_inside = fields.iter().any(|field| range.contains(field));
        let control = instruction.control();
        if let (Control::Jump | Control::Branch, Some(Operand::Target(target)), false) =
            (control, instruction.operands.last(), field_inside)
        {
            let target = target.known()? as u64;
            let other = if target > at {
                arrivals.insert(target, next.clone())
            } else {
                guessed.retain(|place| *place != target);
                seen.get(&target).cloned()
            };
            if other.is_some_and(|other| other != next) {
                return None;
            }
        }
        let goes_on = !matches!(control, Control::Jump | Control::Return | Control::Trap);
        before = goes_on.then_some(next);
        at = instruction.end();
    }
    guessed.is_empty().then_some(rules)
}

/// Whether an instruction writes this storage register through an operand.
fn writes(instruction: &Instruction, register: Storage) -> bool {
    instruction.operands.iter().enumerate().any(|(index, operand)| {
        instruction.access(index).writes()
            && matches!(operand, Operand::Reg(reg) if reg.storage() == Some(register))
    })
}

/// The frame after an instruction; `None` if its effect on the stack cannot be followed.
fn step(instruction: &Instruction, mut frame: Frame) -> Option<Frame> {
    let arch = instruction.arch;
    let (stack, pointer) = (arch.stack_pointer(), arch.frame_pointer());
    let is = |reg: Reg, storage: Storage| reg.storage() == Some(storage);
    let preserved = |reg: Reg| {
        let convention = arch.convention();
        let kept = reg.storage().filter(|storage| convention.is_preserved(*storage))?;
        kept.dwarf_number(arch)
    };
    match instruction.frame_step() {
        FrameStep::Push { bytes, stored } => {
            frame.depth = frame.depth.map(|depth| depth + bytes as i64);
            if let (Some(number), Some(depth)) = (stored.and_then(preserved), frame.depth) {
                frame.stored.entry(number).or_insert(-depth);
            }
        }
        FrameStep::Pop { bytes, loaded } => {
            frame.depth = frame.depth.map(|depth| depth - bytes as i64);
            if let Some(register) = loaded {
                frame.restore(arch, register)?;
            }
        }
        FrameStep::Leave => {
            frame.depth = Some(frame.by_frame? - arch.address_bytes() as i64);
            frame.by_frame = None;
            frame.stored.remove(&pointer.dwarf_number(arch)?);
        }
        FrameStep::Offset { to, from, amount } if is(to, stack) && is(from, stack) => {
            frame.depth = Some(frame.depth? - amount);
        }
        FrameStep::Offset { to, from, amount } if is(to, stack) && is(from, pointer) => {
            frame.depth = Some(frame.by_frame? - amount);
        }
        // Only where the caller's frame pointer was stored does this make a frame; elsewhere the frame pointer is a
        // register like others.
        FrameStep::Offset { to, from, amount }
            if is(to, pointer)
                && is(from, stack)
                && frame.stores(pointer.dwarf_number(arch)?, amount) =>
        {
            frame.by_frame = Some(frame.depth? - amount);
        }
        // Aligning the stack loses its depth; the frame pointer still tells.
        FrameStep::Align { to } if is(to, stack) => {
            frame.by_frame?;
            frame.depth = None;
        }
        FrameStep::Transfer { loads, base, offset, mode, registers } if is(base, stack) => {
            let depth = frame.depth?;
            // Where the first register is, from the stack pointer as it was.
            let at = if mode == IndexMode::Post { 0 } else { offset };
            if mode != IndexMode::Offset {
                frame.depth = Some(depth - offset);
            }
            let slot = arch.address_bytes() as i64;
            for (number, register) in registers.into_iter().enumerate() {
                let Some(register) = register.filter(|register| preserved(*register).is_some())
                else {
                    continue;
                };
                let dwarf = preserved(register)?;
                match loads {
                    true => frame.restore(arch, register)?,
                    false => {
                        frame.stored.entry(dwarf).or_insert(at - depth + slot * number as i64);
                    }
                }
            }
        }
        _ => {
            let frame_lost = frame.by_frame.is_some() && writes(instruction, pointer);
            if writes(instruction, stack) || frame_lost {
                return None;
            }
        }
    }
    Some(frame)
}

impl Frame {
    /// Whether the caller's value of a register lies `offset` bytes above the stack pointer.
    fn stores(&self, register: u16, offset: i64) -> bool {
        self.depth.is_some_and(|depth| self.stored.get(&register) == Some(&(offset - depth)))
    }

    /// A callee-saved register has the caller's value again.
    fn restore(&mut self, arch: Arch, register: Reg) -> Option<()> {
        let storage = register.storage()?;
        if storage == arch.stack_pointer() {
            return None;
        }
        if storage == arch.frame_pointer() {
            self.by_frame = None;
        }
        self.stored.remove(&storage.dwarf_number(arch)?);
        Some(())
    }
}

/// The rules that lead from one frame to the next.
fn changes(arch: Arch, from: &Frame, to: &Frame) -> Option<Vec<UnwindRule>> {
    let stack_pointer = arch.stack_pointer().dwarf_number(arch)?;
    let frame_pointer = arch.frame_pointer().dwarf_number(arch)?;
    let base = |frame: &Frame| match frame.by_frame {
        Some(offset) => Some((frame_pointer, offset)),
        None => Some((stack_pointer, frame.depth?)),
    };
    let (before, after) = (base(from)?, base(to)?);
    let mut rules = Vec::new();
    match (before.0 == after.0, before.1 == after.1) {
        (true, true) => {}
        (true, false) => rules.push(UnwindRule::FrameOffset(after.1)),
        (false, true) => rules.push(UnwindRule::FrameRegister(after.0)),
        (false, false) => rules.push(UnwindRule::Frame(after.0, after.1)),
    }
    for (register, offset) in &to.stored {
        if from.stored.get(register) != Some(offset) {
            rules.push(UnwindRule::Stored(*register, *offset));
        }
    }
    for register in from.stored.keys() {
        if !to.stored.contains_key(register) {
            rules.push(UnwindRule::Restored(*register));
        }
    }
    Some(rules)
}
