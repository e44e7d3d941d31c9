//! What system calls answer to arguments that are wrong, and what a program reads behind its data: the same natively
//! and here.
#![cfg(all(target_os = "linux", target_arch = "x86_64"))]

mod common;

use std::io::Write;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::{Command, Stdio};

use sotto_kernel::{Startup, Stop, System, Termination};
use sotto_object::{Image, read_executable, write_executable};

const INPUT: &[u8] = b"04: 1.25\n05: 2.5\nfog at dawn\n";

/// What a program wrote to both streams, and its exit status.
type Outcome = (Vec<u8>, Vec<u8>, i32);

fn natively(file: &[u8], folder: &Path) -> Outcome {
    let path = folder.join("watch");
    std::fs::write(&path, file).unwrap();
    std::fs::set_permissions(&path, PermissionsExt::from_mode(0o755)).unwrap();
    let mut command = Command::new(&path);
    command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    // A test's fork may hold the file open that was just written.
    let mut child = loop {
        match command.spawn() {
            Err(error) if error.kind() == std::io::ErrorKind::ExecutableFileBusy => {
                std::thread::yield_now();
            }
            child => break child.unwrap(),
        }
    };
    // A program that reads nothing may be gone already.
    let _ = child.stdin.take().unwrap().write_all(INPUT);
    let output = child.wait_with_output().unwrap();
    (output.stdout, output.stderr, output.status.code().expect("it exits"))
}

fn emulated(image: &Image) -> Outcome {
    let startup = Startup::with_arguments(["watch"]);
    let mut system = System::start(image, &startup).unwrap();
    system.give_input(INPUT);
    system.close_input();
    let status = loop {
        match system.run(10_000_000).stop {
            Stop::Output | Stop::Paused | Stop::Unfinished => {}
            Stop::Terminated(Termination::Exited(status)) => break status,
            other => panic!("{other:?} at {:#x}", system.machine.pc()),
        }
    };
    let stream = |fd: u8| {
        let written = system.output().into_iter().filter(|output| output.fd == fd);
        written.flat_map(|output| output.bytes.clone()).collect()
    };
    (stream(1), stream(2), status)
}

fn compare(image: &Image, what: &str) {
    let folder = tempfile::tempdir().unwrap();
    let (native, ours) = (natively(&write_executable(image), folder.path()), emulated(image));
    let words = |bytes: &[u8], width: usize| -> Vec<i64> {
        let value = |word: &[u8]| {
            let mut all = [0; 8];
            all[..width].copy_from_slice(word);
            i64::from_le_bytes(all) << (64 - 8 * width) >> (64 - 8 * width)
        };
        bytes.chunks_exact(width).map(value).collect()
    };
    let width = image.arch.address_bytes() as usize;
    assert_eq!(words(&ours.1, width), words(&native.1, width), "{what}: results of the calls");
    assert_eq!(ours, native, "{what}");
}

/// Each call: number and arguments. `hole` is the start of a page that is not there, `log` a buffer before it.
const CALLS_64: &[&str] = &[
    "1, 1, hole - 10, 20",
    "1, 1, hole - 5000, 6000",
    "1, 1, hole - 8192, 9000",
    "1, 1, hole - 10, -1",
    "1, 1, hole - 10, 1 << 46",
    "1, 1, hole - 10, 0x7fffffffffff",
    "1, 1, 0x800000000000, 0",
    "1, 1, 0, 0",
    "1, 1, 0, 1",
    "1, 7, log, 1",
    "1, 0x100000001, log, 1",
    "0, 0, hole - 4, 16",
    "0, 0, log, -1",
    "0, 0, log, 1 << 46",
    "0, 0, 0x800000000000, 0",
    "0, 0, 0, 0",
    "0, 0, _start, 4",
    "0, 0, log, 8",
    "0, 0, log + 8, 100",
    "0, 1, log, 0",
    "20, 1, vector, 1",
    "20, 1, vector + 16, 1",
    "20, 1, vector + 32, 1",
    "20, 1, vector, 4",
    "20, 1, vector + 48, 2",
    "20, 1, hole - 8, 1",
    "20, 1, vector, 1025",
    "20, 1, vector, 0",
    "20, 9, vector, 1",
    "3, 9",
    "3, 2 << 32",
    "62, 99999999, 0",
    "62, 99999999, 65",
    "62, 0, 65",
    "62, 0, 0",
    "62, 0, 17",
    "62, 0, 28",
    "234, 0, 5, 0",
    "234, 99999999, 99999999, 0",
    "257, -100, 8, 0",
    "257, -100, empty, 0",
    "2, hole - 1, 0",
    "21, 8, 0",
    "21, empty, 8",
    "89, 8, log, 10",
    "89, empty, log, 0",
    "262, -100, 8, log, 0",
    "262, -100, empty, log, 0",
    "332, -100, 8, 0, 0",
    "9, 0, 4096, 3, 0x20, -1",
    "9, 0, 4096, 3, 0x23, -1",
    "9, 0, 0, 3, 0x22, -1",
    "9, 0, 4096, 3, 2, 77",
    "0x100000000 + 62, 0, 0",
    "0xffffffff",
    "318, hole - 4, 16, 0",
    "318, 8, 16, 0",
    "228, 99, log",
    "228, 0, 0",
    "228, 0, hole - 8",
    "96, 0, 0",
    "5, 1, hole - 8",
    "5, 9, log",
    "63, hole - 8",
    "13, 1, 0, hole - 8, 8",
    "8, 9, 0, 0",
    "8, 1, 0, 0",
    "16, 9, 0, 0",
    "16, 1, 0x5401, 0",
    "3, 1",
    "1, 1, log, 1",
    "20, 1, vector, 1",
    "3, 1",
    "5, 1, log + 64",
    "8, 1, 0, 0",
    "3, 0",
    "0, 0, log, 1",
    "0, 0, log, 0",
];

#[test]
fn calls_with_wrong_arguments_answer_as_the_kernel_does() {
    let asks: String = CALLS_64.iter().map(|call| format!(" ask {call}\n")).collect();
    let count = CALLS_64.len();
    let text = format!(
        "
        .target x86-64
        .global _start
        .macro ask number, a=0, b=0, c=0, d=0, e=0
        mov rax, \\number
        mov rdi, \\a
        mov rsi, \\b
        mov rdx, \\c
        mov r10, \\d
        mov r8, \\e
        xor r9d, r9d
        syscall
        mov [rbx], rax
        add rbx, 8
        .endm
        .data
empty:  .byte 0
        .balign 8
vector: .quad log, 5
        .quad log, -1
        .quad 0x800000000000, 8
        .quad log, 3
        .quad hole, 3
        .bss
results: .skip 8 * {count}
        .balign 4096
log:    .skip 8192
middle: .skip 4096
hole:   .skip 4096
        .text
_start:
        mov eax, 11
        mov rdi, hole
        mov esi, 4096
        syscall
        lea rbx, [results]
        {asks}
        mov eax, 1
        mov edi, 2
        lea rsi, [results]
        mov edx, 8 * {count}
        syscall
        mov eax, 231
        movzx edi, byte [log + 3]
        syscall
        "
    );
    compare(&common::image("watch.s", &text), "64-bit mode");
}

#[test]
fn calls_of_32_bit_programs_answer_as_the_kernel_does() {
    if !common::kernel_runs_32_bit() {
        return;
    }
    let calls = [
        "4, 1, hole - 10, 20",
        "4, 1, hole - 10, -1",
        "4, 1, hole - 5000, 6000",
        "4, 7, log, 1",
        "3, 0, hole - 4, 16",
        "3, 0, log, -1",
        "3, 0, log, 0",
        "146, 1, vector, 1",
        "146, 1, vector + 8, 1",
        "146, 1, vector + 16, 2",
        "37, 99999999, 0",
        "37, 0, 70",
        "5, 8, 0",
        "5, empty, 0",
        "85, 8, log, 10",
        "265, 0, 0",
        "265, 99, log",
        "192, 0, 4096, 3, 0x20, -1",
        "6, 1",
        "4, 1, log, 1",
    ];
    let asks: String = calls.iter().map(|call| format!(" ask {call}\n")).collect();
    let count = calls.len();
    let text = format!(
        "
        .target x86-32
        .global _start
        .macro ask number, a=0, b=0, c=0, d=0, e=0
        mov eax, \\number
        mov ebx, \\a
        mov ecx, \\b
        mov edx, \\c
        mov esi, \\d
        mov edi, \\e
        int 0x80
        mov [ebp], eax
        add ebp, 4
        .endm
        .data
empty:  .byte 0
        .balign 4
vector: .long log, 5
        .long log, -1
        .long log, 3
        .long hole, 3
        .bss
results: .skip 4 * {count}
        .balign 4096
log:    .skip 8192
hole:   .skip 4096
        .text
_start:
        mov eax, 91
        mov ebx, hole
        mov ecx, 4096
        int 0x80
        mov ebp, results
        {asks}
        mov eax, 4
        mov ebx, 2
        mov ecx, results
        mov edx, 4 * {count}
        int 0x80
        mov eax, 252
        movzx ebx, byte [log + 3]
        int 0x80
        "
    );
    compare(&common::image("watch.s", &text), "32-bit mode");
}

/// The kernel maps whole pages of a file: behind a segment's contents lies what follows them in the file, or zeros
/// where the segment goes on in memory.
#[test]
fn memory_behind_a_segment_holds_what_the_file_has_there() {
    let text = "
        .target x86-64
        .global _start
        .data
tide:   .byte 7
        .text
_start: movzx edi, byte [tide + 1]
        mov eax, 60
        syscall
        ";
    let image = common::image("tide.s", text);
    let mut file = write_executable(&image);
    let folder = tempfile::tempdir().unwrap();
    // As we write it, zeros follow.
    let read_back = read_executable(&file).unwrap();
    assert_eq!(emulated(&image), emulated(&read_back));
    assert_eq!(natively(&file, folder.path()), emulated(&image));
    assert_eq!(emulated(&image).2, 0);
    // Another writer may have put something there.
    let data = image.segments.iter().find(|segment| segment.write).unwrap();
    assert_eq!(data.data, [7]);
    let at = file.windows(2).rposition(|bytes| bytes == [7, 0]);
    let at = (0..file.len() / 4096).map(|page| page * 4096).find(|&page| file[page] == 7).or(at);
    file[at.unwrap() + 1] = 42;
    let ours = emulated(&read_executable(&file).unwrap());
    assert_eq!((natively(&file, folder.path()), ours.2), (ours.clone(), 42));
    // Instructions still end where the segment does.
    let code = image.segments.iter().find(|segment| segment.exec).unwrap();
    let mut system = System::start(&image, &Startup::with_arguments(["tide"])).unwrap();
    assert!(system.machine.instruction_at(code.end()).is_err());
    assert!(system.machine.memory_mut().read::<1>(code.end()).is_ok());
}
