//! From file names to a program: reading, assembling, linking; and the `assemble` command.

use std::io::Write;
use std::path::{Path, PathBuf};

use serde_json::json;
use sotto_asm::{Options, Source};
use sotto_object::{Image, LinkOptions, Object, link, read_executable, write_executable};
use sotto_session::SourceText;

use crate::cli::{AssembleArgs, ProgramArgs};
use crate::diagnostics;
use crate::output::{self, Failure};

/// A program, and the sources it came from.
pub struct Program {
    pub image: Image,
    pub sources: Vec<SourceText>,
    /// The name for the program's first argument.
    pub name: String,
}

/// Makes a program of the files: sources are assembled and linked, an ELF executable is read.
///
/// # Errors
///
/// What is wrong with the files; errors in sources are printed here.
pub fn load(args: &ProgramArgs, json: bool) -> Result<Program, Failure> {
    let first = &args.files[0];
    let bytes = output::read(first)?;
    if bytes.starts_with(b"\x7fELF") {
        if args.files.len() > 1 {
            return Err(Failure::new(
                format!("{} is a program already", first.display()),
                "give it alone, or give sources only",
            ));
        }
        let image = read_executable(&bytes)
            .map_err(|error| Failure::plain(format!("{}: {error}", first.display())))?;
        let name = first.display().to_string();
        return Ok(Program { image, sources: Vec::new(), name });
    }
    let mut objects = Vec::new();
    let mut sources = Vec::new();
    let mut failed = false;
    for (index, path) in args.files.iter().enumerate() {
        let bytes = if index == 0 { bytes.clone() } else { output::read(path)? };
        let source = source(path, bytes)?;
        match assemble(&source, args, json) {
            Some(object) => objects.push(object),
            None => failed = true,
        }
        sources.push(SourceText { name: source.name, text: source.text });
    }
    if failed {
        return Err(Failure::Reported);
    }
    let options = LinkOptions { entry: args.entry.clone() };
    let image = link(&objects, &options).map_err(|errors| {
        diagnostics::print_link(&errors, json);
        Failure::Reported
    })?;
    Ok(Program { image, sources, name: first.display().to_string() })
}

fn source(path: &Path, bytes: Vec<u8>) -> Result<Source, Failure> {
    let name = path.display().to_string();
    match String::from_utf8(bytes) {
        Ok(text) if u32::try_from(text.len()).is_ok() => Ok(Source { name, text }),
        Ok(_) => Err(Failure::plain(format!("{name} is larger than 4 GiB"))),
        Err(error) => {
            let valid = error.utf8_error().valid_up_to();
            let line = error.as_bytes()[..valid].iter().filter(|&&b| b == b'\n').count() + 1;
            Err(Failure::new(
                format!("{name}:{line}: this is neither UTF-8 text nor an ELF file"),
                "save the source as UTF-8",
            ))
        }
    }
}

fn assemble(source: &Source, args: &ProgramArgs, json: bool) -> Option<Object> {
    let assembly = sotto_asm::assemble(source, &Options { target: args.target });
    if let Some(inference) = &assembly.inferred {
        diagnostics::inferred(source, assembly.arch, inference, json);
    }
    diagnostics::print(source, &assembly.diagnostics, json);
    assembly.object
}

/// `sotto assemble`
pub fn assemble_command(args: &AssembleArgs, as_json: bool) -> Result<u8, Failure> {
    let path = match &args.output {
        Some(path) => path.clone(),
        None => default_output(&args.program.files[0])?,
    };
    if args.program.files.contains(&path) {
        return Err(Failure::new(
            format!("the output {} is one of the sources", path.display()),
            "choose another name with `-o`",
        ));
    }
    let program = load(&args.program, as_json)?;
    let bytes = write_executable(&program.image);
    output::write_whole(&path, &bytes, true)?;
    let image = &program.image;
    let code: u64 = image.segments.iter().filter(|s| s.exec).map(|s| s.memory_size).sum();
    let data: u64 = image.segments.iter().filter(|s| !s.exec).map(|s| s.memory_size).sum();
    let mut out = anstream::stdout();
    let written = if as_json {
        let value = json!({
            "file": path.display().to_string(),
            "target": image.arch.name(),
            "entry": format!("{:#x}", image.entry),
            "code_bytes": code,
            "data_bytes": data,
            "file_bytes": bytes.len(),
        });
        writeln!(out, "{value}")
    } else {
        writeln!(
            out,
            "{}: {} program, {code} bytes of code, {data} of data",
            path.display(),
            image.arch
        )
    };
    written.map_err(|source| Failure::Write { path: PathBuf::from("standard output"), source })?;
    Ok(0)
}

/// The first source's name without its ending.
fn default_output(first: &Path) -> Result<PathBuf, Failure> {
    let name = first.with_extension("");
    if name == first {
        return Err(Failure::new(
            format!("{} has no ending to take off", first.display()),
            "name the output with `-o`",
        ));
    }
    Ok(PathBuf::from(name.file_name().unwrap_or_default()))
}
