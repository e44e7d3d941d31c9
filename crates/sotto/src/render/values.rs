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
    if value < 10 {
        return value.to_string();
    }
    let unused = 64 - bits;
    let signed = ((value << unused) as i64) >> unused;
    let mut readings = Vec::new();
    if (-(1 << 31)..0).contains(&signed) {
        readings.push(signed.to_string());
        if bits < 32 {
            readings.push(value.to_string());
        }
    } else if value < 1 << 20 {
        readings.push(value.to_string());
    }
    if let (8 | 32 | 64, Some(c)) =
        (bits, u8::try_from(value).ok().filter(|b| (0x20..0x7f).contains(b)))
    {
        readings.push(format!("'{}'", c as char));
    }
    match readings.is_empty() {
        true => format!("{value:#x}"),
        false => format!("{value:#x} ({})", readings.join(", ")),
    }
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
            (1000, 16, "0x3e8 (1000)"),
        ];
        for (input, bits, wanted) in cases {
            assert_eq!(value(input, bits), wanted);
        }
    }
}
