//! What goes into a process and what comes out of it.

pub(crate) mod logs;
