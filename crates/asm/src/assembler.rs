//! Reading a source: lines to statements, statements to fragments.

use std::collections::HashMap;
use std::rc::Rc;

use sotto_isa::x86::PREFIXES;
use sotto_isa::{
    Arch, Encoded, Mem, Operand, OperandContext, OperandOrder, Operands, Reg, Value, Width, encode,
    find_mnemonic, form_docs,
};
use sotto_object::{Binding, Datum, Object, SectionFlags, SymbolKind};

use crate::directives::line_table::Stated;
use crate::directives::table::Directive;
use crate::directives::unwind::Unwind;
use crate::directives::{data, table, unwind};
use crate::encode_diagnostics::{encode_diagnostic, machine_of, nearest_instruction, unknown_word};
use crate::layout;
use crate::operands::parsed::{OpenMem, Parsed, Spanned};
use crate::operands::{arm64, x86, x86_source_first};
use crate::reading::infer::{Inference, infer, recognise_order, symbols_named_as_registers};
use crate::reading::line_cache::{Key, KnownLines};
use crate::reading::macros::Macro;
use crate::reading::structure::{Condition, Level, Line, Lines, begins_condition};
use crate::sections::fragments::{OpenInstruction, SectionBuilder};
use crate::sections::listing::Listing;
use crate::sections::symbols::{
    Context, Definition, Elements, Evaluator, GOT, Linear, Memo, Position, SymbolId, SymbolTable,
};
use crate::text::disk::{Disk, NoDisk};
use crate::text::expr;
use crate::text::expr::Atoms;
use crate::text::lexer::{Cursor, RegisterNames, Tok, code_end};
use crate::text::source::{BYTE_ORDER_MARK, Origin, Sources};
use crate::text::suggest::{all_near, is_one_slip, nearest};
use crate::{Code, Diagnostic, Expr, Severity, Source, Span, other_spellings};

/// What the user may choose.
#[derive(Clone, Debug, Default)]
pub struct Options {
    /// The machine; inferred from the source if not given.
    pub target: Option<Arch>,
    /// A name that nothing defines is taken to be defined in another file, with a note.
    pub externals: bool,
    /// Keep what each line laid down.
    pub listing: bool,
}

impl Options {
    /// The default, for this machine.
    pub fn for_target(target: Arch) -> Options {
        Options { target: Some(target), ..Options::default() }
    }
}

/// What came of a source.
#[derive(Clone, Debug)]
pub struct Assembly {
    /// The machine assembled for.
    pub arch: Arch,
    /// The order of operands at the end of the source.
    pub operands: OperandOrder,
    /// What decided the machine, if neither an option nor the source said.
    pub inferred: Option<Inference>,
    /// The object, if there was no error.
    pub object: Option<Object>,
    /// Everything to say about the source, in its order.
    pub diagnostics: Vec<Diagnostic>,
    /// The texts that were read; spans are places in them.
    pub sources: Sources,
    /// The files that the source names and that were read, by the names they are shown by.
    pub files_read: Vec<String>,
    /// What each line laid down, if it was asked for.
    pub listing: Option<Listing>,
}

/// No section may be larger than this many bytes.
pub(crate) const MAX_SECTION_BYTES: u64 = 1 << 30;
/// The contents of a section, and all that a file fills, may be no more than this many bytes.
pub(crate) const MAX_CONTENT_BYTES: u64 = 1 << 28;
/// After this many errors the rest is not read.
const MAX_ERRORS: usize = 100;

/// A line that was read, for the listing.
pub(crate) struct Listed {
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
    section_numbers: HashMap<String, usize>,
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
    errors: usize,
    /// Room for the operands of the line being read.
    operands: Vec<Spanned>,
    /// What lines were assembled to, and the text of the line being read, if it can be one.
    pub known: KnownLines,
    key: Option<Key>,
    /// Lines that close what was refused where it was opened.
    pub closing_lines: Vec<String>,
    /// Labels that the next data directive describes.
    pub open_labels: Vec<SymbolId>,
    /// Bytes laid down by `.fill` so far.
    pub filled_bytes: u64,
    pub unwind: Unwind,
    /// The line table that the source states.
    pub stated: Stated,
    pub listing: Option<Vec<Listed>>,
}

/// Assembles one source that takes in no other files.
pub fn assemble(source: &Source, options: &Options) -> Assembly {
    assemble_with(source, options, &NoDisk)
}

/// Assembles one source; files that it names are read from `disk`.
pub fn assemble_with(source: &Source, options: &Options, disk: &dyn Disk) -> Assembly {
    let unmarked;
    let source = match source.text.strip_prefix(BYTE_ORDER_MARK) {
        Some(text) => {
            unmarked = Source { name: source.name.clone(), text: text.into() };
            &unmarked
        }
        None => source,
    };
    let (arch, inferred) = match options.target.or_else(|| stated_target(source)) {
        Some(arch) => (arch, None),
        None => {
            let (arch, inference) = infer(source);
            (arch, Some(inference))
        }
    };
    let mut assembler = Assembler::new(arch, options, disk);
    assembler.read(source);
    let mut object = None;
    // Sizes and values are settled even after errors, so that all errors come in one go.
    let read = assembler.diagnostics.len();
    let (laid_out, listing) = layout::finish(&mut assembler);
    if assembler.stopped {
        // What the rest defines was not read.
        let mut number = 0;
        assembler.diagnostics.retain(|diagnostic| {
            number += 1;
            number <= read || diagnostic.code != Code::UndefinedSymbol
        });
    }
    if assembler.diagnostics.iter().all(|d| d.severity != Severity::Error) {
        object = laid_out;
    }
    let operands = assembler.order;
    let (mut diagnostics, sources) = (assembler.diagnostics, assembler.sources);
    let files_read = assembler.files_read;
    diagnostics.sort_by_cached_key(|d| sources.order(d.span.start));
    diagnostics.dedup();
    cap_errors(&mut diagnostics);
    Assembly { arch, operands, inferred, object, diagnostics, sources, files_read, listing }
}

/// Leaves out what comes after too many errors, and says so.
fn cap_errors(diagnostics: &mut Vec<Diagnostic>) {
    let mut errors = 0;
    let is_one_too_many = |diagnostic: &Diagnostic| {
        errors += usize::from(diagnostic.severity == Severity::Error);
        errors > MAX_ERRORS + 1
    };
    if let Some(at) = diagnostics.iter().position(is_one_too_many) {
        diagnostics.truncate(at);
        if let Some(last) = diagnostics.last() {
            let message = format!("{MAX_ERRORS} errors; the rest is not told");
            diagnostics.push(Diagnostic::error(Code::Syntax, last.span, message));
        }
    }
}

/// Assembles one instruction that stands at `address` and needs no symbols.
///
/// # Errors
///
/// The first diagnostic; its span is within `text`.
pub fn assemble_instruction(
    arch: Arch,
    order: OperandOrder,
    text: &str,
    address: u64,
) -> Result<Vec<u8>, Diagnostic> {
    let mut cursor = Cursor::new(text, 0, arch).with_order(order);
    let (token, span) = cursor.next()?;
    let Tok::Word(word) = token else {
        return Err(cursor.unexpected(token, span, "an instruction"));
    };
    let Some((found, span)) = take_instruction(arch, word, span, &mut cursor)? else {
        return Err(unknown_word(arch, word, span, nearest_instruction(arch, word)));
    };
    let mut operands = Vec::new();
    parse_operands(&mut cursor, found.context, &mut operands)?;
    let mnemonic = found.settle(&mut operands, &cursor, span)?;
    let symbols = SymbolTable::default();
    let evaluator = Evaluator { symbols: &symbols, distance: &|_, _| None, memo: &Memo::default() };
    let mut lowered = Vec::new();
    for operand in &operands {
        let local = |linear: &crate::sections::symbols::Linear| {
            // An address in the upper half is the same 64 bits, signed.
            let number = linear.as_number()?;
            i64::try_from(number).or_else(|_| u64::try_from(number).map(|n| n as i64)).ok()
        };
        lowered.push(operand.lower(&evaluator, Context::default(), &local)?.operand);
    }
    encode(arch, mnemonic, &lowered, address)
        .map(|encoded| encoded.bytes.to_vec())
        .map_err(|error| encode_diagnostic(error, span, &operands, order))
}

/// The machine that a `.target` line names; errors in it are reported when the line is read.
fn stated_target(source: &Source) -> Option<Arch> {
    // Looking at every line of a large file would take long.
    let text = source.text.as_bytes();
    let mention = memchr::memmem::find(text, b".target").or_else(|| {
        memchr::memmem::find(text, b".TARGET").or_else(|| memchr::memmem::find(text, b".Target"))
    })?;
    let from = source.text[..mention].rfind('\n').map_or(0, |at| at + 1);
    source.text[from..].lines().find_map(|line| {
        let rest = line.trim_start();
        let rest = rest
            .get(..7)
            .filter(|word| word.eq_ignore_ascii_case(".target"))
            .map(|_| &rest[7..])?;
        rest.split_whitespace().next()?.parse().ok()
    })
}

/// A word that is an instruction.
pub(crate) struct Found {
    /// As the table spells it.
    mnemonic: &'static str,
    context: OperandContext,
    /// What the word says beside, in source-first order.
    spelling: Option<sotto_isa::x86::Spelling>,
    /// The immediate that the word stands for: the comparison of `cmpltsd`.
    comparison: Option<u8>,
}

impl Found {
    /// Puts the operands into the table's order and gives them the widths that the word tells; the
    /// mnemonic that is meant.
    fn settle(
        &self,
        operands: &mut Vec<Spanned>,
        cursor: &Cursor,
        span: Span,
    ) -> Result<&'static str, Diagnostic> {
        let mnemonic = match cursor.order() {
            OperandOrder::SourceFirst => x86_source_first::settle(
                cursor.arch(),
                self.mnemonic,
                self.spelling,
                operands,
                span,
            )?,
            OperandOrder::DestinationFirst => {
                if let Some(mnemonic) =
                    x86_source_first::sized_string(cursor.arch(), self.mnemonic, operands)
                {
                    return Ok(mnemonic);
                }
                address_of_operator(self.mnemonic, operands);
                called_as_register(cursor, self.mnemonic, operands);
                sized_push(self.mnemonic, operands, cursor)
            }
        };
        implied_operands(mnemonic, operands);
        if let Some(number) = self.comparison {
            let parsed = Parsed::Fixed(Operand::Imm(Value::Known(i64::from(number))));
            operands.push(Spanned { parsed, span });
        }
        Ok(mnemonic)
    }
}

/// The instruction that the word names, if it names one.
pub(crate) fn find_instruction(arch: Arch, order: OperandOrder, word: &str) -> Option<Found> {
    if let Some((mnemonic, context)) = find_mnemonic(arch, word) {
        return Some(Found { mnemonic, context, spelling: None, comparison: None });
    }
    if let Some((mnemonic, number)) =
        sotto_isa::x86::vector::named_comparison(&word.to_ascii_lowercase())
        && arch.is_x86()
    {
        let comparison = Some(number);
        let context = OperandContext::default();
        return Some(Found { mnemonic, context, spelling: None, comparison });
    }
    if order != OperandOrder::SourceFirst || !arch.is_x86() {
        return None;
    }
    let spelling = sotto_isa::x86::spelling(arch, word)?;
    let (mnemonic, context) = find_mnemonic(arch, spelling.mnemonic)?;
    Some(Found { mnemonic, context, spelling: Some(spelling), comparison: None })
}

/// The instruction that starts with this word, which may be a prefix before the mnemonic, and where
/// its words stand.
fn take_instruction(
    arch: Arch,
    word: &str,
    span: Span,
    cursor: &mut Cursor,
) -> Result<Option<(Found, Span)>, Diagnostic> {
    let order = cursor.order();
    if let Some(found) = find_instruction(arch, order, word) {
        return Ok(Some((found, span)));
    }
    let prefix = PREFIXES.iter().find(|prefix| prefix.name.eq_ignore_ascii_case(word));
    let (Some(prefix), true) = (prefix, arch.is_x86()) else { return Ok(None) };
    let mnemonic = match cursor.peek()? {
        Tok::Word(mnemonic) => mnemonic,
        Tok::End => {
            let message = format!("`{}` stands before an instruction", prefix.name);
            return Err(Diagnostic::error(Code::NoSuchForm, span, message)
                .help(format!("it goes before {}", prefix.takes)));
        }
        _ => return Ok(None),
    };
    let (_, at) = cursor.next()?;
    let behind = |mnemonic: &str| {
        let mut rows = prefix.rows.iter();
        rows.find_map(|row| find_instruction(arch, order, &format!("{row} {mnemonic}")))
    };
    let found = behind(mnemonic).or_else(|| {
        // The rows go by the preferred names.
        let (name, _) = find_mnemonic(arch, mnemonic)?;
        behind(form_docs(arch, name).first()?.mnemonic)
    });
    let Some(found) = found else {
        if find_instruction(arch, order, mnemonic).is_none() {
            return Err(unknown_word(arch, mnemonic, at, nearest_instruction(arch, mnemonic)));
        }
        let message = format!("`{}` does not go before `{mnemonic}`", prefix.name);
        return Err(Diagnostic::error(Code::NoSuchForm, span.to(at), message)
            .help(format!("it goes before {}", prefix.takes)));
    };
    Ok(Some((found, span.to(at))))
}

/// Parses operands up to the end of the line.
fn parse_operands(
    cursor: &mut Cursor,
    context: OperandContext,
    operands: &mut Vec<Spanned>,
) -> Result<(), Diagnostic> {
    if cursor.peek()? == Tok::End {
        return Ok(());
    }
    loop {
        operands.push(match cursor.arch() {
            Arch::Arm64 => arm64::operand(cursor, context, operands.is_empty())?,
            _ if cursor.order() == OperandOrder::SourceFirst => {
                x86_source_first::operand(cursor, context)?
            }
            _ => x86::operand(cursor, context)?,
        });
        if !cursor.eat(',')? {
            break;
        }
        if operands.len() == 4 {
            let (token, span) = cursor.peek_spanned()?;
            return Err(cursor.unexpected(token, span, "at most four operands"));
        }
    }
    match cursor.next()? {
        (Tok::End, _) => Ok(()),
        (token, span) => {
            let error = cursor.unexpected(token, span, "`,` or the end of the line");
            Err(match other_spellings::meant_as_comment(cursor, token, span) {
                true => error.help(other_spellings::comment_help(cursor)),
                false => error,
            })
        }
    }
}

/// Adds what compilers leave out: a shift without a count shifts by one, a double one by CL; a product with an
/// immediate goes back to its register.
fn implied_operands(mnemonic: &str, operands: &mut Vec<Spanned>) {
    const SHIFTS: [&str; 8] = ["shl", "sal", "shr", "sar", "rol", "ror", "rcl", "rcr"];
    if operands.len() == 1 && SHIFTS.contains(&mnemonic) {
        let one = Parsed::Fixed(Operand::Imm(Value::Known(1)));
        operands.push(Spanned { parsed: one, span: operands[0].span });
    } else if operands.len() == 2 && ["shld", "shrd"].contains(&mnemonic) {
        let cl = Parsed::Fixed(Operand::Reg(Reg::x86(Width::W8, 1)));
        operands.push(Spanned { parsed: cl, span: operands[1].span });
    } else if let ("imul", [register, factor]) = (mnemonic, &operands[..])
        && matches!(register.parsed, Parsed::Fixed(Operand::Reg(_)))
        && matches!(
            factor.parsed,
            Parsed::Imm(_) | Parsed::Offset(_) | Parsed::Fixed(Operand::Imm(_))
        )
    {
        operands.insert(1, register.clone());
    }
}

/// `push word 5` is the instruction whose own name is `pushw`: only there the width of an immediate
/// says something that the value does not.
fn sized_push(mnemonic: &'static str, operands: &[Spanned], cursor: &Cursor) -> &'static str {
    match operands {
        [one] if mnemonic == "push" => {
            let immediate = matches!(
                one.parsed,
                Parsed::Imm(_) | Parsed::Offset(_) | Parsed::Fixed(Operand::Imm(_))
            );
            let text = cursor.text_at(one.span).to_ascii_lowercase();
            if immediate && text.starts_with("word") { "pushw" } else { mnemonic }
        }
        _ => mnemonic,
    }
}

/// Refuses a bare symbol where LEA takes an address.
fn check_address(mnemonic: &str, operands: &[Spanned], cursor: &Cursor) -> Result<(), Diagnostic> {
    let [first, Spanned { parsed: Parsed::Imm(_), span }] = operands else { return Ok(()) };
    if mnemonic != "lea" || cursor.order() == OperandOrder::SourceFirst {
        return Ok(());
    }
    let (register, name) = (cursor.text_at(first.span), cursor.text_at(*span));
    Err(Diagnostic::error(Code::NoSuchForm, *span, "`lea` takes an address in brackets")
        .help(format!("write `lea {register}, [{name}]`"))
        .replace_with(format!("[{name}]")))
}

/// Whether an instruction would take its two operands the other way round.
fn swapped_operands(arch: Arch, mnemonic: &str, operands: &Operands) -> bool {
    match operands[..] {
        [a @ Operand::Imm(_), b] if arch.is_x86() => encode(arch, mnemonic, &[b, a], 0).is_ok(),
        _ => false,
    }
}

/// `call ax`: no call goes to a register of that width, so it is to a function of this name.
fn called_as_register(cursor: &Cursor, mnemonic: &str, operands: &mut [Spanned]) {
    let [Spanned { parsed, span }] = operands else { return };
    if let Parsed::Fixed(Operand::Reg(reg)) = parsed
        && matches!(mnemonic, "call" | "jmp")
        && reg.width() != cursor.arch().address_width()
    {
        *parsed = Parsed::Target(Expr::Symbol(cursor.text_at(*span).into(), *span));
    }
}

/// `lea eax, x@ntpoff`: an operand with an operator is memory there, as compilers write it.
fn address_of_operator(mnemonic: &str, operands: &mut [Spanned]) {
    let [_, Spanned { parsed, .. }] = operands else { return };
    if let Parsed::Imm(disp) = parsed
        && disp.via().is_some()
        && mnemonic == "lea"
    {
        let mem = Mem { disp: Value::Late, ..Mem::absolute(0) };
        let disp = disp.clone();
        *parsed = Parsed::Mem(Box::new(OpenMem { mem, disp, x86_plain: true, relative: false }));
    }
}

impl<'d> Assembler<'d> {
    fn new(arch: Arch, options: &Options, disk: &'d dyn Disk) -> Assembler<'d> {
        let mut assembler = Assembler {
            sources: Sources::default(),
            disk,
            externals: options.externals,
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
            known: KnownLines::new(),
            key: None,
            closing_lines: Vec::new(),
            open_labels: Vec::new(),
            filled_bytes: 0,
            unwind: Unwind::default(),
            stated: Stated::default(),
            listing: options.listing.then(Vec::new),
        };
        assembler.symbols.arch = Some(arch);
        assembler.enter_section(".text", SectionFlags::by_name(".text"), None);
        assembler
    }

    fn read(&mut self, source: &Source) {
        let name = source.name.as_str();
        let Some(base) = self.sources.add(name.into(), source.text.clone(), Origin::Given) else {
            let message = "the file is larger than 4 GiB";
            self.report(Diagnostic::error(Code::Include, Span::default(), message));
            return;
        };
        let file = self.file_number(name);
        self.including.push(name.to_string());
        self.recognise_order(&source.text, base);
        self.read_file(&source.text, base, file);
        self.place_pools();
        self.close_unwind();
    }

    /// Makes room for what so many lines will lay down, most of them here and instructions: moving it to larger
    /// room again and again takes longer. What is not needed is never touched.
    pub(crate) fn make_room(&mut self, lines: usize) {
        self.section().make_room(lines);
        self.symbols.make_room(lines / 6);
    }

    /// Finds the order of operands of a text from the first register in it.
    pub(crate) fn recognise_order(&mut self, text: &str, base: u32) {
        if self.arch.is_x86()
            && let Some((order, span)) = recognise_order(text, base as usize)
        {
            (self.order, self.order_from) = (order, Some(span));
            self.known.forget();
        }
        // In files that compilers mark, C names are seen in either order.
        let marked = memchr::memmem::find(text.as_bytes(), b".intel_syntax").is_some();
        if self.arch.is_x86() && (marked || self.order == OperandOrder::SourceFirst) {
            let names = symbols_named_as_registers(text);
            if !names.is_empty() {
                let known = self.register_names.get_or_insert_default();
                Rc::make_mut(known).symbols.extend(names);
            }
        }
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

    pub(crate) fn statement(&mut self, line: Line, lines: &mut Lines) -> Result<(), Diagnostic> {
        if self.lay_known(line.text) {
            return Ok(());
        }
        let mut cursor = Cursor::new(line.text, line.at, self.arch)
            .with_order(self.order)
            .with_names(self.register_names.clone());
        loop {
            let (token, span) = cursor.next().map_err(|error| name_with_digit(error, &cursor))?;
            match token {
                Tok::End => return Ok(()),
                Tok::Num(number) if cursor.eat(':')? => {
                    let number = u32::try_from(number).map_err(|_| {
                        Diagnostic::error(Code::Syntax, span, "a numbered label is a small number")
                    })?;
                    let here = self.here();
                    self.symbols.define_numbered(number, span, here);
                    if self.lay_known(cursor.ahead()) {
                        return Ok(());
                    }
                }
                Tok::Word(word) => {
                    // A word before `:`, `=` or `equ` is always a symbol.
                    match cursor.peek()? {
                        Tok::Op(':') => {
                            cursor.next()?;
                            if is_word(&mut cursor, "equ") {
                                cursor.next()?;
                                return self.equate(word, span, &mut cursor, true);
                            }
                            self.label(word, span)?;
                            if self.lay_known(cursor.ahead()) {
                                return Ok(());
                            }
                        }
                        Tok::Op('=') => {
                            cursor.next()?;
                            return self.equate(word, span, &mut cursor, false);
                        }
                        Tok::Word(equ) if is_equ(equ) && gives_value(&cursor) => {
                            cursor.next()?;
                            return self.equate(word, span, &mut cursor, true);
                        }
                        Tok::Word(req) if req.eq_ignore_ascii_case(".req") => {
                            cursor.next()?;
                            return self.name_register(word, span, &mut cursor);
                        }
                        _ => return self.word(word, span, &mut cursor, lines),
                    }
                }
                _ => {
                    let error =
                        cursor.unexpected(token, span, "a label, an instruction or a directive");
                    return Err(match other_spellings::leading_sign(&cursor, token, span) {
                        Some(help) => error.help(help),
                        None => error,
                    });
                }
            }
        }
    }

    /// Whether `;` separates statements here; otherwise it starts a comment.
    pub(crate) fn semicolon_separates(&self) -> bool {
        self.in_inline_assembly || self.order == OperandOrder::SourceFirst
    }

    /// Warns of an instruction behind a `;` that starts a comment: on other machines' sources, 64-bit ARM among
    /// them, it often separates statements.
    pub(crate) fn check_hidden_instruction(&mut self, line: &Line) {
        if self.arch.is_x86() || self.stopped {
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
    fn lay_known(&mut self, text: &str) -> bool {
        self.key = Key::of(text);
        let section = &mut self.sections[self.current];
        let Some(bytes) = self.key.as_ref().and_then(|key| self.known.find(key)) else {
            return false;
        };
        if section.flags.nobits || section.warns_of_instructions() {
            return false;
        }
        if self.arch == Arch::Arm64 {
            section.mark_kind(true);
        }
        self.open_labels.clear();
        section.mark_line(self.file, self.line);
        section.lay(bytes);
        true
    }

    /// The instruction that the word names here.
    pub(crate) fn find_instruction(&self, word: &str) -> Option<Found> {
        find_instruction(self.arch, self.order, word)
    }

    /// A statement that starts with this word, after its labels.
    fn word(
        &mut self,
        word: &str,
        span: Span,
        cursor: &mut Cursor,
        lines: &mut Lines,
    ) -> Result<(), Diagnostic> {
        if self.lay_prefix(word, cursor, lines)? {
            return Ok(());
        }
        if let Tok::Word(next) = cursor.peek()?
            && next.starts_with(['.', 'd', 'D'])
            && let Some(Directive::Data(kind)) = table::find(next)
            && self.find_instruction(word).is_some()
            && other_spellings::gives_data(cursor)
        {
            // It is meant as a label, so that what refers to it is no error too.
            let error =
                Diagnostic::error(Code::Syntax, span, format!("`{word}` is an instruction"));
            let line = format!("{word}: {}", cursor.clone().rest().0);
            let error = error.help(format!("as a label it needs its colon: `{line}`"));
            self.report(error.replace_with(format!("{word}:")));
            return self.labelled_data(word, span, kind, cursor);
        }
        if let Some((found, span)) = take_instruction(self.arch, word, span, cursor)? {
            return self.instruction(&found, span, cursor).map_err(|error| self.with_order(error));
        }
        if let Some(found) = table::find(word) {
            return self.directive(found, word, span, cursor, lines);
        }
        if self.call(word, span, cursor)? {
            return Ok(());
        }
        // The colon of a label may be dropped before a data directive.
        if let Tok::Word(next) = cursor.peek()?
            && let Some(Directive::Data(kind)) = table::find(next)
        {
            return self.labelled_data(word, span, kind, cursor);
        }
        if begins_condition(word) {
            let error = unknown_word(self.arch, word, span, None);
            // Its `.endif` is no error of its own, and no branch of it is read.
            cursor.rest();
            self.open_unknown_condition(span, lines)?;
            return Err(error);
        }
        self.unknown_statement(word, span, cursor, lines)
    }

    /// Data behind a label without its colon; the directive comes next.
    fn labelled_data(
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
    fn unknown_statement(
        &mut self,
        word: &str,
        span: Span,
        cursor: &mut Cursor,
        lines: &mut Lines,
    ) -> Result<(), Diagnostic> {
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
            return Ok(());
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
                return Ok(());
            }
            return Err(answer.error);
        }
        Err(unknown_word(self.arch, word, span, near.as_deref()))
    }

    /// The word nearest to a misspelt one that can stand before what follows it.
    fn nearest_statement(&self, word: &str, cursor: &Cursor) -> Option<String> {
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
    fn can_stand(&self, word: &str, cursor: &Cursor) -> bool {
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
                forms.iter().any(|form| match self.arch.is_x86() {
                    true => taken(&form.syntax) == operands.len(),
                    // Some may be left out there.
                    false => taken(&form.syntax) >= operands.len(),
                })
            }
        }
    }

    /// Lays down a prefix that stands alone, before an instruction in a statement of its own.
    fn lay_prefix(
        &mut self,
        word: &str,
        cursor: &mut Cursor,
        lines: &Lines,
    ) -> Result<bool, Diagnostic> {
        // Every instruction comes by here.
        let alone = cursor.peek()? == Tok::End;
        if !self.arch.is_x86() || !(alone || matches!(word.as_bytes(), [.., b'4' | b'6'])) {
            return Ok(false);
        }
        let byte = match x86_prefix_byte(self.arch, word) {
            Some((byte, true)) => byte,
            Some((byte, false)) if alone && (lines.continues() || self.in_inline_assembly) => byte,
            _ => return Ok(false),
        };
        self.open_labels.clear();
        self.mark_line();
        self.section().lay(&[byte]);
        // They may be repeated, as often as a line is long.
        while let Tok::Word(next) = cursor.peek()?
            && let Some((byte, true)) = x86_prefix_byte(self.arch, next)
        {
            cursor.next()?;
            self.section().lay(&[byte]);
        }
        if cursor.peek()? != Tok::End {
            // It stands before the instruction, which is a statement of its own.
            let (text, at) = cursor.rest();
            let (line, mut none) = (Line { text, at }, Lines::new("", at, self.file, self.line));
            self.statement(line, &mut none)?;
        }
        Ok(true)
    }

    /// Carries out a directive.
    fn directive(
        &mut self,
        found: Directive,
        word: &str,
        span: Span,
        cursor: &mut Cursor,
        lines: &mut Lines,
    ) -> Result<(), Diagnostic> {
        match found {
            Directive::Plain(name, run) => table::run(self, name, run, span, cursor),
            Directive::Data(kind) => data::run(self, kind, word, span, cursor),
            Directive::Structure(structure) => self.structure(structure, span, cursor, lines),
            Directive::Unwind(directive) => unwind::run(self, directive, word, span, cursor),
        }
    }

    /// An error about the order of operands, with what decided the order.
    fn with_order(&self, error: Diagnostic) -> Diagnostic {
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

    fn instruction(
        &mut self,
        found: &Found,
        span: Span,
        cursor: &mut Cursor,
    ) -> Result<(), Diagnostic> {
        self.open_labels.clear();
        // The same list serves every line.
        let mut list = std::mem::take(&mut self.operands);
        list.clear();
        let done = self.instruction_with(found, span, cursor, &mut list);
        self.operands = list;
        done
    }

    fn instruction_with(
        &mut self,
        found: &Found,
        span: Span,
        cursor: &mut Cursor,
        operands: &mut Vec<Spanned>,
    ) -> Result<(), Diagnostic> {
        parse_operands(cursor, found.context, operands)?;
        let mnemonic = found.settle(operands, cursor, span)?;
        self.check_contents(span, "an instruction")?;
        self.check_executable(span);
        if self.arch == Arch::Arm64 {
            self.section().mark_kind(true);
        }
        check_address(mnemonic, operands, cursor)?;
        self.check_interrupt(mnemonic, operands);
        self.take_literals(mnemonic, operands)?;
        self.bind(operands);
        self.mark_line();
        if operands.iter().all(Spanned::is_fixed) {
            let fixed: Operands = operands
                .iter()
                .filter_map(|operand| match operand.parsed {
                    Parsed::Fixed(operand) => Some(operand),
                    _ => None,
                })
                .collect();
            let encoded = encode(self.arch, mnemonic, &fixed, 0).map_err(|error| {
                let swapped = swapped_operands(self.arch, mnemonic, &fixed)
                    .then(|| self.swapped_text(found, operands, cursor));
                let error = encode_diagnostic(error, span, operands, self.order);
                match swapped {
                    Some(text) => error.help(text),
                    None => error,
                }
            })?;
            self.section().lay(&encoded.bytes);
            if let Some(key) = self.key.take() {
                self.known.keep(&key, &encoded.bytes);
            }
            return Ok(());
        }
        let whole = Span { end: cursor.since(span).end, ..span };
        let context = self.context();
        let bare_is_contents = self.bare_is_contents;
        let section = self.section();
        let first = section.operands.len() as u32;
        section.operands.append(operands);
        let open = OpenInstruction {
            mnemonic,
            operands: first..section.operands.len() as u32,
            context,
            span: whole,
            encoded: Encoded::default(),
            settled: false,
            failed: false,
            bare_is_contents,
        };
        section.lay_open(open);
        Ok(())
    }

    /// Warns of an interrupt whose number was meant in hexadecimal.
    fn check_interrupt(&mut self, mnemonic: &str, operands: &[Spanned]) {
        let [Spanned { parsed: Parsed::Fixed(Operand::Imm(Value::Known(80))), span }] = operands
        else {
            return;
        };
        if mnemonic == "int" && self.arch.is_x86() {
            let message = "the kernel is called by interrupt 0x80, and this is 80";
            let warning = Diagnostic::error(Code::OutOfRange, *span, message).warning();
            self.report(warning.help("write `int 0x80`").replace_with("0x80"));
        }
    }

    /// Warns of the first instruction in a section that is not executed.
    fn check_executable(&mut self, span: Span) {
        let section = &mut self.sections[self.current];
        if !section.warns_of_instructions() {
            return;
        }
        section.has_instructions = true;
        let message = format!("an instruction in `{}`, which cannot be executed", section.name);
        let help = "write `.text` above it";
        self.report(Diagnostic::error(Code::WrongSection, span, message).warning().help(help));
    }

    /// The instruction with its two operands the other way round.
    fn swapped_text(&self, found: &Found, operands: &[Spanned], cursor: &Cursor) -> String {
        let mut texts: Vec<&str> = operands.iter().map(|o| cursor.text_at(o.span)).collect();
        let first = match self.order {
            OperandOrder::DestinationFirst => "destination",
            // They were put into the table's order, which is the right one now.
            OperandOrder::SourceFirst => "source",
        };
        if self.order == OperandOrder::DestinationFirst {
            texts.reverse();
        }
        format!("the {first} comes first in this file: `{} {}`", found.mnemonic, texts.join(", "))
    }

    fn bind(&mut self, operands: &mut [Spanned]) {
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
        if self.levels.is_empty() && !self.externals && self.arch != Arch::X86_32 {
            return;
        }
        expr.for_each_leaf(&mut |leaf| {
            let Expr::Symbol(name, span) = leaf else { return };
            if let std::borrow::Cow::Owned(own) = self.own_name(name, *span) {
                *name = own.into();
            } else if (self.externals || *name == *GOT) && !name.starts_with('.') {
                self.symbols.intern(name, *span);
            }
        });
    }

    fn label(&mut self, name: &str, span: Span) -> Result<(), Diagnostic> {
        let hides = self.arch.is_x86()
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
        Ok(())
    }

    /// `name .req register`: another name for a register, on ARM.
    fn name_register(
        &mut self,
        name: &str,
        span: Span,
        cursor: &mut Cursor,
    ) -> Result<(), Diagnostic> {
        if self.arch.is_x86() {
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
        if !self.arch.is_x86() {
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

/// The byte of a prefix, and whether it is one that only stands for its byte: a size that the instruction has
/// already, which compilers and disassemblers write to fill room.
fn x86_prefix_byte(arch: Arch, word: &str) -> Option<(u8, bool)> {
    let is = |name: &str| word.eq_ignore_ascii_case(name);
    if is("data16") {
        return Some((0x66, true));
    }
    if is("rex64") && arch == Arch::X86_64 {
        return Some((0x48, true));
    }
    let prefix = PREFIXES.iter().find(|prefix| is(prefix.name))?;
    Some((prefix.byte, false))
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
