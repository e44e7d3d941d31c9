//! From objects to an image.

pub(crate) mod align;
pub(crate) mod annotations;
pub(crate) mod errors;
pub(crate) mod fields;
pub(crate) mod indirect;
pub(crate) mod layout;
pub(crate) mod link;
pub(crate) mod members;
pub(crate) mod relax;
pub(crate) mod resolve;
pub(crate) mod synthetic;
pub(crate) mod tls;
