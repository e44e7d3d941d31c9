//! Encodings worked out by hand from the manual's tables.

use super::*;
use crate::{EncodeError, Mem, NoNames, Operand, Value};

fn reg(name: &str) -> Operand {
    Operand::Reg(Reg::parse(crate::Arch::X86_64, name).unwrap())
}

fn imm(value: i64) -> Operand {
    Operand::Imm(Value::Known(value))
}

fn mem(base: &str, disp: i64, width: Option<Width>) -> Operand {
    let base = Reg::parse(crate::Arch::X86_64, base).unwrap();
    Operand::Mem(Mem { width, ..Mem::base_disp(base, disp) })
}

fn bytes(mnemonic: &str, operands: &[Operand]) -> Vec<u8> {
    encode(crate::Arch::X86_64, mnemonic, operands, 0x1000, 0).unwrap().bytes.to_vec()
}

#[test]
fn shortest_forms_by_hand() {
    let qword = Some(Width::W64);
    let cases: &[(&str, &[Operand], &[u8])] = &[
        // SDM Vol. 2A, ADD: 83 /0 ib beats 05 id, which beats 81 /0 id.
        ("add", &[reg("eax"), imm(5)], &[0x83, 0xc0, 0x05]),
        ("add", &[reg("eax"), imm(1000)], &[0x05, 0xe8, 0x03, 0, 0]),
        ("add", &[reg("ecx"), imm(1000)], &[0x81, 0xc1, 0xe8, 0x03, 0, 0]),
        ("add", &[reg("eax"), imm(0xffff_ffff)], &[0x83, 0xc0, 0xff]),
        ("add", &[reg("al"), imm(5)], &[0x04, 0x05]),
        ("mov", &[reg("rax"), imm(1)], &[0x48, 0xc7, 0xc0, 1, 0, 0, 0]),
        ("mov", &[reg("rax"), imm(1 << 40)], &[0x48, 0xb8, 0, 0, 0, 0, 0, 1, 0, 0]),
        ("mov", &[reg("r9d"), imm(1)], &[0x41, 0xb9, 1, 0, 0, 0]),
        ("mov", &[reg("sil"), imm(1)], &[0x40, 0xb6, 1]),
        ("mov", &[reg("ah"), imm(1)], &[0xb4, 1]),
        // ModRM and SIB corners: rbp and r13 need a displacement, rsp and r12 a SIB byte.
        ("mov", &[reg("rax"), mem("rbp", 0, None)], &[0x48, 0x8b, 0x45, 0]),
        ("mov", &[reg("rax"), mem("r13", 0, None)], &[0x49, 0x8b, 0x45, 0]),
        ("mov", &[reg("rax"), mem("rsp", 8, None)], &[0x48, 0x8b, 0x44, 0x24, 8]),
        ("mov", &[reg("rax"), mem("r12", 0, None)], &[0x49, 0x8b, 0x04, 0x24]),
        ("mov", &[reg("eax"), mem("rcx", 128, None)], &[0x8b, 0x81, 0x80, 0, 0, 0]),
        ("inc", &[mem("rax", 0, qword)], &[0x48, 0xff, 0x00]),
        ("push", &[reg("r12")], &[0x41, 0x54]),
        ("push", &[imm(-1)], &[0x6a, 0xff]),
        ("shl", &[reg("rdx"), imm(1)], &[0x48, 0xd1, 0xe2]),
        ("shl", &[reg("rdx"), imm(4)], &[0x48, 0xc1, 0xe2, 4]),
        ("xchg", &[reg("eax"), reg("eax")], &[0x87, 0xc0]),
        ("xchg", &[reg("rbx"), reg("rax")], &[0x48, 0x93]),
        ("movsxd", &[reg("rax"), reg("ecx")], &[0x48, 0x63, 0xc1]),
        ("jmp", &[Operand::Target(Value::Known(0x1000))], &[0xeb, 0xfe]),
        ("jne", &[Operand::Target(Value::Known(0x2000))], &[0x0f, 0x85, 0xfa, 0x0f, 0, 0]),
        ("syscall", &[], &[0x0f, 0x05]),
        ("cdqe", &[], &[0x48, 0x98]),
        ("cbw", &[], &[0x66, 0x98]),
    ];
    for (mnemonic, operands, wanted) in cases {
        assert_eq!(bytes(mnemonic, operands), *wanted, "{mnemonic} {operands:?}");
    }
}

#[test]
fn refusals_name_what_is_wrong() {
    let error = |mnemonic: &str, operands: &[Operand]| {
        encode(crate::Arch::X86_64, mnemonic, operands, 0, 0).unwrap_err()
    };
    assert_eq!(error("inc", &[mem("rax", 0, None)]), EncodeError::SizeUnknown { operand: 0 });
    assert_eq!(
        error("mov", &[reg("al"), imm(256)]),
        EncodeError::OutOfRange { operand: 1, value: 256, range: -128..=255, rule: None }
    );
    assert!(matches!(error("mov", &[reg("eax"), reg("rbx")]), EncodeError::NoSuchForm { .. }));
    assert!(matches!(
        error("mov", &[reg("ah"), reg("r8b")]),
        EncodeError::HighByteWithRex { high: "ah", .. }
    ));
    assert!(matches!(error("light", &[]), EncodeError::UnknownMnemonic { .. }));
    let above = Operand::Imm(Value::Above(u64::MAX));
    assert_eq!(bytes("mov", &[reg("rax"), above]), [0x48, 0xc7, 0xc0, 0xff, 0xff, 0xff, 0xff]);
    assert!(matches!(error("mov", &[reg("eax"), above]), EncodeError::OutOfRange { .. }));
}

#[test]
fn late_values_leave_a_field_and_a_fixup() {
    let table = Mem { base: Some(RIP), disp: Value::Unresolved, ..Mem::absolute(0) };
    let operands = [Operand::Mem(Mem { width: Some(Width::W8), ..table }), imm(5)];
    let encoded = encode(crate::Arch::X86_64, "mov", &operands, 0, 0).unwrap();
    assert_eq!(encoded.bytes.as_slice(), [0xc6, 0x05, 0, 0, 0, 0, 5]);
    // The field is 5 bytes before the end of the instruction.
    let fixup = encoded.fixups[0];
    assert_eq!((fixup.offset, fixup.field, fixup.addend), (2, crate::Field::Rel32, -5));

    let jump = |min| {
        encode(crate::Arch::X86_64, "jmp", &[Operand::Target(Value::Unresolved)], 0, min).unwrap()
    };
    assert_eq!(jump(0).bytes.len(), 2);
    assert_eq!(jump(3).bytes.len(), 5);
}

#[test]
fn printed_forms() {
    let cases: &[(&[u8], &str)] = &[
        (&[0x48, 0x8b, 0x44, 0xcb, 0xf8], "mov rax, [rbx + rcx*8 - 8]"),
        (&[0xc7, 0x00, 5, 0, 0, 0], "mov dword [rax], 5"),
        (&[0x0f, 0xb6, 0x07], "movzx eax, byte [rdi]"),
        (&[0xd3, 0x20], "shl dword [rax], cl"),
        (&[0xeb, 0xfe], "jmp 0x1000"),
        (&[0x8b, 0x05, 0x10, 0, 0, 0], "mov eax, [rip + 16]"),
        (&[0xf3, 0x0f, 0x1e, 0xfa], "endbr64"),
        (&[0xf3, 0x90], "pause"),
        (&[0x88, 0xe0], "mov al, ah"),
        (&[0x40, 0x88, 0xe0], "mov al, spl"),
    ];
    for (bytes, wanted) in cases {
        assert_eq!(
            crate::decode(crate::Arch::X86_64, bytes, 0x1000).unwrap().print(&NoNames),
            *wanted
        );
    }
}
