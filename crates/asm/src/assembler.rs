//! Reading a source: lines to statements, statements to fragments.

use sotto_isa::{
    Arch, Encoded, Operand, OperandContext, Operands, encode, mnemonics, operand_context,
};
use sotto_object::{Binding, Datum, Object, SectionFlags, SymbolKind};

use crate::expr::{self, Atoms};
use crate::infer::{Inference, infer};
use crate::layout;
use crate::lexer::{Cursor, Tok, blank_block_comments};
use crate::operand::{Parsed, Spanned};
use crate::refusal::{encode_diagnostic, unknown_word};
use crate::symbols::{Context, Definition, Evaluator, Position, SymbolId, SymbolTable};
use crate::{Code, Diagnostic, Expr, Source, Span, arm64, data, directive, x86};

/// What the user may choose.
#[derive(Clone, Debug, Default)]
pub struct Options {
    /// The machine; inferred from the source if not given.
    pub target: Option<Arch>,
}

/// What came of a source.
#[derive(Clone, Debug)]
pub struct Assembly {
    /// The machine assembled for.
    pub arch: Arch,
    /// What decided the machine, if neither an option nor the source said.
    pub inferred: Option<Inference>,
    /// The object, if there was no error.
    pub object: Option<Object>,
    /// Everything to say about the source, in its order.
    pub diagnostics: Vec<Diagnostic>,
}

/// No section may be larger than this many bytes.
pub(crate) const MAX_SECTION_BYTES: u64 = 1 << 30;
/// After this many errors the rest is not read.
const MAX_ERRORS: usize = 100;

/// A number to be put into data once it is known.
pub(crate) struct DataField {
    /// Bytes into the fragment.
    pub offset: u64,
    pub bytes: u8,
    pub expr: Expr,
    pub context: Context,
    pub span: Span,
}

/// An instruction whose size or bytes depend on addresses.
pub(crate) struct OpenInstruction {
    pub mnemonic: &'static str,
    pub operands: Vec<Spanned>,
    pub context: Context,
    pub span: Span,
    /// It never gets shorter than this, so that settling ends.
    pub min_bytes: usize,
    pub encoded: Encoded,
}

/// A stretch of a section.
pub(crate) enum Fragment {
    /// Bytes, some of which wait for values.
    Bytes {
        bytes: Vec<u8>,
        fields: Vec<DataField>,
    },
    /// Bytes of one value.
    Fill {
        count: u64,
        value: u8,
    },
    /// Up to a multiple of `align`, if that takes no more than `max` bytes.
    Align {
        align: u64,
        fill: Option<u8>,
        max: u64,
    },
    Instruction(Box<OpenInstruction>),
}

/// A section being filled.
pub(crate) struct SectionBuilder {
    pub name: String,
    pub flags: SectionFlags,
    pub align: u64,
    pub fragments: Vec<Fragment>,
    /// Where source lines start.
    pub lines: Vec<(Position, u32)>,
}

/// The state while a source is read.
pub(crate) struct Assembler<'s> {
    pub source: &'s Source,
    pub arch: Arch,
    pub sections: Vec<SectionBuilder>,
    pub current: usize,
    pub previous: usize,
    pub symbols: SymbolTable,
    /// The `name:` that dotted labels belong to.
    pub scope: Option<u32>,
    pub diagnostics: Vec<Diagnostic>,
    pub line: u32,
    /// Labels that the next data directive describes.
    pub open_labels: Vec<SymbolId>,
    /// Bytes laid down by `.fill` so far.
    pub filled_bytes: u64,
}

/// Assembles one source.
pub fn assemble(source: &Source, options: &Options) -> Assembly {
    let (inferred_arch, inference) = infer(source);
    let stated = stated_target(source);
    let arch = options.target.or(stated).unwrap_or(inferred_arch);
    let inferred = (options.target.is_none() && stated.is_none()).then_some(inference);
    let mut assembler = Assembler::new(source, arch);
    assembler.read();
    let mut object = None;
    // Sizes and values are settled even after errors, so that all errors come in one go.
    let laid_out = layout::finish(&mut assembler);
    if assembler.diagnostics.iter().all(|d| d.severity != crate::Severity::Error) {
        object = laid_out;
    }
    let mut diagnostics = assembler.diagnostics;
    diagnostics.sort_by_key(|d| d.span.start);
    diagnostics.dedup();
    Assembly { arch, inferred, object, diagnostics }
}

/// Assembles one instruction that stands at `address` and needs no symbols.
///
/// # Errors
///
/// The first diagnostic; its span is within `text`.
pub fn assemble_instruction(arch: Arch, text: &str, address: u64) -> Result<Vec<u8>, Diagnostic> {
    let mut cursor = Cursor::new(text, 0, arch);
    let (token, span) = cursor.next()?;
    let Tok::Word(word) = token else {
        return Err(cursor.unexpected(token, span, "an instruction"));
    };
    let Some((mnemonic, context)) = instruction(arch, word) else {
        return Err(unknown_word(arch, word, span));
    };
    let operands = operands(&mut cursor, context)?;
    let symbols = SymbolTable::default();
    let evaluator = Evaluator { symbols: &symbols, distance: &|_, _| None };
    let mut lowered = Vec::new();
    for operand in &operands {
        let local = |linear: &crate::symbols::Linear| {
            linear.as_number().and_then(|number| i64::try_from(number).ok())
        };
        lowered.push(operand.lower(&evaluator, Context::default(), &local)?.operand);
    }
    encode(arch, mnemonic, &lowered, address)
        .map(|encoded| encoded.bytes.to_vec())
        .map_err(|error| encode_diagnostic(error, span, &operands))
}

/// The machine that a `.target` line names; errors in it are reported when the line is read.
fn stated_target(source: &Source) -> Option<Arch> {
    source.text.lines().find_map(|line| {
        let rest = line.trim_start();
        let rest = rest
            .get(..7)
            .filter(|word| word.eq_ignore_ascii_case(".target"))
            .map(|_| &rest[7..])?;
        rest.split_whitespace().next()?.parse().ok()
    })
}

/// The mnemonic as the table spells it, if the word is an instruction of the machine.
pub(crate) fn instruction(arch: Arch, word: &str) -> Option<(&'static str, OperandContext)> {
    let all = mnemonics(arch);
    let found = match all.binary_search(&word) {
        Ok(at) => all[at],
        Err(_) => {
            let lower = word.to_ascii_lowercase();
            all[all.binary_search(&lower.as_str()).ok()?]
        }
    };
    Some((found, operand_context(arch, found)?))
}

/// Parses operands up to the end of the line.
pub(crate) fn operands(
    cursor: &mut Cursor,
    context: OperandContext,
) -> Result<Vec<Spanned>, Diagnostic> {
    let mut operands = Vec::with_capacity(3);
    if cursor.peek()? == Tok::End {
        return Ok(operands);
    }
    loop {
        operands.push(match cursor.arch() {
            Arch::Arm64 => arm64::operand(cursor, context)?,
            _ => x86::operand(cursor, context)?,
        });
        if !cursor.eat(",")? {
            break;
        }
        if operands.len() == 4 {
            let (token, span) = cursor.peek_spanned()?;
            return Err(cursor.unexpected(token, span, "at most four operands"));
        }
    }
    match cursor.next()? {
        (Tok::End, _) => Ok(operands),
        (token, span) => Err(cursor.unexpected(token, span, "`,` or the end of the line")),
    }
}

/// `push word 5` is the instruction whose own name is `pushw`: only there the width of an immediate
/// says something that the value does not.
fn sized_push(mnemonic: &'static str, operands: &[Spanned], cursor: &Cursor) -> &'static str {
    match operands {
        [one] if mnemonic == "push" => {
            let immediate = matches!(one.parsed, Parsed::Imm(_) | Parsed::Fixed(Operand::Imm(_)));
            let text = cursor.text_at(one.span).to_ascii_lowercase();
            if immediate && text.starts_with("word") { "pushw" } else { mnemonic }
        }
        _ => mnemonic,
    }
}

impl<'s> Assembler<'s> {
    fn new(source: &'s Source, arch: Arch) -> Assembler<'s> {
        let mut assembler = Assembler {
            source,
            arch,
            sections: Vec::new(),
            current: 0,
            previous: 0,
            symbols: SymbolTable::default(),
            scope: None,
            diagnostics: Vec::new(),
            line: 0,
            open_labels: Vec::new(),
            filled_bytes: 0,
        };
        assembler.enter_section(".text", SectionFlags::by_name(".text"));
        assembler
    }

    fn read(&mut self) {
        let source = self.source;
        let text = match blank_block_comments(&source.text) {
            Ok(text) => text,
            Err(span) => {
                let error = Diagnostic::error(Code::Syntax, span, "the comment has no end");
                self.diagnostics.push(error.label("opened here").help("close it with `*/`"));
                return;
            }
        };
        // Some editors begin a file with a byte order mark.
        let mut base = if text.starts_with('\u{feff}') { '\u{feff}'.len_utf8() } else { 0 };
        for line in text[base..].split_inclusive('\n') {
            self.line += 1;
            let body = line.trim_end_matches(['\n', '\r']);
            if let Err(diagnostic) = self.statement(body, base) {
                self.diagnostics.push(diagnostic);
                if self.diagnostics.len() >= MAX_ERRORS {
                    let span = Span::new(base, base + body.len());
                    let message = format!("{MAX_ERRORS} errors; the rest of the file is not read");
                    self.diagnostics.push(Diagnostic::error(Code::Syntax, span, message));
                    return;
                }
            }
            base += line.len();
        }
    }

    fn statement(&mut self, line: &str, base: usize) -> Result<(), Diagnostic> {
        let mut cursor = Cursor::new(line, base, self.arch);
        loop {
            let (token, span) = cursor.next()?;
            match token {
                Tok::End => return Ok(()),
                Tok::Num(number) if cursor.eat(":")? => {
                    let number = u32::try_from(number).map_err(|_| {
                        Diagnostic::error(Code::Syntax, span, "a numbered label is a small number")
                    })?;
                    let here = self.here();
                    self.symbols.define_numbered(number, span, here);
                }
                Tok::Word(word) => {
                    // A word before `:`, `=` or `equ` is always a symbol.
                    if cursor.eat(":")? {
                        if is_word(&mut cursor, "equ") {
                            cursor.next()?;
                            return self.equate(word, span, &mut cursor, true);
                        }
                        self.label(word, span)?;
                        continue;
                    }
                    if cursor.eat("=")? {
                        return self.equate(word, span, &mut cursor, false);
                    }
                    if is_word(&mut cursor, "equ") {
                        cursor.next()?;
                        return self.equate(word, span, &mut cursor, true);
                    }
                    return self.word(word, span, &mut cursor);
                }
                _ => {
                    return Err(cursor.unexpected(
                        token,
                        span,
                        "a label, an instruction or a directive",
                    ));
                }
            }
        }
    }

    /// A statement that starts with this word, after its labels.
    fn word(&mut self, word: &str, span: Span, cursor: &mut Cursor) -> Result<(), Diagnostic> {
        if let Some((mnemonic, context)) = instruction(self.arch, word) {
            return self.instruction(mnemonic, context, span, cursor);
        }
        if directive::run(self, word, span, cursor)? {
            return Ok(());
        }
        // The colon of a label may be dropped before a data directive.
        if let Tok::Word(next) = cursor.peek()?
            && data::is_directive(next, self.arch)
        {
            let (_, next_span) = cursor.next()?;
            self.label(word, span)?;
            directive::run(self, next, next_span, cursor)?;
            return Ok(());
        }
        let mut error = unknown_word(self.arch, word, span);
        if self.sections[self.current].flags.nobits
            && let Tok::Num(count) = cursor.peek()?
        {
            error = error.help(format!("to reserve {count} bytes, write `{word}: .skip {count}`"));
        }
        Err(error)
    }

    fn instruction(
        &mut self,
        mnemonic: &'static str,
        context: OperandContext,
        span: Span,
        cursor: &mut Cursor,
    ) -> Result<(), Diagnostic> {
        self.open_labels.clear();
        let mut operands = operands(cursor, context)?;
        let mnemonic = sized_push(mnemonic, &operands, cursor);
        self.check_contents(span, "an instruction")?;
        self.bind(&mut operands);
        self.mark_line();
        if operands.iter().all(Spanned::is_fixed) {
            let fixed: Operands = operands
                .iter()
                .filter_map(|operand| match operand.parsed {
                    Parsed::Fixed(operand) => Some(operand),
                    _ => None,
                })
                .collect();
            let encoded = encode(self.arch, mnemonic, &fixed, 0)
                .map_err(|error| encode_diagnostic(error, span, &operands))?;
            self.bytes().0.extend_from_slice(&encoded.bytes);
            return Ok(());
        }
        let whole = span.to(operands.last().map_or(span, |last| last.span));
        let open = OpenInstruction {
            mnemonic,
            operands,
            context: self.context(),
            span: whole,
            min_bytes: 0,
            encoded: Encoded::default(),
        };
        self.sections[self.current].fragments.push(Fragment::Instruction(Box::new(open)));
        Ok(())
    }

    fn bind(&self, operands: &mut [Spanned]) {
        for operand in operands {
            match &mut operand.parsed {
                Parsed::Fixed(_) => {}
                Parsed::Imm(expr) | Parsed::ShiftedImm(expr, _) | Parsed::Target(expr) => {
                    self.symbols.bind_variables(expr);
                }
                Parsed::Mem { disp, .. } => self.symbols.bind_variables(disp),
            }
        }
    }

    fn label(&mut self, name: &str, span: Span) -> Result<(), Diagnostic> {
        let definition = Definition::Label(self.here());
        // Labels before data that is already there do not describe what comes now.
        let described = |id: &SymbolId| self.symbols.get(*id).datum.is_some();
        if self.open_labels.iter().any(described) {
            self.open_labels.clear();
        }
        let id = self.symbols.define(name, span, definition, self.scope)?;
        if !name.starts_with('.') {
            self.scope = Some(id.0);
        }
        self.open_labels.push(id);
        Ok(())
    }

    /// `name equ value` (once) or `name = value` (again and again).
    pub(crate) fn equate(
        &mut self,
        name: &str,
        span: Span,
        cursor: &mut Cursor,
        once: bool,
    ) -> Result<(), Diagnostic> {
        let (_, start) = cursor.peek_spanned()?;
        let mut expr = expr::parse(cursor, Atoms::Plain)?;
        let value_span = cursor.since(start);
        cursor.expect_end("after the value")?;
        self.symbols.bind_variables(&mut expr);
        let context = self.context();
        if once {
            self.symbols.define(name, span, Definition::Equate(expr, context), None)?;
            return Ok(());
        }
        // A number is settled now; an address keeps its expression, with `.` pinned to this place.
        let known = {
            let sections = &self.sections;
            let distance = |from, to| settled_distance(sections, from, to);
            let evaluator = Evaluator { symbols: &self.symbols, distance: &distance };
            evaluator.eval(&expr, context, value_span)?
        };
        let value = match known.as_number() {
            Some(number) => Expr::Number(number),
            None => {
                // A hidden constant carries the place along.
                let hidden = format!("{name}\u{0}{}", span.start);
                let id =
                    self.symbols.define(&hidden, span, Definition::Equate(expr, context), None)?;
                self.symbols.get_mut(id).hidden = true;
                Expr::Symbol(hidden.into(), span)
            }
        };
        self.symbols.set_variable(name, value, span)
    }

    /// Evaluates a number that is needed at once.
    pub(crate) fn number_now(&self, expr: &Expr, span: Span) -> Result<i128, Diagnostic> {
        let distance = |from, to| settled_distance(&self.sections, from, to);
        let evaluator = Evaluator { symbols: &self.symbols, distance: &distance };
        evaluator.number(expr, self.context(), span)
    }

    /// The place where the next byte goes.
    pub(crate) fn here(&self) -> Position {
        let fragments = &self.sections[self.current].fragments;
        let (fragment, offset) = match fragments.last() {
            Some(Fragment::Bytes { bytes, .. }) => (fragments.len() - 1, bytes.len() as u64),
            _ => (fragments.len(), 0),
        };
        Position { section: self.current as u32, fragment: fragment as u32, offset }
    }

    pub(crate) fn context(&self) -> Context {
        Context { here: self.here(), scope: self.scope, numbered: self.symbols.numbered_count() }
    }

    /// The byte fragment at the end of the current section.
    pub(crate) fn bytes(&mut self) -> (&mut Vec<u8>, &mut Vec<DataField>) {
        let fragments = &mut self.sections[self.current].fragments;
        if !matches!(fragments.last(), Some(Fragment::Bytes { .. })) {
            fragments.push(Fragment::Bytes { bytes: Vec::new(), fields: Vec::new() });
        }
        match fragments.last_mut() {
            Some(Fragment::Bytes { bytes, fields }) => (bytes, fields),
            _ => unreachable!("pushed above"),
        }
    }

    /// Notes that what follows comes from the current line.
    pub(crate) fn mark_line(&mut self) {
        let (here, line) = (self.here(), self.line);
        self.sections[self.current].lines.push((here, line));
    }

    pub(crate) fn enter_section(&mut self, name: &str, flags: SectionFlags) {
        self.previous = self.current;
        self.open_labels.clear();
        if let Some(found) = self.sections.iter().position(|section| section.name == name) {
            self.current = found;
            return;
        }
        self.sections.push(SectionBuilder {
            name: name.to_string(),
            flags,
            align: if flags.exec { self.arch.code_alignment() } else { 1 },
            fragments: Vec::new(),
            lines: Vec::new(),
        });
        self.current = self.sections.len() - 1;
    }

    /// Refuses contents in a section that has none.
    pub(crate) fn check_contents(&self, span: Span, what: &str) -> Result<(), Diagnostic> {
        let section = &self.sections[self.current];
        if !section.flags.nobits {
            return Ok(());
        }
        let name = &section.name;
        Err(Diagnostic::error(Code::WrongSection, span, format!("`{name}` cannot hold {what}"))
            .label(format!("`{name}` starts as zeros"))
            .help("reserve room with `.skip`, or move this to .data or .text"))
    }

    /// Gives the labels before a data directive their type.
    pub(crate) fn describe_labels(&mut self, datum: Datum) {
        for &id in &self.open_labels {
            let symbol = self.symbols.get_mut(id);
            if symbol.kind == SymbolKind::None {
                symbol.kind = SymbolKind::Data;
            }
            match &mut symbol.datum {
                // Further lines of a table go on counting.
                Some(old) if old.element_bytes == datum.element_bytes => old.count += datum.count,
                Some(_) => {}
                None => symbol.datum = Some(datum),
            }
        }
    }

    pub(crate) fn set_binding(&mut self, name: &str, span: Span, binding: Binding) {
        let id = self.symbols.intern(name, span);
        let symbol = self.symbols.get_mut(id);
        symbol.binding = binding;
        symbol.declared = true;
    }
}

fn is_word(cursor: &mut Cursor, wanted: &str) -> bool {
    matches!(cursor.peek(), Ok(Tok::Word(word)) if word.eq_ignore_ascii_case(wanted))
}

/// Bytes between two places of one section, if nothing open lies between.
fn settled_distance(sections: &[SectionBuilder], from: Position, to: Position) -> Option<i128> {
    if from.fragment > to.fragment {
        return Some(-settled_distance(sections, to, from)?);
    }
    let fragments = &sections[from.section as usize].fragments;
    let mut distance = 0i128;
    for fragment in &fragments[from.fragment as usize..to.fragment as usize] {
        distance += match fragment {
            Fragment::Bytes { bytes, .. } => bytes.len() as i128,
            Fragment::Fill { count, .. } => i128::from(*count),
            Fragment::Align { .. } | Fragment::Instruction(_) => return None,
        };
    }
    Some(distance + i128::from(to.offset) - i128::from(from.offset))
}
