//! Floating point on scalar registers.

use super::rows::*;
use crate::arm64::RegField::{Ra, Rd, Rm, Rn};
use crate::arm64::pattern::LaneIndex;
use crate::arm64::vector::{LaneOp, Rounding, Vector};
use crate::arm64::{Form, Meaning, OperandSpec, Pattern, field, flag};
use crate::{FlagEffects, Width};

pub(super) const ROWS: &[Form] = rows![
    MOVES, ONE_SOURCE, CONVERSIONS, TWO_SOURCES, THREE_SOURCES, COMPARISONS, CHOICES, TO_INTEGERS, FROM_INTEGERS, FIXED_POINT,
];

const fn op(mnemonic: &'static str, op: LaneOp, summary: &'static str, source: &'static str) -> Form {
    floats(named(mnemonic, Meaning::Vector(Vector::Lanes { op, signed: false }), summary, source))
}

/// The rows of single, double and half precision, which differ in `type`.
macro_rules! precisions {
    ($base:expr, $width:ident => [$($operand:expr),* $(,)?], $head:literal, $tail:literal) => {
        [
            {
                const $width: Width = Width::W32;
                Form { operands: &[$($operand),*], encoding: concat!($head, " 00 ", $tail), ..$base }
            },
            {
                const $width: Width = Width::W64;
                Form { operands: &[$($operand),*], encoding: concat!($head, " 01 ", $tail), ..$base }
            },
            {
                const $width: Width = Width::W16;
                Form { operands: &[$($operand),*], encoding: concat!($head, " 11 ", $tail), ..$base }
            },
        ]
    };
}

const FMOV: Form = op("fmov", LaneOp::Copy, "copies a register of floating point", "Arm ARM, C7.2 FMOV (register)");
const FMOV_IMM: Form = floats(named("fmov", Meaning::Vector(Vector::Immediate { invert: false }), "sets a register of floating point to a number", "Arm ARM, C7.2 FMOV (scalar, immediate)"));
const FMOV_BITS: Form = named("fmov", Meaning::Vector(Vector::MoveBits), "copies bits between a general register and one of floating point", "Arm ARM, C7.2 FMOV (general)");
const UPPER: Pattern = Pattern::Lane(Rn, LaneIndex::Is(W64, 1));
const MOVES: &[Form] = rows![
    precisions!(FMOV, W => [fw(W, Rd), f(W, Rn)], "000 11110", "1 000000 10000 Rn Rd"),
    precisions!(FMOV_IMM, W => [fw(W, Rd), p(Pattern::FloatImm)], "000 11110", "1 imm8:8 100 00000 Rd"),
    [
        Form { operands: &[w(W32, Rd), f(W32, Rn)], encoding: "0 00 11110 00 1 00 110 000000 Rn Rd", ..FMOV_BITS },
        Form { operands: &[fw(W32, Rd), r(W32, Rn)], encoding: "0 00 11110 00 1 00 111 000000 Rn Rd", ..FMOV_BITS },
        Form { operands: &[w(W64, Rd), f(W64, Rn)], encoding: "1 00 11110 01 1 00 110 000000 Rn Rd", ..FMOV_BITS },
        Form { operands: &[fw(W64, Rd), r(W64, Rn)], encoding: "1 00 11110 01 1 00 111 000000 Rn Rd", ..FMOV_BITS },
        Form { operands: &[w(W64, Rd), p(UPPER)], encoding: "1 00 11110 10 1 01 110 000000 Rn Rd", ..FMOV_BITS },
        Form { operands: &[spec(crate::Access::ReadWrite, Pattern::Lane(Rd, LaneIndex::Is(W64, 1))), r(W64, Rn)], encoding: "1 00 11110 10 1 01 111 000000 Rn Rd", ..FMOV_BITS },
        Form { operands: &[w(W32, Rd), f(W16, Rn)], encoding: "0 00 11110 11 1 00 110 000000 Rn Rd", ..FMOV_BITS },
        Form { operands: &[w(W64, Rd), f(W16, Rn)], encoding: "1 00 11110 11 1 00 110 000000 Rn Rd", ..FMOV_BITS },
        Form { operands: &[fw(W16, Rd), r(W32, Rn)], encoding: "0 00 11110 11 1 00 111 000000 Rn Rd", ..FMOV_BITS },
        Form { operands: &[fw(W16, Rd), r(W64, Rn)], encoding: "1 00 11110 11 1 00 111 000000 Rn Rd", ..FMOV_BITS },
    ],
];

const fn round(mnemonic: &'static str, how: Rounding, exact: bool, summary: &'static str, source: &'static str) -> Form {
    op(mnemonic, LaneOp::FRound { how, exact }, summary, source)
}
const ONE_SOURCE: &[Form] = rows![
    precisions!(op("fabs", LaneOp::FAbs, "clears the sign", "Arm ARM, C7.2 FABS (scalar)"), W => [fw(W, Rd), f(W, Rn)], "000 11110", "1 000001 10000 Rn Rd"),
    precisions!(op("fneg", LaneOp::FNeg, "turns the sign round", "Arm ARM, C7.2 FNEG (scalar)"), W => [fw(W, Rd), f(W, Rn)], "000 11110", "1 000010 10000 Rn Rd"),
    precisions!(op("fsqrt", LaneOp::FSqrt, "computes the square root", "Arm ARM, C7.2 FSQRT (scalar)"), W => [fw(W, Rd), f(W, Rn)], "000 11110", "1 000011 10000 Rn Rd"),
    precisions!(round("frintn", Rounding::Nearest, false, "rounds to the nearest whole number, ties to even", "Arm ARM, C7.2 FRINTN (scalar)"), W => [fw(W, Rd), f(W, Rn)], "000 11110", "1 001000 10000 Rn Rd"),
    precisions!(round("frintp", Rounding::Up, false, "rounds up to a whole number", "Arm ARM, C7.2 FRINTP (scalar)"), W => [fw(W, Rd), f(W, Rn)], "000 11110", "1 001001 10000 Rn Rd"),
    precisions!(round("frintm", Rounding::Down, false, "rounds down to a whole number", "Arm ARM, C7.2 FRINTM (scalar)"), W => [fw(W, Rd), f(W, Rn)], "000 11110", "1 001010 10000 Rn Rd"),
    precisions!(round("frintz", Rounding::Zero, false, "rounds toward zero to a whole number", "Arm ARM, C7.2 FRINTZ (scalar)"), W => [fw(W, Rd), f(W, Rn)], "000 11110", "1 001011 10000 Rn Rd"),
    precisions!(round("frinta", Rounding::Away, false, "rounds to the nearest whole number, ties away from zero", "Arm ARM, C7.2 FRINTA (scalar)"), W => [fw(W, Rd), f(W, Rn)], "000 11110", "1 001100 10000 Rn Rd"),
    precisions!(round("frintx", Rounding::Current, true, "rounds to a whole number as fpcr says, and tells of a loss", "Arm ARM, C7.2 FRINTX (scalar)"), W => [fw(W, Rd), f(W, Rn)], "000 11110", "1 001110 10000 Rn Rd"),
    precisions!(round("frinti", Rounding::Current, false, "rounds to a whole number as fpcr says", "Arm ARM, C7.2 FRINTI (scalar)"), W => [fw(W, Rd), f(W, Rn)], "000 11110", "1 001111 10000 Rn Rd"),
];

const FCVT: Form = op("fcvt", LaneOp::FConvert, "converts between single, double and half precision", "Arm ARM, C7.2 FCVT");
const CONVERSIONS: &[Form] = &[
    Form { operands: &[fw(W64, Rd), f(W32, Rn)], encoding: "000 11110 00 1 000101 10000 Rn Rd", ..FCVT },
    Form { operands: &[fw(W16, Rd), f(W32, Rn)], encoding: "000 11110 00 1 000111 10000 Rn Rd", ..FCVT },
    Form { operands: &[fw(W32, Rd), f(W64, Rn)], encoding: "000 11110 01 1 000100 10000 Rn Rd", ..FCVT },
    Form { operands: &[fw(W16, Rd), f(W64, Rn)], encoding: "000 11110 01 1 000111 10000 Rn Rd", ..FCVT },
    Form { operands: &[fw(W32, Rd), f(W16, Rn)], encoding: "000 11110 11 1 000100 10000 Rn Rd", ..FCVT },
    Form { operands: &[fw(W64, Rd), f(W16, Rn)], encoding: "000 11110 11 1 000101 10000 Rn Rd", ..FCVT },
];

const TWO_SOURCES: &[Form] = rows![
    precisions!(op("fmul", LaneOp::FMul, "multiplies", "Arm ARM, C7.2 FMUL (scalar)"), W => [fw(W, Rd), f(W, Rn), f(W, Rm)], "000 11110", "1 Rm 0000 10 Rn Rd"),
    precisions!(op("fdiv", LaneOp::FDiv, "divides the first source by the second", "Arm ARM, C7.2 FDIV (scalar)"), W => [fw(W, Rd), f(W, Rn), f(W, Rm)], "000 11110", "1 Rm 0001 10 Rn Rd"),
    precisions!(op("fadd", LaneOp::FAdd, "adds", "Arm ARM, C7.2 FADD (scalar)"), W => [fw(W, Rd), f(W, Rn), f(W, Rm)], "000 11110", "1 Rm 0010 10 Rn Rd"),
    precisions!(op("fsub", LaneOp::FSub, "subtracts the second source from the first", "Arm ARM, C7.2 FSUB (scalar)"), W => [fw(W, Rd), f(W, Rn), f(W, Rm)], "000 11110", "1 Rm 0011 10 Rn Rd"),
    precisions!(op("fmax", LaneOp::FMax, "takes the larger; a NaN if either is one", "Arm ARM, C7.2 FMAX (scalar)"), W => [fw(W, Rd), f(W, Rn), f(W, Rm)], "000 11110", "1 Rm 0100 10 Rn Rd"),
    precisions!(op("fmin", LaneOp::FMin, "takes the smaller; a NaN if either is one", "Arm ARM, C7.2 FMIN (scalar)"), W => [fw(W, Rd), f(W, Rn), f(W, Rm)], "000 11110", "1 Rm 0101 10 Rn Rd"),
    precisions!(op("fmaxnm", LaneOp::FMaxNumber, "takes the larger; the number if the other is a quiet NaN", "Arm ARM, C7.2 FMAXNM (scalar)"), W => [fw(W, Rd), f(W, Rn), f(W, Rm)], "000 11110", "1 Rm 0110 10 Rn Rd"),
    precisions!(op("fminnm", LaneOp::FMinNumber, "takes the smaller; the number if the other is a quiet NaN", "Arm ARM, C7.2 FMINNM (scalar)"), W => [fw(W, Rd), f(W, Rn), f(W, Rm)], "000 11110", "1 Rm 0111 10 Rn Rd"),
    precisions!(op("fnmul", LaneOp::FMulNegated, "multiplies and negates the product", "Arm ARM, C7.2 FNMUL (scalar)"), W => [fw(W, Rd), f(W, Rn), f(W, Rm)], "000 11110", "1 Rm 1000 10 Rn Rd"),
];

const fn fused(mnemonic: &'static str, negate_product: bool, negate_addend: bool, summary: &'static str, source: &'static str) -> Form {
    floats(named(mnemonic, Meaning::Vector(Vector::MulAdd { negate_product, negate_addend }), summary, source))
}
const THREE_SOURCES: &[Form] = rows![
    precisions!(fused("fmadd", false, false, "multiplies and adds the last operand, rounding once", "Arm ARM, C7.2 FMADD"), W => [fw(W, Rd), f(W, Rn), f(W, Rm), f(W, Ra)], "000 11111", "0 Rm 0 Ra Rn Rd"),
    precisions!(fused("fmsub", true, false, "subtracts the product from the last operand, rounding once", "Arm ARM, C7.2 FMSUB"), W => [fw(W, Rd), f(W, Rn), f(W, Rm), f(W, Ra)], "000 11111", "0 Rm 1 Ra Rn Rd"),
    precisions!(fused("fnmadd", true, true, "negates the product and subtracts the last operand, rounding once", "Arm ARM, C7.2 FNMADD"), W => [fw(W, Rd), f(W, Rn), f(W, Rm), f(W, Ra)], "000 11111", "1 Rm 0 Ra Rn Rd"),
    precisions!(fused("fnmsub", false, true, "multiplies and subtracts the last operand, rounding once", "Arm ARM, C7.2 FNMSUB"), W => [fw(W, Rd), f(W, Rn), f(W, Rm), f(W, Ra)], "000 11111", "1 Rm 1 Ra Rn Rd"),
];

const fn compare(mnemonic: &'static str, signaling: bool, summary: &'static str, source: &'static str) -> Form {
    floats(Form { flags: SETS_NZCV, ..named(mnemonic, Meaning::Vector(Vector::Compare { signaling }), summary, source) })
}
const fn compare_if(mnemonic: &'static str, signaling: bool, source: &'static str) -> Form {
    let flags = FlagEffects { tested: flag::NZCV, ..SETS_NZCV };
    let summary = "compares if the condition holds, else sets the flags to the number";
    floats(Form { flags, ..named(mnemonic, Meaning::Vector(Vector::CondCompare { signaling }), summary, source) })
}
const FCMP: Form = compare("fcmp", false, "compares: C and V are set if either is a NaN", "Arm ARM, C7.2 FCMP");
const FCMPE: Form = compare("fcmpe", true, "compares: C and V are set if either is a NaN, which is an invalid operand", "Arm ARM, C7.2 FCMPE");
const FCCMP: Form = compare_if("fccmp", false, "Arm ARM, C7.2 FCCMP");
const FCCMPE: Form = compare_if("fccmpe", true, "Arm ARM, C7.2 FCCMPE");
const NZCV: OperandSpec = p(Pattern::Unsigned(field::NZCV));
const COMPARISONS: &[Form] = rows![
    precisions!(FCMP, W => [f(W, Rn), f(W, Rm)], "000 11110", "1 Rm 00 1000 Rn 00000"),
    precisions!(FCMP, W => [f(W, Rn), p(Pattern::FloatZero)], "000 11110", "1 00000 00 1000 Rn 01000"),
    precisions!(FCMPE, W => [f(W, Rn), f(W, Rm)], "000 11110", "1 Rm 00 1000 Rn 10000"),
    precisions!(FCMPE, W => [f(W, Rn), p(Pattern::FloatZero)], "000 11110", "1 00000 00 1000 Rn 11000"),
    precisions!(FCCMP, W => [f(W, Rn), f(W, Rm), NZCV, p(Pattern::Cond)], "000 11110", "1 Rm cond:4 01 Rn 0 nzcv:4"),
    precisions!(FCCMPE, W => [f(W, Rn), f(W, Rm), NZCV, p(Pattern::Cond)], "000 11110", "1 Rm cond:4 01 Rn 1 nzcv:4"),
];

const FCSEL: Form = floats(Form { flags: FlagEffects::tests(flag::NZCV), ..named("fcsel", Meaning::Vector(Vector::Select), "copies the first source if the condition holds, else the second", "Arm ARM, C7.2 FCSEL") });
const CHOICES: &[Form] = rows![
    precisions!(FCSEL, W => [fw(W, Rd), f(W, Rn), f(W, Rm), p(Pattern::Cond)], "000 11110", "1 Rm cond:4 11 Rn Rd"),
];

const fn to_integer(mnemonic: &'static str, signed: bool, how: Rounding, source: &'static str) -> Form {
    let summary = match (how, signed) {
        (Rounding::Nearest, true) => "converts to a signed integer, rounding to nearest, ties to even",
        (Rounding::Nearest, false) => "converts to an unsigned integer, rounding to nearest, ties to even",
        (Rounding::Away, true) => "converts to a signed integer, rounding to nearest, ties away from zero",
        (Rounding::Away, false) => "converts to an unsigned integer, rounding to nearest, ties away from zero",
        (Rounding::Up, true) => "converts to a signed integer, rounding up",
        (Rounding::Up, false) => "converts to an unsigned integer, rounding up",
        (Rounding::Down, true) => "converts to a signed integer, rounding down",
        (Rounding::Down, false) => "converts to an unsigned integer, rounding down",
        (_, true) => "converts to a signed integer, rounding toward zero",
        (_, false) => "converts to an unsigned integer, rounding toward zero",
    };
    floats(named(mnemonic, Meaning::Vector(Vector::FToGeneral { signed, how }), summary, source))
}
const fn from_integer(mnemonic: &'static str, signed: bool, source: &'static str) -> Form {
    let summary = if signed { "converts a signed integer to floating point" } else { "converts an unsigned integer to floating point" };
    floats(named(mnemonic, Meaning::Vector(Vector::FFromGeneral { signed }), summary, source))
}
/// Both widths of general registers, each with three precisions.
macro_rules! with_general {
    ($base:expr, $general:ident $scalar:ident => [$($operand:expr),* $(,)?], $tail:literal) => {
        *rows![
            {
                const $general: Width = Width::W32;
                precisions!($base, $scalar => [$($operand),*], "0 00 11110", $tail)
            },
            {
                const $general: Width = Width::W64;
                precisions!($base, $scalar => [$($operand),*], "1 00 11110", $tail)
            },
        ]
    };
}
const TO_INTEGERS: &[Form] = rows![
    with_general!(to_integer("fcvtns", true, Rounding::Nearest, "Arm ARM, C7.2 FCVTNS (scalar)"), G W => [w(G, Rd), f(W, Rn)], "1 00 000 000000 Rn Rd"),
    with_general!(to_integer("fcvtnu", false, Rounding::Nearest, "Arm ARM, C7.2 FCVTNU (scalar)"), G W => [w(G, Rd), f(W, Rn)], "1 00 001 000000 Rn Rd"),
    with_general!(to_integer("fcvtas", true, Rounding::Away, "Arm ARM, C7.2 FCVTAS (scalar)"), G W => [w(G, Rd), f(W, Rn)], "1 00 100 000000 Rn Rd"),
    with_general!(to_integer("fcvtau", false, Rounding::Away, "Arm ARM, C7.2 FCVTAU (scalar)"), G W => [w(G, Rd), f(W, Rn)], "1 00 101 000000 Rn Rd"),
    with_general!(to_integer("fcvtps", true, Rounding::Up, "Arm ARM, C7.2 FCVTPS (scalar)"), G W => [w(G, Rd), f(W, Rn)], "1 01 000 000000 Rn Rd"),
    with_general!(to_integer("fcvtpu", false, Rounding::Up, "Arm ARM, C7.2 FCVTPU (scalar)"), G W => [w(G, Rd), f(W, Rn)], "1 01 001 000000 Rn Rd"),
    with_general!(to_integer("fcvtms", true, Rounding::Down, "Arm ARM, C7.2 FCVTMS (scalar)"), G W => [w(G, Rd), f(W, Rn)], "1 10 000 000000 Rn Rd"),
    with_general!(to_integer("fcvtmu", false, Rounding::Down, "Arm ARM, C7.2 FCVTMU (scalar)"), G W => [w(G, Rd), f(W, Rn)], "1 10 001 000000 Rn Rd"),
    with_general!(to_integer("fcvtzs", true, Rounding::Zero, "Arm ARM, C7.2 FCVTZS (scalar, integer)"), G W => [w(G, Rd), f(W, Rn)], "1 11 000 000000 Rn Rd"),
    with_general!(to_integer("fcvtzu", false, Rounding::Zero, "Arm ARM, C7.2 FCVTZU (scalar, integer)"), G W => [w(G, Rd), f(W, Rn)], "1 11 001 000000 Rn Rd"),
];
const FROM_INTEGERS: &[Form] = rows![
    with_general!(from_integer("scvtf", true, "Arm ARM, C7.2 SCVTF (scalar, integer)"), G W => [fw(W, Rd), r(G, Rn)], "1 00 010 000000 Rn Rd"),
    with_general!(from_integer("ucvtf", false, "Arm ARM, C7.2 UCVTF (scalar, integer)"), G W => [fw(W, Rd), r(G, Rn)], "1 00 011 000000 Rn Rd"),
];
const FIXED_POINT: &[Form] = rows![
    with_general!(to_integer("fcvtzs", true, Rounding::Zero, "Arm ARM, C7.2 FCVTZS (scalar, fixed-point)"), G W => [w(G, Rd), f(W, Rn), p(Pattern::FractionBits(G))], "0 11 000 scale:6 Rn Rd"),
    with_general!(to_integer("fcvtzu", false, Rounding::Zero, "Arm ARM, C7.2 FCVTZU (scalar, fixed-point)"), G W => [w(G, Rd), f(W, Rn), p(Pattern::FractionBits(G))], "0 11 001 scale:6 Rn Rd"),
    with_general!(from_integer("scvtf", true, "Arm ARM, C7.2 SCVTF (scalar, fixed-point)"), G W => [fw(W, Rd), r(G, Rn), p(Pattern::FractionBits(G))], "0 00 010 scale:6 Rn Rd"),
    with_general!(from_integer("ucvtf", false, "Arm ARM, C7.2 UCVTF (scalar, fixed-point)"), G W => [fw(W, Rd), r(G, Rn), p(Pattern::FractionBits(G))], "0 00 011 scale:6 Rn Rd"),
];
