//! Rows made from others: with the lock prefix, and as 32-bit mode has them.

use super::table::GROUPS;
use super::{Form, Meaning, Pattern, Slot};
use crate::form::Modes;
use crate::{Implicit, Reg, RegKind, Width};

/// Every row, with the modes in which it is valid.
pub(super) fn all() -> Vec<(&'static Form, Modes)> {
    let plain = || GROUPS.iter().flat_map(|group| group.iter());
    let mut all = Vec::new();
    for form in plain().chain(plain().filter_map(locked)) {
        if form.modes != Modes::All {
            all.push((form, form.modes));
        } else if has_64_bit_prefix(form) {
            all.push((form, Modes::Only64));
        } else if let Some(narrow) = narrowed(form) {
            all.extend([(form, Modes::Only64), (narrow, Modes::Only32)]);
        } else {
            all.push((form, Modes::All));
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
        mnemonic: format!("lock {}", form.mnemonic).leak(),
        operands: operands.leak(),
        encoding: format!("F0 {}", form.encoding).leak(),
        summary: format!("in one indivisible step: {}", form.summary).leak(),
        ..*form
    })))
}

/// Whether a REX prefix, or its bit in VEX, makes the row's operands 64 bits wide.
fn has_64_bit_prefix(form: &Form) -> bool {
    // `REX.W`, or `VEX...W1`. Every row is asked whenever a program starts: by bytes, it takes no time.
    let mut pairs = form.encoding.as_bytes().windows(2);
    let after = pairs.position(|pair| pair == b".W").map(|at| form.encoding.as_bytes().get(at + 2));
    after.is_some_and(|next| next != Some(&b'0'))
}

/// The mnemonics that tell the width of the mode, in both.
const NAMES: [(&str, &str); 3] = [("pushfq", "pushfd"), ("popfq", "popfd"), ("jrcxz", "jecxz")];

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
    let mut summary = form.summary.to_string();
    if summary.contains('R') {
        for name in ["SP", "BP", "SI", "DI", "BX", "CX"] {
            summary = summary.replace(&format!("R{name}"), &format!("E{name}"));
        }
    }
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
        summary: summary.leak(),
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
