//! Reports as text. Every function is a function of its arguments; who prints decides about colour.

pub mod answers;
pub mod listing;
pub mod map;
mod values;

use std::fmt::Write;

use sotto_isa::Width;
use sotto_session::{
    Change, CircleView, Comparison, FaultReport, FlagReport, Frame, MemoryLine, MemoryReport,
    Place, Reading, Readings, RegisterReport, SlotRole, StackSlot, StackView, StepReport,
    SyscallView, TaskView, VectorReport, WaitView, read_as,
};

use crate::console::{self, Tone, paint};
pub use values::{Changed, address_change, value, value_change};
use values::{push_decimal, push_hex, push_value};

/// A number of bytes in a few characters: `4 GiB`, `200 MiB`, `1000 bytes`.
pub fn byte_count(bytes: u64) -> String {
    for (unit, name) in [(1 << 30, "GiB"), (1 << 20, "MiB"), (1 << 10, "KiB")] {
        if bytes >= unit && bytes.is_multiple_of(unit) {
            return format!("{} {name}", bytes / unit);
        }
    }
    format!("{} bytes", thousands(bytes))
}

/// A count with its thousands set apart.
pub fn thousands(count: u64) -> String {
    let digits = count.to_string();
    let mut out = String::new();
    for (index, digit) in digits.chars().enumerate() {
        if index > 0 && (digits.len() - index).is_multiple_of(3) {
            out.push(' ');
        }
        out.push(digit);
    }
    out
}

/// A place in one line: where, its symbol, and the source.
pub fn place_line(place: &Place) -> String {
    let mut parts = Vec::new();
    parts.push(place.location().unwrap_or_else(|| format!("{:#x}", place.address)));
    if let Some(name) = place.name() {
        parts.push(paint(Tone::Strong, &name));
    }
    if let Some(source) = source_text(place) {
        parts.push(source);
    }
    parts.join("  ")
}

/// The source line as it is shown beside its symbol: blanks made one, its own label left out.
fn source_text(place: &Place) -> Option<String> {
    let source = place.source.as_ref()?;
    let label = match place.label_offset {
        Some(offset) => place.label.as_ref().filter(|_| offset == 0),
        None => place.symbol.as_ref().filter(|_| place.offset == 0),
    };
    let unlabelled = label
        .and_then(|label| source.strip_prefix(&**label)?.strip_prefix(':'))
        .filter(|rest| !rest.trim().is_empty());
    let text = unlabelled.unwrap_or(source).split_whitespace().collect::<Vec<_>>().join(" ");
    // Only for the eye: a mark inside a text is taken for a comment, and shown a little fainter.
    let comment = [" ; ", " // "].iter().filter_map(|mark| text.find(mark)).min();
    Some(match comment {
        Some(at) => format!("{}{}", &text[..at], paint(Tone::Quiet, &text[at..])),
        None => text,
    })
}

/// Location, symbol and text of an instruction, in columns.
fn code_columns(place: &Place, instruction: &str) -> String {
    // The file's own name is enough here, and keeps the columns straight.
    let location = place.location().unwrap_or_else(|| format!("{:#x}", place.address));
    let location = location.rsplit('/').next().unwrap_or_default();
    let name = place.name().unwrap_or_default();
    let text = match source_text(place) {
        // A line of a compiled language is several instructions.
        Some(source) if place.is_compiled() => {
            format!("{instruction:<24} {}", paint(Tone::Quiet, &source))
        }
        Some(source) => source,
        None => instruction.to_string(),
    };
    format!("{location:<14} {}  {text}", paint(Tone::Strong, &format!("{name:<16}")))
}

/// A step: the instruction, and its effects below it.
pub fn step(report: &StepReport) -> String {
    let mut out = step_head(report);
    let mut line = |text: String| {
        let _ = write!(out, "\n        {text}");
    };
    for register in &report.registers {
        line(register_line(register));
    }
    for vector in &report.vectors {
        line(vector_line(vector));
    }
    for memory in &report.memory {
        let name = memory.name();
        if let Some(elements) = memory.elements {
            line(elements_line(memory, elements));
            continue;
        }
        let change = memory_change(memory);
        let unit = if memory.bytes == 1 { "byte" } else { "bytes" };
        let number = memory.number.as_ref().map(|n| format!("  = {}", paint(Tone::Strong, n)));
        let number = number.unwrap_or_default();
        line(format!("[{name}]  {} {unit}  {}{number}", memory.bytes, paint_change(&change)));
    }
    for flags in flag_lines(report) {
        line(flags);
    }
    if let Some(branch) = &report.branch {
        let read: Vec<String> =
            branch.flags.iter().map(|(name, set)| format!("{name} = {}", u8::from(set))).collect();
        let read = if read.is_empty() { String::new() } else { format!(" ({})", read.join(", ")) };
        let compared = branch.compared.as_ref().map(|text| format!(", {text}"));
        let compared = compared.unwrap_or_else(|| match &branch.tested {
            Some(tested) => format!(", {} = {}", tested.name, value(tested.value, 64)),
            None => String::new(),
        });
        let words = format!("{}{compared}{read}", branch.condition);
        line(match branch.taken {
            true => format!("{}: {words}", paint(Tone::Changed, "taken")),
            false => format!("not taken: {words}"),
        });
    }
    if let Some(choice) = &report.choice {
        let read: Vec<String> =
            choice.flags.iter().map(|(name, set)| format!("{name} = {}", u8::from(set))).collect();
        let compared = choice.compared.as_ref().map(|text| format!(", {text}"));
        let (compared, read) = (compared.unwrap_or_default(), read.join(", "));
        let words = format!("{}{compared} ({read})", choice.condition);
        line(match choice.taken {
            true => format!("{}: {words}", paint(Tone::Changed, "holds")),
            false => format!("does not hold: {words}"),
        });
    }
    if let Some(call) = &report.syscall {
        for text in syscall(call).lines() {
            line(text.to_string());
        }
    }
    if let Some(remark) = &report.remark {
        line(format!("{} {remark}", paint(Tone::Warning, "notice:")));
    }
    if let Some(status) = report.ended {
        line(format!("the program ended with status {status}"));
    }
    out
}

/// The moment, place and text of a step.
pub fn step_head(report: &StepReport) -> String {
    let mut head = head(report.moment, &report.place, &report.instruction);
    if let Some(task) = report.task {
        head += &paint(Tone::Quiet, &format!("  task {task}"));
    }
    head
}

/// A moment, and the place and text of the instruction that leads there.
pub fn head(moment: u64, place: &Place, instruction: &str) -> String {
    format!("{moment:>6}  {}", code_columns(place, instruction))
}

/// A step in one line: the instruction as it was executed, and its effects behind it.
pub fn step_line(report: &StepReport) -> String {
    let mut out = String::new();
    step_line_into(report, &mut out);
    out
}

/// The same, added to a text.
pub fn step_line_into(report: &StepReport, out: &mut String) {
    let start = out.len();
    push_decimal(out, report.moment);
    // Columns: the moment to the right, the others to the left.
    let missing = 6usize.saturating_sub(out.len() - start);
    out.insert_str(start, &"      "[..missing]);
    out.push_str("  ");
    if let Some(task) = report.task {
        out.push_str("task ");
        push_decimal(out, task.into());
        out.push_str("  ");
    }
    let column = out.len();
    match (&report.place.file, report.place.line) {
        (Some(file), Some(line)) => {
            out.push_str(file.rsplit('/').next().unwrap_or_default());
            out.push(':');
            push_decimal(out, line.into());
        }
        _ => push_hex(out, report.place.address),
    }
    pad(out, column, 14);
    out.push(' ');
    let column = out.len();
    out.push_str(&report.instruction);
    pad(out, column, 32);
    out.push(' ');
    push_effects(report, out);
    out.truncate(out.trim_end().len());
}

/// Fills a column that began at a place with blanks.
fn pad(out: &mut String, start: usize, columns: usize) {
    let used = match out.is_char_boundary(start) && out[start..].is_ascii() {
        true => out.len() - start,
        false => out[start..].chars().count(),
    };
    const SPACES: &str = "                                                                ";
    let mut missing = columns.saturating_sub(used);
    while missing > 0 {
        let some = missing.min(SPACES.len());
        out.push_str(&SPACES[..some]);
        missing -= some;
    }
}

/// What a step changed, each in a few words.
pub fn push_effects(report: &StepReport, out: &mut String) {
    let start = out.len();
    let next = |out: &mut String| {
        if out.len() > start {
            out.push_str(", ");
        }
    };
    for register in &report.registers {
        next(out);
        out.push_str(register.name);
        out.push(' ');
        match register.on_stack {
            true => push_brief(out, &register_change(register)),
            false => push_new(out, register.old, register.new, register.bits),
        }
    }
    for vector in &report.vectors {
        next(out);
        out.push_str(vector.name);
        out.push(' ');
        push_brief(out, &vector_change(vector));
    }
    for memory in &report.memory {
        next(out);
        if let Some(elements) = memory.elements {
            out.push_str(&elements_line(memory, elements));
            continue;
        }
        out.push('[');
        out.push_str(&memory.name());
        out.push_str("] ");
        match memory.holds_stack {
            true => push_brief(out, &memory_change(memory)),
            false => push_new(out, memory.old, memory.new, 8 * memory.bytes as u32),
        }
        if let Some(number) = &memory.number {
            let _ = write!(out, " ({number})");
        }
    }
    for (name, set) in report.flags.changed() {
        next(out);
        out.push_str(name);
        out.push_str(if set { " 1" } else { " 0" });
    }
    if let Some(branch) = &report.branch {
        next(out);
        out.push_str(if branch.taken { "taken: " } else { "not taken: " });
        out.push_str(branch.condition);
    }
    if let Some(call) = &report.syscall {
        next(out);
        out.push_str(&syscall(call));
    }
    if let Some(remark) = &report.remark {
        let _ = write!(out, "\n{} {remark}", paint(Tone::Warning, "notice:"));
    }
}

/// The value after a change; the one before has its line above.
fn push_new(out: &mut String, old: u64, new: u64, bits: u32) {
    if old == new {
        console::begin(out, Tone::Quiet);
        out.push_str("= ");
        push_value(out, new, bits);
        console::end(out);
    } else {
        out.push_str("= ");
        console::begin(out, Tone::Changed);
        push_value(out, new, bits);
        console::end(out);
    }
}

fn push_brief(out: &mut String, change: &Changed) {
    out.push_str(&brief_change(change));
}

/// The value after a change; the one before has its line above.
fn brief_change(change: &Changed) -> String {
    match change {
        Changed::Same(text) => paint(Tone::Quiet, &format!("= {text}")),
        Changed::From(_, new) => format!("= {}", paint(Tone::Changed, new)),
    }
}

fn paint_change(change: &Changed) -> String {
    match change {
        Changed::Same(text) => format!("{text}  {}", paint(Tone::Quiet, "unchanged")),
        Changed::From(old, new) => format!("{old} -> {}", paint(Tone::Changed, new)),
    }
}

fn register_change(register: &RegisterReport) -> Changed {
    match register.on_stack {
        true => address_change(register.old, register.new),
        false => value_change(register.old, register.new, register.bits),
    }
}

fn memory_change(memory: &MemoryReport) -> Changed {
    match memory.holds_stack {
        true => address_change(memory.old, memory.new),
        false => value_change(memory.old, memory.new, 8 * memory.bytes as u32),
    }
}

fn register_line(register: &RegisterReport) -> String {
    let change = register_change(register);
    let mut text = format!("{:<4} {}", register.name, paint_change(&change));
    if let Some(name) = &register.points_to {
        let _ = write!(text, "  = {}", paint(Tone::Strong, name));
    }
    if let Some(whole) = &register.whole {
        let whole = format!("{} = {:#x}", whole.name, whole.value);
        let _ = write!(text, "  {}", paint(Tone::Quiet, &whole));
    }
    if let Some(full) = register.cleared_above {
        let _ = write!(text, "  {}", paint(Tone::Quiet, &format!("upper half of {full} cleared")));
    }
    text
}

/// The bits of what a step wrote, before and after, one below the other; those that changed stand out.
pub fn bits(report: &StepReport) -> String {
    let registers = report.registers.iter().map(|register| {
        let width = Width::from_bytes(u64::from(register.bits / 8));
        (register.name.to_string(), register.old, register.new, width)
    });
    let memory = report.memory.iter().filter(|memory| memory.elements.is_none()).map(|memory| {
        (format!("[{}]", memory.name()), memory.old, memory.new, Width::from_bytes(memory.bytes))
    });
    let mut lines = Vec::new();
    for (name, old, new, width) in registers.chain(memory) {
        let Some(width) = width else { continue };
        let before = read_as(Reading::Binary, old, width);
        let after = read_as(Reading::Binary, new, width);
        let marked: String = before
            .chars()
            .zip(after.chars())
            .map(|(old, new)| match old == new {
                true => new.to_string(),
                false => paint(Tone::Changed, &new.to_string()),
            })
            .collect();
        lines.push(format!("        {name:<8} {}", paint(Tone::Quiet, &before)));
        lines.push(format!("        {:<8} {marked}", ""));
    }
    let carry = report.flags.iter().find(|flag| flag.word == "carry" && !flag.undefined);
    if let (Some(carry), false) = (carry, lines.is_empty()) {
        let (old, new) = (u8::from(carry.old), u8::from(carry.new));
        let change = if old == new { format!("{new}") } else { format!("{old} -> {new}") };
        lines.push(format!("        {:<8} {change}", carry.name));
    }
    lines.join("\n")
}

/// What a repeated instruction wrote, in one line.
fn elements_line(memory: &MemoryReport, elements: usize) -> String {
    let bits = 8 * (memory.bytes / elements as u64) as u32;
    let first = brief_change(&value_change(memory.old, memory.new, bits));
    format!("[{}]  {} bytes in {elements} elements, the first {first}", memory.name(), memory.bytes)
}

/// The elements of a vector before and after; the lowest alone if no other changed.
fn vector_change(vector: &VectorReport) -> Changed {
    let only_lowest = vector.old[1..] == vector.new[1..] && vector.old[0] != vector.new[0];
    let shown = |lanes: &[String]| match only_lowest || lanes.len() == 1 {
        true => lanes[0].clone(),
        false => format!("[{}]", lanes.join(", ")),
    };
    // A sum of zeros may differ in bits alone.
    match vector.old_bits == vector.new_bits {
        true => Changed::Same(shown(&vector.old)),
        false => Changed::From(shown(&vector.old), shown(&vector.new)),
    }
}

fn vector_line(vector: &VectorReport) -> String {
    let change = vector_change(vector);
    let kind = paint(Tone::Quiet, &vector.lanes);
    format!("{:<5} {kind} {}", vector.name, paint_change(&change))
}

/// The flags that changed, in words: one a line with its reason, and the rest together. Nothing if
/// the instruction writes no flags.
fn flag_lines(report: &StepReport) -> Vec<String> {
    let changed = || report.flags.iter().filter(|flag| flag.old != flag.new && !flag.undefined);
    let text = |flag: &FlagReport| {
        let change = format!("{} -> {}", u8::from(flag.old), u8::from(flag.new));
        format!("{} {} {}", flag.name, paint(Tone::Changed, &change), flag.word)
    };
    // Why the parity or the half carry is what it is, few people ask; the data has it.
    let reason = |flag: &FlagReport| match flag.word {
        "parity" | "adjust" => None,
        _ => flag.reason.as_ref().map(ToString::to_string),
    };
    let mut lines: Vec<String> = changed()
        .filter_map(|flag| {
            let reason = paint(Tone::Quiet, &format!(": {}", reason(&flag)?));
            Some(text(&flag) + &reason)
        })
        .collect();
    let mut rest: Vec<String> =
        changed().filter(|flag| reason(flag).is_none()).map(|flag| text(&flag)).collect();
    if lines.is_empty() && rest.is_empty() && report.flags.iter().any(|flag| !flag.undefined) {
        rest.push(paint(Tone::Quiet, "unchanged"));
    }
    let undefined: Vec<&str> =
        report.flags.iter().filter(|flag| flag.undefined).map(|flag| flag.name).collect();
    if !undefined.is_empty() {
        rest.push(paint(Tone::Quiet, &format!("{} undefined", undefined.join(" "))));
    }
    if !rest.is_empty() {
        lines.push(rest.join(", "));
    }
    let title = |number: usize| if number == 0 { "flags  " } else { "       " };
    lines.iter().enumerate().map(|(number, line)| title(number).to_string() + line).collect()
}

/// A system call with named arguments, and what there is to say about it.
pub fn syscall(call: &SyscallView) -> String {
    let arguments: Vec<String> = call
        .arguments
        .iter()
        .map(|argument| {
            let (name, shown) = (argument.name, &argument.shown);
            match &argument.words {
                Some(words) if argument.is_named => format!("{name} = {words}"),
                Some(words) => format!("{name} = {shown} {words}"),
                None => format!("{name} = {shown}"),
            }
        })
        .collect();
    let mut text = format!("{}({})", paint(Tone::Strong, &call.name), arguments.join(", "));
    match call.result {
        Some(result) if call.result_is_address && result > 0 => {
            let _ = write!(text, " -> {result:#x}");
        }
        Some(result) => {
            let _ = write!(text, " -> {result}");
        }
        None => {}
    }
    if let Some(machine) = call.table {
        let _ = write!(text, "  {}", paint(Tone::Quiet, &format!("by the table of {machine}")));
    }
    if let Some((name, words)) = call.error {
        let _ = write!(text, " {}", paint(Tone::Error, &format!("{name}, {words}")));
    }
    if let Some(notice) = &call.notice {
        let _ = write!(text, "\n{} {notice}", paint(Tone::Warning, "notice:"));
        if let Some(help) = &call.help {
            let _ = write!(text, "; {help}");
        }
    }
    text
}

/// A task: where it is, or what it waits for.
pub fn task(task: &TaskView) -> String {
    let mark = if task.is_running { ">" } else { " " };
    let number = paint(Tone::Strong, &task.task.to_string());
    let process = match task.process == task.task {
        true => String::new(),
        false => format!(" of {}", task.process),
    };
    let head = format!("  {mark} {number}{process}  {}", task.name);
    let state = match (&task.stopped_by, &task.waits_in, task.waits_since) {
        (Some(signal), ..) => format!("stopped by {signal}"),
        (_, Some(call), Some(since)) => {
            format!("waits since #{} in {}", thousands(since), syscall(call))
        }
        _ if task.is_suspended => "waits in vfork for its child".to_string(),
        _ => "can go on".to_string(),
    };
    let mut text = format!("{head}  {state}\n        at {}", place_line(&task.place));
    if let (Some(by), Some(at)) = (task.woken_by, task.woken_at) {
        text += &paint(Tone::Quiet, &format!("; woken last by {by} at #{}", thousands(at)));
    }
    text
}

/// A circle of tasks that wait for each other, and what mends it, if there is one.
pub fn circle(circle: &[CircleView]) -> Option<String> {
    let links = circle.iter().map(|CircleView { task, waits_for, why }| {
        let other = match task == waits_for {
            true => "itself".to_string(),
            false => waits_for.to_string(),
        };
        match why {
            WaitView::Child => format!("{task} waits for its child {other}"),
            WaitView::Writer if task == waits_for => {
                format!("{task} reads what it could write itself")
            }
            WaitView::Writer => format!("{task} reads what {other} could write"),
            WaitView::Reader if task == waits_for => {
                format!("{task} writes what it could read itself")
            }
            WaitView::Reader => format!("{task} writes what {other} could read"),
            WaitView::Owner => format!("{task} wants a lock that {other} has"),
        }
    });
    let links: Vec<String> = links.collect();
    let links = match &links[..] {
        [] => return None,
        [all @ .., last] if !all.is_empty() => format!("{}, and {last}", all.join(", ")),
        all => all.join(", "),
    };
    let has_pipe = circle.iter().any(|link| link.why == WaitView::Writer);
    let mut text = format!("{} {links}", paint(Tone::Warning, "circle:"));
    if has_pipe {
        text += &format!(
            "\n{} close the ends of a pipe that a process does not use: reading ends when nobody can write to it",
            paint(Tone::Help, "help:")
        );
    }
    Some(text)
}

/// The instruction that comes next, and the task that is looked at, if there are several.
pub fn next(place: &Place, instruction: Option<&str>, moment: u64, task: Option<u32>) -> String {
    let what = match instruction {
        Some(instruction) => code_columns(place, instruction),
        None => format!("{:#x}  nothing that can be executed", place.address),
    };
    let moment = paint(Tone::Quiet, &format!("#{}", thousands(moment)));
    let task = task.map_or_else(String::new, |task| format!("  task {task}"));
    format!("  {}  {what}  {moment}{task}", paint(Tone::Help, "next"))
}

/// Why a program died.
pub fn fault(report: &FaultReport) -> String {
    let mut out =
        format!("{} {} ({})", paint(Tone::Error, "fault:"), report.message, report.signal.name());
    let when = if report.after { "after" } else { "at" };
    let _ = write!(out, "\n  {when} {}", place_line(&report.place));
    if let (Some(instruction), None) = (&report.instruction, &report.place.source) {
        let _ = write!(out, "  {instruction}");
    }
    if let Some(call) = &report.called_from {
        let _ = write!(out, "\n  called from {}", place_line(call));
    }
    for fact in &report.facts {
        let _ = write!(out, "\n  {fact}");
    }
    if !report.registers.is_empty() {
        let values: Vec<String> = report
            .registers
            .iter()
            .map(|register| format!("{} = {}", register.name, value(register.value, 64)))
            .collect();
        let _ = write!(out, "\n  {}", values.join(", "));
    }
    if let Some(help) = &report.help {
        let _ = write!(out, "\n  {} {help}", paint(Tone::Help, "help:"));
    }
    for line in &report.add {
        let _ = write!(out, "\n      {line}");
    }
    out
}

/// What a slot of the stack is for, in words.
pub fn slot_role(slot: &StackSlot) -> String {
    match &slot.role {
        SlotRole::ReturnAddress => "return address".to_string(),
        SlotRole::Saved(name) => format!("saved {name}"),
        SlotRole::FrameLink(name) => format!("saved {name}, frame link"),
        SlotRole::Argument(number) => format!("argument {number}"),
        SlotRole::Local => "local".to_string(),
        SlotRole::SignalFrame => "signal frame".to_string(),
        SlotRole::Unwritten => "not written yet".to_string(),
        SlotRole::Gap => "alignment gap".to_string(),
        SlotRole::RedZone => "red zone".to_string(),
        SlotRole::Below => "left over".to_string(),
        SlotRole::Startup(label) => label.clone(),
        SlotRole::Unknown => String::new(),
    }
}

/// The meaning of a slot's value where its role does not say it already.
pub fn slot_meaning(slot: &StackSlot) -> Option<&str> {
    let meaning = slot.meaning.as_deref()?;
    Some(match slot.role {
        SlotRole::ReturnAddress => meaning.strip_prefix("return address: ").unwrap_or(meaning),
        _ => meaning,
    })
}

/// The stack as a column, the pointer marked and frames set apart.
pub fn stack(view: &StackView) -> String {
    let mut lines = Vec::new();
    let mut above: Option<Option<usize>> = None;
    for slot in view.slots.iter().rev() {
        // The highest slot says whose frame it is in, and every slot that is in another than the one above it.
        let other = above.map_or(slot.frame.is_some(), |frame| frame != slot.frame);
        if other && slot.offset >= 0 {
            lines.push(frame_rule(view, slot.frame));
        }
        above = Some(slot.frame);
        let marker = if slot.offset == 0 { "->" } else { "  " };
        let offset = match slot.offset {
            0 => "top".to_string(),
            offset => format!("{offset:+}"),
        };
        let name = slot.name.clone().unwrap_or_default();
        let role = slot_role(slot);
        let meaning = slot_meaning(slot).map(|text| format!("  {text}")).unwrap_or_default();
        let by = slot.writer.as_ref().map(|writer| {
            let place = writer.place.location().unwrap_or_default();
            let place = place.rsplit('/').next().unwrap_or_default().to_string();
            let text = format!("  by {} {place}", writer.instruction);
            paint(Tone::Quiet, text.trim_end())
        });
        let value = value(slot.value, 64);
        let text = format!(
            "{marker} {:#x} {offset:>5}  {value:<22} {name:<11} {role}{meaning}",
            slot.address
        );
        let text = text.trim_end();
        let text = if slot.offset < 0 { paint(Tone::Quiet, text) } else { text.to_string() };
        lines.push(text + &by.filter(|_| slot.offset >= 0).unwrap_or_default());
    }
    lines.join("\n")
}

/// The line between frames.
fn frame_rule(view: &StackView, frame: Option<usize>) -> String {
    let text = match frame {
        Some(number) => format!("   frame of {}", view.frames[number]),
        None => "   before the program started".to_string(),
    };
    paint(Tone::Help, &text)
}

/// The chain of calls, the innermost first.
pub fn frames(frames: &[Frame], first: usize) -> String {
    let mut lines = Vec::new();
    for (number, frame) in (first..).zip(frames) {
        let arguments: Vec<String> = frame
            .arguments
            .iter()
            .map(|argument| {
                let shown = match &argument.points_to {
                    Some(symbol) => symbol.clone(),
                    None => value(argument.value, 64),
                };
                format!("{} = {shown}", argument.name)
            })
            .collect();
        let routine = paint(Tone::Strong, &frame.routine);
        lines.push(format!("{number:>3}  {routine}({})", arguments.join(", ")));
        let at = match frame.at.line {
            Some(_) => frame.at.location().unwrap_or_default(),
            None => frame.at.address_in_module(),
        };
        let mut facts = vec![format!("{} {at}", if number == 0 { "at" } else { "goes on at" })];
        facts.extend(frame.tail_called.as_ref().map(|name| format!("tail call to {name}")));
        if let Some(call) = &frame.call {
            let by = call.symbol_name().unwrap_or_else(|| format!("{:#x}", call.address));
            let from = call.location().map(|l| format!(", {l}")).unwrap_or_default();
            let verb = if frame.is_handler { "interrupted" } else { "called by" };
            facts.push(format!("{verb} {by}{from}"));
            facts.push(match frame.moment {
                Some(moment) => format!("entered at #{}", thousands(moment)),
                None => "found by unwind tables".to_string(),
            });
        }
        let bytes = frame.end - frame.start;
        facts.push(format!("{bytes} bytes of stack from {:#x}", frame.start));
        lines.push(paint(Tone::Quiet, &format!("     {}", facts.join("; "))));
    }
    lines.join("\n")
}

/// The elements of a line of memory; a column of hex needs no `0x` each.
pub fn memory_values(line: &MemoryLine) -> String {
    let shown = |value: &String| match line.reading {
        Reading::Hex => value.trim_start_matches("0x").to_string(),
        _ => value.clone(),
    };
    line.values.iter().map(shown).collect::<Vec<String>>().join(" ")
}

/// A line of memory.
pub fn memory_line(line: &MemoryLine) -> String {
    let text = line.text.clone().unwrap_or_default();
    let values = memory_values(line);
    let line = format!("{:#x}  {:<14} {values:<48} {text}", line.address, line.name);
    line.trim_end().to_string()
}

/// A value in every reading.
pub fn readings(text: &str, readings: &Readings) -> String {
    let mut lines = vec![format!("        {}, {} bits", paint(Tone::Strong, text), readings.bits)];
    let mut add = |name: &str, value: &str| lines.push(format!("        {name:>9}  {value}"));
    add("hex", &readings.hex);
    add("signed", &readings.signed);
    add("unsigned", &readings.unsigned);
    add("binary", &readings.binary);
    let optional = [
        ("character", &readings.character),
        ("float", &readings.float),
        ("address", &readings.address),
    ];
    for (name, value) in optional {
        if let Some(value) = value {
            add(name, value);
        }
    }
    lines.join("\n")
}

/// What a person changed.
pub fn change(change: &Change) -> String {
    let shown = paint_change(&value_change(change.old, change.new, change.bits));
    let mut text = format!("        {}  {shown}", paint(Tone::Strong, &change.target));
    let moment = thousands(change.moment);
    let told = match change.forgotten {
        true => format!("history goes on from here, #{moment}; what came after is forgotten"),
        false => format!("history goes on from here, #{moment}"),
    };
    let _ = write!(text, "\n        {}", paint(Tone::Quiet, &told));
    text
}

/// The change of a watched value.
pub fn watched_change(old: Option<i128>, new: Option<i128>, bits: u32) -> String {
    let text = |shown: Option<i128>| match shown {
        Some(number) => match u64::try_from(number) {
            Ok(number) => value(number, bits),
            Err(_) => number.to_string(),
        },
        None => "no value".to_string(),
    };
    format!("{} -> {}", text(old), paint(Tone::Changed, &text(new)))
}

/// What differs since a mark.
pub fn comparison(comparison: &Comparison) -> String {
    let (then, now) = (comparison.mark.moment, comparison.moment);
    let mut lines = vec![format!("        from #{} to #{}", thousands(then), thousands(now))];
    let mut add = |name: &str, change: Changed| {
        lines.push(format!("        {name:<14} {}", paint_change(&change)));
    };
    for register in &comparison.registers {
        add(&register.name, value_change(register.old, register.new, register.bits));
    }
    for (name, old, new) in &comparison.vectors {
        add(name, Changed::From(old.clone(), new.clone()));
    }
    for (name, old, new) in &comparison.flags {
        let digit = |set: &bool| u8::from(*set).to_string();
        add(name, Changed::From(digit(old), digit(new)));
    }
    for memory in &comparison.memory {
        let place = memory.place.name().unwrap_or_else(|| match &memory.region {
            Some(region) => format!("{:#x} {region}", memory.place.address),
            None => format!("{:#x}", memory.place.address),
        });
        let name = format!("[{place}]");
        match memory.values() {
            Some((old, new)) => add(&name, value_change(old, new, 8 * memory.unit as u32)),
            None => add(&name, Changed::From(bytes(&memory.old), bytes(&memory.new))),
        }
    }
    if lines.len() == 1 {
        lines.push("        nothing differs".to_string());
    }
    lines.join("\n")
}

/// Bytes in hex, cut short if they are many.
fn bytes(bytes: &[u8]) -> String {
    const SHOWN: usize = 8;
    let shown: Vec<String> = bytes.iter().take(SHOWN).map(|byte| format!("{byte:02x}")).collect();
    let more =
        if bytes.len() > SHOWN { format!(" ... {} bytes", bytes.len()) } else { String::new() };
    shown.join(" ") + &more
}

/// Bytes as a quoted text, cut short if they are many.
pub fn quoted(bytes: &[u8]) -> String {
    const SHOWN: usize = 60;
    let text = bytes[..bytes.len().min(SHOWN)].escape_ascii();
    let more = if bytes.len() > SHOWN { "..." } else { "" };
    format!("\"{text}\"{more}")
}

/// The contents of a block of memory: text up to its zeros, or elements of so many bytes, cut short if they are many.
pub fn bytes_as(bytes: &[u8], element_bytes: u64, is_text: bool) -> String {
    const SHOWN: usize = 16;
    let end = bytes.iter().rposition(|byte| *byte != 0).map_or(0, |last| last + 1);
    let printable = |byte: &u8| byte.is_ascii_graphic() || matches!(byte, b' ' | b'\n' | b'\t');
    if is_text && end > 0 && bytes[..end].iter().all(printable) {
        return quoted(&bytes[..end]);
    }
    let elements = bytes.chunks(element_bytes.max(1) as usize);
    let count = elements.len();
    let words: Vec<String> = elements
        .take(SHOWN)
        .map(|chunk| chunk.iter().rev().fold(0u64, |value, byte| value << 8 | u64::from(*byte)))
        .map(|value| value.to_string())
        .collect();
    let more = if count > SHOWN { format!(", and {} more", count - SHOWN) } else { String::new() };
    format!("[{}{more}]", words.join(", "))
}
