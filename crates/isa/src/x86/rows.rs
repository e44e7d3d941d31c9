//! Every row of the table, with what its encoding and its operands say.

use super::derived::{COUNT, FORMS};
use super::encoding::Encoding;
use super::kinds::Kinds;
use super::{Form, Meaning, Pattern, StringOp, vector};
use crate::form::Modes;
use crate::{Control, Width};

/// A row with its encoding parsed.
#[derive(Copy, Clone)]
pub(crate) struct Row {
    pub form: &'static Form,
    pub encoding: Encoding,
    /// What kinds of operand can stand in each position; most rows are passed over by this alone.
    pub kinds: Kinds,
    /// Bytes that it takes at least.
    pub least_bytes: u8,
    /// Where it is valid, the widths of its operands considered.
    pub modes: Modes,
    /// Width of the operand that can be memory.
    pub memory_width: Option<Width>,
    /// Whether it names a register in the VEX prefix.
    pub names_vvvv: bool,
    /// Its mode says how wide it works, and an operand-size prefix would make another instruction of it.
    pub sized_by_mode: bool,
    /// Whether it uses a register as wide as an address that none of its operands tells.
    pub unsaid_address: bool,
    /// An operand-size prefix truncates the target to 16 bits.
    pub has_16bit_target: bool,
    /// What is there can be in a segment that a prefix names.
    pub unsaid_segment: bool,
}

impl Row {
    const fn of(form: &'static Form) -> Row {
        use Meaning::*;
        let encoding = Encoding::parse(form);
        let (mut memory_width, mut names_vvvv, mut says_address) = (None, false, false);
        let mut has_16bit_target = false;
        let mut at = 0;
        while at < form.operands.len() {
            let pattern = form.operands[at].pattern;
            if memory_width.is_none() {
                memory_width = pattern.memory_width();
            }
            names_vvvv |= matches!(pattern, Pattern::Vvvv(_));
            says_address |= pattern.fixed_address().is_some();
            has_16bit_target |= pattern.is_target() && encoding.operand16;
            at += 1;
        }
        let uses_address = matches!(
            form.meaning,
            String(..) | Xlat | Loop | Loope | Loopne | Vector(vector::Vector::MaskedStore)
        );
        Row {
            form,
            encoding,
            kinds: Kinds::of_form(form),
            least_bytes: encoding.least_bytes(form),
            modes: form.modes,
            memory_width,
            names_vvvv,
            sized_by_mode: !matches!(
                form.control,
                Control::Next | Control::Syscall | Control::Trap
            ),
            unsaid_address: uses_address && !says_address && !encoding.address_size,
            has_16bit_target,
            unsaid_segment: matches!(
                form.meaning,
                String(StringOp::Movs | StringOp::Cmps | StringOp::Lods, ..)
                    | Xlat
                    | Vector(vector::Vector::MaskedStore)
            ),
        }
    }
}

/// The rows are made when this is compiled, so that no program waits for them.
static ROWS: [Row; COUNT] = {
    let mut rows = [Row::of(&FORMS[0]); COUNT];
    let mut at = 0;
    while at < COUNT {
        rows[at] = Row::of(&FORMS[at]);
        at += 1;
    }
    rows
};

/// Every row: those of the table's groups, then those made from them.
#[inline]
pub(crate) const fn rows() -> &'static [Row; COUNT] {
    &ROWS
}
