//! Registers, memory, and executing instructions.
//!
//! A [`Machine`] is a processor with its memory. It runs until an [`Event`] or a budget, or steps one
//! instruction and says what that [changed](StepEffects). Both ways run the same semantic functions:
//! they are generic over an [`Observer`], and the one that observes nothing compiles to nothing.
//! Code is decoded once into compact operations, kept in a cache of straight-line blocks; writing to
//! a page whose code is cached drops the cache.
//!
//! Nothing here knows of system calls beyond stopping at them, nor of files or terminals.

mod arm64;
mod code;
mod fault;
mod float;
mod machine;
mod memory;
mod random;
mod state;
mod x86;

pub use code::calls::Call;
pub use code::processor::{Event, Run};
pub use code::watch::{MAX_RANGES, OnWrite, RangeWrite, Watched, Watcher};
pub use fault::{AccessKind, Fault, MemoryFault, MemoryFaultKind, Signal};
pub use machine::{Cpu, CpuState, Machine, Snapshot, Step};
pub use memory::region::{PAGE_BYTES, Permissions, Region, RegionKind};
pub use memory::snapshot::{Difference, MemorySnapshot};
pub use memory::space::{MapError, Memory};
pub use random::SplitMix64;
pub use state::effects::{
    BankChange, FlagChange, MemoryChange, MemoryRead, RegisterChange, StepEffects, registers_used,
};
pub use state::flag_origin::{FlagOperation, FlagOrigin};

/// Watches memory accesses of executed instructions.
pub trait Observer {
    /// Whether anything is watched; constant, so that an idle observer costs nothing.
    const ACTIVE: bool;
    /// `bytes` bytes at `address` were read; `value` is zero-extended.
    fn read(&mut self, address: u64, bytes: u64, value: u64);
    /// `bytes` bytes at `address` are written; both values are zero-extended.
    fn write(&mut self, address: u64, bytes: u64, old: u64, new: u64);
}

/// Watches nothing.
pub(crate) struct Idle;

impl Observer for Idle {
    const ACTIVE: bool = false;
    fn read(&mut self, _: u64, _: u64, _: u64) {}
    fn write(&mut self, _: u64, _: u64, _: u64, _: u64) {}
}
