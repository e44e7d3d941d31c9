//! What an image says of itself: its symbols, source lines, parts and unwind tables.

use std::collections::HashMap;

use sotto_isa::Arch;

use crate::debug_info::dwarf;
use crate::linker::errors::file_name;
use crate::linker::layout::Output;
use crate::linker::resolve::address_of;
use crate::object::is_mapping_symbol;
use crate::{
    ImageLabel, ImagePart, ImageSymbol, LineTable, Object, Place, Segment, SourceLine, SymbolKind,
};

/// The unwind tables of what we assembled, for reading in memory.
pub(crate) fn call_frames(arch: Arch, objects: &[&Object], bases: &[Vec<Option<u64>>]) -> Vec<u8> {
    let routines = objects.iter().zip(bases).flat_map(|(object, bases)| {
        object.unwind.iter().filter_map(|table| {
            let start = bases[table.section.0 as usize]?.wrapping_add(table.start);
            Some((start, table.size, &table.rules[..]))
        })
    });
    dwarf::call_frames(arch, routines)
}

/// What went where, for the map.
pub(crate) fn image_parts(objects: &[&Object], outputs: &[Output]) -> Vec<ImagePart> {
    let mut parts = Vec::new();
    for output in outputs {
        for &(object, section, start) in &output.parts {
            let section = &objects[object].sections[section];
            parts.push(ImagePart {
                file: file_name(objects[object]),
                section: section.name.clone(),
                address: output.address + start,
                size: section.size,
            });
        }
    }
    parts
}

pub(crate) fn image_symbols(
    objects: &[&Object],
    bases: &[Vec<Option<u64>>],
    segments: &[Segment],
) -> Vec<ImageSymbol> {
    let mut symbols: Vec<ImageSymbol> = objects
        .iter()
        .zip(bases)
        .flat_map(|(object, bases)| {
            object.symbols.iter().filter_map(|symbol| {
                if symbol.kind == SymbolKind::Section
                    || symbol.name.contains('\0')
                    || is_mapping_symbol(object.arch, &symbol.name)
                {
                    return None;
                }
                // A thread-local variable has no address of its own.
                if let Place::Section(section, _) = symbol.place
                    && object.sections[section.position()].flags.tls
                {
                    return None;
                }
                let address = address_of(symbol.place, bases)?;
                let (file, line) = symbol.defined_at.unwrap_or((0, 0));
                let file = object.files.get(file as usize).cloned().unwrap_or_default();
                Some(ImageSymbol {
                    name: symbol.name.clone(),
                    address,
                    size: symbol.size,
                    kind: symbol.kind,
                    binding: symbol.binding,
                    datum: symbol.datum,
                    absolute: matches!(symbol.place, Place::Absolute(_)),
                    defined_at: (!file.is_empty()).then_some((file, line)),
                })
            })
        })
        .collect();
    symbols.sort_by_key(|symbol| symbol.address);
    guess_sizes(&mut symbols, segments);
    symbols
}

/// The labels that are names within a source alone.
pub(crate) fn image_labels(objects: &[&Object], bases: &[Vec<Option<u64>>]) -> Vec<ImageLabel> {
    let mut labels = Vec::new();
    for (object, bases) in objects.iter().zip(bases) {
        for label in &object.labels {
            let place = Place::Section(label.section, label.offset);
            let Some(address) = address_of(place, bases) else { continue };
            let owner = label.owner.map(|owner| object.symbols[owner.position()].name.clone());
            labels.push(ImageLabel { name: label.name.clone(), owner, address });
        }
    }
    labels.sort_by_key(|label| label.address);
    labels
}

/// A symbol without a size covers what lies up to the next one, or to the end of its section.
fn guess_sizes(symbols: &mut [ImageSymbol], segments: &[Segment]) {
    let sections: Vec<(u64, u64)> =
        segments.iter().flat_map(|s| &s.sections).map(|s| (s.1, s.1 + s.2)).collect();
    for index in 0..symbols.len() {
        let address = symbols[index].address;
        if symbols[index].size != 0 || symbols[index].absolute {
            continue;
        }
        let Some(&(_, end)) =
            sections.iter().find(|(start, end)| (*start..*end).contains(&address))
        else {
            continue;
        };
        let next = symbols[index + 1..]
            .iter()
            .find(|symbol| !symbol.absolute && symbol.address > address)
            .map_or(end, |symbol| symbol.address.min(end));
        symbols[index].size = next - address;
    }
}

pub(crate) fn line_table(objects: &[&Object], outputs: &[Output]) -> LineTable {
    let mut table = LineTable::default();
    let mut known: HashMap<&str, u32> = HashMap::new();
    // A file that several objects take in is one file.
    let mut numbers: Vec<Vec<u32>> = Vec::new();
    for object in objects {
        let of_object = object.files.iter().map(|file| {
            *known.entry(file).or_insert_with(|| {
                table.files.push(file.clone());
                table.files.len() as u32 - 1
            })
        });
        numbers.push(of_object.collect());
    }
    for output in outputs {
        for &(object, section, start) in &output.parts {
            let base = output.address + start;
            let section = &objects[object].sections[section];
            table.rows.extend(section.lines.iter().map(|line| {
                let file = numbers[object][line.file as usize];
                let place = SourceLine { file, line: line.line };
                (base + line.offset, Some(place))
            }));
            table.rows.push((base + section.size, None));
        }
    }
    table.rows.sort_by_key(|row| row.0);
    // Where one section ends and the next begins, the beginning counts.
    table.rows.dedup_by(|later, earlier| {
        let same = later.0 == earlier.0;
        if same && later.1.is_some() {
            earlier.1 = later.1;
        }
        same
    });
    table
}
