//! Variables of the compiled routine that is running, by name.

use serde::Serialize;
use sotto_isa::{Arch, RegisterId, Storage, Width};
use sotto_kernel::System;
use sotto_object::{Image, MAX_REGISTERS, Variable, VariablePlace, VariableType};

use crate::Session;
use crate::views::unwound_frames::{dwarf_registers, word_at};
use crate::views::values::{Format, Reading};

/// Where a variable is now.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) enum VariableNow {
    /// In memory.
    Memory(u64),
    /// In a general register.
    Register(Storage),
    /// In a register of a bank beside those.
    BankRegister(RegisterId),
}

/// A variable of the routine that is running, with its value in words.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct NamedVariable {
    /// Its name.
    pub name: String,
    /// Its value, or why it has none.
    pub value: String,
    /// Where it is, in words.
    pub place: String,
}

/// The variable of a name that the code at the instruction pointer knows: of several, that of the innermost block.
pub(crate) fn variable_named<'a>(image: &'a Image, pc: u64, name: &str) -> Option<&'a Variable> {
    let first = image.variables.partition_point(|variable| variable.name.as_str() < name);
    let named = image.variables[first..].iter().take_while(|variable| variable.name == name);
    let known = named.filter_map(|variable| Some((variable.scope_at(pc)?, variable)));
    known.min_by_key(|(bytes, _)| *bytes).map(|(_, variable)| variable)
}

/// Where a variable is now; `None` if it is nowhere, or at a place that was not understood.
pub(crate) fn place_now(
    image: &Image,
    system: &mut System,
    variable: &Variable,
) -> Option<VariableNow> {
    let arch = image.arch;
    let pc = system.machine.pc();
    Some(match variable.place_at(pc)? {
        VariablePlace::Address(address) => VariableNow::Memory(address),
        VariablePlace::Frame(offset) => {
            VariableNow::Memory(frame_address(image, system)?.wrapping_add_signed(offset))
        }
        VariablePlace::Indirect(number, offset) => {
            let register = system.machine.register(storage_of(arch, number)?);
            VariableNow::Memory(register.wrapping_add_signed(offset))
        }
        VariablePlace::Register(number) => match storage_of(arch, number) {
            Some(storage) => VariableNow::Register(storage),
            None => {
                let mut banks = arch.bank_registers();
                let of_number = banks.find(|(_, reg)| reg.dwarf_number(arch) == Some(number));
                VariableNow::BankRegister(of_number?.0)
            }
        },
    })
}

/// The storage register that the ABI documents give a number for DWARF.
fn storage_of(arch: Arch, number: u16) -> Option<Storage> {
    (0..MAX_REGISTERS as u8).map(Storage).find(|s| s.dwarf_number(arch) == Some(number))
}

/// The canonical frame address of the routine that is running, by its unwind table.
fn frame_address(image: &Image, system: &System) -> Option<u64> {
    let machine = &system.machine;
    let registers = dwarf_registers(machine);
    let read = |address: u64, bytes: u8| word_at(machine, address, bytes);
    image.caller(machine.pc(), &registers, &read).map(|caller| caller.frame_address)
}

/// The width of a variable that is one number; `None` for arrays and structures.
pub(crate) fn width_of(kind: VariableType) -> Option<Width> {
    match kind {
        VariableType::Unsigned(bytes)
        | VariableType::Signed(bytes)
        | VariableType::Float(bytes)
        | VariableType::Pointer(bytes) => Width::from_bytes(bytes).filter(|w| *w <= Width::W64),
        VariableType::Compound => None,
    }
}

impl Session {
    /// How the variable of a name is read, if the code that is running knows one, and no format is asked for.
    pub fn variable_format(&self, name: &str) -> Option<Format> {
        let variable = variable_named(self.image(), self.here_address(), name.trim())?;
        let reading = match variable.kind {
            VariableType::Unsigned(_) => Reading::Unsigned,
            VariableType::Signed(_) => Reading::Signed,
            VariableType::Float(_) => Reading::Float,
            VariableType::Pointer(_) | VariableType::Compound => Reading::Address,
        };
        Some(Format { width: None, reading: Some(reading) })
    }

    /// The address and width of a variable that is one number and is in memory now.
    pub(crate) fn variable_in_memory(&mut self, name: &str) -> Option<(u64, Width)> {
        let variable = variable_named(&self.image, self.system.machine.pc(), name)?;
        let width = width_of(variable.kind)?;
        match place_now(&self.image, &mut self.system, variable)? {
            VariableNow::Memory(address) => Some((address, width)),
            _ => None,
        }
    }

    /// The variables that the code that is running knows, by name.
    pub fn variables(&mut self) -> Vec<NamedVariable> {
        let pc = self.here_address();
        let mut known: Vec<String> = self
            .image()
            .variables
            .iter()
            .filter(|variable| variable.scope_at(pc).is_some())
            .map(|variable| variable.name.clone())
            .collect();
        known.sort();
        known.dedup();
        known
            .into_iter()
            .map(|name| {
                let format = self.variable_format(&name).unwrap_or_default();
                let value = self.show(&name, format).unwrap_or_else(|error| error.to_string());
                let place = self.variable_place(&name).unwrap_or_default();
                NamedVariable { name, value, place }
            })
            .collect()
    }

    /// Where a variable is now, in words.
    fn variable_place(&mut self, name: &str) -> Option<String> {
        let variable = variable_named(&self.image, self.system.machine.pc(), name)?;
        let now = place_now(&self.image, &mut self.system, variable)?;
        let arch = self.arch();
        Some(match now {
            VariableNow::Memory(address) => {
                let pointer = self.register(arch.stack_pointer());
                let region = self.system.machine.memory().region_at(address);
                let is_near = region.is_some_and(|r| r.start <= pointer && pointer < r.end);
                let name = arch.storage_name(arch.stack_pointer());
                match address.wrapping_sub(pointer) as i64 {
                    _ if !is_near => {
                        let place = self.place(address).name();
                        place.unwrap_or_else(|| format!("[{address:#x}]"))
                    }
                    0 => format!("[{name}]"),
                    offset if offset < 0 => format!("[{name} - {}]", offset.unsigned_abs()),
                    offset => format!("[{name} + {offset}]"),
                }
            }
            VariableNow::Register(storage) => arch.storage_name(storage).to_string(),
            VariableNow::BankRegister(id) => {
                let mut banks = arch.bank_registers();
                banks.find(|(known, _)| *known == id)?.1.name().to_string()
            }
        })
    }
}
