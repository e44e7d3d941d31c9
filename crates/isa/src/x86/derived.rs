//! Rows made from others: with the lock prefix, as 32-bit mode has them, and there with the prefix that truncates targets to 16 bits.
//!
//! All of it happens when this is compiled: a program that starts finds every row made.

use super::encoding::Encoding;
use super::table::GROUPS;
use super::{Form, Meaning, OperandSpec, Pattern};
use crate::form::Modes;
use crate::{Implicit, Reg, RegKind, Traits, Width};

/// A row of the table, and what is made of it.
#[derive(Copy, Clone)]
struct Origin {
    form: &'static Form,
    locked: bool,
    narrowed: bool,
    /// The operand-size prefix truncates the target to 16 bits.
    target16: bool,
    /// Where the result is valid.
    modes: Modes,
}

/// How many rows there are, those of the table and those made of them.
pub(super) const COUNT: usize = origins().1;

/// Every row, in the order of the table; those with a lock prefix come after them, and those with an operand-size
/// prefix last.
static ORIGINS: [Origin; COUNT] = {
    let (origins, count) = origins();
    *origins.split_at(count).0.first_chunk().expect("as many as were counted")
};

/// More than there are.
const ROOM: usize = 2048;

/// The rows, and how many they are.
const fn origins() -> ([Origin; ROOM], usize) {
    let first = &GROUPS[0][0];
    let nothing =
        Origin { form: first, locked: false, narrowed: false, target16: false, modes: Modes::All };
    let (mut origins, mut count) = ([nothing; ROOM], 0);
    let mut pass = 0;
    while pass < 3 {
        let (locked, target16) = (pass == 1, pass == 2);
        let mut group = 0;
        while group < GROUPS.len() {
            let mut at = 0;
            while at < GROUPS[group].len() {
                let form = &GROUPS[group][at];
                at += 1;
                if locked && !can_be_locked(form) || target16 && !can_have_16bit_target(form) {
                    continue;
                }
                let own = Origin { form, locked, narrowed: false, target16, modes: form.modes };
                if target16 {
                    let narrowed = differs_in_32_bits(form);
                    origins[count] = Origin { narrowed, modes: Modes::Only32, ..own };
                } else if !matches!(form.modes, Modes::All) {
                    origins[count] = own;
                } else if Encoding::parse(form).rex_w {
                    // REX, or its bit in VEX, makes the row's operands 64 bits wide.
                    origins[count] = Origin { modes: Modes::Only64, ..own };
                } else if differs_in_32_bits(form) {
                    origins[count] = Origin { modes: Modes::Only64, ..own };
                    count += 1;
                    origins[count] = Origin { modes: Modes::Only32, narrowed: true, ..own };
                } else {
                    origins[count] = own;
                }
                count += 1;
            }
            group += 1;
        }
        pass += 1;
    }
    (origins, count)
}

/// What a row that is made of another does not share with it.
struct Parts {
    operands: [OperandSpec; MOST_OPERANDS],
    implicit: [Implicit; MOST_IMPLICIT],
    /// The mnemonic, the encoding and the summary behind each other.
    text: [u8; 256],
    /// Where each of the three ends.
    ends: [usize; 3],
}

const MOST_OPERANDS: usize = 4;
const MOST_IMPLICIT: usize = 8;

impl Origin {
    const fn is_made(&self) -> bool {
        self.locked || self.narrowed || self.target16
    }

    const fn parts(&self) -> Parts {
        let form = self.form;
        let mut parts = Parts {
            operands: [OperandSpec { access: crate::Access::None, pattern: Pattern::One };
                MOST_OPERANDS],
            implicit: [Implicit { access: crate::Access::None, reg: super::RIP }; MOST_IMPLICIT],
            text: [0; 256],
            ends: [0; 3],
        };
        let mut at = 0;
        while at < form.operands.len() {
            let mut slot = form.operands[at];
            if self.locked && at == 0 {
                slot.pattern = in_memory(slot.pattern);
            }
            if self.narrowed {
                slot.pattern = in_32_bits(slot.pattern);
            }
            if self.target16 {
                slot.pattern = in_16_bits(slot.pattern);
            }
            parts.operands[at] = slot;
            at += 1;
        }
        at = 0;
        while at < form.implicit.len() {
            let mut implicit = form.implicit[at];
            if self.narrowed && is_wide(implicit.reg) {
                implicit.reg = Reg::x86(Width::W32, implicit.reg.number);
            }
            parts.implicit[at] = implicit;
            at += 1;
        }
        let name = if self.narrowed { name_in_32_bits(form.mnemonic) } else { form.mnemonic };
        let before = match (self.locked, self.target16) {
            (true, _) => ["lock ", "F0 ", "in one indivisible step: "],
            (_, true) => ["data16 ", "66 ", "with code addresses of 16 bits: "],
            _ => [""; 3],
        };
        let texts = [name, form.encoding, form.summary];
        let (mut text, mut end) = (0, 0);
        while text < texts.len() {
            end = put(&mut parts.text, end, before[text].as_bytes());
            end = put(&mut parts.text, end, texts[text].as_bytes());
            if self.target16 && text == 1 && parts.text[end - 1] == b'd' {
                // A distance of two bytes, `cw`, and not of four.
                parts.text[end - 1] = b'w';
            }
            parts.ends[text] = end;
            text += 1;
        }
        if self.narrowed {
            name_narrow_registers(&mut parts.text, parts.ends[1]);
        }
        parts
    }

    /// The row, of which `parts` are what it does not share with its origin.
    const fn form(&self, parts: &'static Parts) -> Form {
        let (texts, _) = parts.text.split_at(parts.ends[2]);
        let (texts, summary) = texts.split_at(parts.ends[1]);
        let (mnemonic, encoding) = texts.split_at(parts.ends[0]);
        let meaning = self.form.meaning;
        Form {
            mnemonic: text_of(mnemonic),
            aliases: if self.target16 { &[] } else { self.form.aliases },
            meaning: match (self.target16, self.narrowed) {
                (true, _) => meaning_in_16_bits(meaning),
                (_, true) => meaning_in_32_bits(meaning),
                _ => meaning,
            },
            operands: parts.operands.split_at(self.form.operands.len()).0,
            implicit: parts.implicit.split_at(self.form.implicit.len()).0,
            encoding: text_of(encoding),
            modes: self.modes,
            traits: match (self.target16, self.locked) {
                (true, _) => self.form.traits.with(Traits::TARGET_IS_16_BITS),
                (_, true) => self.form.traits.with(Traits::INDIVISIBLE),
                _ => self.form.traits,
            },
            summary: text_of(summary),
            ..*self.form
        }
    }
}

const MADE: usize = {
    let (mut made, mut at) = (0, 0);
    while at < COUNT {
        made += ORIGINS[at].is_made() as usize;
        at += 1;
    }
    made
};

/// The parts of the rows that are made, in order.
static PARTS: [Parts; MADE] = {
    let mut parts = [const { ORIGINS[0].parts() }; MADE];
    let (mut made, mut at) = (0, 0);
    while at < COUNT {
        if ORIGINS[at].is_made() {
            parts[made] = ORIGINS[at].parts();
            made += 1;
        }
        at += 1;
    }
    parts
};

/// Every row. Each says where it is valid, the widths of its operands considered.
pub(super) static FORMS: [Form; COUNT] = {
    let mut forms = [*ORIGINS[0].form; COUNT];
    let (mut made, mut at) = (0, 0);
    while at < COUNT {
        let origin = &ORIGINS[at];
        forms[at] = Form { modes: origin.modes, ..*origin.form };
        if origin.is_made() {
            forms[at] = origin.form(&PARTS[made]);
            made += 1;
        }
        at += 1;
    }
    forms
};

/// Appends text; where it ends.
const fn put(to: &mut [u8], mut end: usize, text: &[u8]) -> usize {
    let mut at = 0;
    while at < text.len() {
        to[end] = text[at];
        (at, end) = (at + 1, end + 1);
    }
    end
}

const fn text_of(bytes: &'static [u8]) -> &'static str {
    match str::from_utf8(bytes) {
        Ok(text) => text,
        Err(_) => panic!("whole texts were put together"),
    }
}

/// The row can have a lock prefix: its destination can be in memory, where it then is.
const fn can_be_locked(form: &Form) -> bool {
    let in_memory = match form.operands {
        [first, ..] => {
            matches!(first.pattern, Pattern::Rm(_) | Pattern::Mem(_) | Pattern::MemAligned)
        }
        [] => false,
    };
    in_memory && form.traits.contains(Traits::LOCKABLE)
}

/// The row can have an operand-size prefix that truncates its target: there is none, and no other prefix, before it.
const fn can_have_16bit_target(form: &Form) -> bool {
    let prefixed = matches!(form.encoding.as_bytes(), [b'F', b'2' | b'3', ..] | [b'3', b'E', ..]);
    form.traits.contains(Traits::TARGET_CAN_BE_16_BITS)
        && !prefixed
        && !matches!(form.modes, Modes::Only64)
}

const fn in_memory(pattern: Pattern) -> Pattern {
    match pattern {
        Pattern::Rm(width) => Pattern::Mem(width),
        memory => memory,
    }
}

/// The mnemonics that tell the width of the mode.
const fn name_in_32_bits(name: &'static str) -> &'static str {
    match name.as_bytes() {
        b"pushfq" => "pushfd",
        b"popfq" => "popfd",
        b"jrcxz" => "jecxz",
        _ => name,
    }
}

/// Puts the registers of 32-bit mode in place of those that a summary names, from `start` on.
const fn name_narrow_registers(text: &mut [u8], start: usize) {
    let mut at = start;
    while at + 2 < text.len() {
        if matches!(
            (text[at + 1], text[at + 2]),
            (b'S' | b'B', b'P') | (b'S', b'I') | (b'D', b'I') | (b'B' | b'C', b'X')
        ) && text[at] == b'R'
        {
            text[at] = b'E';
        }
        at += 1;
    }
}

const fn is_wide(reg: Reg) -> bool {
    matches!(reg.kind, RegKind::Qword)
}

/// Whether the row's slots of the stack, or the registers that it uses unsaid, are as wide as the mode's
/// addresses.
const fn differs_in_32_bits(form: &Form) -> bool {
    let (mut differs, mut at) = (false, 0);
    while at < form.operands.len() {
        differs |= is_narrowed(form.operands[at].pattern);
        at += 1;
    }
    at = 0;
    while at < form.implicit.len() {
        differs |= is_wide(form.implicit[at].reg);
        at += 1;
    }
    differs
}

const fn meaning_in_32_bits(meaning: Meaning) -> Meaning {
    match meaning {
        Meaning::Pushf(Width::W64) => Meaning::Pushf(Width::W32),
        Meaning::Popf(Width::W64) => Meaning::Popf(Width::W32),
        Meaning::JumpIfZero(Width::W64) => Meaning::JumpIfZero(Width::W32),
        Meaning::PushSegment(Width::W64) => Meaning::PushSegment(Width::W32),
        Meaning::PopSegment(Width::W64) => Meaning::PopSegment(Width::W32),
        other => other,
    }
}

const fn meaning_in_16_bits(meaning: Meaning) -> Meaning {
    match meaning {
        Meaning::Jmp => Meaning::JmpWord,
        Meaning::Call => Meaning::CallWord,
        Meaning::Ret => Meaning::RetWord,
        other => meaning_in_32_bits(other),
    }
}

/// What stands in the place of a distance or an address of code that is truncated.
const fn in_16_bits(pattern: Pattern) -> Pattern {
    match pattern {
        Pattern::Rel32 => Pattern::Rel16,
        Pattern::Rm(Width::W32) => Pattern::Rm(Width::W16),
        other => other,
    }
}

/// Whether [`in_32_bits`] puts something else in the place.
const fn is_narrowed(pattern: Pattern) -> bool {
    matches!(
        pattern,
        Pattern::R(Width::W64)
            | Pattern::Rm(Width::W64)
            | Pattern::RegRm(Width::W64)
            | Pattern::Simm32
    )
}

/// What stands in the place of an operand that is 64 bits wide without a prefix.
const fn in_32_bits(pattern: Pattern) -> Pattern {
    match pattern {
        Pattern::R(Width::W64) => Pattern::R(Width::W32),
        Pattern::Rm(Width::W64) => Pattern::Rm(Width::W32),
        Pattern::RegRm(Width::W64) => Pattern::RegRm(Width::W32),
        Pattern::Simm32 => Pattern::Imm(Width::W32),
        other => other,
    }
}
