//! How much memory the stepper takes beside the memory that its program touches.

mod common;

use std::io::{BufRead, BufReader, Write};
use std::process::{Command, Stdio};

use common::Folder;

const TOUCHED: u64 = 256 << 20;

/// Touches each page of 256 MiB.
const TOUCH: &str = " .target x86-64
 .global _start
 .bss
room: .skip 1 << 28
 .text
_start: lea rdi, [room]
 mov ecx, 65536
.next: mov [rdi], rcx
 add rdi, 4096
 dec ecx
 jnz .next
done: mov eax, 60
 xor edi, edi
 syscall
";

#[test]
fn pages_that_were_touched_are_held_once_when_stepping_goes_on() {
    let folder = Folder::new(&[("touch.s", TOUCH)]);
    let mut stepper = Command::new(env!("CARGO_BIN_EXE_sotto"))
        .args(["step", "--plain"])
        .arg(folder.path("touch.s"))
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .expect("the stepper starts");
    let mut input = stepper.stdin.take().expect("it has an input");
    input.write_all(b"until done\nstep\nmark lit\n").expect("it takes commands");
    let mut answers = BufReader::new(stepper.stdout.take().expect("it has an output")).lines();
    let marked = answers.any(|line| line.expect("a line of text").contains("lit"));
    assert!(marked, "the mark is made");
    let status = std::fs::read_to_string(format!("/proc/{}/status", stepper.id()))
        .expect("the kernel tells of the process");
    input.write_all(b"quit\n").expect("it takes commands");
    drop(input);
    assert!(stepper.wait().expect("it ends").success());
    let peak = status.lines().find_map(|line| line.strip_prefix("VmHWM:")).expect("a peak");
    let peak = peak.trim().trim_end_matches(" kB").parse::<u64>().expect("a number") << 10;
    assert!(peak > TOUCHED, "the pages were touched");
    let most = TOUCHED * 115 / 100;
    assert!(peak < most, "{} MiB, where {} MiB are the most", peak >> 20, most >> 20);
}
