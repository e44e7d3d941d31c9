//! Any bytes to the decoders, the printers and the assembler of single instructions.
#![no_main]

use libfuzzer_sys::fuzz_target;

#[path = "../../tests/hostile.rs"]
mod hostile;

fuzz_target!(|bytes: &[u8]| hostile::code(bytes));
