//! Decoding the common instructions fast: those of the first two opcode maps with at most one legacy prefix that counts,
//! whose operands have one of a few shapes, which is nearly all that compilers write. Everything else is left
//! to [`super::decode`], which knows every row and gives the same answer for these.
//!
//! Of the time that decoding takes, guessing wrong where a branch goes is a third. So whether there is a REX
//! prefix is computed and not asked, and one decision a row takes the place of one an operand. Whether there is an
//! escape is asked: what comes after it is mostly of other shapes, and to compute it costs more than to guess.

use super::decode::Index;
use super::encoding::{Encoding, ModRm, immediate_bytes};
use super::{Pattern, RIP, Row, rows};
use crate::{
    Arch, IndexMode, Instruction, MAX_INSTRUCTION_BYTES, Mem, Operand, Operands, Reg, RegKind,
    Value, Width,
};

/// Bytes that are looked at, whether or not the instruction has them: eight from each of the first sixteen.
pub(super) const WINDOW: usize = 24;

/// What the operands of a row are, taken together. A place is a register or memory, as ModRM says.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
enum Shape {
    /// Something else, or no row at all.
    Other,
    None,
    /// A place, or memory alone, and the register of ModRM, in either order.
    Pair,
    /// A place, and an immediate if it has bytes.
    Place,
    PlaceOne,
    PlaceCl,
    RegPlaceImm,
    /// The register in the opcode, and an immediate if it has bytes.
    Opcode,
    AccumulatorImm,
    Target,
}

/// A row that is meant, and how its operands are read. Eight bytes, as there are many of them.
#[derive(Copy, Clone)]
struct Entry {
    row: u16,
    shape: Shape,
    /// Where in [`REGISTERS`] the register of ModRM, or the only register, is looked for.
    reg: u8,
    /// Where the register is looked for that a place can be.
    place: u8,
    /// Width of the memory that a place can be.
    width: Option<Width>,
    /// Bytes of the immediate or of the distance.
    imm_bytes: u8,
    /// [`SECOND`], [`MEMORY`] and [`UNSIGNED`], and how many operands there are.
    flags: u8,
}

const _: () = assert!(size_of::<Entry>() == 8);

/// The place is the second operand.
const SECOND: u8 = 1;
/// No register can be in the place.
const MEMORY: u8 = 2;
/// The immediate is not sign-extended.
const UNSIGNED: u8 = 4;
/// Above them stands how many operands there are.
const COUNT_SHIFT: u32 = 6;

const NOTHING: Entry =
    Entry { row: 0, shape: Shape::Other, reg: 0, place: 0, width: None, imm_bytes: 0, flags: 0 };

/// The one legacy prefix that there is.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(super) enum OnlyPrefix {
    None,
    OperandSize,
    Repeat(u8),
}

impl OnlyPrefix {
    /// The number of a byte in [`OnlyPrefix::ALL`]; 0 if it is no prefix of these.
    fn number(byte: u8) -> u8 {
        match byte {
            0x66 => 1,
            0xf2 => 2,
            0xf3 => 3,
            _ => 0,
        }
    }

    const ALL: [OnlyPrefix; 4] = [
        OnlyPrefix::None,
        OnlyPrefix::OperandSize,
        OnlyPrefix::Repeat(0xf2),
        OnlyPrefix::Repeat(0xf3),
    ];
}

/// The rows of the first two opcode maps, by [`key`] and digit.
pub(super) struct CommonRows([[Entry; 8]; KEYS]);

/// `prefix` is the place in [`OnlyPrefix::ALL`], `escaped` for the second map, `wide` for REX.W.
#[inline(always)]
const fn key(prefix: u8, escaped: bool, wide: bool, opcode: u8) -> usize {
    (prefix as usize) << 10 | (escaped as usize) << 9 | (wide as usize) << 8 | opcode as usize
}

const KEYS: usize = OnlyPrefix::ALL.len() << 10;

impl CommonRows {
    /// Those of an index.
    pub const fn of(index: &Index) -> CommonRows {
        let mut all = [[NOTHING; 8]; KEYS];
        let mut at = 0;
        while at < KEYS {
            let prefix = OnlyPrefix::ALL[at >> 10];
            let (map, wide, opcode) = (at >> 9 & 1, at >> 8 & 1 != 0, at as u8);
            // Of the one-byte opcodes only the strings are another instruction with a repeat prefix.
            if map == 1 || !matches!(prefix, OnlyPrefix::Repeat(_)) {
                all[at] = of_digits(index, prefix, (map, opcode), wide);
            }
            at += 1;
        }
        CommonRows(all)
    }
}

/// What an opcode of a map means, by the digit in ModRM.
const fn of_digits(
    index: &Index,
    prefix: OnlyPrefix,
    (map, opcode): (usize, u8),
    wide: bool,
) -> [Entry; 8] {
    let candidates = index.candidates(map, opcode);
    let mut found = [NOTHING; 8];
    let (mut free, mut at) = (0xffu8, 0);
    while at < candidates.len() && free != 0 {
        let number = candidates[at];
        let row = &rows()[number as usize];
        at += 1;
        // A row of registers alone is left to who knows every row; what is in memory is another row's.
        if !index.allows(prefix, wide, row) || is_registers_alone(row) {
            continue;
        }
        let digits = match row.encoding.modrm {
            ModRm::Digit(digit) => 1 << digit,
            _ => 0xff,
        };
        let entry = entry(row, number);
        let mut digit = 0;
        while digit < 8 {
            if free & digits & 1 << digit != 0 {
                found[digit] = entry;
            }
            digit += 1;
        }
        free &= !digits;
    }
    found
}

/// Whether a row's place is always a register; its opcode then belongs to another row where it is memory.
const fn is_registers_alone(row: &Row) -> bool {
    let mut at = 0;
    while at < row.form.operands.len() {
        if matches!(row.form.operands[at].pattern, Pattern::XRm | Pattern::RegRm(_)) {
            return true;
        }
        at += 1;
    }
    false
}

/// What is read for an operand, of the few kinds that are read here.
#[derive(Copy, Clone)]
enum Part {
    /// A register of this kind, or memory of this width.
    Place(RegKind, Width),
    Reg(RegKind),
    /// Memory that is not accessed.
    Memory(Option<Width>),
    Accumulator(RegKind),
    Cl,
    One,
    /// So many bytes, and whether they are not sign-extended.
    Imm(u8, bool),
    Target(u8),
}

impl Part {
    const fn of(pattern: Pattern) -> Option<Part> {
        const fn kind(width: Width) -> RegKind {
            Reg::x86(width, 0).kind
        }
        // No immediate is as wide as an address is.
        let bytes = immediate_bytes(pattern, Width::W64) as u8;
        Some(match pattern {
            Pattern::Rm(width) => Part::Place(kind(width), width),
            Pattern::RmNarrow(width, memory) => Part::Place(kind(width), memory),
            Pattern::Xm(memory) => Part::Place(RegKind::Xmm, memory),
            Pattern::XmUnaligned => Part::Place(RegKind::Xmm, Width::W128),
            Pattern::R(width) => Part::Reg(kind(width)),
            Pattern::X => Part::Reg(RegKind::Xmm),
            Pattern::M => Part::Memory(None),
            Pattern::Mem(width) => Part::Memory(Some(width)),
            Pattern::MemAligned => Part::Memory(Some(Width::W128)),
            Pattern::Acc(width) => Part::Accumulator(kind(width)),
            Pattern::Cl => Part::Cl,
            Pattern::One => Part::One,
            Pattern::Imm(_) | Pattern::Simm8 | Pattern::Simm32 => Part::Imm(bytes, false),
            Pattern::Uimm8 => Part::Imm(bytes, true),
            Pattern::Rel8 | Pattern::Rel32 => Part::Target(bytes),
            _ => return None,
        })
    }
}

/// How the operands of a row are read, if they have one of the shapes.
const fn entry(row: &Row, number: u16) -> Entry {
    let e: &Encoding = &row.encoding;
    let operands = row.form.operands;
    if operands.len() > 3 || e.suffix.is_some() {
        return NOTHING;
    }
    let count = (operands.len() as u8) << COUNT_SHIFT;
    let mut entry = Entry { row: number, flags: count, ..NOTHING };
    let mut parts = [None; 3];
    let mut at = 0;
    while at < operands.len() {
        parts[at] = Part::of(operands[at].pattern);
        match parts[at] {
            None => return NOTHING,
            Some(Part::Place(kind, width)) => {
                (entry.place, entry.width) = (registers_from(kind), Some(width));
            }
            Some(Part::Reg(kind) | Part::Accumulator(kind)) => entry.reg = registers_from(kind),
            Some(Part::Imm(bytes, unsigned)) => {
                entry.imm_bytes = bytes;
                entry.flags |= if unsigned { UNSIGNED } else { 0 };
            }
            Some(Part::Target(_)) if row.has_16bit_target => return NOTHING,
            Some(Part::Target(bytes)) => entry.imm_bytes = bytes,
            Some(Part::Memory(width)) => {
                entry.width = width;
                entry.flags |= MEMORY;
            }
            Some(Part::Cl | Part::One) => {}
        }
        at += 1;
    }
    use Part::*;
    entry.flags |= if matches!(parts[1], Some(Place(..) | Memory(_))) { SECOND } else { 0 };
    entry.shape = match (!matches!(e.modrm, ModRm::None), parts) {
        (false, [None, None, None]) => Shape::None,
        (false, [Some(Reg(_)), None | Some(Imm(..)), None]) if e.plus_reg => Shape::Opcode,
        (false, [Some(Accumulator(_)), Some(Imm(..)), None]) => Shape::AccumulatorImm,
        (false, [Some(Target(_)), None, None]) => Shape::Target,
        (true, [Some(Place(..) | Memory(_)), Some(Reg(_)), None]) => Shape::Pair,
        (true, [Some(Reg(_)), Some(Place(..) | Memory(_)), None]) => Shape::Pair,
        (true, [Some(Place(..)), None | Some(Imm(..)), None]) => Shape::Place,
        (true, [Some(Place(..)), Some(One), None]) => Shape::PlaceOne,
        (true, [Some(Place(..)), Some(Cl), None]) => Shape::PlaceCl,
        (true, [Some(Reg(_)), Some(Place(..)), Some(Imm(..))]) => Shape::RegPlaceImm,
        _ => return NOTHING,
    };
    entry
}

/// What a byte says where a REX prefix may stand. Source: SDM Vol. 2A, 2.2.1.2.
#[derive(Copy, Clone)]
#[repr(align(4))]
struct Rex {
    /// What R and B add to the number of a register, and above it whether the prefix is there.
    reg: u8,
    base: u8,
    /// What X adds to an index of [`Addresses::indexes`].
    index: u8,
}

static REX: [Rex; 256] = {
    let mut all = [Rex { reg: 0, base: 0, index: 0 }; 256];
    let mut byte = 0x40;
    while byte < 0x50 {
        let rex = byte as u8;
        all[byte] =
            Rex { reg: (rex & 4) << 1 | 0x10, base: (rex & 1) << 3 | 0x10, index: (rex & 2) << 4 };
        byte += 1;
    }
    all
};

/// The registers by kind, whether there is a REX prefix, and number: without one, byte registers 4 to 7 are the
/// high bytes. Where a kind starts is told by [`registers_from`]. Source: SDM Vol. 2A, table 2-2.
static REGISTERS: [Reg; 256] = {
    let mut registers = [Reg::new(RegKind::Qword, 0); 256];
    let mut at = 0;
    while at < KINDS.len() * 32 {
        let (kind, place) = (KINDS[at / 32], at % 32);
        let number = place as u8 & 15;
        let is_high = matches!(kind, RegKind::Byte) && place >= 4 && place < 8;
        registers[at] =
            if is_high { Reg::new(RegKind::HighByte, number - 4) } else { Reg::new(kind, number) };
        at += 1;
    }
    registers
};

const KINDS: [RegKind; 5] =
    [RegKind::Byte, RegKind::Word, RegKind::Dword, RegKind::Qword, RegKind::Xmm];

const fn registers_from(kind: RegKind) -> u8 {
    let mut at = 0;
    while KINDS[at] as u8 != kind as u8 {
        at += 1;
    }
    at as u8 * 32
}

/// What ModRM and SIB say of an address beside the index.
#[derive(Copy, Clone)]
struct Address {
    base: Option<Reg>,
    /// Bytes of the displacement, and which bits of 64 are above them, one less.
    disp_bytes: u8,
    beyond: u8,
}

/// The index of an address, and its scale.
#[derive(Copy, Clone)]
#[repr(align(4))]
struct Scaled {
    index: Option<Reg>,
    scale: u8,
}

/// The registers of addresses.
struct Addresses {
    /// By ModRM; in place of its register field stand whether there is a SIB byte, whose last field then takes
    /// the place of ModRM's, and two bits of [`Rex::base`]. Source: SDM Vol. 2A, tables 2-2 and 2-3.
    bases: [Address; 256],
    /// By REX.X and the first two fields of SIB; the register that cannot be an index says that there is none.
    indexes: [Scaled; 256],
}

/// The bit of an index of [`Addresses::bases`] that says that there is a SIB byte.
const WITH_SIB: u8 = 0x20;
/// The first two fields of the SIB byte that say that there is no index.
const NO_INDEX: u8 = 4;

impl Addresses {
    const fn new(kind: RegKind, ip: Option<Reg>) -> Addresses {
        let mut bases = [Address { base: None, disp_bytes: 0, beyond: 0 }; 256];
        let mut at = 0;
        while at < bases.len() {
            let (mode, by) = (at >> 6, at as u8);
            let absolute = mode == 0 && by & 7 == 5;
            let disp_bytes = if absolute { 4 } else { [0, 1, 4, 0][mode] };
            let base = match absolute {
                false => Some(Reg::new(kind, by & 15)),
                true if by & WITH_SIB == 0 => ip,
                true => None,
            };
            let beyond = 63 - 8 * disp_bytes;
            bases[at] = Address { base, disp_bytes, beyond };
            at += 1;
        }
        let mut indexes = [Scaled { index: None, scale: 1 }; 256];
        at = 0;
        while at < 64 {
            let number = at as u8 & 7 | at as u8 >> 2 & 8;
            if number != NO_INDEX {
                let index = Some(Reg::new(kind, number));
                indexes[at] = Scaled { index, scale: 1 << (at >> 3 & 3) };
            }
            at += 1;
        }
        Addresses { bases, indexes }
    }
}

static LONG_ADDRESSES: Addresses = Addresses::new(RegKind::Qword, Some(RIP));
static SHORT_ADDRESSES: Addresses = Addresses::new(RegKind::Dword, None);

/// The bytes, and what is known of them so far.
struct Reader<'a, const LONG: bool> {
    bytes: &'a [u8; WINDOW],
    at: usize,
    rex: &'static Rex,
    opcode: u8,
    modrm: u8,
    /// The middle field of ModRM.
    digit: u8,
}

impl<const LONG: bool> Reader<'_, LONG> {
    /// The register that these three bits name, and what REX adds to them; `from` is [`registers_from`].
    #[inline(always)]
    fn register(&self, from: u8, low: u8, rex: u8) -> Operand {
        Operand::Reg(REGISTERS[usize::from(from | low | rex)])
    }

    #[inline(always)]
    fn modrm_register(&self, entry: &Entry) -> Operand {
        self.register(entry.reg, self.digit, self.rex.reg)
    }

    fn is_register(&self) -> bool {
        self.modrm >> 6 == 3
    }

    /// A number of so many bytes, up to 8, sign-extended.
    #[inline(always)]
    fn signed(&mut self, bytes: u8) -> i64 {
        let raw = i64::from_le_bytes(self.array(self.at));
        self.at += usize::from(bytes);
        // Of eight bytes those that count, and back. Which of the sizes it is would be one more guess.
        let beyond = (64 - 8 * bytes) & 63;
        raw << beyond >> beyond
    }

    fn array<const N: usize>(&self, at: usize) -> [u8; N] {
        self.bytes[at % 16..at % 16 + N].try_into().expect("as many bytes as were asked for")
    }

    fn immediate(&mut self, entry: &Entry) -> Operand {
        let value = self.signed(entry.imm_bytes);
        Operand::Imm(Value::Known(if entry.flags & UNSIGNED != 0 { value & 0xff } else { value }))
    }

    /// Appends the register or the memory that ModRM names. Source: SDM Vol. 2A, tables 2-2 and 2-3.
    ///
    /// Each part is settled before the whole is put together, where it is to stand: putting it together
    /// elsewhere and moving it costs as much as all the rest.
    #[inline(always)]
    fn put_place(&mut self, entry: &Entry, operands: &mut Operands, to: u8) {
        if self.is_register() {
            self.put_register(entry, operands, to);
        } else {
            self.put_memory(entry.width, operands, to);
        }
    }

    #[inline(always)]
    fn put_register(&self, entry: &Entry, operands: &mut Operands, to: u8) {
        operands.put(to, self.register(entry.place, self.modrm & 7, self.rex.base));
    }

    #[inline(always)]
    fn put_memory(&mut self, width: Option<Width>, operands: &mut Operands, to: u8) {
        let addresses = if LONG { &LONG_ADDRESSES } else { &SHORT_ADDRESSES };
        let with_sib = self.modrm & 7 == 4;
        // Read whether it is one or not.
        let sib = self.bytes[self.at % 16];
        self.at += usize::from(with_sib);
        // Without a choice: one would be made by a branch, and guessed wrong.
        let mask = u8::from(with_sib).wrapping_neg();
        let last = (self.modrm ^ (self.modrm ^ sib) & mask) & 7 | WITH_SIB & mask;
        let by = self.modrm & 0xc0 | self.rex.base | last;
        let Address { base, disp_bytes, beyond } = addresses.bases[usize::from(by)];
        let scaled = ((sib >> 3 | self.rex.index) ^ NO_INDEX) & mask ^ NO_INDEX;
        let Scaled { index, scale } = addresses.indexes[usize::from(scaled)];
        // Four bytes are there in any case: the longest of these instructions leaves two of the fifteen.
        // Of them those that count: the shift leaves one bit more to the second.
        let raw = u64::from(u32::from_le_bytes(self.array(self.at)));
        let disp = (raw << (beyond % 64) << 1) as i64 >> (beyond % 64) >> 1;
        self.at += usize::from(disp_bytes);
        // Without a register it is an address.
        let alone = !LONG && base.is_none() && index.is_none();
        let disp = Value::Known(if alone { disp & 0xffff_ffff } else { disp });
        let (extend, segment, mode) = (None, None, IndexMode::Offset);
        operands.put(
            to,
            Operand::Mem(Mem {
                base,
                index,
                scale,
                extend,
                shows_shift: false,
                disp,
                segment,
                width,
                mode,
            }),
        );
    }
}

/// Decodes the instruction at the start of `bytes`, if it is one of the common ones without a legacy prefix;
/// else nothing is known.
#[inline]
pub(super) fn decode<const LONG: bool>(
    bytes: &[u8; WINDOW],
    rows: &CommonRows,
    instruction: &mut Instruction,
) -> bool {
    decode_after::<LONG>(bytes, rows, instruction, 0, 0)
}

/// As [`decode`], those with a legacy prefix. Kept apart, so that it costs the others nothing.
///
/// Compilers fill gaps with instructions that have the operand-size prefix many times, and a segment's.
#[inline(never)]
pub(super) fn decode_prefixed<const LONG: bool>(
    bytes: &[u8; WINDOW],
    rows: &CommonRows,
    instruction: &mut Instruction,
) -> bool {
    const CS: u8 = 0x2e;
    let prefix = OnlyPrefix::number(bytes[0]);
    let is_filling = |byte: &&u8| **byte == 0x66 || LONG && **byte == CS;
    let skipped = match OnlyPrefix::ALL[usize::from(prefix % 4)] {
        OnlyPrefix::None => return false,
        OnlyPrefix::OperandSize => bytes.iter().take_while(is_filling).count(),
        OnlyPrefix::Repeat(_) => 1,
    };
    skipped < MAX_INSTRUCTION_BYTES
        && decode_after::<LONG>(bytes, rows, instruction, prefix, skipped)
        && usize::from(instruction.length) <= MAX_INSTRUCTION_BYTES
}

/// Goes on behind as many bytes of prefixes.
#[inline(always)]
fn decode_after<const LONG: bool>(
    bytes: &[u8; WINDOW],
    rows: &CommonRows,
    instruction: &mut Instruction,
    prefix: u8,
    skipped: usize,
) -> bool {
    debug_assert_eq!(LONG, instruction.arch != Arch::X86_32);
    // The bytes up to ModRM are looked at as one number: reading them one after the other would wait for
    // each to say where the next one is.
    let rest = u64::from_le_bytes(bytes[skipped % 16..][..8].try_into().expect("eight bytes"));
    let has_rex = LONG && rest & 0xf0 == 0x40;
    let rex = &REX[if LONG { usize::from(rest as u8) } else { 0 }];
    let wide = has_rex && rest & 8 != 0;
    let rest = if has_rex { rest >> 8 } else { rest };
    let at = skipped + usize::from(has_rex);
    let escaped = rest as u8 == 0x0f;
    // What comes then is compiled for each of the two.
    if escaped {
        let before = Before { prefix, rex, wide, escaped: true };
        decode_opcode::<LONG>(bytes, rows, instruction, before, rest >> 8, at + 1)
    } else {
        let before = Before { prefix, rex, wide, escaped: false };
        decode_opcode::<LONG>(bytes, rows, instruction, before, rest, at)
    }
}

/// What stands before an opcode.
#[derive(Copy, Clone)]
struct Before {
    /// The place in [`OnlyPrefix::ALL`].
    prefix: u8,
    rex: &'static Rex,
    wide: bool,
    escaped: bool,
}

/// Goes on at the opcode, at which `rest` starts and which is byte `at`.
#[inline(always)]
fn decode_opcode<const LONG: bool>(
    bytes: &[u8; WINDOW],
    rows: &CommonRows,
    instruction: &mut Instruction,
    Before { prefix, rex, wide, escaped }: Before,
    rest: u64,
    at: usize,
) -> bool {
    let (opcode, modrm) = (rest as u8, (rest >> 8) as u8);
    let entries = &rows.0[key(prefix, escaped, wide, opcode) % KEYS];
    let digit = (rest >> 11) as u8 & 7;
    let entry = &entries[usize::from(digit)];
    let mut reader = Reader::<LONG> { bytes, at: at + 2, rex, opcode, modrm, digit };
    let operands = &mut instruction.operands;
    let count = match entry.shape {
        Shape::Other => return false,
        Shape::None => {
            reader.at -= 1;
            0
        }
        // One way for both orders is guessed right more often than two; as for an immediate that is not there.
        Shape::Pair => {
            let place_at = entry.flags & SECOND;
            operands.put(place_at ^ 1, reader.modrm_register(entry));
            if !reader.is_register() {
                reader.put_memory(entry.width, operands, place_at);
            } else if entry.flags & MEMORY == 0 {
                reader.put_register(entry, operands, place_at);
            } else {
                return false;
            }
            2
        }
        Shape::Place => {
            reader.put_place(entry, operands, 0);
            operands.put(1, reader.immediate(entry));
            entry.flags >> COUNT_SHIFT
        }
        Shape::PlaceOne => {
            reader.put_place(entry, operands, 0);
            operands.put(1, Operand::Imm(Value::Known(1)));
            2
        }
        Shape::PlaceCl => {
            reader.put_place(entry, operands, 0);
            operands.put(1, Operand::Reg(Reg::x86(Width::W8, 1)));
            2
        }
        Shape::RegPlaceImm => {
            operands.put(0, reader.modrm_register(entry));
            reader.put_place(entry, operands, 1);
            operands.put(2, reader.immediate(entry));
            3
        }
        Shape::Opcode => {
            reader.at -= 1;
            operands.put(0, reader.register(entry.reg, reader.opcode & 7, reader.rex.base));
            operands.put(1, reader.immediate(entry));
            entry.flags >> COUNT_SHIFT
        }
        Shape::AccumulatorImm => {
            reader.at -= 1;
            operands.put(0, reader.register(entry.reg, 0, 0));
            operands.put(1, reader.immediate(entry));
            2
        }
        Shape::Target => {
            reader.at -= 1;
            let distance = reader.signed(entry.imm_bytes);
            let end = instruction.address.wrapping_add(reader.at as u64);
            let mut target = distance.wrapping_add(end as i64);
            if !LONG {
                target &= 0xffff_ffff;
            }
            operands.put(0, Operand::Target(Value::Known(target)));
            1
        }
    };
    operands.set_count(count);
    instruction.form = entry.row;
    instruction.length = reader.at as u8;
    true
}
