//! Vector instructions on registers cut alike: of two sources and of one, pairwise, and across a vector; and their
//! scalar forms.

use super::rows::*;
use crate::arm64::RegField::{Rd, Rm, Rn};
use crate::arm64::pattern::{Count, Elements, LaneSource};
use crate::arm64::vector::{Comparison, Crypto, LaneOp, Rounding, Vector};
use crate::arm64::{Form, Meaning, Pattern};
use crate::Width;

pub(super) const ROWS: &[Form] = rows![
    INTEGERS, BITWISE, PAIRWISE, INTEGER_SCALARS, FLOATS, FLOATS_PAIRWISE, ONE_INTEGER, ONE_INTEGER_SCALAR, ONE_FLOAT,
    ACROSS, PAIR_TO_SCALAR, DOT, CRYPTO, DOUBLING,
];

pub(super) const fn lanes(mnemonic: &'static str, op: LaneOp, summary: &'static str, source: &'static str) -> Form {
    integers(named(mnemonic, Meaning::Vector(Vector::Lanes { op, signed: false }), summary, source))
}

const fn by_size(widths: u8) -> Elements {
    elements(LaneSource::Size, widths, Count::Q)
}
const fn one_by_size(widths: u8) -> Elements {
    elements(LaneSource::Size, widths, Count::One)
}
const BYTES: Elements = fixed(W8, Count::Q);

/// Whether the destination is a source too.
macro_rules! destination {
    (write) => { vw };
    (change) => { vrw };
}

macro_rules! same {
    ($($u:literal $opcode:literal $widths:expr, $dst:ident, $name:literal $op:expr, $summary:literal $page:literal;)*) => {
        &[$(Form {
            operands: &[destination!($dst)(Rd, by_size($widths)), v(Rn, by_size($widths)), v(Rm, by_size($widths))],
            encoding: concat!("0 Q:1 ", $u, " 01110 size:2 1 Rm ", $opcode, " 1 Rn Rd"),
            ..lanes($name, $op, $summary, concat!("Arm ARM, C7.2 ", $page))
        },)*]
    };
}
const INTEGERS: &[Form] = same! {
    "0" "00000" B | H | S, write, "shadd" LaneOp::HalvingAdd { signed: true, round: false }, "adds signed elements and halves the sums" "SHADD";
    "1" "00000" B | H | S, write, "uhadd" LaneOp::HalvingAdd { signed: false, round: false }, "adds unsigned elements and halves the sums" "UHADD";
    "0" "00001" B | H | S | D, write, "sqadd" LaneOp::SaturatingAdd { signed: true }, "adds signed elements; what does not fit becomes the limit" "SQADD";
    "1" "00001" B | H | S | D, write, "uqadd" LaneOp::SaturatingAdd { signed: false }, "adds unsigned elements; what does not fit becomes the limit" "UQADD";
    "0" "00010" B | H | S, write, "srhadd" LaneOp::HalvingAdd { signed: true, round: true }, "adds signed elements and halves the sums, rounding up" "SRHADD";
    "1" "00010" B | H | S, write, "urhadd" LaneOp::HalvingAdd { signed: false, round: true }, "adds unsigned elements and halves the sums, rounding up" "URHADD";
    "0" "00100" B | H | S, write, "shsub" LaneOp::HalvingSub { signed: true }, "subtracts signed elements and halves the differences" "SHSUB";
    "1" "00100" B | H | S, write, "uhsub" LaneOp::HalvingSub { signed: false }, "subtracts unsigned elements and halves the differences" "UHSUB";
    "0" "00101" B | H | S | D, write, "sqsub" LaneOp::SaturatingSub { signed: true }, "subtracts signed elements; what does not fit becomes the limit" "SQSUB";
    "1" "00101" B | H | S | D, write, "uqsub" LaneOp::SaturatingSub { signed: false }, "subtracts unsigned elements; what does not fit becomes the limit" "UQSUB";
    "0" "00110" B | H | S | D, write, "cmgt" LaneOp::Compare { with: Comparison::Greater, signed: true }, "compares signed elements: all bits set where the first is greater" "CMGT (register)";
    "1" "00110" B | H | S | D, write, "cmhi" LaneOp::Compare { with: Comparison::Greater, signed: false }, "compares unsigned elements: all bits set where the first is greater" "CMHI (register)";
    "0" "00111" B | H | S | D, write, "cmge" LaneOp::Compare { with: Comparison::GreaterOrEqual, signed: true }, "compares signed elements: all bits set where the first is not less" "CMGE (register)";
    "1" "00111" B | H | S | D, write, "cmhs" LaneOp::Compare { with: Comparison::GreaterOrEqual, signed: false }, "compares unsigned elements: all bits set where the first is not less" "CMHS (register)";
    "0" "01000" B | H | S | D, write, "sshl" LaneOp::ShiftByRegister { signed: true, round: false, saturate: false }, "shifts signed elements left by those of the last operand, right if they are negative" "SSHL";
    "1" "01000" B | H | S | D, write, "ushl" LaneOp::ShiftByRegister { signed: false, round: false, saturate: false }, "shifts unsigned elements left by those of the last operand, right if they are negative" "USHL";
    "0" "01001" B | H | S | D, write, "sqshl" LaneOp::ShiftByRegister { signed: true, round: false, saturate: true }, "shifts signed elements by those of the last operand; what does not fit becomes the limit" "SQSHL (register)";
    "1" "01001" B | H | S | D, write, "uqshl" LaneOp::ShiftByRegister { signed: false, round: false, saturate: true }, "shifts unsigned elements by those of the last operand; what does not fit becomes the limit" "UQSHL (register)";
    "0" "01010" B | H | S | D, write, "srshl" LaneOp::ShiftByRegister { signed: true, round: true, saturate: false }, "shifts signed elements by those of the last operand, rounding" "SRSHL";
    "1" "01010" B | H | S | D, write, "urshl" LaneOp::ShiftByRegister { signed: false, round: true, saturate: false }, "shifts unsigned elements by those of the last operand, rounding" "URSHL";
    "0" "01011" B | H | S | D, write, "sqrshl" LaneOp::ShiftByRegister { signed: true, round: true, saturate: true }, "shifts signed elements by those of the last operand, rounding; what does not fit becomes the limit" "SQRSHL";
    "1" "01011" B | H | S | D, write, "uqrshl" LaneOp::ShiftByRegister { signed: false, round: true, saturate: true }, "shifts unsigned elements by those of the last operand, rounding; what does not fit becomes the limit" "UQRSHL";
    "0" "01100" B | H | S, write, "smax" LaneOp::Max { signed: true }, "takes the larger of signed elements" "SMAX";
    "1" "01100" B | H | S, write, "umax" LaneOp::Max { signed: false }, "takes the larger of unsigned elements" "UMAX";
    "0" "01101" B | H | S, write, "smin" LaneOp::Min { signed: true }, "takes the smaller of signed elements" "SMIN";
    "1" "01101" B | H | S, write, "umin" LaneOp::Min { signed: false }, "takes the smaller of unsigned elements" "UMIN";
    "0" "01110" B | H | S, write, "sabd" LaneOp::AbsoluteDifference { signed: true }, "takes the distance of signed elements" "SABD";
    "1" "01110" B | H | S, write, "uabd" LaneOp::AbsoluteDifference { signed: false }, "takes the distance of unsigned elements" "UABD";
    "0" "01111" B | H | S, change, "saba" LaneOp::AbsoluteDifferenceAdd { signed: true }, "adds the distance of signed elements to the destination" "SABA";
    "1" "01111" B | H | S, change, "uaba" LaneOp::AbsoluteDifferenceAdd { signed: false }, "adds the distance of unsigned elements to the destination" "UABA";
    "0" "10000" B | H | S | D, write, "add" LaneOp::Add, "adds elements" "ADD (vector)";
    "1" "10000" B | H | S | D, write, "sub" LaneOp::Sub, "subtracts elements" "SUB (vector)";
    "0" "10001" B | H | S | D, write, "cmtst" LaneOp::TestBits, "tests elements: all bits set where both have a bit in common" "CMTST";
    "1" "10001" B | H | S | D, write, "cmeq" LaneOp::Compare { with: Comparison::Equal, signed: false }, "compares elements: all bits set where they are equal" "CMEQ (register)";
    "0" "10010" B | H | S, change, "mla" LaneOp::MulAdd, "multiplies elements and adds the products to the destination" "MLA (vector)";
    "1" "10010" B | H | S, change, "mls" LaneOp::MulSub, "multiplies elements and subtracts the products from the destination" "MLS (vector)";
    "0" "10011" B | H | S, write, "mul" LaneOp::Mul, "multiplies elements" "MUL (vector)";
    "1" "10011" B, write, "pmul" LaneOp::PolynomialMul, "multiplies elements as polynomials over bits" "PMUL";
    "0" "10110" H | S, write, "sqdmulh" LaneOp::DoublingMulHigh { round: false }, "multiplies signed elements, doubles, and takes the upper half" "SQDMULH (vector)";
    "1" "10110" H | S, write, "sqrdmulh" LaneOp::DoublingMulHigh { round: true }, "multiplies signed elements, doubles, and takes the upper half, rounding" "SQRDMULH (vector)";
};

macro_rules! bitwise {
    ($($u:literal $size:literal $dst:ident $name:literal $op:expr, $summary:literal $page:literal;)*) => {
        &[$(Form {
            operands: &[destination!($dst)(Rd, BYTES), v(Rn, BYTES), v(Rm, BYTES)],
            encoding: concat!("0 Q:1 ", $u, " 01110 ", $size, " 1 Rm 00011 1 Rn Rd"),
            ..named($name, Meaning::Vector(Vector::Lanes { op: $op, signed: false }), $summary, concat!("Arm ARM, C7.2 ", $page))
        },)*]
    };
}
const BITWISE_TWO: &[Form] = bitwise! {
    "0" "00" write "and" LaneOp::And, "keeps the bits set in both vectors" "AND (vector)";
    "0" "01" write "bic" LaneOp::Bic, "clears the bits that are set in the last vector" "BIC (vector, register)";
    "0" "10" write "orr" LaneOp::Orr, "sets the bits set in either vector" "ORR (vector, register)";
    "0" "11" write "orn" LaneOp::Orn, "sets the bits that are clear in the last vector" "ORN (vector)";
    "1" "00" write "eor" LaneOp::Eor, "sets the bits set in exactly one vector" "EOR (vector)";
    "1" "01" change "bsl" LaneOp::Select, "takes each bit from the first source where the destination is set, else from the second" "BSL";
    "1" "10" change "bit" LaneOp::InsertIfTrue, "takes each bit of the first source where the second is set" "BIT";
    "1" "11" change "bif" LaneOp::InsertIfFalse, "takes each bit of the first source where the second is clear" "BIF";
};
const BITWISE: &[Form] = rows![
    [Form {
        operands: &[vw(Rd, BYTES), p(Pattern::VTwice(BYTES))],
        encoding: "0 Q:1 0 01110 10 1 Rm 00011 1 Rn Rd",
        ..named("mov", Meaning::Vector(Vector::Lanes { op: LaneOp::Copy, signed: false }), "copies a vector", "Arm ARM, C7.2 MOV (vector)")
    }],
    BITWISE_TWO,
];

const fn pairwise(mnemonic: &'static str, op: LaneOp, summary: &'static str, source: &'static str) -> Form {
    integers(named(mnemonic, Meaning::Vector(Vector::Pairwise(op)), summary, source))
}
macro_rules! pairwise {
    ($($u:literal $opcode:literal $widths:expr, $name:literal $op:expr, $summary:literal $page:literal;)*) => {
        &[$(Form {
            operands: &[vw(Rd, by_size($widths)), v(Rn, by_size($widths)), v(Rm, by_size($widths))],
            encoding: concat!("0 Q:1 ", $u, " 01110 size:2 1 Rm ", $opcode, " 1 Rn Rd"),
            ..pairwise($name, $op, $summary, concat!("Arm ARM, C7.2 ", $page))
        },)*]
    };
}
const PAIRWISE: &[Form] = pairwise! {
    "0" "10100" B | H | S, "smaxp" LaneOp::Max { signed: true }, "takes the larger of each two signed neighbours" "SMAXP";
    "1" "10100" B | H | S, "umaxp" LaneOp::Max { signed: false }, "takes the larger of each two unsigned neighbours" "UMAXP";
    "0" "10101" B | H | S, "sminp" LaneOp::Min { signed: true }, "takes the smaller of each two signed neighbours" "SMINP";
    "1" "10101" B | H | S, "uminp" LaneOp::Min { signed: false }, "takes the smaller of each two unsigned neighbours" "UMINP";
    "0" "10111" B | H | S | D, "addp" LaneOp::Add, "adds each two neighbours" "ADDP (vector)";
};

macro_rules! same_scalar {
    ($($u:literal $opcode:literal $widths:expr, $name:literal $op:expr, $summary:literal $page:literal;)*) => {
        &[$(Form {
            operands: &[vw(Rd, one_by_size($widths)), v(Rn, one_by_size($widths)), v(Rm, one_by_size($widths))],
            encoding: concat!("01 ", $u, " 11110 size:2 1 Rm ", $opcode, " 1 Rn Rd"),
            ..lanes($name, $op, $summary, concat!("Arm ARM, C7.2 ", $page))
        },)*]
    };
}
const INTEGER_SCALARS: &[Form] = same_scalar! {
    "0" "00001" B | H | S | D, "sqadd" LaneOp::SaturatingAdd { signed: true }, "adds signed numbers; what does not fit becomes the limit" "SQADD";
    "1" "00001" B | H | S | D, "uqadd" LaneOp::SaturatingAdd { signed: false }, "adds unsigned numbers; what does not fit becomes the limit" "UQADD";
    "0" "00101" B | H | S | D, "sqsub" LaneOp::SaturatingSub { signed: true }, "subtracts signed numbers; what does not fit becomes the limit" "SQSUB";
    "1" "00101" B | H | S | D, "uqsub" LaneOp::SaturatingSub { signed: false }, "subtracts unsigned numbers; what does not fit becomes the limit" "UQSUB";
    "0" "00110" D, "cmgt" LaneOp::Compare { with: Comparison::Greater, signed: true }, "compares signed numbers: all bits set if the first is greater" "CMGT (register)";
    "1" "00110" D, "cmhi" LaneOp::Compare { with: Comparison::Greater, signed: false }, "compares unsigned numbers: all bits set if the first is greater" "CMHI (register)";
    "0" "00111" D, "cmge" LaneOp::Compare { with: Comparison::GreaterOrEqual, signed: true }, "compares signed numbers: all bits set if the first is not less" "CMGE (register)";
    "1" "00111" D, "cmhs" LaneOp::Compare { with: Comparison::GreaterOrEqual, signed: false }, "compares unsigned numbers: all bits set if the first is not less" "CMHS (register)";
    "0" "01000" D, "sshl" LaneOp::ShiftByRegister { signed: true, round: false, saturate: false }, "shifts a signed number by the last operand, right if it is negative" "SSHL";
    "1" "01000" D, "ushl" LaneOp::ShiftByRegister { signed: false, round: false, saturate: false }, "shifts an unsigned number by the last operand, right if it is negative" "USHL";
    "0" "01001" B | H | S | D, "sqshl" LaneOp::ShiftByRegister { signed: true, round: false, saturate: true }, "shifts a signed number by the last operand; what does not fit becomes the limit" "SQSHL (register)";
    "1" "01001" B | H | S | D, "uqshl" LaneOp::ShiftByRegister { signed: false, round: false, saturate: true }, "shifts an unsigned number by the last operand; what does not fit becomes the limit" "UQSHL (register)";
    "0" "01010" D, "srshl" LaneOp::ShiftByRegister { signed: true, round: true, saturate: false }, "shifts a signed number by the last operand, rounding" "SRSHL";
    "1" "01010" D, "urshl" LaneOp::ShiftByRegister { signed: false, round: true, saturate: false }, "shifts an unsigned number by the last operand, rounding" "URSHL";
    "0" "01011" B | H | S | D, "sqrshl" LaneOp::ShiftByRegister { signed: true, round: true, saturate: true }, "shifts a signed number by the last operand, rounding; what does not fit becomes the limit" "SQRSHL";
    "1" "01011" B | H | S | D, "uqrshl" LaneOp::ShiftByRegister { signed: false, round: true, saturate: true }, "shifts an unsigned number by the last operand, rounding; what does not fit becomes the limit" "UQRSHL";
    "0" "10000" D, "add" LaneOp::Add, "adds numbers in vector registers" "ADD (vector)";
    "1" "10000" D, "sub" LaneOp::Sub, "subtracts numbers in vector registers" "SUB (vector)";
    "0" "10001" D, "cmtst" LaneOp::TestBits, "tests numbers: all bits set if both have a bit in common" "CMTST";
    "1" "10001" D, "cmeq" LaneOp::Compare { with: Comparison::Equal, signed: false }, "compares numbers: all bits set if they are equal" "CMEQ (register)";
    "0" "10110" H | S, "sqdmulh" LaneOp::DoublingMulHigh { round: false }, "multiplies signed numbers, doubles, and takes the upper half" "SQDMULH (vector)";
    "1" "10110" H | S, "sqrdmulh" LaneOp::DoublingMulHigh { round: true }, "multiplies signed numbers, doubles, and takes the upper half, rounding" "SQRDMULH (vector)";
};

const SD: Elements = elements(LaneSource::Sz, S | D, Count::Q);
const SD_ONE: Elements = elements(LaneSource::Sz, S | D, Count::One);
const HALVES: Elements = fixed(W16, Count::Q);

const fn float(mnemonic: &'static str, op: LaneOp, summary: &'static str, source: &'static str) -> Form {
    floats(named(mnemonic, Meaning::Vector(Vector::Lanes { op, signed: false }), summary, source))
}
/// Single and double precision, and half precision; and the same of scalar registers.
macro_rules! same_floats {
    ($u:literal $a:literal $opcode:literal, $dst:ident, $base:expr) => {
        [
            Form { operands: &[destination!($dst)(Rd, SD), v(Rn, SD), v(Rm, SD)], encoding: concat!("0 Q:1 ", $u, " 01110 ", $a, " sz:1 1 Rm 11", $opcode, " 1 Rn Rd"), ..$base },
            Form { operands: &[destination!($dst)(Rd, HALVES), v(Rn, HALVES), v(Rm, HALVES)], encoding: concat!("0 Q:1 ", $u, " 01110 ", $a, " 10 Rm 00 ", $opcode, " 1 Rn Rd"), ..$base },
        ]
    };
    (scalar $u:literal $a:literal $opcode:literal, $base:expr) => {
        [
            Form { operands: &[vw(Rd, SD_ONE), v(Rn, SD_ONE), v(Rm, SD_ONE)], encoding: concat!("01 ", $u, " 11110 ", $a, " sz:1 1 Rm 11", $opcode, " 1 Rn Rd"), ..$base },
            Form { operands: &[fw(W16, Rd), f(W16, Rn), f(W16, Rm)], encoding: concat!("01 ", $u, " 11110 ", $a, " 10 Rm 00 ", $opcode, " 1 Rn Rd"), ..$base },
        ]
    };
}
const fn fcompare(mnemonic: &'static str, with: Comparison, absolute: bool, summary: &'static str, source: &'static str) -> Form {
    float(mnemonic, LaneOp::FCompare { with, absolute }, summary, source)
}
const FMULX: Form = float("fmulx", LaneOp::FMulExtended, "multiplies; zero times infinity is 2", "Arm ARM, C7.2 FMULX");
const FABD: Form = float("fabd", LaneOp::FAbsoluteDifference, "takes the distance of elements", "Arm ARM, C7.2 FABD");
const FCMEQ: Form = fcompare("fcmeq", Comparison::Equal, false, "compares: all bits set where elements are equal", "Arm ARM, C7.2 FCMEQ (register)");
const FCMGE: Form = fcompare("fcmge", Comparison::GreaterOrEqual, false, "compares: all bits set where the first is not less", "Arm ARM, C7.2 FCMGE (register)");
const FCMGT: Form = fcompare("fcmgt", Comparison::Greater, false, "compares: all bits set where the first is greater", "Arm ARM, C7.2 FCMGT (register)");
const FACGE: Form = fcompare("facge", Comparison::GreaterOrEqual, true, "compares without signs: all bits set where the first is not less", "Arm ARM, C7.2 FACGE");
const FACGT: Form = fcompare("facgt", Comparison::Greater, true, "compares without signs: all bits set where the first is greater", "Arm ARM, C7.2 FACGT");
const FRECPS: Form = float("frecps", LaneOp::FReciprocalStep, "takes 2 less the product: a step towards a reciprocal", "Arm ARM, C7.2 FRECPS");
const FRSQRTS: Form = float("frsqrts", LaneOp::FReciprocalRootStep, "takes half of 3 less the product: a step towards the reciprocal of a root", "Arm ARM, C7.2 FRSQRTS");
const FLOATS: &[Form] = rows![
    same_floats!("0" "0" "000", write, float("fmaxnm", LaneOp::FMaxNumber, "takes the larger; the number if the other is a quiet NaN", "Arm ARM, C7.2 FMAXNM (vector)")),
    same_floats!("0" "1" "000", write, float("fminnm", LaneOp::FMinNumber, "takes the smaller; the number if the other is a quiet NaN", "Arm ARM, C7.2 FMINNM (vector)")),
    same_floats!("0" "0" "001", change, float("fmla", LaneOp::FMulAdd { subtract: false }, "multiplies and adds to the destination, rounding once", "Arm ARM, C7.2 FMLA (vector)")),
    same_floats!("0" "1" "001", change, float("fmls", LaneOp::FMulAdd { subtract: true }, "subtracts the product from the destination, rounding once", "Arm ARM, C7.2 FMLS (vector)")),
    same_floats!("0" "0" "010", write, float("fadd", LaneOp::FAdd, "adds elements", "Arm ARM, C7.2 FADD (vector)")),
    same_floats!("0" "1" "010", write, float("fsub", LaneOp::FSub, "subtracts elements", "Arm ARM, C7.2 FSUB (vector)")),
    same_floats!("1" "1" "010", write, FABD),
    same_floats!("0" "0" "011", write, FMULX),
    same_floats!("1" "0" "011", write, float("fmul", LaneOp::FMul, "multiplies elements", "Arm ARM, C7.2 FMUL (vector)")),
    same_floats!("0" "0" "100", write, FCMEQ),
    same_floats!("1" "0" "100", write, FCMGE),
    same_floats!("1" "1" "100", write, FCMGT),
    same_floats!("1" "0" "101", write, FACGE),
    same_floats!("1" "1" "101", write, FACGT),
    same_floats!("0" "0" "110", write, float("fmax", LaneOp::FMax, "takes the larger; a NaN if either is one", "Arm ARM, C7.2 FMAX (vector)")),
    same_floats!("0" "1" "110", write, float("fmin", LaneOp::FMin, "takes the smaller; a NaN if either is one", "Arm ARM, C7.2 FMIN (vector)")),
    same_floats!("0" "0" "111", write, FRECPS),
    same_floats!("0" "1" "111", write, FRSQRTS),
    same_floats!("1" "0" "111", write, float("fdiv", LaneOp::FDiv, "divides elements", "Arm ARM, C7.2 FDIV (vector)")),
    same_floats!(scalar "1" "1" "010", FABD),
    same_floats!(scalar "0" "0" "011", FMULX),
    same_floats!(scalar "0" "0" "100", FCMEQ),
    same_floats!(scalar "1" "0" "100", FCMGE),
    same_floats!(scalar "1" "1" "100", FCMGT),
    same_floats!(scalar "1" "0" "101", FACGE),
    same_floats!(scalar "1" "1" "101", FACGT),
    same_floats!(scalar "0" "0" "111", FRECPS),
    same_floats!(scalar "0" "1" "111", FRSQRTS),
];

const fn fpairwise(mnemonic: &'static str, op: LaneOp, summary: &'static str, source: &'static str) -> Form {
    floats(named(mnemonic, Meaning::Vector(Vector::Pairwise(op)), summary, source))
}
const FMAXNMP: Form = fpairwise("fmaxnmp", LaneOp::FMaxNumber, "takes the larger of each two neighbours; the number if the other is a quiet NaN", "Arm ARM, C7.2 FMAXNMP");
const FMINNMP: Form = fpairwise("fminnmp", LaneOp::FMinNumber, "takes the smaller of each two neighbours; the number if the other is a quiet NaN", "Arm ARM, C7.2 FMINNMP");
const FADDP: Form = fpairwise("faddp", LaneOp::FAdd, "adds each two neighbours", "Arm ARM, C7.2 FADDP");
const FMAXP: Form = fpairwise("fmaxp", LaneOp::FMax, "takes the larger of each two neighbours", "Arm ARM, C7.2 FMAXP");
const FMINP: Form = fpairwise("fminp", LaneOp::FMin, "takes the smaller of each two neighbours", "Arm ARM, C7.2 FMINP");
const FLOATS_PAIRWISE: &[Form] = rows![
    same_floats!("1" "0" "000", write, FMAXNMP),
    same_floats!("1" "1" "000", write, FMINNMP),
    same_floats!("1" "0" "010", write, FADDP),
    same_floats!("1" "0" "110", write, FMAXP),
    same_floats!("1" "1" "110", write, FMINP),
];

macro_rules! one {
    ($($u:literal $size:literal $opcode:literal $elements:expr, $dst:ident, $form:expr;)*) => {
        &[$(Form {
            operands: &[destination!($dst)(Rd, $elements), v(Rn, $elements)],
            encoding: concat!("0 Q:1 ", $u, " 01110 ", $size, " 10000 ", $opcode, " 10 Rn Rd"),
            ..$form
        },)*]
    };
}
const fn reverse(mnemonic: &'static str, bits: u8, summary: &'static str, source: &'static str) -> Form {
    named(mnemonic, Meaning::Vector(Vector::Reverse(bits)), summary, source)
}
const ONE_INTEGER: &[Form] = rows![ONE_INTEGER_PLAIN, COMPARED_WITH_ZERO];
const ONE_INTEGER_PLAIN: &[Form] = one! {
    "0" "size:2" "00000" by_size(B | H | S), write, reverse("rev64", 64, "reverses the elements of each doubleword", "Arm ARM, C7.2 REV64");
    "1" "size:2" "00000" by_size(B | H), write, reverse("rev32", 32, "reverses the elements of each word", "Arm ARM, C7.2 REV32 (vector)");
    "0" "size:2" "00001" by_size(B), write, reverse("rev16", 16, "reverses the elements of each halfword", "Arm ARM, C7.2 REV16 (vector)");
    "0" "size:2" "00011" by_size(B | H | S | D), change, lanes("suqadd", LaneOp::SaturatingAddMixed { signed: true }, "adds unsigned elements to signed ones; what does not fit becomes the limit", "Arm ARM, C7.2 SUQADD");
    "1" "size:2" "00011" by_size(B | H | S | D), change, lanes("usqadd", LaneOp::SaturatingAddMixed { signed: false }, "adds signed elements to unsigned ones; what does not fit becomes the limit", "Arm ARM, C7.2 USQADD");
    "0" "size:2" "00100" by_size(B | H | S), write, lanes("cls", LaneOp::Cls, "counts the bits below the highest that are the same as it", "Arm ARM, C7.2 CLS (vector)");
    "1" "size:2" "00100" by_size(B | H | S), write, lanes("clz", LaneOp::Clz, "counts the zero bits above the highest bit that is set", "Arm ARM, C7.2 CLZ (vector)");
    "0" "size:2" "00101" by_size(B), write, lanes("cnt", LaneOp::CountBits, "counts the bits that are set", "Arm ARM, C7.2 CNT");
    "1" "00" "00101" BYTES, write, Form { aliases: &["not"], ..lanes("mvn", LaneOp::Not, "inverts every bit", "Arm ARM, C7.2 NOT") };
    "1" "01" "00101" BYTES, write, lanes("rbit", LaneOp::ReverseBits, "reverses the bits of each byte", "Arm ARM, C7.2 RBIT (vector)");
    "0" "size:2" "00111" by_size(B | H | S | D), write, lanes("sqabs", LaneOp::SaturatingAbs, "takes absolute values; what does not fit becomes the limit", "Arm ARM, C7.2 SQABS");
    "1" "size:2" "00111" by_size(B | H | S | D), write, lanes("sqneg", LaneOp::SaturatingNeg, "negates elements; what does not fit becomes the limit", "Arm ARM, C7.2 SQNEG");
    "0" "size:2" "01011" by_size(B | H | S | D), write, lanes("abs", LaneOp::Abs, "takes absolute values", "Arm ARM, C7.2 ABS");
    "1" "size:2" "01011" by_size(B | H | S | D), write, lanes("neg", LaneOp::Neg, "negates elements", "Arm ARM, C7.2 NEG (vector)");
    "0" "1 0" "11100" fixed(W32, Count::Q), write, lanes("urecpe", LaneOp::UnsignedReciprocalEstimate, "estimates reciprocals of unsigned numbers", "Arm ARM, C7.2 URECPE");
    "1" "1 0" "11100" fixed(W32, Count::Q), write, lanes("ursqrte", LaneOp::UnsignedReciprocalRootEstimate, "estimates reciprocals of roots of unsigned numbers", "Arm ARM, C7.2 URSQRTE");
};

macro_rules! with_zero {
    ($($u:literal $opcode:literal $name:literal $with:ident $summary:literal;)*) => {
        rows![$([
            Form {
                operands: &[vw(Rd, by_size(B | H | S | D)), v(Rn, by_size(B | H | S | D)), p(Pattern::Zero)],
                encoding: concat!("0 Q:1 ", $u, " 01110 size:2 10000 ", $opcode, " 10 Rn Rd"),
                ..lanes($name, LaneOp::CompareZero(Comparison::$with), $summary, concat!("Arm ARM, C7.2 ", $name, " (zero)"))
            },
            Form {
                operands: &[vw(Rd, one_by_size(D)), v(Rn, one_by_size(D)), p(Pattern::Zero)],
                encoding: concat!("01 ", $u, " 11110 size:2 10000 ", $opcode, " 10 Rn Rd"),
                ..lanes($name, LaneOp::CompareZero(Comparison::$with), $summary, concat!("Arm ARM, C7.2 ", $name, " (zero)"))
            },
        ]),*]
    };
}
const COMPARED_WITH_ZERO: &[Form] = with_zero! {
    "0" "01000" "cmgt" Greater "compares signed elements with zero: all bits set where they are greater";
    "1" "01000" "cmge" GreaterOrEqual "compares signed elements with zero: all bits set where they are not less";
    "0" "01001" "cmeq" Equal "compares elements with zero: all bits set where they are equal";
    "1" "01001" "cmle" LessOrEqual "compares signed elements with zero: all bits set where they are not greater";
    "0" "01010" "cmlt" Less "compares signed elements with zero: all bits set where they are less";
};

macro_rules! one_scalar {
    ($($u:literal $opcode:literal $widths:expr, $dst:ident, $form:expr;)*) => {
        &[$(Form {
            operands: &[destination!($dst)(Rd, one_by_size($widths)), v(Rn, one_by_size($widths))],
            encoding: concat!("01 ", $u, " 11110 size:2 10000 ", $opcode, " 10 Rn Rd"),
            ..$form
        },)*]
    };
}
const ONE_INTEGER_SCALAR: &[Form] = one_scalar! {
    "0" "00011" B | H | S | D, change, lanes("suqadd", LaneOp::SaturatingAddMixed { signed: true }, "adds an unsigned number to a signed one; what does not fit becomes the limit", "Arm ARM, C7.2 SUQADD");
    "1" "00011" B | H | S | D, change, lanes("usqadd", LaneOp::SaturatingAddMixed { signed: false }, "adds a signed number to an unsigned one; what does not fit becomes the limit", "Arm ARM, C7.2 USQADD");
    "0" "00111" B | H | S | D, write, lanes("sqabs", LaneOp::SaturatingAbs, "takes the absolute value; what does not fit becomes the limit", "Arm ARM, C7.2 SQABS");
    "1" "00111" B | H | S | D, write, lanes("sqneg", LaneOp::SaturatingNeg, "negates; what does not fit becomes the limit", "Arm ARM, C7.2 SQNEG");
    "0" "01011" D, write, lanes("abs", LaneOp::Abs, "takes the absolute value", "Arm ARM, C7.2 ABS");
    "1" "01011" D, write, lanes("neg", LaneOp::Neg, "negates", "Arm ARM, C7.2 NEG (vector)");
};

/// Single, double and half precision of a vector: `U`, `a`, opcode.
macro_rules! one_float {
    ($u:literal $a:literal $opcode:literal, $base:expr $(, $zero:expr)?) => {
        [
            Form { operands: &[vw(Rd, SD), v(Rn, SD) $(, $zero)?], encoding: concat!("0 Q:1 ", $u, " 01110 ", $a, " sz:1 10000 ", $opcode, " 10 Rn Rd"), ..$base },
            Form { operands: &[vw(Rd, HALVES), v(Rn, HALVES) $(, $zero)?], encoding: concat!("0 Q:1 ", $u, " 01110 ", $a, " 111100 ", $opcode, " 10 Rn Rd"), ..$base },
        ]
    };
    (scalar $u:literal $a:literal $opcode:literal, $base:expr $(, $zero:expr)?) => {
        [
            Form { operands: &[vw(Rd, SD_ONE), v(Rn, SD_ONE) $(, $zero)?], encoding: concat!("01 ", $u, " 11110 ", $a, " sz:1 10000 ", $opcode, " 10 Rn Rd"), ..$base },
            Form { operands: &[fw(W16, Rd), f(W16, Rn) $(, $zero)?], encoding: concat!("01 ", $u, " 11110 ", $a, " 111100 ", $opcode, " 10 Rn Rd"), ..$base },
        ]
    };
    (any $u:literal $a:literal $opcode:literal, $base:expr $(, $zero:expr)?) => {
        *rows![
            one_float!($u $a $opcode, $base $(, $zero)?),
            one_float!(scalar $u $a $opcode, $base $(, $zero)?),
        ]
    };
}
const fn fround(mnemonic: &'static str, how: Rounding, exact: bool, summary: &'static str, source: &'static str) -> Form {
    float(mnemonic, LaneOp::FRound { how, exact }, summary, source)
}
const fn fto(mnemonic: &'static str, signed: bool, how: Rounding, summary: &'static str, source: &'static str) -> Form {
    float(mnemonic, LaneOp::FToInteger { signed, how }, summary, source)
}
const fn fzero(mnemonic: &'static str, with: Comparison, summary: &'static str, source: &'static str) -> Form {
    float(mnemonic, LaneOp::FCompareZero(with), summary, source)
}
const ONE_FLOAT: &[Form] = rows![
    one_float!("0" "0" "11000", fround("frintn", Rounding::Nearest, false, "rounds to the nearest whole numbers, ties to even", "Arm ARM, C7.2 FRINTN (vector)")),
    one_float!("0" "1" "11000", fround("frintp", Rounding::Up, false, "rounds up to whole numbers", "Arm ARM, C7.2 FRINTP (vector)")),
    one_float!("1" "0" "11000", fround("frinta", Rounding::Away, false, "rounds to the nearest whole numbers, ties away from zero", "Arm ARM, C7.2 FRINTA (vector)")),
    one_float!("0" "0" "11001", fround("frintm", Rounding::Down, false, "rounds down to whole numbers", "Arm ARM, C7.2 FRINTM (vector)")),
    one_float!("0" "1" "11001", fround("frintz", Rounding::Zero, false, "rounds toward zero to whole numbers", "Arm ARM, C7.2 FRINTZ (vector)")),
    one_float!("1" "0" "11001", fround("frintx", Rounding::Current, true, "rounds to whole numbers as fpcr says, and tells of a loss", "Arm ARM, C7.2 FRINTX (vector)")),
    one_float!("1" "1" "11001", fround("frinti", Rounding::Current, false, "rounds to whole numbers as fpcr says", "Arm ARM, C7.2 FRINTI (vector)")),
    one_float!(any "0" "0" "11010", fto("fcvtns", true, Rounding::Nearest, "converts to signed integers, rounding to nearest, ties to even", "Arm ARM, C7.2 FCVTNS (vector)")),
    one_float!(any "0" "1" "11010", fto("fcvtps", true, Rounding::Up, "converts to signed integers, rounding up", "Arm ARM, C7.2 FCVTPS (vector)")),
    one_float!(any "1" "0" "11010", fto("fcvtnu", false, Rounding::Nearest, "converts to unsigned integers, rounding to nearest, ties to even", "Arm ARM, C7.2 FCVTNU (vector)")),
    one_float!(any "1" "1" "11010", fto("fcvtpu", false, Rounding::Up, "converts to unsigned integers, rounding up", "Arm ARM, C7.2 FCVTPU (vector)")),
    one_float!(any "0" "0" "11011", fto("fcvtms", true, Rounding::Down, "converts to signed integers, rounding down", "Arm ARM, C7.2 FCVTMS (vector)")),
    one_float!(any "0" "1" "11011", fto("fcvtzs", true, Rounding::Zero, "converts to signed integers, rounding toward zero", "Arm ARM, C7.2 FCVTZS (vector, integer)")),
    one_float!(any "1" "0" "11011", fto("fcvtmu", false, Rounding::Down, "converts to unsigned integers, rounding down", "Arm ARM, C7.2 FCVTMU (vector)")),
    one_float!(any "1" "1" "11011", fto("fcvtzu", false, Rounding::Zero, "converts to unsigned integers, rounding toward zero", "Arm ARM, C7.2 FCVTZU (vector, integer)")),
    one_float!(any "0" "0" "11100", fto("fcvtas", true, Rounding::Away, "converts to signed integers, rounding to nearest, ties away from zero", "Arm ARM, C7.2 FCVTAS (vector)")),
    one_float!(any "1" "0" "11100", fto("fcvtau", false, Rounding::Away, "converts to unsigned integers, rounding to nearest, ties away from zero", "Arm ARM, C7.2 FCVTAU (vector)")),
    one_float!(any "0" "0" "11101", float("scvtf", LaneOp::FFromInteger { signed: true }, "converts signed integers to floating point", "Arm ARM, C7.2 SCVTF (vector, integer)")),
    one_float!(any "1" "0" "11101", float("ucvtf", LaneOp::FFromInteger { signed: false }, "converts unsigned integers to floating point", "Arm ARM, C7.2 UCVTF (vector, integer)")),
    one_float!(any "0" "1" "11101", float("frecpe", LaneOp::FReciprocalEstimate, "estimates the reciprocal to 8 bits", "Arm ARM, C7.2 FRECPE")),
    one_float!(any "1" "1" "11101", float("frsqrte", LaneOp::FReciprocalRootEstimate, "estimates the reciprocal of the root to 8 bits", "Arm ARM, C7.2 FRSQRTE")),
    one_float!(scalar "0" "1" "11111", float("frecpx", LaneOp::FReciprocalExponent, "turns the exponent round, for a division by scaling", "Arm ARM, C7.2 FRECPX")),
    one_float!(any "0" "1" "01100", fzero("fcmgt", Comparison::Greater, "compares with zero: all bits set where the first is greater", "Arm ARM, C7.2 FCMGT (zero)"), p(Pattern::FloatZero)),
    one_float!(any "1" "1" "01100", fzero("fcmge", Comparison::GreaterOrEqual, "compares with zero: all bits set where the first is not less", "Arm ARM, C7.2 FCMGE (zero)"), p(Pattern::FloatZero)),
    one_float!(any "0" "1" "01101", fzero("fcmeq", Comparison::Equal, "compares with zero: all bits set where they are equal", "Arm ARM, C7.2 FCMEQ (zero)"), p(Pattern::FloatZero)),
    one_float!(any "1" "1" "01101", fzero("fcmle", Comparison::LessOrEqual, "compares with zero: all bits set where the first is not greater", "Arm ARM, C7.2 FCMLE (zero)"), p(Pattern::FloatZero)),
    one_float!(any "0" "1" "01110", fzero("fcmlt", Comparison::Less, "compares with zero: all bits set where the first is less", "Arm ARM, C7.2 FCMLT (zero)"), p(Pattern::FloatZero)),
    one_float!("0" "1" "01111", float("fabs", LaneOp::FAbs, "clears signs", "Arm ARM, C7.2 FABS (vector)")),
    one_float!("1" "1" "01111", float("fneg", LaneOp::FNeg, "turns signs round", "Arm ARM, C7.2 FNEG (vector)")),
    one_float!("1" "1" "11111", float("fsqrt", LaneOp::FSqrt, "computes square roots", "Arm ARM, C7.2 FSQRT (vector)")),
];

/// All elements of a vector to a scalar register of the width given behind the name.
macro_rules! across {
    ($($u:literal $opcode:literal $meaning:expr, $name:literal $wide:literal $summary:literal;)*) => {
        rows![$([
            Form { operands: &[fw_widened($wide, W8), v(Rn, fixed(W8, Count::Q))], encoding: concat!("0 Q:1 ", $u, " 01110 00 11000 ", $opcode, " 10 Rn Rd"), ..across_base($name, $meaning, $summary) },
            Form { operands: &[fw_widened($wide, W16), v(Rn, fixed(W16, Count::Q))], encoding: concat!("0 Q:1 ", $u, " 01110 01 11000 ", $opcode, " 10 Rn Rd"), ..across_base($name, $meaning, $summary) },
            Form { operands: &[fw_widened($wide, W32), v(Rn, fixed(W32, Count::Whole))], encoding: concat!("0 1 ", $u, " 01110 10 11000 ", $opcode, " 10 Rn Rd"), ..across_base($name, $meaning, $summary) },
        ]),*]
    };
}
const fn fw_widened(wide: bool, width: Width) -> crate::arm64::OperandSpec {
    let width = match (width, wide) {
        (Width::W8, true) => Width::W16,
        (Width::W16, true) => Width::W32,
        (_, true) => Width::W64,
        (width, false) => width,
    };
    fw(width, Rd)
}
const fn across_base(mnemonic: &'static str, meaning: Vector, summary: &'static str) -> Form {
    integers(named(mnemonic, Meaning::Vector(meaning), summary, "Arm ARM, C7.2 ADDV, SADDLV, UADDLV, SMAXV, SMINV, UMAXV, UMINV"))
}
const fn facross(mnemonic: &'static str, op: LaneOp, summary: &'static str) -> Form {
    floats(named(mnemonic, Meaning::Vector(Vector::Across(op)), summary, "Arm ARM, C7.2 FMAXNMV, FMAXV, FMINNMV, FMINV"))
}
const ACROSS: &[Form] = rows![ACROSS_INTEGERS, ACROSS_FLOATS];
const ACROSS_INTEGERS: &[Form] = across! {
    "0" "00011" Vector::AcrossLong { signed: true }, "saddlv" true "adds up signed elements at twice their width";
    "1" "00011" Vector::AcrossLong { signed: false }, "uaddlv" true "adds up unsigned elements at twice their width";
    "0" "01010" Vector::Across(LaneOp::Max { signed: true }), "smaxv" false "takes the largest of signed elements";
    "1" "01010" Vector::Across(LaneOp::Max { signed: false }), "umaxv" false "takes the largest of unsigned elements";
    "0" "11010" Vector::Across(LaneOp::Min { signed: true }), "sminv" false "takes the smallest of signed elements";
    "1" "11010" Vector::Across(LaneOp::Min { signed: false }), "uminv" false "takes the smallest of unsigned elements";
    "0" "11011" Vector::Across(LaneOp::Add), "addv" false "adds up the elements";
};
macro_rules! across_floats {
    ($($a:literal $opcode:literal $op:expr, $name:literal $summary:literal;)*) => {
        rows![$([
            Form { operands: &[fw(W32, Rd), v(Rn, fixed(W32, Count::Whole))], encoding: concat!("0 1 1 01110 ", $a, " 0 11000 ", $opcode, " 10 Rn Rd"), ..facross($name, $op, $summary) },
            Form { operands: &[fw(W16, Rd), v(Rn, HALVES)], encoding: concat!("0 Q:1 0 01110 ", $a, " 0 11000 ", $opcode, " 10 Rn Rd"), ..facross($name, $op, $summary) },
        ]),*]
    };
}
const ACROSS_FLOATS: &[Form] = across_floats! {
    "0" "01100" LaneOp::FMaxNumber, "fmaxnmv" "takes the largest element; numbers before quiet NaNs";
    "1" "01100" LaneOp::FMinNumber, "fminnmv" "takes the smallest element; numbers before quiet NaNs";
    "0" "01111" LaneOp::FMax, "fmaxv" "takes the largest element; a NaN if there is one";
    "1" "01111" LaneOp::FMin, "fminv" "takes the smallest element; a NaN if there is one";
};

const SD_TWO: Elements = elements(LaneSource::Sz, S | D, Count::Two);
macro_rules! pair_to_scalar {
    ($($a:literal $opcode:literal $name:literal $op:expr, $summary:literal;)*) => {
        rows![$([
            Form { operands: &[vw(Rd, SD_ONE), v(Rn, SD_TWO)], encoding: concat!("01 1 11110 ", $a, " sz:1 11000 ", $opcode, " 10 Rn Rd"), ..facross($name, $op, $summary) },
            Form { operands: &[fw(W16, Rd), v(Rn, fixed(W16, Count::Two))], encoding: concat!("01 0 11110 ", $a, " 0 11000 ", $opcode, " 10 Rn Rd"), ..facross($name, $op, $summary) },
        ]),*]
    };
}
const PAIR_TO_SCALAR_FLOATS: &[Form] = pair_to_scalar! {
    "0" "01100" "fmaxnmp" LaneOp::FMaxNumber, "takes the larger of two elements; the number if the other is a quiet NaN";
    "1" "01100" "fminnmp" LaneOp::FMinNumber, "takes the smaller of two elements; the number if the other is a quiet NaN";
    "0" "01101" "faddp" LaneOp::FAdd, "adds two elements";
    "0" "01111" "fmaxp" LaneOp::FMax, "takes the larger of two elements";
    "1" "01111" "fminp" LaneOp::FMin, "takes the smaller of two elements";
};
const PAIR_TO_SCALAR: &[Form] = rows![
    PAIR_TO_SCALAR_FLOATS,
    [Form {
        operands: &[fw(W64, Rd), v(Rn, fixed(W64, Count::Two))],
        encoding: "01 0 11110 11 11000 11011 10 Rn Rd",
        ..across_base("addp", Vector::Across(LaneOp::Add), "adds two elements")
    }],
];

const fn dot(mnemonic: &'static str, signed: bool, summary: &'static str, source: &'static str) -> Form {
    integers(named(mnemonic, Meaning::Vector(Vector::Dot { signed }), summary, source))
}
pub(super) const SDOT: Form = dot("sdot", true, "multiplies signed bytes, and adds each four products to an element of the destination", "Arm ARM, C7.2 SDOT");
pub(super) const UDOT: Form = dot("udot", false, "multiplies unsigned bytes, and adds each four products to an element of the destination", "Arm ARM, C7.2 UDOT");
const DOT: &[Form] = &[
    Form { operands: &[vrw(Rd, fixed(W32, Count::Q)), v(Rn, BYTES), v(Rm, BYTES)], encoding: "0 Q:1 0 01110 10 0 Rm 1 0010 1 Rn Rd", ..SDOT },
    Form { operands: &[vrw(Rd, fixed(W32, Count::Q)), v(Rn, BYTES), v(Rm, BYTES)], encoding: "0 Q:1 1 01110 10 0 Rm 1 0010 1 Rn Rd", ..UDOT },
];

const fn crypto(mnemonic: &'static str, step: Crypto, summary: &'static str, source: &'static str) -> Form {
    named(mnemonic, Meaning::Vector(Vector::Crypto(step)), summary, source)
}
const STATE: Elements = fixed(W8, Count::Whole);
const WORDS: Elements = fixed(W32, Count::Whole);
const fn q(field: crate::arm64::RegField) -> crate::arm64::OperandSpec {
    f(W128, field)
}
const fn q_changed() -> crate::arm64::OperandSpec {
    spec(crate::Access::ReadWrite, Pattern::F(W128, Rd))
}
const CRYPTO: &[Form] = &[
    Form { operands: &[vrw(Rd, STATE), v(Rn, STATE)], encoding: "01001110 00 10100 00100 10 Rn Rd", ..crypto("aese", Crypto::Aese, "does the first steps of a round of AES encryption", "Arm ARM, C7.2 AESE") },
    Form { operands: &[vrw(Rd, STATE), v(Rn, STATE)], encoding: "01001110 00 10100 00101 10 Rn Rd", ..crypto("aesd", Crypto::Aesd, "does the first steps of a round of AES decryption", "Arm ARM, C7.2 AESD") },
    Form { operands: &[vw(Rd, STATE), v(Rn, STATE)], encoding: "01001110 00 10100 00110 10 Rn Rd", ..crypto("aesmc", Crypto::Aesmc, "mixes the columns of an AES state", "Arm ARM, C7.2 AESMC") },
    Form { operands: &[vw(Rd, STATE), v(Rn, STATE)], encoding: "01001110 00 10100 00111 10 Rn Rd", ..crypto("aesimc", Crypto::Aesimc, "mixes the columns of an AES state back", "Arm ARM, C7.2 AESIMC") },
    Form { operands: &[q_changed(), f(W32, Rn), v(Rm, WORDS)], encoding: "01011110 00 0 Rm 0 000 00 Rn Rd", ..crypto("sha1c", Crypto::Sha1c, "does four rounds of SHA-1, of the kind that chooses", "Arm ARM, C7.2 SHA1C") },
    Form { operands: &[q_changed(), f(W32, Rn), v(Rm, WORDS)], encoding: "01011110 00 0 Rm 0 001 00 Rn Rd", ..crypto("sha1p", Crypto::Sha1p, "does four rounds of SHA-1, of the kind of parity", "Arm ARM, C7.2 SHA1P") },
    Form { operands: &[q_changed(), f(W32, Rn), v(Rm, WORDS)], encoding: "01011110 00 0 Rm 0 010 00 Rn Rd", ..crypto("sha1m", Crypto::Sha1m, "does four rounds of SHA-1, of the kind of majority", "Arm ARM, C7.2 SHA1M") },
    Form { operands: &[vrw(Rd, WORDS), v(Rn, WORDS), v(Rm, WORDS)], encoding: "01011110 00 0 Rm 0 011 00 Rn Rd", ..crypto("sha1su0", Crypto::Sha1su0, "does the first half of the schedule of SHA-1", "Arm ARM, C7.2 SHA1SU0") },
    Form { operands: &[q_changed(), q(Rn), v(Rm, WORDS)], encoding: "01011110 00 0 Rm 0 100 00 Rn Rd", ..crypto("sha256h", Crypto::Sha256h, "does four rounds of SHA-256, for the first half of the hash", "Arm ARM, C7.2 SHA256H") },
    Form { operands: &[q_changed(), q(Rn), v(Rm, WORDS)], encoding: "01011110 00 0 Rm 0 101 00 Rn Rd", ..crypto("sha256h2", Crypto::Sha256h2, "does four rounds of SHA-256, for the second half of the hash", "Arm ARM, C7.2 SHA256H2") },
    Form { operands: &[vrw(Rd, WORDS), v(Rn, WORDS), v(Rm, WORDS)], encoding: "01011110 00 0 Rm 0 110 00 Rn Rd", ..crypto("sha256su1", Crypto::Sha256su1, "does the second half of the schedule of SHA-256", "Arm ARM, C7.2 SHA256SU1") },
    Form { operands: &[fw(W32, Rd), f(W32, Rn)], encoding: "01011110 00 10100 00000 10 Rn Rd", ..crypto("sha1h", Crypto::Sha1h, "rotates a word as SHA-1 does", "Arm ARM, C7.2 SHA1H") },
    Form { operands: &[vrw(Rd, WORDS), v(Rn, WORDS)], encoding: "01011110 00 10100 00001 10 Rn Rd", ..crypto("sha1su1", Crypto::Sha1su1, "does the second half of the schedule of SHA-1", "Arm ARM, C7.2 SHA1SU1") },
    Form { operands: &[vrw(Rd, WORDS), v(Rn, WORDS)], encoding: "01011110 00 10100 00010 10 Rn Rd", ..crypto("sha256su0", Crypto::Sha256su0, "does the first half of the schedule of SHA-256", "Arm ARM, C7.2 SHA256SU0") },
];

pub(super) const fn doubling(mnemonic: &'static str, subtract: bool) -> Form {
    let (summary, source) = match subtract {
        false => ("multiplies signed elements, doubles, and adds the upper halves to the destination, rounding", "Arm ARM, C7.2 SQRDMLAH"),
        true => ("multiplies signed elements, doubles, and subtracts the upper halves from the destination, rounding", "Arm ARM, C7.2 SQRDMLSH"),
    };
    lanes(mnemonic, LaneOp::DoublingMulHighAdd { subtract }, summary, source)
}
const DOUBLING: &[Form] = &[
    Form { operands: &[vrw(Rd, by_size(H | S)), v(Rn, by_size(H | S)), v(Rm, by_size(H | S))], encoding: "0 Q:1 1 01110 size:2 0 Rm 1 0000 1 Rn Rd", ..doubling("sqrdmlah", false) },
    Form { operands: &[vrw(Rd, by_size(H | S)), v(Rn, by_size(H | S)), v(Rm, by_size(H | S))], encoding: "0 Q:1 1 01110 size:2 0 Rm 1 0001 1 Rn Rd", ..doubling("sqrdmlsh", true) },
    Form { operands: &[vrw(Rd, one_by_size(H | S)), v(Rn, one_by_size(H | S)), v(Rm, one_by_size(H | S))], encoding: "01 1 11110 size:2 0 Rm 1 0000 1 Rn Rd", ..doubling("sqrdmlah", false) },
    Form { operands: &[vrw(Rd, one_by_size(H | S)), v(Rn, one_by_size(H | S)), v(Rm, one_by_size(H | S))], encoding: "01 1 11110 size:2 0 Rm 1 0001 1 Rn Rd", ..doubling("sqrdmlsh", true) },
];
