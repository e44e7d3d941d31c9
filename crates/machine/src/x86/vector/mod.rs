//! Instructions on XMM registers.

pub(crate) mod moves;
pub(crate) mod packed;
pub(crate) mod sse_float;
pub(crate) mod string_compare;
