//! Bit scans, double shifts, the BMI and ADX groups, CRC32, wide compare-and-exchange.

use sotto_isa::x86::{flag, masked_count};
use sotto_isa::{FlagSet, Width};

use crate::code::processor::{Flow, Result};
use crate::x86::flags::when;
use crate::x86::integer::arithmetic::{B32, B64, Operand, Size, next};
use crate::x86::op::Op;
use crate::x86::{Cpu, RAX, RBX, RCX, RDX};
use crate::{Memory, Observer};

/// A value computed from a source, and what becomes of the flags; `None` leaves the destination.
pub(crate) trait FromSource {
    fn apply<W: Size>(cpu: &mut Cpu, source: u64) -> Option<u64>;
}

/// A value computed from two sources.
pub(crate) trait FromTwo {
    fn apply<W: Size>(cpu: &mut Cpu, a: u64, b: u64) -> u64;
}

macro_rules! from_source {
    ($($name:ident |$cpu:ident, $a:ident| $body:expr;)*) => {
        $(
            pub(crate) struct $name;
            impl FromSource for $name {
                #[inline]
                fn apply<W: Size>($cpu: &mut Cpu, $a: u64) -> Option<u64> {
                    $body
                }
            }
        )*
    };
}

macro_rules! from_two {
    ($($name:ident |$cpu:ident, $a:ident, $b:ident| $body:expr;)*) => {
        $(
            pub(crate) struct $name;
            impl FromTwo for $name {
                #[inline]
                fn apply<W: Size>($cpu: &mut Cpu, $a: u64, $b: u64) -> u64 {
                    $body
                }
            }
        )*
    };
}

/// ZF of a scan; the other flags are undefined and keep their values.
fn scanned<W: Size>(cpu: &mut Cpu, source: u64, position: u32) -> Option<u64> {
    let others = cpu.flags.value().without(flag::ZF);
    cpu.flags.set(others | when(source == 0, flag::ZF));
    (source != 0).then_some(u64::from(position))
}

/// CF for a source of zeros, ZF for a count of zero; the others are undefined.
fn counted<W: Size>(cpu: &mut Cpu, source: u64, count: u32) -> Option<u64> {
    let others = cpu.flags.value().without(flag::ZF | flag::CF);
    cpu.flags.set(others | when(source == 0, flag::CF) | when(count == 0, flag::ZF));
    Some(u64::from(count))
}

fn leading<W: Size>(source: u64) -> u32 {
    source.leading_zeros() - (64 - W::WIDTH.bits())
}

/// SF and ZF of a result with the given CF, OF clear: what the BMI group sets.
fn bmi_flags<W: Size>(cpu: &mut Cpu, value: u64, carry: bool) {
    let sign = when(value & W::WIDTH.sign_bit() != 0, flag::SF);
    cpu.flags.set(sign | when(value == 0, flag::ZF) | when(carry, flag::CF));
}

from_source! {
    Bsf |cpu, a| scanned::<W>(cpu, a, a.trailing_zeros());
    Bsr |cpu, a| scanned::<W>(cpu, a, 63u32.wrapping_sub(a.leading_zeros()));
    Lzcnt |cpu, a| counted::<W>(cpu, a, leading::<W>(a));
    Tzcnt |cpu, a| counted::<W>(cpu, a, a.trailing_zeros().min(W::WIDTH.bits()));
    Blsi |cpu, a| {
        let value = a & a.wrapping_neg();
        bmi_flags::<W>(cpu, value, a != 0);
        Some(value)
    };
    Blsmsk |cpu, a| {
        let value = (a ^ a.wrapping_sub(1)) & W::WIDTH.mask();
        bmi_flags::<W>(cpu, value, a == 0);
        Some(value)
    };
    Blsr |cpu, a| {
        let value = a & a.wrapping_sub(1);
        bmi_flags::<W>(cpu, value, a == 0);
        Some(value)
    };
    Movbe |_cpu, a| Some(a.swap_bytes() >> (64 - W::WIDTH.bits()));
}

from_two! {
    Andn |cpu, a, b| {
        let value = !a & b;
        bmi_flags::<W>(cpu, value, false);
        value
    };
    Bextr |cpu, a, b| {
        let (start, length) = (b & 0xff, b >> 8 & 0xff);
        let shifted = a.checked_shr(start as u32).unwrap_or(0);
        let value = if length < 64 { shifted & ((1 << length) - 1) } else { shifted };
        bmi_flags::<W>(cpu, value, false);
        value
    };
    Bzhi |cpu, a, b| {
        let from = (b & 0xff) as u32;
        let kept = from < W::WIDTH.bits();
        let value = if kept { a & ((1 << from) - 1) } else { a };
        bmi_flags::<W>(cpu, value, !kept);
        value
    };
    Pdep |_cpu, a, b| {
        let (mut mask, mut value) = (b, 0);
        for bit in 0..b.count_ones() {
            let lowest = mask & mask.wrapping_neg();
            if a >> bit & 1 != 0 {
                value |= lowest;
            }
            mask ^= lowest;
        }
        value
    };
    Pext |_cpu, a, b| {
        let (mut mask, mut value) = (b, 0);
        for bit in 0..b.count_ones() {
            let lowest = mask & mask.wrapping_neg();
            if a & lowest != 0 {
                value |= 1 << bit;
            }
            mask ^= lowest;
        }
        value
    };
    Rorx |_cpu, a, b| {
        let count = masked_count(W::WIDTH, b);
        let rest = (W::WIDTH.bits() - count) % W::WIDTH.bits();
        (a >> count | a << rest) & W::WIDTH.mask()
    };
    Sarx |_cpu, a, b| (W::WIDTH.sign_extend(a) >> masked_count(W::WIDTH, b)) as u64;
    Shlx |_cpu, a, b| a << masked_count(W::WIDTH, b);
    Shrx |_cpu, a, b| a >> masked_count(W::WIDTH, b);
}

/// An instruction that computes its first operand from its second.
pub(crate) fn from_source<F: FromSource, S: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let source = S::get::<W, O>(cpu, memory, op, observer)?;
    if let Some(value) = F::apply::<W>(cpu, source) {
        cpu.put::<W>(op.first, value);
    }
    Ok(Flow::Next)
}

/// MOVBE to memory.
pub(crate) fn movbe_store<W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let value = cpu.get::<W>(op.second).swap_bytes() >> (64 - W::WIDTH.bits());
    crate::x86::integer::arithmetic::Mem::put::<W, O>(cpu, memory, op, observer, value)?;
    next::<crate::x86::integer::arithmetic::Mem>(memory)
}

/// An instruction that computes its first operand from the two others.
pub(crate) fn from_two<F: FromTwo, A: Operand, B: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let a = A::get::<W, O>(cpu, memory, op, observer)?;
    let b = B::get::<W, O>(cpu, memory, op, observer)?;
    let value = F::apply::<W>(cpu, a, b);
    cpu.put::<W>(op.first, value);
    Ok(Flow::Next)
}

/// MULX: the upper half to the first operand, the lower to the second; of one register twice, the
/// upper half stays.
pub(crate) fn mulx<S: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let source = S::get::<W, O>(cpu, memory, op, observer)?;
    let product = u128::from(source) * u128::from(cpu.get::<W>(RDX as u8));
    cpu.put::<W>(op.second, product as u64);
    cpu.put::<W>(op.first, (product >> W::WIDTH.bits()) as u64);
    Ok(Flow::Next)
}

/// ADCX and ADOX: an addition whose carry is one flag and touches no other.
pub(crate) fn add_by_flag<const OVERFLOW: bool, S: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let carry = if OVERFLOW { flag::OF } else { flag::CF };
    let source = S::get::<W, O>(cpu, memory, op, observer)?;
    let flags = cpu.flags.value();
    let sum =
        u128::from(source) + u128::from(cpu.get::<W>(op.first)) + u128::from(flags.contains(carry));
    cpu.put::<W>(op.first, sum as u64);
    cpu.flags.set(flags.without(carry) | when(sum >> W::WIDTH.bits() != 0, carry));
    Ok(Flow::Next)
}

/// SHLD and SHRD. A count of 0 changes nothing but the upper half of a 32-bit register.
///
/// A count above the width, which only 16-bit operands can have, leaves the result undefined.
pub(crate) fn double_shift<const LEFT: bool, D: Operand, C: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let count = C::get::<crate::x86::integer::arithmetic::B8, O>(cpu, memory, op, observer)?;
    let a = D::get::<W, O>(cpu, memory, op, observer)?;
    let b = cpu.get::<W>(op.second);
    let (count, bits) = (masked_count(W::WIDTH, count), W::WIDTH.bits());
    if count == 0 {
        D::put::<W, O>(cpu, memory, op, observer, a)?;
        return next::<D>(memory);
    }
    let (a, b) = (u128::from(a), u128::from(b));
    // The destination beside the source; for the undefined counts the source once more.
    let (value, carry) = if LEFT {
        let value = match count.checked_sub(bits) {
            None => a << count | b >> (bits - count),
            Some(more) => b << more | a >> (bits - more),
        };
        (value, if count <= bits { a >> (bits - count) } else { b >> (2 * bits - count) })
    } else {
        let value = match count.checked_sub(bits) {
            None => a >> count | b << (bits - count),
            Some(more) => b >> more | a << (bits - more),
        };
        (value, if count <= bits { a >> (count - 1) } else { b >> (count - bits - 1) })
    };
    let carry = carry & 1;
    let value = value as u64 & W::WIDTH.mask();
    D::put::<W, O>(cpu, memory, op, observer, value)?;
    let sign_changed = (value ^ a as u64) & W::WIDTH.sign_bit() != 0;
    let kept = cpu.flags.value() & flag::AF;
    let flags = crate::x86::flags::of_result(W::WIDTH, value)
        | when(carry != 0, flag::CF)
        | when(sign_changed, flag::OF);
    cpu.flags.set(flags | kept);
    next::<D>(memory)
}

/// CRC32 by the polynomial 11EDC6F41, least significant bit first; `W` is the source's width.
pub(crate) fn crc32<S: Operand, W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let source = S::get::<W, O>(cpu, memory, op, observer)?;
    let mut crc = cpu.get::<B32>(op.first) as u32;
    for byte in &source.to_le_bytes()[..W::WIDTH.bytes() as usize] {
        crc ^= u32::from(*byte);
        for _ in 0..8 {
            crc = if crc & 1 != 0 { crc >> 1 ^ 0x82f6_3b78 } else { crc >> 1 };
        }
    }
    cpu.put::<B64>(op.first, u64::from(crc));
    Ok(Flow::Next)
}

/// CMPXCHG8B and CMPXCHG16B; memory is written in either case.
pub(crate) fn cmpxchg_pair<W: Size, O: Observer>(
    cpu: &mut Cpu,
    memory: &mut Memory,
    op: &Op<O>,
    observer: &mut O,
) -> Result {
    let bits = W::WIDTH.bits();
    let pair = |cpu: &Cpu, high: usize, low: usize| {
        u128::from(cpu.get::<W>(high as u8)) << bits | u128::from(cpu.get::<W>(low as u8))
    };
    let wide = W::WIDTH == Width::W64;
    let old = if wide {
        crate::x86::vector::moves::load_aligned(cpu, memory, op, observer)?
    } else {
        u128::from(crate::x86::integer::arithmetic::Mem::get::<B64, O>(cpu, memory, op, observer)?)
    };
    let equal = old == pair(cpu, RDX, RAX);
    let new = if equal { pair(cpu, RCX, RBX) } else { old };
    if wide {
        crate::x86::vector::moves::store_aligned(cpu, memory, op, observer, new)?;
    } else {
        crate::x86::integer::arithmetic::Mem::put::<B64, O>(cpu, memory, op, observer, new as u64)?;
    }
    if !equal {
        cpu.put::<W>(RAX as u8, old as u64 & W::WIDTH.mask());
        cpu.put::<W>(RDX as u8, (old >> bits) as u64 & W::WIDTH.mask());
    }
    let others: FlagSet = cpu.flags.value().without(flag::ZF);
    cpu.flags.set(others | when(equal, flag::ZF));
    next::<crate::x86::integer::arithmetic::Mem>(memory)
}
