//! Results of A64 instructions, worked out by hand from the pseudocode of the Arm Architecture Reference Manual, section C6.2:
//! at least three for every mnemonic.
//!
//! A row is an instruction, the state before and the state after. What a row does not state is zero before; after the
//! instruction every register, the flags and the memory are as before unless the row states them, and the program counter
//! is at the next instruction.

use std::collections::BTreeMap;

use sotto_asm::{Options, Source, assemble};
use sotto_isa::arm64::{self, Meaning, flag, storage};
use sotto_isa::{Arch, FlagSet, OperandOrder, RegisterId, Storage, decode};
use sotto_machine::{Event, Machine, Permissions, RegionKind};
use sotto_object::{LinkOptions, link};

const DATA: u64 = 0x50_0000;
const STACK: u64 = DATA + 0x800;

/// Instruction | before | after. `code` is the instruction's address, `page` that of its page of 4 KiB, `data` that of `m0`, `m1`, `m2`
/// and `m3`, of 8 bytes each; a minus sign negates.
const ROWS: &str = "
add x0, x1, x2            | x1=-1 x2=1                 | x0=0
add w0, w1, w2            | x1=0xffffffff x2=2         | x0=1
add sp, sp, #16           |                            | sp=stack+16
add x0, x1, w2, sxth #1   | x1=10 x2=0xffff            | x0=8
adds x0, x1, x2           | x1=0x7fffffffffffffff x2=1 | x0=0x8000000000000000 f=NV
adds w0, w1, #1           | x1=0xffffffff              | x0=0 f=ZC
adds x0, x1, #4095        | x1=1 f=NZCV                | x0=4096 f=
sub x0, x1, x2, lsl #4    | x1=0x100 x2=0x10           | x0=0
sub w0, w1, w2            | x1=0 x2=1                  | x0=0xffffffff
sub sp, sp, #32           |                            | sp=stack-32
subs x0, x1, x2           | x1=5 x2=5                  | x0=0 f=ZC
subs x0, x1, x2           | x1=0 x2=1                  | x0=-1 f=N
subs w0, w1, #1           | x1=0x80000000              | x0=0x7fffffff f=CV
cmp x1, x2                | x1=1 x2=2                  | f=N
cmp w1, #0                | x1=0x100000000             | f=ZC
cmp sp, x1                | x1=stack-1                 | f=C
cmn x1, x2                | x1=-1 x2=1                 | f=ZC
cmn w1, #1                | x1=0x7fffffff              | f=NV
cmn x1, #1                | x1=1 f=NZCV                | f=
neg x0, x1                | x1=5                       | x0=-5
neg w0, w1                | x1=1                       | x0=0xffffffff
neg x0, x1, lsl #1        | x1=-3                      | x0=6
negs x0, x1               | x1=0                       | x0=0 f=ZC
negs x0, x1               | x1=0x8000000000000000      | x0=0x8000000000000000 f=NV
negs w0, w1               | x1=1                       | x0=0xffffffff f=N
and x0, x1, x2            | x1=0xff0 x2=0xf0f          | x0=0xf00
and w0, w1, #0x7          | x1=0xfffffffffffffffd      | x0=5
and x0, x1, x2, lsr #60   | x1=-1 x2=-1                | x0=15
ands x0, x1, x2           | x1=1 x2=2 f=CV             | x0=0 f=Z
ands w0, w1, #0x80000000  | x1=-1                      | x0=0x80000000 f=N
ands x0, x1, #1           | x1=3 f=NZCV                | x0=1 f=
tst x1, x2                | x1=1 x2=2 f=C              | f=Z
tst w1, w2                | x1=0x80000000 x2=-1        | f=N
tst x1, #0xff             | x1=1 f=NZCV                | f=
bic x0, x1, x2            | x1=0xff x2=0x0f            | x0=0xf0
bic w0, w1, w2            | x1=-1 x2=1                 | x0=0xfffffffe
bic x0, x1, x2, lsl #8    | x1=0xffff x2=0xff          | x0=0xff
orr x0, x1, x2            | x1=0xf0 x2=0x0f            | x0=0xff
orr w0, w1, #0xf          | x1=0xffffffff00000010      | x0=0x1f
orr x0, x1, x2, lsl #32   | x1=1 x2=2                  | x0=0x200000001
orn x0, x1, x2            | x1=0 x2=-1                 | x0=0
orn w0, w1, w2            | x1=1 x2=0                  | x0=0xffffffff
orn x0, x1, x2            | x1=3 x2=0xf                | x0=0xfffffffffffffff3
eor x0, x1, x2            | x1=-1 x2=-1                | x0=0
eor w0, w1, w2            | x1=0xff x2=0x0f            | x0=0xf0
eor x0, x1, #0xff         | x1=0x100                   | x0=0x1ff
eon x0, x1, x2            | x1=5 x2=5                  | x0=-1
eon w0, w1, w2            | x1=0xff x2=0               | x0=0xffffff00
eon x0, x1, x2            | x1=-1 x2=0                 | x0=0
mvn x0, x1                | x1=0                       | x0=-1
mvn w0, w1                | x1=0xff                    | x0=0xffffff00
mvn x0, x1, lsl #8        | x1=0xff                    | x0=0xffffffffffff00ff
mov x0, x1                | x1=0x123456789             | x0=0x123456789
mov w0, w1                | x1=0x123456789             | x0=0x23456789
mov x0, #-1               |                            | x0=-1
mov x0, sp                |                            | x0=stack
movz x0, #0xffff, lsl #48 | x0=-1                      | x0=0xffff000000000000
movz w0, #7               | x0=-1                      | x0=7
movz x0, #0, lsl #16      | x0=-1                      | x0=0
movn x0, #0               |                            | x0=-1
movn w0, #0xffff, lsl #16 |                            | x0=0xffff
movn x0, #1, lsl #48      |                            | x0=0xfffeffffffffffff
movk x0, #0x1234, lsl #16 | x0=-1                      | x0=0xffffffff1234ffff
movk w0, #5               | x0=0xaaaaaaaabbbbcccc      | x0=0xbbbb0005
movk x0, #0, lsl #48      | x0=-1                      | x0=0xffffffffffff
lsl x0, x1, x2            | x1=1 x2=65                 | x0=2
lsl w0, w1, w2            | x1=3 x2=31                 | x0=0x80000000
lsl x0, x1, #4            | x1=0x8000000000000001      | x0=0x10
lsr x0, x1, #63           | x1=-1                      | x0=1
lsr w0, w1, #4            | x1=0xfffffffff0            | x0=0x0fffffff
lsr x0, x1, x2            | x1=8 x2=67                 | x0=1
asr x0, x1, #1            | x1=-3                      | x0=-2
asr w0, w1, #31           | x1=0x80000000              | x0=0xffffffff
asr x0, x1, x2            | x1=0x4000000000000000 x2=62 | x0=1
madd x0, x1, x2, x3       | x1=3 x2=4 x3=5             | x0=17
madd w0, w1, w2, w3       | x1=0x10000 x2=0x10000 x3=5 | x0=5
madd x0, x1, x2, x3       | x1=-1 x2=-1 x3=-1          | x0=0
msub x0, x1, x2, x3       | x1=7 x2=3 x3=100           | x0=79
msub w0, w1, w2, w3       | x1=1 x2=1 x3=0             | x0=0xffffffff
msub x0, x1, x2, x3       | x1=-1 x2=5 x3=0            | x0=5
mul x0, x1, x2            | x1=-1 x2=3                 | x0=-3
mul w0, w1, w2            | x1=0xffffffff x2=2         | x0=0xfffffffe
mul x0, x1, x2            | x1=0x100000000 x2=0x100000000 | x0=0
sdiv x0, x1, x2           | x1=-7 x2=2                 | x0=-3
sdiv x0, x1, x2           | x1=7 x2=0                  | x0=0
sdiv w0, w1, w2           | x1=0x80000000 x2=0xffffffff | x0=0x80000000
udiv x0, x1, x2           | x1=-1 x2=2                 | x0=0x7fffffffffffffff
udiv w0, w1, w2           | x1=9 x2=0                  | x0=0
udiv x0, x1, x2           | x1=7 x2=8                  | x0=0
csel x0, x1, x2, eq       | x1=1 x2=2 f=Z              | x0=1
csel x0, x1, x2, eq       | x1=1 x2=2                  | x0=2
csel w0, w1, w2, lt       | x1=-1 x2=2 f=V             | x0=0xffffffff
csinc x0, x1, x2, ne      | x1=1 x2=-1 f=Z             | x0=0
csinc x0, x1, x2, ne      | x1=1 x2=-1                 | x0=1
csinc w0, w1, w2, hi      | x1=1 x2=0xffffffff f=ZC    | x0=0
csinv x0, x1, x2, mi      | x1=1 x2=0                  | x0=-1
csinv x0, x1, x2, mi      | x1=1 x2=0 f=N              | x0=1
csinv w0, w1, w2, vs      | x1=1 x2=0                  | x0=0xffffffff
csneg x0, x1, x2, ge      | x1=1 x2=5 f=N              | x0=-5
csneg x0, x1, x2, ge      | x1=1 x2=5 f=NV             | x0=1
csneg w0, w1, w2, ls      | x1=1 x2=1 f=C              | x0=0xffffffff
cset x0, cs               | f=C                        | x0=1
cset w0, cs               | x0=-1                      | x0=0
cset x0, gt               | f=NV                       | x0=1
ldr x0, [x1]              | x1=data m0=0x1122334455667788 | x0=0x1122334455667788
ldr w0, [x1, #4]          | x1=data m0=0x1122334455667788 x0=-1 | x0=0x11223344
ldr x0, [x1], #8          | x1=data m0=7               | x0=7 x1=data+8
ldr x0, [x1, w2, sxtw #3] | x1=data+16 x2=0xffffffff m1=9 | x0=9
ldrb w0, [x1, #7]         | x1=data m0=0xf122334455667788 x0=-1 | x0=0xf1
ldrb w0, [x1, #1]!        | x1=data m0=0x8899          | x0=0x88 x1=data+1
ldrb w0, [x1, x2]         | x1=data x2=8 m1=0x1ff      | x0=0xff
ldrh w0, [x1, #6]         | x1=data m0=0xf122334455667788 x0=-1 | x0=0xf122
ldrh w0, [x1], #-2        | x1=data+8 m1=0x18001       | x0=0x8001 x1=data+6
ldrh w0, [x1, x2, lsl #1] | x1=data x2=4 m1=0xabcde    | x0=0xbcde
ldrsb x0, [x1]            | x1=data m0=0x80            | x0=0xffffffffffffff80
ldrsb w0, [x1]            | x1=data m0=0x80            | x0=0xffffff80
ldrsb x0, [x1, #1]        | x1=data m0=0x7f80          | x0=0x7f
ldrsh x0, [x1]            | x1=data m0=0x8000          | x0=0xffffffffffff8000
ldrsh w0, [x1]            | x1=data m0=0x8000          | x0=0xffff8000
ldrsh x0, [x1, #2]        | x1=data m0=0x7fff8000      | x0=0x7fff
ldrsw x0, [x1]            | x1=data m0=0x80000000      | x0=0xffffffff80000000
ldrsw x0, [x1, #4]        | x1=data m0=0x7fffffff00000000 | x0=0x7fffffff
ldrsw x0, [x1, #8]!       | x1=data m1=0xffffffff      | x0=-1 x1=data+8
ldur x0, [x1, #-8]        | x1=data+8 m0=3             | x0=3
ldur w0, [x1, #1]         | x1=data m0=0x1122334455667788 | x0=0x44556677
ldur x0, [x1, #255]       | x1=data-247 m1=4           | x0=4
ldurb w0, [x1, #-1]       | x1=data+1 m0=0xfe          | x0=0xfe
ldurb w0, [x1, #-8]       | x1=data+8 m0=0x1ff         | x0=0xff
ldurb w0, [x1, #3]        | x1=data m0=0x99000000      | x0=0x99
ldurh w0, [x1, #-1]       | x1=data+1 m0=0xfedc        | x0=0xfedc
ldurh w0, [x1, #1]        | x1=data m0=0x123456        | x0=0x1234
ldurh w0, [x1, #-8]       | x1=data+8 m0=0x18000       | x0=0x8000
ldursb x0, [x1, #-1]      | x1=data+1 m0=0xfe          | x0=-2
ldursb w0, [x1, #-1]      | x1=data+1 m0=0xfe          | x0=0xfffffffe
ldursb x0, [x1, #1]       | x1=data m0=0x7f00          | x0=0x7f
ldursh x0, [x1, #-1]      | x1=data+1 m0=0xfffe        | x0=-2
ldursh w0, [x1, #-1]      | x1=data+1 m0=0xfffe        | x0=0xfffffffe
ldursh x0, [x1, #1]       | x1=data m0=0x7fff00        | x0=0x7fff
ldursw x0, [x1, #-1]      | x1=data+1 m0=0xfffffffe    | x0=-2
ldursw x0, [x1, #1]       | x1=data m0=0x7fffffff00    | x0=0x7fffffff
ldursw x0, [x1, #-4]      | x1=data+8 m0=0x8000000000000000 | x0=0xffffffff80000000
str x0, [x1, #8]          | x0=0x1122334455667788 x1=data m1=-1 | m1=0x1122334455667788
str w0, [x1]              | x0=0x1122334455667788 x1=data m0=-1 | m0=0xffffffff55667788
str xzr, [x1, #-8]!       | x1=data+16 m1=-1           | m1=0 x1=data+8
strb w0, [x1, #1]         | x0=0x1122 x1=data m0=-1    | m0=0xffffffffffff22ff
strb w0, [x1], #1         | x0=7 x1=data               | m0=7 x1=data+1
strb wzr, [x1, x2]        | x1=data x2=15 m1=-1        | m1=0x00ffffffffffffff
strh w0, [x1, #2]         | x0=0x112233 x1=data m0=-1  | m0=0xffffffff2233ffff
strh w0, [x1, #-2]!       | x0=-1 x1=data+8            | m0=0xffff000000000000 x1=data+6
strh w0, [x1, w2, uxtw #1] | x0=5 x1=data x2=4         | m1=5
stur x0, [x1, #-8]        | x0=6 x1=data+8             | m0=6
stur w0, [x1, #2]         | x0=-1 x1=data              | m0=0x0000ffffffff0000
stur x0, [x1, #4]         | x0=-1 x1=data              | m0=0xffffffff00000000 m1=0xffffffff
sturb w0, [x1, #-1]       | x0=0x1ff x1=data+8         | m0=0xff00000000000000
sturb w0, [x1, #9]        | x0=2 x1=data               | m1=0x200
sturb wzr, [x1, #-8]      | x1=data+8 m0=-1            | m0=0xffffffffffffff00
sturh w0, [x1, #-1]       | x0=0x12345 x1=data+2       | m0=0x234500
sturh w0, [x1, #7]        | x0=0x1122 x1=data          | m0=0x2200000000000000 m1=0x11
sturh wzr, [x1, #-2]      | x1=data+2 m0=-1            | m0=0xffffffffffff0000
ldp x0, x2, [x1]          | x1=data m0=1 m1=2          | x0=1 x2=2
ldp w0, w2, [x1, #8]      | x1=data m1=0x1111111122222222 x0=-1 | x0=0x22222222 x2=0x11111111
ldp x0, x2, [x1], #16     | x1=data m0=3 m1=4          | x0=3 x2=4 x1=data+16
stp x0, x2, [x1, #16]     | x0=1 x2=2 x1=data          | m2=1 m3=2
stp w0, w2, [x1]          | x0=-1 x2=1 x1=data         | m0=0x1ffffffff
stp x0, xzr, [x1, #-16]!  | x0=5 x1=data+16 m1=-1      | m0=5 m1=0 x1=data
adr x0, . + 12            |                            | x0=code+12
adr x0, . - 4             |                            | x0=code-4
adr x0, .                 | x0=-1                      | x0=code
adrp x0, _start           |                            | x0=page
adrp x0, _start + 4096    | x0=-1                      | x0=page+4096
adrp x0, _start - 4096    | x0=-1                      | x0=page-4096
b . + 8                   |                            | pc=code+8
b . - 4                   |                            | pc=code-4
b .                       | f=NZCV                     | pc=code
cbz x0, . + 8             |                            | pc=code+8
cbz x0, . + 8             | x0=0x100000000             |
cbz w0, . + 8             | x0=0x100000000             | pc=code+8
cbnz x0, . + 8            |                            |
cbnz x0, . - 8            | x0=0x100000000             | pc=code-8
cbnz w0, . + 8            | x0=0x100000000             |
tbz x0, #63, . + 8        | x0=0x7fffffffffffffff      | pc=code+8
tbz x0, #63, . + 8        | x0=0x8000000000000000      |
tbz w0, #0, . + 8         | x0=2                       | pc=code+8
tbnz x0, #63, . + 8       | x0=0x7fffffffffffffff      |
tbnz x0, #63, . + 8       | x0=0x8000000000000000      | pc=code+8
tbnz w0, #31, . - 4       | x0=0x80000000              | pc=code-4
bl . + 8                  |                            | pc=code+8 x30=code+4
bl . - 8                  | x30=-1                     | pc=code-8 x30=code+4
bl . + 4                  | f=NZCV                     | x30=code+4
br x0                     | x0=code+16                 | pc=code+16
br x0                     | x0=code f=NZCV             | pc=code
br x30                    | x30=code-8                 | pc=code-8
blr x0                    | x0=code+16                 | pc=code+16 x30=code+4
blr x30                   | x30=code+8                 | pc=code+8 x30=code+4
blr x0                    | x0=code+4                  | x30=code+4
ret                       | x30=code+8                 | pc=code+8
ret x1                    | x1=code-4                  | pc=code-4
ret                       | x30=code f=NZCV            | pc=code
nop                       |                            |
nop                       | f=NZCV                     |
nop                       | x0=-1 x30=-1               |
hint #1                   |                            |
hint #3                   | f=NZCV                     |
hint #34                  | x0=-1 x30=-1               |
svc #0                    |                            | event=Syscall
svc #1                    | f=NZCV                     | event=Syscall
svc #65535                | x8=93                      | event=Syscall
brk #0                    |                            | pc=code event=Fault
brk #1                    | f=NZCV                     | pc=code event=Fault
brk #65535                | x0=-1                      | pc=code event=Fault
udf #0                    |                            | pc=code event=Fault
udf #1                    | f=NZCV                     | pc=code event=Fault
udf #65535                | x0=-1                      | pc=code event=Fault
";

/// Registers by name, `m0` to `m3`, `mark` for the address that is marked for exclusive access plus 1, and `f` with the flags as bits.
type State = BTreeMap<String, u128>;

/// The rows here, and those of what came after the integer core.
fn rows() -> impl Iterator<Item = &'static str> {
    const MORE: &str = include_str!("../../../tests/data/arm64/results.txt");
    ROWS.lines().chain(MORE.lines()).filter(|row| !row.is_empty() && !row.starts_with('#'))
}

fn flags(text: &str) -> FlagSet {
    text.chars().fold(FlagSet::NONE, |set, letter| {
        set.with(match letter {
            'N' => flag::N,
            'Z' => flag::Z,
            'C' => flag::C,
            'V' => flag::V,
            _ => panic!("{letter} is no flag"),
        })
    })
}

/// The flags as a number with a bit for each.
fn flag_bits(set: FlagSet) -> u64 {
    [flag::N, flag::Z, flag::C, flag::V]
        .into_iter()
        .fold(0, |bits, flag| bits << 1 | u64::from(set.contains(flag)))
}

/// What `-5`, `0x10`, `data+8` or `code` stands for.
fn value(text: &str, code: u64) -> u64 {
    let number = |text: &str| match text.strip_prefix("0x") {
        Some(digits) => u64::from_str_radix(digits, 16).expect("a number"),
        None => text.parse().expect("a number"),
    };
    let base = [("data", DATA), ("stack", STACK), ("code", code), ("page", code & !0xfff)];
    let found = base.into_iter().find_map(|(name, at)| Some((text.strip_prefix(name)?, at)));
    let (rest, base) = found.unwrap_or((text, 0));
    match (rest.strip_prefix('-'), rest.strip_prefix('+')) {
        (Some(less), _) => base.wrapping_sub(number(less)),
        (_, Some(more)) => base + number(more),
        _ if rest.is_empty() => base,
        _ => number(rest),
    }
}

/// The value of a vector register.
fn vector(text: &str) -> u128 {
    match (text.strip_prefix("0x"), text) {
        (Some(digits), _) => u128::from_str_radix(digits, 16).expect("a number"),
        (None, "-1") => u128::MAX,
        _ => text.parse().expect("a number"),
    }
}

struct Bench {
    machine: Machine,
    code: u64,
}

impl Bench {
    /// A machine at one instruction, with room before and after it.
    fn new(instruction: &str) -> Bench {
        let text =
            format!(" .target arm64\n .global _start\n nop\n nop\n_start: {instruction}\n nop\n");
        let source = Source { name: "lamp.s".into(), text: text.into() };
        let assembled = assemble(&source, &Options::default());
        let object = assembled.object.unwrap_or_else(|| panic!("{:?}", assembled.diagnostics));
        let image = link(&[object], &LinkOptions::default()).expect("it links");
        let mut machine = Machine::new(Arch::Arm64);
        let permissions = Permissions { read: true, write: true, execute: true };
        let page = image.entry & !0xfff;
        machine.memory_mut().map(RegionKind::Code, page, 0x1000, permissions).expect("it is free");
        machine.memory_mut().map(RegionKind::Data, DATA, 0x1000, permissions).expect("it is free");
        for segment in &image.segments {
            machine.memory_mut().load(segment.address, &segment.data).expect("it is mapped");
        }
        machine.set_register(Storage(31), STACK);
        machine.set_register(Arch::Arm64.pc(), image.entry);
        Bench { machine, code: image.entry }
    }

    fn set(&mut self, name: &str, text: &str) {
        if name == "f" {
            return self.machine.set_flags(flags(text));
        }
        if let Some(number) = name.strip_prefix('v') {
            let id = RegisterId::vector(number.parse().expect("a number"));
            return self.machine.set_bank_register(id, vector(text).into());
        }
        let value = value(text, self.code);
        match (name, name.split_at(1)) {
            ("sp", _) => self.machine.set_register(Storage(31), value),
            ("pc", _) => self.machine.set_register(Arch::Arm64.pc(), value),
            ("fpcr", _) => self.machine.set_register(storage::FPCR, value),
            ("mark", _) => self.machine.set_register(storage::EXCLUSIVE, value),
            (_, ("x", number)) => {
                self.machine.set_register(Storage(number.parse().expect("a number")), value);
            }
            (_, ("m", number)) => {
                let at = DATA + 8 * number.parse::<u64>().expect("a number");
                self.machine.memory_mut().load(at, &value.to_le_bytes()).expect("it is mapped");
            }
            _ => panic!("{name} is nothing that a row states"),
        }
    }

    fn state(&self) -> State {
        let mut state = State::new();
        for number in 0..31 {
            state.insert(format!("x{number}"), self.machine.register(Storage(number)).into());
        }
        for number in 0..32 {
            let value = self.machine.bank_register(RegisterId::vector(number));
            state.insert(format!("v{number}"), value.low_128());
        }
        let others = [
            ("sp", storage::SP),
            ("pc", storage::PC),
            ("fpcr", storage::FPCR),
            ("fpsr", storage::FPSR),
            ("mark", storage::EXCLUSIVE),
        ];
        for (name, storage) in others {
            state.insert(name.into(), self.machine.register(storage).into());
        }
        state.insert("f".into(), flag_bits(self.machine.flags()).into());
        for number in 0..4 {
            let mut bytes = [0; 8];
            let at = DATA + 8 * number;
            self.machine.memory().read_bytes(at, &mut bytes).expect("it is mapped");
            state.insert(format!("m{number}"), u64::from_le_bytes(bytes).into());
        }
        state
    }
}

fn statements(text: &str) -> impl Iterator<Item = (&str, &str)> {
    text.split_whitespace().map(|word| word.split_once('=').expect("name=value"))
}

#[test]
fn each_instruction_gives_what_the_manual_says() {
    for row in rows() {
        let [instruction, before, after] =
            row.split('|').collect::<Vec<_>>().try_into().expect("three parts");
        let mut bench = Bench::new(instruction);
        for (name, text) in statements(before) {
            bench.set(name, text);
        }
        let mut wanted = bench.state();
        wanted.insert("pc".into(), u128::from(bench.code + 4));
        let mut event = None;
        for (name, text) in statements(after) {
            match name {
                "event" => event = Some(text),
                "f" => _ = wanted.insert("f".into(), flag_bits(flags(text)).into()),
                _ if name.starts_with('v') => _ = wanted.insert(name.into(), vector(text)),
                _ => _ = wanted.insert(name.into(), value(text, bench.code).into()),
            }
        }
        let stopped = bench.machine.step().event;
        if let Some(call @ Event::Syscall) = stopped {
            bench.machine.complete_syscall(call);
        }
        let happened = stopped.map(|event| format!("{event:?}"));
        assert_eq!(bench.state(), wanted, "{row}");
        let alike = match (&happened, event) {
            (Some(happened), Some(event)) => happened.starts_with(event),
            (happened, event) => happened.is_none() && event.is_none(),
        };
        assert!(alike, "{row}: {happened:?}");
    }
}

/// Whether a condition holds for N, Z, C and V.
type Condition = fn(bool, bool, bool, bool) -> bool;

/// The conditions of section C1.2.4.
const CONDITIONS: [(&str, Condition); 18] = [
    ("eq", |_, z, _, _| z),
    ("ne", |_, z, _, _| !z),
    ("cs", |_, _, c, _| c),
    ("hs", |_, _, c, _| c),
    ("cc", |_, _, c, _| !c),
    ("lo", |_, _, c, _| !c),
    ("mi", |n, _, _, _| n),
    ("pl", |n, _, _, _| !n),
    ("vs", |_, _, _, v| v),
    ("vc", |_, _, _, v| !v),
    ("hi", |_, z, c, _| c && !z),
    ("ls", |_, z, c, _| !c || z),
    ("ge", |n, _, _, v| n == v),
    ("lt", |n, _, _, v| n != v),
    ("gt", |n, z, _, v| !z && n == v),
    ("le", |n, z, _, v| z || n != v),
    ("al", |_, _, _, _| true),
    ("nv", |_, _, _, _| true),
];

#[test]
fn conditions_hold_for_the_flags_that_the_manual_says() {
    for (name, holds) in CONDITIONS {
        for number in 0..16 {
            let bits = [8, 4, 2, 1].map(|bit| number & bit != 0);
            let [n, z, c, v] = bits;
            let text: String = "NZCV"
                .chars()
                .zip(bits)
                .filter(|(_, set)| *set)
                .map(|(letter, _)| letter)
                .collect();
            let mut bench = Bench::new(&format!("b.{name} . + 8"));
            bench.set("f", &text);
            let mut wanted = bench.state();
            let pc = bench.code + if holds(n, z, c, v) { 8 } else { 4 };
            wanted.insert("pc".into(), pc.into());
            assert_eq!(bench.machine.step().event, None);
            assert_eq!(bench.state(), wanted, "b.{name} with {text}");
        }
    }
}

/// What is tested element by element against a reference, in `arm64_vectors.rs`.
fn has_reference(meaning: Meaning) -> bool {
    use sotto_isa::arm64::vector::Vector as V;
    matches!(
        meaning,
        Meaning::Vector(
            V::Lanes { .. }
                | V::Pairwise(_)
                | V::Across(_)
                | V::AcrossLong { .. }
                | V::PairsLong { .. }
                | V::NarrowHigh { .. }
                | V::PolynomialMulWide
                | V::Dot { .. }
                | V::Reverse(_)
                | V::Permute(_)
                | V::Extract
                | V::Table { .. }
                | V::Duplicate
                | V::Insert
                | V::ToGeneral { .. }
                | V::Immediate { .. }
                | V::WithImmediate { .. }
                | V::Crypto(_)
        )
    )
}

/// The meaning without the width of its access: rows of one meaning at several widths count together.
fn key(meaning: Meaning) -> String {
    let text = format!("{meaning:?}");
    let pieces = text.split_inclusive([',', ' ', '}']);
    pieces.filter(|piece| !(piece.starts_with('W') && piece[1..2].parse::<u8>().is_ok())).collect()
}

#[test]
fn every_meaning_has_three_rows() {
    let mut by_name: BTreeMap<&str, Vec<String>> = BTreeMap::new();
    let mut counts: BTreeMap<String, usize> = BTreeMap::new();
    for form in (0..arm64::form_count()).map(arm64::form) {
        let key = key(form.meaning);
        for name in [form.mnemonic].into_iter().chain(form.aliases.iter().copied()) {
            by_name.entry(name).or_default().push(key.clone());
        }
        // Each condition has its sixteen results above.
        if !matches!(form.meaning, Meaning::BranchIf(_)) && !has_reference(form.meaning) {
            counts.insert(key, 0);
        }
    }
    for row in rows() {
        let text = row.split('|').next().expect("an instruction");
        let order = OperandOrder::DestinationFirst;
        let name = text.split_whitespace().next().expect("a mnemonic");
        // A name of several meanings is counted by what its operands make of it.
        let keys = &by_name[name];
        let key = match keys.iter().all(|key| *key == keys[0]) {
            true => keys[0].clone(),
            false => {
                let bytes = sotto_asm::assemble_instruction(Arch::Arm64, order, text, 0)
                    .unwrap_or_else(|error| panic!("{text}: {}", error.message));
                key(arm64::form(decode(Arch::Arm64, &bytes, 0).expect("a row").form).meaning)
            }
        };
        if let Some(count) = counts.get_mut(&key) {
            *count += 1;
        }
    }
    let few: Vec<_> = counts.iter().filter(|(_, count)| **count < 3).collect();
    assert!(few.is_empty(), "fewer than three rows: {few:?}");
}
