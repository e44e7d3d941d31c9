//! The rows, by kind of instruction. Each can be held against the manual's page.

use super::RegField::{Ra, Rd, Rm, Rn, Rt, Rt2};
use super::{Form, Logic, Meaning, Offset, Pattern, RegField, OperandSpec, condition_flags, flag};
use crate::{Access, Control, FlagEffects, Implicit, Reg, RegKind, Traits, Width};

pub(super) const GROUPS: &[&[Form]] = &[
    MOVES,
    ADD_SUB,
    LOGIC,
    SHIFTS,
    MULTIPLY,
    CONDITIONAL,
    LOADS,
    STORES,
    PAIRS,
    BRANCH_IF,
    BRANCHES,
];

const W32: Width = Width::W32;
const W64: Width = Width::W64;

const fn spec(access: Access, pattern: Pattern) -> OperandSpec {
    OperandSpec { access, pattern }
}

/// A register that is read; 31 is the zero register.
const fn r(width: Width, field: RegField) -> OperandSpec {
    spec(Access::Read, Pattern::R(width, field))
}

/// A register that is written; 31 is the zero register.
const fn w(width: Width, field: RegField) -> OperandSpec {
    spec(Access::Write, Pattern::R(width, field))
}

/// A register that is read; 31 is the stack pointer.
const fn r_sp(width: Width, field: RegField) -> OperandSpec {
    spec(Access::Read, Pattern::RSp(width, field))
}

/// A register that is written; 31 is the stack pointer.
const fn w_sp(width: Width, field: RegField) -> OperandSpec {
    spec(Access::Write, Pattern::RSp(width, field))
}

/// Another pattern that is read.
const fn p(pattern: Pattern) -> OperandSpec {
    spec(Access::Read, pattern)
}

const PLAIN: Form = Form::plain(Meaning::Nop);

const SETS_NZCV: FlagEffects = FlagEffects { modified: flag::NZCV, ..FlagEffects::NONE };
const SETS_NZ: FlagEffects = FlagEffects {
    modified: flag::N.with(flag::Z),
    cleared: flag::C.with(flag::V),
    ..FlagEffects::NONE
};

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
const ADD_SUB_COUNT: usize = 6 * 6 + 4;
const ADD_SUB: &[Form] = &join::<ADD_SUB_COUNT>(&[
    &ADD_ROWS, &ADDS_ROWS, &SUB_ROWS, &SUBS_ROWS, &CMP_ROWS, &CMN_ROWS, &NEG_ROWS,
]);

/// Lays several groups of rows end to end.
const fn join<const N: usize>(groups: &[&[Form]]) -> [Form; N] {
    let mut rows = [PLAIN; N];
    let (mut at, mut group) = (0, 0);
    while group < groups.len() {
        let mut row = 0;
        while row < groups[group].len() {
            rows[at] = groups[group][row];
            at += 1;
            row += 1;
        }
        group += 1;
    }
    assert!(at == N, "N is the number of rows");
    rows
}

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
const LOGIC: &[Form] = &join::<28>(&[
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
    Form { operands: &[w(W32, Rd), r(W32, Rn), p(Pattern::RightShift(W32))], encoding: "0 10 100110 0 0 immr:5 011111 Rn Rd", ..LSR },
    Form { operands: &[w(W64, Rd), r(W64, Rn), p(Pattern::RightShift(W64))], encoding: "1 10 100110 1 immr:6 111111 Rn Rd", ..LSR },
    Form { operands: &[w(W32, Rd), r(W32, Rn), p(Pattern::RightShift(W32))], encoding: "0 00 100110 0 0 immr:5 011111 Rn Rd", ..ASR },
    Form { operands: &[w(W64, Rd), r(W64, Rn), p(Pattern::RightShift(W64))], encoding: "1 00 100110 1 immr:6 111111 Rn Rd", ..ASR },
    Form { operands: &[w(W32, Rd), r(W32, Rn), r(W32, Rm)], encoding: "0 0 0 11010110 Rm 001000 Rn Rd", ..LSL },
    Form { operands: &[w(W64, Rd), r(W64, Rn), r(W64, Rm)], encoding: "1 0 0 11010110 Rm 001000 Rn Rd", ..LSL },
    Form { operands: &[w(W32, Rd), r(W32, Rn), r(W32, Rm)], encoding: "0 0 0 11010110 Rm 001001 Rn Rd", ..LSR },
    Form { operands: &[w(W64, Rd), r(W64, Rn), r(W64, Rm)], encoding: "1 0 0 11010110 Rm 001001 Rn Rd", ..LSR },
    Form { operands: &[w(W32, Rd), r(W32, Rn), r(W32, Rm)], encoding: "0 0 0 11010110 Rm 001010 Rn Rd", ..ASR },
    Form { operands: &[w(W64, Rd), r(W64, Rn), r(W64, Rm)], encoding: "1 0 0 11010110 Rm 001010 Rn Rd", ..ASR },
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
const CONDITIONAL: &[Form] = &[
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

/// The addressing modes of a load or store: access width, register slot, `size` and `opc` bits.
macro_rules! load_store {
    ($base:expr, $unscaled:literal, $access:expr, $reg:expr, $mem:ident, $size:literal, $opc:literal) => {
        [
            Form { operands: &[$reg, $mem(Pattern::MemOffset($access, Offset::Scaled12))], encoding: concat!($size, " 111 0 01 ", $opc, " imm12:12 Rn Rt"), ..$base },
            Form { operands: &[$reg, $mem(Pattern::MemPre($access, Offset::Signed9))], encoding: concat!($size, " 111 0 00 ", $opc, " 0 imm9:9 11 Rn Rt"), ..$base },
            Form { operands: &[$reg, $mem(Pattern::MemPost($access, Offset::Signed9))], encoding: concat!($size, " 111 0 00 ", $opc, " 0 imm9:9 01 Rn Rt"), ..$base },
            Form { operands: &[$reg, $mem(Pattern::MemReg($access))], encoding: concat!($size, " 111 0 00 ", $opc, " 1 Rm option:3 S:1 10 Rn Rt"), ..$base },
            Form { mnemonic: $unscaled, operands: &[$reg, $mem(Pattern::MemOffset($access, Offset::Signed9))], encoding: concat!($size, " 111 0 00 ", $opc, " 0 imm9:9 00 Rn Rt"), ..$base },
            Form { operands: &[$reg, $mem(Pattern::MemOffset($access, Offset::Signed9))], encoding: concat!($size, " 111 0 00 ", $opc, " 0 imm9:9 00 Rn Rt"), accepted_only: true, ..$base },
        ]
    };
}

const fn load(mnemonic: &'static str, access: Width, signed: bool) -> Form {
    Form {
        mnemonic,
        meaning: Meaning::Load { access, signed },
        summary: "loads from memory; a value narrower than the register is extended",
        source: "Arm ARM, C6.2 LDR",
        ..PLAIN
    }
}

const fn store(mnemonic: &'static str, access: Width) -> Form {
    Form {
        mnemonic,
        meaning: Meaning::Store { access },
        summary: "stores the low part of the register to memory",
        source: "Arm ARM, C6.2 STR",
        ..PLAIN
    }
}

const fn mem_read(pattern: Pattern) -> OperandSpec {
    spec(Access::Read, pattern)
}

const fn mem_write(pattern: Pattern) -> OperandSpec {
    spec(Access::Write, pattern)
}

const W8: Width = Width::W8;
const W16: Width = Width::W16;
const LDR_W: [Form; 6] =
    load_store!(load("ldr", W32, false), "ldur", W32, w(W32, Rt), mem_read, "10", "01");
const LDR_X: [Form; 6] =
    load_store!(load("ldr", W64, false), "ldur", W64, w(W64, Rt), mem_read, "11", "01");
const LDRB: [Form; 6] =
    load_store!(load("ldrb", W8, false), "ldurb", W8, w(W32, Rt), mem_read, "00", "01");
const LDRH: [Form; 6] =
    load_store!(load("ldrh", W16, false), "ldurh", W16, w(W32, Rt), mem_read, "01", "01");
const LDRSB_W: [Form; 6] =
    load_store!(load("ldrsb", W8, true), "ldursb", W8, w(W32, Rt), mem_read, "00", "11");
const LDRSB_X: [Form; 6] =
    load_store!(load("ldrsb", W8, true), "ldursb", W8, w(W64, Rt), mem_read, "00", "10");
const LDRSH_W: [Form; 6] =
    load_store!(load("ldrsh", W16, true), "ldursh", W16, w(W32, Rt), mem_read, "01", "11");
const LDRSH_X: [Form; 6] =
    load_store!(load("ldrsh", W16, true), "ldursh", W16, w(W64, Rt), mem_read, "01", "10");
const LDRSW: [Form; 6] =
    load_store!(load("ldrsw", W32, true), "ldursw", W32, w(W64, Rt), mem_read, "10", "10");
const LDR_LITERAL: [Form; 2] = [
    Form { operands: &[w(W32, Rt), p(Pattern::Label19)], encoding: "00 011 0 00 imm19:19 Rt", traits: Traits::LOADS_LITERAL, ..load("ldr", W32, false) },
    Form { operands: &[w(W64, Rt), p(Pattern::Label19)], encoding: "01 011 0 00 imm19:19 Rt", traits: Traits::LOADS_LITERAL, ..load("ldr", W64, false) },
];
const LOADS: &[Form] = &join::<56>(&[
    &LDR_W,
    &LDR_X,
    &LDRB,
    &LDRH,
    &LDRSB_W,
    &LDRSB_X,
    &LDRSH_W,
    &LDRSH_X,
    &LDRSW,
    &LDR_LITERAL,
]);
const STR_W: [Form; 6] =
    load_store!(store("str", W32), "stur", W32, r(W32, Rt), mem_write, "10", "00");
const STR_X: [Form; 6] =
    load_store!(store("str", W64), "stur", W64, r(W64, Rt), mem_write, "11", "00");
const STRB: [Form; 6] =
    load_store!(store("strb", W8), "sturb", W8, r(W32, Rt), mem_write, "00", "00");
const STRH: [Form; 6] =
    load_store!(store("strh", W16), "sturh", W16, r(W32, Rt), mem_write, "01", "00");
const STORES: &[Form] = &join::<24>(&[&STR_W, &STR_X, &STRB, &STRH]);

/// The addressing modes of a pair load or store: width, slot function, `opc` and `L` bits.
macro_rules! pair {
    ($base:expr, $width:expr, $reg:ident, $mem:ident, $opc:literal, $l:literal) => {
        [
            Form { operands: &[$reg($width, Rt), $reg($width, Rt2), $mem(Pattern::MemOffset($width, Offset::Scaled7))], encoding: concat!($opc, " 101 0 010 ", $l, " imm7:7 Rt2 Rn Rt"), ..$base },
            Form { operands: &[$reg($width, Rt), $reg($width, Rt2), $mem(Pattern::MemPre($width, Offset::Scaled7))], encoding: concat!($opc, " 101 0 011 ", $l, " imm7:7 Rt2 Rn Rt"), ..$base },
            Form { operands: &[$reg($width, Rt), $reg($width, Rt2), $mem(Pattern::MemPost($width, Offset::Scaled7))], encoding: concat!($opc, " 101 0 001 ", $l, " imm7:7 Rt2 Rn Rt"), ..$base },
        ]
    };
}

const fn ldp(access: Width) -> Form {
    Form {
        mnemonic: "ldp",
        meaning: Meaning::LoadPair { access },
        summary: "loads two registers from adjacent memory",
        source: "Arm ARM, C6.2 LDP",
        ..PLAIN
    }
}

const fn stp(access: Width) -> Form {
    Form {
        mnemonic: "stp",
        meaning: Meaning::StorePair { access },
        summary: "stores two registers to adjacent memory",
        source: "Arm ARM, C6.2 STP",
        ..PLAIN
    }
}

const LDP_W: [Form; 3] = pair!(ldp(W32), W32, w, mem_read, "00", "1");
const LDP_X: [Form; 3] = pair!(ldp(W64), W64, w, mem_read, "10", "1");
const STP_W: [Form; 3] = pair!(stp(W32), W32, r, mem_write, "00", "0");
const STP_X: [Form; 3] = pair!(stp(W64), W64, r, mem_write, "10", "0");
const PAIRS: &[Form] = &join::<12>(&[&LDP_W, &LDP_X, &STP_W, &STP_X]);

macro_rules! branch_if {
    ($($bits:literal $name:literal [$($alias:literal),*] $cond:literal;)*) => {
        &[$(
            Form {
                mnemonic: $name,
                aliases: &[$($alias),*],
                meaning: Meaning::BranchIf($cond),
                operands: &[p(Pattern::Label19)],
                encoding: concat!("01010100 imm19:19 0 ", $bits),
                flags: FlagEffects::tests(condition_flags($cond)),
                control: if $cond < 14 { Control::Branch } else { Control::Jump },
                summary: "branches if the condition holds",
                source: "Arm ARM, C6.2 B.cond",
                ..PLAIN
            },
        )*]
    };
}

const BRANCH_IF: &[Form] = branch_if! {
    "0000" "b.eq" ["beq"] 0;
    "0001" "b.ne" ["bne"] 1;
    "0010" "b.cs" ["bcs", "b.hs", "bhs"] 2;
    "0011" "b.cc" ["bcc", "b.lo", "blo"] 3;
    "0100" "b.mi" ["bmi"] 4;
    "0101" "b.pl" ["bpl"] 5;
    "0110" "b.vs" ["bvs"] 6;
    "0111" "b.vc" ["bvc"] 7;
    "1000" "b.hi" ["bhi"] 8;
    "1001" "b.ls" ["bls"] 9;
    "1010" "b.ge" ["bge"] 10;
    "1011" "b.lt" ["blt"] 11;
    "1100" "b.gt" ["bgt"] 12;
    "1101" "b.le" ["ble"] 13;
    "1110" "b.al" ["bal"] 14;
    "1111" "b.nv" ["bnv"] 15;
};

const LINK: Implicit = Implicit { access: Access::Write, reg: Reg::new(RegKind::X, 30) };
const LINK_READ: Implicit = Implicit { access: Access::Read, reg: Reg::new(RegKind::X, 30) };

const CBZ: Form = Form {
    mnemonic: "cbz",
    meaning: Meaning::Cbz,
    control: Control::Branch,
    summary: "branches if the register is zero; no flag is read or changed",
    source: "Arm ARM, C6.2 CBZ",
    ..PLAIN
};
const CBNZ: Form = Form {
    mnemonic: "cbnz",
    meaning: Meaning::Cbnz,
    control: Control::Branch,
    summary: "branches if the register is not zero; no flag is read or changed",
    source: "Arm ARM, C6.2 CBNZ",
    ..PLAIN
};
const TBZ: Form = Form {
    mnemonic: "tbz",
    meaning: Meaning::Tbz,
    control: Control::Branch,
    summary: "branches if the bit is clear; no flag is read or changed",
    source: "Arm ARM, C6.2 TBZ",
    ..PLAIN
};
const TBNZ: Form = Form {
    mnemonic: "tbnz",
    meaning: Meaning::Tbnz,
    control: Control::Branch,
    summary: "branches if the bit is set; no flag is read or changed",
    source: "Arm ARM, C6.2 TBNZ",
    ..PLAIN
};
const RET: Form = Form {
    mnemonic: "ret",
    meaning: Meaning::Ret,
    control: Control::Return,
    summary: "returns to the address in x30, or in the register given",
    source: "Arm ARM, C6.2 RET",
    ..PLAIN
};
const BRANCHES: &[Form] = &[
    Form {
        mnemonic: "b",
        meaning: Meaning::B,
        operands: &[p(Pattern::Label26)],
        encoding: "0 00101 imm26:26",
        control: Control::Jump,
        summary: "branches",
        source: "Arm ARM, C6.2 B",
        ..PLAIN
    },
    Form {
        mnemonic: "bl",
        traits: Traits::LINKS,
        meaning: Meaning::Bl,
        operands: &[p(Pattern::Label26)],
        implicit: &[LINK],
        encoding: "1 00101 imm26:26",
        control: Control::Call,
        summary: "branches and leaves the return address in x30",
        source: "Arm ARM, C6.2 BL",
        ..PLAIN
    },
    Form { operands: &[r(W32, Rt), p(Pattern::Label19)], encoding: "0 011010 0 imm19:19 Rt", ..CBZ },
    Form { operands: &[r(W64, Rt), p(Pattern::Label19)], encoding: "1 011010 0 imm19:19 Rt", ..CBZ },
    Form { operands: &[r(W32, Rt), p(Pattern::Label19)], encoding: "0 011010 1 imm19:19 Rt", ..CBNZ },
    Form { operands: &[r(W64, Rt), p(Pattern::Label19)], encoding: "1 011010 1 imm19:19 Rt", ..CBNZ },
    Form { operands: &[r(W32, Rt), p(Pattern::Bit(0)), p(Pattern::Label14)], encoding: "0 011011 0 b40:5 imm14:14 Rt", ..TBZ },
    Form { operands: &[r(W64, Rt), p(Pattern::Bit(32)), p(Pattern::Label14)], encoding: "1 011011 0 b40:5 imm14:14 Rt", ..TBZ },
    Form { operands: &[r(W64, Rt), p(Pattern::Bit(0)), p(Pattern::Label14)], encoding: "0 011011 0 b40:5 imm14:14 Rt", accepted_only: true, ..TBZ },
    Form { operands: &[r(W32, Rt), p(Pattern::Bit(0)), p(Pattern::Label14)], encoding: "0 011011 1 b40:5 imm14:14 Rt", ..TBNZ },
    Form { operands: &[r(W64, Rt), p(Pattern::Bit(32)), p(Pattern::Label14)], encoding: "1 011011 1 b40:5 imm14:14 Rt", ..TBNZ },
    Form { operands: &[r(W64, Rt), p(Pattern::Bit(0)), p(Pattern::Label14)], encoding: "0 011011 1 b40:5 imm14:14 Rt", accepted_only: true, ..TBNZ },
    Form {
        mnemonic: "br",
        meaning: Meaning::Br,
        operands: &[r(W64, Rn)],
        encoding: "1101011 0000 11111 000000 Rn 00000",
        control: Control::Jump,
        summary: "branches to the address in the register",
        source: "Arm ARM, C6.2 BR",
        ..PLAIN
    },
    Form {
        mnemonic: "blr",
        meaning: Meaning::Blr,
        operands: &[r(W64, Rn)],
        implicit: &[LINK],
        encoding: "1101011 0001 11111 000000 Rn 00000",
        control: Control::Call,
        summary: "branches to the address in the register and leaves the return address in x30",
        source: "Arm ARM, C6.2 BLR",
        ..PLAIN
    },
    Form { implicit: &[LINK_READ], encoding: "1101011 0010 11111 000000 11110 00000", ..RET },
    Form { operands: &[r(W64, Rn)], encoding: "1101011 0010 11111 000000 Rn 00000", ..RET },
    Form {
        mnemonic: "nop",
        encoding: "11010101000000110010 0000 000 11111",
        summary: "does nothing",
        source: "Arm ARM, C6.2 NOP",
        ..PLAIN
    },
    Form {
        mnemonic: "hint",
        operands: &[p(Pattern::Hint)],
        encoding: "11010101000000110010 imm7:7 11111",
        summary: "gives the processor a hint by its number; does nothing to what a program sees",
        source: "Arm ARM, C6.2 HINT",
        ..PLAIN
    },
    Form {
        mnemonic: "svc",
        meaning: Meaning::Svc,
        operands: &[p(Pattern::Imm16)],
        implicit: &[Implicit { access: Access::ReadWrite, reg: Reg::new(RegKind::X, 0) }],
        encoding: "11010100 000 imm16:16 00001",
        control: Control::Syscall,
        summary: "calls the kernel; x8 holds the number",
        source: "Arm ARM, C6.2 SVC",
        ..PLAIN
    },
    Form {
        mnemonic: "brk",
        meaning: Meaning::Brk,
        operands: &[p(Pattern::Imm16)],
        encoding: "11010100 001 imm16:16 00000",
        control: Control::Trap,
        summary: "raises a breakpoint trap (SIGTRAP)",
        source: "Arm ARM, C6.2 BRK",
        ..PLAIN
    },
    Form {
        mnemonic: "udf",
        meaning: Meaning::Udf,
        operands: &[p(Pattern::Imm16)],
        encoding: "0000000000000000 imm16:16",
        control: Control::Trap,
        summary: "is an undefined instruction on purpose (SIGILL)",
        source: "Arm ARM, C6.2 UDF",
        ..PLAIN
    },
];
