//! What is read, and how often: includes, conditionals, repeats, and macros.
//!
//! Texts are read line by line through [`Lines`]. A directive that needs the lines below it, such as
//! `.macro`, takes them from there. A macro's body is expanded to a text of its own; a plain repeat
//! reads the same lines again.

use std::ops::Range;
use std::rc::Rc;
use std::sync::Arc;

use sotto_isa::Arch;

use crate::context::{Assembler, ListedLine};
use crate::directives::structure::{Structure, begins_condition};
use crate::directives::table::Directive;
use crate::directives::{data, table};
use crate::reading::files::file_name;
use crate::reading::lines::{Condition, Level, Line, Lines};
use crate::reading::macros;
use crate::reading::macros::{Body, Kind, Macro, Parameter};
use crate::statements::Pending;
use crate::text::hints;
use crate::text::lexer::{Cursor, Tok, blank_block_comments};
use crate::text::source::{BYTE_ORDER_MARK, Origin};
use crate::{Code, Diagnostic, Span};

/// Includes, macros and repeats nest at most this deep.
const MAX_DEPTH: usize = 64;
/// All the expansions of an assembly together take at most this many bytes.
const MAX_EXPANDED_BYTES: usize = 1 << 28;
/// Macros and repeats together read at most this many lines; a round without lines counts as one.
const MAX_EXPANDED_LINES: u64 = 1 << 23;

/// Bytes that lines have at least on average, when room is made for what they lay down.
const LEAST_OF_A_LINE: usize = 8;

/// The first word of a line after its labels, if it is a directive of this module, with its place and
/// what follows it.
fn leading(line: Line<'_>, arch: Arch) -> Option<(Structure, Span, Cursor<'_>)> {
    let text = line.text.trim_start();
    // Most lines cannot be one; this keeps skipping fast.
    if !text.contains('.') {
        return None;
    }
    let mut cursor = Cursor::new(line.text, line.at, arch);
    loop {
        let Ok((Tok::Word(word), span)) = cursor.next() else { return None };
        if cursor.eat(':') != Ok(true) {
            return match table::find(word) {
                Some(Directive::Structure(structure)) if word.starts_with('.') => {
                    Some((structure, span, cursor))
                }
                None if begins_condition(word) => Some((Structure::IfUnknown, span, cursor)),
                _ => None,
            };
        }
    }
}

impl Assembler<'_> {
    /// Carries out what a statement left to its reader.
    fn complete(&mut self, pending: Pending<'_>, lines: &mut Lines) -> Result<(), Diagnostic> {
        match pending {
            Pending::Nothing => Ok(()),
            Pending::Structure(structure, span, mut cursor) => {
                self.structure(structure, span, &mut cursor, lines)
            }
            Pending::Call(called, span, mut cursor) => self.call(&called, span, &mut cursor),
            Pending::UnknownCondition(span, error) => {
                // Its `.endif` is no error of its own, and no branch of it is read.
                self.open_unknown_condition(span, lines)?;
                Err(error)
            }
        }
    }

    /// Reads a file that was added at `base`.
    pub(crate) fn read_file(&mut self, text: &str, base: u32, file: u32) {
        let base = base as usize;
        let blanked = match blank_block_comments(text, !self.semicolon_separates()) {
            Ok(blanked) => blanked,
            Err(span) => {
                let span = Span::new(base + span.start as usize, base + span.end as usize);
                let error = Diagnostic::error(Code::Syntax, span, "the comment has no end");
                self.report(error.label("opened here").help("close it with `*/`"));
                return;
            }
        };
        // A line that lays something down has some letters.
        let lines = memchr::memchr_iter(b'\n', blanked.as_bytes()).count();
        self.make_room(lines.min(blanked.len() / LEAST_OF_A_LINE));
        self.read_lines(&mut Lines::new(&blanked, base, file, 1));
    }

    /// Takes the next line, and notes it for the listing.
    fn take<'t>(&mut self, lines: &mut Lines<'t>) -> Option<Line<'t>> {
        let separated = self.semicolon_separates().then_some(self.arch);
        let line = lines.next(separated)?;
        (self.file, self.line) = (lines.file, lines.line - 1);
        let text = line.text.trim_start();
        if text.starts_with('#') {
            match text.trim_end() {
                "#APP" => self.in_inline_assembly = true,
                "#NO_APP" => self.in_inline_assembly = false,
                text => self.check_preprocessor_line(
                    text,
                    line.at + (line.text.len() - line.text.trim_start().len()),
                ),
            }
        } else if separated.is_none() && memchr::memchr(b';', line.text.as_bytes()).is_some() {
            self.check_hidden_instruction(&line);
        }
        if !self.levels.is_empty() && !self.count_line(line.at) {
            return None;
        }
        if self.listing.is_some() {
            let here = self.here();
            let listed = ListedLine {
                span: Span::new(line.at, line.at + line.text.len()),
                file: self.file,
                line: self.line,
                depth: self.levels.len(),
                from: here,
                to: here,
            };
            self.listing.get_or_insert_default().push(listed);
        }
        Some(line)
    }

    /// Warns of a line of the C preprocessor, which is a comment here.
    fn check_preprocessor_line(&mut self, text: &str, at: usize) {
        if let Some(help) = hints::preprocessor_line(text) {
            let end = text.find([' ', '\t']).unwrap_or(text.len());
            let message = format!("`{}` starts a comment here", &text[..end]);
            let warning = Diagnostic::error(Code::Syntax, Span::new(at, at + end), message);
            self.report(warning.warning().help(help));
        }
    }

    /// Carries out lines to the end of their text.
    fn read_lines(&mut self, lines: &mut Lines) {
        // What was opened in another text cannot be closed in this one.
        let outer = std::mem::replace(&mut self.own_conditions, self.conditions.len());
        let open = self.own_conditions;
        while !self.stopped
            && !self.leaving_macro
            && let Some(line) = self.take(lines)
        {
            let listed = self.listing.as_ref().map_or(0, Vec::len);
            let pending = self.statement(line, lines);
            if let Err(diagnostic) = pending.and_then(|pending| self.complete(pending, lines)) {
                self.report(diagnostic);
            }
            let to = self.here();
            if let Some(listing) = &mut self.listing
                && listing.len() == listed
                && let Some(last) = listing.last_mut()
            {
                last.to = to;
            }
        }
        for condition in self.conditions.drain(open..).collect::<Vec<_>>() {
            if self.leaving_macro {
                continue;
            }
            let error = Diagnostic::error(Code::Structure, condition.span, "this has no `.endif`");
            self.report(error.help("close it with `.endif` in the same text"));
        }
        self.own_conditions = outer;
    }

    /// Carries out a directive of this module.
    fn structure(
        &mut self,
        structure: Structure,
        span: Span,
        cursor: &mut Cursor,
        lines: &mut Lines,
    ) -> Result<(), Diagnostic> {
        match structure {
            Structure::Include => self.include(span, cursor),
            _ if structure.opens_condition() => {
                let holds = self.condition(structure, cursor);
                // If it cannot be told, no branch is read.
                let taken = *holds.as_ref().unwrap_or(&true);
                self.conditions.push(Condition { span, taken, other: None });
                if !matches!(holds, Ok(true)) {
                    self.skip_branch(lines)?;
                }
                holds.map(|_| ())
            }
            Structure::ElseIf | Structure::Else => {
                self.check_branch(structure, span)?;
                // The branch before was taken, so this one is not.
                self.skip_branch(lines)
            }
            Structure::EndIf => {
                cursor.expect_end("after `.endif`")?;
                if self.conditions.len() <= self.own_conditions {
                    return Err(unopened(span, ".endif", ".if"));
                }
                self.conditions.pop();
                Ok(())
            }
            Structure::Repeat => self.repeat(span, cursor, lines),
            Structure::RepeatFor => self.repeat_for(span, cursor, lines),
            Structure::RepeatForCharacters => self.repeat_for_characters(span, cursor, lines),
            Structure::ExitMacro => {
                cursor.expect_end("after `.exitm`")?;
                if self.macro_depth == 0 {
                    let message = "`.exitm` stands outside a macro";
                    return Err(Diagnostic::error(Code::Structure, span, message));
                }
                self.leaving_macro = true;
                Ok(())
            }
            Structure::Macro => self.define_macro(span, cursor, lines),
            Structure::EndRepeat => Err(unopened(span, ".endr", ".rept")),
            Structure::EndMacro => Err(unopened(span, ".endm", ".macro")),
            Structure::If
            | Structure::IfDefined(_)
            | Structure::IfBlank(_)
            | Structure::IfSame(_)
            | Structure::IfUnknown => unreachable!("they open a conditional"),
        }
    }

    fn condition(&mut self, structure: Structure, cursor: &mut Cursor) -> Result<bool, Diagnostic> {
        let holds = match structure {
            Structure::IfDefined(wanted) => match cursor.next()? {
                (Tok::Word(name), span) => {
                    let name = self.own_name(name, span).into_owned();
                    self.symbols.is_defined(&name, self.scope) == wanted
                }
                (token, span) => {
                    return Err(cursor.unexpected(token, span, "the name of a symbol"));
                }
            },
            Structure::IfBlank(wanted) => cursor.rest().0.is_empty() == wanted,
            Structure::IfSame(wanted) => {
                let (rest, at) = cursor.rest();
                match macros::split(rest)[..] {
                    [(_, a), (_, b)] => (unquoted(a) == unquoted(b)) == wanted,
                    _ => {
                        let span = Span::new(at, at + rest.len());
                        let message = "two texts are compared, with a comma between them";
                        return Err(Diagnostic::error(Code::Syntax, span, message));
                    }
                }
            }
            _ => data::number(self, cursor)?.0 != 0,
        };
        cursor.expect_end("after the condition")?;
        Ok(holds)
    }

    /// Opens a conditional of which no branch is read.
    fn open_unknown_condition(&mut self, span: Span, lines: &mut Lines) -> Result<(), Diagnostic> {
        self.conditions.push(Condition { span, taken: true, other: None });
        self.skip_branch(lines)
    }

    /// Refuses `.else` without `.if`, and a branch after `.else`.
    fn check_branch(&mut self, structure: Structure, span: Span) -> Result<(), Diagnostic> {
        let name = if structure == Structure::Else { ".else" } else { ".elseif" };
        let own = self.conditions.get_mut(self.own_conditions..).and_then(<[_]>::last_mut);
        let Some(condition) = own else {
            return Err(unopened(span, name, ".if"));
        };
        if let Some(other) = condition.other {
            let message = format!("`{name}` stands after the `.else`");
            return Err(Diagnostic::error(Code::Structure, span, message)
                .at(other, "the `.else`")
                .at(condition.span, "of this `.if`"));
        }
        if structure == Structure::Else {
            condition.other = Some(span);
        }
        Ok(())
    }

    /// Skips to the branch to be read, or to the end of the conditional.
    fn skip_branch(&mut self, lines: &mut Lines) -> Result<(), Diagnostic> {
        let mut depth = 0;
        while let Some(line) = self.take(lines) {
            let Some((structure, span, mut cursor)) = leading(line, self.arch) else { continue };
            match structure {
                _ if structure.opens_condition() => depth += 1,
                Structure::EndIf if depth > 0 => depth -= 1,
                Structure::EndIf => {
                    self.conditions.pop();
                    return Ok(());
                }
                Structure::Else | Structure::ElseIf if depth == 0 => {
                    self.check_branch(structure, span)?;
                    if self.conditions.last().is_none_or(|condition| condition.taken) {
                        continue;
                    }
                    let holds = match structure {
                        Structure::ElseIf => self.condition(structure, &mut cursor)?,
                        _ => {
                            cursor.expect_end("after `.else`")?;
                            true
                        }
                    };
                    if holds {
                        if let Some(condition) = self.conditions.last_mut() {
                            condition.taken = true;
                        }
                        return Ok(());
                    }
                }
                _ => {}
            }
        }
        Ok(())
    }

    /// Takes the lines up to the directive that ends the block.
    fn block(
        &mut self,
        span: Span,
        lines: &mut Lines,
        opens: &[Structure],
        closes: Structure,
        end: &str,
    ) -> Result<Body, Diagnostic> {
        let (start, at, line) = (lines.at, lines.base + lines.at, lines.line);
        let mut depth = 0;
        loop {
            let before = lines.at;
            let Some(next) = self.take(lines) else {
                return Err(Diagnostic::error(
                    Code::Structure,
                    span,
                    format!("this has no `{end}`"),
                )
                .help(format!("close it with `{end}` in the same text")));
            };
            match leading(next, self.arch).map(|(found, ..)| found) {
                Some(found) if opens.contains(&found) => depth += 1,
                Some(found) if found == closes && depth > 0 => depth -= 1,
                Some(found) if found == closes => {
                    let text: Arc<str> = lines.text[start..before].into();
                    let labels = macros::dotted_labels(&text);
                    return Ok(Body { text, at: at as u32, file: lines.file, line, labels });
                }
                _ => {}
            }
        }
    }

    /// `.rept COUNT`
    fn repeat(
        &mut self,
        span: Span,
        cursor: &mut Cursor,
        lines: &mut Lines,
    ) -> Result<(), Diagnostic> {
        let count = data::number(self, cursor).and_then(|(count, at)| {
            cursor.expect_end("after the count")?;
            u64::try_from(count).map_err(|_| {
                Diagnostic::error(Code::OutOfRange, at, format!("{count} is no count"))
                    .label("must be 0 or more")
            })
        });
        let body = self.block(span, lines, REPEATS, Structure::EndRepeat, ".endr")?;
        for _ in 0..count? {
            let number = self.enter(span)?;
            self.levels.push(Level {
                range: body.at..body.at + body.text.len() as u32,
                labels: body.labels.clone(),
                number,
                passed: Vec::new(),
            });
            let mut again = Lines::new(&body.text, body.at as usize, body.file, body.line);
            self.read_lines(&mut again);
            self.levels.pop();
            if self.stopped || self.leaving_macro {
                break;
            }
        }
        Ok(())
    }

    /// Counts a line that a macro or a repeat brings; `false` if there have been too many.
    fn count_line(&mut self, at: usize) -> bool {
        self.expanded_lines += 1;
        if self.expanded_lines > MAX_EXPANDED_LINES && !self.stopped {
            let message = format!("macros and repeats read more than {MAX_EXPANDED_LINES} lines");
            self.report(Diagnostic::error(Code::Runaway, Span::new(at, at), message));
            self.stopped = true;
        }
        !self.stopped
    }

    /// `.irp PARAMETER, VALUE, ...`
    fn repeat_for(
        &mut self,
        span: Span,
        cursor: &mut Cursor,
        lines: &mut Lines,
    ) -> Result<(), Diagnostic> {
        let (rest, at) = cursor.rest();
        let body = self.block(span, lines, REPEATS, Structure::EndRepeat, ".endr")?;
        let mut pieces = macros::split(rest).into_iter();
        let name = pieces.next().filter(|(_, name)| !name.is_empty());
        let Some((offset, name)) = name else {
            let message = "`.irp` needs a parameter and its values";
            return Err(Diagnostic::error(Code::MacroUse, span, message)
                .help("write `.irp reg, rax, rbx`, and `\\reg` in the lines below"));
        };
        macros::parameters(name, at + offset)?;
        let values = pieces.map(|(offset, value)| (at + offset, value));
        self.expand_for_each(".irp", span, name, body, values)
    }

    /// `.irpc PARAMETER, CHARACTERS`
    fn repeat_for_characters(
        &mut self,
        span: Span,
        cursor: &mut Cursor,
        lines: &mut Lines,
    ) -> Result<(), Diagnostic> {
        let (rest, at) = cursor.rest();
        let body = self.block(span, lines, REPEATS, Structure::EndRepeat, ".endr")?;
        let Some((name, characters)) =
            rest.split_once(',').filter(|(name, _)| !name.trim().is_empty())
        else {
            let message = "`.irpc` needs a parameter and its characters";
            return Err(Diagnostic::error(Code::MacroUse, span, message)
                .help("write `.irpc digit, 0123`, and `\\digit` in the lines below"));
        };
        macros::parameters(name.trim(), at)?;
        let characters = unquoted(characters.trim());
        let start = at + (characters.as_ptr() as usize - rest.as_ptr() as usize);
        let values = characters.char_indices().map(|(offset, character)| {
            (start + offset, &characters[offset..offset + character.len_utf8()])
        });
        self.expand_for_each(".irpc", span, name.trim(), body, values)
    }

    /// Expands the body of a repeat once for each value of its parameter. A value comes with its column in the line.
    fn expand_for_each<'v>(
        &mut self,
        directive: &str,
        span: Span,
        parameter: &str,
        body: Body,
        values: impl Iterator<Item = (usize, &'v str)>,
    ) -> Result<(), Diagnostic> {
        let parameters = vec![Parameter { name: parameter.to_string(), kind: Kind::Rest }];
        let each = Macro { name: directive.into(), span, parameters, body };
        self.check_macro(&each)?;
        for (at, value) in values {
            self.expand(&each, value, at, span)?;
            if self.stopped || self.leaving_macro {
                break;
            }
        }
        Ok(())
    }

    /// `.macro NAME PARAMETERS`
    fn define_macro(
        &mut self,
        span: Span,
        cursor: &mut Cursor,
        lines: &mut Lines,
    ) -> Result<(), Diagnostic> {
        let head = cursor.next();
        let (rest, at) = cursor.rest();
        let body = self.block(span, lines, &[Structure::Macro], Structure::EndMacro, ".endm")?;
        let (token, name_span) = head?;
        let Tok::Word(name) = token else {
            return Err(cursor.unexpected(token, name_span, "the name of the macro"));
        };
        let what = if self.find_instruction(name).is_some() {
            Some("an instruction")
        } else {
            table::find(name).is_some().then_some("a directive")
        };
        if let Some(what) = what {
            let message = format!("`{name}` is {what} already, so no macro can be called that");
            return Err(Diagnostic::error(Code::MacroUse, name_span, message));
        }
        if let Some(first) = self.macros.get(name) {
            let message = format!("the macro `{name}` is defined twice");
            return Err(Diagnostic::error(Code::DuplicateSymbol, name_span, message)
                .label("defined again here")
                .at(first.span, "first defined here"));
        }
        // The comma after the name may be there or not.
        let rest_trimmed = rest.trim_start();
        let blanks = rest.len() - rest_trimmed.len();
        let (rest, at) = match rest_trimmed.strip_prefix(',') {
            Some(rest) => (rest, at + blanks + 1),
            None => (rest, at),
        };
        let parameters = macros::parameters(rest, at)?;
        let defined = Macro { name: name.into(), span: name_span, parameters, body };
        self.check_macro(&defined)?;
        self.macros.insert(name.into(), Rc::new(defined));
        Ok(())
    }

    /// Reports what is questionable about a macro; an error in it keeps it from being used.
    fn check_macro(&mut self, defined: &Macro) -> Result<(), Diagnostic> {
        let mut error = None;
        for diagnostic in defined.check(self.arch) {
            if diagnostic.severity == crate::Severity::Error {
                error.get_or_insert(diagnostic);
            } else {
                self.report(diagnostic);
            }
        }
        error.map_or(Ok(()), Err)
    }

    /// Calls a macro; its arguments stand at the cursor.
    fn call(&mut self, called: &Macro, span: Span, cursor: &mut Cursor) -> Result<(), Diagnostic> {
        self.open_labels.clear();
        let (rest, at) = cursor.rest();
        let end = at + rest.trim_end().len();
        let call = Span::new(span.start as usize, end.max(span.end as usize));
        self.macro_depth += 1;
        let expanded = self.expand(called, rest, at, call);
        self.macro_depth -= 1;
        self.leaving_macro = false;
        expanded
    }

    /// Makes sure that nesting ends, and numbers the expansion.
    fn enter(&mut self, span: Span) -> Result<u32, Diagnostic> {
        if self.levels.len() >= MAX_DEPTH {
            // Everything on the way out would fail the same way.
            self.stopped = true;
            return Err(Diagnostic::error(
                Code::Runaway,
                span,
                format!("macros and repeats nest more than {MAX_DEPTH} deep"),
            )
            .help("a macro that calls itself needs an `.if` that ends it"));
        }
        self.expansions += 1;
        self.count_line(span.start as usize);
        Ok(self.expansions)
    }

    /// Expands a macro and reads what comes out. The arguments stand at `at`.
    fn expand(
        &mut self,
        called: &Macro,
        arguments: &str,
        at: usize,
        call: Span,
    ) -> Result<(), Diagnostic> {
        let number = self.enter(call)?;
        let (text, passed) = called.expand(arguments, call, number)?;
        self.expanded_bytes += text.len();
        let origin = Origin::Expanded { name: called.name.clone(), call, body: called.body.at };
        let name = Arc::from(&*self.files[called.body.file as usize]);
        let text: Arc<str> = text.into();
        let base = match self.sources.add(name, text.clone(), origin) {
            Some(base) if self.expanded_bytes <= MAX_EXPANDED_BYTES => base,
            _ => {
                self.stopped = true;
                let message = format!("macros expand to more than {MAX_EXPANDED_BYTES} bytes");
                return Err(Diagnostic::error(Code::Runaway, call, message));
            }
        };
        let shift = |range: Range<u32>| range.start + base..range.end + base;
        self.levels.push(Level {
            range: base..base + text.len() as u32,
            labels: called.body.labels.clone(),
            number,
            passed: passed
                .into_iter()
                .map(|(range, offset)| (shift(range), at as u32 + offset))
                .collect(),
        });
        let place = (self.file, self.line);
        let mut lines = Lines::new(&text, base as usize, called.body.file, called.body.line);
        self.read_lines(&mut lines);
        self.levels.pop();
        (self.file, self.line) = place;
        Ok(())
    }

    /// `.include "file"`
    fn include(&mut self, span: Span, cursor: &mut Cursor) -> Result<(), Diagnostic> {
        let (name, at) = file_name(cursor)?;
        cursor.expect_end("after the name of the file")?;
        let (path, bytes) = self.read_beside(&name, at)?;
        let text = String::from_utf8(bytes).map_err(|_| {
            Diagnostic::error(Code::Include, at, format!("`{path}` is not UTF-8 text"))
                .help("`.incbin` takes in bytes as they are")
        })?;
        if self.including.contains(&path) {
            let error = Diagnostic::error(Code::Include, at, format!("`{path}` includes itself"));
            return Err(error.help("put shared definitions in a file of their own"));
        }
        if self.including.len() >= MAX_DEPTH {
            let message = format!("includes nest more than {MAX_DEPTH} deep");
            return Err(Diagnostic::error(Code::Runaway, at, message));
        }
        let text: Arc<str> = text.strip_prefix(BYTE_ORDER_MARK).unwrap_or(&text).into();
        let origin = Origin::Included(span.to(at));
        let Some(base) = self.sources.add(Arc::from(&*path), text.clone(), origin) else {
            let message = "all the texts together are larger than 4 GiB";
            return Err(Diagnostic::error(Code::Include, at, message));
        };
        let file = self.file_number(&path);
        self.including.push(path);
        let (place, order) = ((self.file, self.line), self.order);
        self.recognise_order(&text, base);
        self.read_file(&text, base, file);
        (self.file, self.line) = place;
        self.order = order;
        self.known.forget();
        self.including.pop();
        Ok(())
    }
}

const REPEATS: &[Structure] =
    &[Structure::Repeat, Structure::RepeatFor, Structure::RepeatForCharacters];

/// A text without the quotes around it, if it has some.
fn unquoted(text: &str) -> &str {
    let quote = |quote: char| text.strip_prefix(quote)?.strip_suffix(quote);
    quote('"').or_else(|| quote('\'')).unwrap_or(text)
}

fn unopened(span: Span, name: &str, opener: &str) -> Diagnostic {
    Diagnostic::error(Code::Structure, span, format!("`{name}` without `{opener}`"))
}
