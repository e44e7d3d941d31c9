//! What a regular file holds: blocks that snapshots share, and holes between them.

use std::collections::BTreeMap;
use std::sync::Arc;

/// Bytes of a block.
pub(crate) const BLOCK_BYTES: usize = 4096;

/// The bytes of a regular file. Blocks that were never written are holes, which read as zeros.
#[derive(Clone, Default)]
pub(crate) struct Content {
    length: u64,
    blocks: BTreeMap<u64, Arc<[u8; BLOCK_BYTES]>>,
}

impl Content {
    /// A file that holds these bytes.
    pub fn of(bytes: &[u8]) -> Content {
        let mut content = Content::default();
        content.write(0, bytes);
        content
    }

    /// Bytes of the file.
    pub fn len(&self) -> u64 {
        self.length
    }

    /// Bytes that its blocks take.
    pub fn allocated(&self) -> u64 {
        (self.blocks.len() * BLOCK_BYTES) as u64
    }

    /// Reads bytes from an offset on; how many there were.
    pub fn read(&self, offset: u64, bytes: &mut [u8]) -> usize {
        let count = self.length.saturating_sub(offset).min(bytes.len() as u64) as usize;
        let mut done = 0;
        while done < count {
            let at = offset + done as u64;
            let (number, start) = (at / BLOCK_BYTES as u64, (at % BLOCK_BYTES as u64) as usize);
            let take = (BLOCK_BYTES - start).min(count - done);
            match self.blocks.get(&number) {
                Some(block) => {
                    bytes[done..done + take].copy_from_slice(&block[start..start + take]);
                }
                None => bytes[done..done + take].fill(0),
            }
            done += take;
        }
        count
    }

    /// Writes bytes at an offset, whose end must not be beyond the largest number.
    pub fn write(&mut self, offset: u64, bytes: &[u8]) {
        let mut done = 0;
        while done < bytes.len() {
            let at = offset + done as u64;
            let (number, start) = (at / BLOCK_BYTES as u64, (at % BLOCK_BYTES as u64) as usize);
            let take = (BLOCK_BYTES - start).min(bytes.len() - done);
            let block = self.blocks.entry(number).or_insert_with(|| Arc::new([0; BLOCK_BYTES]));
            Arc::make_mut(block)[start..start + take].copy_from_slice(&bytes[done..done + take]);
            done += take;
        }
        if !bytes.is_empty() {
            self.length = self.length.max(offset + bytes.len() as u64);
        }
    }

    /// Fills the holes between two offsets with blocks of zeros, also beyond the end.
    pub fn allocate(&mut self, start: u64, end: u64) {
        for number in start / BLOCK_BYTES as u64..end.div_ceil(BLOCK_BYTES as u64) {
            self.blocks.entry(number).or_insert_with(|| Arc::new([0; BLOCK_BYTES]));
        }
    }

    /// Cuts the file, or adds a hole.
    pub fn set_length(&mut self, length: u64) {
        if length < self.length {
            let end = length.div_ceil(BLOCK_BYTES as u64);
            drop(self.blocks.split_off(&end));
        }
        let rest = (length % BLOCK_BYTES as u64) as usize;
        if rest != 0
            && length < self.length
            && let Some(block) = self.blocks.get_mut(&(length / BLOCK_BYTES as u64))
        {
            Arc::make_mut(block)[rest..].fill(0);
        }
        self.length = length;
    }

    /// The first offset from `offset` on that lies in a block; `None` if there is none before the end.
    pub fn next_data(&self, offset: u64) -> Option<u64> {
        let first = offset / BLOCK_BYTES as u64;
        let (number, _) = self.blocks.range(first..).next()?;
        Some((number * BLOCK_BYTES as u64).max(offset)).filter(|found| *found < self.length)
    }

    /// The first offset from `offset` on that lies in a hole; the end of the file counts as one.
    pub fn next_hole(&self, offset: u64) -> u64 {
        let mut at = offset;
        while at < self.length && self.blocks.contains_key(&(at / BLOCK_BYTES as u64)) {
            at = (at / BLOCK_BYTES as u64 + 1) * BLOCK_BYTES as u64;
        }
        at.min(self.length)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn text(content: &Content, offset: u64, count: usize) -> Vec<u8> {
        let mut bytes = vec![0xff; count];
        let count = content.read(offset, &mut bytes);
        bytes.truncate(count);
        bytes
    }

    #[test]
    fn bytes_are_read_back_across_blocks_and_holes_are_zeros() {
        let mut content = Content::of(b"tide");
        content.write(4094, b"north");
        assert_eq!(content.len(), 4099);
        assert_eq!(text(&content, 4092, 100), b"\0\0north");
        content.write(20_000, b"x");
        assert_eq!((content.allocated(), content.len()), (3 * 4096, 20_001));
        assert_eq!(text(&content, 9000, 2), [0, 0]);
        assert_eq!((content.next_hole(0), content.next_data(8192)), (8192, Some(16384)));
        assert_eq!((content.next_data(20_001), content.next_hole(20_000)), (None, 20_001));
    }

    #[test]
    fn what_was_cut_off_does_not_come_back() {
        let mut content = Content::of(b"lamps and bells");
        let before = content.clone();
        content.set_length(5);
        content.set_length(15);
        assert_eq!(text(&content, 0, 20), b"lamps\0\0\0\0\0\0\0\0\0\0");
        assert_eq!(text(&before, 0, 20), b"lamps and bells");
    }
}
