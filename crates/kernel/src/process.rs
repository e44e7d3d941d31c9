//! A program running on a machine under the modelled kernel.

use std::sync::Arc;
use std::time::{Duration, Instant};

use sotto_isa::{Arch, Storage};
use sotto_machine::{
    Event, Fault, Machine, MemoryFault, MemoryFaultKind, Run, Signal, Snapshot, Step, Watcher,
};
use sotto_object::Image;

use crate::calls::dispatch;
use crate::calls::dispatch::Outcome;
use crate::files::logs::{InputLog, MemoryStore, Output, OutputLog, Store};
use crate::load::{self, MAX_STRING_BYTES, StartError, Startup};
use crate::report::{self, KernelWrite, SyscallReport};
use crate::table::Door;
use crate::{Errno, table, vdso};

/// EBX, ECX, EDX, ESI, EDI and EBP: where `int 0x80` finds the arguments. Source: syscall(2).
const INT80_ARGUMENTS: [Storage; 6] =
    [Storage(3), Storage(1), Storage(2), Storage(6), Storage(7), Storage(5)];

/// How a program ended.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Ending {
    /// It exited with this status, 0 to 255.
    Exited(i32),
    /// A fault raised this signal.
    Killed(Signal, Fault),
}

impl Ending {
    /// The status a shell would show: the exit status, or 128 and the signal's number.
    pub fn shell_status(self) -> i32 {
        match self {
            Ending::Exited(status) => status,
            Ending::Killed(signal, _) => 128 + signal.number(),
        }
    }
}

/// Why running stopped.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Stop {
    /// The budget is used up.
    Budget,
    /// Much was done for a few instructions; go on.
    Paused,
    /// The same in the middle of an instruction, whose moment is not reached yet; go on.
    Unfinished,
    /// The program touches more memory than it may; the instruction that does so is not completed.
    MemoryLimit,
    /// The program counter reached a stop.
    Place,
    /// The program wrote output; take it, and go on.
    Output,
    /// The program is at an instruction that makes a system call, and such stops were asked for.
    AtCall,
    /// A read wants input, and there is none yet. Give some or close the input, and go on.
    NeedsInput,
    /// An instruction, or a system call, wrote what is watched.
    Written,
    /// The program ended.
    Ended(Ending),
}

/// What came of running.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct Progress {
    /// Instructions completed.
    pub executed: u64,
    /// Why it stopped.
    pub stop: Stop,
}

/// A system call that was made at a moment.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct MadeCall {
    /// Instructions completed before the one that made it.
    pub moment: u64,
    /// Where that instruction stands.
    pub at: u64,
    /// What it was.
    pub report: SyscallReport,
}

/// System calls about which there is the same to say.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Noticed {
    /// The first of them.
    pub call: SyscallReport,
    /// How many there were.
    pub times: u64,
}

/// As many system calls are kept at least, and twice as many at most.
const KEPT_CALLS: usize = 128;

/// A run with system calls in it pauses after so long, so that somebody can ask it to stop.
const LONGEST_WITH_CALLS: Duration = Duration::from_millis(20);

/// Gives input piece by piece, and `None` at its end.
pub type InputSource = Box<dyn FnMut() -> Option<Vec<u8>> + Send>;

/// A program on a machine.
pub struct Process {
    /// The machine.
    pub machine: Machine,
    executed: u64,
    ending: Option<Ending>,
    input: InputLog,
    /// Where input comes from when it is wanted.
    input_source: Option<InputSource>,
    /// Bytes of input that were read.
    input_taken: u64,
    /// A bit for each of the three streams that the program has not closed.
    open_streams: u8,
    /// What the system call that is being made wrote into memory so far.
    written: Vec<KernelWrite>,
    /// Where the heap starts, and where it ends now.
    pub(crate) heap: (u64, u64),
    /// Bytes that the system call which is being made has transferred so far; it is not completed.
    transferred: u64,
    /// Running stops before each system call.
    stops_at_calls: bool,
    /// Running stopped last since there would be more memory than there may be.
    at_memory_limit: bool,
    /// An instruction was begun and is not completed.
    unfinished: bool,
    /// All of a program's memory together; pages take room only when they are touched.
    pub(crate) memory_limit: u64,
    output: OutputLog,
    /// The latest system calls, the earliest first.
    made: Vec<Arc<MadeCall>>,
    /// System calls with a notice, not yet collected.
    noticed: Vec<Noticed>,
}

/// A process at a moment. Input is not part of it: what was given stays given.
#[derive(Clone)]
pub struct ProcessSnapshot {
    machine: Snapshot,
    executed: u64,
    ending: Option<Ending>,
    input_taken: u64,
    open_streams: u8,
    heap: (u64, u64),
    output_bytes: u64,
    made: Vec<Arc<MadeCall>>,
}

impl ProcessSnapshot {
    /// Bytes that it takes beside its memory; the latest system calls are shared with other snapshots.
    pub fn own_bytes(&self) -> usize {
        self.machine.own_bytes() + self.made.capacity() * size_of::<Arc<MadeCall>>()
    }

    /// Instructions completed up to this moment.
    pub fn executed(&self) -> u64 {
        self.executed
    }

    /// The machine's state.
    pub fn machine(&self) -> &Snapshot {
        &self.machine
    }
}

impl Process {
    /// Loads a program.
    ///
    /// # Errors
    ///
    /// See [`StartError`].
    pub fn start(image: &Image, startup: &Startup) -> Result<Process, StartError> {
        let strings = startup.arguments.iter().chain(&startup.environment);
        if strings.map(|text| text.len() + 9).sum::<usize>() > MAX_STRING_BYTES {
            return Err(StartError::ArgumentsTooLong);
        }
        Ok(Process {
            machine: load::load(image, startup)?,
            executed: 0,
            ending: None,
            input: InputLog::new(Box::<MemoryStore>::default()),
            input_source: None,
            input_taken: 0,
            open_streams: 0b111,
            written: Vec::new(),
            heap: {
                let end = image.segments.iter().map(|segment| segment.end()).max().unwrap_or(0);
                let start = end.next_multiple_of(sotto_machine::PAGE_BYTES);
                (start, start)
            },
            transferred: 0,
            stops_at_calls: false,
            at_memory_limit: false,
            unfinished: false,
            memory_limit: startup.memory_limit,
            output: OutputLog::new(Box::<MemoryStore>::default()),
            made: Vec::new(),
            noticed: Vec::new(),
        })
    }

    /// The kind of machine.
    pub fn arch(&self) -> Arch {
        self.machine.arch()
    }

    /// Instructions completed since the start.
    pub fn executed(&self) -> u64 {
        self.executed
    }

    /// How the program ended, if it has.
    pub fn ending(&self) -> Option<Ending> {
        self.ending
    }

    /// Appends a piece to the program's standard input; `false` if that was closed, and the piece is
    /// not taken.
    pub fn give_input(&mut self, bytes: &[u8]) -> bool {
        self.input.push(bytes)
    }

    /// Chooses where input comes from when the program wants some: nonempty pieces, and `None` at the end.
    pub fn set_input_source(&mut self, source: InputSource) {
        self.input_source = Some(source);
    }

    /// Chooses where input and output are kept. What there was of them is forgotten.
    pub fn set_stores(&mut self, input: Box<dyn Store>, output: Box<dyn Store>) {
        (self.input, self.output) = (InputLog::new(input), OutputLog::new(output));
        self.input_taken = 0;
    }

    /// Forgets input that was read, for who does not go back in time.
    pub fn forget_read_input(&mut self) {
        if self.input.is_used_up(self.input_taken) {
            self.input.forget();
            self.input_taken = 0;
        }
    }

    /// Bytes of memory that are kept about the process, beside its memory and what its stores hold.
    pub fn kept_bytes(&self) -> usize {
        self.input.own_bytes() + self.output.own_bytes()
    }

    /// Sets whether running stops before each system call, with [`Stop::AtCall`]; a step makes the call then.
    pub fn stop_at_calls(&mut self, stops: bool) {
        self.stops_at_calls = stops;
    }

    /// Bytes of memory that the program may map, and touch.
    pub fn memory_limit(&self) -> u64 {
        self.memory_limit
    }

    /// Whether the program was stopped last since it wants more memory than it may have.
    pub fn is_at_memory_limit(&self) -> bool {
        self.at_memory_limit
    }

    /// Whether an instruction was begun and is not completed.
    pub fn is_unfinished(&self) -> bool {
        self.unfinished
    }

    /// Says that there will be no more input.
    pub fn close_input(&mut self) {
        self.input.closed = true;
    }

    /// Takes the input that another process was given, if this one was given none yet.
    pub fn take_input_of(&mut self, other: &Process) {
        if self.input.len() == 0 && !self.input.closed {
            self.input.copy_from(&other.input);
        }
    }

    /// Up to `count` bytes of input that were not read yet; `None` if it must be waited for.
    pub(crate) fn peek_input(&mut self, count: usize) -> Option<Vec<u8>> {
        loop {
            let found = self.input.peek(self.input_taken, count);
            let (None, Some(source)) = (&found, &mut self.input_source) else { return found };
            match source() {
                Some(bytes) => {
                    self.input.push(&bytes);
                }
                None => self.input.closed = true,
            }
        }
    }

    pub(crate) fn take_input(&mut self, count: usize) {
        self.input_taken += count as u64;
    }

    /// Whether a file descriptor, a 32-bit integer, is open.
    pub(crate) fn is_open(&self, fd: u64) -> bool {
        matches!(fd as u32, 0..=2) && self.open_streams >> (fd as u32) & 1 != 0
    }

    /// Closes one of the three streams.
    pub(crate) fn close(&mut self, fd: u64) {
        self.open_streams &= !(1 << (fd as u32));
    }

    /// Writes bytes for a system call, all of them or none.
    pub(crate) fn write_guest(&mut self, address: u64, bytes: &[u8]) -> Result<(), Errno> {
        let old = self.first_bytes(address, bytes.len());
        self.machine.memory_mut().write_bytes(address, bytes).map_err(|_| Errno::EFAULT)?;
        self.note_written(address, bytes, old);
        Ok(())
    }

    /// Writes bytes for a system call up to the first that cannot be written; how many were written.
    pub(crate) fn copy_out(&mut self, address: u64, bytes: &[u8]) -> usize {
        let old = self.first_bytes(address, bytes.len());
        let memory = self.machine.memory_mut();
        let mut done = 0;
        while done < bytes.len() {
            let at = address.wrapping_add(done as u64);
            let in_page = (sotto_machine::PAGE_BYTES - at % sotto_machine::PAGE_BYTES) as usize;
            let end = bytes.len().min(done + in_page);
            if memory.write_bytes(at, &bytes[done..end]).is_err() {
                break;
            }
            done = end;
        }
        self.note_written(address, &bytes[..done], old);
        done
    }

    /// Up to eight bytes as a little-endian number; those that cannot be read are zeros.
    fn first_bytes(&mut self, address: u64, count: usize) -> u64 {
        let mut first = [0; 8];
        let _ = self.machine.memory_mut().read_bytes(address, &mut first[..count.min(8)]);
        u64::from_le_bytes(first)
    }

    fn note_written(&mut self, address: u64, bytes: &[u8], old: u64) {
        if bytes.is_empty() {
            return;
        }
        let mut first = [0; 8];
        let known = bytes.len().min(8);
        first[..known].copy_from_slice(&bytes[..known]);
        let (bytes, new) = (bytes.len() as u64, u64::from_le_bytes(first));
        match self.written.last_mut() {
            Some(last) if last.bytes >= 8 && last.address.wrapping_add(last.bytes) == address => {
                last.bytes += bytes;
            }
            _ => self.written.push(KernelWrite { address, bytes, old, new }),
        }
    }

    pub(crate) fn put_output(&mut self, fd: u8, bytes: &[u8]) {
        self.output.push(fd, bytes);
    }

    /// Bytes that the system call which is being made has transferred so far.
    pub(crate) fn transferred(&mut self) -> &mut u64 {
        &mut self.transferred
    }

    /// Bytes that the program wrote and that were not taken yet.
    pub fn output_bytes(&self) -> u64 {
        self.output.len()
    }

    /// Bytes that the program wrote and that could not be kept.
    pub fn lost_output(&self) -> u64 {
        self.output.lost()
    }

    /// What the program wrote and was not taken yet, from an offset on; `most` bytes at most.
    pub fn output_since(&self, offset: u64, most: u64) -> Vec<Output> {
        self.output.since(offset, most)
    }

    /// All that the program wrote and was not taken yet.
    pub fn output(&self) -> Vec<Output> {
        self.output.since(0, u64::MAX)
    }

    /// The latest system calls, the earliest first; those that wait for input are not made yet.
    pub fn made_calls(&self) -> &[Arc<MadeCall>] {
        &self.made
    }

    /// Takes what the program wrote.
    pub fn take_output(&mut self) -> Vec<Output> {
        let taken = self.output();
        self.output.truncate(0);
        taken
    }

    /// Takes the reports of system calls that are probably mistakes.
    pub fn take_noticed(&mut self) -> Vec<Noticed> {
        std::mem::take(&mut self.noticed)
    }

    /// Runs until the program ends, needs input, writes output, reaches a stop, or `budget`
    /// instructions are completed.
    pub fn run(&mut self, budget: u64) -> Progress {
        self.run_by(budget, None)
    }

    /// Runs likewise under a watcher, which can stop it with [`Stop::Written`].
    pub fn run_watched(&mut self, budget: u64, watcher: &mut Watcher) -> Progress {
        self.run_by(budget, Some(watcher))
    }

    fn run_by(&mut self, budget: u64, mut watcher: Option<&mut Watcher>) -> Progress {
        let mut executed = 0;
        let mut started: Option<Instant> = None;
        loop {
            if let Some(ending) = self.ending {
                return Progress { executed, stop: Stop::Ended(ending) };
            }
            (self.unfinished, self.at_memory_limit) = (false, false);
            let left = budget - executed;
            let run: Run = match &mut watcher {
                Some(watcher) => self.machine.run_watched(left, watcher),
                None => self.machine.run(left),
            };
            executed += run.executed;
            self.executed += run.executed;
            let stop = match run.event {
                Event::Budget => Some(Stop::Budget),
                Event::Paused => Some(Stop::Paused),
                Event::Unfinished => {
                    self.unfinished = true;
                    Some(Stop::Unfinished)
                }
                Event::Stop => Some(Stop::Place),
                Event::Written => Some(Stop::Written),
                Event::Fault(fault) => Some(self.stop_by(fault)),
                Event::Syscall | Event::Syscall32 | Event::Sysenter if self.stops_at_calls => {
                    self.undo_call(run.event);
                    executed -= 1;
                    Some(Stop::AtCall)
                }
                Event::Syscall | Event::Syscall32 | Event::Sysenter => {
                    let started = *started.get_or_insert_with(Instant::now);
                    let outputs = self.output.len();
                    let before = self.executed - 1;
                    let stop = self.syscall(run.event);
                    if let (Some(watcher), Some(call)) = (&mut watcher, self.made.last())
                        && call.moment == before
                    {
                        for written in &call.report.written {
                            watcher.note_kernel_write(written.address, written.bytes);
                        }
                        watcher.kernel_wrote(before, call.at);
                    }
                    let written = watcher.as_ref().is_some_and(|watcher| watcher.wants_stop());
                    match stop.or(written.then_some(Stop::Written)) {
                        Some(stop @ (Stop::NeedsInput | Stop::Unfinished)) => {
                            executed -= 1;
                            Some(stop)
                        }
                        Some(stop) => Some(stop),
                        None if self.output.len() > outputs => Some(Stop::Output),
                        // The machine takes the next run to start at a stop that was seen.
                        None if self.machine.is_stop(self.machine.pc()) => Some(Stop::Place),
                        // A call may take as long as many instructions.
                        None if started.elapsed() > LONGEST_WITH_CALLS => Some(Stop::Paused),
                        None => None,
                    }
                }
            };
            if let Some(stop) = stop {
                return Progress { executed, stop };
            }
        }
    }

    fn stop_by(&mut self, fault: Fault) -> Stop {
        if let Fault::Memory(MemoryFault { kind: MemoryFaultKind::Limit, .. }) = fault {
            self.at_memory_limit = true;
            return Stop::MemoryLimit;
        }
        let ending = Ending::Killed(fault.signal(), fault);
        self.ending = Some(ending);
        Stop::Ended(ending)
    }

    /// Executes one instruction, a system call with it if it makes one, and says what it did.
    ///
    /// The stop is [`Stop::Budget`] if the program can go on, and [`Stop::Unfinished`] if the machine's interrupt was
    /// asked for in the middle of the instruction.
    pub fn step(&mut self) -> (Step, Option<Arc<MadeCall>>, Stop) {
        if let Some(ending) = self.ending {
            let effects = Default::default();
            let step = Step { instruction: None, effects, event: None, jumped: false };
            return (step, None, Stop::Ended(ending));
        }
        (self.unfinished, self.at_memory_limit) = (false, false);
        let mut step = self.machine.step();
        let stop = match step.event {
            Some(Event::Fault(fault)) => self.stop_by(fault),
            Some(Event::Unfinished) => {
                self.unfinished = true;
                Stop::Unfinished
            }
            Some(event @ (Event::Syscall | Event::Syscall32 | Event::Sysenter)) => {
                self.executed += 1;
                let mut stop = self.syscall(event).unwrap_or(Stop::Budget);
                while stop == Stop::Unfinished && !self.machine.is_interrupted() {
                    // The instruction is made again for the rest of what its call transfers.
                    self.machine.take_back(std::mem::take(&mut step.effects));
                    step = self.machine.step();
                    self.executed += 1;
                    self.unfinished = false;
                    stop = self.syscall(event).unwrap_or(Stop::Budget);
                }
                // The kernel wrote registers after the instruction itself.
                for change in &mut step.effects.registers {
                    if let Some(storage) = change.reg.storage() {
                        change.new = self.machine.register(storage);
                    }
                }
                stop
            }
            _ => {
                self.executed += 1;
                Stop::Budget
            }
        };
        let called =
            matches!(step.event, Some(Event::Syscall | Event::Syscall32 | Event::Sysenter));
        let made = self.made.last().filter(|call| called && call.moment + 1 == self.executed);
        let made = made.cloned();
        (step, made, stop)
    }

    /// The way into the kernel that the machine took.
    fn door(&self, event: Event) -> Door {
        match event {
            Event::Syscall32 | Event::Sysenter => Door::X86_32,
            _ => Door::of(self.arch()),
        }
    }

    /// Makes the system call that the machine stopped at; `None` if the program goes on.
    fn syscall(&mut self, event: Event) -> Option<Stop> {
        let stop = self.make_call(event);
        if event == Event::Sysenter && stop.is_none() {
            vdso::go_on(&mut self.machine);
        }
        stop
    }

    fn make_call(&mut self, event: Event) -> Option<Stop> {
        let door = self.door(event);
        let convention = self.arch().convention();
        let number_register = convention.syscall_number;
        let number = number_register.storage().map_or(0, |storage| self.machine.register(storage));
        let registers = match door {
            Door::X86_32 => &INT80_ARGUMENTS[..],
            _ => convention.syscall_arguments,
        };
        let mut given: Vec<u64> =
            registers.iter().map(|storage| self.machine.register(*storage)).collect();
        let mut refused = None;
        if let (Event::Sysenter, Some(sixth)) = (event, given.get_mut(5)) {
            match vdso::sixth_argument(&mut self.machine) {
                Some(value) => *sixth = value,
                // Nothing is called then. Source: Linux, `arch/x86/entry/common.c`, `do_fast_syscall_32`.
                None => refused = Some(Errno::EFAULT.result()),
            }
        }
        let cut = |value: u64| if door == Door::X86_32 { value & 0xffff_ffff } else { value };
        // To the kernel the number is an int. Source: Linux, `do_syscall_64`, `el0_svc_common`.
        let (number, values) =
            (number & 0xffff_ffff, given.iter().map(|&v| cut(v)).collect::<Vec<u64>>());
        let mut report = SyscallReport {
            door,
            number,
            name: None,
            arguments: Vec::new(),
            written: Vec::new(),
            result: None,
            notice: None,
        };
        let Some(row) = table::by_number(door, number) else {
            let result = Errno::ENOSYS.result();
            self.set_result(result);
            report.notice = Some(report::not_modelled(door, number));
            report.result = Some(result);
            self.report(report);
            return None;
        };
        let (outcome, notice) = match refused {
            Some(result) => (Outcome::Returned(result), None),
            None => dispatch::perform(self, row.call, door, &values),
        };
        (report.name, report.notice) =
            (Some(row.name), report::cut(row, &given, &values).or(notice));
        let stop = match outcome {
            Outcome::Returned(result) => {
                self.set_result(result);
                report.result = Some(result);
                None
            }
            Outcome::NeedsInput | Outcome::Unfinished => {
                // It is made again when there is input, or for the rest.
                self.undo_call(event);
                if matches!(outcome, Outcome::Unfinished) {
                    self.unfinished = true;
                    return Some(Stop::Unfinished);
                }
                return Some(Stop::NeedsInput);
            }
            Outcome::Ended(ending) => {
                self.ending = Some(ending);
                Some(Stop::Ended(ending))
            }
        };
        report.written = std::mem::take(&mut self.written);
        let filled = report.result.and_then(|result| u64::try_from(result).ok()).filter(|&n| n > 0);
        report.arguments = report::arguments(row, &values, &mut self.machine, filled);
        self.report(report);
        stop
    }

    /// Goes back to the instruction that makes a system call, as if it had not been executed.
    fn undo_call(&mut self, event: Event) {
        self.executed -= 1;
        let at = self.machine.pc().wrapping_sub(self.call_length());
        self.machine.undo_syscall(event, at, self.executed);
    }

    /// Puts a call's result where the program looks for it, as wide as a register is there.
    fn set_result(&mut self, result: i64) {
        let arch = self.arch();
        let value = result as u64 & arch.address_width().mask();
        self.machine.set_register(arch.convention().syscall_result, value);
    }

    /// Bytes of the instruction that makes a system call.
    fn call_length(&self) -> u64 {
        // SYSCALL and INT are two bytes (SDM Vol. 2A and 2B), SVC four (Arm ARM, C6.2).
        match self.arch() {
            Arch::Arm64 => 4,
            _ => 2,
        }
    }

    fn report(&mut self, report: SyscallReport) {
        if report.notice.is_some() {
            let same = |noticed: &&mut Noticed| noticed.call.notice == report.notice;
            let has_room = self.noticed.len() < KEPT_CALLS;
            match self.noticed.iter_mut().find(same) {
                Some(noticed) => noticed.times += 1,
                // Who does not collect them is told of the first ones.
                None if has_room => {
                    self.noticed.push(Noticed { call: report.clone(), times: 1 });
                }
                None => {}
            }
        }
        if self.made.len() >= 2 * KEPT_CALLS {
            self.made.drain(..KEPT_CALLS);
        }
        let at = self.machine.pc().wrapping_sub(self.call_length());
        let moment = self.executed - 1;
        self.made.push(Arc::new(MadeCall { moment, at, report }));
    }

    /// The process as it is now.
    pub fn snapshot(&mut self) -> ProcessSnapshot {
        ProcessSnapshot {
            machine: self.machine.snapshot(),
            executed: self.executed,
            ending: self.ending,
            input_taken: self.input_taken,
            open_streams: self.open_streams,
            heap: self.heap,
            output_bytes: self.output.len(),
            made: self.made.clone(),
        }
    }

    /// Puts the process back to a snapshot of it, whose output must not have been taken since.
    pub fn restore(&mut self, snapshot: &ProcessSnapshot) {
        self.machine.restore(&snapshot.machine);
        self.executed = snapshot.executed;
        self.ending = snapshot.ending;
        self.input_taken = snapshot.input_taken;
        self.open_streams = snapshot.open_streams;
        self.heap = snapshot.heap;
        self.output.truncate(snapshot.output_bytes);
        (self.transferred, self.unfinished) = (0, false);
        self.made.clone_from(&snapshot.made);
        self.noticed.clear();
    }
}
