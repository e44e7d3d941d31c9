//! Decoding the common instructions fast: those without a legacy prefix whose operands have one of a few
//! shapes, which is nearly all that compilers write. Everything else is left to [`super::decode`], which
//! knows every row and gives the same answer for these.
//!
//! Of the time that decoding takes, guessing wrong where a branch goes is the most. So what the next byte
//! is (a REX prefix, an escape) is computed and not asked, and one decision a row takes the place of one an
//! operand.

use super::encoding::{Encoding, Mandatory, ModRm, immediate_bytes};
use super::{Pattern, RIP, Row};
use crate::{
    Arch, IndexMode, Instruction, MAX_INSTRUCTION_BYTES, Mem, Operand, Operands, Reg, RegKind,
    Value, Width,
};

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

/// A row that is meant when there is no legacy prefix.
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

/// The rows of the first two opcode maps, by map, opcode, REX.W and ModRM digit.
pub(super) struct CommonRows(Vec<Entry>);

fn key(escaped: bool, opcode: u8, wide: bool, digit: u8) -> usize {
    ((usize::from(escaped) * 256 + usize::from(opcode)) * 2 + usize::from(wide)) * 8
        + usize::from(digit)
}

impl CommonRows {
    /// `candidates` are the rows of a map, an opcode, an operand size (1 for 32 bits, 2 for 64) and a
    /// digit, best first.
    pub fn new<'a>(
        rows: &[Row],
        candidates: impl Fn(usize, u8, usize, u8) -> &'a [u16],
    ) -> CommonRows {
        let mut entries = vec![NOTHING; 2 * 256 * 2 * 8];
        for escaped in [false, true] {
            for opcode in 0..=255 {
                for wide in [false, true] {
                    for digit in 0..8 {
                        let found =
                            candidates(usize::from(escaped), opcode, 1 + usize::from(wide), digit);
                        let meant = found.iter().find(|row| {
                            let e = &rows[usize::from(**row)].encoding;
                            matches!(e.mandatory, Mandatory::Any | Mandatory::NoPrefix)
                                && !e.lock
                                && !e.address_size
                                && !e.no_track
                        });
                        if let Some(&number) = meant {
                            entries[key(escaped, opcode, wide, digit)] =
                                entry(&rows[usize::from(number)], number);
                        }
                    }
                }
            }
        }
        CommonRows(entries)
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
    bytes: &'a [u8; MAX_INSTRUCTION_BYTES],
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

    /// A number of 1, 2, 4 or 8 bytes, sign-extended.
    #[inline]
    fn signed(&mut self, bytes: u8) -> i64 {
        let at = self.at;
        self.at += usize::from(bytes);
        match bytes {
            1 => i64::from(self.bytes[at] as i8),
            4 => i64::from(i32::from_le_bytes(self.array(at))),
            2 => i64::from(i16::from_le_bytes(self.array(at))),
            8 => i64::from_le_bytes(self.array(at)),
            _ => 0,
        }
    }

    fn array<const N: usize>(&self, at: usize) -> [u8; N] {
        self.bytes[at..at + N].try_into().expect("as many bytes as were asked for")
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
    fn push_place(&mut self, entry: &Entry, operands: &mut Operands) {
        if self.is_register() {
            operands.push(self.register(entry.place, self.modrm & 7, 1));
        } else {
            self.push_memory(entry.width, operands);
        }
    }

    #[inline(always)]
    fn push_memory(&mut self, width: Option<Width>, operands: &mut Operands) {
        let kind = if LONG { RegKind::Qword } else { RegKind::Dword };
        let (mode, low) = (self.modrm >> 6, self.modrm & 7);
        let bit = |rex: u8, bit: u8| u8::from(rex & bit != 0) << 3;
        let with_sib = low == 4;
        // Read whether it is one or not.
        let sib = self.bytes[self.at];
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
        operands.push(Operand::Mem(Mem { base, index, scale, extend, disp, segment, width, mode }));
    }
}

/// Decodes the instruction at the start of `bytes`, if it is one of the common ones; else nothing is known.
#[inline]
pub(super) fn decode<const LONG: bool>(
    bytes: &[u8; MAX_INSTRUCTION_BYTES],
    rows: &CommonRows,
    instruction: &mut Instruction,
) -> bool {
    debug_assert_eq!(LONG, instruction.arch != Arch::X86_32);
    let prefixed = LONG && bytes[0] & 0xf0 == 0x40;
    let rex = if prefixed { bytes[0] } else { 0 };
    let mut at = usize::from(prefixed);
    let escaped = bytes[at] == 0x0f;
    at += usize::from(escaped);
    let (opcode, modrm) = (bytes[at], bytes[at + 1]);
    let entry = &rows.0[key(escaped, opcode, rex & 8 != 0, modrm >> 3 & 7)];
    let mut reader = Reader::<LONG> { bytes, at: at + 2, rex, modrm };
    let operands = &mut instruction.operands;
    operands.clear();
    match entry.shape {
        Shape::Other => return false,
        Shape::None => reader.at = at + 1,
        Shape::PlaceReg => {
            reader.push_place(entry, operands);
            operands.push(reader.modrm_register(entry.reg));
        }
        Shape::RegPlace => {
            operands.push(reader.modrm_register(entry.reg));
            reader.push_place(entry, operands);
        }
        Shape::RegMemory => {
            if reader.is_register() {
                return false;
            }
            operands.push(reader.modrm_register(entry.reg));
            reader.push_memory(None, operands);
        }
        Shape::Place => reader.push_place(entry, operands),
        Shape::PlaceImm => {
            reader.push_place(entry, operands);
            operands.push(reader.immediate(entry));
        }
        Shape::PlaceOne => {
            reader.push_place(entry, operands);
            operands.push(Operand::Imm(Value::Known(1)));
        }
        Shape::PlaceCl => {
            reader.push_place(entry, operands);
            operands.push(Operand::Reg(Reg::x86(Width::W8, 1)));
        }
        Shape::RegPlaceImm => {
            operands.push(reader.modrm_register(entry.reg));
            reader.push_place(entry, operands);
            operands.push(reader.immediate(entry));
        }
        Shape::Opcode => {
            reader.at = at + 1;
            operands.push(reader.register(entry.reg, opcode & 7, 1));
        }
        Shape::OpcodeImm => {
            reader.at = at + 1;
            operands.push(reader.register(entry.reg, opcode & 7, 1));
            operands.push(reader.immediate(entry));
        }
        Shape::AccumulatorImm => {
            reader.at = at + 1;
            operands.push(Operand::Reg(Reg::new(entry.reg, 0)));
            operands.push(reader.immediate(entry));
        }
        Shape::Target => {
            reader.at = at + 1;
            let distance = reader.signed(entry.imm_bytes);
            let end = instruction.address.wrapping_add(reader.at as u64);
            let mut target = distance.wrapping_add(end as i64);
            if !LONG {
                target &= 0xffff_ffff;
            }
            operands.push(Operand::Target(Value::Known(target)));
        }
    }
    instruction.form = entry.row;
    instruction.length = reader.at as u8;
    true
}
