//! A loop that calls a routine and stores a count: into the page of its own code, beside the same loop that stores into a
//! page of data.

#![allow(missing_docs, reason = "the macros of the bench make public functions")]

mod common;

use std::hint::black_box;

use criterion::{Criterion, criterion_group, criterion_main};
use sotto_asm::{Options, Source, assemble};
use sotto_kernel::{Startup, Stop, System};
use sotto_object::{Image, LinkOptions, link};

/// The loop, after its page was made writable; `count` lies in the section that is given.
fn image(section: &str) -> Image {
    let text = format!(
        " .target x86-64
 .global _start
 .text
_start: lea rdi, [_start]
 and rdi, -4096
 mov esi, 4096
 mov edx, 7
 mov eax, 10
 syscall
 mov ecx, 2000000
.more: call bell
 mov [count], rcx
 dec ecx
 jnz .more
 mov eax, 60
 xor edi, edi
 syscall
bell: lea rax, [rcx + 1]
 ret
 {section}
 .balign 64
count: .quad 0
"
    );
    let source = Source { name: "flash.s".into(), text: text.into() };
    let object = assemble(&source, &Options::default()).object.expect("the bench assembles");
    link(&[object], &LinkOptions::default()).expect("the bench links")
}

fn run(image: &Image) {
    let startup = Startup::with_arguments(["flash"]);
    let mut system = System::start(image, &startup).expect("the arguments are short");
    while !matches!(system.run(u64::MAX).stop, Stop::Terminated(_)) {}
}

fn benches(criterion: &mut Criterion) {
    let (beside_code, beside_data) = (image(".text"), image(".data"));
    let mut group = criterion.benchmark_group("stores");
    group.sample_size(10);
    group.bench_function("beside code", |bencher| bencher.iter(|| run(black_box(&beside_code))));
    group.bench_function("beside data", |bencher| bencher.iter(|| run(black_box(&beside_data))));
    group.finish();
    let (code, data) = common::side_by_side(9, || run(&beside_code), || run(&beside_data));
    println!(
        "a store into the page of the loop's own code: {:.2} times the time of one into data",
        code.as_secs_f64() / data.as_secs_f64()
    );
}

criterion_group!(group, benches);
criterion_main!(group);
