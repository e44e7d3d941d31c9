//! What floating-point and vector instructions do, by name.
//!
//! Most do the same to each element: [`LaneOp`] names the function of one, and the operands say how registers are cut into
//! elements, so that scalar forms, forms by element, and forms that widen or narrow need no names of their own.

/// How a number is rounded to a whole one. Source: Arm ARM, A1.5.10 "Rounding".
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Rounding {
    /// To nearest, ties to even.
    Nearest,
    /// To nearest, ties away from zero.
    Away,
    /// Towards plus infinity.
    Up,
    /// Towards minus infinity.
    Down,
    /// Towards zero.
    Zero,
    /// As FPCR says.
    Current,
}

/// A comparison of elements.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
#[allow(missing_docs, reason = "the names say it")]
pub enum Comparison {
    Equal,
    Greater,
    GreaterOrEqual,
    Less,
    LessOrEqual,
}

/// What becomes of one element of the first source, one of the second, and one of the destination.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
#[allow(missing_docs, reason = "the names say it, or are the architecture's own")]
pub enum LaneOp {
    Copy,
    Add,
    Sub,
    Mul,
    /// The product is added to the destination.
    MulAdd,
    MulSub,
    PolynomialMul,
    And,
    Bic,
    Orr,
    Orn,
    Eor,
    Not,
    /// BSL, BIT, BIF.
    Select,
    InsertIfTrue,
    InsertIfFalse,
    HalvingAdd {
        signed: bool,
        round: bool,
    },
    HalvingSub {
        signed: bool,
    },
    SaturatingAdd {
        signed: bool,
    },
    SaturatingSub {
        signed: bool,
    },
    /// SUQADD, USQADD: `signed` is the destination's, and the source is of the other kind.
    SaturatingAddMixed {
        signed: bool,
    },
    Max {
        signed: bool,
    },
    Min {
        signed: bool,
    },
    AbsoluteDifference {
        signed: bool,
    },
    AbsoluteDifferenceAdd {
        signed: bool,
    },
    Compare {
        with: Comparison,
        signed: bool,
    },
    CompareZero(Comparison),
    TestBits,
    /// By the lowest byte of the second source's element, right if it is negative.
    ShiftByRegister {
        signed: bool,
        round: bool,
        saturate: bool,
    },
    /// SQDMULH, SQRDMULH.
    DoublingMulHigh {
        round: bool,
    },
    /// SQRDMLAH, SQRDMLSH.
    DoublingMulHighAdd {
        subtract: bool,
    },
    /// SQDMULL.
    DoublingMulLong,
    DoublingMulLongAdd {
        subtract: bool,
    },
    Abs,
    Neg,
    SaturatingAbs,
    SaturatingNeg,
    Cls,
    Clz,
    CountBits,
    ReverseBits,
    /// By the immediate.
    ShiftRight {
        signed: bool,
        round: bool,
        accumulate: bool,
    },
    ShiftLeft,
    ShiftLeftInsert,
    ShiftRightInsert,
    /// The result saturates at the limits of `signed` numbers.
    SaturatingShiftLeft {
        signed: bool,
    },
    /// SQSHLU: a signed number to an unsigned one.
    SaturatingShiftLeftUnsigned,
    /// To half the width.
    Narrow {
        round: bool,
    },
    SaturatingNarrow {
        from_signed: bool,
        to_signed: bool,
        round: bool,
    },
    UnsignedReciprocalEstimate,
    UnsignedReciprocalRootEstimate,
    FAdd,
    FSub,
    FMul,
    /// FNMUL.
    FMulNegated,
    /// FMULX: 2 for a product of zero and infinity.
    FMulExtended,
    FDiv,
    FMulAdd {
        subtract: bool,
    },
    FMax,
    FMin,
    FMaxNumber,
    FMinNumber,
    FAbs,
    FNeg,
    FSqrt,
    FAbsoluteDifference,
    FCompare {
        with: Comparison,
        absolute: bool,
    },
    FCompareZero(Comparison),
    FRound {
        how: Rounding,
        exact: bool,
    },
    FReciprocalEstimate,
    FReciprocalRootEstimate,
    /// FRECPX.
    FReciprocalExponent,
    FReciprocalStep,
    FReciprocalRootStep,
    FToInteger {
        signed: bool,
        how: Rounding,
    },
    FFromInteger {
        signed: bool,
    },
    /// To the width of the destination.
    FConvert,
    /// FCVTXN: rounded to odd.
    FConvertToOdd,
}

/// Which elements a permutation takes.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
#[allow(missing_docs, reason = "the names are the architecture's own")]
pub enum Permutation {
    Uzp { second: bool },
    Trn { second: bool },
    Zip { second: bool },
}

/// A step of a cipher or hash.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
#[allow(missing_docs, reason = "the names are the architecture's own")]
pub enum Crypto {
    Aese,
    Aesd,
    Aesmc,
    Aesimc,
    Sha1c,
    Sha1p,
    Sha1m,
    Sha1h,
    Sha1su0,
    Sha1su1,
    Sha256h,
    Sha256h2,
    Sha256su0,
    Sha256su1,
}

/// What a floating-point or vector instruction does.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Vector {
    /// The same to each element. Source elements that are narrower than the destination's are extended, as `signed` says.
    Lanes {
        /// What becomes of an element.
        op: LaneOp,
        /// How narrower elements are extended.
        signed: bool,
    },
    /// To each pair of neighbours, those of the first source before those of the second.
    Pairwise(LaneOp),
    /// To all elements, one after the other.
    Across(LaneOp),
    /// SADDLV, UADDLV: the sum at twice the width.
    AcrossLong {
        /// How elements are extended.
        signed: bool,
    },
    /// SADDLP, SADALP: sums of neighbours at twice the width.
    PairsLong {
        /// How elements are extended.
        signed: bool,
        /// They are added to the destination.
        accumulate: bool,
    },
    /// ADDHN and its like: the upper half of each result.
    NarrowHigh {
        /// It is a difference.
        subtract: bool,
        /// It is rounded.
        round: bool,
    },
    /// PMULL of 64-bit elements.
    PolynomialMulWide,
    /// SDOT, UDOT.
    Dot {
        /// Whether the bytes are signed.
        signed: bool,
    },
    /// REV16, REV32, REV64: the elements of each part of this many bits in reverse.
    Reverse(u8),
    /// ZIP, UZP, TRN.
    Permute(Permutation),
    /// EXT.
    Extract,
    /// TBL, and TBX if `keeps`: what is out of range keeps its value.
    Table {
        /// It is TBX.
        keeps: bool,
    },
    /// DUP of an element or a general register.
    Duplicate,
    /// INS: one element; the others keep their values.
    Insert,
    /// UMOV, SMOV: an element to a general register.
    ToGeneral {
        /// How it is extended.
        signed: bool,
    },
    /// MOVI, MVNI, FMOV of an immediate: each element becomes it.
    Immediate {
        /// It is inverted.
        invert: bool,
    },
    /// ORR and BIC of an immediate.
    WithImmediate {
        /// BIC: the bits are cleared.
        clear: bool,
    },
    /// FMOV between the banks, as bits.
    MoveBits,
    /// FCVTZS and its like to a general register; an immediate is the number of bits after the point.
    FToGeneral {
        /// The kind of integer.
        signed: bool,
        /// How it is rounded.
        how: Rounding,
    },
    /// SCVTF and UCVTF of a general register.
    FFromGeneral {
        /// The kind of integer.
        signed: bool,
    },
    /// FCMP, FCMPE.
    Compare {
        /// A quiet NaN is an invalid operand too.
        signaling: bool,
    },
    /// FCCMP, FCCMPE.
    CondCompare {
        /// A quiet NaN is an invalid operand too.
        signaling: bool,
    },
    /// FCSEL.
    Select,
    /// FMADD, FMSUB, FNMADD, FNMSUB.
    MulAdd {
        /// The product is negated.
        negate_product: bool,
        /// The addend is negated.
        negate_addend: bool,
    },
    /// AES and SHA.
    Crypto(Crypto),
}
