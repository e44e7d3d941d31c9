//! The table of findings.

use sotto_finding::{Finding, Severity};

/// What a kind of finding is about, as `explain` tells it.
#[derive(Debug, PartialEq, Eq)]
pub struct KindInfo {
    /// The kind.
    pub kind: Kind,
    /// Its code.
    pub code: &'static str,
    /// How bad it is.
    pub severity: Severity,
    /// What it is, in a few words.
    pub title: &'static str,
    /// Why it matters.
    pub why: &'static str,
    /// What to do.
    pub remedy: &'static str,
    /// A program that has it and nothing else.
    pub example: &'static str,
    /// The same program, mended.
    pub mended: &'static str,
}

/// Makes the table: a kind, its code and severity, then what it is, why it matters, and the remedy. The programs are those of
/// the folder `mistakes`, by code.
macro_rules! kinds {
    ($($kind:ident = $code:literal, $severity:ident, $title:literal, $why:literal, $remedy:literal;)*) => {
        /// What a finding is about.
        #[derive(Copy, Clone, PartialEq, Eq, Hash, Debug)]
        #[allow(missing_docs, reason = "the table says what each is")]
        pub enum Kind {
            $($kind,)*
        }

        /// Every kind of finding, by code.
        pub const KINDS: &[KindInfo] = &[$(KindInfo {
            kind: Kind::$kind,
            code: $code,
            severity: Severity::$severity,
            title: $title,
            why: $why,
            remedy: $remedy,
            example: include_str!(concat!("../mistakes/", $code, ".s")),
            mended: include_str!(concat!("../mistakes/", $code, "_mended.s")),
        },)*];
    };
}

kinds! {
    Preserved = "C101", Error, "a preserved register is not restored",
        "the caller keeps values in registers that the convention preserves, and goes on with a wrong one",
        "save the register first and restore it before the return, or use a scratch register";
    Unbalanced = "C102", Error, "the stack is unbalanced at a return",
        "a return takes its address from where the stack pointer is, and finds another value there",
        "take off what was pushed, on every path, before the return";
    ReturnAddress = "C103", Error, "the return address was overwritten",
        "the routine returns to an address that no call left",
        "keep stores within the routine's own part of the stack; save the link register before a call";
    Misaligned = "C104", Warning, "the stack is misaligned at a call",
        "the convention aligns the stack to 16 bytes at a call, and routines use instructions that need it",
        "push an even number of 8-byte values before the call, or take 8 bytes more";
    LostInCall = "C105", Error, "a value is expected to survive a call that changes its register",
        "a routine may change scratch registers; what was there before the call is gone",
        "keep the value in a preserved register or on the stack";
    LostInSyscall = "C106", Error, "a value is expected to survive a system call that destroys its register",
        "the instruction that enters the kernel, or the kernel, leaves something else in the register",
        "keep the value in a register that system calls leave alone";
    ContractChange = "C107", Error, "a routine changes a register that its contract does not list",
        "callers rely on the contract, and go on with a wrong value",
        "restore the register, or list it under `changes`";
    ReturnsNotSet = "C108", Error, "a routine does not set what its contract returns",
        "the caller takes what happened to be in the register for the result",
        "set the register on every path, or leave it out of `returns`";
    DirectionFlag = "C109", Error, "the direction flag is left set",
        "string instructions of every other routine would go backwards",
        "clear it with `cld` before the return";
    FlagsNotKept = "C110", Error, "flags that a contract keeps are changed",
        "the caller tests flags of before the call",
        "save the flags first and restore them, or leave them out of `keeps`";
    VectorCount = "C111", Warning, "a routine with a variable number of arguments is called without their vector count",
        "such a routine reads in al how many vector registers hold arguments, and saves those",
        "set it before the call: `xor eax, eax` if no argument is a float, else their number in `al`";
    Unset = "C201", Warning, "a register is used that was never set",
        "the register holds what the kernel or the caller left in it, which may differ from run to run",
        "set the register first";
    Unwritten = "C202", Warning, "memory is used that was never written",
        "the memory holds what was there before, which may differ from run to run",
        "write the memory before it is read";
    Stale = "C203", Warning, "memory below the stack pointer is used after a call",
        "a call, and the kernel for a signal, may write below the stack pointer at any time",
        "make room first by moving the stack pointer down";
    UndefinedFlags = "C204", Warning, "flags are tested that an instruction left undefined",
        "processors differ in what they leave in undefined flags",
        "compare again, with an instruction that defines the flag";
    Dividend = "C205", Warning, "a division without its high half prepared",
        "the dividend is twice as wide as the divisor; an old value in its high half makes the quotient wrong or too large",
        "clear the high half for numbers without a sign, extend the sign into it for others";
    ShiftCount = "C206", Warning, "a shift by the width or more",
        "the processor takes the count modulo the width, so that the value is not shifted out",
        "compare the count first";
    Overwritten = "C207", Hint, "a value is overwritten before it is used",
        "the instruction does nothing; often another register was meant",
        "remove it, or use its value first";
    ProductOverwrites = "C208", Warning, "the second result of a multiplication overwrites a value",
        "the upper half of the product goes to a register that the instruction does not name",
        "keep the value in another register, or multiply with a form that has one result: `imul rax, rcx`";
    SignOfComparison = "C209", Hint, "a signed branch after an unsigned comparison, or the reverse",
        "signed and unsigned conditions differ as soon as the top bit is set",
        "signed are `jl`, `jge`, `jg`, `jle` on x86 and `lt`, `ge`, `gt`, `le` on arm64; unsigned `jb`, `jae`, `ja`, `jbe`, and `lo`, `hs`, `hi`, `ls`";
    UnknownCall = "C301", Warning, "an unknown system call",
        "the kernel answers ENOSYS and does nothing",
        "look the number up: `sotto explain write`";
    DubiousCall = "C302", Warning, "a system call whose arguments do not go together",
        "the call does something else than was meant, or nothing",
        "see the arguments of the call: `sotto explain write`";
    ErrorIgnored = "C303", Hint, "the error of a system call is never looked at",
        "the program goes on as if the call had succeeded",
        "test the result: a negative one is the error's number";
    AcrossVariables = "C401", Warning, "an access reaches across two variables",
        "it reads or writes a part of the neighbour too",
        "use an access as wide as the variable";
    PastBuffer = "C402", Error, "a system call writes past a buffer",
        "what lies behind the buffer is overwritten",
        "pass the buffer's size as the count";
    WriteReadOnly = "C403", Error, "a write to read-only data",
        "the kernel maps code and `.rodata` without write permission, and ends the program",
        "move what is written to `.data`, or room for it to `.bss`";
    NoTerminator = "C404", Warning, "text without a zero at its end is given to a routine that reads up to one",
        "the routine reads on into whatever lies behind the text",
        "declare it with `.asciz`, or put `.byte 0` behind it";
    RanPast = "C501", Error, "control runs past the last instruction",
        "what follows the code is executed as if it were instructions",
        "end the program with an exit call, and a routine with a return";
    Fault = "C502", Error, "the program is stopped by a fault",
        "the kernel ends the program with a signal",
        "step back from the fault: `sotto step`, `resume`, `back`";
    IntoData = "C503", Error, "execution falls through into data",
        "the processor takes the data for instructions",
        "end the code before it with a jump, a return or an exit call, or move the data to `.data` or `.rodata`";
    IntoRoutine = "C504", Hint, "execution falls through into the next routine",
        "a return or a jump may be missing at the end of the routine before",
        "return first; if it is meant, say so with `;: allow C504`";
    MidInstruction = "C505", Error, "a jump into the middle of an instruction",
        "the processor decodes the rest of its bytes as another instruction",
        "jump to a label";
    EndlessRecursion = "C506", Warning, "a routine calls itself on every path",
        "every call needs stack, until there is none left",
        "return without the call for the smallest case";
    Unused = "C601", Hint, "a label or datum is never used",
        "it may be misspelt elsewhere, or left over",
        "remove it, or make it `.global` if other files use it";
}

impl Kind {
    /// The row of this kind.
    pub fn info(self) -> &'static KindInfo {
        KINDS.iter().find(|info| info.kind == self).expect("every kind has a row")
    }

    /// The kind of a finding; `None` if its code is of another table.
    pub fn of(finding: &Finding) -> Option<Kind> {
        Kind::by_code(finding.code).map(|info| info.kind)
    }

    /// The row with this code, in upper or lower case.
    pub fn by_code(code: &str) -> Option<&'static KindInfo> {
        KINDS.iter().find(|info| info.code.eq_ignore_ascii_case(code))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn codes_are_in_order_and_every_row_is_filled() {
        assert!(KINDS.is_sorted_by(|a, b| a.code < b.code));
        for info in KINDS {
            let texts = [info.title, info.why, info.remedy, info.example, info.mended];
            assert!(texts.iter().all(|text| !text.is_empty()), "{}", info.code);
            assert_ne!(info.example, info.mended, "{}", info.code);
            assert_eq!(Kind::by_code(&info.code.to_lowercase()), Some(info));
        }
    }
}
