//! The symbols of the object.

use sotto_object::{
    Binding, LocalLabel, Place, SectionIndex, Symbol, SymbolIndex, SymbolKind, Visibility,
};

use crate::context::Assembler;
use crate::layout::places::Starts;
use crate::symbols::{Definition, Evaluator, Linear, Memo, shown};
use crate::{Code, Diagnostic, Span};

/// Gives the symbols of the object their names, which are not asked for by anything after this. What stays out
/// of the symbol table needs none.
pub(crate) fn name_symbols(assembler: &mut Assembler, symbols: &mut [Symbol]) {
    for (symbol, source) in symbols.iter_mut().zip(&mut assembler.symbols.symbols) {
        if !source.hidden {
            symbol.name = std::mem::take(&mut source.name).into_string();
        }
    }
}

/// The labels that are names within the source alone, if they are asked for.
pub(crate) fn local_labels(assembler: &Assembler, starts: &Starts) -> Vec<LocalLabel> {
    if !assembler.keeps_labels {
        return Vec::new();
    }
    let hidden = assembler.symbols.symbols.iter().filter(|symbol| symbol.hidden);
    let label = |symbol: &crate::symbols::Symbol| {
        let Definition::Label(position) = symbol.definition else { return None };
        Some(LocalLabel {
            name: shown(&symbol.name).to_string(),
            owner: symbol.owner.map(|owner| SymbolIndex(owner.0)),
            section: SectionIndex(position.section),
            offset: starts.offset(position),
        })
    };
    hidden.filter_map(label).collect()
}

/// Symbols of the object, still without their names, and for each section the index of the one that stands
/// for it.
///
/// Symbol `n` of the table is symbol `n` of the object. Hidden ones keep their number, but are marked
/// so that they stay out of the program's symbol table; relocations refer to their section instead.
pub(crate) fn object_symbols(
    assembler: &mut Assembler,
    starts: &Starts,
) -> (Vec<Symbol>, Vec<SymbolIndex>) {
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

pub(crate) fn equate_place(
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

/// The symbols that tell code from data in A64 sections. Source: AAELF64, 5.5.4 "Mapping symbols".
pub(crate) fn mapping_symbols(assembler: &Assembler, starts: &Starts) -> Vec<Symbol> {
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
