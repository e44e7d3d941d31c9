//! Macros: their definitions, their arguments, and the text they expand to.
//!
//! Expansion is on text and knows nothing of statements. Which parts of an expansion came from the
//! caller is remembered, since a dotted label that was passed in is the caller's.

use std::collections::HashSet;
use std::ops::Range;
use std::rc::Rc;
use std::sync::Arc;

use sotto_isa::Arch;

use crate::text::lexer::{code_end, is_label_part, is_word_byte, outside_quotes};
use crate::{Code, Diagnostic, Span};

/// How a parameter gets its value.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) enum Kind {
    /// From its argument, else this text if there is one.
    Plain(Option<String>),
    /// All the arguments that are left, commas included.
    Rest,
}

/// A parameter of a macro.
#[derive(Clone, Debug)]
pub(crate) struct Parameter {
    pub name: String,
    pub kind: Kind,
}

/// A macro, or the body of a repeat with a parameter.
#[derive(Clone, Debug)]
pub(crate) struct Macro {
    pub name: Arc<str>,
    /// The name in its definition.
    pub span: Span,
    pub parameters: Vec<Parameter>,
    pub body: Body,
}

/// Lines to be read again.
#[derive(Clone, Debug)]
pub(crate) struct Body {
    pub text: Arc<str>,
    /// Where the text stands.
    pub at: u32,
    /// File and line number of its first line.
    pub file: u32,
    pub line: u32,
    /// Dotted labels that it defines.
    pub labels: Rc<[Box<str>]>,
}

/// A piece of an argument list and where it starts in it, without the blanks around.
pub(crate) type Piece<'a> = (usize, &'a str);

/// A part of an expansion that came from the caller, and where in the arguments it starts.
pub(crate) type Passed = (Range<u32>, u32);

/// Splits at commas outside quotes and brackets.
pub(crate) fn split(text: &str) -> Vec<Piece<'_>> {
    let mut pieces = Vec::new();
    let (mut start, mut depth) = (0, 0i32);
    for (at, byte) in outside_quotes(text) {
        match byte {
            b'(' | b'[' | b'{' => depth += 1,
            b')' | b']' | b'}' => depth -= 1,
            b',' if depth <= 0 => {
                pieces.push((start, &text[start..at]));
                start = at + 1;
            }
            _ => {}
        }
    }
    pieces.push((start, &text[start..]));
    for (start, piece) in &mut pieces {
        let trimmed = piece.trim_start();
        *start += piece.len() - trimmed.len();
        *piece = trimmed.trim_end();
    }
    if pieces.len() == 1 && pieces[0].1.is_empty() {
        pieces.clear();
    }
    pieces
}

/// Reads the parameters of a definition: `a, b=default, rest:vararg`.
///
/// # Errors
///
/// What is no parameter, a name given twice, or something after one that takes the rest.
pub(crate) fn parameters(text: &str, at: usize) -> Result<Vec<Parameter>, Diagnostic> {
    let mut found: Vec<Parameter> = Vec::new();
    let mut names = HashSet::new();
    let bad = |offset: usize, length: usize, message: String| {
        Diagnostic::error(Code::MacroUse, Span::new(at + offset, at + offset + length), message)
    };
    for (offset, piece) in split(text) {
        // Blanks separate parameters too, unless a default follows.
        let words: Vec<&str> = match piece.contains('=') {
            true => vec![piece],
            false => piece.split_whitespace().collect(),
        };
        if words.is_empty() {
            return Err(bad(offset, 1, "a parameter is missing here".to_string()));
        }
        for word in words {
            let start = offset + (word.as_ptr() as usize - piece.as_ptr() as usize);
            let (head, default) = match word.split_once('=') {
                Some((head, default)) => (head.trim(), Some(default.trim().to_string())),
                None => (word, None),
            };
            let (name, mark) = match head.split_once(':') {
                Some((name, mark)) => (name.trim(), Some(mark.trim().to_ascii_lowercase())),
                None => (head, None),
            };
            let named = name.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_');
            if name.is_empty() || !named || name.as_bytes()[0].is_ascii_digit() {
                let message = format!("`{name}` is no name for a parameter");
                return Err(bad(start, word.len(), message)
                    .help("a parameter is letters, digits and `_`, not starting with a digit"));
            }
            if !names.insert(name) {
                return Err(bad(start, word.len(), format!("two parameters are called `{name}`")));
            }
            if found.last().is_some_and(|p| p.kind == Kind::Rest) {
                let message = format!("`{name}` stands after the parameter that takes the rest");
                return Err(bad(start, word.len(), message).help("put it before the rest"));
            }
            let kind = match mark.as_deref() {
                None | Some("req") => Kind::Plain(default),
                Some("vararg") => Kind::Rest,
                Some(mark) => {
                    return Err(bad(
                        start,
                        word.len(),
                        format!("`{mark}` says nothing about a parameter"),
                    )
                    .help("`name=default` gives a default, `name:vararg` takes all that is left"));
                }
            };
            found.push(Parameter { name: name.to_string(), kind });
        }
    }
    Ok(found)
}

/// The dotted labels that the lines define at their start.
pub(crate) fn dotted_labels(body: &str) -> Rc<[Box<str>]> {
    body.lines()
        .filter_map(|line| {
            let line = line.trim_start();
            let end = line.bytes().position(|b| !is_word_byte(b)).unwrap_or(line.len());
            let defines = line.starts_with('.') && line[end..].trim_start().starts_with(':');
            defines.then(|| line[..end].into())
        })
        .collect()
}

/// The word after a backslash at the start of `text`, which a parameter could be called.
fn word_after(text: &str) -> &str {
    let end = text.bytes().position(|b| !is_label_part(b)).unwrap_or(text.len());
    &text[..end]
}

/// Letters that mean something after a backslash inside quotes.
const ESCAPES: &str = "ntrabefvxuU01234567";

fn is_escape(word: &str) -> bool {
    word.len() == 1 && ESCAPES.contains(word)
}

impl Macro {
    /// What is questionable about the definition: words after a backslash that are no parameter,
    /// and parameters that an escape hides.
    pub fn check(&self, arch: Arch) -> Vec<Diagnostic> {
        let mut found = Vec::new();
        // A macro defined inside has parameters of its own.
        if self.body.text.to_ascii_lowercase().contains(".macro") {
            return found;
        }
        // Repeats inside have parameters of their own.
        let own = |word: &str| {
            self.body.text.lines().any(|line| {
                let mut words =
                    line.split(|c: char| c.is_whitespace() || c == ',').filter(|w| !w.is_empty());
                words.any(|w| w.eq_ignore_ascii_case(".irp") || w.eq_ignore_ascii_case(".irpc"))
                    && words.next() == Some(word)
            })
        };
        let mut base = self.body.at as usize;
        for line in self.body.text.split_inclusive('\n') {
            let code = &line[..code_end(line, arch)];
            scan(code, |offset, word, quoted| {
                let span = Span::new(base + offset, base + offset + 1 + word.len());
                let known = self.parameters.iter().any(|p| p.name == word);
                if quoted && known && is_escape(word) {
                    found.push(
                        Diagnostic::error(
                            Code::MacroUse,
                            span,
                            format!("inside quotes `\\{word}` is an escape and not the parameter"),
                        )
                        .warning()
                        .help("give the parameter a longer name"),
                    );
                } else if !quoted && !known && !own(word) {
                    let names: Vec<&str> = self.parameters.iter().map(|p| &*p.name).collect();
                    let error = Diagnostic::error(
                        Code::MacroUse,
                        span,
                        format!("`{}` has no parameter `{word}`", self.name),
                    );
                    found.push(match crate::nearest(word, names.iter().copied()) {
                        Some(near) => error
                            .help(format!("did you mean `\\{near}`?"))
                            .replace_with(format!("\\{near}")),
                        None if names.is_empty() => error.help("it has no parameters"),
                        None if names.len() == 1 => {
                            error.help(format!("its parameter is `{}`", names[0]))
                        }
                        None => error.help(format!("its parameters are {}", names.join(", "))),
                    });
                }
            });
            base += line.len();
        }
        found
    }

    /// The text of each parameter, from the arguments of a call; each with its place among them, if
    /// it came from there.
    ///
    /// # Errors
    ///
    /// Too many arguments, a missing one, or one given twice by name.
    fn values<'a>(
        &'a self,
        arguments: &'a str,
        call: Span,
    ) -> Result<Vec<(&'a str, Option<usize>)>, Diagnostic> {
        let mut values: Vec<Option<(&str, Option<usize>)>> = vec![None; self.parameters.len()];
        let mut next = 0;
        let pieces = split(arguments);
        let count = pieces.len();
        for (number, (offset, piece)) in pieces.into_iter().enumerate() {
            let by_name = piece.split_once('=').and_then(|(name, value)| {
                let name = name.trim();
                let index = self.parameters.iter().position(|p| p.name == name)?;
                let start = offset + (value.as_ptr() as usize - piece.as_ptr() as usize);
                let blanks = value.len() - value.trim_start().len();
                Some((index, start + blanks, value.trim()))
            });
            if let Some((index, start, value)) = by_name {
                if values[index].is_some() {
                    let name = &self.parameters[index].name;
                    let message = format!("`{name}` is given twice");
                    return Err(Diagnostic::error(Code::MacroUse, call, message));
                }
                values[index] = Some((value, Some(start)));
                continue;
            }
            match self.parameters.get(next) {
                Some(Parameter { kind: Kind::Rest, .. }) => {
                    values[next] = Some((arguments[offset..].trim_end(), Some(offset)));
                    break;
                }
                // An empty argument leaves the default.
                Some(_) if piece.is_empty() => next += 1,
                Some(_) => {
                    values[next] = Some((piece, Some(offset)));
                    next += 1;
                }
                None => {
                    let takes = match self.parameters.len() {
                        0 => "no arguments".to_string(),
                        1 => "one argument".to_string(),
                        n => format!("{n} arguments"),
                    };
                    let message = format!("`{}` takes {takes}, and {count} are given", self.name);
                    return Err(Diagnostic::error(Code::MacroUse, call, message)
                        .label(format!("argument {} is one too many", number + 1))
                        .at(self.span, "defined here"));
                }
            }
        }
        let missing = |parameter: &Parameter| {
            let message = format!("`{}` needs its argument `{}`", self.name, parameter.name);
            Diagnostic::error(Code::MacroUse, call, message)
                .at(self.span, "defined here")
                .help(format!("or give it a default there: `{}=0`", parameter.name))
        };
        self.parameters
            .iter()
            .zip(values)
            .map(|(parameter, value)| match (value, &parameter.kind) {
                (Some(value), _) => Ok(value),
                (None, Kind::Rest) => Ok(("", None)),
                (None, Kind::Plain(Some(default))) => Ok((default.as_str(), None)),
                (None, Kind::Plain(None)) => Err(missing(parameter)),
            })
            .collect()
    }

    /// The body with the arguments put in, and the parts of it that came from the caller: their
    /// range, and where in the arguments they start.
    ///
    /// # Errors
    ///
    /// See [`Macro::values`].
    pub fn expand(
        &self,
        arguments: &str,
        call: Span,
        number: u32,
    ) -> Result<(String, Vec<Passed>), Diagnostic> {
        let values = self.values(arguments, call)?;
        let body = &*self.body.text;
        let mut text = String::with_capacity(body.len() + 16);
        let mut passed = Vec::new();
        let mut done = 0;
        let mut line_start = 0;
        for line in body.split_inclusive('\n') {
            scan_all(line, |offset, word, quoted| {
                let at = line_start + offset;
                if word.is_empty() {
                    // `\()` joins, `\@` numbers the expansion; neither means a thing in quotes.
                    let two = body.get(at + 1..at + 3);
                    if !quoted && two == Some("()") {
                        text.push_str(&body[done..at]);
                        done = at + 3;
                    } else if !quoted && body[at + 1..].starts_with('@') {
                        text.push_str(&body[done..at]);
                        text.push_str(&number.to_string());
                        done = at + 2;
                    }
                    return;
                }
                if quoted && is_escape(word) {
                    return;
                }
                let Some(index) = self.parameters.iter().position(|p| p.name == word) else {
                    return;
                };
                text.push_str(&body[done..at]);
                let (value, origin) = values[index];
                if let Some(origin) = origin {
                    let start = text.len() as u32;
                    passed.push((start..start + value.len() as u32, origin as u32));
                }
                text.push_str(value);
                done = at + 1 + word.len();
            });
            line_start += line.len();
        }
        text.push_str(&body[done..]);
        Ok((text, passed))
    }
}

/// Calls with each backslash that a word follows: its place, the word, and whether it is in quotes.
fn scan(line: &str, mut found: impl FnMut(usize, &str, bool)) {
    scan_all(line, |at, word, quoted| {
        if !word.is_empty() {
            found(at, word, quoted);
        }
    });
}

/// The same, also with backslashes that no word follows.
fn scan_all(line: &str, mut found: impl FnMut(usize, &str, bool)) {
    let bytes = line.as_bytes();
    let mut quote = None;
    let mut at = 0;
    while at < bytes.len() {
        match (quote, bytes[at]) {
            (_, b'\\') => {
                let word = word_after(&line[at + 1..]);
                found(at, word, quote.is_some());
                // An escaped quote does not close, an escaped backslash does not escape.
                at += if word.is_empty() { 1 } else { word.len() };
            }
            (Some(q), b) if b == q => quote = None,
            (Some(_), _) => {}
            (None, q @ (b'"' | b'\'')) => quote = Some(q),
            _ => {}
        }
        at += 1;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn definition(parameters_text: &str, body: &str) -> Macro {
        let body = Body { text: body.into(), at: 0, file: 0, line: 1, labels: dotted_labels(body) };
        let parameters = parameters(parameters_text, 0).unwrap();
        Macro { name: "flash".into(), span: Span::default(), parameters, body }
    }

    #[test]
    fn arguments_take_the_place_of_parameters() {
        let cases = [
            ("a", "mov eax, \\a", "5", "mov eax, 5"),
            ("a, b=7", "\\a \\b", "[rdi, 4]", "[rdi, 4] 7"),
            ("a, b=7", "\\a \\b", "1, b=2", "1 2"),
            ("a=3, b=4", "\\a\\b", "", "34"),
            ("reg", "\\reg\\()d", "r8", "r8d"),
            ("reg", "\\regd", "r8", "\\regd"),
            ("first, rest:vararg", "\\first|\\rest", "1, 2, \"a, b\"", "1|2, \"a, b\""),
            ("rest:vararg", "<\\rest>", "", "<>"),
            ("n", "\"\\n\\\\\" \\n", "6", "\"\\n\\\\\" 6"),
            ("name", ".ascii \"\\name\\n\"", "fog", ".ascii \"fog\\n\""),
            ("", "lamp\\@:", "", "lamp9:"),
        ];
        for (parameters, body, arguments, wanted) in cases {
            let (text, _) =
                definition(parameters, body).expand(arguments, Span::default(), 9).unwrap();
            assert_eq!(text, wanted, "{parameters} | {body} | {arguments}");
        }
    }

    #[test]
    fn what_came_from_the_caller_is_remembered() {
        let flash = definition("a, b", "\\b-\\a");
        let (text, passed) = flash.expand("lamp, .x", Span::default(), 0).unwrap();
        assert_eq!(text, ".x-lamp");
        assert_eq!(passed, [(0..2, 6), (3..7, 0)]);
    }

    #[test]
    fn calls_that_do_not_fit_the_definition_are_refused() {
        let flash = definition("count, pause=2", "");
        let message =
            |arguments| flash.expand(arguments, Span::default(), 0).unwrap_err().message.clone();
        assert_eq!(message(""), "`flash` needs its argument `count`");
        assert_eq!(message("1, 2, 3"), "`flash` takes 2 arguments, and 3 are given");
        assert_eq!(message("count=1, count=2"), "`count` is given twice");
        for bad in ["1a", "a, a", "r:vararg, b", "a:maybe", "a, , b"] {
            assert!(parameters(bad, 0).is_err(), "{bad}");
        }
    }

    #[test]
    fn definitions_are_checked_for_words_that_mean_nothing() {
        let found = |parameters, body| -> Vec<String> {
            let all = definition(parameters, body).check(Arch::X86_64);
            all.iter().map(|d| d.message.clone()).collect()
        };
        assert_eq!(found("count", "mov eax, \\cuont"), ["`flash` has no parameter `cuont`"]);
        assert_eq!(
            found("n", ".ascii \"\\n\""),
            ["inside quotes `\\n` is an escape and not the parameter"]
        );
        assert!(found("n", "mov eax, \\n ; \\other").is_empty());
    }

    #[test]
    fn dotted_labels_at_the_start_of_lines_are_the_bodys_own() {
        let labels = dotted_labels(".next: nop\n jmp .next\n  .end :\n\\a: nop\none.two:");
        assert_eq!(labels.iter().map(|l| &**l).collect::<Vec<_>>(), [".next", ".end"]);
    }
}
