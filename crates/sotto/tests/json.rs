//! docs/json.md has the fields of every answer of `sotto step --json`, as a session gives them.

mod common;

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use common::{Folder, demo};
use serde_json::Value;

/// Where the table begins and ends in the page.
const MARKS: [&str; 2] = ["<!-- answers -->\n", "<!-- end of answers -->\n"];

/// A table, a routine, a buffer overrun and a fault: something for every answer.
const STATION: &str = " .target x86-64
 .global _start, lamp
 .data
depths: dd 9, -3, 7
total: dd 0
 .text
_start: mov eax, [depths]
 add [total], eax
 call lamp
 mov ecx, 3
 call lamp
 add ecx, 1
 jz .on
.on: movq xmm0, rax
 mov eax, 1
 mov edi, 1
 lea rsi, [line]
 mov edx, 4
 syscall
 mov rax, [0]
lamp: push rcx
 mov ecx, 9
 pop rdx
 ret
 .section .rodata
line: .ascii \"ebb\\n\"
";

const COMMANDS: &str = "step 3\nbreak at .on when ecx != 3\nwatch [total]\nbreaks\nback 3\nresume\nresume\n\
                        frames\ntasks\nstack 4\nregisters\nregisters rax xmm0 vectors\nflags\nmemory depths\nmark here\n\
                        compare here\nshow eax\nshow eax as all\nchange edx to 5\nwho eax\nrecent 2\nsource\ncode\nvariables\n\
                        unbreak 1\nunbreak 2\nresume\nsyscalls\noutput\ncheck\nrewind\nstep 90\nuntil #319\ntasks\nstep\nhelp\nfeed 5\nstpe\n";

/// The types that the fields of each answer have.
fn fields() -> BTreeMap<String, BTreeMap<String, BTreeSet<&'static str>>> {
    let (flash, keepers) = (demo("flash.s"), demo("keepers.s"));
    let folder =
        Folder::new(&[("station.s", STATION), ("flash.s", &flash), ("keepers.s", &keepers)]);
    let mut answers: BTreeMap<String, BTreeMap<String, BTreeSet<&'static str>>> = BTreeMap::new();
    for file in ["station.s", "flash.s", "keepers.s"] {
        let text = folder.transcript(&["step", file, "--json"], COMMANDS);
        for line in text.lines() {
            let Ok(Value::Object(answer)) = serde_json::from_str(line) else { continue };
            let tag = answer["answer"].as_str().unwrap().to_string();
            let fields = answers.entry(tag).or_default();
            for (name, value) in answer.iter().filter(|(name, _)| *name != "answer") {
                let kind = match value {
                    Value::Null => "null",
                    Value::Bool(_) => "boolean",
                    Value::Number(_) => "number",
                    Value::String(_) => "string",
                    Value::Array(_) => "array",
                    Value::Object(_) => "object",
                };
                fields.entry(name.clone()).or_default().insert(kind);
            }
        }
    }
    answers
}

fn table() -> String {
    let mut table = "| answer | fields |\n| --- | --- |\n".to_string();
    for (tag, fields) in fields() {
        let field = |(name, kinds): (String, BTreeSet<&str>)| {
            // What may be missing is said after what it is.
            let mut kinds: Vec<&str> = kinds.into_iter().collect();
            kinds.sort_by_key(|kind| *kind == "null");
            format!("`{name}`: {}", kinds.join(" or "))
        };
        let fields: Vec<String> = fields.into_iter().map(field).collect();
        table.push_str(&format!("| `{tag}` | {} |\n", fields.join(", ")));
    }
    table
}

#[test]
fn the_page_has_the_fields_of_every_answer() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/json.md");
    let page = std::fs::read_to_string(&path).unwrap();
    let (before, rest) = page.split_once(MARKS[0]).unwrap();
    let (written, after) = rest.split_once(MARKS[1]).unwrap();
    let table = table();
    if std::env::var_os("SOTTO_WRITE_DOCS").is_some() {
        std::fs::write(&path, format!("{before}{}{table}{}{after}", MARKS[0], MARKS[1])).unwrap();
        return;
    }
    assert!(written == table, "docs/json.md is not what is answered: SOTTO_WRITE_DOCS=1 writes it");
}
