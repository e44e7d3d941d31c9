//! Debugging sections: the line table with its compile unit, and the unwind tables.
//!
//! Addresses are left to relocations against the section that the code is in. The packing is
//! gimli's.
//!
//! Sources: DWARF 5, 3.1.1 "Full and Partial Compilation Unit Entries", 6.2 "Line Number
//! Information", 6.4 "Call Frame Information"; LSB Core, "DWARF Extensions" for `.eh_frame`.

use std::collections::HashMap;

use gimli::write::{
    Address, AttributeValue, CallFrameInstruction, CommonInformationEntry, DwarfUnit, EhFrame,
    EndianVec, Expression, FileId, FrameDescriptionEntry, FrameTable, LineProgram, LineString,
    Range, RangeList, RelocateWriter, RelocationTarget, Sections,
};
use gimli::{Encoding, Format, LineEncoding, LittleEndian, Register, SectionId};
use sotto_isa::Arch;

use crate::{
    ExceptionHandler, Image, Object, Section, SectionIndex, StatedLine, StatedLines, SymbolIndex,
    UnwindRule,
};

/// What a field of a debugging section refers to.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) enum Target {
    /// A section of the object.
    Code(SectionIndex),
    /// Another debugging section, by name.
    Debug(&'static str),
    /// A symbol of the object.
    Symbol(SymbolIndex),
}

/// A field to be filled by whoever links.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) struct Field {
    pub offset: u64,
    /// 4 or 8.
    pub bytes: u8,
    pub target: Target,
    pub addend: i64,
    /// The field holds the distance from itself.
    pub relative: bool,
}

/// A debugging section.
#[derive(Clone, Debug)]
pub(crate) struct DebugSection {
    pub name: &'static str,
    pub data: Vec<u8>,
    pub fields: Vec<Field>,
    /// It is loaded with the program.
    pub alloc: bool,
}

#[derive(Clone)]
struct Recorder {
    data: EndianVec<LittleEndian>,
    fields: Vec<Field>,
}

impl RelocateWriter for Recorder {
    type Writer = EndianVec<LittleEndian>;

    fn writer(&self) -> &Self::Writer {
        &self.data
    }

    fn writer_mut(&mut self) -> &mut Self::Writer {
        &mut self.data
    }

    fn relocate(&mut self, relocation: gimli::write::Relocation) {
        self.fields.push(Field {
            offset: relocation.offset as u64,
            bytes: relocation.size,
            target: match relocation.target {
                RelocationTarget::Symbol(number) => target_of(number),
                RelocationTarget::Section(section) => Target::Debug(section.name()),
            },
            addend: relocation.addend,
            relative: relocation.eh_pe.is_some(),
        });
    }
}

/// Targets are given to the library as numbers: twice the number of a section, and odd ones for symbols.
fn target_of(number: usize) -> Target {
    match number % 2 {
        0 => Target::Code(SectionIndex((number / 2) as u32)),
        _ => Target::Symbol(SymbolIndex((number / 2) as u32)),
    }
}

fn in_section(section: SectionIndex, addend: u64) -> Address {
    Address::Symbol { symbol: 2 * section.0 as usize, addend: addend as i64 }
}

fn at_symbol(symbol: SymbolIndex, addend: i64) -> Address {
    Address::Symbol { symbol: 2 * symbol.0 as usize + 1, addend }
}

fn encoding(arch: Arch) -> Encoding {
    let address_size = arch.address_bytes() as u8;
    Encoding { format: Format::Dwarf32, version: 5, address_size }
}

/// The debugging sections of an object; none if it has no lines and no unwind tables. Where the source states its
/// lines itself, it describes its units too, so that only its line table is made.
pub(crate) fn sections(object: &Object) -> Vec<DebugSection> {
    let empty = Recorder { data: EndianVec::new(LittleEndian), fields: Vec::new() };
    let mut sections = Sections::new(empty);
    // What can fail here is a value that does not fit its field; a section of ours always does.
    let mut lines = match &object.stated_lines {
        Some(stated) => stated_table(object, stated),
        None => line_table(object.arch, &object.files, object_sequences(object)),
    };
    if lines.write(&mut sections).is_err() {
        return Vec::new();
    }
    if write_frames(object, &mut sections.eh_frame).is_err() {
        sections.eh_frame =
            EhFrame(Recorder { data: EndianVec::new(LittleEndian), fields: Vec::new() });
    }
    let mut found = Vec::new();
    let wanted = |id| match object.stated_lines {
        Some(_) => matches!(id, SectionId::DebugLine | SectionId::EhFrame),
        None => true,
    };
    let collected: Result<(), ()> = sections.for_each(|id, recorder| {
        let data = recorder.data.slice().to_vec();
        if !data.is_empty() && wanted(id) {
            found.push(DebugSection {
                name: id.name(),
                data,
                fields: recorder.fields.clone(),
                alloc: id == SectionId::EhFrame,
            });
        }
        Ok(())
    });
    debug_assert!(collected.is_ok());
    found
}

/// The line table of a program whose addresses are settled; none if no lines are known.
pub(crate) fn image_sections(image: &Image) -> Vec<(&'static str, Vec<u8>)> {
    let mut sequences: Vec<Sequence> = Vec::new();
    let rows = &image.lines.rows;
    for (number, (address, place)) in rows.iter().enumerate() {
        let (Some(place), Some((end, _))) = (place, rows.get(number + 1)) else { continue };
        if !image.segment_at(*address).is_some_and(|segment| segment.exec) {
            continue;
        }
        let row = |start: u64| (address - start, place.file, place.line);
        match sequences.last_mut() {
            Some((Address::Constant(start), size, rows)) if *start + *size == *address => {
                *size = end - *start;
                rows.push(row(*start));
            }
            _ => sequences.push((Address::Constant(*address), end - address, vec![row(*address)])),
        }
    }
    if sequences.is_empty() {
        return Vec::new();
    }
    let mut sections = Sections::new(EndianVec::new(LittleEndian));
    let mut dwarf = line_table(image.arch, &image.lines.files, sequences);
    if dwarf.write(&mut sections).is_err() {
        return Vec::new();
    }
    let mut found = Vec::new();
    let collected: Result<(), ()> = sections.for_each(|id, data| {
        if !data.slice().is_empty() {
            found.push((id.name(), data.slice().to_vec()));
        }
        Ok(())
    });
    debug_assert!(collected.is_ok());
    found
}

/// Where a stretch of code starts, its size in bytes, and its rows: offset, file and line.
type Sequence = (Address, u64, Vec<(u64, u32, u32)>);

fn object_sequences(object: &Object) -> Vec<Sequence> {
    let sections =
        object.sections.iter().enumerate().filter(|(_, section)| {
            section.flags.exec && section.size > 0 && !section.lines.is_empty()
        });
    let sequence = |(number, section): (usize, &Section)| {
        let rows = section.lines.iter().map(|line| (line.offset, line.file, line.line));
        (in_section(SectionIndex(number as u32), 0), section.size, rows.collect())
    };
    sections.map(sequence).collect()
}

fn line_table(arch: Arch, files: &[String], sequences: Vec<Sequence>) -> DwarfUnit {
    let encoding = encoding(arch);
    let mut dwarf = DwarfUnit::new(encoding);
    // Bytes: data between instructions has lines too, and need not be aligned as they are.
    let line_encoding = LineEncoding { minimum_instruction_length: 1, ..LineEncoding::default() };
    let plain = |name: &str| name.replace('\0', "?").into_bytes();
    let text = |name: &str| LineString::String(plain(name));
    let name = files.first().map(String::as_str).filter(|name| !name.is_empty());
    let name = name.unwrap_or("source");
    // The folder is left to the reader, so that the same source gives the same bytes anywhere.
    let mut program = LineProgram::new(encoding, line_encoding, text("."), None, text(name), None);
    let folder = program.default_directory();
    let files: Vec<FileId> =
        files.iter().map(|file| program.add_file(text(file), folder, None)).collect();
    let mut ranges = Vec::new();
    for (start, size, rows) in sequences {
        program.begin_sequence(Some(start));
        for (offset, file, line) in rows {
            let row = program.row();
            row.address_offset = offset;
            row.file = files[file as usize];
            row.line = u64::from(line);
            program.generate_row();
        }
        program.end_sequence(size);
        ranges.push(Range::StartLength { begin: start, length: size });
    }
    let root = dwarf.unit.root();
    let producer = concat!("sotto ", env!("CARGO_PKG_VERSION"));
    let ranges = dwarf.unit.ranges.add(RangeList(ranges));
    let entry = dwarf.unit.get_mut(root);
    entry.set(gimli::DW_AT_name, AttributeValue::String(plain(name)));
    entry.set(gimli::DW_AT_producer, AttributeValue::String(producer.into()));
    entry.set(gimli::DW_AT_language, AttributeValue::Language(gimli::DW_LANG_Mips_Assembler));
    entry.set(gimli::DW_AT_low_pc, AttributeValue::Address(Address::Constant(0)));
    entry.set(gimli::DW_AT_ranges, AttributeValue::RangeListRef(ranges));
    entry.set(gimli::DW_AT_stmt_list, AttributeValue::LineProgramRef);
    dwarf.unit.line_program = program;
    dwarf
}

/// The line table that the source states. Files keep the numbers that it gives them, by which its own
/// descriptions call them.
fn stated_table(object: &Object, stated: &StatedLines) -> DwarfUnit {
    let encoding = encoding(object.arch);
    let mut dwarf = DwarfUnit::new(encoding);
    let line_encoding = LineEncoding { minimum_instruction_length: 1, ..LineEncoding::default() };
    let text = |name: &str| LineString::String(name.replace('\0', "?").into_bytes());
    // A number that the source leaves out has no name, and the library takes none that is empty.
    let named = |(number, file): (usize, &(Option<String>, String))| {
        let folder = file.0.as_deref().filter(|folder| !folder.is_empty()).unwrap_or(".");
        let name = match file.1.as_str() {
            "" => format!("unnamed-{number}"),
            name => name.to_string(),
        };
        (folder.to_string(), name)
    };
    let mut sources = stated.files.iter().enumerate().map(named);
    let unit = sources.next().unwrap_or_else(|| (".".into(), "unnamed".into()));
    let (folder, name) = (text(&unit.0), text(&unit.1));
    let mut program = LineProgram::new(encoding, line_encoding, folder, None, name.clone(), None);
    let default = program.default_directory();
    let mut files = vec![program.add_file(name, default, None)];
    let mut times = HashMap::from([(unit, 1)]);
    for file in sources {
        // The library joins equal files, which would shift the numbers of those behind: the second stands in
        // `folder/.`, and so on.
        let (folder, name) = (file.0.clone(), text(&file.1));
        let known = times.entry(file).or_insert(0);
        let directory = program.add_directory(text(&(folder + &"/.".repeat(*known))));
        *known += 1;
        files.push(program.add_file(name, directory, None));
    }
    let mut rows: Vec<&StatedLine> = stated.rows.iter().collect();
    rows.sort_by_key(|row| (row.section, row.offset));
    for rows in rows.chunk_by(|a, b| a.section == b.section) {
        let section = rows[0].section;
        program.begin_sequence(Some(in_section(section, 0)));
        for stated in rows {
            let row = program.row();
            row.address_offset = stated.offset;
            row.file = files[stated.file as usize];
            row.line = u64::from(stated.line);
            row.column = u64::from(stated.column);
            row.is_statement = stated.is_statement;
            program.generate_row();
        }
        program.end_sequence(object.sections[section.0 as usize].size);
    }
    let root = dwarf.unit.root();
    dwarf.unit.get_mut(root).set(gimli::DW_AT_stmt_list, AttributeValue::LineProgramRef);
    dwarf.unit.line_program = program;
    dwarf
}

fn write_frames(
    object: &Object,
    section: &mut EhFrame<Recorder>,
) -> Result<(), gimli::write::Error> {
    let routines = object.unwind.iter().map(|routine| {
        let address = in_section(routine.section, routine.start);
        (address, routine.size, &routine.rules[..], routine.handler.as_deref())
    });
    let relative = gimli::DW_EH_PE_pcrel.0 | gimli::DW_EH_PE_sdata4.0;
    match frame_table(object.arch, gimli::constants::DwEhPe(relative), routines) {
        Some(table) => table.write_eh_frame(section),
        None => Ok(()),
    }
}

/// The unwind tables of routines at their addresses, with their sizes in bytes, as `.eh_frame` holds them.
pub(crate) fn call_frames<'a>(
    arch: Arch,
    routines: impl Iterator<Item = (u64, u64, &'a [(u64, UnwindRule)])>,
) -> Vec<u8> {
    let routines =
        routines.map(|(start, size, rules)| (Address::Constant(start), size, rules, None));
    let mut section = EhFrame(EndianVec::new(LittleEndian));
    match frame_table(arch, gimli::DW_EH_PE_absptr, routines) {
        Some(table) if table.write_eh_frame(&mut section).is_ok() => section.0.into_vec(),
        _ => Vec::new(),
    }
}

/// A routine's address, its size in bytes, its rules, and what happens to exceptions.
type Routine<'a> = (Address, u64, &'a [(u64, UnwindRule)], Option<&'a ExceptionHandler>);

/// The unwind tables of routines; `None` if there are none.
fn frame_table<'a>(
    arch: Arch,
    addresses: gimli::constants::DwEhPe,
    routines: impl Iterator<Item = Routine<'a>>,
) -> Option<FrameTable> {
    let mut routines = routines.peekable();
    routines.peek()?;
    let mut table = FrameTable::default();
    // Version 1, as `.eh_frame` has it.
    let encoding = Encoding { version: 1, ..encoding(arch) };
    // Where a call pushes the return address, that is the instruction pointer's place in the frame.
    let returns = arch.link_register().unwrap_or(arch.pc()).dwarf_number(arch)?;
    let stack_pointer = Register(arch.stack_pointer().dwarf_number(arch)?);
    let slot = arch.return_address_slot() as i32;
    let mut common = CommonInformationEntry::new(
        encoding,
        arch.code_alignment() as u8,
        -(arch.address_bytes() as i8),
        Register(returns),
    );
    common.fde_address_encoding = addresses;
    common.add_instruction(CallFrameInstruction::Cfa(stack_pointer, slot));
    if slot > 0 {
        common.add_instruction(CallFrameInstruction::Offset(Register(returns), -slot));
    }
    for (address, size, rules, handler) in routines {
        let mut common = common.clone();
        let mut entry = FrameDescriptionEntry::new(address, size as u32);
        if let Some(handler) = handler {
            let (how, personality) = handler.personality;
            common.personality = Some((gimli::constants::DwEhPe(how), at_symbol(personality, 0)));
            if let Some((how, symbol, addend)) = handler.table {
                common.lsda_encoding = Some(gimli::constants::DwEhPe(how));
                entry.lsda = Some(at_symbol(symbol, addend));
            }
        }
        // Equal ones are one.
        let common = table.add_cie(common);
        for (offset, rule) in rules {
            entry.add_instruction(*offset as u32, frame_instruction(rule));
        }
        table.add_fde(common, entry);
    }
    Some(table)
}

fn frame_instruction(rule: &UnwindRule) -> CallFrameInstruction {
    let expression = |bytes: &[u8]| Expression::raw(bytes.to_vec());
    match *rule {
        UnwindRule::FrameExpression(ref bytes) => {
            CallFrameInstruction::CfaExpression(expression(bytes))
        }
        UnwindRule::StoredExpression(register, ref bytes) => {
            CallFrameInstruction::Expression(Register(register), expression(bytes))
        }
        UnwindRule::ValueExpression(register, ref bytes) => {
            CallFrameInstruction::ValExpression(Register(register), expression(bytes))
        }
        UnwindRule::Frame(register, offset) => {
            CallFrameInstruction::Cfa(Register(register), offset as i32)
        }
        UnwindRule::FrameRegister(register) => {
            CallFrameInstruction::CfaRegister(Register(register))
        }
        UnwindRule::FrameOffset(offset) => CallFrameInstruction::CfaOffset(offset as i32),
        UnwindRule::Stored(register, offset) => {
            CallFrameInstruction::Offset(Register(register), offset as i32)
        }
        UnwindRule::Restored(register) => CallFrameInstruction::Restore(Register(register)),
        UnwindRule::Same(register) => CallFrameInstruction::SameValue(Register(register)),
        UnwindRule::Lost(register) => CallFrameInstruction::Undefined(Register(register)),
        UnwindRule::InRegister(register, other) => {
            CallFrameInstruction::Register(Register(register), Register(other))
        }
        UnwindRule::Remember => CallFrameInstruction::RememberState,
        UnwindRule::Recall => CallFrameInstruction::RestoreState,
    }
}
