//! The test programs, with what their first lines promise.
#![allow(dead_code, reason = "each test file uses a part of this")]

use std::path::{Path, PathBuf};

use sotto_asm::{Options, Source, assemble};
use sotto_kernel::Startup;
use sotto_object::{Image, LinkOptions, link};
use sotto_session::{Session, SourceText};

/// A program with its input, and the output and status it promises.
pub struct Program {
    pub path: PathBuf,
    pub text: String,
    pub input: Vec<u8>,
    pub output: Vec<u8>,
    pub status: i32,
}

/// The folder of the test data of the workspace.
pub fn data() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../tests/data")
}

/// Every program for a machine.
///
/// # Panics
///
/// If there is none: a test that finds no case has failed.
pub fn programs(arch: &str) -> Vec<Program> {
    let folder = data().join("programs").join(arch);
    let mut paths: Vec<PathBuf> =
        std::fs::read_dir(&folder).unwrap().map(|entry| entry.unwrap().path()).collect();
    paths.sort();
    assert!(!paths.is_empty(), "no programs in {}", folder.display());
    paths.into_iter().map(program).collect()
}

fn program(path: PathBuf) -> Program {
    let text = std::fs::read_to_string(&path).unwrap();
    let promise = |name: &str| {
        let line = text.lines().find_map(|line| {
            line.trim_start_matches([';', '/', ' ']).strip_prefix(name)?.strip_prefix(": ")
        });
        line.unwrap_or("").replace("\\n", "\n")
    };
    let (input, output) = (promise("input").into_bytes(), promise("output").into_bytes());
    let status = promise("status").parse().expect("a program promises its status");
    Program { path, input, output, status, text }
}

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
