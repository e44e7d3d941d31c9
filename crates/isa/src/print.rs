//! Instructions as text, in the syntax that the assembler reads back.

use std::fmt::Write;

use crate::arrangement::lane_letter;
use crate::{
    Arch, Extend, IndexMode, Instruction, ListElements, Mem, Operand, RegisterList, Segment, Shift,
    Value, Width, arm64, x86,
};

/// Names for addresses.
pub trait Names {
    /// A name that the assembler would resolve to `address`, such as `lamp` or `lamp + 4`.
    fn name(&self, address: u64) -> Option<String>;
}

/// No address has a name.
pub struct NoNames;

impl Names for NoNames {
    fn name(&self, _: u64) -> Option<String> {
        None
    }
}

/// A number as listings show it: decimal up to 4096 either way, hex beyond.
pub fn format_number(value: i64) -> String {
    match value {
        -4096..=4096 => value.to_string(),
        4097.. => format!("{value:#x}"),
        _ => format!("-{:#x}", value.unsigned_abs()),
    }
}

/// Which operand of an x86 instruction is written first.
///
/// Other machines have one order, which both names stand for.
#[derive(Copy, Clone, PartialEq, Eq, Debug, Default)]
pub enum OperandOrder {
    /// `mov rax, 5`: the vendor manual's order.
    #[default]
    DestinationFirst,
    /// `mov $5, %rax`: the order that compilers for Unix print.
    SourceFirst,
}

impl OperandOrder {
    /// The name, as options and directives write it.
    pub const fn name(self) -> &'static str {
        match self {
            OperandOrder::DestinationFirst => "destination-first",
            OperandOrder::SourceFirst => "source-first",
        }
    }
}

/// A name that is no order of operands.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[error("`{0}` is no operand order; the orders are destination-first and source-first")]
pub struct UnknownOrder(pub String);

impl std::str::FromStr for OperandOrder {
    type Err = UnknownOrder;

    fn from_str(text: &str) -> Result<OperandOrder, UnknownOrder> {
        [OperandOrder::DestinationFirst, OperandOrder::SourceFirst]
            .into_iter()
            .find(|order| order.name().eq_ignore_ascii_case(text))
            .ok_or_else(|| UnknownOrder(text.to_string()))
    }
}

impl Instruction {
    /// The instruction as source text in this order of operands.
    pub fn print_in(&self, order: OperandOrder, names: &dyn Names) -> String {
        match (self.arch, order) {
            (Arch::X86_64 | Arch::X86_32, OperandOrder::SourceFirst) => x86::print(self, names),
            (Arch::X86_64 | Arch::X86_32, OperandOrder::DestinationFirst) | (Arch::Arm64, _) => {
                self.print(names)
            }
        }
    }

    /// The instruction as source text: mnemonic, a space, operands. Addresses with a name in
    /// `names` are printed by it.
    pub fn print(&self, names: &dyn Names) -> String {
        let mut text = self.mnemonic().to_string();
        for (index, operand) in self.operands.iter().enumerate() {
            text += if index == 0 { " " } else { ", " };
            match self.arch {
                Arch::X86_64 | Arch::X86_32 => print_x86(&mut text, self, index, operand, names),
                Arch::Arm64 => print_arm64(&mut text, operand, names),
            }
        }
        text
    }
}

pub(crate) fn number(value: Value) -> String {
    match value {
        Value::Known(value) => format_number(value),
        Value::Above(value) => format!("{value:#x}"),
        Value::Unresolved => "?".to_string(),
    }
}

/// An x86 immediate: as the symbol whose address it is, if it can be an address and is exactly one, and
/// else as a number; the number of an interrupt in hex.
pub(crate) fn immediate(instruction: &Instruction, value: Value, names: &dyn Names) -> String {
    let Value::Known(known) = value else { return number(value) };
    if instruction.mnemonic() == "int" {
        return format!("{known:#x}");
    }
    let whole = |name: &String| !name.contains(' ');
    // Nothing is ever at the first addresses.
    let name = if known >= 0x1_0000 { names.name(known as u64).filter(whole) } else { None };
    name.unwrap_or_else(|| format_number(known))
}

pub(crate) fn address(text: &mut String, value: Value, names: &dyn Names) {
    let address = value.or_zero() as u64;
    match names.name(address) {
        Some(name) => text.push_str(&name),
        None => write!(text, "{address:#x}").expect("a String takes everything"),
    }
}

fn print_x86(
    text: &mut String,
    instruction: &Instruction,
    index: usize,
    operand: &Operand,
    names: &dyn Names,
) {
    match operand {
        Operand::Reg(reg) => text.push_str(reg.name()),
        Operand::Imm(value) => text.push_str(&immediate(instruction, *value, names)),
        Operand::Target(value) => address(text, *value, names),
        Operand::Mem(mem) => {
            let told = x86::register_tells_width(instruction, index);
            if let (Some(width), false) = (mem.width, told) {
                text.push_str(width.x86_keyword());
                text.push(' ');
            }
            print_x86_address(text, instruction, mem, names);
        }
        // No x86 row has these.
        Operand::ShiftedImm(..)
        | Operand::Shifted(..)
        | Operand::Extended(..)
        | Operand::Cond(_)
        | Operand::ShiftedOnes(..)
        | Operand::Float(_)
        | Operand::Vector(..)
        | Operand::Element(..)
        | Operand::List(_)
        | Operand::Named(_) => {}
    }
}

fn print_x86_address(text: &mut String, instruction: &Instruction, mem: &Mem, names: &dyn Names) {
    let disp = mem.disp.or_zero();
    if let (Some(base), None) = (mem.base, mem.segment)
        && base == crate::x86::RIP
    {
        let target = instruction.end().wrapping_add(disp as u64);
        if let Some(name) = names.name(target) {
            let _ = write!(text, "[{name}]");
            return;
        }
    }
    text.push_str(mem.segment.map_or("", Segment::name));
    text.push_str(if mem.segment.is_some() { ":[" } else { "[" });
    // The displacement of an indexed table is its address.
    let table = match mem.segment {
        Some(_) => None,
        None => u64::try_from(disp).ok().and_then(|address| names.name(address)),
    };
    let mut first = true;
    if let Some(name) = &table {
        text.push_str(name);
        first = false;
    }
    for (reg, scale) in [(mem.base, 1), (mem.index, mem.scale)] {
        let Some(reg) = reg else { continue };
        if !first {
            text.push_str(" + ");
        }
        text.push_str(reg.name());
        if scale != 1 || (mem.base.is_none() && mem.index.is_some()) {
            let _ = write!(text, "*{scale}");
        }
        first = false;
    }
    if table.is_some() {
        // said already
    } else if first {
        text.push_str(&format_number(disp));
    } else if disp != 0 {
        let sign = if disp < 0 { '-' } else { '+' };
        let size = format_number(disp.wrapping_neg());
        let size = if disp < 0 { size } else { format_number(disp) };
        let _ = write!(text, " {sign} {size}");
    }
    text.push(']');
}

fn print_arm64(text: &mut String, operand: &Operand, names: &dyn Names) {
    // Writing to a String cannot fail, so the results are let go.
    match operand {
        Operand::Reg(reg) => text.push_str(reg.name()),
        Operand::Imm(value) => {
            let _ = write!(text, "#{}", number(*value));
        }
        Operand::ShiftedImm(value, shift) => {
            let _ = write!(text, "#{}", number(*value));
            if *shift != 0 {
                let _ = write!(text, ", lsl #{shift}");
            }
        }
        Operand::Target(value) => address(text, *value, names),
        Operand::Shifted(reg, shift, amount) => {
            text.push_str(reg.name());
            if *amount != 0 || *shift != Shift::Lsl {
                let _ = write!(text, ", {} #{amount}", shift.name());
            }
        }
        Operand::Extended(reg, extend, amount) => {
            let _ = write!(text, "{}, {}", reg.name(), extend.name());
            if *amount != 0 {
                let _ = write!(text, " #{amount}");
            }
        }
        Operand::Cond(cond) => text.push_str(arm64::condition_name(*cond)),
        Operand::Mem(mem) => print_arm64_address(text, mem),
        Operand::ShiftedOnes(value, shift) => {
            let _ = write!(text, "#{}, msl #{shift}", number(*value));
        }
        Operand::Float(bits) => {
            let _ = write!(text, "#{:?}", f64::from_bits(*bits));
        }
        Operand::Vector(reg, arrangement) => {
            let _ = write!(text, "{}.{}", reg.name(), arrangement.name());
        }
        Operand::Element(reg, arrangement, index) => {
            let elements = match arrangement.lanes {
                1 => lane_letter(arrangement.lane).to_string(),
                _ => arrangement.name(),
            };
            let _ = write!(text, "{}.{elements}[{index}]", reg.name());
        }
        Operand::List(list) => print_arm64_list(text, *list),
        Operand::Named(named) => text.push_str(&named.text()),
    }
}

fn print_arm64_list(text: &mut String, list: RegisterList) {
    let (suffix, index) = match list.elements {
        ListElements::All(arrangement) => (arrangement.name(), String::new()),
        ListElements::One(width, index) => (lane_letter(width).to_string(), format!("[{index}]")),
    };
    for (number, reg) in list.registers().enumerate() {
        text.push_str(if number == 0 { "{" } else { ", " });
        let _ = write!(text, "{}.{suffix}", reg.name());
    }
    let _ = write!(text, "}}{index}");
}

fn print_arm64_address(text: &mut String, mem: &Mem) {
    let base = mem.base.map_or("?", |base| base.name());
    let _ = write!(text, "[{base}");
    let disp = mem.disp.or_zero();
    match (mem.index, mem.mode) {
        (Some(index), IndexMode::Post) => {
            let _ = write!(text, "], {}", index.name());
        }
        (Some(index), _) => {
            let _ = write!(text, ", {}", index.name());
            let amount = mem.scale.trailing_zeros();
            let shown = amount != 0 || mem.shows_shift;
            match mem.extend {
                None | Some(Extend::Uxtx) if index.width() == Width::W64 => {
                    if shown {
                        let _ = write!(text, ", lsl #{amount}");
                    }
                }
                extend => {
                    let _ = write!(text, ", {}", extend.unwrap_or(Extend::Uxtw).name());
                    if shown {
                        let _ = write!(text, " #{amount}");
                    }
                }
            }
            text.push(']');
        }
        (None, IndexMode::Offset) => {
            if disp != 0 {
                let _ = write!(text, ", #{}", format_number(disp));
            }
            text.push(']');
        }
        (None, IndexMode::Pre) => {
            let _ = write!(text, ", #{}]!", format_number(disp));
        }
        (None, IndexMode::Post) => {
            let _ = write!(text, "], #{}", format_number(disp));
        }
    }
}
