//! ELF files: executables, objects and archives, read and written.

pub(crate) mod numbers;
pub(crate) mod read;
pub(crate) mod read_object;
pub(crate) mod relocations;
pub(crate) mod write;
pub(crate) mod write_object;
