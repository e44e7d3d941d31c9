//! How an instruction moves the stack pointer and the frame pointer, the same for every machine.

use crate::{IndexMode, Reg};

/// What an instruction does to the registers by which frames are found.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum FrameStep {
    /// The stack pointer goes down by `bytes`, and what is pushed lies there.
    Push {
        /// Bytes by which the stack pointer moves.
        bytes: u64,
        /// The whole register that is pushed, if it is one.
        stored: Option<Reg>,
    },
    /// The stack pointer goes up by `bytes`.
    Pop {
        /// Bytes by which the stack pointer moves.
        bytes: u64,
        /// The whole register that is popped, if it is one.
        loaded: Option<Reg>,
    },
    /// The stack pointer becomes the frame pointer, which is then popped.
    Leave,
    /// One whole register becomes another, or itself, plus a number of bytes.
    Offset {
        /// The register written.
        to: Reg,
        /// The register read.
        from: Reg,
        /// Bytes added.
        amount: i64,
    },
    /// The register is rounded down to an alignment.
    Align {
        /// The register.
        to: Reg,
    },
    /// Whole registers are stored or loaded, one word after the other.
    Transfer {
        /// Whether they are loaded.
        loads: bool,
        /// The register that the address counts from.
        base: Reg,
        /// Bytes from the base, or by which it moves.
        offset: i64,
        /// Whether the base moves.
        mode: IndexMode,
        /// The registers in the order of memory.
        registers: [Option<Reg>; 2],
    },
    /// Something else; its operands say what it writes.
    Other,
}
