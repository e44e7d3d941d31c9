//! Integer arithmetic.

use super::*;

const ALL_BY_RESULT: FlagEffects = FlagEffects { modified: flag::STATUS, ..FlagEffects::NONE };
const WITH_CARRY: FlagEffects = FlagEffects { tested: flag::CF, ..ALL_BY_RESULT };
const CARRY_KEPT: FlagEffects =
    FlagEffects { modified: flag::STATUS.without(flag::CF), ..FlagEffects::NONE };
const PRODUCT: FlagEffects = FlagEffects {
    modified: NO_CARRY_OVERFLOW,
    undefined: flag::STATUS.without(NO_CARRY_OVERFLOW),
    ..FlagEffects::NONE
};
const ALL_UNDEFINED: FlagEffects = FlagEffects { undefined: flag::STATUS, ..FlagEffects::NONE };

const ADD_ROW: Form = Form {
    mnemonic: "add",
    traits: Traits::LOCKABLE,
    meaning: Meaning::Add,
    flags: ALL_BY_RESULT,
    summary: "adds the source to the destination",
    source: "SDM Vol. 2A, ADD",
    ..PLAIN
};
pub(super) const ADD: &[Form] = two_operand!(ADD_ROW, rw, "00", "01", "02", "03", "04", "05", "/0");

const ADC_ROW: Form = Form {
    mnemonic: "adc",
    traits: Traits::LOCKABLE,
    meaning: Meaning::Adc,
    flags: WITH_CARRY,
    summary: "adds the source and CF to the destination",
    source: "SDM Vol. 2A, ADC",
    ..PLAIN
};
pub(super) const ADC: &[Form] = two_operand!(ADC_ROW, rw, "10", "11", "12", "13", "14", "15", "/2");

const SUB_ROW: Form = Form {
    mnemonic: "sub",
    traits: Traits::LOCKABLE.with(Traits::ZEROING_IDIOM),
    meaning: Meaning::Sub,
    flags: ALL_BY_RESULT,
    summary: "subtracts the source from the destination",
    source: "SDM Vol. 2B, SUB",
    ..PLAIN
};
pub(super) const SUB: &[Form] = two_operand!(SUB_ROW, rw, "28", "29", "2A", "2B", "2C", "2D", "/5");

const SBB_ROW: Form = Form {
    mnemonic: "sbb",
    traits: Traits::LOCKABLE,
    meaning: Meaning::Sbb,
    flags: WITH_CARRY,
    summary: "subtracts the source and CF from the destination",
    source: "SDM Vol. 2B, SBB",
    ..PLAIN
};
pub(super) const SBB: &[Form] = two_operand!(SBB_ROW, rw, "18", "19", "1A", "1B", "1C", "1D", "/3");

const CMP_ROW: Form = Form {
    mnemonic: "cmp",
    meaning: Meaning::Cmp,
    flags: ALL_BY_RESULT,
    summary: "sets the flags as `sub` would, and keeps both operands",
    source: "SDM Vol. 2A, CMP",
    ..PLAIN
};
pub(super) const CMP: &[Form] = two_operand!(CMP_ROW, r, "38", "39", "3A", "3B", "3C", "3D", "/7");

const INC_ROW: Form = Form {
    mnemonic: "inc",
    traits: Traits::LOCKABLE,
    meaning: Meaning::Inc,
    flags: CARRY_KEPT,
    summary: "adds 1 and keeps CF",
    source: "SDM Vol. 2A, INC",
    ..PLAIN
};
pub(super) const INC: &[Form] = one_operand!(INC_ROW, rw, "FE", "FF", "/0");

const DEC_ROW: Form = Form {
    mnemonic: "dec",
    traits: Traits::LOCKABLE,
    meaning: Meaning::Dec,
    flags: CARRY_KEPT,
    summary: "subtracts 1 and keeps CF",
    source: "SDM Vol. 2A, DEC",
    ..PLAIN
};
pub(super) const DEC: &[Form] = one_operand!(DEC_ROW, rw, "FE", "FF", "/1");

const NEG_ROW: Form = Form {
    mnemonic: "neg",
    traits: Traits::LOCKABLE,
    meaning: Meaning::Neg,
    flags: ALL_BY_RESULT,
    summary: "subtracts the destination from 0; CF says it was not 0",
    source: "SDM Vol. 2B, NEG",
    ..PLAIN
};
pub(super) const NEG: &[Form] = one_operand!(NEG_ROW, rw, "F6", "F7", "/3");

/// Rows of a one-operand multiplication or division, whose other operands are implicit.
macro_rules! accumulator_pair {
    ($base:expr, $digit:literal, byte [$($byte:expr),*], wide $wide:ident) => {
        &[
            Form { operands: &[r(RM8)], implicit: &[$($byte),*], encoding: concat!("F6 ", $digit), ..$base },
            Form { operands: &[r(RM16)], implicit: $wide!(Width::W16), encoding: concat!("F7 ", $digit), ..$base },
            Form { operands: &[r(RM32)], implicit: $wide!(Width::W32), encoding: concat!("F7 ", $digit), ..$base },
            Form { operands: &[r(RM64)], implicit: $wide!(Width::W64), encoding: concat!("REX.W + F7 ", $digit), ..$base },
        ]
    };
}

macro_rules! product_registers {
    ($width:expr) => {
        &[updates($width, A), writes($width, D)]
    };
}

macro_rules! quotient_registers {
    ($width:expr) => {
        &[updates($width, A), updates($width, D)]
    };
}

const MUL_ROW: Form = Form {
    mnemonic: "mul",
    meaning: Meaning::Mul,
    flags: PRODUCT,
    summary: "multiplies the accumulator by the source, unsigned; the product is twice as wide, in AX or DX:AX, EDX:EAX, RDX:RAX",
    source: "SDM Vol. 2B, MUL",
    ..PLAIN
};
pub(super) const MUL: &[Form] = accumulator_pair!(MUL_ROW, "/4",
    byte [reads(Width::W8, A), writes(Width::W16, A)], wide product_registers);

const IMUL_WIDE_ROW: Form = Form {
    mnemonic: "imul",
    meaning: Meaning::ImulWide,
    flags: PRODUCT,
    summary: "multiplies the accumulator by the source, signed; the product is twice as wide, in AX or DX:AX, EDX:EAX, RDX:RAX",
    source: "SDM Vol. 2A, IMUL",
    ..PLAIN
};
pub(super) const IMUL_WIDE: &[Form] = accumulator_pair!(IMUL_WIDE_ROW, "/5",
    byte [reads(Width::W8, A), writes(Width::W16, A)], wide product_registers);

const IMUL_ROW: Form = Form {
    mnemonic: "imul",
    traits: Traits::IMPLIED_SOURCE,
    meaning: Meaning::Imul,
    flags: PRODUCT,
    summary: "multiplies signed; CF and OF say that the product did not fit the destination",
    source: "SDM Vol. 2A, IMUL",
    ..PLAIN
};
pub(super) const IMUL: &[Form] = &[
    Form { operands: &[rw(R16), r(RM16)], encoding: "0F AF /r", ..IMUL_ROW },
    Form { operands: &[rw(R32), r(RM32)], encoding: "0F AF /r", ..IMUL_ROW },
    Form { operands: &[rw(R64), r(RM64)], encoding: "REX.W + 0F AF /r", ..IMUL_ROW },
    Form { operands: &[w(R16), r(RM16), r(Pattern::Simm8)], encoding: "6B /r ib", ..IMUL_ROW },
    Form { operands: &[w(R32), r(RM32), r(Pattern::Simm8)], encoding: "6B /r ib", ..IMUL_ROW },
    Form { operands: &[w(R64), r(RM64), r(Pattern::Simm8)], encoding: "REX.W + 6B /r ib", ..IMUL_ROW },
    Form { operands: &[w(R16), r(RM16), r(IMM16)], encoding: "69 /r iw", ..IMUL_ROW },
    Form { operands: &[w(R32), r(RM32), r(IMM32)], encoding: "69 /r id", ..IMUL_ROW },
    Form { operands: &[w(R64), r(RM64), r(Pattern::Simm32)], encoding: "REX.W + 69 /r id", ..IMUL_ROW },
];

const DIV_ROW: Form = Form {
    mnemonic: "div",
    traits: Traits::WIDE_DIVISION,
    meaning: Meaning::Div,
    flags: ALL_UNDEFINED,
    summary: "divides AX, DX:AX, EDX:EAX or RDX:RAX by the source, unsigned; quotient to the accumulator, remainder to AH or the data register",
    source: "SDM Vol. 2A, DIV",
    ..PLAIN
};
pub(super) const DIV: &[Form] = accumulator_pair!(DIV_ROW, "/6",
    byte [updates(Width::W16, A), Implicit { access: Access::Write, reg: AH }], wide quotient_registers);

const IDIV_ROW: Form = Form {
    mnemonic: "idiv",
    traits: Traits::SIGNED_DIVISION.with(Traits::WIDE_DIVISION),
    meaning: Meaning::Idiv,
    flags: ALL_UNDEFINED,
    summary: "divides AX, DX:AX, EDX:EAX or RDX:RAX by the source, signed; quotient to the accumulator, remainder to AH or the data register",
    source: "SDM Vol. 2A, IDIV",
    ..PLAIN
};
pub(super) const IDIV: &[Form] = accumulator_pair!(IDIV_ROW, "/7",
    byte [updates(Width::W16, A), Implicit { access: Access::Write, reg: AH }], wide quotient_registers);

const CBW: Form = Form {
    meaning: Meaning::ExtendAccumulator,
    summary: "sign-extends the lower half of the accumulator into all of it",
    source: "SDM Vol. 2A, CBW/CWDE/CDQE",
    ..PLAIN
};
const CWD: Form = Form {
    meaning: Meaning::SpreadSign,
    summary: "fills the data register with the sign of the accumulator, ready for a signed division",
    source: "SDM Vol. 2A, CWD/CDQ/CQO",
    ..PLAIN
};
pub(super) const EXTENSIONS: &[Form] = &[
    Form { mnemonic: "cbw", implicit: &[writes(Width::W16, A), reads(Width::W8, A)], encoding: "66 98", ..CBW },
    Form { mnemonic: "cwde", implicit: &[writes(Width::W32, A), reads(Width::W16, A)], encoding: "98", ..CBW },
    Form { mnemonic: "cdqe", implicit: &[writes(Width::W64, A), reads(Width::W32, A)], encoding: "REX.W + 98", ..CBW },
    Form { mnemonic: "cwd", implicit: &[writes(Width::W16, D), reads(Width::W16, A)], encoding: "66 99", ..CWD },
    Form { mnemonic: "cdq", implicit: &[writes(Width::W32, D), reads(Width::W32, A)], encoding: "99", ..CWD },
    Form { mnemonic: "cqo", implicit: &[writes(Width::W64, D), reads(Width::W64, A)], encoding: "REX.W + 99", ..CWD },
];
