//! Every kind of error in a source, by code and span.
//!
//! Each file of `tests/data/errors/` is a source whose `!` comments promise the errors of their
//! lines: `!A111 nowhere` promises the code, and the text that the span covers. An error promised
//! nowhere fails, and so does a promise not kept.

use std::path::Path;

use sotto_asm::{Options, Severity, Source, assemble};

/// What a line promises: line number, code, text of the span.
fn promises(text: &str) -> Vec<(u32, String, String)> {
    text.lines()
        .enumerate()
        .flat_map(|(index, line)| {
            line.split("!A").skip(1).map(move |promise| {
                let (code, span) = promise.split_once(' ').unwrap_or((promise, ""));
                (index as u32 + 1, format!("A{code}"), span.trim().to_string())
            })
        })
        .collect()
}

#[test]
fn errors_are_found_where_they_are_each_once_and_in_order() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../tests/data/errors");
    let mut paths: Vec<_> = std::fs::read_dir(folder).unwrap().map(|e| e.unwrap().path()).collect();
    paths.sort();
    assert!(!paths.is_empty());
    for path in paths {
        let text = std::fs::read_to_string(&path).unwrap();
        let source = Source { name: path.display().to_string(), text: text.as_str().into() };
        let assembly = assemble(&source, &Options::default());
        assert!(assembly.object.is_none(), "{}: errors give no object", path.display());
        let found: Vec<_> = assembly
            .diagnostics
            .iter()
            .filter(|d| d.severity == Severity::Error)
            .map(|d| {
                let covered = assembly.sources.slice(d.span).to_string();
                (assembly.sources.location(d.span.start).line, d.code.name().to_string(), covered)
            })
            .collect();
        assert_eq!(found, promises(&text), "{}", path.display());
    }
}
