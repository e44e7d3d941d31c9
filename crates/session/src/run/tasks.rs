//! Which task is looked at: registers, flags, frames and the stack are those of the task that is shown.

use serde::Serialize;
use sotto_kernel::{Awaited, TaskId, signal_name};

use crate::views::places::Place;
use crate::views::step_report::{SyscallView, syscall_view};
use crate::{Session, StopReason};

impl Session {
    /// Looks at a task: registers, flags, frames and the stack are its own until something is executed. `false` if there is
    /// no such task.
    pub fn select_task(&mut self, task: TaskId) -> bool {
        let found = self.system.show_task(task);
        if found {
            self.selected = Some(task).filter(|task| *task != self.system.running_task());
            self.read_modules();
        }
        found
    }

    /// Looks at the running task.
    pub(crate) fn select_running(&mut self) {
        self.selected = None;
        self.system.show_running();
        self.read_modules();
    }

    /// Shows the task again that is looked at.
    pub(crate) fn show_selected(&mut self) {
        if let Some(task) = self.selected {
            self.system.show_task(task);
        }
    }

    /// The number of the task that is looked at, if there are several.
    pub fn shown_task_number(&self) -> Option<u32> {
        (self.system.tasks().count() > 1).then(|| self.system.shown_task().0)
    }

    /// Notes that all tasks wait now.
    pub(crate) fn found_stuck(&mut self) -> StopReason {
        self.stuck_at = Some(self.moment());
        StopReason::Stuck
    }

    /// Where all tasks were found to wait, lets the last begin its wait again: whoever comes back to the moment is before that.
    fn wait_again(&mut self) {
        if self.stuck_at == Some(self.moment()) && !self.system.is_stuck() {
            let shown = self.system.shown_task();
            self.system.step();
            self.system.show_task(shown);
        }
    }

    /// Where all tasks wait, a circle of those that wait for each other: each for the next, and the last for the first. Empty if
    /// there is none that can be told.
    pub fn waiting_circle(&mut self) -> Vec<CircleView> {
        self.wait_again();
        // While a task goes on it may end any wait.
        if !self.system.is_stuck() {
            return Vec::new();
        }
        let circle = self.system.waiting_circle();
        let next = circle.iter().cycle().skip(1);
        let view =
            |((task, why), (next, _)): (&(TaskId, Awaited), &(TaskId, Awaited))| CircleView {
                task: task.0,
                waits_for: next.0,
                why: match why {
                    Awaited::Child => WaitView::Child,
                    Awaited::Writer => WaitView::Writer,
                    Awaited::Reader => WaitView::Reader,
                    Awaited::Owner => WaitView::Owner,
                },
            };
        circle.iter().zip(next).map(view).collect()
    }

    /// The tasks, in the order in which they are run.
    pub fn tasks(&mut self) -> Vec<TaskView> {
        self.wait_again();
        let (shown, running) = (self.system.shown_task(), self.system.running_task());
        let mut views = Vec::new();
        for state in self.system.task_states() {
            self.system.show_task(state.id);
            self.read_modules();
            let waits_in = state.waits_in;
            views.push(TaskView {
                task: state.id.0,
                process: state.process.0,
                name: state.name,
                is_running: state.id == running,
                is_shown: state.id == shown,
                place: self.here(),
                waits_in: waits_in.as_ref().map(|(call, _)| syscall_view(call, &self.image)),
                waits_since: waits_in.map(|(_, moment)| moment),
                stopped_by: state.stopped_by.map(signal_name),
                is_suspended: state.is_suspended,
                woken_by: state.woken_by.map(|(task, _)| task.0),
                woken_at: state.woken_by.map(|(_, moment)| moment),
            });
        }
        self.system.show_task(shown);
        self.read_modules();
        views
    }
}

/// A task of a circle of tasks that wait for each other.
#[derive(Copy, Clone, PartialEq, Eq, Debug, Serialize)]
pub struct CircleView {
    /// Its number.
    pub task: u32,
    /// The number of the task that it waits for, which may be its own.
    pub waits_for: u32,
    /// Why it does.
    pub why: WaitView,
}

/// Why a task waits for another.
#[derive(Copy, Clone, PartialEq, Eq, Debug, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum WaitView {
    /// The other is its child.
    Child,
    /// It reads a pipe or a socket that the other can write to.
    Writer,
    /// It writes to a pipe or a socket that the other can read.
    Reader,
    /// It wants a lock that the other has.
    Owner,
}

/// What there is to tell of a task.
#[derive(Clone, PartialEq, Debug, Serialize)]
pub struct TaskView {
    /// Its number.
    pub task: u32,
    /// The number of its process.
    pub process: u32,
    /// The name of its program.
    pub name: String,
    /// It executes the next instruction.
    pub is_running: bool,
    /// It is the one that is looked at.
    pub is_shown: bool,
    /// Where it is.
    pub place: Place,
    /// The system call in which it waits; `null` if it can go on.
    pub waits_in: Option<SyscallView>,
    /// The moment at which it made that call.
    pub waits_since: Option<u64>,
    /// The signal that stopped its process, until SIGCONT.
    pub stopped_by: Option<String>,
    /// Its process waits in vfork for a child to execute a program or to end.
    pub is_suspended: bool,
    /// The task that woke it last at a futex.
    pub woken_by: Option<u32>,
    /// The moment at which that did.
    pub woken_at: Option<u64>,
}
