//! The chain of calls: each routine that has not returned, with where it was called, its arguments by
//! convention and the part of the stack that is its own.
//!
//! The chain comes from execution, so that frame pointers are not needed; where control came by a way that
//! was not followed, it comes from unwind tables (`unwound.rs`). Which arguments a routine takes is read off its
//! code: those that it reads before it writes them.

use serde::Serialize;
use sotto_isa::{Control, Instruction, Storage};
use sotto_machine::registers_used;
use sotto_object::{Binding, SymbolKind};

use crate::Session;
use crate::views::frame_code::{FrameUses, first_passed, frame_uses, words_passed};
use crate::views::places::{Place, hex};

/// An argument of a routine.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct Argument {
    /// The register, or which argument of the convention it is, if it was passed on the stack.
    pub name: String,
    /// Its value then.
    #[serde(serialize_with = "hex")]
    pub value: u64,
    /// The symbol that it was the address of, if it was exactly one.
    pub points_to: Option<String>,
}

/// A routine that has not returned.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct Frame {
    /// Its name, or its address.
    pub routine: String,
    /// Its first instruction.
    pub entry: Place,
    /// The instruction that is next in it: after the call of the routine above it, for all but the innermost.
    pub at: Place,
    /// The routine that it went on to by a tail call: a jump to a routine, which returns for both.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tail_called: Option<String>,
    /// The instruction that called it; `None` for the outermost.
    pub call: Option<Place>,
    /// It is a handler of a signal, and `call` the instruction before which that came.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub is_handler: bool,
    /// That instruction's address.
    #[serde(skip)]
    pub call_address: Option<u64>,
    /// Instructions completed when it was entered; `None` if that was not followed, and an unwind table tells
    /// of it.
    pub moment: Option<u64>,
    /// The lowest address of its part of the stack.
    #[serde(serialize_with = "hex")]
    pub start: u64,
    /// The address after its part of the stack; a return address on the stack belongs to it.
    #[serde(serialize_with = "hex")]
    pub end: u64,
    /// Its arguments by convention, as they were given; empty until [`Session::frames`] fills them in.
    pub arguments: Vec<Argument>,
}

/// Instructions of a routine that are looked at for its arguments.
const SCANNED: usize = 64;
/// Frames whose arguments are looked up.
const WITH_ARGUMENTS: usize = 16;

impl Session {
    /// The frames with their arguments, the innermost first.
    pub fn frames(&mut self) -> Vec<Frame> {
        let (now, ending) = (self.moment(), self.ending());
        let mut frames = self.extents();
        for frame in frames.iter_mut().take(WITH_ARGUMENTS) {
            let Some(entered) = frame.moment.filter(|_| frame.call_address.is_some()) else {
                continue;
            };
            let names = self.argument_places(frame.entry.address);
            if names.is_empty() {
                continue;
            }
            self.go_to(entered);
            frame.arguments = names
                .into_iter()
                .filter_map(|(name, place)| {
                    let value = self.argument_value(place)?;
                    let symbol = self.image.symbol_before(value);
                    let points_to = symbol
                        .filter(|(symbol, offset)| *offset == 0 && !symbol.absolute)
                        .map(|(symbol, _)| symbol.name.clone());
                    Some(Argument { name, value, points_to })
                })
                .collect();
        }
        self.return_to(now, ending);
        for frame in &mut frames {
            frame.tail_called = self.tail_called(frame);
        }
        frames
    }

    /// The routine where a frame is now, if that is another than the one that was called.
    fn tail_called(&self, frame: &Frame) -> Option<String> {
        let (symbol, _) = self.image.symbol_before(frame.at.address)?;
        let called =
            self.image.symbol_before(frame.entry.address).map(|(symbol, _)| symbol.address);
        let is_routine = symbol.binding != Binding::Local
            || symbol.kind == SymbolKind::Function
            || self.image.contract_at(symbol.address).is_some();
        let other = called.is_some_and(|called| called != symbol.address);
        (is_routine && other).then(|| symbol.name.clone())
    }

    /// The frames without their arguments, the innermost first. There is at least one.
    pub(crate) fn extents(&mut self) -> Vec<Frame> {
        let followed = self.followed();
        if !self.came_unseen() {
            return followed;
        }
        self.unwound(&followed).unwrap_or(followed)
    }

    /// The frames as execution made them, without their arguments.
    fn followed(&self) -> Vec<Frame> {
        let arch = self.arch();
        let slot = arch.return_address_slot();
        let pointer = self.system.machine.register(arch.stack_pointer());
        let calls = self.system.machine.calls();
        let mut frames = Vec::new();
        let mut at = self.system.machine.pc();
        let mut start = pointer;
        for call in calls.iter().rev() {
            let entry = self.place(call.routine);
            let end = call.stack_pointer.wrapping_add(slot).max(start);
            frames.push(Frame {
                routine: entry.name().unwrap_or_else(|| format!("{:#x}", call.routine)),
                entry,
                at: self.place(at),
                call: Some(self.place(call.from)),
                is_handler: call.is_handler,
                call_address: Some(call.from),
                moment: Some(call.moment),
                start,
                end,
                tail_called: None,
                arguments: Vec::new(),
            });
            start = end;
            // A handler came between two instructions.
            at = if call.is_handler { call.from } else { call.return_address };
        }
        let entry = self.place(self.image_entry());
        frames.push(Frame {
            routine: entry.name().unwrap_or_else(|| format!("{:#x}", entry.address)),
            entry,
            at: self.place(at),
            call: None,
            is_handler: false,
            call_address: None,
            moment: Some(0),
            start,
            end: self.outermost_end(start),
            tail_called: None,
            arguments: Vec::new(),
        });
        frames
    }

    /// Where the program started.
    fn image_entry(&self) -> u64 {
        self.history.start().machine().cpu.registers[usize::from(self.arch().pc().0)]
    }

    fn argument_value(&mut self, place: ArgumentPlace) -> Option<u64> {
        match place {
            ArgumentPlace::Register(storage) => Some(self.register(storage)),
            ArgumentPlace::Stack(offset) => {
                let at = self.register(self.arch().stack_pointer()).wrapping_add(offset);
                let mut bytes = [0; 8];
                let word = &mut bytes[..self.arch().address_bytes() as usize];
                self.system.machine.memory_mut().read_bytes(at, word).ok()?;
                Some(u64::from_le_bytes(bytes))
            }
        }
    }

    /// The arguments that the routine at an address takes, read off its code.
    fn argument_places(&mut self, routine: u64) -> Vec<(String, ArgumentPlace)> {
        let arch = self.arch();
        let code = self.code_of(routine);
        let read = read_before_written(&code);
        let registers = arch.convention().arguments.iter().filter(|storage| read.contains(storage));
        let registers = registers.map(|&storage| {
            (arch.storage_name(storage).to_string(), ArgumentPlace::Register(storage))
        });
        let (first, slot) = (first_passed(arch) as u64, arch.address_bytes());
        let in_registers = arch.convention().arguments.len() as u64;
        let passed = words_passed(arch, &self.frame_uses(routine));
        // Where it is on the stack changes with the stack pointer; which argument it is does not.
        let passed = (0..passed).map(|number| {
            let name = format!("argument {}", in_registers + number + 1);
            (name, ArgumentPlace::Stack(first + number * slot))
        });
        registers.chain(passed).collect()
    }

    /// What the code of a routine says of its frame.
    pub(crate) fn frame_uses(&mut self, routine: u64) -> FrameUses {
        let machine = &mut self.system.machine;
        frame_uses(machine.arch(), routine, |at| machine.instruction_at(at).ok())
    }

    /// The code of a routine up to its first way out, or as much of it as is looked at.
    fn code_of(&mut self, routine: u64) -> Vec<Instruction> {
        let mut code = Vec::new();
        let mut at = routine;
        while code.len() < SCANNED {
            let Ok(instruction) = self.system.machine.instruction_at(at) else { break };
            at = instruction.end();
            let control = instruction.control();
            code.push(instruction);
            if matches!(control, Control::Return | Control::Jump | Control::Trap) {
                break;
            }
        }
        code
    }
}

/// Where an argument is when a routine is entered.
#[derive(Copy, Clone)]
enum ArgumentPlace {
    Register(Storage),
    /// Bytes from the stack pointer.
    Stack(u64),
}

/// The registers that code reads before it writes them, calls and system calls writing all.
fn read_before_written(code: &[Instruction]) -> Vec<Storage> {
    let (mut read, mut written): (Vec<Storage>, Vec<Storage>) = (Vec::new(), Vec::new());
    for instruction in code {
        if matches!(instruction.control(), Control::Call) {
            break;
        }
        let used = registers_used(instruction);
        // What is taken from itself is only cleared.
        let clears = instruction.is_zeroing();
        for (access, reg) in &used {
            let Some(storage) = reg.storage() else { continue };
            if access.reads() && !clears && !written.contains(&storage) && !read.contains(&storage)
            {
                read.push(storage);
            }
        }
        written.extend(used.iter().filter(|(a, _)| a.writes()).filter_map(|(_, r)| r.storage()));
    }
    read
}
