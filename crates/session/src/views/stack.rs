//! The stack as a column of labelled words, as wide as the machine pushes them.
//!
//! What a slot holds follows from who wrote it: that is found by executing again what was lately, and kept
//! up to date while the program is stepped.

use std::collections::HashMap;

use serde::Serialize;
use sotto_isa::{Arch, Control, Instruction, Operand, Reg, RegKind, Storage};
use sotto_kernel::{KernelWrite, auxiliary_name};
use sotto_machine::{MAX_RANGES, OnWrite, RangeWrite, RegionKind, StepEffects, Watched, Watcher};

use crate::run::lineage::Lineage;
use crate::views::frame_code::{FrameUses, first_passed, is_gap, words_passed};
use crate::views::places::{Place, hex};
use crate::{Frame, Session};

/// What a slot of the stack is for.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum SlotRole {
    /// Where a routine returns to.
    ReturnAddress,
    /// A register that the routine keeps for its caller.
    Saved(&'static str),
    /// The caller's frame pointer.
    FrameLink(&'static str),
    /// An argument, counted from 1, of the routine that was called.
    Argument(u32),
    /// Part of what the kernel keeps for a handler of a signal to return to. Source: sigreturn(2).
    SignalFrame,
    /// Written by the routine, for its own use.
    Local,
    /// Part of a frame for a value to come: not written since the routine was entered.
    Unwritten,
    /// Part of a frame that nothing in the routine's code names: there for the sake of alignment.
    Gap,
    /// Below the stack pointer, where a leaf routine may keep values. Source: psABI, 3.2.2.
    RedZone,
    /// Below the stack pointer: left over.
    Below,
    /// Laid down by the kernel before the program started: the count of arguments, an argument, and so on.
    Startup(String),
    /// Not known: it was written too long ago.
    Unknown,
}

/// The instruction that wrote a slot.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct SlotWriter {
    /// Instructions completed before it.
    pub moment: u64,
    /// Where it stands.
    pub place: Place,
    /// It, as text.
    pub instruction: String,
}

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
    /// What it is for.
    pub role: SlotRole,
    /// It is part of the auxiliary vector. Source: getauxval(3).
    #[serde(skip)]
    pub auxiliary: bool,
    /// How it is written in the routine: `[rbp - 8]`; `None` outside the innermost frame.
    pub name: Option<String>,
    /// The frame that it is part of, by number from the innermost, 0.
    pub frame: Option<usize>,
    /// Who wrote it, if that was lately.
    pub writer: Option<SlotWriter>,
}

/// Part of the stack, by ascending address.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct StackView {
    /// The stack pointer.
    #[serde(serialize_with = "hex")]
    pub pointer: u64,
    /// The routines of the frames that the slots are part of, the innermost first.
    pub frames: Vec<String>,
    /// The words.
    pub slots: Vec<StackSlot>,
}

/// Who wrote the slots of the stack last, as of a moment.
#[derive(Clone, Default)]
pub(crate) struct SlotWriters {
    /// The moment for which this holds.
    moment: Option<u64>,
    /// The moment since which all of them were looked for.
    since: u64,
    writes: HashMap<u64, Option<RangeWrite>>,
}

impl SlotWriters {
    /// Time has gone on unseen.
    pub fn forget(&mut self) {
        self.moment = None;
    }

    /// Follows an instruction that was stepped; `moment` is the one after it.
    pub fn follow(
        &mut self,
        moment: u64,
        address: u64,
        effects: &StepEffects,
        by_kernel: &[KernelWrite],
    ) {
        let Some(before) = moment.checked_sub(1).filter(|before| self.moment == Some(*before))
        else {
            self.moment = None;
            return;
        };
        self.moment = Some(moment);
        let written =
            effects.memory.iter().map(|change| (change.address, change.bytes * change.elements));
        let by_kernel = by_kernel.iter().map(|write| (write.address, write.bytes));
        for (start, bytes) in written.chain(by_kernel) {
            for (slot, writer) in &mut self.writes {
                // Slots are at most eight bytes; one that is reached from below is met too.
                if *slot < start.saturating_add(bytes) && start < slot.saturating_add(SLOT_REACH) {
                    *writer = Some(RangeWrite { moment: before, address });
                }
            }
        }
    }
}

/// Bytes of a slot for telling who wrote it; in 32-bit mode a slot of four bytes is asked for by itself.
const SLOT_REACH: u64 = 4;
/// Instructions that are executed again at most to find who wrote what is on the stack: less than a tenth of a second.
pub const DEEP: u64 = 2 << 20;

impl Session {
    /// The stack around its pointer: `below` words below it and `count` from it up. To find who wrote them,
    /// at most `reach` instructions are executed again.
    pub fn stack(&mut self, below: u64, count: u64, reach: u64) -> StackView {
        let pointer = self.register(self.arch().stack_pointer());
        let width = self.arch().address_bytes();
        let first = pointer.wrapping_sub(width * below);
        self.stack_from(first, below + count, reach)
    }

    /// Words of the stack from an address up.
    pub fn stack_from(&mut self, first: u64, count: u64, reach: u64) -> StackView {
        let pointer = self.register(self.arch().stack_pointer());
        let width = self.arch().address_bytes();
        let mut raw = Vec::new();
        for index in 0..count {
            let address = first.wrapping_add(width * index);
            let mut bytes = [0; 8];
            let slot = &mut bytes[..width as usize];
            if self.system.machine.memory_mut().read_bytes(address, slot).is_ok() {
                raw.push((address, u64::from_le_bytes(bytes)));
            }
        }
        let frames = self.extents();
        let addresses: Vec<u64> = raw.iter().map(|(address, _)| *address).collect();
        let writers = self.slot_writers(&addresses, reach);
        let mut layouts = vec![None; frames.len()];
        let mut slots: Vec<StackSlot> = Vec::new();
        for (&(address, value), write) in raw.iter().zip(&writers) {
            let offset = address.wrapping_sub(pointer) as i64;
            let frame = frames.iter().position(|frame| (frame.start..frame.end).contains(&address));
            let pair = slots.last().and_then(|slot| slot.writer.as_ref());
            let second =
                pair.is_some_and(|writer| write.is_some_and(|w| w.moment == writer.moment));
            let startup = self.startup_label(address);
            let auxiliary = startup.as_ref().is_some_and(|(_, auxiliary)| *auxiliary);
            let role = match startup {
                _ if offset < 0 => match offset >= -(self.arch().red_zone_bytes() as i64) {
                    true => SlotRole::RedZone,
                    false => SlotRole::Below,
                },
                Some((label, _)) => SlotRole::Startup(label),
                None => {
                    // The frame that it is part of, and the one that it may pass something to.
                    for number in
                        frame.iter().flat_map(|number| [Some(*number), number.checked_sub(1)])
                    {
                        if let Some(number) = number
                            && layouts[number].is_none()
                        {
                            layouts[number] = Some(self.layout(&frames[number]));
                        }
                    }
                    let scene = SlotScene { frame, frames: &frames, layouts: &layouts, second };
                    self.role(address, *write, &scene)
                }
            };
            let writer = write.and_then(|write| self.slot_writer(write));
            let meaning = meaning(self, value, &role);
            let name =
                (frame == Some(0) && offset >= 0).then(|| self.slot_name(address, &frames[0]));
            let name = name.filter(|_| !matches!(role, SlotRole::Startup(_)));
            slots.push(StackSlot {
                address,
                offset,
                value,
                meaning,
                role,
                auxiliary,
                name,
                frame,
                writer,
            });
        }
        let frames = frames.iter().map(|frame| frame.routine.clone()).collect();
        StackView { pointer, frames, slots }
    }

    /// What a frame's code says of it.
    fn layout(&mut self, frame: &Frame) -> Layout {
        let uses = self.frame_uses(frame.entry.address);
        Layout { passed: words_passed(self.arch(), &uses), uses }
    }

    /// What a slot at or above the stack pointer is for.
    fn role(&mut self, address: u64, write: Option<RangeWrite>, scene: &SlotScene) -> SlotRole {
        let &SlotScene { frame, frames, layouts, second } = scene;
        let arch = self.arch();
        let on_stack = arch.stacks_return_address();
        let returns = |frame: &Frame| {
            frame.call.is_some() && frame.end.wrapping_sub(arch.address_bytes()) == address
        };
        if on_stack && frames.iter().any(returns) {
            return SlotRole::ReturnAddress;
        }
        let entered = frame.and_then(|number| frames[number].moment);
        let Some(write) = write.filter(|write| entered.is_none_or(|at| write.moment >= at)) else {
            let searched = self.writers.since;
            let gap = frame.is_some_and(|number| {
                // The outermost has no return address of its own.
                let called = frames[number].call.is_some();
                let at_entry = frames[number].end.wrapping_sub(if called {
                    first_passed(arch) as u64
                } else {
                    0
                });
                let offset = address.wrapping_sub(at_entry) as i64;
                layouts[number].as_ref().is_some_and(|layout| is_gap(arch, &layout.uses, offset))
            });
            return match entered {
                Some(at) if searched <= at && gap => SlotRole::Gap,
                Some(at) if searched <= at => SlotRole::Unwritten,
                _ => SlotRole::Unknown,
            };
        };
        let inner = frame.and_then(|number| frames.get(number.checked_sub(1)?));
        if inner.is_some_and(|inner| inner.is_handler && inner.moment == Some(write.moment + 1)) {
            return SlotRole::SignalFrame;
        }
        let Ok(instruction) = self.system.machine.instruction_at(write.address) else {
            return SlotRole::Local;
        };
        let prologue = frame.is_some_and(|number| {
            (0..PROLOGUE).contains(&write.address.wrapping_sub(frames[number].entry.address))
        });
        // What the routine above reads of the caller's frame; in 32-bit mode, also what is pushed just before
        // the call.
        if let Some(inner) = frame.and_then(|number| number.checked_sub(1))
            && let Some(call) = frames[inner].call_address
        {
            let slot = (address - frames[inner].end) / arch.address_bytes();
            let read = layouts[inner].as_ref().is_some_and(|layout| slot < layout.passed);
            // Where all of the routine's code was read, that says it; otherwise the way of writing does.
            let unknown = layouts[inner].as_ref().is_none_or(|layout| !layout.uses.is_complete())
                && !(prologue && saved(arch, &instruction, second).is_some());
            if read
                || unknown
                    && arch.convention().arguments.is_empty()
                    && self.is_passed(&instruction, call, slot)
            {
                let in_registers = arch.convention().arguments.len();
                return SlotRole::Argument((in_registers as u64 + slot) as u32 + 1);
            }
        }
        match saved(self.arch(), &instruction, second).filter(|_| prologue) {
            Some(reg) => match reg.storage() {
                Some(storage) if Some(storage) == self.arch().link_register() => {
                    SlotRole::ReturnAddress
                }
                Some(storage) if storage == self.arch().frame_pointer() => {
                    SlotRole::FrameLink(reg.name())
                }
                _ => SlotRole::Saved(reg.name()),
            },
            None => SlotRole::Local,
        }
    }

    /// Whether an instruction in front of a call puts an argument into a slot, counted from the return address: it
    /// is the push that many pushes before the call, or it names the slot by the stack pointer as the call finds it.
    fn is_passed(&mut self, writer: &Instruction, call: u64, slot: u64) -> bool {
        let arch = self.arch();
        let slot_bytes = arch.address_bytes() as i64;
        if !(1..=ARGUMENT_CODE).contains(&call.wrapping_sub(writer.address)) {
            return false;
        }
        // How far the stack pointer moves down from behind the instruction to the call.
        let (mut at, mut lower) = (writer.end(), 0);
        while at < call {
            let Ok(next) = self.system.machine.instruction_at(at) else { return false };
            if next.control() != Control::Next {
                return false;
            }
            let moved = crate::views::frame_code::stack_movement(&next, arch);
            let Some(moved) = moved else { return false };
            // Room is made before arguments are pushed, so what was pushed before it is none.
            if moved != 0 && moved != -slot_bytes {
                return false;
            }
            lower -= moved;
            at = next.end();
        }
        let here = match crate::views::frame_code::stack_movement(writer, arch) {
            // A push: it lies at the stack pointer that it leaves.
            Some(moved) if moved == -slot_bytes => lower,
            Some(0) => match writer.operands.first() {
                Some(Operand::Mem(mem)) if mem.index.is_none() => match mem.base {
                    Some(base) if base.storage() == Some(arch.stack_pointer()) => {
                        lower + mem.disp.or_zero()
                    }
                    _ => return false,
                },
                _ => return false,
            },
            _ => return false,
        };
        at == call && here == slot as i64 * slot_bytes
    }

    /// How the routine that is running writes the address of a slot of its frame.
    fn slot_name(&self, address: u64, frame: &Frame) -> String {
        let arch = self.arch();
        let base = [arch.frame_pointer(), arch.stack_pointer()]
            .into_iter()
            .find(|&storage| (frame.start..frame.end).contains(&self.register(storage)))
            .unwrap_or(arch.stack_pointer());
        let name = arch.storage_name(base);
        match address.wrapping_sub(self.register(base)) as i64 {
            0 => format!("[{name}]"),
            offset @ 1.. => format!("[{name} + {offset}]"),
            offset => format!("[{name} - {}]", offset.unsigned_abs()),
        }
    }

    fn slot_writer(&mut self, write: RangeWrite) -> Option<SlotWriter> {
        let instruction = self.system.machine.instruction_at(write.address).ok()?;
        let instruction = self.instruction_text(&instruction);
        Some(SlotWriter { moment: write.moment, place: self.place(write.address), instruction })
    }

    /// Who wrote slots last, as far as that is found by executing at most `reach` instructions again.
    fn slot_writers(&mut self, slots: &[u64], reach: u64) -> Vec<Option<RangeWrite>> {
        let (now, ending) = (self.moment(), self.ending());
        if self.writers.moment != Some(now) {
            self.writers = SlotWriters { moment: Some(now), ..SlotWriters::default() };
        }
        let mut known = std::mem::take(&mut self.writers);
        let missing: Vec<u64> =
            slots.iter().copied().filter(|slot| !known.writes.contains_key(slot)).collect();
        let mut left = reach;
        for some in missing.chunks(MAX_RANGES) {
            let (found, since) = self.last_writes(some, &mut left);
            known.since = known.since.max(since);
            known.writes.extend(some.iter().copied().zip(found));
            self.return_to(now, ending);
        }
        let writers = slots.iter().map(|slot| known.writes[slot]).collect();
        // Going about in time has forgotten what was known there.
        self.writers = SlotWriters { moment: Some(now), ..known };
        writers
    }

    /// The last writes to slots, and the moment since which they were looked for: as far back as executing `left`
    /// instructions again leads, which are counted down. Between two checkpoints that share the pages of the slots nothing
    /// has written there, and nothing is executed. The session is somewhere else afterwards.
    fn last_writes(&mut self, slots: &[u64], left: &mut u64) -> (Vec<Option<RangeWrite>>, u64) {
        let width = self.arch().address_bytes();
        let mut found = vec![None; slots.len()];
        let mut lineage = Lineage::of(&self.system);
        let mut end = self.moment();
        while end > 0 && found.iter().any(Option::is_none) {
            let missing: Vec<usize> = (0..slots.len()).filter(|&at| found[at].is_none()).collect();
            let mut watched = Watched::default();
            missing.iter().for_each(|&at| watched.add_memory(slots[at], width));
            let born = lineage.go_back_to(end);
            let mut start = self.history.before(end - 1).executed();
            if start < born || !self.is_untouched_between(&watched, lineage.space, start, end) {
                if *left == 0 {
                    break;
                }
                start = start.max(end.saturating_sub(*left)).max(born);
                *left -= end - start;
                let watcher = Watcher::new(watched, OnWrite::Note);
                let mut watcher = watcher.in_space(u64::from(lineage.space.0));
                self.watch_through(start, end, &mut watcher);
                for (&at, last) in missing.iter().zip(watcher.last_of_ranges()) {
                    found[at] = *last;
                }
            }
            end = start;
        }
        (found, end)
    }

    /// What the kernel laid down at an address of the stack before the program started.
    fn startup_label(&self, address: u64) -> Option<(String, bool)> {
        let start = self.history.start().machine();
        let arch = self.arch();
        let width = arch.address_bytes();
        let base = start.cpu.registers[usize::from(arch.stack_pointer().0)];
        let slot = address.checked_sub(base)? / width;
        let word = |slot: u64| {
            let mut bytes = [0; 8];
            start.memory().read_bytes(base + slot * width, &mut bytes[..width as usize])?;
            Some(u64::from_le_bytes(bytes))
        };
        let arguments = word(0)?;
        let environment = arguments + 2;
        let mut auxiliary = false;
        let label = match slot {
            0 => "count of arguments".to_string(),
            slot if slot <= arguments => format!("argument {}", slot - 1),
            slot if slot == arguments + 1 => "end of arguments".to_string(),
            slot => {
                let mut end = environment;
                while end < slot && word(end)? != 0 {
                    end += 1;
                }
                match () {
                    () if slot < end || word(slot)? != 0 && slot == end => {
                        format!("environment {}", slot - environment)
                    }
                    () if slot == end => "end of environment".to_string(),
                    // Pairs of a type and a value follow, up to the type 0, and then texts.
                    () => {
                        let mut at = end + 1;
                        while at < slot && word(at)? != 0 {
                            at += 2;
                        }
                        if slot > at + 1 || (slot > at && word(at)? != 0 && slot != at + 1) {
                            return Some(("texts and alignment".to_string(), false));
                        }
                        auxiliary = true;
                        let is_value = (slot - end).is_multiple_of(2);
                        let number = word(slot - u64::from(is_value))?;
                        let name = auxiliary_name(number)
                            .map_or_else(|| format!("type {number}"), str::to_string);
                        match is_value {
                            true => format!("value of {name}"),
                            false => format!("{name} (auxiliary vector)"),
                        }
                    }
                }
            }
        };
        Some((label, auxiliary))
    }
}

/// What the code of a routine says of its frame.
#[derive(Clone)]
struct Layout {
    uses: FrameUses,
    /// Words that it takes from its caller's frame.
    passed: u64,
}

/// What the role of a slot depends on.
struct SlotScene<'a> {
    /// The frame that it is part of.
    frame: Option<usize>,
    frames: &'a [Frame],
    /// By frame, as far as they were looked up.
    layouts: &'a [Option<Layout>],
    /// It was written together with the slot below it.
    second: bool,
}

/// Bytes of code before a call in which its arguments are pushed.
const ARGUMENT_CODE: u64 = 64;
/// Bytes of code from the start of a routine in which it saves registers.
const PROLOGUE: u64 = 64;

/// The preserved register that an instruction stores; the second one of a pair if `second`.
fn saved(arch: Arch, instruction: &Instruction, second: bool) -> Option<Reg> {
    let preserved = |storage: Storage| arch.convention().is_preserved(storage);
    let mut stored = instruction.operands.iter().enumerate().filter_map(|(index, operand)| {
        let Operand::Reg(reg) = operand else { return None };
        let kept = reg.width() == arch.address_width() && reg.storage().is_some_and(preserved);
        (instruction.access(index).reads() && kept).then_some(*reg)
    });
    let first = stored.next();
    if second { stored.next().or(first) } else { first }
}

fn meaning(session: &mut Session, value: u64, role: &SlotRole) -> Option<String> {
    let Some(segment) = session.image().segment_at(value) else {
        return text_at(session, value).map(|text| format!("address of {text}"));
    };
    if segment.exec {
        let place = session.place(value);
        let name = place.symbol_name()?;
        // The start of a routine is the address of the routine, whatever lies before it.
        let starts_routine = place.offset == 0 && place.symbol.is_some();
        let after_call = *role == SlotRole::ReturnAddress
            || !starts_routine && returns_from_call(session, value, &place);
        let location = place.location().map(|l| format!(" ({l})")).unwrap_or_default();
        return Some(match after_call {
            true => format!("return address: {name}{location}"),
            false => format!("code: {name}{location}"),
        });
    }
    session.place(value).symbol_name().map(|name| format!("address of {name}"))
}

/// The text at an address on the stack, quoted: an argument or a variable of the environment.
fn text_at(session: &mut Session, address: u64) -> Option<String> {
    const LONGEST: u64 = 40;
    let memory = session.system_mut().machine.memory_mut();
    if memory.region_at(address)?.kind != RegionKind::Stack {
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

/// Instructions from a symbol on that are read to find where one of them begins.
const READ_FROM_SYMBOL: usize = 4096;

/// Whether the instruction before an address is a call.
fn returns_from_call(session: &mut Session, address: u64, place: &Place) -> bool {
    // Reading from the symbol on tells where instructions begin.
    let mut at = address - place.offset;
    for _ in 0..READ_FROM_SYMBOL {
        if place.symbol.is_none() {
            break;
        }
        let Ok(instruction) = session.system_mut().machine.instruction_at(at) else { break };
        at = instruction.end();
        if at >= address {
            return at == address && instruction.control() == Control::Call;
        }
    }
    // Nothing between programs' own routines calls through a selector.
    (2..=7).any(|length| {
        let Some(start) = address.checked_sub(length) else { return false };
        session.system_mut().machine.instruction_at(start).is_ok_and(|instruction| {
            instruction.control() == Control::Call
                && instruction.end() == address
                && !instruction
                    .implicit()
                    .iter()
                    .any(|implicit| implicit.reg.kind == RegKind::Segment)
        })
    })
}
