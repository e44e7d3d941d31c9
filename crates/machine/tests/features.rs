//! What CPUID answers is what the table has: every row's feature is told, and no other is.

use std::collections::BTreeSet;

use sotto_isa::{Arch, Feature, FeatureBit, Storage, x86};
use sotto_machine::{Machine, Permissions, RegionKind};

const CODE: u64 = 0x40_0000;

/// EAX, EBX, ECX and EDX after CPUID.
fn cpuid(arch: Arch, topic: u32) -> [u32; 4] {
    let mut machine = Machine::new(arch);
    let all = Permissions { read: true, write: true, execute: true };
    machine.memory_mut().map(RegionKind::Code, CODE, 0x1000, all).unwrap();
    machine.memory_mut().load(CODE, &[0x0f, 0xa2]).unwrap();
    machine.set_register(arch.pc(), CODE);
    machine.set_register(Storage(0), u64::from(topic));
    machine.step();
    [0, 3, 1, 2].map(|register| machine.register(Storage(register)) as u32)
}

fn features(arch: Arch) -> Vec<(u16, Feature)> {
    let rows = (0..x86::form_count()).filter(|&number| x86::is_valid(arch, number));
    rows.filter_map(|number| Some((number, x86::feature(number)?))).collect()
}

#[test]
fn every_feature_of_a_row_is_told() {
    for arch in [Arch::X86_64, Arch::X86_32] {
        for (number, feature) in features(arch) {
            let FeatureBit::Cpuid { leaf, register, bit } = feature.bit;
            let told = cpuid(arch, leaf)[usize::from(register)];
            let name = x86::form(number).mnemonic;
            assert!(told >> bit & 1 == 1, "{arch} `{name}`: {}", feature.name);
        }
    }
}

#[test]
fn no_feature_is_told_that_no_row_has() {
    // What is no instruction's: LAHF in 64-bit mode, pages that are not executed, 64-bit mode itself. And x87 and MMX, which
    // belong to 64-bit mode.
    let others =
        [(0x8000_0001, 2, 0), (0x8000_0001, 3, 20), (0x8000_0001, 3, 29), (1, 3, 0), (1, 3, 23)];
    let known: BTreeSet<(u32, u8, u8)> = features(Arch::X86_64)
        .iter()
        .map(|(_, feature)| {
            let FeatureBit::Cpuid { leaf, register, bit } = feature.bit;
            (leaf, register, bit)
        })
        .chain(others)
        .collect();
    for (topic, registers) in [(1, 2..4), (7, 1..4), (0x8000_0001, 2..4)] {
        let answer = cpuid(Arch::X86_64, topic);
        for register in registers {
            for bit in (0..32).filter(|bit| answer[register] >> bit & 1 == 1) {
                let place = (topic, register as u8, bit as u8);
                assert!(known.contains(&place), "topic {topic:#x}, register {register}, bit {bit}");
            }
        }
    }
}

#[test]
fn features_by_the_manuals_pages() {
    let named = |name: &str| -> BTreeSet<&str> {
        let rows = (0..x86::form_count()).filter(|&number| x86::form(number).mnemonic == name);
        rows.filter_map(x86::feature).map(|feature| feature.name).collect()
    };
    let cases = [
        ("addps", "SSE"),
        ("addss", "SSE"),
        ("addpd", "SSE2"),
        ("paddb", "SSE2"),
        ("movdqu", "SSE2"),
        ("cvtps2pd", "SSE2"),
        ("cvttps2dq", "SSE2"),
        ("movhlps", "SSE"),
        ("movmskps", "SSE"),
        ("haddpd", "SSE3"),
        ("movddup", "SSE3"),
        ("lddqu", "SSE3"),
        ("pshufb", "SSSE3"),
        ("palignr", "SSSE3"),
        ("pblendvb", "SSE4.1"),
        ("roundsd", "SSE4.1"),
        ("pcmpgtq", "SSE4.2"),
        ("pcmpestri", "SSE4.2"),
        ("crc32", "SSE4.2"),
        ("andn", "BMI1"),
        ("mulx", "BMI2"),
        ("sfence", "SSE"),
        ("mfence", "SSE2"),
    ];
    for (name, feature) in cases {
        assert_eq!(named(name), BTreeSet::from([feature]), "{name}");
    }
    assert!(named("add").is_empty() && named("rep movsb").is_empty());
}
