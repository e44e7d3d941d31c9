//! Control transfer, SETcc, and what stands alone.

use super::*;
use crate::x86::Cond;

/// The two reaches of Jcc for each condition; the low digit of the opcode, mnemonic, aliases.
macro_rules! jcc {
    ($($digit:literal $name:literal [$($alias:literal),*] $cond:expr;)*) => {
        &[$(
            Form { operands: &[r(Pattern::Rel8)], encoding: concat!("7", $digit, " cb"), ..jcc($cond, $name, &[$($alias),*]) },
            Form { operands: &[r(Pattern::Rel32)], encoding: concat!("0F 8", $digit, " cd"), ..jcc($cond, $name, &[$($alias),*]) },
        )*]
    };
}

const fn jcc(cond: Cond, mnemonic: &'static str, aliases: &'static [&'static str]) -> Form {
    Form {
        mnemonic,
        aliases,
        meaning: Meaning::Jcc(cond),
        traits: Traits::TARGET_CAN_BE_16_BITS,
        flags: FlagEffects::tests(cond.tested()),
        control: Control::Branch,
        summary: "jumps if the condition holds",
        source: "SDM Vol. 2A, Jcc",
        ..PLAIN
    }
}

pub(super) const JCC: &[Form] = jcc! {
    "0" "jo" [] Cond::O;
    "1" "jno" [] Cond::No;
    "2" "jb" ["jc", "jnae"] Cond::B;
    "3" "jae" ["jnb", "jnc"] Cond::Ae;
    "4" "je" ["jz"] Cond::E;
    "5" "jne" ["jnz"] Cond::Ne;
    "6" "jbe" ["jna"] Cond::Be;
    "7" "ja" ["jnbe"] Cond::A;
    "8" "js" [] Cond::S;
    "9" "jns" [] Cond::Ns;
    "A" "jp" ["jpe"] Cond::P;
    "B" "jnp" ["jpo"] Cond::Np;
    "C" "jl" ["jnge"] Cond::L;
    "D" "jge" ["jnl"] Cond::Ge;
    "E" "jle" ["jng"] Cond::Le;
    "F" "jg" ["jnle"] Cond::G;
};

macro_rules! setcc {
    ($($digit:literal $name:literal [$($alias:literal),*] $cond:expr;)*) => {
        &[$(
            Form { operands: &[w(RM8)], encoding: concat!("0F 9", $digit, " /r"), ..setcc($cond, $name, &[$($alias),*]) },
        )*]
    };
}

const fn setcc(cond: Cond, mnemonic: &'static str, aliases: &'static [&'static str]) -> Form {
    Form {
        mnemonic,
        aliases,
        meaning: Meaning::Setcc(cond),
        flags: FlagEffects::tests(cond.tested()),
        summary: "sets the byte to 1 if the condition holds, else to 0",
        source: "SDM Vol. 2B, SETcc",
        ..PLAIN
    }
}

pub(super) const SETCC: &[Form] = setcc! {
    "0" "seto" [] Cond::O;
    "1" "setno" [] Cond::No;
    "2" "setb" ["setc", "setnae"] Cond::B;
    "3" "setae" ["setnb", "setnc"] Cond::Ae;
    "4" "sete" ["setz"] Cond::E;
    "5" "setne" ["setnz"] Cond::Ne;
    "6" "setbe" ["setna"] Cond::Be;
    "7" "seta" ["setnbe"] Cond::A;
    "8" "sets" [] Cond::S;
    "9" "setns" [] Cond::Ns;
    "A" "setp" ["setpe"] Cond::P;
    "B" "setnp" ["setpo"] Cond::Np;
    "C" "setl" ["setnge"] Cond::L;
    "D" "setge" ["setnl"] Cond::Ge;
    "E" "setle" ["setng"] Cond::Le;
    "F" "setg" ["setnle"] Cond::G;
};

const JMP: Form = Form {
    mnemonic: "jmp",
    traits: Traits::TARGET_CAN_BE_16_BITS.with(Traits::GOT_RELAXABLE),
    meaning: Meaning::Jmp,
    control: Control::Jump,
    summary: "jumps",
    source: "SDM Vol. 2A, JMP",
    ..PLAIN
};
const CALL: Form = Form {
    mnemonic: "call",
    traits: Traits::TARGET_CAN_BE_16_BITS.with(Traits::GOT_RELAXABLE),
    meaning: Meaning::Call,
    implicit: &[updates(Width::W64, SP)],
    control: Control::Call,
    summary: "pushes the address of the next instruction and jumps",
    source: "SDM Vol. 2A, CALL",
    ..PLAIN
};
const RET: Form = Form {
    mnemonic: "ret",
    traits: Traits::TARGET_CAN_BE_16_BITS,
    meaning: Meaning::Ret,
    implicit: &[updates(Width::W64, SP)],
    control: Control::Return,
    summary: "pops the return address, then the given number of bytes, and jumps there",
    source: "SDM Vol. 2B, RET",
    ..PLAIN
};
const LOOP: Form = Form {
    mnemonic: "loop",
    traits: Traits::TARGET_CAN_BE_16_BITS,
    meaning: Meaning::Loop,
    operands: &[r(Pattern::Rel8)],
    implicit: &[updates(Width::W64, C)],
    encoding: "E2 cb",
    control: Control::Branch,
    summary: "subtracts 1 from RCX and jumps if it is not 0; no flag changes",
    source: "SDM Vol. 2A, LOOP/LOOPcc",
    ..PLAIN
};
/// The counters of loops with the address-size prefix.
const NARROW_64: &[Implicit] = &[updates(Width::W32, C)];
const NARROW_32: &[Implicit] = &[updates(Width::W16, C)];
const JRCXZ: Form = Form {
    mnemonic: "jrcxz",
    traits: Traits::TARGET_CAN_BE_16_BITS,
    meaning: Meaning::JumpIfZero(Width::W64),
    operands: &[r(Pattern::Rel8)],
    implicit: &[reads(Width::W64, C)],
    encoding: "E3 cb",
    control: Control::Branch,
    summary: "jumps if RCX is 0",
    source: "SDM Vol. 2A, Jcc",
    ..PLAIN
};
const NOP: Form = Form {
    mnemonic: "nop",
    meaning: Meaning::Nop,
    encoding: "90",
    summary: "does nothing",
    source: "SDM Vol. 2B, NOP",
    ..PLAIN
};

pub(super) const FORMS: &[Form] = &[
    Form { operands: &[r(Pattern::Rel8)], encoding: "EB cb", ..JMP },
    Form { operands: &[r(Pattern::Rel32)], encoding: "E9 cd", ..JMP },
    Form { operands: &[r(RM64)], encoding: "FF /4", ..JMP },
    Form { operands: &[r(Pattern::Rel32)], encoding: "E8 cd", ..CALL },
    Form { operands: &[r(RM64)], encoding: "FF /2", ..CALL },
    Form { encoding: "C3", ..RET },
    Form { operands: &[r(Pattern::Uimm16)], encoding: "C2 iw", ..RET },
    Form { mnemonic: "rep ret", encoding: "F3 C3", summary: "pops the return address and jumps there; the prefix has no effect", ..RET },
    Form { mnemonic: "notrack jmp", operands: &[r(RM64)], encoding: "3E FF /4", summary: "jumps, to a target that need not be marked by ENDBR64", ..JMP },
    Form { mnemonic: "notrack call", operands: &[r(RM64)], encoding: "3E FF /2", summary: "calls, a target that need not be marked by ENDBR64", ..CALL },
    LOOP,
    Form {
        mnemonic: "loope",
        aliases: &["loopz"],
        meaning: Meaning::Loope,
        encoding: "E1 cb",
        flags: FlagEffects::tests(flag::ZF),
        summary: "subtracts 1 from RCX and jumps if it is not 0 and ZF is set",
        ..LOOP
    },
    Form {
        mnemonic: "loopne",
        aliases: &["loopnz"],
        meaning: Meaning::Loopne,
        encoding: "E0 cb",
        flags: FlagEffects::tests(flag::ZF),
        summary: "subtracts 1 from RCX and jumps if it is not 0 and ZF is clear",
        ..LOOP
    },
    Form { mnemonic: "loopd", meaning: Meaning::LoopNarrow(None), implicit: NARROW_64, encoding: "67 E2 cb", modes: Modes::Only64, summary: "subtracts 1 from ECX and jumps if it is not 0", ..LOOP },
    Form { mnemonic: "looped", aliases: &["loopzd"], meaning: Meaning::LoopNarrow(Some(true)), implicit: NARROW_64, encoding: "67 E1 cb", modes: Modes::Only64, flags: FlagEffects::tests(flag::ZF), summary: "subtracts 1 from ECX and jumps if it is not 0 and ZF is set", ..LOOP },
    Form { mnemonic: "loopned", aliases: &["loopnzd"], meaning: Meaning::LoopNarrow(Some(false)), implicit: NARROW_64, encoding: "67 E0 cb", modes: Modes::Only64, flags: FlagEffects::tests(flag::ZF), summary: "subtracts 1 from ECX and jumps if it is not 0 and ZF is clear", ..LOOP },
    Form { mnemonic: "loopw", meaning: Meaning::LoopNarrow(None), implicit: NARROW_32, encoding: "67 E2 cb", modes: Modes::Only32, summary: "subtracts 1 from CX and jumps if it is not 0", ..LOOP },
    Form { mnemonic: "loopew", aliases: &["loopzw"], meaning: Meaning::LoopNarrow(Some(true)), implicit: NARROW_32, encoding: "67 E1 cb", modes: Modes::Only32, flags: FlagEffects::tests(flag::ZF), summary: "subtracts 1 from CX and jumps if it is not 0 and ZF is set", ..LOOP },
    Form { mnemonic: "loopnew", aliases: &["loopnzw"], meaning: Meaning::LoopNarrow(Some(false)), implicit: NARROW_32, encoding: "67 E0 cb", modes: Modes::Only32, flags: FlagEffects::tests(flag::ZF), summary: "subtracts 1 from CX and jumps if it is not 0 and ZF is clear", ..LOOP },
    JRCXZ,
    Form {
        mnemonic: "jecxz",
        meaning: Meaning::JumpIfZero(Width::W32),
        implicit: &[reads(Width::W32, C)],
        encoding: "67 E3 cb",
        modes: Modes::Only64,
        summary: "jumps if ECX is 0",
        ..JRCXZ
    },
    Form {
        mnemonic: "jcxz",
        meaning: Meaning::JumpIfZero(Width::W16),
        implicit: &[reads(Width::W16, C)],
        encoding: "67 E3 cb",
        modes: Modes::Only32,
        summary: "jumps if CX is 0",
        ..JRCXZ
    },
    NOP,
    Form { operands: &[n(RM16)], encoding: "0F 1F /0", ..NOP },
    Form { operands: &[n(RM32)], encoding: "0F 1F /0", ..NOP },
    Form {
        mnemonic: "pause",
        encoding: "F3 90",
        summary: "hints that the program waits in a loop; else does nothing",
        source: "SDM Vol. 2B, PAUSE",
        ..NOP
    },
    Form {
        mnemonic: "endbr64",
        encoding: "F3 0F 1E FA",
        summary: "marks a place that indirect jumps of 64-bit programs may reach; else does nothing",
        source: "SDM Vol. 2A, ENDBR64",
        ..NOP
    },
    Form {
        mnemonic: "endbr32",
        encoding: "F3 0F 1E FB",
        summary: "marks a place that indirect jumps of 32-bit programs may reach; else does nothing",
        source: "SDM Vol. 2A, ENDBR32",
        ..NOP
    },
    Form {
        mnemonic: "syscall",
        feature: feature::SYSCALL,
        meaning: Meaning::Syscall,
        implicit: &[updates(Width::W64, A), writes(Width::W64, C), writes(Width::W64, 11)],
        encoding: "0F 05",
        modes: Modes::Only64,
        control: Control::Syscall,
        summary: "calls the kernel; RCX becomes the return address and R11 the flags",
        source: "SDM Vol. 2B, SYSCALL",
        ..PLAIN
    },
    Form {
        mnemonic: "sysenter",
        feature: feature::SEP,
        meaning: Meaning::Sysenter,
        implicit: &[updates(Width::W32, A), reads(Width::W32, BP), writes(Width::W32, SP)],
        encoding: "0F 34",
        control: Control::Syscall,
        summary: "calls the kernel, which comes back into 32-bit code by popping EBP, EDX, ECX and a return address off the stack at EBP",
        source: "SDM Vol. 2B, SYSENTER",
        ..PLAIN
    },
    Form {
        mnemonic: "int3",
        meaning: Meaning::Int3,
        encoding: "CC",
        control: Control::Trap,
        summary: "raises a breakpoint trap (SIGTRAP)",
        source: "SDM Vol. 2A, INT n/INTO/INT3/INT1",
        ..PLAIN
    },
    Form {
        mnemonic: "ud2",
        meaning: Meaning::Ud2,
        encoding: "0F 0B",
        control: Control::Trap,
        summary: "is an invalid instruction on purpose (SIGILL)",
        source: "SDM Vol. 2B, UD",
        ..PLAIN
    },
];
