//! What lines become: symbols, fragments of sections, literal pools, derived unwind rules.

pub(crate) mod derived_unwind;
pub(crate) mod fragments;
pub(crate) mod leb128;
pub(crate) mod listing;
pub(crate) mod pools;
pub(crate) mod stated_lines;
pub(crate) mod unwind_tables;
