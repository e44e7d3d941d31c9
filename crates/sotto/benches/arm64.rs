//! A64: emulated instructions a second on five kernels, beside the kernels of the same work for x86-64, which are emulated
//! too; and words decoded a second, beside instructions of x86-64.

#![allow(missing_docs, reason = "the macros of the bench make public functions")]

mod common;
mod programs;

use std::hint::black_box;

use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use sotto_isa::{Arch, Decoder, Instruction, arm64};

use crate::programs::{emulate, image};

/// The kernels: name, source for A64, source for x86-64.
const KERNELS: [(&str, &str, &str); 5] = [
    ("sieve", include_str!("kernels/arm64/sieve.s"), include_str!("kernels/sieve.s")),
    ("matrix product", include_str!("kernels/arm64/matrix.s"), include_str!("kernels/matrix.s")),
    ("crc", include_str!("kernels/arm64/crc.s"), include_str!("kernels/crc.s")),
    ("string search", include_str!("kernels/arm64/search.s"), include_str!("kernels/search.s")),
    ("swell", include_str!("kernels/arm64/swell.s"), include_str!("kernels/swell.s")),
];

fn kernels(criterion: &mut Criterion) {
    let mut product = 1.0;
    for (name, a64, x86) in KERNELS {
        let (a64, x86) = (image(a64), image(x86));
        let (status, instructions) = emulate(&a64);
        let (other_status, other_instructions) = emulate(&x86);
        assert_eq!(status, other_status, "{name} ends alike on both machines");
        let mut group = criterion.benchmark_group(name);
        group.throughput(Throughput::Elements(instructions)).sample_size(10);
        group.bench_function("arm64", |bencher| bencher.iter(|| emulate(black_box(&a64))));
        group.finish();
        let (ours, theirs) = common::side_by_side(
            5,
            || {
                emulate(&a64);
            },
            || {
                emulate(&x86);
            },
        );
        let rate = instructions as f64 / ours.as_secs_f64() / 1e6;
        let other = other_instructions as f64 / theirs.as_secs_f64() / 1e6;
        product *= rate / other;
        println!(
            "{name}: {rate:.0} million a second on arm64, {other:.0} on x86-64: {:.2}",
            rate / other
        );
    }
    let mean = f64::powf(product, 1.0 / KERNELS.len() as f64);
    println!("geometric mean: {mean:.2} of the rate of x86-64");
}

/// Decoding a word of every row, in an order that no branch can be guessed from.
fn decoding(criterion: &mut Criterion) {
    let rows = u32::from(arm64::form_count());
    let words: Vec<u32> = (0..200_000u32)
        .map(|n| n.wrapping_mul(0x9e37_79b9))
        .map(|n| arm64::fill_row((n >> 8) as u16 % rows as u16, n.wrapping_mul(0x85eb_ca6b)))
        .collect();
    let run = || {
        let decoder = Decoder::of(Arch::Arm64);
        let mut instruction = Instruction::none(Arch::Arm64, 0);
        for word in &words {
            let _ = decoder.decode_into(&word.to_le_bytes(), &mut instruction);
            black_box(&instruction);
        }
    };
    let mut group = criterion.benchmark_group("decode");
    group.throughput(Throughput::Elements(words.len() as u64)).sample_size(10);
    group.bench_function("every row", |bencher| bencher.iter(run));
    group.finish();
    // Of what compilers write most: the integer core.
    let common_words = [
        0xa9bf_7bfdu32,
        0x9100_03fd,
        0xaa00_03e1,
        0xb940_0022,
        0x1100_0442,
        0x7100_145f,
        0x5400_0040,
        0xf940_0020,
        0x9400_0010,
        0xa8c1_7bfd,
        0xd65f_03c0,
        0x1e62_2820,
        0x4ea0_8420,
        0x3dc0_0020,
    ];
    let usual = || {
        let decoder = Decoder::of(Arch::Arm64);
        let mut instruction = Instruction::none(Arch::Arm64, 0);
        for at in 0..200_000usize {
            let word = common_words[at * 7 % common_words.len()];
            let _ = decoder.decode_into(&word.to_le_bytes(), &mut instruction);
            black_box(&instruction);
        }
    };
    let (all, most) = common::side_by_side(9, run, usual);
    let rate = |time: std::time::Duration| 0.2 / time.as_secs_f64();
    println!(
        "decoding: {:.0} million words a second of every row, {:.0} of usual ones",
        rate(all),
        rate(most)
    );
}

criterion_group!(group, kernels, decoding);
criterion_main!(group);
