//! Operands, the same for every machine.

use std::fmt;
use std::ops::{Deref, DerefMut};

use crate::{Arrangement, Named, Reg, RegisterList, Width};

/// A number in an operand: known now, or an address that is put in later by a fixup.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Value {
    /// The value.
    Known(i64),
    /// A value above `i64::MAX`; only 64-bit operands can hold it.
    Above(u64),
    /// Not known when the instruction is encoded: the encoder picks a field that a relocation
    /// can fill and reports where it is.
    Unresolved,
}

impl Value {
    /// The value, if it is known; one above `i64::MAX` as the same 64 bits, signed.
    pub fn known(self) -> Option<i64> {
        match self {
            Value::Known(value) => Some(value),
            Value::Above(value) => Some(value as i64),
            Value::Unresolved => None,
        }
    }

    /// The value, with 0 in place of one that is not known yet.
    pub fn or_zero(self) -> i64 {
        self.known().unwrap_or(0)
    }
}

/// An A64 shift of a register operand.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Shift {
    /// Logical shift left.
    Lsl,
    /// Logical shift right.
    Lsr,
    /// Arithmetic shift right.
    Asr,
    /// Rotate right.
    Ror,
}

impl Shift {
    /// All four, in encoding order.
    pub const ALL: [Shift; 4] = [Shift::Lsl, Shift::Lsr, Shift::Asr, Shift::Ror];

    /// The mnemonic, in lower case.
    pub const fn name(self) -> &'static str {
        match self {
            Shift::Lsl => "lsl",
            Shift::Lsr => "lsr",
            Shift::Asr => "asr",
            Shift::Ror => "ror",
        }
    }
}

/// An A64 extension of a register operand.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
#[allow(missing_docs, reason = "the names are the architecture's own")]
pub enum Extend {
    Uxtb,
    Uxth,
    Uxtw,
    Uxtx,
    Sxtb,
    Sxth,
    Sxtw,
    Sxtx,
}

impl Extend {
    /// All eight, in encoding order.
    pub const ALL: [Extend; 8] = [
        Extend::Uxtb,
        Extend::Uxth,
        Extend::Uxtw,
        Extend::Uxtx,
        Extend::Sxtb,
        Extend::Sxth,
        Extend::Sxtw,
        Extend::Sxtx,
    ];

    /// The name, in lower case.
    pub const fn name(self) -> &'static str {
        match self {
            Extend::Uxtb => "uxtb",
            Extend::Uxth => "uxth",
            Extend::Uxtw => "uxtw",
            Extend::Uxtx => "uxtx",
            Extend::Sxtb => "sxtb",
            Extend::Sxth => "sxth",
            Extend::Sxtw => "sxtw",
            Extend::Sxtx => "sxtx",
        }
    }

    /// The low bits of `value` that this extension keeps, extended to 64 bits.
    pub const fn apply(self, value: u64) -> u64 {
        match self {
            Extend::Uxtb => value & 0xff,
            Extend::Uxth => value & 0xffff,
            Extend::Uxtw => value & 0xffff_ffff,
            Extend::Uxtx | Extend::Sxtx => value,
            Extend::Sxtb => value as i8 as u64,
            Extend::Sxth => value as i16 as u64,
            Extend::Sxtw => value as i32 as u64,
        }
    }
}

/// When an A64 address is written back to its base register.
#[derive(Copy, Clone, PartialEq, Eq, Debug, Default)]
pub enum IndexMode {
    /// `[base, offset]`: never.
    #[default]
    Offset,
    /// `[base, offset]!`: before the access.
    Pre,
    /// `[base], offset`: after the access.
    Post,
}

/// A segment of x86 that a prefix names for an address. In 64-bit mode only FS and GS have an effect:
/// their base is added.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Segment {
    /// ES.
    Es,
    /// CS: code, which cannot be written.
    Cs,
    /// SS: the stack.
    Ss,
    /// DS: data.
    Ds,
    /// FS: thread-local storage in 64-bit mode.
    Fs,
    /// GS: thread-local storage in 32-bit mode.
    Gs,
}

impl Segment {
    /// All six, by the number that encodings give them.
    pub const ALL: [Segment; 6] =
        [Segment::Es, Segment::Cs, Segment::Ss, Segment::Ds, Segment::Fs, Segment::Gs];

    /// The name, in lower case.
    pub const fn name(self) -> &'static str {
        match self {
            Segment::Es => "es",
            Segment::Cs => "cs",
            Segment::Ss => "ss",
            Segment::Ds => "ds",
            Segment::Fs => "fs",
            Segment::Gs => "gs",
        }
    }

    /// The prefix byte. Source: SDM Vol. 2A, 2.1.1.
    pub(crate) const fn prefix(self) -> u8 {
        match self {
            Segment::Es => 0x26,
            Segment::Cs => 0x2e,
            Segment::Ss => 0x36,
            Segment::Ds => 0x3e,
            Segment::Fs => 0x64,
            Segment::Gs => 0x65,
        }
    }
}

/// A memory operand: `base + index * scale + displacement`, and how wide the access is.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct Mem {
    /// Base register. The x86 instruction pointer stands for the address of the next instruction.
    pub base: Option<Reg>,
    /// Index register.
    pub index: Option<Reg>,
    /// Factor on the index: 1, 2, 4 or 8.
    pub scale: u8,
    /// How an A64 index register is extended first.
    pub extend: Option<Extend>,
    /// The amount of an A64 shift of the index is written though it is 0, which has an encoding of its own.
    pub shows_shift: bool,
    /// Displacement in bytes.
    pub disp: Value,
    /// x86 segment whose base is added.
    pub segment: Option<Segment>,
    /// Width as written, or as the instruction determines it.
    pub width: Option<Width>,
    /// Write-back to the base.
    pub mode: IndexMode,
}

impl Mem {
    /// `[base + disp]`.
    pub fn base_disp(base: Reg, disp: i64) -> Mem {
        Mem { base: Some(base), disp: Value::Known(disp), ..Mem::absolute(0) }
    }

    /// `[address]`.
    pub fn absolute(address: i64) -> Mem {
        Mem {
            base: None,
            index: None,
            scale: 1,
            extend: None,
            shows_shift: false,
            disp: Value::Known(address),
            segment: None,
            width: None,
            mode: IndexMode::Offset,
        }
    }
}

/// One operand of an instruction.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Operand {
    /// A register.
    Reg(Reg),
    /// An immediate.
    Imm(Value),
    /// An immediate with an A64 left shift of 12, 16, 32 or 48 bits: the unshifted value, the shift.
    ShiftedImm(Value, u8),
    /// Memory.
    Mem(Mem),
    /// A place in the code, or for ADR in the data, as an absolute address.
    Target(Value),
    /// A register shifted by a constant.
    Shifted(Reg, Shift, u8),
    /// A register extended, then shifted left by a constant.
    Extended(Reg, Extend, u8),
    /// An A64 condition, by encoding: 0 `eq` to 15 `nv`.
    Cond(u8),
    /// An immediate with an A64 left shift of 8 or 16 bits by which ones come in: the unshifted value, the shift.
    ShiftedOnes(Value, u8),
    /// A floating-point immediate, as the bits of a double.
    Float(u64),
    /// An A64 vector register, cut into elements.
    Vector(Reg, Arrangement),
    /// One element of an A64 vector register, or a group of narrower ones that count as one: what it consists of, and its
    /// number from the lowest.
    Element(Reg, Arrangement, u8),
    /// A list of A64 vector registers in braces.
    List(RegisterList),
    /// What has a number in the encoding and a name in text: a system register, a barrier's scope, the purpose of a prefetch.
    Named(Named),
}

impl Operand {
    /// Whether it is a register, or are registers, of a bank beside the general ones.
    pub fn is_in_bank(&self) -> bool {
        match self {
            Operand::Reg(reg) => reg.id().is_some(),
            Operand::Vector(..) | Operand::Element(..) | Operand::List(_) => true,
            _ => false,
        }
    }
}

/// Most operands that an instruction has.
pub(crate) const MAX_OPERANDS: usize = 5;

/// The operands of one instruction, in the manual's order: at most five.
///
/// A list of our own, since the decoder puts operands into their places in whatever order it comes by them,
/// and what there is not behind those that there are.
#[derive(Copy, Clone)]
pub struct Operands {
    slots: [Operand; MAX_OPERANDS],
    count: u8,
}

impl Operands {
    /// None.
    pub const fn new() -> Operands {
        Operands { slots: [Operand::Imm(Value::Known(0)); MAX_OPERANDS], count: 0 }
    }

    /// Adds one at the end.
    ///
    /// # Panics
    ///
    /// If there are five.
    pub fn push(&mut self, operand: Operand) {
        self.slots[usize::from(self.count)] = operand;
        self.count += 1;
    }

    /// Removes all.
    pub fn clear(&mut self) {
        self.count = 0;
    }

    /// Puts an operand into a place, whether or not it is counted.
    #[inline(always)]
    pub(crate) fn put(&mut self, at: u8, operand: Operand) {
        if let Some(slot) = self.slots.get_mut(usize::from(at)) {
            *slot = operand;
        }
    }

    /// Says how many of the places count.
    #[inline(always)]
    pub(crate) fn set_count(&mut self, count: u8) {
        debug_assert!(usize::from(count) <= MAX_OPERANDS);
        self.count = count;
    }
}

impl Default for Operands {
    fn default() -> Operands {
        Operands::new()
    }
}

impl Deref for Operands {
    type Target = [Operand];

    fn deref(&self) -> &[Operand] {
        &self.slots[..usize::from(self.count)]
    }
}

impl DerefMut for Operands {
    fn deref_mut(&mut self) -> &mut [Operand] {
        &mut self.slots[..usize::from(self.count)]
    }
}

impl PartialEq for Operands {
    fn eq(&self, other: &Operands) -> bool {
        **self == **other
    }
}

impl fmt::Debug for Operands {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_list().entries(self.iter()).finish()
    }
}

impl FromIterator<Operand> for Operands {
    /// # Panics
    ///
    /// If there are more than four.
    fn from_iter<I: IntoIterator<Item = Operand>>(operands: I) -> Operands {
        let mut all = Operands::new();
        for operand in operands {
            all.push(operand);
        }
        all
    }
}

impl<'a> IntoIterator for &'a Operands {
    type Item = &'a Operand;
    type IntoIter = std::slice::Iter<'a, Operand>;

    fn into_iter(self) -> Self::IntoIter {
        self.iter()
    }
}
