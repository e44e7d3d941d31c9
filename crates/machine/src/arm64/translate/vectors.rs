//! Floating-point and vector instructions to compact operations.

use sotto_isa::arm64::vector::{LaneOp, Vector};
use sotto_isa::{Instruction, ListElements, Operand, Width};

use super::{destination, source};
use crate::arm64::Cpu;
use crate::arm64::vector::{self, Lane, VectorOp, crypto, elements, float, integer, scalar};

/// How an operand is cut: register, width and number of elements, the first of them.
#[derive(Copy, Clone)]
struct Cut {
    register: u8,
    width: Width,
    lanes: u8,
    first: u8,
    /// It is one element of a vector.
    is_element: bool,
    is_general: bool,
}

fn cut(operand: &Operand) -> Option<Cut> {
    let plain = |register, width, lanes| Cut {
        register,
        width,
        lanes,
        first: 0,
        is_element: false,
        is_general: false,
    };
    Some(match *operand {
        Operand::Vector(reg, arrangement) => plain(reg.number, arrangement.lane, arrangement.lanes),
        Operand::Element(reg, arrangement, first) => {
            Cut { first, is_element: true, ..plain(reg.number, arrangement.lane, 1) }
        }
        Operand::Reg(reg) if reg.is_a64_vector() => plain(reg.number, reg.width(), 1),
        Operand::Reg(reg) => Cut { is_general: true, ..plain(source(reg), reg.width(), 1) },
        Operand::List(list) => match list.elements {
            ListElements::All(arrangement) => plain(list.first, arrangement.lane, list.count),
            ListElements::One(width, first) => {
                Cut { first, ..plain(list.first, width, list.count) }
            }
        },
        _ => return None,
    })
}

fn do_nothing(_: &mut Cpu, _: &VectorOp) {}

/// Operands that are not laid out yet.
pub(super) fn nothing() -> VectorOp {
    VectorOp {
        run: do_nothing,
        lane: |_, _, _, _, _| 0,
        d: 0,
        n: 0,
        m: 0,
        a: 0,
        d_width: Width::W64,
        n_width: Width::W64,
        m_width: Width::W64,
        width: Width::W64,
        count: 0,
        d_from: 0,
        n_from: 0,
        m_from: 0,
        m_step: 0,
        has_immediate: false,
        signed: false,
        imm: 0,
        fraction_bits: 0,
        cond: 0,
    }
}

fn lane(op: LaneOp) -> Lane {
    integer::lane(op).or_else(|| float::lane(op)).unwrap_or(|_, _, _, _, _| 0)
}

/// The operation of a floating-point or vector instruction.
pub(super) fn translate(meaning: Vector, instruction: &Instruction) -> VectorOp {
    let operands = &instruction.operands;
    let mut op = nothing();
    let cuts: Vec<Cut> = operands.iter().filter_map(cut).collect();
    lay_out(&mut op, &cuts);
    for operand in operands {
        match *operand {
            Operand::Imm(value) => {
                (op.imm, op.has_immediate) = (value.or_zero() as u64, true);
            }
            Operand::Cond(cond) => op.cond = cond,
            _ => {}
        }
    }
    op.run = match meaning {
        Vector::Lanes { op: LaneOp::FFromInteger { .. } | LaneOp::FToInteger { .. }, .. } => {
            op.fraction_bits = op.imm as u8;
            vector::each_lane
        }
        Vector::Lanes { op: bitwise, .. }
            if whole(bitwise).is_some() && op.d_width == Width::W8 =>
        {
            whole(bitwise).unwrap_or(vector::each_lane)
        }
        Vector::Lanes { .. } => {
            // What has one source has no amount either: it is 0.
            op.has_immediate |= cuts.len() < 3;
            vector::each_lane
        }
        Vector::Pairwise(_) => vector::pairwise,
        Vector::Across(_) => {
            op.count = cuts.get(1).map_or(0, |cut| cut.lanes);
            vector::across
        }
        Vector::AcrossLong { .. } => {
            op.count = cuts.get(1).map_or(0, |cut| cut.lanes);
            vector::across_long
        }
        Vector::PairsLong { accumulate, .. } => {
            (op.count, op.has_immediate) = (cuts[0].lanes, accumulate);
            vector::pairs_long
        }
        Vector::NarrowHigh { subtract, round } => {
            op.lane = integer::high(subtract, round);
            vector::each_lane
        }
        Vector::PolynomialMulWide => {
            op.n_from = cuts.get(1).map_or(0, |cut| cut.lanes - 1);
            scalar::polynomial_mul_wide
        }
        Vector::Dot { .. } => {
            op.count = cuts[0].lanes;
            let group = cuts.get(2).filter(|cut| cut.is_element);
            (op.m_step, op.m_from) = (u8::from(group.is_none()), group.map_or(0, |cut| cut.first));
            vector::dot
        }
        Vector::Reverse(bits) => {
            op.imm = u64::from(bits);
            elements::reverse
        }
        Vector::Permute(how) => elements::permutation(how),
        Vector::Extract => elements::extract,
        Vector::Table { keeps } => {
            op.a = cuts.get(1).map_or(0, |cut| cut.lanes);
            op.count = cuts[0].lanes;
            if keeps { elements::table::<true> } else { elements::table::<false> }
        }
        Vector::Duplicate if cuts[1].is_general => {
            op.count = cuts[0].lanes;
            elements::duplicate_general
        }
        Vector::Duplicate => {
            (op.count, op.n_from) = (cuts[0].lanes, cuts[1].first);
            elements::duplicate_element
        }
        Vector::Insert => {
            (op.d_from, op.n_from) = (cuts[0].first, cuts[1].first);
            match cuts[1].is_general {
                true => elements::insert_general,
                false => elements::insert_element,
            }
        }
        Vector::ToGeneral { .. } => {
            put_general_destination(&mut op, operands.first());
            op.n_from = cuts[1].first;
            elements::to_general
        }
        Vector::MoveBits if cuts[0].is_general => {
            put_general_destination(&mut op, operands.first());
            (op.n_from, op.n_width) = (cuts[1].first, cuts[1].width);
            elements::to_general
        }
        Vector::MoveBits if cuts[0].is_element => {
            op.d_from = cuts[0].first;
            elements::insert_general
        }
        Vector::MoveBits => elements::from_general,
        Vector::Immediate { invert } => {
            put_immediate(&mut op, operands.get(1), invert);
            op.count = cuts[0].lanes;
            elements::immediate
        }
        Vector::WithImmediate { clear } => {
            put_immediate(&mut op, operands.get(1), false);
            op.count = cuts[0].lanes;
            match clear {
                true => elements::with_immediate::<true>,
                false => elements::with_immediate::<false>,
            }
        }
        Vector::FToGeneral { how, .. } => {
            put_general_destination(&mut op, operands.first());
            op.fraction_bits = op.imm as u8;
            scalar::to_integer_by(how)
        }
        Vector::FFromGeneral { .. } => {
            op.fraction_bits = op.imm as u8;
            scalar::from_integer
        }
        Vector::Compare { signaling } => {
            put_compared(&mut op, &cuts);
            op.has_immediate = matches!(operands.get(1), Some(Operand::Float(_)));
            match signaling {
                true => scalar::compare::<true>,
                false => scalar::compare::<false>,
            }
        }
        Vector::CondCompare { signaling } => {
            put_compared(&mut op, &cuts);
            // The immediate are the flags; both numbers are in registers.
            op.has_immediate = false;
            match signaling {
                true => scalar::compare_if::<true>,
                false => scalar::compare_if::<false>,
            }
        }
        Vector::Select => scalar::select,
        Vector::MulAdd { negate_product, negate_addend } => {
            op.a = cuts.get(3).map_or(0, |cut| cut.register);
            match (negate_product, negate_addend) {
                (false, false) => scalar::mul_add::<false, false>,
                (true, false) => scalar::mul_add::<true, false>,
                (true, true) => scalar::mul_add::<true, true>,
                (false, true) => scalar::mul_add::<false, true>,
            }
        }
        Vector::Crypto(step) => crypto::step(step),
    };
    match meaning {
        Vector::Lanes { op: what, signed } => (op.lane, op.signed) = (lane(what), signed),
        Vector::Pairwise(what) | Vector::Across(what) => op.lane = lane(what),
        Vector::AcrossLong { signed }
        | Vector::PairsLong { signed, .. }
        | Vector::Dot { signed }
        | Vector::ToGeneral { signed }
        | Vector::FToGeneral { signed, .. }
        | Vector::FFromGeneral { signed } => op.signed = signed,
        _ => {}
    }
    op
}

/// Lays out what is done to each element: how many there are, and where the first of each operand is.
fn lay_out(op: &mut VectorOp, cuts: &[Cut]) {
    let Some(d) = cuts.first() else { return };
    (op.d, op.d_width, op.count) = (d.register, d.width, d.lanes);
    op.width = d.width;
    if let Some(n) = cuts.get(1) {
        (op.n, op.n_width) = (n.register, n.width);
        op.width = d.width.max(n.width);
        op.count = d.lanes.min(n.lanes);
        // The upper half of the narrower one, if it is whole.
        if d.lanes > n.lanes && n.width > d.width {
            op.d_from = n.lanes;
        }
        if n.lanes > d.lanes && n.width < d.width {
            op.n_from = d.lanes;
        }
    }
    if let Some(m) = cuts.get(2) {
        (op.m, op.m_width) = (m.register, m.width);
        op.m_step = u8::from(!m.is_element);
        if m.is_element {
            op.m_from = m.first;
        } else if m.lanes > op.count {
            op.m_from = op.count;
        }
    }
}

/// Comparisons have no destination: their sources come first.
fn put_compared(op: &mut VectorOp, cuts: &[Cut]) {
    (op.n, op.width) = (cuts[0].register, cuts[0].width);
    op.m = cuts.get(1).map_or(0, |cut| cut.register);
}

fn put_general_destination(op: &mut VectorOp, operand: Option<&Operand>) {
    if let Some(Operand::Reg(reg)) = operand {
        (op.d, op.d_width) = (destination(*reg), reg.width());
    }
}

/// The immediate as it stands in every element.
fn put_immediate(op: &mut VectorOp, operand: Option<&Operand>, invert: bool) {
    let bits = match operand {
        Some(Operand::Imm(value)) => value.or_zero() as u64,
        Some(Operand::ShiftedImm(value, shift)) => (value.or_zero() as u64) << shift,
        Some(Operand::ShiftedOnes(value, shift)) => {
            (value.or_zero() as u64) << shift | ((1 << shift) - 1)
        }
        Some(Operand::Float(bits)) => float_bits(f64::from_bits(*bits), op.d_width),
        _ => 0,
    };
    op.imm = if invert { !bits } else { bits };
}

/// The bits of an immediate, which every format has exactly.
fn float_bits(value: f64, width: Width) -> u64 {
    let bits = value.to_bits();
    match width {
        Width::W64 => bits,
        Width::W32 => u64::from((value as f32).to_bits()),
        // Sign, the exponent less the difference of the biases, and four bits of the fraction.
        _ => {
            let exponent = (bits >> 52 & 0x7ff).wrapping_sub(1023 - 15);
            bits >> 63 << 15 | exponent << 10 | (bits >> 42 & 0x3ff)
        }
    }
}

/// The function of a bitwise operation on the whole vector.
fn whole(op: LaneOp) -> Option<fn(&mut Cpu, &VectorOp)> {
    Some(match op {
        LaneOp::Copy => vector::copy,
        LaneOp::And => vector::and,
        LaneOp::Bic => vector::bic,
        LaneOp::Orr => vector::orr,
        LaneOp::Orn => vector::orn,
        LaneOp::Eor => vector::eor,
        LaneOp::Not => vector::not,
        LaneOp::Select => vector::select,
        LaneOp::InsertIfTrue => vector::insert_if_true,
        LaneOp::InsertIfFalse => vector::insert_if_false,
        _ => return None,
    })
}
