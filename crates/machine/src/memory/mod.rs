//! The address space: regions, pages, permissions, the translation buffer, and snapshots of it.

pub(crate) mod region;
pub(crate) mod snapshot;
pub(crate) mod space;
