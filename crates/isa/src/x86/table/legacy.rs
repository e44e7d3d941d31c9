//! What only 32-bit mode has: short forms, all registers at once, decimal numbers.

use super::*;

const ONLY_32: Form = Form { modes: Modes::Only32, ..PLAIN };

const INC: Form = Form {
    mnemonic: "inc",
    meaning: Meaning::Inc,
    flags: FlagEffects { modified: flag::STATUS.without(flag::CF), ..FlagEffects::NONE },
    summary: "adds 1; CF keeps its value",
    source: "SDM Vol. 2A, INC",
    ..ONLY_32
};
const DEC: Form = Form { mnemonic: "dec", meaning: Meaning::Dec, summary: "subtracts 1; CF keeps its value", source: "SDM Vol. 2A, DEC", ..INC };

const PUSHA: Form = Form {
    implicit: &[reads(Width::W32, A), reads(Width::W32, C), reads(Width::W32, D), reads(Width::W32, B), updates(Width::W32, SP), reads(Width::W32, BP), reads(Width::W32, SI), reads(Width::W32, DI)],
    source: "SDM Vol. 2B, PUSHA/PUSHAD",
    ..ONLY_32
};
const POPA: Form = Form {
    implicit: &[writes(Width::W32, A), writes(Width::W32, C), writes(Width::W32, D), writes(Width::W32, B), updates(Width::W32, SP), writes(Width::W32, BP), writes(Width::W32, SI), writes(Width::W32, DI)],
    source: "SDM Vol. 2B, POPA/POPAD",
    ..ONLY_32
};
const POPA_16: &[Implicit] = &[writes(Width::W16, A), writes(Width::W16, C), writes(Width::W16, D), writes(Width::W16, B), updates(Width::W32, SP), writes(Width::W16, BP), writes(Width::W16, SI), writes(Width::W16, DI)];

/// DAA and DAS: what comes of OF is undefined.
const DECIMAL: Form = Form {
    implicit: &[updates(Width::W8, A)],
    flags: FlagEffects { tested: flag::CF.with(flag::AF), modified: flag::STATUS.without(flag::OF), undefined: flag::OF, ..FlagEffects::NONE },
    ..ONLY_32
};
/// AAA and AAS: only CF and AF are defined.
const UNPACKED: Form = Form {
    implicit: &[updates(Width::W16, A)],
    flags: FlagEffects { tested: flag::AF, modified: flag::CF.with(flag::AF), undefined: flag::OF.with(BY_RESULT), ..FlagEffects::NONE },
    ..ONLY_32
};
/// AAM and AAD: flags by AL.
const BY_BASE: Form = Form {
    implicit: &[updates(Width::W16, A)],
    flags: FlagEffects { modified: BY_RESULT, undefined: NO_CARRY_OVERFLOW.with(flag::AF), ..FlagEffects::NONE },
    ..ONLY_32
};
const AAM: Form = Form { mnemonic: "aam", meaning: Meaning::Aam, summary: "divides AL by the base, 10 if none is written: quotient to AH, remainder to AL", source: "SDM Vol. 2A, AAM", ..BY_BASE };
const AAD: Form = Form { mnemonic: "aad", meaning: Meaning::Aad, summary: "sets AL to AL and AH times the base, 10 if none is written, and AH to 0", source: "SDM Vol. 2A, AAD", ..BY_BASE };
const BOUND: Form = Form { mnemonic: "bound", meaning: Meaning::Bound, summary: "raises a fault if the register is not between the two signed numbers in memory", source: "SDM Vol. 2A, BOUND", ..ONLY_32 };

pub(super) const FORMS: &[Form] = &[
    Form { operands: &[rw(R16)], encoding: "40 +r", ..INC },
    Form { operands: &[rw(R32)], encoding: "40 +r", ..INC },
    Form { operands: &[rw(R16)], encoding: "48 +r", ..DEC },
    Form { operands: &[rw(R32)], encoding: "48 +r", ..DEC },
    Form { mnemonic: "pushad", aliases: &["pusha"], meaning: Meaning::Pusha(Width::W32), encoding: "60", summary: "pushes EAX, ECX, EDX, EBX, ESP as it was, EBP, ESI and EDI", ..PUSHA },
    Form { mnemonic: "pushaw", meaning: Meaning::Pusha(Width::W16), encoding: "66 60", summary: "pushes AX, CX, DX, BX, SP as it was, BP, SI and DI", ..PUSHA },
    Form { mnemonic: "popad", aliases: &["popa"], meaning: Meaning::Popa(Width::W32), encoding: "61", summary: "pops EDI, ESI, EBP, nothing for ESP, EBX, EDX, ECX and EAX", ..POPA },
    Form { mnemonic: "popaw", meaning: Meaning::Popa(Width::W16), implicit: POPA_16, encoding: "66 61", summary: "pops DI, SI, BP, nothing for SP, BX, DX, CX and AX", ..POPA },
    Form { mnemonic: "daa", meaning: Meaning::Daa, encoding: "27", summary: "corrects AL after adding two packed decimal numbers", source: "SDM Vol. 2A, DAA", ..DECIMAL },
    Form { mnemonic: "das", meaning: Meaning::Das, encoding: "2F", summary: "corrects AL after subtracting two packed decimal numbers", source: "SDM Vol. 2A, DAS", ..DECIMAL },
    Form { mnemonic: "aaa", meaning: Meaning::Aaa, encoding: "37", summary: "corrects AX after adding two decimal digits", source: "SDM Vol. 2A, AAA", ..UNPACKED },
    Form { mnemonic: "aas", meaning: Meaning::Aas, encoding: "3F", summary: "corrects AX after subtracting two decimal digits", source: "SDM Vol. 2A, AAS", ..UNPACKED },
    Form { operands: &[], encoding: "D4 0A", ..AAM },
    Form { operands: &[r(Pattern::Uimm8)], encoding: "D4 ib", ..AAM },
    Form { operands: &[], encoding: "D5 0A", ..AAD },
    Form { operands: &[r(Pattern::Uimm8)], encoding: "D5 ib", ..AAD },
    Form {
        mnemonic: "into",
        traits: Traits::INTERRUPT,
        meaning: Meaning::Into,
        encoding: "CE",
        flags: FlagEffects::tests(flag::OF),
        summary: "raises an overflow trap (SIGSEGV) if OF is set",
        source: "SDM Vol. 2A, INT n/INTO/INT3/INT1",
        ..ONLY_32
    },
    Form { operands: &[r(R16), r(Pattern::Mem(Width::W32))], encoding: "62 /r", ..BOUND },
    Form { operands: &[r(R32), r(Pattern::Mem(Width::W64))], encoding: "62 /r", ..BOUND },
];
