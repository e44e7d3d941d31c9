//! `sotto trace`: one line for each executed instruction, or only for what was asked.

use std::io::{self, Write};

use serde_json::{Value, json};
use sotto_isa::Width;
use sotto_session::{Session, StepReport, StopReason};

use crate::cli::TraceArgs;
use crate::output::{self, Failure};
use crate::render::{self, Tone, paint};
use crate::{interrupt, program, run};

/// Status when the traced program died by a fault.
const FAULTED: u8 = 1;

/// `sotto trace`
pub fn trace_command(args: &TraceArgs, as_json: bool) -> Result<u8, Failure> {
    let program = program::load(&args.program, as_json)?;
    let mut session = run::session(program, &args.arguments)?;
    if let Some(path) = &args.stdin {
        let bytes = output::read(path)?;
        session.process_mut().give_input(&bytes);
        session.process_mut().close_input();
    }
    let place = |session: &mut Session, text: &str| {
        session.resolve_place(text).map_err(|error| Failure::plain(error.to_string()))
    };
    let to = args.to.as_deref().map(|text| place(&mut session, text)).transpose()?;
    let mut at = Vec::new();
    for text in &args.at {
        at.push(place(&mut session, text)?);
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
    if let Some(from) = &args.from {
        let address = place(&mut session, from)?;
        if session.here().address != address {
            while session.resume(&[address], u64::MAX / 2, &interrupt::asked)
                == StopReason::NeedsInput
            {
                run::more_input(&mut session)?;
            }
        }
    }
    let mut tracer =
        Tracer { session, args, as_json, at, out: io::BufWriter::new(anstream::stdout()) };
    let status = tracer.trace(to)?;
    tracer.finish()?;
    Ok(status)
}

struct Tracer<'a, W: Write> {
    session: Session,
    args: &'a TraceArgs,
    as_json: bool,
    /// Places at which lines are wanted; everywhere if there are none.
    at: Vec<u64>,
    out: W,
}

impl<W: Write> Tracer<'_, W> {
    fn print(&mut self, text: &str) -> Result<(), Failure> {
        writeln!(self.out, "{text}").map_err(broken)
    }

    fn finish(&mut self) -> Result<(), Failure> {
        self.out.flush().map_err(broken)
    }

    /// Steps to the end, to the place given, or to the limit.
    fn trace(&mut self, to: Option<u64>) -> Result<u8, Failure> {
        let end = self.session.moment().saturating_add(self.args.limit.unwrap_or(u64::MAX));
        loop {
            let here = self.session.here().address;
            if interrupt::asked() || self.session.moment() >= end {
                return Ok(0);
            }
            let wanted = self.at.is_empty() || self.at.contains(&here);
            // Values are those that the instruction finds.
            let values = if wanted { self.values() } else { Vec::new() };
            let (report, reason) = self.session.step();
            if let Some(report) = report.filter(|report| wanted && self.is_asked_for(report)) {
                self.line(&report, &values)?;
            }
            match reason {
                StopReason::Done => {}
                StopReason::NeedsInput => {
                    self.finish()?;
                    run::more_input(&mut self.session)?;
                    continue;
                }
                _ => return self.ended(),
            }
            if to == Some(self.session.here().address) {
                return Ok(0);
            }
        }
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
        if self.as_json {
            let mut value = serde_json::to_value(report).unwrap_or_default();
            if !values.is_empty() {
                let shown = values.iter().map(|(name, value)| (name.clone(), json!(value)));
                value["shown"] = Value::Object(shown.collect());
            }
            return self.print(&value.to_string());
        }
        let shown: Vec<String> = values
            .iter()
            .map(|(name, value)| format!("{} = {value}", paint(Tone::Strong, name)))
            .collect();
        let shown = shown.join("  ");
        let text = match (&report.syscall, self.args.syscalls, self.at.is_empty()) {
            (Some(call), true, _) => render::syscall(call),
            // At chosen places the values are what was asked for.
            (_, _, false) if !values.is_empty() => {
                return self.print(&format!("{}  {shown}", render::step_head(report)));
            }
            _ => render::step_line(report),
        };
        self.print(&if shown.is_empty() { text } else { format!("{text}  {shown}") })
    }

    fn ended(&mut self) -> Result<u8, Failure> {
        let Some(ending) = self.session.ending() else { return Ok(0) };
        let report = self.session.fault_report();
        let status = ending.shell_status();
        let end = match self.as_json {
            true => json!({ "ended": status }).to_string(),
            false => format!("{} with status {status}", paint(Tone::Strong, "ended")),
        };
        self.print(&end)?;
        let Some(report) = report else { return Ok(0) };
        self.finish()?;
        let mut err = anstream::stderr();
        let _ = match self.as_json {
            true => writeln!(err, "{}", json!({ "fault": report })),
            false => writeln!(err, "{}", render::fault(&report)),
        };
        Ok(FAULTED)
    }
}

fn broken(source: io::Error) -> Failure {
    Failure::Write { path: "standard output".into(), source }
}
