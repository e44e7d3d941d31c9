//! Semantics worked out by hand from the architecture's published pseudocode: results and flags at
//! the corners.

use sotto_isa::arm64::flag::{C, N, V, Z};
use sotto_isa::{Arch, FlagSet, Operand, Reg, Storage, Value, encode};

use crate::{Event, Fault, Machine, Permissions, RegionKind};

const CODE: u64 = 0x40_0000;
const DATA: u64 = 0x50_0000;
const NONE: FlagSet = FlagSet::NONE;

fn machine() -> Machine {
    let mut machine = Machine::new(Arch::Arm64);
    let permissions = Permissions { read: true, write: true, execute: true };
    machine.memory_mut().map(RegionKind::Code, CODE, 0x1000, permissions).unwrap();
    machine.memory_mut().map(RegionKind::Data, DATA, 0x1000, permissions).unwrap();
    machine.set_register(Storage(31), DATA + 0x800);
    machine
}

fn reg(name: &str) -> Operand {
    Operand::Reg(Reg::parse(Arch::Arm64, name).unwrap())
}

fn imm(value: i64) -> Operand {
    Operand::Imm(Value::Known(value))
}

/// Executes one instruction with `x1`, `x2` and `x3` set, and returns `x0` and the flags.
fn run(mnemonic: &str, operands: &[Operand], x: [u64; 3], flags: FlagSet) -> (u64, FlagSet) {
    let mut machine = machine();
    let bytes = encode(Arch::Arm64, mnemonic, operands, CODE).unwrap().bytes;
    machine.memory_mut().load(CODE, &bytes).unwrap();
    machine.set_register(Arch::Arm64.pc(), CODE);
    machine.set_register(Storage(0), 0xaaaa_aaaa_aaaa_aaaa);
    for (number, value) in x.into_iter().enumerate() {
        machine.set_register(Storage(number as u8 + 1), value);
    }
    machine.set_flags(flags);
    let step = machine.step();
    assert_eq!(step.event, None, "{mnemonic}");
    (machine.register(Storage(0)), machine.flags())
}

#[test]
fn additions_and_subtractions_at_the_corners() {
    const MOST: u64 = i64::MAX as u64;
    const LEAST: u64 = i64::MIN as u64;
    // mnemonic, 64-bit?, x1, x2, result, flags
    let cases = [
        ("adds", true, 1, 2, 3, NONE),
        ("adds", true, u64::MAX, 1, 0, Z | C),
        ("adds", true, MOST, 1, LEAST, N | V),
        ("adds", true, LEAST, LEAST, 0, Z | C | V),
        ("adds", false, 0xffff_ffff, 1, 0, Z | C),
        ("adds", false, 0x7fff_ffff, 1, 0x8000_0000, N | V),
        // C after a subtraction means "no borrow".
        ("subs", true, 5, 5, 0, Z | C),
        ("subs", true, 4, 5, u64::MAX, N),
        ("subs", true, 5, 4, 1, C),
        ("subs", true, LEAST, 1, MOST, C | V),
        ("subs", true, 0, LEAST, LEAST, N | V),
        ("subs", false, 0, 1, 0xffff_ffff, N),
        ("subs", false, 0x8000_0000, 1, 0x7fff_ffff, C | V),
        ("ands", true, 0xf0, 0x0f, 0, Z),
        ("ands", true, LEAST, LEAST, LEAST, N),
        ("ands", false, 0x8000_0000, 0x8000_0000, 0x8000_0000, N),
    ];
    for (mnemonic, wide, a, b, result, flags) in cases {
        let names = if wide { ["x0", "x1", "x2"] } else { ["w0", "w1", "w2"] };
        // Flags that were set before must not shine through.
        for before in [NONE, N | Z | C | V] {
            let got = run(mnemonic, &names.map(reg), [a, b, 0], before);
            assert_eq!(got, (result, flags), "{mnemonic} {a:#x}, {b:#x}");
        }
        if mnemonic == "subs" {
            let got = run("cmp", &[reg(names[1]), reg(names[2])], [a, b, 0], NONE);
            assert_eq!(got, (0xaaaa_aaaa_aaaa_aaaa, flags), "cmp {a:#x}, {b:#x}");
        }
    }
}

#[test]
fn results_by_hand() {
    let x = |n: &str| reg(n);
    let three = |a: &str, b: &str, c: &str| vec![reg(a), reg(b), reg(c)];
    let cases: Vec<(&str, Vec<Operand>, [u64; 3], u64)> = vec![
        ("mov", vec![x("x0"), imm(-2)], [0; 3], u64::MAX - 1),
        ("mov", vec![x("w0"), imm(-2)], [0; 3], 0xffff_fffe),
        (
            "movk",
            vec![x("x0"), Operand::ShiftedImm(Value::Known(0x1234), 16)],
            [0; 3],
            0xaaaa_aaaa_1234_aaaa,
        ),
        ("movk", vec![x("w0"), imm(5)], [0; 3], 0xaaaa_0005),
        ("movn", vec![x("w0"), imm(0)], [0; 3], 0xffff_ffff),
        ("neg", vec![x("x0"), x("x1")], [5, 0, 0], 5u64.wrapping_neg()),
        ("mvn", vec![x("w0"), x("w1")], [0, 0, 0], 0xffff_ffff),
        ("mul", three("x0", "x1", "x2"), [u64::MAX, 3, 0], 3u64.wrapping_neg()),
        ("msub", vec![x("x0"), x("x1"), x("x2"), x("x3")], [7, 3, 100], 79),
        ("madd", vec![x("w0"), x("w1"), x("w2"), x("w3")], [0x1_0000, 0x1_0000, 5], 5),
        // Division: toward zero, by zero gives zero, the one overflow wraps.
        ("sdiv", three("x0", "x1", "x2"), [7u64.wrapping_neg(), 2, 0], 3u64.wrapping_neg()),
        ("sdiv", three("x0", "x1", "x2"), [7, 0, 0], 0),
        ("sdiv", three("x0", "x1", "x2"), [1 << 63, u64::MAX, 0], 1 << 63),
        ("sdiv", three("w0", "w1", "w2"), [0x8000_0000, 0xffff_ffff, 0], 0x8000_0000),
        ("udiv", three("x0", "x1", "x2"), [u64::MAX, 2, 0], u64::MAX / 2),
        ("udiv", three("w0", "w1", "w2"), [9, 0, 0], 0),
        // Shifts by a register take the amount modulo the width.
        ("lsl", three("x0", "x1", "x2"), [1, 65, 0], 2),
        ("lsl", three("w0", "w1", "w2"), [1, 33, 0], 2),
        ("lsr", vec![x("w0"), x("w1"), imm(31)], [0x8000_0000, 0, 0], 1),
        ("asr", vec![x("w0"), x("w1"), imm(31)], [0x8000_0000, 0, 0], 0xffff_ffff),
        ("asr", vec![x("x0"), x("x1"), imm(63)], [1 << 63, 0, 0], u64::MAX),
        ("bic", three("x0", "x1", "x2"), [0xff, 0x0f, 0], 0xf0),
        ("eon", three("w0", "w1", "w2"), [0xff, 0xff, 0], 0xffff_ffff),
    ];
    for (mnemonic, operands, values, wanted) in cases {
        let (result, flags) = run(mnemonic, &operands, values, C);
        assert_eq!(result, wanted, "{mnemonic} {operands:?} of {values:x?}: {result:#x}");
        assert_eq!(flags, C, "{mnemonic} keeps the flags");
    }
}

#[test]
fn second_operands_are_shifted_and_extended() {
    use sotto_isa::{Extend, Shift};
    let parse = |name: &str| Reg::parse(Arch::Arm64, name).unwrap();
    let shifted = |name: &str, shift, amount| Operand::Shifted(parse(name), shift, amount);
    let extended = |name: &str, extend, amount| Operand::Extended(parse(name), extend, amount);
    let cases = [
        (shifted("x2", Shift::Lsl, 3), 5, 40),
        (shifted("x2", Shift::Asr, 1), u64::MAX - 3, u64::MAX - 1),
        (shifted("x2", Shift::Lsr, 60), u64::MAX, 15),
        (extended("w2", Extend::Sxtw, 2), 0xffff_ffff, 4u64.wrapping_neg()),
        (extended("w2", Extend::Uxtb, 4), 0x1ff, 0xff0),
        (extended("w2", Extend::Sxth, 0), 0x8000, 0x8000u64.wrapping_neg()),
    ];
    for (operand, x2, wanted) in cases {
        let (result, _) = run("add", &[reg("x0"), reg("x1"), operand], [0, x2, 0], NONE);
        assert_eq!(result, wanted, "{operand:?}");
    }
}

#[test]
fn the_zero_register_reads_as_zero_and_loses_what_is_written() {
    assert_eq!(run("add", &[reg("x0"), reg("xzr"), reg("x1")], [7, 0, 0], NONE).0, 7);
    let (result, flags) = run("subs", &[reg("xzr"), reg("x1"), reg("x2")], [7, 7, 0], NONE);
    assert_eq!((result, flags), (0xaaaa_aaaa_aaaa_aaaa, Z | C));
    assert_eq!(run("mov", &[reg("x0"), reg("xzr")], [7, 7, 7], NONE).0, 0);
}

#[test]
fn conditions_decide_csel_cset_and_branches() {
    for (flags, cond, holds) in [
        (Z, 0, true),
        (NONE, 0, false),
        (C, 8, true),
        (C | Z, 8, false),
        (N, 11, true),
        (N | V, 11, false),
    ] {
        let cset = run("cset", &[reg("x0"), Operand::Cond(cond)], [0; 3], flags).0;
        assert_eq!(cset, u64::from(holds), "cset {cond}");
        let operands = [reg("x0"), reg("x1"), reg("x2"), Operand::Cond(cond)];
        let second = [("csel", 2u64), ("csinc", 3), ("csinv", !2), ("csneg", 2u64.wrapping_neg())];
        for (mnemonic, changed) in second {
            let got = run(mnemonic, &operands, [1, 2, 0], flags).0;
            assert_eq!(got, if holds { 1 } else { changed }, "{mnemonic} {cond}");
        }
    }
}

/// Executes instructions one after the other and returns the machine.
fn execute(
    program: &[(&str, Vec<Operand>)],
    prepare: impl FnOnce(&mut Machine),
) -> (Machine, Option<Event>) {
    let mut machine = machine();
    let mut at = CODE;
    for (mnemonic, operands) in program {
        let bytes = encode(Arch::Arm64, mnemonic, operands, at).unwrap().bytes;
        machine.memory_mut().load(at, &bytes).unwrap();
        at += 4;
    }
    machine.set_register(Arch::Arm64.pc(), CODE);
    prepare(&mut machine);
    let mut event = None;
    for _ in program {
        event = machine.step().event;
        if event.is_some() {
            break;
        }
    }
    (machine, event)
}

fn memory(base: &str, disp: i64, mode: sotto_isa::IndexMode) -> Operand {
    let base = Reg::parse(Arch::Arm64, base).unwrap();
    Operand::Mem(sotto_isa::Mem { mode, ..sotto_isa::Mem::base_disp(base, disp) })
}

#[test]
fn loads_and_stores_write_back_and_extend() {
    use sotto_isa::IndexMode::{Offset, Post, Pre};
    let program = [
        ("str", vec![reg("x1"), memory("x2", 16, Pre)]),
        ("ldrb", vec![reg("w3"), memory("x2", 1, Post)]),
        ("ldrsb", vec![reg("x4"), memory("x2", -1, Offset)]),
        ("stp", vec![reg("x1"), reg("x3"), memory("sp", -16, Pre)]),
        ("ldp", vec![reg("x5"), reg("x6"), memory("sp", 16, Post)]),
        ("ldrsw", vec![reg("x7"), memory("x2", -1, Offset)]),
    ];
    let (machine, event) = execute(&program, |machine| {
        machine.set_register(Storage(1), 0x1122_3344_8566_77f0);
        machine.set_register(Storage(2), DATA);
    });
    assert_eq!(event, None);
    let x = |n: u8| machine.register(Storage(n));
    assert_eq!(x(2), DATA + 17);
    assert_eq!(x(3), 0xf0);
    assert_eq!(x(4), 0xffff_ffff_ffff_fff0);
    assert_eq!((x(5), x(6)), (0x1122_3344_8566_77f0, 0xf0));
    assert_eq!(x(7), 0xffff_ffff_8566_77f0);
    assert_eq!(x(31), DATA + 0x800);
}

#[test]
fn calls_leave_the_return_address_and_faults_change_nothing() {
    use sotto_isa::IndexMode::{Offset, Post};
    let target = Operand::Target(Value::Known(CODE as i64 + 64));
    let (machine, _) = execute(&[("bl", vec![target])], |_| {});
    assert_eq!((machine.pc(), machine.register(Storage(30))), (CODE + 64, CODE + 4));

    let (machine, event) = execute(&[("ldr", vec![reg("x0"), memory("x2", 8, Post)])], |machine| {
        machine.set_register(Storage(2), 0x10);
    });
    assert!(matches!(event, Some(Event::Fault(Fault::Memory(fault))) if fault.address == 0x10));
    assert_eq!((machine.pc(), machine.register(Storage(2))), (CODE, 0x10));

    let (_, event) = execute(&[("str", vec![reg("x0"), memory("sp", 0, Offset)])], |machine| {
        machine.set_register(Storage(31), DATA + 8);
    });
    assert_eq!(event, Some(Event::Fault(Fault::StackAlignment)));
    let (_, event) = execute(&[("br", vec![reg("x1")])], |machine| {
        machine.set_register(Storage(1), CODE + 2);
    });
    assert_eq!(event, Some(Event::Fault(Fault::PcAlignment)));
}
