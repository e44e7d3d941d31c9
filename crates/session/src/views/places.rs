//! Addresses in words: symbols and source lines.

use std::sync::{Arc, OnceLock};

use serde::Serialize;
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

/// An address in words.
#[derive(Clone, PartialEq, Eq, Debug, Default, Serialize)]
pub struct Place {
    /// The address.
    #[serde(serialize_with = "hex")]
    pub address: u64,
    /// The nearest symbol at or below it, in the same part of memory.
    pub symbol: Option<Arc<str>>,
    /// Bytes from the symbol to the address.
    pub offset: u64,
    /// The dotted label between the two, if there is one: the last.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub label: Option<Arc<str>>,
    /// Bytes from that label to the address.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub label_offset: Option<u64>,
    /// The source file, if lines are known.
    pub file: Option<Arc<str>>,
    /// The line in it, from 1.
    pub line: Option<u32>,
    /// The text of the line, without surrounding blanks.
    pub source: Option<Arc<str>>,
}

/// Writes a 64-bit value as a hexadecimal string, since many readers of JSON lose bits above 2^53.
///
/// # Errors
///
/// Those of the serializer.
pub fn hex<S: serde::Serializer>(value: &u64, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_str(&format!("{value:#x}"))
}

impl Place {
    /// The dotted label or the symbol, with the distance if there is one: `lamp`, `lamp + 4`, `.next`.
    pub fn name(&self) -> Option<String> {
        let (name, offset) = match (&self.label, self.label_offset) {
            (Some(label), Some(offset)) => (label, offset),
            _ => (self.symbol.as_ref()?, self.offset),
        };
        Some(with_offset(name, offset))
    }

    /// The same by the symbol alone, which says more to who is somewhere else.
    pub fn symbol_name(&self) -> Option<String> {
        Some(with_offset(self.symbol.as_ref()?, self.offset))
    }

    /// Whether the line is one of a compiled language, of which one becomes several instructions.
    pub fn is_compiled(&self) -> bool {
        const ASSEMBLY: [&str; 4] = [".s", ".S", ".asm", ".inc"];
        let file = self.file.as_deref();
        file.is_some_and(|file| !ASSEMBLY.iter().any(|ending| file.ends_with(ending)))
    }

    /// `file:line`, if the line is known.
    pub fn location(&self) -> Option<String> {
        Some(format!("{}:{}", self.file.as_ref()?, self.line?))
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

/// `lamp`, `lamp + 4`
fn with_offset(name: &str, offset: u64) -> String {
    match offset {
        0 => name.to_string(),
        offset => format!("{name} + {offset}"),
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
