//! What a regular file holds: blocks that snapshots share, and holes between them.

use std::sync::Arc;

use rpds::RedBlackTreeMapSync;

use crate::files::shown::ShownFile;

/// Bytes of a block.
pub(crate) const BLOCK_BYTES: usize = 4096;
const BLOCK: u64 = BLOCK_BYTES as u64;

/// The bytes of a regular file. Blocks that were never written are those of the file that it shows, and else holes, which
/// read as zeros.
#[derive(Clone)]
pub(crate) struct Content {
    length: u64,
    blocks: RedBlackTreeMapSync<u64, Arc<[u8; BLOCK_BYTES]>>,
    shows: Option<Shown>,
}

/// What a file shows of one outside.
#[derive(Clone)]
struct Shown {
    file: Arc<ShownFile>,
    /// Bytes that it shows; what was cut off does not come back.
    length: u64,
}

impl Default for Content {
    fn default() -> Content {
        Content { length: 0, blocks: RedBlackTreeMapSync::new_sync(), shows: None }
    }
}

impl Content {
    /// A file that holds these bytes.
    #[cfg(test)]
    pub fn of(bytes: &[u8]) -> Content {
        let mut content = Content::default();
        content.write(0, bytes);
        content
    }

    /// A file that shows one outside.
    pub fn showing(file: Arc<ShownFile>) -> Content {
        let length = file.length;
        Content { length, shows: Some(Shown { file, length }), ..Content::default() }
    }

    /// The file that it shows, if nothing was changed.
    pub fn unchanged(&self) -> Option<&Arc<ShownFile>> {
        let shows = self.shows.as_ref()?;
        let is_whole = shows.length == self.length && self.length == shows.file.length;
        (is_whole && self.blocks.is_empty()).then_some(&shows.file)
    }

    /// Whether its bytes can be had.
    pub fn is_readable(&self) -> bool {
        self.shows.as_ref().is_none_or(|shows| shows.length == 0 || shows.file.bytes().is_some())
    }

    /// Bytes of the file.
    pub fn len(&self) -> u64 {
        self.length
    }

    /// Bytes that its own blocks take.
    pub fn allocated(&self) -> u64 {
        self.blocks.size() as u64 * BLOCK
    }

    /// Bytes that it takes where it is kept, as `stat` tells them.
    pub fn kept(&self) -> u64 {
        let shown = self.shows.as_ref().map_or(0, |shows| shows.length.next_multiple_of(BLOCK));
        self.allocated().max(shown)
    }

    /// Whether a block is no hole.
    fn has(&self, number: u64) -> bool {
        self.blocks.contains_key(&number)
            || self.shows.as_ref().is_some_and(|shows| number * BLOCK < shows.length)
    }

    /// The bytes of a block of the file that it shows, as far as they reach.
    fn shown(&self, number: u64) -> &[u8] {
        let Some(Shown { file, length }) = &self.shows else { return &[] };
        let bytes = file.bytes().unwrap_or_default();
        let end = (*length).min(bytes.len() as u64).min((number + 1) * BLOCK);
        bytes.get((number * BLOCK) as usize..end as usize).unwrap_or_default()
    }

    /// A block, to be changed.
    fn block(&mut self, number: u64) -> &mut [u8; BLOCK_BYTES] {
        if !self.blocks.contains_key(&number) {
            let mut block = [0; BLOCK_BYTES];
            let shown = self.shown(number);
            block[..shown.len()].copy_from_slice(shown);
            self.blocks.insert_mut(number, Arc::new(block));
        }
        Arc::make_mut(self.blocks.get_mut(&number).expect("it was put there"))
    }

    /// Reads bytes from an offset on; how many there were.
    pub fn read(&self, offset: u64, bytes: &mut [u8]) -> usize {
        let count = self.length.saturating_sub(offset).min(bytes.len() as u64) as usize;
        let mut done = 0;
        while done < count {
            let at = offset + done as u64;
            let (number, start) = (at / BLOCK, (at % BLOCK) as usize);
            let take = (BLOCK_BYTES - start).min(count - done);
            let to = &mut bytes[done..done + take];
            let from = match self.blocks.get(&number) {
                Some(block) => &block[..],
                None => self.shown(number),
            };
            let from = &from[start.min(from.len())..(start + take).min(from.len())];
            to[..from.len()].copy_from_slice(from);
            to[from.len()..].fill(0);
            done += take;
        }
        count
    }

    /// Writes bytes at an offset, whose end must not be beyond the largest number.
    pub fn write(&mut self, offset: u64, bytes: &[u8]) {
        let mut done = 0;
        while done < bytes.len() {
            let at = offset + done as u64;
            let (number, start) = (at / BLOCK, (at % BLOCK) as usize);
            let take = (BLOCK_BYTES - start).min(bytes.len() - done);
            self.block(number)[start..start + take].copy_from_slice(&bytes[done..done + take]);
            done += take;
        }
        if !bytes.is_empty() {
            self.length = self.length.max(offset + bytes.len() as u64);
        }
    }

    /// Fills the holes between two offsets with blocks of zeros, also beyond the end.
    pub fn allocate(&mut self, start: u64, end: u64) {
        for number in start / BLOCK..end.div_ceil(BLOCK) {
            if !self.has(number) {
                self.block(number);
            }
        }
    }

    /// Cuts the file, or adds a hole.
    pub fn set_length(&mut self, length: u64) {
        if length < self.length {
            let rest = (length % BLOCK) as usize;
            if rest != 0 && self.has(length / BLOCK) {
                self.block(length / BLOCK)[rest..].fill(0);
            }
            let beyond = self.blocks.range(length.div_ceil(BLOCK)..).map(|(number, _)| *number);
            for number in beyond.collect::<Vec<u64>>() {
                self.blocks.remove_mut(&number);
            }
            if let Some(shows) = &mut self.shows {
                shows.length = shows.length.min(length);
            }
        }
        self.length = length;
    }

    /// The first offset from `offset` on that lies in a block; `None` if there is none before the end.
    pub fn next_data(&self, offset: u64) -> Option<u64> {
        let first = offset / BLOCK;
        let number = match self.has(first) {
            true => first,
            false => *self.blocks.range(first..).next()?.0,
        };
        Some((number * BLOCK).max(offset)).filter(|found| *found < self.length)
    }

    /// The first offset from `offset` on that lies in a hole; the end of the file counts as one.
    pub fn next_hole(&self, offset: u64) -> u64 {
        let mut at = offset;
        while at < self.length && self.has(at / BLOCK) {
            at = (at / BLOCK + 1) * BLOCK;
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
