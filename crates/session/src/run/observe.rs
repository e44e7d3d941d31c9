//! Whoever looks at each instruction as it is executed, beside the reports.

use std::sync::Arc;

use sotto_isa::Instruction;
use sotto_kernel::{CompletedCall, Process};
use sotto_machine::{Event, Machine, Step};

use crate::{Session, StopReason};

/// Looks at instructions, each before and after it is executed.
pub trait StepObserver {
    /// An instruction is about to be executed; it may yet wait for input, or fault.
    fn before(&mut self, machine: &mut Machine, instruction: &Instruction);

    /// It was completed, as the instruction with the number `moment + 1`. The machine is as the instruction left it.
    fn after(
        &mut self,
        process: &mut Process,
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
        process: &mut Process,
    ) -> Observed<'a, 'o> {
        let mut instruction = None;
        if let Some(observer) = &mut observer {
            instruction = process.machine.prepared_instruction();
            if let Some(instruction) = &instruction {
                observer.before(&mut process.machine, instruction);
            }
        }
        Observed { observer, instruction, moment: process.executed() }
    }

    /// Shows it what the instruction did, if it was completed.
    pub fn end(self, process: &mut Process, step: &Step, call: Option<&CompletedCall>) {
        let completed =
            process.executed() > self.moment && !matches!(step.event, Some(Event::Fault(_)));
        if let (Some(observer), Some(instruction), true) =
            (self.observer, self.instruction, completed)
        {
            observer.after(process, self.moment, &instruction, step, call);
        }
    }
}

impl Session {
    /// Executes one instruction under an observer and makes no report of it. Breakpoints are neither looked at nor
    /// counted.
    pub fn step_observed(&mut self, observer: &mut dyn StepObserver) -> StopReason {
        if self.ending().is_some() {
            return StopReason::Terminated;
        }
        self.history.keep(&mut self.process);
        let observed = Observed::begin(Some(observer), &mut self.process);
        let (step, call, stop) = self.step_process();
        observed.end(&mut self.process, &step, call.as_deref());
        self.process.machine.take_back(step.effects);
        self.writers.forget();
        self.furthest = self.furthest.max(self.process.executed());
        self.stop_of_step(stop)
    }
}
