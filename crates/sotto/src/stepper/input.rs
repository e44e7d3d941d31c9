//! Where commands come from: a person at a terminal, a pipe, or a file.

use std::io::{BufRead, IsTerminal};
use std::path::PathBuf;

use rustyline::completion::Completer;
use rustyline::error::ReadlineError;
use rustyline::highlight::Highlighter;
use rustyline::hint::Hinter;
use rustyline::validate::Validator;
use rustyline::{Editor, Helper};

use crate::output::Failure;

/// Lines of commands.
pub enum Lines {
    /// A person, with history and completion.
    Person(Box<Editor<Words, rustyline::history::DefaultHistory>>),
    /// A pipe.
    Pipe,
    /// The rest of a file.
    Script(std::vec::IntoIter<String>),
}

/// Completes the first word of a line.
pub struct Words(&'static [&'static str]);

impl Helper for Words {}
impl Highlighter for Words {}
impl Hinter for Words {
    type Hint = String;
}
impl Validator for Words {}

impl Completer for Words {
    type Candidate = String;

    fn complete(
        &self,
        line: &str,
        position: usize,
        _: &rustyline::Context<'_>,
    ) -> rustyline::Result<(usize, Vec<String>)> {
        let typed = &line[..position];
        if typed.contains(' ') {
            return Ok((position, Vec::new()));
        }
        let found = self.0.iter().filter(|word| word.starts_with(typed));
        Ok((0, found.map(|word| format!("{word} ")).collect()))
    }
}

impl Lines {
    /// Lines of a file.
    pub fn script(bytes: &[u8]) -> Lines {
        let text = String::from_utf8_lossy(bytes);
        Lines::Script(text.lines().map(str::to_string).collect::<Vec<_>>().into_iter())
    }

    /// Lines of standard input: a person's if it is a terminal.
    ///
    /// # Errors
    ///
    /// If the terminal cannot be used.
    pub fn standard_input(person: bool) -> Result<Lines, Failure> {
        if !(person && std::io::stdin().is_terminal() && std::io::stdout().is_terminal()) {
            return Ok(Lines::Pipe);
        }
        let mut editor = Editor::new().map_err(|error| Failure::plain(error.to_string()))?;
        editor.set_helper(Some(Words(super::grammar::WORDS)));
        Ok(Lines::Person(Box::new(editor)))
    }

    /// Whether the commands are not on the screen already.
    pub fn echo(&self) -> bool {
        !matches!(self, Lines::Person(_))
    }

    /// The next line; `None` at the end.
    ///
    /// # Errors
    ///
    /// If input cannot be read.
    pub fn next(&mut self) -> Result<Option<String>, Failure> {
        match self {
            Lines::Script(lines) => Ok(lines.next()),
            Lines::Pipe => {
                let mut line = String::new();
                let count = std::io::stdin().lock().read_line(&mut line).map_err(|source| {
                    Failure::Read { path: PathBuf::from("standard input"), source }
                })?;
                Ok((count > 0).then_some(line))
            }
            Lines::Person(editor) => match editor.readline("sotto> ") {
                Ok(line) => {
                    // A line that cannot be kept is only missing from the history.
                    let _ = editor.add_history_entry(&line);
                    Ok(Some(line))
                }
                Err(ReadlineError::Eof) => Ok(None),
                // Ctrl-C at the prompt drops the line.
                Err(ReadlineError::Interrupted) => self.next(),
                Err(error) => Err(Failure::plain(error.to_string())),
            },
        }
    }
}
