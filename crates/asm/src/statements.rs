//! Statements: what a line's first words say that it is, and what is near to a line that is nothing.

use std::rc::Rc;

use sotto_isa::x86::prefix_byte;
use sotto_isa::{Operand, OperandOrder, encode, form_docs};

use sotto_object::has_mapping_symbols;

use crate::context::Assembler;
use crate::directives::structure::{Structure, begins_condition};
use crate::directives::table::Directive;
use crate::directives::{data, table, unwind};
use crate::encode_diagnostics::{machine_of, unknown_word};
use crate::instructions::{find_instruction, parse_operands, take_instruction};
use crate::operands::parsed::Parsed;
use crate::reading::line_cache::Key;
use crate::reading::lines::{Line, Lines};
use crate::reading::macros::Macro;
use crate::symbols::{Context, Definition};
use crate::text::hints;
use crate::text::lexer::{Cursor, Tok, code_end};
use crate::text::suggest::{all_near, is_one_slip, nearest};
use crate::text::syntax::syntax;
use crate::{Code, Diagnostic, Expr, Span, other_spellings};

/// What a statement leaves to the reader of lines.
pub(crate) enum Pending<'t> {
    /// Nothing: it was carried out.
    Nothing,
    /// A directive that decides which lines are read, where it stands, and what follows it.
    Structure(Structure, Span, Cursor<'t>),
    /// The call of a macro, where its name stands, and its arguments.
    Call(Rc<Macro>, Span, Cursor<'t>),
    /// An unknown word that seems to open a conditional, and the error to report.
    UnknownCondition(Span, Diagnostic),
}

impl Assembler<'_> {
    /// Carries out one statement, except for what decides which lines are read: that is left to the caller.
    pub(crate) fn statement<'t>(
        &mut self,
        line: Line<'t>,
        lines: &mut Lines,
    ) -> Result<Pending<'t>, Diagnostic> {
        if self.lay_known(line.text) {
            return Ok(Pending::Nothing);
        }
        if self.take_contract_line(&line) {
            return Ok(Pending::Nothing);
        }
        let mut cursor = Cursor::new(line.text, line.at, self.arch)
            .with_order(self.order)
            .with_names(self.register_names.clone());
        loop {
            let (token, span) = cursor.next().map_err(|error| name_with_digit(error, &cursor))?;
            match token {
                Tok::End => return Ok(Pending::Nothing),
                Tok::Num(number) if cursor.eat(':')? => {
                    let number = u32::try_from(number).map_err(|_| {
                        Diagnostic::error(Code::Syntax, span, "a numbered label is a small number")
                    })?;
                    let here = self.here();
                    self.symbols.define_numbered(number, span, here);
                    if self.lay_known(cursor.ahead()) {
                        return Ok(Pending::Nothing);
                    }
                }
                Tok::Word(word) => {
                    // A word before `:`, `=` or `equ` is always a symbol.
                    match cursor.peek()? {
                        Tok::Op(':') => {
                            cursor.next()?;
                            if is_word(&mut cursor, "equ") {
                                cursor.next()?;
                                return self
                                    .equate(word, span, &mut cursor, true)
                                    .map(|()| Pending::Nothing);
                            }
                            self.label(word, span)?;
                            if self.lay_known(cursor.ahead()) {
                                return Ok(Pending::Nothing);
                            }
                        }
                        Tok::Op('=') => {
                            cursor.next()?;
                            return self
                                .equate(word, span, &mut cursor, false)
                                .map(|()| Pending::Nothing);
                        }
                        Tok::Word(equ) if is_equ(equ) && gives_value(&cursor) => {
                            cursor.next()?;
                            return self
                                .equate(word, span, &mut cursor, true)
                                .map(|()| Pending::Nothing);
                        }
                        Tok::Word(req) if req.eq_ignore_ascii_case(".req") => {
                            cursor.next()?;
                            return self
                                .name_register(word, span, &mut cursor)
                                .map(|()| Pending::Nothing);
                        }
                        _ => return self.word(word, span, &mut cursor, lines),
                    }
                }
                _ => {
                    let error =
                        cursor.unexpected(token, span, "a label, an instruction or a directive");
                    return Err(match hints::leading_sign(&cursor, token, span) {
                        Some(help) => error.help(help),
                        None => error,
                    });
                }
            }
        }
    }

    /// Warns of an instruction behind a `;` that starts a comment: on other machines' sources, 64-bit ARM among
    /// them, it often separates statements.
    pub(crate) fn check_hidden_instruction(&mut self, line: &Line) {
        if !syntax(self.arch).warns_of_semicolon || self.stopped {
            return;
        }
        let end = code_end(line.text, self.arch);
        let Some(hidden) = line.text[end..].strip_prefix(';') else { return };
        let text = hidden.split(';').next().unwrap_or(hidden);
        let mut cursor = Cursor::new(text, line.at + end + 1, self.arch);
        let Ok((Tok::Word(word), span)) = cursor.next() else { return };
        let Some(found) = self.find_instruction(word) else { return };
        let mut operands = Vec::new();
        let whole = parse_operands(&mut cursor, found.context, &mut operands).is_ok();
        let encodes = |mnemonic| {
            let fixed = operands.iter().map(|operand| match operand.parsed {
                Parsed::Fixed(operand) => Some(operand),
                _ => None,
            });
            // An operand that names a symbol shows that an instruction is meant.
            fixed
                .collect::<Option<Vec<Operand>>>()
                .is_none_or(|operands| encode(self.arch, mnemonic, &operands, 0).is_ok())
        };
        if whole && found.settle(&mut operands.clone(), &cursor, span).is_ok_and(encodes) {
            let start = line.at + end;
            self.report(
                Diagnostic::error(
                    Code::Syntax,
                    Span::new(start, start + 1),
                    "`;` starts a comment, so the instruction behind it is not assembled",
                )
                .warning()
                .help("write one statement a line"),
            );
        }
    }

    /// Lays down what a line, or what stands behind its label, is known to be assembled to, if it is known.
    pub(crate) fn lay_known(&mut self, text: &str) -> bool {
        self.key = Key::of(text);
        let section = &mut self.sections[self.current];
        let Some(bytes) = self.key.as_ref().and_then(|key| self.known.find(key)) else {
            return false;
        };
        if section.flags.nobits || section.warns_of_instructions() {
            return false;
        }
        if has_mapping_symbols(self.arch) {
            section.mark_kind(true);
        }
        self.open_labels.clear();
        section.mark_line(self.file, self.line);
        section.lay(bytes);
        true
    }

    /// A statement that starts with this word, after its labels.
    pub(crate) fn word<'t>(
        &mut self,
        word: &str,
        span: Span,
        cursor: &mut Cursor<'t>,
        lines: &mut Lines,
    ) -> Result<Pending<'t>, Diagnostic> {
        if let Some(pending) = self.lay_prefix(word, cursor, lines)? {
            return Ok(pending);
        }
        if let Tok::Word(next) = cursor.peek()?
            && next.starts_with(['.', 'd', 'D'])
            && let Some(Directive::Data(kind)) = table::find(next)
            && self.find_instruction(word).is_some()
            && hints::gives_data(cursor)
        {
            // It is meant as a label, so that what refers to it is no error too.
            let error =
                Diagnostic::error(Code::Syntax, span, format!("`{word}` is an instruction"));
            let line = format!("{word}: {}", cursor.clone().rest().0);
            let error = error.help(format!("as a label it needs its colon: `{line}`"));
            self.report(error.replace_with(format!("{word}:")));
            return self.labelled_data(word, span, kind, cursor).map(|()| Pending::Nothing);
        }
        if let Some((found, span)) = take_instruction(self.arch, word, span, cursor)? {
            let done = self.instruction(&found, span, cursor);
            return done.map(|()| Pending::Nothing).map_err(|error| self.with_order(error));
        }
        if let Some(found) = table::find(word) {
            return self.directive(found, word, span, cursor);
        }
        if let Some(called) = self.macros.get(word) {
            return Ok(Pending::Call(called.clone(), span, cursor.clone()));
        }
        // The colon of a label may be dropped before a data directive.
        if let Tok::Word(next) = cursor.peek()?
            && let Some(Directive::Data(kind)) = table::find(next)
        {
            return self.labelled_data(word, span, kind, cursor).map(|()| Pending::Nothing);
        }
        if begins_condition(word) {
            let error = unknown_word(self.arch, word, span, None);
            return Ok(Pending::UnknownCondition(span, error));
        }
        self.unknown_statement(word, span, cursor, lines)
    }

    /// Data behind a label without its colon; the directive comes next.
    pub(crate) fn labelled_data(
        &mut self,
        label: &str,
        span: Span,
        kind: data::Kind,
        cursor: &mut Cursor,
    ) -> Result<(), Diagnostic> {
        let (_, at) = cursor.next()?;
        let word = cursor.text_at(at);
        self.label(label, span)?;
        data::run(self, kind, word, at, cursor)
    }

    /// An error for a statement that starts with a word which is nothing here.
    pub(crate) fn unknown_statement<'t>(
        &mut self,
        word: &str,
        span: Span,
        cursor: &mut Cursor<'t>,
        lines: &mut Lines,
    ) -> Result<Pending<'t>, Diagnostic> {
        if sotto_isa::is_unmodelled(self.arch, word) || machine_of(self.arch, word).is_some() {
            return Err(unknown_word(self.arch, word, span, None));
        }
        if self.order == OperandOrder::DestinationFirst
            && let Some(found) = find_instruction(self.arch, OperandOrder::SourceFirst, word)
        {
            let message = format!("`{word}` is a spelling of source-first order");
            let error = Diagnostic::error(Code::OperandOrder, span, message).help(format!(
                "write `{}`, the destination first, or `.operands source-first` at the top of a file that has this order throughout",
                found.mnemonic
            ));
            return Err(self.with_order(error));
        }
        if self.closing_lines.iter().any(|line| line == cursor.text_of_line()) {
            cursor.rest();
            return Ok(Pending::Nothing);
        }
        let near = self.nearest_statement(word, cursor);
        let is_slip = near.as_deref().is_some_and(|near| {
            near.starts_with('.')
                || self.macros.contains_key(near)
                || cursor.clone().peek() != Ok(Tok::End)
        });
        let unknown = other_spellings::Unknown { word, span, cursor, lines };
        let answer = match is_slip {
            true => other_spellings::enclosed(self, &unknown),
            false => other_spellings::answer(self, &unknown),
        };
        if let Some(answer) = answer {
            lines.skip(answer.lines);
            self.closing_lines.extend(answer.closing);
            for (name, value) in answer.defines {
                // What is defined already stays as it is.
                let value = Definition::Equate(Box::new((Expr::Number(value), Context::default())));
                let _ = self.symbols.define(&name, span, value, None);
            }
            let name = answer.label.as_deref().unwrap_or(word);
            if answer.is_label && self.label(name, span).is_ok() {
                self.report(answer.error);
                // What follows the label is a statement of its own.
                let (text, at) = cursor.rest();
                let first = text.split([' ', '\t']).next().unwrap_or_default();
                if !text.is_empty() && self.find_instruction(first).is_some() {
                    let mut none = Lines::new("", at, self.file, self.line);
                    return self.statement(Line { text, at }, &mut none);
                }
                return Ok(Pending::Nothing);
            }
            return Err(answer.error);
        }
        Err(unknown_word(self.arch, word, span, near.as_deref()))
    }

    /// The word nearest to a misspelt one that can stand before what follows it.
    pub(crate) fn nearest_statement(&self, word: &str, cursor: &Cursor) -> Option<String> {
        let mut names: Vec<&str> = self.macros.keys().map(|name| &**name).collect();
        names.sort_unstable();
        if let Some(near) = nearest(word, names) {
            return Some(near.to_string());
        }
        let lower = word.to_ascii_lowercase();
        let instructions = sotto_isa::mnemonics(self.arch).iter().copied();
        let near = all_near(&lower, instructions);
        let (one, more): (Vec<_>, Vec<_>) = near.into_iter().partition(|(slips, _)| *slips <= 1);
        // A directive's dot is left out easily; more than a letter beside is another word.
        let directives = table::names().filter(|name| is_one_slip(&lower, &name[1..]));
        let instructions =
            |near: Vec<(usize, &'static str)>| near.into_iter().map(|(_, name)| name);
        let all = instructions(one).chain(directives).chain(instructions(more));
        all.into_iter().find(|near| self.can_stand(near, cursor)).map(str::to_string)
    }

    /// Whether an instruction with the operands at the cursor, or a directive, can stand here.
    pub(crate) fn can_stand(&self, word: &str, cursor: &Cursor) -> bool {
        let Some(found) = self.find_instruction(word) else {
            let closes = [".end", ".else", ".exit"].iter().any(|start| word.starts_with(start));
            return word.starts_with('.') && (!closes || cursor.clone().peek() == Ok(Tok::End));
        };
        let (mut cursor, mut operands) = (cursor.clone(), Vec::new());
        if parse_operands(&mut cursor, found.context, &mut operands).is_err() {
            return false;
        }
        let Ok(mnemonic) = found.settle(&mut operands, &cursor, Span::default()) else {
            return false;
        };
        let fixed = operands.iter().map(|operand| match operand.parsed {
            Parsed::Fixed(operand) => Some(operand),
            _ => None,
        });
        match fixed.collect::<Option<Vec<Operand>>>() {
            Some(operands) => encode(self.arch, mnemonic, &operands, 0).is_ok(),
            // What names a symbol is left to those that fill it in, if there may be so many operands.
            None => {
                let forms = form_docs(self.arch, mnemonic);
                let taken =
                    |syntax: &str| syntax.split(',').filter(|part| !part.is_empty()).count();
                forms.iter().any(|form| match syntax(self.arch).has_optional_operands {
                    false => taken(&form.syntax) == operands.len(),
                    true => taken(&form.syntax) >= operands.len(),
                })
            }
        }
    }

    /// Lays down a prefix that stands alone, before an instruction in a statement of its own.
    pub(crate) fn lay_prefix<'t>(
        &mut self,
        word: &str,
        cursor: &mut Cursor<'t>,
        lines: &Lines,
    ) -> Result<Option<Pending<'t>>, Diagnostic> {
        // Every instruction comes by here.
        let alone = cursor.peek()? == Tok::End;
        if !syntax(self.arch).has_prefixes
            || !(alone || matches!(word.as_bytes(), [.., b'4' | b'6']))
        {
            return Ok(None);
        }
        // The same word before a jump in 32-bit code is part of the mnemonic.
        let taken = take_instruction(self.arch, word, Span::default(), &mut cursor.clone());
        if !alone && matches!(taken, Ok(Some(_))) {
            return Ok(None);
        }
        let byte = match prefix_byte(self.arch, word) {
            Some((byte, true)) => byte,
            Some((byte, false)) if alone && (lines.continues() || self.in_inline_assembly) => byte,
            _ => return Ok(None),
        };
        self.open_labels.clear();
        self.mark_line();
        self.section().lay(&[byte]);
        // They may be repeated, as often as a line is long.
        while let Tok::Word(next) = cursor.peek()?
            && let Some((byte, true)) = prefix_byte(self.arch, next)
        {
            cursor.next()?;
            self.section().lay(&[byte]);
        }
        if cursor.peek()? != Tok::End {
            // It stands before the instruction, which is a statement of its own.
            let (text, at) = cursor.rest();
            let (line, mut none) = (Line { text, at }, Lines::new("", at, self.file, self.line));
            return self.statement(line, &mut none).map(Some);
        }
        Ok(Some(Pending::Nothing))
    }

    /// Carries out a directive.
    pub(crate) fn directive<'t>(
        &mut self,
        found: Directive,
        word: &str,
        span: Span,
        cursor: &mut Cursor<'t>,
    ) -> Result<Pending<'t>, Diagnostic> {
        match found {
            Directive::Plain(name, run) => table::run(self, name, run, span, cursor),
            Directive::Data(kind) => data::run(self, kind, word, span, cursor),
            Directive::Structure(structure) => {
                return Ok(Pending::Structure(structure, span, cursor.clone()));
            }
            Directive::Unwind(directive) => unwind::run(self, directive, word, span, cursor),
        }
        .map(|()| Pending::Nothing)
    }
}

/// A statement's first word that is no number, although it begins as one does.
fn name_with_digit(error: Diagnostic, cursor: &Cursor) -> Diagnostic {
    if error.code != Code::BadNumber {
        return error;
    }
    let (name, span) = (cursor.text_at(error.span), error.span);
    Diagnostic::error(Code::Syntax, span, format!("`{name}` begins with a digit, and names do not"))
        .help(format!("write `_{name}`, or put the digits behind the letters"))
}

fn is_equ(word: &str) -> bool {
    word.eq_ignore_ascii_case("equ") || word.eq_ignore_ascii_case(".equ")
}

/// Whether a value follows the `equ` that comes next; else it is a symbol of this name.
fn gives_value(cursor: &Cursor) -> bool {
    let mut ahead = cursor.clone();
    let _ = ahead.next();
    match ahead.next() {
        Ok((Tok::End | Tok::Op(',' | '@' | '['), _)) => false,
        Ok((Tok::Op('('), _)) => ahead.peek() != Ok(Tok::Op('%')),
        _ => true,
    }
}

fn is_word(cursor: &mut Cursor, wanted: &str) -> bool {
    matches!(cursor.peek(), Ok(Tok::Word(word)) if word.eq_ignore_ascii_case(wanted))
}
