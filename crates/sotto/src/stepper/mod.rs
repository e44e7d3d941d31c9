//! `sotto step`: a program under examination, line by line or on the full screen. Both carry out the same
//! commands on the same [`Commander`].

mod follow;
pub(crate) mod inspect;
pub(crate) mod line;
pub(crate) mod saved_state;
mod screen;

use std::io::IsTerminal;

use crate::cli::StepArgs;
use crate::console::{Stream, Tone, paint};
use crate::interrupt;
use crate::output::Failure;
use line::commander::{Commander, Outcome};
use line::input::Lines;
use saved_state::SavedState;

/// Status when a command of a script was wrong.
const WRONG: u8 = 2;

/// `sotto step`
pub fn step_command(args: &StepArgs, as_json: bool) -> Result<u8, Failure> {
    let terminal = std::io::stdin().is_terminal() && std::io::stdout().is_terminal();
    let full_screen = terminal && !args.plain && !as_json && args.script.is_none();
    let mut commander = Commander::start(args, as_json)?;
    // What is kept is for a person; a script finds the same thing each time.
    let mut kept = terminal.then(|| SavedState::of(&args.program.files)).flatten();
    if let Some(said) = kept.as_mut().and_then(|kept| kept.give_to(&mut commander)) {
        let _ = Stream::Error.say(&format!("{} {said}", paint(Tone::Warning, "notice:")));
        commander.notice = Some(said);
    }
    let result = match full_screen {
        true => screen::run(&mut commander, args.first_place(), args.mouse),
        false => line_by_line(&mut commander, args),
    };
    if let Some(kept) = kept {
        kept.keep(&commander);
    }
    result?;
    // A script that does not do what it says has failed.
    Ok(if args.script.is_some() && commander.complained { WRONG } else { 0 })
}

/// Reads and carries out commands until the end.
fn line_by_line(commander: &mut Commander, args: &StepArgs) -> Result<(), Failure> {
    let mut lines = match &args.script {
        Some(path) => Lines::script(path)?,
        None => Lines::standard_input(!args.plain || std::io::stdin().is_terminal())?,
    };
    // After the line editor, which would have Ctrl-C for itself.
    interrupt::listen();
    commander.greet();
    if let Some(place) = args.first_place() {
        commander.go_until(place)?;
    }
    commander.show_next();
    while let Some(line) = lines.next(&commander.names())? {
        if lines.echo() {
            commander.echo(&line);
        }
        interrupt::take();
        if commander.execute_line(&line) == Outcome::Quit {
            break;
        }
        if let Some(failure) = commander.take_failure() {
            return Err(failure);
        }
    }
    commander.take_failure().map_or(Ok(()), Err)
}
