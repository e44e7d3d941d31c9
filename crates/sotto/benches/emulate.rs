//! Emulated instructions a second on five kernels, beside the native time of the same ELF.
//!
//! The native times hold the start of the process, which is why the loops are long.

#![allow(missing_docs, reason = "the macros of the bench make public functions")]

mod common;
mod programs;

use std::hint::black_box;
use std::os::unix::fs::PermissionsExt;
use std::process::Command;

use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use sotto_object::write_executable;

use crate::programs::{emulate, image};

/// The kernels: name and source.
const KERNELS: [(&str, &str); 5] = [
    ("sieve", include_str!("kernels/sieve.s")),
    ("matrix product", include_str!("kernels/matrix.s")),
    ("crc", include_str!("kernels/crc.s")),
    ("string search", include_str!("kernels/search.s")),
    ("swell", include_str!("kernels/swell.s")),
];

fn benches(criterion: &mut Criterion) {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let mut product = 1.0;
    for (name, text) in KERNELS {
        let image = image(text);
        let path = folder.path().join("program");
        std::fs::write(&path, write_executable(&image)).expect("the program is written");
        std::fs::set_permissions(&path, PermissionsExt::from_mode(0o755)).expect("it may be run");
        let native = || Command::new(&path).status().expect("it runs").code();
        let (status, instructions) = emulate(&image);
        assert_eq!(native(), Some(status), "both ways end alike");

        let mut group = criterion.benchmark_group(name);
        group.throughput(Throughput::Elements(instructions)).sample_size(10);
        group.bench_function("emulated", |bencher| bencher.iter(|| emulate(black_box(&image))));
        group.bench_function("native", |bencher| bencher.iter(native));
        group.finish();

        let (ours, theirs) = common::side_by_side(
            7,
            || {
                emulate(&image);
            },
            || {
                native();
            },
        );
        let rate = instructions as f64 / ours.as_secs_f64() / 1e6;
        let ratio = ours.as_secs_f64() / theirs.as_secs_f64();
        product *= ratio;
        println!(
            "{name}: {instructions} instructions, {rate:.0} million a second emulated, {ratio:.1} times the native time"
        );
    }
    let mean = f64::powf(product, 1.0 / KERNELS.len() as f64);
    println!("geometric mean: {mean:.1} times the native time");
}

criterion_group!(group, benches);
criterion_main!(group);
