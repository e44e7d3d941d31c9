//! `sotto assemble`, and the programs it writes.

mod common;

use std::os::unix::fs::PermissionsExt;
use std::process::{Command, Stdio};

use common::{Folder, Program, demo, programs};

#[test]
fn programs_run_natively_with_the_output_and_status_they_have_under_the_emulator() {
    for Program { path, input, output, status, .. } in programs("x86-64") {
        let folder = Folder::new(&[("input", &input)]);
        let source = path.to_str().unwrap();
        folder.sotto(&["assemble", source, "-o", "program"]).assert().success();
        let native = Command::new(folder.path("program"))
            .stdin(Stdio::from(std::fs::File::open(folder.path("input")).unwrap()))
            .output()
            .unwrap();
        assert_eq!(String::from_utf8_lossy(&native.stdout), output, "{source}");
        assert_eq!(native.status.code(), Some(status), "{source}");
        for file in [source, "program"] {
            let run = folder.sotto(&["run", file]).write_stdin(input.clone()).output().unwrap();
            assert_eq!(String::from_utf8_lossy(&run.stdout), output, "run {file}");
            assert_eq!(run.status.code(), Some(status), "run {file}");
        }
    }
}

#[test]
fn arm64_programs_assemble_to_elf_and_run_from_it() {
    for Program { path, input, output, status, .. } in programs("arm64") {
        let folder = Folder::new(&[]);
        folder.sotto(&["assemble", path.to_str().unwrap(), "-o", "program"]).assert().success();
        let bytes = std::fs::read(folder.path("program")).unwrap();
        assert_eq!(bytes[18..20], [183, 0], "e_machine is EM_AARCH64");
        let run = folder.sotto(&["run", "program"]).write_stdin(input).output().unwrap();
        assert_eq!(String::from_utf8_lossy(&run.stdout), output);
        assert_eq!(run.status.code(), Some(status));
    }
}

#[test]
fn the_output_is_named_after_the_first_source_and_may_be_executed() {
    let folder = Folder::new(&[("lamp.s", &demo("lamp.s"))]);
    insta::assert_snapshot!(folder.transcript(&["assemble", "lamp.s"], ""), @r"
    lamp: x86-64 program, 33 bytes of code, 9 of data
    --- status 0
    ");
    let mode = std::fs::metadata(folder.path("lamp")).unwrap().permissions().mode();
    assert_eq!(mode & 0o100, 0o100);
    // The same source gives the same bytes.
    let first = std::fs::read(folder.path("lamp")).unwrap();
    folder.sotto(&["assemble", "lamp.s", "-o", "again"]).assert().success();
    assert_eq!(first, std::fs::read(folder.path("again")).unwrap());
}

#[test]
fn an_error_touches_no_output_file() {
    let folder = Folder::new(&[
        ("lamp.s", " .target x86-64\n .global _start\n_start: moov eax, 1\n add al, 256\n"),
        ("lamp", "the old one"),
    ]);
    insta::assert_snapshot!(folder.transcript(&["assemble", "lamp.s"], ""), @r"
    --- standard error
    error[A101]: no instruction `moov` on x86-64
     --> lamp.s:3:9
      |
    3 | _start: moov eax, 1
      |         ^^^^
      |
      = help: did you mean `mov`?

    error[A108]: 256 does not fit; the field holds -128 to 255
     --> lamp.s:4:10
      |
    4 |  add al, 256
      |          ^^^ must be -128 to 255
    --- status 2
    ");
    assert_eq!(std::fs::read_to_string(folder.path("lamp")).unwrap(), "the old one");
    let names: Vec<_> =
        std::fs::read_dir(folder.path("")).unwrap().map(|e| e.unwrap().file_name()).collect();
    assert_eq!(names.len(), 2, "nothing is left behind: {names:?}");
}

#[test]
fn links_stay_and_what_is_open_already_is_written_to() {
    let folder = Folder::new(&[("lamp.s", &demo("lamp.s"))]);
    std::fs::create_dir(folder.path("charts")).unwrap();
    folder.write("charts/old.map", "old");
    let link = |name: &str, to: &str| std::os::unix::fs::symlink(to, folder.path(name)).unwrap();
    let map_to = |name: &str| folder.sotto(&["assemble", "lamp.s", "--map", name]);
    for (name, to) in [("known.map", "charts/old.map"), ("new.map", "charts/new.map")] {
        link(name, to);
        map_to(name).assert().success();
        assert!(folder.path(name).symlink_metadata().unwrap().is_symlink());
        let map = std::fs::read_to_string(folder.path(to)).unwrap();
        assert!(map.starts_with("lamp: x86-64 program, starts at"), "{map}");
    }
    link("round", "about");
    link("about", "round");
    let stderr = map_to("round").assert().code(2).get_output().stderr.clone();
    let stderr = String::from_utf8(stderr).unwrap();
    assert!(stderr.contains("cannot write round: Too many levels of symbolic links"), "{stderr}");

    // To a pipe, and to a file that the shell opened: the map, then what is always said.
    let map = std::fs::read_to_string(folder.path("charts/new.map")).unwrap();
    let both = |text: &str| {
        assert!(text.starts_with(&map), "{text}");
        assert!(text.ends_with("lamp: x86-64 program, 33 bytes of code, 9 of data\n"), "{text}");
    };
    for name in ["/dev/stdout", "/dev/fd/1", "/proc/self/fd/1"] {
        let output = map_to(name).output().unwrap();
        both(&String::from_utf8_lossy(&output.stdout));
        let file = std::fs::File::create(folder.path("log")).unwrap();
        let mut command = Command::new(assert_cmd::cargo::cargo_bin("sotto"));
        command.args(["assemble", "lamp.s", "--map", name]).current_dir(folder.path(""));
        assert!(command.stdout(file).status().unwrap().success());
        both(&std::fs::read_to_string(folder.path("log")).unwrap());
    }
    assert!(std::path::Path::new("/dev/stdout").symlink_metadata().unwrap().is_symlink());
}

#[test]
fn errors_as_data_carry_code_place_and_remedy() {
    let folder = Folder::new(&[("lamp.s", " .target x86-64\n moov eax, 1\n")]);
    let output = folder.sotto(&["assemble", "lamp.s", "--json"]).output().unwrap();
    let first = String::from_utf8_lossy(&output.stderr).lines().next().unwrap().to_string();
    let value: serde_json::Value = serde_json::from_str(&first).unwrap();
    assert_eq!(value["code"], "A101");
    assert_eq!(value["place"]["line"], 2);
    assert_eq!(value["place"]["column"], 2);
    assert_eq!(value["replacement"], "mov");
}

#[test]
fn several_sources_link_together_and_what_is_missing_is_named_with_its_places() {
    let main = " .target x86-64\n .global _start\n .extern horn\n_start: call horn\n mov edi, eax\n mov eax, 60\n syscall\n";
    let horn = " .target x86-64\n .global horn\nhorn: mov eax, 7\n ret\n";
    let folder = Folder::new(&[("fog.s", main), ("horn.s", horn)]);
    folder.sotto(&["run", "fog.s", "horn.s"]).assert().code(7);
    insta::assert_snapshot!(folder.transcript(&["assemble", "fog.s"], ""), @r"
    --- standard error
    error[L201]: no symbol `horn`
     |
     = note: needed at fog.s:4
     = help: define it in one of the files and make it `.global horn`
    --- status 2
    ");
    folder.write("twice.s", &horn.replace('7', "8"));
    let transcript = folder.transcript(&["assemble", "fog.s", "horn.s", "twice.s"], "");
    assert!(transcript.contains("`horn` is defined twice"), "{transcript}");
    assert!(transcript.contains("at horn.s:3 and at twice.s:3"), "{transcript}");
}

#[test]
fn bad_arguments_and_files_are_named() {
    let folder = Folder::new(&[("lamp.s", &demo("lamp.s")), ("picture", "\u{0}")]);
    std::fs::write(folder.path("bytes.s"), [b'n', b'o', b'p', b'\n', 0xff, 0xfe]).unwrap();
    let cases: &[(&[&str], i32, &str)] = &[
        (&["assemble", "none.s"], 2, "cannot read none.s"),
        (&["assemble", "bytes.s"], 2, "bytes.s:2: this is neither UTF-8 text nor an ELF file"),
        (&["assemble", "lamp.s", "-o", "lamp.s"], 2, "one of the inputs"),
        (&["assemble", "lamp.s", "-o", "no/such/folder"], 2, "cannot write no/such/folder"),
        (&["assemble", "lamp.s", "-o", "."], 2, "cannot write ."),
        (&["assemble", "lamp.s", "--target", "pdp"], 2, "the targets are x86-64, x86-32 and arm64"),
        (&["assemble", "lamp.s", "--target", "arm64"], 2, "this source is for x86-64"),
        (&["assemble"], 2, "required"),
        (&["run", "none.s"], 125, "cannot read none.s"),
        (&["run"], 125, "required"),
        (&["run", "lamp.s", "--limit", "soon"], 125, "soon"),
        (&["run", "lamp.s", "--entry", "lamp"], 125, "no entry symbol `lamp`"),
    ];
    for (words, status, message) in cases {
        let output = folder.sotto(words).output().unwrap();
        let err = String::from_utf8_lossy(&output.stderr);
        assert_eq!(output.status.code(), Some(*status), "{words:?}: {err}");
        assert!(err.contains(message), "{words:?}: {err}");
    }
}
