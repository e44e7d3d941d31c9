//! The full-screen view.

use super::commander::Commander;
use crate::output::Failure;

/// Runs the full-screen view until it is left.
pub fn run(_: &mut Commander, _: Option<&str>) -> Result<(), Failure> {
    Ok(())
}
