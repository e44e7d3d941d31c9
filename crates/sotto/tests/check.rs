//! `sotto check`: each mistake is found and nothing else, and what is right is left alone.

mod common;

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use common::{Folder, data};
use sotto_check::Kind;

/// Input for programs that read.
const INPUT: &str = "a long line for the log\nand one more: 04: 1.25 and 05: 2.5\n";

/// The codes that `sotto check` finds in a source.
fn codes(folder: &Folder, path: &Path) -> BTreeSet<String> {
    let name = path.file_name().unwrap().to_str().unwrap();
    folder.write(name, &std::fs::read_to_string(path).unwrap());
    let output = folder.sotto(&["check", name, "--json", "--stdin", "input"]).output().unwrap();
    let text = String::from_utf8(output.stdout).unwrap();
    assert!(text.contains("\"run\""), "{name}: {}", String::from_utf8_lossy(&output.stderr));
    let lines = text.lines().map(|line| serde_json::from_str::<serde_json::Value>(line).unwrap());
    lines.filter_map(|line| line["code"].as_str().map(str::to_string)).collect()
}

/// The program that has a finding.
fn example(code: &str) -> String {
    Kind::by_code(code).unwrap().example.to_string()
}

fn sources(folder: &Path) -> Vec<PathBuf> {
    let mut paths: Vec<PathBuf> =
        std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()).collect();
    paths.sort();
    assert!(!paths.is_empty(), "{}", folder.display());
    paths
}

#[test]
fn each_mistake_is_found_and_nothing_else() {
    let mut paths = sources(&Path::new(env!("CARGO_MANIFEST_DIR")).join("../check/mistakes"));
    for arch in ["x86-64", "x86-32", "arm64"] {
        paths.extend(sources(&data().join("mistakes").join(arch)));
    }
    let folder = Folder::new(&[("input", INPUT)]);
    let mut found = BTreeSet::new();
    for path in paths {
        let stem = path.file_stem().unwrap().to_str().unwrap();
        let (code, variation) = stem.split_once('_').unwrap_or((stem, ""));
        let wanted: BTreeSet<String> = match variation {
            "" => [code.to_string()].into(),
            _ => BTreeSet::new(),
        };
        assert_eq!(codes(&folder, &path), wanted, "{}", path.display());
        found.extend(wanted);
    }
    // Every row of the table has its program.
    let rows: BTreeSet<String> =
        sotto_check::KINDS.iter().map(|info| info.code.to_string()).collect();
    assert_eq!(found, rows);
}

#[test]
fn the_demos_and_the_test_programs_are_clean() {
    let folder = Folder::new(&[("input", INPUT)]);
    let demos = Path::new(env!("CARGO_MANIFEST_DIR")).join("demos");
    let mut paths: Vec<PathBuf> = sources(&demos)
        .into_iter()
        .filter(|path| path.extension().is_some_and(|ending| ending == "s"))
        .filter(|path| !path.ends_with("watch.s"))
        .collect();
    for arch in ["x86-64", "x86-32", "arm64"] {
        paths.extend(sources(&data().join("programs").join(arch)));
    }
    for path in paths {
        // A label that stands for itself in a test program is no matter.
        let mut found = codes(&folder, &path);
        found.remove("C601");
        assert_eq!(found, BTreeSet::new(), "{}", path.display());
    }
}

#[test]
fn a_finding_shows_the_line_the_history_the_reason_and_the_remedy() {
    let folder = Folder::new(&[("lamp.s", &example("C105"))]);
    insta::assert_snapshot!(folder.transcript(&["check", "lamp.s"], ""));
}

#[test]
fn findings_are_allowed_by_code_and_in_the_source() {
    let lamp = example("C101");
    let folder = Folder::new(&[("lamp.s", &lamp)]);
    folder.sotto(&["check", "lamp.s"]).assert().code(1);
    folder.sotto(&["check", "lamp.s", "--allow", "c101"]).assert().code(0);
    folder.write("kept.s", &lamp.replacen("        ret", "        ret     ;: allow C101", 1));
    folder.sotto(&["check", "kept.s"]).assert().code(0);
    let unknown = folder.sotto(&["check", "lamp.s", "--allow", "c999"]).output().unwrap();
    assert!(String::from_utf8_lossy(&unknown.stderr).contains("no finding has the code `c999`"));
    assert_eq!(unknown.status.code(), Some(2));
}

#[test]
fn routines_without_a_start_are_read_and_run_by_their_cases() {
    let double = " .target x86-64\n;: takes edi = depth: u32\n;: returns eax = twice\ndouble: lea eax, [rdi + rdi]\n ret\n";
    let lost = double.replace("lea", "mov ebx, 3\n lea");
    let cases = "[[case]]\narguments = [4]\nexpect = 8\n[[case]]\narguments = [5]\nexpect = 11\n";
    let folder = Folder::new(&[
        ("double.s", double),
        ("lost.s", &lost),
        ("double.toml", cases),
        ("other.toml", &format!("routine = \"double\"\n{cases}")),
        ("none.toml", cases),
    ]);
    let read = folder.transcript(&["check", "double.s"], "");
    assert!(read.contains("nothing found; not run: it has no `_start`"), "{read}");
    let run = folder.transcript(&["check", "double.s", "--cases", "double.toml"], "");
    assert!(run.contains("wrong: double, case 2: expected 11, and it is 10"), "{run}");
    assert!(
        run.contains("nothing found; 1 of 2 cases passed") && run.contains("status 1"),
        "{run}"
    );
    let lost = folder.transcript(&["check", "lost.s", "--cases", "other.toml"], "");
    assert_eq!(lost.matches("error[C107]").count(), 1, "{lost}");
    let none = folder.transcript(&["check", "double.s", "--cases", "none.toml"], "");
    assert!(none.contains("none.toml: no routine `none`"), "{none}");
}

#[test]
fn a_hint_makes_no_status_unless_it_is_asked_for() {
    let folder = Folder::new(&[("tide.s", &example("C601"))]);
    folder.sotto(&["check", "tide.s"]).assert().code(0);
    folder.sotto(&["check", "tide.s", "--deny", "hint"]).assert().code(1);
}

/// Compiled C programs, with their lines, are judged and are clean.
#[test]
fn compiled_programs_are_clean() {
    let compilers =
        [("cc", "-O1"), ("aarch64-linux-gnu-gcc", "-O1"), ("i686-linux-gnu-gcc", "-O0")];
    // Without floating point, which 32-bit code does in the x87 unit.
    let programs = ["lists", "sorting", "sieve", "crc", "queens", "strings", "text", "recursion"];
    let folder = Folder::new(&[("input", INPUT)]);
    for (compiler, level) in compilers {
        if !common::has(compiler) {
            continue;
        }
        for name in programs {
            let mut compile = std::process::Command::new(compiler);
            let source = data().join("c").join(format!("{name}.c"));
            let made = compile
                .args(["-g", level, "-w", "-static", "-o"])
                .args([&folder.path(name), &source, &PathBuf::from("-lm")])
                .output()
                .unwrap();
            assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
            let words = ["check", name, "--limit", "300000", "--stdin", "input"];
            let output = folder.sotto(&words).output().unwrap();
            let text = String::from_utf8_lossy(&output.stdout).into_owned();
            assert_eq!(output.status.code(), Some(0), "{compiler} {name}: {text}");
        }
    }
}
