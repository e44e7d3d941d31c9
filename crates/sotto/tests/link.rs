//! `assemble --object`, `link`, listings and maps, through the built program.

mod common;

use std::process::Command;

use common::{Folder, data, demo};

const START: &str = "\
        .target x86-64
        .include \"calls.inc\"
        .global _start
        .extern horn
_start: blast   2
        mov     edi, [tide_log]
        exit
        .comm   tide_log, 8
";
const CALLS: &str = "\
        .macro  blast count=1
        mov     ebx, \\count
.again: call    horn
        dec     ebx
        jnz     .again
        .endm
        .macro  exit
        mov     eax, 60
        syscall
        .endm
";
const HORN: &str = "\
        .target x86-64
        .global horn
horn:   mov     eax, 1
        mov     edi, 1
        lea     rsi, [text]
        mov     edx, length
        syscall
        add     dword [tide_log], 2
        ret
        .comm   tide_log, 4
        .rodata
text:   .ascii  \"Fog: horn!\\n\"
length  equ     $ - text
";
const HEARD: &str = "Fog: horn!\nFog: horn!\n";

fn station() -> Folder {
    Folder::new(&[("start.s", START), ("calls.inc", CALLS), ("horn.s", HORN)])
}

/// An archive of the files, in the format that every Unix shares.
fn archive(folder: &Folder, name: &str, members: &[&str]) {
    let mut bytes = b"!<arch>\n".to_vec();
    for member in members {
        let data = std::fs::read(folder.path(member)).unwrap();
        let head = format!(
            "{:<16}{:<12}{:<6}{:<6}{:<8}{:<10}`\n",
            format!("{member}/"),
            0,
            0,
            0,
            644,
            data.len()
        );
        bytes.extend(head.into_bytes());
        bytes.extend(&data);
        if data.len() % 2 == 1 {
            bytes.push(b'\n');
        }
    }
    std::fs::write(folder.path(name), bytes).unwrap();
}

/// Runs a program that was made, on this computer.
fn native(folder: &Folder, name: &str) -> (String, Option<i32>) {
    let output = Command::new(folder.path(name)).output().unwrap();
    (String::from_utf8_lossy(&output.stdout).into_owned(), output.status.code())
}

#[test]
fn objects_sources_and_archives_link_in_any_mixture() {
    let folder = station();
    folder.sotto(&["assemble", "--object", "start.s", "horn.s"]).assert().success();
    archive(&folder, "libhorn.a", &["horn.o"]);
    let mixtures: &[&[&str]] = &[
        &["start.o", "horn.o"],
        &["horn.o", "start.s"],
        &["start.s", "horn.s"],
        &["libhorn.a", "start.o"],
        &["start.s", "libhorn.a"],
    ];
    for files in mixtures {
        let words: Vec<&str> =
            ["link"].into_iter().chain(files.iter().copied()).chain(["-o", "fog"]).collect();
        folder.sotto(&words).assert().success();
        // The common symbol is there once, as large as the largest, and counts two blasts.
        assert_eq!(native(&folder, "fog"), (HEARD.into(), Some(4)), "{files:?}");
        let run: Vec<&str> = ["run"].into_iter().chain(files.iter().copied()).collect();
        folder.sotto(&run).assert().code(4).stdout(HEARD);
    }
    folder.sotto(&["link", "start.o", "horn.o", "--pie", "-o", "anywhere"]).assert().success();
    assert_eq!(native(&folder, "anywhere"), (HEARD.into(), Some(4)));
    folder.sotto(&["run", "anywhere"]).assert().code(4).stdout(HEARD);
}

#[test]
fn listing_and_map_say_where_everything_went() {
    let folder = station();
    let words =
        ["assemble", "start.s", "horn.s", "-o", "fog", "--listing", "fog.lst", "--map", "fog.map"];
    folder.sotto(&words).assert().success();
    let read = |name: &str| std::fs::read_to_string(folder.path(name)).unwrap();
    insta::assert_snapshot!("listing", read("fog.lst"));
    insta::assert_snapshot!("map", read("fog.map"));
    assert!(
        read("fog.lst").lines().chain(read("fog.map").lines()).all(|l| l.chars().count() <= 100)
    );
    // A listing shows errors at their lines, and is all that is written.
    folder
        .write("horn.s", "        .target x86-64\nhorn:   mov eax, tide_x\n        mov al, 300\n");
    std::fs::remove_file(folder.path("fog")).unwrap();
    folder.sotto(&["assemble", "horn.s", "-o", "fog", "--listing", "bad.lst"]).assert().code(2);
    insta::assert_snapshot!("listing_with_errors", read("bad.lst"));
    assert!(!folder.path("fog").exists());
}

#[test]
fn what_does_not_link_is_told_with_every_place() {
    let folder = station();
    folder.write("lonely.s", " .target x86-64\n .global _start\n .extern horn, hoot\n_start: call horn\n call hoot\n jmp hoot\n");
    folder.write("main.s", " .target x86-64\n .global main\nmain: ret\n");
    folder.write("twice.s", " .target x86-64\n .global horn\nhorn: ret\n");
    folder.write(
        "fixed.s",
        " .target x86-64\n .global _start\n .data\ntide: dq tide\n .text\n_start: mov rdi, tide\n",
    );
    folder.write(
        "mixed.s",
        " .target x86-64\n .global _start\n .section lamp, \"awx\"\n_start: nop\n",
    );
    folder.write("horn_pi.s", " .target arm64\n .global horn\nhorn: ret\n");
    let cases: &[(&str, &[&str])] = &[
        ("undefined", &["link", "lonely.s", "horn.s", "-o", "fog"]),
        ("only_main", &["link", "main.s", "-o", "fog"]),
        ("duplicate", &["link", "start.s", "horn.s", "twice.s", "-o", "fog"]),
        ("needs_address", &["link", "fixed.s", "--pie", "-o", "fog"]),
        ("writable_code", &["link", "mixed.s", "-o", "fog"]),
        ("other_machine", &["link", "start.s", "horn_pi.s", "-o", "fog"]),
        ("program_again", &["link", "ready", "-o", "fog"]),
        ("onto_input", &["link", "start.s", "-o", "start.s"]),
        ("twice_the_same_output", &["link", "start.s", "-o", "fog", "--map", "fog"]),
        ("object_and_map", &["assemble", "--object", "horn.s", "--map", "fog.map"]),
        ("object_with_one_name", &["assemble", "--object", "horn.s", "start.s", "-o", "fog.o"]),
    ];
    folder.sotto(&["assemble", "start.s", "horn.s", "-o", "ready"]).assert().success();
    let told: Vec<String> = cases
        .iter()
        .map(|(name, words)| format!("=== {name}\n{}", folder.transcript(words, "")))
        .collect();
    assert!(!folder.path("fog").exists(), "nothing was written");
    insta::assert_snapshot!(told.join("\n\n"));
}

#[test]
fn entry_symbols_can_be_chosen() {
    let folder = Folder::new(&[(
        "main.s",
        " .target x86-64\n .global main\nmain: mov eax, 60\n mov edi, 7\n syscall\n",
    )]);
    folder.sotto(&["link", "main.s", "--entry", "main", "-o", "fog"]).assert().success();
    assert_eq!(native(&folder, "fog").1, Some(7));
}

/// Cuts files short, and puts wrong bytes into them.
#[test]
fn damaged_objects_and_archives_are_refused_in_words() {
    let folder = station();
    folder.sotto(&["assemble", "--object", "start.s", "horn.s"]).assert().success();
    archive(&folder, "lib.a", &["horn.o"]);
    let object = std::fs::read(folder.path("horn.o")).unwrap();
    let whole = std::fs::read(folder.path("lib.a")).unwrap();
    let mut told = Vec::new();
    for (name, bytes) in [("horn.o", &object), ("lib.a", &whole)] {
        let mut damaged: Vec<(String, Vec<u8>)> = Vec::new();
        for cut in [7, 20, 63, 64, 100, bytes.len() / 2, bytes.len() - 1] {
            damaged.push((format!("cut at {cut}"), bytes[..cut].to_vec()));
        }
        for at in (0..bytes.len()).step_by(17) {
            let mut copy = bytes.clone();
            copy[at] ^= 0xff;
            damaged.push((format!("wrong at {at}"), copy));
        }
        for (what, bytes) in damaged {
            std::fs::write(folder.path("damaged"), bytes).unwrap();
            let output =
                folder.sotto(&["link", "start.o", "damaged", "-o", "fog"]).output().unwrap();
            let error = String::from_utf8_lossy(&output.stderr).into_owned();
            let status = output.status.code();
            // A changed byte of code or text is no damage.
            assert!(
                status == Some(0) || (status == Some(2) && !error.is_empty()),
                "{name} {what}: {error}"
            );
            assert!(!error.contains("panicked"), "{name} {what}: {error}");
            told.extend(error.lines().next().map(str::to_string));
        }
    }
    assert!(told.iter().any(|line| line.contains("sh_addralign")), "fields are named");
    assert!(told.len() > 20);
}

/// The demo with the C library: assembled by us, linked by the system's compiler, run natively.
#[test]
fn a_program_with_the_c_library_runs() {
    if !common::has("cc") {
        return;
    }
    let folder = Folder::new(&[("watch.s", &demo("watch.s"))]);
    folder.sotto(&["assemble", "--object", "watch.s"]).assert().success();
    for flag in ["-pie", "-no-pie"] {
        let mut cc = Command::new("cc");
        let linked = cc
            .current_dir(folder.path(""))
            .args([flag, "watch.o", "-o", "watch"])
            .output()
            .unwrap();
        assert!(linked.status.success(), "{}", String::from_utf8_lossy(&linked.stderr));
        let (output, status) = native(&folder, "watch");
        assert_eq!(
            output,
            "Skerry watch log\n  hour 0: tide 412 cm\n  hour 6: tide 97 cm\n  hour 12: tide 388 cm\nmean 299 cm\n"
        );
        assert_eq!(status, Some(0));
    }
}

#[test]
fn a_program_for_the_c_library_is_told_how_it_is_linked() {
    let folder = Folder::new(&[("watch.s", &demo("watch.s"))]);
    insta::assert_snapshot!(folder.transcript(&["run", "watch.s", "--target", "x86-64"], ""));
}

#[test]
fn instructions_are_shown_as_the_source_writes_them_or_as_asked() {
    let lamp = "        .global _start\n_start: movl $60, %eax\n        movzbl (%rsp), %edi\n        xorl %edi, %edi\n        syscall\n";
    let folder = Folder::new(&[("lamp.s", lamp)]);
    folder.sotto(&["assemble", "lamp.s"]).assert().success();
    let first = |words: &[&str]| {
        let output = folder.sotto(words).output().unwrap().stdout;
        String::from_utf8(output).unwrap().lines().nth(1).unwrap().to_string()
    };
    assert!(first(&["trace", "lamp.s"]).contains("movzbl (%rsp), %edi"));
    assert!(first(&["trace", "lamp"]).contains("movzx edi, byte [rsp]"));
    assert!(
        first(&["trace", "lamp", "--operands", "source-first"]).contains("movzbl (%rsp), %edi")
    );
    assert!(
        first(&["trace", "lamp.s", "--operands", "destination-first"])
            .contains("movzx edi, byte [rsp]")
    );
    folder.sotto(&["trace", "lamp", "--operands", "sideways"]).assert().code(2);
}
/// Runs a program with thread-local data and a function that is chosen at run time: here, and where the processor is this
/// computer's.
fn thread_local_program(folder: &Folder, arch: &str) {
    let source = std::fs::read_to_string(data().join(format!("threads/{arch}.s"))).unwrap();
    folder.write("tide.s", &source);
    folder.sotto(&["run", "tide.s"]).assert().code(43);
    folder.sotto(&["assemble", "tide.s", "-o", "tide"]).assert().success();
    folder.sotto(&["run", "tide"]).assert().code(43);
    if arch == "x86-64" || (arch == "x86-32" && common::kernel_runs_32_bit()) {
        assert_eq!(native(folder, "tide").1, Some(43), "{arch}");
    }
    // As an object, linked by us and by a C compiler.
    folder.sotto(&["assemble", "--object", "tide.s"]).assert().success();
    folder.sotto(&["link", "tide.o", "-o", "linked"]).assert().success();
    folder.sotto(&["run", "linked"]).assert().code(43);
    let compiler = match arch {
        "x86-64" => "cc",
        "x86-32" => "i686-linux-gnu-gcc",
        _ => "aarch64-linux-gnu-gcc",
    };
    if !common::has(compiler) {
        return;
    }
    let mut compile = Command::new(compiler);
    let linked = compile
        .current_dir(folder.path(""))
        .args(["-static", "-nostdlib", "tide.o", "-o", "by_cc"])
        .output()
        .unwrap();
    assert!(linked.status.success(), "{}", String::from_utf8_lossy(&linked.stderr));
    folder.sotto(&["run", "by_cc"]).assert().code(43);
}

#[test]
fn thread_local_data_and_functions_chosen_at_run_time_are_linked_on_every_machine() {
    for arch in ["x86-64", "x86-32", "arm64"] {
        thread_local_program(&Folder::new(&[]), arch);
    }
}

#[test]
fn thread_local_data_of_modules_that_are_loaded_later_is_refused_in_words() {
    let source = "        .target x86-64\n        .global _start\n        .section .tdata, \"awT\"\ntide:   .long   1\nplain:  .long   2\n        .data\nbuoy:   .long   3\n        .text\n_start: mov     eax, [fs:buoy@tpoff]\n        mov     ecx, [plain]\n        lea     rdi, [rip + tide@tlsgd]\n        ret\n";
    let folder = Folder::new(&[("tide.s", source)]);
    insta::assert_snapshot!(folder.transcript(&["assemble", "tide.s"], ""));
}

#[test]
fn bounds_of_the_program_and_its_sections_are_the_linkers() {
    let source = "        .target x86-64\n        .global _start\n        .extern end\n        .section buoys, \"aw\"\n        .byte 1, 2, 3, 4, 5\n        .bss\n        .zero 3\n        .text\n_start: lea     rdi, [__stop_buoys]\n        lea     rax, [__start_buoys]\n        sub     rdi, rax\n        lea     rax, [end]\n        lea     rdx, [__bss_start]\n        sub     rax, rdx\n        shl     eax, 4\n        add     edi, eax\n        mov     eax, 60\n        syscall\n";
    let folder = Folder::new(&[("buoys.s", source)]);
    folder.sotto(&["run", "buoys.s"]).assert().code(0x35);
    // A label that was forgotten is not taken for the end of the program.
    let forgotten = "        .global _start\n_start: jmp end\n";
    folder.write("lamp.s", forgotten);
    folder.sotto(&["run", "lamp.s", "--target", "x86-64"]).assert().code(125);
}
