//! A64 operands that are vector registers cut into elements, elements, and lists of registers.

use sotto_isa::{
    Arrangement, ListElements, Operand, Reg, RegKind, RegisterList, Width, lane_by_letter,
};

use crate::operands::parsed::{Parsed, Spanned};
use crate::text::expr::{self, Atoms};
use crate::text::lexer::{Cursor, Tok};
use crate::{Code, Diagnostic, Span};

/// What stands behind the dot of a register's name: all elements, or one.
#[derive(Copy, Clone)]
pub(super) enum Suffix<'a> {
    Elements(Arrangement),
    Element(Arrangement),
    Unknown(&'a str),
}

/// A vector register with a suffix: `v0.4s`.
pub(super) fn register<'a>(cursor: &Cursor, word: &'a str) -> Option<(Reg, Suffix<'a>)> {
    let (name, suffix) = word.split_once('.')?;
    let reg = cursor.register(name).filter(|reg| reg.kind == RegKind::V)?;
    let lower = suffix.to_ascii_lowercase();
    let single = |lane: Width| Suffix::Element(Arrangement { lane, lanes: 1 });
    let suffix = match (Arrangement::parse(&lower), lane_by_letter(&lower)) {
        (Some(arrangement), _) => Suffix::Elements(arrangement),
        (None, Some(lane)) => single(lane),
        (None, None) => Suffix::Unknown(suffix),
    };
    Some((reg, suffix))
}

/// The operand that a vector register with its suffix is.
pub(super) fn cut(
    cursor: &mut Cursor,
    reg: Reg,
    suffix: Suffix,
    start: Span,
) -> Result<Spanned, Diagnostic> {
    let operand = match suffix {
        Suffix::Unknown(text) => return Err(unknown(text, start)),
        Suffix::Elements(arrangement) if cursor.peek()? == Tok::Op('[') => {
            Operand::Element(reg, arrangement, number(cursor, arrangement)?)
        }
        Suffix::Elements(arrangement) => Operand::Vector(reg, arrangement),
        Suffix::Element(arrangement) => {
            Operand::Element(reg, arrangement, number(cursor, arrangement)?)
        }
    };
    Ok(Spanned { parsed: Parsed::Fixed(operand), span: cursor.since(start) })
}

fn unknown(suffix: &str, span: Span) -> Diagnostic {
    let message = format!("`.{suffix}` does not say how a vector is cut into elements");
    Diagnostic::error(Code::Syntax, span, message)
        .help("write `.16b`, `.8h`, `.4s` or `.2d`, or half as many, or `.s[0]` for one element")
}

/// `[2]`: the number of an element.
fn number(cursor: &mut Cursor, arrangement: Arrangement) -> Result<u8, Diagnostic> {
    cursor.expect('[', "and the number of an element")?;
    cursor.eat('#')?;
    let (_, start) = cursor.peek_spanned()?;
    let expr = expr::parse(cursor, Atoms::Plain)?;
    let span = cursor.since(start);
    cursor.expect(']', "behind the number of an element")?;
    let last = 128 / arrangement.bits() - 1;
    match expr.constant() {
        Some(Ok(number)) if (0..=i128::from(last)).contains(&number) => Ok(number as u8),
        _ => {
            let message = format!("elements of this width are numbered 0 to {last}");
            Err(Diagnostic::error(Code::OutOfRange, span, message))
        }
    }
}

/// `{v0.4s, v1.4s}`, `{v0.4s-v3.4s}`, and `{v0.s, v1.s}[1]`.
pub(super) fn list(cursor: &mut Cursor, start: Span) -> Result<Spanned, Diagnostic> {
    cursor.next()?; // the brace
    let (first, suffix) = member(cursor)?;
    let mut count = 1;
    if cursor.eat('-')? {
        let (last, at) = (member(cursor)?, cursor.since(start));
        let distance = (last.0.number + 32 - first.number) % 32;
        if distance > 3 {
            return Err(Diagnostic::error(Code::Syntax, at, "a list has at most four registers"));
        }
        count = distance + 1;
    } else {
        while cursor.eat(',')? {
            let (next, at) = (member(cursor)?, cursor.since(start));
            if next.0.number != (first.number + count) % 32 {
                let wanted = Reg::new(RegKind::V, (first.number + count) % 32);
                let before = Reg::new(RegKind::V, (first.number + count + 31) % 32);
                let message = format!("in a list, `{}` follows `{}`", wanted.name(), before.name());
                return Err(Diagnostic::error(Code::Syntax, at, message));
            }
            count += 1;
            if count > 4 {
                let message = "a list has at most four registers";
                return Err(Diagnostic::error(Code::Syntax, at, message));
            }
        }
    }
    cursor.expect('}', "at the end of the list")?;
    let elements = match suffix {
        Member::Elements(arrangement) => ListElements::All(arrangement),
        Member::Element(arrangement) => {
            ListElements::One(arrangement.lane, number(cursor, arrangement)?)
        }
    };
    let list = Operand::List(RegisterList { first: first.number, count, elements });
    Ok(Spanned { parsed: Parsed::Fixed(list), span: cursor.since(start) })
}

/// What a member of a list says of elements.
enum Member {
    Elements(Arrangement),
    Element(Arrangement),
}

fn member(cursor: &mut Cursor) -> Result<(Reg, Member), Diagnostic> {
    let (token, at) = cursor.next()?;
    let found = match token {
        Tok::Word(word) => register(cursor, word),
        _ => None,
    };
    match found {
        Some((reg, Suffix::Elements(arrangement))) => Ok((reg, Member::Elements(arrangement))),
        Some((reg, Suffix::Element(arrangement))) => Ok((reg, Member::Element(arrangement))),
        Some((_, Suffix::Unknown(text))) => Err(unknown(text, at)),
        None => Err(cursor.unexpected(token, at, "a vector register such as `v0.4s`")),
    }
}

/// Takes `, msl #n` after an immediate, if it is there.
pub(super) fn ones_shift_after(cursor: &mut Cursor) -> Result<Option<u8>, Diagnostic> {
    let mut ahead = cursor.clone();
    if !ahead.eat(',')? {
        return Ok(None);
    }
    let is_shift = matches!(ahead.peek()?, Tok::Word(word) if word.eq_ignore_ascii_case("msl"));
    if !is_shift {
        return Ok(None);
    }
    ahead.next()?;
    ahead.eat('#')?;
    let (_, start) = ahead.peek_spanned()?;
    let expr = expr::parse(&mut ahead, Atoms::Plain)?;
    *cursor = ahead;
    match expr.constant() {
        Some(Ok(amount @ (8 | 16))) => Ok(Some(amount as u8)),
        _ => {
            let message = "`msl` shifts by 8 or 16";
            Err(Diagnostic::error(Code::OutOfRange, cursor.since(start), message))
        }
    }
}
