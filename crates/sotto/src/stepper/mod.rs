//! `sotto step`: reading commands, carrying them out on a session, showing what it answers.

mod grammar;
mod input;

use std::io::{IsTerminal, Write};

use serde_json::{Value, json};
use sotto_isa::{LaneKind, Lanes, Reg, Width};
use sotto_session::{Place, Session, StopReason};

use crate::cli::StepArgs;
use crate::output::{self, Failure};
use crate::render::{self, Tone, paint};
use crate::{interrupt, program, run};
use grammar::{Command, Parsed};
use input::Lines;

/// A single command runs at most this many instructions, unless Ctrl-C comes first.
const LIMIT: u64 = u64::MAX / 2;

/// `sotto step`
pub fn step_command(args: &StepArgs, as_json: bool) -> Result<u8, Failure> {
    let program = program::load(&args.program, as_json)?;
    let name = program.name.clone();
    let mut session = run::session(program, &args.arguments)?;
    if let Some(path) = &args.stdin {
        let bytes = output::read(path)?;
        session.process_mut().give_input(&bytes);
        session.process_mut().close_input();
    }
    let mut lines = match &args.script {
        Some(path) => Lines::script(&output::read(path)?),
        None => Lines::standard_input(!args.plain || std::io::stdin().is_terminal())?,
    };
    interrupt::listen();
    let mut stepper = Stepper { session, as_json, shown: Vec::new(), outputs_shown: 0 };
    stepper.greet(&name);
    if let Some(place) = &args.at {
        stepper.until(place).map_err(Failure::plain)?;
    }
    stepper.show_next();
    stepper.read(&mut lines)?;
    Ok(0)
}

/// The line mode's state.
struct Stepper {
    session: Session,
    as_json: bool,
    /// Expressions shown after every stop.
    shown: Vec<String>,
    /// Pieces of the program's output that were shown already.
    outputs_shown: usize,
}

impl Stepper {
    /// Prints a text; as data, if everything is to be data and no report has a shape of its own.
    fn print(&self, text: &str) {
        if self.as_json {
            let plain = anstream::adapter::strip_str(text).to_string();
            return self.print_json(&json!({ "text": plain }));
        }
        // If standard output is closed there is nobody left to tell.
        let _ = writeln!(anstream::stdout(), "{text}");
    }

    /// Prints an expression and its value.
    fn print_value(&self, text: &str, value: &str) {
        match self.as_json {
            true => self.print_json(&json!({ "show": text, "value": value })),
            false => self.print(&format!("        {} = {value}", paint(Tone::Strong, text))),
        }
    }

    fn print_json(&self, value: &Value) {
        let _ = writeln!(anstream::stdout(), "{value}");
    }

    fn greet(&self, name: &str) {
        if !self.as_json {
            let text = format!("{name}, {}; `help` lists the commands", self.session.arch());
            self.print(&paint(Tone::Quiet, &text));
        }
    }

    /// Reads and carries out commands until the end.
    fn read(&mut self, lines: &mut Lines) -> Result<(), Failure> {
        let mut last = String::new();
        while let Some(line) = lines.next()? {
            let line = match line.trim() {
                "" => last.clone(),
                text => text.to_string(),
            };
            if line.is_empty() {
                continue;
            }
            if lines.echo() && !self.as_json {
                self.print(&paint(Tone::Quiet, &format!("> {line}")));
            }
            interrupt::take();
            match grammar::parse(&line) {
                Ok(Parsed { command: Command::Quit, .. }) => break,
                Ok(parsed) => {
                    last = if parsed.repeats { line } else { String::new() };
                    if let Err(message) = self.carry_out(&parsed.command) {
                        self.complain(&message);
                    }
                }
                Err(message) => self.complain(&message),
            }
        }
        Ok(())
    }

    fn complain(&self, message: &str) {
        match self.as_json {
            true => self.print_json(&json!({ "error": message })),
            false => self.print(&format!("{} {message}", paint(Tone::Error, "error:"))),
        }
    }

    fn carry_out(&mut self, command: &Command) -> Result<(), String> {
        match command {
            Command::Step(count) => self.step(*count),
            Command::Over => {
                let before = self.session.moment();
                let (report, reason) = self.session.over(LIMIT, &interrupt::asked);
                match report {
                    Some(report) => self.show_step(&report),
                    None => self.show_ran(before),
                }
                self.show_stop(reason);
            }
            Command::Out => {
                let before = self.session.moment();
                let reason = self.session.out(LIMIT, &interrupt::asked);
                self.show_ran(before);
                self.show_stop(reason);
            }
            Command::Back(count) => {
                let reason = self.session.back(*count);
                self.outputs_shown = self.outputs_shown.min(self.session.process().output().len());
                self.show_stop(reason);
            }
            Command::Resume => {
                let before = self.session.moment();
                let reason = self.session.resume(&[], LIMIT, &interrupt::asked);
                self.show_ran(before);
                self.show_stop(reason);
            }
            Command::Rewind | Command::Restart => {
                self.session.go_to(0);
                self.outputs_shown = 0;
                self.show_stop(StopReason::Done);
            }
            Command::Until(place) => {
                let reason = self.until(place)?;
                self.show_stop(reason);
            }
            Command::Break(place, condition) => self.add_break(place, condition.as_deref())?,
            Command::Breaks => self.list_breaks(),
            Command::Unbreak(number) => {
                self.session.remove_breakpoint(*number).map_err(|error| error.to_string())?;
            }
            Command::Show(None) => self.show_expressions(),
            Command::Show(Some(text)) => {
                let value = self.expression(text)?;
                self.print_value(text, &value);
                if !self.shown.contains(text) {
                    self.shown.push(text.clone());
                }
            }
            Command::Unshow(text) => {
                let before = self.shown.len();
                self.shown.retain(|shown| shown != text);
                if self.shown.len() == before {
                    return Err(format!("`{text}` is not shown; `show` lists what is"));
                }
            }
            Command::Registers(names) => self.registers(names)?,
            Command::Flags => self.flags(),
            Command::Stack => self.stack(),
            Command::Memory { place, count, width } => self.memory(place, *count, *width)?,
            Command::Who(text) => self.who(text)?,
            Command::Ahead => match self.session.ahead() {
                Some(report) => self.show_step(&report),
                None => {
                    return Err("the next instruction cannot complete; `step` says why".to_string());
                }
            },
            Command::Feed(text) => {
                let process = self.session.process_mut();
                match text {
                    Some(text) => {
                        if !process.give_input(format!("{text}\n").as_bytes()) {
                            return Err("the input has ended already".to_string());
                        }
                    }
                    None => process.close_input(),
                }
                let told = match text {
                    Some(_) => "the program will read it when it goes on",
                    None => "the input ends here",
                };
                self.print(&paint(Tone::Quiet, told));
            }
            Command::Output => self.output(),
            Command::Source => self.source(),
            Command::Code => self.code(),
            Command::Help => self.print(&grammar::help()),
            Command::Quit => {}
        }
        Ok(())
    }

    fn step(&mut self, count: u64) {
        for _ in 0..count {
            let (report, reason) = self.session.step();
            if let Some(report) = &report {
                self.show_step(report);
            }
            self.outputs_shown = self.session.process().output().len();
            if reason != StopReason::Done {
                return self.show_stop(reason);
            }
            if interrupt::asked() {
                return self.show_stop(StopReason::Interrupted);
            }
        }
        self.show_stop(StopReason::Done);
    }

    fn until(&mut self, place: &str) -> Result<StopReason, String> {
        let address = self.session.resolve_place(place).map_err(|error| error.to_string())?;
        let before = self.session.moment();
        if before == 0 && self.session.here().address == address {
            return Ok(StopReason::Place);
        }
        let reason = self.session.resume(&[address], LIMIT, &interrupt::asked);
        self.show_ran(before);
        Ok(reason)
    }

    fn show_step(&self, report: &sotto_session::StepReport) {
        match self.as_json {
            true => self.print_json(&serde_json::to_value(report).unwrap_or_default()),
            false => self.print(&render::step(report)),
        }
    }

    /// Says how far the program ran, and what it wrote meanwhile.
    fn show_ran(&mut self, before: u64) {
        let output = self.session.process().output();
        let new: Vec<u8> = output[self.outputs_shown.min(output.len())..]
            .iter()
            .flat_map(|o| o.bytes.clone())
            .collect();
        self.outputs_shown = output.len();
        if self.as_json {
            return;
        }
        let count = self.session.moment() - before;
        let unit = if count == 1 { "instruction" } else { "instructions" };
        self.print(&format!("        ran {} {unit}", render::thousands(count)));
        if !new.is_empty() {
            for line in String::from_utf8_lossy(&new).lines() {
                self.print(&format!("        {} {line}", paint(Tone::Strong, "output:")));
            }
        }
    }

    /// Says why the program stopped, and what is next.
    fn show_stop(&mut self, reason: StopReason) {
        let message = match reason {
            StopReason::Done | StopReason::Place => None,
            StopReason::Breakpoint(number) => Some(format!("breakpoint {number}")),
            StopReason::NeedsInput => Some(
                "the program waits for input: `feed TEXT`, or `feed` alone for its end".to_string(),
            ),
            StopReason::Ended => return self.show_ended(),
            StopReason::Limit => Some("stopped at the limit".to_string()),
            StopReason::Interrupted => Some("interrupted".to_string()),
            StopReason::AtStart => Some("this is the start".to_string()),
        };
        if let Some(message) = message {
            match self.as_json {
                true => {
                    self.print_json(&json!({ "stopped": message, "place": self.session.here() }))
                }
                false => self.print(&paint(Tone::Warning, &message)),
            }
        }
        self.show_next();
    }

    fn show_ended(&mut self) {
        let Some(ending) = self.session.ending() else { return };
        let status = ending.shell_status();
        if let Some(report) = self.session.fault_report() {
            match self.as_json {
                true => self.print_json(&json!({ "fault": report })),
                false => self.print(&render::fault(&report)),
            }
        }
        match self.as_json {
            true => self.print_json(&json!({ "ended": status })),
            false => self.print(&format!(
                "{} with status {status}; `back` goes back, `rewind` to the start",
                paint(Tone::Strong, "ended")
            )),
        }
    }

    fn show_next(&mut self) {
        if self.session.ending().is_some() {
            return;
        }
        self.show_expressions();
        let place = self.session.here();
        let next = self.session.next_instruction().map(|(_, text)| text);
        match self.as_json {
            true => self.print_json(&json!({ "next": place, "instruction": next })),
            false => self.print(&render::next(&place, next.as_deref())),
        }
    }

    fn show_expressions(&mut self) {
        for text in self.shown.clone() {
            let value = self.expression(&text);
            self.print_value(&text, &value.unwrap_or_else(|message| message));
        }
    }

    /// The value of an expression, as it is shown: with its readings, or as a number in data.
    fn expression(&mut self, text: &str) -> Result<String, String> {
        let evaluated = self.session.evaluate(text).map_err(|error| error.to_string())?;
        let bits = evaluated.width.map_or(64, Width::bits);
        Ok(match u64::try_from(evaluated.value) {
            Ok(value) if !self.as_json => render::value(value, bits),
            _ => evaluated.value.to_string(),
        })
    }

    fn add_break(&mut self, place: &str, condition: Option<&str>) -> Result<(), String> {
        let address = self.session.resolve_place(place).map_err(|error| error.to_string())?;
        let condition = match condition {
            Some(text) => {
                // Names are looked up now, so that a misspelt one is told at once.
                self.session.evaluate(text).map_err(|error| error.to_string())?;
                let expr = sotto_asm::parse_expression(self.session.arch(), text);
                Some((text.to_string(), expr.map_err(|diagnostic| diagnostic.message.clone())?))
            }
            None => None,
        };
        let number = self.session.add_breakpoint(address, condition).number;
        let place = self.session.place(address);
        match self.as_json {
            true => self.print_json(&json!({ "breakpoint": number, "place": place })),
            false => self.print(&format!("breakpoint {number} at {}", render::place_line(&place))),
        }
        Ok(())
    }

    fn list_breaks(&self) {
        if self.as_json {
            for breakpoint in self.session.breakpoints() {
                let place = self.session.place(breakpoint.address);
                let when = breakpoint.condition.as_ref().map(|(text, _)| text);
                self.print_json(
                    &json!({ "breakpoint": breakpoint.number, "place": place, "when": when }),
                );
            }
            return;
        }
        if self.session.breakpoints().is_empty() {
            self.print("no breakpoints; `break at PLACE` sets one");
        }
        for breakpoint in self.session.breakpoints() {
            let place = render::place_line(&self.session.place(breakpoint.address));
            let condition = breakpoint.condition.as_ref();
            let when = condition.map(|(text, _)| format!("when {text}  ")).unwrap_or_default();
            self.print(&format!("{:>4}  {when}{place}", breakpoint.number));
        }
    }

    fn registers(&mut self, names: &[String]) -> Result<(), String> {
        for name in names {
            let vector = Reg::parse(self.session.arch(), name).and_then(Reg::vector);
            match vector {
                Some(number) => self.vector(name, number),
                None if name == "vectors" => self.vectors()?,
                None => {
                    let value = self.expression(name)?;
                    self.print_value(name, &value);
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
                let title = if index == 0 { group.title } else { "" };
                let register = self.session.register(storage);
                let name = arch.storage_name(storage);
                let place = self.session.place(register).name().map(|n| format!("  = {n}"));
                let shown = render::value(register, 64);
                let text = format!("{title:<10} {name:<4} {shown}{}", place.unwrap_or_default());
                self.print(&if register == 0 { paint(Tone::Quiet, &text) } else { text });
            }
        }
        Ok(())
    }

    /// A vector register, read in every way.
    fn vector(&self, name: &str, number: u8) {
        let value = self.session.process().machine.vector(number);
        let readings = [
            (LaneKind::Float, Width::W64),
            (LaneKind::Float, Width::W32),
            (LaneKind::Bits, Width::W64),
            (LaneKind::Signed, Width::W32),
            (LaneKind::Signed, Width::W16),
            (LaneKind::Bits, Width::W8),
        ];
        let readings = readings.map(|(kind, width)| Lanes::new(kind, width));
        if self.as_json {
            let lanes: serde_json::Map<String, Value> =
                readings.iter().map(|r| (r.name(), json!(r.texts(value)))).collect();
            return self.print_json(
                &json!({ "show": name, "value": format!("{value:#x}"), "lanes": lanes }),
            );
        }
        let order = paint(Tone::Quiet, "elements, the lowest first:");
        self.print(&format!("        {} = {value:#x}  {order}", paint(Tone::Strong, name)));
        for lanes in readings {
            self.print(&format!("        {:>5}  {}", lanes.name(), lanes.texts(value).join(", ")));
        }
    }

    /// All vector registers, in hex.
    fn vectors(&self) -> Result<(), String> {
        let arch = self.session.arch();
        let machine = &self.session.process().machine;
        let values = (0..arch.vector_count()).map(|n| (format!("xmm{n}"), machine.vector(n)));
        if arch.vector_count() == 0 {
            return Err(format!("vector registers of {arch} are not modelled yet"));
        }
        if self.as_json {
            let values: serde_json::Map<String, Value> =
                values.map(|(name, value)| (name, json!(format!("{value:#x}")))).collect();
            self.print_json(&Value::Object(values));
            return Ok(());
        }
        for (name, value) in values {
            let text = format!("        {name:<5} {value:#x}");
            self.print(&if value == 0 { paint(Tone::Quiet, &text) } else { text });
        }
        Ok(())
    }

    fn flags(&self) {
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

    fn stack(&mut self) {
        let view = self.session.stack(2, 10);
        match self.as_json {
            true => self.print_json(&serde_json::to_value(&view).unwrap_or_default()),
            false => self.print(&render::stack(&view)),
        }
    }

    fn memory(
        &mut self,
        place: &str,
        count: Option<u64>,
        width: Option<Width>,
    ) -> Result<(), String> {
        let address = self.session.evaluate(place).map_err(|error| error.to_string())?.value as u64;
        // A symbol is shown as it was declared.
        let declared = self.session.image().symbol(place).and_then(|symbol| symbol.datum);
        let declared_width = self.session.declared_width(place);
        let width = width.or(declared_width).unwrap_or(Width::W8);
        let count = count.or(declared.map(|datum| datum.count)).unwrap_or(16).min(1024);
        let per_line = (16 / width.bytes()).max(1);
        for first in (0..count).step_by(per_line as usize) {
            let start = address.wrapping_add(first * width.bytes());
            let mut values = Vec::new();
            let mut text = String::new();
            for index in first..(first + per_line).min(count) {
                let at = address.wrapping_add(index * width.bytes());
                let mut bytes = [0; 8];
                self.session
                    .process_mut()
                    .machine
                    .memory_mut()
                    .read_bytes(at, &mut bytes[..width.bytes() as usize])
                    .map_err(|fault| format!("{:#x} cannot be read", fault.address))?;
                let value = u64::from_le_bytes(bytes);
                values.push(value);
                if width == Width::W8 {
                    let byte = value as u8;
                    text.push(if (0x20..0x7f).contains(&byte) { byte as char } else { '.' });
                }
            }
            let name = self.session.place(start).name().unwrap_or_default();
            if self.as_json {
                let values: Vec<String> =
                    values.iter().map(|value| format!("{value:#x}")).collect();
                self.print_json(
                    &json!({ "address": format!("{start:#x}"), "name": name, "values": values }),
                );
                continue;
            }
            let digits = 2 * width.bytes() as usize;
            let shown: Vec<String> =
                values.iter().map(|value| format!("{value:0digits$x}")).collect();
            let line = format!("{start:#x}  {name:<14} {:<48} {text}", shown.join(" "));
            self.print(line.trim_end());
        }
        Ok(())
    }

    /// Goes to just before the instruction that last wrote the target.
    fn who(&mut self, text: &str) -> Result<(), String> {
        let target = self.session.target(text).map_err(|error| error.to_string())?;
        let Some(writer) = self.session.who(target) else {
            return Err(format!("nothing has written {text} since the start"));
        };
        self.outputs_shown = self.outputs_shown.min(self.session.process().output().len());
        self.show_step(&writer.report);
        if !self.as_json {
            let unit = if writer.ago == 1 { "instruction" } else { "instructions" };
            let ago = render::thousands(writer.ago);
            let text = format!("        {ago} {unit} ago; `step {}` returns", writer.ago);
            self.print(&paint(Tone::Quiet, &text));
        }
        self.show_next();
        Ok(())
    }

    fn output(&self) {
        let output = self.session.process().output();
        if self.as_json {
            let text: Vec<u8> = output.iter().flat_map(|o| o.bytes.clone()).collect();
            return self.print_json(&json!({ "output": String::from_utf8_lossy(&text) }));
        }
        if output.is_empty() {
            self.print("the program has written nothing yet");
        }
        let all: Vec<u8> = output.iter().flat_map(|o| o.bytes.clone()).collect();
        for line in String::from_utf8_lossy(&all).lines() {
            self.print(line);
        }
    }

    /// Source lines around the one that is next.
    fn source(&mut self) {
        let here = self.session.here();
        let text =
            self.session.sources().iter().find(|source| Some(&source.name) == here.file.as_ref());
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

    /// Instructions from the next one on.
    fn code(&mut self) {
        let mut place: Place = self.session.here();
        for index in 0..10 {
            let Ok(instruction) = self.session.process_mut().machine.instruction_at(place.address)
            else {
                return;
            };
            let marker = if index == 0 { "->" } else { "  " };
            let text = self.session.instruction_text(&instruction);
            let name = place.name().unwrap_or_default();
            self.print(&format!("{marker} {:#x}  {name:<16} {text}", place.address));
            place = self.session.place(instruction.end());
        }
    }
}
