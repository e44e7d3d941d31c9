//! What may stand in an operand position of an A64 row, and in which fields it is held.

use super::field::{self, BitField};
use crate::{Arrangement, Width};

/// The field of an encoding that holds a register number.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
#[allow(missing_docs, reason = "the names are the architecture's own")]
pub enum RegField {
    Rd,
    Rn,
    Rm,
    Ra,
    Rt,
    Rt2,
    Rs,
}

impl RegField {
    pub(crate) const fn field(self) -> BitField {
        match self {
            RegField::Rd => field::RD,
            RegField::Rt => field::RT,
            RegField::Rn => field::RN,
            RegField::Ra => field::RA,
            RegField::Rt2 => field::RT2,
            RegField::Rm => field::RM,
            RegField::Rs => field::RS,
        }
    }

    /// The letter behind that of the register in the syntax.
    const fn letter(self) -> &'static str {
        match self {
            RegField::Rd => "d",
            RegField::Rn => "n",
            RegField::Rm => "m",
            RegField::Ra => "a",
            RegField::Rt => "t",
            RegField::Rt2 => "t2",
            RegField::Rs => "s",
        }
    }
}

/// How an addressing mode holds its offset.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Offset {
    /// `imm12`, unsigned, in units of the access.
    Scaled12,
    /// `imm9`, signed, in bytes.
    Signed9,
    /// `imm7`, signed, in units of the access.
    Scaled7,
}

/// Which field says how wide the elements of a vector are.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum LaneSource {
    /// None: they are always so wide.
    Fixed(Width),
    /// `size`: 8 to 64 bits.
    Size,
    /// `sz`: 32 or 64 bits.
    Sz,
    /// `size` of loads and stores of structures.
    ListSize,
    /// The highest bit set in `immh`.
    Immh,
    /// The only bit set in `immh`.
    ImmhAlone,
    /// The lowest bit set in `imm5`.
    Imm5,
}

/// How many elements count.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Count {
    /// One: the operand is a scalar register.
    One,
    /// Two.
    Two,
    /// As many as 64 bits hold.
    Half,
    /// As many as 128 bits hold.
    Whole,
    /// As many as 64 or 128 bits hold, as `Q` says; a single element is not a vector.
    Q,
    /// The same, a single element of 64 bits included.
    QOrOne,
}

/// How a vector operand is cut into elements.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct Elements {
    /// Which field says how wide they are.
    pub source: LaneSource,
    /// The widths that the field may say, a bit each from 8 bits up.
    pub widths: u8,
    /// They are twice as wide as the field says.
    pub wide: bool,
    /// How many there are.
    pub count: Count,
}

impl Elements {
    /// How the elements are cut in this word; `None` if the row does not have that.
    pub(crate) fn of(self, word: u32) -> Option<Arrangement> {
        let number = match self.source {
            LaneSource::Fixed(width) => width as u32,
            LaneSource::Size => field::SIZE.get(word),
            LaneSource::Sz => 2 + field::SZ.get(word),
            LaneSource::ListSize => field::LIST_SIZE.get(word),
            LaneSource::Immh => field::IMMH.get(word).checked_ilog2()?,
            LaneSource::ImmhAlone if !field::IMMH.get(word).is_power_of_two() => return None,
            LaneSource::ImmhAlone => field::IMMH.get(word).ilog2(),
            LaneSource::Imm5 => field::LANE.get(word).trailing_zeros(),
        };
        if number > 4 || self.widths >> number & 1 == 0 {
            return None;
        }
        let lane = *Width::ALL.get(number as usize + usize::from(self.wide))?;
        let lanes = match self.count {
            Count::One => 1,
            Count::Two => 2,
            Count::Half => 64 / lane.bits(),
            Count::Whole => 128 / lane.bits(),
            Count::Q | Count::QOrOne => (64 << field::Q.get(word)) / lane.bits(),
        };
        let is_vector = lanes > 1 || !matches!(self.count, Count::Q);
        is_vector.then_some(Arrangement { lane, lanes: lanes as u8 })
    }
}

/// Where the number of an element is held.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum LaneIndex {
    /// In `imm5`, above the bit that says how wide it is; of these widths.
    Imm5(u8),
    /// In `imm4`, in units of the width that `imm5` says.
    Imm4,
    /// In `H`, `L` and `M`, as many of them as the width leaves; the register has four bits for 16-bit elements.
    Hlm(LaneSource),
    /// In `H` and `L`, and the element is four bytes.
    Bytes4,
    /// Nowhere: it is always this one.
    Is(Width, u8),
}

/// How many bytes the base moves by after an access to structures.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum AfterBytes {
    /// So many registers.
    Registers(u8),
    /// So many elements.
    Elements(u8),
    /// So many bytes.
    Fixed(u8),
}

/// What a named operand names.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
#[allow(missing_docs, reason = "see the variants of `Named`")]
pub enum NamedKind {
    System,
    Barrier,
    Prefetch,
    DataCache,
    InstructionCache,
    BranchTarget,
}

impl NamedKind {
    /// A bit of its own.
    pub(crate) const fn mask(self) -> u8 {
        1 << self as u8
    }
}

/// What may stand in an operand position.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Pattern {
    /// A register; number 31 is the zero register.
    R(Width, RegField),
    /// A register; number 31 is the stack pointer.
    RSp(Width, RegField),
    /// The stack pointer itself.
    Sp(Width),
    /// A register that stands in `Rn` and in `Rm`.
    RTwice(Width),
    /// A register with an even number, the first of a pair.
    REven(Width, RegField),
    /// The register after the one in this field.
    RNext(Width, RegField),
    /// `imm12`, optionally shifted left by 12.
    AddSubImm,
    /// A bitmask immediate in `N:immr:imms`.
    Bitmask(Width),
    /// `imm16`, optionally shifted left by a multiple of 16.
    MoveWide(Width),
    /// A value that MOVZ can make.
    MovImm(Width),
    /// A value that MOVN can make.
    MovInverted(Width),
    /// A value that ORR with a bitmask immediate can make, and neither MOVZ nor MOVN.
    MovBitmask(Width),
    /// `Rm`, optionally shifted by a constant; the flag says whether ROR is allowed.
    ShiftedReg(Width, bool),
    /// `Rm`, optionally extended and shifted left by 0 to 4; the width is the destination's.
    ExtendedReg(Width),
    /// The amount of a left shift, held as a bitfield move's `immr` and `imms`.
    LeftShift(Width),
    /// The lowest bit of a field that is inserted, held as `immr` counting down from the width.
    InsertLsb(Width),
    /// How many bits are inserted, less 1 in `imms`; those that reach `immr` are another row's.
    InsertWidth(Width),
    /// How many bits are extracted from `immr` up: the last in `imms`.
    ExtractWidth(Width),
    /// An unsigned number.
    Unsigned(BitField),
    /// A condition in `cond`.
    Cond,
    /// A condition, held inverted.
    InvertedCond,
    /// `[base]`, for an access of this width.
    MemBase(Width),
    /// `[base, #offset]`, for an access of this width.
    MemOffset(Width, Offset),
    /// `[base, #offset]!`
    MemPre(Width, Offset),
    /// `[base], #offset`
    MemPost(Width, Offset),
    /// `[base, index, extend #amount]`
    MemReg(Width),
    /// `[base]`, for structures.
    MemStructures,
    /// `[base], #bytes`: what was transferred.
    MemAfter(AfterBytes),
    /// `[base], xm`
    MemAfterReg,
    /// A target in words, in `imm26`.
    Label26,
    /// A target in words, in `imm19`.
    Label19,
    /// A target in words, in `imm14`.
    Label14,
    /// The number of a bit, less the given number, in `b40`.
    Bit(u8),
    /// An address in bytes, in `immhi:immlo`.
    AdrLabel,
    /// The page of an address, in pages, in `immhi:immlo`.
    AdrpLabel,
    /// A number with a name.
    Named(NamedKind),
    /// A scalar register of the vector bank.
    F(Width, RegField),
    /// A register of the vector bank, cut into elements.
    V(RegField, Elements),
    /// The same, standing in `Rn` and in `Rm`.
    VTwice(Elements),
    /// An element.
    Lane(RegField, LaneIndex),
    /// So many registers that follow each other.
    List(RegField, u8, Elements),
    /// The same, one element of each, whose number is in `Q:S:size`.
    ListLane(u8, Width),
    /// A floating-point immediate in `imm8`.
    FloatImm,
    /// The same in `abc:defgh`.
    FloatVectorImm,
    /// `#0.0`
    FloatZero,
    /// `#0`
    Zero,
    /// A byte in `abc:defgh`.
    Byte,
    /// The same, shifted left by a multiple of 8 below this width.
    ShiftedByte(Width),
    /// The same, shifted left by 8 or 16, with ones coming in.
    OnesShiftedByte,
    /// A 64-bit number whose bytes are all ones or zeros: a bit each in `abc:defgh`.
    ByteMask,
    /// The amount of a right shift of elements: 1 to their width.
    VectorRightShift,
    /// The amount of a left shift of elements, below their width.
    VectorLeftShift,
    /// The width of the narrower elements, as a number.
    LaneBits,
    /// Bits after the binary point: 64 less `scale`.
    FractionBits(Width),
}

fn general(width: Width) -> &'static str {
    if width == Width::W64 { "x" } else { "w" }
}

fn scalar(width: Width) -> char {
    crate::arrangement::lane_letter(width)
}

impl Elements {
    /// The arrangements that there are, as a reader would write them: `8b|16b|4h|8h`.
    fn syntax(self) -> Vec<String> {
        let mut found = Vec::new();
        for (number, width) in Width::ALL.into_iter().enumerate() {
            if self.widths >> number & 1 == 0 {
                continue;
            }
            let Some(&lane) = Width::ALL.get(number + usize::from(self.wide)) else { continue };
            let _ = width;
            let bits: &[u32] = match self.count {
                Count::One => &[0],
                Count::Two => &[1],
                Count::Half => &[64],
                Count::Whole => &[128],
                Count::Q if lane == Width::W64 => &[128],
                Count::Q | Count::QOrOne => &[64, 128],
            };
            for &bits in bits {
                found.push(match bits {
                    0 => scalar(lane).to_string(),
                    1 => Arrangement { lane, lanes: 2 }.name(),
                    bits => Arrangement::filling(lane, bits).name(),
                });
            }
        }
        found
    }
}

impl Pattern {
    /// The operand as a reader would write it.
    pub(super) fn syntax(self) -> String {
        let vector = |letter: &str, elements: Elements| {
            let names = elements.syntax();
            match elements.count {
                Count::One => {
                    names.iter().map(|name| format!("{name}{letter}")).collect::<Vec<_>>().join("|")
                }
                _ => format!("v{letter}.{}", names.join("|")),
            }
        };
        match self {
            Pattern::R(w, field) | Pattern::REven(w, field) => {
                format!("{}{}", general(w), field.letter())
            }
            Pattern::RNext(w, field) => format!("{}({}+1)", general(w), field.letter()),
            Pattern::RSp(w, field) => format!("{}{}|sp", general(w), field.letter()),
            Pattern::RTwice(w) => format!("{}n", general(w)),
            Pattern::Sp(_) => "sp".into(),
            Pattern::AddSubImm => "#imm12{, lsl #12}".into(),
            Pattern::Bitmask(_) | Pattern::MovBitmask(_) => "#bitmask".into(),
            Pattern::MoveWide(_) => "#imm16{, lsl #shift}".into(),
            Pattern::MovImm(_) => "#imm16 at a multiple of 16 bits".into(),
            Pattern::MovInverted(_) => "#inverted imm16 at a multiple of 16 bits".into(),
            Pattern::ShiftedReg(w, _) => format!("{}m{{, shift #amount}}", general(w)),
            Pattern::ExtendedReg(w) => format!("{}m{{, extend #amount}}", general(w)),
            Pattern::LeftShift(_) | Pattern::VectorLeftShift | Pattern::VectorRightShift => {
                "#shift".into()
            }
            Pattern::InsertLsb(_) => "#lsb".into(),
            Pattern::InsertWidth(_) | Pattern::ExtractWidth(_) => "#width".into(),
            Pattern::Unsigned(field) => match field.name {
                "immr" => "#shift".into(),
                "hint" => "#imm7".into(),
                "imm5" => "#imm5".into(),
                "nzcv" => "#nzcv".into(),
                name if name.starts_with("imm") => format!("#imm{}", field.width),
                _ => format!("#imm{}", field.width),
            },
            Pattern::Cond | Pattern::InvertedCond => "condition".into(),
            Pattern::MemBase(_) | Pattern::MemStructures => "[xn|sp]".into(),
            Pattern::MemOffset(..) => "[xn|sp{, #offset}]".into(),
            Pattern::MemPre(..) => "[xn|sp, #offset]!".into(),
            Pattern::MemPost(..) | Pattern::MemAfter(_) => "[xn|sp], #offset".into(),
            Pattern::MemAfterReg => "[xn|sp], xm".into(),
            Pattern::MemReg(_) => "[xn|sp, xm{, lsl #amount}]".into(),
            Pattern::Label26
            | Pattern::Label19
            | Pattern::Label14
            | Pattern::AdrLabel
            | Pattern::AdrpLabel => "label".into(),
            Pattern::Bit(_) => "#bit".into(),
            Pattern::Named(kind) => match kind {
                NamedKind::System => "system register".into(),
                NamedKind::Barrier => "scope".into(),
                NamedKind::Prefetch => "prefetch operation".into(),
                NamedKind::DataCache | NamedKind::InstructionCache => "cache operation".into(),
                NamedKind::BranchTarget => "c|j|jc".into(),
            },
            Pattern::F(w, field) => format!("{}{}", scalar(w), field.letter()),
            Pattern::V(field, elements) => vector(field.letter(), elements),
            Pattern::VTwice(elements) => vector("n", elements),
            Pattern::Lane(field, index) => {
                let letter = match index {
                    LaneIndex::Imm5(_) | LaneIndex::Imm4 => "t".to_string(),
                    LaneIndex::Hlm(LaneSource::Fixed(w)) | LaneIndex::Is(w, _) => {
                        scalar(w).to_string()
                    }
                    LaneIndex::Hlm(_) => "h|s|d".to_string(),
                    LaneIndex::Bytes4 => "4b".to_string(),
                };
                match index {
                    LaneIndex::Is(_, n) => format!("v{}.{letter}[{n}]", field.letter()),
                    _ => format!("v{}.{letter}[index]", field.letter()),
                }
            }
            Pattern::List(field, count, elements) => {
                let one = vector(field.letter(), elements);
                let more = ["", "", ", +1", ", +1, +2", ", +1, +2, +3"][usize::from(count)];
                format!("{{{one}{more}}}")
            }
            Pattern::ListLane(count, width) => {
                let more = ["", "", ", +1", ", +1, +2", ", +1, +2, +3"][usize::from(count)];
                format!("{{vt.{}{more}}}[index]", scalar(width))
            }
            Pattern::FloatImm | Pattern::FloatVectorImm => "#float".into(),
            Pattern::FloatZero => "#0.0".into(),
            Pattern::Zero => "#0".into(),
            Pattern::Byte => "#imm8".into(),
            Pattern::ShiftedByte(_) => "#imm8{, lsl #shift}".into(),
            Pattern::OnesShiftedByte => "#imm8, msl #8|16".into(),
            Pattern::ByteMask => "#bytes of 0x00 and 0xff".into(),
            Pattern::LaneBits => "#8|16|32".into(),
            Pattern::FractionBits(_) => "#fbits".into(),
        }
    }
}
