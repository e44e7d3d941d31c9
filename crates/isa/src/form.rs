//! The shape of a row: an instruction form, the same for every machine.

use crate::{Arch, FlagEffects, LaneKind, Lanes, Reg, Traits, Width};

/// Whether an operand is read, written or both.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Access {
    /// Only read.
    Read,
    /// Only written.
    Write,
    /// Read, then written.
    ReadWrite,
    /// Not accessed: the address of LEA, the operand of a long no-op.
    None,
}

impl Access {
    /// Whether the operand's value is an input.
    pub const fn reads(self) -> bool {
        matches!(self, Access::Read | Access::ReadWrite)
    }

    /// Whether the operand's value is an output.
    pub const fn writes(self) -> bool {
        matches!(self, Access::Write | Access::ReadWrite)
    }
}

/// An operand position of a form: what may stand there and what happens to it.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct OperandSpec<P> {
    /// Direction of the data.
    pub access: Access,
    /// What may stand there.
    pub pattern: P,
}

/// A register that a form uses without naming it.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct Implicit {
    /// Direction of the data.
    pub access: Access,
    /// The register, at the width used.
    pub reg: Reg,
}

/// Where control goes after an instruction.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Control {
    /// To the next instruction.
    Next,
    /// To the operand, always.
    Jump,
    /// To the operand if a condition holds, else to the next instruction.
    Branch,
    /// To the operand, leaving a return address.
    Call,
    /// To the return address.
    Return,
    /// Into the kernel, then to the next instruction.
    Syscall,
    /// Nowhere: it raises a signal.
    Trap,
}

/// The modes of its processor in which a row is valid.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Modes {
    /// Every mode that there is.
    All,
    /// x86: 64-bit mode alone.
    Only64,
    /// x86: 32-bit mode alone.
    Only32,
}

impl Modes {
    /// Whether the row is valid on this machine, which has its table.
    pub const fn include(self, arch: Arch) -> bool {
        match self {
            Modes::All => true,
            Modes::Only64 => !matches!(arch, Arch::X86_32),
            Modes::Only32 => matches!(arch, Arch::X86_32),
        }
    }
}

/// A part of the instruction set that a processor has only if it says so.
#[derive(Copy, Clone, PartialEq, Eq, Hash, Debug)]
pub struct Feature {
    /// The manual's name.
    pub name: &'static str,
    /// Where the processor says so.
    pub bit: FeatureBit,
}

/// Where a processor tells of a feature.
#[derive(Copy, Clone, PartialEq, Eq, Hash, Debug)]
pub enum FeatureBit {
    /// A bit of the answer of CPUID.
    Cpuid {
        /// The leaf, in EAX; the subleaf, in ECX, is 0.
        leaf: u32,
        /// The register of the answer: 0 to 3 for EAX, EBX, ECX and EDX.
        register: u8,
        /// The bit in it.
        bit: u8,
    },
}

/// One row of a machine's table.
///
/// `M` is the machine's list of meanings, `P` its list of operand patterns.
#[derive(Copy, Clone, Debug)]
pub struct Form<M: 'static, P: 'static> {
    /// Preferred mnemonic, in lower case.
    pub mnemonic: &'static str,
    /// Other mnemonics for the same row.
    pub aliases: &'static [&'static str],
    /// What it does; the machine crate carries it out.
    pub meaning: M,
    /// What the elements of vectors and of floating-point memory are that it works on.
    pub elements: Lanes,
    /// Explicit operands, in the manual's order.
    pub operands: &'static [OperandSpec<P>],
    /// Registers used beside the operands.
    pub implicit: &'static [Implicit],
    /// The manual's encoding, in the notation the machine's module documents.
    pub encoding: &'static str,
    /// In which modes it is valid.
    pub modes: Modes,
    /// The feature that the processor must have; `None` if every processor of the mode has the row.
    pub feature: Option<Feature>,
    /// Facts that no other field says.
    pub traits: Traits,
    /// Effects on the flags.
    pub flags: FlagEffects,
    /// Where control goes.
    pub control: Control,
    /// Another row claims the same bytes and is printed instead.
    pub accepted_only: bool,
    /// One line in words, starting with a verb.
    pub summary: &'static str,
    /// Manual and page heading.
    pub source: &'static str,
}

impl<M: 'static, P: 'static> Form<M, P> {
    /// What rows have in common unless they say otherwise, with the meaning of doing nothing.
    pub(crate) const fn plain(meaning: M) -> Form<M, P> {
        Form {
            mnemonic: "",
            aliases: &[],
            meaning,
            elements: Lanes::new(LaneKind::Bits, Width::W64),
            operands: &[],
            implicit: &[],
            encoding: "",
            modes: Modes::All,
            feature: None,
            traits: Traits::NONE,
            flags: FlagEffects::NONE,
            control: Control::Next,
            accepted_only: false,
            summary: "",
            source: "",
        }
    }

    /// The row as reference, with its operands as a reader would write them, and its condition.
    pub(crate) fn doc(&self, syntax: String, condition: Option<&'static str>) -> FormDoc {
        FormDoc {
            mnemonic: self.mnemonic,
            aliases: self.aliases,
            syntax,
            encoding: self.encoding,
            feature: match &self.feature {
                Some(feature) => Some(feature.name),
                None => None,
            },
            flags: self.flags,
            condition,
            summary: self.summary,
            source: self.source,
        }
    }
}

/// What `explain` and error messages need of a row.
#[derive(Debug, Clone)]
pub struct FormDoc {
    /// Preferred mnemonic.
    pub mnemonic: &'static str,
    /// Other mnemonics.
    pub aliases: &'static [&'static str],
    /// Operands as a reader would write them: `r32, r/m32`.
    pub syntax: String,
    /// The manual's encoding.
    pub encoding: &'static str,
    /// The feature of the processor that it needs, if it needs one.
    pub feature: Option<&'static str>,
    /// Effects on the flags.
    pub flags: FlagEffects,
    /// The condition in words, if it has one.
    pub condition: Option<&'static str>,
    /// One line in words.
    pub summary: &'static str,
    /// Manual and page heading.
    pub source: &'static str,
}
