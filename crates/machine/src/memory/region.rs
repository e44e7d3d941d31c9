//! Mapped ranges, their permissions, and pages.

/// Bytes of a page.
pub const PAGE_BYTES: u64 = 4096;

/// The contents of a page.
pub(crate) type Page = [u8; PAGE_BYTES as usize];

/// What a region may be used for.
#[derive(Copy, Clone, PartialEq, Eq, Hash, Debug)]
pub struct Permissions {
    /// Data may be read.
    pub read: bool,
    /// Data may be written.
    pub write: bool,
    /// Instructions may be fetched.
    pub execute: bool,
}

/// What a mapped range is.
#[derive(Copy, Clone, PartialEq, Eq, Hash, Debug)]
pub enum RegionKind {
    /// A segment of the program that is executed.
    Code,
    /// A segment of the program that is written.
    Data,
    /// A segment of the program that is only read.
    Constants,
    /// What `brk` made.
    Heap,
    /// The initial stack.
    Stack,
    /// What `mmap` made.
    Mapping,
    /// Code of the kernel's in the program's memory.
    Vdso,
}

impl RegionKind {
    /// What it is, in a word.
    pub const fn name(self) -> &'static str {
        match self {
            RegionKind::Code => "code",
            RegionKind::Data => "data",
            RegionKind::Constants => "constants",
            RegionKind::Heap => "heap",
            RegionKind::Stack => "stack",
            RegionKind::Mapping => "mapped",
            RegionKind::Vdso => "vdso",
        }
    }
}

/// A mapped range.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct Region {
    /// First address, a multiple of the page size.
    pub start: u64,
    /// Address after the last mapped byte, a multiple of the page size.
    pub end: u64,
    /// Address after the last byte that was asked for. Code does not go beyond it.
    pub used_end: u64,
    /// What it may be used for.
    pub permissions: Permissions,
    /// What it is.
    pub kind: RegionKind,
}
