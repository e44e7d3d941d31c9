//! Answers of the stepper as text.

use sotto_session::protocol::{
    Answer, At, BreakpointAnswer, FlagAnswer, OutputText, RegisterAnswer, Shown, WatchAnswer,
};
use sotto_session::{CodeLine, Frame, Mark, NamedVariable};

use crate::console::{Tone, paint};
use crate::{findings, render};

/// An answer as text; `None` if it says nothing to a person.
pub fn to_text(answer: &Answer) -> Option<String> {
    Some(match answer {
        Answer::Session { program, machine, .. } => {
            let text = format!("{program}, {machine}; `help` lists the commands");
            paint(Tone::Quiet, &text)
        }
        Answer::Step(report) => render::step(report),
        Answer::Ran { instructions } => ran(*instructions),
        Answer::Output(output) => return written(output),
        Answer::Finding { finding } => findings::beside_step(finding),
        Answer::Checked { words, .. } | Answer::Help { words } => words.clone(),
        Answer::Stopped { words, at: here, .. } => match words {
            Some(words) => format!("{}\n{}", paint(Tone::Warning, words), at(here)),
            None => at(here),
        },
        Answer::Next(here) => at(here),
        Answer::Ended { status, fault, .. } => {
            let words = format!(
                "{} with status {status}; `back` goes back, `rewind` to the start",
                paint(Tone::Strong, "ended")
            );
            match fault {
                Some(report) => format!("{}\n{words}", render::fault(report)),
                None => words,
            }
        }
        Answer::Watched { number, expression, old, new, bits, moved, by } => {
            let number_of = |text: &Option<String>| text.as_ref().and_then(|t| t.parse().ok());
            let value = render::watched_change(number_of(old), number_of(new), *bits);
            let head = paint(Tone::Warning, &format!("watch {number}:"));
            let mut text = format!("{head} {}  {value}\n", paint(Tone::Strong, expression));
            if let Some([before, now]) = moved {
                let why = format!("        its address went from {before} to {now}\n");
                text.push_str(&paint(Tone::Quiet, &why));
            }
            text + &render::step(by)
        }
        Answer::Value(shown) => value(shown),
        Answer::Readings { expression, readings } => render::readings(expression, readings),
        Answer::Registers { registers } => {
            let mut before = None;
            let with_role = |one: &RegisterAnswer| {
                let is_first = before != one.role;
                before = one.role;
                register(one, is_first)
            };
            registers.iter().map(with_role).collect::<Vec<String>>().join("\n")
        }
        Answer::Vector { name, value, lanes } => {
            let order = paint(Tone::Quiet, "elements, the lowest first:");
            let mut text = format!("        {} = {value}  {order}", paint(Tone::Strong, name));
            for (kind, elements) in lanes {
                text.push_str(&format!("\n        {kind:>5}  {}", elements.join(", ")));
            }
            text
        }
        Answer::Vectors { vectors } => lines(vectors, |(name, value)| {
            let text = format!("        {name:<5} {value}");
            if value == "0x0" { paint(Tone::Quiet, &text) } else { text }
        }),
        Answer::Flags { flags } => lines(flags, flag),
        Answer::Stack(view) => render::stack(view),
        Answer::Frames { frames, left_out, outermost } => chain(frames, *left_out, outermost),
        Answer::Tasks { tasks, .. } if tasks.is_empty() => "the program has ended".to_string(),
        Answer::Tasks { tasks, circle } => {
            let tasks = tasks.iter().map(render::task);
            tasks.chain(render::circle(circle)).collect::<Vec<_>>().join("\n")
        }
        Answer::Recent { steps } if steps.is_empty() => {
            "no instruction has been executed yet".to_string()
        }
        Answer::Recent { steps } => lines(steps, |report| render::step_line(report)),
        Answer::Memory { lines: all } => lines(all, render::memory_line),
        Answer::Changed(change) => render::change(change),
        Answer::Writer { step, ago } => {
            let unit = if *ago == 1 { "instruction" } else { "instructions" };
            let words = format!("{} {unit} ago; `step {ago}` returns", render::thousands(*ago));
            format!("{}\n        {}", render::step(step), paint(Tone::Quiet, &words))
        }
        Answer::BreakpointSet(breakpoint) => lines(&breakpoint.places, |place| {
            format!("breakpoint {} at {}", breakpoint.number, render::place_line(place))
        }),
        Answer::WatchSet(WatchAnswer { number, expression }) => {
            format!("watch {number} on {}", paint(Tone::Strong, expression))
        }
        Answer::Stops { breakpoints, watches } => stops(breakpoints, watches),
        Answer::Marks { marks } if marks.is_empty() => {
            "no marks; `mark NAME` names this moment".to_string()
        }
        Answer::Marks { marks } => lines(marks, mark),
        Answer::Comparison(comparison) => render::comparison(comparison),
        Answer::Syscalls { syscalls } if syscalls.is_empty() => {
            "the program has made no system call yet".to_string()
        }
        Answer::Syscalls { syscalls } => lines(syscalls, |row| {
            let location = row.place.location().unwrap_or_default();
            let location = location.rsplit('/').next().unwrap_or_default();
            format!("{:>6}  {location:<14} {}", row.moment, render::syscall(&row.syscall))
        }),
        Answer::Source { lines: all, .. } => lines(all, |row| {
            let marker = if row.next { "->" } else { "  " };
            let text = format!("{marker} {:>4}  {}", row.line, row.text);
            if row.next { paint(Tone::Strong, &text) } else { text }
        }),
        Answer::Code { lines: all, next } => lines(all, |line| code(line, *next)),
        Answer::Variables { variables } if variables.is_empty() => {
            "no variables are known here: they come from a C source compiled with `-g`".to_string()
        }
        Answer::Variables { variables } => lines(variables, variable),
        Answer::Notice { words } => paint(Tone::Quiet, words),
        Answer::Error { message } => format!("{} {message}", paint(Tone::Error, "error:")),
        Answer::End { .. } => return None,
    })
}

/// A text for each, a line or more.
fn lines<T>(all: &[T], text: impl Fn(&T) -> String) -> String {
    all.iter().map(text).collect::<Vec<String>>().join("\n")
}

fn ran(instructions: u64) -> String {
    let unit = if instructions == 1 { "instruction" } else { "instructions" };
    format!("        ran {} {unit}", render::thousands(instructions))
}

fn written(output: &OutputText) -> Option<String> {
    let head = paint(Tone::Strong, "output:");
    let mut all = Vec::new();
    if output.left_out > 0 {
        all.push(format!("        {head} {} before this", render::byte_count(output.left_out)));
    }
    all.extend(output.text.lines().map(|line| format!("        {head} {line}")));
    (!all.is_empty()).then(|| all.join("\n"))
}

fn at(at: &At) -> String {
    let next = render::next(&at.place, at.instruction.as_deref(), at.moment, at.task);
    let shown = at.shown.iter().map(value);
    shown.chain([next]).collect::<Vec<String>>().join("\n")
}

/// An expression and its value.
fn value(shown: &Shown) -> String {
    format!("        {} = {}", paint(Tone::Strong, &shown.expression), shown.value)
}

/// A register; its role is said if it is the first of it.
fn register(register: &RegisterAnswer, is_first: bool) -> String {
    let RegisterAnswer { name, value, bits, points_to, parts, .. } = register;
    let Some(role) = register.role else {
        let head = paint(Tone::Strong, name);
        let mut text = format!("        {head} = {}", render::value(*value, *bits));
        if !parts.is_empty() {
            let shown = parts.iter().map(|part| {
                let value = render::value(part.value, part.bits);
                format!("{} {value}", paint(Tone::Strong, part.name))
            });
            let indent = " ".repeat(name.len() + 3);
            let shown = shown.collect::<Vec<String>>().join("   ");
            text.push_str(&format!("\n        {indent}{shown}"));
        }
        return text;
    };
    let place = points_to.as_ref().map(|name| format!("  = {name}")).unwrap_or_default();
    let role = if is_first { role } else { "" };
    // What may be an address is read as one.
    let text = format!("{role:<10} {name:<4} {}{place}", render::value(*value, 64));
    if *value == 0 { paint(Tone::Quiet, &text) } else { text }
}

/// Registers several in a row, and the flags that are set.
pub fn registers_in_brief(registers: &[RegisterAnswer], flags: &[FlagAnswer]) -> String {
    const PER_ROW: usize = 4;
    let row = |row: &[RegisterAnswer]| {
        let mut line = "       ".to_string();
        for (number, register) in row.iter().enumerate() {
            let width = if number + 1 == row.len() { 0 } else { 19 };
            let text = format!("{:<4} {:<width$}", register.name, format!("{:#x}", register.value));
            line.push(' ');
            line.push_str(&if register.value == 0 { paint(Tone::Quiet, &text) } else { text });
        }
        line
    };
    let mut rows: Vec<String> = registers.chunks(PER_ROW).map(row).collect();
    let set: Vec<&str> = flags.iter().filter(|flag| flag.set).map(|flag| flag.name).collect();
    let words = if set.is_empty() { "none".to_string() } else { set.join(" ") };
    rows.push(format!("        flags set: {words}"));
    rows.join("\n")
}

fn flag(flag: &FlagAnswer) -> String {
    let text = format!("        {:<3} {}  {}", flag.name, u8::from(flag.set), flag.word);
    if flag.set { text } else { paint(Tone::Quiet, &text) }
}

fn chain(frames: &[Frame], left_out: usize, outermost: &[Frame]) -> String {
    let mut text = render::frames(frames, 0);
    if left_out > 0 {
        let count = render::thousands(left_out as u64);
        let line = format!("     and {count} more; `frames N` shows the innermost N");
        text = format!("{text}\n{}", paint(Tone::Quiet, &line));
    }
    if !outermost.is_empty() {
        text = format!("{text}\n{}", render::frames(outermost, frames.len() + left_out));
    }
    text
}

fn stops(breakpoints: &[BreakpointAnswer], watches: &[WatchAnswer]) -> String {
    if breakpoints.is_empty() && watches.is_empty() {
        return "no breakpoints; `break at PLACE` or `watch EXPR` sets one".to_string();
    }
    let mut all = Vec::new();
    for breakpoint in breakpoints {
        let when = breakpoint.when.as_ref().map(|text| format!("when {text}  "));
        let when = when.unwrap_or_default();
        let after = match breakpoint.from_arrival {
            0 | 1 => String::new(),
            count => format!("after {count}  "),
        };
        let times = match breakpoint.arrivals {
            0 => String::new(),
            1 => paint(Tone::Quiet, "  reached once"),
            times => paint(Tone::Quiet, &format!("  reached {} times", render::thousands(times))),
        };
        for place in &breakpoint.places {
            let place = render::place_line(place);
            all.push(format!("{:>4}  {when}{after}{place}{times}", breakpoint.number));
        }
    }
    let watch = |watch: &WatchAnswer| format!("{:>4}  watch {}", watch.number, watch.expression);
    all.extend(watches.iter().map(watch));
    all.join("\n")
}

fn mark(mark: &Mark) -> String {
    let moment = render::thousands(mark.moment);
    format!("mark {} at #{moment}  {}", mark.name, render::place_line(&mark.place))
}

fn code(line: &CodeLine, next: u64) -> String {
    let marker = if line.place.address == next { "->" } else { "  " };
    let name = line.place.name().unwrap_or_default();
    format!("{marker} {:#x}  {name:<16} {}", line.place.address, line.text)
}

fn variable(variable: &NamedVariable) -> String {
    let name = paint(Tone::Strong, &format!("{:<12}", variable.name));
    format!("        {name} {:<24} {}", variable.value, paint(Tone::Quiet, &variable.place))
}
