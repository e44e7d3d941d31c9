//! Instructions: from a mnemonic and operands as text to bytes, or to an instruction whose size is settled later.

use sotto_isa::x86::PREFIXES;
use sotto_isa::{
    Arch, Encoded, Mem, Operand, OperandContext, OperandOrder, Operands, Reg, Traits, Value, Width,
    encode, find_mnemonic, form_docs, unpredictable,
};

use sotto_object::has_mapping_symbols;

use crate::context::Assembler;
use crate::encode_diagnostics::{encode_diagnostic, nearest_instruction, unknown_word};
use crate::operands::parsed::{Parsed, Spanned, UnresolvedMem};
use crate::operands::{arm64, x86, x86_source_first};
use crate::sections::fragments::RelaxableInstruction;
use crate::text::hints;
use crate::text::lexer::{Cursor, Tok};
use crate::text::syntax::syntax;
use crate::{Code, Diagnostic, Expr, Span};

/// A word that is an instruction.
pub(crate) struct Found {
    /// As the table spells it.
    pub mnemonic: &'static str,
    pub context: OperandContext,
    /// What the word says beside, in source-first order.
    spelling: Option<sotto_isa::x86::Spelling>,
    /// The immediate that the word stands for: the comparison of `cmpltsd`.
    comparison: Option<u8>,
}

impl Found {
    /// Puts the operands into the table's order and gives them the widths that the word tells; the
    /// mnemonic that is meant.
    pub(crate) fn settle(
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
                address_of_operator(self.context.traits, operands);
                called_as_register(cursor, self, operands);
                sized_immediate(self.mnemonic, self.context.traits, operands, cursor)
            }
        };
        implied_operands(self.context.traits, operands);
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
        && syntax(arch).has_prefixes
    {
        let comparison = Some(number);
        let context = OperandContext::default();
        return Some(Found { mnemonic, context, spelling: None, comparison });
    }
    if order != OperandOrder::SourceFirst || !arch.has_source_first() {
        return None;
    }
    let spelling = sotto_isa::x86::spelling(arch, word)?;
    let (mnemonic, context) = find_mnemonic(arch, spelling.mnemonic)?;
    Some(Found { mnemonic, context, spelling: Some(spelling), comparison: None })
}

/// The instruction that starts with this word, which may be a prefix before the mnemonic, and where
/// its words stand.
pub(crate) fn take_instruction(
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
    let (Some(prefix), true) = (prefix, syntax(arch).has_prefixes) else { return Ok(None) };
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
pub(crate) fn parse_operands(
    cursor: &mut Cursor,
    context: OperandContext,
    operands: &mut Vec<Spanned>,
) -> Result<(), Diagnostic> {
    if cursor.peek()? == Tok::End {
        return Ok(());
    }
    loop {
        operands.push(match (cursor.arch(), cursor.order()) {
            (Arch::Arm64, _) => arm64::operand(cursor, context, operands.is_empty())?,
            (Arch::X86_64 | Arch::X86_32, OperandOrder::SourceFirst) => {
                x86_source_first::operand(cursor, context)?
            }
            (Arch::X86_64 | Arch::X86_32, OperandOrder::DestinationFirst) => {
                x86::operand(cursor, context)?
            }
        });
        if !cursor.eat(',')? {
            break;
        }
        if operands.len() == 5 {
            let (token, span) = cursor.peek_spanned()?;
            return Err(cursor.unexpected(token, span, "at most five operands"));
        }
    }
    match cursor.next()? {
        (Tok::End, _) => Ok(()),
        (token, span) => {
            let error = cursor.unexpected(token, span, "`,` or the end of the line");
            Err(match hints::meant_as_comment(cursor, token, span) {
                true => error.help(hints::comment_help(cursor)),
                false => error,
            })
        }
    }
}

/// Adds what compilers leave out: a shift without a count shifts by one, a double one by CL; a product with an
/// immediate goes back to its register.
pub(crate) fn implied_operands(traits: Traits, operands: &mut Vec<Spanned>) {
    if operands.len() == 1 && traits.contains(Traits::IMPLIED_COUNT_ONE) {
        let one = Parsed::Fixed(Operand::Imm(Value::Known(1)));
        operands.push(Spanned { parsed: one, span: operands[0].span });
    } else if operands.len() == 2 && traits.contains(Traits::IMPLIED_COUNT_CL) {
        let cl = Parsed::Fixed(Operand::Reg(Reg::x86(Width::W8, 1)));
        operands.push(Spanned { parsed: cl, span: operands[1].span });
    } else if let [register, factor] = &operands[..]
        && traits.contains(Traits::IMPLIED_SOURCE)
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
fn sized_immediate(
    mnemonic: &'static str,
    traits: Traits,
    operands: &[Spanned],
    cursor: &Cursor,
) -> &'static str {
    let [Spanned { parsed, span }] = operands else { return mnemonic };
    let immediate =
        matches!(parsed, Parsed::Imm(_) | Parsed::Offset(_) | Parsed::Fixed(Operand::Imm(_)));
    if !immediate || !traits.contains(Traits::SIZED_IMMEDIATE) {
        return mnemonic;
    }
    let text = cursor.text_at(*span);
    let is_word = text.get(..4).is_some_and(|word| word.eq_ignore_ascii_case("word"));
    let sized = || find_mnemonic(cursor.arch(), &format!("{mnemonic}w"));
    is_word.then(sized).flatten().map_or(mnemonic, |(sized, _)| sized)
}

/// Refuses a bare symbol where LEA takes an address.
pub(crate) fn check_address(
    found: &Found,
    operands: &[Spanned],
    cursor: &Cursor,
) -> Result<(), Diagnostic> {
    let [first, Spanned { parsed: Parsed::Imm(_), span }] = operands else { return Ok(()) };
    if !found.context.traits.contains(Traits::ADDRESS_ONLY)
        || cursor.order() == OperandOrder::SourceFirst
    {
        return Ok(());
    }
    let mnemonic = found.mnemonic;
    let (register, name) = (cursor.text_at(first.span), cursor.text_at(*span));
    Err(Diagnostic::error(
        Code::NoSuchForm,
        *span,
        format!("`{mnemonic}` takes an address in brackets"),
    )
    .help(format!("write `{mnemonic} {register}, [{name}]`"))
    .replace_with(format!("[{name}]")))
}

/// Whether an instruction would take its two operands the other way round.
pub(crate) fn swapped_operands(arch: Arch, mnemonic: &str, operands: &Operands) -> bool {
    match operands[..] {
        [a @ Operand::Imm(_), b] if arch.has_source_first() => {
            encode(arch, mnemonic, &[b, a], 0).is_ok()
        }
        _ => false,
    }
}

/// `call ax`: no call goes to a register of that width, so it is to a function of this name.
pub(crate) fn called_as_register(cursor: &Cursor, found: &Found, operands: &mut [Spanned]) {
    let [Spanned { parsed, span }] = operands else { return };
    if let Parsed::Fixed(Operand::Reg(reg)) = parsed
        && found.context.target
        && reg.width() != cursor.arch().address_width()
        && !found.context.traits.contains(Traits::TARGET_IS_16_BITS)
    {
        *parsed = Parsed::Target(Expr::Symbol(cursor.text_at(*span).into(), *span));
    }
}

/// `lea eax, x@ntpoff`: an operand with an operator is memory there, as compilers write it.
pub(crate) fn address_of_operator(traits: Traits, operands: &mut [Spanned]) {
    let [_, Spanned { parsed, .. }] = operands else { return };
    if let Parsed::Imm(disp) = parsed
        && disp.via().is_some()
        && traits.contains(Traits::ADDRESS_ONLY)
    {
        let mem = Mem { disp: Value::Unresolved, ..Mem::absolute(0) };
        let disp = disp.clone();
        *parsed =
            Parsed::Mem(Box::new(UnresolvedMem { mem, disp, x86_plain: true, relative: false }));
    }
}

impl Assembler<'_> {
    /// The instruction that the word names here.
    pub(crate) fn find_instruction(&self, word: &str) -> Option<Found> {
        find_instruction(self.arch, self.order, word)
    }

    pub(crate) fn instruction(
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

    pub(crate) fn instruction_with(
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
        if has_mapping_symbols(self.arch) {
            self.section().mark_kind(true);
        }
        check_address(found, operands, cursor)?;
        self.check_interrupt(found.context.traits, operands);
        self.take_literals(found.context.traits, operands)?;
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
            if let Some(reason) = unpredictable(self.arch, encoded.form, &fixed) {
                let message =
                    format!("`{mnemonic}` with these operands is unpredictable: {reason}");
                let whole = operands.iter().fold(span, |whole, operand| whole.to(operand.span));
                let warning = Diagnostic::error(Code::Unpredictable, whole, message).warning();
                self.report(warning.help("use different registers"));
                // Each line of this kind is told of.
                self.key = None;
            }
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
        let open = RelaxableInstruction {
            mnemonic,
            traits: found.context.traits,
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
    pub(crate) fn check_interrupt(&mut self, traits: Traits, operands: &[Spanned]) {
        let [Spanned { parsed: Parsed::Fixed(Operand::Imm(Value::Known(80))), span }] = operands
        else {
            return;
        };
        if traits.contains(Traits::INTERRUPT) {
            let message = "the kernel is called by interrupt 0x80, and this is 80";
            let warning = Diagnostic::error(Code::OutOfRange, *span, message).warning();
            self.report(warning.help("write `int 0x80`").replace_with("0x80"));
        }
    }

    /// Warns of the first instruction in a section that is not executed.
    pub(crate) fn check_executable(&mut self, span: Span) {
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
    pub(crate) fn swapped_text(
        &self,
        found: &Found,
        operands: &[Spanned],
        cursor: &Cursor,
    ) -> String {
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
}
