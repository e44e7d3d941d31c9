//! System calls by area, and the dispatch to them.

pub(crate) mod dispatch;
pub(crate) mod memory;
pub(crate) mod status;
pub(crate) mod streams;
