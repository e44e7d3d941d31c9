//! How sources for each machine are written. Beside the parser of operands no other file of this crate asks which
//! machine a source is for.

use sotto_isa::Arch;

/// How sources for a machine are written.
pub(crate) struct Syntax {
    /// `#` starts a comment anywhere in a line; otherwise only as the first thing in it.
    pub hash_comments: bool,
    /// Signs that start a comment where the destination comes first.
    pub comment_signs: &'static [&'static str],
    /// Which signs start a comment, in words.
    pub comment_help: &'static str,
    /// `;` starts a comment where another statement could be meant.
    pub warns_of_semicolon: bool,
    /// `$` is the current address where the destination comes first.
    pub dollar_is_here: bool,
    /// Words for prefixes stand before mnemonics.
    pub has_prefixes: bool,
    /// A bare name of a register is always the register, so that no operand can name a symbol called so.
    pub registers_hide_symbols: bool,
    /// `.align N` takes a power of two and not bytes.
    pub align_is_power: bool,
    /// `=value` is laid down in a literal pool.
    pub has_literal_pools: bool,
    /// `.req`, `.inst` and `.dword` are directives.
    pub has_arm_directives: bool,
    /// Operands that the manual's syntax has may be left out.
    pub has_optional_operands: bool,
    /// `_GLOBAL_OFFSET_TABLE_` stands for the distance to the table.
    pub names_offset_table: bool,
    /// How far general registers are numbered, if their names end in a number: `x30`.
    pub numbered_registers: Option<NumberedRegisters>,
    /// Instructions of other machines that have a counterpart of another name here, and what to write.
    pub counterparts: &'static [(&'static str, &'static str)],
}

/// Registers whose names end in a number.
#[derive(Copy, Clone)]
pub(crate) struct NumberedRegisters {
    /// The highest number.
    pub last: u32,
    /// A letter that they do not begin with although other machines' do.
    pub foreign_letter: &'static str,
}

static X86: Syntax = Syntax {
    hash_comments: true,
    comment_signs: &[";", "//", "# "],
    comment_help: "comments start with `//` or `#`, and with `;` where the destination comes first",
    warns_of_semicolon: false,
    dollar_is_here: true,
    has_prefixes: true,
    registers_hide_symbols: true,
    align_is_power: false,
    has_literal_pools: false,
    has_arm_directives: false,
    has_optional_operands: false,
    names_offset_table: false,
    numbered_registers: None,
    counterparts: &[],
};

static X86_32: Syntax = Syntax { names_offset_table: true, ..X86 };

static ARM64: Syntax = Syntax {
    hash_comments: false,
    comment_signs: &[";", "//"],
    comment_help: "comments start with `//` or `;`, and with `#` at the start of a line",
    warns_of_semicolon: true,
    dollar_is_here: false,
    has_prefixes: false,
    registers_hide_symbols: false,
    align_is_power: true,
    has_literal_pools: true,
    has_arm_directives: true,
    has_optional_operands: true,
    names_offset_table: false,
    numbered_registers: Some(NumberedRegisters { last: 30, foreign_letter: "r" }),
    counterparts: &[
        ("push", "write `stp x0, x1, [sp, #-16]!`, which keeps the stack aligned"),
        ("pop", "write `ldp x0, x1, [sp], #16`"),
    ],
};

/// How sources for the machine are written.
pub(crate) fn syntax(arch: Arch) -> &'static Syntax {
    match arch {
        Arch::X86_64 => &X86,
        Arch::X86_32 => &X86_32,
        Arch::Arm64 => &ARM64,
    }
}

/// Signs that start a comment in sources for the machine where the destination comes first.
pub fn comment_signs(arch: Arch) -> &'static [&'static str] {
    syntax(arch).comment_signs
}

/// A line without its comment and the blanks before that. Signs within quotes begin none.
pub fn without_comment(line: &str, arch: Arch) -> &str {
    let mut quoted = None;
    for (at, c) in line.char_indices() {
        match (quoted, c) {
            (None, '"' | '\'') => quoted = Some(c),
            (Some(quote), c) if c == quote => quoted = None,
            (None, _) if comment_signs(arch).iter().any(|sign| line[at..].starts_with(sign)) => {
                return line[..at].trim_end();
            }
            _ => {}
        }
    }
    line.trim_end()
}
