//! What system calls do, by area. Each function is named by its row in the table.

pub(crate) mod attributes;
pub(crate) mod call;
pub(crate) mod cloning;
pub(crate) mod copies;
pub(crate) mod descriptors;
pub(crate) mod events;
pub(crate) mod futex;
pub(crate) mod identity;
pub(crate) mod limits;
pub(crate) mod memory;
pub(crate) mod paths;
pub(crate) mod pipes;
pub(crate) mod polling;
pub(crate) mod programs;
pub(crate) mod scheduling;
pub(crate) mod signals;
pub(crate) mod status;
pub(crate) mod threads;
pub(crate) mod time;
pub(crate) mod timers;
pub(crate) mod transfers;
pub(crate) mod users;
pub(crate) mod waiting;
