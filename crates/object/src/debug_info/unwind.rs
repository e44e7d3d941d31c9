//! How to find the caller's frame from inside a routine: the rows of the DWARF call frame
//! information, before they are packed.
//!
//! Registers have the numbers that the ABI documents give them for DWARF.
//!
//! Source: DWARF 5, 6.4 "Call Frame Information".

use crate::{SectionIndex, SymbolIndex};

/// One rule, from an offset on.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum UnwindRule {
    /// The canonical frame address is a register and an offset in bytes.
    Frame(u16, i64),
    /// It is now counted from this register.
    FrameRegister(u16),
    /// It is now this many bytes from its register.
    FrameOffset(i64),
    /// The caller's value of the register is stored this many bytes from the frame address.
    Stored(u16, i64),
    /// The register has what it had when the routine began.
    Restored(u16),
    /// The register has the caller's value.
    Same(u16),
    /// The caller's value of the register is lost.
    Lost(u16),
    /// The caller's value of the first register is in the second.
    InRegister(u16, u16),
    /// The frame address is what this expression computes, in DWARF's bytes.
    FrameExpression(Vec<u8>),
    /// The caller's value of the register is stored where this expression says.
    StoredExpression(u16, Vec<u8>),
    /// The caller's value of the register is what this expression computes.
    ValueExpression(u16, Vec<u8>),
    /// The rules are remembered.
    Remember,
    /// The rules are those last remembered.
    Recall,
}

/// The rules for one stretch of code.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct UnwindTable {
    /// The section of the code.
    pub section: SectionIndex,
    /// First byte in it.
    pub start: u64,
    /// Bytes of the code.
    pub size: u64,
    /// Rules, by ascending offset in bytes from `start`.
    pub rules: Vec<(u64, UnwindRule)>,
    /// What happens to an exception that passes through.
    pub handler: Option<Box<ExceptionHandler>>,
}

/// What happens to an exception that passes through a routine. Source: LSB Core, "DWARF Extensions", augmentation
/// letters P and L.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct ExceptionHandler {
    /// How the address of the personality routine is written (`DW_EH_PE_*`), and that routine or what holds its
    /// address.
    pub personality: (u8, SymbolIndex),
    /// How the address of the routine's own table is written, the symbol that it is counted from, and bytes from
    /// there.
    pub table: Option<(u8, SymbolIndex, i64)>,
}
