//! What the encoder refuses, and what it takes with a doubt, put into words with places and remedies.

use sotto_isa::{
    Access, Arch, EncodeError, Operand, OperandOrder, Reg, RegKind, Traits, Width, is_unmodelled,
    memory_access, mnemonics,
};
use sotto_object::DatumKind;

use crate::directives::table;
use crate::operands::parsed::{Parsed, Spanned};
use crate::sections::fragments::RelaxableInstruction;
use crate::symbols::{Evaluator, shown};
use crate::text::hints;
use crate::text::suggest::nearest;
use crate::text::syntax::syntax;
use crate::{Code, Diagnostic, Span};

/// An error of the encoder, with its place.
pub(crate) fn encode_diagnostic(
    error: EncodeError,
    span: Span,
    operands: &[Spanned],
    order: OperandOrder,
) -> Diagnostic {
    let source_first = order == OperandOrder::SourceFirst;
    let at = |operand: usize| operands.get(operand).map_or(span, |o| o.span);
    let whole = operands.iter().fold(span, |whole, operand| whole.to(operand.span));
    let message = error.to_string();
    match error {
        EncodeError::NoSuchForm { mnemonic, forms, .. } => {
            let mut lines: Vec<String> = Vec::new();
            for form in forms {
                let line = format!("{mnemonic} {form}").trim_end().to_string();
                if !lines.contains(&line) {
                    lines.push(line);
                }
            }
            let shown = 8;
            let more = lines.len().saturating_sub(shown);
            lines.truncate(shown);
            let manner = if source_first { "it goes, destination first," } else { "it goes" };
            let mut text = format!("{manner}\n  {}", lines.join("\n  "));
            if more > 0 {
                text += &format!("\nand {more} more; `sotto explain {mnemonic}` lists them all");
            }
            let error = Diagnostic::error(Code::NoSuchForm, whole, message).note(text);
            if let Some(help) = arm64_help(&lines, operands) {
                return error.help(help);
            }
            let takes_whole = lines.iter().any(|line| line.contains("64"));
            if let (Some(name), true) = (whole_register(operands), takes_whole) {
                return error.help(format!("in 64-bit code it takes the whole register, `{name}`"));
            }
            let in_memory = |operand: &Spanned| {
                matches!(operand.parsed, Parsed::Mem(_) | Parsed::Fixed(Operand::Mem(_)))
            };
            if operands.len() == 2 && operands.iter().all(in_memory) {
                return error.help(hints::BOTH_IN_MEMORY);
            }
            match register_widths(operands) {
                Some((a, b)) => error.help(format!("`{a}` and `{b}` differ in width; use names of one width")),
                None => error,
            }
        }
        EncodeError::NotAFloatImmediate { operand, rule, .. } => {
            Diagnostic::error(Code::OutOfRange, at(operand), message).note(rule)
        }
        EncodeError::OutOfRange { operand, value, range, rule: Some(rule) }
            if range.contains(&value) && rule.starts_with("and ") =>
        {
            let message = format!("{value} is not an offset that this instruction can hold");
            let (start, end) = (range.start(), range.end());
            Diagnostic::error(Code::OutOfRange, at(operand), message)
                .note(format!("it is {start} to {end}, {rule}"))
        }
        EncodeError::OutOfRange { operand, value, range, rule: Some(rule) } if range.contains(&value) => {
            let message = format!("{value} is not an immediate that this instruction can hold");
            let error = Diagnostic::error(Code::OutOfRange, at(operand), message).note(rule);
            match (rule.starts_with("MOV"), operands) {
                (true, [Spanned { parsed: Parsed::Fixed(Operand::Reg(reg)), .. }, _]) => {
                    error.help(format!("write `ldr {}, ={value:#x}`, which loads it from a literal pool", reg.name()))
                }
                (false, _) if rule.starts_with("the immediate must be a run") => {
                    error.help(format!("put it into a register first: `mov x9, #{value}`, or `ldr x9, ={value:#x}`"))
                }
                _ => error,
            }
        }
        EncodeError::OutOfRange { operand, range, rule, .. } => {
            let error = Diagnostic::error(Code::OutOfRange, at(operand), message)
                .label(format!("must be {} to {}", range.start(), range.end()));
            match rule {
                Some(rule) => error.note(rule),
                None => error,
            }
        }
        EncodeError::SizeUnknown { operand } => {
            Diagnostic::error(Code::SizeUnknown, at(operand), message)
                .label("1, 2, 4 or 8 bytes?")
                .help(match source_first {
                    false => "write byte, word, dword or qword before the bracket",
                    true => "add b, w, l or q to the mnemonic",
                })
        }
        EncodeError::HighByteWithRex { .. } => Diagnostic::error(Code::HighByte, whole, message)
            .help("move the high byte to another register first, or use registers without a REX prefix"),
        EncodeError::BadAddress { operand, .. } => {
            Diagnostic::error(Code::BadAddress, at(operand), message)
        }
        _ => Diagnostic::error(Code::UnknownInstruction, span, message),
    }
}

/// What is meant by operands that A64 has in another way: an index that needs an extension, a label that is moved, number 31
/// beside an immediate.
fn arm64_help(forms: &[String], operands: &[Spanned]) -> Option<String> {
    let register = |operand: &Spanned| match operand.parsed {
        Parsed::Fixed(Operand::Reg(reg)) => Some(reg),
        _ => None,
    };
    let index = operands.iter().find_map(|operand| match operand.parsed {
        Parsed::Fixed(Operand::Mem(mem)) => Some((mem, mem.index?)),
        _ => None,
    });
    if let Some((mem, index)) = index
        && index.kind == RegKind::W
        && mem.extend.is_none()
    {
        let amount = mem.scale.trailing_zeros();
        let amount = if amount == 0 { String::new() } else { format!(" #{amount}") };
        let (base, index) = (mem.base?.name(), index.name());
        return Some(format!(
            "a 32-bit index is extended: `[{base}, {index}, uxtw{amount}]`, or `sxtw` if it can be negative"
        ));
    }
    match operands {
        [to, Spanned { parsed: Parsed::Imm(_), .. }] => {
            let to = register(to).filter(|reg| reg.kind == RegKind::X)?.name();
            Some(format!(
                "`adr {to}, label` computes the address of a label nearby, `ldr {to}, =label` loads any"
            ))
        }
        [_, .., Spanned { parsed: Parsed::Fixed(Operand::Imm(_)), .. }] => {
            let named = operands
                .iter()
                .filter_map(register)
                .any(|reg| matches!(reg.kind, RegKind::X | RegKind::W) && reg.number == 31);
            let takes_sp = forms.iter().any(|form| form.contains("|sp, #imm12"));
            (named && takes_sp).then(|| {
                "beside an immediate number 31 is the stack pointer and not zero: put 0 into another register with `mov`"
                    .to_string()
            })
        }
        _ => None,
    }
}

/// The 64-bit name of a 32-bit register that stands alone: `push eax` means `push rax`.
fn whole_register(operands: &[Spanned]) -> Option<&'static str> {
    match operands {
        [Spanned { parsed: Parsed::Fixed(Operand::Reg(reg)), .. }]
            if reg.kind == RegKind::Dword =>
        {
            Some(Reg::x86(Width::W64, reg.number).name())
        }
        _ => None,
    }
}

/// Two register operands of different width, if that is what the operands are.
fn register_widths(operands: &[Spanned]) -> Option<(&'static str, &'static str)> {
    let regs: Vec<Reg> = operands
        .iter()
        .filter_map(|operand| match operand.parsed {
            Parsed::Fixed(Operand::Reg(reg)) => Some(reg),
            _ => None,
        })
        .collect();
    match regs[..] {
        [a, b, ..] if a.id().is_some() != b.id().is_some() => None,
        [a, b, ..] if a.width() != b.width() => Some((a.name(), b.name())),
        _ => None,
    }
}

/// The instruction nearest to a misspelt one.
pub(crate) fn nearest_instruction(arch: Arch, word: &str) -> Option<&'static str> {
    nearest(&word.to_ascii_lowercase(), mnemonics(arch).iter().copied())
}

/// Another machine that has an instruction of this name.
pub(crate) fn machine_of(arch: Arch, word: &str) -> Option<Arch> {
    let lower = word.to_ascii_lowercase();
    let has = |other: &Arch| mnemonics(*other).binary_search(&lower.as_str()).is_ok();
    Arch::ALL.iter().copied().find(|other| *other != arch && has(other))
}

/// An error for a word that starts a statement and means nothing; `near` is the word that it could have been.
pub(crate) fn unknown_word(arch: Arch, word: &str, span: Span, near: Option<&str>) -> Diagnostic {
    let lower = word.to_ascii_lowercase();
    if word.starts_with('.') {
        let error =
            Diagnostic::error(Code::UnknownDirective, span, format!("no directive `{word}`"));
        return match nearest(&lower, table::names()) {
            Some(near) => error.help(format!("did you mean `{near}`?")).replace_with(near),
            None => error,
        };
    }
    if is_unmodelled(arch, word) {
        let message = format!("`{word}` is an instruction of {arch} that is not modelled yet");
        return Diagnostic::error(Code::UnknownInstruction, span, message);
    }
    let message = format!("no instruction `{word}` on {arch}");
    let error = Diagnostic::error(Code::UnknownInstruction, span, message);
    // A name that another machine has is more likely than a slip of the finger.
    if let Some(other) = machine_of(arch, word) {
        let error = error.note(format!("`{lower}` is an instruction of {other}"));
        let counterpart = syntax(arch).counterparts.iter().find(|(name, _)| *name == lower);
        return match counterpart {
            Some((_, help)) => error.help(*help),
            None => error
                .help(format!("if the file is for {other}, write `.target {other}` at its top or give `--target {other}`")),
        };
    }
    match near {
        Some(near) => error.help(format!("did you mean `{near}`?")).replace_with(near),
        None => error.help(format!("if it is a label, write `{word}:`")),
    }
}

/// An error of the encoder; where the width of a variable is missing, its declaration is consulted.
pub(crate) fn open_diagnostic(
    error: EncodeError,
    open: &RelaxableInstruction,
    operands: &[Spanned],
    evaluator: &Evaluator,
    order: OperandOrder,
) -> Diagnostic {
    let mnemonic = Span { end: open.span.start + open.mnemonic.len() as u32, ..open.span };
    let unknown_size = match error {
        EncodeError::SizeUnknown { operand } => operands.get(operand),
        _ => None,
    };
    let diagnostic = encode_diagnostic(error, mnemonic, operands, order);
    let declared = unknown_size.and_then(|operand| {
        let late = operand.lower(evaluator, open.context, &|_| None).ok()?.late?;
        let symbol = evaluator.symbols.get(late.plus?.symbol?);
        let width = Width::from_bytes(u64::from(symbol.datum?.element_bytes))?;
        Some((symbol.name.clone(), width))
    });
    match declared {
        Some((name, width)) => {
            let (keyword, bytes) = (width.x86_keyword(), width.bytes());
            let unit = if bytes == 1 { "a byte" } else { "bytes" };
            let size = if bytes == 1 { String::new() } else { format!("{bytes} ") };
            let how = match order {
                OperandOrder::DestinationFirst => format!("write `{keyword}` before the bracket"),
                OperandOrder::SourceFirst => "say so with a letter after the mnemonic".to_string(),
            };
            diagnostic.help(format!("`{name}` was declared {size}{unit} wide: {how}"))
        }
        None => diagnostic,
    }
}

/// Bytes of the element that starts at an offset in a structure, unless as many bytes from there are whole elements.
fn element_at(runs: &[(u64, u8)], offset: u64, bytes: u64) -> Option<u8> {
    let (mut at, mut first) = (0, None);
    for &(size, element) in runs {
        let element_bytes = u64::from(element.max(1));
        let in_run = |place: u64| (at..at + size).contains(&place);
        if in_run(offset) && (offset - at).is_multiple_of(element_bytes) {
            first = Some(element);
        }
        let end = offset + bytes;
        if first.is_some()
            && (at..=at + size).contains(&end)
            && (end - at).is_multiple_of(element_bytes)
        {
            // Whole elements, but not several of one width.
            let one_run = in_run(offset);
            return if one_run { first } else { None };
        }
        at += size;
    }
    first
}

/// An error for a bare symbol in a file of which other tools read it as the symbol's contents.
pub(crate) fn bare_symbol(
    open: &RelaxableInstruction,
    operands: &[Spanned],
    evaluator: &Evaluator,
) -> Option<Diagnostic> {
    if !open.bare_is_contents {
        return None;
    }
    let operand = operands.iter().find(|operand| matches!(&operand.parsed, Parsed::Imm(_)))?;
    let late = operand.lower(evaluator, open.context, &|_| None).ok()?.late?;
    let symbol = evaluator.symbols.get(late.plus?.symbol?);
    let name = shown(&symbol.name);
    Some(
        Diagnostic::error(
            Code::Syntax,
            operand.span,
            format!("`{name}` alone is the address here and the contents in other tools"),
        )
        .at(symbol.span, "a place in memory")
        .help(format!("write `offset {name}` for the address, `[{name}]` for the contents")),
    )
}

/// A warning for an access of a general register to a variable that is wider than the element at which it starts,
/// unless the source says the width.
pub(crate) fn width_finding(
    open: &RelaxableInstruction,
    operands: &[Spanned],
    arch: Arch,
    order: OperandOrder,
    evaluator: &Evaluator,
) -> Option<Diagnostic> {
    // Vector, string and block instructions take several elements at once.
    let general = |operand: &Spanned| match operand.parsed {
        Parsed::Fixed(Operand::Reg(reg)) => reg.id().is_none(),
        _ => true,
    };
    if !operands.iter().all(general) {
        return None;
    }
    for (index, operand) in operands.iter().enumerate() {
        let Parsed::Mem(memory) = &operand.parsed else { continue };
        if !memory.x86_plain {
            continue;
        }
        let Some((width, access)) = memory_access(arch, open.encoded.form, index) else { continue };
        if memory.mem.width.is_some() || access == Access::None || width > Width::W64 {
            continue;
        }
        let late = operand.lower(evaluator, open.context, &|_| None).ok()?.late?;
        let symbol = evaluator.symbols.get(late.plus?.symbol?);
        let datum = symbol.datum.filter(|datum| datum.kind == DatumKind::Integer)?;
        // Of a structure, whole elements may be taken together.
        let element_bytes = match &symbol.elements {
            Some(elements) => {
                element_at(&elements.runs, u64::try_from(late.offset).ok()?, width.bytes())?
            }
            None => datum.element_bytes,
        };
        let declared = Width::from_bytes(u64::from(element_bytes))?;
        if width <= declared {
            continue;
        }
        let place = match late.offset {
            0 => symbol.name.to_string(),
            offset if offset > 0 => format!("{} + {offset}", symbol.name),
            offset => format!("{} - {}", symbol.name, -offset),
        };
        let (name, keyword) = (&symbol.name, declared.x86_keyword());
        let (verb, also) = match access.writes() {
            true => ("written to", "the bytes after it are overwritten"),
            false => ("read from", "the bytes after it are read too"),
        };
        let unit = if declared == Width::W8 { "byte" } else { "bytes" };
        let message = format!(
            "{} bytes are {verb} `{name}`, declared {} {unit} wide",
            width.bytes(),
            declared.bytes()
        );
        let help = match &operands[0].parsed {
            Parsed::Fixed(Operand::Reg(reg))
                if open.traits.contains(Traits::HAS_EXTENDING_FORM)
                    && declared < Width::W32
                    && order == OperandOrder::DestinationFirst =>
            {
                let text = format!("movzx {}, {keyword} [{place}]", reg.name());
                format!("widen it: `{text}`, or `movsx` if it is signed")
            }
            _ => format!("use a register of {} bits", declared.bits()),
        };
        let meant = match order {
            OperandOrder::DestinationFirst => {
                format!("say so: `{}` before the bracket", width.x86_keyword())
            }
            OperandOrder::SourceFirst => "say so with a letter after the mnemonic".to_string(),
        };
        return Some(
            Diagnostic::error(Code::Width, operand.span, message)
                .warning()
                .label(also)
                .at(symbol.span, format!("declared {} {unit} wide", declared.bytes()))
                .help(format!("{help}; if it is meant, {meant}")),
        );
    }
    None
}
