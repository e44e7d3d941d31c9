//! Branches, calls, returns, and what enters the kernel or traps.

use super::rows::*;
use crate::arm64::RegField::{Rn, Rt};
use crate::arm64::field;
use crate::arm64::{Form, Meaning, Pattern, condition_flags};
use crate::{Access, Control, FlagEffects, Implicit, Reg, RegKind, Traits};

pub(super) const ROWS: &[Form] = rows![BRANCH_IF, BRANCHES];

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
        mnemonic: "svc",
        meaning: Meaning::Svc,
        operands: &[p(Pattern::Unsigned(field::IMM16))],
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
        operands: &[p(Pattern::Unsigned(field::IMM16))],
        encoding: "11010100 001 imm16:16 00000",
        control: Control::Trap,
        summary: "raises a breakpoint trap (SIGTRAP)",
        source: "Arm ARM, C6.2 BRK",
        ..PLAIN
    },
    Form {
        mnemonic: "hlt",
        meaning: Meaning::Udf,
        operands: &[p(Pattern::Unsigned(field::IMM16))],
        encoding: "11010100 010 imm16:16 00000",
        control: Control::Trap,
        summary: "halts for a debugger outside the processor; without one it is undefined (SIGILL)",
        source: "Arm ARM, C6.2 HLT",
        ..PLAIN
    },
    Form {
        mnemonic: "udf",
        meaning: Meaning::Udf,
        operands: &[p(Pattern::Unsigned(field::UDF16))],
        encoding: "0000000000000000 udf16:16",
        control: Control::Trap,
        summary: "is an undefined instruction on purpose (SIGILL)",
        source: "Arm ARM, C6.2 UDF",
        ..PLAIN
    },
];
