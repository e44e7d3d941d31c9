//! What vector instructions do: the vocabulary of the SSE rows.

use crate::Width;

/// A vector instruction. Each has its semantic function in the machine crate.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Vector {
    /// The destination becomes a function of destination, source and immediate.
    Packed(Packed),
    /// A copy of 16 bytes.
    Move,
    /// The low element: merged between registers, zero-extended from memory.
    MoveScalar(Width),
    /// The low element, zero-extended, between vectors, general registers and memory.
    MoveElement(Width),
    /// The low or high half to memory.
    StoreHalf {
        /// The high one.
        high: bool,
    },
    /// The signs of the elements to a general register.
    MoveMask(Width),
    /// An element to a general register or memory.
    Extract(Width),
    /// Bytes whose mask has its sign set go to memory at RDI.
    MaskedStore,
    /// Elements whose mask in XMM0 has its sign set come from the source.
    BlendByMask(Width),
    /// Arithmetic on floating-point elements.
    Float(FloatOp, Shape),
    /// A comparison chosen by the immediate; elements of ones or zeros.
    Compare(Shape),
    /// A comparison of scalars of this width that sets the status flags.
    CompareFlags {
        /// Of the operands.
        width: Width,
        /// A quiet NaN is an invalid operation too.
        signaling: bool,
    },
    /// A conversion between number formats.
    Convert(Convert),
    /// Rounding to whole numbers by the immediate.
    Round(Shape),
    /// A dot product by the immediate.
    Dot(Shape),
    /// The flags from AND and AND NOT of the operands.
    TestBits,
    /// PCMPESTRI and its kin.
    /// PCMPESTRI and its kin.
    CompareStrings {
        /// The lengths are in RAX and RDX.
        wide: bool,
        /// The lengths are in EAX and EDX, and not up to a zero element.
        explicit: bool,
        /// The result is a mask in XMM0, and not an index in ECX.
        mask: bool,
    },
    /// MXCSR from memory.
    LoadControl,
    /// MXCSR to memory.
    StoreControl,
    /// The state of the vector registers and of the x87 unit to memory.
    SaveState,
    /// The same from memory.
    RestoreState,
}

/// Which elements a floating-point instruction works on, as the mnemonic's last letters say.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Shape {
    /// One of single precision.
    Ss,
    /// One of double precision.
    Sd,
    /// Four of single precision.
    Ps,
    /// Two of double precision.
    Pd,
}

impl Shape {
    /// Width of an element.
    pub const fn width(self) -> Width {
        match self {
            Shape::Ss | Shape::Ps => Width::W32,
            Shape::Sd | Shape::Pd => Width::W64,
        }
    }

    /// How many elements are worked on.
    pub const fn lanes(self) -> u32 {
        match self {
            Shape::Ss | Shape::Sd => 1,
            Shape::Ps => 4,
            Shape::Pd => 2,
        }
    }
}

/// The comparisons of CMPPS and its kin by their numbers, as they stand inside a mnemonic: `cmpltsd`.
///
/// Source: SDM Vol. 2A, CMPPD, table 3-2.
const PREDICATES: [&str; 8] = ["eq", "lt", "le", "unord", "neq", "nlt", "nle", "ord"];

/// The comparison that a word names together with the elements: its mnemonic, and the immediate that
/// it stands for.
pub fn named_comparison(word: &str) -> Option<(&'static str, u8)> {
    let rest = word.strip_prefix("cmp")?;
    ["ps", "pd", "ss", "sd"].into_iter().zip(["cmpps", "cmppd", "cmpss", "cmpsd"]).find_map(
        |(shape, mnemonic)| {
            let predicate = rest.strip_suffix(shape)?;
            let number = PREDICATES.iter().position(|name| *name == predicate)?;
            Some((mnemonic, number as u8))
        },
    )
}

/// Arithmetic on floating-point elements.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum FloatOp {
    /// Sum.
    Add,
    /// Difference.
    Sub,
    /// Product.
    Mul,
    /// Quotient.
    Div,
    /// The smaller; the source if either is a NaN or both are zero.
    Min,
    /// The larger; the source if either is a NaN or both are zero.
    Max,
    /// Square root of the source.
    Sqrt,
    /// Approximate reciprocal of the source.
    Rcp,
    /// Approximate reciprocal of the square root of the source.
    Rsqrt,
    /// Differences in even elements, sums in odd ones.
    AddSub,
    /// Sums of neighbours, of the destination and then of the source.
    HorizontalAdd,
    /// Differences of neighbours, of the destination and then of the source.
    HorizontalSub,
}

/// A conversion: from, then to. `Truncate` says that the rounding mode does not count.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Convert {
    /// A signed integer of this width to a scalar of the other.
    IntToScalar(Width, Width),
    /// A scalar of this width to a signed integer of the other.
    ScalarToInt {
        /// Of the scalar.
        from: Width,
        /// Of the integer.
        to: Width,
        /// Towards zero, whatever the rounding mode.
        truncate: bool,
    },
    /// A scalar of this width to one of the other precision.
    Scalar(Width),
    /// Two floats to two doubles.
    PsToPd,
    /// Two doubles to two floats, and zeros above.
    PdToPs,
    /// Four integers to four floats.
    DqToPs,
    /// Two integers to two doubles.
    DqToPd,
    /// Four floats to four integers.
    PsToDq {
        /// Towards zero.
        truncate: bool,
    },
    /// Two doubles to two integers, and zeros above.
    PdToDq {
        /// Towards zero.
        truncate: bool,
    },
}

/// Functions of two vectors, named after their instructions. `imm` is the immediate.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
#[allow(missing_docs, reason = "each is the manual's instruction of that name")]
#[rustfmt::skip]
pub enum Packed {
    Paddb, Paddw, Paddd, Paddq, Paddsb, Paddsw, Paddusb, Paddusw,
    Psubb, Psubw, Psubd, Psubq, Psubsb, Psubsw, Psubusb, Psubusw,
    Pcmpeqb, Pcmpeqw, Pcmpeqd, Pcmpeqq, Pcmpgtb, Pcmpgtw, Pcmpgtd, Pcmpgtq,
    Pmaxub, Pmaxuw, Pmaxud, Pmaxsb, Pmaxsw, Pmaxsd,
    Pminub, Pminuw, Pminud, Pminsb, Pminsw, Pminsd,
    Pavgb, Pavgw, Pand, Pandn, Por, Pxor,
    Pmullw, Pmulhw, Pmulhuw, Pmuludq, Pmuldq, Pmulld, Pmaddwd, Pmaddubsw, Pmulhrsw, Psadbw,
    Packsswb, Packssdw, Packuswb, Packusdw,
    Punpcklbw, Punpcklwd, Punpckldq, Punpcklqdq, Punpckhbw, Punpckhwd, Punpckhdq, Punpckhqdq,
    Pshufb, Psignb, Psignw, Psignd, Phaddw, Phaddd, Phaddsw, Phsubw, Phsubd, Phsubsw,
    Pabsb, Pabsw, Pabsd,
    Psllw, Pslld, Psllq, Psrlw, Psrld, Psrlq, Psraw, Psrad,
    PsllwImm, PslldImm, PsllqImm, PsrlwImm, PsrldImm, PsrlqImm, PsrawImm, PsradImm, Pslldq, Psrldq,
    Pmovsxbw, Pmovsxbd, Pmovsxbq, Pmovsxwd, Pmovsxwq, Pmovsxdq,
    Pmovzxbw, Pmovzxbd, Pmovzxbq, Pmovzxwd, Pmovzxwq, Pmovzxdq,
    Phminposuw, Pshufd, Pshuflw, Pshufhw, Shufps, Shufpd, Palignr, Pblendw, Blendps, Blendpd,
    Mpsadbw, Insertps, InsertpsMem, Pinsrb, Pinsrw, Pinsrd, Pinsrq,
    /// MOVLPS, MOVLPD: the low half from memory.
    LoadLow,
    /// MOVHPS, MOVHPD, MOVLHPS: the high half from the source's low one.
    LoadHigh,
    Movhlps, Movddup, Movsldup, Movshdup,
}
