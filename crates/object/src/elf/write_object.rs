//! An object as a relocatable ELF file, which the system's C compiler can link.
//!
//! Sources: gABI, "Sections", "Symbol Table", "Relocation"; the byte layouts are the `object`
//! crate's.

use std::borrow::Cow;
use std::collections::{BTreeSet, HashMap, HashSet};

use elf_layout::elf as raw;
use elf_layout::write::StringId;
use elf_layout::write::elf as write;

use crate::debug_info::dwarf;
use crate::debug_info::dwarf::{DebugSection, Target};
use crate::elf::numbers::{
    binding, contents_type, file_header, is_64_bit, kind, relocation_number, section_flags,
    visibility,
};
use crate::object::STACK_NOTE;
use crate::target::target;
use crate::{
    Binding, Object, Place, Relocation, RelocationKind, SectionIndex, Symbol, SymbolIndex,
    SymbolKind,
};

/// Why an object cannot be written.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[non_exhaustive]
pub enum WriteError {
    /// The machine's ABI has no relocation of this kind.
    #[error(
        "the ELF format for {arch} has no relocation that fills {bytes} bytes with {what} of `{symbol}`"
    )]
    NoRelocation {
        /// The machine.
        arch: sotto_isa::Arch,
        /// Bytes of the field.
        bytes: u64,
        /// "the address" or "the distance".
        what: &'static str,
        /// The symbol.
        symbol: String,
        /// Source file and line.
        place: (String, u32),
    },
}

/// A relocation as it is written.
struct Rela {
    offset: u64,
    symbol: u32,
    number: u32,
    addend: i64,
    /// Of the field.
    bytes: u64,
}

/// A section as it is written.
struct Section<'a> {
    name: StringId,
    section_type: u32,
    flags: u64,
    align: u64,
    size: u64,
    data: Cow<'a, [u8]>,
    relocations: Vec<Rela>,
    rela_name: Option<StringId>,
    /// Filled while space is reserved.
    offset: usize,
    rela_offset: usize,
}

/// Whether a symbol in code starts a routine: a function, or a global label.
fn is_routine(symbol: &Symbol) -> bool {
    symbol.kind == SymbolKind::Function
        || (symbol.kind == SymbolKind::None && symbol.binding != Binding::Local)
}

/// Where the routines of each section start, in order.
fn routine_starts(object: &Object) -> Vec<BTreeSet<u64>> {
    let mut starts = vec![BTreeSet::new(); object.sections.len()];
    for symbol in object.symbols.iter().filter(|symbol| is_routine(symbol)) {
        if let Place::Section(index, offset) = symbol.place {
            starts[index.0 as usize].insert(offset);
        }
    }
    starts
}

/// Type and size of a symbol, where the source does not say: a global label in code is a function,
/// and reaches to the next one; data has the size that it was declared with.
fn described(object: &Object, routines: &[BTreeSet<u64>], symbol: &Symbol) -> (SymbolKind, u64) {
    let Place::Section(index, start) = symbol.place else { return (symbol.kind, symbol.size) };
    let section = &object.sections[index.0 as usize];
    if section.flags.exec && is_routine(symbol) {
        let next = routines[index.0 as usize].range(start + 1..).next();
        let end = next.copied().unwrap_or(section.size);
        let size = if symbol.size == 0 { end.saturating_sub(start) } else { symbol.size };
        return (SymbolKind::Function, size);
    }
    match symbol.datum {
        Some(datum) if symbol.size == 0 => {
            (symbol.kind, u64::from(datum.element_bytes).saturating_mul(datum.count))
        }
        _ => (symbol.kind, symbol.size),
    }
}

/// The bytes of a relocatable object.
///
/// Source lines become a DWARF line table, unwind rules an `.eh_frame` section. The same object
/// always gives the same bytes.
///
/// # Errors
///
/// [`WriteError`] if a field has no relocation type.
pub fn write_object(object: &Object) -> Result<Vec<u8>, WriteError> {
    let debug = dwarf::sections(object);
    let addends = target(object.arch).has_addends;
    let mut out = Vec::new();
    let section_names = object.sections.iter().map(|section| section.name.as_str());
    let rela_names: Vec<String> = section_names
        .chain(debug.iter().map(|section| section.name))
        .map(|name| format!("{}{name}", if addends { ".rela" } else { ".rel" }))
        .collect();
    // Symbols: the file, the sections, local ones, then the others.
    let order = symbol_order(object);
    let mut writer =
        write::Writer::new(elf_layout::Endianness::Little, is_64_bit(object.arch), &mut out);
    writer.reserve_file_header();
    writer.reserve_null_section_index();

    // Section numbers, in the order in which headers are written below.
    let mut sections = collect_sections(object, &debug, &order, &rela_names, &mut writer)?;
    // What the source says of its stack counts.
    let noted = object.sections.iter().any(|section| section.name == STACK_NOTE);
    let stack_note = (!noted).then(|| writer.add_section_name(STACK_NOTE.as_bytes()));

    let file_name = object.files.first().map_or("", |name| name.as_str());
    let file_id = writer.add_string(file_name.as_bytes());
    let names: Vec<StringId> = order
        .iter()
        .map(|&index| writer.add_string(object.symbols[index].name.as_bytes()))
        .collect();

    // Groups stand before their members.
    let groups = written_groups(object, &sections, &order);
    let group_name = (!groups.is_empty()).then(|| writer.add_section_name(b".group"));
    let mut group_offsets = Vec::new();
    for group in &groups {
        let _ = writer.reserve_section_index();
        group_offsets.push(writer.reserve_comdat(group.members.len()));
    }
    for section in &mut sections {
        let _ = writer.reserve_section_index();
        if section.section_type != raw::SHT_NOBITS {
            let align = section.align.max(1) as usize;
            section.offset = writer.reserve(section.data.len(), align);
        }
    }
    for section in sections.iter_mut().filter(|section| !section.relocations.is_empty()) {
        writer.reserve_section_index();
        section.rela_offset = writer.reserve_relocations(section.relocations.len(), addends);
    }
    if stack_note.is_some() {
        writer.reserve_section_index();
    }
    writer.reserve_symtab_section_index();
    writer.reserve_strtab_section_index();
    writer.reserve_shstrtab_section_index();
    writer.reserve_null_symbol_index();
    let count = 1 + sections.len() + order.len();
    for _ in 0..count {
        writer.reserve_symbol_index(None);
    }
    writer.reserve_symtab();
    writer.reserve_strtab();
    writer.reserve_shstrtab();
    writer.reserve_section_headers();

    writer
        .write_file_header(&file_header(object.arch, raw::ET_REL, 0))
        .expect("the header is reserved");
    for (group, offset) in groups.iter().zip(&group_offsets) {
        writer.pad_until(*offset);
        writer.write_comdat_header();
        for member in &group.members {
            writer.write_comdat_entry(write::SectionIndex(*member));
        }
    }
    for section in &sections {
        if section.section_type != raw::SHT_NOBITS {
            writer.pad_until(section.offset);
            writer.write(&section.data);
        }
    }
    for section in sections.iter().filter(|section| !section.relocations.is_empty()) {
        writer.write_align_relocation();
        for rela in &section.relocations {
            writer.write_relocation(
                addends,
                &write::Rel {
                    r_offset: rela.offset,
                    r_sym: rela.symbol,
                    r_type: rela.number,
                    r_addend: rela.addend,
                },
            );
        }
    }
    write_symbols(object, &order, &names, file_id, (groups.len(), sections.len()), &mut writer);
    writer.write_strtab();
    writer.write_shstrtab();
    writer.write_null_section_header();
    for (group, offset) in groups.iter().zip(group_offsets) {
        let (name, symtab) = (group_name.expect("added above"), writer.symtab_index());
        let symbol = write::SymbolIndex(group.symbol);
        writer.write_comdat_section_header(name, symtab, symbol, offset, group.members.len());
    }
    write_headers(object, &order, &sections, groups.len(), stack_note, &mut writer);
    debug_assert_eq!(writer.reserved_len(), writer.len());
    Ok(out)
}

/// A group as it is written: its members by their numbers in the file, and its signature symbol.
struct WrittenGroup {
    members: Vec<u32>,
    symbol: u32,
}

/// The groups whose signature symbol is in the file, with their sections and what relocates those.
fn written_groups(object: &Object, sections: &[Section], order: &[usize]) -> Vec<WrittenGroup> {
    let signature = |name: &str| order.iter().position(|&at| object.symbols[at].name == name);
    let found: Vec<_> =
        object.groups.iter().filter_map(|group| Some((group, signature(&group.name)?))).collect();
    let first_section = found.len() as u32 + 1;
    let first_relocations = first_section + sections.len() as u32;
    let relocated = |number: usize| !sections[number].relocations.is_empty();
    found
        .iter()
        .map(|(group, at)| {
            let mut members = Vec::new();
            for section in &group.sections {
                let number = section.0 as usize;
                members.push(first_section + section.0);
                if relocated(number) {
                    let before = (0..number).filter(|&number| relocated(number)).count();
                    members.push(first_relocations + before as u32);
                }
            }
            WrittenGroup { members, symbol: (2 + sections.len() + at) as u32 }
        })
        .collect()
}

/// Symbols that are written, by index, local ones first. Source: gABI, "Symbol Table", `sh_info`.
fn symbol_order(object: &Object) -> Vec<usize> {
    let relocations = object.sections.iter().flat_map(|section| &section.relocations);
    let mut used: HashSet<usize> = relocations.map(|r| r.symbol.position()).collect();
    for handler in object.unwind.iter().filter_map(|table| table.handler.as_deref()) {
        used.insert(handler.personality.1.position());
        used.extend(handler.table.map(|(_, symbol, _)| symbol.position()));
    }
    let mut order: Vec<usize> = (0..object.symbols.len())
        .filter(|&index| {
            let symbol = &object.symbols[index];
            let wanted = symbol.place != Place::Undefined
                || symbol.binding == Binding::Weak
                || used.contains(&index);
            symbol.kind != SymbolKind::Section && wanted
        })
        .collect();
    order.sort_by_key(|&index| is_seen(&object.symbols[index]));
    order
}

/// Whether other objects can see the symbol.
fn is_seen(symbol: &Symbol) -> bool {
    symbol.binding != Binding::Local || symbol.place == Place::Undefined
}

fn collect_sections<'a>(
    object: &'a Object,
    debug: &'a [DebugSection],
    order: &[usize],
    rela_names: &'a [String],
    writer: &mut write::Writer<'a>,
) -> Result<Vec<Section<'a>>, WriteError> {
    // The null symbol, the file's, and one for each section come first.
    let section_symbol = |index: usize| 2 + index as u32;
    let first_own = 2 + object.sections.len() + debug.len();
    let numbers: HashMap<usize, u32> =
        order.iter().enumerate().map(|(at, &index)| (index, (first_own + at) as u32)).collect();
    // The number of a symbol, or that of its section and bytes from there.
    let reference = |symbol: SymbolIndex| match (
        numbers.get(&symbol.position()),
        object.symbols[symbol.position()].place,
    ) {
        (Some(number), _) => (*number, 0),
        (None, Place::Section(SectionIndex(section), offset)) => {
            (section_symbol(section as usize), offset as i64)
        }
        (None, _) => (0, 0),
    };
    let mut sections = Vec::new();
    for section in &object.sections {
        let mut relocations = Vec::with_capacity(section.relocations.len());
        for relocation in &section.relocations {
            let symbol = &object.symbols[relocation.symbol.position()];
            let kind = relocation.kind;
            let number = relocation_number(object.arch, kind).ok_or_else(|| {
                let lines = &section.lines;
                let after = lines.partition_point(|line| line.offset <= relocation.offset);
                let line = lines[..after].last();
                WriteError::NoRelocation {
                    arch: object.arch,
                    bytes: kind.size(),
                    what: if kind.is_relative() { "the distance" } else { "the address" },
                    symbol: symbol.name.clone(),
                    place: line.map_or((String::new(), 0), |line| {
                        (object.files[line.file as usize].clone(), line.line)
                    }),
                }
            })?;
            let (symbol, extra) = reference(relocation.symbol);
            // A GOT entry that needs no REX prefix has a relocation number of its own.
            let number = match kind {
                RelocationKind::GotRel32Relaxable if !has_rex(&section.data, relocation.offset) => {
                    raw::R_X86_64_GOTPCRELX
                }
                RelocationKind::GotEntry32 if !may_relax(&section.data, relocation.offset) => {
                    raw::R_386_GOT32
                }
                _ => number,
            };
            let addend = relocation.addend.wrapping_add(extra);
            let (offset, bytes) = (relocation.offset, kind.size());
            relocations.push(Rela { offset, symbol, number, addend, bytes });
        }
        sections.push(Section {
            name: writer.add_section_name(section.name.as_bytes()),
            section_type: match section.flags.nobits {
                true => raw::SHT_NOBITS,
                false => contents_type(&section.name),
            },
            flags: section_flags(section.flags) | group_flag(object, sections.len()),
            align: section.align,
            size: section.size,
            data: Cow::Borrowed(section.data.as_slice()),
            relocations,
            rela_name: None,
            offset: 0,
            rela_offset: 0,
        });
    }
    for section in debug {
        let relocations = section.fields.iter().map(|field| {
            let symbol = match field.target {
                Target::Code(SectionIndex(index)) => section_symbol(index as usize),
                Target::Symbol(symbol) => reference(symbol).0,
                Target::Debug(name) => {
                    let at = debug.iter().position(|other| other.name == name).unwrap_or(0);
                    section_symbol(object.sections.len() + at)
                }
            };
            let kind = match (field.bytes, field.relative) {
                (4, true) => RelocationKind::Rel32,
                (_, true) => RelocationKind::Rel64,
                (4, false) => RelocationKind::Abs32,
                _ => RelocationKind::Abs64,
            };
            let number = relocation_number(object.arch, kind).unwrap_or(0);
            let extra = match field.target {
                Target::Symbol(symbol) => reference(symbol).1,
                _ => 0,
            };
            let (offset, addend) = (field.offset, field.addend + extra);
            Rela { offset, symbol, number, addend, bytes: u64::from(field.bytes) }
        });
        sections.push(Section {
            name: writer.add_section_name(section.name.as_bytes()),
            section_type: raw::SHT_PROGBITS,
            flags: if section.alloc { u64::from(raw::SHF_ALLOC) } else { 0 },
            align: if section.alloc { object.arch.address_bytes() } else { 1 },
            size: section.data.len() as u64,
            data: Cow::Borrowed(section.data.as_slice()),
            relocations: relocations.collect(),
            rela_name: None,
            offset: 0,
            rela_offset: 0,
        });
    }
    for (section, name) in sections.iter_mut().zip(rela_names) {
        if !section.relocations.is_empty() {
            section.rela_name = Some(writer.add_section_name(name.as_bytes()));
        }
        if !target(object.arch).has_addends {
            put_addends(section);
        }
    }
    Ok(sections)
}

/// `SHF_GROUP`, for a section of a group.
fn group_flag(object: &Object, section: usize) -> u64 {
    let member = SectionIndex(section as u32);
    let grouped = object.groups.iter().any(|group| group.sections.contains(&member));
    if grouped { u64::from(raw::SHF_GROUP) } else { 0 }
}

/// Puts the addends where the fields are. A section of ours is as long as its fields ask for.
fn put_addends(section: &mut Section) {
    for relocation in &section.relocations {
        let (start, bytes) = (relocation.offset as usize, relocation.bytes as usize);
        let field = &mut section.data.to_mut()[start..start + bytes];
        field.copy_from_slice(&relocation.addend.to_le_bytes()[..bytes]);
    }
}

/// Whether the instruction that reads a table entry in 32-bit code is one that the linker may rewrite to do without the
/// table. Source: psABI i386, B.2 "Optimize R_386_GOT32X Relocation".
fn may_relax(data: &[u8], field: u64) -> bool {
    let Some(before) = (field as usize).checked_sub(2) else { return false };
    match data.get(before..before + 2) {
        // MOV and arithmetic to a register, TEST.
        Some([0x8b | 0x85 | 0x03 | 0x0b | 0x13 | 0x1b | 0x23 | 0x2b | 0x33 | 0x3b, _]) => true,
        // CALL and JMP.
        Some([0xff, modrm]) => matches!(modrm >> 3 & 7, 2 | 4),
        _ => false,
    }
}

fn has_rex(data: &[u8], field: u64) -> bool {
    let rex = (field as usize).checked_sub(3).and_then(|at| data.get(at));
    rex.is_some_and(|byte| byte & 0xf0 == 0x40)
}

/// The symbols that stand for thread-local data: those in its sections, and those of other objects that are
/// reached as such data is.
fn thread_local_symbols(object: &Object) -> HashSet<usize> {
    let defined = object.symbols.iter().enumerate().filter_map(|(number, symbol)| {
        let Place::Section(section, _) = symbol.place else { return None };
        object.sections[section.0 as usize].flags.tls.then_some(number)
    });
    let relocations = object.sections.iter().flat_map(|section| &section.relocations);
    let reached = relocations
        .filter(|relocation| matches!(relocation.kind, RelocationKind::Tls(_)))
        .map(|relocation: &Relocation| relocation.symbol.position())
        .filter(|&number| object.symbols[number].place == Place::Undefined);
    defined.chain(reached).collect()
}

fn write_symbols(
    object: &Object,
    order: &[usize],
    names: &[StringId],
    file: StringId,
    (groups, sections): (usize, usize),
    writer: &mut write::Writer,
) {
    writer.write_null_symbol();
    let routines = routine_starts(object);
    let in_threads = thread_local_symbols(object);
    let plain = write::Sym {
        name: None,
        section: None,
        st_info: raw::STB_LOCAL << 4 | raw::STT_FILE,
        st_other: raw::STV_DEFAULT,
        st_shndx: raw::SHN_ABS,
        st_value: 0,
        st_size: 0,
    };
    writer.write_symbol(&write::Sym { name: Some(file), ..plain });
    for section in 0..sections {
        writer.write_symbol(&write::Sym {
            section: Some(write::SectionIndex((groups + section) as u32 + 1)),
            st_info: raw::STB_LOCAL << 4 | raw::STT_SECTION,
            ..plain
        });
    }
    for (&index, &name) in order.iter().zip(names) {
        let symbol = &object.symbols[index];
        let (symbol_kind, mut size) = described(object, &routines, symbol);
        let (section, st_shndx, value) = match symbol.place {
            Place::Undefined => (None, raw::SHN_UNDEF, 0),
            Place::Section(SectionIndex(section), offset) => {
                (Some(write::SectionIndex(groups as u32 + section + 1)), 0, offset)
            }
            Place::Absolute(value) => (None, raw::SHN_ABS, value),
            Place::Common(bytes, align) => {
                size = bytes;
                (None, raw::SHN_COMMON, align)
            }
        };
        let seen = match symbol.binding {
            Binding::Local if is_seen(symbol) => Binding::Global,
            other => other,
        };
        writer.write_symbol(&write::Sym {
            name: Some(name),
            section,
            st_info: binding(seen) << 4
                | if in_threads.contains(&index) { raw::STT_TLS } else { kind(symbol_kind) },
            st_other: visibility(symbol.visibility),
            st_shndx,
            st_value: value,
            st_size: size,
        });
    }
}

fn write_headers(
    object: &Object,
    order: &[usize],
    sections: &[Section],
    groups: usize,
    stack_note: Option<StringId>,
    writer: &mut write::Writer,
) {
    for section in sections {
        writer.write_section_header(&write::SectionHeader {
            name: Some(section.name),
            sh_type: section.section_type,
            sh_flags: section.flags,
            sh_addr: 0,
            sh_offset: section.offset as u64,
            sh_size: section.size,
            sh_link: 0,
            sh_info: 0,
            sh_addralign: section.align,
            sh_entsize: 0,
        });
    }
    let symtab = writer.symtab_index();
    for (number, section) in sections.iter().enumerate() {
        let Some(name) = section.rela_name else { continue };
        writer.write_relocation_section_header(
            name,
            write::SectionIndex((groups + number) as u32 + 1),
            symtab,
            section.rela_offset,
            section.relocations.len(),
            target(object.arch).has_addends,
        );
    }
    // Says that the stack need not be executable.
    if stack_note.is_some() {
        writer.write_section_header(&write::SectionHeader {
            name: stack_note,
            sh_type: raw::SHT_PROGBITS,
            sh_flags: 0,
            sh_addr: 0,
            sh_offset: 0,
            sh_size: 0,
            sh_link: 0,
            sh_info: 0,
            sh_addralign: 1,
            sh_entsize: 0,
        });
    }
    let locals = order.iter().filter(|&&index| !is_seen(&object.symbols[index])).count();
    // The null symbol, the file's and the sections' are local too.
    writer.write_symtab_section_header((2 + sections.len() + locals) as u32);
    writer.write_strtab_section_header();
    writer.write_shstrtab_section_header();
}
