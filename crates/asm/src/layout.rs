//! Settling sizes, filling values, and making the object.
//!
//! Instructions start in their shortest form and only ever grow, so settling ends: each round either
//! lengthens an instruction or changes nothing.

use sotto_isa::{Arch, Field, Operand, OperandOrder, Value, encode_at_least, padding};
use sotto_object::{
    Binding, ExceptionHandler, Group, Line, Object, Place, Relocation, RelocationKind, Section,
    SectionFlags, SectionIndex, StatedLine, StatedLines, Symbol, SymbolIndex, SymbolKind, TlsField,
    UnwindTable, Visibility,
};

use crate::assembler::{Assembler, MAX_CONTENT_BYTES, MAX_SECTION_BYTES};
use crate::directives::data::check_fits;
use crate::directives::unwind::Pointer;
use crate::encode_diagnostics::{bare_symbol, open_diagnostic, width_finding};
use crate::operands::parsed::{Parsed, Spanned};
use crate::sections::derived_unwind;
use crate::sections::fragments::{
    Align, DataField, Fragment, OpenInstruction, Org, SectionBuilder,
};
use crate::sections::listing::{Listing, ListingLine};
use crate::sections::symbols::{
    Context, Definition, Evaluator, GOT, Linear, Memo, Position, SymbolId, SymbolTable,
};
use crate::text::expr::Via;
use crate::{Code, Diagnostic, Expr, Span, TlsOperator};

/// Where each fragment of each section starts, in bytes from the start of its section.
struct Starts(Vec<Vec<u64>>);

impl Starts {
    fn of(sections: &[SectionBuilder]) -> Starts {
        Starts(sections.iter().map(section_starts).collect())
    }

    fn offset(&self, position: Position) -> u64 {
        self.0[position.section as usize][position.fragment as usize] + position.offset
    }

    fn size(&self, section: usize) -> u64 {
        *self.0[section].last().expect("one more start than fragments")
    }
}

fn section_starts(section: &SectionBuilder) -> Vec<u64> {
    let mut starts: Vec<u64> = Vec::with_capacity(section.fragments.len() + 1);
    let mut at = 0u64;
    for fragment in &section.fragments {
        starts.push(at);
        let size = match fragment {
            Fragment::Org(org) => org_gap(org, &starts).max(0) as u64,
            fragment => fragment_size(section, fragment, at),
        };
        at = at.saturating_add(size);
    }
    starts.push(at);
    starts
}

/// Bytes from an `.org`, which starts last, to where it goes; negative if that lies behind it.
fn org_gap(org: &Org, starts: &[u64]) -> i128 {
    let from = org.from.map_or(0, |position| starts[position.fragment as usize] + position.offset);
    let here = starts.last().copied().unwrap_or(0);
    let gap = i128::from(from) + org.offset - i128::from(here);
    // What is too large is refused by the size of the section.
    gap.min(i128::from(MAX_SECTION_BYTES) + 1)
}

fn fragment_size(section: &SectionBuilder, fragment: &Fragment, at: u64) -> u64 {
    match fragment {
        Fragment::Bytes(count) | Fragment::Fill { count, .. } => *count,
        Fragment::Org(_) => 0,
        Fragment::Align(pad) => {
            let gap = at.next_multiple_of(pad.align) - at;
            if gap <= pad.max { gap } else { 0 }
        }
        Fragment::Instruction(open) => section.open[*open as usize].encoded.bytes.len() as u64,
        Fragment::Leb128(number) => section.leb128[*number as usize].bytes.len() as u64,
    }
}

/// Settles everything, adds what is wrong to the diagnostics, and gives the object.
pub(crate) fn finish(assembler: &mut Assembler) -> (Option<Object>, Option<Listing>) {
    if let Err(diagnostic) = assembler.symbols.settle_variables() {
        assembler.diagnostics.push(diagnostic);
    }
    assembler.symbols.open_to_linker();
    name_sections(assembler);
    if assembler.externals {
        note_externals(assembler);
    }
    place_local_commons(assembler);
    let starts = settle(assembler);
    check_org(assembler, &starts);
    for (number, section) in assembler.sections.iter().enumerate() {
        let most = if section.flags.nobits { MAX_SECTION_BYTES } else { MAX_CONTENT_BYTES };
        if starts.size(number) > most {
            let message = format!("`{}` is larger than {most} bytes", section.name);
            assembler.diagnostics.push(Diagnostic::error(
                Code::OutOfRange,
                Span::default(),
                message,
            ));
            return (None, None);
        }
    }
    let contents =
        assembler.sections.iter().enumerate().filter(|(_, section)| !section.flags.nobits);
    let all: u64 = contents.map(|(number, _)| starts.size(number)).sum();
    if all > MAX_CONTENT_BYTES {
        let message = format!("the sections hold more than {MAX_CONTENT_BYTES} bytes together");
        let error = Diagnostic::error(Code::OutOfRange, Span::default(), message);
        assembler.diagnostics.push(error.help("put room that starts as zeros into `.bss`"));
        return (None, None);
    }
    let (mut symbols, section_symbols) = object_symbols(assembler, &starts);
    symbols.extend(mapping_symbols(assembler, &starts));
    let lines: Vec<Vec<Line>> = assembler
        .sections
        .iter_mut()
        .zip(&starts.0)
        .map(|(section, starts)| {
            let lines = std::mem::take(&mut section.lines);
            lines.into_iter().map(|line| line.settle(starts)).collect()
        })
        .collect();
    let emitter_symbols = section_symbols.clone();
    let mut emitter = Emitter {
        arch: assembler.arch,
        symbols: &assembler.symbols,
        starts: &starts,
        section_symbols,
        memo: Memo::default(),
        diagnostics: Vec::new(),
    };
    let sections = assembler
        .sections
        .iter()
        .enumerate()
        .zip(lines)
        .map(|((number, section), lines)| emitter.section(number, section, lines))
        .collect();
    assembler.diagnostics.append(&mut emitter.diagnostics);
    name_symbols(assembler, &mut symbols);
    let mut object = Object {
        arch: assembler.arch,
        files: assembler.files.clone(),
        sections,
        symbols,
        unwind: unwind_tables(assembler, &starts, &emitter_symbols),
        groups: groups(assembler),
        stated_lines: stated_lines(assembler, &starts),
    };
    let derived = derived_unwind::derive(&object);
    object.unwind.extend(derived);
    object.unwind.sort_by_key(|table| (table.section, table.start));
    let listing = assembler.listing.take().map(|lines| {
        let lines = lines.into_iter().map(|listed| {
            let (from, to) = (listed.from, listed.to);
            let bytes = (from.section == to.section && from != to)
                .then(|| (SectionIndex(from.section), starts.offset(from)..starts.offset(to)));
            let line = (listed.file, listed.line);
            ListingLine { span: listed.span, line, depth: listed.depth, bytes }
        });
        Listing {
            files: object.files.clone(),
            sections: object.sections.iter().map(|section| section.name.clone()).collect(),
            lines: lines.collect(),
        }
    });
    (Some(object), listing)
}

/// The groups that sections were declared to be of.
fn groups(assembler: &Assembler) -> Vec<Group> {
    let mut groups: Vec<Group> = Vec::new();
    for (number, section) in assembler.sections.iter().enumerate() {
        let Some(name) = &section.group else { continue };
        let index = SectionIndex(number as u32);
        match groups.iter_mut().find(|group| group.name == *name) {
            Some(group) => group.sections.push(index),
            None => groups.push(Group { name: name.clone(), sections: vec![index] }),
        }
    }
    groups
}

/// Makes the room of `.comm` for symbols that `.local` keeps to this file: in `.bss`, since no linker
/// is to see them.
fn place_local_commons(assembler: &mut Assembler) {
    let undefined =
        |symbol: &crate::sections::symbols::Symbol| matches!(symbol.definition, Definition::None);
    let rooms: Vec<(usize, u64, u64)> = assembler
        .symbols
        .symbols
        .iter()
        .enumerate()
        .filter(|(_, symbol)| symbol.binding == Binding::Local && undefined(symbol))
        .filter_map(|(n, symbol)| symbol.common.as_deref().map(|&(size, align)| (n, size, align)))
        .collect();
    for (number, count, align) in rooms {
        let flags = SectionFlags { alloc: true, write: true, nobits: true, ..Default::default() };
        assembler.enter_section(".bss", flags, None);
        let section = assembler.section();
        section.align = section.align.max(align);
        let max = u64::MAX;
        section.push(Fragment::Align(Box::new(Align { align, fill: None, max })));
        let here = assembler.here();
        assembler.section().push(Fragment::Fill { count, value: 0 });
        let symbol = &mut assembler.symbols.symbols[number];
        symbol.definition = Definition::Label(here);
        symbol.common = None;
        let size = (Expr::Number(i128::from(count)), Context::default());
        symbol.size = Some(Box::new(size));
    }
}

/// Takes names that nothing defines to be defined in another file, and says so: once for all of them, and of its own for
/// one that is like a name of the file, which may be misspelt.
fn note_externals(assembler: &mut Assembler) {
    let mut others: Vec<SymbolId> = Vec::new();
    for id in assembler.symbols.open_to_others() {
        let symbol = assembler.symbols.get(id);
        let near = assembler.symbols.nearest(&symbol.name).filter(|near| {
            near.name != symbol.name && !matches!(near.definition, Definition::None)
        });
        let Some(near) = near else {
            others.push(id);
            continue;
        };
        let message = format!("`{}` is taken to be defined in another file", symbol.name);
        let note = Diagnostic::error(Code::External, symbol.span, message).information();
        let note = note.at(near.span, format!("`{}` is defined here", near.name));
        assembler.diagnostics.push(note);
    }
    let Some(&first) = others.first() else { return };
    let span = assembler.symbols.get(first).span;
    let named = |id: &SymbolId| format!("`{}`", assembler.symbols.get(*id).name);
    let mut names: Vec<String> = others.iter().take(MOST_NAMED).map(named).collect();
    let more = others.len() - names.len();
    let message = match (names.as_mut_slice(), more) {
        ([one], 0) => format!("{one} is taken to be defined in another file"),
        ([first @ .., last], 0) => {
            format!("{} and {last} are taken to be defined in other files", first.join(", "))
        }
        (names, more) => {
            format!("{} and {more} more are taken to be defined in other files", names.join(", "))
        }
    };
    assembler.diagnostics.push(Diagnostic::error(Code::External, span, message).information());
}

/// Lets a section's name stand for its start, where nothing else is called so: compilers refer to their tables so.
fn name_sections(assembler: &mut Assembler) {
    for number in 0..assembler.sections.len() {
        let name = assembler.sections[number].name.clone();
        if !name.starts_with('.') || assembler.symbols.is_defined(&name, None) {
            continue;
        }
        let start = Position { section: number as u32, fragment: 0, offset: 0 };
        let definition = Definition::Label(start);
        // It was seen above that nothing else is called so.
        if let Ok(id) = assembler.symbols.define(&name, Span::default(), definition, None) {
            assembler.symbols.get_mut(id).hidden = true;
        }
    }
}

/// So many names are written out in a note.
const MOST_NAMED: usize = 8;

/// Refuses an `.org` that goes back.
fn check_org(assembler: &mut Assembler, starts: &Starts) {
    for (section, starts) in assembler.sections.iter().zip(&starts.0) {
        for (number, fragment) in section.fragments.iter().enumerate() {
            let Fragment::Org(org) = fragment else { continue };
            let gap = org_gap(org, &starts[..=number]);
            if gap < 0 {
                let message = format!("`.org` goes back by {} bytes", -gap);
                let error = Diagnostic::error(Code::OutOfRange, org.span, message)
                    .label(format!("the section is {} bytes long here", starts[number]));
                assembler.diagnostics.push(error);
            }
        }
    }
}

/// The symbols that tell code from data in A64 sections. Source: AAELF64, 5.5.4 "Mapping symbols".
fn mapping_symbols(assembler: &Assembler, starts: &Starts) -> Vec<Symbol> {
    let sections = assembler.sections.iter().enumerate();
    let marks = sections.flat_map(|(number, section)| {
        let place = move |&(fragment, offset, is_code): &(u32, u64, bool)| {
            (number as u32, starts.0[number][fragment as usize] + offset, is_code)
        };
        section.kinds.iter().map(place)
    });
    let symbol = |(section, offset, is_code): (u32, u64, bool)| Symbol {
        name: if is_code { "$x" } else { "$d" }.to_string(),
        place: Place::Section(SectionIndex(section), offset),
        binding: Binding::Local,
        visibility: Visibility::Default,
        kind: SymbolKind::None,
        size: 0,
        datum: None,
        defined_at: None,
    };
    marks.map(symbol).collect()
}

/// The line table that the source states with `.file` and `.loc`, if it describes its units too: a line table of
/// ours would not be theirs.
fn stated_lines(assembler: &Assembler, starts: &Starts) -> Option<StatedLines> {
    let described = assembler.sections.iter().any(|section| section.name == ".debug_info");
    if !described || assembler.stated.rows.is_empty() {
        return None;
    }
    let rows = assembler.stated.rows.iter().map(|row| StatedLine {
        section: SectionIndex(row.at.section),
        offset: starts.offset(row.at),
        ..row.line
    });
    Some(StatedLines { files: assembler.stated.files.clone(), rows: rows.collect() })
}

fn unwind_tables(
    assembler: &Assembler,
    starts: &Starts,
    section_symbols: &[SymbolIndex],
) -> Vec<UnwindTable> {
    let place = |linear: &Linear| {
        let anchor = linear.plus?;
        let visible = anchor.symbol.filter(|&id| !assembler.symbols.get(id).hidden);
        Some(match (visible, anchor.position) {
            (Some(id), _) => (SymbolIndex(id.0), linear.offset as i64),
            (None, Some(position)) => (
                section_symbols[position.section as usize],
                starts.offset(position) as i64 + linear.offset as i64,
            ),
            (None, None) => return None,
        })
    };
    let distance = |from, to| Some(i128::from(starts.offset(to)) - i128::from(starts.offset(from)));
    let memo = Memo::default();
    let evaluator = Evaluator { symbols: &assembler.symbols, distance: &distance, memo: &memo };
    let value = |pointer: &Pointer| {
        place(&evaluator.eval(&pointer.expr, pointer.context, pointer.span).ok()?)
    };
    let tables = assembler.unwind.tables.iter().map(|table| {
        let start = starts.offset(table.from);
        let rules = table.rules.iter().map(|(at, rule)| (starts.offset(*at) - start, rule.clone()));
        UnwindTable {
            section: SectionIndex(table.from.section),
            start,
            size: starts.offset(table.to) - start,
            rules: rules.collect(),
            handler: table.personality.as_ref().and_then(|personality| {
                let table = table.exceptions.as_ref();
                let table = table.and_then(|p| value(p).map(|(s, addend)| (p.encoding, s, addend)));
                let personality = (personality.encoding, value(personality)?.0);
                Some(Box::new(ExceptionHandler { personality, table }))
            }),
        }
    });
    tables.collect()
}

/// Rounds that take sizes as they were at the start of the round, so that an alignment which swallows
/// growth is not missed. Sources need two or three; what needs more is built to.
const EXACT_ROUNDS: u32 = 64;

/// Grows instructions until everything fits; errors of operands are reported once.
fn settle(assembler: &mut Assembler) -> Starts {
    let (arch, order) = (assembler.arch, assembler.order);
    for section in &mut assembler.sections {
        for open in &section.open {
            let range = open.operands.start as usize..open.operands.end as usize;
            for operand in &mut section.operands[range] {
                if let Some(expr) = operand.expr_mut() {
                    assembler.symbols.resolve(expr, open.context);
                }
            }
        }
        for field in &mut section.fields {
            assembler.symbols.resolve(&mut field.expr, field.context);
        }
        for field in &mut section.leb128 {
            assembler.symbols.resolve(&mut field.expr, field.context);
        }
    }
    // In which direction the next round goes: a chain of branches of which each lengthens the one
    // before settles in one round backwards.
    for round in 0.. {
        let starts = Starts::of(&assembler.sections);
        let distance =
            |from, to| Some(i128::from(starts.offset(to)) - i128::from(starts.offset(from)));
        let memo = Memo::default();
        let evaluator = Evaluator { symbols: &assembler.symbols, distance: &distance, memo: &memo };
        let mut changed = false;
        for (number, section) in assembler.sections.iter_mut().enumerate() {
            let padded = section
                .fragments
                .iter()
                .any(|fragment| matches!(fragment, Fragment::Align(_) | Fragment::Org(_)));
            let mut pass = Pass {
                evaluator: &evaluator,
                starts: &starts,
                section: number,
                arch,
                order,
                round,
                grown: Grown::new(
                    section.fragments.len(),
                    round % 2 == 1,
                    padded && round < EXACT_ROUNDS,
                ),
            };
            changed |= pass.run(section, &mut assembler.diagnostics);
        }
        if !changed {
            let mut findings = Vec::new();
            for section in &assembler.sections {
                for open in section.open.iter().filter(|open| !open.failed) {
                    let operands = section.operands_of(open);
                    let finding = bare_symbol(open, operands, &evaluator);
                    findings.extend(
                        finding.or_else(|| width_finding(open, operands, arch, order, &evaluator)),
                    );
                }
            }
            assembler.diagnostics.extend(findings);
            return starts;
        }
    }
    unreachable!("instructions only grow, and to at most 15 bytes")
}

/// By how much the fragments of a section grew in the round so far.
struct Grown {
    backward: bool,
    /// Growth is not counted: something may swallow it.
    uncounted: bool,
    /// Forward: growth before each fragment. Backward: growth from each fragment on.
    sums: Vec<u64>,
}

impl Grown {
    fn new(fragments: usize, backward: bool, uncounted: bool) -> Grown {
        let sums = if uncounted { Vec::new() } else { vec![0; fragments + 1] };
        Grown { backward, uncounted, sums }
    }

    /// Notes by how much a fragment grew, once all on one side of it are done.
    fn note(&mut self, fragment: usize, bytes: u64) {
        if self.uncounted {
            return;
        }
        if self.backward {
            self.sums[fragment] = self.sums[fragment + 1] + bytes;
        } else {
            self.sums[fragment + 1] = self.sums[fragment] + bytes;
        }
    }

    /// Bytes that lie more between an instruction and its target than at the start of the round:
    /// how far the target has moved away from it.
    fn between(&self, instruction: usize, target: usize) -> i64 {
        if self.uncounted {
            0
        } else if self.backward && target > instruction {
            (self.sums[instruction + 1] - self.sums[target]) as i64
        } else if !self.backward && target <= instruction {
            -((self.sums[instruction] - self.sums[target]) as i64)
        } else {
            0
        }
    }
}

/// One round over one section.
struct Pass<'a> {
    evaluator: &'a Evaluator<'a>,
    starts: &'a Starts,
    section: usize,
    arch: Arch,
    order: OperandOrder,
    round: u32,
    grown: Grown,
}

impl Pass<'_> {
    /// Encodes what is not settled; whether anything changed its size.
    fn run(&mut self, section: &mut SectionBuilder, diagnostics: &mut Vec<Diagnostic>) -> bool {
        let mut changed = false;
        let count = section.fragments.len();
        for step in 0..count {
            let number = if self.grown.backward { count - 1 - step } else { step };
            let mut growth = 0;
            if let Fragment::Instruction(index) = section.fragments[number]
                && let open = &mut section.open[index as usize]
                && !open.settled
                && !open.failed
            {
                let range = open.operands.start as usize..open.operands.end as usize;
                let operands = &section.operands[range];
                let before = open.encoded.bytes.len();
                match self.encode(open, operands, number) {
                    Ok(()) => {
                        growth = (open.encoded.bytes.len() - before) as u64;
                        // In the first round everything comes into being.
                        changed |= growth != 0;
                    }
                    Err(diagnostic) => {
                        diagnostics.push(diagnostic);
                        open.failed = true;
                    }
                }
            }
            if let Fragment::Leb128(index) = section.fragments[number] {
                let field = &mut section.leb128[index as usize];
                let before = field.bytes.len();
                if let Err(diagnostic) = field.settle(self.evaluator) {
                    diagnostics.push(diagnostic);
                }
                growth = (field.bytes.len() - before) as u64;
                changed |= growth != 0;
            }
            self.grown.note(number, growth);
        }
        changed
    }

    /// Encodes an instruction for the sizes as they are now.
    fn encode(
        &self,
        open: &mut OpenInstruction,
        parsed: &[Spanned],
        number: usize,
    ) -> Result<(), Diagnostic> {
        let at = self.starts.0[self.section][number];
        // Only an address that is known could be cut, and not a distance.
        let cut = sotto_isa::x86::cuts_target(open.mnemonic);
        let local = |linear: &Linear| {
            let plus = linear.plus?;
            let position = plus.position?;
            // Another file may have the definition of a weak symbol that counts.
            let weak = plus
                .symbol
                .is_some_and(|id| self.evaluator.symbols.get(id).binding == Binding::Weak);
            let plain = linear.minus.is_none() && linear.via.is_none() && !weak;
            let here = position.section as usize == self.section && plain && !cut;
            // In the first round instructions have no sizes that could have grown.
            let moved = match self.round {
                0 => 0,
                _ => self.grown.between(number, position.fragment as usize),
            };
            here.then(|| self.starts.offset(position) as i64 + linear.offset as i64 + moved)
        };
        let mut operands = sotto_isa::Operands::new();
        let mut only_fixed = true;
        for operand in parsed {
            let lowered = operand.lower(self.evaluator, open.context, &local)?;
            only_fixed &= operand.is_fixed() || lowered.late.is_some();
            operands.push(lowered.operand);
        }
        if let [Operand::Target(Value::Known(target))] = operands[..]
            && self.retarget(open, at, target)
        {
            return Ok(());
        }
        // It never gets shorter, so that settling ends.
        let least = open.encoded.bytes.len();
        let mut encoded = encode_at_least(self.arch, open.mnemonic, &operands, at, least)
            .map_err(|error| open_diagnostic(error, open, parsed, self.evaluator, self.order))?;
        // A one-byte distance is not enough for a place that only the linker knows.
        let short = encoded.fixups.iter().any(|fixup| fixup.field == Field::Rel8);
        if short
            && let Ok(longer) =
                encode_at_least(self.arch, open.mnemonic, &operands, at, encoded.bytes.len() + 1)
        {
            encoded = longer;
        }
        open.encoded = encoded;
        open.settled = only_fixed;
        Ok(())
    }

    /// Puts another distance into an x86 branch that was encoded before, if it fits there.
    fn retarget(&self, open: &mut OpenInstruction, at: u64, target: i64) -> bool {
        let bytes = &mut open.encoded.bytes;
        if !self.arch.is_x86() || bytes.is_empty() {
            return false;
        }
        let distance = target.wrapping_sub(at as i64 + bytes.len() as i64);
        // The distance is the end of the instruction: one byte in the short forms, else four.
        let size = if bytes.len() < 5 { 1 } else { 4 };
        let limit = 1i64 << (8 * size - 1);
        if !(-limit..limit).contains(&distance) {
            return false;
        }
        let field = bytes.len() - size;
        bytes[field..].copy_from_slice(&distance.to_le_bytes()[..size]);
        true
    }
}

/// Gives the symbols of the object their names, which are not asked for by anything after this. What stays out
/// of the symbol table needs none.
fn name_symbols(assembler: &mut Assembler, symbols: &mut [Symbol]) {
    for (symbol, source) in symbols.iter_mut().zip(&mut assembler.symbols.symbols) {
        if !source.hidden {
            symbol.name = std::mem::take(&mut source.name).into_string();
        }
    }
}

/// Symbols of the object, still without their names, and for each section the index of the one that stands
/// for it.
///
/// Symbol `n` of the table is symbol `n` of the object. Hidden ones keep their number, but are marked
/// so that they stay out of the program's symbol table; relocations refer to their section instead.
fn object_symbols(assembler: &mut Assembler, starts: &Starts) -> (Vec<Symbol>, Vec<SymbolIndex>) {
    let mut symbols = Vec::with_capacity(assembler.symbols.symbols.len());
    let mut diagnostics = Vec::new();
    let distance = |from, to| Some(i128::from(starts.offset(to)) - i128::from(starts.offset(from)));
    let memo = Memo::default();
    let evaluator = Evaluator { symbols: &assembler.symbols, distance: &distance, memo: &memo };
    for symbol in &assembler.symbols.symbols {
        let mut place = Place::Undefined;
        let mut absolute_anchor = None;
        match &symbol.definition {
            Definition::None => {
                if let Some(&(size, align)) = symbol.common.as_deref() {
                    place = Place::Common(size, align);
                }
            }
            Definition::Label(position) => {
                place = Place::Section(SectionIndex(position.section), starts.offset(*position));
            }
            Definition::Equate(equate) => {
                let (expr, context) = &**equate;
                match evaluator.eval(expr, *context, symbol.span) {
                    Ok(linear) => absolute_anchor = Some(linear),
                    Err(diagnostic) => diagnostics.push(diagnostic),
                }
            }
        }
        if let Some(linear) = absolute_anchor {
            place = equate_place(&linear, starts, symbol.span, &mut diagnostics);
        }
        let size = symbol.size.as_ref().map_or(0, |size| {
            let (expr, context) = &**size;
            match evaluator.number(expr, *context, symbol.span) {
                Ok(size) => u64::try_from(size).unwrap_or(0),
                Err(diagnostic) => {
                    diagnostics.push(diagnostic);
                    0
                }
            }
        });
        symbols.push(Symbol {
            name: String::new(),
            place,
            binding: symbol.binding,
            kind: symbol.kind,
            visibility: symbol.visibility,
            size: if let Place::Common(bytes, _) = place { bytes } else { size },
            datum: symbol.datum,
            defined_at: (place != Place::Undefined).then_some(symbol.line),
        });
    }
    let first_section = symbols.len() as u32;
    let count = assembler.sections.len() as u32;
    for (number, section) in assembler.sections.iter().enumerate() {
        symbols.push(Symbol {
            name: section.name.clone(),
            place: Place::Section(SectionIndex(number as u32), 0),
            binding: Binding::Local,
            visibility: Visibility::Default,
            kind: SymbolKind::Section,
            size: 0,
            datum: None,
            defined_at: None,
        });
    }
    assembler.diagnostics.append(&mut diagnostics);
    for (symbol, source) in symbols.iter_mut().zip(&assembler.symbols.symbols) {
        if source.hidden {
            // It keeps its number and leaves the symbol table of the program.
            symbol.kind = SymbolKind::Section;
        }
    }
    (symbols, (first_section..first_section + count).map(SymbolIndex).collect())
}

fn equate_place(
    linear: &Linear,
    starts: &Starts,
    span: Span,
    diagnostics: &mut Vec<Diagnostic>,
) -> Place {
    let anchor = linear.plus.and_then(|plus| plus.position).filter(|_| linear.minus.is_none());
    match (linear.as_number(), anchor) {
        (Some(number), _) => {
            match u64::try_from(number).or(i64::try_from(number).map(|n| n as u64)) {
                Ok(value) => Place::Absolute(value),
                // Still good for arithmetic; it is just no symbol of the program.
                Err(_) => Place::Undefined,
            }
        }
        (None, Some(position)) => {
            let offset = starts.offset(position).wrapping_add(linear.offset as u64);
            Place::Section(SectionIndex(position.section), offset)
        }
        (None, None) => {
            let message = "a constant cannot stand for an address in another file or section";
            diagnostics.push(Diagnostic::error(Code::NotConstant, span, message));
            Place::Undefined
        }
    }
}

struct Emitter<'a> {
    arch: Arch,
    symbols: &'a SymbolTable,
    starts: &'a Starts,
    section_symbols: Vec<SymbolIndex>,
    memo: Memo,
    diagnostics: Vec<Diagnostic>,
}

impl Emitter<'_> {
    fn section(&mut self, number: usize, builder: &SectionBuilder, lines: Vec<Line>) -> Section {
        let size = self.starts.size(number);
        let mut section = Section {
            name: builder.name.clone(),
            flags: builder.flags,
            align: builder.align,
            data: Vec::new(),
            size,
            relocations: Vec::new(),
            lines,
        };
        if builder.flags.nobits {
            return section;
        }
        section.data.reserve(size as usize);
        let mut contents = &builder.bytes[..];
        let mut fields = builder.fields.iter().peekable();
        for (index, fragment) in builder.fragments.iter().enumerate() {
            let start = self.starts.0[number][index];
            let bytes = self.starts.0[number][index + 1] - start;
            match fragment {
                Fragment::Fill { value, .. } => {
                    section.data.resize((start + bytes) as usize, *value)
                }
                Fragment::Org(org) => section.data.resize((start + bytes) as usize, org.fill),
                Fragment::Align(pad) if builder.flags.exec && pad.fill.is_none() => {
                    section.data.extend(padding(self.arch, bytes as usize));
                }
                Fragment::Align(pad) => {
                    section.data.resize((start + bytes) as usize, pad.fill.unwrap_or(0));
                }
                Fragment::Bytes(_) => {
                    let (own, rest) = contents.split_at(bytes as usize);
                    section.data.extend_from_slice(own);
                    contents = rest;
                    while let Some(field) = fields.next_if(|f| f.fragment as usize == index) {
                        let at = start + field.offset;
                        if let Err(diagnostic) = self.data_field(field, at, number, &mut section) {
                            self.diagnostics.push(diagnostic);
                        }
                    }
                }
                Fragment::Leb128(field) => {
                    let field = &builder.leb128[*field as usize];
                    let distance = |from, to| self.distance(from, to);
                    if let Err(diagnostic) = field.check(&self.evaluator(&distance)) {
                        self.diagnostics.push(diagnostic);
                    }
                    section.data.extend_from_slice(&field.bytes);
                }
                Fragment::Instruction(open) => {
                    let open = &builder.open[*open as usize];
                    let operands = builder.operands_of(open);
                    section.data.extend_from_slice(&open.encoded.bytes);
                    if let Err(diagnostic) = self.fixups(open, operands, start, &mut section) {
                        self.diagnostics.push(diagnostic);
                    }
                }
            }
        }
        section
    }

    fn evaluator<'b>(&'b self, distance: crate::sections::symbols::Distance<'b>) -> Evaluator<'b> {
        Evaluator { symbols: self.symbols, distance, memo: &self.memo }
    }

    fn distance(&self, from: Position, to: Position) -> Option<i128> {
        Some(i128::from(self.starts.offset(to)) - i128::from(self.starts.offset(from)))
    }

    fn data_field(
        &self,
        field: &DataField,
        at: u64,
        section_number: usize,
        section: &mut Section,
    ) -> Result<(), Diagnostic> {
        let distance = |from, to| self.distance(from, to);
        let linear = self.evaluator(&distance).eval(&field.expr, field.context, field.span)?;
        if let Some(number) = linear.as_number() {
            check_fits(number, field.bytes, field.span)?;
            let range = at as usize..at as usize + usize::from(field.bytes);
            section.data[range].copy_from_slice(&number.to_le_bytes()[..usize::from(field.bytes)]);
            return Ok(());
        }
        let from_table = linear.via == Some(Via::GotOff) && field.bytes == 4;
        let in_threads = match (linear.via, field.bytes) {
            (Some(Via::Tls(TlsOperator::ThreadOffset)), 4) => Some(TlsField::ThreadOffset),
            (Some(Via::Tls(TlsOperator::ThreadOffset)), 8) => Some(TlsField::ThreadOffset64),
            (Some(Via::Tls(TlsOperator::BlockOffset)), 4) => Some(TlsField::BlockOffset),
            (Some(Via::Tls(TlsOperator::BlockOffset)), 8) => Some(TlsField::BlockOffset64),
            (Some(Via::Tls(TlsOperator::DescriptorCall)), _) => Some(TlsField::A64DescriptorCall),
            _ => None,
        };
        let known = in_threads.is_some() || (from_table && self.arch == Arch::X86_32);
        if linear.via.is_some() && !known {
            return Err(Diagnostic::error(
                Code::NotConstant,
                field.span,
                "`@` and `:lo12:` stand in instructions only",
            ));
        }
        let relative = linear.minus.is_some();
        let kind = match (field.bytes, relative) {
            _ if from_table => RelocationKind::GotOffset32,
            _ if let Some(field) = in_threads => RelocationKind::Tls(field),
            (1, false) => RelocationKind::Abs8,
            (2, false) => RelocationKind::Abs16,
            (4, false) => RelocationKind::Abs32,
            (8, false) => RelocationKind::Abs64,
            (1, true) => RelocationKind::Rel8,
            (2, true) => RelocationKind::Rel16,
            (4, true) => RelocationKind::Rel32,
            _ => RelocationKind::Rel64,
        };
        let mut addend = 0;
        if let Some(minus) = linear.minus {
            // The distance is counted from the field itself.
            match minus.position {
                Some(position) if position.section as usize == section_number => {
                    addend = at as i64 - self.starts.offset(position) as i64;
                }
                _ => {
                    return Err(Diagnostic::error(
                        Code::NotConstant,
                        field.span,
                        "the distance between two other sections cannot be known here",
                    ));
                }
            }
        }
        self.relocate(section, at, kind, &linear, addend, field.span)
    }

    /// Adds a relocation for the value's address.
    fn relocate(
        &self,
        section: &mut Section,
        offset: u64,
        kind: RelocationKind,
        linear: &Linear,
        addend: i64,
        span: Span,
    ) -> Result<(), Diagnostic> {
        let not_constant = |message: &str| Diagnostic::error(Code::NotConstant, span, message);
        let anchor = linear.plus.ok_or_else(|| match linear.minus {
            Some(_) => not_constant("an address cannot be subtracted from a number here"),
            None => not_constant("a number is no place in the program").help("use a label"),
        })?;
        let constant = i64::try_from(linear.offset)
            .map_err(|_| not_constant("the distance from the symbol does not fit in 64 bits"))?;
        // A label that other files cannot see is named by its section: debuggers and linkers then
        // need no symbol for it.
        let visible = anchor.symbol.filter(|&id| !self.symbols.get(id).hidden);
        let (symbol, base) = match (visible, anchor.position) {
            (Some(id), _) => (SymbolIndex(id.0), 0),
            (None, Some(position)) => (
                self.section_symbols[position.section as usize],
                self.starts.offset(position) as i64,
            ),
            (None, None) => return Err(not_constant("the symbol has no place")),
        };
        let addend = addend.wrapping_add(constant).wrapping_add(base);
        section.relocations.push(Relocation { offset, kind, symbol, addend });
        Ok(())
    }

    fn fixups(
        &self,
        open: &OpenInstruction,
        operands: &[Spanned],
        start: u64,
        section: &mut Section,
    ) -> Result<(), Diagnostic> {
        let distance = |from, to| self.distance(from, to);
        let evaluator = self.evaluator(&distance);
        for fixup in &open.encoded.fixups {
            let operand = &operands[usize::from(fixup.operand)];
            let lowered = operand.lower(&evaluator, open.context, &|_| None)?;
            let Some(linear) = lowered.late else { continue };
            if linear.minus.is_some() {
                return Err(Diagnostic::error(
                    Code::NotConstant,
                    operand.span,
                    "the distance to another section cannot stand in an instruction",
                ));
            }
            let kind = self.kind(fixup.field, open.mnemonic, operand, &linear)?;
            let at = start + u64::from(fixup.offset);
            let mut addend = i64::from(fixup.addend);
            if kind == RelocationKind::GotDistance32 {
                // The distance is counted from the instruction.
                addend += i64::from(fixup.offset);
            }
            self.relocate(section, at, kind, &linear, addend, operand.span)?;
        }
        Ok(())
    }

    /// Whether the value is counted from a symbol of another file.
    fn is_elsewhere(&self, linear: &Linear) -> bool {
        linear.plus.is_some_and(|plus| plus.position.is_none() && plus.symbol.is_some())
    }

    /// Whether the value is the global offset table, by the name that compilers give it.
    fn is_table(&self, linear: &Linear) -> bool {
        let symbol = linear.plus.and_then(|plus| plus.symbol);
        self.arch == Arch::X86_32 && symbol.is_some_and(|id| *self.symbols.get(id).name == *GOT)
    }

    /// What the field of an instruction holds that names thread-local data by this operator.
    fn tls_field(
        &self,
        operator: TlsOperator,
        field: Field,
        span: Span,
    ) -> Result<TlsField, Diagnostic> {
        let any32 = matches!(field, Field::Rel32 | Field::Abs32 | Field::Abs32Signed);
        let low12 = matches!(field, Field::AddLow12 | Field::AccessLow12(_));
        Ok(match operator {
            TlsOperator::General if any32 => TlsField::GeneralEntry,
            TlsOperator::Module if any32 => TlsField::ModuleEntry,
            TlsOperator::OffsetEntry if any32 => TlsField::OffsetEntry,
            TlsOperator::OffsetEntryAddress if any32 => TlsField::OffsetEntryAddress,
            TlsOperator::ThreadOffset if field == Field::Abs64 => TlsField::ThreadOffset64,
            TlsOperator::ThreadOffset if any32 => TlsField::ThreadOffset,
            TlsOperator::BlockOffset if field == Field::Abs64 => TlsField::BlockOffset64,
            TlsOperator::BlockOffset if any32 => TlsField::BlockOffset,
            TlsOperator::High12 if field == Field::AddLow12 => TlsField::A64OffsetHigh12,
            TlsOperator::Low12 if field == Field::AddLow12 => TlsField::A64OffsetLow12,
            TlsOperator::Low12Unchecked if field == Field::AddLow12 => {
                TlsField::A64OffsetLow12Unchecked
            }
            TlsOperator::EntryPage if field == Field::AdrPage21 => TlsField::A64OffsetEntryPage,
            TlsOperator::EntryLow12 if low12 => TlsField::A64OffsetEntryLow12,
            TlsOperator::DescriptorPage if field == Field::AdrPage21 => TlsField::A64DescriptorPage,
            TlsOperator::DescriptorLow12 if field == Field::AddLow12 => {
                TlsField::A64DescriptorAddLow12
            }
            TlsOperator::DescriptorLow12 if low12 => TlsField::A64DescriptorLow12,
            _ => {
                let message = "the operator for thread-local data does not fit this operand";
                return Err(Diagnostic::error(Code::NotConstant, span, message));
            }
        })
    }

    /// The relocation that fills an instruction's field.
    fn kind(
        &self,
        field: Field,
        mnemonic: &str,
        operand: &Spanned,
        linear: &Linear,
    ) -> Result<RelocationKind, Diagnostic> {
        let span = operand.span;
        let refuse = |message: &str, help: &str| {
            Err(Diagnostic::error(Code::NotConstant, span, message).help(help))
        };
        let is_target = matches!(operand.parsed, Parsed::Target(_));
        match (linear.via, field) {
            (Some(Via::Plt), Field::Rel32) if is_target => return Ok(RelocationKind::Plt32),
            (Some(Via::Plt), _) => {
                return refuse("`@plt` is for the target of a call or jump", "leave it out here");
            }
            (Some(Via::GotPcRel), Field::Rel32) if !is_target => {
                return Ok(match mnemonic {
                    "mov" | "call" | "jmp" => RelocationKind::GotRel32Relaxable,
                    _ => RelocationKind::GotRel32,
                });
            }
            (Some(Via::GotPcRel), _) => {
                return refuse(
                    "`@gotpcrel` is for memory counted from the instruction pointer",
                    "write `[rip + name@gotpcrel]`",
                );
            }
            (Some(Via::Got), Field::Abs32) => return Ok(RelocationKind::GotEntry32),
            (Some(Via::GotOff), Field::Abs32) => return Ok(RelocationKind::GotOffset32),
            (Some(Via::Got | Via::GotOff), _) => {
                return refuse(
                    "`@got` and `@gotoff` are offsets from the table in 32-bit code",
                    "write `[ebx + name@got]`, with the table's address in the register",
                );
            }
            (None, Field::Abs32) if self.is_table(linear) => {
                return Ok(RelocationKind::GotDistance32);
            }
            (Some(Via::Tls(operator)), _) => {
                return self.tls_field(operator, field, span).map(RelocationKind::Tls);
            }
            (Some(Via::GotPage), Field::AdrPage21) => return Ok(RelocationKind::A64GotPage21),
            (Some(Via::GotLow12), Field::AccessLow12(_)) => return Ok(RelocationKind::A64GotLow12),
            (Some(Via::GotPage | Via::GotLow12), _) => {
                return refuse(
                    "`:got:` is for `adrp`, and `:got_lo12:` for the load that follows it",
                    "write `adrp x0, :got:name` and `ldr x0, [x0, :got_lo12:name]`",
                );
            }
            (Some(Via::Low12), Field::AddLow12) => return Ok(RelocationKind::A64AddLow12),
            (Some(Via::Low12), Field::AccessLow12(width)) => {
                return Ok(RelocationKind::A64AccessLow12(width.bytes().trailing_zeros() as u8));
            }
            (Some(Via::Low12), _) => {
                return refuse(
                    "`:lo12:` is for the immediate of `add` and the offset of a load or store",
                    "leave it out here",
                );
            }
            (None, Field::AddLow12 | Field::AccessLow12(_)) => {
                return refuse(
                    "an address does not fit here",
                    "take its page with `adrp`, then write `:lo12:` before the name",
                );
            }
            // A call to another file may end up in a shared library.
            (None, Field::Rel32) if is_target && self.is_elsewhere(linear) => {
                return Ok(RelocationKind::Plt32);
            }
            (None, _) => {}
        }
        Ok({
            match field {
                Field::Rel8 => RelocationKind::Rel8,
                Field::Rel32 => RelocationKind::Rel32,
                Field::Abs8 => RelocationKind::Abs8,
                Field::Abs16 => RelocationKind::Abs16,
                Field::Abs32 => RelocationKind::Abs32,
                Field::Abs32Signed => RelocationKind::Abs32Signed,
                Field::Abs64 => RelocationKind::Abs64,
                Field::Branch26 if mnemonic == "bl" => RelocationKind::A64Call26,
                Field::Branch26 => RelocationKind::A64Branch26,
                Field::Branch19 if mnemonic == "ldr" => RelocationKind::A64Literal19,
                Field::Branch19 => RelocationKind::A64Branch19,
                Field::Branch14 => RelocationKind::A64Branch14,
                Field::Adr21 => RelocationKind::A64Adr21,
                Field::AdrPage21 => RelocationKind::A64AdrPage21,
                Field::AddLow12 => RelocationKind::A64AddLow12,
                Field::AccessLow12(width) => {
                    RelocationKind::A64AccessLow12(width.bytes().trailing_zeros() as u8)
                }
            }
        })
    }
}
