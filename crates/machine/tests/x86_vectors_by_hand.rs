//! Vector semantics worked out by hand from the manual's operation sections: one case or more of every
//! kind. The lockstep tests compare with a processor; these hold wherever the tests run.

use sotto_isa::x86::flag::{CF, OF, PF, SF, ZF};
use sotto_isa::{Arch, FlagSet, Operand, Reg, RegisterId, RegisterValue, Storage, Value, encode};
use sotto_machine::{Event, Fault, Machine, MemoryFaultKind, Permissions, RegionKind};

const CODE: u64 = 0x40_0000;
const DATA: u64 = 0x50_0000;
const MXCSR: Storage = Storage(19);

fn operand(text: &str) -> Operand {
    match text.parse() {
        Ok(number) => Operand::Imm(Value::Known(number)),
        Err(_) => Operand::Reg(Reg::parse(Arch::X86_64, text).unwrap()),
    }
}

/// A machine with one instruction at its program counter, and data at RDI.
fn machine(mnemonic: &str, operands: &[Operand]) -> Machine {
    let bytes = encode(Arch::X86_64, mnemonic, operands, CODE)
        .unwrap_or_else(|error| panic!("{mnemonic}: {error}"))
        .bytes;
    let mut machine = Machine::new(Arch::X86_64);
    let all = Permissions { read: true, write: true, execute: true };
    machine.memory_mut().map(RegionKind::Code, CODE, 0x1000, all).unwrap();
    machine.memory_mut().map(RegionKind::Data, DATA, 0x1000, all).unwrap();
    machine.memory_mut().load(CODE, &bytes).unwrap();
    machine.set_register(Arch::X86_64.pc(), CODE);
    machine.set_register(Storage(7), DATA);
    machine
}

fn run(mnemonic: &str, operands: &[&str], a: u128, b: u128) -> Machine {
    let operands: Vec<Operand> = operands.iter().map(|text| operand(text)).collect();
    let mut machine = machine(mnemonic, &operands);
    machine.set_bank_register(RegisterId::vector(0), RegisterValue::from(a));
    machine.set_bank_register(RegisterId::vector(1), RegisterValue::from(b));
    let step = machine.step();
    assert_eq!(step.event, None, "{mnemonic} of {a:#x}, {b:#x}");
    machine
}

/// Two doubles, and four floats, the lowest first.
fn pd(low: f64, high: f64) -> u128 {
    u128::from(low.to_bits()) | u128::from(high.to_bits()) << 64
}

fn ps(elements: [f32; 4]) -> u128 {
    elements.iter().rev().fold(0, |vector, x| vector << 32 | u128::from(x.to_bits()))
}

const X: &[&str] = &["xmm0", "xmm1"];
const ONES: u128 = u128::MAX;
/// Bytes 0 to 15, and 16 to 31.
const COUNT: u128 = 0x0f0e_0d0c_0b0a_0908_0706_0504_0302_0100;
const MORE: u128 = 0x1f1e_1d1c_1b1a_1918_1716_1514_1312_1110;

#[test]
fn integers_beside_each_other() {
    type Case = (&'static str, &'static [&'static str], u128, u128, u128);
    let cases: &[Case] = &[
        ("paddb", X, 0xff01, 0x0102, 0x0003),
        ("paddusb", X, 0xff01, 0x0102, 0xff03),
        ("paddsw", X, 0x7fff_8000, 0x0001_ffff, 0x7fff_8000),
        ("psubd", X, 0x1_0000_0000, 1, 0x1_ffff_ffff),
        ("psubusw", X, 5, 9, 0),
        ("pcmpeqb", X, 0x0102, 0x0103, ONES & !0xff),
        ("pcmpgtd", X, 5, 0xffff_ffff, 0xffff_ffff),
        ("pmaxsb", X, 0x80, 0x01, 0x01),
        ("pmaxub", X, 0x80, 0x01, 0x80),
        ("pminsd", X, 0x8000_0000, 1, 0x8000_0000),
        ("pavgb", X, 0x04, 0x01, 0x03),
        ("pandn", X, 0b1100, 0b1010, 0b0010),
        ("pmullw", X, 0x0100, 0x0101, 0x0100),
        ("pmulhw", X, 0x4000, 0xfffc, 0xffff),
        ("pmulhuw", X, 0x4000, 0xfffc, 0x3fff),
        ("pmuludq", X, 0xffff_ffff, 0xffff_ffff, 0xffff_fffe_0000_0001),
        ("pmaddwd", X, 0x0003_0002, 0x0005_ffff, 13),
        ("pmaddubsw", X, 0xffff, 0x7f7f, 0x7fff),
        ("pmulhrsw", X, 0x4000, 0x4000, 0x2000),
        ("psadbw", X, 0x0a00, 0x0005, 15),
        ("packsswb", X, 0x0100_ff00, 0, 0x7f80),
        ("packuswb", X, 0x0100_ff00, 0, 0xff00),
        ("punpcklbw", X, COUNT, MORE, 0x1707_1606_1505_1404_1303_1202_1101_1000),
        ("punpckhqdq", X, COUNT, MORE, 0x1f1e_1d1c_1b1a_1918_0f0e_0d0c_0b0a_0908),
        ("pshufb", X, COUNT, 0x80_0f_03, 0x00_0f_03),
        ("psignw", X, 0x0005_0006_0007, 0x0001_0000_ffff, 0x0005_0000_fff9),
        ("phaddd", X, 0x2_0000_0001, 0x4_0000_0003, 7 << 64 | 3),
        ("pabsb", X, 0, 0xff80, 0x0180),
        ("psllw", &["xmm0", "4"], 0xf001_f001, 0, 0x0010_0010),
        ("psraw", &["xmm0", "99"], 0x8000_7fff, 0, 0xffff_0000),
        ("psrlq", X, ONES, 64, 0),
        ("pslldq", &["xmm0", "15"], 0xab, 0, 0xab << 120),
        ("psrldq", &["xmm0", "16"], ONES, 0, 0),
        ("pmovsxbw", X, 0, 0x80_7f, 0xff80_007f),
        ("pmovzxbq", X, 0, 0x80_7f, 0x80 << 64 | 0x7f),
        ("phminposuw", X, 0, 0x0009_0003_0003_0008 | 0xffff_ffff_ffff_ffff << 64, 0x0001_0003),
        (
            "pshufd",
            &["xmm0", "xmm1", "27"],
            0,
            4 << 96 | 3 << 64 | 2 << 32 | 1,
            1 << 96 | 2 << 64 | 3 << 32 | 4,
        ),
        ("pshuflw", &["xmm0", "xmm1", "177"], 0, 0x0004_0003_0002_0001, 0x0003_0004_0001_0002),
        ("palignr", &["xmm0", "xmm1", "4"], COUNT, MORE, 0x0302_0100_1f1e_1d1c_1b1a_1918_1716_1514),
        ("pblendw", &["xmm0", "xmm1", "2"], 0, 0x2222_1111, 0x2222_0000),
        ("mpsadbw", &["xmm0", "xmm1", "0"], 0x0403_0201, 0x0403_0201, {
            // Against bytes 0 to 3, from place 1 on with zeros above: 1+1+1+4, 2+2+3+4 ...
            0x000a_000a_000a_000a_000c_000b_0007_0000
        }),
        ("pinsrb", &["xmm0", "eax", "15"], 0, 0, 0),
        ("insertps", &["xmm0", "xmm1", "76"], COUNT, MORE, 0x0706_0504_1716_1514),
        ("movddup", X, 0, 7, 7 << 64 | 7),
        ("movhlps", X, 1, 9 << 64, 9),
        ("movlhps", X, 1, 9, 9 << 64 | 1),
        ("movss", X, ONES, 5, ONES & !0xffff_ffff | 5),
        ("movq", X, ONES, ONES, ONES >> 64),
        ("pblendvb", &["xmm0", "xmm1", "xmm0"], 0x80_01, 0x22_11, 0x22_01),
    ];
    for &(mnemonic, operands, a, b, wanted) in cases {
        let result = run(mnemonic, operands, a, b).bank_register(RegisterId::vector(0)).low_128();
        assert_eq!(result, wanted, "{mnemonic} {operands:?}: {result:#x}, not {wanted:#x}");
    }
}

#[test]
fn floats_beside_each_other() {
    type Case = (&'static str, &'static [&'static str], u128, u128, u128);
    let cases: &[Case] = &[
        ("addpd", X, pd(1.5, -2.0), pd(0.25, 8.0), pd(1.75, 6.0)),
        ("addsd", X, pd(1.5, -2.0), pd(0.25, 8.0), pd(1.75, -2.0)),
        ("mulps", X, ps([1.0, 2.0, 3.0, 4.0]), ps([0.5; 4]), ps([0.5, 1.0, 1.5, 2.0])),
        ("divss", X, ps([1.0, 2.0, 3.0, 4.0]), ps([4.0; 4]), ps([0.25, 2.0, 3.0, 4.0])),
        ("sqrtpd", X, 0, pd(2.25, 16.0), pd(1.5, 4.0)),
        ("minsd", X, pd(0.0, 1.0), pd(-0.0, 9.0), pd(-0.0, 1.0)),
        ("maxsd", X, pd(f64::NAN, 1.0), pd(3.0, 9.0), pd(3.0, 1.0)),
        ("addsubps", X, ps([1.0; 4]), ps([0.5; 4]), ps([0.5, 1.5, 0.5, 1.5])),
        ("haddpd", X, pd(1.0, 2.0), pd(3.0, 4.0), pd(3.0, 7.0)),
        ("hsubps", X, ps([5.0, 1.0, 4.0, 2.0]), ps([9.0, 3.0, 8.0, 7.0]), ps([4.0, 2.0, 6.0, 1.0])),
        ("cmppd", &["xmm0", "xmm1", "1"], pd(1.0, 5.0), pd(2.0, 5.0), ONES >> 64),
        ("cmpss", &["xmm0", "xmm1", "4"], 1, ps([f32::NAN, 0.0, 0.0, 0.0]), 0xffff_ffff),
        ("cvtps2pd", X, 0, ps([1.5, -2.5, 9.0, 9.0]), pd(1.5, -2.5)),
        ("cvtpd2ps", X, ONES, pd(1.5, -2.5), ps([1.5, -2.5, 0.0, 0.0])),
        ("cvtdq2pd", X, 0, 7 << 32 | 0xffff_fffe, pd(-2.0, 7.0)),
        ("cvttpd2dq", X, 0, pd(-1.9, 1e20), 0x8000_0000_ffff_ffff),
        ("cvtps2dq", X, 0, ps([0.5, 1.5, 2.5, -0.5]), 2 << 64 | 2 << 32),
        ("roundsd", &["xmm0", "xmm1", "1"], 0, pd(-1.5, 0.0), pd(-2.0, 0.0)),
        ("roundps", &["xmm0", "xmm1", "2"], 0, ps([1.1; 4]), ps([2.0; 4])),
        ("dppd", &["xmm0", "xmm1", "49"], pd(2.0, 3.0), pd(5.0, 7.0), pd(31.0, 0.0)),
        (
            "shufps",
            &["xmm0", "xmm1", "228"],
            ps([1.0, 2.0, 3.0, 4.0]),
            ps([5.0, 6.0, 7.0, 8.0]),
            ps([1.0, 2.0, 7.0, 8.0]),
        ),
        ("unpcklpd", X, pd(1.0, 2.0), pd(3.0, 4.0), pd(1.0, 3.0)),
    ];
    for &(mnemonic, operands, a, b, wanted) in cases {
        let result = run(mnemonic, operands, a, b).bank_register(RegisterId::vector(0)).low_128();
        assert_eq!(result, wanted, "{mnemonic} {operands:?}: {result:#x}, not {wanted:#x}");
    }
}

#[test]
fn comparisons_set_the_flags_and_results_go_to_general_registers() {
    type Case = (&'static str, &'static [&'static str], u128, u128, u64, FlagSet);
    let none = FlagSet::NONE;
    let cases: &[Case] = &[
        ("comisd", X, pd(1.0, 0.0), pd(2.0, 0.0), 0, CF),
        ("comisd", X, pd(2.0, 0.0), pd(2.0, 0.0), 0, ZF),
        ("ucomiss", X, ps([f32::NAN; 4]), 0, 0, ZF | PF | CF),
        ("ptest", X, 0b1100, 0b0011, 0, ZF),
        ("ptest", X, 0b1100, 0b0100, 0, CF),
        ("movmskpd", &["eax", "xmm1"], 0, pd(-1.0, 1.0), 1, none),
        ("pmovmskb", &["eax", "xmm1"], 0, 0x80 << 120 | 0x80, 0x8001, none),
        ("pextrw", &["eax", "xmm1", "1"], 0, 0xabcd_0000, 0xabcd, none),
        ("cvttsd2si", &["rax", "xmm1"], 0, pd(-7.9, 0.0), -7i64 as u64, none),
        ("cvtsd2si", &["eax", "xmm1"], 0, pd(1e10, 0.0), 0x8000_0000, none),
        ("movd", &["eax", "xmm1"], 0, ONES, 0xffff_ffff, none),
        // "bell" in "fog bell", equal in order: found at 4.
        ("pcmpistri", &["xmm0", "xmm1", "12"], 0x6c6c_6562, 0x6c6c_6562_2067_6f66, 0, CF | ZF | SF),
    ];
    for &(mnemonic, operands, a, b, rax, flags) in cases {
        let machine = run(mnemonic, operands, a, b);
        assert_eq!(machine.register(Storage(0)), rax, "{mnemonic}");
        assert_eq!(machine.flags(), flags, "{mnemonic}");
        if mnemonic == "pcmpistri" {
            assert_eq!(machine.register(Storage(1)), 4);
        }
    }
    assert!(!run("ptest", X, 1, 1).flags().contains(OF));
}

#[test]
fn exceptions_are_noted_in_mxcsr_and_raise_a_signal_only_when_they_are_not_masked() {
    let third = |mxcsr: u64| {
        let mut machine = machine("divsd", &[operand("xmm0"), operand("xmm1")]);
        machine.set_bank_register(RegisterId::vector(0), RegisterValue::from(pd(1.0, 0.0)));
        machine.set_bank_register(RegisterId::vector(1), RegisterValue::from(pd(3.0, 0.0)));
        machine.set_register(MXCSR, mxcsr);
        let event = machine.step().event;
        (
            event,
            machine.bank_register(RegisterId::vector(0)).low_128() as u64,
            machine.register(MXCSR),
        )
    };
    let nearest = (1.0f64 / 3.0).to_bits();
    assert_eq!(third(0x1f80), (None, nearest, 0x1fa0));
    // Rounding up.
    assert_eq!(third(0x5f80), (None, nearest + 1, 0x5fa0));
    let refused = Some(Event::Fault(Fault::Float));
    assert_eq!(third(0x0f80), (refused, 1f64.to_bits(), 0x0fa0));
}

#[test]
fn sixteen_bytes_must_be_aligned_where_the_manual_says_so() {
    let memory = |base: u64| {
        Operand::Mem(sotto_isa::Mem::base_disp(
            Reg::parse(Arch::X86_64, "rdi").unwrap(),
            base as i64,
        ))
    };
    for (mnemonic, aligned) in [("movaps", true), ("movups", false), ("addps", true)] {
        let mut machine = machine(mnemonic, &[operand("xmm0"), memory(1)]);
        let event = machine.step().event;
        match event {
            None => assert!(!aligned, "{mnemonic}"),
            Some(Event::Fault(Fault::Memory(fault))) => {
                assert!(aligned && fault.kind == MemoryFaultKind::Alignment, "{mnemonic}");
                assert_eq!(fault.address, DATA + 1);
            }
            other => panic!("{mnemonic}: {other:?}"),
        }
    }
}
