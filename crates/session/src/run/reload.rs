//! Going on with a program that was made anew: after its source was changed, or with other arguments.

use sotto_kernel::{Startup, Stop, System};

use crate::run::history::History;
use crate::views::places::SourceText;
use crate::views::stack::SlotWriters;
use crate::{Session, SessionError};

/// What became of a session that was taken over.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct CarriedOver {
    /// Breakpoints and watches that the program has no place for any more, in words.
    pub lost: Vec<String>,
    /// The same line was reached as often as before.
    pub returned: bool,
}

/// Where one version of a text has the lines of another.
struct LineMap {
    old: Vec<String>,
    new: Vec<String>,
    /// Lines at the start, and at the end, that are the same in both.
    prefix: usize,
    suffix: usize,
}

impl LineMap {
    fn new(old: &str, new: &str) -> LineMap {
        let lines = |text: &str| text.lines().map(str::to_string).collect::<Vec<String>>();
        let (old, new) = (lines(old), lines(new));
        let prefix = old.iter().zip(&new).take_while(|(a, b)| a == b).count();
        let most = old.len().min(new.len()) - prefix;
        let pairs = old.iter().rev().zip(new.iter().rev());
        let suffix = pairs.take(most).take_while(|(a, b)| a == b).count();
        LineMap { old, new, prefix, suffix }
    }

    /// The line, from 1, that an old line has become: the one that says the same, else the one at its place.
    fn line(&self, line: u32) -> u32 {
        let index = line as usize - 1;
        if index < self.prefix || index >= self.old.len() {
            return line;
        }
        let from_end = self.old.len() - index;
        if from_end <= self.suffix {
            return (self.new.len() - from_end) as u32 + 1;
        }
        let changed = self.prefix..self.new.len() - self.suffix;
        let text = self.old[index].trim();
        let same = changed.clone().filter(|&at| self.new[at].trim() == text);
        let nearest = same.min_by_key(|&at| at.abs_diff(index));
        let last = changed.end.saturating_sub(1).max(changed.start);
        nearest.unwrap_or(index.clamp(changed.start, last)) as u32 + 1
    }
}

impl Session {
    /// Starts the program again, as it was loaded, without what was changed or fed. Breakpoints and
    /// watches stay; marks go.
    ///
    /// # Errors
    ///
    /// [`SessionError::Start`].
    pub fn restart(&mut self, startup: &Startup) -> Result<(), SessionError> {
        let mut system = System::start(self.program(), startup)?;
        system.machine.set_interrupt(self.interrupted);
        self.history = History::new(&mut system);
        self.system = system;
        self.marks.clear();
        self.writers = SlotWriters::default();
        self.compared = None;
        self.furthest = 0;
        self.stuck_at = None;
        self.trail.clear();
        self.branches.clear();
        Ok(())
    }

    /// Takes over the breakpoints, watches and input of an earlier session of the same program, and
    /// goes to the line where that was, as many times reached as there.
    pub fn take_over(
        &mut self,
        old: &mut Session,
        limit: u64,
        interrupted: &dyn Fn() -> bool,
    ) -> CarriedOver {
        let maps: Vec<(String, LineMap)> = old
            .sources()
            .iter()
            .filter_map(|before: &SourceText| {
                let after = self.sources().iter().find(|after| after.name == before.name)?;
                Some((before.name.clone(), LineMap::new(&before.text, &after.text)))
            })
            .collect();
        let moved = |file: &str, line: u32| {
            let map = maps.iter().find(|(name, _)| name == file);
            map.map_or(line, |(_, map)| map.line(line))
        };
        let mut lost = Vec::new();
        for breakpoint in old.breakpoints().to_vec() {
            let place = old.place(breakpoint.addresses[0]);
            let is_line =
                breakpoint.text.rsplit(':').next().is_some_and(|t| t.parse::<u32>().is_ok());
            let text = match (&place.file, place.line) {
                (Some(file), Some(line)) if is_line => format!("{file}:{}", moved(file, line)),
                _ => breakpoint.text.clone(),
            };
            let condition = breakpoint.condition.as_ref().map(|(text, _)| text.as_str());
            if let Err(error) = self.add_breakpoint(&text, condition, breakpoint.from_arrival) {
                lost.push(format!("breakpoint {} is gone: {error}", breakpoint.number));
            }
        }
        for watch in old.watches().to_vec() {
            if let Err(error) = self.add_watch(&watch.text) {
                lost.push(format!("watch {} is gone: {error}", watch.number));
            }
        }
        self.system.take_input_of(&old.system);
        let place = old.here();
        let returned = match (&place.file, place.line) {
            (Some(file), Some(line)) => {
                let times = old.times_reached(interrupted);
                let wanted = format!("{file}:{}", moved(file, line));
                match self.resolve_places(&wanted) {
                    Ok(addresses) => self.reach(&addresses, times, limit, interrupted),
                    Err(_) => false,
                }
            }
            _ => false,
        };
        CarriedOver { lost, returned }
    }

    /// How often the line that is next was reached, up to now.
    fn times_reached(&mut self, interrupted: &dyn Fn() -> bool) -> u64 {
        let (now, ending) = (self.moment(), self.ending());
        let pc = self.system.machine.pc();
        let Some(line) = self.image.lines.at(pc) else { return 0 };
        let addresses = self.image.lines.addresses_of(line.file, line.line);
        self.go_to(0);
        let mut times = u64::from(addresses.contains(&self.system.machine.pc()));
        self.system.set_stops(&addresses);
        while self.moment() < now && !interrupted() {
            match self.run_on(now - self.moment(), None) {
                Stop::NeedsInput | Stop::Stuck | Stop::MemoryLimit | Stop::Terminated(_) => break,
                Stop::Unfinished => {}
                _ => times += u64::from(addresses.contains(&self.system.machine.pc())),
            }
        }
        self.return_to(now, ending);
        times.max(1)
    }

    /// Runs until one of the addresses was reached so often; back at the start if that does not happen.
    fn reach(
        &mut self,
        addresses: &[u64],
        times: u64,
        limit: u64,
        interrupted: &dyn Fn() -> bool,
    ) -> bool {
        let mut left = times - u64::from(addresses.contains(&self.system.machine.pc())).min(times);
        self.system.set_stops(addresses);
        while left > 0 && self.moment() < limit && !interrupted() {
            match self.run_on(limit - self.moment(), None) {
                Stop::NeedsInput | Stop::Stuck | Stop::MemoryLimit | Stop::Terminated(_) => break,
                Stop::Unfinished => {}
                _ => left -= u64::from(addresses.contains(&self.system.machine.pc())),
            }
        }
        if left > 0 {
            self.go_to(0);
        }
        left == 0
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_found_again_where_text_was_put_in_or_changed() {
        let old = "lamp:\n mov eax, 1\n syscall\n ret\n";
        let inserted = LineMap::new(old, "lamp:\n nop\n mov eax, 1\n syscall\n ret\n");
        assert_eq!([1, 2, 3, 4].map(|line| inserted.line(line)), [1, 3, 4, 5]);
        let changed = LineMap::new(old, "lamp:\n mov eax, 2\n syscall\n ret\n");
        assert_eq!([1, 2, 3, 4].map(|line| changed.line(line)), [1, 2, 3, 4]);
        let removed = LineMap::new(old, "lamp:\n ret\n");
        assert_eq!([1, 4].map(|line| removed.line(line)), [1, 2]);
    }
}
