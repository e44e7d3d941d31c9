//! x86 semantics worked out by hand from the manual's operation sections. The lockstep tests compare
//! with a processor; these hold wherever the tests run.

use sotto_isa::x86::flag::{AF, CF, OF, PF, SF, ZF};
use sotto_isa::{Arch, FlagSet, Operand, Reg, Storage, Value, encode};
use sotto_machine::{Event, Fault, Machine, Permissions, RegionKind};

const CODE: u64 = 0x40_0000;
const STACK: u64 = 0x50_0800;
const NONE: FlagSet = FlagSet::NONE;

fn reg(name: &str) -> Operand {
    Operand::Reg(Reg::parse(Arch::X86_64, name).unwrap())
}

fn imm(value: i64) -> Operand {
    Operand::Imm(Value::Known(value))
}

fn operand(text: &str) -> Operand {
    match text.parse() {
        Ok(number) => imm(number),
        Err(_) => reg(text),
    }
}

/// A machine with one instruction at its program counter.
fn machine(mnemonic: &str, operands: &[&str]) -> Machine {
    let operands: Vec<Operand> = operands.iter().map(|text| operand(text)).collect();
    let bytes = encode(Arch::X86_64, mnemonic, &operands, CODE).unwrap().bytes;
    let mut machine = Machine::new(Arch::X86_64);
    let all = Permissions { read: true, write: true, execute: true };
    machine.memory_mut().map(RegionKind::Code, CODE, 0x1000, all).unwrap();
    machine.memory_mut().map(RegionKind::Stack, 0x50_0000, 0x1000, all).unwrap();
    machine.memory_mut().load(CODE, &bytes).unwrap();
    machine.set_register(Arch::X86_64.pc(), CODE);
    machine.set_register(Storage(4), STACK);
    machine
}

fn set(machine: &mut Machine, name: &str, value: u64) {
    let storage = Reg::parse(Arch::X86_64, name).unwrap().storage().unwrap();
    machine.set_register(storage, value);
}

fn get(machine: &Machine, name: &str) -> u64 {
    machine.register(Reg::parse(Arch::X86_64, name).unwrap().storage().unwrap())
}

#[test]
fn results_and_flags() {
    type Case = (&'static str, &'static [&'static str], u64, u64, FlagSet, u64, FlagSet);
    const ALL_ONES: u64 = u64::MAX;
    // mnemonic, operands, rax, rcx, flags before, rax after, flags after (undefined ones left out)
    let cases: &[Case] = &[
        ("add", &["al", "cl"], 0xff, 1, NONE, 0, CF | ZF | AF | PF),
        ("add", &["eax", "ecx"], ALL_ONES, 1, NONE, 0, CF | ZF | AF | PF),
        ("add", &["rax", "rcx"], i64::MAX as u64, 1, NONE, 1 << 63, OF | SF | AF | PF),
        ("add", &["ah", "cl"], 0x12f0, 1, NONE, 0x13f0, NONE),
        ("adc", &["eax", "ecx"], 1, 1, CF, 3, PF),
        ("bt", &["eax", "ecx"], 0b100, 34, NONE, 0b100, CF),
        ("bts", &["eax", "5"], 0, 0, CF | ZF, 32, ZF),
        ("btr", &["rax", "rcx"], ALL_ONES, 63, NONE, ALL_ONES >> 1, CF),
        ("btc", &["ax", "cx"], 1, 16, ZF, 0, CF | ZF),
        ("popcnt", &["eax", "ecx"], 0, 0xff00_00ff_f000_000f, CF | OF | SF, 8, NONE),
        ("popcnt", &["rax", "rcx"], 5, 0, CF | OF | SF, 0, ZF),
        ("bswap", &["eax"], ALL_ONES << 32 | 0x1234_5678, 0, NONE, 0x7856_3412, NONE),
        ("bswap", &["rax"], 0x0102_0304_0506_0708, 0, NONE, 0x0807_0605_0403_0201, NONE),
        ("xadd", &["al", "cl"], 0xff, 1, NONE, 0, CF | ZF | AF | PF),
        // The accumulator is the destination, and so equal to it.
        ("cmpxchg", &["eax", "ecx"], 7, 9, NONE, 9, ZF | PF),
        ("cmpxchg", &["ecx", "edx"], 3, 9, NONE, 9, CF | SF | AF | PF),
        ("bsf", &["eax", "ecx"], 7, 0b1000, NONE, 3, NONE),
        ("bsf", &["rax", "rcx"], 7, 0, NONE, 7, ZF),
        ("bsr", &["rax", "rcx"], 7, 1 << 40, NONE, 40, NONE),
        ("tzcnt", &["eax", "ecx"], 7, 0, NONE, 32, CF),
        ("lzcnt", &["ax", "cx"], 7, 1 << 15, NONE, 0, ZF),
        ("shld", &["eax", "ecx", "4"], 0xf000_0001, 0xa000_0000, NONE, 0x1a, CF | OF),
        ("shrd", &["rax", "rcx", "8"], 0xff, 0x12, NONE, 0x12 << 56, CF | PF),
        ("andn", &["eax", "ecx", "eax"], 0b1100, 0b1010, CF, 0b0100, NONE),
        ("bextr", &["eax", "eax", "ecx"], 0xabcd, 0x0804, CF, 0xbc, NONE),
        ("blsi", &["eax", "ecx"], 0, 0b1100, NONE, 0b100, CF),
        ("blsmsk", &["eax", "ecx"], 0, 0b1100, NONE, 0b111, NONE),
        ("blsr", &["eax", "ecx"], 0, 0b1100, NONE, 0b1000, NONE),
        ("bzhi", &["eax", "eax", "ecx"], 0xffff, 4, NONE, 0xf, NONE),
        ("pdep", &["eax", "eax", "ecx"], 0b101, 0b1101_0000, CF, 0b1001_0000, CF),
        ("pext", &["eax", "eax", "ecx"], 0b1001_0000, 0b1101_0000, CF, 0b101, CF),
        ("rorx", &["eax", "ecx", "4"], 0, 0x1f, CF, 0xf000_0001, CF),
        ("sarx", &["eax", "eax", "ecx"], 0x8000_0000, 31, ZF, 0xffff_ffff, ZF),
        ("shlx", &["rax", "rax", "rcx"], 1, 63, ZF, 1 << 63, ZF),
        ("adcx", &["eax", "ecx"], 0xffff_ffff, 0, CF | OF, 0, CF | OF),
        ("adox", &["eax", "ecx"], 1, 1, CF | OF, 3, CF),
        // The check value of the CRC of nine digits is known for this polynomial; here of one byte.
        ("crc32", &["eax", "cl"], 0, 1, NONE, 0xf26b_8303, NONE),
        ("lahf", &[], 0, 0, CF | ZF | PF, 0x4700, CF | ZF | PF),
        ("sahf", &[], 0x8100, 0, OF | ZF, 0x8100, OF | SF | CF),
        ("stc", &[], 0, 0, ZF, 0, ZF | CF),
        ("clc", &[], 0, 0, ZF | CF, 0, ZF),
        ("cmc", &[], 0, 0, CF, 0, NONE),
        ("sub", &["eax", "ecx"], 0, 1, NONE, 0xffff_ffff, CF | SF | AF | PF),
        ("sbb", &["eax", "eax"], 7, 0, CF, 0xffff_ffff, CF | SF | AF | PF),
        ("sbb", &["rax", "rax"], 7, 0, NONE, 0, ZF | PF),
        ("cmp", &["eax", "ecx"], 5, 5, NONE, 5, ZF | PF),
        ("cmp", &["al", "cl"], 0x80, 1, NONE, 0x80, OF | AF),
        ("inc", &["al"], 0x7f, 0, CF, 0x80, CF | OF | SF | AF),
        ("dec", &["ax"], 0x1_0000, 0, NONE, 0x1_ffff, SF | AF | PF),
        ("neg", &["eax"], 1, 0, NONE, 0xffff_ffff, CF | SF | AF | PF),
        ("neg", &["eax"], 0, 0, CF, 0, ZF | PF),
        ("not", &["ax"], 0xffff_0000, 0, CF, 0xffff_ffff, CF),
        ("and", &["eax", "ecx"], 0xf0, 0x3c, CF | OF, 0x30, PF),
        ("or", &["al", "cl"], 0x100, 0x80, CF, 0x180, SF),
        ("xor", &["eax", "eax"], ALL_ONES, 0, CF, 0, ZF | PF),
        ("test", &["eax", "ecx"], 1, 2, CF, 1, ZF | PF),
        ("shl", &["al", "1"], 0x81, 0, NONE, 2, CF | OF),
        ("shr", &["eax", "1"], 0x8000_0001, 0, NONE, 0x4000_0000, CF | OF | PF),
        ("sar", &["al", "1"], 0x81, 0, NONE, 0xc0, CF | SF | PF),
        // A count of 0 keeps the flags, and still clears the upper half of a 32-bit register.
        ("shl", &["eax", "cl"], ALL_ONES, 32, CF | ZF, 0xffff_ffff, CF | ZF),
        ("rol", &["al", "1"], 0x80, 0, ZF, 1, CF | OF | ZF),
        ("ror", &["al", "1"], 1, 0, NONE, 0x80, CF | OF),
        ("rcl", &["al", "1"], 0x80, 0, CF, 1, CF | OF),
        ("rcr", &["al", "1"], 1, 0, NONE, 0, CF),
        ("imul", &["eax", "ecx"], 3, 0xffff_fffe, NONE, 0xffff_fffa, NONE),
        ("imul", &["ax", "cx"], 0x4000, 4, NONE, 0, CF | OF),
        ("movzx", &["eax", "cl"], ALL_ONES, 0xfff, CF, 0xff, CF),
        ("movsx", &["ax", "cl"], 0, 0x80, CF, 0xff80, CF),
        ("movsxd", &["rax", "ecx"], 0, 0x8000_0000, CF, 0xffff_ffff_8000_0000, CF),
        ("cmove", &["eax", "ecx"], ALL_ONES, 9, NONE, 0xffff_ffff, NONE),
        ("cmove", &["eax", "ecx"], ALL_ONES, 9, ZF, 9, ZF),
        ("setb", &["al"], 0xff00, 0, CF, 0xff01, CF),
        ("cdqe", &[], 0x8000_0000, 0, NONE, 0xffff_ffff_8000_0000, NONE),
        ("cbw", &[], 0x1_0080, 0, NONE, 0x1_ff80, NONE),
        ("cwde", &[], 0xffff_8000, 0, NONE, 0xffff_8000, NONE),
    ];
    for &(mnemonic, operands, rax, rcx, before, wanted, flags) in cases {
        let mut machine = machine(mnemonic, operands);
        set(&mut machine, "rax", rax);
        set(&mut machine, "rcx", rcx);
        machine.set_flags(before);
        let step = machine.step();
        let what = format!("{mnemonic} {operands:?} of {rax:#x}, {rcx:#x}");
        assert_eq!(step.event, None, "{what}");
        assert_eq!(get(&machine, "rax"), wanted, "{what}: {:#x}", get(&machine, "rax"));
        let defined = !step.effects.flags.undefined;
        assert_eq!(machine.flags() & defined, flags & defined, "{what}");
    }
}

#[test]
fn products_and_quotients_are_twice_as_wide() {
    // mnemonic, operand, rdx, rax, rcx -> rdx, rax
    let cases = [
        ("mul", "rcx", 0, u64::MAX, 2, 1, u64::MAX - 1),
        ("mul", "ecx", u64::MAX, 0xffff_ffff, 0x10, 0xf, 0xffff_fff0),
        ("mul", "cl", 7, 0x1234_00ff, 2, 7, 0x1234_01fe),
        ("imul", "rcx", 0, u64::MAX, 2, u64::MAX, u64::MAX - 1),
        ("imul", "cl", 7, 0xff, 2, 7, 0xfffe),
        ("div", "ecx", 1, 0, 2, 0, 0x8000_0000),
        ("div", "cl", 7, 0x0107, 8, 7, 0x0720),
        ("idiv", "rcx", u64::MAX, 7u64.wrapping_neg(), 2, u64::MAX, 3u64.wrapping_neg()),
        ("idiv", "cx", 0xffff, 0xfff9, 0xfffe, 0xffff, 3),
        ("cqo", "", 0, 1 << 63, 0, u64::MAX, 1 << 63),
        ("cdq", "", u64::MAX, 1, 0, 0, 1),
        ("cwd", "", 0x1_0000, 0x8000, 0, 0x1_ffff, 0x8000),
    ];
    for (mnemonic, operand, rdx, rax, rcx, high, low) in cases {
        let operands: &[&str] = if operand.is_empty() { &[] } else { &[operand] };
        let mut machine = machine(mnemonic, operands);
        for (name, value) in [("rdx", rdx), ("rax", rax), ("rcx", rcx)] {
            set(&mut machine, name, value);
        }
        assert_eq!(machine.step().event, None, "{mnemonic} {operand}");
        let got = (get(&machine, "rdx"), get(&machine, "rax"));
        assert_eq!(got, (high, low), "{mnemonic} {operand}: {got:x?}");
    }
}

#[test]
fn divisions_fault_by_zero_and_when_the_quotient_does_not_fit_and_change_nothing() {
    for (mnemonic, rdx, rax, rcx, fault) in [
        ("div", 0, 5, 0, Fault::DivideByZero),
        ("div", 5, 0, 5, Fault::DivideOverflow),
        ("idiv", 0, 1 << 63, 1, Fault::DivideOverflow),
        ("idiv", u64::MAX, 1 << 63, u64::MAX, Fault::DivideOverflow),
        ("idiv", 1 << 63, 0, u64::MAX, Fault::DivideOverflow),
    ] {
        let mut machine = machine(mnemonic, &["rcx"]);
        for (name, value) in [("rdx", rdx), ("rax", rax), ("rcx", rcx)] {
            set(&mut machine, name, value);
        }
        let before = machine.cpu_state();
        assert_eq!(machine.step().event, Some(Event::Fault(fault)), "{mnemonic} {rcx}");
        assert_eq!(machine.cpu_state(), before);
    }
}

#[test]
fn the_stack_pointer_as_its_own_operand() {
    let mut pushing = machine("push", &["rsp"]);
    pushing.step();
    assert_eq!(get(&pushing, "rsp"), STACK - 8);
    assert_eq!(pushing.memory_mut().read::<8>(STACK - 8).unwrap(), STACK.to_le_bytes());

    let mut popping = machine("pop", &["rsp"]);
    popping.memory_mut().write(STACK, 0x1234u64.to_le_bytes()).unwrap();
    popping.step();
    assert_eq!(get(&popping, "rsp"), 0x1234);

    let mut word = machine("push", &["ax"]);
    set(&mut word, "rax", 0xbeef);
    word.step();
    assert_eq!(get(&word, "rsp"), STACK - 2);
}

#[test]
fn sysenter_leads_into_the_other_mode() {
    let event = machine("sysenter", &[]).step().event;
    assert_eq!(event, Some(Event::Fault(Fault::ModeChange)));
}

#[test]
fn calls_returns_and_loops() {
    let mut calling = machine("call", &["rax"]);
    set(&mut calling, "rax", CODE + 0x80);
    let step = calling.step();
    assert_eq!(calling.pc(), CODE + 0x80);
    assert_eq!(step.effects.memory[0].new, CODE + 2);

    let mut returning = machine("ret", &["16"]);
    returning.memory_mut().write(STACK, (CODE + 0x40).to_le_bytes()).unwrap();
    returning.step();
    assert_eq!((returning.pc(), get(&returning, "rsp")), (CODE + 0x40, STACK + 24));

    for (mnemonic, rcx, flags, taken) in [
        ("loop", 2, NONE, true),
        ("loop", 1, NONE, false),
        ("loop", 0, NONE, true),
        ("loope", 2, ZF, true),
        ("loope", 2, NONE, false),
        ("loopne", 2, NONE, true),
        ("loopne", 2, ZF, false),
    ] {
        let bytes = match mnemonic {
            "loop" => [0xe2, 0x10],
            "loope" => [0xe1, 0x10],
            _ => [0xe0, 0x10],
        };
        let mut machine = machine("nop", &[]);
        machine.memory_mut().load(CODE, &bytes).unwrap();
        set(&mut machine, "rcx", rcx);
        machine.set_flags(flags);
        machine.step();
        let wanted = if taken { CODE + 18 } else { CODE + 2 };
        assert_eq!(machine.pc(), wanted, "{mnemonic} with rcx {rcx}");
        assert_eq!(get(&machine, "rcx"), u64::wrapping_sub(rcx, 1));
        assert_eq!(machine.flags(), flags, "no flag changes");
    }
}

#[test]
fn a_system_call_leaves_the_return_address_and_the_flags() {
    let mut machine = machine("syscall", &[]);
    machine.set_flags(CF | ZF);
    let step = machine.step();
    assert_eq!((step.event, machine.pc()), (Some(Event::Syscall), CODE));
    machine.complete_syscall(Event::Syscall);
    assert_eq!((get(&machine, "rcx"), machine.pc()), (CODE + 2, CODE + 2));
    assert_eq!(get(&machine, "r11") & 0x41, 0x41);
}

#[test]
fn a_step_reports_reads_writes_and_names() {
    let mut machine = machine("xchg", &["ah", "cl"]);
    set(&mut machine, "rax", 0x1234);
    set(&mut machine, "rcx", 0x77);
    let effects = machine.step().effects;
    let names: Vec<_> = effects.registers.iter().map(|change| change.reg.name()).collect();
    assert_eq!(names, ["ah", "cl"]);
    assert_eq!(
        effects.reads.iter().map(|(reg, value)| (reg.name(), *value)).collect::<Vec<_>>(),
        [("ah", 0x12), ("cl", 0x77)]
    );
    assert_eq!((effects.registers[0].new, effects.registers[1].new), (0x7734, 0x12));

    let effects = self::machine("div", &["cl"]).step().effects;
    assert!(effects.registers.is_empty(), "a faulting instruction writes nothing");
}

#[test]
fn repeated_string_instructions_move_their_registers_and_stop_where_they_should() {
    // mnemonic, direction down, rcx, after: rcx, rsi, rdi from the start, flags
    let cases: &[(&str, bool, u64, u64, i64, i64, FlagSet)] = &[
        ("movsb", false, 9, 9, 1, 1, NONE),
        ("movsq", true, 9, 9, -8, -8, NONE),
        ("rep movsb", false, 3, 0, 3, 3, NONE),
        ("rep stosw", false, 4, 0, 0, 8, NONE),
        ("rep stosw", false, 0, 0, 0, 0, NONE),
        // The bytes are 1, 2, 3 ... at RSI and 1, 2, 9 ... at RDI.
        ("repe cmpsb", false, 8, 5, 3, 3, CF | SF | AF | PF),
        ("repne scasb", false, 8, 5, 0, 3, ZF | PF),
    ];
    for &(mnemonic, down, rcx, left, source, destination, flags) in cases {
        let mut machine = machine(mnemonic, &[]);
        let (from, to) = (0x50_0100u64, 0x50_0200u64);
        machine.memory_mut().load(from, &[1, 2, 3, 4, 5, 6, 7, 8]).unwrap();
        machine.memory_mut().load(to, &[1, 2, 9, 9, 9, 9, 9, 9]).unwrap();
        set(&mut machine, "rax", 9);
        set(&mut machine, "rcx", rcx);
        set(&mut machine, "rsi", from);
        set(&mut machine, "rdi", to);
        machine.set_flags(if down { sotto_isa::x86::flag::DF } else { NONE });
        assert_eq!(machine.step().event, None, "{mnemonic}");
        assert_eq!(get(&machine, "rcx"), left, "{mnemonic}");
        assert_eq!(get(&machine, "rsi"), from.wrapping_add_signed(source), "{mnemonic}");
        assert_eq!(get(&machine, "rdi"), to.wrapping_add_signed(destination), "{mnemonic}");
        let status = machine.flags() & sotto_isa::x86::flag::STATUS;
        assert_eq!(status, flags, "{mnemonic}");
    }
}

#[test]
fn what_a_kernel_keeps_to_itself_raises_its_signal() {
    for (mnemonic, operands, wanted) in [
        ("hlt", &[][..], Fault::Privileged),
        ("cli", &[], Fault::Privileged),
        ("int", &["5"], Fault::Privileged),
        ("int", &["4"], Fault::Overflow),
        ("ud2", &[], Fault::Illegal),
    ] {
        assert_eq!(machine(mnemonic, operands).step().event, Some(Event::Fault(wanted)));
    }
    assert_eq!(machine("int", &["128"]).step().event, Some(Event::Syscall32));
}

/// The clock counts instructions also in the middle of straight code, and random numbers follow the
/// seed, at full speed as in steps.
#[test]
fn the_clock_and_random_numbers_are_the_same_at_every_speed() {
    let code: Vec<u8> = [
        encode(Arch::X86_64, "nop", &[], 0).unwrap().bytes,
        encode(Arch::X86_64, "rdtsc", &[], 0).unwrap().bytes,
        encode(Arch::X86_64, "rdrand", &[reg("rcx")], 0).unwrap().bytes,
        encode(Arch::X86_64, "hlt", &[], 0).unwrap().bytes,
    ]
    .concat();
    let prepared = || {
        let mut machine = machine("nop", &[]);
        machine.memory_mut().load(CODE, &code).unwrap();
        machine.seed_random(7);
        machine
    };
    let (mut fast, mut slow) = (prepared(), prepared());
    fast.run(100);
    while slow.step().event.is_none() {}
    assert_eq!(fast.cpu_state(), slow.cpu_state());
    assert_eq!(get(&fast, "rax"), 1, "one instruction was completed before");
}
