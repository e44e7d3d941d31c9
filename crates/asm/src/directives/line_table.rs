//! `.file` and `.loc`: the line table that compilers state for the source that they compiled.
//!
//! Source: DWARF 5, 6.2 "Line Number Information"; the numbers of views are those of its proposal "Location
//! View Numbering", which compilers write.

use sotto_object::{SectionIndex, StatedLine};

use crate::context::Assembler;
use crate::directives::data;
use crate::sections::stated_lines::StatedRow;
use crate::symbols::Definition;
use crate::text::lexer::{Cursor, Tok, unescape};
use crate::{Code, Diagnostic, Expr, Span};

/// Files have numbers up to this one.
const MAX_FILES: i128 = 1 << 12;

/// `.file "NAME"`, a mark, or `.file NUMBER ["FOLDER"] "NAME"`.
pub(crate) fn file(assembler: &mut Assembler, cursor: &mut Cursor) -> Result<(), Diagnostic> {
    if let Tok::Str(_) | Tok::End = cursor.peek()? {
        cursor.rest();
        return Ok(());
    }
    let (number, span) = data::number(assembler, cursor)?;
    if !(0..=MAX_FILES).contains(&number) {
        return Err(Diagnostic::error(
            Code::OutOfRange,
            span,
            format!("{number} is no file number"),
        )
        .label(format!("must be 0 to {MAX_FILES}")));
    }
    let first = text(cursor)?;
    let second = match cursor.peek()? {
        Tok::Str(_) => Some(text(cursor)?),
        _ => None,
    };
    // What else may be said of a file, its checksum, is left to who wrote it.
    cursor.rest();
    let files = &mut assembler.stated.files;
    let number = number as usize;
    if files.len() <= number {
        files.resize(number + 1, (None, String::new()));
    }
    files[number] = match second {
        Some(name) => (Some(first), name),
        None => (None, first),
    };
    if files[0].1.is_empty() {
        // Before version 5 of the standard no file has the number 0.
        files[0] = files[number].clone();
    }
    Ok(())
}

fn text(cursor: &mut Cursor) -> Result<String, Diagnostic> {
    match cursor.next()? {
        (Tok::Str(raw), span) => Ok(String::from_utf8_lossy(&unescape(raw, span)?).into_owned()),
        (token, span) => Err(cursor.unexpected(token, span, "the name of a file in double quotes")),
    }
}

/// `.loc FILE LINE [COLUMN] [is_stmt N] [view NAME] ...`
pub(crate) fn location(assembler: &mut Assembler, cursor: &mut Cursor) -> Result<(), Diagnostic> {
    let small = |assembler: &mut Assembler, cursor: &mut Cursor| -> Result<u32, Diagnostic> {
        let (value, span) = number(assembler, cursor)?;
        u32::try_from(value).map_err(|_| {
            Diagnostic::error(Code::OutOfRange, span, format!("{value} is out of range"))
                .label("must be 0 to 4294967295")
        })
    };
    let file = small(assembler, cursor)?;
    let line = small(assembler, cursor)?;
    let mut column = 0;
    if let Tok::Num(_) = cursor.peek()? {
        column = small(assembler, cursor)?;
    }
    let mut row =
        StatedLine { section: SectionIndex(0), offset: 0, file, line, column, is_statement: true };
    let at = assembler.here();
    let last = assembler.stated.rows.last();
    assembler.stated.view = match last {
        Some(last) if last.at == at => assembler.stated.view + 1,
        _ => 0,
    };
    loop {
        match cursor.next()? {
            (Tok::End, _) => break,
            (Tok::Word("is_stmt"), _) => row.is_statement = small(assembler, cursor)? != 0,
            (Tok::Word("view"), _) => view(assembler, cursor)?,
            (Tok::Word("isa" | "discriminator"), _) => drop(small(assembler, cursor)?),
            (Tok::Word("basic_block" | "prologue_end" | "epilogue_begin"), _) => {}
            (token, span) => {
                let wanted = "`is_stmt`, `view`, `prologue_end` or another property of the line";
                return Err(cursor.unexpected(token, span, wanted));
            }
        }
    }
    // A row of a file that has no name says nothing.
    if (file as usize) < assembler.stated.files.len() {
        assembler.stated.rows.push(StatedRow { at, line: row });
    }
    Ok(())
}

/// A number as it stands; expressions have blanks in them here.
fn number(assembler: &mut Assembler, cursor: &mut Cursor) -> Result<(i128, Span), Diagnostic> {
    match cursor.peek_spanned()? {
        (Tok::Num(value), span) => {
            cursor.next()?;
            Ok((value, span))
        }
        _ => data::number(assembler, cursor),
    }
}

/// `view NAME`: the name gets the view's number. `view 0` and `view -0` say what it is.
fn view(assembler: &mut Assembler, cursor: &mut Cursor) -> Result<(), Diagnostic> {
    if cursor.eat('-')? {
        assembler.stated.view = 0;
    }
    match cursor.next()? {
        (Tok::Num(_), _) => Ok(()),
        (Tok::Word(name), span) => {
            let value = Expr::Number(assembler.stated.view);
            let definition = Definition::Equate(Box::new((value, Default::default())));
            let id = assembler.symbols.define(name, span, definition, None)?;
            assembler.symbols.get_mut(id).hidden |= name.starts_with('.');
            Ok(())
        }
        (token, span) => Err(cursor.unexpected(token, span, "the name of a view")),
    }
}
