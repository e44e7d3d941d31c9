//! Bytes to operands.

use super::decode_common::{self, CommonRows, OnlyPrefix, WINDOW};
use super::encoding::{Encoding, MAPS, Mandatory, ModRm, NARROW_ADDRESSES, Sizes, immediate_bytes};
use super::{EIP, Pattern, RIP, Row, is_32_bit, rows};
use crate::{
    Arch, DecodeError, Instruction, MAX_INSTRUCTION_BYTES, Mem, Operand, Reg, RegKind, Segment,
    Value, Width,
};

/// Candidate rows by opcode map and opcode byte, best first.
pub(crate) struct Index {
    /// For each key, and one more, where its rows start.
    starts: &'static [u16; KEYS + 1],
    rows: &'static [u16],
    /// The mode.
    arch: Arch,
    common: &'static CommonRows,
}

const SIZES: [Sizes; 3] = [Sizes::S16, Sizes::S32, Sizes::S64];

const KEYS: usize = 256 * MAPS;

const fn key(map: usize, opcode: u8) -> usize {
    map * 256 + opcode as usize
}

/// The keys under which a row is looked up: the first of them, and how many.
const fn keys(row: &Row) -> (usize, usize) {
    let first = key(row.encoding.map_index(), row.encoding.opcode);
    (first, if row.encoding.plus_reg { 8 } else { 1 })
}

/// The operand sizes with which a row is meant in a mode.
const fn sizes(arch: Arch, row: &Row) -> Sizes {
    // In 64-bit mode the prefix has no effect on these; a mandatory one is no such prefix.
    let by_mode = row.sized_by_mode && matches!(arch, Arch::X86_32);
    let by_mode = by_mode && matches!(row.encoding.mandatory, Mandatory::Any);
    if by_mode && !row.encoding.operand16 { Sizes::S32 } else { row.encoding.sizes }
}

/// Which of two rows of a key is tried first: the one of the lower rank. It asks for more of the prefixes.
const fn rank(row: &Row) -> usize {
    let e = &row.encoding;
    let plain = matches!(e.mandatory, Mandatory::Any) && !e.address_size && !e.no_track;
    (row.form.accepted_only as usize) << 4
        | (plain as usize) << 3
        | (e.suffix.is_none() as usize) << 2
        | e.sizes.0.count_ones() as usize
}

const RANKS: usize = 1 << 5;

/// Under how many keys all the rows of a mode are looked up together.
const fn places(arch: Arch) -> usize {
    let (mut places, mut number) = (0, 0);
    while number < rows().len() {
        if rows()[number].modes.include(arch) {
            places += keys(&rows()[number]).1;
        }
        number += 1;
    }
    places
}

/// What an [`Index`] refers to, `N` being [`places`].
struct Ordered<const N: usize> {
    starts: [u16; KEYS + 1],
    rows: [u16; N],
}

impl<const N: usize> Ordered<N> {
    /// Made by counting: first how many rows each key has, then each row to its place, rank by rank.
    const fn of(arch: Arch) -> Ordered<N> {
        let rows = rows();
        let mut starts = [0u16; KEYS + 1];
        let mut number = 0;
        while number < rows.len() {
            let (mut at, mut left) = keys(&rows[number]);
            while left > 0 && rows[number].modes.include(arch) {
                starts[at + 1] += 1;
                (at, left) = (at + 1, left - 1);
            }
            number += 1;
        }
        let mut at = 1;
        while at < starts.len() {
            starts[at] += starts[at - 1];
            at += 1;
        }
        let (mut next, mut ordered) = (starts, [0u16; N]);
        let mut of_rank = 0;
        while of_rank < RANKS {
            number = 0;
            while number < rows.len() {
                let row = &rows[number];
                if rank(row) == of_rank && row.modes.include(arch) {
                    let (mut at, mut left) = keys(row);
                    while left > 0 {
                        ordered[next[at] as usize] = number as u16;
                        next[at] += 1;
                        (at, left) = (at + 1, left - 1);
                    }
                }
                number += 1;
            }
            of_rank += 1;
        }
        Ordered { starts, rows: ordered }
    }
}

/// The indexes are made when this is compiled, so that no program waits for them.
static LONG: Ordered<{ places(Arch::X86_64) }> = Ordered::of(Arch::X86_64);
static SHORT: Ordered<{ places(Arch::X86_32) }> = Ordered::of(Arch::X86_32);
static LONG_COMMON: CommonRows = CommonRows::of(&LONG_INDEX);
static SHORT_COMMON: CommonRows = CommonRows::of(&SHORT_INDEX);
static LONG_INDEX: Index =
    Index { starts: &LONG.starts, rows: &LONG.rows, arch: Arch::X86_64, common: &LONG_COMMON };
static SHORT_INDEX: Index =
    Index { starts: &SHORT.starts, rows: &SHORT.rows, arch: Arch::X86_32, common: &SHORT_COMMON };

impl Index {
    /// The index of a mode.
    pub fn of(arch: Arch) -> &'static Index {
        if is_32_bit(arch) { &SHORT_INDEX } else { &LONG_INDEX }
    }

    /// The rows of an opcode map and an opcode, best first.
    pub const fn candidates(&self, map: usize, opcode: u8) -> &'static [u16] {
        let key = key(map, opcode);
        let (upto, _) = self.rows.split_at(self.starts[key + 1] as usize);
        upto.split_at(self.starts[key] as usize).1
    }

    /// Whether this prefix alone, and REX.W or its absence, let a row be meant.
    pub(super) const fn allows(&self, prefix: OnlyPrefix, wide: bool, row: &Row) -> bool {
        let prefixes = Prefixes::only(prefix);
        let size = SIZES[prefixes.size(row.encoding.map as usize, wide)];
        sizes(self.arch, row).0 & size.0 != 0 && prefixes.allow(&row.encoding)
    }
}

struct Prefixes {
    /// 64-bit mode, and not 32-bit mode.
    long: bool,
    operand16: bool,
    /// The address-size prefix: addresses are half as wide.
    address_size: bool,
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
    const fn none(long: bool) -> Prefixes {
        Prefixes {
            long,
            operand16: false,
            address_size: false,
            lock: false,
            no_track: false,
            repeat: None,
            segment: None,
            rex: None,
            vvvv: 0,
        }
    }

    /// At most one prefix, beside REX.
    const fn only(prefix: OnlyPrefix) -> Prefixes {
        let mut prefixes = Prefixes::none(true);
        match prefix {
            OnlyPrefix::None => {}
            OnlyPrefix::OperandSize => prefixes.operand16 = true,
            OnlyPrefix::Repeat(repeat) => prefixes.repeat = Some(repeat),
        }
        prefixes
    }

    /// The operand size in an opcode map, as an index of [`SIZES`]; `wide` is REX.W.
    const fn size(&self, map: usize, wide: bool) -> usize {
        match wide {
            true => 2,
            false if map > 3 => 1,
            false => !self.operand16 as usize,
        }
    }

    /// Whether a form can be meant by these prefixes.
    const fn allow(&self, e: &Encoding) -> bool {
        let repeat = match e.mandatory {
            Mandatory::Any => true,
            Mandatory::NoPrefix => self.repeat.is_none() && !self.operand16,
            Mandatory::OperandSize => self.repeat.is_none() && self.operand16,
            Mandatory::Repeat(repeat) => {
                matches!(self.repeat, Some(own) if own == repeat)
                    && (self.operand16 || !e.operand16)
            }
        };
        repeat
            && e.lock == self.lock
            && (self.address_size || !e.address_size)
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
        // R, X and B are stored inverted, above W. In 32-bit mode there is nothing for them to say.
        if self.long {
            self.rex = Some(0x40 | (!upper >> 5) | last >> 4 & 8);
        }
        self.vvvv = !last >> 3 & if self.long { 15 } else { 7 };
        match last & 3 {
            1 => self.operand16 = true,
            2 => self.repeat = Some(0xf3),
            3 => self.repeat = Some(0xf2),
            _ => {}
        }
        let short = last & 4 == 0;
        if short && (1..=3).contains(&map) { Ok(map + 3) } else { Err(DecodeError::Invalid) }
    }

    /// How wide addresses are.
    fn address_width(&self) -> Width {
        match (self.long, self.address_size) {
            (true, false) => Width::W64,
            (true, true) | (false, false) => Width::W32,
            (false, true) => Width::W16,
        }
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
#[inline]
pub(crate) fn decode_into<const LONG: bool>(
    index: &Index,
    bytes: &[u8],
    instruction: &mut Instruction,
) -> Result<(), DecodeError> {
    let Some(window) = bytes.first_chunk() else {
        return decode_last::<LONG>(bytes, index, instruction);
    };
    match decode_common::<LONG>(window, index, instruction) {
        true => Ok(()),
        false => decode_in_mode::<LONG>(bytes, index, instruction),
    }
}

/// Decodes one of the common instructions; whether it is one.
#[inline(always)]
fn decode_common<const LONG: bool>(
    window: &[u8; WINDOW],
    index: &Index,
    instruction: &mut Instruction,
) -> bool {
    decode_common::decode::<LONG>(window, index.common, instruction)
        || decode_common::decode_prefixed::<LONG>(window, index.common, instruction)
}

/// Decodes an instruction behind which there is not as much as is looked at.
#[inline(never)]
fn decode_last<const LONG: bool>(
    bytes: &[u8],
    index: &Index,
    instruction: &mut Instruction,
) -> Result<(), DecodeError> {
    let is_common = decode_common::<LONG>(&pad(bytes), index, instruction);
    if is_common && usize::from(instruction.length) <= bytes.len() {
        return Ok(());
    }
    decode_in_mode::<LONG>(bytes, index, instruction)
}

/// Bytes with zeros behind them, which are looked at but do not count.
fn pad(bytes: &[u8]) -> [u8; WINDOW] {
    let mut padded = [0; WINDOW];
    padded[..bytes.len()].copy_from_slice(bytes);
    padded
}

/// Decodes any instruction. Kept apart, so that the common ones do not make room for what it needs.
#[inline(never)]
fn decode_in_mode<const LONG: bool>(
    bytes: &[u8],
    index: &Index,
    instruction: &mut Instruction,
) -> Result<(), DecodeError> {
    let cut_off = if bytes.len() >= MAX_INSTRUCTION_BYTES {
        DecodeError::Invalid
    } else {
        DecodeError::CutOff
    };
    let bytes = &bytes[..bytes.len().min(MAX_INSTRUCTION_BYTES)];
    let mut reader = Reader { bytes, at: 0, cut_off };
    let mut prefixes = Prefixes::none(LONG);
    let opcode = loop {
        match reader.byte()? {
            0x66 => prefixes.operand16 = true,
            0x67 => prefixes.address_size = true,
            0xf0 => prefixes.lock = true,
            repeat @ (0xf2 | 0xf3) => prefixes.repeat = Some(repeat),
            0x64 => prefixes.segment = Some(Segment::Fs),
            0x65 => prefixes.segment = Some(Segment::Gs),
            0x3e => {
                prefixes.no_track = true;
                if !LONG {
                    prefixes.segment = Some(Segment::Ds);
                }
            }
            // The other segments have no effect in 64-bit mode.
            0x26 | 0x2e | 0x36 if LONG => {}
            0x26 => prefixes.segment = Some(Segment::Es),
            0x2e => prefixes.segment = Some(Segment::Cs),
            0x36 => prefixes.segment = Some(Segment::Ss),
            rex @ 0x40..=0x4f if LONG => {
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
        // In 32-bit mode, what names memory here is LES or LDS.
        0xc4 | 0xc5 if LONG || reader.peek()? >= 0xc0 => {
            let map = prefixes.vex(opcode, &mut reader)?;
            (map, reader.byte()?)
        }
        // 32-bit mode has the first of the immediate groups twice.
        0x82 if !LONG => (0, 0x80),
        opcode => (0, opcode),
    };
    let rows = rows();
    let size = prefixes.size(map, prefixes.rex.is_some_and(|rex| rex & 8 != 0));
    let mut error = DecodeError::Invalid;
    for &number in index.candidates(map, opcode) {
        let row = &rows[usize::from(number)];
        if sizes(index.arch, row).0 & SIZES[size].0 == 0 || !prefixes.allow(&row.encoding) {
            continue;
        }
        if let ModRm::Digit(digit) = row.encoding.modrm {
            match reader.peek() {
                Ok(modrm) if modrm >> 3 & 7 == digit => {}
                Ok(_) => continue,
                Err(cut_off) => {
                    error = cut_off;
                    continue;
                }
            }
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
    // Strings are addressed, and loops counted, by registers of the mode's width, in the segments
    // without a base; nothing else so far.
    let based = matches!(prefixes.segment, Some(Segment::Fs | Segment::Gs));
    let based = based && row.unsaid_segment;
    if row.unsaid_address && (prefixes.address_size || based) {
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
        let mut mem = read_memory(modrm, prefixes, row.memory_width, reader)?;
        // The prefix that exempts a jump from tracking is that of DS, and says no more here.
        if e.no_track && mem.segment == Some(Segment::Ds) {
            mem.segment = None;
        }
        memory = Some(mem);
    }
    if prefixes.vvvv != 0 && !row.names_vvvv {
        return Err(DecodeError::Invalid);
    }
    let operands = &mut instruction.operands;
    let address_width = prefixes.address_width();
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
            Pattern::M | Pattern::Mem(_) | Pattern::MemAligned | Pattern::Far(_) => {
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
            // The segment of a destination is always ES.
            Pattern::StringDestination(width) => {
                let base = Reg::x86(address_width, 7);
                Operand::Mem(Mem { width: Some(width), ..Mem::base_disp(base, 0) })
            }
            Pattern::StringSource(_) | Pattern::TranslateTable | Pattern::MaskedDestination => {
                let base = Reg::x86(address_width, slot.pattern.fixed_address().unwrap_or(6));
                let (width, segment) = (slot.pattern.memory_width(), prefixes.segment);
                Operand::Mem(Mem { width, segment, ..Mem::base_disp(base, 0) })
            }
            Pattern::Segment(number) => Operand::Reg(Reg::new(RegKind::Segment, number)),
            // It comes after the offset, which is the next operand.
            Pattern::Selector => {
                let mut ahead = reader.clone();
                ahead.signed(4)?;
                Operand::Imm(Value::Known(ahead.signed(2)? & 0xffff))
            }
            Pattern::Acc(width) => Operand::Reg(Reg::x86(width, 0)),
            Pattern::Cl => Operand::Reg(Reg::x86(Width::W8, 1)),
            Pattern::Dx => Operand::Reg(Reg::x86(Width::W16, 2)),
            Pattern::One => Operand::Imm(Value::Known(1)),
            Pattern::Uimm8 | Pattern::Uimm16 => {
                let size = immediate_bytes(slot.pattern, address_width);
                let value = reader.signed(size)? & ((1 << (8 * size)) - 1);
                Operand::Imm(Value::Known(value))
            }
            Pattern::Imm(_) | Pattern::Simm8 | Pattern::Simm32 => {
                let size = immediate_bytes(slot.pattern, address_width);
                Operand::Imm(Value::Known(reader.signed(size)?))
            }
            Pattern::Moffs(width) => {
                let (width, segment) = (Some(width), prefixes.segment);
                let size = immediate_bytes(slot.pattern, address_width);
                let address = reader.signed(size)? & address_width.mask() as i64;
                Operand::Mem(Mem { width, segment, ..Mem::absolute(address) })
            }
            Pattern::Rel8 | Pattern::Rel16 | Pattern::Rel32 => {
                relative = Some(operands.len());
                let size = immediate_bytes(slot.pattern, address_width);
                Operand::Target(Value::Known(reader.signed(size)?))
            }
        };
        operands.push(operand);
    }
    if let Some(index) = relative
        && let Operand::Target(Value::Known(distance)) = &mut operands[index]
    {
        let end = instruction.address.wrapping_add(reader.at as u64);
        *distance = distance.wrapping_add(end as i64);
        if row.has_16bit_target {
            *distance &= 0xffff;
        } else if !prefixes.long {
            *distance &= 0xffff_ffff;
        }
    }
    if row.form.operands.first().is_some_and(|slot| slot.pattern == Pattern::Selector) {
        reader.signed(2)?;
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
    let address_width = prefixes.address_width();
    if address_width == Width::W16 {
        return read_narrow_memory(modrm, prefixes, width, reader);
    }
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
        disp_bytes = 4;
        if prefixes.long {
            mem.base = Some(if prefixes.address_size { EIP } else { RIP });
        }
    } else {
        mem.base = reg(modrm & 7 | prefixes.rex_bit(1));
    }
    if disp_bytes > 0 {
        let mut disp = reader.signed(disp_bytes)?;
        // Without a register it is an address.
        if !prefixes.long && mem.base.is_none() && mem.index.is_none() {
            disp &= 0xffff_ffff;
        }
        mem.disp = Value::Known(disp);
    }
    Ok(mem)
}

/// A memory operand whose address has 16 bits.
fn read_narrow_memory(
    modrm: u8,
    prefixes: &Prefixes,
    width: Option<Width>,
    reader: &mut Reader,
) -> Result<Mem, DecodeError> {
    let mut mem = Mem { width, segment: prefixes.segment, ..Mem::absolute(0) };
    let disp_bytes = match modrm >> 6 {
        // Nothing but an address; the encoder lays it out with 32 bits.
        0 if modrm & 7 == 6 => {
            mem.disp = Value::Known(reader.signed(2)? & 0xffff);
            return Ok(mem);
        }
        0 => return Ok(with_narrow_registers(mem, modrm)),
        1 => 1,
        _ => 2,
    };
    mem.disp = Value::Known(reader.signed(disp_bytes)?);
    Ok(with_narrow_registers(mem, modrm))
}

fn with_narrow_registers(mem: Mem, modrm: u8) -> Mem {
    let (base, index) = NARROW_ADDRESSES[usize::from(modrm & 7)];
    let reg = |number| Reg::x86(Width::W16, number);
    Mem { base: Some(reg(base)), index: index.map(reg), ..mem }
}

#[cfg(test)]
mod tests {
    use rand::rngs::SmallRng;
    use rand::{Rng, SeedableRng};

    use super::*;

    /// The common instructions decode to what the search through every row finds, whatever comes before
    /// and behind them.
    fn the_quick_way_agrees<const LONG: bool>(arch: Arch) {
        let mut rng = SmallRng::seed_from_u64(0x5e77);
        let index = Index::of(arch);
        let mut common = 0;
        for _ in 0..400_000 {
            let mut bytes: [u8; WINDOW] = rng.random();
            // Bytes as they come are mostly one-byte opcodes.
            let mut at = 0;
            if rng.random_ratio(1, 3) {
                bytes[at] = [0x66, 0xf2, 0xf3][rng.random_range(0..3)];
                at += 1;
                // As compilers fill gaps.
                while rng.random_ratio(1, 3) && at < 15 {
                    bytes[at] = if rng.random() { 0x66 } else { 0x2e };
                    at += 1;
                }
            }
            if LONG && rng.random_ratio(1, 2) {
                bytes[at] = rng.random_range(0x40..0x50);
                at += 1;
            }
            if rng.random_ratio(1, 2) {
                bytes[at] = 0x0f;
            }
            let address = rng.random();
            let mut quick = Instruction::none(arch, address);
            if decode_common::<LONG>(&bytes, index, &mut quick) {
                common += 1;
                let mut whole = Instruction::none(arch, address);
                let decoded = decode_in_mode::<LONG>(&bytes, index, &mut whole);
                assert_eq!((decoded, &whole), (Ok(()), &quick), "{bytes:02x?}");
            }
        }
        assert!(common > 100_000, "{common} of them are common");
    }

    #[test]
    fn the_quick_way_agrees_in_both_modes() {
        the_quick_way_agrees::<true>(Arch::X86_64);
        the_quick_way_agrees::<false>(Arch::X86_32);
    }
}
