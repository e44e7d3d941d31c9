//! Directives other than data: sections, placement, symbols, and marks that change nothing.

use sotto_isa::Arch;
use sotto_object::{Binding, SectionFlags, SymbolKind};

use crate::assembler::{Assembler, Fragment};
use crate::data;
use crate::lexer::{Cursor, Tok};
use crate::{Code, Diagnostic, Span};

type Run = fn(&mut Assembler, &str, Span, &mut Cursor) -> Result<(), Diagnostic>;

/// Name, whether its dot may be dropped, and what it does.
const DIRECTIVES: &[(&str, bool, Run)] = &[
    (".text", false, named_section),
    (".data", false, named_section),
    (".rodata", false, named_section),
    (".bss", false, named_section),
    (".section", true, section),
    (".previous", false, previous),
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
    (".equ", false, equ),
    (".set", false, equ),
    (".target", false, target),
    (".operands", false, operands),
    (".file", false, ignore),
    (".ident", false, ignore),
    (".loc", false, ignore),
];

/// Directives of the language that this version does not carry out.
const UNSUPPORTED: &[&str] = &[
    ".octa",
    ".float",
    ".double",
    ".org",
    ".hidden",
    ".comm",
    ".include",
    ".incbin",
    ".if",
    ".ifdef",
    ".ifndef",
    ".elseif",
    ".else",
    ".endif",
    ".rept",
    ".endr",
    ".irp",
    ".macro",
    ".endm",
    ".intel_syntax",
    ".att_syntax",
    ".ltorg",
];

/// Every directive, for suggestions.
pub(crate) fn names() -> impl Iterator<Item = &'static str> {
    DIRECTIVES.iter().map(|(name, ..)| *name).chain(data::names())
}

/// Carries out the directive; `false` if the word is not one.
pub(crate) fn run(
    assembler: &mut Assembler,
    word: &str,
    span: Span,
    cursor: &mut Cursor,
) -> Result<bool, Diagnostic> {
    if data::run(assembler, word, span, cursor)? {
        return Ok(true);
    }
    let found = DIRECTIVES.iter().find(|(name, dot_optional, _)| {
        name.eq_ignore_ascii_case(word) || (*dot_optional && name[1..].eq_ignore_ascii_case(word))
    });
    if let Some((name, _, run)) = found {
        run(assembler, name, span, cursor)?;
        cursor.expect_end(&format!("after `{name}`"))?;
        return Ok(true);
    }
    let lower = word.to_ascii_lowercase();
    if UNSUPPORTED.contains(&lower.as_str()) || lower.starts_with(".cfi_") {
        let message = format!("`{word}` is part of the language, but not carried out yet");
        return Err(Diagnostic::error(Code::UnsupportedDirective, span, message));
    }
    Ok(false)
}

fn named_section(
    assembler: &mut Assembler,
    name: &str,
    _: Span,
    _: &mut Cursor,
) -> Result<(), Diagnostic> {
    assembler.enter_section(name, SectionFlags::by_name(name));
    Ok(())
}

/// `.section NAME[, "flags"[, @type]]`
fn section(
    assembler: &mut Assembler,
    _: &str,
    _: Span,
    cursor: &mut Cursor,
) -> Result<(), Diagnostic> {
    let (token, span) = cursor.next()?;
    let name = match token {
        Tok::Word(name) => name.to_string(),
        Tok::Str(name) => name.to_string(),
        _ => return Err(cursor.unexpected(token, span, "the name of a section")),
    };
    let mut flags = SectionFlags::by_name(&name);
    if cursor.eat(",")? {
        let (token, span) = cursor.next()?;
        let Tok::Str(letters) = token else {
            return Err(cursor.unexpected(token, span, "the section's flags in double quotes"));
        };
        flags = SectionFlags { nobits: flags.nobits, ..SectionFlags::default() };
        for letter in letters.chars() {
            match letter {
                'a' => flags.alloc = true,
                'w' => flags.write = true,
                'x' => flags.exec = true,
                _ => {
                    let message = format!("`{letter}` is not a section flag");
                    return Err(Diagnostic::error(Code::Syntax, span, message)
                        .help("the flags are a (in memory), w (writable), x (executable)"));
                }
            }
        }
        if cursor.eat(",")? {
            let marked = cursor.eat("%")? || cursor.eat("@")?;
            let (token, span) = cursor.next()?;
            match token {
                Tok::Word("nobits") if marked => flags.nobits = true,
                Tok::Word("progbits") if marked => flags.nobits = false,
                _ => return Err(cursor.unexpected(token, span, "%progbits or %nobits")),
            }
        }
    } else if !flags.alloc {
        let message = format!("`{name}` is no section that has flags by its name");
        return Err(Diagnostic::error(Code::Syntax, span, message)
            .help(format!("give its flags: `.section {name}, \"aw\"`")));
    }
    assembler.enter_section(&name, flags);
    Ok(())
}

fn previous(assembler: &mut Assembler, _: &str, _: Span, _: &mut Cursor) -> Result<(), Diagnostic> {
    std::mem::swap(&mut assembler.current, &mut assembler.previous);
    Ok(())
}

/// `.align N[, FILL[, MAX]]`: bytes on x86 and for `.balign`, a power of two on ARM and for `.p2align`.
fn align(
    assembler: &mut Assembler,
    name: &str,
    _: Span,
    cursor: &mut Cursor,
) -> Result<(), Diagnostic> {
    let (value, span) = data::number(assembler, cursor)?;
    let power = name == ".p2align" || (name == ".align" && assembler.arch == Arch::Arm64);
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
    if cursor.eat(",")? {
        if cursor.peek()? != Tok::Op(",") {
            let (value, span) = data::number(assembler, cursor)?;
            data::check_fits(value, 1, span)?;
            fill = Some(value as u8);
        }
        if cursor.eat(",")? {
            max = data::number(assembler, cursor)?.0.clamp(0, 1 << 16) as u64;
        }
    }
    assembler.open_labels.clear();
    let current = assembler.current;
    let section = &mut assembler.sections[current];
    section.align = section.align.max(align);
    section.fragments.push(Fragment::Align { align, fill, max });
    Ok(())
}

/// Takes the name of a symbol.
fn symbol_name<'a>(cursor: &mut Cursor<'a>) -> Result<(&'a str, Span), Diagnostic> {
    match cursor.next()? {
        (Tok::Word(name), span) => Ok((name, span)),
        (token, span) => Err(cursor.unexpected(token, span, "the name of a symbol")),
    }
}

/// `.global NAME, ...` and its like.
fn binding(
    assembler: &mut Assembler,
    name: &str,
    _: Span,
    cursor: &mut Cursor,
) -> Result<(), Diagnostic> {
    loop {
        let (symbol, span) = symbol_name(cursor)?;
        match name {
            ".weak" => assembler.set_binding(symbol, span, Binding::Weak),
            ".local" => {
                let id = assembler.symbols.intern(symbol, span);
                assembler.symbols.get_mut(id).binding = Binding::Local;
            }
            _ => assembler.set_binding(symbol, span, Binding::Global),
        }
        if !cursor.eat(",")? {
            return Ok(());
        }
    }
}

/// `.type NAME, %function`: also with `@`, as x86 sources write it.
fn symbol_type(
    assembler: &mut Assembler,
    _: &str,
    _: Span,
    cursor: &mut Cursor,
) -> Result<(), Diagnostic> {
    let (name, span) = symbol_name(cursor)?;
    cursor.expect(",", "after the symbol")?;
    let _marked = cursor.eat("%")? || cursor.eat("@")?;
    let (token, kind_span) = cursor.next()?;
    let kind = match token {
        Tok::Word("function") => SymbolKind::Function,
        Tok::Word("object") => SymbolKind::Data,
        Tok::Word("notype") => SymbolKind::None,
        _ => return Err(cursor.unexpected(token, kind_span, "%function or %object")),
    };
    let id = assembler.symbols.intern(name, span);
    assembler.symbols.get_mut(id).kind = kind;
    Ok(())
}

/// `.size NAME, EXPRESSION`
fn symbol_size(
    assembler: &mut Assembler,
    _: &str,
    _: Span,
    cursor: &mut Cursor,
) -> Result<(), Diagnostic> {
    let (name, span) = symbol_name(cursor)?;
    cursor.expect(",", "after the symbol")?;
    let expr = crate::expr::parse(cursor, crate::expr::Atoms::Plain)?;
    let context = assembler.context();
    let id = assembler.symbols.intern(name, span);
    assembler.symbols.get_mut(id).size = Some((expr, context));
    Ok(())
}

/// `.equ NAME, VALUE` once, `.set NAME, VALUE` again and again.
fn equ(
    assembler: &mut Assembler,
    name: &str,
    _: Span,
    cursor: &mut Cursor,
) -> Result<(), Diagnostic> {
    let (symbol, span) = symbol_name(cursor)?;
    cursor.expect(",", "after the symbol")?;
    assembler.equate(symbol, span, cursor, name == ".equ")
}

fn target(
    assembler: &mut Assembler,
    _: &str,
    at: Span,
    cursor: &mut Cursor,
) -> Result<(), Diagnostic> {
    let (_, start) = cursor.next()?;
    // Names have dashes, so they are more than one token.
    while cursor.peek()? != Tok::End {
        cursor.next()?;
    }
    let span = cursor.since(start);
    let name = cursor.text_at(span).trim();
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

fn operands(_: &mut Assembler, _: &str, _: Span, cursor: &mut Cursor) -> Result<(), Diagnostic> {
    let (_, start) = cursor.next()?;
    while cursor.peek()? != Tok::End {
        cursor.next()?;
    }
    let span = cursor.since(start);
    match cursor.text_at(span).trim() {
        "destination-first" => Ok(()),
        "source-first" => Err(Diagnostic::error(
            Code::OperandOrder,
            span,
            "source-first operands are not read yet",
        )),
        other => {
            let message = format!("`{other}` is no operand order");
            Err(Diagnostic::error(Code::Syntax, span, message)
                .help("write `.operands destination-first`"))
        }
    }
}

/// Marks that do not change code.
fn ignore(_: &mut Assembler, _: &str, _: Span, cursor: &mut Cursor) -> Result<(), Diagnostic> {
    while cursor.peek()? != Tok::End {
        cursor.next()?;
    }
    Ok(())
}
