//! Operand widths.

use serde::{Deserialize, Serialize};

/// The width of an operand, in bits.
#[derive(Copy, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Debug, Serialize, Deserialize)]
pub enum Width {
    /// 8 bits: a byte on every machine.
    W8,
    /// 16 bits: a word on x86, a halfword on ARM.
    W16,
    /// 32 bits: a doubleword on x86, a word on ARM.
    W32,
    /// 64 bits: a quadword on x86, a doubleword on ARM.
    W64,
    /// 128 bits: a vector register.
    W128,
}

impl Width {
    /// Every width, narrowest first.
    pub const ALL: [Width; 5] = [Width::W8, Width::W16, Width::W32, Width::W64, Width::W128];

    /// Bits: 8 to 128.
    pub const fn bits(self) -> u32 {
        8 << self as u32
    }

    /// Bytes: 1 to 16.
    pub const fn bytes(self) -> u64 {
        1 << self as u64
    }

    /// Bits that a number of this width has of the 64 that we compute with.
    const fn number_bits(self) -> u32 {
        match self {
            Width::W128 => 64,
            width => width.bits(),
        }
    }

    /// A value with the low `bits()` bits set; all 64 for a vector.
    pub const fn mask(self) -> u64 {
        u64::MAX >> (64 - self.number_bits())
    }

    /// The most significant bit of the width; of its low half for a vector.
    pub const fn sign_bit(self) -> u64 {
        1 << (self.number_bits() - 1)
    }

    /// The low bits of `value`, sign-extended to 64 bits.
    pub const fn sign_extend(self, value: u64) -> i64 {
        let unused = 64 - self.number_bits();
        ((value << unused) as i64) >> unused
    }

    /// The width of `bytes` bytes, if there is one.
    pub const fn from_bytes(bytes: u64) -> Option<Width> {
        match bytes {
            1 => Some(Width::W8),
            2 => Some(Width::W16),
            4 => Some(Width::W32),
            8 => Some(Width::W64),
            16 => Some(Width::W128),
            _ => None,
        }
    }

    /// The word that x86 sources put before a memory operand of this width.
    pub const fn x86_keyword(self) -> &'static str {
        match self {
            Width::W8 => "byte",
            Width::W16 => "word",
            Width::W32 => "dword",
            Width::W64 => "qword",
            Width::W128 => "xmmword",
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sign_extension_keeps_the_low_bits_and_copies_the_sign() {
        let cases = [
            (Width::W8, 0x80, -128),
            (Width::W8, 0x17f, 127),
            (Width::W16, 0x8000, -32768),
            (Width::W32, 0xffff_ffff, -1),
            (Width::W64, u64::MAX, -1),
        ];
        for (width, value, wanted) in cases {
            assert_eq!(width.sign_extend(value), wanted, "{width:?} {value:#x}");
        }
    }

    #[test]
    fn bytes_and_widths_are_each_others_inverse() {
        for width in Width::ALL {
            assert_eq!(Width::from_bytes(width.bytes()), Some(width));
        }
        for width in &Width::ALL[..4] {
            assert_eq!(width.mask().count_ones(), width.bits());
        }
        assert_eq!(Width::from_bytes(3), None);
    }
}
