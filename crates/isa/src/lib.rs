//! What instructions are.
//!
//! Each machine has one table of instruction [forms](Form): mnemonic, operand patterns, encoding,
//! what is read and written, what happens to the flags, and one line in words. The encoder, the
//! decoder, the printer, the effects and the reference text all come from those rows. Nothing here
//! executes anything; meanings are named in the rows and carried out in the crate above.
//!
//! Callers above this crate work with [`Arch`], [`Instruction`] and [`Operand`], which are the same
//! for every machine.
//!
//! The manuals behind the rows are listed, with their short names, in `docs/sources.md`.

mod arch;
pub mod arm64;
mod arrangement;
mod bank;
mod convention;
mod flags;
mod form;
mod frame_step;
mod instruction;
mod lanes;
mod mnemonics;
mod operand;
mod print;
mod reg;
#[cfg(any(test, feature = "sample"))]
pub mod sample;
mod traits;
mod unmodelled;
mod width;
pub mod x86;

pub use arch::{Arch, UnknownArch};
pub use arm64::names::Named;
pub use arrangement::{Arrangement, ListElements, RegisterList, lane_by_letter};
pub use bank::{Bank, BankInfo, RegisterId, RegisterValue};
pub use convention::{
    ArgumentLocations, Convention, Location, RegisterRole, RoleGroup, VectorRoles,
};
pub use flags::{FlagEffects, FlagInfo, FlagRole, FlagSet, FlagsUndefinedWhen};
pub use form::{Access, Control, Feature, FeatureBit, Form, FormDoc, Implicit, Modes, OperandSpec};
pub use frame_step::FrameStep;
pub use instruction::{
    DecodeError, Decoder, EncodeError, Encoded, Field, Fixup, Instruction, MAX_INSTRUCTION_BYTES,
    OperandContext, decode, encode, encode_at_least, find_mnemonic, form_docs, is_unmodelled,
    memory_access, mnemonics, padding, system_register_words, unpredictable,
};
pub use lanes::{LaneKind, Lanes};
pub use operand::{Extend, IndexMode, Mem, Operand, Operands, Segment, Shift, Value};
pub use print::{Names, NoNames, OperandOrder, UnknownOrder, format_number};
pub use reg::{Reg, RegKind, Storage};
pub use traits::Traits;
pub use width::Width;
