//! A program laid out at its addresses.

use sotto_isa::Arch;

use crate::contract::RoutineContract;
use crate::{Binding, Datum, SectionFlags, SymbolKind, Variable};

/// A program ready to be loaded or written to a file.
#[derive(Clone, Debug)]
pub struct Image {
    /// The machine.
    pub arch: Arch,
    /// Address of the first instruction.
    pub entry: u64,
    /// The program can be loaded anywhere. As linked its addresses count from 0; as read from a file,
    /// from where it will be loaded.
    pub position_independent: bool,
    /// The path of the program that loads it with its libraries (`PT_INTERP`), if it is dynamically linked.
    pub interpreter: Option<Vec<u8>>,
    /// The stack may hold code (`PF_X` of `PT_GNU_STACK`).
    pub executable_stack: bool,
    /// Parts of memory, by ascending address, not overlapping.
    pub segments: Vec<Segment>,
    /// Symbols that have an address, by ascending address.
    pub symbols: Vec<ImageSymbol>,
    /// Dotted and numbered labels of sources that were assembled to be run, by ascending address.
    pub labels: Vec<ImageLabel>,
    /// Variables of compiled routines, as far as they are at simple places, by name; see [`crate::read_variables`].
    pub variables: Vec<Variable>,
    /// Source lines, if they are known.
    pub lines: LineTable,
    /// What went where, by ascending address within a segment; empty unless we linked it.
    pub parts: Vec<ImagePart>,
    /// Unwind tables of the routines that we assembled, as `.eh_frame` holds them, at the addresses of this
    /// image. Those that a file brings along are in its segments.
    pub call_frames: Vec<u8>,
    /// What each thread's block of thread-local data starts with; `None` if the program has no such data.
    pub tls_template: Option<TlsTemplate>,
    /// What routines promise, by ascending address.
    pub contracts: Vec<RoutineContract>,
    /// Shared objects that were loaded beside the program, by ascending address.
    pub modules: Vec<Module>,
    /// The program headers in memory, which the auxiliary vector tells a program; `None` if no segment has them.
    pub headers: Option<ProgramHeaders>,
}

/// A shared object that was loaded beside a program.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Module {
    /// Its file's name, without directories.
    pub name: String,
    /// First address.
    pub start: u64,
    /// Address after the last byte.
    pub end: u64,
}

/// Where the thread-local data that a thread starts with is (`PT_TLS`).
///
/// Source: ELF Handling for Thread-Local Storage, 2 "Program Startup": the TLS initialization image.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct TlsTemplate {
    /// First address.
    pub address: u64,
    /// Bytes with contents; the rest of `memory_size` is zeros.
    pub file_size: u64,
    /// Bytes of a thread's block.
    pub memory_size: u64,
    /// Alignment of the block in bytes, a power of two.
    pub align: u64,
}

/// The program headers of a file, in memory.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct ProgramHeaders {
    /// Address of the first (AT_PHDR).
    pub address: u64,
    /// Bytes of each (AT_PHENT).
    pub entry_bytes: u64,
    /// How many (AT_PHNUM).
    pub count: u64,
}

/// A section of an object, in the program.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct ImagePart {
    /// The object's first source, or its own name.
    pub file: String,
    /// Name of the section in the object.
    pub section: String,
    /// First address.
    pub address: u64,
    /// Bytes.
    pub size: u64,
}

/// A part of memory with one set of permissions.
#[derive(Clone, Debug)]
pub struct Segment {
    /// First address.
    pub address: u64,
    /// Contents from the file; the rest of `memory_size` is zeros.
    pub data: Vec<u8>,
    /// Where they are in the file that was read; 0 in what was linked here.
    pub file_offset: u64,
    /// Bytes in memory.
    pub memory_size: u64,
    /// What else the kernel maps of the file, since it maps whole pages.
    pub surroundings: Surroundings,
    /// May be written.
    pub write: bool,
    /// May be executed.
    pub exec: bool,
    /// The sections in it: name, address, size in bytes, flags, alignment in bytes. Empty when
    /// the file had no section headers.
    pub sections: Vec<(String, u64, u64, SectionFlags, u64)>,
}

/// Bytes of a file around a segment, on the segment's first and last page.
///
/// A program can read them as data. Source: mmap(2); Linux, `fs/binfmt_elf.c`, `elf_load`.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Surroundings {
    /// From the start of the page to the segment's first byte.
    pub before: Vec<u8>,
    /// From the end of the segment's contents to the end of the page, or to the end of the file. Empty if all of
    /// that is zeros.
    pub after: Vec<u8>,
}

impl Segment {
    /// Address after the last byte.
    pub fn end(&self) -> u64 {
        self.address + self.memory_size
    }
}

/// A label that is a name within its source alone.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct ImageLabel {
    /// Its name as written: `.next`, `1`.
    pub name: String,
    /// The plain label that a dotted one belongs to.
    pub owner: Option<String>,
    /// Its address.
    pub address: u64,
}

/// A symbol with an address.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct ImageSymbol {
    /// Name.
    pub name: String,
    /// Address, or the number if it is absolute.
    pub address: u64,
    /// Bytes it covers; 0 if not known.
    pub size: u64,
    /// What it stands for.
    pub kind: SymbolKind,
    /// Who saw it.
    pub binding: Binding,
    /// How it was declared, if it labels data and we assembled it.
    pub datum: Option<Datum>,
    /// A number and not an address.
    pub absolute: bool,
    /// File and line of the definition, if they are known; line 0 if only the file is.
    pub defined_at: Option<(String, u32)>,
}

/// A place in a source.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct SourceLine {
    /// Index into [`LineTable::files`].
    pub file: u32,
    /// Line number, from 1.
    pub line: u32,
}

/// Source lines by address.
#[derive(Clone, Debug, Default)]
pub struct LineTable {
    /// File names as given on the command line.
    pub files: Vec<String>,
    /// First address of each run of bytes, and the line that laid it down; `None` where none did.
    /// By ascending address.
    pub rows: Vec<(u64, Option<SourceLine>)>,
    /// Where lines begin, by ascending address, if that is known better than from the rows: a line may begin where
    /// another has its bytes. Empty for what we assembled.
    pub starts: Vec<(u64, SourceLine)>,
}

impl LineTable {
    /// The line that laid down the byte at `address`.
    pub fn at(&self, address: u64) -> Option<SourceLine> {
        let after = self.rows.partition_point(|row| row.0 <= address);
        self.rows[..after].last().and_then(|row| row.1)
    }

    /// Addresses at which the code of a line starts, ascending: one, or one for each expansion of a
    /// line of a macro. If there is none, those of the nearest later line of the file that has some.
    pub fn addresses_of(&self, file: u32, line: u32) -> Vec<u64> {
        let of_file = self.starts().filter(|(_, place)| place.file == file);
        let wanted =
            of_file.clone().map(|(_, place)| place.line).filter(|&found| found >= line).min();
        let mut addresses: Vec<u64> = of_file
            .filter(|(_, place)| Some(place.line) == wanted)
            .map(|(address, _)| address)
            .collect();
        addresses.dedup();
        addresses
    }

    /// Where lines begin, by ascending address.
    fn starts(&self) -> impl Iterator<Item = (u64, SourceLine)> + Clone + '_ {
        let rows = self.rows.iter().filter_map(|(address, place)| Some((*address, (*place)?)));
        let rows = rows.filter(|_| self.starts.is_empty());
        self.starts.iter().copied().chain(rows)
    }

    /// First address of a line, or of the nearest later line of the file that has one.
    pub fn address_of(&self, file: u32, line: u32) -> Option<u64> {
        self.starts()
            .filter(|(_, place)| place.file == file && place.line >= line)
            .min_by_key(|(address, place)| (place.line, *address))
            .map(|(address, _)| address)
    }
}

impl Image {
    /// The segment that holds `address`.
    pub fn segment_at(&self, address: u64) -> Option<&Segment> {
        self.segments.iter().find(|s| (s.address..s.end()).contains(&address))
    }

    /// The shared object that an address is in; `None` for the program itself.
    pub fn module_at(&self, address: u64) -> Option<&Module> {
        let after = self.modules.partition_point(|module| module.start <= address);
        self.modules[..after].last().filter(|module| address < module.end)
    }

    /// Adds the segments, symbols and lines of a shared object that was read for where it is loaded. Another that was there is
    /// forgotten.
    pub fn add_module(&mut self, name: &str, module: Image) {
        let Some(start) = module.segments.first().map(|segment| segment.address) else { return };
        let start = start & !0xfff;
        let end = module.segments.last().map_or(start, Segment::end);
        let is_there = |address: u64| (start..end).contains(&address);
        self.segments.retain(|segment| !is_there(segment.address));
        self.symbols.retain(|symbol| symbol.absolute || !is_there(symbol.address));
        self.lines.rows.retain(|(address, _)| !is_there(*address));
        self.lines.starts.retain(|(address, _)| !is_there(*address));
        self.modules.retain(|module| module.end <= start || end <= module.start);

        self.segments.extend(module.segments);
        self.segments.sort_by_key(|segment| segment.address);
        self.symbols.extend(module.symbols);
        self.symbols.sort_by_key(|symbol| symbol.address);
        let files = self.lines.files.len() as u32;
        let moved = |line: SourceLine| SourceLine { file: line.file + files, ..line };
        self.lines.files.extend(module.lines.files);
        let rows = module.lines.rows.into_iter();
        self.lines.rows.extend(rows.map(|(address, line)| (address, line.map(moved))));
        self.lines.rows.sort_by_key(|(address, _)| *address);
        let starts = module.lines.starts.into_iter();
        self.lines.starts.extend(starts.map(|(address, line)| (address, moved(line))));
        self.lines.starts.sort_by_key(|(address, _)| *address);
        self.modules.push(Module { name: name.to_string(), start, end });
        self.modules.sort_by_key(|module| module.start);
    }

    /// The contract of the routine at an address.
    pub fn contract_at(&self, address: u64) -> Option<&RoutineContract> {
        let found = self.contracts.binary_search_by_key(&address, |contract| contract.address);
        found.ok().map(|at| &self.contracts[at])
    }

    /// The symbol with this name.
    pub fn symbol(&self, name: &str) -> Option<&ImageSymbol> {
        self.symbols.iter().find(|symbol| symbol.name == name)
    }

    /// The last dotted label at or before an address that belongs to the symbol before it.
    pub fn label_before(&self, address: u64) -> Option<(&ImageLabel, u64)> {
        let after = self.labels.partition_point(|label| label.address <= address);
        let (symbol, offset) = self.symbol_before(address)?;
        // At the symbol itself its name says more.
        if offset == 0 {
            return None;
        }
        let own = |label: &&ImageLabel| label.owner.as_deref() == Some(symbol.name.as_str());
        let near = self.labels[..after].iter().rev();
        let label = near.take_while(|label| address - label.address <= offset).find(own)?;
        Some((label, address - label.address))
    }

    /// The nearest symbol at or below `address` in the same segment, and the distance in bytes.
    pub fn symbol_before(&self, address: u64) -> Option<(&ImageSymbol, u64)> {
        let segment = self.segment_at(address)?;
        let is_module = self.module_at(address).is_some();
        let after = self.symbols.partition_point(|symbol| symbol.address <= address);
        self.symbols[..after]
            .iter()
            .rev()
            .filter(|symbol| !symbol.absolute && symbol.address >= segment.address)
            // Of a shared object not all symbols are known, so that one says nothing of what is behind it.
            .filter(|symbol| {
                !is_module || symbol.size == 0 || address - symbol.address < symbol.size
            })
            .map(|symbol| (symbol, address - symbol.address))
            // Of symbols at one address, the one that is seen most widely.
            .take_while({
                let mut nearest = None;
                move |(_, distance)| *nearest.get_or_insert(*distance) == *distance
            })
            .min_by_key(|(symbol, _)| symbol.binding == Binding::Local)
    }
}
