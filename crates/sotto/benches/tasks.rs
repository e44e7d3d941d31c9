//! Threads and processes: making a process of a gibibyte, changing tasks, and trying interleavings.

#![allow(missing_docs, reason = "the macros of the bench make public functions")]

mod common;
mod programs;

use std::time::{Duration, Instant};

use criterion::{Criterion, criterion_group, criterion_main};
use sotto_kernel::{Startup, System};
use sotto_session::try_interleavings;

/// Touches a gibibyte, makes a process, and waits for it.
const FORK: &str = " .target x86-64
 .global _start
 .text
_start: xor edi, edi
 mov esi, 0x40000000
 mov edx, 3
 mov r10d, 0x22
 mov r8, -1
 xor r9d, r9d
 mov eax, 9
 syscall
 mov ecx, 0x40000
.touch: mov [rax], ecx
 add rax, 4096
 dec ecx
 jnz .touch
ready: mov eax, 57
 syscall
 test eax, eax
 jz .child
 mov edi, -1
 xor esi, esi
 xor edx, edx
 xor r10d, r10d
 mov eax, 61
 syscall
.child: xor edi, edi
 mov eax, 231
 syscall
";

/// Two threads that give way to each other so many times, or one that does so alone.
fn yielding(threads: bool) -> String {
    let make = " mov eax, 56\n mov edi, 0x10f00\n lea rsi, [room + 4096]\n xor edx, edx\n xor r10d, r10d\n xor r8d, r8d\n syscall\n";
    let make = if threads { make } else { "" };
    format!(
        " .target x86-64\n .global _start\n .bss\n .balign 16\nroom: .skip 4096\n .text\n_start:\n{make} mov ebx, {YIELDS}\n.round: mov eax, 24\n syscall\n dec ebx\n jnz .round\n xor edi, edi\n mov eax, 60\n syscall\n"
    )
}

const YIELDS: u64 = 200_000;
const SEEDS: u64 = 200;

fn never() -> bool {
    false
}

fn startup() -> Startup {
    Startup::with_arguments(["tasks"])
}

/// The time of the call that makes a process.
fn fork() -> Duration {
    let image = programs::image(FORK);
    let mut system = System::start(&image, &startup()).expect("the program starts");
    let ready = image.symbol("ready").expect("it is there").address;
    system.set_stops(&[ready]);
    while system.machine.pc() != ready {
        system.run(u64::MAX);
    }
    system.set_stops(&[]);
    let started = Instant::now();
    system.run(2);
    started.elapsed()
}

fn tasks(criterion: &mut Criterion) {
    let mut group = criterion.benchmark_group("tasks");
    group.sample_size(10);
    let (one, two) = (programs::image(&yielding(false)), programs::image(&yielding(true)));
    let run = |image| assert_eq!(programs::emulate(image).0, 0);
    group.bench_function("two threads that give way", |bencher| bencher.iter(|| run(&two)));
    let (alone, together) = common::side_by_side(5, || run(&one), || run(&two));
    let calls = 2 * YIELDS;
    let each = together.as_nanos() as f64 / calls as f64;
    let own = alone.as_nanos() as f64 / YIELDS as f64;
    let keepers = programs::image(include_str!("../demos/keepers.s"));
    let locked = include_str!("../demos/keepers.s").replace("inc     qword", "lock inc qword");
    let locked = programs::image(&locked);
    let seeds = || {
        let found = try_interleavings(&locked, &startup(), b"", SEEDS, u64::MAX, never);
        assert_eq!(found.expect("it starts").tried, SEEDS);
    };
    group.bench_function("interleavings", |bencher| bencher.iter(seeds));
    let plain = || (0..=SEEDS).for_each(|_| assert_eq!(programs::emulate(&keepers).0, 200));
    let (tried, plain) = common::side_by_side(5, seeds, plain);
    group.finish();
    let forks: Vec<Duration> = (0..5).map(|_| fork()).collect();
    println!(
        "a process of 1 GiB: {:.1} ms\na change of tasks: {:.0} ns beside a call of {own:.0} ns\na seed: {:.2} times a plain run",
        forks.iter().min().expect("some were made").as_secs_f64() * 1e3,
        each - own,
        tried.as_secs_f64() / plain.as_secs_f64(),
    );
}

criterion_group!(benches, tasks);
criterion_main!(benches);
