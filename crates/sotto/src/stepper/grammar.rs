//! The commands of the stepper: words, arguments, and help, from one table.

use sotto_isa::Width;

/// A command.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Command {
    Step(u64),
    Over,
    Out,
    Back(u64),
    Resume,
    Rewind,
    Until(String),
    Break(String, Option<String>),
    Breaks,
    Unbreak(u32),
    Show(Option<String>),
    Unshow(String),
    Registers(Vec<String>),
    Flags,
    Stack,
    Memory { place: String, count: Option<u64>, width: Option<Width> },
    Who(String),
    Ahead,
    Feed(Option<String>),
    Output,
    Source,
    Code,
    Restart,
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
    ("step", "[N]", "execute an instruction, or N of them"),
    ("over", "", "execute an instruction, and what it calls"),
    ("out", "", "run until this routine returns"),
    ("back", "[N]", "go back by an instruction, or by N"),
    ("resume", "", "run on to a breakpoint or the end"),
    ("rewind", "", "go back to the start"),
    ("until", "PLACE", "run to a label, a line, or FILE:LINE"),
    ("break", "at PLACE [when EXPR]", "stop there whenever EXPR is not zero"),
    ("breaks", "", "list the breakpoints"),
    ("unbreak", "N", "take a breakpoint away"),
    ("show", "[EXPR]", "show a value now and after every stop: eax, [tide], rsp - 8"),
    ("unshow", "EXPR", "no longer show it"),
    ("registers", "[NAMES]", "all registers by role, or the ones named; `vectors` for those"),
    ("flags", "", "the status flags"),
    ("stack", "", "the words around the stack pointer"),
    ("memory", "PLACE [COUNT] [as byte|word|dword|qword]", "memory, as it was declared"),
    ("who", "TARGET", "which instruction last wrote it, and go there: rax, [tide], [rsp + 8]"),
    ("ahead", "", "what the next instruction will do, without doing it"),
    ("feed", "[TEXT]", "give the program a line of input; alone, the end of it"),
    ("output", "", "what the program wrote so far"),
    ("source", "", "the source around the next line"),
    ("code", "", "the instructions that are next"),
    ("restart", "", "start again"),
    ("help", "", "this list"),
    ("quit", "", "leave"),
];

/// The first words, for completion.
pub const WORDS: &[&str] = &[
    "step",
    "over",
    "out",
    "back",
    "resume",
    "rewind",
    "until",
    "break",
    "breaks",
    "unbreak",
    "show",
    "unshow",
    "registers",
    "flags",
    "stack",
    "memory",
    "who",
    "ahead",
    "feed",
    "output",
    "source",
    "code",
    "restart",
    "help",
    "quit",
];

/// The list of commands.
pub fn help() -> String {
    let mut lines: Vec<String> = COMMANDS
        .iter()
        .map(|(word, arguments, text)| {
            let usage = format!("{word} {arguments}");
            format!("  {usage:<28} {text}")
        })
        .collect();
    lines.push("an empty line repeats; a beginning of a word is enough: `s 5`, `reg`".to_string());
    lines.join("\n")
}

/// The whole word for a prefix: itself if it is a word, else the only one it begins.
fn word(prefix: &str) -> Result<&'static str, String> {
    let prefix = prefix.to_ascii_lowercase();
    if let Some(whole) = WORDS.iter().find(|word| **word == prefix) {
        return Ok(whole);
    }
    let found: Vec<&'static str> =
        WORDS.iter().copied().filter(|word| word.starts_with(&prefix)).collect();
    match found[..] {
        // These are typed all the time, so their first letters are theirs.
        _ if prefix == "s" => Ok("step"),
        _ if prefix == "b" => Ok("break"),
        _ if prefix == "r" => Ok("resume"),
        [one] => Ok(one),
        [] => Err(match sotto_asm::nearest(&prefix, WORDS.iter().copied()) {
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
pub fn parse(line: &str) -> Result<Parsed, String> {
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
        "step" => Command::Step(number(Some(1))?),
        "over" => bare(Command::Over)?,
        "out" => bare(Command::Out)?,
        "back" => Command::Back(number(Some(1))?),
        "resume" => bare(Command::Resume)?,
        "rewind" => bare(Command::Rewind)?,
        "until" => Command::Until(text()?),
        "break" => {
            let place = rest.strip_prefix("at ").unwrap_or(rest).trim();
            let (place, condition) = match place.split_once(" when ") {
                Some((place, condition)) => (place.trim(), Some(condition.trim().to_string())),
                None => (place, None),
            };
            if place.is_empty() || place == "at" {
                return Err(usage());
            }
            Command::Break(place.to_string(), condition)
        }
        "breaks" => bare(Command::Breaks)?,
        "unbreak" => Command::Unbreak(u32::try_from(number(None)?).map_err(|_| usage())?),
        "show" => Command::Show(optional),
        "unshow" => Command::Unshow(text()?),
        "registers" => Command::Registers(rest.split_whitespace().map(str::to_string).collect()),
        "flags" => bare(Command::Flags)?,
        "stack" => bare(Command::Stack)?,
        "memory" => memory(&text()?).ok_or_else(usage)?,
        "who" => Command::Who(text()?),
        "ahead" => bare(Command::Ahead)?,
        "feed" => Command::Feed(optional),
        "output" => bare(Command::Output)?,
        "source" => bare(Command::Source)?,
        "code" => bare(Command::Code)?,
        "restart" => bare(Command::Restart)?,
        "help" => bare(Command::Help)?,
        _ => bare(Command::Quit)?,
    };
    let repeats = matches!(
        command,
        Command::Step(_)
            | Command::Over
            | Command::Out
            | Command::Back(_)
            | Command::Resume
            | Command::Until(_)
    );
    Ok(Parsed { command, repeats })
}

/// `PLACE [COUNT] [as WIDTH]`, where the place may have blanks in it.
fn memory(text: &str) -> Option<Command> {
    let (text, width) = match text.rsplit_once(" as ") {
        Some((text, keyword)) => {
            let width = Width::ALL.into_iter().find(|w| w.x86_keyword() == keyword.trim())?;
            (text.trim(), Some(width))
        }
        None => (text, None),
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
    Some(Command::Memory { place: place.to_string(), count, width })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn command(line: &str) -> Command {
        parse(line).unwrap_or_else(|error| panic!("{line}: {error}")).command
    }

    #[test]
    fn every_word_is_in_the_table_once_and_parses_by_a_prefix() {
        let words: Vec<&str> = COMMANDS.iter().map(|c| c.0).collect();
        assert_eq!(words, WORDS);
        assert_eq!(command("s"), Command::Step(1));
        assert_eq!(command("step 3"), Command::Step(3));
        assert_eq!(command("reg rax"), Command::Registers(vec!["rax".into()]));
        assert_eq!(command("BACK 2"), Command::Back(2));
    }

    #[test]
    fn places_and_conditions_keep_their_blanks() {
        assert_eq!(
            command("break at tide_mean when ecx == 3"),
            Command::Break("tide_mean".into(), Some("ecx == 3".into()))
        );
        assert_eq!(
            command("memory tide + 4 8 as dword"),
            Command::Memory { place: "tide + 4".into(), count: Some(8), width: Some(Width::W32) }
        );
        assert_eq!(
            command("memory tide + 4"),
            Command::Memory { place: "tide + 4".into(), count: None, width: None }
        );
    }

    #[test]
    fn mistakes_are_told_how_it_goes() {
        let error = |line: &str| parse(line).unwrap_err();
        assert_eq!(error("until"), "it goes `until PLACE`");
        assert_eq!(error("over 3"), "`over` takes nothing after it");
        assert_eq!(error("stpe"), "no command `stpe`; did you mean `step`?");
        assert!(error("re").starts_with("`re` could be "));
        assert_eq!(error("step x"), "it goes `step [N]`");
    }
}
