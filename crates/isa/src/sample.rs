//! Random valid operands for any row, for tests that walk the tables.
//!
//! Only with the feature `sample`. Addresses stay near two given places, so that a caller who runs
//! the instructions can map memory there.

use rand::Rng;
use rand::seq::IndexedRandom;

use crate::{
    Arch, Form, Mem, Operand, Operands, Reg, RegKind, Segment, Traits, Value, Width, arm64, x86,
};

/// Where sampled instructions and the data they name stand.
#[derive(Copy, Clone, Debug)]
pub struct Places {
    /// Address of the instruction.
    pub code: u64,
    /// An address that memory operands without registers point to; below 2^31.
    pub data: u64,
    /// Strings are addressed with the address-size prefix.
    pub narrow_strings: bool,
}

/// The numbers of the rows of the machine's table that are valid on it.
pub fn forms(arch: Arch) -> Vec<u16> {
    match arch {
        Arch::X86_64 | Arch::X86_32 => {
            (0..x86::form_count()).filter(|&form| x86::is_valid(arch, form)).collect()
        }
        Arch::Arm64 => (0..arm64::form_count()).collect(),
    }
}

/// Random operands for the row `form`, all of whose values fit it.
pub fn operands(arch: Arch, form: u16, places: Places, rng: &mut impl Rng) -> Operands {
    match arch {
        Arch::X86_64 | Arch::X86_32 => x86_operands(arch, x86::form(form), places, rng),
        Arch::Arm64 => arm64_operands(form, places, rng),
    }
}

fn x86_operands(
    arch: Arch,
    form: &Form<x86::Meaning, x86::Pattern>,
    places: Places,
    rng: &mut impl Rng,
) -> Operands {
    let no_track = form.mnemonic.starts_with("notrack");
    loop {
        let mut operands: Operands =
            form.operands.iter().map(|slot| x86_operand(arch, slot.pattern, places, rng)).collect();
        if form.traits.contains(Traits::TARGET_IS_16_BITS)
            && let Some(Operand::Target(Value::Known(target))) = operands.first_mut()
        {
            *target &= 0xffff;
        }
        // High bytes and REX prefixes exclude each other.
        let regs = || {
            operands.iter().flat_map(|operand| match operand {
                Operand::Reg(reg) => [Some(*reg), None],
                Operand::Mem(mem) => [mem.base, mem.index],
                _ => [None, None],
            })
        };
        let high = regs().flatten().any(|reg| reg.kind == RegKind::HighByte);
        let vex = form.encoding.contains("VEX") && arch != Arch::X86_32;
        let rex = form.encoding.contains("REX")
            || vex
            || regs()
                .flatten()
                .any(|reg| reg.number >= 8 || (reg.kind == RegKind::Byte && reg.number >= 4));
        let absent =
            arch == Arch::X86_32 && (rex || regs().flatten().any(|reg| reg.kind == RegKind::Qword));
        // The prefix that exempts from tracking is a segment's too.
        let segment =
            operands.iter().any(|o| matches!(o, Operand::Mem(mem) if mem.segment.is_some()));
        let unencodable = absent || (high && rex) || (no_track && segment);
        if !unencodable {
            return operands;
        }
    }
}

/// Those of random words that stand for the row.
fn arm64_operands(form: u16, places: Places, rng: &mut impl Rng) -> Operands {
    loop {
        // Zeros in a row, so that fields that are seldom zero by chance are zero now and then.
        let zeros: u32 = (1 << rng.random_range(0..24)) - 1;
        let zeros = zeros << rng.random_range(0..32);
        let word = arm64::fill_row(form, rng.random::<u32>() & !zeros);
        if let Some(operands) = arm64::decode_form(form, word, places.code) {
            return operands;
        }
    }
}

/// A number with an interesting shape as often as a uniform one, sign-extended from `width`.
pub fn number(width: Width, rng: &mut impl Rng) -> i64 {
    let edge = [
        0,
        1,
        -1,
        2,
        0x7f,
        0x80,
        0xff,
        0x7fff,
        0x8000,
        0x7fff_ffff,
        0x8000_0000,
        i64::MAX,
        i64::MIN,
    ];
    let value = match rng.random_range(0..4) {
        0 => *edge.choose(rng).expect("not empty"),
        1 => rng.random_range(-128..128),
        2 => 1i64 << rng.random_range(0..64),
        _ => rng.random(),
    };
    width.sign_extend(value as u64)
}

/// The width of addresses with the address-size prefix.
fn narrower(arch: Arch) -> Width {
    if arch == Arch::X86_32 { Width::W16 } else { Width::W32 }
}

/// How many general or vector registers there are.
fn x86_count(arch: Arch) -> u8 {
    if arch == Arch::X86_32 { 8 } else { 16 }
}

fn x86_reg(arch: Arch, width: Width, rng: &mut impl Rng) -> Reg {
    if width == Width::W8 && rng.random_range(0..4) == 0 {
        return Reg::new(RegKind::HighByte, rng.random_range(0..4));
    }
    let bytes = arch == Arch::X86_32 && width == Width::W8;
    Reg::x86(width, rng.random_range(0..if bytes { 4 } else { x86_count(arch) }))
}

fn x86_operand(arch: Arch, pattern: x86::Pattern, places: Places, rng: &mut impl Rng) -> Operand {
    use x86::Pattern as P;
    let imm = |value: i64| Operand::Imm(Value::Known(value));
    match pattern {
        P::R(width) => Operand::Reg(x86_reg(arch, width, rng)),
        P::R32NotEax => Operand::Reg(Reg::x86(Width::W32, rng.random_range(1..x86_count(arch)))),
        P::Rm(width) if rng.random() => Operand::Reg(x86_reg(arch, width, rng)),
        P::Rm(width) => Operand::Mem(Mem { width: Some(width), ..x86_memory(arch, places, rng) }),
        P::M => Operand::Mem(x86_memory(arch, places, rng)),
        P::RegRm(width) | P::Vvvv(width) => {
            Operand::Reg(Reg::x86(width, rng.random_range(0..x86_count(arch))))
        }
        P::RmNarrow(width, _) if rng.random() => Operand::Reg(x86_reg(arch, width, rng)),
        P::X | P::XRm => Operand::Reg(x86_reg(arch, Width::W128, rng)),
        P::Xm(_) | P::XmUnaligned if rng.random() => Operand::Reg(x86_reg(arch, Width::W128, rng)),
        P::Mem(_) | P::RmNarrow(..) | P::Xm(_) | P::XmUnaligned | P::MemAligned => {
            Operand::Mem(Mem { width: pattern.memory_width(), ..x86_memory(arch, places, rng) })
        }
        P::Xmm0 => Operand::Reg(Reg::x86(Width::W128, 0)),
        P::Far(_) => Operand::Mem(x86_memory(arch, places, rng)),
        // The address is of the mode's width, so that both operands of one instruction agree.
        P::StringSource(_) | P::StringDestination(_) | P::TranslateTable | P::MaskedDestination => {
            let number = match pattern {
                P::StringSource(_) => 6,
                P::StringDestination(_) | P::MaskedDestination => 7,
                _ => 3,
            };
            let segment = match (pattern, rng.random_range(0..3)) {
                (P::StringDestination(_), _) | (_, 0) => None,
                (_, 1) => Some(Segment::Fs),
                _ => Some(Segment::Gs),
            };
            let width = if places.narrow_strings { narrower(arch) } else { arch.address_width() };
            let mem = Mem::base_disp(Reg::x86(width, number), 0);
            Operand::Mem(Mem { width: pattern.memory_width(), segment, ..mem })
        }
        P::Segment(number) => Operand::Reg(Reg::new(RegKind::Segment, number)),
        P::Selector => imm(rng.random_range(0..65536)),
        P::Sreg => Operand::Reg(Reg::new(RegKind::Segment, rng.random_range(0..6))),
        P::Dx => Operand::Reg(Reg::x86(Width::W16, 2)),
        P::Acc(width) => Operand::Reg(Reg::x86(width, 0)),
        P::Cl => Operand::Reg(Reg::x86(Width::W8, 1)),
        P::One => imm(1),
        P::Imm(width) => imm(number(width, rng)),
        P::Simm8 => imm(number(Width::W8, rng)),
        P::Simm32 => imm(number(Width::W32, rng)),
        P::Uimm8 => imm(rng.random_range(0..256)),
        P::Uimm16 => imm(rng.random_range(0..65536)),
        P::Rel16 => target(0, rng.random_range(0..0x1_0000)),
        P::Rel8 => target(places.code, rng.random_range(-100..100)),
        P::Rel32 => target(places.code, rng.random_range(-1_000_000..1_000_000)),
        P::Moffs(width) => {
            Operand::Mem(Mem { width: Some(width), ..Mem::absolute(places.data as i64) })
        }
    }
}

fn target(from: u64, distance: i64) -> Operand {
    Operand::Target(Value::Known(from as i64 + distance))
}

fn x86_memory(arch: Arch, places: Places, rng: &mut impl Rng) -> Mem {
    let disp = match rng.random_range(0..3) {
        0 => 0,
        1 => rng.random_range(-128..128),
        _ => rng.random_range(-100_000..100_000),
    };
    let narrow = rng.random_range(0..8) == 0;
    let width = match arch {
        Arch::X86_32 if narrow => return x86_narrow_memory(disp, rng),
        Arch::X86_32 => Width::W32,
        Arch::X86_64 | Arch::Arm64 if narrow => Width::W32,
        Arch::X86_64 | Arch::Arm64 => Width::W64,
    };
    let base = Reg::x86(width, rng.random_range(0..x86_count(arch)));
    let index = loop {
        let number = rng.random_range(0..x86_count(arch));
        if number != 4 && number != base.number {
            break Reg::x86(width, number);
        }
    };
    let scale = 1 << rng.random_range(0..4);
    let disp_value = Value::Known(disp);
    let segment = match rng.random_range(0..24) {
        0 => Some(Segment::Fs),
        1 => Some(Segment::Gs),
        2 if arch == Arch::X86_32 => Some(Segment::ALL[rng.random_range(0..4)]),
        _ => None,
    };
    let mem = match rng.random_range(0..6) {
        0 => Mem::absolute(places.data as i64),
        1 if arch != Arch::X86_32 => {
            let base = if rng.random_ratio(1, 4) { x86::EIP } else { x86::RIP };
            Mem::base_disp(base, places.data as i64 - places.code as i64)
        }
        // Alone, a register scaled by 1 or 2 has a shorter address without the scale.
        2 => Mem {
            index: Some(index),
            scale: 4 * (1 + scale % 2),
            disp: disp_value,
            ..Mem::absolute(0)
        },
        3 => Mem {
            base: Some(base),
            index: Some(index),
            scale,
            disp: disp_value,
            ..Mem::absolute(0)
        },
        _ => Mem::base_disp(base, disp),
    };
    Mem { segment, ..mem }
}

/// Memory at an address of 16 bits.
fn x86_narrow_memory(disp: i64, rng: &mut impl Rng) -> Mem {
    let reg = |number| Some(Reg::x86(Width::W16, number));
    let (base, index) = match rng.random_range(0..4) {
        0 => (reg(3), reg(6)),
        1 => (reg(5), reg(7)),
        2 => (reg(6), None),
        _ => (reg(5), None),
    };
    Mem { base, index, disp: Value::Known(disp % 0x8000), ..Mem::absolute(0) }
}
