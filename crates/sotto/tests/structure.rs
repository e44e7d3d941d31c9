//! What the sources of the workspace may not do: import a layer above, print below the command line, ask which machine
//! it is outside of the descriptions, compare mnemonics outside of the tables, be unsafe outside of two places.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

/// The crates, each with those that it may import.
const LAYERS: &[(&str, &[&str])] = &[
    ("isa", &[]),
    ("object", &["isa"]),
    ("asm", &["isa", "object"]),
    ("machine", &["isa"]),
    ("kernel", &["isa", "object", "machine"]),
    ("native", &["isa", "machine"]),
    ("session", &["isa", "object", "asm", "machine", "kernel"]),
    ("sotto", &["isa", "object", "asm", "machine", "kernel", "session"]),
];

/// Files that describe machines, and those that belong to one machine: only these ask which machine it is.
const DESCRIPTIONS: &[&str] = &[
    "isa/src/arch.rs",
    "isa/src/instruction.rs",
    "isa/src/print.rs",
    "isa/src/reg.rs",
    "isa/src/form.rs",
    "isa/src/sample.rs",
    "isa/src/x86/",
    "isa/src/arm64/",
    "object/src/target.rs",
    "kernel/src/target.rs",
    "asm/src/text/syntax.rs",
    "asm/src/instructions.rs",
    "asm/src/reading/infer.rs",
    "asm/src/operands/x86",
    "machine/src/machine.rs",
    "machine/src/x86/",
    "machine/src/arm64/",
    "sotto/src/with_c.rs",
];

/// Tables, parsers and printers: only these compare mnemonics.
const SPELLERS: &[&str] =
    &["isa/src/", "asm/src/operands/x86_source_first.rs", "asm/src/instructions.rs"];

fn crates() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).parent().expect("a crate is in a folder").to_path_buf()
}

/// Every source file that is no test, by its path from the folder of the crates, with its lines before its tests.
fn sources() -> BTreeMap<String, Vec<String>> {
    let root = crates();
    let mut found = BTreeMap::new();
    let mut folders: Vec<PathBuf> =
        LAYERS.iter().map(|(name, _)| root.join(name).join("src")).collect();
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(&folder).expect("the folder is there") {
            let path = entry.expect("it can be listed").path();
            if path.is_dir() {
                folders.push(path);
                continue;
            }
            let name =
                path.strip_prefix(&root).expect("it is below").to_string_lossy().into_owned();
            if !name.ends_with(".rs") || name.ends_with("tests.rs") {
                continue;
            }
            let text = fs::read_to_string(&path).expect("it is text");
            let code = text.split("#[cfg(test)]\nmod tests").next().unwrap_or_default();
            found.insert(name, code.lines().map(str::to_string).collect());
        }
    }
    assert!(found.len() > 100, "the sources were found");
    found
}

fn is_among(file: &str, list: &[&str]) -> bool {
    list.iter().any(|start| file.starts_with(start))
}

/// The lines of files outside of `allowed` for which a condition holds; comments are passed over.
fn offenders(allowed: &[&str], holds: impl Fn(&str) -> bool) -> Vec<String> {
    let mut found = Vec::new();
    for (file, lines) in sources().iter().filter(|(file, _)| !is_among(file, allowed)) {
        for (number, line) in lines.iter().enumerate() {
            if !line.trim_start().starts_with("//") && holds(line) {
                found.push(format!("{file}:{}: {}", number + 1, line.trim()));
            }
        }
    }
    found
}

#[test]
fn crates_import_layers_below_only() {
    for (name, allowed) in LAYERS {
        let path = crates().join(name).join("Cargo.toml");
        let text = fs::read_to_string(path).expect("every crate has one");
        let dependencies = text.split("[dev-dependencies]").next().unwrap_or_default();
        for (other, _) in LAYERS {
            let named = dependencies.lines().any(|line| {
                line.strip_prefix("sotto-")
                    .and_then(|rest| rest.strip_prefix(other))
                    .is_some_and(|rest| rest.starts_with(['.', ' ', '=']))
            });
            assert!(!named || allowed.contains(other), "`{name}` imports `{other}`");
        }
    }
}

#[test]
fn nothing_below_the_command_line_prints_or_reads_a_terminal() {
    let words = ["println!", "eprintln!", "print!(", "io::stdout", "io::stderr", "io::stdin"];
    let found = offenders(&["sotto/"], |line| words.iter().any(|word| line.contains(word)));
    assert!(found.is_empty(), "{found:#?}");
}

#[test]
fn only_descriptions_ask_which_machine_it_is() {
    let names = ["Arch::X86_64", "Arch::X86_32", "Arch::Arm64"];
    let found = offenders(DESCRIPTIONS, |line| {
        let asks = line.contains("== Arch::") || line.contains("!= Arch::");
        let pattern = line.split_once("=>").map_or("", |(pattern, _)| pattern);
        asks || names.iter().any(|name| pattern.contains(name) && !pattern.contains("SyscallAbi"))
    });
    assert!(found.is_empty(), "{found:#?}");
}

#[test]
fn no_match_on_a_machine_has_a_catch_all() {
    let mut found = Vec::new();
    for (file, lines) in sources() {
        let mut matches: Vec<usize> = Vec::new();
        for (number, line) in lines.iter().enumerate() {
            let indent = line.len() - line.trim_start().len();
            matches.retain(|at| indent > *at || !line.trim_start().starts_with('}'));
            let scrutinee = line.split("match ").nth(1).and_then(|rest| rest.strip_suffix(" {"));
            let last = scrutinee.map(|text| text.trim_end_matches("()"));
            if last.is_some_and(|text| {
                text == "arch" || text.ends_with(".arch") || text == "self.arch"
            }) {
                matches.push(indent);
            }
            let catches =
                line.trim_start().starts_with("_ =>") || line.trim_start().starts_with("_ if");
            if catches && matches.last().is_some_and(|at| indent == at + 4) {
                found.push(format!("{file}:{}", number + 1));
            }
        }
    }
    assert!(found.is_empty(), "{found:#?}");
}

#[test]
fn mnemonics_are_compared_by_tables_parsers_and_printers_only() {
    let found = offenders(SPELLERS, |line| {
        let compares = [" == \"", " != \"", "matches!("].iter().any(|sign| line.contains(sign));
        line.contains("mnemonic") && (compares || line.contains("match "))
    });
    assert!(found.is_empty(), "{found:#?}");
}

#[test]
fn unsafe_code_is_where_the_host_is_traced_or_signals_are_handled() {
    let allowed = ["native/", "sotto/src/interrupt.rs", "sotto/src/stepper/screen/mod.rs"];
    let found = offenders(&allowed, |line| line.contains("unsafe "));
    assert!(found.is_empty(), "{found:#?}");
}
