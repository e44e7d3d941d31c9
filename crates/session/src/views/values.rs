//! Values as they can be read: in hex, signed, unsigned, binary, as a character, text, a floating-point
//! number or an address.

use serde::Serialize;
use sotto_isa::{Arch, LaneKind, Lanes, Width};
use sotto_object::DatumKind;

use crate::run::evaluate;
use crate::run::evaluate::EvaluateError;
use crate::views::places::hex;
use crate::{Session, SessionError};

/// A way to read bits.
#[derive(Copy, Clone, PartialEq, Eq, Debug, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Reading {
    /// In hex, with all digits.
    Hex,
    /// A two's complement number.
    Signed,
    /// A number.
    Unsigned,
    /// In binary, in groups of four.
    Binary,
    /// A character of ASCII.
    Character,
    /// Characters up to a zero byte.
    Text,
    /// A floating-point number.
    Float,
    /// An address, with the symbol and the distance from it.
    Address,
}

/// How to show a value: how wide, and read in which way. Both by default as it was declared.
#[derive(Copy, Clone, PartialEq, Eq, Debug, Default)]
pub struct Format {
    /// How wide an element is.
    pub width: Option<Width>,
    /// How it is read.
    pub reading: Option<Reading>,
}

const READINGS: &[(&str, Reading)] = &[
    ("hex", Reading::Hex),
    ("signed", Reading::Signed),
    ("unsigned", Reading::Unsigned),
    ("binary", Reading::Binary),
    ("character", Reading::Character),
    ("text", Reading::Text),
    ("float", Reading::Float),
    ("address", Reading::Address),
];

/// The words of a format, for help and completion.
pub fn format_words(arch: Arch) -> Vec<&'static str> {
    let widths = [Width::W8, Width::W16, Width::W32, Width::W64];
    let widths = widths.into_iter().map(|width| arch.width_word(width));
    widths.chain(READINGS.iter().map(|(word, _)| *word)).collect()
}

impl Format {
    /// A format as it is typed: a width by the machine's word, a reading, or both (`dword`, `signed`, `dword signed`),
    /// or a letter and bits: `i32`, `u8`, `x64`, `f32`.
    ///
    /// # Errors
    ///
    /// The formats there are, if it is none.
    pub fn parse(text: &str, arch: Arch) -> Result<Format, String> {
        let mut format = Format::default();
        for word in text.split_whitespace() {
            let lower = word.to_ascii_lowercase();
            let reading = READINGS
                .iter()
                .find(|(known, _)| lower.len() >= 3 && known.starts_with(&lower))
                .map(|(_, reading)| *reading);
            let width = arch.width_by_word(&lower).filter(|width| *width != Width::W128);
            let short = lower.split_at_checked(1).and_then(|(letter, bits)| {
                let reading = match letter {
                    "i" => Reading::Signed,
                    "u" => Reading::Unsigned,
                    "x" => Reading::Hex,
                    "f" => Reading::Float,
                    _ => return None,
                };
                Some((reading, Width::from_bytes(bits.parse::<u64>().ok()? / 8)?))
            });
            match (width, short, reading) {
                (Some(width), ..) => format.width = Some(width),
                (_, Some((reading, width)), _) => {
                    format = Format { width: Some(width), reading: Some(reading) };
                }
                (.., Some(reading)) => format.reading = Some(reading),
                _ => {
                    let words = format_words(arch).join(", ");
                    return Err(format!("no format `{word}`; there are {words}, and i32, u8, x16"));
                }
            }
        }
        Ok(format)
    }
}

/// A value in every reading that it has.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct Readings {
    /// Its bits.
    pub bits: u32,
    /// In hex.
    pub hex: String,
    /// As a two's complement number.
    pub signed: String,
    /// As a number.
    pub unsigned: String,
    /// In binary.
    pub binary: String,
    /// As a character, if it is one that shows.
    pub character: Option<String>,
    /// As a floating-point number, if it is as wide as one.
    pub float: Option<String>,
    /// As an address, if there is a symbol.
    pub address: Option<String>,
}

/// A line of memory.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct MemoryLine {
    /// The address of the first element.
    #[serde(serialize_with = "hex")]
    pub address: u64,
    /// The place in words; empty if there is no symbol.
    pub name: String,
    /// How they are read.
    pub reading: Reading,
    /// The elements.
    pub values: Vec<String>,
    /// Bytes as characters, with dots for those that do not show; for bytes alone.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
}

/// Elements that are shown at most.
const MOST: u64 = 4096;

/// A value of a width, read in one way.
pub fn read_as(reading: Reading, value: u64, width: Width) -> String {
    let value = value & width.mask();
    let digits = width.bytes() as usize * 2;
    match reading {
        Reading::Hex | Reading::Address => format!("0x{value:0digits$x}"),
        Reading::Signed => width.sign_extend(value).to_string(),
        Reading::Unsigned => value.to_string(),
        Reading::Binary => {
            let bits = format!("{value:0bits$b}", bits = width.bits() as usize);
            let groups: Vec<&str> =
                (0..bits.len()).step_by(4).map(|at| &bits[at..at + 4]).collect();
            groups.join("_")
        }
        Reading::Character | Reading::Text => match u8::try_from(value) {
            Ok(byte) => format!("'{}'", byte.escape_ascii()),
            Err(_) => format!("{value:#x}"),
        },
        Reading::Float => match width {
            Width::W32 | Width::W64 => Lanes::new(LaneKind::Float, width).element_text(value),
            _ => format!("{value:#x}"),
        },
    }
}

/// The elements of a vector in a format, the lowest first; without a format all of it in hex.
fn elements(value: u128, bits: u32, format: Format) -> String {
    let reading = format.reading.unwrap_or(Reading::Hex);
    let Some(width) = format.width.or((reading == Reading::Float).then_some(Width::W32)) else {
        return match reading {
            Reading::Unsigned => value.to_string(),
            Reading::Signed => (value as i128).to_string(),
            _ => format!("{value:#x}"),
        };
    };
    let shown = (0..bits / width.bits()).map(|number| {
        let element = (value >> (number * width.bits())) as u64;
        read_as(reading, element, width)
    });
    shown.collect::<Vec<String>>().join(", ")
}

impl Session {
    /// A value in every reading that it has.
    pub fn readings(&self, value: u64, width: Width) -> Readings {
        let value = value & width.mask();
        let text = |reading| read_as(reading, value, width);
        let shows = u8::try_from(value).is_ok_and(|byte| (0x20..0x7f).contains(&byte));
        let is_float = matches!(width, Width::W32 | Width::W64);
        Readings {
            bits: width.bits(),
            hex: text(Reading::Hex),
            signed: text(Reading::Signed),
            unsigned: text(Reading::Unsigned),
            binary: text(Reading::Binary),
            character: shows.then(|| text(Reading::Character)),
            float: is_float.then(|| text(Reading::Float)),
            address: self.place(value).symbol_name(),
        }
    }

    /// The value of an expression in a format; its own width by default.
    ///
    /// # Errors
    ///
    /// If it has no value now.
    pub fn show(&mut self, text: &str, format: Format) -> Result<String, EvaluateError> {
        let evaluated = self.evaluate(text)?;
        if let Some(bits) = evaluated.width.map(Width::bits).filter(|bits| *bits > 64) {
            return Ok(elements(evaluated.value as u128, bits, format));
        }
        let width = format.width.or(evaluated.width).unwrap_or(Width::W64);
        let value = evaluated.value as u64;
        Ok(match format.reading.unwrap_or(Reading::Hex) {
            Reading::Text => self.text_at(value),
            Reading::Address => match self.place(value).symbol_name() {
                Some(name) => format!("{value:#x} = {name}"),
                None => format!("{value:#x}"),
            },
            reading => read_as(reading, value, width),
        })
    }

    /// The characters from an address up to a zero byte, quoted.
    fn text_at(&mut self, address: u64) -> String {
        const LONGEST: u64 = 256;
        let mut text = String::from("\"");
        for at in address..address.saturating_add(LONGEST) {
            match self.system.machine.memory_mut().read::<1>(at) {
                Ok([0]) => return text + "\"",
                Ok([byte]) => text.extend(byte.escape_ascii().map(char::from)),
                Err(_) if at == address => return format!("{address:#x} cannot be read"),
                Err(_) => return text + "\", up to where memory cannot be read",
            }
        }
        text + "\"..."
    }

    /// Memory from a place on, in lines of `line_bytes` bytes: as it was declared unless a count or a format
    /// says otherwise.
    ///
    /// # Errors
    ///
    /// If the place has no value, or memory there cannot be read.
    pub fn memory_lines(
        &mut self,
        place: &str,
        count: Option<u64>,
        format: Format,
        line_bytes: u64,
    ) -> Result<Vec<MemoryLine>, SessionError> {
        let address = self.evaluate(place)?.value as u64;
        let declared = self.image.symbol(place.trim()).and_then(|symbol| symbol.datum);
        let width = format.width.or_else(|| self.declared_width(place)).unwrap_or(Width::W8);
        let reading = format.reading.unwrap_or(match declared.map(|datum| datum.kind) {
            Some(DatumKind::Float) if format.width.is_none() => Reading::Float,
            _ => Reading::Hex,
        });
        if reading == Reading::Text {
            let (name, values) = (
                self.place(address).symbol_name().unwrap_or_default(),
                vec![self.text_at(address)],
            );
            return Ok(vec![MemoryLine { address, name, reading, values, text: None }]);
        }
        let whole = declared.filter(|_| format.width.is_none()).map(|datum| datum.count);
        let count = count.or(whole).unwrap_or(16).clamp(1, MOST);
        let per_line = (line_bytes / width.bytes()).max(1);
        let per_line = match reading {
            Reading::Binary | Reading::Address => (per_line / 4).max(1),
            _ => per_line,
        };
        let mut lines = Vec::new();
        for first in (0..count).step_by(per_line as usize) {
            let start = address.wrapping_add(first * width.bytes());
            let elements = per_line.min(count - first);
            let mut bytes = vec![0; (elements * width.bytes()) as usize];
            self.system
                .machine
                .memory_mut()
                .read_bytes(start, &mut bytes)
                .map_err(|fault| EvaluateError::Unreadable(fault.address))?;
            let values = bytes
                .chunks(width.bytes() as usize)
                .map(|element| {
                    let mut all = [0; 8];
                    all[..element.len()].copy_from_slice(element);
                    let value = u64::from_le_bytes(all);
                    match (reading, self.place(value).symbol_name()) {
                        (Reading::Address, Some(name)) => format!("{value:#x} = {name}"),
                        _ => read_as(reading, value, width),
                    }
                })
                .collect();
            let shown = |byte: &u8| match byte {
                0x20..=0x7e => *byte as char,
                _ => '.',
            };
            let is_bytes = width == Width::W8 && reading == Reading::Hex;
            let text = is_bytes.then(|| bytes.iter().map(shown).collect());
            let name = self.place(start).symbol_name().unwrap_or_default();
            lines.push(MemoryLine { address: start, name, reading, values, text });
        }
        Ok(lines)
    }

    /// The value of a parsed expression now.
    pub(crate) fn evaluate_expr(
        &mut self,
        expr: &sotto_asm::Expr,
    ) -> Result<evaluate::Evaluated, EvaluateError> {
        evaluate::value(&self.image, &mut self.system, expr)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_value_is_read_in_every_way() {
        let cases = [
            (Reading::Hex, 0xfe, Width::W8, "0xfe"),
            (Reading::Signed, 0xfe, Width::W8, "-2"),
            (Reading::Unsigned, 0xfffe, Width::W8, "254"),
            (Reading::Binary, 0xa5, Width::W8, "1010_0101"),
            (Reading::Character, 0x41, Width::W8, "'A'"),
            (Reading::Character, 0x0a, Width::W8, "'\\n'"),
            (Reading::Float, 0x3fc0_0000, Width::W32, "1.5"),
            (Reading::Hex, 5, Width::W32, "0x00000005"),
        ];
        for (reading, value, width, wanted) in cases {
            assert_eq!(read_as(reading, value, width), wanted);
        }
    }

    #[test]
    fn formats_are_widths_readings_or_both() {
        let format = |text: &str| Format::parse(text, Arch::X86_64);
        let (width, reading) = (Some(Width::W32), Some(Reading::Signed));
        assert_eq!(format("dword signed"), Ok(Format { width, reading }));
        assert_eq!(format("i32"), Ok(Format { width, reading }));
        // A word is as wide as what `.word` lays down.
        let words = ["byte", "hword", "word", "xword"]
            .map(|word| Format::parse(word, Arch::Arm64).unwrap().width);
        assert_eq!(words.map(|width| width.unwrap().bytes()), [1, 2, 4, 8]);
        assert_eq!(format("sig"), Ok(Format { width: None, reading }));
        assert!(format("tide").unwrap_err().starts_with("no format `tide`; there are byte, word"));
    }
}
