//! The session: a process with its history.

use sotto_asm::Expr;
use sotto_isa::{Arch, Control, Instruction, OperandOrder, Storage, Width};
use sotto_kernel::{Ending, Process, ProcessSnapshot, StartError, Startup, Stop, SyscallReport};
use sotto_object::Image;

use crate::evaluate::{self, EvaluateError, Evaluated};
use crate::fault::{self, FaultReport};
use crate::place::{self, Place, SourceText};
use crate::report::{self, StepReport, SyscallView};
use crate::stack::{self, StackView};

/// Instructions between checkpoints while the program runs on.
const CHECKPOINT_EVERY: u64 = 1 << 20;

/// A place where running stops.
#[derive(Clone, PartialEq, Debug)]
pub struct Breakpoint {
    /// Its number, from 1.
    pub number: u32,
    /// The address.
    pub address: u64,
    /// Stops only if this is not zero, as text and parsed.
    pub condition: Option<(String, Expr)>,
}

/// Why the session stopped.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum StopReason {
    /// As many instructions as asked for were executed.
    Done,
    /// At the breakpoint of this number.
    Breakpoint(u32),
    /// At the place asked for.
    Place,
    /// The program wants input.
    NeedsInput,
    /// The program ended.
    Ended,
    /// The limit on instructions was reached.
    Limit,
    /// Somebody asked to stop.
    Interrupted,
    /// There is nothing before the first instruction.
    AtStart,
}

/// What cannot be done.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
pub enum SessionError {
    /// The program cannot be started.
    #[error(transparent)]
    Start(#[from] StartError),
    /// No code at the place.
    #[error("no code at {0}")]
    NoCode(String),
    /// The place's expression has no value.
    #[error(transparent)]
    Evaluate(#[from] EvaluateError),
    /// No breakpoint has this number.
    #[error("no breakpoint {0}")]
    NoBreakpoint(u32),
}

/// A process being examined.
pub struct Session {
    process: Process,
    image: Image,
    sources: Vec<SourceText>,
    /// The order in which operands are written.
    order: OperandOrder,
    /// By ascending moment; the first is the start.
    checkpoints: Vec<ProcessSnapshot>,
    breakpoints: Vec<Breakpoint>,
    next_breakpoint: u32,
}

impl Session {
    /// Loads a program, stopped before its first instruction.
    ///
    /// # Errors
    ///
    /// [`SessionError::Start`].
    pub fn start(
        image: Image,
        sources: Vec<SourceText>,
        startup: &Startup,
    ) -> Result<Session, SessionError> {
        let mut process = Process::start(&image, startup)?;
        let checkpoints = vec![process.snapshot()];
        let breakpoints = Vec::new();
        let order = OperandOrder::default();
        let next_breakpoint = 1;
        Ok(Session { process, image, sources, order, checkpoints, breakpoints, next_breakpoint })
    }

    /// Chooses the order in which operands of instructions are written from now on.
    pub fn set_operands(&mut self, order: OperandOrder) {
        self.order = order;
    }

    /// The machine's kind.
    pub fn arch(&self) -> Arch {
        self.image.arch
    }

    /// The program.
    pub fn image(&self) -> &Image {
        &self.image
    }

    /// The sources it was assembled from.
    pub fn sources(&self) -> &[SourceText] {
        &self.sources
    }

    /// The process.
    pub fn process(&self) -> &Process {
        &self.process
    }

    /// The process, to give it input or to look into its memory.
    pub fn process_mut(&mut self) -> &mut Process {
        &mut self.process
    }

    /// Instructions completed since the start.
    pub fn moment(&self) -> u64 {
        self.process.executed()
    }

    /// How the program ended, if it has.
    pub fn ending(&self) -> Option<Ending> {
        self.process.ending()
    }

    /// An address in words.
    pub fn place(&self, address: u64) -> Place {
        place::describe(&self.image, &self.sources, address)
    }

    /// Where the program is.
    pub fn here(&self) -> Place {
        self.place(self.process.machine.pc())
    }

    /// The instruction that is next, as text; `None` if there is none.
    pub fn next_instruction(&mut self) -> Option<(Instruction, String)> {
        let instruction = self.process.machine.next_instruction().ok()?;
        let text = self.instruction_text(&instruction);
        Some((instruction, text))
    }

    /// An instruction as text, with the program's names.
    pub fn instruction_text(&self, instruction: &Instruction) -> String {
        instruction.print_in(self.order, &place::ImageNames(&self.image))
    }

    /// A system call report in words.
    pub fn syscall_view(&self, report: &SyscallReport) -> SyscallView {
        report::syscall_view(report, &self.image)
    }

    /// The value of an expression now.
    ///
    /// # Errors
    ///
    /// See [`EvaluateError`].
    pub fn evaluate(&mut self, text: &str) -> Result<Evaluated, EvaluateError> {
        evaluate::evaluate(&self.image, &mut self.process, text)
    }

    /// The width that the first symbol of an address was declared with, if there is one.
    pub fn declared_width(&self, text: &str) -> Option<Width> {
        let expr = sotto_asm::parse_expression(self.arch(), text).ok()?;
        evaluate::declared_width(&self.image, &expr)
    }

    /// The value of a parsed expression now.
    pub(crate) fn evaluate_expr(&mut self, expr: &Expr) -> Result<Evaluated, EvaluateError> {
        evaluate::value(&self.image, &mut self.process, expr)
    }

    /// The moments of the checkpoints, ascending.
    pub(crate) fn checkpoint_moments(&self) -> Vec<u64> {
        self.checkpoints.iter().map(ProcessSnapshot::executed).collect()
    }

    /// The stack around its pointer.
    pub fn stack(&mut self, below: u64, count: u64) -> StackView {
        stack::view(self, below, count)
    }

    /// The value of a storage register.
    pub fn register(&self, storage: Storage) -> u64 {
        self.process.machine.register(storage)
    }

    /// The address that a place stands for: `file:line`, a line number, or an expression.
    ///
    /// # Errors
    ///
    /// If there is no such place, or no code there.
    pub fn resolve_place(&mut self, text: &str) -> Result<u64, SessionError> {
        let text = text.trim();
        let (file, line) = match text.rsplit_once(':') {
            Some((file, line)) => (Some(file), line),
            None => (None, text),
        };
        let files = &self.image.lines.files;
        if let Ok(line) = line.parse::<u32>()
            && !files.is_empty()
        {
            let number = match file {
                None => Some(0),
                Some(wanted) => files
                    .iter()
                    .position(|name| name == wanted || name.rsplit('/').next() == Some(wanted)),
            };
            return number
                .and_then(|number| self.image.lines.address_of(number as u32, line))
                .filter(|address| self.image.segment_at(*address).is_some_and(|s| s.exec))
                .ok_or_else(|| SessionError::NoCode(text.to_string()));
        }
        let address = self.evaluate(text)?.value as u64;
        let code = self.image.segment_at(address).is_some_and(|segment| segment.exec);
        if code { Ok(address) } else { Err(SessionError::NoCode(text.to_string())) }
    }

    /// Executes one instruction. `None` if the program has ended or waits for input.
    pub fn step(&mut self) -> (Option<StepReport>, StopReason) {
        if self.ending().is_some() {
            return (None, StopReason::Ended);
        }
        self.checkpoint();
        let (step, syscall, stop) = self.process.step();
        if stop == Stop::NeedsInput {
            return (None, StopReason::NeedsInput);
        }
        let Some(instruction) = step
            .instruction
            .as_ref()
            .filter(|_| !matches!(self.ending(), Some(Ending::Killed(..))))
        else {
            return (None, StopReason::Ended);
        };
        let describe = |address| place::describe(&self.image, &self.sources, address);
        let mut report = report::describe_step(
            &self.image,
            self.order,
            &describe,
            &step,
            instruction,
            &self.process,
        );
        report.syscall = syscall.as_ref().map(|call| report::syscall_view(call, &self.image));
        report.ended = report::status(self.ending());
        if report.ended.is_some() {
            // What a call that never returns did to registers is nobody's concern.
            report.registers.clear();
        }
        let reason = if report.ended.is_some() { StopReason::Ended } else { StopReason::Done };
        (Some(report), reason)
    }

    /// Keeps the moment if the last one kept is long ago.
    fn checkpoint(&mut self) {
        let last = self.checkpoints.last().map_or(0, ProcessSnapshot::executed);
        if self.moment() >= last + CHECKPOINT_EVERY {
            let snapshot = self.process.snapshot();
            self.checkpoints.push(snapshot);
        }
    }

    /// Goes to a moment, earlier or later. Later moments are reached by running without stops.
    pub fn go_to(&mut self, moment: u64) -> StopReason {
        if moment < self.moment() {
            let index = self.checkpoints.partition_point(|c| c.executed() <= moment);
            let index = index.saturating_sub(1);
            self.process.restore(&self.checkpoints[index]);
        }
        self.process.machine.set_stops(&[]);
        self.advance_to(moment)
    }

    /// Runs to a moment, keeping checkpoints on the way.
    fn advance_to(&mut self, moment: u64) -> StopReason {
        while self.moment() < moment {
            self.checkpoint();
            let budget = (moment - self.moment()).min(CHECKPOINT_EVERY);
            match self.process.run(budget).stop {
                Stop::Budget | Stop::Output => {}
                Stop::Place => return StopReason::Place,
                Stop::NeedsInput => return StopReason::NeedsInput,
                Stop::Ended(_) => return StopReason::Ended,
            }
        }
        StopReason::Done
    }

    /// Goes back by a number of instructions.
    pub fn back(&mut self, count: u64) -> StopReason {
        let moment = self.moment();
        // An instruction that faulted was not completed: going back from it is to before it.
        let ended_by_fault = matches!(self.ending(), Some(Ending::Killed(..)));
        let target = match ended_by_fault {
            true => (moment + 1).saturating_sub(count),
            false => moment.saturating_sub(count),
        };
        if moment == 0 && !ended_by_fault {
            return StopReason::AtStart;
        }
        if ended_by_fault && target == moment {
            // The same moment, before the fault.
            let index = self.checkpoints.partition_point(|c| c.executed() <= moment);
            self.process.restore(&self.checkpoints[index.saturating_sub(1)]);
            self.process.machine.set_stops(&[]);
            return self.advance_to(moment);
        }
        self.go_to(target);
        if moment < count { StopReason::AtStart } else { StopReason::Done }
    }

    /// Sets a breakpoint.
    pub fn add_breakpoint(
        &mut self,
        address: u64,
        condition: Option<(String, Expr)>,
    ) -> &Breakpoint {
        let number = self.next_breakpoint;
        self.next_breakpoint += 1;
        self.breakpoints.push(Breakpoint { number, address, condition });
        self.breakpoints.last().expect("pushed just now")
    }

    /// The breakpoints, by number.
    pub fn breakpoints(&self) -> &[Breakpoint] {
        &self.breakpoints
    }

    /// Takes a breakpoint away.
    ///
    /// # Errors
    ///
    /// If there is none of this number.
    pub fn remove_breakpoint(&mut self, number: u32) -> Result<(), SessionError> {
        let before = self.breakpoints.len();
        self.breakpoints.retain(|breakpoint| breakpoint.number != number);
        if self.breakpoints.len() == before {
            Err(SessionError::NoBreakpoint(number))
        } else {
            Ok(())
        }
    }

    /// Runs until a breakpoint, one of the `places`, the end, or `limit` instructions. Between
    /// slices `interrupted` is asked whether to stop.
    pub fn resume(
        &mut self,
        places: &[u64],
        limit: u64,
        interrupted: &dyn Fn() -> bool,
    ) -> StopReason {
        let mut stops: Vec<u64> = self.breakpoints.iter().map(|b| b.address).collect();
        stops.extend(places);
        let end = self.moment().saturating_add(limit);
        loop {
            if interrupted() {
                return StopReason::Interrupted;
            }
            if self.moment() >= end {
                return StopReason::Limit;
            }
            self.process.machine.set_stops(&stops);
            self.checkpoint();
            let budget = (end - self.moment()).min(CHECKPOINT_EVERY);
            let before = self.moment();
            match self.process.run(budget).stop {
                Stop::Budget | Stop::Output => {}
                Stop::NeedsInput => return StopReason::NeedsInput,
                Stop::Ended(_) => return StopReason::Ended,
                Stop::Place => {}
            }
            // A slice may end just at a stop.
            let pc = self.process.machine.pc();
            if self.moment() > before && stops.contains(&pc) {
                if places.contains(&pc) {
                    return StopReason::Place;
                }
                if let Some(number) = self.breakpoint_here(pc) {
                    return StopReason::Breakpoint(number);
                }
            }
        }
    }

    /// The breakpoint at an address whose condition holds. A condition without a value holds.
    fn breakpoint_here(&mut self, pc: u64) -> Option<u32> {
        let here: Vec<(u32, Option<Expr>)> = self
            .breakpoints
            .iter()
            .filter(|b| b.address == pc)
            .map(|b| (b.number, b.condition.as_ref().map(|(_, expr)| expr.clone())))
            .collect();
        here.into_iter()
            .find(|(_, condition)| match condition {
                None => true,
                Some(expr) => evaluate::value(&self.image, &mut self.process, expr)
                    .map_or(true, |evaluated| evaluated.value != 0),
            })
            .map(|(number, _)| number)
    }

    /// Executes one instruction, and what it calls, up to its return.
    pub fn over(
        &mut self,
        limit: u64,
        interrupted: &dyn Fn() -> bool,
    ) -> (Option<StepReport>, StopReason) {
        let next = self.next_instruction().map(|(instruction, _)| instruction);
        let Some(call) = next.filter(|instruction| instruction.control() == Control::Call) else {
            return self.step();
        };
        let stack_pointer = self.arch().stack_pointer();
        let depth = self.register(stack_pointer);
        let end = self.moment().saturating_add(limit);
        loop {
            let left = end.saturating_sub(self.moment());
            let reason = self.resume(&[call.end()], left, interrupted);
            // A call of the same routine further down returns to the same place.
            if reason != StopReason::Place || self.register(stack_pointer) >= depth {
                let reason = if reason == StopReason::Place { StopReason::Done } else { reason };
                return (None, reason);
            }
        }
    }

    /// Runs until the current routine has returned.
    pub fn out(&mut self, limit: u64, interrupted: &dyn Fn() -> bool) -> StopReason {
        let end = self.moment().saturating_add(limit);
        let mut depth = 0i64;
        while self.moment() < end {
            if interrupted() {
                return StopReason::Interrupted;
            }
            self.checkpoint();
            // Without a report: this may be a long way.
            let (step, _, stop) = self.process.step();
            match stop {
                Stop::NeedsInput => return StopReason::NeedsInput,
                Stop::Ended(_) => return StopReason::Ended,
                Stop::Budget | Stop::Output | Stop::Place => {}
            }
            match step.instruction.map(|instruction| instruction.control()) {
                Some(Control::Call) => depth += 1,
                Some(Control::Return) if depth == 0 => return StopReason::Done,
                Some(Control::Return) => depth -= 1,
                _ => {}
            }
        }
        StopReason::Limit
    }

    /// Why the program died; `None` if it did not.
    ///
    /// The instruction that led there is found by executing again up to just before it.
    pub fn fault_report(&mut self) -> Option<FaultReport> {
        let Some(Ending::Killed(..)) = self.ending() else { return None };
        let last = self.last_instruction();
        let (image, sources, process) = (&self.image, &self.sources, &mut self.process);
        fault::report(fault::Scene { image, sources, order: self.order, process, last })
    }

    /// Runs on to where a program that had died was found dead.
    fn go_back_to_the_end(&mut self) {
        while let Stop::Budget | Stop::Output = self.process.run(CHECKPOINT_EVERY).stop {}
    }

    /// Goes to where the session was at `moment`, dead or alive.
    pub(crate) fn return_to(&mut self, moment: u64, ending: Option<Ending>) {
        self.go_to(moment);
        if ending.is_some() && self.ending().is_none() {
            self.go_back_to_the_end();
        }
    }

    /// The last instruction that completed, found by executing again. The session is as before
    /// when this returns, except that output of the run so far is there again.
    fn last_instruction(&mut self) -> Option<Instruction> {
        let moment = self.moment();
        let before = moment.checked_sub(1)?;
        self.go_to(before);
        let instruction = self.process.machine.next_instruction().ok();
        self.go_back_to_the_end();
        instruction
    }
}
