//! `sotto trace`: one line for each executed instruction, or only for what was asked.

use std::collections::HashSet;
use std::io::{self, Write};

use serde_json::{Value, json};
use sotto_check::Follower;
use sotto_isa::Width;
use sotto_session::{Session, StepReport, StopReason};

use crate::cli::TraceArgs;
use crate::console::{self, Stream, Tone, paint};
use crate::output::{self, Failure};
use crate::start::Start;
use crate::{findings, guest_io, interrupt, render, run, with_c};

/// Status when the traced program died by a fault.
const FAULTED: u8 = 1;
/// Status when its memory limit was reached, as `run` has it.
const LIMIT_REACHED: u8 = 124;

/// `sotto trace`
pub fn trace_command(args: &TraceArgs, as_json: bool) -> Result<u8, Failure> {
    let program = with_c::load_program(&args.program, args.with_c, as_json)?;
    let stdin = args.stdin.as_deref();
    let start = Start::new(&program, &args.system, &args.arguments, stdin, false)?;
    let mut session = start.session(program)?;
    guest_io::connect(&mut session, &start)?;
    let place = |session: &mut Session, text: &str| {
        session.resolve_places(text).map_err(|error| Failure::plain(error.to_string()))
    };
    let to = match &args.to {
        Some(text) => place(&mut session, text)?,
        None => Vec::new(),
    };
    let mut at = Vec::new();
    for text in &args.at {
        at.extend(place(&mut session, text)?);
    }
    for text in &args.show {
        // A misspelt name is told before anything runs; a value that is missing now may come.
        if let Err(
            error @ (sotto_session::EvaluateError::NoSymbol { .. }
            | sotto_session::EvaluateError::Syntax(_)),
        ) = session.evaluate(text)
        {
            return Err(Failure::plain(error.to_string()));
        }
    }
    interrupt::listen();
    // What happens before the start is not looked at.
    let from = match args.first_place() {
        Some(from) => place(&mut session, from)?,
        None => Vec::new(),
    };
    let colour = Stream::Output.has_colour();
    let out = io::BufWriter::with_capacity(1 << 16, io::stdout().lock());
    let limit = args.limit.unwrap_or(u64::MAX);
    // The limit counts from where the trace begins.
    let end = u64::MAX;
    let (json, remarked) = (Vec::new(), HashSet::new());
    let follower = (!args.no_check).then(Follower::default);
    let mut tracer =
        Tracer { session, args, as_json, colour, at, to, end, out, json, remarked, follower };
    let here = tracer.session.here().address;
    let status = match from.is_empty() || from.contains(&here) {
        true => None,
        false => tracer.run_to(&from)?,
    };
    if let Some(follower) = &mut tracer.follower {
        follower.catch_up(&mut tracer.session, Follower::UNASKED, &interrupt::asked);
    }
    tracer.end = tracer.session.moment().saturating_add(limit);
    let status = match status {
        Some(status) => status,
        None => tracer.trace()?,
    };
    tracer.finish()?;
    Ok(status)
}

struct Tracer<'a, W: Write> {
    session: Session,
    args: &'a TraceArgs,
    as_json: bool,
    /// Styles are shown.
    colour: bool,
    /// Places at which lines are wanted; everywhere if there are none.
    at: Vec<u64>,
    /// Places at which to stop.
    to: Vec<u64>,
    /// The moment at which to stop.
    end: u64,
    out: W,
    /// The line of JSON at hand.
    json: Vec<u8>,
    /// What was remarked of steps so far.
    remarked: HashSet<String>,
    /// What looks at the instructions, if they are checked.
    follower: Option<Follower>,
}

impl<W: Write> Tracer<'_, W> {
    fn print(&mut self, text: &str) -> Result<(), Failure> {
        let line = console::rendered(text, self.colour);
        self.out.write_all(line.as_bytes()).map_err(output::stdout_failed)?;
        self.out.write_all(b"\n").map_err(output::stdout_failed)
    }

    fn print_json(&mut self, value: &Value) -> Result<(), Failure> {
        let line = console::json_line(value);
        self.out.write_all(line.as_bytes()).map_err(output::stdout_failed)?;
        self.out.write_all(b"\n").map_err(output::stdout_failed)
    }

    fn finish(&mut self) -> Result<(), Failure> {
        self.out.flush().map_err(output::stdout_failed)
    }

    /// Prints lines to the end, to the place given, or to the limit.
    fn trace(&mut self) -> Result<u8, Failure> {
        match self.at.is_empty() && !self.args.syscalls {
            true => self.trace_steps(),
            false => self.trace_stops(),
        }
    }

    /// Runs to one of the places, or to a system call if those are wanted; the status if the trace is over before.
    fn run_to(&mut self, places: &[u64]) -> Result<Option<u8>, Failure> {
        loop {
            let left = self.end.saturating_sub(self.session.moment());
            match self.session.resume(places, left, &interrupt::asked) {
                StopReason::Place | StopReason::Call => return Ok(None),
                StopReason::NeedsInput => self.more_input()?,
                StopReason::Terminated | StopReason::MemoryLimit | StopReason::Stuck => {
                    return self.ended().map(Some);
                }
                _ => return Ok(Some(0)),
            }
        }
    }

    fn more_input(&mut self) -> Result<(), Failure> {
        self.finish()?;
        if self.args.system.replay.is_some() {
            return Err(Failure::plain("the recording ends here: the program wants more input"));
        }
        guest_io::more_input(&mut self.session, None)
    }

    /// Lines at places or system calls alone: the program runs from one to the next.
    fn trace_stops(&mut self) -> Result<u8, Failure> {
        let mut stops = self.at.clone();
        stops.extend(&self.to);
        let calls = self.args.syscalls && self.at.is_empty();
        // At chosen places the values are what was asked for.
        let brief = !self.args.show.is_empty() && !self.as_json && !self.args.syscalls;
        self.session.stop_at_calls(calls);
        let mut wanted = self.at.contains(&self.session.here_address());
        loop {
            if !wanted {
                if let Some(status) = self.run_to(&stops)? {
                    return Ok(status);
                }
                if self.to.contains(&self.session.here_address()) {
                    return Ok(0);
                }
            }
            if interrupt::asked() || self.session.moment() >= self.end {
                return Ok(0);
            }
            let values = self.values();
            let head = if brief { self.session.next_head() } else { None };
            let (report, reason) = self.session.step();
            match report {
                Some(report) if !brief && self.is_asked_for(&report) => {
                    self.line(&report, &values)?;
                }
                Some(_) => {
                    if let Some((moment, place, text)) = head {
                        let head = render::head(moment, &place, &text);
                        self.print(&format!("{head}  {}", shown_values(&values)))?;
                    }
                }
                None => {}
            }
            match reason {
                StopReason::Done => {}
                StopReason::NeedsInput => {
                    self.more_input()?;
                    wanted = true;
                    continue;
                }
                _ => return self.ended(),
            }
            let here = self.session.here_address();
            if self.to.contains(&here) {
                return Ok(0);
            }
            wanted = self.at.contains(&here);
        }
    }

    /// A line for every instruction.
    fn trace_steps(&mut self) -> Result<u8, Failure> {
        let mut report = StepReport::default();
        let (mut text, mut line) = (String::new(), String::new());
        let simple = self.args.show.is_empty() && !self.as_json;
        loop {
            if interrupt::asked() || self.session.moment() >= self.end {
                return Ok(0);
            }
            // Values are those that the instruction finds.
            let values = if self.args.show.is_empty() { Vec::new() } else { self.values() };
            let (completed, reason) = match &mut self.follower {
                Some(follower) => follower.step_into(&mut self.session, &mut report),
                None => self.session.step_into(&mut report),
            };
            // A loop would say the same again and again.
            if !self.as_json
                && report.remark.as_ref().is_some_and(|text| self.remarked.contains(text))
            {
                report.remark = None;
            }
            self.remarked.extend(report.remark.clone());
            if completed && simple {
                text.clear();
                line.clear();
                render::step_line_into(&report, &mut text);
                console::render_into(&mut line, &text, self.colour);
                line.push('\n');
                self.out.write_all(line.as_bytes()).map_err(output::stdout_failed)?;
            } else if completed && self.is_asked_for(&report) {
                self.line(&report, &values)?;
            }
            if completed {
                self.findings(report.moment - 1)?;
            }
            match reason {
                StopReason::Done => {}
                StopReason::NeedsInput => {
                    self.more_input()?;
                    continue;
                }
                _ => return self.ended(),
            }
            if !self.to.is_empty() && self.to.contains(&self.session.here_address()) {
                return Ok(0);
            }
        }
    }

    /// What was found in the step that began at this moment.
    fn findings(&mut self, moment: u64) -> Result<(), Failure> {
        let Some(follower) = &self.follower else { return Ok(()) };
        let found = follower.findings(moment..moment + 1);
        if self.as_json {
            let values: Vec<Value> = found.iter().map(|one| json!({ "finding": one })).collect();
            return values.iter().try_for_each(|value| self.print_json(value));
        }
        let texts: Vec<String> = found.iter().map(findings::beside_step).collect();
        texts.iter().try_for_each(|text| self.print(text))
    }

    fn is_asked_for(&self, report: &StepReport) -> bool {
        !self.args.syscalls || report.syscall.is_some()
    }

    /// The expressions to show, with their values now.
    fn values(&mut self) -> Vec<(String, String)> {
        let mut values = Vec::new();
        for text in &self.args.show {
            let shown = match self.session.evaluate(text) {
                Ok(evaluated) => match u64::try_from(evaluated.value) {
                    Ok(value) => render::value(value, evaluated.width.map_or(64, Width::bits)),
                    Err(_) => evaluated.value.to_string(),
                },
                Err(error) => error.to_string(),
            };
            values.push((text.clone(), shown));
        }
        values
    }

    fn line(&mut self, report: &StepReport, values: &[(String, String)]) -> Result<(), Failure> {
        if self.as_json && values.is_empty() {
            // Most lines are like this, and there may be millions.
            self.json.clear();
            // Neither the report nor a buffer in memory refuses to be written.
            let _ = serde_json::to_writer(&mut self.json, report);
            let line = console::json_text(str::from_utf8(&self.json).unwrap_or_default());
            self.out.write_all(line.as_bytes()).map_err(output::stdout_failed)?;
            return self.out.write_all(b"\n").map_err(output::stdout_failed);
        }
        if self.as_json {
            let mut value = serde_json::to_value(report).unwrap_or_default();
            let shown = values.iter().map(|(name, value)| (name.clone(), json!(value)));
            value["shown"] = Value::Object(shown.collect());
            return self.print_json(&value);
        }
        let shown = shown_values(values);
        let text = match (&report.syscall, self.args.syscalls) {
            (Some(call), true) => render::syscall(call),
            _ => render::step_line(report),
        };
        self.print(&if shown.is_empty() { text } else { format!("{text}  {shown}") })
    }

    fn ended(&mut self) -> Result<u8, Failure> {
        let Some(ending) = self.session.ending() else {
            self.finish()?;
            if self.session.system().is_at_memory_limit() {
                let limit = render::byte_count(self.session.system().memory_limit());
                let why = format!("it wants more memory than the {limit} that it may have");
                return run::stopped(&self.session, &why, LIMIT_REACHED, self.as_json);
            }
            if self.session.system().is_stuck() {
                return run::stopped(&self.session, run::STUCK, LIMIT_REACHED, self.as_json);
            }
            return Ok(0);
        };
        let report = self.session.fault_report();
        let status = ending.shell_status();
        match self.as_json {
            true => self.print_json(&json!({ "ended": status }))?,
            false => {
                self.print(&format!("{} with status {status}", paint(Tone::Strong, "ended")))?
            }
        }
        let Some(report) = report else { return Ok(0) };
        self.finish()?;
        let _ = match self.as_json {
            true => Stream::Error.say_json(&json!({ "fault": report })),
            false => Stream::Error.say(&render::fault(&report)),
        };
        Ok(FAULTED)
    }
}

/// Expressions with their values, in a row.
fn shown_values(values: &[(String, String)]) -> String {
    let mut shown = String::new();
    for (name, value) in values {
        if !shown.is_empty() {
            shown.push_str("  ");
        }
        shown.push_str(&paint(Tone::Strong, name));
        shown.push_str(" = ");
        shown.push_str(value);
    }
    shown
}
