//! Which instruction last wrote a register, a flag or memory: a search over executing again.

use sotto_asm::{Binary, Expr};
use sotto_isa::{FlagSet, RegisterId, Storage, Width};
use sotto_kernel::{SpaceId, Stop};
use sotto_machine::{OnWrite, Watched, Watcher};

use crate::run::evaluate;
use crate::run::evaluate::EvaluateError;
use crate::run::lineage::Lineage;
use crate::run::variables::{VariableNow, place_now, variable_named, width_of};
use crate::{Session, StepReport};

/// Something that instructions write.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Target {
    /// A register, whichever part of it.
    Register(Storage),
    /// A register of a bank beside the general ones.
    BankRegister(RegisterId),
    /// Status flags.
    Flags(FlagSet),
    /// Bytes of memory: first address and how many.
    Memory(u64, u64),
}

/// The instruction that last wrote a target.
#[derive(Clone, PartialEq, Debug)]
pub struct Writer {
    /// What it did.
    pub report: StepReport,
    /// Instructions completed between before it and where the session was.
    pub ago: u64,
}

/// Who wrote a target last.
#[derive(Clone, PartialEq, Debug)]
pub enum Wrote {
    /// An instruction; the session is just before it now.
    Instruction(Box<Writer>),
    /// The person examining, at this moment; the session is where it was.
    Person(u64),
    /// Nothing since the start; the session is where it was.
    Nothing,
}

impl Wrote {
    /// The instruction that wrote, if one did.
    pub fn instruction(self) -> Option<Writer> {
        match self {
            Wrote::Instruction(writer) => Some(*writer),
            Wrote::Person(_) | Wrote::Nothing => None,
        }
    }
}

impl Target {
    /// It as something to look out for.
    pub(crate) fn watched(self) -> Watched {
        let mut watched = Watched::default();
        match self {
            Target::Register(storage) => watched.add_register(storage),
            Target::BankRegister(id) => watched.add_bank_register(id),
            Target::Flags(flags) => watched.add_flags(flags),
            Target::Memory(address, bytes) => watched.add_memory(address, bytes),
        }
        watched
    }
}

impl Session {
    /// What a text names as a target: a register, a flag by name or word, memory in brackets, or a symbol
    /// for what it labels.
    ///
    /// # Errors
    ///
    /// If it is no expression, or its address has no value.
    pub fn target(&mut self, text: &str) -> Result<Target, EvaluateError> {
        if let Some(info) = self.flag_named(text) {
            return Ok(Target::Flags(info.flag));
        }
        let expr = sotto_asm::parse_expression(self.arch(), text)
            .map_err(|diagnostic| EvaluateError::Syntax(diagnostic.message.clone()))?;
        if let Expr::Register(reg, _) = &expr {
            if let Some(id) = reg.id() {
                return Ok(Target::BankRegister(id));
            }
            let storage = reg.storage().ok_or(EvaluateError::Meaningless("the zero register"))?;
            return Ok(Target::Register(storage));
        }
        if let Expr::Symbol(name, _) = &expr
            && let Some(variable) = variable_named(&self.image, self.system.machine.pc(), name)
        {
            let now = place_now(&self.image, &mut self.system, variable);
            let bytes = width_of(variable.kind).map_or(1, Width::bytes);
            return match now.ok_or_else(|| EvaluateError::NoLocation(name.to_string()))? {
                VariableNow::Memory(address) => Ok(Target::Memory(address, bytes)),
                VariableNow::Register(storage) => Ok(Target::Register(storage)),
                VariableNow::BankRegister(id) => Ok(Target::BankRegister(id)),
            };
        }
        if self.is_counter(&expr) {
            return Ok(Target::Register(self.arch().pc()));
        }
        if let Expr::Symbol(name, _) = &expr
            && self.image().symbol(name).is_none()
            && let Some(storage) = evaluate::storage_named(self.arch(), name)
        {
            return Err(EvaluateError::Unnamed(self.arch().storage_name(storage)));
        }
        let (width, address) = match &expr {
            Expr::Load(width, address) => (*width, &**address),
            other if self.is_place(other) => (None, other),
            _ => return Err(EvaluateError::NoTarget(text.trim().to_string())),
        };
        let declared = evaluate::declared_width(self.image(), address);
        let bytes = width.or(declared).unwrap_or(self.arch().address_width()).bytes();
        let address = self.evaluate_expr(address)?.value as u64;
        Ok(Target::Memory(address, bytes))
    }

    /// Whether an expression is a symbol's address, or one at a distance from it.
    fn is_place(&self, expr: &Expr) -> bool {
        match expr {
            // A name that is not known is told of as such.
            Expr::Symbol(name, _) => {
                self.image().symbol(name).is_none_or(|symbol| !symbol.absolute)
            }
            Expr::Binary(Binary::Add | Binary::Subtract, place, distance) => {
                self.is_place(place) && matches!(**distance, Expr::Number(_))
            }
            _ => false,
        }
    }

    /// Whether the expression is nothing but the instruction pointer, by a name that no symbol has.
    pub(crate) fn is_counter(&self, expr: &Expr) -> bool {
        matches!(expr, Expr::Symbol(name, _)
            if evaluate::is_counter(self.arch(), name) && self.image().symbol(name).is_none())
    }

    /// Who last wrote the target. If an instruction did, the session is then just before it.
    pub fn who(&mut self, target: Target) -> Wrote {
        let (now, ending) = (self.moment(), self.ending());
        let edited = self.last_edit_of(target, now);
        let since = edited.unwrap_or(0);
        let found = match target {
            // Every instruction writes where the next one is.
            Target::Register(storage)
                if storage == self.arch().pc() && self.system.tasks().count() == 1 =>
            {
                now.checked_sub(1).filter(|moment| *moment >= since)
            }
            _ => self.last_write(&target.watched(), since),
        };
        let Some(moment) = found else {
            self.return_to(now, ending);
            return edited.map_or(Wrote::Nothing, Wrote::Person);
        };
        self.go_to(moment);
        let report = self.step_plainly().0;
        self.go_to(moment);
        match report {
            Some(report) => Wrote::Instruction(Box::new(Writer { report, ago: now - moment })),
            None => Wrote::Nothing,
        }
    }

    /// The moment before the last instruction that wrote something watched, registers by the task that is shown, up to now
    /// and not before the moment `since`. The session is somewhere else afterwards.
    ///
    /// The latest checkpoint first: what was written lately is found soon. Between two checkpoints
    /// that share the pages of watched memory nothing has written there, and nothing is executed.
    pub(crate) fn last_write(&mut self, watched: &Watched, since: u64) -> Option<u64> {
        let mut lineage = Lineage::of(&self.system);
        let mut end = self.moment();
        while end > since {
            let born = lineage.go_back_to(end);
            let Lineage { space, task, .. } = lineage;
            let start = self.history.before(end - 1).executed();
            let from = start.max(born);
            if from > start || !self.is_untouched_between(watched, space, start, end) {
                let mut watcher = Watcher::new(watched.clone(), OnWrite::Note)
                    .of_task(u64::from(task.0))
                    .in_space(u64::from(space.0));
                self.watch_through(from.max(since), end, &mut watcher);
                if let Some(moment) = watcher.last_write() {
                    return Some(moment);
                }
            }
            end = from;
        }
        None
    }

    /// Whether both moments have checkpoints, next to each other, that share all pages of what is watched.
    pub(crate) fn is_untouched_between(
        &self,
        watched: &Watched,
        space: SpaceId,
        start: u64,
        end: u64,
    ) -> bool {
        watched.is_memory_only()
            && self.history.after(start).is_some_and(|later| {
                let (a, b) = (self.history.before(start), later);
                let unchanged = |range| {
                    let (before, after) = (a.memory(space), b.memory(space));
                    before.zip(after).is_some_and(|(a, b)| a.is_untouched_until(b, range))
                };
                a.executed() == start
                    && later.executed() == end
                    && watched.memory().iter().all(unchanged)
            })
    }

    /// Executes again what was between two moments, under a watcher.
    pub(crate) fn watch_through(&mut self, start: u64, end: u64, watcher: &mut Watcher) {
        if self.moment() != start {
            self.restore_before(start);
            self.system.set_stops(&[]);
            self.advance_to(start);
        }
        self.system.set_stops(&[]);
        while self.moment() < end {
            match self.run_on(end - self.moment(), Some(watcher)) {
                Stop::NeedsInput | Stop::Stuck | Stop::MemoryLimit | Stop::Terminated(_) => break,
                Stop::Paused
                | Stop::Unfinished
                | Stop::Switched
                | Stop::Delivered(_)
                | Stop::AtCall
                | Stop::Budget
                | Stop::Output
                | Stop::Place
                | Stop::Written => {}
            }
        }
    }

    /// What the next instruction would do, without doing it; `None` if it would not complete.
    pub fn ahead(&mut self) -> Option<StepReport> {
        let snapshot = self.system_mut().snapshot();
        let writers = std::mem::take(&mut self.writers);
        let (compared, furthest) = (self.compared.clone(), self.furthest);
        let (report, _) = self.step_plainly();
        self.system_mut().restore(&snapshot);
        self.show_selected();
        (self.writers, self.compared, self.furthest) = (writers, compared, furthest);
        report
    }
}
