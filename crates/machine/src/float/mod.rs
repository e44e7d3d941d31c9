//! Floating-point arithmetic in software, exact to the bit, for every machine.

pub(crate) mod arm;
pub(crate) mod estimate;
pub(crate) mod fused;
pub(crate) mod softfloat;
