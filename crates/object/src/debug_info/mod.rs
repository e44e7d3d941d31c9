//! DWARF: line tables and unwind tables, read and written.

pub(crate) mod dwarf;
pub(crate) mod read_lines;
pub(crate) mod read_unwind;
pub(crate) mod read_variables;
pub(crate) mod unwind;
