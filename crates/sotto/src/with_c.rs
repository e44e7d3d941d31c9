//! Programs that need the C library: the system's C compiler links what we assembled, statically and in a temporary
//! folder, and the program that comes of it is run here.

use std::path::{Path, PathBuf};
use std::process::{Command, Output};

use sotto_asm::{Assembly, Code, Severity};
use sotto_isa::Arch;
use sotto_object::{Image, read_executable, read_variables, write_object};

use crate::cli::ProgramArgs;
use crate::output::{self, Failure};
use crate::program::{self, BuildOptions, Input, Program};

/// C compilers for a machine, the likeliest first, with what each is told beside.
fn compilers(arch: Arch) -> &'static [(&'static str, &'static [&'static str])] {
    match arch {
        Arch::X86_64 => &[("cc", &[]), ("gcc", &[]), ("x86_64-linux-gnu-gcc", &[])],
        Arch::X86_32 => &[("i686-linux-gnu-gcc", &[]), ("cc", &["-m32"])],
        Arch::Arm64 => &[("aarch64-linux-gnu-gcc", &[])],
    }
}

/// What the C compiler is given.
#[derive(Default)]
struct Parts {
    /// Objects that we wrote, C sources, and objects and archives as they were given.
    paths: Vec<PathBuf>,
    assemblies: Vec<Assembly>,
    arch: Option<Arch>,
}

/// Makes a program of the files: with the C library by the system's compiler if `with_c` is set, else with
/// [`program::load`].
///
/// # Errors
///
/// See [`program::load`]; a compiler that is missing, and what it complains of.
pub fn load_program(args: &ProgramArgs, with_c: bool, json: bool) -> Result<Program, Failure> {
    if with_c { load(args, json) } else { program::load(args, json) }
}

/// Makes a program of the files and the C library.
///
/// # Errors
///
/// What is wrong with the files, a compiler that is missing, and what it complains of.
fn load(args: &ProgramArgs, json: bool) -> Result<Program, Failure> {
    let cannot =
        |error: std::io::Error| Failure::plain(format!("cannot make a temporary folder: {error}"));
    let folder = tempfile::tempdir().map_err(cannot)?;
    let parts = parts(args, folder.path(), json)?;
    let arch = parts.arch.or(args.target).unwrap_or(Arch::X86_64);
    let program = folder.path().join("program");
    link(arch, &parts.paths, &program)?;
    let bytes = output::read(&program)?;
    let mut image = read_executable(&bytes)
        .map_err(|error| Failure::plain(format!("what the C compiler made: {error}")))?;
    image.variables = read_variables(&bytes, &image);
    Ok(finish(args, image, &parts.assemblies))
}

/// Assembles the sources, and sorts what the C compiler takes as it is.
fn parts(args: &ProgramArgs, folder: &Path, json: bool) -> Result<Parts, Failure> {
    let mut parts = Parts::default();
    let mut failed = false;
    for (number, path) in args.files.iter().enumerate() {
        if path.extension().is_some_and(|ending| ending == "c") {
            parts.paths.push(path.clone());
            continue;
        }
        match program::input(path)? {
            Input::Source(source) => {
                let making = BuildOptions { json, ..BuildOptions::default() };
                let mut assembly = program::assemble_quietly(&source, args, making);
                // The C library has what is missing, or its linker says so.
                assembly
                    .diagnostics
                    .retain(|d| d.severity != Severity::Note || d.code != Code::External);
                program::tell(&assembly, json);
                parts.arch.get_or_insert(assembly.arch);
                if let Some(object) = assembly.object.take() {
                    let bytes =
                        write_object(&object).map_err(|error| Failure::plain(error.to_string()))?;
                    let written = folder.join(format!("{number}.o"));
                    output::write_whole(&written, &bytes)?;
                    parts.paths.push(written);
                } else {
                    failed = true;
                }
                parts.assemblies.push(assembly);
            }
            Input::Object(object) => {
                parts.arch.get_or_insert(object.arch);
                parts.paths.push(path.clone());
            }
            Input::Archive(_) => parts.paths.push(path.clone()),
            Input::Program(_) => {
                let message = format!("{} is a program already", output::shown(path));
                return Err(Failure::new(message, "leave out `--with-c`"));
            }
        }
    }
    if failed { Err(Failure::Reported) } else { Ok(parts) }
}

/// Has the first C compiler that is there link the files.
fn link(arch: Arch, paths: &[PathBuf], program: &Path) -> Result<(), Failure> {
    run_compiler(arch, |command| {
        // Lines of C sources are shown too.
        command.args(["-static", "-g", "-o"]).arg(program).args(paths).arg("-lm");
    })
}

/// Has the first C compiler that is there make an object of a C source, to be linked by us.
///
/// # Errors
///
/// A compiler that is missing, and what it complains of.
pub fn compile(arch: Arch, source: &Path, object: &Path) -> Result<(), Failure> {
    run_compiler(arch, |command| {
        let plain =
            ["-O1", "-fno-pie", "-fno-stack-protector", "-ffp-contract=off", "-w", "-c", "-o"];
        command.args(plain).arg(object).arg(source);
    })
}

fn run_compiler(arch: Arch, arguments: impl Fn(&mut Command)) -> Result<(), Failure> {
    let known = compilers(arch);
    for (compiler, extra) in known {
        let mut command = Command::new(compiler);
        command.args(*extra);
        arguments(&mut command);
        match command.output() {
            Ok(result) if result.status.success() => return Ok(()),
            Ok(result) => return Err(complaint(compiler, &result)),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
            Err(error) => return Err(Failure::plain(format!("cannot run {compiler}: {error}"))),
        }
    }
    let names: Vec<String> = known.iter().map(|(name, _)| format!("`{name}`")).collect();
    Err(Failure::new(
        format!("no C compiler for {arch} is installed: looked for {}", names.join(", ")),
        "install one with its C library, and try again",
    ))
}

/// Lines of a compiler's complaint that are shown.
const MOST_LINES: usize = 12;

/// What the compiler complains of: names that nothing defines in our words, and the rest in its own.
fn complaint(compiler: &str, result: &Output) -> Failure {
    let text = String::from_utf8_lossy(&result.stderr);
    if let Some((name, place)) = undefined(&text) {
        return Failure::new(
            format!(
                "nothing defines `{name}`{}",
                place.map_or(String::new(), |p| format!(", which {p} names"))
            ),
            "add the file that defines it, or correct the name",
        );
    }
    let lines = text.lines().filter(|line| !line.trim().is_empty());
    let shown = lines.take(MOST_LINES).map(|line| format!("\n  {line}")).collect::<String>();
    Failure::plain(format!("`{compiler}` did not make a program of the files; it says{shown}"))
}

/// The first name that no definition was found of, and the line that names it: `FILE:LINE: ... to `NAME'`.
fn undefined(text: &str) -> Option<(String, Option<String>)> {
    let line = text.lines().find(|line| line.contains("undefined reference to"))?;
    let name = line.rsplit(['`', '\'', '\u{2018}', '\u{2019}']).find(|part| !part.is_empty())?;
    let place = line.split(": ").find(|part| {
        let number = part.rsplit(':').next().unwrap_or_default();
        part.contains(':') && number.parse::<u32>().is_ok()
    });
    let place = place.map(|place| place.trim_start_matches("./").to_string());
    Some((name.to_string(), place))
}

fn finish(args: &ProgramArgs, image: Image, assemblies: &[Assembly]) -> Program {
    let sources = program::with_files(&image, program::source_texts(assemblies));
    let first = &args.files[0];
    let (name, argument) = (output::shown(first), first.clone().into_os_string());
    let written = assemblies.first().map(|assembly| assembly.operands);
    let operands = args.operands.or(written).unwrap_or_default();
    let assemblies = Vec::new();
    Program { image, sources, assemblies, operands, name, argument, starts: true }
}
