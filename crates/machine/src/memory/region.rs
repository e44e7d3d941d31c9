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

/// A mapped range.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Region {
    /// First address, a multiple of the page size.
    pub start: u64,
    /// Address after the last mapped byte, a multiple of the page size.
    pub end: u64,
    /// Address after the last byte that was asked for. Code does not go beyond it.
    pub used_end: u64,
    /// What it may be used for.
    pub permissions: Permissions,
    /// What it is, in a word or two.
    pub name: String,
}
