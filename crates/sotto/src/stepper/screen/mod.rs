//! The full-screen view: the same commands and reports as line by line, drawn.
//!
//! Data flows one way: a key becomes a command, the commander carries it out, a [`ViewModel`] is gathered from
//! the session, and drawing is a function of it. The terminal is given back on every way out.

mod draw;
mod fold;
mod state;
mod theme;
pub(crate) mod view_model;

use std::cell::{Cell, RefCell};
use std::collections::VecDeque;
use std::io::{self, Write};
use std::time::{Duration, Instant};

use crossterm::event::{
    self, DisableMouseCapture, EnableMouseCapture, Event, KeyCode, KeyEventKind, KeyModifiers,
    MouseEvent, MouseEventKind,
};
use crossterm::terminal::{BeginSynchronizedUpdate, EndSynchronizedUpdate};
use crossterm::{execute, queue};
use ratatui::DefaultTerminal;

use crate::console::{Tone, paint};
use crate::interrupt;
use crate::output::Failure;
use crate::render;
use crate::stepper::line::commander::{Answers, Commander, Outcome};
use crate::stepper::line::grammar;
use draw::Layout;
use state::{Action, Pane, State};
use theme::Theme;
use view_model::{Before, ViewModel};

/// Runs the full-screen view until it is left.
///
/// # Errors
///
/// If the terminal cannot be used.
pub fn run(commander: &mut Commander, at: Option<&str>, mouse: bool) -> Result<(), Failure> {
    commander.answers = Answers::Collect(Vec::new());
    if let Some(place) = at {
        commander.go_until(place)?;
    }
    let failed = |error: io::Error| Failure::plain(format!("cannot use the terminal: {error}"));
    // This also has panics give the terminal back.
    let mut terminal = ratatui::try_init().map_err(failed)?;
    if mouse {
        execute!(io::stdout(), EnableMouseCapture).map_err(failed)?;
        let next = std::panic::take_hook();
        std::panic::set_hook(Box::new(move |panic| {
            give_back();
            next(panic);
        }));
    }
    give_back_when_killed();
    interrupt::ask_also(stop_key);
    let mut screen = Screen::new(commander);
    let result = screen.live(&mut terminal);
    give_back();
    match result {
        // A terminal that went away has nobody to tell.
        Err(error) if error.kind() == io::ErrorKind::BrokenPipe => Ok(()),
        other => other.map_err(failed),
    }
}

struct Screen<'a> {
    commander: &'a mut Commander,
    state: State,
    theme: Theme,
    before: Before,
    picture: ViewModel,
    title: String,
}

impl<'a> Screen<'a> {
    fn new(commander: &'a mut Commander) -> Screen<'a> {
        let arch = commander.session.arch();
        let memory = arch.storage_name(arch.stack_pointer()).to_string();
        let mut state = State::new(first_data(commander).unwrap_or(memory));
        let rows = arch.convention().groups.iter().map(|group| group.registers.len());
        state.registers = rows.sum::<usize>() as u16;
        state.flags = arch.flags().len() as u16;
        let title = format!("{}  {arch}", commander.name());
        let greeting = "`help` or F1 lists what can be done; the arrow keys travel in time";
        let mut said = vec![paint(Tone::Quiet, greeting)];
        said.extend(commander.notice.take().map(|notice| paint(Tone::Warning, &notice)));
        state.answer(said);
        let (theme, before) = (Theme::of_environment(), Before::default());
        Screen { commander, state, theme, before, picture: ViewModel::default(), title }
    }

    fn live(&mut self, terminal: &mut DefaultTerminal) -> io::Result<()> {
        self.gather(terminal)?;
        loop {
            self.draw(terminal)?;
            let wish = match next_event()? {
                Event::Key(key) if key.kind != KeyEventKind::Release => {
                    let names = self.commander.names();
                    self.state.key(key, &names, self.picture.code_first)
                }
                Event::Mouse(mouse) => match self.clicked_line(&mouse) {
                    Some(command) => Action::Command(command),
                    None => self.state.mouse(mouse, self.picture.code_first),
                },
                Event::Paste(text) => {
                    self.state.line.push_str(text.trim_end());
                    self.state.cursor = self.state.line.len();
                    Action::Draw
                }
                Event::Resize(..) => Action::Draw,
                _ => Action::Nothing,
            };
            match wish {
                Action::Nothing => continue,
                Action::Draw => {}
                Action::Redraw => draw_anew(terminal)?,
                Action::Leave => return Ok(()),
                Action::Suspend => suspend(terminal)?,
                Action::Command(line) => {
                    if self.command(&line, terminal)? == Outcome::Quit {
                        return Ok(());
                    }
                }
            }
            self.gather(terminal)?;
        }
    }

    fn command(&mut self, line: &str, terminal: &mut DefaultTerminal) -> io::Result<Outcome> {
        interrupt::take();
        RUNNING.with(|running| running.set(Some(Instant::now())));
        let heard = self.commander.execute_line(line);
        // What was said while it ran stands where nobody drew it.
        if RUNNING.with(|running| running.take().is_none()) {
            draw_anew(terminal)?;
        }
        interrupt::take();
        self.state.follow();
        let mut answers = self.commander.take_answers();
        if answers.is_empty() && !line.trim().is_empty() {
            let moment = render::thousands(self.commander.session.moment());
            answers.push(paint(Tone::Quiet, &format!("at #{moment}")));
        }
        self.state.moved = grammar::moves(line, self.commander.session.arch());
        self.state.answer(answers);
        Ok(heard)
    }

    /// The command that a click on a line's number stands for: a breakpoint there, or none any more.
    fn clicked_line(&self, mouse: &MouseEvent) -> Option<String> {
        /// Columns of marks and numbers.
        const NUMBERS: u16 = 8;
        let MouseEventKind::Down(_) = mouse.kind else { return None };
        let (_, area) = self.state.places.iter().find(|(pane, _)| *pane == Pane::Source)?;
        let row = mouse.row.checked_sub(area.y + 1).filter(|row| row + 1 < area.height)?;
        let line = self.picture.code.get(usize::from(row)).filter(|line| !line.is_instruction)?;
        if mouse.column >= area.x + NUMBERS {
            return None;
        }
        let place = format!("{}:{}", self.picture.file, line.label);
        if !line.breakpoint {
            return Some(format!("break at {place}"));
        }
        let number = line.label.parse::<u32>().ok()?;
        let session = &self.commander.session;
        let here = session.breakpoints().iter().find(|breakpoint| {
            breakpoint.addresses.iter().any(|&at| session.place(at).line == Some(number))
        });
        here.map(|breakpoint| format!("unbreak {}", breakpoint.number))
    }

    fn gather(&mut self, terminal: &DefaultTerminal) -> io::Result<()> {
        let size = terminal.size()?;
        let layout = Layout::of((ratatui::layout::Position::ORIGIN, size).into(), &self.state);
        let wanted = layout.wanted(&self.state);
        self.picture = ViewModel::gather(self.commander, &wanted, &mut self.before);
        self.state.instructions_drawn = self.picture.code.iter().any(|line| line.is_instruction);
        Ok(())
    }

    fn draw(&mut self, terminal: &mut DefaultTerminal) -> io::Result<()> {
        // A terminal that knows this shows the frame at once and not as it comes.
        queue!(io::stdout(), BeginSynchronizedUpdate)?;
        let Screen { picture, state, theme, title, .. } = self;
        terminal.draw(|frame| draw::draw(frame, picture, state, theme, title))?;
        execute!(io::stdout(), EndSynchronizedUpdate)
    }
}

/// The first labelled datum of the program, as something for the memory pane to follow.
fn first_data(commander: &Commander) -> Option<String> {
    let image = commander.session.image();
    let data = || image.symbols.iter().filter(|symbol| symbol.datum.is_some());
    let writable = |symbol: &&_| is_writable(image, symbol);
    data().find(writable).or_else(|| data().next()).map(|symbol| symbol.name.clone())
}

fn is_writable(image: &sotto_object::Image, symbol: &sotto_object::ImageSymbol) -> bool {
    image.segment_at(symbol.address).is_some_and(|segment| segment.write)
}

/// The next event: one that came while a command was carried out, or one to be waited for. Signals that
/// interrupt waiting are no events.
fn next_event() -> io::Result<Event> {
    if let Some(event) = EARLY.with(|early| early.borrow_mut().pop_front()) {
        return Ok(event);
    }
    loop {
        match event::read() {
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            other => return other,
        }
    }
}

thread_local! {
    /// When the command that is being carried out began; `None` once it was said that it takes long.
    static RUNNING: Cell<Option<Instant>> = const { Cell::new(None) };
    /// When keys were looked for last while a command was carried out.
    static LOOKED: Cell<Option<Instant>> = const { Cell::new(None) };
    /// Events that came meanwhile, to be taken up after it.
    static EARLY: RefCell<VecDeque<Event>> = const { RefCell::new(VecDeque::new()) };
}

/// Whether a key was pressed that stops a run. Says that the program runs, if that takes long.
fn stop_key() -> bool {
    const LONG: Duration = Duration::from_millis(300);
    if RUNNING.with(|running| running.get()).is_some_and(|since| since.elapsed() > LONG) {
        RUNNING.with(|running| running.set(None));
        let mut out = io::stdout();
        if let Ok((_, rows)) = crossterm::terminal::size() {
            let at = crossterm::cursor::MoveTo(0, rows.saturating_sub(1));
            let text = crossterm::style::Print(" running; Esc or Ctrl-C stops it ");
            let _ = queue!(out, at, text);
            let _ = out.flush();
        }
    }
    // Looking for keys waits a little, so it is not done all the time.
    const EVERY: Duration = Duration::from_millis(40);
    if LOOKED.with(Cell::get).is_some_and(|last| last.elapsed() < EVERY) {
        return false;
    }
    LOOKED.with(|looked| looked.set(Some(Instant::now())));
    while let Ok(true) = event::poll(Duration::from_millis(1)) {
        let Ok(event) = event::read() else { continue };
        if let Event::Key(key) = &event {
            let control = key.modifiers.contains(KeyModifiers::CONTROL);
            if key.code == KeyCode::Esc || (control && key.code == KeyCode::Char('c')) {
                return true;
            }
        }
        EARLY.with(|early| early.borrow_mut().push_back(event));
    }
    false
}

/// Gives the terminal back as it was.
fn give_back() {
    let _ = execute!(io::stdout(), DisableMouseCapture);
    ratatui::restore();
}

/// Gives the terminal to the shell until it goes on with us.
fn suspend(terminal: &mut DefaultTerminal) -> io::Result<()> {
    give_back();
    // SIGTSTP would come from the key, were keys not ours here.
    let _ = nix::sys::signal::raise(nix::sys::signal::Signal::SIGTSTP);
    *terminal = ratatui::try_init()?;
    draw_anew(terminal)
}

/// Has the next frame drawn whole. Unlike `Terminal::clear` this asks the terminal nothing, which may not
/// answer.
fn draw_anew(terminal: &mut DefaultTerminal) -> io::Result<()> {
    let size = terminal.size()?;
    terminal.resize((ratatui::layout::Position::ORIGIN, size).into())
}

/// Has signals that end us give the terminal back first.
fn give_back_when_killed() {
    use nix::libc;
    // Those that do not end a process, or cannot be waited for. Source: signal(7), "Standard signals".
    const OTHERS: [i32; 9] = [
        libc::SIGKILL,
        libc::SIGSTOP,
        libc::SIGTSTP,
        libc::SIGTTIN,
        libc::SIGTTOU,
        libc::SIGCONT,
        libc::SIGCHLD,
        libc::SIGURG,
        libc::SIGWINCH,
    ];
    // SAFETY: an all-zero `sigset_t` is a value, which sigemptyset(3) then sets up.
    let mut signals: libc::sigset_t = unsafe { std::mem::zeroed() };
    // SAFETY: the set is ours; numbers that are no signal are refused and change nothing.
    unsafe {
        libc::sigemptyset(&mut signals);
        for number in (1..=libc::SIGRTMAX()).filter(|number| !OTHERS.contains(number)) {
            libc::sigaddset(&mut signals, number);
        }
    }
    // The thread waits for them, so that whatever it does then is allowed; the others leave them to it.
    // SAFETY: both pointers are valid or null as pthread_sigmask(3) allows.
    if unsafe { libc::pthread_sigmask(libc::SIG_BLOCK, &signals, std::ptr::null_mut()) } != 0 {
        return;
    }
    std::thread::spawn(move || {
        let mut number = 0;
        // SAFETY: both pointers are to values of this thread.
        if unsafe { libc::sigwait(&signals, &mut number) } == 0 {
            give_back();
            std::process::exit(128 + number);
        }
    });
}
