//! Steps of AES and SHA. Sources: FIPS 197; FIPS 180-4; Arm ARM, C7.2, the instruction that each is named after.

use sotto_isa::Width;
use sotto_isa::arm64::vector::Crypto;

use super::{VectorOp, element, placed};
use crate::arm64::Cpu;

/// The function of a step.
pub(crate) fn step(step: Crypto) -> fn(&mut Cpu, &VectorOp) {
    match step {
        Crypto::Aese => aes_encrypt,
        Crypto::Aesd => aes_decrypt,
        Crypto::Aesmc => mix_columns,
        Crypto::Aesimc => mix_columns_back,
        Crypto::Sha1c => |cpu, op| sha1(cpu, op, choose),
        Crypto::Sha1p => |cpu, op| sha1(cpu, op, parity),
        Crypto::Sha1m => |cpu, op| sha1(cpu, op, majority),
        Crypto::Sha1h => sha1_rotate,
        Crypto::Sha1su0 => sha1_schedule_first,
        Crypto::Sha1su1 => sha1_schedule_second,
        Crypto::Sha256h => |cpu, op| sha256(cpu, op, true),
        Crypto::Sha256h2 => |cpu, op| sha256(cpu, op, false),
        Crypto::Sha256su0 => sha256_schedule_first,
        Crypto::Sha256su1 => sha256_schedule_second,
    }
}

/// The product in the field of AES. Source: FIPS 197, 4.2.
fn field_product(a: u8, b: u8) -> u8 {
    let (mut a, mut product) = (a, 0);
    for bit in 0..8 {
        if b >> bit & 1 == 1 {
            product ^= a;
        }
        a = a << 1 ^ if a & 0x80 != 0 { 0x1b } else { 0 };
    }
    product
}

/// The S-box. Source: FIPS 197, 5.1.1.
const fn substitution_table() -> [u8; 256] {
    // Generators of the field and its inverse walk through all pairs of a number and its inverse.
    let mut table = [0; 256];
    let (mut p, mut q) = (1u8, 1u8);
    loop {
        p = p ^ p << 1 ^ if p & 0x80 != 0 { 0x1b } else { 0 };
        q ^= q << 1;
        q ^= q << 2;
        q ^= q << 4;
        if q & 0x80 != 0 {
            q ^= 0x09;
        }
        let affine = q ^ q.rotate_left(1) ^ q.rotate_left(2) ^ q.rotate_left(3) ^ q.rotate_left(4);
        table[p as usize] = affine ^ 0x63;
        if p == 1 {
            break;
        }
    }
    table[0] = 0x63;
    table
}

const SUBSTITUTED: [u8; 256] = substitution_table();

const SUBSTITUTED_BACK: [u8; 256] = {
    let (mut table, mut at) = ([0; 256], 0);
    while at < 256 {
        table[SUBSTITUTED[at] as usize] = at as u8;
        at += 1;
    }
    table
};

/// Byte `at` of the state after its rows were shifted comes from this byte; a column has four bytes.
const fn shifted_from(at: usize) -> usize {
    (at + 4 * (at % 4)) % 16
}

fn aes_encrypt(cpu: &mut Cpu, op: &VectorOp) {
    let state = (cpu.vector(op.d) ^ cpu.vector(op.n)).to_le_bytes();
    let bytes: [u8; 16] =
        std::array::from_fn(|at| SUBSTITUTED[usize::from(state[shifted_from(at)])]);
    cpu.set_vector(op.d, u128::from_le_bytes(bytes));
}

fn aes_decrypt(cpu: &mut Cpu, op: &VectorOp) {
    let state = (cpu.vector(op.d) ^ cpu.vector(op.n)).to_le_bytes();
    let mut bytes = [0; 16];
    for (at, byte) in state.into_iter().enumerate() {
        // Where a byte comes from when rows are shifted, it goes when they are shifted back.
        bytes[shifted_from(at)] = SUBSTITUTED_BACK[usize::from(byte)];
    }
    cpu.set_vector(op.d, u128::from_le_bytes(bytes));
}

fn mixed(cpu: &mut Cpu, op: &VectorOp, factors: [u8; 4]) {
    let state = cpu.vector(op.n).to_le_bytes();
    let bytes: [u8; 16] = std::array::from_fn(|at| {
        let (column, row) = (at / 4 * 4, at % 4);
        (0..4).fold(0, |sum, k| sum ^ field_product(state[column + (row + k) % 4], factors[k]))
    });
    cpu.set_vector(op.d, u128::from_le_bytes(bytes));
}

fn mix_columns(cpu: &mut Cpu, op: &VectorOp) {
    mixed(cpu, op, [2, 3, 1, 1]);
}

fn mix_columns_back(cpu: &mut Cpu, op: &VectorOp) {
    mixed(cpu, op, [14, 11, 13, 9]);
}

fn choose(x: u32, y: u32, z: u32) -> u32 {
    x & (y ^ z) ^ z
}

fn parity(x: u32, y: u32, z: u32) -> u32 {
    x ^ y ^ z
}

fn majority(x: u32, y: u32, z: u32) -> u32 {
    x & y | (x | y) & z
}

/// The four words of a vector, the lowest first.
fn words(vector: u128) -> [u32; 4] {
    std::array::from_fn(|at| element(vector, at as u32, Width::W32) as u32)
}

fn of_words(words: [u32; 4]) -> u128 {
    let parts = words.into_iter().zip(0..);
    parts.fold(0, |vector, (word, at)| vector | placed(u64::from(word), at, Width::W32))
}

/// Four rounds of SHA-1. Source: Arm ARM, C7.2 SHA1C, SHA1P, SHA1M.
fn sha1(cpu: &mut Cpu, op: &VectorOp, function: fn(u32, u32, u32) -> u32) {
    let mut x = words(cpu.vector(op.d));
    let mut y = element(cpu.vector(op.n), 0, Width::W32) as u32;
    for w in words(cpu.vector(op.m)) {
        let t = function(x[1], x[2], x[3]);
        y = y.wrapping_add(x[0].rotate_left(5)).wrapping_add(t).wrapping_add(w);
        x[1] = x[1].rotate_left(30);
        (y, x) = (x[3], [y, x[0], x[1], x[2]]);
    }
    cpu.set_vector(op.d, of_words(x));
}

fn sha1_rotate(cpu: &mut Cpu, op: &VectorOp) {
    let word = element(cpu.vector(op.n), 0, Width::W32) as u32;
    cpu.set_vector(op.d, u128::from(word.rotate_left(30)));
}

fn sha1_schedule_first(cpu: &mut Cpu, op: &VectorOp) {
    let (d, n, m) = (cpu.vector(op.d), cpu.vector(op.n), cpu.vector(op.m));
    let joined = d >> 64 | n << 64;
    cpu.set_vector(op.d, joined ^ d ^ m);
}

fn sha1_schedule_second(cpu: &mut Cpu, op: &VectorOp) {
    let (d, n) = (cpu.vector(op.d), cpu.vector(op.n));
    let t = words(d ^ n >> 32);
    let mut result = t.map(|word| word.rotate_left(1));
    result[3] ^= t[0].rotate_left(2);
    cpu.set_vector(op.d, of_words(result));
}

/// Four rounds of SHA-256. Source: Arm ARM, shared pseudocode `SHA256hash`.
fn sha256(cpu: &mut Cpu, op: &VectorOp, first_half: bool) {
    let (d, n) = (words(cpu.vector(op.d)), words(cpu.vector(op.n)));
    let (mut x, mut y) = if first_half { (d, n) } else { (n, d) };
    for w in words(cpu.vector(op.m)) {
        let sum = y[0].rotate_right(6) ^ y[0].rotate_right(11) ^ y[0].rotate_right(25);
        let t = y[3].wrapping_add(sum).wrapping_add(choose(y[0], y[1], y[2])).wrapping_add(w);
        x[3] = x[3].wrapping_add(t);
        let sum = x[0].rotate_right(2) ^ x[0].rotate_right(13) ^ x[0].rotate_right(22);
        y[3] = t.wrapping_add(sum).wrapping_add(majority(x[0], x[1], x[2]));
        // Both halves end to end, rotated by a word.
        (x, y) = ([y[3], x[0], x[1], x[2]], [x[3], y[0], y[1], y[2]]);
    }
    cpu.set_vector(op.d, of_words(if first_half { x } else { y }));
}

fn sha256_schedule_first(cpu: &mut Cpu, op: &VectorOp) {
    let (d, n) = (words(cpu.vector(op.d)), words(cpu.vector(op.n)));
    let next = [d[1], d[2], d[3], n[0]];
    let result = std::array::from_fn(|at| {
        let t = next[at];
        d[at].wrapping_add(t.rotate_right(7) ^ t.rotate_right(18) ^ t >> 3)
    });
    cpu.set_vector(op.d, of_words(result));
}

fn sha256_schedule_second(cpu: &mut Cpu, op: &VectorOp) {
    let (d, n, m) = (words(cpu.vector(op.d)), words(cpu.vector(op.n)), words(cpu.vector(op.m)));
    let shifted = [n[1], n[2], n[3], m[0]];
    let mut result = [0; 4];
    for at in 0..4 {
        let t = if at < 2 { m[at + 2] } else { result[at - 2] };
        let sum = t.rotate_right(17) ^ t.rotate_right(19) ^ t >> 10;
        result[at] = sum.wrapping_add(d[at]).wrapping_add(shifted[at]);
    }
    cpu.set_vector(op.d, of_words(result));
}
