//! Arguments as they are typed.

use sotto_isa::{Arch, Reg, Width};

/// An argument of a routine.
#[derive(Clone, PartialEq, Debug)]
pub enum Argument {
    /// A number, or a character's code.
    Number(i128),
    /// A floating-point number.
    Float(f64),
    /// Text, which is placed in memory with a zero behind it.
    Text(Vec<u8>),
    /// Elements beside each other, which are placed in memory.
    Array(Vec<u8>, Element),
    /// So many bytes of room in memory, which start as zeros.
    Buffer(u64),
    /// The contents of a file, which are placed in memory.
    File(String),
    /// Bytes that were read from a file.
    Bytes(Vec<u8>),
    /// A value for a register outside the convention.
    Register(Reg, i128),
}

/// The elements of an array.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Element {
    /// Integers.
    Integer(Width),
    /// Floating-point numbers.
    Float(Width),
}

/// What is wrong with an argument.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[error("`{argument}`: {message}")]
pub struct ArgumentError {
    /// The argument as it was typed.
    pub argument: String,
    /// What is wrong.
    pub message: String,
    /// What to write.
    pub help: String,
}

/// No buffer may be larger.
const MAX_BUFFER_BYTES: u64 = 1 << 28;

/// The suffixes of arrays.
const ELEMENTS: [(&str, Element); 10] = [
    ("1byte", Element::Integer(Width::W8)),
    ("2byte", Element::Integer(Width::W16)),
    ("4byte", Element::Integer(Width::W32)),
    ("8byte", Element::Integer(Width::W64)),
    ("byte", Element::Integer(Width::W8)),
    ("i32", Element::Integer(Width::W32)),
    ("u32", Element::Integer(Width::W32)),
    ("u64", Element::Integer(Width::W64)),
    ("f32", Element::Float(Width::W32)),
    ("f64", Element::Float(Width::W64)),
];

impl Argument {
    /// Reads an argument: `-5`, `0x1f`, `'a'`, `1.5`, `"ebb"`, `[1,2,3]:4byte`, `buffer:64`, `file:PATH`, `eax=7`; any other
    /// word is text.
    ///
    /// # Errors
    ///
    /// What looks like one of these and is none.
    pub fn parse(arch: Arch, text: &str) -> Result<Argument, ArgumentError> {
        let wrong = |message: String, help: &str| ArgumentError {
            argument: text.to_string(),
            message,
            help: help.to_string(),
        };
        if let Some((name, value)) = text.split_once('=')
            && let Some(reg) = Reg::parse(arch, name)
        {
            if reg.storage().is_none() || reg.storage() == Some(arch.stack_pointer()) {
                return Err(wrong(
                    format!("`{name}` is not set by hand"),
                    "give a general register a value: `eax=7`",
                ));
            }
            let value = number(value)
                .ok_or_else(|| wrong(format!("`{value}` is no number"), "write `eax=7`"))?;
            if !fits(value, reg.width()) {
                let message =
                    format!("`{value}` does not fit; {name} has {} bits", reg.width().bits());
                return Err(wrong(message, "give a value that the register holds"));
            }
            return Ok(Argument::Register(reg, value));
        }
        if let Some(rest) = text.strip_prefix("buffer:") {
            let size = number(rest).and_then(|size| u64::try_from(size).ok());
            let fits = size.filter(|size| (1..=MAX_BUFFER_BYTES).contains(size));
            return fits.map(Argument::Buffer).ok_or_else(|| {
                wrong(format!("a buffer has 1 to {MAX_BUFFER_BYTES} bytes"), "write `buffer:64`")
            });
        }
        if let Some(path) = text.strip_prefix("file:") {
            return Ok(Argument::File(path.to_string()));
        }
        if let Some(rest) = text.strip_prefix('[') {
            return array(rest)
                .map_err(|message| wrong(message, "write `[1,2,3]:4byte`; the suffixes are 1byte, 2byte, 4byte, 8byte, f32 and f64"));
        }
        if let Some(rest) = text.strip_prefix('"') {
            let inner = rest.strip_suffix('"').ok_or_else(|| {
                wrong("the text has no closing quote".to_string(), "write `\"ebb\"`")
            })?;
            return Ok(Argument::Text(inner.as_bytes().to_vec()));
        }
        if let Some(value) = number(text) {
            if !fits(value, Width::W64) {
                return Err(wrong(
                    "the number has more than 64 bits".to_string(),
                    "give a smaller one",
                ));
            }
            return Ok(Argument::Number(value));
        }
        let digits = text.trim_start_matches('-').starts_with(|c: char| c.is_ascii_digit());
        if digits && let Ok(value) = text.parse() {
            return Ok(Argument::Float(value));
        }
        Ok(Argument::Text(text.as_bytes().to_vec()))
    }
}

/// Whether a number fits a width, signed or unsigned.
pub(crate) fn fits(value: i128, width: Width) -> bool {
    let bits = width.bits().min(64);
    (-(1i128 << (bits - 1))..1i128 << bits).contains(&value)
}

/// `-5`, `0x1f`, `0b101`, `0o17`, `1_000`, `'a'`.
pub(crate) fn number(text: &str) -> Option<i128> {
    if let Some(inner) = text.strip_prefix('\'') {
        let mut characters = inner.strip_suffix('\'')?.chars();
        let (character, rest) = (characters.next()?, characters.next());
        return rest.is_none().then_some(character as i128);
    }
    let (negative, digits) = match text.strip_prefix('-') {
        Some(rest) => (true, rest),
        None => (false, text.strip_prefix('+').unwrap_or(text)),
    };
    let (radix, digits) = match digits.get(..2) {
        Some("0x" | "0X") => (16, &digits[2..]),
        Some("0b" | "0B") => (2, &digits[2..]),
        Some("0o") => (8, &digits[2..]),
        _ => (10, digits),
    };
    if digits.starts_with(['-', '+', '_']) || digits.is_empty() {
        return None;
    }
    let value = i128::from_str_radix(&digits.replace('_', ""), radix).ok()?;
    Some(if negative { -value } else { value })
}

/// `1,2,3]:4byte`, behind the bracket.
fn array(text: &str) -> Result<Argument, String> {
    let (inner, suffix) = text.split_once(']').ok_or("the array has no closing bracket")?;
    let element = match suffix.strip_prefix(':') {
        Some(name) => {
            let known = ELEMENTS.iter().find(|(known, _)| *known == name);
            known.map(|(_, element)| *element).ok_or(format!("`{name}` is no width"))?
        }
        None => return Err("nothing says how wide the elements are".to_string()),
    };
    let mut bytes = Vec::new();
    for item in inner.split(',').map(str::trim).filter(|item| !item.is_empty()) {
        match element {
            Element::Integer(width) => {
                let value = number(item).ok_or(format!("`{item}` is no number"))?;
                if !fits(value, width) {
                    return Err(format!("{item} does not fit into {} bytes", width.bytes()));
                }
                bytes.extend(&(value as u128).to_le_bytes()[..width.bytes() as usize]);
            }
            Element::Float(width) => {
                let value: f64 = item.parse().map_err(|_| format!("`{item}` is no number"))?;
                match width {
                    Width::W32 => bytes.extend((value as f32).to_le_bytes()),
                    _ => bytes.extend(value.to_le_bytes()),
                }
            }
        }
    }
    Ok(Argument::Array(bytes, element))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_kind_of_argument_is_read() {
        let parse = |text: &str| Argument::parse(Arch::X86_64, text).unwrap();
        let eax = Reg::parse(Arch::X86_64, "eax").unwrap();
        let cases = [
            ("-5", Argument::Number(-5)),
            ("0x1f", Argument::Number(31)),
            ("0b101", Argument::Number(5)),
            ("1_000", Argument::Number(1000)),
            ("'a'", Argument::Number(97)),
            ("18446744073709551615", Argument::Number(u64::MAX.into())),
            ("1.5", Argument::Float(1.5)),
            ("-2e3", Argument::Float(-2000.0)),
            ("ebb", Argument::Text(b"ebb".to_vec())),
            ("\"7\"", Argument::Text(b"7".to_vec())),
            ("buffer:64", Argument::Buffer(64)),
            ("file:log.txt", Argument::File("log.txt".into())),
            ("eax=7", Argument::Register(eax, 7)),
            ("tide=7", Argument::Text(b"tide=7".to_vec())),
            ("[1,-1]:2byte", Argument::Array(vec![1, 0, 0xff, 0xff], Element::Integer(Width::W16))),
            ("[1.5]:f32", Argument::Array(vec![0, 0, 0xc0, 0x3f], Element::Float(Width::W32))),
        ];
        for (text, wanted) in cases {
            assert_eq!(parse(text), wanted, "{text}");
        }
    }

    #[test]
    fn what_is_nearly_an_argument_is_told() {
        for (text, message) in [
            ("[1,2]", "nothing says how wide the elements are"),
            ("[1,2", "the array has no closing bracket"),
            ("[300]:1byte", "300 does not fit into 1 bytes"),
            ("[x]:4byte", "`x` is no number"),
            ("buffer:0", "a buffer has 1 to 268435456 bytes"),
            ("al=256", "`256` does not fit; al has 8 bits"),
            ("eax=x", "`x` is no number"),
            ("rsp=1", "`rsp` is not set by hand"),
            ("\"ebb", "the text has no closing quote"),
            ("0x1ffffffffffffffff", "the number has more than 64 bits"),
        ] {
            let error = Argument::parse(Arch::X86_64, text).unwrap_err();
            assert_eq!(error.message, message, "{text}");
        }
    }
}
