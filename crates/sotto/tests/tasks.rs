//! Threads and processes at the command line: `--interleavings`, `tasks`, and a run in which all wait.

mod common;

use common::{Folder, demo};

fn keepers() -> Folder {
    let text = demo("keepers.s");
    let locked = text.replace("inc     qword", "lock inc qword");
    // The second keeper waits too instead of waking the first.
    let stuck = text
        .replace("mov     esi, 1 ", "xor     esi, esi ")
        .replace("mov     dword [lit], 1\n", "mov     edx, 0\n");
    let stuck = stuck.replace("mov     edx, 1 ", "xor     edx, edx ");
    Folder::new(&[("keepers.s", &text), ("locked.s", &locked), ("stuck.s", &stuck)])
}

#[test]
fn a_result_that_depends_on_the_order_is_told_with_its_seed() {
    let folder = keepers();
    let words = ["run", "--interleavings", "100", "keepers.s"];
    insta::assert_snapshot!(folder.transcript(&words, ""));
    folder.sotto(&words).assert().code(1);
    let words = ["run", "--interleavings", "100", "locked.s"];
    insta::assert_snapshot!(folder.transcript(&words, ""));
    folder.sotto(&words).assert().code(0);
    let json = folder.sotto(&["run", "--json", "--interleavings", "100", "keepers.s"]).output();
    let value: serde_json::Value = serde_json::from_slice(&json.unwrap().stdout).unwrap();
    let seed = value["seed"].as_u64().unwrap().to_string();
    assert_eq!(value["in_rotation"]["ending"], "exit status 200");
    // The seed alone leads there again, and running with it is running so.
    let with_seed = folder.sotto(&["run", "--seed", &seed, "keepers.s"]).output().unwrap();
    let ending = format!("exit status {}", with_seed.status.code().unwrap());
    assert_eq!(value["with_seed"]["ending"], *ending);
    folder.sotto(&["run", "--seed", "1", "--interleavings", "2", "keepers.s"]).assert().code(125);
}

#[test]
fn the_stepper_lists_tasks_and_what_they_wait_for() {
    let script =
        "until second\ntasks\ntask 1000\nregisters rip\ntask 7\nwho [lamps]\nresume\ntasks\n";
    let words = ["step", "--plain", "keepers.s"];
    insta::assert_snapshot!(keepers().transcript(&words, script));
}

#[test]
fn a_run_in_which_all_wait_says_for_what() {
    let folder = keepers();
    insta::assert_snapshot!(folder.transcript(&["run", "stuck.s"], ""));
    folder.sotto(&["run", "stuck.s"]).assert().code(124);
}

/// A parent that waits for its child, which reads a pipe until that ends.
const NIGHT: &str = "\
 .target x86-64
 .global _start
 .bss
ends: .skip 8
 .text
_start:
 mov eax, 22          ; pipe
 lea rdi, [ends]
 syscall
 mov eax, 57          ; fork
 syscall
 test eax, eax
 jz .child
 mov edi, -1
 xor esi, esi
 xor edx, edx
 xor r10d, r10d
 mov eax, 61          ; wait4
 syscall
 xor edi, edi
 mov eax, 60
 syscall
.child:
 mov edi, [ends]
 lea rsi, [ends]
 mov edx, 1
 xor eax, eax         ; read
 syscall
 xor edi, edi
 mov eax, 60
 syscall
";

#[test]
fn tasks_that_wait_for_each_other_are_told_as_a_circle() {
    let closes = |what: &str, place: &str| {
        NIGHT.replace(place, &format!("{place}\n mov edi, [ends + 4]\n mov eax, 3\n syscall{what}"))
    };
    let child_closes = closes("", ".child:");
    let both_close = child_closes
        .replace(" jz .child", " jz .child\n mov edi, [ends + 4]\n mov eax, 3\n syscall");
    let folder =
        Folder::new(&[("own.s", NIGHT), ("other.s", &child_closes), ("good.s", &both_close)]);
    for (name, circle) in [
        ("own.s", "circle: 1001 reads what it could write itself\nhelp: close the ends of a pipe"),
        (
            "other.s",
            "circle: 1000 waits for its child 1001, and 1001 reads what 1000 could write\nhelp:",
        ),
    ] {
        let output = folder.sotto(&["run", name]).output().unwrap();
        let text = String::from_utf8_lossy(&output.stderr).into_owned();
        assert!(text.contains(circle), "{text}");
        assert_eq!(output.status.code(), Some(124));
        let text = folder.transcript(&["step", "--plain", name], "resume\ntasks\n");
        assert!(text.contains(circle), "{text}");
    }
    let json = folder.sotto(&["run", "--json", "other.s"]).output().unwrap();
    let last = String::from_utf8_lossy(&json.stderr).lines().last().unwrap().to_string();
    let value: serde_json::Value = serde_json::from_str(&last).unwrap();
    assert_eq!(value["circle"][1]["why"], "writer");
    folder.sotto(&["run", "good.s"]).assert().code(0);
}
