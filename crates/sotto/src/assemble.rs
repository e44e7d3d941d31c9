//! `sotto assemble` and `sotto link`: sources and objects to files.

use std::path::{Path, PathBuf};

use serde_json::json;
use sotto_asm::Assembly;
use sotto_object::{Image, write_executable, write_object};

use crate::cli::{AssembleArgs, LinkArgs, ProgramArgs};
use crate::console;
use crate::output::{self, Failure, Outputs};
use crate::program::{self, BuildOptions, Inputs, Program};
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
    let outputs = [Some(&path), args.listing.as_ref(), args.map.as_ref()];
    check_outputs(&args.program, &[], &outputs)?;
    let (sources, objects, archives) = parts(&args.program)?;
    let making = BuildOptions {
        position_independent: args.pie,
        listing: args.listing.is_some(),
        json: as_json,
        ..BuildOptions::default()
    };
    let assemblies = program::assemble_all(sources, &args.program, making);
    check_outputs(&args.program, &assemblies, &outputs)?;
    let mut files = Outputs::default();
    if assemblies.iter().any(|assembly| assembly.object.is_none()) {
        // The listing shows where the errors are; nothing else is written.
        add_listing(args, &assemblies, None, &mut files);
        files.write()?;
        return Err(Failure::Reported);
    }
    let made = program::link_all(&args.program, objects, archives, assemblies, making)?;
    add_listing(args, &made.assemblies, Some(&made.image), &mut files);
    finish(&made, &path, args.map.as_ref(), files, as_json)
}

/// `sotto link`
pub fn link_command(args: &LinkArgs, as_json: bool) -> Result<u8, Failure> {
    let outputs = [Some(&args.output), args.map.as_ref()];
    check_outputs(&args.program, &[], &outputs)?;
    let (sources, objects, archives) = parts(&args.program)?;
    let making =
        BuildOptions { position_independent: args.pie, json: as_json, ..BuildOptions::default() };
    let assemblies = program::assemble_all(sources, &args.program, making);
    check_outputs(&args.program, &assemblies, &outputs)?;
    if assemblies.iter().any(|assembly| assembly.object.is_none()) {
        return Err(Failure::Reported);
    }
    let made = program::link_all(&args.program, objects, archives, assemblies, making)?;
    finish(&made, &args.output, args.map.as_ref(), Outputs::default(), as_json)
}

type Parts = (
    Vec<(usize, sotto_asm::Source)>,
    Vec<(usize, sotto_object::Object)>,
    Vec<(usize, Vec<sotto_object::Object>)>,
);

fn parts(args: &ProgramArgs) -> Result<Parts, Failure> {
    match program::inputs(args)? {
        Inputs::Parts(sources, objects, archives) => Ok((sources, objects, archives)),
        Inputs::Program(_) => Err(Failure::new(
            format!("{} is a program already", output::shown(&args.files[0])),
            "`sotto run` runs it",
        )),
    }
}

/// Refuses an output that would replace a file that was read, or another output.
fn check_outputs(
    args: &ProgramArgs,
    assemblies: &[Assembly],
    outputs: &[Option<&PathBuf>],
) -> Result<(), Failure> {
    let outputs: Vec<&Path> = outputs.iter().flatten().map(|path| path.as_path()).collect();
    let mut inputs = args.files.clone();
    inputs.extend(assemblies.iter().flat_map(|assembly| &assembly.files_read).map(PathBuf::from));
    output::check_outputs(&inputs, &outputs)
}

/// Writes the program and the map, and says what was made.
fn finish<'a>(
    made: &Program,
    path: &'a Path,
    map_path: Option<&'a PathBuf>,
    mut files: Outputs<'a>,
    as_json: bool,
) -> Result<u8, Failure> {
    let image = &made.image;
    let bytes = write_executable(image);
    let file_bytes = bytes.len();
    if let Some(map_path) = map_path {
        files.add(map_path, console::sanitized(&map::text(image, path)).into_owned().into_bytes());
    }
    files.add_program(path, bytes);
    files.write()?;
    let code: u64 = image.segments.iter().filter(|s| s.exec).map(|s| s.memory_size).sum();
    let data: u64 = image.segments.iter().filter(|s| !s.exec).map(|s| s.memory_size).sum();
    if as_json {
        output::say_json(&json!({
            "file": path.display().to_string(),
            "target": image.arch.name(),
            "entry": format!("{:#x}", image.entry),
            "code_bytes": code,
            "data_bytes": data,
            "file_bytes": file_bytes,
        }))?;
    } else {
        let kind = if image.position_independent { "position-independent " } else { "" };
        let (file, arch) = (output::shown(path), image.arch);
        output::say(&format!(
            "{file}: {arch} {kind}program, {code} bytes of code, {data} of data"
        ))?;
    }
    Ok(0)
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
    let making =
        BuildOptions { listing: args.listing.is_some(), json: as_json, ..BuildOptions::default() };
    let mut assemblies = Vec::new();
    let mut written = Vec::new();
    for path in &args.program.files {
        let output = match &args.output {
            Some(output) => output.clone(),
            None => PathBuf::from(path.with_extension("o").file_name().unwrap_or_default()),
        };
        check_outputs(&args.program, &[], &[Some(&output), args.listing.as_ref()])?;
        if written.iter().any(|(other, _)| *other == output) {
            return Err(Failure::new(
                format!("two sources would make {}", output::shown(&output)),
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
                    format!("{} is no source", output::shown(path)),
                    "`sotto link` takes objects",
                ));
            }
        };
        assemblies.push(program::assemble(&source, &args.program, making, true));
    }
    let mut outputs: Vec<Option<&PathBuf>> = written.iter().map(|(path, _)| Some(path)).collect();
    outputs.push(args.listing.as_ref());
    check_outputs(&args.program, &assemblies, &outputs)?;
    let mut files = Outputs::default();
    add_listing(args, &assemblies, None, &mut files);
    if assemblies.iter().any(|assembly| assembly.object.is_none()) {
        files.write()?;
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
    for (path, bytes) in &written {
        files.add(path, bytes.as_slice());
    }
    files.write()?;
    for ((path, bytes), assembly) in written.iter().zip(&assemblies) {
        let (arch, count) = (assembly.arch, bytes.len());
        if as_json {
            output::say_json(&json!({
                "file": path.display().to_string(),
                "target": arch.name(),
                "file_bytes": count,
            }))?;
        } else {
            output::say(&format!("{}: {arch} object, {count} bytes", output::shown(path)))?;
        }
    }
    Ok(0)
}

fn add_listing<'a>(
    args: &'a AssembleArgs,
    assemblies: &[Assembly],
    image: Option<&Image>,
    files: &mut Outputs<'a>,
) {
    let Some(path) = &args.listing else { return };
    let text: String = assemblies.iter().map(|assembly| listing::text(assembly, image)).collect();
    files.add(path, console::sanitized(&text).into_owned().into_bytes());
}

/// The first source's name without its ending.
fn default_output(first: &Path) -> Result<PathBuf, Failure> {
    let name = first.with_extension("");
    if name == first {
        return Err(Failure::new(
            format!("{} has no ending to take off", output::shown(first)),
            "name the output with `-o`",
        ));
    }
    Ok(PathBuf::from(name.file_name().unwrap_or_default()))
}
