//! Bytes to operands.

use super::encoding::{Encoding, MAPS, Mandatory, ModRm, Sizes, immediate_bytes};
use super::{Pattern, RIP, Row, table};
use crate::{
    Arch, DecodeError, Instruction, MAX_INSTRUCTION_BYTES, Mem, Operand, Reg, RegKind, Segment,
    Value, Width,
};

/// Candidate rows by opcode map, opcode byte, operand size and ModRM digit, best first.
pub(crate) struct Index {
    /// Range of `rows` for each key.
    ranges: Vec<(u16, u8)>,
    rows: Vec<u16>,
    /// Whether any row of this map and opcode has a ModRM byte.
    has_modrm: [bool; 256 * MAPS],
}

const SIZES: [Sizes; 3] = [Sizes::S16, Sizes::S32, Sizes::S64];

fn key(map: usize, opcode: u8, size: usize, digit: u8) -> usize {
    ((map * 256 + usize::from(opcode)) * 3 + size) * 8 + usize::from(digit)
}

/// Calls `visit` with every key under which a form is looked up.
fn each_key(e: &Encoding, mut visit: impl FnMut(usize)) {
    let opcodes = if e.plus_reg { 8 } else { 1 };
    for opcode in e.opcode..=e.opcode + (opcodes - 1) {
        for (size, bit) in SIZES.iter().enumerate() {
            if e.sizes.0 & bit.0 == 0 {
                continue;
            }
            for digit in 0..8 {
                if !matches!(e.modrm, ModRm::Digit(d) if d != digit) {
                    visit(key(e.map_index(), opcode, size, digit));
                }
            }
        }
    }
}

impl Index {
    /// Every program that decodes builds this once, so it is built by counting: first how many rows each
    /// key has, then each row to its place.
    pub fn new(rows: &[Row]) -> Index {
        let mut has_modrm = [false; 256 * MAPS];
        let mut ranges = vec![(0u16, 0u8); MAPS * 256 * 3 * 8];
        for row in rows {
            let e = &row.encoding;
            let opcodes = if e.plus_reg { 8 } else { 1 };
            for opcode in e.opcode..=e.opcode + (opcodes - 1) {
                has_modrm[e.map_index() * 256 + usize::from(opcode)] |= e.modrm != ModRm::None;
            }
            each_key(e, |key| ranges[key].1 += 1);
        }
        let mut total = 0;
        for (start, count) in &mut ranges {
            *start = total;
            total += u16::from(std::mem::take(count));
        }
        // A row that asks for more of the prefixes wins over one that asks for less.
        let mut order: Vec<u16> = (0..rows.len() as u16).collect();
        order.sort_by_key(|&number| {
            let row = &rows[usize::from(number)];
            let e = &row.encoding;
            (
                e.mandatory == Mandatory::Any && !e.address32 && !e.no_track,
                e.suffix.is_none(),
                row.form.accepted_only,
                e.sizes.0.count_ones(),
                number,
            )
        });
        let mut places = vec![0; usize::from(total)];
        for number in order {
            each_key(&rows[usize::from(number)].encoding, |key| {
                let (start, count) = &mut ranges[key];
                places[usize::from(*start) + usize::from(*count)] = number;
                *count += 1;
            });
        }
        Index { ranges, rows: places, has_modrm }
    }
}

#[derive(Default)]
struct Prefixes {
    operand16: bool,
    address32: bool,
    lock: bool,
    no_track: bool,
    repeat: Option<u8>,
    segment: Option<Segment>,
    /// REX, or what VEX says in its place.
    rex: Option<u8>,
    /// The register that VEX names.
    vvvv: u8,
}

impl Prefixes {
    /// Whether a form can be meant by these prefixes.
    fn allow(&self, e: &Encoding) -> bool {
        let repeat = match e.mandatory {
            Mandatory::Any => true,
            Mandatory::NoPrefix => self.repeat.is_none() && !self.operand16,
            Mandatory::OperandSize => self.repeat.is_none() && self.operand16,
            Mandatory::Repeat(repeat) => {
                self.repeat == Some(repeat) && (self.operand16 || !e.operand16)
            }
        };
        repeat
            && e.lock == self.lock
            && (self.address32 || !e.address32)
            && (self.no_track || !e.no_track)
    }

    /// Reads what follows a VEX prefix byte; the map. Source: SDM Vol. 2A, 2.3.5.
    fn vex(&mut self, first: u8, reader: &mut Reader) -> Result<usize, DecodeError> {
        if self.operand16 || self.repeat.is_some() || self.lock || self.rex.is_some() {
            return Err(DecodeError::Invalid);
        }
        let (upper, map, last) = match first {
            0xc5 => {
                let byte = reader.byte()?;
                (byte & 0x80 | 0x60, 1, byte & 0x7f)
            }
            _ => {
                let (upper, last) = (reader.byte()?, reader.byte()?);
                (upper & 0xe0, usize::from(upper & 0x1f), last)
            }
        };
        // R, X and B are stored inverted, above W.
        self.rex = Some(0x40 | (!upper >> 5) | last >> 4 & 8);
        self.vvvv = !last >> 3 & 15;
        match last & 3 {
            1 => self.operand16 = true,
            2 => self.repeat = Some(0xf3),
            3 => self.repeat = Some(0xf2),
            _ => {}
        }
        let short = last & 4 == 0;
        if short && (1..=3).contains(&map) { Ok(map + 3) } else { Err(DecodeError::Invalid) }
    }

    fn rex_bit(&self, bit: u8) -> u8 {
        u8::from(self.rex.unwrap_or(0) & bit != 0) << 3
    }
}

/// Decodes the instruction at the start of `bytes` into `instruction`, whose address is given. After an
/// error the instruction is none.
///
/// # Errors
///
/// See [`crate::decode`].
pub fn decode_into(bytes: &[u8], instruction: &mut Instruction) -> Result<(), DecodeError> {
    instruction.arch = Arch::X86_64;
    let cut_off = if bytes.len() >= MAX_INSTRUCTION_BYTES {
        DecodeError::Invalid
    } else {
        DecodeError::CutOff
    };
    let bytes = &bytes[..bytes.len().min(MAX_INSTRUCTION_BYTES)];
    let mut reader = Reader { bytes, at: 0, cut_off };
    let mut prefixes = Prefixes::default();
    let opcode = loop {
        match reader.byte()? {
            0x66 => prefixes.operand16 = true,
            0x67 => prefixes.address32 = true,
            0xf0 => prefixes.lock = true,
            repeat @ (0xf2 | 0xf3) => prefixes.repeat = Some(repeat),
            0x64 => prefixes.segment = Some(Segment::Fs),
            0x65 => prefixes.segment = Some(Segment::Gs),
            0x3e => prefixes.no_track = true,
            // The other segments have no effect in 64-bit mode.
            0x26 | 0x2e | 0x36 => {}
            rex @ 0x40..=0x4f => {
                prefixes.rex = Some(rex);
                continue;
            }
            opcode => break opcode,
        }
        // A REX prefix that does not come last has no effect.
        prefixes.rex = None;
    };
    let (map, opcode) = match opcode {
        0x0f => match reader.byte()? {
            0x38 => (2, reader.byte()?),
            0x3a => (3, reader.byte()?),
            opcode => (1, opcode),
        },
        0xc4 | 0xc5 => {
            let map = prefixes.vex(opcode, &mut reader)?;
            (map, reader.byte()?)
        }
        opcode => (0, opcode),
    };
    let table = table();
    let index = &table.by_opcode;
    let size = match prefixes {
        Prefixes { rex: Some(rex), .. } if rex & 8 != 0 => 2,
        _ if map > 3 => 1,
        Prefixes { operand16: true, .. } => 0,
        _ => 1,
    };
    let digit =
        if index.has_modrm[map * 256 + usize::from(opcode)] { reader.peek()? >> 3 & 7 } else { 0 };
    let (start, count) = index.ranges[key(map, opcode, size, digit)];
    let candidates = &index.rows[usize::from(start)..][..usize::from(count)];
    let mut error = DecodeError::Invalid;
    for &number in candidates {
        let row = &table.rows[usize::from(number)];
        if !prefixes.allow(&row.encoding) {
            continue;
        }
        let mut attempt = reader.clone();
        instruction.operands.clear();
        match operands(row, opcode, &prefixes, &mut attempt, instruction) {
            Ok(()) => {
                instruction.form = number;
                instruction.length = attempt.at as u8;
                return Ok(());
            }
            Err(DecodeError::CutOff) => error = DecodeError::CutOff,
            Err(DecodeError::Invalid) => {}
        }
    }
    Err(error)
}

#[derive(Clone)]
struct Reader<'a> {
    bytes: &'a [u8],
    at: usize,
    /// What running out of bytes means: fewer than the longest instruction were given, or not.
    cut_off: DecodeError,
}

impl Reader<'_> {
    fn peek(&self) -> Result<u8, DecodeError> {
        self.bytes.get(self.at).copied().ok_or(self.cut_off)
    }

    fn byte(&mut self) -> Result<u8, DecodeError> {
        let byte = self.peek()?;
        self.at += 1;
        Ok(byte)
    }

    /// A little-endian number of 1, 2, 4 or 8 bytes, sign-extended.
    fn signed(&mut self, size: usize) -> Result<i64, DecodeError> {
        // Each size for itself: a copy of a size not known before would be a call.
        Ok(match size {
            1 => i64::from(self.byte()? as i8),
            2 => i64::from(i16::from_le_bytes(self.array()?)),
            4 => i64::from(i32::from_le_bytes(self.array()?)),
            _ => i64::from_le_bytes(self.array()?),
        })
    }

    fn array<const N: usize>(&mut self) -> Result<[u8; N], DecodeError> {
        let bytes = self.bytes.get(self.at..self.at + N).ok_or(self.cut_off)?;
        self.at += N;
        Ok(bytes.try_into().expect("as many bytes as were asked for"))
    }
}

fn operands(
    row: &Row,
    opcode: u8,
    prefixes: &Prefixes,
    reader: &mut Reader,
    instruction: &mut Instruction,
) -> Result<(), DecodeError> {
    let e = &row.encoding;
    // Strings are addressed by 64-bit registers in the segments without a base; nothing else so far.
    if row.hidden_memory && (prefixes.address32 || prefixes.segment.is_some()) {
        return Err(DecodeError::Invalid);
    }
    if let Some(suffix) = e.suffix
        && reader.byte()? != suffix
    {
        return Err(DecodeError::Invalid);
    }
    let modrm = if e.modrm == ModRm::None { 0 } else { reader.byte()? };
    let mut memory = None;
    if e.modrm != ModRm::None && modrm >> 6 != 0b11 {
        memory = Some(read_memory(modrm, prefixes, row.memory_width, reader)?);
    }
    if prefixes.vvvv != 0 && !row.names_vvvv {
        return Err(DecodeError::Invalid);
    }
    let operands = &mut instruction.operands;
    let mut relative = None;
    for slot in row.form.operands {
        let operand = match slot.pattern {
            Pattern::R(width) if e.plus_reg => {
                Operand::Reg(register(width, opcode & 7 | prefixes.rex_bit(1), prefixes))
            }
            Pattern::R32NotEax => {
                let number = opcode & 7 | prefixes.rex_bit(1);
                if number == 0 {
                    return Err(DecodeError::Invalid);
                }
                Operand::Reg(Reg::x86(Width::W32, number))
            }
            Pattern::R(width) => {
                Operand::Reg(register(width, modrm >> 3 & 7 | prefixes.rex_bit(4), prefixes))
            }
            Pattern::Rm(width) => match memory {
                Some(mem) => Operand::Mem(mem),
                None => Operand::Reg(register(width, modrm & 7 | prefixes.rex_bit(1), prefixes)),
            },
            Pattern::M | Pattern::Mem(_) | Pattern::MemAligned => {
                Operand::Mem(memory.ok_or(DecodeError::Invalid)?)
            }
            Pattern::RegRm(width) | Pattern::RmNarrow(width, _) => match (memory, slot.pattern) {
                (Some(mem), Pattern::RmNarrow(..)) => Operand::Mem(mem),
                (Some(_), _) => return Err(DecodeError::Invalid),
                _ => Operand::Reg(register(width, modrm & 7 | prefixes.rex_bit(1), prefixes)),
            },
            Pattern::Vvvv(width) => Operand::Reg(Reg::x86(width, prefixes.vvvv)),
            Pattern::X => Operand::Reg(Reg::x86(Width::W128, modrm >> 3 & 7 | prefixes.rex_bit(4))),
            Pattern::Xm(_) | Pattern::XmUnaligned | Pattern::XRm => match memory {
                Some(_) if slot.pattern == Pattern::XRm => return Err(DecodeError::Invalid),
                Some(mem) => Operand::Mem(mem),
                None => Operand::Reg(Reg::x86(Width::W128, modrm & 7 | prefixes.rex_bit(1))),
            },
            Pattern::Xmm0 => Operand::Reg(Reg::x86(Width::W128, 0)),
            Pattern::Sreg => match modrm >> 3 & 7 {
                number @ 0..6 => Operand::Reg(Reg::new(RegKind::Segment, number)),
                _ => return Err(DecodeError::Invalid),
            },
            Pattern::Acc(width) => Operand::Reg(Reg::x86(width, 0)),
            Pattern::Cl => Operand::Reg(Reg::x86(Width::W8, 1)),
            Pattern::Dx => Operand::Reg(Reg::x86(Width::W16, 2)),
            Pattern::One => Operand::Imm(Value::Known(1)),
            Pattern::Uimm8 | Pattern::Uimm16 => {
                let size = immediate_bytes(slot.pattern);
                let value = reader.signed(size)? & ((1 << (8 * size)) - 1);
                Operand::Imm(Value::Known(value))
            }
            Pattern::Imm(_) | Pattern::Simm8 | Pattern::Simm32 => {
                Operand::Imm(Value::Known(reader.signed(immediate_bytes(slot.pattern))?))
            }
            Pattern::Moffs(width) => {
                let (width, segment) = (Some(width), prefixes.segment);
                Operand::Mem(Mem { width, segment, ..Mem::absolute(reader.signed(8)?) })
            }
            Pattern::Rel8 | Pattern::Rel32 => {
                relative = Some(operands.len());
                Operand::Target(Value::Known(reader.signed(immediate_bytes(slot.pattern))?))
            }
        };
        operands.push(operand);
    }
    if let Some(index) = relative
        && let Operand::Target(Value::Known(distance)) = &mut operands[index]
    {
        let end = instruction.address.wrapping_add(reader.at as u64);
        *distance = distance.wrapping_add(end as i64);
    }
    Ok(())
}

/// Without a REX prefix, byte registers 4 to 7 are the high bytes. Source: SDM Vol. 2A, table 2-2.
fn register(width: Width, number: u8, prefixes: &Prefixes) -> Reg {
    if width == Width::W8 && prefixes.rex.is_none() && number >= 4 {
        Reg::new(RegKind::HighByte, number - 4)
    } else {
        Reg::x86(width, number)
    }
}

fn read_memory(
    modrm: u8,
    prefixes: &Prefixes,
    width: Option<Width>,
    reader: &mut Reader,
) -> Result<Mem, DecodeError> {
    let address_width = if prefixes.address32 { Width::W32 } else { Width::W64 };
    let reg = |number| Some(Reg::x86(address_width, number));
    let mode = modrm >> 6;
    let mut mem = Mem { width, segment: prefixes.segment, ..Mem::absolute(0) };
    let mut disp_bytes = match mode {
        0b01 => 1,
        0b10 => 4,
        _ => 0,
    };
    if modrm & 7 == 0b100 {
        let sib = reader.byte()?;
        let index = sib >> 3 & 7 | prefixes.rex_bit(2);
        if index != 0b100 {
            mem.index = reg(index);
            mem.scale = 1 << (sib >> 6);
        }
        if sib & 7 == 0b101 && mode == 0 {
            disp_bytes = 4;
        } else {
            mem.base = reg(sib & 7 | prefixes.rex_bit(1));
        }
    } else if modrm & 7 == 0b101 && mode == 0 {
        // With the address-size prefix the base is EIP, which no row needs.
        if prefixes.address32 {
            return Err(DecodeError::Invalid);
        }
        mem.base = Some(RIP);
        disp_bytes = 4;
    } else {
        mem.base = reg(modrm & 7 | prefixes.rex_bit(1));
    }
    if disp_bytes > 0 {
        mem.disp = Value::Known(reader.signed(disp_bytes)?);
    }
    Ok(mem)
}
