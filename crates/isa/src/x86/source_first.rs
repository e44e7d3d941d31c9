//! Source-first spelling: what its words mean, and printing in it.
//!
//! Operands stand in the reverse of the manual's order; a letter after the mnemonic says how wide
//! the operation is, and the widening moves carry two. Everything else is the table's.

use std::fmt::Write;

use super::{Meaning, Pattern, by_mnemonic, form, register_tells_width};
use crate::print::{address, immediate};
use crate::{Arch, Control, Instruction, Mem, Names, Operand, Width, format_number};

/// What a word of source-first order says beside its mnemonic.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct Spelling {
    /// The mnemonic as the table has it.
    pub mnemonic: &'static str,
    /// Width of memory operands and, of a widening move, of the source.
    pub width: Option<Width>,
    /// Width of the destination of a widening move, or of a conversion of a float to an integer.
    pub destination: Option<Width>,
}

/// Names that are not a mnemonic with a letter after it.
const RENAMED: &[(&str, &str)] = &[
    ("cbtw", "cbw"),
    ("cwtl", "cwde"),
    ("cltq", "cdqe"),
    ("cwtd", "cwd"),
    ("cltd", "cdq"),
    ("cqto", "cqo"),
    ("pushfl", "pushfd"),
    ("popfl", "popfd"),
    ("pushal", "pushad"),
    ("popal", "popad"),
];

/// String instructions, whose 32-bit element is a letter of its own here.
const STRINGS: &[(&str, &str)] = &[
    ("movsl", "movsd"),
    ("cmpsl", "cmpsd"),
    ("stosl", "stosd"),
    ("lodsl", "lodsd"),
    ("scasl", "scasd"),
    ("insl", "insd"),
    ("outsl", "outsd"),
];

const LETTERS: [(u8, Width); 4] =
    [(b'b', Width::W8), (b'w', Width::W16), (b'l', Width::W32), (b'q', Width::W64)];

fn width_of(letter: u8) -> Option<Width> {
    LETTERS.iter().find(|(l, _)| *l == letter).map(|(_, width)| *width)
}

fn letter_of(width: Width) -> char {
    LETTERS.iter().find(|(_, w)| *w == width).map_or('q', |(letter, _)| char::from(*letter))
}

/// The meaning of a word that is no mnemonic of the table by itself.
pub fn spelling(arch: Arch, word: &str) -> Option<Spelling> {
    let word = word.to_ascii_lowercase();
    if let Some((_, mnemonic)) = RENAMED.iter().find(|(name, _)| *name == word) {
        return Some(Spelling { mnemonic, width: None, destination: None });
    }
    let (prefix, base) = match word.rsplit_once(' ') {
        Some((prefix, base)) => (format!("{prefix} "), base),
        None => (String::new(), &*word),
    };
    // `movsl` alone could also be a widening move without its second letter, where there is one to 64 bits.
    if let Some((_, name)) = STRINGS.iter().find(|(name, _)| *name == base)
        && (base != "movsl" || !prefix.is_empty() || arch == Arch::X86_32)
    {
        let (mnemonic, _) = by_mnemonic(arch).mnemonic(&format!("{prefix}{name}"))?;
        return Some(Spelling { mnemonic, width: None, destination: None });
    }
    let (stem, last) = word.split_at_checked(word.len().checked_sub(1)?)?;
    let width = width_of(last.as_bytes()[0])?;
    widening(stem, width).or_else(|| suffixed(arch, stem, width)).or_else(|| {
        // `movzb` and its like leave the destination's letter out.
        let mnemonic = match stem {
            "movz" if width < Width::W32 => "movzx",
            "movs" if width < Width::W32 => "movsx",
            "movs" if width == Width::W32 => "movsxd",
            _ => return None,
        };
        Some(Spelling { mnemonic, width: Some(width), destination: None })
    })
}

/// `movzbl`, `movslq` and their like, without the last letter.
fn widening(stem: &str, destination: Width) -> Option<Spelling> {
    let (stem, letter) = stem.split_at_checked(stem.len().checked_sub(1)?)?;
    let source = width_of(letter.as_bytes()[0])?;
    let mnemonic = match (stem, source) {
        ("movs", Width::W32) => "movsxd",
        ("movz", Width::W8 | Width::W16) => "movzx",
        ("movs", Width::W8 | Width::W16) => "movsx",
        _ => return None,
    };
    (source < destination).then_some(Spelling {
        mnemonic,
        width: Some(source),
        destination: Some(destination),
    })
}

/// A mnemonic whose rows work at this width.
fn suffixed(arch: Arch, stem: &str, width: Width) -> Option<Spelling> {
    let mnemonics = by_mnemonic(arch);
    let rows = mnemonics.rows(stem)?;
    let (mnemonic, _) = mnemonics.mnemonic(stem)?;
    let takes = rows.iter().any(|&row| {
        let form = form(row);
        let stacked = matches!(form.control, Control::Call | Control::Jump | Control::Return)
            || matches!(form.meaning, Meaning::Push | Meaning::Pop | Meaning::Leave);
        form.operands.iter().any(|slot| slot.pattern.data_width() == Some(width))
            || (stacked && width == arch.address_width())
    });
    // The letter of a conversion from a float to an integer names the integer, whatever memory the float is in.
    let from_float = |row: &u16| {
        let mut patterns = form(*row).operands.iter().map(|slot| slot.pattern);
        let (to, from) = (patterns.next(), patterns.next());
        to.and_then(Pattern::general_width).is_some() && from.is_some_and(Pattern::is_vector)
    };
    if takes && rows.iter().all(from_float) {
        return Some(Spelling { mnemonic, width: None, destination: Some(width) });
    }
    takes.then_some(Spelling { mnemonic, width: Some(width), destination: None })
}

/// Whether the operands of a mnemonic stand in the manual's order in either spelling: the two numbers of ENTER.
pub fn keeps_order(mnemonic: &str) -> bool {
    matches!(mnemonic, "enter" | "enterw")
}

/// The instruction in source-first order.
pub(crate) fn print(instruction: &Instruction, names: &dyn Names) -> String {
    let form = form(instruction.form);
    let mut text = mnemonic(instruction);
    let indirect = matches!(form.control, Control::Call | Control::Jump);
    let mut operands: Vec<&Operand> = instruction.operands.iter().collect();
    if !keeps_order(form.mnemonic) {
        operands.reverse();
    }
    for (number, operand) in operands.into_iter().enumerate() {
        text += if number == 0 { " " } else { ", " };
        if indirect && !matches!(operand, Operand::Target(_)) {
            text.push('*');
        }
        print_operand(&mut text, instruction, operand, names);
    }
    text
}

/// The mnemonic with the letters that it needs.
fn mnemonic(instruction: &Instruction) -> String {
    let form = form(instruction.form);
    if let Some((name, _)) = RENAMED.iter().find(|(_, mnemonic)| *mnemonic == form.mnemonic) {
        return (*name).to_string();
    }
    if matches!(form.meaning, Meaning::String(..))
        && let Some((prefix, base)) = form.mnemonic.rsplit_once(' ').or(Some(("", form.mnemonic)))
        && let Some((name, _)) = STRINGS.iter().find(|(_, name)| *name == base)
    {
        return format!("{prefix} {name}").trim_start().to_string();
    }
    let operand_width = |index: usize| form.operands.get(index)?.pattern.data_width();
    if let (Meaning::Movzx | Meaning::Movsx, Some(to), Some(from)) =
        (form.meaning, operand_width(0), operand_width(1))
        && from < to
    {
        let stem = if form.meaning == Meaning::Movzx { "movz" } else { "movs" };
        return format!("{stem}{}{}", letter_of(from), letter_of(to));
    }
    let untold = instruction.operands.iter().enumerate().find_map(|(index, operand)| {
        let Operand::Mem(mem) = operand else { return None };
        mem.width.filter(|_| !register_tells_width(instruction, index))
    });
    match untold {
        // A jump through memory always reads eight bytes.
        Some(_) if matches!(form.control, Control::Call | Control::Jump) => form.mnemonic.into(),
        Some(_) if !has_widths(instruction.arch, form.mnemonic) => form.mnemonic.into(),
        Some(width) => format!("{}{}", form.mnemonic, letter_of(width)),
        None => form.mnemonic.into(),
    }
}

/// Whether the mnemonic's memory operand can be of more than one width.
fn has_widths(arch: Arch, mnemonic: &str) -> bool {
    let rows = by_mnemonic(arch).rows(mnemonic).unwrap_or_default();
    let widths = rows.iter().flat_map(|&row| form(row).operands);
    let mut widths = widths.filter_map(|slot| slot.pattern.memory_width());
    let first = widths.next();
    widths.any(|width| Some(width) != first)
}

fn print_operand(
    text: &mut String,
    instruction: &Instruction,
    operand: &Operand,
    names: &dyn Names,
) {
    match operand {
        Operand::Reg(reg) => {
            text.push('%');
            text.push_str(reg.name());
        }
        Operand::Imm(value) => {
            text.push('$');
            text.push_str(&immediate(instruction, *value, names));
        }
        Operand::Target(value) => address(text, *value, names),
        Operand::Mem(mem) => print_memory(text, instruction, mem, names),
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

fn print_memory(text: &mut String, instruction: &Instruction, mem: &Mem, names: &dyn Names) {
    let disp = mem.disp.or_zero();
    let relative = mem.base == Some(super::RIP);
    if let Some(segment) = mem.segment {
        text.push('%');
        text.push_str(segment.name());
        text.push(':');
    }
    let named = if mem.segment.is_some() {
        None
    } else if relative {
        names.name(instruction.end().wrapping_add(disp as u64))
    } else {
        u64::try_from(disp).ok().and_then(|address| names.name(address))
    };
    let registers = mem.base.is_some() || mem.index.is_some();
    match named {
        Some(name) => text.push_str(&name),
        None if disp != 0 || !registers => text.push_str(&format_number(disp)),
        None => {}
    }
    if !registers {
        return;
    }
    // Writing to a String cannot fail.
    text.push('(');
    if let Some(base) = mem.base {
        let _ = write!(text, "%{}", base.name());
    }
    if let Some(index) = mem.index {
        let _ = write!(text, ",%{},{}", index.name(), mem.scale);
    }
    text.push(')');
}
