//! `sotto explain`: reference, read from the tables.

mod calls;
mod convention;
mod finding;

use serde_json::{Value, json};
use sotto_asm::nearest;
use sotto_isa::{
    Arch, Bank, FlagEffects, FlagSet, FormDoc, Reg, RegKind, RegisterId, RegisterRole, form_docs,
    mnemonics, system_register_words, x86,
};
use sotto_kernel::table::{self, SYSCALLS};

use crate::cli::ExplainArgs;
use crate::console::{Tone, paint};
use crate::output::{self, Failure};

/// A topic found: as text and as data.
struct Entry {
    text: String,
    data: Value,
}

/// `sotto explain`
pub fn explain_command(args: &ExplainArgs, as_json: bool) -> Result<u8, Failure> {
    let words: Vec<&str> = args.topic.iter().flat_map(|word| word.split_whitespace()).collect();
    let topic = &words.join(" ");
    let machines: Vec<Arch> = match args.target {
        Some(arch) => vec![arch],
        None => Arch::ALL.to_vec(),
    };
    let mut entries = Vec::new();
    // Both modes of x86 have one table, and what they have in common is said once.
    for family in machines.chunk_by(|a, b| a.shares_instructions_with(*b)) {
        entries.extend(instruction(family, &topic.to_ascii_lowercase()));
        entries.extend(prefix(family, &topic.to_ascii_lowercase()));
        entries.extend(family.iter().filter_map(|&arch| register(arch, topic)));
        entries.extend(flag(family, topic));
        entries.extend(family.iter().filter_map(|&arch| number(arch, topic)));
    }
    entries.extend(machines.iter().filter_map(|&arch| system_register(arch, topic)));
    entries.extend(syscall(topic));
    entries.extend(calls::unmodelled(topic));
    entries.extend(calls::error(topic));
    let words = topic.to_ascii_lowercase();
    entries.extend(machines.iter().filter_map(|&arch| convention::convention(arch, &words)));
    entries.extend(finding::finding(topic));
    if entries.is_empty() {
        let words = machines.iter().flat_map(|&arch| mnemonics(arch).iter().copied());
        let names = words.chain(SYSCALLS.iter().map(|row| row.name));
        let help = match nearest(&topic.to_ascii_lowercase(), names) {
            Some(near) => format!("did you mean `{near}`?"),
            None => "topics are instructions, system calls by name or number, errors, registers, flags, `convention` and the codes of findings".to_string(),
        };
        return Err(Failure::new(format!("nothing known about `{topic}`"), help));
    }
    if as_json {
        entries.iter().try_for_each(|entry| output::say_json(&entry.data))?;
        return Ok(0);
    }
    let texts: Vec<&str> = entries.iter().map(|entry| entry.text.as_str()).collect();
    output::say(&texts.join("\n\n"))?;
    Ok(0)
}

/// The machines in words: `x86-64 and x86-32`.
fn names_of(family: &[Arch]) -> String {
    family.iter().map(|arch| arch.name()).collect::<Vec<_>>().join(" and ")
}

/// A row, the machines on which it is valid, and its words on each.
type Shared = (FormDoc, Vec<Arch>, Vec<&'static str>);

/// The rows with a mnemonic, those of several machines once.
fn docs_of(family: &[Arch], mnemonic: &str) -> Vec<Shared> {
    let mut docs: Vec<Shared> = Vec::new();
    for &arch in family {
        for doc in form_docs(arch, mnemonic) {
            let same = |known: &&mut Shared| {
                (&known.0.syntax, known.0.encoding) == (&doc.syntax, doc.encoding)
                    && !known.1.contains(&arch)
            };
            match docs.iter_mut().find(same) {
                Some(known) => {
                    known.1.push(arch);
                    known.2.push(doc.summary);
                }
                None => {
                    let summary = doc.summary;
                    docs.push((doc, vec![arch], vec![summary]));
                }
            }
        }
    }
    docs
}

fn instruction(family: &[Arch], mnemonic: &str) -> Option<Entry> {
    let docs = docs_of(family, mnemonic);
    let having: Vec<Arch> =
        family.iter().copied().filter(|arch| docs.iter().any(|doc| doc.1.contains(arch))).collect();
    let (first, arch) = (&docs.first()?.0, having[0]);
    let mut text = format!(
        "{}  {}\n",
        paint(Tone::Strong, first.mnemonic),
        paint(Tone::Quiet, &format!("instruction, {}", names_of(&having)))
    );
    let mut data = Vec::new();
    // Rows of one name that do different things to the flags say so each for themselves.
    let flags_differ = docs.iter().any(|(doc, ..)| doc.flags != first.flags);
    let mut summaries: Vec<&str> = Vec::new();
    for (doc, _, words) in &docs {
        for &summary in words {
            if summaries.contains(&summary) {
                continue;
            }
            summaries.push(summary);
            text += &format!("  {summary}\n");
            if flags_differ {
                text += &format!("    flags   {}\n", flag_effects(arch, &doc.flags));
            }
        }
    }
    if let Some(condition) = first.condition {
        text += &format!("  condition: {condition}\n");
    }
    if !first.aliases.is_empty() {
        text += &format!("  also written {}\n", first.aliases.join(", "));
    }
    let flags = first.flags;
    if !flags_differ {
        text += &format!("  flags   {}\n", flag_effects(arch, &flags));
    }
    text += "  forms\n";
    let width = docs.iter().map(|(doc, ..)| doc.syntax.len()).max().unwrap_or(0).min(36);
    let encodings = docs.iter().map(|(doc, ..)| doc.encoding.len()).max().unwrap_or(0).min(36);
    for (doc, targets, _) in &docs {
        // Where both modes are spoken of, a row that only one of them has says so.
        let encoding = match targets.len() < having.len() {
            true => format!("{:encodings$}   {}", doc.encoding, names_of(targets)),
            false => doc.encoding.to_string(),
        };
        text += &format!(
            "    {} {:width$}   {}\n",
            doc.mnemonic,
            doc.syntax,
            paint(Tone::Quiet, &encoding)
        );
        data.push(json!({ "syntax": doc.syntax, "encoding": doc.encoding, "summary": doc.summary, "feature": doc.feature,
                    "targets": targets.iter().map(|a| a.name()).collect::<Vec<_>>() }));
    }
    let mut needs: Vec<&str> = docs.iter().filter_map(|(doc, ..)| doc.feature).collect();
    needs.dedup();
    if !needs.is_empty() {
        text += &format!("  needs   {}, which CPUID tells\n", needs.join(" or "));
    }
    text += &format!("  source  {}", first.source);
    let names = |set: FlagSet| arch.flag_names(set);
    let data = json!({
        "kind": "instruction", "targets": having.iter().map(|a| a.name()).collect::<Vec<_>>(), "mnemonic": first.mnemonic,
        "aliases": first.aliases, "condition": first.condition, "forms": data, "source": first.source,
        "flags": {
            "tested": names(flags.tested), "modified": names(flags.modified),
            "cleared": names(flags.cleared), "set": names(flags.set),
            "undefined": names(flags.undefined),
        },
    });
    Some(Entry { text, data })
}

/// What happens to the flags, in words.
fn flag_effects(arch: Arch, flags: &FlagEffects) -> String {
    let mut parts = Vec::new();
    for (what, set) in [
        ("tests", flags.tested),
        ("sets by the result", flags.modified),
        ("clears", flags.cleared),
        ("sets", flags.set),
        ("leaves undefined", flags.undefined),
    ] {
        if !set.is_empty() {
            parts.push(format!("{what} {}", arch.flag_names(set).join(" ")));
        }
    }
    if parts.is_empty() { "untouched".to_string() } else { parts.join("; ") }
}

/// A word that stands before an instruction.
fn prefix(family: &[Arch], name: &str) -> Option<Entry> {
    let prefix = x86::PREFIXES.iter().find(|prefix| prefix.name == name)?;
    // It is there where a row has it.
    let starts = |mnemonic: &&str| {
        mnemonic.split_once(' ').is_some_and(|(first, _)| prefix.rows.contains(&first))
    };
    let has_it = |arch: &&Arch| sotto_isa::mnemonics(**arch).iter().any(starts);
    let family: Vec<Arch> = family.iter().filter(has_it).copied().collect();
    if family.is_empty() {
        return None;
    }
    let text = format!(
        "{}  {}\n  {}\n  goes before {}\n  source  {}",
        paint(Tone::Strong, prefix.name),
        paint(Tone::Quiet, &format!("prefix, {}", names_of(&family))),
        prefix.summary,
        prefix.takes,
        prefix.source
    );
    let data = json!({
        "kind": "prefix", "targets": family.iter().map(|a| a.name()).collect::<Vec<_>>(), "name": prefix.name, "summary": prefix.summary,
        "takes": prefix.takes, "source": prefix.source,
    });
    Some(Entry { text, data })
}

/// A register that instructions name as an operand of its own kind.
fn system_register(arch: Arch, topic: &str) -> Option<Entry> {
    let name = topic.to_ascii_lowercase();
    let words = system_register_words(arch, &name)?;
    let kind = paint(Tone::Quiet, &format!("system register, {arch}"));
    let text = format!("{}  {kind}\n  {words}", paint(Tone::Strong, &name));
    let data =
        json!({ "kind": "system register", "target": arch.name(), "name": name, "summary": words });
    Some(Entry { text, data })
}

fn register(arch: Arch, name: &str) -> Option<Entry> {
    let reg = Reg::parse(arch, name)?;
    let narrow = arch.address_bytes() == 4;
    let title = format!(
        "{}  {}\n",
        paint(Tone::Strong, reg.name()),
        paint(Tone::Quiet, &format!("register, {arch}"))
    );
    if let Some(RegisterId { bank: Bank::Vector, index: number }) = reg.id() {
        let role = arch.convention().vectors.words(number);
        let bits = reg.width().bits();
        let what = match bits {
            128 => "128 bits: floats, doubles or integers beside each other".to_string(),
            bits => {
                format!("bits {} to 0 of v{number}; what is written clears the others", bits - 1)
            }
        };
        let text = format!("{title}  {what}\n  {role}");
        let data = json!({ "kind": "register", "target": arch.name(), "name": reg.name(), "role": role, "bits": bits });
        return Some(Entry { text, data });
    }
    if reg.kind == RegKind::Segment {
        let words = match reg.name() {
            "gs" if narrow => {
                "a segment whose base is added to an address, `gs:[20]`; its base is the thread's own memory"
            }
            "fs" if narrow => "a segment whose base is added to an address, `fs:[8]`",
            "fs" => {
                "a segment whose base is added to an address, `fs:[40]`; its base is the thread's own memory"
            }
            "gs" => "a segment whose base is added to an address, `gs:[8]`",
            "cs" => "the segment that code is in; what it holds tells the mode",
            _ if narrow => "a segment that covers all of memory, from 0",
            _ => "a segment register without effect on addresses in 64-bit mode",
        };
        let data = json!({ "kind": "register", "target": arch.name(), "name": reg.name(), "role": "segment" });
        return Some(Entry { text: format!("{title}  {words}"), data });
    }
    let Some(storage) = reg.storage() else {
        let text = format!("{title}  reads as zero; what is written to it is lost");
        let data = json!({ "kind": "register", "target": arch.name(), "name": reg.name(), "role": "zero" });
        return Some(Entry { text, data });
    };
    let full = arch.storage_name(storage);
    let convention = arch.convention();
    let role = convention.role(storage);
    let mut text = title;
    let low = reg.shift();
    let high = low + reg.width().bits() - 1;
    if reg.name() != full {
        text += &format!("  bits {high} to {low} of {full}\n");
    }
    let argument = convention.arguments.iter().position(|s| *s == storage).map(|n| n + 1);
    let call_argument =
        convention.syscall_arguments.iter().position(|s| *s == storage).map(|n| n + 1);
    text += &match (role, argument) {
        (Some(RegisterRole::Arguments), Some(n)) => {
            format!("  argument {n} of a routine; a routine may change it")
        }
        (Some(RegisterRole::Result), _) => {
            "  result of a routine; a routine may change it".to_string()
        }
        (Some(RegisterRole::Preserved), _) => {
            "  preserved: a routine that changes it must restore it".to_string()
        }
        (Some(RegisterRole::Scratch), _) => "  scratch: a routine may change it".to_string(),
        (Some(RegisterRole::Stack), _) => "  stack pointer: restored by every routine".to_string(),
        (Some(RegisterRole::FrameRecord), _) => {
            "  frame: x29 the frame pointer, x30 the return address".to_string()
        }
        _ => "  address of the next instruction".to_string(),
    };
    if convention.syscall_number.storage() == Some(storage) {
        text += "\n  number of a system call";
    }
    if let Some(n) = call_argument {
        text += &format!("\n  argument {n} of a system call");
    }
    if reg.width().bits() == 32 && arch.address_bytes() == 8 {
        text += &format!("\n  writing it clears bits 63 to 32 of {full}");
    } else if reg.width().bits() < 32 {
        text += &format!("\n  writing it keeps the other bits of {full}");
    }
    let data = json!({
        "kind": "register", "target": arch.name(), "name": reg.name(), "full": full,
        "low_bit": low, "high_bit": high, "role": role.map_or("", RegisterRole::title), "argument": argument,
        "syscall_argument": call_argument,
    });
    Some(Entry { text, data })
}

fn flag(family: &[Arch], name: &str) -> Option<Entry> {
    let arch = family[0];
    let info = arch.flags().iter().find(|info| info.name.eq_ignore_ascii_case(name))?;
    let text = format!(
        "{}  {}\n  {}",
        paint(Tone::Strong, info.name),
        paint(Tone::Quiet, &format!("flag, {}", names_of(family))),
        info.word
    );
    let data = json!({ "kind": "flag", "targets": family.iter().map(|a| a.name()).collect::<Vec<_>>(), "name": info.name, "word": info.word });
    Some(Entry { text, data })
}

/// A system call by its number on a machine.
fn number(arch: Arch, topic: &str) -> Option<Entry> {
    let row = table::by_number(sotto_kernel::target(arch).abi, topic.parse().ok()?)?;
    let text = format!("{topic} is `{}` on {arch}\n{}", row.name, syscall(row.name)?.text);
    Some(Entry { text, data: syscall(row.name)?.data })
}

fn syscall(name: &str) -> Option<Entry> {
    let row = table::by_name(name)?;
    let arguments: Vec<&str> = row.arguments.iter().map(|(name, _)| *name).collect();
    let mut text = format!(
        "{}  {}\n  {}\n",
        paint(Tone::Strong, &format!("{}({})", row.name, arguments.join(", "))),
        paint(Tone::Quiet, "system call"),
        row.summary.trim()
    );
    for line in row.details.lines().map(str::trim).filter(|line| !line.is_empty()) {
        text += &format!("  {line}\n");
    }
    for &arch in Arch::ALL {
        let convention = arch.convention();
        let registers: Vec<String> = row
            .arguments
            .iter()
            .zip(convention.syscall_arguments)
            .map(|((name, _), storage)| format!("{} = {name}", arch.storage_name(*storage)))
            .collect();
        let Some(number) = row.number(arch) else { continue };
        let instruction = sotto_kernel::target(arch).syscall_instruction;
        text += &format!(
            "  {arch:<7} {} = {}, {}; {instruction}\n",
            convention.syscall_number.name(),
            number,
            registers.join(", ")
        );
    }
    let data = json!({
        "kind": "system call", "name": row.name, "arguments": arguments, "summary": row.summary.trim(),
        "numbers": { "x86-64": row.numbers.x86_64, "x86-32": row.numbers.x86_32,
                     "arm64": row.numbers.arm64, "arm32": row.numbers.arm32 },
    });
    Some(Entry { text: text.trim_end().to_string(), data })
}
