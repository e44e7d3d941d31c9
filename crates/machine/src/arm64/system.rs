//! System registers and cache operations, as far as programs may use them under Linux.
//!
//! Sources: Arm ARM, D19 "AArch64 System Register Descriptions"; Linux, Documentation/arch/arm64/cpu-feature-registers.rst.

use sotto_isa::FlagSet;
use sotto_isa::arm64::names::register;

use crate::arm64::Cpu;
use crate::arm64::op::Op;
use crate::code::processor::{Flow, Result};
use crate::{Fault, Memory, Observer};

/// Bytes of the block that DC ZVA zeroes.
const ZERO_BLOCK: u64 = 64;
/// `log2` of its words.
const ZERO_BLOCK_LOG2_WORDS: u64 = 4;
/// Bits of FPCR that are modelled: AHP, DN, FZ, RMode, FZ16.
const FPCR_BITS: u64 = 0x07c8_0000;
/// Bits of FPSR that are modelled: QC, IDC, IXC, UFC, OFC, DZC, IOC.
const FPSR_BITS: u64 = 0x0800_009f;

impl Cpu {
    /// The value of a system register; `None` if a program may not read it.
    fn system_register(&self, number: u16) -> Option<u64> {
        Some(match number {
            register::NZCV => u64::from(self.flags.value().0) << 28,
            register::FPCR => u64::from(self.fpcr),
            register::FPSR => u64::from(self.fpsr),
            register::TPIDR_EL0 => self.tpidr,
            register::TPIDRRO_EL0 => 0,
            // Lines of 64 bytes; instruction and data caches that need no maintenance.
            register::CTR_EL0 => {
                1 << 31 | 1 << 29 | 1 << 28 | 4 << 24 | 4 << 20 | 4 << 16 | 3 << 14 | 4
            }
            register::DCZID_EL0 => ZERO_BLOCK_LOG2_WORDS,
            // A nanosecond an instruction.
            register::CNTFRQ_EL0 => 1_000_000_000,
            register::CNTVCT_EL0 | register::CNTPCT_EL0 => self.time_and_entropy.now(),
            register::MIDR_EL1 => 0,
            register::MPIDR_EL1 => 1 << 31,
            register::REVIDR_EL1 => 0,
            // Floating point and vectors, with half precision.
            register::ID_AA64PFR0_EL1 => 1 << 20 | 1 << 16 | 0x11,
            // AES with PMULL, SHA1, SHA2, CRC32, atomics, RDM, dot product.
            register::ID_AA64ISAR0_EL1 => {
                2 << 4 | 1 << 8 | 1 << 12 | 1 << 16 | 2 << 20 | 1 << 28 | 1 << 44
            }
            // LDAPR.
            register::ID_AA64ISAR1_EL1 => 1 << 20,
            register::ID_AA64PFR1_EL1
            | register::ID_AA64ZFR0_EL1
            | register::ID_AA64DFR0_EL1
            | register::ID_AA64ISAR2_EL1
            | register::ID_AA64MMFR0_EL1
            | register::ID_AA64MMFR1_EL1
            | register::ID_AA64MMFR2_EL1 => 0,
            _ => return None,
        })
    }
}

/// MRS; `imm` is the register's number.
pub(crate) fn read<O: Observer>(cpu: &mut Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result {
    let value = cpu.system_register(op.imm as u16).ok_or_else(|| Box::new(Fault::Illegal))?;
    cpu.put(op.d, value);
    Ok(Flow::Next)
}

/// MSR.
pub(crate) fn write<O: Observer>(cpu: &mut Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result {
    let value = cpu.get(op.n);
    match op.imm as u16 {
        register::NZCV => cpu.flags.set(FlagSet((value >> 28) as u32)),
        register::FPCR => cpu.fpcr = (value & FPCR_BITS) as u32,
        register::FPSR => cpu.fpsr = (value & FPSR_BITS) as u32,
        register::TPIDR_EL0 => cpu.tpidr = value,
        _ => return Err(Box::new(Fault::Illegal)),
    }
    Ok(Flow::Next)
}

/// DC ZVA: zeroes the block that the address is in.
pub(crate) fn zero_block<O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let start = cpu.get(op.n) & !(ZERO_BLOCK - 1);
    memory.check_writable(start, ZERO_BLOCK)?;
    for offset in (0..ZERO_BLOCK).step_by(8) {
        memory.store_value(start + offset, 8, 0, observer)?;
    }
    super::memory::after_store(memory)
}
