//! Floating point on single numbers where flags or general registers take part.

use std::cmp::Ordering;

use sotto_isa::arm64::flag;
use sotto_isa::arm64::vector::Rounding;
use sotto_isa::{FlagSet, Width};

use super::{Context, VectorOp, element, float};
use crate::arm64::Cpu;

fn number(cpu: &Cpu, register: u8, width: Width) -> u64 {
    element(cpu.vector(register), 0, width)
}

/// The flags of a comparison. Source: Arm ARM, shared pseudocode `FPCompare`.
fn flags_of(order: Option<Ordering>) -> FlagSet {
    match order {
        Some(Ordering::Equal) => flag::Z.with(flag::C),
        Some(Ordering::Less) => flag::N,
        Some(Ordering::Greater) => flag::C,
        None => flag::C.with(flag::V),
    }
}

/// FCMP and FCMPE, where `has_immediate` says that the second number is zero.
pub(crate) fn compare<const SIGNALING: bool>(cpu: &mut Cpu, op: &VectorOp) {
    let a = number(cpu, op.n, op.width);
    let b = if op.has_immediate { 0 } else { number(cpu, op.m, op.width) };
    let mut context = Context::of(cpu);
    let order = float::compare(&mut context, op.width, a, b, SIGNALING);
    cpu.flags.set(flags_of(order));
    context.finish(cpu);
}

/// FCCMP and FCCMPE; `imm` are the flags otherwise.
pub(crate) fn compare_if<const SIGNALING: bool>(cpu: &mut Cpu, op: &VectorOp) {
    if cpu.flags.holds(op.cond) {
        compare::<SIGNALING>(cpu, op);
    } else {
        cpu.flags.set(FlagSet(op.imm as u32));
    }
}

/// FCSEL.
pub(crate) fn select(cpu: &mut Cpu, op: &VectorOp) {
    let source = if cpu.flags.holds(op.cond) { op.n } else { op.m };
    let value = number(cpu, source, op.width);
    cpu.set_vector(op.d, u128::from(value));
}

/// FMADD and its like.
pub(crate) fn mul_add<const NEGATE_PRODUCT: bool, const NEGATE_ADDEND: bool>(
    cpu: &mut Cpu,
    op: &VectorOp,
) {
    let negated = |value: u64, negate: bool| {
        if negate { value ^ float::sign(op.width) } else { value }
    };
    let a = negated(number(cpu, op.n, op.width), NEGATE_PRODUCT);
    let b = number(cpu, op.m, op.width);
    let c = negated(number(cpu, op.a, op.width), NEGATE_ADDEND);
    let mut context = Context::of(cpu);
    let value = float::mul_add(&mut context, op.width, a, b, c);
    cpu.set_vector(op.d, u128::from(value));
    context.finish(cpu);
}

/// FCVTZS and its like to a general register.
fn to_integer(cpu: &mut Cpu, op: &VectorOp, how: Rounding) {
    let value = number(cpu, op.n, op.n_width);
    let mut context = Context::of(cpu);
    let (from, to) = (op.n_width, op.d_width);
    let result = float::to_integer(&mut context, from, to, value, op.signed, op.fraction_bits, how);
    cpu.put(op.d, result);
    context.finish(cpu);
}

/// The function for a way of rounding.
pub(crate) fn to_integer_by(how: Rounding) -> fn(&mut Cpu, &VectorOp) {
    match how {
        Rounding::Nearest => |cpu, op| to_integer(cpu, op, Rounding::Nearest),
        Rounding::Away => |cpu, op| to_integer(cpu, op, Rounding::Away),
        Rounding::Up => |cpu, op| to_integer(cpu, op, Rounding::Up),
        Rounding::Down => |cpu, op| to_integer(cpu, op, Rounding::Down),
        Rounding::Zero => |cpu, op| to_integer(cpu, op, Rounding::Zero),
        Rounding::Current => |cpu, op| to_integer(cpu, op, Rounding::Current),
    }
}

/// SCVTF and UCVTF of a general register.
pub(crate) fn from_integer(cpu: &mut Cpu, op: &VectorOp) {
    let value = cpu.get(op.n) & op.n_width.mask();
    let mut context = Context::of(cpu);
    let (from, to) = (op.n_width, op.d_width);
    let result = float::from_integer(&mut context, from, to, value, op.signed, op.fraction_bits);
    cpu.set_vector(op.d, u128::from(result));
    context.finish(cpu);
}

/// PMULL of 64-bit elements.
pub(crate) fn polynomial_mul_wide(cpu: &mut Cpu, op: &VectorOp) {
    let from = u32::from(op.n_from);
    let a = element(cpu.vector(op.n), from, Width::W64);
    let b = element(cpu.vector(op.m), from, Width::W64);
    cpu.set_vector(op.d, super::integer::carryless(a, b));
}
