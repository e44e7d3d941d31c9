//! Operands of instructions as text: one file for each syntax.

pub(crate) mod arm64;
mod arm64_vector;
pub(crate) mod parsed;
pub(crate) mod x86;
pub(crate) mod x86_source_first;
