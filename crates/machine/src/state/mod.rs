//! What an instruction reads and changes: registers, flags and memory, as data.

pub(crate) mod effects;
pub(crate) mod flag_origin;
