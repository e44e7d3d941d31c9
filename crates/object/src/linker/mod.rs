//! From objects to an image.

pub(crate) mod align;
pub(crate) mod link;
pub(crate) mod members;
pub(crate) mod relax;
pub(crate) mod synthetic;
