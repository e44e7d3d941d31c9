//! C programs, linked with the whole C library, against the same programs run natively: the same output
//! on both streams and the same status, at three levels of optimisation. Every instruction that the
//! compiler chose for them is printed in both orders and assembled again.
#![cfg(all(target_os = "linux", target_arch = "x86_64"))]

mod common;

use std::path::{Path, PathBuf};
use std::process::Command;

use sotto_isa::{Arch, DecodeError, decode};
use sotto_kernel::{Startup, Stop, System, Termination};
use sotto_object::{
    Image, LinkOptions, SymbolKind, link, read_archive, read_executable, read_object, with_members,
    write_executable,
};

use common::native::{ARGUMENTS, INPUT, Outcome, c_programs, natively};

/// No program of the corpus needs more.
const BUDGET: u64 = 200_000_000;

/// A mode of the processor, with the compiler that makes programs for it.
#[derive(Copy, Clone)]
struct Mode {
    arch: Arch,
    compiler: &'static str,
    flags: &'static [&'static str],
    /// The corpus has at least so many instructions.
    instructions: usize,
}

const MODE_64: Mode = Mode { arch: Arch::X86_64, compiler: "cc", flags: &[], instructions: 3_500 };
const MODE_32: Mode = Mode {
    arch: Arch::X86_32,
    compiler: "i686-linux-gnu-gcc",
    flags: &["-msse2", "-mfpmath=sse"],
    instructions: 2_500,
};

/// Signs and roundings as on this computer: its compiler does not contract products and sums, and its characters are signed.
const MODE_ARM64: Mode = Mode {
    arch: Arch::Arm64,
    compiler: "aarch64-linux-gnu-gcc",
    flags: &["-ffp-contract=off", "-fsigned-char"],
    instructions: 3_000,
};
const MODE_ARM64_WIDER: Mode = Mode {
    flags: &["-ffp-contract=off", "-fsigned-char", "-march=armv8.2-a+crypto+dotprod+fp16+rdma"],
    ..MODE_ARM64
};

/// Programs that 32-bit mode cannot have yet: there floating point goes through the x87 unit, at
/// calls and in the library. Two have integers of 128 bits, which the compiler lacks there.
const NOT_IN_32_BITS: [&str; 16] = [
    "blocks",
    "complex",
    "floats",
    "hash",
    "input",
    "matrix",
    "numbers",
    "random",
    "rounding",
    "shifts",
    "specials",
    "structures",
    "unsigned",
    "variadic",
    "vectors",
    "waves",
];

impl Mode {
    fn cc(self, arguments: &[&str], paths: &[&Path]) {
        let mut command = Command::new(self.compiler);
        let result = command.args(self.flags).args(arguments).args(paths).output().unwrap();
        assert!(result.status.success(), "{}", String::from_utf8_lossy(&result.stderr));
    }

    /// Whether its compiler is there, and its programs can be run.
    fn is_there(self) -> bool {
        common::has(self.compiler) && (self.arch != Arch::X86_32 || common::kernel_runs_32_bit())
    }

    /// What the program of this source and level does on this computer.
    fn natively(self, program: &Path, source: &Path, level: &str) -> Outcome {
        if self.arch != Arch::Arm64 {
            return natively(program);
        }
        // The same source by the native compiler, under the same name.
        let folder = tempfile::tempdir().unwrap();
        let native = folder.path().join(program.file_name().unwrap());
        MODE_64.cc(&[level, "-w", "-static", "-o"], &[&native, source, Path::new("-lm")]);
        natively(&native)
    }

    /// The programs of the corpus that the mode can have.
    fn programs(self) -> Vec<PathBuf> {
        let mut programs = c_programs();
        if self.arch == Arch::X86_32 {
            let name = |path: &PathBuf| path.file_stem().unwrap().to_str().unwrap().to_string();
            programs.retain(|path| !NOT_IN_32_BITS.contains(&name(path).as_str()));
        }
        programs
    }
}

fn emulated(image: &Image, name: &str) -> Outcome {
    let arguments = [name].into_iter().chain(ARGUMENTS);
    let mut system = System::start(image, &Startup::with_arguments(arguments)).unwrap();
    system.give_input(INPUT.as_bytes());
    system.close_input();
    let mut left = BUDGET;
    let ending = loop {
        let progress = system.run(left);
        left -= progress.executed;
        match progress.stop {
            Stop::Terminated(ending) => break ending,
            Stop::Output | Stop::Paused | Stop::Unfinished => {}
            other => panic!("{name}: {other:?} after {}", system.executed()),
        }
    };
    if let Termination::Killed(..) = ending {
        assert!(name.ends_with("aborts"), "{name}: {ending:?} at {:#x}", system.machine.pc());
    }
    let noticed = system.take_noticed();
    assert!(noticed.is_empty(), "{name}: {noticed:?}");
    let text = |fd: u8| {
        let parts = system.output().into_iter().filter(|part| part.fd == fd);
        String::from_utf8(parts.flat_map(|part| part.bytes.clone()).collect()).unwrap()
    };
    Outcome { output: text(1), errors: text(2), status: ending.shell_status() }
}

fn run_all(mode: Mode, level: &str) {
    if !mode.is_there() {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let mut instructions = 0;
    for source in mode.programs() {
        let name = source.file_stem().unwrap().to_str().unwrap();
        let (object, program) = (folder.path().join("o.o"), folder.path().join(name));
        mode.cc(&[level, "-w", "-c", "-o"], &[&object, &source]);
        mode.cc(&["-static", "-o"], &[&program, &object, Path::new("-lm")]);
        let image = read_executable(&std::fs::read(&program).unwrap()).unwrap();
        let what = program.to_str().unwrap();
        assert_eq!(
            emulated(&image, what),
            mode.natively(&program, &source, level),
            "{name} {level}"
        );
        let parsed = read_object(name, &std::fs::read(&object).unwrap()).unwrap();
        for section in parsed.sections.iter().filter(|section| section.flags.exec) {
            let refused = reassemble(mode.arch, &section.data, 0, &mut instructions);
            assert_eq!(refused, None, "{name} {level} in {}", section.name);
        }
    }
    assert!(instructions > mode.instructions, "{level}: only {instructions} instructions");
}

/// The files of a static program around its own object: what comes before it, and what comes after.
fn c_library(mode: Mode) -> (Vec<PathBuf>, Vec<PathBuf>) {
    let file = |name: &str| {
        let mut command = Command::new(mode.compiler);
        let option = format!("-print-file-name={name}");
        let printed = command.args(mode.flags).arg(option).output().unwrap().stdout;
        PathBuf::from(String::from_utf8(printed).unwrap().trim())
    };
    // The mathematical library may be a text that names its archives.
    let mathematics = file("libm.a");
    let text = std::fs::read(&mathematics).unwrap();
    let mathematics = match text.starts_with(b"!<arch>") {
        true => vec![mathematics],
        false => String::from_utf8(text)
            .unwrap()
            .split_whitespace()
            .filter(|word| word.ends_with(".a"))
            .map(PathBuf::from)
            .collect(),
    };
    let before = ["crt1.o", "crti.o", "crtbeginT.o"].map(file).to_vec();
    let mut after = mathematics;
    after.extend(["libc.a", "libgcc.a", "libgcc_eh.a", "crtend.o", "crtn.o"].map(file));
    (before, after)
}

/// Links C programs with the C library by our own linker: thread-local data, functions that are chosen at run time,
/// the tables of routines that run at the start and the end.
fn link_all(mode: Mode) {
    if !mode.is_there() {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let (before, after) = c_library(mode);
    let read = |path: &Path| (path.display().to_string(), std::fs::read(path).unwrap());
    let (mut objects, mut archives) = (Vec::new(), Vec::new());
    let all = before.iter().map(Some).chain([None]).chain(after.iter().map(Some));
    for (place, path) in all.enumerate() {
        let Some((name, bytes)) = path.map(|path| read(path)) else { continue };
        match bytes.starts_with(b"!<arch>") {
            true => archives.push((place, read_archive(&name, &bytes).unwrap())),
            false => objects.push((place, read_object(&name, &bytes).unwrap())),
        }
    }
    for source in mode.programs() {
        let name = source.file_stem().unwrap().to_str().unwrap();
        let (object, program) = (folder.path().join("o.o"), folder.path().join(name));
        mode.cc(&["-O2", "-w", "-c", "-o"], &[&object, &source]);
        // The compiler's own link of it, under the same name.
        mode.cc(&["-static", "-o"], &[&program, &object, Path::new("-lm")]);
        let wanted = mode.natively(&program, &source, "-O2");
        let own = read_object(name, &std::fs::read(&object).unwrap()).unwrap();
        let mut objects = objects.clone();
        objects.push((before.len(), own));
        let objects = with_members(objects, archives.clone(), "_start");
        let image = link(&objects, &LinkOptions::default()).unwrap();
        let bytes = write_executable(&image);
        std::fs::write(&program, &bytes).unwrap();
        let runs = std::os::unix::fs::PermissionsExt::from_mode(0o755);
        std::fs::set_permissions(&program, runs).unwrap();
        if mode.arch != Arch::Arm64 {
            assert_eq!(natively(&program), wanted, "{name} natively");
        }
        let what = program.to_str().unwrap();
        assert_eq!(emulated(&image, what), wanted, "{name} in memory");
        assert_eq!(emulated(&read_executable(&bytes).unwrap(), what), wanted, "{name} as a file");
    }
}

#[test]
fn programs_that_our_linker_links_behave_as_natively() {
    link_all(MODE_64);
}

#[test]
fn programs_of_32_bits_that_our_linker_links_behave_as_natively() {
    link_all(MODE_32);
}

#[test]
fn programs_for_arm64_that_our_linker_links_behave_as_natively() {
    link_all(MODE_ARM64);
}

#[test]
fn programs_behave_as_natively_without_optimisation() {
    run_all(MODE_64, "-O0");
}

#[test]
fn programs_behave_as_natively_with_optimisation() {
    run_all(MODE_64, "-O2");
}

#[test]
fn programs_behave_as_natively_with_more_optimisation() {
    run_all(MODE_64, "-O3");
}

#[test]
fn programs_of_32_bits_behave_as_natively_without_optimisation() {
    run_all(MODE_32, "-O0");
}

#[test]
fn programs_of_32_bits_behave_as_natively_with_optimisation() {
    run_all(MODE_32, "-O2");
}

#[test]
fn programs_of_32_bits_behave_as_natively_with_more_optimisation() {
    run_all(MODE_32, "-O3");
}

#[test]
fn programs_for_arm64_behave_as_natively_without_optimisation() {
    run_all(MODE_ARM64, "-O0");
}

#[test]
fn programs_for_arm64_behave_as_natively_with_optimisation() {
    run_all(MODE_ARM64, "-O2");
}

#[test]
fn programs_for_arm64_behave_as_natively_with_more_optimisation() {
    run_all(MODE_ARM64, "-O3");
}

#[test]
fn programs_for_arm64_behave_as_natively_with_wider_extensions() {
    run_all(MODE_ARM64_WIDER, "-O3");
}

/// Assembles every instruction again from its text in both orders; the bytes at the first that is none.
fn reassemble(arch: Arch, code: &[u8], address: u64, count: &mut usize) -> Option<Vec<u8>> {
    let mut at = 0;
    while at < code.len() {
        let rest = &code[at..];
        match decode(arch, rest, address + at as u64) {
            Ok(instruction) => {
                let length = usize::from(instruction.length);
                common::reassembles(&instruction, &rest[..length]);
                at += length;
                *count += 1;
            }
            Err(DecodeError::CutOff | DecodeError::Invalid) => {
                return Some(rest[..rest.len().min(15)].to_vec());
            }
        }
    }
    None
}

/// Whether the bytes start an instruction of a group that has no rows yet: x87, MMX, AVX and what came
/// after it, saved states, transactions.
fn is_of_a_later_group(arch: Arch, bytes: &[u8]) -> bool {
    if let (Arch::Arm64, Some(word)) = (arch, bytes.first_chunk()) {
        let word = u32::from_le_bytes(*word);
        // Scalable vectors; memory tags: of loads and stores, and of data processing.
        return word >> 25 & 15 == 2 || word >> 24 == 0xd9 || word >> 21 == 0x4d6;
    }
    let prefix = |byte: &u8| matches!(byte, 0x26 | 0x2e | 0x36 | 0x3e | 0x40..=0x4f | 0x64..=0x67 | 0xf0 | 0xf2 | 0xf3);
    let start = bytes.iter().take_while(|byte| prefix(byte)).count();
    match bytes[start..] {
        // EVEX, VEX, XOP, x87.
        [0x62 | 0xc4 | 0xc5 | 0x8f | 0xd8..=0xdf, ..] => true,
        // Shadow stacks, transactions, XGETBV; XSAVE and its kin; MMX.
        [0x0f, 0x01 | 0x1e | 0xae | 0xc7, ..] | [0xc6 | 0xc7, 0xf8, ..] => true,
        [0x0f, 0x60..=0x7f | 0xd1..=0xff, ..] => true,
        // AES, SHA, carry-less multiplication, MOVDIR.
        [0x0f, 0x38, 0xc8..=0xdf | 0xf5..=0xff, ..] => true,
        [0x0f, 0x3a, 0x44 | 0xcc..=0xdf, ..] => true,
        _ => false,
    }
}

/// The whole C library, routine by routine: nothing is refused but the groups that come later.
#[test]
fn every_routine_of_a_static_program_decodes_and_reassembles() {
    every_routine_reassembles(MODE_64);
}

#[test]
fn every_routine_of_a_static_program_of_32_bits_decodes_and_reassembles() {
    every_routine_reassembles(MODE_32);
}

#[test]
fn every_routine_of_a_static_program_for_arm64_decodes_and_reassembles() {
    every_routine_reassembles(MODE_ARM64);
}

fn every_routine_reassembles(mode: Mode) {
    if !mode.is_there() {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let program = folder.path().join("floats");
    let source = common::data().join("c/floats.c");
    mode.cc(&["-O2", "-static", "-o"], &[&program, &source]);
    let image = read_executable(&std::fs::read(&program).unwrap()).unwrap();
    let (mut instructions, mut whole, mut partly) = (0, 0, 0);
    // There constants lie beside code.
    let is_code = |kind: SymbolKind| mode.arch != Arch::Arm64 || kind == SymbolKind::Function;
    let symbols = image.symbols.iter().filter(|symbol| is_code(symbol.kind));
    for symbol in symbols.filter(|symbol| symbol.size > 0 && !symbol.absolute) {
        let Some(segment) = image.segment_at(symbol.address).filter(|segment| segment.exec) else {
            continue;
        };
        let start = (symbol.address - segment.address) as usize;
        let Some(code) = segment.data.get(start..start + symbol.size as usize) else { continue };
        match reassemble(mode.arch, code, symbol.address, &mut instructions) {
            None => whole += 1,
            Some(bytes) => {
                assert!(is_of_a_later_group(mode.arch, &bytes), "{} at {bytes:02x?}", symbol.name);
                partly += 1;
            }
        }
    }
    println!("{}: {instructions} instructions, {whole} routines whole, {partly} not", mode.arch);
    assert!(instructions > 100_000 && whole > 5 * partly, "{instructions} {whole} {partly}");
}
