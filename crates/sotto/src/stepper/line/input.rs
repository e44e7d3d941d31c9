//! Where commands come from: a person at a terminal, a pipe, or a file.

use std::fs::File;
use std::io::{BufRead, BufReader, IsTerminal, Read};
use std::path::{Path, PathBuf};

use rustyline::completion::Completer;
use rustyline::error::ReadlineError;
use rustyline::highlight::Highlighter;
use rustyline::hint::Hinter;
use rustyline::validate::Validator;
use rustyline::{Editor, Helper};

use crate::output::Failure;
use crate::stepper::line::grammar;

/// Lines of commands.
pub enum Lines {
    /// A person, with history and completion.
    Person(Box<Editor<Words, rustyline::history::DefaultHistory>>),
    /// A pipe.
    Pipe,
    /// A file.
    Script(Box<BufReader<File>>, PathBuf),
}

/// Completes the first word of a line, and names of the program after it.
#[derive(Default)]
pub struct Words {
    names: Vec<String>,
}

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
        Ok(completions(line, position, &self.names))
    }
}

/// What the word that ends at a position may become, and where it starts.
pub fn completions(line: &str, position: usize, names: &[String]) -> (usize, Vec<String>) {
    let typed = &line[..position];
    if !typed.contains(' ') {
        let found = grammar::words().filter(|word| word.starts_with(typed));
        return (0, found.map(|word| format!("{word} ")).collect());
    }
    let part = |c: char| c.is_alphanumeric() || matches!(c, '_' | '.' | '$');
    let start = typed.rfind(|c| !part(c)).map_or(0, |at| at + 1);
    let word = &typed[start..];
    if word.is_empty() {
        return (position, Vec::new());
    }
    let found = names.iter().filter(|name| name.starts_with(word));
    (start, found.cloned().collect())
}

/// A command has at most so many bytes.
const LONGEST_LINE: u64 = 64 << 10;

/// The next line; `None` at the end.
fn read_line(from: &mut dyn BufRead, path: &Path) -> Result<Option<String>, Failure> {
    let fail = |source| Failure::Read { path: path.to_path_buf(), source };
    let mut line = Vec::new();
    let count = from.take(LONGEST_LINE).read_until(b'\n', &mut line).map_err(fail)?;
    if count as u64 == LONGEST_LINE && line.last() != Some(&b'\n') {
        return Err(fail(std::io::Error::other("a line has more than 65536 bytes")));
    }
    Ok((count > 0).then(|| String::from_utf8_lossy(&line).into_owned()))
}

impl Lines {
    /// Lines of a file, read as they are wanted.
    ///
    /// # Errors
    ///
    /// If it cannot be opened.
    pub fn script(path: &Path) -> Result<Lines, Failure> {
        let fail = |source| Failure::Read { path: path.to_path_buf(), source };
        let file = crate::output::open(path).map_err(fail)?;
        Ok(Lines::Script(Box::new(BufReader::new(file)), path.to_path_buf()))
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
        editor.set_helper(Some(Words::default()));
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
    pub fn next(&mut self, names: &[String]) -> Result<Option<String>, Failure> {
        match self {
            Lines::Script(file, path) => read_line(file, path),
            Lines::Pipe => read_line(&mut std::io::stdin().lock(), Path::new("standard input")),
            Lines::Person(editor) => {
                if let Some(helper) = editor.helper_mut() {
                    helper.names = names.to_vec();
                }
                match editor.readline("sotto> ") {
                    Ok(line) => {
                        // A line that cannot be kept is only missing from the history.
                        let _ = editor.add_history_entry(&line);
                        Ok(Some(line))
                    }
                    Err(ReadlineError::Eof) => Ok(None),
                    // Ctrl-C at the prompt drops the line.
                    Err(ReadlineError::Interrupted) => self.next(names),
                    Err(error) => Err(Failure::plain(error.to_string())),
                }
            }
        }
    }
}
