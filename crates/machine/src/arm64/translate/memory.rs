//! Loads and stores to compact operations.

use sotto_isa::arm64::Meaning;
use sotto_isa::{IndexMode, ListElements, Operand, Operands, Width};

use super::{destination, source, vectors};
use crate::Observer;
use crate::arm64::op::{Op, Run, Second};
use crate::arm64::vector::VectorOp;
use crate::arm64::{NOWHERE, ZERO, atomics, branches, memory, structures};

/// A function for the width of the access and for whether its address is plain.
macro_rules! by_bytes {
    ($op:expr, $f:ident, [$($flag:literal)?]) => {
        match ($op.access, is_plain($op)) {
            (Width::W8, true) => memory::$f::<$($flag,)? 1, true, O>,
            (Width::W8, false) => memory::$f::<$($flag,)? 1, false, O>,
            (Width::W16, true) => memory::$f::<$($flag,)? 2, true, O>,
            (Width::W16, false) => memory::$f::<$($flag,)? 2, false, O>,
            (Width::W32, true) => memory::$f::<$($flag,)? 4, true, O>,
            (Width::W32, false) => memory::$f::<$($flag,)? 4, false, O>,
            (_, true) => memory::$f::<$($flag,)? 8, true, O>,
            (_, false) => memory::$f::<$($flag,)? 8, false, O>,
        }
    };
}

/// Whether the address is a base and an offset, and the base stays.
fn is_plain<O>(op: &Op<O>) -> bool {
    op.mode == IndexMode::Offset && op.second == Second::Imm
}

/// Lays out the operands of an access, and says what carries it out.
pub(super) fn translate<O: Observer>(
    op: &mut Op<O>,
    meaning: Meaning,
    operands: &Operands,
) -> Run<O> {
    let register = |index: usize| Op::<O>::register(operands.get(index));
    let is_literal = matches!(operands.get(1), Some(Operand::Target(_)));
    // The address is the last operand of all of them.
    op.put_memory(operands.last());
    match meaning {
        Meaning::Load { access, signed } => {
            op.access = access;
            match (is_literal, signed) {
                (true, false) => memory::load_literal::<false, O>,
                (true, true) => memory::load_literal::<true, O>,
                (false, true) => by_bytes!(op, load, [true]),
                (false, false) => by_bytes!(op, load, [false]),
            }
        }
        Meaning::Store { access } => {
            (op.access, op.d) = (access, register(0));
            by_bytes!(op, store, [])
        }
        Meaning::LoadPair { access, signed } => {
            op.access = access;
            op.a = destination_at(operands, 1);
            match signed {
                true => memory::load_pair::<true, O>,
                false => memory::load_pair::<false, O>,
            }
        }
        Meaning::StorePair { access } => {
            (op.access, op.d, op.a) = (access, register(0), register(1));
            memory::store_pair::<O>
        }
        Meaning::LoadOrdered { access } => {
            op.access = access;
            atomics::load_ordered::<O>
        }
        Meaning::StoreOrdered { access } => {
            (op.access, op.d) = (access, register(0));
            atomics::store_ordered::<O>
        }
        Meaning::LoadExclusive { access } => {
            op.access = access;
            atomics::load_exclusive::<O>
        }
        Meaning::LoadExclusivePair { access } => {
            (op.access, op.a) = (access, destination_at(operands, 1));
            atomics::load_exclusive_pair::<O>
        }
        Meaning::StoreExclusive { access } => {
            (op.access, op.m) = (access, register(1));
            atomics::store_exclusive::<false, O>
        }
        Meaning::StoreExclusivePair { access } => {
            (op.access, op.m, op.a) = (access, register(1), register(2));
            atomics::store_exclusive::<true, O>
        }
        Meaning::ClearExclusive => atomics::clear_exclusive::<O>,
        Meaning::Atomic { op: atomic, access } => {
            (op.access, op.atomic, op.m) = (access, atomic, register(0));
            op.d = if operands.len() == 3 { destination_at(operands, 1) } else { NOWHERE };
            atomics::atomic::<O>
        }
        Meaning::CompareAndSwap { access } => {
            (op.access, op.a, op.m) = (access, register(0), register(1));
            atomics::compare_and_swap::<O>
        }
        Meaning::CompareAndSwapPair { access } => {
            (op.access, op.m) = (access, register(2));
            atomics::compare_and_swap_pair::<O>
        }
        Meaning::LoadScalar { access } => {
            (op.access, op.d) = (access, vector_at(operands, 0));
            match is_literal {
                true => memory::load_scalar_literal::<O>,
                false => memory::load_scalar::<O>,
            }
        }
        Meaning::StoreScalar { access } => {
            (op.access, op.d) = (access, vector_at(operands, 0));
            memory::store_scalar::<O>
        }
        Meaning::LoadScalarPair { access } => {
            (op.access, op.d, op.a) = (access, vector_at(operands, 0), vector_at(operands, 1));
            memory::load_scalar_pair::<O>
        }
        Meaning::StoreScalarPair { access } => {
            (op.access, op.d, op.a) = (access, vector_at(operands, 0), vector_at(operands, 1));
            memory::store_scalar_pair::<O>
        }
        Meaning::LoadStructures { members } => {
            put_structures(op, members, operands);
            structures::load::<O>
        }
        Meaning::StoreStructures { members } => {
            put_structures(op, members, operands);
            structures::store::<O>
        }
        Meaning::LoadReplicated => {
            put_structures(op, 1, operands);
            structures::load_replicated::<O>
        }
        Meaning::LoadLane => {
            put_structures(op, 1, operands);
            structures::load_lane::<O>
        }
        Meaning::StoreLane => {
            put_structures(op, 1, operands);
            structures::store_lane::<O>
        }
        _ => branches::nop::<O>,
    }
}

fn destination_at(operands: &Operands, index: usize) -> u8 {
    match operands.get(index) {
        Some(Operand::Reg(reg)) => destination(*reg),
        _ => NOWHERE,
    }
}

/// The number of a register of the vector bank.
fn vector_at(operands: &Operands, index: usize) -> u8 {
    match operands.get(index) {
        Some(Operand::Reg(reg)) => reg.number,
        _ => 0,
    }
}

/// A list of registers and what the base moves by.
fn put_structures<O>(op: &mut Op<O>, members: u8, operands: &Operands) {
    let Some(Operand::List(list)) = operands.first() else { return };
    let mut vector =
        VectorOp { d: list.first, a: list.count, n_from: members, ..vectors::nothing() };
    match list.elements {
        ListElements::All(arrangement) => {
            (vector.d_width, vector.count) = (arrangement.lane, arrangement.lanes);
        }
        ListElements::One(width, index) => (vector.d_width, vector.d_from) = (width, index),
    }
    // The access is at the base itself; `m` moves it, if it is a register.
    op.m = NOWHERE;
    if let Some(Operand::Mem(mem)) = operands.last() {
        op.imm = mem.disp.or_zero() as u64;
        if let (Some(index), IndexMode::Post) = (mem.index, mem.mode) {
            op.m = source(index);
        }
    }
    op.second = Second::Imm;
    op.width = Width::W64;
    debug_assert!(op.n != ZERO, "structures have a base");
    op.vector = Some(Box::new(vector));
}
