//! Bitmask immediates: a run of ones, rotated, repeated across the register.
//!
//! Source: Arm ARM, shared pseudocode `DecodeBitMasks`.

use crate::Width;

/// `N:immr:imms` of `value`, if it is a bitmask immediate of `width` (32 or 64).
pub(super) fn encode(value: u64, width: Width) -> Option<(u32, u32, u32)> {
    let value = match width {
        Width::W64 => value,
        _ => (value & 0xffff_ffff) | value << 32,
    };
    if value == 0 || value == u64::MAX {
        return None;
    }
    // The shortest element that, repeated, gives the value.
    let mut size = 64;
    while size > 2 {
        let half = size / 2;
        let mask = (1u64 << half) - 1;
        if value & mask != value >> half & mask {
            break;
        }
        size = half;
    }
    let mask = u64::MAX >> (64 - size);
    let element = value & mask;
    let ones = element.count_ones();
    // The rotation that brings the run of ones down to bit 0.
    let rotation =
        (0..size).find(|&r| rotate_right(element, size - r, size) == u64::MAX >> (64 - ones))?;
    let n = u32::from(size == 64);
    let imms = (!(size * 2 - 1) & 0x3f) | (ones - 1);
    Some((n, rotation % size, imms))
}

/// The value of `N:immr:imms` at `width`; `None` for reserved encodings.
pub(super) fn decode(n: u32, immr: u32, imms: u32, width: Width) -> Option<u64> {
    let length = (n << 6 | (!imms & 0x3f)).checked_ilog2()?;
    if length < 1 || (width != Width::W64 && n != 0) {
        return None;
    }
    let size = 1 << length;
    let (s, r) = (imms & (size - 1), immr & (size - 1));
    if s == size - 1 {
        return None;
    }
    let element = rotate_right(u64::MAX >> (63 - s), r, size);
    let mut value = element;
    let mut filled = size;
    while filled < 64 {
        value |= value << filled;
        filled *= 2;
    }
    Some(value & width.mask())
}

fn rotate_right(value: u64, by: u32, size: u32) -> u64 {
    let mask = u64::MAX >> (64 - size);
    let by = by % size;
    if by == 0 { value & mask } else { (value >> by | value << (size - by)) & mask }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_bitmask_immediate_encodes_to_itself() {
        let mut count = 0;
        for width in [Width::W32, Width::W64] {
            for n in 0..2u32 {
                for immr in 0..64u32 {
                    for imms in 0..64u32 {
                        // Bits of immr above the element's size are ignored; the encoder clears them.
                        let size = 1 << (n << 6 | (!imms & 0x3f)).checked_ilog2().unwrap_or(0);
                        if immr >= size {
                            continue;
                        }
                        if let Some(value) = decode(n, immr, imms, width) {
                            count += 1;
                            assert_eq!(encode(value, width), Some((n, immr, imms)), "{value:#x}");
                        }
                    }
                }
            }
        }
        // Sizes 2 to 64: (size - 1) lengths times size rotations each; without 64 for 32 bits.
        let of = |size: u32| (size - 1) * size;
        let narrow = of(2) + of(4) + of(8) + of(16) + of(32);
        assert_eq!(count, narrow + narrow + of(64));
    }

    #[test]
    fn values_that_are_no_repeated_run_are_refused() {
        for value in [0, u64::MAX, 5, 0x1234_5678, 0xff00_ff01] {
            assert_eq!(encode(value, Width::W64), None, "{value:#x}");
        }
        assert_eq!(encode(0xffff_ffff, Width::W32), None);
        assert_eq!(decode(1, 0, 0x3c, Width::W64), Some(0x1fff_ffff_ffff_ffff));
        assert_eq!(decode(0, 0, 0x3c, Width::W64), Some(0x5555_5555_5555_5555));
    }
}
