//! The x87 unit.

pub(crate) mod environment;
