//! What touches more than registers and memory: flags as a whole, segments, the processor's own
//! identity, clock and random numbers, hints, and what the kernel keeps to itself.

use super::*;
use crate::x86::{SystemTable, SystemWord};

const SREG: Pattern = Pattern::Sreg;
const ALL_FLAGS: FlagSet = flag::STATUS.with(flag::CONTROL);

const ENTER: Form = Form {
    mnemonic: "enter",
    meaning: Meaning::Enter,
    operands: &[r(Pattern::Uimm16), r(Pattern::Uimm8)],
    implicit: &[updates(Width::W64, BP), updates(Width::W64, SP)],
    encoding: "C8 iw ib",
    summary: "makes a frame: pushes RBP, copies RSP to it, and makes room for the given number of bytes",
    source: "SDM Vol. 2A, ENTER",
    ..PLAIN
};
const PUSHF: Form = Form {
    implicit: &[updates(Width::W64, SP)],
    flags: FlagEffects::tests(ALL_FLAGS),
    summary: "pushes the flags",
    source: "SDM Vol. 2B, PUSHF/PUSHFD/PUSHFQ",
    ..PLAIN
};
const POPF: Form = Form {
    implicit: &[updates(Width::W64, SP)],
    flags: FlagEffects { modified: ALL_FLAGS, ..FlagEffects::NONE },
    summary: "pops the flags that a program may change",
    source: "SDM Vol. 2B, POPF/POPFD/POPFQ",
    ..PLAIN
};
const MOV_FROM_SEGMENT: Form = Form {
    mnemonic: "mov",
    meaning: Meaning::MovFromSegment,
    summary: "copies a segment register",
    source: "SDM Vol. 2B, MOV",
    ..PLAIN
};
const MOV_TO_SEGMENT: Form = Form { meaning: Meaning::MovToSegment, summary: "loads a segment register; a bad selector is a fault", ..MOV_FROM_SEGMENT };
const SLDT: Form = Form {
    mnemonic: "sldt",
    meaning: Meaning::SystemWord(SystemWord::LocalTable),
    summary: "stores the selector of the local descriptor table; the kernel answers 0",
    source: "SDM Vol. 2B, SLDT",
    ..PLAIN
};
const STR: Form = Form {
    mnemonic: "str",
    meaning: Meaning::SystemWord(SystemWord::Task),
    summary: "stores the selector of the task; the kernel answers, the same for every program",
    source: "SDM Vol. 2B, STR",
    ..PLAIN
};
const SMSW: Form = Form {
    mnemonic: "smsw",
    meaning: Meaning::SystemWord(SystemWord::MachineStatus),
    summary: "stores the lower half of CR0; the kernel answers, the same for every program",
    source: "SDM Vol. 2B, SMSW",
    ..PLAIN
};
const RDRAND: Form = Form {
    mnemonic: "rdrand",
    feature: feature::RDRAND,
    meaning: Meaning::Rdrand,
    flags: FlagEffects { modified: flag::CF, cleared: flag::OF.with(flag::SF).with(flag::ZF).with(flag::AF).with(flag::PF), ..FlagEffects::NONE },
    summary: "loads a random number; CF says that there was one. Here it comes from the seed of the run",
    source: "SDM Vol. 2B, RDRAND",
    ..PLAIN
};
const RDSEED: Form = Form { mnemonic: "rdseed", feature: feature::RDSEED, source: "SDM Vol. 2B, RDSEED", ..RDRAND };
const RDTSC: Form = Form {
    mnemonic: "rdtsc",
    feature: feature::TSC,
    meaning: Meaning::Rdtsc,
    implicit: &[writes(Width::W64, A), writes(Width::W64, D)],
    encoding: "0F 31",
    summary: "loads the time-stamp counter into EDX:EAX; here it counts the instructions of the run",
    source: "SDM Vol. 2B, RDTSC",
    ..PLAIN
};
const HINT: Form = Form { operands: &[n(Pattern::M)], meaning: Meaning::Prefetch, source: "SDM Vol. 2B, PREFETCHh", ..PLAIN };
const FENCE: Form = Form { meaning: Meaning::Nop, ..PLAIN };

const fn read_base(mnemonic: &'static str, segment: Segment) -> Form {
    let summary = "copies the base address of the segment";
    Form { mnemonic, modes: Modes::Only64, feature: feature::FSGSBASE, meaning: Meaning::ReadBase(segment), summary, source: "SDM Vol. 2B, RDFSBASE/RDGSBASE", ..PLAIN }
}

const fn write_base(mnemonic: &'static str, segment: Segment) -> Form {
    let summary = "sets the base address of the segment";
    Form { mnemonic, modes: Modes::Only64, feature: feature::FSGSBASE, meaning: Meaning::WriteBase(segment), summary, source: "SDM Vol. 2D, WRFSBASE/WRGSBASE", ..PLAIN }
}

const R32_RM: Pattern = Pattern::RegRm(Width::W32);
const R64_RM: Pattern = Pattern::RegRm(Width::W64);
const R16_RM: Pattern = Pattern::RegRm(Width::W16);

pub(super) const FORMS: &[Form] = &[
    ENTER,
    Form { mnemonic: "enterw", meaning: Meaning::EnterWord, implicit: &[updates(Width::W16, BP), reads(Width::W64, BP), updates(Width::W64, SP)], encoding: "66 C8 iw ib", summary: "makes a frame: pushes BP alone, copies SP to it, and makes room for the given number of bytes", ..ENTER },
    Form { mnemonic: "cld", meaning: Meaning::Cld, encoding: "FC", flags: FlagEffects { cleared: flag::DF, ..FlagEffects::NONE }, summary: "clears DF: string instructions go up", source: "SDM Vol. 2A, CLD", ..PLAIN },
    Form { mnemonic: "std", meaning: Meaning::Std, encoding: "FD", flags: FlagEffects { set: flag::DF, ..FlagEffects::NONE }, summary: "sets DF: string instructions go down", source: "SDM Vol. 2B, STD", ..PLAIN },
    Form {
        mnemonic: "lahf",
        meaning: Meaning::Lahf,
        implicit: &[Implicit { access: Access::Write, reg: AH }],
        encoding: "9F",
        flags: FlagEffects::tests(BY_RESULT.with(flag::AF).with(flag::CF)),
        summary: "copies SF, ZF, AF, PF and CF to AH",
        source: "SDM Vol. 2A, LAHF",
        ..PLAIN
    },
    Form {
        mnemonic: "sahf",
        meaning: Meaning::Sahf,
        implicit: &[Implicit { access: Access::Read, reg: AH }],
        encoding: "9E",
        flags: FlagEffects { modified: BY_RESULT.with(flag::AF).with(flag::CF), ..FlagEffects::NONE },
        summary: "copies AH to SF, ZF, AF, PF and CF",
        source: "SDM Vol. 2B, SAHF",
        ..PLAIN
    },
    Form { mnemonic: "pushfq", aliases: &["pushf"], meaning: Meaning::Pushf(Width::W64), encoding: "9C", ..PUSHF },
    Form { mnemonic: "pushfw", meaning: Meaning::Pushf(Width::W16), encoding: "66 9C", ..PUSHF },
    Form { mnemonic: "popfq", aliases: &["popf"], meaning: Meaning::Popf(Width::W64), encoding: "9D", ..POPF },
    Form { mnemonic: "popfw", meaning: Meaning::Popf(Width::W16), encoding: "66 9D", flags: FlagEffects { modified: flag::STATUS.with(flag::DF).with(flag::NT), ..FlagEffects::NONE }, ..POPF },
    Form {
        mnemonic: "xlatb",
        aliases: &["xlat"],
        meaning: Meaning::Xlat,
        implicit: &[updates(Width::W8, A), reads(Width::W64, B)],
        encoding: "D7",
        summary: "loads AL from the table at RBX, indexed by AL",
        source: "SDM Vol. 2D, XLAT/XLATB",
        ..PLAIN
    },
    Form {
        mnemonic: "xlat",
        meaning: Meaning::Xlat,
        operands: &[r(Pattern::TranslateTable)],
        implicit: &[updates(Width::W8, A)],
        encoding: "D7",
        summary: "loads AL from the table whose address is written out, indexed by AL",
        source: "SDM Vol. 2D, XLAT/XLATB",
        ..PLAIN
    },
    // In memory it takes 16 bits whatever the operand size is, and no prefix.
    Form { operands: &[w(MEM16), r(SREG)], encoding: "NP 8C /r", ..MOV_FROM_SEGMENT },
    Form { operands: &[w(RM16), r(SREG)], encoding: "8C /r", ..MOV_FROM_SEGMENT },
    Form { operands: &[w(R32_RM), r(SREG)], encoding: "8C /r", ..MOV_FROM_SEGMENT },
    Form { operands: &[w(R64_RM), r(SREG)], encoding: "REX.W + 8C /r", ..MOV_FROM_SEGMENT },
    Form { operands: &[w(MEM16)], encoding: "NP 0F 00 /0", ..SLDT },
    Form { operands: &[w(R16_RM)], encoding: "0F 00 /0", ..SLDT },
    Form { operands: &[w(R32_RM)], encoding: "0F 00 /0", ..SLDT },
    Form { operands: &[w(R64_RM)], encoding: "REX.W + 0F 00 /0", ..SLDT },
    Form { operands: &[w(MEM16)], encoding: "NP 0F 00 /1", ..STR },
    Form { operands: &[w(R16_RM)], encoding: "0F 00 /1", ..STR },
    Form { operands: &[w(R32_RM)], encoding: "0F 00 /1", ..STR },
    Form { operands: &[w(R64_RM)], encoding: "REX.W + 0F 00 /1", ..STR },
    Form { operands: &[w(MEM16)], encoding: "NP 0F 01 /4", ..SMSW },
    Form { operands: &[w(R16_RM)], encoding: "0F 01 /4", ..SMSW },
    Form { operands: &[w(R32_RM)], encoding: "0F 01 /4", ..SMSW },
    Form { operands: &[w(R64_RM)], encoding: "REX.W + 0F 01 /4", ..SMSW },
    Form { mnemonic: "sgdt", meaning: Meaning::SystemTable(SystemTable::Global), operands: &[w(Pattern::M)], encoding: "0F 01 /0", summary: "stores where the global descriptor table is; the kernel answers, the same for every program", source: "SDM Vol. 2B, SGDT", ..PLAIN },
    Form { mnemonic: "sidt", meaning: Meaning::SystemTable(SystemTable::Interrupt), operands: &[w(Pattern::M)], encoding: "0F 01 /1", summary: "stores where the interrupt descriptor table is; the kernel answers, the same for every program", source: "SDM Vol. 2B, SIDT", ..PLAIN },
    Form { operands: &[w(SREG), r(Pattern::RmNarrow(Width::W32, Width::W16))], encoding: "8E /r", ..MOV_TO_SEGMENT },
    Form { operands: &[w(SREG), r(Pattern::RmNarrow(Width::W64, Width::W16))], encoding: "REX.W + 8E /r", ..MOV_TO_SEGMENT },
    Form { operands: &[w(SREG), r(RM16)], encoding: "NP 8E /r", accepted_only: true, ..MOV_TO_SEGMENT },
    Form { operands: &[w(R32_RM)], encoding: "F3 0F AE /0", ..read_base("rdfsbase", Segment::Fs) },
    Form { operands: &[w(R64_RM)], encoding: "F3 REX.W + 0F AE /0", ..read_base("rdfsbase", Segment::Fs) },
    Form { operands: &[w(R32_RM)], encoding: "F3 0F AE /1", ..read_base("rdgsbase", Segment::Gs) },
    Form { operands: &[w(R64_RM)], encoding: "F3 REX.W + 0F AE /1", ..read_base("rdgsbase", Segment::Gs) },
    Form { operands: &[r(R32_RM)], encoding: "F3 0F AE /2", ..write_base("wrfsbase", Segment::Fs) },
    Form { operands: &[r(R64_RM)], encoding: "F3 REX.W + 0F AE /2", ..write_base("wrfsbase", Segment::Fs) },
    Form { operands: &[r(R32_RM)], encoding: "F3 0F AE /3", ..write_base("wrgsbase", Segment::Gs) },
    Form { operands: &[r(R64_RM)], encoding: "F3 REX.W + 0F AE /3", ..write_base("wrgsbase", Segment::Gs) },
    Form {
        mnemonic: "cpuid",
        meaning: Meaning::Cpuid,
        implicit: &[updates(Width::W64, A), writes(Width::W64, B), updates(Width::W64, C), writes(Width::W64, D)],
        encoding: "0F A2",
        summary: "says what the processor can do: the topic is in EAX and ECX, the answer in EAX, EBX, ECX and EDX",
        source: "SDM Vol. 2A, CPUID",
        ..PLAIN
    },
    RDTSC,
    Form {
        mnemonic: "rdtscp",
        feature: feature::RDTSCP,
        meaning: Meaning::Rdtscp,
        implicit: &[writes(Width::W64, A), writes(Width::W64, D), writes(Width::W64, C)],
        encoding: "0F 01 F9",
        summary: "loads the time-stamp counter into EDX:EAX and the processor's number into ECX",
        source: "SDM Vol. 2B, RDTSCP",
        ..RDTSC
    },
    Form { mnemonic: "rdpid", feature: feature::RDPID, meaning: Meaning::Rdpid, operands: &[w(R64_RM)], encoding: "F3 0F C7 /7", summary: "loads the processor's number, which is 0 here", source: "SDM Vol. 2B, RDPID", ..PLAIN },
    Form { operands: &[w(R16_RM)], encoding: "0F C7 /6", ..RDRAND },
    Form { operands: &[w(R32_RM)], encoding: "0F C7 /6", ..RDRAND },
    Form { operands: &[w(R64_RM)], encoding: "REX.W + 0F C7 /6", ..RDRAND },
    Form { operands: &[w(R16_RM)], encoding: "0F C7 /7", ..RDSEED },
    Form { operands: &[w(R32_RM)], encoding: "0F C7 /7", ..RDSEED },
    Form { operands: &[w(R64_RM)], encoding: "REX.W + 0F C7 /7", ..RDSEED },
    Form { mnemonic: "prefetchnta", feature: feature::SSE, encoding: "0F 18 /0", summary: "hints that the memory is needed soon, and once", ..HINT },
    Form { mnemonic: "prefetcht0", feature: feature::SSE, encoding: "0F 18 /1", summary: "hints that the memory is needed soon, in every cache", ..HINT },
    Form { mnemonic: "prefetcht1", feature: feature::SSE, encoding: "0F 18 /2", summary: "hints that the memory is needed soon, in the second cache", ..HINT },
    Form { mnemonic: "prefetcht2", feature: feature::SSE, encoding: "0F 18 /3", summary: "hints that the memory is needed soon, in the third cache", ..HINT },
    Form { mnemonic: "prefetch", encoding: "0F 0D /0", summary: "hints that the memory is needed soon", source: "SDM Vol. 2B, PREFETCHW", ..HINT },
    Form { mnemonic: "prefetchw", feature: feature::PREFETCHW, encoding: "0F 0D /1", summary: "hints that the memory is written soon", source: "SDM Vol. 2B, PREFETCHW", ..HINT },
    Form { mnemonic: "prefetchwt1", encoding: "0F 0D /2", summary: "hints that the memory is written soon, in the second cache", source: "SDM Vol. 2B, PREFETCHW", ..HINT },
    Form { mnemonic: "clflush", feature: feature::CLFSH, meaning: Meaning::FlushLine, operands: &[r(Pattern::Mem(Width::W8))], encoding: "NP 0F AE /7", summary: "writes the cache line of an address back and drops it", source: "SDM Vol. 2A, CLFLUSH", ..HINT },
    Form { mnemonic: "lfence", feature: feature::SSE2, encoding: "NP 0F AE E8", summary: "waits until every load before it is done", source: "SDM Vol. 2A, LFENCE", ..FENCE },
    Form { mnemonic: "mfence", feature: feature::SSE2, encoding: "NP 0F AE F0", summary: "waits until every load and store before it is done", source: "SDM Vol. 2B, MFENCE", ..FENCE },
    Form { mnemonic: "sfence", feature: feature::SSE, encoding: "NP 0F AE F8", summary: "waits until every store before it is done", source: "SDM Vol. 2B, SFENCE", ..FENCE },
    Form { mnemonic: "movnti", feature: feature::SSE2, meaning: Meaning::Mov, operands: &[w(Pattern::Mem(Width::W32)), r(R32)], encoding: "0F C3 /r", summary: "stores a register past the caches", source: "SDM Vol. 2B, MOVNTI", ..PLAIN },
    Form { mnemonic: "movnti", feature: feature::SSE2, meaning: Meaning::Mov, operands: &[w(Pattern::Mem(Width::W64)), r(R64)], encoding: "REX.W + 0F C3 /r", summary: "stores a register past the caches", source: "SDM Vol. 2B, MOVNTI", ..PLAIN },
    Form {
        mnemonic: "int",
        traits: Traits::INTERRUPT,
        meaning: Meaning::Int,
        operands: &[r(Pattern::Uimm8)],
        implicit: &[updates(Width::W64, A)],
        encoding: "CD ib",
        control: Control::Syscall,
        summary: "raises an interrupt; 0x80 is a system call by the 32-bit table, with 32-bit arguments",
        source: "SDM Vol. 2A, INT n",
        ..PLAIN
    },
    Form { mnemonic: "int1", meaning: Meaning::Int3, encoding: "F1", control: Control::Trap, summary: "stops in a debugger, else ends the program with SIGTRAP", source: "SDM Vol. 2A, INT n", ..PLAIN },
    Form { mnemonic: "ud1", meaning: Meaning::Ud2, operands: &[n(R32), n(RM32)], encoding: "0F B9 /r", control: Control::Trap, summary: "is invalid on purpose: ends the program with SIGILL", source: "SDM Vol. 2D, UD", ..PLAIN },
    Form { mnemonic: "ud0", meaning: Meaning::Ud2, operands: &[n(R32), n(RM32)], encoding: "0F FF /r", control: Control::Trap, summary: "is invalid on purpose: ends the program with SIGILL", source: "SDM Vol. 2D, UD", ..PLAIN },
];

const KERNEL: Form = Form {
    meaning: Meaning::Privileged,
    control: Control::Trap,
    summary: "is for the kernel alone: ends the program with SIGSEGV",
    source: "SDM Vol. 3A, 5.9",
    ..PLAIN
};

const DX: Pattern = Pattern::Dx;

pub(super) const PRIVILEGED: &[Form] = &[
    Form { mnemonic: "hlt", encoding: "F4", ..KERNEL },
    Form { mnemonic: "cli", encoding: "FA", ..KERNEL },
    Form { mnemonic: "sti", encoding: "FB", ..KERNEL },
    Form { mnemonic: "in", operands: &[w(AL), r(Pattern::Uimm8)], encoding: "E4 ib", ..KERNEL },
    Form { mnemonic: "in", operands: &[w(AX), r(Pattern::Uimm8)], encoding: "E5 ib", ..KERNEL },
    Form { mnemonic: "in", operands: &[w(EAX), r(Pattern::Uimm8)], encoding: "E5 ib", ..KERNEL },
    Form { mnemonic: "in", operands: &[w(AL), r(DX)], encoding: "EC", ..KERNEL },
    Form { mnemonic: "in", operands: &[w(AX), r(DX)], encoding: "ED", ..KERNEL },
    Form { mnemonic: "in", operands: &[w(EAX), r(DX)], encoding: "ED", ..KERNEL },
    Form { mnemonic: "out", operands: &[r(Pattern::Uimm8), r(AL)], encoding: "E6 ib", ..KERNEL },
    Form { mnemonic: "out", operands: &[r(Pattern::Uimm8), r(AX)], encoding: "E7 ib", ..KERNEL },
    Form { mnemonic: "out", operands: &[r(Pattern::Uimm8), r(EAX)], encoding: "E7 ib", ..KERNEL },
    Form { mnemonic: "out", operands: &[r(DX), r(AL)], encoding: "EE", ..KERNEL },
    Form { mnemonic: "out", operands: &[r(DX), r(AX)], encoding: "EF", ..KERNEL },
    Form { mnemonic: "out", operands: &[r(DX), r(EAX)], encoding: "EF", ..KERNEL },
    Form { mnemonic: "insb", encoding: "6C", ..KERNEL },
    Form { mnemonic: "insw", encoding: "66 6D", ..KERNEL },
    Form { mnemonic: "insd", encoding: "6D", ..KERNEL },
    Form { mnemonic: "outsb", encoding: "6E", ..KERNEL },
    Form { mnemonic: "outsw", encoding: "66 6F", ..KERNEL },
    Form { mnemonic: "outsd", encoding: "6F", ..KERNEL },
    Form { mnemonic: "clts", encoding: "0F 06", ..KERNEL },
    Form { mnemonic: "invd", encoding: "0F 08", ..KERNEL },
    Form { mnemonic: "wbinvd", encoding: "0F 09", ..KERNEL },
    Form { mnemonic: "wrmsr", encoding: "0F 30", ..KERNEL },
    Form { mnemonic: "rdmsr", encoding: "0F 32", ..KERNEL },
    Form { mnemonic: "rdpmc", encoding: "0F 33", ..KERNEL },
    Form { mnemonic: "swapgs", modes: Modes::Only64, encoding: "0F 01 F8", ..KERNEL },
    Form { mnemonic: "lgdt", operands: &[n(Pattern::M)], encoding: "0F 01 /2", ..KERNEL },
    Form { mnemonic: "lidt", operands: &[n(Pattern::M)], encoding: "0F 01 /3", ..KERNEL },
    Form { mnemonic: "invlpg", operands: &[n(Pattern::M)], encoding: "0F 01 /7", ..KERNEL },
    Form { mnemonic: "lldt", operands: &[n(RM16)], encoding: "0F 00 /2", ..KERNEL },
    Form { mnemonic: "ltr", operands: &[n(RM16)], encoding: "0F 00 /3", ..KERNEL },
    Form { mnemonic: "lmsw", operands: &[n(RM16)], encoding: "0F 01 /6", ..KERNEL },
];

const fn x87(mnemonic: &'static str, meaning: X87, summary: &'static str, source: &'static str) -> Form {
    Form { mnemonic, meaning: Meaning::X87(meaning), summary, source, ..PLAIN }
}

const MEM16: Pattern = Pattern::Mem(Width::W16);

/// Of the x87 unit only the control and status words are there yet.
pub(super) const X87_WORDS: &[Form] = &[
    Form { operands: &[r(MEM16)], encoding: "NP D9 /5", ..x87("fldcw", X87::LoadControl, "loads the control word of the x87 unit", "SDM Vol. 2A, FLDCW") },
    Form { operands: &[w(MEM16)], encoding: "NP D9 /7", ..x87("fnstcw", X87::StoreControl, "stores the control word of the x87 unit", "SDM Vol. 2A, FSTCW/FNSTCW") },
    Form { operands: &[w(MEM16)], encoding: "NP DD /7", ..x87("fnstsw", X87::StoreStatus, "stores the status word of the x87 unit", "SDM Vol. 2A, FSTSW/FNSTSW") },
    Form { operands: &[w(AX)], encoding: "NP DF E0", ..x87("fnstsw", X87::StatusToAx, "copies the status word of the x87 unit", "SDM Vol. 2A, FSTSW/FNSTSW") },
    Form { operands: &[w(Pattern::M)], encoding: "NP D9 /6", ..x87("fnstenv", X87::StoreEnvironment, "stores the words of the x87 unit in 28 bytes and masks its exceptions", "SDM Vol. 2A, FSTENV/FNSTENV") },
    Form { operands: &[r(Pattern::M)], encoding: "NP D9 /4", ..x87("fldenv", X87::LoadEnvironment, "loads the words of the x87 unit from 28 bytes", "SDM Vol. 2A, FLDENV") },
    Form { encoding: "NP DB E2", ..x87("fnclex", X87::ClearExceptions, "clears the exceptions of the x87 unit", "SDM Vol. 2A, FCLEX/FNCLEX") },
    Form { encoding: "NP DB E3", ..x87("fninit", X87::Initialize, "sets the x87 unit to its initial state", "SDM Vol. 2A, FINIT/FNINIT") },
    Form { mnemonic: "fwait", aliases: &["wait"], encoding: "9B", summary: "waits for exceptions of the x87 unit, of which there are none", source: "SDM Vol. 2D, WAIT/FWAIT", ..PLAIN },
];
