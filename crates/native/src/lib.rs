//! The host's own processor and kernel, which the emulator is compared with.
//!
//! The only home of process tracing. Empty on hosts other than x86-64 Linux.

#[cfg(all(target_os = "linux", target_arch = "x86_64"))]
mod traced;

#[cfg(all(target_os = "linux", target_arch = "x86_64"))]
pub use traced::{Native, NativeEvent};
