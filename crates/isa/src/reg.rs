//! Registers as sources name them, and the storage behind the names.
//!
//! `eax`, `ax`, `al` and `ah` are four names for parts of one storage register; reports of what
//! changed speak of storage, and operands speak of names.

use crate::{Arch, Bank, BankInfo, RegisterId, Width};

/// What kind of name a register has: its machine, its width and its place in the storage register.
#[derive(Copy, Clone, PartialEq, Eq, Hash, Debug)]
pub enum RegKind {
    /// x86 low byte: `al` ... `r15b`.
    Byte,
    /// x86 bits 8 to 15 of the first four registers: `ah`, `ch`, `dh`, `bh`; the number is the storage register's.
    HighByte,
    /// x86 16-bit: `ax` ... `r15w`.
    Word,
    /// x86 32-bit: `eax` ... `r15d`.
    Dword,
    /// x86 64-bit: `rax` ... `r15`.
    Qword,
    /// The x86 instruction pointer, as a base of an address: number 0 `rip`, number 1 its lower half `eip`.
    Ip,
    /// x86 128-bit: `xmm0` ... `xmm15`.
    Xmm,
    /// x86 segment: `es`, `cs`, `ss`, `ds`, `fs`, `gs`.
    Segment,
    /// A64 32-bit: `w0` ... `w30`, number 31 the zero register `wzr`.
    W,
    /// A64 64-bit: `x0` ... `x30`, number 31 the zero register `xzr`.
    X,
    /// The A64 stack pointer, 32-bit view.
    Wsp,
    /// The A64 stack pointer.
    Sp,
    /// The lowest 8 bits of an A64 vector register: `b0` ... `b31`.
    B,
    /// The lowest 16 bits: `h0` ... `h31`.
    H,
    /// The lowest 32 bits: `s0` ... `s31`.
    S,
    /// The lowest 64 bits: `d0` ... `d31`.
    D,
    /// All 128 bits as one value: `q0` ... `q31`.
    Q,
    /// An A64 vector register as a whole: `v0` ... `v31`.
    V,
}

/// A register name.
#[derive(Copy, Clone, PartialEq, Eq, Hash, Debug)]
pub struct Reg {
    /// Width and part.
    pub kind: RegKind,
    /// The number the encoding gives it.
    pub number: u8,
}

/// A full-width register of a machine's register file, by index.
///
/// x86-64: 0 to 15 the general registers in encoding order, 16 the instruction pointer, 17 and 18 the
/// bases of the segments FS and GS, 19 the control and status register of vectors, 20 the control
/// and status words of the x87 unit, 21 the selectors in ES, DS, FS and GS, 16 bits each from the lowest,
/// 22 to 24 the bases of the segments that a thread may describe for itself, with bit 32 set if it did.
/// x86-32: the same.
/// arm64: 0 to 30 `x0` to `x30`, 31 `sp`, 32 `pc`, 33 the thread pointer, 34 and 35 the control and status registers of
/// floating point, 36 the address that is marked for exclusive access plus 1, or 0.
#[derive(Copy, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub struct Storage(pub u8);

impl Storage {
    /// The number that the ABI gives the register in DWARF, of the general ones and of what stands for the return
    /// address or the stack pointer. See [`Reg::dwarf_number`].
    pub fn dwarf_number(self, arch: Arch) -> Option<u16> {
        match (arch, self.0) {
            (Arch::X86_64 | Arch::X86_32, number @ 0..16) => Reg::new(RegKind::Qword, number),
            (Arch::X86_64 | Arch::X86_32, 16) => Reg::new(RegKind::Ip, 0),
            (Arch::Arm64, number @ 0..31) => Reg::new(RegKind::X, number),
            (Arch::Arm64, 31) => Reg::new(RegKind::Sp, 31),
            (Arch::X86_64 | Arch::X86_32 | Arch::Arm64, _) => return None,
        }
        .dwarf_number(arch)
    }
}

const QWORD: [&str; 16] = [
    "rax", "rcx", "rdx", "rbx", "rsp", "rbp", "rsi", "rdi", "r8", "r9", "r10", "r11", "r12", "r13",
    "r14", "r15",
];
const DWORD: [&str; 16] = [
    "eax", "ecx", "edx", "ebx", "esp", "ebp", "esi", "edi", "r8d", "r9d", "r10d", "r11d", "r12d",
    "r13d", "r14d", "r15d",
];
const WORD: [&str; 16] = [
    "ax", "cx", "dx", "bx", "sp", "bp", "si", "di", "r8w", "r9w", "r10w", "r11w", "r12w", "r13w",
    "r14w", "r15w",
];
const BYTE: [&str; 16] = [
    "al", "cl", "dl", "bl", "spl", "bpl", "sil", "dil", "r8b", "r9b", "r10b", "r11b", "r12b",
    "r13b", "r14b", "r15b",
];
const HIGH_BYTE: [&str; 4] = ["ah", "ch", "dh", "bh"];
const XMM: [&str; 16] = [
    "xmm0", "xmm1", "xmm2", "xmm3", "xmm4", "xmm5", "xmm6", "xmm7", "xmm8", "xmm9", "xmm10",
    "xmm11", "xmm12", "xmm13", "xmm14", "xmm15",
];
const SEGMENT: [&str; 6] = ["es", "cs", "ss", "ds", "fs", "gs"];

/// The names of 32 registers of A64: a letter and the number, and a name of its own for the last.
macro_rules! numbered {
    ($letter:literal) => {
        numbered!($letter, concat!($letter, "31"))
    };
    ($letter:literal, $last:expr) => {
        [
            concat!($letter, "0"),
            concat!($letter, "1"),
            concat!($letter, "2"),
            concat!($letter, "3"),
            concat!($letter, "4"),
            concat!($letter, "5"),
            concat!($letter, "6"),
            concat!($letter, "7"),
            concat!($letter, "8"),
            concat!($letter, "9"),
            concat!($letter, "10"),
            concat!($letter, "11"),
            concat!($letter, "12"),
            concat!($letter, "13"),
            concat!($letter, "14"),
            concat!($letter, "15"),
            concat!($letter, "16"),
            concat!($letter, "17"),
            concat!($letter, "18"),
            concat!($letter, "19"),
            concat!($letter, "20"),
            concat!($letter, "21"),
            concat!($letter, "22"),
            concat!($letter, "23"),
            concat!($letter, "24"),
            concat!($letter, "25"),
            concat!($letter, "26"),
            concat!($letter, "27"),
            concat!($letter, "28"),
            concat!($letter, "29"),
            concat!($letter, "30"),
            $last,
        ]
    };
}
const X: [&str; 32] = numbered!("x", "xzr");
const W: [&str; 32] = numbered!("w", "wzr");

/// Names for parts of the A64 vector registers, the narrowest first, and for whole ones.
const VECTOR_PARTS: [[&str; 32]; 6] = [
    numbered!("b"),
    numbered!("h"),
    numbered!("s"),
    numbered!("d"),
    numbered!("q"),
    numbered!("v"),
];

impl Reg {
    /// The register of this kind and number.
    pub const fn new(kind: RegKind, number: u8) -> Reg {
        Reg { kind, number }
    }

    /// The x86 general register `number` at `width`, without the high-byte names.
    pub const fn x86(width: Width, number: u8) -> Reg {
        let kind = match width {
            Width::W8 => RegKind::Byte,
            Width::W16 => RegKind::Word,
            Width::W32 => RegKind::Dword,
            Width::W64 => RegKind::Qword,
            Width::W128 => RegKind::Xmm,
        };
        Reg { kind, number }
    }

    /// Bits this name gives access to.
    pub const fn width(self) -> Width {
        match self.kind {
            RegKind::Byte | RegKind::HighByte => Width::W8,
            RegKind::Word | RegKind::Segment => Width::W16,
            RegKind::Dword | RegKind::W | RegKind::Wsp => Width::W32,
            RegKind::Ip if self.number == 1 => Width::W32,
            RegKind::Qword | RegKind::Ip | RegKind::X | RegKind::Sp => Width::W64,
            RegKind::Xmm | RegKind::Q | RegKind::V => Width::W128,
            RegKind::B => Width::W8,
            RegKind::H => Width::W16,
            RegKind::S => Width::W32,
            RegKind::D => Width::W64,
        }
    }

    /// The name, in lower case.
    pub fn name(self) -> &'static str {
        let n = usize::from(self.number);
        match self.kind {
            RegKind::Byte => BYTE[n],
            RegKind::HighByte => HIGH_BYTE[n],
            RegKind::Word => WORD[n],
            RegKind::Dword => DWORD[n],
            RegKind::Qword => QWORD[n],
            RegKind::Ip => ["rip", "eip"][n],
            RegKind::Xmm => XMM[n],
            RegKind::Segment => SEGMENT[n],
            RegKind::W => W[n],
            RegKind::X => X[n],
            RegKind::Wsp => "wsp",
            RegKind::Sp => "sp",
            RegKind::B => VECTOR_PARTS[0][n],
            RegKind::H => VECTOR_PARTS[1][n],
            RegKind::S => VECTOR_PARTS[2][n],
            RegKind::D => VECTOR_PARTS[3][n],
            RegKind::Q => VECTOR_PARTS[4][n],
            RegKind::V => VECTOR_PARTS[5][n],
        }
    }

    /// The A64 register of the vector bank with this number, by the name for so many of its low bits.
    pub const fn a64_scalar(width: Width, number: u8) -> Reg {
        let kind = match width {
            Width::W8 => RegKind::B,
            Width::W16 => RegKind::H,
            Width::W32 => RegKind::S,
            Width::W64 => RegKind::D,
            Width::W128 => RegKind::Q,
        };
        Reg { kind, number }
    }

    /// The register of a bank beside the general ones that this is.
    pub const fn id(self) -> Option<RegisterId> {
        match self.kind {
            RegKind::Xmm
            | RegKind::B
            | RegKind::H
            | RegKind::S
            | RegKind::D
            | RegKind::Q
            | RegKind::V => Some(RegisterId::vector(self.number)),
            _ => None,
        }
    }

    /// Whether it is a register of the A64 vector bank, or a part of one.
    pub const fn is_a64_vector(self) -> bool {
        matches!(
            self.kind,
            RegKind::B | RegKind::H | RegKind::S | RegKind::D | RegKind::Q | RegKind::V
        )
    }

    /// The storage register this is a part of; `None` for the zero registers, vectors and segments.
    pub const fn storage(self) -> Option<Storage> {
        match self.kind {
            RegKind::Byte | RegKind::HighByte | RegKind::Word | RegKind::Dword | RegKind::Qword => {
                Some(Storage(self.number))
            }
            RegKind::Ip => Some(Storage(16)),
            RegKind::Xmm | RegKind::Segment => None,
            RegKind::B | RegKind::H | RegKind::S | RegKind::D | RegKind::Q | RegKind::V => None,
            RegKind::W | RegKind::X if self.number == 31 => None,
            RegKind::W | RegKind::X => Some(Storage(self.number)),
            RegKind::Wsp | RegKind::Sp => Some(Storage(31)),
        }
    }

    /// Bit of the storage register at which this part starts: 8 for `ah` and its like, else 0.
    pub const fn shift(self) -> u32 {
        if matches!(self.kind, RegKind::HighByte) { 8 } else { 0 }
    }

    /// This part of a storage register's value, zero-extended.
    pub const fn part_of(self, value: u64) -> u64 {
        (value >> self.shift()) & self.width().mask()
    }

    /// The storage register's value after `part` is written through this name.
    ///
    /// 32-bit writes clear the upper half on both machines; 8- and 16-bit writes keep the rest.
    /// Source: SDM Vol. 1, 3.4.1.1; Arm ARM, B1.2.1.
    pub const fn merged_into(self, value: u64, part: u64) -> u64 {
        match self.width() {
            Width::W64 | Width::W128 => part,
            Width::W32 => part & Width::W32.mask(),
            narrow => {
                let mask = narrow.mask() << self.shift();
                (value & !mask) | ((part << self.shift()) & mask)
            }
        }
    }

    /// The number that the ABI gives the whole register in DWARF; `None` for the zero registers.
    ///
    /// Sources: psABI x86-64, 3.6.2 "DWARF Register Number Mapping"; psABI i386, 2.5.1; AADWARF64, 4.1.
    pub fn dwarf_number(self, arch: Arch) -> Option<u16> {
        // RAX to RDI in the order of encodings.
        const X86_64: [u16; 8] = [0, 2, 1, 3, 7, 6, 4, 5];
        let number = u16::from(self.number);
        match (arch, self.kind) {
            (Arch::X86_32, RegKind::Xmm) => Some(21 + number),
            (Arch::X86_32, RegKind::Segment) => Some(40 + number),
            (Arch::X86_32, RegKind::Ip) => Some(8),
            // There the numbers are those of the encoding.
            (Arch::X86_32, _) => Some(number),
            // The return address stands for the instruction pointer.
            (Arch::X86_64, RegKind::Ip) => Some(16),
            (Arch::X86_64, RegKind::Xmm) => Some(17 + number),
            (Arch::X86_64, RegKind::Segment) => Some(50 + number),
            (Arch::X86_64, _) => {
                Some(X86_64.get(usize::from(self.number)).copied().unwrap_or(number))
            }
            (Arch::Arm64, _) if self.id().is_some() => Some(64 + number),
            (Arch::Arm64, _) => self.storage().map(|storage| u16::from(storage.0)),
        }
    }

    /// Whether an x86 register is there without a REX prefix. Source: SDM Vol. 1, 3.4.1.
    const fn exists_in_32_bit_mode(self) -> bool {
        match self.kind {
            RegKind::Qword | RegKind::Ip => false,
            RegKind::Byte => self.number < 4,
            _ => self.number < 8,
        }
    }

    /// The names of the registers of a machine that general instructions take.
    pub fn names(arch: Arch) -> impl Iterator<Item = &'static str> {
        let all = match arch {
            Arch::X86_64 | Arch::X86_32 => [&QWORD[..], &DWORD, &WORD, &BYTE, &HIGH_BYTE].concat(),
            Arch::Arm64 => [&X[..], &W, &["sp", "wsp"]].concat(),
        };
        all.into_iter().filter(move |name| Reg::parse(arch, name).is_some())
    }

    /// The register with this name, in any case.
    pub fn parse(arch: Arch, name: &str) -> Option<Reg> {
        if name.len() > 5 || name.len() < 2 {
            return None;
        }
        let mut lower = [0u8; 5];
        for (to, from) in lower.iter_mut().zip(name.bytes()) {
            *to = from.to_ascii_lowercase();
        }
        let name = std::str::from_utf8(&lower[..name.len()]).ok()?;
        match arch {
            Arch::X86_64 => parse_x86(name),
            Arch::X86_32 => parse_x86(name).filter(|reg| reg.exists_in_32_bit_mode()),
            Arch::Arm64 => parse_arm64(name),
        }
    }
}

fn parse_x86(name: &str) -> Option<Reg> {
    let find = |names: &[&str], kind| {
        let number = names.iter().position(|n| *n == name)?;
        Some(Reg::new(kind, number as u8))
    };
    match name.len() {
        2 => find(&WORD, RegKind::Word)
            .or_else(|| find(&BYTE, RegKind::Byte))
            .or_else(|| find(&HIGH_BYTE, RegKind::HighByte))
            .or_else(|| find(&QWORD, RegKind::Qword))
            .or_else(|| find(&SEGMENT, RegKind::Segment)),
        _ if name.starts_with("xmm") => find(&XMM, RegKind::Xmm),
        _ if name == "rip" => Some(Reg::new(RegKind::Ip, 0)),
        _ if name == "eip" => Some(Reg::new(RegKind::Ip, 1)),
        _ => find(&QWORD, RegKind::Qword)
            .or_else(|| find(&DWORD, RegKind::Dword))
            .or_else(|| find(&BYTE, RegKind::Byte))
            .or_else(|| find(&WORD, RegKind::Word)),
    }
}

fn parse_arm64(name: &str) -> Option<Reg> {
    match name {
        "sp" => return Some(Reg::new(RegKind::Sp, 31)),
        "wsp" => return Some(Reg::new(RegKind::Wsp, 31)),
        "xzr" => return Some(Reg::new(RegKind::X, 31)),
        "wzr" => return Some(Reg::new(RegKind::W, 31)),
        // The procedure call standard's names for the link register and the frame pointer.
        "lr" => return Some(Reg::new(RegKind::X, 30)),
        "fp" => return Some(Reg::new(RegKind::X, 29)),
        _ => {}
    }
    let kind = match name.as_bytes()[0] {
        b'x' => RegKind::X,
        b'w' => RegKind::W,
        b'b' => RegKind::B,
        b'h' => RegKind::H,
        b's' => RegKind::S,
        b'd' => RegKind::D,
        b'q' => RegKind::Q,
        b'v' => RegKind::V,
        _ => return None,
    };
    let digits = &name[1..];
    if digits.starts_with('0') && digits.len() > 1 || !digits.bytes().all(|b| b.is_ascii_digit()) {
        return None;
    }
    let number: u8 = digits.parse().ok()?;
    let last = if matches!(kind, RegKind::X | RegKind::W) { 30 } else { 31 };
    (number <= last).then_some(Reg::new(kind, number))
}

/// The general registers, the instruction pointer, and what is for the system's use.
const fn x86_storage_names(general: &[&'static str; 16], ip: &'static str) -> [&'static str; 25] {
    let [a, c, d, b, sp, bp, si, di, r8, r9, r10, r11, r12, r13, r14, r15] = *general;
    [
        a,
        c,
        d,
        b,
        sp,
        bp,
        si,
        di,
        r8,
        r9,
        r10,
        r11,
        r12,
        r13,
        r14,
        r15,
        ip,
        "fs_base",
        "gs_base",
        "mxcsr",
        "x87",
        "selectors",
        "tls_12",
        "tls_13",
        "tls_14",
    ]
}

impl Arch {
    /// Names of the storage registers, by [`Storage`] index.
    pub fn storage_names(self) -> &'static [&'static str] {
        const X86: [&str; 25] = x86_storage_names(&QWORD, "rip");
        const X86_32: [&str; 25] = x86_storage_names(&DWORD, "eip");
        const ARM64: [&str; 37] = [
            "x0",
            "x1",
            "x2",
            "x3",
            "x4",
            "x5",
            "x6",
            "x7",
            "x8",
            "x9",
            "x10",
            "x11",
            "x12",
            "x13",
            "x14",
            "x15",
            "x16",
            "x17",
            "x18",
            "x19",
            "x20",
            "x21",
            "x22",
            "x23",
            "x24",
            "x25",
            "x26",
            "x27",
            "x28",
            "x29",
            "x30",
            "sp",
            "pc",
            "tpidr_el0",
            "fpcr",
            "fpsr",
            "exclusive",
        ];
        match self {
            Arch::X86_64 => &X86,
            Arch::X86_32 => &X86_32,
            Arch::Arm64 => &ARM64,
        }
    }

    /// The general registers and the program counter that the machine has; the register file of x86 in
    /// 32-bit mode is that of 64-bit mode, and half of it cannot be reached.
    pub fn general_storages(self) -> impl Iterator<Item = Storage> {
        let unreachable = if self == Arch::X86_32 { 8..16 } else { 0..0 };
        (0..=self.pc().0).filter(move |n| !unreachable.contains(n)).map(Storage)
    }

    /// The program counter's storage register. Those before it are the general registers and, on Arm,
    /// the stack pointer; those after it, if any, are for the system's use.
    pub fn pc(self) -> Storage {
        match self {
            Arch::X86_64 | Arch::X86_32 => crate::x86::storage::RIP,
            Arch::Arm64 => crate::arm64::storage::PC,
        }
    }

    /// The banks of registers beside the general ones.
    pub fn banks(self) -> &'static [BankInfo] {
        const VECTORS: [Reg; 16] = {
            let mut registers = [Reg::new(RegKind::Xmm, 0); 16];
            let mut number = 0;
            while number < registers.len() {
                registers[number].number = number as u8;
                number += 1;
            }
            registers
        };
        const X86_64: &[BankInfo] =
            &[BankInfo { bank: Bank::Vector, registers: &VECTORS, width: Width::W128 }];
        const X86_32: &[BankInfo] = &[BankInfo {
            bank: Bank::Vector,
            registers: VECTORS.split_at(8).0,
            width: Width::W128,
        }];
        const ARM64_VECTORS: [Reg; 32] = {
            let mut registers = [Reg::new(RegKind::V, 0); 32];
            let mut number = 0;
            while number < registers.len() {
                registers[number].number = number as u8;
                number += 1;
            }
            registers
        };
        const ARM64: &[BankInfo] =
            &[BankInfo { bank: Bank::Vector, registers: &ARM64_VECTORS, width: Width::W128 }];
        match self {
            Arch::X86_64 => X86_64,
            Arch::X86_32 => X86_32,
            Arch::Arm64 => ARM64,
        }
    }

    /// The registers of all banks beside the general ones, each by its widest name.
    pub fn bank_registers(self) -> impl Iterator<Item = (RegisterId, Reg)> {
        self.banks().iter().flat_map(|info| {
            (0..)
                .zip(info.registers)
                .map(|(index, reg)| (RegisterId { bank: info.bank, index }, *reg))
        })
    }

    /// The stack pointer's storage register.
    pub fn stack_pointer(self) -> Storage {
        match self {
            Arch::X86_64 | Arch::X86_32 => crate::x86::storage::RSP,
            Arch::Arm64 => crate::arm64::storage::SP,
        }
    }

    /// The whole general register.
    ///
    /// # Panics
    ///
    /// If it is the program counter or for the system's use, which no operand names.
    pub fn whole_register(self, storage: Storage) -> Reg {
        Reg::parse(self, self.storage_name(storage)).expect("general registers have names")
    }

    /// The vector register with this number, by its widest name.
    ///
    /// # Panics
    ///
    /// If the machine has no such register.
    pub fn vector_register(self, number: u8) -> Reg {
        let mut registers = self.bank_registers();
        registers
            .find(|(id, _)| *id == RegisterId::vector(number))
            .map(|(_, reg)| reg)
            .expect("the machine has that many vector registers")
    }

    /// The full-width name of a storage register.
    ///
    /// # Panics
    ///
    /// If the machine has no such register.
    pub fn storage_name(self, storage: Storage) -> &'static str {
        self.storage_names()[usize::from(storage.0)]
    }

    /// Every register name a source may use, for suggestions and completion.
    pub fn register_names(self) -> Vec<&'static str> {
        match self {
            Arch::X86_64 => {
                [&QWORD[..], &DWORD, &WORD, &BYTE, &HIGH_BYTE, &["rip"], &XMM, &SEGMENT].concat()
            }
            Arch::X86_32 => {
                [&DWORD[..8], &WORD[..8], &BYTE[..4], &HIGH_BYTE, &XMM[..8], &SEGMENT].concat()
            }
            Arch::Arm64 => [&X[..], &W, &["sp", "wsp", "lr", "fp"]].concat(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_name_parses_to_a_register_of_that_name() {
        for &arch in Arch::ALL {
            for name in arch.register_names() {
                let reg = Reg::parse(arch, name).unwrap_or_else(|| panic!("{name}"));
                let canonical = match name {
                    "lr" => "x30",
                    "fp" => "x29",
                    other => other,
                };
                assert_eq!(reg.name(), canonical);
                assert_eq!(Reg::parse(arch, &name.to_uppercase()), Some(reg));
            }
        }
        for bad in ["x31", "x01", "w", "rax1", "xx", "ah0", ""] {
            assert_eq!(Reg::parse(Arch::Arm64, bad), None, "{bad}");
            assert_eq!(Reg::parse(Arch::X86_64, bad), None, "{bad}");
        }
    }

    #[test]
    fn narrow_writes_keep_and_doubleword_writes_clear_the_upper_bits() {
        let old = 0x1122_3344_5566_7788;
        let cases = [
            ("al", 0x1122_3344_5566_77ff),
            ("ah", 0x1122_3344_5566_ff88),
            ("ax", 0x1122_3344_5566_00ff),
            ("eax", 0x0000_0000_0000_00ff),
            ("rax", 0x0000_0000_0000_00ff),
        ];
        for (name, wanted) in cases {
            let reg = Reg::parse(Arch::X86_64, name).unwrap();
            assert_eq!(reg.merged_into(old, 0xff), wanted, "{name}");
        }
    }
}
