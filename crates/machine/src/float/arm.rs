//! What only Arm does with floating-point numbers: its maxima, estimates and conversions.
//!
//! Source: Arm ARM, shared pseudocode; the function of each is named.

use std::cmp::Ordering;

use super::softfloat::{
    Class, Env, Format, INVALID, OVERFLOW, PRECISION, Rounding, UNDERFLOW, ZERO_DIVIDE, as_zero,
    compare, is_nan, is_signaling, propagate, round, signed, unpack, whole,
};

/// The larger (`Ordering::Greater`) or smaller of two numbers; a NaN if either is one. `FPMax`, `FPMin`.
pub(crate) fn extreme<F: Format>(want: Ordering, a: u64, b: u64, env: &mut Env) -> u64 {
    let (x, y) = (unpack::<F>(a, env), unpack::<F>(b, env));
    if let Some(nan) = propagate::<F>(a, b, env) {
        return nan;
    }
    if x.class == Class::Zero && y.class == Class::Zero {
        // Plus zero is the larger.
        let negative = match want {
            Ordering::Greater => x.negative && y.negative,
            _ => x.negative || y.negative,
        };
        return signed::<F>(negative, 0);
    }
    let chosen = if compare::<F>(a, b, false, env) == Some(want) { a } else { b };
    as_zero::<F>(chosen, env)
}

/// The same, but a number comes out if the other is a quiet NaN. `FPMaxNum`, `FPMinNum`.
pub(crate) fn extreme_number<F: Format>(want: Ordering, a: u64, b: u64, env: &mut Env) -> u64 {
    let quiet = |bits: u64| is_nan::<F>(bits) && !is_signaling::<F>(bits);
    let no_number = F::INFINITY | if want == Ordering::Greater { F::SIGN } else { 0 };
    match (quiet(a), quiet(b)) {
        (true, false) => extreme::<F>(want, no_number, b, env),
        (false, true) => extreme::<F>(want, a, no_number, env),
        _ => extreme::<F>(want, a, b, env),
    }
}

/// `a * b`, where zero times infinity is 2. `FPMulX`.
pub(crate) fn mul_extended<F: Format>(a: u64, b: u64, env: &mut Env) -> u64 {
    let (x, y) = (unpack::<F>(a, env), unpack::<F>(b, env));
    if matches!((x.class, y.class), (Class::Zero, Class::Infinite) | (Class::Infinite, Class::Zero))
    {
        let two = (F::BIAS as u64 + 1) << F::FRACTION;
        return signed::<F>(x.negative != y.negative, two);
    }
    super::softfloat::arithmetic::<F>(super::softfloat::Arithmetic::Mul, a, b, env)
}

/// 8 bits of a reciprocal, from 9 bits of a number in [0.5, 1). `RecipEstimate`.
fn reciprocal_bits(a: u32) -> u32 {
    let a = a * 2 + 1;
    ((1 << 19) / a).div_ceil(2)
}

/// 8 bits of the reciprocal of a root, from 9 bits of a number in [0.25, 1). `RecipSqrtEstimate`.
fn reciprocal_root_bits(a: u32) -> u32 {
    let a = if a < 256 { a * 2 + 1 } else { ((a >> 1 << 1) + 1) * 2 };
    let mut b = 512;
    while a * (b + 1) * (b + 1) < 1 << 28 {
        b += 1;
    }
    b.div_ceil(2)
}

/// An estimate of the reciprocal. `FPRecipEstimate`.
pub(crate) fn reciprocal_estimate<F: Format>(a: u64, env: &mut Env) -> u64 {
    let x = unpack::<F>(a, env);
    if let Some(nan) = propagate::<F>(a, a, env) {
        return nan;
    }
    match x.class {
        Class::Infinite => return signed::<F>(x.negative, 0),
        Class::Zero => {
            env.raise(ZERO_DIVIDE);
            return signed::<F>(x.negative, F::INFINITY);
        }
        _ => {}
    }
    // Below 2^-(bias + 1) the reciprocal is too large.
    if x.exponent < -(F::BIAS + 1) {
        env.raise(OVERFLOW | PRECISION);
        let to_infinity = match env.rounding {
            Rounding::Up => !x.negative,
            Rounding::Down => x.negative,
            Rounding::TowardsZero => false,
            _ => true,
        };
        return signed::<F>(x.negative, F::INFINITY - u64::from(!to_infinity));
    }
    // From here up the reciprocal is no normal number.
    if env.flushes() && x.exponent >= F::BIAS - 1 {
        env.raise(UNDERFLOW);
        return signed::<F>(x.negative, 0);
    }
    let estimate = u128::from(reciprocal_bits((x.significand >> 55) as u32));
    // The estimate is 256 to 511, and stands for 1 to 2 of the reciprocal of a significand in [1, 2), halved.
    let mut exact = env.cutting();
    round::<F>(x.negative, -x.exponent - 9, estimate, &mut exact)
}

/// An estimate of the reciprocal of the root. `FPRSqrtEstimate`.
pub(crate) fn reciprocal_root_estimate<F: Format>(a: u64, env: &mut Env) -> u64 {
    let x = unpack::<F>(a, env);
    if let Some(nan) = propagate::<F>(a, a, env) {
        return nan;
    }
    match x.class {
        Class::Zero => {
            env.raise(ZERO_DIVIDE);
            return signed::<F>(x.negative, F::INFINITY);
        }
        _ if x.negative => {
            env.raise(INVALID);
            return env.default_nan::<F>();
        }
        Class::Infinite => return 0,
        _ => {}
    }
    // A significand in [0.25, 1) and an even exponent: that of a number in [1, 2) is one less than counted there.
    let odd = x.exponent & 1 != 0;
    let scaled = if odd { x.significand >> 55 } else { x.significand >> 56 } as u32;
    let estimate = u128::from(reciprocal_root_bits(scaled));
    let exponent = (x.exponent + if odd { 1 } else { 2 }) / 2;
    let mut exact = env.cutting();
    round::<F>(false, -exponent - 8, estimate, &mut exact)
}

/// The exponent turned round, and no fraction. `FPRecpX`.
pub(crate) fn reciprocal_exponent<F: Format>(a: u64, env: &mut Env) -> u64 {
    // Denormal operands may be told of.
    let _ = unpack::<F>(a, env);
    if let Some(nan) = propagate::<F>(a, a, env) {
        return nan;
    }
    let field = a >> F::FRACTION & F::MAX_FIELD;
    let turned = if field == 0 { F::MAX_FIELD - 1 } else { !field & F::MAX_FIELD };
    a & F::SIGN | turned << F::FRACTION
}

/// `URECPE` of one element.
pub(crate) fn unsigned_reciprocal_estimate(a: u32) -> u32 {
    if a >> 31 == 0 { u32::MAX } else { reciprocal_bits(a >> 23) << 23 }
}

/// `URSQRTE` of one element.
pub(crate) fn unsigned_reciprocal_root_estimate(a: u32) -> u32 {
    if a >> 30 == 0 { u32::MAX } else { reciprocal_root_bits(a >> 23) << 23 }
}

/// To an integer of `bits` bits after a multiplication by 2 to the power of `fraction_bits`; what does not fit becomes the
/// limit, a NaN zero. `FPToFixed`.
pub(crate) fn to_fixed<F: Format>(
    a: u64,
    bits: u32,
    is_signed: bool,
    fraction_bits: u32,
    rounding: Rounding,
    env: &mut Env,
) -> u64 {
    let mut x = unpack::<F>(a, env);
    let (low, high) = match is_signed {
        true => (1u128 << (bits - 1), (1u128 << (bits - 1)) - 1),
        false => (0, (1u128 << bits) - 1),
    };
    let mask = u64::MAX >> (64 - bits);
    let limit = |negative: bool| match negative {
        true => (low as u64).wrapping_neg() & mask,
        false => high as u64,
    };
    match x.class {
        Class::Zero => return 0,
        Class::Nan => {
            env.raise(INVALID);
            return 0;
        }
        Class::Infinite => {
            env.raise(INVALID);
            return limit(x.negative);
        }
        Class::Finite => x.exponent += fraction_bits as i32,
    }
    let largest = if x.negative { low } else { high };
    match whole(&x, rounding).filter(|(magnitude, _)| *magnitude <= largest) {
        Some((magnitude, lost)) => {
            env.raise(if lost { PRECISION } else { 0 });
            let value = magnitude as u64;
            if x.negative { value.wrapping_neg() & mask } else { value }
        }
        None => {
            env.raise(INVALID);
            limit(x.negative)
        }
    }
}

/// From an integer, divided by 2 to the power of `fraction_bits`. `FixedToFP`.
pub(crate) fn from_fixed<T: Format>(
    negative: bool,
    magnitude: u64,
    fraction_bits: u32,
    env: &mut Env,
) -> u64 {
    if magnitude == 0 {
        return 0;
    }
    round::<T>(negative, -(fraction_bits as i32), u128::from(magnitude), env)
}
