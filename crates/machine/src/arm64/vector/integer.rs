//! What becomes of integer elements: pure functions of elements, and whether a limit was met.
//!
//! Elements come zero-extended, or extended to the width of the operation; bits of a result above that width are let go.
//!
//! Source: Arm ARM, C7.2, the instruction that each is named after.

use sotto_isa::Width;
use sotto_isa::arm64::vector::{Comparison, LaneOp};

use super::{Context, Lane, VectorOp};

fn signed(op: &VectorOp, value: u64) -> i128 {
    i128::from(op.width.sign_extend(value))
}

/// A number of the kind that the flag says.
fn number<const SIGNED: bool>(op: &VectorOp, value: u64) -> i128 {
    if SIGNED { signed(op, value) } else { i128::from(value) }
}

/// The nearest number that the kind and width have.
fn saturated<const SIGNED: bool>(context: &mut Context, width: Width, value: i128) -> u64 {
    let bits = width.bits();
    let (low, high) = match SIGNED {
        true => (-(1i128 << (bits - 1)), (1i128 << (bits - 1)) - 1),
        false => (0, (1i128 << bits) - 1),
    };
    let nearest = value.clamp(low, high);
    context.saturated |= nearest != value;
    nearest as u64
}

fn all_if(condition: bool) -> u64 {
    if condition { u64::MAX } else { 0 }
}

/// Functions of elements, whose operands are named as they are needed.
macro_rules! lanes {
    ($($name:ident $(<$(const $flag:ident),*>)? ($context:ident, $op:ident, $a:ident, $b:ident, $c:ident) $result:expr;)*) => {
        $(
            fn $name $(<$(const $flag: bool),*>)? (
                $context: &mut Context,
                $op: &VectorOp,
                $a: u64,
                $b: u64,
                $c: u64,
            ) -> u64 {
                let _ = (&$context, &$op, $a, $b, $c);
                $result
            }
        )*
    };
}

lanes! {
    copy(context, op, a, b, c) a;
    add(context, op, a, b, c) a.wrapping_add(b);
    sub(context, op, a, b, c) a.wrapping_sub(b);
    mul(context, op, a, b, c) a.wrapping_mul(b);
    mul_add(context, op, a, b, c) c.wrapping_add(a.wrapping_mul(b));
    mul_sub(context, op, a, b, c) c.wrapping_sub(a.wrapping_mul(b));
    polynomial_mul(context, op, a, b, c) carryless(a, b) as u64;
    halving_add<const SIGNED, const ROUND>(context, op, a, b, c) {
        ((number::<SIGNED>(op, a) + number::<SIGNED>(op, b) + i128::from(ROUND)) >> 1) as u64
    };
    halving_sub<const SIGNED>(context, op, a, b, c) {
        ((number::<SIGNED>(op, a) - number::<SIGNED>(op, b)) >> 1) as u64
    };
    saturating_add<const SIGNED>(context, op, a, b, c) {
        let sum = number::<SIGNED>(op, a) + number::<SIGNED>(op, b);
        saturated::<SIGNED>(context, op.width, sum)
    };
    saturating_sub<const SIGNED>(context, op, a, b, c) {
        let difference = number::<SIGNED>(op, a) - number::<SIGNED>(op, b);
        saturated::<SIGNED>(context, op.width, difference)
    };
    // SUQADD adds the unsigned source to the signed destination, USQADD the other way round.
    saturating_add_mixed<const SIGNED>(context, op, a, b, c) {
        let source = if SIGNED { i128::from(a) } else { signed(op, a) };
        saturated::<SIGNED>(context, op.width, source + number::<SIGNED>(op, c))
    };
    max<const SIGNED>(context, op, a, b, c) {
        number::<SIGNED>(op, a).max(number::<SIGNED>(op, b)) as u64
    };
    min<const SIGNED>(context, op, a, b, c) {
        number::<SIGNED>(op, a).min(number::<SIGNED>(op, b)) as u64
    };
    distance<const SIGNED>(context, op, a, b, c) {
        number::<SIGNED>(op, a).abs_diff(number::<SIGNED>(op, b)) as u64
    };
    distance_add<const SIGNED>(context, op, a, b, c) {
        c.wrapping_add(number::<SIGNED>(op, a).abs_diff(number::<SIGNED>(op, b)) as u64)
    };
    equal(context, op, a, b, c) all_if(a == b);
    greater<const SIGNED>(context, op, a, b, c) {
        all_if(number::<SIGNED>(op, a) > number::<SIGNED>(op, b))
    };
    greater_or_equal<const SIGNED>(context, op, a, b, c) {
        all_if(number::<SIGNED>(op, a) >= number::<SIGNED>(op, b))
    };
    equal_zero(context, op, a, b, c) all_if(a == 0);
    greater_zero(context, op, a, b, c) all_if(signed(op, a) > 0);
    greater_or_equal_zero(context, op, a, b, c) all_if(signed(op, a) >= 0);
    less_zero(context, op, a, b, c) all_if(signed(op, a) < 0);
    less_or_equal_zero(context, op, a, b, c) all_if(signed(op, a) <= 0);
    test_bits(context, op, a, b, c) all_if(a & b != 0);
    shift_by_register<const SIGNED, const ROUND, const SATURATE>(context, op, a, b, c) {
        shifted::<SIGNED, ROUND, SATURATE>(context, op.width, number::<SIGNED>(op, a), i32::from(b as i8))
    };
    doubling_mul_high<const ROUND>(context, op, a, b, c) {
        let product = 2 * signed(op, a) * signed(op, b) + half::<ROUND>(op.width);
        saturated::<true>(context, op.width, product >> op.width.bits())
    };
    doubling_mul_high_add<const SUBTRACT>(context, op, a, b, c) {
        let product = 2 * signed(op, a) * signed(op, b);
        let product = if SUBTRACT { -product } else { product };
        let sum = (signed(op, c) << op.width.bits()) + product + half::<true>(op.width);
        saturated::<true>(context, op.width, sum >> op.width.bits())
    };
    doubling_mul_long(context, op, a, b, c) {
        saturated::<true>(context, op.width, 2 * signed(op, a) * signed(op, b))
    };
    doubling_mul_long_add<const SUBTRACT>(context, op, a, b, c) {
        let product = saturated::<true>(context, op.width, 2 * signed(op, a) * signed(op, b));
        let product = if SUBTRACT { -signed(op, product) } else { signed(op, product) };
        saturated::<true>(context, op.width, signed(op, c) + product)
    };
    absolute(context, op, a, b, c) signed(op, a).unsigned_abs() as u64;
    negated(context, op, a, b, c) a.wrapping_neg();
    saturating_absolute(context, op, a, b, c) {
        saturated::<true>(context, op.width, signed(op, a).abs())
    };
    saturating_negated(context, op, a, b, c) saturated::<true>(context, op.width, -signed(op, a));
    leading_signs(context, op, a, b, c) {
        let number = op.width.sign_extend(a);
        let differing = (number ^ number >> 1) as u64 & op.width.mask();
        u64::from(differing.leading_zeros() - (64 - op.width.bits()) - 1)
    };
    leading_zeros(context, op, a, b, c) u64::from(a.leading_zeros() - (64 - op.width.bits()));
    count_bits(context, op, a, b, c) u64::from(a.count_ones());
    reverse_bits(context, op, a, b, c) u64::from((a as u8).reverse_bits());
    shift_right<const SIGNED, const ROUND, const ACCUMULATE>(context, op, a, b, c) {
        let shifted = right::<ROUND>(number::<SIGNED>(op, a), b as u32) as u64;
        if ACCUMULATE { c.wrapping_add(shifted) } else { shifted }
    };
    shift_left(context, op, a, b, c) if b > 63 { 0 } else { a << b };
    shift_left_insert(context, op, a, b, c) a << b | c & !(u64::MAX << b);
    shift_right_insert(context, op, a, b, c) {
        let kept = if b > 63 { 0 } else { op.width.mask() >> b };
        (if b > 63 { 0 } else { a >> b }) | c & !kept
    };
    saturating_shift_left<const SIGNED>(context, op, a, b, c) {
        saturated::<SIGNED>(context, op.width, number::<SIGNED>(op, a) << b)
    };
    saturating_shift_left_unsigned(context, op, a, b, c) {
        saturated::<false>(context, op.width, signed(op, a) << b)
    };
    narrow<const ROUND>(context, op, a, b, c) right::<ROUND>(i128::from(a), b as u32) as u64;
    saturating_narrow<const FROM_SIGNED, const TO_SIGNED, const ROUND>(context, op, a, b, c) {
        let value = right::<ROUND>(number::<FROM_SIGNED>(op, a), b as u32);
        saturated::<TO_SIGNED>(context, op.d_width, value)
    };
    add_high<const SUBTRACT, const ROUND>(context, op, a, b, c) {
        let sum = if SUBTRACT { a.wrapping_sub(b) } else { a.wrapping_add(b) };
        let half = if ROUND { 1 << (op.d_width.bits() - 1) } else { 0 };
        sum.wrapping_add(half) >> op.d_width.bits()
    };
    unsigned_reciprocal(context, op, a, b, c) {
        u64::from(crate::float::arm::unsigned_reciprocal_estimate(a as u32))
    };
    unsigned_reciprocal_root(context, op, a, b, c) {
        u64::from(crate::float::arm::unsigned_reciprocal_root_estimate(a as u32))
    };
}

/// Half of what a number loses that is cut to the upper half of twice its width.
fn half<const ROUND: bool>(width: Width) -> i128 {
    if ROUND { 1 << (width.bits() - 1) } else { 0 }
}

/// `value >> amount`, rounded to nearest if asked for; the amount is at most 64.
fn right<const ROUND: bool>(value: i128, amount: u32) -> i128 {
    let half = if ROUND && amount > 0 { 1i128 << (amount - 1) } else { 0 };
    (value + half) >> amount
}

/// A shift to the left, or to the right by a negative amount of down to -128.
fn shifted<const SIGNED: bool, const ROUND: bool, const SATURATE: bool>(
    context: &mut Context,
    width: Width,
    value: i128,
    amount: i32,
) -> u64 {
    // Beyond the width everything goes out; the sign stays.
    let limit = width.bits() as i32 + 1;
    if amount < 0 {
        return right::<ROUND>(value, amount.max(-limit).unsigned_abs()) as u64;
    }
    if !SATURATE {
        return if amount >= width.bits() as i32 { 0 } else { (value << amount) as u64 };
    }
    // A number of 64 bits shifted by as many still fits.
    let wide = if value == 0 { 0 } else { value << amount.min(62) };
    let wide = if amount > 62 && value != 0 { wide.saturating_mul(4) } else { wide };
    saturated::<SIGNED>(context, width, wide)
}

/// The product of polynomials over bits.
pub(super) fn carryless(a: u64, b: u64) -> u128 {
    let bits = (0..64).filter(|bit| b >> bit & 1 == 1);
    bits.fold(0, |product, bit| product ^ u128::from(a) << bit)
}

/// Chooses among instances by flags.
macro_rules! by_flags {
    ($name:ident, $a:expr) => {
        match $a {
            true => $name::<true>,
            false => $name::<false>,
        }
    };
    ($name:ident, $a:expr, $b:expr) => {
        match ($a, $b) {
            (true, true) => $name::<true, true>,
            (true, false) => $name::<true, false>,
            (false, true) => $name::<false, true>,
            (false, false) => $name::<false, false>,
        }
    };
    ($name:ident, $a:expr, $b:expr, $c:expr) => {
        match ($a, $b, $c) {
            (true, true, true) => $name::<true, true, true>,
            (true, true, false) => $name::<true, true, false>,
            (true, false, true) => $name::<true, false, true>,
            (true, false, false) => $name::<true, false, false>,
            (false, true, true) => $name::<false, true, true>,
            (false, true, false) => $name::<false, true, false>,
            (false, false, true) => $name::<false, false, true>,
            (false, false, false) => $name::<false, false, false>,
        }
    };
}

/// The function of ADDHN and its like.
pub(crate) fn high(subtract: bool, round: bool) -> Lane {
    by_flags!(add_high, subtract, round)
}

/// The function for an operation on integers; `None` if it is one of floating point.
pub(crate) fn lane(op: LaneOp) -> Option<Lane> {
    Some(match op {
        LaneOp::Copy => copy,
        LaneOp::Add => add,
        LaneOp::Sub => sub,
        LaneOp::Mul => mul,
        LaneOp::MulAdd => mul_add,
        LaneOp::MulSub => mul_sub,
        LaneOp::PolynomialMul => polynomial_mul,
        LaneOp::HalvingAdd { signed, round } => by_flags!(halving_add, signed, round),
        LaneOp::HalvingSub { signed } => by_flags!(halving_sub, signed),
        LaneOp::SaturatingAdd { signed } => by_flags!(saturating_add, signed),
        LaneOp::SaturatingSub { signed } => by_flags!(saturating_sub, signed),
        LaneOp::SaturatingAddMixed { signed } => by_flags!(saturating_add_mixed, signed),
        LaneOp::Max { signed } => by_flags!(max, signed),
        LaneOp::Min { signed } => by_flags!(min, signed),
        LaneOp::AbsoluteDifference { signed } => by_flags!(distance, signed),
        LaneOp::AbsoluteDifferenceAdd { signed } => by_flags!(distance_add, signed),
        LaneOp::Compare { with, signed } => match with {
            Comparison::Equal => equal,
            Comparison::Greater => by_flags!(greater, signed),
            Comparison::GreaterOrEqual => by_flags!(greater_or_equal, signed),
            // The manual has these with the operands the other way round.
            Comparison::Less | Comparison::LessOrEqual => return None,
        },
        LaneOp::CompareZero(with) => match with {
            Comparison::Equal => equal_zero,
            Comparison::Greater => greater_zero,
            Comparison::GreaterOrEqual => greater_or_equal_zero,
            Comparison::Less => less_zero,
            Comparison::LessOrEqual => less_or_equal_zero,
        },
        LaneOp::TestBits => test_bits,
        LaneOp::ShiftByRegister { signed, round, saturate } => {
            by_flags!(shift_by_register, signed, round, saturate)
        }
        LaneOp::DoublingMulHigh { round } => by_flags!(doubling_mul_high, round),
        LaneOp::DoublingMulHighAdd { subtract } => by_flags!(doubling_mul_high_add, subtract),
        LaneOp::DoublingMulLong => doubling_mul_long,
        LaneOp::DoublingMulLongAdd { subtract } => by_flags!(doubling_mul_long_add, subtract),
        LaneOp::Abs => absolute,
        LaneOp::Neg => negated,
        LaneOp::SaturatingAbs => saturating_absolute,
        LaneOp::SaturatingNeg => saturating_negated,
        LaneOp::Cls => leading_signs,
        LaneOp::Clz => leading_zeros,
        LaneOp::CountBits => count_bits,
        LaneOp::ReverseBits => reverse_bits,
        LaneOp::ShiftRight { signed, round, accumulate } => {
            by_flags!(shift_right, signed, round, accumulate)
        }
        LaneOp::ShiftLeft => shift_left,
        LaneOp::ShiftLeftInsert => shift_left_insert,
        LaneOp::ShiftRightInsert => shift_right_insert,
        LaneOp::SaturatingShiftLeft { signed } => by_flags!(saturating_shift_left, signed),
        LaneOp::SaturatingShiftLeftUnsigned => saturating_shift_left_unsigned,
        LaneOp::Narrow { round } => by_flags!(narrow, round),
        LaneOp::SaturatingNarrow { from_signed, to_signed, round } => {
            by_flags!(saturating_narrow, from_signed, to_signed, round)
        }
        LaneOp::UnsignedReciprocalEstimate => unsigned_reciprocal,
        LaneOp::UnsignedReciprocalRootEstimate => unsigned_reciprocal_root,
        _ => return None,
    })
}
