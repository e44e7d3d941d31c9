//! The time of a whole process that runs a tiny program, from its source and from its ELF file, for three
//! machines, beside a process that does nothing.

#![allow(missing_docs, reason = "the macros of the bench make public functions")]

mod common;

use std::path::Path;
use std::process::{Command, Stdio};

use criterion::{Criterion, criterion_group, criterion_main};

const PROGRAMS: [(&str, &str); 3] = [
    ("x86-64", " .target x86-64\n .global _start\n_start: xor edi, edi\n mov eax, 60\n syscall\n"),
    ("x86-32", " .target x86-32\n .global _start\n_start: xor ebx, ebx\n mov eax, 1\n int 0x80\n"),
    ("arm64", " .target arm64\n .global _start\n_start: mov w0, 0\n mov x8, 93\n svc 0\n"),
];

fn sotto(folder: &Path, words: &[&str]) {
    let status = Command::new(env!("CARGO_BIN_EXE_sotto"))
        .args(words)
        .current_dir(folder)
        .stdout(Stdio::null())
        .status()
        .expect("the program starts");
    assert!(status.success());
}

fn starting(criterion: &mut Criterion) {
    let folder = tempfile::tempdir().expect("a folder for the bench");
    let mut group = criterion.benchmark_group("start");
    group.sample_size(20);
    for (target, text) in PROGRAMS {
        let (source, program) = (format!("{target}.s"), format!("lamp-{target}"));
        std::fs::write(folder.path().join(&source), text).expect("the folder can be written");
        sotto(folder.path(), &["assemble", &source, "-o", &program]);
        for (what, file) in [("source", &source), ("ELF file", &program)] {
            let run = || sotto(folder.path(), &["run", file]);
            group.bench_function(format!("{target} from its {what}"), |bencher| bencher.iter(run));
            let (ours, nothing) = common::side_by_side(41, run, || {
                Command::new("true").status().expect("the program starts");
            });
            println!(
                "{target} from its {what}: {:.2} ms, {:.2} ms for a process that does nothing",
                ours.as_secs_f64() * 1e3,
                nothing.as_secs_f64() * 1e3
            );
        }
    }
    group.finish();
}

criterion_group!(group, starting);
criterion_main!(group);
