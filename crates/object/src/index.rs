//! Numbers of sections and symbols of an object.

/// Index of a section in its object.
#[derive(Copy, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub struct SectionIndex(pub u32);

/// Index of a symbol in its object.
#[derive(Copy, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub struct SymbolIndex(pub u32);

impl SectionIndex {
    /// The index as a position in a list.
    pub fn position(self) -> usize {
        self.0 as usize
    }
}

impl SymbolIndex {
    /// The index as a position in a list.
    pub fn position(self) -> usize {
        self.0 as usize
    }
}
