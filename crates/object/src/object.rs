//! The parts of a relocatable object.

use sotto_isa::Arch;

use crate::index::{SectionIndex, SymbolIndex};
use crate::target::has_mapping_symbols;
use crate::{Relocation, UnwindTable};

/// What one source assembles to.
#[derive(Clone, Debug)]
pub struct Object {
    /// The machine.
    pub arch: Arch,
    /// Source file names, as given; lines refer to them by index.
    pub files: Vec<String>,
    /// Sections in order of first mention.
    pub sections: Vec<Section>,
    /// Symbols in order of first mention.
    pub symbols: Vec<Symbol>,
    /// How to find the caller's frame from inside its routines.
    pub unwind: Vec<UnwindTable>,
    /// Sections of which a program has one copy, however many objects bring it.
    pub groups: Vec<Group>,
    /// The line table that the source describes with `.file` and `.loc`, as compilers do.
    pub stated_lines: Option<StatedLines>,
    /// Labels that are names within the source alone, if they were asked for. They are in no file.
    pub labels: Vec<LocalLabel>,
}

/// A dotted or numbered label.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct LocalLabel {
    /// Its name as written: `.next`, `1`.
    pub name: String,
    /// The label that it belongs to: of a dotted one the last plain one before it.
    pub owner: Option<SymbolIndex>,
    /// The section where it is.
    pub section: SectionIndex,
    /// Bytes into the section.
    pub offset: u64,
}

/// The section whose flags say whether an object needs an executable stack: `SHF_EXECINSTR` if so.
pub(crate) const STACK_NOTE: &str = ".note.GNU-stack";

impl Object {
    /// Whether its code puts instructions on the stack.
    pub fn needs_executable_stack(&self) -> bool {
        self.sections.iter().any(|section| section.name == STACK_NOTE && section.flags.exec)
    }
}

/// Sections that belong together, and of which the first copy counts (`GRP_COMDAT`). Source: gABI,
/// "Section Groups".
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Group {
    /// What copies of it have in common: the name of its signature symbol.
    pub name: String,
    /// The sections.
    pub sections: Vec<SectionIndex>,
}

/// What a section is for. Source: gABI, "Section Attribute Flags".
#[derive(Copy, Clone, PartialEq, Eq, Hash, Debug, Default)]
pub struct SectionFlags {
    /// Occupies memory at run time (`SHF_ALLOC`).
    pub alloc: bool,
    /// Writable at run time (`SHF_WRITE`).
    pub write: bool,
    /// Holds instructions (`SHF_EXECINSTR`).
    pub exec: bool,
    /// Takes no space in the file and starts as zeros (`SHT_NOBITS`).
    pub nobits: bool,
    /// Each thread has a copy of its own (`SHF_TLS`).
    pub tls: bool,
}

impl SectionFlags {
    /// The flags that the name of a section implies, by the gABI's list of special sections.
    pub fn by_name(name: &str) -> SectionFlags {
        let base = SectionFlags { alloc: true, ..SectionFlags::default() };
        let is = |family: &str| {
            name.strip_prefix(family).is_some_and(|rest| rest.is_empty() || rest.starts_with('.'))
        };
        if is(".text") {
            SectionFlags { exec: true, ..base }
        } else if is(".data") {
            SectionFlags { write: true, ..base }
        } else if is(".bss") {
            SectionFlags { write: true, nobits: true, ..base }
        } else if is(".rodata") || is(".gcc_except_table") {
            base
        } else if is(".tdata") {
            SectionFlags { write: true, tls: true, ..base }
        } else if is(".tbss") {
            SectionFlags { write: true, nobits: true, tls: true, ..base }
        } else if is(".init_array") || is(".fini_array") {
            SectionFlags { write: true, ..base }
        } else {
            SectionFlags::default()
        }
    }
}

/// A source line that laid something down.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct Line {
    /// Where in the section it starts, in bytes.
    pub offset: u64,
    /// Index into [`Object::files`].
    pub file: u32,
    /// Line number, from 1.
    pub line: u32,
}

/// A section.
#[derive(Clone, Debug)]
pub struct Section {
    /// Name, such as `.text`.
    pub name: String,
    /// What it is for.
    pub flags: SectionFlags,
    /// Alignment in bytes, a power of two.
    pub align: u64,
    /// Contents; empty if the section takes no space in the file.
    pub data: Vec<u8>,
    /// Size in memory: the length of `data`, or more for a section without contents.
    pub size: u64,
    /// Fields to fill when addresses are known.
    pub relocations: Vec<Relocation>,
    /// Source lines, by ascending offset.
    pub lines: Vec<Line>,
}

/// A line table that a source states itself. Source: DWARF 5, 6.2.4 "The Line Number Program Header".
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct StatedLines {
    /// The files by their numbers: folder, if one is given, and name. Number 0 is the source that was compiled.
    pub files: Vec<(Option<String>, String)>,
    /// The rows, in the order in which the source states them.
    pub rows: Vec<StatedLine>,
}

/// A row of a stated line table.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct StatedLine {
    /// The section of the code.
    pub section: SectionIndex,
    /// Where in it the row's code starts, in bytes.
    pub offset: u64,
    /// Index into [`StatedLines::files`].
    pub file: u32,
    /// Line number, from 1; 0 where none is known.
    pub line: u32,
    /// Column number, from 1; 0 where none is known.
    pub column: u32,
    /// A debugger may stop here for the line.
    pub is_statement: bool,
}

/// Where a symbol is.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Place {
    /// In another object.
    Undefined,
    /// At an offset in a section.
    Section(SectionIndex, u64),
    /// A number.
    Absolute(u64),
    /// Room that the linker makes once for all objects: bytes, and alignment in bytes.
    Common(u64, u64),
}

/// Who sees a symbol.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Binding {
    /// This object only.
    Local,
    /// Every object.
    Global,
    /// Every object; gives way to a global one, and is 0 if undefined.
    Weak,
}

/// Whether the name is that of a symbol that tells code from data, and no place for a reader. Source: AAELF64, 5.5.4
/// "Mapping symbols".
pub(crate) fn is_mapping_symbol(arch: Arch, name: &str) -> bool {
    let kind = name.strip_prefix('$').and_then(|rest| rest.split('.').next());
    has_mapping_symbols(arch) && matches!(kind, Some("x" | "d" | "a" | "t"))
}

/// What the other components of a program, which are linked apart, may do with a symbol. Source: gABI, "Symbol
/// Visibility".
#[derive(Copy, Clone, PartialEq, Eq, Debug, Default)]
pub enum Visibility {
    /// See it, and put a definition of theirs in its place.
    #[default]
    Default,
    /// Nothing; what that means beyond hiding is up to the processor's supplement.
    Internal,
    /// Nothing.
    Hidden,
    /// See it.
    Protected,
}

/// What a symbol stands for.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum SymbolKind {
    /// Not said.
    None,
    /// Code.
    Function,
    /// Code that gives the address of the function to be used (`STT_GNU_IFUNC`).
    IndirectFunction,
    /// Data.
    Data,
    /// The start of a section; stands in for labels that are not in the symbol table.
    Section,
}

/// What kind of values a labelled datum was declared to hold.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum DatumKind {
    /// Integers.
    Integer,
    /// Floating-point numbers.
    Float,
    /// Text.
    Text,
    /// Room without values.
    Space,
}

/// How a labelled datum was declared.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct Datum {
    /// Bytes of one element.
    pub element_bytes: u8,
    /// How many elements.
    pub count: u64,
    /// What they are.
    pub kind: DatumKind,
}

/// A symbol.
#[derive(Clone, Debug)]
pub struct Symbol {
    /// Name; case matters.
    pub name: String,
    /// Where it is.
    pub place: Place,
    /// Who sees it.
    pub binding: Binding,
    /// What other components of a program may do with it.
    pub visibility: Visibility,
    /// What it stands for.
    pub kind: SymbolKind,
    /// Bytes it covers; 0 if not said.
    pub size: u64,
    /// How it was declared, if it labels data.
    pub datum: Option<Datum>,
    /// Where it is defined: index into [`Object::files`] and line from 1; `None` if it is not.
    pub defined_at: Option<(u32, u32)>,
}
