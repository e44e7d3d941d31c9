//! Random arguments for a contract, two routines compared on them, and a difference made small.

use sotto_isa::{Arch, ArgumentLocations, RegisterRole, Storage, Width};
use sotto_kernel::Startup;
use sotto_machine::SplitMix64;
use sotto_object::contract::{Contract, Location, Register, Value, ValueType};

use crate::call::argument::{Argument, Element};
use crate::call::result::{BufferAfter, CallReport, Ending};
use crate::call::routine::{CallError, Routine};

/// Bytes of a table that an address argument points to.
const TABLE_ELEMENTS: usize = 16;
/// A call for a comparison ends after so many instructions.
const CALL_LIMIT: u64 = 10_000_000;
/// So many smaller arguments are tried.
const MOST_SHRINKS: usize = 400;

/// Arguments on which two routines differ.
#[derive(Clone, Debug)]
pub struct Difference {
    /// The arguments.
    pub arguments: Vec<Argument>,
    /// What differs, in words.
    pub what: String,
}

/// Compares a routine with a contract with another, which follows the machine's convention, on random arguments.
///
/// The result is the smallest difference that was found, and `None` if there is none. The same seed gives the same
/// arguments.
///
/// # Errors
///
/// If a call cannot be made.
pub fn compare(
    routine: &Routine,
    reference: &Routine,
    rounds: u64,
    seed: u64,
    startup: &Startup,
) -> Result<Option<Difference>, CallError> {
    let Some(contract) = &routine.contract else { return Ok(None) };
    let mut random = Random(SplitMix64(seed));
    for round in 0..rounds {
        let arguments = random.arguments(contract, round);
        if let Some(what) = difference(routine, reference, &arguments, startup)? {
            return shrink(routine, reference, arguments, what, startup).map(Some);
        }
    }
    Ok(None)
}

/// The contract that a function of a C compiler has by the convention, with the types of another contract.
pub fn by_convention(arch: Arch, contract: &Contract) -> Contract {
    use RegisterRole::{Next, Stack};
    let convention = arch.convention();
    let mut locations = ArgumentLocations::new(arch);
    let takes = contract.takes.iter().map(|value| {
        let float = matches!(value.kind, ValueType::Float(_));
        let location = locations.next(float, value.kind.width(arch).bytes());
        Value { location, ..value.clone() }
    });
    let takes = takes.collect();
    let returns = contract.returns.iter().take(1).map(|value| {
        let reg = match value.kind {
            ValueType::Float(_) if convention.vectors.results > 0 => arch.vector_register(0),
            _ => arch.whole_register(convention.result),
        };
        Value { location: Location::Register(reg), ..value.clone() }
    });
    let returns = returns.collect();
    let free = |storage: &Storage| !matches!(convention.role(*storage), Some(Stack | Next) | None);
    let changes = arch.general_storages().filter(free);
    let changes = changes.map(|storage| Register(arch.whole_register(storage))).collect();
    Contract { takes, returns, changes, ..Contract::default() }
}

/// What differs between two calls with the same arguments, or what the first breaks.
fn difference(
    routine: &Routine,
    reference: &Routine,
    arguments: &[Argument],
    startup: &Startup,
) -> Result<Option<String>, CallError> {
    let wanted = reference.call(arguments, startup, CALL_LIMIT)?;
    // Where the reference has no answer, there is nothing to compare with.
    if !matches!(wanted.ending, Ending::Returned) {
        return Ok(None);
    }
    let got = routine.call(arguments, startup, CALL_LIMIT)?;
    Ok(differs(&got, &wanted))
}

fn differs(got: &CallReport, wanted: &CallReport) -> Option<String> {
    if let Some(words) = got.ending.words() {
        return Some(words);
    }
    if let (Some(got), Some(wanted)) = (got.results.first(), wanted.results.first())
        && !same_value(got.kind, got.bits, wanted.bits)
    {
        let name = if got.name.is_empty() { &got.location } else { &got.name };
        return Some(format!(
            "{name} is {}, and the C function returns {}",
            got.value, wanted.value
        ));
    }
    let of = |buffers: &[BufferAfter], number: usize| {
        buffers.iter().find(|buffer| buffer.argument == number).map(|b| b.bytes.clone())
    };
    let numbers = got.buffers.iter().chain(&wanted.buffers).map(|buffer| buffer.argument);
    for number in numbers {
        let (ours, theirs) = (of(&got.buffers, number), of(&wanted.buffers, number));
        if ours == theirs {
            continue;
        }
        return Some(match (ours, theirs) {
            (Some(ours), Some(theirs)) => {
                let at = ours.iter().zip(&theirs).position(|(a, b)| a != b).unwrap_or(0);
                format!(
                    "byte {at} of argument {number} is {:#x} afterwards, and {:#x} after the C function",
                    ours[at], theirs[at]
                )
            }
            (Some(_), None) => {
                format!("argument {number} is changed, and the C function leaves it")
            }
            (None, _) => format!("argument {number} is left, and the C function changes it"),
        });
    }
    let broken = got.findings.first()?;
    Some(format!("{}: {}", broken.code, broken.fact))
}

/// Whether two results are the same value of a type; no number is the same as another.
fn same_value(kind: ValueType, a: u64, b: u64) -> bool {
    match kind {
        ValueType::Float(Width::W32) => {
            let (a, b) = (f32::from_bits(a as u32), f32::from_bits(b as u32));
            a.to_bits() == b.to_bits() || a.is_nan() && b.is_nan()
        }
        ValueType::Float(_) => {
            let (a, b) = (f64::from_bits(a), f64::from_bits(b));
            a.to_bits() == b.to_bits() || a.is_nan() && b.is_nan()
        }
        ValueType::Unsigned(width) | ValueType::Signed(width) => {
            a & width.mask() == b & width.mask()
        }
        ValueType::Text | ValueType::Address => a == b,
    }
}

/// Tries smaller arguments as long as the routines differ on them.
fn shrink(
    routine: &Routine,
    reference: &Routine,
    arguments: Vec<Argument>,
    what: String,
    startup: &Startup,
) -> Result<Difference, CallError> {
    let mut smallest = Difference { arguments, what };
    let mut tried = 0;
    'again: loop {
        for at in 0..smallest.arguments.len() {
            for smaller in smaller(&smallest.arguments[at]) {
                tried += 1;
                if tried > MOST_SHRINKS {
                    return Ok(smallest);
                }
                let mut arguments = smallest.arguments.clone();
                arguments[at] = smaller;
                if let Some(what) = difference(routine, reference, &arguments, startup)? {
                    smallest = Difference { arguments, what };
                    continue 'again;
                }
            }
        }
        return Ok(smallest);
    }
}

/// Smaller arguments of the same kind, the smallest first.
fn smaller(argument: &Argument) -> Vec<Argument> {
    match argument {
        Argument::Number(0) | Argument::Float(0.0) => Vec::new(),
        Argument::Number(value) => {
            let toward_zero = value - value.signum();
            let mut values = vec![0, value / 2, toward_zero];
            values.dedup();
            values.into_iter().map(Argument::Number).collect()
        }
        Argument::Float(value) => {
            let mut values = vec![0.0, value.trunc(), (value / 2.0).trunc()];
            values.retain(|smaller| smaller != value);
            values.into_iter().map(Argument::Float).collect()
        }
        Argument::Text(text) if !text.is_empty() => {
            vec![
                Argument::Text(text[..text.len() / 2].to_vec()),
                Argument::Text(text[1..].to_vec()),
            ]
        }
        Argument::Array(bytes, element) => {
            let (Element::Integer(width) | Element::Float(width)) = element;
            let size = width.bytes() as usize;
            // One element after the other becomes zero.
            let set = bytes.chunks(size).position(|chunk| chunk.iter().any(|byte| *byte != 0));
            let Some(at) = set else { return Vec::new() };
            let mut cleared = Vec::new();
            for at in at..bytes.len() / size {
                let mut fewer = bytes.clone();
                fewer[at * size..(at + 1) * size].fill(0);
                if fewer != *bytes {
                    cleared.push(Argument::Array(fewer, *element));
                }
            }
            // Or half of what it was.
            if matches!(element, Element::Integer(_)) {
                for (at, chunk) in bytes.chunks(size).enumerate() {
                    let value =
                        chunk.iter().rev().fold(0u64, |value, byte| value << 8 | u64::from(*byte));
                    if value > 1 {
                        let mut fewer = bytes.clone();
                        let half = (value / 2).to_le_bytes();
                        fewer[at * size..(at + 1) * size].copy_from_slice(&half[..size]);
                        cleared.push(Argument::Array(fewer, *element));
                    }
                }
            }
            cleared
        }
        _ => Vec::new(),
    }
}

/// Makes random arguments.
struct Random(SplitMix64);

impl Random {
    fn number(&mut self) -> u64 {
        self.0.next_number()
    }

    fn below(&mut self, limit: u64) -> u64 {
        self.number() % limit
    }

    /// Arguments for a contract: corner values, and in most later rounds others.
    fn arguments(&mut self, contract: &Contract, round: u64) -> Vec<Argument> {
        let tables = contract.takes.iter().any(|value| value.kind == ValueType::Address);
        contract.takes.iter().map(|value| self.argument(value, tables, round)).collect()
    }

    fn argument(&mut self, value: &Value, tables: bool, round: u64) -> Argument {
        let corner = round < 8 || self.below(3) == 0;
        match value.kind {
            ValueType::Text => {
                let length = if corner { self.below(3) } else { self.below(24) };
                let letters = (0..length).map(|_| b' ' + self.below(95) as u8);
                Argument::Text(letters.collect())
            }
            ValueType::Address => {
                // Large, small, or middling readings.
                let size = self.below(4);
                let elements = (0..TABLE_ELEMENTS).flat_map(|_| {
                    let element = match size {
                        0 => self.number(),
                        1 => self.below(4),
                        _ => self.below(1000),
                    };
                    (element as u32).to_le_bytes()
                });
                Argument::Array(elements.collect(), Element::Integer(Width::W32))
            }
            ValueType::Float(_) => {
                const CORNERS: [f64; 8] = [0.0, 1.0, -1.0, 0.5, -0.0, 1e10, -1e-10, 3.0];
                match corner {
                    true => Argument::Float(CORNERS[self.below(8) as usize]),
                    // Few bits, so that single precision holds it too.
                    false => {
                        let number = self.below(1 << 20) as f64 - f64::from(1 << 19);
                        Argument::Float(number / 64.0)
                    }
                }
            }
            ValueType::Unsigned(width) | ValueType::Signed(width) => {
                // How many elements a table has stays within the table.
                let counts = ["count", "length", "size", "n", "len", "elements"];
                if tables && counts.contains(&value.name.as_str()) {
                    return Argument::Number(i128::from(1 + self.below(TABLE_ELEMENTS as u64)));
                }
                let bits = match corner {
                    true => {
                        let top = width.sign_bit();
                        let corners = [0, 1, 2, width.mask(), top, top - 1, top >> 1, 10];
                        corners[self.below(8) as usize]
                    }
                    false => self.number() >> self.below(64),
                };
                let bits = bits & width.mask();
                match value.kind {
                    ValueType::Signed(_) => Argument::Number(i128::from(width.sign_extend(bits))),
                    _ => Argument::Number(i128::from(bits)),
                }
            }
        }
    }
}

impl Argument {
    /// The argument as it is typed on the command line.
    pub fn typed(&self) -> String {
        match self {
            Argument::Number(value) => value.to_string(),
            Argument::Float(value) => format!("{value:?}"),
            Argument::Text(text) => format!("\"{}\"", String::from_utf8_lossy(text)),
            Argument::Array(bytes, element) => {
                let (Element::Integer(width) | Element::Float(width)) = element;
                let size = width.bytes() as usize;
                let number = |chunk: &[u8]| {
                    chunk.iter().rev().fold(0u64, |value, byte| value << 8 | u64::from(*byte))
                };
                let items: Vec<String> = bytes
                    .chunks(size)
                    .map(number)
                    .map(|bits| match element {
                        Element::Integer(_) => bits.to_string(),
                        Element::Float(Width::W32) => format!("{:?}", f32::from_bits(bits as u32)),
                        Element::Float(_) => format!("{:?}", f64::from_bits(bits)),
                    })
                    .collect();
                let suffix = match element {
                    Element::Integer(_) => format!("{size}byte"),
                    Element::Float(width) => format!("f{}", width.bits()),
                };
                format!("[{}]:{suffix}", items.join(","))
            }
            Argument::Buffer(size) => format!("buffer:{size}"),
            Argument::File(path) => format!("file:{path}"),
            Argument::Bytes(bytes) => format!("file of {} bytes", bytes.len()),
            Argument::Register(reg, value) => format!("{}={value}", reg.name()),
        }
    }
}
