//! `sotto trace`: every instruction, only system calls, or chosen values at chosen places.

mod common;

use common::{Folder, demo};

fn folder() -> Folder {
    Folder::new(&[
        ("tide.s", &demo("tide.s")),
        ("flash.s", &demo("flash.s")),
        ("board.s", &demo("lamp_arm64.s")),
    ])
}

#[test]
fn every_instruction_has_a_line_with_what_it_changed() {
    insta::assert_snapshot!(folder().transcript(&["trace", "tide.s", "--limit", "14"], ""));
    insta::assert_snapshot!(
        folder().transcript(&["trace", "board.s", "--from", "flash", "--to", "again"], "")
    );
}

#[test]
fn only_system_calls() {
    insta::assert_snapshot!(folder().transcript(&["trace", "board.s", "--syscalls"], ""));
}

#[test]
fn only_chosen_values_at_chosen_places() {
    let words = [
        "trace",
        "tide.s",
        "--at",
        "19",
        "--show",
        "ecx,eax,byte [reading + rcx]",
        "--limit",
        "22",
    ];
    insta::assert_snapshot!(folder().transcript(&words, ""));
}

#[test]
fn findings_stand_below_the_line_that_they_are_about() {
    let folder = Folder::new(&[("lamp.s", sotto_check::Kind::LostInCall.info().example)]);
    let whole = folder.transcript(&["trace", "lamp.s"], "");
    insta::assert_snapshot!(whole);
    let data = folder.transcript(&["trace", "lamp.s", "--json"], "");
    let finding = data.lines().find(|line| line.starts_with("{\"finding\"")).unwrap();
    let finding: serde_json::Value = serde_json::from_str(finding).unwrap();
    assert_eq!(finding["finding"]["code"], "C105");
    // What comes before the trace is looked at too.
    assert!(folder.transcript(&["trace", "lamp.s", "--from", "11"], "").contains("C105"));
    assert!(!folder.transcript(&["trace", "lamp.s", "--no-check"], "").contains("C105"));
}

#[test]
fn faults_end_a_trace_with_a_report_and_status_1() {
    let text = " .target x86-64\n .global _start\n_start: mov eax, 5\n mov rbx, [rax]\n";
    let folder = Folder::new(&[("fog.s", text)]);
    insta::assert_snapshot!(folder.transcript(&["trace", "fog.s"], ""));
}

#[test]
fn traces_as_data_are_one_object_a_line() {
    let output = folder()
        .sotto(&["trace", "tide.s", "--json", "--show", "ecx", "--limit", "5"])
        .output()
        .unwrap();
    let lines: Vec<serde_json::Value> = String::from_utf8(output.stdout)
        .unwrap()
        .lines()
        .map(|line| serde_json::from_str(line).unwrap())
        .collect();
    assert_eq!(lines.len(), 5);
    assert_eq!(lines[4]["shown"]["ecx"], "0");
    assert_eq!(lines[4]["registers"][0]["new"], "0x1");
}

#[test]
fn a_reader_that_has_seen_enough_ends_a_trace_without_a_word() {
    use std::process::{Command, Stdio};
    let folder = folder();
    // The reader is gone before the first line is written.
    let (reader, writer) = std::io::pipe().unwrap();
    drop(reader);
    let child = Command::new(assert_cmd::cargo::cargo_bin("sotto"))
        .args(["trace", "tide.s"])
        .current_dir(folder.path("."))
        .stdout(writer)
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let output = child.wait_with_output().unwrap();
    assert_eq!(output.status.code(), Some(141));
    assert_eq!(String::from_utf8_lossy(&output.stderr), "");
}

#[test]
fn input_passes_on_and_mistakes_are_told_before_anything_runs() {
    let common::Program { path, input, .. } =
        common::programs("arm64").into_iter().find(|p| !p.input.is_empty()).unwrap();
    let folder = folder();
    let words = ["trace", path.to_str().unwrap(), "--syscalls"];
    let transcript = folder.transcript(&words, &input);
    assert!(transcript.contains("buf = line \"fog at four\\n\""), "{transcript}");
    assert!(transcript.contains("buf = line \"FOG AT FOUR\\n\""), "{transcript}");
    for (words, message) in [
        (["trace", "tide.s", "--from", "tyde"], "no symbol `tyde`"),
        (["trace", "tide.s", "--at", "999"], "no code at 999"),
        (["trace", "tide.s", "--show", "readnig"], "did you mean `reading`?"),
    ] {
        let output = folder.sotto(&words).output().unwrap();
        let err = String::from_utf8_lossy(&output.stderr);
        assert_eq!(output.status.code(), Some(2), "{err}");
        assert!(err.contains(message), "{err}");
        assert!(output.stdout.is_empty());
    }
}

/// The program runs from stop to stop, and what is printed is what stepping would have printed.
#[test]
fn lines_at_stops_are_those_of_a_whole_trace() {
    let folder = folder();
    let trace = |words: &[&str]| folder.transcript(&[&["trace", "flash.s"], words].concat(), "");
    let whole = trace(&[]);
    let at = trace(&["--at", "lit_seconds,29"]);
    let lines: Vec<&str> =
        whole.lines().filter(|l| l.contains("flash.s:41 ") || l.contains("flash.s:29 ")).collect();
    assert_eq!(at.lines().take(lines.len()).collect::<Vec<_>>(), lines);
    let calls = trace(&["--syscalls"]);
    let lines: Vec<&str> = whole.lines().filter_map(|l| l.split("syscall  ").nth(1)).collect();
    for (line, call) in lines.iter().zip(calls.lines()) {
        assert!(line.contains(call.split(" -> ").next().unwrap()), "{line}\n{call}");
    }
    // Values are those that an instruction finds, before system calls too.
    let shown = trace(&["--syscalls", "--show", "rax"]);
    assert!(shown.lines().next().unwrap().ends_with("rax = 1"), "{shown}");
    // A limit counts from where the trace begins.
    let limited = trace(&["--from", "lit_seconds", "--limit", "3"]);
    assert_eq!(limited.lines().count(), 4, "{limited}");
}
