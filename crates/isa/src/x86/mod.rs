//! x86 in 64-bit and 32-bit mode: the vocabulary of their table, and the doors to encoder and decoder.
//!
//! # Encoding notation
//!
//! A row's `encoding` is written as the manual writes it (SDM Vol. 2A, 3.1.1.1): opcode bytes in
//! hex; `/r` for a ModRM byte whose reg field is a register operand, `/0` to `/7` for one whose reg
//! field is that digit; `ib iw id io` and `cb cd` for immediates and code offsets; `+r` for a
//! register in the low bits of the opcode; `REX.W +` for the 64-bit operand size. `66` is the
//! operand-size prefix; a row whose first operand is 16 bits wide has it without saying so. `F2`
//! and `F3` before the opcode are mandatory prefixes, and so is `66` before a row of the other maps;
//! `NP` says that none of them may be there. `F0` is the lock prefix. `VEX.LZ.66.0F38.W1` is the VEX
//! prefix with the vector length, the implied prefix, the opcode map and W.

mod decode;
mod decode_common;
mod derived;
mod encode;
mod encoding;
mod feature;
mod frame_step;
mod kinds;
mod pattern;
mod prefix;
mod rows;
mod source_first;
pub mod vector;
// Rows stay one line each, to be held against the manual.
#[rustfmt::skip]
mod table;
#[cfg(test)]
mod tests;

pub(crate) use decode::{Index, decode_into};
use derived::FORMS;
pub use encode::{encode, encode_form};
pub(crate) use frame_step::frame_step;
pub use pattern::Pattern;
pub use prefix::{PREFIXES, Prefix, prefix_byte};
pub(crate) use rows::{Row, rows};
pub(crate) use source_first::print;
pub use source_first::{Spelling, keeps_order, spelling};

use crate::mnemonics::{Mnemonics, mnemonics};
use crate::{
    Access, Arch, Feature, FlagInfo, FlagRole, FlagSet, FlagsUndefinedWhen, FormDoc, Instruction,
    Operand, OperandContext, Reg, RegKind, Segment, Storage, Width,
};

/// The status flags, at their bits in RFLAGS. Source: SDM Vol. 1, 3.4.3.1.
pub mod flag {
    use crate::FlagSet;

    /// Carry.
    pub const CF: FlagSet = FlagSet(1 << 0);
    /// Parity of the low byte of the result.
    pub const PF: FlagSet = FlagSet(1 << 2);
    /// Carry out of bit 3.
    pub const AF: FlagSet = FlagSet(1 << 4);
    /// Zero.
    pub const ZF: FlagSet = FlagSet(1 << 6);
    /// Sign.
    pub const SF: FlagSet = FlagSet(1 << 7);
    /// Direction of string instructions; a control flag, kept beside the status flags.
    pub const DF: FlagSet = FlagSet(1 << 10);
    /// Overflow.
    pub const OF: FlagSet = FlagSet(1 << 11);
    /// Nested task; a program can change it, and nothing comes of it.
    pub const NT: FlagSet = FlagSet(1 << 14);
    /// Alignment check.
    pub const AC: FlagSet = FlagSet(1 << 18);
    /// Can be changed where CPUID exists.
    pub const ID: FlagSet = FlagSet(1 << 21);
    /// Flags beside the status flags that a program can change.
    pub const CONTROL: FlagSet = DF.with(NT).with(AC).with(ID);
    /// All six status flags.
    pub const STATUS: FlagSet = CF.with(PF).with(AF).with(ZF).with(SF).with(OF);
}

/// Numbers of the registers in the register file; see [`Storage`].
pub mod storage {
    use crate::Storage;

    /// RAX.
    pub const RAX: Storage = Storage(0);
    /// RCX.
    pub const RCX: Storage = Storage(1);
    /// RDX.
    pub const RDX: Storage = Storage(2);
    /// RBX.
    pub const RBX: Storage = Storage(3);
    /// The stack pointer.
    pub const RSP: Storage = Storage(4);
    /// The frame pointer by convention.
    pub const RBP: Storage = Storage(5);
    /// RSI.
    pub const RSI: Storage = Storage(6);
    /// RDI.
    pub const RDI: Storage = Storage(7);
    /// The instruction pointer.
    pub const RIP: Storage = Storage(16);
    /// The base of FS.
    pub const FS_BASE: Storage = Storage(17);
    /// The base of GS.
    pub const GS_BASE: Storage = Storage(18);
    /// The control and status register of vector arithmetic.
    pub const MXCSR: Storage = Storage(19);
    /// The control and status words of the x87 unit.
    pub const X87_WORDS: Storage = Storage(20);
    /// The selectors in ES, DS, FS and GS, 16 bits each from the lowest.
    pub const SELECTORS: Storage = Storage(21);
    /// How many segments a thread may describe for itself. Source: set_thread_area(2).
    pub const THREAD_SEGMENTS: u8 = 3;

    /// The base of a segment that a thread describes for itself, with bit 32 set once it did.
    pub const fn thread_segment(number: u8) -> Storage {
        assert!(number < THREAD_SEGMENTS);
        Storage(22 + number)
    }
}

/// The status flags in report order.
pub const FLAGS: &[FlagInfo] = &[
    FlagInfo { flag: flag::CF, role: FlagRole::Carry, name: "CF", word: "carry" },
    FlagInfo { flag: flag::ZF, role: FlagRole::Zero, name: "ZF", word: "zero" },
    FlagInfo { flag: flag::SF, role: FlagRole::Sign, name: "SF", word: "sign" },
    FlagInfo { flag: flag::OF, role: FlagRole::Overflow, name: "OF", word: "overflow" },
    FlagInfo { flag: flag::PF, role: FlagRole::Parity, name: "PF", word: "parity" },
    FlagInfo { flag: flag::AF, role: FlagRole::Adjust, name: "AF", word: "adjust" },
    FlagInfo { flag: flag::DF, role: FlagRole::Direction, name: "DF", word: "direction" },
];

/// A row of the x86 table.
pub type Form = crate::Form<Meaning, Pattern>;
/// An operand position of a row.
pub type OperandSpec = crate::OperandSpec<Pattern>;

/// A condition of Jcc, SETcc and CMOVcc, by encoding. Source: SDM Vol. 1, B.1.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
#[allow(missing_docs, reason = "the names are the manual's own; `words` says what they mean")]
pub enum Cond {
    O,
    No,
    B,
    Ae,
    E,
    Ne,
    Be,
    A,
    S,
    Ns,
    P,
    Np,
    L,
    Ge,
    Le,
    G,
}

impl Cond {
    /// Whether the condition holds for these flags. Source: SDM Vol. 1, B.1.
    pub const fn holds(self, flags: FlagSet) -> bool {
        let (carry, zero) = (flags.contains(flag::CF), flags.contains(flag::ZF));
        let (sign, overflow) = (flags.contains(flag::SF), flags.contains(flag::OF));
        let parity = flags.contains(flag::PF);
        match self {
            Cond::O => overflow,
            Cond::No => !overflow,
            Cond::B => carry,
            Cond::Ae => !carry,
            Cond::E => zero,
            Cond::Ne => !zero,
            Cond::Be => carry || zero,
            Cond::A => !carry && !zero,
            Cond::S => sign,
            Cond::Ns => !sign,
            Cond::P => parity,
            Cond::Np => !parity,
            Cond::L => sign != overflow,
            Cond::Ge => sign == overflow,
            Cond::Le => zero || sign != overflow,
            Cond::G => !zero && sign == overflow,
        }
    }
}

impl Cond {
    /// All sixteen, in encoding order.
    pub const ALL: [Cond; 16] = [
        Cond::O,
        Cond::No,
        Cond::B,
        Cond::Ae,
        Cond::E,
        Cond::Ne,
        Cond::Be,
        Cond::A,
        Cond::S,
        Cond::Ns,
        Cond::P,
        Cond::Np,
        Cond::L,
        Cond::Ge,
        Cond::Le,
        Cond::G,
    ];

    /// The condition in words.
    pub const fn words(self) -> &'static str {
        match self {
            Cond::O => "signed overflow",
            Cond::No => "no signed overflow",
            Cond::B => "below (unsigned)",
            Cond::Ae => "above or equal (unsigned)",
            Cond::E => "equal",
            Cond::Ne => "not equal",
            Cond::Be => "below or equal (unsigned)",
            Cond::A => "above (unsigned)",
            Cond::S => "negative",
            Cond::Ns => "not negative",
            Cond::P => "parity even",
            Cond::Np => "parity odd",
            Cond::L => "less (signed)",
            Cond::Ge => "greater or equal (signed)",
            Cond::Le => "less or equal (signed)",
            Cond::G => "greater (signed)",
        }
    }

    /// The condition that holds when this one does not: the encodings come in pairs.
    pub const fn inverse(self) -> Cond {
        Cond::ALL[self as usize ^ 1]
    }

    /// The flags it reads.
    pub const fn tested(self) -> FlagSet {
        match self {
            Cond::O | Cond::No => flag::OF,
            Cond::B | Cond::Ae => flag::CF,
            Cond::E | Cond::Ne => flag::ZF,
            Cond::Be | Cond::A => flag::CF.with(flag::ZF),
            Cond::S | Cond::Ns => flag::SF,
            Cond::P | Cond::Np => flag::PF,
            Cond::L | Cond::Ge => flag::SF.with(flag::OF),
            Cond::Le | Cond::G => flag::ZF.with(flag::SF).with(flag::OF),
        }
    }
}

/// What a string instruction does with its elements.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
#[allow(missing_docs, reason = "each is the manual's instruction of that name")]
pub enum StringOp {
    Movs,
    Cmps,
    Stos,
    Lods,
    Scas,
}

/// What instructions of the x87 unit do with its words.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum X87 {
    /// FLDCW.
    LoadControl,
    /// FNSTCW.
    StoreControl,
    /// FNSTSW to memory.
    StoreStatus,
    /// FNSTSW AX.
    StatusToAx,
    /// FNSTENV.
    StoreEnvironment,
    /// FLDENV.
    LoadEnvironment,
    /// FNCLEX.
    ClearExceptions,
    /// FNINIT.
    Initialize,
}

/// How often a string instruction is carried out.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Repeat {
    /// Once.
    Once,
    /// RCX times.
    Counted,
    /// Up to RCX times, while elements are equal.
    WhileEqual,
    /// Up to RCX times, while elements differ.
    WhileNotEqual,
}

/// What an instruction does. Each has one semantic function in the machine crate.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
#[allow(missing_docs, reason = "each is the manual's instruction of that name")]
pub enum Meaning {
    Mov,
    Movzx,
    Movsx,
    Lea,
    Push,
    /// PUSH of a 16-bit immediate.
    PushWord,
    Pop,
    Xchg,
    /// The stack pointer becomes the frame pointer, which is then popped.
    Leave,
    /// LEAVE and ENTER of the lower halves of 32-bit registers.
    LeaveWord,
    EnterWord,
    Add,
    Adc,
    Sub,
    Sbb,
    Cmp,
    And,
    Or,
    Xor,
    Test,
    Inc,
    Dec,
    Neg,
    Not,
    Shl,
    Shr,
    Sar,
    Rol,
    Ror,
    Rcl,
    Rcr,
    /// One operand: a product twice as wide.
    Mul,
    /// One operand: a signed product twice as wide.
    ImulWide,
    /// Two or three operands: a product of the operands' width.
    Imul,
    Div,
    Idiv,
    /// CBW, CWDE, CDQE: the accumulator's lower half, sign-extended into it.
    ExtendAccumulator,
    /// CWD, CDQ, CQO: the accumulator's sign, into every bit of the data register.
    SpreadSign,
    Bt,
    Bts,
    Btr,
    Btc,
    Popcnt,
    Bswap,
    /// The sum to the destination, its old value to the source.
    Xadd,
    /// The source to the destination if that equals the accumulator.
    Cmpxchg,
    Clc,
    Stc,
    Cmc,
    Cld,
    Std,
    /// Two operands and a count: bits shifted out of the second come into the first.
    Shld,
    Shrd,
    Bsf,
    Bsr,
    Lzcnt,
    Tzcnt,
    Andn,
    Bextr,
    Blsi,
    Blsmsk,
    Blsr,
    Bzhi,
    Pdep,
    Pext,
    Rorx,
    Sarx,
    Shlx,
    Shrx,
    Mulx,
    Adcx,
    Adox,
    /// CMPXCHG8B and CMPXCHG16B: twice the width given.
    CmpxchgPair(Width),
    Movbe,
    /// CRC32 of a source of this width.
    Crc32(Width),
    Xlat,
    Enter,
    Lahf,
    Sahf,
    /// PUSHF and POPF of this width.
    Pushf(Width),
    Popf(Width),
    /// A string instruction on elements of this width.
    String(StringOp, Width, Repeat),
    /// MOV from a segment register.
    MovFromSegment,
    /// SLDT, STR and SMSW: a word of the processor's that a kernel set.
    SystemWord(SystemWord),
    /// SGDT and SIDT: where a table of the kernel's is.
    SystemTable(SystemTable),
    /// MOV to a segment register.
    MovToSegment,
    /// PUSH and POP of a segment register, in a slot of this width.
    PushSegment(Width),
    PopSegment(Width),
    /// LDS and its kin: a register and a segment register, from memory.
    LoadFar(Segment),
    /// JMP, CALL and RET with a selector beside the offset.
    JmpFar,
    CallFar(Width),
    /// The slots are of this width.
    RetFar(Width),
    /// IRET of slots of this width.
    Iret(Width),
    /// PUSHA and POPA of slots of this width.
    Pusha(Width),
    Popa(Width),
    Daa,
    Das,
    Aaa,
    Aas,
    Aam,
    Aad,
    Into,
    Bound,
    Arpl,
    Lar,
    Lsl,
    Verr,
    Verw,
    /// RDFSBASE and RDGSBASE.
    ReadBase(Segment),
    /// WRFSBASE and WRGSBASE.
    WriteBase(Segment),
    Cpuid,
    Rdtsc,
    Rdtscp,
    Rdpid,
    /// RDRAND and RDSEED.
    Rdrand,
    /// A memory operand that a hint is about, and nothing else.
    Prefetch,
    /// CLFLUSH.
    FlushLine,
    /// An instruction that user mode may not execute.
    Privileged,
    /// INT with a number.
    Int,
    /// An instruction of the x87 unit.
    X87(X87),
    Vector(vector::Vector),
    Jmp,
    JmpWord,
    Jcc(Cond),
    Setcc(Cond),
    Cmovcc(Cond),
    Call,
    CallWord,
    Ret,
    RetWord,
    Loop,
    Loope,
    Loopne,
    /// The three with the address-size prefix, which count in half of the register; and the ZF asked for.
    LoopNarrow(Option<bool>),
    /// JCXZ, JECXZ and JRCXZ: jump if the counter at this width is zero.
    JumpIfZero(Width),
    Nop,
    Syscall,
    Sysenter,
    Int3,
    Ud2,
}

impl Meaning {
    /// The condition, of an instruction that has one.
    pub const fn condition(self) -> Option<Cond> {
        match self {
            Meaning::Jcc(cond) | Meaning::Setcc(cond) | Meaning::Cmovcc(cond) => Some(cond),
            _ => None,
        }
    }

    /// What is the case when the condition, on flags or on a counter, holds or does not. Loops count
    /// in a register as wide as an address.
    pub fn condition_words(self, arch: Arch, holds: bool) -> Option<&'static str> {
        let (yes, no) = match (self, arch) {
            (Meaning::Loop, Arch::X86_32) => ("ecx not zero", "ecx zero"),
            (Meaning::Loope, Arch::X86_32) => ("ecx not zero, and equal", "ecx zero, or not equal"),
            (Meaning::Loopne, Arch::X86_32) => {
                ("ecx not zero, and not equal", "ecx zero, or equal")
            }
            (Meaning::Loop, _) => ("rcx not zero", "rcx zero"),
            (Meaning::Loope, _) => ("rcx not zero, and equal", "rcx zero, or not equal"),
            (Meaning::Loopne, _) => ("rcx not zero, and not equal", "rcx zero, or equal"),
            (Meaning::LoopNarrow(None), _) => ("counter not zero", "counter zero"),
            (Meaning::LoopNarrow(Some(true)), _) => {
                ("counter not zero, and equal", "counter zero, or not equal")
            }
            (Meaning::LoopNarrow(Some(false)), _) => {
                ("counter not zero, and not equal", "counter zero, or equal")
            }
            (Meaning::JumpIfZero(Width::W16), _) => ("cx zero", "cx not zero"),
            (Meaning::JumpIfZero(Width::W32), _) => ("ecx zero", "ecx not zero"),
            (Meaning::JumpIfZero(_), _) => ("rcx zero", "rcx not zero"),
            _ => {
                let cond = self.condition()?;
                (cond.words(), cond.inverse().words())
            }
        };
        Some(if holds { yes } else { no })
    }
}

impl Form {
    /// Whether the row works on vector registers.
    pub fn operands_are_vectors(&self) -> bool {
        self.operands.iter().any(|slot| slot.pattern.is_vector())
    }
}

/// What SLDT, STR and SMSW store.
///
/// A processor with user-mode instruction prevention (SDM Vol. 3A, 2.5, CR4.UMIP) refuses them to programs,
/// and the kernel answers in its place, the same for every program.
#[derive(Copy, Clone, PartialEq, Eq, Hash, Debug)]
pub enum SystemWord {
    /// The selector of the local descriptor table, of which a program has none.
    LocalTable,
    /// The selector of the task.
    Task,
    /// The lower half of CR0.
    MachineStatus,
}

/// Which table SGDT and SIDT tell of; likewise.
#[derive(Copy, Clone, PartialEq, Eq, Hash, Debug)]
pub enum SystemTable {
    /// The global descriptor table.
    Global,
    /// The interrupt descriptor table.
    Interrupt,
}

mnemonics!(MNEMONICS_64: &[&FORMS], Arch::X86_64, context_of);
mnemonics!(MNEMONICS_32: &[&FORMS], Arch::X86_32, context_of);

/// The rows by mnemonic, in a mode.
pub(crate) fn by_mnemonic(arch: Arch) -> &'static Mnemonics {
    if is_32_bit(arch) { &MNEMONICS_32 } else { &MNEMONICS_64 }
}

/// Whether the mode of x86 is the 32-bit one.
pub(crate) const fn is_32_bit(arch: Arch) -> bool {
    arch.address_bytes() == 4
}

/// What the operands of the row with this number can be.
const fn context_of(number: u16) -> OperandContext {
    let operands = FORMS[number as usize].operands;
    let (mut target, mut at) = (false, 0);
    while at < operands.len() {
        target |= operands[at].pattern.is_target();
        at += 1;
    }
    let traits = FORMS[number as usize].traits;
    OperandContext { target, page: false, condition: false, names: 0, traits }
}

/// The row with this number.
///
/// # Panics
///
/// If there is no such row.
pub fn form(number: u16) -> &'static Form {
    rows()[usize::from(number)].form
}

/// Whether the row with this number is valid in a mode.
///
/// # Panics
///
/// If there is no such row.
pub fn is_valid(arch: Arch, number: u16) -> bool {
    rows()[usize::from(number)].modes.include(arch)
}

/// The feature of the processor that the row with this number needs, if it needs one.
///
/// # Panics
///
/// If there is no such row.
pub fn feature(number: u16) -> Option<Feature> {
    form(number).feature
}

/// How many rows there are.
pub fn form_count() -> u16 {
    rows().len() as u16
}

/// Every mnemonic of a mode, aliases included, sorted.
pub fn mnemonics(arch: Arch) -> &'static [&'static str] {
    by_mnemonic(arch).sorted
}

/// The mnemonic that the word is, as the table spells it, and what its operands can be.
pub fn find_mnemonic(arch: Arch, word: &str) -> Option<(&'static str, OperandContext)> {
    by_mnemonic(arch).mnemonic(word)
}

fn syntax(form: &Form) -> String {
    form.operands.iter().map(|slot| slot.pattern.syntax()).collect::<Vec<_>>().join(", ")
}

/// The rows with this mnemonic, in a mode.
pub fn form_docs(arch: Arch, mnemonic: &str) -> Vec<FormDoc> {
    let numbers = by_mnemonic(arch).rows(mnemonic).unwrap_or_default();
    let condition = |form: &Form| form.meaning.condition_words(arch, true);
    let doc = |&number: &u16| {
        let form = form(number);
        form.doc(syntax(form), condition(form))
    };
    numbers.iter().map(doc).collect()
}

/// The width an instruction works at: that of its first operand, or of the accumulator it uses.
pub fn operand_width(form: &Form) -> Width {
    form.operands
        .iter()
        .find_map(|slot| slot.pattern.data_width())
        .or_else(|| form.implicit.first().map(|implicit| implicit.reg.width()))
        .unwrap_or(Width::W64)
}

/// The count of a shift after masking: 5 bits, or 6 for 64-bit operands.
///
/// Source: SDM Vol. 2B, SAL/SAR/SHL/SHR.
pub const fn masked_count(width: Width, count: u64) -> u32 {
    (count & if matches!(width, Width::W64) { 63 } else { 31 }) as u32
}

pub(crate) fn undefined_flags(instruction: &Instruction, count: u64) -> FlagSet {
    let form = form(instruction.form);
    let width = operand_width(form);
    let masked = masked_count(width, count);
    let shifts = !form.flags.undefined_when.is_empty();
    if shifts && masked == 0 {
        return FlagSet::NONE; // a count of 0 changes no flag
    }
    form.flags.undefined_when.iter().fold(form.flags.undefined, |undefined, (when, flags)| {
        let holds = match when {
            FlagsUndefinedWhen::CountAboveOne => masked > 1,
            FlagsUndefinedWhen::CountNotBelowWidth => masked >= width.bits(),
            FlagsUndefinedWhen::CountAboveWidth => masked > width.bits(),
        };
        if holds { undefined | *flags } else { undefined }
    })
}

/// The explicit operand that is a shift count, if the instruction has one.
pub fn count_operand(instruction: &Instruction) -> Option<Operand> {
    let form = form(instruction.form);
    let index = form
        .operands
        .iter()
        .position(|slot| matches!(slot.pattern, Pattern::Cl | Pattern::One | Pattern::Uimm8))?;
    Some(instruction.operands[index])
}

/// How wide a row's operand is in memory, and what happens to it; `None` if it is not accessed there.
///
/// # Panics
///
/// If there is no such row or operand.
pub fn memory_access(number: u16, operand: usize) -> Option<(Width, Access)> {
    let slot = form(number).operands[operand];
    Some((slot.pattern.memory_width()?, slot.access))
}

/// Whether a register operand tells how wide the memory operand at `index` is.
pub(crate) fn register_tells_width(instruction: &Instruction, index: usize) -> bool {
    let form = form(instruction.form);
    // The source of CRC32 may be narrower than its destination.
    if matches!(form.meaning, Meaning::Crc32(_)) {
        return false;
    }
    // Nothing tells how wide the elements of a string are.
    if matches!(form.meaning, Meaning::String(..)) {
        return false;
    }
    // What a vector instruction reads or writes in memory is part of its name, unless general registers
    // of several widths could stand there instead.
    if form.operands_are_vectors() && !matches!(form.operands[index].pattern, Pattern::Rm(_)) {
        return true;
    }
    form.operands[index].pattern.data_width().is_none_or(|width| {
        form.operands.iter().zip(&instruction.operands).any(|(slot, operand)| {
            matches!(slot.pattern, Pattern::R(w) | Pattern::Acc(w) if w == width)
                && matches!(operand, Operand::Reg(_))
        })
    })
}

const fn spec(access: Access, pattern: Pattern) -> OperandSpec {
    OperandSpec { access, pattern }
}

/// The register in which SYSENTER wants the stack pointer, by the convention of the kernel.
pub const SYSENTER_STACK: Storage = storage::RBP;

/// The instruction pointer as the base of an address.
pub const RIP: Reg = Reg::new(RegKind::Ip, 0);

/// Its lower half as the base of an address of 32 bits, in 64-bit mode.
pub const EIP: Reg = Reg::new(RegKind::Ip, 1);
