//! What CPUID answers: the instructions that are modelled, and no others, so that a library which
//! asks chooses code that we run.
//!
//! Source: SDM Vol. 2A, CPUID, tables 3-8 to 3-11.

use sotto_isa::Arch;

/// The vendor's name in EBX, EDX and ECX: ours, since the answers are.
const VENDOR: &[u8; 12] = b"SottoMachine";

/// What the brand string says.
const BRAND: &[u8; 48] = b"Sotto, an emulated processor\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0";

/// The highest topics.
const MAX_BASIC: u32 = 7;
const MAX_EXTENDED: u32 = 0x8000_0008;

const fn bits(numbers: &[u32]) -> u32 {
    let (mut value, mut index) = (0, 0);
    while index < numbers.len() {
        value |= 1 << numbers[index];
        index += 1;
    }
    value
}

/// Topic 1, ECX: SSE3, SSSE3, CMPXCHG16B, SSE4.1, SSE4.2, MOVBE, POPCNT, RDRAND.
const FEATURES_C: u32 = bits(&[0, 9, 13, 19, 20, 22, 23, 30]);
/// Topic 1, EDX: TSC, CMPXCHG8B, SYSENTER, CMOV, CLFLUSH, FXSAVE, SSE, SSE2. No x87, no MMX.
const FEATURES_D: u32 = bits(&[4, 8, 11, 15, 19, 24, 25, 26]);
/// Topic 7, EBX: FSGSBASE, BMI1, BMI2, RDSEED, ADX.
const FEATURES_7B: u32 = bits(&[0, 3, 8, 18, 19]);
/// Topic 7, ECX: RDPID.
const FEATURES_7C: u32 = bits(&[22]);
/// Topic 80000001, ECX: LAHF in 64-bit mode, LZCNT, PREFETCHW.
const EXTENDED_C: u32 = bits(&[0, 5, 8]);
/// Topic 80000001, EDX: execute-disable pages, RDTSCP, 64-bit mode; and SYSCALL.
const EXTENDED_D: u32 = bits(&[20, 27, 29]);
const SYSCALL: u32 = bits(&[11]);

/// EAX, EBX, ECX and EDX for a topic and its part. SYSCALL is told of in the mode that has it.
pub(crate) fn answer(arch: Arch, topic: u32, part: u32) -> [u32; 4] {
    let syscall = if arch == Arch::X86_32 { 0 } else { SYSCALL };
    let word = |bytes: &[u8], at: usize| {
        u32::from_le_bytes(bytes[at..at + 4].try_into().expect("four bytes"))
    };
    match (topic, part) {
        (0, _) => [MAX_BASIC, word(VENDOR, 0), word(VENDOR, 8), word(VENDOR, 4)],
        // Family 6; a cache line of 64 bytes.
        (1, _) => [0x600, 8 << 8, FEATURES_C, FEATURES_D],
        (7, 0) => [0, FEATURES_7B, FEATURES_7C, 0],
        (0x8000_0000, _) => [MAX_EXTENDED, 0, 0, 0],
        (0x8000_0001, _) => [0, 0, EXTENDED_C, EXTENDED_D | syscall],
        (0x8000_0002..=0x8000_0004, _) => {
            let at = 16 * (topic - 0x8000_0002) as usize;
            std::array::from_fn(|index| word(BRAND, at + 4 * index))
        }
        // Addresses of 48 bits.
        (0x8000_0008, _) => [48 | 48 << 8, 0, 0, 0],
        _ => [0; 4],
    }
}
