//! What is shown of a moment: the step report, reasons of flags, stack, frames, values and places.

pub(crate) mod call_notices;
pub(crate) mod code;
pub(crate) mod delivery;
pub(crate) mod frame_code;
pub(crate) mod frames;
pub(crate) mod places;
pub(crate) mod reasons;
pub(crate) mod remarks;
pub(crate) mod stack;
pub(crate) mod step_report;
pub(crate) mod text_cache;
pub(crate) mod unwound_frames;
pub(crate) mod values;
