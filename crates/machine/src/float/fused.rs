//! Fused multiplication and addition: the sum of a product and a number, rounded once.

use std::cmp::Ordering;

use super::softfloat::{
    Class, Env, Format, INVALID, Number, Rounding, is_nan, is_signaling, propagate, round, signed,
    unpack,
};

/// A number that is exact: `significand * 2^exponent`, or zero.
struct Exact {
    negative: bool,
    exponent: i32,
    significand: u128,
}

/// The sum of a product of finite numbers that are not zero, and of a finite number or zero; the significand is zero if
/// the sum is. The lowest bit stands for anything nonzero below it.
fn sum(a: &Number, b: &Number, c: &Number, rounding: Rounding) -> Exact {
    let negative = a.negative != b.negative;
    // Of 64-bit significands with at least 11 zeros below, a product has at least 22.
    let product = (u128::from(a.significand) * u128::from(b.significand)) >> 2;
    let exponent = a.exponent + b.exponent - 124;
    if c.class == Class::Zero {
        return Exact { negative, exponent, significand: product };
    }
    let addend = u128::from(c.significand) << 62;
    let addend_exponent = c.exponent - 125;
    let lowered = |value: u128, distance: u32| {
        let shifted = value.checked_shr(distance).unwrap_or(0);
        let lost = distance >= 128 || shifted << distance != value;
        shifted | u128::from(lost)
    };
    let (exponent, product, addend) = match exponent.cmp(&addend_exponent) {
        Ordering::Equal => (exponent, product, addend),
        Ordering::Greater => {
            (exponent, product, lowered(addend, (exponent - addend_exponent) as u32))
        }
        Ordering::Less => {
            (addend_exponent, lowered(product, (addend_exponent - exponent) as u32), addend)
        }
    };
    if negative == c.negative {
        return Exact { negative, exponent, significand: product + addend };
    }
    match product.cmp(&addend) {
        Ordering::Equal => Exact { negative: rounding == Rounding::Down, exponent, significand: 0 },
        Ordering::Greater => Exact { negative, exponent, significand: product - addend },
        Ordering::Less => Exact { negative: c.negative, exponent, significand: addend - product },
    }
}

/// What the product of zero and infinity is taken for, where it is no invalid operation.
#[derive(Copy, Clone, PartialEq, Eq)]
enum ZeroTimesInfinity {
    Invalid,
    /// Zero, so that the addend comes out.
    Nothing,
}

/// `(a * b + c) * 2^scale`, where `c` is the first operand in the order in which NaNs come out.
fn mul_add_scaled<F: Format>(
    [c, a, b]: [u64; 3],
    scale: i32,
    zero_times_infinity: ZeroTimesInfinity,
    env: &mut Env,
) -> u64 {
    let (z, x, y) = (unpack::<F>(c, env), unpack::<F>(a, env), unpack::<F>(b, env));
    let meaningless = matches!(
        (x.class, y.class),
        (Class::Infinite, Class::Zero) | (Class::Zero, Class::Infinite)
    );
    if [c, a, b].into_iter().any(is_nan::<F>) {
        // A product of zero and infinity is invalid beside a quiet NaN too.
        if meaningless && is_nan::<F>(c) && !is_signaling::<F>(c) {
            env.raise(INVALID);
            return env.default_nan::<F>();
        }
        return propagate_three::<F>([c, a, b], env);
    }
    let negative = x.negative != y.negative;
    if meaningless && zero_times_infinity == ZeroTimesInfinity::Nothing {
        return round::<F>(z.negative, z.exponent - 63 + scale, u128::from(z.significand), env);
    }
    let infinite = x.class == Class::Infinite || y.class == Class::Infinite;
    if meaningless || (infinite && z.class == Class::Infinite && z.negative != negative) {
        env.raise(INVALID);
        return env.default_nan::<F>();
    }
    if z.class == Class::Infinite {
        return signed::<F>(z.negative, F::INFINITY);
    }
    if infinite {
        return signed::<F>(negative, F::INFINITY);
    }
    if x.class == Class::Zero || y.class == Class::Zero {
        if z.class == Class::Zero {
            let sign = match negative == z.negative {
                true => negative,
                false => env.rounding == Rounding::Down,
            };
            return signed::<F>(sign, 0);
        }
        let significand = u128::from(z.significand);
        return round::<F>(z.negative, z.exponent - 63 + scale, significand, env);
    }
    let exact = sum(&x, &y, &z, env.rounding);
    if exact.significand == 0 {
        return signed::<F>(exact.negative, 0);
    }
    round::<F>(exact.negative, exact.exponent + scale, exact.significand, env)
}

/// The NaN that comes out of three operands, of which one is: a signaling one before quiet ones.
fn propagate_three<F: Format>(operands: [u64; 3], env: &mut Env) -> u64 {
    let signaling = operands.into_iter().find(|bits| is_signaling::<F>(*bits));
    let quiet = operands.into_iter().find(|bits| is_nan::<F>(*bits));
    let first = signaling.or(quiet).unwrap_or(0);
    propagate::<F>(first, first, env).unwrap_or(0)
}

/// `a * b + c`. Source: Arm ARM, shared pseudocode `FPMulAdd`.
pub(crate) fn mul_add<F: Format>(c: u64, a: u64, b: u64, env: &mut Env) -> u64 {
    mul_add_scaled::<F>([c, a, b], 0, ZeroTimesInfinity::Invalid, env)
}

/// `2 - a * b`, where zero times infinity is zero. Source: Arm ARM, shared pseudocode `FPRecipStepFused`.
pub(crate) fn reciprocal_step<F: Format>(a: u64, b: u64, env: &mut Env) -> u64 {
    let two = (F::BIAS as u64 + 1) << F::FRACTION;
    step::<F>(two, a, b, 0, env)
}

/// `(3 - a * b) / 2`, where zero times infinity is zero. Source: Arm ARM, shared pseudocode `FPRSqrtStepFused`.
pub(crate) fn reciprocal_root_step<F: Format>(a: u64, b: u64, env: &mut Env) -> u64 {
    let three = (F::BIAS as u64 + 1) << F::FRACTION | F::QUIET;
    step::<F>(three, a, b, -1, env)
}

fn step<F: Format>(constant: u64, a: u64, b: u64, scale: i32, env: &mut Env) -> u64 {
    // The sign is turned round before NaNs are looked for.
    let a = a ^ F::SIGN;
    if let Some(nan) = propagate::<F>(a, b, env) {
        return nan;
    }
    mul_add_scaled::<F>([constant, a, b], scale, ZeroTimesInfinity::Nothing, env)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::float::softfloat::{F32, F64};
    use proptest::prelude::*;

    proptest! {
        /// The host's own fused operation rounds to nearest as the standard says.
        #[test]
        fn to_nearest_is_what_the_host_computes(a: u64, b: u64, c: u64) {
            let host = f64::from_bits(a).mul_add(f64::from_bits(b), f64::from_bits(c));
            let ours = f64::from_bits(mul_add::<F64>(c, a, b, &mut Env::arm(0)));
            prop_assert!(ours.to_bits() == host.to_bits() || (ours.is_nan() && host.is_nan()));
        }

        #[test]
        fn numbers_of_like_size_cancel(a in 0u32..1 << 24, b in 0u32..1 << 24, low in -4i64..5) {
            let of = |n: u32| f32::from_bits(0x3f80_0000 | n & 0x7f_ffff);
            let (a, b) = (of(a), of(b));
            let product = f64::from(a) * f64::from(b);
            let c = f32::from_bits(((-product) as f32).to_bits().wrapping_add(low as u32));
            let host = a.mul_add(b, c);
            let bits = |x: f32| u64::from(x.to_bits());
            let ours = mul_add::<F32>(bits(c), bits(a), bits(b), &mut Env::arm(0)) as u32;
            prop_assert_eq!(ours, host.to_bits());
        }
    }
}
