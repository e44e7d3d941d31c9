//! What is read, how often and for which machine: includes, conditionals, repeats, macros, known lines.

pub(crate) mod files;
pub(crate) mod infer;
pub(crate) mod line_cache;
pub(crate) mod lines;
pub(crate) mod macros;
pub(crate) mod structure;
