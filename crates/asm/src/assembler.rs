//! Reading a source: lines to statements, statements to fragments.

use sotto_isa::{Arch, OperandOrder, encode};
use sotto_object::Object;

use crate::context::{Assembler, MAX_ERRORS};
use crate::encode_diagnostics::{encode_diagnostic, nearest_instruction, unknown_word};
use crate::instructions::{parse_operands, take_instruction};
use crate::layout;
use crate::reading::infer::{Inference, infer};
use crate::sections::listing::Listing;
use crate::symbols::{Context, Evaluator, Memo, SymbolTable};
use crate::text::disk::{Disk, NoDisk};
use crate::text::lexer::{Cursor, Tok};
use crate::text::source::{BYTE_ORDER_MARK, Origin, Sources};
use crate::{Code, Diagnostic, Severity, Source, Span};

/// What the user may choose.
#[derive(Clone, Debug, Default)]
pub struct Options {
    /// The machine; inferred from the source if not given.
    pub target: Option<Arch>,
    /// A name that nothing defines is taken to be defined in another file, with a note.
    pub externals: bool,
    /// Keep what each line laid down.
    pub listing: bool,
    /// Keep dotted and numbered labels in the object, so that a debugger can name them.
    pub labels: bool,
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
    let mut assembler = Assembler::new(arch, options.externals, options.listing, disk);
    assembler.keeps_labels = options.labels;
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
        let local = |linear: &crate::symbols::Linear| {
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

impl<'d> Assembler<'d> {
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
}
