//! Instructions to compact operations: which semantic function, with its operands laid out.

mod memory;
mod vectors;

use sotto_isa::arm64::names::ZERO_BLOCK;
use sotto_isa::arm64::{AtomicOp, BitfieldFields, Logic, Meaning, form};
use sotto_isa::{
    Extend, IndexMode, Instruction, Named, Operand, Operands, Reg, RegKind, Shift, Width,
};

use super::{NOWHERE, SP, ZERO};
use crate::Observer;
use crate::arm64::op::{Op, Run, Second};
use crate::arm64::{branches, integer, system};

fn source(reg: Reg) -> u8 {
    match reg.kind {
        RegKind::Sp | RegKind::Wsp => SP,
        _ if reg.number == 31 => ZERO,
        _ => reg.number,
    }
}

fn destination(reg: Reg) -> u8 {
    match source(reg) {
        ZERO => NOWHERE,
        code => code,
    }
}

impl<O> Op<O> {
    fn register(operand: Option<&Operand>) -> u8 {
        match operand {
            Some(Operand::Reg(reg)) => source(*reg),
            _ => ZERO,
        }
    }

    /// Lays out a second operand that may be an immediate, a register, or a changed register.
    fn put_second(&mut self, operand: Option<&Operand>) {
        match operand {
            Some(Operand::Reg(reg)) => {
                (self.second, self.m, self.amount) = (Second::Shifted(Shift::Lsl), source(*reg), 0);
            }
            Some(Operand::Shifted(reg, shift, amount)) => {
                (self.second, self.m, self.amount) =
                    (Second::Shifted(*shift), source(*reg), *amount);
            }
            Some(Operand::Extended(reg, extend, amount)) => {
                (self.second, self.m, self.amount) =
                    (Second::Extended(*extend), source(*reg), *amount);
            }
            Some(Operand::Imm(value)) => {
                (self.second, self.imm) = (Second::Imm, value.or_zero() as u64);
            }
            Some(Operand::ShiftedImm(value, shift)) => {
                (self.second, self.imm) = (Second::Imm, (value.or_zero() as u64) << shift);
                self.amount = *shift;
            }
            _ => {}
        }
    }

    fn put_memory(&mut self, operand: Option<&Operand>) {
        let Some(Operand::Mem(mem)) = operand else { return };
        self.n = mem.base.map_or(ZERO, source);
        self.mode = mem.mode;
        match mem.index {
            Some(index) => {
                self.m = source(index);
                self.amount = mem.scale.trailing_zeros() as u8;
                self.second = Second::Extended(mem.extend.unwrap_or(Extend::Uxtx));
            }
            None => (self.second, self.imm) = (Second::Imm, mem.disp.or_zero() as u64),
        }
    }
}

/// What the second operand is, for functions that have instances for it.
fn second_kind<O>(op: &Op<O>) -> u8 {
    match op.second {
        Second::Imm => integer::IMMEDIATE,
        Second::Shifted(Shift::Lsl) if op.amount == 0 => integer::REGISTER,
        _ => integer::ANY,
    }
}

/// A function for the second operand and the width.
macro_rules! by_second {
    ($op:expr, $f:ident, [$($flag:tt),*]) => {
        match (second_kind(&$op), $op.width == Width::W64) {
            (integer::IMMEDIATE, true) => integer::$f::<$($flag,)* { integer::IMMEDIATE }, true, O>,
            (integer::IMMEDIATE, false) => integer::$f::<$($flag,)* { integer::IMMEDIATE }, false, O>,
            (integer::REGISTER, true) => integer::$f::<$($flag,)* { integer::REGISTER }, true, O>,
            (integer::REGISTER, false) => integer::$f::<$($flag,)* { integer::REGISTER }, false, O>,
            (_, true) => integer::$f::<$($flag,)* { integer::ANY }, true, O>,
            (_, false) => integer::$f::<$($flag,)* { integer::ANY }, false, O>,
        }
    };
}

/// A comparison and the conditional branch behind it as one operation.
pub(super) fn fuse<O: Observer>(first: &Instruction, branch: &Instruction) -> Option<Op<O>> {
    let Meaning::BranchIf(cond) = form(branch.form).meaning else { return None };
    if !matches!(form(first.form).meaning, Meaning::Sub { flags: true } | Meaning::Compare) {
        return None;
    }
    let mut op = translate::<O>(first);
    op.target = translate::<O>(branch).imm;
    op.run = match cond {
        0 => by_second!(op, subtract_and_branch, [0]),
        1 => by_second!(op, subtract_and_branch, [1]),
        2 => by_second!(op, subtract_and_branch, [2]),
        3 => by_second!(op, subtract_and_branch, [3]),
        8 => by_second!(op, subtract_and_branch, [8]),
        9 => by_second!(op, subtract_and_branch, [9]),
        10 => by_second!(op, subtract_and_branch, [10]),
        11 => by_second!(op, subtract_and_branch, [11]),
        12 => by_second!(op, subtract_and_branch, [12]),
        13 => by_second!(op, subtract_and_branch, [13]),
        _ => return None,
    };
    Some(op)
}

/// The immediate at an index, or 0.
fn immediate(operands: &Operands, index: usize) -> u64 {
    match operands.get(index) {
        Some(Operand::Imm(value)) => value.or_zero() as u64,
        _ => 0,
    }
}

/// Lays out an operation of one source, on parts of a width.
fn one_source<O>(op: &mut Op<O>, operands: &Operands, part: Width, run: Run<O>) -> Run<O> {
    if let Some(Operand::Reg(reg)) = operands.get(1) {
        op.n = source(*reg);
    }
    op.access = part.min(op.width);
    run
}

fn extension<O: Observer>(extend: Extend) -> (Width, Run<O>) {
    let signed = integer::extend_signed::<O> as Run<O>;
    match extend {
        Extend::Sxtb => (Width::W8, signed),
        Extend::Sxth => (Width::W16, signed),
        Extend::Sxtw | Extend::Sxtx => (Width::W32, signed),
        Extend::Uxtb => (Width::W8, integer::extend_unsigned::<O>),
        Extend::Uxth => (Width::W16, integer::extend_unsigned::<O>),
        Extend::Uxtw | Extend::Uxtx => (Width::W32, integer::extend_unsigned::<O>),
    }
}

/// Where the field of a bitfield move is: `amount` in the source, `a` in the destination, `imm` the mask of its width.
fn put_bitfield<O>(op: &mut Op<O>, fields: BitfieldFields, operands: &Operands) {
    let bits = u64::from(op.width.bits());
    let (first, second) = match fields {
        BitfieldFields::Clear => (immediate(operands, 1), immediate(operands, 2)),
        _ => (immediate(operands, 2), immediate(operands, 3)),
    };
    let (from, to, width) = match fields {
        BitfieldFields::Raw if second >= first => (first, 0, second - first + 1),
        BitfieldFields::Raw => (0, bits - first, second + 1),
        BitfieldFields::Extract => (first, 0, second),
        BitfieldFields::Insert | BitfieldFields::Clear => (0, first, second),
    };
    op.n = match (fields, operands.get(1)) {
        (BitfieldFields::Clear, _) | (_, None) => ZERO,
        (_, operand) => Op::<O>::register(operand),
    };
    (op.amount, op.a) = (from as u8, (to % bits) as u8);
    op.imm = u64::MAX >> (64 - width);
}

pub(super) fn translate<O: Observer>(instruction: &Instruction) -> Op<O> {
    let form = form(instruction.form);
    let operands = &instruction.operands;
    let mut op = Op {
        run: branches::nop::<O> as Run<O>,
        imm: 0,
        target: 0,
        next: instruction.end(),
        d: NOWHERE,
        n: ZERO,
        m: ZERO,
        a: ZERO,
        amount: 0,
        cond: form.meaning.condition().unwrap_or(0),
        width: Width::W64,
        access: Width::W64,
        second: Second::Imm,
        logic: Logic::And,
        shift: Shift::Lsl,
        mode: IndexMode::Offset,
        atomic: AtomicOp::Add,
        vector: None,
    };
    if let Some(Operand::Reg(reg)) = operands.first() {
        op.width = reg.width();
        op.d = destination(*reg);
    }
    for operand in operands {
        match operand {
            Operand::Target(target) => op.imm = target.or_zero() as u64,
            Operand::Cond(cond) => op.cond = *cond,
            _ => {}
        }
    }
    let register = |index: usize| Op::<O>::register(operands.get(index));
    let by_flags = |flags: bool, with: Run<O>, without: Run<O>| if flags { with } else { without };
    op.run = match form.meaning {
        Meaning::Add { flags } => {
            op.n = register(1);
            op.put_second(operands.get(2));
            by_flags(
                flags,
                by_second!(op, add_sub, [false, true]),
                by_second!(op, add_sub, [false, false]),
            )
        }
        Meaning::Sub { flags } => {
            op.n = register(1);
            op.put_second(operands.get(2));
            by_flags(
                flags,
                by_second!(op, add_sub, [true, true]),
                by_second!(op, add_sub, [true, false]),
            )
        }
        Meaning::Compare | Meaning::CompareNegative | Meaning::TestBits => {
            (op.n, op.d) = (register(0), NOWHERE);
            op.put_second(operands.get(1));
            match form.meaning {
                Meaning::Compare => by_second!(op, add_sub, [true, true]),
                Meaning::CompareNegative => by_second!(op, add_sub, [false, true]),
                _ => by_second!(op, logic, [false, true]),
            }
        }
        Meaning::Negate { flags } => {
            op.put_second(operands.get(1));
            by_flags(
                flags,
                by_second!(op, add_sub, [true, true]),
                by_second!(op, add_sub, [true, false]),
            )
        }
        Meaning::Logic { op: logic, invert, flags } => {
            op.n = register(1);
            op.logic = logic;
            op.put_second(operands.get(2));
            match (invert, flags) {
                (false, false) => by_second!(op, logic, [false, false]),
                (false, true) => by_second!(op, logic, [false, true]),
                (true, false) => by_second!(op, logic, [true, false]),
                (true, true) => by_second!(op, logic, [true, true]),
            }
        }
        Meaning::Not => {
            op.logic = Logic::Orr;
            op.put_second(operands.get(1));
            by_second!(op, logic, [true, false])
        }
        Meaning::Mov => {
            op.logic = Logic::Orr;
            op.put_second(operands.get(1));
            by_second!(op, logic, [false, false])
        }
        Meaning::Movz => {
            op.put_second(operands.get(1));
            integer::constant::<O>
        }
        Meaning::Movn => {
            op.put_second(operands.get(1));
            op.imm = !op.imm;
            integer::constant::<O>
        }
        Meaning::Movk => {
            op.put_second(operands.get(1));
            integer::movk::<O>
        }
        Meaning::Adr | Meaning::Adrp => integer::constant::<O>,
        Meaning::Lsl | Meaning::Lsr | Meaning::Asr | Meaning::Ror => {
            op.n = register(1);
            op.put_second(operands.get(2));
            op.shift = match form.meaning {
                Meaning::Lsl => Shift::Lsl,
                Meaning::Lsr => Shift::Lsr,
                Meaning::Ror => Shift::Ror,
                _ => Shift::Asr,
            };
            integer::shift::<O>
        }
        Meaning::Madd | Meaning::Msub | Meaning::Mul => {
            (op.n, op.m, op.a) = (register(1), register(2), register(3));
            match form.meaning {
                Meaning::Msub => integer::multiply::<true, O>,
                _ => integer::multiply::<false, O>,
            }
        }
        Meaning::Sdiv | Meaning::Udiv => {
            (op.n, op.m) = (register(1), register(2));
            match form.meaning {
                Meaning::Sdiv => integer::divide::<true, O>,
                _ => integer::divide::<false, O>,
            }
        }
        Meaning::Csel | Meaning::Csinc | Meaning::Csinv | Meaning::Csneg => {
            (op.n, op.m) = (register(1), register(2));
            match form.meaning {
                Meaning::Csinc => integer::csel_changed::<false, 1, O>,
                Meaning::Csinv => integer::csel_changed::<true, 0, O>,
                Meaning::Csneg => integer::csel_changed::<true, 1, O>,
                _ => integer::csel::<O>,
            }
        }
        Meaning::Cset => integer::cset::<O>,
        Meaning::Csetm => integer::csetm::<O>,
        Meaning::Cinc | Meaning::Cinv | Meaning::Cneg => {
            op.n = register(1);
            match form.meaning {
                Meaning::Cinc => integer::change_if::<false, 1, O>,
                Meaning::Cinv => integer::change_if::<true, 0, O>,
                _ => integer::change_if::<true, 1, O>,
            }
        }
        Meaning::CondCompare { negative } => {
            (op.n, op.d) = (register(0), NOWHERE);
            op.put_second(operands.get(1));
            op.a = immediate(operands, 2) as u8;
            match negative {
                false => integer::compare_if::<true, O>,
                true => integer::compare_if::<false, O>,
            }
        }
        Meaning::AddCarry { subtract, flags } => {
            (op.n, op.m) = (register(1), register(2));
            match (subtract, flags) {
                (false, false) => integer::add_sub_carry::<false, false, O>,
                (false, true) => integer::add_sub_carry::<false, true, O>,
                (true, false) => integer::add_sub_carry::<true, false, O>,
                (true, true) => integer::add_sub_carry::<true, true, O>,
            }
        }
        Meaning::NegateCarry { flags } => {
            op.m = register(1);
            by_flags(
                flags,
                integer::add_sub_carry::<true, true, O>,
                integer::add_sub_carry::<true, false, O>,
            )
        }
        Meaning::Extr => {
            (op.n, op.m) = (register(1), register(2));
            op.amount = immediate(operands, 3) as u8;
            integer::extract::<O>
        }
        Meaning::Rbit => one_source(&mut op, operands, Width::W64, integer::reverse_bits::<O>),
        Meaning::Reverse(part) => one_source(&mut op, operands, part, integer::reverse_bytes::<O>),
        Meaning::Clz => one_source(&mut op, operands, Width::W64, integer::leading_zeros::<O>),
        Meaning::Cls => one_source(&mut op, operands, Width::W64, integer::leading_signs::<O>),
        Meaning::Extended(extend) => {
            let (access, run) = extension::<O>(extend);
            one_source(&mut op, operands, access, run)
        }
        Meaning::Bitfield(kind, fields) => {
            put_bitfield(&mut op, fields, operands);
            integer::bitfield_function::<O>(kind)
        }
        Meaning::MultiplyLong { signed, subtract } => {
            (op.n, op.m, op.a) = (register(1), register(2), register(3));
            match (signed, subtract) {
                (true, false) => integer::multiply_long::<true, false, O>,
                (true, true) => integer::multiply_long::<true, true, O>,
                (false, false) => integer::multiply_long::<false, false, O>,
                (false, true) => integer::multiply_long::<false, true, O>,
            }
        }
        Meaning::MultiplyHigh { signed } => {
            (op.n, op.m) = (register(1), register(2));
            match signed {
                true => integer::multiply_high::<true, O>,
                false => integer::multiply_high::<false, O>,
            }
        }
        Meaning::Crc32 { castagnoli, width } => {
            (op.n, op.m, op.access) = (register(1), register(2), width);
            // The polynomials with their bits reversed. Source: Arm ARM, C6.2 CRC32, CRC32C.
            op.imm = if castagnoli { 0x82f6_3b78 } else { 0xedb8_8320 };
            integer::crc::<O>
        }
        Meaning::ReadSystem | Meaning::WriteSystem => {
            let number = operands.iter().find_map(|operand| match operand {
                Operand::Named(Named::System(number)) => Some(*number),
                _ => None,
            });
            op.imm = u64::from(number.unwrap_or(0));
            op.n = register(1);
            match form.meaning {
                Meaning::ReadSystem => system::read::<O>,
                _ => system::write::<O>,
            }
        }
        Meaning::Cache => {
            op.n = register(1);
            match operands.first() {
                Some(Operand::Named(Named::DataCache(ZERO_BLOCK))) => system::zero_block::<O>,
                _ => branches::nop::<O>,
            }
        }
        Meaning::Prefetch => branches::nop::<O>,
        Meaning::Vector(meaning) => {
            let vector = vectors::translate(meaning, instruction);
            (op.d, op.n, op.m, op.a) = (vector.d, vector.n, vector.m, vector.a);
            op.vector = Some(Box::new(vector));
            super::vector::scalar::quick_function::<O>(meaning, operands)
                .unwrap_or(super::vector::run::<O>)
        }
        Meaning::Load { .. }
        | Meaning::Store { .. }
        | Meaning::LoadPair { .. }
        | Meaning::StorePair { .. }
        | Meaning::LoadOrdered { .. }
        | Meaning::StoreOrdered { .. }
        | Meaning::LoadExclusive { .. }
        | Meaning::StoreExclusive { .. }
        | Meaning::LoadExclusivePair { .. }
        | Meaning::StoreExclusivePair { .. }
        | Meaning::ClearExclusive
        | Meaning::Atomic { .. }
        | Meaning::CompareAndSwap { .. }
        | Meaning::CompareAndSwapPair { .. }
        | Meaning::LoadScalar { .. }
        | Meaning::StoreScalar { .. }
        | Meaning::LoadScalarPair { .. }
        | Meaning::StoreScalarPair { .. }
        | Meaning::LoadStructures { .. }
        | Meaning::StoreStructures { .. }
        | Meaning::LoadReplicated
        | Meaning::LoadLane
        | Meaning::StoreLane => memory::translate(&mut op, form.meaning, operands),
        Meaning::B => branches::branch::<O>,
        Meaning::BranchIf(_) => branches::branch_if::<O>,
        Meaning::Cbz | Meaning::Cbnz => {
            op.d = register(0);
            match form.meaning {
                Meaning::Cbz => branches::branch_if_zero::<true, O>,
                _ => branches::branch_if_zero::<false, O>,
            }
        }
        Meaning::Tbz | Meaning::Tbnz => {
            op.d = register(0);
            if let Some(Operand::Imm(bit)) = operands.get(1) {
                op.amount = bit.or_zero() as u8;
            }
            match form.meaning {
                Meaning::Tbz => branches::branch_if_bit::<false, O>,
                _ => branches::branch_if_bit::<true, O>,
            }
        }
        Meaning::Bl => branches::branch_and_link::<O>,
        Meaning::Br => {
            op.n = register(0);
            branches::branch_to::<O>
        }
        Meaning::Blr => {
            op.n = register(0);
            branches::call_to::<O>
        }
        Meaning::Ret => {
            op.n = if operands.is_empty() { 30 } else { register(0) };
            branches::branch_to::<O>
        }
        Meaning::Nop => branches::nop::<O>,
        Meaning::Svc => branches::svc::<O>,
        Meaning::Brk => branches::brk::<O>,
        Meaning::Udf => branches::undefined::<O>,
    };
    op
}
