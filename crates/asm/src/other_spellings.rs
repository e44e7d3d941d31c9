//! Statements that other traditions write and this language does not, by their shape, and the line to write here.
//!
//! Nothing here knows the words of another language: a shape is an unknown word between a name and a count, before a
//! bracketed symbol, at the head of a file, and so on. What the line would have meant is worked out from the numbers and
//! names in it.

use crate::context::Assembler;
use crate::directives::data::Kind;
use crate::directives::table;
use crate::directives::table::Directive;
use crate::reading::lines::Lines;
use crate::text::hints::{comment_help, tokens};
use crate::text::lexer::{Cursor, Tok};
use crate::{Code, Diagnostic, Span};

/// Lines that are looked through for the end of what a line opens.
const MOST_LINES: usize = 60;

/// A statement that starts with a word which is nothing here.
pub(crate) struct Unknown<'s> {
    pub word: &'s str,
    pub span: Span,
    /// Stands behind the word.
    pub cursor: &'s Cursor<'s>,
    pub lines: &'s Lines<'s>,
}

/// What a statement is taken for.
pub(crate) struct Suggestion {
    pub error: Diagnostic,
    /// So many lines below belong to it, and are not looked at.
    pub lines: usize,
    /// A line further down that belongs to it.
    pub closing: Option<String>,
    /// The name of the label, where it is not the word.
    pub label: Option<String>,
    /// The word is the name of a label, which is defined, so that what refers to it is no error too.
    pub is_label: bool,
    /// Constants that it was meant to define, so that what refers to them is no error too.
    pub defines: Vec<(String, i128)>,
}

impl Suggestion {
    fn new(error: Diagnostic) -> Suggestion {
        Suggestion {
            error,
            lines: 0,
            closing: None,
            label: None,
            is_label: false,
            defines: Vec::new(),
        }
    }
}

/// Bytes of an element, by the letter in which words for data and room end.
fn element_bytes(word: &str) -> Option<u64> {
    let letter = word.chars().next_back().filter(|_| word.len() > 2)?;
    Some(match letter.to_ascii_lowercase() {
        'b' => 1,
        'w' => 2,
        'd' | 'l' => 4,
        'q' => 8,
        _ => return None,
    })
}

fn is_data(word: &str) -> bool {
    matches!(table::find(word), Some(Directive::Data(kind)) if kind != Kind::Space && kind != Kind::Fill)
}

/// What the statement is taken for, if its shape tells.
pub(crate) fn answer(assembler: &Assembler, unknown: &Unknown) -> Option<Suggestion> {
    let tokens = tokens(unknown.cursor);
    let context = Shape { assembler, unknown, tokens: &tokens };
    context
        .enclosed()
        .or_else(|| context.repetition())
        .or_else(|| context.reservation())
        .or_else(|| context.label_of_instruction())
        .or_else(|| context.equate())
        .or_else(|| context.section())
        .or_else(|| context.mode())
        .or_else(|| context.declaration())
        .or_else(|| context.label_alone())
        .or_else(|| context.remark())
}

/// Fields with their bytes, how many instructions, and the text of the line that closes them.
type Enclosed = (Vec<(String, u64)>, usize, String);

/// The same, of a statement that may be a misspelt one: only what a line further down proves.
pub(crate) fn enclosed(assembler: &Assembler, unknown: &Unknown) -> Option<Suggestion> {
    let tokens = tokens(unknown.cursor);
    Shape { assembler, unknown, tokens: &tokens }.enclosed()
}

struct Shape<'s> {
    assembler: &'s Assembler<'s>,
    unknown: &'s Unknown<'s>,
    tokens: &'s [(Tok<'s>, Span)],
}

impl<'s> Shape<'s> {
    fn error(&self, code: Code, message: String) -> Diagnostic {
        let code = match code {
            Code::UnknownInstruction if self.unknown.word.starts_with('.') => {
                Code::UnknownDirective
            }
            code => code,
        };
        Diagnostic::error(code, self.unknown.span, message)
    }

    fn no_word(&self) -> Diagnostic {
        let message = format!("`{}` is no word of the language", self.unknown.word);
        self.error(Code::UnknownInstruction, message)
    }

    /// The text from a token to the end of the statement.
    fn text_from(&self, index: usize) -> &'s str {
        let (Some((_, first)), Some((_, last))) = (self.tokens.get(index), self.tokens.last())
        else {
            return "";
        };
        self.unknown.cursor.text_at(first.to(*last))
    }

    fn is_instruction(&self, word: &str) -> bool {
        self.assembler.find_instruction(word).is_some()
    }

    /// The label in front of the word, in the form in which a line for it is written.
    fn label(&self) -> String {
        let here = (self.assembler.file, self.assembler.line);
        let symbol = self.assembler.open_labels.last().map(|id| self.assembler.symbols.get(*id));
        match symbol.filter(|symbol| symbol.line == here) {
            Some(symbol) => format!("{}: ", crate::symbols::shown(&symbol.name)),
            None => String::new(),
        }
    }

    /// `WORD COUNT data` or `WORD COUNT instruction`: something is to be repeated.
    fn repetition(&self) -> Option<Suggestion> {
        let [(Tok::Num(count), _), (Tok::Word(word), _), rest @ ..] = self.tokens else {
            return None;
        };
        let name = self.unknown.word;
        let message = format!("`{name}` is no word of the language; something is repeated here");
        let error = self.error(Code::UnknownInstruction, message);
        let (label, text) = (self.label(), self.text_from(1));
        let written =
            || format!("write `{label}.rept {count}`, then `{text}`, then `.endr`, on three lines");
        if self.is_instruction(word) {
            return Some(Suggestion::new(error.help(written())));
        }
        if !is_data(word) {
            return None;
        }
        let element = match table::find(word) {
            Some(Directive::Data(Kind::Integers(bytes) | Kind::Units(bytes))) => bytes,
            _ => return Some(Suggestion::new(error.help(written()))),
        };
        let [(Tok::Num(value), _)] = rest else {
            return Some(Suggestion::new(error.help(written())));
        };
        let line = match (value, element) {
            (0, _) => format!("{label}.skip {}", count * i128::from(element)),
            _ => format!("{label}.fill {count}, {element}, {}", self.text_from(2)),
        };
        Some(Suggestion::new(error.help(format!("write `{line}`"))))
    }

    /// `NAME WORD COUNT` or `NAME: WORD COUNT`: room is to be reserved, or bytes to be repeated.
    fn reservation(&self) -> Option<Suggestion> {
        let (label, word, count, is_label) = match self.tokens {
            [(Tok::Word(name), _), (Tok::Num(value), _)] if self.unknown.word.starts_with('.') => {
                let error =
                    self.no_word().help(format!("for a constant, write `{name} equ {value}`"));
                return Some(Suggestion {
                    defines: vec![(name.to_string(), *value)],
                    ..Suggestion::new(error)
                });
            }
            [(Tok::Word(word), _), (Tok::Num(count), _)] if self.is_unknown(word) => {
                (format!("{}: ", self.unknown.word), *word, *count, true)
            }
            [(Tok::Num(count), _)] => (self.label(), self.unknown.word, *count, false),
            _ => return None,
        };
        let nobits = self.assembler.sections[self.assembler.current].flags.nobits;
        // A number alone behind a word at the head of a file names a mode of the machine.
        if label.is_empty() && !nobits {
            return None;
        }
        let bytes = element_bytes(word).unwrap_or(1).checked_mul(u64::try_from(count).ok()?)?;
        let message = format!("`{word}` is no word of the language");
        let span = if is_label { self.tokens[0].1 } else { self.unknown.span };
        let error = Diagnostic::error(Code::UnknownInstruction, span, message);
        let unit = if bytes == 1 { "byte" } else { "bytes" };
        let help = match element_bytes(word) {
            Some(1) | None => format!("to reserve {bytes} {unit}, write `{label}.skip {bytes}`"),
            Some(size) => {
                let elements = if count == 1 { "element" } else { "elements" };
                format!(
                    "to reserve {count} {elements} of {size} bytes, write `{label}.skip {bytes}`"
                )
            }
        };
        let help = match nobits {
            true if label.is_empty() => {
                format!("{help}, or `{word}: .skip {bytes}` if `{word}` is its name")
            }
            true => help,
            false => {
                format!("{help}; for {count} bytes of one value, `{label}.fill {count}, 1, VALUE`")
            }
        };
        Some(Suggestion { is_label, ..Suggestion::new(error.help(help)) })
    }

    /// Whether a word is nothing here but perhaps a symbol.
    fn is_unknown(&self, word: &str) -> bool {
        !self.is_instruction(word)
            && table::find(word).is_none()
            && !self.assembler.macros.contains_key(word)
    }

    /// A structure, or a routine in words that open and close it: a line further down closes what this one opens.
    fn enclosed(&self) -> Option<Suggestion> {
        let (name, opening) = match self.tokens {
            [(Tok::Word(second), _), ..] if self.is_unknown(second) => {
                match self.closing(self.unknown.word, second) {
                    Some(found) => (self.unknown.word, found),
                    None => (*second, self.closing(second, self.unknown.word)?),
                }
            }
            _ => return None,
        };
        let (fields, instructions, closing) = opening;
        let lines = fields.len() + instructions;
        if instructions > 0 {
            let message = "routines are not opened and closed with words";
            let error = self.error(Code::UnknownInstruction, message.to_string());
            let error = error.help(format!("write `{name}:` before its first instruction, and nothing behind its last; `.global {name}` shows it to other files"));
            let (closing, label) = (Some(closing), Some(name.to_string()));
            return Some(Suggestion { closing, label, is_label: true, ..Suggestion::new(error) });
        }
        let message = "structures are not declared; the offsets of their fields are constants";
        let mut error = self.error(Code::UnknownInstruction, message.to_string());
        let mut offset = 0;
        let mut defines = Vec::new();
        for (field, bytes) in fields.iter().filter(|(field, _)| !field.is_empty()) {
            defines.push((format!("{name}.{field}"), offset));
            offset += i128::from(*bytes);
        }
        defines.push((format!("{name}.size"), offset));
        let lines_to_write: String =
            defines.iter().map(|(name, value)| format!("\n  {name} equ {value}")).collect();
        error = error
            .help(format!("write{lines_to_write}\nand `[rbx + {}]` for a field", defines[0].0));
        // The line that closes it belongs to it too.
        Some(Suggestion { lines: lines + 1, defines, ..Suggestion::new(error) })
    }

    /// The fields, and how many instructions, between this line and the one that closes what `name WORD` opens, if
    /// there is such a line: `endWORD`, or `name endX`.
    fn closing(&self, name: &str, word: &str) -> Option<Enclosed> {
        let (mut fields, mut instructions) = (Vec::new(), 0);
        let word = word.to_ascii_lowercase();
        let arch = self.assembler.arch;
        for line in self.unknown.lines.clone().rest().take(MOST_LINES) {
            let cursor = Cursor::new(line, 0, arch);
            let tokens = tokens(&cursor);
            let first = tokens.iter().find_map(|(token, _)| match token {
                Tok::Word(word) => Some(word.to_ascii_lowercase()),
                _ => None,
            });
            let second = match tokens.get(1) {
                Some((Tok::Word(word), _)) => word.to_ascii_lowercase(),
                _ => String::new(),
            };
            let first = first.unwrap_or_default();
            let ends = |text: &str| text.starts_with("end") || text.starts_with(".end");
            if (ends(&first) && first.ends_with(word.trim_start_matches('.')))
                || (first == name.to_ascii_lowercase() && ends(&second))
            {
                return Some((fields, instructions, line.trim().to_string()));
            }
            if self.is_instruction(&first) {
                instructions += 1;
            } else {
                fields.push(field(&tokens));
            }
        }
        None
    }

    /// `name instruction ...`: a label without its colon.
    fn label_of_instruction(&self) -> Option<Suggestion> {
        let [(Tok::Word(next), _), ..] = self.tokens else { return None };
        if !self.is_instruction(next) || !self.can_be_label() {
            return None;
        }
        let name = self.unknown.word;
        let error = self.error(Code::Syntax, format!("the label `{name}` has no colon"));
        let error = error.help(format!("write `{name}:`")).replace_with(format!("{name}:"));
        Some(Suggestion { is_label: true, ..Suggestion::new(error) })
    }

    fn can_be_label(&self) -> bool {
        let word = self.unknown.word;
        !word.starts_with('.') || word.len() > 1
    }

    /// `WORD NAME = VALUE`, `NAME .WORD VALUE`.
    fn equate(&self) -> Option<Suggestion> {
        let [(Tok::Word(name), _), (Tok::Op('='), _), ..] = self.tokens else { return None };
        let value = self.text_from(2);
        let error = self.no_word();
        Some(Suggestion::new(
            error.help(format!("write `{name} = {value}`, or `{name} equ {value}`")),
        ))
    }

    /// An unknown word at the head of a file, alone or with a number or other words: a mode of the machine.
    fn mode(&self) -> Option<Suggestion> {
        let assembler = self.assembler;
        let empty = assembler.sections.iter().all(|section| section.fragments.is_empty());
        let labelled = assembler.scope.is_some();
        let word = self.unknown.word;
        let plain = self.tokens.iter().all(|(token, _)| {
            matches!(token, Tok::Num(16 | 32 | 64) | Tok::Op(','))
                || matches!(token, Tok::Word(word) if self.is_unknown(word) && !self.is_mentioned(word))
        });
        // A word at the start of its line is a label rather.
        let as_label =
            self.tokens.is_empty() && self.unknown.cursor.text_before(self.unknown.span).is_empty();
        if !empty
            || labelled
            || !plain
            || as_label
            || self.tokens.len() > 3
            || self.is_mentioned(word)
        {
            return None;
        }
        let arch = assembler.arch;
        let error = self.no_word();
        Some(Suggestion::new(error.help(format!(
            "leave the line out: `.target {arch}` names the machine, and `[x]` is relative in 64-bit code already"
        ))))
    }

    /// `WORD NAME, NAME ...` of names that the file defines or uses: a declaration.
    fn declaration(&self) -> Option<Suggestion> {
        let [(Tok::Word(name), _), ..] = self.tokens else { return None };
        let names = self.tokens.iter().all(|(token, _)| {
            matches!(token, Tok::Op(','))
                || matches!(token, Tok::Word(word) if self.is_unknown(word))
        });
        if !names || !self.is_mentioned(name) {
            return None;
        }
        if self.unknown.lines.clone().rest().all(|line| line.trim().is_empty()) {
            return Some(Suggestion::new(self.no_word().help(
                "leave the line out: nothing closes a file, and the program starts at `_start`",
            )));
        }
        let names = self.text_from(0);
        let error = self.no_word();
        Some(Suggestion::new(error.help(match self.is_label(name) {
            true => format!("to show it to other files, write `.global {names}`"),
            false => format!("for a name of another file, write `.extern {names}`"),
        })))
    }

    /// A word alone on its line that other lines mention: a label without its colon.
    fn label_alone(&self) -> Option<Suggestion> {
        let name = self.unknown.word;
        let at_start = self.unknown.cursor.text_before(self.unknown.span).is_empty();
        if !self.tokens.is_empty()
            || !(at_start || self.is_mentioned(name))
            || name.starts_with('.')
        {
            return None;
        }
        let error = self.error(Code::Syntax, format!("the label `{name}` has no colon"));
        let error = error.help(format!("write `{name}:`")).replace_with(format!("{name}:"));
        Some(Suggestion { is_label: true, ..Suggestion::new(error) })
    }

    /// `WORD .name`: a section.
    fn section(&self) -> Option<Suggestion> {
        let [(Tok::Word(name), _), rest @ ..] = self.tokens else { return None };
        let flags = sotto_object::SectionFlags::by_name(name);
        if !name.starts_with('.') || !flags.alloc || table::find(name).is_none() {
            return None;
        }
        let more = if rest.is_empty() {
            ""
        } else {
            "; what it holds and who may write it is known by its name"
        };
        Some(Suggestion::new(self.no_word().help(format!("write `{name}` alone{more}"))))
    }

    /// Several words, and nothing else: a remark.
    fn remark(&self) -> Option<Suggestion> {
        let words = self.tokens.iter().all(|(token, _)| matches!(token, Tok::Word(_)));
        if !words || self.tokens.len() < 3 {
            return None;
        }
        Some(Suggestion::new(self.no_word().help(comment_help(self.unknown.cursor))))
    }

    /// Whether the word stands in another line of the text too.
    fn is_mentioned(&self, word: &str) -> bool {
        let text = self.unknown.lines.text();
        let is_part =
            |byte: Option<&u8>| byte.is_some_and(|b| crate::text::lexer::is_word_byte(*b));
        let places = memchr::memmem::find_iter(text.as_bytes(), word.as_bytes());
        let whole = places.filter(|&at| {
            let bytes = text.as_bytes();
            let before = at.checked_sub(1).and_then(|before| bytes.get(before));
            !is_part(before) && !is_part(bytes.get(at + word.len()))
        });
        whole.take(2).count() > 1
    }

    /// Whether the text has the word as a label.
    fn is_label(&self, name: &str) -> bool {
        self.unknown.lines.text().lines().any(|line| {
            line.trim_start()
                .strip_prefix(name)
                .is_some_and(|rest| rest.trim_start().starts_with(':'))
        })
    }
}

/// Name and bytes of a field of a structure.
fn field(tokens: &[(Tok, Span)]) -> (String, u64) {
    let mut words = tokens.iter().filter_map(|(token, _)| match token {
        Tok::Word(word) => Some(*word),
        _ => None,
    });
    let name = words.next().unwrap_or_default().trim_matches('.').to_string();
    let element = words.next().map(|word| match word.to_ascii_lowercase().as_str() {
        "byte" => 1,
        "word" => 2,
        "dword" => 4,
        "qword" => 8,
        other => element_bytes(other).unwrap_or(1),
    });
    let count = tokens.iter().find_map(|(token, _)| match token {
        Tok::Num(count) => u64::try_from(*count).ok().filter(|count| *count < 1 << 20),
        _ => None,
    });
    (name, element.unwrap_or(1) * count.unwrap_or(1).max(1))
}
