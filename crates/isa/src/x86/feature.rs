//! Which instructions a processor has only if it says so: the features of CPUID.
//!
//! A feature belongs to a stretch of the opcode maps or to a few mnemonics, so it is read off a row
//! rather than repeated in each. Source: SDM Vol. 2A, CPUID, tables 3-8 to 3-11; the column "CPUID Feature
//! Flag" of each instruction's page.

use super::encoding::{Encoding, Mandatory};
use super::{Form, Meaning};

/// A feature, and the bit that tells of it.
#[derive(Copy, Clone, PartialEq, Eq, Hash, Debug)]
pub struct Feature {
    /// The manual's name.
    pub name: &'static str,
    /// The topic to ask CPUID for, in EAX; the part, in ECX, is 0.
    pub topic: u32,
    /// The register of the answer: 0 to 3 for EAX, EBX, ECX and EDX.
    pub register: u8,
    /// The bit in it.
    pub bit: u8,
}

const EBX: u8 = 1;
const ECX: u8 = 2;
const EDX: u8 = 3;

const fn feature(name: &'static str, topic: u32, register: u8, bit: u8) -> Option<Feature> {
    Some(Feature { name, topic, register, bit })
}

const SSE: Option<Feature> = feature("SSE", 1, EDX, 25);
const SSE2: Option<Feature> = feature("SSE2", 1, EDX, 26);
const SSE3: Option<Feature> = feature("SSE3", 1, ECX, 0);
const SSSE3: Option<Feature> = feature("SSSE3", 1, ECX, 9);
const SSE4_1: Option<Feature> = feature("SSE4.1", 1, ECX, 19);
const SSE4_2: Option<Feature> = feature("SSE4.2", 1, ECX, 20);
const BMI1: Option<Feature> = feature("BMI1", 7, EBX, 3);
const BMI2: Option<Feature> = feature("BMI2", 7, EBX, 8);
const EXTENDED: u32 = 0x8000_0001;

/// The feature that a row needs; `None` if every processor with the mode has it, or if it is no more
/// than the x87 unit's words, which are there without the unit.
pub(super) fn of(form: &Form, encoding: &Encoding) -> Option<Feature> {
    match form.meaning {
        Meaning::Cmovcc(_) => feature("CMOV", 1, EDX, 15),
        Meaning::CmpxchgPair(crate::Width::W32) => feature("CX8", 1, EDX, 8),
        Meaning::CmpxchgPair(_) => feature("CMPXCHG16B", 1, ECX, 13),
        Meaning::Popcnt => feature("POPCNT", 1, ECX, 23),
        Meaning::Movbe => feature("MOVBE", 1, ECX, 22),
        Meaning::Crc32(_) => SSE4_2,
        Meaning::Lzcnt => feature("LZCNT", EXTENDED, ECX, 5),
        Meaning::Tzcnt
        | Meaning::Andn
        | Meaning::Bextr
        | Meaning::Blsi
        | Meaning::Blsmsk
        | Meaning::Blsr => BMI1,
        Meaning::Bzhi
        | Meaning::Pdep
        | Meaning::Pext
        | Meaning::Rorx
        | Meaning::Sarx
        | Meaning::Shlx
        | Meaning::Shrx
        | Meaning::Mulx => BMI2,
        Meaning::Adcx | Meaning::Adox => feature("ADX", 7, EBX, 19),
        Meaning::ReadBase(_) | Meaning::WriteBase(_) => feature("FSGSBASE", 7, EBX, 0),
        Meaning::Rdtsc => feature("TSC", 1, EDX, 4),
        Meaning::Rdtscp => feature("RDTSCP", EXTENDED, EDX, 27),
        Meaning::Rdpid => feature("RDPID", 7, ECX, 22),
        Meaning::Rdrand if form.mnemonic == "rdseed" => feature("RDSEED", 7, EBX, 18),
        Meaning::Rdrand => feature("RDRAND", 1, ECX, 30),
        Meaning::FlushLine => feature("CLFSH", 1, EDX, 19),
        Meaning::Sysenter => feature("SEP", 1, EDX, 11),
        Meaning::Syscall => feature("SYSCALL", EXTENDED, EDX, 11),
        _ => match form.mnemonic {
            "prefetchw" => feature("PREFETCHW", EXTENDED, ECX, 8),
            "sfence" | "prefetchnta" | "prefetcht0" | "prefetcht1" | "prefetcht2" => SSE,
            "lfence" | "mfence" | "movnti" => SSE2,
            "fxsave" | "fxrstor" => feature("FXSR", 1, EDX, 24),
            "ldmxcsr" | "stmxcsr" => SSE,
            _ if matches!(form.meaning, Meaning::Vector(_)) => of_vectors(encoding),
            _ => None,
        },
    }
}

/// The feature of a row on vectors, by its place in the opcode maps.
fn of_vectors(e: &Encoding) -> Option<Feature> {
    match (e.map, e.opcode, e.mandatory) {
        (2, 0x00..=0x0b | 0x1c..=0x1e, _) | (3, 0x0f, _) => SSSE3,
        (2, 0x37, _) | (3, 0x60..=0x63, _) => SSE4_2,
        (2 | 3, ..) => SSE4_1,
        (_, 0x12 | 0x16, Mandatory::Repeat(_)) => SSE3,
        (_, 0x7c | 0x7d | 0xd0 | 0xf0, _) => SSE3,
        // Conversions between floats and doubles, or of integers beside each other.
        (_, 0x5a | 0x5b, _) => SSE2,
        // Moves and shuffles of integers, and MOVQ.
        (_, 0x6f | 0x70 | 0x7e | 0x7f | 0xe6, _) => SSE2,
        (_, _, Mandatory::NoPrefix | Mandatory::Repeat(0xf3) | Mandatory::Any) => SSE,
        _ => SSE2,
    }
}
