//! x86 operands in source-first order.
//!
//! `%` before registers, `$` before immediates, `disp(base,index,scale)` for memory, a bare symbol
//! is memory and `$symbol` its address, `*` before the target of an indirect jump or call.

use sotto_isa::x86::{Spelling, keeps_order};
use sotto_isa::{Arch, Mem, Operand, OperandContext, Reg, RegKind, Width, find_mnemonic};

use crate::operands::parsed::{Parsed, Spanned};
use crate::operands::x86::{
    check_in_address, immediate, take_idle_segment, take_segment, with_displacement,
};
use crate::text::expr;
use crate::text::expr::Atoms;
use crate::text::lexer::{Cursor, Tok};
use crate::text::suggest::nearest;
use crate::{Code, Diagnostic, Span};

/// Parses one operand.
pub(crate) fn operand(cursor: &mut Cursor, context: OperandContext) -> Result<Spanned, Diagnostic> {
    let (token, start) = cursor.peek_spanned()?;
    match token {
        Tok::Op('*') => {
            cursor.next()?;
            let inner = operand(cursor, OperandContext { target: false, ..context })?;
            return Ok(Spanned { span: start.to(inner.span), ..inner });
        }
        Tok::Op('%') => {
            let mut ahead = cursor.clone();
            ahead.next()?;
            if take_idle_segment(&mut ahead)? {
                *cursor = ahead;
                return operand(cursor, OperandContext { target: false, ..context });
            }
            if let Some(segment) = take_segment(&mut ahead)? {
                *cursor = ahead;
                let mut inner = operand(cursor, OperandContext { target: false, ..context })?;
                match &mut inner.parsed {
                    Parsed::Fixed(Operand::Mem(mem)) => mem.segment = Some(segment),
                    Parsed::Mem(open) => open.mem.segment = Some(segment),
                    _ => {
                        let message = "a segment goes before an address";
                        return Err(Diagnostic::error(Code::BadAddress, inner.span, message));
                    }
                }
                return Ok(Spanned { span: start.to(inner.span), ..inner });
            }
            let reg = register(cursor)?;
            let span = cursor.since(start);
            if context.target {
                let text = cursor.text_at(span);
                return Err(Diagnostic::error(
                    Code::OperandOrder,
                    span,
                    "an indirect target is marked with `*`",
                )
                .help(format!("write `*{text}`"))
                .replace_with(format!("*{text}")));
            }
            return Ok(Spanned { parsed: Parsed::Fixed(Operand::Reg(reg)), span });
        }
        Tok::Op('$') => {
            cursor.next()?;
            let expr = expr::parse(cursor, Atoms::Plain)?;
            let span = cursor.since(start);
            return Ok(Spanned { parsed: immediate(expr, span)?, span });
        }
        Tok::Op('[') => {
            return Err(Diagnostic::error(
                Code::OperandOrder,
                start,
                "this file writes addresses as `disp(base,index,scale)`",
            )
            .help("write `8(%rbx,%rcx,4)` for `[rbx + rcx*4 + 8]`"));
        }
        Tok::Word(word)
            if Reg::parse(cursor.arch(), word).is_some() && !is_symbol(cursor, word)? =>
        {
            return Err(Diagnostic::error(
                Code::OperandOrder,
                start,
                format!("in this file the register is written `%{word}`"),
            )
            .help("a file has one order of operands; `.operands` at its top can say which")
            .replace_with(format!("%{word}")));
        }
        _ => {}
    }
    let disp =
        if opens_registers(cursor)? { None } else { Some(expr::parse(cursor, Atoms::Plain)?) };
    let mut mem = Mem::absolute(0);
    let registers = opens_registers(cursor)?;
    if registers {
        self::registers(cursor, &mut mem)?;
    }
    let span = cursor.since(start);
    let parsed = match disp {
        Some(disp) if context.target && !registers => Parsed::Target(disp),
        disp => with_displacement(cursor.arch(), mem, disp, !registers, span)?,
    };
    Ok(Spanned { parsed, span })
}

/// Whether a word that a register is called by as well stands for a symbol: the file says so, or what follows does.
fn is_symbol(cursor: &Cursor, word: &str) -> Result<bool, Diagnostic> {
    let mut ahead = cursor.clone();
    ahead.next()?;
    Ok(cursor.names_symbol(word) || matches!(ahead.peek()?, Tok::Op('(' | '+' | '-' | '@')))
}

/// Whether the registers of an address come next, and not a parenthesis of an expression.
fn opens_registers(cursor: &mut Cursor) -> Result<bool, Diagnostic> {
    if cursor.peek()? != Tok::Op('(') {
        return Ok(false);
    }
    let mut ahead = cursor.clone();
    ahead.next()?;
    Ok(matches!(ahead.peek(), Ok(Tok::Op('%' | ','))))
}

/// Takes `%name`.
fn register(cursor: &mut Cursor) -> Result<Reg, Diagnostic> {
    let mark = cursor.expect('%', "before the register")?;
    let (token, span) = cursor.next()?;
    let Tok::Word(name) = token else {
        return Err(cursor.unexpected(token, span, "the name of a register"));
    };
    Reg::parse(cursor.arch(), name).ok_or_else(|| {
        let error =
            Diagnostic::error(Code::Syntax, mark.to(span), format!("no register `%{name}`"));
        match nearest(&name.to_ascii_lowercase(), Reg::names(cursor.arch())) {
            Some(near) => {
                error.help(format!("did you mean `%{near}`?")).replace_with(format!("%{near}"))
            }
            None => error.help("a name after `%` is always a register"),
        }
    })
}

/// Takes `(base,index,scale)`.
fn registers(cursor: &mut Cursor, mem: &mut Mem) -> Result<(), Diagnostic> {
    let open = cursor.expect('(', "to open the address")?;
    let arch = cursor.arch();
    let usable = |reg: Reg, span: Span| check_in_address(arch, reg, "%", span).map(|()| Some(reg));
    if cursor.peek()? == Tok::Op('%') {
        let (_, at) = cursor.peek_spanned()?;
        let reg = register(cursor)?;
        mem.base = usable(reg, cursor.since(at))?;
    }
    if cursor.eat(',')? {
        let (_, at) = cursor.peek_spanned()?;
        let reg = register(cursor)?;
        mem.index = usable(reg, cursor.since(at))?;
        if cursor.eat(',')? {
            let (_, at) = cursor.peek_spanned()?;
            let scale = expr::parse(cursor, Atoms::Plain)?;
            let at = cursor.since(at);
            mem.scale = match scale.constant() {
                Some(Ok(scale @ (1 | 2 | 4 | 8))) => scale as u8,
                _ => {
                    let message = "an index is scaled by 1, 2, 4 or 8";
                    return Err(Diagnostic::error(Code::BadAddress, at, message));
                }
            };
        }
    }
    let close = cursor.expect(')', "to close the address")?;
    // [r*2] alone is shorter as r + r.
    if mem.base.is_none() && mem.scale == 2 {
        (mem.base, mem.scale) = (mem.index, 1);
    }
    let twice_stack = mem.index.is_some_and(|index| index.number == 4) && mem.scale != 1;
    if twice_stack {
        let message = "the stack pointer cannot be scaled";
        return Err(Diagnostic::error(Code::BadAddress, open.to(close), message));
    }
    Ok(())
}

/// Puts parsed operands into the manual's order, with the widths that the word tells; the mnemonic
/// that is meant.
pub(crate) fn settle(
    arch: Arch,
    mnemonic: &'static str,
    spelling: Option<Spelling>,
    operands: &mut [Spanned],
    span: Span,
) -> Result<&'static str, Diagnostic> {
    if !keeps_order(mnemonic) {
        operands.reverse();
    }
    if let Some((mnemonic, width)) = written_out_string(arch, mnemonic, operands) {
        let spelling = Spelling { mnemonic, width: Some(width), destination: None };
        tell_widths(spelling, operands, span)?;
        return Ok(mnemonic);
    }
    // The string instructions share letters with the widening moves: `movsb` with operands is one of
    // those whose destination's letter is left out, and `movsl` without is a string's.
    let (mnemonic, spelling) = match mnemonic {
        "movsb" | "movsw" if !operands.is_empty() => {
            let width = if mnemonic == "movsb" { Width::W8 } else { Width::W16 };
            ("movsx", Some(Spelling { mnemonic: "movsx", width: Some(width), destination: None }))
        }
        "movsxd" if operands.is_empty() => ("movsd", None),
        // MOVQ between general registers and memory is MOV with its letter.
        "movq" if !operands.iter().any(is_vector) => {
            ("mov", Some(Spelling { mnemonic: "mov", width: Some(Width::W64), destination: None }))
        }
        _ => (mnemonic, spelling),
    };
    let immediate = |operand: &Spanned| {
        matches!(operand.parsed, Parsed::Imm(_) | Parsed::Fixed(Operand::Imm(_)))
    };
    let segment = |operand: &Spanned| matches!(operand.parsed, Parsed::Fixed(Operand::Reg(reg)) if reg.kind == RegKind::Segment);
    // Only with an immediate or a segment register are they instructions of their own names.
    let general = !operands.iter().all(|operand| immediate(operand) || segment(operand));
    let plain = match mnemonic {
        "pushw" if general => Some("push"),
        "popw" if general => Some("pop"),
        _ => None,
    };
    if let Some(mnemonic) = plain {
        let spelling = Spelling { mnemonic, width: Some(Width::W16), destination: None };
        tell_widths(spelling, operands, span)?;
        return Ok(mnemonic);
    }
    if let Some(spelling) = spelling {
        tell_widths(spelling, operands, span)?;
    }
    Ok(mnemonic)
}

/// The same of destination-first order, where compilers write `movsq es:[rdi], [rsi]`: the letter says the width that
/// memory has.
pub(crate) fn sized_string(
    arch: Arch,
    mnemonic: &'static str,
    operands: &mut [Spanned],
) -> Option<&'static str> {
    let (mnemonic, width) = written_out_string(arch, mnemonic, operands)?;
    for operand in operands {
        match &mut operand.parsed {
            Parsed::Fixed(Operand::Mem(mem)) => mem.width = mem.width.or(Some(width)),
            Parsed::Mem(open) => open.mem.width = open.mem.width.or(Some(width)),
            _ => {}
        }
    }
    Some(mnemonic)
}

/// The string instruction that a mnemonic with a letter means when its operands are memory alone.
fn written_out_string(
    arch: Arch,
    mnemonic: &str,
    operands: &[Spanned],
) -> Option<(&'static str, Width)> {
    let memory = |operand: &Spanned| {
        matches!(operand.parsed, Parsed::Mem(_) | Parsed::Fixed(Operand::Mem(_)))
    };
    if operands.is_empty() || !operands.iter().all(memory) {
        return None;
    }
    let (prefix, base) = mnemonic.rsplit_once(' ').map_or(("", mnemonic), |(p, base)| (p, base));
    let (stem, width) = match base.split_at_checked(4)? {
        ("movs", "xd") => ("movs", Width::W32),
        (stem, "b") => (stem, Width::W8),
        (stem, "w") => (stem, Width::W16),
        (stem, "d") => (stem, Width::W32),
        (stem, "q") => (stem, Width::W64),
        _ => return None,
    };
    if !["movs", "cmps", "stos", "lods", "scas"].contains(&stem) {
        return None;
    }
    let (mnemonic, _) = find_mnemonic(arch, format!("{prefix} {stem}").trim_start())?;
    Some((mnemonic, width))
}

fn is_vector(operand: &Spanned) -> bool {
    matches!(operand.parsed, Parsed::Fixed(Operand::Reg(reg)) if reg.id().is_some())
}

/// Gives memory the width that the mnemonic's letter tells, and holds registers to it.
fn tell_widths(spelling: Spelling, operands: &mut [Spanned], span: Span) -> Result<(), Diagnostic> {
    if spelling.width.is_none() && spelling.destination.is_none() {
        return Ok(());
    }
    let mut in_memory = false;
    for operand in operands.iter_mut() {
        let mem = match &mut operand.parsed {
            Parsed::Fixed(Operand::Mem(mem)) => mem,
            Parsed::Mem(open) => &mut open.mem,
            _ => continue,
        };
        mem.width = mem.width.or(spelling.width);
        in_memory = true;
    }
    let register = |index: usize| match operands.get(index)?.parsed {
        Parsed::Fixed(Operand::Reg(reg)) => Some((reg, operands[index].span)),
        _ => None,
    };
    // Beside memory a register may be a count; the encoder sees whether it fits.
    let widening = spelling.mnemonic.starts_with("movs") || spelling.mnemonic == "movzx";
    // The letter of CRC32 says how wide the source is.
    let of_source = spelling.mnemonic == "crc32";
    let converting = spelling.width.is_none();
    let checked = match (widening || of_source || converting, in_memory) {
        (true, _) => [register(0).zip(spelling.destination), register(1).zip(spelling.width)],
        (false, false) => [register(0).zip(spelling.width), None],
        (false, true) => [None, None],
    };
    for ((reg, at), wanted) in checked.into_iter().flatten() {
        // A port's number is always in DX.
        let port = matches!(spelling.mnemonic, "in" | "out");
        if reg.width() != wanted && reg.id().is_none() && !port {
            let (name, has, says) = (reg.name(), reg.width().bits(), wanted.bits());
            let message = format!("`%{name}` has {has} bits, and the mnemonic says {says}");
            return Err(Diagnostic::error(Code::NoSuchForm, at, message)
                .at(span, "b says 8 bits, w 16, l 32 and q 64"));
        }
    }
    Ok(())
}
