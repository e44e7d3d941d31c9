//! Against compilers: the same C source, compiled for each machine and run under the emulator, gives
//! the number that it gives when compiled for this computer and run on it; and every instruction the
//! compiler chose is printed and assembled again to the same bytes, or to fewer.

mod common;

use std::path::Path;
use std::process::Command;

use sotto_isa::{Arch, Instruction, NoNames, OperandOrder, decode};
use sotto_kernel::{Process, Startup, Stop};
use sotto_object::{Image, read_executable};

/// A machine's compiler, what it needs to be told, and where the program ends up when its first
/// function returns to nobody: the number of arguments on x86, the link register's 0 on ARM.
const MACHINES: &[(Arch, &str, &[&str], u64)] = &[
    (
        Arch::X86_64,
        "cc",
        // Alignment is padded with prefixed no-ops that no row has yet.
        &[
            "-fcf-protection=none",
            "-fno-pie",
            "-no-pie",
            "-fno-align-functions",
            "-fno-align-loops",
            "-fno-align-jumps",
        ],
        1,
    ),
    (Arch::Arm64, "aarch64-linux-gnu-gcc", &[], 0),
];

/// Whether a compiler is there. Without it the test is skipped, which it says; in CI it must be there.
fn has(compiler: &str) -> bool {
    let found = Command::new(compiler).arg("--version").output().is_ok();
    if !found {
        assert!(std::env::var_os("CI").is_none(), "{compiler} must be installed in CI");
        eprintln!("skipped: {compiler} is not installed");
    }
    found
}

fn compile(compiler: &str, arguments: &[&str], source: &Path, output: &Path) {
    let result =
        Command::new(compiler).args(arguments).arg("-o").arg(output).arg(source).output().unwrap();
    assert!(result.status.success(), "{}", String::from_utf8_lossy(&result.stderr));
}

/// Runs from the entry until it returns to nowhere; the value it returns.
fn result_of(image: &Image, end: u64) -> u64 {
    let mut process =
        Process::start(image, &Startup::with_arguments(vec!["buoys".into()])).unwrap();
    let stop = process.run(1 << 32).stop;
    assert!(matches!(stop, Stop::Ended(_)), "{stop:?}");
    assert_eq!(process.machine.pc(), end, "it returned to where nobody called from: {stop:?}");
    process.machine.register(image.arch.convention().result)
}

/// Every instruction of the code, with its bytes.
fn instructions(image: &Image) -> Vec<(Instruction, Vec<u8>)> {
    let mut all = Vec::new();
    for segment in image.segments.iter().filter(|segment| segment.exec) {
        for (_, address, size, flags, _) in &segment.sections {
            let (mut at, end) = (*address, address + size);
            while flags.exec && at < end {
                let rest = &segment.data
                    [(at - segment.address) as usize..(end - segment.address) as usize];
                let instruction = decode(image.arch, rest, at).unwrap_or_else(|error| {
                    panic!("{at:#x} {:02x?}: {error}", &rest[..rest.len().min(15)])
                });
                at = instruction.end();
                let bytes = rest[..usize::from(instruction.length)].to_vec();
                all.push((instruction, bytes));
            }
        }
    }
    all
}

#[test]
fn compiled_programs_compute_what_they_compute_natively_and_reassemble() {
    if !has("cc") {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let source = common::data().join("compiled/buoys.c");
    let native = folder.path().join("native");
    compile("cc", &["-O1", "-DPRINT"], &source, &native);
    let printed = Command::new(&native).output().unwrap().stdout;
    let wanted: u64 = String::from_utf8(printed).unwrap().trim().parse().unwrap();

    for &(arch, compiler, extra, end) in MACHINES {
        if !has(compiler) {
            continue;
        }
        for level in ["-O0", "-O1", "-O2"] {
            let what = format!("{arch} {level}");
            let program = folder.path().join("program");
            let mut arguments = vec![
                level,
                "-ffreestanding",
                "-nostdlib",
                "-static",
                "-fno-stack-protector",
                "-mgeneral-regs-only",
                "-Wl,-e,check",
                "-Wl,--build-id=none",
            ];
            arguments.extend(extra);
            compile(compiler, &arguments, &source, &program);
            let image = read_executable(&std::fs::read(&program).unwrap()).unwrap();
            assert_eq!(image.arch, arch);
            assert_eq!(result_of(&image, end), wanted, "{what}");

            let all = instructions(&image);
            assert!(all.len() > 100, "{what}: only {} instructions", all.len());
            for (instruction, bytes) in all {
                let text = instruction.print(&NoNames);
                let again = sotto_asm::assemble_instruction(
                    arch,
                    OperandOrder::DestinationFirst,
                    &text,
                    instruction.address,
                )
                .unwrap_or_else(|diagnostic| panic!("{what} `{text}`: {}", diagnostic.message));
                if again.len() < bytes.len() {
                    // A shorter equivalent: the compiler scaled a register by 2 where it could be added
                    // to itself, or left room in a displacement or an immediate.
                    let shorter = decode(arch, &again, instruction.address).unwrap();
                    assert_eq!(shorter.mnemonic(), instruction.mnemonic(), "{what} `{text}`");
                    continue;
                }
                assert_eq!(again, bytes, "{what} `{text}`");
            }
        }
    }
}
