//! Statements of other traditions: what each is told, in one list that people read.
//!
//! `tests/data/habits.txt` has a short source for each shape; its name ends in `arm` where it is for 64-bit ARM.

use std::fmt::Write;
use std::path::Path;

use sotto_asm::{Options, Severity, Source, assemble};
use sotto_isa::Arch;

fn cases() -> Vec<(String, String)> {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../tests/data/habits.txt");
    let text = std::fs::read_to_string(path).unwrap();
    let cases = text.split("@@ ").skip(1).map(|case| {
        let (name, body) = case.split_once('\n').unwrap();
        (name.to_string(), body.to_string())
    });
    cases.collect()
}

#[test]
fn every_habit_is_told_the_line_to_write() {
    let cases = cases();
    assert!(cases.len() >= 60, "{} cases", cases.len());
    let mut told = String::new();
    for (name, text) in cases {
        let arch = if name.ends_with("arm") { Arch::Arm64 } else { Arch::X86_64 };
        let source = Source { name: "lamp.s".into(), text: text.clone().into() };
        let assembly = assemble(&source, &Options::for_target(arch));
        assert!(!assembly.diagnostics.is_empty(), "{name}: nothing is told");
        let _ = writeln!(told, "{name}");
        for line in text.lines() {
            let _ = writeln!(told, "    {line}");
        }
        for diagnostic in &assembly.diagnostics {
            let place = assembly.sources.location(diagnostic.span.start);
            let severity = match diagnostic.severity {
                Severity::Error => "error",
                Severity::Warning => "warning",
                Severity::Note => "note",
            };
            let code = diagnostic.code.name();
            let _ = writeln!(told, "  {}: {severity} {code}: {}", place.line, diagnostic.message);
            if let Some(help) = &diagnostic.help {
                let _ = writeln!(told, "     {}", help.replace('\n', "\n     "));
            }
        }
        let _ = writeln!(told);
    }
    insta::assert_snapshot!(told);
}
