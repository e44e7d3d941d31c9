//! Operands that go together in the encoding and whose result the architecture leaves open.
//!
//! Source: Arm ARM, C6.2 LDP, LDR, STR, STP, STXR, and K1.2 "Constraints on UNPREDICTABLE behaviors".

use super::{Meaning, form};
use crate::{IndexMode, Operand, Reg};

/// Why the result of an instruction with these operands is not defined; `None` if it is.
///
/// # Panics
///
/// If there is no row of this number.
pub fn unpredictable(number: u16, operands: &[Operand]) -> Option<&'static str> {
    let register = |index: usize| match operands.get(index) {
        Some(Operand::Reg(reg)) => Some(*reg),
        _ => None,
    };
    let meaning = form(number).meaning;
    let base = operands.iter().find_map(|operand| match operand {
        Operand::Mem(mem) => mem.base.map(|base| (base, mem.mode)),
        _ => None,
    });
    let is_base = |reg: Option<Reg>| {
        let number = |reg: Reg| reg.storage();
        base.is_some_and(|(base, _)| {
            reg.is_some_and(|reg| number(reg).is_some() && number(reg) == number(base))
        })
    };
    let moves = base.is_some_and(|(_, mode)| mode != IndexMode::Offset);
    match meaning {
        Meaning::LoadPair { .. }
        | Meaning::LoadScalarPair { .. }
        | Meaning::LoadExclusivePair { .. }
            if register(0) == register(1) =>
        {
            Some("both values are loaded into one register, and which one stays is not defined")
        }
        Meaning::Load { .. } | Meaning::LoadPair { .. }
            if moves && (is_base(register(0)) || is_base(register(1))) =>
        {
            Some("the base is loaded and moved at once, and which value stays is not defined")
        }
        Meaning::Store { .. } | Meaning::StorePair { .. }
            if moves && (is_base(register(0)) || is_base(register(1))) =>
        {
            Some("the base is stored and moved at once, and which value is stored is not defined")
        }
        Meaning::StoreExclusive { .. } | Meaning::StoreExclusivePair { .. } => {
            let status = register(0)?.storage()?;
            let same = |reg: Option<Reg>| reg.and_then(Reg::storage) == Some(status);
            let clashes = same(register(1)) || same(register(2)) || is_base(register(0));
            clashes.then_some(
                "the register that says whether it was stored is the base or is stored too, and the result is not defined",
            )
        }
        _ => None,
    }
}
