//! `sotto run --record` and `--replay`: a run is repeated after everything around it has changed.

use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};

use assert_cmd::cargo::cargo_bin;
use rand::rngs::SmallRng;
use rand::{Rng, SeedableRng};

/// Reads a line and a file, and writes both with the time of day and a random number.
const KEEPER: &str = "\
 .target x86-64
 .global _start
 .data
name: .string \"log.txt\"
 .bss
line: .skip 64
time: .skip 16
draw: .skip 8
 .text
_start:
 mov eax, 0                 ; read
 xor edi, edi
 lea rsi, [line]
 mov edx, 64
 syscall
 mov r12, rax
 mov eax, 2                 ; open
 lea rdi, [name]
 xor esi, esi
 syscall
 mov edi, eax
 mov eax, 0                 ; read
 lea rsi, [line + r12]
 mov edx, 32
 syscall
 add r12, rax
 mov eax, 228               ; clock_gettime
 xor edi, edi
 lea rsi, [time]
 syscall
 mov eax, 318               ; getrandom
 lea rdi, [draw]
 mov esi, 8
 xor edx, edx
 syscall
 mov eax, 1                 ; write
 mov edi, 1
 lea rsi, [line]
 lea rdx, [r12 + 0]
 syscall
 mov eax, 1
 mov edi, 2
 lea rsi, [time]
 mov edx, 24
 syscall
 mov eax, 60
 mov edi, r12d
 syscall
";

struct Folder(tempfile::TempDir);

impl Folder {
    fn new() -> Folder {
        let folder = Folder(tempfile::tempdir().unwrap());
        std::fs::create_dir(folder.path("desk")).unwrap();
        folder.write("keeper.s", KEEPER);
        folder.write("desk/log.txt", "02:40 fog\n");
        folder
    }

    fn path(&self, name: &str) -> PathBuf {
        self.0.path().join(name)
    }

    fn write(&self, name: &str, text: impl AsRef<[u8]>) {
        std::fs::write(self.path(name), text).unwrap();
    }

    fn sotto(&self, arguments: &[&str], input: &str) -> Output {
        run(self.0.path(), arguments, input)
    }
}

fn run(folder: &Path, arguments: &[&str], input: &str) -> Output {
    let mut child = Command::new(cargo_bin("sotto"))
        .args(arguments)
        .current_dir(folder)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    // Who does not read it closes it.
    let _ = std::io::Write::write_all(&mut child.stdin.take().unwrap(), input.as_bytes());
    child.wait_with_output().unwrap()
}

fn parts(output: &Output) -> (Option<i32>, Vec<u8>, Vec<u8>) {
    (output.status.code(), output.stdout.clone(), output.stderr.clone())
}

fn errors(output: &Output) -> String {
    String::from_utf8_lossy(&output.stderr).into_owned()
}

#[test]
fn a_run_is_repeated_when_files_time_and_input_are_others() {
    let folder = Folder::new();
    let asked = ["run", "--record", "a.rec", "--files", "desk", "--clock", "2026-05-05"];
    let first = folder.sotto(&[&asked[..], &["keeper.s"]].concat(), "lamp lit\n");
    assert_eq!(String::from_utf8_lossy(&first.stdout), "lamp lit\n02:40 fog\n");
    assert_eq!(first.status.code(), Some(19));
    std::fs::remove_dir_all(folder.path("desk")).unwrap();
    let again = folder.sotto(&["run", "--replay", "a.rec", "keeper.s"], "other\n");
    assert_eq!(parts(&again), parts(&first));
    // Names of sources do not matter, and neither does where it is.
    let elsewhere = tempfile::tempdir().unwrap();
    std::fs::copy(folder.path("a.rec"), elsewhere.path().join("b.rec")).unwrap();
    std::fs::write(elsewhere.path().join("other.s"), KEEPER).unwrap();
    let again = run(elsewhere.path(), &["run", "--replay", "b.rec", "other.s"], "");
    assert_eq!(parts(&again), parts(&first));
    // The same recording comes of the same run.
    let text = std::fs::read(folder.path("a.rec")).unwrap();
    folder.sotto(&["run", "--replay", "a.rec", "keeper.s"], "");
    assert_eq!(std::fs::read(folder.path("a.rec")).unwrap(), text);
}

#[test]
fn a_recording_is_stepped_traced_and_checked() {
    let folder = Folder::new();
    let asked = ["run", "--record", "a.rec", "--files", "desk", "keeper.s"];
    folder.sotto(&asked, "lamp lit\n");
    std::fs::remove_dir_all(folder.path("desk")).unwrap();
    let traced = folder.sotto(&["trace", "--replay", "a.rec", "--syscalls", "keeper.s"], "");
    let text = String::from_utf8_lossy(&traced.stdout).into_owned();
    assert!(text.contains("\"lamp lit\\n\"") && text.contains("\"02:40 fog\\n\""), "{text}");
    let stepped = folder.sotto(
        &["step", "--plain", "--replay", "a.rec", "keeper.s"],
        "resume\nback 3\nresume\nquit\n",
    );
    let text = String::from_utf8_lossy(&stepped.stdout).into_owned();
    assert_eq!(text.matches("ended with status 19").count(), 2, "{text}");
    let checked = folder.sotto(&["check", "--replay", "a.rec", "keeper.s"], "");
    assert!(String::from_utf8_lossy(&checked.stdout).contains("status 19"), "{checked:?}");
}

#[test]
fn threads_and_processes_are_repeated_in_their_order() {
    let folder = Folder::new();
    folder.sotto(&["demo", "."], "");
    for seed in ["1", "77"] {
        let first = folder.sotto(&["run", "--record", "a.rec", "--seed", seed, "keepers.s"], "");
        let again = folder.sotto(&["run", "--replay", "a.rec", "keepers.s"], "");
        assert_eq!(parts(&again), parts(&first));
    }
}

#[test]
fn a_run_that_was_stopped_is_repeated_up_to_there() {
    let folder = Folder::new();
    let asked = ["run", "--record", "a.rec", "--limit", "9", "keeper.s"];
    let first = folder.sotto(&asked, "fog\n");
    assert_eq!(first.status.code(), Some(124));
    let again = folder.sotto(&["run", "--replay", "a.rec", "keeper.s"], "");
    assert_eq!(parts(&again), parts(&first));
}

#[test]
fn another_program_and_a_run_that_differs_are_told() {
    let folder = Folder::new();
    folder.sotto(&["run", "--record", "a.rec", "--files", "desk", "keeper.s"], "fog\n");
    folder.write("changed.s", KEEPER.replace("mov edx, 32", "mov edx, 31"));
    let refused = folder.sotto(&["run", "--replay", "a.rec", "changed.s"], "");
    assert!(errors(&refused).contains("not the one that was recorded, `keeper.s`"), "{refused:?}");
    let text = String::from_utf8(std::fs::read(folder.path("a.rec")).unwrap()).unwrap();
    folder.write("b.rec", text.replace("02:40 fog", "03:10 fog"));
    let differs = folder.sotto(&["run", "--replay", "b.rec", "keeper.s"], "");
    assert!(errors(&differs).contains("differs from its recording: its output"), "{differs:?}");
    assert_eq!(differs.status.code(), Some(125));
    let nowhere = folder.sotto(&["run", "--record", "no/such/a.rec", "keeper.s"], "fog\n");
    assert!(errors(&nowhere).contains("there is no folder no/such"), "{nowhere:?}");
    assert!(nowhere.stdout.is_empty());
}

#[test]
fn hostile_recordings_are_refused() {
    let folder = Folder::new();
    folder.sotto(&["run", "--record", "a.rec", "--files", "desk", "keeper.s"], "fog\n");
    let text = String::from_utf8(std::fs::read(folder.path("a.rec")).unwrap()).unwrap();
    for (from, to, why) in [
        ("\"sotto_recording\":1", "\"sotto_recording\":9", "version 9"),
        ("{\"sotto_recording\":1,", "{", "no version"),
        ("\"name\":\"log.txt\"", "\"name\":\"../log.txt\"", "no file has the name"),
        ("\"at\":\"/home/keeper\"", "\"at\":\"home\"", "no folder can be at"),
        ("\"file\":10", "\"file\":18446744073709551615", "no such size"),
        ("\"arguments\":[\"keeper.s\"]", "\"arguments\":[]", "no name"),
        ("\"arguments\":[\"keeper.s\"]", "\"arguments\":[\"a\\u0000b\"]", "zero byte"),
        ("\"fog\\n\"", "{\"base64\":\"?\"}", "base64"),
        ("\"random\":1", "\"random\":1,\"more\":1", "unknown field"),
    ] {
        assert!(text.contains(from), "{from} in {text}");
        folder.write("b.rec", text.replace(from, to));
        let refused = folder.sotto(&["run", "--replay", "b.rec", "keeper.s"], "");
        assert_eq!(refused.status.code(), Some(125), "{from}");
        assert!(errors(&refused).contains(why), "{why}: {}", errors(&refused));
    }
    // Whatever else is wrong with it, the answer is no panic.
    let mut rng = SmallRng::seed_from_u64(7);
    for _ in 0..60 {
        let mut bytes = text.clone().into_bytes();
        match rng.random_range(0..3) {
            0 => bytes.truncate(rng.random_range(0..bytes.len())),
            1 => {
                let at = rng.random_range(0..bytes.len());
                bytes[at] = rng.random();
            }
            _ => {
                let at = rng.random_range(0..bytes.len());
                bytes.splice(at..at, *b"999999999999999999");
            }
        }
        folder.write("b.rec", bytes);
        let output =
            folder.sotto(&["run", "--replay", "b.rec", "--limit", "100000", "keeper.s"], "");
        let status = output.status.code();
        assert!(status.is_some_and(|status| status != 101), "{output:?}");
    }
}
