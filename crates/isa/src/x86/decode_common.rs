//! Decoding the common instructions fast: those of the first two opcode maps with at most one legacy prefix,
//! whose operands have one of a few shapes, which is nearly all that compilers write. Everything else is left
//! to [`super::decode`], which knows every row and gives the same answer for these.
//!
//! Of the time that decoding takes, guessing wrong where a branch goes is the most. So what the next byte
//! is (a REX prefix, an escape) is computed and not asked, and one decision a row takes the place of one an
//! operand.

use super::encoding::{Encoding, ModRm, immediate_bytes};
use super::{Pattern, RIP, Row};
use crate::{Arch, IndexMode, Instruction, Mem, Operand, Operands, Reg, RegKind, Value, Width};

/// Bytes that are looked at, whether or not the instruction has them: eight from each of the first sixteen.
pub(super) const WINDOW: usize = 24;

/// What the operands of a row are, taken together. A place is a register or memory, as ModRM says.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
enum Shape {
    /// Something else, or no row at all.
    Other,
    None,
    /// A place, and the register of ModRM.
    PlaceReg,
    RegPlace,
    /// The register of ModRM, and memory that a register cannot stand for.
    RegMemory,
    Place,
    PlaceImm,
    PlaceOne,
    PlaceCl,
    RegPlaceImm,
    /// The register in the opcode.
    Opcode,
    OpcodeImm,
    AccumulatorImm,
    Target,
}

/// A row that is meant, and how its operands are read.
#[derive(Copy, Clone)]
struct Entry {
    row: u16,
    shape: Shape,
    /// Kind of the register of ModRM, or of the only register.
    reg: RegKind,
    /// Kind of the register that a place can be.
    place: RegKind,
    /// Width of the memory that a place can be.
    width: Option<Width>,
    /// Bytes of the immediate or of the distance.
    imm_bytes: u8,
    /// The immediate is not sign-extended.
    unsigned: bool,
}

const NOTHING: Entry = Entry {
    row: 0,
    shape: Shape::Other,
    reg: RegKind::Qword,
    place: RegKind::Qword,
    width: None,
    imm_bytes: 0,
    unsigned: false,
};

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

/// The rows of the first two opcode maps, by [`key`].
pub(super) struct CommonRows(Box<[Entry; KEYS]>);

/// `prefix` by its number, `rex` a REX prefix or 0, of which W counts, and of ModRM the digit. What differs
/// in the digit alone stands together.
#[inline(always)]
fn key(prefix: u8, escaped: u8, rex: u8, opcode: u8, modrm: u8) -> usize {
    usize::from(prefix << 2 | escaped << 1 | rex >> 3 & 1) << 11
        | usize::from(opcode) << 3
        | usize::from(modrm >> 3 & 7)
}

const KEYS: usize = 1 << 15;

impl CommonRows {
    /// `candidates` are the rows of a map, an opcode, REX.W and, at the operand size that a prefix makes,
    /// each digit, best first; `None` if there are none for any digit. `allows` tells whether the prefix
    /// lets a row be meant.
    pub fn new<'a>(
        rows: &[Row],
        candidates: impl Fn(OnlyPrefix, usize, u8, bool) -> Option<[&'a [u16]; 8]>,
        allows: impl Fn(OnlyPrefix, &Encoding) -> bool,
    ) -> CommonRows {
        let mut entries = vec![NOTHING; KEYS].into_boxed_slice();
        // Every program that decodes comes by here: a row's entry is made once, for all its keys.
        let mut made: Vec<Option<Entry>> = vec![None; rows.len()];
        for (at, of_digits) in entries.chunks_exact_mut(8).enumerate() {
            let (prefix, opcode) = (OnlyPrefix::ALL[at >> 10], at as u8);
            let (map, wide) = (at >> 9 & 1, at >> 8 & 1 == 1);
            // Of the one-byte opcodes only the strings are another instruction with these.
            if map == 0 && matches!(prefix, OnlyPrefix::Repeat(_)) {
                continue;
            }
            let Some(found) = candidates(prefix, map, opcode, wide) else { continue };
            for (to, found) in of_digits.iter_mut().zip(found) {
                let meant =
                    found.iter().find(|row| allows(prefix, &rows[usize::from(**row)].encoding));
                if let Some(&number) = meant {
                    let row = usize::from(number);
                    *to = *made[row].get_or_insert_with(|| entry(&rows[row], number));
                }
            }
        }
        CommonRows(entries.try_into().unwrap_or_else(|_| unreachable!("there are as many")))
    }
}

/// Kinds of the register and width of the memory that a place can be, if the pattern is one.
fn as_place(pattern: Pattern) -> Option<(RegKind, Option<Width>)> {
    let kind = |width| Reg::x86(width, 0).kind;
    match pattern {
        Pattern::Rm(width) => Some((kind(width), Some(width))),
        Pattern::RmNarrow(width, memory) => Some((kind(width), Some(memory))),
        Pattern::Xm(memory) => Some((RegKind::Xmm, Some(memory))),
        Pattern::XmUnaligned => Some((RegKind::Xmm, Some(Width::W128))),
        _ => None,
    }
}

fn as_register(pattern: Pattern) -> Option<RegKind> {
    match pattern {
        Pattern::R(width) => Some(Reg::x86(width, 0).kind),
        Pattern::X => Some(RegKind::Xmm),
        _ => None,
    }
}

fn is_immediate(pattern: Pattern) -> bool {
    matches!(pattern, Pattern::Imm(_) | Pattern::Simm8 | Pattern::Simm32 | Pattern::Uimm8)
}

fn entry(row: &Row, number: u16) -> Entry {
    let e: &Encoding = &row.encoding;
    let mut patterns = [Pattern::One; 3];
    let operands = row.form.operands;
    if operands.len() > 3 || e.suffix.is_some() {
        return NOTHING;
    }
    for (pattern, slot) in patterns.iter_mut().zip(operands) {
        *pattern = slot.pattern;
    }
    let patterns = &patterns[..operands.len()];
    let (place, register, immediate) = (
        patterns.iter().find_map(|p| as_place(*p)),
        patterns.iter().find_map(|p| as_register(*p)),
        patterns.iter().find(|p| is_immediate(**p) || matches!(p, Pattern::Rel8 | Pattern::Rel32)),
    );
    let is = |wanted: &[fn(Pattern) -> bool]| {
        patterns.len() == wanted.len() && patterns.iter().zip(wanted).all(|(p, is)| is(*p))
    };
    let a_place = |p| as_place(p).is_some();
    let a_register = |p| as_register(p).is_some();
    let a_target = |p| matches!(p, Pattern::Rel8 | Pattern::Rel32);
    let with_modrm = e.modrm != ModRm::None;
    let shape = match with_modrm {
        false if patterns.is_empty() => Shape::None,
        false if e.plus_reg && is(&[a_register]) => Shape::Opcode,
        false if e.plus_reg && is(&[a_register, is_immediate]) => Shape::OpcodeImm,
        false if is(&[|p| matches!(p, Pattern::Acc(_)), is_immediate]) => Shape::AccumulatorImm,
        false if is(&[a_target]) => Shape::Target,
        true if is(&[a_place, a_register]) => Shape::PlaceReg,
        true if is(&[a_register, a_place]) => Shape::RegPlace,
        true if is(&[a_register, |p| p == Pattern::M]) => Shape::RegMemory,
        true if is(&[a_place]) => Shape::Place,
        true if is(&[a_place, is_immediate]) => Shape::PlaceImm,
        true if is(&[a_place, |p| p == Pattern::One]) => Shape::PlaceOne,
        true if is(&[a_place, |p| p == Pattern::Cl]) => Shape::PlaceCl,
        true if is(&[a_register, a_place, is_immediate]) => Shape::RegPlaceImm,
        _ => return NOTHING,
    };
    let accumulator = patterns.iter().find_map(|p| match p {
        Pattern::Acc(width) => Some(Reg::x86(*width, 0).kind),
        _ => None,
    });
    let (place_kind, width) = place.unwrap_or((RegKind::Qword, None));
    Entry {
        row: number,
        shape,
        reg: register.or(accumulator).unwrap_or(RegKind::Qword),
        place: place_kind,
        width,
        // No immediate is as wide as an address is.
        imm_bytes: immediate.map_or(0, |p| immediate_bytes(*p, Width::W64) as u8),
        unsigned: immediate == Some(&Pattern::Uimm8),
    }
}

/// Byte registers by number, without and with a REX prefix. Source: SDM Vol. 2A, table 2-2.
const BYTES: [[Reg; 16]; 2] = {
    let mut regs = [[Reg::new(RegKind::Byte, 0); 16]; 2];
    let mut number = 0;
    while number < 16 {
        regs[0][number] = Reg::new(RegKind::Byte, number as u8);
        regs[1][number] = Reg::new(RegKind::Byte, number as u8);
        number += 1;
    }
    let mut high = 0;
    while high < 4 {
        regs[0][4 + high] = Reg::new(RegKind::HighByte, high as u8);
        high += 1;
    }
    regs
};

/// The bytes, and what is known of them so far.
struct Reader<'a, const LONG: bool> {
    bytes: &'a [u8; WINDOW],
    at: usize,
    rex: u8,
    modrm: u8,
}

impl<const LONG: bool> Reader<'_, LONG> {
    fn register(&self, kind: RegKind, low: u8, rex_bit: u8) -> Operand {
        let number = low | u8::from(self.rex & rex_bit != 0) << 3;
        Operand::Reg(match kind {
            RegKind::Byte => BYTES[usize::from(self.rex != 0)][usize::from(number)],
            kind => Reg::new(kind, number),
        })
    }

    fn modrm_register(&self, kind: RegKind) -> Operand {
        self.register(kind, self.modrm >> 3 & 7, 4)
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
        Operand::Imm(Value::Known(if entry.unsigned { value & 0xff } else { value }))
    }

    /// Appends the register or the memory that ModRM names. Source: SDM Vol. 2A, tables 2-2 and 2-3.
    ///
    /// Each part is settled before the whole is put together, where it is to stand: putting it together
    /// elsewhere and moving it costs as much as all the rest.
    #[inline(always)]
    fn put_place(&mut self, entry: &Entry, operands: &mut Operands, to: usize) {
        if self.is_register() {
            operands.put(to, self.register(entry.place, self.modrm & 7, 1));
        } else {
            self.put_memory(entry.width, operands, to);
        }
    }

    #[inline(always)]
    fn put_memory(&mut self, width: Option<Width>, operands: &mut Operands, to: usize) {
        let kind = if LONG { RegKind::Qword } else { RegKind::Dword };
        let (mode, low) = (self.modrm >> 6, self.modrm & 7);
        let bit = |rex: u8, bit: u8| u8::from(rex & bit != 0) << 3;
        let with_sib = low == 4;
        // Read whether it is one or not.
        let sib = self.bytes[self.at % 16];
        self.at += usize::from(with_sib);
        let number = sib >> 3 & 7 | bit(self.rex, 2);
        let indexed = with_sib && number != 4;
        let index = if indexed { Some(Reg::new(kind, number)) } else { None };
        let scale = if indexed { 1 << (sib >> 6) } else { 1 };
        let low = if with_sib { sib & 7 } else { low };
        let absolute = mode == 0 && low == 5;
        let base = match absolute {
            false => Some(Reg::new(kind, low | bit(self.rex, 1))),
            true if LONG && !with_sib => Some(RIP),
            true => None,
        };
        let bits = if absolute { 32 } else { [0, 8, 32, 0][usize::from(mode)] };
        // Four bytes are there in any case: the longest of these instructions leaves two of the fifteen.
        let raw = i64::from(i32::from_le_bytes(self.array(self.at)));
        let disp = if bits == 0 { 0 } else { raw << (64 - bits) >> (64 - bits) };
        self.at += bits as usize / 8;
        // Without a register it is an address.
        let alone = !LONG && base.is_none() && index.is_none();
        let disp = Value::Known(if alone { disp & 0xffff_ffff } else { disp });
        let (extend, segment, mode) = (None, None, IndexMode::Offset);
        operands
            .put(to, Operand::Mem(Mem { base, index, scale, extend, disp, segment, width, mode }));
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
    decode_after::<LONG, false>(bytes, rows, instruction)
}

/// As [`decode`], those with a legacy prefix. Kept apart, so that it costs the others nothing.
#[inline(never)]
pub(super) fn decode_prefixed<const LONG: bool>(
    bytes: &[u8; WINDOW],
    rows: &CommonRows,
    instruction: &mut Instruction,
) -> bool {
    OnlyPrefix::number(bytes[0]) != 0 && decode_after::<LONG, true>(bytes, rows, instruction)
}

#[inline(always)]
fn decode_after<const LONG: bool, const PREFIXED: bool>(
    bytes: &[u8; WINDOW],
    rows: &CommonRows,
    instruction: &mut Instruction,
) -> bool {
    debug_assert_eq!(LONG, instruction.arch != Arch::X86_32);
    // Where what follows the legacy prefix starts.
    let start = usize::from(PREFIXED);
    let prefix = if PREFIXED { OnlyPrefix::number(bytes[0]) } else { 0 };
    let has_rex = LONG && bytes[start] & 0xf0 == 0x40;
    let rex = if has_rex { bytes[start] } else { 0 };
    let mut at = start + usize::from(has_rex);
    let escaped = u8::from(bytes[at] == 0x0f);
    at += usize::from(escaped);
    let (opcode, modrm) = (bytes[at], bytes[at + 1]);
    let entry = &rows.0[key(prefix, escaped, rex, opcode, modrm) % KEYS];
    let mut reader = Reader::<LONG> { bytes, at: at + 2, rex, modrm };
    let operands = &mut instruction.operands;
    let count = match entry.shape {
        Shape::Other => return false,
        Shape::None => {
            reader.at = at + 1;
            0
        }
        Shape::PlaceReg => {
            operands.put(1, reader.modrm_register(entry.reg));
            reader.put_place(entry, operands, 0);
            2
        }
        Shape::RegPlace => {
            operands.put(0, reader.modrm_register(entry.reg));
            reader.put_place(entry, operands, 1);
            2
        }
        Shape::RegMemory => {
            if reader.is_register() {
                return false;
            }
            operands.put(0, reader.modrm_register(entry.reg));
            reader.put_memory(None, operands, 1);
            2
        }
        Shape::Place => {
            reader.put_place(entry, operands, 0);
            1
        }
        Shape::PlaceImm => {
            reader.put_place(entry, operands, 0);
            operands.put(1, reader.immediate(entry));
            2
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
            operands.put(0, reader.modrm_register(entry.reg));
            reader.put_place(entry, operands, 1);
            operands.put(2, reader.immediate(entry));
            3
        }
        Shape::Opcode => {
            reader.at = at + 1;
            operands.put(0, reader.register(entry.reg, opcode & 7, 1));
            1
        }
        Shape::OpcodeImm => {
            reader.at = at + 1;
            operands.put(0, reader.register(entry.reg, opcode & 7, 1));
            operands.put(1, reader.immediate(entry));
            2
        }
        Shape::AccumulatorImm => {
            reader.at = at + 1;
            operands.put(0, Operand::Reg(Reg::new(entry.reg, 0)));
            operands.put(1, reader.immediate(entry));
            2
        }
        Shape::Target => {
            reader.at = at + 1;
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
