//! Memory at a moment, and what differs between two.
//!
//! A snapshot has the pages that were touched; it shares those that nothing wrote to with the one before.

use std::collections::BTreeSet;
use std::ops::Range;
use std::sync::Arc;

use crate::memory::region::{PAGE_BYTES, Page, Region};

/// Memory at a moment.
#[derive(Clone)]
pub struct MemorySnapshot {
    pub(crate) regions: Vec<Region>,
    /// Pages by ascending number.
    pub(crate) pages: Vec<(u64, Arc<Page>)>,
}

impl MemorySnapshot {
    pub(crate) fn page(&self, page: u64) -> Option<&Arc<Page>> {
        let at = self.pages.binary_search_by_key(&page, |(number, _)| *number).ok()?;
        Some(&self.pages[at].1)
    }

    /// Whether nothing wrote to the bytes between this snapshot and a later one of the same run.
    ///
    /// Pages are told apart by their being shared, so that `false` may be said of bytes that nothing
    /// wrote to, but `true` is sure.
    pub fn is_untouched_until(&self, later: &MemorySnapshot, range: &Range<u64>) -> bool {
        let last = range.end.saturating_sub(1).max(range.start);
        (range.start / PAGE_BYTES..=last / PAGE_BYTES).all(|page| {
            match (self.page(page), later.page(page)) {
                (Some(a), Some(b)) => Arc::ptr_eq(a, b),
                (None, None) => true,
                _ => false,
            }
        })
    }

    /// Pages that are in this snapshot and not, as they are, in the other.
    pub fn pages_not_in(&self, other: &MemorySnapshot) -> usize {
        let mut others = other.pages.iter().peekable();
        let mut count = 0;
        for (number, data) in &self.pages {
            while others.next_if(|(page, _)| page < number).is_some() {}
            let same =
                others.peek().is_some_and(|(page, same)| page == number && Arc::ptr_eq(same, data));
            count += usize::from(!same);
        }
        count
    }

    /// Bytes that this snapshot takes beside its pages.
    pub fn list_bytes(&self) -> usize {
        self.pages.len() * size_of::<(u64, Arc<Page>)>()
    }

    /// The runs of bytes that differ from another snapshot, by ascending address: the first address
    /// and the bytes here and there. Pages that nobody touched are full of zeros.
    pub fn differences(&self, other: &MemorySnapshot) -> Vec<Difference> {
        let numbers = self.pages.iter().chain(&other.pages).map(|(number, _)| *number);
        let numbers: BTreeSet<u64> = numbers.collect();
        let zeros = Arc::new([0; PAGE_BYTES as usize]);
        let mut found: Vec<Difference> = Vec::new();
        for number in numbers {
            let here = self.page(number).unwrap_or(&zeros);
            let there = other.page(number).unwrap_or(&zeros);
            if Arc::ptr_eq(here, there) {
                continue;
            }
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
            *byte = match self.page(at / PAGE_BYTES) {
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
