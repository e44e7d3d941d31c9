//! The test programs, with what their first lines promise.
#![allow(dead_code, unused_imports, reason = "each test file uses a part of this")]

use sotto_asm::{Options, Source, assemble};
use sotto_kernel::Startup;
use sotto_object::{Image, LinkOptions, link};
use sotto_session::{Session, SourceText};

#[path = "../../../../tests/programs.rs"]
mod programs;
pub use programs::{Program, data, programs};

/// Assembles and links a text.
pub fn image(name: &str, text: &str) -> Image {
    let source = Source { name: name.into(), text: text.into() };
    let assembly = assemble(&source, &Options::default());
    let object = assembly.object.unwrap_or_else(|| panic!("{name}: {:#?}", assembly.diagnostics));
    link(&[object], &LinkOptions::default()).unwrap_or_else(|errors| panic!("{name}: {errors:?}"))
}

/// A session of a text.
pub fn session(text: &str) -> Session {
    let sources = vec![SourceText { name: "lamp.s".into(), text: text.into() }];
    let startup = Startup::with_arguments(vec!["lamp".into()]);
    Session::start(image("lamp.s", text), sources, &startup).unwrap()
}
