//! `--with-c`: the system's C compiler links the files with the C library, and the program runs here.

mod common;

use common::{Folder, has};

const WATCH: &str = "\
        .target x86-64
        .global main
        .extern printf, keeper
        .data
format: .asciz  \"watch %d of %d: the lamp is lit\\n\"
        .text
main:   push    rbx
        mov     ebx, 1
.next:  lea     rdi, [format]
        mov     esi, ebx
        mov     edx, 3
        xor     eax, eax
        call    printf
        inc     ebx
        cmp     ebx, 3
        jbe     .next
        call    keeper
        pop     rbx
        ret
";

const KEEPER: &str = "\
#include <stdio.h>
int keeper(void) { puts(\"the keeper sleeps\"); return 4; }
";

fn folder() -> Folder {
    Folder::new(&[("watch.s", WATCH), ("keeper.c", KEEPER)])
}

#[test]
fn a_source_and_a_c_source_run_with_the_c_library() {
    if !has("cc") {
        return;
    }
    insta::assert_snapshot!(folder().transcript(&["run", "--with-c", "watch.s", "keeper.c"], ""), @r"
    watch 1 of 3: the lamp is lit
    watch 2 of 3: the lamp is lit
    watch 3 of 3: the lamp is lit
    the keeper sleeps
    --- status 4
    ");
}

#[test]
fn stepping_and_tracing_begin_at_main_and_show_the_source() {
    if !has("cc") {
        return;
    }
    let folder = folder();
    let mut traced =
        folder.sotto(&["trace", "--with-c", "watch.s", "keeper.c", "--to", "watch.s:9"]);
    let output = String::from_utf8(traced.unwrap().stdout).unwrap();
    let lines: Vec<&str> = output
        .lines()
        .map(|line| line.trim_start_matches(|c: char| c == ' ' || c.is_ascii_digit()))
        .collect();
    assert!(lines[0].starts_with("watch.s:7") && lines[0].contains("push rbx"), "{output}");
    assert!(lines[1].starts_with("watch.s:8") && lines[1].contains("ebx = 1"), "{output}");
    let mut stepped = folder.sotto(&["step", "--plain", "--with-c", "watch.s", "keeper.c"]);
    let output = stepped.write_stdin("until keeper\nquit\n").unwrap().stdout;
    let output = String::from_utf8(output).unwrap();
    assert!(output.contains("next  watch.s:7"), "{output}");
    assert!(output.contains("keeper.c:2"), "{output}");
}

#[test]
fn a_refusal_without_it_names_it() {
    let folder = folder();
    insta::assert_snapshot!(folder.transcript(&["run", "watch.s"], ""));
    folder.write("lamp.s", &WATCH.replace(", keeper", ""));
    insta::assert_snapshot!(folder.transcript(&["run", "lamp.s"], ""));
}

#[test]
fn what_is_missing_is_named_with_its_place() {
    if !has("cc") {
        return;
    }
    let folder = folder();
    insta::assert_snapshot!(folder.transcript(&["run", "--with-c", "watch.s"], ""));
    let mut command = folder.sotto(&["run", "--with-c", "watch.s", "keeper.c"]);
    let result = command.env("PATH", folder.path("nowhere")).unwrap_err();
    let output = result.as_output().unwrap();
    assert_eq!(output.status.code(), Some(125));
    insta::assert_snapshot!(String::from_utf8_lossy(&output.stderr));
}
