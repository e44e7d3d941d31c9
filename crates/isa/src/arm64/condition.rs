//! Conditions on the flags N, Z, C and V. Source: Arm ARM, C1.2.4 "Condition code".

use super::flag;
use crate::FlagSet;

const CONDITIONS: [&str; 16] = [
    "eq", "ne", "cs", "cc", "mi", "pl", "vs", "vc", "hi", "ls", "ge", "lt", "gt", "le", "al", "nv",
];

/// The name of a condition. Source: Arm ARM, C1.2.4.
///
/// # Panics
///
/// If `cond` is above 15.
pub fn condition_name(cond: u8) -> &'static str {
    CONDITIONS[usize::from(cond)]
}

/// The condition of this name, in lower case; `hs` and `lo` are `cs` and `cc`.
pub fn condition_by_name(name: &str) -> Option<u8> {
    let name = match name {
        "hs" => "cs",
        "lo" => "cc",
        other => other,
    };
    CONDITIONS.iter().position(|c| *c == name).map(|n| n as u8)
}

/// A condition in words.
pub fn condition_words(cond: u8) -> &'static str {
    match cond {
        0 => "equal",
        1 => "not equal",
        2 => "above or equal (unsigned)",
        3 => "below (unsigned)",
        4 => "negative",
        5 => "not negative",
        6 => "signed overflow",
        7 => "no signed overflow",
        8 => "above (unsigned)",
        9 => "below or equal (unsigned)",
        10 => "greater or equal (signed)",
        11 => "less (signed)",
        12 => "greater (signed)",
        13 => "less or equal (signed)",
        _ => "always",
    }
}

/// The flags a condition reads.
pub const fn condition_flags(cond: u8) -> FlagSet {
    match cond >> 1 {
        0 => flag::Z,
        1 => flag::C,
        2 => flag::N,
        3 => flag::V,
        4 => flag::C.with(flag::Z),
        5 => flag::N.with(flag::V),
        6 => flag::Z.with(flag::N).with(flag::V),
        _ => FlagSet::NONE,
    }
}

/// Whether a condition holds for these flags. Source: Arm ARM, shared pseudocode `ConditionHolds`.
pub const fn condition_holds(cond: u8, flags: FlagSet) -> bool {
    let n = flags.contains(flag::N);
    let z = flags.contains(flag::Z);
    let c = flags.contains(flag::C);
    let v = flags.contains(flag::V);
    let result = match cond >> 1 {
        0 => z,
        1 => c,
        2 => n,
        3 => v,
        4 => c && !z,
        5 => n == v,
        6 => n == v && !z,
        _ => return true,
    };
    result != (cond & 1 == 1)
}
