//! One line of source to tokens.
//!
//! Comments end a line: `;` (except where it separates statements: in inline assembly, and in source-first order) and `//` everywhere, `#` on x86, and on ARM `#` as the first thing of a
//! line. Block comments are blanked before lines are cut (see [`blank_block_comments`]).

use std::collections::{HashMap, HashSet};
use std::rc::Rc;

use sotto_isa::{Arch, OperandOrder, Reg};

use crate::text::syntax::syntax;
use crate::{Code, Diagnostic, Span};

/// A token.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Tok<'a> {
    /// Letters, digits, `_`, `.`, `$`.
    Word(&'a str),
    /// A number or a character constant.
    Num(i128),
    /// `1b` or `1f`: the label's number, and whether it is ahead.
    LabelRef(u32, bool),
    /// A string: what stands between the quotes, escapes not yet applied.
    Str(&'a str),
    /// Punctuation of one character.
    Op(char),
    /// An operator of two characters.
    Op2(&'static str),
    /// The end of the statement.
    End,
}

/// Names of symbols.
pub(crate) type NameSet = HashSet<Box<str>>;

/// What a file says of names that are registers' names, or are to be.
#[derive(Clone, Default)]
pub(crate) struct RegisterNames {
    /// Symbols that registers are called by too.
    pub symbols: NameSet,
    /// Names that the file gives to registers.
    pub given: HashMap<Box<str>, Reg>,
}

/// Reads the tokens of one line.
#[derive(Clone)]
pub struct Cursor<'a> {
    text: &'a str,
    /// Where the line starts in its source.
    base: usize,
    at: usize,
    arch: Arch,
    order: OperandOrder,
    /// What the file says of registers' names.
    names: Option<Rc<RegisterNames>>,
    peeked: Option<(Tok<'a>, Span)>,
    /// End of the last token taken.
    last_end: usize,
}

/// Bytes of the longest name.
const LONGEST_WORD: usize = 1 << 12;

/// Punctuation of one character.
const OPERATORS: &[u8] = b"+-*/%~!&|^<>()[],:=#${}@";

/// The operator of two characters that starts with these bytes.
fn long_operator(first: u8, second: u8) -> Option<&'static str> {
    Some(match (first, second) {
        (b'<', b'<') => "<<",
        (b'>', b'>') => ">>",
        (b'&', b'&') => "&&",
        (b'|', b'|') => "||",
        (b'=', b'=') => "==",
        (b'!', b'=') => "!=",
        (b'<', b'=') => "<=",
        (b'>', b'=') => ">=",
        _ => return None,
    })
}

/// What a byte can be part of: bit 0 a word's start, bit 1 the rest of a word, bit 2 a number; bit 3
/// that it is punctuation.
const CLASS: [u8; 256] = {
    let mut class = [0; 256];
    let mut b = 0;
    while b < 256 {
        let byte = b as u8;
        if byte.is_ascii_alphabetic() || byte == b'_' || byte == b'.' || byte >= 0x80 {
            class[b] |= 3;
        }
        if byte.is_ascii_digit() || byte == b'$' {
            class[b] |= 2;
        }
        if byte.is_ascii_alphanumeric() || byte == b'_' {
            class[b] |= 4;
        }
        b += 1;
    }
    let mut at = 0;
    while at < OPERATORS.len() {
        class[OPERATORS[at] as usize] |= 8;
        at += 1;
    }
    class
};

/// How long the floating-point number is that the text starts with: it has a point or an exponent.
fn float_length(text: &str) -> Option<usize> {
    let bytes = text.as_bytes();
    let digits = |from: usize| bytes[from..].iter().take_while(|b| b.is_ascii_digit()).count();
    let mut at = usize::from(matches!(bytes.first(), Some(b'-' | b'+')));
    let whole = digits(at.min(bytes.len()));
    at += whole;
    let mut is_float = false;
    if whole > 0 && bytes.get(at) == Some(&b'.') {
        at += 1 + digits(at + 1);
        is_float = true;
    }
    if whole > 0 && matches!(bytes.get(at), Some(b'e' | b'E')) {
        let sign = usize::from(matches!(bytes.get(at + 1), Some(b'-' | b'+')));
        let exponent = digits((at + 1 + sign).min(bytes.len()));
        if exponent > 0 {
            at += 1 + sign + exponent;
            is_float = true;
        }
    }
    is_float.then_some(at)
}

fn is_word_start(b: u8) -> bool {
    CLASS[b as usize] & 1 != 0
}

/// Whether the byte can stand in a word after its first letter.
pub(crate) fn is_word_byte(b: u8) -> bool {
    CLASS[b as usize] & 2 != 0
}

/// Whether the byte can stand in the name of a macro's parameter.
pub(crate) fn is_label_part(b: u8) -> bool {
    CLASS[b as usize] & 4 != 0
}

/// Whether a comment to the end of the line starts at `at`.
pub(crate) fn starts_comment(bytes: &[u8], at: usize, arch: Arch) -> bool {
    match bytes[at] {
        b';' => true,
        b'/' => bytes.get(at + 1) == Some(&b'/'),
        b'#' => syntax(arch).hash_comments || bytes[..at].iter().all(u8::is_ascii_whitespace),
        _ => false,
    }
}

/// The bytes of a line that stand outside quotes, with their places.
pub(crate) fn outside_quotes(line: &str) -> impl Iterator<Item = (usize, u8)> + '_ {
    let bytes = line.as_bytes();
    let mut quote = None;
    let mut at = 0;
    std::iter::from_fn(move || {
        while let Some(&byte) = bytes.get(at) {
            at += 1;
            match (quote, byte) {
                (Some(_), b'\\') => at += 1,
                (Some(q), b) if b == q => quote = None,
                (Some(_), _) => {}
                (None, q @ (b'"' | b'\'')) => quote = Some(q),
                (None, byte) => return Some((at - 1, byte)),
            }
        }
        None
    })
}

/// The text of a file whose bytes are UTF-8 everywhere but in comments, where compilers write characters as they are;
/// `None` if they are not UTF-8 elsewhere either.
pub fn text_with_comments(bytes: &[u8]) -> Option<String> {
    let text = String::from_utf8_lossy(bytes);
    let sound = text.lines().all(|line| match line.find(char::REPLACEMENT_CHARACTER) {
        Some(at) => code_end(line, Arch::X86_64) <= at,
        None => true,
    });
    sound.then(|| text.into_owned())
}

/// Bytes of the line before its comment.
pub(crate) fn code_end(line: &str, arch: Arch) -> usize {
    let comment = |(at, _): &(usize, u8)| starts_comment(line.as_bytes(), *at, arch);
    outside_quotes(line).find(comment).map_or(line.len(), |(at, _)| at)
}

impl<'a> Cursor<'a> {
    /// The tokens of `line`, which starts at byte `base` of its source.
    pub fn new(line: &'a str, base: usize, arch: Arch) -> Cursor<'a> {
        let order = OperandOrder::DestinationFirst;
        Cursor { text: line, base, at: 0, arch, order, names: None, peeked: None, last_end: base }
    }

    /// The same for a file with this order of operands; only x86 has more than one.
    pub fn with_order(self, order: OperandOrder) -> Cursor<'a> {
        match self.arch.has_source_first() {
            true => Cursor { order, ..self },
            false => self,
        }
    }

    /// The same for a file that says something of registers' names.
    pub(crate) fn with_names(self, names: Option<Rc<RegisterNames>>) -> Cursor<'a> {
        Cursor { names, ..self }
    }

    /// The register that the word names here.
    pub(crate) fn register(&self, word: &str) -> Option<Reg> {
        let given = self.names.as_ref().and_then(|names| names.given.get(word)).copied();
        given.or_else(|| Reg::parse(self.arch, word))
    }

    /// Whether the file has a symbol of this name, which is also a register's.
    pub(crate) fn names_symbol(&self, word: &str) -> bool {
        self.names.as_ref().is_some_and(|names| names.symbols.contains(word))
    }

    /// The order of operands.
    pub fn order(&self) -> OperandOrder {
        self.order
    }

    /// What is left of the line behind the last token taken.
    pub fn ahead(&self) -> &'a str {
        &self.text[self.last_end - self.base..]
    }

    /// Takes what is left of the statement as text, without its comment and the blanks around, and
    /// says where it stands.
    pub fn rest(&mut self) -> (&'a str, usize) {
        let rest = self.ahead();
        let code = &rest[..code_end(rest, self.arch)];
        let trimmed = code.trim_start();
        let at = self.last_end + (code.len() - trimmed.len());
        self.at = self.text.len();
        self.peeked = None;
        self.last_end = at + trimmed.trim_end().len();
        (trimmed.trim_end(), at)
    }

    /// The next token, without taking it.
    pub fn peek(&mut self) -> Result<Tok<'a>, Diagnostic> {
        Ok(self.peek_spanned()?.0)
    }

    /// The next token and its place, without taking it.
    pub fn peek_spanned(&mut self) -> Result<(Tok<'a>, Span), Diagnostic> {
        match self.peeked {
            Some(token) => Ok(token),
            None => {
                let token = self.lex()?;
                self.peeked = Some(token);
                Ok(token)
            }
        }
    }

    /// Takes the next token.
    pub fn next(&mut self) -> Result<(Tok<'a>, Span), Diagnostic> {
        let token = match self.peeked.take() {
            Some(token) => token,
            None => self.lex()?,
        };
        if token.0 == Tok::End {
            // It is there as often as it is asked for.
            self.peeked = Some(token);
        }
        self.last_end = token.1.end as usize;
        Ok(token)
    }

    /// Takes a floating-point number, if one comes next: digits with a point or an exponent.
    pub fn float(&mut self) -> Option<(f64, Span)> {
        let text = self.ahead();
        let start = self.last_end + (text.len() - text.trim_start().len());
        let rest = &self.text[start - self.base..];
        let length = float_length(rest)?;
        let value = rest[..length].parse().ok()?;
        self.at = start - self.base + length;
        (self.peeked, self.last_end) = (None, self.base + self.at);
        Some((value, Span::new(start, self.last_end)))
    }

    /// Takes the next token if it is this punctuation.
    pub fn eat(&mut self, op: char) -> Result<bool, Diagnostic> {
        let found = matches!(self.peek()?, Tok::Op(o) if o == op);
        if found {
            self.next()?;
        }
        Ok(found)
    }

    /// Takes this punctuation.
    ///
    /// # Errors
    ///
    /// If something else comes next.
    pub fn expect(&mut self, op: char, after: &str) -> Result<Span, Diagnostic> {
        let (token, span) = self.next()?;
        match token {
            Tok::Op(o) if o == op => Ok(span),
            _ => Err(self.unexpected(token, span, &format!("`{op}` {after}"))),
        }
    }

    /// Takes the end of the statement.
    ///
    /// # Errors
    ///
    /// If something else comes next.
    pub fn expect_end(&mut self, after: &str) -> Result<(), Diagnostic> {
        let (token, span) = self.next()?;
        match token {
            Tok::End => Ok(()),
            _ => Err(self.unexpected(token, span, &format!("the end of the line {after}"))),
        }
    }

    /// Takes the end of the statement that this word began.
    ///
    /// # Errors
    ///
    /// If something else comes next.
    pub fn expect_end_of(&mut self, word: &str) -> Result<(), Diagnostic> {
        match self.peek()? {
            Tok::End => Ok(()),
            _ => self.expect_end(&format!("after `{word}`")),
        }
    }

    /// An error: `wanted` was expected where `token` stands.
    pub fn unexpected(&self, token: Tok, span: Span, wanted: &str) -> Diagnostic {
        let found = match token {
            Tok::End => "the line ends".to_string(),
            _ => format!("found `{}`", self.text_at(span)),
        };
        Diagnostic::error(Code::Syntax, span, format!("expected {wanted}, but {found}"))
            .label(format!("expected {wanted}"))
    }

    /// The source text of a span of this line.
    pub fn text_at(&self, span: Span) -> &'a str {
        let range = span.start as usize - self.base..span.end as usize - self.base;
        self.text.get(range).unwrap_or("")
    }

    /// Place from `start` to the end of the last token taken.
    pub fn since(&self, start: Span) -> Span {
        Span::new(start.start as usize, self.last_end.max(start.end as usize))
    }

    /// The text of the line behind a span.
    pub(crate) fn text_after(&self, span: Span) -> &'a str {
        self.text.get(span.end as usize - self.base..).unwrap_or("")
    }

    /// The text of the line before a span.
    pub(crate) fn text_before(&self, span: Span) -> &'a str {
        self.text.get(..span.start as usize - self.base).unwrap_or("")
    }

    /// The statement without the blanks around it.
    pub(crate) fn text_of_line(&self) -> &'a str {
        self.text[..code_end(self.text, self.arch)].trim()
    }

    /// The machine whose comment rules hold.
    pub fn arch(&self) -> Arch {
        self.arch
    }

    fn span(&self, start: usize) -> Span {
        Span::new(self.base + start, self.base + self.at)
    }

    fn lex(&mut self) -> Result<(Tok<'a>, Span), Diagnostic> {
        let bytes = self.text.as_bytes();
        while self.at < bytes.len() && bytes[self.at].is_ascii_whitespace() {
            self.at += 1;
        }
        let start = self.at;
        let Some(&first) = bytes.get(start) else { return Ok((Tok::End, self.span(start))) };
        if starts_comment(bytes, start, self.arch) {
            return Ok((Tok::End, self.span(start)));
        }
        if is_word_start(first) {
            while self.at < bytes.len() && is_word_byte(bytes[self.at]) {
                self.at += 1;
            }
            if self.at - start > LONGEST_WORD {
                let span = Span::new(self.base + start, self.base + start);
                self.at = bytes.len();
                let message = format!("a name has at most {LONGEST_WORD} bytes");
                return Err(Diagnostic::error(Code::Syntax, span, message));
            }
            return Ok((Tok::Word(&self.text[start..self.at]), self.span(start)));
        }
        if first.is_ascii_digit() {
            while self.at < bytes.len() && is_label_part(bytes[self.at]) {
                self.at += 1;
            }
            let span = self.span(start);
            return Ok((number(&self.text[start..self.at], span)?, span));
        }
        if first == b'"' || first == b'\'' {
            return self.quoted(start, first);
        }
        if CLASS[usize::from(first)] & 8 != 0 {
            let second = bytes.get(start + 1).copied().unwrap_or(0);
            if let Some(op) = long_operator(first, second) {
                self.at += 2;
                return Ok((Tok::Op2(op), self.span(start)));
            }
            self.at += 1;
            return Ok((Tok::Op(char::from(first)), self.span(start)));
        }
        let c = self.text[start..].chars().next().unwrap_or(' ');
        self.at += c.len_utf8();
        let span = self.span(start);
        // Reading the same character again would not get further.
        self.at = bytes.len();
        Err(Diagnostic::error(Code::Syntax, span, format!("`{c}` has no meaning here")))
    }

    /// A string or a character constant. Single quotes hold a character if there is one, a string
    /// otherwise.
    fn quoted(&mut self, start: usize, quote: u8) -> Result<(Tok<'a>, Span), Diagnostic> {
        let bytes = self.text.as_bytes();
        self.at += 1;
        loop {
            match bytes.get(self.at) {
                None => {
                    let span = self.span(start);
                    let quote = quote as char;
                    return Err(Diagnostic::error(Code::BadText, span, "the text has no end")
                        .label(format!("starts here; end it with {quote}")));
                }
                Some(b'\\') => self.at = (self.at + 2).min(bytes.len()),
                Some(&b) if b == quote => break,
                Some(_) => self.at += 1,
            }
        }
        let inner = &self.text[start + 1..self.at];
        self.at += 1;
        let span = self.span(start);
        if quote == b'"' {
            return Ok((Tok::Str(inner), span));
        }
        let value = unescape(inner, span)?;
        let one_character =
            inner.chars().count() == 1 || (inner.starts_with('\\') && value.len() == 1);
        if one_character {
            // A character outside ASCII is its Unicode number.
            let number = match inner.chars().next() {
                Some(c) if c != '\\' => c as i128,
                _ => i128::from(value[0]),
            };
            return Ok((Tok::Num(number), span));
        }
        Ok((Tok::Str(inner), span))
    }
}

/// The value of a number in the plainest ways of writing one: decimal, or hexadecimal after `0x`.
fn plain_number(text: &str) -> Option<i128> {
    let bytes = text.as_bytes();
    if bytes.len() > 16 {
        return None;
    }
    let value = |digits: &[u8], radix: u64| {
        let add = |sum: Option<u64>, b: &u8| {
            Some(sum? * radix + u64::from(char::from(*b).to_digit(radix as u32)?))
        };
        digits.iter().fold(Some(0), add).map(i128::from)
    };
    match bytes {
        [b'0', b'x' | b'X', rest @ ..]
            if !rest.is_empty() && !matches!(rest, [.., b'h' | b'H']) =>
        {
            value(rest, 16)
        }
        [b'0'] => Some(0),
        [b'1'..=b'9', ..] => value(bytes, 10),
        _ => None,
    }
}

fn number(text: &str, span: Span) -> Result<Tok<'static>, Diagnostic> {
    if let Some(value) = plain_number(text) {
        return Ok(Tok::Num(value));
    }
    let bad = |message: String| Diagnostic::error(Code::BadNumber, span, message);
    let lower = text.to_ascii_lowercase();
    let parse = |digits: &str, radix: u32, kind: &str| -> Result<Tok<'static>, Diagnostic> {
        let digits: String = digits.chars().filter(|c| *c != '_').collect();
        if digits.is_empty() {
            return Err(bad(format!("`{text}` has no digits")));
        }
        if let Some(wrong) = digits.chars().find(|c| !c.is_digit(radix)) {
            return Err(bad(format!("`{wrong}` is not a {kind} digit")));
        }
        i128::from_str_radix(&digits, radix)
            .map(Tok::Num)
            .map_err(|_| bad(format!("`{text}` is larger than any number we can hold (2^127 - 1)")))
    };
    let body = &lower[..lower.len() - 1];
    let all =
        |s: &str, radix: u32| !s.is_empty() && s.chars().all(|c| c.is_digit(radix) || c == '_');
    if lower.ends_with('h') && all(body, 16) {
        return parse(body, 16, "hexadecimal");
    }
    if let Some(digits) = lower.strip_prefix("0x") {
        return parse(digits, 16, "hexadecimal");
    }
    if let Some(digits) = lower.strip_prefix("0o") {
        return parse(digits, 8, "octal");
    }
    if let Some(forward) = match lower.as_bytes().last() {
        Some(b'b') if lower.len() == 2 => Some(false),
        Some(b'f') if lower.len() == 2 => Some(true),
        _ => None,
    } {
        return Ok(Tok::LabelRef(u32::from(lower.as_bytes()[0] - b'0'), forward));
    }
    if let Some(digits) = lower.strip_prefix("0b") {
        return parse(digits, 2, "binary");
    }
    if lower.ends_with('b') && all(body, 2) {
        return parse(body, 2, "binary");
    }
    if lower.len() > 1 && lower.starts_with('0') && all(&lower, 10) {
        let digits = lower.trim_start_matches(['0', '_']);
        if digits.is_empty() {
            return Ok(Tok::Num(0));
        }
        return Err(bad(format!("`{text}` could be octal or decimal"))
            .help(format!("write `0o{digits}` for octal, `{digits}` for decimal")));
    }
    parse(&lower, 10, "decimal").map_err(|error| {
        let hex = lower.chars().all(|c| c.is_ascii_hexdigit());
        match hex && lower.chars().any(|c| c.is_ascii_alphabetic()) {
            true => {
                error.help(format!("hexadecimal numbers are written `0x{lower}` or `{lower}h`"))
            }
            false => error,
        }
    })
}

/// The bytes that a text between quotes stands for, with the escapes of C, outside a source.
///
/// # Errors
///
/// A diagnostic without a place, if an escape is none.
pub fn escaped_bytes(text: &str) -> Result<Vec<u8>, Diagnostic> {
    unescape(text, Span::default())
}

/// The bytes a quoted text stands for, with the escapes of C: `\n \t \r \a \b \e \f \v \\ \' \" \?`, one to three
/// octal digits, `\x` and one or two hexadecimal digits, `\u` and four, `\U` and eight (UTF-8 comes of these).
///
/// # Errors
///
/// If an escape is none of these, or its number stands for no byte or character.
pub fn unescape(text: &str, span: Span) -> Result<Vec<u8>, Diagnostic> {
    let bad = |message: String| Diagnostic::error(Code::BadText, span, message);
    let mut out = Vec::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = memchr::memchr(b'\\', rest.as_bytes()) {
        out.extend_from_slice(&rest.as_bytes()[..at]);
        let escape = &rest[at + 1..];
        let letter = escape.chars().next();
        rest = &escape[letter.map_or(0, char::len_utf8)..];
        let byte = match letter {
            Some('n') => b'\n',
            Some('t') => b'\t',
            Some('r') => b'\r',
            Some('a') => 7,
            Some('b') => 8,
            Some('e') => 27,
            Some('f') => 12,
            Some('v') => 11,
            Some(same @ ('\\' | '\'' | '"' | '?')) => same as u8,
            Some('0'..='7') => {
                let digits = digits(escape, 8, 3);
                rest = &escape[digits.len()..];
                u8::from_str_radix(digits, 8).map_err(|_| {
                    bad(format!("`\\{digits}` is larger than a byte; the largest is `\\377`"))
                })?
            }
            Some('x') => {
                let digits = digits(rest, 16, 2);
                rest = &rest[digits.len()..];
                u8::from_str_radix(digits, 16)
                    .map_err(|_| bad("`\\x` needs one or two hexadecimal digits".to_string()))?
            }
            Some(letter @ ('u' | 'U')) => {
                let count = if letter == 'u' { 4 } else { 8 };
                let digits = digits(rest, 16, count);
                let number = u32::from_str_radix(digits, 16).ok().filter(|_| digits.len() == count);
                let character = number.and_then(char::from_u32).ok_or_else(|| {
                    bad(format!("`\\{letter}` needs the {count} hexadecimal digits of a character"))
                })?;
                rest = &rest[digits.len()..];
                out.extend(character.encode_utf8(&mut [0; 4]).bytes());
                continue;
            }
            other => {
                let shown = other.map(String::from).unwrap_or_default();
                return Err(bad(format!("`\\{shown}` is not an escape")).help(
                    "the escapes are \\n \\t \\r \\a \\b \\e \\f \\v \\\\ \\' \\\" \\? \\0 to \\377 \\xHH \\uHHHH \\UHHHHHHHH; \
                     a backslash itself is \\\\",
                ));
            }
        };
        out.push(byte);
    }
    out.extend_from_slice(rest.as_bytes());
    Ok(out)
}

/// The digits that a text starts with, so many at most.
fn digits(text: &str, radix: u32, most: usize) -> &str {
    let count = text.chars().take(most).take_while(|c| c.is_digit(radix)).count();
    &text[..count]
}

/// The text with block comments replaced by blanks, so that places stay the same. `semicolon_comments`: a `;`
/// starts a comment, in which no block comment begins.
///
/// # Errors
///
/// The place of a comment that has no end.
pub fn blank_block_comments(
    text: &str,
    semicolon_comments: bool,
) -> Result<std::borrow::Cow<'_, str>, Span> {
    if !text.contains("/*") {
        return Ok(text.into());
    }
    let mut bytes = text.as_bytes().to_vec();
    let mut at = 0;
    let mut quote = None;
    while at < bytes.len() {
        match (quote, bytes[at]) {
            (Some(_), b'\\') => at += 1,
            (_, b'\n') => quote = None,
            (Some(q), b) if b == q => quote = None,
            (Some(_), _) => {}
            (None, q @ (b'"' | b'\'')) => quote = Some(q),
            (None, b';') if semicolon_comments => at = line_end(&bytes, at) - 1,
            (None, b'/') if bytes.get(at + 1) == Some(&b'/') => at = line_end(&bytes, at) - 1,
            (None, b'/') if bytes.get(at + 1) == Some(&b'*') => {
                let Some(length) = text[at + 2..].find("*/") else {
                    return Err(Span::new(at, at + 2));
                };
                let end = at + 2 + length + 2;
                for b in &mut bytes[at..end] {
                    if *b != b'\n' {
                        *b = b' ';
                    }
                }
                at = end - 1;
            }
            _ => {}
        }
        at += 1;
    }
    // Only whole characters were blanked: comments start and end at ASCII characters.
    Ok(String::from_utf8(bytes).unwrap_or_else(|_| text.to_string()).into())
}

fn line_end(bytes: &[u8], from: usize) -> usize {
    bytes[from..].iter().position(|&b| b == b'\n').map_or(bytes.len(), |n| from + n).max(from + 1)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tokens(line: &str, arch: Arch) -> Result<Vec<Tok<'_>>, Diagnostic> {
        let mut cursor = Cursor::new(line, 0, arch);
        let mut out = Vec::new();
        loop {
            match cursor.next()?.0 {
                Tok::End => return Ok(out),
                token => out.push(token),
            }
        }
    }

    #[test]
    fn numbers_in_every_base() {
        let cases = [
            ("0x1f", 31),
            ("1fh", 31),
            ("0b101", 5),
            ("101b", 5),
            ("0o17", 15),
            ("1_000", 1000),
            ("0", 0),
            ("00", 0),
            ("1bh", 27),
            ("0b1h", 0xb1),
            ("'c'", 99),
            ("'\\n'", 10),
            ("'\\x41'", 65),
            ("'é'", 0xe9),
            ("340282366920938463463374607431768211455h", -1),
        ];
        for (text, wanted) in cases {
            match tokens(text, Arch::X86_64) {
                Ok(got) => assert_eq!(got, [Tok::Num(wanted)], "{text}"),
                Err(error) => assert!(wanted == -1, "{text}: {}", error.message),
            }
        }
        assert_eq!(tokens("1f", Arch::X86_64).unwrap(), [Tok::LabelRef(1, true)]);
        assert_eq!(tokens("0b", Arch::X86_64).unwrap(), [Tok::LabelRef(0, false)]);
        let octal = tokens("017", Arch::X86_64).unwrap_err();
        assert_eq!(octal.help.as_deref().unwrap(), "write `0o17` for octal, `17` for decimal");
        assert_eq!(tokens("12a", Arch::X86_64).unwrap_err().code, Code::BadNumber);
    }

    #[test]
    fn comments_end_a_line_by_the_rules_of_the_machine() {
        assert_eq!(tokens("nop ; lamp", Arch::X86_64).unwrap(), [Tok::Word("nop")]);
        assert_eq!(tokens("nop // lamp", Arch::Arm64).unwrap(), [Tok::Word("nop")]);
        assert_eq!(tokens("nop # lamp", Arch::X86_64).unwrap(), [Tok::Word("nop")]);
        assert_eq!(tokens("# lamp", Arch::Arm64).unwrap(), []);
        assert_eq!(
            tokens("svc #0", Arch::Arm64).unwrap(),
            [Tok::Word("svc"), Tok::Op('#'), Tok::Num(0)]
        );
        assert_eq!(tokens("db \"a;b\"", Arch::X86_64).unwrap()[1], Tok::Str("a;b"));
        let text = "a /* b\n c */ d \"/*\" // /*\ne";
        assert_eq!(blank_block_comments(text, true).unwrap(), "a     \n      d \"/*\" // /*\ne");
        assert_eq!(blank_block_comments("x /* y", true).unwrap_err(), Span::new(2, 4));
    }

    #[test]
    fn texts_without_an_end_and_unknown_escapes_are_named() {
        assert_eq!(tokens("db \"lamp", Arch::X86_64).unwrap_err().message, "the text has no end");
        let span = Span::new(0, 2);
        assert_eq!(unescape("a\\q", span).unwrap_err().message, "`\\q` is not an escape");
        assert_eq!(unescape("\\x4z", span).unwrap(), b"\x04z");
        assert!(unescape("\\xz", span).is_err());
        assert_eq!(
            unescape("\\400", span).unwrap_err().message,
            "`\\400` is larger than a byte; the largest is `\\377`"
        );
        assert!(unescape("\\ud800", span).is_err() && unescape("\\u12", span).is_err());
    }

    /// What C compilers write for control characters and for what is not ASCII.
    #[test]
    fn texts_have_the_escapes_of_c() {
        let cases: [(&str, &[u8]); 8] = [
            (r"\033[1mtide\001x", b"\x1b[1mtide\x01x"),
            (r"\0\00\000\0001", b"\0\0\0\x001"),
            (r"\377\3778\18", b"\xff\xff8\x018"),
            (r"\303\251\303\251", "\u{e9}\u{e9}".as_bytes()),
            (r"\?\a\b\e\f\v\n\t\r", b"?\x07\x08\x1b\x0c\x0b\n\t\r"),
            (r"\u00e9\U0001f6a8", "\u{e9}\u{1f6a8}".as_bytes()),
            (r#"a\\\'\"\x41"#, b"a\\'\"A"),
            ("lamp", b"lamp"),
        ];
        for (text, wanted) in cases {
            assert_eq!(unescape(text, Span::new(0, 2)).unwrap(), wanted, "{text}");
        }
    }
}
