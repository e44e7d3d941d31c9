//! A bounded run of the fuzz targets' bodies, on inputs made at random.

use rand::rngs::SmallRng;
use rand::seq::IndexedRandom;
use rand::{Rng, SeedableRng};
use sotto_asm::{Options, Source, assemble};
use sotto_isa::Arch;
use sotto_object::{LinkOptions, link, write_executable, write_object};

#[path = "../../../tests/hostile.rs"]
mod hostile;

/// How many inputs each test makes.
fn rounds() -> u64 {
    std::env::var("SOTTO_HOSTILE").ok().and_then(|n| n.parse().ok()).unwrap_or(1500)
}

/// The language's words, and some that are nearly.
const WORDS: &[&str] = &[
    ".macro",
    ".endm",
    ".if",
    ".ifdef",
    ".ifndef",
    ".elseif",
    ".else",
    ".endif",
    ".rept",
    ".irp",
    ".endr",
    ".include",
    ".incbin",
    "\"a\"",
    "\"c\"",
    "\"none\"",
    ".data",
    ".text",
    ".bss",
    ".rodata",
    ".section",
    "\"aw\"",
    "\"ax\"",
    "@nobits",
    ".previous",
    ".byte",
    ".word",
    ".long",
    ".quad",
    ".octa",
    ".float",
    ".double",
    ".ascii",
    ".asciz",
    "db",
    "dq",
    ".zero",
    ".skip",
    ".fill",
    ".align",
    ".p2align",
    ".org",
    ".global",
    ".extern",
    ".weak",
    ".local",
    ".hidden",
    ".type",
    "@function",
    ".size",
    ".comm",
    ".equ",
    ".set",
    "equ",
    "=",
    ":",
    ",",
    "(",
    ")",
    "[",
    "]",
    "+",
    "-",
    "*",
    "/",
    "%",
    "<<",
    "&&",
    "==",
    "!",
    "~",
    "$",
    ".",
    "0",
    "1",
    "2",
    "-1",
    "8",
    "0x7fffffff",
    "0xffffffffffffffff",
    "0x7fffffffffffffffffffffffffffffff",
    "1.5",
    "'x'",
    "\"fog\"",
    "\"\\n\"",
    "lamp",
    "lamp:",
    "fog",
    "fog:",
    ".loop",
    ".loop:",
    "1:",
    "1b",
    "1f",
    "_start:",
    "_start",
    "\\n",
    "\\n\\()x",
    "\\@",
    "n",
    "n=1",
    "n:vararg",
    "flash",
    "\\",
    "mov",
    "add",
    "lea",
    "jmp",
    "jz",
    "call",
    "push",
    "ret",
    "eax",
    "rbx",
    "al",
    "%eax",
    "$5",
    "8(%rax)",
    "*%rax",
    "movl",
    "qword",
    "offset",
    "x0",
    "w1",
    "sp",
    "ldr",
    "adrp",
    "b.eq",
    "bl",
    "#1",
    "=lamp",
    ":lo12:lamp",
    "lamp@plt",
    "lamp@gotpcrel",
    ".cfi_startproc",
    ".cfi_endproc",
    ".cfi_def_cfa_offset",
    ".ltorg",
    ".att_syntax",
    ".intel_syntax",
    ".operands",
    ";",
    "/*",
    "*/",
    "//",
    "\u{e9}",
    "\u{feff}",
];

#[test]
fn any_words_in_any_order_are_assembled_or_refused() {
    for seed in 0..rounds() {
        let mut rng = SmallRng::seed_from_u64(seed);
        let mut text = String::new();
        for _ in 0..rng.random_range(1..14) {
            for _ in 0..rng.random_range(0..6) {
                text.push_str(WORDS.choose(&mut rng).unwrap());
                if rng.random_ratio(4, 5) {
                    text.push(' ');
                }
            }
            text.push('\n');
        }
        hostile::text(&text);
    }
}

/// A sound program with everything in it.
const SOUND: &str = "\
        .global _start, lamp
        .weak spare
        .macro flash n, pause=2
        mov ecx, \\n
.again: dec ecx
        jnz .again
        .endm
        .data
lamp:   .long 4, lamp_end - lamp
table:  .quad lamp, _start + 4
lamp_end:
        .comm log, 64, 16
        .text
_start: push rbx
        flash 3
        .rept 2
        call fog
        .endr
        lea rdi, [lamp]
        mov rax, [rip + lamp@gotpcrel]
        .if lamp_end - lamp > 8
        nop
        .endif
        pop rbx
        .p2align 4
fog:    ret
";

#[test]
fn a_sound_program_with_lines_and_letters_changed_is_assembled_or_refused() {
    for seed in 0..rounds() {
        let mut rng = SmallRng::seed_from_u64(seed);
        let mut lines: Vec<String> = SOUND.lines().map(str::to_string).collect();
        for _ in 0..rng.random_range(1..5) {
            let (a, b) = (rng.random_range(0..lines.len()), rng.random_range(0..lines.len()));
            match rng.random_range(0..4) {
                0 => lines.swap(a, b),
                1 => lines[a] = lines[b].clone(),
                2 => {
                    lines.remove(a);
                }
                _ => {
                    let at = rng.random_range(0..=lines[a].len());
                    let word = WORDS.choose(&mut rng).unwrap();
                    lines[a].insert_str(at, word);
                }
            }
            if lines.len() < 2 {
                break;
            }
        }
        hostile::text(&(lines.join("\n") + "\n"));
    }
}

#[test]
fn files_with_bytes_changed_are_read_or_refused() {
    let source = Source { name: "fog.s".into(), text: SOUND.into() };
    let object = assemble(&source, &Options::for_target(Arch::X86_64)).object.expect("it is sound");
    let elf = write_object(&object).unwrap();
    let program = write_executable(&link(&[object], &LinkOptions::default()).unwrap());
    let mut archive = b"!<arch>\n".to_vec();
    for name in ["fog.o/", "lamp.o/"] {
        archive.extend(
            format!("{name:<16}{:<12}{:<6}{:<6}{:<8}{:<10}`\n", 0, 0, 0, 644, elf.len()).bytes(),
        );
        archive.extend(&elf);
        archive.resize(archive.len().next_multiple_of(2), b'\n');
    }
    let sound = [elf, program, archive];
    for seed in 0..rounds() {
        let mut rng = SmallRng::seed_from_u64(seed);
        let mut bytes = sound[seed as usize % sound.len()].clone();
        for _ in 0..rng.random_range(1..6) {
            let at = rng.random_range(0..bytes.len());
            match rng.random_range(0..4) {
                0 => bytes[at] = rng.random(),
                1 => bytes[at] ^= 1 << rng.random_range(0..8),
                // Numbers that make ranges overflow.
                2 => {
                    let end = (at + 8).min(bytes.len());
                    bytes[at..end].fill(0xff);
                }
                _ => bytes.truncate(at.max(1)),
            }
        }
        hostile::file(&bytes);
    }
}

/// Bytes at random, with the prefixes and the opcode maps that such bytes seldom have in a row.
#[test]
fn any_bytes_are_an_instruction_that_reads_back_or_none() {
    const STARTS: [&[u8]; 12] = [
        &[],
        &[0x66],
        &[0xf2],
        &[0xf3],
        &[0xf0],
        &[0x0f],
        &[0x66, 0x0f],
        &[0xf3, 0x0f],
        &[0xf2, 0x48, 0x0f],
        &[0x66, 0x0f, 0x38],
        &[0x66, 0x0f, 0x3a],
        &[0xc4, 0xe2],
    ];
    for seed in 0..40 * rounds() {
        let mut rng = SmallRng::seed_from_u64(seed);
        let mut bytes = STARTS[seed as usize % STARTS.len()].to_vec();
        bytes.extend(rng.random::<[u8; 15]>());
        bytes.truncate(rng.random_range(1..=16));
        hostile::code(&bytes);
    }
}
