//! Files that a source names.

use std::ops::Range;

use crate::context::Assembler;
use crate::text::lexer::{Cursor, Tok};
use crate::{Code, Diagnostic, Span};

impl Assembler<'_> {
    /// Reads a file that is named in the source: its name to show, and its bytes.
    pub(crate) fn read_beside(
        &mut self,
        name: &str,
        at: Span,
    ) -> Result<(String, Vec<u8>), Diagnostic> {
        let from = self.including.last().map_or("", String::as_str);
        let (shown, bytes) =
            self.disk.read(name, from).map_err(|reason| unreadable(name, at, &reason))?;
        self.files_read.push(shown.clone());
        Ok((shown, bytes))
    }

    /// Reads a part of a file that is named in the source: how large the file is, and the bytes.
    pub(crate) fn read_part_beside(
        &mut self,
        name: &str,
        at: Span,
        part: Range<u64>,
    ) -> Result<(u64, Vec<u8>), Diagnostic> {
        let from = self.including.last().map_or("", String::as_str);
        let (shown, size, bytes) = self
            .disk
            .read_part(name, from, part)
            .map_err(|reason| unreadable(name, at, &reason))?;
        if !self.files_read.contains(&shown) {
            self.files_read.push(shown);
        }
        Ok((size, bytes))
    }

    /// The number of a file in the line table.
    pub(crate) fn file_number(&mut self, name: &str) -> u32 {
        let found = self.files.iter().position(|file| file == name);
        found.unwrap_or_else(|| {
            self.files.push(name.to_string());
            self.files.len() - 1
        }) as u32
    }
}

fn unreadable(name: &str, at: Span, reason: &str) -> Diagnostic {
    Diagnostic::error(Code::Include, at, format!("cannot read `{name}`: {reason}"))
        .help("a file is looked for beside the one that names it, then in the include path")
}

/// Takes the name of a file in quotes.
pub(crate) fn file_name(cursor: &mut Cursor) -> Result<(String, Span), Diagnostic> {
    match cursor.next()? {
        (Tok::Str(name), span) if !name.is_empty() => Ok((name.to_string(), span)),
        (token, span) => Err(cursor.unexpected(token, span, "the name of a file in double quotes")),
    }
}
