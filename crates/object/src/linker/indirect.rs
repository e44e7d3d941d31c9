//! Functions that are chosen at run time (`STT_GNU_IFUNC`).
//!
//! Each gets an entry of a procedure linkage table, which stands for the function wherever its address is needed, an
//! address that the entry jumps to, and a relocation that says which routine gives that address. In a program without
//! an interpreter its own start applies the relocations, between `__rela_iplt_start` and `__rela_iplt_end`
//! (`__rel_iplt_` where relocations have no addend); the C library's start does so.
//!
//! Sources: psABI x86-64, 4.4.1 and 5.2 "Procedure Linkage Table"; psABI i386, 4.4.1; AAELF64, 5.7.12.

use crate::RelocationKind;
use crate::target::Target;

/// What is laid down for a function, where the addresses are known.
pub(crate) struct IndirectEntry {
    /// Address of the table entry.
    pub stub: u64,
    /// Address of the word that the entry jumps to.
    pub slot: u64,
    /// Address of the routine that chooses.
    pub resolver: u64,
}

impl IndirectEntry {
    /// The instructions of the entry.
    pub fn stub_bytes(&self, target: &Target) -> Vec<u8> {
        let mut code = target.indirect.stub.to_vec();
        for &(offset, kind, addend) in target.indirect.stub_fields {
            let place = self.stub + offset;
            let value = i128::from(self.slot) + i128::from(addend);
            kind.apply(&mut code[offset as usize..], value, place)
                .expect("the tables of one program are near each other");
        }
        code
    }

    /// The word that the entry jumps to, before the program's start has replaced it.
    pub fn slot_bytes(&self, target: &Target, width: usize) -> Vec<u8> {
        let value = if target.has_addends { 0 } else { self.resolver };
        value.to_le_bytes()[..width].to_vec()
    }

    /// The relocation: `Elf64_Rela`, or `Elf32_Rel`.
    pub fn relocation_bytes(&self, target: &Target, width: usize) -> Vec<u8> {
        let mut words = vec![self.slot, u64::from(target.indirect.relocation)];
        if target.has_addends {
            words.push(self.resolver);
        }
        words.iter().flat_map(|word| word.to_le_bytes()[..width].to_vec()).collect()
    }
}

/// A machine's tables for such functions.
pub(crate) struct IndirectTables {
    /// Number of the relocation, `R_*_IRELATIVE`.
    pub relocation: u32,
    /// Name of the section that holds them.
    pub section: &'static str,
    /// Instructions of a table entry.
    pub stub: &'static [u8],
    /// Fields in them that lead to the word they jump to: offset, kind, and addend.
    pub stub_fields: &'static [(u64, RelocationKind, i64)],
}
