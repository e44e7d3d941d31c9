//! What compilers write, through our assembler and our objects: every file is accepted, links as the compiler's own
//! build does, and behaves as that does.
//!
//! Each program of the corpus is taken with some of the combinations of flags, so that every combination is taken with
//! some programs; with `SOTTO_ALL_COMBINATIONS=1` all are. A file may be refused for instructions that are not modelled
//! yet, and for nothing else; such files are counted.
#![cfg(all(target_os = "linux", target_arch = "x86_64"))]

mod common;

use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};

use common::native::{Outcome, c_programs, natively};
use sotto_asm::{Assembly, Options, Severity, Source, assemble};
use sotto_isa::Arch;
use sotto_object::{read_executable, write_object};

const LEVELS: [&str; 5] = ["-O0", "-O1", "-O2", "-O3", "-Os"];
const DEBUG: [&str; 2] = ["-g0", "-g"];

/// A machine's compiler, and what it may be told.
struct Machine {
    arch: Arch,
    compiler: &'static str,
    always: &'static [&'static str],
    modes: &'static [&'static [&'static str]],
    /// Both orders of operands are compiled to.
    orders: bool,
    /// One in so many combinations is taken.
    sample: usize,
    /// Of the files taken in the sample, so many at least are accepted.
    accepted: usize,
}

const X86_64: Machine = Machine {
    arch: Arch::X86_64,
    compiler: "cc",
    always: &[],
    modes: &[&["-fPIC"], &["-fPIE", "-pie"], &["-fno-pie", "-no-pie"], &["-fcf-protection=none"]],
    orders: true,
    sample: 20,
    accepted: 210,
};

/// The other compiler that many have; it is taken where it is installed.
const CLANG: Machine = Machine { compiler: "clang", accepted: 190, ..X86_64 };

/// A cross compiler's loader is not where programs look for it, so they are linked statically.
const X86_32: Machine = Machine {
    arch: Arch::X86_32,
    compiler: "i686-linux-gnu-gcc",
    always: &["-static", "-msse2", "-mfpmath=sse"],
    modes: &[&["-fPIC"], &["-fno-pie"], &["-fcf-protection"]],
    orders: true,
    sample: 30,
    accepted: 80,
};

const ARM64: Machine = Machine {
    arch: Arch::Arm64,
    compiler: "aarch64-linux-gnu-gcc",
    always: &["-static"],
    modes: &[&["-fPIC"], &["-fno-pie"], &["-mbranch-protection=standard"]],
    orders: false,
    sample: 10,
    accepted: 10,
};

/// What came of the files of a machine.
#[derive(Default)]
struct Tally {
    accepted: AtomicUsize,
    not_modelled: AtomicUsize,
    compared: AtomicUsize,
    failures: Mutex<Vec<String>>,
}

impl Tally {
    fn fail(&self, failure: String) {
        self.failures.lock().unwrap().push(failure);
    }

    fn report(&self, machine: &str) {
        let count = |count: &AtomicUsize| count.load(Ordering::Relaxed);
        println!(
            "{machine}: {} files accepted, {} with instructions that are not modelled yet; {} programs compared",
            count(&self.accepted),
            count(&self.not_modelled),
            count(&self.compared),
        );
        let failures = self.failures.lock().unwrap();
        assert!(failures.is_empty(), "{} files:\n{}", failures.len(), failures.join("\n"));
    }
}

fn run_compiler(compiler: &str, arguments: &[&str], paths: &[&Path]) -> Result<(), String> {
    let result = Command::new(compiler).args(arguments).args(paths).output().unwrap();
    match result.status.success() {
        true => Ok(()),
        false => Err(String::from_utf8_lossy(&result.stderr).into_owned()),
    }
}

/// Assembles a compiler's file; `None` if it only has instructions that are not modelled yet against it.
fn accept(name: &str, text: String, arch: Arch, tally: &Tally) -> Option<Vec<u8>> {
    let source = Source { name: format!("{name}.s"), text: text.into() };
    let options = Options { externals: true, ..Options::for_target(arch) };
    let assembly = assemble(&source, &options);
    let Assembly { object, diagnostics, sources, .. } = assembly;
    let errors = diagnostics.iter().filter(|d| d.severity == Severity::Error);
    let (later, refused): (Vec<_>, Vec<_>) = errors
        .filter(|d| !d.message.ends_with("the rest is not read"))
        .partition(|d| d.message.contains("not modelled yet"));
    if let Some(first) = refused.first() {
        let place = sources.location(first.span.start);
        tally.fail(format!("{name}, line {}: {}", place.line, first.message));
        return None;
    }
    let Some(object) = object else {
        assert!(!later.is_empty(), "{name}: refused without a reason");
        tally.not_modelled.fetch_add(1, Ordering::Relaxed);
        return None;
    };
    tally.accepted.fetch_add(1, Ordering::Relaxed);
    match write_object(&object) {
        Ok(bytes) => Some(bytes),
        Err(error) => {
            tally.fail(format!("{name}: {error}"));
            None
        }
    }
}

/// Whether two programs of A64 code have the same instructions. What comes of addresses may differ: unwind tables of
/// another size move the data.
fn same_instructions(own: &Path, other: &Path) -> bool {
    let words = |path: &Path| -> Vec<u32> {
        let image = read_executable(&std::fs::read(path).unwrap()).unwrap();
        let code = image.segments.into_iter().filter(|segment| segment.exec);
        let sections = code.flat_map(|segment| {
            let sections = segment.sections.iter().filter(|(.., flags, _)| flags.exec);
            let data = |(_, address, size, ..): &(String, u64, u64, _, _)| {
                let start = (address - segment.address) as usize;
                segment.data[start..start + *size as usize].to_vec()
            };
            sections.map(data).collect::<Vec<_>>()
        });
        let bytes: Vec<u8> = sections.flatten().collect();
        bytes.chunks_exact(4).map(|word| u32::from_le_bytes(word.try_into().unwrap())).collect()
    };
    let (own, other) = (words(own), words(other));
    let plain = |word: u32| match word {
        // ADRP; ADD with an immediate, and loads and stores with an unsigned offset.
        _ if word & 0x9f00_0000 == 0x9000_0000 => word & 0x9f00_001f,
        _ if word & 0x7f80_0000 == 0x1100_0000 || word & 0x3b00_0000 == 0x3900_0000 => {
            word & !(0xfff << 10)
        }
        _ => word,
    };
    own.len() == other.len() && own.iter().zip(&other).all(|(a, b)| plain(*a) == plain(*b))
}

/// The source line that a program's line table gives for its `main`.
fn line_of_main(program: &Path) -> Option<(String, u32)> {
    let image = read_executable(&std::fs::read(program).unwrap()).unwrap();
    let main = image.symbols.iter().find(|symbol| symbol.name == "main")?;
    let line = image.lines.at(main.address)?;
    let file = Path::new(&image.lines.files[line.file as usize]).file_name()?;
    Some((file.to_str()?.to_string(), line.line))
}

/// Takes one program with one combination of flags, in each order of operands.
fn take(machine: &Machine, program: &Path, flags: &[&str], folder: &Path, tally: &Tally) {
    let name = program.file_stem().unwrap().to_str().unwrap();
    let what = |order: &str| format!("{name} {} {order}", flags.join(" "));
    let (own, other) = (folder.join("own"), folder.join("other"));
    let cc = |arguments: &[&str], paths: &[&Path]| {
        let all: Vec<&str> =
            machine.always.iter().chain(flags).chain(&["-w", "-fexceptions"]).copied().collect();
        run_compiler(machine.compiler, &[&all[..], arguments].concat(), paths)
    };
    let libraries = Path::new("-lm");
    // What a compiler cannot build itself is not asked for: integers of 128 bits in 32-bit code.
    if cc(&["-Wl,--build-id=none", "-o"], &[&own, program, libraries]).is_err() {
        return;
    }
    let runs_here = machine.arch.shares_instructions_with(Arch::X86_64);
    let mut wanted: Option<Outcome> = None;
    let dialect = format!("-m{}=intel", "asm");
    let orders: &[&str] = if machine.orders { &["", &dialect] } else { &[""] };
    for &order in orders {
        let (text, object) = (folder.join("text.s"), folder.join("text.o"));
        let arguments: Vec<&str> =
            [order, "-S", "-o"].into_iter().filter(|word| !word.is_empty()).collect();
        if let Err(error) = cc(&arguments, &[&text, program]) {
            // One compiler builds some inline assembly in one order of operands only.
            if machine.compiler == CLANG.compiler {
                continue;
            }
            tally.fail(format!("{}: {error}", what(order)));
            continue;
        }
        let text = sotto_asm::text_with_comments(&std::fs::read(&text).unwrap()).unwrap();
        let Some(bytes) = accept(&what(order), text, machine.arch, tally) else { continue };
        std::fs::write(&object, bytes).unwrap();
        if let Err(error) = cc(&["-Wl,--build-id=none", "-o"], &[&other, &object, libraries]) {
            tally.fail(format!("{}: {error}", what(order)));
            continue;
        }
        tally.compared.fetch_add(1, Ordering::Relaxed);
        let same = match runs_here {
            true => natively(&other) == *wanted.get_or_insert_with(|| natively(&own)),
            false => same_instructions(&own, &other),
        };
        let is_static = runs_here && machine.always.contains(&"-static");
        if flags.contains(&"-g") && is_static && line_of_main(&own) != line_of_main(&other) {
            tally.fail(format!("{}: the line of `main` differs", what(order)));
        }
        if !same {
            tally.fail(format!("{}: the program differs", what(order)));
        }
    }
}

/// Whether a compiler is there with its C library. Without it the test is skipped, which it says; in CI it must be
/// there.
fn has_c_library(compiler: &str) -> bool {
    if !common::has(compiler) {
        return false;
    }
    let folder = tempfile::tempdir().unwrap();
    let source = folder.path().join("lamp.c");
    std::fs::write(&source, "#include <stdio.h>\nint main(void) { return puts(\"lamp\"); }\n")
        .unwrap();
    let program = folder.path().join("lamp");
    let found = run_compiler(compiler, &["-static", "-o"], &[&program, &source]).is_ok();
    if !found {
        assert!(
            std::env::var_os("CI").is_none(),
            "the C library of {compiler} must be installed in CI"
        );
        eprintln!("skipped: {compiler} has no C library");
    }
    found
}

fn take_all(machine: &Machine) {
    let runs = machine.arch != Arch::X86_32 || common::kernel_runs_32_bit();
    if !has_c_library(machine.compiler) || !runs {
        return;
    }
    let all = std::env::var_os("SOTTO_ALL_COMBINATIONS").is_some();
    let sample = if all { 1 } else { machine.sample };
    let mut jobs: Vec<(PathBuf, Vec<&str>)> = Vec::new();
    let mut number = 0;
    for program in c_programs() {
        for level in LEVELS {
            for debug in DEBUG {
                for mode in machine.modes {
                    if number % sample == 0 {
                        let flags = [&[level, debug][..], mode].concat();
                        jobs.push((program.clone(), flags));
                    }
                    number += 1;
                }
            }
        }
        // Another part of the combinations for the next program.
        number += 7;
    }
    let tally = Tally::default();
    let next = AtomicUsize::new(0);
    std::thread::scope(|scope| {
        for _ in 0..std::thread::available_parallelism().map_or(1, usize::from).min(8) {
            scope.spawn(|| {
                let folder = tempfile::tempdir().unwrap();
                while let Some((program, flags)) = jobs.get(next.fetch_add(1, Ordering::Relaxed)) {
                    take(machine, program, flags, folder.path(), &tally);
                }
            });
        }
    });
    tally.report(&machine.arch.to_string());
    let accepted = tally.accepted.load(Ordering::Relaxed);
    assert!(accepted >= machine.accepted, "only {accepted} files were accepted");
}

#[test]
fn files_for_64_bits_are_accepted_and_behave() {
    take_all(&X86_64);
}

#[test]
fn files_of_another_compiler_are_accepted_and_behave() {
    if Command::new(CLANG.compiler).arg("--version").output().is_err() {
        eprintln!("not taken: {} is not installed", CLANG.compiler);
        return;
    }
    take_all(&CLANG);
}

#[test]
fn files_for_32_bits_are_accepted_and_behave() {
    take_all(&X86_32);
}

#[test]
fn files_for_arm64_are_accepted_and_link_to_the_same_program() {
    take_all(&ARM64);
}

/// The library that every Rust program has, which unoptimised code calls.
fn core_library() -> PathBuf {
    let printed = Command::new("rustc").args(["--print", "target-libdir"]).output().unwrap().stdout;
    let folder = PathBuf::from(String::from_utf8(printed).unwrap().trim());
    let mut files = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path());
    let is_core = |path: &PathBuf| {
        let name = path.file_name().unwrap().to_string_lossy();
        name.starts_with("libcore-") && name.ends_with(".rlib")
    };
    files.find(is_core).unwrap()
}

/// The compiler of this project, in both orders, with and without debug information.
#[test]
fn files_of_rustc_are_accepted_and_behave() {
    if !common::has("cc") || !common::has("rustc") {
        return;
    }
    let tally = Tally::default();
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name);
    let (library, main) =
        (common::data().join("rust/soundings.rs"), common::data().join("rust/soundings.c"));
    let core = core_library();
    for level in ["0", "1", "2", "3", "s"] {
        for debug in ["0", "2"] {
            let (level, debug) = (format!("opt-level={level}"), format!("debuginfo={debug}"));
            let rustc = |emit: &str, syntax: &str, output: &Path| {
                let syntax = format!("llvm-args=-x86-asm-syntax={syntax}");
                let (edition, panic) = ("--edition=2024", "panic=abort");
                let arguments = [
                    edition,
                    "--crate-type=lib",
                    emit,
                    "-C",
                    &level,
                    "-C",
                    &debug,
                    "-C",
                    panic,
                    "-C",
                    &syntax,
                    "-o",
                ];
                run_compiler("rustc", &arguments, &[output, &library]).unwrap();
            };
            let (own, other) = (at("own"), at("other"));
            let cc = |output: &Path, object: &Path| {
                run_compiler("cc", &["-o"], &[output, &main, object, &core]).unwrap();
            };
            rustc("--emit=obj", "att", &at("own.o"));
            cc(&own, &at("own.o"));
            let wanted = natively(&own);
            for syntax in ["att", "intel"] {
                rustc("--emit=asm", syntax, &at("text.s"));
                let text = std::fs::read_to_string(at("text.s")).unwrap();
                let what = format!("soundings {level} {debug} {syntax}");
                let Some(bytes) = accept(&what, text, Arch::X86_64, &tally) else { continue };
                std::fs::write(at("other.o"), bytes).unwrap();
                cc(&other, &at("other.o"));
                tally.compared.fetch_add(1, Ordering::Relaxed);
                if natively(&other) != wanted {
                    tally.fail(format!("{what}: the program differs"));
                }
            }
        }
    }
    tally.report("rustc");
    assert_eq!(tally.accepted.into_inner(), 20);
}
