//! An address of a program in words.

use std::sync::Arc;

use serde::Serialize;

/// An address in words.
#[derive(Clone, PartialEq, Eq, Debug, Default, Serialize)]
pub struct Place {
    /// The address.
    #[serde(serialize_with = "hex")]
    pub address: u64,
    /// The nearest symbol at or below it, in the same part of memory.
    pub symbol: Option<Arc<str>>,
    /// Bytes from the symbol to the address.
    pub offset: u64,
    /// The dotted label between the two, if there is one: the last.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub label: Option<Arc<str>>,
    /// Bytes from that label to the address.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub label_offset: Option<u64>,
    /// The shared object that it is in, where it is not the program itself.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub module: Option<Arc<str>>,
    /// Bytes from the start of that to the address.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub module_offset: Option<u64>,
    /// The source file, if lines are known.
    pub file: Option<Arc<str>>,
    /// The line in it, from 1.
    pub line: Option<u32>,
    /// The text of the line, without surrounding blanks.
    pub source: Option<Arc<str>>,
}

/// Writes a 64-bit value as a hexadecimal string, since many readers of JSON lose bits above 2^53.
///
/// # Errors
///
/// Those of the serializer.
pub fn hex<S: serde::Serializer>(value: &u64, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_str(&format!("{value:#x}"))
}

impl Place {
    /// The dotted label or the symbol, with the distance if there is one: `lamp`, `lamp + 4`, `.next`.
    pub fn name(&self) -> Option<String> {
        let (name, offset) = match (&self.label, self.label_offset) {
            (Some(label), Some(offset)) => (label, offset),
            _ => (self.symbol.as_ref()?, self.offset),
        };
        Some(with_offset(name, offset))
    }

    /// The same by the symbol alone, for readers who look at another routine, to whom its dotted labels say little.
    pub fn symbol_name(&self) -> Option<String> {
        Some(with_offset(self.symbol.as_ref()?, self.offset))
    }

    /// Whether the line is one of a compiled language, of which one becomes several instructions.
    pub fn is_compiled(&self) -> bool {
        const ASSEMBLY: [&str; 4] = [".s", ".S", ".asm", ".inc"];
        let file = self.file.as_deref();
        file.is_some_and(|file| !ASSEMBLY.iter().any(|ending| file.ends_with(ending)))
    }

    /// The address itself, with the shared object that it is in.
    pub fn address_in_module(&self) -> String {
        match &self.module {
            Some(module) => format!("{:#x}, {module}", self.address),
            None => format!("{:#x}", self.address),
        }
    }

    /// `file:line`, if the line is known; else the shared object that it is in, with the distance from its start where no symbol
    /// tells more.
    pub fn location(&self) -> Option<String> {
        if let (Some(file), Some(line)) = (&self.file, self.line) {
            return Some(format!("{file}:{line}"));
        }
        let module = self.module.as_ref()?;
        match (&self.symbol, self.module_offset) {
            (None, Some(offset)) => Some(format!("{module} + {offset:#x}")),
            _ => Some(module.to_string()),
        }
    }
}

/// A name with a distance from it: `lamp`, `lamp + 4`.
pub fn with_offset(name: &str, offset: u64) -> String {
    match offset {
        0 => name.to_string(),
        offset => format!("{name} + {offset}"),
    }
}
