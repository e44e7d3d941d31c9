//! Relocation kinds and how they fill their fields.
//!
//! Sources: psABI x86-64, 4.4; psABI i386, 4.4 "Relocation"; AAELF64, 5.7 "Relocation operations".

use std::ops::RangeInclusive;

use crate::SymbolIndex;

/// A field to fill once addresses are known.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct Relocation {
    /// Where in the section the field starts, in bytes.
    pub offset: u64,
    /// What the field is.
    pub kind: RelocationKind,
    /// The symbol whose address goes in.
    pub symbol: SymbolIndex,
    /// Added to the address.
    pub addend: i64,
}

/// What a field holds, and how. `S` is the symbol's address, `A` the addend, `P` the field's address.
#[derive(Copy, Clone, PartialEq, Eq, Hash, Debug)]
pub enum RelocationKind {
    /// `S + A`, one byte, signed or unsigned.
    Abs8,
    /// `S + A`, two bytes, signed or unsigned.
    Abs16,
    /// `S + A`, four bytes, unsigned.
    Abs32,
    /// `S + A`, four bytes, signed.
    Abs32Signed,
    /// `S + A`, eight bytes.
    Abs64,
    /// `S + A - P`, one byte.
    Rel8,
    /// `S + A - P`, two bytes.
    Rel16,
    /// `S + A - P`, four bytes.
    Rel32,
    /// `S + A - P`, eight bytes.
    Rel64,
    /// `L + A - P`, four bytes: a call or jump, through a procedure linkage table where the symbol
    /// is in a shared library.
    Plt32,
    /// `G + GOT + A - P`, four bytes: the distance to the symbol's entry in the global offset table.
    GotRel32,
    /// The same in an instruction that the linker may rewrite to do without the table.
    GotRel32Relaxable,
    /// `G + A`, four bytes: the offset of the symbol's entry in the global offset table.
    GotEntry32,
    /// `S + A - GOT`, four bytes: the distance from the table to the symbol.
    GotOffset32,
    /// `GOT + A - P`, four bytes: the distance to the table, whatever the symbol.
    GotDistance32,
    /// `S + A - P` in words, bits 25 to 0 of an A64 instruction.
    A64Branch26,
    /// The same, of a call.
    A64Call26,
    /// `S + A - P` in words, bits 23 to 5 of an A64 instruction.
    A64Branch19,
    /// The same, of a load.
    A64Literal19,
    /// `S + A - P` in words, bits 18 to 5 of an A64 instruction.
    A64Branch14,
    /// `S + A - P` in bytes, `immhi` and `immlo` of an A64 ADR.
    A64Adr21,
    /// `Page(S + A) - Page(P)` in pages of 4 KiB, `immhi` and `immlo` of an A64 ADRP.
    A64AdrPage21,
    /// Bits 11 to 0 of `S + A`, `imm12` of an A64 ADD.
    A64AddLow12,
    /// Bits 11 to 0 of `S + A` in units of 1, 2, 4, 8 or 16 bytes, `imm12` of an A64 load or store;
    /// the number is the unit's base-2 logarithm.
    A64AccessLow12(u8),
    /// 16 bits of `S + A` from bit `16 * part` on, `imm16` of an A64 MOVZ or MOVK; bits above must be zero unless they are
    /// not checked.
    A64MoveWide {
        /// Which sixteen bits: 0 to 3.
        part: u8,
        /// Bits above may be lost.
        unchecked: bool,
    },
    /// `Page(GDAT(S)) - Page(P)`: the page of the symbol's entry in the global offset table, `immhi` and
    /// `immlo` of an A64 ADRP.
    A64GotPage21,
    /// Bits 11 to 0 of the address of that entry in units of eight bytes, `imm12` of an A64 load.
    A64GotLow12,
    /// `G(GDAT(S)) - Page(GOT)` in units of eight bytes, `imm12` of an A64 load: the distance from the page of the table to
    /// the entry.
    A64GotPageLow15,
    /// A field that leads to thread-local data.
    Tls(TlsField),
}

/// What a field that leads to thread-local data holds. Our linker fills those of the models initial exec and local
/// exec; the system's C compiler links objects that have others.
///
/// Sources: ELF Handling for Thread-Local Storage; psABI x86-64, 4.4; AAELF64, 5.7.11 "Relocations for
/// thread-local storage".
#[derive(Copy, Clone, PartialEq, Eq, Hash, Debug)]
pub enum TlsField {
    /// `x@tlsgd`: the table entries of module and offset, for a call that gives the address (general dynamic).
    GeneralEntry,
    /// `x@tlsld`, `x@tlsldm`: the table entries of this module (local dynamic).
    ModuleEntry,
    /// `x@gottpoff`, `x@gotntpoff`: the table entry of the offset from the thread pointer (initial exec).
    OffsetEntry,
    /// `x@indntpoff`: the address of that entry, in 32-bit code.
    OffsetEntryAddress,
    /// `x@tpoff`, `x@ntpoff`: the offset from the thread pointer, four bytes (local exec).
    ThreadOffset,
    /// The same in eight bytes.
    ThreadOffset64,
    /// `x@dtpoff`: the offset in the module's block, four bytes.
    BlockOffset,
    /// The same in eight bytes.
    BlockOffset64,
    /// `:tprel_hi12:x`: bits 23 to 12 of the offset from the thread pointer.
    A64OffsetHigh12,
    /// `:tprel_lo12:x`: the offset from the thread pointer, which twelve bits must hold.
    A64OffsetLow12,
    /// `:tprel_lo12_nc:x`: bits 11 to 0 of it.
    A64OffsetLow12Unchecked,
    /// `:tprel_lo12:x` of a load or store: the offset in units of 1, 2, 4, 8 or 16 bytes, bits 11 to 0; the number is the
    /// unit's base-2 logarithm. Bits above are not checked.
    A64OffsetAccessLow12(u8),
    /// `:tprel_g0:x` and kin: 16 bits of the offset from bit `16 * part` on.
    A64OffsetMoveWide {
        /// Which sixteen bits: 0 to 2.
        part: u8,
        /// Bits above may be lost.
        unchecked: bool,
    },
    /// `:gottprel:x`: the page of the table entry of the offset.
    A64OffsetEntryPage,
    /// `:gottprel_lo12:x`: the low twelve bits of that entry's address.
    A64OffsetEntryLow12,
    /// `:tlsdesc:x`: the page of the variable's descriptor.
    A64DescriptorPage,
    /// `:tlsdesc_lo12:x` of a load: the low twelve bits of the descriptor's address.
    A64DescriptorLow12,
    /// `:tlsdesc_lo12:x` of an addition: the same.
    A64DescriptorAddLow12,
    /// `.tlsdesccall x`: marks the call through the descriptor.
    A64DescriptorCall,
}

/// A value that its field cannot hold.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[error("{value} does not fit; the field holds {} to {}{}", .range.start(), .range.end(), .multiple.map(|m| format!(" in multiples of {m}")).unwrap_or_default())]
pub struct ApplyError {
    /// The value.
    pub value: i128,
    /// What fits, inclusive.
    pub range: RangeInclusive<i128>,
    /// What the value must be a multiple of, if it is not one.
    pub multiple: Option<i128>,
}

impl RelocationKind {
    /// Bytes of the section that the field lies in.
    pub const fn size(self) -> u64 {
        match self {
            RelocationKind::Abs8 | RelocationKind::Rel8 => 1,
            RelocationKind::Abs16 | RelocationKind::Rel16 => 2,
            RelocationKind::Abs32
            | RelocationKind::Abs32Signed
            | RelocationKind::Rel32
            | RelocationKind::Plt32
            | RelocationKind::GotRel32
            | RelocationKind::GotRel32Relaxable
            | RelocationKind::GotEntry32
            | RelocationKind::GotOffset32
            | RelocationKind::GotDistance32
            | RelocationKind::A64Branch26
            | RelocationKind::A64Call26
            | RelocationKind::A64Branch19
            | RelocationKind::A64Literal19
            | RelocationKind::A64Branch14
            | RelocationKind::A64Adr21
            | RelocationKind::A64AdrPage21
            | RelocationKind::A64AddLow12
            | RelocationKind::A64AccessLow12(_)
            | RelocationKind::A64MoveWide { .. }
            | RelocationKind::A64GotPage21
            | RelocationKind::A64GotPageLow15
            | RelocationKind::A64GotLow12 => 4,
            RelocationKind::Abs64 | RelocationKind::Rel64 => 8,
            RelocationKind::Tls(field) => match field {
                TlsField::ThreadOffset64 | TlsField::BlockOffset64 => 8,
                _ => 4,
            },
        }
    }

    /// Whether the field holds a distance rather than an address.
    pub const fn is_relative(self) -> bool {
        !matches!(
            self,
            RelocationKind::Abs8
                | RelocationKind::Abs16
                | RelocationKind::Abs32
                | RelocationKind::Abs32Signed
                | RelocationKind::Abs64
                | RelocationKind::GotEntry32
                | RelocationKind::A64AddLow12
                | RelocationKind::A64AccessLow12(_)
                | RelocationKind::A64MoveWide { .. }
                | RelocationKind::A64GotLow12
                | RelocationKind::Tls(_)
        )
    }

    /// Whether the field holds a part of an address that stays when whole pages move.
    pub const fn is_page_part(self) -> bool {
        matches!(
            self,
            RelocationKind::A64AddLow12
                | RelocationKind::A64AccessLow12(_)
                | RelocationKind::A64GotLow12
        )
    }

    /// The values the field can hold.
    pub fn range(self) -> RangeInclusive<i128> {
        let signed = |bits: u32| -(1i128 << (bits - 1))..=(1i128 << (bits - 1)) - 1;
        match self {
            RelocationKind::Abs8 => -(1 << 7)..=(1 << 8) - 1,
            RelocationKind::Abs16 => -(1 << 15)..=(1 << 16) - 1,
            // Data directives also put negative numbers here.
            RelocationKind::Abs32 => -(1 << 31)..=(1 << 32) - 1,
            RelocationKind::Abs64 => -(1 << 63)..=(1 << 64) - 1,
            RelocationKind::Abs32Signed
            | RelocationKind::Rel32
            | RelocationKind::Plt32
            | RelocationKind::GotRel32
            | RelocationKind::GotRel32Relaxable
            | RelocationKind::GotEntry32
            | RelocationKind::GotOffset32
            | RelocationKind::GotDistance32 => signed(32),
            RelocationKind::Rel8 => signed(8),
            RelocationKind::Rel16 => signed(16),
            RelocationKind::Rel64 => signed(64),
            RelocationKind::A64Branch26 | RelocationKind::A64Call26 => signed(28),
            RelocationKind::A64Branch14 => signed(16),
            RelocationKind::A64Branch19
            | RelocationKind::A64Literal19
            | RelocationKind::A64Adr21 => signed(21),
            RelocationKind::A64AdrPage21 | RelocationKind::A64GotPage21 => signed(33),
            RelocationKind::A64AddLow12
            | RelocationKind::A64AccessLow12(_)
            | RelocationKind::A64GotLow12 => signed(65),
            RelocationKind::A64MoveWide { unchecked: true, .. } => -(1 << 63)..=(1 << 64) - 1,
            RelocationKind::A64MoveWide { part, .. } => 0..=(1 << (16 * (u32::from(part) + 1))) - 1,
            RelocationKind::A64GotPageLow15 => 0..=(1 << 15) - 1,
            RelocationKind::Tls(TlsField::A64OffsetHigh12) => 0..=(1 << 24) - 1,
            RelocationKind::Tls(TlsField::A64OffsetLow12) => 0..=(1 << 12) - 1,
            // The others are filled as fields of the kinds that their linker gives them.
            RelocationKind::Tls(_) => signed(64),
        }
    }

    /// Fills the field at the start of `field`. `target` is `S + A`; `place` is `P`.
    ///
    /// # Errors
    ///
    /// [`ApplyError`] if the value does not fit; the field is left as it was.
    ///
    /// # Panics
    ///
    /// If `field` is shorter than [`RelocationKind::size`].
    pub fn apply(self, field: &mut [u8], target: i128, place: u64) -> Result<(), ApplyError> {
        let page = |address: i128| address & !0xfff;
        let value = match self {
            RelocationKind::A64AdrPage21 | RelocationKind::A64GotPage21 => {
                page(target) - page(i128::from(place))
            }
            _ if self.is_relative() => target - i128::from(place),
            _ => target,
        };
        let range = self.range();
        let unit = match self {
            RelocationKind::A64Branch26
            | RelocationKind::A64Call26
            | RelocationKind::A64Branch19
            | RelocationKind::A64Literal19
            | RelocationKind::A64Branch14 => 4,
            RelocationKind::A64AccessLow12(log2)
            | RelocationKind::Tls(TlsField::A64OffsetAccessLow12(log2)) => 1 << log2,
            RelocationKind::A64GotLow12 | RelocationKind::A64GotPageLow15 => 8,
            _ => 1,
        };
        if !range.contains(&value) {
            return Err(ApplyError { value, range, multiple: None });
        }
        if value % unit != 0 {
            return Err(ApplyError { value, range, multiple: Some(unit) });
        }
        let bits = value as u64;
        let size = self.size() as usize;
        match self {
            RelocationKind::A64Branch26 | RelocationKind::A64Call26 => {
                insert(field, (bits >> 2) as u32, 0, 26);
            }
            RelocationKind::A64Branch19 | RelocationKind::A64Literal19 => {
                insert(field, (bits >> 2) as u32, 5, 19)
            }
            RelocationKind::A64Branch14 => insert(field, (bits >> 2) as u32, 5, 14),
            RelocationKind::A64AddLow12 | RelocationKind::Tls(TlsField::A64OffsetLow12) => {
                insert(field, bits as u32 & 0xfff, 10, 12);
            }
            RelocationKind::Tls(TlsField::A64OffsetHigh12) => {
                insert(field, (bits >> 12) as u32, 10, 12);
            }
            RelocationKind::A64AccessLow12(log2)
            | RelocationKind::Tls(TlsField::A64OffsetAccessLow12(log2)) => {
                insert(field, (bits as u32 & 0xfff) >> log2, 10, 12);
            }
            RelocationKind::A64GotLow12 => insert(field, (bits as u32 & 0xfff) >> 3, 10, 12),
            RelocationKind::A64GotPageLow15 => insert(field, bits as u32 >> 3, 10, 12),
            RelocationKind::A64MoveWide { part, .. } => {
                insert(field, (bits >> (16 * part)) as u32 & 0xffff, 5, 16);
            }
            RelocationKind::A64AdrPage21 | RelocationKind::A64GotPage21 => {
                insert(field, (bits >> 12) as u32, 29, 2);
                insert(field, (bits >> 14) as u32, 5, 19);
            }
            RelocationKind::A64Adr21 => {
                insert(field, bits as u32, 29, 2);
                insert(field, (bits >> 2) as u32, 5, 19);
            }
            _ => field[..size].copy_from_slice(&bits.to_le_bytes()[..size]),
        }
        Ok(())
    }
}

/// Puts the low `width` bits of `value` at bit `at` of the instruction word.
fn insert(field: &mut [u8], value: u32, at: u32, width: u32) {
    let mask = (1u32 << width) - 1;
    let word = u32::from_le_bytes(field[..4].try_into().expect("four bytes"));
    let word = (word & !(mask << at)) | (value & mask) << at;
    field[..4].copy_from_slice(&word.to_le_bytes());
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn fields_by_hand() {
        let cases = [
            (
                "call forward",
                RelocationKind::Rel32,
                0x40_2000 - 4,
                0x40_1001,
                vec![0xfb, 0x0f, 0, 0],
            ),
            ("absolute", RelocationKind::Abs32Signed, 0x40_2000, 0, vec![0, 0x20, 0x40, 0]),
            (
                "bl back",
                RelocationKind::A64Branch26,
                0x40_0ff8,
                0x40_1000,
                vec![0xfe, 0xff, 0xff, 3],
            ),
            ("adr +3", RelocationKind::A64Adr21, 0x40_1003, 0x40_1000, vec![0, 0, 0, 0x60]),
        ];
        for (name, kind, target, place, wanted) in cases {
            let mut field = vec![0; 4];
            kind.apply(&mut field, target, place).unwrap();
            assert_eq!(field, wanted, "{name}");
        }
    }

    #[test]
    fn values_just_outside_the_range_are_refused_and_leave_the_field() {
        for kind in [RelocationKind::Rel8, RelocationKind::Rel32, RelocationKind::A64Branch19] {
            let range = kind.range();
            for (value, fits) in
                [(*range.start(), true), (*range.start() - 1, false), (*range.end() + 1, false)]
            {
                let mut field = [0xaa; 8];
                let result = kind.apply(&mut field, value + 0x1000, 0x1000);
                assert_eq!(result.is_ok(), fits, "{kind:?} {value}");
                assert!(fits || field == [0xaa; 8]);
            }
        }
        let error = RelocationKind::A64Branch26.apply(&mut [0; 4], 2, 0).unwrap_err();
        assert_eq!(error.multiple, Some(4));
    }
}
