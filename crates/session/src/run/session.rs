//! The session: a process with its history.

use std::collections::{BTreeMap, VecDeque};
use std::sync::Arc;

use sotto_isa::{Arch, FlagInfo, Instruction, OperandOrder, Storage, Width};
use sotto_kernel::{
    SpaceId, StartError, Startup, Stop, SyscallReport, System, TaskId, Termination,
};
use sotto_object::Image;

use crate::faults::fault_report;
use crate::faults::fault_report::FaultReport;
use crate::run::evaluate;
use crate::run::evaluate::{EvaluateError, Evaluated};
use crate::run::history::History;
use crate::run::marks::Mark;
use crate::run::modules::{Modules, ParkedImage};
use crate::run::observe::{StepObserver, Stepped};
use crate::run::stops::Stops;
use crate::views::places::{ImageNames, Place, SourceText};
use crate::views::remarks;
use crate::views::stack::SlotWriters;
use crate::views::step_report;
use crate::views::step_report::{CodeText, Scene, StepReport, SyscallView};
use crate::views::text_cache::TextCache;

/// Why the session stopped.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum StopReason {
    /// As many instructions as asked for were executed.
    Done,
    /// At the breakpoint of this number.
    Breakpoint(u32),
    /// The value of the watched expression of this number has changed.
    Watch(u32),
    /// At the place asked for.
    Place,
    /// At an instruction that makes a system call, where [`Session::stop_at_calls`] was asked for.
    Call,
    /// The program wants input.
    NeedsInput,
    /// Every task waits for another, or for a signal that nothing will send.
    Stuck,
    /// The program ended.
    Terminated,
    /// The limit on instructions was reached.
    Limit,
    /// The program wants more memory than it may have.
    MemoryLimit,
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
    /// No breakpoint or watch has this number.
    #[error("no breakpoint or watch {0}")]
    NoBreakpoint(u32),
    /// A moment that the run does not have.
    #[error("no moment #{wanted}; {}", .last.words())]
    NoMoment {
        /// The moment asked for.
        wanted: u64,
        /// Where the run stops before it.
        last: LastMoment,
    },
    /// A mark that was not set.
    #[error("no mark `{0}`; `mark {0}` sets it")]
    NoMark(String),
    /// Something that cannot be changed.
    #[error("{0}")]
    Change(String),
}

/// The last moment of a run, and why there is none after it.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct LastMoment {
    /// Instructions completed.
    pub moment: u64,
    /// The program waits for input there; otherwise it ended.
    pub waits: bool,
}

impl LastMoment {
    fn words(&self) -> String {
        let moment = self.moment;
        match self.waits {
            true => format!("the program waits for input at #{moment}"),
            false => format!("the program ended at #{moment}"),
        }
    }
}

/// The instruction that set a task's flags last.
#[derive(Clone)]
pub(crate) struct FlagSetter {
    /// The moment up to which that is so.
    moment: u64,
    task: TaskId,
    code: Arc<CodeText>,
}

/// A program being examined, with the system that it runs in.
pub struct Session {
    pub(crate) system: System,
    /// The program, with the shared objects that it loaded so far.
    pub(crate) image: Image,
    pub(crate) modules: Modules,
    /// The address space that `image` is of.
    pub(crate) image_space: SpaceId,
    /// The programs of other address spaces.
    pub(crate) images: BTreeMap<SpaceId, ParkedImage>,
    sources: Vec<SourceText>,
    /// The order in which operands are written.
    order: OperandOrder,
    pub(crate) history: History,
    pub(crate) stops: Stops,
    /// What is asked whether a long instruction is to be left.
    pub(crate) interrupted: fn() -> bool,
    /// The task that is looked at, if it is not the running one.
    pub(crate) selected: Option<TaskId>,
    /// [`Session::resume`] stops before each system call.
    pub(crate) stops_at_calls: bool,
    pub(crate) marks: Vec<Mark>,
    pub(crate) writers: SlotWriters,
    pub(crate) compared: Option<FlagSetter>,
    pub(crate) texts: TextCache,
    /// The latest moment that was reached since history last branched.
    pub(crate) furthest: u64,
    /// The moment at which all tasks were found to wait, since history last branched.
    pub(crate) stuck_at: Option<u64>,
    /// Reports of the latest steps, one after the other.
    pub(crate) trail: VecDeque<Arc<StepReport>>,
    /// The moments to which history was cut back since the start, in their order.
    pub(crate) branches: Vec<u64>,
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
        let mut system = System::start(&image, startup)?;
        let history = History::new(&mut system);
        let mut session = Session {
            system,
            image,
            modules: Modules::default(),
            image_space: SpaceId::FIRST,
            images: BTreeMap::new(),
            sources,
            order: OperandOrder::default(),
            history,
            stops: Stops::default(),
            interrupted: || false,
            selected: None,
            stops_at_calls: false,
            marks: Vec::new(),
            writers: SlotWriters::default(),
            compared: None,
            texts: TextCache::default(),
            furthest: 0,
            stuck_at: None,
            trail: VecDeque::new(),
            branches: Vec::new(),
        };
        session.read_modules();
        Ok(session)
    }

    /// Makes the state of now the start of history: for who set the process up by hand.
    pub fn begin_here(&mut self) {
        self.history = History::new(&mut self.system);
    }

    /// Chooses the order in which operands of instructions are written from now on.
    pub fn set_operands(&mut self, order: OperandOrder) {
        self.order = order;
        self.texts = TextCache::default();
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
    pub fn system(&self) -> &System {
        &self.system
    }

    /// Sets whether running stops before each system call, with [`StopReason::Call`]; a step makes the call then.
    pub fn stop_at_calls(&mut self, stops: bool) {
        self.stops_at_calls = stops;
    }

    /// The address of the instruction that is next.
    pub fn here_address(&self) -> u64 {
        self.system.machine.pc()
    }

    /// What the report of the next instruction will begin with: the moment after it, its place and its text; `None` if
    /// there is none.
    pub fn next_head(&mut self) -> Option<(u64, Arc<Place>, Arc<str>)> {
        let instruction = self.system.machine.prepared_instruction()?;
        let code = self.texts.code(&self.image, &self.sources, self.order, &instruction);
        Some((self.moment() + 1, code.place(), code.text()))
    }

    /// Sets what is asked now and then whether a long instruction is to be left.
    pub fn set_interrupt(&mut self, interrupted: fn() -> bool) {
        self.interrupted = interrupted;
        self.system.set_interrupt(interrupted);
    }

    /// The process, to give it input or to look into its memory.
    pub fn system_mut(&mut self) -> &mut System {
        &mut self.system
    }

    /// Instructions completed since the start.
    pub fn moment(&self) -> u64 {
        self.system.executed()
    }

    /// How the program ended, if it has.
    pub fn ending(&self) -> Option<Termination> {
        self.system.ending()
    }

    /// An address in words.
    pub fn place(&self, address: u64) -> Place {
        self.texts.place(&self.image, &self.sources, address)
    }

    /// Where the program is.
    pub fn here(&self) -> Place {
        self.place(self.system.machine.pc())
    }

    /// The instruction that is next, as text; `None` if there is none.
    pub fn next_instruction(&mut self) -> Option<(Instruction, String)> {
        let instruction = self.system.machine.next_instruction().ok()?;
        let text = self.instruction_text(&instruction);
        Some((instruction, text))
    }

    /// An instruction as text, with the program's names.
    pub fn instruction_text(&self, instruction: &Instruction) -> String {
        instruction.print_in(self.order, &ImageNames(&self.image))
    }

    /// A system call report in words.
    pub fn syscall_view(&self, report: &SyscallReport) -> SyscallView {
        step_report::syscall_view(report, &self.image)
    }

    /// The value of an expression now.
    ///
    /// # Errors
    ///
    /// See [`EvaluateError`].
    pub fn evaluate(&mut self, text: &str) -> Result<Evaluated, EvaluateError> {
        evaluate::evaluate(&self.image, &mut self.system, text)
    }

    /// The width that the first symbol of an address was declared with, if there is one.
    pub fn declared_width(&self, text: &str) -> Option<Width> {
        let expr = sotto_asm::parse_expression(self.arch(), text).ok()?;
        evaluate::declared_width(&self.image, &expr)
    }

    /// The flag of a name or a word, `ZF` or `zero`, if the program has no symbol of that name.
    pub(crate) fn flag_named(&self, name: &str) -> Option<&'static FlagInfo> {
        evaluate::flag_named(&self.image, name.trim())
    }

    /// The moments at which a change made the run another from there on, in the order in which they were made.
    pub fn branches(&self) -> &[u64] {
        &self.branches
    }

    /// The latest moment that was reached since history last branched.
    pub fn furthest(&self) -> u64 {
        self.furthest
    }

    /// Reports of the last `count` steps before now, the earliest first, whichever way the session came here.
    pub fn recent(&mut self, count: usize) -> Vec<Arc<StepReport>> {
        let (now, ending) = (self.moment(), self.ending());
        while self.trail.back().is_some_and(|report| report.moment > now) {
            self.trail.pop_back();
        }
        let first = now.saturating_sub(count as u64);
        let connected = self.trail.back().is_some_and(|last| last.moment == now);
        let known = self.trail.front().map_or(now, |report| report.moment - 1);
        // After a few steps back there is still enough of a trail.
        if !connected || known > first.max(now.saturating_sub(count as u64 / 4)) {
            self.trail.clear();
            self.go_to(first);
            while self.moment() < now {
                let Some(report) = self.step_plainly().0 else { break };
                self.trail.push_back(Arc::new(report));
            }
            self.return_to(now, ending);
        }
        let skip = self.trail.len().saturating_sub(count);
        self.trail.iter().skip(skip).cloned().collect()
    }

    /// Keeps the report of the step that was just made for [`Session::recent`], which then need not execute
    /// it again.
    pub fn keep_report(&mut self, report: &StepReport) {
        const KEPT: usize = 1024;
        while self.trail.back().is_some_and(|last| last.moment >= report.moment) {
            self.trail.pop_back();
        }
        if self.trail.back().is_some_and(|last| last.moment + 1 != report.moment) {
            self.trail.clear();
        }
        self.trail.push_back(Arc::new(report.clone()));
        if self.trail.len() > KEPT {
            self.trail.pop_front();
        }
    }

    /// The latest system calls up to now, the earliest first: the moment after each, as its step has it, where it was made, and
    /// what it was.
    pub fn syscalls(&self) -> Vec<(u64, Place, SyscallView)> {
        let made = self.system.completed_calls().iter();
        made.map(|call| (call.moment + 1, self.place(call.at), self.syscall_view(&call.report)))
            .collect()
    }

    /// The value of a storage register.
    pub fn register(&self, storage: Storage) -> u64 {
        self.system.machine.register(storage)
    }

    /// The first address that a place stands for; see [`Session::resolve_places`].
    ///
    /// # Errors
    ///
    /// If there is no such place, or no code there.
    pub fn resolve_place(&mut self, text: &str) -> Result<u64, SessionError> {
        Ok(self.resolve_places(text)?[0])
    }

    /// The addresses that a place stands for: `file:line`, a line number, or an expression. A line of
    /// a macro stands for every place that it was expanded to. There is at least one.
    ///
    /// # Errors
    ///
    /// If there is no such place, or no code there.
    pub fn resolve_places(&mut self, text: &str) -> Result<Vec<u64>, SessionError> {
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
                // A line alone is of the file that is being executed, as a reader has that in front.
                None => Some(self.image.lines.at(self.system.machine.pc()).map_or(0, |l| l.file)),
                Some(wanted) => files
                    .iter()
                    .position(|name| name == wanted || name.rsplit('/').next() == Some(wanted))
                    .map(|number| number as u32),
            };
            let addresses = number
                .map(|number| self.image.lines.addresses_of(number, line))
                .unwrap_or_default()
                .into_iter()
                .filter(|address| self.image.segment_at(*address).is_some_and(|s| s.exec))
                .collect::<Vec<u64>>();
            return match addresses.is_empty() {
                false => Ok(addresses),
                true => Err(SessionError::NoCode(text.to_string())),
            };
        }
        let address = self.evaluate(text)?.value as u64;
        let code = self.image.segment_at(address).is_some_and(|segment| segment.exec);
        if code { Ok(vec![address]) } else { Err(SessionError::NoCode(text.to_string())) }
    }

    /// Executes one instruction. `None` if the program has ended or waits for input. Arriving at a
    /// breakpoint is counted, and is no reason to stop.
    pub fn step(&mut self) -> (Option<StepReport>, StopReason) {
        self.step_under(None)
    }

    /// Does the same under an observer.
    pub fn step_under(
        &mut self,
        observer: Option<&mut dyn StepObserver>,
    ) -> (Option<StepReport>, StopReason) {
        self.select_running();
        let mut report = StepReport::default();
        let (completed, reason) = self.step_into_observed(&mut report, observer);
        let report = completed.then_some(report);
        if reason == StopReason::Done && !self.stops.breakpoints.is_empty() {
            self.arrive(self.system.machine.pc());
        }
        (report, reason)
    }

    /// Executes one instruction whatever stops there are.
    pub(crate) fn step_plainly(&mut self) -> (Option<StepReport>, StopReason) {
        let mut report = StepReport::default();
        let (completed, reason) = self.step_into_observed(&mut report, None);
        (completed.then_some(report), reason)
    }

    /// Executes one instruction whatever stops there are, and puts what it did into a report that was used
    /// before: whoever steps millions of times need not make room for each. Whether it was completed;
    /// if not, the report is of no use.
    pub fn step_into(&mut self, report: &mut StepReport) -> (bool, StopReason) {
        self.select_running();
        self.step_into_observed(report, None)
    }

    /// Does the same under an observer.
    pub fn step_into_observed(
        &mut self,
        report: &mut StepReport,
        observer: Option<&mut dyn StepObserver>,
    ) -> (bool, StopReason) {
        if self.ending().is_some() {
            return (false, StopReason::Terminated);
        }
        self.history.keep(&mut self.system);
        self.system.show_running();
        let compared = self.compared.take().filter(|compared| compared.moment == self.moment());
        let Stepped { task, from, step, syscall, stop } = self.step_observed_task(observer);
        let compared = compared.filter(|compared| compared.task == task);
        let reason = self.stop_of_step(stop);
        if let Stop::Delivered(number) = stop {
            *report = self.delivery_report(number, from, &step.effects);
            self.writers.forget();
            self.compared = None;
            report.task = (self.system.tasks().count() > 1).then_some(task.0);
            self.system.show_running();
            self.furthest = self.furthest.max(self.system.executed());
            return (true, StopReason::Done);
        }
        if !matches!(reason, StopReason::Done | StopReason::Terminated) {
            self.compared = compared;
            self.system.show_running();
            return (false, reason);
        }
        let Some(instruction) = step
            .instruction
            .as_ref()
            .filter(|_| !matches!(self.ending(), Some(Termination::Killed(..))))
        else {
            self.system.show_running();
            return (false, StopReason::Terminated);
        };
        let moment = self.system.executed();
        let by_kernel = syscall.as_ref().map_or(&[][..], |call| &call.report.written);
        self.writers.follow(moment, instruction.address, &step.effects, by_kernel);
        let code = self.texts.code(&self.image, &self.sources, self.order, instruction);
        let scene = Scene {
            image: &self.image,
            describe: &|address| self.texts.place(&self.image, &self.sources, address),
            symbol: &|address| self.texts.symbol(&self.image, address),
            compared: compared.as_ref().and_then(|compared| compared.code.names.as_ref()),
        };
        step_report::describe_step(&scene, &step, &code, &self.system, report);
        report.memory.extend(
            by_kernel.iter().map(|write| step_report::kernel_write(&scene, write, &self.system)),
        );
        self.compared = match step.effects.flags.written.is_empty() {
            // What does not write flags lets the comparison stand.
            true => compared.map(|compared| FlagSetter { moment: compared.moment + 1, ..compared }),
            false => Some(FlagSetter { moment, task, code }),
        };
        let remark = remarks::of_step(instruction, &step.effects, &mut self.system);
        self.system.machine.take_back(step.effects);
        if let Some(call) = &syscall {
            report.syscall = Some(step_report::syscall_view(&call.report, &self.image));
        }
        report.remark = remark;
        report.task = (self.system.tasks().count() > 1).then_some(task.0);
        report.ended = step_report::status(self.ending());
        if report.ended.is_some() {
            // What a call that never returns did to registers is nobody's concern.
            report.registers.clear();
        }
        self.system.show_running();
        let reason = if report.ended.is_some() { StopReason::Terminated } else { StopReason::Done };
        self.furthest = self.furthest.max(self.system.executed());
        (true, reason)
    }

    /// Why a step ended, whose system stopped so. An instruction that was left in its middle is taken back.
    pub(crate) fn stop_of_step(&mut self, stop: Stop) -> StopReason {
        match stop {
            Stop::NeedsInput => StopReason::NeedsInput,
            Stop::Stuck => self.found_stuck(),
            Stop::MemoryLimit => StopReason::MemoryLimit,
            Stop::Unfinished => {
                self.settle();
                StopReason::Interrupted
            }
            Stop::Terminated(_) => StopReason::Terminated,
            _ => StopReason::Done,
        }
    }

    /// Why the program died; `None` if it did not.
    ///
    /// The instruction that led there is found by executing again up to just before it.
    pub fn fault_report(&mut self) -> Option<FaultReport> {
        let Some(Termination::Killed(..)) = self.ending() else { return None };
        let last = self.last_instruction();
        let (image, sources, system) = (&self.image, &self.sources, &mut self.system);
        let mut report = fault_report::report(fault_report::Scene {
            image,
            sources,
            order: self.order,
            system,
            last,
        })?;
        self.add_origin(&mut report);
        if report.place.module.is_some() {
            let calls = self.extents().into_iter().filter_map(|frame| frame.call);
            report.called_from = calls.into_iter().find(|call| call.module.is_none());
        }
        if let Some(mistake) = self.mistaken_exit() {
            report.help = Some(match report.help {
                Some(help) => format!("{mistake}; {help}"),
                None => mistake,
            });
        }
        Some(report)
    }

    /// The last instruction that completed, found by executing again. The session is as before
    /// when this returns, except that output of the run so far is there again.
    fn last_instruction(&mut self) -> Option<Instruction> {
        let (moment, task) = (self.moment(), self.system.running_task());
        let before = moment.checked_sub(1)?;
        self.go_to(before);
        let same_task = self.system.running_task() == task;
        let instruction = self.system.machine.next_instruction().ok().filter(|_| same_task);
        self.go_back_to_the_end();
        instruction
    }
}
