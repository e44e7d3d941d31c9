//! The commands of the stepper: words, arguments, and help, from one table.

use sotto_isa::Arch;
use sotto_session::Format;

/// How far to go back.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Distance {
    Instructions(u64),
    Line,
    Call,
}

/// A command.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Command {
    Step(u64),
    StepLine,
    Over,
    Out,
    Back(Distance),
    Resume,
    Rewind,
    Until(String),
    Break { place: String, condition: Option<String>, from_arrival: u64 },
    Breaks,
    Unbreak(u32),
    Watch(String),
    Show(Option<(String, Format)>),
    ShowAll(String),
    Unshow(String),
    Registers(Vec<String>),
    Flags,
    Stack(Option<u64>),
    Frames,
    Memory { place: String, count: Option<u64>, format: Format },
    Change { target: String, value: String },
    Who(String),
    Ahead,
    Mark(Option<String>),
    Compare(String),
    Feed(Option<String>),
    Output,
    Syscalls,
    Source,
    Code,
    Restart(Option<Vec<String>>),
    Reload,
    Help,
    Quit,
}

/// A command, and whether an empty line after it does it again.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Parsed {
    pub command: Command,
    pub repeats: bool,
}

/// Word, arguments, and what it does. A prefix stands for the first word that it begins.
const COMMANDS: &[(&str, &str, &str)] = &[
    ("step", "[N | line]", "execute an instruction, N of them, or a source line"),
    ("over", "", "execute an instruction, and what it calls"),
    ("out", "", "run until this routine returns"),
    ("back", "[N | line | call]", "go back by an instruction, N, a line, or to the call"),
    ("resume", "", "run on to a breakpoint, a change of a watched value, or the end"),
    ("rewind", "", "go back to the start"),
    ("until", "PLACE", "run to a label, a line, FILE:LINE, or go to a moment: #1234"),
    (
        "break",
        "at PLACE [when EXPR] [after N]",
        "stop there when EXPR is not zero, from the Nth time on",
    ),
    ("breaks", "", "list breakpoints and watches"),
    ("unbreak", "N", "take breakpoint or watch N away"),
    ("watch", "EXPR", "stop when its value changes: [tide], rcx"),
    ("show", "[EXPR [as FORMAT]]", "show a value after every stop; `as all`: every reading"),
    ("unshow", "EXPR", "no longer show it"),
    ("registers", "[NAMES]", "all registers by role, or the ones named; `vectors` for those"),
    ("flags", "", "the status flags"),
    ("stack", "[N]", "the words around the stack pointer: what for, and who wrote them"),
    ("frames", "", "the chain of calls, with arguments"),
    (
        "memory",
        "PLACE [COUNT] [as FORMAT]",
        "memory, as it was declared, or as byte, i32, text, float ...",
    ),
    ("change", "TARGET to VALUE", "change a register, a flag or memory, and go on from there"),
    ("who", "TARGET", "which instruction last wrote it, and go there: rax, [tide], carry"),
    ("ahead", "", "what the next instruction will do, without doing it"),
    ("mark", "[NAME]", "name this moment; alone, list the names"),
    ("compare", "NAME", "what differs since that moment, or since #1234"),
    ("feed", "[TEXT]", "give the program a line of input; alone, the end of it"),
    ("output", "", "what the program wrote so far"),
    ("syscalls", "", "the latest system calls"),
    ("source", "", "the source around the next line"),
    ("code", "", "the instructions that are next"),
    ("restart", "[ARGS]", "start again without changes; with other arguments"),
    ("reload", "", "assemble the source again, and return to this line"),
    ("help", "", "this list"),
    ("quit", "", "leave"),
];

/// The first words, for completion.
pub fn words() -> impl Iterator<Item = &'static str> {
    COMMANDS.iter().map(|command| command.0)
}

/// A command's arguments and what it does, by its whole word.
pub fn usage(word: &str) -> Option<(&'static str, &'static str)> {
    COMMANDS.iter().find(|command| command.0 == word).map(|command| (command.1, command.2))
}

/// The list of commands.
pub fn help() -> String {
    let mut lines: Vec<String> = COMMANDS
        .iter()
        .map(|(word, arguments, text)| {
            let usage = format!("{word} {arguments}");
            match usage.len() {
                0..=26 => format!("  {usage:<26} {text}"),
                _ => format!("  {usage}\n  {:<26} {text}", ""),
            }
        })
        .collect();
    lines.push("an empty line repeats; a beginning of a word is enough: `s 5`, `reg`".to_string());
    lines.join("\n")
}

/// The whole word for a prefix: itself if it is a word, else the only one it begins.
fn word(prefix: &str) -> Result<&'static str, String> {
    let prefix = prefix.to_ascii_lowercase();
    if let Some(whole) = words().find(|word| *word == prefix) {
        return Ok(whole);
    }
    let found: Vec<&'static str> = words().filter(|word| word.starts_with(&prefix)).collect();
    match found[..] {
        // These are typed all the time, so their first letters are theirs.
        _ if prefix == "s" => Ok("step"),
        _ if prefix == "b" => Ok("break"),
        _ if prefix == "r" => Ok("resume"),
        _ if prefix == "o" => Ok("over"),
        _ if prefix == "u" => Ok("until"),
        _ if prefix == "m" => Ok("memory"),
        [one] => Ok(one),
        [] => Err(match sotto_asm::nearest(&prefix, words()) {
            Some(near) => format!("no command `{prefix}`; did you mean `{near}`?"),
            None => format!("no command `{prefix}`; `help` lists them"),
        }),
        _ => Err(format!("`{prefix}` could be {}", found.join(", "))),
    }
}

/// Parses a line.
///
/// # Errors
///
/// What is wrong with it, in words.
pub fn parse(line: &str, arch: Arch) -> Result<Parsed, String> {
    let line = line.trim();
    let (first, rest) = line.split_once(char::is_whitespace).unwrap_or((line, ""));
    let rest = rest.trim();
    let word = word(first)?;
    let usage = || {
        let (_, arguments, _) = COMMANDS.iter().find(|c| c.0 == word).copied().unwrap_or_default();
        match arguments {
            "" => format!("`{word}` takes nothing after it"),
            _ => format!("it goes `{word} {arguments}`"),
        }
    };
    let number = |default: Option<u64>| match rest {
        "" => default.ok_or_else(usage),
        _ => rest.parse().map_err(|_| usage()),
    };
    let bare = |command: Command| if rest.is_empty() { Ok(command) } else { Err(usage()) };
    let text = || if rest.is_empty() { Err(usage()) } else { Ok(rest.to_string()) };
    let optional = (!rest.is_empty()).then(|| rest.to_string());
    let command = match word {
        "step" if is_prefix(rest, "line") => Command::StepLine,
        "step" => Command::Step(number(Some(1))?),
        "over" => bare(Command::Over)?,
        "out" => bare(Command::Out)?,
        "back" if is_prefix(rest, "line") => Command::Back(Distance::Line),
        "back" if is_prefix(rest, "call") => Command::Back(Distance::Call),
        "back" => Command::Back(Distance::Instructions(number(Some(1))?)),
        "resume" => bare(Command::Resume)?,
        "rewind" => bare(Command::Rewind)?,
        "until" => Command::Until(text()?),
        "break" => {
            let place = rest.strip_prefix("at ").unwrap_or(rest).trim();
            let (place, from_arrival) = match place.rsplit_once(" after ") {
                Some((place, count)) => (place.trim(), count.trim().parse().map_err(|_| usage())?),
                None => (place, 1),
            };
            let (place, condition) = match place.split_once(" when ") {
                Some((place, condition)) => (place.trim(), Some(condition.trim().to_string())),
                None => (place, None),
            };
            if place.is_empty() || place == "at" {
                return Err(usage());
            }
            Command::Break { place: place.to_string(), condition, from_arrival }
        }
        "breaks" => bare(Command::Breaks)?,
        "unbreak" => Command::Unbreak(u32::try_from(number(None)?).map_err(|_| usage())?),
        "watch" => Command::Watch(text()?),
        "show" => match rest.rsplit_once(" as ") {
            Some((text, "all")) => Command::ShowAll(text.trim().to_string()),
            Some((text, format)) => {
                Command::Show(Some((text.trim().to_string(), Format::parse(format, arch)?)))
            }
            None => Command::Show(optional.map(|text| (text, Format::default()))),
        },
        "unshow" => Command::Unshow(text()?),
        "registers" => Command::Registers(rest.split_whitespace().map(str::to_string).collect()),
        "flags" => bare(Command::Flags)?,
        "stack" if rest.is_empty() => Command::Stack(None),
        "stack" => Command::Stack(Some(number(None)?)),
        "frames" => bare(Command::Frames)?,
        "memory" => memory(&text()?, arch)?,
        "change" => {
            let (target, value) = rest.split_once(" to ").ok_or_else(usage)?;
            let (target, value) = (target.trim().to_string(), value.trim().to_string());
            Command::Change { target, value }
        }
        "who" => Command::Who(text()?),
        "ahead" => bare(Command::Ahead)?,
        "mark" => Command::Mark(optional),
        "compare" => Command::Compare(text()?),
        "feed" => Command::Feed(optional),
        "output" => bare(Command::Output)?,
        "syscalls" => bare(Command::Syscalls)?,
        "source" => bare(Command::Source)?,
        "code" => bare(Command::Code)?,
        "restart" => Command::Restart(
            optional.map(|text| text.split_whitespace().map(str::to_string).collect()),
        ),
        "reload" => bare(Command::Reload)?,
        "help" => bare(Command::Help)?,
        _ => bare(Command::Quit)?,
    };
    let repeats = matches!(
        command,
        Command::Step(_)
            | Command::StepLine
            | Command::Over
            | Command::Out
            | Command::Back(_)
            | Command::Resume
            | Command::Until(_)
    );
    Ok(Parsed { command, repeats })
}

/// A format as it would be asked for.
pub fn format_text(format: Format, arch: Arch) -> String {
    let width = format.width.map(|width| arch.width_word(width).to_string());
    let reading = format.reading.map(|reading| format!("{reading:?}").to_lowercase());
    width.into_iter().chain(reading).collect::<Vec<String>>().join(" ")
}

/// Whether a word is a beginning of another, and not nothing.
fn is_prefix(word: &str, whole: &str) -> bool {
    !word.is_empty() && whole.starts_with(&word.to_ascii_lowercase())
}

/// `PLACE [COUNT] [as FORMAT]`, where the place may have blanks in it.
fn memory(text: &str, arch: Arch) -> Result<Command, String> {
    let (text, format) = match text.rsplit_once(" as ") {
        Some((text, format)) => (text.trim(), Format::parse(format, arch)?),
        None => (text, Format::default()),
    };
    let (place, count) = match text.rsplit_once(' ') {
        // `tide + 4` ends in a number that is not a count.
        Some((place, count)) if !place.trim_end().ends_with(['+', '-', '*', '/']) => {
            match count.parse() {
                Ok(count) => (place.trim(), Some(count)),
                Err(_) => (text, None),
            }
        }
        _ => (text, None),
    };
    Ok(Command::Memory { place: place.to_string(), count, format })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn command(line: &str) -> Command {
        parse(line, Arch::X86_64).unwrap_or_else(|error| panic!("{line}: {error}")).command
    }

    #[test]
    fn every_word_is_in_the_table_once_and_parses_by_a_prefix() {
        let words: Vec<&str> = COMMANDS.iter().map(|c| c.0).collect();
        assert_eq!(words.len(), words.iter().collect::<std::collections::HashSet<_>>().len());
        assert_eq!(command("s"), Command::Step(1));
        assert_eq!(command("step 3"), Command::Step(3));
        assert_eq!(command("reg rax"), Command::Registers(vec!["rax".into()]));
        assert_eq!(command("BACK 2"), Command::Back(Distance::Instructions(2)));
        assert_eq!(command("back li"), Command::Back(Distance::Line));
    }

    #[test]
    fn places_and_conditions_keep_their_blanks() {
        assert_eq!(
            command("break at tide_mean when ecx == 3"),
            Command::Break {
                place: "tide_mean".into(),
                condition: Some("ecx == 3".into()),
                from_arrival: 1
            }
        );
        assert_eq!(
            command("memory tide + 4 8 as dword"),
            Command::Memory {
                place: "tide + 4".into(),
                count: Some(8),
                format: Format::parse("dword", Arch::X86_64).unwrap()
            }
        );
        assert_eq!(
            command("memory tide + 4"),
            Command::Memory { place: "tide + 4".into(), count: None, format: Format::default() }
        );
    }

    #[test]
    fn mistakes_are_told_how_it_goes() {
        let error = |line: &str| parse(line, Arch::X86_64).unwrap_err();
        assert_eq!(error("until"), "it goes `until PLACE`");
        assert_eq!(error("over 3"), "`over` takes nothing after it");
        assert_eq!(error("stpe"), "no command `stpe`; did you mean `step`?");
        assert!(error("re").starts_with("`re` could be "));
        assert_eq!(error("step x"), "it goes `step [N | line]`");
    }
}
