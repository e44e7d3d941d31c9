//! What is printed can be read back to the same bytes, for every row of every machine.

use rand::SeedableRng;
use rand::rngs::SmallRng;
use sotto_asm::assemble_instruction;
use sotto_isa::sample::{self, Places};
use sotto_isa::{Arch, Instruction, NoNames, OperandOrder, arm64, decode, encode, x86};

const PLACES: Places = Places { code: 0x40_1000, data: 0x60_0000, narrow_strings: true };

fn mnemonic(arch: Arch, form: u16) -> &'static str {
    match arch {
        Arch::X86_64 | Arch::X86_32 => x86::form(form).mnemonic,
        _ => arm64::form(form).mnemonic,
    }
}

/// Prints in an order and assembles what was printed.
fn reads_back(instruction: &Instruction, bytes: &[u8], order: OperandOrder) {
    let arch = instruction.arch;
    let text = instruction.print_in(order, &NoNames);
    let again = assemble_instruction(arch, order, &text, PLACES.code)
        .unwrap_or_else(|d| panic!("{arch} `{text}`: {}", d.message));
    assert_eq!(again, bytes, "{arch} `{text}`");
}

#[test]
fn print_parse_encode_gives_the_same_bytes_for_every_row() {
    for &arch in Arch::ALL {
        let mut printed = std::collections::BTreeSet::new();
        for form in sample::forms(arch) {
            let mut rng = SmallRng::seed_from_u64(u64::from(form));
            for _ in 0..200 {
                let operands = sample::operands(arch, form, PLACES, &mut rng);
                let encoded = encode(arch, mnemonic(arch, form), &operands, PLACES.code).unwrap();
                let bytes = encoded.bytes.to_vec();
                let instruction = decode(arch, &bytes, PLACES.code).unwrap();
                printed.insert(instruction.form);
                reads_back(&instruction, &bytes, OperandOrder::SourceFirst);
                let text = instruction.print(&NoNames);
                let again =
                    assemble_instruction(arch, OperandOrder::DestinationFirst, &text, PLACES.code)
                        .unwrap_or_else(|d| panic!("{arch} `{text}`: {}", d.message));
                assert_eq!(again, bytes, "{arch} `{text}`");
                let upper = assemble_instruction(
                    arch,
                    OperandOrder::DestinationFirst,
                    &text.to_uppercase(),
                    PLACES.code,
                );
                assert_eq!(upper.as_ref(), Ok(&bytes), "{arch} `{text}` in capitals");
            }
        }
        // Rows that the encoder never chooses are shadowed by a shorter or an earlier one.
        for form in sample::forms(arch) {
            if !printed.contains(&form) {
                let mut rng = SmallRng::seed_from_u64(u64::from(form));
                let operands = sample::operands(arch, form, PLACES, &mut rng);
                let direct = match arch {
                    Arch::X86_64 | Arch::X86_32 => {
                        x86::encode_form(arch, form, &operands, PLACES.code)
                    }
                    _ => arm64::encode_form(form, &operands, PLACES.code),
                };
                let best = encode(arch, mnemonic(arch, form), &operands, PLACES.code).unwrap();
                assert!(best.bytes.len() <= direct.unwrap().bytes.len(), "{arch} row {form}");
            }
        }
    }
}
