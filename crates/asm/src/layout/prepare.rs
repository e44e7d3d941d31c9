//! What is settled about symbols before sizes are: names of sections, names defined elsewhere, local common symbols.

use sotto_object::{Binding, SectionFlags};

use crate::context::Assembler;
use crate::sections::fragments::{Align, Fragment};
use crate::symbols::{Context, Definition, Position, SymbolId};
use crate::{Code, Diagnostic, Expr, Span};

/// So many names are written out in a note.
const MOST_NAMED: usize = 8;

/// Takes names that nothing defines to be defined in another file, and says so: once for all of them, and of its own for
/// one that is like a name of the file, which may be misspelt.
pub(crate) fn note_externals(assembler: &mut Assembler) {
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

/// Makes the room of `.comm` for symbols that `.local` keeps to this file: in `.bss`, since no linker
/// is to see them.
pub(crate) fn place_local_commons(assembler: &mut Assembler) {
    let undefined = |symbol: &crate::symbols::Symbol| matches!(symbol.definition, Definition::None);
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

/// Lets a section's name stand for its start, where nothing else is called so: compilers refer to their tables so.
pub(crate) fn name_sections(assembler: &mut Assembler) {
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
