//! Unwind directives (`.cfi_*`): those of the DWARF call frame information, one rule each.

use sotto_isa::Reg;
use sotto_object::UnwindRule;

use crate::context::Assembler;
use crate::directives::data;
use crate::sections::unwind_tables::{Pointer, Table};
use crate::text::expr;
use crate::text::expr::Atoms;
use crate::text::lexer::{Cursor, Tok};
use crate::{Code, Diagnostic, Span};

/// What a directive takes.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) enum Directive {
    Start,
    End,
    Frame,
    FrameRegister,
    FrameOffset,
    AdjustFrameOffset,
    Stored,
    StoredFromStack,
    Restored,
    Same,
    Lost,
    InRegister,
    Remember,
    Recall,
    /// A rule in DWARF's own bytes.
    Escape,
    Personality,
    Exceptions,
    /// Says something that we do not write.
    Ignored,
}

pub(crate) const DIRECTIVES: &[(&str, Directive)] = &[
    (".cfi_startproc", Directive::Start),
    (".cfi_endproc", Directive::End),
    (".cfi_def_cfa", Directive::Frame),
    (".cfi_def_cfa_register", Directive::FrameRegister),
    (".cfi_def_cfa_offset", Directive::FrameOffset),
    (".cfi_adjust_cfa_offset", Directive::AdjustFrameOffset),
    (".cfi_offset", Directive::Stored),
    (".cfi_rel_offset", Directive::StoredFromStack),
    (".cfi_restore", Directive::Restored),
    (".cfi_same_value", Directive::Same),
    (".cfi_undefined", Directive::Lost),
    (".cfi_register", Directive::InRegister),
    (".cfi_remember_state", Directive::Remember),
    (".cfi_restore_state", Directive::Recall),
    (".cfi_escape", Directive::Escape),
    (".cfi_personality", Directive::Personality),
    (".cfi_lsda", Directive::Exceptions),
    (".cfi_sections", Directive::Ignored),
    (".cfi_window_save", Directive::Ignored),
    (".cfi_negate_ra_state", Directive::Ignored),
    (".cfi_signal_frame", Directive::Ignored),
    (".cfi_return_column", Directive::Ignored),
    (".cfi_b_key_frame", Directive::Ignored),
];

/// Carries out the directive.
pub(crate) fn run(
    assembler: &mut Assembler,
    directive: Directive,
    word: &str,
    span: Span,
    cursor: &mut Cursor,
) -> Result<(), Diagnostic> {
    let here = assembler.here();
    match directive {
        Directive::Ignored => {
            cursor.rest();
            return Ok(());
        }
        Directive::Start => {
            // `simple` leaves out rules that we write in any case.
            cursor.rest();
            if let Some(open) = &assembler.unwind.open {
                let message = "the routine before is not closed";
                return Err(Diagnostic::error(Code::Unwind, span, message)
                    .at(open.span, "opened here")
                    .help("close it with `.cfi_endproc`"));
            }
            let frame_offset = assembler.arch.return_address_slot() as i64;
            assembler.unwind.open = Some(Table {
                span,
                from: here,
                to: here,
                rules: Vec::new(),
                frame_offset,
                personality: None,
                exceptions: None,
            });
            return Ok(());
        }
        _ => {}
    }
    let not_open = || {
        Diagnostic::error(Code::Unwind, span, format!("`{word}` stands outside a routine"))
            .help("open the routine with `.cfi_startproc`")
    };
    if directive == Directive::End {
        let mut table = assembler.unwind.open.take().ok_or_else(not_open)?;
        cursor.expect_end("after `.cfi_endproc`")?;
        if table.from.section != here.section {
            let message = "the routine ends in another section than it began";
            return Err(Diagnostic::error(Code::Unwind, span, message).at(table.span, "begun here"));
        }
        table.to = here;
        assembler.unwind.tables.push(table);
        return Ok(());
    }
    let Some(offset_now) = assembler.unwind.open.as_ref().map(|table| table.frame_offset) else {
        return Err(not_open());
    };
    if let Directive::Personality | Directive::Exceptions = directive {
        let pointer = pointer(assembler, cursor)?;
        cursor.expect_end(&format!("after `{word}`"))?;
        if let Some(table) = &mut assembler.unwind.open {
            match directive {
                Directive::Personality => table.personality = pointer,
                _ => table.exceptions = pointer,
            }
        }
        return Ok(());
    }
    let rule = match directive {
        Directive::Frame => {
            let register = register(assembler, cursor)?;
            cursor.expect(',', "after the register")?;
            UnwindRule::Frame(register, offset(assembler, cursor)?)
        }
        Directive::FrameRegister => UnwindRule::FrameRegister(register(assembler, cursor)?),
        Directive::FrameOffset => UnwindRule::FrameOffset(offset(assembler, cursor)?),
        Directive::AdjustFrameOffset => {
            UnwindRule::FrameOffset(offset_now.saturating_add(offset(assembler, cursor)?))
        }
        Directive::Stored | Directive::StoredFromStack => {
            let register = register(assembler, cursor)?;
            cursor.expect(',', "after the register")?;
            let given = offset(assembler, cursor)?;
            let from_stack = directive == Directive::StoredFromStack;
            let base = if from_stack { offset_now } else { 0 };
            UnwindRule::Stored(register, given.saturating_sub(base))
        }
        Directive::Restored => UnwindRule::Restored(register(assembler, cursor)?),
        Directive::Same => UnwindRule::Same(register(assembler, cursor)?),
        Directive::Lost => UnwindRule::Lost(register(assembler, cursor)?),
        Directive::InRegister => {
            let register = self::register(assembler, cursor)?;
            cursor.expect(',', "after the register")?;
            UnwindRule::InRegister(register, self::register(assembler, cursor)?)
        }
        Directive::Escape => match escape(assembler, span, cursor)? {
            Some(rule) => rule,
            None => return Ok(()),
        },
        Directive::Remember => UnwindRule::Remember,
        _ => UnwindRule::Recall,
    };
    cursor.expect_end(&format!("after `{word}`"))?;
    if let Some(table) = &mut assembler.unwind.open {
        if let UnwindRule::Frame(_, offset) | UnwindRule::FrameOffset(offset) = rule {
            table.frame_offset = offset;
        }
        table.rules.push((here, rule));
    }
    Ok(())
}

/// `ENCODING, PLACE`, as the LSB describes the pointers of unwind tables; 255 says that there is none.
fn pointer(assembler: &mut Assembler, cursor: &mut Cursor) -> Result<Option<Pointer>, Diagnostic> {
    let (encoding, span) = data::number(assembler, cursor)?;
    let encoding = u8::try_from(encoding).map_err(|_| {
        Diagnostic::error(Code::OutOfRange, span, format!("{encoding} is no encoding of a pointer"))
            .label("must be 0 to 255")
    })?;
    if encoding == 0xff {
        return Ok(None);
    }
    cursor.expect(',', "after the encoding")?;
    let (_, start) = cursor.peek_spanned()?;
    let mut expr = expr::parse(cursor, Atoms::Plain)?;
    assembler.bind_names(&mut expr);
    Ok(Some(Pointer { encoding, expr, context: assembler.context(), span: cursor.since(start) }))
}

/// A register by name, with or without `%`, or by its number in DWARF.
fn register(assembler: &Assembler, cursor: &mut Cursor) -> Result<u16, Diagnostic> {
    cursor.eat('%')?;
    let (token, span) = cursor.next()?;
    let number = match token {
        Tok::Word(name) => {
            let reg = Reg::parse(assembler.arch, name);
            reg.and_then(|reg| reg.dwarf_number(assembler.arch))
        }
        Tok::Num(number) => u16::try_from(number).ok().filter(|number| *number < 128),
        _ => None,
    };
    number.ok_or_else(|| cursor.unexpected(token, span, "a register or its number in DWARF"))
}

/// The rule of `.cfi_escape`, which gives an instruction byte by byte: one with an expression, for which there
/// is no directive. Source: DWARF 5, 7.24 "Call Frame Information"; LSB Core, "DWARF Extensions".
fn escape(
    assembler: &mut Assembler,
    span: Span,
    cursor: &mut Cursor,
) -> Result<Option<UnwindRule>, Diagnostic> {
    let mut bytes = Vec::new();
    loop {
        let (value, at) = data::number(assembler, cursor)?;
        let byte = u8::try_from(value).map_err(|_| {
            Diagnostic::error(Code::OutOfRange, at, format!("{value} is no byte"))
                .label("must be 0 to 255")
        })?;
        bytes.push(byte);
        if !cursor.eat(',')? {
            break;
        }
    }
    let expression = |rest: &[u8]| match rest {
        [length, rest @ ..] if *length < 128 && usize::from(*length) == rest.len() => {
            Some(rest.to_vec())
        }
        _ => None,
    };
    let rule = match *bytes.as_slice() {
        [0x0f, ref rest @ ..] => expression(rest).map(UnwindRule::FrameExpression),
        [0x10, register, ref rest @ ..] if register < 128 => {
            expression(rest).map(|bytes| UnwindRule::StoredExpression(register.into(), bytes))
        }
        [0x16, register, ref rest @ ..] if register < 128 => {
            expression(rest).map(|bytes| UnwindRule::ValueExpression(register.into(), bytes))
        }
        // The size of a call's arguments, which nothing here asks for.
        [0x2e, ..] => return Ok(None),
        _ => None,
    };
    rule.map(Some).ok_or_else(|| {
        Diagnostic::error(Code::Unwind, span, "these bytes are no rule with an expression")
            .help("other rules have directives: `.cfi_offset`, `.cfi_def_cfa` and so on")
    })
}

fn offset(assembler: &mut Assembler, cursor: &mut Cursor) -> Result<i64, Diagnostic> {
    let (value, span) = data::number(assembler, cursor)?;
    i32::try_from(value).map(i64::from).map_err(|_| {
        Diagnostic::error(Code::OutOfRange, span, format!("{value} is no offset in a frame"))
            .label("must be -2147483648 to 2147483647")
    })
}

impl Assembler<'_> {
    /// Reports a routine that was opened for unwinding and not closed.
    pub(crate) fn close_unwind(&mut self) {
        // What follows was not read after too many errors.
        if let Some(open) = self.unwind.open.take()
            && !self.stopped
        {
            let error = Diagnostic::error(Code::Unwind, open.span, "the routine is not closed");
            self.report(error.help("close it with `.cfi_endproc` after its last instruction"));
        }
    }
}
