//! `sotto demo`, `sotto explain` and `sotto --help`.

mod common;

use common::{Folder, demo};

#[test]
fn the_demo_writes_the_programs_and_shows_what_to_type_next() {
    let folder = Folder::new(&[]);
    insta::assert_snapshot!(folder.transcript(&["demo"], ""));
    for name in ["lamp.s", "tide.s", "flash.s", "lamp_arm64.s"] {
        let written = std::fs::read_to_string(folder.path("skerry").join(name)).unwrap();
        assert_eq!(written, demo(name));
    }
    // What somebody changed is kept.
    std::fs::write(folder.path("skerry/tide.s"), demo("tide.s").replace("20", "28")).unwrap();
    let transcript = folder.transcript(&["demo"], "");
    assert!(transcript.contains("kept as you changed it"), "{transcript}");
    assert!(transcript.contains("exit status 12"), "{transcript}");
}

#[test]
fn explanations_come_from_the_tables() {
    let folder = Folder::new(&[]);
    insta::assert_snapshot!(folder.transcript(&["explain", "adc", "--target", "x86-64"], ""));
    insta::assert_snapshot!(folder.transcript(&["explain", "write"], ""));
    insta::assert_snapshot!(folder.transcript(&["explain", "subs"], ""));
    insta::assert_snapshot!(folder.transcript(&["explain", "edi"], ""));
    insta::assert_snapshot!(folder.transcript(&["explain", "convention"], ""));
    insta::assert_snapshot!(folder.transcript(&["explain", "c105"], ""));
    let transcript = folder.transcript(&["explain", "60"], "");
    assert!(transcript.contains("60 is `exit` on x86-64"), "{transcript}");
    let transcript = folder.transcript(&["explain", "cf"], "");
    assert!(transcript.contains("carry"), "{transcript}");
    let transcript = folder.transcript(&["explain", "rep"], "");
    assert!(transcript.contains("RCX times (ECX in 32-bit mode)"), "{transcript}");
    insta::assert_snapshot!(folder.transcript(&["explain", "addd"], ""), @r"
    --- standard error
    error: nothing known about `addd`
      help: did you mean `add`?
    --- status 2
    ");
}

#[test]
fn every_mnemonic_can_be_explained_as_data() {
    let folder = Folder::new(&[]);
    for name in
        ["mov", "jnz", "sal", "movsxd", "b.hs", "ldp", "exit_group", "rax", "xzr", "zf", "n"]
    {
        let output = folder.sotto(&["explain", name, "--json"]).output().unwrap();
        assert!(output.status.success(), "{name}");
        for line in String::from_utf8(output.stdout).unwrap().lines() {
            let value: serde_json::Value = serde_json::from_str(line).unwrap();
            assert!(value["kind"].is_string(), "{name}");
        }
    }
}

#[test]
fn help_names_the_commands() {
    let folder = Folder::new(&[]);
    insta::assert_snapshot!(folder.transcript(&["--help"], ""));
}
