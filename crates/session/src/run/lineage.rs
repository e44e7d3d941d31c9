//! Whose memory and registers were those of a task before it was made: a child has those of its parent.

use std::sync::Arc;

use sotto_kernel::{SpaceId, SpaceOrigin, System, TaskId};

/// The address space and the task of a process, followed back in time.
pub(crate) struct Lineage {
    pub space: SpaceId,
    pub task: TaskId,
    origin: Option<Arc<SpaceOrigin>>,
}

impl Lineage {
    /// Of the task that is shown.
    pub fn of(system: &System) -> Lineage {
        let origin = system.shown_origin().cloned();
        Lineage { space: system.shown_space(), task: system.shown_task(), origin }
    }

    /// Goes back to who it was just before a moment; the moment at which that was made.
    pub fn go_back_to(&mut self, end: u64) -> u64 {
        while let Some(made) = self.origin.clone().filter(|made| end <= made.moment) {
            (self.space, self.task, self.origin) = (made.space, made.task, made.before.clone());
        }
        self.origin.as_ref().map_or(0, |origin| origin.moment)
    }
}
