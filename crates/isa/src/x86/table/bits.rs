//! Single bits, bit counts, byte order, the carry flag, and the exchanges that locks are built of.

use super::*;

const BIT_FLAGS: FlagEffects = FlagEffects {
    modified: flag::CF,
    undefined: flag::OF.with(flag::SF).with(flag::AF).with(flag::PF),
    ..FlagEffects::NONE
};

/// The six rows of a bit test: the number of the bit in a register or a constant, at three widths.
macro_rules! bit_test {
    ($base:expr, $dst:ident, $reg:literal, $digit:literal) => {
        &[
            Form { operands: &[$dst(RM16), r(R16)], encoding: concat!("0F ", $reg, " /r"), ..$base },
            Form { operands: &[$dst(RM32), r(R32)], encoding: concat!("0F ", $reg, " /r"), ..$base },
            Form { operands: &[$dst(RM64), r(R64)], encoding: concat!("REX.W + 0F ", $reg, " /r"), ..$base },
            Form { operands: &[$dst(RM16), r(Pattern::Uimm8)], encoding: concat!("0F BA ", $digit, " ib"), ..$base },
            Form { operands: &[$dst(RM32), r(Pattern::Uimm8)], encoding: concat!("0F BA ", $digit, " ib"), ..$base },
            Form { operands: &[$dst(RM64), r(Pattern::Uimm8)], encoding: concat!("REX.W + 0F BA ", $digit, " ib"), ..$base },
        ]
    };
}

const BT_ROW: Form = Form {
    mnemonic: "bt",
    meaning: Meaning::Bt,
    flags: BIT_FLAGS,
    summary: "copies a bit of the first operand to CF",
    source: "SDM Vol. 2A, BT",
    ..PLAIN
};
const BTS_ROW: Form = Form {
    mnemonic: "bts",
    meaning: Meaning::Bts,
    summary: "copies a bit of the destination to CF and sets it",
    source: "SDM Vol. 2A, BTS",
    ..BT_ROW
};
const BTR_ROW: Form = Form {
    mnemonic: "btr",
    meaning: Meaning::Btr,
    summary: "copies a bit of the destination to CF and clears it",
    source: "SDM Vol. 2A, BTR",
    ..BT_ROW
};
const BTC_ROW: Form = Form {
    mnemonic: "btc",
    meaning: Meaning::Btc,
    summary: "copies a bit of the destination to CF and inverts it",
    source: "SDM Vol. 2A, BTC",
    ..BT_ROW
};
pub(super) const BT: &[Form] = bit_test!(BT_ROW, r, "A3", "/4");
pub(super) const BTS: &[Form] = bit_test!(BTS_ROW, rw, "AB", "/5");
pub(super) const BTR: &[Form] = bit_test!(BTR_ROW, rw, "B3", "/6");
pub(super) const BTC: &[Form] = bit_test!(BTC_ROW, rw, "BB", "/7");

const CARRY: Form = Form {
    flags: FlagEffects { modified: flag::CF, ..FlagEffects::NONE },
    ..PLAIN
};

/// The counted bits go to a register of the source's width.
const POPCNT: Form = Form {
    mnemonic: "popcnt",
    meaning: Meaning::Popcnt,
    flags: FlagEffects {
        modified: flag::ZF,
        cleared: flag::OF.with(flag::SF).with(flag::AF).with(flag::CF).with(flag::PF),
        ..FlagEffects::NONE
    },
    summary: "counts the bits of the source that are set",
    source: "SDM Vol. 2B, POPCNT",
    ..PLAIN
};

const XADD: Form = Form {
    mnemonic: "xadd",
    meaning: Meaning::Xadd,
    flags: FlagEffects { modified: flag::STATUS, ..FlagEffects::NONE },
    summary: "adds the source to the destination, whose old value goes to the source",
    source: "SDM Vol. 2D, XADD",
    ..PLAIN
};

const CMPXCHG: Form = Form {
    mnemonic: "cmpxchg",
    meaning: Meaning::Cmpxchg,
    flags: FlagEffects { modified: flag::STATUS, ..FlagEffects::NONE },
    summary: "if the accumulator equals the destination the source goes there, else the destination to the accumulator",
    source: "SDM Vol. 2A, CMPXCHG",
    ..PLAIN
};

const BSWAP: Form = Form {
    mnemonic: "bswap",
    meaning: Meaning::Bswap,
    summary: "reverses the order of the bytes",
    source: "SDM Vol. 2A, BSWAP",
    ..PLAIN
};

pub(super) const FORMS: &[Form] = &[
    Form { mnemonic: "clc", meaning: Meaning::Clc, encoding: "F8", summary: "clears CF", source: "SDM Vol. 2A, CLC", ..CARRY },
    Form { mnemonic: "stc", meaning: Meaning::Stc, encoding: "F9", summary: "sets CF", source: "SDM Vol. 2B, STC", ..CARRY },
    Form {
        mnemonic: "cmc",
        meaning: Meaning::Cmc,
        encoding: "F5",
        flags: FlagEffects { tested: flag::CF, modified: flag::CF, ..FlagEffects::NONE },
        summary: "inverts CF",
        source: "SDM Vol. 2A, CMC",
        ..PLAIN
    },
    Form { operands: &[rw(R32)], encoding: "0F C8 +r", ..BSWAP },
    Form { operands: &[rw(R64)], encoding: "REX.W + 0F C8 +r", ..BSWAP },
    Form { operands: &[w(R16), r(RM16)], encoding: "F3 0F B8 /r", ..POPCNT },
    Form { operands: &[w(R32), r(RM32)], encoding: "F3 0F B8 /r", ..POPCNT },
    Form { operands: &[w(R64), r(RM64)], encoding: "F3 REX.W + 0F B8 /r", ..POPCNT },
    Form { operands: &[rw(RM8), rw(R8)], encoding: "0F C0 /r", ..XADD },
    Form { operands: &[rw(RM16), rw(R16)], encoding: "0F C1 /r", ..XADD },
    Form { operands: &[rw(RM32), rw(R32)], encoding: "0F C1 /r", ..XADD },
    Form { operands: &[rw(RM64), rw(R64)], encoding: "REX.W + 0F C1 /r", ..XADD },
    Form { operands: &[rw(RM8), r(R8)], implicit: &[updates(Width::W8, A)], encoding: "0F B0 /r", ..CMPXCHG },
    Form { operands: &[rw(RM16), r(R16)], implicit: &[updates(Width::W16, A)], encoding: "0F B1 /r", ..CMPXCHG },
    Form { operands: &[rw(RM32), r(R32)], implicit: &[updates(Width::W32, A)], encoding: "0F B1 /r", ..CMPXCHG },
    Form { operands: &[rw(RM64), r(R64)], implicit: &[updates(Width::W64, A)], encoding: "REX.W + 0F B1 /r", ..CMPXCHG },
];
