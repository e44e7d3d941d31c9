//! Vector shifts by a constant, and conversions with so many bits after the point.

use super::rows::*;
use super::vector::lanes;
use crate::arm64::RegField::{Rd, Rn};
use crate::arm64::pattern::{Count, Elements, LaneSource};
use crate::arm64::vector::{LaneOp, Rounding, Vector};
use crate::arm64::{Form, Meaning, OperandSpec, Pattern};

pub(super) const ROWS: &[Form] = rows![SHIFTS, SCALAR_SHIFTS, NARROW, NARROW_SCALAR, LONG, FIXED_POINT];

macro_rules! destination {
    (write) => { vw };
    (change) => { vrw };
}
const RIGHT: OperandSpec = p(Pattern::VectorRightShift);
const LEFT: OperandSpec = p(Pattern::VectorLeftShift);
const fn by_immh(widths: u8, count: Count) -> Elements {
    elements(LaneSource::Immh, widths, count)
}
const ALL: Elements = by_immh(B | H | S | D, Count::Q);

macro_rules! shifts {
    ($($u:literal $opcode:literal $dst:ident $amount:ident $name:literal $op:expr, $summary:literal $page:literal;)*) => {
        &[$(Form {
            operands: &[destination!($dst)(Rd, ALL), v(Rn, ALL), $amount],
            encoding: concat!("0 Q:1 ", $u, " 011110 immh:4 immb:3 ", $opcode, " 1 Rn Rd"),
            ..lanes($name, $op, $summary, concat!("Arm ARM, C7.2 ", $page))
        },)*]
    };
}
const fn right(signed: bool, round: bool, accumulate: bool) -> LaneOp {
    LaneOp::ShiftRight { signed, round, accumulate }
}
const SHIFTS: &[Form] = shifts! {
    "0" "00000" write RIGHT "sshr" right(true, false, false), "shifts signed elements right" "SSHR";
    "1" "00000" write RIGHT "ushr" right(false, false, false), "shifts unsigned elements right" "USHR";
    "0" "00010" change RIGHT "ssra" right(true, false, true), "shifts signed elements right and adds them to the destination" "SSRA";
    "1" "00010" change RIGHT "usra" right(false, false, true), "shifts unsigned elements right and adds them to the destination" "USRA";
    "0" "00100" write RIGHT "srshr" right(true, true, false), "shifts signed elements right, rounding" "SRSHR";
    "1" "00100" write RIGHT "urshr" right(false, true, false), "shifts unsigned elements right, rounding" "URSHR";
    "0" "00110" change RIGHT "srsra" right(true, true, true), "shifts signed elements right, rounding, and adds them to the destination" "SRSRA";
    "1" "00110" change RIGHT "ursra" right(false, true, true), "shifts unsigned elements right, rounding, and adds them to the destination" "URSRA";
    "1" "01000" change RIGHT "sri" LaneOp::ShiftRightInsert, "shifts elements right; the bits above keep the destination's values" "SRI";
    "0" "01010" write LEFT "shl" LaneOp::ShiftLeft, "shifts elements left" "SHL";
    "1" "01010" change LEFT "sli" LaneOp::ShiftLeftInsert, "shifts elements left; the bits below keep the destination's values" "SLI";
    "1" "01100" write LEFT "sqshlu" LaneOp::SaturatingShiftLeftUnsigned, "shifts signed elements left to unsigned ones; what does not fit becomes the limit" "SQSHLU";
    "0" "01110" write LEFT "sqshl" LaneOp::SaturatingShiftLeft { signed: true }, "shifts signed elements left; what does not fit becomes the limit" "SQSHL (immediate)";
    "1" "01110" write LEFT "uqshl" LaneOp::SaturatingShiftLeft { signed: false }, "shifts unsigned elements left; what does not fit becomes the limit" "UQSHL (immediate)";
};

macro_rules! scalar_shifts {
    ($($u:literal $opcode:literal $widths:expr, $dst:ident $amount:ident $name:literal $op:expr, $summary:literal $page:literal;)*) => {
        &[$(Form {
            operands: &[destination!($dst)(Rd, by_immh($widths, Count::One)), v(Rn, by_immh($widths, Count::One)), $amount],
            encoding: concat!("01 ", $u, " 111110 immh:4 immb:3 ", $opcode, " 1 Rn Rd"),
            ..lanes($name, $op, $summary, concat!("Arm ARM, C7.2 ", $page))
        },)*]
    };
}
const SCALAR_SHIFTS: &[Form] = scalar_shifts! {
    "0" "00000" D, write RIGHT "sshr" right(true, false, false), "shifts a signed number right" "SSHR";
    "1" "00000" D, write RIGHT "ushr" right(false, false, false), "shifts an unsigned number right" "USHR";
    "0" "00010" D, change RIGHT "ssra" right(true, false, true), "shifts a signed number right and adds it to the destination" "SSRA";
    "1" "00010" D, change RIGHT "usra" right(false, false, true), "shifts an unsigned number right and adds it to the destination" "USRA";
    "0" "00100" D, write RIGHT "srshr" right(true, true, false), "shifts a signed number right, rounding" "SRSHR";
    "1" "00100" D, write RIGHT "urshr" right(false, true, false), "shifts an unsigned number right, rounding" "URSHR";
    "0" "00110" D, change RIGHT "srsra" right(true, true, true), "shifts a signed number right, rounding, and adds it to the destination" "SRSRA";
    "1" "00110" D, change RIGHT "ursra" right(false, true, true), "shifts an unsigned number right, rounding, and adds it to the destination" "URSRA";
    "1" "01000" D, change RIGHT "sri" LaneOp::ShiftRightInsert, "shifts right; the bits above keep the destination's values" "SRI";
    "0" "01010" D, write LEFT "shl" LaneOp::ShiftLeft, "shifts left" "SHL";
    "1" "01010" D, change LEFT "sli" LaneOp::ShiftLeftInsert, "shifts left; the bits below keep the destination's values" "SLI";
    "1" "01100" B | H | S | D, write LEFT "sqshlu" LaneOp::SaturatingShiftLeftUnsigned, "shifts a signed number left to an unsigned one; what does not fit becomes the limit" "SQSHLU";
    "0" "01110" B | H | S | D, write LEFT "sqshl" LaneOp::SaturatingShiftLeft { signed: true }, "shifts a signed number left; what does not fit becomes the limit" "SQSHL (immediate)";
    "1" "01110" B | H | S | D, write LEFT "uqshl" LaneOp::SaturatingShiftLeft { signed: false }, "shifts an unsigned number left; what does not fit becomes the limit" "UQSHL (immediate)";
};

const fn wide_immh(count: Count) -> Elements {
    wide(LaneSource::Immh, B | H | S, count)
}
macro_rules! narrow {
    ($($u:literal $opcode:literal $name:literal $upper:literal $op:expr, $summary:literal $page:literal;)*) => {
        rows![$([
            Form {
                operands: &[vw(Rd, by_immh(B | H | S, Count::Half)), v(Rn, wide_immh(Count::Whole)), RIGHT],
                encoding: concat!("0 0 ", $u, " 011110 immh:4 immb:3 ", $opcode, " 1 Rn Rd"),
                ..lanes($name, $op, $summary, concat!("Arm ARM, C7.2 ", $page))
            },
            Form {
                operands: &[vrw(Rd, by_immh(B | H | S, Count::Whole)), v(Rn, wide_immh(Count::Whole)), RIGHT],
                encoding: concat!("0 1 ", $u, " 011110 immh:4 immb:3 ", $opcode, " 1 Rn Rd"),
                ..lanes($upper, $op, concat!($summary, ", to the upper half"), concat!("Arm ARM, C7.2 ", $page))
            },
        ]),*]
    };
}
const fn saturating(from_signed: bool, to_signed: bool, round: bool) -> LaneOp {
    LaneOp::SaturatingNarrow { from_signed, to_signed, round }
}
const NARROW: &[Form] = narrow! {
    "0" "10000" "shrn" "shrn2" LaneOp::Narrow { round: false }, "shifts elements right and takes their lower halves" "SHRN, SHRN2";
    "0" "10001" "rshrn" "rshrn2" LaneOp::Narrow { round: true }, "shifts elements right, rounding, and takes their lower halves" "RSHRN, RSHRN2";
    "1" "10000" "sqshrun" "sqshrun2" saturating(true, false, false), "shifts signed elements right and narrows them to unsigned ones; what does not fit becomes the limit" "SQSHRUN, SQSHRUN2";
    "1" "10001" "sqrshrun" "sqrshrun2" saturating(true, false, true), "shifts signed elements right, rounding, and narrows them to unsigned ones; what does not fit becomes the limit" "SQRSHRUN, SQRSHRUN2";
    "0" "10010" "sqshrn" "sqshrn2" saturating(true, true, false), "shifts signed elements right and narrows them; what does not fit becomes the limit" "SQSHRN, SQSHRN2";
    "0" "10011" "sqrshrn" "sqrshrn2" saturating(true, true, true), "shifts signed elements right, rounding, and narrows them; what does not fit becomes the limit" "SQRSHRN, SQRSHRN2";
    "1" "10010" "uqshrn" "uqshrn2" saturating(false, false, false), "shifts unsigned elements right and narrows them; what does not fit becomes the limit" "UQSHRN, UQSHRN2";
    "1" "10011" "uqrshrn" "uqrshrn2" saturating(false, false, true), "shifts unsigned elements right, rounding, and narrows them; what does not fit becomes the limit" "UQRSHRN, UQRSHRN2";
};
macro_rules! narrow_scalar {
    ($($u:literal $opcode:literal $name:literal $op:expr, $summary:literal $page:literal;)*) => {
        &[$(Form {
            operands: &[vw(Rd, by_immh(B | H | S, Count::One)), v(Rn, wide_immh(Count::One)), RIGHT],
            encoding: concat!("01 ", $u, " 111110 immh:4 immb:3 ", $opcode, " 1 Rn Rd"),
            ..lanes($name, $op, $summary, concat!("Arm ARM, C7.2 ", $page))
        },)*]
    };
}
const NARROW_SCALAR: &[Form] = narrow_scalar! {
    "1" "10000" "sqshrun" saturating(true, false, false), "shifts a signed number right and narrows it to an unsigned one; what does not fit becomes the limit" "SQSHRUN, SQSHRUN2";
    "1" "10001" "sqrshrun" saturating(true, false, true), "shifts a signed number right, rounding, and narrows it to an unsigned one; what does not fit becomes the limit" "SQRSHRUN, SQRSHRUN2";
    "0" "10010" "sqshrn" saturating(true, true, false), "shifts a signed number right and narrows it; what does not fit becomes the limit" "SQSHRN, SQSHRN2";
    "0" "10011" "sqrshrn" saturating(true, true, true), "shifts a signed number right, rounding, and narrows it; what does not fit becomes the limit" "SQRSHRN, SQRSHRN2";
    "1" "10010" "uqshrn" saturating(false, false, false), "shifts an unsigned number right and narrows it; what does not fit becomes the limit" "UQSHRN, UQSHRN2";
    "1" "10011" "uqrshrn" saturating(false, false, true), "shifts an unsigned number right, rounding, and narrows it; what does not fit becomes the limit" "UQRSHRN, UQRSHRN2";
};

const fn long(mnemonic: &'static str, op: LaneOp, signed: bool, summary: &'static str, source: &'static str) -> Form {
    integers(named(mnemonic, Meaning::Vector(Vector::Lanes { op, signed }), summary, source))
}
const ALONE_WIDE: Elements = wide(LaneSource::ImmhAlone, B | H | S, Count::Whole);
const fn alone(count: Count) -> Elements {
    elements(LaneSource::ImmhAlone, B | H | S, count)
}
macro_rules! long {
    ($($u:literal $signed:literal $extend:literal $extend2:literal $shift:literal $shift2:literal $kind:literal;)*) => {
        rows![$([
            Form { operands: &[vw(Rd, ALONE_WIDE), v(Rn, alone(Count::Half))], encoding: concat!("0 0 ", $u, " 011110 immh:4 000 10100 1 Rn Rd"), ..long($extend, LaneOp::Copy, $signed, concat!("extends ", $kind, " elements of the lower half to twice their width"), "Arm ARM, C7.2 SXTL, UXTL") },
            Form { operands: &[vw(Rd, ALONE_WIDE), v(Rn, alone(Count::Whole))], encoding: concat!("0 1 ", $u, " 011110 immh:4 000 10100 1 Rn Rd"), ..long($extend2, LaneOp::Copy, $signed, concat!("extends ", $kind, " elements of the upper half to twice their width"), "Arm ARM, C7.2 SXTL, UXTL") },
            Form { operands: &[vw(Rd, wide_immh(Count::Whole)), v(Rn, by_immh(B | H | S, Count::Half)), LEFT], encoding: concat!("0 0 ", $u, " 011110 immh:4 immb:3 10100 1 Rn Rd"), ..long($shift, LaneOp::ShiftLeft, $signed, concat!("extends ", $kind, " elements of the lower half to twice their width and shifts them left"), "Arm ARM, C7.2 SSHLL, USHLL") },
            Form { operands: &[vw(Rd, wide_immh(Count::Whole)), v(Rn, by_immh(B | H | S, Count::Whole)), LEFT], encoding: concat!("0 1 ", $u, " 011110 immh:4 immb:3 10100 1 Rn Rd"), ..long($shift2, LaneOp::ShiftLeft, $signed, concat!("extends ", $kind, " elements of the upper half to twice their width and shifts them left"), "Arm ARM, C7.2 SSHLL, USHLL") },
        ]),*]
    };
}
const LONG: &[Form] = long! {
    "0" true "sxtl" "sxtl2" "sshll" "sshll2" "signed";
    "1" false "uxtl" "uxtl2" "ushll" "ushll2" "unsigned";
};

const FLOATING: Elements = by_immh(H | S | D, Count::Q);
const FLOATING_ONE: Elements = by_immh(H | S | D, Count::One);
macro_rules! fixed_point {
    ($($u:literal $opcode:literal $name:literal $op:expr, $summary:literal $page:literal;)*) => {
        rows![$([
            Form { operands: &[vw(Rd, FLOATING), v(Rn, FLOATING), RIGHT], encoding: concat!("0 Q:1 ", $u, " 011110 immh:4 immb:3 ", $opcode, " 1 Rn Rd"), ..floats(lanes($name, $op, $summary, concat!("Arm ARM, C7.2 ", $page))) },
            Form { operands: &[vw(Rd, FLOATING_ONE), v(Rn, FLOATING_ONE), RIGHT], encoding: concat!("01 ", $u, " 111110 immh:4 immb:3 ", $opcode, " 1 Rn Rd"), ..floats(lanes($name, $op, $summary, concat!("Arm ARM, C7.2 ", $page))) },
        ]),*]
    };
}
const FIXED_POINT: &[Form] = fixed_point! {
    "0" "11100" "scvtf" LaneOp::FFromInteger { signed: true }, "converts signed numbers with so many bits after the point to floating point" "SCVTF (vector, fixed-point)";
    "1" "11100" "ucvtf" LaneOp::FFromInteger { signed: false }, "converts unsigned numbers with so many bits after the point to floating point" "UCVTF (vector, fixed-point)";
    "0" "11111" "fcvtzs" LaneOp::FToInteger { signed: true, how: Rounding::Zero }, "converts to signed numbers with so many bits after the point, rounding toward zero" "FCVTZS (vector, fixed-point)";
    "1" "11111" "fcvtzu" LaneOp::FToInteger { signed: false, how: Rounding::Zero }, "converts to unsigned numbers with so many bits after the point, rounding toward zero" "FCVTZU (vector, fixed-point)";
};
