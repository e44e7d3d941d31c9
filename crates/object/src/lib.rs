//! Sections, symbols and relocations; the linker; ELF reading and writing.
//!
//! An [`Object`] is what the assembler makes of one source. [`link`] lays objects out as an
//! [`Image`], which the emulator loads and [`write_executable`] turns into an ELF file. Nothing here
//! knows instructions: fields inside them are filled by relocation kind, as the ABI documents say.

mod dwarf;
mod elf_numbers;
mod elf_read;
mod elf_write;
mod image;
mod line_read;
mod link;
mod made;
mod members;
mod object;
mod object_read;
mod object_write;
mod printable;
mod relax;
mod relocation;
mod unwind;
mod unwind_read;

pub use elf_read::{ReadError, read_executable};
pub use elf_write::write_executable;
pub use image::{Image, ImagePart, ImageSymbol, LineTable, Segment, SourceLine, Surroundings};
pub use link::{LinkError, LinkOptions, Reference, link};
pub use members::with_members;
pub use object::{
    Binding, Datum, DatumKind, Group, Line, Object, Place, Section, SectionFlags, SectionIndex,
    StatedLine, StatedLines, Symbol, SymbolIndex, SymbolKind, Visibility,
};
pub use object_read::{ObjectError, read_archive, read_object};
pub use object_write::{WriteError, write_object};
pub use relocation::{ApplyError, Relocation, RelocationKind, TlsField};
pub use unwind::{ExceptionHandler, UnwindRule, UnwindTable};
pub use unwind_read::{Caller, MAX_REGISTERS, Registers};
