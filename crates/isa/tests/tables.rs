//! Laws that hold for every row of every machine's table.

use rand::rngs::SmallRng;
use rand::{Rng, SeedableRng};
use sotto_isa::sample::{self, Places};
use sotto_isa::{
    Arch, DecodeError, NoNames, Operand, arm64, decode, encode, form_docs, mnemonics, x86,
};

const PLACES: Places = Places { code: 0x40_1000, data: 0x60_0000, narrow_strings: true };

fn try_encode(arch: Arch, form: u16, operands: &[Operand]) -> Option<Vec<u8>> {
    let encoded = match arch {
        Arch::X86_64 | Arch::X86_32 => x86::encode_form(arch, form, operands, PLACES.code),
        _ => arm64::encode_form(form, operands, PLACES.code),
    };
    Some(encoded.ok()?.bytes.to_vec())
}

fn encode_form(arch: Arch, form: u16, operands: &[Operand]) -> Vec<u8> {
    try_encode(arch, form, operands).unwrap_or_else(|| panic!("{arch} row {form}: {operands:?}"))
}

fn accepted_only(arch: Arch, form: u16) -> bool {
    match arch {
        Arch::X86_64 | Arch::X86_32 => x86::form(form).accepted_only,
        _ => arm64::form(form).accepted_only,
    }
}

#[test]
fn every_row_encodes_decodes_and_encodes_to_the_same_bytes() {
    for &arch in Arch::ALL {
        for form in sample::forms(arch) {
            let mut rng = SmallRng::seed_from_u64(u64::from(form));
            let mut decoded_to_itself = 0;
            for _ in 0..200 {
                let operands = sample::operands(arch, form, PLACES, &mut rng);
                let bytes = encode_form(arch, form, &operands);
                let decoded = decode(arch, &bytes, PLACES.code)
                    .unwrap_or_else(|e| panic!("{arch} row {form} {operands:?} {bytes:x?}: {e}"));
                assert_eq!(usize::from(decoded.length), bytes.len(), "{operands:?} {bytes:x?}");
                let again = encode_form(arch, decoded.form, &decoded.operands);
                assert_eq!(again, bytes, "{}", decoded.print(&NoNames));
                // Every shorter prefix ends cleanly.
                for cut in 0..bytes.len() {
                    assert_eq!(decode(arch, &bytes[..cut], PLACES.code), Err(DecodeError::CutOff));
                }
                decoded_to_itself += u32::from(decoded.form == form);
            }
            assert!(
                decoded_to_itself > 0 || accepted_only(arch, form),
                "{arch} row {form} never decodes to itself; mark it accepted_only"
            );
        }
    }
}

#[test]
fn the_shortest_form_is_no_longer_than_any_row_that_takes_the_operands() {
    for form in sample::forms(Arch::X86_64) {
        let mut rng = SmallRng::seed_from_u64(u64::from(form));
        for _ in 0..50 {
            let operands = sample::operands(Arch::X86_64, form, PLACES, &mut rng);
            let bytes = encode_form(Arch::X86_64, form, &operands);
            let best = encode(Arch::X86_64, x86::form(form).mnemonic, &operands, PLACES.code);
            let best = best.unwrap_or_else(|e| panic!("row {form}: {e} {operands:?}"));
            assert!(best.bytes.len() <= bytes.len(), "{operands:?}");
        }
    }
}

#[test]
fn flag_sets_of_a_row_are_disjoint_and_every_row_has_its_words() {
    for &arch in Arch::ALL {
        for name in mnemonics(arch) {
            for doc in form_docs(arch, name) {
                let flags = doc.flags;
                let sets = [flags.modified, flags.cleared, flags.set, flags.undefined];
                let total: u32 = sets.iter().map(|set| set.0.count_ones()).sum();
                assert_eq!(total, flags.written().0.count_ones(), "{name}");
                for (_, extra) in flags.undefined_when {
                    assert!(flags.modified.contains(*extra), "{name}");
                }
                assert!(!doc.summary.is_empty() && !doc.source.is_empty(), "{name}");
                assert!(doc.summary.starts_with(|c: char| c.is_lowercase()), "{name}");
            }
        }
    }
}

#[test]
fn any_bytes_decode_within_fifteen_or_are_refused_and_decoding_is_stable() {
    let mut rng = SmallRng::seed_from_u64(7);
    for &arch in Arch::ALL {
        let mut decoded_count = 0;
        for _ in 0..200_000 {
            let bytes: [u8; 16] = rng.random();
            let Ok(instruction) = decode(arch, &bytes, PLACES.code) else { continue };
            decoded_count += 1;
            assert!((1..=15).contains(&instruction.length));
            let used = &bytes[..usize::from(instruction.length)];
            assert_eq!(decode(arch, used, PLACES.code).as_ref(), Ok(&instruction));
            let Some(again) = try_encode(arch, instruction.form, &instruction.operands) else {
                // Without its redundant prefixes a branch is shorter, and its target too far off.
                assert!(matches!(instruction.operands[0], Operand::Target(_)), "{bytes:x?}");
                continue;
            };
            let second = decode(arch, &again, PLACES.code).unwrap();
            assert_eq!(second.print(&NoNames), instruction.print(&NoNames), "{bytes:x?}");
        }
        assert!(decoded_count > 10_000, "{arch}: {decoded_count}");
    }
}
