//! Rows made from others: with the lock prefix, and as 32-bit mode has them.

use super::encoding::Encoding;
use super::table::GROUPS;
use super::{Form, Meaning, Pattern, Slot};
use crate::form::Modes;
use crate::{Implicit, Reg, RegKind, Width};

/// A row, its encoding and the modes in which it is valid.
pub(super) type Derived = (&'static Form, Encoding, Modes);

/// How many rows the table has.
const PLAIN: usize = {
    let (mut count, mut group) = (0, 0);
    while group < GROUPS.len() {
        count += GROUPS[group].len();
        group += 1;
    }
    count
};

/// The encodings of the table's rows, in order.
static ENCODINGS: [Encoding; PLAIN] = {
    let mut encodings = [Encoding::parse(&GROUPS[0][0]); PLAIN];
    let (mut count, mut group, mut row) = (0, 0, 0);
    while count < PLAIN {
        if row < GROUPS[group].len() {
            encodings[count] = Encoding::parse(&GROUPS[group][row]);
            (count, row) = (count + 1, row + 1);
        } else {
            (group, row) = (group + 1, 0);
        }
    }
    encodings
};

/// Every row. Whatever decodes or encodes an instruction asks for this when the program starts, so it is quick.
pub(super) fn all() -> Vec<Derived> {
    let plain = || GROUPS.iter().flat_map(|group| group.iter()).zip(ENCODINGS);
    let locked = plain()
        .filter_map(|(form, encoding)| Some((locked(form)?, Encoding { lock: true, ..encoding })));
    let mut all = Vec::with_capacity(2 * PLAIN);
    for (form, encoding) in plain().chain(locked) {
        if form.modes != Modes::All {
            all.push((form, encoding, form.modes));
        } else if encoding.rex_w {
            // REX, or its bit in VEX, makes the row's operands 64 bits wide.
            all.push((form, encoding, Modes::Only64));
        } else if let Some(narrow) = narrowed(form) {
            all.push((form, encoding, Modes::Only64));
            all.push((narrow, Encoding::parse(narrow), Modes::Only32));
        } else {
            all.push((form, encoding, Modes::All));
        }
    }
    all
}

/// The row with a lock prefix, if it can have one: its destination is in memory then.
fn locked(form: &'static Form) -> Option<&'static Form> {
    let (first, rest) = form.operands.split_first()?;
    let pattern = match first.pattern {
        Pattern::Rm(width) => Pattern::Mem(width),
        memory @ (Pattern::Mem(_) | Pattern::MemAligned) => memory,
        _ => return None,
    };
    if !form.meaning.lockable() {
        return None;
    }
    let operands: Vec<Slot> = [Slot { pattern, ..*first }].iter().chain(rest).copied().collect();
    // The table lives as long as the program, and so may these.
    Some(Box::leak(Box::new(Form {
        mnemonic: ["lock ", form.mnemonic].concat().leak(),
        operands: operands.leak(),
        encoding: ["F0 ", form.encoding].concat().leak(),
        summary: ["in one indivisible step: ", form.summary].concat().leak(),
        ..*form
    })))
}

/// The mnemonics that tell the width of the mode, in both.
const NAMES: [(&str, &str); 3] = [("pushfq", "pushfd"), ("popfq", "popfd"), ("jrcxz", "jecxz")];

/// The registers that summaries name, in both.
const REGISTERS: [(&str, &str); 6] = [
    ("RSP", "ESP"),
    ("RBP", "EBP"),
    ("RSI", "ESI"),
    ("RDI", "EDI"),
    ("RBX", "EBX"),
    ("RCX", "ECX"),
];

/// The summary with the registers of 32-bit mode. Few name any.
fn in_32_bit_words(summary: &'static str) -> &'static str {
    let names_one = |text: &str| text.as_bytes().contains(&b'R');
    if !names_one(summary) {
        return summary;
    }
    let mut text = summary.to_string();
    for (wide, narrow) in REGISTERS {
        if !names_one(&text) {
            break;
        }
        text = text.replace(wide, narrow);
    }
    text.leak()
}

/// The row as 32-bit mode has it, if its slots of the stack or the registers that it uses unsaid are as
/// wide as the mode's addresses.
fn narrowed(form: &'static Form) -> Option<&'static Form> {
    let wide = |reg: Reg| reg.kind == RegKind::Qword;
    let in_operands = form.operands.iter().any(|slot| in_32_bits(slot.pattern) != slot.pattern);
    if !in_operands && !form.implicit.iter().any(|implicit| wide(implicit.reg)) {
        return None;
    }
    let narrow = |slot: &Slot| Slot { pattern: in_32_bits(slot.pattern), ..*slot };
    let operands: Vec<Slot> = form.operands.iter().map(narrow).collect();
    let narrow = |implicit: &Implicit| match wide(implicit.reg) {
        true => Implicit { reg: Reg::x86(Width::W32, implicit.reg.number), ..*implicit },
        false => *implicit,
    };
    let implicit: Vec<Implicit> = form.implicit.iter().map(narrow).collect();
    let renamed = NAMES.iter().find(|(wide, _)| *wide == form.mnemonic);
    Some(Box::leak(Box::new(Form {
        mnemonic: renamed.map_or(form.mnemonic, |(_, narrow)| narrow),
        meaning: match form.meaning {
            Meaning::Pushf(Width::W64) => Meaning::Pushf(Width::W32),
            Meaning::Popf(Width::W64) => Meaning::Popf(Width::W32),
            Meaning::JumpIfZero(Width::W64) => Meaning::JumpIfZero(Width::W32),
            Meaning::PushSegment(Width::W64) => Meaning::PushSegment(Width::W32),
            Meaning::PopSegment(Width::W64) => Meaning::PopSegment(Width::W32),
            other => other,
        },
        operands: operands.leak(),
        implicit: implicit.leak(),
        summary: in_32_bit_words(form.summary),
        ..*form
    })))
}

/// What stands in the place of an operand that is 64 bits wide without a prefix.
fn in_32_bits(pattern: Pattern) -> Pattern {
    match pattern {
        Pattern::R(Width::W64) => Pattern::R(Width::W32),
        Pattern::Rm(Width::W64) => Pattern::Rm(Width::W32),
        Pattern::RegRm(Width::W64) => Pattern::RegRm(Width::W32),
        Pattern::Simm32 => Pattern::Imm(Width::W32),
        other => other,
    }
}
