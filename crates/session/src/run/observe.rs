//! Whoever looks at each instruction as it is executed, beside the reports.

use std::sync::Arc;

use sotto_isa::Instruction;
use sotto_kernel::{CompletedCall, Stop, System, TaskId};
use sotto_machine::{Event, Machine, Step};

use crate::{Session, StopReason};

/// Looks at instructions, each before and after it is executed.
pub trait StepObserver {
    /// An instruction is about to be executed; it may yet wait for input, or fault.
    fn before(&mut self, machine: &mut Machine, instruction: &Instruction);

    /// A handler of a signal was entered instead; its call is the last of the machine's.
    fn delivered(&mut self, _: &mut System) {}

    /// It was completed, as the instruction with the number `moment + 1`. The machine is as the instruction left it.
    fn after(
        &mut self,
        system: &mut System,
        moment: u64,
        instruction: &Instruction,
        step: &Step,
        call: Option<&CompletedCall>,
    );
}

/// What an observed step was.
pub(crate) struct Observed<'a, 'o> {
    observer: Option<&'a mut (dyn StepObserver + 'o)>,
    instruction: Option<Arc<Instruction>>,
    moment: u64,
}

impl<'a, 'o> Observed<'a, 'o> {
    /// Shows the observer the instruction that is next.
    pub fn begin(
        mut observer: Option<&'a mut (dyn StepObserver + 'o)>,
        system: &mut System,
    ) -> Observed<'a, 'o> {
        let mut instruction = None;
        if let Some(observer) = &mut observer {
            instruction = system.machine.prepared_instruction();
            if let Some(instruction) = &instruction {
                observer.before(&mut system.machine, instruction);
            }
        }
        Observed { observer, instruction, moment: system.executed() }
    }

    /// Shows it that a handler was entered instead.
    pub fn delivered(self, system: &mut System) {
        if let Some(observer) = self.observer {
            observer.delivered(system);
        }
    }

    /// Shows it what the instruction did, if it was completed.
    pub fn end(self, system: &mut System, step: &Step, call: Option<&CompletedCall>) {
        let completed =
            system.executed() > self.moment && !matches!(step.event, Some(Event::Fault(_)));
        if let (Some(observer), Some(instruction), true) =
            (self.observer, self.instruction, completed)
        {
            observer.after(system, self.moment, &instruction, step, call);
        }
    }
}

/// An instruction that was stepped.
pub(crate) struct Stepped {
    /// The task that executed it.
    pub task: TaskId,
    /// Where it stands.
    pub from: u64,
    pub step: Step,
    pub syscall: Option<Arc<CompletedCall>>,
    pub stop: Stop,
}

impl Session {
    /// Executes one instruction of the running task, under an observer. That task is shown afterwards, also when
    /// its time slice is used up.
    pub(crate) fn step_observed_task(
        &mut self,
        mut observer: Option<&mut dyn StepObserver>,
    ) -> Stepped {
        loop {
            let (task, from) = (self.system.running_task(), self.system.machine.pc());
            let observer =
                observer.as_mut().map(|observer| &mut **observer as &mut dyn StepObserver);
            let observed = Observed::begin(observer, &mut self.system);
            let (step, syscall, stop) = self.step_system();
            if stop == Stop::Switched {
                continue;
            }
            self.system.show_task(task);
            match stop {
                Stop::Delivered(_) => observed.delivered(&mut self.system),
                _ => observed.end(&mut self.system, &step, syscall.as_deref()),
            }
            return Stepped { task, from, step, syscall, stop };
        }
    }

    /// Executes one instruction under an observer and makes no report of it. Breakpoints are neither looked at nor
    /// counted.
    pub fn step_observed(&mut self, observer: &mut dyn StepObserver) -> StopReason {
        if self.ending().is_some() {
            return StopReason::Terminated;
        }
        self.history.keep(&mut self.system);
        self.select_running();
        let Stepped { step, stop, .. } = self.step_observed_task(Some(observer));
        self.system.show_running();
        self.system.machine.take_back(step.effects);
        self.writers.forget();
        self.furthest = self.furthest.max(self.system.executed());
        self.stop_of_step(stop)
    }
}
