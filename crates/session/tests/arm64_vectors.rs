//! Vector instructions of A64 against a plain reference, element by element: random instances of every row, on random and
//! on corner values, in the default mode of floating point.
//!
//! The reference says what an instruction does by its mnemonic, in wide integers and the host's arithmetic, and shares
//! nothing with the emulator. NaNs are compared as NaNs; which one comes out, and what FPSR tells, is in `arm64_by_hand.rs`
//! and `arm64_floats.rs`.

use rand::rngs::SmallRng;
use rand::{Rng, SeedableRng};
use sotto_isa::arm64::vector::Vector;
use sotto_isa::arm64::{self, Meaning};
use sotto_isa::{
    Arch, Instruction, ListElements, NoNames, Operand, RegisterId, Storage, Value, Width, decode,
};
use sotto_machine::{Machine, Permissions, RegionKind};

const CODE: u64 = 0x40_0000;

/// Instances of each row; `SOTTO_A64_VECTORS` asks for more.
fn instances() -> u32 {
    std::env::var("SOTTO_A64_VECTORS").ok().and_then(|text| text.parse().ok()).unwrap_or(60)
}

/// An operand as so many elements of a register.
#[derive(Copy, Clone, Debug)]
struct View {
    number: u8,
    bits: u32,
    count: u32,
    /// The element, if it is one.
    index: Option<u32>,
    general: bool,
}

fn view(operand: &Operand) -> Option<View> {
    let plain = |number, width: Width, count| View {
        number,
        bits: width.bits(),
        count,
        index: None,
        general: false,
    };
    Some(match operand {
        Operand::Vector(reg, a) => plain(reg.number, a.lane, u32::from(a.lanes)),
        Operand::Element(reg, a, index) => {
            View { index: Some(u32::from(*index)), ..plain(reg.number, a.lane, 1) }
        }
        Operand::Reg(reg) if reg.is_a64_vector() => plain(reg.number, reg.width(), 1),
        Operand::Reg(reg) => View { general: true, ..plain(reg.number, reg.width(), 1) },
        Operand::List(list) => match list.elements {
            ListElements::All(a) => plain(list.first, a.lane, u32::from(list.count)),
            ListElements::One(..) => return None,
        },
        _ => return None,
    })
}

fn mask(bits: u32) -> u128 {
    u128::MAX >> (128 - bits)
}

fn lane(vector: u128, index: u32, bits: u32) -> u128 {
    vector >> (index * bits) & mask(bits)
}

/// An element as a signed number.
fn signed(value: u128, bits: u32) -> i128 {
    let unused = 128 - bits;
    (value as i128) << unused >> unused
}

fn clamp(value: i128, is_signed: bool, bits: u32) -> u128 {
    let (low, high) = match is_signed {
        true => (-(1i128 << (bits - 1)), (1i128 << (bits - 1)) - 1),
        false => (0, (1i128 << bits) - 1),
    };
    value.clamp(low, high) as u128
}

/// A half, single or double as a double; the value is exact.
fn real(value: u128, bits: u32) -> f64 {
    match bits {
        16 => {
            let (sign, exponent) = (value >> 15 & 1, (value >> 10 & 31) as i32);
            let fraction = (value & 0x3ff) as f64;
            let magnitude = match exponent {
                0 => fraction * 2f64.powi(-24),
                31 if fraction == 0.0 => f64::INFINITY,
                31 => f64::NAN,
                _ => (1024.0 + fraction) * 2f64.powi(exponent - 25),
            };
            if sign == 1 { -magnitude } else { magnitude }
        }
        32 => f64::from(f32::from_bits(value as u32)),
        _ => f64::from_bits(value as u64),
    }
}

/// The nearest half to a double, ties to even.
fn half(value: f64) -> u128 {
    let sign = u128::from(value.is_sign_negative()) << 15;
    let magnitude = value.abs();
    if magnitude.is_nan() {
        return 0x7e00;
    }
    if magnitude >= 65520.0 {
        return sign | 0x7c00;
    }
    // Units of the last place: of numbers below 2^-14 those of the smallest.
    let exponent = (magnitude.to_bits() >> 52) as i32 - 1023;
    let unit = 2f64.powi(exponent.max(-14) - 10);
    let units = (magnitude / unit).round_ties_even();
    let base = (exponent.max(-14) + 14) as u128;
    // A number with the leading one adds 1024 units, which is one exponent.
    sign | ((base << 10) + units as u128)
}

fn of_real(value: f64, bits: u32) -> u128 {
    match bits {
        16 => half(value),
        32 => u128::from((value as f32).to_bits()),
        _ => u128::from(value.to_bits()),
    }
}

/// A sum, difference, product or quotient in a format: doubles have enough bits that rounding twice is rounding once.
fn compute(bits: u32, a: u128, b: u128, f: impl Fn(f64, f64) -> f64) -> u128 {
    of_real(f(real(a, bits), real(b, bits)), bits)
}

/// `a * b + c`, rounded once.
fn fused(bits: u32, a: u128, b: u128, c: u128) -> u128 {
    let single = |value| f32::from_bits(value as u32);
    match bits {
        32 => u128::from(single(a).mul_add(single(b), single(c)).to_bits()),
        64 => of_real(real(a, 64).mul_add(real(b, 64), real(c, 64)), 64),
        _ => {
            // The product is exact; the sum is rounded to odd, so that rounding again is harmless.
            let (product, addend) = (real(a, 16) * real(b, 16), real(c, 16));
            let sum = product + addend;
            let lost = {
                let part = sum - product;
                (product - (sum - part)) + (addend - part)
            };
            if !sum.is_finite() || lost == 0.0 || sum == 0.0 {
                return half(sum);
            }
            let away = (lost > 0.0) == (sum > 0.0);
            let even = sum.to_bits() & 1 == 0;
            let moved = match (even, away) {
                (true, true) => sum.to_bits() + 1,
                (true, false) => sum.to_bits() - 1,
                _ => sum.to_bits(),
            };
            half(f64::from_bits(moved))
        }
    }
}

fn is_nan(value: u128, bits: u32) -> bool {
    real(value, bits).is_nan()
}

fn is_signaling(value: u128, bits: u32) -> bool {
    let quiet = [(16, 9), (32, 22), (64, 51)].into_iter().find(|(width, _)| *width == bits);
    is_nan(value, bits) && value >> quiet.unwrap().1 & 1 == 0
}

fn nan(bits: u32) -> u128 {
    of_real(f64::NAN, bits)
}

/// The larger or smaller number, as the manual's FPMax and FPMin.
fn extreme(bits: u32, a: u128, b: u128, larger: bool) -> u128 {
    let (x, y) = (real(a, bits), real(b, bits));
    if x.is_nan() || y.is_nan() {
        return nan(bits);
    }
    let first = match x == y {
        // Zeros: the positive one is the larger.
        true => x.is_sign_positive() == larger,
        false => (x > y) == larger,
    };
    if first { a } else { b }
}

/// The same with numbers before quiet NaNs.
fn extreme_number(bits: u32, a: u128, b: u128, larger: bool) -> u128 {
    let quiet = |value| is_nan(value, bits) && !is_signaling(value, bits);
    match (quiet(a), quiet(b)) {
        (true, false) if !is_nan(b, bits) => b,
        (false, true) if !is_nan(a, bits) => a,
        _ => extreme(bits, a, b, larger),
    }
}

/// A number as an integer, rounded as the letter behind `fcvt` says.
fn integer(value: f64, name: &str, bits: u32, fraction: u32) -> u128 {
    if value.is_nan() {
        return 0;
    }
    let scaled = value * 2f64.powi(fraction as i32);
    let whole = match name.as_bytes()[4] {
        b'n' => scaled.round_ties_even(),
        b'a' => scaled.round(),
        b'p' => scaled.ceil(),
        b'm' => scaled.floor(),
        _ => scaled.trunc(),
    };
    clamp(whole as i128, name.ends_with('s'), bits)
}

fn all_if(condition: bool, bits: u32) -> u128 {
    if condition { mask(bits) } else { 0 }
}

/// A shift to the left, or to the right by a negative amount, in exact numbers.
fn shifted(value: i128, amount: i32, round: bool) -> i128 {
    if amount >= 0 {
        // Beyond 64 everything is out, or beyond every limit.
        return match (amount, value) {
            (_, 0) => 0,
            (0..=63, _) => value << amount,
            (_, 1..) => i128::MAX,
            _ => i128::MIN,
        };
    }
    let right = (-amount).min(126) as u32;
    let half = if round { 1i128 << (right - 1) } else { 0 };
    (value + half) >> right
}

/// What becomes of an element: `a` of the first source, `b` of the second or the immediate, `c` of the destination, each
/// extended to `bits` where it was narrower.
fn element(name: &str, bits: u32, to: u32, a: u128, b: u128, c: u128) -> Option<u128> {
    let (sa, sb, sc) = (signed(a, bits), signed(b, bits), signed(c, bits));
    let (ua, ub, uc) = (a as i128, b as i128, c as i128);
    // The letter before most names says the kind of number.
    let is_signed = name.starts_with('s');
    let (na, nb) = if is_signed { (sa, sb) } else { (ua, ub) };
    let amount = b as i32;
    let (x, y) = (real(a, bits.max(16)), real(b, bits.max(16)));
    let doubled = sa.wrapping_mul(sb).wrapping_mul(2);
    let unsigned_name = name.get(1..).unwrap_or_default();
    Some(match name {
        "add" | "saddl" | "uaddl" | "saddw" | "uaddw" | "addp" | "addv" => (ua + ub) as u128,
        "sub" | "ssubl" | "usubl" | "ssubw" | "usubw" => (ua - ub) as u128,
        "mul" | "smull" | "umull" => a.wrapping_mul(b),
        "mla" | "smlal" | "umlal" => c.wrapping_add(a.wrapping_mul(b)),
        "mls" | "smlsl" | "umlsl" => c.wrapping_sub(a.wrapping_mul(b)),
        "pmul" | "pmull" => (0..bits).filter(|n| b >> n & 1 == 1).fold(0, |p, n| p ^ a << n),
        "and" => a & b,
        "bic" => a & !b,
        "orr" => a | b,
        "orn" => a | !b,
        "eor" => a ^ b,
        "mvn" => !a,
        "mov" | "sxtl" | "uxtl" => a,
        "bsl" => c & a | !c & b,
        "bit" => b & a | !b & c,
        "bif" => !b & a | b & c,
        "cmeq" => all_if(a == b, bits),
        "cmgt" => all_if(sa > sb, bits),
        "cmge" => all_if(sa >= sb, bits),
        "cmhi" => all_if(a > b, bits),
        "cmhs" => all_if(a >= b, bits),
        "cmle" => all_if(sa <= sb, bits),
        "cmlt" => all_if(sa < sb, bits),
        "cmtst" => all_if(a & b != 0, bits),
        "abs" => sa.unsigned_abs(),
        "neg" => (-sa) as u128,
        "sqabs" => clamp(sa.abs(), true, bits),
        "sqneg" => clamp(-sa, true, bits),
        "cls" => {
            let top = a >> (bits - 1) & 1;
            (0..bits - 1).rev().take_while(|n| a >> n & 1 == top).count() as u128
        }
        "clz" => (0..bits).rev().take_while(|n| a >> n & 1 == 0).count() as u128,
        "cnt" => (0..bits).filter(|n| a >> n & 1 == 1).count() as u128,
        "rbit" => (0..bits).fold(0, |r, n| r | (a >> n & 1) << (bits - 1 - n)),
        "suqadd" => clamp(sc + ua, true, bits),
        "usqadd" => clamp(uc + sa, false, bits),
        "sqdmulh" => clamp(doubled >> bits, true, bits),
        "sqrdmulh" => clamp((doubled + (1 << (bits - 1))) >> bits, true, bits),
        "sqrdmlah" => clamp(((sc << bits) + doubled + (1 << (bits - 1))) >> bits, true, bits),
        "sqrdmlsh" => clamp(((sc << bits) - doubled + (1 << (bits - 1))) >> bits, true, bits),
        "sqdmull" => clamp(doubled, true, bits),
        "sqdmlal" => clamp(sc + signed(clamp(doubled, true, bits), bits), true, bits),
        "sqdmlsl" => clamp(sc - signed(clamp(doubled, true, bits), bits), true, bits),
        "shl" | "shll" | "sshll" | "ushll" => a << b,
        "sli" => a << b & mask(bits) | c & !(mask(bits) << b),
        "sri" => a >> b | c & !(mask(bits) >> b),
        "xtn" => a,
        "shrn" => a >> b,
        "rshrn" => (a + (1 << (b - 1))) >> b,
        "sqxtn" => clamp(sa, true, to),
        "uqxtn" => clamp(ua, false, to),
        "sqxtun" => clamp(sa, false, to),
        "sqshrn" => clamp(shifted(sa, -amount, false), true, to),
        "sqrshrn" => clamp(shifted(sa, -amount, true), true, to),
        "uqshrn" => clamp(shifted(ua, -amount, false), false, to),
        "uqrshrn" => clamp(shifted(ua, -amount, true), false, to),
        "sqshrun" => clamp(shifted(sa, -amount, false), false, to),
        "sqrshrun" => clamp(shifted(sa, -amount, true), false, to),
        "sqshlu" => clamp(sa << b, false, bits),
        "addhn" => (a + b) >> to,
        "raddhn" => (a + b + (1 << (to - 1))) >> to,
        "subhn" => a.wrapping_sub(b) >> to,
        "rsubhn" => a.wrapping_sub(b).wrapping_add(1 << (to - 1)) >> to,
        "fadd" | "faddp" => compute(bits, a, b, |x, y| x + y),
        "fsub" => compute(bits, a, b, |x, y| x - y),
        "fmul" => compute(bits, a, b, |x, y| x * y),
        "fnmul" => compute(bits, a, b, |x, y| -(x * y)),
        "fdiv" => compute(bits, a, b, |x, y| x / y),
        "fabd" => compute(bits, a, b, |x, y| (x - y).abs()),
        "fsqrt" => compute(bits, a, b, |x, _| x.sqrt()),
        "fmulx" if (x == 0.0 && y.is_infinite()) || (x.is_infinite() && y == 0.0) => {
            of_real(2f64.copysign(x.signum() * y.signum()), bits)
        }
        "fmulx" => compute(bits, a, b, |x, y| x * y),
        "fmla" => fused(bits, a, b, c),
        "fmls" => fused(bits, a ^ 1 << (bits - 1), b, c),
        "frecps" if x == 0.0 && y.is_infinite() || x.is_infinite() && y == 0.0 => {
            of_real(2.0, bits)
        }
        "frecps" => fused(bits, a ^ 1 << (bits - 1), b, of_real(2.0, bits)),
        "frsqrts" if x == 0.0 && y.is_infinite() || x.is_infinite() && y == 0.0 => {
            of_real(1.5, bits)
        }
        // Halving is exact but at the ends of the range, which the caller leaves out.
        "frsqrts" => {
            let whole = fused(bits, a ^ 1 << (bits - 1), b, of_real(3.0, bits));
            of_real(real(whole, bits) / 2.0, bits)
        }
        "fmax" | "fmaxp" | "fmaxv" => extreme(bits, a, b, true),
        "fmin" | "fminp" | "fminv" => extreme(bits, a, b, false),
        "fmaxnm" | "fmaxnmp" | "fmaxnmv" => extreme_number(bits, a, b, true),
        "fminnm" | "fminnmp" | "fminnmv" => extreme_number(bits, a, b, false),
        "fabs" => a & !(1 << (bits - 1)),
        "fneg" => a ^ 1 << (bits - 1),
        "fmov" => a,
        "fcmeq" => all_if(x == y, bits),
        "fcmgt" => all_if(x > y, bits),
        "fcmge" => all_if(x >= y, bits),
        "fcmle" => all_if(x <= y, bits),
        "fcmlt" => all_if(x < y, bits),
        "facge" => all_if(x.abs() >= y.abs(), bits),
        "facgt" => all_if(x.abs() > y.abs(), bits),
        "frintn" | "frintx" | "frinti" => of_real(x.round_ties_even(), bits),
        "frintp" => of_real(x.ceil(), bits),
        "frintm" => of_real(x.floor(), bits),
        "frintz" => of_real(x.trunc(), bits),
        "frinta" => of_real(x.round(), bits),
        "frecpx" => {
            let fraction = [(16, 10), (32, 23), (64, 52)].into_iter().find(|f| f.0 == bits)?.1;
            let top = mask(bits - 1 - fraction);
            let exponent = a >> fraction & top;
            let turned = if exponent == 0 { top - 1 } else { !exponent & top };
            let result = a & 1 << (bits - 1) | turned << fraction;
            if is_nan(a, bits) { nan(bits) } else { result }
        }
        "fcvtn" | "fcvtl" | "fcvt" => of_real(real(a, bits), to),
        "fcvtxn" => {
            // Cut, and the last bit set if anything was lost.
            let near = x as f32;
            let bits = near.to_bits();
            let cut = if f64::from(near).abs() > x.abs() { bits - 1 } else { bits };
            let exact = f64::from(near) == x || x.is_nan();
            u128::from(if exact { bits } else { cut | 1 })
        }
        "scvtf" => of_integer(sa, b as u32, bits),
        "ucvtf" => of_integer(ua, b as u32, bits),
        _ if name.starts_with("fcvt") => integer(x, name, bits, b as u32),
        _ => match unsigned_name {
            "hadd" => ((na + nb) >> 1) as u128,
            "rhadd" => ((na + nb + 1) >> 1) as u128,
            "hsub" => ((na - nb) >> 1) as u128,
            "qadd" => clamp(na + nb, is_signed, bits),
            "qsub" => clamp(na - nb, is_signed, bits),
            "max" | "maxp" | "maxv" => na.max(nb) as u128,
            "min" | "minp" | "minv" => na.min(nb) as u128,
            "abd" | "abdl" => (na - nb).unsigned_abs(),
            "aba" | "abal" => c.wrapping_add((na - nb).unsigned_abs()),
            "shr" | "rshr" => shifted(na, -amount, unsigned_name == "rshr") as u128,
            "sra" | "rsra" => c.wrapping_add(shifted(na, -amount, unsigned_name == "rsra") as u128),
            _ => return by_register(name, bits, na, b, is_signed),
        },
    })
}

/// The shifts of which a register, or for two names an immediate, says the amount: `shl`, `rshl`, `qshl`, `qrshl`.
fn by_register(name: &str, bits: u32, value: i128, b: u128, is_signed: bool) -> Option<u128> {
    let amount = i32::from(b as u8 as i8);
    let (saturates, rounds) = match &name[1..] {
        "shl" => (false, false),
        "rshl" => (false, true),
        "qshl" => (true, false),
        "qrshl" => (true, true),
        _ => return None,
    };
    let exact = shifted(value, amount, rounds);
    match saturates {
        true => Some(clamp(exact, is_signed, bits)),
        false if amount >= bits as i32 => Some(0),
        false if amount >= 0 => Some((value as u128) << amount),
        false => Some(exact as u128),
    }
}

/// An integer over a power of two. Doubles hold up to 64 bits after rounding, so that halves and singles come from exact ones.
fn of_integer(value: i128, fraction: u32, bits: u32) -> u128 {
    match bits {
        32 => u128::from((value as f32 / 2f32.powi(fraction as i32)).to_bits()),
        _ => of_real(value as f64 / 2f64.powi(fraction as i32), bits),
    }
}

/// The state of the registers that take part.
struct Registers {
    v: [u128; 32],
    x: [u64; 31],
}

impl Registers {
    fn general(&self, number: u8) -> u64 {
        self.x.get(usize::from(number)).copied().unwrap_or(0)
    }
}

/// An immediate as every element has it.
fn immediate(operand: &Operand, bits: u32) -> u128 {
    let number = |value: Value| value.known().unwrap() as u64 as u128;
    match operand {
        Operand::Imm(value) => number(*value),
        Operand::ShiftedImm(value, shift) => number(*value) << shift,
        Operand::ShiftedOnes(value, shift) => number(*value) << shift | mask(u32::from(*shift)),
        Operand::Float(bits_64) => of_real(f64::from_bits(*bits_64), bits),
        _ => panic!("{operand:?} is no immediate"),
    }
}

/// All elements to one: each half by itself, then both. Source: Arm ARM, shared pseudocode `Reduce`.
fn reduced(mnemonic: &str, bits: u32, elements: &[u128]) -> u128 {
    if let [one] = elements {
        return *one;
    }
    let (low, high) = elements.split_at(elements.len() / 2);
    let (low, high) = (reduced(mnemonic, bits, low), reduced(mnemonic, bits, high));
    element(mnemonic, bits, bits, low, high, 0).unwrap() & mask(bits)
}

/// What the destination becomes: of the vector bank, or a general register.
fn reference(meaning: Vector, instruction: &Instruction, state: &Registers) -> Option<u128> {
    let operands = &instruction.operands;
    let mnemonic = instruction.mnemonic();
    let views: Vec<View> = operands.iter().filter_map(view).collect();
    let d = views[0];
    let old = state.v[usize::from(d.number)];
    let n = views.get(1).copied().unwrap_or(d);
    let vn = state.v[usize::from(n.number)];
    let build = |from: u32, count: u32, f: &dyn Fn(u32) -> u128| {
        (0..count).fold(0, |vector, index| {
            vector | (f(index) & mask(d.bits)) << ((index + from) * d.bits)
        })
    };
    Some(match meaning {
        Vector::Lanes { signed: extends, .. } => {
            let upper = mnemonic.ends_with('2');
            let name = if upper { &mnemonic[..mnemonic.len() - 1] } else { mnemonic };
            let wide = d.bits.max(n.bits);
            let narrowest = views.iter().map(|view| view.bits).min().unwrap_or(64);
            let count = if upper { 64 / narrowest } else { d.count.min(n.count) };
            let widened = |value: u128, bits: u32| match extends && bits < wide {
                true => signed(value, bits) as u128 & mask(wide),
                false => value,
            };
            let first = |view: View| if upper && view.bits < wide { count } else { 0 };
            let second = |index: u32| match views.get(2) {
                Some(m) => {
                    let at = m.index.unwrap_or(index + first(*m));
                    widened(lane(state.v[usize::from(m.number)], at, m.bits), m.bits)
                }
                None => match operands.get(2) {
                    Some(operand) => immediate(operand, wide),
                    None => 0,
                },
            };
            let to = first(d);
            let kept = if to > 0 { old & mask(64) } else { 0 };
            let elements = build(to, count, &|index| {
                let a = widened(lane(vn, index + first(n), n.bits), n.bits);
                let c = lane(old, index + to, d.bits);
                let bits = if name.starts_with("fcvt") { n.bits } else { wide };
                element(name, bits, d.bits, a, second(index), c)
                    .unwrap_or_else(|| panic!("no reference for {mnemonic}"))
            });
            kept | elements
        }
        Vector::NarrowHigh { .. } => {
            let upper = mnemonic.ends_with('2');
            let name = if upper { &mnemonic[..mnemonic.len() - 1] } else { mnemonic };
            let vm = state.v[usize::from(views[2].number)];
            let (to, kept) = if upper { (n.count, old & mask(64)) } else { (0, 0) };
            kept | build(to, n.count, &|index| {
                let (a, b) = (lane(vn, index, n.bits), lane(vm, index, n.bits));
                element(name, n.bits, d.bits, a, b, 0).unwrap() & mask(d.bits)
            })
        }
        Vector::Pairwise(_) => {
            let vm = state.v[usize::from(views[2].number)];
            build(0, d.count, &|index| {
                let at = |place| match place < d.count {
                    true => lane(vn, place, d.bits),
                    false => lane(vm, place - d.count, d.bits),
                };
                element(mnemonic, d.bits, d.bits, at(2 * index), at(2 * index + 1), 0).unwrap()
            })
        }
        Vector::Across(_) => {
            let elements: Vec<u128> = (0..n.count).map(|index| lane(vn, index, n.bits)).collect();
            reduced(mnemonic, n.bits, &elements)
        }
        Vector::AcrossLong { signed: extends } => {
            let sum: i128 = (0..n.count)
                .map(|index| lane(vn, index, n.bits))
                .map(|value| if extends { signed(value, n.bits) } else { value as i128 })
                .sum();
            sum as u128 & mask(d.bits)
        }
        Vector::PairsLong { signed: extends, accumulate } => build(0, d.count, &|index| {
            let at = |place| {
                let value = lane(vn, place, n.bits);
                if extends { signed(value, n.bits) } else { value as i128 }
            };
            let added = if accumulate { lane(old, index, d.bits) } else { 0 };
            ((at(2 * index) + at(2 * index + 1)) as u128).wrapping_add(added) & mask(d.bits)
        }),
        Vector::PolynomialMulWide => {
            let at = n.count - 1;
            let vm = state.v[usize::from(views[2].number)];
            element("pmull", 128, 128, lane(vn, at, 64), lane(vm, at, 64), 0)?
        }
        Vector::Dot { signed: extends } => build(0, d.count, &|index| {
            let m = views[2];
            let byte = |vector, at| {
                let byte = lane(vector, at, 8);
                if extends { signed(byte, 8) } else { byte as i128 }
            };
            let vm = state.v[usize::from(m.number)];
            let group = m.index.unwrap_or(index);
            let sum: i128 = (0..4).map(|k| byte(vn, 4 * index + k) * byte(vm, 4 * group + k)).sum();
            lane(old, index, 32).wrapping_add(sum as u128)
        }),
        Vector::Reverse(bits) => build(0, d.count, &|index| {
            let group = u32::from(bits) / d.bits;
            lane(vn, (index / group + 1) * group - 1 - index % group, d.bits)
        }),
        Vector::Permute(_) => {
            let vm = state.v[usize::from(views[2].number)];
            let all: Vec<u128> = [vn, vm]
                .iter()
                .flat_map(|v| (0..d.count).map(move |index| lane(*v, index, d.bits)))
                .collect();
            let odd = u32::from(mnemonic.ends_with('2'));
            build(0, d.count, &|index| {
                let (half, other) = (d.count / 2, d.count);
                let from = match &mnemonic[..3] {
                    "uzp" => 2 * index + odd,
                    "trn" => index / 2 * 2 + odd + if index % 2 == 1 { other } else { 0 },
                    _ => index / 2 + odd * half + if index % 2 == 1 { other } else { 0 },
                };
                all[from as usize]
            })
        }
        Vector::Extract => {
            let vm = state.v[usize::from(views[2].number)];
            let first = immediate(&operands[3], 8) as u32;
            build(0, d.count, &|index| match index + first {
                at if at < d.count => lane(vn, at, 8),
                at => lane(vm, at - d.count, 8),
            })
        }
        Vector::Table { keeps } => {
            let vm = state.v[usize::from(views[2].number)];
            build(0, d.count, &|index| {
                let number = lane(vm, index, 8) as u32;
                match (number < 16 * n.count, keeps) {
                    (true, _) => {
                        let register = (u32::from(n.number) + number / 16) % 32;
                        lane(state.v[register as usize], number % 16, 8)
                    }
                    (false, true) => lane(old, index, 8),
                    (false, false) => 0,
                }
            })
        }
        Vector::Duplicate => build(0, d.count, &|_| match n.general {
            true => u128::from(state.general(n.number)),
            false => lane(vn, n.index.unwrap(), d.bits),
        }),
        Vector::Insert => {
            let value = match n.general {
                true => u128::from(state.general(n.number)),
                false => lane(vn, n.index.unwrap(), d.bits),
            };
            let at = d.index.unwrap() * d.bits;
            old & !(mask(d.bits) << at) | (value & mask(d.bits)) << at
        }
        Vector::ToGeneral { signed: extends } => {
            let value = lane(vn, n.index.unwrap(), n.bits);
            (if extends { signed(value, n.bits) as u128 } else { value }) & mask(d.bits)
        }
        Vector::Immediate { invert } => build(0, d.count, &|_| {
            let value = immediate(&operands[1], d.bits);
            if invert { !value } else { value }
        }),
        Vector::WithImmediate { clear } => build(0, d.count, &|index| {
            let (value, bits) = (lane(old, index, d.bits), immediate(&operands[1], d.bits));
            if clear { value & !bits } else { value | bits }
        }),
        _ => return None,
    })
}

/// A vector of elements of a width: random bits, the ends of ranges, and numbers of floating point of every kind.
fn random_vector(bits: u32, rng: &mut SmallRng) -> u128 {
    let width = bits.min(64);
    (0..128 / width).fold(0, |vector, index| {
        let top = 1u128 << (width - 1);
        let value = match rng.random_range(0..8) {
            0 => [0, 1, top, top - 1, mask(width)][rng.random_range(0..5)],
            1 => u128::from(rng.random_range(0..4u8)),
            2 | 3 if width >= 16 => {
                let number = f64::from(rng.random_range(-2000i32..2000)) / 16.0;
                of_real(number, width)
            }
            4 if width >= 16 => {
                let special = [0.0, -0.0, f64::INFINITY, f64::NEG_INFINITY, f64::NAN, 1.0, -0.5];
                of_real(special[rng.random_range(0..special.len())], width)
            }
            _ => rng.random::<u128>() & mask(width),
        };
        vector | (value & mask(width)) << (index * width)
    })
}

/// Estimates need be good to 8 bits; every other result is exact.
fn is_estimate(name: &str) -> bool {
    matches!(name, "frecpe" | "frsqrte" | "urecpe" | "ursqrte")
}

fn check_estimate(instruction: &Instruction, state: &Registers, got: u128) {
    let (name, views) = (instruction.mnemonic(), instruction.operands.iter().filter_map(view));
    let [d, n] = views.collect::<Vec<_>>()[..] else { panic!("two operands") };
    for index in 0..d.count {
        let value = lane(state.v[usize::from(n.number)], index, n.bits);
        let result = lane(got, index, d.bits);
        let (from, to) = match name {
            // Of numbers in [0.5, 1) and [0.25, 1); the others give all ones.
            "urecpe" => (value as f64 / 2f64.powi(32), result as f64 / 2f64.powi(31)),
            "ursqrte" => (value as f64 / 2f64.powi(32), result as f64 / 2f64.powi(31)),
            _ => (real(value, n.bits), real(result, d.bits)),
        };
        let exact = if name.ends_with("sqrte") { 1.0 / from.sqrt() } else { 1.0 / from };
        let in_range = match name {
            "urecpe" => from >= 0.5,
            "ursqrte" => from >= 0.25,
            _ => from.is_normal() && to.is_normal(),
        };
        let largest = if d.bits == 16 { 30000.0 } else { 1e30 };
        let smallest = if d.bits == 16 { 1e-4 } else { 1e-30 };
        if in_range && (smallest..largest).contains(&exact.abs()) {
            assert!((to / exact - 1.0).abs() < 1.0 / 256.0, "{name} of {from}: {to}, not {exact}");
        }
    }
}

/// Whether two results are the same, NaNs as NaNs where the elements are floating-point numbers.
fn same(instruction: &Instruction, got: u128, wanted: u128) -> bool {
    let floats = instruction.lanes().kind == sotto_isa::LaneKind::Float;
    let Some(d) = view(&instruction.operands[0]).filter(|_| floats) else { return got == wanted };
    let bits = d.bits.max(16);
    (0..128 / bits).all(|index| {
        let (a, b) = (lane(got, index, bits), lane(wanted, index, bits));
        a == b || (is_nan(a, bits) && is_nan(b, bits))
    })
}

#[test]
fn every_row_of_vectors_is_as_the_reference_says() {
    let mut rng = SmallRng::seed_from_u64(5);
    let mut machine = Machine::new(Arch::Arm64);
    let permissions = Permissions { read: true, write: true, execute: true };
    machine.memory_mut().map(RegionKind::Code, CODE, 0x1000, permissions).unwrap();
    let (mut rows, mut count) = (0, 0u64);
    for number in 0..arm64::form_count() {
        let form = arm64::form(number);
        let Meaning::Vector(meaning) = form.meaning else { continue };
        let others = matches!(
            meaning,
            Vector::Crypto(_)
                | Vector::MoveBits
                | Vector::FToGeneral { .. }
                | Vector::FFromGeneral { .. }
                | Vector::Compare { .. }
                | Vector::CondCompare { .. }
                | Vector::Select
                | Vector::MulAdd { .. }
        );
        if others {
            continue;
        }
        rows += 1;
        for _ in 0..instances() {
            let word = arm64::fill_row(number, rng.random());
            let Ok(instruction) = decode(Arch::Arm64, &word.to_le_bytes(), CODE) else { continue };
            if instruction.form != number {
                continue;
            }
            let bits = view(instruction.operands.get(1).unwrap_or(&instruction.operands[0]))
                .map_or(32, |view| view.bits);
            let state = Registers {
                v: std::array::from_fn(|_| random_vector(bits, &mut rng)),
                x: std::array::from_fn(|_| rng.random()),
            };
            for (index, value) in (0..).zip(state.v) {
                machine.set_bank_register(RegisterId::vector(index), value.into());
            }
            for (index, value) in (0..).zip(state.x) {
                machine.set_register(Storage(index), value);
            }
            machine.set_register(arm64::storage::FPSR, 0);
            // The quick way is taken once a loss of precision has been told.
            if rng.random() {
                machine.set_register(arm64::storage::FPSR, 0x10);
            }
            machine.memory_mut().load(CODE, &word.to_le_bytes()).unwrap();
            machine.set_register(Arch::Arm64.pc(), CODE);
            assert_eq!(machine.step().event, None);
            let d = view(&instruction.operands[0]).unwrap();
            let got = match d.general {
                true if d.number == 31 => continue,
                true => u128::from(machine.register(Storage(d.number))),
                false => machine.bank_register(RegisterId::vector(d.number)).low_128(),
            };
            let text = instruction.print(&NoNames);
            if is_estimate(form.mnemonic) {
                check_estimate(&instruction, &state, got);
                count += 1;
                continue;
            }
            let Some(wanted) = reference(meaning, &instruction, &state) else {
                panic!("`{text}` has no reference");
            };
            // Half of a number at the ends of the range may round differently.
            let at_an_end = |value: u128| {
                (0..d.count).any(|index| {
                    let value = real(lane(value, index, d.bits), d.bits).abs();
                    let (low, high) = match d.bits {
                        16 => (1e-4, 32000.0),
                        32 => (1e-35, 1e38),
                        _ => (1e-300, 8e307),
                    };
                    value >= high || (value != 0.0 && value <= low)
                })
            };
            if form.mnemonic == "frsqrts" && (at_an_end(got) || at_an_end(wanted)) {
                continue;
            }
            let sources: Vec<String> = instruction
                .operands
                .iter()
                .filter_map(view)
                .map(|view| format!("{:#034x}", state.v[usize::from(view.number)]))
                .collect();
            assert!(
                same(&instruction, got, wanted),
                "`{text}` of {sources:?}:\n got    {got:#034x}\n wanted {wanted:#034x}"
            );
            count += 1;
        }
    }
    println!("{count} instances of {rows} rows");
    assert!(rows > 400 && count > u64::from(instances()) * 200, "{count} of {rows}");
}
