//! Where and why running stops: breakpoints and watched expressions.

use sotto_asm::Expr;
use sotto_isa::Width;
use sotto_kernel::TaskId;

use crate::run::evaluate;
use crate::run::evaluate::EvaluateError;
use crate::{Session, SessionError, StepReport};

/// A place where running stops.
#[derive(Clone, PartialEq, Debug)]
pub struct Breakpoint {
    /// Its number, from 1; watches count along.
    pub number: u32,
    /// The place as it was asked for.
    pub text: String,
    /// The addresses: several for a line of a macro.
    pub addresses: Vec<u64>,
    /// Stops only if this is not zero, as text and parsed.
    pub condition: Option<(String, Expr)>,
    /// Stops only this task, if it is of one.
    pub task: Option<TaskId>,
    /// Stops only from this arrival on, counted from 1.
    pub from_arrival: u64,
    /// When the program arrived here with the condition true, as far as it was seen.
    arrivals: Arrivals,
}

/// When a program arrived somewhere: each time, or of very many every so-manieth.
#[derive(Clone, PartialEq, Eq, Debug)]
struct Arrivals {
    /// The moments of every `every`th arrival.
    moments: Vec<u64>,
    every: u64,
    /// Arrivals since the last of these moments.
    since: u64,
    /// The moment of the last arrival.
    last: Option<u64>,
}

/// As many moments are kept of a breakpoint's arrivals.
const MOST_ARRIVALS: usize = 1 << 20;

impl Default for Arrivals {
    fn default() -> Arrivals {
        Arrivals { moments: Vec::new(), every: 1, since: 0, last: None }
    }
}

impl Arrivals {
    /// Arrivals up to a moment; of very many, to within the distance at which they are kept.
    fn until(&self, moment: u64) -> u64 {
        let known = self.moments.partition_point(|&when| when <= moment) as u64 * self.every;
        let all = self.last.is_some_and(|last| last <= moment);
        known + if all { self.since } else { 0 }
    }

    fn add(&mut self, moment: u64) {
        // What was counted before time went back is counted once.
        if self.last.is_some_and(|last| last >= moment) {
            return;
        }
        self.last = Some(moment);
        self.since += 1;
        if self.since < self.every {
            return;
        }
        self.since = 0;
        self.moments.push(moment);
        if self.moments.len() == MOST_ARRIVALS {
            let mut number = 0;
            self.moments.retain(|_| {
                number += 1;
                number % 2 == 0
            });
            self.every *= 2;
        }
    }
}

impl Breakpoint {
    /// How often the program has arrived here with the condition true, up to a moment.
    pub fn arrivals(&self, moment: u64) -> u64 {
        self.arrivals.until(moment)
    }
}

/// An expression; running stops when its value changes.
#[derive(Clone, PartialEq, Debug)]
pub struct Watch {
    /// Its number, from 1; breakpoints count along.
    pub number: u32,
    /// The expression as text.
    pub text: String,
    /// The task whose registers are meant.
    pub task: TaskId,
    expr: Expr,
}

/// A change of a watched expression.
#[derive(Clone, PartialEq, Debug)]
pub struct WatchChange {
    /// The watch's number.
    pub number: u32,
    /// Its expression.
    pub text: String,
    /// The value before; `None` if it had none.
    pub old: Option<i128>,
    /// The value now.
    pub new: Option<i128>,
    /// The width of what it came from, if that has one.
    pub width: Option<Width>,
    /// Where memory was read before and is read now, if its address is another: the memory need not have changed.
    pub moved: Option<(u64, u64)>,
    /// The instruction that changed it.
    pub report: StepReport,
}

/// Breakpoints and watches.
#[derive(Default)]
pub(crate) struct Stops {
    pub breakpoints: Vec<Breakpoint>,
    pub watches: Vec<Watch>,
    /// What the last watch stopped for.
    pub change: Option<WatchChange>,
    last_number: u32,
}

impl Stops {
    fn next_number(&mut self) -> u32 {
        self.last_number += 1;
        self.last_number
    }

    /// Addresses of all breakpoints.
    pub fn addresses(&self) -> Vec<u64> {
        self.breakpoints.iter().flat_map(|b| b.addresses.iter().copied()).collect()
    }
}

impl Session {
    /// Sets a breakpoint at a place, as [`Session::resolve_places`] reads it.
    ///
    /// # Errors
    ///
    /// If there is no code at the place, or the condition is no expression of known names.
    pub fn add_breakpoint(
        &mut self,
        place: &str,
        condition: Option<&str>,
        from_arrival: u64,
    ) -> Result<&Breakpoint, SessionError> {
        let addresses = self.resolve_places(place)?;
        let condition = match condition {
            Some(text) => Some((text.to_string(), self.parse_expression(text)?)),
            None => None,
        };
        let number = self.stops.next_number();
        let (text, arrivals) = (place.trim().to_string(), Arrivals::default());
        let breakpoint =
            Breakpoint { number, text, addresses, condition, task: None, from_arrival, arrivals };
        self.stops.breakpoints.push(breakpoint);
        Ok(self.stops.breakpoints.last().expect("pushed just now"))
    }

    /// Watches an expression.
    ///
    /// # Errors
    ///
    /// If it is no expression, or one of unknown names.
    pub fn add_watch(&mut self, text: &str) -> Result<&Watch, SessionError> {
        let mut expr = self.parse_expression(text)?;
        // A variable stays where it is while its routine runs, also where other routines do.
        if let Expr::Symbol(name, _) = &expr
            && let Some((address, width)) = self.variable_in_memory(name)
        {
            let address = Expr::Number(i128::from(address));
            expr = Expr::Load(Some(width), Box::new(address));
        }
        let number = self.stops.next_number();
        let (text, task) = (text.trim().to_string(), self.system.shown_task());
        self.stops.watches.push(Watch { number, text, task, expr });
        Ok(self.stops.watches.last().expect("pushed just now"))
    }

    /// An expression whose names are known. A value that is missing now may come later.
    fn parse_expression(&mut self, text: &str) -> Result<Expr, SessionError> {
        match self.evaluate(text) {
            Ok(_) | Err(EvaluateError::Unreadable(_) | EvaluateError::Arithmetic(_)) => {}
            Err(error) => return Err(error.into()),
        }
        sotto_asm::parse_expression(self.arch(), text)
            .map_err(|diagnostic| EvaluateError::Syntax(diagnostic.message.clone()).into())
    }

    /// The breakpoints, by number.
    pub fn breakpoints(&self) -> &[Breakpoint] {
        &self.stops.breakpoints
    }

    /// The watched expressions, by number.
    pub fn watches(&self) -> &[Watch] {
        &self.stops.watches
    }

    /// What the watch changed that running stopped for last.
    pub fn watch_change(&self) -> Option<&WatchChange> {
        self.stops.change.as_ref()
    }

    /// Lets a breakpoint stop one task alone, or any again.
    ///
    /// # Errors
    ///
    /// If there is none of this number.
    pub fn set_breakpoint_task(
        &mut self,
        number: u32,
        task: Option<TaskId>,
    ) -> Result<(), SessionError> {
        let mut breakpoints = self.stops.breakpoints.iter_mut();
        let breakpoint = breakpoints.find(|breakpoint| breakpoint.number == number);
        breakpoint.ok_or(SessionError::NoBreakpoint(number))?.task = task;
        Ok(())
    }

    /// Takes a breakpoint or a watch away.
    ///
    /// # Errors
    ///
    /// If there is none of this number.
    pub fn remove_stop(&mut self, number: u32) -> Result<(), SessionError> {
        let count = |stops: &Stops| stops.breakpoints.len() + stops.watches.len();
        let before = count(&self.stops);
        self.stops.breakpoints.retain(|breakpoint| breakpoint.number != number);
        self.stops.watches.retain(|watch| watch.number != number);
        if count(&self.stops) == before {
            return Err(SessionError::NoBreakpoint(number));
        }
        Ok(())
    }

    /// Notes that the program has arrived at an address. The breakpoint that stops it there, if one does;
    /// a condition without a value holds.
    pub(crate) fn arrive(&mut self, pc: u64) -> Option<u32> {
        let moment = self.system.executed();
        let (image, system) = (&self.image, &mut self.system);
        let mut stopped = None;
        for breakpoint in &mut self.stops.breakpoints {
            let is_other = breakpoint.task.is_some_and(|task| task != system.running_task());
            if is_other || !breakpoint.addresses.contains(&pc) {
                continue;
            }
            let holds = match &breakpoint.condition {
                None => true,
                Some((_, expr)) => evaluate::value(image, system, expr)
                    .map_or(true, |evaluated| evaluated.value != 0),
            };
            if !holds {
                continue;
            }
            breakpoint.arrivals.add(moment);
            if breakpoint.arrivals(moment) >= breakpoint.from_arrival && stopped.is_none() {
                stopped = Some(breakpoint.number);
            }
        }
        stopped
    }

    /// The values of the watched expressions now.
    pub(crate) fn watched_values(&mut self) -> Vec<Option<evaluate::Evaluated>> {
        let (image, system) = (&self.image, &mut self.system);
        let shown = system.shown_task();
        let value = |watch: &Watch| {
            // Of a task that has ended nothing has a value.
            let is_there = system.show_task(watch.task);
            is_there.then(|| evaluate::value(image, system, &watch.expr).ok()).flatten()
        };
        let values = self.stops.watches.iter().map(value).collect();
        self.system.show_task(shown);
        values
    }

    /// What the watched expressions depend on now.
    pub(crate) fn watched(&mut self) -> sotto_machine::Watched {
        let mut watched = sotto_machine::Watched::default();
        let shown = self.system.shown_task();
        for watch in &self.stops.watches {
            self.system.show_task(watch.task);
            evaluate::depends_on(&self.image, &mut self.system, &watch.expr, &mut watched);
        }
        self.system.show_task(shown);
        watched
    }

    /// The first watch whose value is another than it was, and the change; the instruction that was
    /// executed last made it.
    pub(crate) fn changed_watch(&mut self, before: &[Option<evaluate::Evaluated>]) -> Option<u32> {
        let now = self.watched_values();
        let value = |evaluated: &Option<evaluate::Evaluated>| evaluated.map(|e| e.value);
        let at = (0..now.len()).find(|&at| value(&before[at]) != value(&now[at]))?;
        let watch = self.stops.watches[at].clone();
        let (old, new) = (value(&before[at]), value(&now[at]));
        let width = now[at].or(before[at]).and_then(|evaluated| evaluated.width);
        let report = self.last_report()?;
        let moved = self.moved_address(&watch.expr);
        let Watch { number, text, .. } = watch;
        self.stops.change = Some(WatchChange { number, text, old, new, width, moved, report });
        Some(number)
    }

    /// The address of a memory operand before the last instruction and after it, if they differ.
    fn moved_address(&mut self, expr: &Expr) -> Option<(u64, u64)> {
        let Expr::Load(_, address) = expr else { return None };
        let (moment, ending) = (self.moment(), self.ending());
        let now = self.evaluate_expr(address).ok()?.value as u64;
        self.go_to(moment.checked_sub(1)?);
        let before = self.evaluate_expr(address).map(|evaluated| evaluated.value as u64);
        self.return_to(moment, ending);
        before.ok().filter(|before| *before != now).map(|before| (before, now))
    }

    /// What the instruction before this moment did; the session stays where it is.
    pub fn last_report(&mut self) -> Option<StepReport> {
        let (moment, ending) = (self.moment(), self.ending());
        self.go_to(moment.checked_sub(1)?);
        let report = self.step_plainly().0;
        if self.moment() != moment || self.ending() != ending {
            self.return_to(moment, ending);
        }
        report
    }
}
