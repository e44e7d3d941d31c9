//! What Linux is like on each machine. No other file of this crate asks which machine a program is for.

use sotto_isa::Arch;

use crate::abi::SyscallAbi;

/// Linux on a machine.
pub struct Target {
    /// Numbers and registers of system calls.
    pub abi: SyscallAbi,
    /// The instruction that makes a system call, as sources write it.
    pub syscall_instruction: &'static str,
    /// Lines of source that end a program with status 0.
    pub exit_lines: &'static [&'static str],
    /// Address after the last byte of the initial stack: the last pages of the user's half stay free.
    pub(crate) stack_top: u64,
    /// Mappings are made downwards from here, below the stack.
    pub(crate) mapping_top: u64,
    /// Bits of an address that belong to programs.
    pub(crate) address_bits: u32,
    /// The address up to which a system call takes ranges of memory before it looks at the memory; `None` if every
    /// sum of an address and a count is in range. Source: Linux, `access_ok`.
    pub(crate) user_limit: Option<u64>,
    /// What AT_PLATFORM and `uname` call the machine.
    pub(crate) platform: &'static str,
    /// AT_HWCAP: what the processor has, as the machine's kernel numbers it.
    pub(crate) features: u64,
}

static X86_64: Target = Target {
    abi: SyscallAbi::X86_64,
    syscall_instruction: "syscall",
    exit_lines: &["mov eax, 60    ; exit", "xor edi, edi   ; status 0", "syscall"],
    stack_top: 0x7fff_ffff_f000,
    mapping_top: 0x7fff_f7ff_f000,
    address_bits: 47,
    // The last page below the limit belongs to nobody.
    user_limit: Some((1 << 47) - 4096),
    platform: "x86_64",
    // Programs ask CPUID.
    features: 0,
};

static X86_32: Target = Target {
    abi: SyscallAbi::X86_32,
    syscall_instruction: "int 0x80",
    exit_lines: &["mov eax, 1     ; exit", "xor ebx, ebx   ; status 0", "int 0x80"],
    stack_top: 0xffff_e000,
    mapping_top: 0xf7ff_f000,
    address_bits: 32,
    // Addresses and counts have 32 bits, and their sum is below the limit of the 64-bit kernel.
    user_limit: None,
    platform: "i686",
    features: 0,
};

/// FP, ASIMD, AES, PMULL, SHA1, SHA2, CRC32, ATOMICS, FPHP, ASIMDHP, CPUID, ASIMDRDM, LRCPC, ASIMDDP.
///
/// Source: Linux, Documentation/arch/arm64/elf_hwcaps.rst and uapi/asm/hwcap.h.
const ARM64_FEATURES: u64 = 1
    | 1 << 1
    | 1 << 3
    | 1 << 4
    | 1 << 5
    | 1 << 6
    | 1 << 7
    | 1 << 8
    | 1 << 9
    | 1 << 10
    | 1 << 11
    | 1 << 12
    | 1 << 15
    | 1 << 20;

static ARM64: Target = Target {
    abi: SyscallAbi::Arm64,
    syscall_instruction: "svc #0",
    exit_lines: &["mov x8, #93    // exit", "mov x0, #0     // status", "svc #0"],
    platform: "aarch64",
    features: ARM64_FEATURES,
    ..X86_64
};

/// Linux on a machine.
pub fn target(arch: Arch) -> &'static Target {
    match arch {
        Arch::X86_64 => &X86_64,
        Arch::X86_32 => &X86_32,
        Arch::Arm64 => &ARM64,
    }
}
