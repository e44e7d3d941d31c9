//! Bytes to operands.

use super::encoding::{ModRm, Sizes, immediate_bytes};
use super::{Pattern, RIP, Row, table};
use crate::{
    Arch, DecodeError, Instruction, MAX_INSTRUCTION_BYTES, Mem, Operand, Operands, Reg, RegKind,
    Value, Width,
};

/// Candidate rows by opcode map, opcode byte, operand size and ModRM digit, best first.
pub(crate) struct Index {
    /// Range of `rows` for each key.
    ranges: Vec<(u16, u8)>,
    rows: Vec<u16>,
    /// Whether any row of this map and opcode has a ModRM byte.
    has_modrm: [bool; 512],
}

const SIZES: [Sizes; 3] = [Sizes::S16, Sizes::S32, Sizes::S64];

fn key(two_byte: bool, opcode: u8, size: usize, digit: u8) -> usize {
    ((usize::from(two_byte) * 256 + usize::from(opcode)) * 3 + size) * 8 + usize::from(digit)
}

impl Index {
    pub fn new(rows: &[Row]) -> Index {
        let mut lists = vec![Vec::<u16>::new(); 2 * 256 * 3 * 8];
        let mut has_modrm = [false; 512];
        for (number, row) in rows.iter().enumerate() {
            let e = &row.encoding;
            let opcodes = if e.plus_reg { 8 } else { 1 };
            for opcode in e.opcode..=e.opcode + (opcodes - 1) {
                has_modrm[usize::from(e.two_byte) * 256 + usize::from(opcode)] |=
                    e.modrm != ModRm::None;
                for (size, bit) in SIZES.iter().enumerate() {
                    if e.sizes.0 & bit.0 == 0 {
                        continue;
                    }
                    for digit in 0..8 {
                        if !matches!(e.modrm, ModRm::Digit(d) if d != digit) {
                            lists[key(e.two_byte, opcode, size, digit)].push(number as u16);
                        }
                    }
                }
            }
        }
        let mut index =
            Index { ranges: Vec::with_capacity(lists.len()), rows: Vec::new(), has_modrm };
        for mut list in lists {
            // A row that asks for more of the prefixes wins over one that asks for less.
            list.sort_by_key(|&number| {
                let row = &rows[usize::from(number)];
                let e = &row.encoding;
                (
                    e.mandatory.is_none() && !e.address32,
                    row.form.accepted_only,
                    e.sizes.0.count_ones(),
                    number,
                )
            });
            index.ranges.push((index.rows.len() as u16, list.len() as u8));
            index.rows.extend(list);
        }
        index
    }
}

#[derive(Default)]
struct Prefixes {
    operand16: bool,
    address32: bool,
    repeat: Option<u8>,
    rex: Option<u8>,
}

impl Prefixes {
    fn rex_bit(&self, bit: u8) -> u8 {
        u8::from(self.rex.unwrap_or(0) & bit != 0) << 3
    }
}

/// Decodes the instruction at the start of `bytes`, which stands at `address`.
///
/// # Errors
///
/// See [`crate::decode`].
pub fn decode(bytes: &[u8], address: u64) -> Result<Instruction, DecodeError> {
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
            repeat @ (0xf2 | 0xf3) => prefixes.repeat = Some(repeat),
            rex @ 0x40..=0x4f => {
                prefixes.rex = Some(rex);
                break reader.byte()?; // a REX prefix comes last
            }
            opcode => break opcode,
        }
    };
    let (two_byte, opcode) = if opcode == 0x0f { (true, reader.byte()?) } else { (false, opcode) };
    let table = table();
    let index = &table.by_opcode;
    let size = match prefixes {
        Prefixes { rex: Some(rex), .. } if rex & 8 != 0 => 2,
        Prefixes { operand16: true, .. } => 0,
        _ => 1,
    };
    let digit = if index.has_modrm[usize::from(two_byte) * 256 + usize::from(opcode)] {
        reader.peek()? >> 3 & 7
    } else {
        0
    };
    let (start, count) = index.ranges[key(two_byte, opcode, size, digit)];
    let candidates = &index.rows[usize::from(start)..][..usize::from(count)];
    let mut error = DecodeError::Invalid;
    for &number in candidates {
        let row = &table.rows[usize::from(number)];
        let mut attempt = reader.clone();
        match operands(row, opcode, &prefixes, &mut attempt, address) {
            Ok(operands) => {
                return Ok(Instruction {
                    arch: Arch::X86_64,
                    form: number,
                    operands,
                    address,
                    length: attempt.at as u8,
                });
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

    /// A little-endian number of 1 to 8 bytes, sign-extended.
    fn signed(&mut self, size: usize) -> Result<i64, DecodeError> {
        let bytes = self.bytes.get(self.at..self.at + size).ok_or(self.cut_off)?;
        self.at += size;
        let mut wide = [0; 8];
        wide[..size].copy_from_slice(bytes);
        let unused = 64 - 8 * size as u32;
        Ok(i64::from_le_bytes(wide) << unused >> unused)
    }
}

fn operands(
    row: &Row,
    opcode: u8,
    prefixes: &Prefixes,
    reader: &mut Reader,
    address: u64,
) -> Result<Operands, DecodeError> {
    let e = &row.encoding;
    if e.mandatory != prefixes.repeat || (e.address32 && !prefixes.address32) {
        return Err(DecodeError::Invalid);
    }
    if let Some(suffix) = e.suffix
        && reader.byte()? != suffix
    {
        return Err(DecodeError::Invalid);
    }
    let modrm = if e.modrm == ModRm::None { 0 } else { reader.byte()? };
    let memory_width = row.form.operands.iter().find_map(|slot| match slot.pattern {
        Pattern::Rm(width) => Some(width),
        _ => None,
    });
    let mut memory = None;
    if e.modrm != ModRm::None && modrm >> 6 != 0b11 {
        memory = Some(read_memory(modrm, prefixes, memory_width, reader)?);
    }
    let mut operands = Operands::new();
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
            Pattern::M => Operand::Mem(memory.ok_or(DecodeError::Invalid)?),
            Pattern::Acc(width) => Operand::Reg(Reg::x86(width, 0)),
            Pattern::Cl => Operand::Reg(Reg::x86(Width::W8, 1)),
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
                Operand::Mem(Mem { width: Some(width), ..Mem::absolute(reader.signed(8)?) })
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
        *distance = distance.wrapping_add(address.wrapping_add(reader.at as u64) as i64);
    }
    Ok(operands)
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
    let mut mem = Mem { width, ..Mem::absolute(0) };
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
