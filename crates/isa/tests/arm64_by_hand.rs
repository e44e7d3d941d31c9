//! One word of every A64 mnemonic, worked out from the manual's encoding diagrams, and read back to
//! the text a person would write.

use sotto_isa::{Arch, NoNames, arm64, decode, form_docs, mnemonics};

const AT: u64 = 0x1000;

const CASES: &[(u32, &str)] = &[
    // C4.1, Data Processing -- Immediate
    (0x1000_0041, "adr x1, 0x1008"),
    (0x1100_0400, "add w0, w0, #1"),
    (0xb100_07e1, "adds x1, sp, #1"),
    (0xd100_83ff, "sub sp, sp, #32"),
    (0x7100_0420, "subs w0, w1, #1"),
    (0xf100_141f, "cmp x0, #5"),
    (0x3100_041f, "cmn w0, #1"),
    (0x1200_1c20, "and w0, w1, #255"),
    (0xb240_0020, "orr x0, x1, #1"),
    (0xd240_0c20, "eor x0, x1, #15"),
    (0xf240_0020, "ands x0, x1, #1"),
    (0x7200_001f, "tst w0, #1"),
    (0x5280_0540, "mov w0, #42"),
    (0xd2a0_0000, "movz x0, #0, lsl #16"),
    (0x92a0_0000, "movn x0, #0, lsl #16"),
    (0xf2e0_0020, "movk x0, #1, lsl #48"),
    (0xd37c_ec20, "lsl x0, x1, #4"),
    (0x5304_7c20, "lsr w0, w1, #4"),
    (0x9344_fc20, "asr x0, x1, #4"),
    // Branches, exception generation
    (0x5400_0040, "b.eq 0x1008"),
    (0x17ff_ffff, "b 0xffc"),
    (0x9400_0002, "bl 0x1008"),
    (0x3400_0043, "cbz w3, 0x1008"),
    (0xb500_0043, "cbnz x3, 0x1008"),
    (0x3628_0043, "tbz w3, #5, 0x1008"),
    (0xb728_0043, "tbnz x3, #37, 0x1008"),
    (0xd61f_0060, "br x3"),
    (0xd63f_0060, "blr x3"),
    (0xd65f_03c0, "ret"),
    (0xd65f_0060, "ret x3"),
    (0xd503_201f, "nop"),
    (0xd503_245f, "hint #34"),
    (0xd400_0001, "svc #0"),
    (0xd420_0020, "brk #1"),
    (0x0000_0007, "udf #7"),
    // Loads and stores
    (0xb940_0841, "ldr w1, [x2, #8]"),
    (0xf81f_8041, "stur x1, [x2, #-8]"),
    (0xf85f_8041, "ldur x1, [x2, #-8]"),
    (0x3940_0041, "ldrb w1, [x2]"),
    (0x3800_0441, "strb w1, [x2], #0"),
    (0x7940_0041, "ldrh w1, [x2]"),
    (0x7900_0041, "strh w1, [x2]"),
    (0x3980_0041, "ldrsb x1, [x2]"),
    (0x79c0_0041, "ldrsh w1, [x2]"),
    (0xb980_0041, "ldrsw x1, [x2]"),
    (0x385f_f041, "ldurb w1, [x2, #-1]"),
    (0x381f_f041, "sturb w1, [x2, #-1]"),
    (0x785f_e041, "ldurh w1, [x2, #-2]"),
    (0x781f_e041, "sturh w1, [x2, #-2]"),
    (0x389f_f041, "ldursb x1, [x2, #-1]"),
    (0x78df_e041, "ldursh w1, [x2, #-2]"),
    (0xb89f_c041, "ldursw x1, [x2, #-4]"),
    (0x5800_0041, "ldr x1, 0x1008"),
    (0xf900_0be1, "str x1, [sp, #16]"),
    (0xa941_0be1, "ldp x1, x2, [sp, #16]"),
    (0x2901_0be1, "stp w1, w2, [sp, #8]"),
    // The page two pages on, and the page before.
    (0xd000_0001, "adrp x1, 0x3000"),
    (0xf0ff_ffe2, "adrp x2, 0x0"),
    // Data Processing -- Register
    (0x0b02_0020, "add w0, w1, w2"),
    (0x8b22_6020, "add x0, x1, x2, uxtx"),
    (0xcb02_0820, "sub x0, x1, x2, lsl #2"),
    (0x4b02_03e0, "neg w0, w2"),
    (0xeb02_03e0, "negs x0, x2"),
    (0x0a02_0020, "and w0, w1, w2"),
    (0x8a22_0020, "bic x0, x1, x2"),
    (0xaa22_0020, "orn x0, x1, x2"),
    (0xca22_0020, "eon x0, x1, x2"),
    (0xaa22_03e0, "mvn x0, x2"),
    (0xaa02_03e0, "mov x0, x2"),
    (0x1ac2_0820, "udiv w0, w1, w2"),
    (0x9ac2_0c20, "sdiv x0, x1, x2"),
    (0x9ac2_2020, "lsl x0, x1, x2"),
    (0x9b02_7c20, "mul x0, x1, x2"),
    (0x9b02_0c20, "madd x0, x1, x2, x3"),
    (0x1b02_8c20, "msub w0, w1, w2, w3"),
    (0x9a82_0020, "csel x0, x1, x2, eq"),
    (0x9a82_1420, "csinc x0, x1, x2, ne"),
    (0xda82_b020, "csinv x0, x1, x2, lt"),
    (0x5a82_c420, "csneg w0, w1, w2, gt"),
    (0x9a9f_07e0, "cset x0, ne"),
];

#[test]
fn words_by_hand_read_as_the_manual_says() {
    for (word, wanted) in CASES {
        let instruction = decode(Arch::Arm64, &word.to_le_bytes(), AT)
            .unwrap_or_else(|error| panic!("{word:#010x} {wanted}: {error}"));
        assert_eq!(instruction.print(&NoNames), *wanted, "{word:#010x}");
    }
}

#[test]
fn the_cases_name_every_mnemonic_of_the_table_but_the_conditions() {
    let named: std::collections::HashSet<&str> =
        CASES.iter().map(|(_, text)| text.split(' ').next().unwrap()).collect();
    for name in mnemonics(Arch::Arm64) {
        let preferred = form_docs(Arch::Arm64, name)[0].mnemonic;
        let covered = named.contains(preferred) || preferred.starts_with("b.");
        assert!(covered, "{preferred} has no worked example");
    }
}

#[test]
fn conditional_branches_by_their_encodings() {
    for cond in 0..16u8 {
        let word = 0x5400_0040 | u32::from(cond);
        let instruction = decode(Arch::Arm64, &word.to_le_bytes(), AT).unwrap();
        assert_eq!(instruction.mnemonic(), format!("b.{}", arm64::condition_name(cond)));
        assert_eq!(arm64::condition_by_name(arm64::condition_name(cond)), Some(cond));
    }
    assert_eq!(arm64::condition_by_name("hs"), Some(2));
    assert_eq!(arm64::condition_by_name("lo"), Some(3));
    assert_eq!(arm64::condition_by_name("xx"), None);
}

#[test]
fn reserved_words_are_refused() {
    // A shift of a 32-bit register by 32 or more, an extension by more than 4, bitmasks of nothing.
    for word in [0x0b02_8020u32, 0x8b22_7420, 0x1240_0020, 0x9240_fc20, 0x5300_8020, 0xffff_ffff] {
        assert!(decode(Arch::Arm64, &word.to_le_bytes(), AT).is_err(), "{word:#010x}");
    }
}
