//! The map: where the linker put everything.

use std::fmt::Write;
use std::path::Path;

use sotto_object::{Image, ImageSymbol};

/// The map of a program.
pub fn text(image: &Image, path: &Path) -> String {
    let mut out = String::new();
    // Writing to a String cannot fail.
    let _ = writeln!(
        out,
        "{}: {} program, starts at {:x}{}\n",
        path.display(),
        image.arch,
        image.entry,
        image
            .symbol_before(image.entry)
            .map_or(String::new(), |(symbol, _)| { format!(" ({})", symbol.name) })
    );
    let _ = writeln!(out, "{:<22} {:>12} {:>10}  from", "section", "address", "size");
    for segment in &image.segments {
        let what = match (segment.exec, segment.write) {
            (true, _) => "read, execute",
            (_, true) => "read, write",
            _ => "read",
        };
        let _ = writeln!(
            out,
            "{:<22} {:>12x} {:>10}",
            format!("[{what}]"),
            segment.address,
            segment.memory_size
        );
        for (name, address, size, ..) in &segment.sections {
            let _ = writeln!(out, "  {name:<20} {address:>12x} {size:>10}");
            let end = address + size;
            for part in &image.parts {
                let inside = (*address..end.max(address + 1)).contains(&part.address);
                if inside && part.size > 0 {
                    let file = if part.file.is_empty() { "the linker" } else { &part.file };
                    let (name, address, size) = (&part.section, part.address, part.size);
                    let _ = writeln!(out, "    {name:<18} {address:>12x} {size:>10}  {file}");
                }
            }
        }
    }
    let (constants, mut symbols): (Vec<&ImageSymbol>, Vec<&ImageSymbol>) =
        image.symbols.iter().partition(|symbol| symbol.absolute);
    symbols.sort_by_key(|symbol| (symbol.address, &symbol.name));
    heading(&mut out, "symbol", "address", !symbols.is_empty());
    for symbol in symbols {
        let address = format!("{:x}", symbol.address);
        let code = image.segment_at(symbol.address).is_some_and(|segment| segment.exec);
        row(&mut out, symbol, &address, if code { "code" } else { "data" });
    }
    heading(&mut out, "constant", "value", !constants.is_empty());
    for symbol in constants {
        row(&mut out, symbol, &(symbol.address as i64).to_string(), "");
    }
    out
}

fn heading(out: &mut String, what: &str, value: &str, wanted: bool) {
    if wanted {
        let _ = writeln!(out, "\n{what:<30} {value:>12} {:>10}  {:<5} from", "size", "kind");
    }
}

fn row(out: &mut String, symbol: &ImageSymbol, value: &str, kind: &str) {
    let size = match symbol.absolute {
        true => String::new(),
        false => symbol.size.to_string(),
    };
    let from = match &symbol.defined_at {
        Some((file, 0)) => file.clone(),
        Some((file, line)) => format!("{file}:{line}"),
        None => String::new(),
    };
    let line = format!("{:<30} {value:>12} {size:>10}  {kind:<5} {from}", symbol.name);
    let _ = writeln!(out, "{}", line.trim_end());
}
