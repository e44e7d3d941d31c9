//! Vector instructions that take, put or move single elements, and those with an immediate.

use super::rows::*;
use super::vector::{SDOT, UDOT, doubling, lanes};
use crate::arm64::RegField::{Rd, Rm, Rn};
use crate::arm64::pattern::{Count, Elements, LaneIndex, LaneSource};
use crate::arm64::vector::{LaneOp, Permutation, Vector};
use crate::arm64::{Form, Meaning, OperandSpec, Pattern, RegField, field};
use crate::{Access, Width};

pub(super) const ROWS: &[Form] = rows![
    BY_ELEMENT, LONG_BY_ELEMENT, SCALAR_BY_ELEMENT, FLOAT_BY_ELEMENT, DOT_BY_ELEMENT, MOVED, DUPLICATED, PERMUTED, EXTRACTED,
    LOOKED_UP, IMMEDIATES, DOUBLING,
];

macro_rules! destination {
    (write) => { vw };
    (change) => { vrw };
}

/// The element of the second source.
const fn element(source: LaneSource) -> OperandSpec {
    p(Pattern::Lane(Rm, LaneIndex::Hlm(source)))
}
const HS: Elements = elements(LaneSource::Size, H | S, Count::Q);
macro_rules! by_element {
    ($($u:literal $opcode:literal $dst:ident $name:literal $op:expr, $summary:literal $page:literal;)*) => {
        &[$(Form {
            operands: &[destination!($dst)(Rd, HS), v(Rn, HS), element(LaneSource::Size)],
            encoding: concat!("0 Q:1 ", $u, " 01111 size:2 L:1 M:1 Rm4:4 ", $opcode, " H:1 0 Rn Rd"),
            ..lanes($name, $op, $summary, concat!("Arm ARM, C7.2 ", $page))
        },)*]
    };
}
const BY_ELEMENT: &[Form] = by_element! {
    "0" "1000" write "mul" LaneOp::Mul, "multiplies elements by one" "MUL (by element)";
    "1" "0000" change "mla" LaneOp::MulAdd, "multiplies elements by one and adds the products to the destination" "MLA (by element)";
    "1" "0100" change "mls" LaneOp::MulSub, "multiplies elements by one and subtracts the products from the destination" "MLS (by element)";
    "0" "1100" write "sqdmulh" LaneOp::DoublingMulHigh { round: false }, "multiplies signed elements by one, doubles, and takes the upper half" "SQDMULH (by element)";
    "0" "1101" write "sqrdmulh" LaneOp::DoublingMulHigh { round: true }, "multiplies signed elements by one, doubles, and takes the upper half, rounding" "SQRDMULH (by element)";
};

macro_rules! long_by_element {
    ($($u:literal $opcode:literal $dst:ident $name:literal $upper:literal $op:expr, $signed:literal, $summary:literal $page:literal;)*) => {
        rows![$([
            Form {
                operands: &[destination!($dst)(Rd, wide(LaneSource::Size, H | S, Count::Whole)), v(Rn, elements(LaneSource::Size, H | S, Count::Half)), element(LaneSource::Size)],
                encoding: concat!("0 0 ", $u, " 01111 size:2 L:1 M:1 Rm4:4 ", $opcode, " H:1 0 Rn Rd"),
                ..long($name, $op, $signed, concat!($summary, ", of the lower half"), concat!("Arm ARM, C7.2 ", $page))
            },
            Form {
                operands: &[destination!($dst)(Rd, wide(LaneSource::Size, H | S, Count::Whole)), v(Rn, elements(LaneSource::Size, H | S, Count::Whole)), element(LaneSource::Size)],
                encoding: concat!("0 1 ", $u, " 01111 size:2 L:1 M:1 Rm4:4 ", $opcode, " H:1 0 Rn Rd"),
                ..long($upper, $op, $signed, concat!($summary, ", of the upper half"), concat!("Arm ARM, C7.2 ", $page))
            },
        ]),*]
    };
}
const fn long(mnemonic: &'static str, op: LaneOp, signed: bool, summary: &'static str, source: &'static str) -> Form {
    integers(named(mnemonic, Meaning::Vector(Vector::Lanes { op, signed }), summary, source))
}
const LONG_BY_ELEMENT: &[Form] = long_by_element! {
    "0" "0010" change "smlal" "smlal2" LaneOp::MulAdd, true, "adds up products of signed elements with one" "SMLAL, SMLAL2 (by element)";
    "1" "0010" change "umlal" "umlal2" LaneOp::MulAdd, false, "adds up products of unsigned elements with one" "UMLAL, UMLAL2 (by element)";
    "0" "0110" change "smlsl" "smlsl2" LaneOp::MulSub, true, "subtracts products of signed elements with one" "SMLSL, SMLSL2 (by element)";
    "1" "0110" change "umlsl" "umlsl2" LaneOp::MulSub, false, "subtracts products of unsigned elements with one" "UMLSL, UMLSL2 (by element)";
    "0" "1010" write "smull" "smull2" LaneOp::Mul, true, "multiplies signed elements by one" "SMULL, SMULL2 (by element)";
    "1" "1010" write "umull" "umull2" LaneOp::Mul, false, "multiplies unsigned elements by one" "UMULL, UMULL2 (by element)";
    "0" "0011" change "sqdmlal" "sqdmlal2" LaneOp::DoublingMulLongAdd { subtract: false }, true, "adds up doubled products of signed elements with one" "SQDMLAL, SQDMLAL2 (by element)";
    "0" "0111" change "sqdmlsl" "sqdmlsl2" LaneOp::DoublingMulLongAdd { subtract: true }, true, "subtracts doubled products of signed elements with one" "SQDMLSL, SQDMLSL2 (by element)";
    "0" "1011" write "sqdmull" "sqdmull2" LaneOp::DoublingMulLong, true, "multiplies signed elements by one and doubles" "SQDMULL, SQDMULL2 (by element)";
};

const HS_ONE: Elements = elements(LaneSource::Size, H | S, Count::One);
const HS_ONE_WIDE: Elements = wide(LaneSource::Size, H | S, Count::One);
const SCALAR_BY_ELEMENT: &[Form] = &[
    Form { operands: &[vw(Rd, HS_ONE), v(Rn, HS_ONE), element(LaneSource::Size)], encoding: "01 0 11111 size:2 L:1 M:1 Rm4:4 1100 H:1 0 Rn Rd", ..lanes("sqdmulh", LaneOp::DoublingMulHigh { round: false }, "multiplies a signed number by an element, doubles, and takes the upper half", "Arm ARM, C7.2 SQDMULH (by element)") },
    Form { operands: &[vw(Rd, HS_ONE), v(Rn, HS_ONE), element(LaneSource::Size)], encoding: "01 0 11111 size:2 L:1 M:1 Rm4:4 1101 H:1 0 Rn Rd", ..lanes("sqrdmulh", LaneOp::DoublingMulHigh { round: true }, "multiplies a signed number by an element, doubles, and takes the upper half, rounding", "Arm ARM, C7.2 SQRDMULH (by element)") },
    Form { operands: &[vrw(Rd, HS_ONE_WIDE), v(Rn, HS_ONE), element(LaneSource::Size)], encoding: "01 0 11111 size:2 L:1 M:1 Rm4:4 0011 H:1 0 Rn Rd", ..long("sqdmlal", LaneOp::DoublingMulLongAdd { subtract: false }, true, "adds the doubled product of a signed number with an element", "Arm ARM, C7.2 SQDMLAL, SQDMLAL2 (by element)") },
    Form { operands: &[vrw(Rd, HS_ONE_WIDE), v(Rn, HS_ONE), element(LaneSource::Size)], encoding: "01 0 11111 size:2 L:1 M:1 Rm4:4 0111 H:1 0 Rn Rd", ..long("sqdmlsl", LaneOp::DoublingMulLongAdd { subtract: true }, true, "subtracts the doubled product of a signed number with an element", "Arm ARM, C7.2 SQDMLSL, SQDMLSL2 (by element)") },
    Form { operands: &[vw(Rd, HS_ONE_WIDE), v(Rn, HS_ONE), element(LaneSource::Size)], encoding: "01 0 11111 size:2 L:1 M:1 Rm4:4 1011 H:1 0 Rn Rd", ..long("sqdmull", LaneOp::DoublingMulLong, true, "multiplies a signed number by an element and doubles", "Arm ARM, C7.2 SQDMULL, SQDMULL2 (by element)") },
];

const SD: Elements = elements(LaneSource::Sz, S | D, Count::Q);
const SD_ONE: Elements = elements(LaneSource::Sz, S | D, Count::One);
const HALVES: Elements = fixed(W16, Count::Q);
const fn float(mnemonic: &'static str, op: LaneOp, summary: &'static str, source: &'static str) -> Form {
    floats(named(mnemonic, Meaning::Vector(Vector::Lanes { op, signed: false }), summary, source))
}
macro_rules! float_by_element {
    ($($u:literal $opcode:literal $dst:ident $scalar:expr, $name:literal $op:expr, $summary:literal $page:literal;)*) => {
        rows![$([
            Form { operands: &[destination!($dst)(Rd, SD), v(Rn, SD), element(LaneSource::Sz)], encoding: concat!("0 Q:1 ", $u, " 01111 1 sz:1 L:1 M:1 Rm4:4 ", $opcode, " H:1 0 Rn Rd"), ..float($name, $op, $summary, concat!("Arm ARM, C7.2 ", $page)) },
            Form { operands: &[destination!($dst)(Rd, HALVES), v(Rn, HALVES), element(LaneSource::Fixed(Width::W16))], encoding: concat!("0 Q:1 ", $u, " 01111 00 L:1 M:1 Rm4:4 ", $opcode, " H:1 0 Rn Rd"), ..float($name, $op, $summary, concat!("Arm ARM, C7.2 ", $page)) },
            Form { operands: &[destination!($dst)(Rd, SD_ONE), v(Rn, SD_ONE), element(LaneSource::Sz)], encoding: concat!("01 ", $u, " 11111 1 sz:1 L:1 M:1 Rm4:4 ", $opcode, " H:1 0 Rn Rd"), ..float($name, $op, $summary, concat!("Arm ARM, C7.2 ", $page)) },
            Form { operands: &[$scalar, f(W16, Rn), element(LaneSource::Fixed(Width::W16))], encoding: concat!("01 ", $u, " 11111 00 L:1 M:1 Rm4:4 ", $opcode, " H:1 0 Rn Rd"), ..float($name, $op, $summary, concat!("Arm ARM, C7.2 ", $page)) },
        ]),*]
    };
}
const HALF_CHANGED: OperandSpec = spec(Access::ReadWrite, Pattern::F(Width::W16, Rd));
const FLOAT_BY_ELEMENT: &[Form] = float_by_element! {
    "0" "0001" change HALF_CHANGED, "fmla" LaneOp::FMulAdd { subtract: false }, "multiplies by an element and adds to the destination, rounding once" "FMLA (by element)";
    "0" "0101" change HALF_CHANGED, "fmls" LaneOp::FMulAdd { subtract: true }, "subtracts the product with an element from the destination, rounding once" "FMLS (by element)";
    "0" "1001" write fw(W16, Rd), "fmul" LaneOp::FMul, "multiplies by an element" "FMUL (by element)";
    "1" "1001" write fw(W16, Rd), "fmulx" LaneOp::FMulExtended, "multiplies by an element; zero times infinity is 2" "FMULX (by element)";
};

const BYTES: Elements = fixed(W8, Count::Q);
const FOUR_BYTES: OperandSpec = p(Pattern::Lane(Rm, LaneIndex::Bytes4));
const DOT_BY_ELEMENT: &[Form] = &[
    Form { operands: &[vrw(Rd, fixed(W32, Count::Q)), v(Rn, BYTES), FOUR_BYTES], encoding: "0 Q:1 0 01111 10 L:1 Rm 1110 H:1 0 Rn Rd", ..SDOT },
    Form { operands: &[vrw(Rd, fixed(W32, Count::Q)), v(Rn, BYTES), FOUR_BYTES], encoding: "0 Q:1 1 01111 10 L:1 Rm 1110 H:1 0 Rn Rd", ..UDOT },
];

const fn lane(field: RegField, index: LaneIndex) -> OperandSpec {
    p(Pattern::Lane(field, index))
}
const fn lane_changed(widths: u8) -> OperandSpec {
    spec(Access::ReadWrite, Pattern::Lane(Rd, LaneIndex::Imm5(widths)))
}
const fn to_general(mnemonic: &'static str, signed: bool, summary: &'static str, source: &'static str) -> Form {
    named(mnemonic, Meaning::Vector(Vector::ToGeneral { signed }), summary, source)
}
const MOV_OUT: Form = to_general("mov", false, "copies an element to a general register", "Arm ARM, C7.2 MOV (to general)");
const UMOV: Form = to_general("umov", false, "copies an element to a general register, zero-extended", "Arm ARM, C7.2 UMOV");
const SMOV: Form = to_general("smov", true, "copies an element to a general register, sign-extended", "Arm ARM, C7.2 SMOV");
const MOV_IN: Form = Form { aliases: &["ins"], ..named("mov", Meaning::Vector(Vector::Insert), "copies to one element; the others keep their values", "Arm ARM, C7.2 INS") };
const MOVED: &[Form] = &[
    Form { operands: &[w(W32, Rd), lane(Rn, LaneIndex::Imm5(S))], encoding: "0 0 0 01110000 lane:5 0 0111 1 Rn Rd", ..MOV_OUT },
    Form { operands: &[w(W64, Rd), lane(Rn, LaneIndex::Imm5(D))], encoding: "0 1 0 01110000 lane:5 0 0111 1 Rn Rd", ..MOV_OUT },
    Form { operands: &[w(W32, Rd), lane(Rn, LaneIndex::Imm5(B | H))], encoding: "0 0 0 01110000 lane:5 0 0111 1 Rn Rd", ..UMOV },
    Form { operands: &[w(W32, Rd), lane(Rn, LaneIndex::Imm5(S))], encoding: "0 0 0 01110000 lane:5 0 0111 1 Rn Rd", accepted_only: true, ..UMOV },
    Form { operands: &[w(W64, Rd), lane(Rn, LaneIndex::Imm5(D))], encoding: "0 1 0 01110000 lane:5 0 0111 1 Rn Rd", accepted_only: true, ..UMOV },
    Form { operands: &[w(W32, Rd), lane(Rn, LaneIndex::Imm5(B | H))], encoding: "0 0 0 01110000 lane:5 0 0101 1 Rn Rd", ..SMOV },
    Form { operands: &[w(W64, Rd), lane(Rn, LaneIndex::Imm5(B | H | S))], encoding: "0 1 0 01110000 lane:5 0 0101 1 Rn Rd", ..SMOV },
    Form { operands: &[lane_changed(B | H | S), r(W32, Rn)], encoding: "0 1 0 01110000 lane:5 0 0011 1 Rn Rd", ..MOV_IN },
    Form { operands: &[lane_changed(D), r(W64, Rn)], encoding: "0 1 0 01110000 lane:5 0 0011 1 Rn Rd", ..MOV_IN },
    Form { operands: &[lane_changed(B | H | S | D), lane(Rn, LaneIndex::Imm4)], encoding: "0 1 1 01110000 lane:5 0 from:4 1 Rn Rd", ..MOV_IN },
];

const IMM5: Elements = elements(LaneSource::Imm5, B | H | S | D, Count::Q);
const DUP: Form = named("dup", Meaning::Vector(Vector::Duplicate), "copies to every element", "Arm ARM, C7.2 DUP");
const DUPLICATED: &[Form] = &[
    Form { operands: &[vw(Rd, IMM5), lane(Rn, LaneIndex::Imm5(B | H | S | D))], encoding: "0 Q:1 0 01110000 lane:5 0 0000 1 Rn Rd", ..DUP },
    Form { operands: &[vw(Rd, elements(LaneSource::Imm5, B | H | S, Count::Q)), r(W32, Rn)], encoding: "0 Q:1 0 01110000 lane:5 0 0001 1 Rn Rd", ..DUP },
    Form { operands: &[vw(Rd, elements(LaneSource::Imm5, D, Count::Q)), r(W64, Rn)], encoding: "0 Q:1 0 01110000 lane:5 0 0001 1 Rn Rd", ..DUP },
    Form { aliases: &["dup"], operands: &[vw(Rd, elements(LaneSource::Imm5, B | H | S | D, Count::One)), lane(Rn, LaneIndex::Imm5(B | H | S | D))], encoding: "01 0 11110000 lane:5 0 0000 1 Rn Rd", ..named("mov", Meaning::Vector(Vector::Duplicate), "copies an element", "Arm ARM, C7.2 MOV (scalar)") },
];

const BY_SIZE: Elements = elements(LaneSource::Size, B | H | S | D, Count::Q);
macro_rules! permuted {
    ($($opcode:literal $name:literal $how:expr, $summary:literal $page:literal;)*) => {
        &[$(Form {
            operands: &[vw(Rd, BY_SIZE), v(Rn, BY_SIZE), v(Rm, BY_SIZE)],
            encoding: concat!("0 Q:1 0 01110 size:2 0 Rm 0 ", $opcode, " 10 Rn Rd"),
            ..named($name, Meaning::Vector(Vector::Permute($how)), $summary, concat!("Arm ARM, C7.2 ", $page))
        },)*]
    };
}
const PERMUTED: &[Form] = permuted! {
    "001" "uzp1" Permutation::Uzp { second: false }, "takes the elements of even number of both sources, one source after the other" "UZP1";
    "101" "uzp2" Permutation::Uzp { second: true }, "takes the elements of odd number of both sources, one source after the other" "UZP2";
    "010" "trn1" Permutation::Trn { second: false }, "takes the elements of even number of both sources in turn" "TRN1";
    "110" "trn2" Permutation::Trn { second: true }, "takes the elements of odd number of both sources in turn" "TRN2";
    "011" "zip1" Permutation::Zip { second: false }, "takes the elements of the lower halves of both sources in turn" "ZIP1";
    "111" "zip2" Permutation::Zip { second: true }, "takes the elements of the upper halves of both sources in turn" "ZIP2";
};

const EXT: Form = named("ext", Meaning::Vector(Vector::Extract), "takes a vector from two end to end, from the byte given up", "Arm ARM, C7.2 EXT");
const EXTRACTED: &[Form] = &[
    Form { operands: &[vw(Rd, fixed(W8, Count::Half)), v(Rn, fixed(W8, Count::Half)), v(Rm, fixed(W8, Count::Half)), p(Pattern::Unsigned(field::EXTRACTED.low(3)))], encoding: "0 0 1 01110 00 0 Rm 0 0 imm4:3 0 Rn Rd", ..EXT },
    Form { operands: &[vw(Rd, fixed(W8, Count::Whole)), v(Rn, fixed(W8, Count::Whole)), v(Rm, fixed(W8, Count::Whole)), p(Pattern::Unsigned(field::EXTRACTED))], encoding: "0 1 1 01110 00 0 Rm 0 imm4:4 0 Rn Rd", ..EXT },
];

const TBL: Form = named("tbl", Meaning::Vector(Vector::Table { keeps: false }), "takes bytes of the table by number; zero if there is none of that number", "Arm ARM, C7.2 TBL");
const TBX: Form = named("tbx", Meaning::Vector(Vector::Table { keeps: true }), "takes bytes of the table by number; they keep their values if there is none of that number", "Arm ARM, C7.2 TBX");
const fn table(count: u8) -> OperandSpec {
    p(Pattern::List(Rn, count, fixed(W8, Count::Whole)))
}
const LOOKED_UP: &[Form] = &[
    Form { operands: &[vw(Rd, BYTES), table(1), v(Rm, BYTES)], encoding: "0 Q:1 0 01110 00 0 Rm 0 00 0 00 Rn Rd", ..TBL },
    Form { operands: &[vw(Rd, BYTES), table(2), v(Rm, BYTES)], encoding: "0 Q:1 0 01110 00 0 Rm 0 01 0 00 Rn Rd", ..TBL },
    Form { operands: &[vw(Rd, BYTES), table(3), v(Rm, BYTES)], encoding: "0 Q:1 0 01110 00 0 Rm 0 10 0 00 Rn Rd", ..TBL },
    Form { operands: &[vw(Rd, BYTES), table(4), v(Rm, BYTES)], encoding: "0 Q:1 0 01110 00 0 Rm 0 11 0 00 Rn Rd", ..TBL },
    Form { operands: &[vrw(Rd, BYTES), table(1), v(Rm, BYTES)], encoding: "0 Q:1 0 01110 00 0 Rm 0 00 1 00 Rn Rd", ..TBX },
    Form { operands: &[vrw(Rd, BYTES), table(2), v(Rm, BYTES)], encoding: "0 Q:1 0 01110 00 0 Rm 0 01 1 00 Rn Rd", ..TBX },
    Form { operands: &[vrw(Rd, BYTES), table(3), v(Rm, BYTES)], encoding: "0 Q:1 0 01110 00 0 Rm 0 10 1 00 Rn Rd", ..TBX },
    Form { operands: &[vrw(Rd, BYTES), table(4), v(Rm, BYTES)], encoding: "0 Q:1 0 01110 00 0 Rm 0 11 1 00 Rn Rd", ..TBX },
];

const MOVI: Form = named("movi", Meaning::Vector(Vector::Immediate { invert: false }), "sets every element to a number", "Arm ARM, C7.2 MOVI");
const MVNI: Form = named("mvni", Meaning::Vector(Vector::Immediate { invert: true }), "sets every element to the inverse of a number", "Arm ARM, C7.2 MVNI");
const ORR: Form = named("orr", Meaning::Vector(Vector::WithImmediate { clear: false }), "sets bits of every element", "Arm ARM, C7.2 ORR (vector, immediate)");
const BIC: Form = named("bic", Meaning::Vector(Vector::WithImmediate { clear: true }), "clears bits of every element", "Arm ARM, C7.2 BIC (vector, immediate)");
const FMOV: Form = floats(named("fmov", Meaning::Vector(Vector::Immediate { invert: false }), "sets every element to a number of floating point", "Arm ARM, C7.2 FMOV (vector, immediate)"));
const WORDS: Elements = fixed(W32, Count::Q);
const IMMEDIATES: &[Form] = &[
    Form { operands: &[vw(Rd, BYTES), p(Pattern::Byte)], encoding: "0 Q:1 0 0111100000 abc:3 1110 0 1 defgh:5 Rd", ..MOVI },
    Form { operands: &[vw(Rd, HALVES), p(Pattern::ShiftedByte(W16))], encoding: "0 Q:1 0 0111100000 abc:3 10 cmode:1 0 0 1 defgh:5 Rd", ..MOVI },
    Form { operands: &[vw(Rd, WORDS), p(Pattern::ShiftedByte(W32))], encoding: "0 Q:1 0 0111100000 abc:3 0 cmode:2 0 0 1 defgh:5 Rd", ..MOVI },
    Form { operands: &[vw(Rd, WORDS), p(Pattern::OnesShiftedByte)], encoding: "0 Q:1 0 0111100000 abc:3 110 cmode:1 0 1 defgh:5 Rd", ..MOVI },
    Form { operands: &[fw(W64, Rd), p(Pattern::ByteMask)], encoding: "0 0 1 0111100000 abc:3 1110 0 1 defgh:5 Rd", ..MOVI },
    Form { operands: &[vw(Rd, fixed(W64, Count::Whole)), p(Pattern::ByteMask)], encoding: "0 1 1 0111100000 abc:3 1110 0 1 defgh:5 Rd", ..MOVI },
    Form { operands: &[vw(Rd, HALVES), p(Pattern::ShiftedByte(W16))], encoding: "0 Q:1 1 0111100000 abc:3 10 cmode:1 0 0 1 defgh:5 Rd", ..MVNI },
    Form { operands: &[vw(Rd, WORDS), p(Pattern::ShiftedByte(W32))], encoding: "0 Q:1 1 0111100000 abc:3 0 cmode:2 0 0 1 defgh:5 Rd", ..MVNI },
    Form { operands: &[vw(Rd, WORDS), p(Pattern::OnesShiftedByte)], encoding: "0 Q:1 1 0111100000 abc:3 110 cmode:1 0 1 defgh:5 Rd", ..MVNI },
    Form { operands: &[vrw(Rd, HALVES), p(Pattern::ShiftedByte(W16))], encoding: "0 Q:1 0 0111100000 abc:3 10 cmode:1 1 0 1 defgh:5 Rd", ..ORR },
    Form { operands: &[vrw(Rd, WORDS), p(Pattern::ShiftedByte(W32))], encoding: "0 Q:1 0 0111100000 abc:3 0 cmode:2 1 0 1 defgh:5 Rd", ..ORR },
    Form { operands: &[vrw(Rd, HALVES), p(Pattern::ShiftedByte(W16))], encoding: "0 Q:1 1 0111100000 abc:3 10 cmode:1 1 0 1 defgh:5 Rd", ..BIC },
    Form { operands: &[vrw(Rd, WORDS), p(Pattern::ShiftedByte(W32))], encoding: "0 Q:1 1 0111100000 abc:3 0 cmode:2 1 0 1 defgh:5 Rd", ..BIC },
    Form { operands: &[vw(Rd, WORDS), p(Pattern::FloatVectorImm)], encoding: "0 Q:1 0 0111100000 abc:3 1111 0 1 defgh:5 Rd", ..FMOV },
    Form { operands: &[vw(Rd, fixed(W64, Count::Whole)), p(Pattern::FloatVectorImm)], encoding: "0 1 1 0111100000 abc:3 1111 0 1 defgh:5 Rd", ..FMOV },
    Form { operands: &[vw(Rd, HALVES), p(Pattern::FloatVectorImm)], encoding: "0 Q:1 0 0111100000 abc:3 1111 1 1 defgh:5 Rd", ..FMOV },
];

const DOUBLING: &[Form] = &[
    Form { operands: &[vrw(Rd, HS), v(Rn, HS), element(LaneSource::Size)], encoding: "0 Q:1 1 01111 size:2 L:1 M:1 Rm4:4 1101 H:1 0 Rn Rd", ..doubling("sqrdmlah", false) },
    Form { operands: &[vrw(Rd, HS), v(Rn, HS), element(LaneSource::Size)], encoding: "0 Q:1 1 01111 size:2 L:1 M:1 Rm4:4 1111 H:1 0 Rn Rd", ..doubling("sqrdmlsh", true) },
    Form { operands: &[vrw(Rd, HS_ONE), v(Rn, HS_ONE), element(LaneSource::Size)], encoding: "01 1 11111 size:2 L:1 M:1 Rm4:4 1101 H:1 0 Rn Rd", ..doubling("sqrdmlah", false) },
    Form { operands: &[vrw(Rd, HS_ONE), v(Rn, HS_ONE), element(LaneSource::Size)], encoding: "01 1 11111 size:2 L:1 M:1 Rm4:4 1111 H:1 0 Rn Rd", ..doubling("sqrdmlsh", true) },
];
