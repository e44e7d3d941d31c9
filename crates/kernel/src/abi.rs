//! System-call ABIs.

use sotto_isa::Arch;

/// A system-call ABI: whose numbers and registers a call uses.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum SyscallAbi {
    /// SYSCALL of x86-64.
    X86_64,
    /// `int 0x80`: the table of 32-bit x86, and 32 bits of each argument.
    X86_32,
    /// SVC of A64.
    Arm64,
}

impl SyscallAbi {
    /// The machine whose convention has the registers of the arguments.
    pub const fn arch(self) -> Arch {
        match self {
            SyscallAbi::X86_64 => Arch::X86_64,
            SyscallAbi::X86_32 => Arch::X86_32,
            SyscallAbi::Arm64 => Arch::Arm64,
        }
    }

    /// Whether `clone` takes the thread pointer behind the place for the child's number, and not before it. Source: clone(2),
    /// "C library/kernel differences".
    pub const fn clone_has_pointer_last(self) -> bool {
        matches!(self, SyscallAbi::X86_64)
    }

    /// Bytes of an address and of a C `long`.
    pub const fn word_bytes(self) -> usize {
        self.arch().address_bytes() as usize
    }

    /// The name of the machine whose table it is.
    pub const fn name(self) -> &'static str {
        match self {
            SyscallAbi::X86_64 => "x86-64",
            SyscallAbi::X86_32 => "32-bit x86",
            SyscallAbi::Arm64 => "arm64",
        }
    }
}
