//! The allocator, and what it is told of the work ahead.
//!
//! It is one that is made for many small records. A tiny program is started faster if its memory comes in
//! small pages, since the kernel clears every page that is touched; a large source is assembled faster
//! with huge ones, since fewer pages are asked for. So huge pages are left out (the crate's feature
//! `no_thp`) until a large source is there.

use nix::sys::mman::{MmapAdvise, madvise};

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Sources with more bytes than this are large.
const LARGE: usize = 4 << 20;

/// Tells the kernel that much memory will be used, if a source has so many bytes. Where it does not listen,
/// nothing is lost.
pub fn prepare_for(bytes: usize) {
    if bytes < LARGE {
        return;
    }
    // What the allocator gives out lies in the one mapping that it has reserved.
    let sample = Box::new(0u64);
    let address = &raw const *sample as usize;
    let maps = std::fs::read_to_string("/proc/self/maps").unwrap_or_default();
    let ranges = maps.lines().filter_map(|line| {
        let (start, end) = line.split(' ').next()?.split_once('-')?;
        let parse = |text| usize::from_str_radix(text, 16).ok();
        Some(parse(start)?..parse(end)?)
    });
    for range in ranges.filter(|range| range.contains(&address)) {
        let start = std::ptr::NonNull::new(std::ptr::without_provenance_mut(range.start));
        if let Some(start) = start {
            // SAFETY: the advice changes neither what is mapped nor what it holds.
            let _ = unsafe { madvise(start, range.len(), MmapAdvise::MADV_HUGEPAGE) };
        }
    }
}
