//! String instructions, alone and repeated.

use super::*;

const SOURCE: Implicit = updates(Width::W64, SI);
const DESTINATION: Implicit = updates(Width::W64, DI);
const COUNT: Implicit = updates(Width::W64, C);

const fn row(op: StringOp, width: Width, repeat: Repeat, base: Form) -> Form {
    let implicit = used(op, width, matches!(repeat, Repeat::Once));
    Form { meaning: Meaning::String(op, width, repeat), implicit, ..base }
}

/// The registers that a string instruction uses; none is written in the text.
const fn used(op: StringOp, width: Width, once: bool) -> &'static [Implicit] {
    match (op, width) {
        (StringOp::Movs | StringOp::Cmps, _) if once => const { &[SOURCE, DESTINATION] },
        (StringOp::Movs | StringOp::Cmps, _) => const { &[COUNT, SOURCE, DESTINATION] },
        (StringOp::Lods, Width::W8) if once => const { &[writes(Width::W8, A), SOURCE] },
        (StringOp::Lods, Width::W16) if once => const { &[writes(Width::W16, A), SOURCE] },
        (StringOp::Lods, Width::W32) if once => const { &[writes(Width::W32, A), SOURCE] },
        (StringOp::Lods, _) if once => const { &[writes(Width::W64, A), SOURCE] },
        (StringOp::Lods, Width::W8) => const { &[COUNT, writes(Width::W8, A), SOURCE] },
        (StringOp::Lods, Width::W16) => const { &[COUNT, writes(Width::W16, A), SOURCE] },
        (StringOp::Lods, Width::W32) => const { &[COUNT, writes(Width::W32, A), SOURCE] },
        (StringOp::Lods, _) => const { &[COUNT, writes(Width::W64, A), SOURCE] },
        (_, Width::W8) if once => const { &[reads(Width::W8, A), DESTINATION] },
        (_, Width::W16) if once => const { &[reads(Width::W16, A), DESTINATION] },
        (_, Width::W32) if once => const { &[reads(Width::W32, A), DESTINATION] },
        (_, _) if once => const { &[reads(Width::W64, A), DESTINATION] },
        (_, Width::W8) => const { &[COUNT, reads(Width::W8, A), DESTINATION] },
        (_, Width::W16) => const { &[COUNT, reads(Width::W16, A), DESTINATION] },
        (_, Width::W32) => const { &[COUNT, reads(Width::W32, A), DESTINATION] },
        (_, _) => const { &[COUNT, reads(Width::W64, A), DESTINATION] },
    }
}

/// The four widths of a string instruction: `rows!(Movs Once MOVS; "movsb" "A4", ...)`.
macro_rules! rows {
    ($($op:ident $repeat:ident $base:ident; $b:literal $be:literal, $w:literal $we:literal, $d:literal $de:literal, $q:literal $qe:literal;)*) => {
        &[$(
            Form { mnemonic: $b, encoding: $be, ..row(StringOp::$op, Width::W8, Repeat::$repeat, $base) },
            Form { mnemonic: $w, encoding: $we, ..row(StringOp::$op, Width::W16, Repeat::$repeat, $base) },
            Form { mnemonic: $d, encoding: $de, ..row(StringOp::$op, Width::W32, Repeat::$repeat, $base) },
            Form { mnemonic: $q, encoding: $qe, ..row(StringOp::$op, Width::W64, Repeat::$repeat, $base) },
        )*]
    };
}

/// The same instructions with their memory written out, which says in which segment the source is and
/// how wide addresses are.
macro_rules! written_out {
    ($($op:ident $repeat:ident $base:ident $operands:ident; $name:literal, $b:literal, $w:literal, $d:literal, $q:literal;)*) => {
        &[$(
            Form { mnemonic: $name, operands: $operands!(Width::W8), encoding: $b, ..row(StringOp::$op, Width::W8, Repeat::$repeat, $base) },
            Form { mnemonic: $name, operands: $operands!(Width::W16), encoding: $w, ..row(StringOp::$op, Width::W16, Repeat::$repeat, $base) },
            Form { mnemonic: $name, operands: $operands!(Width::W32), encoding: $d, ..row(StringOp::$op, Width::W32, Repeat::$repeat, $base) },
            Form { mnemonic: $name, operands: $operands!(Width::W64), encoding: $q, ..row(StringOp::$op, Width::W64, Repeat::$repeat, $base) },
        )*]
    };
}

macro_rules! move_operands {
    ($w:expr) => {
        &[w(Pattern::StringDestination($w)), r(Pattern::StringSource($w))]
    };
}
macro_rules! compare_operands {
    ($w:expr) => {
        &[r(Pattern::StringSource($w)), r(Pattern::StringDestination($w))]
    };
}
macro_rules! source_operand {
    ($w:expr) => {
        &[r(Pattern::StringSource($w))]
    };
}
macro_rules! store_operand {
    ($w:expr) => {
        &[w(Pattern::StringDestination($w))]
    };
}
macro_rules! scan_operand {
    ($w:expr) => {
        &[r(Pattern::StringDestination($w))]
    };
}

const fn moving(summary: &'static str, source: &'static str) -> Form {
    Form { flags: FlagEffects::tests(flag::DF), summary, source, ..PLAIN }
}

const fn comparing(summary: &'static str, source: &'static str) -> Form {
    let flags = FlagEffects { tested: flag::DF, modified: flag::STATUS, ..FlagEffects::NONE };
    Form { flags, summary, source, ..PLAIN }
}

const MOVS: Form = moving("copies the element at RSI to RDI and moves both on, up or down as DF says", "SDM Vol. 2B, MOVS");
const REP_MOVS: Form = moving("copies RCX elements from RSI to RDI", "SDM Vol. 2B, REP");
const CMPS: Form = comparing("compares the element at RSI with that at RDI and moves both on, up or down as DF says", "SDM Vol. 2A, CMPS");
const REPE_CMPS: Form = comparing("compares up to RCX elements at RSI and RDI until two differ", "SDM Vol. 2B, REP");
const REPNE_CMPS: Form = comparing("compares up to RCX elements at RSI and RDI until two are equal", "SDM Vol. 2B, REP");
const STOS: Form = moving("stores the accumulator at RDI and moves on, up or down as DF says", "SDM Vol. 2B, STOS");
const REP_STOS: Form = moving("stores the accumulator RCX times from RDI on", "SDM Vol. 2B, REP");
const LODS: Form = moving("loads the accumulator from RSI and moves on, up or down as DF says", "SDM Vol. 2A, LODS");
const REP_LODS: Form = moving("loads the accumulator RCX times from RSI on", "SDM Vol. 2B, REP");
const SCAS: Form = comparing("compares the accumulator with the element at RDI and moves on, up or down as DF says", "SDM Vol. 2B, SCAS");
const REPE_SCAS: Form = comparing("compares the accumulator with up to RCX elements at RDI until one differs", "SDM Vol. 2B, REP");
const REPNE_SCAS: Form = comparing("compares the accumulator with up to RCX elements at RDI until one is equal", "SDM Vol. 2B, REP");

pub(super) const FORMS: &[Form] = rows! {
    Movs Once MOVS; "movsb" "A4", "movsw" "66 A5", "movsd" "A5", "movsq" "REX.W + A5";
    Movs Counted REP_MOVS; "rep movsb" "F3 A4", "rep movsw" "66 F3 A5", "rep movsd" "F3 A5", "rep movsq" "F3 REX.W + A5";
    Cmps Once CMPS; "cmpsb" "A6", "cmpsw" "66 A7", "cmpsd" "A7", "cmpsq" "REX.W + A7";
    Cmps WhileEqual REPE_CMPS; "repe cmpsb" "F3 A6", "repe cmpsw" "66 F3 A7", "repe cmpsd" "F3 A7", "repe cmpsq" "F3 REX.W + A7";
    Cmps WhileNotEqual REPNE_CMPS; "repne cmpsb" "F2 A6", "repne cmpsw" "66 F2 A7", "repne cmpsd" "F2 A7", "repne cmpsq" "F2 REX.W + A7";
    Stos Once STOS; "stosb" "AA", "stosw" "66 AB", "stosd" "AB", "stosq" "REX.W + AB";
    Stos Counted REP_STOS; "rep stosb" "F3 AA", "rep stosw" "66 F3 AB", "rep stosd" "F3 AB", "rep stosq" "F3 REX.W + AB";
    Lods Once LODS; "lodsb" "AC", "lodsw" "66 AD", "lodsd" "AD", "lodsq" "REX.W + AD";
    Lods Counted REP_LODS; "rep lodsb" "F3 AC", "rep lodsw" "66 F3 AD", "rep lodsd" "F3 AD", "rep lodsq" "F3 REX.W + AD";
    Scas Once SCAS; "scasb" "AE", "scasw" "66 AF", "scasd" "AF", "scasq" "REX.W + AF";
    Scas WhileEqual REPE_SCAS; "repe scasb" "F3 AE", "repe scasw" "66 F3 AF", "repe scasd" "F3 AF", "repe scasq" "F3 REX.W + AF";
    Scas WhileNotEqual REPNE_SCAS; "repne scasb" "F2 AE", "repne scasw" "66 F2 AF", "repne scasd" "F2 AF", "repne scasq" "F2 REX.W + AF";
};

pub(super) const WRITTEN_OUT: &[Form] = written_out! {
    Movs Once MOVS move_operands; "movs", "A4", "66 A5", "A5", "REX.W + A5";
    Movs Counted REP_MOVS move_operands; "rep movs", "F3 A4", "66 F3 A5", "F3 A5", "F3 REX.W + A5";
    Cmps Once CMPS compare_operands; "cmps", "A6", "66 A7", "A7", "REX.W + A7";
    Cmps WhileEqual REPE_CMPS compare_operands; "repe cmps", "F3 A6", "66 F3 A7", "F3 A7", "F3 REX.W + A7";
    Cmps WhileNotEqual REPNE_CMPS compare_operands; "repne cmps", "F2 A6", "66 F2 A7", "F2 A7", "F2 REX.W + A7";
    Stos Once STOS store_operand; "stos", "AA", "66 AB", "AB", "REX.W + AB";
    Stos Counted REP_STOS store_operand; "rep stos", "F3 AA", "66 F3 AB", "F3 AB", "F3 REX.W + AB";
    Lods Once LODS source_operand; "lods", "AC", "66 AD", "AD", "REX.W + AD";
    Lods Counted REP_LODS source_operand; "rep lods", "F3 AC", "66 F3 AD", "F3 AD", "F3 REX.W + AD";
    Scas Once SCAS scan_operand; "scas", "AE", "66 AF", "AF", "REX.W + AF";
    Scas WhileEqual REPE_SCAS scan_operand; "repe scas", "F3 AE", "66 F3 AF", "F3 AF", "F3 REX.W + AF";
    Scas WhileNotEqual REPNE_SCAS scan_operand; "repne scas", "F2 AE", "66 F2 AF", "F2 AF", "F2 REX.W + AF";
};
