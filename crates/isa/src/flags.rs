//! Sets of status flags, and what an instruction does to them.

use std::ops::{BitAnd, BitOr, Not};

use serde::{Deserialize, Serialize};

/// A set of status (x86) or condition (ARM) flags of one machine.
///
/// On x86 a flag has its bit position in RFLAGS; on ARM the position it has in bits 31 to 28 of
/// NZCV, moved down by 28. The constants live in [`crate::x86::flag`] and [`crate::arm64::flag`].
#[derive(Copy, Clone, PartialEq, Eq, Hash, Debug, Default, Serialize, Deserialize)]
pub struct FlagSet(pub u32);

impl FlagSet {
    /// No flag.
    pub const NONE: FlagSet = FlagSet(0);

    /// Whether the set is empty.
    pub const fn is_empty(self) -> bool {
        self.0 == 0
    }

    /// Whether every flag of `other` is in this set.
    pub const fn contains(self, other: FlagSet) -> bool {
        self.0 & other.0 == other.0
    }

    /// Flags in either set; usable in constants.
    pub const fn with(self, other: FlagSet) -> FlagSet {
        FlagSet(self.0 | other.0)
    }

    /// Flags of this set that are not in `other`; usable in constants.
    pub const fn without(self, other: FlagSet) -> FlagSet {
        FlagSet(self.0 & !other.0)
    }
}

impl BitOr for FlagSet {
    type Output = FlagSet;
    fn bitor(self, other: FlagSet) -> FlagSet {
        self.with(other)
    }
}

impl BitAnd for FlagSet {
    type Output = FlagSet;
    fn bitand(self, other: FlagSet) -> FlagSet {
        FlagSet(self.0 & other.0)
    }
}

impl Not for FlagSet {
    type Output = FlagSet;
    fn not(self) -> FlagSet {
        FlagSet(!self.0)
    }
}

/// What a flag says of a result, on whichever machine.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum FlagRole {
    /// A carry out of the sum; on x86 also a borrow, on Arm that there was none.
    Carry,
    /// It is zero.
    Zero,
    /// Its top bit.
    Sign,
    /// It does not fit as a signed number.
    Overflow,
    /// The ones in its low byte are even in number.
    Parity,
    /// A carry or borrow between its low four bits and the rest.
    Adjust,
    /// Nothing: it says which way string instructions go.
    Direction,
}

/// One flag, as reports and `explain` show it.
#[derive(Debug, PartialEq, Eq)]
pub struct FlagInfo {
    /// The flag.
    pub flag: FlagSet,
    /// What it says.
    pub role: FlagRole,
    /// The manual's short name: `ZF`, `N`.
    pub name: &'static str,
    /// What it stands for, in a word or two.
    pub word: &'static str,
}

/// A condition on an instruction's operands under which more flags are undefined.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum FlagsUndefinedWhen {
    /// A shift or rotate by a masked count that is neither 0 nor 1.
    CountAboveOne,
    /// A shift by a masked count that is not less than the width of the operand.
    CountNotBelowWidth,
    /// A double shift by a masked count that is greater than the width; so is the result.
    CountAboveWidth,
}

/// What an instruction form does to the flags, in the manual's five kinds.
///
/// A flag in none of the sets keeps its value.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct FlagEffects {
    /// Read by the instruction.
    pub tested: FlagSet,
    /// Set or cleared according to the result.
    pub modified: FlagSet,
    /// Always cleared.
    pub cleared: FlagSet,
    /// Always set.
    pub set: FlagSet,
    /// Left undefined; comparisons with a processor leave them out.
    pub undefined: FlagSet,
    /// Flags in `modified` that are undefined for some operands.
    pub undefined_when: &'static [(FlagsUndefinedWhen, FlagSet)],
}

impl FlagEffects {
    /// Flags untouched and unread.
    pub const NONE: FlagEffects = FlagEffects {
        tested: FlagSet::NONE,
        modified: FlagSet::NONE,
        cleared: FlagSet::NONE,
        set: FlagSet::NONE,
        undefined: FlagSet::NONE,
        undefined_when: &[],
    };

    /// Flags tested, and none changed.
    pub const fn tests(tested: FlagSet) -> FlagEffects {
        FlagEffects { tested, ..FlagEffects::NONE }
    }

    /// Every flag whose value after the instruction may differ from before, undefined ones included.
    pub const fn written(&self) -> FlagSet {
        self.modified.with(self.cleared).with(self.set).with(self.undefined)
    }
}
