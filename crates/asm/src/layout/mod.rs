//! Settling sizes, filling values, and making the object.
//!
//! Instructions start in their shortest form and only ever grow, so settling ends: each round either
//! lengthens an instruction or changes nothing.

mod emit;
mod object_symbols;
pub(crate) mod places;
mod prepare;
mod sizes;

use sotto_object::{
    ExceptionHandler, Group, Line, Object, SectionIndex, StatedLine, StatedLines, SymbolIndex,
    UnwindTable,
};

use emit::Emitter;
use object_symbols::{local_labels, mapping_symbols, name_symbols, object_symbols};
use places::{Starts, org_gap};
use prepare::{name_sections, note_externals, place_local_commons};
use sizes::settle;

use crate::context::{Assembler, MAX_CONTENT_BYTES, MAX_SECTION_BYTES};
use crate::contracts::contract_section;
use crate::sections::derived_unwind;
use crate::sections::fragments::Fragment;
use crate::sections::listing::{Listing, ListingLine};
use crate::sections::unwind_tables::Pointer;
use crate::symbols::{Evaluator, Linear, Memo};
use crate::{Code, Diagnostic, Span};

/// Settles everything, adds what is wrong to the diagnostics, and gives the object.
pub(crate) fn finish(assembler: &mut Assembler) -> (Option<Object>, Option<Listing>) {
    if let Err(diagnostic) = assembler.symbols.settle_variables() {
        assembler.diagnostics.push(diagnostic);
    }
    assembler.refuse_open_contract();
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
    let mut sections: Vec<sotto_object::Section> = sections;
    sections.extend(contract_section(assembler, &starts, &emitter_symbols));
    let labels = local_labels(assembler, &starts);
    name_symbols(assembler, &mut symbols);
    let mut object = Object {
        arch: assembler.arch,
        files: assembler.files.clone(),
        sections,
        symbols,
        unwind: unwind_tables(assembler, &starts, &emitter_symbols),
        groups: groups(assembler),
        stated_lines: stated_lines(assembler, &starts),
        labels,
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
