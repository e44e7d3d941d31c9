//! Commands carried out on a session, and what there is to say about them.
//!
//! Answers are text with its styles, or data; where they go is chosen by whoever holds the commander: to
//! standard output at once, or collected for the full screen.

use std::ffi::OsString;
use std::io::{self, Write};

use serde_json::{Value, json};
use sotto_check::Follower;
use sotto_isa::{OperandOrder, Width};
use sotto_session::{Format, Session, StepReport, StopReason, Wrote};

use crate::cli::StepArgs;
use crate::console::{self, Stream, Tone, paint};
use crate::output::{self, Failure};
use crate::render;
use crate::stepper::line::grammar;
use crate::stepper::line::grammar::{Command, Distance, Parsed};
use crate::{diagnostics, guest_io, interrupt, program, run, with_c};

/// A single command runs at most this many instructions, unless Ctrl-C comes first.
const LIMIT: u64 = u64::MAX / 2;
/// Words of the stack that are shown from its pointer up, unless asked otherwise.
const STACK_WORDS: u64 = 10;

/// Where answers go.
pub enum Answers {
    /// To standard output.
    Print,
    /// Into a list, a line each.
    Collect(Vec<String>),
}

/// What came of a line.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Outcome {
    /// It was carried out, or complained about.
    Done,
    /// It asked to leave.
    Quit,
}

/// A session under commands.
pub struct Commander {
    pub session: Session,
    pub as_json: bool,
    /// Expressions shown after every stop, as they were asked for: with `as FORMAT`.
    pub shown: Vec<String>,
    pub answers: Answers,
    /// Bytes of the program's output that were shown already.
    output_shown: u64,
    /// Why nothing can be printed any more.
    failed: Option<io::Error>,
    /// Something to say at the start.
    pub notice: Option<String>,
    /// The line that an empty one repeats.
    last: String,
    args: StepArgs,
    name: String,
    /// The program's first argument.
    argument: OsString,
    operands: OperandOrder,
    /// Bits are shown at every step.
    pub(crate) shows_bits: bool,
    /// Something was complained about.
    pub(crate) complained: bool,
    /// What looks at the steps, if they are checked.
    pub(crate) follower: Option<Follower>,
}

impl Commander {
    /// Makes a program of the files and stops before its first instruction.
    ///
    /// # Errors
    ///
    /// What is wrong with the files.
    pub fn start(args: &StepArgs, as_json: bool) -> Result<Commander, Failure> {
        let program = with_c::load_program(&args.program, args.with_c, as_json)?;
        let (name, operands) = (program.name.clone(), program.operands);
        let argument = program.argument.clone();
        let session = session(program, args)?;
        Ok(Commander {
            session,
            as_json,
            shown: Vec::new(),
            answers: Answers::Print,
            output_shown: 0,
            failed: None,
            notice: None,
            last: String::new(),
            args: args.clone(),
            name,
            argument,
            operands,
            shows_bits: false,
            complained: false,
            follower: Some(Follower::default()),
        })
    }

    /// The program's name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Prints a text; as data, if everything is to be data and no report has a shape of its own.
    pub(crate) fn print(&mut self, text: &str) {
        if self.as_json {
            let plain = console::plain(text);
            return self.print_json(&json!({ "text": plain }));
        }
        match &mut self.answers {
            Answers::Print => {
                let written = Stream::Output.say(text);
                self.note(written);
            }
            Answers::Collect(lines) => {
                lines.extend(console::sanitized(text).lines().map(str::to_string));
            }
        }
    }

    /// Prints what is rendered already, with its escape sequences and with control characters shown as escapes.
    pub(crate) fn print_rendered(&mut self, text: &str) {
        match &mut self.answers {
            Answers::Print => {
                let written = writeln!(anstream::stdout().lock(), "{text}");
                self.note(written);
            }
            Answers::Collect(lines) => lines.extend(text.lines().map(str::to_string)),
        }
    }

    /// Keeps the first failure to print, after which nobody reads what is printed.
    fn note(&mut self, written: io::Result<()>) {
        if let Err(error) = written {
            self.failed.get_or_insert(error);
        }
    }

    /// Why nothing can be printed any more, if that is so.
    pub fn take_failure(&mut self) -> Option<Failure> {
        self.failed.take().map(output::stdout_failed)
    }

    /// Prints an expression and its value.
    pub(crate) fn print_value(&mut self, text: &str, value: &str) {
        match self.as_json {
            true => self.print_json(&json!({ "show": text, "value": value })),
            false => self.print(&format!("        {} = {value}", paint(Tone::Strong, text))),
        }
    }

    pub(crate) fn print_json(&mut self, value: &Value) {
        match &mut self.answers {
            Answers::Print => {
                let written = Stream::Output.say_json(value);
                self.note(written);
            }
            Answers::Collect(lines) => lines.push(console::json_line(value)),
        }
    }

    /// Takes the answers that were collected.
    pub fn take_answers(&mut self) -> Vec<String> {
        match &mut self.answers {
            Answers::Print => Vec::new(),
            Answers::Collect(lines) => std::mem::take(lines),
        }
    }

    /// Says what this is.
    pub fn greet(&mut self) {
        if !self.as_json {
            let text = format!("{}, {}; `help` lists the commands", self.name, self.session.arch());
            self.print(&paint(Tone::Quiet, &text));
        }
    }

    /// Shows a line that is not on the screen already.
    pub fn echo(&mut self, line: &str) {
        let line = if line.trim().is_empty() { self.last.clone() } else { line.trim().to_string() };
        if !self.as_json && !line.is_empty() {
            self.print(&paint(Tone::Quiet, &format!("> {line}")));
        }
    }

    /// Carries a line out; an empty one repeats the last if that can be repeated.
    pub fn execute_line(&mut self, line: &str) -> Outcome {
        let line = match line.trim() {
            "" => self.last.clone(),
            text => text.to_string(),
        };
        if line.is_empty() || grammar::is_comment(&line) {
            return Outcome::Done;
        }
        if self.failed.is_some() {
            return Outcome::Quit;
        }
        match grammar::parse(&line, self.session.arch()) {
            Ok(Parsed { command: Command::Quit, .. }) => return Outcome::Quit,
            Ok(parsed) => {
                self.last = if parsed.repeats { line } else { String::new() };
                if let Err(message) = self.carry_out(&parsed.command) {
                    self.complain(&message);
                }
            }
            Err(message) => self.complain(&message),
        }
        Outcome::Done
    }

    pub(crate) fn complain(&mut self, message: &str) {
        self.complained = true;
        match self.as_json {
            true => self.print_json(&json!({ "error": message })),
            false => self.print(&format!("{} {message}", paint(Tone::Error, "error:"))),
        }
    }

    fn carry_out(&mut self, command: &Command) -> Result<(), String> {
        match command {
            Command::Step(count) => self.step(*count),
            Command::StepLine => {
                let before = self.session.moment();
                let reason = self.session.over_line(LIMIT, &interrupt::asked);
                self.show_ran(before);
                self.show_stop(reason);
            }
            Command::Over => {
                let before = self.session.moment();
                let (report, reason) = self.session.over(LIMIT, &interrupt::asked);
                match report {
                    Some(report) => self.show_new_step(&report),
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
            Command::Back(distance) => {
                let reason = self.back(distance)?;
                self.went_back();
                self.show_stop(reason);
            }
            Command::Resume => {
                let before = self.session.moment();
                let reason = self.session.resume(&[], LIMIT, &interrupt::asked);
                self.show_ran(before);
                self.show_stop(reason);
            }
            Command::Rewind => {
                self.session.go_to(0);
                self.went_back();
                self.show_stop(StopReason::Done);
            }
            Command::Restart(arguments) => self.restart(arguments.as_deref())?,
            Command::Reload => self.reload()?,
            Command::Until(place) => {
                let reason = self.go_until(place)?;
                if matches!(reason, StopReason::Terminated | StopReason::NeedsInput)
                    && !place.starts_with('#')
                {
                    self.complain(&format!("`{place}` was not reached"));
                }
                self.show_stop(reason);
            }
            Command::Break { place, condition, from_arrival } => {
                self.add_break(place, condition.as_deref(), *from_arrival)?;
            }
            Command::Watch(text) => self.add_watch(text)?,
            Command::Breaks => self.list_breaks(),
            Command::Unbreak(number) => {
                self.session.remove_stop(*number).map_err(|error| error.to_string())?;
            }
            Command::Show(None) => self.show_expressions(),
            Command::Show(Some((text, format))) => {
                let value = self.expression(text, *format)?;
                self.print_value(text, &value);
                let kept = match format == &Default::default() {
                    true => text.clone(),
                    false => {
                        format!("{text} as {}", grammar::format_text(*format, self.session.arch()))
                    }
                };
                if !self.shown.contains(&kept) {
                    self.shown.push(kept);
                }
            }
            Command::ShowAll(text) => self.show_all(text)?,
            Command::Unshow(text) => {
                let before = self.shown.len();
                let names = |shown: &String| {
                    shown == text || shown.split(" as ").next() == Some(text.as_str())
                };
                self.shown.retain(|shown| !names(shown));
                if self.shown.len() == before {
                    return Err(format!("`{text}` is not shown; `show` lists what is"));
                }
            }
            Command::Registers(names) => self.registers(names)?,
            Command::Flags => self.flags(),
            Command::Stack(count) => self.stack(count.unwrap_or(STACK_WORDS)),
            Command::Frames(count) => self.frames(*count),
            Command::Recent(count) => self.recent(*count),
            Command::Memory { place, count, format } => self.memory(place, *count, *format)?,
            Command::Change { target, value } => self.change(target, value)?,
            Command::Who(text) => self.who(text)?,
            Command::Ahead => match self.session.ahead() {
                Some(report) => self.show_step(&report),
                None => {
                    return Err("the next instruction cannot complete; `step` says why".to_string());
                }
            },
            Command::Mark(name) => self.mark(name.as_deref()),
            Command::Compare(name) => {
                let comparison = self.session.compare(name).map_err(|error| error.to_string())?;
                match self.as_json {
                    true => self.print_json(&json!(comparison)),
                    false => self.print(&render::comparison(&comparison)),
                }
            }
            Command::Feed(text) => self.feed(text.as_deref())?,
            Command::Output => self.output(),
            Command::Syscalls => self.syscalls(),
            Command::Source => self.source(),
            Command::Code(place) => self.code(place.as_deref())?,
            Command::Variables => self.variables(),
            Command::Bits(on) => self.bits(*on)?,
            Command::Check(on) => self.check(*on)?,
            Command::Help(None) => self.print(&grammar::help()),
            Command::Help(Some(topic)) => {
                let text = grammar::topic(topic)?;
                self.print(&text);
            }
            Command::Quit => {}
        }
        Ok(())
    }

    fn back(&mut self, distance: &Distance) -> Result<StopReason, String> {
        let nowhere = |what: &str| Err(format!("{what}; the session stays where it is"));
        Ok(match distance {
            Distance::Instructions(count) => self.session.back(*count),
            Distance::Line => self.session.back_line(),
            Distance::Call => self.session.back_out(),
            Distance::To(place) => {
                let places = self.session.resolve_places(place).map_err(|e| e.to_string())?;
                if !self.session.back_to(&places, &interrupt::asked) {
                    return nowhere(&format!("`{place}` was not next before"));
                }
                StopReason::Place
            }
            Distance::Break => match self.session.back_to_breakpoint(&interrupt::asked) {
                Some(number) => StopReason::Breakpoint(number),
                None => return nowhere("no breakpoint was arrived at before"),
            },
            Distance::Watch => match self.session.back_to_change(&interrupt::asked) {
                Some(number) => StopReason::Watch(number),
                None => return nowhere("no watched value changed before"),
            },
        })
    }

    /// Output that was taken back will be shown again.
    fn went_back(&mut self) {
        self.output_shown = self.output_shown.min(self.session.process().output_bytes());
    }

    fn step(&mut self, count: u64) {
        for _ in 0..count {
            let (report, reason) = match &mut self.follower {
                Some(follower) => follower.step(&mut self.session),
                None => self.session.step(),
            };
            if let Some(report) = &report {
                self.show_new_step(report);
                if matches!(self.answers, Answers::Collect(_)) {
                    self.session.keep_report(report);
                }
            }
            self.output_shown = self.session.process().output_bytes();
            if reason != StopReason::Done {
                return self.show_stop(reason);
            }
            if interrupt::asked() {
                return self.show_stop(StopReason::Interrupted);
            }
        }
        self.show_stop(StopReason::Done);
    }

    /// Runs to a place, or goes to a moment.
    pub fn go_until(&mut self, place: &str) -> Result<StopReason, String> {
        let before = self.session.moment();
        if let Some(moment) = place.strip_prefix('#') {
            let moment = moment.trim().replace('_', "").parse::<u64>();
            let moment = moment.map_err(|_| format!("`{place}` is no moment; one is #1234"))?;
            let reason = self.session.go_to(moment);
            self.went_back();
            if self.session.moment() > before {
                self.show_ran(before);
            }
            if self.session.moment() < moment && self.session.ending().is_some() && !self.as_json {
                let last = render::thousands(self.session.moment());
                self.print(&format!("there is no moment {place}; the program ended at #{last}"));
            }
            return Ok(reason);
        }
        let addresses = self.session.resolve_places(place).map_err(|error| error.to_string())?;
        if before == 0 && addresses.contains(&self.session.here().address) {
            return Ok(StopReason::Place);
        }
        let reason = self.session.resume(&addresses, LIMIT, &interrupt::asked);
        self.show_ran(before);
        Ok(reason)
    }

    fn show_step(&mut self, report: &StepReport) {
        match self.as_json {
            true => self.print_json(&serde_json::to_value(report).unwrap_or_default()),
            false => self.print(&render::step(report)),
        }
    }

    /// The same of a step that was just made, with what was found.
    fn show_new_step(&mut self, report: &StepReport) {
        self.show_step(report);
        if self.shows_bits && !self.as_json {
            self.print_bits(report);
        }
        self.show_findings(report.moment - 1);
    }

    /// Says how far the program ran, and what it wrote and what was found meanwhile.
    fn show_ran(&mut self, before: u64) {
        self.show_written(before);
        self.show_findings(before);
    }

    fn show_written(&mut self, before: u64) {
        /// Bytes of output that are shown at once, from its end.
        const MOST: u64 = 64 << 10;
        let process = self.session.process();
        let (from, end) = (self.output_shown, process.output_bytes());
        let first = from.max(end.saturating_sub(MOST));
        let new = process.output_since(first, MOST).into_iter().flat_map(|piece| piece.bytes);
        let new: Vec<u8> = new.collect();
        self.output_shown = end;
        if self.as_json {
            return;
        }
        let count = self.session.moment().saturating_sub(before);
        let unit = if count == 1 { "instruction" } else { "instructions" };
        self.print(&format!("        ran {} {unit}", render::thousands(count)));
        if first > from {
            let left_out = render::byte_count(first - from);
            self.print(&format!(
                "        {} {left_out} before this",
                paint(Tone::Strong, "output:")
            ));
        }
        if !new.is_empty() {
            for line in String::from_utf8_lossy(&new).lines() {
                self.print(&format!("        {} {line}", paint(Tone::Strong, "output:")));
            }
        }
    }

    /// Says why the program stopped, and what is next.
    fn show_stop(&mut self, reason: StopReason) {
        let message = match reason {
            StopReason::Done | StopReason::Place | StopReason::Call => None,
            StopReason::Breakpoint(number) => Some(self.breakpoint_text(number)),
            StopReason::Watch(_) => {
                self.show_watch_change();
                None
            }
            StopReason::NeedsInput => Some(
                "the program waits for input: `feed TEXT`, or `feed` alone for its end".to_string(),
            ),
            StopReason::Terminated => return self.show_ended(),
            StopReason::Limit => Some("stopped at the limit".to_string()),
            StopReason::MemoryLimit => {
                let limit = render::byte_count(self.session.process().memory_limit());
                Some(format!("the program wants more memory than the {limit} that it may have"))
            }
            StopReason::Interrupted => Some("interrupted".to_string()),
            StopReason::AtStart => Some("this is the start".to_string()),
        };
        if let Some(message) = message {
            match self.as_json {
                true => {
                    let place = self.session.here();
                    self.print_json(&json!({ "stopped": message, "place": place }));
                }
                false => self.print(&paint(Tone::Warning, &message)),
            }
        }
        if self.session.ending().is_some() {
            return self.show_ended();
        }
        self.show_next();
    }

    fn breakpoint_text(&self, number: u32) -> String {
        let moment = self.session.moment();
        let breakpoint = self.session.breakpoints().iter().find(|b| b.number == number);
        match breakpoint.map_or(0, |breakpoint| breakpoint.arrivals(moment)) {
            0 | 1 => format!("breakpoint {number}"),
            times => format!("breakpoint {number}, {} times now", render::thousands(times)),
        }
    }

    fn show_watch_change(&mut self) {
        let Some(change) = self.session.watch_change().cloned() else { return };
        let bits = change.width.map_or(64, Width::bits);
        if self.as_json {
            let text = |value: Option<i128>| value.map(|value| value.to_string());
            return self.print_json(&json!({
                "watch": change.number,
                "expression": change.text,
                "old": text(change.old),
                "new": text(change.new),
                "moved": change.moved.map(|(from, to)| [format!("{from:#x}"), format!("{to:#x}")]),
                "by": change.report,
            }));
        }
        let (number, text) = (change.number, paint(Tone::Strong, &change.text));
        let value = render::watched_change(change.old, change.new, bits);
        self.print(&format!(
            "{} {text}  {value}",
            paint(Tone::Warning, &format!("watch {number}:"))
        ));
        if let Some((before, now)) = change.moved {
            let why = format!("        its address went from {before:#x} to {now:#x}");
            self.print(&paint(Tone::Quiet, &why));
        }
        self.print(&render::step(&change.report));
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

    /// Shows the values that are shown at every stop, and the next instruction.
    pub fn show_next(&mut self) {
        if self.session.ending().is_some() {
            return;
        }
        // The full screen has places for these.
        if matches!(self.answers, Answers::Collect(_)) {
            return;
        }
        self.show_expressions();
        let place = self.session.here();
        let next = self.session.next_instruction().map(|(_, text)| text);
        match self.as_json {
            true => {
                let moment = self.session.moment();
                self.print_json(&json!({ "next": place, "instruction": next, "moment": moment }));
            }
            false => {
                let moment = self.session.moment();
                self.print(&render::next(&place, next.as_deref(), moment));
            }
        }
    }

    fn show_expressions(&mut self) {
        for (text, value) in self.shown_values() {
            self.print_value(&text, &value);
        }
    }

    /// The shown expressions with their values now, or with why they have none.
    pub fn shown_values(&mut self) -> Vec<(String, String)> {
        let shown = self.shown.clone();
        let mut values = Vec::new();
        for text in shown {
            let value = match text.rsplit_once(" as ") {
                Some((expression, format)) => match Format::parse(format, self.session.arch()) {
                    Ok(format) => self.expression(expression, format),
                    Err(_) => self.expression(&text, Default::default()),
                },
                None => self.expression(&text, Default::default()),
            };
            values.push((text, value.unwrap_or_else(|message| message)));
        }
        values
    }

    /// The value of an expression, as it is shown: with its readings, or as a number in data.
    pub(crate) fn expression(
        &mut self,
        text: &str,
        format: sotto_session::Format,
    ) -> Result<String, String> {
        let evaluated = self.session.evaluate(text).map_err(|error| error.to_string())?;
        // A variable of C is read as what it was declared.
        let format = match self.session.variable_format(text) {
            Some(own) if format == Default::default() => own,
            _ => format,
        };
        if format != Default::default() {
            return self.session.show(text, format).map_err(|error| error.to_string());
        }
        let bits = evaluated.width.map_or(64, Width::bits);
        if bits > 64 {
            return Ok(format!("{:#x}", evaluated.value as u128));
        }
        Ok(match u64::try_from(evaluated.value) {
            Ok(value) if !self.as_json => render::value(value, bits),
            _ => evaluated.value.to_string(),
        })
    }

    /// A value in every reading it has.
    fn show_all(&mut self, text: &str) -> Result<(), String> {
        let evaluated = self.session.evaluate(text).map_err(|error| error.to_string())?;
        let width = evaluated.width.unwrap_or(Width::W64);
        let readings = self.session.readings(evaluated.value as u64, width);
        match self.as_json {
            true => self.print_json(&json!({ "show": text, "readings": readings })),
            false => self.print(&render::readings(text, &readings)),
        }
        Ok(())
    }

    fn add_break(
        &mut self,
        place: &str,
        condition: Option<&str>,
        from_arrival: u64,
    ) -> Result<(), String> {
        let added = self.session.add_breakpoint(place, condition, from_arrival);
        let (number, addresses) = added
            .map(|breakpoint| (breakpoint.number, breakpoint.addresses.clone()))
            .map_err(|error| error.to_string())?;
        for address in addresses {
            let place = self.session.place(address);
            match self.as_json {
                true => self.print_json(&json!({ "breakpoint": number, "place": place })),
                false => {
                    let line = render::place_line(&place);
                    self.print(&format!("breakpoint {number} at {line}"));
                }
            }
        }
        Ok(())
    }

    fn add_watch(&mut self, text: &str) -> Result<(), String> {
        let added = self.session.add_watch(text).map(|watch| watch.number);
        let number = added.map_err(|error| error.to_string())?;
        match self.as_json {
            true => self.print_json(&json!({ "watch": number, "expression": text })),
            false => self.print(&format!("watch {number} on {}", paint(Tone::Strong, text))),
        }
        Ok(())
    }

    fn list_breaks(&mut self) {
        let moment = self.session.moment();
        let breakpoints = self.session.breakpoints().to_vec();
        let watches = self.session.watches().to_vec();
        if breakpoints.is_empty() && watches.is_empty() && !self.as_json {
            self.print("no breakpoints; `break at PLACE` or `watch EXPR` sets one");
        }
        for breakpoint in breakpoints {
            let arrivals = breakpoint.arrivals(moment);
            let when = breakpoint.condition.as_ref().map(|(text, _)| text.clone());
            for &address in &breakpoint.addresses {
                let place = self.session.place(address);
                if self.as_json {
                    self.print_json(&json!({
                        "breakpoint": breakpoint.number,
                        "place": place,
                        "when": when,
                        "after": breakpoint.from_arrival,
                        "arrivals": arrivals,
                    }));
                    continue;
                }
                let when = when.as_ref().map(|text| format!("when {text}  ")).unwrap_or_default();
                let after = match breakpoint.from_arrival {
                    0 | 1 => String::new(),
                    count => format!("after {count}  "),
                };
                let times = match arrivals {
                    0 => String::new(),
                    1 => paint(Tone::Quiet, "  reached once"),
                    times => {
                        let times = render::thousands(times);
                        paint(Tone::Quiet, &format!("  reached {times} times"))
                    }
                };
                let place = render::place_line(&place);
                self.print(&format!("{:>4}  {when}{after}{place}{times}", breakpoint.number));
            }
        }
        for watch in watches {
            match self.as_json {
                true => {
                    self.print_json(&json!({ "watch": watch.number, "expression": watch.text }));
                }
                false => self.print(&format!("{:>4}  watch {}", watch.number, watch.text)),
            }
        }
    }

    fn change(&mut self, target: &str, value: &str) -> Result<(), String> {
        let change = self.session.change(target, value).map_err(|error| error.to_string())?;
        if self.as_json {
            self.print_json(&json!({ "change": change }));
        } else {
            self.print(&render::change(&change));
        }
        self.show_next();
        Ok(())
    }

    /// Goes to just before the instruction that last wrote the target.
    fn who(&mut self, text: &str) -> Result<(), String> {
        let target = self.session.target(text).map_err(|error| error.to_string())?;
        let writer = match self.session.who(target) {
            Wrote::Instruction(writer) => writer,
            Wrote::Person(moment) => {
                let moment = render::thousands(moment);
                return Err(format!("{text} was changed by you, at #{moment}"));
            }
            Wrote::Nothing => return Err(format!("nothing has written {text} since the start")),
        };
        self.went_back();
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

    fn mark(&mut self, name: Option<&str>) {
        let marks = match name {
            Some(name) => vec![self.session.mark(name)],
            None => self.session.marks().to_vec(),
        };
        if marks.is_empty() && !self.as_json {
            self.print("no marks; `mark NAME` names this moment");
        }
        for mark in marks {
            match self.as_json {
                true => self.print_json(&json!({ "mark": mark })),
                false => {
                    let moment = render::thousands(mark.moment);
                    let place = render::place_line(&mark.place);
                    self.print(&format!("mark {} at #{moment}  {place}", mark.name));
                }
            }
        }
    }

    fn feed(&mut self, text: Option<&[u8]>) -> Result<(), String> {
        let process = self.session.process_mut();
        let told = match text {
            Some(text) => {
                if !process.give_input(text) {
                    return Err("the input has ended already".to_string());
                }
                "the program will read it when it goes on"
            }
            None => {
                process.close_input();
                "the input ends here"
            }
        };
        self.print(&paint(Tone::Quiet, told));
        Ok(())
    }

    /// Starts again, without what was changed and what was fed; with other arguments if some are given.
    fn restart(&mut self, arguments: Option<&[String]>) -> Result<(), String> {
        if let Some(arguments) = arguments {
            self.args.arguments = arguments.iter().map(OsString::from).collect();
        }
        let startup = run::startup(&self.argument, &self.args.arguments, self.args.memory);
        self.session.restart(&startup).map_err(|error| error.to_string())?;
        guest_io::connect(&mut self.session, self.args.stdin.as_deref())
            .map_err(|error| error.to_string())?;
        self.output_shown = 0;
        self.check_anew();
        self.show_stop(StopReason::Done);
        Ok(())
    }

    /// Assembles again, and goes to the same line for the same time. If there are errors, everything
    /// stays as it was.
    fn reload(&mut self) -> Result<(), String> {
        let errors = |failure: Failure| match failure {
            Failure::Reported => "the source has errors; nothing was reloaded".to_string(),
            other => other.to_string(),
        };
        let load = || with_c::load_program(&self.args.program, self.args.with_c, self.as_json);
        let program = match self.answers {
            Answers::Print => load(),
            Answers::Collect(_) => {
                let (program, said) = diagnostics::held(load);
                self.print_rendered(said.trim_end());
                program
            }
        };
        let program = program.map_err(errors)?;
        self.operands = program.operands;
        let mut session = session(program, &self.args).map_err(errors)?;
        let told = session.take_over(&mut self.session, LIMIT, &interrupt::asked);
        self.session = session;
        self.check_anew();
        self.output_shown = self.session.process().output_bytes();
        for lost in &told.lost {
            self.complain(lost);
        }
        let reached = if told.returned { "returned to the same line" } else { "started again" };
        self.print(&paint(Tone::Quiet, &format!("reloaded; {reached}")));
        self.show_stop(StopReason::Done);
        Ok(())
    }

    /// Forgets what was found in another run.
    fn check_anew(&mut self) {
        if let Some(follower) = &mut self.follower {
            *follower = Follower::default();
        }
    }

    /// Words, symbols and registers for completion.
    pub fn names(&self) -> Vec<String> {
        let symbols = self.session.image().symbols.iter().map(|symbol| symbol.name.clone());
        let registers = self.session.arch().register_names().into_iter().map(str::to_string);
        let flags = self.session.arch().flags().iter().map(|info| info.word.to_string());
        let marks = self.session.marks().iter().map(|mark| mark.name.clone());
        let image = self.session.image();
        let labels = image.labels.iter().map(|label| label.name.clone());
        let variables = image.variables.iter().map(|variable| variable.name.clone());
        let words = registers.chain(flags).chain(marks);
        let mut names: Vec<String> = symbols.chain(words).chain(labels).chain(variables).collect();
        names.sort();
        names.dedup();
        names
    }
}

/// A session of a program with arguments and the input file.
fn session(program: program::Program, args: &StepArgs) -> Result<Session, Failure> {
    let startup = run::startup(&program.argument, &args.arguments, args.memory);
    let mut session = run::session(program, &startup)?;
    guest_io::connect(&mut session, args.stdin.as_deref())?;
    Ok(session)
}
