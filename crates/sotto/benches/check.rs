//! The checker beside a plain run of the same program, and a thousand calls of a small routine.

#![allow(missing_docs, reason = "the macros of the bench make public functions")]

mod common;
mod programs;

use std::hint::black_box;

use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use sotto_asm::{Options, Source, assemble};
use sotto_check::Checker;
use sotto_check::call::{Argument, Routine};
use sotto_isa::Arch;
use sotto_kernel::Startup;
use sotto_object::{Image, LinkOptions, link};
use sotto_session::{Session, StopReason};

use crate::programs::{emulate, image};

/// A loop with a routine in it.
const LOOP: &str = "\
        .target x86-64
        .global _start, mix
_start: xor     eax, eax
        mov     ebx, 20000
.next:  mov     edi, ebx
        call    mix
        dec     ebx
        jnz     .next
        mov     eax, 60
        xor     edi, edi
        syscall
mix:    add     eax, edi
        xor     eax, 0x55
        rol     eax, 3
        ret
";

/// The routines of the tests of `sotto call`, of which one is called.
const STATION: &str = include_str!("../../../tests/data/routines/station.s");

fn checked(image: &Image) -> usize {
    let startup = Startup::with_arguments(["bench"]);
    let mut session = Session::start(image.clone(), Vec::new(), &startup).expect("it starts");
    let mut checker = Checker::new(&session, sotto_check::Options::default());
    while checker.step(&mut session) == StopReason::Done {}
    checker.findings().len()
}

fn checking(criterion: &mut Criterion) {
    let image = image(LOOP);
    let (_, instructions) = emulate(&image);
    assert_eq!(checked(&image), 0, "the program is clean");
    let mut group = criterion.benchmark_group("check");
    group.throughput(Throughput::Elements(instructions)).sample_size(10);
    group.bench_function("checked", |bencher| bencher.iter(|| checked(black_box(&image))));
    group.finish();
    let (ours, plain) = common::side_by_side(
        5,
        || {
            checked(&image);
        },
        || {
            emulate(&image);
        },
    );
    println!("checked: {:.1} times a plain run", ours.as_secs_f64() / plain.as_secs_f64());
}

fn calling(criterion: &mut Criterion) {
    let source = Source { name: "station.s".into(), text: STATION.into() };
    let object = assemble(&source, &Options::default()).object.expect("the bench assembles");
    let options =
        LinkOptions { entry: "mean_".into(), local_entry: true, ..LinkOptions::default() };
    let image = link(&[object], &options).expect("the bench links");
    let routine = Routine::find(&image, &[], "mean_").expect("the routine is there");
    let typed = ["[9,3,7,1]:4byte", "4"];
    let arguments: Vec<Argument> =
        typed.iter().map(|text| Argument::parse(Arch::X86_64, text).expect("it is one")).collect();
    let startup = Startup::with_arguments(["bench"]);
    let call = || routine.call(&arguments, &startup, 1000).expect("the call is made");
    assert_eq!(call().results[0].bits, 5);
    let mut group = criterion.benchmark_group("call");
    group.sample_size(10);
    group.bench_function("a thousand cases", |bencher| {
        bencher.iter(|| (0..1000).map(|_| call().instructions).sum::<u64>());
    });
    group.finish();
}

criterion_group!(benches, checking, calling);
criterion_main!(benches);
