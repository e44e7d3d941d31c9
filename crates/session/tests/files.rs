//! Calls on files give what the kernel gives: a C program that carries out a list of calls runs natively in a fresh folder, as
//! an ordinary user, and emulated.

#![cfg(all(target_os = "linux", target_arch = "x86_64"))]

mod common;

use std::path::{Path, PathBuf};
use std::process::Command;

use common::as_user;
use rand::rngs::SmallRng;
use rand::seq::IndexedRandom;
use rand::{Rng, SeedableRng};
use sotto_kernel::{Startup, Stop, System, Termination};
use sotto_object::{Image, read_executable};

/// The program, compiled and linked statically; `None` if there is no such compiler.
fn compiled(folder: &Path, compiler: &str, options: &[&str]) -> Option<PathBuf> {
    if !common::has(compiler) {
        return None;
    }
    let program = folder.join("keeper");
    let source = common::data().join("files/keeper.c");
    let status = Command::new(compiler)
        .args(options)
        .args(["-O1", "-w", "-static", "-D_FILE_OFFSET_BITS=64", "-o"])
        .args([&program, &source])
        .status();
    assert!(status.unwrap().success());
    Some(program)
}

fn natively(program: &Path, calls: &str) -> String {
    let output = as_user::run(program, calls.as_bytes());
    assert!(output.status.success(), "{calls}");
    String::from_utf8_lossy(&output.stdout).into_owned()
}

fn emulated(image: &Image, calls: &str) -> String {
    let mut system = System::start(image, &Startup::with_arguments(["keeper"])).unwrap();
    system.give_input(calls.as_bytes());
    system.close_input();
    loop {
        match system.run(u64::MAX).stop {
            Stop::Terminated(ending) => {
                assert_eq!(ending, Termination::Exited(0), "{calls}");
                break;
            }
            Stop::Output | Stop::Paused | Stop::Unfinished => {}
            other => panic!("{other:?} in\n{calls}"),
        }
    }
    let parts = system.output().into_iter().filter(|part| part.fd == 1);
    String::from_utf8_lossy(&parts.flat_map(|part| part.bytes).collect::<Vec<u8>>()).into_owned()
}

/// The first line that differs, and those before it.
fn difference(ours: &str, theirs: &str) -> Option<String> {
    let mut lines = ours.lines().zip(theirs.lines()).enumerate();
    let (at, (ours_line, their_line)) = lines.find(|(_, (a, b))| a != b)?;
    let before: Vec<&str> = ours.lines().take(at).collect();
    Some(format!("{}\nhere:     {ours_line}\nnatively: {their_line}", before.join("\n")))
}

fn compare(program: &Path, image: &Image, calls: &str) -> Option<String> {
    let (ours, theirs) = (emulated(image, calls), natively(program, calls));
    difference(&ours, &theirs).or_else(|| {
        (ours.lines().count() != theirs.lines().count()).then(|| format!("{ours}\n---\n{theirs}"))
    })
}

/// The situations, each a list of calls.
fn situations() -> Vec<String> {
    let text = std::fs::read_to_string(common::data().join("files/situations.txt")).unwrap();
    let calls = |situation: &str| {
        let lines = situation.lines().filter(|line| !line.starts_with('#') && !line.is_empty());
        lines.fold(String::new(), |calls, line| calls + line + "\n")
    };
    text.split("\n\n").map(calls).collect()
}

#[test]
fn situations_and_their_errors_are_those_of_the_kernel() {
    let folder = as_user::place();
    let Some(program) = compiled(folder.path(), "cc", &[]) else {
        eprintln!("skipped: no C compiler");
        return;
    };
    let image = read_executable(&std::fs::read(&program).unwrap()).unwrap();
    let situations = situations();
    let wrong: Vec<String> =
        situations.iter().filter_map(|calls| compare(&program, &image, calls)).collect();
    assert!(wrong.is_empty(), "{}", wrong.join("\n\n"));
    let count: usize = situations.iter().map(|calls| calls.lines().count()).sum();
    assert!(count > 300, "{count} calls");
}

/// What calls give does not depend on the machine.
#[test]
fn the_other_machines_answer_as_x86_64_does() {
    let folder = as_user::place();
    let Some(program) = compiled(folder.path(), "cc", &[]) else {
        eprintln!("skipped: no C compiler");
        return;
    };
    let image = read_executable(&std::fs::read(&program).unwrap()).unwrap();
    for compiler in ["i686-linux-gnu-gcc", "aarch64-linux-gnu-gcc"] {
        let Some(other) = compiled(folder.path(), compiler, &[]) else {
            eprintln!("skipped: no {compiler}");
            continue;
        };
        let other = read_executable(&std::fs::read(&other).unwrap()).unwrap();
        for calls in situations() {
            let found = difference(&emulated(&other, &calls), &emulated(&image, &calls));
            assert_eq!(found, None, "{compiler}");
        }
    }
}

const NAMES: &[&str] = &[
    "log",
    "log/",
    "lamps",
    "lamps/north",
    "lamps/south",
    "lamps/..",
    "bells",
    "bells/fog",
    "./log",
    "lamps/north/deep",
    "way",
    "way/fog",
    "loop",
    "none/at/all",
    "..",
    ".",
    "lamps/.",
    "-",
    "old",
    "new",
];

fn name(rng: &mut SmallRng) -> &'static str {
    NAMES.choose(rng).unwrap()
}

/// A random call.
fn call(rng: &mut SmallRng) -> String {
    let fd = rng.random_range(3..8);
    let flags = [
        0,
        1,
        2,
        0o100 | 2,
        0o100 | 1,
        0o300 | 2,
        0o1001,
        0o1102,
        0o2002,
        0o2101,
        0o200_000,
        0o400_000,
        0o10_000_000,
    ]
    .choose(rng)
    .unwrap();
    let mode = [0o644, 0o600, 0o755, 0o400, 0o000, 0o777, 0o1755].choose(rng).unwrap();
    let size = [0, 1, 5, 100, 4096, 5000, 70_000, -1].choose(rng).unwrap();
    let count = rng.random_range(0..40);
    let (a, b) = (name(rng), name(rng));
    match rng.random_range(0..40) {
        0..6 => format!("open {a} {flags} {mode}"),
        6 => format!("openat {fd} {a} {flags} {mode}"),
        7 => format!("close {fd}"),
        8 => format!("read {fd} {count}"),
        9 => format!("pread {fd} {count} {size}"),
        10 | 11 => format!("write {fd} {}", "fogbound".repeat(rng.random_range(1..5))),
        12 => format!("pwrite {fd} bell {size}"),
        13 => format!("writev {fd} ding dong"),
        14 => format!("lseek {fd} {size} {}", rng.random_range(0..6)),
        15 => format!("stat {a}"),
        16 => format!("lstat {a}"),
        17 => format!("fstat {fd}"),
        18 | 19 => format!("mkdir {a} {mode}"),
        20 => format!("rmdir {a}"),
        21 => format!("unlink {a}"),
        22 => format!("link {a} {b}"),
        23 => format!("symlink {a} {b}"),
        24..27 => format!("rename {a} {b}"),
        27 => format!("rename2 {a} {b} {}", rng.random_range(0..4)),
        28 => format!("readlink {a} {count}"),
        29 => format!("truncate {a} {size}"),
        30 => format!("ftruncate {fd} {size}"),
        31 => format!("chmod {a} {mode}"),
        32 => format!("access {a} {}", rng.random_range(0..9)),
        33 => format!("dup {fd}"),
        34 => format!("dup2 {fd} {}", rng.random_range(3..8)),
        35 => format!("fcntl {fd} {} {}", rng.random_range(0..4), rng.random_range(0..9)),
        36 => format!("list {a}"),
        37 => format!("readv {fd} {count} 5"),
        38 => format!("unlinkat {fd} {a} {}", [0, 0x200].choose(rng).unwrap()),
        // Above its home the program natively finds other things.
        _ if a == ".." => "cwd 300".to_string(),
        _ => format!("chdir {a}"),
    }
}

/// A random call about memory, on pages that a file is behind or none. The file is large enough for all of them.
fn memory_call(rng: &mut SmallRng, moves: bool) -> String {
    let page = rng.random_range(0..12);
    let offset = rng.random_range(0..4090);
    let count = 4096 * rng.random_range(1..5);
    let protection = [0, 1, 3, 3, 3].choose(rng).unwrap();
    // Private and shared, with a file and without. A page of a file is shared at one place alone, so that nothing shared moves.
    let (flags, fd) = match moves {
        true => *[(2, 3), (0x22, -1), (0x22, -1), (2, 4)].choose(rng).unwrap(),
        false => *[(1, 3), (1, 3), (2, 3), (0x22, -1), (1, 4), (2, 4)].choose(rng).unwrap(),
    };
    match rng.random_range(0..24) {
        0..6 => {
            let start = 4096 * if flags == 1 { page } else { rng.random_range(0..8) };
            format!("map {page} {count} {protection} {flags} {fd} {start}")
        }
        6 => format!("unmap {page} {count}"),
        7 | 8 => format!("protect {page} {count} {protection}"),
        9 => format!("advise {page} {count} {}", [0, 3, 4, 4, 99].choose(rng).unwrap()),
        10 => format!("sync {page} {count} {}", [1, 2, 4, 5].choose(rng).unwrap()),
        11 if moves => format!("resize {page} 4096 {}", 4096 * rng.random_range(0..5)),
        12 if moves => format!(
            "move {page} 4096 {} {}",
            4096 * rng.random_range(0..5),
            rng.random_range(14..18)
        ),
        13..17 => format!("poke {page} {offset} {}", ["fog", "bell", "lamp"].choose(rng).unwrap()),
        17..21 => format!("peek {page} {offset} {}", rng.random_range(1..6)),
        21 => format!("pwrite 3 tide {}", rng.random_range(0..40_000)),
        22 => format!("pread 3 {} {}", rng.random_range(0..30), rng.random_range(0..40_000)),
        _ => format!("map {page} {count} {protection} {flags} {fd} 100"),
    }
}

/// Sequences of random calls; `SOTTO_SWEEP` says how many.
#[test]
fn random_calls_give_what_the_kernel_gives() {
    random_sequences(&["list .", "list lamps"], call);
}

/// The same of calls about memory.
#[test]
fn random_calls_about_memory_give_what_the_kernel_gives() {
    let first: Vec<String> = (0..12).map(|page| format!("peek {page} 0 2")).collect();
    let first: Vec<&str> = first.iter().map(String::as_str).collect();
    random_sequences(&first, |rng| memory_call(rng, true));
    random_sequences(&first, |rng| memory_call(rng, false));
}

/// Sequences of calls, each with some at its end.
fn random_sequences(last: &[&str], call: fn(&mut SmallRng) -> String) {
    let folder = as_user::place();
    let Some(program) = compiled(folder.path(), "cc", &[]) else {
        eprintln!("skipped: no C compiler");
        return;
    };
    let image = read_executable(&std::fs::read(&program).unwrap()).unwrap();
    let count = std::env::var("SOTTO_SWEEP").ok().and_then(|text| text.parse().ok()).unwrap_or(300);
    let mut wrong = Vec::new();
    for seed in 0..count {
        let mut rng = SmallRng::seed_from_u64(seed);
        let mut calls: Vec<String> = [
            "open log 66 420",
            "write 3 tide",
            "mkdir lamps 493",
            "symlink lamps way",
            "symlink loop loop",
            "open sea 66 420",
            "close 4",
            "ftruncate 3 65536",
            "open log 0 0",
        ]
        .map(str::to_string)
        .into();
        calls.extend((0..40).map(|_| call(&mut rng)));
        calls.extend(last.iter().map(|call| call.to_string()));
        wrong.extend(compare(&program, &image, &(calls.join("\n") + "\n")));
        if wrong.len() > 4 {
            break;
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n\n"));
}
