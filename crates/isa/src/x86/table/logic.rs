//! Bitwise logic, shifts and rotates.

use super::*;
use crate::FlagsUndefinedWhen::{CountAboveOne, CountNotBelowWidth};

const LOGIC: FlagEffects = FlagEffects {
    modified: BY_RESULT,
    cleared: NO_CARRY_OVERFLOW,
    undefined: flag::AF,
    ..FlagEffects::NONE
};
const SHIFT_FLAGS: FlagEffects = FlagEffects {
    modified: BY_RESULT.with(NO_CARRY_OVERFLOW),
    undefined: flag::AF,
    undefined_when: &[(CountAboveOne, flag::OF), (CountNotBelowWidth, flag::CF)],
    ..FlagEffects::NONE
};
/// SAR fills with the sign, so CF is that sign for any count: defined.
const SAR_FLAGS: FlagEffects =
    FlagEffects { undefined_when: &[(CountAboveOne, flag::OF)], ..SHIFT_FLAGS };
const ROTATE_FLAGS: FlagEffects = FlagEffects {
    modified: NO_CARRY_OVERFLOW,
    undefined_when: &[(CountAboveOne, flag::OF)],
    ..FlagEffects::NONE
};
const ROTATE_CARRY_FLAGS: FlagEffects = FlagEffects { tested: flag::CF, ..ROTATE_FLAGS };

const AND_ROW: Form = Form {
    mnemonic: "and",
    traits: Traits::LOCKABLE,
    meaning: Meaning::And,
    flags: LOGIC,
    summary: "keeps the bits of the destination that are set in the source",
    source: "SDM Vol. 2A, AND",
    ..PLAIN
};
pub(super) const AND: &[Form] = two_operand!(AND_ROW, rw, "20", "21", "22", "23", "24", "25", "/4");

const OR_ROW: Form = Form {
    mnemonic: "or",
    traits: Traits::LOCKABLE,
    meaning: Meaning::Or,
    flags: LOGIC,
    summary: "sets the bits of the destination that are set in the source",
    source: "SDM Vol. 2B, OR",
    ..PLAIN
};
pub(super) const OR: &[Form] = two_operand!(OR_ROW, rw, "08", "09", "0A", "0B", "0C", "0D", "/1");

const XOR_ROW: Form = Form {
    mnemonic: "xor",
    traits: Traits::LOCKABLE.with(Traits::ZEROING_IDIOM),
    meaning: Meaning::Xor,
    flags: LOGIC,
    summary: "inverts the bits of the destination that are set in the source",
    source: "SDM Vol. 2D, XOR",
    ..PLAIN
};
pub(super) const XOR: &[Form] = two_operand!(XOR_ROW, rw, "30", "31", "32", "33", "34", "35", "/6");

const TEST_ROW: Form = Form {
    mnemonic: "test",
    meaning: Meaning::Test,
    flags: LOGIC,
    summary: "sets the flags as `and` would, and keeps both operands",
    source: "SDM Vol. 2B, TEST",
    ..PLAIN
};
pub(super) const TEST: &[Form] = &[
    Form { operands: &[r(RM8), r(R8)], encoding: "84 /r", ..TEST_ROW },
    Form { operands: &[r(RM16), r(R16)], encoding: "85 /r", ..TEST_ROW },
    Form { operands: &[r(RM32), r(R32)], encoding: "85 /r", ..TEST_ROW },
    Form { operands: &[r(RM64), r(R64)], encoding: "REX.W + 85 /r", ..TEST_ROW },
    Form { operands: &[r(R8), r(RM8)], encoding: "84 /r", accepted_only: true, ..TEST_ROW },
    Form { operands: &[r(R16), r(RM16)], encoding: "85 /r", accepted_only: true, ..TEST_ROW },
    Form { operands: &[r(R32), r(RM32)], encoding: "85 /r", accepted_only: true, ..TEST_ROW },
    Form { operands: &[r(R64), r(RM64)], encoding: "REX.W + 85 /r", accepted_only: true, ..TEST_ROW },
    Form { operands: &[r(AL), r(IMM8)], encoding: "A8 ib", ..TEST_ROW },
    Form { operands: &[r(AX), r(IMM16)], encoding: "A9 iw", ..TEST_ROW },
    Form { operands: &[r(EAX), r(IMM32)], encoding: "A9 id", ..TEST_ROW },
    Form { operands: &[r(RAX), r(Pattern::Simm32)], encoding: "REX.W + A9 id", ..TEST_ROW },
    Form { operands: &[r(RM8), r(IMM8)], encoding: "F6 /0 ib", ..TEST_ROW },
    Form { operands: &[r(RM16), r(IMM16)], encoding: "F7 /0 iw", ..TEST_ROW },
    Form { operands: &[r(RM32), r(IMM32)], encoding: "F7 /0 id", ..TEST_ROW },
    Form { operands: &[r(RM64), r(Pattern::Simm32)], encoding: "REX.W + F7 /0 id", ..TEST_ROW },
];

const NOT_ROW: Form = Form {
    mnemonic: "not",
    traits: Traits::LOCKABLE,
    meaning: Meaning::Not,
    summary: "inverts every bit; no flag changes",
    source: "SDM Vol. 2B, NOT",
    ..PLAIN
};
pub(super) const NOT: &[Form] = one_operand!(NOT_ROW, rw, "F6", "F7", "/2");

/// The twelve rows of a shift or rotate: by 1, by CL and by a constant, at four widths.
macro_rules! shift {
    ($base:expr, $digit:literal) => {
        &[
            Form { operands: &[rw(RM8), r(Pattern::One)], encoding: concat!("D0 ", $digit), ..$base },
            Form { operands: &[rw(RM16), r(Pattern::One)], encoding: concat!("D1 ", $digit), ..$base },
            Form { operands: &[rw(RM32), r(Pattern::One)], encoding: concat!("D1 ", $digit), ..$base },
            Form { operands: &[rw(RM64), r(Pattern::One)], encoding: concat!("REX.W + D1 ", $digit), ..$base },
            Form { operands: &[rw(RM8), r(Pattern::Cl)], encoding: concat!("D2 ", $digit), ..$base },
            Form { operands: &[rw(RM16), r(Pattern::Cl)], encoding: concat!("D3 ", $digit), ..$base },
            Form { operands: &[rw(RM32), r(Pattern::Cl)], encoding: concat!("D3 ", $digit), ..$base },
            Form { operands: &[rw(RM64), r(Pattern::Cl)], encoding: concat!("REX.W + D3 ", $digit), ..$base },
            Form { operands: &[rw(RM8), r(Pattern::Uimm8)], encoding: concat!("C0 ", $digit, " ib"), ..$base },
            Form { operands: &[rw(RM16), r(Pattern::Uimm8)], encoding: concat!("C1 ", $digit, " ib"), ..$base },
            Form { operands: &[rw(RM32), r(Pattern::Uimm8)], encoding: concat!("C1 ", $digit, " ib"), ..$base },
            Form { operands: &[rw(RM64), r(Pattern::Uimm8)], encoding: concat!("REX.W + C1 ", $digit, " ib"), ..$base },
        ]
    };
}

const SHL_ROW: Form = Form {
    mnemonic: "shl",
    traits: Traits::IMPLIED_COUNT_ONE,
    aliases: &["sal"],
    meaning: Meaning::Shl,
    flags: SHIFT_FLAGS,
    summary: "shifts left; zeros come in, the last bit out goes to CF",
    source: "SDM Vol. 2B, SAL/SAR/SHL/SHR",
    ..PLAIN
};
pub(super) const SHL: &[Form] = shift!(SHL_ROW, "/4");

const SHR_ROW: Form = Form {
    mnemonic: "shr",
    aliases: &[],
    meaning: Meaning::Shr,
    summary: "shifts right, unsigned; zeros come in, the last bit out goes to CF",
    ..SHL_ROW
};
pub(super) const SHR: &[Form] = shift!(SHR_ROW, "/5");

const SAR_ROW: Form = Form {
    mnemonic: "sar",
    meaning: Meaning::Sar,
    flags: SAR_FLAGS,
    summary: "shifts right, signed; copies of the sign come in, the last bit out goes to CF",
    ..SHR_ROW
};
pub(super) const SAR: &[Form] = shift!(SAR_ROW, "/7");

const ROL_ROW: Form = Form {
    mnemonic: "rol",
    meaning: Meaning::Rol,
    flags: ROTATE_FLAGS,
    summary: "rotates left; the bit that came round is copied to CF",
    source: "SDM Vol. 2B, RCL/RCR/ROL/ROR",
    ..PLAIN
};
pub(super) const ROL: &[Form] = shift!(ROL_ROW, "/0");

const ROR_ROW: Form = Form {
    mnemonic: "ror",
    meaning: Meaning::Ror,
    summary: "rotates right; the bit that came round is copied to CF",
    ..ROL_ROW
};
pub(super) const ROR: &[Form] = shift!(ROR_ROW, "/1");

const RCL_ROW: Form = Form {
    mnemonic: "rcl",
    meaning: Meaning::Rcl,
    flags: ROTATE_CARRY_FLAGS,
    summary: "rotates left through CF, which counts as one more bit",
    ..ROL_ROW
};
pub(super) const RCL: &[Form] = shift!(RCL_ROW, "/2");

const RCR_ROW: Form = Form {
    mnemonic: "rcr",
    meaning: Meaning::Rcr,
    summary: "rotates right through CF, which counts as one more bit",
    ..RCL_ROW
};
pub(super) const RCR: &[Form] = shift!(RCR_ROW, "/3");
