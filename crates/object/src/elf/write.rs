//! An image as an ELF executable.
//!
//! Sources: gABI, "ELF Header", "Sections", "Program Header"; the byte layouts are the `object`
//! crate's.

use elf_layout::elf as raw;
use elf_layout::write::StringId;
use elf_layout::write::elf as write;
use sotto_isa::Arch;

use crate::contract::{self, RoutineContract};
use crate::debug_info::dwarf;
use crate::elf::numbers::{binding, file_header, is_64_bit, kind, section_flags};
use crate::linker::layout::FILE_PAGE;
use crate::target::target;
use crate::{Binding, Image, ImageSymbol, ProgramHeaders, Segment};

/// Program headers of a program that has all of them: the file's headers, code, constants, data, thread-local data and
/// the stack.
const MOST_HEADERS: u64 = 6;

/// Bytes of the file header, and of each program header.
fn header_sizes(arch: Arch) -> (u64, u64) {
    if is_64_bit(arch) { (64, 56) } else { (52, 32) }
}

/// Bytes that the file's headers take at most.
pub(crate) fn header_bytes(arch: Arch) -> u64 {
    let (file, program) = header_sizes(arch);
    file + MOST_HEADERS * program
}

impl ProgramHeaders {
    /// Those that the file of an image has, if its first byte is at `address`.
    pub(crate) fn of_image(image: &Image, address: u64) -> ProgramHeaders {
        let (file, entry_bytes) = header_sizes(image.arch);
        ProgramHeaders { address: address + file, entry_bytes, count: header_count(image) }
    }
}

fn header_count(image: &Image) -> u64 {
    image.segments.len() as u64 + 1 + u64::from(image.tls_template.is_some())
}

/// The bytes of a statically linked executable.
///
/// The same image always gives the same bytes.
///
/// # Panics
///
/// If the image's segments are not page-aligned as [`crate::linker::link`] leaves them.
pub fn write_executable(image: &Image) -> Vec<u8> {
    let mut out = Vec::new();
    let mut debug = dwarf::image_sections(image);
    debug.extend(contracts(image).map(|data| (contract::SECTION, data)));
    let mut writer =
        write::Writer::new(elf_layout::Endianness::Little, is_64_bit(image.arch), &mut out);

    // Everything is reserved in file order, then written in the same order.
    writer.reserve_file_header();
    writer.reserve_program_headers(header_count(image) as u32);
    let mut offsets = Vec::new();
    // The first segment is that of the headers, if they are loaded.
    let headers = usize::from(image.headers.is_some());
    offsets.extend([0].iter().take(headers));
    for segment in &image.segments[headers..] {
        writer.reserve_until(writer.reserved_len().next_multiple_of(FILE_PAGE as usize));
        offsets.push(writer.reserve(segment.data.len(), 1));
    }
    // The kernel maps whole pages, so that a program can read what follows its last segment: zeros, as memory of
    // an image that was never a file has there.
    let end_of_segments = writer.reserved_len().next_multiple_of(FILE_PAGE as usize);
    writer.reserve_until(end_of_segments);
    writer.reserve_null_section_index();
    let mut section_numbers = Vec::new();
    for segment in &image.segments {
        for section in &segment.sections {
            let name = writer.add_section_name(section.0.as_bytes());
            section_numbers.push((name, writer.reserve_section_index(), section));
        }
    }
    let mut debug_places = Vec::new();
    for (name, data) in &debug {
        let name = writer.add_section_name(name.as_bytes());
        let _ = writer.reserve_section_index();
        debug_places.push((name, writer.reserve(data.len(), 1)));
    }
    let symbols = ordered_symbols(&image.symbols);
    let names: Vec<StringId> =
        symbols.iter().map(|symbol| writer.add_string(symbol.name.as_bytes())).collect();
    writer.reserve_symtab_section_index();
    writer.reserve_strtab_section_index();
    writer.reserve_shstrtab_section_index();
    writer.reserve_null_symbol_index();
    for _ in &symbols {
        writer.reserve_symbol_index(None);
    }
    writer.reserve_symtab();
    writer.reserve_strtab();
    writer.reserve_shstrtab();
    writer.reserve_section_headers();

    let e_type = if image.position_independent { raw::ET_DYN } else { raw::ET_EXEC };
    writer
        .write_file_header(&file_header(image.arch, e_type, image.entry))
        .expect("the header is reserved");
    writer.write_align_program_headers();
    for (segment, &offset) in image.segments.iter().zip(&offsets) {
        let mut flags = raw::PF_R;
        if segment.write {
            flags |= raw::PF_W;
        }
        if segment.exec {
            flags |= raw::PF_X;
        }
        writer.write_program_header(&write::ProgramHeader {
            p_type: raw::PT_LOAD,
            p_flags: flags,
            p_offset: offset as u64,
            p_vaddr: segment.address,
            p_paddr: segment.address,
            p_filesz: segment.data.len() as u64,
            p_memsz: segment.memory_size,
            p_align: target(image.arch).page_size,
        });
    }
    if let Some(template) = &image.tls_template {
        // Where the template is in the file; one without contents has no segment that it must lie in.
        let holds = |segment: &&(&Segment, &usize)| {
            (segment.0.address..segment.0.end()).contains(&template.address)
        };
        let places: Vec<_> = image.segments.iter().zip(&offsets).collect();
        let offset = places
            .iter()
            .find(holds)
            .map_or(0, |(segment, offset)| **offset as u64 + (template.address - segment.address));
        writer.write_program_header(&write::ProgramHeader {
            p_type: raw::PT_TLS,
            p_flags: raw::PF_R,
            p_offset: offset,
            p_vaddr: template.address,
            p_paddr: template.address,
            p_filesz: template.file_size,
            p_memsz: template.memory_size,
            p_align: template.align,
        });
    }
    // Says whether the stack must be executable.
    let execute = if image.executable_stack { raw::PF_X } else { 0 };
    writer.write_program_header(&write::ProgramHeader {
        p_type: raw::PT_GNU_STACK,
        p_flags: raw::PF_R | raw::PF_W | execute,
        p_offset: 0,
        p_vaddr: 0,
        p_paddr: 0,
        p_filesz: 0,
        p_memsz: 0,
        p_align: 16,
    });
    for (segment, &offset) in image.segments.iter().zip(&offsets).skip(headers) {
        writer.pad_until(offset);
        writer.write(&segment.data);
    }
    writer.pad_until(end_of_segments);
    for (_, data) in &debug {
        writer.write(data);
    }
    writer.write_null_symbol();
    for (symbol, name) in symbols.iter().zip(names) {
        let section = section_numbers
            .iter()
            .find(|(_, _, (_, address, size, ..))| {
                (*address..=address + size).contains(&symbol.address)
            })
            .map(|(_, index, _)| *index)
            .filter(|_| !symbol.absolute);
        writer.write_symbol(&write::Sym {
            name: Some(name),
            section,
            st_info: binding(symbol.binding) << 4 | kind(symbol.kind),
            st_other: raw::STV_DEFAULT,
            st_shndx: raw::SHN_ABS,
            st_value: symbol.address,
            st_size: symbol.size,
        });
    }
    writer.write_strtab();
    writer.write_shstrtab();
    writer.write_null_section_header();
    let mut section_numbers = section_numbers.into_iter();
    for (segment, &offset) in image.segments.iter().zip(&offsets) {
        for _ in &segment.sections {
            let (name, _, (_, address, size, flags, align)) =
                section_numbers.next().expect("one number a section");
            writer.write_section_header(&write::SectionHeader {
                name: Some(name),
                sh_type: if flags.nobits { raw::SHT_NOBITS } else { raw::SHT_PROGBITS },
                sh_flags: section_flags(*flags),
                sh_addr: *address,
                sh_offset: offset as u64 + (address - segment.address),
                sh_size: *size,
                sh_link: 0,
                sh_info: 0,
                sh_addralign: *align,
                sh_entsize: 0,
            });
        }
    }
    for ((name, offset), (_, data)) in debug_places.into_iter().zip(&debug) {
        writer.write_section_header(&write::SectionHeader {
            name: Some(name),
            sh_type: raw::SHT_PROGBITS,
            sh_flags: 0,
            sh_addr: 0,
            sh_offset: offset as u64,
            sh_size: data.len() as u64,
            sh_link: 0,
            sh_info: 0,
            sh_addralign: 1,
            sh_entsize: 0,
        });
    }
    let locals = symbols.iter().filter(|symbol| symbol.binding == Binding::Local).count();
    writer.write_symtab_section_header(locals as u32 + 1);
    writer.write_strtab_section_header();
    writer.write_shstrtab_section_header();
    debug_assert_eq!(writer.reserved_len(), writer.len());
    out
}

/// The section of contracts, if there are some.
fn contracts(image: &Image) -> Option<Vec<u8>> {
    let width = image.arch.address_bytes() as usize;
    let record = |contract: &RoutineContract| {
        let mut bytes = contract.address.to_le_bytes()[..width].to_vec();
        bytes.extend(contract::record_tail(&contract.text));
        bytes
    };
    let data: Vec<u8> = image.contracts.iter().flat_map(record).collect();
    (!data.is_empty()).then_some(data)
}

/// Local symbols come first. Source: gABI, "Symbol Table", `sh_info`.
fn ordered_symbols(symbols: &[ImageSymbol]) -> Vec<&ImageSymbol> {
    let mut ordered: Vec<&ImageSymbol> = symbols.iter().collect();
    ordered.sort_by_key(|symbol| symbol.binding != Binding::Local);
    ordered
}
