//! An instruction decoded into the compact form that the interpreter executes.

use sotto_isa::arm64::{AtomicOp, Logic};
use sotto_isa::{Extend, IndexMode, Shift, Width};

use crate::Memory;
use crate::arm64::Cpu;
use crate::arm64::vector::VectorOp;
use crate::code::processor::Result;

pub(crate) type Run<O> = fn(&mut Cpu, &mut Memory, &Op<O>, &mut O) -> Result;

/// An instruction ready to be carried out.
pub(crate) struct Op<O> {
    pub(crate) run: Run<O>,
    /// The immediate, shifted where its form says so; or a target.
    pub(crate) imm: u64,
    /// Where the branch goes that this is fused with.
    pub(crate) target: u64,
    /// Address of the next instruction.
    pub(crate) next: u64,
    /// Destination, or the register that a store stores.
    pub(crate) d: u8,
    pub(crate) n: u8,
    pub(crate) m: u8,
    /// The addend of a multiplication, or the second register of a pair.
    pub(crate) a: u8,
    pub(crate) amount: u8,
    pub(crate) cond: u8,
    pub(crate) width: Width,
    /// Width of a memory access.
    pub(crate) access: Width,
    pub(crate) second: Second,
    pub(crate) logic: Logic,
    pub(crate) shift: Shift,
    pub(crate) mode: IndexMode,
    pub(crate) atomic: AtomicOp,
    /// Operands in the vector bank; behind a pointer, so that other operations stay small.
    pub(crate) vector: Option<Box<VectorOp>>,
}

/// How the second operand is made.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) enum Second {
    /// The immediate.
    Imm,
    /// The register, shifted by a constant.
    Shifted(Shift),
    /// The register, extended and shifted left by a constant.
    Extended(Extend),
}
