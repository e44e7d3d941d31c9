//! Conditional jumps: one function for each common condition, so that none is decided while running.

use sotto_isa::x86::Cond;

use crate::code::processor::Result;
use crate::x86::Cpu;
use crate::x86::integer::arithmetic;
use crate::x86::op::{Op, Run};
use crate::{Memory, Observer};

/// A function for these types and this condition.
macro_rules! instance {
    ($f:ident, [$($types:ty),* $(,)?], $name:ident) => {
        $f::<$($types,)* O, { Cond::$name as u8 }> as Run<O>
    };
}

/// A function for the condition, or something else for the rarest.
macro_rules! by_condition {
    ($cond:expr, $f:ident, $types:tt) => {
        by_condition!($cond, $f, $types, return None)
    };
    ($cond:expr, $f:ident, $types:tt, $other:expr) => {
        match $cond {
            Cond::B => instance!($f, $types, B),
            Cond::Ae => instance!($f, $types, Ae),
            Cond::E => instance!($f, $types, E),
            Cond::Ne => instance!($f, $types, Ne),
            Cond::Be => instance!($f, $types, Be),
            Cond::A => instance!($f, $types, A),
            Cond::S => instance!($f, $types, S),
            Cond::Ns => instance!($f, $types, Ns),
            Cond::L => instance!($f, $types, L),
            Cond::Ge => instance!($f, $types, Ge),
            Cond::Le => instance!($f, $types, Le),
            Cond::G => instance!($f, $types, G),
            _ => $other,
        }
    };
}

pub(crate) use {by_condition, instance};

/// The function of a conditional jump that stands alone.
pub(crate) fn jump<O: Observer>(cond: Cond) -> Run<O> {
    by_condition!(cond, jump_alone, [], arithmetic::jcc::<O>)
}

/// A conditional jump that stands alone.
fn jump_alone<O: Observer, const COND: u8>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    jump_if::<COND>(cpu, op.imm)
}

#[inline(always)]
pub(crate) fn jump_if<const COND: u8>(cpu: &mut Cpu, target: u64) -> Result {
    let taken = cpu.flags.holds(const { Cond::ALL[COND as usize] });
    arithmetic::jump_if(cpu, target, taken)
}
