//! Data directives.

use sotto_object::{Datum, DatumKind, has_mapping_symbols};

use crate::context::{Assembler, MAX_CONTENT_BYTES, MAX_SECTION_BYTES};
use crate::sections::fragments::Fragment;
use crate::sections::leb128;
use crate::sections::leb128::Leb128;
use crate::text::expr;
use crate::text::expr::Atoms;
use crate::text::hints;
use crate::text::lexer::{Cursor, Tok, unescape};
use crate::text::syntax::syntax;
use crate::{Code, Diagnostic, Span};

/// What a data directive lays down.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) enum Kind {
    /// Integers of the machine's word.
    Words,
    /// Integers of this many bytes.
    Integers(u8),
    /// Integers of this many bytes, on ARM alone: elsewhere the name stands for another width, or for nothing.
    IntegersOnArm(u8),
    /// Integers of this many bytes, or text padded to a multiple of it.
    Units(u8),
    /// Text, with or without a zero after it.
    Text { zero: bool },
    /// Bytes of one value.
    Space,
    /// A pattern, repeated.
    Fill,
    /// Floating-point numbers of this many bytes.
    Floats(u8),
    /// The bytes of a file.
    File,
    /// Integers in LEB128.
    Leb128 { signed: bool },
}

pub(crate) const DIRECTIVES: &[(&str, Kind)] = &[
    (".word", Kind::Words),
    (".byte", Kind::Integers(1)),
    (".2byte", Kind::Integers(2)),
    (".4byte", Kind::Integers(4)),
    (".8byte", Kind::Integers(8)),
    (".short", Kind::Integers(2)),
    (".hword", Kind::Integers(2)),
    (".value", Kind::Integers(2)),
    (".long", Kind::Integers(4)),
    (".int", Kind::Integers(4)),
    (".quad", Kind::Integers(8)),
    (".octa", Kind::Integers(16)),
    (".dword", Kind::IntegersOnArm(8)),
    (".inst", Kind::IntegersOnArm(4)),
    (".float", Kind::Floats(4)),
    (".single", Kind::Floats(4)),
    (".double", Kind::Floats(8)),
    (".uleb128", Kind::Leb128 { signed: false }),
    (".sleb128", Kind::Leb128 { signed: true }),
    (".incbin", Kind::File),
    (".xword", Kind::Integers(8)),
    (".ascii", Kind::Text { zero: false }),
    (".asciz", Kind::Text { zero: true }),
    (".string", Kind::Text { zero: true }),
    ("db", Kind::Units(1)),
    ("dw", Kind::Units(2)),
    ("dd", Kind::Units(4)),
    ("dq", Kind::Units(8)),
    (".zero", Kind::Space),
    (".skip", Kind::Space),
    (".space", Kind::Space),
    (".fill", Kind::Fill),
];

/// Whether a directive of this table lays down an instruction.
pub(crate) fn is_instruction(word: &str) -> bool {
    word.eq_ignore_ascii_case(".inst")
}

/// Carries out the directive.
pub(crate) fn run(
    assembler: &mut Assembler,
    kind: Kind,
    word: &str,
    span: Span,
    cursor: &mut Cursor,
) -> Result<(), Diagnostic> {
    if has_mapping_symbols(assembler.arch) {
        assembler.section().mark_kind(is_instruction(word));
    }
    match kind {
        Kind::Space => space(assembler, span, cursor)?,
        Kind::Fill => fill(assembler, span, cursor)?,
        Kind::Words => {
            let bytes = assembler.arch.word_bytes() as u8;
            list(assembler, bytes, false, word, cursor)?;
        }
        Kind::Integers(bytes) => list(assembler, bytes, false, word, cursor)?,
        Kind::IntegersOnArm(_) if !syntax(assembler.arch).has_arm_directives => {
            let message = format!("`{word}` is for ARM");
            return Err(Diagnostic::error(Code::TargetConflict, span, message)
                .help("`.long` is 4 bytes on every machine, and `.quad` is 8"));
        }
        Kind::IntegersOnArm(bytes) => list(assembler, bytes, false, word, cursor)?,
        Kind::Units(bytes) => list(assembler, bytes, true, word, cursor)?,
        Kind::Floats(bytes) => {
            assembler.check_contents(span, "values")?;
            floats(assembler, bytes, cursor)?;
        }
        Kind::Leb128 { signed } => {
            assembler.check_contents(span, "values")?;
            leb128_list(assembler, signed, cursor)?;
        }
        Kind::File => {
            assembler.check_contents(span, "the bytes of a file")?;
            file(assembler, cursor)?;
        }
        Kind::Text { zero } => {
            assembler.check_contents(span, "text")?;
            text(assembler, zero, cursor)?;
        }
    }
    cursor.expect_end_of(word)
}

/// A list of numbers, and of texts if `units` says so.
fn list(
    assembler: &mut Assembler,
    bytes: u8,
    units: bool,
    word: &str,
    cursor: &mut Cursor,
) -> Result<(), Diagnostic> {
    assembler.mark_line();
    let mut count = 0;
    let mut kind = DatumKind::Integer;
    loop {
        let (token, span) = cursor.peek_spanned()?;
        match token {
            Tok::Str(raw) if units => {
                assembler.check_contents(span, "text")?;
                cursor.next()?;
                let mut text = unescape(raw, span)?;
                if bytes == 1 && count == 0 {
                    kind = DatumKind::Text;
                }
                text.resize(text.len().next_multiple_of(usize::from(bytes)), 0);
                count += text.len() as u64 / u64::from(bytes);
                assembler.section().lay(&text);
            }
            Tok::Str(_) => {
                return Err(Diagnostic::error(Code::Syntax, span, "this directive takes numbers")
                    .help("write texts with `.ascii`, or `.asciz` to end them with a zero"));
            }
            _ => {
                integer(assembler, bytes, cursor)?;
                count += 1;
                if let Tok::Word(_) = cursor.peek()? {
                    return Err(after_number(token, span, bytes, cursor, word));
                }
            }
        }
        if !cursor.eat(',')? {
            break;
        }
    }
    assembler.describe_labels(Datum { element_bytes: bytes, count, kind });
    Ok(())
}

/// `.uleb128 NUMBER, ...`
fn leb128_list(
    assembler: &mut Assembler,
    signed: bool,
    cursor: &mut Cursor,
) -> Result<(), Diagnostic> {
    assembler.mark_line();
    loop {
        let (_, start) = cursor.peek_spanned()?;
        let mut expr = expr::parse(cursor, Atoms::Plain)?;
        let span = cursor.since(start);
        assembler.bind_names(&mut expr);
        match expr.constant() {
            Some(value) => {
                let value = value.map_err(|error| {
                    Diagnostic::error(Code::Arithmetic, span, error.to_string())
                })?;
                let bytes = leb128::encode(value, signed, 1, span)?;
                assembler.section().lay(&bytes);
            }
            None => {
                let context = assembler.context();
                let section = assembler.section();
                section.push(Fragment::Leb128(section.leb128.len() as u32));
                let bytes = vec![0];
                section.leb128.push(Leb128 { signed, expr, context, span, bytes, failed: false });
            }
        }
        if !cursor.eat(',')? {
            break;
        }
    }
    assembler.open_labels.clear();
    Ok(())
}

/// An error for a word behind a number in a list.
fn after_number(
    token: Tok,
    number: Span,
    bytes: u8,
    cursor: &mut Cursor,
    word: &str,
) -> Diagnostic {
    let next = cursor.peek_spanned();
    if let Ok((Tok::Word(fraction), at)) = next
        && fraction.starts_with('.')
        && at.start == number.end
    {
        let whole = number.to(at);
        let text = cursor.text_at(whole).to_string();
        let message = format!("`{text}` is a floating-point number, and `{word}` takes integers");
        return Diagnostic::error(Code::Syntax, whole, message)
            .help(format!("write `.float {text}` for 4 bytes, `.double {text}` for 8"));
    }
    if let Tok::Num(count) = token
        && let Some(error) = hints::repeated_values(cursor, word, bytes, count)
    {
        return error;
    }
    match cursor.expect_end_of(word) {
        Err(error) => error,
        Ok(()) => Diagnostic::error(Code::Syntax, number, "the list does not end here"),
    }
}

fn integer(assembler: &mut Assembler, bytes: u8, cursor: &mut Cursor) -> Result<(), Diagnostic> {
    let (_, start) = cursor.peek_spanned()?;
    let mut expr = expr::parse(cursor, Atoms::Plain)?;
    let span = cursor.since(start);
    assembler.bind_names(&mut expr);
    let context = assembler.context();
    let value = match expr.constant() {
        Some(result) => {
            let value = result
                .map_err(|error| Diagnostic::error(Code::Arithmetic, span, error.to_string()))?;
            check_fits(value, bytes, span)?;
            value
        }
        None => {
            assembler.check_contents(span, "values")?;
            assembler.section().lay_field(bytes, expr, context, span);
            return Ok(());
        }
    };
    if value == 0 && assembler.section().flags.nobits {
        // It starts so.
        let count = u64::from(bytes);
        assembler.section().push(Fragment::Fill { count, value: 0 });
        return Ok(());
    }
    assembler.check_contents(span, "values")?;
    assembler.section().lay(&value.to_le_bytes()[..usize::from(bytes)]);
    Ok(())
}

/// Refuses a value that fits neither signed nor unsigned.
pub(crate) fn check_fits(value: i128, bytes: u8, span: Span) -> Result<(), Diagnostic> {
    if bytes >= 16 {
        return Ok(()); // that is as many as a value has
    }
    let bits = u32::from(bytes) * 8;
    let (least, most) = (-(1i128 << (bits - 1)), (1i128 << bits) - 1);
    if (least..=most).contains(&value) {
        return Ok(());
    }
    let unit = if bytes == 1 { "byte" } else { "bytes" };
    Err(Diagnostic::error(
        Code::OutOfRange,
        span,
        format!("{value} does not fit in {bytes} {unit}"),
    )
    .label(format!("must be {least} to {most}")))
}

fn text(assembler: &mut Assembler, zero: bool, cursor: &mut Cursor) -> Result<(), Diagnostic> {
    assembler.mark_line();
    let mut count = 0;
    loop {
        let (token, span) = cursor.next()?;
        let Tok::Str(raw) = token else {
            return Err(cursor.unexpected(token, span, "a text in double quotes"));
        };
        if raw.is_empty()
            && let Ok((Tok::Word(_), at)) = cursor.peek_spanned()
            && at.start == span.end
        {
            let message =
                "the text ends where it begins, since what is put in has quotes of its own";
            return Err(Diagnostic::error(Code::BadText, span, message)
                .help("leave out the quotes around the parameter, or those of the argument"));
        }
        let mut text = unescape(raw, span)?;
        if zero {
            text.push(0);
        }
        count += text.len() as u64;
        assembler.section().lay(&text);
        if !cursor.eat(',')? {
            break;
        }
    }
    assembler.describe_labels(Datum { element_bytes: 1, count, kind: DatumKind::Text });
    Ok(())
}

/// `.float 1.5, -2e-3`: numbers as IEEE 754 writes them in decimal, rounded to nearest.
fn floats(assembler: &mut Assembler, bytes: u8, cursor: &mut Cursor) -> Result<(), Diagnostic> {
    let (rest, at) = cursor.rest();
    assembler.mark_line();
    let pieces = crate::reading::macros::split(rest);
    let count = pieces.len() as u64;
    if count == 0 {
        let span = Span::new(at, at);
        return Err(Diagnostic::error(Code::Syntax, span, "expected a number, but the line ends"));
    }
    for (offset, piece) in pieces {
        let span = Span::new(at + offset, at + offset + piece.len());
        // The host's parser also takes words such as `infinity`.
        let digits: String = piece.chars().filter(|c| *c != '_').collect();
        let bits = match bytes {
            4 => digits.parse::<f32>().map(|value| value.to_bits().to_le_bytes().to_vec()),
            _ => digits.parse::<f64>().map(|value| value.to_bits().to_le_bytes().to_vec()),
        };
        let bits = bits.map_err(|_| {
            Diagnostic::error(Code::BadNumber, span, format!("`{piece}` is no number"))
                .help("write it in decimal: `1.5`, `-2e-3`, `inf`, `nan`")
        })?;
        assembler.section().lay(&bits);
    }
    assembler.describe_labels(Datum { element_bytes: bytes, count, kind: DatumKind::Float });
    Ok(())
}

/// `.incbin "file"[, SKIP[, COUNT]]`
fn file(assembler: &mut Assembler, cursor: &mut Cursor) -> Result<(), Diagnostic> {
    let (name, at) = crate::reading::files::file_name(cursor)?;
    // How large it is decides what may be asked for, and only that is read.
    let (size, _) = assembler.read_part_beside(&name, at, 0..0)?;
    let (mut skip, mut taken) = (0, None);
    if cursor.eat(',')? {
        skip = count(assembler, cursor, size)?.0;
        if cursor.eat(',')? {
            taken = Some(count(assembler, cursor, size - skip)?.0);
        }
    }
    let end = skip + taken.unwrap_or(size - skip);
    assembler.filled_bytes += end - skip;
    if assembler.filled_bytes > MAX_CONTENT_BYTES {
        let message = format!("the file fills more than {MAX_CONTENT_BYTES} bytes");
        return Err(Diagnostic::error(Code::OutOfRange, at, message));
    }
    let (_, taken) = assembler.read_part_beside(&name, at, skip..end)?;
    assembler.mark_line();
    assembler.section().lay(&taken);
    let count = taken.len() as u64;
    assembler.describe_labels(Datum { element_bytes: 1, count, kind: DatumKind::Integer });
    Ok(())
}

/// A number that is needed at once, within `0..=most`.
fn count(
    assembler: &mut Assembler,
    cursor: &mut Cursor,
    most: u64,
) -> Result<(u64, Span), Diagnostic> {
    let (value, span) = number(assembler, cursor)?;
    match u64::try_from(value) {
        Ok(value) if value <= most => Ok((value, span)),
        _ => Err(Diagnostic::error(Code::OutOfRange, span, format!("{value} is out of range"))
            .label(format!("must be 0 to {most}"))),
    }
}

/// A number that is needed at once.
pub(crate) fn number(
    assembler: &mut Assembler,
    cursor: &mut Cursor,
) -> Result<(i128, Span), Diagnostic> {
    let (_, start) = cursor.peek_spanned()?;
    let mut expr = expr::parse(cursor, Atoms::Plain)?;
    let span = cursor.since(start);
    assembler.bind_names(&mut expr);
    Ok((assembler.number_now(&expr, span)?, span))
}

/// `.skip COUNT[, VALUE]`
fn space(assembler: &mut Assembler, span: Span, cursor: &mut Cursor) -> Result<(), Diagnostic> {
    let (bytes, _) = count(assembler, cursor, MAX_SECTION_BYTES)?;
    let mut value = 0;
    if cursor.eat(',')? {
        let (given, at) = number(assembler, cursor)?;
        check_fits(given, 1, at)?;
        value = given as u8;
        if value != 0 {
            assembler.check_contents(span, "values")?;
        }
    }
    assembler.mark_line();
    assembler.section().push(Fragment::Fill { count: bytes, value });
    assembler.describe_labels(Datum { element_bytes: 1, count: bytes, kind: DatumKind::Space });
    Ok(())
}

/// `.fill REPEAT[, SIZE[, VALUE]]`
fn fill(assembler: &mut Assembler, span: Span, cursor: &mut Cursor) -> Result<(), Diagnostic> {
    let (repeat, repeat_span) = count(assembler, cursor, MAX_SECTION_BYTES)?;
    let (mut size, mut value) = (1, 0);
    if cursor.eat(',')? {
        size = count(assembler, cursor, 8)?.0;
        if cursor.eat(',')? {
            let (given, at) = number(assembler, cursor)?;
            check_fits(given, size.max(1) as u8, at)?;
            value = given;
        }
    }
    if value != 0 {
        assembler.check_contents(span, "values")?;
    }
    if repeat * size > MAX_SECTION_BYTES {
        let message = format!("{} bytes are too many for one section", repeat * size);
        return Err(Diagnostic::error(Code::OutOfRange, repeat_span, message));
    }
    assembler.mark_line();
    if value == 0 {
        assembler.section().push(Fragment::Fill { count: repeat * size, value: 0 });
    } else {
        // Unlike zeros these bytes are laid down at once, so their sum is bounded here.
        assembler.filled_bytes += repeat * size;
        if assembler.filled_bytes > MAX_CONTENT_BYTES {
            let message = format!("the file fills more than {MAX_CONTENT_BYTES} bytes");
            return Err(Diagnostic::error(Code::OutOfRange, repeat_span, message));
        }
        let element = &value.to_le_bytes()[..size as usize];
        assembler.section().lay(&element.repeat(repeat as usize));
    }
    let element_bytes = size.max(1) as u8;
    assembler.describe_labels(Datum { element_bytes, count: repeat, kind: DatumKind::Integer });
    Ok(())
}
