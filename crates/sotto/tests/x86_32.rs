//! 32-bit programs through every command.

mod common;

use common::{Folder, Program, demo, kernel_runs_32_bit, programs};

fn folder() -> Folder {
    Folder::new(&[("bell.s", &demo("bell.s"))])
}

#[test]
fn programs_run_natively_with_the_output_and_status_they_have_under_the_emulator() {
    let natively = kernel_runs_32_bit();
    for Program { path, input, output, status, .. } in programs("x86-32") {
        let folder = Folder::new(&[]);
        let source = path.to_str().unwrap();
        let run = folder.sotto(&["run", source]).write_stdin(input.clone()).output().unwrap();
        assert_eq!(
            (run.status.code(), String::from_utf8_lossy(&run.stdout).as_ref()),
            (Some(status), &*output)
        );
        folder.sotto(&["assemble", source, "-o", "bell"]).assert().success();
        // The file is run as the source was.
        let run = folder.sotto(&["run", "bell"]).write_stdin(input.clone()).output().unwrap();
        assert_eq!(run.status.code(), Some(status), "{source}");
        if !natively {
            continue;
        }
        let native =
            assert_cmd::Command::new(folder.path("bell")).write_stdin(input).output().unwrap();
        assert_eq!(native.status.code(), Some(status), "{source}");
        assert_eq!(String::from_utf8_lossy(&native.stdout), output, "{source}");
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
    folder.sotto(&["assemble", "tide.s", "--listing", "tide.lst"]).assert().success();
    insta::assert_snapshot!(std::fs::read_to_string(folder.path("tide.lst")).unwrap());
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

/// Code at fixed addresses, and code that finds its data through the table of addresses and by routines of
/// which every object brings a copy.
#[test]
fn a_compilers_objects_are_linked_and_run() {
    let compiler = "i686-linux-gnu-gcc";
    if !common::has(compiler) {
        return;
    }
    let watch = "        .target x86-32\n        .global _start, bells\n        .extern rings, turns\n        .data\nbells:  dd 10\ntide:   dd 1, 2, 3\n        .text\n_start: push 3\n        push tide\n        call rings\n        push eax\n        call turns\n        mov ebx, eax\n        mov eax, 1\n        int 0x80\n";
    let rings = "static int log_[4] = {1, 2, 3, 4};\nint shared = 5;\nextern int bells;\nint rings(int *tide, int n) {\n  int sum = shared + bells;\n  for (int i = 0; i < n; i++) sum += tide[i] + log_[i & 3];\n  switch (n) { case 1: return sum; case 2: return sum + 1; case 3: return sum * 2;\n    case 4: return sum ^ 1; case 5: return 9; default: return sum - 1; }\n}\n";
    let turns = "extern int shared;\nint turns(int n) { return n + shared; }\n";
    let folder = Folder::new(&[("watch.s", watch), ("rings.c", rings), ("turns.c", turns)]);
    for flags in [&["-fno-pic", "-O2"][..], &["-fPIC", "-O2"], &["-fPIE", "-O0"]] {
        for name in ["rings", "turns"] {
            let (source, object) =
                (folder.path(&format!("{name}.c")), folder.path(&format!("{name}.o")));
            let mut compile = std::process::Command::new(compiler);
            let done = compile.args(flags).arg("-c").arg(source).arg("-o").arg(object).status();
            assert!(done.unwrap().success());
        }
        let files = ["watch.s", "rings.o", "turns.o"];
        folder.sotto(&[&["link"], &files[..], &["-o", "watch"]].concat()).assert().success();
        // (5 + 10 + 1 + 2 + 3 + 1 + 2 + 3) * 2 + 5
        folder.sotto(&["run", "watch"]).assert().code(59);
        if kernel_runs_32_bit() {
            let native = std::process::Command::new(folder.path("watch")).status().unwrap();
            assert_eq!(native.code(), Some(59), "{flags:?}");
        }
    }
}
