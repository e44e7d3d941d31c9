//! How vector operands of A64 are cut into elements, and lists of vector registers.

use crate::{Reg, RegKind, Width};

/// How a vector register is cut into elements. Source: Arm ARM, C1.2.6 "Register names".
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct Arrangement {
    /// How wide an element is.
    pub lane: Width,
    /// How many there are: 1 to 16.
    pub lanes: u8,
}

impl Arrangement {
    /// As many elements of this width as so many bits hold.
    pub const fn filling(lane: Width, bits: u32) -> Arrangement {
        Arrangement { lane, lanes: (bits / lane.bits()) as u8 }
    }

    /// Bits of the register that count.
    pub const fn bits(self) -> u32 {
        self.lane.bits() * self.lanes as u32
    }

    /// The suffix behind the register: `4s`.
    pub fn name(self) -> String {
        format!("{}{}", self.lanes, lane_letter(self.lane))
    }

    /// The arrangement with this name, in lower case.
    pub fn parse(name: &str) -> Option<Arrangement> {
        let at = name.len().checked_sub(1)?;
        let (lanes, letter) = (name.get(..at)?, name.get(at..)?);
        let lane = lane_by_letter(letter)?;
        let lanes: u8 = lanes.parse().ok()?;
        let bits = u32::from(lanes) * lane.bits();
        (matches!(bits, 32 | 64 | 128) && name.as_bytes()[0] != b'0')
            .then_some(Arrangement { lane, lanes })
    }
}

/// The letter for elements of a width.
pub(crate) const fn lane_letter(lane: Width) -> char {
    match lane {
        Width::W8 => 'b',
        Width::W16 => 'h',
        Width::W32 => 's',
        Width::W64 => 'd',
        Width::W128 => 'q',
    }
}

/// The width of elements with this letter, in lower case.
pub fn lane_by_letter(letter: &str) -> Option<Width> {
    Width::ALL.into_iter().find(|width| letter.chars().eq([lane_letter(*width)]))
}

/// Which elements of its registers a list stands for.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum ListElements {
    /// All.
    All(Arrangement),
    /// One of each: how wide elements are, and its number from the lowest.
    One(Width, u8),
}

/// Vector registers that follow each other, the first after the last.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct RegisterList {
    /// Number of the first register.
    pub first: u8,
    /// How many there are: 1 to 4.
    pub count: u8,
    /// Which elements of them.
    pub elements: ListElements,
}

impl RegisterList {
    /// The registers, in order.
    pub fn registers(self) -> impl Iterator<Item = Reg> {
        (0..self.count).map(move |n| Reg::new(RegKind::V, (self.first + n) % 32))
    }
}
