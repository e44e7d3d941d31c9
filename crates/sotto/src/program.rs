//! From file names to a program: reading, assembling, linking.

use std::ffi::OsString;
use std::path::Path;

use sotto_asm::{Assembly, Code, Options, Severity, Source};
use sotto_isa::OperandOrder;
use sotto_object::{
    Image, LinkError, LinkOptions, Object, Place, Symbol, link, read_archive, read_executable,
    read_object, with_members,
};
use sotto_session::SourceText;

use crate::cli::ProgramArgs;
use crate::diagnostics;
use crate::disk::Folders;
use crate::output::{self, Failure};

/// A program, and the sources it came from.
pub struct Program {
    pub image: Image,
    pub sources: Vec<SourceText>,
    /// What came of each source.
    pub assemblies: Vec<Assembly>,
    /// The order in which instructions are printed.
    pub operands: OperandOrder,
    /// The name of its first file, for showing.
    pub name: String,
    /// The program's first argument: that name as it was given.
    pub argument: OsString,
    /// It has an instruction to start at; otherwise its files hold routines alone.
    pub starts: bool,
}

/// What a file turned out to be.
pub enum Input {
    Source(Source),
    Object(Object),
    Archive(Vec<Object>),
    Program(Image),
}

/// How to make a program of files.
#[derive(Copy, Clone, Debug, Default)]
pub struct BuildOptions {
    /// The program can be loaded anywhere.
    pub position_independent: bool,
    /// Keep what each line laid down.
    pub listing: bool,
    /// The program is run here and not written.
    pub runs: bool,
    /// The program may start at a symbol that only its own file sees.
    pub local_entry: bool,
    /// The files may hold routines alone.
    pub routines: bool,
    /// Report as data.
    pub json: bool,
}

/// Makes a program of the files to be run here: sources are assembled and linked with objects and with what they
/// need of archives; an ELF executable is read.
///
/// # Errors
///
/// What is wrong with the files; errors in sources are printed here.
pub fn load(args: &ProgramArgs, json: bool) -> Result<Program, Failure> {
    load_by(args, BuildOptions { json, runs: true, ..BuildOptions::default() })
}

/// Makes a program of the files whose start is a routine that may be its file's own. A routine that is not there is told
/// by the linker.
///
/// # Errors
///
/// See [`load`].
pub fn load_routine(args: &ProgramArgs, json: bool) -> Result<Program, Failure> {
    load_by(args, BuildOptions { json, runs: true, local_entry: true, ..BuildOptions::default() })
}

/// Makes a program of the files that may be routines alone.
///
/// # Errors
///
/// See [`load`].
pub fn load_routines(args: &ProgramArgs, json: bool) -> Result<Program, Failure> {
    load_by(args, BuildOptions { json, runs: true, routines: true, ..BuildOptions::default() })
}

fn load_by(args: &ProgramArgs, making: BuildOptions) -> Result<Program, Failure> {
    let first = &args.files[0];
    let (objects, archives, assemblies) = match inputs(args)? {
        Inputs::Program(image) => {
            let (name, argument) = (output::shown(first), first.clone().into_os_string());
            let operands = args.operands.unwrap_or_default();
            let sources = with_files(&image, Vec::new());
            let image = *image;
            let starts = true;
            let assemblies = Vec::new();
            return Ok(Program { image, sources, assemblies, operands, name, argument, starts });
        }
        Inputs::Parts(sources, objects, archives) => {
            let assembled = assemble_all(sources, args, making);
            let failed = assembled.iter().any(|assembly| assembly.object.is_none());
            if failed && needs_c(&assembled) {
                return Err(Failure::new(
                    "the files do not define all that they name",
                    "if the C library has it, or a C source, add `--with-c`, and the C source to the files",
                ));
            }
            if failed {
                return Err(Failure::Reported);
            }
            (objects, archives, assembled)
        }
    };
    link_all(args, objects, archives, assemblies, making)
}

/// Whether all that is wrong with the sources is that names are missing, and a `main` is there, which a C library calls.
fn needs_c(assemblies: &[Assembly]) -> bool {
    let errors = assemblies.iter().flat_map(|assembly| &assembly.diagnostics);
    let mut errors = errors.filter(|diagnostic| diagnostic.severity == Severity::Error);
    let texts = assemblies.iter().flat_map(|assembly| assembly.sources.texts());
    let mut lines = texts.flat_map(|text| text.text.lines());
    errors.all(|diagnostic| diagnostic.code == Code::UndefinedSymbol)
        && lines.any(|line| line.trim_start().starts_with("main:"))
}

/// The files, sorted by what they are.
pub enum Inputs {
    /// A program that is linked already.
    Program(Box<Image>),
    /// Sources, objects and archives with their position among all the files.
    Parts(Vec<(usize, Source)>, Vec<(usize, Object)>, Vec<(usize, Vec<Object>)>),
}

/// Reads the files.
///
/// # Errors
///
/// A file that cannot be read or is none of these.
pub fn inputs(args: &ProgramArgs) -> Result<Inputs, Failure> {
    let (mut sources, mut objects, mut archives) = (Vec::new(), Vec::new(), Vec::new());
    for (position, path) in args.files.iter().enumerate() {
        match input(path)? {
            Input::Source(source) => sources.push((position, source)),
            Input::Object(object) => objects.push((position, object)),
            Input::Archive(members) => archives.push((position, members)),
            Input::Program(image) if args.files.len() == 1 => {
                return Ok(Inputs::Program(Box::new(image)));
            }
            Input::Program(_) => {
                return Err(Failure::new(
                    format!("{} is a program already", output::shown(path)),
                    "give it alone, or give sources, objects and archives only",
                ));
            }
        }
    }
    Ok(Inputs::Parts(sources, objects, archives))
}

/// Assembles sources in order, and prints what there is to say about each.
pub fn assemble_all(
    sources: Vec<(usize, Source)>,
    args: &ProgramArgs,
    making: BuildOptions,
) -> Vec<Assembly> {
    sources.iter().map(|(_, source)| assemble(source, args, making, false)).collect()
}

/// Links what was assembled with objects and archives.
///
/// # Errors
///
/// What does not go together, which is printed here.
pub fn link_all(
    args: &ProgramArgs,
    objects: Vec<(usize, Object)>,
    archives: Vec<(usize, Vec<Object>)>,
    mut assemblies: Vec<Assembly>,
    making: BuildOptions,
) -> Result<Program, Failure> {
    // Sources come in their own order, and before the objects unless these were named first.
    let is_other = |at: usize| {
        objects.iter().any(|(object, _)| *object == at)
            || archives.iter().any(|(archive, _)| *archive == at)
    };
    let mut places = (0..args.files.len()).filter(|at| !is_other(*at));
    let mut all: Vec<(usize, Object)> = assemblies
        .iter_mut()
        .filter_map(|assembly| Some((places.next().unwrap_or(0), assembly.object.take()?)))
        .collect();
    all.extend(objects);
    all.sort_by_key(|(position, _)| *position);
    let objects = with_members(all, archives, &args.entry);
    let options = LinkOptions {
        entry: args.entry.clone(),
        position_independent: making.position_independent,
        local_entry: making.local_entry,
    };
    let is_entry = |error: &LinkError| matches!(error, LinkError::NoEntry { .. });
    let mut linked = link(&objects, &options);
    let mut starts = true;
    if making.routines
        && let Err(errors) = &linked
        && let [LinkError::NoEntry { local: false, has_main: false, .. }] = errors[..]
        && let Some(routine) = routine_names(&objects).first()
    {
        starts = false;
        let entry = routine.to_string();
        linked = link(&objects, &LinkOptions { entry, local_entry: true, ..options });
    }
    let image = linked.map_err(|errors| {
        if making.local_entry && errors.iter().any(is_entry) {
            return no_routine(&objects, &args.entry);
        }
        diagnostics::print_link(&errors, making.runs, making.json);
        Failure::Reported
    })?;
    let sources = with_files(&image, source_texts(&assemblies));
    let (name, argument) = (output::shown(&args.files[0]), args.files[0].clone().into_os_string());
    let written = assemblies.first().map(|assembly| assembly.operands);
    let operands = args.operands.or(written).unwrap_or_default();
    Ok(Program { image, sources, assemblies, operands, name, argument, starts })
}

/// The names of what stands in code.
fn routine_names(objects: &[Object]) -> Vec<&str> {
    let is_routine = |object: &Object, symbol: &Symbol| match symbol.place {
        Place::Section(section, _) => {
            let named = !symbol.name.starts_with(['.', '$']) && !symbol.name.contains('\0');
            object.sections[section.position()].flags.exec && named && !symbol.name.is_empty()
        }
        _ => false,
    };
    objects
        .iter()
        .flat_map(|object| object.symbols.iter().filter(|symbol| is_routine(object, symbol)))
        .map(|symbol| symbol.name.as_str())
        .collect()
}

/// Says that no file has a routine.
fn no_routine(objects: &[Object], name: &str) -> Failure {
    let known = routine_names(objects);
    let help = match sotto_asm::nearest(name, known.iter().copied()) {
        Some(near) => format!("did you mean `{near}`?"),
        None if known.is_empty() => "the files have no routines".to_string(),
        None => format!("the files have {}", known[..known.len().min(12)].join(", ")),
    };
    Failure::new(format!("no routine `{name}`"), help)
}

/// The files that were read, each once.
pub fn source_texts(assemblies: &[Assembly]) -> Vec<SourceText> {
    let mut texts: Vec<SourceText> = Vec::new();
    for text in assemblies.iter().flat_map(|assembly| assembly.sources.texts()) {
        let expanded = matches!(text.origin, sotto_asm::Origin::Expanded { .. });
        if !expanded && !texts.iter().any(|known| known.name == *text.name) {
            texts.push(SourceText::new(text.name.to_string(), text.text.to_string()));
        }
    }
    texts
}

/// The sources with those that the program's line table names and that are where it says.
pub fn with_files(image: &Image, mut sources: Vec<SourceText>) -> Vec<SourceText> {
    for name in &image.lines.files {
        let path = Path::new(name);
        if sources.iter().any(|known| known.name == *name) || !path.is_file() {
            continue;
        }
        // A line table may name anything; what is no text is no source.
        if let Ok(Ok(text)) = output::read(path).map(String::from_utf8) {
            sources.push(SourceText::new(name.clone(), text));
        }
    }
    sources
}

/// Reads a file and tells what it is.
///
/// # Errors
///
/// If it cannot be read or is damaged.
pub fn input(path: &Path) -> Result<Input, Failure> {
    let bytes = output::read(path)?;
    let name = output::shown(path);
    let failed = |error: String| Failure::plain(format!("{name}: {error}"));
    if bytes.starts_with(b"!<arch>\n") || bytes.starts_with(b"!<thin>\n") {
        let members = read_archive(&name, &bytes).map_err(|error| failed(error.to_string()))?;
        return Ok(Input::Archive(members));
    }
    if bytes.starts_with(b"\x7fELF") {
        // ET_REL, at the place that both byte orders share for numbers below 256.
        if bytes.get(16) == Some(&1) {
            let object = read_object(&name, &bytes).map_err(|error| failed(error.to_string()))?;
            return Ok(Input::Object(object));
        }
        let image = read_executable(&bytes).map_err(|error| failed(error.to_string()))?;
        return Ok(Input::Program(image));
    }
    source(name, bytes).map(Input::Source)
}

fn source(name: String, bytes: Vec<u8>) -> Result<Source, Failure> {
    match String::from_utf8(bytes) {
        Ok(text) if u32::try_from(text.len()).is_ok() => Ok(Source { name, text: text.into() }),
        Ok(_) => Err(Failure::plain(format!("{name} is larger than 4 GiB"))),
        Err(error) if let Some(text) = sotto_asm::text_with_comments(error.as_bytes()) => {
            source(name, text.into_bytes())
        }
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

/// Assembles one source and prints what there is to say about it.
pub fn assemble(
    source: &Source,
    args: &ProgramArgs,
    making: BuildOptions,
    externals: bool,
) -> Assembly {
    let assembly = assemble_only(source, args, making, externals);
    tell(&assembly, making.json);
    assembly
}

/// Assembles one source whose missing names are other files', and prints nothing.
pub fn assemble_quietly(source: &Source, args: &ProgramArgs, making: BuildOptions) -> Assembly {
    assemble_only(source, args, making, true)
}

fn assemble_only(
    source: &Source,
    args: &ProgramArgs,
    making: BuildOptions,
    externals: bool,
) -> Assembly {
    let options =
        Options { target: args.target, externals, listing: making.listing, labels: making.runs };
    let disk = Folders { search: &args.include_path };
    sotto_asm::assemble_with(source, &options, &disk)
}

/// Prints what there is to say about a source.
pub fn tell(assembly: &Assembly, json: bool) {
    if let Some(inference) = &assembly.inferred {
        diagnostics::inferred(&assembly.sources, assembly.arch, inference, json);
    }
    diagnostics::print(&assembly.sources, &assembly.diagnostics, json);
}
