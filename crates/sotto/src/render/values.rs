//! Values in the bases in which they are read.

/// A value before and after.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Changed {
    /// It is the same.
    Same(String),
    /// It was the first and is the second.
    From(String, String),
}

/// A value of a width in bits: decimal if it is small, else hex with what else it may be read as.
pub fn value(value: u64, bits: u32) -> String {
    let mut out = String::new();
    push_value(&mut out, value, bits);
    out
}

/// The same, added to a text.
pub fn push_value(out: &mut String, value: u64, bits: u32) {
    if value < 10 {
        return push_decimal(out, value);
    }
    push_hex(out, value);
    let unused = 64 - bits;
    let signed = ((value << unused) as i64) >> unused;
    let mut separator = " (";
    if (-(1 << 31)..0).contains(&signed) {
        out.push_str(" (-");
        push_decimal(out, signed.unsigned_abs());
        separator = ", ";
        if bits < 32 {
            out.push_str(separator);
            push_decimal(out, value);
        }
    } else if value < 1 << 20 {
        out.push_str(separator);
        push_decimal(out, value);
        separator = ", ";
    }
    if let (8 | 32 | 64, 0x20..0x7f) = (bits, value) {
        out.push_str(separator);
        out.push('\'');
        out.push(char::from(value as u8));
        out.push('\'');
        separator = ", ";
    }
    if separator == ", " {
        out.push(')');
    }
}

/// Adds a number in decimal. A trace has several in each of its millions of lines.
pub fn push_decimal(out: &mut String, mut value: u64) {
    let mut digits = [0; 20];
    let mut at = digits.len();
    loop {
        at -= 1;
        digits[at] = b'0' + (value % 10) as u8;
        value /= 10;
        if value == 0 {
            break;
        }
    }
    // Digits are ASCII.
    out.push_str(str::from_utf8(&digits[at..]).unwrap_or_default());
}

/// Adds a number in hex, after `0x`.
pub fn push_hex(out: &mut String, value: u64) {
    let count = (64 - (value | 1).leading_zeros()).div_ceil(4) as usize;
    let mut digits = [0; 16];
    for (at, digit) in digits[..count].iter_mut().rev().enumerate() {
        *digit = b"0123456789abcdef"[(value >> (4 * at)) as usize & 15];
    }
    out.push_str("0x");
    out.push_str(str::from_utf8(&digits[..count]).unwrap_or_default());
}

/// A change of a value to an address, which is not read as a number.
pub fn address_change(old: u64, new: u64) -> Changed {
    let hex = |value: u64| if value < 10 { value.to_string() } else { format!("{value:#x}") };
    match old == new {
        true => Changed::Same(hex(new)),
        false => Changed::From(hex(old), hex(new)),
    }
}

/// A change of a value of a width in bits.
pub fn value_change(old: u64, new: u64, bits: u32) -> Changed {
    match old == new {
        true => Changed::Same(value(new, bits)),
        false => Changed::From(value(old, bits), value(new, bits)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_show_the_readings_that_differ() {
        let cases = [
            (0, 64, "0"),
            (9, 8, "9"),
            (42, 32, "0x2a (42, '*')"),
            (0x4c, 8, "0x4c (76, 'L')"),
            (0xff, 8, "0xff (-1, 255)"),
            (0xffff_ffff, 32, "0xffffffff (-1)"),
            (u64::MAX, 64, "0xffffffffffffffff (-1)"),
            (0x40_2000, 64, "0x402000"),
            (0x8000_0000, 32, "0x80000000 (-2147483648)"),
            (10, 16, "0xa (10)"),
            (0x20, 64, "0x20 (32, ' ')"),
            (1000, 16, "0x3e8 (1000)"),
        ];
        for (input, bits, wanted) in cases {
            assert_eq!(value(input, bits), wanted);
        }
    }
}
