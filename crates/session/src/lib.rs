//! A run being examined.
#[cfg(all(target_os = "linux", target_arch = "x86_64"))]
pub mod native;
