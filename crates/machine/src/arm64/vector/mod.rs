//! Floating-point and vector instructions.
//!
//! What most of them do is a function of single elements ([`Lane`]); [`each_lane`] takes registers apart and puts the results
//! together, whichever widths they have.

pub(crate) mod crypto;
pub(crate) mod elements;
pub(crate) mod float;
pub(crate) mod integer;
pub(crate) mod scalar;

use sotto_isa::Width;

use crate::arm64::Cpu;
use crate::arm64::op::Op;
use crate::code::processor::{Flow, Result};
use crate::float::softfloat::{
    DENORMAL, Env, INVALID, OVERFLOW, PRECISION, UNDERFLOW, ZERO_DIVIDE,
};
use crate::{Memory, Observer};

/// What an element of the result is made of: elements of the two sources and of the destination.
pub(crate) type Lane = fn(&mut Context, &VectorOp, u64, u64, u64) -> u64;

/// FPSR, at the bits of its exceptions. Source: Arm ARM, C5.2 "FPSR".
const QC: u32 = 1 << 27;
const IXC: u32 = 1 << 4;

/// The operands of an instruction on the vector bank.
#[derive(Clone)]
pub(crate) struct VectorOp {
    pub run: fn(&mut Cpu, &VectorOp),
    pub lane: Lane,
    /// Registers: of the vector bank, or codes of general ones.
    pub d: u8,
    pub n: u8,
    pub m: u8,
    pub a: u8,
    /// How wide elements of each are.
    pub d_width: Width,
    pub n_width: Width,
    pub m_width: Width,
    /// How wide the operation is: the wider of result and first source.
    pub width: Width,
    /// How many elements there are.
    pub count: u8,
    /// The first element of each.
    pub d_from: u8,
    pub n_from: u8,
    pub m_from: u8,
    /// The second source is one element, or with no step the immediate.
    pub m_step: u8,
    pub has_immediate: bool,
    /// How narrower elements are extended.
    pub signed: bool,
    pub imm: u64,
    /// Bits after the binary point, of conversions.
    pub fraction_bits: u8,
    pub cond: u8,
}

/// The state that operations on elements share.
pub(crate) struct Context {
    fpcr: u32,
    /// Exceptions of floating point, as softfloat tells them.
    pub raised: u32,
    /// A result was replaced by a limit.
    pub saturated: bool,
    /// The host's arithmetic may be asked: FPCR is all zeros, and a loss of precision has been told.
    pub ordinary: bool,
}

impl Context {
    pub fn of(cpu: &Cpu) -> Context {
        let ordinary = cpu.fpcr == 0 && cpu.fpsr & IXC != 0;
        Context { fpcr: cpu.fpcr, raised: 0, saturated: false, ordinary }
    }

    /// The rules for numbers of a width.
    pub fn env(&self, width: Width) -> Env {
        match width {
            Width::W16 => Env::arm_half(self.fpcr),
            _ => Env::arm(self.fpcr),
        }
    }

    /// Puts what was told into FPSR.
    pub fn finish(self, cpu: &mut Cpu) {
        if self.raised == 0 && !self.saturated {
            return;
        }
        let flags = [
            (INVALID, 0),
            (ZERO_DIVIDE, 1),
            (OVERFLOW, 2),
            (UNDERFLOW, 3),
            (PRECISION, 4),
            (DENORMAL, 7),
        ];
        for (flag, bit) in flags {
            if self.raised & flag != 0 {
                cpu.fpsr |= 1 << bit;
            }
        }
        if self.saturated {
            cpu.fpsr |= QC;
        }
    }
}

/// An element of up to 64 bits.
#[inline]
pub(crate) fn element(vector: u128, index: u32, width: Width) -> u64 {
    (vector >> (index * width.bits())) as u64 & width.mask()
}

/// An element at its place in an otherwise empty vector.
#[inline]
pub(crate) fn placed(value: u64, index: u32, width: Width) -> u128 {
    u128::from(value & width.mask()) << (index * width.bits())
}

/// The mask of the lower half of a vector.
pub(crate) const LOWER: u128 = u64::MAX as u128;

impl VectorOp {
    /// A narrower element at the width of the operation.
    #[inline]
    fn extended(&self, value: u64, width: Width) -> u64 {
        match self.signed && width < self.width {
            true => width.sign_extend(value) as u64 & self.width.mask(),
            false => value,
        }
    }
}

/// An instruction that only registers take part in.
pub(crate) fn run<O: Observer>(cpu: &mut Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result {
    if let Some(vector) = &op.vector {
        (vector.run)(cpu, vector);
    }
    Ok(Flow::Next)
}

/// The same to each element. What is not written becomes zero, but the lower half where only the upper one is written.
pub(crate) fn each_lane(cpu: &mut Cpu, op: &VectorOp) {
    let (n, m, d) = (cpu.vector(op.n), cpu.vector(op.m), cpu.vector(op.d));
    let mut context = Context::of(cpu);
    let mut result = if op.d_from == 0 { 0 } else { d & LOWER };
    for index in 0..u32::from(op.count) {
        let a = op.extended(element(n, index + u32::from(op.n_from), op.n_width), op.n_width);
        let b = match op.has_immediate {
            true => op.imm,
            false => {
                let from = index * u32::from(op.m_step) + u32::from(op.m_from);
                op.extended(element(m, from, op.m_width), op.m_width)
            }
        };
        let to = index + u32::from(op.d_from);
        let c = element(d, to, op.d_width);
        result |= placed((op.lane)(&mut context, op, a, b, c), to, op.d_width);
    }
    cpu.set_vector(op.d, result);
    context.finish(cpu);
}

/// To the whole vector at once, for bitwise operations: 64 or 128 bits of it count.
macro_rules! whole_vectors {
    ($($name:ident($n:ident, $m:ident, $d:ident) $result:expr;)*) => {
        $(
            pub(crate) fn $name(cpu: &mut Cpu, op: &VectorOp) {
                let ($n, $m, $d) = (cpu.vector(op.n), cpu.vector(op.m), cpu.vector(op.d));
                let _ = ($n, $m, $d);
                let bits = u32::from(op.count) * op.d_width.bits();
                cpu.set_vector(op.d, ($result) & (u128::MAX >> (128 - bits)));
            }
        )*
    };
}
whole_vectors! {
    copy(n, m, d) n;
    and(n, m, d) n & m;
    bic(n, m, d) n & !m;
    orr(n, m, d) n | m;
    orn(n, m, d) n | !m;
    eor(n, m, d) n ^ m;
    not(n, m, d) !n;
    select(n, m, d) n & d | m & !d;
    insert_if_true(n, m, d) n & m | d & !m;
    insert_if_false(n, m, d) n & !m | d & m;
}

/// Each two neighbours, those of the first source before those of the second.
pub(crate) fn pairwise(cpu: &mut Cpu, op: &VectorOp) {
    let (n, m) = (cpu.vector(op.n), cpu.vector(op.m));
    let mut context = Context::of(cpu);
    let (mut result, count) = (0, u32::from(op.count));
    for index in 0..count {
        let at = |place: u32| match place < count {
            true => element(n, place, op.d_width),
            false => element(m, place - count, op.d_width),
        };
        let value = (op.lane)(&mut context, op, at(2 * index), at(2 * index + 1), 0);
        result |= placed(value, index, op.d_width);
    }
    cpu.set_vector(op.d, result);
    context.finish(cpu);
}

/// All elements, neighbours against each other until one is left, as the pseudocode's `Reduce` does.
pub(crate) fn across(cpu: &mut Cpu, op: &VectorOp) {
    let n = cpu.vector(op.n);
    let mut context = Context::of(cpu);
    let mut values: Vec<u64> =
        (0..u32::from(op.count)).map(|index| element(n, index, op.n_width)).collect();
    while values.len() > 1 {
        let combined = values.chunks(2).map(|pair| {
            let (low, high) = (pair[0], pair[pair.len() - 1]);
            (op.lane)(&mut context, op, low, high, 0) & op.n_width.mask()
        });
        values = combined.collect();
    }
    cpu.set_vector(op.d, u128::from(values[0]));
    context.finish(cpu);
}

/// SADDLV, UADDLV.
pub(crate) fn across_long(cpu: &mut Cpu, op: &VectorOp) {
    let n = cpu.vector(op.n);
    let values = (0..u32::from(op.count)).map(|index| {
        let value = element(n, index, op.n_width);
        if op.signed { op.n_width.sign_extend(value) as u64 } else { value }
    });
    let sum = values.fold(0u64, u64::wrapping_add);
    cpu.set_vector(op.d, placed(sum, 0, op.d_width));
}

/// SADDLP and SADALP: `has_immediate` says that sums are added to the destination.
pub(crate) fn pairs_long(cpu: &mut Cpu, op: &VectorOp) {
    let (n, d) = (cpu.vector(op.n), cpu.vector(op.d));
    let mut result = 0;
    for index in 0..u32::from(op.count) {
        let at = |place| {
            let value = element(n, place, op.n_width);
            if op.signed { op.n_width.sign_extend(value) as u64 } else { value }
        };
        let added = if op.has_immediate { element(d, index, op.d_width) } else { 0 };
        let sum = at(2 * index).wrapping_add(at(2 * index + 1)).wrapping_add(added);
        result |= placed(sum, index, op.d_width);
    }
    cpu.set_vector(op.d, result);
}

/// SDOT and UDOT: four bytes of each source an element; `m_step` is 0 if they are always the same of the second.
pub(crate) fn dot(cpu: &mut Cpu, op: &VectorOp) {
    let (n, m, d) = (cpu.vector(op.n), cpu.vector(op.m), cpu.vector(op.d));
    let mut result = 0;
    for index in 0..u32::from(op.count) {
        let group = index * u32::from(op.m_step) + u32::from(op.m_from);
        let byte = |vector, place| {
            let byte = element(vector, place, Width::W8);
            if op.signed { i64::from(byte as i8) } else { byte as i64 }
        };
        let products = (0..4).map(|k| byte(n, 4 * index + k) * byte(m, 4 * group + k));
        let sum = element(d, index, Width::W32) as i64 + products.sum::<i64>();
        result |= placed(sum as u64, index, Width::W32);
    }
    cpu.set_vector(op.d, result);
}
