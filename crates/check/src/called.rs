//! Arguments of routines whose contract or name says how they are read.

use std::collections::HashMap;

use sotto_isa::{ArgumentLocations, Location, Storage};
use sotto_machine::Machine;
use sotto_object::contract::ValueType;
use sotto_object::{DatumKind, Image};

use crate::declared::Declared;
use crate::kinds::Kind;
use crate::raw_finding::RawFinding;

/// Functions with a variable number of arguments, of which some may be floats. Source: POSIX, stdio.h and syslog.h.
const VARIADIC: &[&str] =
    &["printf", "fprintf", "dprintf", "sprintf", "snprintf", "scanf", "fscanf", "sscanf", "syslog"];
/// Functions that read text up to a zero, and which of their arguments. Source: POSIX, stdio.h, stdlib.h and string.h.
const TEXTS: &[(&str, &[usize])] = &[
    ("puts", &[0]),
    ("fputs", &[0]),
    ("perror", &[0]),
    ("printf", &[0]),
    ("fprintf", &[1]),
    ("dprintf", &[1]),
    ("sprintf", &[1]),
    ("snprintf", &[2]),
    ("strlen", &[0]),
    ("strcpy", &[1]),
    ("strcat", &[1]),
    ("strcmp", &[0, 1]),
    ("strchr", &[0]),
    ("strstr", &[0, 1]),
    ("strdup", &[0]),
    ("atoi", &[0]),
    ("strtol", &[0]),
    ("strtoul", &[0]),
];

/// What a routine is called with, as far as its contract or its name says.
#[derive(Default, Debug)]
struct Known {
    name: String,
    /// Where the addresses of texts are, and what they are called.
    texts: Vec<(Location, String)>,
    variadic: bool,
}

/// The routines of a program that something is known of, by address.
pub(crate) struct Called {
    routines: HashMap<u64, Known>,
}

impl Called {
    pub fn new(image: &Image) -> Called {
        let mut routines: HashMap<u64, Known> = HashMap::new();
        for symbol in &image.symbols {
            let name = symbol.name.as_str();
            let texts = TEXTS.iter().find(|(known, _)| *known == name).map(|(_, which)| *which);
            let variadic = VARIADIC.contains(&name);
            if symbol.absolute || (texts.is_none() && !variadic) {
                continue;
            }
            let known = routines.entry(symbol.address).or_default();
            known.name = name.to_string();
            known.variadic |= variadic;
            for &number in texts.unwrap_or_default() {
                let mut places = ArgumentLocations::new(image.arch);
                let bytes = image.arch.address_bytes();
                let place = (0..=number).map(|_| places.next(false, bytes)).last();
                known.texts.extend(place.map(|place| (place, format!("argument {}", number + 1))));
            }
        }
        for routine in &image.contracts {
            let texts = routine.contract.takes.iter().filter(|value| value.kind == ValueType::Text);
            let texts: Vec<(Location, String)> =
                texts.map(|value| (value.location, value.name.clone())).collect();
            if !texts.is_empty() {
                let known = routines.entry(routine.address).or_default();
                known.texts = texts;
                let symbol = image.symbol_before(routine.address);
                known.name = symbol.map(|(symbol, _)| symbol.name.clone()).unwrap_or_default();
            }
        }
        Called { routines }
    }

    /// Looks at a call from `from` that was just made: the machine is at the routine's first instruction. `is_set` tells
    /// whether the lowest byte of a register holds something that the caller set.
    pub fn look_at(
        &self,
        machine: &Machine,
        from: u64,
        data: &Declared,
        is_set: impl Fn(Storage) -> bool,
        found: &mut Vec<RawFinding>,
    ) {
        let Some(known) = self.routines.get(&machine.pc()) else { return };
        let arch = machine.arch();
        if let (true, Some(count)) = (known.variadic, arch.convention().vector_count)
            && !is_set(count)
        {
            let fact = format!("`{}` is called, and nothing has set al", known.name);
            found.push(RawFinding::new(Kind::VectorCount, from, fact));
        }
        for (location, name) in &known.texts {
            let address = match location {
                Location::Register(reg) => {
                    reg.storage().map(|storage| reg.part_of(machine.register(storage)))
                }
                Location::Stack(offset) => {
                    let mut bytes = [0; 8];
                    let width = arch.address_bytes() as usize;
                    let at = machine.register(arch.stack_pointer()).wrapping_add(*offset);
                    let read = machine.memory().read_bytes(at, &mut bytes[..width]);
                    read.is_ok().then(|| u64::from_le_bytes(bytes))
                }
            };
            let Some(address) = address else { continue };
            found.extend(without_end(machine, from, &known.name, name, data, address));
        }
    }
}

/// A declared text at an address that has no zero before the next datum.
fn without_end(
    machine: &Machine,
    from: u64,
    routine: &str,
    argument: &str,
    data: &Declared,
    address: u64,
) -> Option<RawFinding> {
    let datum = data.at(address).filter(|datum| datum.kind == DatumKind::Text)?;
    let next = data.after(datum.start)?;
    let mut bytes = vec![0; next.start.saturating_sub(address).min(1 << 16) as usize];
    machine.memory().read_bytes(address, &mut bytes).ok()?;
    if bytes.contains(&0) {
        return None;
    }
    let (name, length) = (&datum.name, datum.end - address);
    let fact = format!(
        "`{routine}` reads `{name}` up to a zero ({argument}), and behind its {length} bytes comes `{}`",
        next.name
    );
    Some(RawFinding::new(Kind::NoTerminator, from, fact))
}
