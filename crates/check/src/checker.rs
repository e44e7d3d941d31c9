//! Watching a program step by step.

use std::collections::HashSet;

use sotto_finding::Finding;
use sotto_isa::{Control, FlagRole, FlagSet, Instruction, Operand, Storage, Traits};
use sotto_kernel::{CompletedCall, System, Termination};
use sotto_machine::{AccessKind, Call, Fault, Machine, MemoryFaultKind, Step, StepEffects};
use sotto_object::Image;
use sotto_session::{Session, StepObserver, StopReason};

use crate::called::Called;
use crate::conventions::{Active, Conventions, Held};
use crate::declared::{Datum, Declared};
use crate::kinds::Kind;
use crate::raw_finding::RawFinding;
use crate::shadow::{Cause, Shadow, TaintedUse};

/// What is looked at.
#[derive(Clone, Debug, Default)]
pub struct Options {
    /// Code without source and contract is judged too.
    pub libraries: bool,
    /// Kinds about which nothing is said.
    pub allow: Vec<Kind>,
    /// The memory that is accessed is noted.
    pub memory: bool,
}

/// Bytes beside each other that a program accessed.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct Touched {
    /// First address.
    pub start: u64,
    /// Address behind the last byte.
    pub end: u64,
    /// Some of it was read.
    pub read: bool,
    /// Some of it was written.
    pub written: bool,
}

/// So many ranges of accessed memory are told apart.
const MOST_TOUCHED: usize = 64;

/// Watches a program and collects findings.
pub struct Checker {
    options: Options,
    conventions: Conventions,
    shadow: Shadow,
    findings: Vec<Finding>,
    seen: HashSet<(Kind, u64, usize)>,
    /// Flags that are undefined, and the instruction that left them so.
    undefined: (FlagSet, u64),
    /// A system call whose error no instruction has read yet: where it was made, and what it was.
    unread_error: Option<(u64, String)>,
    /// Labelled data of our sources.
    data: Declared,
    called: Called,
    touched: Vec<Touched>,
    /// What the step being made showed, and the moment before it.
    found: Vec<RawFinding>,
    moment: u64,
}

impl StepObserver for Checker {
    fn before(&mut self, machine: &mut Machine, instruction: &Instruction) {
        self.found.clear();
        if instruction.control() == Control::Return {
            self.found = self.conventions.before_return(machine, instruction);
        }
        self.before_division(machine, instruction);
    }

    fn delivered(&mut self, system: &mut System) {
        for written in system.delivery_writes() {
            self.shadow.set_memory(written.address, written.bytes);
        }
        // What a handler starts with is the kernel's affair, and so is what it comes back with.
        for storage in system.arch().general_storages() {
            self.shadow.set(storage, 8);
        }
        let moment = system.executed();
        if let Some(&Call { from, return_address, .. }) = system.machine.calls().last() {
            self.conventions.enter(&mut system.machine, from, return_address, moment);
        }
    }

    fn after(
        &mut self,
        system: &mut System,
        moment: u64,
        instruction: &Instruction,
        step: &Step,
        call: Option<&CompletedCall>,
    ) {
        self.moment = moment;
        let mut found = std::mem::take(&mut self.found);
        let machine = &mut system.machine;
        self.look_at_step(machine, instruction, &step.effects, step.jumped, moment, &mut found);
        if let Some(call) = call {
            self.after_call(machine, instruction, call, &mut found);
        }
        self.found = found;
    }
}

impl Checker {
    /// A checker for a program that is at its first instruction.
    pub fn new(session: &Session, options: Options) -> Checker {
        let image = session.image();
        Checker {
            options,
            conventions: Conventions::new(image),
            shadow: Shadow::new(&session.system().machine),
            findings: Vec::new(),
            seen: HashSet::new(),
            undefined: (FlagSet::NONE, 0),
            unread_error: None,
            data: Declared::new(image),
            called: Called::new(image),
            touched: Vec::new(),
            found: Vec::new(),
            moment: 0,
        }
    }

    /// Notes that the program is at the first instruction of a routine that is called from outside.
    pub(crate) fn enter(&mut self, session: &mut Session, return_address: u64) {
        let moment = session.moment();
        let machine = &mut session.system_mut().machine;
        self.conventions.enter(machine, return_address, return_address, moment);
        self.conventions.hold_to_convention();
    }

    /// Which bytes are uninitialised.
    pub(crate) fn shadow(&mut self) -> &mut Shadow {
        &mut self.shadow
    }

    /// Adds a finding about a place.
    pub(crate) fn add(&mut self, session: &mut Session, raw: RawFinding) {
        let moment = session.moment();
        self.tell_all(session, moment, vec![raw], true);
    }

    /// The memory that was accessed, if [`Options::memory`] asks for it.
    pub fn touched(&self) -> &[Touched] {
        &self.touched
    }

    /// Executes one instruction and looks at it.
    pub fn step(&mut self, session: &mut Session) -> StopReason {
        let reason = session.step_observed(self);
        self.tell_found(session);
        reason
    }

    /// Makes findings of what the last step showed, whose places have names in the session.
    pub(crate) fn tell_found(&mut self, session: &mut Session) {
        if !self.found.is_empty() {
            let found = std::mem::take(&mut self.found);
            self.tell_all(session, self.moment, found, false);
        }
    }

    /// The dividend's high half of a division that is about to be made. Source: SDM Vol. 2A, DIV.
    fn before_division(&mut self, machine: &mut Machine, instruction: &Instruction) {
        if !instruction.traits().contains(Traits::WIDE_DIVISION) {
            return;
        }
        let low = machine.arch().convention().result;
        let mut reads = instruction.implicit().iter().filter(|implicit| implicit.access.reads());
        let high = reads.find(|implicit| implicit.reg.storage() != Some(low));
        let Some((high, storage)) = high.and_then(|high| Some((high.reg, high.reg.storage()?)))
        else {
            return;
        };
        if let Some(Cause::Unset(_) | Cause::Call(..)) = self.shadow.cause_of(storage) {
            let name = high.name();
            let value = high.part_of(machine.register(storage));
            self.found.push(RawFinding::new(
                Kind::Dividend,
                instruction.address,
                format!(
                    "{name} holds the high half of the dividend, {value:#x}, and nothing set it"
                ),
            ));
        }
    }

    fn look_at_step(
        &mut self,
        machine: &mut Machine,
        instruction: &Instruction,
        effects: &StepEffects,
        jumped: bool,
        moment: u64,
        found: &mut Vec<RawFinding>,
    ) {
        let at = instruction.address;
        self.look_at_flags(instruction, effects, found);
        self.look_at_shift(instruction, effects, found);
        self.look_at_accesses(at, effects, found);
        if self.options.memory {
            for read in &effects.memory_reads {
                self.touch(read.address, read.bytes * read.elements, false);
            }
            for change in &effects.memory {
                self.touch(change.address, change.bytes * change.elements, true);
            }
        }
        self.look_at_error(instruction, effects, found);
        for used in self.shadow.step(instruction, effects) {
            found.push(self.of_use(machine, used));
        }
        self.conventions.note(instruction, effects, moment);
        match instruction.control() {
            Control::Call if jumped => {
                let held = self.conventions.enter(machine, at, instruction.end(), moment + 1);
                let is_set = |storage| {
                    !matches!(
                        self.shadow.cause_of(storage),
                        Some(Cause::Unset(_) | Cause::Call(..))
                    )
                };
                self.called.look_at(machine, at, &self.data, is_set, found);
                if held == Held::Convention {
                    found.extend(self.conventions.misaligned(machine));
                }
            }
            Control::Return => {
                if let Some(call) = self.conventions.after_return(machine) {
                    self.after_routine(machine, &call);
                }
            }
            _ => {}
        }
    }

    fn after_routine(&mut self, machine: &Machine, call: &Active) {
        for storage in self.conventions.lost(call, machine) {
            self.shadow.lose(storage, call.from);
        }
        self.shadow.returned(machine, call.from);
    }

    fn look_at_flags(
        &mut self,
        instruction: &Instruction,
        effects: &StepEffects,
        found: &mut Vec<RawFinding>,
    ) {
        let (undefined, left_by) = self.undefined;
        let tested = instruction.flags().tested;
        let hit: Vec<&str> = match undefined.is_empty() {
            true => Vec::new(),
            false => {
                let flags = instruction.arch.flags().iter();
                flags
                    .filter(|info| tested.contains(info.flag) && undefined.contains(info.flag))
                    .map(|info| info.name)
                    .collect()
            }
        };
        // An instruction that saves all flags tests none.
        if !hit.is_empty() && instruction.condition_words(true).is_some() {
            let fact = format!("{} is tested here and undefined", hit.join(" and "));
            let raw = RawFinding::new(Kind::UndefinedFlags, instruction.address, fact);
            found.push(raw.at(left_by, "this instruction left it undefined"));
        }
        let changed = effects.flags;
        if !changed.written.is_empty() {
            let kept = undefined.without(changed.written);
            let left_by = if changed.undefined.is_empty() { left_by } else { instruction.address };
            self.undefined = (kept.with(changed.undefined), left_by);
        }
    }

    /// A count in a register that is as large as the width of what is shifted.
    fn look_at_shift(
        &mut self,
        instruction: &Instruction,
        effects: &StepEffects,
        found: &mut Vec<RawFinding>,
    ) {
        let Some(Operand::Reg(count)) = instruction.count_operand() else { return };
        let Some(Operand::Reg(shifted)) = instruction.operands.first() else { return };
        // A rotation leaves the zero flag alone.
        if !instruction.flags().written().contains(instruction.arch.flag(FlagRole::Zero)) {
            return;
        }
        let value = effects.reads.iter().find(|(reg, _)| reg.storage() == count.storage());
        let bits = u64::from(shifted.width().bits());
        if let Some((_, value)) = value
            && count.part_of(*value) >= bits
        {
            let value = count.part_of(*value);
            let modulo = if bits == 64 { 64 } else { 32 };
            let fact = format!(
                "{} is {value}, and {} has {bits} bits: the count is taken modulo {modulo}",
                count.name(),
                shifted.name()
            );
            found.push(RawFinding::new(Kind::ShiftCount, instruction.address, fact));
        }
    }

    /// Accesses that begin in one variable and end in the next.
    fn look_at_accesses(&mut self, at: u64, effects: &StepEffects, found: &mut Vec<RawFinding>) {
        if self.data.is_empty() {
            return;
        }
        let reads = effects.memory_reads.iter().map(|r| (r.address, r.bytes * r.elements, "read"));
        let writes = effects.memory.iter().map(|w| (w.address, w.bytes * w.elements, "written"));
        for (address, bytes, word) in reads.chain(writes) {
            let Some(Datum { start, end, name, .. }) = self.data.at(address) else { continue };
            let Some(reach) = address.checked_add(bytes).filter(|reach| reach > end) else {
                continue;
            };
            // Several elements beside each other may be one large access of a string instruction.
            if bytes > 16 {
                continue;
            }
            let Some(Datum { name: next, .. }) = self.data.at(*end) else { continue };
            let fact = format!(
                "{bytes} bytes are {word} at `{name}`{}, which has {}: {} of them {} `{next}`'s",
                offset(address - start),
                end - start,
                reach - end,
                if reach - end == 1 { "is" } else { "are" },
            );
            found.push(RawFinding::new(Kind::AcrossVariables, at, fact));
        }
    }

    fn touch(&mut self, start: u64, bytes: u64, write: bool) {
        let end = start.saturating_add(bytes);
        let room = self.touched.len() < MOST_TOUCHED;
        let near = self.touched.iter_mut().find(|known| known.start <= end && start <= known.end);
        match near {
            Some(known) => {
                known.start = known.start.min(start);
                known.end = known.end.max(end);
                known.read |= !write;
                known.written |= write;
            }
            None if room => {
                self.touched.push(Touched { start, end, read: !write, written: write });
            }
            None => {}
        }
    }

    /// Whether the error of a system call is overwritten before an instruction reads it.
    fn look_at_error(
        &mut self,
        instruction: &Instruction,
        effects: &StepEffects,
        found: &mut Vec<RawFinding>,
    ) {
        if self.unread_error.is_none() {
            return;
        }
        let result = instruction.arch.convention().syscall_result;
        let is_result = |storage: Option<Storage>| storage == Some(result);
        if effects.reads.iter().any(|(reg, _)| is_result(reg.storage()))
            && !instruction.is_zeroing()
        {
            self.unread_error = None;
            return;
        }
        if effects.registers.iter().any(|change| is_result(change.reg.storage()))
            && let Some((at, fact)) = self.unread_error.take()
        {
            let raw = RawFinding::new(Kind::ErrorIgnored, at, fact);
            found.push(raw.at(instruction.address, "the result is overwritten here"));
        }
    }

    fn after_call(
        &mut self,
        machine: &mut Machine,
        instruction: &Instruction,
        call: &CompletedCall,
        found: &mut Vec<RawFinding>,
    ) {
        let at = instruction.address;
        let report = &call.report;
        let enters_by_syscall = report.abi.arch() == machine.arch();
        let convention = machine.arch().convention();
        let destroyed: Vec<Storage> = match enters_by_syscall {
            true => convention.syscall_destroys.iter().map(|(storage, _)| *storage).collect(),
            false => Vec::new(),
        };
        let uses = self.shadow.system_call(instruction, report, &destroyed);
        for used in uses {
            found.push(self.of_use(machine, used));
        }
        let sent = report.arguments().into_iter().find(|argument| argument.is_sent);
        if let (Some(buffer), Some(count)) = (&sent, report.result.filter(|result| *result > 0))
            && let Some(used) = self.shadow.written_out(at, buffer.value, count as u64)
        {
            found.push(self.of_use(machine, used));
        }
        if let (Some(buffer), Some(count)) = (&sent, report.result.filter(|result| *result > 0))
            && let Some(Datum { start, end, name, .. }) = self.data.at(buffer.value)
            && let reach = buffer.value.saturating_add(count as u64)
            && reach > *end
            // Several texts beside each other may be meant as one; a length that is one off is not.
            && (reach - end <= 2 || self.data.at(reach - 1).is_none())
        {
            let call = report.name.unwrap_or("the call");
            let fact = format!(
                "`{name}`{} is {} bytes, and `{call}` was asked for {count}",
                offset(buffer.value - start),
                end - buffer.value
            );
            let help =
                format!("give the length of `{name}`: `length = . - {name}` right behind it");
            found.push(RawFinding::new(Kind::DubiousCall, at, fact).help(help));
        }
        for written in &report.written {
            let Some(Datum { start, end, name, .. }) = self.data.at(written.address) else {
                continue;
            };
            let reach = written.address.saturating_add(written.bytes);
            if reach > *end {
                let room = end - written.address;
                let fact = format!(
                    "the call wrote {} bytes at `{name}`{}, which has room for {room}",
                    written.bytes,
                    offset(written.address - start)
                );
                found.push(RawFinding::new(Kind::PastBuffer, at, fact));
            }
        }
        if let Some(notice) = &report.notice {
            let kind = if !report.is_modelled { Kind::UnknownCall } else { Kind::DubiousCall };
            let mut raw = RawFinding::new(kind, at, notice.message.clone());
            raw.help = notice.help.clone();
            found.push(raw);
        }
        self.unread_error = None;
        if let (Some(error), Some(name), None) = (report.error(), report.name, &report.notice) {
            let fact =
                format!("`{name}` failed with {}, and nothing tests its result", error.name());
            self.unread_error = Some((at, fact));
        }
    }

    /// A use of an uninitialised value, as a finding.
    fn of_use(&self, machine: &Machine, used: TaintedUse) -> RawFinding {
        let name = |storage: Storage| machine.arch().storage_name(storage);
        let (kind, fact, cause) = match used.cause {
            Cause::Unset(storage) => {
                let name = name(storage);
                (Kind::Unset, format!("{name} is used {} and was never set", used.how), None)
            }
            Cause::Call(storage, from) => {
                let name = name(storage);
                let fact = format!("{name} is used {} after a call that changed it", used.how);
                (Kind::LostInCall, fact, Some((from, format!("this call changed {name}"))))
            }
            Cause::Syscall(storage, from) => {
                let name = name(storage);
                let left = machine.arch().convention().syscall_destroys.iter();
                let left = left.clone().find(|(known, _)| *known == storage);
                let left = left.map_or("something else", |(_, left)| left);
                let fact = format!(
                    "{name} is used {} after a system call that left {left} in it",
                    used.how
                );
                (Kind::LostInSyscall, fact, Some((from, format!("this call destroyed {name}"))))
            }
            Cause::Unwritten(address) => {
                let fact =
                    format!("memory at {address:#x} is used {} and was never written", used.how);
                (Kind::Unwritten, fact, None)
            }
            Cause::Stale(address, from) => {
                let fact = format!(
                    "memory at {address:#x} is used {}, and was below the stack pointer when a call returned",
                    used.how
                );
                (Kind::Stale, fact, Some((from, "this is the call".to_string())))
            }
        };
        let mut raw = RawFinding::new(kind, used.first_read, fact);
        if let Some((address, text)) = cause {
            raw = raw.at(address, text);
        }
        if used.at != used.first_read {
            raw = raw.at(used.at, format!("it is used {} here", used.how));
        }
        raw
    }

    /// Adds what the end of the program says.
    pub fn finish(&mut self, session: &mut Session) {
        let Some(Termination::Killed(_, fault)) = session.ending() else { return };
        let Some(report) = session.fault_report() else { return };
        let astray = matches!(fault, Fault::Memory(fault) if fault.access == AccessKind::Execute);
        // A return that went wrong was told already, with its reason.
        let told = self.findings.last().is_some_and(|last| {
            let returned = matches!(Kind::of(last), Some(Kind::Unbalanced | Kind::ReturnAddress));
            returned && last.moment.is_some_and(|moment| moment + 1 >= session.moment())
        });
        if astray && told {
            return;
        }
        let read_only = matches!(fault, Fault::Memory(fault)
            if fault.access == AccessKind::Write && fault.kind == MemoryFaultKind::Protected);
        let kind = match (astray, read_only) {
            (true, _) => Kind::RanPast,
            (_, true) => Kind::WriteReadOnly,
            _ => Kind::Fault,
        };
        let mut fact = report.message.clone();
        if let Some(first) = report.facts.first() {
            fact = format!("{fact}; {first}");
        }
        let mut raw = RawFinding::new(kind, report.place.address, fact);
        raw.help = report.help.clone();
        if !report.add.is_empty() {
            let lines = report.add.join("\n");
            raw.help = Some(match raw.help {
                Some(help) => format!("{}:\n{lines}", help.trim_end_matches(':')),
                None => lines,
            });
        }
        let moment = session.moment();
        self.tell_all(session, moment, vec![raw], true);
    }

    fn tell_all(
        &mut self,
        session: &mut Session,
        moment: u64,
        found: Vec<RawFinding>,
        always: bool,
    ) {
        for raw in found {
            let judged = always || self.options.libraries || is_judged(session.image(), raw.at);
            if !judged
                || self.options.allow.contains(&raw.kind)
                || !self.seen.insert((raw.kind, raw.at, raw.subject))
            {
                continue;
            }
            // Compilers leave out a mask that the processor applies itself.
            let masked = raw.kind == Kind::ShiftCount && session.place(raw.at).is_compiled();
            if !masked {
                self.findings.extend(raw.named(session, Some(moment)));
            }
        }
    }

    /// The findings so far, in the order in which they came.
    pub fn findings(&self) -> &[Finding] {
        &self.findings
    }

    /// The findings.
    pub fn into_findings(self) -> Vec<Finding> {
        self.findings
    }
}

/// Whether the code at an address is the user's: it has source lines, or its routine has a contract.
fn is_judged(image: &Image, address: u64) -> bool {
    if image.lines.at(address).is_some() {
        return true;
    }
    let before = image.symbol_before(address);
    before.is_some_and(|(symbol, _)| image.contract_at(symbol.address).is_some())
}

/// ` + 8`, and nothing for 0.
pub(crate) fn offset(bytes: u64) -> String {
    if bytes == 0 { String::new() } else { format!(" + {bytes}") }
}
