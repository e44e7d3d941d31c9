//! Which machine a source is for, from what it names.

use sotto_isa::{Arch, OperandOrder, Reg, RegKind};

use crate::text::lexer::{Cursor, NameSet, Tok, is_word_byte};
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
        let mut first = true;
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
                first = true;
                continue;
            }
            if std::mem::take(&mut first) {
                if word == ".arch" && cursor.ahead().trim_start().starts_with("armv8") {
                    return (Arch::Arm64, Inference { word: Some((word.to_string(), span)) });
                }
                // Directives name symbols, which may be called as registers are.
                if word.starts_with('.') {
                    break;
                }
                if interrupt.is_none()
                    && let Some(operand) = pushed_whole(word, &cursor)
                {
                    interrupt =
                        Some((cursor.text_at(span.to(operand)).to_string(), span.to(operand)));
                }
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

/// The operand of an instruction that pushes or pops 32 bits, which only 32-bit code does.
fn pushed_whole(word: &str, cursor: &Cursor) -> Option<Span> {
    let is = |names: [&str; 2]| names.iter().any(|name| word.eq_ignore_ascii_case(name));
    let mut ahead = cursor.clone();
    let _ = ahead.eat('%');
    let (token, span) = ahead.next().ok()?;
    let register = match token {
        Tok::Word(name) => Reg::parse(Arch::X86_32, name),
        _ => None,
    };
    let whole = is(["push", "pop"]) && register.is_some_and(|reg| reg.kind == RegKind::Dword);
    (whole || is(["pushl", "popl"])).then_some(span)
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

/// The symbols of a source-first x86 text that registers are called by too: C names its globals as it likes. In such
/// a file a register has its `%`.
pub(crate) fn symbols_named_as_registers(text: &str) -> NameSet {
    let mut names = NameSet::new();
    for line in text.split_inclusive('\n') {
        // Labels and the directives that declare symbols; most lines are neither.
        let trimmed = line.trim_start();
        let name = match trimmed.as_bytes().first() {
            Some(b'.') => {
                let Some((directive, rest)) = trimmed.split_once([' ', '\t']) else { continue };
                const DECLARING: [&str; 9] = [
                    ".globl", ".global", ".comm", ".lcomm", ".local", ".weak", ".extern", ".set",
                    ".type",
                ];
                if !DECLARING.contains(&directive) {
                    continue;
                }
                let rest = rest.trim_start();
                &rest[..rest.find(|c: char| !is_word_char(c)).unwrap_or(rest.len())]
            }
            Some(_) => {
                let end = trimmed.find(|c: char| !is_word_char(c)).unwrap_or(trimmed.len());
                if !trimmed[end..].trim_start().starts_with(':') {
                    continue;
                }
                &trimmed[..end]
            }
            None => continue,
        };
        if name.len() <= LONGEST_REGISTER && Reg::parse(Arch::X86_64, name).is_some() {
            names.insert(name.into());
        }
    }
    names
}

/// No register's name has more bytes.
const LONGEST_REGISTER: usize = 5;

fn is_word_char(c: char) -> bool {
    u8::try_from(c).is_ok_and(is_word_byte)
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
        let mut bare: Option<Span> = None;
        while let Ok((token, span)) = cursor.next() {
            match token {
                Tok::End => break,
                Tok::Op('%') => marked = Some(span),
                // The first word is an instruction or a symbol.
                Tok::Word(word) if !first && Reg::parse(Arch::X86_64, word).is_some() => {
                    // A symbol beside it may be called as a register is.
                    if let Some(mark) = marked.filter(|mark| mark.end == span.start) {
                        return Some((OperandOrder::SourceFirst, mark.to(span)));
                    }
                    bare = bare.or(Some(span));
                }
                // Directives name symbols, which may be called as registers are.
                Tok::Word(word)
                    if first && word.starts_with('.') && cursor.peek() != Ok(Tok::Op(':')) =>
                {
                    break;
                }
                _ => marked = None,
            }
            // What follows a label is a first word again.
            first = token == Tok::Op(':');
        }
        if let Some(span) = bare {
            return Some((OperandOrder::DestinationFirst, span));
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
            ("mov eax, 1\nbell: push ebp", Arch::X86_32, Some("push ebp")),
            ("pushl %ebp\n movl %esp, %ebp", Arch::X86_32, Some("pushl %ebp")),
            ("push ebx\n mov rax, 1", Arch::X86_64, Some("rax")),
            (".arch armv8-a\n .global x0", Arch::Arm64, Some(".arch")),
            (".globl x0\n ret", Arch::X86_64, None),
        ];
        for (text, arch, word) in cases {
            let source = Source { name: "lamp.s".into(), text: text.into() };
            let (got, inference) = infer(&source);
            assert_eq!(got, arch, "{text}");
            assert_eq!(inference.word.map(|w| w.0).as_deref(), word, "{text}");
        }
    }
}
