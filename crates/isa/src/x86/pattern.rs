//! What may stand where an operand is.

use crate::{Reg, Segment, Width};

/// What may stand in an operand position, in the manual's terms (SDM Vol. 2A, 3.1.1.3).
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Pattern {
    /// A general register of this width.
    R(Width),
    /// A 32-bit register other than EAX: XCHG EAX, EAX would be the bytes of NOP.
    R32NotEax,
    /// A general register or memory of this width.
    Rm(Width),
    /// An address that is not accessed.
    M,
    /// AL, AX, EAX or RAX.
    Acc(Width),
    /// CL, as a count.
    Cl,
    /// The constant 1, as a count; it takes no bytes.
    One,
    /// An immediate of this width, signed or unsigned.
    Imm(Width),
    /// A byte, sign-extended to the width of the first operand.
    Simm8,
    /// Four bytes, sign-extended to eight.
    Simm32,
    /// An unsigned byte.
    Uimm8,
    /// An unsigned 16-bit word.
    Uimm16,
    /// A code offset of one byte.
    Rel8,
    /// A code offset of two bytes.
    Rel16,
    /// A code offset of four bytes.
    Rel32,
    /// Memory at an absolute address of eight bytes.
    Moffs(Width),
    /// Memory of this width, and no register.
    Mem(Width),
    /// A general register of this width in the field that could name memory.
    RegRm(Width),
    /// A general register of the first width, or memory of the second.
    RmNarrow(Width, Width),
    /// A general register of this width in the VEX prefix.
    Vvvv(Width),
    /// A vector register.
    X,
    /// A vector register, or memory of this width; 16 bytes must be aligned.
    Xm(Width),
    /// A vector register, or 16 bytes of memory at any address.
    XmUnaligned,
    /// A vector register in the field that could name memory.
    XRm,
    /// 16 bytes of memory that must be aligned.
    MemAligned,
    /// XMM0, which takes no bytes.
    Xmm0,
    /// A segment register.
    Sreg,
    /// The segment register with this number, which takes no bytes.
    Segment(u8),
    /// Memory that holds an offset of this width, and a selector behind it.
    Far(Width),
    /// A selector, which stands behind the offset that the next operand is.
    Selector,
    /// The source of a string instruction, written out: memory at RSI, or ESI or SI.
    StringSource(Width),
    /// The destination of a string instruction, written out: memory at RDI, or EDI or DI.
    StringDestination(Width),
    /// The table of XLAT, written out: memory at RBX, or EBX or BX.
    TranslateTable,
    /// The destination of MASKMOVDQU, written out: memory at RDI, or EDI or DI, in any segment.
    MaskedDestination,
    /// DX, as the number of a port.
    Dx,
}

impl Pattern {
    /// Width of the register or memory there; `None` for immediates, counts and targets.
    pub const fn data_width(self) -> Option<Width> {
        match self {
            Pattern::X
            | Pattern::XmUnaligned
            | Pattern::XRm
            | Pattern::MemAligned
            | Pattern::Xmm0 => Some(Width::W128),
            Pattern::Xm(w) => Some(w),
            _ => self.general_width(),
        }
    }

    /// Width of a general register, or of memory that takes the place of one.
    pub const fn general_width(self) -> Option<Width> {
        match self {
            Pattern::R(w)
            | Pattern::Rm(w)
            | Pattern::Acc(w)
            | Pattern::Moffs(w)
            | Pattern::Mem(w)
            | Pattern::RegRm(w)
            | Pattern::RmNarrow(w, _)
            | Pattern::Vvvv(w) => Some(w),
            Pattern::R32NotEax => Some(Width::W32),
            _ => None,
        }
    }

    /// Width of memory there, if there can be memory.
    pub const fn memory_width(self) -> Option<Width> {
        match self {
            Pattern::Rm(w)
            | Pattern::Moffs(w)
            | Pattern::Mem(w)
            | Pattern::RmNarrow(_, w)
            | Pattern::Xm(w) => Some(w),
            Pattern::XmUnaligned | Pattern::MemAligned | Pattern::MaskedDestination => {
                Some(Width::W128)
            }
            Pattern::StringSource(w) | Pattern::StringDestination(w) => Some(w),
            Pattern::TranslateTable => Some(Width::W8),
            _ => None,
        }
    }

    /// Whether a target can stand there.
    pub const fn is_target(self) -> bool {
        matches!(self, Pattern::Rel8 | Pattern::Rel16 | Pattern::Rel32)
    }

    /// Whether a vector register can stand there.
    pub const fn is_vector(self) -> bool {
        matches!(
            self,
            Pattern::X | Pattern::Xm(_) | Pattern::XmUnaligned | Pattern::XRm | Pattern::Xmm0
        )
    }

    /// The register that memory there is addressed by, if it is always the same one.
    pub(super) const fn fixed_address(self) -> Option<u8> {
        match self {
            Pattern::StringSource(_) => Some(6),
            Pattern::StringDestination(_) | Pattern::MaskedDestination => Some(7),
            Pattern::TranslateTable => Some(3),
            _ => None,
        }
    }

    /// Whether a register there tells the width of a memory operand beside it.
    pub(super) const fn tells_width(self) -> Option<Width> {
        match self {
            Pattern::R(w) | Pattern::Acc(w) => Some(w),
            Pattern::R32NotEax => Some(Width::W32),
            _ => None,
        }
    }

    pub(super) fn syntax(self) -> String {
        match self {
            Pattern::R(w) => format!("r{}", w.bits()),
            Pattern::R32NotEax => "r32".into(),
            Pattern::Rm(w) => format!("r/m{}", w.bits()),
            Pattern::M => "m".into(),
            Pattern::Acc(w) => Reg::x86(w, 0).name().into(),
            Pattern::Cl => "cl".into(),
            Pattern::One => "1".into(),
            Pattern::Imm(w) => format!("imm{}", w.bits()),
            Pattern::Simm8 | Pattern::Uimm8 => "imm8".into(),
            Pattern::Simm32 => "imm32".into(),
            Pattern::Uimm16 => "imm16".into(),
            Pattern::Rel8 => "rel8".into(),
            Pattern::Rel16 => "rel16".into(),
            Pattern::Rel32 => "rel32".into(),
            Pattern::Moffs(w) => format!("moffs{}", w.bits()),
            Pattern::Mem(w) => format!("m{}", w.bits()),
            Pattern::RegRm(w) | Pattern::Vvvv(w) => format!("r{}", w.bits()),
            Pattern::RmNarrow(reg, memory) => format!("r{}/m{}", reg.bits(), memory.bits()),
            Pattern::X | Pattern::XRm => "xmm".into(),
            Pattern::Xm(w) => format!("xmm/m{}", w.bits()),
            Pattern::XmUnaligned => "xmm/m128".into(),
            Pattern::MemAligned => "m128".into(),
            Pattern::Xmm0 => "xmm0".into(),
            Pattern::Sreg => "sreg".into(),
            Pattern::Segment(number) => Segment::ALL[usize::from(number)].name().into(),
            Pattern::Far(w) => format!("m16:{}", w.bits()),
            Pattern::Selector => "selector".into(),
            Pattern::StringSource(w) => format!("m{} at si", w.bits()),
            Pattern::StringDestination(w) => format!("m{} at di", w.bits()),
            Pattern::TranslateTable => "m8 at bx".into(),
            Pattern::MaskedDestination => "m128 at di".into(),
            Pattern::Dx => "dx".into(),
        }
    }
}
