//! Contracts: what a routine takes, returns, changes and keeps, as its source says in comments.
//!
//! A contract is lines of text, which programs and objects carry as they were written (see [`SECTION`]), and what they
//! say. The lines, without their comment marks:
//!
//! ```text
//! mean of a table of tide readings
//! takes    rdi = table: address, esi = count: u32
//! returns  eax = mean
//! changes  rcx, rdx
//! keeps    r8, flags
//! ```
//!
//! A line that begins with none of the four words is a part of the summary.

use std::ops::Range;

use serde::{Serialize, Serializer};
pub use sotto_isa::Location;
use sotto_isa::{Arch, Reg, RegKind, Width};

/// The section of objects and programs that holds contracts. It is not loaded.
///
/// Records follow each other without gaps. Each is the routine's address, as wide as addresses of the machine, then
/// the number of bytes of the text as four bytes, then the text, whose lines end with a line feed; all little-endian.
/// In an object the address is a field with a relocation.
pub const SECTION: &str = ".sotto.contracts";

/// What a routine promises.
#[derive(Clone, PartialEq, Eq, Debug, Default, Serialize)]
pub struct Contract {
    /// What the routine is for, in the words of its source; may be empty.
    pub summary: String,
    /// Values that it is given.
    pub takes: Vec<Value>,
    /// Values that it gives back.
    pub returns: Vec<Value>,
    /// Registers that it may change beside those.
    pub changes: Vec<Register>,
    /// Registers that come back as they were, although the convention would let them change.
    pub keeps: Vec<Register>,
    /// The flags come back as they were.
    pub keeps_flags: bool,
}

/// A register in a contract.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct Register(pub Reg);

impl Serialize for Register {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.0.name())
    }
}

/// A value that a routine takes or returns.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct Value {
    /// Where it is.
    pub location: Location,
    /// What the contract calls it; may be empty.
    pub name: String,
    /// What it is.
    #[serde(rename = "type")]
    pub kind: ValueType,
}

/// What a value is.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum ValueType {
    /// A number without a sign.
    Unsigned(Width),
    /// A number with a sign.
    Signed(Width),
    /// A floating-point number.
    Float(Width),
    /// The address of text that ends with a zero.
    Text,
    /// An address.
    Address,
}

/// The names of the types.
const TYPES: [(&str, ValueType); 12] = [
    ("u8", ValueType::Unsigned(Width::W8)),
    ("u16", ValueType::Unsigned(Width::W16)),
    ("u32", ValueType::Unsigned(Width::W32)),
    ("u64", ValueType::Unsigned(Width::W64)),
    ("i8", ValueType::Signed(Width::W8)),
    ("i16", ValueType::Signed(Width::W16)),
    ("i32", ValueType::Signed(Width::W32)),
    ("i64", ValueType::Signed(Width::W64)),
    ("f32", ValueType::Float(Width::W32)),
    ("f64", ValueType::Float(Width::W64)),
    ("text", ValueType::Text),
    ("address", ValueType::Address),
];

impl ValueType {
    /// The type's name, as contracts write it.
    pub fn name(self) -> &'static str {
        TYPES.iter().find(|(_, kind)| *kind == self).map_or("u128", |(name, _)| name)
    }

    /// The names that there are.
    pub fn names() -> impl Iterator<Item = &'static str> {
        TYPES.iter().map(|(name, _)| *name)
    }

    /// How wide a value is in a program for a machine.
    pub fn width(self, arch: Arch) -> Width {
        match self {
            ValueType::Unsigned(width) | ValueType::Signed(width) | ValueType::Float(width) => {
                width
            }
            ValueType::Text | ValueType::Address => arch.address_width(),
        }
    }
}

impl Serialize for ValueType {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.name())
    }
}

/// What is wrong with a line of a contract.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[error("{message}")]
pub struct ContractError {
    /// The line, from 0.
    pub line: usize,
    /// The bytes of the line that are wrong.
    pub range: Range<usize>,
    /// The thing, and what is wrong with it.
    pub message: String,
    /// What to write instead, when it is known.
    pub help: Option<String>,
    /// What was written, and the words that it may be a slip of.
    pub misspelt: Option<(String, Vec<String>)>,
}

/// The words that begin a clause.
pub const CLAUSES: [&str; 4] = ["takes", "returns", "changes", "keeps"];

/// Names that a machine's contracts use beside registers.
const FLAGS: &str = "flags";

impl Contract {
    /// Reads the lines of a contract, without their comment marks.
    ///
    /// # Errors
    ///
    /// The first mistake of each line.
    pub fn parse<'a>(
        arch: Arch,
        lines: impl IntoIterator<Item = &'a str>,
    ) -> Result<Contract, Vec<ContractError>> {
        let mut contract = Contract::default();
        let mut errors = Vec::new();
        for (number, line) in lines.into_iter().enumerate() {
            if let Err(error) = contract.add_line(arch, line) {
                errors.push(ContractError { line: number, ..error });
            }
        }
        if errors.is_empty() { Ok(contract) } else { Err(errors) }
    }

    fn add_line(&mut self, arch: Arch, line: &str) -> Result<(), ContractError> {
        let start = line.len() - line.trim_start().len();
        let text = line.trim();
        let end = text.find(char::is_whitespace).unwrap_or(text.len());
        let (word, rest) = text.split_at(end);
        let rest_at = start + end;
        match word {
            "takes" => {
                for item in items(rest, rest_at) {
                    let value = value(arch, &item)?;
                    not_twice(&self.takes, &value, &item)?;
                    self.takes.push(value);
                }
            }
            "returns" => {
                for item in items(rest, rest_at) {
                    let value = value(arch, &item)?;
                    not_twice(&self.returns, &value, &item)?;
                    if let Location::Register(reg) = value.location {
                        not_under("changes", &self.changes, reg, &item)?;
                    }
                    self.returns.push(value);
                }
            }
            "changes" => {
                // Flags are free unless they are kept.
                for item in items(rest, rest_at).filter(|item| !names_flags(arch, item.text)) {
                    let reg = self.listed(&self.changes, arch, &item)?;
                    not_under("keeps", &self.keeps, reg, &item)?;
                    self.changes.push(Register(reg));
                }
            }
            "keeps" => {
                for item in items(rest, rest_at) {
                    if names_flags(arch, item.text) {
                        self.keeps_flags = true;
                        continue;
                    }
                    let reg = self.listed(&self.keeps, arch, &item)?;
                    not_under("changes", &self.changes, reg, &item)?;
                    self.keeps.push(Register(reg));
                }
            }
            _ if looks_like_clause(arch, rest) => {
                let known = CLAUSES.iter().map(|clause| (*clause).to_string()).collect();
                let message = format!("`{word}` is no clause of a contract");
                return Err(ContractError {
                    line: 0,
                    range: start..rest_at,
                    message,
                    help: Some("the clauses are takes, returns, changes and keeps".to_string()),
                    misspelt: Some((word.to_string(), known)),
                });
            }
            _ => {
                if !self.summary.is_empty() && !text.is_empty() {
                    self.summary.push(' ');
                }
                self.summary.push_str(text);
            }
        }
        Ok(())
    }

    /// A register under `changes` or `keeps`, which stands there once and is no result.
    fn listed(&self, own: &[Register], arch: Arch, item: &Item) -> Result<Reg, ContractError> {
        let reg = register(arch, item)?;
        if own.iter().any(|known| same_register(known.0, reg)) {
            return Err(item.error(format!("`{}` stands here twice", item.text)));
        }
        let returned = self
            .returns
            .iter()
            .any(|value| matches!(value.location, Location::Register(r) if same_register(r, reg)));
        if returned {
            let message = format!("`{}` is under `returns` already", item.text);
            return Err(item.error(message).help("leave it under `returns` alone"));
        }
        Ok(reg)
    }

    /// The registers that may differ when the routine returns: those under `returns` and `changes`.
    pub fn may_change(&self, reg: Reg) -> bool {
        let returned = self.returns.iter().filter_map(|value| match value.location {
            Location::Register(reg) => Some(reg),
            Location::Stack(_) => None,
        });
        returned.chain(self.changes.iter().map(|reg| reg.0)).any(|known| same_register(known, reg))
    }
}

/// Refuses a value whose location or name the clause has already.
fn not_twice(own: &[Value], value: &Value, item: &Item) -> Result<(), ContractError> {
    let twice = own.iter().any(|known| {
        overlap(known.location, value.location)
            || (!value.name.is_empty() && known.name == value.name)
    });
    match twice {
        true => Err(item.error(format!("`{}` stands here twice", item.text))),
        false => Ok(()),
    }
}

/// Refuses a register that another clause lists.
fn not_under(
    clause: &str,
    listed: &[Register],
    reg: Reg,
    item: &Item,
) -> Result<(), ContractError> {
    if !listed.iter().any(|known| same_register(known.0, reg)) {
        return Ok(());
    }
    let message = format!("`{}` is under `{clause}` already", item.text);
    Err(item.error(message).help("leave it under one of the two clauses"))
}

/// Whether both names are of one register, or of its parts.
fn same_register(a: Reg, b: Reg) -> bool {
    match (a.storage(), b.storage()) {
        (Some(a), Some(b)) => a == b,
        (None, None) => a.id().is_some() && a.id() == b.id(),
        _ => false,
    }
}

fn overlap(a: Location, b: Location) -> bool {
    match (a, b) {
        (Location::Register(a), Location::Register(b)) => same_register(a, b),
        (Location::Stack(a), Location::Stack(b)) => a == b,
        _ => false,
    }
}

/// A part of a clause between commas.
struct Item<'a> {
    text: &'a str,
    at: usize,
}

impl Item<'_> {
    fn error(&self, message: impl Into<String>) -> ContractError {
        ContractError {
            line: 0,
            range: self.at..self.at + self.text.len(),
            message: message.into(),
            help: None,
            misspelt: None,
        }
    }
}

impl ContractError {
    fn help(mut self, help: impl Into<String>) -> ContractError {
        self.help = Some(help.into());
        self
    }
}

fn items(text: &str, at: usize) -> impl Iterator<Item = Item<'_>> {
    let mut start = 0;
    let nothing = matches!(text.trim(), "nothing" | "none" | "");
    text.split(',').filter(move |_| !nothing).map(move |part| {
        let at = at + start + (part.len() - part.trim_start().len());
        start += part.len() + 1;
        Item { text: part.trim(), at }
    })
}

/// `flags`, or the name of a flag.
fn names_flags(arch: Arch, text: &str) -> bool {
    let same = |name: &str| name.eq_ignore_ascii_case(text);
    same(FLAGS) || same(arch.flags_register().0) || arch.flags().iter().any(|f| same(f.name))
}

/// Whether the rest of a line is a list of registers, so that the word before it was meant as a clause.
fn looks_like_clause(arch: Arch, rest: &str) -> bool {
    let mut parts = rest.split(',').map(|part| part.split('=').next().unwrap_or("").trim());
    let registers = parts.clone().filter(|part| Reg::parse(arch, part).is_some()).count();
    registers > 0 && parts.all(|part| Reg::parse(arch, part).is_some())
}

fn register(arch: Arch, item: &Item) -> Result<Reg, ContractError> {
    let known = Reg::parse(arch, item.text).filter(|reg| {
        let special = matches!(reg.kind, RegKind::Ip | RegKind::Segment);
        !special && reg.storage() != Some(arch.stack_pointer())
    });
    known.ok_or_else(|| {
        if item.text.is_empty() {
            return item.error("a register is missing here");
        }
        if Reg::parse(arch, item.text).is_some() {
            let message = format!("`{}` holds no value of a contract", item.text);
            return item.error(message).help("name registers that hold numbers or addresses");
        }
        let names = arch.register_names().into_iter().map(str::to_string).collect();
        ContractError {
            misspelt: Some((item.text.to_string(), names)),
            ..item
                .error(format!("`{}` is no register of {arch}", item.text))
                .help("write `register = name`, separated by commas, or `[stack + 8] = name`; prose belongs on a line above")
        }
    })
}

/// `rdi = table: address`
fn value(arch: Arch, item: &Item) -> Result<Value, ContractError> {
    let (place, rest) = match item.text.split_once('=') {
        Some((place, rest)) => (place, Some(rest)),
        None => (item.text, None),
    };
    let place_item = Item { text: place.trim_end(), at: item.at };
    let location = match stack_offset(arch, place_item.text) {
        Some(offset) => Location::Stack(offset),
        None => Location::Register(register(arch, &place_item)?),
    };
    let (name, kind) =
        match rest.map(|rest| rest.split_once(':').map_or((rest, None), |(n, k)| (n, Some(k)))) {
            Some((name, kind)) => (name.trim(), kind),
            None => ("", None),
        };
    let is_name = |c: char| c.is_alphanumeric() || matches!(c, '_' | '.' | '-' | '$');
    if let Some(wrong) = name.find(|c: char| !is_name(c)) {
        let at = item.at + item.text.find(name).unwrap_or(0);
        return Err(Item { text: &name[wrong..], at: at + wrong }
            .error(format!("`{name}` is no name"))
            .help("write `register = name` or `register = name: type`, separated by commas"));
    }
    let kind = match kind {
        None => default_type(arch, location),
        Some(text) => {
            let at = item.at + item.text.len() - text.trim_start().len();
            let typed = Item { text: text.trim(), at };
            let known = TYPES.iter().find(|(name, _)| *name == typed.text);
            let Some((_, kind)) = known else {
                let list: Vec<&str> = ValueType::names().collect();
                return Err(ContractError {
                    misspelt: Some((
                        typed.text.to_string(),
                        list.iter().map(|n| (*n).to_string()).collect(),
                    )),
                    ..typed
                        .error(format!("`{}` is no type", typed.text))
                        .help(format!("the types are {}", list.join(", ")))
                });
            };
            if let Location::Register(reg) = location
                && kind.width(arch).bytes() > reg.width().bytes()
            {
                let message = format!(
                    "`{}` has {} bits, and {} needs {}",
                    reg.name(),
                    reg.width().bits(),
                    typed.text,
                    kind.width(arch).bits()
                );
                return Err(typed.error(message));
            }
            *kind
        }
    };
    Ok(Value { location, name: name.to_string(), kind })
}

/// What a value without a type is: a number as wide as its place.
fn default_type(arch: Arch, location: Location) -> ValueType {
    match location {
        Location::Stack(_) => ValueType::Unsigned(arch.address_width()),
        Location::Register(reg) if reg.storage().is_none() => match reg.width() {
            Width::W32 => ValueType::Float(Width::W32),
            _ => ValueType::Float(Width::W64),
        },
        Location::Register(reg) => ValueType::Unsigned(reg.width()),
    }
}

/// `[esp + 4]` and `[stack + 4]`.
fn stack_offset(arch: Arch, text: &str) -> Option<u64> {
    let inner = text.strip_prefix('[')?.strip_suffix(']')?;
    let (base, offset) = inner.split_once('+')?;
    let base = base.trim();
    let pointer = arch.storage_name(arch.stack_pointer());
    if base != "stack" && !base.eq_ignore_ascii_case(pointer) {
        return None;
    }
    offset.trim().parse().ok().filter(|offset| *offset <= MAX_STACK_OFFSET)
}

/// No argument is further up the stack.
const MAX_STACK_OFFSET: u64 = 1 << 16;

/// A contract of a program, with its routine.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct RoutineContract {
    /// Address of the routine's first instruction.
    pub address: u64,
    /// The lines as they were written, without comment marks, each with a line feed.
    #[serde(skip)]
    pub text: String,
    /// What they say.
    #[serde(flatten)]
    pub contract: Contract,
}

impl RoutineContract {
    /// Those of routines at addresses, by ascending address, each routine once. A text that is no contract is left out.
    pub(crate) fn of_texts(
        arch: Arch,
        texts: impl IntoIterator<Item = (u64, String)>,
    ) -> Vec<RoutineContract> {
        let mut contracts: Vec<RoutineContract> = texts
            .into_iter()
            .filter_map(|(address, text)| {
                let contract = Contract::parse(arch, text.lines()).ok()?;
                Some(RoutineContract { address, text, contract })
            })
            .collect();
        contracts.sort_by_key(|contract| contract.address);
        contracts.dedup_by_key(|contract| contract.address);
        contracts
    }
}

/// The bytes of a record without its address.
pub fn record_tail(text: &str) -> Vec<u8> {
    let mut bytes = (text.len() as u32).to_le_bytes().to_vec();
    bytes.extend(text.as_bytes());
    bytes
}

/// The records of a section: where each starts, its address field, and its text. Stops at what is no record.
pub fn records(arch: Arch, data: &[u8]) -> Vec<(u64, u64, String)> {
    let width = arch.address_bytes() as usize;
    let mut found = Vec::new();
    let mut at = 0;
    while let Some(head) = data.get(at..at + width + 4) {
        let word = |bytes: &[u8]| bytes.iter().rev().fold(0u64, |v, b| v << 8 | u64::from(*b));
        let (address, length) = (word(&head[..width]), word(&head[width..]) as usize);
        let text = at + width + 4;
        let Some(Ok(text)) = data.get(text..text.saturating_add(length)).map(std::str::from_utf8)
        else {
            break;
        };
        found.push((at as u64, address, text.to_string()));
        at += width + 4 + length;
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    fn parsed(arch: Arch, text: &str) -> Contract {
        Contract::parse(arch, text.lines()).unwrap()
    }

    #[test]
    fn clauses_say_where_values_are_and_what_they_are() {
        let contract = parsed(
            Arch::X86_64,
            "mean of a table\n of readings\n takes rdi = table, esi = count: i32, xmm0 = weight\n returns eax = mean\n changes rcx, dl, flags\n keeps r8, flags",
        );
        assert_eq!(contract.summary, "mean of a table of readings");
        let takes: Vec<(String, &str, &str)> = contract
            .takes
            .iter()
            .map(|value| (value.location.to_string(), value.name.as_str(), value.kind.name()))
            .collect();
        let wanted = [("rdi", "table", "u64"), ("esi", "count", "i32"), ("xmm0", "weight", "f64")];
        let wanted: Vec<_> = wanted.iter().map(|(a, b, c)| ((*a).to_string(), *b, *c)).collect();
        assert_eq!(takes, wanted);
        let reg = |name| Reg::parse(Arch::X86_64, name).unwrap();
        for (name, may) in
            [("rax", true), ("ecx", true), ("rdx", true), ("rsi", false), ("r8", false)]
        {
            assert_eq!(contract.may_change(reg(name)), may, "{name}");
        }
        assert!(contract.keeps_flags);
        let stack = parsed(Arch::X86_32, "takes [esp + 4] = depth: i32, [stack + 8]\nreturns eax");
        assert_eq!(stack.takes[0].location, Location::Stack(4));
        assert_eq!(stack.takes[1].kind, ValueType::Unsigned(Width::W32));
    }

    #[test]
    fn mistakes_are_named_with_their_place() {
        let cases = [
            ("takes rdx2 = table", 6..10, "`rdx2` is no register of x86-64"),
            ("takes rdi = table, edi = count", 19..30, "`edi = count` stands here twice"),
            ("takes rdi = table, rsi = table", 19..30, "`rsi = table` stands here twice"),
            ("returns eax = mean: i33", 20..23, "`i33` is no type"),
            ("returns eax = mean: u64", 20..23, "`eax` has 32 bits, and u64 needs 64"),
            ("changes rcx, rcx", 13..16, "`rcx` stands here twice"),
            ("changes rcx,", 12..12, "a register is missing here"),
            ("changes rsp", 8..11, "`rsp` holds no value of a contract"),
            ("chnages rcx, rdx", 0..7, "`chnages` is no clause of a contract"),
            ("takes rdi = a table", 13..19, "`a table` is no name"),
        ];
        for (line, range, message) in cases {
            let errors = Contract::parse(Arch::X86_64, [line]).unwrap_err();
            assert_eq!(errors[0].message, message, "{line}");
            assert_eq!(errors[0].range, range, "{line}");
        }
        let both = ["returns eax = mean", "keeps eax"];
        assert_eq!(Contract::parse(Arch::X86_64, both).unwrap_err()[0].line, 1);
    }

    proptest::proptest! {
        #[test]
        fn any_line_is_read_or_refused_within_it(line in "[ -~é]{0,40}|(takes|returns|changes|keeps) [a-z0-9=:,\\[\\]+ é]{0,40}") {
            for &arch in Arch::ALL {
                if let Err(errors) = Contract::parse(arch, [line.as_str()]) {
                    for error in errors {
                        proptest::prop_assert!(line.get(error.range.clone()).is_some(), "{error:?}");
                    }
                }
            }
        }

        #[test]
        fn any_section_is_read(data in proptest::collection::vec(0u8.., 0..200)) {
            for &arch in Arch::ALL {
                for (at, _, text) in records(arch, &data) {
                    proptest::prop_assert!(at as usize + text.len() <= data.len());
                }
            }
        }
    }

    #[test]
    fn records_are_read_back_and_damaged_ones_end_the_list() {
        let mut data = 0x40_1000u64.to_le_bytes().to_vec();
        data.extend(record_tail("takes rdi = log\n"));
        let whole = records(Arch::X86_64, &data);
        assert_eq!(whole, [(0, 0x40_1000, "takes rdi = log\n".to_string())]);
        for length in 0..data.len() {
            assert!(records(Arch::X86_64, &data[..length]).is_empty(), "{length}");
        }
    }
}
