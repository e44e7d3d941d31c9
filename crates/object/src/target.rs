//! What ELF files of each machine are like. No other file of this crate asks which machine a file is for.

use elf_layout::elf as raw;
use sotto_isa::Arch;

use crate::RelocationKind;
use crate::elf::relocations;
use crate::linker::indirect::IndirectTables;

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
    /// Where the thread pointer points.
    pub thread_pointer: ThreadPointer,
    /// What `TlsField::OffsetEntry` is, once the table entry's place is known.
    pub thread_entry: RelocationKind,
    /// Tables for functions that are chosen at run time.
    pub indirect: IndirectTables,
    /// Numbers of relocations and their kinds.
    pub relocations: &'static [(u32, RelocationKind)],
}

/// Where the thread pointer points, of the block of thread-local data of the program itself.
///
/// Source: ELF Handling for Thread-Local Storage, 3 "Run-Time Handling of TLS": variants I and II.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) enum ThreadPointer {
    /// At a header of so many bytes before the block.
    BeforeBlock { header_bytes: u64 },
    /// Right behind the block.
    AfterBlock,
}

/// Source: psABI x86-64, 3.3.1 and 3.3.3 "Virtual Address Assignments".
static X86_64: Target = Target {
    machine: raw::EM_X86_64,
    flags: 0,
    has_addends: true,
    base_address: 0x40_0000,
    page_size: 0x1000,
    has_mapping_symbols: false,
    thread_pointer: ThreadPointer::AfterBlock,
    thread_entry: RelocationKind::GotRel32,
    indirect: IndirectTables {
        relocation: raw::R_X86_64_IRELATIVE,
        section: ".rela.iplt",
        // jmp [rip + slot]; two bytes to align the next entry
        stub: &[0xff, 0x25, 0, 0, 0, 0, 0x66, 0x90],
        stub_fields: &[(2, RelocationKind::Rel32, -4)],
    },
    relocations: relocations::X86_64,
};

/// Source: psABI i386, 3.2 and 4.4.
static X86_32: Target = Target {
    machine: raw::EM_386,
    has_addends: false,
    base_address: 0x0804_8000,
    thread_entry: RelocationKind::GotEntry32,
    indirect: IndirectTables {
        relocation: raw::R_386_IRELATIVE,
        section: ".rel.iplt",
        // jmp [slot]; two bytes to align the next entry
        stub: &[0xff, 0x25, 0, 0, 0, 0, 0x66, 0x90],
        stub_fields: &[(2, RelocationKind::Abs32, 0)],
    },
    relocations: relocations::X86_32,
    ..X86_64
};

/// Source: AAELF64, 5.5.4 "Mapping symbols" and 6.1 "Program Header".
static ARM64: Target = Target {
    machine: raw::EM_AARCH64,
    page_size: 0x1_0000,
    has_mapping_symbols: true,
    thread_pointer: ThreadPointer::BeforeBlock { header_bytes: 16 },
    thread_entry: RelocationKind::A64GotLow12,
    indirect: IndirectTables {
        relocation: raw::R_AARCH64_IRELATIVE,
        section: ".rela.iplt",
        // adrp x16, slot; ldr x17, [x16, :lo12:slot]; add x16, x16, :lo12:slot; br x17
        stub: &[
            0x10, 0x00, 0x00, 0x90, 0x11, 0x02, 0x40, 0xf9, 0x10, 0x02, 0x00, 0x91, 0x20, 0x02,
            0x1f, 0xd6,
        ],
        stub_fields: &[
            (0, RelocationKind::A64AdrPage21, 0),
            (4, RelocationKind::A64AccessLow12(3), 0),
            (8, RelocationKind::A64AddLow12, 0),
        ],
    },
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
