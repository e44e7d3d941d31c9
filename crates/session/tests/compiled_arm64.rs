//! A64 against a compiler: the same C source, compiled for arm64 and run under the emulator, gives the
//! number that it gives when compiled for this computer and run on it; and every instruction the
//! compiler chose is printed and assembled again to the same bytes.

mod common;

use std::path::Path;
use std::process::Command;

use sotto_isa::{Arch, NoNames, Storage, decode};
use sotto_kernel::{Process, Startup, Stop};
use sotto_object::{Image, read_executable};

const CROSS: &str = "aarch64-linux-gnu-gcc";

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

/// Runs from the entry until it returns to nowhere; the value in x0.
fn result_of(image: &Image) -> u64 {
    let mut process =
        Process::start(image, &Startup::with_arguments(vec!["buoys".into()])).unwrap();
    let stop = process.run(1 << 32).stop;
    assert!(matches!(stop, Stop::Ended(_)), "{stop:?}");
    assert_eq!(process.machine.pc(), 0, "it returned to where nobody called from: {stop:?}");
    process.machine.register(Storage(0))
}

#[test]
fn compiled_programs_compute_what_they_compute_natively_and_reassemble() {
    if !has(CROSS) || !has("cc") {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let source = common::data().join("compiled/buoys.c");
    let native = folder.path().join("native");
    compile("cc", &["-O1", "-DPRINT"], &source, &native);
    let printed = Command::new(&native).output().unwrap().stdout;
    let wanted: u64 = String::from_utf8(printed).unwrap().trim().parse().unwrap();

    for level in ["-O0", "-O1", "-O2"] {
        let program = folder.path().join("program");
        let arguments = [
            level,
            "-ffreestanding",
            "-nostdlib",
            "-static",
            "-fno-stack-protector",
            "-mgeneral-regs-only",
            "-Wl,-e,check",
            "-Wl,--build-id=none",
        ];
        compile(CROSS, &arguments, &source, &program);
        let image = read_executable(&std::fs::read(&program).unwrap()).unwrap();
        assert_eq!(result_of(&image), wanted, "{level}");

        let mut count = 0;
        for segment in image.segments.iter().filter(|segment| segment.exec) {
            for (_, address, size, flags, _) in &segment.sections {
                if !flags.exec {
                    continue;
                }
                let start = (address - segment.address) as usize;
                let code = &segment.data[start..start + *size as usize];
                for (index, word) in code.chunks_exact(4).enumerate() {
                    let at = address + 4 * index as u64;
                    let instruction = decode(Arch::Arm64, word, at)
                        .unwrap_or_else(|error| panic!("{level} {at:#x} {word:02x?}: {error}"));
                    let text = instruction.print(&NoNames);
                    let again = sotto_asm::assemble_instruction(Arch::Arm64, &text, at);
                    assert_eq!(again.as_deref(), Ok(word), "{level} `{text}`");
                    count += 1;
                }
            }
        }
        assert!(count > 100, "{level}: only {count} instructions");
    }
}
