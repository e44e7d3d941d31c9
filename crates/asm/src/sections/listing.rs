//! What each line of the source laid down.

use sotto_object::SectionIndex;

use crate::Span;

/// A line that was read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ListingLine {
    /// The line's place in the assembly's texts.
    pub span: Span,
    /// Number of the file in the object's list, and of the line in it, from 1.
    pub line: (u32, u32),
    /// How many macros and repeats the line was read through; 0 for a line of a file.
    pub depth: usize,
    /// Section and range of bytes in it that the line laid down; `None` if none.
    pub bytes: Option<(SectionIndex, std::ops::Range<u64>)>,
}

/// The lines of an assembly, in the order in which they were read.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Listing {
    /// Names of the files.
    pub files: Vec<String>,
    /// Names of the sections, by index.
    pub sections: Vec<String>,
    /// The lines.
    pub lines: Vec<ListingLine>,
}
