//! Laws that hold for any operands: the same answer by another way.

use proptest::prelude::*;
use sotto_isa::x86::flag::{CF, OF};
use sotto_isa::{Arch, FlagSet, Operand, Reg, RegisterId, RegisterValue, Storage, Value, encode};
use sotto_machine::{Machine, Permissions, RegionKind};

const CODE: u64 = 0x40_0000;

fn operand(text: &str) -> Operand {
    match text.parse() {
        Ok(number) => Operand::Imm(Value::Known(number)),
        Err(_) => Operand::Reg(Reg::parse(Arch::X86_64, text).unwrap()),
    }
}

/// A machine after one instruction, which began with these vectors, general registers and flags.
fn run(instruction: &str, vectors: [u128; 2], general: [u64; 4], flags: FlagSet) -> Machine {
    let (mnemonic, operands) = instruction.split_once(' ').unwrap_or((instruction, ""));
    let operands: Vec<Operand> =
        operands.split(", ").filter(|text| !text.is_empty()).map(operand).collect();
    let bytes = encode(Arch::X86_64, mnemonic, &operands, CODE).unwrap().bytes;
    let mut machine = Machine::new(Arch::X86_64);
    let all = Permissions { read: true, write: true, execute: true };
    machine.memory_mut().map(RegionKind::Code, CODE, 64, all).unwrap();
    machine.memory_mut().load(CODE, &bytes).unwrap();
    machine.set_register(Arch::X86_64.pc(), CODE);
    for (number, value) in (0..).zip(vectors) {
        machine.set_bank_register(RegisterId::vector(number), RegisterValue::from(value));
    }
    for (number, value) in (0..).zip(general) {
        machine.set_register(Storage(number), value);
    }
    machine.set_flags(flags);
    assert_eq!(machine.step().event, None, "{instruction}");
    machine
}

/// XMM0 after an instruction on XMM0 and XMM1, or with its immediate.
fn packed(mnemonic: &str, a: u128, b: u128) -> u128 {
    run(&format!("{mnemonic} xmm0, xmm1"), [a, b], [0; 4], FlagSet::NONE)
        .bank_register(RegisterId::vector(0))
        .low_128()
}

fn shifted(mnemonic: &str, a: u128, count: u8) -> u128 {
    run(&format!("{mnemonic} xmm0, {count}"), [a, 0], [0; 4], FlagSet::NONE)
        .bank_register(RegisterId::vector(0))
        .low_128()
}

/// RAX after an instruction on RAX, RCX and RDX.
fn general(instruction: &str, a: u64, b: u64, c: u64) -> u64 {
    run(instruction, [0; 2], [a, b, c, 0], FlagSet::NONE).register(Storage(0))
}

fn double(value: f64) -> u128 {
    u128::from(value.to_bits())
}

fn as_double(vector: u128) -> f64 {
    f64::from_bits(vector as u64)
}

proptest! {
    #[test]
    fn subtracting_undoes_adding(a: u128, b: u128) {
        for (add, sub) in
            [("paddb", "psubb"), ("paddw", "psubw"), ("paddd", "psubd"), ("paddq", "psubq")]
        {
            prop_assert_eq!(packed(sub, packed(add, a, b), b), a, "{}", add);
        }
    }

    #[test]
    fn smaller_and_larger_are_the_two_operands(a: u128, b: u128) {
        for (min, max, add) in [
            ("pminub", "pmaxub", "paddb"),
            ("pminsb", "pmaxsb", "paddb"),
            ("pminuw", "pmaxuw", "paddw"),
            ("pminsw", "pmaxsw", "paddw"),
            ("pminud", "pmaxud", "paddd"),
            ("pminsd", "pmaxsd", "paddd"),
        ] {
            let both = packed(add, packed(min, a, b), packed(max, a, b));
            prop_assert_eq!(both, packed(add, a, b), "{}", min);
        }
        // What stops at zero is what is above the smaller.
        let above = packed("psubusb", a, b);
        prop_assert_eq!(packed("paddb", above, packed("pminub", a, b)), a);
    }

    #[test]
    fn one_of_less_equal_and_greater_holds(a: u128, b: u128) {
        for (greater, equal) in [
            ("pcmpgtb", "pcmpeqb"),
            ("pcmpgtw", "pcmpeqw"),
            ("pcmpgtd", "pcmpeqd"),
            ("pcmpgtq", "pcmpeqq"),
        ] {
            let (more, less) = (packed(greater, a, b), packed(greater, b, a));
            prop_assert_eq!(more ^ less ^ packed(equal, a, b), u128::MAX);
            prop_assert_eq!(more & less, 0);
        }
    }

    #[test]
    fn low_and_high_halves_make_the_whole_product(a: u128, b: u128) {
        let (low, high) = (packed("pmullw", a, b), packed("pmulhw", a, b));
        let unsigned = packed("pmulhuw", a, b);
        for n in 0..8 {
            let word = |v: u128| (v >> (16 * n)) as u16;
            let whole = i32::from(word(a) as i16) * i32::from(word(b) as i16);
            prop_assert_eq!(whole as u32, u32::from(word(high)) << 16 | u32::from(word(low)));
            let whole = u32::from(word(a)) * u32::from(word(b));
            prop_assert_eq!(whole >> 16, u32::from(word(unsigned)));
        }
    }

    #[test]
    fn widening_and_packing_give_the_bytes_back(a: u128) {
        let wide = packed("pmovzxbw", 0, a);
        let twice = a & u128::from(u64::MAX) | a << 64;
        prop_assert_eq!(packed("packuswb", wide, wide), twice);
        let signed = packed("pmovsxbw", 0, a);
        prop_assert_eq!(packed("packsswb", signed, signed), twice);
    }

    #[test]
    fn reversing_twice_and_shifting_there_and_back_keep_what_is_kept(a: u128, count in 0u8..64) {
        let reverse = 0x0001_0203_0405_0607_0809_0a0b_0c0d_0e0f;
        let once = packed("pshufb", a, reverse);
        prop_assert_eq!(once, a.swap_bytes());
        prop_assert_eq!(packed("pshufb", once, reverse), a);
        let back = shifted("psrlq", shifted("psllq", a, count), count);
        let kept = u128::from(u64::MAX >> count);
        prop_assert_eq!(back, a & (kept << 64 | kept));
        prop_assert_eq!(packed("psadbw", a, once), packed("psadbw", once, a));
    }

    #[test]
    fn scalars_compute_as_the_host_does_in_the_default_mode(a: f64, b: f64) {
        for (mnemonic, wanted) in [("addsd", a + b), ("subsd", a - b), ("mulsd", a * b), ("divsd", a / b)] {
            let ours = as_double(packed(mnemonic, double(a), double(b)));
            prop_assert!(ours.to_bits() == wanted.to_bits() || (ours.is_nan() && wanted.is_nan()));
        }
        let root = as_double(packed("sqrtsd", 0, double(a.abs())));
        prop_assert!(root.to_bits() == a.abs().sqrt().to_bits() || a.is_nan());
    }

    #[test]
    fn rounding_down_and_up_enclose_a_number_by_less_than_one(a in -1e9f64..1e9) {
        let round = |how: u8| {
            let instruction = format!("roundsd xmm0, xmm1, {how}");
            as_double(run(&instruction, [0, double(a)], [0; 4], FlagSet::NONE).bank_register(RegisterId::vector(0)).low_128())
        };
        let (nearest, down, up, zero) = (round(0), round(1), round(2), round(3));
        prop_assert!(down <= a && a <= up && up - down <= 1.0);
        prop_assert!(nearest == down || nearest == up);
        prop_assert_eq!(zero, if a < 0.0 { up } else { down });
        let integer = run("cvttsd2si rax, xmm1", [0, double(a)], [0; 4], FlagSet::NONE);
        prop_assert_eq!(integer.register(Storage(0)) as i64 as f64, zero);
    }

    #[test]
    fn strings_are_found_where_the_library_finds_them(text in "[a-d]{0,15}", word in "[a-d]{1,4}") {
        let vector = |text: &str| {
            text.bytes().rev().fold(0u128, |vector, byte| vector << 8 | u128::from(byte))
        };
        // Equal in order: a substring. Up to the end of the text only whole words count.
        let machine = run("pcmpistri xmm0, xmm1, 12", [vector(&word), vector(&text)], [0; 4], FlagSet::NONE);
        let found = machine.register(Storage(1)) as usize;
        prop_assert_eq!(found, text.find(&word).unwrap_or(16));
        prop_assert_eq!(machine.flags().contains(CF), text.contains(&word));
        // Equal to any: the first letter of the set.
        let machine = run("pcmpistri xmm0, xmm1, 0", [vector(&word), vector(&text)], [0; 4], FlagSet::NONE);
        let wanted = text.find(|c| word.contains(c)).unwrap_or(16);
        prop_assert_eq!(machine.register(Storage(1)) as usize, wanted);
    }

    #[test]
    fn gathered_bits_are_spread_back_to_where_they_were(a: u64, mask: u64) {
        let gathered = general("pext rax, rax, rcx", a, mask, 0);
        prop_assert!(gathered.leading_zeros() >= mask.count_zeros());
        prop_assert_eq!(general("pdep rax, rax, rcx", gathered, mask, 0), a & mask);
    }

    #[test]
    fn scans_and_counts_agree(a in 1u64..) {
        prop_assert_eq!(general("bsf rax, rcx", 0, a, 0), general("tzcnt rax, rcx", 0, a, 0));
        prop_assert_eq!(general("bsr rax, rcx", 0, a, 0), 63 - general("lzcnt rax, rcx", 0, a, 0));
        let lowest = general("blsi rax, rcx", 0, a, 0);
        prop_assert_eq!(lowest, a & a.wrapping_neg());
        prop_assert_eq!(general("blsr rax, rcx", 0, a, 0), a ^ lowest);
    }

    #[test]
    fn two_steps_with_either_carry_are_one_wide_addition(a: u128, b: u128) {
        for (mnemonic, carry) in [("adcx", CF), ("adox", OF)] {
            let instruction = format!("{mnemonic} rax, rcx");
            let low = run(&instruction, [0; 2], [a as u64, b as u64, 0, 0], FlagSet::NONE);
            let high = run(&instruction, [0; 2], [(a >> 64) as u64, (b >> 64) as u64, 0, 0], low.flags());
            let (sum, over) = a.overflowing_add(b);
            let ours = u128::from(high.register(Storage(0))) << 64 | u128::from(low.register(Storage(0)));
            prop_assert_eq!(ours, sum);
            prop_assert_eq!(high.flags().contains(carry), over);
        }
    }

    #[test]
    fn a_check_of_eight_bytes_is_eight_checks_of_one(a: u64, start: u32) {
        let whole = general("crc32 rax, rcx", start.into(), a, 0);
        let bytes = a.to_le_bytes().iter().fold(u64::from(start), |crc, byte| {
            general("crc32 eax, cl", crc, u64::from(*byte), 0)
        });
        prop_assert_eq!(whole, bytes);
    }

    #[test]
    fn double_shifts_are_shifts_of_both_together(a: u64, b: u64, count in 1u8..64) {
        let wide = u128::from(a) << 64 | u128::from(b);
        let left = general(&format!("shld rax, rcx, {count}"), a, b, 0);
        prop_assert_eq!(left, (wide << count >> 64) as u64);
        let right = general(&format!("shrd rax, rcx, {count}"), b, a, 0);
        prop_assert_eq!(right, (wide >> count) as u64);
    }
}
