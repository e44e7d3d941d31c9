//! What ELF files of each machine are like. No other file of this crate asks which machine a file is for.

use elf_layout::elf as raw;
use sotto_isa::Arch;

use crate::RelocationKind;
use crate::elf::relocations;

/// A machine's ELF files.
pub(crate) struct Target {
    /// `e_machine`
    pub machine: u16,
    /// `e_flags`
    pub flags: u32,
    /// Relocations have a field for the addend; otherwise it is in the place that they fill.
    pub has_addends: bool,
    /// Where the first page of an executable is loaded.
    pub base_address: u64,
    /// The largest page size that kernels for the machine use.
    pub page_size: u64,
    /// Symbols tell code from data within a section.
    pub has_mapping_symbols: bool,
    /// Numbers of relocations and their kinds.
    pub relocations: &'static [(u32, RelocationKind)],
}

/// Source: psABI x86-64, 3.3.1 and 3.3.3 "Virtual Address Assignments".
static X86_64: Target = Target {
    machine: raw::EM_X86_64,
    flags: 0,
    has_addends: true,
    base_address: 0x40_0000,
    page_size: 0x1000,
    has_mapping_symbols: false,
    relocations: relocations::X86_64,
};

/// Source: psABI i386, 3.2 and 4.4.
static X86_32: Target = Target {
    machine: raw::EM_386,
    has_addends: false,
    base_address: 0x0804_8000,
    relocations: relocations::X86_32,
    ..X86_64
};

/// Source: AAELF64, 5.5.4 "Mapping symbols" and 6.1 "Program Header".
static ARM64: Target = Target {
    machine: raw::EM_AARCH64,
    page_size: 0x1_0000,
    has_mapping_symbols: true,
    relocations: relocations::ARM64,
    ..X86_64
};

/// The ELF files of a machine.
pub(crate) fn target(arch: Arch) -> &'static Target {
    match arch {
        Arch::X86_64 => &X86_64,
        Arch::X86_32 => &X86_32,
        Arch::Arm64 => &ARM64,
    }
}

/// Whether symbols tell code from data within a section of the machine's objects: `$x` and `$d`.
pub fn has_mapping_symbols(arch: Arch) -> bool {
    target(arch).has_mapping_symbols
}
