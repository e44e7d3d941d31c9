//! What came of a call.

use serde::{Serialize, Serializer};
use sotto_isa::Width;
use sotto_object::contract::ValueType;
use sotto_session::FaultReport;

use sotto_finding::Finding;

/// What came of a call.
#[derive(Clone, Debug, Serialize)]
pub struct CallReport {
    /// How it ended.
    pub ending: Ending,
    /// What the routine returned; empty if it did not return.
    pub results: Vec<CallResult>,
    /// The buffers and arrays that it was given, as they are afterwards, where they differ or are room.
    pub buffers: Vec<BufferAfter>,
    /// Instructions executed.
    pub instructions: u64,
    /// Memory that it accessed, without its own part of the stack.
    pub touched: Vec<TouchedMemory>,
    /// Bytes of the stack that it used.
    pub stack_bytes: u64,
    /// Registers that differ from before.
    pub changed: Vec<RegisterAfter>,
    /// What it broke.
    pub findings: Vec<Finding>,
    /// What it wrote to standard output and standard error.
    #[serde(serialize_with = "text")]
    pub output: Vec<u8>,
}

/// How a call ended.
#[derive(Clone, Debug, Serialize)]
#[serde(rename_all = "snake_case", tag = "how")]
pub enum Ending {
    /// The routine returned.
    Returned,
    /// It ended the program.
    Exited {
        /// The exit status.
        status: i32,
    },
    /// A fault ended the program.
    Fault {
        /// What happened.
        report: Box<FaultReport>,
    },
    /// It did not return within the limit.
    Limit {
        /// Instructions.
        limit: u64,
    },
    /// It waits for input, and there is none.
    NeedsInput,
    /// It waits, and nothing will end that.
    Stuck,
    /// It wants more memory than it may have.
    MemoryLimit,
}

impl Ending {
    /// Why the routine did not return, in words; `None` if it did.
    pub fn words(&self) -> Option<String> {
        Some(match self {
            Ending::Returned => return None,
            Ending::Exited { status } => format!("it ended the program with status {status}"),
            Ending::Fault { report } => report.message.clone(),
            Ending::Limit { limit } => {
                format!("it runs on after {limit} instructions (`--limit` sets how many)")
            }
            Ending::NeedsInput => "it waits for input".to_string(),
            Ending::Stuck => "it waits, and nothing will end that".to_string(),
            Ending::MemoryLimit => "it wants more memory than it may have".to_string(),
        })
    }
}

/// A value that a routine returned.
#[derive(Clone, PartialEq, Debug, Serialize)]
pub struct CallResult {
    /// Where it is.
    pub location: String,
    /// What the contract calls it; may be empty.
    pub name: String,
    /// What it is.
    #[serde(rename = "type")]
    pub kind: ValueType,
    /// Its bits.
    #[serde(serialize_with = "sotto_session::hex")]
    pub bits: u64,
    /// The value in words.
    pub value: String,
}

/// A block of memory that a routine was given.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct BufferAfter {
    /// Which argument, from 1.
    pub argument: usize,
    /// What the contract calls it; may be empty.
    pub name: String,
    /// Its bytes.
    pub bytes: Vec<u8>,
    /// Bytes of an element, for showing.
    pub element_bytes: u64,
    /// It was text, or room.
    pub is_text: bool,
    /// The call changed it.
    pub changed: bool,
}

/// Memory that a routine accessed.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct TouchedMemory {
    /// What it is: a symbol, an argument, or an address.
    pub what: String,
    /// Bytes.
    pub bytes: u64,
    /// Some of it was read.
    pub read: bool,
    /// Some of it was written.
    pub written: bool,
}

/// A register that differs from before.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct RegisterAfter {
    /// Its name.
    pub name: &'static str,
    /// Its value at the end.
    #[serde(serialize_with = "sotto_session::hex")]
    pub value: u64,
}

fn text<S: Serializer>(bytes: &[u8], serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_str(&String::from_utf8_lossy(bytes))
}

/// A value in words, as its type has it. `texts` gives the text at an address.
pub(crate) fn words(
    kind: ValueType,
    bits: u64,
    text_at: impl FnOnce(u64) -> Option<String>,
) -> String {
    match kind {
        ValueType::Unsigned(width) => {
            let value = bits & width.mask();
            let signed = width.sign_extend(value);
            match (value, signed) {
                (0..=9, _) => format!("{value}"),
                // It may be a small negative number.
                (_, -0x10_0000..0) => format!("{value} ({value:#x}, {signed})"),
                _ => format!("{value} ({value:#x})"),
            }
        }
        ValueType::Signed(width) => format!("{}", width.sign_extend(bits & width.mask())),
        ValueType::Float(Width::W32) => format!("{}", f32::from_bits(bits as u32)),
        ValueType::Float(_) => format!("{}", f64::from_bits(bits)),
        ValueType::Text => match text_at(bits) {
            Some(text) => format!("\"{text}\""),
            None => format!("{bits:#x}"),
        },
        ValueType::Address => format!("{bits:#x}"),
    }
}

impl CallResult {
    /// Whether the result is the value that is written; `None` if its type has no such value.
    pub fn is(&self, value: &str) -> Option<bool> {
        use crate::call::argument::number;
        match self.kind {
            ValueType::Float(width) => {
                let wanted: f64 = match number(value) {
                    Some(value) => value as f64,
                    None => value.parse().ok()?,
                };
                Some(match width {
                    Width::W32 => (wanted as f32).to_bits() == self.bits as u32,
                    _ => wanted.to_bits() == self.bits,
                })
            }
            ValueType::Text => {
                let plain = value.strip_prefix('"').and_then(|rest| rest.strip_suffix('"'));
                let wanted = plain.unwrap_or(value);
                Some(self.value == format!("\"{}\"", wanted.as_bytes().escape_ascii()))
            }
            ValueType::Unsigned(width) | ValueType::Signed(width) => {
                let wanted = number(value)?;
                Some(wanted as u64 & width.mask() == self.bits & width.mask())
            }
            ValueType::Address => Some(number(value)? as u64 == self.bits),
        }
    }
}
