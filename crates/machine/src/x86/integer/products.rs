//! Multiplication and division.

use sotto_isa::Width;

use crate::code::processor::{Flow, Result};
use crate::x86::flags::Kind;
use crate::x86::op::Op;
use crate::x86::operands::{B16, Operand, Size};
use crate::x86::{Cpu, RAX, RDX};
use crate::{Fault, Memory, Observer};

pub(crate) fn imul<const FROM_IMM: bool, S: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let source = W::WIDTH.sign_extend(S::get::<W, O>(cpu, memory, op, observer)?);
    let other = if FROM_IMM { op.imm & W::WIDTH.mask() } else { cpu.get::<W>(op.first) };
    // Only the product of the widest does not fit 64 bits.
    let (product, beyond) = source.overflowing_mul(W::WIDTH.sign_extend(other));
    let value = product as u64 & W::WIDTH.mask();
    cpu.put::<W>(op.first, value);
    set_product_flags::<W>(cpu, value, beyond || product != W::WIDTH.sign_extend(value));
    Ok(Flow::Next)
}

/// CF and OF say that the upper half matters.
fn set_product_flags<W: Size>(cpu: &mut Cpu, low: u64, overflow: bool) {
    cpu.flags.after(Kind::Product, W::WIDTH, 0, u64::from(overflow), low);
}

/// The value in the accumulator and data register, or in AX for bytes.
fn wide_accumulator<W: Size>(cpu: &Cpu) -> u128 {
    match W::WIDTH {
        Width::W8 => u128::from(cpu.regs[RAX] & 0xffff),
        width => {
            let high = u128::from(cpu.get::<W>(RDX as u8));
            high << width.bits() | u128::from(cpu.get::<W>(RAX as u8))
        }
    }
}

fn put_wide<W: Size>(cpu: &mut Cpu, low: u64, high: u64) {
    match W::WIDTH {
        Width::W8 => cpu.put::<B16>(RAX as u8, (low & 0xff) | (high & 0xff) << 8),
        _ => {
            cpu.put::<W>(RAX as u8, low);
            cpu.put::<W>(RDX as u8, high);
        }
    }
}

/// MUL, and IMUL with one operand.
pub(crate) fn multiply<const SIGNED: bool, S: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let source = S::get::<W, O>(cpu, memory, op, observer)?;
    let accumulator = cpu.get::<W>(RAX as u8);
    let bits = W::WIDTH.bits();
    let (product, overflow) = if SIGNED {
        let product = i128::from(W::WIDTH.sign_extend(source))
            * i128::from(W::WIDTH.sign_extend(accumulator));
        (product as u128, product != i128::from(W::WIDTH.sign_extend(product as u64)))
    } else {
        let product = u128::from(source) * u128::from(accumulator);
        (product, product >> bits != 0)
    };
    put_wide::<W>(
        cpu,
        product as u64 & W::WIDTH.mask(),
        (product >> bits) as u64 & W::WIDTH.mask(),
    );
    set_product_flags::<W>(cpu, product as u64 & W::WIDTH.mask(), overflow);
    Ok(Flow::Next)
}

/// DIV and IDIV. The flags are undefined and keep their values.
pub(crate) fn divide<const SIGNED: bool, S: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let divisor = S::get::<W, O>(cpu, memory, op, observer)?;
    if divisor == 0 {
        return Err(Box::new(Fault::DivideByZero));
    }
    let dividend = wide_accumulator::<W>(cpu);
    let bits = W::WIDTH.bits();
    let (quotient, remainder) = if SIGNED {
        let unused = 128 - 2 * bits;
        let dividend = (dividend << unused) as i128 >> unused;
        let divisor = W::WIDTH.sign_extend(divisor);
        // Most fit 64 bits, which are divided much faster. The one quotient that does not fit then fits no
        // register either, and so it is with 128.
        let divided = match i64::try_from(dividend) {
            Ok(narrow) => narrow.checked_div(divisor).map(i128::from),
            Err(_) => dividend.checked_div(i128::from(divisor)),
        };
        let quotient = divided.ok_or(Box::new(Fault::DivideOverflow))?;
        let limit = 1i128 << (bits - 1);
        if !(-limit..limit).contains(&quotient) {
            return Err(Box::new(Fault::DivideOverflow));
        }
        (quotient as u64, dividend.wrapping_sub(quotient * i128::from(divisor)) as u64)
    } else if let Ok(narrow) = u64::try_from(dividend) {
        let quotient = narrow / divisor;
        if bits < 64 && quotient >> bits != 0 {
            return Err(Box::new(Fault::DivideOverflow));
        }
        (quotient, narrow % divisor)
    } else {
        let quotient = dividend / u128::from(divisor);
        if quotient >> bits != 0 {
            return Err(Box::new(Fault::DivideOverflow));
        }
        (quotient as u64, (dividend % u128::from(divisor)) as u64)
    };
    put_wide::<W>(cpu, quotient & W::WIDTH.mask(), remainder & W::WIDTH.mask());
    Ok(Flow::Next)
}
