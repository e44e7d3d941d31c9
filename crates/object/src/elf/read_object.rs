//! Relocatable ELF files and archives as objects, from any compiler for our machines.
//!
//! Sources: gABI, "Sections", "Symbol Table", "Relocation"; the byte layouts are the `object`
//! crate's. Sections that are not loaded are left out, and so are notes, but for that of the stack, and for contracts.

use std::collections::HashMap;

use elf_layout::elf as raw;
use elf_layout::read::archive::ArchiveFile;
use elf_layout::{Object as _, ObjectComdat as _, ObjectSection as _, ObjectSymbol as _};

use crate::contract;
use crate::debug_info::read_lines::{OFFSET_BITS, object_lines};
use crate::elf::numbers::{arch_of, binding_of, relocation_kind, visibility_of};
use crate::object::STACK_NOTE;
use crate::printable::printable;
use crate::{
    Binding, Group, Line, Object, Place, Relocation, Section, SectionFlags, SectionIndex, Symbol,
    SymbolIndex, SymbolKind, Visibility,
};

/// No section may be larger than this many bytes, and no alignment than 2^16.
const MAX_SECTION_BYTES: u64 = 1 << 30;

/// Why a file is not an object that we can link.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ObjectError {
    /// The file does not start as an ELF file does.
    #[error("this is not an ELF file")]
    NotElf,
    /// The reading library found a field that makes no sense.
    #[error("the ELF file is damaged: {0}")]
    Damaged(String),
    /// It is no relocatable object.
    #[error("this ELF file is not a relocatable object (e_type {0})")]
    NotObject(u16),
    /// A machine, class or byte order that we do not link for.
    #[error(
        "this object is for a machine that is not supported (e_machine {0}); supported are x86-64, 32-bit x86 and 64-bit ARM, little-endian"
    )]
    Machine(u16),
    /// A field of a section has a value that it cannot have.
    #[error("section `{section}`: {reason}")]
    Section {
        /// Its name.
        section: String,
        /// What is wrong with which field.
        reason: String,
    },
    /// A field of a symbol has a value that it cannot have.
    #[error("symbol {index} (`{name}`): {reason}")]
    Symbol {
        /// Position in the symbol table.
        index: usize,
        /// Its name.
        name: String,
        /// What is wrong with which field.
        reason: String,
    },
    /// A relocation that we do not fill.
    #[error("section `{section}`, offset {offset:#x}: relocation type {number} is not supported")]
    RelocationType {
        /// The section whose field it is.
        section: String,
        /// Bytes into the section.
        offset: u64,
        /// `r_type`
        number: u32,
    },
    /// The file does not start as an archive does, or its table makes no sense.
    #[error("the archive is damaged: {0}")]
    Archive(String),
    /// Something is wrong with one file of an archive.
    #[error("`{member}` in the archive: {error}")]
    Member {
        /// Its name.
        member: String,
        /// What is wrong.
        error: Box<ObjectError>,
    },
}

fn damaged(error: elf_layout::Error) -> ObjectError {
    ObjectError::Damaged(error.to_string())
}

/// Reads a relocatable object; `name` is how it is called in messages.
///
/// # Errors
///
/// An [`ObjectError`] that names the field.
pub fn read_object(name: &str, bytes: &[u8]) -> Result<Object, ObjectError> {
    if !bytes.starts_with(&raw::ELFMAG) {
        return Err(ObjectError::NotElf);
    }
    let number = |at: usize| bytes.get(at..at + 2).map_or(0, |b| u16::from_le_bytes([b[0], b[1]]));
    let (e_type, e_machine) = (number(16), number(18));
    let arch = arch_of(bytes).ok_or(ObjectError::Machine(e_machine))?;
    if e_type != raw::ET_REL {
        return Err(ObjectError::NotObject(e_type));
    }
    let file = elf_layout::File::parse(bytes).map_err(damaged)?;
    let mut reader = Reader {
        object: Object {
            arch,
            files: vec![name.to_string()],
            sections: Vec::new(),
            symbols: Vec::new(),
            unwind: Vec::new(),
            groups: Vec::new(),
            stated_lines: None,
            labels: Vec::new(),
        },
        sections: HashMap::new(),
    };
    reader.read_sections(&file)?;
    reader.read_symbols(&file)?;
    reader.read_groups(&file);
    reader.read_relocations(&file)?;
    reader.read_lines(&file, name);
    Ok(reader.object)
}

struct Reader {
    object: Object,
    /// Our number of a section, by the file's.
    sections: HashMap<usize, SectionIndex>,
}

impl Reader {
    fn read_sections(&mut self, file: &elf_layout::File) -> Result<(), ObjectError> {
        for section in file.sections() {
            let name = printable(section.name_bytes().map_err(damaged)?);
            let elf_layout::SectionFlags::Elf { sh_flags } = section.flags() else { continue };
            let has = |bit: u32| sh_flags & u64::from(bit) != 0;
            let kind = section.kind();
            // The flags of this section say whether the stack must be executable; the section is not loaded.
            if name == STACK_NOTE {
                let exec = has(raw::SHF_EXECINSTR);
                self.object.sections.push(Section {
                    name,
                    flags: SectionFlags { exec, ..SectionFlags::default() },
                    align: 1,
                    data: Vec::new(),
                    size: 0,
                    relocations: Vec::new(),
                    lines: Vec::new(),
                });
                continue;
            }
            let loaded = has(raw::SHF_ALLOC) || name == contract::SECTION;
            if !loaded || kind == elf_layout::SectionKind::Note {
                continue;
            }
            let bad = |reason: String| ObjectError::Section { section: name.clone(), reason };
            if has(raw::SHF_COMPRESSED) {
                return Err(bad("SHF_COMPRESSED on a section that is loaded".to_string()));
            }
            let (size, align) = (section.size(), section.align().max(1));
            if !align.is_power_of_two() || align > 1 << 16 {
                return Err(bad(format!("sh_addralign {align} is no power of two up to 65536")));
            }
            if size > MAX_SECTION_BYTES {
                return Err(bad(format!("sh_size {size} is more than {MAX_SECTION_BYTES} bytes")));
            }
            let nobits = kind.is_bss();
            let data = if nobits { &[][..] } else { section.data().map_err(damaged)? };
            if !nobits && data.len() as u64 != size {
                return Err(bad("sh_size is not the size of the contents".to_string()));
            }
            let ours = SectionIndex(self.object.sections.len() as u32);
            self.sections.insert(section.index().0, ours);
            self.object.sections.push(Section {
                name,
                flags: SectionFlags {
                    alloc: has(raw::SHF_ALLOC),
                    write: has(raw::SHF_WRITE),
                    exec: has(raw::SHF_EXECINSTR),
                    nobits,
                    tls: has(raw::SHF_TLS),
                },
                align,
                data: data.to_vec(),
                size,
                relocations: Vec::new(),
                lines: Vec::new(),
            });
        }
        Ok(())
    }

    /// Takes the source lines that the file knows.
    fn read_lines(&mut self, file: &elf_layout::File, name: &str) {
        let table = object_lines(file);
        if table.rows.is_empty() {
            return;
        }
        // The object's own name stays the first, since messages call it by that.
        self.object.files = vec![name.to_string()];
        self.object.files.extend(table.files);
        for (address, place) in table.rows {
            let offset = address & ((1 << OFFSET_BITS) - 1);
            let index = (address >> OFFSET_BITS) as usize;
            let (Some(place), Some(ours)) = (place, self.sections.get(&index)) else { continue };
            let section = &mut self.object.sections[ours.0 as usize];
            if offset < section.size {
                section.lines.push(Line { offset, file: place.file + 1, line: place.line });
            }
        }
        for symbol in &mut self.object.symbols {
            let Place::Section(section, offset) = symbol.place else { continue };
            let lines = &self.object.sections[section.0 as usize].lines;
            if let Ok(at) = lines.binary_search_by_key(&offset, |line| line.offset) {
                symbol.defined_at = Some((lines[at].file, lines[at].line));
            }
        }
    }

    fn read_symbols(&mut self, file: &elf_layout::File) -> Result<(), ObjectError> {
        // Numbers in the file count from 1; ours from 0, with a nameless one in its place.
        self.object.symbols.push(nameless());
        for symbol in file.symbols() {
            let index = symbol.index().0;
            let name = printable(symbol.name_bytes().map_err(damaged)?);
            let bad = |reason: String| ObjectError::Symbol { index, name: name.clone(), reason };
            let elf_layout::SymbolFlags::Elf { st_info, st_other } = symbol.flags() else {
                continue;
            };
            if index != self.object.symbols.len() {
                return Err(bad("it is out of order".to_string()));
            }
            let kind = match st_info & 0xf {
                raw::STT_FUNC => SymbolKind::Function,
                raw::STT_OBJECT => SymbolKind::Data,
                raw::STT_SECTION | raw::STT_FILE => SymbolKind::Section,
                raw::STT_NOTYPE | raw::STT_COMMON => SymbolKind::None,
                raw::STT_TLS => SymbolKind::Data,
                raw::STT_GNU_IFUNC => SymbolKind::IndirectFunction,
                other => return Err(bad(format!("st_info has the unknown type {other}"))),
            };
            let (value, size) = (symbol.address(), symbol.size());
            let place = match symbol.section() {
                elf_layout::SymbolSection::Undefined => Place::Undefined,
                elf_layout::SymbolSection::Absolute => Place::Absolute(value),
                elf_layout::SymbolSection::Common => {
                    // `st_value` holds the alignment; the library does not give it as an address.
                    let align = common_alignment(file, index).unwrap_or(16).max(1);
                    if !align.is_power_of_two() || align > 1 << 16 || size > MAX_SECTION_BYTES {
                        let reason =
                            format!("st_value {align} and st_size {size} are no common symbol's");
                        return Err(bad(reason));
                    }
                    Place::Common(size, align)
                }
                elf_layout::SymbolSection::Section(section) => {
                    match self.sections.get(&section.0) {
                        Some(&ours) => {
                            let end = self.object.sections[ours.0 as usize].size;
                            if value > end {
                                return Err(bad(format!(
                                    "st_value {value:#x} is outside its section"
                                )));
                            }
                            Place::Section(ours, value)
                        }
                        // A section that is not loaded.
                        None => Place::Undefined,
                    }
                }
                _ if kind == SymbolKind::Section => Place::Undefined,
                _ => return Err(bad("st_shndx is no section of the file".to_string())),
            };
            self.object.symbols.push(Symbol {
                name,
                place,
                binding: binding_of(st_info),
                visibility: visibility_of(st_other),
                kind,
                size,
                datum: None,
                defined_at: (place != Place::Undefined).then_some((0, 0)),
            });
        }
        Ok(())
    }

    /// Notes which sections are of groups.
    fn read_groups(&mut self, file: &elf_layout::File) {
        for group in file.comdats() {
            let Ok(name) = group.name_bytes() else { continue };
            let name = printable(name);
            let ours = |section: elf_layout::SectionIndex| self.sections.get(&section.0).copied();
            let sections: Vec<SectionIndex> = group.sections().filter_map(ours).collect();
            if !sections.is_empty() {
                self.object.groups.push(Group { name, sections });
            }
        }
    }

    fn read_relocations(&mut self, file: &elf_layout::File) -> Result<(), ObjectError> {
        for section in file.sections() {
            let Some(&ours) = self.sections.get(&section.index().0) else { continue };
            let arch = self.object.arch;
            let count = self.object.symbols.len();
            let target = &mut self.object.sections[ours.0 as usize];
            for (offset, relocation) in section.relocations() {
                let bad =
                    |reason: String| ObjectError::Section { section: target.name.clone(), reason };
                let elf_layout::RelocationFlags::Elf { r_type } = relocation.flags() else {
                    continue;
                };
                if r_type == 0 {
                    continue; // NONE on every machine
                }
                let Some(kind) = relocation_kind(arch, r_type) else {
                    let section = target.name.clone();
                    return Err(ObjectError::RelocationType { section, offset, number: r_type });
                };
                if relocation.has_implicit_addend() == crate::target::target(arch).has_addends {
                    let expected = if crate::target::target(arch).has_addends {
                        "SHT_RELA"
                    } else {
                        "SHT_REL"
                    };
                    return Err(bad(format!("relocations that are not of {expected}")));
                }
                let end = offset.checked_add(kind.size());
                if end.is_none_or(|end| end > target.data.len() as u64) {
                    return Err(bad(format!("r_offset {offset:#x} is outside the section")));
                }
                let symbol = match relocation.target() {
                    elf_layout::RelocationTarget::Symbol(index) if index.0 < count => index.0,
                    elf_layout::RelocationTarget::Absolute => 0,
                    _ => return Err(bad("r_info names a symbol that does not exist".into())),
                };
                let addend = match crate::target::target(arch).has_addends {
                    true => relocation.addend(),
                    false => stored_addend(&target.data[offset as usize..], kind.size()),
                };
                let symbol = SymbolIndex(symbol as u32);
                target.relocations.push(Relocation { offset, kind, symbol, addend });
            }
            target.relocations.sort_by_key(|relocation| relocation.offset);
        }
        Ok(())
    }
}

/// The addend that is in the field, of so many bytes.
fn stored_addend(field: &[u8], bytes: u64) -> i64 {
    let low = field[..bytes as usize].iter().rev().fold(0, |v: u64, b| v << 8 | u64::from(*b));
    let unused = 64 - 8 * bytes as u32;
    ((low << unused) as i64) >> unused
}

/// What an index of 0 refers to: the number 0.
fn nameless() -> Symbol {
    Symbol {
        name: String::new(),
        place: Place::Absolute(0),
        binding: Binding::Local,
        visibility: Visibility::Default,
        kind: SymbolKind::Section,
        size: 0,
        datum: None,
        defined_at: None,
    }
}

/// `st_value` of a common symbol.
fn common_alignment(file: &elf_layout::File, index: usize) -> Option<u64> {
    use elf_layout::read::elf::Sym as _;
    let index = elf_layout::SymbolIndex(index);
    match file {
        elf_layout::File::Elf64(file) => {
            Some(file.elf_symbol_table().symbol(index).ok()?.st_value(file.endian()))
        }
        elf_layout::File::Elf32(file) => {
            let symbol = file.elf_symbol_table().symbol(index).ok()?;
            Some(u64::from(symbol.st_value(file.endian())))
        }
        _ => None,
    }
}

/// The objects of an archive, each called `archive(member)`.
///
/// # Errors
///
/// An [`ObjectError`] that names the member and the field.
pub fn read_archive(name: &str, bytes: &[u8]) -> Result<Vec<Object>, ObjectError> {
    let archive = ArchiveFile::parse(bytes).map_err(|e| ObjectError::Archive(e.to_string()))?;
    if archive.is_thin() {
        let reason = "it is a thin archive, which holds names of files and not their contents";
        return Err(ObjectError::Archive(reason.to_string()));
    }
    let mut objects = Vec::new();
    for member in archive.members() {
        let member = member.map_err(|e| ObjectError::Archive(e.to_string()))?;
        let member_name = printable(member.name());
        let data = member.data(bytes).map_err(|e| ObjectError::Archive(e.to_string()))?;
        let object = read_object(&format!("{name}({member_name})"), data);
        objects.push(object.map_err(|error| ObjectError::Member {
            member: member_name,
            error: Box::new(error),
        })?);
    }
    Ok(objects)
}
