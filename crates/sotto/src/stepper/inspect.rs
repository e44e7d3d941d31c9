//! What a program looks like now: registers, flags, stack, frames, memory, output, source and code.

use serde_json::{Value, json};
use sotto_isa::{LaneKind, Lanes, Reg, RegisterValue, Width};
use sotto_session::{DEEP, Format, StepReport};

use crate::console::{Tone, paint};
use crate::render;
use crate::stepper::line::commander::Commander;

impl Commander {
    /// The other names of a register, which stand for more or less of it, with their values.
    fn parts(&mut self, name: &str) {
        let arch = self.session.arch();
        let Some(storage) = Reg::parse(arch, name).and_then(Reg::storage) else { return };
        let whole = self.session.register(storage);
        let parts = arch.register_names().into_iter().filter_map(|other| {
            let reg = Reg::parse(arch, other).filter(|reg| reg.storage() == Some(storage))?;
            let same = other.eq_ignore_ascii_case(name) || reg.name() != other;
            (!same).then(|| (other, reg.part_of(whole), reg.width().bits()))
        });
        let parts: Vec<_> = parts.collect();
        if parts.is_empty() {
            return;
        }
        if self.as_json {
            let hex =
                |&(name, value, _): &(&str, u64, u32)| (name.into(), json!(format!("{value:#x}")));
            let parts: serde_json::Map<String, Value> = parts.iter().map(hex).collect();
            self.print_json(&json!({ "parts": parts }));
            return;
        }
        let shown = parts.iter().map(|&(name, part, bits)| {
            format!("{} {}", paint(Tone::Strong, name), render::value(part, bits))
        });
        let indent = " ".repeat(name.len() + 3);
        self.print(&format!("        {indent}{}", shown.collect::<Vec<_>>().join("   ")));
    }

    pub(crate) fn registers(&mut self, names: &[String]) -> Result<(), String> {
        if let [only] = names
            && "brief".starts_with(only.as_str())
            && Reg::parse(self.session.arch(), only).is_none()
        {
            self.registers_in_brief();
            return Ok(());
        }
        for name in names {
            let vector = Reg::parse(self.session.arch(), name).filter(|reg| reg.id().is_some());
            match vector {
                Some(reg) => self.vector(name, reg),
                None if name == "vectors" => self.vectors()?,
                None => {
                    let value = self.expression(name, Format::default())?;
                    self.print_value(name, &value);
                    self.parts(name);
                }
            }
        }
        if !names.is_empty() {
            return Ok(());
        }
        let arch = self.session.arch();
        if self.as_json {
            let values: serde_json::Map<String, Value> = arch
                .convention()
                .groups
                .iter()
                .flat_map(|group| group.registers)
                .map(|&s| {
                    (arch.storage_name(s).into(), json!(format!("{:#x}", self.session.register(s))))
                })
                .collect();
            self.print_json(&Value::Object(values));
            return Ok(());
        }
        for group in arch.convention().groups {
            for (index, &storage) in group.registers.iter().enumerate() {
                let title = if index == 0 { group.role.title() } else { "" };
                let register = self.session.register(storage);
                let name = arch.storage_name(storage);
                let place = self.session.place(register).symbol_name().map(|n| format!("  = {n}"));
                let shown = render::value(register, 64);
                let text = format!("{title:<10} {name:<4} {shown}{}", place.unwrap_or_default());
                self.print(&if register == 0 { paint(Tone::Quiet, &text) } else { text });
            }
        }
        Ok(())
    }

    /// The general registers, several in a row, and the flags that are set.
    fn registers_in_brief(&mut self) {
        const PER_ROW: usize = 4;
        let arch = self.session.arch();
        let all: Vec<String> = arch
            .convention()
            .groups
            .iter()
            .flat_map(|group| group.registers)
            .map(|&storage| {
                let value = self.session.register(storage);
                let text =
                    format!("{:<4} {:<18}", arch.storage_name(storage), format!("{value:#x}"));
                if value == 0 { paint(Tone::Quiet, &text) } else { text }
            })
            .collect();
        for row in all.chunks(PER_ROW) {
            self.print(format!("        {}", row.join("  ")).trim_end());
        }
        let flags = self.session.process().machine.flags();
        let set: Vec<&str> = arch.flag_names(flags);
        let words = if set.is_empty() { "none".to_string() } else { set.join(" ") };
        self.print(&format!("        flags set: {words}"));
    }

    /// A vector register, read in every way.
    fn vector(&mut self, name: &str, reg: Reg) {
        let Some(id) = reg.id() else { return };
        let whole = self.session.process().machine.bank_register(id);
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
        let fits = |lanes: &&Lanes| lanes.width.bits() <= bits;
        if self.as_json {
            let lanes: serde_json::Map<String, Value> = readings
                .iter()
                .filter(fits)
                .map(|r| (r.name(), json!(r.texts(&value, bits))))
                .collect();
            return self.print_json(
                &json!({ "show": name, "value": format!("{value:#x}"), "lanes": lanes }),
            );
        }
        let order = paint(Tone::Quiet, "elements, the lowest first:");
        self.print(&format!("        {} = {value:#x}  {order}", paint(Tone::Strong, name)));
        for lanes in readings.iter().filter(fits) {
            self.print(&format!(
                "        {:>5}  {}",
                lanes.name(),
                lanes.texts(&value, bits).join(", ")
            ));
        }
    }

    /// All vector registers, in hex.
    fn vectors(&mut self) -> Result<(), String> {
        let arch = self.session.arch();
        let machine = &self.session.process().machine;
        let values: Vec<(String, RegisterValue)> = arch
            .bank_registers()
            .map(|(id, reg)| (reg.name().to_string(), machine.bank_register(id)))
            .collect();
        if values.is_empty() {
            return Err(format!("vector registers of {arch} are not modelled yet"));
        }
        if self.as_json {
            let values: serde_json::Map<String, Value> = values
                .into_iter()
                .map(|(name, value)| (name, json!(format!("{value:#x}"))))
                .collect();
            self.print_json(&Value::Object(values));
            return Ok(());
        }
        for (name, value) in values {
            let text = format!("        {name:<5} {value:#x}");
            self.print(&if value == RegisterValue::ZERO {
                paint(Tone::Quiet, &text)
            } else {
                text
            });
        }
        Ok(())
    }

    pub(crate) fn flags(&mut self) {
        let arch = self.session.arch();
        let flags = self.session.process().machine.flags();
        if self.as_json {
            let values: serde_json::Map<String, Value> = arch
                .flags()
                .iter()
                .map(|f| (f.name.into(), json!(flags.contains(f.flag))))
                .collect();
            return self.print_json(&Value::Object(values));
        }
        for info in arch.flags() {
            let set = flags.contains(info.flag);
            let text = format!("        {:<3} {}  {}", info.name, u8::from(set), info.word);
            self.print(&if set { text } else { paint(Tone::Quiet, &text) });
        }
    }

    pub(crate) fn stack(&mut self, count: u64) {
        let view = self.session.stack(2, count, DEEP);
        match self.as_json {
            true => self.print_json(&serde_json::to_value(&view).unwrap_or_default()),
            false => self.print(&render::stack(&view)),
        }
    }

    pub(crate) fn memory(
        &mut self,
        place: &str,
        count: Option<u64>,
        format: Format,
    ) -> Result<(), String> {
        const LINE_BYTES: u64 = 16;
        let lines = self.session.memory_lines(place, count, format, LINE_BYTES);
        for line in lines.map_err(|error| error.to_string())? {
            match self.as_json {
                true => self.print_json(&serde_json::to_value(&line).unwrap_or_default()),
                false => self.print(&render::memory_line(&line)),
            }
        }
        Ok(())
    }

    /// The chain of calls: the innermost `count`, or as many as anybody reads.
    pub(crate) fn frames(&mut self, count: Option<u64>) {
        /// Frames that are shown unless more are asked for; as many of the outermost stand below them.
        const SHOWN: usize = 20;
        const OUTERMOST: usize = 3;
        let frames = self.session.frames();
        let most = count.map_or(SHOWN, |count| usize::try_from(count).unwrap_or(usize::MAX));
        let outermost = if count.is_none() { OUTERMOST } else { 0 };
        let folded = frames.len() > most.saturating_add(outermost);
        let (inner, outer) = match folded {
            true => (&frames[..most], &frames[frames.len() - outermost..]),
            false => (&frames[..], &frames[..0]),
        };
        let left_out = frames.len() - inner.len() - outer.len();
        if self.as_json {
            return self
                .print_json(&json!({ "frames": inner, "left_out": left_out, "outermost": outer }));
        }
        let mut text = render::frames(inner, 0);
        if left_out > 0 {
            let count = render::thousands(left_out as u64);
            let line = format!("     and {count} more; `frames N` shows the innermost N");
            text = format!("{text}\n{}", paint(Tone::Quiet, &line));
        }
        if !outer.is_empty() {
            text = format!("{text}\n{}", render::frames(outer, frames.len() - outer.len()));
        }
        self.print(&text);
    }

    /// The variables of the compiled routine that is running.
    pub(crate) fn variables(&mut self) {
        let variables = self.session.variables();
        if self.as_json {
            return self.print_json(&json!({ "variables": variables }));
        }
        if variables.is_empty() {
            self.print("no variables are known here: they come from a C source compiled with `-g`");
        }
        for variable in variables {
            let name = paint(Tone::Strong, &format!("{:<12}", variable.name));
            let place = paint(Tone::Quiet, &variable.place);
            self.print(&format!("        {name} {:<16} {place}", variable.value));
        }
    }

    /// The latest instructions that were executed, and what each did.
    pub(crate) fn recent(&mut self, count: u64) {
        /// More than that nobody reads, and all of it is kept meanwhile.
        const MOST: u64 = 10_000;
        let reports = self.session.recent(count.min(MOST) as usize);
        if reports.is_empty() && !self.as_json {
            self.print("no instruction has been executed yet");
        }
        for report in reports {
            match self.as_json {
                true => self.print_json(&json!(&*report)),
                false => self.print(&render::step_line(&report)),
            }
        }
    }

    /// The bits that the last instruction changed; or whether they are shown at every step.
    pub(crate) fn bits(&mut self, on: Option<bool>) -> Result<(), String> {
        if let Some(on) = on {
            self.shows_bits = on;
            return Ok(());
        }
        let report = self.session.last_report();
        let report = report.ok_or("no instruction has been executed yet")?;
        match self.as_json {
            true => self.print_json(&json!(report)),
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
        let calls = self.session.syscalls();
        if calls.is_empty() && !self.as_json {
            self.print("the program has made no system call yet");
        }
        for (moment, place, call) in calls {
            match self.as_json {
                true => {
                    self.print_json(&json!({ "moment": moment, "place": place, "syscall": call }))
                }
                false => {
                    let location = place.location().unwrap_or_default();
                    let location = location.rsplit('/').next().unwrap_or_default().to_string();
                    self.print(&format!("{moment:>6}  {location:<14} {}", render::syscall(&call)));
                }
            }
        }
    }

    pub(crate) fn output(&mut self) {
        /// Bytes that are shown, from the end.
        const MOST: u64 = 1 << 20;
        let process = self.session.process();
        let first = process.output_bytes().saturating_sub(MOST);
        let lost = process.lost_output();
        let pieces = process.output_since(first, MOST).into_iter();
        let all: Vec<u8> = pieces.flat_map(|piece| piece.bytes).collect();
        if lost > 0 {
            self.complain(&format!("{} of output could not be kept", render::byte_count(lost)));
        }
        if first > 0 && !self.as_json {
            let text = format!("{} before this", render::byte_count(first));
            self.print(&paint(Tone::Quiet, &text));
        }
        if self.as_json {
            return self.print_json(&json!({ "output": String::from_utf8_lossy(&all) }));
        }
        if all.is_empty() {
            self.print("the program has written nothing yet");
        }
        for line in String::from_utf8_lossy(&all).lines() {
            self.print(line);
        }
    }

    /// Source lines around the one that is next.
    pub(crate) fn source(&mut self) {
        let here = self.session.here();
        let text = self
            .session
            .sources()
            .iter()
            .find(|source| Some(&*source.name) == here.file.as_deref());
        let (Some(text), Some(line)) = (text, here.line) else {
            return self.print("no source line is known here; `code` shows the instructions");
        };
        let first = line.saturating_sub(6) as usize;
        let lines: Vec<String> = text
            .text
            .lines()
            .enumerate()
            .skip(first)
            .take(12)
            .map(|(index, text)| {
                let number = index as u32 + 1;
                let marker = if number == line { "->" } else { "  " };
                let text = format!("{marker} {number:>4}  {text}");
                if number == line { paint(Tone::Strong, &text) } else { text }
            })
            .collect();
        self.print(&lines.join("\n"));
    }

    /// Instructions around the next one, or from a place on.
    pub(crate) fn code(&mut self, place: Option<&str>) -> Result<(), String> {
        /// Instructions before the next one, and in all.
        const BEFORE: usize = 4;
        const ALL: usize = 14;
        let here = self.session.here_address();
        let lines = match place {
            None => self.session.code_around(here, BEFORE, ALL),
            Some(place) => {
                let start = self.session.resolve_place(place).map_err(|error| error.to_string())?;
                self.session.code_around(start, 0, ALL)
            }
        };
        for line in lines {
            if self.as_json {
                self.print_json(&json!({ "code": line }));
                continue;
            }
            let marker = if line.place.address == here { "->" } else { "  " };
            let name = line.place.name().unwrap_or_default();
            self.print(&format!("{marker} {:#x}  {name:<16} {}", line.place.address, line.text));
        }
        Ok(())
    }
}
