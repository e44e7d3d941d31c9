//! The state of an assembly, and the steps that all statements are made of: defining symbols, laying down bytes,
//! switching sections, reporting.

use std::collections::HashMap;
use std::rc::Rc;

use sotto_isa::{Arch, OperandOrder, Reg};
use sotto_object::{Binding, Datum, SectionFlags, SymbolKind};

use crate::operands::parsed::Spanned;
use crate::reading::infer::{recognise_order, symbols_named_as_registers};
use crate::reading::line_cache::{Key, LineCache};
use crate::reading::lines::{Condition, Level};
use crate::reading::macros::Macro;
use crate::sections::fragments::SectionBuilder;
use crate::sections::stated_lines::StatedTable;
use crate::sections::unwind_tables::Unwind;
use crate::symbols::{
    Context, Definition, Elements, Evaluator, Linear, Memo, Position, SymbolId, SymbolTable,
    is_linkers,
};
use crate::text::disk::Disk;
use crate::text::expr;
use crate::text::expr::Atoms;
use crate::text::lexer::{Cursor, RegisterNames, Tok};
use crate::text::source::Sources;
use crate::text::syntax::syntax;
use crate::{Code, Diagnostic, Expr, Severity, Span};

/// No section may be larger than this many bytes.
pub(crate) const MAX_SECTION_BYTES: u64 = 1 << 30;
/// The contents of a section, and all that a file fills, may be no more than this many bytes.
pub(crate) const MAX_CONTENT_BYTES: u64 = 1 << 28;
/// After this many errors the rest is not read.
pub(crate) const MAX_ERRORS: usize = 100;

/// A line that was read, for the listing.
pub(crate) struct ListedLine {
    pub span: Span,
    pub file: u32,
    pub line: u32,
    /// How many macros and repeats it is in.
    pub depth: usize,
    /// What it laid down.
    pub from: Position,
    pub to: Position,
}

/// The state while a source is read.
pub(crate) struct Assembler<'d> {
    pub sources: Sources,
    pub disk: &'d dyn Disk,
    pub externals: bool,
    pub arch: Arch,
    /// The order of operands, and what decided it.
    pub order: OperandOrder,
    pub order_from: Option<Span>,
    /// What the source says of registers' names.
    pub register_names: Option<Rc<RegisterNames>>,
    /// Between the marks `#APP` and `#NO_APP` that a compiler puts around inline assembly.
    pub in_inline_assembly: bool,
    /// `.exitm` was read: nothing more of the macro is.
    pub leaving_macro: bool,
    /// Macros that are being read.
    pub macro_depth: u32,
    /// Sections to come back to with `.popsection`: the current one and the one before.
    pub kept_sections: Vec<(usize, usize)>,
    /// Files that were read beside the source, by the names they are shown by.
    pub files_read: Vec<String>,
    /// Sections by name.
    pub section_numbers: HashMap<String, usize>,
    /// The mark `.intel_syntax` was seen.
    pub bare_is_contents: bool,
    /// Names of files, for the line table.
    pub files: Vec<String>,
    /// The file and the line being read.
    pub file: u32,
    pub line: u32,
    /// Files being read, the including ones first.
    pub including: Vec<String>,
    pub sections: Vec<SectionBuilder>,
    pub current: usize,
    pub previous: usize,
    pub symbols: SymbolTable,
    pub macros: HashMap<Box<str>, Rc<Macro>>,
    /// Macros and repeats being read, outermost first.
    pub levels: Vec<Level>,
    pub conditions: Vec<Condition>,
    /// How many conditions were open when the text being read began.
    pub own_conditions: usize,
    pub expansions: u32,
    pub expanded_bytes: usize,
    pub expanded_lines: u64,
    /// Too much is wrong to go on.
    pub stopped: bool,
    /// The `name:` that dotted labels belong to.
    pub scope: Option<u32>,
    pub diagnostics: Vec<Diagnostic>,
    pub errors: usize,
    /// Room for the operands of the line being read.
    pub operands: Vec<Spanned>,
    /// What lines were assembled to, and the text of the line being read, if it can be one.
    pub known: LineCache,
    pub key: Option<Key>,
    /// Lines that close what was refused where it was opened.
    pub closing_lines: Vec<String>,
    /// Labels that the next data directive describes.
    pub open_labels: Vec<SymbolId>,
    /// Bytes laid down by `.fill` so far.
    pub filled_bytes: u64,
    pub unwind: Unwind,
    /// The line table that the source states.
    pub stated: StatedTable,
    pub listing: Option<Vec<ListedLine>>,
    /// Labels that are names within the source alone go into the object.
    pub keeps_labels: bool,
    /// The lines of a contract whose routine comes next: text, and where it stands.
    pub open_contract: Vec<(Box<str>, Span)>,
    /// Where its first line stands among what is laid down.
    pub open_contract_at: Position,
    /// Contracts: their routines and lines.
    pub contracts: Vec<(SymbolId, String)>,
}

impl<'d> Assembler<'d> {
    pub(crate) fn new(
        arch: Arch,
        externals: bool,
        listing: bool,
        disk: &'d dyn Disk,
    ) -> Assembler<'d> {
        let mut assembler = Assembler {
            sources: Sources::default(),
            disk,
            externals,
            arch,
            order: OperandOrder::DestinationFirst,
            order_from: None,
            bare_is_contents: false,
            files: Vec::new(),
            file: 0,
            line: 0,
            register_names: None,
            in_inline_assembly: false,
            leaving_macro: false,
            macro_depth: 0,
            kept_sections: Vec::new(),
            files_read: Vec::new(),
            section_numbers: HashMap::new(),
            including: Vec::new(),
            sections: Vec::new(),
            current: 0,
            previous: 0,
            symbols: SymbolTable::default(),
            macros: HashMap::new(),
            levels: Vec::new(),
            conditions: Vec::new(),
            own_conditions: 0,
            expansions: 0,
            expanded_bytes: 0,
            expanded_lines: 0,
            stopped: false,
            scope: None,
            diagnostics: Vec::new(),
            errors: 0,
            operands: Vec::new(),
            known: LineCache::new(),
            key: None,
            closing_lines: Vec::new(),
            open_labels: Vec::new(),
            filled_bytes: 0,
            unwind: Unwind::default(),
            stated: StatedTable::default(),
            listing: listing.then(Vec::new),
            keeps_labels: false,
            open_contract: Vec::new(),
            open_contract_at: Position::default(),
            contracts: Vec::new(),
        };
        assembler.symbols.arch = Some(arch);
        assembler.enter_section(".text", SectionFlags::by_name(".text"), None);
        assembler
    }

    /// Makes room for what so many lines will lay down, most of them here and instructions: moving it to larger
    /// room again and again takes longer. What is not needed is never touched.
    pub(crate) fn make_room(&mut self, lines: usize) {
        self.section().make_room(lines);
        self.symbols.make_room(lines / 6);
    }

    /// Adds a diagnostic; after too many errors reading stops.
    pub(crate) fn report(&mut self, diagnostic: Diagnostic) {
        if diagnostic.severity == Severity::Error {
            self.errors += 1;
        }
        let span = diagnostic.span;
        self.diagnostics.push(diagnostic);
        if self.errors >= MAX_ERRORS && !self.stopped {
            self.stopped = true;
            let message = format!("{MAX_ERRORS} errors; the rest is not read");
            self.diagnostics.push(Diagnostic::error(Code::Syntax, span, message));
        }
    }

    /// An error about the order of operands, with what decided the order.
    pub(crate) fn with_order(&self, error: Diagnostic) -> Diagnostic {
        match (error.code, self.order_from) {
            (Code::OperandOrder, Some(from)) if from != error.span => {
                let first = match self.order {
                    OperandOrder::SourceFirst => "source",
                    OperandOrder::DestinationFirst => "destination",
                };
                error.at(from, format!("from here on the {first} comes first"))
            }
            _ => error,
        }
    }

    pub(crate) fn bind(&mut self, operands: &mut [Spanned]) {
        for operand in operands {
            if let Some(expr) = operand.expr_mut() {
                self.bind_names(expr);
            }
        }
    }

    /// Gives names the meaning that they have at this line: labels of the macro being read, values
    /// of variables. Names that may be defined elsewhere are noted.
    pub(crate) fn bind_names(&mut self, expr: &mut Expr) {
        self.symbols.bind_variables(expr);
        expr.for_each_leaf(&mut |leaf| {
            let Expr::Symbol(name, span) = leaf else { return };
            if let std::borrow::Cow::Owned(own) = self.own_name(name, *span) {
                *name = own.into();
            } else if (self.externals || is_linkers(name)) && !name.starts_with('.') {
                self.symbols.intern(name, *span);
            }
        });
    }

    pub(crate) fn label(&mut self, name: &str, span: Span) -> Result<(), Diagnostic> {
        let hides = syntax(self.arch).registers_hide_symbols
            && self.order == OperandOrder::DestinationFirst
            && !self.bare_is_contents;
        if hides && Reg::parse(self.arch, name).is_some() {
            let message = format!("`{name}` is a register, so no operand can name this label");
            let warning = Diagnostic::error(Code::DuplicateSymbol, span, message).warning();
            self.report(warning.help("give the label another name"));
        }
        let definition = Definition::Label(self.here());
        // Labels before data that is already there do not describe what comes now.
        // All of them were described together.
        let described = |id: &SymbolId| self.symbols.get(*id).datum.is_some();
        if self.open_labels.first().is_some_and(described) {
            self.open_labels.clear();
        }
        let own = self.own_name(name, span);
        let id = self.symbols.define(&own, span, definition, self.scope)?;
        self.symbols.get_mut(id).line = (self.file, self.line);
        if !name.starts_with('.') {
            self.scope = Some(id.0);
        }
        self.open_labels.push(id);
        if !self.open_contract.is_empty() {
            self.close_contract(id);
        }
        Ok(())
    }

    /// `name .req register`: another name for a register, on ARM.
    pub(crate) fn name_register(
        &mut self,
        name: &str,
        span: Span,
        cursor: &mut Cursor,
    ) -> Result<(), Diagnostic> {
        if !syntax(self.arch).has_arm_directives {
            let message = "`.req` is for ARM";
            return Err(Diagnostic::error(Code::TargetConflict, span, message));
        }
        let (token, at) = cursor.next()?;
        let register = match token {
            Tok::Word(word) => cursor.register(word),
            _ => None,
        };
        let Some(register) = register else {
            return Err(cursor.unexpected(token, at, "the name of a register"));
        };
        cursor.expect_end("after the register")?;
        if Reg::parse(self.arch, name).is_some() {
            let message = format!("`{name}` is a register already");
            return Err(Diagnostic::error(Code::DuplicateSymbol, span, message));
        }
        let names = self.register_names.get_or_insert_default();
        if let Some(old) = Rc::make_mut(names).given.insert(name.into(), register)
            && old != register
        {
            let message = format!("`{name}` names `{}` already", old.name());
            return Err(Diagnostic::error(Code::DuplicateSymbol, span, message)
                .help(format!("write `.unreq {name}` first")));
        }
        self.known.forget();
        Ok(())
    }

    /// Takes a name away from its register.
    pub(crate) fn forget_register(&mut self, name: &str, span: Span) -> Result<(), Diagnostic> {
        let names = self.register_names.get_or_insert_default();
        if Rc::make_mut(names).given.remove(name).is_none() {
            let message = format!("no register was given the name `{name}`");
            return Err(Diagnostic::error(Code::UndefinedSymbol, span, message)
                .help(format!("`{name} .req x0` gives it")));
        }
        self.known.forget();
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
        self.bind_names(&mut expr);
        let context = self.context();
        if once {
            let id = self.symbols.define(
                name,
                span,
                Definition::Equate(Box::new((expr, context))),
                None,
            )?;
            self.symbols.get_mut(id).line = (self.file, self.line);
            return Ok(());
        }
        // A number is settled now; an address keeps its expression, with `.` pinned to this place.
        // What later lines define is looked up at the end, as it is for a constant.
        let known = match self.value_now(&expr, value_span) {
            Ok(known) => known.as_number(),
            Err(error) if error.code == Code::UndefinedSymbol => None,
            Err(error) => return Err(error),
        };
        let value = match known {
            Some(number) => Expr::Number(number),
            None => {
                // A hidden constant carries the place along.
                let hidden = format!("{name}\u{0}{}", span.start);
                let id = self.symbols.define(
                    &hidden,
                    span,
                    Definition::Equate(Box::new((expr, context))),
                    None,
                )?;
                self.symbols.get_mut(id).hidden = true;
                Expr::Symbol(hidden.into(), span)
            }
        };
        self.symbols.set_variable(name, value, span)
    }

    /// Takes the order of operands that a directive names.
    pub(crate) fn choose_order(
        &mut self,
        order: OperandOrder,
        span: Span,
    ) -> Result<(), Diagnostic> {
        if !self.arch.has_source_first() {
            let message = format!("{} has one order of operands", self.arch);
            return Err(Diagnostic::error(Code::OperandOrder, span, message));
        }
        // What comes before the first register decides; after it the order is settled.
        let settled = self.order_from.is_some_and(|from| from.start < span.start);
        if settled && order != self.order {
            let error = Diagnostic::error(
                Code::OperandOrder,
                span,
                "a file has one order of operands, and this one has the other",
            );
            let error = error.help("put the part in the other order into a file of its own");
            return Err(self.with_order(error));
        }
        (self.order, self.order_from) = (order, Some(span));
        self.known.forget();
        Ok(())
    }

    /// Evaluates an expression of which at least the place it is counted from is needed at once.
    pub(crate) fn value_now(&self, expr: &Expr, span: Span) -> Result<Linear, Diagnostic> {
        let distance =
            |from: Position, to| self.sections[from.section as usize].settled_distance(from, to);
        let memo = Memo::default();
        let evaluator = Evaluator { symbols: &self.symbols, distance: &distance, memo: &memo };
        evaluator.eval(expr, self.context(), span).map_err(needed_now)
    }

    /// Evaluates a number that is needed at once.
    pub(crate) fn number_now(&self, expr: &Expr, span: Span) -> Result<i128, Diagnostic> {
        let distance =
            |from: Position, to| self.sections[from.section as usize].settled_distance(from, to);
        let memo = Memo::default();
        let evaluator = Evaluator { symbols: &self.symbols, distance: &distance, memo: &memo };
        evaluator.number(expr, self.context(), span).map_err(needed_now)
    }

    /// The place where the next byte goes.
    pub(crate) fn here(&self) -> Position {
        let (fragment, offset) = self.sections[self.current].end();
        Position { section: self.current as u32, fragment, offset }
    }

    /// The section being filled.
    pub(crate) fn section(&mut self) -> &mut SectionBuilder {
        &mut self.sections[self.current]
    }

    pub(crate) fn context(&self) -> Context {
        Context { here: self.here(), scope: self.scope, numbered: self.symbols.numbered_count() }
    }

    /// Notes that what follows comes from the current line.
    pub(crate) fn mark_line(&mut self) {
        let (file, line) = (self.file, self.line);
        self.section().mark_line(file, line);
    }

    /// Whether a section of this name was entered before, and so has its flags.
    pub(crate) fn has_section(&self, name: &str) -> bool {
        self.section_numbers.contains_key(name)
    }

    pub(crate) fn enter_section(&mut self, name: &str, flags: SectionFlags, group: Option<String>) {
        self.previous = self.current;
        self.open_labels.clear();
        if let Some(&found) = self.section_numbers.get(name) {
            self.current = found;
            return;
        }
        self.section_numbers.insert(name.to_string(), self.sections.len());
        let align = if flags.exec { self.arch.code_alignment() } else { 1 };
        let mut section = SectionBuilder::new(name, flags, align);
        section.group = group;
        self.sections.push(section);
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
                Some(old)
                    if old.element_bytes == datum.element_bytes && symbol.elements.is_none() =>
                {
                    old.count += datum.count;
                }
                Some(old) => {
                    let bytes =
                        |datum: &Datum| datum.count.saturating_mul(u64::from(datum.element_bytes));
                    let first = (bytes(old), old.element_bytes);
                    let elements = symbol
                        .elements
                        .get_or_insert_with(|| Box::new(Elements { runs: vec![first] }));
                    elements.runs.push((bytes(&datum), datum.element_bytes));
                }
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

    /// Whether `;` separates statements here; otherwise it starts a comment.
    pub(crate) fn semicolon_separates(&self) -> bool {
        self.in_inline_assembly || self.order == OperandOrder::SourceFirst
    }

    /// Finds the order of operands of a text from the first register in it.
    pub(crate) fn recognise_order(&mut self, text: &str, base: u32) {
        if self.arch.has_source_first()
            && let Some((order, span)) = recognise_order(text, base as usize)
        {
            (self.order, self.order_from) = (order, Some(span));
            self.known.forget();
        }
        // In files that compilers mark, C names are seen in either order.
        let marked = memchr::memmem::find(text.as_bytes(), b".intel_syntax").is_some();
        if self.arch.has_source_first() && (marked || self.order == OperandOrder::SourceFirst) {
            let names = symbols_named_as_registers(text);
            if !names.is_empty() {
                let known = self.register_names.get_or_insert_default();
                Rc::make_mut(known).symbols.extend(names);
            }
        }
    }

    /// A dotted name as it is known inside the macros and repeats being read: one that the body of
    /// a macro defines is fresh in each expansion.
    pub(crate) fn own_name<'n>(&self, name: &'n str, span: Span) -> std::borrow::Cow<'n, str> {
        if self.levels.is_empty() || !name.starts_with('.') {
            return name.into();
        }
        let mut at = span.start;
        for level in self.levels.iter().rev() {
            if !level.range.contains(&at) {
                continue;
            }
            if let Some((range, outer)) = level.passed.iter().find(|(r, _)| r.contains(&at)) {
                at = outer + (at - range.start);
                continue;
            }
            if level.labels.iter().any(|label| **label == *name) {
                return format!("{name}\u{0}{}", level.number).into();
            }
        }
        name.into()
    }
}

/// An error about a value that is needed before reading can go on.
fn needed_now(error: Diagnostic) -> Diagnostic {
    match error.code {
        // A symbol further down is not known yet.
        Code::UndefinedSymbol if error.replacement.is_none() => {
            error.help("the value is needed at once: define it above this line")
        }
        _ => error,
    }
}
