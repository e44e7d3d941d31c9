//! Directives: their table, and what each does.

pub(crate) mod data;
pub(crate) mod line_table;
pub(crate) mod literals;
pub(crate) mod structure;
pub(crate) mod table;
pub(crate) mod unwind;
