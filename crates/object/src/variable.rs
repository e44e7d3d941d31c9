//! Variables of routines that were compiled, as a compiler describes them.

use std::ops::Range;

/// A variable or parameter of a routine.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Variable {
    /// Its name.
    pub name: String,
    /// The addresses of the code that knows it.
    pub scope: Vec<Range<u64>>,
    /// What it is.
    pub kind: VariableType,
    /// Where it is while the code at some addresses is executed; nowhere at others.
    pub places: Vec<(Range<u64>, VariablePlace)>,
}

/// What a variable is, and how many bytes it has.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum VariableType {
    /// A number without a sign, or a character.
    Unsigned(u64),
    /// A number with a sign.
    Signed(u64),
    /// A floating-point number.
    Float(u64),
    /// An address.
    Pointer(u64),
    /// An array or a structure: its value is its address.
    Compound,
}

/// Where a variable is. Registers have the numbers that the ABI documents give them for DWARF.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum VariablePlace {
    /// At an address.
    Address(u64),
    /// So far from the canonical frame address of its routine.
    Frame(i64),
    /// So far from what a register holds.
    Indirect(u16, i64),
    /// In a register.
    Register(u16),
}

impl Variable {
    /// Bytes of the smallest stretch of code around an address that knows the variable; `None` if none does.
    pub fn scope_at(&self, address: u64) -> Option<u64> {
        let around = self.scope.iter().filter(|range| range.contains(&address));
        around.map(|range| range.end - range.start).min()
    }

    /// Where it is while the instruction at an address is executed.
    pub fn place_at(&self, address: u64) -> Option<VariablePlace> {
        let mut places = self.places.iter();
        places.find(|(range, _)| range.contains(&address)).map(|(_, place)| *place)
    }
}
