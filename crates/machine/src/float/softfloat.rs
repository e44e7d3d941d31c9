//! Floating-point arithmetic to the bit, as the processors do it.
//!
//! Pure functions of bit patterns and of control bits: results and exception flags out. The
//! host's own arithmetic is asked only where it must agree and no flag can change (`quick`).
//! Where x86 and Arm differ (which NaN comes out, when a result is tiny, what is told of denormals), [`Env`] says whose
//! rules hold.
//!
//! A finite number that is not zero is unpacked to a 64-bit significand whose top bit is set, and
//! an exponent; `round` packs any 128-bit significand back, and is where rounding, overflow and
//! underflow happen. On x86 tininess is detected after rounding, on Arm before.
//!
//! Sources: SDM Vol. 1, 4.8 and 11.5; Arm ARM, A1.5 and the shared pseudocode `FPRound`, `FPProcessNaNs`; IEEE 754.

use std::cmp::Ordering;

/// Exception flags, at their bits in MXCSR. Source: SDM Vol. 1, 10.2.3.
pub(crate) const INVALID: u32 = 1;
pub(crate) const DENORMAL: u32 = 2;
pub(crate) const ZERO_DIVIDE: u32 = 4;
pub(crate) const OVERFLOW: u32 = 8;
pub(crate) const UNDERFLOW: u32 = 16;
pub(crate) const PRECISION: u32 = 32;
/// Exceptions that are known before the result is.
pub(crate) const BEFORE: u32 = INVALID | DENORMAL | ZERO_DIVIDE;

const DENORMALS_ARE_ZEROS: u32 = 1 << 6;
const FLUSH_TO_ZERO: u32 = 1 << 15;
/// Shift from an exception's flag to its mask.
pub(crate) const MASK_SHIFT: u32 = 7;

/// How results are rounded. Source: SDM Vol. 1, 4.8.4, table 4-8.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) enum Rounding {
    Nearest,
    Down,
    Up,
    TowardsZero,
    /// To nearest, ties away from zero: of Arm's conversions.
    Away,
    /// An inexact result gets an odd last bit: of FCVTXN.
    Odd,
}

impl Rounding {
    /// From the two bits that MXCSR and the immediate of ROUNDSD have for it.
    pub fn of_bits(bits: u32) -> Rounding {
        match bits & 3 {
            0 => Rounding::Nearest,
            1 => Rounding::Down,
            2 => Rounding::Up,
            _ => Rounding::TowardsZero,
        }
    }
}

/// The control bits under which an operation runs, and the flags that it has raised.
#[derive(Copy, Clone, Debug)]
pub(crate) struct Env {
    pub rounding: Rounding,
    denormals_are_zeros: bool,
    flush_to_zero: bool,
    underflow_masked: bool,
    overflow_masked: bool,
    /// The rules of Arm hold, else those of x86.
    arm: bool,
    /// Every NaN that comes out is the default one.
    default_nan: bool,
    /// Half precision has no infinities and NaNs, and one more exponent.
    alternative_half: bool,
    pub raised: u32,
}

impl Env {
    pub fn new(mxcsr: u32) -> Env {
        let underflow_masked = mxcsr & UNDERFLOW << MASK_SHIFT != 0;
        Env {
            rounding: Rounding::of_bits(mxcsr >> 13),
            denormals_are_zeros: mxcsr & DENORMALS_ARE_ZEROS != 0,
            flush_to_zero: mxcsr & FLUSH_TO_ZERO != 0 && underflow_masked,
            underflow_masked,
            overflow_masked: mxcsr & OVERFLOW << MASK_SHIFT != 0,
            arm: false,
            default_nan: false,
            alternative_half: false,
            raised: 0,
        }
    }

    /// By FPCR. Source: Arm ARM, C5.2 "FPCR". Traps are not modelled, as on most processors.
    pub fn arm(fpcr: u32) -> Env {
        Env {
            rounding: match fpcr >> 22 & 3 {
                0 => Rounding::Nearest,
                1 => Rounding::Up,
                2 => Rounding::Down,
                _ => Rounding::TowardsZero,
            },
            denormals_are_zeros: fpcr & 1 << 24 != 0,
            flush_to_zero: fpcr & 1 << 24 != 0,
            underflow_masked: true,
            overflow_masked: true,
            arm: true,
            default_nan: fpcr & 1 << 25 != 0,
            alternative_half: fpcr & 1 << 26 != 0,
            raised: 0,
        }
    }

    /// The same for operations on half precision, which has a bit of its own for denormals.
    pub fn arm_half(fpcr: u32) -> Env {
        let flushes = fpcr & 1 << 19 != 0;
        Env { denormals_are_zeros: flushes, flush_to_zero: flushes, ..Env::arm(fpcr) }
    }

    /// The same for a conversion between formats of so many bits: denormals of half precision are always numbers.
    pub fn for_conversion(self, from_bits: u32, to_bits: u32) -> Env {
        Env {
            denormals_are_zeros: self.denormals_are_zeros && from_bits != 16,
            flush_to_zero: self.flush_to_zero && to_bits != 16,
            ..self
        }
    }

    /// The same, rounding toward zero and with nothing told.
    pub fn cutting(self) -> Env {
        Env { rounding: Rounding::TowardsZero, raised: 0, ..self }
    }

    /// Whether results that are no normal numbers become zero.
    pub fn flushes(&self) -> bool {
        self.flush_to_zero
    }

    /// What invalid operations give.
    pub fn default_nan<F: Format>(&self) -> u64 {
        if self.arm { F::INFINITY | F::QUIET } else { F::INDEFINITE }
    }

    pub fn raise(&mut self, flags: u32) {
        self.raised |= flags;
    }
}

/// A format, by its host type. Bit patterns are passed as `u64`.
pub(crate) trait Format {
    /// Bits of the format.
    const BITS: u32;
    /// Bits of the stored fraction.
    const FRACTION: u32;

    /// The sign bit.
    const SIGN: u64 = 1 << (Self::BITS - 1);
    /// The largest exponent field: infinities and NaNs.
    const MAX_FIELD: u64 = (1 << (Self::BITS - 1 - Self::FRACTION)) - 1;
    const BIAS: i32 = (Self::MAX_FIELD / 2) as i32;
    const INFINITY: u64 = Self::MAX_FIELD << Self::FRACTION;
    /// The bit that makes a NaN a quiet one.
    const QUIET: u64 = 1 << (Self::FRACTION - 1);
    /// What invalid operations give.
    const INDEFINITE: u64 = Self::SIGN | Self::INFINITY | Self::QUIET;
}

/// A format that the host computes with.
pub(crate) trait HostFormat: Format {
    /// The host's sum, difference, product or quotient of two numbers.
    fn host(op: Arithmetic, a: u64, b: u64) -> u64;
    /// The host's square root.
    fn host_sqrt(a: u64) -> u64;
}

/// The four operations.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) enum Arithmetic {
    Add,
    Sub,
    Mul,
    Div,
}

macro_rules! formats {
    ($($name:ident $float:ty, $bits:ty, $width:literal, $fraction:literal;)*) => {
        $(
            pub(crate) struct $name;
            impl Format for $name {
                const BITS: u32 = $width;
                const FRACTION: u32 = $fraction;
            }

            impl HostFormat for $name {
                #[inline]
                fn host(op: Arithmetic, a: u64, b: u64) -> u64 {
                    let (a, b) = (<$float>::from_bits(a as $bits), <$float>::from_bits(b as $bits));
                    let result = match op {
                        Arithmetic::Add => a + b,
                        Arithmetic::Sub => a - b,
                        Arithmetic::Mul => a * b,
                        Arithmetic::Div => a / b,
                    };
                    u64::from(result.to_bits())
                }

                #[inline]
                fn host_sqrt(a: u64) -> u64 {
                    u64::from(<$float>::from_bits(a as $bits).sqrt().to_bits())
                }
            }
        )*
    };
}
formats! {
    F32 f32, u32, 32, 23;
    F64 f64, u64, 64, 52;
}

/// Half precision.
pub(crate) struct F16;

impl Format for F16 {
    const BITS: u32 = 16;
    const FRACTION: u32 = 10;
}

/// What kind of number a bit pattern is.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(super) enum Class {
    Zero,
    Finite,
    Infinite,
    Nan,
}

/// A number taken apart. For finite ones the value is `significand * 2^(exponent - 63)`.
#[derive(Copy, Clone, Debug)]
pub(super) struct Number {
    pub class: Class,
    pub negative: bool,
    pub exponent: i32,
    pub significand: u64,
    pub denormal: bool,
}

pub(crate) fn is_nan<F: Format>(bits: u64) -> bool {
    bits & !F::SIGN > F::INFINITY
}

pub(crate) fn is_signaling<F: Format>(bits: u64) -> bool {
    is_nan::<F>(bits) && bits & F::QUIET == 0
}

pub(super) fn unpack<F: Format>(bits: u64, env: &mut Env) -> Number {
    let negative = bits & F::SIGN != 0;
    let field = bits >> F::FRACTION & F::MAX_FIELD;
    let fraction = bits & ((1 << F::FRACTION) - 1);
    let number = |class, exponent, significand| Number {
        class,
        negative,
        exponent,
        significand,
        denormal: false,
    };
    match (field, fraction) {
        (0, 0) => number(Class::Zero, 0, 0),
        (0, _) if env.denormals_are_zeros => {
            // Of halves nothing is told.
            env.raise(if env.arm && F::BITS != 16 { DENORMAL } else { 0 });
            number(Class::Zero, 0, 0)
        }
        (0, _) => {
            let shift = fraction.leading_zeros();
            let exponent = 1 - F::BIAS - F::FRACTION as i32 + 63 - shift as i32;
            Number { denormal: !env.arm, ..number(Class::Finite, exponent, fraction << shift) }
        }
        (field, 0) if field == F::MAX_FIELD => number(Class::Infinite, 0, 0),
        (field, _) if field == F::MAX_FIELD => number(Class::Nan, 0, 0),
        _ => {
            let significand = (1 << F::FRACTION | fraction) << (63 - F::FRACTION);
            number(Class::Finite, field as i32 - F::BIAS, significand)
        }
    }
}

pub(super) fn signed<F: Format>(negative: bool, magnitude: u64) -> u64 {
    if negative { F::SIGN | magnitude } else { magnitude }
}

/// Whether a magnitude is rounded up: `lowest` is the last bit kept, `rest` what is beyond it in units
/// of half of that bit: 0 nothing, 1 less than half, 2 half, 3 more.
fn rounds_up(rounding: Rounding, negative: bool, lowest: bool, rest: u8) -> bool {
    match rounding {
        Rounding::Nearest => rest == 3 || (rest == 2 && lowest),
        Rounding::Down => negative && rest != 0,
        Rounding::Up => !negative && rest != 0,
        Rounding::Away => rest >= 2,
        Rounding::Odd => rest != 0 && !lowest,
        Rounding::TowardsZero => false,
    }
}

/// `significand >> shift`, rounded; and whether anything was lost.
fn shift_rounded(
    significand: u128,
    shift: u32,
    rounding: Rounding,
    negative: bool,
) -> (u128, bool) {
    if shift == 0 {
        return (significand, false);
    }
    let (kept, rest) = if shift > 128 {
        (0, 1)
    } else {
        let kept = significand.checked_shr(shift).unwrap_or(0);
        let half = 1u128 << (shift - 1);
        let lost = if shift == 128 { significand } else { significand & ((half << 1) - 1) };
        let rest = match lost.cmp(&half) {
            _ if lost == 0 => 0,
            Ordering::Less => 1,
            Ordering::Equal => 2,
            Ordering::Greater => 3,
        };
        (kept, rest)
    };
    let up = rounds_up(rounding, negative, kept & 1 != 0, rest);
    (kept + u128::from(up), rest != 0)
}

/// The number `significand * 2^exponent` in the format. The significand is not zero; its lowest bit may
/// stand for anything nonzero below it.
pub(super) fn round<F: Format>(
    negative: bool,
    exponent: i32,
    significand: u128,
    env: &mut Env,
) -> u64 {
    let shift = significand.leading_zeros();
    let significand = significand << shift;
    // The value is in [2^top, 2^(top + 1)).
    let top = exponent - shift as i32 + 127;
    let excess = 127 - F::FRACTION;
    let lowest = 1 - F::BIAS;
    let rounded = shift_rounded(significand, excess, env.rounding, negative);
    let carried = rounded.0 >> (F::FRACTION + 1) != 0;
    if top + i32::from(carried && !env.arm) < lowest {
        return tiny::<F>(negative, top, significand, rounded.1, env);
    }
    if top < lowest {
        // Below the normal numbers, and rounded up to the smallest of them all the same.
        let (kept, lost) =
            shift_rounded(significand, excess + (lowest - top) as u32, env.rounding, negative);
        env.raise(if lost { PRECISION } else { 0 });
        return signed::<F>(negative, kept as u64);
    }
    let top = top + i32::from(carried);
    let fraction = if carried { rounded.0 >> 1 } else { rounded.0 } as u64;
    if top > F::BIAS {
        env.raise(OVERFLOW | if env.overflow_masked || rounded.1 { PRECISION } else { 0 });
        let to_infinity = match env.rounding {
            Rounding::Nearest => true,
            Rounding::Down => negative,
            Rounding::Up => !negative,
            Rounding::Away => true,
            Rounding::TowardsZero | Rounding::Odd => false,
        };
        return signed::<F>(negative, F::INFINITY - u64::from(!to_infinity));
    }
    env.raise(if rounded.1 { PRECISION } else { 0 });
    let field = (top + F::BIAS) as u64;
    signed::<F>(negative, field << F::FRACTION | fraction & ((1 << F::FRACTION) - 1))
}

/// A result that is too small for the normal numbers even after rounding.
fn tiny<F: Format>(
    negative: bool,
    top: i32,
    significand: u128,
    inexact: bool,
    env: &mut Env,
) -> u64 {
    if env.flush_to_zero {
        env.raise(if env.arm { UNDERFLOW } else { UNDERFLOW | PRECISION });
        return signed::<F>(negative, 0);
    }
    let shift = (127 - F::FRACTION) as i64 + i64::from(1 - F::BIAS - top);
    let (kept, lost) = shift_rounded(significand, shift as u32, env.rounding, negative);
    if !env.underflow_masked {
        // Not masked, underflow is told of exact results as well, and precision as if the exponent
        // had no bounds.
        env.raise(UNDERFLOW | if inexact { PRECISION } else { 0 });
    } else if lost {
        env.raise(UNDERFLOW | PRECISION);
    }
    signed::<F>(negative, kept as u64)
}

/// The result if an operand is a NaN: the first that is one, made quiet; on Arm a signaling one before quiet ones.
pub(crate) fn propagate<F: Format>(a: u64, b: u64, env: &mut Env) -> Option<u64> {
    if !is_nan::<F>(a) && !is_nan::<F>(b) {
        return None;
    }
    if is_signaling::<F>(a) || is_signaling::<F>(b) {
        env.raise(INVALID);
    }
    if env.default_nan {
        return Some(env.default_nan::<F>());
    }
    if env.arm && is_signaling::<F>(b) && !is_signaling::<F>(a) {
        return Some(b | F::QUIET);
    }
    Some(if is_nan::<F>(a) { a } else { b } | F::QUIET)
}

pub(super) fn invalid<F: Format>(env: &mut Env) -> u64 {
    env.raise(INVALID);
    env.default_nan::<F>()
}

/// Tells of operands that are denormal.
pub(super) fn note_denormal(a: &Number, b: &Number, env: &mut Env) {
    if a.denormal || b.denormal {
        env.raise(DENORMAL);
    }
}

/// Sum, difference, product or quotient.
pub(crate) fn arithmetic<F: Format>(op: Arithmetic, a: u64, b: u64, env: &mut Env) -> u64 {
    let (x, y) = (unpack::<F>(a, env), unpack::<F>(b, env));
    if let Some(nan) = propagate::<F>(a, b, env) {
        return nan;
    }
    match op {
        Arithmetic::Add => add::<F>(x, y, env),
        Arithmetic::Sub => add::<F>(x, Number { negative: !y.negative, ..y }, env),
        Arithmetic::Mul => multiply::<F>(x, y, env),
        Arithmetic::Div => divide::<F>(x, y, env),
    }
}

fn add<F: Format>(a: Number, b: Number, env: &mut Env) -> u64 {
    match (a.class, b.class) {
        (Class::Infinite, Class::Infinite) if a.negative != b.negative => return invalid::<F>(env),
        (Class::Infinite, _) => {
            note_denormal(&a, &b, env);
            return signed::<F>(a.negative, F::INFINITY);
        }
        (_, Class::Infinite) => {
            note_denormal(&a, &b, env);
            return signed::<F>(b.negative, F::INFINITY);
        }
        _ => note_denormal(&a, &b, env),
    }
    if a.class == Class::Zero && b.class == Class::Zero {
        let negative = match a.negative == b.negative {
            true => a.negative,
            false => env.rounding == Rounding::Down,
        };
        return signed::<F>(negative, 0);
    }
    if a.class == Class::Zero {
        return round::<F>(b.negative, b.exponent - 63, u128::from(b.significand), env);
    }
    if b.class == Class::Zero {
        return round::<F>(a.negative, a.exponent - 63, u128::from(a.significand), env);
    }
    let (large, small) = match (a.exponent, a.significand) < (b.exponent, b.significand) {
        true => (b, a),
        false => (a, b),
    };
    // One bit is left for a carry; what is shifted out is remembered in the lowest bit.
    let distance = (large.exponent - small.exponent) as u32;
    let (wide, narrow) = (u128::from(large.significand) << 63, u128::from(small.significand) << 63);
    let shifted = narrow.checked_shr(distance).unwrap_or(0);
    let lost = distance >= 128 || shifted << distance != narrow;
    let narrow = shifted | u128::from(lost);
    let sum = match large.negative == small.negative {
        true => wide + narrow,
        false => wide - narrow,
    };
    if sum == 0 {
        return signed::<F>(env.rounding == Rounding::Down, 0);
    }
    round::<F>(large.negative, large.exponent - 126, sum, env)
}

fn multiply<F: Format>(a: Number, b: Number, env: &mut Env) -> u64 {
    let negative = a.negative != b.negative;
    match (a.class, b.class) {
        (Class::Infinite, Class::Zero) | (Class::Zero, Class::Infinite) => {
            return invalid::<F>(env);
        }
        _ => note_denormal(&a, &b, env),
    }
    if a.class == Class::Infinite || b.class == Class::Infinite {
        return signed::<F>(negative, F::INFINITY);
    }
    if a.class == Class::Zero || b.class == Class::Zero {
        return signed::<F>(negative, 0);
    }
    let product = u128::from(a.significand) * u128::from(b.significand);
    round::<F>(negative, a.exponent + b.exponent - 126, product, env)
}

fn divide<F: Format>(a: Number, b: Number, env: &mut Env) -> u64 {
    let negative = a.negative != b.negative;
    match (a.class, b.class) {
        (Class::Infinite, Class::Infinite) | (Class::Zero, Class::Zero) => {
            return invalid::<F>(env);
        }
        (Class::Finite, Class::Zero) => {
            env.raise(ZERO_DIVIDE);
            return signed::<F>(negative, F::INFINITY);
        }
        _ => note_denormal(&a, &b, env),
    }
    match (a.class, b.class) {
        (Class::Infinite, _) => return signed::<F>(negative, F::INFINITY),
        (Class::Zero, _) | (_, Class::Infinite) => return signed::<F>(negative, 0),
        _ => {}
    }
    let (dividend, divisor) = (u128::from(a.significand) << 63, u128::from(b.significand));
    let (quotient, remainder) = (dividend / divisor, dividend % divisor);
    let quotient = quotient << 1 | u128::from(remainder != 0);
    round::<F>(negative, a.exponent - b.exponent - 64, quotient, env)
}

/// Square root.
pub(crate) fn sqrt<F: Format>(a: u64, env: &mut Env) -> u64 {
    let x = unpack::<F>(a, env);
    if let Some(nan) = propagate::<F>(a, a, env) {
        return nan;
    }
    match x.class {
        Class::Zero => return signed::<F>(x.negative, 0),
        _ if x.negative => return invalid::<F>(env),
        Class::Infinite => return F::INFINITY,
        _ => note_denormal(&x, &x, env),
    }
    // An even exponent, and a significand of up to 128 bits.
    let odd = x.exponent & 1;
    let wide = u128::from(x.significand) << (63 + odd);
    let root = wide.isqrt();
    let inexact = root * root != wide;
    round::<F>(false, (x.exponent - odd) / 2 - 64, root << 1 | u128::from(inexact), env)
}

/// The order of two numbers that are no NaNs.
pub(super) fn order(a: &Number, b: &Number) -> Ordering {
    let magnitude = |n: &Number| match n.class {
        Class::Zero => (0, 0, 0),
        Class::Infinite => (2, 0, 0),
        _ => (1, n.exponent, n.significand),
    };
    let sign = |n: &Number| if n.class == Class::Zero { 0 } else { 1 - 2 * i32::from(n.negative) };
    match sign(a).cmp(&sign(b)) {
        Ordering::Equal if a.negative => magnitude(b).cmp(&magnitude(a)),
        Ordering::Equal => magnitude(a).cmp(&magnitude(b)),
        different => different,
    }
}

/// Compares; `None` if either is a NaN, of which a quiet one is an invalid operand if `signaling`.
pub(crate) fn compare<F: Format>(
    a: u64,
    b: u64,
    signaling: bool,
    env: &mut Env,
) -> Option<Ordering> {
    let (x, y) = (unpack::<F>(a, env), unpack::<F>(b, env));
    if is_nan::<F>(a) || is_nan::<F>(b) {
        if signaling || is_signaling::<F>(a) || is_signaling::<F>(b) {
            env.raise(INVALID);
        }
        return None;
    }
    note_denormal(&x, &y, env);
    // Both zeros, of either sign, are equal.
    if x.class == Class::Zero && y.class == Class::Zero {
        return Some(Ordering::Equal);
    }
    Some(order(&x, &y))
}

/// A denormal as the zero that it counts as, if it does.
pub(crate) fn as_zero<F: Format>(bits: u64, env: &mut Env) -> u64 {
    let number = unpack::<F>(bits, env);
    if number.class == Class::Zero { bits & F::SIGN } else { bits }
}

/// The smaller or larger; the second if either is a NaN or if both are zero.
pub(crate) fn choose<F: Format>(want: Ordering, a: u64, b: u64, env: &mut Env) -> u64 {
    match compare::<F>(a, b, true, env) {
        Some(order) if order == want => as_zero::<F>(a, env),
        _ => as_zero::<F>(b, env),
    }
}

/// To the other format, which may be the same.
pub(crate) fn convert<F: Format, T: Format>(a: u64, env: &mut Env) -> u64 {
    if env.alternative_half && F::BITS == 16 {
        return from_alternative_half::<T>(a, env);
    }
    if env.alternative_half && T::BITS == 16 {
        return to_alternative_half::<F>(a, env);
    }
    if is_nan::<F>(a) {
        if is_signaling::<F>(a) {
            env.raise(INVALID);
        }
        if env.default_nan {
            return env.default_nan::<T>();
        }
        let fraction = a & ((1 << F::FRACTION) - 1);
        let moved = match T::FRACTION.checked_sub(F::FRACTION) {
            Some(more) => fraction << more,
            None => fraction >> (F::FRACTION - T::FRACTION),
        };
        return signed::<T>(a & F::SIGN != 0, T::INFINITY | T::QUIET | moved);
    }
    let x = unpack::<F>(a, env);
    note_denormal(&x, &x, env);
    match x.class {
        Class::Zero => signed::<T>(x.negative, 0),
        Class::Infinite => signed::<T>(x.negative, T::INFINITY),
        _ => round::<T>(x.negative, x.exponent - 63, u128::from(x.significand), env),
    }
}

/// From half precision without infinities and NaNs: the largest exponent is one of numbers.
fn from_alternative_half<T: Format>(a: u64, env: &mut Env) -> u64 {
    if a & F16::INFINITY != F16::INFINITY {
        let mut plain = Env { alternative_half: false, ..*env };
        return convert::<F16, T>(a, &mut plain);
    }
    let significand = u128::from(a & 0x3ff | 0x400);
    round::<T>(a & F16::SIGN != 0, 16 - 10, significand, env)
}

/// To half precision without infinities and NaNs: what does not fit is invalid, and becomes the largest number; a NaN
/// becomes zero.
fn to_alternative_half<F: Format>(a: u64, env: &mut Env) -> u64 {
    let x = unpack::<F>(a, env);
    let limit = F16::SIGN - 1;
    match x.class {
        Class::Nan => {
            env.raise(INVALID);
            signed::<F16>(x.negative, 0)
        }
        Class::Infinite => {
            env.raise(INVALID);
            signed::<F16>(x.negative, limit)
        }
        Class::Zero => signed::<F16>(x.negative, 0),
        Class::Finite if x.exponent < 15 => {
            // Below the largest exponent of plain halves, both formats are the same; rounding may carry into it.
            round::<F16>(x.negative, x.exponent - 63, u128::from(x.significand), env)
        }
        Class::Finite => {
            // As if the exponent were one less, so that the plain format has it.
            let before = env.raised;
            let lower = x.exponent - 63 - 16;
            let value = round::<F16>(x.negative, lower, u128::from(x.significand), env);
            let magnitude = (value & limit) + (16 << F16::FRACTION);
            if x.exponent > 16 || magnitude > limit {
                env.raised = before | INVALID;
                return signed::<F16>(x.negative, limit);
            }
            signed::<F16>(x.negative, magnitude)
        }
    }
}

/// From a signed integer.
pub(crate) fn from_integer<T: Format>(value: i64, env: &mut Env) -> u64 {
    if value == 0 {
        return 0;
    }
    round::<T>(value < 0, 0, u128::from(value.unsigned_abs()), env)
}

/// A finite number's magnitude as a whole number below 2^64, and whether anything was lost; `None` if
/// it is larger.
pub(super) fn whole(x: &Number, rounding: Rounding) -> Option<(u128, bool)> {
    if x.exponent > 63 {
        return None;
    }
    // The shift puts 2^0 at bit 0.
    let shift = (63 - x.exponent) as u32;
    Some(shift_rounded(u128::from(x.significand), shift, rounding, x.negative))
}

/// To a signed integer of `bits` bits; the smallest of them if it does not fit.
pub(crate) fn to_integer<F: Format>(a: u64, bits: u32, rounding: Rounding, env: &mut Env) -> u64 {
    let indefinite = 1u64 << (bits - 1);
    let x = unpack::<F>(a, env);
    let fitting = match x.class {
        Class::Zero => return 0,
        Class::Finite => whole(&x, rounding).filter(|(magnitude, _)| {
            *magnitude < u128::from(indefinite)
                || (x.negative && *magnitude == u128::from(indefinite))
        }),
        _ => None,
    };
    let Some((magnitude, lost)) = fitting else {
        env.raise(INVALID);
        return indefinite;
    };
    if lost {
        env.raise(PRECISION);
    }
    let value = if x.negative { (magnitude as u64).wrapping_neg() } else { magnitude as u64 };
    value & (u64::MAX >> (64 - bits))
}

/// Rounded to a whole number of the same format; `quiet` if a loss is not told.
pub(crate) fn round_whole<F: Format>(
    a: u64,
    rounding: Rounding,
    quiet: bool,
    env: &mut Env,
) -> u64 {
    let x = unpack::<F>(a, env);
    if let Some(nan) = propagate::<F>(a, a, env) {
        return nan;
    }
    match x.class {
        Class::Zero => return signed::<F>(x.negative, 0),
        Class::Infinite => return a,
        _ if x.exponent >= F::FRACTION as i32 => return a, // whole already
        _ => {}
    }
    let (magnitude, lost) = whole(&x, rounding).unwrap_or((0, false));
    if lost && !quiet {
        env.raise(PRECISION);
    }
    if magnitude == 0 {
        return signed::<F>(x.negative, 0);
    }
    let mut exact = Env { raised: 0, ..*env };
    round::<F>(x.negative, 0, magnitude, &mut exact)
}

/// MXCSR without its flags but the one of precision, when the host's arithmetic may be asked: every
/// exception masked, rounding to nearest, denormals as they are, and a loss told already.
const ORDINARY: u32 = 0x1f80 | PRECISION;

/// Whether nothing that the host's arithmetic can do now would go unnoticed.
#[inline]
pub(crate) fn is_ordinary(mxcsr: u32) -> bool {
    mxcsr & !(BEFORE | OVERFLOW | UNDERFLOW) == ORDINARY
}

/// Whether a number is a normal one.
#[inline]
fn is_normal<F: Format>(bits: u64) -> bool {
    let field = bits & F::INFINITY;
    field != 0 && field != F::INFINITY
}

/// The result by the host's arithmetic, if it must be the same and raises nothing: in ordinary
/// circumstances, from normal numbers and zeros to normal numbers and exact zeros.
#[inline(always)]
pub(crate) fn quick<F: HostFormat>(op: Arithmetic, a: u64, b: u64) -> Option<u64> {
    // An infinity or a NaN need not be looked for: neither comes to a normal number.
    if a & F::INFINITY != 0 && b & F::INFINITY != 0 {
        let result = F::host(op, a, b);
        if is_normal::<F>(result) {
            return Some(result);
        }
    }
    quick_with_zeros::<F>(op, a, b)
}

/// As [`quick`], where an operand or the result may be zero. Kept apart, being rarer.
#[inline(never)]
fn quick_with_zeros<F: HostFormat>(op: Arithmetic, a: u64, b: u64) -> Option<u64> {
    let zero = |bits: u64| bits & !F::SIGN == 0;
    let fine = |bits: u64| is_normal::<F>(bits) || zero(bits);
    if !(fine(a) && fine(b)) {
        return None;
    }
    let result = F::host(op, a, b);
    let exact_zero = zero(result)
        && match op {
            Arithmetic::Add | Arithmetic::Sub => true,
            Arithmetic::Mul => zero(a) || zero(b),
            Arithmetic::Div => zero(a) && !zero(b),
        };
    (is_normal::<F>(result) || exact_zero).then_some(result)
}

/// The square root by the host's arithmetic, on the same terms.
#[inline]
pub(crate) fn quick_sqrt<F: HostFormat>(a: u64) -> Option<u64> {
    (is_normal::<F>(a) && a & F::SIGN == 0).then(|| F::host_sqrt(a))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const ALL_MASKED: u32 = 0x1f80;

    fn run(op: Arithmetic, a: f64, b: f64, mxcsr: u32) -> (f64, u32) {
        let mut env = Env::new(mxcsr);
        let bits = arithmetic::<F64>(op, a.to_bits(), b.to_bits(), &mut env);
        (f64::from_bits(bits), env.raised)
    }

    #[test]
    fn examples_of_ieee_754() {
        use Arithmetic::*;
        let smallest = f64::from_bits(1);
        let cases = [
            ("a_sum_that_is_exact", Add, 1.5, 2.25, 3.75, 0),
            ("a_sum_that_is_not", Add, 1.0, 1e-30, 1.0, PRECISION),
            ("a_third", Div, 1.0, 3.0, 1.0 / 3.0, PRECISION),
            ("beyond_the_largest", Mul, 1e300, 1e300, f64::INFINITY, OVERFLOW | PRECISION),
            ("below_the_smallest", Mul, 1e-300, 1e-300, 0.0, UNDERFLOW | PRECISION),
            ("one_by_zero", Div, 1.0, 0.0, f64::INFINITY, ZERO_DIVIDE),
            ("a_denormal_operand", Add, smallest, 0.0, smallest, DENORMAL),
        ];
        for (name, op, a, b, wanted, raised) in cases {
            assert_eq!(run(op, a, b, ALL_MASKED), (wanted, raised), "{name}");
        }
        assert!(run(Sub, f64::INFINITY, f64::INFINITY, ALL_MASKED).0.is_nan());
    }

    #[test]
    fn the_rounding_mode_says_which_neighbour_a_third_becomes() {
        let third = |mode: u32| run(Arithmetic::Div, 1.0, 3.0, ALL_MASKED | mode << 13).0;
        assert_eq!(third(1), third(3));
        assert_eq!(third(2).to_bits(), third(1).to_bits() + 1);
        assert_eq!(third(0), 1.0 / 3.0);
    }

    proptest! {
        /// The host's arithmetic rounds to nearest as the standard says.
        #[test]
        fn to_nearest_is_what_the_host_computes(a: u64, b: u64) {
            for (op, host) in [
                (Arithmetic::Add, f64::from_bits(a) + f64::from_bits(b)),
                (Arithmetic::Mul, f64::from_bits(a) * f64::from_bits(b)),
                (Arithmetic::Div, f64::from_bits(a) / f64::from_bits(b)),
            ] {
                let ours = f64::from_bits(arithmetic::<F64>(op, a, b, &mut Env::new(ALL_MASKED)));
                prop_assert!(ours.to_bits() == host.to_bits() || (ours.is_nan() && host.is_nan()));
            }
        }

        #[test]
        fn a_float_made_a_double_and_back_is_itself(a: u32) {
            let mut env = Env::new(ALL_MASKED);
            let double = convert::<F32, F64>(u64::from(a), &mut env);
            let back = convert::<F64, F32>(double, &mut env) as u32;
            prop_assert!(back == a || f32::from_bits(a).is_nan());
            prop_assert_eq!(env.raised & PRECISION, 0);
        }

        #[test]
        fn whole_numbers_of_53_bits_survive(value in -(1i64 << 53)..(1 << 53)) {
            let mut env = Env::new(ALL_MASKED);
            let double = from_integer::<F64>(value, &mut env);
            prop_assert_eq!(to_integer::<F64>(double, 64, Rounding::Nearest, &mut env) as i64, value);
            prop_assert_eq!(env.raised, 0);
        }
    }
}
