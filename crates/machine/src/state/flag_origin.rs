//! What the status flags come from: the operation that set them last, as long as that is known.

use sotto_isa::Width;

/// An operation that sets flags by its operands.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum FlagOperation {
    /// A sum, of a carry too if the value is one more.
    Add,
    /// A difference, less a borrow too if the value is one less; a comparison.
    Subtract,
    /// A bitwise operation; only the value is known.
    Logic,
    /// An increment, which keeps the carry.
    Increment,
    /// A decrement, which keeps the carry.
    Decrement,
}

/// The operation that set the flags last, with its operands.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct FlagOrigin {
    /// What was done.
    pub operation: FlagOperation,
    /// How wide the operands are.
    pub width: Width,
    /// First operand, zero-extended.
    pub a: u64,
    /// Second operand, zero-extended.
    pub b: u64,
    /// The result, zero-extended.
    pub value: u64,
}
