//! A row's encoding string, parsed.

use super::{Form, Pattern};
use crate::Width;

/// The ModRM byte of a form.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) enum ModRm {
    /// There is none.
    None,
    /// Its reg field is a register operand, or ignored if the form has none.
    Reg,
    /// Its reg field extends the opcode.
    Digit(u8),
}

/// The operand sizes, as prefixes select them, with which a form is decoded: bits for 16, 32, 64.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) struct Sizes(pub u8);

impl Sizes {
    pub const S16: Sizes = Sizes(1);
    pub const S32: Sizes = Sizes(2);
    pub const S64: Sizes = Sizes(4);
    pub const ANY: Sizes = Sizes(7);

    const fn or(self, other: Sizes) -> Sizes {
        Sizes(self.0 | other.0)
    }
}

/// What a form asks of the prefixes `66`, `F2` and `F3` when they are part of its opcode.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) enum Mandatory {
    /// Nothing: `66` is the operand size, and a repeat prefix has no effect.
    Any,
    /// None of them may be there.
    NoPrefix,
    /// `66`, and no repeat prefix.
    OperandSize,
    /// This repeat prefix.
    Repeat(u8),
}

/// The opcode maps: one byte, `0F`, `0F 38` and `0F 3A`; then the last three again with a VEX prefix.
pub(crate) const MAPS: usize = 7;

/// What bytes a form has around its operands.
#[derive(Copy, Clone, Debug)]
pub(crate) struct Encoding {
    pub mandatory: Mandatory,
    /// Whether the form has the lock prefix.
    pub lock: bool,
    /// Whether the form has the prefix that exempts a jump from indirect-branch tracking.
    pub no_track: bool,
    /// Whether the form needs the address-size prefix.
    pub address_size: bool,
    /// Whether the form needs the operand-size prefix.
    pub operand16: bool,
    pub rex_w: bool,
    /// A VEX prefix stands for REX, the mandatory prefix and the map.
    pub vex: bool,
    /// 0 for the one-byte map, 1 for `0F`, 2 for `0F 38`, 3 for `0F 3A`.
    pub map: u8,
    pub opcode: u8,
    /// A fixed byte where a ModRM byte would be.
    pub suffix: Option<u8>,
    pub modrm: ModRm,
    /// Whether the low three bits of the opcode are a register.
    pub plus_reg: bool,
    pub sizes: Sizes,
}

impl Encoding {
    /// Parses the notation that the parent module documents. The rows of the table are parsed when they are
    /// compiled, so that one not written in it does not compile.
    ///
    /// # Panics
    ///
    /// If the row is not written in it.
    pub const fn parse(form: &Form) -> Encoding {
        let mut e = Encoding {
            mandatory: Mandatory::Any,
            lock: false,
            no_track: false,
            address_size: false,
            operand16: false,
            rex_w: false,
            vex: false,
            map: 0,
            opcode: 0,
            suffix: None,
            modrm: ModRm::None,
            plus_reg: false,
            sizes: Sizes::ANY,
        };
        let mut has_opcode = false;
        let mut size_prefix = false;
        let mut rest = form.encoding.as_bytes();
        while !rest.is_empty() {
            let token = until(&mut rest, b' ');
            let prefix = !has_opcode && e.map == 0;
            match token {
                b"REX.W" => e.rex_w = true,
                b"+" | b"ib" | b"iw" | b"id" | b"io" | b"cb" | b"cw" | b"cd" => {}
                b"+r" => e.plus_reg = true,
                b"/r" => e.modrm = ModRm::Reg,
                b"NP" => e.mandatory = Mandatory::NoPrefix,
                b"0F" if prefix => e.map = 1,
                b"38" if !has_opcode && e.map == 1 => e.map = 2,
                b"3A" if !has_opcode && e.map == 1 => e.map = 3,
                b"66" if prefix => size_prefix = true,
                b"67" if prefix => e.address_size = true,
                b"3E" if prefix => e.no_track = true,
                b"F0" if prefix => e.lock = true,
                b"F2" | b"F3" if prefix => e.mandatory = Mandatory::Repeat(hex(token)),
                [b'V', b'E', b'X', b'.', parts @ ..] => e.vex_prefix(parts),
                [b'/', digit @ ..] => e.modrm = ModRm::Digit(hex(digit)),
                _ if !has_opcode => {
                    e.opcode = hex(token);
                    has_opcode = true;
                }
                _ => e.suffix = Some(hex(token)),
            }
        }
        if size_prefix && e.map > 0 && matches!(e.mandatory, Mandatory::Any) {
            e.mandatory = Mandatory::OperandSize;
        }
        let (first_width, vectors) = first_width_and_vectors(form);
        let sized = !matches!(e.mandatory, Mandatory::NoPrefix | Mandatory::OperandSize) && !e.vex;
        e.operand16 = size_prefix || (sized && matches!(first_width, Some(Width::W16)));
        e.sizes = match e.mandatory {
            _ if e.rex_w => Sizes::S64,
            _ if e.vex => Sizes::S32,
            Mandatory::NoPrefix => Sizes::S32.or(Sizes::S64),
            Mandatory::OperandSize => Sizes::S16.or(Sizes::S64),
            _ if e.operand16 => Sizes::S16,
            // A scalar instruction of vectors does not look at the operand size.
            _ if matches!(first_width, Some(Width::W32)) && !vectors => Sizes::S32,
            _ => Sizes::ANY,
        };
        e
    }

    /// `VEX.LZ.66.0F38.W1`: vector length, implied prefix if any, map, and W. Source: SDM Vol. 2A, 3.1.1.2.
    const fn vex_prefix(&mut self, mut parts: &[u8]) {
        self.vex = true;
        self.mandatory = Mandatory::NoPrefix;
        while !parts.is_empty() {
            let part = until(&mut parts, b'.');
            match part {
                b"66" => self.mandatory = Mandatory::OperandSize,
                b"F2" | b"F3" => self.mandatory = Mandatory::Repeat(hex(part)),
                b"0F" => self.map = 1,
                b"0F38" => self.map = 2,
                b"0F3A" => self.map = 3,
                b"W1" => self.rex_w = true,
                _ => {} // LZ, the only length so far, and W0
            }
        }
    }

    /// Bytes that an instruction of this form takes at least: without what its operands may need of prefixes,
    /// addresses and the like.
    pub const fn least_bytes(&self, form: &Form) -> u8 {
        let parts = [
            !matches!(self.mandatory, Mandatory::Any | Mandatory::NoPrefix) && !self.vex,
            self.lock,
            self.no_track,
            self.rex_w && !self.vex,
            self.map > 0,
            self.map > 1,
            self.suffix.is_some(),
            !matches!(self.modrm, ModRm::None),
        ];
        let (mut bytes, mut at) = (1, 0);
        while at < parts.len() {
            bytes += parts[at] as usize;
            at += 1;
        }
        at = 0;
        while at < form.operands.len() {
            bytes += immediate_bytes(form.operands[at].pattern, Width::W16);
            at += 1;
        }
        bytes as u8
    }

    /// The opcode map as an index below [`MAPS`].
    pub const fn map_index(&self) -> usize {
        self.map as usize + if self.vex { 3 } else { 0 }
    }
}

/// Width of the first operand that has one and is no vector, and whether there is a vector.
const fn first_width_and_vectors(form: &Form) -> (Option<Width>, bool) {
    let (mut first, mut vectors) = (None, false);
    let mut at = 0;
    while at < form.operands.len() {
        let pattern = form.operands[at].pattern;
        let width = match pattern {
            Pattern::Far(width) => Some(width),
            pattern => pattern.general_width(),
        };
        if first.is_none() {
            first = width;
        }
        vectors |= pattern.is_vector();
        at += 1;
    }
    (first, vectors)
}

/// Takes what comes before the separator off the front, and the separator.
const fn until<'a>(rest: &mut &'a [u8], separator: u8) -> &'a [u8] {
    let bytes = *rest;
    let mut at = 0;
    while at < bytes.len() && bytes[at] != separator {
        at += 1;
    }
    let (token, behind) = bytes.split_at(at);
    *rest = match behind {
        [_, behind @ ..] => behind,
        [] => behind,
    };
    token
}

const fn hex(digits: &[u8]) -> u8 {
    let (mut value, mut at) = (0, 0);
    while at < digits.len() {
        let digit = (digits[at] as char).to_digit(16);
        value = value << 4 | digit.expect("a row's encoding holds hex bytes") as u8;
        at += 1;
    }
    value
}

/// Bytes that the immediate or code offset of a pattern takes, where addresses are this wide.
pub(crate) const fn immediate_bytes(pattern: Pattern, address: Width) -> usize {
    match pattern {
        Pattern::Imm(width) => width.bytes() as usize,
        Pattern::Simm8 | Pattern::Uimm8 | Pattern::Rel8 => 1,
        Pattern::Uimm16 | Pattern::Selector | Pattern::Rel16 => 2,
        Pattern::Simm32 | Pattern::Rel32 => 4,
        Pattern::Moffs(_) => address.bytes() as usize,
        _ => 0,
    }
}

/// The registers of 16-bit addresses, by the last field of ModRM. Source: SDM Vol. 2A, table 2-1.
pub(super) const NARROW_ADDRESSES: [(u8, Option<u8>); 8] = [
    (3, Some(6)),
    (3, Some(7)),
    (5, Some(6)),
    (5, Some(7)),
    (6, None),
    (7, None),
    (5, None),
    (3, None),
];
