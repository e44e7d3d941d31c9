//! The commands of the stepper: words, arguments, and help, from one table.

use sotto_isa::Arch;
use sotto_machine::Signal;
use sotto_session::Format;

/// How far to go back.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Distance {
    Instructions(u64),
    Line,
    Call,
    /// To the last time a place was next.
    To(String),
    /// To the last breakpoint that was arrived at.
    Break,
    /// To before the last change of a watched value.
    Watch,
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
    Frames(Option<u64>),
    Tasks,
    Task(u64),
    Recent(u64),
    Memory { place: String, count: Option<u64>, format: Format },
    Change { target: String, value: String },
    Who(String),
    Ahead,
    Mark(Option<String>),
    Compare(String),
    Feed(Option<Vec<u8>>),
    Send(Signal),
    Output,
    Syscalls,
    Source,
    Code(Option<String>),
    Restart(Option<Vec<String>>),
    Reload,
    Variables,
    Check(Option<bool>),
    Bits(Option<bool>),
    Help(Option<String>),
    Quit,
}

/// A command, and whether an empty line after it does it again.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Parsed {
    pub command: Command,
    pub repeats: bool,
}

/// A command in the table.
struct Row {
    word: &'static str,
    /// Its first letter is enough, although other words begin so: it is typed all the time.
    by_letter: bool,
    /// What follows the word.
    arguments: &'static str,
    /// What it does.
    help: &'static str,
    /// An empty line after it does it again.
    repeats: bool,
    /// Makes the command of what follows the word.
    make: fn(&Rest) -> Result<Command, String>,
}

/// What rows have in common unless they say otherwise.
const ROW: Row = Row {
    word: "",
    by_letter: false,
    arguments: "",
    help: "",
    repeats: false,
    make: |rest| Err(rest.usage()),
};

/// The commands. A prefix stands for the first word that it begins.
const COMMANDS: &[Row] = &[
    Row {
        word: "step",
        arguments: "[N | line]",
        help: "execute an instruction, N of them, or a source line",
        by_letter: true,
        repeats: true,
        make: |rest| match is_prefix(rest.text, "line") {
            true => Ok(Command::StepLine),
            false => Ok(Command::Step(rest.number(Some(1))?)),
        },
    },
    Row {
        word: "over",
        arguments: "",
        help: "execute an instruction, and what it calls",
        by_letter: true,
        repeats: true,
        make: |rest| rest.nothing(Command::Over),
    },
    Row {
        word: "out",
        arguments: "",
        help: "run until this routine returns",
        repeats: true,
        make: |rest| rest.nothing(Command::Out),
        ..ROW
    },
    Row {
        word: "back",
        arguments: "[N | line | call | to PLACE | break | watch]",
        help: "go back by N, a line, or to a place: `help back`",
        repeats: true,
        make: |rest| {
            Ok(Command::Back(match rest.text.split_once(' ') {
                Some(("to", place)) => Distance::To(place.trim().to_string()),
                _ if is_prefix(rest.text, "line") => Distance::Line,
                _ if is_prefix(rest.text, "call") => Distance::Call,
                _ if is_prefix(rest.text, "break") => Distance::Break,
                _ if is_prefix(rest.text, "watch") => Distance::Watch,
                _ => Distance::Instructions(rest.number(Some(1))?),
            }))
        },
        ..ROW
    },
    Row {
        word: "resume",
        arguments: "",
        help: "run to a breakpoint, a watched change, or the end",
        by_letter: true,
        repeats: true,
        make: |rest| rest.nothing(Command::Resume),
    },
    Row {
        word: "rewind",
        arguments: "",
        help: "go back to the start",
        make: |rest| rest.nothing(Command::Rewind),
        ..ROW
    },
    Row {
        word: "until",
        arguments: "PLACE",
        help: "run to a label, line, FILE:LINE, or a moment: #1234",
        by_letter: true,
        repeats: true,
        make: |rest| Ok(Command::Until(rest.some_text()?)),
    },
    Row {
        word: "break",
        arguments: "at PLACE [when EXPR] [after N]",
        help: "stop there if EXPR is not zero, from the Nth time on",
        by_letter: true,
        make: breakpoint,
        ..ROW
    },
    Row {
        word: "breaks",
        arguments: "",
        help: "list breakpoints and watches",
        make: |rest| rest.nothing(Command::Breaks),
        ..ROW
    },
    Row {
        word: "unbreak",
        arguments: "N",
        help: "take breakpoint or watch N away",
        make: |rest| {
            let number = rest.number(None)?;
            Ok(Command::Unbreak(u32::try_from(number).map_err(|_| rest.usage())?))
        },
        ..ROW
    },
    Row {
        word: "watch",
        arguments: "EXPR",
        help: "stop when its value changes: [tide], rcx",
        make: |rest| Ok(Command::Watch(rest.some_text()?)),
        ..ROW
    },
    Row {
        word: "show",
        arguments: "[EXPR [as FORMAT]]",
        help: "a value after every stop; `as all`: every reading",
        make: show,
        ..ROW
    },
    Row {
        word: "unshow",
        arguments: "EXPR",
        help: "no longer show it",
        make: |rest| Ok(Command::Unshow(rest.some_text()?)),
        ..ROW
    },
    Row {
        word: "registers",
        arguments: "[NAMES]",
        help: "all by role, or those named; `brief`, `vectors`",
        make: |rest| Ok(Command::Registers(rest.words())),
        ..ROW
    },
    Row {
        word: "flags",
        arguments: "",
        help: "the status flags",
        make: |rest| rest.nothing(Command::Flags),
        ..ROW
    },
    Row {
        word: "stack",
        arguments: "[N]",
        help: "the stack around its pointer, and who wrote it",
        make: |rest| match rest.text {
            "" => Ok(Command::Stack(None)),
            _ => Ok(Command::Stack(Some(rest.number(None)?))),
        },
        ..ROW
    },
    Row {
        word: "frames",
        arguments: "[N]",
        help: "the chain of calls, with arguments; the innermost N",
        make: |rest| match rest.text {
            "" => Ok(Command::Frames(None)),
            _ => Ok(Command::Frames(Some(rest.number(None)?))),
        },
        ..ROW
    },
    Row {
        word: "tasks",
        arguments: "",
        help: "the threads and processes, and what each waits for",
        make: |rest| rest.nothing(Command::Tasks),
        ..ROW
    },
    Row {
        word: "task",
        arguments: "N",
        help: "look at a thread or process until something executes",
        make: |rest| Ok(Command::Task(rest.number(None)?)),
        ..ROW
    },
    Row {
        word: "recent",
        arguments: "[N]",
        help: "the latest N instructions that were executed",
        make: |rest| Ok(Command::Recent(rest.number(Some(10))?)),
        ..ROW
    },
    Row {
        word: "memory",
        arguments: "PLACE [COUNT] [as FORMAT]",
        help: "memory, as declared, or as byte, i32, text, float ...",
        by_letter: true,
        make: memory,
        ..ROW
    },
    Row {
        word: "variables",
        arguments: "",
        help: "the variables of the C routine that is running",
        make: |rest| rest.nothing(Command::Variables),
        ..ROW
    },
    Row {
        word: "change",
        arguments: "TARGET to VALUE",
        help: "change a register, a flag, memory; go on from there",
        make: |rest| {
            let (target, value) = rest.text.split_once(" to ").ok_or_else(|| rest.usage())?;
            let (target, value) = (target.trim().to_string(), value.trim().to_string());
            Ok(Command::Change { target, value })
        },
        ..ROW
    },
    Row {
        word: "who",
        arguments: "TARGET",
        help: "go to what last wrote it: rax, [tide], carry",
        make: |rest| Ok(Command::Who(rest.some_text()?)),
        ..ROW
    },
    Row {
        word: "ahead",
        arguments: "",
        help: "what the next instruction will do, without doing it",
        make: |rest| rest.nothing(Command::Ahead),
        ..ROW
    },
    Row {
        word: "mark",
        arguments: "[NAME]",
        help: "name this moment; alone, list the names",
        make: |rest| Ok(Command::Mark(rest.optional())),
        ..ROW
    },
    Row {
        word: "compare",
        arguments: "NAME",
        help: "what differs since that moment, or since #1234",
        make: |rest| Ok(Command::Compare(rest.some_text()?)),
        ..ROW
    },
    Row {
        word: "feed",
        arguments: "[TEXT | \"TEXT\"]",
        help: "a line of input; in quotes just that; alone, the end",
        make: feed,
        ..ROW
    },
    Row {
        word: "send",
        arguments: "SIGNAL",
        help: "send the program a signal: `send SIGUSR1`",
        make: send,
        ..ROW
    },
    Row {
        word: "output",
        arguments: "",
        help: "what the program wrote so far",
        make: |rest| rest.nothing(Command::Output),
        ..ROW
    },
    Row {
        word: "syscalls",
        arguments: "",
        help: "the latest system calls",
        make: |rest| rest.nothing(Command::Syscalls),
        ..ROW
    },
    Row {
        word: "source",
        arguments: "",
        help: "the source around the next line",
        make: |rest| rest.nothing(Command::Source),
        ..ROW
    },
    Row {
        word: "code",
        arguments: "[PLACE]",
        help: "instructions around the next one, or from PLACE on",
        make: |rest| Ok(Command::Code(rest.optional())),
        ..ROW
    },
    Row {
        word: "restart",
        arguments: "[ARGS]",
        help: "start again without changes; with other arguments",
        make: |rest| match rest.text {
            "" => Ok(Command::Restart(None)),
            text => match shlex::split(text) {
                Some(words) => Ok(Command::Restart(Some(words))),
                None => Err("a quote has no end".to_string()),
            },
        },
        ..ROW
    },
    Row {
        word: "reload",
        arguments: "",
        help: "assemble the source again, and return to this line",
        make: |rest| rest.nothing(Command::Reload),
        ..ROW
    },
    Row {
        word: "bits",
        arguments: "[on | off]",
        help: "bits that the last step changed; `on`: at every step",
        make: |rest| match rest.text {
            "" => Ok(Command::Bits(None)),
            "on" => Ok(Command::Bits(Some(true))),
            "off" => Ok(Command::Bits(Some(false))),
            _ => Err(rest.usage()),
        },
        ..ROW
    },
    Row {
        word: "check",
        arguments: "[off]",
        help: "what is wrong in the run up to now; `off`: not told",
        make: |rest| match rest.text {
            "" => Ok(Command::Check(None)),
            "on" => Ok(Command::Check(Some(true))),
            "off" => Ok(Command::Check(Some(false))),
            _ => Err(rest.usage()),
        },
        ..ROW
    },
    Row {
        word: "help",
        arguments: "[TOPIC]",
        help: "this list; a command; places, targets, formats, time",
        make: |rest| Ok(Command::Help(rest.optional())),
        ..ROW
    },
    Row {
        word: "quit",
        arguments: "",
        help: "leave",
        make: |rest| rest.nothing(Command::Quit),
        ..ROW
    },
];

/// What follows the word of a command.
struct Rest<'a> {
    row: &'static Row,
    text: &'a str,
    arch: Arch,
}

impl Rest<'_> {
    /// How the command goes.
    fn usage(&self) -> String {
        match (self.row.word, self.row.arguments) {
            (word, "") => format!("`{word}` takes nothing after it"),
            (word, arguments) => format!("it goes `{word} {arguments}`"),
        }
    }

    fn nothing(&self, command: Command) -> Result<Command, String> {
        if self.text.is_empty() { Ok(command) } else { Err(self.usage()) }
    }

    fn number(&self, default: Option<u64>) -> Result<u64, String> {
        match self.text {
            "" => default.ok_or_else(|| self.usage()),
            text => text.parse().map_err(|_| self.usage()),
        }
    }

    fn some_text(&self) -> Result<String, String> {
        self.optional().ok_or_else(|| self.usage())
    }

    fn optional(&self) -> Option<String> {
        (!self.text.is_empty()).then(|| self.text.to_string())
    }

    fn words(&self) -> Vec<String> {
        self.text.split_whitespace().map(str::to_string).collect()
    }
}

/// The first words, for completion.
pub fn words() -> impl Iterator<Item = &'static str> {
    COMMANDS.iter().map(|row| row.word)
}

/// A command's arguments and what it does, by its whole word.
pub fn usage(word: &str) -> Option<(&'static str, &'static str)> {
    COMMANDS.iter().find(|row| row.word == word).map(|row| (row.arguments, row.help))
}

/// What there is beside commands.
const TOPICS: &[(&str, &str)] = &[
    (
        "places",
        "a PLACE is a label (`lamp`, `.next` of this routine, `copy.next`, `1b`, `1f`), an address or any expression, a\nline of the file in front (`12`) or of another (`tide.s:12`), and for `until` a moment (`#1234`)",
    ),
    (
        "targets",
        "a TARGET is a register (`rax`, `al`, `xmm0`), a flag (`zf`, `carry`), memory (`[rsp + 8]`, `byte [tide]`), or a\nsymbol for what it labels",
    ),
    (
        "formats",
        "a FORMAT is a width (`byte`, `dword` ...), a reading (`hex`, `signed`, `unsigned`, `binary`, `character`, `text`,\n`float`, `address`), both, or short: `i32`, `u8`, `x16`, `f64`; a vector register shows elements of it",
    ),
    (
        "time",
        "a moment is a number of executed instructions, `#0` the start; `back` and `until #N` go there, `change` starts a new\nhistory from now on, `rewind` goes to the start, `restart` forgets everything",
    ),
];

/// What a line of the list has no room for, by command.
const MORE: &[(&str, &str)] = &[
    (
        "back",
        "`back to PLACE`: to the last time that it was next\n  `back break`: to the last breakpoint; `back watch`: to before the last change",
    ),
    ("variables", "they come from debugging information (`-g`); their names are values"),
    ("feed", "in quotes the escapes of C have their meaning, and no line feed is added"),
    ("restart", "arguments are quoted as in a shell"),
    ("registers", "`brief`: in a few lines, with the flags that are set; `vectors`: those"),
];

/// A command, or something that several commands take.
pub fn topic(name: &str) -> Result<String, String> {
    let lower = name.to_ascii_lowercase();
    if let Some((_, text)) = TOPICS.iter().find(|(word, _)| word.starts_with(&lower)) {
        return Ok((*text).to_string());
    }
    let row = row(&lower)?;
    let mut text = format!("{} {}\n  {}", row.word, row.arguments, row.help).replace(" \n", "\n");
    if let Some((_, more)) = MORE.iter().find(|(word, _)| *word == row.word) {
        text.push_str(&format!("\n  {more}"));
    }
    if row.by_letter {
        text.push_str(&format!("\n  `{}` is enough", &row.word[..1]));
    }
    if row.repeats {
        text.push_str("\n  an empty line does it again");
    }
    Ok(text)
}

/// The list of commands.
pub fn help() -> String {
    let mut lines: Vec<String> = COMMANDS
        .iter()
        .map(|Row { word, arguments, help: text, .. }| {
            let usage = format!("{word} {arguments}");
            match usage.len() {
                0..=24 => format!("  {usage:<24} {text}"),
                _ => format!("  {usage}\n  {:<24} {text}", ""),
            }
        })
        .collect();
    lines.push("an empty line repeats; a beginning of a word is enough: `s 5`, `reg`".to_string());
    lines.join("\n")
}

/// The row for a prefix: of the word that it is, or of the only one that it begins.
fn row(prefix: &str) -> Result<&'static Row, String> {
    let prefix = prefix.to_ascii_lowercase();
    let exact = |row: &&Row| {
        row.word == prefix || row.by_letter && row.word.get(..1) == Some(prefix.as_str())
    };
    if let Some(row) = COMMANDS.iter().find(exact) {
        return Ok(row);
    }
    let found: Vec<&'static Row> =
        COMMANDS.iter().filter(|row| row.word.starts_with(&prefix)).collect();
    match found[..] {
        [one] => Ok(one),
        [] => Err(match sotto_asm::nearest(&prefix, words()) {
            Some(near) => format!("no command `{prefix}`; did you mean `{near}`?"),
            None => format!("no command `{prefix}`; `help` lists them"),
        }),
        _ => {
            let words: Vec<&str> = found.iter().map(|row| row.word).collect();
            Err(format!("`{prefix}` could be {}", words.join(", ")))
        }
    }
}

/// Whether a line is a command that goes somewhere; an empty one repeats such a command.
pub fn moves(line: &str, arch: Arch) -> bool {
    line.trim().is_empty() || parse(line, arch).is_ok_and(|parsed| parsed.repeats)
}

/// Whether a line is a comment. No command begins with either sign; a moment, `#12`, is only ever an argument.
pub fn is_comment(line: &str) -> bool {
    line.trim_start().starts_with(['#', ';'])
}

/// Parses a line.
///
/// # Errors
///
/// What is wrong with it, in words.
pub fn parse(line: &str, arch: Arch) -> Result<Parsed, String> {
    let line = line.trim();
    let (first, text) = line.split_once(char::is_whitespace).unwrap_or((line, ""));
    let row = row(first)?;
    let command = (row.make)(&Rest { row, text: text.trim(), arch })?;
    Ok(Parsed { command, repeats: row.repeats })
}

/// `[at] PLACE [when EXPR] [after N]`
fn breakpoint(rest: &Rest) -> Result<Command, String> {
    let place = rest.text.strip_prefix("at ").unwrap_or(rest.text).trim();
    let (place, from_arrival) = match place.rsplit_once(" after ") {
        Some((place, count)) => (place.trim(), count.trim().parse().map_err(|_| rest.usage())?),
        None => (place, 1),
    };
    let (place, condition) = match place.split_once(" when ") {
        Some((place, condition)) => (place.trim(), Some(condition.trim().to_string())),
        None => (place, None),
    };
    if place.is_empty() || place == "at" {
        return Err(rest.usage());
    }
    Ok(Command::Break { place: place.to_string(), condition, from_arrival })
}

/// `SIGNAL`: its name, with or without SIG, or its number
fn send(rest: &Rest) -> Result<Command, String> {
    let wanted = rest.some_text()?.to_ascii_uppercase();
    let number = wanted.parse::<u64>().ok().and_then(Signal::from_number);
    let is_it = |signal: &&Signal| {
        signal.name() == wanted || signal.name().strip_prefix("SIG") == Some(&wanted)
    };
    let found = number.or_else(|| Signal::ALL.iter().find(is_it).copied());
    let signal = found.ok_or_else(|| format!("no signal `{wanted}`; `SIGUSR1` is one"))?;
    Ok(Command::Send(signal))
}

/// `[TEXT | "TEXT"]`
fn feed(rest: &Rest) -> Result<Command, String> {
    let quoted = rest.text.strip_prefix('"').and_then(|text| text.strip_suffix('"'));
    Ok(Command::Feed(match (rest.text, quoted) {
        ("", _) => None,
        (_, Some(text)) => {
            let bytes = sotto_asm::escaped_bytes(text);
            Some(bytes.map_err(|diagnostic| diagnostic.message.clone())?)
        }
        (text, None) => Some(format!("{text}\n").into_bytes()),
    }))
}

/// `[EXPR [as FORMAT]]`
fn show(rest: &Rest) -> Result<Command, String> {
    Ok(match rest.text.rsplit_once(" as ") {
        Some((text, "all")) => Command::ShowAll(text.trim().to_string()),
        Some((text, format)) => {
            let format = Format::parse(format, rest.arch)?;
            Command::Show(Some((text.trim().to_string(), format)))
        }
        None => Command::Show(rest.optional().map(|text| (text, Format::default()))),
    })
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
fn memory(rest: &Rest) -> Result<Command, String> {
    let text = rest.some_text()?;
    let (text, format) = match text.rsplit_once(" as ") {
        Some((text, format)) => (text.trim(), Format::parse(format, rest.arch)?),
        None => (text.as_str(), Format::default()),
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
        let words: Vec<&str> = words().collect();
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
    fn the_list_fits_80_columns_and_every_command_is_a_topic() {
        for line in help().lines() {
            assert!(line.chars().count() <= 80, "{line}");
        }
        for word in words() {
            assert!(topic(word).unwrap().starts_with(word), "{word}");
        }
        assert!(MORE.iter().all(|(word, _)| words().any(|known| known == *word)));
        assert!(topic("places").unwrap().starts_with("a PLACE"));
        assert!(topic("nothing").is_err());
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
