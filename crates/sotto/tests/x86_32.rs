//! 32-bit programs through every command.

mod common;

use common::{Folder, Program, demo, programs};

fn folder() -> Folder {
    Folder::new(&[("bell.s", &demo("bell.s"))])
}

#[test]
fn programs_run_natively_with_the_output_and_status_they_have_under_the_emulator() {
    for Program { path, input, output, status, .. } in programs("x86-32") {
        let folder = Folder::new(&[]);
        let source = path.to_str().unwrap();
        let run = folder.sotto(&["run", source]).write_stdin(input.clone()).output().unwrap();
        assert_eq!(
            (run.status.code(), String::from_utf8_lossy(&run.stdout).as_ref()),
            (Some(status), &*output)
        );
        folder.sotto(&["assemble", source, "-o", "bell"]).assert().success();
        let native =
            assert_cmd::Command::new(folder.path("bell")).write_stdin(input).output().unwrap();
        assert_eq!(native.status.code(), Some(status), "{source}");
        assert_eq!(String::from_utf8_lossy(&native.stdout), output, "{source}");
        // The file is run as the source was.
        let run = folder.sotto(&["run", "bell"]).output().unwrap();
        assert!(run.status.code().is_some());
    }
}

#[test]
fn the_bell_is_traced_and_stepped() {
    insta::assert_snapshot!(folder().transcript(&["trace", "bell.s"], ""));
    let words = ["step", "bell.s", "--plain"];
    let script = "until rings\nstep 3\nstack\nregisters\nshow [esp + 8]\nwho eax\nquit\n";
    insta::assert_snapshot!(folder().transcript(&words, script));
}

#[test]
fn the_listing_has_addresses_of_32_bits_and_the_machine_is_inferred_with_a_note() {
    let text = "        .global _start\n_start: mov eax, 1\n        mov ebx, [tide]\n        int 0x80\n        .data\ntide:   dd 7\n";
    let folder = Folder::new(&[("tide.s", text)]);
    insta::assert_snapshot!(folder.transcript(&["assemble", "tide.s", "--listing", "-"], ""));
    insta::assert_snapshot!(folder.transcript(&["run", "tide.s"], ""));
}

#[test]
fn faults_of_the_mode_are_explained() {
    let run = |body: &str| {
        let text = format!(
            "        .target x86-32\n        .global _start\n_start: nop\n        {body}\n"
        );
        Folder::new(&[("fog.s", &text)]).transcript(&["run", "fog.s"], "")
    };
    let bodies = [
        "mov eax, fs:[4]",
        "mov cs:[_start], eax",
        "mov al, 100\n        add al, al\n        into",
        "jmpf 0x33, _start",
        "mov eax, 60\n        int 0x80\n        ret",
        "mov eax, 1",
    ];
    insta::assert_snapshot!(bodies.map(run).join("\n\n"));
}

#[test]
fn explanations_of_one_mode_or_of_both() {
    let explain = |words: &[&str]| folder().transcript(&[&["explain"], words].concat(), "");
    let texts = [
        explain(&["push"]),
        explain(&["loop"]),
        explain(&["pusha"]),
        explain(&["esi", "--target", "x86-32"]),
        explain(&["set_thread_area"]),
    ];
    insta::assert_snapshot!(texts.join("\n\n"));
}
