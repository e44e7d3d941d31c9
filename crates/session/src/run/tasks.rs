//! Which task is looked at: registers, flags, frames and the stack are those of the task that is shown.

use sotto_kernel::TaskId;

use crate::Session;

impl Session {
    /// Looks at a task: registers, flags, frames and the stack are its own until something is executed. `false` if there is
    /// no such task.
    pub fn select_task(&mut self, task: TaskId) -> bool {
        let found = self.system.show_task(task);
        if found {
            self.selected = Some(task).filter(|task| *task != self.system.running_task());
        }
        found
    }

    /// Looks at the running task.
    pub(crate) fn select_running(&mut self) {
        self.read_modules();
        self.selected = None;
        self.system.show_running();
    }

    /// Shows the task again that is looked at.
    pub(crate) fn show_selected(&mut self) {
        if let Some(task) = self.selected {
            self.system.show_task(task);
        }
    }
}
