//! Instructions on general registers and memory.

pub(crate) mod arithmetic;
pub(crate) mod bits;
pub(crate) mod jumps;
pub(crate) mod legacy;
pub(crate) mod products;
pub(crate) mod stack;
pub(crate) mod strings;
