//! Facts of a row that no other field says, and that the encoder, the assembler and the analyses of code ask for.

/// A set of facts about an instruction form.
#[derive(Copy, Clone, PartialEq, Eq, Debug, Default)]
pub struct Traits(u32);

impl Traits {
    /// No fact.
    pub const NONE: Traits = Traits(0);
    /// The x86 lock prefix may stand before it if its destination is memory. Source: SDM Vol. 2A, LOCK.
    pub const LOCKABLE: Traits = Traits(1 << 0);
    /// An operand-size prefix in 32-bit mode truncates the target to 16 bits.
    ///
    /// Source: SDM Vol. 2A, CALL, Jcc, JMP, LOOP/LOOPcc; Vol. 2B, RET.
    pub const TARGET_CAN_BE_16_BITS: Traits = Traits(1 << 1);
    /// The target is truncated to 16 bits.
    pub const TARGET_IS_16_BITS: Traits = Traits(1 << 11);
    /// The result is zero, whatever was there, if both sources are the same register.
    pub const ZEROING_IDIOM: Traits = Traits(1 << 2);
    /// A count of one may be left out.
    pub const IMPLIED_COUNT_ONE: Traits = Traits(1 << 3);
    /// The count in CL may be left out.
    pub const IMPLIED_COUNT_CL: Traits = Traits(1 << 4);
    /// With an immediate, a source that is the destination may be left out.
    pub const IMPLIED_SOURCE: Traits = Traits(1 << 5);
    /// The memory operand is not accessed: its address is computed.
    pub const ADDRESS_ONLY: Traits = Traits(1 << 6);
    /// `=value` may stand as the source: the value is loaded from a literal pool.
    pub const LOADS_LITERAL: Traits = Traits(1 << 7);
    /// An immediate written with the width `word` selects the row whose mnemonic has `w` appended.
    pub const SIZED_IMMEDIATE: Traits = Traits(1 << 8);
    /// The operands are signed numbers, and the dividend is twice as wide as the divisor.
    pub const SIGNED_DIVISION: Traits = Traits(1 << 9);
    /// The dividend is twice as wide as the divisor, and its high half is in a register of its own.
    pub const WIDE_DIVISION: Traits = Traits(1 << 15);
    /// It raises an interrupt, whose number is the operand if there is one.
    pub const INTERRUPT: Traits = Traits(1 << 10);

    /// A linker may rewrite it where its memory operand is an entry of the global offset table. Source: psABI x86-64, B.2.
    pub const GOT_RELAXABLE: Traits = Traits(1 << 12);
    /// It copies a general register or memory as it is, and has a counterpart that extends a narrower source.
    pub const HAS_EXTENDING_FORM: Traits = Traits(1 << 13);
    /// No other processor accesses its memory between its reading and its writing. Source: SDM Vol. 3A, 9.1.2.
    pub const INDIVISIBLE: Traits = Traits(1 << 16);
    /// It leaves a return address: its target is a routine.
    pub const LINKS: Traits = Traits(1 << 14);

    /// These facts and those.
    pub const fn with(self, other: Traits) -> Traits {
        Traits(self.0 | other.0)
    }

    /// Whether all of the given facts hold.
    pub const fn contains(self, wanted: Traits) -> bool {
        self.0 & wanted.0 == wanted.0
    }
}
