//! An instruction decoded into the compact form that the interpreter executes.

use sotto_isa::x86::vector::{FloatOp, Shape};
use sotto_isa::x86::{Cond, Repeat, StringOp, X87};

use crate::Memory;
use crate::code::processor::Result;
use crate::x86::Cpu;
use crate::x86::flags::Shift;
use crate::x86::vector::packed;

pub(crate) type Run<O> = fn(&mut Cpu, &mut Memory, &Op<O>, &mut O) -> Result;

/// An instruction ready to be carried out.
pub(crate) struct Op<O> {
    pub(crate) run: Run<O>,
    /// The immediate, sign-extended; or the target of a jump.
    pub(crate) imm: u64,
    /// The displacement; with the instruction pointer as base, the whole address.
    pub(crate) disp: u64,
    /// Address of the next instruction.
    pub(crate) next: u64,
    pub(crate) first: u8,
    pub(crate) second: u8,
    pub(crate) third: u8,
    pub(crate) base: u8,
    pub(crate) index: u8,
    pub(crate) shift: u8,
    /// The register of the file that holds the base of the segment, or the one that is zero.
    pub(crate) segment: u8,
    /// The address needs more than its sum: it is narrower, or a segment's base is added.
    pub(crate) special: bool,
    /// Bits of 64 that are not of the address.
    pub(crate) unused_bits: u8,
    /// The lengths of strings in vectors have 64 bits.
    pub(crate) wide_lengths: bool,
    pub(crate) cond: Cond,
    pub(crate) shift_kind: Shift,
    /// What a string instruction does, and how often.
    pub(crate) string: (StringOp, Repeat),
    /// What an instruction on floats does, and to which elements.
    pub(crate) float: (FloatOp, Shape),
    /// What a packed instruction computes.
    pub(crate) function: packed::Function,
    /// What an instruction of the x87 unit does.
    pub(crate) x87: X87,
}

/// What kind of thing an operand is, for choosing a function.
#[derive(Copy, Clone, PartialEq, Eq)]
pub(crate) enum Is {
    Reg,
    Vector,
    Mem,
    Imm,
    None,
}
