//! `sotto explain convention`: where a routine and the kernel find what.

use serde_json::json;
use sotto_isa::{Arch, RegisterRole, Storage};

use super::Entry;
use crate::console::{Tone, paint};

/// The convention of a machine, if the topic asks for one.
pub fn convention(arch: Arch, topic: &str) -> Option<Entry> {
    let asked = matches!(
        topic,
        "convention" | "conventions" | "calling convention" | "calling conventions" | "abi"
    );
    asked.then(|| describe(arch))
}

fn describe(arch: Arch) -> Entry {
    let convention = arch.convention();
    let names = |storages: &[Storage]| {
        storages.iter().map(|storage| arch.storage_name(*storage)).collect::<Vec<_>>()
    };
    let list = |storages: &[Storage]| ranges(&names(storages));
    let of_role = |role: RegisterRole| {
        let groups = convention.groups.iter().filter(|group| group.role == role);
        groups.flat_map(|group| names(group.registers)).collect::<Vec<_>>()
    };
    let pointer = arch.storage_name(arch.stack_pointer());
    let stack = match arch.return_address_slot() {
        0 => format!("the stack from [{pointer}] up"),
        slot => format!("the stack from [{pointer} + {slot}] up"),
    };
    let arguments = match convention.arguments {
        [] => stack,
        registers => format!("{}, then {stack}", list(registers)),
    };
    let vector = |number: u8| arch.vector_register(number).name();
    let vectors = &convention.vectors;
    let mut lines = vec![("arguments", arguments)];
    if vectors.arguments > 0 {
        let mut text = format!("{} to {}", vector(0), vector(vectors.arguments - 1));
        if let Some(count) = convention.vector_count {
            let name =
                if arch.storage_name(count) == "rax" { "al" } else { arch.storage_name(count) };
            text += &format!("; where their number varies, {name} says how many");
        }
        lines.push(("floats", text));
    }
    let mut result = names(convention.results).join(", then ");
    if vectors.results > 0 {
        result += &format!("; floats {} to {}", vector(0), vector(vectors.results - 1));
    }
    lines.push(("result", result));
    let mut preserved = of_role(RegisterRole::Preserved);
    preserved.extend(of_role(RegisterRole::FrameRecord));
    let mut kept = ranges(&preserved);
    if !vectors.preserved.is_empty() {
        let (first, last) = (vectors.preserved.start, vectors.preserved.end - 1);
        kept += &format!("; the lowest 64 bits of {} to {}", vector(first), vector(last));
    }
    lines.push(("preserved", kept));
    let mut free = of_role(RegisterRole::Arguments);
    free.extend(of_role(RegisterRole::Result));
    free.extend(of_role(RegisterRole::Scratch));
    lines.push(("may change", ranges(&free)));
    let red = match arch.red_zone_bytes() {
        0 => String::new(),
        bytes => format!("; the {bytes} bytes below {pointer} are the routine's own"),
    };
    let alignment = convention.stack_alignment;
    lines.push(("stack", format!("{pointer} is a multiple of {alignment} at a call{red}")));
    let kernel = sotto_kernel::target(arch);
    let mut calls = vec![
        ("number", convention.syscall_number.name().to_string()),
        ("arguments", list(convention.syscall_arguments)),
        (
            "result",
            format!("{}; -4095 to -1 are errors", arch.storage_name(convention.syscall_result)),
        ),
    ];
    let destroyed: Vec<String> = convention
        .syscall_destroys
        .iter()
        .map(|(storage, left)| format!("{} ({left})", arch.storage_name(*storage)))
        .collect();
    if !destroyed.is_empty() {
        calls.push(("destroys", destroyed.join(", ")));
    }
    let kind = format!("calling convention, {arch}: {}", convention.name);
    let mut text = format!(
        "{}  {}\n  routines\n",
        paint(Tone::Strong, "convention"),
        paint(Tone::Quiet, &kind)
    );
    for (what, words) in &lines {
        text += &format!("    {what:<11} {words}\n");
    }
    text += &format!("  system calls, by {}\n", kernel.syscall_instruction);
    for (what, words) in &calls {
        text += &format!("    {what:<11} {words}\n");
    }
    let table = |lines: &[(&str, String)]| {
        let pairs = lines.iter().map(|(what, words)| ((*what).to_string(), json!(words)));
        serde_json::Value::Object(pairs.collect())
    };
    let data = json!({
        "kind": "convention",
        "target": arch.name(),
        "name": convention.name,
        "routines": table(&lines),
        "system_calls": table(&calls),
    });
    Entry { text: text.trim_end().to_string(), data }
}

/// Names in a list, three and more in a row as a range: `x0 to x7`.
fn ranges(names: &[&str]) -> String {
    let number = |name: &str| {
        let digits = name.trim_start_matches(|c: char| !c.is_ascii_digit());
        Some((name.len() - digits.len(), digits.parse::<u32>().ok()?))
    };
    let follows = |a: &str, b: &str| match (number(a), number(b)) {
        (Some((start, a_number)), Some((b_start, b_number))) => {
            start == b_start && a[..start] == b[..start] && b_number == a_number + 1
        }
        _ => false,
    };
    let runs = names.chunk_by(|a, b| follows(a, b));
    let parts: Vec<String> = runs
        .map(|run| match run {
            [first, _, .., last] => format!("{first} to {last}"),
            few => few.join(", "),
        })
        .collect();
    parts.join(", ")
}
