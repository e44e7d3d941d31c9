//! Instructions to compact operations: which semantic function, with its operands laid out.

pub(crate) mod conditional_jumps;
pub(crate) mod fused;
pub(crate) mod general;
pub(crate) mod vectors;
