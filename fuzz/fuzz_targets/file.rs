//! Any bytes to the readers of objects, archives and programs, and to the linker.
#![no_main]

use libfuzzer_sys::fuzz_target;

#[path = "../../tests/hostile.rs"]
mod hostile;

fuzz_target!(|bytes: &[u8]| hostile::file(bytes));
