//! Watching a run without looking at each instruction: traces between stops, conditional breakpoints, watches and the
//! first look at the stack, as ratios to a plain run of the same program; and lines of a trace a second.

#![allow(missing_docs, reason = "the macros of the bench make public functions")]

mod common;

use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use criterion::{Criterion, criterion_group, criterion_main};

/// A loop of five instructions, 10^8 in all; nobody writes `seen`.
const LOOP: &str = " .target x86-64
 .global _start
 .data
tide: .quad 0
seen: .quad 0
 .text
_start: mov ecx, 20000000
.more: add rax, rcx
 xor rdx, rax
 mov [tide], rdx
 dec ecx
 jnz .more
done: mov eax, 60
 xor edi, edi
 syscall
";

/// A run with a call deep in the past, after which the stack is looked at.
const CALLS: &str = " .target x86-64
 .global _start
_start: call fog
 nop
fog: push rbx
 sub rsp, 32
 mov ecx, 20000000
.more: call bell
 dec ecx
 jnz .more
done: mov eax, 60
 xor edi, edi
 syscall
bell: push rax
 pop rax
 ret
";

struct Program {
    folder: tempfile::TempDir,
}

impl Program {
    fn new(text: &str) -> Program {
        let folder = tempfile::tempdir().expect("a temporary folder");
        std::fs::write(folder.path().join("bench.s"), text).expect("the source is written");
        Program { folder }
    }

    /// How long `sotto WORDS` takes; a script is given to commands that take one.
    fn time(&self, words: &[&str], script: &str) -> Duration {
        let path = self.folder.path().join("script");
        std::fs::write(&path, script).expect("the script is written");
        let mut command = Command::new(env!("CARGO_BIN_EXE_sotto"));
        command.current_dir(self.folder.path()).args(words).stdin(Stdio::null());
        command.stderr(Stdio::null());
        let out = std::fs::File::create(self.folder.path().join("out")).expect("a file");
        let start = Instant::now();
        let status = command.stdout(out).status().expect("sotto runs");
        let time = start.elapsed();
        assert!(status.success(), "{words:?}");
        time
    }

    /// The time of a command as a multiple of another's, in turn.
    fn ratio(&self, words: &[&str], script: &str, plain: (&[&str], &str)) -> f64 {
        let (ours, plain) = common::side_by_side(
            3,
            || {
                self.time(words, script);
            },
            || {
                self.time(plain.0, plain.1);
            },
        );
        ours.as_secs_f64() / plain.as_secs_f64()
    }
}

const STEP: [&str; 5] = ["step", "bench.s", "--plain", "--script", "script"];

fn stops(_: &mut Criterion) {
    let program = Program::new(LOOP);
    let run: (&[&str], &str) = (&["run", "bench.s"], "");
    for (what, words) in [
        (
            "trace --at a place that is reached once",
            &["trace", "bench.s", "--at", "done", "--show", "rax"][..],
        ),
        ("trace --syscalls", &["trace", "bench.s", "--syscalls"]),
        ("trace --from the end", &["trace", "bench.s", "--from", "done"]),
    ] {
        println!("{what}: {:.2} times a plain run", program.ratio(words, "", run));
    }
    let plain: (&[&str], &str) = (&STEP, "resume\n");
    for (what, script) in [
        ("a breakpoint whose condition never holds", "break at .more when rax == 5\nresume\n"),
        ("a watch of memory that nobody writes", "watch [seen]\nresume\n"),
        ("a watch of a register that nobody writes", "watch rbx\nresume\n"),
    ] {
        println!("{what}: {:.2} times `resume` alone", program.ratio(&STEP, script, plain));
    }
}

fn lines(_: &mut Criterion) {
    const LINES: u64 = 1_000_000;
    let program = Program::new(LOOP);
    let limit = LINES.to_string();
    for (what, words) in [
        ("text", &["trace", "bench.s", "--limit", &limit][..]),
        ("JSON", &["trace", "bench.s", "--limit", &limit, "--json"]),
    ] {
        let time = (0..3).map(|_| program.time(words, "")).min().unwrap_or_default();
        let rate = LINES as f64 / time.as_secs_f64() / 1e6;
        println!("trace to a file, {what}: {rate:.2} million lines a second");
    }
}

fn stack(_: &mut Criterion) {
    for (what, text) in [("that leaves the stack alone", LOOP), ("of calls", CALLS)] {
        let program = Program::new(text);
        let (without, with) = common::side_by_side(
            3,
            || {
                program.time(&STEP, "until done\n");
            },
            || {
                program.time(&STEP, "until done\nstack\n");
            },
        );
        println!("the first `stack` after a long run {what}: {:.1?}", with.saturating_sub(without));
    }
}

criterion_group!(all, stops, lines, stack);
criterion_main!(all);
