//! Making a machine ready for a call: registers, memory for what is passed by address, and the stack.

use sotto_isa::{Reg, RegisterValue, Width};
use sotto_machine::{Machine, Memory, PAGE_BYTES, Permissions, RegionKind};

use crate::call::argument::{Argument, Element};
use crate::call::routine::CallError;

/// A block of memory that an argument is placed in.
pub(crate) struct Block {
    /// Which argument, from 0.
    pub argument: usize,
    pub address: u64,
    /// Its bytes before the call.
    pub before: Vec<u8>,
    pub element_bytes: u64,
    /// The bytes may be text.
    pub is_text: bool,
    /// The routine is given room and no contents.
    pub is_room: bool,
}

impl Block {
    /// The block of an argument that is passed by its address, without an address yet.
    fn of(argument: usize, given: &Argument) -> Option<Block> {
        let text = Block {
            argument,
            address: 0,
            before: Vec::new(),
            element_bytes: 1,
            is_text: true,
            is_room: false,
        };
        Some(match given {
            Argument::Text(bytes) => Block { before: [bytes, &[0][..]].concat(), ..text },
            Argument::Array(bytes, element) => {
                let (Element::Integer(width) | Element::Float(width)) = element;
                let (before, element_bytes) = (bytes.clone(), width.bytes());
                Block { before, element_bytes, is_text: false, ..text }
            }
            Argument::Buffer(size) => {
                Block { before: vec![0; *size as usize], is_room: true, ..text }
            }
            Argument::Bytes(bytes) => Block { before: bytes.clone(), ..text },
            _ => return None,
        })
    }

    /// Bytes.
    pub fn size(&self) -> u64 {
        self.before.len() as u64
    }

    /// Address behind the last byte.
    pub fn end(&self) -> u64 {
        self.address + self.size()
    }

    /// The first byte behind the block that is not what was put there: its distance from the block's end, and its value.
    pub fn overrun(&self, memory: &Memory) -> Option<(u64, u8)> {
        let mut guard = [0; GUARD_BYTES as usize];
        memory.read_bytes(self.end(), &mut guard).ok()?;
        let at = guard.iter().position(|byte| *byte != GUARD)?;
        Some((at as u64, guard[at]))
    }
}

/// Bytes behind each block that the routine must leave alone.
const GUARD_BYTES: u64 = 32;
const GUARD: u8 = 0xa5;

/// Gives every general register a value of its own, so that it is seen whether it comes back.
pub(crate) fn unset_registers(machine: &mut Machine) {
    let arch = machine.arch();
    let high = match arch.address_width() {
        Width::W32 => 0x5a5a_0000,
        _ => 0x5a5a_0000_0000_0000,
    };
    for storage in arch.general_storages() {
        if storage != arch.stack_pointer() && storage != arch.pc() {
            machine.set_register(storage, high | u64::from(storage.0) << 8 | 0x5a);
        }
    }
}

/// Maps a page to return to, and memory for the arguments that are passed by address.
pub(crate) fn place_blocks(
    machine: &mut Machine,
    arguments: &[(usize, &Argument)],
) -> Result<(Vec<Block>, u64), CallError> {
    let mut blocks: Vec<Block> =
        arguments.iter().filter_map(|&(number, argument)| Block::of(number, argument)).collect();
    let room = |bytes: u64| (bytes + GUARD_BYTES).next_multiple_of(64);
    let size: u64 = blocks.iter().map(|block| room(block.size())).sum();
    let size = size.next_multiple_of(PAGE_BYTES);
    let arch = machine.arch();
    let stack = machine.memory().region_at(machine.register(arch.stack_pointer()));
    // Far from the stack, so that an address past an argument is none of the stack's.
    let limit = stack.map_or(1 << 31, |stack| stack.start - (1 << 28));
    let memory = machine.memory_mut();
    let start =
        memory.gap_below(limit, 0x1_0000, size + 3 * PAGE_BYTES).ok_or(CallError::NoMemory)?;
    let no_memory = |_| CallError::NoMemory;
    let code = Permissions { read: true, write: false, execute: true };
    memory.map(RegionKind::Mapping, start, PAGE_BYTES, code).map_err(no_memory)?;
    if size > 0 {
        let data = Permissions { read: true, write: true, execute: false };
        let mut address = start + 2 * PAGE_BYTES;
        memory.map(RegionKind::Mapping, address, size, data).map_err(no_memory)?;
        memory.load(address, &vec![GUARD; size as usize]).map_err(|_| CallError::NoMemory)?;
        for block in &mut blocks {
            memory.load(address, &block.before).map_err(|_| CallError::NoMemory)?;
            block.address = address;
            address += room(block.size());
        }
    }
    Ok((blocks, start))
}

/// Puts arguments and the return address on the stack; the stack pointer at the routine's first instruction.
pub(crate) fn build_stack(
    machine: &mut Machine,
    stack: &[(u64, u64)],
    return_address: u64,
) -> Option<u64> {
    let arch = machine.arch();
    let width = arch.address_bytes() as usize;
    let slot = arch.return_address_slot();
    let bytes = stack.iter().map(|(offset, _)| offset + 8).max().unwrap_or(slot);
    let alignment = arch.convention().stack_alignment;
    let top = machine.register(arch.stack_pointer());
    // The stack is aligned before the call leaves the return address.
    let before_call = (top - bytes - 256) & !(alignment - 1);
    let stack_pointer = before_call - slot;
    for (offset, bits) in stack {
        let bytes = &bits.to_le_bytes()[..width];
        machine.memory_mut().load(stack_pointer + offset, bytes).ok()?;
    }
    match arch.link_register() {
        Some(link) => machine.set_register(link, return_address),
        None => {
            let bytes = &return_address.to_le_bytes()[..width];
            machine.memory_mut().load(stack_pointer, bytes).ok()?;
        }
    }
    machine.set_register(arch.stack_pointer(), stack_pointer);
    Some(stack_pointer)
}

/// Sets a part of a general register, or the low 64 bits of a vector register and its others to zero.
pub(crate) fn set_register(machine: &mut Machine, reg: Reg, bits: u64) {
    match (reg.storage(), reg.id()) {
        (Some(storage), _) => {
            let old = machine.register(storage);
            machine.set_register(storage, reg.merged_into(old, bits & reg.width().mask()));
        }
        (None, Some(id)) => {
            machine.set_bank_register(id, RegisterValue::from(u128::from(bits)));
        }
        (None, None) => {}
    }
}
