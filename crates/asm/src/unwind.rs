//! Unwind directives (`.cfi_*`), and rules worked out from the code of routines that have none.
//!
//! The directives are those of the DWARF call frame information, one rule each. Without them the
//! rules come from following the stack pointer through a routine; where that cannot be done, the
//! routine gets no table rather than a wrong one.

use std::collections::{BTreeMap, HashMap};

use sotto_isa::{Arch, Control, Instruction, Operand, Reg, RegKind, Width, decode, x86};
use sotto_object::{
    Binding, Object, Place, Section, SectionIndex, SymbolKind, UnwindRule, UnwindTable,
};

use crate::assembler::Assembler;
use crate::lexer::{Cursor, Tok};
use crate::symbols::Position;
use crate::{Code, Diagnostic, Span, data};

/// The tables that directives describe.
#[derive(Default)]
pub(crate) struct Unwind {
    open: Option<Table>,
    pub tables: Vec<Table>,
}

/// A table whose places are not settled yet.
pub(crate) struct Table {
    span: Span,
    pub from: Position,
    pub to: Position,
    pub rules: Vec<(Position, UnwindRule)>,
    /// Offset of the frame address from its register, as far as the directives say.
    frame_offset: i64,
}

/// What a directive takes.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) enum Directive {
    Start,
    End,
    Frame,
    FrameRegister,
    FrameOffset,
    AdjustFrameOffset,
    Stored,
    StoredFromStack,
    Restored,
    Same,
    Lost,
    InRegister,
    Remember,
    Recall,
    /// Says something that we do not write.
    Ignored,
}

const DIRECTIVES: &[(&str, Directive)] = &[
    (".cfi_startproc", Directive::Start),
    (".cfi_endproc", Directive::End),
    (".cfi_def_cfa", Directive::Frame),
    (".cfi_def_cfa_register", Directive::FrameRegister),
    (".cfi_def_cfa_offset", Directive::FrameOffset),
    (".cfi_adjust_cfa_offset", Directive::AdjustFrameOffset),
    (".cfi_offset", Directive::Stored),
    (".cfi_rel_offset", Directive::StoredFromStack),
    (".cfi_restore", Directive::Restored),
    (".cfi_same_value", Directive::Same),
    (".cfi_undefined", Directive::Lost),
    (".cfi_register", Directive::InRegister),
    (".cfi_remember_state", Directive::Remember),
    (".cfi_restore_state", Directive::Recall),
    (".cfi_sections", Directive::Ignored),
];

/// Names of the unwind directives.
pub(crate) fn names() -> impl Iterator<Item = &'static str> {
    DIRECTIVES.iter().map(|(name, _)| *name)
}

/// The unwind directive that the word is.
pub(crate) fn find(word: &str) -> Option<Directive> {
    if !word.get(..5)?.eq_ignore_ascii_case(".cfi_") {
        return None;
    }
    let found = DIRECTIVES.iter().find(|(name, _)| name.eq_ignore_ascii_case(word));
    found.map(|(_, directive)| *directive)
}

/// Carries out the directive; `false` if it is not an unwind directive.
pub(crate) fn run(
    assembler: &mut Assembler,
    word: &str,
    span: Span,
    cursor: &mut Cursor,
) -> Result<bool, Diagnostic> {
    let Some(directive) = find(word) else { return Ok(false) };
    let here = assembler.here();
    match directive {
        Directive::Ignored => {
            cursor.rest();
            return Ok(true);
        }
        Directive::Start => {
            // `simple` leaves out rules that we write in any case.
            cursor.rest();
            if let Some(open) = &assembler.unwind.open {
                let message = "the routine before is not closed";
                return Err(Diagnostic::error(Code::Unwind, span, message)
                    .at(open.span, "opened here")
                    .help("close it with `.cfi_endproc`"));
            }
            let frame_offset = if assembler.arch == Arch::Arm64 { 0 } else { 8 };
            assembler.unwind.open =
                Some(Table { span, from: here, to: here, rules: Vec::new(), frame_offset });
            return Ok(true);
        }
        _ => {}
    }
    let not_open = || {
        Diagnostic::error(Code::Unwind, span, format!("`{word}` stands outside a routine"))
            .help("open the routine with `.cfi_startproc`")
    };
    if directive == Directive::End {
        let mut table = assembler.unwind.open.take().ok_or_else(not_open)?;
        cursor.expect_end("after `.cfi_endproc`")?;
        if table.from.section != here.section {
            let message = "the routine ends in another section than it began";
            return Err(Diagnostic::error(Code::Unwind, span, message).at(table.span, "begun here"));
        }
        table.to = here;
        assembler.unwind.tables.push(table);
        return Ok(true);
    }
    let Some(offset_now) = assembler.unwind.open.as_ref().map(|table| table.frame_offset) else {
        return Err(not_open());
    };
    let rule = match directive {
        Directive::Frame => {
            let register = register(assembler, cursor)?;
            cursor.expect(',', "after the register")?;
            UnwindRule::Frame(register, offset(assembler, cursor)?)
        }
        Directive::FrameRegister => UnwindRule::FrameRegister(register(assembler, cursor)?),
        Directive::FrameOffset => UnwindRule::FrameOffset(offset(assembler, cursor)?),
        Directive::AdjustFrameOffset => {
            UnwindRule::FrameOffset(offset_now.saturating_add(offset(assembler, cursor)?))
        }
        Directive::Stored | Directive::StoredFromStack => {
            let register = register(assembler, cursor)?;
            cursor.expect(',', "after the register")?;
            let given = offset(assembler, cursor)?;
            let from_stack = directive == Directive::StoredFromStack;
            let base = if from_stack { offset_now } else { 0 };
            UnwindRule::Stored(register, given.saturating_sub(base))
        }
        Directive::Restored => UnwindRule::Restored(register(assembler, cursor)?),
        Directive::Same => UnwindRule::Same(register(assembler, cursor)?),
        Directive::Lost => UnwindRule::Lost(register(assembler, cursor)?),
        Directive::InRegister => {
            let register = self::register(assembler, cursor)?;
            cursor.expect(',', "after the register")?;
            UnwindRule::InRegister(register, self::register(assembler, cursor)?)
        }
        Directive::Remember => UnwindRule::Remember,
        _ => UnwindRule::Recall,
    };
    cursor.expect_end(&format!("after `{word}`"))?;
    if let Some(table) = &mut assembler.unwind.open {
        if let UnwindRule::Frame(_, offset) | UnwindRule::FrameOffset(offset) = rule {
            table.frame_offset = offset;
        }
        table.rules.push((here, rule));
    }
    Ok(true)
}

/// A register by name, with or without `%`, or by its number in DWARF.
fn register(assembler: &Assembler, cursor: &mut Cursor) -> Result<u16, Diagnostic> {
    cursor.eat('%')?;
    let (token, span) = cursor.next()?;
    let number = match token {
        Tok::Word(name) => Reg::parse(assembler.arch, name).and_then(Reg::dwarf_number),
        Tok::Num(number) => u16::try_from(number).ok().filter(|number| *number < 128),
        _ => None,
    };
    number.ok_or_else(|| cursor.unexpected(token, span, "a register or its number in DWARF"))
}

fn offset(assembler: &mut Assembler, cursor: &mut Cursor) -> Result<i64, Diagnostic> {
    let (value, span) = data::number(assembler, cursor)?;
    i32::try_from(value).map(i64::from).map_err(|_| {
        Diagnostic::error(Code::OutOfRange, span, format!("{value} is no offset in a frame"))
            .label("must be -2147483648 to 2147483647")
    })
}

impl Assembler<'_> {
    /// Reports a routine that was opened for unwinding and not closed.
    pub(crate) fn close_unwind(&mut self) {
        if let Some(open) = self.unwind.open.take() {
            let error = Diagnostic::error(Code::Unwind, open.span, "the routine is not closed");
            self.report(error.help("close it with `.cfi_endproc` after its last instruction"));
        }
    }
}

/// Tables for the routines of an object that have none: functions, and global labels in code.
pub(crate) fn derive(object: &Object) -> Vec<UnwindTable> {
    if object.arch != Arch::X86_64 {
        return Vec::new();
    }
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
            if let Some(rules) = follow(section, start, end) {
                tables.push(UnwindTable { section: index, start, size: end - start, rules });
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
    /// The frame address counts from RBP, by this many bytes.
    by_rbp: Option<i64>,
    /// Callee-saved registers in memory, and how far below the frame address.
    stored: BTreeMap<u16, i64>,
}

/// Source: psABI x86-64, 3.2.1 "Registers".
const CALLEE_SAVED: [u8; 6] = [3, 5, 12, 13, 14, 15];
const RSP: u8 = 4;
const RBP: u8 = 5;

/// The rules of the routine at `start..end`, or `None` if the code does things to its stack that
/// cannot be followed.
fn follow(section: &Section, start: u64, end: u64) -> Option<Vec<(u64, UnwindRule)>> {
    let code = section.data.get(start as usize..end as usize)?;
    let fields: Vec<u64> = section.relocations.iter().map(|r| r.offset).collect();
    let mut arrivals: HashMap<u64, Frame> = HashMap::new();
    let first = Frame { depth: Some(8), by_rbp: None, stored: BTreeMap::new() };
    let mut before: Option<Frame> = Some(first.clone());
    let mut last = first.clone();
    let mut shown = first;
    let mut rules = Vec::new();
    let mut at = 0u64;
    while (at as usize) < code.len() {
        let instruction = decode(Arch::X86_64, &code[at as usize..], at).ok()?;
        let arrival = arrivals.remove(&at);
        let frame = match (before.take(), arrival) {
            (Some(fallen), Some(jumped)) if fallen != jumped => return None,
            (Some(frame), _) | (None, Some(frame)) => frame,
            // Reached from further down only: like what stood before the jump away.
            (None, None) => last.clone(),
        };
        rules.extend(changes(&shown, &frame)?.into_iter().map(|rule| (at, rule)));
        shown = frame.clone();
        last = frame.clone();
        let next = step(&instruction, frame)?;
        let range = start + at..start + instruction.end();
        let field_inside = fields.iter().any(|field| range.contains(field));
        let control = instruction.control();
        if let (Control::Jump | Control::Branch, Some(Operand::Target(target)), false) =
            (control, instruction.operands.first(), field_inside)
        {
            let target = target.known()? as u64;
            if target > at {
                match arrivals.insert(target, next.clone()) {
                    Some(other) if other != next => return None,
                    _ => {}
                }
            }
        }
        let goes_on = !matches!(control, Control::Jump | Control::Return | Control::Trap);
        before = goes_on.then_some(next);
        at = instruction.end();
    }
    Some(rules)
}

/// The frame after an instruction.
fn step(instruction: &Instruction, mut frame: Frame) -> Option<Frame> {
    let form = x86::form(instruction.form);
    let reg = |index: usize| match instruction.operands.get(index) {
        Some(Operand::Reg(reg)) if reg.kind == RegKind::Qword => Some(reg.number),
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
            let bytes = if form.meaning == x86::Meaning::Push { 8 } else { 2 };
            let word = instruction.operands.first().is_some_and(|operand| {
                matches!(operand, Operand::Reg(reg) if reg.width() == Width::W16)
                    || matches!(operand, Operand::Mem(mem) if mem.width == Some(Width::W16))
            });
            move_stack(&mut frame, if word { 2 } else { bytes });
            if let (Some(register), Some(depth)) = (reg(0), frame.depth)
                && CALLEE_SAVED.contains(&register)
            {
                let number = Reg::x86(Width::W64, register).dwarf_number()?;
                frame.stored.entry(number).or_insert(-depth);
            }
        }
        x86::Meaning::Pop => {
            let register = reg(0)?;
            move_stack(&mut frame, -8);
            restore(&mut frame, register)?;
        }
        x86::Meaning::Leave => {
            frame.depth = Some(frame.by_rbp? - 8);
            restore(&mut frame, RBP)?;
        }
        x86::Meaning::Sub if reg(0) == Some(RSP) => move_stack(&mut frame, number(1)?),
        x86::Meaning::Add if reg(0) == Some(RSP) => move_stack(&mut frame, -number(1)?),
        x86::Meaning::Lea if reg(0) == Some(RSP) => match instruction.operands.get(1)? {
            Operand::Mem(mem) if mem.index.is_none() => {
                let disp = mem.disp.known()?;
                match mem.base?.number {
                    RSP => move_stack(&mut frame, -disp),
                    RBP => frame.depth = Some(frame.by_rbp? - disp),
                    _ => return None,
                }
            }
            _ => return None,
        },
        x86::Meaning::Mov if reg(0) == Some(RBP) && reg(1) == Some(RSP) => {
            frame.by_rbp = Some(frame.depth?);
        }
        x86::Meaning::Mov if reg(0) == Some(RSP) && reg(1) == Some(RBP) => {
            frame.depth = Some(frame.by_rbp?);
        }
        // Aligning the stack loses its depth; RBP still tells.
        x86::Meaning::And if reg(0) == Some(RSP) => {
            frame.by_rbp?;
            frame.depth = None;
        }
        _ => {
            let writes = |number: u8| {
                instruction.operands.iter().enumerate().any(|(index, operand)| {
                    let written = instruction.access(index).writes();
                    written && matches!(operand, Operand::Reg(r) if r.storage() == Reg::x86(Width::W64, number).storage())
                })
            };
            if writes(RSP) || (frame.by_rbp.is_some() && writes(RBP)) {
                return None;
            }
        }
    }
    Some(frame)
}

/// A callee-saved register has the caller's value again.
fn restore(frame: &mut Frame, register: u8) -> Option<()> {
    if register == RSP {
        return None;
    }
    if register == RBP {
        frame.by_rbp = None;
    }
    let number = Reg::x86(Width::W64, register).dwarf_number()?;
    frame.stored.remove(&number);
    Some(())
}

/// The rules that lead from one frame to the next.
fn changes(from: &Frame, to: &Frame) -> Option<Vec<UnwindRule>> {
    let base = |frame: &Frame| match frame.by_rbp {
        Some(offset) => Some((6u16, offset)),
        None => Some((7u16, frame.depth?)),
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
