//! Routines with known violations of their contracts: all are found, and nothing else.

mod common;

use std::collections::BTreeSet;

use proptest::prelude::*;
use sotto_check::Kind;
use sotto_check::call::{Argument, Ending, Routine};
use sotto_isa::Arch;
use sotto_kernel::Startup;

/// Registers that the routines change, by machine, and how: an instruction that changes the register, one that saves it
/// and one that restores it.
fn registers(arch: Arch) -> &'static [&'static str] {
    match arch {
        Arch::X86_64 => {
            &["rax", "rcx", "rdx", "rbx", "rsi", "rdi", "r8", "r9", "r11", "r12", "r15"]
        }
        Arch::X86_32 => &["eax", "ecx", "edx", "ebx", "esi", "edi"],
        Arch::Arm64 => &["x0", "x1", "x2", "x9", "x10", "x15", "x19", "x20", "x28"],
    }
}

/// What a routine does with a register.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
enum Treatment {
    /// Nothing.
    Left,
    /// It changes it, and the contract lists it.
    Listed,
    /// It changes it and restores it.
    Restored,
    /// It changes it, and the contract does not list it.
    Broken,
}

fn routine(arch: Arch, treatments: &[Treatment]) -> String {
    let chosen = |wanted: Treatment| {
        let pairs = registers(arch).iter().zip(treatments);
        pairs.filter(move |(_, treatment)| **treatment == wanted).map(|(name, _)| *name)
    };
    let mut text = format!("        .target {arch}\n");
    let comment = if arch == Arch::Arm64 { "//:" } else { ";:" };
    let listed: Vec<&str> = chosen(Treatment::Listed).collect();
    text += &format!(
        "{comment} changes {}\nlamp:\n",
        match listed.is_empty() {
            true => "nothing".to_string(),
            false => listed.join(", "),
        }
    );
    let restored: Vec<&str> = chosen(Treatment::Restored).collect();
    let (save, restore) = match arch {
        Arch::Arm64 => ("str REG, [sp, #-16]!", "ldr REG, [sp], #16"),
        Arch::X86_64 | Arch::X86_32 => ("push REG", "pop REG"),
    };
    for name in &restored {
        text += &format!("        {}\n", save.replace("REG", name));
    }
    for (name, treatment) in registers(arch).iter().zip(treatments) {
        if *treatment != Treatment::Left {
            text += &format!("        mov {name}, 7\n");
        }
    }
    for name in restored.iter().rev() {
        text += &format!("        {}\n", restore.replace("REG", name));
    }
    text + "        ret\n"
}

fn check(arch: Arch, treatments: &[Treatment]) -> Result<(), TestCaseError> {
    let text = routine(arch, treatments);
    let image = common::image_of_routine(&text, "lamp");
    let lamp = Routine::find(&image, &[], "lamp").unwrap();
    let startup = Startup::with_arguments(["lamp"]);
    let report = lamp.call(&[] as &[Argument], &startup, 1000).unwrap();
    prop_assert!(matches!(report.ending, Ending::Returned), "{text}");
    let pairs = registers(arch).iter().zip(treatments);
    let broken = pairs.filter(|(_, treatment)| **treatment == Treatment::Broken);
    let wanted: BTreeSet<&str> = broken.map(|(name, _)| *name).collect();
    let found: BTreeSet<&str> =
        report.findings.iter().map(|f| f.fact.split(' ').next().unwrap()).collect();
    prop_assert!(
        report.findings.iter().all(|f| Kind::of(f) == Some(Kind::ContractChange)),
        "{text}"
    );
    prop_assert_eq!(found, wanted, "{}", text);
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]
    #[test]
    fn exactly_the_registers_that_break_the_contract_are_found(
        treatments in proptest::collection::vec(
            prop_oneof![
                Just(Treatment::Left),
                Just(Treatment::Listed),
                Just(Treatment::Restored),
                Just(Treatment::Broken),
            ],
            11,
        )
    ) {
        for &arch in Arch::ALL {
            check(arch, &treatments[..registers(arch).len()])?;
        }
    }
}
