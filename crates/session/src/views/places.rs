//! Addresses in words: symbols and source lines.

use std::sync::{Arc, OnceLock};

use sotto_finding::with_offset;
pub use sotto_finding::{Place, hex};
use sotto_isa::Names;
use sotto_object::{Image, SourceLine};

/// The text of a source file that the program was assembled from.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct SourceText {
    /// The name as given.
    pub name: String,
    /// The text.
    pub text: String,
    /// Where lines start, once somebody asked for one.
    starts: OnceLock<Box<[usize]>>,
}

impl SourceText {
    /// A text of a file of this name.
    pub fn new(name: String, text: String) -> SourceText {
        SourceText { name, text, starts: OnceLock::new() }
    }

    /// The whole text.
    pub fn text(&self) -> &str {
        &self.text
    }

    fn starts(&self) -> &[usize] {
        self.starts.get_or_init(|| {
            let ends = self.text.bytes().enumerate().filter(|(_, byte)| *byte == b'\n');
            std::iter::once(0).chain(ends.map(|(at, _)| at + 1)).collect()
        })
    }

    /// How many lines it has.
    pub fn line_count(&self) -> usize {
        self.starts().len() - usize::from(self.text.ends_with('\n'))
    }

    /// A line, counted from 1, without its end.
    pub fn line(&self, number: u32) -> Option<&str> {
        let index = (number as usize).checked_sub(1)?;
        let start = *self.starts().get(index)?;
        let end = self.starts().get(index + 1).copied().unwrap_or(self.text.len());
        Some(self.text[start..end].trim_end_matches(['\n', '\r']))
    }
}

/// Names of an image's addresses, for printing instructions.
pub(crate) struct ImageNames<'a>(pub &'a Image);

impl Names for ImageNames<'_> {
    fn name(&self, address: u64) -> Option<String> {
        let (symbol, offset) = self.0.symbol_before(address)?;
        if offset > 0
            && let Some((label, 0)) = self.0.label_before(address)
        {
            return Some(label.name.clone());
        }
        Some(with_offset(&symbol.name, offset))
    }
}

/// The name of a line's file, and its text without surrounding blanks, if it says what is there.
pub(crate) type LineWords = (Option<Arc<str>>, Option<Arc<str>>);

/// A source line in words.
pub(crate) fn source_line(image: &Image, sources: &[SourceText], line: SourceLine) -> LineWords {
    let Some(file) = image.lines.files.get(line.file as usize) else { return (None, None) };
    let source = sources.iter().find(|source| source.name == *file);
    let text = source.and_then(|source| source.line(line.line)).map(str::trim);
    // In a macro's body the parameters say less than the instruction that came of them.
    let text = text.filter(|text| !text.contains('\\'));
    (Some(file.as_str().into()), text.map(Arc::from))
}
