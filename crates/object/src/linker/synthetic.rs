//! What the linker makes itself, as one more object: room for common symbols, and the global offset
//! table.

use std::collections::{HashMap, HashSet};

use crate::linker::align::align_up;
use crate::linker::relax;
use crate::{
    Binding, Object, Place, RelocationKind, Section, SectionFlags, SectionIndex, SymbolKind,
    Visibility,
};

/// What the linker adds to the program: room for common symbols, and the global offset table.
pub(crate) struct Synthetic {
    pub object: Option<Object>,
    /// Entry in the table of each symbol that needs one: object and symbol, and its number.
    pub table: HashMap<(usize, u32), u64>,
    /// The table's section in the object.
    pub table_section: usize,
}

pub(crate) fn synthetic_object(objects: &[Object]) -> Synthetic {
    let mut commons: Vec<(&str, u64, u64)> = Vec::new();
    let mut by_name: HashMap<&str, usize> = HashMap::new();
    let mut defined: HashSet<&str> = HashSet::new();
    for symbol in objects.iter().flat_map(|object| &object.symbols) {
        match symbol.place {
            Place::Common(size, align) => match by_name.get(symbol.name.as_str()) {
                // The largest wins.
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
    let mut table = HashMap::new();
    let mut base_is_named = false;
    for (number, object) in objects.iter().enumerate() {
        for section in &object.sections {
            for relocation in &section.relocations {
                base_is_named |= matches!(
                    relocation.kind,
                    RelocationKind::GotOffset32 | RelocationKind::GotDistance32
                );
                if relax::needs_table(relocation, &section.data) {
                    let next = table.len() as u64;
                    table.entry((number, relocation.symbol.0)).or_insert(next);
                }
            }
        }
    }
    if commons.is_empty() && table.is_empty() && !base_is_named {
        return Synthetic { object: None, table, table_section: 0 };
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
    };
    let mut bss = made_section(".bss", true);
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
    let mut got = made_section(".got", false);
    let entry = arch.address_bytes();
    got.align = entry;
    got.size = entry * (table.len() as u64 + u64::from(base_is_named));
    got.data = vec![0; got.size as usize];
    object.sections = vec![bss, got];
    Synthetic { object: Some(object), table, table_section: 1 }
}

fn made_section(name: &str, nobits: bool) -> Section {
    Section {
        name: name.to_string(),
        flags: SectionFlags { alloc: true, write: true, nobits, ..SectionFlags::default() },
        align: 1,
        data: Vec::new(),
        size: 0,
        relocations: Vec::new(),
        lines: Vec::new(),
    }
}
