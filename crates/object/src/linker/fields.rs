//! Filling fields: contents are copied into the segments, and each relocation is applied.

use std::collections::{HashMap, HashSet};

use crate::contract::{self, RoutineContract};
use crate::linker::errors::line_of;
use crate::linker::indirect::IndirectEntry;
use crate::linker::layout::Output;
use crate::linker::link::LinkOptions;
use crate::linker::relax;
use crate::linker::resolve::{Globals, Resolved, ValueKind};
use crate::linker::synthetic::{
    GLOBAL_OFFSET_TABLE, INDIRECT_RELOCATIONS, INDIRECT_SLOTS, INDIRECT_STUBS, IndirectFunction,
    Synthetic, TableEntry,
};
use crate::linker::tls::{self, Holds};
use crate::target::{Target, target};
use crate::{
    Binding, LinkError, Object, Place, Reference, Relocation, RelocationKind, Segment, SymbolIndex,
    TlsTemplate,
};

/// Everything that is settled before fields are filled.
pub(crate) struct Linker<'a> {
    pub objects: &'a [&'a Object],
    pub bases: Vec<Vec<Option<u64>>>,
    pub globals: Globals<'a>,
    /// Sections that are left out: object and section.
    pub repeated: HashSet<(usize, usize)>,
    pub made: &'a Synthetic,
    /// What threads start with.
    pub thread_template: Option<TlsTemplate>,
    pub options: &'a LinkOptions,
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

/// What goes into a field.
struct Field {
    kind: RelocationKind,
    /// Bytes into the section.
    offset: u64,
    /// The value, without the addend.
    target: i128,
    /// The address that a distance counts from, if it is not the field's own.
    from: Option<u64>,
}

/// What stands in the way of filling a field.
enum Unfilled {
    /// Nothing defines the symbol.
    Undefined,
    /// The field needs an address, and the program has none before it is loaded.
    NeedsAddress,
    /// The field is of an access model for modules that are loaded later.
    LaterModule,
    /// The field is for thread-local variables, and the symbol is none.
    NotThreadLocal,
    /// The symbol is a thread-local variable, and the field is for others.
    ThreadLocal,
}

impl Linker<'_> {
    fn target(&self) -> &'static Target {
        target(self.objects[0].arch)
    }

    /// What an object's symbol stands for; `None` if nothing defines it.
    ///
    /// A function that is chosen at run time stands for its entry in the procedure linkage table.
    fn resolve(&self, object: usize, symbol: SymbolIndex) -> Option<Resolved> {
        match self.indirect_function(object, symbol) {
            Some(number) => {
                let size = self.target().indirect.stub.len() as u64;
                let value = self.made_address(INDIRECT_STUBS) + size * number;
                Some(Resolved::address(value))
            }
            None => self.resolve_directly(object, symbol),
        }
    }

    /// The number of the function that an object's symbol names, if it is one that is chosen at run time.
    fn indirect_function(&self, object: usize, index: SymbolIndex) -> Option<u64> {
        if self.made.indirect.is_empty() {
            return None;
        }
        let symbol = &self.objects[object].symbols[index.position()];
        let function = match symbol.binding {
            Binding::Local => IndirectFunction::Local(object, index.0),
            _ => IndirectFunction::Shared(symbol.name.clone()),
        };
        self.made.indirect.get(&function).copied()
    }

    fn resolve_directly(&self, object: usize, symbol: SymbolIndex) -> Option<Resolved> {
        let symbol = &self.objects[object].symbols[symbol.position()];
        let own = || Resolved::of(self.objects[object], symbol, &self.bases[object]);
        let nothing = Resolved { value: 0, kind: ValueKind::Number };
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
    pub fn fill(&self, outputs: &[Output], segments: &mut [Segment], errors: &mut Vec<LinkError>) {
        let mut undefined = Complaints::default();
        let mut unknown = Complaints::default();
        for output in outputs.iter().filter(|output| !output.flags.nobits) {
            let segment = segments
                .iter_mut()
                .find(|s| (s.address..s.end()).contains(&output.address))
                .expect("every section with contents was placed in a segment");
            for &(object_index, section_index, start) in &output.parts {
                let object = self.objects[object_index];
                let section = &object.sections[section_index];
                let address = output.address + start;
                let at = (address - segment.address) as usize;
                let contents = &mut segment.data[at..at + section.data.len()];
                contents.copy_from_slice(&section.data);
                for relocation in &section.relocations {
                    let name = &object.symbols[relocation.symbol.position()].name;
                    let reference = || line_of(object, section_index, relocation.offset);
                    let filled = self.field(object_index, relocation, &section.data, contents);
                    let Field { kind, offset, target, from } = match filled {
                        Ok(filled) => filled,
                        Err(Unfilled::Undefined) => {
                            undefined.add(name, reference());
                            continue;
                        }
                        Err(Unfilled::NeedsAddress) => {
                            unknown.add(name, reference());
                            continue;
                        }
                        Err(Unfilled::LaterModule) => {
                            let name = name.clone();
                            errors.push(LinkError::LaterModule { name, reference: reference() });
                            continue;
                        }
                        Err(Unfilled::NotThreadLocal) => {
                            let (name, reference) = (name.clone(), reference());
                            errors.push(LinkError::NotThreadLocal { name, reference });
                            continue;
                        }
                        Err(Unfilled::ThreadLocal) => {
                            let (name, reference) = (name.clone(), reference());
                            errors.push(LinkError::ThreadLocal { name, reference });
                            continue;
                        }
                    };
                    let place = from.unwrap_or(address + offset);
                    let target = target + i128::from(relocation.addend);
                    if let Err(source) = kind.apply(&mut contents[offset as usize..], target, place)
                    {
                        let (name, reference) = (name.clone(), reference());
                        errors.push(LinkError::OutOfReach { name, reference, source });
                    }
                }
            }
        }
        self.fill_table(segments);
        self.fill_indirect(segments);
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

    /// What goes into a field. `contents` is rewritten where the instruction can do without the
    /// table.
    fn field(
        &self,
        object: usize,
        relocation: &Relocation,
        original: &[u8],
        contents: &mut [u8],
    ) -> Result<Field, Unfilled> {
        let symbol = relocation.symbol;
        let kind = relocation.kind;
        let unfilled = Field { kind, offset: relocation.offset, target: 0, from: None };
        if kind == RelocationKind::GotDistance32 {
            return Ok(Field { target: self.table_address().into(), ..unfilled });
        }
        let value = self.resolve(object, symbol).ok_or(Unfilled::Undefined)?;
        if let RelocationKind::Tls(field) = kind {
            return self.thread_field(object, relocation, field, value);
        }
        if value.kind == ValueKind::ThreadLocal {
            return Err(Unfilled::ThreadLocal);
        }
        // Where the program is not known, a place is known by its distance, a number by itself.
        let known = kind.is_relative() != value.is_number() || kind.is_page_part();
        if self.options.position_independent && !known {
            return Err(Unfilled::NeedsAddress);
        }
        let entry = TableEntry { object, symbol: symbol.0, thread_offset: false };
        if relax::needs_table(relocation, original)
            && let Some(entry) = self.made.table.get(&entry)
        {
            if self.options.position_independent {
                return Err(Unfilled::NeedsAddress);
            }
            let absolute = kind == RelocationKind::GotEntry32
                && relax::is_absolute_entry(relocation, original);
            let kind = if absolute { RelocationKind::Abs32 } else { kind };
            let from =
                (kind == RelocationKind::A64GotPageLow15).then(|| self.table_address() & !0xfff);
            let target = self.entry_target(kind, *entry).into();
            return Ok(Field { kind, target, from, ..unfilled });
        }
        let mut relocation = *relocation;
        relax::rewrite(&mut relocation, contents);
        let from = (kind == RelocationKind::GotOffset32).then(|| self.table_address());
        let Relocation { kind, offset, .. } = relocation;
        Ok(Field { kind, offset, target: value.value.into(), from })
    }

    /// The same for a field that leads to thread-local data.
    fn thread_field(
        &self,
        object: usize,
        relocation: &Relocation,
        field: crate::TlsField,
        value: Resolved,
    ) -> Result<Field, Unfilled> {
        let (holds, kind) = tls::meaning(self.target(), field).ok_or(Unfilled::LaterModule)?;
        let offset = self.thread_offset(value).ok_or(Unfilled::NotThreadLocal)?;
        let target = match holds {
            // A signed number.
            Holds::Offset => i128::from(offset as i64),
            Holds::BlockOffset => {
                let start = self.thread_template.as_ref().map_or(0, |template| template.address);
                i128::from(value.value) - i128::from(start)
            }
            Holds::Entry => {
                let symbol = relocation.symbol.0;
                let entry = TableEntry { object, symbol, thread_offset: true };
                let entry = self.made.table.get(&entry).ok_or(Unfilled::Undefined)?;
                self.entry_target(kind, *entry).into()
            }
        };
        Ok(Field { kind, offset: relocation.offset, target, from: None })
    }

    /// The offset from the thread pointer of a variable; `None` if the symbol is none. A weak variable that nothing defines
    /// has offset 0.
    fn thread_offset(&self, variable: Resolved) -> Option<u64> {
        match variable.kind {
            ValueKind::Number => (variable.value == 0).then_some(0),
            ValueKind::Address => None,
            ValueKind::ThreadLocal => {
                let template = self.thread_template.as_ref()?;
                Some(tls::thread_offset(self.target(), template, variable.value))
            }
        }
    }

    /// What a field of this kind that leads to a table entry counts with: the entry's offset in the table, or its
    /// address.
    fn entry_target(&self, kind: RelocationKind, entry: u64) -> u64 {
        let offset = self.entry_bytes() * entry;
        match kind {
            RelocationKind::GotEntry32 => offset,
            _ => offset + self.table_address(),
        }
    }

    /// Bytes of an entry of the global offset table.
    fn entry_bytes(&self) -> u64 {
        self.objects[0].arch.address_bytes()
    }

    pub fn table_address(&self) -> u64 {
        self.made_address(GLOBAL_OFFSET_TABLE)
    }

    /// Where a section of the linker's own object is; 0 if it has none.
    fn made_address(&self, section: usize) -> u64 {
        let own = self.made.object.as_ref().and(self.bases.last());
        own.and_then(|bases| bases.get(section).copied()).flatten().unwrap_or(0)
    }

    /// Puts the addresses and the thread offsets into the global offset table.
    fn fill_table(&self, segments: &mut [Segment]) {
        let bytes = self.entry_bytes();
        for (entry, number) in &self.made.table {
            let value = self.resolve(entry.object, SymbolIndex(entry.symbol));
            let value = match entry.thread_offset {
                true => value.and_then(|variable| self.thread_offset(variable)),
                false => value.map(|resolved| resolved.value),
            };
            let value = value.unwrap_or(0);
            let at = self.table_address() + bytes * number;
            put(segments, at, &value.to_le_bytes()[..bytes as usize]);
        }
    }

    /// Lays down the tables for functions that are chosen at run time.
    fn fill_indirect(&self, segments: &mut [Segment]) {
        let width = self.entry_bytes();
        let target = self.target();
        for (function, number) in &self.made.indirect {
            let resolver = match function {
                IndirectFunction::Shared(name) => {
                    self.globals.get(name.as_str()).map(|global| global.0)
                }
                IndirectFunction::Local(object, symbol) => {
                    self.resolve_directly(*object, SymbolIndex(*symbol))
                }
            };
            let entry = IndirectEntry {
                stub: self.made_address(INDIRECT_STUBS)
                    + target.indirect.stub.len() as u64 * number,
                slot: self.made_address(INDIRECT_SLOTS) + width * number,
                resolver: resolver.map_or(0, |resolved| resolved.value),
            };
            let relocation = entry.relocation_bytes(target, width as usize);
            let relocation_at =
                self.made_address(INDIRECT_RELOCATIONS) + relocation.len() as u64 * number;
            put(segments, entry.stub, &entry.stub_bytes(target));
            put(segments, entry.slot, &entry.slot_bytes(target, width as usize));
            put(segments, relocation_at, &relocation);
        }
    }

    /// The contracts of the objects, by ascending address. What cannot be read is left out.
    pub fn contracts(&self) -> Vec<RoutineContract> {
        let mut texts = Vec::new();
        for (number, object) in self.objects.iter().enumerate() {
            let sections = object.sections.iter().filter(|s| s.name == contract::SECTION);
            for section in sections {
                for (at, _, text) in contract::records(object.arch, &section.data) {
                    let field = section.relocations.iter().find(|field| field.offset == at);
                    let resolved = field.and_then(|field| {
                        let resolved = self.resolve_directly(number, field.symbol)?;
                        Some((resolved, field.addend))
                    });
                    // The routine of a group that another object brought already is a number.
                    if let Some((resolved, addend)) = resolved.filter(|(r, _)| !r.is_number()) {
                        texts.push((resolved.value.wrapping_add_signed(addend), text));
                    }
                }
            }
        }
        RoutineContract::of_texts(self.objects[0].arch, texts)
    }

    pub fn find_entry(&self, errors: &mut Vec<LinkError>) -> Option<u64> {
        let name = self.options.entry.as_str();
        if let Some(&(address, ..)) = self.globals.get(name) {
            return Some(address.value);
        }
        if self.options.local_entry {
            let own = self.objects.iter().zip(&self.bases).find_map(|(object, bases)| {
                let symbol = object.symbols.iter().find(|symbol| symbol.name == name)?;
                Some(Resolved::of(object, symbol, bases)?.value)
            });
            if own.is_some() {
                return own;
            }
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

/// Puts bytes at an address that a segment has contents for.
fn put(segments: &mut [Segment], address: u64, bytes: &[u8]) {
    let Some(segment) = segments.iter_mut().find(|s| (s.address..s.end()).contains(&address))
    else {
        return;
    };
    let at = (address - segment.address) as usize;
    segment.data[at..at + bytes.len()].copy_from_slice(bytes);
}
