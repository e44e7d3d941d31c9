//! Directives other than data: sections, placement, symbols, and marks that change nothing.

use std::sync::OnceLock;

use sotto_isa::{Arch, OperandOrder};
use sotto_object::{Binding, SectionFlags, SymbolKind, Visibility};

use crate::context::Assembler;
use crate::directives::structure;
use crate::directives::structure::Structure;
use crate::directives::{data, line_table, unwind};
use crate::sections::fragments::{Align, Fragment, Org};
use crate::symbols::{Definition, FastMap, Linear};
use crate::text::expr;
use crate::text::lexer::{Cursor, Tok, unescape};
use crate::text::syntax::syntax;
use crate::{Code, Diagnostic, Span};

/// A directive in a source.
pub(crate) struct Call<'c, 'a> {
    /// As the table spells it.
    name: &'static str,
    span: Span,
    /// Stands after the name.
    cursor: &'c mut Cursor<'a>,
}

pub(crate) type Run = fn(&mut Assembler, &mut Call) -> Result<(), Diagnostic>;

/// Carries out a directive of this module.
pub(crate) fn run(
    assembler: &mut Assembler,
    name: &'static str,
    run: Run,
    span: Span,
    cursor: &mut Cursor,
) -> Result<(), Diagnostic> {
    run(assembler, &mut Call { name, span, cursor })?;
    cursor.expect_end_of(name)
}

/// Name, whether its dot may be dropped, and what it does.
const DIRECTIVES: &[(&str, bool, Run)] = &[
    (".text", false, named_section),
    (".data", false, named_section),
    (".rodata", false, named_section),
    (".bss", false, named_section),
    (".section", true, section),
    (".previous", false, previous),
    (".pushsection", false, push_section),
    (".popsection", false, pop_section),
    (".align", true, align),
    (".balign", false, align),
    (".p2align", false, align),
    (".global", true, binding),
    (".globl", true, binding),
    (".extern", true, binding),
    (".weak", false, binding),
    (".local", false, binding),
    (".type", false, symbol_type),
    (".size", false, symbol_size),
    (".equ", true, equ),
    (".set", false, equ),
    (".org", false, org),
    (".hidden", false, visibility),
    (".internal", false, visibility),
    (".protected", false, visibility),
    (".comm", false, common),
    (".lcomm", false, common),
    (".error", false, stated),
    (".warning", false, stated),
    (".ltorg", false, literals),
    (".req", false, nameless),
    (".unreq", false, forget_register),
    (".target", false, target),
    (".operands", false, operands),
    (".intel_syntax", false, destination_first),
    (".att_syntax", false, source_first),
    (".file", false, file),
    (".loc", false, location),
    (".tlsdesccall", false, descriptor_call),
    (".ident", false, ignore),
    (".arch", false, ignore),
    (".arch_extension", false, ignore),
    (".cpu", false, ignore),
    (".addrsig", false, ignore),
    (".addrsig_sym", false, ignore),
    (".loc_mark_labels", false, ignore),
    (".variant_pcs", false, ignore),
];

/// Every directive, as it is written with its dot.
pub fn names() -> impl Iterator<Item = &'static str> {
    all().map(|(name, ..)| name)
}

/// Whether a word is a directive that lays down data: `.byte`, `dd`. `.inst` lays down an instruction.
pub fn lays_down_data(word: &str) -> bool {
    matches!(find(word), Some(Directive::Data(_))) && !data::is_instruction(word)
}

/// Whether a word is a directive that fills up to an alignment.
pub fn fills_up(word: &str) -> bool {
    matches!(find(word), Some(Directive::Plain(".align" | ".balign" | ".p2align", _)))
}

/// What a directive is, and so who carries it out.
#[derive(Copy, Clone)]
pub(crate) enum Directive {
    /// One of this module, as its table spells it.
    Plain(&'static str, Run),
    Data(data::Kind),
    Structure(Structure),
    Unwind(unwind::Directive),
}

/// Every directive with whether its dot may be dropped.
fn all() -> impl Iterator<Item = (&'static str, bool, Directive)> {
    let plain =
        DIRECTIVES.iter().map(|&(name, bare, run)| (name, bare, Directive::Plain(name, run)));
    let data = data::DIRECTIVES.iter().map(|&(name, kind)| (name, false, Directive::Data(kind)));
    let structure = structure::DIRECTIVES
        .iter()
        .map(|&(name, bare, what)| (name, bare, Directive::Structure(what)));
    let unwind =
        unwind::DIRECTIVES.iter().map(|&(name, what)| (name, false, Directive::Unwind(what)));
    plain.chain(data).chain(structure).chain(unwind)
}

/// The directive that the word is, in any case.
pub(crate) fn find(word: &str) -> Option<Directive> {
    static INDEX: OnceLock<FastMap<&'static str, Directive>> = OnceLock::new();
    let index = INDEX.get_or_init(|| {
        let spellings = all().flat_map(|(name, bare, directive)| {
            [Some(name), bare.then(|| &name[1..])]
                .into_iter()
                .flatten()
                .map(move |n| (n, directive))
        });
        spellings.collect()
    });
    // Every line of data asks, so the common spelling costs nothing.
    let found = index.get(word).or_else(|| {
        let lower = || word.to_ascii_lowercase();
        word.bytes().any(|b| b.is_ascii_uppercase()).then(lower).and_then(|w| index.get(w.as_str()))
    });
    found.copied()
}

fn named_section(assembler: &mut Assembler, call: &mut Call) -> Result<(), Diagnostic> {
    let name = call.name;
    assembler.enter_section(name, SectionFlags::by_name(name), None);
    Ok(())
}

/// Whether a section of this name is for tools and not for the program.
fn is_note(name: &str) -> bool {
    [".note", ".comment", ".debug"].iter().any(|family| name.starts_with(family))
}

/// `.section NAME[, "flags"[, @type[, group, comdat]]]`
fn section(assembler: &mut Assembler, call: &mut Call) -> Result<(), Diagnostic> {
    let cursor = &mut *call.cursor;
    // Names have dashes too, so this is read as text.
    let (rest, at) = cursor.rest();
    let pieces = crate::reading::macros::split(rest);
    let span = |number: usize| match pieces.get(number) {
        Some((offset, piece)) => Span::new(at + offset, at + offset + piece.len()),
        None => Span::new(at + rest.len(), at + rest.len()),
    };
    let piece = |number: usize| pieces.get(number).map(|(_, piece)| *piece);
    let syntax =
        |number: usize, message: String| Diagnostic::error(Code::Syntax, span(number), message);
    let unquoted = |text: &'_ str| -> Option<String> {
        Some(text.strip_prefix('"')?.strip_suffix('"')?.to_string())
    };
    let name = piece(0).unwrap_or_default();
    let name = unquoted(name).unwrap_or_else(|| name.to_string());
    if name.is_empty() || name.contains(|c: char| c.is_whitespace() || c == '"') {
        return Err(syntax(0, format!("`{name}` is no name of a section")));
    }
    let mut flags = SectionFlags::by_name(&name);
    let mut group = None;
    if let Some(given) = piece(1) {
        let Some(letters) = unquoted(given) else {
            return Err(syntax(
                1,
                format!("expected the section's flags in double quotes, but found `{given}`"),
            ));
        };
        flags = SectionFlags { nobits: flags.nobits, ..SectionFlags::default() };
        for letter in letters.chars() {
            match letter {
                'a' => flags.alloc = true,
                'w' => flags.write = true,
                'x' => flags.exec = true,
                // Constants that a linker may join; ours keeps them as they are.
                'M' | 'S' => {}
                'T' => flags.tls = true,
                // It is of a group, which is named further on; or stays although nothing refers to it; or is
                // left out of the program.
                'G' | 'R' | 'e' => {}
                _ => {
                    return Err(syntax(1, format!("`{letter}` is not a section flag")).help(
                        "the flags are a (in memory), w (writable), x (executable), T (of each thread), G (of a group), M, S, R and e",
                    ));
                }
            }
        }
        match piece(2).map(|word| word.trim_start_matches(['%', '@'])) {
            None | Some("note" | "init_array" | "fini_array" | "preinit_array" | "unwind") => {}
            Some("nobits") => flags.nobits = true,
            Some("progbits") => flags.nobits = false,
            Some(_) => {
                let found = piece(2).unwrap_or_default();
                return Err(syntax(
                    2,
                    format!("expected %progbits or %nobits, but found `{found}`"),
                ));
            }
        }
        // The size of the constants to be joined.
        let joined = letters.contains('M') && piece(3).is_some_and(|n| n.parse::<u32>().is_ok());
        let mut known = if joined { 4 } else { 3 };
        if letters.contains('G') {
            match (piece(known).filter(|name| !name.is_empty()), piece(known + 1)) {
                (Some(name), Some("comdat")) => group = Some(name.to_string()),
                _ => {
                    return Err(syntax(
                        known,
                        "expected the group's name and `comdat`, since the flags have a G".into(),
                    ));
                }
            }
            known += 2;
        }
        if pieces.len() > known {
            return Err(syntax(known, "a section has a name, flags and a type".to_string()));
        }
    } else if !flags.alloc && !is_note(&name) && !assembler.has_section(&name) {
        return Err(syntax(0, format!("`{name}` is no section that has flags by its name"))
            .help(format!("give its flags: `.section {name}, \"aw\"`")));
    }
    assembler.enter_section(&name, flags, group);
    Ok(())
}

/// `.pushsection NAME...`: as `.section`, and `.popsection` comes back to here.
fn push_section(assembler: &mut Assembler, call: &mut Call) -> Result<(), Diagnostic> {
    let kept = (assembler.current, assembler.previous);
    section(assembler, call)?;
    assembler.kept_sections.push(kept);
    Ok(())
}

fn pop_section(assembler: &mut Assembler, call: &mut Call) -> Result<(), Diagnostic> {
    let Some((current, previous)) = assembler.kept_sections.pop() else {
        let message = "`.popsection` without `.pushsection`";
        return Err(Diagnostic::error(Code::Structure, call.span, message));
    };
    assembler.open_labels.clear();
    (assembler.current, assembler.previous) = (current, previous);
    Ok(())
}

/// `.error "TEXT"` and `.warning "TEXT"`: what the source itself has to say.
fn stated(assembler: &mut Assembler, call: &mut Call) -> Result<(), Diagnostic> {
    let text = match call.cursor.next()? {
        (Tok::Str(raw), span) => String::from_utf8_lossy(&unescape(raw, span)?).into_owned(),
        (Tok::End, _) => format!("`{}` was reached", call.name),
        (token, span) => {
            return Err(call.cursor.unexpected(token, span, "a text in double quotes"));
        }
    };
    let said = Diagnostic::error(Code::StatedTable, call.span, text);
    if call.name == ".error" {
        return Err(said);
    }
    assembler.report(said.warning());
    Ok(())
}

fn previous(assembler: &mut Assembler, _: &mut Call) -> Result<(), Diagnostic> {
    std::mem::swap(&mut assembler.current, &mut assembler.previous);
    Ok(())
}

/// `.align N[, FILL[, MAX]]`: bytes on x86 and for `.balign`, a power of two on ARM and for `.p2align`.
fn align(assembler: &mut Assembler, call: &mut Call) -> Result<(), Diagnostic> {
    let name = call.name;
    let cursor = &mut *call.cursor;
    let (value, span) = data::number(assembler, cursor)?;
    let power = name == ".p2align" || (name == ".align" && syntax(assembler.arch).align_is_power);
    let align = match u32::try_from(value) {
        Ok(value) if power && value <= 16 => 1u64 << value,
        Ok(value) if !power && (value.is_power_of_two() || value == 0) && value <= 1 << 16 => {
            u64::from(value.max(1))
        }
        _ => {
            let limit = if power { "0 to 16, a power of two" } else { "1, 2, 4 ... 65536" };
            return Err(Diagnostic::error(
                Code::OutOfRange,
                span,
                format!("{value} is no alignment"),
            )
            .label(format!("must be {limit}")));
        }
    };
    let (mut fill, mut max) = (None, u64::MAX);
    if cursor.eat(',')? {
        if cursor.peek()? != Tok::Op(',') {
            let (value, span) = data::number(assembler, cursor)?;
            data::check_fits(value, 1, span)?;
            fill = Some(value as u8);
        }
        if cursor.eat(',')? {
            max = data::number(assembler, cursor)?.0.clamp(0, 1 << 16) as u64;
        }
    }
    assembler.open_labels.clear();
    let section = assembler.section();
    section.align = section.align.max(align);
    section.push(Fragment::Align(Box::new(Align { align, fill, max })));
    Ok(())
}

/// Takes the name of a symbol.
fn symbol_name<'a>(cursor: &mut Cursor<'a>) -> Result<(&'a str, Span), Diagnostic> {
    match cursor.next()? {
        (Tok::Word(name), span) => Ok((name, span)),
        (token, span) => Err(cursor.unexpected(token, span, "the name of a symbol")),
    }
}

/// Takes names of symbols with commas between.
fn each_name(cursor: &mut Cursor, mut take: impl FnMut(&str, Span)) -> Result<(), Diagnostic> {
    loop {
        let (symbol, span) = symbol_name(cursor)?;
        take(symbol, span);
        if !cursor.eat(',')? {
            return Ok(());
        }
    }
}

/// `.global NAME, ...` and its like.
fn binding(assembler: &mut Assembler, call: &mut Call) -> Result<(), Diagnostic> {
    let name = call.name;
    let cursor = &mut *call.cursor;
    each_name(cursor, |symbol, span| {
        match name {
            ".weak" => assembler.set_binding(symbol, span, Binding::Weak),
            ".local" => {
                let id = assembler.symbols.intern(symbol, span);
                let symbol = assembler.symbols.get_mut(id);
                (symbol.binding, symbol.local) = (Binding::Local, true);
            }
            // A weak symbol that is also declared stays weak.
            ".extern" => {
                let id = assembler.symbols.intern(symbol, span);
                if assembler.symbols.get(id).binding != Binding::Weak {
                    assembler.set_binding(symbol, span, Binding::Global);
                }
            }
            _ => assembler.set_binding(symbol, span, Binding::Global),
        }
    })
}

/// `.type NAME, %function`: also with `@`, as x86 sources write it.
fn symbol_type(assembler: &mut Assembler, call: &mut Call) -> Result<(), Diagnostic> {
    let cursor = &mut *call.cursor;
    let (name, span) = symbol_name(cursor)?;
    cursor.expect(',', "after the symbol")?;
    let _marked = cursor.eat('%')? || cursor.eat('@')?;
    let (token, kind_span) = cursor.next()?;
    let kind = match token {
        Tok::Word("function") => SymbolKind::Function,
        Tok::Word("object" | "tls_object" | "common") => SymbolKind::Data,
        Tok::Word("gnu_indirect_function") => SymbolKind::IndirectFunction,
        Tok::Word("gnu_unique_object") => SymbolKind::Data,
        Tok::Word("notype") => SymbolKind::None,
        _ => return Err(cursor.unexpected(token, kind_span, "%function or %object")),
    };
    let id = assembler.symbols.intern(name, span);
    assembler.symbols.get_mut(id).kind = kind;
    Ok(())
}

/// `.size NAME, EXPRESSION`
fn symbol_size(assembler: &mut Assembler, call: &mut Call) -> Result<(), Diagnostic> {
    let cursor = &mut *call.cursor;
    let (name, span) = symbol_name(cursor)?;
    cursor.expect(',', "after the symbol")?;
    let mut expr = expr::parse(cursor, expr::Atoms::Plain)?;
    assembler.bind_names(&mut expr);
    let context = assembler.context();
    let id = assembler.symbols.intern(name, span);
    assembler.symbols.get_mut(id).size = Some(Box::new((expr, context)));
    Ok(())
}

/// `.equ NAME, VALUE` once, `.set NAME, VALUE` again and again.
fn equ(assembler: &mut Assembler, call: &mut Call) -> Result<(), Diagnostic> {
    let name = call.name;
    let cursor = &mut *call.cursor;
    let (symbol, span) = symbol_name(cursor)?;
    cursor.expect(',', "after the symbol")?;
    assembler.equate(symbol, span, cursor, name == ".equ")
}

fn target(assembler: &mut Assembler, call: &mut Call) -> Result<(), Diagnostic> {
    let at = call.span;
    let cursor = &mut *call.cursor;
    let (name, span) = rest_of_line(cursor);
    let arch: Arch = name.parse().map_err(|error: sotto_isa::UnknownArch| {
        Diagnostic::error(Code::TargetConflict, span, error.to_string())
    })?;
    if arch != assembler.arch {
        let message = format!("this source is for {arch}, but {} was asked for", assembler.arch);
        return Err(Diagnostic::error(Code::TargetConflict, at.to(span), message)
            .help(format!("leave out `--target`, or give `--target {arch}`")));
    }
    Ok(())
}

/// `.org PLACE[, FILL]`: forward in the section.
fn org(assembler: &mut Assembler, call: &mut Call) -> Result<(), Diagnostic> {
    let cursor = &mut *call.cursor;
    let (_, start) = cursor.peek_spanned()?;
    let mut expr = expr::parse(cursor, expr::Atoms::Plain)?;
    let span = cursor.since(start);
    assembler.bind_names(&mut expr);
    let linear = assembler.value_now(&expr, span)?;
    let current = assembler.current as u32;
    let (from, offset) = match linear {
        Linear { plus: None, minus: None, offset, .. } => (None, offset),
        Linear { plus: Some(anchor), minus: None, offset, .. }
            if anchor.position.is_some_and(|position| position.section == current) =>
        {
            (anchor.position, offset)
        }
        _ => {
            return Err(Diagnostic::error(
                Code::NotConstant,
                span,
                "`.org` goes to a place in the section it stands in",
            ));
        }
    };
    let mut fill = 0;
    if cursor.eat(',')? {
        let (value, at) = data::number(assembler, cursor)?;
        data::check_fits(value, 1, at)?;
        fill = value as u8;
    }
    assembler.open_labels.clear();
    assembler.mark_line();
    assembler.section().push(Fragment::Org(Box::new(Org { from, offset, fill, span })));
    Ok(())
}

/// `.hidden NAME, ...` and its like.
fn visibility(assembler: &mut Assembler, call: &mut Call) -> Result<(), Diagnostic> {
    let visibility = match call.name {
        ".internal" => Visibility::Internal,
        ".protected" => Visibility::Protected,
        _ => Visibility::Hidden,
    };
    let cursor = &mut *call.cursor;
    each_name(cursor, |symbol, span| {
        let id = assembler.symbols.intern(symbol, span);
        assembler.symbols.get_mut(id).visibility = visibility;
    })
}

fn file(assembler: &mut Assembler, call: &mut Call) -> Result<(), Diagnostic> {
    line_table::file(assembler, call.cursor)
}

fn location(assembler: &mut Assembler, call: &mut Call) -> Result<(), Diagnostic> {
    line_table::location(assembler, call.cursor)
}

/// `.tlsdesccall NAME`: the call that follows goes through the variable's descriptor.
fn descriptor_call(assembler: &mut Assembler, call: &mut Call) -> Result<(), Diagnostic> {
    let (name, span) = symbol_name(call.cursor)?;
    let symbol = Box::new(expr::Expr::Symbol(name.into(), span));
    let mut expr = expr::Expr::Via(expr::Via::Tls(expr::TlsOperator::DescriptorCall), symbol);
    assembler.bind_names(&mut expr);
    let context = assembler.context();
    assembler.section().lay_mark(expr, context, span);
    Ok(())
}

/// `.comm NAME, SIZE[, ALIGN]`: room that all files share, made once by the linker.
fn common(assembler: &mut Assembler, call: &mut Call) -> Result<(), Diagnostic> {
    let cursor = &mut *call.cursor;
    let (name, span) = symbol_name(cursor)?;
    cursor.expect(',', "after the symbol")?;
    let (size, size_span) = data::number(assembler, cursor)?;
    let most = i128::from(crate::context::MAX_SECTION_BYTES);
    if !(0..=most).contains(&size) {
        let message = format!("{size} is no size");
        return Err(Diagnostic::error(Code::OutOfRange, size_span, message)
            .label(format!("must be 0 to {most}")));
    }
    let mut align = 1 << (size.max(1) as u64).ilog2().min(4);
    if cursor.eat(',')? {
        let (value, at) = data::number(assembler, cursor)?;
        align = match u64::try_from(value) {
            Ok(value) if value.is_power_of_two() && value <= 1 << 16 => value,
            _ => {
                let message = format!("{value} is no alignment");
                return Err(Diagnostic::error(Code::OutOfRange, at, message)
                    .label("must be 1, 2, 4 ... 65536"));
            }
        };
    }
    let id = assembler.symbols.intern(name, span);
    let symbol = assembler.symbols.get_mut(id);
    if !matches!(symbol.definition, Definition::None) {
        return Err(Diagnostic::error(
            Code::DuplicateSymbol,
            span,
            format!("`{name}` is defined already"),
        )
        .at(symbol.span, "defined here"));
    }
    symbol.local |= call.name == ".lcomm";
    let (old_size, old_align) = symbol.common.as_deref().copied().unwrap_or((0, 1));
    symbol.common = Some(Box::new((old_size.max(size as u64), old_align.max(align))));
    symbol.kind = SymbolKind::Data;
    if !symbol.declared && symbol.binding == Binding::Local {
        symbol.binding = if symbol.local { Binding::Local } else { Binding::Global };
    }
    Ok(())
}

/// `.req` without the name that stands before it.
fn nameless(_: &mut Assembler, call: &mut Call) -> Result<(), Diagnostic> {
    let message = "the name for the register stands before `.req`";
    Err(Diagnostic::error(Code::Syntax, call.span, message).help("write `level .req x0`"))
}

/// `.unreq NAME`
fn forget_register(assembler: &mut Assembler, call: &mut Call) -> Result<(), Diagnostic> {
    let (name, span) = symbol_name(call.cursor)?;
    assembler.forget_register(name, span)
}

/// `.ltorg`: the literal pool goes here.
fn literals(assembler: &mut Assembler, call: &mut Call) -> Result<(), Diagnostic> {
    let name = call.name;
    let span = call.span;
    if !syntax(assembler.arch).has_literal_pools {
        let message = format!("`{name}` is for ARM; {} has no literal pools", assembler.arch);
        return Err(Diagnostic::error(Code::TargetConflict, span, message));
    }
    assembler.place_pool();
    Ok(())
}

/// Takes the rest of the statement: names with dashes are more than one token.
fn rest_of_line<'a>(cursor: &mut Cursor<'a>) -> (&'a str, Span) {
    let (text, at) = cursor.rest();
    (text, Span::new(at, at + text.len()))
}

fn operands(assembler: &mut Assembler, call: &mut Call) -> Result<(), Diagnostic> {
    let at = call.span;
    let cursor = &mut *call.cursor;
    let (name, span) = rest_of_line(cursor);
    let order = name.parse().map_err(|error: sotto_isa::UnknownOrder| {
        Diagnostic::error(Code::Syntax, span, error.to_string())
    })?;
    assembler.choose_order(order, at.to(span))
}

/// `.intel_syntax noprefix`
fn destination_first(assembler: &mut Assembler, call: &mut Call) -> Result<(), Diagnostic> {
    let at = call.span;
    let cursor = &mut *call.cursor;
    let (mark, span) = rest_of_line(cursor);
    if !matches!(mark, "" | "noprefix") {
        let message = format!("registers are written without `%`, so `{mark}` has no meaning");
        return Err(
            Diagnostic::error(Code::Syntax, span, message).help("write `.intel_syntax noprefix`")
        );
    }
    assembler.choose_order(OperandOrder::DestinationFirst, at.to(span))?;
    assembler.bare_is_contents = true;
    Ok(())
}

/// `.att_syntax`
fn source_first(assembler: &mut Assembler, call: &mut Call) -> Result<(), Diagnostic> {
    let at = call.span;
    let cursor = &mut *call.cursor;
    let (mark, span) = rest_of_line(cursor);
    if !matches!(mark, "" | "prefix") {
        let message = format!("registers are written with `%`, so `{mark}` has no meaning");
        return Err(
            Diagnostic::error(Code::Syntax, span, message).help("write `.att_syntax` alone")
        );
    }
    assembler.choose_order(OperandOrder::SourceFirst, at.to(span))
}

/// Marks that do not change code.
fn ignore(_: &mut Assembler, call: &mut Call) -> Result<(), Diagnostic> {
    let cursor = &mut *call.cursor;
    cursor.rest();
    Ok(())
}
