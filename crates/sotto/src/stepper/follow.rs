//! Findings beside the steps that they are about.

use sotto_check::Follower;
use sotto_session::protocol::Answer;

use crate::console::{Tone, paint};
use crate::stepper::line::commander::Commander;
use crate::stepper::line::error::CommandError;
use crate::{findings, interrupt, render};

/// Findings that are shown after a command; the rest is counted.
const MOST: usize = 5;

impl Commander {
    /// Shows what was found since a moment, up to now. What a command ran over is looked at now, if it is not too long.
    pub(crate) fn show_findings(&mut self, since: u64) {
        let now = self.session.moment();
        let Some(follower) = &mut self.follower else { return };
        follower.catch_up(&mut self.session, Follower::UNASKED, &interrupt::asked);
        let found = follower.findings(since..now).to_vec();
        let more = found.len().saturating_sub(MOST);
        for finding in found.into_iter().take(MOST) {
            self.tell(&Answer::Finding { finding });
        }
        if more > 0 {
            self.notice(format!("and {more} more findings; `check` lists them"));
        }
    }

    /// Looks at the run from its start up to now, and lists what is found; or no longer looks.
    pub(crate) fn check(&mut self, on: Option<bool>) -> Result<(), CommandError> {
        if on == Some(false) {
            self.follower = None;
            self.notice("steps are no longer checked; `check` checks them again");
            return Ok(());
        }
        let now = self.session.moment();
        let follower = self.follower.get_or_insert_default();
        if !follower.has_work(&self.session) {
            return Err("nothing is judged: the program has no source lines and no contracts; `sotto check --libraries` judges all code".into());
        }
        follower.catch_up(&mut self.session, u64::MAX, &interrupt::asked);
        let seen = follower.seen().min(now);
        let found = follower.findings(0..now).to_vec();
        let counts = match found.is_empty() {
            true => "nothing found".to_string(),
            false => format!("found {}", findings::counts(&found)),
        };
        let count = found.len();
        for finding in found {
            if self.as_json {
                self.tell(&Answer::Finding { finding });
                continue;
            }
            // With its source lines, which what stands below a step has above it.
            let text = findings::to_text(&self.session, &finding);
            self.print_rendered(&text);
            let moment = finding.moment.map(render::thousands).unwrap_or_default();
            let there = format!("        at #{moment}: `until #{moment}` goes there\n");
            self.print(&paint(Tone::Quiet, &there));
        }
        let words = format!("{counts}; {} instructions checked", render::thousands(seen));
        self.tell(&Answer::Checked { findings: count, instructions: seen, words });
        Ok(())
    }
}
