//! Calling conventions: what each register is for.
//!
//! Sources: psABI i386, 2.2; psABI x86-64, 3.2 "Function Calling Sequence" and A.2 "AMD64 Linux Kernel Conventions";
//! AAPCS64, 6.1.1 "General-purpose Registers"; man-pages syscall(2).

use std::fmt;
use std::ops::Range;

use serde::{Serialize, Serializer};

use crate::{Arch, Reg, RegKind, Storage, Width};

/// What a register is for by convention.
#[derive(Copy, Clone, PartialEq, Eq, Hash, Debug)]
pub enum RegisterRole {
    /// Passes arguments of routines; a routine may change it.
    Arguments,
    /// Returns the result of a routine.
    Result,
    /// A routine leaves it as it found it.
    Preserved,
    /// A routine may change it.
    Scratch,
    /// Part of the frame record: the frame pointer and the link register.
    FrameRecord,
    /// The stack pointer.
    Stack,
    /// The program counter.
    Next,
}

impl RegisterRole {
    /// The role in a word.
    pub const fn title(self) -> &'static str {
        match self {
            RegisterRole::Arguments => "arguments",
            RegisterRole::Result => "result",
            RegisterRole::Preserved => "preserved",
            RegisterRole::Scratch => "scratch",
            RegisterRole::FrameRecord => "frame",
            RegisterRole::Stack => "stack",
            RegisterRole::Next => "next",
        }
    }
}

/// Registers that share a role, in the order in which the convention uses them.
#[derive(Debug, PartialEq, Eq)]
pub struct RoleGroup {
    /// The role.
    pub role: RegisterRole,
    /// The registers. A register stands in one group only.
    pub registers: &'static [Storage],
}

/// A machine's calling convention on Linux.
#[derive(Debug)]
pub struct Convention {
    /// What its document calls it.
    pub name: &'static str,
    /// Every general register, by role.
    pub groups: &'static [RoleGroup],
    /// Integer arguments of a routine, in order.
    pub arguments: &'static [Storage],
    /// The integer result of a routine.
    pub result: Storage,
    /// The registers of an integer result that is wider than one, the lowest part first.
    pub results: &'static [Storage],
    /// The stack pointer is a multiple of so many bytes where a routine is called.
    pub stack_alignment: u64,
    /// The register whose lowest byte says how many vector registers hold arguments, where a routine takes a variable number
    /// of them.
    pub vector_count: Option<Storage>,
    /// The system call number.
    pub syscall_number: Reg,
    /// System call arguments, in order.
    pub syscall_arguments: &'static [Storage],
    /// The system call's result.
    pub syscall_result: Storage,
    /// Registers that a system call destroys, and what it leaves in them.
    pub syscall_destroys: &'static [(Storage, &'static str)],
    /// What vector registers are for.
    pub vectors: VectorRoles,
}

/// What vector registers are for, by number. Sources: psABI x86-64, 3.2.3; psABI i386, 2.2.3; AAPCS64, 6.1.2.
#[derive(Debug, PartialEq, Eq)]
pub struct VectorRoles {
    /// The first ones hold arguments of a routine.
    pub arguments: u8,
    /// The first ones hold results.
    pub results: u8,
    /// The lowest 64 bits of these a routine leaves as it found them.
    pub preserved: Range<u8>,
}

impl VectorRoles {
    /// The role of a register, in words.
    pub fn words(&self, number: u8) -> &'static str {
        if self.preserved.contains(&number) {
            "a routine leaves its lowest 64 bits as it found them"
        } else if number < self.results && number < self.arguments {
            "argument of a routine, and result; a routine may change it"
        } else if number < self.arguments {
            "argument of a routine; a routine may change it"
        } else {
            "scratch; a routine may change it"
        }
    }
}

impl Convention {
    /// The role of a register; `None` if it is for the system's use.
    pub fn role(&self, storage: Storage) -> Option<RegisterRole> {
        let group = self.groups.iter().find(|group| group.registers.contains(&storage))?;
        Some(group.role)
    }

    /// Whether a routine leaves the register as it found it for its caller; the registers of a frame record are such.
    pub fn is_preserved(&self, storage: Storage) -> bool {
        matches!(self.role(storage), Some(RegisterRole::Preserved | RegisterRole::FrameRecord))
    }
}

/// Where a value is when a routine begins or ends.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Location {
    /// In a register.
    Register(Reg),
    /// So many bytes above the stack pointer at the routine's first instruction.
    Stack(u64),
}

impl fmt::Display for Location {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Location::Register(reg) => f.write_str(reg.name()),
            Location::Stack(offset) => write!(f, "[stack + {offset}]"),
        }
    }
}

impl Serialize for Location {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

/// Gives the arguments of a routine their locations, the first argument first: integers and addresses in general
/// registers, floating-point numbers in vector registers, and on the stack what is left.
///
/// Sources: psABI x86-64, 3.2.3 "Parameter Passing"; psABI i386, 2.2.3; AAPCS64, 6.8.2 "Parameter passing rules".
#[derive(Clone, Debug)]
pub struct ArgumentLocations {
    arch: Arch,
    integers: usize,
    vectors: u8,
    stack: u64,
}

impl ArgumentLocations {
    /// Those of a routine for a machine.
    pub fn new(arch: Arch) -> ArgumentLocations {
        ArgumentLocations { arch, integers: 0, vectors: 0, stack: arch.return_address_slot() }
    }

    /// The location of the next argument, which takes `bytes` where it is on the stack.
    pub fn next(&mut self, is_float: bool, bytes: u64) -> Location {
        let convention = self.arch.convention();
        if is_float && self.vectors < convention.vectors.arguments {
            self.vectors += 1;
            return Location::Register(self.arch.vector_register(self.vectors - 1));
        }
        if let (false, Some(storage)) = (is_float, convention.arguments.get(self.integers)) {
            self.integers += 1;
            return Location::Register(self.arch.whole_register(*storage));
        }
        let offset = self.stack;
        self.stack += bytes.next_multiple_of(self.arch.address_bytes());
        Location::Stack(offset)
    }

    /// How many vector registers hold arguments so far.
    pub fn vectors(&self) -> u8 {
        self.vectors
    }
}

const fn list<const N: usize>(numbers: [u8; N]) -> [Storage; N] {
    let mut out = [Storage(0); N];
    let mut i = 0;
    while i < N {
        out[i] = Storage(numbers[i]);
        i += 1;
    }
    out
}

pub(crate) static X86_64: Convention = Convention {
    name: "System V AMD64",
    groups: &[
        RoleGroup { role: RegisterRole::Arguments, registers: &list([7, 6, 2, 1, 8, 9]) },
        RoleGroup { role: RegisterRole::Result, registers: &list([0]) },
        RoleGroup { role: RegisterRole::Preserved, registers: &list([3, 5, 12, 13, 14, 15]) },
        RoleGroup { role: RegisterRole::Scratch, registers: &list([10, 11]) },
        RoleGroup { role: RegisterRole::Stack, registers: &list([4]) },
        RoleGroup { role: RegisterRole::Next, registers: &list([16]) },
    ],
    arguments: &list([7, 6, 2, 1, 8, 9]),
    result: Storage(0),
    results: &list([0, 2]),
    stack_alignment: 16,
    vector_count: Some(Storage(0)),
    syscall_number: Reg::x86(Width::W64, 0),
    syscall_arguments: &list([7, 6, 2, 10, 8, 9]),
    syscall_result: Storage(0),
    // Source: SDM Vol. 2B, SYSCALL.
    syscall_destroys: &[(Storage(1), "the address to return to"), (Storage(11), "the flags")],
    vectors: VectorRoles { arguments: 8, results: 2, preserved: 0..0 },
};

/// Arguments of routines are on the stack. Source: psABI i386, 2.2 "Function Calling Sequence".
pub(crate) static X86_32: Convention = Convention {
    name: "System V i386",
    groups: &[
        RoleGroup { role: RegisterRole::Result, registers: &list([0, 2]) },
        RoleGroup { role: RegisterRole::Scratch, registers: &list([1]) },
        RoleGroup { role: RegisterRole::Preserved, registers: &list([3, 6, 7, 5]) },
        RoleGroup { role: RegisterRole::Stack, registers: &list([4]) },
        RoleGroup { role: RegisterRole::Next, registers: &list([16]) },
    ],
    arguments: &[],
    result: Storage(0),
    results: &list([0, 2]),
    stack_alignment: 16,
    vector_count: None,
    syscall_number: Reg::x86(Width::W32, 0),
    syscall_arguments: &list([3, 1, 2, 6, 7, 5]),
    syscall_result: Storage(0),
    syscall_destroys: &[],
    vectors: VectorRoles { arguments: 0, results: 0, preserved: 0..0 },
};

pub(crate) static ARM64: Convention = Convention {
    name: "AAPCS64",
    groups: &[
        RoleGroup { role: RegisterRole::Arguments, registers: &list([0, 1, 2, 3, 4, 5, 6, 7]) },
        RoleGroup {
            role: RegisterRole::Preserved,
            registers: &list([19, 20, 21, 22, 23, 24, 25, 26, 27, 28]),
        },
        RoleGroup {
            role: RegisterRole::Scratch,
            registers: &list([8, 9, 10, 11, 12, 13, 14, 15, 16, 17, 18]),
        },
        RoleGroup { role: RegisterRole::FrameRecord, registers: &list([29, 30]) },
        RoleGroup { role: RegisterRole::Stack, registers: &list([31]) },
        RoleGroup { role: RegisterRole::Next, registers: &list([32]) },
    ],
    arguments: &list([0, 1, 2, 3, 4, 5, 6, 7]),
    result: Storage(0),
    results: &list([0, 1]),
    stack_alignment: 16,
    vector_count: None,
    syscall_number: Reg::new(RegKind::X, 8),
    syscall_arguments: &list([0, 1, 2, 3, 4, 5]),
    syscall_result: Storage(0),
    syscall_destroys: &[],
    vectors: VectorRoles { arguments: 8, results: 4, preserved: 8..16 },
};

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn arguments_have_the_locations_of_the_standards() {
        // Nine integers and nine floats, taking turns.
        let named = |arch: Arch| -> Vec<String> {
            let mut locations = ArgumentLocations::new(arch);
            (0..18).map(|n| locations.next(n % 2 == 1, 8).to_string()).collect()
        };
        let x86_64 = named(Arch::X86_64);
        assert_eq!(x86_64[..4], ["rdi", "xmm0", "rsi", "xmm1"]);
        assert_eq!(x86_64[10..14], ["r9", "xmm5", "[stack + 8]", "xmm6"]);
        assert_eq!(x86_64[16..], ["[stack + 24]", "[stack + 32]"]);
        let arm64 = named(Arch::Arm64);
        assert_eq!(arm64[14..], ["x7", "v7", "[stack + 0]", "[stack + 8]"]);
        let mut locations = ArgumentLocations::new(Arch::X86_32);
        let all = [locations.next(false, 4), locations.next(true, 8), locations.next(false, 1)];
        assert_eq!(all, [Location::Stack(4), Location::Stack(8), Location::Stack(16)]);
    }

    #[test]
    fn every_register_has_exactly_one_role() {
        for &arch in Arch::ALL {
            let mut seen: Vec<Storage> =
                arch.convention().groups.iter().flat_map(|g| g.registers).copied().collect();
            seen.sort();
            let all: Vec<Storage> = arch.general_storages().collect();
            assert_eq!(seen, all, "{arch}");
        }
    }
}
