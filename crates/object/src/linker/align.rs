//! Alignment of addresses.

pub(crate) fn align_up(value: u64, align: u64) -> u64 {
    value.next_multiple_of(align.max(1))
}
