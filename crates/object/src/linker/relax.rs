//! Doing without the global offset table where an instruction allows it.
//!
//! Source: psABI x86-64, B.2 "Optimize GOTPCRELX Relocations".

use crate::{Relocation, RelocationKind};

/// What an instruction that reads the table can become.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
enum Rewrite {
    /// MOV of the entry: LEA of the symbol.
    Lea,
    /// CALL through the entry: CALL, with a prefix that fills the byte left over.
    Call,
    /// JMP through the entry: JMP, and a no-op.
    Jump,
}

/// The rewriting that the bytes before the field allow.
fn rewriting(relocation: &Relocation, data: &[u8]) -> Option<Rewrite> {
    if relocation.kind != RelocationKind::GotRel32Relaxable || relocation.addend != -4 {
        return None;
    }
    let before = (relocation.offset as usize).checked_sub(2)?;
    match data.get(before..before + 2)? {
        // ModRM with the mode and register field of a displacement from the instruction pointer.
        [0x8b, modrm] if modrm & 0xc7 == 0x05 => Some(Rewrite::Lea),
        [0xff, 0x15] => Some(Rewrite::Call),
        [0xff, 0x25] => Some(Rewrite::Jump),
        _ => None,
    }
}

/// Whether the relocation needs an entry in the table.
pub(crate) fn needs_table(relocation: &Relocation, data: &[u8]) -> bool {
    let through = matches!(
        relocation.kind,
        RelocationKind::GotRel32
            | RelocationKind::GotRel32Relaxable
            | RelocationKind::GotEntry32
            | RelocationKind::A64GotPage21
            | RelocationKind::A64GotLow12
            | RelocationKind::A64GotPageLow15
    );
    through && rewriting(relocation, data).is_none()
}

/// Whether an instruction of 32-bit code reads its table entry at the entry's address, since it has no base register
/// that holds the table's. Source: psABI i386, 4.4.1, `R_386_GOT32X`.
pub(crate) fn is_absolute_entry(relocation: &Relocation, data: &[u8]) -> bool {
    let modrm = (relocation.offset as usize).checked_sub(1).and_then(|before| data.get(before));
    // ModRM.mod = 00b and ModRM.rm = 101b: a displacement alone.
    modrm.is_some_and(|modrm| modrm & 0xc7 == 0x05)
}

/// Rewrites the instruction, if it is one that can do without the table.
pub(crate) fn rewrite(relocation: &mut Relocation, data: &mut [u8]) {
    let Some(rewrite) = rewriting(relocation, data) else { return };
    let before = relocation.offset as usize - 2;
    relocation.kind = RelocationKind::Rel32;
    match rewrite {
        Rewrite::Lea => data[before] = 0x8d,
        Rewrite::Call => data[before..before + 2].copy_from_slice(&[0x67, 0xe8]),
        Rewrite::Jump => {
            // The field moves back by a byte, and so does the end that it counts from.
            data[before] = 0xe9;
            data[before + 5] = 0x90;
            relocation.offset -= 1;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::SymbolIndex;

    #[test]
    fn instructions_that_read_the_table_are_rewritten_by_hand() {
        let cases: [(&str, &[u8], &[u8], u64); 3] = [
            ("mov", &[0x48, 0x8b, 0x3d, 0, 0, 0, 0], &[0x48, 0x8d, 0x3d, 0, 0, 0, 0], 3),
            ("call", &[0xff, 0x15, 0, 0, 0, 0], &[0x67, 0xe8, 0, 0, 0, 0], 2),
            ("jmp", &[0xff, 0x25, 0, 0, 0, 0], &[0xe9, 0x25, 0, 0, 0, 0x90], 1),
        ];
        for (name, bytes, wanted, offset) in cases {
            let kind = RelocationKind::GotRel32Relaxable;
            let field = bytes.len() as u64 - 4;
            let mut relocation =
                Relocation { offset: field, kind, symbol: SymbolIndex(0), addend: -4 };
            let mut data = bytes.to_vec();
            assert!(!needs_table(&relocation, &data), "{name}");
            rewrite(&mut relocation, &mut data);
            assert_eq!(data[..wanted.len() - 4], wanted[..wanted.len() - 4], "{name}");
            assert_eq!((relocation.offset, relocation.kind), (offset, RelocationKind::Rel32));
        }
        let add = Relocation {
            offset: 3,
            kind: RelocationKind::GotRel32Relaxable,
            symbol: SymbolIndex(0),
            addend: -4,
        };
        assert!(needs_table(&add, &[0x48, 0x03, 0x05, 0, 0, 0, 0]));
    }
}
