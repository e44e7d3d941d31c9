//! Bitfield moves, and what they are written as.

use super::rows::*;
use crate::arm64::RegField::{Rd, Rn};
use crate::arm64::field::{IMMR, IMMS};
use crate::arm64::{Bitfield, BitfieldFields, Form, Meaning, OperandSpec, Pattern};
use crate::{Access, Extend, Width};

// Shifts by a constant, which are bitfield moves too, are among the shifts and found before these.
pub(super) const ROWS: &[Form] = rows![EXTENDED, INSERTED, EXTRACTED, RAW];

const fn bitfield(mnemonic: &'static str, kind: Bitfield, fields: BitfieldFields, summary: &'static str, source: &'static str) -> Form {
    named(mnemonic, Meaning::Bitfield(kind, fields), summary, source)
}

const fn extended(mnemonic: &'static str, extend: Extend, source: &'static str) -> Form {
    named(mnemonic, Meaning::Extended(extend), "extends the low part of a register", source)
}

const fn rw(width: Width) -> OperandSpec {
    spec(Access::ReadWrite, Pattern::R(width, Rd))
}

const fn insert(width: Width) -> OperandSpec {
    p(Pattern::InsertLsb(width))
}

const fn inserted(width: Width) -> OperandSpec {
    p(Pattern::InsertWidth(width))
}

const fn extracted(width: Width) -> OperandSpec {
    p(Pattern::ExtractWidth(width))
}

/// The lowest bit that is extracted, and its like: `immr`.
const fn low(width: Width) -> OperandSpec {
    p(Pattern::Unsigned(if width.bits() == 64 { IMMR } else { IMMR.low(5) }))
}

const fn high(width: Width) -> OperandSpec {
    p(Pattern::Unsigned(if width.bits() == 64 { IMMS } else { IMMS.low(5) }))
}

const EXTENDED: &[Form] = &[
    Form { operands: &[w(W32, Rd), r(W32, Rn)], encoding: "0 00 100110 0 000000 000111 Rn Rd", ..extended("sxtb", Extend::Sxtb, "Arm ARM, C6.2 SXTB") },
    Form { operands: &[w(W64, Rd), r(W32, Rn)], encoding: "1 00 100110 1 000000 000111 Rn Rd", ..extended("sxtb", Extend::Sxtb, "Arm ARM, C6.2 SXTB") },
    Form { operands: &[w(W32, Rd), r(W32, Rn)], encoding: "0 00 100110 0 000000 001111 Rn Rd", ..extended("sxth", Extend::Sxth, "Arm ARM, C6.2 SXTH") },
    Form { operands: &[w(W64, Rd), r(W32, Rn)], encoding: "1 00 100110 1 000000 001111 Rn Rd", ..extended("sxth", Extend::Sxth, "Arm ARM, C6.2 SXTH") },
    Form { operands: &[w(W64, Rd), r(W32, Rn)], encoding: "1 00 100110 1 000000 011111 Rn Rd", ..extended("sxtw", Extend::Sxtw, "Arm ARM, C6.2 SXTW") },
    Form { operands: &[w(W32, Rd), r(W32, Rn)], encoding: "0 10 100110 0 000000 000111 Rn Rd", ..extended("uxtb", Extend::Uxtb, "Arm ARM, C6.2 UXTB") },
    Form { operands: &[w(W32, Rd), r(W32, Rn)], encoding: "0 10 100110 0 000000 001111 Rn Rd", ..extended("uxth", Extend::Uxth, "Arm ARM, C6.2 UXTH") },
];

const BFC: Form = bitfield("bfc", Bitfield::Insert, BitfieldFields::Clear, "clears a field of the destination", "Arm ARM, C6.2 BFC");
const BFI: Form = bitfield("bfi", Bitfield::Insert, BitfieldFields::Insert, "puts the low bits of the source into a field of the destination", "Arm ARM, C6.2 BFI");
const SBFIZ: Form = bitfield("sbfiz", Bitfield::Signed, BitfieldFields::Insert, "puts the low bits of the source, sign-extended, into a field over zeros", "Arm ARM, C6.2 SBFIZ");
const UBFIZ: Form = bitfield("ubfiz", Bitfield::Unsigned, BitfieldFields::Insert, "puts the low bits of the source into a field, and zeros around it", "Arm ARM, C6.2 UBFIZ");
const BFXIL: Form = bitfield("bfxil", Bitfield::Insert, BitfieldFields::Extract, "puts a field of the source into the low bits of the destination", "Arm ARM, C6.2 BFXIL");
const SBFX: Form = bitfield("sbfx", Bitfield::Signed, BitfieldFields::Extract, "extracts a field, sign-extended", "Arm ARM, C6.2 SBFX");
const UBFX: Form = bitfield("ubfx", Bitfield::Unsigned, BitfieldFields::Extract, "extracts a field, zero-extended", "Arm ARM, C6.2 UBFX");

const INSERTED: &[Form] = &[
    Form { operands: &[rw(W32), insert(W32), inserted(W32)], encoding: "0 01 100110 0 0 immr:5 0 imms:5 11111 Rd", ..BFC },
    Form { operands: &[rw(W64), insert(W64), inserted(W64)], encoding: "1 01 100110 1 immr:6 imms:6 11111 Rd", ..BFC },
    Form { operands: &[rw(W32), r(W32, Rn), insert(W32), inserted(W32)], encoding: "0 01 100110 0 0 immr:5 0 imms:5 Rn Rd", ..BFI },
    Form { operands: &[rw(W64), r(W64, Rn), insert(W64), inserted(W64)], encoding: "1 01 100110 1 immr:6 imms:6 Rn Rd", ..BFI },
    Form { operands: &[w(W32, Rd), r(W32, Rn), insert(W32), inserted(W32)], encoding: "0 00 100110 0 0 immr:5 0 imms:5 Rn Rd", ..SBFIZ },
    Form { operands: &[w(W64, Rd), r(W64, Rn), insert(W64), inserted(W64)], encoding: "1 00 100110 1 immr:6 imms:6 Rn Rd", ..SBFIZ },
    Form { operands: &[w(W32, Rd), r(W32, Rn), insert(W32), inserted(W32)], encoding: "0 10 100110 0 0 immr:5 0 imms:5 Rn Rd", ..UBFIZ },
    Form { operands: &[w(W64, Rd), r(W64, Rn), insert(W64), inserted(W64)], encoding: "1 10 100110 1 immr:6 imms:6 Rn Rd", ..UBFIZ },
];

const EXTRACTED: &[Form] = &[
    Form { operands: &[rw(W32), r(W32, Rn), low(W32), extracted(W32)], encoding: "0 01 100110 0 0 immr:5 0 imms:5 Rn Rd", ..BFXIL },
    Form { operands: &[rw(W64), r(W64, Rn), low(W64), extracted(W64)], encoding: "1 01 100110 1 immr:6 imms:6 Rn Rd", ..BFXIL },
    Form { operands: &[w(W32, Rd), r(W32, Rn), low(W32), extracted(W32)], encoding: "0 00 100110 0 0 immr:5 0 imms:5 Rn Rd", ..SBFX },
    Form { operands: &[w(W64, Rd), r(W64, Rn), low(W64), extracted(W64)], encoding: "1 00 100110 1 immr:6 imms:6 Rn Rd", ..SBFX },
    Form { operands: &[w(W32, Rd), r(W32, Rn), low(W32), extracted(W32)], encoding: "0 10 100110 0 0 immr:5 0 imms:5 Rn Rd", ..UBFX },
    Form { operands: &[w(W64, Rd), r(W64, Rn), low(W64), extracted(W64)], encoding: "1 10 100110 1 immr:6 imms:6 Rn Rd", ..UBFX },
];

const BFM: Form = bitfield("bfm", Bitfield::Insert, BitfieldFields::Raw, "moves a field by the numbers of the encoding, and keeps the other bits", "Arm ARM, C6.2 BFM");
const SBFM: Form = bitfield("sbfm", Bitfield::Signed, BitfieldFields::Raw, "moves a field by the numbers of the encoding, sign-extended", "Arm ARM, C6.2 SBFM");
const UBFM: Form = bitfield("ubfm", Bitfield::Unsigned, BitfieldFields::Raw, "moves a field by the numbers of the encoding, zero-extended", "Arm ARM, C6.2 UBFM");
const RAW: &[Form] = &[
    Form { operands: &[rw(W32), r(W32, Rn), low(W32), high(W32)], encoding: "0 01 100110 0 0 immr:5 0 imms:5 Rn Rd", accepted_only: true, ..BFM },
    Form { operands: &[rw(W64), r(W64, Rn), low(W64), high(W64)], encoding: "1 01 100110 1 immr:6 imms:6 Rn Rd", accepted_only: true, ..BFM },
    Form { operands: &[w(W32, Rd), r(W32, Rn), low(W32), high(W32)], encoding: "0 00 100110 0 0 immr:5 0 imms:5 Rn Rd", accepted_only: true, ..SBFM },
    Form { operands: &[w(W64, Rd), r(W64, Rn), low(W64), high(W64)], encoding: "1 00 100110 1 immr:6 imms:6 Rn Rd", accepted_only: true, ..SBFM },
    Form { operands: &[w(W32, Rd), r(W32, Rn), low(W32), high(W32)], encoding: "0 10 100110 0 0 immr:5 0 imms:5 Rn Rd", accepted_only: true, ..UBFM },
    Form { operands: &[w(W64, Rd), r(W64, Rn), low(W64), high(W64)], encoding: "1 10 100110 1 immr:6 imms:6 Rn Rd", accepted_only: true, ..UBFM },
];
