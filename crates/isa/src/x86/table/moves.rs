//! Data movement: MOV and its extending kin, LEA, PUSH, POP, XCHG, CMOVcc.

use super::*;
use crate::x86::Cond;

const MOV: Form = Form {
    mnemonic: "mov",
    traits: Traits::GOT_RELAXABLE.with(Traits::HAS_EXTENDING_FORM),
    meaning: Meaning::Mov,
    summary: "copies the source to the destination",
    source: "SDM Vol. 2B, MOV",
    ..PLAIN
};
/// The rows that alone have eight bytes of immediate or address, by the name compilers give them.
const MOVABS: Form = Form { aliases: &["movabs"], ..MOV };
const MOVZX: Form = Form {
    mnemonic: "movzx",
    meaning: Meaning::Movzx,
    summary: "copies a narrower source and fills the upper bits with zeros",
    source: "SDM Vol. 2B, MOVZX",
    ..PLAIN
};
const MOVSX: Form = Form {
    mnemonic: "movsx",
    meaning: Meaning::Movsx,
    summary: "copies a narrower source and fills the upper bits with its sign",
    source: "SDM Vol. 2B, MOVSX/MOVSXD",
    ..PLAIN
};
const MOVSXD: Form = Form { mnemonic: "movsxd", modes: Modes::Only64, ..MOVSX };
const LEA: Form = Form {
    mnemonic: "lea",
    traits: Traits::ADDRESS_ONLY,
    meaning: Meaning::Lea,
    summary: "computes the address of the source without reading memory",
    source: "SDM Vol. 2A, LEA",
    ..PLAIN
};
const PUSH: Form = Form {
    mnemonic: "push",
    traits: Traits::SIZED_IMMEDIATE,
    meaning: Meaning::Push,
    implicit: &[updates(Width::W64, SP)],
    summary: "moves the stack pointer down and stores the source there",
    source: "SDM Vol. 2B, PUSH",
    ..PLAIN
};
const PUSHW: Form = Form {
    mnemonic: "pushw",
    meaning: Meaning::PushWord,
    summary: "moves the stack pointer down by 2 and stores a 16-bit immediate there; also written `push word`",
    ..PUSH
};
const POP: Form = Form {
    mnemonic: "pop",
    meaning: Meaning::Pop,
    implicit: &[updates(Width::W64, SP)],
    summary: "loads the destination from the top of the stack and moves the stack pointer up",
    source: "SDM Vol. 2B, POP",
    ..PLAIN
};
const XCHG: Form = Form {
    mnemonic: "xchg",
    traits: Traits::LOCKABLE.with(Traits::INDIVISIBLE),
    meaning: Meaning::Xchg,
    summary: "exchanges the two operands",
    source: "SDM Vol. 2D, XCHG",
    ..PLAIN
};

const LEAVE: Form = Form {
    mnemonic: "leave",
    meaning: Meaning::Leave,
    implicit: &[updates(Width::W64, BP), writes(Width::W64, SP)],
    encoding: "C9",
    summary: "takes a frame down: RSP becomes RBP, then RBP is popped",
    source: "SDM Vol. 2A, LEAVE",
    ..PLAIN
};

pub(super) const FORMS: &[Form] = &[
    LEAVE,
    Form { mnemonic: "leavew", meaning: Meaning::LeaveWord, implicit: &[updates(Width::W16, BP), reads(Width::W64, BP), writes(Width::W64, SP)], encoding: "66 C9", summary: "takes a frame down: RSP becomes RBP, then BP alone is popped", ..LEAVE },
    Form { operands: &[w(RM8), r(R8)], encoding: "88 /r", ..MOV },
    Form { operands: &[w(RM16), r(R16)], encoding: "89 /r", ..MOV },
    Form { operands: &[w(RM32), r(R32)], encoding: "89 /r", ..MOV },
    Form { operands: &[w(RM64), r(R64)], encoding: "REX.W + 89 /r", ..MOV },
    Form { operands: &[w(R8), r(RM8)], encoding: "8A /r", ..MOV },
    Form { operands: &[w(R16), r(RM16)], encoding: "8B /r", ..MOV },
    Form { operands: &[w(R32), r(RM32)], encoding: "8B /r", ..MOV },
    Form { operands: &[w(R64), r(RM64)], encoding: "REX.W + 8B /r", ..MOV },
    Form { operands: &[w(R8), r(IMM8)], encoding: "B0 +r ib", ..MOV },
    Form { operands: &[w(R16), r(IMM16)], encoding: "B8 +r iw", ..MOV },
    Form { operands: &[w(R32), r(IMM32)], encoding: "B8 +r id", ..MOV },
    Form { operands: &[w(RM8), r(IMM8)], encoding: "C6 /0 ib", ..MOV },
    Form { operands: &[w(RM16), r(IMM16)], encoding: "C7 /0 iw", ..MOV },
    Form { operands: &[w(RM32), r(IMM32)], encoding: "C7 /0 id", ..MOV },
    Form { operands: &[w(RM64), r(Pattern::Simm32)], encoding: "REX.W + C7 /0 id", ..MOV },
    Form { operands: &[w(R64), r(IMM64)], encoding: "REX.W + B8 +r io", ..MOVABS },
    Form { operands: &[w(AL), r(Pattern::Moffs(Width::W8))], encoding: "A0", ..MOVABS },
    Form { operands: &[w(AX), r(Pattern::Moffs(Width::W16))], encoding: "A1", ..MOVABS },
    Form { operands: &[w(EAX), r(Pattern::Moffs(Width::W32))], encoding: "A1", ..MOVABS },
    Form { operands: &[w(RAX), r(Pattern::Moffs(Width::W64))], encoding: "REX.W + A1", ..MOVABS },
    Form { operands: &[w(Pattern::Moffs(Width::W8)), r(AL)], encoding: "A2", ..MOVABS },
    Form { operands: &[w(Pattern::Moffs(Width::W16)), r(AX)], encoding: "A3", ..MOVABS },
    Form { operands: &[w(Pattern::Moffs(Width::W32)), r(EAX)], encoding: "A3", ..MOVABS },
    Form { operands: &[w(Pattern::Moffs(Width::W64)), r(RAX)], encoding: "REX.W + A3", ..MOVABS },
    Form { operands: &[w(R16), r(RM8)], encoding: "0F B6 /r", ..MOVZX },
    Form { operands: &[w(R32), r(RM8)], encoding: "0F B6 /r", ..MOVZX },
    Form { operands: &[w(R64), r(RM8)], encoding: "REX.W + 0F B6 /r", ..MOVZX },
    Form { operands: &[w(R32), r(RM16)], encoding: "0F B7 /r", ..MOVZX },
    Form { operands: &[w(R64), r(RM16)], encoding: "REX.W + 0F B7 /r", ..MOVZX },
    Form { operands: &[w(R16), r(RM8)], encoding: "0F BE /r", ..MOVSX },
    Form { operands: &[w(R32), r(RM8)], encoding: "0F BE /r", ..MOVSX },
    Form { operands: &[w(R64), r(RM8)], encoding: "REX.W + 0F BE /r", ..MOVSX },
    Form { operands: &[w(R32), r(RM16)], encoding: "0F BF /r", ..MOVSX },
    Form { operands: &[w(R64), r(RM16)], encoding: "REX.W + 0F BF /r", ..MOVSX },
    Form { operands: &[w(R16), r(RM16)], encoding: "63 /r", ..MOVSXD },
    Form { operands: &[w(R32), r(RM32)], encoding: "63 /r", ..MOVSXD },
    Form { operands: &[w(R64), r(RM32)], encoding: "REX.W + 63 /r", aliases: &["movsx"], ..MOVSXD },
    Form { operands: &[w(R16), n(Pattern::M)], encoding: "8D /r", ..LEA },
    Form { operands: &[w(R32), n(Pattern::M)], encoding: "8D /r", ..LEA },
    Form { operands: &[w(R64), n(Pattern::M)], encoding: "REX.W + 8D /r", ..LEA },
    Form { operands: &[r(R16)], encoding: "50 +r", ..PUSH },
    Form { operands: &[r(R64)], encoding: "50 +r", ..PUSH },
    Form { operands: &[r(RM16)], encoding: "FF /6", ..PUSH },
    Form { operands: &[r(RM64)], encoding: "FF /6", ..PUSH },
    Form { operands: &[r(Pattern::Simm8)], encoding: "6A ib", ..PUSH },
    Form { operands: &[r(Pattern::Simm32)], encoding: "68 id", ..PUSH },
    Form { operands: &[r(Pattern::Simm8)], encoding: "66 6A ib", ..PUSHW },
    Form { operands: &[r(IMM16)], encoding: "66 68 iw", ..PUSHW },
    Form { operands: &[w(R16)], encoding: "58 +r", ..POP },
    Form { operands: &[w(R64)], encoding: "58 +r", ..POP },
    Form { operands: &[w(RM16)], encoding: "8F /0", ..POP },
    Form { operands: &[w(RM64)], encoding: "8F /0", ..POP },
    Form { operands: &[rw(R16), rw(AX)], encoding: "90 +r", ..XCHG },
    Form { operands: &[rw(Pattern::R32NotEax), rw(EAX)], encoding: "90 +r", ..XCHG },
    Form { operands: &[rw(R64), rw(RAX)], encoding: "REX.W + 90 +r", ..XCHG },
    Form { operands: &[rw(AX), rw(R16)], encoding: "90 +r", accepted_only: true, ..XCHG },
    Form { operands: &[rw(EAX), rw(Pattern::R32NotEax)], encoding: "90 +r", accepted_only: true, ..XCHG },
    Form { operands: &[rw(RAX), rw(R64)], encoding: "REX.W + 90 +r", accepted_only: true, ..XCHG },
    Form { operands: &[rw(RM8), rw(R8)], encoding: "86 /r", ..XCHG },
    Form { operands: &[rw(RM16), rw(R16)], encoding: "87 /r", ..XCHG },
    Form { operands: &[rw(RM32), rw(R32)], encoding: "87 /r", ..XCHG },
    Form { operands: &[rw(RM64), rw(R64)], encoding: "REX.W + 87 /r", ..XCHG },
    Form { operands: &[rw(R8), rw(RM8)], encoding: "86 /r", accepted_only: true, ..XCHG },
    Form { operands: &[rw(R16), rw(RM16)], encoding: "87 /r", accepted_only: true, ..XCHG },
    Form { operands: &[rw(R32), rw(RM32)], encoding: "87 /r", accepted_only: true, ..XCHG },
    Form { operands: &[rw(R64), rw(RM64)], encoding: "REX.W + 87 /r", accepted_only: true, ..XCHG },
];

/// The three widths of CMOVcc for each condition: opcode, mnemonic, aliases.
macro_rules! cmov {
    ($($opcode:literal $name:literal [$($alias:literal),*] $cond:expr;)*) => {
        &[$(
            Form { operands: &[rw(R16), r(RM16)], encoding: concat!("0F ", $opcode, " /r"), ..cmov($cond, $name, &[$($alias),*]) },
            Form { operands: &[rw(R32), r(RM32)], encoding: concat!("0F ", $opcode, " /r"), ..cmov($cond, $name, &[$($alias),*]) },
            Form { operands: &[rw(R64), r(RM64)], encoding: concat!("REX.W + 0F ", $opcode, " /r"), ..cmov($cond, $name, &[$($alias),*]) },
        )*]
    };
}

const fn cmov(cond: Cond, mnemonic: &'static str, aliases: &'static [&'static str]) -> Form {
    Form {
        mnemonic,
        aliases,
        meaning: Meaning::Cmovcc(cond),
        feature: feature::CMOV,
        flags: FlagEffects::tests(cond.tested()),
        summary: "copies the source to the destination if the condition holds; a 32-bit destination is cleared above either way",
        source: "SDM Vol. 2A, CMOVcc",
        ..PLAIN
    }
}

pub(super) const CMOV: &[Form] = cmov! {
    "40" "cmovo" [] Cond::O;
    "41" "cmovno" [] Cond::No;
    "42" "cmovb" ["cmovc", "cmovnae"] Cond::B;
    "43" "cmovae" ["cmovnb", "cmovnc"] Cond::Ae;
    "44" "cmove" ["cmovz"] Cond::E;
    "45" "cmovne" ["cmovnz"] Cond::Ne;
    "46" "cmovbe" ["cmovna"] Cond::Be;
    "47" "cmova" ["cmovnbe"] Cond::A;
    "48" "cmovs" [] Cond::S;
    "49" "cmovns" [] Cond::Ns;
    "4A" "cmovp" ["cmovpe"] Cond::P;
    "4B" "cmovnp" ["cmovpo"] Cond::Np;
    "4C" "cmovl" ["cmovnge"] Cond::L;
    "4D" "cmovge" ["cmovnl"] Cond::Ge;
    "4E" "cmovle" ["cmovng"] Cond::Le;
    "4F" "cmovg" ["cmovnle"] Cond::G;
};
