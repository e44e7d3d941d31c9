//! Hints, barriers, system registers and cache operations.

use super::rows::*;
use crate::arm64::RegField::Rt;
use crate::arm64::pattern::NamedKind;
use crate::arm64::{Form, Meaning, Pattern, field, flag};
use crate::{Access, FlagEffects};

pub(super) const ROWS: &[Form] = rows![HINTS, BARRIERS, REGISTERS, CACHES];

macro_rules! hints {
    ($($bits:literal $name:literal $summary:literal $page:literal;)*) => {
        &[$(Form {
            encoding: concat!("11010101000000110010 ", $bits, " 11111"),
            ..named($name, Meaning::Nop, $summary, concat!("Arm ARM, C6.2 ", $page))
        },)*]
    };
}
const NAMED_HINTS: &[Form] = hints! {
    "0000 000" "nop" "does nothing" "NOP";
    "0000 001" "yield" "tells the processor that another thread could run; nothing that a program sees changes" "YIELD";
    "0000 010" "wfe" "waits for an event; there is always one here" "WFE";
    "0000 011" "wfi" "waits for an interrupt; there is always one here" "WFI";
    "0000 100" "sev" "sends an event to other processors" "SEV";
    "0000 101" "sevl" "sends an event to this processor" "SEVL";
    "0000 110" "dgh" "tells the processor not to gather memory accesses across it" "DGH";
    "0000 111" "xpaclri" "strips the authentication code from x30; without that feature it does nothing" "XPAC";
    "0001 000" "pacia1716" "signs x17 with the first key; without pointer authentication it does nothing" "PACIA";
    "0001 010" "pacib1716" "signs x17 with the second key; without pointer authentication it does nothing" "PACIB";
    "0001 100" "autia1716" "authenticates x17 with the first key; without pointer authentication it does nothing" "AUTIA";
    "0001 110" "autib1716" "authenticates x17 with the second key; without pointer authentication it does nothing" "AUTIB";
    "0010 000" "esb" "keeps errors of memory apart; nothing that a program sees changes" "ESB";
    "0010 100" "csdb" "keeps the processor from using guessed values; nothing that a program sees changes" "CSDB";
    "0011 000" "paciaz" "signs x30 with the first key and zero; without pointer authentication it does nothing" "PACIA";
    "0011 001" "paciasp" "signs x30 with the first key and sp; without pointer authentication it does nothing" "PACIA";
    "0011 010" "pacibz" "signs x30 with the second key and zero; without pointer authentication it does nothing" "PACIB";
    "0011 011" "pacibsp" "signs x30 with the second key and sp; without pointer authentication it does nothing" "PACIB";
    "0011 100" "autiaz" "authenticates x30 with the first key and zero; without pointer authentication it does nothing" "AUTIA";
    "0011 101" "autiasp" "authenticates x30 with the first key and sp; without pointer authentication it does nothing" "AUTIA";
    "0011 110" "autibz" "authenticates x30 with the second key and zero; without pointer authentication it does nothing" "AUTIB";
    "0011 111" "autibsp" "authenticates x30 with the second key and sp; without pointer authentication it does nothing" "AUTIB";
    "0100 000" "bti" "marks a place that no indirect branch goes to" "BTI";
};
const HINTS: &[Form] = rows![
    NAMED_HINTS,
    [
        Form {
            operands: &[p(Pattern::Named(NamedKind::BranchTarget))],
            encoding: "11010101000000110010 0100 op2:3 11111",
            ..named("bti", Meaning::Nop, "marks a place that indirect branches may go to: calls (c), jumps (j) or both (jc)", "Arm ARM, C6.2 BTI")
        },
        Form {
            operands: &[p(Pattern::Unsigned(field::HINT7))],
            encoding: "11010101000000110010 hint:7 11111",
            ..named("hint", Meaning::Nop, "gives the processor a hint by its number; does nothing to what a program sees", "Arm ARM, C6.2 HINT")
        },
    ],
];

const DMB: Form = named("dmb", Meaning::Nop, "keeps accesses to memory before it from mixing with those after it", "Arm ARM, C6.2 DMB");
const DSB: Form = named("dsb", Meaning::Nop, "waits until accesses to memory before it are complete", "Arm ARM, C6.2 DSB");
const ISB: Form = named("isb", Meaning::Nop, "fetches the instructions after it anew", "Arm ARM, C6.2 ISB");
const BARRIERS: &[Form] = &[
    Form { operands: &[p(Pattern::Named(NamedKind::Barrier))], encoding: "11010101000000110011 CRm:4 101 11111", ..DMB },
    Form { operands: &[p(Pattern::Named(NamedKind::Barrier))], encoding: "11010101000000110011 CRm:4 100 11111", ..DSB },
    Form { encoding: "11010101000000110011 1111 110 11111", ..ISB },
    Form { operands: &[p(Pattern::Named(NamedKind::Barrier))], encoding: "11010101000000110011 CRm:4 110 11111", ..ISB },
    Form { encoding: "11010101000000110011 0000 100 11111", ..named("ssbb", Meaning::Nop, "keeps loads after it from values guessed to be those of stores before it", "Arm ARM, C6.2 SSBB") },
    Form { encoding: "11010101000000110011 0100 100 11111", ..named("pssbb", Meaning::Nop, "keeps loads after it from values guessed to be those of stores before it, by physical address", "Arm ARM, C6.2 PSSBB") },
    Form { encoding: "11010101000000110011 0000 111 11111", ..named("sb", Meaning::Nop, "keeps the processor from carrying out ahead what follows", "Arm ARM, C6.2 SB") },
];

const MRS: Form = named("mrs", Meaning::ReadSystem, "copies a system register", "Arm ARM, C6.2 MRS");
const MSR: Form = named("msr", Meaning::WriteSystem, "sets a system register", "Arm ARM, C6.2 MSR (register)");
const REGISTERS: &[Form] = &[
    // The flags are a system register of their own, so that what reads or writes them says so.
    Form { operands: &[w(W64, Rt), p(Pattern::Named(NamedKind::System))], encoding: "1101010100 1 1 10110100 0010 000 Rt", flags: FlagEffects::tests(flag::NZCV), ..MRS_FLAGS },
    Form { operands: &[p(Pattern::Named(NamedKind::System)), r(W64, Rt)], encoding: "1101010100 0 1 10110100 0010 000 Rt", flags: SETS_NZCV, ..MSR_FLAGS },
    Form { operands: &[w(W64, Rt), p(Pattern::Named(NamedKind::System))], encoding: "1101010100 1 1 sysreg:15 Rt", ..MRS },
    Form { operands: &[spec(Access::Write, Pattern::Named(NamedKind::System)), r(W64, Rt)], encoding: "1101010100 0 1 sysreg:15 Rt", ..MSR },
];
const MRS_FLAGS: Form = Form { summary: "copies the flags, at bits 28 to 31", ..MRS };
const MSR_FLAGS: Form = Form { summary: "sets the flags from bits 28 to 31", ..MSR };

const DC: Form = named("dc", Meaning::Cache, "zeroes a block of memory (zva), or writes the data cache back, at the address in the register", "Arm ARM, C6.2 DC");
const IC: Form = named("ic", Meaning::Cache, "takes instructions at the address out of the cache", "Arm ARM, C6.2 IC");
const CACHES: &[Form] = &[
    Form { operands: &[p(Pattern::Named(NamedKind::DataCache)), r(W64, Rt)], encoding: "1101010100 0 01 op1:3 0111 CRm:4 op2:3 Rt", ..DC },
    Form { operands: &[p(Pattern::Named(NamedKind::InstructionCache)), r(W64, Rt)], encoding: "1101010100 0 01 op1:3 0111 CRm:4 op2:3 Rt", ..IC },
];
