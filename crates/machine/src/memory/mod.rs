//! The address space: regions, pages, permissions, the translation buffer, and snapshots of it.

pub(crate) mod code_marks;
pub(crate) mod pages;
pub(crate) mod region;
pub(crate) mod snapshot;
pub(crate) mod space;
pub(crate) mod translation_buffer;
