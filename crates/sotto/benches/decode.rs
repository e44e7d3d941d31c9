//! Instructions decoded a second, of what a compiler made.

#![allow(missing_docs, reason = "the macros of the bench make public functions")]

mod common;

use std::hint::black_box;

use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use sotto_isa::{Arch, Decoder, Instruction, decode};

/// Decoding what a compiler made: the code of this bench itself.
fn decoding(criterion: &mut Criterion) {
    let own = std::env::current_exe().and_then(std::fs::read).expect("the bench can be read");
    let file = object_text(&own);
    let mut starts = Vec::new();
    let mut at = 0;
    while at < file.len() {
        match decode(Arch::X86_64, &file[at..file.len().min(at + 15)], at as u64) {
            Ok(instruction) => {
                starts.push(at);
                at += usize::from(instruction.length);
            }
            // AVX and what else has no rows yet.
            Err(_) => at += 1,
        }
    }
    let mut group = criterion.benchmark_group("decode");
    group.throughput(Throughput::Elements(starts.len() as u64)).sample_size(10);
    let run = || {
        let decoder = Decoder::of(Arch::X86_64);
        let mut instruction = Instruction::none(Arch::X86_64, 0);
        for &at in &starts {
            instruction.address = at as u64;
            // The compiler does not know what is in a file, so that only the result need be asked for.
            let _ = decoder.decode_into(&file[at..], &mut instruction);
            black_box(&instruction);
        }
    };
    group.bench_function("compiled code", |bencher| bencher.iter(run));
    group.finish();
    let (time, _) = common::side_by_side(7, run, || {});
    let rate = starts.len() as f64 / time.as_secs_f64() / 1e6;
    println!("decoding: {} instructions, {rate:.0} million a second", starts.len());
}

/// The code of an ELF file.
fn object_text(file: &[u8]) -> Vec<u8> {
    let elf = goblin::elf::Elf::parse(file).expect("it is an ELF file");
    let text =
        elf.section_headers.iter().find(|s| elf.shdr_strtab.get_at(s.sh_name) == Some(".text"));
    let range = text.and_then(|text| text.file_range()).expect("there is code");
    file[range].to_vec()
}

criterion_group!(group, decoding);
criterion_main!(group);
