//! Text on its way to a terminal, a pipe or a file: styles become escape sequences, or nothing, and everything else
//! that a terminal would obey is shown instead.
//!
//! Reports quote sources, symbols, file names and what the guest wrote. None of that may move the cursor, change the
//! window or hide text, so [`rendered`] is the only way out for text. Styles are marked in the text with
//! noncharacters (Unicode, 23.7) and not with escape sequences, so that an escape sequence is never ours.

use std::borrow::Cow;
use std::io::{self, Write};

use anstyle::{AnsiColor, Style};
use serde_json::Value;

/// What a piece of text is, for choosing its colour.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Tone {
    /// Something wrong.
    Error,
    /// Something suspicious.
    Warning,
    /// A remedy.
    Help,
    /// Less important.
    Quiet,
    /// A name that the eye looks for.
    Strong,
    /// Something that just changed.
    Changed,
}

/// A tone begins: its mark, then the letter of the tone.
const BEGIN: char = '\u{fdd0}';
/// The tone ends.
const END: char = '\u{fdd1}';

impl Tone {
    const ALL: [Tone; 6] =
        [Tone::Error, Tone::Warning, Tone::Help, Tone::Quiet, Tone::Strong, Tone::Changed];

    fn letter(self) -> char {
        char::from(b'a' + self as u8)
    }

    fn by_letter(letter: char) -> Option<Tone> {
        Tone::ALL.into_iter().find(|tone| tone.letter() == letter)
    }

    fn style(self) -> Style {
        match self {
            Tone::Error => AnsiColor::BrightRed.on_default().bold(),
            Tone::Warning => AnsiColor::BrightYellow.on_default().bold(),
            Tone::Help => AnsiColor::BrightCyan.on_default(),
            Tone::Quiet => Style::new().dimmed(),
            Tone::Strong => Style::new().bold(),
            Tone::Changed => AnsiColor::BrightGreen.on_default(),
        }
    }
}

/// Text in the style of its tone.
pub fn paint(tone: Tone, text: &str) -> String {
    let mut painted = String::with_capacity(text.len() + 7);
    begin(&mut painted, tone);
    painted.push_str(text);
    end(&mut painted);
    painted
}

/// Begins a tone in a text.
pub fn begin(out: &mut String, tone: Tone) {
    out.push(BEGIN);
    out.push(tone.letter());
}

/// Ends it.
pub fn end(out: &mut String) {
    out.push(END);
}

/// Whether a terminal would obey the character, or show what follows in another order.
pub fn is_control(c: char) -> bool {
    // Unicode, 23.2: explicit directional embeddings, overrides and isolates.
    c.is_control()
        || matches!(c, '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}')
}

fn escape_into(out: &mut String, c: char) {
    use std::fmt::Write as _;
    // Writing to a String cannot fail.
    let _ = match c {
        '\0'..='\u{ff}' => write!(out, "\\x{:02x}", c as u32),
        _ => write!(out, "\\u{{{:x}}}", c as u32),
    };
}

/// Whether a text is printable ASCII and ends of lines.
fn is_plain(text: &str) -> bool {
    // In pieces without a branch inside, which the compiler turns into vector code: a trace has millions of lines.
    text.as_bytes().chunks(64).all(|piece| {
        piece.iter().fold(true, |plain, byte| {
            plain & ((*byte >= b' ') & (*byte <= b'~') | (*byte == b'\n') | (*byte == b'\t'))
        })
    })
}

/// The text with control characters shown as escapes, ends of lines too: a name, or a part of a line.
pub fn in_line(text: &str) -> Cow<'_, str> {
    if !text.chars().any(is_control) {
        return text.into();
    }
    let mut out = String::new();
    for c in text.chars() {
        match is_control(c) {
            true => escape_into(&mut out, c),
            false => out.push(c),
        }
    }
    out.into()
}

/// The text with control characters shown as escapes but for ends of lines and tabs; marks of styles stay.
pub fn sanitized(text: &str) -> Cow<'_, str> {
    if is_plain(text) {
        return text.into();
    }
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '\n' | '\t' => out.push(c),
            c if is_control(c) => escape_into(&mut out, c),
            c => out.push(c),
        }
    }
    out.into()
}

/// The text as it goes out: sanitized, with its styles as escape sequences if there is `colour`, else without.
pub fn rendered(text: &str, colour: bool) -> Cow<'_, str> {
    if is_plain(text) {
        return text.into();
    }
    let mut out = String::with_capacity(text.len() + 16);
    render_into(&mut out, text, colour);
    out.into()
}

/// The same, added to a text.
pub fn render_into(out: &mut String, text: &str, colour: bool) {
    use std::fmt::Write as _;
    for piece in pieces(text) {
        let style = piece.tone.filter(|_| colour).map(Tone::style);
        // Writing to a String cannot fail.
        if let Some(style) = style {
            let _ = write!(out, "{style}");
        }
        out.push_str(&sanitized(piece.text));
        if let Some(style) = style {
            let _ = write!(out, "{style:#}");
        }
    }
}

/// The text without its styles, sanitized.
pub fn plain(text: &str) -> String {
    rendered(text, false).into_owned()
}

/// A part of a text that has one style.
pub struct Piece<'a> {
    /// Its tone, if it has one.
    pub tone: Option<Tone>,
    /// The text, without marks.
    pub text: &'a str,
}

/// The parts of a text by style.
pub fn pieces(text: &str) -> impl Iterator<Item = Piece<'_>> {
    let (mut rest, mut tone) = (text, None);
    std::iter::from_fn(move || {
        loop {
            if rest.is_empty() {
                return None;
            }
            let at = find_mark(rest).unwrap_or(rest.len());
            let piece = Piece { tone, text: &rest[..at] };
            let mut after = rest[at..].chars();
            match after.next() {
                Some(BEGIN) => {
                    let mut ahead = after.clone();
                    tone = ahead.next().and_then(Tone::by_letter);
                    if tone.is_some() {
                        after = ahead;
                    }
                }
                _ => tone = None,
            }
            rest = after.as_str();
            if !piece.text.is_empty() {
                return Some(piece);
            }
        }
    })
}

/// Where the first mark of a style is in a text.
fn find_mark(text: &str) -> Option<usize> {
    // Both marks begin with the same bytes in UTF-8: EF B7 90 and EF B7 91.
    const LEAD: u8 = 0xef;
    let bytes = text.as_bytes();
    let mut from = 0;
    loop {
        let at = from + bytes[from..].iter().position(|byte| *byte == LEAD)?;
        if text[at..].starts_with([BEGIN, END]) {
            return Some(at);
        }
        from = at + 1;
    }
}

/// Data as a line of JSON in which nothing is left that a terminal would obey.
pub fn json_line(value: &Value) -> String {
    json_text(&value.to_string()).into_owned()
}

/// Escapes what a terminal would obey in JSON from a byte on. Most has nothing of the kind.
pub fn escape_json(json: &mut Vec<u8>, from: usize) {
    let text = String::from_utf8_lossy(&json[from..]);
    if is_plain(&text) {
        return;
    }
    let escaped = json_text(&text).into_owned();
    json.truncate(from);
    json.extend_from_slice(escaped.as_bytes());
}

/// The same of a text that is JSON already.
pub fn json_text(text: &str) -> Cow<'_, str> {
    if is_plain(text) {
        return text.into();
    }
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match is_control(c) {
            // serde_json has escaped those below U+0020; these stand in strings as well.
            true => {
                use std::fmt::Write as _;
                let _ = write!(out, "\\u{:04x}", c as u32);
            }
            false => out.push(c),
        }
    }
    out.into()
}

/// A standard stream.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Stream {
    /// Standard output: what was asked for.
    Output,
    /// Standard error: what there is to say about it.
    Error,
}

impl Stream {
    /// Whether styles are shown there.
    pub fn has_colour(self) -> bool {
        let choice = match self {
            Stream::Output => anstream::AutoStream::choice(&io::stdout()),
            Stream::Error => anstream::AutoStream::choice(&io::stderr()),
        };
        choice != anstream::ColorChoice::Never
    }

    /// Writes a text and the end of a line.
    ///
    /// # Errors
    ///
    /// What the stream answers.
    pub fn say(self, text: &str) -> io::Result<()> {
        let line = format!("{}\n", rendered(text, self.has_colour()));
        self.write(line.as_bytes())
    }

    /// Writes data as a line of JSON.
    ///
    /// # Errors
    ///
    /// What the stream answers.
    pub fn say_json(self, value: &Value) -> io::Result<()> {
        self.write(format!("{}\n", json_line(value)).as_bytes())
    }

    /// Writes bytes as they are.
    ///
    /// # Errors
    ///
    /// What the stream answers.
    pub fn write(self, bytes: &[u8]) -> io::Result<()> {
        match self {
            Stream::Output => {
                let mut out = io::stdout().lock();
                out.write_all(bytes)?;
                out.flush()
            }
            Stream::Error => io::stderr().lock().write_all(bytes),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_terminal_would_obey_is_shown_and_styles_are_ours() {
        let hostile = "tide\u{1b}[2J\u{9b}31m\u{7f}\u{202e}\r";
        let shown = "tide\\x1b[2J\\x9b31m\\x7f\\u{202e}\\x0d";
        assert_eq!(plain(hostile), shown);
        assert_eq!(in_line("a\nb\tc"), "a\\x0ab\\x09c");
        let painted = paint(Tone::Changed, hostile);
        assert_eq!(rendered(&painted, false), shown);
        assert_eq!(rendered(&painted, true), format!("\u{1b}[92m{shown}\u{1b}[0m"));
        assert_eq!(rendered("a\n\tb", true), "a\n\tb");
        // Marks in wrong places are dropped, and nothing else.
        assert_eq!(plain("\u{fdd1}a\u{fdd0}\u{fdd0}cb\u{fdd0}"), "ab");
        let json = serde_json::json!({ "name": hostile });
        let line = json_line(&json);
        assert!(line.bytes().all(|byte| (b' '..=b'~').contains(&byte)), "{line}");
        assert_eq!(serde_json::from_str::<Value>(&line).unwrap(), json);
    }
}
