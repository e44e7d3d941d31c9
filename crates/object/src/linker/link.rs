//! Objects to an image: merging sections, placing them, resolving symbols, filling fields.
//!
//! Segments follow each other from `0x400000`, or from 0 in a position-independent program: code,
//! constants, then data. Each starts on a page of its own, so that no page is both writable and
//! executable.
//!
//! Nothing here links against shared libraries, so a procedure linkage table is never needed, and
//! the global offset table only where an instruction cannot be rewritten to do without.

use crate::elf::write::{header_bytes, write_executable};
use crate::linker::annotations::{
    call_frames, image_labels, image_parts, image_symbols, line_table,
};
use crate::linker::errors::file_name;
use crate::linker::fields::Linker;
use crate::linker::layout::{merge, part_addresses, place, repeated_sections, tls_template};
use crate::linker::resolve::{HEADER_SYMBOLS, define_bounds, resolve_globals};
use crate::linker::synthetic::synthetic_object;
use crate::{Image, LinkError, Object, Place, ProgramHeaders};

/// What the user may choose.
#[derive(Clone, Debug)]
pub struct LinkOptions {
    /// Name of the symbol at which the program starts.
    pub entry: String,
    /// The program can be loaded anywhere.
    pub position_independent: bool,
    /// The program may start at a symbol that only its own file sees.
    pub local_entry: bool,
}

impl Default for LinkOptions {
    fn default() -> LinkOptions {
        LinkOptions { entry: "_start".to_string(), position_independent: false, local_entry: false }
    }
}

/// Lays out objects as a program.
///
/// # Errors
///
/// Every [`LinkError`] found, in the order of the objects.
pub fn link(objects: &[Object], options: &LinkOptions) -> Result<Image, Vec<LinkError>> {
    let Some(first) = objects.first() else { return Err(vec![LinkError::Nothing]) };
    let mut errors = Vec::new();
    for object in objects {
        if object.arch != first.arch {
            errors.push(LinkError::MixedTargets {
                first_file: file_name(first),
                wanted: first.arch,
                file: file_name(object),
                found: object.arch,
            });
        }
    }
    if !errors.is_empty() {
        return Err(errors);
    }
    for object in objects {
        for section in &object.sections {
            if section.flags.alloc && section.flags.write && section.flags.exec {
                let (section, file) = (section.name.clone(), file_name(object));
                errors.push(LinkError::WritableCode { section, file });
            }
        }
    }
    let size = total_size(objects);
    if size > MAX_PROGRAM_BYTES {
        errors.push(LinkError::TooLarge { size, limit: MAX_PROGRAM_BYTES });
    }
    if !errors.is_empty() {
        return Err(errors);
    }
    // What the linker makes itself is one more object.
    let made = synthetic_object(objects);
    let objects: Vec<&Object> = objects.iter().chain(&made.object).collect();
    let repeated = repeated_sections(&objects);
    let mut outputs = merge(&objects, &repeated);
    let headers = needs_headers(&objects).then(|| header_bytes(first.arch));
    let mut segments = place(&mut outputs, first.arch, options.position_independent, headers);
    if outputs.is_empty() {
        return Err(vec![LinkError::Empty]);
    }
    let headers = headers.map(|_| segments[0].address);
    let thread_template = tls_template(&outputs);
    let bases = part_addresses(&objects, &outputs, &repeated);
    let globals = resolve_globals(&objects, &bases, &mut errors);
    let mut linker = Linker {
        objects: &objects,
        bases,
        globals,
        repeated,
        made: &made,
        thread_template,
        options,
    };
    let table = linker.table_address();
    define_bounds(&objects, &outputs, headers, table, &mut linker.globals);
    linker.fill(&outputs, &mut segments, &mut errors);
    let entry = linker.find_entry(&mut errors);
    let Some(entry) = entry.filter(|_| errors.is_empty()) else { return Err(errors) };
    let mut image = Image {
        arch: first.arch,
        entry,
        position_independent: options.position_independent,
        interpreter: None,
        executable_stack: objects.iter().any(|object| object.needs_executable_stack()),
        symbols: image_symbols(&objects, &linker.bases, &segments),
        variables: Vec::new(),
        labels: image_labels(&objects, &linker.bases),
        lines: line_table(&objects, &outputs),
        parts: image_parts(&objects, &outputs),
        call_frames: call_frames(first.arch, &objects, &linker.bases),
        tls_template: linker.thread_template,
        contracts: linker.contracts(),
        modules: Vec::new(),
        headers: None,
        segments,
    };
    if let Some(address) = headers {
        image.headers = Some(ProgramHeaders::of_image(&image, address));
        // The program reads the headers that its file has.
        let file = write_executable(&image);
        let bytes = &mut image.segments[0].data;
        let size = bytes.len();
        bytes.copy_from_slice(&file[..size]);
    }
    Ok(image)
}

/// Whether the file's headers belong to the program's memory, where its start finds the thread-local data.
fn needs_headers(objects: &[&Object]) -> bool {
    objects.iter().any(|object| {
        object.sections.iter().any(|section| section.flags.alloc && section.flags.tls)
            || object.symbols.iter().any(|symbol| {
                symbol.place == Place::Undefined && HEADER_SYMBOLS.contains(&symbol.name.as_str())
            })
    })
}

/// No program may be larger than this in memory.
const MAX_PROGRAM_BYTES: u64 = 1 << 31;

fn total_size(objects: &[Object]) -> u64 {
    let sections = objects.iter().flat_map(|object| &object.sections);
    let sections = sections.filter(|section| section.flags.alloc);
    let sections = sections.fold(0, |sum: u64, section| {
        sum.saturating_add(section.size).saturating_add(section.align)
    });
    let symbols = objects.iter().flat_map(|object| &object.symbols);
    symbols.fold(sections, |sum, symbol| match symbol.place {
        Place::Common(size, align) => sum.saturating_add(size).saturating_add(align),
        _ => sum,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{
        Binding, Reference, Relocation, RelocationKind, Section, SectionFlags, SectionIndex,
        SourceLine, Symbol, SymbolIndex, SymbolKind, Visibility,
    };
    use sotto_isa::Arch;

    fn section(name: &str, data: &[u8]) -> Section {
        Section {
            name: name.into(),
            flags: SectionFlags::by_name(name),
            align: 1,
            data: data.to_vec(),
            size: data.len() as u64,
            relocations: Vec::new(),
            lines: vec![crate::Line { offset: 0, file: 0, line: 3 }],
        }
    }

    fn symbol(name: &str, place: Place, binding: Binding) -> Symbol {
        let (kind, size) = (SymbolKind::None, 0);
        Symbol {
            name: name.into(),
            place,
            binding,
            visibility: Visibility::Default,
            kind,
            size,
            datum: None,
            defined_at: Some((0, 2)),
        }
    }

    fn object(file: &str, sections: Vec<Section>, symbols: Vec<Symbol>) -> Object {
        let unwind = Vec::new();
        Object {
            arch: Arch::X86_64,
            files: vec![file.into()],
            sections,
            symbols,
            unwind,
            groups: Vec::new(),
            stated_lines: None,
            labels: Vec::new(),
        }
    }

    const TEXT_START: Place = Place::Section(SectionIndex(0), 0);

    #[test]
    fn sections_of_a_name_join_and_permissions_get_pages_of_their_own() {
        let lamp = object(
            "lamp.s",
            vec![section(".text", &[1; 5]), section(".data", &[2; 3]), section(".rodata", &[4])],
            vec![symbol("_start", TEXT_START, Binding::Global)],
        );
        let fog = object("fog.s", vec![section(".text", &[3; 2])], vec![]);
        let image = link(&[lamp, fog], &LinkOptions::default()).unwrap();
        assert_eq!(image.entry, 0x40_1000);
        let placed: Vec<_> = image.segments.iter().map(|s| (s.address, s.data.clone())).collect();
        assert_eq!(
            placed,
            [
                (0x40_1000, vec![1, 1, 1, 1, 1, 3, 3]),
                (0x40_2000, vec![4]),
                (0x40_3000, vec![2, 2, 2])
            ]
        );
        assert_eq!(image.lines.at(0x40_1006), Some(SourceLine { file: 1, line: 3 }));
        assert_eq!(image.lines.at(0x40_1007), None);
    }

    #[test]
    fn undefined_symbols_list_every_reference_and_duplicates_both_places() {
        let mut text = section(".text", &[0; 16]);
        for offset in [0, 8] {
            let (kind, symbol) = (RelocationKind::Rel32, SymbolIndex(1));
            text.relocations.push(Relocation { offset, kind, symbol, addend: 0 });
        }
        text.lines.push(crate::Line { offset: 8, file: 0, line: 9 });
        let symbols = vec![
            symbol("_start", TEXT_START, Binding::Global),
            symbol("fog_horn", Place::Undefined, Binding::Global),
        ];
        let lamp = object("lamp.s", vec![text], symbols);
        let other = object(
            "fog.s",
            vec![section(".text", &[0])],
            vec![symbol("_start", TEXT_START, Binding::Global)],
        );
        let errors = link(&[lamp, other], &LinkOptions::default()).unwrap_err();
        let at = |file: &str, line| Reference { file: file.into(), line };
        assert_eq!(
            errors,
            [
                LinkError::Duplicate {
                    name: "_start".into(),
                    first: at("lamp.s", 2),
                    second: at("fog.s", 2)
                },
                LinkError::Undefined {
                    name: "fog_horn".into(),
                    references: vec![at("lamp.s", 3), at("lamp.s", 9)],
                    known: vec!["_start".into()]
                },
            ]
        );
    }

    #[test]
    fn a_program_without_an_entry_symbol_is_told_what_it_has() {
        let lamp = object(
            "lamp.s",
            vec![section(".text", &[0])],
            vec![symbol("_start", TEXT_START, Binding::Local)],
        );
        let errors = link(&[lamp], &LinkOptions::default()).unwrap_err();
        assert_eq!(
            errors,
            [LinkError::NoEntry { name: "_start".into(), local: true, has_main: false }]
        );
    }
}
