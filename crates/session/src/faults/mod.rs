//! Why a program stopped, and where the wrong value came from.

pub(crate) mod fault_report;
pub(crate) mod mistaken_exit;
pub(crate) mod origin;
