//! Recorded single steps beside the kernel's single-stepping, going back at the end of a long run, and the time
//! from a key to a drawn frame.

#![allow(missing_docs, reason = "the macros of the bench make public functions")]

mod common;

use std::fs::File;
use std::hint::black_box;
use std::io::{Read, Write};
use std::os::unix::fs::PermissionsExt;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use nix::pty::{Winsize, openpty};
use sotto_asm::{Options, Source, assemble};
use sotto_kernel::Startup;
use sotto_native::Native;
use sotto_object::{Image, LinkOptions, link, write_executable};
use sotto_session::{Session, SourceText, StepReport, StopReason};

const KERNEL: &str = include_str!("kernels/crc.s");
/// Steps of one measurement.
const STEPS: u64 = 200_000;
/// Steps of one measurement by the kernel, which is slow.
const NATIVE_STEPS: u64 = 5_000;

/// Sums a table over and over, for a billion instructions.
const LONG: &str = " .target x86-64
 .global _start
 .bss
table: .skip 1048576
 .text
_start:
 mov r8d, 125000000
 xor ecx, ecx
.next:
 mov eax, ecx
 and eax, 1048568
 add [table + rax], rcx
 add rdx, rax
 xor edx, ecx
 add ecx, 8
 dec r8d
 jnz .next
 xor edi, edi
 mov eax, 60
 syscall
";

fn image(text: &str) -> Image {
    let source = Source { name: "bench.s".into(), text: text.into() };
    let object = assemble(&source, &Options::default()).object.expect("the bench assembles");
    link(&[object], &LinkOptions::default()).expect("the bench links")
}

fn session(text: &str) -> Session {
    let sources = vec![SourceText::new("bench.s".into(), text.into())];
    let startup = Startup::with_arguments(["bench"]);
    Session::start(image(text), sources, &startup).expect("the program starts")
}

fn steps(criterion: &mut Criterion) {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let path = folder.path().join("program");
    std::fs::write(&path, write_executable(&image(KERNEL))).expect("the program is written");
    std::fs::set_permissions(&path, PermissionsExt::from_mode(0o755)).expect("it may be run");
    let recorded = |session: &mut Session| {
        let mut report = StepReport::default();
        for _ in 0..STEPS {
            let (completed, _) = session.step_into(&mut report);
            assert!(completed, "the program is long enough");
            black_box(&report);
        }
        session.go_to(0);
    };
    let mut ours = session(KERNEL);
    let mut group = criterion.benchmark_group("recorded steps");
    group.throughput(Throughput::Elements(STEPS)).sample_size(10);
    group.bench_function("emulated", |bencher| bencher.iter(|| recorded(&mut ours)));
    group.finish();

    let native = || {
        let mut system =
            Native::start(&path, &["bench"], Stdio::null(), Stdio::null()).expect("it starts");
        for _ in 0..NATIVE_STEPS {
            system.step().expect("it steps");
        }
    };
    let (emulated, kernel) = common::side_by_side(5, || recorded(&mut ours), native);
    let rate = STEPS as f64 / emulated.as_secs_f64() / 1e6;
    let native_rate = NATIVE_STEPS as f64 / kernel.as_secs_f64() / 1e6;
    println!(
        "recorded steps: {rate:.2} million a second; by the kernel {native_rate:.3} million, {:.0} times fewer",
        rate / native_rate
    );
}

fn back(_: &mut Criterion) {
    let mut session = session(LONG);
    let start = Instant::now();
    assert_eq!(session.resume(&[], u64::MAX / 2, &|| false), StopReason::Terminated);
    let (ran, moment) = (start.elapsed(), session.moment());
    let mut times: Vec<Duration> = Vec::new();
    for _ in 0..9 {
        let start = Instant::now();
        session.back(1);
        times.push(start.elapsed());
    }
    times.sort();
    println!(
        "back at the end of {moment} instructions (run in {ran:.2?}): {:.2?} in the median, {:.2?} at most; history takes {} MB",
        times[times.len() / 2],
        times[times.len() - 1],
        session.history_bytes() >> 20
    );
    let start = Instant::now();
    session.go_to(moment / 3);
    println!("going to a third of it: {:.2?}", start.elapsed());
}

/// Time from a key to the end of the frame that follows.
/// Steps as lines of JSON, from the built program.
fn json(_: &mut Criterion) {
    let folder = tempfile::tempdir().expect("a temporary folder");
    std::fs::write(folder.path().join("crc.s"), KERNEL).expect("the program is written");
    let run = |steps: u64| {
        let mut child = Command::new(env!("CARGO_BIN_EXE_sotto"))
            .current_dir(folder.path())
            .args(["step", "--json", "crc.s"])
            .stdin(Stdio::piped())
            .stdout(Stdio::null())
            .spawn()
            .expect("the program is built");
        let mut input = child.stdin.take().expect("it is piped");
        writeln!(input, "check off\nstep {steps}").expect("it reads");
        drop(input);
        child.wait().expect("it ends");
    };
    let (all, none) = common::side_by_side(5, || run(STEPS), || run(1));
    let rate = STEPS as f64 / all.saturating_sub(none).as_secs_f64() / 1e6;
    println!("steps as JSON: {rate:.2} million a second");
}

fn frames(_: &mut Criterion) {
    let folder = tempfile::tempdir().expect("a temporary folder");
    std::fs::write(folder.path().join("crc.s"), KERNEL).expect("the source is written");
    let size = Winsize { ws_row: 50, ws_col: 160, ws_xpixel: 0, ws_ypixel: 0 };
    let pair = openpty(Some(&size), None).expect("a terminal");
    let terminal = || Stdio::from(pair.slave.try_clone().expect("a descriptor"));
    let mut child = Command::new(env!("CARGO_BIN_EXE_sotto"))
        .args(["step", "crc.s"])
        .current_dir(folder.path())
        .env("TERM", "xterm")
        .env("XDG_STATE_HOME", folder.path())
        .stdin(terminal())
        .stdout(terminal())
        .stderr(terminal())
        .spawn()
        .expect("sotto starts");
    let mut screen = File::from(pair.master.try_clone().expect("a descriptor"));
    let mut keys = File::from(pair.master);
    let mut frame = |keys: &mut File, key: &[u8]| {
        let start = Instant::now();
        keys.write_all(key).expect("a key is pressed");
        let (mut seen, mut bytes) = (Vec::new(), [0; 65536]);
        while !seen.windows(8).any(|window| window == b"\x1b[?2026l") {
            let count = screen.read(&mut bytes).expect("it draws");
            seen.extend_from_slice(&bytes[..count]);
        }
        start.elapsed()
    };
    frame(&mut keys, b"");
    let mut median = |keys: &mut File, key: &[u8]| {
        let mut times: Vec<Duration> = (0..101).map(|_| frame(keys, key)).collect();
        times.sort();
        (times[50], times[95])
    };
    for (name, key) in [("step", "\x1b[C"), ("back", "\x1b[D"), ("scroll", "\x1b[6~")] {
        let (half, most) = median(&mut keys, key.as_bytes());
        println!("{name}: {half:.2?} from key to frame in the median, {most:.2?} for 95 of 100");
    }
    let _ = child.kill();
    let _ = child.wait();
}

criterion_group!(all, steps, json, back, frames);
criterion_main!(all);
