//! Instructions, and the machine-independent doors to encoding and decoding.

use std::fmt;
use std::ops::RangeInclusive;

use arrayvec::ArrayVec;

use crate::{
    Access, Arch, Control, FlagEffects, FlagSet, FormDoc, FrameStep, Implicit, Lanes, ListElements,
    Named, Operand, Operands, Traits, Width, arm64, unmodelled, x86,
};

/// No instruction of any machine is longer. Source: SDM Vol. 2A, 2.3.11.
pub const MAX_INSTRUCTION_BYTES: usize = 15;

/// A decoded instruction: a row of its machine's table and the operands.
#[derive(Clone, PartialEq, Debug)]
pub struct Instruction {
    /// The machine.
    pub arch: Arch,
    /// Index of the row in the machine's table.
    pub form: u16,
    /// Explicit operands, in the manual's order.
    pub operands: Operands,
    /// Where it stands.
    pub address: u64,
    /// Bytes it takes: 1 to 15.
    pub length: u8,
}

/// Evaluates an expression on the row of an instruction, whichever machine it belongs to.
macro_rules! on_form {
    ($instruction:expr, $form:ident => $value:expr) => {
        match $instruction.arch {
            Arch::X86_64 | Arch::X86_32 => {
                let $form = x86::form($instruction.form);
                $value
            }
            Arch::Arm64 => {
                let $form = arm64::form($instruction.form);
                $value
            }
        }
    };
}

impl Instruction {
    /// What [`Decoder::decode_into`] can fill in, at an address.
    pub fn none(arch: Arch, address: u64) -> Instruction {
        Instruction { arch, form: 0, operands: Operands::new(), address, length: 0 }
    }

    /// The preferred mnemonic.
    pub fn mnemonic(&self) -> &'static str {
        on_form!(self, form => form.mnemonic)
    }

    /// One line in words.
    pub fn summary(&self) -> &'static str {
        on_form!(self, form => form.summary)
    }

    /// Effects on the flags.
    pub fn flags(&self) -> FlagEffects {
        on_form!(self, form => form.flags)
    }

    /// Where control goes.
    pub fn control(&self) -> Control {
        on_form!(self, form => form.control)
    }

    /// Registers used beside the operands.
    pub fn implicit(&self) -> &'static [Implicit] {
        on_form!(self, form => form.implicit)
    }

    /// How the vectors that this instruction works on are read: as its row says, or of A64 its first operand.
    pub fn lanes(&self) -> Lanes {
        let lanes = on_form!(self, form => form.elements);
        let width = self.operands.iter().find_map(|operand| match operand {
            Operand::Vector(_, arrangement) | Operand::Element(_, arrangement, _) => {
                Some(arrangement.lane)
            }
            Operand::List(list) => match list.elements {
                ListElements::All(arrangement) => Some(arrangement.lane),
                ListElements::One(width, _) => Some(width),
            },
            Operand::Reg(reg) if reg.is_a64_vector() => Some(reg.width()),
            _ => None,
        });
        Lanes { width: width.unwrap_or(lanes.width), ..lanes }
    }

    /// How the explicit operand at `index` is used.
    ///
    /// # Panics
    ///
    /// If there is no such operand.
    pub fn access(&self, index: usize) -> Access {
        on_form!(self, form => form.operands[index].access)
    }

    /// What the instruction does to the registers by which frames are found.
    pub fn frame_step(&self) -> FrameStep {
        match self.arch {
            Arch::X86_64 | Arch::X86_32 => x86::frame_step(self),
            Arch::Arm64 => arm64::frame_step(self),
        }
    }

    /// Whether control goes to an address that is not part of the instruction: one in a register or in memory.
    pub fn is_indirect(&self) -> bool {
        matches!(self.control(), Control::Jump | Control::Branch | Control::Call)
            && !self.operands.iter().any(|operand| matches!(operand, Operand::Target(_)))
    }

    /// Facts about the row that no other question asks for.
    pub fn traits(&self) -> Traits {
        on_form!(self, form => form.traits)
    }

    /// Whether the result does not depend on the sources, which are one register twice: `xor eax, eax`.
    pub fn is_zeroing(&self) -> bool {
        let pair = match self.operands[..] {
            [a, b] | [_, a, b] => (a, b),
            _ => return false,
        };
        self.traits().contains(Traits::ZEROING_IDIOM)
            && matches!(pair, (Operand::Reg(a), Operand::Reg(b)) if a == b)
    }

    /// Address of the next instruction in memory.
    pub fn end(&self) -> u64 {
        self.address.wrapping_add(u64::from(self.length))
    }

    /// The flags that are undefined after this instruction, given the value of its count operand.
    ///
    /// `count` is asked for only by shifts and rotates; it is the count before masking.
    pub fn undefined_flags(&self, count: u64) -> FlagSet {
        match self.arch {
            Arch::X86_64 | Arch::X86_32 => x86::undefined_flags(self, count),
            Arch::Arm64 => self.flags().undefined,
        }
    }

    /// The operand that is the count of a shift or rotate whose flags depend on it.
    pub fn count_operand(&self) -> Option<Operand> {
        match self.arch {
            Arch::X86_64 | Arch::X86_32 => x86::count_operand(self),
            Arch::Arm64 => None,
        }
    }

    /// What is the case when the condition of a conditional instruction holds, or does not hold, in
    /// words; `None` if it has no condition.
    pub fn condition_words(&self, holds: bool) -> Option<&'static str> {
        match self.arch {
            Arch::X86_64 | Arch::X86_32 => {
                x86::form(self.form).meaning.condition_words(self.arch, holds)
            }
            Arch::Arm64 => match self.condition_operand() {
                Some(cond) if cond < 14 => {
                    Some(arm64::condition_words(if holds { cond } else { cond ^ 1 }))
                }
                Some(_) => None,
                None => arm64::form(self.form).meaning.condition_words(holds),
            },
        }
    }

    /// The condition that an A64 operand names.
    fn condition_operand(&self) -> Option<u8> {
        self.operands.iter().find_map(|operand| match operand {
            Operand::Cond(cond) => Some(*cond),
            _ => None,
        })
    }

    /// Whether the condition of an instruction that does something if it holds, and is no branch, holds for the flags before
    /// it; `None` if it has no condition on flags.
    pub fn condition_holds(&self, flags: FlagSet) -> Option<bool> {
        if self.control() != Control::Next {
            return None;
        }
        match self.arch {
            Arch::X86_64 | Arch::X86_32 => {
                x86::form(self.form).meaning.condition().map(|cond| cond.holds(flags))
            }
            Arch::Arm64 => self
                .condition_operand()
                .filter(|cond| *cond < 14)
                .map(|cond| arm64::condition_holds(cond, flags)),
        }
    }
}

/// A field of an instruction that a relocation can fill.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Field {
    /// x86: one byte, the distance from the end of the instruction.
    Rel8,
    /// x86: four bytes, the distance from the end of the instruction.
    Rel32,
    /// One byte, signed or unsigned.
    Abs8,
    /// Two bytes, signed or unsigned.
    Abs16,
    /// Four bytes, zero-extended or not extended.
    Abs32,
    /// Four bytes, sign-extended to eight.
    Abs32Signed,
    /// Eight bytes.
    Abs64,
    /// A64 `imm26`: the distance in words, of B and BL.
    Branch26,
    /// A64 `imm19`: the distance in words, of B.cond, CBZ and CBNZ.
    Branch19,
    /// A64 `imm14`: the distance in words, of TBZ and TBNZ.
    Branch14,
    /// A64 `immhi:immlo`: the distance in bytes, of ADR.
    Adr21,
    /// A64 `immhi:immlo`: the distance in pages, of ADRP.
    AdrPage21,
    /// A64 `imm12`: the low twelve bits of an address, of ADD.
    AddLow12,
    /// A64 `imm12`: the low twelve bits of an address, in units of this width, of a load or store.
    AccessLow12(Width),
    /// A64 `imm16`: 16 bits of a value, of MOVZ, MOVN and MOVK; which ones the operator says.
    MoveWide16,
}

/// Where an encoded instruction waits for a value.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct Fixup {
    /// Byte of the instruction at which the field starts.
    pub offset: u8,
    /// What is there.
    pub field: Field,
    /// The operand it belongs to.
    pub operand: u8,
    /// To be added to the value: what the distance from the field to the end takes away.
    pub addend: i8,
}

/// The bytes of an instruction.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Encoded {
    /// The bytes; fields of fixups are zero.
    pub bytes: ArrayVec<u8, MAX_INSTRUCTION_BYTES>,
    /// The fields to fill.
    pub fixups: ArrayVec<Fixup, 2>,
    /// Row of the machine's table that was chosen.
    pub form: u16,
}

/// Why a parsed statement has no encoding. Spans are added by the caller, which knows the file.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum EncodeError {
    /// No instruction of the machine has this mnemonic.
    #[error("`{mnemonic}` is not an instruction of {arch}")]
    UnknownMnemonic {
        /// As written, in lower case.
        mnemonic: String,
        /// The machine.
        arch: Arch,
    },
    /// The mnemonic exists, but not with operands of these kinds.
    #[error("`{mnemonic}` does not take {given}")]
    NoSuchForm {
        /// As written, in lower case.
        mnemonic: String,
        /// The operands given, in words.
        given: String,
        /// The operands it does take, one line a form.
        forms: Vec<String>,
    },
    /// The value does not fit its field. `range` is the field's, inclusive.
    #[error("{value} does not fit; the field holds {} to {}", .range.start(), .range.end())]
    OutOfRange {
        /// Index of the operand.
        operand: usize,
        /// The value given.
        value: i128,
        /// What fits.
        range: RangeInclusive<i128>,
        /// Further rule for the value, in words: a multiple, a shape.
        rule: Option<&'static str>,
    },
    /// Nothing tells how wide the memory operand is.
    #[error("nothing says how wide the memory operand is")]
    SizeUnknown {
        /// Index of the operand.
        operand: usize,
    },
    /// `ah` and its like have no encoding beside a register that needs a REX prefix.
    #[error("`{high}` cannot be used in one instruction with {other}")]
    HighByteWithRex {
        /// The high-byte register.
        high: &'static str,
        /// What needs the prefix.
        other: String,
    },
    /// No floating-point immediate has this value.
    #[error("{value} is not an immediate that this instruction can hold")]
    NotAFloatImmediate {
        /// Index of the operand.
        operand: usize,
        /// The value given.
        value: String,
        /// What there is.
        rule: &'static str,
    },
    /// The registers of an address do not go together.
    #[error("{reason}")]
    BadAddress {
        /// Index of the operand.
        operand: usize,
        /// What is wrong.
        reason: &'static str,
    },
}

/// Why bytes are not an instruction.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum DecodeError {
    /// The bytes end before the instruction does.
    #[error("the instruction is cut off")]
    CutOff,
    /// No row has these bytes.
    #[error("not an instruction that we know")]
    Invalid,
}

/// Decodes the instruction at the start of `bytes`, which stands at `address`.
///
/// # Errors
///
/// [`DecodeError::CutOff`] if more bytes are needed, [`DecodeError::Invalid`] if no row has them.
pub fn decode(arch: Arch, bytes: &[u8], address: u64) -> Result<Instruction, DecodeError> {
    let mut instruction = Instruction::none(arch, address);
    Decoder::of(arch).decode_into(bytes, &mut instruction)?;
    Ok(instruction)
}

/// The decoder of a machine, for who decodes many instructions: its table is looked up once, and
/// instructions need not be copied to where they are returned, which costs as much as decoding them.
#[derive(Copy, Clone)]
pub struct Decoder {
    arch: Arch,
    index: Index,
}

#[derive(Copy, Clone)]
enum Index {
    X86(&'static x86::Index),
    Arm64(&'static arm64::Index),
}

impl Decoder {
    /// The decoder of a machine.
    pub fn of(arch: Arch) -> Decoder {
        let index = match arch {
            Arch::X86_64 | Arch::X86_32 => Index::X86(x86::Index::of(arch)),
            Arch::Arm64 => Index::Arm64(arm64::index()),
        };
        Decoder { arch, index }
    }

    /// As [`decode`], into an instruction that is there already and says where the bytes stand. Of x86 it is
    /// quickest if `bytes` go on behind the instruction.
    ///
    /// # Errors
    ///
    /// As for [`decode`]; the instruction is none then.
    #[inline]
    pub fn decode_into(
        &self,
        bytes: &[u8],
        instruction: &mut Instruction,
    ) -> Result<(), DecodeError> {
        instruction.arch = self.arch;
        match self.index {
            Index::X86(index) if self.arch == Arch::X86_64 => {
                x86::decode_into::<true>(index, bytes, instruction)
            }
            Index::X86(index) => x86::decode_into::<false>(index, bytes, instruction),
            Index::Arm64(index) => arm64::decode_into(index, bytes, instruction),
        }
    }
}

/// Encodes in the shortest form; among equally short ones the first in the table.
///
/// `address` is where the instruction will stand; only known targets ask for it.
///
/// # Errors
///
/// An [`EncodeError`] that says which operand is wrong and what would be right.
pub fn encode(
    arch: Arch,
    mnemonic: &str,
    operands: &[Operand],
    address: u64,
) -> Result<Encoded, EncodeError> {
    encode_at_least(arch, mnemonic, operands, address, 0)
}

/// Encodes in the shortest form of at least `min_bytes`.
///
/// Branches whose target is not known yet take the shortest reach that this allows.
///
/// # Errors
///
/// As for [`encode`]; also when no form is that long.
pub fn encode_at_least(
    arch: Arch,
    mnemonic: &str,
    operands: &[Operand],
    address: u64,
    min_bytes: usize,
) -> Result<Encoded, EncodeError> {
    match arch {
        Arch::X86_64 | Arch::X86_32 => x86::encode(arch, mnemonic, operands, address, min_bytes),
        Arch::Arm64 => arm64::encode(mnemonic, operands, address),
    }
}

/// Every mnemonic of a machine, aliases included, sorted.
pub fn mnemonics(arch: Arch) -> &'static [&'static str] {
    match arch {
        Arch::X86_64 | Arch::X86_32 => x86::mnemonics(arch),
        Arch::Arm64 => arm64::mnemonics(),
    }
}

/// Which kinds of operand an instruction's rows can take, where the text alone does not tell.
#[derive(Copy, Clone, PartialEq, Eq, Debug, Default)]
pub struct OperandContext {
    /// A bare expression is a place to go to or to load from, and not an immediate.
    pub target: bool,
    /// Only the page of that place counts, so that it is not known before the program is laid out.
    pub page: bool,
    /// A word may be a condition.
    pub condition: bool,
    /// The kinds of named operands that there are, a bit each.
    pub names: u8,
    /// What holds for a row of the mnemonic.
    pub traits: Traits,
}

impl OperandContext {
    /// Whether the rows take registers alone, system registers among them.
    pub fn only_system_registers(self) -> bool {
        self.names == Named::System(0).kind_mask()
    }
}

/// The mnemonic that a word is in any case, as the table spells it, and what its operands can be.
pub fn find_mnemonic(arch: Arch, word: &str) -> Option<(&'static str, OperandContext)> {
    match arch {
        Arch::X86_64 | Arch::X86_32 => x86::find_mnemonic(arch, word),
        Arch::Arm64 => arm64::find_mnemonic(word),
    }
}

/// Whether the word is an instruction of the machine that no row has yet. In source-first x86 code it may carry the
/// letter of its width.
pub fn is_unmodelled(arch: Arch, word: &str) -> bool {
    let word = word.to_ascii_lowercase();
    let has_row = |word: &str| mnemonics(arch).binary_search(&word).is_ok();
    if has_row(&word) {
        return false;
    }
    match arch {
        Arch::X86_64 | Arch::X86_32 => unmodelled::in_x86(&word, has_row),
        Arch::Arm64 => unmodelled::in_arm64(&word),
    }
}

/// What a system register that instructions name is, in words; `None` if the machine has none of this name, in lower case.
pub fn system_register_words(arch: Arch, name: &str) -> Option<&'static str> {
    match arch {
        Arch::X86_64 | Arch::X86_32 => None,
        Arch::Arm64 => arm64::names::system_words(name),
    }
}

/// Why the result of an instruction is not defined with these operands, which it takes; `None` if it is.
pub fn unpredictable(arch: Arch, form: u16, operands: &[Operand]) -> Option<&'static str> {
    match arch {
        Arch::X86_64 | Arch::X86_32 => None,
        Arch::Arm64 => arm64::unpredictable(form, operands),
    }
}

/// How wide an encoded instruction's operand is in memory, and what happens to it, if the operand is
/// memory that the text names by an address.
pub fn memory_access(arch: Arch, form: u16, operand: usize) -> Option<(Width, Access)> {
    match arch {
        Arch::X86_64 | Arch::X86_32 => x86::memory_access(form, operand),
        // Its memory operands are named by registers only.
        Arch::Arm64 => None,
    }
}

/// Instructions that do nothing, filling exactly `length` bytes; the unfillable rest is zeros.
///
/// Sources: SDM Vol. 2B, NOP, table 4-12; Arm ARM, C6.2 NOP.
pub fn padding(arch: Arch, length: usize) -> Vec<u8> {
    const X86: [&[u8]; 9] = [
        &[0x90],
        &[0x66, 0x90],
        &[0x0f, 0x1f, 0x00],
        &[0x0f, 0x1f, 0x40, 0x00],
        &[0x0f, 0x1f, 0x44, 0x00, 0x00],
        &[0x66, 0x0f, 0x1f, 0x44, 0x00, 0x00],
        &[0x0f, 0x1f, 0x80, 0, 0, 0, 0],
        &[0x0f, 0x1f, 0x84, 0, 0, 0, 0, 0],
        &[0x66, 0x0f, 0x1f, 0x84, 0, 0, 0, 0, 0],
    ];
    let mut bytes = Vec::with_capacity(length);
    match arch {
        Arch::X86_64 | Arch::X86_32 => {
            while bytes.len() < length {
                let next = (length - bytes.len()).min(X86.len());
                bytes.extend_from_slice(X86[next - 1]);
            }
        }
        Arch::Arm64 => {
            bytes.resize(length % 4, 0);
            while bytes.len() < length {
                bytes.extend_from_slice(&0xd503_201f_u32.to_le_bytes());
            }
        }
    }
    bytes
}

/// The rows with this mnemonic, in table order; empty if there is none.
pub fn form_docs(arch: Arch, mnemonic: &str) -> Vec<FormDoc> {
    match arch {
        Arch::X86_64 | Arch::X86_32 => x86::form_docs(arch, mnemonic),
        Arch::Arm64 => arm64::form_docs(mnemonic),
    }
}

/// Chooses between the errors of two forms: the one that came closer to a match.
pub(crate) fn closer(a: Option<EncodeError>, b: EncodeError) -> EncodeError {
    let width = |e: &EncodeError| match e {
        EncodeError::OutOfRange { range, .. } => range.end().saturating_sub(*range.start()),
        _ => i128::MAX,
    };
    match a {
        Some(a) if width(&a) >= width(&b) => a,
        _ => b,
    }
}

/// Operands in words, for messages: "a 64-bit register and an immediate".
pub(crate) fn describe(operands: &[Operand]) -> String {
    struct Kind<'a>(&'a Operand);
    impl fmt::Display for Kind<'_> {
        fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
            match self.0 {
                Operand::Reg(reg) => write!(f, "`{}` ({} bits)", reg.name(), reg.width().bits()),
                Operand::Imm(_) | Operand::ShiftedImm(..) => f.write_str("an immediate"),
                Operand::Mem(mem) => match mem.width {
                    Some(width) => write!(f, "{} of memory", bits(width)),
                    None => f.write_str("memory"),
                },
                Operand::Target(_) => f.write_str("a code address"),
                Operand::Shifted(..) => f.write_str("a shifted register"),
                Operand::Extended(..) => f.write_str("an extended register"),
                Operand::Cond(_) => f.write_str("a condition"),
                Operand::ShiftedOnes(..) => f.write_str("an immediate"),
                Operand::Float(_) => f.write_str("a floating-point immediate"),
                Operand::Vector(reg, elements) => {
                    write!(f, "`{}.{}`", reg.name(), elements.name())
                }
                Operand::Element(..) => f.write_str("an element"),
                Operand::List(list) => write!(f, "a list of {}", list.count),
                Operand::Named(named) => write!(f, "`{}`", named.text()),
            }
        }
    }
    fn bits(width: Width) -> String {
        format!("{} bits", width.bits())
    }
    match operands {
        [] => "no operands".to_string(),
        [one] => Kind(one).to_string(),
        [first, middle @ .., last] => {
            let mut text = Kind(first).to_string();
            for operand in middle {
                text += &format!(", {}", Kind(operand));
            }
            text + &format!(" and {}", Kind(last))
        }
    }
}
