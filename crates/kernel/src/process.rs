//! A program running on a machine under the modelled kernel.

use std::sync::Arc;

use sotto_isa::Arch;
use sotto_machine::{Fault, Machine, Signal, Snapshot};
use sotto_object::Image;

use crate::Errno;
use crate::files::logs::{InputLog, MemoryStore, Output, OutputLog, Store};
use crate::load::{self, MAX_STRING_BYTES, StartError, Startup};
use crate::report::{KernelWrite, SyscallReport};

/// How a program ended.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Termination {
    /// It exited with this status, 0 to 255.
    Exited(i32),
    /// A fault raised this signal.
    Killed(Signal, Fault),
}

impl Termination {
    /// The status a shell would show: the exit status, or 128 and the signal's number.
    pub fn shell_status(self) -> i32 {
        match self {
            Termination::Exited(status) => status,
            Termination::Killed(signal, _) => 128 + signal.number(),
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
    Terminated(Termination),
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
pub struct CompletedCall {
    /// Instructions completed before the one that made it.
    pub moment: u64,
    /// Where that instruction stands.
    pub at: u64,
    /// What it was.
    pub report: SyscallReport,
}

/// System calls about which there is the same to say.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct RepeatedNotice {
    /// The first of them.
    pub call: SyscallReport,
    /// How many there were.
    pub times: u64,
}

/// Gives input piece by piece, and `None` at its end.
pub type InputSource = Box<dyn FnMut() -> Option<Vec<u8>> + Send>;

/// A program on a machine.
pub struct Process {
    /// The machine.
    pub machine: Machine,
    pub(crate) executed: u64,
    pub(crate) ending: Option<Termination>,
    pub(crate) input: InputLog,
    /// Where input comes from when it is wanted.
    pub(crate) input_source: Option<InputSource>,
    /// Bytes of input that were read.
    pub(crate) input_taken: u64,
    /// A bit for each of the three streams that the program has not closed.
    pub(crate) open_streams: u8,
    /// What the system call that is being made wrote into memory so far.
    pub(crate) written: Vec<KernelWrite>,
    /// Where the heap starts, and where it ends now.
    pub(crate) heap: (u64, u64),
    /// Bytes that the system call which is being made has transferred so far; it is not completed.
    pub(crate) transferred: u64,
    /// Running stops before each system call.
    pub(crate) stops_at_calls: bool,
    /// Running stopped last since there would be more memory than there may be.
    pub(crate) at_memory_limit: bool,
    /// An instruction was begun and is not completed.
    pub(crate) unfinished: bool,
    /// All of a program's memory together; pages take room only when they are touched.
    pub(crate) memory_limit: u64,
    pub(crate) output: OutputLog,
    /// The latest system calls, the earliest first.
    pub(crate) made: Vec<Arc<CompletedCall>>,
    /// System calls with a notice, not yet collected.
    pub(crate) noticed: Vec<RepeatedNotice>,
}

/// A process at a moment. Input is not part of it: what was given stays given.
#[derive(Clone)]
pub struct ProcessSnapshot {
    machine: Snapshot,
    executed: u64,
    ending: Option<Termination>,
    input_taken: u64,
    open_streams: u8,
    heap: (u64, u64),
    output_bytes: u64,
    made: Vec<Arc<CompletedCall>>,
}

impl ProcessSnapshot {
    /// Bytes that it takes beside its memory; the latest system calls are shared with other snapshots.
    pub fn own_bytes(&self) -> usize {
        self.machine.own_bytes() + self.made.capacity() * size_of::<Arc<CompletedCall>>()
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
    pub fn ending(&self) -> Option<Termination> {
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
    pub fn completed_calls(&self) -> &[Arc<CompletedCall>] {
        &self.made
    }

    /// Takes what the program wrote.
    pub fn take_output(&mut self) -> Vec<Output> {
        let taken = self.output();
        self.output.truncate(0);
        taken
    }

    /// Takes the reports of system calls that are probably mistakes.
    pub fn take_noticed(&mut self) -> Vec<RepeatedNotice> {
        std::mem::take(&mut self.noticed)
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
