//! Vectors as elements: which kind of element an instruction works on, and elements as text.

use crate::{RegisterValue, Width};

/// What the elements of a vector are.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum LaneKind {
    /// Signed integers.
    Signed,
    /// Floating-point numbers.
    Float,
    /// Bits, shown in hex.
    Bits,
}

/// How a vector is cut into elements.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct Lanes {
    /// What the elements are.
    pub kind: LaneKind,
    /// How wide each is.
    pub width: Width,
}

impl Lanes {
    /// Elements of this kind and width.
    pub const fn new(kind: LaneKind, width: Width) -> Lanes {
        Lanes { kind, width }
    }

    /// The name of an element's type: `f64`, `i16`, `x8`.
    pub fn name(self) -> String {
        let letter = match self.kind {
            LaneKind::Signed => 'i',
            LaneKind::Float => 'f',
            LaneKind::Bits => 'x',
        };
        format!("{letter}{}", self.width.bits())
    }

    /// The elements of a register's value as text, the lowest first; `bits` of it count.
    pub fn texts(self, value: &RegisterValue, bits: u32) -> Vec<String> {
        let elements = 0..(bits / self.width.bits()) as usize;
        elements.map(|n| self.text(value.element(n, self.width))).collect()
    }

    /// A single element as text.
    pub fn element_text(self, bits: u64) -> String {
        self.text(bits)
    }

    fn text(self, bits: u64) -> String {
        let bits = bits & self.width.mask();
        match (self.kind, self.width) {
            (LaneKind::Float, Width::W32) => {
                let number = f32::from_bits(bits as u32);
                float(f64::from(number), || number.to_string(), || format!("{number:e}"))
            }
            (LaneKind::Float, _) => {
                let number = f64::from_bits(bits);
                float(number, || number.to_string(), || format!("{number:e}"))
            }
            (LaneKind::Signed, width) => width.sign_extend(bits).to_string(),
            (LaneKind::Bits, _) => format!("{bits:#x}"),
        }
    }
}

/// A float in decimal, in exponent form where that is shorter to read.
fn float(value: f64, plain: impl Fn() -> String, scientific: impl Fn() -> String) -> String {
    let size = value.abs();
    if value.is_finite() && size != 0.0 && !(1e-5..1e15).contains(&size) {
        return scientific();
    }
    if value.is_nan() {
        return "NaN".to_string();
    }
    plain()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn elements_are_listed_from_the_lowest() {
        let floats = u128::from(1.5f64.to_bits()) | u128::from((-2e40f64).to_bits()) << 64;
        assert_eq!(
            Lanes::new(LaneKind::Float, Width::W64).texts(&floats.into(), 128),
            ["1.5", "-2e40"]
        );
        let words =
            Lanes::new(LaneKind::Signed, Width::W32).texts(&0xffff_ffff_0000_0002_u128.into(), 128);
        assert_eq!(words, ["2", "-1", "0", "0"]);
        assert_eq!(
            Lanes::new(LaneKind::Bits, Width::W64).texts(&255_u128.into(), 128),
            ["0xff", "0x0"]
        );
    }
}
