//! Time: checkpoints, going to a moment, and changes by the person examining.
//!
//! A moment is a number of completed instructions. Executing again from a checkpoint gives the same
//! states, since execution is deterministic: the clock is the count of instructions, input is a log,
//! and what a person changed is a log too, made again when its moment is reached.
//!
//! Checkpoints are kept within a number of bytes. When there are too many, those go first whose
//! neighbours are close together for how far away they are, so that they lie dense around the present
//! and thin out with distance.

use sotto_isa::{FlagSet, RegisterId, RegisterValue, Storage};
use std::sync::Arc;

use sotto_kernel::{CompletedCall, Stop, System, SystemSnapshot, TaskId, Termination};
use sotto_machine::{Signal, Watcher};

use crate::{Session, StopReason, Target};

/// Instructions between checkpoints while the program runs on.
pub(crate) const CHECKPOINT_EVERY: u64 = 1 << 20;
/// Instructions before a moment that was gone back to at which one more checkpoint is kept.
const NEAR: u64 = 1 << 15;
/// Bytes that checkpoints may take together.
const MAX_BYTES: usize = 128 << 20;

/// Something that a person changed.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) enum Edit {
    /// A whole storage register.
    Register(Storage, u64),
    /// A register of a bank beside the general ones.
    BankRegister(RegisterId, RegisterValue),
    /// All status flags.
    Flags(FlagSet),
    /// Bytes of memory.
    Memory(u64, Vec<u8>),
    /// A signal; whether the running task was in a call that waits.
    Signal(Signal, bool),
}

impl Edit {
    pub fn apply(&self, system: &mut System) {
        match self {
            Edit::Register(storage, value) => system.machine.set_register(*storage, *value),
            Edit::BankRegister(id, value) => system.machine.set_bank_register(*id, *value),
            Edit::Flags(flags) => system.machine.set_flags(*flags),
            Edit::Signal(signal, in_wait) => system.send_signal(*signal, *in_wait),
            Edit::Memory(address, bytes) => {
                // Whoever made the edit has seen that the bytes are there.
                let _ = system.machine.memory_mut().load(*address, bytes);
            }
        }
    }
}

/// A checkpoint.
struct Checkpoint {
    snapshot: SystemSnapshot,
    /// Bytes that it takes beyond what the one before it has.
    bytes: usize,
    /// It stays whatever it takes: the start.
    pinned: bool,
}

/// Checkpoints and changes of a run, by ascending moment.
pub(crate) struct History {
    checkpoints: Vec<Checkpoint>,
    bytes: usize,
    /// The moment of each change, the task whose registers were shown, and what was changed.
    edits: Vec<(u64, TaskId, Edit)>,
}

impl History {
    /// A history that starts here.
    pub fn new(system: &mut System) -> History {
        let first = Checkpoint { snapshot: system.snapshot(), bytes: 0, pinned: true };
        History { checkpoints: vec![first], bytes: 0, edits: Vec::new() }
    }

    /// The latest checkpoint that is not after `moment`.
    pub fn before(&self, moment: u64) -> &SystemSnapshot {
        let after = self.checkpoints.partition_point(|c| c.snapshot.executed() <= moment);
        &self.checkpoints[after.saturating_sub(1)].snapshot
    }

    /// The checkpoint after a moment, if there is one.
    pub fn after(&self, moment: u64) -> Option<&SystemSnapshot> {
        let after = self.checkpoints.partition_point(|c| c.snapshot.executed() <= moment);
        self.checkpoints.get(after).map(|checkpoint| &checkpoint.snapshot)
    }

    /// The program as it was loaded.
    pub fn start(&self) -> &SystemSnapshot {
        &self.checkpoints[0].snapshot
    }

    /// Bytes that the checkpoints take.
    pub fn bytes(&self) -> usize {
        self.bytes
    }

    /// Keeps the present if the last moment kept before it is long ago.
    pub fn keep(&mut self, system: &mut System) {
        let now = system.executed();
        let at = self.checkpoints.partition_point(|c| c.snapshot.executed() <= now);
        let last = self.checkpoints[at - 1].snapshot.executed();
        // What has ended is not kept: executing again leads there. The middle of an instruction is no moment.
        if now < last + CHECKPOINT_EVERY || system.ending().is_some() || system.is_unfinished() {
            return;
        }
        self.insert(at, system.snapshot());
        self.thin_if_full(now);
    }

    /// Keeps the present, however short ago the last moment was kept.
    fn keep_here(&mut self, system: &mut System) {
        let now = system.executed();
        let at = self.checkpoints.partition_point(|c| c.snapshot.executed() <= now);
        let is_moment = system.ending().is_none() && !system.is_unfinished();
        if self.checkpoints[at - 1].snapshot.executed() < now && is_moment {
            self.insert(at, system.snapshot());
            self.thin_if_full(now);
        }
    }

    /// Bytes of a snapshot that are not in the one before it.
    fn cost(&self, at: usize, snapshot: &SystemSnapshot) -> usize {
        snapshot.memory_bytes_not_in(&self.checkpoints[at - 1].snapshot) + snapshot.own_bytes()
    }

    fn insert(&mut self, at: usize, snapshot: SystemSnapshot) {
        let bytes = self.cost(at, &snapshot);
        self.bytes += bytes;
        self.checkpoints.insert(at, Checkpoint { snapshot, bytes, pinned: false });
        self.count_again(at + 1);
    }

    fn remove(&mut self, at: usize) {
        let removed = self.checkpoints.remove(at);
        self.bytes -= removed.bytes;
        self.count_again(at);
    }

    /// Counts the bytes of a checkpoint again, since the one before it is another.
    fn count_again(&mut self, at: usize) {
        if at == 0 || at >= self.checkpoints.len() {
            return;
        }
        let bytes = self.cost(at, &self.checkpoints[at].snapshot);
        self.bytes = self.bytes - self.checkpoints[at].bytes + bytes;
        self.checkpoints[at].bytes = bytes;
    }

    /// Drops checkpoints, when they take more than they may, until a quarter of the room is free; not the one
    /// of `now`, which was just kept.
    fn thin_if_full(&mut self, now: u64) {
        if self.bytes <= MAX_BYTES {
            return;
        }
        while self.bytes > MAX_BYTES / 4 * 3 {
            let moment = |at: usize| self.checkpoints[at].snapshot.executed();
            let spread = |at: usize| {
                let gap = moment(at + 1) - moment(at - 1);
                gap as f64 / (moment(at).abs_diff(now) + CHECKPOINT_EVERY) as f64
            };
            let inner = 1..self.checkpoints.len().saturating_sub(1);
            let victim = inner
                .filter(|&at| !self.checkpoints[at].pinned && moment(at) != now)
                .min_by(|&a, &b| spread(a).total_cmp(&spread(b)));
            match victim {
                Some(at) => self.remove(at),
                None => return,
            }
        }
    }

    /// Forgets what was after a moment, and the checkpoints of the moment itself; what was changed at it
    /// stays.
    fn cut(&mut self, moment: u64) {
        let first = self.checkpoints.partition_point(|c| c.snapshot.executed() < moment).max(1);
        while self.checkpoints.len() > first {
            self.remove(self.checkpoints.len() - 1);
        }
        self.edits.retain(|(when, ..)| *when <= moment);
    }

    /// The first moment after `moment` at which something was changed.
    fn next_edit(&self, moment: u64) -> Option<u64> {
        let after = self.edits.partition_point(|(when, ..)| *when <= moment);
        self.edits.get(after).map(|(when, ..)| *when)
    }

    /// The changes of a moment.
    fn edits_at(&self, moment: u64) -> impl Iterator<Item = (TaskId, &Edit)> {
        let edits = self.edits.iter().filter(move |(when, ..)| *when == moment);
        edits.map(|(_, task, edit)| (*task, edit))
    }
}

impl Session {
    /// Goes to a moment, earlier or later. Later moments are reached by running without stops.
    pub fn go_to(&mut self, moment: u64) -> StopReason {
        self.system.show_running();
        self.system.set_stops(&[]);
        if moment < self.moment() {
            self.restore_before(moment);
            // Whoever goes back once goes back again, to a moment close by.
            let near = moment.saturating_sub(NEAR);
            if near > self.moment() + NEAR {
                self.advance_to(near);
                self.history.keep_here(&mut self.system);
            }
        }
        self.advance_to(moment)
    }

    /// Puts the process back to the latest checkpoint that is not after a moment.
    pub(crate) fn restore_before(&mut self, moment: u64) {
        self.system.restore(self.history.before(moment));
        if self.moment() == 0 {
            // The start is kept as it was loaded.
            self.make_edits();
        }
        self.writers.forget();
    }

    /// Makes the changes of this moment again.
    fn make_edits(&mut self) {
        for (task, edit) in self.history.edits_at(self.system.executed()) {
            self.system.show_task(task);
            edit.apply(&mut self.system);
        }
        self.system.show_running();
    }

    /// Runs on, at most to the next change that a person made, and makes that.
    pub(crate) fn run_on(&mut self, budget: u64, watcher: Option<&mut Watcher>) -> Stop {
        let before = self.moment();
        let to_edit = self.history.next_edit(before).map_or(u64::MAX, |when| when - before);
        let budget = budget.min(CHECKPOINT_EVERY).min(to_edit);
        self.writers.forget();
        let stop = match watcher {
            Some(watcher) => self.system.run_watched(budget, watcher).stop,
            None => self.system.run(budget).stop,
        };
        if self.moment() > before {
            self.make_edits();
        }
        self.history.keep(&mut self.system);
        self.furthest = self.furthest.max(self.moment());
        stop
    }

    /// If an instruction was begun and not completed, goes back to before it.
    pub(crate) fn settle(&mut self) {
        if self.system.is_unfinished() {
            let moment = self.moment();
            self.system.set_stops(&[]);
            self.restore_before(moment);
            self.advance_to(moment);
        }
    }

    /// Executes one instruction, makes the changes of the moment after it, and keeps checkpoints.
    pub(crate) fn step_system(
        &mut self,
    ) -> (sotto_machine::Step, Option<Arc<CompletedCall>>, Stop) {
        let before = self.moment();
        let result = self.system.step();
        if self.moment() > before {
            self.make_edits();
        }
        result
    }

    /// Runs to a moment, keeping checkpoints on the way.
    pub(crate) fn advance_to(&mut self, moment: u64) -> StopReason {
        while self.moment() < moment {
            match self.run_on(moment - self.moment(), None) {
                Stop::Budget
                | Stop::Paused
                | Stop::Unfinished
                | Stop::Switched
                | Stop::Delivered(_)
                | Stop::Output
                | Stop::AtCall
                | Stop::Written => {}
                Stop::MemoryLimit => return StopReason::MemoryLimit,
                Stop::Place => return StopReason::Place,
                Stop::NeedsInput => return StopReason::NeedsInput,
                Stop::Stuck => return self.found_stuck(),
                Stop::Terminated(_) => return StopReason::Terminated,
            }
        }
        StopReason::Done
    }

    /// Goes back by a number of instructions.
    pub fn back(&mut self, count: u64) -> StopReason {
        let moment = self.moment();
        // An instruction that faulted was not completed: going back from it is to before it.
        let ended_by_fault = matches!(self.ending(), Some(Termination::Killed(..)));
        let target = match ended_by_fault {
            true => (moment + 1).saturating_sub(count),
            false => moment.saturating_sub(count),
        };
        if moment == 0 && !ended_by_fault {
            return StopReason::AtStart;
        }
        if ended_by_fault && target == moment {
            // The same moment, before the fault.
            self.restore_before(moment);
            self.system.set_stops(&[]);
            return self.advance_to(moment);
        }
        self.go_to(target);
        if moment < count { StopReason::AtStart } else { StopReason::Done }
    }

    /// Goes back to the start of the line before: of the instructions that were executed for it in a row,
    /// with what they called, the first.
    pub fn back_line(&mut self) -> StopReason {
        if self.image.lines.at(self.system.machine.pc()).is_none() || self.ending().is_some() {
            return self.back(1);
        }
        if self.moment() == 0 {
            return StopReason::AtStart;
        }
        let Some(before) = self.last_elsewhere() else {
            self.go_to(0);
            return StopReason::AtStart;
        };
        self.go_to(before);
        let start = self.last_elsewhere().map_or(0, |moment| moment + 1);
        self.go_to(start);
        StopReason::Done
    }

    /// The latest moment before this one at which an instruction of another line was next, in this routine
    /// or one that called it. The session is somewhere else afterwards.
    fn last_elsewhere(&mut self) -> Option<u64> {
        let line = |session: &Session| session.image.lines.at(session.system.machine.pc());
        let (here, depth) = (line(self), self.system.machine.calls().len());
        let task = self.system.running_task();
        let mut end = self.moment();
        while end > 0 {
            // What was called meanwhile is gone over at once.
            self.go_to(end - 1);
            if self.system.running_task() == task
                && let Some(call) = self.system.machine.calls().get(depth)
            {
                end = call.moment.min(end - 1);
                continue;
            }
            let start = end.saturating_sub(LINE_SLICE);
            self.go_to(start);
            let mut found = None;
            while self.moment() < end {
                if self.system.running_task() == task
                    && self.system.machine.calls().len() <= depth
                    && line(self) != here
                {
                    found = Some(self.moment());
                }
                self.step_system();
            }
            if found.is_some() {
                return found;
            }
            end = start;
        }
        None
    }

    /// Goes back to where the routine that is running was called, before the call.
    pub fn back_out(&mut self) -> StopReason {
        match self.system.machine.calls().last().copied() {
            Some(call) => {
                self.go_to(call.moment.saturating_sub(1));
                StopReason::Done
            }
            None => {
                self.go_to(0);
                StopReason::AtStart
            }
        }
    }

    /// Goes to where the session was at `moment`, dead or alive.
    pub fn return_to(&mut self, moment: u64, ending: Option<Termination>) {
        self.go_to(moment);
        if ending.is_some() && self.ending().is_none() {
            self.go_back_to_the_end();
        }
        self.show_selected();
    }

    /// Runs on to where a program that had died was found dead.
    pub(crate) fn go_back_to_the_end(&mut self) {
        while let Stop::Budget
        | Stop::Paused
        | Stop::Unfinished
        | Stop::Switched
        | Stop::Delivered(_)
        | Stop::Output
        | Stop::AtCall = self.run_on(u64::MAX, None)
        {}
    }

    /// Makes a change, from which history goes on: what was after this moment is forgotten.
    pub(crate) fn edit(&mut self, edit: Edit) {
        self.stuck_at = None;
        let moment = self.moment();
        self.history.cut(moment);
        edit.apply(&mut self.system);
        self.history.edits.push((moment, self.system.shown_task(), edit));
        self.furthest = moment;
        self.branches.push(moment);
        self.trail.clear();
        self.writers.forget();
    }

    /// The moments at which something was changed by hand, ascending.
    pub fn edited_at(&self) -> Vec<u64> {
        let mut moments: Vec<u64> = self.history.edits.iter().map(|(when, ..)| *when).collect();
        moments.dedup();
        moments
    }

    /// Bytes that the history of the run takes.
    pub fn history_bytes(&self) -> usize {
        self.history.bytes()
    }
}

/// Instructions in which a line's start is looked for at once.
const LINE_SLICE: u64 = 4096;

impl Session {
    /// The last moment, up to now, at which a person changed a target of the task that is shown.
    pub(crate) fn last_edit_of(&self, target: Target, now: u64) -> Option<u64> {
        let shown = self.system.shown_task();
        let meets = |task: TaskId, edit: &Edit| match (edit, target) {
            (Edit::Register(a, _), Target::Register(b)) => *a == b && task == shown,
            (Edit::BankRegister(a, _), Target::BankRegister(b)) => *a == b && task == shown,
            (Edit::Flags(_), Target::Flags(_)) => task == shown,
            (Edit::Memory(at, bytes), Target::Memory(start, length)) => {
                *at < start.saturating_add(length) && start < at.saturating_add(bytes.len() as u64)
            }
            _ => false,
        };
        let edits = self.history.edits.iter().rev();
        let mut edits = edits.filter(|(when, ..)| *when <= now);
        edits.find(|(_, task, edit)| meets(*task, edit)).map(|(when, ..)| *when)
    }
}
