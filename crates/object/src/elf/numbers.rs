//! The numbers that ELF gives to what an object holds.
//!
//! Sources: gABI, "ELF Header", "Sections", "Symbol Table"; psABI x86-64, 4.4.1 "Relocation Types";
//! psABI i386, 4.4.1; AAELF64, 5.7 "Relocation".

use elf_layout::elf as raw;
use elf_layout::write::elf::FileHeader;
use sotto_isa::Arch;

use crate::{Binding, RelocationKind, SectionFlags, SymbolKind, TlsField, Visibility};

/// `e_machine`
fn machine(arch: Arch) -> u16 {
    match arch {
        Arch::Arm64 => raw::EM_AARCH64,
        Arch::X86_32 => raw::EM_386,
        _ => raw::EM_X86_64,
    }
}

/// The machine of a file by its first bytes, if it is one of ours in its own class and byte order.
pub(crate) fn arch_of(bytes: &[u8]) -> Option<Arch> {
    let machine = u16::from_le_bytes(bytes.get(18..20)?.try_into().ok()?);
    match (machine, bytes[4], bytes[5]) {
        (raw::EM_X86_64, raw::ELFCLASS64, raw::ELFDATA2LSB) => Some(Arch::X86_64),
        (raw::EM_386, raw::ELFCLASS32, raw::ELFDATA2LSB) => Some(Arch::X86_32),
        (raw::EM_AARCH64, raw::ELFCLASS64, raw::ELFDATA2LSB) => Some(Arch::Arm64),
        _ => None,
    }
}

/// Whether the machine's files are of the 64-bit class.
pub(crate) fn is_64_bit(arch: Arch) -> bool {
    arch.address_bytes() == 8
}

/// Whether relocations have a field for the addend; else it is in the place that they fill.
pub(crate) fn has_addends(arch: Arch) -> bool {
    arch != Arch::X86_32
}

/// The header of a file of this type for a machine.
pub(crate) fn file_header(arch: Arch, e_type: u16, e_entry: u64) -> FileHeader {
    FileHeader {
        os_abi: raw::ELFOSABI_NONE,
        abi_version: 0,
        e_type,
        e_machine: machine(arch),
        e_entry,
        e_flags: 0,
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

/// A relocation's number, which kind it is, and on which machine. Where two numbers have one kind,
/// the first is written.
const RELOCATIONS: &[(Arch, u32, RelocationKind)] = &[
    (Arch::X86_64, raw::R_X86_64_64, RelocationKind::Abs64),
    (Arch::X86_64, raw::R_X86_64_PC32, RelocationKind::Rel32),
    (Arch::X86_64, raw::R_X86_64_PLT32, RelocationKind::Plt32),
    (Arch::X86_64, raw::R_X86_64_GOTPCREL, RelocationKind::GotRel32),
    (Arch::X86_64, raw::R_X86_64_REX_GOTPCRELX, RelocationKind::GotRel32Relaxable),
    (Arch::X86_64, raw::R_X86_64_GOTPCRELX, RelocationKind::GotRel32Relaxable),
    (Arch::X86_64, raw::R_X86_64_32, RelocationKind::Abs32),
    (Arch::X86_64, raw::R_X86_64_32S, RelocationKind::Abs32Signed),
    (Arch::X86_64, raw::R_X86_64_16, RelocationKind::Abs16),
    (Arch::X86_64, raw::R_X86_64_PC16, RelocationKind::Rel16),
    (Arch::X86_64, raw::R_X86_64_8, RelocationKind::Abs8),
    (Arch::X86_64, raw::R_X86_64_PC8, RelocationKind::Rel8),
    (Arch::X86_64, raw::R_X86_64_PC64, RelocationKind::Rel64),
    (Arch::X86_32, raw::R_386_32, RelocationKind::Abs32),
    (Arch::X86_32, raw::R_386_PC32, RelocationKind::Rel32),
    (Arch::X86_32, raw::R_386_PLT32, RelocationKind::Plt32),
    (Arch::X86_32, raw::R_386_GOT32X, RelocationKind::GotEntry32),
    (Arch::X86_32, raw::R_386_GOT32, RelocationKind::GotEntry32),
    (Arch::X86_32, raw::R_386_GOTOFF, RelocationKind::GotOffset32),
    (Arch::X86_32, raw::R_386_GOTPC, RelocationKind::GotDistance32),
    (Arch::X86_32, raw::R_386_16, RelocationKind::Abs16),
    (Arch::X86_32, raw::R_386_PC16, RelocationKind::Rel16),
    (Arch::X86_32, raw::R_386_8, RelocationKind::Abs8),
    (Arch::X86_32, raw::R_386_PC8, RelocationKind::Rel8),
    (Arch::Arm64, raw::R_AARCH64_ABS64, RelocationKind::Abs64),
    (Arch::Arm64, raw::R_AARCH64_ABS32, RelocationKind::Abs32),
    (Arch::Arm64, raw::R_AARCH64_ABS16, RelocationKind::Abs16),
    (Arch::Arm64, raw::R_AARCH64_PREL64, RelocationKind::Rel64),
    (Arch::Arm64, raw::R_AARCH64_PREL32, RelocationKind::Rel32),
    (Arch::Arm64, raw::R_AARCH64_PREL16, RelocationKind::Rel16),
    (Arch::Arm64, raw::R_AARCH64_LD_PREL_LO19, RelocationKind::A64Literal19),
    (Arch::Arm64, raw::R_AARCH64_ADR_PREL_LO21, RelocationKind::A64Adr21),
    (Arch::Arm64, raw::R_AARCH64_ADR_PREL_PG_HI21, RelocationKind::A64AdrPage21),
    (Arch::Arm64, raw::R_AARCH64_ADD_ABS_LO12_NC, RelocationKind::A64AddLow12),
    (Arch::Arm64, raw::R_AARCH64_LDST8_ABS_LO12_NC, RelocationKind::A64AccessLow12(0)),
    (Arch::Arm64, raw::R_AARCH64_LDST16_ABS_LO12_NC, RelocationKind::A64AccessLow12(1)),
    (Arch::Arm64, raw::R_AARCH64_LDST32_ABS_LO12_NC, RelocationKind::A64AccessLow12(2)),
    (Arch::Arm64, raw::R_AARCH64_LDST64_ABS_LO12_NC, RelocationKind::A64AccessLow12(3)),
    (Arch::Arm64, raw::R_AARCH64_LDST128_ABS_LO12_NC, RelocationKind::A64AccessLow12(4)),
    (Arch::X86_64, raw::R_X86_64_TLSGD, RelocationKind::Tls(TlsField::GeneralEntry)),
    (Arch::X86_64, raw::R_X86_64_TLSLD, RelocationKind::Tls(TlsField::ModuleEntry)),
    (Arch::X86_64, raw::R_X86_64_GOTTPOFF, RelocationKind::Tls(TlsField::OffsetEntry)),
    (Arch::X86_64, raw::R_X86_64_TPOFF32, RelocationKind::Tls(TlsField::ThreadOffset)),
    (Arch::X86_64, raw::R_X86_64_TPOFF64, RelocationKind::Tls(TlsField::ThreadOffset64)),
    (Arch::X86_64, raw::R_X86_64_DTPOFF32, RelocationKind::Tls(TlsField::BlockOffset)),
    (Arch::X86_64, raw::R_X86_64_DTPOFF64, RelocationKind::Tls(TlsField::BlockOffset64)),
    (Arch::X86_32, raw::R_386_TLS_GD, RelocationKind::Tls(TlsField::GeneralEntry)),
    (Arch::X86_32, raw::R_386_TLS_LDM, RelocationKind::Tls(TlsField::ModuleEntry)),
    (Arch::X86_32, raw::R_386_TLS_GOTIE, RelocationKind::Tls(TlsField::OffsetEntry)),
    (Arch::X86_32, raw::R_386_TLS_IE, RelocationKind::Tls(TlsField::OffsetEntryAddress)),
    (Arch::X86_32, raw::R_386_TLS_LE, RelocationKind::Tls(TlsField::ThreadOffset)),
    (Arch::X86_32, raw::R_386_TLS_LDO_32, RelocationKind::Tls(TlsField::BlockOffset)),
    (
        Arch::Arm64,
        raw::R_AARCH64_TLSLE_ADD_TPREL_HI12,
        RelocationKind::Tls(TlsField::A64OffsetHigh12),
    ),
    (
        Arch::Arm64,
        raw::R_AARCH64_TLSLE_ADD_TPREL_LO12,
        RelocationKind::Tls(TlsField::A64OffsetLow12),
    ),
    (
        Arch::Arm64,
        raw::R_AARCH64_TLSLE_ADD_TPREL_LO12_NC,
        RelocationKind::Tls(TlsField::A64OffsetLow12Unchecked),
    ),
    (
        Arch::Arm64,
        raw::R_AARCH64_TLSIE_ADR_GOTTPREL_PAGE21,
        RelocationKind::Tls(TlsField::A64OffsetEntryPage),
    ),
    (
        Arch::Arm64,
        raw::R_AARCH64_TLSIE_LD64_GOTTPREL_LO12_NC,
        RelocationKind::Tls(TlsField::A64OffsetEntryLow12),
    ),
    (
        Arch::Arm64,
        raw::R_AARCH64_TLSDESC_ADR_PAGE21,
        RelocationKind::Tls(TlsField::A64DescriptorPage),
    ),
    (
        Arch::Arm64,
        raw::R_AARCH64_TLSDESC_LD64_LO12,
        RelocationKind::Tls(TlsField::A64DescriptorLow12),
    ),
    (
        Arch::Arm64,
        raw::R_AARCH64_TLSDESC_ADD_LO12,
        RelocationKind::Tls(TlsField::A64DescriptorAddLow12),
    ),
    (Arch::Arm64, raw::R_AARCH64_TLSDESC_CALL, RelocationKind::Tls(TlsField::A64DescriptorCall)),
    (Arch::Arm64, raw::R_AARCH64_TLS_DTPREL, RelocationKind::Tls(TlsField::BlockOffset64)),
    (Arch::Arm64, raw::R_AARCH64_ADR_GOT_PAGE, RelocationKind::A64GotPage21),
    (Arch::Arm64, raw::R_AARCH64_LD64_GOT_LO12_NC, RelocationKind::A64GotLow12),
    (Arch::Arm64, raw::R_AARCH64_TSTBR14, RelocationKind::A64Branch14),
    (Arch::Arm64, raw::R_AARCH64_CONDBR19, RelocationKind::A64Branch19),
    (Arch::Arm64, raw::R_AARCH64_JUMP26, RelocationKind::A64Branch26),
    (Arch::Arm64, raw::R_AARCH64_CALL26, RelocationKind::A64Call26),
];

/// The number of a relocation; `None` if the machine has none of this kind.
pub(crate) fn relocation_number(arch: Arch, kind: RelocationKind) -> Option<u32> {
    let found = RELOCATIONS.iter().find(|(a, _, k)| *a == arch && *k == kind);
    found.map(|(_, number, _)| *number)
}

/// The kind of a relocation by its number; `None` if it is not one that we fill.
pub(crate) fn relocation_kind(arch: Arch, number: u32) -> Option<RelocationKind> {
    let found = RELOCATIONS.iter().find(|(a, n, _)| *a == arch && *n == number);
    found.map(|(.., kind)| *kind)
}
