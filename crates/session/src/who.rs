//! Which instruction last wrote a register or memory: a search over executing again.

use sotto_asm::Expr;
use sotto_isa::Storage;
use sotto_kernel::SyscallReport;
use sotto_machine::StepEffects;

use crate::evaluate::{self, EvaluateError};
use crate::{Session, StepReport};

/// Something that instructions write.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Target {
    /// A register, whichever part of it.
    Register(Storage),
    /// A vector register, by number.
    Vector(u8),
    /// Bytes of memory: first address and how many.
    Memory(u64, u64),
}

/// The instruction that last wrote a target.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Writer {
    /// What it did.
    pub report: StepReport,
    /// Instructions completed between before it and where the session was.
    pub ago: u64,
}

impl Target {
    /// Whether a step wrote any part of the target.
    fn is_written_by(self, effects: &StepEffects, syscall: Option<&SyscallReport>) -> bool {
        match self {
            Target::Register(storage) => {
                effects.registers.iter().any(|change| change.reg.storage() == Some(storage))
            }
            Target::Vector(number) => {
                effects.vectors.iter().any(|change| change.reg.vector() == Some(number))
            }
            Target::Memory(start, bytes) => {
                let meets = |address: u64, length: u64| {
                    address < start.saturating_add(bytes) && start < address.saturating_add(length)
                };
                effects.memory.iter().any(|change| meets(change.address, change.bytes))
                    || syscall
                        .and_then(|call| call.filled)
                        .is_some_and(|(at, length)| meets(at, length))
            }
        }
    }
}

impl Session {
    /// What a text names as a target: a register, memory in brackets, or a symbol for what it labels.
    ///
    /// # Errors
    ///
    /// If it is no expression, or its address has no value.
    pub fn target(&mut self, text: &str) -> Result<Target, EvaluateError> {
        let expr = sotto_asm::parse_expression(self.arch(), text)
            .map_err(|diagnostic| EvaluateError::Syntax(diagnostic.message.clone()))?;
        if let Expr::Register(reg, _) = &expr {
            if let Some(number) = reg.vector() {
                return Ok(Target::Vector(number));
            }
            let storage = reg.storage().ok_or(EvaluateError::Meaningless("the zero register"))?;
            return Ok(Target::Register(storage));
        }
        let (width, address) = match &expr {
            Expr::Load(width, address) => (*width, &**address),
            other => (None, other),
        };
        let declared = evaluate::declared_width(self.image(), address);
        let bytes = width.or(declared).unwrap_or(self.arch().address_width()).bytes();
        let address = self.evaluate_expr(address)?.value as u64;
        Ok(Target::Memory(address, bytes))
    }

    /// The instruction that last wrote the target; the session is then just before it. `None`, and
    /// the session where it was, if nothing has written it since the start.
    pub fn who(&mut self, target: Target) -> Option<Writer> {
        let (now, ending) = (self.moment(), self.ending());
        let mut end = now;
        // The latest checkpoint first: what was written lately is found soon.
        for start in self.checkpoint_moments().into_iter().rev().filter(|start| *start < now) {
            self.go_to(start);
            let mut found = None;
            while self.moment() < end {
                let before = self.moment();
                let (step, syscall, _) = self.process_mut().step();
                if self.moment() == before {
                    break;
                }
                if target.is_written_by(&step.effects, syscall.as_ref()) {
                    found = Some(before);
                }
            }
            if let Some(moment) = found {
                self.go_to(moment);
                let report = self.step().0;
                self.go_to(moment);
                return report.map(|report| Writer { report, ago: now - moment });
            }
            end = start;
        }
        self.return_to(now, ending);
        None
    }

    /// What the next instruction would do, without doing it; `None` if it would not complete.
    pub fn ahead(&mut self) -> Option<StepReport> {
        let snapshot = self.process_mut().snapshot();
        let (report, _) = self.step();
        self.process_mut().restore(&snapshot);
        report
    }
}
