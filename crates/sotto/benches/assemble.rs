//! Assembled lines a second on generated sources, beside reading the same text line by line.
//!
//! The source stands for plain code: labels, loads and stores, arithmetic, short branches, data.

#![allow(missing_docs, reason = "the macros of the bench make public functions")]

mod common;

use std::fmt::Write;
use std::hint::black_box;

use criterion::{BenchmarkId, Criterion, Throughput, criterion_group, criterion_main};
use sotto_asm::{Options, Source, assemble};

/// A source of about this many lines.
fn source(lines: usize) -> Source {
    let mut text = String::from("        .target x86-64\n        .global _start\n_start:\n");
    for routine in 0..lines / 20 {
        let _ = write!(
            text,
            "; routine {routine} of the tide gauge\n\
             tide_{routine}:\n\
             \x20       push    rbp\n\
             \x20       mov     rbp, rsp\n\
             \x20       sub     rsp, 32\n\
             \x20       xor     eax, eax\n\
             \x20       mov     ecx, {routine}\n\
             .next:\n\
             \x20       movzx   edx, byte [rdi + rcx]   ; one reading\n\
             \x20       add     eax, edx\n\
             \x20       mov     [rbp - 8], eax\n\
             \x20       cmp     eax, 0x{routine:x}\n\
             \x20       jae     .end\n\
             \x20       dec     ecx\n\
             \x20       jnz     .next\n\
             .end:   lea     rsi, [rdi + rcx*4 + 16]\n\
             \x20       call    tide_{}\n\
             \x20       mov     rsp, rbp\n\
             \x20       pop     rbp\n\
             \x20       ret\n",
            routine / 2
        );
    }
    Source { name: "tide.s".into(), text: text.into() }
}

/// The yardstick: the same text, cut into lines and looked at.
fn read_lines(text: &str) -> usize {
    text.lines().filter(|line| !line.trim().is_empty()).map(str::len).sum()
}

fn benches(criterion: &mut Criterion) {
    let mut group = criterion.benchmark_group("assemble");
    for lines in [10_000, 100_000, 1_000_000] {
        let source = source(lines);
        let count = source.text.lines().count() as u64;
        let assembly = assemble(&source, &Options::default());
        assert!(assembly.object.is_some(), "{:?}", assembly.diagnostics.first());
        group.throughput(Throughput::Elements(count)).sample_size(10);
        group.bench_function(BenchmarkId::new("lines", lines), |bencher| {
            bencher.iter(|| assemble(black_box(&source), &Options::default()));
        });
        let (ours, reading) = common::side_by_side(
            9,
            || {
                black_box(assemble(&source, &Options::default()));
            },
            || {
                black_box(read_lines(black_box(&source.text)));
            },
        );
        let rate = count as f64 / ours.as_secs_f64() / 1e6;
        let ratio = ours.as_secs_f64() / reading.as_secs_f64();
        println!("{count} lines: {rate:.2} million a second, {ratio:.0} times reading them");
    }
    group.finish();
}

/// The numbers that a whole process has: peak memory for a large source beside its size, and the time
/// for a program of three lines.
fn whole_process(_: &mut Criterion) {
    let folder = tempfile::tempdir().expect("a folder for the bench");
    let path = folder.path().join("lamp.s");
    let lamp = " .target x86-64\n .global _start\n_start: mov eax, 60\n syscall\n";
    std::fs::write(&path, lamp).expect("the folder can be written");
    let assemble_lamp = || {
        let output = std::process::Command::new(env!("CARGO_BIN_EXE_sotto"))
            .arg("assemble")
            .arg(&path)
            .current_dir(folder.path())
            .output()
            .expect("the program starts");
        assert!(output.status.success());
    };
    let (ours, nothing) = common::side_by_side(21, assemble_lamp, || {
        std::process::Command::new("true").output().expect("the program starts");
    });
    println!(
        "three lines: {:.1} ms whole process, {:.1} ms for one that does nothing",
        ours.as_secs_f64() * 1e3,
        nothing.as_secs_f64() * 1e3
    );
    let large = source(5_000_000);
    let bytes = large.text.len() as f64;
    let start = std::time::Instant::now();
    black_box(assemble(&large, &Options::default()));
    let rate = 5.0 / start.elapsed().as_secs_f64();
    let status = std::fs::read_to_string("/proc/self/status").expect("Linux says");
    let peak =
        status.lines().find_map(|line| line.strip_prefix("VmHWM:")?.split_whitespace().next());
    let peak = peak.and_then(|kib| kib.parse::<f64>().ok()).unwrap_or_default() * 1024.0;
    println!(
        "5000000 lines: {rate:.2} million a second, {:.1} times the source in memory",
        peak / bytes
    );
}

criterion_group!(group, benches, whole_process);
criterion_main!(group);
