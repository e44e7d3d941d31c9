//! Encodings worked out by hand from the manual's diagrams.

use super::*;
use crate::{Extend, FlagSet, IndexMode, Mem, NoNames, Operand, Reg, Shift, Value};

fn reg(name: &str) -> Operand {
    Operand::Reg(parse(name))
}

fn parse(name: &str) -> Reg {
    Reg::parse(crate::Arch::Arm64, name).unwrap()
}

fn imm(value: i64) -> Operand {
    Operand::Imm(Value::Known(value))
}

fn mem(base: &str, disp: i64, mode: IndexMode) -> Operand {
    Operand::Mem(Mem { mode, ..Mem::base_disp(parse(base), disp) })
}

#[test]
fn words_by_hand_and_back_to_text() {
    let offset = IndexMode::Offset;
    let cases: &[(&str, &[Operand], u32, &str)] = &[
        ("add", &[reg("x0"), reg("x1"), imm(5)], 0x9100_1420, "add x0, x1, #5"),
        ("add", &[reg("x0"), reg("x1"), imm(0x5000)], 0x9140_1420, "add x0, x1, #5, lsl #12"),
        ("add", &[reg("sp"), reg("sp"), imm(16)], 0x9100_43ff, "add sp, sp, #16"),
        ("sub", &[reg("w0"), reg("w1"), reg("w2")], 0x4b02_0020, "sub w0, w1, w2"),
        ("cmp", &[reg("x0"), imm(0)], 0xf100_001f, "cmp x0, #0"),
        ("mov", &[reg("x0"), reg("x1")], 0xaa01_03e0, "mov x0, x1"),
        ("mov", &[reg("x29"), reg("sp")], 0x9100_03fd, "mov x29, sp"),
        ("mov", &[reg("x0"), imm(1)], 0xd280_0020, "mov x0, #1"),
        ("mov", &[reg("w0"), imm(-1)], 0x1280_0000, "mov w0, #-1"),
        (
            "mov",
            &[reg("x0"), imm(0x5555_5555_5555_5555)],
            0xb200_f3e0,
            "mov x0, #0x5555555555555555",
        ),
        (
            "movk",
            &[reg("x0"), Operand::ShiftedImm(Value::Known(0x1234), 16)],
            0xf2a2_4680,
            "movk x0, #0x1234, lsl #16",
        ),
        ("and", &[reg("x0"), reg("x1"), imm(0xff)], 0x9240_1c20, "and x0, x1, #255"),
        ("lsl", &[reg("x0"), reg("x1"), imm(3)], 0xd37d_f020, "lsl x0, x1, #3"),
        ("asr", &[reg("w0"), reg("w1"), imm(3)], 0x1303_7c20, "asr w0, w1, #3"),
        ("mul", &[reg("x0"), reg("x1"), reg("x2")], 0x9b02_7c20, "mul x0, x1, x2"),
        ("cset", &[reg("w0"), Operand::Cond(0)], 0x1a9f_17e0, "cset w0, eq"),
        ("ldr", &[reg("x0"), mem("x1", 8, offset)], 0xf940_0420, "ldr x0, [x1, #8]"),
        ("ldr", &[reg("x0"), mem("x1", -8, offset)], 0xf85f_8020, "ldur x0, [x1, #-8]"),
        ("ldrb", &[reg("w0"), mem("x1", 1, IndexMode::Post)], 0x3840_1420, "ldrb w0, [x1], #1"),
        ("str", &[reg("x0"), mem("sp", -16, IndexMode::Pre)], 0xf81f_0fe0, "str x0, [sp, #-16]!"),
        (
            "stp",
            &[reg("x29"), reg("x30"), mem("sp", -16, IndexMode::Pre)],
            0xa9bf_7bfd,
            "stp x29, x30, [sp, #-16]!",
        ),
        (
            "ldp",
            &[reg("x29"), reg("x30"), mem("sp", 16, IndexMode::Post)],
            0xa8c1_7bfd,
            "ldp x29, x30, [sp], #16",
        ),
        (
            "add",
            &[reg("x0"), reg("x1"), Operand::Shifted(parse("x2"), Shift::Lsl, 3)],
            0x8b02_0c20,
            "add x0, x1, x2, lsl #3",
        ),
        (
            "add",
            &[reg("x0"), reg("x1"), Operand::Extended(parse("w2"), Extend::Sxtw, 2)],
            0x8b22_c820,
            "add x0, x1, w2, sxtw #2",
        ),
        ("b", &[Operand::Target(Value::Known(0xff8))], 0x17ff_fffe, "b 0xff8"),
        ("b.ne", &[Operand::Target(Value::Known(0x1008))], 0x5400_0041, "b.ne 0x1008"),
        ("cbz", &[reg("x3"), Operand::Target(Value::Known(0x1000))], 0xb400_0003, "cbz x3, 0x1000"),
        ("adr", &[reg("x1"), Operand::Target(Value::Known(0x1003))], 0x7000_0001, "adr x1, 0x1003"),
        ("ret", &[], 0xd65f_03c0, "ret"),
        ("nop", &[], 0xd503_201f, "nop"),
        ("svc", &[imm(0)], 0xd400_0001, "svc #0"),
    ];
    for (mnemonic, operands, word, text) in cases {
        let encoded = encode(mnemonic, operands, 0x1000).unwrap_or_else(|e| panic!("{text}: {e}"));
        let got = u32::from_le_bytes(encoded.bytes.as_slice().try_into().unwrap());
        assert_eq!(got, *word, "{text}: {got:#x}");
        assert_eq!(decode(&encoded.bytes, 0x1000).unwrap().print(&NoNames), *text);
    }
}

#[test]
fn immediates_that_do_not_fit_name_the_rule() {
    for (mnemonic, operands) in [
        ("mov", vec![reg("x0"), imm(0x1_2345)]),
        ("and", vec![reg("x0"), reg("x0"), imm(5)]),
        ("add", vec![reg("x0"), reg("x0"), imm(4097)]),
        ("ldr", vec![reg("x0"), mem("x1", 40_000, IndexMode::Offset)]),
    ] {
        let error = encode(mnemonic, &operands, 0).unwrap_err();
        assert!(matches!(error, crate::EncodeError::OutOfRange { .. }), "{mnemonic}: {error}");
    }
}

#[test]
fn conditions_and_their_inverses_disagree_on_every_flag_setting() {
    for cond in 0..14 {
        for flags in 0..16 {
            let flags = FlagSet(flags);
            assert_ne!(condition_holds(cond, flags), condition_holds(cond ^ 1, flags));
        }
    }
    assert!(condition_holds(14, FlagSet::NONE) && condition_holds(15, FlagSet::NONE));
}

/// Every field that an encoding names stands where the field of that name does, or within it.
#[test]
fn fields_of_rows_stand_where_their_names_say() {
    for number in 0..form_count() {
        let form = form(number);
        let mut at = 32;
        for token in form.encoding.split_ascii_whitespace() {
            if token.bytes().all(|b| b == b'0' || b == b'1') {
                at -= token.len() as u32;
                continue;
            }
            let (name, width) = token.split_once(':').unwrap_or((token, "5"));
            let width: u32 = width.parse().unwrap();
            at -= width;
            let known = field::ALL.iter().find(|field| field.name == name);
            let known = known.unwrap_or_else(|| panic!("{name} in {}", form.encoding));
            let bits = (u32::MAX >> (32 - width)) << at;
            assert_eq!(bits & !known.mask(), 0, "{name} of {} {}", form.mnemonic, form.encoding);
        }
    }
}
