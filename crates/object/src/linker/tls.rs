//! Thread-local storage: where a variable is from the thread pointer, and what the fields that lead to it hold.
//!
//! A program that is linked here is one module whose block has a fixed place, so that the access models of fixed
//! offsets apply: local exec, whose fields hold the offset, and initial exec, whose fields lead to a table entry that
//! holds it. The models for modules that are loaded later are refused.
//!
//! Sources: ELF Handling for Thread-Local Storage, 3 "Run-Time Handling" and 4 "TLS Access Models"; AAELF64, 5.7.11.

use crate::linker::align::align_up;
use crate::target::{Target, ThreadPointer};
use crate::{RelocationKind, TlsField, TlsTemplate};

/// What a field holds.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) enum Holds {
    /// The offset from the thread pointer.
    Offset,
    /// The offset in the block.
    BlockOffset,
    /// The way to a table entry with the offset from the thread pointer.
    Entry,
}

/// What the field holds, and the kind that fills it likewise; `None` if it belongs to a model for modules that are
/// loaded later.
pub(crate) fn meaning(target: &Target, field: TlsField) -> Option<(Holds, RelocationKind)> {
    Some(match field {
        TlsField::ThreadOffset => (Holds::Offset, RelocationKind::Abs32Signed),
        TlsField::ThreadOffset64 => (Holds::Offset, RelocationKind::Abs64),
        TlsField::BlockOffset => (Holds::BlockOffset, RelocationKind::Abs32Signed),
        TlsField::BlockOffset64 => (Holds::BlockOffset, RelocationKind::Abs64),
        TlsField::A64OffsetHigh12
        | TlsField::A64OffsetLow12
        | TlsField::A64OffsetAccessLow12(_) => (Holds::Offset, RelocationKind::Tls(field)),
        TlsField::A64OffsetLow12Unchecked => (Holds::Offset, RelocationKind::A64AddLow12),
        TlsField::A64OffsetMoveWide { part, unchecked } => {
            (Holds::Offset, RelocationKind::A64MoveWide { part, unchecked })
        }
        TlsField::OffsetEntry => (Holds::Entry, target.thread_entry),
        TlsField::OffsetEntryAddress => (Holds::Entry, RelocationKind::Abs32),
        TlsField::A64OffsetEntryPage => (Holds::Entry, RelocationKind::A64GotPage21),
        TlsField::A64OffsetEntryLow12 => (Holds::Entry, RelocationKind::A64GotLow12),
        TlsField::GeneralEntry
        | TlsField::ModuleEntry
        | TlsField::A64DescriptorPage
        | TlsField::A64DescriptorLow12
        | TlsField::A64DescriptorAddLow12
        | TlsField::A64DescriptorCall => return None,
    })
}

/// The offset from the thread pointer of the byte at `address` of the template.
pub(crate) fn thread_offset(target: &Target, template: &TlsTemplate, address: u64) -> u64 {
    let in_block = address.wrapping_sub(template.address);
    match target.thread_pointer {
        ThreadPointer::BeforeBlock { header_bytes } => {
            in_block.wrapping_add(align_up(header_bytes, template.align))
        }
        ThreadPointer::AfterBlock => {
            in_block.wrapping_sub(align_up(template.memory_size, template.align))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::target::target;
    use sotto_isa::Arch;

    #[test]
    fn offsets_by_hand() {
        // 20 bytes aligned to 16: the block takes 32 bytes.
        let template = TlsTemplate { address: 0x1000, file_size: 4, memory_size: 20, align: 16 };
        let cases = [
            // machine, address, offset
            (Arch::X86_64, 0x1000, -32i64),
            (Arch::X86_64, 0x1010, -16),
            (Arch::X86_32, 0x1000, -32),
            (Arch::Arm64, 0x1000, 16),
            (Arch::Arm64, 0x1010, 32),
        ];
        for (arch, address, wanted) in cases {
            let offset = thread_offset(target(arch), &template, address);
            assert_eq!(offset as i64, wanted, "{arch:?} {address:#x}");
        }
        let wide = TlsTemplate { align: 64, ..template };
        assert_eq!(thread_offset(target(Arch::Arm64), &wide, 0x1000), 64);
    }
}
