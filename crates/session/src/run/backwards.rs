//! Going back to the last time that something was so: a place, a breakpoint, a change of a watched value.
//!
//! The run is searched from the present backwards, a stretch between two checkpoints at a time: each stretch is executed
//! again, and the last hit in it counts.

use sotto_kernel::Stop;
use sotto_machine::{OnWrite, Watcher};

use crate::Session;
use crate::run::history::CHECKPOINT_EVERY;

/// What is looked for.
#[derive(Copy, Clone)]
enum Wanted<'a> {
    /// One of these addresses is next.
    Places(&'a [u64]),
    /// A breakpoint stops there.
    Breakpoint,
    /// A watched value changes.
    Change,
}

impl Session {
    /// Goes back to the last moment before this one at which one of some addresses was next. `false` if there is none; the
    /// session is where it was then.
    pub fn back_to(&mut self, places: &[u64], interrupted: &dyn Fn() -> bool) -> bool {
        self.back_to_last(Wanted::Places(places), interrupted).is_some()
    }

    /// Goes back to the last moment before this one at which a breakpoint stops the program; its number.
    pub fn back_to_breakpoint(&mut self, interrupted: &dyn Fn() -> bool) -> Option<u32> {
        self.back_to_last(Wanted::Breakpoint, interrupted)
    }

    /// Goes back to before the instruction that last changed a watched value; the number of the watch. The change is
    /// [`Session::watch_change`].
    pub fn back_to_change(&mut self, interrupted: &dyn Fn() -> bool) -> Option<u32> {
        let number = self.back_to_last(Wanted::Change, interrupted)?;
        self.back(1);
        Some(number)
    }

    fn back_to_last(&mut self, wanted: Wanted, interrupted: &dyn Fn() -> bool) -> Option<u32> {
        let (now, ending) = (self.moment(), self.ending());
        // What the last instruction changed was changed before now, and where a program was found dead it was alive.
        let is_change = matches!(wanted, Wanted::Change);
        let mut end = if ending.is_some() || is_change { now + 1 } else { now };
        while end > 0 && !interrupted() {
            let start = self.history.before(end - 1).executed();
            let start = start.max(end.saturating_sub(CHECKPOINT_EVERY));
            if let Some((moment, number)) = self.last_between(wanted, start, end) {
                self.go_to(moment);
                if let Wanted::Change = wanted {
                    // The values before the change are those of the moment before it.
                    self.go_to(moment - 1);
                    let values = self.watched_values();
                    self.go_to(moment);
                    self.changed_watch(&values);
                }
                return Some(number);
            }
            end = start;
        }
        self.return_to(now, ending);
        None
    }

    /// The last hit at a moment from `start` on and before `end`, and the number of what was hit.
    fn last_between(&mut self, wanted: Wanted, start: u64, end: u64) -> Option<(u64, u32)> {
        let stops = match wanted {
            Wanted::Places(places) => places.to_vec(),
            Wanted::Breakpoint => self.stops.addresses(),
            Wanted::Change => Vec::new(),
        };
        // A change shows at the moment after it, so that what comes before the stretch is looked at too.
        let first = match wanted {
            Wanted::Change => start.saturating_sub(1),
            _ => start,
        };
        self.go_to(first);
        let mut found = None;
        let mut values = self.watched_values();
        if self.moment() >= start
            && let Some(number) = self.hit(wanted, &stops)
        {
            found = Some((self.moment(), number));
        }
        while self.moment() + 1 < end {
            self.system.set_stops(&stops);
            let budget = end - 1 - self.moment();
            let before = self.moment();
            let stop = match wanted {
                Wanted::Change => {
                    let mut watcher = Watcher::new(self.watched(), OnWrite::Stop);
                    self.run_on(budget, Some(&mut watcher))
                }
                _ => self.run_on(budget, None),
            };
            let hit = match wanted {
                Wanted::Change => {
                    let old = std::mem::replace(&mut values, self.watched_values());
                    let value = |all: &[Option<crate::Evaluated>], at: usize| {
                        all[at].map(|evaluated| evaluated.value)
                    };
                    let changed = (0..old.len()).find(|&at| value(&old, at) != value(&values, at));
                    changed.map(|at| self.stops.watches[at].number)
                }
                _ => self.hit(wanted, &stops),
            };
            if let Some(number) = hit {
                found = Some((self.moment(), number));
            }
            let ended = matches!(
                stop,
                Stop::Terminated(_) | Stop::NeedsInput | Stop::Stuck | Stop::MemoryLimit
            );
            if ended || self.moment() == before {
                break;
            }
        }
        self.system.set_stops(&[]);
        found.filter(|(moment, _)| *moment < end)
    }

    /// What is hit now.
    fn hit(&mut self, wanted: Wanted, stops: &[u64]) -> Option<u32> {
        let pc = self.system.machine.pc();
        if self.ending().is_some() || !stops.contains(&pc) {
            return None;
        }
        match wanted {
            Wanted::Places(_) => Some(0),
            Wanted::Breakpoint => self.arrive(pc),
            Wanted::Change => None,
        }
    }
}
