//! What Linux is like on each machine. No other file of this crate asks which machine a program is for.

use sotto_isa::{Arch, arm64 as isa_arm64, x86};

use crate::Errno;
use crate::abi::SyscallAbi;
use crate::calls::threads::set_segment;
use crate::signals::deliver::SignalFrames;
use crate::signals::{arm64, x86_32, x86_64};
use crate::system::System;

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
    /// Numbers of the flags of `open`.
    pub(crate) open_bits: OpenBits,
    /// The frames of signal handlers.
    pub(crate) signal_frames: SignalFrames,
    /// Sets the thread pointer of a task that is made: by itself, or by what is described at an address.
    pub(crate) set_thread_pointer: fn(&mut System, u64) -> Result<(), Errno>,
    /// The page of the kernel's own code in a program.
    pub(crate) vdso: Vdso,
    /// What AT_PLATFORM and `uname` call the machine.
    pub(crate) platform: &'static str,
    /// AT_HWCAP: what the processor has, as the machine's kernel numbers it.
    pub(crate) features: u64,
}

/// The page of the kernel's own code that it maps into programs. Source: vdso(7).
#[derive(Copy, Clone, Debug)]
pub(crate) struct Vdso {
    /// Where it is, or the next free page below.
    pub place: u64,
    pub code: &'static [u8],
    /// Offsets of what handlers without a restorer return to: without `siginfo`, and with it.
    pub sigreturn: [u64; 2],
}

/// The flags of `open`, some of which machines number in their own ways. Source: open(2), <asm/fcntl.h>.
#[derive(Copy, Clone, Debug)]
pub(crate) struct OpenBits {
    pub write_only: u64,
    pub create: u64,
    pub exclusive: u64,
    pub truncate: u64,
    pub append: u64,
    pub nonblock: u64,
    pub direct: u64,
    pub large_file: u64,
    pub directory: u64,
    pub no_follow: u64,
    pub close_on_exec: u64,
    pub path: u64,
    pub temporary: u64,
}

impl OpenBits {
    /// Of x86, and of most machines.
    pub const COMMON: OpenBits = OpenBits {
        write_only: 1,
        create: 0o100,
        exclusive: 0o200,
        truncate: 0o1000,
        append: 0o2000,
        nonblock: 0o4000,
        direct: 0o40_000,
        large_file: 0o100_000,
        directory: 0o200_000,
        no_follow: 0o400_000,
        close_on_exec: 0o2_000_000,
        path: 0o10_000_000,
        temporary: 0o20_000_000,
    };
    const ARM: OpenBits = OpenBits {
        directory: 0o40_000,
        no_follow: 0o100_000,
        direct: 0o200_000,
        large_file: 0o400_000,
        ..OpenBits::COMMON
    };

    /// The flags that say what opening does, and are not kept with the file.
    pub fn of_opening(&self) -> u64 {
        const NO_CONTROLLING_TERMINAL: u64 = 0o400;
        self.create | self.exclusive | self.truncate | self.close_on_exec | NO_CONTROLLING_TERMINAL
    }

    /// The flags with their names.
    pub fn names(&self) -> [(&'static str, u64); 12] {
        [
            ("O_CREAT", self.create),
            ("O_EXCL", self.exclusive),
            ("O_TRUNC", self.truncate),
            ("O_APPEND", self.append),
            ("O_NONBLOCK", self.nonblock),
            ("O_DIRECT", self.direct),
            ("O_LARGEFILE", self.large_file),
            ("O_TMPFILE", self.temporary | self.directory),
            ("O_DIRECTORY", self.directory),
            ("O_NOFOLLOW", self.no_follow),
            ("O_CLOEXEC", self.close_on_exec),
            ("O_PATH", self.path),
        ]
    }
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
    open_bits: OpenBits::COMMON,
    signal_frames: x86_64::FRAMES,
    set_thread_pointer: |system, value| {
        system.machine.set_register(x86::storage::FS_BASE, value);
        Ok(())
    },
    // A handler brings its restorer along.
    vdso: Vdso { place: 0, code: &[], sigreturn: [0; 2] },
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
    open_bits: OpenBits::COMMON,
    signal_frames: x86_32::FRAMES,
    set_thread_pointer: set_segment,
    vdso: Vdso {
        // Among what the kernel maps for a program, under the stack.
        place: 0xf7ff_d000,
        code: &[
            // What SYSENTER comes back to: `pop ebp`, `pop edx`, `pop ecx`, `ret`.
            0x5d, 0x5a, 0x59, 0xc3, //
            // `pop eax`, `mov eax, 119`, `int 0x80`: sigreturn.
            0x58, 0xb8, 119, 0, 0, 0, 0xcd, 0x80, //
            // `mov eax, 173`, `int 0x80`: rt_sigreturn.
            0xb8, 173, 0, 0, 0, 0xcd, 0x80,
        ],
        sigreturn: [4, 12],
    },
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
    open_bits: OpenBits::ARM,
    signal_frames: arm64::FRAMES,
    set_thread_pointer: |system, value| {
        system.machine.set_register(isa_arm64::storage::TPIDR_EL0, value);
        Ok(())
    },
    vdso: Vdso {
        place: 0x7fff_f7ff_d000,
        // `mov x8, #139`, `svc #0`: rt_sigreturn.
        code: &[0x68, 0x11, 0x80, 0xd2, 0x01, 0x00, 0x00, 0xd4],
        sigreturn: [0; 2],
    },
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
