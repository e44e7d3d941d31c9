//! Source texts and places in them.

/// A named text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Source {
    /// The name as given on the command line.
    pub name: String,
    /// The text.
    pub text: String,
}

/// A range of bytes of a source text.
#[derive(Copy, Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Default)]
pub struct Span {
    /// First byte.
    pub start: u32,
    /// Byte after the last.
    pub end: u32,
}

impl Span {
    /// The bytes `start..end`.
    pub fn new(start: usize, end: usize) -> Span {
        Span { start: start as u32, end: end as u32 }
    }

    /// From the start of this span to the end of the other.
    pub fn to(self, other: Span) -> Span {
        Span { start: self.start, end: other.end.max(self.end) }
    }
}

/// A place in words a person uses.
#[derive(Copy, Clone, Debug, PartialEq, Eq)]
pub struct Location {
    /// Line, from 1.
    pub line: u32,
    /// Column in characters, from 1.
    pub column: u32,
}

impl Source {
    /// Line and column of a byte offset.
    pub fn location(&self, offset: u32) -> Location {
        let before = &self.text.as_bytes()[..(offset as usize).min(self.text.len())];
        let line = before.iter().filter(|&&b| b == b'\n').count() as u32 + 1;
        let line_start = before.iter().rposition(|&b| b == b'\n').map_or(0, |at| at + 1);
        let column = String::from_utf8_lossy(&before[line_start..]).chars().count() as u32 + 1;
        Location { line, column }
    }

    /// The text of line `number`, from 1, without its end; empty if there is no such line.
    pub fn line(&self, number: u32) -> &str {
        self.text.lines().nth(number.saturating_sub(1) as usize).unwrap_or("")
    }
}
