//! The table of findings.

use serde::Serialize;

/// How bad a finding is.
#[derive(Copy, Clone, PartialEq, Eq, PartialOrd, Ord, Debug, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// Worth a look.
    Hint,
    /// Probably a mistake.
    Warning,
    /// A mistake.
    Error,
}

impl Severity {
    /// The severity in a word.
    pub const fn name(self) -> &'static str {
        match self {
            Severity::Hint => "hint",
            Severity::Warning => "warning",
            Severity::Error => "error",
        }
    }
}

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
    /// A few lines that have it.
    pub example: &'static str,
    /// The same, mended.
    pub mended: &'static str,
}

/// Makes the table: a kind, its code and severity, then what it is, why it matters, the remedy, and lines that have it
/// beside the same lines mended.
macro_rules! kinds {
    ($($kind:ident = $code:literal, $severity:ident, $title:literal, $why:literal, $remedy:literal, $example:literal, $mended:literal;)*) => {
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
            example: $example,
            mended: $mended,
        },)*];
    };
}

kinds! {
    Preserved = "C101", Error, "a preserved register is not restored",
        "the caller keeps values in registers that the convention preserves, and goes on with a wrong one",
        "save the register first and restore it before the return, or use a scratch register",
        "lamp:   mov rbx, 5\n        ret",
        "lamp:   push rbx\n        mov rbx, 5\n        pop rbx\n        ret";
    Unbalanced = "C102", Error, "the stack is unbalanced at a return",
        "a return takes its address from where the stack pointer is, and finds another value there",
        "take off what was pushed, on every path, before the return",
        "lamp:   push rax\n        ret",
        "lamp:   push rax\n        pop rax\n        ret";
    ReturnAddress = "C103", Error, "the return address was overwritten",
        "the routine returns to an address that no call left",
        "keep stores within the routine's own part of the stack; save the link register before a call",
        "lamp:   bl fog\n        ret",
        "lamp:   stp x29, x30, [sp, #-16]!\n        bl fog\n        ldp x29, x30, [sp], #16\n        ret";
    Misaligned = "C104", Warning, "the stack is misaligned at a call",
        "the convention aligns the stack to 16 bytes at a call, and routines use instructions that need it",
        "push an even number of 8-byte values before the call, or take 8 bytes more",
        "lamp:   push rbx\n        push r12\n        call fog",
        "lamp:   push rbx\n        push r12\n        sub rsp, 8\n        call fog\n        add rsp, 8";
    LostInCall = "C105", Error, "a value is expected to survive a call that changes its register",
        "a routine may change scratch registers; what was there before the call is gone",
        "keep the value in a preserved register or on the stack",
        "lamp:   mov rcx, 3\n        call fog\n        dec rcx\n        jnz lamp",
        "lamp:   mov rbx, 3\n        call fog\n        dec rbx\n        jnz lamp";
    LostInSyscall = "C106", Error, "a value is expected to survive a system call that destroys its register",
        "the instruction that enters the kernel, or the kernel, leaves something else in the register",
        "keep the value in a register that system calls leave alone",
        "        mov ecx, 3\n        syscall\n        dec ecx",
        "        mov ebx, 3\n        syscall\n        dec ebx";
    ContractChange = "C107", Error, "a routine changes a register that its contract does not list",
        "callers rely on the contract, and go on with a wrong value",
        "restore the register, or list it under `changes`",
        ";: changes rcx\nlamp:   mov rdx, 1\n        ret",
        ";: changes rcx, rdx\nlamp:   mov rdx, 1\n        ret";
    ReturnsNotSet = "C108", Error, "a routine does not set what its contract returns",
        "the caller takes what happened to be in the register for the result",
        "set the register on every path, or leave it out of `returns`",
        ";: returns eax = count\nlamp:   ret",
        ";: returns eax = count\nlamp:   mov eax, 1\n        ret";
    DirectionFlag = "C109", Error, "the direction flag is left set",
        "string instructions of every other routine would go backwards",
        "clear it with `cld` before the return",
        "lamp:   std\n        ret",
        "lamp:   std\n        cld\n        ret";
    FlagsNotKept = "C110", Error, "flags that a contract keeps are changed",
        "the caller tests flags of before the call",
        "save the flags first and restore them, or leave them out of `keeps`",
        ";: keeps flags\nlamp:   inc eax\n        ret",
        ";: keeps flags\nlamp:   lea eax, [rax + 1]\n        ret";
    Unset = "C201", Warning, "a register is used that was never set",
        "what is there at the start is no value that the program chose",
        "set the register first",
        "_start: add ebx, 1\n        jz lamp",
        "_start: xor ebx, ebx\n        add ebx, 1\n        jz lamp";
    Unwritten = "C202", Warning, "memory is used that was never written",
        "what is there is no value that the program chose",
        "write the memory before it is read",
        "        sub rsp, 16\n        mov eax, [rsp]\n        test eax, eax\n        jz lamp",
        "        sub rsp, 16\n        mov dword [rsp], 0\n        mov eax, [rsp]\n        test eax, eax\n        jz lamp";
    Stale = "C203", Warning, "memory below the stack pointer is used after a call",
        "a call, and the kernel for a signal, may write below the stack pointer at any time",
        "make room first by moving the stack pointer down",
        "        mov [rsp - 8], rax\n        call fog\n        mov rax, [rsp - 8]",
        "        push rax\n        call fog\n        pop rax";
    UndefinedFlags = "C204", Warning, "flags are tested that an instruction left undefined",
        "processors differ in what they leave in undefined flags",
        "compare again, with an instruction that defines the flag",
        "        mul ecx\n        jz lamp",
        "        mul ecx\n        test eax, eax\n        jz lamp";
    Dividend = "C205", Warning, "a division without its high half prepared",
        "the dividend is twice as wide as the divisor; an old value in its high half makes the quotient wrong or too large",
        "clear the high half for numbers without a sign, extend the sign into it for others",
        "        mov eax, [total]\n        div ecx",
        "        mov eax, [total]\n        xor edx, edx\n        div ecx";
    ShiftCount = "C206", Warning, "a shift by the width or more",
        "the processor takes the count modulo the width, so that the value is not shifted out",
        "compare the count first",
        "        mov ecx, 32\n        shl eax, cl",
        "        mov ecx, 31\n        shl eax, cl";
    UnknownCall = "C301", Warning, "an unknown system call",
        "the kernel answers ENOSYS and does nothing",
        "look the number up: `sotto explain write`",
        "        mov eax, 4000\n        syscall",
        "        mov eax, 1\n        syscall";
    DubiousCall = "C302", Warning, "a system call whose arguments do not go together",
        "the call does something else than was meant, or nothing",
        "see the arguments of the call: `sotto explain write`",
        "        mov edi, 0\n        mov eax, 1\n        syscall",
        "        mov edi, 1\n        mov eax, 1\n        syscall";
    ErrorIgnored = "C303", Hint, "the error of a system call is never looked at",
        "the program goes on as if the call had succeeded",
        "test the result: a negative one is the error's number",
        "        syscall\n        mov eax, 60",
        "        syscall\n        test rax, rax\n        js failed\n        mov eax, 60";
    AcrossVariables = "C401", Warning, "an access reaches across two variables",
        "it reads or writes a part of the neighbour too",
        "use an access as wide as the variable",
        "tide:   .byte 7\ncalls:  .byte 1\n        mov eax, [tide]",
        "tide:   .byte 7\ncalls:  .byte 1\n        movzx eax, byte [tide]";
    PastBuffer = "C402", Error, "a system call writes past a buffer",
        "what lies behind the buffer is overwritten",
        "pass the buffer's size as the count",
        "line:   .skip 8\n        mov edx, 64",
        "line:   .skip 8\n        mov edx, 8";
    RanPast = "C501", Error, "control runs past the last instruction",
        "what follows the code is executed as if it were instructions",
        "end the program with an exit call, and a routine with a return",
        "_start: mov eax, 60",
        "_start: mov eax, 60\n        xor edi, edi\n        syscall";
    Fault = "C502", Error, "the program is stopped by a fault",
        "the kernel ends the program with a signal",
        "step back from the fault: `sotto step`, `resume`, `back`",
        "        mov rax, [0]",
        "        mov rax, [tide]";
    Unused = "C601", Hint, "a label or datum is never used",
        "it may be misspelt elsewhere, or left over",
        "remove it, or make it `.global` if other files use it",
        "tide:   .long 7",
        "tide:   .long 7\n        mov eax, [tide]";
}

impl Kind {
    /// The row of this kind.
    pub fn info(self) -> &'static KindInfo {
        KINDS.iter().find(|info| info.kind == self).expect("every kind has a row")
    }

    /// The row with this code, in any case.
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
