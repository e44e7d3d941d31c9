//! Help for lines that are written as other languages for this job write them, by the shape of their tokens alone.

use crate::text::lexer::{Cursor, Tok};
use crate::text::syntax::syntax;
use crate::{Code, Diagnostic, Span};

/// Tokens of a statement that are looked at.
const MOST_TOKENS: usize = 12;

/// The help for two operands in memory.
pub(crate) const BOTH_IN_MEMORY: &str =
    "one operand at most is in memory: load one into a register first, and use the register";

/// The tokens from the cursor on, at most [`MOST_TOKENS`].
pub(crate) fn tokens<'s>(cursor: &Cursor<'s>) -> Vec<(Tok<'s>, Span)> {
    let mut cursor = cursor.clone();
    let mut found = Vec::new();
    while let Ok((token, span)) = cursor.next() {
        if token == Tok::End || found.len() == MOST_TOKENS {
            break;
        }
        found.push((token, span));
    }
    found
}

/// `COUNT word(VALUES)` in a list of data: values are to be repeated.
pub(crate) fn repeated_values(
    cursor: &Cursor,
    directive: &str,
    element: u8,
    count: i128,
) -> Option<Diagnostic> {
    let tokens = tokens(cursor);
    let [(Tok::Word(word), span), (Tok::Op('('), open), inner @ .., (Tok::Op(')'), close)] =
        &tokens[..]
    else {
        return None;
    };
    let message = format!("expected `,` or the end of the line, but found `{word}`");
    let error = Diagnostic::error(Code::Syntax, *span, message);
    let values = cursor.text_at(Span { start: open.end, end: close.start }).trim();
    Some(error.help(match inner {
        [(Tok::Num(0), _)] => format!("to repeat the zero, write `.skip {}`", count * i128::from(element)),
        [(Tok::Num(value), _)] => format!("to repeat the value, write `.fill {count}, {element}, {value}`"),
        [(Tok::Word(_) | Tok::Op(_), _)] => format!("for room without values, write `.skip {}`", count * i128::from(element)),
        _ => format!("to repeat the values, write `.rept {count}`, then `{directive} {values}`, then `.endr`, on three lines"),
    }))
}

/// What a statement that begins with a sign is told.
pub(crate) fn leading_sign(cursor: &Cursor, sign: Tok, span: Span) -> Option<String> {
    let tokens = tokens(cursor);
    Some(match (sign, &tokens[..]) {
        (Tok::Op('%'), [(Tok::Word(_), at), (Tok::Word(name), _), value, ..]) if at.start == span.end => {
            let value = cursor.text_at(value.1.to(tokens[tokens.len() - 1].1));
            format!(
                "a constant is `{name} equ {value}`; a macro goes from `.macro {name} PARAMETERS` to `.endm`; a condition from `.if` to `.endif`"
            )
        }
        (Tok::Op('%'), [(Tok::Word(_), at), (Tok::Str(file), _)]) if at.start == span.end => {
            format!("write `.include \"{file}\"`")
        }
        (Tok::Op('%'), [(Tok::Word(_), at), ..]) if at.start == span.end => {
            "conditions go from `.if` to `.endif`, macros from `.macro` to `.endm`".to_string()
        }
        (Tok::Op('['), [.., (Tok::Op(']'), _)]) => {
            "statements do not stand in brackets; `.section NAME` chooses a section, and `.target` the machine".to_string()
        }
        (Tok::Op('!' | '-' | '@' | '*' | '|' | '/'), [_, ..]) => comment_help(cursor),
        _ => return None,
    })
}

/// Which signs start a comment here.
pub(crate) fn comment_help(cursor: &Cursor) -> String {
    syntax(cursor.arch()).comment_help.to_string()
}

/// Whether a token that an operand cannot be followed by is meant to start a comment.
pub(crate) fn meant_as_comment(cursor: &Cursor, token: Tok, span: Span) -> bool {
    let blank_before = span.start > 0 && cursor.text_before(span).ends_with([' ', '\t']);
    blank_before && matches!(token, Tok::Op('!' | '@' | '#' | '*' | '|') | Tok::Op2("||"))
}

/// A line of the C preprocessor, which is a comment here: what to write for it.
pub(crate) fn preprocessor_line(text: &str) -> Option<String> {
    let rest = text.trim_start().strip_prefix('#')?;
    if let Some(rest) = rest.strip_prefix("define") {
        let mut words = rest.split_whitespace();
        let name = words.next().filter(|_| rest.starts_with([' ', '\t']))?;
        let value = words.collect::<Vec<_>>().join(" ");
        return Some(match (name.contains('('), value.is_empty()) {
            (true, _) => "write a macro, from `.macro` to `.endm`".to_string(),
            (false, true) => format!("write `{name} = 1`, which `.ifdef {name}` sees"),
            (false, false) => format!("write `{name} equ {value}`"),
        });
    }
    let rest = rest.strip_prefix("include")?.trim_start();
    let file = rest.strip_prefix(['"', '<'])?;
    let file = &file[..file.find(['"', '>'])?];
    Some(match file.ends_with(".h") {
        true => "headers of C are not read; write its constants with `equ`".to_string(),
        false => format!("write `.include \"{file}\"`"),
    })
}

/// Whether a data directive at the cursor is one, and no operand that is called so.
pub(crate) fn gives_data(cursor: &Cursor) -> bool {
    matches!(tokens(cursor)[..], [(Tok::Word(_), _), (Tok::Num(_) | Tok::Str(_), _), ..])
}
