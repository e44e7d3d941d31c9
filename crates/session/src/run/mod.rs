//! A run under examination: moving in time, history, stops, marks, changes by hand, reloading.

pub(crate) mod backwards;
pub(crate) mod changes;
pub(crate) mod evaluate;
pub(crate) mod history;
pub(crate) mod last_writer;
pub(crate) mod lineage;
pub(crate) mod marks;
pub(crate) mod modules;
pub(crate) mod motion;
pub(crate) mod observe;
pub(crate) mod reload;
pub(crate) mod session;
pub(crate) mod stops;
pub(crate) mod tasks;
pub(crate) mod variables;
