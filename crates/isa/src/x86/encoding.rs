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
}

/// What bytes a form has around its operands.
#[derive(Clone, Debug)]
pub(crate) struct Encoding {
    /// `F2`, `F3` or none.
    pub mandatory: Option<u8>,
    /// Whether the form needs the address-size prefix.
    pub address32: bool,
    /// Whether the form needs the operand-size prefix.
    pub operand16: bool,
    pub rex_w: bool,
    /// Whether the opcode is in the two-byte map (`0F`).
    pub two_byte: bool,
    pub opcode: u8,
    /// A fixed byte where a ModRM byte would be.
    pub suffix: Option<u8>,
    pub modrm: ModRm,
    /// Whether the low three bits of the opcode are a register.
    pub plus_reg: bool,
    pub sizes: Sizes,
}

impl Encoding {
    /// Parses the notation that the parent module documents.
    ///
    /// # Panics
    ///
    /// If the row is not written in it; a test walks all rows.
    pub fn parse(form: &Form) -> Encoding {
        let first_width = form.operands.iter().find_map(|slot| slot.pattern.data_width());
        let mut e = Encoding {
            mandatory: None,
            address32: false,
            operand16: first_width == Some(Width::W16),
            rex_w: false,
            two_byte: false,
            opcode: 0,
            suffix: None,
            modrm: ModRm::None,
            plus_reg: false,
            sizes: Sizes::ANY,
        };
        let mut opcodes = 0;
        for token in form.encoding.split(' ') {
            match token {
                "REX.W" => e.rex_w = true,
                "+" | "ib" | "iw" | "id" | "io" | "cb" | "cd" => {}
                "+r" => e.plus_reg = true,
                "/r" => e.modrm = ModRm::Reg,
                "0F" if opcodes == 0 && !e.two_byte => e.two_byte = true,
                "66" if opcodes == 0 => e.operand16 = true,
                "67" if opcodes == 0 => e.address32 = true,
                "F2" | "F3" if opcodes == 0 && !e.two_byte => e.mandatory = Some(hex(token)),
                _ => match token.strip_prefix('/') {
                    Some(digit) => e.modrm = ModRm::Digit(hex(digit)),
                    None if opcodes == 0 => {
                        e.opcode = hex(token);
                        opcodes = 1;
                    }
                    None => e.suffix = Some(hex(token)),
                },
            }
        }
        let has_sized_operand = first_width.is_some_and(|width| width != Width::W8);
        e.sizes = if e.rex_w {
            Sizes::S64
        } else if e.operand16 {
            Sizes::S16
        } else if has_sized_operand && first_width == Some(Width::W32) {
            Sizes::S32
        } else {
            Sizes::ANY
        };
        e
    }
}

fn hex(text: &str) -> u8 {
    u8::from_str_radix(text, 16).expect("a row's encoding holds hex bytes")
}

/// Bytes that the immediate or code offset of a pattern takes.
pub(crate) fn immediate_bytes(pattern: Pattern) -> usize {
    match pattern {
        Pattern::Imm(width) => width.bytes() as usize,
        Pattern::Simm8 | Pattern::Uimm8 | Pattern::Rel8 => 1,
        Pattern::Uimm16 => 2,
        Pattern::Simm32 | Pattern::Rel32 => 4,
        Pattern::Moffs(_) => 8,
        Pattern::R(_)
        | Pattern::R32NotEax
        | Pattern::Rm(_)
        | Pattern::M
        | Pattern::Acc(_)
        | Pattern::Cl
        | Pattern::One => 0,
    }
}
