//! Vector instructions on floating-point elements.
//!
//! Each computes all its elements, gathers the exceptions of all of them, and writes the result only
//! if none is unmasked. Source: SDM Vol. 1, 11.5.

use std::cmp::Ordering;

use sotto_isa::x86::flag;
use sotto_isa::x86::vector::{FloatOp, Shape};

use crate::code::processor::{Flow, Result};
use crate::float::estimate;
use crate::float::softfloat;
use crate::float::softfloat::{
    Arithmetic, BEFORE, Env, F32, F64, HostFormat, MASK_SHIFT, Rounding, is_ordinary,
};
use crate::x86::Cpu;
use crate::x86::flags::when;
use crate::x86::integer::arithmetic::{Operand, Size};
use crate::x86::op::Op;
use crate::x86::vector::moves::Place;
use crate::{Fault, Memory, Observer};

/// The element at `n`, zero-extended.
#[inline]
fn element<F: HostFormat>(vector: u128, n: u32) -> u64 {
    (vector >> (n * F::BITS)) as u64 & (u64::MAX >> (64 - F::BITS))
}

/// The vector with the element at `n` replaced.
#[inline]
fn with_element<F: HostFormat>(vector: u128, n: u32, value: u64) -> u128 {
    let mask = u128::from(u64::MAX >> (64 - F::BITS)) << (n * F::BITS);
    vector & !mask | u128::from(value) << (n * F::BITS)
}

/// Takes note of the exceptions of an instruction.
///
/// One that is unmasked and known before the result keeps those of the result from being told.
fn settle(cpu: &mut Cpu, raised: u32) -> Result<()> {
    let unmasked = !(cpu.mxcsr >> MASK_SHIFT);
    let before = raised & BEFORE;
    if before & unmasked != 0 {
        cpu.mxcsr |= before;
        return Err(Box::new(Fault::Float));
    }
    cpu.mxcsr |= raised;
    if raised & unmasked & 0x3f != 0 {
        return Err(Box::new(Fault::Float));
    }
    Ok(())
}

/// Elementwise: `lanes` elements from the lowest, the others as the destination has them.
fn each<F: HostFormat>(
    cpu: &mut Cpu,
    to: u8,
    lanes: u32,
    f: impl Fn(u32, &mut Env) -> u64,
) -> Result {
    let mut env = Env::new(cpu.mxcsr);
    let mut result = cpu.vectors[usize::from(to)];
    let mut raised = 0;
    let unmasked = !(cpu.mxcsr >> MASK_SHIFT) & BEFORE;
    for n in 0..lanes {
        env.raised = 0;
        result = with_element::<F>(result, n, f(n, &mut env));
        // An element that stops at an unmasked exception has no later ones.
        raised |= if env.raised & unmasked != 0 { env.raised & BEFORE } else { env.raised };
    }
    settle(cpu, raised)?;
    cpu.vectors[usize::from(to)] = result;
    Ok(Flow::Next)
}

/// An arithmetic operation as a type, so that the common ones are compiled each for itself.
pub(crate) trait Binary {
    const OP: Arithmetic;
}
macro_rules! binary {
    ($($name:ident)*) => {
        $(
            pub(crate) struct $name;
            impl Binary for $name {
                const OP: Arithmetic = Arithmetic::$name;
            }
        )*
    };
}
binary! { Add Sub Mul Div }

/// ADDSD and its kin: one element, on the host's arithmetic where that is safe.
pub(crate) fn scalar<B: Binary, F: HostFormat, S: Place, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    if !O::ACTIVE
        && is_ordinary(cpu.mxcsr)
        && let Some(b) = S::low_at_hand(cpu, memory, op)
    {
        let to = &mut cpu.vectors[usize::from(op.first % 16)];
        let (a, b) = (element::<F>(*to, 0), element::<F>(u128::from(b), 0));
        if let Some(value) = softfloat::quick::<F>(B::OP, a, b) {
            *to = with_element::<F>(*to, 0, value);
            return Ok(Flow::Next);
        }
    }
    arithmetic::<S, O>(cpu, memory, op, observer)
}

/// One element of an operation.
fn compute<F: HostFormat>(op: FloatOp, a: u64, b: u64, ordinary: bool, env: &mut Env) -> u64 {
    let arithmetic = |op, env: &mut Env| {
        let quick = if ordinary { softfloat::quick::<F>(op, a, b) } else { None };
        quick.unwrap_or_else(|| softfloat::arithmetic::<F>(op, a, b, env))
    };
    match op {
        FloatOp::Add | FloatOp::HorizontalAdd | FloatOp::AddSub => arithmetic(Arithmetic::Add, env),
        FloatOp::Sub | FloatOp::HorizontalSub => arithmetic(Arithmetic::Sub, env),
        FloatOp::Mul => arithmetic(Arithmetic::Mul, env),
        FloatOp::Div => arithmetic(Arithmetic::Div, env),
        FloatOp::Min => softfloat::choose::<F>(Ordering::Less, a, b, env),
        FloatOp::Max => softfloat::choose::<F>(Ordering::Greater, a, b, env),
        FloatOp::Sqrt => {
            let quick = if ordinary { softfloat::quick_sqrt::<F>(b) } else { None };
            quick.unwrap_or_else(|| softfloat::sqrt::<F>(b, env))
        }
        FloatOp::Rcp => u64::from(estimate::reciprocal(b as u32)),
        FloatOp::Rsqrt => u64::from(estimate::reciprocal_root(b as u32)),
    }
}

fn lanes<F: HostFormat>(cpu: &mut Cpu, to: u8, op: FloatOp, count: u32, source: u128) -> Result {
    let a = cpu.vectors[usize::from(to)];
    let ordinary = is_ordinary(cpu.mxcsr);
    let half = 64 / F::BITS;
    each::<F>(cpu, to, count, |n, env| {
        let (x, y, op) = match op {
            FloatOp::AddSub if n % 2 == 0 => {
                (element::<F>(a, n), element::<F>(source, n), FloatOp::Sub)
            }
            FloatOp::HorizontalAdd | FloatOp::HorizontalSub => {
                let (from, n) = if n < half { (a, n) } else { (source, n - half) };
                (element::<F>(from, 2 * n), element::<F>(from, 2 * n + 1), op)
            }
            _ => (element::<F>(a, n), element::<F>(source, n), op),
        };
        compute::<F>(op, x, y, ordinary, env)
    })
}

/// Arithmetic on the elements that the shape says.
pub(crate) fn arithmetic<S: Place, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let source = S::get(cpu, memory, op, observer)?;
    let (float, shape) = op.float;
    match shape {
        Shape::Ss | Shape::Ps => lanes::<F32>(cpu, op.first, float, shape.lanes(), source),
        Shape::Sd | Shape::Pd => lanes::<F64>(cpu, op.first, float, shape.lanes(), source),
    }
}

/// Whether the comparison that the low bits of the immediate choose holds.
/// Source: SDM Vol. 2A, CMPPD, table 3-1.
fn holds<F: HostFormat>(imm: u8, a: u64, b: u64, env: &mut Env) -> bool {
    let signaling = matches!(imm & 3, 1 | 2);
    let order = softfloat::compare::<F>(a, b, signaling, env);
    let positive = match imm & 3 {
        0 => order == Some(Ordering::Equal),
        1 => order == Some(Ordering::Less),
        2 => matches!(order, Some(Ordering::Less | Ordering::Equal)),
        _ => order.is_none(),
    };
    positive != (imm & 4 != 0)
}

/// CMPPS and its kin.
pub(crate) fn compare<S: Place, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let source = S::get(cpu, memory, op, observer)?;
    let a = cpu.vectors[usize::from(op.first)];
    let imm = op.imm as u8;
    let (_, shape) = op.float;
    match shape {
        Shape::Ss | Shape::Ps => each::<F32>(cpu, op.first, shape.lanes(), |n, env| {
            let holds = holds::<F32>(imm, element::<F32>(a, n), element::<F32>(source, n), env);
            if holds { u64::from(u32::MAX) } else { 0 }
        }),
        Shape::Sd | Shape::Pd => each::<F64>(cpu, op.first, shape.lanes(), |n, env| {
            let holds = holds::<F64>(imm, element::<F64>(a, n), element::<F64>(source, n), env);
            if holds { u64::MAX } else { 0 }
        }),
    }
}

/// COMISD and its kin.
pub(crate) fn compare_flags<const SIGNALING: bool, F: HostFormat, S: Place, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let source = S::get(cpu, memory, op, observer)?;
    let a = element::<F>(cpu.vectors[usize::from(op.first)], 0);
    let mut env = Env::new(cpu.mxcsr);
    let order = softfloat::compare::<F>(a, element::<F>(source, 0), SIGNALING, &mut env);
    settle(cpu, env.raised)?;
    cpu.flags.set(match order {
        None => flag::ZF | flag::PF | flag::CF,
        Some(order) => {
            when(order == Ordering::Equal, flag::ZF) | when(order == Ordering::Less, flag::CF)
        }
    });
    Ok(Flow::Next)
}

/// CVTSI2SD and its kin, from a place of width `W`.
pub(crate) fn from_integer<F: HostFormat, S: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let value = W::WIDTH.sign_extend(S::get::<W, O>(cpu, memory, op, observer)?);
    each::<F>(cpu, op.first, 1, |_, env| softfloat::from_integer::<F>(value, env))
}

/// CVTSD2SI and its kin, to a general register of width `W`.
pub(crate) fn to_integer<const TRUNCATE: bool, F: HostFormat, S: Place, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let source = element::<F>(S::get(cpu, memory, op, observer)?, 0);
    let mut env = Env::new(cpu.mxcsr);
    let rounding = if TRUNCATE { Rounding::TowardsZero } else { env.rounding };
    let value = softfloat::to_integer::<F>(source, W::WIDTH.bits(), rounding, &mut env);
    settle(cpu, env.raised)?;
    cpu.put::<W>(op.first, value);
    Ok(Flow::Next)
}

/// CVTSS2SD and CVTSD2SS.
pub(crate) fn convert_scalar<F: HostFormat, T: HostFormat, S: Place, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let source = element::<F>(S::get(cpu, memory, op, observer)?, 0);
    each::<T>(cpu, op.first, 1, |_, env| softfloat::convert::<F, T>(source, env))
}

/// A packed conversion between formats; what is above the results becomes zero.
pub(crate) fn convert_packed<F: HostFormat, T: HostFormat, S: Place, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let source = S::get(cpu, memory, op, observer)?;
    gather::<T>(cpu, op.first, 2, |n, env| softfloat::convert::<F, T>(element::<F>(source, n), env))
}

/// CVTDQ2PS and CVTDQ2PD.
pub(crate) fn convert_from_integers<T: HostFormat, S: Place, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let source = S::get(cpu, memory, op, observer)?;
    gather::<T>(cpu, op.first, 128 / T::BITS, |n, env| {
        let value = element::<F32>(source, n) as i32;
        softfloat::from_integer::<T>(i64::from(value), env)
    })
}

/// CVTPS2DQ, CVTPD2DQ and their truncating kin.
pub(crate) fn convert_to_integers<const TRUNCATE: bool, F: HostFormat, S: Place, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let source = S::get(cpu, memory, op, observer)?;
    gather::<F32>(cpu, op.first, 128 / F::BITS, |n, env| {
        let rounding = if TRUNCATE { Rounding::TowardsZero } else { env.rounding };
        softfloat::to_integer::<F>(element::<F>(source, n), 32, rounding, env)
    })
}

/// As [`each`], with zeros in the elements that are not computed.
fn gather<T: HostFormat>(
    cpu: &mut Cpu,
    to: u8,
    lanes: u32,
    f: impl Fn(u32, &mut Env) -> u64,
) -> Result {
    let old = std::mem::take(&mut cpu.vectors[usize::from(to)]);
    let done = each::<T>(cpu, to, lanes, f);
    if done.is_err() {
        cpu.vectors[usize::from(to)] = old;
    }
    done
}

/// ROUNDSD and its kin. The immediate: bits 1 to 0 the rounding, 2 MXCSR's instead, 3 no word of a loss.
pub(crate) fn round<F: HostFormat, S: Place, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let source = S::get(cpu, memory, op, observer)?;
    let imm = op.imm as u32;
    let (_, shape) = op.float;
    each::<F>(cpu, op.first, shape.lanes(), |n, env| {
        let rounding = if imm & 4 != 0 { env.rounding } else { Rounding::of_bits(imm) };
        softfloat::round_whole::<F>(element::<F>(source, n), rounding, imm & 8 != 0, env)
    })
}

/// DPPS and DPPD: the high bits of the immediate choose the products, the low ones where the sum goes.
pub(crate) fn dot<F: HostFormat, S: Place, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let source = S::get(cpu, memory, op, observer)?;
    let a = cpu.vectors[usize::from(op.first)];
    let imm = op.imm as u8;
    let count = 128 / F::BITS;
    // Products, then sums of neighbours, then the sum of those; each stage may stop at an exception.
    let mut env = Env::new(cpu.mxcsr);
    let mut values: Vec<u64> = (0..count)
        .map(|n| {
            let (x, y) = (element::<F>(a, n), element::<F>(source, n));
            let chosen = imm >> (4 + n) & 1 != 0;
            if chosen { softfloat::arithmetic::<F>(Arithmetic::Mul, x, y, &mut env) } else { 0 }
        })
        .collect();
    settle(cpu, std::mem::take(&mut env.raised))?;
    // Every element makes the sum for itself. Which operand comes first is seen where both are NaNs,
    // and is as processors have it: the upper neighbour in the first stage of four elements.
    let stages: &[(usize, bool)] =
        if count == 4 { &[(1, true), (2, false)] } else { &[(1, false)] };
    for &(distance, other_first) in stages {
        values = (0..values.len())
            .map(|n| {
                let (own, other) = (values[n], values[n ^ distance]);
                let (x, y) = if other_first { (other, own) } else { (own, other) };
                softfloat::arithmetic::<F>(Arithmetic::Add, x, y, &mut env)
            })
            .collect();
        settle(cpu, std::mem::take(&mut env.raised))?;
    }
    cpu.vectors[usize::from(op.first)] = (0..count)
        .filter(|n| imm >> n & 1 != 0)
        .fold(0, |result, n| with_element::<F>(result, n, values[n as usize]));
    Ok(Flow::Next)
}
