//! LD1 to LD4 and ST1 to ST4.
//!
//! Source: Arm ARM, C7.2 LD1 to ST4; elements are transferred one by one, the lowest first.

use sotto_isa::{IndexMode, Width};

use crate::arm64::memory::{address, after_store};
use crate::arm64::op::Op;
use crate::arm64::vector::{VectorOp, element, placed};
use crate::arm64::{Cpu, NOWHERE};
use crate::code::processor::{Flow, Result};
use crate::{Memory, Observer};

/// Post-index addressing: the base moves by a register, or by the immediate.
fn finish<O>(cpu: &mut Cpu, op: &Op<O>, base: u64) {
    if op.mode == IndexMode::Post {
        let by = if op.m == NOWHERE { op.imm } else { cpu.get(op.m) };
        cpu.put(op.n, base.wrapping_add(by));
    }
}

/// The register `number` places after the first of the list; v0 follows v31.
fn register(vector: &VectorOp, number: u8) -> u8 {
    (vector.d + number) % 32
}

fn put_registers(cpu: &mut Cpu, vector: &VectorOp, values: &[u128; 4]) {
    for (number, value) in (0..vector.a).zip(values) {
        cpu.set_vector(register(vector, number), *value);
    }
}

/// Whether memory is transferred by whole registers of 16 bytes, one after the other.
fn whole_registers(vector: &VectorOp) -> bool {
    vector.n_from == 1 && u32::from(vector.count) * vector.d_width.bits() == 128
}

/// Every element in the order of memory: its register and its number. `n_from` is how many members a structure has, `a` how
/// many registers there are.
fn places(vector: &VectorOp) -> impl Iterator<Item = (u8, u32)> + use<> {
    let (members, registers, count) = (vector.n_from, vector.a, vector.count);
    let groups = registers / members;
    (0..groups).flat_map(move |group| {
        (0..count).flat_map(move |index| {
            (0..members).map(move |member| (group * members + member, u32::from(index)))
        })
    })
}

pub(crate) fn load<O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let Some(vector) = &op.vector else { return Ok(Flow::Next) };
    let (base, _) = address(cpu, op)?;
    let bytes = vector.d_width.bytes();
    let mut loaded = [0u128; 4];
    if whole_registers(vector) {
        for (number, value) in loaded.iter_mut().take(usize::from(vector.a)).enumerate() {
            *value = memory.load_vector(base.wrapping_add(16 * number as u64), observer)?;
        }
    } else {
        for ((number, index), step) in places(vector).zip(0..) {
            let value = memory.load_value(base.wrapping_add(step * bytes), bytes, observer)?;
            loaded[usize::from(number)] |= placed(value, index, vector.d_width);
        }
    }
    put_registers(cpu, vector, &loaded);
    finish(cpu, op, base);
    Ok(Flow::Next)
}

pub(crate) fn store<O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let Some(vector) = &op.vector else { return Ok(Flow::Next) };
    let (base, _) = address(cpu, op)?;
    let bytes = vector.d_width.bytes();
    let whole = u64::from(vector.a) * u64::from(vector.count) * bytes;
    memory.check_writable(base, whole)?;
    if whole_registers(vector) {
        for number in 0..vector.a {
            let value = cpu.vector(register(vector, number));
            memory.store_vector(base.wrapping_add(16 * u64::from(number)), value, observer)?;
        }
    } else {
        for ((number, index), step) in places(vector).zip(0..) {
            let value = element(cpu.vector(register(vector, number)), index, vector.d_width);
            memory.store_value(base.wrapping_add(step * bytes), bytes, value, observer)?;
        }
    }
    finish(cpu, op, base);
    after_store(memory)
}

/// LD1R to LD4R.
pub(crate) fn load_replicated<O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let Some(vector) = &op.vector else { return Ok(Flow::Next) };
    let (base, _) = address(cpu, op)?;
    let bytes = vector.d_width.bytes();
    let mut loaded = [0u128; 4];
    for (value, step) in loaded.iter_mut().take(usize::from(vector.a)).zip(0..) {
        let one = memory.load_value(base.wrapping_add(step * bytes), bytes, observer)?;
        for index in 0..u32::from(vector.count) {
            *value |= placed(one, index, vector.d_width);
        }
    }
    put_registers(cpu, vector, &loaded);
    finish(cpu, op, base);
    Ok(Flow::Next)
}

fn with_element(vector: u128, value: u64, index: u32, width: Width) -> u128 {
    vector & !placed(u64::MAX, index, width) | placed(value, index, width)
}

/// LD1 to LD4 of one element of each register, whose number is `d_from`.
pub(crate) fn load_lane<O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let Some(vector) = &op.vector else { return Ok(Flow::Next) };
    let (base, _) = address(cpu, op)?;
    let (bytes, index) = (vector.d_width.bytes(), u32::from(vector.d_from));
    let mut loaded = [0u64; 4];
    for (value, step) in loaded.iter_mut().take(usize::from(vector.a)).zip(0..) {
        *value = memory.load_value(base.wrapping_add(step * bytes), bytes, observer)?;
    }
    for number in 0..vector.a {
        let to = register(vector, number);
        let value = loaded[usize::from(number)];
        cpu.set_vector(to, with_element(cpu.vector(to), value, index, vector.d_width));
    }
    finish(cpu, op, base);
    Ok(Flow::Next)
}

pub(crate) fn store_lane<O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let Some(vector) = &op.vector else { return Ok(Flow::Next) };
    let (base, _) = address(cpu, op)?;
    let (bytes, index) = (vector.d_width.bytes(), u32::from(vector.d_from));
    memory.check_writable(base, u64::from(vector.a) * bytes)?;
    for number in 0..vector.a {
        let value = element(cpu.vector(register(vector, number)), index, vector.d_width);
        memory.store_value(base.wrapping_add(u64::from(number) * bytes), bytes, value, observer)?;
    }
    finish(cpu, op, base);
    after_store(memory)
}
