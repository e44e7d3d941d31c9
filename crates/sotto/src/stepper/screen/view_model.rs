//! What the full screen shows at a stop, gathered from the session: data only, no places on the screen.

use std::collections::{HashMap, HashSet};

use sotto_isa::{LaneKind, Lanes, Operand, Reg, RegisterValue, Storage, Width};
use sotto_kernel::Termination;
use sotto_session::{Format, Session, StackView, StepReport};

use crate::render;
use crate::stepper::line::commander::Commander;

/// Steps back that show their values beside the source.
const TRAIL: usize = 256;
/// Instructions that are executed again at most to find who wrote what is on the stack.
const REACH: u64 = 1 << 18;
/// Steps before the last one that are shown with it, if there is room.
const EARLIER: usize = 16;
/// Words below the stack pointer that are shown in the place of what the kernel laid down for the C library.
const MOST_BELOW: i64 = 8;
/// Bytes of output that are shown.
const OUTPUT: usize = 64 << 10;

/// A line of source or an instruction.
#[derive(Clone, Debug, Default)]
pub struct CodeLine {
    /// Its number in the source; an address for an instruction.
    pub label: String,
    pub text: String,
    /// What it did when it was executed last.
    pub effects: Option<String>,
    /// It was executed by the last step.
    pub latest: bool,
    pub is_next: bool,
    pub is_instruction: bool,
    pub breakpoint: bool,
}

/// A register.
#[derive(Clone, Debug)]
pub struct RegisterRow {
    pub role: &'static str,
    pub name: &'static str,
    pub value: u64,
    /// The symbol that it is the address of, or in whose reach it points.
    pub points_to: Option<String>,
    pub changed: bool,
    pub about: bool,
}

/// A vector register, as elements.
#[derive(Clone, Debug)]
pub struct VectorRow {
    pub name: &'static str,
    pub value: RegisterValue,
    pub elements: String,
    pub changed: bool,
    pub about: bool,
}

/// A flag.
#[derive(Clone, Debug)]
pub struct FlagRow {
    pub name: &'static str,
    pub word: &'static str,
    pub set: bool,
    pub changed: bool,
    pub about: bool,
    pub reason: Option<String>,
}

/// A line of memory, and whether it has changed.
#[derive(Clone, Debug)]
pub struct MemoryRow {
    pub line: sotto_session::MemoryLine,
    pub changed: bool,
}

/// Everything that is shown.
#[derive(Clone, Debug, Default)]
pub struct ViewModel {
    /// Where the program is.
    pub place: String,
    /// The task that is looked at, if there are several.
    pub task: Option<u32>,
    /// The file whose lines are shown.
    pub file: String,
    pub code: Vec<CodeLine>,
    /// What begins a comment in it.
    pub comments: &'static [&'static str],
    /// The number of the first code line among all, and of all.
    pub code_first: usize,
    pub code_total: usize,
    pub registers: Vec<RegisterRow>,
    /// Vector registers, if they are wanted, and the name of their elements' type.
    pub vectors: Vec<VectorRow>,
    pub lanes: String,
    pub flags: Vec<FlagRow>,
    pub stack: Option<StackView>,
    /// Slots that the last step wrote, and that the next will write.
    pub stack_changed: HashSet<u64>,
    pub stack_about: HashSet<u64>,
    pub memory: Vec<MemoryRow>,
    /// Why memory cannot be shown.
    pub memory_error: Option<String>,
    pub shown: Vec<(String, String, bool)>,
    pub output: Vec<String>,
    /// The latest steps before the last one, a line each, the earliest first.
    pub earlier: Vec<String>,
    pub moment: u64,
    pub furthest: u64,
    pub marks: Vec<(String, u64)>,
    pub edits: Vec<u64>,
    /// How it ended, or what it waits for.
    pub state: Option<String>,
}

/// What to gather.
#[derive(Clone, Debug)]
pub struct ViewRequest {
    /// Lines of code, and the first of them; around the next one if there is none.
    pub code_lines: usize,
    pub code_first: Option<usize>,
    /// Instructions below source lines; if not said, below those of a compiled language.
    pub instructions: Option<bool>,
    /// Vector registers, in the place of the general ones.
    pub vectors: bool,
    pub stack_lines: usize,
    /// Slots from the usual place, up.
    pub stack_scroll: i64,
    pub memory: String,
    pub memory_lines: usize,
    pub memory_scroll: i64,
    pub memory_bytes: u64,
}

/// What has to be kept from one picture to the next.
#[derive(Default)]
pub struct Before {
    registers: HashMap<Storage, u64>,
    vectors: Vec<(Reg, RegisterValue)>,
    /// The elements that a vector instruction was about last.
    lanes: Option<Lanes>,
    shown: HashMap<String, String>,
    moment: Option<u64>,
    memory: HashMap<u64, Vec<String>>,
    memory_text: String,
}

impl ViewModel {
    /// Gathers what is wanted. What differs from the moment that was gathered before is marked as changed.
    pub fn gather(
        commander: &mut Commander,
        wanted: &ViewRequest,
        before: &mut Before,
    ) -> ViewModel {
        let shown = commander.shown_values();
        let session = &mut commander.session;
        let moment = session.moment();
        let moved = before.moment != Some(moment);
        let trail = session.recent(TRAIL);
        let ahead = session.ahead();
        let last = trail.last().filter(|report| report.moment == moment).cloned();
        let here = session.here();
        let mut picture = ViewModel {
            task: session.shown_task_number(),
            place: match (here.location(), here.name()) {
                (Some(location), Some(name)) => {
                    let file = location.rsplit('/').next().unwrap_or_default();
                    format!("{file}  {name}")
                }
                (_, Some(name)) => name,
                _ => format!("{:#x}", here.address),
            },
            moment,
            furthest: session.furthest(),
            marks: session.marks().iter().map(|m| (m.name.clone(), m.moment)).collect(),
            edits: session.edited_at(),
            state: state(session),
            ..ViewModel::default()
        };
        let effects: Vec<&StepReport> = trail.iter().map(AsRef::as_ref).collect();
        let earlier = effects.len().saturating_sub(1 + EARLIER)..effects.len().saturating_sub(1);
        picture.earlier = effects[earlier].iter().map(|step| render::step_line(step)).collect();
        picture.gather_code(session, wanted, &effects);
        picture.gather_registers(session, before, last.as_deref(), ahead.as_ref(), moved);
        match wanted.vectors {
            true => picture.gather_vectors(session, before, last.as_deref(), ahead.as_ref(), moved),
            // What they are meanwhile nobody looks at.
            false => before.vectors.clear(),
        }
        picture.gather_stack(session, wanted, last.as_deref(), ahead.as_ref());
        picture.gather_memory(session, wanted, before, moved);
        for (text, value) in shown {
            let changed = before.shown.get(&text).is_some_and(|old| *old != value);
            picture.shown.push((text, value, changed));
        }
        if moved {
            before.shown = picture
                .shown
                .iter()
                .map(|(text, value, _)| (text.clone(), value.clone()))
                .collect();
            before.moment = Some(moment);
        }
        picture.output = output(session);
        picture
    }

    fn gather_code(&mut self, session: &mut Session, wanted: &ViewRequest, trail: &[&StepReport]) {
        let here = session.here();
        let has_source = here.line.is_some()
            && session.sources().iter().any(|source| Some(&*source.name) == here.file.as_deref());
        match has_source {
            true => self.source_lines(session, wanted, trail),
            false => self.instructions(session, wanted, trail),
        }
    }

    fn source_lines(&mut self, session: &mut Session, wanted: &ViewRequest, trail: &[&StepReport]) {
        let here = session.here();
        let compiled = here.is_compiled();
        let (file, line) = (here.file.unwrap_or_default(), here.line.unwrap_or(1) as usize);
        let Some(source) = session.sources().iter().find(|source| *source.name == *file) else {
            return;
        };
        let source = source.clone();
        let instructions = wanted.instructions.unwrap_or(compiled);
        self.comments = match compiled {
            false => sotto_asm::comment_signs(session.arch()),
            true => &["//", "/*"],
        };
        let total = source.line_count();
        let first = wanted.code_first.unwrap_or_else(|| {
            // The next line a third from the top: more is to come than was.
            line.saturating_sub(1).saturating_sub(wanted.code_lines / 3)
        });
        let first = first.min(total.saturating_sub(1));
        let mut effects: HashMap<u32, (u64, String)> = HashMap::new();
        let mut by_address: HashMap<u64, String> = HashMap::new();
        for report in trail {
            let place = &report.place;
            let text = brief(report);
            by_address.insert(place.address, text.clone());
            if let (true, Some(number)) = (place.file.as_ref() == Some(&file), place.line) {
                effects.insert(number, (report.moment, text));
            }
        }
        let breakpoints: Vec<u64> =
            session.breakpoints().iter().flat_map(|b| b.addresses.iter().copied()).collect();
        let marked: HashSet<u32> = breakpoints
            .iter()
            .filter_map(|address| {
                let place = session.place(*address);
                place.line.filter(|_| place.file.as_ref() == Some(&file))
            })
            .collect();
        let ended = has_exited(session);
        for number in first..total {
            if self.code.len() >= wanted.code_lines {
                break;
            }
            let number = number as u32 + 1;
            let effect = effects.get(&number);
            self.code.push(CodeLine {
                label: number.to_string(),
                text: source.line(number).unwrap_or_default().trim_end().to_string(),
                effects: effect.map(|(_, text)| text.clone()).filter(|text| !text.is_empty()),
                latest: effect.is_some_and(|(moment, _)| *moment == self.moment),
                is_next: number as usize == line && !ended,
                is_instruction: false,
                breakpoint: marked.contains(&number),
            });
            if instructions {
                self.instructions_of(session, &file, number, &by_address, wanted.code_lines);
            }
        }
        (self.file, self.code_first, self.code_total) = (file.to_string(), first, total);
    }

    /// The instructions of a source line, below it.
    fn instructions_of(
        &mut self,
        session: &mut Session,
        file: &str,
        line: u32,
        effects: &HashMap<u64, String>,
        most: usize,
    ) {
        let lines = &session.image().lines;
        let Some(number) = lines.files.iter().position(|name| name == file) else { return };
        let place = sotto_object::SourceLine { file: number as u32, line };
        let stretches: Vec<(u64, u64)> = lines
            .rows
            .windows(2)
            .filter(|pair| pair[0].1 == Some(place))
            .map(|pair| (pair[0].0, pair[1].0))
            .collect();
        for (mut at, end) in stretches {
            while at < end && self.code.len() < most {
                let Some(row) = self.instruction_row(session, at, effects) else { break };
                at = row.1;
                self.code.push(row.0);
            }
        }
    }

    fn instruction_row(
        &self,
        session: &mut Session,
        at: u64,
        effects: &HashMap<u64, String>,
    ) -> Option<(CodeLine, u64)> {
        let instruction = session.system_mut().machine.instruction_at(at).ok()?;
        let next = session.system().machine.pc();
        let row = CodeLine {
            label: format!("{at:x}"),
            text: session.instruction_text(&instruction),
            effects: effects.get(&at).cloned().filter(|text| !text.is_empty()),
            latest: false,
            is_next: at == next && !has_exited(session),
            is_instruction: true,
            breakpoint: session.breakpoints().iter().any(|b| b.addresses.contains(&at)),
        };
        Some((row, instruction.end()))
    }

    /// Instructions around the next one, where no source is known.
    fn instructions(&mut self, session: &mut Session, wanted: &ViewRequest, trail: &[&StepReport]) {
        const BEFORE: usize = 4096;
        let pc = session.system().machine.pc();
        let effects: HashMap<u64, String> =
            trail.iter().map(|report| (report.place.address, brief(report))).collect();
        // Code is decoded from the symbol before, so that the instructions are the ones that are executed.
        let place = session.place(pc);
        let mut at = match place.offset {
            0..=0x4000 if place.symbol.is_some() => pc - place.offset,
            _ => pc,
        };
        let (mut rows, mut next) = (Vec::new(), 0);
        while rows.len() < BEFORE + wanted.code_lines {
            let Some((row, end)) = self.instruction_row(session, at, &effects) else { break };
            if at <= pc {
                next = rows.len();
            }
            rows.push(row);
            at = end;
            if rows.len() > next + wanted.code_lines.max(200) {
                break;
            }
        }
        let total = rows.len();
        let first = wanted.code_first.unwrap_or(next.saturating_sub(wanted.code_lines / 3));
        let first = first.min(total.saturating_sub(1));
        let shown = rows.into_iter().skip(first).take(wanted.code_lines);
        for mut row in shown {
            row.latest = false;
            self.code.push(row);
        }
        let name = place.symbol.as_deref().unwrap_or("no symbol");
        (self.file, self.code_first, self.code_total) = (format!("code of {name}"), first, total);
    }

    fn gather_registers(
        &mut self,
        session: &Session,
        before: &mut Before,
        last: Option<&StepReport>,
        ahead: Option<&StepReport>,
        moved: bool,
    ) {
        let arch = session.arch();
        let writes = |report: Option<&StepReport>, storage: Storage| {
            report.is_some_and(|report| {
                report.registers.iter().any(|register| {
                    sotto_isa::Reg::parse(arch, register.name)
                        .and_then(sotto_isa::Reg::storage)
                        .is_some_and(|written| written == storage && register.old != register.new)
                })
            })
        };
        for group in arch.convention().groups {
            for &storage in group.registers {
                let value = session.register(storage);
                let old = before.registers.get(&storage).copied();
                let changed = match (moved, old) {
                    (true, Some(old)) => old != value,
                    _ => writes(last, storage),
                };
                let is_pc = storage == arch.pc();
                let points_to = session.place(value).symbol_name();
                self.registers.push(RegisterRow {
                    role: group.role.title(),
                    name: arch.storage_name(storage),
                    value,
                    points_to,
                    changed: changed && !is_pc,
                    about: writes(ahead, storage) && !is_pc,
                });
            }
        }
        if moved {
            let values = self.registers.iter().zip(
                arch.convention().groups.iter().flat_map(|group| group.registers.iter().copied()),
            );
            before.registers = values.map(|(row, storage)| (storage, row.value)).collect();
        }
        let flags = session.system().machine.flags();
        for info in arch.flags() {
            let report = |report: Option<&StepReport>| {
                let flag = report?.flags.iter().find(|flag| flag.name == info.name)?;
                let reason = flag.reason.as_ref().map(ToString::to_string);
                Some((flag.old != flag.new, reason))
            };
            let (changed, reason) = report(last).unwrap_or_default();
            self.flags.push(FlagRow {
                name: info.name,
                word: info.word,
                set: flags.contains(info.flag),
                changed,
                about: report(ahead).is_some_and(|(changed, _)| changed),
                reason,
            });
        }
    }

    fn gather_vectors(
        &mut self,
        session: &mut Session,
        before: &mut Before,
        last: Option<&StepReport>,
        ahead: Option<&StepReport>,
        moved: bool,
    ) {
        // What the next instruction takes their elements for, or the last that looked at any.
        let next = session.next_instruction().map(|(instruction, _)| instruction);
        if let Some(instruction) = next.filter(|next| next.operands.iter().any(Operand::is_in_bank))
        {
            before.lanes = Some(instruction.lanes());
        }
        let lanes = before.lanes.unwrap_or(Lanes::new(LaneKind::Bits, Width::W64));
        let machine = &session.system().machine;
        let registers = session.arch().bank_registers();
        let values: Vec<(Reg, RegisterValue)> =
            registers.map(|(id, reg)| (reg, machine.bank_register(id))).collect();
        let arch = session.arch();
        let writes = |report: Option<&StepReport>, reg: Reg| {
            report.is_some_and(|report| {
                // A part of a register has a name of its own.
                let is = |name: &str| Reg::parse(arch, name).and_then(Reg::id) == reg.id();
                let mut vectors = report.vectors.iter();
                vectors.any(|vector| is(vector.name) && vector.old_bits != vector.new_bits)
            })
        };
        self.lanes = lanes.name();
        for (number, &(reg, value)) in values.iter().enumerate() {
            let (name, bits) = (reg.name(), reg.width().bits());
            let changed = match (moved, before.vectors.get(number)) {
                (true, Some((_, old))) => *old != value,
                _ => writes(last, reg),
            };
            let (elements, about) = (lanes.texts(&value, bits).join("  "), writes(ahead, reg));
            self.vectors.push(VectorRow { name, value, elements, changed, about });
        }
        before.vectors = values;
    }

    fn gather_stack(
        &mut self,
        session: &mut Session,
        wanted: &ViewRequest,
        last: Option<&StepReport>,
        ahead: Option<&StepReport>,
    ) {
        let width = session.arch().address_bytes();
        let written = |report: Option<&StepReport>| -> HashSet<u64> {
            let memory = report.map_or(&[][..], |report| &report.memory);
            memory.iter().map(|memory| memory.place.address / width * width).collect()
        };
        (self.stack_changed, self.stack_about) = (written(last), written(ahead));
        let pointer = session.register(session.arch().stack_pointer());
        let below = (wanted.stack_lines as i64 / 5).clamp(1, 4) - wanted.stack_scroll;
        let first = pointer.wrapping_sub((width as i64).wrapping_mul(below) as u64);
        let count = wanted.stack_lines as u64;
        let stack = session.stack_from(first, count, REACH);
        // What the kernel tells the C library is read once, if at all: what the program writes takes its room.
        let dropped = stack.slots.iter().rev().take_while(|slot| slot.auxiliary).count() as u64;
        let dropped = dropped.min((MOST_BELOW - below).max(0) as u64);
        self.stack = Some(match wanted.stack_scroll == 0 && dropped > 0 {
            true => session.stack_from(first.wrapping_sub(dropped * width), count, REACH),
            false => stack,
        });
    }

    fn gather_memory(
        &mut self,
        session: &mut Session,
        wanted: &ViewRequest,
        before: &mut Before,
        moved: bool,
    ) {
        let (place, format) = match wanted.memory.rsplit_once(" as ") {
            Some((place, format)) => {
                (place.trim(), Format::parse(format, session.arch()).unwrap_or_default())
            }
            None => (wanted.memory.as_str(), Format::default()),
        };
        let bytes = wanted.memory_bytes;
        let place = match wanted.memory_scroll {
            0 => place.to_string(),
            lines => format!("({place}) + {}", lines * bytes as i64),
        };
        // As many as fit, if memory goes so far, else as many as were declared.
        let width =
            format.width.or(session.declared_width(&place)).map_or(1, |width| width.bytes());
        let most = Some(wanted.memory_lines as u64 * bytes / width);
        let lines = session
            .memory_lines(&place, most, format, bytes)
            .or_else(|_| session.memory_lines(&place, None, format, bytes));
        let same = before.memory_text == wanted.memory;
        match lines {
            Ok(lines) => {
                let changed = |line: &sotto_session::MemoryLine| {
                    let old = before.memory.get(&line.address);
                    same && moved && old.is_some_and(|old| *old != line.values)
                };
                let row =
                    |line: sotto_session::MemoryLine| MemoryRow { changed: changed(&line), line };
                self.memory = lines.into_iter().take(wanted.memory_lines).map(row).collect();
            }
            Err(error) => self.memory_error = Some(error.to_string()),
        }
        if moved || !same {
            before.memory =
                self.memory.iter().map(|row| (row.line.address, row.line.values.clone())).collect();
            before.memory_text.clone_from(&wanted.memory);
        }
    }
}

/// What a step did, in a few words without styles.
fn brief(report: &StepReport) -> String {
    let mut report = report.clone();
    // That the stack pointer moves goes without saying where something is pushed or popped.
    if !(report.memory.is_empty() && report.reads.is_empty()) {
        report.registers.retain(|register| !matches!(register.name, "rsp" | "esp" | "sp"));
    }
    let mut effects = match &report.delivered {
        Some(signal) => format!("{signal} is delivered: "),
        None => String::new(),
    };
    render::push_effects(&report, &mut effects);
    crate::console::plain(&effects)
}

/// Whether there is no next instruction, not even one that faulted.
fn has_exited(session: &Session) -> bool {
    matches!(session.ending(), Some(Termination::Exited(_)))
}

fn state(session: &Session) -> Option<String> {
    let ending = session.ending()?;
    Some(format!("ended with status {}", ending.shell_status()))
}

/// The end of what the program wrote, by lines.
fn output(session: &Session) -> Vec<String> {
    let system = session.system();
    let from = system.output_bytes().saturating_sub(OUTPUT as u64);
    let pieces = system.output_since(from, OUTPUT as u64);
    let bytes: Vec<u8> = pieces.into_iter().flat_map(|piece| piece.bytes).collect();
    String::from_utf8_lossy(&bytes).lines().map(str::to_string).collect()
}
