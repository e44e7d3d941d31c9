//! Threads and processes: making a process of a gibibyte, changing tasks, trying interleavings, and recording.

#![allow(missing_docs, reason = "the macros of the bench make public functions")]

mod common;
mod programs;

use std::sync::Arc;
use std::time::{Duration, Instant};

use criterion::{Criterion, criterion_group, criterion_main};
use sotto_kernel::{
    FolderReader, HOME, ShownEntry, ShownFolder, ShownKind, Startup, Stop, System, Termination,
};
use sotto_object::Image;
use sotto_session::recording::{Outputs, Recorder};
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

/// Reads a file piece by piece, adds up what it reads, and writes each sum.
const READER: &str = " .target x86-64
 .global _start
 .data
name: .string \"log\"
 .bss
piece: .skip 4096
sum: .skip 8
 .text
_start: mov eax, 2
 lea rdi, [name]
 xor esi, esi
 syscall
 mov ebx, eax
.read: xor eax, eax
 mov edi, ebx
 lea rsi, [piece]
 mov edx, 4096
 syscall
 test eax, eax
 jz .done
 lea rsi, [piece]
 mov ecx, eax
.add: movzx edx, byte [rsi]
 add [sum], rdx
 inc rsi
 dec ecx
 jnz .add
 mov eax, 1
 mov edi, 1
 lea rsi, [sum]
 mov edx, 8
 syscall
 jmp .read
.done: xor edi, edi
 mov eax, 60
 syscall
";

/// A folder with one file.
struct Desk;

const LOG_BYTES: usize = 4 << 20;

impl FolderReader for Desk {
    fn entries(&self, _: &[u8]) -> Vec<ShownEntry> {
        let kind = ShownKind::File(LOG_BYTES as u64);
        let (name, permissions, owner, links, modified) = (b"log".to_vec(), 0o644, None, 1, 0);
        vec![ShownEntry { name, kind, permissions, owner, links, modified }]
    }

    fn contents(&self, _: &[u8]) -> Option<Vec<u8>> {
        Some((0..LOG_BYTES).map(|at| at as u8).collect())
    }
}

/// Runs the reader, and makes a recording of it if asked.
fn read(image: &Image, records: bool) {
    let mut recorder = records.then(|| Recorder::new("reader.s", image));
    let folder = ShownFolder::new(HOME.to_vec(), Arc::new(Desk));
    let folder = recorder.as_mut().map(|recorder| recorder.folder(&folder)).unwrap_or(folder);
    let startup = Startup { folders: vec![folder], ..startup() };
    let mut system = System::start(image, &startup).expect("the program starts");
    let mut outputs = Outputs::default();
    let ending = loop {
        let stop = system.run(u64::MAX).stop;
        for chunk in system.take_output() {
            if records {
                outputs.note(chunk.fd, &chunk.bytes);
            }
        }
        if let Stop::Terminated(ending) = stop {
            break ending;
        }
    };
    assert_eq!(ending, Termination::Exited(0));
    if let Some(recorder) = recorder {
        let result = outputs.result(system.executed(), Some(ending));
        assert!(recorder.finish(&startup, result).to_text().len() > LOG_BYTES);
    }
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
    let reader = programs::image(READER);
    group.bench_function("recording", |bencher| bencher.iter(|| read(&reader, true)));
    let (recorded, unrecorded) =
        common::side_by_side(5, || read(&reader, true), || read(&reader, false));
    group.finish();
    let forks: Vec<Duration> = (0..5).map(|_| fork()).collect();
    println!(
        "a process of 1 GiB: {:.1} ms\na change of tasks: {:.0} ns beside a call of {own:.0} ns\na seed: {:.2} times a plain run\nrecording: {:.2} times a plain run",
        forks.iter().min().expect("some were made").as_secs_f64() * 1e3,
        each - own,
        tried.as_secs_f64() / plain.as_secs_f64(),
        recorded.as_secs_f64() / unrecorded.as_secs_f64(),
    );
}

criterion_group!(benches, tasks);
criterion_main!(benches);
