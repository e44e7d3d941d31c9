//! Any text to the lexer, the parser, the assembler, the writer of objects and the linker.
#![no_main]

use libfuzzer_sys::fuzz_target;

#[path = "../../tests/hostile.rs"]
mod hostile;

fuzz_target!(|text: &str| hostile::text(text));
