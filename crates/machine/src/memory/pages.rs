//! Pages by number, shared with snapshots until they are written.
//!
//! Pages lie in groups. A clone of a [`PageDirectory`] shares every group with the original, and a group that changes
//! is copied by itself, its pages still shared; so a clone costs as much as there are groups.

use std::collections::HashMap;

use foldhash::fast::FixedState;
use triomphe::Arc;

use crate::memory::region::Page;

/// Pages in a group.
const GROUP_PAGES: u64 = 64;

/// Pages that are next to each other; those that nothing was written to are missing.
#[derive(Clone)]
struct Group {
    pages: [Option<Arc<Page>>; GROUP_PAGES as usize],
}

impl Group {
    const EMPTY: Group = Group { pages: [const { None }; GROUP_PAGES as usize] };
}

/// Pages by number.
#[derive(Clone, Default)]
pub(crate) struct PageDirectory {
    groups: HashMap<u64, Arc<Group>, FixedState>,
}

/// The number of a page's group, and its place there.
fn place(page: u64) -> (u64, usize) {
    (page / GROUP_PAGES, (page % GROUP_PAGES) as usize)
}

impl PageDirectory {
    /// The page with this number.
    pub fn get(&self, page: u64) -> Option<&Arc<Page>> {
        let (group, at) = place(page);
        self.groups.get(&group)?.pages[at].as_ref()
    }

    /// The page with this number to be written: copied first if it is shared.
    pub fn get_mut(&mut self, page: u64) -> Option<&mut Page> {
        let (group, at) = place(page);
        let group = self.groups.get_mut(&group)?;
        group.pages[at].as_ref()?;
        Arc::make_mut(group).pages[at].as_mut().map(Arc::make_mut)
    }

    /// Puts a page in.
    pub fn insert(&mut self, page: u64, data: Arc<Page>) {
        let (group, at) = place(page);
        let group = self.groups.entry(group).or_insert_with(|| Arc::new(Group::EMPTY));
        Arc::make_mut(group).pages[at] = Some(data);
    }

    /// Takes a page out.
    pub fn take(&mut self, page: u64) -> Option<Arc<Page>> {
        let (group, at) = place(page);
        let group = self.groups.get_mut(&group)?;
        group.pages[at].as_ref()?;
        Arc::make_mut(group).pages[at].take()
    }

    /// The numbers of all pages, ascending.
    pub fn numbers(&self) -> Vec<u64> {
        let mut groups: Vec<(&u64, &Arc<Group>)> = self.groups.iter().collect();
        groups.sort_unstable_by_key(|(number, _)| **number);
        let pages = groups.into_iter().flat_map(|(number, group)| {
            let there = group.pages.iter().enumerate().filter(|(_, page)| page.is_some());
            there.map(move |(at, _)| number * GROUP_PAGES + at as u64)
        });
        pages.collect()
    }

    /// Whether a page is the same one in both, or missing in both.
    pub fn shares(&self, other: &PageDirectory, page: u64) -> bool {
        match (self.get(page), other.get(page)) {
            (Some(a), Some(b)) => Arc::ptr_eq(a, b),
            (None, None) => true,
            _ => false,
        }
    }

    /// The numbers of pages that are not the same in both, ascending.
    pub fn differing(&self, other: &PageDirectory) -> Vec<u64> {
        let mut groups: Vec<u64> = self.groups.keys().chain(other.groups.keys()).copied().collect();
        groups.sort_unstable();
        groups.dedup();
        groups.retain(|number| match (self.groups.get(number), other.groups.get(number)) {
            (Some(a), Some(b)) => !Arc::ptr_eq(a, b),
            _ => true,
        });
        let pages = groups.into_iter().flat_map(|group| {
            let first = group * GROUP_PAGES;
            (first..first + GROUP_PAGES).filter(|page| !self.shares(other, *page))
        });
        pages.collect()
    }

    /// Bytes of the pages and groups of this directory that are not in the other.
    pub fn bytes_not_in(&self, other: &PageDirectory) -> usize {
        let mut bytes = self.groups.len() * size_of::<(u64, Arc<Group>)>();
        for (number, group) in &self.groups {
            let same = other.groups.get(number);
            if same.is_some_and(|same| Arc::ptr_eq(same, group)) {
                continue;
            }
            bytes += size_of::<Group>();
            for (at, page) in group.pages.iter().enumerate() {
                let Some(page) = page else { continue };
                let other = same.and_then(|same| same.pages[at].as_ref());
                if !other.is_some_and(|other| Arc::ptr_eq(other, page)) {
                    bytes += size_of::<Page>();
                }
            }
        }
        bytes
    }
}
