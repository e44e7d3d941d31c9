//! docs/checks.md is written from the table of findings.

use std::fmt::Write;
use std::path::Path;

use sotto_check::KINDS;

const HEAD: &str = "\
# Checks

`sotto check` reads a program's code, runs it, and reports what it does and probably should not. Each finding has a code, the place, the
values, where they came from, the reason and the remedy; `sotto explain C101` tells more about a code. Code that has source lines or a
[contract](contracts.md) is judged, and with `--libraries` all of it. Files without `_start` are read alone; `--cases FILE` runs the [cases](contracts.md) of a
routine. `step` and `trace` show what the run shows, below the step that it is about. Errors and warnings make the status 1 (`--deny` says from which severity on);
`--allow C201` leaves a code out, and `;: allow C201` in the source does so for its line or the line below.

This page is written from the table of findings (`crates/check/src/kinds.rs`).

";

fn page() -> String {
    let mut page = HEAD.to_string();
    page.push_str("| code | severity | finding |\n| --- | --- | --- |\n");
    for info in KINDS {
        writeln!(page, "| {} | {} | {} |", info.code, info.severity.name(), info.title).unwrap();
    }
    for info in KINDS {
        write!(page, "\n## {}: {}\n\n", info.code, info.title).unwrap();
        write!(page, "Why: {}. Remedy: {}.\n\n", info.why, info.remedy).unwrap();
        for (word, lines) in [("Found in:", info.example), ("Mended:", info.mended)] {
            write!(page, "{word}\n\n").unwrap();
            for line in lines.lines().skip(1) {
                writeln!(page, "    {line}").unwrap();
            }
            page.push('\n');
        }
        page.truncate(page.trim_end().len());
        page.push('\n');
    }
    page
}

#[test]
fn the_page_of_checks_is_the_table() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/checks.md");
    let page = page();
    if std::env::var_os("SOTTO_WRITE_DOCS").is_some() {
        std::fs::write(&path, &page).unwrap();
    }
    let written = std::fs::read_to_string(&path).unwrap_or_default();
    assert!(written == page, "docs/checks.md is not the table: SOTTO_WRITE_DOCS=1 writes it");
}
