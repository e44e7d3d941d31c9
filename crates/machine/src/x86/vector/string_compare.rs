//! The comparisons of PCMPESTRI, PCMPESTRM, PCMPISTRI and PCMPISTRM.
//!
//! Pure functions. The immediate: bits 1 to 0 the format of elements, 3 to 2 the comparison, 5 to 4 the
//! polarity, 6 the choice of index or mask.
//!
//! Source: SDM Vol. 1, 4.1 "PCMPxSTRx"; SDM Vol. 2B, 4.1.1 to 4.1.8.

use crate::x86::vector::packed::{bytes, of_bytes, of_words, words};

/// The elements of a string as numbers, in their format.
fn elements(value: u128, imm: u8) -> Vec<i32> {
    match imm & 3 {
        0 => bytes(value).iter().map(|&x| i32::from(x)).collect(),
        1 => words(value).iter().map(|&x| i32::from(x)).collect(),
        2 => bytes(value).iter().map(|&x| i32::from(x as i8)).collect(),
        _ => words(value).iter().map(|&x| i32::from(x as i16)).collect(),
    }
}

/// A bit for every element of the second string for which the comparison holds, polarity applied.
/// `lengths` are those of the first and of the second string, in elements.
pub(crate) fn matches(first: u128, second: u128, lengths: (usize, usize), imm: u8) -> u32 {
    let (a, b) = (elements(first, imm), elements(second, imm));
    let count = a.len();
    let (in_a, in_b) = (|n: usize| n < lengths.0, |n: usize| n < lengths.1);
    let holds = |j: usize| match imm >> 2 & 3 {
        // Equal to any of the first string.
        0 => in_b(j) && (0..count).any(|i| in_a(i) && a[i] == b[j]),
        // Within any of the ranges that the first string lists.
        1 => {
            in_b(j)
                && (0..count / 2).any(|r| {
                    let (low, high) = (2 * r, 2 * r + 1);
                    in_a(low) && in_a(high) && (a[low]..=a[high]).contains(&b[j])
                })
        }
        // Equal at the same place; beyond the ends of both counts as equal.
        2 => match (in_a(j), in_b(j)) {
            (true, true) => a[j] == b[j],
            (false, false) => true,
            _ => false,
        },
        // The first string starts here, as far as the second goes.
        _ => (0..count - j).all(|i| !in_a(i) || (in_b(i + j) && a[i] == b[i + j])),
    };
    let found = (0..count).filter(|&j| holds(j)).fold(0u32, |bits, j| bits | 1 << j);
    let all = (1u32 << count) - 1;
    match imm >> 4 & 3 {
        1 => found ^ all,
        3 => found ^ ((1u32 << lengths.1) - 1),
        _ => found,
    }
}

/// The first or last match, or the number of elements if there is none.
pub(crate) fn index(matches: u32, elements: u32, imm: u8) -> u64 {
    let index = match (matches, imm & 0x40) {
        (0, _) => elements,
        (_, 0) => matches.trailing_zeros(),
        _ => 31 - matches.leading_zeros(),
    };
    u64::from(index)
}

/// The matches as bits, or as elements of ones.
pub(crate) fn mask(matches: u32, imm: u8) -> u128 {
    if imm & 0x40 == 0 {
        u128::from(matches)
    } else if imm & 1 != 0 {
        of_words(std::array::from_fn(|n| if matches >> n & 1 != 0 { u16::MAX } else { 0 }))
    } else {
        of_bytes(std::array::from_fn(|n| if matches >> n & 1 != 0 { u8::MAX } else { 0 }))
    }
}
