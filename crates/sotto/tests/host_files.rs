//! `--files`: what a program finds of folders of this computer, and what is written back.

mod common;

use common::Folder;

/// Copies `log` to `out`, takes `old` away, makes the directory `new`, and reads through the link `way`.
const COPY: &str = ".target x86-64
        .global _start
        .rodata
log:    .string \"log\"
out:    .string \"out\"
old:    .string \"old\"
new:    .string \"new\"
way:    .string \"way\"
        .bss
buffer: .skip 4096
        .text
_start: lea rdi, [log]
        call read
        mov r12d, eax
        mov eax, 2
        lea rdi, [out]
        mov esi, 0o1101
        mov edx, 0o640
        syscall
        mov edi, eax
        mov eax, 1
        lea rsi, [buffer]
        mov edx, r12d
        syscall
        mov eax, 87
        lea rdi, [old]
        syscall
        mov eax, 83
        lea rdi, [new]
        mov esi, 0o755
        syscall
        lea rdi, [way]
        call read
        mov edi, eax
        neg edi
        mov eax, 60
        syscall
read:   mov eax, 2
        xor esi, esi
        syscall
        mov edi, eax
        lea rsi, [buffer]
        mov edx, 4096
        xor eax, eax
        syscall
        ret
";

fn folder() -> Folder {
    let folder = Folder::new(&[("copy.s", COPY)]);
    std::fs::create_dir(folder.path("data")).unwrap();
    folder.write("data/log", "02:40 fog\n");
    folder.write("data/old", "x");
    std::fs::write(folder.path("secret"), "the keeper's\n").unwrap();
    std::os::unix::fs::symlink("../secret", folder.path("data/way")).unwrap();
    folder
}

fn text(folder: &Folder, name: &str) -> Option<String> {
    std::fs::read_to_string(folder.path(name)).ok()
}

#[test]
fn what_a_program_writes_stays_in_memory_unless_it_is_asked_for() {
    let folder = folder();
    // The link leads to nothing: reading from a descriptor that is none is EBADF, 9.
    folder.sotto(&["run", "copy.s", "--files", "data"]).assert().code(9);
    assert_eq!(text(&folder, "data/out"), None);
    assert_eq!(text(&folder, "data/old").as_deref(), Some("x"));
    folder.sotto(&["run", "copy.s", "--files", "data:rw"]).assert().code(9);
    assert_eq!(text(&folder, "data/out").as_deref(), Some("02:40 fog\n"));
    assert_eq!(text(&folder, "data/old"), None);
    assert!(folder.path("data/new").is_dir());
    assert_eq!(text(&folder, "secret").as_deref(), Some("the keeper's\n"));
    let mode = std::os::unix::fs::PermissionsExt::mode(
        &std::fs::metadata(folder.path("data/out")).unwrap().permissions(),
    );
    assert_eq!(mode & 0o777, 0o640);
    // Nothing else was left behind.
    let mut names: Vec<_> = std::fs::read_dir(folder.path("data"))
        .unwrap()
        .map(|entry| entry.unwrap().file_name().into_string().unwrap())
        .collect();
    names.sort();
    assert_eq!(names, ["log", "new", "out", "way"]);
}

#[test]
fn a_folder_is_found_where_it_is_asked_for_and_going_back_reads_the_same() {
    let folder = folder();
    let program = COPY.replace("\"log\"", "\"/station/log\"");
    std::fs::write(folder.path("copy.s"), program).unwrap();
    let script = "until 14\nback\nstep\nshow eax\n";
    let transcript = folder.transcript(&["step", "copy.s", "--files", "data=/station"], script);
    assert!(transcript.contains("eax = 0xa (10"), "{transcript}");
}

#[test]
fn folders_that_cannot_be_had_are_refused() {
    let folder = folder();
    let said = |arguments: &[&str]| {
        let output = folder.sotto(arguments).output().unwrap();
        assert!(!output.status.success(), "{arguments:?}");
        String::from_utf8(output.stderr).unwrap()
    };
    assert!(said(&["run", "copy.s", "--files", "none"]).contains("cannot read none"));
    assert!(said(&["run", "copy.s", "--files", "data=log"]).contains("no path from the root"));
    let refused = said(&["step", "copy.s", "--files", "data:rw"]);
    assert!(refused.contains("written back by `sotto run` alone"), "{refused}");
}
