//! Objects to an image: merging sections, placing them, resolving symbols, filling fields.
//!
//! Segments follow each other from `0x400000`, or from 0 in a position-independent program: code,
//! constants, then data. Each starts on a page of its own, so that no page is both writable and
//! executable.
//!
//! Nothing here links against shared libraries, so a procedure linkage table is never needed, and
//! the global offset table only where an instruction cannot be rewritten to do without.

use std::collections::{HashMap, HashSet};

use sotto_isa::Arch;

use crate::debug_info::dwarf;
use crate::linker::align::align_up;
use crate::linker::relax;
use crate::linker::synthetic::{Synthetic, synthetic_object};
use crate::object::is_mapping_symbol;
use crate::target::target;
use crate::{
    ApplyError, Binding, Image, ImagePart, ImageSymbol, LineTable, Object, Place, RelocationKind,
    SectionFlags, Segment, SourceLine, Symbol, SymbolIndex, SymbolKind,
};

/// Bytes between file offsets of segments.
pub(crate) const FILE_PAGE: u64 = 0x1000;

/// What the user may choose.
#[derive(Clone, Debug)]
pub struct LinkOptions {
    /// Name of the symbol at which the program starts.
    pub entry: String,
    /// The program can be loaded anywhere.
    pub position_independent: bool,
}

impl Default for LinkOptions {
    fn default() -> LinkOptions {
        LinkOptions { entry: "_start".to_string(), position_independent: false }
    }
}

/// A place in a source that refers to or defines a symbol.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub struct Reference {
    /// File name as given.
    pub file: String,
    /// Line number, from 1; 0 if not known.
    pub line: u32,
}

/// Why objects do not make a program.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[non_exhaustive]
pub enum LinkError {
    /// No object defines the symbol.
    #[error("no symbol `{name}`")]
    Undefined {
        /// The symbol.
        name: String,
        /// Every place that refers to it.
        references: Vec<Reference>,
        /// Names that are defined, for a suggestion.
        known: Vec<String>,
    },
    /// Two objects define the symbol.
    #[error("`{name}` is defined twice")]
    Duplicate {
        /// The symbol.
        name: String,
        /// The first definition.
        first: Reference,
        /// The second definition.
        second: Reference,
    },
    /// The entry symbol is not defined.
    #[error("no entry symbol `{name}`")]
    NoEntry {
        /// The symbol.
        name: String,
        /// The entry symbol is there but not `.global`.
        local: bool,
        /// There is a `main`, as programs for the C library have.
        has_main: bool,
    },
    /// A value does not fit its field.
    #[error("`{name}` is out of reach: {source}")]
    OutOfReach {
        /// The symbol.
        name: String,
        /// The place that refers to it.
        reference: Reference,
        /// The value and the field's range.
        source: ApplyError,
    },
    /// A field holds an address, which a program that can be loaded anywhere does not know.
    #[error("the address of `{name}` is not known before the program is loaded")]
    NeedsAddress {
        /// The symbol.
        name: String,
        /// Every place that needs its address.
        references: Vec<Reference>,
    },
    /// A section whose pages could be written and executed.
    #[error("section `{section}` is both writable and executable")]
    WritableCode {
        /// The section.
        section: String,
        /// The object's source.
        file: String,
    },
    /// The sections together are larger than what programs may ask for.
    #[error("the sections together take {size} bytes, and a program may take {limit}")]
    TooLarge {
        /// Bytes in all.
        size: u64,
        /// The most that is allowed.
        limit: u64,
    },
    /// Objects for different machines.
    #[error("`{file}` is for {found}, but `{first_file}` is for {wanted}")]
    MixedTargets {
        /// The first object's source.
        first_file: String,
        /// The first object's machine.
        wanted: Arch,
        /// The other object's source.
        file: String,
        /// The other object's machine.
        found: Arch,
    },
    /// Something that we do not link yet, and the system's C compiler does.
    #[error("{what} is not linked yet")]
    NotLinkedYet {
        /// Thread-local storage, or a function that is chosen at run time.
        what: &'static str,
        /// The first place that needs it.
        reference: Reference,
    },
    /// The objects hold nothing that is loaded.
    #[error("the files hold no code and no data")]
    Empty,
    /// There is nothing to link.
    #[error("there is nothing to link")]
    Nothing,
}

/// A merged section.
struct Output {
    name: String,
    flags: SectionFlags,
    align: u64,
    size: u64,
    address: u64,
    /// Object, section, and where in this section it starts.
    parts: Vec<(usize, usize, u64)>,
}

/// Code, then constants, then data, then data without contents.
fn rank(flags: SectionFlags) -> u8 {
    match flags {
        SectionFlags { exec: true, .. } => 0,
        SectionFlags { write: false, .. } => 1,
        SectionFlags { nobits: false, .. } => 2,
        _ => 3,
    }
}

/// Lays out objects as a program.
///
/// # Errors
///
/// Every [`LinkError`] found, in the order of the objects.
pub fn link(objects: &[Object], options: &LinkOptions) -> Result<Image, Vec<LinkError>> {
    let Some(first) = objects.first() else { return Err(vec![LinkError::Nothing]) };
    let mut errors = Vec::new();
    for object in objects {
        if object.arch != first.arch {
            errors.push(LinkError::MixedTargets {
                first_file: file_name(first),
                wanted: first.arch,
                file: file_name(object),
                found: object.arch,
            });
        }
    }
    if !errors.is_empty() {
        return Err(errors);
    }
    for object in objects {
        for section in &object.sections {
            if section.flags.alloc && section.flags.write && section.flags.exec {
                let (section, file) = (section.name.clone(), file_name(object));
                errors.push(LinkError::WritableCode { section, file });
            }
        }
    }
    errors.extend(objects.iter().filter_map(not_linked_yet));
    let size = total_size(objects);
    if size > MAX_PROGRAM_BYTES {
        errors.push(LinkError::TooLarge { size, limit: MAX_PROGRAM_BYTES });
    }
    if !errors.is_empty() {
        return Err(errors);
    }
    // What the linker makes itself is one more object.
    let made = synthetic_object(objects);
    let objects: Vec<&Object> = objects.iter().chain(&made.object).collect();
    let repeated = repeated_sections(&objects);
    let mut outputs = merge(&objects, &repeated);
    let mut segments = place(&mut outputs, first.arch, options.position_independent);
    if segments.is_empty() {
        return Err(vec![LinkError::Empty]);
    }
    let bases = part_addresses(&objects, &outputs, &repeated);
    let globals = resolve_globals(&objects, &bases, &mut errors);
    let linker = Linker { objects: &objects, bases, globals, repeated, made: &made, options };
    linker.fill(&outputs, &mut segments, &mut errors);
    let entry = linker.find_entry(&mut errors);
    match entry {
        Some(entry) if errors.is_empty() => Ok(Image {
            arch: first.arch,
            entry,
            position_independent: options.position_independent,
            executable_stack: false,
            symbols: image_symbols(&objects, &linker.bases, &segments),
            lines: line_table(&objects, &outputs),
            parts: image_parts(&objects, &outputs),
            call_frames: call_frames(first.arch, &objects, &linker.bases),
            segments,
        }),
        _ => Err(errors),
    }
}

/// No program may be larger than this in memory.
const MAX_PROGRAM_BYTES: u64 = 1 << 31;

fn total_size(objects: &[Object]) -> u64 {
    let sections = objects.iter().flat_map(|object| &object.sections);
    let sections = sections.filter(|section| section.flags.alloc);
    let sections = sections.fold(0, |sum: u64, section| {
        sum.saturating_add(section.size).saturating_add(section.align)
    });
    let symbols = objects.iter().flat_map(|object| &object.symbols);
    symbols.fold(sections, |sum, symbol| match symbol.place {
        Place::Common(size, align) => sum.saturating_add(size).saturating_add(align),
        _ => sum,
    })
}

/// What an object needs that we do not link yet.
fn not_linked_yet(object: &Object) -> Option<LinkError> {
    let first_line = |section: &crate::Section| section.lines.first().map(|l| (l.file, l.line));
    let fields = object.sections.iter().enumerate().find_map(|(number, section)| {
        let mut relocations = section.relocations.iter();
        let field = relocations.find(|field| matches!(field.kind, RelocationKind::Tls(_)))?;
        section.flags.alloc.then(|| line_of(object, number, field.offset))
    });
    let sections = object.sections.iter().find(|section| section.flags.tls && section.size > 0);
    let sections = sections.map(|section| definition(object, first_line(section)));
    if let Some(reference) = fields.or(sections) {
        return Some(LinkError::NotLinkedYet { what: "thread-local storage", reference });
    }
    let chosen = |symbol: &&Symbol| symbol.kind == SymbolKind::IndirectFunction;
    let chosen = object.symbols.iter().find(chosen)?;
    let reference = definition(object, chosen.defined_at);
    let what = "a function that is chosen at run time (gnu_indirect_function)";
    Some(LinkError::NotLinkedYet { what, reference })
}

fn file_name(object: &Object) -> String {
    object.files.first().cloned().unwrap_or_default()
}

/// The section of the program that an object's section goes to: `.text.startup` to `.text`.
fn output_name(name: &str) -> &str {
    const FAMILIES: [&str; 5] = [".text", ".rodata", ".data.rel.ro", ".data", ".bss"];
    FAMILIES
        .into_iter()
        .find(|family| name.strip_prefix(family).is_some_and(|rest| rest.starts_with('.')))
        .unwrap_or(name)
}

/// The sections of groups that an object before brought already: object and section.
fn repeated_sections(objects: &[&Object]) -> HashSet<(usize, usize)> {
    let mut seen = HashSet::new();
    let mut repeated = HashSet::new();
    for (number, object) in objects.iter().enumerate() {
        for group in &object.groups {
            if !seen.insert(group.name.as_str()) {
                repeated.extend(group.sections.iter().map(|s| (number, s.0 as usize)));
            }
        }
    }
    repeated
}

fn merge(objects: &[&Object], repeated: &HashSet<(usize, usize)>) -> Vec<Output> {
    let mut outputs: Vec<Output> = Vec::new();
    let mut by_name = HashMap::<(&str, SectionFlags), usize>::new();
    for (object_index, object) in objects.iter().enumerate() {
        for (section_index, section) in object.sections.iter().enumerate() {
            let again = repeated.contains(&(object_index, section_index));
            if !section.flags.alloc || section.size == 0 || again {
                continue;
            }
            let name = output_name(&section.name);
            let number = *by_name.entry((name, section.flags)).or_insert_with(|| {
                outputs.push(Output {
                    name: name.to_string(),
                    flags: section.flags,
                    align: 1,
                    size: 0,
                    address: 0,
                    parts: Vec::new(),
                });
                outputs.len() - 1
            });
            let output = &mut outputs[number];
            let start = align_up(output.size, section.align);
            output.align = output.align.max(section.align);
            output.size = start + section.size;
            output.parts.push((object_index, section_index, start));
        }
    }
    outputs.sort_by_key(|output| rank(output.flags));
    outputs
}

/// Gives sections their addresses, and groups them in segments. Contents stay zero.
fn place(outputs: &mut [Output], arch: Arch, anywhere: bool) -> Vec<Segment> {
    let page = target(arch).page_size;
    let base = if anywhere { 0 } else { target(arch).base_address };
    let mut segments: Vec<Segment> = Vec::new();
    // The headers take the first page of the file.
    let mut file_end = FILE_PAGE;
    let mut address = base;
    for output in outputs.iter_mut() {
        let (write, exec) = (output.flags.write, output.flags.exec);
        let starts_segment = segments.last().is_none_or(|s| s.write != write || s.exec != exec);
        if starts_segment {
            let offset = align_up(file_end, FILE_PAGE);
            address = align_up(address, page) + offset % page;
            if segments.is_empty() {
                address = base + offset;
            }
            file_end = offset;
            segments.push(Segment {
                address,
                data: Vec::new(),
                memory_size: 0,
                surroundings: Default::default(),
                write,
                exec,
                sections: Vec::new(),
            });
        }
        let segment = segments.last_mut().expect("pushed above");
        output.address = align_up(address, output.align);
        address = output.address + output.size;
        segment.memory_size = address - segment.address;
        if !output.flags.nobits {
            segment.data.resize(segment.memory_size as usize, 0);
            file_end = align_up(file_end, FILE_PAGE) + segment.memory_size;
        }
        segment.sections.push((
            output.name.clone(),
            output.address,
            output.size,
            output.flags,
            output.align,
        ));
    }
    segments
}

/// Address of each object's each section; `None` for sections that are not loaded.
fn part_addresses(
    objects: &[&Object],
    outputs: &[Output],
    repeated: &HashSet<(usize, usize)>,
) -> Vec<Vec<Option<u64>>> {
    let mut bases: Vec<Vec<Option<u64>>> =
        objects.iter().map(|object| vec![None; object.sections.len()]).collect();
    for output in outputs {
        for &(object, section, start) in &output.parts {
            bases[object][section] = Some(output.address + start);
        }
    }
    // A label in an empty section stands where the code starts, or at the base.
    for (number, (object, bases)) in objects.iter().zip(&mut bases).enumerate() {
        for (index, (section, base)) in object.sections.iter().zip(bases).enumerate() {
            let again = repeated.contains(&(number, index));
            if base.is_none() && section.flags.alloc && !again {
                let same = outputs.iter().find(|output| output.name == output_name(&section.name));
                let first = outputs.iter().map(|output| output.address).min();
                *base = same
                    .map(|output| output.address)
                    .or(first)
                    .or(Some(target(object.arch).base_address));
            }
        }
    }
    bases
}

/// A value that a symbol stands for.
#[derive(Copy, Clone)]
struct Resolved {
    value: u64,
    /// A number, which stays when the program is loaded elsewhere.
    number: bool,
}

type Globals<'a> = HashMap<&'a str, (Resolved, Binding, Reference)>;

fn resolve_globals<'a>(
    objects: &[&'a Object],
    bases: &[Vec<Option<u64>>],
    errors: &mut Vec<LinkError>,
) -> Globals<'a> {
    let mut globals = Globals::new();
    for (number, object) in objects.iter().enumerate() {
        for symbol in &object.symbols {
            let Some(address) = address_of(symbol.place, &bases[number]) else { continue };
            if symbol.binding == Binding::Local {
                continue;
            }
            let here = definition(object, symbol.defined_at);
            match globals.get(symbol.name.as_str()) {
                Some((_, Binding::Global, first)) if symbol.binding == Binding::Global => {
                    errors.push(LinkError::Duplicate {
                        name: symbol.name.clone(),
                        first: first.clone(),
                        second: here,
                    });
                }
                Some((_, Binding::Global, _)) => {}
                Some(_) if symbol.binding == Binding::Weak => {}
                _ => {
                    let number = matches!(symbol.place, Place::Absolute(_));
                    let resolved = Resolved { value: address, number };
                    globals.insert(&symbol.name, (resolved, symbol.binding, here));
                }
            }
        }
    }
    globals
}

fn definition(object: &Object, at: Option<(u32, u32)>) -> Reference {
    let (file, line) = at.unwrap_or((0, 0));
    Reference { file: object.files.get(file as usize).cloned().unwrap_or_default(), line }
}

fn address_of(place: Place, bases: &[Option<u64>]) -> Option<u64> {
    match place {
        // Room for common symbols is in the linker's own object.
        Place::Undefined | Place::Common(..) => None,
        Place::Section(section, offset) => Some(bases[section.0 as usize]?.wrapping_add(offset)),
        Place::Absolute(value) => Some(value),
    }
}

/// Everything that is settled before fields are filled.
struct Linker<'a> {
    objects: &'a [&'a Object],
    bases: Vec<Vec<Option<u64>>>,
    globals: Globals<'a>,
    /// Sections that are left out: object and section.
    repeated: HashSet<(usize, usize)>,
    made: &'a Synthetic,
    options: &'a LinkOptions,
}

/// Names with the places that refer to them, in the order in which they were found.
#[derive(Default)]
struct Complaints {
    names: Vec<(String, Vec<Reference>)>,
    by_name: HashMap<String, usize>,
}

impl Complaints {
    fn add(&mut self, name: &str, reference: Reference) {
        let at = *self.by_name.entry(name.to_string()).or_insert_with(|| {
            self.names.push((name.to_string(), Vec::new()));
            self.names.len() - 1
        });
        self.names[at].1.push(reference);
    }

    fn sorted(self) -> impl Iterator<Item = (String, Vec<Reference>)> {
        self.names.into_iter().map(|(name, mut references)| {
            references.sort();
            references.dedup();
            (name, references)
        })
    }
}

impl Linker<'_> {
    /// The address of an object's symbol; `None` if nothing defines it.
    fn resolve(&self, object: usize, symbol: SymbolIndex) -> Option<Resolved> {
        let symbol = &self.objects[object].symbols[symbol.position()];
        let number = matches!(symbol.place, Place::Absolute(_));
        let own = || {
            let value = address_of(symbol.place, &self.bases[object])?;
            Some(Resolved { value, number })
        };
        let nothing = Resolved { value: 0, number: true };
        if symbol.binding == Binding::Local && symbol.place != Place::Undefined {
            // What tells of a section that is left out tells of nothing.
            let left_out = match symbol.place {
                Place::Section(section, _) => self.repeated.contains(&(object, section.0 as usize)),
                _ => false,
            };
            return own().or(left_out.then_some(nothing));
        }
        let shared = self.globals.get(symbol.name.as_str()).map(|global| global.0);
        shared.or_else(own).or((symbol.binding == Binding::Weak).then_some(nothing))
    }

    /// Copies contents into the segments and fills every relocation's field.
    fn fill(&self, outputs: &[Output], segments: &mut [Segment], errors: &mut Vec<LinkError>) {
        let (mut undefined, mut unknown) = (Complaints::default(), Complaints::default());
        for output in outputs {
            let segment = segments
                .iter_mut()
                .find(|s| (s.address..s.end()).contains(&output.address))
                .expect("every section was placed in a segment");
            for &(object_index, section_index, start) in &output.parts {
                let object = self.objects[object_index];
                let section = &object.sections[section_index];
                let address = output.address + start;
                let at = (address - segment.address) as usize;
                if section.flags.nobits {
                    continue;
                }
                let contents = &mut segment.data[at..at + section.data.len()];
                contents.copy_from_slice(&section.data);
                for relocation in &section.relocations {
                    let symbol = &object.symbols[relocation.symbol.position()];
                    let reference = || line_of(object, section_index, relocation.offset);
                    let table = relocation.kind == RelocationKind::GotDistance32;
                    let nothing = Resolved { value: 0, number: false };
                    let resolved = self.resolve(object_index, relocation.symbol);
                    let Some(value) = resolved.or(table.then_some(nothing)) else {
                        undefined.add(&symbol.name, reference());
                        continue;
                    };
                    // Where the program is not known, a place is known by its distance, a number
                    // by itself.
                    let kind = relocation.kind;
                    let known = kind.is_relative() != value.number || kind.is_page_part();
                    if self.options.position_independent && !known {
                        unknown.add(&symbol.name, reference());
                        continue;
                    }
                    let entry = self.made.table.get(&(object_index, relocation.symbol.0));
                    let in_table = relax::needs_table(relocation, &section.data);
                    let mut relocation = *relocation;
                    let mut target = value.value;
                    if let (Some(entry), true) = (entry, in_table) {
                        if self.options.position_independent {
                            unknown.add(&symbol.name, reference());
                            continue;
                        }
                        target = self.entry_bytes() * entry;
                        if kind != RelocationKind::GotEntry32 {
                            target += self.table_address();
                        }
                    } else {
                        relax::rewrite(&mut relocation, contents);
                    }
                    let mut place = address + relocation.offset;
                    match kind {
                        RelocationKind::GotOffset32 => place = self.table_address(),
                        RelocationKind::GotDistance32 => target = self.table_address(),
                        _ => {}
                    }
                    let target = i128::from(target) + i128::from(relocation.addend);
                    let field = &mut contents[relocation.offset as usize..];
                    if let Err(source) = relocation.kind.apply(field, target, place) {
                        let (name, reference) = (symbol.name.clone(), reference());
                        errors.push(LinkError::OutOfReach { name, reference, source });
                    }
                }
            }
        }
        self.fill_table(segments);
        for (name, references) in undefined.sorted() {
            let mut known: Vec<String> =
                self.globals.keys().map(|name| (*name).to_string()).collect();
            known.sort();
            errors.push(LinkError::Undefined { name, references, known });
        }
        for (name, references) in unknown.sorted() {
            errors.push(LinkError::NeedsAddress { name, references });
        }
    }

    /// Bytes of an entry of the global offset table.
    fn entry_bytes(&self) -> u64 {
        self.objects[0].arch.address_bytes()
    }

    fn table_address(&self) -> u64 {
        let made = self.bases.last().and_then(|bases| bases.get(self.made.table_section));
        made.copied().flatten().unwrap_or(0)
    }

    /// Puts the addresses into the global offset table.
    fn fill_table(&self, segments: &mut [Segment]) {
        let address = self.table_address();
        let Some(segment) = segments.iter_mut().find(|s| (s.address..s.end()).contains(&address))
        else {
            return;
        };
        for (&(object, symbol), entry) in &self.made.table {
            let value = self.resolve(object, SymbolIndex(symbol)).map_or(0, |r| r.value);
            let bytes = self.entry_bytes();
            let at = (address - segment.address + bytes * entry) as usize;
            let value = &value.to_le_bytes()[..bytes as usize];
            segment.data[at..at + value.len()].copy_from_slice(value);
        }
    }

    fn find_entry(&self, errors: &mut Vec<LinkError>) -> Option<u64> {
        let name = self.options.entry.as_str();
        if let Some(&(address, ..)) = self.globals.get(name) {
            return Some(address.value);
        }
        let defined = |name: &str| {
            self.objects
                .iter()
                .flat_map(|object| &object.symbols)
                .any(|symbol| symbol.name == name && symbol.place != Place::Undefined)
        };
        errors.push(LinkError::NoEntry {
            name: name.to_string(),
            local: defined(name),
            has_main: name != "main" && defined("main"),
        });
        None
    }
}

fn line_of(object: &Object, section: usize, offset: u64) -> Reference {
    let lines = &object.sections[section].lines;
    let after = lines.partition_point(|line| line.offset <= offset);
    definition(object, lines[..after].last().map(|line| (line.file, line.line)))
}

/// The unwind tables of what we assembled, for reading in memory.
fn call_frames(arch: Arch, objects: &[&Object], bases: &[Vec<Option<u64>>]) -> Vec<u8> {
    let routines = objects.iter().zip(bases).flat_map(|(object, bases)| {
        object.unwind.iter().filter_map(|table| {
            let start = bases[table.section.0 as usize]?.wrapping_add(table.start);
            Some((start, table.size, &table.rules[..]))
        })
    });
    dwarf::call_frames(arch, routines)
}

/// What went where, for the map.
fn image_parts(objects: &[&Object], outputs: &[Output]) -> Vec<ImagePart> {
    let mut parts = Vec::new();
    for output in outputs {
        for &(object, section, start) in &output.parts {
            let section = &objects[object].sections[section];
            parts.push(ImagePart {
                file: file_name(objects[object]),
                section: section.name.clone(),
                address: output.address + start,
                size: section.size,
            });
        }
    }
    parts
}

fn image_symbols(
    objects: &[&Object],
    bases: &[Vec<Option<u64>>],
    segments: &[Segment],
) -> Vec<ImageSymbol> {
    let mut symbols: Vec<ImageSymbol> = objects
        .iter()
        .zip(bases)
        .flat_map(|(object, bases)| {
            object.symbols.iter().filter_map(|symbol| {
                if symbol.kind == SymbolKind::Section
                    || symbol.name.contains('\0')
                    || is_mapping_symbol(object.arch, &symbol.name)
                {
                    return None;
                }
                let address = address_of(symbol.place, bases)?;
                let (file, line) = symbol.defined_at.unwrap_or((0, 0));
                let file = object.files.get(file as usize).cloned().unwrap_or_default();
                Some(ImageSymbol {
                    name: symbol.name.clone(),
                    address,
                    size: symbol.size,
                    kind: symbol.kind,
                    binding: symbol.binding,
                    datum: symbol.datum,
                    absolute: matches!(symbol.place, Place::Absolute(_)),
                    defined_at: (!file.is_empty()).then_some((file, line)),
                })
            })
        })
        .collect();
    symbols.sort_by_key(|symbol| symbol.address);
    guess_sizes(&mut symbols, segments);
    symbols
}

/// A symbol without a size covers what lies up to the next one, or to the end of its section.
fn guess_sizes(symbols: &mut [ImageSymbol], segments: &[Segment]) {
    let sections: Vec<(u64, u64)> =
        segments.iter().flat_map(|s| &s.sections).map(|s| (s.1, s.1 + s.2)).collect();
    for index in 0..symbols.len() {
        let address = symbols[index].address;
        if symbols[index].size != 0 || symbols[index].absolute {
            continue;
        }
        let Some(&(_, end)) =
            sections.iter().find(|(start, end)| (*start..*end).contains(&address))
        else {
            continue;
        };
        let next = symbols[index + 1..]
            .iter()
            .find(|symbol| !symbol.absolute && symbol.address > address)
            .map_or(end, |symbol| symbol.address.min(end));
        symbols[index].size = next - address;
    }
}

fn line_table(objects: &[&Object], outputs: &[Output]) -> LineTable {
    let mut table = LineTable::default();
    let mut known: HashMap<&str, u32> = HashMap::new();
    // A file that several objects take in is one file.
    let mut numbers: Vec<Vec<u32>> = Vec::new();
    for object in objects {
        let of_object = object.files.iter().map(|file| {
            *known.entry(file).or_insert_with(|| {
                table.files.push(file.clone());
                table.files.len() as u32 - 1
            })
        });
        numbers.push(of_object.collect());
    }
    for output in outputs {
        for &(object, section, start) in &output.parts {
            let base = output.address + start;
            let section = &objects[object].sections[section];
            table.rows.extend(section.lines.iter().map(|line| {
                let file = numbers[object][line.file as usize];
                let place = SourceLine { file, line: line.line };
                (base + line.offset, Some(place))
            }));
            table.rows.push((base + section.size, None));
        }
    }
    table.rows.sort_by_key(|row| row.0);
    // Where one section ends and the next begins, the beginning counts.
    table.rows.dedup_by(|later, earlier| {
        let same = later.0 == earlier.0;
        if same && later.1.is_some() {
            earlier.1 = later.1;
        }
        same
    });
    table
}

impl SymbolIndex {
    /// The index as a position in a list.
    pub fn position(self) -> usize {
        self.0 as usize
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Relocation, RelocationKind, Section, SectionIndex, Symbol, Visibility};

    fn section(name: &str, data: &[u8]) -> Section {
        Section {
            name: name.into(),
            flags: SectionFlags::by_name(name),
            align: 1,
            data: data.to_vec(),
            size: data.len() as u64,
            relocations: Vec::new(),
            lines: vec![crate::Line { offset: 0, file: 0, line: 3 }],
        }
    }

    fn symbol(name: &str, place: Place, binding: Binding) -> Symbol {
        let (kind, size) = (SymbolKind::None, 0);
        Symbol {
            name: name.into(),
            place,
            binding,
            visibility: Visibility::Default,
            kind,
            size,
            datum: None,
            defined_at: Some((0, 2)),
        }
    }

    fn object(file: &str, sections: Vec<Section>, symbols: Vec<Symbol>) -> Object {
        let unwind = Vec::new();
        Object {
            arch: Arch::X86_64,
            files: vec![file.into()],
            sections,
            symbols,
            unwind,
            groups: Vec::new(),
            stated_lines: None,
        }
    }

    const TEXT_START: Place = Place::Section(SectionIndex(0), 0);

    #[test]
    fn sections_of_a_name_join_and_permissions_get_pages_of_their_own() {
        let lamp = object(
            "lamp.s",
            vec![section(".text", &[1; 5]), section(".data", &[2; 3]), section(".rodata", &[4])],
            vec![symbol("_start", TEXT_START, Binding::Global)],
        );
        let fog = object("fog.s", vec![section(".text", &[3; 2])], vec![]);
        let image = link(&[lamp, fog], &LinkOptions::default()).unwrap();
        assert_eq!(image.entry, 0x40_1000);
        let placed: Vec<_> = image.segments.iter().map(|s| (s.address, s.data.clone())).collect();
        assert_eq!(
            placed,
            [
                (0x40_1000, vec![1, 1, 1, 1, 1, 3, 3]),
                (0x40_2000, vec![4]),
                (0x40_3000, vec![2, 2, 2])
            ]
        );
        assert_eq!(image.lines.at(0x40_1006), Some(SourceLine { file: 1, line: 3 }));
        assert_eq!(image.lines.at(0x40_1007), None);
    }

    #[test]
    fn undefined_symbols_list_every_reference_and_duplicates_both_places() {
        let mut text = section(".text", &[0; 16]);
        for offset in [0, 8] {
            let (kind, symbol) = (RelocationKind::Rel32, SymbolIndex(1));
            text.relocations.push(Relocation { offset, kind, symbol, addend: 0 });
        }
        text.lines.push(crate::Line { offset: 8, file: 0, line: 9 });
        let symbols = vec![
            symbol("_start", TEXT_START, Binding::Global),
            symbol("fog_horn", Place::Undefined, Binding::Global),
        ];
        let lamp = object("lamp.s", vec![text], symbols);
        let other = object(
            "fog.s",
            vec![section(".text", &[0])],
            vec![symbol("_start", TEXT_START, Binding::Global)],
        );
        let errors = link(&[lamp, other], &LinkOptions::default()).unwrap_err();
        let at = |file: &str, line| Reference { file: file.into(), line };
        assert_eq!(
            errors,
            [
                LinkError::Duplicate {
                    name: "_start".into(),
                    first: at("lamp.s", 2),
                    second: at("fog.s", 2)
                },
                LinkError::Undefined {
                    name: "fog_horn".into(),
                    references: vec![at("lamp.s", 3), at("lamp.s", 9)],
                    known: vec!["_start".into()]
                },
            ]
        );
    }

    #[test]
    fn a_program_without_an_entry_symbol_is_told_what_it_has() {
        let lamp = object(
            "lamp.s",
            vec![section(".text", &[0])],
            vec![symbol("_start", TEXT_START, Binding::Local)],
        );
        let errors = link(&[lamp], &LinkOptions::default()).unwrap_err();
        assert_eq!(
            errors,
            [LinkError::NoEntry { name: "_start".into(), local: true, has_main: false }]
        );
    }
}
