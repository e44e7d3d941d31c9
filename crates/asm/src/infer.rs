//! Which machine a source is for, from what it names.

use sotto_isa::{Arch, OperandOrder, Reg, RegKind};

use crate::lexer::{Cursor, Tok};
use crate::{Source, Span};

/// What decided the machine of a source that does not say.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Inference {
    /// The deciding word as written, with its place; `None` if nothing was decisive.
    pub word: Option<(String, Span)>,
}

/// The machine, and what decided it.
///
/// The first decisive word counts: a 64-bit register or `syscall` means x86-64, `x0` or `w0` and
/// their like, `svc` too, arm64. Where none of these is named, `int 0x80` means x86-32. With nothing
/// decisive it is x86-64.
pub(crate) fn infer(source: &Source) -> (Arch, Inference) {
    let mut base = 0;
    let mut interrupt = None;
    for line in source.text.split_inclusive('\n') {
        // In the dialect whose comments hide most; both read words alike.
        let mut cursor = Cursor::new(line, base, Arch::X86_64);
        base += line.len();
        while let Ok((token, span)) = cursor.next() {
            let Tok::Word(word) = token else {
                if token == Tok::End {
                    break;
                } else {
                    continue;
                };
            };
            // A word before a colon or `=` is a symbol.
            if let Ok(Tok::Op(':' | '=')) = cursor.peek() {
                continue;
            }
            if let Some(arch) = decisive(word) {
                return (arch, Inference { word: Some((word.to_string(), span)) });
            }
            if word.eq_ignore_ascii_case("int") && interrupt.is_none() {
                let mut ahead = cursor.clone();
                let _ = ahead.eat('$');
                if let Ok((Tok::Num(0x80), number)) = ahead.next() {
                    interrupt = Some(("int 0x80".to_string(), span.to(number)));
                }
            }
        }
    }
    let arch = if interrupt.is_some() { Arch::X86_32 } else { Arch::X86_64 };
    (arch, Inference { word: interrupt })
}

fn decisive(word: &str) -> Option<Arch> {
    if word.eq_ignore_ascii_case("syscall") {
        return Some(Arch::X86_64);
    }
    if word.eq_ignore_ascii_case("svc") {
        return Some(Arch::Arm64);
    }
    if Reg::parse(Arch::X86_64, word)
        .is_some_and(|reg| matches!(reg.kind, RegKind::Qword | RegKind::Ip) || reg.number >= 8)
    {
        return Some(Arch::X86_64);
    }
    let arm = Reg::parse(Arch::Arm64, word)?;
    // `sp`, `fp` and `lr` are words of other machines too.
    let named = matches!(word.as_bytes()[0], b'x' | b'X' | b'w' | b'W');
    (named && matches!(arm.kind, RegKind::X | RegKind::W)).then_some(Arch::Arm64)
}

/// The order of operands of an x86 text, which stands at `base`: that of its first register.
///
/// `%rax` means that the source comes first; a register without `%` that the destination does. With
/// no register nothing is said.
pub(crate) fn recognise_order(text: &str, base: usize) -> Option<(OperandOrder, Span)> {
    // A large table without a register in it would be read to its end for nothing.
    let mentions = |word: &str| memchr::memmem::find(text.as_bytes(), word.as_bytes()).is_some();
    if !["%", "_syntax", ".operands"].into_iter().any(mentions) {
        return None;
    }
    let mut at = base;
    for line in text.split_inclusive('\n') {
        let mut cursor = Cursor::new(line, at, Arch::X86_64);
        at += line.len();
        let mut marked: Option<Span> = None;
        let mut first = true;
        while let Ok((token, span)) = cursor.next() {
            match token {
                Tok::End => break,
                Tok::Op('%') => marked = Some(span),
                // The first word is an instruction or a symbol.
                Tok::Word(word) if !first && Reg::parse(Arch::X86_64, word).is_some() => {
                    return Some(match marked.filter(|mark| mark.end == span.start) {
                        Some(mark) => (OperandOrder::SourceFirst, mark.to(span)),
                        None => (OperandOrder::DestinationFirst, span),
                    });
                }
                _ => marked = None,
            }
            // What follows a label is a first word again.
            first = token == Tok::Op(':');
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_first_decisive_word_counts() {
        let cases = [
            ("mov eax, 1\n mov rdi, 2", Arch::X86_64, Some("rdi")),
            ("x0: mov eax, 1\n syscall", Arch::X86_64, Some("syscall")),
            ("// rax\n mov w0, #1", Arch::Arm64, Some("w0")),
            ("  ldr x1, [sp]", Arch::Arm64, Some("x1")),
            ("nop", Arch::X86_64, None),
            ("mov eax, 1\n int 0x80", Arch::X86_32, Some("int 0x80")),
            ("mov $1, %eax\n int $128", Arch::X86_32, Some("int 0x80")),
            ("int 0x80\n mov rax, 1", Arch::X86_64, Some("rax")),
        ];
        for (text, arch, word) in cases {
            let source = Source { name: "lamp.s".into(), text: text.into() };
            let (got, inference) = infer(&source);
            assert_eq!(got, arch, "{text}");
            assert_eq!(inference.word.map(|w| w.0).as_deref(), word, "{text}");
        }
    }
}
