//! What A64 instructions do with general registers and flags, once, generic over width and observer.

use sotto_isa::arm64::{Bitfield, Logic};
use sotto_isa::{FlagSet, Shift, Width};

use crate::arm64::Cpu;
use crate::arm64::flags::{add_with_carry, holds_after_difference};
use crate::arm64::op::{Op, Second};
use crate::code::processor::{Flow, Result};
use crate::{Memory, Observer};

impl Cpu {
    /// A register at the operation's width, zero-extended.
    #[inline]
    pub(super) fn at<O>(&self, op: &Op<O>, code: u8) -> u64 {
        self.get(code) & op.width.mask()
    }

    /// Writes the destination; a 32-bit write clears the upper half.
    #[inline]
    pub(super) fn result<O>(&mut self, op: &Op<O>, value: u64) {
        self.put(op.d, value & op.width.mask());
    }

    #[inline]
    pub(super) fn second<O>(&self, op: &Op<O>) -> u64 {
        match op.second {
            Second::Imm => op.imm & op.width.mask(),
            Second::Shifted(shift) => {
                shifted(op.width, self.at(op, op.m), shift, u32::from(op.amount))
            }
            Second::Extended(extend) => {
                (extend.apply(self.get(op.m)) << op.amount) & op.width.mask()
            }
        }
    }
}

/// `value` shifted by `amount`, which is below the width. Source: shared pseudocode `ShiftReg`.
pub(crate) fn shifted(width: Width, value: u64, shift: Shift, amount: u32) -> u64 {
    let mask = width.mask();
    match shift {
        Shift::Lsl => value << amount & mask,
        Shift::Lsr => value >> amount,
        Shift::Asr => (width.sign_extend(value) >> amount) as u64 & mask,
        Shift::Ror if amount == 0 => value,
        Shift::Ror => (value >> amount | value << (width.bits() - amount)) & mask,
    }
}

/// What the second operand is, where functions have instances for it: the immediate, a register as it is, or anything.
pub(crate) const IMMEDIATE: u8 = 0;
pub(crate) const REGISTER: u8 = 1;
pub(crate) const ANY: u8 = 2;

/// The two operands of an instruction whose second operand and width are known when this is compiled.
#[inline(always)]
fn operands<const SECOND: u8, const WIDE: bool, O>(cpu: &Cpu, op: &Op<O>) -> (u64, u64, Width) {
    let width = if WIDE { Width::W64 } else { Width::W32 };
    let b = match SECOND {
        IMMEDIATE => op.imm,
        REGISTER => cpu.get(op.m),
        _ => cpu.second(op),
    };
    (cpu.get(op.n) & width.mask(), b & width.mask(), width)
}

/// ADD and SUB with their flag-setting and result-less forms.
pub(crate) fn add_sub<
    const SUBTRACT: bool,
    const FLAGS: bool,
    const SECOND: u8,
    const WIDE: bool,
    O: Observer,
>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let (a, b, width) = operands::<SECOND, WIDE, O>(cpu, op);
    let b = if SUBTRACT { !b & width.mask() } else { b };
    let value = a.wrapping_add(b).wrapping_add(u64::from(SUBTRACT)) & width.mask();
    cpu.put(op.d, value);
    if FLAGS {
        cpu.flags.after_sum(width, a, b, SUBTRACT);
    }
    debug_assert_eq!(add_with_carry(width, a, b, SUBTRACT).0, value);
    Ok(Flow::Next)
}

/// SUBS or CMP and the conditional branch behind it.
pub(crate) fn subtract_and_branch<
    const COND: u8,
    const SECOND: u8,
    const WIDE: bool,
    O: Observer,
>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let (a, b, width) = operands::<SECOND, WIDE, O>(cpu, op);
    cpu.put(op.d, a.wrapping_sub(b) & width.mask());
    cpu.flags.after_sum(width, a, !b & width.mask(), true);
    if holds_after_difference(COND, width, a, b) {
        super::branches::jump_to(cpu, op.target)
    } else {
        Ok(Flow::Next)
    }
}

pub(crate) fn logic<
    const INVERT: bool,
    const FLAGS: bool,
    const SECOND: u8,
    const WIDE: bool,
    O: Observer,
>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let (a, b, width) = operands::<SECOND, WIDE, O>(cpu, op);
    let b = if INVERT { !b & width.mask() } else { b };
    let value = match op.logic {
        Logic::And => a & b,
        Logic::Orr => a | b,
        Logic::Eor => a ^ b,
    };
    cpu.put(op.d, value);
    if FLAGS {
        cpu.flags.after_logic(width, value);
    }
    Ok(Flow::Next)
}

/// The register becomes the immediate: MOVZ, MOVN, ADR, and MOV of an immediate.
pub(crate) fn constant<O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    cpu.result(op, op.imm);
    Ok(Flow::Next)
}

pub(crate) fn movk<O: Observer>(cpu: &mut Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result {
    let kept = cpu.get(op.d) & !(0xffff << op.amount);
    cpu.result(op, kept | op.imm);
    Ok(Flow::Next)
}

/// LSL, LSR and ASR; the amount is taken modulo the width.
pub(crate) fn shift<O: Observer>(cpu: &mut Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result {
    let amount = cpu.second(op) as u32 % op.width.bits();
    let value = shifted(op.width, cpu.at(op, op.n), op.shift, amount);
    cpu.result(op, value);
    Ok(Flow::Next)
}

/// MADD, MSUB and MUL.
pub(crate) fn multiply<const SUBTRACT: bool, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let product = cpu.get(op.n).wrapping_mul(cpu.get(op.m));
    let addend = cpu.get(op.a);
    let value = if SUBTRACT { addend.wrapping_sub(product) } else { addend.wrapping_add(product) };
    cpu.result(op, value);
    Ok(Flow::Next)
}

/// SDIV and UDIV: toward zero; zero for a division by zero, no fault.
pub(crate) fn divide<const SIGNED: bool, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let (a, b) = (cpu.at(op, op.n), cpu.at(op, op.m));
    let value = match (b, SIGNED) {
        (0, _) => 0,
        (_, true) => op.width.sign_extend(a).wrapping_div(op.width.sign_extend(b)) as u64,
        (_, false) => a / b,
    };
    cpu.result(op, value);
    Ok(Flow::Next)
}

pub(crate) fn csel<O: Observer>(cpu: &mut Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result {
    let source = if cpu.flags.holds(op.cond) { op.n } else { op.m };
    let value = cpu.get(source);
    cpu.result(op, value);
    Ok(Flow::Next)
}

/// CSINC, CSINV and CSNEG: the second source is changed by `ADD` and `INVERT` if it is chosen.
pub(crate) fn csel_changed<const INVERT: bool, const ADD: u64, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let value = if cpu.flags.holds(op.cond) {
        cpu.get(op.n)
    } else {
        let second = cpu.get(op.m);
        (if INVERT { !second } else { second }).wrapping_add(ADD)
    };
    cpu.result(op, value);
    Ok(Flow::Next)
}

pub(crate) fn cset<O: Observer>(cpu: &mut Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result {
    let value = u64::from(cpu.flags.holds(op.cond));
    cpu.result(op, value);
    Ok(Flow::Next)
}

/// ADC, SBC and NGC with their flag-setting forms.
pub(crate) fn add_sub_carry<const SUBTRACT: bool, const FLAGS: bool, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let carry = cpu.flags.value().contains(sotto_isa::arm64::flag::C);
    let a = cpu.at(op, op.n);
    let b = cpu.at(op, op.m);
    let b = if SUBTRACT { !b & op.width.mask() } else { b };
    let value = a.wrapping_add(b).wrapping_add(u64::from(carry));
    cpu.result(op, value);
    if FLAGS {
        cpu.flags.after_sum(op.width, a, b, carry);
    }
    Ok(Flow::Next)
}

/// CCMP and CCMN.
pub(crate) fn compare_if<const SUBTRACT: bool, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    if cpu.flags.holds(op.cond) {
        let a = cpu.at(op, op.n);
        let b = cpu.second(op);
        let b = if SUBTRACT { !b & op.width.mask() } else { b };
        cpu.flags.after_sum(op.width, a, b, SUBTRACT);
    } else {
        cpu.flags.set(FlagSet(u32::from(op.a)));
    }
    Ok(Flow::Next)
}

/// CSETM.
pub(crate) fn csetm<O: Observer>(cpu: &mut Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result {
    let value = if cpu.flags.holds(op.cond) { u64::MAX } else { 0 };
    cpu.result(op, value);
    Ok(Flow::Next)
}

/// CINC, CINV and CNEG: the source is changed by `ADD` and `INVERT` if the condition holds.
pub(crate) fn change_if<const INVERT: bool, const ADD: u64, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let mut value = cpu.get(op.n);
    if cpu.flags.holds(op.cond) {
        value = (if INVERT { !value } else { value }).wrapping_add(ADD);
    }
    cpu.result(op, value);
    Ok(Flow::Next)
}

/// EXTR.
pub(crate) fn extract<O: Observer>(cpu: &mut Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result {
    let bits = op.width.bits();
    let (high, low) = (cpu.at(op, op.n), cpu.at(op, op.m));
    let both = u128::from(high) << bits | u128::from(low);
    cpu.result(op, (both >> op.amount) as u64);
    Ok(Flow::Next)
}

/// Operations of one source.
macro_rules! one_source {
    ($($(#[$doc:meta])* $name:ident($value:ident, $op:ident) $result:expr;)*) => {
        $(
            $(#[$doc])*
            pub(crate) fn $name<O: Observer>(
                cpu: &mut Cpu,
                _: &mut Memory,
                $op: &Op<O>,
                _: &mut O,
            ) -> Result {
                let $value = cpu.at($op, $op.n);
                let result = $result;
                cpu.result($op, result);
                Ok(Flow::Next)
            }
        )*
    };
}
one_source! {
    /// RBIT.
    reverse_bits(value, op) value.reverse_bits() >> (64 - op.width.bits());
    /// REV16, REV32 and REV: the bytes of each part as wide as the access.
    reverse_bytes(value, op) reverse_parts(value, op.access, op.width);
    /// CLZ.
    leading_zeros(value, op) u64::from(value.leading_zeros() - (64 - op.width.bits()));
    /// CLS.
    leading_signs(value, op) {
        let signed = op.width.sign_extend(value);
        let differing = (signed ^ signed >> 1) as u64 & op.width.mask();
        u64::from(differing.leading_zeros() - (64 - op.width.bits()) - 1)
    };
    /// SXTB and its like, whose source is as wide as the access.
    extend_signed(value, op) op.access.sign_extend(value) as u64;
    /// UXTB, UXTH.
    extend_unsigned(value, op) value & op.access.mask();
}

fn reverse_parts(value: u64, part: Width, width: Width) -> u64 {
    let (bits, mask) = (part.bits(), part.mask());
    let parts = (0..width.bits() / bits).map(|n| {
        let bytes = (value >> (n * bits) & mask).swap_bytes() >> (64 - bits);
        bytes << (n * bits)
    });
    parts.fold(0, |whole, part| whole | part)
}

/// BFM, SBFM and UBFM: the field is `imm` wide (as a mask), at bit `amount` of the source and at bit `a` of the destination.
/// Source: Arm ARM, C6.2 BFM; the two rotations of the pseudocode come to this.
pub(crate) fn bitfield<const SIGNED: bool, const INSERT: bool, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let field = cpu.at(op, op.n) >> op.amount & op.imm;
    let value = if INSERT {
        cpu.get(op.d) & !(op.imm << op.a) | field << op.a
    } else if SIGNED {
        let unused = op.imm.leading_zeros();
        (((field << unused) as i64 >> unused) as u64) << op.a
    } else {
        field << op.a
    };
    cpu.result(op, value);
    Ok(Flow::Next)
}

/// Which function carries a bitfield move out.
pub(super) fn bitfield_function<O: Observer>(kind: Bitfield) -> crate::arm64::op::Run<O> {
    match kind {
        Bitfield::Insert => bitfield::<false, true, O>,
        Bitfield::Signed => bitfield::<true, false, O>,
        Bitfield::Unsigned => bitfield::<false, false, O>,
    }
}

/// SMADDL, UMSUBL and the like.
pub(crate) fn multiply_long<const SIGNED: bool, const SUBTRACT: bool, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let operand = |code: u8| match SIGNED {
        true => cpu.get(code) as i32 as u64,
        false => u64::from(cpu.get(code) as u32),
    };
    let product = operand(op.n).wrapping_mul(operand(op.m));
    let addend = cpu.get(op.a);
    let value = if SUBTRACT { addend.wrapping_sub(product) } else { addend.wrapping_add(product) };
    cpu.result(op, value);
    Ok(Flow::Next)
}

/// SMULH and UMULH.
pub(crate) fn multiply_high<const SIGNED: bool, O: Observer>(
    cpu: &mut Cpu,
    _: &mut Memory,
    op: &Op<O>,
    _: &mut O,
) -> Result {
    let (a, b) = (cpu.get(op.n), cpu.get(op.m));
    let value = match SIGNED {
        true => ((i128::from(a as i64) * i128::from(b as i64)) >> 64) as u64,
        false => ((u128::from(a) * u128::from(b)) >> 64) as u64,
    };
    cpu.result(op, value);
    Ok(Flow::Next)
}

/// CRC32 and CRC32C: a byte at a time, the lowest bit first; `imm` is the polynomial, reversed.
pub(crate) fn crc<O: Observer>(cpu: &mut Cpu, _: &mut Memory, op: &Op<O>, _: &mut O) -> Result {
    let value = cpu.get(op.m) & op.access.mask();
    // A checksum and a value as wide are one polynomial; a wider value is taken in two parts.
    let mut crc = u64::from(cpu.get(op.n) as u32) ^ value & 0xffff_ffff;
    let steps = |mut crc: u64, bits: u32| {
        for _ in 0..bits {
            crc = crc >> 1 ^ if crc & 1 == 1 { op.imm } else { 0 };
        }
        crc
    };
    crc = steps(crc, op.access.bits().min(32));
    if op.access == Width::W64 {
        crc = steps(crc ^ value >> 32, 32);
    }
    cpu.put(op.d, crc);
    Ok(Flow::Next)
}
