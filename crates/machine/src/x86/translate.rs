//! Instructions to compact operations: which semantic function, with its operands laid out.

use sotto_isa::x86::{Cond, Meaning, form, operand_width};
use sotto_isa::{self as isa, Instruction, RegKind, Width};

use super::flags::Shift;
use super::ops::{self, B8, B16, B32, B64, First, Imm, Mem, Second};
use super::{Cpu, ZERO, code};
use crate::engine::Result;
use crate::{Memory, Observer};

pub(super) type Run<O> = fn(&mut Cpu, &mut Memory, &Op<O>, &mut O) -> Result;

/// An instruction ready to be carried out.
pub(crate) struct Op<O> {
    pub(super) run: Run<O>,
    /// The immediate, sign-extended; or the target of a jump.
    pub(super) imm: u64,
    /// The displacement; with the instruction pointer as base, the whole address.
    pub(super) disp: u64,
    /// Address of the next instruction.
    pub(super) next: u64,
    pub(super) first: u8,
    pub(super) second: u8,
    pub(super) base: u8,
    pub(super) index: u8,
    pub(super) shift: u8,
    pub(super) address32: bool,
    pub(super) cond: Cond,
    pub(super) shift_kind: Shift,
}

/// What kind of thing an operand is, for choosing a function.
#[derive(Copy, Clone, PartialEq, Eq)]
enum Is {
    Reg,
    Mem,
    Imm,
    None,
}

/// `by_width!(width, f::<A, B, _, O>)`: the function with the width's type put in place of `_`.
macro_rules! by_width {
    ($width:expr, $f:ident, [$($before:ty),*]) => {
        match $width {
            Width::W8 => ops::$f::<$($before,)* B8, O> as Run<O>,
            Width::W16 => ops::$f::<$($before,)* B16, O>,
            Width::W32 => ops::$f::<$($before,)* B32, O>,
            Width::W64 => ops::$f::<$($before,)* B64, O>,
        }
    };
}

/// As [`by_width`], with one constant first.
macro_rules! by_width_const {
    ($width:expr, $f:ident, $c:literal, [$($before:ty),*]) => {
        match $width {
            Width::W8 => ops::$f::<$c, $($before,)* B8, O> as Run<O>,
            Width::W16 => ops::$f::<$c, $($before,)* B16, O>,
            Width::W32 => ops::$f::<$c, $($before,)* B32, O>,
            Width::W64 => ops::$f::<$c, $($before,)* B64, O>,
        }
    };
}

/// The places of a two-operand instruction.
macro_rules! two_places {
    ($kinds:expr, $width:expr, $f:ident, [$($before:ty),*]) => {
        match $kinds {
            (Is::Reg, Is::Reg) => by_width!($width, $f, [$($before,)* First, Second]),
            (Is::Reg, Is::Mem) => by_width!($width, $f, [$($before,)* First, Mem]),
            (Is::Reg, _) => by_width!($width, $f, [$($before,)* First, Imm]),
            (_, Is::Reg) => by_width!($width, $f, [$($before,)* Mem, Second]),
            (_, _) => by_width!($width, $f, [$($before,)* Mem, Imm]),
        }
    };
}

/// The place of a one-operand instruction.
macro_rules! one_place {
    ($kind:expr, $width:expr, $f:ident, [$($before:ty),*]) => {
        match $kind {
            Is::Mem => by_width!($width, $f, [$($before,)* Mem]),
            _ => by_width!($width, $f, [$($before,)* First]),
        }
    };
}

/// As [`one_place`], with one constant first, and the given place for a register.
macro_rules! source_place {
    ($kind:expr, $width:expr, $f:ident, $c:literal, $reg:ident) => {
        match $kind {
            Is::Mem => by_width_const!($width, $f, $c, [Mem]),
            _ => by_width_const!($width, $f, $c, [$reg]),
        }
    };
}

pub(super) fn translate<O: Observer>(instruction: &Instruction) -> Op<O> {
    let form = form(instruction.form);
    let width = operand_width(form);
    let mut op = Op {
        run: ops::nop::<O>,
        imm: 0,
        disp: 0,
        next: instruction.end(),
        first: ZERO,
        second: ZERO,
        base: ZERO,
        index: ZERO,
        shift: 0,
        address32: false,
        cond: form.meaning.condition().unwrap_or(Cond::O),
        shift_kind: Shift::Shl,
    };
    let mut kinds = [Is::None; 3];
    for (position, operand) in instruction.operands.iter().enumerate() {
        kinds[position.min(2)] = place(&mut op, position, operand);
    }
    let [first, second, _] = kinds;
    op.run = match form.meaning {
        Meaning::Mov => two_places!((first, second), width, mov, []),
        Meaning::Movzx => extend::<false, O>(second, source_width(instruction), width),
        Meaning::Movsx => extend::<true, O>(second, source_width(instruction), width),
        Meaning::Lea => by_width!(width, lea, []),
        Meaning::Push => match first {
            Is::Imm => ops::push::<Imm, B64, O>,
            _ => one_place!(first, width, push, []),
        },
        Meaning::PushWord => ops::push::<Imm, B16, O>,
        Meaning::Pop => one_place!(first, width, pop, []),
        Meaning::Leave => ops::leave::<O>,
        // Either operand may be the memory one; the other is exchanged with it.
        Meaning::Xchg if second == Is::Mem => {
            op.second = op.first;
            by_width!(width, xchg, [Mem])
        }
        Meaning::Xchg => one_place!(first, width, xchg, []),
        Meaning::Add => two_places!((first, second), width, binary, [ops::Add]),
        Meaning::Adc => two_places!((first, second), width, binary, [ops::Adc]),
        Meaning::Sub => two_places!((first, second), width, binary, [ops::Sub]),
        Meaning::Sbb => two_places!((first, second), width, binary, [ops::Sbb]),
        Meaning::Cmp => two_places!((first, second), width, binary, [ops::Cmp]),
        Meaning::And => two_places!((first, second), width, binary, [ops::And]),
        Meaning::Or => two_places!((first, second), width, binary, [ops::Or]),
        Meaning::Xor => two_places!((first, second), width, binary, [ops::Xor]),
        Meaning::Test => two_places!((first, second), width, binary, [ops::Test]),
        Meaning::Inc => one_place!(first, width, unary, [ops::Inc]),
        Meaning::Dec => one_place!(first, width, unary, [ops::Dec]),
        Meaning::Neg => one_place!(first, width, unary, [ops::Neg]),
        Meaning::Not => one_place!(first, width, unary, [ops::Not]),
        Meaning::Shl => shift(&mut op, Shift::Shl, (first, second), width),
        Meaning::Shr => shift(&mut op, Shift::Shr, (first, second), width),
        Meaning::Sar => shift(&mut op, Shift::Sar, (first, second), width),
        Meaning::Rol => shift(&mut op, Shift::Rol, (first, second), width),
        Meaning::Ror => shift(&mut op, Shift::Ror, (first, second), width),
        Meaning::Rcl => shift(&mut op, Shift::Rcl, (first, second), width),
        Meaning::Rcr => shift(&mut op, Shift::Rcr, (first, second), width),
        Meaning::Mul => source_place!(first, width, multiply, false, First),
        Meaning::ImulWide => source_place!(first, width, multiply, true, First),
        Meaning::Imul if instruction.operands.len() == 3 => {
            source_place!(second, width, imul, true, Second)
        }
        Meaning::Imul => source_place!(second, width, imul, false, Second),
        Meaning::Div => source_place!(first, width, divide, false, First),
        Meaning::Idiv => source_place!(first, width, divide, true, First),
        Meaning::ExtendAccumulator => match width {
            Width::W16 => ops::extend_accumulator::<B8, B16, O>,
            Width::W32 => ops::extend_accumulator::<B16, B32, O>,
            _ => ops::extend_accumulator::<B32, B64, O>,
        },
        Meaning::Bt => bit_test::<ops::Keep, O>((first, second), width),
        Meaning::Bts => bit_test::<ops::SetBit, O>((first, second), width),
        Meaning::Btr => bit_test::<ops::ClearBit, O>((first, second), width),
        Meaning::Btc => bit_test::<ops::Invert, O>((first, second), width),
        Meaning::Popcnt => match second {
            Is::Mem => by_width!(width, popcnt, [Mem]),
            _ => by_width!(width, popcnt, [Second]),
        },
        Meaning::Bswap => by_width!(width, bswap, []),
        Meaning::Xadd => one_place!(first, width, xadd, []),
        Meaning::Cmpxchg => one_place!(first, width, cmpxchg, []),
        Meaning::Clc => ops::carry::<0, O>,
        Meaning::Stc => ops::carry::<1, O>,
        Meaning::Cmc => ops::carry::<2, O>,
        Meaning::SpreadSign => by_width!(width, spread_sign, []),
        Meaning::Jmp => match first {
            Is::Reg => ops::jump_to::<First, O>,
            Is::Mem => ops::jump_to::<Mem, O>,
            _ => ops::jump::<O>,
        },
        Meaning::Jcc(_) => ops::jcc::<O>,
        Meaning::Setcc(_) => match first {
            Is::Mem => ops::setcc::<Mem, O>,
            _ => ops::setcc::<First, O>,
        },
        Meaning::Cmovcc(_) => match second {
            Is::Mem => by_width!(width, cmovcc, [Mem]),
            _ => by_width!(width, cmovcc, [Second]),
        },
        Meaning::Call => match first {
            Is::Reg => ops::call_to::<First, O>,
            Is::Mem => ops::call_to::<Mem, O>,
            _ => ops::call::<O>,
        },
        Meaning::Ret => ops::ret::<O>,
        Meaning::Loop => ops::loop_while::<2, O>,
        Meaning::Loope => ops::loop_while::<1, O>,
        Meaning::Loopne => ops::loop_while::<0, O>,
        Meaning::Jrcxz => ops::jump_if_counter_zero::<B64, O>,
        Meaning::Jecxz => ops::jump_if_counter_zero::<B32, O>,
        Meaning::Nop => ops::nop::<O>,
        Meaning::Syscall => ops::syscall::<O>,
        Meaning::Int3 => ops::int3::<O>,
        Meaning::Ud2 => ops::invalid::<O>,
    };
    op
}

/// Lays an operand out in the operation.
fn place<O>(op: &mut Op<O>, position: usize, operand: &isa::Operand) -> Is {
    match operand {
        isa::Operand::Reg(reg) => {
            if position == 0 {
                op.first = code(*reg);
            } else {
                op.second = code(*reg);
            }
            Is::Reg
        }
        isa::Operand::Imm(value) | isa::Operand::Target(value) => {
            op.imm = value.or_zero() as u64;
            Is::Imm
        }
        isa::Operand::Mem(mem) => {
            op.disp = mem.disp.or_zero() as u64;
            if let Some(base) = mem.base {
                match base.kind {
                    RegKind::Ip => op.disp = op.disp.wrapping_add(op.next),
                    _ => op.base = base.number,
                }
            }
            if let Some(index) = mem.index {
                (op.index, op.shift) = (index.number, mem.scale.trailing_zeros() as u8);
            }
            let narrow = |reg: isa::Reg| reg.width() == Width::W32;
            op.address32 = mem.base.is_some_and(narrow) || mem.index.is_some_and(narrow);
            Is::Mem
        }
        isa::Operand::ShiftedImm(..)
        | isa::Operand::Shifted(..)
        | isa::Operand::Extended(..)
        | isa::Operand::Cond(_) => Is::None,
    }
}

fn source_width(instruction: &Instruction) -> Width {
    match instruction.operands[1] {
        isa::Operand::Reg(reg) => reg.width(),
        isa::Operand::Mem(mem) => mem.width.unwrap_or(Width::W8),
        _ => Width::W8,
    }
}

fn extend<const SIGNED: bool, O: Observer>(source: Is, from: Width, to: Width) -> Run<O> {
    macro_rules! from_width {
        ($place:ident) => {
            match from {
                Width::W8 => by_to!($place, B8),
                Width::W16 => by_to!($place, B16),
                _ => by_to!($place, B32),
            }
        };
    }
    macro_rules! by_to {
        ($place:ident, $from:ident) => {
            match to {
                Width::W64 => ops::extend::<SIGNED, $place, $from, B64, O> as Run<O>,
                Width::W32 => ops::extend::<SIGNED, $place, $from, B32, O>,
                _ => ops::extend::<SIGNED, $place, $from, B16, O>,
            }
        };
    }
    match source {
        Is::Mem => from_width!(Mem),
        _ => from_width!(Second),
    }
}

fn bit_test<C: ops::BitChange, O: Observer>(kinds: (Is, Is), width: Width) -> Run<O> {
    match kinds {
        (Is::Mem, Is::Reg) => by_width!(width, bit_test_string, [C]),
        (Is::Mem, _) => by_width!(width, bit_test, [C, Mem, Imm]),
        (_, Is::Reg) => by_width!(width, bit_test, [C, First, Second]),
        (_, _) => by_width!(width, bit_test, [C, First, Imm]),
    }
}

fn shift<O: Observer>(op: &mut Op<O>, kind: Shift, kinds: (Is, Is), width: Width) -> Run<O> {
    op.shift_kind = kind;
    match kinds {
        (Is::Reg, Is::Reg) => by_width!(width, shift, [First, Second]),
        (Is::Reg, _) => by_width!(width, shift, [First, Imm]),
        (_, Is::Reg) => by_width!(width, shift, [Mem, Second]),
        (_, _) => by_width!(width, shift, [Mem, Imm]),
    }
}
