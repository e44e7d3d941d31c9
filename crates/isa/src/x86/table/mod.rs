//! The rows, by kind of instruction. Each can be held against the manual's page.

mod arithmetic;
mod bits;
mod control;
mod legacy;
mod logic;
mod moves;
mod segments;
mod sse;
mod strings;
mod system;

use super::feature;
use super::{Form, Meaning, Pattern, Repeat, OperandSpec, StringOp, X87, flag, spec};
use crate::form::Modes;
use crate::{Access, Control, FlagEffects, FlagSet, Implicit, Reg, RegKind, Segment, Traits, Width};

pub(super) const GROUPS: &[&[Form]] = &[
    moves::FORMS,
    moves::CMOV,
    arithmetic::ADD,
    arithmetic::ADC,
    arithmetic::SUB,
    arithmetic::SBB,
    arithmetic::CMP,
    logic::AND,
    logic::OR,
    logic::XOR,
    logic::TEST,
    arithmetic::INC,
    arithmetic::DEC,
    arithmetic::NEG,
    logic::NOT,
    logic::SHL,
    logic::SHR,
    logic::SAR,
    logic::ROL,
    logic::ROR,
    logic::RCL,
    logic::RCR,
    arithmetic::MUL,
    arithmetic::IMUL_WIDE,
    arithmetic::IMUL,
    arithmetic::DIV,
    arithmetic::IDIV,
    arithmetic::EXTENSIONS,
    bits::BT,
    bits::BTS,
    bits::BTR,
    bits::BTC,
    bits::FORMS,
    bits::SCANS,
    bits::DOUBLE_SHIFTS,
    bits::VEX,
    bits::OTHERS,
    strings::FORMS,
    strings::WRITTEN_OUT,
    system::FORMS,
    system::PRIVILEGED,
    segments::FORMS,
    legacy::FORMS,
    system::X87_WORDS,
    sse::PACKED,
    sse::UNARY_128,
    sse::UNARY_64,
    sse::UNARY_32,
    sse::UNARY_16,
    sse::SHIFTS_BY_VECTOR,
    sse::SHIFTS_BY_IMMEDIATE,
    sse::SHUFFLES_UNARY,
    sse::SHUFFLES_BINARY,
    sse::SHUFFLES_PLACES,
    sse::MOVES,
    sse::FLOATS,
    sse::COMPARES,
    sse::CONVERSIONS,
    sse::OTHERS,
    control::JCC,
    control::SETCC,
    control::FORMS,
];

// Short names for patterns, as the manual writes them.
const R8: Pattern = Pattern::R(Width::W8);
const R16: Pattern = Pattern::R(Width::W16);
const R32: Pattern = Pattern::R(Width::W32);
const R64: Pattern = Pattern::R(Width::W64);
const RM8: Pattern = Pattern::Rm(Width::W8);
const RM16: Pattern = Pattern::Rm(Width::W16);
const RM32: Pattern = Pattern::Rm(Width::W32);
const RM64: Pattern = Pattern::Rm(Width::W64);
const AL: Pattern = Pattern::Acc(Width::W8);
const AX: Pattern = Pattern::Acc(Width::W16);
const EAX: Pattern = Pattern::Acc(Width::W32);
const RAX: Pattern = Pattern::Acc(Width::W64);
const IMM8: Pattern = Pattern::Imm(Width::W8);
const IMM16: Pattern = Pattern::Imm(Width::W16);
const IMM32: Pattern = Pattern::Imm(Width::W32);
const IMM64: Pattern = Pattern::Imm(Width::W64);

/// Read.
const fn r(pattern: Pattern) -> OperandSpec {
    spec(Access::Read, pattern)
}

/// Written.
const fn w(pattern: Pattern) -> OperandSpec {
    spec(Access::Write, pattern)
}

/// Read, then written.
const fn rw(pattern: Pattern) -> OperandSpec {
    spec(Access::ReadWrite, pattern)
}

/// Not accessed.
const fn n(pattern: Pattern) -> OperandSpec {
    spec(Access::None, pattern)
}

const fn reads(width: Width, number: u8) -> Implicit {
    Implicit { access: Access::Read, reg: Reg::x86(width, number) }
}

const fn writes(width: Width, number: u8) -> Implicit {
    Implicit { access: Access::Write, reg: Reg::x86(width, number) }
}

const fn updates(width: Width, number: u8) -> Implicit {
    Implicit { access: Access::ReadWrite, reg: Reg::x86(width, number) }
}

const A: u8 = 0;
const C: u8 = 1;
const D: u8 = 2;
const B: u8 = 3;
const SI: u8 = 6;
const DI: u8 = 7;
const SP: u8 = 4;
const BP: u8 = 5;
const AH: Reg = Reg::new(crate::RegKind::HighByte, 0);

/// What rows have in common unless they say otherwise.
const PLAIN: Form = Form::plain(Meaning::Nop);

/// The nineteen rows of a two-operand instruction of the first opcode block.
///
/// The bytes that are sign-extended come before the accumulator's own rows: of two equally short forms they
/// are the one without a 16-bit immediate, which processors decode more slowly.
///
/// `two_operand!(ADC, rw, "10", ..., "/2")` gives `11 /r` as `ADC r/m, r` and so on.
macro_rules! two_operand {
    ($base:expr, $dst:ident, $rm8_r8:literal, $rm_r:literal, $r8_rm8:literal, $r_rm:literal,
     $al:literal, $acc:literal, $digit:literal) => {
        &[
            Form { operands: &[$dst(RM8), r(R8)], encoding: concat!($rm8_r8, " /r"), ..$base },
            Form { operands: &[$dst(RM16), r(R16)], encoding: concat!($rm_r, " /r"), ..$base },
            Form { operands: &[$dst(RM32), r(R32)], encoding: concat!($rm_r, " /r"), ..$base },
            Form { operands: &[$dst(RM64), r(R64)], encoding: concat!("REX.W + ", $rm_r, " /r"), ..$base },
            Form { operands: &[$dst(R8), r(RM8)], encoding: concat!($r8_rm8, " /r"), ..$base },
            Form { operands: &[$dst(R16), r(RM16)], encoding: concat!($r_rm, " /r"), ..$base },
            Form { operands: &[$dst(R32), r(RM32)], encoding: concat!($r_rm, " /r"), ..$base },
            Form { operands: &[$dst(R64), r(RM64)], encoding: concat!("REX.W + ", $r_rm, " /r"), ..$base },
            Form { operands: &[$dst(RM16), r(Pattern::Simm8)], encoding: concat!("83 ", $digit, " ib"), ..$base },
            Form { operands: &[$dst(RM32), r(Pattern::Simm8)], encoding: concat!("83 ", $digit, " ib"), ..$base },
            Form { operands: &[$dst(RM64), r(Pattern::Simm8)], encoding: concat!("REX.W + 83 ", $digit, " ib"), ..$base },
            Form { operands: &[$dst(AL), r(IMM8)], encoding: concat!($al, " ib"), ..$base },
            Form { operands: &[$dst(AX), r(IMM16)], encoding: concat!($acc, " iw"), ..$base },
            Form { operands: &[$dst(EAX), r(IMM32)], encoding: concat!($acc, " id"), ..$base },
            Form { operands: &[$dst(RAX), r(Pattern::Simm32)], encoding: concat!("REX.W + ", $acc, " id"), ..$base },
            Form { operands: &[$dst(RM8), r(IMM8)], encoding: concat!("80 ", $digit, " ib"), ..$base },
            Form { operands: &[$dst(RM16), r(IMM16)], encoding: concat!("81 ", $digit, " iw"), ..$base },
            Form { operands: &[$dst(RM32), r(IMM32)], encoding: concat!("81 ", $digit, " id"), ..$base },
            Form { operands: &[$dst(RM64), r(Pattern::Simm32)], encoding: concat!("REX.W + 81 ", $digit, " id"), ..$base },
        ]
    };
}
use two_operand;

/// The four widths of a one-operand instruction: `one_operand!(NEG, rw, "F6", "F7", "/3")`.
macro_rules! one_operand {
    ($base:expr, $dst:ident, $rm8:literal, $rm:literal, $digit:literal) => {
        &[
            Form { operands: &[$dst(RM8)], encoding: concat!($rm8, " ", $digit), ..$base },
            Form { operands: &[$dst(RM16)], encoding: concat!($rm, " ", $digit), ..$base },
            Form { operands: &[$dst(RM32)], encoding: concat!($rm, " ", $digit), ..$base },
            Form { operands: &[$dst(RM64)], encoding: concat!("REX.W + ", $rm, " ", $digit), ..$base },
        ]
    };
}
use one_operand;

const NO_CARRY_OVERFLOW: FlagSet = flag::CF.with(flag::OF);
const BY_RESULT: FlagSet = flag::SF.with(flag::ZF).with(flag::PF);
