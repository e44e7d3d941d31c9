//! Emulated instructions a second on two integer loops, beside the native time of the same ELF.
//!
//! The register loop stands for hashing and arithmetic, the table loop for walking over data. The
//! native times hold the start of the process, which is why the loops are long.

#![allow(missing_docs, reason = "the macros of the bench make public functions")]

mod common;

use std::hint::black_box;
use std::os::unix::fs::PermissionsExt;
use std::process::Command;

use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use sotto_asm::{Options, Source, assemble};
use sotto_kernel::{Ending, Process, Startup, Stop};
use sotto_object::{Image, LinkOptions, link, write_executable};

const ROUNDS: u64 = 5_000_000;

/// A generator of pseudo-random numbers: shifts, exclusive ors, an addition.
fn register_loop() -> String {
    format!(
        " .target x86-64\n .global _start\n_start: mov rax, 88172645463325252\n xor ebx, ebx\n mov ecx, {ROUNDS}\n\
         .next: mov rdx, rax\n shl rdx, 13\n xor rax, rdx\n mov rdx, rax\n shr rdx, 7\n xor rax, rdx\n\
         mov rdx, rax\n shl rdx, 17\n xor rax, rdx\n add rbx, rax\n dec ecx\n jnz .next\n\
         mov edi, ebx\n and edi, 127\n mov eax, 60\n syscall\n"
    )
}

/// Sums over a table of readings, each of which it changes.
fn table_loop() -> String {
    format!(
        " .target x86-64\n .global _start\n .bss\ntide: .skip 4096\n .text\n_start: xor ebx, ebx\n mov ecx, {ROUNDS}\n\
         .next: mov edx, ecx\n and edx, 1023\n mov eax, [tide + rdx*4]\n add eax, ecx\n mov [tide + rdx*4], eax\n\
         add ebx, eax\n cmp ebx, 1000000\n jb .small\n sub ebx, 1000000\n.small: dec ecx\n jnz .next\n\
         mov edi, ebx\n and edi, 127\n mov eax, 60\n syscall\n"
    )
}

fn image(text: String) -> Image {
    let source = Source { name: "bench.s".into(), text: text.into() };
    let object = assemble(&source, &Options::default()).object.expect("the bench assembles");
    link(&[object], &LinkOptions::default()).expect("the bench links")
}

/// Runs a program to its end; its status and the number of instructions.
fn emulate(image: &Image) -> (i32, u64) {
    let startup = Startup::with_arguments(vec!["bench".into()]);
    let mut process = Process::start(image, &startup).expect("the arguments are short");
    loop {
        if let Stop::Ended(ending) = process.run(u64::MAX).stop {
            let Ending::Exited(status) = ending else { panic!("{ending:?}") };
            return (status, process.executed());
        }
    }
}

fn benches(criterion: &mut Criterion) {
    let folder = tempfile::tempdir().expect("a temporary folder");
    for (name, text) in [("register loop", register_loop()), ("table loop", table_loop())] {
        let image = image(text);
        let path = folder.path().join("program");
        std::fs::write(&path, write_executable(&image)).expect("the program is written");
        std::fs::set_permissions(&path, PermissionsExt::from_mode(0o755)).expect("it may be run");
        let native = || Command::new(&path).status().expect("it runs").code();
        let (status, instructions) = emulate(&image);
        assert_eq!(native(), Some(status), "both ways end alike");

        let mut group = criterion.benchmark_group(name);
        group.throughput(Throughput::Elements(instructions)).sample_size(10);
        group.bench_function("emulated", |bencher| bencher.iter(|| emulate(black_box(&image))));
        group.bench_function("native", |bencher| bencher.iter(native));
        group.finish();

        let (ours, theirs) = common::side_by_side(
            7,
            || {
                emulate(&image);
            },
            || {
                native();
            },
        );
        let rate = instructions as f64 / ours.as_secs_f64() / 1e6;
        let ratio = ours.as_secs_f64() / theirs.as_secs_f64();
        println!(
            "{name}: {instructions} instructions, {rate:.0} million a second emulated, {ratio:.1} times the native time"
        );
    }
}

criterion_group!(group, benches);
criterion_main!(group);
