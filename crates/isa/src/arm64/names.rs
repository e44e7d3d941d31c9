//! Operands of A64 that are numbers in the encoding and names in text.
//!
//! Sources: Arm ARM, C5 "System registers", C6.2 DMB, DSB, PRFM, BTI, SYS; D19 "AArch64 System Register Descriptions".

use super::pattern::NamedKind;

/// A number with a name.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Named {
    /// A system register: `o0:op1:CRn:CRm:op2`, 15 bits.
    System(u16),
    /// What a barrier orders: `CRm`.
    Barrier(u8),
    /// What a prefetch is for: `prfop`.
    Prefetch(u8),
    /// An operation of DC: `op1:CRm:op2`, of CRn 7.
    DataCache(u16),
    /// An operation of IC: the same.
    InstructionCache(u16),
    /// The branches that may go to a place: `op2` of BTI.
    BranchTarget(u8),
}

/// The number of a system register by its fields.
pub const fn system(op0: u16, op1: u16, crn: u16, crm: u16, op2: u16) -> u16 {
    (op0 - 2) << 14 | op1 << 11 | crn << 7 | crm << 3 | op2
}

/// System registers that programs use, or that Linux lets them read.
pub mod register {
    use super::system;

    /// The condition flags.
    pub const NZCV: u16 = system(3, 3, 4, 2, 0);
    /// Floating-point control.
    pub const FPCR: u16 = system(3, 3, 4, 4, 0);
    /// Floating-point status.
    pub const FPSR: u16 = system(3, 3, 4, 4, 1);
    /// The thread pointer.
    pub const TPIDR_EL0: u16 = system(3, 3, 13, 0, 2);
    /// A second thread pointer, which programs can only read.
    pub const TPIDRRO_EL0: u16 = system(3, 3, 13, 0, 3);
    /// Sizes of cache lines.
    pub const CTR_EL0: u16 = system(3, 3, 0, 0, 1);
    /// Size of the block that DC ZVA zeroes.
    pub const DCZID_EL0: u16 = system(3, 3, 0, 0, 7);
    /// Frequency of the counter.
    pub const CNTFRQ_EL0: u16 = system(3, 3, 14, 0, 0);
    /// The counter, as the physical one.
    pub const CNTPCT_EL0: u16 = system(3, 3, 14, 0, 1);
    /// The counter.
    pub const CNTVCT_EL0: u16 = system(3, 3, 14, 0, 2);
    /// Which processor it is.
    pub const MIDR_EL1: u16 = system(3, 0, 0, 0, 0);
    /// Which of several processors it is.
    pub const MPIDR_EL1: u16 = system(3, 0, 0, 0, 5);
    /// Its revision.
    pub const REVIDR_EL1: u16 = system(3, 0, 0, 0, 6);
    /// Features of the processor.
    pub const ID_AA64PFR0_EL1: u16 = system(3, 0, 0, 4, 0);
    /// Features of the processor.
    pub const ID_AA64PFR1_EL1: u16 = system(3, 0, 0, 4, 1);
    /// Features of the scalable vector extension.
    pub const ID_AA64ZFR0_EL1: u16 = system(3, 0, 0, 4, 4);
    /// Features of debugging.
    pub const ID_AA64DFR0_EL1: u16 = system(3, 0, 0, 5, 0);
    /// Features of the instruction set.
    pub const ID_AA64ISAR0_EL1: u16 = system(3, 0, 0, 6, 0);
    /// Features of the instruction set.
    pub const ID_AA64ISAR1_EL1: u16 = system(3, 0, 0, 6, 1);
    /// Features of the instruction set.
    pub const ID_AA64ISAR2_EL1: u16 = system(3, 0, 0, 6, 2);
    /// Features of memory.
    pub const ID_AA64MMFR0_EL1: u16 = system(3, 0, 0, 7, 0);
    /// Features of memory.
    pub const ID_AA64MMFR1_EL1: u16 = system(3, 0, 0, 7, 1);
    /// Features of memory.
    pub const ID_AA64MMFR2_EL1: u16 = system(3, 0, 0, 7, 2);
}

/// What a system register is, in words.
pub fn system_words(name: &str) -> Option<&'static str> {
    let number = SYSTEM.iter().find(|(_, known)| *known == name)?.0;
    Some(match number {
        register::NZCV => "the condition flags, at bits 31 to 28; the other bits are zero",
        register::FPCR => {
            "control of floating point: bit 26 alternative half precision, 25 default NaN, 24 denormals as zeros, 23 and 22 rounding (nearest, up, down, zero), 19 denormal halves as zeros"
        }
        register::FPSR => {
            "what floating point has told: bit 27 saturation, 7 denormal operand, 4 inexact, 3 underflow, 2 overflow, 1 division by zero, 0 invalid"
        }
        register::TPIDR_EL0 => "the thread pointer: thread-local data is counted from it",
        register::TPIDRRO_EL0 => "a second thread pointer, which programs can only read",
        register::CTR_EL0 => "sizes of cache lines",
        register::DCZID_EL0 => "size of the block that `dc zva` zeroes",
        register::CNTFRQ_EL0 => "ticks of the counter a second",
        register::CNTVCT_EL0 | register::CNTPCT_EL0 => "the counter; here it counts instructions",
        register::MIDR_EL1 | register::REVIDR_EL1 => "which processor it is",
        register::MPIDR_EL1 => "which of several processors it is",
        _ => "tells features of the processor",
    })
}

const SYSTEM: &[(u16, &str)] = &[
    (register::NZCV, "nzcv"),
    (register::FPCR, "fpcr"),
    (register::FPSR, "fpsr"),
    (register::TPIDR_EL0, "tpidr_el0"),
    (register::TPIDRRO_EL0, "tpidrro_el0"),
    (register::CTR_EL0, "ctr_el0"),
    (register::DCZID_EL0, "dczid_el0"),
    (register::CNTFRQ_EL0, "cntfrq_el0"),
    (register::CNTPCT_EL0, "cntpct_el0"),
    (register::CNTVCT_EL0, "cntvct_el0"),
    (register::MIDR_EL1, "midr_el1"),
    (register::MPIDR_EL1, "mpidr_el1"),
    (register::REVIDR_EL1, "revidr_el1"),
    (register::ID_AA64PFR0_EL1, "id_aa64pfr0_el1"),
    (register::ID_AA64PFR1_EL1, "id_aa64pfr1_el1"),
    (register::ID_AA64ZFR0_EL1, "id_aa64zfr0_el1"),
    (register::ID_AA64DFR0_EL1, "id_aa64dfr0_el1"),
    (register::ID_AA64ISAR0_EL1, "id_aa64isar0_el1"),
    (register::ID_AA64ISAR1_EL1, "id_aa64isar1_el1"),
    (register::ID_AA64ISAR2_EL1, "id_aa64isar2_el1"),
    (register::ID_AA64MMFR0_EL1, "id_aa64mmfr0_el1"),
    (register::ID_AA64MMFR1_EL1, "id_aa64mmfr1_el1"),
    (register::ID_AA64MMFR2_EL1, "id_aa64mmfr2_el1"),
];

const BARRIERS: &[(u16, &str)] = &[
    (1, "oshld"),
    (2, "oshst"),
    (3, "osh"),
    (5, "nshld"),
    (6, "nshst"),
    (7, "nsh"),
    (9, "ishld"),
    (10, "ishst"),
    (11, "ish"),
    (13, "ld"),
    (14, "st"),
    (15, "sy"),
];

const PREFETCHES: &[(u16, &str)] = &[
    (0, "pldl1keep"),
    (1, "pldl1strm"),
    (2, "pldl2keep"),
    (3, "pldl2strm"),
    (4, "pldl3keep"),
    (5, "pldl3strm"),
    (8, "plil1keep"),
    (9, "plil1strm"),
    (10, "plil2keep"),
    (11, "plil2strm"),
    (12, "plil3keep"),
    (13, "plil3strm"),
    (16, "pstl1keep"),
    (17, "pstl1strm"),
    (18, "pstl2keep"),
    (19, "pstl2strm"),
    (20, "pstl3keep"),
    (21, "pstl3strm"),
];

const fn cache(op1: u16, crm: u16, op2: u16) -> u16 {
    op1 << 7 | crm << 3 | op2
}

/// DC ZVA, which zeroes a block of memory.
pub const ZERO_BLOCK: u16 = cache(3, 4, 1);

const DATA_CACHE: &[(u16, &str)] = &[
    (ZERO_BLOCK, "zva"),
    (cache(3, 10, 1), "cvac"),
    (cache(3, 11, 1), "cvau"),
    (cache(3, 12, 1), "cvap"),
    (cache(3, 13, 1), "cvadp"),
    (cache(3, 14, 1), "civac"),
];

const INSTRUCTION_CACHE: &[(u16, &str)] = &[(cache(3, 5, 1), "ivau")];

const BRANCH_TARGETS: &[(u16, &str)] = &[(2, "c"), (4, "j"), (6, "jc")];

impl Named {
    /// The names of its kind.
    fn names(self) -> &'static [(u16, &'static str)] {
        match self {
            Named::System(_) => SYSTEM,
            Named::Barrier(_) => BARRIERS,
            Named::Prefetch(_) => PREFETCHES,
            Named::DataCache(_) => DATA_CACHE,
            Named::InstructionCache(_) => INSTRUCTION_CACHE,
            Named::BranchTarget(_) => BRANCH_TARGETS,
        }
    }

    /// The number.
    pub const fn number(self) -> u16 {
        match self {
            Named::System(number) | Named::DataCache(number) | Named::InstructionCache(number) => {
                number
            }
            Named::Barrier(number) | Named::Prefetch(number) | Named::BranchTarget(number) => {
                number as u16
            }
        }
    }

    /// A bit of its kind, as in [`OperandContext::names`](crate::OperandContext::names).
    pub fn kind_mask(self) -> u8 {
        match self {
            Named::System(_) => NamedKind::System,
            Named::Barrier(_) => NamedKind::Barrier,
            Named::Prefetch(_) => NamedKind::Prefetch,
            Named::DataCache(_) => NamedKind::DataCache,
            Named::InstructionCache(_) => NamedKind::InstructionCache,
            Named::BranchTarget(_) => NamedKind::BranchTarget,
        }
        .mask()
    }

    /// Whether the number has a name; else it is written as a number.
    pub fn has_name(self) -> bool {
        self.names().iter().any(|(number, _)| *number == self.number())
    }

    /// The name in lower case, or how a number without one is written.
    pub fn text(self) -> String {
        let known = self.names().iter().find(|(number, _)| *number == self.number());
        match (known, self) {
            (Some((_, name)), _) => (*name).to_string(),
            (None, Named::System(number)) => {
                let (op0, op1) = (2 + (number >> 14), number >> 11 & 7);
                let (crn, crm) = (number >> 7 & 15, number >> 3 & 15);
                format!("s{op0}_{op1}_c{crn}_c{crm}_{}", number & 7)
            }
            (None, _) => format!("#{}", self.number()),
        }
    }

    /// The names of all system registers that have one.
    pub fn system_registers() -> impl Iterator<Item = &'static str> {
        SYSTEM.iter().map(|(_, name)| *name)
    }

    /// What a word in lower case can stand for, in every kind.
    pub fn by_name(word: &str) -> Vec<Named> {
        let of = |names: &[(u16, &str)], make: fn(u16) -> Named| {
            names.iter().find(|(_, name)| *name == word).map(|(number, _)| make(*number))
        };
        [
            of(SYSTEM, Named::System).or_else(|| generic_system(word).map(Named::System)),
            of(BARRIERS, |n| Named::Barrier(n as u8)),
            of(PREFETCHES, |n| Named::Prefetch(n as u8)),
            of(DATA_CACHE, Named::DataCache),
            of(INSTRUCTION_CACHE, Named::InstructionCache),
            of(BRANCH_TARGETS, |n| Named::BranchTarget(n as u8)),
        ]
        .into_iter()
        .flatten()
        .collect()
    }
}

/// `s3_3_c13_c0_2`: a system register by its fields.
fn generic_system(word: &str) -> Option<u16> {
    let mut parts = word.strip_prefix('s')?.split('_');
    let mut next = |prefix: &str, limit: u16| {
        let digits = parts.next()?.strip_prefix(prefix)?;
        let plain = digits.bytes().all(|b| b.is_ascii_digit()) && digits.len() <= 2;
        digits.parse().ok().filter(|number| *number < limit && plain)
    };
    let (op0, op1) = (next("", 4)?, next("", 8)?);
    let (crn, crm, op2) = (next("c", 16)?, next("c", 16)?, next("", 8)?);
    (op0 >= 2 && parts.next().is_none()).then(|| system(op0, op1, crn, crm, op2))
}

/// The value that an 8-bit floating-point immediate stands for. Source: Arm ARM, shared pseudocode `VFPExpandImm`.
pub fn float_of_imm8(imm: u8) -> f64 {
    let sign = u64::from(imm >> 7);
    let exponent = if imm >> 6 & 1 == 1 { 0x3fc } else { 0x400 };
    let exponent = exponent | u64::from(imm >> 4 & 3);
    f64::from_bits(sign << 63 | exponent << 52 | u64::from(imm & 15) << 48)
}

/// The 8-bit immediate that stands for a value, if there is one.
pub fn imm8_of_float(value: f64) -> Option<u8> {
    (0..=255).find(|imm| float_of_imm8(*imm).to_bits() == value.to_bits())
}
