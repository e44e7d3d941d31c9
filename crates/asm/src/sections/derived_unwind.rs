//! Unwind rules for routines that have no directives, worked out from their code.
//!
//! The stack pointer is followed through a routine, along its jumps; where that cannot be done, or
//! where two ways lead to one place with different frames, the routine gets no table rather than a
//! wrong one.

use std::collections::{BTreeMap, HashMap};

use sotto_isa::{
    Arch, Control, IndexMode, Instruction, Operand, Reg, RegKind, Width, arm64, decode, x86,
};
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
    // A call on x86 leaves its return address in the frame.
    let depth = if arch.is_x86() { arch.address_bytes() as i64 } else { 0 };
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
        let next = match arch {
            Arch::Arm64 => step_arm64(&instruction, frame)?,
            _ => step_x86(&instruction, frame)?,
        };
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
fn writes(instruction: &Instruction, register: Reg) -> bool {
    instruction.operands.iter().enumerate().any(|(index, operand)| {
        instruction.access(index).writes()
            && matches!(operand, Operand::Reg(reg) if reg.storage() == register.storage())
    })
}

/// Whether a routine keeps this general register for its caller.
///
/// Sources: psABI x86-64, 3.2.1 "Registers"; psABI i386, 2.2.1.
fn is_callee_saved(arch: Arch, register: u8) -> bool {
    match arch {
        Arch::X86_32 => matches!(register, 3 | 5 | 6 | 7),
        _ => matches!(register, 3 | 5 | 12..=15),
    }
}
const RSP: u8 = 4;
const RBP: u8 = 5;

/// The frame after an x86 instruction.
fn step_x86(instruction: &Instruction, mut frame: Frame) -> Option<Frame> {
    let form = x86::form(instruction.form);
    let (arch, slot) = (instruction.arch, instruction.arch.address_bytes() as i64);
    let general = |number| Reg::x86(arch.address_width(), number);
    let reg = |index: usize| match instruction.operands.get(index) {
        Some(Operand::Reg(reg)) if *reg == general(reg.number) => Some(reg.number),
        _ => None,
    };
    let number = |index: usize| match instruction.operands.get(index) {
        Some(Operand::Imm(value)) => value.known(),
        _ => None,
    };
    let move_stack = |frame: &mut Frame, bytes: i64| {
        frame.depth = frame.depth.map(|depth| depth + bytes);
    };
    match form.meaning {
        x86::Meaning::Push | x86::Meaning::PushWord => {
            let bytes = if form.meaning == x86::Meaning::Push { slot } else { 2 };
            let word = instruction.operands.first().is_some_and(|operand| {
                matches!(operand, Operand::Reg(reg) if reg.width() == Width::W16)
                    || matches!(operand, Operand::Mem(mem) if mem.width == Some(Width::W16))
            });
            move_stack(&mut frame, if word { 2 } else { bytes });
            if let (Some(register), Some(depth)) = (reg(0), frame.depth)
                && is_callee_saved(arch, register)
            {
                let number = general(register).dwarf_number(arch)?;
                frame.stored.entry(number).or_insert(-depth);
            }
        }
        x86::Meaning::Pop => {
            let register = reg(0)?;
            move_stack(&mut frame, -slot);
            restore(&mut frame, general(register), arch)?;
        }
        x86::Meaning::Leave => {
            frame.depth = Some(frame.by_frame? - slot);
            restore(&mut frame, general(RBP), arch)?;
        }
        x86::Meaning::Sub if reg(0) == Some(RSP) => move_stack(&mut frame, number(1)?),
        x86::Meaning::Add if reg(0) == Some(RSP) => move_stack(&mut frame, -number(1)?),
        x86::Meaning::Lea if reg(0) == Some(RSP) => match instruction.operands.get(1)? {
            Operand::Mem(mem) if mem.index.is_none() => {
                let disp = mem.disp.known()?;
                match mem.base?.number {
                    RSP => move_stack(&mut frame, -disp),
                    RBP => frame.depth = Some(frame.by_frame? - disp),
                    _ => return None,
                }
            }
            _ => return None,
        },
        // Only right after the caller's RBP was pushed does this make a frame; elsewhere RBP is a
        // register like others.
        x86::Meaning::Mov
            if reg(0) == Some(RBP) && reg(1) == Some(RSP) && frame.depth == Some(2 * slot) =>
        {
            let saved = general(RBP).dwarf_number(arch)?;
            if frame.stored.get(&saved) == Some(&(-2 * slot)) {
                frame.by_frame = frame.depth;
            }
        }
        x86::Meaning::Mov if reg(0) == Some(RSP) && reg(1) == Some(RBP) => {
            frame.depth = Some(frame.by_frame?);
        }
        // Aligning the stack loses its depth; RBP still tells.
        x86::Meaning::And if reg(0) == Some(RSP) => {
            frame.by_frame?;
            frame.depth = None;
        }
        _ => {
            let frame_lost = frame.by_frame.is_some() && writes(instruction, general(RBP));
            if writes(instruction, general(RSP)) || frame_lost {
                return None;
            }
        }
    }
    Some(frame)
}

/// A callee-saved register has the caller's value again.
fn restore(frame: &mut Frame, register: Reg, arch: Arch) -> Option<()> {
    if register.number == RSP {
        return None;
    }
    if register.number == RBP {
        frame.by_frame = None;
    }
    let number = register.dwarf_number(arch)?;
    frame.stored.remove(&number);
    Some(())
}

const SP: Reg = Reg::new(RegKind::Sp, 31);
const X29: Reg = Reg::new(RegKind::X, 29);

/// The frame after an A64 instruction. Callee-saved are X19 to X30: AAPCS64, 6.1.1.
fn step_arm64(instruction: &Instruction, mut frame: Frame) -> Option<Frame> {
    let operand = |index: usize| instruction.operands.get(index).copied();
    let reg = |index: usize| match operand(index) {
        Some(Operand::Reg(reg)) => Some(reg),
        _ => None,
    };
    let amount = match operand(2) {
        Some(Operand::Imm(value)) => value.known(),
        Some(Operand::ShiftedImm(value, shift)) => value.known().map(|value| value << shift),
        _ => None,
    };
    let meaning = arm64::form(instruction.form).meaning;
    let loads = matches!(meaning, arm64::Meaning::Load { .. } | arm64::Meaning::LoadPair { .. });
    let stores = matches!(meaning, arm64::Meaning::Store { .. } | arm64::Meaning::StorePair { .. });
    if let (true, Some(Operand::Mem(mem))) = (loads || stores, instruction.operands.last())
        && mem.base == Some(SP)
        && mem.index.is_none()
    {
        let disp = mem.disp.known()?;
        let depth = frame.depth?;
        // Where the first register is, from the stack pointer as it was.
        let at = if mem.mode == IndexMode::Post { 0 } else { disp };
        if mem.mode != IndexMode::Offset {
            frame.depth = Some(depth - disp);
        }
        let registers = instruction.operands.iter().filter_map(|operand| match operand {
            Operand::Reg(reg) => Some(*reg),
            _ => None,
        });
        for (number, reg) in registers.enumerate() {
            let saved = reg.kind == RegKind::X && (19..=30).contains(&reg.number);
            let register = u16::from(reg.number);
            if stores && saved {
                let offset = at - depth + 8 * number as i64;
                frame.stored.entry(register).or_insert(offset);
            } else if loads && saved {
                frame.stored.remove(&register);
                if reg == X29 {
                    frame.by_frame = None;
                }
            }
        }
        return Some(frame);
    }
    let adds = match meaning {
        arm64::Meaning::Add { flags: false } => amount,
        arm64::Meaning::Sub { flags: false } => amount.map(|amount| -amount),
        arm64::Meaning::Mov => Some(0),
        _ => None,
    };
    match (reg(0), reg(1), adds) {
        (Some(SP), Some(SP), Some(adds)) => frame.depth = Some(frame.depth? - adds),
        (Some(SP), Some(X29), Some(adds)) => frame.depth = Some(frame.by_frame? - adds),
        (Some(X29), Some(SP), Some(adds)) => frame.by_frame = Some(frame.depth? - adds),
        _ => {
            let frame_lost = frame.by_frame.is_some() && writes(instruction, X29);
            if writes(instruction, SP) || frame_lost {
                return None;
            }
        }
    }
    Some(frame)
}

/// The rules that lead from one frame to the next.
fn changes(arch: Arch, from: &Frame, to: &Frame) -> Option<Vec<UnwindRule>> {
    let (stack_pointer, frame_pointer) = match arch {
        Arch::Arm64 => (31, 29),
        Arch::X86_32 => (4, 5),
        _ => (7, 6),
    };
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
