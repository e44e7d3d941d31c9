//! `sotto assemble` and `sotto link`: sources and objects to files.

use std::io::Write;
use std::path::{Path, PathBuf};

use serde_json::json;
use sotto_asm::Assembly;
use sotto_object::{Image, write_executable, write_object};

use crate::cli::{AssembleArgs, LinkArgs, ProgramArgs};
use crate::output::{self, Failure};
use crate::program::{self, Inputs, Making, Program};
use crate::render::{listing, map};

/// `sotto assemble`
pub fn assemble_command(args: &AssembleArgs, as_json: bool) -> Result<u8, Failure> {
    if args.object {
        return objects(args, as_json);
    }
    let path = match &args.output {
        Some(path) => path.clone(),
        None => default_output(&args.program.files[0])?,
    };
    check_outputs(&args.program, &[Some(&path), args.listing.as_ref(), args.map.as_ref()])?;
    let (sources, objects, archives) = parts(&args.program)?;
    let making =
        Making { position_independent: args.pie, listing: args.listing.is_some(), json: as_json };
    let assemblies = program::assemble_all(sources, &args.program, making);
    if assemblies.iter().any(|assembly| assembly.object.is_none()) {
        // The listing shows where the errors are; nothing else is written.
        write_listing(args, &assemblies, None)?;
        return Err(Failure::Reported);
    }
    let made = program::link_all(&args.program, objects, archives, assemblies, making)?;
    write_listing(args, &made.assemblies, Some(&made.image))?;
    finish(&made, &path, args.map.as_ref(), as_json)
}

/// `sotto link`
pub fn link_command(args: &LinkArgs, as_json: bool) -> Result<u8, Failure> {
    check_outputs(&args.program, &[Some(&args.output), args.map.as_ref()])?;
    let (sources, objects, archives) = parts(&args.program)?;
    let making = Making { position_independent: args.pie, json: as_json, ..Making::default() };
    let assemblies = program::assemble_all(sources, &args.program, making);
    if assemblies.iter().any(|assembly| assembly.object.is_none()) {
        return Err(Failure::Reported);
    }
    let made = program::link_all(&args.program, objects, archives, assemblies, making)?;
    finish(&made, &args.output, args.map.as_ref(), as_json)
}

type Parts = (
    Vec<(usize, sotto_asm::Source)>,
    Vec<(usize, sotto_object::Object)>,
    Vec<Vec<sotto_object::Object>>,
);

fn parts(args: &ProgramArgs) -> Result<Parts, Failure> {
    match program::inputs(args)? {
        Inputs::Parts(sources, objects, archives) => Ok((sources, objects, archives)),
        Inputs::Program(_) => Err(Failure::new(
            format!("{} is a program already", args.files[0].display()),
            "`sotto run` runs it",
        )),
    }
}

/// Refuses an output that would replace an input, or another output.
fn check_outputs(args: &ProgramArgs, outputs: &[Option<&PathBuf>]) -> Result<(), Failure> {
    let outputs: Vec<&PathBuf> = outputs.iter().flatten().copied().collect();
    for (number, path) in outputs.iter().enumerate() {
        if args.files.contains(path) {
            return Err(Failure::new(
                format!("the output {} is one of the inputs", path.display()),
                "choose another name for it",
            ));
        }
        if outputs[..number].contains(path) {
            return Err(Failure::new(
                format!("{} would be written twice", path.display()),
                "give each output a name of its own",
            ));
        }
    }
    Ok(())
}

/// Writes the program and the map, and says what was made.
fn finish(
    made: &Program,
    path: &Path,
    map_path: Option<&PathBuf>,
    as_json: bool,
) -> Result<u8, Failure> {
    let image = &made.image;
    let bytes = write_executable(image);
    if let Some(map_path) = map_path {
        output::write_whole(map_path, map::text(image, path).as_bytes(), false)?;
    }
    output::write_whole(path, &bytes, true)?;
    let code: u64 = image.segments.iter().filter(|s| s.exec).map(|s| s.memory_size).sum();
    let data: u64 = image.segments.iter().filter(|s| !s.exec).map(|s| s.memory_size).sum();
    let line = if as_json {
        json!({
            "file": path.display().to_string(),
            "target": image.arch.name(),
            "entry": format!("{:#x}", image.entry),
            "code_bytes": code,
            "data_bytes": data,
            "file_bytes": bytes.len(),
        })
        .to_string()
    } else {
        let kind = if image.position_independent { "position-independent " } else { "" };
        format!(
            "{}: {} {kind}program, {code} bytes of code, {data} of data",
            path.display(),
            image.arch
        )
    };
    say(&line)?;
    Ok(0)
}

fn say(line: &str) -> Result<(), Failure> {
    writeln!(anstream::stdout(), "{line}")
        .map_err(|source| Failure::Write { path: PathBuf::from("standard output"), source })
}

/// `sotto assemble --object`: an object for each source.
fn objects(args: &AssembleArgs, as_json: bool) -> Result<u8, Failure> {
    if args.pie || args.map.is_some() {
        return Err(Failure::new(
            "objects are not laid out yet, so `--map` and `--pie` have nothing to say about them",
            "give them to `sotto link`",
        ));
    }
    if args.output.is_some() && args.program.files.len() > 1 {
        return Err(Failure::new(
            "`-o` names one file, and there is an object for each source",
            "leave it out: the objects are called like their sources, with the ending .o",
        ));
    }
    let making = Making { listing: args.listing.is_some(), json: as_json, ..Making::default() };
    let mut assemblies = Vec::new();
    let mut written = Vec::new();
    for path in &args.program.files {
        let output = match &args.output {
            Some(output) => output.clone(),
            None => PathBuf::from(path.with_extension("o").file_name().unwrap_or_default()),
        };
        check_outputs(&args.program, &[Some(&output), args.listing.as_ref()])?;
        if written.iter().any(|(other, _)| *other == output) {
            return Err(Failure::new(
                format!("two sources would make {}", output.display()),
                "assemble them one by one, each with `-o`",
            ));
        }
        written.push((output, Vec::new()));
        let source = match program::inputs(&ProgramArgs {
            files: vec![path.clone()],
            ..args.program.clone()
        })? {
            Inputs::Parts(mut sources, ..) if !sources.is_empty() => sources.remove(0).1,
            _ => {
                return Err(Failure::new(
                    format!("{} is no source", path.display()),
                    "`sotto link` takes objects",
                ));
            }
        };
        assemblies.push(program::assemble(&source, &args.program, making, true));
    }
    write_listing(args, &assemblies, None)?;
    if assemblies.iter().any(|assembly| assembly.object.is_none()) {
        return Err(Failure::Reported);
    }
    for ((_, bytes), assembly) in written.iter_mut().zip(&assemblies) {
        let Some(object) = &assembly.object else { continue };
        *bytes = write_object(object).map_err(|error| {
            let sotto_object::WriteError::NoRelocation { place: (file, line), .. } = &error else {
                return Failure::plain(error.to_string());
            };
            Failure::new(
                format!("{file}:{line}: {error}"),
                "use a wider field, or the distance from a label in this file",
            )
        })?;
    }
    for ((path, bytes), assembly) in written.iter().zip(&assemblies) {
        output::write_whole(path, bytes, false)?;
        let arch = assembly.arch;
        let line = match as_json {
            true => json!({
                "file": path.display().to_string(),
                "target": arch.name(),
                "file_bytes": bytes.len(),
            })
            .to_string(),
            false => format!("{}: {arch} object, {} bytes", path.display(), bytes.len()),
        };
        say(&line)?;
    }
    Ok(0)
}

fn write_listing(
    args: &AssembleArgs,
    assemblies: &[Assembly],
    image: Option<&Image>,
) -> Result<(), Failure> {
    let Some(path) = &args.listing else { return Ok(()) };
    let text: String = assemblies.iter().map(|assembly| listing::text(assembly, image)).collect();
    output::write_whole(path, text.as_bytes(), false)
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
