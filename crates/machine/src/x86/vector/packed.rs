//! Functions of two vectors: what the packed instructions compute, and nothing else.
//!
//! Pure functions of destination, source and immediate; element 0 is the lowest.
//!
//! Source: SDM Vol. 2, the operation section of the instruction that each is named after.

use sotto_isa::x86::vector::Packed;

/// Destination, source and immediate to result.
pub(crate) type Function = fn(u128, u128, u8) -> u128;

/// Elements of one width: taking a vector apart and putting it together.
macro_rules! elements {
    ($($split:ident $join:ident $map:ident $element:ty, $count:literal;)*) => {
        $(
            #[inline]
            pub(crate) fn $split(value: u128) -> [$element; $count] {
                std::array::from_fn(|n| (value >> (n as u32 * <$element>::BITS)) as $element)
            }

            #[inline]
            pub(crate) fn $join(elements: [$element; $count]) -> u128 {
                elements
                    .iter()
                    .rev()
                    .fold(0, |value, element| value << (<$element>::BITS % 128) | u128::from(*element))
            }

            #[inline]
            fn $map(a: u128, b: u128, f: impl Fn($element, $element) -> $element) -> u128 {
                let (a, b) = ($split(a), $split(b));
                $join(std::array::from_fn(|n| f(a[n], b[n])))
            }
        )*
    };
}
elements! {
    bytes of_bytes map_bytes u8, 16;
    words of_words map_words u16, 8;
    doublewords of_doublewords map_doublewords u32, 4;
    quadwords of_quadwords map_quadwords u64, 2;
}

/// A function of signed elements as one of the unsigned ones that vectors are taken apart to.
macro_rules! signed {
    ($s:ty, $u:ty, $f:expr) => {
        |x: $u, y: $u| {
            let f: fn($s, $s) -> $s = $f;
            f(x as $s, y as $s) as $u
        }
    };
}

fn all_if_byte(condition: bool) -> u8 {
    if condition { u8::MAX } else { 0 }
}

fn all_if_word(condition: bool) -> u16 {
    if condition { u16::MAX } else { 0 }
}

fn all_if_doubleword(condition: bool) -> u32 {
    if condition { u32::MAX } else { 0 }
}

fn all_if_quadword(condition: bool) -> u64 {
    if condition { u64::MAX } else { 0 }
}

fn signed_byte(value: i32) -> u8 {
    value.clamp(i32::from(i8::MIN), i32::from(i8::MAX)) as u8
}

fn signed_word(value: i32) -> u16 {
    value.clamp(i32::from(i16::MIN), i32::from(i16::MAX)) as u16
}

/// Elements of the destination, then those of the source, each narrowed.
fn pack_words(a: u128, b: u128, narrow: fn(i16) -> u8) -> u128 {
    let (a, b) = (words(a), words(b));
    of_bytes(std::array::from_fn(|n| narrow(if n < 8 { a[n] } else { b[n - 8] } as i16)))
}

fn pack_doublewords(a: u128, b: u128, narrow: fn(i32) -> u16) -> u128 {
    let (a, b) = (doublewords(a), doublewords(b));
    of_words(std::array::from_fn(|n| narrow(if n < 4 { a[n] } else { b[n - 4] } as i32)))
}

/// Elements of two halves, taken in turn.
fn interleave_bytes(a: u128, b: u128, from: usize) -> u128 {
    let (a, b) = (bytes(a), bytes(b));
    of_bytes(std::array::from_fn(|n| if n % 2 == 0 { a[from + n / 2] } else { b[from + n / 2] }))
}

fn interleave_words(a: u128, b: u128, from: usize) -> u128 {
    let (a, b) = (words(a), words(b));
    of_words(std::array::from_fn(|n| if n % 2 == 0 { a[from + n / 2] } else { b[from + n / 2] }))
}

fn interleave_doublewords(a: u128, b: u128, from: usize) -> u128 {
    let (a, b) = (doublewords(a), doublewords(b));
    of_doublewords(std::array::from_fn(
        |n| {
            if n % 2 == 0 { a[from + n / 2] } else { b[from + n / 2] }
        },
    ))
}

/// Neighbours of the destination, then of the source, put together.
fn neighbour_words(a: u128, b: u128, f: fn(i32, i32) -> u16) -> u128 {
    let pair =
        |v: [u16; 8], n: usize| f(i32::from(v[2 * n] as i16), i32::from(v[2 * n + 1] as i16));
    let (a, b) = (words(a), words(b));
    of_words(std::array::from_fn(|n| if n < 4 { pair(a, n) } else { pair(b, n - 4) }))
}

fn neighbour_doublewords(a: u128, b: u128, f: fn(u32, u32) -> u32) -> u128 {
    let pair = |v: [u32; 4], n: usize| f(v[2 * n], v[2 * n + 1]);
    let (a, b) = (doublewords(a), doublewords(b));
    of_doublewords(std::array::from_fn(|n| if n < 2 { pair(a, n) } else { pair(b, n - 2) }))
}

/// Shifts of every element by one count; a count beyond the width gives zeros, or signs.
macro_rules! shift {
    ($map:ident, $element:ty, left) => {
        |a: u128, count: u64| {
            let shift = |x: $element| u32::try_from(count).ok().and_then(|c| x.checked_shl(c));
            $map(a, 0, |x, _| shift(x).unwrap_or(0))
        }
    };
    ($map:ident, $element:ty, right) => {
        |a: u128, count: u64| {
            let shift = |x: $element| u32::try_from(count).ok().and_then(|c| x.checked_shr(c));
            $map(a, 0, |x, _| shift(x).unwrap_or(0))
        }
    };
    ($map:ident, $element:ty, sign $signed:ty) => {
        |a: u128, count: u64| {
            let count = count.min(u64::from(<$element>::BITS - 1)) as u32;
            $map(a, 0, |x, _| (x as $signed >> count) as $element)
        }
    };
}

/// The rows of a shift by a vector's low half and by an immediate.
macro_rules! by_vector {
    ($($shift:tt)*) => {
        |a, b, _| (shift!($($shift)*))(a, b as u64)
    };
}
macro_rules! by_immediate {
    ($($shift:tt)*) => {
        |a, _, imm| (shift!($($shift)*))(a, u64::from(imm))
    };
}

/// Widened elements of the source's low end.
macro_rules! widen {
    ($split:ident, $join:ident, $from:ty as $signed:ty, $to:ty) => {
        |_, b, _| {
            let b = $split(b);
            $join(std::array::from_fn(|n| b[n] as $from as $signed as $to))
        }
    };
}

fn multiply_words(a: u16, b: u16) -> i32 {
    i32::from(a as i16) * i32::from(b as i16)
}

/// PSADBW: of each half.
fn sum_of_differences(a: u128, b: u128) -> u128 {
    let (a, b) = (bytes(a), bytes(b));
    let half =
        |from: usize| -> u64 { (from..from + 8).map(|n| u64::from(a[n].abs_diff(b[n]))).sum() };
    of_quadwords([half(0), half(8)])
}

/// MPSADBW: four bytes of the source against those at eight places of the destination.
fn multiple_sums(a: u128, b: u128, imm: u8) -> u128 {
    let (a, b) = (bytes(a), bytes(b));
    let (from_a, from_b) = (usize::from(imm >> 2 & 1) * 4, usize::from(imm & 3) * 4);
    of_words(std::array::from_fn(|place| {
        (0..4).map(|n| u16::from(a[from_a + place + n].abs_diff(b[from_b + n]))).sum()
    }))
}

/// INSERTPS with the float already picked: bits 5 to 4 of the immediate say where it goes, bits 3 to 0
/// what is cleared.
fn insert_float(a: u128, float: u32, imm: u8) -> u128 {
    let mut elements = doublewords(a);
    elements[usize::from(imm >> 4 & 3)] = float;
    for (n, element) in elements.iter_mut().enumerate() {
        if imm >> n & 1 != 0 {
            *element = 0;
        }
    }
    of_doublewords(elements)
}

/// Two bits of an immediate, as an index.
fn pick(imm: u8, n: usize) -> usize {
    usize::from(imm >> (2 * n) & 3)
}

fn shuffle_words(b: u128, imm: u8, from: usize) -> u128 {
    let b = words(b);
    of_words(std::array::from_fn(|n| {
        if (from..from + 4).contains(&n) { b[from + pick(imm, n - from)] } else { b[n] }
    }))
}

/// A number's sign by another's: kept, cleared or negated.
macro_rules! by_sign {
    ($map:ident, $signed:ty, $unsigned:ty) => {
        |a, b, _| {
            $map(a, b, |x, y| match (y as $signed).signum() {
                -1 => x.wrapping_neg(),
                0 => 0,
                _ => x,
            })
        }
    };
}

const LOW: u128 = u64::MAX as u128;

/// The function that an instruction is.
#[allow(clippy::too_many_lines, reason = "one line an instruction")]
pub(crate) fn function(packed: Packed) -> Function {
    use Packed::*;
    match packed {
        Paddb => |a, b, _| map_bytes(a, b, u8::wrapping_add),
        Paddw => |a, b, _| map_words(a, b, u16::wrapping_add),
        Paddd => |a, b, _| map_doublewords(a, b, u32::wrapping_add),
        Paddq => |a, b, _| map_quadwords(a, b, u64::wrapping_add),
        Paddsb => |a, b, _| map_bytes(a, b, signed!(i8, u8, i8::saturating_add)),
        Paddsw => |a, b, _| map_words(a, b, signed!(i16, u16, i16::saturating_add)),
        Paddusb => |a, b, _| map_bytes(a, b, u8::saturating_add),
        Paddusw => |a, b, _| map_words(a, b, u16::saturating_add),
        Psubb => |a, b, _| map_bytes(a, b, u8::wrapping_sub),
        Psubw => |a, b, _| map_words(a, b, u16::wrapping_sub),
        Psubd => |a, b, _| map_doublewords(a, b, u32::wrapping_sub),
        Psubq => |a, b, _| map_quadwords(a, b, u64::wrapping_sub),
        Psubsb => |a, b, _| map_bytes(a, b, signed!(i8, u8, i8::saturating_sub)),
        Psubsw => |a, b, _| map_words(a, b, signed!(i16, u16, i16::saturating_sub)),
        Psubusb => |a, b, _| map_bytes(a, b, u8::saturating_sub),
        Psubusw => |a, b, _| map_words(a, b, u16::saturating_sub),
        Pcmpeqb => |a, b, _| map_bytes(a, b, |x, y| all_if_byte(x == y)),
        Pcmpeqw => |a, b, _| map_words(a, b, |x, y| all_if_word(x == y)),
        Pcmpeqd => |a, b, _| map_doublewords(a, b, |x, y| all_if_doubleword(x == y)),
        Pcmpeqq => |a, b, _| map_quadwords(a, b, |x, y| all_if_quadword(x == y)),
        Pcmpgtb => |a, b, _| map_bytes(a, b, |x, y| all_if_byte(x as i8 > y as i8)),
        Pcmpgtw => |a, b, _| map_words(a, b, |x, y| all_if_word(x as i16 > y as i16)),
        Pcmpgtd => |a, b, _| map_doublewords(a, b, |x, y| all_if_doubleword(x as i32 > y as i32)),
        Pcmpgtq => |a, b, _| map_quadwords(a, b, |x, y| all_if_quadword(x as i64 > y as i64)),
        Pmaxub => |a, b, _| map_bytes(a, b, u8::max),
        Pmaxuw => |a, b, _| map_words(a, b, u16::max),
        Pmaxud => |a, b, _| map_doublewords(a, b, u32::max),
        Pmaxsb => |a, b, _| map_bytes(a, b, signed!(i8, u8, i8::max)),
        Pmaxsw => |a, b, _| map_words(a, b, signed!(i16, u16, i16::max)),
        Pmaxsd => |a, b, _| map_doublewords(a, b, signed!(i32, u32, i32::max)),
        Pminub => |a, b, _| map_bytes(a, b, u8::min),
        Pminuw => |a, b, _| map_words(a, b, u16::min),
        Pminud => |a, b, _| map_doublewords(a, b, u32::min),
        Pminsb => |a, b, _| map_bytes(a, b, signed!(i8, u8, i8::min)),
        Pminsw => |a, b, _| map_words(a, b, signed!(i16, u16, i16::min)),
        Pminsd => |a, b, _| map_doublewords(a, b, signed!(i32, u32, i32::min)),
        Pavgb => |a, b, _| map_bytes(a, b, |x, y| (u16::from(x) + u16::from(y)).div_ceil(2) as u8),
        Pavgw => |a, b, _| map_words(a, b, |x, y| (u32::from(x) + u32::from(y)).div_ceil(2) as u16),
        Pand => |a, b, _| a & b,
        Pandn => |a, b, _| !a & b,
        Por => |a, b, _| a | b,
        Pxor => |a, b, _| a ^ b,
        Pmullw => |a, b, _| map_words(a, b, u16::wrapping_mul),
        Pmulhw => |a, b, _| map_words(a, b, |x, y| (multiply_words(x, y) >> 16) as u16),
        Pmulhuw => |a, b, _| map_words(a, b, |x, y| ((u32::from(x) * u32::from(y)) >> 16) as u16),
        Pmuludq => |a, b, _| map_quadwords(a, b, |x, y| u64::from(x as u32) * u64::from(y as u32)),
        Pmuldq => {
            |a, b, _| map_quadwords(a, b, |x, y| (i64::from(x as i32) * i64::from(y as i32)) as u64)
        }
        Pmulld => |a, b, _| map_doublewords(a, b, u32::wrapping_mul),
        Pmaddwd => |a, b, _| {
            let (a, b) = (words(a), words(b));
            let product = |n: usize| multiply_words(a[n], b[n]);
            of_doublewords(std::array::from_fn(|n| {
                product(2 * n).wrapping_add(product(2 * n + 1)) as u32
            }))
        },
        Pmaddubsw => |a, b, _| {
            let (a, b) = (bytes(a), bytes(b));
            let product = |n: usize| i32::from(a[n]) * i32::from(b[n] as i8);
            of_words(std::array::from_fn(|n| signed_word(product(2 * n) + product(2 * n + 1))))
        },
        Pmulhrsw => {
            |a, b, _| map_words(a, b, |x, y| (((multiply_words(x, y) >> 14) + 1) >> 1) as u16)
        }
        Psadbw => |a, b, _| sum_of_differences(a, b),
        Packsswb => |a, b, _| pack_words(a, b, |x| signed_byte(i32::from(x))),
        Packssdw => |a, b, _| pack_doublewords(a, b, signed_word),
        Packuswb => |a, b, _| pack_words(a, b, |x| x.clamp(0, 255) as u8),
        Packusdw => |a, b, _| pack_doublewords(a, b, |x| x.clamp(0, 65535) as u16),
        Punpcklbw => |a, b, _| interleave_bytes(a, b, 0),
        Punpcklwd => |a, b, _| interleave_words(a, b, 0),
        Punpckldq => |a, b, _| interleave_doublewords(a, b, 0),
        Punpcklqdq => |a, b, _| a & LOW | b << 64,
        Punpckhbw => |a, b, _| interleave_bytes(a, b, 8),
        Punpckhwd => |a, b, _| interleave_words(a, b, 4),
        Punpckhdq => |a, b, _| interleave_doublewords(a, b, 2),
        Punpckhqdq => |a, b, _| a >> 64 | b & !LOW,
        Pshufb => |a, b, _| {
            let from = bytes(a);
            map_bytes(a, b, |_, y| if y & 0x80 != 0 { 0 } else { from[usize::from(y & 15)] })
        },
        Psignb => by_sign!(map_bytes, i8, u8),
        Psignw => by_sign!(map_words, i16, u16),
        Psignd => by_sign!(map_doublewords, i32, u32),
        Phaddw => |a, b, _| neighbour_words(a, b, |x, y| x.wrapping_add(y) as u16),
        Phaddd => |a, b, _| neighbour_doublewords(a, b, u32::wrapping_add),
        Phaddsw => |a, b, _| neighbour_words(a, b, |x, y| signed_word(x + y)),
        Phsubw => |a, b, _| neighbour_words(a, b, |x, y| x.wrapping_sub(y) as u16),
        Phsubd => |a, b, _| neighbour_doublewords(a, b, u32::wrapping_sub),
        Phsubsw => |a, b, _| neighbour_words(a, b, |x, y| signed_word(x - y)),
        Pabsb => |_, b, _| map_bytes(b, 0, |x, _| (x as i8).unsigned_abs()),
        Pabsw => |_, b, _| map_words(b, 0, |x, _| (x as i16).unsigned_abs()),
        Pabsd => |_, b, _| map_doublewords(b, 0, |x, _| (x as i32).unsigned_abs()),
        Psllw => by_vector!(map_words, u16, left),
        Pslld => by_vector!(map_doublewords, u32, left),
        Psllq => by_vector!(map_quadwords, u64, left),
        Psrlw => by_vector!(map_words, u16, right),
        Psrld => by_vector!(map_doublewords, u32, right),
        Psrlq => by_vector!(map_quadwords, u64, right),
        Psraw => by_vector!(map_words, u16, sign i16),
        Psrad => by_vector!(map_doublewords, u32, sign i32),
        PsllwImm => by_immediate!(map_words, u16, left),
        PslldImm => by_immediate!(map_doublewords, u32, left),
        PsllqImm => by_immediate!(map_quadwords, u64, left),
        PsrlwImm => by_immediate!(map_words, u16, right),
        PsrldImm => by_immediate!(map_doublewords, u32, right),
        PsrlqImm => by_immediate!(map_quadwords, u64, right),
        PsrawImm => by_immediate!(map_words, u16, sign i16),
        PsradImm => by_immediate!(map_doublewords, u32, sign i32),
        Pslldq => |a, _, imm| a.checked_shl(8 * u32::from(imm)).unwrap_or(0),
        Psrldq => |a, _, imm| a.checked_shr(8 * u32::from(imm)).unwrap_or(0),
        Pmovsxbw => widen!(bytes, of_words, i8 as i16, u16),
        Pmovsxbd => widen!(bytes, of_doublewords, i8 as i32, u32),
        Pmovsxbq => widen!(bytes, of_quadwords, i8 as i64, u64),
        Pmovsxwd => widen!(words, of_doublewords, i16 as i32, u32),
        Pmovsxwq => widen!(words, of_quadwords, i16 as i64, u64),
        Pmovsxdq => widen!(doublewords, of_quadwords, i32 as i64, u64),
        Pmovzxbw => widen!(bytes, of_words, u8 as u16, u16),
        Pmovzxbd => widen!(bytes, of_doublewords, u8 as u32, u32),
        Pmovzxbq => widen!(bytes, of_quadwords, u8 as u64, u64),
        Pmovzxwd => widen!(words, of_doublewords, u16 as u32, u32),
        Pmovzxwq => widen!(words, of_quadwords, u16 as u64, u64),
        Pmovzxdq => widen!(doublewords, of_quadwords, u32 as u64, u64),
        Phminposuw => |_, b, _| {
            let elements = words(b);
            let least = (0..8).min_by_key(|&n| elements[n]).unwrap_or(0);
            u128::from(elements[least]) | (least as u128) << 16
        },
        Pshufd => |_, b, imm| {
            let b = doublewords(b);
            of_doublewords(std::array::from_fn(|n| b[pick(imm, n)]))
        },
        Pshuflw => |_, b, imm| shuffle_words(b, imm, 0),
        Pshufhw => |_, b, imm| shuffle_words(b, imm, 4),
        Shufps => |a, b, imm| {
            let (a, b) = (doublewords(a), doublewords(b));
            of_doublewords(std::array::from_fn(|n| if n < 2 { a } else { b }[pick(imm, n)]))
        },
        Shufpd => |a, b, imm| {
            let (a, b) = (quadwords(a), quadwords(b));
            of_quadwords([a[usize::from(imm & 1)], b[usize::from(imm >> 1 & 1)]])
        },
        Palignr => |a, b, imm| match 8 * u32::from(imm) {
            0 => b,
            count @ 1..128 => b >> count | a << (128 - count),
            count => a.checked_shr(count - 128).unwrap_or(0),
        },
        Pblendw => |a, b, imm| {
            let (a, b) = (words(a), words(b));
            of_words(std::array::from_fn(|n| if imm >> n & 1 != 0 { b[n] } else { a[n] }))
        },
        Blendps => |a, b, imm| {
            let (a, b) = (doublewords(a), doublewords(b));
            of_doublewords(std::array::from_fn(|n| if imm >> n & 1 != 0 { b[n] } else { a[n] }))
        },
        Blendpd => |a, b, imm| {
            let (a, b) = (quadwords(a), quadwords(b));
            of_quadwords(std::array::from_fn(|n| if imm >> n & 1 != 0 { b[n] } else { a[n] }))
        },
        Mpsadbw => multiple_sums,
        Insertps => |a, b, imm| insert_float(a, doublewords(b)[usize::from(imm >> 6)], imm),
        InsertpsMem => |a, b, imm| insert_float(a, b as u32, imm),
        Pinsrb => |a, b, imm| {
            let mut elements = bytes(a);
            elements[usize::from(imm & 15)] = b as u8;
            of_bytes(elements)
        },
        Pinsrw => |a, b, imm| {
            let mut elements = words(a);
            elements[usize::from(imm & 7)] = b as u16;
            of_words(elements)
        },
        Pinsrd => |a, b, imm| {
            let mut elements = doublewords(a);
            elements[usize::from(imm & 3)] = b as u32;
            of_doublewords(elements)
        },
        Pinsrq => |a, b, imm| {
            let mut elements = quadwords(a);
            elements[usize::from(imm & 1)] = b as u64;
            of_quadwords(elements)
        },
        LoadLow => |a, b, _| a & !LOW | b & LOW,
        LoadHigh => |a, b, _| a & LOW | b << 64,
        Movhlps => |a, b, _| a & !LOW | b >> 64,
        Movddup => |_, b, _| b & LOW | b << 64,
        Movsldup => |_, b, _| {
            let b = doublewords(b);
            of_doublewords([b[0], b[0], b[2], b[2]])
        },
        Movshdup => |_, b, _| {
            let b = doublewords(b);
            of_doublewords([b[1], b[1], b[3], b[3]])
        },
    }
}
