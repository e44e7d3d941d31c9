//! The report of a step in which a handler of a signal was entered.

use std::sync::Arc;

use sotto_kernel::signal_name;
use sotto_machine::StepEffects;

use crate::views::places::Place;
use crate::views::step_report;
use crate::{Session, StepReport};

impl Session {
    /// What the delivery of a signal did to a program that was at `from`, and is at the handler now.
    pub(crate) fn delivery_report(
        &mut self,
        number: u32,
        from: u64,
        effects: &StepEffects,
    ) -> StepReport {
        let name = signal_name(number);
        let handler = self.place(self.system.machine.pc());
        let handler = match handler.symbol {
            Some(name) => name.to_string(),
            None => format!("{:#x}", handler.address),
        };
        let symbol = |address| self.texts.symbol(&self.image, address);
        // Where it goes on is said already.
        let counter = self.arch().storage_name(self.arch().pc());
        StepReport {
            moment: self.system.executed(),
            place: Arc::new(Place { source: None, ..self.place(from) }),
            instruction: format!("({name} is delivered to `{handler}`)").into(),
            registers: step_report::registers(&self.system, effects, &symbol)
                .filter(|register| register.name != counter)
                .collect(),
            delivered: Some(name.into()),
            ..StepReport::default()
        }
    }
}
