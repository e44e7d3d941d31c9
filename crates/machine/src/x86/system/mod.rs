//! Flags as a whole, segments, CPUID, and what else speaks to the system.

pub(crate) mod cpuid;
pub(crate) mod instructions;
pub(crate) mod segments;
