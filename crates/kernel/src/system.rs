//! The system: everything that a program can observe of a computer and its kernel.

use std::collections::BTreeMap;
use std::sync::Arc;

use sotto_isa::Arch;
use sotto_machine::{Machine, MemorySnapshot, Snapshot};
use sotto_object::Image;

use crate::calls::identity::{PROCESS, USER};
use crate::files::epolls::Epolls;
use crate::files::logs::{InputLog, MemoryStore, Output, OutputLog, Store};
use crate::files::open::OpenFiles;
use crate::files::pipes::Pipes;
use crate::files::shown::ShownFolder;
use crate::files::sockets::Sockets;
use crate::files::tree::{HOME, Origin, ROOT, Tree};
use crate::files::walk::{LastLink, walk};
use crate::load::{self, Interpreter, MAX_STRING_BYTES, StartError, Startup};
use crate::process::{Process, ProcessId};
use crate::report::{CompletedCall, KernelWrite, RepeatedNotice};
use crate::scheduler::Scheduler;
use crate::space::{ParkedSpace, Space, SpaceId, SpaceSnapshot};
use crate::stop::Termination;

/// Gives input piece by piece, and `None` at its end.
pub type InputSource = Box<dyn FnMut() -> Option<Vec<u8>> + Send>;

/// A program with all that it can observe: its process, the tasks of it, time, input and output.
pub struct System {
    /// The memory of the task that is shown, with its registers and calls; see [`System::show_task`].
    pub machine: Machine,
    /// What is known of that memory.
    pub(crate) space: Space,
    /// The process of that task.
    pub(crate) process: Process,
    /// The other processes.
    pub(crate) processes: BTreeMap<ProcessId, Box<Process>>,
    /// The other address spaces.
    pub(crate) spaces: BTreeMap<SpaceId, ParkedSpace>,
    pub(crate) last_space: u32,
    /// The process with which the run ends.
    pub(crate) first_process: ProcessId,
    /// How many things happened that tasks may wait for.
    pub(crate) events: u64,
    /// The pipes that are open.
    pub(crate) pipes: Pipes,
    pub(crate) sockets: Sockets,
    /// The sets of descriptors that are waited for.
    pub(crate) epolls: Epolls,
    pub(crate) scheduler: Scheduler,
    /// The files.
    pub(crate) tree: Tree,
    pub(crate) open_files: OpenFiles,
    /// The time of day at the start, in nanoseconds since 1970.
    pub(crate) start_time: u64,
    /// Instructions completed since the start, by all tasks.
    pub(crate) executed: u64,
    pub(crate) ending: Option<Termination>,
    pub(crate) input: InputLog,
    /// Where input comes from when it is wanted.
    pub(crate) input_source: Option<InputSource>,
    /// Bytes of input that were read.
    pub(crate) input_taken: u64,
    pub(crate) output: OutputLog,
    /// What the system call that is being made wrote into memory so far.
    pub(crate) written: Vec<KernelWrite>,
    /// What entering the last handler wrote into memory, when it was a step.
    pub(crate) delivery: Vec<KernelWrite>,
    /// The latest system calls, the earliest first.
    pub(crate) made: Vec<Arc<CompletedCall>>,
    /// System calls with a notice, not yet collected.
    pub(crate) noticed: Vec<RepeatedNotice>,
    /// Running stops before each system call.
    pub(crate) stops_at_calls: bool,
    /// Running stopped last since there would be more memory than there may be.
    pub(crate) at_memory_limit: bool,
    /// An instruction was begun and is not completed.
    pub(crate) unfinished: bool,
    /// Running stopped last since all tasks wait for signals that nothing will send.
    pub(crate) stuck: bool,
}

/// A system at a moment. Input is not part of it: what was given stays given.
#[derive(Clone)]
pub struct SystemSnapshot {
    machine: Snapshot,
    space: Space,
    process: Process,
    processes: BTreeMap<ProcessId, Box<Process>>,
    spaces: BTreeMap<SpaceId, SpaceSnapshot>,
    last_space: u32,
    events: u64,
    pipes: Pipes,
    sockets: Sockets,
    epolls: Epolls,
    scheduler: Scheduler,
    tree: Tree,
    open_files: OpenFiles,
    executed: u64,
    ending: Option<Termination>,
    input_taken: u64,
    output_bytes: u64,
    made: Vec<Arc<CompletedCall>>,
}

impl SystemSnapshot {
    /// Bytes that it takes beside its memory; the latest system calls are shared with other snapshots.
    pub fn own_bytes(&self) -> usize {
        self.machine.own_bytes()
            + self.scheduler.bytes()
            + self.process.bytes()
            + self.processes.values().map(|process| process.bytes()).sum::<usize>()
            + self.spaces.values().map(|space| space.machine.own_bytes()).sum::<usize>()
            + self.pipes.bytes()
            + self.sockets.bytes()
            + self.epolls.bytes()
            + self.tree.own_bytes()
            + self.made.capacity() * size_of::<Arc<CompletedCall>>()
    }

    /// Bytes of memory that this snapshot takes and does not share with another.
    pub fn memory_bytes_not_in(&self, other: &SystemSnapshot) -> usize {
        let spaces = self.spaces.iter().map(|(id, space)| (*id, &space.machine));
        let all = spaces.chain([(self.space.id, &self.machine)]);
        let bytes = |(id, machine): (SpaceId, &Snapshot)| {
            // A new address space is a copy of the first, but for a program that was executed.
            let before = other.memory(id).unwrap_or_else(|| other.machine.memory());
            machine.memory().bytes_not_in(before)
        };
        all.map(bytes).sum()
    }

    /// The memory of an address space, if there was one of this number.
    pub fn memory(&self, id: SpaceId) -> Option<&MemorySnapshot> {
        match id == self.space.id {
            true => Some(self.machine.memory()),
            false => self.spaces.get(&id).map(|space| space.machine.memory()),
        }
    }

    /// Instructions completed up to this moment.
    pub fn executed(&self) -> u64 {
        self.executed
    }

    /// The machine's state, with the registers of the task that was running.
    pub fn machine(&self) -> &Snapshot {
        &self.machine
    }
}

impl System {
    /// Loads a program.
    ///
    /// # Errors
    ///
    /// See [`StartError`].
    pub fn start(image: &Image, startup: &Startup) -> Result<System, StartError> {
        let strings = startup.arguments.iter().chain(&startup.environment);
        if strings.map(|text| text.len() + 9).sum::<usize>() > MAX_STRING_BYTES {
            return Err(StartError::ArgumentsTooLong);
        }
        let (open_files, descriptors) = OpenFiles::with_streams();
        let mut tree = Tree::new(&Origin {
            name: startup.arguments.first().map_or(&b"program"[..], Vec::as_slice),
            process: PROCESS,
            user: USER as u32,
            time: startup.clock.saturating_mul(1_000_000_000),
        });
        let mut folders: Vec<&ShownFolder> = startup.folders.iter().collect();
        folders.sort_by_key(|folder| folder.guest.len());
        for folder in folders {
            let no_place = || StartError::NoPlace(folder.guest.escape_ascii().to_string());
            tree.show(folder).ok_or_else(no_place)?;
        }
        let home =
            walk(&mut tree, ROOT, HOME, LastLink::Followed).ok().and_then(|found| found.inode);
        let directory = home.unwrap_or(ROOT);
        let interpreter = Interpreter::find(image, &mut tree)?;
        let (first, first_space) = (ProcessId(PROCESS as u32), SpaceId::FIRST);
        let mapped = interpreter.as_ref().map(Interpreter::mapped_files).unwrap_or_default();
        let executable = startup.arguments.first().map_or(&b""[..], Vec::as_slice);
        Ok(System {
            machine: load::load(image, interpreter.as_ref(), startup, executable)?,
            space: Space::new(first_space, image, startup, mapped),
            process: Process::first(first, first_space, startup, descriptors, directory),
            processes: BTreeMap::new(),
            spaces: BTreeMap::new(),
            last_space: first_space.0,
            first_process: first,
            events: 0,
            pipes: Pipes::default(),
            sockets: Sockets::default(),
            epolls: Epolls::default(),
            scheduler: Scheduler::new(first, startup.interleaving),
            tree,
            open_files,
            start_time: startup.clock.saturating_mul(1_000_000_000),
            executed: 0,
            ending: None,
            input: InputLog::new(Box::<MemoryStore>::default()),
            input_source: None,
            input_taken: 0,
            output: OutputLog::new(Box::<MemoryStore>::default()),
            written: Vec::new(),
            delivery: Vec::new(),
            made: Vec::new(),
            noticed: Vec::new(),
            stops_at_calls: false,
            at_memory_limit: false,
            unfinished: false,
            stuck: false,
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
        self.space.memory_limit
    }

    /// Whether the program was stopped last since it wants more memory than it may have.
    pub fn is_at_memory_limit(&self) -> bool {
        self.at_memory_limit
    }

    /// Whether the program was stopped last since all its tasks wait for signals that nothing will send.
    pub fn is_stuck(&self) -> bool {
        self.stuck
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
    pub fn take_input_of(&mut self, other: &System) {
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

    pub(crate) fn put_output(&mut self, fd: u8, bytes: &[u8]) {
        self.output.push(fd, bytes);
    }

    /// Bytes that the system call which is being made has transferred so far.
    pub(crate) fn transferred(&mut self) -> &mut u64 {
        &mut self.scheduler.current().transferred
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

    /// What entering a handler wrote into memory, if that was the last step.
    pub fn delivery_writes(&self) -> &[KernelWrite] {
        &self.delivery
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

    /// The system as it is now.
    pub fn snapshot(&mut self) -> SystemSnapshot {
        self.show_running();
        SystemSnapshot {
            machine: self.machine.snapshot(),
            space: self.space.clone(),
            process: self.process.clone(),
            processes: self.processes.clone(),
            spaces: self.spaces.iter_mut().map(|(id, space)| (*id, space.snapshot())).collect(),
            last_space: self.last_space,
            events: self.events,
            pipes: self.pipes.clone(),
            sockets: self.sockets.clone(),
            epolls: self.epolls.clone(),
            scheduler: self.scheduler.clone(),
            tree: self.tree.clone(),
            open_files: self.open_files.clone(),
            executed: self.executed,
            ending: self.ending,
            input_taken: self.input_taken,
            output_bytes: self.output.len(),
            made: self.made.clone(),
        }
    }

    /// Puts the system back to a snapshot of it, whose output must not have been taken since.
    pub fn restore(&mut self, snapshot: &SystemSnapshot) {
        self.restore_spaces(&snapshot.spaces, &snapshot.space);
        self.machine.restore(&snapshot.machine);
        self.process.clone_from(&snapshot.process);
        self.processes.clone_from(&snapshot.processes);
        self.last_space = snapshot.last_space;
        self.events = snapshot.events;
        self.pipes.clone_from(&snapshot.pipes);
        self.sockets.clone_from(&snapshot.sockets);
        self.epolls.clone_from(&snapshot.epolls);
        self.scheduler.clone_from(&snapshot.scheduler);
        self.tree.clone_from(&snapshot.tree);
        self.open_files.clone_from(&snapshot.open_files);
        self.executed = snapshot.executed;
        self.ending = snapshot.ending;
        self.input_taken = snapshot.input_taken;
        self.output.truncate(snapshot.output_bytes);
        self.scheduler.current().transferred = 0;
        self.unfinished = false;
        self.made.clone_from(&snapshot.made);
        self.noticed.clear();
    }
}
