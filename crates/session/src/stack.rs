//! The stack as a column of words, as wide as the machine pushes them.

use serde::Serialize;
use sotto_isa::Control;

use crate::Session;
use crate::place::hex;

/// One word of the stack.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct StackSlot {
    /// Its address.
    #[serde(serialize_with = "hex")]
    pub address: u64,
    /// Bytes from the stack pointer; negative below it.
    pub offset: i64,
    /// Its value.
    #[serde(serialize_with = "hex")]
    pub value: u64,
    /// What the value is, if that can be said: a return address, a symbol.
    pub meaning: Option<String>,
}

/// Part of the stack, by ascending address.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct StackView {
    /// The stack pointer.
    #[serde(serialize_with = "hex")]
    pub pointer: u64,
    /// The words.
    pub slots: Vec<StackSlot>,
}

/// Describes `below` words below the stack pointer and `count` words from it up.
pub(crate) fn view(session: &mut Session, below: u64, count: u64) -> StackView {
    let pointer = session.process().machine.register(session.arch().stack_pointer());
    let width = session.arch().address_bytes();
    let mut slots = Vec::new();
    for index in 0..below + count {
        let address = pointer.wrapping_sub(width * below).wrapping_add(width * index);
        let mut bytes = [0; 8];
        let slot = &mut bytes[..width as usize];
        if session.process_mut().machine.memory_mut().read_bytes(address, slot).is_err() {
            continue;
        }
        let value = u64::from_le_bytes(bytes);
        let offset = address.wrapping_sub(pointer) as i64;
        let meaning = meaning(session, value);
        slots.push(StackSlot { address, offset, value, meaning });
    }
    StackView { pointer, slots }
}

fn meaning(session: &mut Session, value: u64) -> Option<String> {
    let Some(segment) = session.image().segment_at(value) else {
        return text_at(session, value).map(|text| format!("address of {text}"));
    };
    if segment.exec {
        let place = session.place(value);
        let name = place.name()?;
        let after_call = returns_from_call(session, value);
        let location = place.location().map(|l| format!(" ({l})")).unwrap_or_default();
        return Some(match after_call {
            true => format!("return address: {name}{location}"),
            false => format!("code: {name}{location}"),
        });
    }
    session.place(value).name().map(|name| format!("address of {name}"))
}

/// The text at an address on the stack, quoted: an argument or a variable of the environment.
fn text_at(session: &mut Session, address: u64) -> Option<String> {
    const LONGEST: u64 = 40;
    let memory = session.process_mut().machine.memory_mut();
    if memory.region_at(address)?.name != "stack" {
        return None;
    }
    let mut text = String::new();
    for at in address..address + LONGEST {
        match memory.read::<1>(at).ok()? {
            [0] if !text.is_empty() => return Some(format!("{text:?}")),
            [byte @ 0x20..=0x7e] => text.push(byte as char),
            _ => return None,
        }
    }
    Some(format!("{text:?}..."))
}

/// Whether the instruction before this address is a call.
fn returns_from_call(session: &mut Session, address: u64) -> bool {
    (2..=7).any(|length| {
        let Some(start) = address.checked_sub(length) else { return false };
        session.process_mut().machine.instruction_at(start).is_ok_and(|instruction| {
            instruction.control() == Control::Call && instruction.end() == address
        })
    })
}
