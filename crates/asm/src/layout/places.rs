//! Where the fragments of sections start, as long as sizes may still change.

use crate::context::MAX_SECTION_BYTES;
use crate::sections::fragments::{Fragment, Org, SectionBuilder};
use crate::symbols::Position;

/// Where each fragment of each section starts, in bytes from the start of its section.
pub(crate) struct Starts(pub(crate) Vec<Vec<u64>>);

impl Starts {
    pub(crate) fn of(sections: &[SectionBuilder]) -> Starts {
        Starts(sections.iter().map(section_starts).collect())
    }

    pub(crate) fn offset(&self, position: Position) -> u64 {
        self.0[position.section as usize][position.fragment as usize] + position.offset
    }

    pub(crate) fn size(&self, section: usize) -> u64 {
        *self.0[section].last().expect("one more start than fragments")
    }
}

pub(crate) fn section_starts(section: &SectionBuilder) -> Vec<u64> {
    let mut starts: Vec<u64> = Vec::with_capacity(section.fragments.len() + 1);
    let mut at = 0u64;
    for fragment in &section.fragments {
        starts.push(at);
        let size = match fragment {
            Fragment::Org(org) => org_gap(org, &starts).max(0) as u64,
            fragment => fragment_size(section, fragment, at),
        };
        at = at.saturating_add(size);
    }
    starts.push(at);
    starts
}

/// Bytes from an `.org`, which starts last, to where it goes; negative if that lies behind it.
pub(crate) fn org_gap(org: &Org, starts: &[u64]) -> i128 {
    let from = org.from.map_or(0, |position| starts[position.fragment as usize] + position.offset);
    let here = starts.last().copied().unwrap_or(0);
    let gap = i128::from(from) + org.offset - i128::from(here);
    // What is too large is refused by the size of the section.
    gap.min(i128::from(MAX_SECTION_BYTES) + 1)
}

pub(crate) fn fragment_size(section: &SectionBuilder, fragment: &Fragment, at: u64) -> u64 {
    match fragment {
        Fragment::Bytes(count) | Fragment::Fill { count, .. } => *count,
        Fragment::Org(_) => 0,
        Fragment::Align(pad) => {
            let gap = at.next_multiple_of(pad.align) - at;
            if gap <= pad.max { gap } else { 0 }
        }
        Fragment::Instruction(open) => section.open[*open as usize].encoded.bytes.len() as u64,
        Fragment::Leb128(number) => section.leb128[*number as usize].bytes.len() as u64,
    }
}
