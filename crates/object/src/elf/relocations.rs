//! Numbers of relocations, and which kind each is. Where two numbers have one kind, the first is written.
//!
//! Sources: psABI x86-64, 4.4.1 "Relocation Types"; psABI i386, 4.4.1; AAELF64, 5.7 "Relocation".

use elf_layout::elf as raw;

use crate::{RelocationKind, TlsField};

/// Those of x86-64.
pub(crate) const X86_64: &[(u32, RelocationKind)] = &[
    (raw::R_X86_64_64, RelocationKind::Abs64),
    (raw::R_X86_64_PC32, RelocationKind::Rel32),
    (raw::R_X86_64_PLT32, RelocationKind::Plt32),
    (raw::R_X86_64_GOTPCREL, RelocationKind::GotRel32),
    (raw::R_X86_64_REX_GOTPCRELX, RelocationKind::GotRel32Relaxable),
    (raw::R_X86_64_GOTPCRELX, RelocationKind::GotRel32Relaxable),
    (raw::R_X86_64_32, RelocationKind::Abs32),
    (raw::R_X86_64_32S, RelocationKind::Abs32Signed),
    (raw::R_X86_64_16, RelocationKind::Abs16),
    (raw::R_X86_64_PC16, RelocationKind::Rel16),
    (raw::R_X86_64_8, RelocationKind::Abs8),
    (raw::R_X86_64_PC8, RelocationKind::Rel8),
    (raw::R_X86_64_PC64, RelocationKind::Rel64),
    (raw::R_X86_64_TLSGD, RelocationKind::Tls(TlsField::GeneralEntry)),
    (raw::R_X86_64_TLSLD, RelocationKind::Tls(TlsField::ModuleEntry)),
    (raw::R_X86_64_GOTTPOFF, RelocationKind::Tls(TlsField::OffsetEntry)),
    (raw::R_X86_64_TPOFF32, RelocationKind::Tls(TlsField::ThreadOffset)),
    (raw::R_X86_64_TPOFF64, RelocationKind::Tls(TlsField::ThreadOffset64)),
    (raw::R_X86_64_DTPOFF32, RelocationKind::Tls(TlsField::BlockOffset)),
    (raw::R_X86_64_DTPOFF64, RelocationKind::Tls(TlsField::BlockOffset64)),
];

/// Those of 32-bit x86.
pub(crate) const X86_32: &[(u32, RelocationKind)] = &[
    (raw::R_386_32, RelocationKind::Abs32),
    (raw::R_386_PC32, RelocationKind::Rel32),
    (raw::R_386_PLT32, RelocationKind::Plt32),
    (raw::R_386_GOT32X, RelocationKind::GotEntry32),
    (raw::R_386_GOT32, RelocationKind::GotEntry32),
    (raw::R_386_GOTOFF, RelocationKind::GotOffset32),
    (raw::R_386_GOTPC, RelocationKind::GotDistance32),
    (raw::R_386_16, RelocationKind::Abs16),
    (raw::R_386_PC16, RelocationKind::Rel16),
    (raw::R_386_8, RelocationKind::Abs8),
    (raw::R_386_PC8, RelocationKind::Rel8),
    (raw::R_386_TLS_GD, RelocationKind::Tls(TlsField::GeneralEntry)),
    (raw::R_386_TLS_LDM, RelocationKind::Tls(TlsField::ModuleEntry)),
    (raw::R_386_TLS_GOTIE, RelocationKind::Tls(TlsField::OffsetEntry)),
    (raw::R_386_TLS_IE, RelocationKind::Tls(TlsField::OffsetEntryAddress)),
    (raw::R_386_TLS_LE, RelocationKind::Tls(TlsField::ThreadOffset)),
    (raw::R_386_TLS_LDO_32, RelocationKind::Tls(TlsField::BlockOffset)),
];

/// Those of 64-bit ARM.
pub(crate) const ARM64: &[(u32, RelocationKind)] = &[
    (raw::R_AARCH64_ABS64, RelocationKind::Abs64),
    (raw::R_AARCH64_ABS32, RelocationKind::Abs32),
    (raw::R_AARCH64_ABS16, RelocationKind::Abs16),
    (raw::R_AARCH64_PREL64, RelocationKind::Rel64),
    (raw::R_AARCH64_PREL32, RelocationKind::Rel32),
    (raw::R_AARCH64_PREL16, RelocationKind::Rel16),
    (raw::R_AARCH64_LD_PREL_LO19, RelocationKind::A64Literal19),
    (raw::R_AARCH64_ADR_PREL_LO21, RelocationKind::A64Adr21),
    (raw::R_AARCH64_ADR_PREL_PG_HI21, RelocationKind::A64AdrPage21),
    (raw::R_AARCH64_ADD_ABS_LO12_NC, RelocationKind::A64AddLow12),
    (raw::R_AARCH64_LDST8_ABS_LO12_NC, RelocationKind::A64AccessLow12(0)),
    (raw::R_AARCH64_LDST16_ABS_LO12_NC, RelocationKind::A64AccessLow12(1)),
    (raw::R_AARCH64_LDST32_ABS_LO12_NC, RelocationKind::A64AccessLow12(2)),
    (raw::R_AARCH64_LDST64_ABS_LO12_NC, RelocationKind::A64AccessLow12(3)),
    (raw::R_AARCH64_LDST128_ABS_LO12_NC, RelocationKind::A64AccessLow12(4)),
    (raw::R_AARCH64_MOVW_UABS_G0, RelocationKind::A64MoveWide { part: 0, unchecked: false }),
    (raw::R_AARCH64_MOVW_UABS_G0_NC, RelocationKind::A64MoveWide { part: 0, unchecked: true }),
    (raw::R_AARCH64_MOVW_UABS_G1, RelocationKind::A64MoveWide { part: 1, unchecked: false }),
    (raw::R_AARCH64_MOVW_UABS_G1_NC, RelocationKind::A64MoveWide { part: 1, unchecked: true }),
    (raw::R_AARCH64_MOVW_UABS_G2, RelocationKind::A64MoveWide { part: 2, unchecked: false }),
    (raw::R_AARCH64_MOVW_UABS_G2_NC, RelocationKind::A64MoveWide { part: 2, unchecked: true }),
    (raw::R_AARCH64_MOVW_UABS_G3, RelocationKind::A64MoveWide { part: 3, unchecked: false }),
    (raw::R_AARCH64_TLSLE_ADD_TPREL_HI12, RelocationKind::Tls(TlsField::A64OffsetHigh12)),
    (raw::R_AARCH64_TLSLE_ADD_TPREL_LO12, RelocationKind::Tls(TlsField::A64OffsetLow12)),
    (
        raw::R_AARCH64_TLSLE_ADD_TPREL_LO12_NC,
        RelocationKind::Tls(TlsField::A64OffsetLow12Unchecked),
    ),
    (
        raw::R_AARCH64_TLSLE_LDST8_TPREL_LO12_NC,
        RelocationKind::Tls(TlsField::A64OffsetAccessLow12(0)),
    ),
    (
        raw::R_AARCH64_TLSLE_LDST16_TPREL_LO12_NC,
        RelocationKind::Tls(TlsField::A64OffsetAccessLow12(1)),
    ),
    (
        raw::R_AARCH64_TLSLE_LDST32_TPREL_LO12_NC,
        RelocationKind::Tls(TlsField::A64OffsetAccessLow12(2)),
    ),
    (
        raw::R_AARCH64_TLSLE_LDST64_TPREL_LO12_NC,
        RelocationKind::Tls(TlsField::A64OffsetAccessLow12(3)),
    ),
    (
        raw::R_AARCH64_TLSLE_LDST128_TPREL_LO12_NC,
        RelocationKind::Tls(TlsField::A64OffsetAccessLow12(4)),
    ),
    (
        raw::R_AARCH64_TLSLE_MOVW_TPREL_G0,
        RelocationKind::Tls(TlsField::A64OffsetMoveWide { part: 0, unchecked: false }),
    ),
    (
        raw::R_AARCH64_TLSLE_MOVW_TPREL_G0_NC,
        RelocationKind::Tls(TlsField::A64OffsetMoveWide { part: 0, unchecked: true }),
    ),
    (
        raw::R_AARCH64_TLSLE_MOVW_TPREL_G1,
        RelocationKind::Tls(TlsField::A64OffsetMoveWide { part: 1, unchecked: false }),
    ),
    (
        raw::R_AARCH64_TLSLE_MOVW_TPREL_G1_NC,
        RelocationKind::Tls(TlsField::A64OffsetMoveWide { part: 1, unchecked: true }),
    ),
    (
        raw::R_AARCH64_TLSLE_MOVW_TPREL_G2,
        RelocationKind::Tls(TlsField::A64OffsetMoveWide { part: 2, unchecked: false }),
    ),
    (raw::R_AARCH64_TLSIE_ADR_GOTTPREL_PAGE21, RelocationKind::Tls(TlsField::A64OffsetEntryPage)),
    (
        raw::R_AARCH64_TLSIE_LD64_GOTTPREL_LO12_NC,
        RelocationKind::Tls(TlsField::A64OffsetEntryLow12),
    ),
    (raw::R_AARCH64_TLSDESC_ADR_PAGE21, RelocationKind::Tls(TlsField::A64DescriptorPage)),
    (raw::R_AARCH64_TLSDESC_LD64_LO12, RelocationKind::Tls(TlsField::A64DescriptorLow12)),
    (raw::R_AARCH64_TLSDESC_ADD_LO12, RelocationKind::Tls(TlsField::A64DescriptorAddLow12)),
    (raw::R_AARCH64_TLSDESC_CALL, RelocationKind::Tls(TlsField::A64DescriptorCall)),
    (raw::R_AARCH64_TLS_DTPREL, RelocationKind::Tls(TlsField::BlockOffset64)),
    (raw::R_AARCH64_ADR_GOT_PAGE, RelocationKind::A64GotPage21),
    (raw::R_AARCH64_LD64_GOT_LO12_NC, RelocationKind::A64GotLow12),
    (raw::R_AARCH64_LD64_GOTPAGE_LO15, RelocationKind::A64GotPageLow15),
    (raw::R_AARCH64_TSTBR14, RelocationKind::A64Branch14),
    (raw::R_AARCH64_CONDBR19, RelocationKind::A64Branch19),
    (raw::R_AARCH64_JUMP26, RelocationKind::A64Branch26),
    (raw::R_AARCH64_CALL26, RelocationKind::A64Call26),
];
