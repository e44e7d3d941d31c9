//! What moves segment registers and goes to other segments.

use super::*;

const ES: Pattern = Pattern::Segment(0);
const CS: Pattern = Pattern::Segment(1);
const SS: Pattern = Pattern::Segment(2);
const DS: Pattern = Pattern::Segment(3);
const FS: Pattern = Pattern::Segment(4);
const GS: Pattern = Pattern::Segment(5);
const FAR16: Pattern = Pattern::Far(Width::W16);
const FAR32: Pattern = Pattern::Far(Width::W32);
const FAR64: Pattern = Pattern::Far(Width::W64);

const PUSH: Form = Form {
    mnemonic: "push",
    meaning: Meaning::PushSegment(Width::W64),
    implicit: &[updates(Width::W64, SP)],
    summary: "pushes a segment register",
    source: "SDM Vol. 2B, PUSH",
    ..PLAIN
};
const PUSHW: Form = Form { mnemonic: "pushw", meaning: Meaning::PushSegment(Width::W16), summary: "pushes a segment register in a slot of 16 bits", ..PUSH };
const POP: Form = Form {
    mnemonic: "pop",
    meaning: Meaning::PopSegment(Width::W64),
    implicit: &[updates(Width::W64, SP)],
    summary: "pops a segment register; a bad selector is a fault",
    source: "SDM Vol. 2B, POP",
    ..PLAIN
};
const POPW: Form = Form { mnemonic: "popw", meaning: Meaning::PopSegment(Width::W16), summary: "pops a segment register from a slot of 16 bits", ..POP };
const ONLY_32: Form = Form { modes: Modes::Only32, ..PUSH };
const POP_32: Form = Form { modes: Modes::Only32, ..POP };
const SLOT_32: &[Implicit] = &[updates(Width::W32, SP)];

const fn load(mnemonic: &'static str, segment: Segment) -> Form {
    let summary = "loads a register and a segment register from a far pointer in memory";
    Form { mnemonic, meaning: Meaning::LoadFar(segment), summary, source: "SDM Vol. 2A, LDS/LES/LFS/LGS/LSS", ..PLAIN }
}

const JMP: Form = Form {
    mnemonic: "jmpf",
    aliases: &["ljmp"],
    meaning: Meaning::JmpFar,
    control: Control::Jump,
    summary: "jumps to another segment: a selector and an offset",
    source: "SDM Vol. 2A, JMP",
    ..PLAIN
};
const CALL: Form = Form {
    mnemonic: "callf",
    aliases: &["lcall"],
    meaning: Meaning::CallFar(Width::W32),
    implicit: &[updates(Width::W64, SP)],
    control: Control::Call,
    summary: "pushes CS and the address of the next instruction and jumps to another segment",
    source: "SDM Vol. 2A, CALL",
    ..PLAIN
};
const RET: Form = Form {
    mnemonic: "retf",
    aliases: &["lret"],
    meaning: Meaning::RetFar(Width::W32),
    implicit: &[updates(Width::W64, SP)],
    control: Control::Return,
    summary: "pops a return address and CS, then the given number of bytes, and jumps there",
    source: "SDM Vol. 2B, RET",
    ..PLAIN
};
const IRET: Form = Form {
    control: Control::Return,
    implicit: &[updates(Width::W64, SP)],
    flags: FlagEffects { modified: flag::STATUS.with(flag::CONTROL), ..FlagEffects::NONE },
    source: "SDM Vol. 2A, IRET/IRETD/IRETQ",
    ..PLAIN
};
const ZERO: FlagEffects = FlagEffects { modified: flag::ZF, ..FlagEffects::NONE };

const LAR: Form = Form {
    mnemonic: "lar",
    meaning: Meaning::Lar,
    flags: ZERO,
    summary: "loads the access rights of the segment that a selector names; ZF says whether there is one for a program",
    source: "SDM Vol. 2A, LAR",
    ..PLAIN
};
const LSL: Form = Form { mnemonic: "lsl", meaning: Meaning::Lsl, summary: "loads the limit of the segment that a selector names; ZF says whether there is one for a program", source: "SDM Vol. 2A, LSL", ..LAR };
const VERR: Form = Form { mnemonic: "verr", operands: &[r(RM16)], meaning: Meaning::Verr, summary: "sets ZF if a program may read the segment that a selector names", source: "SDM Vol. 2D, VERR/VERW", ..LAR };
const R32_M16: Pattern = Pattern::RmNarrow(Width::W32, Width::W16);
const R64_M16: Pattern = Pattern::RmNarrow(Width::W64, Width::W16);

pub(super) const FORMS: &[Form] = &[
    Form { operands: &[rw(R16), r(RM16)], encoding: "0F 02 /r", ..LAR },
    Form { operands: &[rw(R32), r(R32_M16)], encoding: "0F 02 /r", ..LAR },
    Form { operands: &[rw(R64), r(R64_M16)], encoding: "REX.W + 0F 02 /r", ..LAR },
    Form { operands: &[rw(R16), r(RM16)], encoding: "0F 03 /r", ..LSL },
    Form { operands: &[rw(R32), r(R32_M16)], encoding: "0F 03 /r", ..LSL },
    Form { operands: &[rw(R64), r(R64_M16)], encoding: "REX.W + 0F 03 /r", ..LSL },
    Form { encoding: "NP 0F 00 /4", ..VERR },
    Form { mnemonic: "verw", encoding: "NP 0F 00 /5", meaning: Meaning::Verw, summary: "sets ZF if a program may write the segment that a selector names", ..VERR },
    Form { operands: &[r(FS)], encoding: "0F A0", ..PUSH },
    Form { operands: &[r(GS)], encoding: "0F A8", ..PUSH },
    Form { operands: &[r(FS)], encoding: "66 0F A0", ..PUSHW },
    Form { operands: &[r(GS)], encoding: "66 0F A8", ..PUSHW },
    Form { operands: &[w(FS)], encoding: "0F A1", ..POP },
    Form { operands: &[w(GS)], encoding: "0F A9", ..POP },
    Form { operands: &[w(FS)], encoding: "66 0F A1", ..POPW },
    Form { operands: &[w(GS)], encoding: "66 0F A9", ..POPW },
    Form { operands: &[r(ES)], encoding: "06", meaning: Meaning::PushSegment(Width::W32), implicit: SLOT_32, ..ONLY_32 },
    Form { operands: &[r(CS)], encoding: "0E", meaning: Meaning::PushSegment(Width::W32), implicit: SLOT_32, ..ONLY_32 },
    Form { operands: &[r(SS)], encoding: "16", meaning: Meaning::PushSegment(Width::W32), implicit: SLOT_32, ..ONLY_32 },
    Form { operands: &[r(DS)], encoding: "1E", meaning: Meaning::PushSegment(Width::W32), implicit: SLOT_32, ..ONLY_32 },
    Form { operands: &[w(ES)], encoding: "07", meaning: Meaning::PopSegment(Width::W32), implicit: SLOT_32, ..POP_32 },
    Form { operands: &[w(SS)], encoding: "17", meaning: Meaning::PopSegment(Width::W32), implicit: SLOT_32, ..POP_32 },
    Form { operands: &[w(DS)], encoding: "1F", meaning: Meaning::PopSegment(Width::W32), implicit: SLOT_32, ..POP_32 },
    Form { operands: &[w(R16), r(FAR16)], encoding: "C4 /r", modes: Modes::Only32, ..load("les", Segment::Es) },
    Form { operands: &[w(R32), r(FAR32)], encoding: "C4 /r", modes: Modes::Only32, ..load("les", Segment::Es) },
    Form { operands: &[w(R16), r(FAR16)], encoding: "C5 /r", modes: Modes::Only32, ..load("lds", Segment::Ds) },
    Form { operands: &[w(R32), r(FAR32)], encoding: "C5 /r", modes: Modes::Only32, ..load("lds", Segment::Ds) },
    Form { operands: &[w(R16), r(FAR16)], encoding: "0F B2 /r", ..load("lss", Segment::Ss) },
    Form { operands: &[w(R32), r(FAR32)], encoding: "0F B2 /r", ..load("lss", Segment::Ss) },
    Form { operands: &[w(R64), r(FAR64)], encoding: "REX.W + 0F B2 /r", ..load("lss", Segment::Ss) },
    Form { operands: &[w(R16), r(FAR16)], encoding: "0F B4 /r", ..load("lfs", Segment::Fs) },
    Form { operands: &[w(R32), r(FAR32)], encoding: "0F B4 /r", ..load("lfs", Segment::Fs) },
    Form { operands: &[w(R64), r(FAR64)], encoding: "REX.W + 0F B4 /r", ..load("lfs", Segment::Fs) },
    Form { operands: &[w(R16), r(FAR16)], encoding: "0F B5 /r", ..load("lgs", Segment::Gs) },
    Form { operands: &[w(R32), r(FAR32)], encoding: "0F B5 /r", ..load("lgs", Segment::Gs) },
    Form { operands: &[w(R64), r(FAR64)], encoding: "REX.W + 0F B5 /r", ..load("lgs", Segment::Gs) },
    Form { operands: &[r(Pattern::Selector), r(IMM32)], encoding: "EA", modes: Modes::Only32, ..JMP },
    Form { operands: &[r(FAR32)], encoding: "FF /5", ..JMP },
    Form { mnemonic: "jmpfq", aliases: &["ljmpq"], operands: &[r(FAR64)], encoding: "REX.W + FF /5", ..JMP },
    Form { operands: &[r(Pattern::Selector), r(IMM32)], encoding: "9A", modes: Modes::Only32, implicit: SLOT_32, ..CALL },
    Form { operands: &[r(FAR32)], encoding: "FF /3", ..CALL },
    Form { mnemonic: "callfq", aliases: &["lcallq"], operands: &[r(FAR64)], encoding: "REX.W + FF /3", meaning: Meaning::CallFar(Width::W64), ..CALL },
    Form { encoding: "NP CB", ..RET },
    Form { operands: &[r(Pattern::Uimm16)], encoding: "NP CA iw", ..RET },
    Form { mnemonic: "retfq", aliases: &["lretq"], encoding: "NP REX.W + CB", meaning: Meaning::RetFar(Width::W64), ..RET },
    Form { mnemonic: "retfq", aliases: &["lretq"], operands: &[r(Pattern::Uimm16)], encoding: "NP REX.W + CA iw", meaning: Meaning::RetFar(Width::W64), ..RET },
    Form { mnemonic: "iretq", encoding: "NP REX.W + CF", meaning: Meaning::Iret(Width::W64), summary: "pops RIP, CS, the flags, RSP and SS", ..IRET },
    Form { mnemonic: "iretd", encoding: "NP CF", modes: Modes::Only64, meaning: Meaning::Iret(Width::W32), summary: "pops EIP, CS, the flags, ESP and SS, 4 bytes each", ..IRET },
    Form { mnemonic: "iretd", aliases: &["iret"], encoding: "NP CF", modes: Modes::Only32, implicit: SLOT_32, meaning: Meaning::Iret(Width::W32), summary: "pops EIP, CS and the flags", ..IRET },
    Form { mnemonic: "arpl", operands: &[rw(RM16), r(R16)], encoding: "NP 63 /r", modes: Modes::Only32, meaning: Meaning::Arpl, flags: ZERO, summary: "raises the privilege number in a selector to that of another; ZF says whether it was lower", source: "SDM Vol. 2A, ARPL", ..PLAIN },
];
