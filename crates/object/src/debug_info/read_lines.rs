//! Source lines from the DWARF of an ELF file, ours or a compiler's.
//!
//! Lines are a help and no more: where the tables make no sense, there are none.
//!
//! Sources: DWARF 5, 6.2 "Line Number Information"; the unpacking is gimli's.

use std::collections::HashMap;
use std::rc::Rc;

use elf_layout::{Object as _, ObjectSection as _, ObjectSymbol as _};
use gimli::{EndianRcSlice, LittleEndian};

use crate::printable::printable;
use crate::{LineTable, SourceLine};

/// No file has more rows than this.
const MAX_ROWS: usize = 1 << 24;

type Slice = EndianRcSlice<LittleEndian>;

/// The lines of a file, at the addresses in it moved by `base`.
pub(crate) fn executable_lines(file: &elf_layout::File, base: u64) -> LineTable {
    let contents = |name: &str| {
        file.section_by_name(name).and_then(|s| s.uncompressed_data().ok()).map(|d| d.to_vec())
    };
    let mut table = lines(&contents).unwrap_or_default();
    let rows = table.rows.iter_mut().map(|row| &mut row.0);
    let starts = table.starts.iter_mut().map(|start| &mut start.0);
    for address in rows.chain(starts) {
        *address = address.wrapping_add(base);
    }
    table
}

/// Bits of an object's address that are the offset in its section; above them is the section's number
/// in the file.
pub(crate) const OFFSET_BITS: u32 = 40;

/// The lines of an object, whose sections have no addresses yet: `section << 40 | offset` stands for
/// one.
pub(crate) fn object_lines(file: &elf_layout::File) -> LineTable {
    let contents = |name: &str| {
        let section = file.section_by_name(name)?;
        let mut data = section.uncompressed_data().ok()?.to_vec();
        for (offset, relocation) in section.relocations() {
            let elf_layout::RelocationTarget::Symbol(index) = relocation.target() else { continue };
            let symbol = file.symbol_by_index(index).ok()?;
            let elf_layout::SymbolSection::Section(target) = symbol.section() else { continue };
            // Other debugging sections count from 0.
            let loaded = file.section_by_index(target).is_ok_and(|section| {
                matches!(section.flags(), elf_layout::SectionFlags::Elf { sh_flags }
                    if sh_flags & u64::from(elf_layout::elf::SHF_ALLOC) != 0)
            });
            let place = if loaded { (target.0 as u64) << OFFSET_BITS } else { 0 };
            let bytes = usize::from(relocation.size() / 8);
            let start = usize::try_from(offset).ok()?;
            if let Some(field) = data.get_mut(start..start.checked_add(bytes)?) {
                let addend = match relocation.has_implicit_addend() {
                    true => field.iter().rev().fold(0, |v: u64, b| v << 8 | u64::from(*b)),
                    false => relocation.addend() as u64,
                };
                let value = place.wrapping_add(symbol.address()).wrapping_add(addend);
                field.copy_from_slice(&value.to_le_bytes()[..bytes]);
            }
        }
        Some(data)
    };
    lines(&contents).unwrap_or_default()
}

fn lines(contents: &dyn Fn(&str) -> Option<Vec<u8>>) -> Option<LineTable> {
    contents(".debug_line")?;
    let load = |id: gimli::SectionId| -> Result<Slice, gimli::Error> {
        let data: Rc<[u8]> = contents(id.name()).unwrap_or_default().into();
        Ok(EndianRcSlice::new(data, LittleEndian))
    };
    let dwarf = gimli::Dwarf::load(load).ok()?;
    let mut table = LineTable::default();
    let mut numbers: HashMap<String, u32> = HashMap::new();
    let mut units = dwarf.units();
    while let Some(header) = units.next().ok()? {
        let unit = dwarf.unit(header).ok()?;
        let Some(program) = unit.line_program.clone() else { continue };
        let mut rows = program.rows();
        while let Some((header, row)) = rows.next_row().ok()? {
            let place = if row.end_sequence() {
                None
            } else {
                let file = row.file(header)?;
                let name = file_name(&dwarf, &unit, header, file)?;
                let number = *numbers.entry(name).or_insert_with_key(|name| {
                    table.files.push(name.clone());
                    table.files.len() as u32 - 1
                });
                row.line().map(|line| SourceLine { file: number, line: line.get() as u32 })
            };
            if let Some(place) = place.filter(|_| row.is_stmt()) {
                table.starts.push((row.address(), place));
            }
            table.rows.push((row.address(), place));
            if table.rows.len() > MAX_ROWS {
                return None;
            }
        }
    }
    // Compilers begin rows for views of one line; nothing starts anew there. Of lines that begin at one address
    // each does.
    table.starts.sort_by_key(|start| start.0);
    table.starts.dedup_by_key(|start| start.1);
    // Where one stretch ends and the next begins, the beginning counts; of rows at one address the
    // last does.
    table.rows.sort_by_key(|row| (row.0, row.1.is_some()));
    table.rows.dedup_by(|later, earlier| {
        let same = later.0 == earlier.0;
        if same {
            earlier.1 = later.1;
        }
        same
    });
    table.rows.dedup_by(|later, earlier| later.1 == earlier.1);
    Some(table)
}

/// A file's name with its folder, as the program's maker called it.
fn file_name(
    dwarf: &gimli::Dwarf<Slice>,
    unit: &gimli::Unit<Slice>,
    header: &gimli::LineProgramHeader<Slice>,
    file: &gimli::FileEntry<Slice>,
) -> Option<String> {
    let text = |value| -> Option<String> {
        let text = dwarf.attr_string(unit, value).ok()?;
        Some(printable(text.bytes()))
    };
    let name = text(file.path_name())?;
    let folder = file.directory(header).and_then(text).unwrap_or_default();
    let plain = folder.is_empty() || folder == "." || name.starts_with('/');
    Some(if plain { name } else { format!("{folder}/{name}") })
}
