//! Vector instructions that move elements: permutations, tables, copies to and from general registers, immediates.

use sotto_isa::Width;
use sotto_isa::arm64::vector::Permutation;

use super::{VectorOp, element, placed};
use crate::arm64::Cpu;

/// REV16, REV32 and REV64: `imm` bits hold as many elements as are reversed.
pub(crate) fn reverse(cpu: &mut Cpu, op: &VectorOp) {
    let n = cpu.vector(op.n);
    let group = op.imm as u32 / op.n_width.bits();
    let mut result = 0;
    for index in 0..u32::from(op.count) {
        let from = index / group * group + (group - 1 - index % group);
        result |= placed(element(n, from, op.n_width), index, op.n_width);
    }
    cpu.set_vector(op.d, result);
}

/// The function of a permutation.
pub(crate) fn permutation(how: Permutation) -> fn(&mut Cpu, &VectorOp) {
    match how {
        Permutation::Uzp { second: false } => permute::<0, 0>,
        Permutation::Uzp { second: true } => permute::<0, 1>,
        Permutation::Trn { second: false } => permute::<1, 0>,
        Permutation::Trn { second: true } => permute::<1, 1>,
        Permutation::Zip { second: false } => permute::<2, 0>,
        Permutation::Zip { second: true } => permute::<2, 1>,
    }
}

/// UZP (`HOW` 0), TRN (1) and ZIP (2).
fn permute<const HOW: u8, const SECOND: u32>(cpu: &mut Cpu, op: &VectorOp) {
    let (n, m) = (cpu.vector(op.n), cpu.vector(op.m));
    let (count, width) = (u32::from(op.count), op.d_width);
    let mut result = 0;
    for index in 0..count {
        let (from_m, from) = match HOW {
            0 => {
                let place = 2 * index + SECOND;
                (place >= count, place % count)
            }
            1 => (index % 2 == 1, index / 2 * 2 + SECOND),
            _ => (index % 2 == 1, index / 2 + SECOND * count / 2),
        };
        let value = element(if from_m { m } else { n }, from, width);
        result |= placed(value, index, width);
    }
    cpu.set_vector(op.d, result);
}

/// EXT; `imm` is the first byte.
pub(crate) fn extract(cpu: &mut Cpu, op: &VectorOp) {
    let (n, m) = (cpu.vector(op.n), cpu.vector(op.m));
    let count = u32::from(op.count);
    let mut result = 0;
    for index in 0..count {
        let place = index + op.imm as u32;
        let byte = match place < count {
            true => element(n, place, Width::W8),
            false => element(m, place - count, Width::W8),
        };
        result |= placed(byte, index, Width::W8);
    }
    cpu.set_vector(op.d, result);
}

/// TBL and TBX: `a` registers from `n` on are the table.
pub(crate) fn table<const KEEPS: bool>(cpu: &mut Cpu, op: &VectorOp) {
    let (m, d) = (cpu.vector(op.m), cpu.vector(op.d));
    let mut result = 0;
    for index in 0..u32::from(op.count) {
        let number = element(m, index, Width::W8) as u8;
        let byte = match number < 16 * op.a {
            true => {
                let register = (op.n + number / 16) % 32;
                element(cpu.vector(register), u32::from(number % 16), Width::W8)
            }
            false if KEEPS => element(d, index, Width::W8),
            false => 0,
        };
        result |= placed(byte, index, Width::W8);
    }
    cpu.set_vector(op.d, result);
}

/// A value in every element.
fn replicated(value: u64, width: Width, count: u8) -> u128 {
    (0..u32::from(count)).fold(0, |vector, index| vector | placed(value, index, width))
}

/// DUP of an element.
pub(crate) fn duplicate_element(cpu: &mut Cpu, op: &VectorOp) {
    let value = element(cpu.vector(op.n), u32::from(op.n_from), op.d_width);
    cpu.set_vector(op.d, replicated(value, op.d_width, op.count));
}

/// DUP of a general register.
pub(crate) fn duplicate_general(cpu: &mut Cpu, op: &VectorOp) {
    let value = cpu.get(op.n);
    cpu.set_vector(op.d, replicated(value, op.d_width, op.count));
}

fn insert(cpu: &mut Cpu, op: &VectorOp, value: u64) {
    let to = u32::from(op.d_from);
    let kept = cpu.vector(op.d) & !placed(u64::MAX, to, op.d_width);
    cpu.set_vector(op.d, kept | placed(value, to, op.d_width));
}

/// INS of an element.
pub(crate) fn insert_element(cpu: &mut Cpu, op: &VectorOp) {
    let value = element(cpu.vector(op.n), u32::from(op.n_from), op.d_width);
    insert(cpu, op, value);
}

/// INS of a general register, and FMOV to the upper half.
pub(crate) fn insert_general(cpu: &mut Cpu, op: &VectorOp) {
    insert(cpu, op, cpu.get(op.n));
}

/// UMOV, SMOV and FMOV to a general register: `d` is one, of the destination's width.
pub(crate) fn to_general(cpu: &mut Cpu, op: &VectorOp) {
    let value = element(cpu.vector(op.n), u32::from(op.n_from), op.n_width);
    let value = if op.signed { op.n_width.sign_extend(value) as u64 } else { value };
    cpu.put(op.d, value & op.d_width.mask());
}

/// FMOV of a general register; the rest of the vector becomes zero.
pub(crate) fn from_general(cpu: &mut Cpu, op: &VectorOp) {
    let value = cpu.get(op.n) & op.d_width.mask();
    cpu.set_vector(op.d, u128::from(value));
}

/// MOVI, MVNI and FMOV of an immediate: `imm` in every element.
pub(crate) fn immediate(cpu: &mut Cpu, op: &VectorOp) {
    cpu.set_vector(op.d, replicated(op.imm, op.d_width, op.count));
}

/// ORR and BIC of an immediate.
pub(crate) fn with_immediate<const CLEAR: bool>(cpu: &mut Cpu, op: &VectorOp) {
    let mask = replicated(op.imm, op.d_width, op.count);
    let bits = u32::from(op.count) * op.d_width.bits();
    let value = cpu.vector(op.d) & (u128::MAX >> (128 - bits));
    cpu.set_vector(op.d, if CLEAR { value & !mask } else { value | mask });
}
