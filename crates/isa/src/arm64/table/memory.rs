//! Loads and stores of one or two registers, of both banks.

use super::rows::*;
use crate::arm64::RegField::{Rt, Rt2};
use crate::arm64::pattern::NamedKind;
use crate::arm64::{Form, Meaning, Offset, OperandSpec, Pattern};
use crate::{Access, Traits, Width};

pub(super) const ROWS: &[Form] = rows![
    LOADS, STORES, PAIRS, UNPRIVILEGED, PREFETCH, LDPSW, PAIRS_ONCE, SCALAR, SCALAR_LITERAL, SCALAR_PAIRS,
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
        meaning: Meaning::LoadPair { access, signed: false },
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

/// Loads and stores as a program without privileges would make them: to a program, the same.
macro_rules! unprivileged {
    ($base:expr, $access:expr, $reg:expr, $mem:ident, $size:literal, $opc:literal) => {
        Form { operands: &[$reg, $mem(Pattern::MemOffset($access, Offset::Signed9))], encoding: concat!($size, " 111 0 00 ", $opc, " 0 imm9:9 10 Rn Rt"), ..$base }
    };
}
const UNPRIVILEGED: &[Form] = &[
    unprivileged!(load("ldtr", W32, false), W32, w(W32, Rt), mem_read, "10", "01"),
    unprivileged!(load("ldtr", W64, false), W64, w(W64, Rt), mem_read, "11", "01"),
    unprivileged!(load("ldtrb", W8, false), W8, w(W32, Rt), mem_read, "00", "01"),
    unprivileged!(load("ldtrh", W16, false), W16, w(W32, Rt), mem_read, "01", "01"),
    unprivileged!(load("ldtrsb", W8, true), W8, w(W32, Rt), mem_read, "00", "11"),
    unprivileged!(load("ldtrsb", W8, true), W8, w(W64, Rt), mem_read, "00", "10"),
    unprivileged!(load("ldtrsh", W16, true), W16, w(W32, Rt), mem_read, "01", "11"),
    unprivileged!(load("ldtrsh", W16, true), W16, w(W64, Rt), mem_read, "01", "10"),
    unprivileged!(load("ldtrsw", W32, true), W32, w(W64, Rt), mem_read, "10", "10"),
    unprivileged!(store("sttr", W32), W32, r(W32, Rt), mem_write, "10", "00"),
    unprivileged!(store("sttr", W64), W64, r(W64, Rt), mem_write, "11", "00"),
    unprivileged!(store("sttrb", W8), W8, r(W32, Rt), mem_write, "00", "00"),
    unprivileged!(store("sttrh", W16), W16, r(W32, Rt), mem_write, "01", "00"),
];

const PRFM: Form = named("prfm", Meaning::Prefetch, "tells the processor that memory will be used soon; nothing that a program sees changes", "Arm ARM, C6.2 PRFM");
const PRFUM: Form = Form { mnemonic: "prfum", source: "Arm ARM, C6.2 PRFUM", ..PRFM };
const PREFETCH_OPERATION: OperandSpec = p(Pattern::Named(NamedKind::Prefetch));
const fn untouched(pattern: Pattern) -> OperandSpec {
    spec(Access::None, pattern)
}
const PREFETCH: &[Form] = &[
    Form { operands: &[PREFETCH_OPERATION, untouched(Pattern::MemOffset(W64, Offset::Scaled12))], encoding: "11 111 0 01 10 imm12:12 Rn prfop:5", ..PRFM },
    Form { operands: &[PREFETCH_OPERATION, untouched(Pattern::MemReg(W64))], encoding: "11 111 0 00 10 1 Rm option:3 S:1 10 Rn prfop:5", ..PRFM },
    Form { operands: &[PREFETCH_OPERATION, untouched(Pattern::Label19)], encoding: "11 011 0 00 imm19:19 prfop:5", ..PRFM },
    Form { operands: &[PREFETCH_OPERATION, untouched(Pattern::MemOffset(W64, Offset::Signed9))], encoding: "11 111 0 00 10 0 imm9:9 00 Rn prfop:5", ..PRFUM },
];

const fn ldpsw() -> Form {
    named("ldpsw", Meaning::LoadPair { access: W32, signed: true }, "loads two words from adjacent memory, sign-extended", "Arm ARM, C6.2 LDPSW")
}
const LDPSW: &[Form] = &[
    Form { operands: &[w(W64, Rt), w(W64, Rt2), mem_read(Pattern::MemOffset(W32, Offset::Scaled7))], encoding: "01 101 0 010 1 imm7:7 Rt2 Rn Rt", ..ldpsw() },
    Form { operands: &[w(W64, Rt), w(W64, Rt2), mem_read(Pattern::MemPre(W32, Offset::Scaled7))], encoding: "01 101 0 011 1 imm7:7 Rt2 Rn Rt", ..ldpsw() },
    Form { operands: &[w(W64, Rt), w(W64, Rt2), mem_read(Pattern::MemPost(W32, Offset::Scaled7))], encoding: "01 101 0 001 1 imm7:7 Rt2 Rn Rt", ..ldpsw() },
    Form { operands: &[w(W64, Rt), p(Pattern::Label19)], encoding: "10 011 0 00 imm19:19 Rt", traits: Traits::LOADS_LITERAL, ..load("ldrsw", W32, true) },
];

/// A pair that will not be used again soon: to a program, a pair.
macro_rules! pair_once {
    ($base:expr, $access:expr, $reg:ident, $mem:ident, $opc:literal, $v:literal, $l:literal) => {
        Form { operands: &[$reg($access, Rt), $reg($access, Rt2), $mem(Pattern::MemOffset($access, Offset::Scaled7))], encoding: concat!($opc, " 101 ", $v, " 000 ", $l, " imm7:7 Rt2 Rn Rt"), ..$base }
    };
}
const fn once(mnemonic: &'static str, meaning: Meaning) -> Form {
    let loads = matches!(meaning, Meaning::LoadPair { .. } | Meaning::LoadScalarPair { .. });
    let (summary, source) = if loads {
        ("loads two registers from memory that will not be used again soon", "Arm ARM, C6.2 LDNP")
    } else {
        ("stores two registers to memory that will not be used again soon", "Arm ARM, C6.2 STNP")
    };
    named(mnemonic, meaning, summary, source)
}
const PAIRS_ONCE: &[Form] = &[
    pair_once!(once("ldnp", Meaning::LoadPair { access: W32, signed: false }), W32, w, mem_read, "00", "0", "1"),
    pair_once!(once("ldnp", Meaning::LoadPair { access: W64, signed: false }), W64, w, mem_read, "10", "0", "1"),
    pair_once!(once("stnp", Meaning::StorePair { access: W32 }), W32, r, mem_write, "00", "0", "0"),
    pair_once!(once("stnp", Meaning::StorePair { access: W64 }), W64, r, mem_write, "10", "0", "0"),
    pair_once!(once("ldnp", Meaning::LoadScalarPair { access: W32 }), W32, fw, mem_read, "00", "1", "1"),
    pair_once!(once("ldnp", Meaning::LoadScalarPair { access: W64 }), W64, fw, mem_read, "01", "1", "1"),
    pair_once!(once("ldnp", Meaning::LoadScalarPair { access: W128 }), W128, fw, mem_read, "10", "1", "1"),
    pair_once!(once("stnp", Meaning::StoreScalarPair { access: W32 }), W32, f, mem_write, "00", "1", "0"),
    pair_once!(once("stnp", Meaning::StoreScalarPair { access: W64 }), W64, f, mem_write, "01", "1", "0"),
    pair_once!(once("stnp", Meaning::StoreScalarPair { access: W128 }), W128, f, mem_write, "10", "1", "0"),
];

/// The addressing modes of a load or store of a scalar register of the vector bank.
macro_rules! load_store_scalar {
    ($base:expr, $unscaled:literal, $access:expr, $reg:ident, $mem:ident, $size:literal, $opc:literal) => {
        [
            Form { operands: &[$reg($access, Rt), $mem(Pattern::MemOffset($access, Offset::Scaled12))], encoding: concat!($size, " 111 1 01 ", $opc, " imm12:12 Rn Rt"), ..$base },
            Form { operands: &[$reg($access, Rt), $mem(Pattern::MemPre($access, Offset::Signed9))], encoding: concat!($size, " 111 1 00 ", $opc, " 0 imm9:9 11 Rn Rt"), ..$base },
            Form { operands: &[$reg($access, Rt), $mem(Pattern::MemPost($access, Offset::Signed9))], encoding: concat!($size, " 111 1 00 ", $opc, " 0 imm9:9 01 Rn Rt"), ..$base },
            Form { operands: &[$reg($access, Rt), $mem(Pattern::MemReg($access))], encoding: concat!($size, " 111 1 00 ", $opc, " 1 Rm option:3 S:1 10 Rn Rt"), ..$base },
            Form { mnemonic: $unscaled, operands: &[$reg($access, Rt), $mem(Pattern::MemOffset($access, Offset::Signed9))], encoding: concat!($size, " 111 1 00 ", $opc, " 0 imm9:9 00 Rn Rt"), ..$base },
            Form { operands: &[$reg($access, Rt), $mem(Pattern::MemOffset($access, Offset::Signed9))], encoding: concat!($size, " 111 1 00 ", $opc, " 0 imm9:9 00 Rn Rt"), accepted_only: true, ..$base },
        ]
    };
}
const fn load_scalar(access: Width) -> Form {
    named("ldr", Meaning::LoadScalar { access }, "loads a register of floating point from memory; the bits above become zero", "Arm ARM, C7.2 LDR (SIMD&FP)")
}
const fn store_scalar(access: Width) -> Form {
    named("str", Meaning::StoreScalar { access }, "stores the low part of a register of floating point to memory", "Arm ARM, C7.2 STR (SIMD&FP)")
}
const SCALAR: &[Form] = rows![
    load_store_scalar!(load_scalar(W8), "ldur", W8, fw, mem_read, "00", "01"),
    load_store_scalar!(load_scalar(W16), "ldur", W16, fw, mem_read, "01", "01"),
    load_store_scalar!(load_scalar(W32), "ldur", W32, fw, mem_read, "10", "01"),
    load_store_scalar!(load_scalar(W64), "ldur", W64, fw, mem_read, "11", "01"),
    load_store_scalar!(load_scalar(W128), "ldur", W128, fw, mem_read, "00", "11"),
    load_store_scalar!(store_scalar(W8), "stur", W8, f, mem_write, "00", "00"),
    load_store_scalar!(store_scalar(W16), "stur", W16, f, mem_write, "01", "00"),
    load_store_scalar!(store_scalar(W32), "stur", W32, f, mem_write, "10", "00"),
    load_store_scalar!(store_scalar(W64), "stur", W64, f, mem_write, "11", "00"),
    load_store_scalar!(store_scalar(W128), "stur", W128, f, mem_write, "00", "10"),
];
const SCALAR_LITERAL: &[Form] = &[
    Form { operands: &[fw(W32, Rt), p(Pattern::Label19)], encoding: "00 011 1 00 imm19:19 Rt", traits: Traits::LOADS_LITERAL, ..load_scalar(W32) },
    Form { operands: &[fw(W64, Rt), p(Pattern::Label19)], encoding: "01 011 1 00 imm19:19 Rt", traits: Traits::LOADS_LITERAL, ..load_scalar(W64) },
    Form { operands: &[fw(W128, Rt), p(Pattern::Label19)], encoding: "10 011 1 00 imm19:19 Rt", traits: Traits::LOADS_LITERAL, ..load_scalar(W128) },
];

macro_rules! pair_scalar {
    ($base:expr, $width:expr, $reg:ident, $mem:ident, $opc:literal, $l:literal) => {
        [
            Form { operands: &[$reg($width, Rt), $reg($width, Rt2), $mem(Pattern::MemOffset($width, Offset::Scaled7))], encoding: concat!($opc, " 101 1 010 ", $l, " imm7:7 Rt2 Rn Rt"), ..$base },
            Form { operands: &[$reg($width, Rt), $reg($width, Rt2), $mem(Pattern::MemPre($width, Offset::Scaled7))], encoding: concat!($opc, " 101 1 011 ", $l, " imm7:7 Rt2 Rn Rt"), ..$base },
            Form { operands: &[$reg($width, Rt), $reg($width, Rt2), $mem(Pattern::MemPost($width, Offset::Scaled7))], encoding: concat!($opc, " 101 1 001 ", $l, " imm7:7 Rt2 Rn Rt"), ..$base },
        ]
    };
}
const fn ldp_scalar(access: Width) -> Form {
    named("ldp", Meaning::LoadScalarPair { access }, "loads two registers of floating point from adjacent memory", "Arm ARM, C7.2 LDP (SIMD&FP)")
}
const fn stp_scalar(access: Width) -> Form {
    named("stp", Meaning::StoreScalarPair { access }, "stores two registers of floating point to adjacent memory", "Arm ARM, C7.2 STP (SIMD&FP)")
}
const SCALAR_PAIRS: &[Form] = rows![
    pair_scalar!(ldp_scalar(W32), W32, fw, mem_read, "00", "1"),
    pair_scalar!(ldp_scalar(W64), W64, fw, mem_read, "01", "1"),
    pair_scalar!(ldp_scalar(W128), W128, fw, mem_read, "10", "1"),
    pair_scalar!(stp_scalar(W32), W32, f, mem_write, "00", "0"),
    pair_scalar!(stp_scalar(W64), W64, f, mem_write, "01", "0"),
    pair_scalar!(stp_scalar(W128), W128, f, mem_write, "10", "0"),
];
