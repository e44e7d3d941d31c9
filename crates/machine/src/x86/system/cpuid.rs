//! What CPUID answers: the instructions that are modelled, and no others, so that a library which
//! asks chooses code that we run. But every processor with 64-bit mode has x87 and MMX, and the loader of shared
//! libraries refuses one that says otherwise.
//!
//! Source: SDM Vol. 2A, CPUID, tables 3-8 to 3-11.

use sotto_isa::Arch;

/// The vendor's name in EBX, EDX and ECX. C libraries ask for features only where they know the vendor.
const VENDOR: &[u8; 12] = b"GenuineIntel";

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
/// Topic 1, EDX: TSC, CMPXCHG8B, SYSENTER, CMOV, CLFLUSH, FXSAVE, SSE, SSE2.
const FEATURES_D: u32 = bits(&[4, 8, 11, 15, 19, 24, 25, 26]);
/// The same in 64-bit mode: x87, MMX. Source: psABI x86-64, 3.1.1, table 3.1, "baseline".
const FEATURES_D_64: u32 = bits(&[0, 23]);
/// Topic 7, EBX: FSGSBASE, BMI1, BMI2, RDSEED, ADX.
const FEATURES_7B: u32 = bits(&[0, 3, 8, 18, 19]);
/// Topic 7, ECX: RDPID.
const FEATURES_7C: u32 = bits(&[22]);
/// Topic 80000001, ECX: LAHF in 64-bit mode, LZCNT, PREFETCHW.
const EXTENDED_C: u32 = bits(&[0, 5, 8]);
/// Topic 80000001, EDX: execute-disable pages, RDTSCP, 64-bit mode; and SYSCALL.
const EXTENDED_D: u32 = bits(&[20, 27, 29]);
const SYSCALL: u32 = bits(&[11]);

/// Caches of topic 4, by their part: the type (1 data, 2 code, 3 both), the level, ways and sets; lines have 64 bytes.
const CACHES: [[u32; 4]; 4] = [[1, 1, 8, 64], [2, 1, 8, 64], [3, 2, 16, 1024], [3, 3, 16, 8192]];

/// What topic 4 says of a cache.
const fn cache([kind, level, ways, sets]: [u32; 4]) -> [u32; 4] {
    [kind | level << 5 | 1 << 8, 63 | (ways - 1) << 22, sets - 1, 0]
}

/// EAX, EBX, ECX and EDX for a topic and its part. SYSCALL is told of in the mode that has it.
pub(crate) fn answer(arch: Arch, topic: u32, part: u32) -> [u32; 4] {
    let (syscall, baseline) = match arch {
        Arch::X86_32 => (0, 0),
        Arch::X86_64 | Arch::Arm64 => (SYSCALL, FEATURES_D_64),
    };
    let word = |bytes: &[u8], at: usize| {
        u32::from_le_bytes(bytes[at..at + 4].try_into().expect("four bytes"))
    };
    match (topic, part) {
        (0, _) => [MAX_BASIC, word(VENDOR, 0), word(VENDOR, 8), word(VENDOR, 4)],
        // Family 6; a cache line of 64 bytes.
        (1, _) => [0x600, 8 << 8, FEATURES_C, FEATURES_D | baseline],
        // Of caches, topic 4 tells.
        (2, _) => [0xff01, 0, 0, 0],
        (4, 0..=3) => cache(CACHES[part as usize]),
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
