//! x86 operands, destination first: the vendor manual's order.
//!
//! The other order is in `x86_source_first.rs`.

use sotto_isa::{Arch, Mem, Operand, OperandContext, Reg, RegKind, Segment, Value};

use crate::operands::parsed::{Address, Parsed, Spanned, UnresolvedMem, value_of};
use crate::text::expr;
use crate::text::expr::Atoms;
use crate::text::lexer::{Cursor, Tok};
use crate::{Code, Diagnostic, Expr, Span, TlsOperator, Via};

/// Parses one operand.
pub(crate) fn operand(cursor: &mut Cursor, context: OperandContext) -> Result<Spanned, Diagnostic> {
    let (token, start) = cursor.peek_spanned()?;
    if token == Tok::Op('%') || token == Tok::Op('$') {
        let mut ahead = cursor.clone();
        ahead.next()?;
        if let (Tok::Word(_), _) | (Tok::Num(_), _) = ahead.peek_spanned()? {
            return Err(Diagnostic::error(
                Code::OperandOrder,
                start,
                "this file writes operands without `%` and `$`, the destination first",
            )
            .help("a file has one order of operands; `.operands source-first` at its top chooses the other"));
        }
    }
    let mut width = None;
    let mut pointed = false;
    let mut segment = None;
    if let Tok::Word(word) = token {
        if let Some(keyword) = cursor.arch().width_by_word(word) {
            cursor.next()?;
            width = Some(keyword);
            if let Tok::Word(ptr) = cursor.peek()?
                && ptr.eq_ignore_ascii_case("ptr")
            {
                cursor.next()?;
                pointed = true;
            }
            segment = match pointed && take_idle_segment(cursor)? {
                true => None,
                false => take_segment(cursor)?,
            };
        } else if word.eq_ignore_ascii_case("offset") {
            cursor.next()?;
            take_flat(cursor)?;
            let expr = expr::parse(cursor, Atoms::Plain)?;
            let parsed = match immediate(expr, start)? {
                Parsed::Imm(expr) => Parsed::Offset(expr),
                parsed => parsed,
            };
            return Ok(Spanned { parsed, span: cursor.since(start) });
        } else if context.target && ["short", "near"].iter().any(|w| word.eq_ignore_ascii_case(w)) {
            cursor.next()?; // the shortest reach is found anyway
        } else if is_string_operand(cursor)? {
            take_idle_segment(cursor)?;
        } else if let Some(named) = take_segment(cursor)? {
            segment = Some(named);
        } else if let Some(reg) = Reg::parse(cursor.arch(), word) {
            let mut ahead = cursor.clone();
            ahead.next()?;
            let follows = ahead.peek()?;
            // What an address or an operator follows is data of this name, as compilers write it.
            if !matches!(follows, Tok::Op('[' | '@')) {
                cursor.next()?;
                return Ok(Spanned { parsed: Parsed::Fixed(Operand::Reg(reg)), span: start });
            }
        }
    }
    if let Some(inner) = width_in_brackets(cursor, context, start)? {
        return Ok(inner);
    }
    // A displacement may stand before the bracket: `table[rcx*4]`, `x[rip]`.
    let mut outside = None;
    if cursor.peek()? != Tok::Op('[') {
        let expr = expr::parse(cursor, Atoms::Plain)?;
        if cursor.peek()? != Tok::Op('[') {
            let span = cursor.since(start);
            // What has a segment or is called pointed to is in memory, as compilers print it.
            if segment.is_some() || pointed {
                let mem = Mem { width, segment, ..Mem::absolute(0) };
                return Ok(Spanned {
                    parsed: with_displacement(cursor.arch(), mem, Some(expr), true, span)?,
                    span,
                });
            }
            if width.is_some() && expr.constant().is_none() {
                return Err(Diagnostic::error(
                    Code::Syntax,
                    span,
                    "contents of memory are written in brackets",
                )
                .help(format!("write `{}`", bracketed(cursor, start, span))));
            }
            let parsed = match context.target {
                true => Parsed::Target(expr),
                false => immediate(expr, span)?,
            };
            return Ok(Spanned { parsed, span });
        }
        outside = Some(expr);
    }
    cursor.expect('[', "to open the address")?;
    segment = segment.or(take_segment(cursor)?);
    let (_, first) = cursor.peek_spanned()?;
    let mut inside = expr::parse(cursor, Atoms::Registers)?;
    names_in_address(cursor, &mut inside);
    if let (Expr::Symbol(..), Tok::Word(_)) = (&inside, cursor.peek()?) {
        return Err(word_in_brackets(cursor, first));
    }
    cursor.expect(']', "to close the address")?;
    let span = cursor.since(start);
    let expr = match outside {
        Some(outside) => Expr::Binary(crate::Binary::Add, Box::new(inside), Box::new(outside)),
        None => inside,
    };
    memory(cursor.arch(), expr, Mem { width, segment, ..Mem::absolute(0) }, span)
}

/// `[word x]`: an unknown word before what the brackets hold.
fn word_in_brackets(cursor: &Cursor, word: Span) -> Diagnostic {
    let text = cursor.text_at(word);
    let message = format!("`{text}` is no word of the language");
    let error = Diagnostic::error(Code::BadAddress, word, message);
    let inside = cursor.text_after(word).split(']').next().unwrap_or_default().trim();
    error.help(match cursor.arch().address_bytes() {
        8 => {
            format!("write `[{inside}]`, which is relative to the instruction pointer already")
        }
        _ => format!("write `[{inside}]`"),
    })
}

/// `[rip + eax]`, `[rax*4 + di]`: beside the instruction pointer no register can stand, and none of this width in an
/// address, so a symbol of the file is called so.
fn names_in_address(cursor: &Cursor, expr: &mut Expr) {
    let mut beside = false;
    expr.visit_leaves(&mut |leaf| {
        beside |= matches!(leaf, Expr::Register(reg, _) if reg.kind == RegKind::Ip);
    });
    expr.for_each_leaf(&mut |leaf| {
        let Expr::Register(reg, span) = leaf else { return };
        let unusable = check_in_address(cursor.arch(), *reg, "", *span).is_err();
        let name = cursor.text_at(*span);
        if (beside || unusable) && reg.kind != RegKind::Ip && cursor.names_symbol(name) {
            *leaf = Expr::Symbol(name.into(), *span);
        }
    });
}

/// Whether `es:[rdi]` or `ds:[rsi]` comes next, as the manual writes the operands of string instructions.
fn is_string_operand(cursor: &Cursor) -> Result<bool, Diagnostic> {
    let mut ahead = cursor.clone();
    let Tok::Word(word) = ahead.next()?.0 else { return Ok(false) };
    let registers = match word.to_ascii_lowercase().as_str() {
        "es" => ["[rdi]", "[edi]"],
        "ds" => ["[rsi]", "[esi]"],
        _ => return Ok(false),
    };
    if cursor.arch() != Arch::X86_64 || !ahead.eat(':')? {
        return Ok(false);
    }
    const STRINGS: [&str; 7] = ["movs", "cmps", "stos", "lods", "scas", "ins", "outs"];
    let (_, start) = cursor.clone().peek_spanned()?;
    let before = cursor.text_before(start).to_ascii_lowercase();
    let is_string =
        |word: &str| STRINGS.iter().any(|name| word.starts_with(name) && word.len() <= 5);
    if !before.split_ascii_whitespace().any(is_string) {
        return Ok(false);
    }
    let rest = ahead.ahead().trim_start().to_ascii_lowercase();
    Ok(registers.iter().any(|text| rest.starts_with(text)))
}

/// Takes `[dword ptr x[rip]]`: an operand in brackets of its own, as compilers write indirect targets.
fn width_in_brackets(
    cursor: &mut Cursor,
    context: OperandContext,
    start: Span,
) -> Result<Option<Spanned>, Diagnostic> {
    if cursor.peek()? != Tok::Op('[') {
        return Ok(None);
    }
    let mut ahead = cursor.clone();
    ahead.next()?;
    let (Tok::Word(word), _) = ahead.peek_spanned()? else { return Ok(None) };
    let mut behind = ahead.clone();
    behind.next()?;
    let pointed = matches!(behind.peek()?, Tok::Word(ptr) if ptr.eq_ignore_ascii_case("ptr"));
    if cursor.arch().width_by_word(word).is_none() || !pointed {
        return Ok(None);
    }
    *cursor = ahead;
    let inner = operand(cursor, OperandContext { target: false, ..context })?;
    cursor.expect(']', "to close the address")?;
    Ok(Some(Spanned { span: cursor.since(start), ..inner }))
}

/// Takes a segment that has no effect on an address in 64-bit code, as compilers write it: `ds:0`, `%es:(%rdi)`.
pub(crate) fn take_idle_segment(cursor: &mut Cursor) -> Result<bool, Diagnostic> {
    let mut ahead = cursor.clone();
    let idle = |word: &str| ["cs", "ds", "es", "ss"].iter().any(|s| s.eq_ignore_ascii_case(word));
    if cursor.arch() == Arch::X86_64
        && matches!(ahead.next()?.0, Tok::Word(word) if idle(word))
        && ahead.eat(':')?
    {
        *cursor = ahead;
        return Ok(true);
    }
    Ok(false)
}

/// Takes `flat:`, which compilers write after `offset`: the one segment that there is.
fn take_flat(cursor: &mut Cursor) -> Result<(), Diagnostic> {
    let Tok::Word(word) = cursor.peek()? else { return Ok(()) };
    let mut ahead = cursor.clone();
    ahead.next()?;
    if word.eq_ignore_ascii_case("flat") && ahead.eat(':')? {
        *cursor = ahead;
    }
    Ok(())
}

/// Takes `fs:` or another segment, if it comes next.
pub(crate) fn take_segment(cursor: &mut Cursor) -> Result<Option<Segment>, Diagnostic> {
    let Tok::Word(word) = cursor.peek()? else { return Ok(None) };
    let Some(segment) = Segment::ALL.into_iter().find(|s| s.name().eq_ignore_ascii_case(word))
    else {
        return Ok(None);
    };
    let mut ahead = cursor.clone();
    ahead.next()?;
    if ahead.peek()? != Tok::Op(':') {
        return Ok(None);
    }
    if cursor.arch() != Arch::X86_32 && !matches!(segment, Segment::Fs | Segment::Gs) {
        let (_, span) = cursor.peek_spanned()?;
        let message = format!("`{}` has no effect on an address in 64-bit mode", segment.name());
        return Err(Diagnostic::error(Code::BadAddress, span, message)
            .help("leave it out; only `fs` and `gs` have a base there"));
    }
    ahead.next()?;
    *cursor = ahead;
    Ok(Some(segment))
}

fn bracketed(cursor: &Cursor, start: Span, span: Span) -> String {
    let text = cursor.text_at(span);
    let keyword = cursor.text_at(start);
    format!("{keyword} [{}]", text[keyword.len()..].trim())
}

pub(crate) fn immediate(expr: Expr, span: Span) -> Result<Parsed, Diagnostic> {
    Ok(match expr {
        Expr::Number(number) => Parsed::Fixed(Operand::Imm(value_of(number, span)?)),
        expr => Parsed::Imm(expr),
    })
}

/// Refuses a register that no address of the mode is formed from.
/// `mark` is what the file writes before registers.
pub(crate) fn check_in_address(
    arch: Arch,
    reg: Reg,
    mark: &str,
    at: Span,
) -> Result<(), Diagnostic> {
    let usable = match reg.kind {
        RegKind::Dword => true,
        RegKind::Qword | RegKind::Ip => arch != Arch::X86_32,
        RegKind::Word => arch == Arch::X86_32,
        _ => false,
    };
    if usable {
        return Ok(());
    }
    let message = format!("`{mark}{}` cannot be part of an address", reg.name());
    Err(Diagnostic::error(Code::BadAddress, at, message).help(match arch.address_bytes() {
        4 => "use a 32-bit register",
        _ => "use a 64-bit or a 32-bit register",
    }))
}

/// The address in brackets, of memory whose width and segment are known.
fn memory(arch: Arch, expr: Expr, mut mem: Mem, span: Span) -> Result<Spanned, Diagnostic> {
    let bad = |message: &str| Diagnostic::error(Code::BadAddress, span, message.to_string());
    let address = Address::split(expr, span)?;
    let mut terms = address.terms.iter();
    for &(reg, factor, at) in terms.by_ref() {
        check_in_address(arch, reg, "", at)?;
        match factor {
            0 => {}
            1 if mem.base.is_none() => mem.base = Some(reg),
            1 | 2 | 4 | 8 if mem.index.is_none() => {
                (mem.index, mem.scale) = (Some(reg), factor as u8);
            }
            // [r*3] is r + r*2, and so on.
            3 | 5 | 9 if mem.base.is_none() && mem.index.is_none() => {
                (mem.base, mem.index, mem.scale) = (Some(reg), Some(reg), factor as u8 - 1);
            }
            1 | 2 | 4 | 8 => {
                return Err(bad("an address has at most two registers, and one of them unscaled"));
            }
            _ => {
                return Err(bad(&format!("`{}` cannot be scaled by {factor}", reg.name())).help(
                    "the scale is 1, 2, 4 or 8; 3, 5 and 9 for a register that stands alone",
                ));
            }
        }
    }
    // [r*2] alone is shorter as r + r.
    if mem.base.is_none() && mem.scale == 2 {
        (mem.base, mem.scale) = (mem.index, 1);
    }
    // The linker knows the general way to thread-local data by the form with an index alone.
    let general = address.rest.as_ref().and_then(Expr::via) == Some(Via::Tls(TlsOperator::General));
    if general && arch == Arch::X86_32 && mem.index.is_none() {
        (mem.index, mem.base) = (mem.base, None);
    }
    let plain = mem.base.is_none() && mem.index.is_none();
    Ok(Spanned { parsed: with_displacement(arch, mem, address.rest, plain, span)?, span })
}

/// Memory at its registers and a displacement, which may be known already; `plain` if there are no
/// registers.
pub(crate) fn with_displacement(
    arch: Arch,
    mut mem: Mem,
    disp: Option<Expr>,
    plain: bool,
    span: Span,
) -> Result<Parsed, Diagnostic> {
    let Some(disp) = disp else { return Ok(Parsed::Fixed(Operand::Mem(mem))) };
    let known = match disp {
        Expr::Number(number) => Some(number),
        _ => disp.constant().and_then(Result::ok),
    };
    if let Some(number) = known {
        mem.disp = value_of(number, span)?;
        return Ok(Parsed::Fixed(Operand::Mem(mem)));
    }
    mem.disp = Value::Unresolved;
    // In 64-bit mode an address alone counts from the instruction pointer.
    let counted_from_thread =
        matches!(disp.via(), Some(Via::Tls(TlsOperator::ThreadOffset | TlsOperator::BlockOffset)));
    let relative = plain && arch != Arch::X86_32 && !counted_from_thread;
    Ok(Parsed::Mem(Box::new(UnresolvedMem { mem, disp, x86_plain: plain, relative })))
}
