//! Instructions to compact operations: which semantic function, with its operands laid out.

use sotto_isa::arm64::{Logic, Meaning, form};
use sotto_isa::{Extend, IndexMode, Instruction, Operand, Reg, RegKind, Shift, Width};

use super::{NOWHERE, SP, ZERO};
use crate::Observer;
use crate::arm64::op::{Op, Run, Second};
use crate::arm64::operations;

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

impl<O: Observer> Op<O> {
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

pub(super) fn translate<O: Observer>(instruction: &Instruction) -> Op<O> {
    let form = form(instruction.form);
    let operands = &instruction.operands;
    let mut op = Op {
        run: operations::nop::<O> as Run<O>,
        imm: 0,
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
                operations::add_sub::<false, true, O>,
                operations::add_sub::<false, false, O>,
            )
        }
        Meaning::Sub { flags } => {
            op.n = register(1);
            op.put_second(operands.get(2));
            by_flags(
                flags,
                operations::add_sub::<true, true, O>,
                operations::add_sub::<true, false, O>,
            )
        }
        Meaning::Compare | Meaning::CompareNegative | Meaning::TestBits => {
            (op.n, op.d) = (register(0), NOWHERE);
            op.put_second(operands.get(1));
            match form.meaning {
                Meaning::Compare => operations::add_sub::<true, true, O>,
                Meaning::CompareNegative => operations::add_sub::<false, true, O>,
                _ => operations::logic::<false, true, O>,
            }
        }
        Meaning::Negate { flags } => {
            op.put_second(operands.get(1));
            by_flags(
                flags,
                operations::add_sub::<true, true, O>,
                operations::add_sub::<true, false, O>,
            )
        }
        Meaning::Logic { op: logic, invert, flags } => {
            op.n = register(1);
            op.logic = logic;
            op.put_second(operands.get(2));
            match (invert, flags) {
                (false, false) => operations::logic::<false, false, O>,
                (false, true) => operations::logic::<false, true, O>,
                (true, false) => operations::logic::<true, false, O>,
                (true, true) => operations::logic::<true, true, O>,
            }
        }
        Meaning::Not => {
            op.logic = Logic::Orr;
            op.put_second(operands.get(1));
            operations::logic::<true, false, O>
        }
        Meaning::Mov => {
            op.logic = Logic::Orr;
            op.put_second(operands.get(1));
            operations::logic::<false, false, O>
        }
        Meaning::Movz => {
            op.put_second(operands.get(1));
            operations::constant::<O>
        }
        Meaning::Movn => {
            op.put_second(operands.get(1));
            op.imm = !op.imm;
            operations::constant::<O>
        }
        Meaning::Movk => {
            op.put_second(operands.get(1));
            operations::movk::<O>
        }
        Meaning::Adr | Meaning::Adrp => operations::constant::<O>,
        Meaning::Lsl | Meaning::Lsr | Meaning::Asr => {
            op.n = register(1);
            op.put_second(operands.get(2));
            op.shift = match form.meaning {
                Meaning::Lsl => Shift::Lsl,
                Meaning::Lsr => Shift::Lsr,
                _ => Shift::Asr,
            };
            operations::shift::<O>
        }
        Meaning::Madd | Meaning::Msub | Meaning::Mul => {
            (op.n, op.m, op.a) = (register(1), register(2), register(3));
            match form.meaning {
                Meaning::Msub => operations::multiply::<true, O>,
                _ => operations::multiply::<false, O>,
            }
        }
        Meaning::Sdiv | Meaning::Udiv => {
            (op.n, op.m) = (register(1), register(2));
            match form.meaning {
                Meaning::Sdiv => operations::divide::<true, O>,
                _ => operations::divide::<false, O>,
            }
        }
        Meaning::Csel | Meaning::Csinc | Meaning::Csinv | Meaning::Csneg => {
            (op.n, op.m) = (register(1), register(2));
            match form.meaning {
                Meaning::Csinc => operations::csel_changed::<false, 1, O>,
                Meaning::Csinv => operations::csel_changed::<true, 0, O>,
                Meaning::Csneg => operations::csel_changed::<true, 1, O>,
                _ => operations::csel::<O>,
            }
        }
        Meaning::Cset => operations::cset::<O>,
        Meaning::Load { access, signed } => {
            op.access = access;
            op.put_memory(operands.get(1));
            match (matches!(operands.get(1), Some(Operand::Target(_))), signed) {
                (true, _) => operations::load_literal::<O>,
                (false, true) => operations::load::<true, O>,
                (false, false) => operations::load::<false, O>,
            }
        }
        Meaning::Store { access } => {
            (op.access, op.d) = (access, register(0));
            op.put_memory(operands.get(1));
            operations::store::<O>
        }
        Meaning::LoadPair { access } => {
            op.access = access;
            if let Some(Operand::Reg(reg)) = operands.get(1) {
                op.a = destination(*reg);
            }
            op.put_memory(operands.get(2));
            operations::load_pair::<O>
        }
        Meaning::StorePair { access } => {
            (op.access, op.d, op.a) = (access, register(0), register(1));
            op.put_memory(operands.get(2));
            operations::store_pair::<O>
        }
        Meaning::B => operations::branch::<O>,
        Meaning::BranchIf(_) => operations::branch_if::<O>,
        Meaning::Cbz | Meaning::Cbnz => {
            op.d = register(0);
            match form.meaning {
                Meaning::Cbz => operations::branch_if_zero::<true, O>,
                _ => operations::branch_if_zero::<false, O>,
            }
        }
        Meaning::Tbz | Meaning::Tbnz => {
            op.d = register(0);
            if let Some(Operand::Imm(bit)) = operands.get(1) {
                op.amount = bit.or_zero() as u8;
            }
            match form.meaning {
                Meaning::Tbz => operations::branch_if_bit::<false, O>,
                _ => operations::branch_if_bit::<true, O>,
            }
        }
        Meaning::Bl => operations::branch_and_link::<O>,
        Meaning::Br => {
            op.n = register(0);
            operations::branch_to::<O>
        }
        Meaning::Blr => {
            op.n = register(0);
            operations::call_to::<O>
        }
        Meaning::Ret => {
            op.n = if operands.is_empty() { 30 } else { register(0) };
            operations::branch_to::<O>
        }
        Meaning::Nop => operations::nop::<O>,
        Meaning::Svc => operations::svc::<O>,
        Meaning::Brk => operations::brk::<O>,
        Meaning::Udf => operations::undefined::<O>,
    };
    op
}
