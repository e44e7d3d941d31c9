//! The approximations of RCPPS and RSQRTPS.
//!
//! The manual bounds their error and leaves the bits to the processor. Those measured follow one rule,
//! which this is: the operand is cut to its exponent and upper fraction bits, and the result for the
//! middle of what it then stands for is rounded to 12 bits of fraction. Denormal operands count as
//! zeros and denormal results become zeros; no exception is raised, whatever MXCSR says.
//!
//! Source: SDM Vol. 2B, RCPPS and RSQRTPS, for the special cases.

const SIGN: u32 = 1 << 31;
const INFINITY: u32 = 0x7f80_0000;
const QUIET: u32 = 1 << 22;
const INDEFINITE: u32 = SIGN | INFINITY | QUIET;
const FRACTION: u32 = 23;
const BIAS: i32 = 127;

/// A result in units of 2^-13, times a power of two.
fn pack(sign: u32, units: u32, exponent: i32) -> u32 {
    // Between 2^12 and 2^13, so that the value before scaling is in [1/2, 1).
    let field = exponent + BIAS - 1;
    if field <= 0 {
        return sign;
    }
    sign | (field as u32) << FRACTION | (units & 0xfff) << (FRACTION - 12)
}

/// About one by a float.
pub(crate) fn reciprocal(bits: u32) -> u32 {
    let (sign, magnitude) = (bits & SIGN, bits & !SIGN);
    match magnitude {
        INFINITY => return sign,
        _ if magnitude > INFINITY => return bits | QUIET,
        _ if magnitude >> FRACTION == 0 => return sign | INFINITY,
        _ => {}
    }
    // Eleven bits of the fraction, and the middle above them, in units of 2^-12.
    let middle = 4096 + 2 * (magnitude >> (FRACTION - 11) & 0x7ff) + 1;
    let units = ((1u64 << 26) + u64::from(middle)) / (2 * u64::from(middle));
    pack(sign, units as u32, BIAS - (magnitude >> FRACTION) as i32)
}

/// About one by the square root of a float.
pub(crate) fn reciprocal_root(bits: u32) -> u32 {
    let (sign, magnitude) = (bits & SIGN, bits & !SIGN);
    match magnitude {
        _ if magnitude > INFINITY => return bits | QUIET,
        _ if magnitude >> FRACTION == 0 => return sign | INFINITY,
        _ if sign != 0 => return INDEFINITE,
        INFINITY => return 0,
        _ => {}
    }
    let exponent = (magnitude >> FRACTION) as i32 - BIAS;
    let odd = exponent & 1;
    // Ten bits of the fraction, and the middle above them, in units of 2^-11.
    let middle = u64::from(2048 + 2 * (magnitude >> (FRACTION - 10) & 0x3ff) + 1) << odd;
    // Twice the root in units of 2^-13, rounded down; then half of that, rounded.
    let twice = ((1u64 << 39) / middle).isqrt();
    pack(0, twice.div_ceil(2) as u32, (odd - exponent) / 2)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_error_is_within_the_manuals_bound() {
        for step in 0..10_000u32 {
            let value = f32::from_bits(0x2000_0000 + step * 97_531);
            let r = f32::from_bits(reciprocal(value.to_bits()));
            let root = f32::from_bits(reciprocal_root(value.to_bits()));
            let bound = 1.5 / 4096.0;
            assert!((f64::from(r) * f64::from(value) - 1.0).abs() <= bound, "{value:e}");
            assert!((f64::from(root) * f64::from(value).sqrt() - 1.0).abs() <= bound, "{value:e}");
        }
    }

    #[test]
    fn special_operands() {
        let cases = [
            (f32::INFINITY, 0.0, 0.0),
            (0.0, f32::INFINITY, f32::INFINITY),
            (f32::from_bits(1), f32::INFINITY, f32::INFINITY),
        ];
        for (value, r, root) in cases {
            assert_eq!(f32::from_bits(reciprocal(value.to_bits())), r);
            assert_eq!(f32::from_bits(reciprocal_root(value.to_bits())), root);
        }
        assert_eq!(reciprocal_root((-1f32).to_bits()), INDEFINITE);
        // By the rule: 8192 / (1 + 1/4096) is 8190.0005, which is 0.999755859375.
        assert_eq!(reciprocal(1f32.to_bits()), 0x3f7f_f000);
    }
}
