//! Single bits, bit counts, byte order, the carry flag, and the exchanges that locks are built of.

use super::*;
use crate::FlagsUndefinedWhen;

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
    traits: Traits::LOCKABLE,
    meaning: Meaning::Bts,
    summary: "copies a bit of the destination to CF and sets it",
    source: "SDM Vol. 2A, BTS",
    ..BT_ROW
};
const BTR_ROW: Form = Form {
    mnemonic: "btr",
    traits: Traits::LOCKABLE,
    meaning: Meaning::Btr,
    summary: "copies a bit of the destination to CF and clears it",
    source: "SDM Vol. 2A, BTR",
    ..BT_ROW
};
const BTC_ROW: Form = Form {
    mnemonic: "btc",
    traits: Traits::LOCKABLE,
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
    feature: feature::POPCNT,
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
    traits: Traits::LOCKABLE,
    meaning: Meaning::Xadd,
    flags: FlagEffects { modified: flag::STATUS, ..FlagEffects::NONE },
    summary: "adds the source to the destination, whose old value goes to the source",
    source: "SDM Vol. 2D, XADD",
    ..PLAIN
};

const CMPXCHG: Form = Form {
    mnemonic: "cmpxchg",
    traits: Traits::LOCKABLE,
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

/// The three widths of a register computed from a register or memory.
macro_rules! scan {
    ($base:expr, $dst:ident, $prefix:literal, $opcode:literal) => {
        [
            Form { operands: &[$dst(R16), r(RM16)], encoding: concat!($prefix, "0F ", $opcode, " /r"), ..$base },
            Form { operands: &[$dst(R32), r(RM32)], encoding: concat!($prefix, "0F ", $opcode, " /r"), ..$base },
            Form { operands: &[$dst(R64), r(RM64)], encoding: concat!($prefix, "REX.W + 0F ", $opcode, " /r"), ..$base },
        ]
    };
}

const BSF_ROW: Form = Form {
    mnemonic: "bsf",
    meaning: Meaning::Bsf,
    flags: FlagEffects {
        modified: flag::ZF,
        undefined: flag::CF.with(flag::OF).with(flag::SF).with(flag::AF).with(flag::PF),
        ..FlagEffects::NONE
    },
    summary: "finds the lowest bit that is set; without one ZF is set and the destination is kept",
    source: "SDM Vol. 2A, BSF",
    ..PLAIN
};
const BSR_ROW: Form = Form {
    mnemonic: "bsr",
    meaning: Meaning::Bsr,
    summary: "finds the highest bit that is set; without one ZF is set and the destination is kept",
    source: "SDM Vol. 2A, BSR",
    ..BSF_ROW
};
/// Compilers write it as BSF with a prefix, which older processors take it for.
const TZCNT_ROW: Form = Form {
    mnemonic: "tzcnt",
    feature: feature::BMI1,
    aliases: &["rep bsf"],
    meaning: Meaning::Tzcnt,
    flags: FlagEffects {
        modified: flag::CF.with(flag::ZF),
        undefined: flag::OF.with(flag::SF).with(flag::AF).with(flag::PF),
        ..FlagEffects::NONE
    },
    summary: "counts the zeros below the lowest bit that is set; CF is set if there is none",
    source: "SDM Vol. 2B, TZCNT",
    ..PLAIN
};
const LZCNT_ROW: Form = Form {
    mnemonic: "lzcnt",
    feature: feature::LZCNT,
    aliases: &["rep bsr"],
    meaning: Meaning::Lzcnt,
    summary: "counts the zeros above the highest bit that is set; CF is set if there is none",
    source: "SDM Vol. 2A, LZCNT",
    ..TZCNT_ROW
};
const SCAN_ROWS: [[Form; 3]; 4] = [
    scan!(BSF_ROW, rw, "", "BC"),
    scan!(BSR_ROW, rw, "", "BD"),
    scan!(TZCNT_ROW, w, "F3 ", "BC"),
    scan!(LZCNT_ROW, w, "F3 ", "BD"),
];
pub(super) const SCANS: &[Form] = SCAN_ROWS.as_flattened();

const DOUBLE_FLAGS: FlagEffects = FlagEffects {
    modified: flag::CF.with(flag::OF).with(BY_RESULT),
    undefined: flag::AF,
    undefined_when: &[
        (FlagsUndefinedWhen::CountAboveOne, flag::OF),
        (FlagsUndefinedWhen::CountAboveWidth, flag::STATUS.without(flag::AF)),
    ],
    ..FlagEffects::NONE
};
const SHLD_ROW: Form = Form {
    mnemonic: "shld",
    traits: Traits::IMPLIED_COUNT_CL,
    meaning: Meaning::Shld,
    flags: DOUBLE_FLAGS,
    summary: "shifts the destination left; bits of the source's upper end come in below",
    source: "SDM Vol. 2B, SHLD",
    ..PLAIN
};
const SHRD_ROW: Form = Form {
    mnemonic: "shrd",
    meaning: Meaning::Shrd,
    summary: "shifts the destination right; bits of the source's lower end come in above",
    source: "SDM Vol. 2B, SHRD",
    ..SHLD_ROW
};
macro_rules! double_shift {
    ($base:expr, $imm:literal, $cl:literal) => {
        [
            Form { operands: &[rw(RM16), r(R16), r(Pattern::Uimm8)], encoding: concat!("0F ", $imm, " /r ib"), ..$base },
            Form { operands: &[rw(RM32), r(R32), r(Pattern::Uimm8)], encoding: concat!("0F ", $imm, " /r ib"), ..$base },
            Form { operands: &[rw(RM64), r(R64), r(Pattern::Uimm8)], encoding: concat!("REX.W + 0F ", $imm, " /r ib"), ..$base },
            Form { operands: &[rw(RM16), r(R16), r(Pattern::Cl)], encoding: concat!("0F ", $cl, " /r"), ..$base },
            Form { operands: &[rw(RM32), r(R32), r(Pattern::Cl)], encoding: concat!("0F ", $cl, " /r"), ..$base },
            Form { operands: &[rw(RM64), r(R64), r(Pattern::Cl)], encoding: concat!("REX.W + 0F ", $cl, " /r"), ..$base },
        ]
    };
}
const DOUBLE_ROWS: [[Form; 6]; 2] = [double_shift!(SHLD_ROW, "A4", "A5"), double_shift!(SHRD_ROW, "AC", "AD")];
pub(super) const DOUBLE_SHIFTS: &[Form] = DOUBLE_ROWS.as_flattened();

const V32: Pattern = Pattern::Vvvv(Width::W32);
const V64: Pattern = Pattern::Vvvv(Width::W64);

/// What BMI1 instructions do to the flags.
const BMI_FLAGS: FlagEffects = FlagEffects {
    modified: flag::SF.with(flag::ZF).with(flag::CF),
    cleared: flag::OF,
    undefined: flag::AF.with(flag::PF),
    ..FlagEffects::NONE
};
const BMI: Form = Form { flags: BMI_FLAGS, ..PLAIN };
const ANDN: Form = Form {
    mnemonic: "andn",
    feature: feature::BMI1,
    meaning: Meaning::Andn,
    flags: FlagEffects { modified: flag::SF.with(flag::ZF), cleared: flag::OF.with(flag::CF), undefined: flag::AF.with(flag::PF), ..FlagEffects::NONE },
    summary: "inverts the first source and ANDs it with the second",
    source: "SDM Vol. 2A, ANDN",
    ..PLAIN
};
const BEXTR: Form = Form {
    mnemonic: "bextr",
    feature: feature::BMI1,
    meaning: Meaning::Bextr,
    flags: FlagEffects { modified: flag::ZF, cleared: flag::OF.with(flag::CF), undefined: flag::AF.with(flag::PF).with(flag::SF), ..FlagEffects::NONE },
    summary: "takes bits out of the source: bits 7 to 0 of the last operand say from where, bits 15 to 8 how many",
    source: "SDM Vol. 2A, BEXTR",
    ..PLAIN
};
const BLSI: Form = Form { mnemonic: "blsi", feature: feature::BMI1, meaning: Meaning::Blsi, summary: "keeps the lowest bit that is set", source: "SDM Vol. 2A, BLSI", ..BMI };
const BLSMSK: Form = Form {
    mnemonic: "blsmsk",
    feature: feature::BMI1,
    meaning: Meaning::Blsmsk,
    flags: FlagEffects { modified: flag::SF.with(flag::CF), cleared: flag::OF.with(flag::ZF), undefined: flag::AF.with(flag::PF), ..FlagEffects::NONE },
    summary: "makes a mask up to and with the lowest bit that is set",
    source: "SDM Vol. 2A, BLSMSK",
    ..PLAIN
};
const BLSR: Form = Form { mnemonic: "blsr", feature: feature::BMI1, meaning: Meaning::Blsr, summary: "clears the lowest bit that is set", source: "SDM Vol. 2A, BLSR", ..BMI };
const BZHI: Form = Form { mnemonic: "bzhi", feature: feature::BMI2, meaning: Meaning::Bzhi, summary: "clears the bits from the position that the last operand's low byte says", source: "SDM Vol. 2A, BZHI", ..BMI };
const PDEP: Form = Form { mnemonic: "pdep", feature: feature::BMI2, meaning: Meaning::Pdep, summary: "spreads the first source's low bits to where the second has bits set", source: "SDM Vol. 2B, PDEP", ..PLAIN };
const PEXT: Form = Form { mnemonic: "pext", feature: feature::BMI2, meaning: Meaning::Pext, summary: "gathers the first source's bits from where the second has bits set", source: "SDM Vol. 2B, PEXT", ..PLAIN };
const RORX: Form = Form { mnemonic: "rorx", feature: feature::BMI2, meaning: Meaning::Rorx, summary: "rotates the source right; no flag changes", source: "SDM Vol. 2B, RORX", ..PLAIN };
const SARX: Form = Form { mnemonic: "sarx", feature: feature::BMI2, meaning: Meaning::Sarx, summary: "shifts the source right, copying the sign; no flag changes", source: "SDM Vol. 2B, SARX/SHLX/SHRX", ..PLAIN };
const SHLX: Form = Form { mnemonic: "shlx", feature: feature::BMI2, meaning: Meaning::Shlx, summary: "shifts the source left; no flag changes", ..SARX };
const SHRX: Form = Form { mnemonic: "shrx", feature: feature::BMI2, meaning: Meaning::Shrx, summary: "shifts the source right, filling with zeros; no flag changes", ..SARX };
const MULX: Form = Form { mnemonic: "mulx", feature: feature::BMI2, meaning: Meaning::Mulx, summary: "multiplies EDX or RDX with the source: the upper half to the first operand, the lower to the second", source: "SDM Vol. 2B, MULX", ..PLAIN };

pub(super) const VEX: &[Form] = &[
    Form { operands: &[w(R32), r(V32), r(RM32)], encoding: "VEX.LZ.0F38.W0 F2 /r", ..ANDN },
    Form { operands: &[w(R64), r(V64), r(RM64)], encoding: "VEX.LZ.0F38.W1 F2 /r", ..ANDN },
    Form { operands: &[w(R32), r(RM32), r(V32)], encoding: "VEX.LZ.0F38.W0 F7 /r", ..BEXTR },
    Form { operands: &[w(R64), r(RM64), r(V64)], encoding: "VEX.LZ.0F38.W1 F7 /r", ..BEXTR },
    Form { operands: &[w(V32), r(RM32)], encoding: "VEX.LZ.0F38.W0 F3 /3", ..BLSI },
    Form { operands: &[w(V64), r(RM64)], encoding: "VEX.LZ.0F38.W1 F3 /3", ..BLSI },
    Form { operands: &[w(V32), r(RM32)], encoding: "VEX.LZ.0F38.W0 F3 /2", ..BLSMSK },
    Form { operands: &[w(V64), r(RM64)], encoding: "VEX.LZ.0F38.W1 F3 /2", ..BLSMSK },
    Form { operands: &[w(V32), r(RM32)], encoding: "VEX.LZ.0F38.W0 F3 /1", ..BLSR },
    Form { operands: &[w(V64), r(RM64)], encoding: "VEX.LZ.0F38.W1 F3 /1", ..BLSR },
    Form { operands: &[w(R32), r(RM32), r(V32)], encoding: "VEX.LZ.0F38.W0 F5 /r", ..BZHI },
    Form { operands: &[w(R64), r(RM64), r(V64)], encoding: "VEX.LZ.0F38.W1 F5 /r", ..BZHI },
    Form { operands: &[w(R32), r(V32), r(RM32)], encoding: "VEX.LZ.F2.0F38.W0 F5 /r", ..PDEP },
    Form { operands: &[w(R64), r(V64), r(RM64)], encoding: "VEX.LZ.F2.0F38.W1 F5 /r", ..PDEP },
    Form { operands: &[w(R32), r(V32), r(RM32)], encoding: "VEX.LZ.F3.0F38.W0 F5 /r", ..PEXT },
    Form { operands: &[w(R64), r(V64), r(RM64)], encoding: "VEX.LZ.F3.0F38.W1 F5 /r", ..PEXT },
    Form { operands: &[w(R32), r(RM32), r(Pattern::Uimm8)], encoding: "VEX.LZ.F2.0F3A.W0 F0 /r ib", ..RORX },
    Form { operands: &[w(R64), r(RM64), r(Pattern::Uimm8)], encoding: "VEX.LZ.F2.0F3A.W1 F0 /r ib", ..RORX },
    Form { operands: &[w(R32), r(RM32), r(V32)], encoding: "VEX.LZ.F3.0F38.W0 F7 /r", ..SARX },
    Form { operands: &[w(R64), r(RM64), r(V64)], encoding: "VEX.LZ.F3.0F38.W1 F7 /r", ..SARX },
    Form { operands: &[w(R32), r(RM32), r(V32)], encoding: "VEX.LZ.66.0F38.W0 F7 /r", ..SHLX },
    Form { operands: &[w(R64), r(RM64), r(V64)], encoding: "VEX.LZ.66.0F38.W1 F7 /r", ..SHLX },
    Form { operands: &[w(R32), r(RM32), r(V32)], encoding: "VEX.LZ.F2.0F38.W0 F7 /r", ..SHRX },
    Form { operands: &[w(R64), r(RM64), r(V64)], encoding: "VEX.LZ.F2.0F38.W1 F7 /r", ..SHRX },
    Form { operands: &[w(R32), w(V32), r(RM32)], implicit: &[reads(Width::W32, D)], encoding: "VEX.LZ.F2.0F38.W0 F6 /r", ..MULX },
    Form { operands: &[w(R64), w(V64), r(RM64)], implicit: &[reads(Width::W64, D)], encoding: "VEX.LZ.F2.0F38.W1 F6 /r", ..MULX },
];

const ADCX: Form = Form {
    mnemonic: "adcx",
    feature: feature::ADX,
    meaning: Meaning::Adcx,
    flags: FlagEffects { tested: flag::CF, modified: flag::CF, ..FlagEffects::NONE },
    summary: "adds the source and CF to the destination; only CF changes",
    source: "SDM Vol. 2A, ADCX",
    ..PLAIN
};
const ADOX: Form = Form {
    mnemonic: "adox",
    feature: feature::ADX,
    meaning: Meaning::Adox,
    flags: FlagEffects { tested: flag::OF, modified: flag::OF, ..FlagEffects::NONE },
    summary: "adds the source and OF to the destination; only OF changes",
    source: "SDM Vol. 2A, ADOX",
    ..PLAIN
};
const MOVBE: Form = Form { mnemonic: "movbe", feature: feature::MOVBE, meaning: Meaning::Movbe, summary: "copies between memory and a register, reversing the order of the bytes", source: "SDM Vol. 2B, MOVBE", ..PLAIN };
const CRC32: Form = Form { mnemonic: "crc32", feature: feature::SSE4_2, summary: "adds the source to the CRC in the destination; the polynomial is 11EDC6F41", source: "SDM Vol. 2A, CRC32", ..PLAIN };
const PAIR: Form = Form {
    traits: Traits::LOCKABLE,
    flags: FlagEffects { modified: flag::ZF, ..FlagEffects::NONE },
    source: "SDM Vol. 2A, CMPXCHG8B/CMPXCHG16B",
    ..PLAIN
};
const MEM16: Pattern = Pattern::Mem(Width::W16);
const MEM32: Pattern = Pattern::Mem(Width::W32);
const MEM64: Pattern = Pattern::Mem(Width::W64);

pub(super) const OTHERS: &[Form] = &[
    Form { operands: &[rw(R32), r(RM32)], encoding: "66 0F 38 F6 /r", ..ADCX },
    Form { operands: &[rw(R64), r(RM64)], encoding: "66 REX.W + 0F 38 F6 /r", ..ADCX },
    Form { operands: &[rw(R32), r(RM32)], encoding: "F3 0F 38 F6 /r", ..ADOX },
    Form { operands: &[rw(R64), r(RM64)], encoding: "F3 REX.W + 0F 38 F6 /r", ..ADOX },
    Form { operands: &[w(R16), r(MEM16)], encoding: "0F 38 F0 /r", ..MOVBE },
    Form { operands: &[w(R32), r(MEM32)], encoding: "0F 38 F0 /r", ..MOVBE },
    Form { operands: &[w(R64), r(MEM64)], encoding: "REX.W + 0F 38 F0 /r", ..MOVBE },
    Form { operands: &[w(MEM16), r(R16)], encoding: "0F 38 F1 /r", ..MOVBE },
    Form { operands: &[w(MEM32), r(R32)], encoding: "0F 38 F1 /r", ..MOVBE },
    Form { operands: &[w(MEM64), r(R64)], encoding: "REX.W + 0F 38 F1 /r", ..MOVBE },
    Form { operands: &[rw(R32), r(RM8)], meaning: Meaning::Crc32(Width::W8), encoding: "F2 0F 38 F0 /r", ..CRC32 },
    Form { operands: &[rw(R32), r(RM16)], meaning: Meaning::Crc32(Width::W16), encoding: "66 F2 0F 38 F1 /r", ..CRC32 },
    Form { operands: &[rw(R32), r(RM32)], meaning: Meaning::Crc32(Width::W32), encoding: "F2 0F 38 F1 /r", ..CRC32 },
    Form { operands: &[rw(R64), r(RM8)], meaning: Meaning::Crc32(Width::W8), encoding: "F2 REX.W + 0F 38 F0 /r", ..CRC32 },
    Form { operands: &[rw(R64), r(RM64)], meaning: Meaning::Crc32(Width::W64), encoding: "F2 REX.W + 0F 38 F1 /r", ..CRC32 },
    Form {
        mnemonic: "cmpxchg8b",
        feature: feature::CX8,
        meaning: Meaning::CmpxchgPair(Width::W32),
        operands: &[rw(MEM64)],
        implicit: &[updates(Width::W32, A), updates(Width::W32, D), reads(Width::W32, B), reads(Width::W32, C)],
        encoding: "0F C7 /1",
        summary: "if EDX:EAX equals the destination ECX:EBX goes there, else the destination to EDX:EAX",
        ..PAIR
    },
    Form {
        mnemonic: "cmpxchg16b",
        feature: feature::CMPXCHG16B,
        meaning: Meaning::CmpxchgPair(Width::W64),
        operands: &[rw(Pattern::MemAligned)],
        implicit: &[updates(Width::W64, A), updates(Width::W64, D), reads(Width::W64, B), reads(Width::W64, C)],
        encoding: "REX.W + 0F C7 /1",
        summary: "if RDX:RAX equals the destination RCX:RBX goes there, else the destination to RDX:RAX",
        ..PAIR
    },
];
