//! The machines we know, by name.

use std::fmt;
use std::ops::RangeInclusive;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::{Convention, FlagInfo, FlagRole, FlagSet, Storage, Width, convention};

/// A target machine.
#[derive(Copy, Clone, PartialEq, Eq, Hash, Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Arch {
    /// x86 in 64-bit mode.
    #[serde(rename = "x86-64")]
    X86_64,
    /// x86 in 32-bit mode.
    #[serde(rename = "x86-32")]
    X86_32,
    /// A64, the 64-bit instruction set of the Arm architecture.
    Arm64,
}

impl Arch {
    /// Every machine, in the order in which help lists them.
    pub const ALL: &'static [Arch] = &[Arch::X86_64, Arch::X86_32, Arch::Arm64];

    /// The name used by `--target` and `.target`.
    pub const fn name(self) -> &'static str {
        match self {
            Arch::X86_64 => "x86-64",
            Arch::X86_32 => "x86-32",
            Arch::Arm64 => "arm64",
        }
    }

    /// Bytes that `.word` lays down.
    ///
    /// Both manuals call the unit of their first members a word: 2 bytes on x86 (SDM Vol. 1, 4.1),
    /// 4 on Arm (Arm ARM, A1.4).
    pub const fn word_bytes(self) -> u64 {
        match self {
            Arch::X86_64 | Arch::X86_32 => 2,
            Arch::Arm64 => 4,
        }
    }

    /// The words for widths of data: for each width the one that the machine's sources use first, then others that
    /// are understood. As wide as what the data directives of the same names lay down.
    pub const fn width_words(self) -> &'static [(&'static str, Width)] {
        match self {
            Arch::X86_64 | Arch::X86_32 => &[
                ("byte", Width::W8),
                ("word", Width::W16),
                ("dword", Width::W32),
                ("qword", Width::W64),
                ("xmmword", Width::W128),
                ("oword", Width::W128),
            ],
            Arch::Arm64 => &[
                ("byte", Width::W8),
                ("hword", Width::W16),
                ("word", Width::W32),
                ("xword", Width::W64),
                ("oword", Width::W128),
                ("dword", Width::W64),
                ("quad", Width::W64),
            ],
        }
    }

    /// The width that a word stands for, in any case.
    pub fn width_by_word(self, word: &str) -> Option<Width> {
        let mut words = self.width_words().iter();
        words.find(|(known, _)| known.eq_ignore_ascii_case(word)).map(|(_, width)| *width)
    }

    /// The word for a width.
    pub fn width_word(self, width: Width) -> &'static str {
        let mut words = self.width_words().iter();
        words.find(|(_, known)| *known == width).map_or("", |(word, _)| word)
    }

    /// Instructions start at multiples of this many bytes.
    pub const fn code_alignment(self) -> u64 {
        match self {
            Arch::X86_64 | Arch::X86_32 => 1,
            Arch::Arm64 => 4,
        }
    }

    /// Whether both are modes of one instruction set, with one table of instructions.
    pub const fn shares_instructions_with(self, other: Arch) -> bool {
        match self {
            Arch::X86_64 | Arch::X86_32 => matches!(other, Arch::X86_64 | Arch::X86_32),
            Arch::Arm64 => matches!(other, Arch::Arm64),
        }
    }

    /// The register in which a call leaves the return address; `None` where it pushes it.
    pub const fn link_register(self) -> Option<Storage> {
        match self {
            Arch::X86_64 | Arch::X86_32 => None,
            Arch::Arm64 => Some(crate::arm64::storage::LR),
        }
    }

    /// The register that holds the address of the frame by convention.
    ///
    /// Sources: psABI x86-64, 3.2.2; psABI i386, 2.2.2; AAPCS64, 6.4.6.
    pub const fn frame_pointer(self) -> Storage {
        match self {
            Arch::X86_64 | Arch::X86_32 => crate::x86::storage::RBP,
            Arch::Arm64 => crate::arm64::storage::FP,
        }
    }

    /// Bytes that a call pushes for the return address: 0 where it is left in a register.
    pub const fn return_address_slot(self) -> u64 {
        if self.stacks_return_address() { self.address_bytes() } else { 0 }
    }

    /// Bytes below the stack pointer that a routine may use without moving it, and that signals leave alone.
    ///
    /// Source: psABI x86-64, 3.2.2 "The Stack Frame". The other conventions have none.
    pub const fn red_zone_bytes(self) -> u64 {
        match self {
            Arch::X86_64 => 128,
            Arch::X86_32 | Arch::Arm64 => 0,
        }
    }

    /// The lengths in bytes that a call instruction can have.
    pub const fn call_lengths(self) -> RangeInclusive<u64> {
        match self {
            Arch::X86_64 | Arch::X86_32 => 2..=7,
            Arch::Arm64 => 4..=4,
        }
    }

    /// Bytes of the instruction that enters the kernel.
    ///
    /// Sources: SDM Vol. 2A, INT; Vol. 2B, SYSCALL; Arm ARM, C6.2 SVC.
    pub const fn syscall_bytes(self) -> u64 {
        match self {
            Arch::X86_64 | Arch::X86_32 => 2,
            Arch::Arm64 => 4,
        }
    }

    /// Whether a breakpoint instruction is completed before its signal is raised, so that the program counter is behind
    /// it. Sources: SDM Vol. 3A, 6.4.4; Arm ARM, D2.8.2.
    pub const fn completes_breakpoints(self) -> bool {
        match self {
            Arch::X86_64 | Arch::X86_32 => true,
            Arch::Arm64 => false,
        }
    }

    /// The instruction that extends the sign of a 32-bit register to a 64-bit one, where that is worth a hint: other
    /// 32-bit operations clear the upper half.
    pub const fn sign_extension(self) -> Option<&'static str> {
        match self {
            Arch::X86_64 => Some("movsxd"),
            Arch::X86_32 | Arch::Arm64 => None,
        }
    }

    /// Whether a subtraction clears the carry flag when it borrows; otherwise it sets it.
    pub const fn carry_means_no_borrow(self) -> bool {
        match self {
            Arch::X86_64 | Arch::X86_32 => false,
            Arch::Arm64 => true,
        }
    }

    /// Whether sources for this machine may write the source operand first.
    pub const fn has_source_first(self) -> bool {
        match self {
            Arch::X86_64 | Arch::X86_32 => true,
            Arch::Arm64 => false,
        }
    }

    /// Whether a call leaves the return address on the stack; otherwise it does so in a register.
    pub const fn stacks_return_address(self) -> bool {
        match self {
            Arch::X86_64 | Arch::X86_32 => true,
            Arch::Arm64 => false,
        }
    }

    /// The width of an address, of a full general register and of a slot of the stack.
    pub const fn address_width(self) -> Width {
        match self {
            Arch::X86_64 | Arch::Arm64 => Width::W64,
            Arch::X86_32 => Width::W32,
        }
    }

    /// Bytes of an address.
    pub const fn address_bytes(self) -> u64 {
        self.address_width().bytes()
    }

    /// The machine's status flags, in the order in which a report lists them.
    pub fn flags(self) -> &'static [FlagInfo] {
        match self {
            Arch::X86_64 | Arch::X86_32 => crate::x86::FLAGS,
            Arch::Arm64 => crate::arm64::FLAGS,
        }
    }

    /// What the manual calls the flags together, and the bit at which they stand in that register.
    pub const fn flags_register(self) -> (&'static str, u32) {
        match self {
            Arch::X86_64 => ("rflags", 0),
            Arch::X86_32 => ("eflags", 0),
            Arch::Arm64 => ("nzcv", 28),
        }
    }

    /// Names of the flags in `set`, in report order.
    pub fn flag_names(self, set: FlagSet) -> Vec<&'static str> {
        self.flags().iter().filter(|info| set.contains(info.flag)).map(|info| info.name).collect()
    }

    /// The flag with a role; none if the machine has none.
    pub fn flag(self, role: FlagRole) -> FlagSet {
        let mut all = self.flags().iter();
        all.find(|info| info.role == role).map_or(FlagSet::NONE, |info| info.flag)
    }

    /// The machine's calling convention.
    pub fn convention(self) -> &'static Convention {
        match self {
            Arch::X86_64 => &convention::X86_64,
            Arch::X86_32 => &convention::X86_32,
            Arch::Arm64 => &convention::ARM64,
        }
    }
}

impl fmt::Display for Arch {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.name())
    }
}

/// A machine name that we do not know.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("unknown target `{0}`; the targets are x86-64, x86-32 and arm64")]
pub struct UnknownArch(pub String);

impl FromStr for Arch {
    type Err = UnknownArch;

    fn from_str(text: &str) -> Result<Arch, UnknownArch> {
        Arch::ALL
            .iter()
            .copied()
            .find(|arch| arch.name().eq_ignore_ascii_case(text))
            .ok_or_else(|| UnknownArch(text.to_string()))
    }
}
