//! Floating point on single numbers where flags or general registers take part.

use std::cmp::Ordering;

use sotto_isa::arm64::flag;
use sotto_isa::arm64::vector::{LaneOp, Rounding, Vector};
use sotto_isa::{FlagSet, Operand, Operands, RegKind, Width};

use super::{Context, IXC, VectorOp, element, float};
use crate::arm64::Cpu;
use crate::arm64::op::{Op, Run};
use crate::code::processor::Result;
use crate::float::softfloat::{Arithmetic, F32, F64, HostFormat};
use crate::{Memory, Observer};

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

/// The operations of [`quick`], by number.
const QUICK: [Arithmetic; 4] = [Arithmetic::Add, Arithmetic::Sub, Arithmetic::Mul, Arithmetic::Div];

/// FADD, FSUB, FMUL and FDIV of two numbers by the host's arithmetic, where it must agree and raises nothing; else as any
/// other instruction on elements.
fn quick<const OP: usize, F: HostFormat, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    if cpu.fpcr == 0 && cpu.fpsr & IXC != 0 {
        let mask = u64::MAX >> (64 - F::BITS);
        let (a, b) = (cpu.vector(op.n) as u64 & mask, cpu.vector(op.m) as u64 & mask);
        if let Some(value) = float::quick::<F>(QUICK[OP], a, b) {
            cpu.set_vector(op.d, u128::from(value));
            return Ok(crate::code::processor::Flow::Next);
        }
    }
    super::run(cpu, memory, op, observer)
}

/// The quick function of an instruction on single numbers, if it has one.
pub(crate) fn quick_function<O: Observer>(meaning: Vector, operands: &Operands) -> Option<Run<O>> {
    let Vector::Lanes { op, .. } = meaning else { return None };
    let [Operand::Reg(d), Operand::Reg(_), Operand::Reg(_)] = operands[..] else { return None };
    Some(match (op, d.kind) {
        (LaneOp::FAdd, RegKind::D) => quick::<0, F64, O>,
        (LaneOp::FSub, RegKind::D) => quick::<1, F64, O>,
        (LaneOp::FMul, RegKind::D) => quick::<2, F64, O>,
        (LaneOp::FDiv, RegKind::D) => quick::<3, F64, O>,
        (LaneOp::FAdd, RegKind::S) => quick::<0, F32, O>,
        (LaneOp::FSub, RegKind::S) => quick::<1, F32, O>,
        (LaneOp::FMul, RegKind::S) => quick::<2, F32, O>,
        (LaneOp::FDiv, RegKind::S) => quick::<3, F32, O>,
        _ => return None,
    })
}
