//! What symbols stand for.

use std::collections::HashMap;

use crate::linker::errors::definition;
use crate::linker::layout::Output;
use crate::{Binding, LinkError, Object, Place, Reference, Symbol};

/// A value that a symbol stands for.
#[derive(Copy, Clone)]
pub(crate) struct Resolved {
    pub value: u64,
    pub kind: ValueKind,
}

/// What a value is.
#[derive(Copy, Clone, PartialEq, Eq)]
pub(crate) enum ValueKind {
    /// An address, which moves with the program.
    Address,
    /// An address in the template of thread-local data.
    ThreadLocal,
    /// A number, which stays when the program is loaded elsewhere.
    Number,
}

impl Resolved {
    /// What a symbol stands for where its object defines it. `bases` has the addresses of the object's sections.
    pub fn of(object: &Object, symbol: &Symbol, bases: &[Option<u64>]) -> Option<Resolved> {
        let value = address_of(symbol.place, bases)?;
        let kind = match symbol.place {
            Place::Absolute(_) => ValueKind::Number,
            Place::Section(section, _) if object.sections[section.position()].flags.tls => {
                ValueKind::ThreadLocal
            }
            _ => ValueKind::Address,
        };
        Some(Resolved { value, kind })
    }

    pub fn address(value: u64) -> Resolved {
        Resolved { value, kind: ValueKind::Address }
    }

    pub fn is_number(self) -> bool {
        self.kind == ValueKind::Number
    }
}

pub(crate) type Globals<'a> = HashMap<&'a str, (Resolved, Binding, Reference)>;

pub(crate) fn resolve_globals<'a>(
    objects: &[&'a Object],
    bases: &[Vec<Option<u64>>],
    errors: &mut Vec<LinkError>,
) -> Globals<'a> {
    let mut globals = Globals::new();
    for (number, object) in objects.iter().enumerate() {
        for symbol in &object.symbols {
            let Some(resolved) = Resolved::of(object, symbol, &bases[number]) else { continue };
            if symbol.binding == Binding::Local {
                continue;
            }
            let here = definition(object, symbol.defined_at);
            match globals.get(symbol.name.as_str()) {
                Some((_, Binding::Global, first)) if symbol.binding == Binding::Global => {
                    errors.push(LinkError::Duplicate {
                        name: symbol.name.clone(),
                        first: first.clone(),
                        second: here,
                    });
                }
                Some((_, Binding::Global, _)) => {}
                Some(_) if symbol.binding == Binding::Weak => {}
                _ => {
                    globals.insert(&symbol.name, (resolved, symbol.binding, here));
                }
            }
        }
    }
    globals
}
pub(crate) fn address_of(place: Place, bases: &[Option<u64>]) -> Option<u64> {
    match place {
        // Room for common symbols is in the linker's own object.
        Place::Undefined | Place::Common(..) => None,
        Place::Section(section, offset) => Some(bases[section.0 as usize]?.wrapping_add(offset)),
        Place::Absolute(value) => Some(value),
    }
}

/// Whether the linker defines the symbol if no file does: the bounds of sections and of the program.
///
/// These are the names that linkers for ELF share: `__start_X` and `__stop_X` of a section whose name is an
/// identifier, the bounds of the tables of routines that run at the start and the end, and the ends of code and data.
pub fn is_linker_defined(name: &str) -> bool {
    bounds_of(name).is_some() || PROGRAM_BOUNDS.contains(&name)
}

/// Bounds that are not a section's.
const PROGRAM_BOUNDS: [&str; 11] = [
    "__ehdr_start",
    "__executable_start",
    "__etext",
    "_etext",
    "etext",
    "_edata",
    "edata",
    "__bss_start",
    "_end",
    "end",
    "_GLOBAL_OFFSET_TABLE_",
];

/// Symbols whose address is that of the file's headers.
pub(crate) const HEADER_SYMBOLS: [&str; 2] = ["__ehdr_start", "__executable_start"];

/// A bound of a section.
struct Bound<'a> {
    section: std::borrow::Cow<'a, str>,
    end: bool,
    /// The symbol is defined although the program has no such section: both bounds are then equal.
    always: bool,
}

fn bounds_of(name: &str) -> Option<Bound<'_>> {
    let affix = |prefix: &str, suffix: &str| -> Option<&str> {
        name.strip_prefix(prefix)?.strip_suffix(suffix).filter(|section| !section.is_empty())
    };
    if let Some((section, end)) = affix("__start_", "")
        .map(|section| (section, false))
        .or_else(|| affix("__stop_", "").map(|section| (section, true)))
    {
        return Some(Bound { section: section.into(), end, always: false });
    }
    let (table, end) = affix("__", "_start")
        .map(|table| (table, false))
        .or_else(|| affix("__", "_end").map(|table| (table, true)))?;
    let section = match table {
        "preinit_array" | "init_array" | "fini_array" => format!(".{table}"),
        "rela_iplt" => ".rela.iplt".to_string(),
        "rel_iplt" => ".rel.iplt".to_string(),
        _ => return None,
    };
    Some(Bound { section: section.into(), end, always: true })
}

/// Adds the symbols that objects need, none defines, and the linker knows. `headers` is where the file's headers
/// are in memory, `table` where the global offset table is.
pub(crate) fn define_bounds<'a>(
    objects: &[&'a Object],
    outputs: &[Output],
    headers: Option<u64>,
    table: u64,
    globals: &mut Globals<'a>,
) {
    let symbols = objects.iter().flat_map(|object| &object.symbols);
    for symbol in symbols.filter(|symbol| symbol.place == Place::Undefined) {
        let name = symbol.name.as_str();
        if globals.contains_key(name) {
            continue;
        }
        if let Some(value) = bound(name, outputs, headers, table) {
            let here = Reference { file: String::new(), line: 0 };
            globals.insert(name, (Resolved::address(value), Binding::Global, here));
        }
    }
}

fn bound(name: &str, outputs: &[Output], headers: Option<u64>, table: u64) -> Option<u64> {
    if let Some(bound) = bounds_of(name) {
        let sections = outputs.iter().filter(|output| output.name == bound.section);
        let found = match bound.end {
            true => sections.map(Output::end).max(),
            false => sections.map(|output| output.address).min(),
        };
        let anywhere = outputs.first().map(|output| output.address);
        return found.or(anywhere.filter(|_| bound.always));
    }
    let placed = || outputs.iter().filter(|output| !output.flags.tls || !output.flags.nobits);
    let end = placed().map(Output::end).max();
    let bss = placed().find(|output| output.flags.nobits).map(|output| output.address);
    let data = placed().filter(|output| !output.flags.nobits).map(Output::end).max();
    match name {
        "__ehdr_start" | "__executable_start" => headers,
        "etext" | "_etext" | "__etext" => {
            placed().filter(|output| output.flags.exec).map(Output::end).max()
        }
        "edata" | "_edata" => data,
        "__bss_start" => bss.or(data),
        "end" | "_end" => end,
        "_GLOBAL_OFFSET_TABLE_" => Some(table),
        _ => None,
    }
}
