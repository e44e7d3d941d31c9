//! Source texts and places in them.
//!
//! An assembly reads more than one text: the file it was given, the files that one includes, and
//! the text that macros expand to. [`Sources`] lays them end to end, so that a [`Span`] of eight
//! bytes names a place in any of them.

use std::sync::Arc;

/// A named text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Source {
    /// The name as given on the command line.
    pub name: String,
    /// The text.
    pub text: Arc<str>,
}

/// A range of bytes of an assembly's texts, laid end to end.
///
/// In the text that an assembly starts with it is a range of bytes of that text.
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
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Location {
    /// Name of the file.
    pub file: String,
    /// Line, from 1.
    pub line: u32,
    /// Column in characters, from 1; in an expansion it counts in the expanded line.
    pub column: u32,
}

/// How a text came to be read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Origin {
    /// It is the file that the assembly was given.
    Given,
    /// An include named it at this place.
    Included(Span),
    /// A macro, or a repeat with a parameter, was expanded.
    Expanded {
        /// Name of the macro, or `.irp`.
        name: Arc<str>,
        /// The place of the call.
        call: Span,
        /// Where the first line of the body stands.
        body: u32,
    },
}

/// One of the texts of an assembly.
#[derive(Clone, Debug)]
pub struct Text {
    /// Name of the file it is, or in which its macro is defined.
    pub name: Arc<str>,
    /// The text.
    pub text: Arc<str>,
    /// Why it is read.
    pub origin: Origin,
    /// Where it starts.
    base: u32,
}

/// The lines that a span lies on, for showing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Excerpt<'a> {
    /// Name of the file.
    pub file: &'a str,
    /// Number of the first line, from 1.
    pub line: u32,
    /// The lines, without the last one's end.
    pub text: &'a str,
    /// The span, in bytes of `text`.
    pub range: std::ops::Range<usize>,
}

/// What some editors begin a file with. It is no part of the text.
pub(crate) const BYTE_ORDER_MARK: char = '\u{feff}';

/// Everything that an assembly reads.
#[derive(Clone, Debug, Default)]
pub struct Sources {
    texts: Vec<Text>,
}

impl Sources {
    /// Adds a text and gives the place at which it starts; `None` if the texts together would take
    /// more than 4 GiB.
    pub(crate) fn add(&mut self, name: Arc<str>, text: Arc<str>, origin: Origin) -> Option<u32> {
        // A byte lies between two texts, so that the end of one is not the start of the next.
        let base = self.texts.last().map_or(0, |last| last.base as usize + last.text.len() + 1);
        u32::try_from(base + text.len()).ok()?;
        let base = base as u32;
        self.texts.push(Text { name, text, origin, base });
        Some(base)
    }

    /// The texts, in the order in which reading began.
    pub fn texts(&self) -> &[Text] {
        &self.texts
    }

    fn holding(&self, at: u32) -> Option<&Text> {
        let after = self.texts.partition_point(|text| text.base <= at);
        self.texts[..after].last()
    }

    /// How the text that holds the place came to be read.
    pub fn origin(&self, at: u32) -> &Origin {
        self.holding(at).map_or(&Origin::Given, |text| &text.origin)
    }

    /// File, line and column of a place. In an expansion it is the line of the macro's body.
    pub fn location(&self, at: u32) -> Location {
        let Some(text) = self.holding(at) else {
            return Location { file: String::new(), line: 1, column: 1 };
        };
        let offset = ((at - text.base) as usize).min(text.text.len());
        let before = &text.text.as_bytes()[..offset];
        let lines = before.iter().filter(|&&b| b == b'\n').count() as u32;
        let line_start = before.iter().rposition(|&b| b == b'\n').map_or(0, |at| at + 1);
        let column = String::from_utf8_lossy(&before[line_start..]).chars().count() as u32 + 1;
        let first = match text.origin {
            Origin::Expanded { body, .. } => self.location(body).line,
            _ => 1,
        };
        Location { file: text.name.to_string(), line: first + lines, column }
    }

    /// The text of a span.
    pub fn slice(&self, span: Span) -> &str {
        let Some(text) = self.holding(span.start) else { return "" };
        let range = (span.start - text.base) as usize..(span.end - text.base) as usize;
        text.text.get(range).unwrap_or("")
    }

    /// The lines that a span lies on.
    pub fn excerpt(&self, span: Span) -> Excerpt<'_> {
        let Some(holder) = self.holding(span.start) else {
            return Excerpt { file: "", line: 1, text: "", range: 0..0 };
        };
        let text = &*holder.text;
        let start = ((span.start - holder.base) as usize).min(text.len());
        let end = (span.end.saturating_sub(holder.base) as usize).clamp(start, text.len());
        let from = text[..start].rfind('\n').map_or(0, |at| at + 1);
        let to = text[end..].find('\n').map_or(text.len(), |at| end + at);
        Excerpt {
            file: &holder.name,
            line: self.location(span.start).line,
            text: text[from..to].trim_end_matches('\r'),
            range: start - from..end - from,
        }
    }

    /// The calls and includes through which a place came to be read, innermost first: what it was,
    /// and where it stands.
    pub fn chain(&self, at: u32) -> Vec<(&Origin, Span)> {
        let mut chain = Vec::new();
        let mut at = at;
        loop {
            let origin = self.origin(at);
            let outer = match origin {
                Origin::Given => return chain,
                Origin::Included(span) => *span,
                Origin::Expanded { call, .. } => *call,
            };
            chain.push((origin, outer));
            at = outer.start;
        }
    }

    /// What to sort places by to have them in the order in which they were read.
    pub(crate) fn order(&self, at: u32) -> Vec<u32> {
        let mut order: Vec<u32> = self.chain(at).iter().map(|(_, span)| span.start).collect();
        order.reverse();
        order.push(at);
        order
    }
}

impl From<&Source> for Sources {
    fn from(source: &Source) -> Sources {
        let mut sources = Sources::default();
        // The caller has checked the size; a text that is too large has no places.
        let text = source.text.strip_prefix(BYTE_ORDER_MARK).map(Arc::from);
        let text = text.unwrap_or_else(|| source.text.clone());
        let _ = sources.add(source.name.as_str().into(), text, Origin::Given);
        sources
    }
}
