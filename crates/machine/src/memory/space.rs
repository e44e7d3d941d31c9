//! The guest's memory: regions with permissions, pages that appear when touched, snapshots.
//!
//! The common access finds its page in a small direct-mapped table and never hashes. Snapshots share
//! pages that were not written since the last one, so taking one costs the pages written in between. Pages
//! that were only read share one page of zeros and take no room.
//!
//! The contents of all pages lie in one piece, so that an access takes no more steps than it must.
//!
//! Invariant: an entry of the write table names a page that is writable, marked as written since
//! the last snapshot, and free of cached code; so a hit needs no further check.

use std::collections::HashMap;
use std::sync::Arc;

use crate::memory::region::{PAGE_BYTES, Page, Permissions, Region, RegionKind};
use crate::{AccessKind, MemoryFault, MemoryFaultKind, MemorySnapshot, Observer};

const TABLE_ENTRIES: usize = 256;
/// The slot of the page of zeros, which every page has that was read and never written.
const ZEROS: u32 = 0;
/// Work that is done before running pauses, so that somebody can ask it to stop: about as many elements as string
/// instructions copy in a hundredth of a second.
const WORK_BEFORE_PAUSE: u64 = 1 << 22;
/// No page has this number: it would lie beyond the 64-bit address space.
const NO_PAGE: u64 = u64::MAX;

#[derive(Copy, Clone)]
struct Entry {
    page: u64,
    slot: u32,
}

#[derive(Clone)]
struct Slot {
    page: u64,
    /// The contents as of the last snapshot, if it was in one.
    saved: Option<Arc<Page>>,
    /// Written since the last snapshot.
    dirty: bool,
    /// Decoded instructions of this page are in a cache.
    has_code: bool,
    permissions: Permissions,
}

/// The guest's memory.
pub struct Memory {
    regions: Vec<Region>,
    slots: Vec<Slot>,
    /// The contents of each slot.
    contents: Vec<Page>,
    by_page: HashMap<u64, u32>,
    read_table: Box<[Entry; TABLE_ENTRIES]>,
    write_table: Box<[Entry; TABLE_ENTRIES]>,
    /// Cached code was written over; cleared by [`Memory::take_code_written`].
    code_written: bool,
    /// Something is to be seen to before the next block: code was written over, or running is to pause.
    attention: bool,
    /// Elements that string instructions went over since running paused last.
    work: u64,
    /// Pages that may be touched.
    page_limit: u64,
}

/// Why a range cannot be mapped.
#[derive(Copy, Clone, PartialEq, Eq, Debug, thiserror::Error)]
pub enum MapError {
    /// There are no bytes in it.
    #[error("the range is empty")]
    Empty,
    /// It reaches beyond the address space.
    #[error("the range reaches beyond the address space")]
    Wraps,
    /// A page of it is mapped already.
    #[error("a page of the range is in use already")]
    Overlaps,
}

impl Default for Memory {
    fn default() -> Memory {
        Memory::new()
    }
}

fn empty_table() -> Box<[Entry; TABLE_ENTRIES]> {
    Box::new([Entry { page: NO_PAGE, slot: 0 }; TABLE_ENTRIES])
}

impl Memory {
    /// Memory with nothing mapped.
    pub fn new() -> Memory {
        // Nothing finds the page of zeros by its number, and nothing may be done with it but read it.
        let permissions = Permissions { read: true, write: false, execute: false };
        let zeros = Slot { page: NO_PAGE, saved: None, dirty: false, has_code: false, permissions };
        Memory {
            regions: Vec::new(),
            slots: vec![zeros],
            contents: vec![[0; PAGE_BYTES as usize]],
            by_page: HashMap::new(),
            read_table: empty_table(),
            write_table: empty_table(),
            code_written: false,
            attention: false,
            work: 0,
            page_limit: u64::MAX,
        }
    }

    /// Limits the pages that may be touched to so many bytes.
    pub fn set_limit(&mut self, bytes: u64) {
        self.page_limit = bytes.div_ceil(PAGE_BYTES);
    }

    /// Bytes of the pages that were written.
    pub fn touched_bytes(&self) -> u64 {
        (self.slots.len() as u64 - 1) * PAGE_BYTES
    }

    /// Notes that an instruction went over a number of elements; too many of them make running pause.
    #[inline]
    pub(crate) fn note_work(&mut self, elements: u64) {
        self.work += elements;
        if self.work >= WORK_BEFORE_PAUSE {
            self.attention = true;
        }
    }

    /// Whether running is to pause now.
    pub(crate) fn take_pause(&mut self) -> bool {
        let pause = self.work >= WORK_BEFORE_PAUSE;
        if pause {
            self.work = 0;
            self.attention = self.code_written;
        }
        pause
    }

    /// Whether something is to be seen to before the next block.
    #[inline]
    pub(crate) fn wants_attention(&self) -> bool {
        self.attention
    }

    /// Notes that code which was decoded is not there any more.
    fn note_code_written(&mut self) {
        self.code_written = true;
        self.attention = true;
    }

    /// Maps `bytes` bytes from `start`, rounded out to pages, filled with zeros.
    ///
    /// # Errors
    ///
    /// [`MapError`]; nothing is mapped then.
    pub fn map(
        &mut self,
        kind: RegionKind,
        start: u64,
        bytes: u64,
        permissions: Permissions,
    ) -> Result<(), MapError> {
        let first = start & !(PAGE_BYTES - 1);
        let used_end = start.checked_add(bytes).ok_or(MapError::Wraps)?;
        let end = used_end.checked_next_multiple_of(PAGE_BYTES).ok_or(MapError::Wraps)?;
        if bytes == 0 {
            return Err(MapError::Empty);
        }
        let at = self.regions.partition_point(|region| region.start < first);
        let clear_before = at == 0 || self.regions[at - 1].end <= first;
        let clear_after = self.regions.get(at).is_none_or(|next| next.start >= end);
        if !(clear_before && clear_after) {
            return Err(MapError::Overlaps);
        }
        self.regions.insert(at, Region { start: first, end, used_end, permissions, kind });
        Ok(())
    }

    /// Cuts regions at an address, so that one ends or begins there.
    fn cut(&mut self, at: u64) {
        let Some(index) = self.regions.iter().position(|r| r.start < at && at < r.end) else {
            return;
        };
        let upper = Region { start: at, ..self.regions[index].clone() };
        let lower = &mut self.regions[index];
        (lower.end, lower.used_end) = (at, lower.used_end.min(at));
        self.regions.insert(index + 1, Region { used_end: upper.used_end.max(at), ..upper });
    }

    /// Changes what whole pages may be used for.
    ///
    /// # Errors
    ///
    /// The first page that is not mapped; nothing is changed then.
    pub fn protect(
        &mut self,
        start: u64,
        end: u64,
        permissions: Permissions,
    ) -> Result<(), MemoryFault> {
        let mut at = start;
        while at < end {
            let region = self.region_at(at).ok_or(MemoryFault {
                address: at,
                access: AccessKind::Read,
                kind: MemoryFaultKind::Unmapped,
            })?;
            at = region.end;
        }
        self.cut(start);
        self.cut(end);
        let within = |address: u64| (start..end).contains(&address);
        for region in self.regions.iter_mut().filter(|region| within(region.start)) {
            region.permissions = permissions;
        }
        for slot in self.slots.iter_mut().skip(1).filter(|slot| within(slot.page * PAGE_BYTES)) {
            slot.permissions = permissions;
        }
        self.forget_tables();
        Ok(())
    }

    /// Takes whole pages away, mapped or not.
    pub fn unmap(&mut self, start: u64, end: u64) {
        self.cut(start);
        self.cut(end);
        self.regions.retain(|region| !(start..end).contains(&region.start));
        self.drop_slots(|slot| (start..end).contains(&(slot.page * PAGE_BYTES)));
    }

    /// Takes slots away; the last ones come to their places.
    fn drop_slots(&mut self, is_gone: impl Fn(&Slot) -> bool) {
        for number in (1..self.slots.len()).rev() {
            if !is_gone(&self.slots[number]) {
                continue;
            }
            self.by_page.remove(&self.slots[number].page);
            self.slots.swap_remove(number);
            self.contents.swap_remove(number);
            if let Some(moved) = self.slots.get(number) {
                self.by_page.insert(moved.page, number as u32);
            }
        }
        self.forget_tables();
    }

    /// Gives pages the addresses of others, of which none may have been written yet: contents move from `start..end` to
    /// as many pages from `to` on. Regions stay as they are.
    pub fn move_pages(&mut self, start: u64, end: u64, to: u64) {
        for number in 1..self.slots.len() {
            let slot = &mut self.slots[number];
            let address = slot.page.wrapping_mul(PAGE_BYTES);
            if (start..end).contains(&address) {
                self.by_page.remove(&slot.page);
                slot.page = (address - start + to) / PAGE_BYTES;
                (slot.saved, slot.dirty) = (None, true);
                self.by_page.insert(slot.page, number as u32);
            }
        }
        self.forget_tables();
    }

    /// Moves the end of the region that starts at an address; what is beyond the new end is lost.
    ///
    /// # Errors
    ///
    /// [`MapError::Overlaps`] if something else is in the way; nothing is changed then.
    pub fn resize(&mut self, start: u64, end: u64) -> Result<(), MapError> {
        let Some(index) = self.regions.iter().position(|region| region.start == start) else {
            return Err(MapError::Empty);
        };
        let page_end = end.checked_next_multiple_of(PAGE_BYTES).ok_or(MapError::Wraps)?;
        if self.regions.get(index + 1).is_some_and(|next| next.start < page_end) {
            return Err(MapError::Overlaps);
        }
        let old_end = self.regions[index].end;
        if page_end < old_end {
            self.unmap(page_end.max(start + PAGE_BYTES), old_end);
        }
        let region = &mut self.regions[index];
        (region.end, region.used_end) = (page_end.max(start + PAGE_BYTES), end);
        Ok(())
    }

    /// The highest place below `limit` for so many bytes of pages, above `floor`.
    pub fn gap_below(&self, limit: u64, floor: u64, bytes: u64) -> Option<u64> {
        let mut end = limit;
        for region in self.regions.iter().rev().filter(|region| region.start < limit) {
            if end.saturating_sub(region.end) >= bytes {
                break;
            }
            end = region.start;
        }
        end.checked_sub(bytes).filter(|start| *start >= floor)
    }

    /// Bytes of all regions together.
    pub fn mapped_bytes(&self) -> u64 {
        self.regions.iter().map(|region| region.end - region.start).sum()
    }

    /// Forgets what the tables say, and that code which was decoded is still there.
    fn forget_tables(&mut self) {
        self.read_table.fill(Entry { page: NO_PAGE, slot: 0 });
        self.write_table.fill(Entry { page: NO_PAGE, slot: 0 });
        self.note_code_written();
    }

    /// The mapped regions, by ascending address.
    pub fn regions(&self) -> &[Region] {
        &self.regions
    }

    /// The region that holds `address`.
    pub fn region_at(&self, address: u64) -> Option<&Region> {
        let after = self.regions.partition_point(|region| region.start <= address);
        self.regions[..after].last().filter(|region| address < region.end)
    }

    /// Finds or makes the slot of a page, and checks the permission.
    fn slot(&mut self, address: u64, access: AccessKind) -> Result<u32, MemoryFault> {
        let fault = |kind| MemoryFault { address, access, kind };
        let page = address / PAGE_BYTES;
        let allowed = |p: Permissions| match access {
            AccessKind::Read => p.read,
            AccessKind::Write => p.write,
            AccessKind::Execute => p.execute,
        };
        let number = match self.by_page.get(&page) {
            Some(&number) => number,
            None => {
                let region = self.region_at(address).ok_or(fault(MemoryFaultKind::Unmapped))?;
                let permissions = region.permissions;
                if !allowed(permissions) {
                    return Err(fault(MemoryFaultKind::Protected));
                }
                if access == AccessKind::Read {
                    return Ok(ZEROS);
                }
                let number = self.slot_of_page(page, permissions);
                number.ok_or(fault(MemoryFaultKind::Limit))?
            }
        };
        if !allowed(self.slots[number as usize].permissions) {
            return Err(fault(MemoryFaultKind::Protected));
        }
        Ok(number)
    }

    /// The slot of a page, made if there is none yet; `None` if there may be no more.
    fn slot_of_page(&mut self, page: u64, permissions: Permissions) -> Option<u32> {
        if let Some(&number) = self.by_page.get(&page) {
            return Some(number);
        }
        if self.slots.len() as u64 > self.page_limit {
            return None;
        }
        let number = self.slots.len() as u32;
        let entry = &mut self.read_table[page as usize % TABLE_ENTRIES];
        if entry.page == page {
            // It was the page of zeros until now.
            entry.slot = number;
        }
        self.contents.push([0; PAGE_BYTES as usize]);
        self.slots.push(Slot { page, saved: None, dirty: true, has_code: false, permissions });
        self.by_page.insert(page, number);
        Some(number)
    }

    #[inline]
    fn index(address: u64) -> (u64, usize, usize) {
        let page = address / PAGE_BYTES;
        (page, page as usize % TABLE_ENTRIES, (address % PAGE_BYTES) as usize)
    }

    /// Bytes of a page that was read lately; `None` says nothing of others.
    #[inline]
    fn bytes_at_hand<const N: usize>(&self, address: u64) -> Option<[u8; N]> {
        let (page, entry, offset) = Memory::index(address);
        let entry = &self.read_table[entry];
        if entry.page != page {
            return None;
        }
        let bytes = self.contents[entry.slot as usize].get(offset..offset + N)?;
        Some(bytes.try_into().expect("N bytes"))
    }

    /// Writes to a page that was written lately; if it is none, nothing is done.
    #[inline]
    fn put_bytes_at_hand<const N: usize>(&mut self, address: u64, bytes: [u8; N]) -> Option<()> {
        let (page, entry, offset) = Memory::index(address);
        let entry = &self.write_table[entry];
        if entry.page != page {
            return None;
        }
        let to = self.contents[entry.slot as usize].get_mut(offset..offset + N)?;
        to.copy_from_slice(&bytes);
        Some(())
    }

    /// Reads `N` bytes.
    ///
    /// # Errors
    ///
    /// The first byte that cannot be read.
    #[inline]
    pub fn read<const N: usize>(&mut self, address: u64) -> Result<[u8; N], MemoryFault> {
        match self.bytes_at_hand(address) {
            Some(bytes) => Ok(bytes),
            None => self.read_slow(address),
        }
    }

    #[cold]
    fn read_slow<const N: usize>(&mut self, address: u64) -> Result<[u8; N], MemoryFault> {
        let mut bytes = [0; N];
        self.read_slice_slow(address, &mut bytes)?;
        Ok(bytes)
    }

    #[cold]
    fn value_slow(&mut self, address: u64, bytes: u64) -> Result<u64, MemoryFault> {
        let mut value = [0; 8];
        self.read_slice_slow(address, &mut value[..bytes as usize])?;
        Ok(u64::from_le_bytes(value))
    }

    /// Reads bytes, and has their first page at hand from now on.
    fn read_slice_slow(&mut self, address: u64, bytes: &mut [u8]) -> Result<(), MemoryFault> {
        self.read_bytes(address, bytes)?;
        let (page, entry, _) = Memory::index(address);
        let slot = self.slot(address, AccessKind::Read)?;
        self.read_table[entry] = Entry { page, slot };
        Ok(())
    }

    /// Reads any number of bytes.
    ///
    /// # Errors
    ///
    /// The first byte that cannot be read; the bytes before it are filled in.
    pub fn read_bytes(&mut self, address: u64, bytes: &mut [u8]) -> Result<(), MemoryFault> {
        let mut done = 0;
        while done < bytes.len() {
            let at = address.wrapping_add(done as u64);
            let slot = self.slot(at, AccessKind::Read)?;
            let offset = (at % PAGE_BYTES) as usize;
            let take = (bytes.len() - done).min(PAGE_BYTES as usize - offset);
            let data = &self.contents[slot as usize];
            bytes[done..done + take].copy_from_slice(&data[offset..offset + take]);
            done += take;
        }
        Ok(())
    }

    /// Writes `N` bytes, all of them or none.
    ///
    /// # Errors
    ///
    /// The first byte that cannot be written.
    #[inline]
    pub fn write<const N: usize>(
        &mut self,
        address: u64,
        bytes: [u8; N],
    ) -> Result<(), MemoryFault> {
        match self.put_bytes_at_hand(address, bytes) {
            Some(()) => Ok(()),
            None => self.write_slow(address, &bytes),
        }
    }

    #[cold]
    fn write_slow(&mut self, address: u64, bytes: &[u8]) -> Result<(), MemoryFault> {
        self.write_bytes(address, bytes)?;
        let (page, entry, _) = Memory::index(address);
        let slot = self.slot(address, AccessKind::Write)?;
        self.write_table[entry] = Entry { page, slot };
        Ok(())
    }

    /// Writes any number of bytes, all of them or none.
    ///
    /// # Errors
    ///
    /// The first byte that cannot be written.
    pub fn write_bytes(&mut self, address: u64, bytes: &[u8]) -> Result<(), MemoryFault> {
        self.check_writable(address, bytes.len() as u64)?;
        self.store(address, bytes)
    }

    /// Checks that a number of bytes can be written.
    ///
    /// # Errors
    ///
    /// The first byte that cannot be written.
    pub fn check_writable(&mut self, address: u64, bytes: u64) -> Result<(), MemoryFault> {
        let mut checked = 0;
        while checked < bytes {
            let at = address.wrapping_add(checked);
            self.slot(at, AccessKind::Write)?;
            checked += PAGE_BYTES - at % PAGE_BYTES;
        }
        Ok(())
    }

    /// Puts bytes into memory whatever its permissions: for loading and for the person examining.
    ///
    /// # Errors
    ///
    /// The first byte that is not mapped; the bytes before it are written.
    pub fn load(&mut self, address: u64, bytes: &[u8]) -> Result<(), MemoryFault> {
        let mut done = 0;
        while done < bytes.len() {
            let at = address.wrapping_add(done as u64);
            let take = (bytes.len() - done).min((PAGE_BYTES - at % PAGE_BYTES) as usize);
            let region = self.region_at(at).ok_or(MemoryFault {
                address: at,
                access: AccessKind::Write,
                kind: MemoryFaultKind::Unmapped,
            })?;
            let permissions = region.permissions;
            let number = self.slot_of_page(at / PAGE_BYTES, permissions).ok_or(MemoryFault {
                address: at,
                access: AccessKind::Write,
                kind: MemoryFaultKind::Limit,
            })?;
            self.put(number, at, &bytes[done..done + take]);
            done += take;
        }
        Ok(())
    }

    fn store(&mut self, address: u64, bytes: &[u8]) -> Result<(), MemoryFault> {
        let mut done = 0;
        while done < bytes.len() {
            let at = address.wrapping_add(done as u64);
            let number = self.slot(at, AccessKind::Write)?;
            let take = (bytes.len() - done).min((PAGE_BYTES - at % PAGE_BYTES) as usize);
            self.put(number, at, &bytes[done..done + take]);
            done += take;
        }
        Ok(())
    }

    /// Puts bytes into the page of a slot, at the place in it that an address has.
    fn put(&mut self, number: u32, address: u64, bytes: &[u8]) {
        let offset = (address % PAGE_BYTES) as usize;
        self.contents[number as usize][offset..offset + bytes.len()].copy_from_slice(bytes);
        let slot = &mut self.slots[number as usize];
        slot.dirty = true;
        if slot.has_code {
            slot.has_code = false;
            self.note_code_written();
        }
    }

    /// Reads up to 15 bytes of code, and how many of them are there.
    ///
    /// # Errors
    ///
    /// If the first byte cannot be fetched.
    pub(crate) fn fetch(
        &mut self,
        address: u64,
        bytes: &mut [u8; 15],
    ) -> Result<usize, MemoryFault> {
        let mut filled = 0;
        while filled < bytes.len() {
            let at = address.wrapping_add(filled as u64);
            let slot = match self.fetch_slot(at) {
                Ok(slot) => slot,
                Err(fault) if filled == 0 => return Err(fault),
                Err(_) => break,
            };
            let region_end = self.region_at(at).map_or(at, |region| region.used_end);
            let offset = (at % PAGE_BYTES) as usize;
            let take = (bytes.len() - filled)
                .min(PAGE_BYTES as usize - offset)
                .min((region_end - at) as usize);
            bytes[filled..filled + take]
                .copy_from_slice(&self.contents[slot as usize][offset..][..take]);
            filled += take;
        }
        Ok(filled)
    }

    fn fetch_slot(&mut self, address: u64) -> Result<u32, MemoryFault> {
        let slot = self.slot(address, AccessKind::Execute)?;
        match self.region_at(address) {
            Some(region) if address >= region.used_end => Err(MemoryFault {
                address,
                access: AccessKind::Execute,
                kind: MemoryFaultKind::PastCode,
            }),
            _ => Ok(slot),
        }
    }

    /// Notes that decoded instructions of `start..end` are kept; a write there will be told.
    pub(crate) fn mark_code(&mut self, start: u64, end: u64) {
        for page in start / PAGE_BYTES..=end.saturating_sub(1).max(start) / PAGE_BYTES {
            if let Some(&slot) = self.by_page.get(&page) {
                self.slots[slot as usize].has_code = true;
            }
            let entry = &mut self.write_table[page as usize % TABLE_ENTRIES];
            if entry.page == page {
                entry.page = NO_PAGE;
            }
        }
    }

    /// Whether cached code was written over since this was last asked.
    #[inline]
    pub(crate) fn take_code_written(&mut self) -> bool {
        if self.code_written {
            self.attention = self.work >= WORK_BEFORE_PAUSE;
        }
        std::mem::take(&mut self.code_written)
    }

    /// Whether cached code was written over and nobody has taken note yet.
    #[inline]
    pub(crate) fn code_was_written(&self) -> bool {
        self.code_written
    }

    /// Memory as it is now.
    pub fn snapshot(&mut self) -> MemorySnapshot {
        // A write through the table would not be noticed as one after the snapshot.
        self.write_table.fill(Entry { page: NO_PAGE, slot: 0 });
        let mut pages: Vec<_> = self
            .slots
            .iter_mut()
            .zip(&self.contents)
            .skip(1)
            .map(|(slot, contents)| {
                let saved = match (&slot.saved, slot.dirty) {
                    (Some(saved), false) => saved.clone(),
                    _ => Arc::new(*contents),
                };
                slot.saved = Some(saved.clone());
                slot.dirty = false;
                (slot.page, saved)
            })
            .collect();
        pages.sort_unstable_by_key(|(number, _)| *number);
        MemorySnapshot { regions: self.regions.clone(), pages }
    }

    /// Puts memory back to a snapshot of it.
    pub fn restore(&mut self, snapshot: &MemorySnapshot) {
        self.regions = snapshot.regions.clone();
        self.drop_slots(|slot| snapshot.page(slot.page).is_none());
        for (page, data) in &snapshot.pages {
            let region = self.region_at(page * PAGE_BYTES);
            let permissions =
                region.expect("a page of a snapshot is in a region of it").permissions;
            let (page, saved) = (*page, Some(data.clone()));
            let slot = Slot { page, saved, dirty: false, has_code: false, permissions };
            match self.by_page.get(&page).map(|&number| number as usize) {
                Some(number) => {
                    let there = &self.slots[number];
                    let is_same =
                        !there.dirty && there.saved.as_ref().is_some_and(|s| Arc::ptr_eq(s, data));
                    if !is_same {
                        self.contents[number] = **data;
                    }
                    self.slots[number] = slot;
                }
                None => {
                    self.by_page.insert(page, self.slots.len() as u32);
                    self.contents.push(**data);
                    self.slots.push(slot);
                }
            }
        }
    }

    /// A little-endian value of 1, 2, 4 or 8 bytes in a page that was read lately; `None` says nothing of others.
    #[inline]
    pub(crate) fn value_at_hand(&self, address: u64, bytes: u64) -> Option<u64> {
        Some(match bytes {
            1 => u64::from(u8::from_le_bytes(self.bytes_at_hand(address)?)),
            2 => u64::from(u16::from_le_bytes(self.bytes_at_hand(address)?)),
            4 => u64::from(u32::from_le_bytes(self.bytes_at_hand(address)?)),
            _ => u64::from_le_bytes(self.bytes_at_hand(address)?),
        })
    }

    /// Writes the low 1, 2, 4 or 8 bytes of a value to a page that was written lately; if it is none, nothing is
    /// done.
    #[inline]
    pub(crate) fn put_value_at_hand(&mut self, address: u64, bytes: u64, value: u64) -> Option<()> {
        match bytes {
            1 => self.put_bytes_at_hand(address, (value as u8).to_le_bytes()),
            2 => self.put_bytes_at_hand(address, (value as u16).to_le_bytes()),
            4 => self.put_bytes_at_hand(address, (value as u32).to_le_bytes()),
            _ => self.put_bytes_at_hand(address, value.to_le_bytes()),
        }
    }

    /// Reads a little-endian value of 1, 2, 4 or 8 bytes, and tells the observer.
    #[inline]
    pub(crate) fn load_value<O: Observer>(
        &mut self,
        address: u64,
        bytes: u64,
        observer: &mut O,
    ) -> Result<u64, MemoryFault> {
        let value = match self.value_at_hand(address, bytes) {
            Some(value) => value,
            None => self.value_slow(address, bytes)?,
        };
        if O::ACTIVE {
            observer.read(address, bytes, value);
        }
        Ok(value)
    }

    /// Reads sixteen bytes, and tells the observer of each half.
    #[inline]
    pub(crate) fn load_vector<O: Observer>(
        &mut self,
        address: u64,
        observer: &mut O,
    ) -> Result<u128, MemoryFault> {
        let value = u128::from_le_bytes(self.read(address)?);
        if O::ACTIVE {
            observer.read(address, 8, value as u64);
            observer.read(address.wrapping_add(8), 8, (value >> 64) as u64);
        }
        Ok(value)
    }

    /// Writes sixteen bytes, and tells the observer of each half.
    #[inline]
    pub(crate) fn store_vector<O: Observer>(
        &mut self,
        address: u64,
        value: u128,
        observer: &mut O,
    ) -> Result<(), MemoryFault> {
        let mut old = [0; 16];
        if O::ACTIVE {
            // Memory that cannot be read shows as zeros.
            let _ = self.read_bytes(address, &mut old);
        }
        self.write(address, value.to_le_bytes())?;
        if O::ACTIVE {
            let old = u128::from_le_bytes(old);
            observer.write(address, 8, old as u64, value as u64);
            let upper = address.wrapping_add(8);
            observer.write(upper, 8, (old >> 64) as u64, (value >> 64) as u64);
        }
        Ok(())
    }

    /// Writes the low 1, 2, 4 or 8 bytes of a value, and tells the observer.
    #[inline]
    pub(crate) fn store_value<O: Observer>(
        &mut self,
        address: u64,
        bytes: u64,
        value: u64,
        observer: &mut O,
    ) -> Result<(), MemoryFault> {
        let mut old = [0; 8];
        if O::ACTIVE {
            // Memory that cannot be read shows as zeros.
            let _ = self.read_bytes(address, &mut old[..bytes as usize]);
        }
        if self.put_value_at_hand(address, bytes, value).is_none() {
            self.write_slow(address, &value.to_le_bytes()[..bytes as usize])?;
        }
        if O::ACTIVE {
            let mask = u64::MAX >> (64 - 8 * bytes);
            observer.write(address, bytes, u64::from_le_bytes(old), value & mask);
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Difference;
    use proptest::prelude::*;

    const RW: Permissions = Permissions { read: true, write: true, execute: false };
    const RX: Permissions = Permissions { read: true, write: false, execute: true };

    #[test]
    fn pages_can_be_protected_taken_away_and_added() {
        let mut memory = Memory::new();
        memory.map(RegionKind::Heap, 0x1000, 0x3000, RW).unwrap();
        memory.write(0x2000, [7u8]).unwrap();
        let read_only = Permissions { write: false, ..RW };
        memory.protect(0x2000, 0x3000, read_only).unwrap();
        let kind = |fault: MemoryFault| (fault.address, fault.kind);
        let refused = memory.write(0x2000, [8u8]).map_err(kind);
        assert_eq!(refused, Err((0x2000, MemoryFaultKind::Protected)));
        assert_eq!(memory.read(0x2000), Ok([7u8]));
        memory.write(0x3000, [9u8]).unwrap();
        assert!(memory.protect(0x2000, 0x9000, RW).is_err(), "not all of it is mapped");

        memory.unmap(0x2000, 0x3000);
        let gone = memory.read::<1>(0x2000).map_err(kind);
        assert_eq!(gone, Err((0x2000, MemoryFaultKind::Unmapped)));
        assert_eq!(memory.read(0x3000), Ok([9u8]));
        assert_eq!(memory.gap_below(0x4000, 0x1000, 0x1000), Some(0x2000));
        assert_eq!(memory.gap_below(0x4000, 0x1000, 0x2000), None);
        assert_eq!(memory.mapped_bytes(), 0x2000);

        memory.resize(0x1000, 0x1800).unwrap();
        assert_eq!(memory.resize(0x1000, 0x4000), Err(MapError::Overlaps));
        memory.resize(0x1000, 0x2800).unwrap();
        assert_eq!(memory.read(0x2000), Ok([0u8]), "what comes back is empty");
    }

    #[test]
    fn accesses_are_checked_byte_by_byte_and_writes_are_whole_or_nothing() {
        let mut memory = Memory::new();
        memory.map(RegionKind::Data, 0x1000, 0x1000, RW).unwrap();
        memory.map(RegionKind::Code, 0x3000, 10, RX).unwrap();
        // The second half of a page that is in use, nothing, and more than there is.
        assert_eq!(memory.map(RegionKind::Data, 0x3800, 8, RW), Err(MapError::Overlaps));
        assert_eq!(memory.map(RegionKind::Data, 0x9000, 0, RW), Err(MapError::Empty));
        assert_eq!(memory.map(RegionKind::Data, u64::MAX - 4, 8, RW), Err(MapError::Wraps));
        memory.write(0x1ffc, 0x1122_3344_u32.to_le_bytes()).unwrap();
        let fault = memory.write(0x1ffc, [0xff; 8]).unwrap_err();
        assert_eq!((fault.address, fault.kind), (0x2000, MemoryFaultKind::Unmapped));
        assert_eq!(memory.read::<4>(0x1ffc).unwrap(), 0x1122_3344_u32.to_le_bytes());
        assert_eq!(memory.write(0x3000, [0]).unwrap_err().kind, MemoryFaultKind::Protected);
        assert_eq!(memory.read::<8>(0x1ffd).unwrap_err().address, 0x2000);
    }

    #[test]
    fn code_ends_where_its_region_was_asked_to_end() {
        let mut memory = Memory::new();
        memory.map(RegionKind::Code, 0x3000, 10, RX).unwrap();
        let mut bytes = [0; 15];
        assert_eq!(memory.fetch(0x3000, &mut bytes), Ok(10));
        assert_eq!(memory.fetch(0x3009, &mut bytes), Ok(1));
        assert_eq!(memory.fetch(0x300a, &mut bytes).unwrap_err().kind, MemoryFaultKind::PastCode);
    }

    #[test]
    fn a_snapshot_keeps_what_was_and_shares_what_is_the_same() {
        let mut memory = Memory::new();
        memory.map(RegionKind::Data, 0x1000, 0x3000, RW).unwrap();
        memory.write(0x1000, [1]).unwrap();
        memory.write(0x2000, [2]).unwrap();
        let first = memory.snapshot();
        memory.write(0x1000, [9]).unwrap();
        let second = memory.snapshot();
        let shared = |n: usize| Arc::ptr_eq(&first.pages[n].1, &second.pages[n].1);
        assert!(!shared(0) && shared(1));
        memory.restore(&first);
        assert_eq!(memory.read::<1>(0x1000), Ok([1]));
        memory.restore(&second);
        assert_eq!(memory.read::<1>(0x1000), Ok([9]));
        assert_eq!(memory.read::<1>(0x2000), Ok([2]));
        assert!(first.is_untouched_until(&second, &(0x2000..0x2008)));
        assert!(!first.is_untouched_until(&second, &(0x1ff8..0x2008)));
        assert_eq!((second.pages_not_in(&first), first.pages_not_in(&first)), (1, 0));
        let change = Difference { address: 0x1000, here: vec![1], there: vec![9] };
        assert_eq!(first.differences(&second), [change]);
    }

    proptest! {
        /// Pages are moved about when others go; each keeps its contents.
        #[test]
        fn pages_that_stay_keep_their_contents(
            steps in proptest::collection::vec((0u64..8, 0u8..4, any::<u8>()), 1..60),
        ) {
            let mut memory = Memory::new();
            let mut model = [None; 8];
            let mut saved = Vec::new();
            for (page, what, value) in steps {
                let at = 0x1000 * (page + 1);
                match (what, model[page as usize]) {
                    (0, _) => {
                        memory.unmap(at, at + 0x1000);
                        model[page as usize] = None;
                    }
                    (1, _) if !saved.is_empty() => {
                        let (snapshot, then) = &saved[usize::from(value) % saved.len()];
                        memory.restore(snapshot);
                        model = *then;
                    }
                    (2, _) => saved.push((memory.snapshot(), model)),
                    (_, old) => {
                        if old.is_none() {
                            memory.map(RegionKind::Mapping, at, 0x1000, RW).unwrap();
                        }
                        memory.write(at + 8, [value]).unwrap();
                        model[page as usize] = Some(value);
                    }
                }
                for (page, value) in (1..).zip(model) {
                    let read = memory.read::<1>(0x1000 * page + 8).ok().map(|[byte]| byte);
                    prop_assert_eq!(read, value);
                }
            }
        }

        #[test]
        fn what_was_written_last_is_read(writes in proptest::collection::vec((0u64..0x2ff8, any::<u64>()), 1..50)) {
            let mut memory = Memory::new();
            memory.map(RegionKind::Data, 0x1000, 0x3000, RW).unwrap();
            let mut model = vec![0u8; 0x3000];
            for (at, value) in writes {
                memory.write(0x1000 + at, value.to_le_bytes()).unwrap();
                model[at as usize..at as usize + 8].copy_from_slice(&value.to_le_bytes());
                let mut all = vec![0; 0x3000];
                memory.read_bytes(0x1000, &mut all).unwrap();
                prop_assert_eq!(&all, &model);
            }
        }
    }
}
