//! Commands as lines: reading them, their grammar, and carrying them out.

pub(crate) mod commander;
pub(crate) mod error;
pub(crate) mod grammar;
pub(crate) mod input;
