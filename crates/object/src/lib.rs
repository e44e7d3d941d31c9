//! Sections, symbols and relocations; the linker; ELF reading and writing.
//!
//! An [`Object`] is what the assembler makes of one source. [`link`] lays objects out as an
//! [`Image`], which the emulator loads and [`write_executable`] turns into an ELF file. Nothing here
//! knows instructions: fields inside them are filled by relocation kind, as the ABI documents say.

pub mod contract;
mod debug_info;
mod elf;
mod image;
mod index;
mod linker;
mod object;
mod printable;
mod relocation;
mod target;
mod variable;

pub use debug_info::read_unwind::{Caller, MAX_REGISTERS, Registers};
pub use debug_info::unwind::{ExceptionHandler, UnwindRule, UnwindTable};
pub use elf::read::{ReadError, read_executable, read_shared, read_variables};
pub use elf::read_object::{ObjectError, read_archive, read_object};
pub use elf::write::write_executable;
pub use elf::write_object::{WriteError, write_object};
pub use image::{
    Image, ImageLabel, ImagePart, ImageSymbol, LineTable, Module, ProgramHeaders, Segment,
    SourceLine, Surroundings, TlsTemplate,
};
pub use index::{SectionIndex, SymbolIndex};
pub use linker::errors::{LinkError, Reference};
pub use linker::link::{LinkOptions, link};
pub use linker::members::with_members;
pub use linker::resolve::is_linker_defined;
pub use object::{
    Binding, Datum, DatumKind, Group, Line, LocalLabel, Object, Place, Section, SectionFlags,
    StatedLine, StatedLines, Symbol, SymbolKind, Visibility,
};
pub use relocation::{ApplyError, Relocation, RelocationKind, TlsField};
pub use target::has_mapping_symbols;
pub use variable::{Variable, VariablePlace, VariableType};
