//! The reference of the language, held against the assembler.

use std::path::Path;

use sotto_asm::{Disk, Options, Severity, Source, assemble_with, directives};
use sotto_isa::Arch;

/// The files that the examples name.
struct Examples;

impl Disk for Examples {
    fn read(&self, name: &str, _: &str) -> Result<(String, Vec<u8>), String> {
        match name {
            "calls.inc" => Ok((name.into(), b"exit = 60\n".to_vec())),
            "chart.bin" => Ok((name.into(), vec![7; 16])),
            _ => Err("there is no such file".into()),
        }
    }
}

fn page(name: &str) -> String {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs").join(name);
    std::fs::read_to_string(path).unwrap()
}

fn reference() -> String {
    page("language.md")
}

#[test]
fn every_example_assembles() {
    assert!(assemble_examples("language.md") >= 15, "the examples are found");
    assert!(assemble_examples("from-elsewhere.md") >= 12, "the examples are found");
}

/// Assembles the examples of a page; how many there are.
fn assemble_examples(name: &str) -> usize {
    let text = page(name);
    let mut count = 0;
    for block in text.split("```asm").skip(1) {
        let (kind, rest) = block.split_once('\n').unwrap();
        let example = rest.split("```").next().unwrap();
        let target = kind.trim().parse().unwrap_or(Arch::X86_64);
        let source = Source { name: "language.md".into(), text: example.into() };
        let assembly = assemble_with(&source, &Options::for_target(target), &Examples);
        let complaints: Vec<_> = assembly
            .diagnostics
            .iter()
            .filter(|d| d.severity == Severity::Error)
            .map(|d| (assembly.sources.location(d.span.start).line, &d.message))
            .collect();
        assert!(assembly.object.is_some(), "{name}: {complaints:?} in\n{example}");
        count += 1;
    }
    count
}

#[test]
fn every_directive_has_its_line_and_its_example() {
    let text = reference();
    let examples: String =
        text.split("```asm").skip(1).map(|block| block.split("```").next().unwrap()).collect();
    let (mut prose, mut inside) = (String::new(), false);
    for line in text.lines() {
        if line.starts_with("```") {
            inside = !inside;
        } else if !inside {
            prose += line;
            prose.push('\n');
        }
    }
    // As a word, which no longer name contains.
    let mentions = |text: &str, name: &str| {
        let part = |c: char| c.is_alphanumeric() || c == '_' || c == '.';
        text.split(|c| !part(c)).any(|word| word == name)
    };
    for name in directives() {
        assert!(mentions(&prose, name), "{name} is not described");
        assert!(mentions(&examples, name), "{name} has no example");
    }
}
