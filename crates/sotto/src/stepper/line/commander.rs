//! Commands carried out on a session, and what there is to say about them.
//!
//! Answers are text with its styles, or data; where they go is chosen by whoever holds the commander: to
//! standard output at once, or collected for the full screen.

use std::ffi::OsString;
use std::io::{self, Write};
use std::sync::Arc;

use serde_json::Value;
use sotto_check::Follower;
use sotto_isa::{OperandOrder, Width};
use sotto_session::protocol::{
    Answer, At, BreakpointAnswer, Reply, Request, Shown, StopTag, VERSION, WatchAnswer,
};
use sotto_session::{Breakpoint, Format, Session, StepReport, StopReason, Watch, Wrote};

use crate::cli::StepArgs;
use crate::console::{self, Stream, Tone, paint};
use crate::output::{self, Failure};
use crate::render::{self, answers};
use crate::start::Start;
use crate::stepper::line::error::CommandError;
use crate::stepper::line::grammar;
use crate::stepper::line::grammar::{Command, Distance};
use crate::{diagnostics, guest_io, interrupt, program, with_c};

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
    /// What the program started with.
    start: Start,
    operands: OperandOrder,
    /// The id of the request that is being carried out.
    id: Value,
    /// Answers follow whose end is still to come.
    in_request: bool,
    /// Answers as data that are not written yet.
    data: Vec<u8>,
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
        let program = load(args, as_json)?;
        let (name, operands) = (program.name.clone(), program.operands);
        let (session, start) = session(program, args)?;
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
            start,
            operands,
            id: Value::Null,
            in_request: false,
            data: Vec::new(),
            shows_bits: false,
            complained: false,
            follower: Some(Follower::default()),
        })
    }

    /// The program's name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Gives an answer: as text, or as data with the id of its request.
    pub(crate) fn tell(&mut self, answer: &Answer) {
        self.complained |= matches!(answer, Answer::Error { .. });
        if self.as_json {
            /// Bytes of answers that are written together.
            const TOGETHER: usize = 64 << 10;
            let start = self.data.len();
            // Answers are plain data, which nothing refuses to be written.
            let _ = serde_json::to_writer(&mut self.data, &Reply { id: &self.id, answer });
            console::escape_json(&mut self.data, start);
            self.data.push(b'\n');
            if !self.in_request || self.data.len() > TOGETHER {
                self.write_data();
            }
        } else if let Some(text) = answers::to_text(answer) {
            self.print(&text);
        }
    }

    /// Writes the answers that were put together.
    fn write_data(&mut self) {
        let written = Stream::Output.write(&self.data);
        self.data.clear();
        self.note(written);
    }

    /// Words for a person alone.
    pub(crate) fn notice(&mut self, words: impl Into<String>) {
        self.tell(&Answer::Notice { words: words.into() });
    }

    pub(crate) fn complain(&mut self, message: &str) {
        self.tell(&Answer::Error { message: message.to_string() });
    }

    /// Prints text, unless everything is data.
    pub(crate) fn print(&mut self, text: &str) {
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

    /// Takes the answers that were collected.
    pub fn take_answers(&mut self) -> Vec<String> {
        match &mut self.answers {
            Answers::Print => Vec::new(),
            Answers::Collect(lines) => std::mem::take(lines),
        }
    }

    /// Says what this is.
    pub fn greet(&mut self) {
        let (program, machine) = (self.name.clone(), self.session.arch().name());
        self.tell(&Answer::Session { version: VERSION, program, machine });
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
        if !self.as_json {
            return self.execute_command(line).unwrap_or_else(|message| {
                self.complain(&message.to_string());
                Outcome::Done
            });
        }
        self.in_request = true;
        let outcome = Request::parse(&line).map_err(CommandError::from).and_then(|request| {
            self.id = request.id;
            self.execute_command(request.command)
        });
        let ok = outcome.is_ok();
        if let Err(error) = &outcome {
            self.complain(&error.to_string());
        }
        self.in_request = false;
        self.tell(&Answer::End { ok });
        self.id = Value::Null;
        outcome.unwrap_or(Outcome::Done)
    }

    /// Carries out a command in words.
    fn execute_command(&mut self, line: String) -> Result<Outcome, CommandError> {
        let parsed = grammar::parse(&line, self.session.arch())?;
        if parsed.command == Command::Quit {
            return Ok(Outcome::Quit);
        }
        self.last = if parsed.repeats { line } else { String::new() };
        self.carry_out(&parsed.command)?;
        Ok(Outcome::Done)
    }

    fn carry_out(&mut self, command: &Command) -> Result<(), CommandError> {
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
                    Some(report) => self.show_new_step(&Arc::new(report)),
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
                if matches!(
                    reason,
                    StopReason::Terminated | StopReason::NeedsInput | StopReason::Stuck
                ) && !place.starts_with('#')
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
                self.session.remove_stop(*number)?;
            }
            Command::Show(None) => self.show_expressions(),
            Command::Show(Some((text, format))) => {
                let value = self.expression(text, *format)?;
                self.tell(&Answer::Value(Shown { expression: text.clone(), value }));
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
                    return Err(format!("`{text}` is not shown; `show` lists what is").into());
                }
            }
            Command::Registers(names) => self.registers(names)?,
            Command::Flags => self.flags(),
            Command::Stack(count) => self.stack(count.unwrap_or(STACK_WORDS)),
            Command::Frames(count) => self.frames(*count),
            Command::Tasks => self.tasks(),
            Command::Task(number) => self.task(*number)?,
            Command::Recent(count) => self.recent(*count),
            Command::Memory { place, count, format } => self.memory(place, *count, *format)?,
            Command::Change { target, value } => self.change(target, value)?,
            Command::Who(text) => self.who(text)?,
            Command::Ahead => match self.session.ahead() {
                Some(report) => self.tell(&Answer::Step(Arc::new(report))),
                None => {
                    return Err("the next instruction cannot complete; `step` says why".into());
                }
            },
            Command::Mark(name) => self.mark(name.as_deref()),
            Command::Compare(name) => {
                let comparison = self.session.compare(name)?;
                self.tell(&Answer::Comparison(Box::new(comparison)));
            }
            Command::Feed(text) => self.feed(text.as_deref())?,
            Command::Send(signal) => {
                self.session.send_signal(*signal)?;
                self.notice("the program takes the signal when it goes on");
            }
            Command::Output => self.output(),
            Command::Syscalls => self.syscalls(),
            Command::Source => self.source()?,
            Command::Code(place) => self.code(place.as_deref())?,
            Command::Variables => self.variables(),
            Command::Bits(on) => self.bits(*on)?,
            Command::Check(on) => self.check(*on)?,
            Command::Help(None) => self.tell(&Answer::Help { words: grammar::help() }),
            Command::Help(Some(topic)) => {
                let text = grammar::topic(topic)?;
                self.tell(&Answer::Help { words: text });
            }
            Command::Quit => {}
        }
        Ok(())
    }

    fn back(&mut self, distance: &Distance) -> Result<StopReason, CommandError> {
        let nowhere = |what: &str| Err(format!("{what}; the session stays where it is").into());
        Ok(match distance {
            Distance::Instructions(count) => self.session.back(*count),
            Distance::Line => self.session.back_line(),
            Distance::Call => self.session.back_out(),
            Distance::To(place) => {
                let places = self.session.resolve_places(place)?;
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
        self.output_shown = self.output_shown.min(self.session.system().output_bytes());
    }

    fn step(&mut self, count: u64) {
        for _ in 0..count {
            let (report, reason) = match &mut self.follower {
                Some(follower) => follower.step(&mut self.session),
                None => self.session.step(),
            };
            if let Some(report) = report.map(Arc::new) {
                self.show_new_step(&report);
                if matches!(self.answers, Answers::Collect(_)) {
                    self.session.keep_report(&report);
                }
            }
            // A person sees it in the report of the call.
            if self.as_json && self.output_shown < self.session.system().output_bytes() {
                let output = self.output_from(self.output_shown, u64::MAX);
                self.tell(&Answer::Output(output));
            }
            self.output_shown = self.session.system().output_bytes();
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
    pub fn go_until(&mut self, place: &str) -> Result<StopReason, CommandError> {
        let before = self.session.moment();
        if let Some(moment) = place.strip_prefix('#') {
            let moment = moment.trim().replace('_', "").parse::<u64>();
            let moment = moment.map_err(|_| format!("`{place}` is no moment; one is #1234"))?;
            let reason = self.session.go_to(moment);
            self.went_back();
            if self.session.moment() > before {
                self.show_ran(before);
            }
            if self.session.moment() < moment && self.session.ending().is_some() {
                let last = render::thousands(self.session.moment());
                self.complain(&format!("there is no moment {place}; the program ended at #{last}"));
            }
            return Ok(reason);
        }
        let addresses = self.session.resolve_places(place)?;
        if before == 0 && addresses.contains(&self.session.here().address) {
            return Ok(StopReason::Place);
        }
        let reason = self.session.resume(&addresses, LIMIT, &interrupt::asked);
        self.show_ran(before);
        Ok(reason)
    }

    /// Shows a step that was just made, with what was found.
    fn show_new_step(&mut self, report: &Arc<StepReport>) {
        self.tell(&Answer::Step(report.clone()));
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
        let instructions = self.session.moment().saturating_sub(before);
        self.tell(&Answer::Ran { instructions });
        let output = self.output_from(self.output_shown, MOST);
        self.output_shown = self.session.system().output_bytes();
        if !output.text.is_empty() || output.left_out > 0 {
            self.tell(&Answer::Output(output));
        }
    }

    /// Says why the program stopped, and what is next.
    fn show_stop(&mut self, reason: StopReason) {
        let (tag, number, words) = match reason {
            StopReason::Terminated => return self.show_ended(),
            StopReason::Done => (StopTag::Done, None, None),
            StopReason::Place => (StopTag::Place, None, None),
            StopReason::Call => (StopTag::SystemCall, None, None),
            StopReason::Breakpoint(number) => {
                (StopTag::Breakpoint, Some(number), Some(self.breakpoint_text(number)))
            }
            StopReason::Watch(number) => {
                self.show_watch_change();
                (StopTag::Watch, Some(number), None)
            }
            StopReason::NeedsInput => {
                let words = "the program waits for input: `feed TEXT`, or `feed` alone for its end";
                (StopTag::NeedsInput, None, Some(words.to_string()))
            }
            StopReason::Stuck => {
                let words = "all that is left waits, and nothing will end that: `tasks` says for what, `send SIGNAL` ends it";
                (StopTag::Stuck, None, Some(words.to_string()))
            }
            StopReason::Limit => (StopTag::Limit, None, Some("stopped at the limit".to_string())),
            StopReason::MemoryLimit => {
                let limit = render::byte_count(self.session.system().memory_limit());
                let words =
                    format!("the program wants more memory than the {limit} that it may have");
                (StopTag::MemoryLimit, None, Some(words))
            }
            StopReason::Interrupted => {
                (StopTag::Interrupted, None, Some("interrupted".to_string()))
            }
            StopReason::AtStart => (StopTag::AtStart, None, Some("this is the start".to_string())),
        };
        if self.session.ending().is_some() {
            if let Some(words) = words {
                self.complain(&words);
            }
            return self.show_ended();
        }
        let times = number.and_then(|number| {
            let breakpoints = self.session.breakpoints();
            let breakpoint = breakpoints.iter().find(|b| b.number == number);
            breakpoint.map(|breakpoint| breakpoint.arrivals(self.session.moment()))
        });
        // The full screen has places for where it is.
        match (&self.answers, &words) {
            (Answers::Collect(_), Some(words)) => self.print(&paint(Tone::Warning, words)),
            (Answers::Collect(_), None) => {}
            (Answers::Print, _) => {
                let at = self.at();
                self.tell(&Answer::Stopped { reason: tag, number, times, words, at });
            }
        }
    }

    /// Where the program is, with the values that are shown at every stop.
    fn at(&mut self) -> At {
        let shown = self.shown_values().into_iter();
        At {
            moment: self.session.moment(),
            task: self.session.shown_task_number(),
            place: self.session.here(),
            instruction: self.session.next_instruction().map(|(_, text)| text),
            shown: shown.map(|(expression, value)| Shown { expression, value }).collect(),
        }
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
        let text = |value: Option<i128>| value.map(|value| value.to_string());
        self.tell(&Answer::Watched {
            number: change.number,
            expression: change.text,
            old: text(change.old),
            new: text(change.new),
            bits: change.width.map_or(64, Width::bits),
            moved: change.moved.map(|(from, to)| [format!("{from:#x}"), format!("{to:#x}")]),
            by: Box::new(change.report),
        });
    }

    fn show_ended(&mut self) {
        let Some(ending) = self.session.ending() else { return };
        let fault = self.session.fault_report().map(Box::new);
        let (status, moment) = (ending.shell_status(), self.session.moment());
        self.tell(&Answer::Ended { status, moment, fault });
    }

    /// Shows the values that are shown at every stop, and the next instruction.
    pub fn show_next(&mut self) {
        // The full screen has places for these.
        if self.session.ending().is_some() || matches!(self.answers, Answers::Collect(_)) {
            return;
        }
        let at = self.at();
        self.tell(&Answer::Next(at));
    }

    fn show_expressions(&mut self) {
        for (expression, value) in self.shown_values() {
            self.tell(&Answer::Value(Shown { expression, value }));
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
            values.push((text, value.unwrap_or_else(|error| error.to_string())));
        }
        values
    }

    /// The value of an expression, as it is shown: with its readings, or as a number in data.
    pub(crate) fn expression(
        &mut self,
        text: &str,
        format: sotto_session::Format,
    ) -> Result<String, CommandError> {
        let evaluated = self.session.evaluate(text)?;
        // A variable of C is read as what it was declared.
        let format = match self.session.variable_format(text) {
            Some(own) if format == Default::default() => own,
            _ => format,
        };
        if format != Default::default() {
            return Ok(self.session.show(text, format)?);
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
    fn show_all(&mut self, text: &str) -> Result<(), CommandError> {
        let evaluated = self.session.evaluate(text)?;
        let width = evaluated.width.unwrap_or(Width::W64);
        let readings = self.session.readings(evaluated.value as u64, width);
        self.tell(&Answer::Readings { expression: text.to_string(), readings });
        Ok(())
    }

    fn add_break(
        &mut self,
        place: &str,
        condition: Option<&str>,
        from_arrival: u64,
    ) -> Result<(), CommandError> {
        let added = self.session.add_breakpoint(place, condition, from_arrival);
        let breakpoint = added?.clone();
        let answer = self.breakpoint(&breakpoint);
        self.tell(&Answer::BreakpointSet(answer));
        Ok(())
    }

    fn breakpoint(&self, breakpoint: &Breakpoint) -> BreakpointAnswer {
        BreakpointAnswer {
            number: breakpoint.number,
            places: breakpoint.addresses.iter().map(|at| self.session.place(*at)).collect(),
            when: breakpoint.condition.as_ref().map(|(text, _)| text.clone()),
            from_arrival: breakpoint.from_arrival,
            arrivals: breakpoint.arrivals(self.session.moment()),
        }
    }

    fn add_watch(&mut self, text: &str) -> Result<(), CommandError> {
        let added = self.session.add_watch(text).map(|watch| watch.number);
        let number = added?;
        self.tell(&Answer::WatchSet(WatchAnswer { number, expression: text.to_string() }));
        Ok(())
    }

    fn list_breaks(&mut self) {
        let breakpoints = self.session.breakpoints().iter().map(|b| self.breakpoint(b)).collect();
        let watch =
            |watch: &Watch| WatchAnswer { number: watch.number, expression: watch.text.clone() };
        let watches = self.session.watches().iter().map(watch).collect();
        self.tell(&Answer::Stops { breakpoints, watches });
    }

    fn change(&mut self, target: &str, value: &str) -> Result<(), CommandError> {
        let change = self.session.change(target, value)?;
        self.tell(&Answer::Changed(change));
        self.show_next();
        Ok(())
    }

    /// Goes to just before the instruction that last wrote the target.
    fn who(&mut self, text: &str) -> Result<(), CommandError> {
        let target = self.session.target(text)?;
        let writer = match self.session.who(target) {
            Wrote::Instruction(writer) => writer,
            Wrote::Person(moment) => {
                let moment = render::thousands(moment);
                return Err(format!("{text} was changed by you, at #{moment}").into());
            }
            Wrote::Nothing => {
                return Err(format!("nothing has written {text} since the start").into());
            }
        };
        self.went_back();
        self.tell(&Answer::Writer { step: Box::new(writer.report), ago: writer.ago });
        self.show_next();
        Ok(())
    }

    fn mark(&mut self, name: Option<&str>) {
        let marks = match name {
            Some(name) => vec![self.session.mark(name)],
            None => self.session.marks().to_vec(),
        };
        self.tell(&Answer::Marks { marks });
    }

    fn feed(&mut self, text: Option<&[u8]>) -> Result<(), CommandError> {
        let system = self.session.system_mut();
        let told = match text {
            Some(text) => {
                if !system.give_input(text) {
                    return Err("the input has ended already".into());
                }
                "the program will read it when it goes on"
            }
            None => {
                system.close_input();
                "the input ends here"
            }
        };
        self.notice(told);
        Ok(())
    }

    /// Starts again, without what was changed and what was fed; with other arguments if some are given.
    fn restart(&mut self, arguments: Option<&[String]>) -> Result<(), CommandError> {
        if let Some(arguments) = arguments {
            if self.start.recording.is_some() {
                return Err("the arguments are those of the recording; `restart` takes none".into());
            }
            let name = self.start.startup.arguments.first().cloned().into_iter();
            let given = arguments.iter().map(|argument| argument.clone().into_bytes());
            self.start.startup.arguments = name.chain(given).collect();
            self.args.arguments = arguments.iter().map(OsString::from).collect();
        }
        self.start.read_folders_anew(&self.args.system).map_err(|failure| failure.to_string())?;
        self.session.restart(&self.start.startup)?;
        guest_io::connect(&mut self.session, &self.start).map_err(|failure| failure.to_string())?;
        self.output_shown = 0;
        self.check_anew();
        self.show_stop(StopReason::Done);
        Ok(())
    }

    /// Assembles again, and goes to the same line for the same time. If there are errors, everything
    /// stays as it was.
    fn reload(&mut self) -> Result<(), CommandError> {
        let errors = |failure: Failure| match failure {
            Failure::Reported => "the source has errors; nothing was reloaded".to_string(),
            other => other.to_string(),
        };
        let load = || load(&self.args, self.as_json);
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
        let (mut session, start) = session(program, &self.args).map_err(errors)?;
        self.start = start;
        let told = session.take_over(&mut self.session, LIMIT, &interrupt::asked);
        self.session = session;
        self.check_anew();
        self.output_shown = self.session.system().output_bytes();
        for lost in &told.lost {
            self.complain(lost);
        }
        let reached = if told.returned { "returned to the same line" } else { "started again" };
        self.notice(format!("reloaded; {reached}"));
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

/// Makes a program of the files, with the variables that an executable's debugging information tells of.
fn load(args: &StepArgs, as_json: bool) -> Result<program::Program, Failure> {
    let mut program = with_c::load_program(&args.program, args.with_c, as_json)?;
    if let ([file], false, true) =
        (&args.program.files[..], args.with_c, program.assemblies.is_empty())
    {
        program.image.variables =
            sotto_object::read_variables(&output::read(file)?, &program.image);
    }
    Ok(program)
}

/// A session of a program with arguments and input, and what it started with.
fn session(program: program::Program, args: &StepArgs) -> Result<(Session, Start), Failure> {
    let stdin = args.stdin.as_deref();
    let start = Start::new(&program, &args.system, &args.arguments, stdin, false)?;
    let mut session = start.session(program)?;
    guest_io::connect(&mut session, &start)?;
    Ok((session, start))
}
