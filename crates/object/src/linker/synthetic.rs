//! What the linker makes itself, as one more object: room for common symbols, the global offset table, and the tables
//! for functions that are chosen at run time.

use std::collections::{HashMap, HashSet};

use crate::linker::align::align_up;
use crate::linker::relax;
use crate::linker::tls::{self, Holds};
use crate::target::target;
use crate::{
    Binding, Object, Place, RelocationKind, Section, SectionFlags, SectionIndex, SymbolKind,
    Visibility,
};

/// What the linker adds to the program: room for common symbols, the global offset table, and the tables for
/// functions that are chosen at run time.
pub(crate) struct Synthetic {
    pub object: Option<Object>,
    /// Numbers of the entries of the global offset table.
    pub table: HashMap<TableEntry, u64>,
    /// Numbers of the functions that are chosen at run time.
    pub indirect: HashMap<IndirectFunction, u64>,
}

/// An entry of the global offset table: what an object's symbol is.
#[derive(Copy, Clone, PartialEq, Eq, Hash, Debug)]
pub(crate) struct TableEntry {
    pub object: usize,
    pub symbol: u32,
    /// The entry holds the symbol's offset from the thread pointer, and else its address.
    pub thread_offset: bool,
}

/// A function that is chosen at run time: the same for all objects, or one object's own.
#[derive(Clone, PartialEq, Eq, Hash, Debug)]
pub(crate) enum IndirectFunction {
    Shared(String),
    Local(usize, u32),
}

/// Sections of the linker's object, by their numbers in it.
pub(crate) const GLOBAL_OFFSET_TABLE: usize = 1;
pub(crate) const INDIRECT_STUBS: usize = 2;
pub(crate) const INDIRECT_SLOTS: usize = 3;
pub(crate) const INDIRECT_RELOCATIONS: usize = 4;

pub(crate) fn synthetic_object(objects: &[Object]) -> Synthetic {
    let commons = common_symbols(objects);
    let (table, base_is_named) = table_entries(objects);
    let indirect = indirect_functions(objects);
    if commons.is_empty() && table.is_empty() && indirect.is_empty() && !base_is_named {
        return Synthetic { object: None, table, indirect };
    }
    let arch = objects[0].arch;
    let mut object = Object {
        arch,
        files: vec![String::new()],
        sections: Vec::new(),
        symbols: Vec::new(),
        unwind: Vec::new(),
        groups: Vec::new(),
        stated_lines: None,
        labels: Vec::new(),
    };
    let writable = SectionFlags { alloc: true, write: true, ..SectionFlags::default() };
    let mut bss = made_section(".bss", SectionFlags { nobits: true, ..writable }, 1, 0);
    for (name, size, align) in commons {
        bss.align = bss.align.max(align);
        let start = align_up(bss.size, align);
        bss.size = start + size;
        object.symbols.push(crate::Symbol {
            name: name.to_string(),
            place: Place::Section(SectionIndex(0), start),
            binding: Binding::Global,
            visibility: Visibility::Default,
            kind: SymbolKind::Data,
            size,
            datum: None,
            defined_at: None,
        });
    }
    let entry = arch.address_bytes();
    let entries = table.len() as u64 + u64::from(base_is_named);
    let tables = &target(arch).indirect;
    let functions = indirect.len() as u64;
    let words = if target(arch).has_addends { 3 } else { 2 };
    let read_only = SectionFlags { alloc: true, ..SectionFlags::default() };
    let code = SectionFlags { exec: true, ..read_only };
    object.sections = vec![
        bss,
        made_section(".got", writable, entry, entry * entries),
        made_section(".iplt", code, 16, tables.stub.len() as u64 * functions),
        made_section(".igot", writable, entry, entry * functions),
        made_section(tables.section, read_only, entry, words * entry * functions),
    ];
    for (function, number) in &indirect {
        let size = tables.stub.len() as u64;
        let name = match function {
            IndirectFunction::Shared(name) => name.as_str(),
            IndirectFunction::Local(object, symbol) => {
                &objects[*object].symbols[*symbol as usize].name
            }
        };
        object.symbols.push(crate::Symbol {
            name: format!("{name}.iplt"),
            place: Place::Section(SectionIndex(INDIRECT_STUBS as u32), size * number),
            binding: Binding::Local,
            visibility: Visibility::Default,
            kind: SymbolKind::Function,
            size,
            datum: None,
            defined_at: None,
        });
    }
    object.symbols.sort_by(|a, b| a.name.cmp(&b.name));
    Synthetic { object: Some(object), table, indirect }
}

/// Common symbols that no object defines: name, bytes, and alignment in bytes. The largest of a name wins.
fn common_symbols(objects: &[Object]) -> Vec<(&str, u64, u64)> {
    let mut commons: Vec<(&str, u64, u64)> = Vec::new();
    let mut by_name: HashMap<&str, usize> = HashMap::new();
    let mut defined: HashSet<&str> = HashSet::new();
    for symbol in objects.iter().flat_map(|object| &object.symbols) {
        match symbol.place {
            Place::Common(size, align) => match by_name.get(symbol.name.as_str()) {
                Some(&at) => {
                    commons[at].1 = commons[at].1.max(size);
                    commons[at].2 = commons[at].2.max(align);
                }
                None => {
                    by_name.insert(&symbol.name, commons.len());
                    commons.push((&symbol.name, size, align));
                }
            },
            Place::Undefined => {}
            _ if symbol.binding == Binding::Global => {
                defined.insert(&symbol.name);
            }
            _ => {}
        }
    }
    commons.retain(|(name, ..)| !defined.contains(name));
    commons
}

/// The entries that fields need, and whether a field counts from the table itself.
fn table_entries(objects: &[Object]) -> (HashMap<TableEntry, u64>, bool) {
    let mut table = HashMap::new();
    let mut base_is_named = false;
    for (number, object) in objects.iter().enumerate() {
        base_is_named |= object.symbols.iter().any(|symbol| symbol.name == "_GLOBAL_OFFSET_TABLE_");
        let loaded = object.sections.iter().filter(|section| section.flags.alloc);
        for section in loaded {
            for relocation in &section.relocations {
                base_is_named |= matches!(
                    relocation.kind,
                    RelocationKind::GotOffset32 | RelocationKind::GotDistance32
                );
                let thread_offset = match relocation.kind {
                    RelocationKind::Tls(field) => {
                        let meaning = tls::meaning(target(object.arch), field);
                        if !meaning.is_some_and(|(holds, _)| holds == Holds::Entry) {
                            continue;
                        }
                        true
                    }
                    _ if relax::needs_table(relocation, &section.data) => false,
                    _ => continue,
                };
                let next = table.len() as u64;
                let symbol = relocation.symbol.0;
                let entry = TableEntry { object: number, symbol, thread_offset };
                table.entry(entry).or_insert(next);
            }
        }
    }
    (table, base_is_named)
}

/// The functions that are chosen at run time, in the order of the objects.
fn indirect_functions(objects: &[Object]) -> HashMap<IndirectFunction, u64> {
    let mut functions = HashMap::new();
    for (number, object) in objects.iter().enumerate() {
        for (index, symbol) in object.symbols.iter().enumerate() {
            if symbol.kind != SymbolKind::IndirectFunction || symbol.place == Place::Undefined {
                continue;
            }
            let function = match symbol.binding {
                Binding::Local => IndirectFunction::Local(number, index as u32),
                _ => IndirectFunction::Shared(symbol.name.clone()),
            };
            let next = functions.len() as u64;
            functions.entry(function).or_insert(next);
        }
    }
    functions
}

fn made_section(name: &str, flags: SectionFlags, align: u64, size: u64) -> Section {
    let data = if flags.nobits { Vec::new() } else { vec![0; size as usize] };
    Section {
        name: name.to_string(),
        flags,
        align,
        data,
        size,
        relocations: Vec::new(),
        lines: Vec::new(),
    }
}
