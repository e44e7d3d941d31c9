//! Programs for the tests of this crate.
#![allow(dead_code, unused_imports, reason = "each test file uses a part of this")]

use sotto_asm::{Options, Source, assemble};
use sotto_object::{Image, LinkOptions, Object, link};

#[path = "../../../../tests/programs.rs"]
mod programs;
pub use programs::{has, kernel_runs_32_bit};

/// The object of a source.
pub fn object(text: &str) -> Object {
    let source = Source { name: "station.s".into(), text: text.into() };
    let assembly = assemble(&source, &Options::default());
    assembly.object.unwrap_or_else(|| panic!("{:?}\n{text}", assembly.diagnostics))
}

/// A program of objects that begins at a routine.
pub fn program(objects: &[Object], routine: &str) -> Image {
    let options =
        LinkOptions { entry: routine.into(), local_entry: true, ..LinkOptions::default() };
    link(objects, &options).unwrap()
}

/// A program of a source that begins at a routine.
pub fn image_of_routine(text: &str, routine: &str) -> Image {
    program(&[object(text)], routine)
}
