//! `sotto run`: what passes through, and what is reported.

mod common;

use std::io::Read;
use std::process::{Command, Stdio};

use common::{Folder, demo};

fn x86(body: &str) -> Folder {
    let text = format!("        .target x86-64\n        .global _start\n_start:\n{body}");
    Folder::new(&[("lamp.s", &text)])
}

#[test]
fn output_and_status_pass_through() {
    let folder = Folder::new(&[("lamp.s", &demo("lamp.s")), ("tide.s", &demo("tide.s"))]);
    folder.sotto(&["run", "lamp.s"]).assert().success().stdout("lamp lit\n").stderr("");
    folder.sotto(&["run", "tide.s"]).assert().code(11).stdout("");
    let folder = Folder::new(&[("lamp.s", &demo("lamp_arm64.s"))]);
    folder.sotto(&["run", "lamp.s"]).assert().success().stdout("lamp lit\n".repeat(3));
}

#[test]
fn the_target_is_said_when_it_was_inferred() {
    let folder = Folder::new(&[("lamp.s", " .global _start\n_start: mov x8, #93\n svc #0\n")]);
    insta::assert_snapshot!(folder.transcript(&["run", "lamp.s"], ""), @r"
    --- standard error
    note: lamp.s: assembling for arm64, since line 2 names `x8`
    --- status 0
    ");
}

#[test]
fn arguments_reach_the_program() {
    // The exit status is the number of arguments, the program's name among them.
    let folder = x86("        mov edi, [rsp]\n        mov eax, 60\n        syscall\n");
    folder.sotto(&["run", "lamp.s", "--", "north", "--south", ""]).assert().code(4);
}

#[test]
fn input_comes_from_a_file_or_from_our_own() {
    let program = common::programs("x86-64").into_iter().find(|p| !p.input.is_empty()).unwrap();
    let common::Program { path, input, output, status, .. } = program;
    let folder = Folder::new(&[("log", &input)]);
    let path = path.to_str().unwrap();
    folder.sotto(&["run", path, "--stdin", "log"]).assert().code(status).stdout(output.clone());
    folder.sotto(&["run", path]).write_stdin(input).assert().code(status).stdout(output);
}

#[test]
fn running_off_the_end_is_said_with_the_exit_call_to_add() {
    let folder = x86("        mov eax, 1\n        mov edi, 2\n");
    insta::assert_snapshot!(folder.transcript(&["run", "lamp.s"], ""), @r"
    --- standard error
    fault: the program ran off the end of its code (SIGSEGV)
      after lamp.s:5  _start + 5  mov edi, 2
      help: end it with an exit call:
          mov eax, 60    ; exit
          xor edi, edi   ; status 0
          syscall
    --- status 139
    ");
}

#[test]
fn a_bad_address_is_said_with_the_nearest_symbol_and_the_registers_that_formed_it() {
    let text = "        .target x86-64\n        .global _start\n        .bss\nlog:    .skip 16\n        .text\n_start: lea rbx, [log]\n        mov ecx, 600\n        mov eax, [rbx + rcx*8 + 4]\n";
    let folder = Folder::new(&[("log.s", text)]);
    insta::assert_snapshot!(folder.transcript(&["run", "log.s"], ""), @r"
    --- standard error
    fault: tried to read 0x4032c4, where there is nothing (SIGSEGV)
      at log.s:8  _start + 12  mov eax, [rbx + rcx*8 + 4]
      0x4032c4 is 4788 bytes past the end of `log`
      rbx = 0x402000, rcx = 0x258 (600)
    --- status 139
    ");
}

#[test]
fn divisions_invalid_instructions_and_stray_returns_have_their_signals() {
    for (body, status, message) in [
        ("        xor ecx, ecx\n        div ecx\n", 136, "division by zero"),
        ("        ud2\n", 132, "invalid on purpose"),
        ("        mov eax, 5\n        ret\n", 139, "returned to 0x1"),
        ("        int3\n", 133, "breakpoint"),
    ] {
        let output = x86(body).sotto(&["run", "lamp.s"]).output().unwrap();
        let err = String::from_utf8_lossy(&output.stderr);
        assert_eq!(output.status.code(), Some(status), "{err}");
        assert!(err.contains(message), "{err}");
    }
}

#[test]
fn faults_of_vectors_and_of_what_is_the_kernels_say_what_to_do() {
    let programs = [
        "        lea rdi, [rsp + 4]\n        movaps xmm0, [rdi]\n",
        "        push 0\n        ldmxcsr [rsp]\n        mov eax, 3\n        cvtsi2sd xmm1, eax\n        divsd xmm0, xmm1\n        divsd xmm1, xmm0\n",
        "        cli\n",
        "        mov eax, 5\n        mov ds, eax\n",
        "        mov edi, 1000\n        mov esi, 6\n        mov eax, 62\n        syscall\n",
    ];
    let transcripts = programs.map(|program| x86(program).transcript(&["run", "lamp.s"], ""));
    insta::assert_snapshot!(transcripts.join("\n\n"));
}

#[test]
fn a_program_linked_with_the_whole_c_library_runs() {
    let folder = Folder::new(&[(
        "tide.c",
        "#include <stdio.h>\nint main(int n, char **v) { printf(\"%s %.2f\\n\", v[n - 1], 2.5 * n); return n; }\n",
    )]);
    let compiled = Command::new("cc")
        .args(["-O1", "-static", "-o", "tide", "tide.c"])
        .current_dir(folder.path("."))
        .status();
    if compiled.is_err() {
        assert!(std::env::var_os("CI").is_none(), "cc must be installed in CI");
        return eprintln!("skipped: cc is not installed");
    }
    let run = folder.sotto(&["run", "tide", "--", "ebb"]).assert();
    run.code(2).stdout("ebb 5.00\n").stderr("");
}

#[test]
fn suspicious_system_calls_are_noticed() {
    let folder = x86(
        "        mov eax, 4\n        syscall\n        mov eax, 1\n        xor edi, edi\n        syscall\n        mov eax, 60\n        syscall\n",
    );
    insta::assert_snapshot!(folder.transcript(&["run", "lamp.s"], ""), @r"
    --- standard error
    notice: `stat` returned EFAULT; 4 is `write` on 32-bit x86; on x86-64 `write` is 1
    notice: `write` to 0, which is standard input; standard output is 1, standard error is 2
    --- status 0
    ");
}

#[test]
fn a_limit_stops_a_runaway_program_where_it_is() {
    let folder = x86(".again: jmp .again\n");
    insta::assert_snapshot!(folder.transcript(&["run", "lamp.s", "--limit", "12345"], ""), @r"
    --- standard error
    stopped: at the limit that was set, after 12 345 instructions
      at lamp.s:4  _start  .again: jmp .again
    --- status 124
    ");
}

#[test]
fn an_interrupt_stops_a_run_with_a_report() {
    let folder = x86(
        "        mov eax, 1\n        mov edi, 1\n        lea rsi, [_start]\n        mov edx, 1\n        syscall\n.again: jmp .again\n",
    );
    let mut child = Command::new(assert_cmd::cargo::cargo_bin("sotto"))
        .current_dir(folder.path(""))
        .args(["run", "lamp.s"])
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let pid = nix::unistd::Pid::from_raw(child.id() as i32);
    // It runs when it has written something.
    let mut first = [0];
    child.stdout.as_mut().unwrap().read_exact(&mut first).unwrap();
    nix::sys::signal::kill(pid, nix::sys::signal::Signal::SIGINT).unwrap();
    let output = child.wait_with_output().unwrap();
    let err = String::from_utf8_lossy(&output.stderr);
    assert_eq!(output.status.code(), Some(130), "{err}");
    assert!(err.contains("stopped: interrupted, after"), "{err}");
    assert!(err.contains("lamp.s:9"), "{err}");
}

#[test]
fn faults_as_data_carry_the_same_report() {
    let folder = x86("        mov rax, [8]\n");
    let output = folder.sotto(&["run", "lamp.s", "--json"]).output().unwrap();
    let value: serde_json::Value = serde_json::from_slice(&output.stderr).unwrap();
    assert_eq!(value["fault"]["signal"], "SIGSEGV");
    assert_eq!(value["fault"]["place"]["address"], "0x401000");
    assert_eq!(value["fault"]["place"]["line"], 4);
    assert_eq!(output.status.code(), Some(139));
}

#[test]
fn hostile_files_are_refused_by_name() {
    let folder = Folder::new(&[("lamp.s", &demo("lamp.s"))]);
    folder.sotto(&["assemble", "lamp.s"]).assert().success();
    let good = std::fs::read(folder.path("lamp")).unwrap();
    for (name, change) in [
        ("cut", good[..100].to_vec()),
        ("machine", {
            let mut b = good.clone();
            b[18] = 8;
            b
        }),
        ("offset", {
            let mut b = good.clone();
            b[64 + 15] = 0xff;
            b
        }),
        ("only_magic", b"\x7fELF".to_vec()),
    ] {
        std::fs::write(folder.path(name), change).unwrap();
        let output = folder.sotto(&["run", name]).output().unwrap();
        let err = String::from_utf8_lossy(&output.stderr);
        assert_eq!(output.status.code(), Some(125), "{err}");
        assert!(err.starts_with(&format!("error: {name}: ")), "{err}");
    }
}

#[test]
fn the_address_of_data_where_its_contents_were_meant_is_named() {
    let data = "        .data\ncount:  .long 5\ntext:   .ascii \"lamp\\n\"\n        .text\n";
    let body = "        mov edx, count\n        mov eax, 1\n        mov edi, 1\n        mov rsi, text\n        syscall\n        mov eax, 60\n        mov edi, count\n        syscall\n";
    let folder = x86(&format!("{data}{body}"));
    let run = folder.transcript(&["run", "lamp.s"], "");
    assert!(
        run.contains("; count is the address of `count`, and the contents are `[count]`"),
        "{run}"
    );
    let traced = folder.transcript(&["trace", "--syscalls", "lamp.s"], "");
    assert!(traced.contains("the status of `exit` is the address of `count`"), "{traced}");
}
