//! What becomes of floating-point elements: in the format that their width says, by the rules that FPCR says.
//!
//! Source: Arm ARM, C7.2, the instruction that each is named after.

use std::cmp::Ordering;

use sotto_isa::Width;
use sotto_isa::arm64::vector::{Comparison, LaneOp, Rounding};

use super::{Context, Lane, VectorOp};
use crate::float::softfloat::{
    self, Arithmetic, Env, F16, F32, F64, Format, HostFormat, Rounding as Round,
};
use crate::float::{arm, fused};

/// Evaluates an expression with the format of a width.
macro_rules! by_format {
    ($width:expr, $format:ident => $value:expr) => {
        match $width {
            Width::W16 => {
                type $format = F16;
                $value
            }
            Width::W32 => {
                type $format = F32;
                $value
            }
            _ => {
                type $format = F64;
                $value
            }
        }
    };
}

/// Does something under the rules for a width, and keeps what it told.
fn under<T>(context: &mut Context, width: Width, compute: impl FnOnce(&mut Env) -> T) -> T {
    let mut env = context.env(width);
    let result = compute(&mut env);
    context.raised |= env.raised;
    result
}

/// The result of the host, if it must be the same and raises nothing. A result as small as a normal number can be is left
/// to softfloat, since it may have been tiny before rounding.
#[inline(always)]
pub(super) fn quick<F: HostFormat>(op: Arithmetic, a: u64, b: u64) -> Option<u64> {
    softfloat::quick::<F>(op, a, b)
        .filter(|result| result & !F::SIGN == 0 || result & !F::SIGN > 1 << F::FRACTION)
}

/// A sum, difference, product or quotient.
pub(super) fn arithmetic(
    context: &mut Context,
    op: Arithmetic,
    width: Width,
    a: u64,
    b: u64,
) -> u64 {
    if context.ordinary {
        let known = match width {
            Width::W32 => quick::<F32>(op, a, b),
            Width::W64 => quick::<F64>(op, a, b),
            _ => None,
        };
        if let Some(result) = known {
            return result;
        }
    }
    under(context, width, |env| by_format!(width, F => softfloat::arithmetic::<F>(op, a, b, env)))
}

/// `a * b + c`, rounded once.
pub(super) fn mul_add(context: &mut Context, width: Width, a: u64, b: u64, c: u64) -> u64 {
    if context.ordinary {
        let ordinary = |result: u64, infinity: u64, smallest: u64| {
            let magnitude = result & infinity;
            magnitude != infinity && magnitude > smallest
        };
        match width {
            Width::W32 => {
                let of = |bits: u64| f32::from_bits(bits as u32);
                let result = u64::from(of(a).mul_add(of(b), of(c)).to_bits());
                if ordinary(result, F32::INFINITY, 1 << F32::FRACTION) {
                    return result;
                }
            }
            Width::W64 => {
                let result = f64::from_bits(a).mul_add(f64::from_bits(b), f64::from_bits(c));
                if ordinary(result.to_bits(), F64::INFINITY, 1 << F64::FRACTION) {
                    return result.to_bits();
                }
            }
            _ => {}
        }
    }
    under(context, width, |env| by_format!(width, F => fused::mul_add::<F>(c, a, b, env)))
}

/// The bit of the sign at a width.
pub(super) fn sign(width: Width) -> u64 {
    width.sign_bit()
}

fn add(context: &mut Context, op: &VectorOp, a: u64, b: u64, _: u64) -> u64 {
    arithmetic(context, Arithmetic::Add, op.width, a, b)
}

fn sub(context: &mut Context, op: &VectorOp, a: u64, b: u64, _: u64) -> u64 {
    arithmetic(context, Arithmetic::Sub, op.width, a, b)
}

fn mul(context: &mut Context, op: &VectorOp, a: u64, b: u64, _: u64) -> u64 {
    arithmetic(context, Arithmetic::Mul, op.width, a, b)
}

fn mul_negated(context: &mut Context, op: &VectorOp, a: u64, b: u64, _: u64) -> u64 {
    arithmetic(context, Arithmetic::Mul, op.width, a, b) ^ sign(op.width)
}

fn div(context: &mut Context, op: &VectorOp, a: u64, b: u64, _: u64) -> u64 {
    arithmetic(context, Arithmetic::Div, op.width, a, b)
}

fn distance(context: &mut Context, op: &VectorOp, a: u64, b: u64, _: u64) -> u64 {
    arithmetic(context, Arithmetic::Sub, op.width, a, b) & !sign(op.width)
}

fn mul_extended(context: &mut Context, op: &VectorOp, a: u64, b: u64, _: u64) -> u64 {
    under(context, op.width, |env| by_format!(op.width, F => arm::mul_extended::<F>(a, b, env)))
}

fn mul_added(context: &mut Context, op: &VectorOp, a: u64, b: u64, c: u64) -> u64 {
    mul_add(context, op.width, a, b, c)
}

fn mul_subtracted(context: &mut Context, op: &VectorOp, a: u64, b: u64, c: u64) -> u64 {
    mul_add(context, op.width, a ^ sign(op.width), b, c)
}

fn extreme<const LARGER: bool, const NUMBER: bool>(
    context: &mut Context,
    op: &VectorOp,
    a: u64,
    b: u64,
    _: u64,
) -> u64 {
    let want = if LARGER { Ordering::Greater } else { Ordering::Less };
    under(context, op.width, |env| {
        by_format!(op.width, F => match NUMBER {
            true => arm::extreme_number::<F>(want, a, b, env),
            false => arm::extreme::<F>(want, a, b, env),
        })
    })
}

fn absolute(_: &mut Context, op: &VectorOp, a: u64, _: u64, _: u64) -> u64 {
    a & !sign(op.width)
}

fn negated(_: &mut Context, op: &VectorOp, a: u64, _: u64, _: u64) -> u64 {
    a ^ sign(op.width)
}

fn root(context: &mut Context, op: &VectorOp, a: u64, _: u64, _: u64) -> u64 {
    if context.ordinary {
        let known = match op.width {
            Width::W32 => softfloat::quick_sqrt::<F32>(a),
            Width::W64 => softfloat::quick_sqrt::<F64>(a),
            _ => None,
        };
        if let Some(result) = known {
            return result;
        }
    }
    under(context, op.width, |env| by_format!(op.width, F => softfloat::sqrt::<F>(a, env)))
}

/// How two numbers compare; `None` if either is a NaN.
pub(super) fn compare(
    context: &mut Context,
    width: Width,
    a: u64,
    b: u64,
    signaling: bool,
) -> Option<Ordering> {
    under(
        context,
        width,
        |env| by_format!(width, F => softfloat::compare::<F>(a, b, signaling, env)),
    )
}

fn holds(with: Comparison, order: Option<Ordering>) -> u64 {
    let holds = match with {
        Comparison::Equal => order == Some(Ordering::Equal),
        Comparison::Greater => order == Some(Ordering::Greater),
        Comparison::GreaterOrEqual => order.is_some_and(Ordering::is_ge),
        Comparison::Less => order == Some(Ordering::Less),
        Comparison::LessOrEqual => order.is_some_and(Ordering::is_le),
    };
    if holds { u64::MAX } else { 0 }
}

/// Comparisons, whose number among [`COMPARISONS`] is `WITH`; only one for equality takes quiet NaNs as they are.
fn compared<const WITH: usize, const ABSOLUTE: bool, const ZERO: bool>(
    context: &mut Context,
    op: &VectorOp,
    a: u64,
    b: u64,
    _: u64,
) -> u64 {
    let with = COMPARISONS[WITH];
    let mask = if ABSOLUTE { !sign(op.width) } else { u64::MAX };
    let b = if ZERO { 0 } else { b & mask };
    holds(with, compare(context, op.width, a & mask, b, with != Comparison::Equal))
}

const COMPARISONS: [Comparison; 5] = [
    Comparison::Equal,
    Comparison::Greater,
    Comparison::GreaterOrEqual,
    Comparison::Less,
    Comparison::LessOrEqual,
];

fn rounding(how: Rounding, env: &Env) -> Round {
    match how {
        Rounding::Nearest => Round::Nearest,
        Rounding::Away => Round::Away,
        Rounding::Up => Round::Up,
        Rounding::Down => Round::Down,
        Rounding::Zero => Round::TowardsZero,
        Rounding::Current => env.rounding,
    }
}

/// All ways of rounding, for functions that are given the number of one.
const WAYS: [Rounding; 6] = [
    Rounding::Nearest,
    Rounding::Away,
    Rounding::Up,
    Rounding::Down,
    Rounding::Zero,
    Rounding::Current,
];

fn round_whole<const HOW: usize, const EXACT: bool>(
    context: &mut Context,
    op: &VectorOp,
    a: u64,
    _: u64,
    _: u64,
) -> u64 {
    under(context, op.width, |env| {
        let how = rounding(WAYS[HOW], env);
        by_format!(op.width, F => softfloat::round_whole::<F>(a, how, !EXACT, env))
    })
}

/// To an integer of so many bits, with bits after the point.
pub(super) fn to_integer(
    context: &mut Context,
    from: Width,
    to: Width,
    value: u64,
    signed: bool,
    fraction_bits: u8,
    how: Rounding,
) -> u64 {
    under(context, from, |env| {
        let how = rounding(how, env);
        let bits = to.bits();
        by_format!(from, F => {
            arm::to_fixed::<F>(value, bits, signed, u32::from(fraction_bits), how, env)
        })
    })
}

/// From an integer of so many bits, with bits after the point.
pub(super) fn from_integer(
    context: &mut Context,
    from: Width,
    to: Width,
    value: u64,
    signed: bool,
    fraction_bits: u8,
) -> u64 {
    let number = if signed { from.sign_extend(value) } else { 0 };
    let (negative, magnitude) = match signed {
        true => (number < 0, number.unsigned_abs()),
        false => (false, value & from.mask()),
    };
    under(context, to, |env| {
        by_format!(to, F => {
            arm::from_fixed::<F>(negative, magnitude, u32::from(fraction_bits), env)
        })
    })
}

fn lane_to_integer<const SIGNED: bool, const HOW: usize>(
    context: &mut Context,
    op: &VectorOp,
    a: u64,
    _: u64,
    _: u64,
) -> u64 {
    to_integer(context, op.width, op.width, a, SIGNED, op.fraction_bits, WAYS[HOW])
}

fn lane_from_integer<const SIGNED: bool>(
    context: &mut Context,
    op: &VectorOp,
    a: u64,
    _: u64,
    _: u64,
) -> u64 {
    from_integer(context, op.width, op.width, a, SIGNED, op.fraction_bits)
}

fn convert(context: &mut Context, op: &VectorOp, a: u64, _: u64, _: u64) -> u64 {
    converted(context, op, a, None)
}

fn convert_to_odd(context: &mut Context, op: &VectorOp, a: u64, _: u64, _: u64) -> u64 {
    converted(context, op, a, Some(Round::Odd))
}

fn converted(context: &mut Context, op: &VectorOp, a: u64, how: Option<Round>) -> u64 {
    let mut env = context.env(Width::W64).for_conversion(op.n_width.bits(), op.d_width.bits());
    env.rounding = how.unwrap_or(env.rounding);
    let result = by_format!(op.n_width, F => {
        by_format!(op.d_width, T => softfloat::convert::<F, T>(a, &mut env))
    });
    context.raised |= env.raised;
    result
}

fn reciprocal_estimate(context: &mut Context, op: &VectorOp, a: u64, _: u64, _: u64) -> u64 {
    under(context, op.width, |env| by_format!(op.width, F => arm::reciprocal_estimate::<F>(a, env)))
}

fn reciprocal_root_estimate(context: &mut Context, op: &VectorOp, a: u64, _: u64, _: u64) -> u64 {
    under(
        context,
        op.width,
        |env| by_format!(op.width, F => arm::reciprocal_root_estimate::<F>(a, env)),
    )
}

fn reciprocal_exponent(context: &mut Context, op: &VectorOp, a: u64, _: u64, _: u64) -> u64 {
    under(context, op.width, |env| by_format!(op.width, F => arm::reciprocal_exponent::<F>(a, env)))
}

fn reciprocal_step(context: &mut Context, op: &VectorOp, a: u64, b: u64, _: u64) -> u64 {
    under(
        context,
        op.width,
        |env| by_format!(op.width, F => fused::reciprocal_step::<F>(a, b, env)),
    )
}

fn reciprocal_root_step(context: &mut Context, op: &VectorOp, a: u64, b: u64, _: u64) -> u64 {
    under(
        context,
        op.width,
        |env| by_format!(op.width, F => fused::reciprocal_root_step::<F>(a, b, env)),
    )
}

/// The function for an operation on floating-point numbers; `None` if it is one on integers.
pub(crate) fn lane(op: LaneOp) -> Option<Lane> {
    Some(match op {
        LaneOp::FAdd => add,
        LaneOp::FSub => sub,
        LaneOp::FMul => mul,
        LaneOp::FMulNegated => mul_negated,
        LaneOp::FMulExtended => mul_extended,
        LaneOp::FDiv => div,
        LaneOp::FMulAdd { subtract: false } => mul_added,
        LaneOp::FMulAdd { subtract: true } => mul_subtracted,
        LaneOp::FMax => extreme::<true, false>,
        LaneOp::FMin => extreme::<false, false>,
        LaneOp::FMaxNumber => extreme::<true, true>,
        LaneOp::FMinNumber => extreme::<false, true>,
        LaneOp::FAbs => absolute,
        LaneOp::FNeg => negated,
        LaneOp::FSqrt => root,
        LaneOp::FAbsoluteDifference => distance,
        LaneOp::FCompare { with, absolute } => match (with, absolute) {
            (Comparison::Equal, _) => compared::<0, false, false>,
            (Comparison::Greater, false) => compared::<1, false, false>,
            (Comparison::Greater, true) => compared::<1, true, false>,
            (Comparison::GreaterOrEqual, false) => compared::<2, false, false>,
            (Comparison::GreaterOrEqual, true) => compared::<2, true, false>,
            // The manual has these with the operands the other way round.
            (Comparison::Less | Comparison::LessOrEqual, _) => return None,
        },
        LaneOp::FCompareZero(with) => match with {
            Comparison::Equal => compared::<0, false, true>,
            Comparison::Greater => compared::<1, false, true>,
            Comparison::GreaterOrEqual => compared::<2, false, true>,
            Comparison::Less => compared::<3, false, true>,
            Comparison::LessOrEqual => compared::<4, false, true>,
        },
        LaneOp::FRound { how, exact } => match (how, exact) {
            (Rounding::Nearest, _) => round_whole::<0, false>,
            (Rounding::Away, _) => round_whole::<1, false>,
            (Rounding::Up, _) => round_whole::<2, false>,
            (Rounding::Down, _) => round_whole::<3, false>,
            (Rounding::Zero, _) => round_whole::<4, false>,
            (Rounding::Current, false) => round_whole::<5, false>,
            (Rounding::Current, true) => round_whole::<5, true>,
        },
        LaneOp::FReciprocalEstimate => reciprocal_estimate,
        LaneOp::FReciprocalRootEstimate => reciprocal_root_estimate,
        LaneOp::FReciprocalExponent => reciprocal_exponent,
        LaneOp::FReciprocalStep => reciprocal_step,
        LaneOp::FReciprocalRootStep => reciprocal_root_step,
        LaneOp::FToInteger { signed, how } => match (how, signed) {
            (Rounding::Nearest, true) => lane_to_integer::<true, 0>,
            (Rounding::Nearest, false) => lane_to_integer::<false, 0>,
            (Rounding::Away, true) => lane_to_integer::<true, 1>,
            (Rounding::Away, false) => lane_to_integer::<false, 1>,
            (Rounding::Up, true) => lane_to_integer::<true, 2>,
            (Rounding::Up, false) => lane_to_integer::<false, 2>,
            (Rounding::Down, true) => lane_to_integer::<true, 3>,
            (Rounding::Down, false) => lane_to_integer::<false, 3>,
            (Rounding::Zero, true) => lane_to_integer::<true, 4>,
            (Rounding::Zero, false) => lane_to_integer::<false, 4>,
            (Rounding::Current, true) => lane_to_integer::<true, 5>,
            (Rounding::Current, false) => lane_to_integer::<false, 5>,
        },
        LaneOp::FFromInteger { signed: true } => lane_from_integer::<true>,
        LaneOp::FFromInteger { signed: false } => lane_from_integer::<false>,
        LaneOp::FConvert => convert,
        LaneOp::FConvertToOdd => convert_to_odd,
        _ => return None,
    })
}
