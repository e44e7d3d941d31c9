//! Condition flags N, Z, C and V, and the rules by which results set them.
//!
//! Source: Arm ARM, shared pseudocode `AddWithCarry`.

use sotto_isa::arm64::{condition_holds, flag};
use sotto_isa::{FlagSet, Width};

use crate::{FlagOperation, FlagOrigin};

/// Sum, and flags, of `a + b + carry_in` at a width of 32 or 64.
///
/// A subtraction adds the inverse of its second operand with a carry in of 1, so that C after it
/// means "no borrow".
pub(super) fn add_with_carry(width: Width, a: u64, b: u64, carry_in: bool) -> (u64, FlagSet) {
    let sum = u128::from(a) + u128::from(b) + u128::from(carry_in);
    let value = sum as u64 & width.mask();
    let sign = width.sign_bit();
    let mut flags = of_result(width, value);
    if sum > u128::from(width.mask()) {
        flags = flags | flag::C;
    }
    if (a ^ value) & (b ^ value) & sign != 0 {
        flags = flags | flag::V;
    }
    (value, flags)
}

/// Whether a condition holds after the difference of two numbers of this width, zero-extended.
///
/// The flags need not be computed: each condition says how the two compare. Source: Arm ARM, C1.2.4.
#[inline(always)]
pub(super) fn holds_after_difference(cond: u8, width: Width, a: u64, b: u64) -> bool {
    let (signed_a, signed_b) = (width.sign_extend(a), width.sign_extend(b));
    let difference = a.wrapping_sub(b);
    let holds = match cond >> 1 {
        0 => a == b,
        1 => a >= b,
        2 => difference & width.sign_bit() != 0,
        3 => (a ^ b) & (a ^ difference) & width.sign_bit() != 0,
        4 => a > b,
        5 => signed_a >= signed_b,
        6 => signed_a > signed_b,
        _ => return true,
    };
    holds != (cond & 1 == 1)
}

fn of_result(width: Width, value: u64) -> FlagSet {
    let mut flags = FlagSet::NONE;
    if value & width.sign_bit() != 0 {
        flags = flags | flag::N;
    }
    if value == 0 {
        flags = flags | flag::Z;
    }
    flags
}

#[derive(Copy, Clone, PartialEq, Eq, Debug, Default)]
enum Kind {
    #[default]
    Known,
    /// `a + b + carry_in`.
    Sum,
    /// The result `a` of a bitwise operation.
    Logic,
}

/// The condition flags, computed when they are read.
#[derive(Copy, Clone, Debug)]
pub(super) struct LazyFlags {
    kind: Kind,
    width: Width,
    carry_in: bool,
    a: u64,
    b: u64,
    known: FlagSet,
}

impl Default for LazyFlags {
    fn default() -> LazyFlags {
        let (a, b, carry_in) = (0, 0, false);
        LazyFlags { kind: Kind::Known, width: Width::W64, carry_in, a, b, known: FlagSet::NONE }
    }
}

impl LazyFlags {
    #[inline]
    pub fn after_sum(&mut self, width: Width, a: u64, b: u64, carry_in: bool) {
        (self.kind, self.width, self.a, self.b, self.carry_in) = (Kind::Sum, width, a, b, carry_in);
    }

    #[inline]
    pub fn after_logic(&mut self, width: Width, value: u64) {
        (self.kind, self.width, self.a) = (Kind::Logic, width, value);
    }

    pub fn set(&mut self, flags: FlagSet) {
        (self.kind, self.known) = (Kind::Known, flags & flag::NZCV);
    }

    /// What the flags come from, if that is known.
    pub fn origin(&self) -> Option<FlagOrigin> {
        let LazyFlags { width, a, b, carry_in, .. } = *self;
        let operation = match self.kind {
            Kind::Known => return None,
            Kind::Logic => {
                return Some(FlagOrigin {
                    operation: FlagOperation::Logic,
                    width,
                    a,
                    b: 0,
                    value: a,
                });
            }
            // A difference is a sum with the inverse and a carry; a sum with carry looks the same, and
            // is right to be read so.
            Kind::Sum if carry_in => FlagOperation::Subtract,
            Kind::Sum => FlagOperation::Add,
        };
        let value = add_with_carry(width, a, b, carry_in).0;
        let b = if carry_in { !b & width.mask() } else { b };
        Some(FlagOrigin { operation, width, a, b, value })
    }

    /// Says what the flags come from, which are set already.
    pub fn set_origin(&mut self, origin: FlagOrigin) {
        let FlagOrigin { operation, width, a, b, value } = origin;
        match operation {
            FlagOperation::Subtract => self.after_sum(width, a, !b & width.mask(), true),
            FlagOperation::Logic => self.after_logic(width, value),
            _ => self.after_sum(width, a, b, false),
        }
    }

    /// The flags, computed.
    #[inline]
    pub fn value(&self) -> FlagSet {
        match self.kind {
            Kind::Known => self.known,
            Kind::Sum => add_with_carry(self.width, self.a, self.b, self.carry_in).1,
            Kind::Logic => of_result(self.width, self.a),
        }
    }

    #[inline]
    pub fn holds(&self, cond: u8) -> bool {
        match self.kind {
            Kind::Sum if self.carry_in => {
                holds_after_difference(cond, self.width, self.a, !self.b & self.width.mask())
            }
            _ => condition_holds(cond, self.value()),
        }
    }
}
