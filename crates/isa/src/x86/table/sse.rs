//! SSE to SSE4.2: rows by kind of instruction.

use super::*;
use crate::{LaneKind, Lanes};
use crate::x86::vector::{Convert, FloatOp, Packed, Shape, Vector};

const X: Pattern = Pattern::X;
const XRM: Pattern = Pattern::XRm;
const XM16: Pattern = Pattern::Xm(Width::W16);
const XM32: Pattern = Pattern::Xm(Width::W32);
const XM64: Pattern = Pattern::Xm(Width::W64);
const XM128: Pattern = Pattern::Xm(Width::W128);
const XU: Pattern = Pattern::XmUnaligned;
const UIMM8: Pattern = Pattern::Uimm8;
const M32: Pattern = Pattern::Mem(Width::W32);
const M64: Pattern = Pattern::Mem(Width::W64);

// What the elements of vectors are: signed integers, floating-point numbers, or bits.
const I8: Lanes = Lanes::new(LaneKind::Signed, Width::W8);
const I16: Lanes = Lanes::new(LaneKind::Signed, Width::W16);
const I32: Lanes = Lanes::new(LaneKind::Signed, Width::W32);
const F32: Lanes = Lanes::new(LaneKind::Float, Width::W32);
const F64: Lanes = Lanes::new(LaneKind::Float, Width::W64);
const X32: Lanes = Lanes::new(LaneKind::Bits, Width::W32);
const X64: Lanes = Lanes::new(LaneKind::Bits, Width::W64);

const fn vector(vector: Vector) -> Form {
    Form { meaning: Meaning::Vector(vector), ..PLAIN }
}

const fn packed(packed: Packed) -> Form {
    vector(Vector::Packed(packed))
}

/// Rows of one shape: encoding, mnemonic, feature, elements, meaning, operands, summary, manual page.
macro_rules! rows {
    ($make:expr, $operands:expr, $tail:literal; $($encoding:literal $name:literal $feature:ident $elements:ident $meaning:expr, $summary:literal $page:literal;)*) => {
        [$(Form {
            mnemonic: $name,
            feature: feature::$feature,
            elements: $elements,
            operands: $operands,
            encoding: concat!($encoding, $tail),
            summary: $summary,
            source: concat!("SDM Vol. 2", $page),
            ..$make($meaning)
        }),*]
    };
}

/// The destination becomes a function of itself and the source.
pub(super) const PACKED: &[Form] = &rows! { packed, &[rw(X), r(XM128)], " /r";
    "66 0F FC" "paddb" SSE2 I8 Packed::Paddb, "adds bytes" "B, PADDB/PADDW/PADDD/PADDQ";
    "66 0F FD" "paddw" SSE2 I16 Packed::Paddw, "adds words" "B, PADDB/PADDW/PADDD/PADDQ";
    "66 0F FE" "paddd" SSE2 I32 Packed::Paddd, "adds doublewords" "B, PADDB/PADDW/PADDD/PADDQ";
    "66 0F D4" "paddq" SSE2 X64 Packed::Paddq, "adds quadwords" "B, PADDB/PADDW/PADDD/PADDQ";
    "66 0F EC" "paddsb" SSE2 I8 Packed::Paddsb, "adds signed bytes and stops at the limits" "B, PADDSB/PADDSW";
    "66 0F ED" "paddsw" SSE2 I16 Packed::Paddsw, "adds signed words and stops at the limits" "B, PADDSB/PADDSW";
    "66 0F DC" "paddusb" SSE2 I8 Packed::Paddusb, "adds unsigned bytes and stops at the limits" "B, PADDUSB/PADDUSW";
    "66 0F DD" "paddusw" SSE2 I16 Packed::Paddusw, "adds unsigned words and stops at the limits" "B, PADDUSB/PADDUSW";
    "66 0F F8" "psubb" SSE2 I8 Packed::Psubb, "subtracts bytes" "B, PSUBB/PSUBW/PSUBD";
    "66 0F F9" "psubw" SSE2 I16 Packed::Psubw, "subtracts words" "B, PSUBB/PSUBW/PSUBD";
    "66 0F FA" "psubd" SSE2 I32 Packed::Psubd, "subtracts doublewords" "B, PSUBB/PSUBW/PSUBD";
    "66 0F FB" "psubq" SSE2 X64 Packed::Psubq, "subtracts quadwords" "B, PSUBB/PSUBW/PSUBD";
    "66 0F E8" "psubsb" SSE2 I8 Packed::Psubsb, "subtracts signed bytes and stops at the limits" "B, PSUBSB/PSUBSW";
    "66 0F E9" "psubsw" SSE2 I16 Packed::Psubsw, "subtracts signed words and stops at the limits" "B, PSUBSB/PSUBSW";
    "66 0F D8" "psubusb" SSE2 I8 Packed::Psubusb, "subtracts unsigned bytes and stops at the limits" "B, PSUBUSB/PSUBUSW";
    "66 0F D9" "psubusw" SSE2 I16 Packed::Psubusw, "subtracts unsigned words and stops at the limits" "B, PSUBUSB/PSUBUSW";
    "66 0F 74" "pcmpeqb" SSE2 I8 Packed::Pcmpeqb, "fills bytes with ones where they are equal, else with zeros" "B, PCMPEQB/PCMPEQW/PCMPEQD";
    "66 0F 75" "pcmpeqw" SSE2 I16 Packed::Pcmpeqw, "fills words with ones where they are equal, else with zeros" "B, PCMPEQB/PCMPEQW/PCMPEQD";
    "66 0F 76" "pcmpeqd" SSE2 I32 Packed::Pcmpeqd, "fills doublewords with ones where they are equal, else with zeros" "B, PCMPEQB/PCMPEQW/PCMPEQD";
    "66 0F 38 29" "pcmpeqq" SSE4_1 X64 Packed::Pcmpeqq, "fills quadwords with ones where they are equal, else with zeros" "B, PCMPEQQ";
    "66 0F 64" "pcmpgtb" SSE2 I8 Packed::Pcmpgtb, "fills signed bytes with ones where the destination is greater, else with zeros" "B, PCMPGTB/PCMPGTW/PCMPGTD";
    "66 0F 65" "pcmpgtw" SSE2 I16 Packed::Pcmpgtw, "fills signed words with ones where the destination is greater, else with zeros" "B, PCMPGTB/PCMPGTW/PCMPGTD";
    "66 0F 66" "pcmpgtd" SSE2 I32 Packed::Pcmpgtd, "fills signed doublewords with ones where the destination is greater, else with zeros" "B, PCMPGTB/PCMPGTW/PCMPGTD";
    "66 0F 38 37" "pcmpgtq" SSE4_2 X64 Packed::Pcmpgtq, "fills signed quadwords with ones where the destination is greater, else with zeros" "B, PCMPGTQ";
    "66 0F DE" "pmaxub" SSE2 I8 Packed::Pmaxub, "keeps the larger of unsigned bytes" "B, PMAXUB";
    "66 0F 38 3E" "pmaxuw" SSE4_1 I16 Packed::Pmaxuw, "keeps the larger of unsigned words" "B, PMAXUW";
    "66 0F 38 3F" "pmaxud" SSE4_1 I32 Packed::Pmaxud, "keeps the larger of unsigned doublewords" "B, PMAXUD";
    "66 0F 38 3C" "pmaxsb" SSE4_1 I8 Packed::Pmaxsb, "keeps the larger of signed bytes" "B, PMAXSB";
    "66 0F EE" "pmaxsw" SSE2 I16 Packed::Pmaxsw, "keeps the larger of signed words" "B, PMAXSW";
    "66 0F 38 3D" "pmaxsd" SSE4_1 I32 Packed::Pmaxsd, "keeps the larger of signed doublewords" "B, PMAXSD";
    "66 0F DA" "pminub" SSE2 I8 Packed::Pminub, "keeps the smaller of unsigned bytes" "B, PMINUB";
    "66 0F 38 3A" "pminuw" SSE4_1 I16 Packed::Pminuw, "keeps the smaller of unsigned words" "B, PMINUW";
    "66 0F 38 3B" "pminud" SSE4_1 I32 Packed::Pminud, "keeps the smaller of unsigned doublewords" "B, PMINUD";
    "66 0F 38 38" "pminsb" SSE4_1 I8 Packed::Pminsb, "keeps the smaller of signed bytes" "B, PMINSB";
    "66 0F EA" "pminsw" SSE2 I16 Packed::Pminsw, "keeps the smaller of signed words" "B, PMINSW";
    "66 0F 38 39" "pminsd" SSE4_1 I32 Packed::Pminsd, "keeps the smaller of signed doublewords" "B, PMINSD";
    "66 0F E0" "pavgb" SSE2 I8 Packed::Pavgb, "averages unsigned bytes, rounding up" "B, PAVGB/PAVGW";
    "66 0F E3" "pavgw" SSE2 I16 Packed::Pavgw, "averages unsigned words, rounding up" "B, PAVGB/PAVGW";
    "66 0F DB" "pand" SSE2 I32 Packed::Pand, "keeps the bits that are set in both operands" "B, PAND";
    "NP 0F 54" "andps" SSE F32 Packed::Pand, "keeps the bits that are set in both operands" "A, ANDPS";
    "66 0F 54" "andpd" SSE2 F64 Packed::Pand, "keeps the bits that are set in both operands" "A, ANDPD";
    "66 0F DF" "pandn" SSE2 X64 Packed::Pandn, "keeps the bits of the source that are not set in the destination" "B, PANDN";
    "NP 0F 55" "andnps" SSE F32 Packed::Pandn, "keeps the bits of the source that are not set in the destination" "A, ANDNPS";
    "66 0F 55" "andnpd" SSE2 F64 Packed::Pandn, "keeps the bits of the source that are not set in the destination" "A, ANDNPD";
    "66 0F EB" "por" SSE2 X64 Packed::Por, "sets the bits that are set in either operand" "B, POR";
    "NP 0F 56" "orps" SSE F32 Packed::Por, "sets the bits that are set in either operand" "B, ORPS";
    "66 0F 56" "orpd" SSE2 F64 Packed::Por, "sets the bits that are set in either operand" "B, ORPD";
    "66 0F EF" "pxor" SSE2 X64 Packed::Pxor, "sets the bits that are set in only one operand" "B, PXOR";
    "NP 0F 57" "xorps" SSE F32 Packed::Pxor, "sets the bits that are set in only one operand" "D, XORPS";
    "66 0F 57" "xorpd" SSE2 F64 Packed::Pxor, "sets the bits that are set in only one operand" "D, XORPD";
    "66 0F D5" "pmullw" SSE2 I16 Packed::Pmullw, "multiplies words and keeps the low halves" "B, PMULLW";
    "66 0F E5" "pmulhw" SSE2 I16 Packed::Pmulhw, "multiplies signed words and keeps the high halves" "B, PMULHW";
    "66 0F E4" "pmulhuw" SSE2 I16 Packed::Pmulhuw, "multiplies unsigned words and keeps the high halves" "B, PMULHUW";
    "66 0F F4" "pmuludq" SSE2 X64 Packed::Pmuludq, "multiplies the even unsigned doublewords to quadwords" "B, PMULUDQ";
    "66 0F 38 28" "pmuldq" SSE4_1 X64 Packed::Pmuldq, "multiplies the even signed doublewords to quadwords" "B, PMULDQ";
    "66 0F 38 40" "pmulld" SSE4_1 I32 Packed::Pmulld, "multiplies doublewords and keeps the low halves" "B, PMULLD";
    "66 0F F5" "pmaddwd" SSE2 I32 Packed::Pmaddwd, "multiplies signed words and adds neighbours to doublewords" "B, PMADDWD";
    "66 0F 38 04" "pmaddubsw" SSSE3 I16 Packed::Pmaddubsw, "multiplies unsigned with signed bytes and adds neighbours to words, stopping at the limits" "B, PMADDUBSW";
    "66 0F 38 0B" "pmulhrsw" SSSE3 I16 Packed::Pmulhrsw, "multiplies signed words, rounds, and keeps bits 30 to 15" "B, PMULHRSW";
    "66 0F F6" "psadbw" SSE2 I16 Packed::Psadbw, "adds up the absolute differences of eight bytes, twice" "B, PSADBW";
    "66 0F 63" "packsswb" SSE2 I8 Packed::Packsswb, "packs signed words to signed bytes, stopping at the limits" "B, PACKSSWB";
    "66 0F 6B" "packssdw" SSE2 I16 Packed::Packssdw, "packs signed doublewords to signed words, stopping at the limits" "B, PACKSSDW";
    "66 0F 67" "packuswb" SSE2 I8 Packed::Packuswb, "packs signed words to unsigned bytes, stopping at the limits" "B, PACKUSWB";
    "66 0F 38 2B" "packusdw" SSE4_1 I16 Packed::Packusdw, "packs signed doublewords to unsigned words, stopping at the limits" "B, PACKUSDW";
    "66 0F 60" "punpcklbw" SSE2 I16 Packed::Punpcklbw, "interleaves the low bytes" "B, PUNPCKLBW";
    "66 0F 61" "punpcklwd" SSE2 I32 Packed::Punpcklwd, "interleaves the low words" "B, PUNPCKLWD";
    "66 0F 62" "punpckldq" SSE2 X64 Packed::Punpckldq, "interleaves the low doublewords" "B, PUNPCKLDQ";
    "66 0F 6C" "punpcklqdq" SSE2 X64 Packed::Punpcklqdq, "interleaves the low quadwords" "B, PUNPCKLQDQ";
    "66 0F 68" "punpckhbw" SSE2 I16 Packed::Punpckhbw, "interleaves the high bytes" "B, PUNPCKHBW";
    "66 0F 69" "punpckhwd" SSE2 I32 Packed::Punpckhwd, "interleaves the high words" "B, PUNPCKHWD";
    "66 0F 6A" "punpckhdq" SSE2 X64 Packed::Punpckhdq, "interleaves the high doublewords" "B, PUNPCKHDQ";
    "66 0F 6D" "punpckhqdq" SSE2 X64 Packed::Punpckhqdq, "interleaves the high quadwords" "B, PUNPCKHQDQ";
    "66 0F 38 00" "pshufb" SSSE3 I8 Packed::Pshufb, "moves bytes to where the source says; a source byte with its sign set makes a zero" "B, PSHUFB";
    "66 0F 38 08" "psignb" SSSE3 I8 Packed::Psignb, "negates, keeps or clears bytes by the sign of the source" "B, PSIGNB";
    "66 0F 38 09" "psignw" SSSE3 I16 Packed::Psignw, "negates, keeps or clears words by the sign of the source" "B, PSIGNW";
    "66 0F 38 0A" "psignd" SSSE3 I32 Packed::Psignd, "negates, keeps or clears doublewords by the sign of the source" "B, PSIGND";
    "66 0F 38 01" "phaddw" SSSE3 I16 Packed::Phaddw, "adds neighbouring words" "B, PHADDW";
    "66 0F 38 02" "phaddd" SSSE3 I32 Packed::Phaddd, "adds neighbouring doublewords" "B, PHADDD";
    "66 0F 38 03" "phaddsw" SSSE3 I16 Packed::Phaddsw, "adds neighbouring words, stopping at the limits" "B, PHADDSW";
    "66 0F 38 05" "phsubw" SSSE3 I16 Packed::Phsubw, "subtracts neighbouring words" "B, PHSUBW";
    "66 0F 38 06" "phsubd" SSSE3 I32 Packed::Phsubd, "subtracts neighbouring doublewords" "B, PHSUBD";
    "66 0F 38 07" "phsubsw" SSSE3 I16 Packed::Phsubsw, "subtracts neighbouring words, stopping at the limits" "B, PHSUBSW";
    "NP 0F 14" "unpcklps" SSE F32 Packed::Punpckldq, "interleaves the low floats" "B, UNPCKLPS";
    "66 0F 14" "unpcklpd" SSE2 F64 Packed::Punpcklqdq, "interleaves the low doubles" "B, UNPCKLPD";
    "NP 0F 15" "unpckhps" SSE F32 Packed::Punpckhdq, "interleaves the high floats" "B, UNPCKHPS";
    "66 0F 15" "unpckhpd" SSE2 F64 Packed::Punpckhqdq, "interleaves the high doubles" "B, UNPCKHPD";
};

/// The destination becomes a function of the source.
pub(super) const UNARY_128: &[Form] = &rows! { packed, &[w(X), r(XM128)], " /r";
    "66 0F 38 1C" "pabsb" SSSE3 I8 Packed::Pabsb, "takes absolute values of signed bytes" "B, PABSB/PABSW/PABSD/PABSQ";
    "66 0F 38 1D" "pabsw" SSSE3 I16 Packed::Pabsw, "takes absolute values of signed words" "B, PABSB/PABSW/PABSD/PABSQ";
    "66 0F 38 1E" "pabsd" SSSE3 I32 Packed::Pabsd, "takes absolute values of signed doublewords" "B, PABSB/PABSW/PABSD/PABSQ";
    "66 0F 38 41" "phminposuw" SSE4_1 I16 Packed::Phminposuw, "finds the smallest unsigned word and its position" "B, PHMINPOSUW";
    "F3 0F 12" "movsldup" SSE3 X64 Packed::Movsldup, "copies each even float to itself and above" "B, MOVSLDUP";
    "F3 0F 16" "movshdup" SSE3 X64 Packed::Movshdup, "copies each odd float to itself and below" "B, MOVSHDUP";
};

pub(super) const UNARY_64: &[Form] = &rows! { packed, &[w(X), r(XM64)], " /r";
    "66 0F 38 20" "pmovsxbw" SSE4_1 I16 Packed::Pmovsxbw, "widens eight signed bytes to words" "B, PMOVSX";
    "66 0F 38 23" "pmovsxwd" SSE4_1 I32 Packed::Pmovsxwd, "widens four signed words to doublewords" "B, PMOVSX";
    "66 0F 38 25" "pmovsxdq" SSE4_1 X64 Packed::Pmovsxdq, "widens two signed doublewords to quadwords" "B, PMOVSX";
    "66 0F 38 30" "pmovzxbw" SSE4_1 I16 Packed::Pmovzxbw, "widens eight unsigned bytes to words" "B, PMOVZX";
    "66 0F 38 33" "pmovzxwd" SSE4_1 I32 Packed::Pmovzxwd, "widens four unsigned words to doublewords" "B, PMOVZX";
    "66 0F 38 35" "pmovzxdq" SSE4_1 X64 Packed::Pmovzxdq, "widens two unsigned doublewords to quadwords" "B, PMOVZX";
    "F2 0F 12" "movddup" SSE3 X64 Packed::Movddup, "copies the low double to both halves" "B, MOVDDUP";
};

pub(super) const UNARY_32: &[Form] = &rows! { packed, &[w(X), r(XM32)], " /r";
    "66 0F 38 21" "pmovsxbd" SSE4_1 I32 Packed::Pmovsxbd, "widens four signed bytes to doublewords" "B, PMOVSX";
    "66 0F 38 24" "pmovsxwq" SSE4_1 X64 Packed::Pmovsxwq, "widens two signed words to quadwords" "B, PMOVSX";
    "66 0F 38 31" "pmovzxbd" SSE4_1 I32 Packed::Pmovzxbd, "widens four unsigned bytes to doublewords" "B, PMOVZX";
    "66 0F 38 34" "pmovzxwq" SSE4_1 X64 Packed::Pmovzxwq, "widens two unsigned words to quadwords" "B, PMOVZX";
};

pub(super) const UNARY_16: &[Form] = &rows! { packed, &[w(X), r(XM16)], " /r";
    "66 0F 38 22" "pmovsxbq" SSE4_1 X64 Packed::Pmovsxbq, "widens two signed bytes to quadwords" "B, PMOVSX";
    "66 0F 38 32" "pmovzxbq" SSE4_1 X64 Packed::Pmovzxbq, "widens two unsigned bytes to quadwords" "B, PMOVZX";
};

pub(super) const SHIFTS_BY_VECTOR: &[Form] = &rows! { packed, &[rw(X), r(XM128)], " /r";
    "66 0F F1" "psllw" SSE2 I16 Packed::Psllw, "shifts words left; the count is the source's low half" "B, PSLLW/PSLLD/PSLLQ";
    "66 0F F2" "pslld" SSE2 I32 Packed::Pslld, "shifts doublewords left; the count is the source's low half" "B, PSLLW/PSLLD/PSLLQ";
    "66 0F F3" "psllq" SSE2 X64 Packed::Psllq, "shifts quadwords left; the count is the source's low half" "B, PSLLW/PSLLD/PSLLQ";
    "66 0F D1" "psrlw" SSE2 I16 Packed::Psrlw, "shifts words right, filling with zeros; the count is the source's low half" "B, PSRLW/PSRLD/PSRLQ";
    "66 0F D2" "psrld" SSE2 I32 Packed::Psrld, "shifts doublewords right, filling with zeros; the count is the source's low half" "B, PSRLW/PSRLD/PSRLQ";
    "66 0F D3" "psrlq" SSE2 X64 Packed::Psrlq, "shifts quadwords right, filling with zeros; the count is the source's low half" "B, PSRLW/PSRLD/PSRLQ";
    "66 0F E1" "psraw" SSE2 I16 Packed::Psraw, "shifts words right, copying the sign; the count is the source's low half" "B, PSRAW/PSRAD";
    "66 0F E2" "psrad" SSE2 I32 Packed::Psrad, "shifts doublewords right, copying the sign; the count is the source's low half" "B, PSRAW/PSRAD";
};

pub(super) const SHIFTS_BY_IMMEDIATE: &[Form] = &rows! { packed, &[rw(XRM), r(UIMM8)], " ib";
    "66 0F 71 /6" "psllw" SSE2 I16 Packed::PsllwImm, "shifts words left" "B, PSLLW/PSLLD/PSLLQ";
    "66 0F 72 /6" "pslld" SSE2 I32 Packed::PslldImm, "shifts doublewords left" "B, PSLLW/PSLLD/PSLLQ";
    "66 0F 73 /6" "psllq" SSE2 X64 Packed::PsllqImm, "shifts quadwords left" "B, PSLLW/PSLLD/PSLLQ";
    "66 0F 71 /2" "psrlw" SSE2 I16 Packed::PsrlwImm, "shifts words right, filling with zeros" "B, PSRLW/PSRLD/PSRLQ";
    "66 0F 72 /2" "psrld" SSE2 I32 Packed::PsrldImm, "shifts doublewords right, filling with zeros" "B, PSRLW/PSRLD/PSRLQ";
    "66 0F 73 /2" "psrlq" SSE2 X64 Packed::PsrlqImm, "shifts quadwords right, filling with zeros" "B, PSRLW/PSRLD/PSRLQ";
    "66 0F 71 /4" "psraw" SSE2 I16 Packed::PsrawImm, "shifts words right, copying the sign" "B, PSRAW/PSRAD";
    "66 0F 72 /4" "psrad" SSE2 I32 Packed::PsradImm, "shifts doublewords right, copying the sign" "B, PSRAW/PSRAD";
    "66 0F 73 /7" "pslldq" SSE2 X64 Packed::Pslldq, "shifts the whole left by bytes" "B, PSLLDQ";
    "66 0F 73 /3" "psrldq" SSE2 X64 Packed::Psrldq, "shifts the whole right by bytes" "B, PSRLDQ";
};

const XMM0: Implicit = Implicit { access: Access::Read, reg: Reg::new(RegKind::Xmm, 0) };

pub(super) const SHUFFLES_UNARY: &[Form] = &rows! { packed, &[w(X), r(XM128), r(UIMM8)], " /r ib";
    "66 0F 70" "pshufd" SSE2 I32 Packed::Pshufd, "picks four doublewords by the immediate" "B, PSHUFD";
    "F2 0F 70" "pshuflw" SSE2 I16 Packed::Pshuflw, "picks the low four words by the immediate" "B, PSHUFLW";
    "F3 0F 70" "pshufhw" SSE2 I16 Packed::Pshufhw, "picks the high four words by the immediate" "B, PSHUFHW";
};

pub(super) const SHUFFLES_BINARY: &[Form] = &rows! { packed, &[rw(X), r(XM128), r(UIMM8)], " /r ib";
    "NP 0F C6" "shufps" SSE F32 Packed::Shufps, "picks two floats of the destination and two of the source by the immediate" "B, SHUFPS";
    "66 0F C6" "shufpd" SSE2 F64 Packed::Shufpd, "picks a double of the destination and one of the source by the immediate" "B, SHUFPD";
    "66 0F 3A 0F" "palignr" SSSE3 X64 Packed::Palignr, "takes 16 bytes out of destination and source, from the byte that the immediate says" "B, PALIGNR";
    "66 0F 3A 0E" "pblendw" SSE4_1 I16 Packed::Pblendw, "takes words from the source where the immediate has bits set" "B, PBLENDW";
    "66 0F 3A 0C" "blendps" SSE4_1 F32 Packed::Blendps, "takes floats from the source where the immediate has bits set" "A, BLENDPS";
    "66 0F 3A 0D" "blendpd" SSE4_1 F64 Packed::Blendpd, "takes doubles from the source where the immediate has bits set" "A, BLENDPD";
    "66 0F 3A 42" "mpsadbw" SSE4_1 X64 Packed::Mpsadbw, "sums absolute differences of four bytes at eight places" "B, MPSADBW";
};

pub(super) const SHUFFLES_PLACES: &[Form] = &[
    Form { mnemonic: "insertps", feature: feature::SSE4_1, elements: F32, operands: &[rw(X), r(XRM), r(UIMM8)], encoding: "66 0F 3A 21 /r ib", summary: "copies a float to a place and clears others, by the immediate", source: "SDM Vol. 2A, INSERTPS", ..packed(Packed::Insertps) },
    Form { mnemonic: "insertps", feature: feature::SSE4_1, elements: F32, operands: &[rw(X), r(M32), r(UIMM8)], encoding: "66 0F 3A 21 /r ib", summary: "copies a float to a place and clears others, by the immediate", source: "SDM Vol. 2A, INSERTPS", ..packed(Packed::InsertpsMem) },
    Form { mnemonic: "pinsrb", feature: feature::SSE4_1, elements: I8, operands: &[rw(X), r(Pattern::RmNarrow(Width::W32, Width::W8)), r(UIMM8)], encoding: "66 0F 3A 20 /r ib", summary: "replaces a byte", source: "SDM Vol. 2B, PINSRB/PINSRD/PINSRQ", ..packed(Packed::Pinsrb) },
    Form { mnemonic: "pinsrw", feature: feature::SSE2, elements: I16, operands: &[rw(X), r(Pattern::RmNarrow(Width::W32, Width::W16)), r(UIMM8)], encoding: "66 0F C4 /r ib", summary: "replaces a word", source: "SDM Vol. 2B, PINSRW", ..packed(Packed::Pinsrw) },
    Form { mnemonic: "pinsrd", feature: feature::SSE4_1, elements: I32, operands: &[rw(X), r(RM32), r(UIMM8)], encoding: "66 0F 3A 22 /r ib", summary: "replaces a doubleword", source: "SDM Vol. 2B, PINSRB/PINSRD/PINSRQ", ..packed(Packed::Pinsrd) },
    Form { mnemonic: "pinsrq", feature: feature::SSE4_1, operands: &[rw(X), r(RM64), r(UIMM8)], encoding: "66 REX.W + 0F 3A 22 /r ib", summary: "replaces a quadword", source: "SDM Vol. 2B, PINSRB/PINSRD/PINSRQ", ..packed(Packed::Pinsrq) },
    Form { mnemonic: "pblendvb", feature: feature::SSE4_1, operands: &[rw(X), r(XM128), r(Pattern::Xmm0)], encoding: "66 0F 38 10 /r", summary: "takes bytes from the source where XMM0 has their sign set", source: "SDM Vol. 2B, PBLENDVB", ..vector(Vector::BlendByMask(Width::W8)) },
    Form { mnemonic: "blendvps", feature: feature::SSE4_1, elements: F32, operands: &[rw(X), r(XM128), r(Pattern::Xmm0)], encoding: "66 0F 38 14 /r", summary: "takes floats from the source where XMM0 has their sign set", source: "SDM Vol. 2A, BLENDVPS", ..vector(Vector::BlendByMask(Width::W32)) },
    Form { mnemonic: "blendvpd", feature: feature::SSE4_1, elements: F64, operands: &[rw(X), r(XM128), r(Pattern::Xmm0)], encoding: "66 0F 38 15 /r", summary: "takes doubles from the source where XMM0 has their sign set", source: "SDM Vol. 2A, BLENDVPD", ..vector(Vector::BlendByMask(Width::W64)) },
    Form { mnemonic: "pblendvb", feature: feature::SSE4_1, operands: &[rw(X), r(XM128)], implicit: &[XMM0], encoding: "66 0F 38 10 /r", accepted_only: true, summary: "takes bytes from the source where XMM0 has their sign set", source: "SDM Vol. 2B, PBLENDVB", ..vector(Vector::BlendByMask(Width::W8)) },
    Form { mnemonic: "blendvps", feature: feature::SSE4_1, elements: F32, operands: &[rw(X), r(XM128)], implicit: &[XMM0], encoding: "66 0F 38 14 /r", accepted_only: true, summary: "takes floats from the source where XMM0 has their sign set", source: "SDM Vol. 2A, BLENDVPS", ..vector(Vector::BlendByMask(Width::W32)) },
    Form { mnemonic: "blendvpd", feature: feature::SSE4_1, elements: F64, operands: &[rw(X), r(XM128)], implicit: &[XMM0], encoding: "66 0F 38 15 /r", accepted_only: true, summary: "takes doubles from the source where XMM0 has their sign set", source: "SDM Vol. 2A, BLENDVPD", ..vector(Vector::BlendByMask(Width::W64)) },
];

pub(super) const MOVES: &[Form] = &[
    Form { mnemonic: "movaps", feature: feature::SSE, elements: F32, operands: &[w(X), r(XM128)], encoding: "NP 0F 28 /r", summary: "copies four floats; memory must be aligned to 16 bytes", source: "SDM Vol. 2B, MOVAPS", ..vector(Vector::Move) },
    Form { mnemonic: "movaps", feature: feature::SSE, elements: F32, operands: &[w(XM128), r(X)], encoding: "NP 0F 29 /r", summary: "copies four floats; memory must be aligned to 16 bytes", source: "SDM Vol. 2B, MOVAPS", ..vector(Vector::Move) },
    Form { mnemonic: "movapd", feature: feature::SSE2, elements: F64, operands: &[w(X), r(XM128)], encoding: "66 0F 28 /r", summary: "copies two doubles; memory must be aligned to 16 bytes", source: "SDM Vol. 2B, MOVAPD", ..vector(Vector::Move) },
    Form { mnemonic: "movapd", feature: feature::SSE2, elements: F64, operands: &[w(XM128), r(X)], encoding: "66 0F 29 /r", summary: "copies two doubles; memory must be aligned to 16 bytes", source: "SDM Vol. 2B, MOVAPD", ..vector(Vector::Move) },
    Form { mnemonic: "movdqa", feature: feature::SSE2, operands: &[w(X), r(XM128)], encoding: "66 0F 6F /r", summary: "copies 128 bits; memory must be aligned to 16 bytes", source: "SDM Vol. 2B, MOVDQA", ..vector(Vector::Move) },
    Form { mnemonic: "movdqa", feature: feature::SSE2, operands: &[w(XM128), r(X)], encoding: "66 0F 7F /r", summary: "copies 128 bits; memory must be aligned to 16 bytes", source: "SDM Vol. 2B, MOVDQA", ..vector(Vector::Move) },
    Form { mnemonic: "movups", feature: feature::SSE, elements: F32, operands: &[w(X), r(XU)], encoding: "NP 0F 10 /r", summary: "copies four floats at any address", source: "SDM Vol. 2B, MOVUPS", ..vector(Vector::Move) },
    Form { mnemonic: "movups", feature: feature::SSE, elements: F32, operands: &[w(XU), r(X)], encoding: "NP 0F 11 /r", summary: "copies four floats at any address", source: "SDM Vol. 2B, MOVUPS", ..vector(Vector::Move) },
    Form { mnemonic: "movupd", feature: feature::SSE2, elements: F64, operands: &[w(X), r(XU)], encoding: "66 0F 10 /r", summary: "copies two doubles at any address", source: "SDM Vol. 2B, MOVUPD", ..vector(Vector::Move) },
    Form { mnemonic: "movupd", feature: feature::SSE2, elements: F64, operands: &[w(XU), r(X)], encoding: "66 0F 11 /r", summary: "copies two doubles at any address", source: "SDM Vol. 2B, MOVUPD", ..vector(Vector::Move) },
    Form { mnemonic: "movdqu", feature: feature::SSE2, operands: &[w(X), r(XU)], encoding: "F3 0F 6F /r", summary: "copies 128 bits at any address", source: "SDM Vol. 2B, MOVDQU", ..vector(Vector::Move) },
    Form { mnemonic: "movdqu", feature: feature::SSE2, operands: &[w(XU), r(X)], encoding: "F3 0F 7F /r", summary: "copies 128 bits at any address", source: "SDM Vol. 2B, MOVDQU", ..vector(Vector::Move) },
    Form { mnemonic: "lddqu", feature: feature::SSE3, operands: &[w(X), r(Pattern::Mem(Width::W128))], encoding: "F2 0F F0 /r", summary: "loads 128 bits from any address", source: "SDM Vol. 2A, LDDQU", ..vector(Vector::Move) },
    Form { mnemonic: "movntdqa", feature: feature::SSE4_1, operands: &[w(X), r(Pattern::MemAligned)], encoding: "66 0F 38 2A /r", summary: "loads 128 aligned bits past the caches", source: "SDM Vol. 2B, MOVNTDQA", ..vector(Vector::Move) },
    Form { mnemonic: "movntps", feature: feature::SSE, elements: F32, operands: &[w(Pattern::MemAligned), r(X)], encoding: "NP 0F 2B /r", summary: "stores four floats past the caches", source: "SDM Vol. 2B, MOVNTPS", ..vector(Vector::Move) },
    Form { mnemonic: "movntpd", feature: feature::SSE2, elements: F64, operands: &[w(Pattern::MemAligned), r(X)], encoding: "66 0F 2B /r", summary: "stores two doubles past the caches", source: "SDM Vol. 2B, MOVNTPD", ..vector(Vector::Move) },
    Form { mnemonic: "movntdq", feature: feature::SSE2, operands: &[w(Pattern::MemAligned), r(X)], encoding: "66 0F E7 /r", summary: "stores 128 bits past the caches", source: "SDM Vol. 2B, MOVNTDQ", ..vector(Vector::Move) },
    Form { mnemonic: "movss", feature: feature::SSE, elements: F32, operands: &[rw(X), r(XRM)], encoding: "F3 0F 10 /r", summary: "copies the low float and keeps what is above it", source: "SDM Vol. 2B, MOVSS", ..vector(Vector::MoveScalar(Width::W32)) },
    Form { mnemonic: "movss", feature: feature::SSE, elements: F32, operands: &[w(X), r(M32)], encoding: "F3 0F 10 /r", summary: "loads a float and clears what is above it", source: "SDM Vol. 2B, MOVSS", ..vector(Vector::MoveScalar(Width::W32)) },
    Form { mnemonic: "movss", feature: feature::SSE, elements: F32, operands: &[w(M32), r(X)], encoding: "F3 0F 11 /r", summary: "stores the low float", source: "SDM Vol. 2B, MOVSS", ..vector(Vector::MoveScalar(Width::W32)) },
    Form { mnemonic: "movss", feature: feature::SSE, elements: F32, operands: &[rw(XRM), r(X)], accepted_only: true, encoding: "F3 0F 11 /r", summary: "copies the low float and keeps what is above it", source: "SDM Vol. 2B, MOVSS", ..vector(Vector::MoveScalar(Width::W32)) },
    Form { mnemonic: "movsd", feature: feature::SSE2, elements: F64, operands: &[rw(X), r(XRM)], encoding: "F2 0F 10 /r", summary: "copies the low double and keeps what is above it", source: "SDM Vol. 2B, MOVSD", ..vector(Vector::MoveScalar(Width::W64)) },
    Form { mnemonic: "movsd", feature: feature::SSE2, elements: F64, operands: &[w(X), r(M64)], encoding: "F2 0F 10 /r", summary: "loads a double and clears what is above it", source: "SDM Vol. 2B, MOVSD", ..vector(Vector::MoveScalar(Width::W64)) },
    Form { mnemonic: "movsd", feature: feature::SSE2, elements: F64, operands: &[w(M64), r(X)], encoding: "F2 0F 11 /r", summary: "stores the low double", source: "SDM Vol. 2B, MOVSD", ..vector(Vector::MoveScalar(Width::W64)) },
    Form { mnemonic: "movsd", feature: feature::SSE2, elements: F64, operands: &[rw(XRM), r(X)], accepted_only: true, encoding: "F2 0F 11 /r", summary: "copies the low double and keeps what is above it", source: "SDM Vol. 2B, MOVSD", ..vector(Vector::MoveScalar(Width::W64)) },
    Form { mnemonic: "movd", feature: feature::SSE2, operands: &[w(X), r(RM32)], encoding: "66 0F 6E /r", summary: "copies 32 bits to a vector register and clears what is above them", source: "SDM Vol. 2B, MOVD/MOVQ", ..vector(Vector::MoveElement(Width::W32)) },
    Form { mnemonic: "movd", feature: feature::SSE2, operands: &[w(RM32), r(X)], encoding: "66 0F 7E /r", summary: "copies the low 32 bits of a vector register", source: "SDM Vol. 2B, MOVD/MOVQ", ..vector(Vector::MoveElement(Width::W32)) },
    Form { mnemonic: "movq", feature: feature::SSE2, operands: &[w(X), r(XM64)], encoding: "F3 0F 7E /r", summary: "copies 64 bits and clears what is above them", source: "SDM Vol. 2B, MOVQ", ..vector(Vector::MoveElement(Width::W64)) },
    Form { mnemonic: "movq", feature: feature::SSE2, operands: &[w(XM64), r(X)], encoding: "66 0F D6 /r", summary: "copies the low 64 bits; in a register it clears what is above them", source: "SDM Vol. 2B, MOVQ", ..vector(Vector::MoveElement(Width::W64)) },
    Form { mnemonic: "movq", feature: feature::SSE2, operands: &[w(X), r(RM64)], encoding: "66 REX.W + 0F 6E /r", summary: "copies 64 bits to a vector register and clears what is above them", source: "SDM Vol. 2B, MOVD/MOVQ", ..vector(Vector::MoveElement(Width::W64)) },
    Form { mnemonic: "movq", feature: feature::SSE2, operands: &[w(RM64), r(X)], encoding: "66 REX.W + 0F 7E /r", summary: "copies the low 64 bits of a vector register", source: "SDM Vol. 2B, MOVD/MOVQ", ..vector(Vector::MoveElement(Width::W64)) },
    Form { mnemonic: "movd", feature: feature::SSE2, operands: &[w(X), r(Pattern::RegRm(Width::W64))], accepted_only: true, encoding: "66 REX.W + 0F 6E /r", summary: "copies 64 bits to a vector register and clears what is above them", source: "SDM Vol. 2B, MOVD/MOVQ", ..vector(Vector::MoveElement(Width::W64)) },
    Form { mnemonic: "movd", feature: feature::SSE2, operands: &[w(Pattern::RegRm(Width::W64)), r(X)], accepted_only: true, encoding: "66 REX.W + 0F 7E /r", summary: "copies the low 64 bits of a vector register", source: "SDM Vol. 2B, MOVD/MOVQ", ..vector(Vector::MoveElement(Width::W64)) },
    Form { mnemonic: "movlps", feature: feature::SSE, elements: F32, operands: &[rw(X), r(M64)], encoding: "NP 0F 12 /r", summary: "loads two floats into the low half", source: "SDM Vol. 2B, MOVLPS", ..packed(Packed::LoadLow) },
    Form { mnemonic: "movlps", feature: feature::SSE, elements: F32, operands: &[w(M64), r(X)], encoding: "NP 0F 13 /r", summary: "stores the low half", source: "SDM Vol. 2B, MOVLPS", ..vector(Vector::StoreHalf { high: false }) },
    Form { mnemonic: "movlpd", feature: feature::SSE2, elements: F64, operands: &[rw(X), r(M64)], encoding: "66 0F 12 /r", summary: "loads a double into the low half", source: "SDM Vol. 2B, MOVLPD", ..packed(Packed::LoadLow) },
    Form { mnemonic: "movlpd", feature: feature::SSE2, elements: F64, operands: &[w(M64), r(X)], encoding: "66 0F 13 /r", summary: "stores the low half", source: "SDM Vol. 2B, MOVLPD", ..vector(Vector::StoreHalf { high: false }) },
    Form { mnemonic: "movhps", feature: feature::SSE, elements: F32, operands: &[rw(X), r(M64)], encoding: "NP 0F 16 /r", summary: "loads two floats into the high half", source: "SDM Vol. 2B, MOVHPS", ..packed(Packed::LoadHigh) },
    Form { mnemonic: "movhps", feature: feature::SSE, elements: F32, operands: &[w(M64), r(X)], encoding: "NP 0F 17 /r", summary: "stores the high half", source: "SDM Vol. 2B, MOVHPS", ..vector(Vector::StoreHalf { high: true }) },
    Form { mnemonic: "movhpd", feature: feature::SSE2, elements: F64, operands: &[rw(X), r(M64)], encoding: "66 0F 16 /r", summary: "loads a double into the high half", source: "SDM Vol. 2B, MOVHPD", ..packed(Packed::LoadHigh) },
    Form { mnemonic: "movhpd", feature: feature::SSE2, elements: F64, operands: &[w(M64), r(X)], encoding: "66 0F 17 /r", summary: "stores the high half", source: "SDM Vol. 2B, MOVHPD", ..vector(Vector::StoreHalf { high: true }) },
    Form { mnemonic: "movhlps", feature: feature::SSE, elements: F32, operands: &[rw(X), r(XRM)], encoding: "NP 0F 12 /r", summary: "copies the source's high half to the low half", source: "SDM Vol. 2B, MOVHLPS", ..packed(Packed::Movhlps) },
    Form { mnemonic: "movlhps", feature: feature::SSE, elements: F32, operands: &[rw(X), r(XRM)], encoding: "NP 0F 16 /r", summary: "copies the source's low half to the high half", source: "SDM Vol. 2B, MOVLHPS", ..packed(Packed::LoadHigh) },
    Form { mnemonic: "movmskps", feature: feature::SSE, elements: F32, operands: &[w(R32), r(XRM)], encoding: "NP 0F 50 /r", summary: "gathers the signs of four floats", source: "SDM Vol. 2B, MOVMSKPS", ..vector(Vector::MoveMask(Width::W32)) },
    Form { mnemonic: "movmskps", feature: feature::SSE, elements: F32, operands: &[w(R64), r(XRM)], encoding: "NP REX.W + 0F 50 /r", summary: "gathers the signs of four floats", source: "SDM Vol. 2B, MOVMSKPS", ..vector(Vector::MoveMask(Width::W32)) },
    Form { mnemonic: "movmskpd", feature: feature::SSE2, elements: F64, operands: &[w(R32), r(XRM)], encoding: "66 0F 50 /r", summary: "gathers the signs of two doubles", source: "SDM Vol. 2B, MOVMSKPD", ..vector(Vector::MoveMask(Width::W64)) },
    Form { mnemonic: "movmskpd", feature: feature::SSE2, elements: F64, operands: &[w(R64), r(XRM)], encoding: "66 REX.W + 0F 50 /r", summary: "gathers the signs of two doubles", source: "SDM Vol. 2B, MOVMSKPD", ..vector(Vector::MoveMask(Width::W64)) },
    Form { mnemonic: "pmovmskb", feature: feature::SSE2, operands: &[w(R32), r(XRM)], encoding: "66 0F D7 /r", summary: "gathers the signs of sixteen bytes", source: "SDM Vol. 2B, PMOVMSKB", ..vector(Vector::MoveMask(Width::W8)) },
    Form { mnemonic: "pmovmskb", feature: feature::SSE2, operands: &[w(R64), r(XRM)], encoding: "66 REX.W + 0F D7 /r", summary: "gathers the signs of sixteen bytes", source: "SDM Vol. 2B, PMOVMSKB", ..vector(Vector::MoveMask(Width::W8)) },
    Form { mnemonic: "maskmovdqu", feature: feature::SSE2, operands: &[r(X), r(XRM)], implicit: &[reads(Width::W64, DI)], encoding: "66 0F F7 /r", summary: "stores the bytes whose mask has its sign set at RDI", source: "SDM Vol. 2B, MASKMOVDQU", ..vector(Vector::MaskedStore) },
    Form { mnemonic: "maskmovdqu", feature: feature::SSE2, operands: &[r(X), r(XRM), w(Pattern::MaskedDestination)], encoding: "66 0F F7 /r", summary: "stores the bytes whose mask has its sign set at the address that is written out", source: "SDM Vol. 2B, MASKMOVDQU", ..vector(Vector::MaskedStore) },
    Form { mnemonic: "pextrb", feature: feature::SSE4_1, operands: &[w(Pattern::RmNarrow(Width::W32, Width::W8)), r(X), r(UIMM8)], encoding: "66 0F 3A 14 /r ib", summary: "copies a byte out", source: "SDM Vol. 2B, PEXTRB/PEXTRD/PEXTRQ", ..vector(Vector::Extract(Width::W8)) },
    Form { mnemonic: "pextrw", feature: feature::SSE2, operands: &[w(R32), r(XRM), r(UIMM8)], encoding: "66 0F C5 /r ib", summary: "copies a word out", source: "SDM Vol. 2B, PEXTRW", ..vector(Vector::Extract(Width::W16)) },
    Form { mnemonic: "pextrw", feature: feature::SSE4_1, operands: &[w(Pattern::RmNarrow(Width::W32, Width::W16)), r(X), r(UIMM8)], encoding: "66 0F 3A 15 /r ib", summary: "copies a word out", source: "SDM Vol. 2B, PEXTRW", ..vector(Vector::Extract(Width::W16)) },
    Form { mnemonic: "pextrd", feature: feature::SSE4_1, operands: &[w(RM32), r(X), r(UIMM8)], encoding: "66 0F 3A 16 /r ib", summary: "copies a doubleword out", source: "SDM Vol. 2B, PEXTRB/PEXTRD/PEXTRQ", ..vector(Vector::Extract(Width::W32)) },
    Form { mnemonic: "pextrq", feature: feature::SSE4_1, operands: &[w(RM64), r(X), r(UIMM8)], encoding: "66 REX.W + 0F 3A 16 /r ib", summary: "copies a quadword out", source: "SDM Vol. 2B, PEXTRB/PEXTRD/PEXTRQ", ..vector(Vector::Extract(Width::W64)) },
    Form { mnemonic: "extractps", feature: feature::SSE4_1, elements: F32, operands: &[w(RM32), r(X), r(UIMM8)], encoding: "66 0F 3A 17 /r ib", summary: "copies a float out", source: "SDM Vol. 2A, EXTRACTPS", ..vector(Vector::Extract(Width::W32)) },
];

pub(super) const FLOATS: &[Form] = &[
    Form { mnemonic: "addss", feature: feature::SSE, elements: F32, operands: &[rw(X), r(XM32)], encoding: "F3 0F 58 /r", summary: "adds a float", source: "SDM Vol. 2A, ADDSS", ..vector(Vector::Float(FloatOp::Add, Shape::Ss)) },
    Form { mnemonic: "addsd", feature: feature::SSE2, elements: F64, operands: &[rw(X), r(XM64)], encoding: "F2 0F 58 /r", summary: "adds a double", source: "SDM Vol. 2A, ADDSD", ..vector(Vector::Float(FloatOp::Add, Shape::Sd)) },
    Form { mnemonic: "addps", feature: feature::SSE, elements: F32, operands: &[rw(X), r(XM128)], encoding: "NP 0F 58 /r", summary: "adds four floats", source: "SDM Vol. 2A, ADDPS", ..vector(Vector::Float(FloatOp::Add, Shape::Ps)) },
    Form { mnemonic: "addpd", feature: feature::SSE2, elements: F64, operands: &[rw(X), r(XM128)], encoding: "66 0F 58 /r", summary: "adds two doubles", source: "SDM Vol. 2A, ADDPD", ..vector(Vector::Float(FloatOp::Add, Shape::Pd)) },
    Form { mnemonic: "mulss", feature: feature::SSE, elements: F32, operands: &[rw(X), r(XM32)], encoding: "F3 0F 59 /r", summary: "multiplies a float", source: "SDM Vol. 2B, MULSS", ..vector(Vector::Float(FloatOp::Mul, Shape::Ss)) },
    Form { mnemonic: "mulsd", feature: feature::SSE2, elements: F64, operands: &[rw(X), r(XM64)], encoding: "F2 0F 59 /r", summary: "multiplies a double", source: "SDM Vol. 2B, MULSD", ..vector(Vector::Float(FloatOp::Mul, Shape::Sd)) },
    Form { mnemonic: "mulps", feature: feature::SSE, elements: F32, operands: &[rw(X), r(XM128)], encoding: "NP 0F 59 /r", summary: "multiplies four floats", source: "SDM Vol. 2B, MULPS", ..vector(Vector::Float(FloatOp::Mul, Shape::Ps)) },
    Form { mnemonic: "mulpd", feature: feature::SSE2, elements: F64, operands: &[rw(X), r(XM128)], encoding: "66 0F 59 /r", summary: "multiplies two doubles", source: "SDM Vol. 2B, MULPD", ..vector(Vector::Float(FloatOp::Mul, Shape::Pd)) },
    Form { mnemonic: "subss", feature: feature::SSE, elements: F32, operands: &[rw(X), r(XM32)], encoding: "F3 0F 5C /r", summary: "subtracts a float", source: "SDM Vol. 2B, SUBSS", ..vector(Vector::Float(FloatOp::Sub, Shape::Ss)) },
    Form { mnemonic: "subsd", feature: feature::SSE2, elements: F64, operands: &[rw(X), r(XM64)], encoding: "F2 0F 5C /r", summary: "subtracts a double", source: "SDM Vol. 2B, SUBSD", ..vector(Vector::Float(FloatOp::Sub, Shape::Sd)) },
    Form { mnemonic: "subps", feature: feature::SSE, elements: F32, operands: &[rw(X), r(XM128)], encoding: "NP 0F 5C /r", summary: "subtracts four floats", source: "SDM Vol. 2B, SUBPS", ..vector(Vector::Float(FloatOp::Sub, Shape::Ps)) },
    Form { mnemonic: "subpd", feature: feature::SSE2, elements: F64, operands: &[rw(X), r(XM128)], encoding: "66 0F 5C /r", summary: "subtracts two doubles", source: "SDM Vol. 2B, SUBPD", ..vector(Vector::Float(FloatOp::Sub, Shape::Pd)) },
    Form { mnemonic: "minss", feature: feature::SSE, elements: F32, operands: &[rw(X), r(XM32)], encoding: "F3 0F 5D /r", summary: "keeps the smaller of floats", source: "SDM Vol. 2B, MINSS", ..vector(Vector::Float(FloatOp::Min, Shape::Ss)) },
    Form { mnemonic: "minsd", feature: feature::SSE2, elements: F64, operands: &[rw(X), r(XM64)], encoding: "F2 0F 5D /r", summary: "keeps the smaller of doubles", source: "SDM Vol. 2B, MINSD", ..vector(Vector::Float(FloatOp::Min, Shape::Sd)) },
    Form { mnemonic: "minps", feature: feature::SSE, elements: F32, operands: &[rw(X), r(XM128)], encoding: "NP 0F 5D /r", summary: "keeps the smaller of four floats", source: "SDM Vol. 2B, MINPS", ..vector(Vector::Float(FloatOp::Min, Shape::Ps)) },
    Form { mnemonic: "minpd", feature: feature::SSE2, elements: F64, operands: &[rw(X), r(XM128)], encoding: "66 0F 5D /r", summary: "keeps the smaller of two doubles", source: "SDM Vol. 2B, MINPD", ..vector(Vector::Float(FloatOp::Min, Shape::Pd)) },
    Form { mnemonic: "divss", feature: feature::SSE, elements: F32, operands: &[rw(X), r(XM32)], encoding: "F3 0F 5E /r", summary: "divides a float", source: "SDM Vol. 2A, DIVSS", ..vector(Vector::Float(FloatOp::Div, Shape::Ss)) },
    Form { mnemonic: "divsd", feature: feature::SSE2, elements: F64, operands: &[rw(X), r(XM64)], encoding: "F2 0F 5E /r", summary: "divides a double", source: "SDM Vol. 2A, DIVSD", ..vector(Vector::Float(FloatOp::Div, Shape::Sd)) },
    Form { mnemonic: "divps", feature: feature::SSE, elements: F32, operands: &[rw(X), r(XM128)], encoding: "NP 0F 5E /r", summary: "divides four floats", source: "SDM Vol. 2A, DIVPS", ..vector(Vector::Float(FloatOp::Div, Shape::Ps)) },
    Form { mnemonic: "divpd", feature: feature::SSE2, elements: F64, operands: &[rw(X), r(XM128)], encoding: "66 0F 5E /r", summary: "divides two doubles", source: "SDM Vol. 2A, DIVPD", ..vector(Vector::Float(FloatOp::Div, Shape::Pd)) },
    Form { mnemonic: "maxss", feature: feature::SSE, elements: F32, operands: &[rw(X), r(XM32)], encoding: "F3 0F 5F /r", summary: "keeps the larger of floats", source: "SDM Vol. 2B, MAXSS", ..vector(Vector::Float(FloatOp::Max, Shape::Ss)) },
    Form { mnemonic: "maxsd", feature: feature::SSE2, elements: F64, operands: &[rw(X), r(XM64)], encoding: "F2 0F 5F /r", summary: "keeps the larger of doubles", source: "SDM Vol. 2B, MAXSD", ..vector(Vector::Float(FloatOp::Max, Shape::Sd)) },
    Form { mnemonic: "maxps", feature: feature::SSE, elements: F32, operands: &[rw(X), r(XM128)], encoding: "NP 0F 5F /r", summary: "keeps the larger of four floats", source: "SDM Vol. 2B, MAXPS", ..vector(Vector::Float(FloatOp::Max, Shape::Ps)) },
    Form { mnemonic: "maxpd", feature: feature::SSE2, elements: F64, operands: &[rw(X), r(XM128)], encoding: "66 0F 5F /r", summary: "keeps the larger of two doubles", source: "SDM Vol. 2B, MAXPD", ..vector(Vector::Float(FloatOp::Max, Shape::Pd)) },
    Form { mnemonic: "sqrtss", feature: feature::SSE, elements: F32, operands: &[rw(X), r(XM32)], encoding: "F3 0F 51 /r", summary: "takes the square root of a float", source: "SDM Vol. 2B, SQRTSS", ..vector(Vector::Float(FloatOp::Sqrt, Shape::Ss)) },
    Form { mnemonic: "sqrtsd", feature: feature::SSE2, elements: F64, operands: &[rw(X), r(XM64)], encoding: "F2 0F 51 /r", summary: "takes the square root of a double", source: "SDM Vol. 2B, SQRTSD", ..vector(Vector::Float(FloatOp::Sqrt, Shape::Sd)) },
    Form { mnemonic: "sqrtps", feature: feature::SSE, elements: F32, operands: &[w(X), r(XM128)], encoding: "NP 0F 51 /r", summary: "takes the square root of four floats", source: "SDM Vol. 2B, SQRTPS", ..vector(Vector::Float(FloatOp::Sqrt, Shape::Ps)) },
    Form { mnemonic: "sqrtpd", feature: feature::SSE2, elements: F64, operands: &[w(X), r(XM128)], encoding: "66 0F 51 /r", summary: "takes the square root of two doubles", source: "SDM Vol. 2B, SQRTPD", ..vector(Vector::Float(FloatOp::Sqrt, Shape::Pd)) },
    Form { mnemonic: "rsqrtss", feature: feature::SSE, elements: F32, operands: &[rw(X), r(XM32)], encoding: "F3 0F 52 /r", summary: "approximates one by the square root of a float, to 12 bits", source: "SDM Vol. 2B, RSQRTSS", ..vector(Vector::Float(FloatOp::Rsqrt, Shape::Ss)) },
    Form { mnemonic: "rsqrtps", feature: feature::SSE, elements: F32, operands: &[w(X), r(XM128)], encoding: "NP 0F 52 /r", summary: "approximates one by the square root of four floats, to 12 bits", source: "SDM Vol. 2B, RSQRTPS", ..vector(Vector::Float(FloatOp::Rsqrt, Shape::Ps)) },
    Form { mnemonic: "rcpss", feature: feature::SSE, elements: F32, operands: &[rw(X), r(XM32)], encoding: "F3 0F 53 /r", summary: "approximates one by a float, to 12 bits", source: "SDM Vol. 2B, RCPSS", ..vector(Vector::Float(FloatOp::Rcp, Shape::Ss)) },
    Form { mnemonic: "rcpps", feature: feature::SSE, elements: F32, operands: &[w(X), r(XM128)], encoding: "NP 0F 53 /r", summary: "approximates one by four floats, to 12 bits", source: "SDM Vol. 2B, RCPPS", ..vector(Vector::Float(FloatOp::Rcp, Shape::Ps)) },
    Form { mnemonic: "addsubps", feature: feature::SSE3, elements: F32, operands: &[rw(X), r(XM128)], encoding: "F2 0F D0 /r", summary: "subtracts the even and adds the odd of four floats", source: "SDM Vol. 2A, ADDSUBPS", ..vector(Vector::Float(FloatOp::AddSub, Shape::Ps)) },
    Form { mnemonic: "addsubpd", feature: feature::SSE3, elements: F64, operands: &[rw(X), r(XM128)], encoding: "66 0F D0 /r", summary: "subtracts the even and adds the odd of two doubles", source: "SDM Vol. 2A, ADDSUBPD", ..vector(Vector::Float(FloatOp::AddSub, Shape::Pd)) },
    Form { mnemonic: "haddps", feature: feature::SSE3, elements: F32, operands: &[rw(X), r(XM128)], encoding: "F2 0F 7C /r", summary: "adds neighbours of four floats", source: "SDM Vol. 2A, HADDPS", ..vector(Vector::Float(FloatOp::HorizontalAdd, Shape::Ps)) },
    Form { mnemonic: "haddpd", feature: feature::SSE3, elements: F64, operands: &[rw(X), r(XM128)], encoding: "66 0F 7C /r", summary: "adds neighbours of two doubles", source: "SDM Vol. 2A, HADDPD", ..vector(Vector::Float(FloatOp::HorizontalAdd, Shape::Pd)) },
    Form { mnemonic: "hsubps", feature: feature::SSE3, elements: F32, operands: &[rw(X), r(XM128)], encoding: "F2 0F 7D /r", summary: "subtracts neighbours of four floats", source: "SDM Vol. 2A, HSUBPS", ..vector(Vector::Float(FloatOp::HorizontalSub, Shape::Ps)) },
    Form { mnemonic: "hsubpd", feature: feature::SSE3, elements: F64, operands: &[rw(X), r(XM128)], encoding: "66 0F 7D /r", summary: "subtracts neighbours of two doubles", source: "SDM Vol. 2A, HSUBPD", ..vector(Vector::Float(FloatOp::HorizontalSub, Shape::Pd)) },
];

const COMPARE_FLAGS: FlagEffects = FlagEffects {
    modified: flag::ZF.with(flag::PF).with(flag::CF),
    cleared: flag::OF.with(flag::SF).with(flag::AF),
    ..FlagEffects::NONE
};

pub(super) const COMPARES: &[Form] = &[
    Form { mnemonic: "cmpss", feature: feature::SSE, elements: X32, operands: &[rw(X), r(XM32), r(UIMM8)], encoding: "F3 0F C2 /r ib", summary: "compares a float as the immediate says; ones where it holds, else zeros", source: "SDM Vol. 2A, CMPSS", ..vector(Vector::Compare(Shape::Ss)) },
    Form { mnemonic: "cmpsd", feature: feature::SSE2, operands: &[rw(X), r(XM64), r(UIMM8)], encoding: "F2 0F C2 /r ib", summary: "compares a double as the immediate says; ones where it holds, else zeros", source: "SDM Vol. 2A, CMPSD", ..vector(Vector::Compare(Shape::Sd)) },
    Form { mnemonic: "cmpps", feature: feature::SSE, elements: X32, operands: &[rw(X), r(XM128), r(UIMM8)], encoding: "NP 0F C2 /r ib", summary: "compares four floats as the immediate says; ones where it holds, else zeros", source: "SDM Vol. 2A, CMPPS", ..vector(Vector::Compare(Shape::Ps)) },
    Form { mnemonic: "cmppd", feature: feature::SSE2, operands: &[rw(X), r(XM128), r(UIMM8)], encoding: "66 0F C2 /r ib", summary: "compares two doubles as the immediate says; ones where it holds, else zeros", source: "SDM Vol. 2A, CMPPD", ..vector(Vector::Compare(Shape::Pd)) },
    Form { mnemonic: "ucomiss", feature: feature::SSE, elements: F32, operands: &[r(X), r(XM32)], flags: COMPARE_FLAGS, encoding: "NP 0F 2E /r", summary: "compares and sets ZF, PF and CF as for unsigned numbers; all three with a NaN", source: "SDM Vol. 2B, UCOMISS", ..vector(Vector::CompareFlags { width: Width::W32, signaling: false }) },
    Form { mnemonic: "ucomisd", feature: feature::SSE2, elements: F64, operands: &[r(X), r(XM64)], flags: COMPARE_FLAGS, encoding: "66 0F 2E /r", summary: "compares and sets ZF, PF and CF as for unsigned numbers; all three with a NaN", source: "SDM Vol. 2B, UCOMISD", ..vector(Vector::CompareFlags { width: Width::W64, signaling: false }) },
    Form { mnemonic: "comiss", feature: feature::SSE, elements: F32, operands: &[r(X), r(XM32)], flags: COMPARE_FLAGS, encoding: "NP 0F 2F /r", summary: "compares and sets ZF, PF and CF as for unsigned numbers; all three with a NaN", source: "SDM Vol. 2A, COMISS", ..vector(Vector::CompareFlags { width: Width::W32, signaling: true }) },
    Form { mnemonic: "comisd", feature: feature::SSE2, elements: F64, operands: &[r(X), r(XM64)], flags: COMPARE_FLAGS, encoding: "66 0F 2F /r", summary: "compares and sets ZF, PF and CF as for unsigned numbers; all three with a NaN", source: "SDM Vol. 2A, COMISD", ..vector(Vector::CompareFlags { width: Width::W64, signaling: true }) },
    Form { mnemonic: "ptest", feature: feature::SSE4_1, operands: &[r(X), r(XM128)], flags: COMPARE_FLAGS, encoding: "66 0F 38 17 /r", summary: "sets ZF if no bit is set in both, CF if no bit of the source is missing in the destination", source: "SDM Vol. 2B, PTEST", ..vector(Vector::TestBits) },
];

pub(super) const CONVERSIONS: &[Form] = &[
    Form { mnemonic: "cvtsi2ss", feature: feature::SSE, elements: F32, operands: &[rw(X), r(RM32)], encoding: "F3 0F 2A /r", summary: "converts a signed integer to a float", source: "SDM Vol. 2A, CVTSI2SS", ..vector(Vector::Convert(Convert::IntToScalar(Width::W32, Width::W32))) },
    Form { mnemonic: "cvtsi2ss", feature: feature::SSE, elements: F32, operands: &[rw(X), r(RM64)], encoding: "F3 REX.W + 0F 2A /r", summary: "converts a signed integer to a float", source: "SDM Vol. 2A, CVTSI2SS", ..vector(Vector::Convert(Convert::IntToScalar(Width::W64, Width::W32))) },
    Form { mnemonic: "cvtsi2sd", feature: feature::SSE2, elements: F64, operands: &[rw(X), r(RM32)], encoding: "F2 0F 2A /r", summary: "converts a signed integer to a double", source: "SDM Vol. 2A, CVTSI2SD", ..vector(Vector::Convert(Convert::IntToScalar(Width::W32, Width::W64))) },
    Form { mnemonic: "cvtsi2sd", feature: feature::SSE2, elements: F64, operands: &[rw(X), r(RM64)], encoding: "F2 REX.W + 0F 2A /r", summary: "converts a signed integer to a double", source: "SDM Vol. 2A, CVTSI2SD", ..vector(Vector::Convert(Convert::IntToScalar(Width::W64, Width::W64))) },
    Form { mnemonic: "cvttss2si", feature: feature::SSE, elements: F32, operands: &[w(R32), r(XM32)], encoding: "F3 0F 2C /r", summary: "converts a float to a signed integer, towards zero", source: "SDM Vol. 2A, CVTTSS2SI", ..vector(Vector::Convert(Convert::ScalarToInt { from: Width::W32, to: Width::W32, truncate: true })) },
    Form { mnemonic: "cvttss2si", feature: feature::SSE, elements: F32, operands: &[w(R64), r(XM32)], encoding: "F3 REX.W + 0F 2C /r", summary: "converts a float to a signed integer, towards zero", source: "SDM Vol. 2A, CVTTSS2SI", ..vector(Vector::Convert(Convert::ScalarToInt { from: Width::W32, to: Width::W64, truncate: true })) },
    Form { mnemonic: "cvtss2si", feature: feature::SSE, elements: F32, operands: &[w(R32), r(XM32)], encoding: "F3 0F 2D /r", summary: "converts a float to a signed integer", source: "SDM Vol. 2A, CVTSS2SI", ..vector(Vector::Convert(Convert::ScalarToInt { from: Width::W32, to: Width::W32, truncate: false })) },
    Form { mnemonic: "cvtss2si", feature: feature::SSE, elements: F32, operands: &[w(R64), r(XM32)], encoding: "F3 REX.W + 0F 2D /r", summary: "converts a float to a signed integer", source: "SDM Vol. 2A, CVTSS2SI", ..vector(Vector::Convert(Convert::ScalarToInt { from: Width::W32, to: Width::W64, truncate: false })) },
    Form { mnemonic: "cvttsd2si", feature: feature::SSE2, elements: F64, operands: &[w(R32), r(XM64)], encoding: "F2 0F 2C /r", summary: "converts a double to a signed integer, towards zero", source: "SDM Vol. 2A, CVTTSD2SI", ..vector(Vector::Convert(Convert::ScalarToInt { from: Width::W64, to: Width::W32, truncate: true })) },
    Form { mnemonic: "cvttsd2si", feature: feature::SSE2, elements: F64, operands: &[w(R64), r(XM64)], encoding: "F2 REX.W + 0F 2C /r", summary: "converts a double to a signed integer, towards zero", source: "SDM Vol. 2A, CVTTSD2SI", ..vector(Vector::Convert(Convert::ScalarToInt { from: Width::W64, to: Width::W64, truncate: true })) },
    Form { mnemonic: "cvtsd2si", feature: feature::SSE2, elements: F64, operands: &[w(R32), r(XM64)], encoding: "F2 0F 2D /r", summary: "converts a double to a signed integer", source: "SDM Vol. 2A, CVTSD2SI", ..vector(Vector::Convert(Convert::ScalarToInt { from: Width::W64, to: Width::W32, truncate: false })) },
    Form { mnemonic: "cvtsd2si", feature: feature::SSE2, elements: F64, operands: &[w(R64), r(XM64)], encoding: "F2 REX.W + 0F 2D /r", summary: "converts a double to a signed integer", source: "SDM Vol. 2A, CVTSD2SI", ..vector(Vector::Convert(Convert::ScalarToInt { from: Width::W64, to: Width::W64, truncate: false })) },
    Form { mnemonic: "cvtss2sd", feature: feature::SSE2, elements: F64, operands: &[rw(X), r(XM32)], encoding: "F3 0F 5A /r", summary: "converts a float to a double", source: "SDM Vol. 2A, CVTSS2SD", ..vector(Vector::Convert(Convert::Scalar(Width::W32))) },
    Form { mnemonic: "cvtsd2ss", feature: feature::SSE2, elements: F32, operands: &[rw(X), r(XM64)], encoding: "F2 0F 5A /r", summary: "converts a double to a float", source: "SDM Vol. 2A, CVTSD2SS", ..vector(Vector::Convert(Convert::Scalar(Width::W64))) },
    Form { mnemonic: "cvtps2pd", feature: feature::SSE2, elements: F64, operands: &[w(X), r(XM64)], encoding: "NP 0F 5A /r", summary: "converts two floats to doubles", source: "SDM Vol. 2A, CVTPS2PD", ..vector(Vector::Convert(Convert::PsToPd)) },
    Form { mnemonic: "cvtpd2ps", feature: feature::SSE2, elements: F32, operands: &[w(X), r(XM128)], encoding: "66 0F 5A /r", summary: "converts two doubles to floats", source: "SDM Vol. 2A, CVTPD2PS", ..vector(Vector::Convert(Convert::PdToPs)) },
    Form { mnemonic: "cvtdq2ps", feature: feature::SSE2, elements: F32, operands: &[w(X), r(XM128)], encoding: "NP 0F 5B /r", summary: "converts four signed integers to floats", source: "SDM Vol. 2A, CVTDQ2PS", ..vector(Vector::Convert(Convert::DqToPs)) },
    Form { mnemonic: "cvtdq2pd", feature: feature::SSE2, elements: F64, operands: &[w(X), r(XM64)], encoding: "F3 0F E6 /r", summary: "converts two signed integers to doubles", source: "SDM Vol. 2A, CVTDQ2PD", ..vector(Vector::Convert(Convert::DqToPd)) },
    Form { mnemonic: "cvtps2dq", feature: feature::SSE2, elements: I32, operands: &[w(X), r(XM128)], encoding: "66 0F 5B /r", summary: "converts four floats to signed integers", source: "SDM Vol. 2A, CVTPS2DQ", ..vector(Vector::Convert(Convert::PsToDq { truncate: false })) },
    Form { mnemonic: "cvttps2dq", feature: feature::SSE2, elements: I32, operands: &[w(X), r(XM128)], encoding: "F3 0F 5B /r", summary: "converts four floats to signed integers, towards zero", source: "SDM Vol. 2A, CVTTPS2DQ", ..vector(Vector::Convert(Convert::PsToDq { truncate: true })) },
    Form { mnemonic: "cvtpd2dq", feature: feature::SSE2, elements: I32, operands: &[w(X), r(XM128)], encoding: "F2 0F E6 /r", summary: "converts two doubles to signed integers", source: "SDM Vol. 2A, CVTPD2DQ", ..vector(Vector::Convert(Convert::PdToDq { truncate: false })) },
    Form { mnemonic: "cvttpd2dq", feature: feature::SSE2, elements: I32, operands: &[w(X), r(XM128)], encoding: "66 0F E6 /r", summary: "converts two doubles to signed integers, towards zero", source: "SDM Vol. 2A, CVTTPD2DQ", ..vector(Vector::Convert(Convert::PdToDq { truncate: true })) },
];

const WRITES_XMM0: Implicit = Implicit { access: Access::Write, reg: Reg::new(RegKind::Xmm, 0) };

pub(super) const OTHERS: &[Form] = &[
    Form { mnemonic: "roundss", feature: feature::SSE4_1, elements: F32, operands: &[rw(X), r(XM32), r(UIMM8)], encoding: "66 0F 3A 0A /r ib", summary: "rounds to whole numbers as the immediate says", source: "SDM Vol. 2B, ROUNDSS", ..vector(Vector::Round(Shape::Ss)) },
    Form { mnemonic: "roundsd", feature: feature::SSE4_1, elements: F64, operands: &[rw(X), r(XM64), r(UIMM8)], encoding: "66 0F 3A 0B /r ib", summary: "rounds to whole numbers as the immediate says", source: "SDM Vol. 2B, ROUNDSD", ..vector(Vector::Round(Shape::Sd)) },
    Form { mnemonic: "roundps", feature: feature::SSE4_1, elements: F32, operands: &[w(X), r(XM128), r(UIMM8)], encoding: "66 0F 3A 08 /r ib", summary: "rounds to whole numbers as the immediate says", source: "SDM Vol. 2B, ROUNDPS", ..vector(Vector::Round(Shape::Ps)) },
    Form { mnemonic: "roundpd", feature: feature::SSE4_1, elements: F64, operands: &[w(X), r(XM128), r(UIMM8)], encoding: "66 0F 3A 09 /r ib", summary: "rounds to whole numbers as the immediate says", source: "SDM Vol. 2B, ROUNDPD", ..vector(Vector::Round(Shape::Pd)) },
    Form { mnemonic: "dpps", feature: feature::SSE4_1, elements: F32, operands: &[rw(X), r(XM128), r(UIMM8)], encoding: "66 0F 3A 40 /r ib", summary: "multiplies, adds up and spreads the sum as the immediate says", source: "SDM Vol. 2A, DPPS", ..vector(Vector::Dot(Shape::Ps)) },
    Form { mnemonic: "dppd", feature: feature::SSE4_1, elements: F64, operands: &[rw(X), r(XM128), r(UIMM8)], encoding: "66 0F 3A 41 /r ib", summary: "multiplies, adds up and spreads the sum as the immediate says", source: "SDM Vol. 2A, DPPD", ..vector(Vector::Dot(Shape::Pd)) },
    Form { mnemonic: "pcmpestrm", feature: feature::SSE4_2, operands: &[r(X), r(XU), r(UIMM8)], implicit: &[reads(Width::W32, A), reads(Width::W32, D), WRITES_XMM0], flags: FlagEffects { modified: flag::CF.with(flag::ZF).with(flag::SF).with(flag::OF), cleared: flag::AF.with(flag::PF), ..FlagEffects::NONE }, encoding: "66 0F 3A 60 /r ib", summary: "compares strings as the immediate says; a mask goes to XMM0", source: "SDM Vol. 2B, PCMPESTRM", ..vector(Vector::CompareStrings { wide: false, explicit: true, mask: true }) },
    Form { mnemonic: "pcmpestrmq", feature: feature::SSE4_2, operands: &[r(X), r(XU), r(UIMM8)], implicit: &[reads(Width::W64, A), reads(Width::W64, D), WRITES_XMM0], flags: FlagEffects { modified: flag::CF.with(flag::ZF).with(flag::SF).with(flag::OF), cleared: flag::AF.with(flag::PF), ..FlagEffects::NONE }, encoding: "66 REX.W + 0F 3A 60 /r ib", summary: "compares strings as the immediate says; a mask goes to XMM0", source: "SDM Vol. 2B, PCMPESTRM", ..vector(Vector::CompareStrings { wide: true, explicit: true, mask: true }) },
    Form { mnemonic: "pcmpestri", feature: feature::SSE4_2, operands: &[r(X), r(XU), r(UIMM8)], implicit: &[reads(Width::W32, A), reads(Width::W32, D), writes(Width::W32, C)], flags: FlagEffects { modified: flag::CF.with(flag::ZF).with(flag::SF).with(flag::OF), cleared: flag::AF.with(flag::PF), ..FlagEffects::NONE }, encoding: "66 0F 3A 61 /r ib", summary: "compares strings as the immediate says; an index goes to ECX", source: "SDM Vol. 2B, PCMPESTRI", ..vector(Vector::CompareStrings { wide: false, explicit: true, mask: false }) },
    Form { mnemonic: "pcmpestriq", feature: feature::SSE4_2, operands: &[r(X), r(XU), r(UIMM8)], implicit: &[reads(Width::W64, A), reads(Width::W64, D), writes(Width::W32, C)], flags: FlagEffects { modified: flag::CF.with(flag::ZF).with(flag::SF).with(flag::OF), cleared: flag::AF.with(flag::PF), ..FlagEffects::NONE }, encoding: "66 REX.W + 0F 3A 61 /r ib", summary: "compares strings as the immediate says; an index goes to ECX", source: "SDM Vol. 2B, PCMPESTRI", ..vector(Vector::CompareStrings { wide: true, explicit: true, mask: false }) },
    Form { mnemonic: "pcmpistrm", feature: feature::SSE4_2, operands: &[r(X), r(XU), r(UIMM8)], implicit: &[WRITES_XMM0], flags: FlagEffects { modified: flag::CF.with(flag::ZF).with(flag::SF).with(flag::OF), cleared: flag::AF.with(flag::PF), ..FlagEffects::NONE }, encoding: "66 0F 3A 62 /r ib", summary: "compares strings as the immediate says; a mask goes to XMM0", source: "SDM Vol. 2B, PCMPISTRM", ..vector(Vector::CompareStrings { wide: false, explicit: false, mask: true }) },
    Form { mnemonic: "pcmpistri", feature: feature::SSE4_2, operands: &[r(X), r(XU), r(UIMM8)], implicit: &[writes(Width::W32, C)], flags: FlagEffects { modified: flag::CF.with(flag::ZF).with(flag::SF).with(flag::OF), cleared: flag::AF.with(flag::PF), ..FlagEffects::NONE }, encoding: "66 0F 3A 63 /r ib", summary: "compares strings as the immediate says; an index goes to ECX", source: "SDM Vol. 2B, PCMPISTRI", ..vector(Vector::CompareStrings { wide: false, explicit: false, mask: false }) },
    Form { mnemonic: "ldmxcsr", feature: feature::SSE, operands: &[r(M32)], encoding: "NP 0F AE /2", summary: "loads the control and status register of floating-point arithmetic", source: "SDM Vol. 2A, LDMXCSR", ..vector(Vector::LoadControl) },
    Form { mnemonic: "stmxcsr", feature: feature::SSE, operands: &[w(M32)], encoding: "NP 0F AE /3", summary: "stores the control and status register of floating-point arithmetic", source: "SDM Vol. 2B, STMXCSR", ..vector(Vector::StoreControl) },
    Form { mnemonic: "fxsave", feature: feature::FXSR, operands: &[w(Pattern::M)], encoding: "NP 0F AE /0", summary: "stores the state of vectors and floating point in 512 aligned bytes", source: "SDM Vol. 2A, FXSAVE", ..vector(Vector::SaveState) },
    Form { mnemonic: "fxrstor", feature: feature::FXSR, operands: &[r(Pattern::M)], encoding: "NP 0F AE /1", summary: "loads the state of vectors and floating point from 512 aligned bytes", source: "SDM Vol. 2A, FXRSTOR", ..vector(Vector::RestoreState) },
];
