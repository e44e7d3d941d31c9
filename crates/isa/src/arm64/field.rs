//! The fields of A64 encodings: where each stands.
//!
//! A field of one name stands at one place in every encoding that has it, so that operands know where they are. Rows name
//! their fields for readers; a test compares the two.

/// Some bits of a word.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct BitField {
    /// The name in the manual's diagrams.
    pub name: &'static str,
    /// The lowest bit.
    pub at: u8,
    /// How many bits.
    pub width: u8,
}

impl BitField {
    /// The bits of the word that belong to the field.
    pub const fn mask(self) -> u32 {
        (u32::MAX >> (32 - self.width)) << self.at
    }

    /// The field's value in a word.
    #[inline]
    pub const fn get(self, word: u32) -> u32 {
        word >> self.at & (u32::MAX >> (32 - self.width))
    }

    /// The same as a signed number.
    #[inline]
    pub const fn get_signed(self, word: u32) -> i64 {
        let unused = 64 - self.width as u32;
        ((self.get(word) as i64) << unused) >> unused
    }

    /// The field's lowest bits alone.
    pub const fn low(self, width: u8) -> BitField {
        BitField { width, ..self }
    }
}

macro_rules! fields {
    ($($constant:ident $name:literal $at:literal $width:literal;)*) => {
        $(pub(crate) const $constant: BitField = BitField { name: $name, at: $at, width: $width };)*
        /// All of them.
        #[cfg(test)]
        pub(crate) const ALL: &[BitField] = &[$($constant),*];
    };
}

fields! {
    RD "Rd" 0 5;
    RT "Rt" 0 5;
    RN "Rn" 5 5;
    RA "Ra" 10 5;
    RT2 "Rt2" 10 5;
    RM "Rm" 16 5;
    RS "Rs" 16 5;
    RM_LOW "Rm4" 16 4;
    IMM12 "imm12" 10 12;
    SHIFT12 "sh" 22 1;
    IMM9 "imm9" 12 9;
    IMM7 "imm7" 15 7;
    IMM26 "imm26" 0 26;
    IMM19 "imm19" 5 19;
    IMM14 "imm14" 5 14;
    IMM_LOW "immlo" 29 2;
    IMM_HIGH "immhi" 5 19;
    IMM16 "imm16" 5 16;
    UDF16 "udf16" 0 16;
    HALF "hw" 21 2;
    N "N" 22 1;
    IMMR "immr" 16 6;
    IMMS "imms" 10 6;
    SHIFT "shift" 22 2;
    IMM6 "imm6" 10 6;
    OPTION "option" 13 3;
    IMM3 "imm3" 10 3;
    SCALED "S" 12 1;
    COND "cond" 12 4;
    NZCV "nzcv" 0 4;
    COMPARED "imm5" 16 5;
    BIT40 "b40" 19 5;
    HINT7 "hint" 5 7;
    CRM "CRm" 8 4;
    OP1 "op1" 16 3;
    OP2 "op2" 5 3;
    SYSTEM "sysreg" 5 15;
    PREFETCH "prfop" 0 5;
    SCALE "scale" 10 6;
    FLOAT8 "imm8" 13 8;
    Q "Q" 30 1;
    SIZE "size" 22 2;
    SZ "sz" 22 1;
    LIST_SIZE "lsize" 10 2;
    LIST_S "lS" 12 1;
    IMMH "immh" 19 4;
    IMMB "immb" 16 3;
    LANE "lane" 16 5;
    LANE_FROM "from" 11 4;
    EXTRACTED "imm4" 11 4;
    H "H" 11 1;
    L "L" 21 1;
    M "M" 20 1;
    CMODE "cmode" 12 4;
    ABC "abc" 16 3;
    DEFGH "defgh" 5 5;
}
