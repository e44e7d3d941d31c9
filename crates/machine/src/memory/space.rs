//! The guest's memory: regions with permissions, and pages that appear when touched.
//!
//! The common access finds its page in the translation buffer and never hashes. Snapshots share pages until they are
//! written, so taking one costs no copy. Pages that were only read share one page of zeros and take no room.

use triomphe::{Arc, UniqueArc};

use crate::memory::code_marks::{CodeChange, CodeMarks};
use crate::memory::pages::PageDirectory;
use crate::memory::region::{PAGE_BYTES, Page, Permissions, Region, RegionKind};
use crate::memory::translation_buffer::TranslationBuffer;
use crate::{AccessKind, MemoryFault, MemoryFaultKind, MemorySnapshot, Observer};

/// Work that is done before running pauses, so that somebody can ask it to stop: about as many elements as string
/// instructions copy in a hundredth of a second.
const WORK_BEFORE_PAUSE: u64 = 1 << 22;

/// The guest's memory.
pub struct Memory {
    regions: Vec<Region>,
    /// Every page that was written, but for those that the translation buffer has for writing.
    pages: PageDirectory,
    /// How many pages were written.
    touched: u64,
    /// What every page is that was not written.
    zeros: Arc<Page>,
    buffer: TranslationBuffer,
    code: CodeMarks,
    /// Decoded code that was written over since [`Memory::take_changed_code`].
    changed_code: CodeChange,
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

impl Memory {
    /// Memory with nothing mapped.
    pub fn new() -> Memory {
        let zeros = Arc::new([0; PAGE_BYTES as usize]);
        Memory {
            regions: Vec::new(),
            pages: PageDirectory::default(),
            touched: 0,
            buffer: TranslationBuffer::new(zeros.clone()),
            zeros,
            code: CodeMarks::default(),
            changed_code: CodeChange::NONE,
            attention: false,
            work: 0,
            page_limit: u64::MAX,
        }
    }

    /// Limits the pages that may be touched to so many bytes.
    pub fn set_limit(&mut self, bytes: u64) {
        self.page_limit = bytes.div_ceil(PAGE_BYTES);
    }

    /// Bytes that may be touched.
    pub fn limit(&self) -> u64 {
        self.page_limit.saturating_mul(PAGE_BYTES)
    }

    /// Bytes of the pages that were written.
    pub fn touched_bytes(&self) -> u64 {
        self.touched * PAGE_BYTES
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
            self.attention = self.changed_code.is_some();
        }
        pause
    }

    /// Whether something is to be seen to before the next block.
    #[inline]
    pub(crate) fn wants_attention(&self) -> bool {
        self.attention
    }

    /// Notes that decoded code may not be there any more.
    fn note_code_change(&mut self, change: CodeChange) {
        self.changed_code.add(change);
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
        let upper = Region { start: at, ..self.regions[index] };
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
        self.forget_translations();
        Ok(())
    }

    /// Takes whole pages away, mapped or not.
    pub fn unmap(&mut self, start: u64, end: u64) {
        self.cut(start);
        self.cut(end);
        self.regions.retain(|region| !(start..end).contains(&region.start));
        self.forget_translations();
        for page in self.pages_within(start, end) {
            self.touched -= u64::from(self.pages.take(page).is_some());
        }
    }

    /// Makes whole pages hold zeros again, as when they were mapped.
    pub fn clear(&mut self, start: u64, end: u64) {
        self.forget_translations();
        for page in self.pages_within(start, end) {
            self.touched -= u64::from(self.pages.take(page).is_some());
        }
    }

    /// The numbers of the pages between two addresses that were written; the translation buffer has none.
    fn pages_within(&self, start: u64, end: u64) -> Vec<u64> {
        let (first, last) = (start / PAGE_BYTES, end.div_ceil(PAGE_BYTES));
        if last.saturating_sub(first) <= self.touched {
            return (first..last).filter(|page| self.pages.get(*page).is_some()).collect();
        }
        let mut pages = self.pages.numbers();
        pages.retain(|page| (first..last).contains(page));
        pages
    }

    /// Gives pages the addresses of others, of which none may have been written yet: contents move from `start..end` to
    /// as many pages from `to` on. Regions stay as they are.
    pub fn move_pages(&mut self, start: u64, end: u64, to: u64) {
        self.forget_translations();
        for page in self.pages_within(start, end) {
            if let Some(data) = self.pages.take(page) {
                self.pages.insert(page - start / PAGE_BYTES + to / PAGE_BYTES, data);
            }
        }
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

    /// Empties the translation buffer, and forgets that code which was decoded is still there.
    fn forget_translations(&mut self) {
        self.buffer.forget_all_read();
        self.gather_written();
        self.code.clear();
        self.note_code_change(CodeChange::All);
    }

    /// Puts the pages that the translation buffer has for writing back into the directory.
    fn gather_written(&mut self) {
        for (page, data) in self.buffer.take_all_written() {
            self.pages.insert(page, data);
        }
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

    /// Checks that an address may be accessed in a way.
    fn check(&self, address: u64, access: AccessKind) -> Result<&Region, MemoryFault> {
        let fault = |kind| MemoryFault { address, access, kind };
        let region = self.region_at(address).ok_or(fault(MemoryFaultKind::Unmapped))?;
        let allowed = match access {
            AccessKind::Read => region.permissions.read,
            AccessKind::Write => region.permissions.write,
            AccessKind::Execute => region.permissions.execute,
        };
        if allowed { Ok(region) } else { Err(fault(MemoryFaultKind::Protected)) }
    }

    /// The contents of a page.
    fn page(&self, page: u64) -> &Page {
        let found = self.buffer.written(page).or_else(|| self.pages.get(page).map(|data| &**data));
        found.unwrap_or(&self.zeros)
    }

    /// Makes a page that was not written yet; `false` if there may be no more.
    fn touch(&mut self, page: u64) -> bool {
        if self.buffer.written(page).is_some() || self.pages.get(page).is_some() {
            return true;
        }
        if self.touched >= self.page_limit {
            return false;
        }
        self.buffer.forget_read(page);
        self.pages.insert(page, Arc::new([0; PAGE_BYTES as usize]));
        self.touched += 1;
        true
    }

    /// Puts bytes into a page, at the place in it that an address has.
    ///
    /// # Errors
    ///
    /// If the page was not written yet and there may be no more.
    fn put(&mut self, address: u64, bytes: &[u8]) -> Result<(), MemoryFault> {
        let (page, offset) = (address / PAGE_BYTES, (address % PAGE_BYTES) as usize);
        if !self.touch(page) {
            let (access, kind) = (AccessKind::Write, MemoryFaultKind::Limit);
            return Err(MemoryFault { address, access, kind });
        }
        if self.code.write(page, offset as u64, bytes.len() as u64) {
            self.note_code_change(CodeChange::Pages(vec![page]));
        }
        let data = match self.buffer.written_mut(page) {
            Some(data) => data,
            None => {
                // A page that the buffer has as well would be copied.
                self.buffer.forget_read(page);
                self.pages.get_mut(page).expect("it was touched")
            }
        };
        data[offset..offset + bytes.len()].copy_from_slice(bytes);
        Ok(())
    }

    /// Reads `N` bytes.
    ///
    /// # Errors
    ///
    /// The first byte that cannot be read.
    #[inline]
    pub fn read<const N: usize>(&mut self, address: u64) -> Result<[u8; N], MemoryFault> {
        match self.buffer.read(address) {
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

    /// Reads bytes, and has their first page in the translation buffer from now on.
    fn read_slice_slow(&mut self, address: u64, bytes: &mut [u8]) -> Result<(), MemoryFault> {
        self.read_bytes(address, bytes)?;
        let page = address / PAGE_BYTES;
        if self.buffer.written(page).is_none() {
            let data = self.pages.get(page).unwrap_or(&self.zeros).clone();
            self.buffer.note_read(page, data);
        }
        Ok(())
    }

    /// Reads any number of bytes.
    ///
    /// # Errors
    ///
    /// The first byte that cannot be read; the bytes before it are filled in.
    pub fn read_bytes(&self, address: u64, bytes: &mut [u8]) -> Result<(), MemoryFault> {
        let mut done = 0;
        while done < bytes.len() {
            let at = address.wrapping_add(done as u64);
            self.check(at, AccessKind::Read)?;
            let offset = (at % PAGE_BYTES) as usize;
            let take = (bytes.len() - done).min(PAGE_BYTES as usize - offset);
            let data = self.page(at / PAGE_BYTES);
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
        match self.buffer.write(address, bytes) {
            Some(()) => Ok(()),
            None => self.write_slow(address, &bytes),
        }
    }

    #[cold]
    fn write_slow(&mut self, address: u64, bytes: &[u8]) -> Result<(), MemoryFault> {
        self.write_bytes(address, bytes)?;
        let page = address / PAGE_BYTES;
        if self.buffer.written(page).is_some() || self.code.holds(page) {
            return Ok(());
        }
        self.buffer.forget_read(page);
        if let Some(data) = self.pages.take(page) {
            let data = Arc::try_unique(data).unwrap_or_else(|data| UniqueArc::new(*data));
            if let Some((before, data)) = self.buffer.note_written(page, data) {
                self.pages.insert(before, data);
            }
        }
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
            self.check(at, AccessKind::Write)?;
            if !self.touch(at / PAGE_BYTES) {
                let (access, kind) = (AccessKind::Write, MemoryFaultKind::Limit);
                return Err(MemoryFault { address: at, access, kind });
            }
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
            self.region_at(at).ok_or(MemoryFault {
                address: at,
                access: AccessKind::Write,
                kind: MemoryFaultKind::Unmapped,
            })?;
            self.put(at, &bytes[done..done + take])?;
            done += take;
        }
        Ok(())
    }

    fn store(&mut self, address: u64, bytes: &[u8]) -> Result<(), MemoryFault> {
        let mut done = 0;
        while done < bytes.len() {
            let at = address.wrapping_add(done as u64);
            let take = (bytes.len() - done).min((PAGE_BYTES - at % PAGE_BYTES) as usize);
            self.put(at, &bytes[done..done + take])?;
            done += take;
        }
        Ok(())
    }

    /// Reads up to 15 bytes of code, and how many of them are there.
    ///
    /// # Errors
    ///
    /// If the first byte cannot be fetched.
    pub(crate) fn fetch(&self, address: u64, bytes: &mut [u8; 15]) -> Result<usize, MemoryFault> {
        let mut filled = 0;
        while filled < bytes.len() {
            let at = address.wrapping_add(filled as u64);
            let region = match self.check_fetch(at) {
                Ok(region) => region,
                Err(fault) if filled == 0 => return Err(fault),
                Err(_) => break,
            };
            let offset = (at % PAGE_BYTES) as usize;
            let take = (bytes.len() - filled)
                .min(PAGE_BYTES as usize - offset)
                .min((region.used_end - at) as usize);
            let data = self.page(at / PAGE_BYTES);
            bytes[filled..filled + take].copy_from_slice(&data[offset..][..take]);
            filled += take;
        }
        Ok(filled)
    }

    /// Checks that an instruction may start at an address.
    fn check_fetch(&self, address: u64) -> Result<&Region, MemoryFault> {
        let region = self.check(address, AccessKind::Execute)?;
        if address < region.used_end {
            return Ok(region);
        }
        let (access, kind) = (AccessKind::Execute, MemoryFaultKind::PastCode);
        Err(MemoryFault { address, access, kind })
    }

    /// Notes that decoded instructions of `start..end` are kept; a write there will be told.
    pub(crate) fn mark_code(&mut self, start: u64, end: u64) {
        let mut at = start;
        loop {
            let page = at / PAGE_BYTES;
            let stop = end.min((page + 1).saturating_mul(PAGE_BYTES));
            self.code.mark(page, at % PAGE_BYTES, stop.saturating_sub(at));
            if let Some(data) = self.buffer.take_written(page) {
                self.pages.insert(page, data);
            }
            if stop >= end {
                break;
            }
            at = stop;
        }
    }

    /// The decoded code that was written over since this was last asked.
    #[inline]
    pub(crate) fn take_changed_code(&mut self) -> CodeChange {
        if self.changed_code.is_some() {
            self.attention = self.work >= WORK_BEFORE_PAUSE;
        }
        std::mem::replace(&mut self.changed_code, CodeChange::NONE)
    }

    /// Whether decoded code was written over and nobody has taken note yet.
    #[inline]
    pub(crate) fn code_was_written(&self) -> bool {
        self.attention && self.changed_code.is_some()
    }

    /// Memory as it is now.
    pub fn snapshot(&mut self) -> MemorySnapshot {
        self.gather_written();
        let (regions, pages) = (self.regions.clone(), self.pages.clone());
        MemorySnapshot { regions, pages, touched: self.touched }
    }

    /// Puts memory back to a snapshot of it.
    pub fn restore(&mut self, snapshot: &MemorySnapshot) {
        self.buffer.forget_all_read();
        self.gather_written();
        if self.regions != snapshot.regions {
            self.regions.clone_from(&snapshot.regions);
            self.code.clear();
            self.note_code_change(CodeChange::All);
        }
        let pages = &self.pages;
        let changed = self.code.take_if(|page| !pages.shares(&snapshot.pages, page));
        if !changed.is_empty() {
            self.note_code_change(CodeChange::Pages(changed));
        }
        self.pages = snapshot.pages.clone();
        self.touched = snapshot.touched;
    }

    /// A little-endian value of 1, 2, 4 or 8 bytes in a page that was accessed lately; `None` says nothing of others.
    #[inline]
    pub(crate) fn tlb_read_value(&self, address: u64, bytes: u64) -> Option<u64> {
        Some(match bytes {
            1 => u64::from(u8::from_le_bytes(self.buffer.read(address)?)),
            2 => u64::from(u16::from_le_bytes(self.buffer.read(address)?)),
            4 => u64::from(u32::from_le_bytes(self.buffer.read(address)?)),
            _ => u64::from_le_bytes(self.buffer.read(address)?),
        })
    }

    /// Writes the low 1, 2, 4 or 8 bytes of a value to a page that was written lately; if it is none, nothing is
    /// done.
    #[inline]
    pub(crate) fn tlb_write_value(&mut self, address: u64, bytes: u64, value: u64) -> Option<()> {
        match bytes {
            1 => self.buffer.write(address, (value as u8).to_le_bytes()),
            2 => self.buffer.write(address, (value as u16).to_le_bytes()),
            4 => self.buffer.write(address, (value as u32).to_le_bytes()),
            _ => self.buffer.write(address, value.to_le_bytes()),
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
        let value = match self.tlb_read_value(address, bytes) {
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
        if self.tlb_write_value(address, bytes, value).is_none() {
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
        let shared = |page| first.pages.shares(&second.pages, page);
        assert!(!shared(1) && shared(2));
        memory.restore(&first);
        assert_eq!(memory.read::<1>(0x1000), Ok([1]));
        memory.restore(&second);
        assert_eq!(memory.read::<1>(0x1000), Ok([9]));
        assert_eq!(memory.read::<1>(0x2000), Ok([2]));
        assert!(first.is_untouched_until(&second, &(0x2000..0x2008)));
        assert!(!first.is_untouched_until(&second, &(0x1ff8..0x2008)));
        assert!(second.bytes_not_in(&first) > first.bytes_not_in(&first) + 4096);
        assert!(second.bytes_not_in(&first) < first.bytes_not_in(&first) + 2 * 4096);
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
