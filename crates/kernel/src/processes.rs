//! The processes of the system: making them, ending them, and what their parents are told.
//!
//! The process of the task that is shown is [`System::process`], the others are parked, and so are those that ended and were not
//! waited for. Sources: clone(2), fork(2), vfork(2), _exit(2), wait(2), credentials(7), setpgid(2).

use sotto_machine::Signal;

use crate::calls::identity::USER;
use crate::calls::readiness::POLLIN;
use crate::execution::Handled;
use crate::files::epolls::Source;
use crate::process::{News, OUTSIDE, Process, ProcessId};
use crate::signals::info::{Detail, SignalInfo};
use crate::signals::{Recipient, SA_NOCLDSTOP, SA_NOCLDWAIT, SIG_IGN};
use crate::space::SpaceId;
use crate::stop::{Stop, Termination};
use crate::system::System;
use crate::target::target;
use crate::task::{Task, TaskId};

/// Tasks and processes that there may be together.
pub(crate) const MOST_TASKS: usize = 1024;

/// A task that is to be made.
pub(crate) struct NewTask {
    pub id: u32,
    /// It belongs to the process that makes it.
    pub is_thread: bool,
    /// It has the address space of who makes it, and not a copy.
    pub shares_memory: bool,
    /// Who makes it waits until it executes a program or ends.
    pub suspends_parent: bool,
    /// It belongs to the parent of who makes it.
    pub is_sibling: bool,
    /// Handlers of signals are forgotten.
    pub clears_handlers: bool,
    pub exit_signal: u32,
    /// The stack pointer, if it has another.
    pub stack: Option<u64>,
    /// What is said of thread-local storage.
    pub thread_pointer: Option<u64>,
    /// Where the number is written in the memory of the new task.
    pub tell_at: Option<u64>,
    /// Where a zero is written when it ends.
    pub clear_at_end: u64,
}

/// Codes of SIGCHLD. Source: sigaction(2), "siginfo_t".
const CLD_EXITED: i32 = 1;
const CLD_KILLED: i32 = 2;
const CLD_STOPPED: i32 = 5;
const CLD_CONTINUED: i32 = 6;

/// What is told of a change of a process: the code, and the status or the signal.
pub(crate) fn change_of(ending: Termination) -> (i32, u32) {
    match ending {
        Termination::Exited(status) => (CLD_EXITED, status as u32),
        // The limit on core dumps is 0, so that there is none. Source: core(5).
        Termination::Killed(signal, _) => (CLD_KILLED, signal.number() as u32),
    }
}

/// The same of a process that was stopped or goes on.
pub(crate) fn change_of_news(news: News) -> (i32, u32) {
    match news {
        News::Stopped(signal) => (CLD_STOPPED, signal),
        News::Continued => (CLD_CONTINUED, Signal::SIGCONT.number() as u32),
    }
}

impl System {
    /// The process of the task that is shown.
    pub fn shown_process(&self) -> ProcessId {
        self.process.id
    }

    /// The processes that did not end, by ascending number.
    pub fn processes(&self) -> Vec<ProcessId> {
        let running = self.all_processes().filter(|process| process.ended.is_none());
        running.map(|process| process.id).collect()
    }

    /// A process, also one that ended and was not waited for.
    pub(crate) fn process(&self, id: ProcessId) -> Option<&Process> {
        if self.process.id == id {
            Some(&self.process)
        } else {
            self.processes.get(&id).map(|it| &**it)
        }
    }

    /// The same, to be changed.
    pub(crate) fn process_mut(&mut self, id: ProcessId) -> Option<&mut Process> {
        match self.process.id == id {
            true => Some(&mut self.process),
            false => self.processes.get_mut(&id).map(|it| &mut **it),
        }
    }

    /// All processes, with those that ended.
    pub(crate) fn all_processes(&self) -> impl Iterator<Item = &Process> {
        let parked = self.processes.range(..self.process.id);
        let later = self.processes.range(self.process.id..);
        let parked = parked.map(|(_, process)| &**process);
        parked.chain([&self.process]).chain(later.map(|(_, process)| &**process))
    }

    /// Puts a process, with its address space, in the place of the one that is shown.
    pub(crate) fn show_process(&mut self, id: ProcessId) {
        if self.process.id == id {
            return;
        }
        let Some(mut other) = self.processes.remove(&id) else { return };
        self.process.used_time = self.used_time();
        other.shown_since = self.machine.busy_time();
        std::mem::swap(&mut self.process, &mut *other);
        self.processes.insert(other.id, other);
        self.show_space(self.process.space);
    }

    /// Nanoseconds of the processor that the tasks of the process that is shown had.
    pub(crate) fn used_time(&mut self) -> u64 {
        let shown = self.machine.busy_time().saturating_sub(self.process.shown_since);
        self.process.used_time + shown
    }

    /// Makes a task, for which the call that asks for it was completed.
    pub(crate) fn start_task(&mut self, new: NewTask) {
        let (own, id) = (self.process.id, ProcessId(new.id));
        let maker = self.running_task();
        let process = if new.is_thread { own } else { id };
        if !new.is_thread {
            self.copy_process(&new);
        }
        let mut cpu = self.machine.cpu();
        if new.shares_memory && !new.suspends_parent {
            cpu = cpu.without_calls();
        }
        let mut task = Task::new(TaskId(new.id), process, Some(cpu));
        task.clear_at_end = new.clear_at_end;
        let signals = &self.scheduler.current().signals;
        task.signals.mask = signals.mask;
        if !new.shares_memory || new.suspends_parent {
            task.signals.alternate = signals.alternate;
        }
        self.scheduler.tasks.push(task);
        self.show_task(TaskId(new.id));
        let arch = self.arch();
        self.machine.set_register(arch.convention().syscall_result, 0);
        if let Some(stack) = new.stack {
            self.machine.set_register(arch.stack_pointer(), stack);
        }
        if let Some(pointer) = new.thread_pointer {
            // It was looked at before.
            let _ = (target(arch).set_thread_pointer)(self, pointer);
        }
        if let Some(address) = new.tell_at {
            let _ = self.machine.memory_mut().write(address, new.id.to_le_bytes());
        }
        self.show_task(maker);
        if new.suspends_parent {
            self.process.suspended = true;
        }
    }

    fn copy_process(&mut self, new: &NewTask) {
        let space = if new.shares_memory { self.space.id } else { self.copy_space() };
        let signals = self.process.signals.of_child();
        let mut process = Process {
            id: ProcessId(new.id),
            parent: if new.is_sibling { self.process.parent } else { self.process.id },
            space,
            exit_signal: new.exit_signal,
            news: None,
            has_executed: false,
            used_time: 0,
            children_time: 0,
            suspends_parent: new.suspends_parent,
            suspended: false,
            signals,
            ..self.process.clone()
        };
        if new.clears_handlers {
            process.signals.reset_handlers();
        }
        for descriptor in process.descriptors.iter().flatten() {
            self.open_files.share(descriptor.file);
        }
        self.processes.insert(process.id, Box::new(process));
    }

    /// What becomes of a run when the process of the running task ends.
    pub(crate) fn end(&mut self, ending: Termination) -> Handled {
        match self.end_process(ending) {
            true => Handled::GoOn,
            false => Handled::Stop(Stop::Terminated(ending)),
        }
    }

    /// Ends the process of the running task; `false` if it is the first, with which the run ends.
    pub(crate) fn end_process(&mut self, ending: Termination) -> bool {
        let id = self.process.id;
        if id == self.first_process {
            self.ending = Some(ending);
            return false;
        }
        for fd in 0..self.process.descriptors.len() as u32 {
            let _ = self.close(fd);
        }
        self.flush_all_shared();
        self.resume_parent();
        self.remove_tasks(|task| task.process == id);
        self.leave_children(id);
        let parent = self.process(id).map_or(OUTSIDE, |process| process.parent);
        let is_waited_for = self.process(parent).is_some_and(|parent| {
            let action = parent.signals.action(Signal::SIGCHLD.number() as u32);
            action.handler != SIG_IGN && action.flags & SA_NOCLDWAIT == 0
        });
        let mut signal = 0;
        if let Some(process) = self.process_mut(id) {
            process.ended = Some(ending);
            // What is left of it has no memory.
            process.space = SpaceId::NONE;
            signal = process.exit_signal;
        }
        self.drop_unused_spaces();
        self.note_ready(Source::Process(id), POLLIN);
        if signal != 0 {
            let (code, status) = change_of(ending);
            self.tell_parent(id, parent, signal, code, status);
        }
        if !is_waited_for {
            self.processes.remove(&id);
        }
        true
    }

    /// Lets a parent go on that waits in vfork(2) for the process that is shown.
    pub(crate) fn resume_parent(&mut self) {
        let parent = self.process.parent;
        if std::mem::take(&mut self.process.suspends_parent)
            && let Some(parent) = self.process_mut(parent)
        {
            parent.suspended = false;
        }
    }

    /// Gives the children of a process to the one outside, which waits at once for those that have ended.
    fn leave_children(&mut self, parent: ProcessId) {
        if self.process.parent == parent {
            self.process.parent = OUTSIDE;
        }
        for process in self.processes.values_mut().filter(|process| process.parent == parent) {
            process.parent = OUTSIDE;
        }
        self.processes.retain(|_, process| process.parent != OUTSIDE || process.ended.is_none());
    }

    fn tell_parent(
        &mut self,
        of: ProcessId,
        parent: ProcessId,
        number: u32,
        code: i32,
        status: u32,
    ) {
        let detail = Detail::Child { process: of.0, user: USER as u32, status };
        self.send(SignalInfo { number, code, detail }, Recipient::Process(parent));
    }

    /// Stops a process, or lets it go on, and tells its parent.
    pub(crate) fn change_stop(&mut self, id: ProcessId, news: News) {
        let Some(process) = self.process_mut(id) else { return };
        let is_change = match news {
            News::Stopped(signal) => process.stopped.replace(signal).is_none(),
            News::Continued => process.stopped.take().is_some(),
        };
        if !is_change {
            return;
        }
        process.news = Some(news);
        let parent = process.parent;
        self.note_event();
        let number = Signal::SIGCHLD.number() as u32;
        let wants = self
            .process(parent)
            .is_some_and(|parent| parent.signals.action(number).flags & SA_NOCLDSTOP == 0);
        if wants {
            let (code, status) = change_of_news(news);
            self.tell_parent(id, parent, number, code, status);
        }
    }

    /// What is done with the memory of a thread that ends: its futexes are told, and the word that it named is cleared.
    pub(crate) fn clear_at_end(&mut self) {
        self.end_robust_list();
        let task = self.scheduler.current();
        let address = std::mem::take(&mut task.clear_at_end);
        if address != 0 && self.machine.memory_mut().write(address, [0; 4]).is_ok() {
            self.wake_at(address, 1);
        }
    }
}
