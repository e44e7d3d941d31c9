//! Variables of routines from the DWARF of a program, as far as they are at simple places.
//!
//! They are a help and no more: what makes no sense, or has a location of more than one operation, is left out.
//!
//! Sources: DWARF 5, 2.5 "DWARF Expressions", 2.6 "Location Descriptions", 4.1 "Data Object Entries"; the unpacking is
//! gimli's.

use std::ops::Range;
use std::rc::Rc;

use elf_layout::{Object as _, ObjectSection as _};
use gimli::{AttributeValue, EndianRcSlice, LittleEndian, Operation, UnitOffset};

use crate::printable::printable;
use crate::{Variable, VariablePlace, VariableType};

/// Of a program with more variables than this none is read.
const MAX_VARIABLES: usize = 1 << 18;
/// Type definitions and qualifiers that are followed from a variable to its type.
const MAX_TYPE_NAMES: u32 = 32;

type Slice = EndianRcSlice<LittleEndian>;
type Unit = gimli::Unit<Slice>;
type Dwarf = gimli::Dwarf<Slice>;
type Entry<'a> = gimli::DebuggingInformationEntry<'a, 'a, Slice>;

/// What the places of a routine's variables count from.
#[derive(Copy, Clone)]
enum FrameBase {
    /// The canonical frame address.
    FrameAddress,
    /// A register, by its DWARF number.
    Register(u16),
}

/// A scope: a routine or a block in one.
#[derive(Clone)]
struct Scope {
    depth: isize,
    ranges: Vec<Range<u64>>,
    base: Option<FrameBase>,
}

/// The variables of the routines of a file by name, at the addresses in it moved by `load_base`.
pub(crate) fn variables(file: &elf_layout::File, load_base: u64) -> Vec<Variable> {
    let load = |id: gimli::SectionId| -> Result<Slice, gimli::Error> {
        let section = file.section_by_name(id.name());
        let data = section.and_then(|section| section.uncompressed_data().ok());
        let data: Rc<[u8]> = data.map(|data| data.to_vec()).unwrap_or_default().into();
        Ok(EndianRcSlice::new(data, LittleEndian))
    };
    if file.section_by_name(".debug_info").is_none() {
        return Vec::new();
    }
    let Ok(dwarf) = Dwarf::load(load) else { return Vec::new() };
    let mut found = Vec::new();
    let mut units = dwarf.units();
    while let Ok(Some(header)) = units.next() {
        if let Ok(unit) = dwarf.unit(header) {
            // A unit that breaks off has told what it could.
            let _ = of_unit(&dwarf, &unit, load_base, &mut found);
        }
        if found.len() > MAX_VARIABLES {
            return Vec::new();
        }
    }
    found.sort_by(|a, b| a.name.cmp(&b.name));
    found
}

fn of_unit(
    dwarf: &Dwarf,
    unit: &Unit,
    load_base: u64,
    found: &mut Vec<Variable>,
) -> Result<(), gimli::Error> {
    let mut entries = unit.entries();
    let mut depth = 0;
    let mut scopes: Vec<Scope> = Vec::new();
    while let Some((step, entry)) = entries.next_dfs()? {
        depth += step;
        scopes.retain(|scope| scope.depth < depth);
        match entry.tag() {
            gimli::DW_TAG_subprogram | gimli::DW_TAG_lexical_block => {
                let mut ranges = Vec::new();
                let mut listed = dwarf.die_ranges(unit, entry)?;
                while let Some(range) = listed.next()? {
                    ranges.push(moved(range.begin..range.end, load_base));
                }
                let outer = scopes.last();
                let base = match entry.attr_value(gimli::DW_AT_frame_base)? {
                    Some(AttributeValue::Exprloc(expression)) => frame_base(unit, expression),
                    _ => outer.and_then(|scope| scope.base),
                };
                // A block without ranges of its own is as large as what it is in.
                if ranges.is_empty() && entry.tag() == gimli::DW_TAG_lexical_block {
                    ranges = outer.map(|scope| scope.ranges.clone()).unwrap_or_default();
                }
                scopes.push(Scope { depth, ranges, base });
            }
            gimli::DW_TAG_variable | gimli::DW_TAG_formal_parameter => {
                if let Some(scope) = scopes.last().filter(|scope| !scope.ranges.is_empty()) {
                    found.extend(variable(dwarf, unit, entry, scope, load_base)?);
                }
            }
            _ => {}
        }
    }
    Ok(())
}

fn moved(range: Range<u64>, by: u64) -> Range<u64> {
    range.start.wrapping_add(by)..range.end.wrapping_add(by)
}

fn frame_base(unit: &Unit, expression: gimli::Expression<Slice>) -> Option<FrameBase> {
    Some(match only_operation(unit, expression)? {
        Operation::CallFrameCFA => FrameBase::FrameAddress,
        Operation::Register { register } => FrameBase::Register(register.0),
        _ => return None,
    })
}

/// The operation of an expression that has just one.
fn only_operation(unit: &Unit, expression: gimli::Expression<Slice>) -> Option<Operation<Slice>> {
    let mut operations = expression.operations(unit.encoding());
    let first = operations.next().ok()??;
    operations.next().ok()?.is_none().then_some(first)
}

fn variable(
    dwarf: &Dwarf,
    unit: &Unit,
    entry: &Entry,
    scope: &Scope,
    load_base: u64,
) -> Result<Option<Variable>, gimli::Error> {
    let Some(name) = entry.attr_value(gimli::DW_AT_name)? else { return Ok(None) };
    let name = printable(dwarf.attr_string(unit, name)?.bytes());
    let Some(kind) = type_of(unit, entry, 0)? else { return Ok(None) };
    let place = |expression| {
        Some(match (only_operation(unit, expression)?, scope.base) {
            (Operation::FrameOffset { offset }, Some(FrameBase::FrameAddress)) => {
                VariablePlace::Frame(offset)
            }
            (Operation::FrameOffset { offset }, Some(FrameBase::Register(register))) => {
                VariablePlace::Indirect(register, offset)
            }
            (Operation::RegisterOffset { register, offset, .. }, _) => {
                VariablePlace::Indirect(register.0, offset)
            }
            (Operation::Register { register }, _) => VariablePlace::Register(register.0),
            (Operation::Address { address }, _) => {
                VariablePlace::Address(address.wrapping_add(load_base))
            }
            _ => return None,
        })
    };
    let mut places = Vec::new();
    match entry.attr_value(gimli::DW_AT_location)? {
        Some(AttributeValue::Exprloc(expression)) => {
            let place = place(expression);
            places.extend(scope.ranges.iter().cloned().filter_map(|range| Some((range, place?))));
        }
        Some(value) => {
            let Some(mut list) = dwarf.attr_locations(unit, value)? else { return Ok(None) };
            while let Some(part) = list.next()? {
                let range = moved(part.range.begin..part.range.end, load_base);
                places.extend(place(part.data).map(|place| (range, place)));
            }
        }
        None => return Ok(None),
    }
    Ok((!places.is_empty()).then(|| Variable { name, scope: scope.ranges.clone(), kind, places }))
}

/// The type of an entry; `None` if it is not told.
fn type_of(unit: &Unit, entry: &Entry, names: u32) -> Result<Option<VariableType>, gimli::Error> {
    let Some(AttributeValue::UnitRef(offset)) = entry.attr_value(gimli::DW_AT_type)? else {
        return Ok(None);
    };
    named_type(unit, offset, names)
}

fn named_type(
    unit: &Unit,
    offset: UnitOffset,
    names: u32,
) -> Result<Option<VariableType>, gimli::Error> {
    let entry = unit.entry(offset)?;
    let bytes = entry.attr_value(gimli::DW_AT_byte_size)?.and_then(|value| value.udata_value());
    let unsigned = |bytes| VariableType::Unsigned(bytes);
    Ok(match entry.tag() {
        gimli::DW_TAG_typedef
        | gimli::DW_TAG_const_type
        | gimli::DW_TAG_volatile_type
        | gimli::DW_TAG_restrict_type
            if names < MAX_TYPE_NAMES =>
        {
            type_of(unit, &entry, names + 1)?
        }
        gimli::DW_TAG_pointer_type => {
            Some(VariableType::Pointer(bytes.unwrap_or(unit.encoding().address_size.into())))
        }
        gimli::DW_TAG_enumeration_type => bytes.map(unsigned),
        gimli::DW_TAG_base_type => {
            let encoding = entry.attr_value(gimli::DW_AT_encoding)?;
            bytes.map(|bytes| match encoding {
                Some(AttributeValue::Encoding(
                    gimli::DW_ATE_signed | gimli::DW_ATE_signed_char,
                )) => VariableType::Signed(bytes),
                Some(AttributeValue::Encoding(gimli::DW_ATE_float)) => VariableType::Float(bytes),
                _ => VariableType::Unsigned(bytes),
            })
        }
        gimli::DW_TAG_array_type | gimli::DW_TAG_structure_type | gimli::DW_TAG_union_type => {
            Some(VariableType::Compound)
        }
        _ => None,
    })
}
