//! What a person has arranged on the full screen, and what keys do to it.

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers, MouseEvent, MouseEventKind};
use ratatui::layout::{Position, Rect};

use crate::stepper::line::input::completions;

/// Parts of the screen that keys can go to.
#[derive(Copy, Clone, PartialEq, Eq, Hash, Debug)]
pub enum Pane {
    Source,
    Registers,
    Stack,
    Answers,
    Memory,
    Output,
}

impl Pane {
    /// In the order in which the tabulator key goes through them.
    pub const ALL: [Pane; 6] =
        [Pane::Source, Pane::Registers, Pane::Stack, Pane::Answers, Pane::Memory, Pane::Output];

    fn index(self) -> usize {
        Pane::ALL.iter().position(|pane| *pane == self).unwrap_or(0)
    }
}

/// What a key asks for.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Action {
    /// To draw again.
    Draw,
    /// To carry out a line of the stepper's language.
    Command(String),
    /// To give the terminal back and stop, until the shell goes on with us.
    Suspend,
    /// To draw everything anew.
    Redraw,
    Leave,
    Nothing,
}

/// The arrangement.
pub struct State {
    pub focus: Pane,
    /// Lines that each pane is scrolled from its usual place.
    scroll: [i64; Pane::ALL.len()],
    /// The first line of the source pane, if it was scrolled away from the next line.
    pub code_first: Option<usize>,
    /// Columns by which the left part is wider than usual, and rows by which the lower part is higher.
    pub wider: i16,
    pub higher: i16,
    /// Whether instructions are shown below source lines, if that was chosen.
    pub instructions: Option<bool>,
    /// Whether vector registers stand in the place of the general ones.
    pub vectors: bool,
    /// Whether instructions were shown when it was drawn last.
    pub instructions_drawn: bool,
    pub help: bool,
    /// What the memory pane follows.
    pub memory: String,
    /// The command line: text and the cursor's place in it, in bytes.
    pub line: String,
    pub cursor: usize,
    history: Vec<String>,
    /// Where in the history the line is, counted from its end.
    recalled: usize,
    /// Answers to the last command, and whether it went somewhere.
    pub answers: Vec<String>,
    pub moved: bool,
    /// Where the panes are, as they were drawn last.
    pub places: Vec<(Pane, Rect)>,
    /// Completions that were offered last.
    pub offered: Vec<String>,
    /// Registers and flags that the machine has.
    pub registers: u16,
    pub flags: u16,
}

impl State {
    pub fn new(memory: String) -> State {
        State {
            focus: Pane::Source,
            scroll: [0; Pane::ALL.len()],
            code_first: None,
            wider: 0,
            higher: 0,
            instructions: None,
            vectors: false,
            instructions_drawn: false,
            help: false,
            memory,
            line: String::new(),
            cursor: 0,
            history: Vec::new(),
            recalled: 0,
            answers: Vec::new(),
            moved: false,
            places: Vec::new(),
            offered: Vec::new(),
            registers: 18,
            flags: 7,
        }
    }

    /// Lines that a pane is scrolled.
    pub fn scrolled(&self, pane: Pane) -> i64 {
        self.scroll[pane.index()]
    }

    /// Puts every pane to its usual place, since the program went on.
    pub fn follow(&mut self) {
        self.scroll = [0; Pane::ALL.len()];
        self.code_first = None;
    }

    /// Shows new answers.
    pub fn answer(&mut self, answers: Vec<String>) {
        self.answers = answers;
        self.scroll[Pane::Answers.index()] = 0;
    }

    fn scroll_by(&mut self, pane: Pane, lines: i64, first: usize) {
        if pane == Pane::Source {
            let from = self.code_first.unwrap_or(first) as i64;
            self.code_first = Some((from + lines).max(0) as usize);
            return;
        }
        // What shows its end is scrolled upwards from there.
        let from_end = pane == Pane::Output || (pane == Pane::Answers && self.moved);
        let scroll = &mut self.scroll[pane.index()];
        *scroll += if from_end { -lines } else { lines };
        if matches!(pane, Pane::Registers | Pane::Answers | Pane::Output) {
            *scroll = (*scroll).max(0);
        }
    }

    /// Rows of a pane, as it was drawn last.
    fn rows(&self, pane: Pane) -> i64 {
        let place = self.places.iter().find(|(drawn, _)| *drawn == pane);
        place.map_or(10, |(_, area)| i64::from(area.height).max(2) - 1)
    }

    /// What a key does. `names` are what the command line can complete, `first` the first line of code that
    /// is shown.
    pub fn key(&mut self, key: KeyEvent, names: &[String], first: usize) -> Action {
        let control = key.modifiers.contains(KeyModifiers::CONTROL);
        let shift = key.modifiers.contains(KeyModifiers::SHIFT);
        let typing = !self.line.is_empty();
        if self.help {
            self.help = false;
            return match key.code {
                KeyCode::Char('c' | 'q') if control => Action::Leave,
                _ => Action::Draw,
            };
        }
        if key.code != KeyCode::Tab {
            self.offered.clear();
        }
        let command = |text: &str| Action::Command(text.to_string());
        match key.code {
            KeyCode::Char('z') if control => Action::Suspend,
            KeyCode::Char('l') if control => Action::Redraw,
            KeyCode::Char('q') if control => Action::Leave,
            KeyCode::Char('d') if control && !typing => Action::Leave,
            KeyCode::Char('c') if control && !typing => Action::Leave,
            KeyCode::Char('c' | 'u') if control => self.clear_line(),
            KeyCode::Char('a') if control => self.move_cursor(0),
            KeyCode::Char('e') if control => self.move_cursor(self.line.len()),
            KeyCode::Char('w') if control => self.delete_word(),
            KeyCode::Esc if typing => self.clear_line(),
            KeyCode::Esc => {
                self.follow();
                self.focus = Pane::Source;
                Action::Draw
            }
            KeyCode::F(1) => self.show_help(),
            KeyCode::Char('?') if !typing => self.show_help(),
            KeyCode::F(2) => {
                self.instructions = Some(!self.instructions_drawn);
                Action::Draw
            }
            KeyCode::F(3) => {
                self.vectors = !self.vectors;
                Action::Draw
            }
            KeyCode::F(5) => command("reload"),
            KeyCode::F(10) => Action::Leave,

            KeyCode::Left if control => self.widen(-4, 0),
            KeyCode::Right if control => self.widen(4, 0),
            KeyCode::Up if control => self.widen(0, 1),
            KeyCode::Down if control => self.widen(0, -1),
            KeyCode::Up if shift => self.scroll_focused(-1, first),
            KeyCode::Down if shift => self.scroll_focused(1, first),
            KeyCode::PageUp => self.scroll_focused(-self.rows(self.focus), first),
            KeyCode::PageDown => self.scroll_focused(self.rows(self.focus), first),

            KeyCode::Right if shift => command("over"),
            KeyCode::Left if shift => command("back call"),
            KeyCode::Up if typing || self.recalled > 0 => self.recall(1),
            KeyCode::Down if typing || self.recalled > 0 => self.recall(-1),
            KeyCode::Left if typing => {
                let before = self.line[..self.cursor].chars().next_back();
                self.move_cursor(self.cursor - before.map_or(0, char::len_utf8))
            }
            KeyCode::Right if typing => {
                let after = self.line[self.cursor..].chars().next();
                self.move_cursor(self.cursor + after.map_or(0, char::len_utf8))
            }
            KeyCode::Home if typing => self.move_cursor(0),
            KeyCode::End if typing => self.move_cursor(self.line.len()),
            KeyCode::Right | KeyCode::Char(' ') if !typing => command("step"),
            KeyCode::Left => command("back"),
            KeyCode::Down => command("step line"),
            KeyCode::Up => command("back line"),
            KeyCode::Home => command("rewind"),
            KeyCode::End => command("resume"),

            KeyCode::Tab if typing => self.complete(names),
            KeyCode::Tab => self.turn_focus(1),
            KeyCode::BackTab => self.turn_focus(Pane::ALL.len() - 1),
            KeyCode::Enter => self.enter(),
            KeyCode::Backspace => self.delete_before(),
            KeyCode::Delete if typing => {
                if self.cursor < self.line.len() {
                    self.line.remove(self.cursor);
                }
                Action::Draw
            }
            KeyCode::Char(c) if !control => {
                self.line.insert(self.cursor, c);
                self.cursor += c.len_utf8();
                Action::Draw
            }
            _ => Action::Nothing,
        }
    }

    fn show_help(&mut self) -> Action {
        self.help = true;
        Action::Draw
    }

    fn clear_line(&mut self) -> Action {
        self.line.clear();
        (self.cursor, self.recalled) = (0, 0);
        Action::Draw
    }

    fn move_cursor(&mut self, to: usize) -> Action {
        self.cursor = to.min(self.line.len());
        Action::Draw
    }

    fn delete_before(&mut self) -> Action {
        if let Some(c) = self.line[..self.cursor].chars().next_back() {
            self.cursor -= c.len_utf8();
            self.line.remove(self.cursor);
        }
        Action::Draw
    }

    fn delete_word(&mut self) -> Action {
        let before = self.line[..self.cursor].trim_end();
        let start = before.rfind(' ').map_or(0, |at| at + 1);
        self.line.replace_range(start..self.cursor, "");
        self.move_cursor(start)
    }

    fn widen(&mut self, columns: i16, rows: i16) -> Action {
        self.wider = (self.wider + columns).clamp(-60, 60);
        self.higher = (self.higher + rows).clamp(-20, 20);
        Action::Draw
    }

    fn scroll_focused(&mut self, lines: i64, first: usize) -> Action {
        self.scroll_by(self.focus, lines, first);
        Action::Draw
    }

    fn turn_focus(&mut self, by: usize) -> Action {
        self.focus = Pane::ALL[(self.focus.index() + by) % Pane::ALL.len()];
        Action::Draw
    }

    fn recall(&mut self, by: isize) -> Action {
        self.recalled = self.recalled.saturating_add_signed(by).min(self.history.len());
        self.line = match self.recalled {
            0 => String::new(),
            back => self.history[self.history.len() - back].clone(),
        };
        self.move_cursor(self.line.len())
    }

    fn enter(&mut self) -> Action {
        let line = std::mem::take(&mut self.line);
        (self.cursor, self.recalled) = (0, 0);
        if !line.trim().is_empty() && self.history.last() != Some(&line) {
            self.history.push(line.clone());
        }
        // The memory pane follows what was asked for last.
        if let Some(rest) = memory_place(&line) {
            self.memory = rest;
            self.scroll[Pane::Memory.index()] = 0;
        }
        Action::Command(line)
    }

    fn complete(&mut self, names: &[String]) -> Action {
        let (start, found) = completions(&self.line, self.cursor, names);
        let Some(common) = common_start(&found) else { return Action::Nothing };
        if common.len() > self.cursor - start {
            self.line.replace_range(start..self.cursor, &common);
            self.cursor = start + common.len();
        }
        self.offered = if found.len() > 1 { found } else { Vec::new() };
        Action::Draw
    }

    /// What the mouse does: the wheel scrolls the pane below it, a click gives keys to it.
    pub fn mouse(&mut self, event: MouseEvent, first: usize) -> Action {
        let at = Position { x: event.column, y: event.row };
        let pane = self.places.iter().find(|(_, area)| area.contains(at)).map(|(pane, _)| *pane);
        let Some(pane) = pane else { return Action::Nothing };
        const WHEEL: i64 = 3;
        match event.kind {
            MouseEventKind::ScrollUp => self.scroll_by(pane, -WHEEL, first),
            MouseEventKind::ScrollDown => self.scroll_by(pane, WHEEL, first),
            MouseEventKind::Down(_) => self.focus = pane,
            _ => return Action::Nothing,
        }
        Action::Draw
    }
}

/// The place, with a format, of a `memory` command, without the count.
fn memory_place(line: &str) -> Option<String> {
    let (word, rest) = line.trim().split_once(' ')?;
    let is_memory = !word.is_empty() && "memory".starts_with(&word.to_ascii_lowercase());
    is_memory.then(|| rest.trim().to_string())
}

/// The longest beginning that all texts share.
fn common_start(texts: &[String]) -> Option<String> {
    let first = texts.first()?;
    let shared = |text: &String| {
        first.char_indices().zip(text.chars()).take_while(|((_, a), b)| a == b).count()
    };
    let count = texts.iter().map(shared).min()?;
    Some(first.chars().take(count).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn press(state: &mut State, code: KeyCode) -> Action {
        let names = ["tide_mean".to_string(), "tide_table".to_string()];
        state.key(KeyEvent::new(code, KeyModifiers::NONE), &names, 0)
    }

    fn type_in(state: &mut State, text: &str) {
        text.chars().for_each(|c| drop(press(state, KeyCode::Char(c))));
    }

    #[test]
    fn arrows_travel_in_time_until_something_is_typed() {
        let mut state = State::new("rsp".into());
        assert_eq!(press(&mut state, KeyCode::Right), Action::Command("step".into()));
        assert_eq!(press(&mut state, KeyCode::Left), Action::Command("back".into()));
        type_in(&mut state, "who rx");
        assert_eq!(press(&mut state, KeyCode::Left), Action::Draw);
        type_in(&mut state, "a");
        assert_eq!(press(&mut state, KeyCode::Enter), Action::Command("who rax".into()));
        assert_eq!(press(&mut state, KeyCode::Enter), Action::Command(String::new()));
    }

    #[test]
    fn the_tabulator_completes_what_is_typed_and_offers_what_is_left() {
        let mut state = State::new("rsp".into());
        type_in(&mut state, "unti");
        press(&mut state, KeyCode::Tab);
        assert_eq!(state.line, "until ");
        type_in(&mut state, "ti");
        press(&mut state, KeyCode::Tab);
        assert_eq!((state.line.as_str(), state.offered.len()), ("until tide_", 2));
        press(&mut state, KeyCode::Esc);
        assert_eq!(press(&mut state, KeyCode::Tab), Action::Draw);
        assert_eq!(state.focus, Pane::Registers);
    }

    #[test]
    fn asking_for_memory_turns_the_pane_there() {
        let mut state = State::new("rsp".into());
        type_in(&mut state, "mem tide as signed");
        press(&mut state, KeyCode::Enter);
        assert_eq!(state.memory, "tide as signed");
    }

    #[test]
    fn every_pane_scrolls_when_it_has_the_focus() {
        let mut state = State::new("rsp".into());
        for pane in Pane::ALL {
            state.focus = pane;
            let up = pane == Pane::Output;
            press(&mut state, if up { KeyCode::PageUp } else { KeyCode::PageDown });
            let moved = state.scrolled(pane) > 0 || state.code_first.is_some();
            assert!(moved, "{pane:?}");
        }
        state.follow();
        assert!(Pane::ALL.iter().all(|&pane| state.scrolled(pane) == 0));
    }
}
