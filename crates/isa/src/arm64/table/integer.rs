//! Moves, sums, bitwise operations, shifts, products, quotients and what is chosen by a condition.

use super::rows::*;
use crate::arm64::field;
use crate::arm64::meaning::{Logic, Meaning};
use crate::arm64::RegField::{Ra, Rd, Rm, Rn};
use crate::arm64::{Form, OperandSpec, Pattern, flag};
use crate::{Access, FlagEffects, Traits, Width};

pub(super) const ROWS: &[Form] = rows![
    MOVES, ADD_SUB, LOGIC, SHIFTS, MULTIPLY, CONDITIONAL, CARRY, ROTATE, ONE_SOURCE, COMPARE_IF, MULTIPLY_LONG, CRC,
];

const MOV: Form = Form {
    mnemonic: "mov",
    meaning: Meaning::Mov,
    summary: "copies a register or an immediate",
    source: "Arm ARM, C6.2 MOV",
    ..PLAIN
};
const MOVZ: Form = Form {
    mnemonic: "movz",
    meaning: Meaning::Movz,
    summary: "sets one 16-bit part of the register and clears the rest",
    source: "Arm ARM, C6.2 MOVZ",
    ..PLAIN
};
const MOVN: Form = Form {
    mnemonic: "movn",
    meaning: Meaning::Movn,
    summary: "sets the register to the inverse of a shifted 16-bit number",
    source: "Arm ARM, C6.2 MOVN",
    ..PLAIN
};
const MOVK: Form = Form {
    mnemonic: "movk",
    meaning: Meaning::Movk,
    summary: "sets one 16-bit part of the register and keeps the rest",
    source: "Arm ARM, C6.2 MOVK",
    ..PLAIN
};
const fn rw_rd(width: Width) -> OperandSpec {
    spec(Access::ReadWrite, Pattern::R(width, Rd))
}
const MOVES: &[Form] = &[
    Form { operands: &[w(W32, Rd), r(W32, Rm)], encoding: "0 01 01010 00 0 Rm 000000 11111 Rd", ..MOV },
    Form { operands: &[w(W64, Rd), r(W64, Rm)], encoding: "1 01 01010 00 0 Rm 000000 11111 Rd", ..MOV },
    Form { operands: &[spec(Access::Write, Pattern::Sp(W32)), r_sp(W32, Rn)], encoding: "0 0 0 100010 0 000000000000 Rn 11111", ..MOV },
    Form { operands: &[w_sp(W32, Rd), p(Pattern::Sp(W32))], encoding: "0 0 0 100010 0 000000000000 11111 Rd", ..MOV },
    Form { operands: &[spec(Access::Write, Pattern::Sp(W64)), r_sp(W64, Rn)], encoding: "1 0 0 100010 0 000000000000 Rn 11111", ..MOV },
    Form { operands: &[w_sp(W64, Rd), p(Pattern::Sp(W64))], encoding: "1 0 0 100010 0 000000000000 11111 Rd", ..MOV },
    Form { operands: &[w(W32, Rd), p(Pattern::MovImm(W32))], encoding: "0 10 100101 0 hw:1 imm16:16 Rd", ..MOV },
    Form { operands: &[w(W64, Rd), p(Pattern::MovImm(W64))], encoding: "1 10 100101 hw:2 imm16:16 Rd", ..MOV },
    Form { operands: &[w(W32, Rd), p(Pattern::MovInverted(W32))], encoding: "0 00 100101 0 hw:1 imm16:16 Rd", ..MOV },
    Form { operands: &[w(W64, Rd), p(Pattern::MovInverted(W64))], encoding: "1 00 100101 hw:2 imm16:16 Rd", ..MOV },
    Form { operands: &[w_sp(W32, Rd), p(Pattern::MovBitmask(W32))], encoding: "0 01 100100 N:1 immr:6 imms:6 11111 Rd", ..MOV },
    Form { operands: &[w_sp(W64, Rd), p(Pattern::MovBitmask(W64))], encoding: "1 01 100100 N:1 immr:6 imms:6 11111 Rd", ..MOV },
    Form { operands: &[w(W32, Rd), p(Pattern::MoveWide(W32))], encoding: "0 10 100101 0 hw:1 imm16:16 Rd", ..MOVZ },
    Form { operands: &[w(W64, Rd), p(Pattern::MoveWide(W64))], encoding: "1 10 100101 hw:2 imm16:16 Rd", ..MOVZ },
    Form { operands: &[w(W32, Rd), p(Pattern::MoveWide(W32))], encoding: "0 00 100101 0 hw:1 imm16:16 Rd", ..MOVN },
    Form { operands: &[w(W64, Rd), p(Pattern::MoveWide(W64))], encoding: "1 00 100101 hw:2 imm16:16 Rd", ..MOVN },
    Form { operands: &[rw_rd(W32), p(Pattern::MoveWide(W32))], encoding: "0 11 100101 0 hw:1 imm16:16 Rd", ..MOVK },
    Form { operands: &[rw_rd(W64), p(Pattern::MoveWide(W64))], encoding: "1 11 100101 hw:2 imm16:16 Rd", ..MOVK },
    Form {
        mnemonic: "adr",
        meaning: Meaning::Adr,
        operands: &[w(W64, Rd), spec(Access::None, Pattern::AdrLabel)],
        encoding: "0 immlo:2 10000 immhi:19 Rd",
        summary: "computes the address of a label within 1 MiB",
        source: "Arm ARM, C6.2 ADR",
        ..PLAIN
    },
    Form {
        mnemonic: "adrp",
        meaning: Meaning::Adrp,
        operands: &[w(W64, Rd), spec(Access::None, Pattern::AdrpLabel)],
        encoding: "1 immlo:2 10000 immhi:19 Rd",
        summary: "computes the address of the 4 KiB page that a label within 4 GiB is on",
        source: "Arm ARM, C6.2 ADRP",
        ..PLAIN
    },
];

/// Immediate, shifted-register and extended-register rows of an addition or subtraction, both widths.
macro_rules! add_sub {
    ($base:expr, $op:literal, $dst:ident) => {
        [
            Form { operands: &[$dst(W32, Rd), r_sp(W32, Rn), p(Pattern::AddSubImm)], encoding: concat!("0 ", $op, " 100010 sh:1 imm12:12 Rn Rd"), ..$base },
            Form { operands: &[$dst(W64, Rd), r_sp(W64, Rn), p(Pattern::AddSubImm)], encoding: concat!("1 ", $op, " 100010 sh:1 imm12:12 Rn Rd"), ..$base },
            Form { operands: &[w(W32, Rd), r(W32, Rn), p(Pattern::ShiftedReg(W32, false))], encoding: concat!("0 ", $op, " 01011 shift:2 0 Rm 0 imm6:5 Rn Rd"), ..$base },
            Form { operands: &[w(W64, Rd), r(W64, Rn), p(Pattern::ShiftedReg(W64, false))], encoding: concat!("1 ", $op, " 01011 shift:2 0 Rm imm6:6 Rn Rd"), ..$base },
            Form { operands: &[$dst(W32, Rd), r_sp(W32, Rn), p(Pattern::ExtendedReg(W32))], encoding: concat!("0 ", $op, " 01011 00 1 Rm option:3 imm3:3 Rn Rd"), ..$base },
            Form { operands: &[$dst(W64, Rd), r_sp(W64, Rn), p(Pattern::ExtendedReg(W64))], encoding: concat!("1 ", $op, " 01011 00 1 Rm option:3 imm3:3 Rn Rd"), ..$base },
        ]
    };
}

/// The same with the result thrown away.
macro_rules! compare {
    ($base:expr, $op:literal) => {
        [
            Form { operands: &[r_sp(W32, Rn), p(Pattern::AddSubImm)], encoding: concat!("0 ", $op, " 100010 sh:1 imm12:12 Rn 11111"), ..$base },
            Form { operands: &[r_sp(W64, Rn), p(Pattern::AddSubImm)], encoding: concat!("1 ", $op, " 100010 sh:1 imm12:12 Rn 11111"), ..$base },
            Form { operands: &[r(W32, Rn), p(Pattern::ShiftedReg(W32, false))], encoding: concat!("0 ", $op, " 01011 shift:2 0 Rm 0 imm6:5 Rn 11111"), ..$base },
            Form { operands: &[r(W64, Rn), p(Pattern::ShiftedReg(W64, false))], encoding: concat!("1 ", $op, " 01011 shift:2 0 Rm imm6:6 Rn 11111"), ..$base },
            Form { operands: &[r_sp(W32, Rn), p(Pattern::ExtendedReg(W32))], encoding: concat!("0 ", $op, " 01011 00 1 Rm option:3 imm3:3 Rn 11111"), ..$base },
            Form { operands: &[r_sp(W64, Rn), p(Pattern::ExtendedReg(W64))], encoding: concat!("1 ", $op, " 01011 00 1 Rm option:3 imm3:3 Rn 11111"), ..$base },
        ]
    };
}

const ADD: Form = Form {
    mnemonic: "add",
    meaning: Meaning::Add { flags: false },
    summary: "adds",
    source: "Arm ARM, C6.2 ADD",
    ..PLAIN
};
const ADDS: Form = Form {
    mnemonic: "adds",
    meaning: Meaning::Add { flags: true },
    flags: SETS_NZCV,
    summary: "adds and sets the flags",
    source: "Arm ARM, C6.2 ADDS",
    ..PLAIN
};
const SUB: Form = Form {
    mnemonic: "sub",
    traits: Traits::ZEROING_IDIOM,
    meaning: Meaning::Sub { flags: false },
    summary: "subtracts the last operand from the one before it",
    source: "Arm ARM, C6.2 SUB",
    ..PLAIN
};
const SUBS: Form = Form {
    mnemonic: "subs",
    meaning: Meaning::Sub { flags: true },
    flags: SETS_NZCV,
    summary: "subtracts and sets the flags; C means no borrow",
    source: "Arm ARM, C6.2 SUBS",
    ..PLAIN
};
const CMP: Form = Form {
    mnemonic: "cmp",
    meaning: Meaning::Compare,
    flags: SETS_NZCV,
    summary: "sets the flags as `subs` would, and throws the result away",
    source: "Arm ARM, C6.2 CMP",
    ..PLAIN
};
const CMN: Form = Form {
    mnemonic: "cmn",
    meaning: Meaning::CompareNegative,
    flags: SETS_NZCV,
    summary: "sets the flags as `adds` would, and throws the result away",
    source: "Arm ARM, C6.2 CMN",
    ..PLAIN
};
const NEG: Form = Form {
    mnemonic: "neg",
    meaning: Meaning::Negate { flags: false },
    summary: "subtracts the operand from zero",
    source: "Arm ARM, C6.2 NEG",
    ..PLAIN
};
const NEGS: Form = Form {
    mnemonic: "negs",
    meaning: Meaning::Negate { flags: true },
    flags: SETS_NZCV,
    summary: "subtracts the operand from zero and sets the flags",
    source: "Arm ARM, C6.2 NEGS",
    ..PLAIN
};
const ADD_ROWS: [Form; 6] = add_sub!(ADD, "0 0", w_sp);
const ADDS_ROWS: [Form; 6] = add_sub!(ADDS, "0 1", w);
const SUB_ROWS: [Form; 6] = add_sub!(SUB, "1 0", w_sp);
const SUBS_ROWS: [Form; 6] = add_sub!(SUBS, "1 1", w);
const CMP_ROWS: [Form; 6] = compare!(CMP, "1 1");
const CMN_ROWS: [Form; 6] = compare!(CMN, "0 1");
const NEG_ROWS: [Form; 4] = [
    Form { operands: &[w(W32, Rd), p(Pattern::ShiftedReg(W32, false))], encoding: "0 1 0 01011 shift:2 0 Rm 0 imm6:5 11111 Rd", ..NEG },
    Form { operands: &[w(W64, Rd), p(Pattern::ShiftedReg(W64, false))], encoding: "1 1 0 01011 shift:2 0 Rm imm6:6 11111 Rd", ..NEG },
    Form { operands: &[w(W32, Rd), p(Pattern::ShiftedReg(W32, false))], encoding: "0 1 1 01011 shift:2 0 Rm 0 imm6:5 11111 Rd", ..NEGS },
    Form { operands: &[w(W64, Rd), p(Pattern::ShiftedReg(W64, false))], encoding: "1 1 1 01011 shift:2 0 Rm imm6:6 11111 Rd", ..NEGS },
];
const ADD_SUB: &[Form] = &join::<40>(&[
    &ADD_ROWS, &ADDS_ROWS, &SUB_ROWS, &SUBS_ROWS, &CMP_ROWS, &CMN_ROWS, &NEG_ROWS,
]);

/// Immediate and shifted-register rows of a bitwise operation: opcode, whether it sets flags.
macro_rules! logic {
    ($base:expr, $opc:literal, $imm_dst:ident) => {
        [
            Form { operands: &[$imm_dst(W32, Rd), r(W32, Rn), p(Pattern::Bitmask(W32))], encoding: concat!("0 ", $opc, " 100100 N:1 immr:6 imms:6 Rn Rd"), ..$base },
            Form { operands: &[$imm_dst(W64, Rd), r(W64, Rn), p(Pattern::Bitmask(W64))], encoding: concat!("1 ", $opc, " 100100 N:1 immr:6 imms:6 Rn Rd"), ..$base },
            Form { operands: &[w(W32, Rd), r(W32, Rn), p(Pattern::ShiftedReg(W32, true))], encoding: concat!("0 ", $opc, " 01010 shift:2 0 Rm 0 imm6:5 Rn Rd"), ..$base },
            Form { operands: &[w(W64, Rd), r(W64, Rn), p(Pattern::ShiftedReg(W64, true))], encoding: concat!("1 ", $opc, " 01010 shift:2 0 Rm imm6:6 Rn Rd"), ..$base },
        ]
    };
}

/// The shifted-register rows of a bitwise operation that inverts its second operand.
macro_rules! logic_inverted {
    ($base:expr, $opc:literal) => {
        [
            Form { operands: &[w(W32, Rd), r(W32, Rn), p(Pattern::ShiftedReg(W32, true))], encoding: concat!("0 ", $opc, " 01010 shift:2 1 Rm 0 imm6:5 Rn Rd"), ..$base },
            Form { operands: &[w(W64, Rd), r(W64, Rn), p(Pattern::ShiftedReg(W64, true))], encoding: concat!("1 ", $opc, " 01010 shift:2 1 Rm imm6:6 Rn Rd"), ..$base },
        ]
    };
}

const AND: Form = Form {
    mnemonic: "and",
    meaning: Meaning::Logic { op: Logic::And, invert: false, flags: false },
    summary: "keeps the bits set in both operands",
    source: "Arm ARM, C6.2 AND",
    ..PLAIN
};
const ANDS: Form = Form {
    mnemonic: "ands",
    meaning: Meaning::Logic { op: Logic::And, invert: false, flags: true },
    flags: SETS_NZ,
    summary: "keeps the bits set in both operands and sets N and Z",
    source: "Arm ARM, C6.2 ANDS",
    ..PLAIN
};
const ORR: Form = Form {
    mnemonic: "orr",
    meaning: Meaning::Logic { op: Logic::Orr, invert: false, flags: false },
    summary: "sets the bits set in either operand",
    source: "Arm ARM, C6.2 ORR",
    ..PLAIN
};
const EOR: Form = Form {
    mnemonic: "eor",
    traits: Traits::ZEROING_IDIOM,
    meaning: Meaning::Logic { op: Logic::Eor, invert: false, flags: false },
    summary: "sets the bits set in exactly one operand",
    source: "Arm ARM, C6.2 EOR",
    ..PLAIN
};
const BIC: Form = Form {
    mnemonic: "bic",
    meaning: Meaning::Logic { op: Logic::And, invert: true, flags: false },
    summary: "clears the bits that are set in the last operand",
    source: "Arm ARM, C6.2 BIC",
    ..PLAIN
};
const ORN: Form = Form {
    mnemonic: "orn",
    meaning: Meaning::Logic { op: Logic::Orr, invert: true, flags: false },
    summary: "sets the bits that are clear in the last operand",
    source: "Arm ARM, C6.2 ORN",
    ..PLAIN
};
const EON: Form = Form {
    mnemonic: "eon",
    meaning: Meaning::Logic { op: Logic::Eor, invert: true, flags: false },
    summary: "sets the bits that are equal in both operands",
    source: "Arm ARM, C6.2 EON",
    ..PLAIN
};
const TST: Form = Form {
    mnemonic: "tst",
    meaning: Meaning::TestBits,
    flags: SETS_NZ,
    summary: "sets N and Z as `ands` would, and throws the result away",
    source: "Arm ARM, C6.2 TST",
    ..PLAIN
};
const MVN: Form = Form {
    mnemonic: "mvn",
    meaning: Meaning::Not,
    summary: "inverts every bit",
    source: "Arm ARM, C6.2 MVN",
    ..PLAIN
};
const AND_ROWS: [Form; 4] = logic!(AND, "00", w_sp);
const ORR_ROWS: [Form; 4] = logic!(ORR, "01", w_sp);
const EOR_ROWS: [Form; 4] = logic!(EOR, "10", w_sp);
const ANDS_ROWS: [Form; 4] = logic!(ANDS, "11", w);
const BIC_ROWS: [Form; 2] = logic_inverted!(BIC, "00");
const ORN_ROWS: [Form; 2] = logic_inverted!(ORN, "01");
const EON_ROWS: [Form; 2] = logic_inverted!(EON, "10");
const LOGIC_ALIASES: [Form; 6] = [
    Form { operands: &[r(W32, Rn), p(Pattern::Bitmask(W32))], encoding: "0 11 100100 N:1 immr:6 imms:6 Rn 11111", ..TST },
    Form { operands: &[r(W64, Rn), p(Pattern::Bitmask(W64))], encoding: "1 11 100100 N:1 immr:6 imms:6 Rn 11111", ..TST },
    Form { operands: &[r(W32, Rn), p(Pattern::ShiftedReg(W32, true))], encoding: "0 11 01010 shift:2 0 Rm 0 imm6:5 Rn 11111", ..TST },
    Form { operands: &[r(W64, Rn), p(Pattern::ShiftedReg(W64, true))], encoding: "1 11 01010 shift:2 0 Rm imm6:6 Rn 11111", ..TST },
    Form { operands: &[w(W32, Rd), p(Pattern::ShiftedReg(W32, true))], encoding: "0 01 01010 shift:2 1 Rm 0 imm6:5 11111 Rd", ..MVN },
    Form { operands: &[w(W64, Rd), p(Pattern::ShiftedReg(W64, true))], encoding: "1 01 01010 shift:2 1 Rm imm6:6 11111 Rd", ..MVN },
];
const BICS: Form = Form {
    flags: SETS_NZ,
    ..named("bics", Meaning::Logic { op: Logic::And, invert: true, flags: true }, "clears the bits that are set in the last operand and sets N and Z", "Arm ARM, C6.2 BICS")
};
const BICS_ROWS: [Form; 2] = logic_inverted!(BICS, "11");
const LOGIC: &[Form] = &join::<30>(&[
    &BICS_ROWS,
    &AND_ROWS,
    &ORR_ROWS,
    &EOR_ROWS,
    &ANDS_ROWS,
    &BIC_ROWS,
    &ORN_ROWS,
    &EON_ROWS,
    &LOGIC_ALIASES,
]);

const LSL: Form = Form {
    mnemonic: "lsl",
    meaning: Meaning::Lsl,
    summary: "shifts left; zeros come in",
    source: "Arm ARM, C6.2 LSL",
    ..PLAIN
};
const LSR: Form = Form {
    mnemonic: "lsr",
    meaning: Meaning::Lsr,
    summary: "shifts right, unsigned; zeros come in",
    source: "Arm ARM, C6.2 LSR",
    ..PLAIN
};
const ASR: Form = Form {
    mnemonic: "asr",
    meaning: Meaning::Asr,
    summary: "shifts right, signed; copies of the sign come in",
    source: "Arm ARM, C6.2 ASR",
    ..PLAIN
};
const SHIFTS: &[Form] = &[
    Form { operands: &[w(W32, Rd), r(W32, Rn), p(Pattern::LeftShift(W32))], encoding: "0 10 100110 0 0 immr:5 0 imms:5 Rn Rd", ..LSL },
    Form { operands: &[w(W64, Rd), r(W64, Rn), p(Pattern::LeftShift(W64))], encoding: "1 10 100110 1 immr:6 imms:6 Rn Rd", ..LSL },
    Form { operands: &[w(W32, Rd), r(W32, Rn), p(Pattern::Unsigned(field::IMMR.low(5)))], encoding: "0 10 100110 0 0 immr:5 011111 Rn Rd", ..LSR },
    Form { operands: &[w(W64, Rd), r(W64, Rn), p(Pattern::Unsigned(field::IMMR))], encoding: "1 10 100110 1 immr:6 111111 Rn Rd", ..LSR },
    Form { operands: &[w(W32, Rd), r(W32, Rn), p(Pattern::Unsigned(field::IMMR.low(5)))], encoding: "0 00 100110 0 0 immr:5 011111 Rn Rd", ..ASR },
    Form { operands: &[w(W64, Rd), r(W64, Rn), p(Pattern::Unsigned(field::IMMR))], encoding: "1 00 100110 1 immr:6 111111 Rn Rd", ..ASR },
    Form { aliases: &["lslv"], operands: &[w(W32, Rd), r(W32, Rn), r(W32, Rm)], encoding: "0 0 0 11010110 Rm 001000 Rn Rd", ..LSL },
    Form { aliases: &["lslv"], operands: &[w(W64, Rd), r(W64, Rn), r(W64, Rm)], encoding: "1 0 0 11010110 Rm 001000 Rn Rd", ..LSL },
    Form { aliases: &["lsrv"], operands: &[w(W32, Rd), r(W32, Rn), r(W32, Rm)], encoding: "0 0 0 11010110 Rm 001001 Rn Rd", ..LSR },
    Form { aliases: &["lsrv"], operands: &[w(W64, Rd), r(W64, Rn), r(W64, Rm)], encoding: "1 0 0 11010110 Rm 001001 Rn Rd", ..LSR },
    Form { aliases: &["asrv"], operands: &[w(W32, Rd), r(W32, Rn), r(W32, Rm)], encoding: "0 0 0 11010110 Rm 001010 Rn Rd", ..ASR },
    Form { aliases: &["asrv"], operands: &[w(W64, Rd), r(W64, Rn), r(W64, Rm)], encoding: "1 0 0 11010110 Rm 001010 Rn Rd", ..ASR },
];

const MUL: Form = Form {
    mnemonic: "mul",
    meaning: Meaning::Mul,
    summary: "multiplies; the low half of the product is the result",
    source: "Arm ARM, C6.2 MUL",
    ..PLAIN
};
const MADD: Form = Form {
    mnemonic: "madd",
    meaning: Meaning::Madd,
    summary: "multiplies, then adds the product to the last operand",
    source: "Arm ARM, C6.2 MADD",
    ..PLAIN
};
const MSUB: Form = Form {
    mnemonic: "msub",
    meaning: Meaning::Msub,
    summary: "multiplies, then subtracts the product from the last operand",
    source: "Arm ARM, C6.2 MSUB",
    ..PLAIN
};
const SDIV: Form = Form {
    mnemonic: "sdiv",
    meaning: Meaning::Sdiv,
    summary: "divides, signed, toward zero; by zero it gives 0",
    source: "Arm ARM, C6.2 SDIV",
    ..PLAIN
};
const UDIV: Form = Form {
    mnemonic: "udiv",
    meaning: Meaning::Udiv,
    summary: "divides, unsigned; by zero it gives 0",
    source: "Arm ARM, C6.2 UDIV",
    ..PLAIN
};
const MULTIPLY: &[Form] = &[
    Form { operands: &[w(W32, Rd), r(W32, Rn), r(W32, Rm)], encoding: "0 00 11011 000 Rm 0 11111 Rn Rd", ..MUL },
    Form { operands: &[w(W64, Rd), r(W64, Rn), r(W64, Rm)], encoding: "1 00 11011 000 Rm 0 11111 Rn Rd", ..MUL },
    Form { operands: &[w(W32, Rd), r(W32, Rn), r(W32, Rm), r(W32, Ra)], encoding: "0 00 11011 000 Rm 0 Ra Rn Rd", ..MADD },
    Form { operands: &[w(W64, Rd), r(W64, Rn), r(W64, Rm), r(W64, Ra)], encoding: "1 00 11011 000 Rm 0 Ra Rn Rd", ..MADD },
    Form { operands: &[w(W32, Rd), r(W32, Rn), r(W32, Rm), r(W32, Ra)], encoding: "0 00 11011 000 Rm 1 Ra Rn Rd", ..MSUB },
    Form { operands: &[w(W64, Rd), r(W64, Rn), r(W64, Rm), r(W64, Ra)], encoding: "1 00 11011 000 Rm 1 Ra Rn Rd", ..MSUB },
    Form { operands: &[w(W32, Rd), r(W32, Rn), r(W32, Rm)], encoding: "0 0 0 11010110 Rm 000011 Rn Rd", ..SDIV },
    Form { operands: &[w(W64, Rd), r(W64, Rn), r(W64, Rm)], encoding: "1 0 0 11010110 Rm 000011 Rn Rd", ..SDIV },
    Form { operands: &[w(W32, Rd), r(W32, Rn), r(W32, Rm)], encoding: "0 0 0 11010110 Rm 000010 Rn Rd", ..UDIV },
    Form { operands: &[w(W64, Rd), r(W64, Rn), r(W64, Rm)], encoding: "1 0 0 11010110 Rm 000010 Rn Rd", ..UDIV },
];

const CSET: Form = Form {
    mnemonic: "cset",
    meaning: Meaning::Cset,
    flags: FlagEffects::tests(flag::NZCV),
    summary: "sets the register to 1 if the condition holds, else to 0",
    source: "Arm ARM, C6.2 CSET",
    ..PLAIN
};
const CSEL: Form = Form {
    mnemonic: "csel",
    meaning: Meaning::Csel,
    flags: FlagEffects::tests(flag::NZCV),
    summary: "copies the first source if the condition holds, else the second",
    source: "Arm ARM, C6.2 CSEL",
    ..PLAIN
};
const CSINC: Form = Form {
    mnemonic: "csinc",
    meaning: Meaning::Csinc,
    summary: "copies the first source if the condition holds, else the second with 1 added",
    source: "Arm ARM, C6.2 CSINC",
    ..CSEL
};
const CSINV: Form = Form {
    mnemonic: "csinv",
    meaning: Meaning::Csinv,
    summary: "copies the first source if the condition holds, else the second inverted",
    source: "Arm ARM, C6.2 CSINV",
    ..CSEL
};
const CSNEG: Form = Form {
    mnemonic: "csneg",
    meaning: Meaning::Csneg,
    summary: "copies the first source if the condition holds, else the second negated",
    source: "Arm ARM, C6.2 CSNEG",
    ..CSEL
};
const fn choose(mnemonic: &'static str, meaning: Meaning, summary: &'static str, source: &'static str) -> Form {
    Form { mnemonic, meaning, summary, source, ..CSEL }
}
const CSETM: Form = choose("csetm", Meaning::Csetm, "sets every bit if the condition holds, else clears them", "Arm ARM, C6.2 CSETM");
const CINC: Form = choose("cinc", Meaning::Cinc, "adds 1 if the condition holds, else copies", "Arm ARM, C6.2 CINC");
const CINV: Form = choose("cinv", Meaning::Cinv, "inverts if the condition holds, else copies", "Arm ARM, C6.2 CINV");
const CNEG: Form = choose("cneg", Meaning::Cneg, "negates if the condition holds, else copies", "Arm ARM, C6.2 CNEG");
const CONDITIONAL: &[Form] = rows![
    both!(CSETM, W => [w(W, Rd), p(Pattern::InvertedCond)], "1 0 11010100 11111 cond:4 0 0 11111 Rd"),
    both!(CINC, W => [w(W, Rd), p(Pattern::RTwice(W)), p(Pattern::InvertedCond)], "0 0 11010100 Rm cond:4 0 1 Rn Rd"),
    both!(CINV, W => [w(W, Rd), p(Pattern::RTwice(W)), p(Pattern::InvertedCond)], "1 0 11010100 Rm cond:4 0 0 Rn Rd"),
    both!(CNEG, W => [w(W, Rd), p(Pattern::RTwice(W)), p(Pattern::InvertedCond)], "1 0 11010100 Rm cond:4 0 1 Rn Rd"),
    CHOICES,
];
const CHOICES: &[Form] = &[
    Form { operands: &[w(W32, Rd), r(W32, Rn), r(W32, Rm), p(Pattern::Cond)], encoding: "0 0 0 11010100 Rm cond:4 0 1 Rn Rd", ..CSINC },
    Form { operands: &[w(W64, Rd), r(W64, Rn), r(W64, Rm), p(Pattern::Cond)], encoding: "1 0 0 11010100 Rm cond:4 0 1 Rn Rd", ..CSINC },
    Form { operands: &[w(W32, Rd), r(W32, Rn), r(W32, Rm), p(Pattern::Cond)], encoding: "0 1 0 11010100 Rm cond:4 0 0 Rn Rd", ..CSINV },
    Form { operands: &[w(W64, Rd), r(W64, Rn), r(W64, Rm), p(Pattern::Cond)], encoding: "1 1 0 11010100 Rm cond:4 0 0 Rn Rd", ..CSINV },
    Form { operands: &[w(W32, Rd), r(W32, Rn), r(W32, Rm), p(Pattern::Cond)], encoding: "0 1 0 11010100 Rm cond:4 0 1 Rn Rd", ..CSNEG },
    Form { operands: &[w(W64, Rd), r(W64, Rn), r(W64, Rm), p(Pattern::Cond)], encoding: "1 1 0 11010100 Rm cond:4 0 1 Rn Rd", ..CSNEG },
    Form { operands: &[w(W32, Rd), p(Pattern::InvertedCond)], encoding: "0 0 0 11010100 11111 cond:4 0 1 11111 Rd", ..CSET },
    Form { operands: &[w(W64, Rd), p(Pattern::InvertedCond)], encoding: "1 0 0 11010100 11111 cond:4 0 1 11111 Rd", ..CSET },
    Form { operands: &[w(W32, Rd), r(W32, Rn), r(W32, Rm), p(Pattern::Cond)], encoding: "0 0 0 11010100 Rm cond:4 0 0 Rn Rd", ..CSEL },
    Form { operands: &[w(W64, Rd), r(W64, Rn), r(W64, Rm), p(Pattern::Cond)], encoding: "1 0 0 11010100 Rm cond:4 0 0 Rn Rd", ..CSEL },
];

const CARRY: &[Form] = rows![
    both!(ADC, W => [w(W, Rd), r(W, Rn), r(W, Rm)], "0 0 11010000 Rm 000000 Rn Rd"),
    both!(ADCS, W => [w(W, Rd), r(W, Rn), r(W, Rm)], "0 1 11010000 Rm 000000 Rn Rd"),
    both!(NGC, W => [w(W, Rd), r(W, Rm)], "1 0 11010000 Rm 000000 11111 Rd"),
    both!(NGCS, W => [w(W, Rd), r(W, Rm)], "1 1 11010000 Rm 000000 11111 Rd"),
    both!(SBC, W => [w(W, Rd), r(W, Rn), r(W, Rm)], "1 0 11010000 Rm 000000 Rn Rd"),
    both!(SBCS, W => [w(W, Rd), r(W, Rn), r(W, Rm)], "1 1 11010000 Rm 000000 Rn Rd"),
];
const TESTS_C: FlagEffects = FlagEffects::tests(flag::C);
const TESTS_C_SETS_NZCV: FlagEffects = FlagEffects { tested: flag::C, ..SETS_NZCV };
const ADC: Form = Form {
    flags: TESTS_C,
    ..named("adc", Meaning::AddCarry { subtract: false, flags: false }, "adds, and 1 more if C is set", "Arm ARM, C6.2 ADC")
};
const ADCS: Form = Form {
    flags: TESTS_C_SETS_NZCV,
    ..named("adcs", Meaning::AddCarry { subtract: false, flags: true }, "adds, and 1 more if C is set, and sets the flags", "Arm ARM, C6.2 ADCS")
};
const SBC: Form = Form {
    flags: TESTS_C,
    ..named("sbc", Meaning::AddCarry { subtract: true, flags: false }, "subtracts, and 1 more if C is clear", "Arm ARM, C6.2 SBC")
};
const SBCS: Form = Form {
    flags: TESTS_C_SETS_NZCV,
    ..named("sbcs", Meaning::AddCarry { subtract: true, flags: true }, "subtracts, and 1 more if C is clear, and sets the flags", "Arm ARM, C6.2 SBCS")
};
const NGC: Form = Form {
    flags: TESTS_C,
    ..named("ngc", Meaning::NegateCarry { flags: false }, "subtracts the operand from zero, and 1 more if C is clear", "Arm ARM, C6.2 NGC")
};
const NGCS: Form = Form {
    flags: TESTS_C_SETS_NZCV,
    ..named("ngcs", Meaning::NegateCarry { flags: true }, "subtracts the operand from zero, and 1 more if C is clear, and sets the flags", "Arm ARM, C6.2 NGCS")
};

const ROR: Form = named("ror", Meaning::Ror, "rotates right; what goes out at the bottom comes in at the top", "Arm ARM, C6.2 ROR");
const EXTR: Form = named("extr", Meaning::Extr, "takes a register's bits from two registers end to end, from the bit given up", "Arm ARM, C6.2 EXTR");
const ROTATE: &[Form] = &[
    Form { operands: &[w(W32, Rd), p(Pattern::RTwice(W32)), p(Pattern::Unsigned(field::IMMS.low(5)))], encoding: "0 00 100111 0 0 Rm 0 imms:5 Rn Rd", ..ROR },
    Form { operands: &[w(W64, Rd), p(Pattern::RTwice(W64)), p(Pattern::Unsigned(field::IMMS))], encoding: "1 00 100111 1 0 Rm imms:6 Rn Rd", ..ROR },
    Form { aliases: &["rorv"], operands: &[w(W32, Rd), r(W32, Rn), r(W32, Rm)], encoding: "0 0 0 11010110 Rm 001011 Rn Rd", ..ROR },
    Form { aliases: &["rorv"], operands: &[w(W64, Rd), r(W64, Rn), r(W64, Rm)], encoding: "1 0 0 11010110 Rm 001011 Rn Rd", ..ROR },
    Form { operands: &[w(W32, Rd), r(W32, Rn), r(W32, Rm), p(Pattern::Unsigned(field::IMMS.low(5)))], encoding: "0 00 100111 0 0 Rm 0 imms:5 Rn Rd", ..EXTR },
    Form { operands: &[w(W64, Rd), r(W64, Rn), r(W64, Rm), p(Pattern::Unsigned(field::IMMS))], encoding: "1 00 100111 1 0 Rm imms:6 Rn Rd", ..EXTR },
];

const RBIT: Form = named("rbit", Meaning::Rbit, "reverses the order of the bits", "Arm ARM, C6.2 RBIT");
const REV16: Form = named("rev16", Meaning::Reverse(W16), "reverses the bytes of each halfword", "Arm ARM, C6.2 REV16");
const REV32: Form = named("rev32", Meaning::Reverse(W32), "reverses the bytes of each word", "Arm ARM, C6.2 REV32");
const REV: Form = named("rev", Meaning::Reverse(W64), "reverses the order of the bytes", "Arm ARM, C6.2 REV");
const CLZ: Form = named("clz", Meaning::Clz, "counts the zero bits above the highest bit that is set", "Arm ARM, C6.2 CLZ");
const CLS: Form = named("cls", Meaning::Cls, "counts the bits below the highest that are the same as it", "Arm ARM, C6.2 CLS");
const ONE_SOURCE: &[Form] = rows![
    both!(RBIT, W => [w(W, Rd), r(W, Rn)], "1 0 11010110 00000 000000 Rn Rd"),
    both!(REV16, W => [w(W, Rd), r(W, Rn)], "1 0 11010110 00000 000001 Rn Rd"),
    [
        Form { meaning: Meaning::Reverse(W32), operands: &[w(W32, Rd), r(W32, Rn)], encoding: "0 1 0 11010110 00000 000010 Rn Rd", ..REV },
        Form { operands: &[w(W64, Rd), r(W64, Rn)], encoding: "1 1 0 11010110 00000 000010 Rn Rd", ..REV32 },
        Form { aliases: &["rev64"], operands: &[w(W64, Rd), r(W64, Rn)], encoding: "1 1 0 11010110 00000 000011 Rn Rd", ..REV },
    ],
    both!(CLZ, W => [w(W, Rd), r(W, Rn)], "1 0 11010110 00000 000100 Rn Rd"),
    both!(CLS, W => [w(W, Rd), r(W, Rn)], "1 0 11010110 00000 000101 Rn Rd"),
];

const IF_TRUE: FlagEffects = FlagEffects { tested: flag::NZCV, ..SETS_NZCV };
const CCMP: Form = Form {
    flags: IF_TRUE,
    ..named("ccmp", Meaning::CondCompare { negative: false }, "compares if the condition holds, else sets the flags to the number", "Arm ARM, C6.2 CCMP")
};
const CCMN: Form = Form {
    flags: IF_TRUE,
    ..named("ccmn", Meaning::CondCompare { negative: true }, "compares with the operand negated if the condition holds, else sets the flags to the number", "Arm ARM, C6.2 CCMN")
};
const NZCV: OperandSpec = p(Pattern::Unsigned(field::NZCV));
const COMPARED: OperandSpec = p(Pattern::Unsigned(field::COMPARED));
const COMPARE_IF: &[Form] = rows![
    both!(CCMP, W => [r(W, Rn), r(W, Rm), NZCV, p(Pattern::Cond)], "1 1 11010010 Rm cond:4 0 0 Rn 0 nzcv:4"),
    both!(CCMP, W => [r(W, Rn), COMPARED, NZCV, p(Pattern::Cond)], "1 1 11010010 imm5:5 cond:4 1 0 Rn 0 nzcv:4"),
    both!(CCMN, W => [r(W, Rn), r(W, Rm), NZCV, p(Pattern::Cond)], "0 1 11010010 Rm cond:4 0 0 Rn 0 nzcv:4"),
    both!(CCMN, W => [r(W, Rn), COMPARED, NZCV, p(Pattern::Cond)], "0 1 11010010 imm5:5 cond:4 1 0 Rn 0 nzcv:4"),
];

const fn long(mnemonic: &'static str, signed: bool, subtract: bool, summary: &'static str, source: &'static str) -> Form {
    named(mnemonic, Meaning::MultiplyLong { signed, subtract }, summary, source)
}
const SMULL: Form = long("smull", true, false, "multiplies two signed words to a doubleword", "Arm ARM, C6.2 SMULL");
const UMULL: Form = long("umull", false, false, "multiplies two unsigned words to a doubleword", "Arm ARM, C6.2 UMULL");
const SMNEGL: Form = long("smnegl", true, true, "multiplies two signed words to a doubleword and negates it", "Arm ARM, C6.2 SMNEGL");
const UMNEGL: Form = long("umnegl", false, true, "multiplies two unsigned words to a doubleword and negates it", "Arm ARM, C6.2 UMNEGL");
const SMADDL: Form = long("smaddl", true, false, "multiplies two signed words, and adds the product to the last operand", "Arm ARM, C6.2 SMADDL");
const UMADDL: Form = long("umaddl", false, false, "multiplies two unsigned words, and adds the product to the last operand", "Arm ARM, C6.2 UMADDL");
const SMSUBL: Form = long("smsubl", true, true, "multiplies two signed words, and subtracts the product from the last operand", "Arm ARM, C6.2 SMSUBL");
const UMSUBL: Form = long("umsubl", false, true, "multiplies two unsigned words, and subtracts the product from the last operand", "Arm ARM, C6.2 UMSUBL");
const SMULH: Form = named("smulh", Meaning::MultiplyHigh { signed: true }, "multiplies two signed doublewords; the upper half of the product is the result", "Arm ARM, C6.2 SMULH");
const UMULH: Form = named("umulh", Meaning::MultiplyHigh { signed: false }, "multiplies two unsigned doublewords; the upper half of the product is the result", "Arm ARM, C6.2 UMULH");
const MNEG: Form = named("mneg", Meaning::Msub, "multiplies and negates the product", "Arm ARM, C6.2 MNEG");
const MULTIPLY_LONG: &[Form] = rows![
    both!(MNEG, W => [w(W, Rd), r(W, Rn), r(W, Rm)], "00 11011 000 Rm 1 11111 Rn Rd"),
    [
        Form { operands: &[w(W64, Rd), r(W32, Rn), r(W32, Rm)], encoding: "1 00 11011 001 Rm 0 11111 Rn Rd", ..SMULL },
        Form { operands: &[w(W64, Rd), r(W32, Rn), r(W32, Rm)], encoding: "1 00 11011 101 Rm 0 11111 Rn Rd", ..UMULL },
        Form { operands: &[w(W64, Rd), r(W32, Rn), r(W32, Rm)], encoding: "1 00 11011 001 Rm 1 11111 Rn Rd", ..SMNEGL },
        Form { operands: &[w(W64, Rd), r(W32, Rn), r(W32, Rm)], encoding: "1 00 11011 101 Rm 1 11111 Rn Rd", ..UMNEGL },
        Form { operands: &[w(W64, Rd), r(W32, Rn), r(W32, Rm), r(W64, Ra)], encoding: "1 00 11011 001 Rm 0 Ra Rn Rd", ..SMADDL },
        Form { operands: &[w(W64, Rd), r(W32, Rn), r(W32, Rm), r(W64, Ra)], encoding: "1 00 11011 101 Rm 0 Ra Rn Rd", ..UMADDL },
        Form { operands: &[w(W64, Rd), r(W32, Rn), r(W32, Rm), r(W64, Ra)], encoding: "1 00 11011 001 Rm 1 Ra Rn Rd", ..SMSUBL },
        Form { operands: &[w(W64, Rd), r(W32, Rn), r(W32, Rm), r(W64, Ra)], encoding: "1 00 11011 101 Rm 1 Ra Rn Rd", ..UMSUBL },
        Form { operands: &[w(W64, Rd), r(W64, Rn), r(W64, Rm)], encoding: "1 00 11011 010 Rm 0 11111 Rn Rd", ..SMULH },
        Form { operands: &[w(W64, Rd), r(W64, Rn), r(W64, Rm)], encoding: "1 00 11011 110 Rm 0 11111 Rn Rd", ..UMULH },
    ],
];

const fn crc(mnemonic: &'static str, castagnoli: bool, width: Width) -> Form {
    let source = if castagnoli { "Arm ARM, C6.2 CRC32C" } else { "Arm ARM, C6.2 CRC32" };
    named(mnemonic, Meaning::Crc32 { castagnoli, width }, "updates a checksum of 32 bits with the last operand", source)
}
const CRC: &[Form] = &[
    Form { operands: &[w(W32, Rd), r(W32, Rn), r(W32, Rm)], encoding: "0 0 0 11010110 Rm 010 0 00 Rn Rd", ..crc("crc32b", false, W8) },
    Form { operands: &[w(W32, Rd), r(W32, Rn), r(W32, Rm)], encoding: "0 0 0 11010110 Rm 010 0 01 Rn Rd", ..crc("crc32h", false, W16) },
    Form { operands: &[w(W32, Rd), r(W32, Rn), r(W32, Rm)], encoding: "0 0 0 11010110 Rm 010 0 10 Rn Rd", ..crc("crc32w", false, W32) },
    Form { operands: &[w(W32, Rd), r(W32, Rn), r(W64, Rm)], encoding: "1 0 0 11010110 Rm 010 0 11 Rn Rd", ..crc("crc32x", false, W64) },
    Form { operands: &[w(W32, Rd), r(W32, Rn), r(W32, Rm)], encoding: "0 0 0 11010110 Rm 010 1 00 Rn Rd", ..crc("crc32cb", true, W8) },
    Form { operands: &[w(W32, Rd), r(W32, Rn), r(W32, Rm)], encoding: "0 0 0 11010110 Rm 010 1 01 Rn Rd", ..crc("crc32ch", true, W16) },
    Form { operands: &[w(W32, Rd), r(W32, Rn), r(W32, Rm)], encoding: "0 0 0 11010110 Rm 010 1 10 Rn Rd", ..crc("crc32cw", true, W32) },
    Form { operands: &[w(W32, Rd), r(W32, Rn), r(W64, Rm)], encoding: "1 0 0 11010110 Rm 010 1 11 Rn Rd", ..crc("crc32cx", true, W64) },
];
