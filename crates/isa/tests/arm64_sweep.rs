//! All words of A64, or one in so many: each decodes or is refused, and what decodes encodes to itself in its row. Bitmask
//! immediates have several words for one value (the upper bits of `immr` mean nothing where the mask repeats): there the word
//! that comes back is the same instruction. So it is with the bits of DUP and INS below and above the number of an element. Counts by the groups of the manual's first table (Arm ARM, C4.1 "A64 instruction set encoding").

use sotto_isa::{Arch, Decoder, Instruction, arm64, decode};

/// One word in so many; `SOTTO_A64_SWEEP=1` takes all.
fn stride() -> u64 {
    std::env::var("SOTTO_A64_SWEEP").ok().and_then(|text| text.parse().ok()).unwrap_or(4099)
}

/// The group by bits 25 to 28.
fn group(word: u32) -> &'static str {
    match word >> 25 & 15 {
        0 => "reserved",
        1 | 3 => "unallocated",
        2 => "scalable vectors",
        8 | 9 => "immediates",
        10 | 11 => "branches, exceptions and system",
        4 | 6 | 12 | 14 => "loads and stores",
        5 | 13 => "registers",
        _ => "floating point and vectors",
    }
}

#[test]
fn what_decodes_encodes_to_itself() {
    const AT: u64 = 0x40_0000;
    let threads = std::thread::available_parallelism().map_or(1, usize::from) as u64;
    let sweep = |thread: u64| {
        let decoder = Decoder::of(Arch::Arm64);
        let mut instruction = Instruction::none(Arch::Arm64, AT);
        let mut counts: std::collections::BTreeMap<&str, [u64; 2]> = Default::default();
        let step = stride() * threads;
        for word in (thread * stride()..1 << 32).step_by(step as usize) {
            let word = word as u32;
            let decoded = decoder.decode_into(&word.to_le_bytes(), &mut instruction).is_ok();
            counts.entry(group(word)).or_default()[usize::from(!decoded)] += 1;
            if !decoded {
                continue;
            }
            let again = arm64::encode_form(instruction.form, &instruction.operands, AT)
                .unwrap_or_else(|error| panic!("{word:#010x}: {error}"));
            if again.bytes[..] != word.to_le_bytes() {
                let is_bitmask = word >> 23 & 63 == 0b100100;
                let copies_element = word >> 21 & 0xff == 0b0111_0000 && word >> 10 & 1 == 1;
                let same = decode(Arch::Arm64, &again.bytes, AT).as_ref() == Ok(&instruction);
                assert!(
                    (is_bitmask || copies_element) && same,
                    "{word:#010x}: {:02x?}",
                    again.bytes
                );
                counts.entry("other words of one instruction").or_default()[0] += 1;
            }
        }
        counts
    };
    let mut counts: std::collections::BTreeMap<&str, [u64; 2]> = Default::default();
    std::thread::scope(|scope| {
        let running: Vec<_> = (0..threads).map(|n| scope.spawn(move || sweep(n))).collect();
        for thread in running {
            for (name, [decoded, refused]) in thread.join().unwrap() {
                let count = counts.entry(name).or_default();
                (count[0], count[1]) = (count[0] + decoded, count[1] + refused);
            }
        }
    });
    for (name, [decoded, refused]) in &counts {
        println!("{name}: {decoded} decode, {refused} are refused");
    }
    // Nothing is allocated in the first two but UDF, whose words are few, and scalable vectors are not modelled.
    assert_eq!(counts["unallocated"][0] + counts["scalable vectors"][0], 0);
    assert!(counts["immediates"][0] > counts["immediates"][1]);
}
