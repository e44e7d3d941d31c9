//! Decoded code: blocks, the cache that holds them, how they are run, and what observes a run.

pub(crate) mod cache;
pub(crate) mod calls;
pub(crate) mod engine;
pub(crate) mod processor;
pub(crate) mod run;
pub(crate) mod watch;
