//! Status flags of RFLAGS, and the rules by which results set them.
//!
//! Pure functions: operands and result in, flags out. The engine keeps the operands of the last
//! flag-setting instruction in a [`LazyFlags`] and the rules run when something reads the flags.
//!
//! Source: SDM Vol. 1, 3.4.3.1 "Status Flags".

use sotto_isa::x86::{Cond, flag, masked_count};
use sotto_isa::{FlagSet, Width};

use crate::{FlagOperation, FlagOrigin};

/// SF, ZF and PF of a result that is zero-extended from `width`.
pub(crate) fn of_result(width: Width, value: u64) -> FlagSet {
    let mut flags = FlagSet::NONE;
    if value == 0 {
        flags = flags | flag::ZF;
    }
    if value & width.sign_bit() != 0 {
        flags = flags | flag::SF;
    }
    // Parity is of the low byte only.
    if (value as u8).count_ones().is_multiple_of(2) {
        flags = flags | flag::PF;
    }
    flags
}

pub(crate) fn when(condition: bool, flag: FlagSet) -> FlagSet {
    if condition { flag } else { FlagSet::NONE }
}

/// Flags after ADD or ADC, where `value` is `(a + b + carry_in) mod 2^width`.
///
/// All three are zero-extended to 64 bits. The carry in is not asked for: `value` shows it.
///
/// Source: SDM Vol. 2A, ADC, "Flags Affected".
pub(crate) fn after_add(width: Width, a: u64, b: u64, value: u64) -> FlagSet {
    // Bit n of `carries` is the carry out of bit n.
    let carries = (a & b) | ((a | b) & !value);
    of_result(width, value)
        | when(carries & width.sign_bit() != 0, flag::CF)
        | when(carries & 8 != 0, flag::AF)
        // Overflow: the operands share a sign that the result has lost.
        | when((a ^ value) & (b ^ value) & width.sign_bit() != 0, flag::OF)
}

/// Flags after SUB, SBB or CMP, where `value` is `(a - b - borrow_in) mod 2^width`.
///
/// Source: SDM Vol. 2B, SUB, "Flags Affected".
pub(crate) fn after_sub(width: Width, a: u64, b: u64, value: u64) -> FlagSet {
    let borrows = (!a & b) | ((!a | b) & value);
    of_result(width, value)
        | when(borrows & width.sign_bit() != 0, flag::CF)
        | when(borrows & 8 != 0, flag::AF)
        | when((a ^ b) & (a ^ value) & width.sign_bit() != 0, flag::OF)
}

/// What set the flags last.
#[derive(Copy, Clone, PartialEq, Eq, Debug, Default)]
pub(crate) enum Kind {
    /// Nothing that is left to compute.
    #[default]
    Known,
    Add,
    Sub,
    Logic,
    /// INC: an addition of 1 that keeps CF.
    Inc,
    /// DEC: a subtraction of 1 that keeps CF.
    Dec,
    /// SHL, SHR or SAR of `a` by `b`, which is masked and not 0.
    Shift(Shift),
    /// A product, of which `value` is the lower half; `b` is 1 if the upper half matters. What the manual leaves
    /// undefined tells of the lower half.
    Product,
}

/// An operation that set flags, with what they follow from.
#[derive(Copy, Clone, Debug)]
struct Operation {
    kind: Kind,
    width: Width,
    a: u64,
    b: u64,
    value: u64,
}

/// The status flags, computed when they are read.
#[derive(Copy, Clone, Debug)]
pub(crate) struct LazyFlags {
    last: Operation,
    /// What set CF, where the last operation was INC or DEC, which keep it.
    before: Operation,
    /// The flags that operations of the kind [`Kind::Known`] left.
    known: FlagSet,
}

impl Default for LazyFlags {
    fn default() -> LazyFlags {
        let none = Operation { kind: Kind::Known, width: Width::W8, a: 0, b: 0, value: 0 };
        LazyFlags { last: none, before: none, known: FlagSet::NONE }
    }
}

impl LazyFlags {
    /// Notes an operation; CF is kept by INC and DEC.
    #[inline]
    pub fn after(&mut self, kind: Kind, width: Width, a: u64, b: u64, value: u64) {
        if matches!(kind, Kind::Inc | Kind::Dec) && !matches!(self.last.kind, Kind::Inc | Kind::Dec)
        {
            self.before = self.last;
        }
        self.last = Operation { kind, width, a, b, value };
    }

    pub fn set(&mut self, flags: FlagSet) {
        self.last.kind = Kind::Known;
        self.known = flags & flag::STATUS;
    }

    /// What the flags come from, if that is known.
    pub fn origin(&self) -> Option<FlagOrigin> {
        let Operation { kind, width, a, b, value } = self.last;
        let operation = match kind {
            Kind::Known | Kind::Shift(_) | Kind::Product => return None,
            Kind::Add => FlagOperation::Add,
            Kind::Sub => FlagOperation::Subtract,
            Kind::Logic => FlagOperation::Logic,
            Kind::Inc => FlagOperation::Increment,
            Kind::Dec => FlagOperation::Decrement,
        };
        let b = if matches!(kind, Kind::Inc | Kind::Dec) { 1 } else { b };
        Some(FlagOrigin { operation, width, a, b, value })
    }

    /// Says what the flags come from, which are set already.
    pub fn set_origin(&mut self, origin: FlagOrigin) {
        let kind = match origin.operation {
            FlagOperation::Add => Kind::Add,
            FlagOperation::Subtract => Kind::Sub,
            FlagOperation::Logic => Kind::Logic,
            FlagOperation::Increment => Kind::Inc,
            FlagOperation::Decrement => Kind::Dec,
        };
        self.after(kind, origin.width, origin.a, origin.b, origin.value);
    }

    /// CF alone; the other flags stay.
    pub fn set_carry(&mut self, carry: bool) {
        let others = self.value().without(flag::CF);
        self.set(others | when(carry, flag::CF));
    }

    /// The flags, computed.
    pub fn value(&self) -> FlagSet {
        let Operation { kind, width, a, b, value } = self.last;
        let kept = || when(self.carry(), flag::CF);
        match kind {
            Kind::Known => self.known,
            Kind::Add => after_add(width, a, b, value),
            Kind::Sub => after_sub(width, a, b, value),
            Kind::Logic => of_result(width, value),
            Kind::Inc => after_add(width, a, 1, value).without(flag::CF) | kept(),
            Kind::Dec => after_sub(width, a, 1, value).without(flag::CF) | kept(),
            Kind::Shift(kind) => after_shift(kind, width, a, b as u32, value),
            Kind::Product => of_result(width, value) | when(b != 0, flag::CF | flag::OF),
        }
    }

    #[inline]
    pub fn carry(&self) -> bool {
        let set_by = match self.last.kind {
            Kind::Inc | Kind::Dec => &self.before,
            _ => &self.last,
        };
        let Operation { kind, width, a, b, value } = *set_by;
        match kind {
            // What is kept was not set by one that keeps it.
            Kind::Known | Kind::Inc | Kind::Dec => self.known.contains(flag::CF),
            Kind::Add => ((a & b) | ((a | b) & !value)) & width.sign_bit() != 0,
            Kind::Sub => ((!a & b) | ((!a | b) & value)) & width.sign_bit() != 0,
            Kind::Logic => false,
            Kind::Product => b != 0,
            Kind::Shift(kind) => shifted(kind, width, a, b as u32).1,
        }
    }

    #[inline]
    fn zero(&self) -> bool {
        match self.last.kind {
            Kind::Known => self.known.contains(flag::ZF),
            _ => self.last.value == 0,
        }
    }

    #[inline]
    fn sign(&self) -> bool {
        match self.last.kind {
            Kind::Known => self.known.contains(flag::SF),
            _ => self.last.value & self.last.width.sign_bit() != 0,
        }
    }

    #[inline]
    fn overflow(&self) -> bool {
        let Operation { kind, width, a, b, value } = self.last;
        let sign = width.sign_bit();
        match kind {
            Kind::Known => self.known.contains(flag::OF),
            Kind::Add => (a ^ value) & (b ^ value) & sign != 0,
            Kind::Sub => (a ^ b) & (a ^ value) & sign != 0,
            Kind::Logic => false,
            Kind::Inc => value == sign,
            Kind::Dec => value == sign - 1,
            Kind::Product => b != 0,
            Kind::Shift(_) => self.value().contains(flag::OF),
        }
    }

    fn parity(&self) -> bool {
        match self.last.kind {
            Kind::Known => self.known.contains(flag::PF),
            _ => (self.last.value as u8).count_ones().is_multiple_of(2),
        }
    }

    /// Whether a condition holds. Source: SDM Vol. 1, B.1.
    #[inline]
    pub fn holds(&self, cond: Cond) -> bool {
        match cond {
            Cond::O => self.overflow(),
            Cond::No => !self.overflow(),
            Cond::B => self.carry(),
            Cond::Ae => !self.carry(),
            Cond::E => self.zero(),
            Cond::Ne => !self.zero(),
            Cond::Be => self.carry() || self.zero(),
            Cond::A => !(self.carry() || self.zero()),
            Cond::S => self.sign(),
            Cond::Ns => !self.sign(),
            Cond::P => self.parity(),
            Cond::Np => !self.parity(),
            Cond::L => self.sign() != self.overflow(),
            Cond::Ge => self.sign() == self.overflow(),
            Cond::Le => self.zero() || self.sign() != self.overflow(),
            Cond::G => !self.zero() && self.sign() == self.overflow(),
        }
    }
}

/// A shift or rotate.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) enum Shift {
    Shl,
    Shr,
    Sar,
    Rol,
    Ror,
    Rcl,
    Rcr,
}

/// The result of SHL, SHR or SAR of `a` by a masked count that is not 0, and the last bit that went out. Of other
/// kinds it is `a`.
///
/// Source: SDM Vol. 2B, SAL/SAR/SHL/SHR.
#[inline(always)]
pub(crate) fn shifted(kind: Shift, width: Width, a: u64, count: u32) -> (u64, bool) {
    let out = |value: u64, at: u32| value >> at & 1 == 1;
    match kind {
        Shift::Shl => {
            // Narrow operands may be shifted by more than their width: what goes out last is then a 0.
            let carry = width.bits().checked_sub(count).is_some_and(|at| out(a, at));
            (a << count & width.mask(), carry)
        }
        Shift::Shr => (a >> count, out(a, count - 1)),
        Shift::Sar => {
            let signed = width.sign_extend(a);
            ((signed >> count) as u64 & width.mask(), out(signed as u64, count - 1))
        }
        _ => (a, false),
    }
}

/// Flags after SHL, SHR or SAR; `value` is the result.
///
/// Source: SDM Vol. 2B, SAL/SAR/SHL/SHR, "Flags Affected".
fn after_shift(kind: Shift, width: Width, a: u64, count: u32, value: u64) -> FlagSet {
    let top = |value: u64| value & width.sign_bit() != 0;
    let (_, carry) = shifted(kind, width, a, count);
    let overflow = match kind {
        Shift::Shl => top(value) != carry,
        Shift::Shr => top(a),
        _ => false,
    };
    of_result(width, value) | when(carry, flag::CF) | when(overflow, flag::OF)
}

impl Shift {
    /// Those whose flags can be worked out later from operands and result.
    pub const LAZY: [Shift; 3] = [Shift::Shl, Shift::Shr, Shift::Sar];
}

/// Result and flags of a shift or rotate of `a` by `count`, which is masked here; `None` if the
/// masked count is 0 and nothing changes.
///
/// `old` are the flags before. Flags that the manual leaves undefined get the value that current
/// processors give them where that is simple, else keep theirs.
///
/// Source: SDM Vol. 2B, SAL/SAR/SHL/SHR and RCL/RCR/ROL/ROR.
pub(crate) fn shift(
    kind: Shift,
    width: Width,
    a: u64,
    count: u64,
    old: FlagSet,
) -> Option<(u64, FlagSet)> {
    let count = masked_count(width, count);
    if count == 0 {
        return None;
    }
    let bits = width.bits();
    let mask = width.mask();
    let top = |value: u64| value & width.sign_bit() != 0;
    let (value, carry) = match kind {
        Shift::Shl | Shift::Shr | Shift::Sar => {
            let (value, _) = shifted(kind, width, a, count);
            return Some((value, after_shift(kind, width, a, count, value)));
        }
        Shift::Rol => {
            let value = rotate_left(u128::from(a), count % bits, bits) as u64;
            (value, value & 1 == 1)
        }
        Shift::Ror => {
            let value = rotate_left(u128::from(a), (bits - count % bits) % bits, bits) as u64;
            (value, top(value))
        }
        Shift::Rcl | Shift::Rcr => {
            // CF counts as one more bit above the others.
            let joined = u128::from(a) | u128::from(old.contains(flag::CF)) << bits;
            let by = count % (bits + 1);
            let by = if kind == Shift::Rcl { by } else { (bits + 1 - by) % (bits + 1) };
            let value = rotate_left(joined, by, bits + 1);
            (value as u64 & mask, value >> bits & 1 == 1)
        }
    };
    let overflow = match kind {
        Shift::Rol | Shift::Rcl => top(value) != carry,
        // The two top bits of the result.
        _ => top(value) != top(value << 1),
    };
    let changed = when(carry, flag::CF) | when(overflow, flag::OF);
    Some((value, old.without(flag::CF | flag::OF) | changed))
}

/// Rotates the low `bits` bits (up to 65) of `value` left by `by`, which is below `bits`.
fn rotate_left(value: u128, by: u32, bits: u32) -> u128 {
    let mask = (1u128 << bits) - 1;
    if by == 0 { value & mask } else { (value << by | (value & mask) >> (bits - by)) & mask }
}

#[cfg(test)]
mod tests {
    use super::*;
    use sotto_isa::Width::{W8, W16, W64};

    #[test]
    fn after_add_examples() {
        let (cf, pf, af, zf, sf, of) = (flag::CF, flag::PF, flag::AF, flag::ZF, flag::SF, flag::OF);
        let cases = [
            // name, width, a, b, value, flags
            ("carry_in_wraps_to_zero", W8, 0xff, 0x00, 0x00, cf | pf | af | zf),
            ("carry_in_overflows", W8, 0x7f, 0x00, 0x80, af | sf | of),
            ("pf_ignores_high_byte", W16, 0x0100, 0x0003, 0x0103, pf),
            ("top_bit_carries_out", W64, 1 << 63, 1 << 63, 0, cf | pf | zf | of),
        ];
        for (name, width, a, b, value, flags) in cases {
            assert_eq!(after_add(width, a, b, value), flags, "{name}");
        }
    }

    /// Every 8-bit operand pair and carry, against arithmetic on wider numbers.
    #[test]
    fn eight_bit_sums_and_differences_agree_with_wider_arithmetic() {
        for a in 0..256u64 {
            for b in 0..256u64 {
                for carry in 0..2u64 {
                    let sum = a + b + carry;
                    let signed = i64::from(a as i8) + i64::from(b as i8) + carry as i64;
                    let flags = after_add(W8, a, b, sum & 0xff);
                    assert_eq!(flags.contains(flag::CF), sum > 255);
                    assert_eq!(flags.contains(flag::OF), !(-128..128).contains(&signed));
                    assert_eq!(flags.contains(flag::AF), (a & 15) + (b & 15) + carry > 15);

                    let difference = a.wrapping_sub(b).wrapping_sub(carry);
                    let signed = i64::from(a as i8) - i64::from(b as i8) - carry as i64;
                    let flags = after_sub(W8, a, b, difference & 0xff);
                    assert_eq!(flags.contains(flag::CF), a < b + carry);
                    assert_eq!(flags.contains(flag::OF), !(-128..128).contains(&signed));
                    assert_eq!(flags.contains(flag::AF), (a & 15) < (b & 15) + carry);
                }
            }
        }
    }

    /// Conditions read from the operands agree with conditions read from the computed flags.
    #[test]
    fn lazy_conditions_agree_with_the_flags_they_stand_for() {
        for kind in [Kind::Add, Kind::Sub, Kind::Logic, Kind::Inc, Kind::Dec] {
            for a in 0..256u64 {
                for b in (0..256u64).step_by(5) {
                    let value = match kind {
                        Kind::Add => a + b,
                        Kind::Sub => a.wrapping_sub(b),
                        Kind::Inc => a + 1,
                        Kind::Dec => a.wrapping_sub(1),
                        _ => a & b,
                    } & 0xff;
                    let mut lazy = LazyFlags::default();
                    lazy.set(if b & 1 == 1 { flag::CF } else { FlagSet::NONE });
                    lazy.after(kind, W8, a, b, value);
                    let mut known = LazyFlags::default();
                    known.set(lazy.value());
                    for cond in Cond::ALL {
                        assert_eq!(
                            lazy.holds(cond),
                            known.holds(cond),
                            "{kind:?} {a} {b} {cond:?}"
                        );
                    }
                }
            }
        }
    }

    #[test]
    fn rotating_through_carry_by_the_width_and_one_is_the_identity() {
        for a in 0..256u64 {
            for carry in [FlagSet::NONE, flag::CF] {
                let (value, flags) = shift(Shift::Rcl, W8, a, 9, carry).unwrap();
                assert_eq!((value, flags & flag::CF), (a, carry));
                let (left, flags) = shift(Shift::Rcl, W8, a, 3, carry).unwrap();
                let (back, flags) = shift(Shift::Rcr, W8, left, 3, flags).unwrap();
                assert_eq!((back, flags & flag::CF), (a, carry));
            }
        }
        assert_eq!(shift(Shift::Shl, W64, 1, 64, FlagSet::NONE), None);
    }
}
