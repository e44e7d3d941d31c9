//! A64 operands.

use sotto_isa::{Arch, IndexMode, Mem, Named, Operand, OperandContext, Reg, Value, arm64};

use super::arm64_vector;

use crate::operands::parsed::{Modifier, Parsed, Spanned, UnresolvedMem, peek_modifier, value_of};
use crate::symbols::{misspelt_register, shown};
use crate::text::expr;
use crate::text::expr::{Atoms, Via};
use crate::text::lexer::{Cursor, Tok};
use crate::text::suggest::nearest;
use crate::{Code, Diagnostic, Expr, Span};

/// Parses one operand.
pub(crate) fn operand(
    cursor: &mut Cursor,
    context: OperandContext,
    is_first: bool,
) -> Result<Spanned, Diagnostic> {
    let (token, start) = cursor.peek_spanned()?;
    match token {
        Tok::Op('[') => return memory(cursor, start),
        Tok::Op('{') => return arm64_vector::list(cursor, start),
        Tok::Op('=') => {
            cursor.next()?;
            let expr = expr::parse(cursor, Atoms::Plain)?;
            return Ok(Spanned { parsed: Parsed::Literal(expr), span: cursor.since(start) });
        }
        Tok::Word(word) => {
            if let Some((reg, suffix)) = arm64_vector::register(cursor, word) {
                cursor.next()?;
                return arm64_vector::cut(cursor, reg, suffix, start);
            }
            if let Some(reg) = cursor.register(word)
                && !is_symbol(cursor, context, is_first)?
            {
                cursor.next()?;
                return register(cursor, reg, start);
            }
            if context.condition
                && let Some(cond) = arm64::condition_by_name(&word.to_ascii_lowercase())
            {
                cursor.next()?;
                return Ok(Spanned { parsed: Parsed::Fixed(Operand::Cond(cond)), span: start });
            }
            if let Some(named) = named(context, word) {
                cursor.next()?;
                return Ok(Spanned { parsed: Parsed::Fixed(Operand::Named(named)), span: start });
            }
            if let Some(error) = no_register(context, word, start) {
                return Err(error);
            }
        }
        _ => {}
    }
    let marked = cursor.eat('#')?;
    if let Some((value, at)) = cursor.float() {
        let parsed = Parsed::Fixed(Operand::Float(value.to_bits()));
        return Ok(Spanned { parsed, span: start.to(at) });
    }
    let expr = value(cursor)?;
    let span = cursor.since(start);
    if context.page {
        return Ok(Spanned { parsed: Parsed::Page(expr), span });
    }
    // A target is the last operand; the number of a bit stands before one.
    if context.target && !marked && cursor.peek()? != Tok::Op(',') {
        return Ok(Spanned { parsed: Parsed::Target(expr), span });
    }
    if let Some(amount) = arm64_vector::ones_shift_after(cursor)? {
        let span = cursor.since(start);
        let Some(Ok(number)) = expr.constant() else {
            let message = "a number before `msl` is known where it stands";
            return Err(Diagnostic::error(Code::NotConstant, span, message));
        };
        let operand = Operand::ShiftedOnes(value_of(number, span)?, amount);
        return Ok(Spanned { parsed: Parsed::Fixed(operand), span });
    }
    // The operator says which part of the value it is, and with it the shift.
    if let Some(Via::MovePart { part, .. }) = expr.via() {
        return Ok(Spanned { parsed: Parsed::ShiftedImm(expr, 16 * part), span });
    }
    if let Some(shift) = shift_after(cursor)? {
        return Ok(Spanned { parsed: Parsed::ShiftedImm(expr, shift), span: cursor.since(start) });
    }
    let parsed = match expr {
        Expr::Number(number) => Parsed::Fixed(Operand::Imm(value_of(number, span)?)),
        expr => Parsed::Imm(expr),
    };
    Ok(Spanned { parsed, span })
}

/// Whether a register's name stands for a symbol here: the page of ADRP, and the target of a branch that takes nothing
/// else, are never registers, and no last operand is a vector register where a target may stand.
fn is_symbol(cursor: &Cursor, context: OperandContext, is_first: bool) -> Result<bool, Diagnostic> {
    let mut ahead = cursor.clone();
    let (token, _) = ahead.next()?;
    let is_vector = match token {
        Tok::Word(word) => cursor.register(word).is_some_and(Reg::is_a64_vector),
        _ => false,
    };
    let last = ahead.peek()? == Tok::End;
    Ok(last && (context.page || (context.target && (is_first || is_vector))))
}

/// What the word names, of the kinds that the instruction takes.
fn named(context: OperandContext, word: &str) -> Option<Named> {
    if context.names == 0 {
        return None;
    }
    let mut names = Named::by_name(&word.to_ascii_lowercase()).into_iter();
    names.find(|named| context.names & named.kind_mask() != 0)
}

/// The error for a word of MRS or MSR, which take registers only. A word that is or resembles a general register is left
/// to the lookup of symbols, which tells so.
fn no_register(context: OperandContext, word: &str, span: Span) -> Option<Diagnostic> {
    let is_register = |arch: &Arch| Reg::parse(*arch, word).is_some();
    if !context.only_system_registers() || Arch::ALL.iter().any(is_register) {
        return None;
    }
    let message = format!("no register `{}`", shown(word));
    let error = Diagnostic::error(Code::UndefinedSymbol, span, message);
    if misspelt_register(Arch::Arm64, word, &error).is_some() {
        return None;
    }
    Some(match nearest(&word.to_ascii_lowercase(), Named::system_registers()) {
        Some(near) => error.help(format!("did you mean `{near}`?")).replace_with(near),
        None => error.help(
            "a system register without a name is written by its fields, as in `s3_3_c13_c0_2`",
        ),
    })
}

/// An expression, or a part of one: `:lo12:symbol`.
fn value(cursor: &mut Cursor) -> Result<Expr, Diagnostic> {
    if !cursor.eat(':')? {
        return expr::parse(cursor, Atoms::Plain);
    }
    let via = Via::prefix(cursor)?;
    Ok(Expr::Via(via, Box::new(expr::parse(cursor, Atoms::Plain)?)))
}

/// Whether nothing follows the next word: a shift needs its amount, so that the word is a symbol.
fn ends_after_word(cursor: &Cursor) -> Result<bool, Diagnostic> {
    let mut ahead = cursor.clone();
    ahead.next()?;
    Ok(ahead.peek()? == Tok::End)
}

/// Takes `, lsl #n` after an immediate, if it is there.
fn shift_after(cursor: &mut Cursor) -> Result<Option<u8>, Diagnostic> {
    let mut ahead = cursor.clone();
    if !ahead.eat(',')? {
        return Ok(None);
    }
    let Some(Modifier::Shift(sotto_isa::Shift::Lsl)) = peek_modifier(&mut ahead) else {
        return Ok(None);
    };
    ahead.next()?;
    *cursor = ahead;
    amount(cursor).map(Some)
}

/// A shift amount, with or without `#`.
fn amount(cursor: &mut Cursor) -> Result<u8, Diagnostic> {
    cursor.eat('#')?;
    let (_, start) = cursor.peek_spanned()?;
    let expr = expr::parse(cursor, Atoms::Plain)?;
    let span = cursor.since(start);
    match expr.constant() {
        Some(Ok(amount @ 0..=63)) => Ok(amount as u8),
        _ => Err(Diagnostic::error(
            Code::OutOfRange,
            span,
            "a shift amount is a number from 0 to 63",
        )),
    }
}

/// A register, with the shift or extension that may follow it.
fn register(cursor: &mut Cursor, reg: Reg, start: Span) -> Result<Spanned, Diagnostic> {
    let mut ahead = cursor.clone();
    let mut operand = Operand::Reg(reg);
    if ahead.eat(',')?
        && let Some(modifier) = peek_modifier(&mut ahead)
        && !(matches!(modifier, Modifier::Shift(_)) && ends_after_word(&ahead)?)
    {
        ahead.next()?;
        *cursor = ahead;
        operand = match modifier {
            Modifier::Shift(shift) => Operand::Shifted(reg, shift, amount(cursor)?),
            Modifier::Extend(extend) => {
                let bare = matches!(cursor.peek()?, Tok::End | Tok::Op(','));
                Operand::Extended(reg, extend, if bare { 0 } else { amount(cursor)? })
            }
        };
    }
    Ok(Spanned { parsed: Parsed::Fixed(operand), span: cursor.since(start) })
}

fn memory(cursor: &mut Cursor, start: Span) -> Result<Spanned, Diagnostic> {
    cursor.next()?; // the bracket
    let (token, at) = cursor.next()?;
    let base = match token {
        Tok::Word(word) => cursor.register(word),
        _ => None,
    };
    let Some(base) = base else {
        let error = cursor.unexpected(token, at, "a base register after `[`");
        return Err(error.help("load the address into a register first: `adr x0, label`"));
    };
    let mut mem = Mem::base_disp(base, 0);
    let mut disp = None;
    if cursor.eat(',')? {
        let (token, at) = cursor.peek_spanned()?;
        let index = match token {
            Tok::Word(word) => cursor.register(word),
            _ => None,
        };
        match index {
            Some(index) => {
                cursor.next()?;
                mem.index = Some(index);
                if cursor.eat(',')? {
                    index_modifier(cursor, &mut mem)?;
                }
            }
            None => disp = Some((offset(cursor)?, at)),
        }
    }
    cursor.expect(']', "to close the address")?;
    if cursor.eat('!')? {
        mem.mode = IndexMode::Pre;
    } else if disp.is_none() && mem.index.is_none() {
        let mut ahead = cursor.clone();
        if ahead.eat(',')? {
            let (token, at) = ahead.peek_spanned()?;
            let by = match token {
                Tok::Word(word) => ahead.register(word),
                _ => None,
            };
            match by {
                Some(by) => {
                    ahead.next()?;
                    mem.index = Some(by);
                }
                None => disp = Some((offset(&mut ahead)?, at)),
            }
            *cursor = ahead;
            mem.mode = IndexMode::Post;
        }
    }
    let span = cursor.since(start);
    let parsed = match disp {
        None => Parsed::Fixed(Operand::Mem(mem)),
        Some((Expr::Number(number), at)) => {
            mem.disp = value_of(number, at)?;
            Parsed::Fixed(Operand::Mem(mem))
        }
        Some((disp, _)) => {
            mem.disp = Value::Unresolved;
            Parsed::Mem(Box::new(UnresolvedMem { mem, disp, x86_plain: false, relative: false }))
        }
    };
    Ok(Spanned { parsed, span })
}

fn offset(cursor: &mut Cursor) -> Result<Expr, Diagnostic> {
    cursor.eat('#')?;
    value(cursor)
}

fn index_modifier(cursor: &mut Cursor, mem: &mut Mem) -> Result<(), Diagnostic> {
    let (token, at) = cursor.peek_spanned()?;
    match peek_modifier(cursor) {
        Some(Modifier::Shift(sotto_isa::Shift::Lsl)) => {
            cursor.next()?;
            let amount = amount(cursor)?;
            (mem.scale, mem.shows_shift) = (scale(amount, at)?, amount == 0);
        }
        Some(Modifier::Extend(extend)) => {
            cursor.next()?;
            mem.extend = Some(extend);
            if cursor.peek()? != Tok::Op(']') {
                let amount = amount(cursor)?;
                (mem.scale, mem.shows_shift) = (scale(amount, at)?, amount == 0);
            }
        }
        _ => {
            return Err(cursor.unexpected(
                token,
                at,
                "`lsl`, `uxtw` or `sxtw` after the index register",
            ));
        }
    }
    Ok(())
}

fn scale(amount: u8, at: Span) -> Result<u8, Diagnostic> {
    if amount > 4 {
        let message = "an index is shifted by 0 to 4";
        return Err(Diagnostic::error(Code::OutOfRange, at, message));
    }
    Ok(1 << amount)
}
