//! The listing: what each line of the sources laid down.

use std::fmt::Write;

use sotto_asm::{Assembly, Diagnostic, ListingLine, Severity};
use sotto_object::Image;

/// Bytes in one row.
const ROW: usize = 8;
/// Rows of bytes that a line gets; more are counted.
const MAX_ROWS: usize = 4;

/// The listing of one source. With an image, addresses and bytes are those of the program; without
/// one, addresses are offsets in their sections.
pub fn text(assembly: &Assembly, image: Option<&Image>) -> String {
    let mut out = String::new();
    let Some(listing) = &assembly.listing else { return out };
    // Writing to a String cannot fail.
    let place = if image.is_some() { "address" } else { "offset" };
    let first = listing.files.first().map_or("", |name| name.as_str());
    let _ = writeln!(out, "{first}, for {}\n", assembly.arch);
    let _ = writeln!(out, "{place:>8}  {:<23}   line  source", "bytes");
    let mut file = 0;
    for line in &listing.lines {
        // Lines of a macro keep their numbers; only an include changes the file.
        if line.depth == 0 && line.line.0 != file {
            file = line.line.0;
            let name = listing.files.get(file as usize).map_or("", |name| name.as_str());
            let _ = writeln!(out, "{:>34}{:>6}  {name}", "", "--");
        }
        let (address, bytes) = contents(assembly, image, line);
        let rows = bytes.chunks(ROW).take(MAX_ROWS);
        let left = bytes.len().saturating_sub(ROW * MAX_ROWS);
        let place = address.map_or(String::new(), |address| format!("{address:x}"));
        let source = assembly.sources.slice(line.span).trim_end();
        let mut rows = rows.map(hex);
        let _ = writeln!(
            out,
            "{}",
            format!(
                "{place:>8}  {:<23} {:>6}  {}{source}",
                rows.next().unwrap_or_default(),
                line.line.1,
                "| ".repeat(line.depth)
            )
            .trim_end()
        );
        for (number, row) in rows.enumerate() {
            let address = address.unwrap_or(0) + (ROW * (number + 1)) as u64;
            let _ = writeln!(out, "{address:>8x}  {row}");
        }
        if left > 0 {
            let _ = writeln!(out, "{:>8}  and {left} bytes more", "");
        }
        for diagnostic in assembly.diagnostics.iter().filter(|d| is_on(line, d)) {
            let _ = writeln!(out, "{}", finding(assembly, line, diagnostic));
        }
    }
    out.push('\n');
    out
}

fn is_on(line: &ListingLine, diagnostic: &Diagnostic) -> bool {
    (line.span.start..=line.span.end).contains(&diagnostic.span.start)
}

/// A diagnostic under its line, with its place marked.
fn finding(assembly: &Assembly, line: &ListingLine, diagnostic: &Diagnostic) -> String {
    let before = sotto_asm::Span { start: line.span.start, end: diagnostic.span.start };
    let column = assembly.sources.slice(before).chars().count() + 2 * line.depth;
    let end = diagnostic.span.end.min(line.span.end).max(diagnostic.span.start);
    let marked = sotto_asm::Span { start: diagnostic.span.start, end };
    let length = assembly.sources.slice(marked).chars().count().max(1);
    let word = match diagnostic.severity {
        Severity::Error => "error",
        Severity::Warning => "warning",
        Severity::Note => "note",
    };
    format!(
        "{:>42}{}{}\n{:>33}{word}[{}]: {}",
        "",
        " ".repeat(column),
        "^".repeat(length),
        "",
        diagnostic.code.name(),
        diagnostic.message
    )
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect::<Vec<_>>().join(" ")
}

/// Address and bytes of a line.
fn contents(
    assembly: &Assembly,
    image: Option<&Image>,
    line: &ListingLine,
) -> (Option<u64>, Vec<u8>) {
    let (Some(listing), Some((section, range))) = (&assembly.listing, &line.bytes) else {
        return (None, Vec::new());
    };
    let index = section.0 as usize;
    if let Some(image) = image {
        let name = listing.sections.get(index).map_or("", |name| name.as_str());
        let file = listing.files.first().map_or("", |file| file.as_str());
        let part = image.parts.iter().find(|part| part.section == name && part.file == file);
        let Some(address) = part.map(|part| part.address + range.start) else {
            return (None, Vec::new());
        };
        let length = (range.end - range.start) as usize;
        let segment = image.segment_at(address);
        let bytes = segment.and_then(|segment| {
            let start = (address - segment.address) as usize;
            segment.data.get(start..start + length)
        });
        return (Some(address), bytes.unwrap_or_default().to_vec());
    }
    let section = assembly.object.as_ref().and_then(|object| object.sections.get(index));
    let bytes = section
        .and_then(|section| section.data.get(range.start as usize..range.end as usize))
        .unwrap_or_default();
    (section.map(|_| range.start), bytes.to_vec())
}
