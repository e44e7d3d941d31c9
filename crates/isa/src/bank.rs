//! Banks of registers beside the general ones: their registers by number, and values wider than 64 bits.
//!
//! A machine lists its banks ([`Arch::banks`](crate::Arch::banks)); what holds, compares and shows registers uses ids and values, so that a
//! further bank adds data and no code.

use std::fmt;

use crate::{Reg, Width};

/// A bank of registers.
#[derive(Copy, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub enum Bank {
    /// Vector registers.
    Vector,
}

/// A bank that a machine has.
#[derive(Debug, PartialEq, Eq)]
pub struct BankInfo {
    /// The bank.
    pub bank: Bank,
    /// Its registers, each by its widest name.
    pub registers: &'static [Reg],
    /// Width of a register.
    pub width: Width,
}

/// A register of a bank.
#[derive(Copy, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub struct RegisterId {
    /// The bank.
    pub bank: Bank,
    /// The number in it.
    pub index: u8,
}

impl RegisterId {
    /// A vector register.
    pub const fn vector(index: u8) -> RegisterId {
        RegisterId { bank: Bank::Vector, index }
    }

    /// A bit of its own for each register of any machine's banks.
    pub const fn mask(self) -> u64 {
        match self.bank {
            Bank::Vector => 1 << self.index,
        }
    }
}

/// Words of a value.
const WORDS: usize = 8;

/// The value of a register of up to 512 bits.
#[derive(Copy, Clone, PartialEq, Eq, Hash, Default)]
pub struct RegisterValue([u64; WORDS]);

impl RegisterValue {
    /// All bits clear.
    pub const ZERO: RegisterValue = RegisterValue([0; WORDS]);

    /// 64 bits from a multiple of 64, the lowest word first.
    ///
    /// # Panics
    ///
    /// If `index` is above 7.
    pub const fn word(&self, index: usize) -> u64 {
        self.0[index]
    }

    /// The lowest 128 bits.
    pub const fn low_128(&self) -> u128 {
        self.0[0] as u128 | (self.0[1] as u128) << 64
    }

    /// An element of a width up to 64 bits, by its number from the lowest.
    ///
    /// # Panics
    ///
    /// If there is no such element.
    pub fn element(&self, index: usize, width: Width) -> u64 {
        let at = index * width.bits() as usize;
        self.0[at / 64] >> (at % 64) & width.mask()
    }
}

impl From<u128> for RegisterValue {
    fn from(value: u128) -> RegisterValue {
        let mut words = [0; WORDS];
        (words[0], words[1]) = (value as u64, (value >> 64) as u64);
        RegisterValue(words)
    }
}

impl From<[u64; WORDS]> for RegisterValue {
    fn from(words: [u64; WORDS]) -> RegisterValue {
        RegisterValue(words)
    }
}

impl fmt::LowerHex for RegisterValue {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let last = self.0.iter().rposition(|word| *word != 0).unwrap_or(0);
        let mut digits = format!("{:x}", self.0[last]);
        for word in self.0[..last].iter().rev() {
            digits += &format!("{word:016x}");
        }
        f.pad_integral(true, "0x", &digits)
    }
}

impl fmt::Debug for RegisterValue {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{self:#x}")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_read_by_elements_and_printed_without_leading_zeros() {
        let value = RegisterValue::from(0x1122_3344_5566_7788_99aa_bbcc_ddee_ff00_u128);
        assert_eq!(format!("{value:#x}"), "0x112233445566778899aabbccddeeff00");
        assert_eq!(format!("{:#x}", RegisterValue::ZERO), "0x0");
        let wide = RegisterValue::from([1, 0, 0, 0, 0, 0, 0, 0xf0]);
        let zeros = "0".repeat(6 * 16 + 15);
        assert_eq!(format!("{wide:x}"), format!("f0{zeros}1"));
        assert_eq!(
            (value.element(1, Width::W64), value.element(15, Width::W8)),
            (0x1122_3344_5566_7788, 0x11)
        );
        assert_eq!(wide.element(7, Width::W64), 0xf0);
        assert_eq!(value.low_128() as u64, 0x99aa_bbcc_ddee_ff00);
    }
}
