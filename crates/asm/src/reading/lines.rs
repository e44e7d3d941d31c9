//! The lines of a text, one after the other, and what is open around the line that is read.

use std::ops::Range;
use std::rc::Rc;

use sotto_isa::Arch;

use crate::Span;
use crate::text::lexer::{outside_quotes, starts_comment};

/// A line of a text.
#[derive(Copy, Clone)]
pub(crate) struct Line<'t> {
    /// Without its end.
    pub text: &'t str,
    /// Where it stands.
    pub at: usize,
}

/// Gives the lines of a text, one after the other.
#[derive(Clone)]
pub(crate) struct Lines<'t> {
    pub text: &'t str,
    pub at: usize,
    /// Where the text stands.
    pub base: usize,
    pub file: u32,
    /// Number of the line that comes next.
    pub line: u32,
    /// A part of a line was given, and the rest of it comes next; `line` is the number of the one behind it.
    pub within_line: bool,
}

impl<'t> Lines<'t> {
    pub fn new(text: &'t str, base: usize, file: u32, line: u32) -> Lines<'t> {
        Lines { text, at: 0, base, file, line, within_line: false }
    }

    /// The whole text.
    pub fn text(&self) -> &'t str {
        self.text
    }

    /// The lines that come next.
    pub fn rest(self) -> impl Iterator<Item = &'t str> {
        self.text[self.at..].lines()
    }

    /// Skips so many lines.
    pub fn skip(&mut self, lines: usize) {
        for _ in 0..lines {
            self.next(None);
        }
    }

    /// Whether a part of a line was given, and more of it comes next.
    pub fn continues(&self) -> bool {
        self.within_line
    }

    /// The next line, or the next statement of one if `;` separates statements (`separated` names the machine,
    /// whose comments a `;` may stand in).
    pub fn next(&mut self, separated: Option<Arch>) -> Option<Line<'t>> {
        let rest = &self.text[self.at..];
        if rest.is_empty() {
            return None;
        }
        let at = self.base + self.at;
        let length = memchr::memchr(b'\n', rest.as_bytes());
        let line = &rest[..length.unwrap_or(rest.len())];
        if !self.within_line {
            self.line += 1;
        }
        if let Some(end) = separated.and_then(|arch| separator(line, arch)) {
            (self.at, self.within_line) = (self.at + end + 1, true);
            return Some(Line { text: &line[..end], at });
        }
        self.at += length.map_or(rest.len(), |length| length + 1);
        self.within_line = false;
        Some(Line { text: line.strip_suffix('\r').unwrap_or(line), at })
    }
}

/// Where the first `;` of a line stands that separates statements.
fn separator(line: &str, arch: Arch) -> Option<usize> {
    memchr::memchr(b';', line.as_bytes())?;
    let bytes = line.as_bytes();
    let mut outside = outside_quotes(line);
    let found = outside.find(|(at, byte)| *byte == b';' || starts_comment(bytes, *at, arch))?;
    (found.1 == b';').then_some(found.0)
}

/// An `.if` that is being read.
pub(crate) struct Condition {
    pub span: Span,
    /// One of its branches was taken.
    pub taken: bool,
    /// Its `.else`, once that is reached.
    pub other: Option<Span>,
}

/// A macro or a repeat that is being read.
pub(crate) struct Level {
    /// The text whose dotted labels are its own.
    pub range: Range<u32>,
    pub labels: Rc<[Box<str>]>,
    pub number: u32,
    /// Parts of the text that came from the caller, and where they stand there.
    pub passed: Vec<(Range<u32>, u32)>,
}
