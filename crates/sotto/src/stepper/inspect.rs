//! What a program looks like now: registers, flags, stack, frames, memory, output, source and code.

use sotto_isa::{LaneKind, Lanes, Reg, RegisterValue, Width};
use sotto_kernel::TaskId;
use sotto_session::protocol::{
    Answer, FlagAnswer, OutputText, Part, RegisterAnswer, SourceRow, SyscallRow,
};
use sotto_session::{DEEP, Format, StepReport};

use crate::render::{self, answers};
use crate::stepper::line::commander::Commander;
use crate::stepper::line::error::CommandError;

impl Commander {
    /// The other names of a register, which stand for more or less of it, with their values.
    fn parts(&self, name: &str) -> Vec<Part> {
        let arch = self.session.arch();
        let Some(storage) = Reg::parse(arch, name).and_then(Reg::storage) else {
            return Vec::new();
        };
        let whole = self.session.register(storage);
        let part = |other| {
            let reg = Reg::parse(arch, other).filter(|reg| reg.storage() == Some(storage))?;
            let same = other.eq_ignore_ascii_case(name) || reg.name() != other;
            (!same).then(|| Part {
                name: reg.name(),
                value: reg.part_of(whole),
                bits: reg.width().bits(),
            })
        };
        arch.register_names().into_iter().filter_map(part).collect()
    }

    pub(crate) fn registers(&mut self, names: &[String]) -> Result<(), CommandError> {
        let arch = self.session.arch();
        if let [only] = names
            && "brief".starts_with(only.as_str())
            && Reg::parse(arch, only).is_none()
        {
            let (registers, flags) = (self.general_registers(), self.flag_answers());
            match self.as_json {
                true => {
                    self.tell(&Answer::Registers { registers });
                    self.tell(&Answer::Flags { flags });
                }
                false => self.print(&answers::registers_in_brief(&registers, &flags)),
            }
            return Ok(());
        }
        for name in names {
            match Reg::parse(arch, name).filter(|reg| reg.id().is_some()) {
                Some(reg) => self.vector(name, reg),
                None if name == "vectors" => self.vectors()?,
                None => {
                    let evaluated = self.session.evaluate(name)?;
                    let bits = evaluated.width.map_or(64, Width::bits);
                    let parts = self.parts(name);
                    let (name, value) = (name.clone(), evaluated.value as u64);
                    let one =
                        RegisterAnswer { name, role: None, value, bits, points_to: None, parts };
                    self.tell(&Answer::Registers { registers: vec![one] });
                }
            }
        }
        if names.is_empty() {
            let registers = self.general_registers();
            self.tell(&Answer::Registers { registers });
        }
        Ok(())
    }

    /// The general registers by role.
    fn general_registers(&self) -> Vec<RegisterAnswer> {
        let arch = self.session.arch();
        let groups = arch.convention().groups.iter();
        let all = groups.flat_map(|group| group.registers.iter().map(|s| (group.role, *s)));
        all.map(|(role, storage)| {
            let value = self.session.register(storage);
            RegisterAnswer {
                name: arch.storage_name(storage).to_string(),
                role: Some(role.title()),
                value,
                bits: arch.address_width().bits(),
                points_to: self.session.place(value).symbol_name(),
                parts: Vec::new(),
            }
        })
        .collect()
    }

    /// A vector register, read in every way.
    fn vector(&mut self, name: &str, reg: Reg) {
        let Some(id) = reg.id() else { return };
        let whole = self.session.system().machine.bank_register(id);
        // What the name stands for: the lowest bits of the register.
        let bits = reg.width().bits();
        let value = RegisterValue::from(whole.low_128() & u128::MAX >> (128 - bits));
        let readings = [
            (LaneKind::Float, Width::W64),
            (LaneKind::Float, Width::W32),
            (LaneKind::Bits, Width::W64),
            (LaneKind::Signed, Width::W32),
            (LaneKind::Signed, Width::W16),
            (LaneKind::Bits, Width::W8),
        ];
        let readings = readings.map(|(kind, width)| Lanes::new(kind, width));
        let fits = readings.iter().filter(|lanes| lanes.width.bits() <= bits);
        let lanes = fits.map(|lanes| (lanes.name(), lanes.texts(&value, bits))).collect();
        let (name, value) = (name.to_string(), format!("{value:#x}"));
        self.tell(&Answer::Vector { name, value, lanes });
    }

    /// All vector registers, in hex.
    fn vectors(&mut self) -> Result<(), CommandError> {
        let arch = self.session.arch();
        let machine = &self.session.system().machine;
        let value = |id| format!("{:#x}", machine.bank_register(id));
        let registers = arch.bank_registers();
        let vectors: Vec<(String, String)> =
            registers.map(|(id, reg)| (reg.name().to_string(), value(id))).collect();
        if vectors.is_empty() {
            return Err(format!("vector registers of {arch} are not modelled yet").into());
        }
        self.tell(&Answer::Vectors { vectors });
        Ok(())
    }

    fn flag_answers(&self) -> Vec<FlagAnswer> {
        let flags = self.session.system().machine.flags();
        let all = self.session.arch().flags().iter();
        all.map(|info| FlagAnswer {
            name: info.name,
            word: info.word,
            set: flags.contains(info.flag),
        })
        .collect()
    }

    pub(crate) fn flags(&mut self) {
        let flags = self.flag_answers();
        self.tell(&Answer::Flags { flags });
    }

    pub(crate) fn stack(&mut self, count: u64) {
        let view = self.session.stack(2, count, DEEP);
        self.tell(&Answer::Stack(view));
    }

    pub(crate) fn memory(
        &mut self,
        place: &str,
        count: Option<u64>,
        format: Format,
    ) -> Result<(), CommandError> {
        const LINE_BYTES: u64 = 16;
        let lines = self.session.memory_lines(place, count, format, LINE_BYTES);
        let lines = lines?;
        self.tell(&Answer::Memory { lines });
        Ok(())
    }

    /// The chain of calls: the innermost `count`, or as many as anybody reads.
    pub(crate) fn frames(&mut self, count: Option<u64>) {
        /// Frames that are shown unless more are asked for; as many of the outermost stand below them.
        const SHOWN: usize = 20;
        const OUTERMOST: usize = 3;
        let mut frames = self.session.frames();
        let most = count.map_or(SHOWN, |count| usize::try_from(count).unwrap_or(usize::MAX));
        let outer = if count.is_none() { OUTERMOST } else { 0 };
        let (mut left_out, mut outermost) = (0, Vec::new());
        if frames.len() > most.saturating_add(outer) {
            outermost = frames.split_off(frames.len() - outer);
            left_out = frames.len() - most;
            frames.truncate(most);
        }
        self.tell(&Answer::Frames { frames, left_out, outermost });
    }

    /// The threads and processes.
    pub(crate) fn tasks(&mut self) {
        let has_ended = self.session.ending().is_some();
        let tasks = if has_ended { Vec::new() } else { self.session.tasks() };
        let circle = if has_ended { Vec::new() } else { self.session.waiting_circle() };
        self.tell(&Answer::Tasks { tasks, circle });
    }

    /// Looks at a thread or process.
    pub(crate) fn task(&mut self, number: u64) -> Result<(), CommandError> {
        let task = u32::try_from(number).ok().map(TaskId);
        if !task.is_some_and(|task| self.session.select_task(task)) {
            return Err(format!("no task {number}; `tasks` lists them").into());
        }
        let mut tasks = self.session.tasks();
        tasks.retain(|task| task.is_shown);
        self.tell(&Answer::Tasks { tasks, circle: Vec::new() });
        Ok(())
    }

    /// The variables of the compiled routine that is running.
    pub(crate) fn variables(&mut self) {
        let variables = self.session.variables();
        self.tell(&Answer::Variables { variables });
    }

    /// The latest instructions that were executed, and what each did.
    pub(crate) fn recent(&mut self, count: u64) {
        /// More than that nobody reads, and all of it is kept meanwhile.
        const MOST: u64 = 10_000;
        let steps = self.session.recent(count.min(MOST) as usize);
        self.tell(&Answer::Recent { steps });
    }

    /// The bits that the last instruction changed; or whether they are shown at every step.
    pub(crate) fn bits(&mut self, on: Option<bool>) -> Result<(), CommandError> {
        if let Some(on) = on {
            self.shows_bits = on;
            return Ok(());
        }
        let report = self.session.last_report();
        let report = report.ok_or("no instruction has been executed yet")?;
        match self.as_json {
            true => self.tell(&Answer::Step(report.into())),
            false => {
                self.print(&render::step_head(&report));
                self.print_bits(&report);
            }
        }
        Ok(())
    }

    /// The bits that a step changed.
    pub(crate) fn print_bits(&mut self, report: &StepReport) {
        let text = render::bits(report);
        if !text.is_empty() {
            self.print(&text);
        }
    }

    /// The latest system calls.
    pub(crate) fn syscalls(&mut self) {
        let calls = self.session.syscalls().into_iter();
        let syscalls =
            calls.map(|(moment, place, syscall)| SyscallRow { moment, place, syscall }).collect();
        self.tell(&Answer::Syscalls { syscalls });
    }

    /// What the program wrote from a byte on, at most so many bytes from its end.
    pub(crate) fn output_from(&self, from: u64, most: u64) -> OutputText {
        let system = self.session.system();
        let first = from.max(system.output_bytes().saturating_sub(most));
        let pieces = system.output_since(first, most).into_iter();
        let bytes: Vec<u8> = pieces.flat_map(|piece| piece.bytes).collect();
        OutputText::of(&bytes, first - from)
    }

    /// All that the program wrote, or the end of it.
    pub(crate) fn output(&mut self) {
        /// Bytes that are shown, from the end.
        const MOST: u64 = 1 << 20;
        let lost = self.session.system().lost_output();
        if lost > 0 {
            self.complain(&format!("{} of output could not be kept", render::byte_count(lost)));
        }
        let output = self.output_from(0, MOST);
        if self.as_json {
            return self.tell(&Answer::Output(output));
        }
        if output.left_out > 0 {
            self.notice(format!("{} before this", render::byte_count(output.left_out)));
        }
        match output.text.is_empty() {
            true => self.print("the program has written nothing yet"),
            false => self.print(output.text.trim_end_matches('\n')),
        }
    }

    /// Source lines around the one that is next.
    pub(crate) fn source(&mut self) -> Result<(), CommandError> {
        /// Lines before the next one, and in all.
        const BEFORE: u32 = 5;
        const ALL: usize = 12;
        let here = self.session.here();
        let mut sources = self.session.sources().iter();
        let source = sources.find(|source| Some(&*source.name) == here.file.as_deref());
        let (Some(source), Some(next)) = (source, here.line) else {
            return Err("no source line is known here; `code` shows the instructions".into());
        };
        let first = next.saturating_sub(BEFORE).max(1);
        let row = |line: u32| {
            let text = source.line(line).filter(|_| line as usize <= source.line_count())?;
            Some(SourceRow { line, text: text.to_string(), next: line == next })
        };
        let lines = (first..).map_while(row).take(ALL).collect();
        let file = source.name.clone();
        self.tell(&Answer::Source { file, lines });
        Ok(())
    }

    /// Instructions around the next one, or from a place on.
    pub(crate) fn code(&mut self, place: Option<&str>) -> Result<(), CommandError> {
        /// Instructions before the next one, and in all.
        const BEFORE: usize = 4;
        const ALL: usize = 14;
        let next = self.session.here_address();
        let lines = match place {
            None => self.session.code_around(next, BEFORE, ALL),
            Some(place) => {
                let start = self.session.resolve_place(place)?;
                self.session.code_around(start, 0, ALL)
            }
        };
        self.tell(&Answer::Code { lines, next });
        Ok(())
    }
}
