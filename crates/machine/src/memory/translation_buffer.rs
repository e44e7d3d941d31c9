//! A translation buffer in software: where the pages are that were accessed lately.
//!
//! Pages that are read are shared with the directory of pages; pages that are written are taken out of it, so that
//! nobody else has them, and a write needs no further check. Both are direct-mapped.

use triomphe::{Arc, UniqueArc};

use crate::memory::region::{PAGE_BYTES, Page};

const ENTRIES: usize = 1024;
/// No page has this number: it would lie beyond the 64-bit address space.
const NO_PAGE: u64 = u64::MAX;

/// The page read and the page written lately of those whose numbers lead here.
struct Entry {
    written: u64,
    written_data: Option<UniqueArc<Page>>,
    read: u64,
    read_data: Arc<Page>,
}

/// Pages that were accessed lately.
///
/// Invariant: a page of a write entry is writable, in no directory and no snapshot, and holds no decoded code.
pub(crate) struct TranslationBuffer {
    entries: Box<[Entry; ENTRIES]>,
    /// What entries hold that were not read lately.
    zeros: Arc<Page>,
}

#[inline]
fn place(address: u64) -> (u64, usize, usize) {
    let page = address / PAGE_BYTES;
    (page, entry_of(page), (address % PAGE_BYTES) as usize)
}

#[inline]
fn entry_of(page: u64) -> usize {
    page as usize % ENTRIES
}

impl TranslationBuffer {
    /// An empty one; `zeros` is any page.
    pub fn new(zeros: Arc<Page>) -> TranslationBuffer {
        let empty = |_| Entry {
            written: NO_PAGE,
            written_data: None,
            read: NO_PAGE,
            read_data: zeros.clone(),
        };
        let entries: Vec<Entry> = (0..ENTRIES).map(empty).collect();
        let entries = entries.into_boxed_slice().try_into().ok().expect("as many as were made");
        TranslationBuffer { entries, zeros }
    }

    /// Bytes of a page that was accessed lately; `None` says nothing of others.
    #[inline]
    pub fn read<const N: usize>(&self, address: u64) -> Option<[u8; N]> {
        let (page, at, offset) = place(address);
        let entry = &self.entries[at];
        let data: &Page = if entry.written == page {
            entry.written_data.as_deref()?
        } else if entry.read == page {
            &entry.read_data
        } else {
            return None;
        };
        Some(data.get(offset..offset + N)?.try_into().expect("N bytes"))
    }

    /// Writes to a page that was written lately; if it is none, nothing is done.
    #[inline]
    pub fn write<const N: usize>(&mut self, address: u64, bytes: [u8; N]) -> Option<()> {
        let (page, at, offset) = place(address);
        let entry = &mut self.entries[at];
        if entry.written != page {
            return None;
        }
        let data: &mut Page = entry.written_data.as_deref_mut()?;
        data.get_mut(offset..offset + N)?.copy_from_slice(&bytes);
        Some(())
    }

    /// The page of a write entry.
    pub fn written(&self, page: u64) -> Option<&Page> {
        let entry = &self.entries[entry_of(page)];
        if entry.written == page { entry.written_data.as_deref() } else { None }
    }

    /// The page of a write entry, to write it.
    pub fn written_mut(&mut self, page: u64) -> Option<&mut Page> {
        let entry = &mut self.entries[entry_of(page)];
        if entry.written == page { entry.written_data.as_deref_mut() } else { None }
    }

    /// Notes a page to be read; it is in no write entry.
    pub fn note_read(&mut self, page: u64, data: Arc<Page>) {
        let entry = &mut self.entries[entry_of(page)];
        (entry.read, entry.read_data) = (page, data);
    }

    /// Notes a page to be written; the page that was in its entry before.
    pub fn note_written(&mut self, page: u64, data: UniqueArc<Page>) -> Option<(u64, Arc<Page>)> {
        self.forget_read(page);
        let entry = &mut self.entries[entry_of(page)];
        let before = std::mem::replace(&mut entry.written, page);
        Some((before, entry.written_data.replace(data)?.shareable()))
    }

    /// Forgets a page that was read.
    pub fn forget_read(&mut self, page: u64) {
        let entry = &mut self.entries[entry_of(page)];
        if entry.read == page {
            (entry.read, entry.read_data) = (NO_PAGE, self.zeros.clone());
        }
    }

    /// Forgets all pages that were read.
    pub fn forget_all_read(&mut self) {
        for entry in self.entries.iter_mut().filter(|entry| entry.read != NO_PAGE) {
            (entry.read, entry.read_data) = (NO_PAGE, self.zeros.clone());
        }
    }

    /// Takes a page out of its write entry.
    pub fn take_written(&mut self, page: u64) -> Option<Arc<Page>> {
        let entry = &mut self.entries[entry_of(page)];
        if entry.written != page {
            return None;
        }
        entry.written = NO_PAGE;
        entry.written_data.take().map(UniqueArc::shareable)
    }

    /// Takes all pages out of their write entries.
    pub fn take_all_written(&mut self) -> impl Iterator<Item = (u64, Arc<Page>)> + '_ {
        self.entries.iter_mut().filter_map(|entry| {
            let page = std::mem::replace(&mut entry.written, NO_PAGE);
            Some((page, entry.written_data.take()?.shareable()))
        })
    }
}
