//! Frames by unwind tables, where the calls that were followed do not tell how control came to where it is: the
//! instruction pointer or the stack pointer was changed by hand, or the program went to a stack of its own making.

use std::collections::HashMap;

use sotto_isa::{Control, Storage};
use sotto_machine::Machine;
use sotto_object::{MAX_REGISTERS, Registers};

use crate::Session;
use crate::run::last_writer::Target;
use crate::views::frames::Frame;

/// The values of a machine's registers by the numbers that the ABI documents give them for DWARF.
pub(crate) fn dwarf_registers(machine: &Machine) -> Registers {
    let mut registers: Registers = [None; MAX_REGISTERS];
    for storage in (0..MAX_REGISTERS as u8).map(Storage) {
        let number = storage.dwarf_number(machine.arch()).map(usize::from);
        if let Some(register) = number.and_then(|number| registers.get_mut(number)) {
            *register = Some(machine.register(storage));
        }
    }
    registers
}

/// A little-endian value of so many bytes in a machine's memory.
pub(crate) fn word_at(machine: &Machine, address: u64, bytes: u8) -> Option<u64> {
    let mut word = [0; 8];
    let part = word.get_mut(..usize::from(bytes))?;
    machine.memory().read_bytes(address, part).ok()?;
    Some(u64::from_le_bytes(word))
}

/// Frames that are looked for.
const MAX_FRAMES: usize = 1 << 12;

impl Session {
    /// Whether control came to where it is by a way that was not followed.
    pub(crate) fn came_unseen(&self) -> bool {
        let machine = &self.system.machine;
        let (arch, now, calls) = (self.arch(), self.moment(), machine.calls());
        let since = calls.last().map_or(0, |call| call.moment);
        let edited = |storage| {
            let edit = self.last_edit_of(Target::Register(storage), now);
            edit.is_some_and(|moment| moment >= since)
        };
        if edited(arch.pc()) || edited(arch.stack_pointer()) {
            return true;
        }
        // The stack as it was entered, from the outside in.
        let pointers = calls.iter().map(|call| call.stack_pointer);
        let mut pointers = std::iter::once(self.stack_base()).chain(pointers);
        let region = |pointer| machine.memory().region_at(pointer).map(|region| region.start);
        let here = region(machine.register(arch.stack_pointer()));
        pointers.any(|pointer| region(pointer) != here)
    }

    /// The frames, the innermost first, without their arguments; what execution knows of a frame is taken from
    /// there. `None` if no table has the code that is being executed.
    pub(crate) fn unwound(&mut self, followed: &[Frame]) -> Option<Vec<Frame>> {
        let arch = self.arch();
        let machine = &self.system.machine;
        let mut registers = dwarf_registers(machine);
        let (mut at, mut start) = (machine.pc(), machine.register(arch.stack_pointer()));
        let mut frames: Vec<Frame> = Vec::new();
        // Those that execution knows, by where they end and return to.
        let known: HashMap<(u64, u64), &Frame> =
            followed.windows(2).map(|pair| ((pair[0].end, pair[1].at.address), &pair[0])).collect();
        while frames.len() < MAX_FRAMES {
            // A return address may be behind the end of its routine, if that ends with the call.
            let inside = at.wrapping_sub(u64::from(!frames.is_empty()));
            let machine = &self.system.machine;
            let read = |address: u64, bytes: u8| word_at(machine, address, bytes);
            let caller = self.image.caller(inside, &registers, &read);
            // A frame further in lies further down; where the return address is in a register, it may be empty.
            let caller = caller.filter(|caller| {
                let empty = caller.frame_address == start && caller.return_address != at;
                frames.is_empty()
                    || caller.frame_address > start
                    || (empty && !arch.stacks_return_address())
            });
            let Some(caller) = caller else {
                // Execution may know the rest.
                let rest = followed.iter().position(|f| (f.start, f.at.address) == (start, at));
                match rest {
                    Some(rest) => frames.extend(followed[rest..].iter().cloned()),
                    None if frames.is_empty() => return None,
                    None => frames.push(self.bare_frame(at, inside, start)),
                }
                return Some(frames);
            };
            let frame = match known.get(&(caller.frame_address, caller.return_address)) {
                Some(&known) => {
                    let end = caller.frame_address;
                    Frame { at: self.place(at), start, end, ..known.clone() }
                }
                None => {
                    let call = self.call_before(caller.return_address);
                    Frame {
                        call: Some(self.place(call)),
                        is_handler: false,
                        call_address: Some(call),
                        end: caller.frame_address,
                        ..self.bare_frame(at, inside, start)
                    }
                }
            };
            frames.push(frame);
            (at, start, registers) =
                (caller.return_address, caller.frame_address, caller.registers);
        }
        Some(frames)
    }

    /// The frame of a routine that nothing is known to have called.
    fn bare_frame(&self, at: u64, inside: u64, start: u64) -> Frame {
        let entry =
            self.image().symbol_before(inside).map_or(inside, |(_, offset)| inside - offset);
        let entry = self.place(entry);
        Frame {
            routine: entry.name().unwrap_or_else(|| format!("{:#x}", entry.address)),
            entry,
            at: self.place(at),
            call: None,
            is_handler: false,
            call_address: None,
            moment: None,
            start,
            end: self.outermost_end(start),
            tail_called: None,
            arguments: Vec::new(),
        }
    }

    /// The call that a return address lies behind, or the last byte before it if no call ends there.
    fn call_before(&mut self, return_address: u64) -> u64 {
        let call =
            self.arch().call_lengths().map(|length| return_address.wrapping_sub(length)).find(
                |&at| {
                    let found = self.system.machine.instruction_at(at);
                    found.is_ok_and(|i| i.control() == Control::Call && i.end() == return_address)
                },
            );
        call.unwrap_or(return_address.wrapping_sub(1))
    }

    /// Where the outermost frame ends that starts at an address: where the program's stack pointer started, or
    /// there if that is another stack.
    pub(crate) fn outermost_end(&self, start: u64) -> u64 {
        let memory = self.system.machine.memory();
        let region = |address| memory.region_at(address).map(|region| region.start);
        let base = self.stack_base();
        if region(base) == region(start) { base.max(start) } else { start }
    }

    /// The stack pointer with which the program started.
    fn stack_base(&self) -> u64 {
        let cpu = &self.history.start().machine().cpu;
        cpu.registers[usize::from(self.arch().stack_pointer().0)]
    }
}
