//! Where decoded code lies, so that a write to it drops what was decoded there and nothing else.

use std::collections::HashMap;

use foldhash::fast::FixedState;

use crate::memory::region::PAGE_BYTES;

/// Bytes that one bit of a page's mask stands for.
const LINE_BYTES: u64 = PAGE_BYTES / 64;

/// The pages that hold decoded code, and where in them.
#[derive(Default)]
pub(crate) struct CodeMarks {
    /// A bit for each line of a page, by page.
    lines: HashMap<u64, u64, FixedState>,
}

/// Decoded code that is not as it was.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) enum CodeChange {
    /// That of these pages.
    Pages(Vec<u64>),
    /// All of it may be.
    All,
}

impl CodeChange {
    /// No change.
    pub const NONE: CodeChange = CodeChange::Pages(Vec::new());

    /// Whether there is one.
    pub fn is_some(&self) -> bool {
        *self != CodeChange::NONE
    }

    /// Adds another.
    pub fn add(&mut self, other: CodeChange) {
        match (&mut *self, other) {
            (CodeChange::All, _) => {}
            (_, CodeChange::All) => *self = CodeChange::All,
            (CodeChange::Pages(pages), CodeChange::Pages(more)) => pages.extend(more),
        }
    }
}

/// The lines of a page that bytes from an offset on lie in.
fn mask(offset: u64, bytes: u64) -> u64 {
    let first = offset / LINE_BYTES;
    let last = (offset + bytes.max(1) - 1).min(PAGE_BYTES - 1) / LINE_BYTES;
    (u64::MAX >> (63 - last)) & (u64::MAX << first)
}

impl CodeMarks {
    /// Notes that bytes of a page were decoded.
    pub fn mark(&mut self, page: u64, offset: u64, bytes: u64) {
        *self.lines.entry(page).or_default() |= mask(offset, bytes);
    }

    /// Whether a page has decoded code.
    pub fn holds(&self, page: u64) -> bool {
        self.lines.contains_key(&page)
    }

    /// Notes a write to bytes of a page; whether it may have changed decoded code, of which the page has none then.
    pub fn write(&mut self, page: u64, offset: u64, bytes: u64) -> bool {
        match self.lines.get(&page) {
            Some(lines) if lines & mask(offset, bytes) != 0 => self.lines.remove(&page).is_some(),
            _ => false,
        }
    }

    /// Forgets the pages for which a condition holds; their numbers.
    pub fn take_if(&mut self, mut changed: impl FnMut(u64) -> bool) -> Vec<u64> {
        let pages: Vec<u64> = self.lines.keys().copied().filter(|page| changed(*page)).collect();
        for page in &pages {
            self.lines.remove(page);
        }
        pages
    }

    /// Forgets all pages.
    pub fn clear(&mut self) {
        self.lines.clear();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_write_beside_code_changes_none() {
        let mut marks = CodeMarks::default();
        marks.mark(7, 0, 40);
        marks.mark(7, 4090, 6);
        assert!(!marks.write(7, 64, 8) && !marks.write(8, 0, 8));
        assert!(!marks.write(7, 4024, 8), "the line before the last");
        assert!(marks.write(7, 4095, 1) && !marks.holds(7));
        assert_eq!((mask(0, 4096), mask(63, 2), mask(4095, 1)), (u64::MAX, 3, 1 << 63));
    }
}
