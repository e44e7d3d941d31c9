//! What A64 instructions do, by name.

use super::condition::condition_words;
use super::vector::Vector;
use crate::{Extend, Width};

/// A bitwise operation.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
#[allow(missing_docs, reason = "the names are the architecture's own")]
pub enum Logic {
    And,
    Orr,
    Eor,
}

/// Which bitfield move it is. Source: Arm ARM, C6.2 BFM, SBFM, UBFM.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Bitfield {
    /// The other bits keep their values.
    Insert,
    /// The bits above are copies of the field's highest, those below are zero.
    Signed,
    /// The other bits are zero.
    Unsigned,
}

/// How the operands of a bitfield move tell where the field is.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum BitfieldFields {
    /// By `immr` and `imms` as they are encoded.
    Raw,
    /// By the lowest bit and the width in the destination.
    Insert,
    /// By the lowest bit and the width in the source.
    Extract,
    /// By the lowest bit and the width in the destination, which is the only register: zeros are inserted.
    Clear,
}

/// What an atomic operation makes of the value in memory and that of a register.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
#[allow(missing_docs, reason = "the names say it")]
pub enum AtomicOp {
    Add,
    /// Clears the bits that are set in the register.
    Clear,
    ExclusiveOr,
    Set,
    SignedMax,
    SignedMin,
    UnsignedMax,
    UnsignedMin,
    Swap,
}

/// What an instruction does. Each has one semantic function in the machine crate.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
#[allow(missing_docs, reason = "each is the manual's instruction of that name")]
pub enum Meaning {
    /// Destination, first operand, second operand.
    Add {
        flags: bool,
    },
    Sub {
        flags: bool,
    },
    /// CMP: a subtraction whose result is thrown away.
    Compare,
    /// CMN: an addition whose result is thrown away.
    CompareNegative,
    /// NEG, NEGS: the second operand taken from zero.
    Negate {
        flags: bool,
    },
    /// `invert` applies to the second operand.
    Logic {
        op: Logic,
        invert: bool,
        flags: bool,
    },
    /// TST: an AND whose result is thrown away.
    TestBits,
    /// MVN.
    Not,
    /// MOV of a register or an immediate.
    Mov,
    Movz,
    Movn,
    Movk,
    Lsl,
    Lsr,
    Asr,
    Madd,
    Msub,
    Mul,
    Sdiv,
    Udiv,
    Csel,
    /// CSINC: the second source, if it is chosen, has 1 added.
    Csinc,
    /// CSINV: the second source, if it is chosen, is inverted.
    Csinv,
    /// CSNEG: the second source, if it is chosen, is negated.
    Csneg,
    Cset,
    /// CSETM: all bits set if the condition holds, else none.
    Csetm,
    /// CINC: 1 is added if the condition holds.
    Cinc,
    /// CINV: inverted if the condition holds.
    Cinv,
    /// CNEG: negated if the condition holds.
    Cneg,
    /// CCMP, CCMN: compares if the condition holds, else sets the flags to the immediate.
    CondCompare {
        negative: bool,
    },
    /// ADC and SBC, with their flag-setting forms.
    AddCarry {
        subtract: bool,
        flags: bool,
    },
    /// NGC, NGCS.
    NegateCarry {
        flags: bool,
    },
    /// ROR by a register or a constant.
    Ror,
    /// EXTR: bits from two registers end to end.
    Extr,
    Rbit,
    /// REV16, REV32 and REV: the bytes of each part of this width in reverse.
    Reverse(Width),
    Clz,
    Cls,
    /// BFM, SBFM, UBFM and what they are written as.
    Bitfield(Bitfield, BitfieldFields),
    /// SXTB, UXTH and the like.
    Extended(Extend),
    /// SMADDL, UMSUBL and the like: a product of 32-bit registers added to or taken from a 64-bit one.
    MultiplyLong {
        signed: bool,
        subtract: bool,
    },
    /// The upper half of a product of 64-bit registers.
    MultiplyHigh {
        signed: bool,
    },
    /// CRC32 and CRC32C of this many bits.
    Crc32 {
        castagnoli: bool,
        width: Width,
    },
    /// Loads of `access` bits, extended to the register's width.
    Load {
        access: Width,
        signed: bool,
    },
    Store {
        access: Width,
    },
    LoadPair {
        access: Width,
        signed: bool,
    },
    StorePair {
        access: Width,
    },
    /// A load that later accesses stay after.
    LoadOrdered {
        access: Width,
    },
    /// A store that earlier accesses stay before.
    StoreOrdered {
        access: Width,
    },
    /// A load that marks its address for exclusive access.
    LoadExclusive {
        access: Width,
    },
    /// A store if the address is still marked; says so in a register.
    StoreExclusive {
        access: Width,
    },
    LoadExclusivePair {
        access: Width,
    },
    StoreExclusivePair {
        access: Width,
    },
    /// CLREX.
    ClearExclusive,
    /// LDADD, SWP and the like, and their forms without a result: memory is read, changed and written as one.
    Atomic {
        op: AtomicOp,
        access: Width,
    },
    /// CAS.
    CompareAndSwap {
        access: Width,
    },
    /// CASP.
    CompareAndSwapPair {
        access: Width,
    },
    /// PRFM: nothing that a program could see.
    Prefetch,
    /// MRS.
    ReadSystem,
    /// MSR.
    WriteSystem,
    /// DC and IC.
    Cache,
    /// Loads of a scalar register of the vector bank.
    LoadScalar {
        access: Width,
    },
    StoreScalar {
        access: Width,
    },
    LoadScalarPair {
        access: Width,
    },
    StoreScalarPair {
        access: Width,
    },
    /// LD1 to LD4 of whole registers: the elements of so many structures.
    LoadStructures {
        /// Elements of a structure: 1 if registers are filled one after the other.
        members: u8,
    },
    StoreStructures {
        members: u8,
    },
    /// LD1R to LD4R.
    LoadReplicated,
    /// LD1 to LD4 of one element of each register.
    LoadLane,
    StoreLane,
    /// Floating point and vectors.
    Vector(Vector),
    Adr,
    /// The page, of 4 KiB, that an address is on.
    Adrp,
    B,
    BranchIf(u8),
    Cbz,
    Cbnz,
    Tbz,
    Tbnz,
    Bl,
    Br,
    Blr,
    Ret,
    Nop,
    Svc,
    Brk,
    Udf,
}

impl Meaning {
    /// The condition, of an instruction whose mnemonic carries one.
    pub const fn condition(self) -> Option<u8> {
        match self {
            Meaning::BranchIf(cond) => Some(cond),
            _ => None,
        }
    }

    /// What is the case when the condition, on flags or on a register, holds or does not.
    pub fn condition_words(self, holds: bool) -> Option<&'static str> {
        Some(match (self, holds) {
            (Meaning::Cbz, true) | (Meaning::Cbnz, false) => "register zero",
            (Meaning::Cbz, false) | (Meaning::Cbnz, true) => "register not zero",
            (Meaning::Tbz, true) | (Meaning::Tbnz, false) => "bit clear",
            (Meaning::Tbz, false) | (Meaning::Tbnz, true) => "bit set",
            _ => {
                let cond = self.condition()?;
                condition_words(if holds { cond } else { cond ^ 1 })
            }
        })
    }
}
