//! Structures of the kernel in the order of memory.

/// A structure that is put together from its start.
#[derive(Default)]
pub(crate) struct Layout(pub Vec<u8>);

impl Layout {
    /// Adds numbers of so many bytes each.
    pub fn put<T: Into<u64>>(&mut self, width: usize, values: impl IntoIterator<Item = T>) {
        for value in values {
            self.0.extend(&value.into().to_le_bytes()[..width]);
        }
    }

    /// Adds zeros up to an offset from the start.
    pub fn fill_to(&mut self, offset: usize) {
        debug_assert!(self.0.len() <= offset, "{} bytes", self.0.len());
        self.0.resize(offset, 0);
    }
}

/// The number of `width` bytes at an offset of a structure.
pub(crate) fn number_at(bytes: &[u8], offset: usize, width: usize) -> u64 {
    let bytes = bytes[offset..offset + width].iter().rev();
    bytes.fold(0, |all, byte| all << 8 | u64::from(*byte))
}
