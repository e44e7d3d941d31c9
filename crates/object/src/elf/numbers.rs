//! The numbers that ELF gives to what an object holds.
//!
//! Sources: gABI, "ELF Header", "Sections", "Symbol Table"; psABI x86-64, 4.4.1 "Relocation Types";
//! psABI i386, 4.4.1; AAELF64, 5.7 "Relocation".

use elf_layout::elf as raw;
use elf_layout::write::elf::FileHeader;
use sotto_isa::Arch;

use crate::target::target;
use crate::{Binding, RelocationKind, SectionFlags, SymbolKind, Visibility};

/// The machine of a file by its first bytes, if it is one of ours in its own class and byte order.
pub(crate) fn arch_of(bytes: &[u8]) -> Option<Arch> {
    let machine = u16::from_le_bytes(bytes.get(18..20)?.try_into().ok()?);
    let class = |arch: Arch| if is_64_bit(arch) { raw::ELFCLASS64 } else { raw::ELFCLASS32 };
    let is = |arch: &Arch| (target(*arch).machine, class(*arch)) == (machine, bytes[4]);
    Arch::ALL.iter().copied().find(is).filter(|_| bytes[5] == raw::ELFDATA2LSB)
}

/// Whether the machine's files are of the 64-bit class.
pub(crate) fn is_64_bit(arch: Arch) -> bool {
    arch.address_bytes() == 8
}

/// The header of a file of this type for a machine.
pub(crate) fn file_header(arch: Arch, e_type: u16, e_entry: u64) -> FileHeader {
    FileHeader {
        os_abi: raw::ELFOSABI_NONE,
        abi_version: 0,
        e_type,
        e_machine: target(arch).machine,
        e_entry,
        e_flags: target(arch).flags,
    }
}

/// `STB_*`
pub(crate) fn binding(binding: Binding) -> u8 {
    match binding {
        Binding::Local => raw::STB_LOCAL,
        Binding::Global => raw::STB_GLOBAL,
        Binding::Weak => raw::STB_WEAK,
    }
}

/// The binding of an `st_info`.
pub(crate) fn binding_of(st_info: u8) -> Binding {
    match st_info >> 4 {
        raw::STB_LOCAL => Binding::Local,
        raw::STB_WEAK => Binding::Weak,
        _ => Binding::Global,
    }
}

/// `STV_*`
pub(crate) fn visibility(visibility: Visibility) -> u8 {
    match visibility {
        Visibility::Default => raw::STV_DEFAULT,
        Visibility::Internal => raw::STV_INTERNAL,
        Visibility::Hidden => raw::STV_HIDDEN,
        Visibility::Protected => raw::STV_PROTECTED,
    }
}

/// The visibility of an `st_other`.
pub(crate) fn visibility_of(st_other: u8) -> Visibility {
    match st_other & 3 {
        raw::STV_INTERNAL => Visibility::Internal,
        raw::STV_HIDDEN => Visibility::Hidden,
        raw::STV_PROTECTED => Visibility::Protected,
        _ => Visibility::Default,
    }
}

/// `SHT_*` of a section with contents. Source: gABI, "Special Sections".
pub(crate) fn contents_type(name: &str) -> u32 {
    let is = |family: &str| {
        name.strip_prefix(family).is_some_and(|rest| rest.is_empty() || rest.starts_with('.'))
    };
    match name {
        _ if is(".init_array") => raw::SHT_INIT_ARRAY,
        _ if is(".fini_array") => raw::SHT_FINI_ARRAY,
        _ if is(".preinit_array") => raw::SHT_PREINIT_ARRAY,
        // What is noted of the stack is said by its flags alone.
        ".note.GNU-stack" => raw::SHT_PROGBITS,
        _ if is(".note") => raw::SHT_NOTE,
        _ => raw::SHT_PROGBITS,
    }
}

/// `STT_*`
pub(crate) fn kind(kind: SymbolKind) -> u8 {
    match kind {
        SymbolKind::None => raw::STT_NOTYPE,
        SymbolKind::Function => raw::STT_FUNC,
        SymbolKind::IndirectFunction => raw::STT_GNU_IFUNC,
        SymbolKind::Data => raw::STT_OBJECT,
        SymbolKind::Section => raw::STT_SECTION,
    }
}

/// `SHF_*`
pub(crate) fn section_flags(flags: SectionFlags) -> u64 {
    let bit = |on: bool, bit: u32| if on { u64::from(bit) } else { 0 };
    bit(flags.alloc, raw::SHF_ALLOC)
        | bit(flags.write, raw::SHF_WRITE)
        | bit(flags.exec, raw::SHF_EXECINSTR)
        | bit(flags.tls, raw::SHF_TLS)
}

/// The number of a relocation; `None` if the machine has none of this kind.
pub(crate) fn relocation_number(arch: Arch, kind: RelocationKind) -> Option<u32> {
    let found = target(arch).relocations.iter().find(|(_, k)| *k == kind);
    found.map(|(number, _)| *number)
}

/// The kind of a relocation by its number; `None` if it is not one that we fill.
pub(crate) fn relocation_kind(arch: Arch, number: u32) -> Option<RelocationKind> {
    let found = target(arch).relocations.iter().find(|(n, _)| *n == number);
    found.map(|(_, kind)| *kind)
}
