//! A comparison and the conditional jump behind it as one operation: most loops end with the two.
//!
//! Nothing is meant anew here: each is the comparison's own function and the condition's, put together so that
//! the flags need not be asked what set them. What writes memory is not fused, so that code cannot change between
//! the two.

use sotto_isa::Instruction;
use sotto_isa::Width;
use sotto_isa::x86::{Cond, Meaning, form, operand_width};

use crate::code::processor::Result;
use crate::x86::Cpu;
use crate::x86::integer::arithmetic;
use crate::x86::integer::arithmetic::{
    B8, B32, B64, Binary, First, Imm, Mem, Operand, Second, Size, Unary,
};
use crate::x86::op::{Is, Op, Run};
use crate::x86::translate::conditional_jumps::{by_condition, instance, jump_if};
use crate::x86::translate::general::{kind_of, translate};
use crate::{Memory, Observer};

/// A function for the width and the condition.
macro_rules! by_width {
    ($width:expr, $cond:expr, $f:ident, [$($types:ty),*]) => {
        match $width {
            Width::W32 => by_condition!($cond, $f, [$($types,)* B32]),
            Width::W64 => by_condition!($cond, $f, [$($types,)* B64]),
            _ => return None,
        }
    };
}

/// A function for the second operand, the width and the condition.
macro_rules! by_source {
    ($second:expr, $width:expr, $cond:expr, $op:ty) => {
        match $second {
            Is::Reg => by_width!($width, $cond, compare, [$op, Second]),
            Is::Imm => by_width!($width, $cond, compare, [$op, Imm]),
            _ => return None,
        }
    };
}

/// The two as one operation. It has the target of the jump where a displacement would be, or, if there is one, in
/// place of an immediate, of which there is none then.
pub(crate) fn fuse<O: Observer>(first: &Instruction, jump: &Instruction) -> Option<Op<O>> {
    let Meaning::Jcc(cond) = form(jump.form).meaning else { return None };
    let form = form(first.form);
    let mut kinds = first.operands.iter().map(kind_of);
    let kinds = (kinds.next()?, kinds.next().unwrap_or(Is::None));
    let run = run::<O>(form.meaning, kinds, operand_width(form), cond)?;
    let target = translate::<O>(jump).imm;
    let op = Op { run, ..translate(first) };
    Some(match kinds.1 {
        Is::Mem => Op { imm: target, ..op },
        _ => Op { disp: target, ..op },
    })
}

fn run<O: Observer>(
    meaning: Meaning,
    (first, second): (Is, Is),
    width: Width,
    cond: Cond,
) -> Option<Run<O>> {
    if first != Is::Reg {
        return None;
    }
    Some(match (meaning, second, width) {
        (Meaning::Cmp, Is::Imm, Width::W8) => {
            by_condition!(cond, compare, [arithmetic::Cmp, Imm, B8])
        }
        (Meaning::Cmp, Is::Reg, Width::W8) => {
            by_condition!(cond, compare, [arithmetic::Cmp, Second, B8])
        }
        (Meaning::Test, Is::Reg, Width::W8) => {
            by_condition!(cond, compare, [arithmetic::Test, Second, B8])
        }
        (Meaning::Cmp, Is::Mem, Width::W8) => by_condition!(cond, compare_memory, [B8]),
        (Meaning::Cmp, Is::Mem, _) => by_width!(width, cond, compare_memory, []),
        (Meaning::Cmp, ..) => by_source!(second, width, cond, arithmetic::Cmp),
        (Meaning::Test, ..) => by_source!(second, width, cond, arithmetic::Test),
        (Meaning::Add, ..) => by_source!(second, width, cond, arithmetic::Add),
        (Meaning::Sub, ..) => by_source!(second, width, cond, arithmetic::Sub),
        (Meaning::And, ..) => by_source!(second, width, cond, arithmetic::And),
        (Meaning::Inc, ..) => by_width!(width, cond, count, [arithmetic::Inc]),
        (Meaning::Dec, ..) => by_width!(width, cond, count, [arithmetic::Dec]),
        _ => return None,
    })
}

/// Two operands, the first a register.
fn compare<F: Binary, S: Operand, W: Size, O: Observer, const COND: u8>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    arithmetic::binary::<F, First, S, W, O>(cpu, memory, op, observer)?;
    jump_if::<COND>(cpu, op.disp)
}

/// A register against memory.
fn compare_memory<W: Size, O: Observer, const COND: u8>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    arithmetic::binary::<arithmetic::Cmp, First, Mem, W, O>(cpu, memory, op, observer)?;
    jump_if::<COND>(cpu, op.imm)
}

/// One operand, a register.
fn count<F: Unary, W: Size, O: Observer, const COND: u8>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    arithmetic::unary::<F, First, W, O>(cpu, memory, op, observer)?;
    jump_if::<COND>(cpu, op.disp)
}
