//! Memory at a moment, and what differs between two.
//!
//! A snapshot shares its pages with the memory that it is of, and with other snapshots, until they are written.

use std::ops::Range;

use crate::memory::pages::PageDirectory;
use crate::memory::region::{PAGE_BYTES, Page, Region};

/// Memory at a moment.
#[derive(Clone)]
pub struct MemorySnapshot {
    pub(crate) regions: Vec<Region>,
    pub(crate) pages: PageDirectory,
    /// How many pages there are.
    pub(crate) touched: u64,
}

const ZEROS: Page = [0; PAGE_BYTES as usize];

impl MemorySnapshot {
    /// Whether nothing wrote to the bytes between this snapshot and a later one of the same run.
    ///
    /// Pages are told apart by their being shared, so that `false` may be said of bytes that nothing
    /// wrote to, but `true` is sure.
    pub fn is_untouched_until(&self, later: &MemorySnapshot, range: &Range<u64>) -> bool {
        let last = range.end.saturating_sub(1).max(range.start);
        (range.start / PAGE_BYTES..=last / PAGE_BYTES)
            .all(|page| self.pages.shares(&later.pages, page))
    }

    /// Bytes that this snapshot takes and does not share with another.
    pub fn bytes_not_in(&self, other: &MemorySnapshot) -> usize {
        self.pages.bytes_not_in(&other.pages)
    }

    /// The runs of bytes that differ from another snapshot, by ascending address: the first address
    /// and the bytes here and there. Pages that nobody touched are full of zeros.
    pub fn differences(&self, other: &MemorySnapshot) -> Vec<Difference> {
        let mut found: Vec<Difference> = Vec::new();
        for number in self.pages.differing(&other.pages) {
            let here = self.pages.get(number).map_or(&ZEROS, |page| page);
            let there = other.pages.get(number).map_or(&ZEROS, |page| page);
            for (at, (&a, &b)) in here.iter().zip(there.iter()).enumerate() {
                if a == b {
                    continue;
                }
                let address = number * PAGE_BYTES + at as u64;
                match found.last_mut() {
                    Some(last) if last.address + last.here.len() as u64 == address => {
                        last.here.push(a);
                        last.there.push(b);
                    }
                    _ => found.push(Difference { address, here: vec![a], there: vec![b] }),
                }
            }
        }
        found
    }

    /// Reads bytes as they were; `None` if one is not mapped.
    pub fn read_bytes(&self, address: u64, bytes: &mut [u8]) -> Option<()> {
        for (index, byte) in bytes.iter_mut().enumerate() {
            let at = address.wrapping_add(index as u64);
            *byte = match self.pages.get(at / PAGE_BYTES) {
                Some(page) => page[(at % PAGE_BYTES) as usize],
                None => {
                    let after = self.regions.partition_point(|region| region.start <= at);
                    self.regions[..after].last().filter(|region| at < region.end)?;
                    0
                }
            };
        }
        Some(())
    }
}

/// Bytes that differ between two snapshots.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Difference {
    /// First address.
    pub address: u64,
    /// The bytes in the one.
    pub here: Vec<u8>,
    /// As many bytes in the other.
    pub there: Vec<u8>,
}
