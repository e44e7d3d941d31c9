//! System calls and deliveries of signals: loops of them run emulated beside the same program on this kernel.

#![allow(missing_docs, reason = "the macros of the bench make public functions")]

mod common;
mod programs;

use std::hint::black_box;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::Command;

use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use sotto_object::write_executable;

/// Rounds of a loop.
const ROUNDS: u64 = 200_000;

/// A program that makes ready, goes round a loop, and exits.
fn program(ready: &str, round: &str) -> String {
    format!(
        " .target x86-64
 .global _start
 .rodata
null: .string \"/dev/null\"
line: .string \"02:40 fog, bell\"
 .data
action: .quad handler, 0x04000000, restore, 0
 .text
_start:
{ready}
 mov ebx, {ROUNDS}
.round:
{round}
 dec ebx
 jnz .round
 xor edi, edi
 mov eax, 60
 syscall
handler: ret
restore: mov eax, 15
 syscall
"
    )
}

const OPEN: &str = " lea rdi, [null]\n mov esi, 1\n mov eax, 2\n syscall\n mov r12d, eax";
const GETPID: &str = " mov eax, 39\n syscall";
const WRITE: &str = " mov edi, r12d\n lea rsi, [line]\n mov edx, 15\n mov eax, 1\n syscall";
const HANDLE: &str = " mov edi, 10\n lea rsi, [action]\n xor edx, edx\n mov r10d, 8\n mov eax, 13\n syscall\n mov eax, 39\n syscall\n mov r12d, eax";
const KILL: &str = " mov edi, r12d\n mov esi, 10\n mov eax, 62\n syscall";

fn natively(path: &Path) {
    let status = Command::new(path).status().expect("the program runs here");
    assert!(status.success());
}

fn calls(criterion: &mut Criterion) {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let mut group = criterion.benchmark_group("system calls");
    group.throughput(Throughput::Elements(ROUNDS)).sample_size(10);
    let mut lines = Vec::new();
    for (name, ready, round) in [
        ("getpid", "", GETPID),
        ("write to /dev/null", OPEN, WRITE),
        ("kill and its handler", HANDLE, KILL),
    ] {
        let image = programs::image(&program(ready, round));
        let path = folder.path().join("program");
        std::fs::write(&path, write_executable(&image)).expect("the program is written");
        std::fs::set_permissions(&path, PermissionsExt::from_mode(0o755)).expect("it may be run");
        let emulate = || assert_eq!(programs::emulate(black_box(&image)).0, 0);
        group.bench_function(name, |bencher| bencher.iter(emulate));
        let (ours, theirs) = common::side_by_side(5, emulate, || natively(&path));
        let each = |time: std::time::Duration| time.as_nanos() as f64 / ROUNDS as f64;
        lines.push(format!(
            "{name}: {:.0} ns emulated, {:.0} ns natively, {:.1} times",
            each(ours),
            each(theirs),
            each(ours) / each(theirs)
        ));
    }
    group.finish();
    println!("{}", lines.join("\n"));
}

criterion_group!(benches, calls);
criterion_main!(benches);
