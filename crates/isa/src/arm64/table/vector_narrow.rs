//! Vector instructions whose elements are wider or narrower in the result than in a source.

use super::rows::*;
use crate::arm64::RegField::{Rd, Rm, Rn};
use crate::arm64::pattern::{Count, Elements, LaneSource};
use crate::arm64::vector::{LaneOp, Vector};
use crate::arm64::{Form, Meaning, Pattern};

pub(super) const ROWS: &[Form] = rows![
    LONG, LONG_SCALAR, WIDE, NARROW_HIGH, POLYNOMIALS, PAIRS_LONG, NARROW, NARROW_SCALAR, SHIFT_LONG, FLOATS,
];

const fn long(mnemonic: &'static str, op: LaneOp, signed: bool, summary: &'static str, source: &'static str) -> Form {
    integers(named(mnemonic, Meaning::Vector(Vector::Lanes { op, signed }), summary, source))
}
const fn wide_whole(widths: u8) -> Elements {
    wide(LaneSource::Size, widths, Count::Whole)
}
const fn half(widths: u8) -> Elements {
    elements(LaneSource::Size, widths, Count::Half)
}
const fn whole(widths: u8) -> Elements {
    elements(LaneSource::Size, widths, Count::Whole)
}
macro_rules! destination {
    (write) => { vw };
    (change) => { vrw };
}

/// Both forms of an instruction that widens: of the lower halves of its sources, and of the upper ones.
macro_rules! long {
    ($($u:literal $opcode:literal $widths:expr, $dst:ident, $name:literal $upper:literal $op:expr, $signed:literal, $summary:literal $page:literal;)*) => {
        rows![$([
            Form {
                operands: &[destination!($dst)(Rd, wide_whole($widths)), v(Rn, half($widths)), v(Rm, half($widths))],
                encoding: concat!("0 0 ", $u, " 01110 size:2 1 Rm ", $opcode, " 00 Rn Rd"),
                ..long($name, $op, $signed, concat!($summary, " of the lower halves"), concat!("Arm ARM, C7.2 ", $page))
            },
            Form {
                operands: &[destination!($dst)(Rd, wide_whole($widths)), v(Rn, whole($widths)), v(Rm, whole($widths))],
                encoding: concat!("0 1 ", $u, " 01110 size:2 1 Rm ", $opcode, " 00 Rn Rd"),
                ..long($upper, $op, $signed, concat!($summary, " of the upper halves"), concat!("Arm ARM, C7.2 ", $page))
            },
        ]),*]
    };
}
const LONG: &[Form] = long! {
    "0" "0000" B | H | S, write, "saddl" "saddl2" LaneOp::Add, true, "adds signed elements" "SADDL, SADDL2";
    "1" "0000" B | H | S, write, "uaddl" "uaddl2" LaneOp::Add, false, "adds unsigned elements" "UADDL, UADDL2";
    "0" "0010" B | H | S, write, "ssubl" "ssubl2" LaneOp::Sub, true, "subtracts signed elements" "SSUBL, SSUBL2";
    "1" "0010" B | H | S, write, "usubl" "usubl2" LaneOp::Sub, false, "subtracts unsigned elements" "USUBL, USUBL2";
    "0" "0101" B | H | S, change, "sabal" "sabal2" LaneOp::AbsoluteDifferenceAdd { signed: true }, true, "adds up distances of signed elements" "SABAL, SABAL2";
    "1" "0101" B | H | S, change, "uabal" "uabal2" LaneOp::AbsoluteDifferenceAdd { signed: false }, false, "adds up distances of unsigned elements" "UABAL, UABAL2";
    "0" "0111" B | H | S, write, "sabdl" "sabdl2" LaneOp::AbsoluteDifference { signed: true }, true, "takes the distance of signed elements" "SABDL, SABDL2";
    "1" "0111" B | H | S, write, "uabdl" "uabdl2" LaneOp::AbsoluteDifference { signed: false }, false, "takes the distance of unsigned elements" "UABDL, UABDL2";
    "0" "1000" B | H | S, change, "smlal" "smlal2" LaneOp::MulAdd, true, "adds up products of signed elements" "SMLAL, SMLAL2 (vector)";
    "1" "1000" B | H | S, change, "umlal" "umlal2" LaneOp::MulAdd, false, "adds up products of unsigned elements" "UMLAL, UMLAL2 (vector)";
    "0" "1001" H | S, change, "sqdmlal" "sqdmlal2" LaneOp::DoublingMulLongAdd { subtract: false }, true, "adds up doubled products of signed elements" "SQDMLAL, SQDMLAL2 (vector)";
    "0" "1010" B | H | S, change, "smlsl" "smlsl2" LaneOp::MulSub, true, "subtracts products of signed elements" "SMLSL, SMLSL2 (vector)";
    "1" "1010" B | H | S, change, "umlsl" "umlsl2" LaneOp::MulSub, false, "subtracts products of unsigned elements" "UMLSL, UMLSL2 (vector)";
    "0" "1011" H | S, change, "sqdmlsl" "sqdmlsl2" LaneOp::DoublingMulLongAdd { subtract: true }, true, "subtracts doubled products of signed elements" "SQDMLSL, SQDMLSL2 (vector)";
    "0" "1100" B | H | S, write, "smull" "smull2" LaneOp::Mul, true, "multiplies signed elements" "SMULL, SMULL2 (vector)";
    "1" "1100" B | H | S, write, "umull" "umull2" LaneOp::Mul, false, "multiplies unsigned elements" "UMULL, UMULL2 (vector)";
    "0" "1101" H | S, write, "sqdmull" "sqdmull2" LaneOp::DoublingMulLong, true, "multiplies and doubles signed elements" "SQDMULL, SQDMULL2 (vector)";
    "0" "1110" B, write, "pmull" "pmull2" LaneOp::PolynomialMul, false, "multiplies polynomials over bits" "PMULL, PMULL2";
};

const fn one(widths: u8) -> Elements {
    elements(LaneSource::Size, widths, Count::One)
}
const fn one_wide(widths: u8) -> Elements {
    wide(LaneSource::Size, widths, Count::One)
}
const LONG_SCALAR: &[Form] = &[
    Form { operands: &[vrw(Rd, one_wide(H | S)), v(Rn, one(H | S)), v(Rm, one(H | S))], encoding: "01 0 11110 size:2 1 Rm 1001 00 Rn Rd", ..long("sqdmlal", LaneOp::DoublingMulLongAdd { subtract: false }, true, "adds the doubled product of signed numbers", "Arm ARM, C7.2 SQDMLAL, SQDMLAL2 (vector)") },
    Form { operands: &[vrw(Rd, one_wide(H | S)), v(Rn, one(H | S)), v(Rm, one(H | S))], encoding: "01 0 11110 size:2 1 Rm 1011 00 Rn Rd", ..long("sqdmlsl", LaneOp::DoublingMulLongAdd { subtract: true }, true, "subtracts the doubled product of signed numbers", "Arm ARM, C7.2 SQDMLSL, SQDMLSL2 (vector)") },
    Form { operands: &[vw(Rd, one_wide(H | S)), v(Rn, one(H | S)), v(Rm, one(H | S))], encoding: "01 0 11110 size:2 1 Rm 1101 00 Rn Rd", ..long("sqdmull", LaneOp::DoublingMulLong, true, "multiplies and doubles signed numbers", "Arm ARM, C7.2 SQDMULL, SQDMULL2 (vector)") },
];

macro_rules! wide {
    ($($u:literal $opcode:literal $name:literal $upper:literal $op:expr, $signed:literal, $summary:literal $page:literal;)*) => {
        rows![$([
            Form {
                operands: &[vw(Rd, wide_whole(B | H | S)), v(Rn, wide_whole(B | H | S)), v(Rm, half(B | H | S))],
                encoding: concat!("0 0 ", $u, " 01110 size:2 1 Rm ", $opcode, " 00 Rn Rd"),
                ..long($name, $op, $signed, $summary, concat!("Arm ARM, C7.2 ", $page))
            },
            Form {
                operands: &[vw(Rd, wide_whole(B | H | S)), v(Rn, wide_whole(B | H | S)), v(Rm, whole(B | H | S))],
                encoding: concat!("0 1 ", $u, " 01110 size:2 1 Rm ", $opcode, " 00 Rn Rd"),
                ..long($upper, $op, $signed, concat!($summary, ", of the upper half"), concat!("Arm ARM, C7.2 ", $page))
            },
        ]),*]
    };
}
const WIDE: &[Form] = wide! {
    "0" "0001" "saddw" "saddw2" LaneOp::Add, true, "adds signed elements of half the width" "SADDW, SADDW2";
    "1" "0001" "uaddw" "uaddw2" LaneOp::Add, false, "adds unsigned elements of half the width" "UADDW, UADDW2";
    "0" "0011" "ssubw" "ssubw2" LaneOp::Sub, true, "subtracts signed elements of half the width" "SSUBW, SSUBW2";
    "1" "0011" "usubw" "usubw2" LaneOp::Sub, false, "subtracts unsigned elements of half the width" "USUBW, USUBW2";
};

macro_rules! narrow_high {
    ($($u:literal $opcode:literal $name:literal $upper:literal $subtract:literal $round:literal $summary:literal $page:literal;)*) => {
        rows![$([
            Form {
                operands: &[vw(Rd, half(B | H | S)), v(Rn, wide_whole(B | H | S)), v(Rm, wide_whole(B | H | S))],
                encoding: concat!("0 0 ", $u, " 01110 size:2 1 Rm ", $opcode, " 00 Rn Rd"),
                ..integers(named($name, Meaning::Vector(Vector::NarrowHigh { subtract: $subtract, round: $round }), $summary, concat!("Arm ARM, C7.2 ", $page)))
            },
            Form {
                operands: &[vrw(Rd, whole(B | H | S)), v(Rn, wide_whole(B | H | S)), v(Rm, wide_whole(B | H | S))],
                encoding: concat!("0 1 ", $u, " 01110 size:2 1 Rm ", $opcode, " 00 Rn Rd"),
                ..integers(named($upper, Meaning::Vector(Vector::NarrowHigh { subtract: $subtract, round: $round }), concat!($summary, ", to the upper half"), concat!("Arm ARM, C7.2 ", $page)))
            },
        ]),*]
    };
}
const NARROW_HIGH: &[Form] = narrow_high! {
    "0" "0100" "addhn" "addhn2" false false "adds elements and takes the upper half of each sum" "ADDHN, ADDHN2";
    "1" "0100" "raddhn" "raddhn2" false true "adds elements and takes the upper half of each sum, rounding" "RADDHN, RADDHN2";
    "0" "0110" "subhn" "subhn2" true false "subtracts elements and takes the upper half of each difference" "SUBHN, SUBHN2";
    "1" "0110" "rsubhn" "rsubhn2" true true "subtracts elements and takes the upper half of each difference, rounding" "RSUBHN, RSUBHN2";
};

const PMULL: Form = named("pmull", Meaning::Vector(Vector::PolynomialMulWide), "multiplies polynomials of 64 bits", "Arm ARM, C7.2 PMULL, PMULL2");
const ONE_Q: Elements = fixed(W128, Count::Whole);
const POLYNOMIALS: &[Form] = &[
    Form { operands: &[vw(Rd, ONE_Q), v(Rn, fixed(W64, Count::Half)), v(Rm, fixed(W64, Count::Half))], encoding: "0 0 0 01110 11 1 Rm 1110 00 Rn Rd", ..PMULL },
    Form { mnemonic: "pmull2", operands: &[vw(Rd, ONE_Q), v(Rn, fixed(W64, Count::Whole)), v(Rm, fixed(W64, Count::Whole))], encoding: "0 1 0 01110 11 1 Rm 1110 00 Rn Rd", ..PMULL },
];

/// The sums of pairs have half as many elements.
const PAIRS: Elements = elements(LaneSource::Size, B | H | S, Count::Q);
const PAIRS_WIDE: Elements = wide(LaneSource::Size, B | H | S, Count::QOrOne);
macro_rules! pairs_long {
    ($($u:literal $opcode:literal $dst:ident $name:literal $signed:literal $accumulate:literal $summary:literal $page:literal;)*) => {
        &[$(Form {
            operands: &[destination!($dst)(Rd, PAIRS_WIDE), v(Rn, PAIRS)],
            encoding: concat!("0 Q:1 ", $u, " 01110 size:2 10000 ", $opcode, " 10 Rn Rd"),
            ..integers(named($name, Meaning::Vector(Vector::PairsLong { signed: $signed, accumulate: $accumulate }), $summary, concat!("Arm ARM, C7.2 ", $page)))
        },)*]
    };
}
const PAIRS_LONG: &[Form] = pairs_long! {
    "0" "00010" write "saddlp" true false "adds each two signed neighbours at twice their width" "SADDLP";
    "1" "00010" write "uaddlp" false false "adds each two unsigned neighbours at twice their width" "UADDLP";
    "0" "00110" change "sadalp" true true "adds each two signed neighbours to an element of twice the width" "SADALP";
    "1" "00110" change "uadalp" false true "adds each two unsigned neighbours to an element of twice the width" "UADALP";
};

macro_rules! narrow {
    ($($u:literal $opcode:literal $name:literal $upper:literal $op:expr, $summary:literal $page:literal;)*) => {
        rows![$([
            Form {
                operands: &[vw(Rd, half(B | H | S)), v(Rn, wide_whole(B | H | S))],
                encoding: concat!("0 0 ", $u, " 01110 size:2 10000 ", $opcode, " 10 Rn Rd"),
                ..long($name, $op, false, $summary, concat!("Arm ARM, C7.2 ", $page))
            },
            Form {
                operands: &[vrw(Rd, whole(B | H | S)), v(Rn, wide_whole(B | H | S))],
                encoding: concat!("0 1 ", $u, " 01110 size:2 10000 ", $opcode, " 10 Rn Rd"),
                ..long($upper, $op, false, concat!($summary, ", to the upper half"), concat!("Arm ARM, C7.2 ", $page))
            },
        ]),*]
    };
}
const SQXTN: LaneOp = LaneOp::SaturatingNarrow { from_signed: true, to_signed: true, round: false };
const SQXTUN: LaneOp = LaneOp::SaturatingNarrow { from_signed: true, to_signed: false, round: false };
const UQXTN: LaneOp = LaneOp::SaturatingNarrow { from_signed: false, to_signed: false, round: false };
const NARROW: &[Form] = narrow! {
    "0" "10010" "xtn" "xtn2" LaneOp::Narrow { round: false }, "takes the lower half of each element" "XTN, XTN2";
    "1" "10010" "sqxtun" "sqxtun2" SQXTUN, "narrows signed elements to unsigned ones; what does not fit becomes the limit" "SQXTUN, SQXTUN2";
    "0" "10100" "sqxtn" "sqxtn2" SQXTN, "narrows signed elements; what does not fit becomes the limit" "SQXTN, SQXTN2";
    "1" "10100" "uqxtn" "uqxtn2" UQXTN, "narrows unsigned elements; what does not fit becomes the limit" "UQXTN, UQXTN2";
};
const NARROW_SCALAR: &[Form] = &[
    Form { operands: &[vw(Rd, one(B | H | S)), v(Rn, one_wide(B | H | S))], encoding: "01 1 11110 size:2 10000 10010 10 Rn Rd", ..long("sqxtun", SQXTUN, false, "narrows a signed number to an unsigned one; what does not fit becomes the limit", "Arm ARM, C7.2 SQXTUN, SQXTUN2") },
    Form { operands: &[vw(Rd, one(B | H | S)), v(Rn, one_wide(B | H | S))], encoding: "01 0 11110 size:2 10000 10100 10 Rn Rd", ..long("sqxtn", SQXTN, false, "narrows a signed number; what does not fit becomes the limit", "Arm ARM, C7.2 SQXTN, SQXTN2") },
    Form { operands: &[vw(Rd, one(B | H | S)), v(Rn, one_wide(B | H | S))], encoding: "01 1 11110 size:2 10000 10100 10 Rn Rd", ..long("uqxtn", UQXTN, false, "narrows an unsigned number; what does not fit becomes the limit", "Arm ARM, C7.2 UQXTN, UQXTN2") },
];

const SHLL: Form = long("shll", LaneOp::ShiftLeft, false, "shifts elements left by their width, into elements of twice the width", "Arm ARM, C7.2 SHLL, SHLL2");
const SHIFT_LONG: &[Form] = &[
    Form { operands: &[vw(Rd, wide_whole(B | H | S)), v(Rn, half(B | H | S)), p(Pattern::LaneBits)], encoding: "0 0 1 01110 size:2 10000 10011 10 Rn Rd", ..SHLL },
    Form { mnemonic: "shll2", operands: &[vw(Rd, wide_whole(B | H | S)), v(Rn, whole(B | H | S)), p(Pattern::LaneBits)], encoding: "0 1 1 01110 size:2 10000 10011 10 Rn Rd", ..SHLL },
];

const fn converted(mnemonic: &'static str, op: LaneOp, summary: &'static str, source: &'static str) -> Form {
    floats(named(mnemonic, Meaning::Vector(Vector::Lanes { op, signed: false }), summary, source))
}
const FCVTN: Form = converted("fcvtn", LaneOp::FConvert, "converts to half the width", "Arm ARM, C7.2 FCVTN, FCVTN2");
const FCVTN2: Form = Form { mnemonic: "fcvtn2", ..FCVTN };
const FCVTL: Form = converted("fcvtl", LaneOp::FConvert, "converts to twice the width", "Arm ARM, C7.2 FCVTL, FCVTL2");
const FCVTL2: Form = Form { mnemonic: "fcvtl2", ..FCVTL };
const FCVTXN: Form = converted("fcvtxn", LaneOp::FConvertToOdd, "converts to single precision, rounding to odd", "Arm ARM, C7.2 FCVTXN, FCVTXN2");
const fn of(width: crate::Width, count: Count) -> Elements {
    fixed(width, count)
}
const FLOATS: &[Form] = &[
    Form { operands: &[vw(Rd, of(W16, Count::Half)), v(Rn, of(W32, Count::Whole))], encoding: "0 0 0 01110 0 0 10000 10110 10 Rn Rd", ..FCVTN },
    Form { operands: &[vw(Rd, of(W32, Count::Half)), v(Rn, of(W64, Count::Whole))], encoding: "0 0 0 01110 0 1 10000 10110 10 Rn Rd", ..FCVTN },
    Form { operands: &[vrw(Rd, of(W16, Count::Whole)), v(Rn, of(W32, Count::Whole))], encoding: "0 1 0 01110 0 0 10000 10110 10 Rn Rd", ..FCVTN2 },
    Form { operands: &[vrw(Rd, of(W32, Count::Whole)), v(Rn, of(W64, Count::Whole))], encoding: "0 1 0 01110 0 1 10000 10110 10 Rn Rd", ..FCVTN2 },
    Form { operands: &[vw(Rd, of(W32, Count::Whole)), v(Rn, of(W16, Count::Half))], encoding: "0 0 0 01110 0 0 10000 10111 10 Rn Rd", ..FCVTL },
    Form { operands: &[vw(Rd, of(W64, Count::Whole)), v(Rn, of(W32, Count::Half))], encoding: "0 0 0 01110 0 1 10000 10111 10 Rn Rd", ..FCVTL },
    Form { operands: &[vw(Rd, of(W32, Count::Whole)), v(Rn, of(W16, Count::Whole))], encoding: "0 1 0 01110 0 0 10000 10111 10 Rn Rd", ..FCVTL2 },
    Form { operands: &[vw(Rd, of(W64, Count::Whole)), v(Rn, of(W32, Count::Whole))], encoding: "0 1 0 01110 0 1 10000 10111 10 Rn Rd", ..FCVTL2 },
    Form { operands: &[vw(Rd, of(W32, Count::Half)), v(Rn, of(W64, Count::Whole))], encoding: "0 0 1 01110 0 1 10000 10110 10 Rn Rd", ..FCVTXN },
    Form { mnemonic: "fcvtxn2", operands: &[vrw(Rd, of(W32, Count::Whole)), v(Rn, of(W64, Count::Whole))], encoding: "0 1 1 01110 0 1 10000 10110 10 Rn Rd", ..FCVTXN },
    Form { operands: &[fw(W32, Rd), f(W64, Rn)], encoding: "01 1 11110 0 1 10000 10110 10 Rn Rd", ..FCVTXN },
];
