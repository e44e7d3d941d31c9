//! An ELF executable as an image.

use elf_layout::elf as raw;
use elf_layout::read::elf::ProgramHeader as _;
use elf_layout::{Endianness, Object as _, ObjectSection as _, ObjectSymbol as _};
use sotto_isa::Arch;

use crate::contract::{self, RoutineContract};
use crate::debug_info::read_lines::executable_lines;
use crate::debug_info::read_variables::variables;
use crate::elf::numbers::{arch_of, is_64_bit, visibility_of};
use crate::object::is_mapping_symbol;
use crate::printable::printable;
use crate::{
    Binding, Image, ImageSymbol, ProgramHeaders, SectionFlags, Segment, Surroundings, SymbolKind,
    Variable, Visibility,
};

/// A program may ask for at most this much memory when it is loaded.
const MAX_MEMORY_BYTES: u64 = 1 << 32;
/// Bytes of a page of the kernel's.
const KERNEL_PAGE: u64 = 4096;
/// Where a program that can be loaded anywhere is loaded: two thirds up the user address space, at
/// a multiple of the largest page. Source: Linux, `ELF_ET_DYN_BASE`.
const ANYWHERE_BASE: u64 = 0x5555_5555_0000;

/// The same for 32-bit programs.
const ANYWHERE_BASE_32: u64 = 0x5655_5000;

/// Where a program's addresses end: half of 48 bits, or 4 GiB but for the last two pages.
///
/// Source: Linux, `TASK_SIZE_MAX` and `IA32_PAGE_OFFSET`.
fn user_limit(arch: Arch) -> u64 {
    if is_64_bit(arch) { 1 << 47 } else { 0xffff_e000 }
}

/// Why a file is not a program that we can run.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ReadError {
    /// The file does not start as an ELF file does.
    #[error("this is not an ELF file")]
    NotElf,
    /// The reading library found a field that makes no sense.
    #[error("the ELF file is damaged: {0}")]
    Damaged(String),
    /// A machine, class or byte order that we do not run.
    #[error(
        "this ELF file is for a machine that is not supported (e_machine {machine}, {class}); supported are x86-64, 32-bit x86 and 64-bit ARM, little-endian"
    )]
    Machine {
        /// `e_machine`.
        machine: u16,
        /// Class and byte order, in words.
        class: &'static str,
    },
    /// An object or a shared library.
    #[error("this ELF file is not an executable (e_type {0}); link it first")]
    NotExecutable(u16),
    /// A segment's fields contradict each other or the file.
    #[error("program header {index}: {reason}")]
    Segment {
        /// Position in the program header table, from 0.
        index: usize,
        /// What is wrong with which field.
        reason: String,
    },
}

fn damaged(error: elf_layout::Error) -> ReadError {
    ReadError::Damaged(error.to_string())
}

/// Reads an executable, statically linked or not.
///
/// # Errors
///
/// A [`ReadError`] that names the field.
pub fn read_executable(bytes: &[u8]) -> Result<Image, ReadError> {
    read_at(bytes, None)
}

/// Reads a shared object, as a program's interpreter is one, which is loaded with its first address at `base`.
///
/// # Errors
///
/// A [`ReadError`] that names the field.
pub fn read_shared(bytes: &[u8], base: u64) -> Result<Image, ReadError> {
    read_at(bytes, Some(base))
}

fn read_at(bytes: &[u8], base: Option<u64>) -> Result<Image, ReadError> {
    if !bytes.starts_with(&raw::ELFMAG) {
        return Err(ReadError::NotElf);
    }
    let Some(arch) = arch_of(bytes) else {
        let machine = bytes.get(18..20).map_or(0, |b| u16::from_le_bytes([b[0], b[1]]));
        let class = match (bytes.get(4).copied(), bytes.get(5).copied()) {
            (Some(raw::ELFCLASS64), Some(raw::ELFDATA2LSB)) => "64-bit",
            (Some(raw::ELFCLASS32), Some(raw::ELFDATA2LSB)) => "32-bit",
            _ => "not little-endian",
        };
        return Err(ReadError::Machine { machine, class });
    };
    match is_64_bit(arch) {
        true => read_in_class::<raw::FileHeader64<Endianness>>(arch, bytes, base),
        false => read_in_class::<raw::FileHeader32<Endianness>>(arch, bytes, base),
    }
}

/// The variables of the routines of an executable that was read as `image`: reading them takes as long as their
/// debugging information is large, and few programs are asked for them. None where the file is damaged.
pub fn read_variables(bytes: &[u8], image: &Image) -> Vec<Variable> {
    let Ok(file) = elf_layout::File::parse(bytes) else { return Vec::new() };
    variables(&file, image.entry.wrapping_sub(elf_layout::Object::entry(&file)))
}

fn read_in_class<H: elf_layout::read::elf::FileHeader<Endian = Endianness>>(
    arch: Arch,
    bytes: &[u8],
    base: Option<u64>,
) -> Result<Image, ReadError> {
    let header = H::parse(bytes).map_err(damaged)?;
    let endian = header.endian().map_err(damaged)?;
    let limit = user_limit(arch);
    let e_type = header.e_type(endian);
    let headers = header.program_headers(endian, bytes).map_err(damaged)?;
    let interpreter = headers
        .iter()
        .find(|header| header.p_type(endian) == raw::PT_INTERP)
        .and_then(|header| header.data(endian, bytes).ok())
        .map(|path| path.strip_suffix(&[0]).unwrap_or(path).to_vec());
    // A position-independent program is loaded where the kernel starts them without randomness.
    let anywhere = if is_64_bit(arch) { ANYWHERE_BASE } else { ANYWHERE_BASE_32 };
    let base = match e_type {
        raw::ET_EXEC => 0,
        raw::ET_DYN => base.unwrap_or(anywhere),
        _ => return Err(ReadError::NotExecutable(e_type)),
    };
    let mut segments: Vec<Segment> = Vec::new();
    let mut total = 0u64;
    // A file that says nothing of its stack is loaded without code on it, which programs of today do not need.
    let executable_stack = headers.iter().any(|header| {
        let flags = header.p_flags(endian);
        header.p_type(endian) == raw::PT_GNU_STACK && flags & raw::PF_X != 0
    });
    for (index, header) in headers.iter().enumerate() {
        if header.p_type(endian) != raw::PT_LOAD {
            continue;
        }
        let bad = |reason: &str| ReadError::Segment { index, reason: reason.to_string() };
        let (p_vaddr, memory_size): (u64, u64) =
            (header.p_vaddr(endian).into(), header.p_memsz(endian).into());
        let address = p_vaddr
            .checked_add(base)
            .ok_or_else(|| bad("p_vaddr reaches beyond the user address space"))?;
        let data = header
            .data(endian, bytes)
            .map_err(|()| bad("p_offset and p_filesz reach beyond the end of the file"))?;
        if memory_size < data.len() as u64 {
            return Err(bad("p_memsz is smaller than p_filesz"));
        }
        total = total.saturating_add(memory_size);
        if total > MAX_MEMORY_BYTES {
            return Err(bad("p_memsz asks for more than 4 GiB in all"));
        }
        let end = address.checked_add(memory_size).filter(|end| *end < limit);
        if end.is_none() {
            return Err(bad("p_vaddr and p_memsz reach beyond the user address space"));
        }
        if segments.last().is_some_and(|last| last.end() > address) {
            return Err(bad("p_vaddr overlaps the segment before, or is out of order"));
        }
        let flags = header.p_flags(endian);
        let surroundings = surroundings(
            bytes,
            header.p_offset(endian).into(),
            address,
            data.len() as u64,
            // Memory beyond the contents is cleared, where it can be written.
            memory_size > data.len() as u64 && flags & raw::PF_W != 0,
        );
        segments.push(Segment {
            address,
            data: data.to_vec(),
            file_offset: header.p_offset(endian).into(),
            memory_size,
            surroundings,
            write: flags & raw::PF_W != 0,
            exec: flags & raw::PF_X != 0,
            sections: Vec::new(),
        });
    }
    if segments.is_empty() {
        return Err(ReadError::Damaged("there is no PT_LOAD program header".to_string()));
    }
    let file = elf_layout::File::parse(bytes).map_err(damaged)?;
    read_sections(&file, &mut segments, base);
    let entry = header.e_entry(endian).into().wrapping_add(base);
    Ok(Image {
        arch,
        entry,
        position_independent: base != 0,
        interpreter,
        executable_stack,
        segments,
        symbols: read_symbols(arch, &file, base),
        lines: executable_lines(&file, base),
        labels: Vec::new(),
        variables: Vec::new(),
        parts: Vec::new(),
        call_frames: Vec::new(),
        tls_template: None,
        contracts: read_contracts(arch, &file, base),
        modules: Vec::new(),
        headers: loaded_headers(header, headers, endian, base),
    })
}

/// The contracts that the file carries; what cannot be read is left out.
fn read_contracts(arch: Arch, file: &elf_layout::File, base: u64) -> Vec<RoutineContract> {
    let section = file.sections().find(|section| section.name() == Ok(contract::SECTION));
    let data = section.and_then(|section| section.data().ok()).unwrap_or_default();
    let records = contract::records(arch, data).into_iter();
    let texts = records.map(|(_, address, text)| (address.wrapping_add(base), text));
    RoutineContract::of_texts(arch, texts)
}

/// Where the program headers are in memory, if a segment holds them. Source: Linux, `fs/binfmt_elf.c`.
fn loaded_headers<H: elf_layout::read::elf::FileHeader<Endian = Endianness>>(
    file: &H,
    headers: &[H::ProgramHeader],
    endian: Endianness,
    base: u64,
) -> Option<ProgramHeaders> {
    let offset: u64 = file.e_phoff(endian).into();
    let holder =
        headers.iter().filter(|header| header.p_type(endian) == raw::PT_LOAD).find(|h| {
            let (start, size): (u64, u64) = (h.p_offset(endian).into(), h.p_filesz(endian).into());
            start <= offset && offset - start < size
        })?;
    let (start, address): (u64, u64) =
        (holder.p_offset(endian).into(), holder.p_vaddr(endian).into());
    Some(ProgramHeaders {
        address: address.wrapping_add(base).wrapping_add(offset - start),
        entry_bytes: u64::from(file.e_phentsize(endian)),
        count: headers.len() as u64,
    })
}

/// What the kernel maps around the contents of a segment. `cleared`: it fills the rest of the last page with zeros.
fn surroundings(
    file: &[u8],
    offset: u64,
    address: u64,
    contents: u64,
    cleared: bool,
) -> Surroundings {
    // Without contents nothing of the file is mapped; a file whose pages lie otherwise is not loaded by the kernel.
    if contents == 0 || offset % KERNEL_PAGE != address % KERNEL_PAGE {
        return Surroundings::default();
    }
    let part = |start: u64, end: u64| {
        let end = (file.len() as u64).min(end);
        file.get(start as usize..end as usize).unwrap_or_default().to_vec()
    };
    let end = offset + contents;
    let before = part(offset - offset % KERNEL_PAGE, offset);
    let after = match cleared {
        true => Vec::new(),
        false => part(end, end.next_multiple_of(KERNEL_PAGE)),
    };
    Surroundings { before, after }
}

fn read_sections(file: &elf_layout::File, segments: &mut [Segment], base: u64) {
    for section in file.sections() {
        let (address, size) = (section.address().wrapping_add(base), section.size());
        let elf_layout::SectionFlags::Elf { sh_flags } = section.flags() else { continue };
        let has = |bit: u32| sh_flags & u64::from(bit) != 0;
        let flags = SectionFlags {
            alloc: has(raw::SHF_ALLOC),
            write: has(raw::SHF_WRITE),
            exec: has(raw::SHF_EXECINSTR),
            nobits: section.kind().is_bss(),
            tls: has(raw::SHF_TLS),
        };
        let Some(segment) = segments.iter_mut().find(|s| (s.address..s.end()).contains(&address))
        else {
            continue;
        };
        if flags.alloc && size > 0 && size <= segment.memory_size {
            let name = printable(section.name_bytes().unwrap_or_default());
            segment.sections.push((name, address, size, flags, section.align()));
        }
    }
}

fn read_symbols(arch: Arch, file: &elf_layout::File, base: u64) -> Vec<ImageSymbol> {
    // What was stripped has the symbols that others use alone.
    let dynamic = file.symbols().next().is_none().then(|| file.dynamic_symbols());
    let mut symbols: Vec<ImageSymbol> = file
        .symbols()
        .chain(dynamic.into_iter().flatten())
        .filter(|symbol| !symbol.is_undefined())
        .filter_map(|symbol| {
            let name = printable(symbol.name_bytes().ok()?);
            let elf_layout::SymbolFlags::Elf { st_info, st_other } = symbol.flags() else {
                return None;
            };
            let kind = match st_info & 0xf {
                raw::STT_NOTYPE => SymbolKind::None,
                raw::STT_FUNC | raw::STT_GNU_IFUNC => SymbolKind::Function,
                raw::STT_OBJECT => SymbolKind::Data,
                _ => return None,
            };
            let visibility = visibility_of(st_other);
            let binding = match st_info >> 4 {
                // Hidden symbols are local to the component, whatever their binding. Source: gABI, "Symbol Visibility".
                _ if matches!(visibility, Visibility::Hidden | Visibility::Internal) => {
                    Binding::Local
                }
                raw::STB_LOCAL => Binding::Local,
                raw::STB_WEAK => Binding::Weak,
                _ => Binding::Global,
            };
            let absolute = symbol.section() == elf_layout::SymbolSection::Absolute;
            let moved = if absolute { 0 } else { base };
            let (address, size) = (symbol.address().wrapping_add(moved), symbol.size());
            let wanted = !name.is_empty() && !is_mapping_symbol(arch, &name);
            wanted.then_some(ImageSymbol {
                name,
                address,
                size,
                kind,
                binding,
                datum: None,
                absolute,
                defined_at: None,
            })
        })
        .collect();
    symbols.sort_by_key(|symbol| symbol.address);
    symbols
}
