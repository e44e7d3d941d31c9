//! Executing programs. Source: execve(2).

use std::sync::Arc;

use sotto_machine::Machine;
use sotto_object::{Image, read_executable};

use crate::Errno;
use crate::arguments::{Address, Fd};
use crate::calls::call::{Answer, Call, Outcome, notice, read_path, read_string};
use crate::calls::paths::{AT_EMPTY_PATH, AT_FDCWD, AT_SYMLINK_NOFOLLOW, find_path};
use crate::files::inode::{Kind, Want};
use crate::files::walk::LastLink;
use crate::load::{self, Interpreter, MAX_STRING_BYTES, Startup};
use crate::mapped_files::MappedFiles;
use crate::process::name_of;
use crate::report::Notice;
use crate::space::{ParkedSpace, Space};
use crate::system::System;
use crate::task::TaskId;

/// A program that is ready to run.
pub(crate) struct Program {
    machine: Machine,
    image: Arc<Image>,
    mapped: MappedFiles,
    startup: Startup,
    path: Vec<u8>,
}

/// Bytes of the first line that names an interpreter. Source: execve(2), "Interpreter scripts".
const MOST_LINE_BYTES: usize = 256;
/// As many scripts may name each other.
const MOST_SCRIPTS: usize = 5;

/// Bytes of one string. Source: execve(2), "Limits on size of arguments and environment".
const MOST_STRING_BYTES: u64 = 131_072;

/// Why a program is not executed.
type Refused = (Errno, Option<Notice>);

/// The strings of a list of addresses that ends with 0.
fn strings(call: &mut Call, mut at: u64) -> Result<Vec<Vec<u8>>, Errno> {
    let width = call.abi.word_bytes();
    let (mut found, mut bytes) = (Vec::new(), 0);
    // Linux takes no list for an empty one.
    if at == 0 {
        return Ok(found);
    }
    loop {
        let mut word = [0; 8];
        let read = call.system.machine.memory_mut().read_bytes(at, &mut word[..width]);
        read.map_err(|_| Errno::EFAULT)?;
        let address = u64::from_le_bytes(word);
        if address == 0 {
            return Ok(found);
        }
        let text = read_string(call.system, address, MOST_STRING_BYTES)?.ok_or(Errno::E2BIG)?;
        bytes += text.len() + 9;
        if bytes > MAX_STRING_BYTES {
            return Err(Errno::E2BIG);
        }
        found.push(text);
        at = at.wrapping_add(width as u64);
    }
}

/// `execve(2)`
pub(crate) fn execve(
    call: &mut Call,
    path: Address,
    arguments: Address,
    environment: Address,
) -> Answer {
    execveat(call, Fd(AT_FDCWD), path, arguments, environment, 0)
}

/// `execveat(2)`
pub(crate) fn execveat(
    call: &mut Call,
    fd: Fd,
    path: Address,
    Address(arguments): Address,
    Address(environment): Address,
    flags: u64,
) -> Answer {
    match prepare(call, fd, path, arguments, environment, flags) {
        Ok(program) => Outcome::Executed(Box::new(program)).into(),
        Err((errno, notice)) => (Outcome::from(errno), notice).into(),
    }
}

fn prepare(
    call: &mut Call,
    Fd(fd): Fd,
    Address(path): Address,
    arguments: u64,
    environment: u64,
    flags: u64,
) -> Result<Program, Refused> {
    let plain = |errno: Errno| (errno, None);
    if flags & !(AT_EMPTY_PATH | AT_SYMLINK_NOFOLLOW) != 0 {
        return Err(plain(Errno::EINVAL));
    }
    let mut path = read_path(call.system, path).map_err(plain)?;
    if path.is_empty() && flags & AT_EMPTY_PATH != 0 {
        path = format!("/proc/self/fd/{fd}").into_bytes();
    }
    let mut arguments = strings(call, arguments).map_err(plain)?;
    let environment = strings(call, environment).map_err(plain)?;
    // A program finds a name at least. Source: Linux, `do_execveat_common`.
    if arguments.is_empty() {
        arguments.push(Vec::new());
    }
    let system = &mut *call.system;
    let last = LastLink::followed_if(flags & AT_SYMLINK_NOFOLLOW == 0);
    let name = path.clone();
    let mut bytes = program_bytes(system, fd, &path, last).map_err(plain)?;
    let mut scripts = 0;
    while let Some((interpreter, argument)) = script_line(&bytes).map_err(plain)? {
        scripts += 1;
        if scripts > MOST_SCRIPTS {
            return Err(plain(Errno::ELOOP));
        }
        arguments
            .splice(..1, [Some(interpreter.clone()), argument, Some(path)].into_iter().flatten());
        bytes = program_bytes(system, AT_FDCWD, &interpreter, LastLink::Followed).map_err(plain)?;
        path = interpreter;
    }
    let shown = path.escape_ascii().to_string();
    let refused = |why: String| {
        let help = "an ELF program for this machine can be executed, or a script with `#!` and the path of one";
        (Errno::ENOEXEC, notice(format!("{shown} cannot be executed: {why}"), help))
    };
    let image = read_executable(&bytes).map_err(|error| refused(error.to_string()))?;
    if image.arch != system.arch() {
        return Err(refused(format!("it is for {}", image.arch.name())));
    }
    let startup = Startup {
        arguments,
        environment,
        seed: system.machine.next_random(),
        memory_limit: system.space.memory_limit,
        clock: 0,
        interleaving: None,
        folders: Vec::new(),
    };
    let failed = |why: String, errno: Errno| {
        (
            errno,
            notice(
                format!("{shown} cannot be executed: {why}"),
                "see which files the program is shown (--files)",
            ),
        )
    };
    let interpreter = Interpreter::find(&image, &mut system.tree)
        .map_err(|error| failed(error.to_string(), Errno::ENOENT))?;
    let mut machine = load::load(&image, interpreter.as_ref(), &startup, &name)
        .map_err(|error| failed(error.to_string(), Errno::ENOMEM))?;
    machine.take_settings_of(&system.machine);
    let mapped = interpreter.as_ref().map(Interpreter::mapped_files).unwrap_or_default();
    Ok(Program { machine, image: Arc::new(image), mapped, startup, path: name })
}

/// The bytes of a file that may be executed.
fn program_bytes(
    system: &mut System,
    fd: u32,
    path: &[u8],
    last: LastLink,
) -> Result<Vec<u8>, Errno> {
    let found = find_path(system, fd, path, last)?;
    let id = found.existing(&system.tree)?;
    let inode = system.tree.get(id);
    match inode.kind {
        Kind::File(_) => inode.check(Want::Execute)?,
        Kind::Link(_) => return Err(Errno::ELOOP),
        _ => return Err(Errno::EACCES),
    }
    system.flush_shared(id);
    system.tree.file_bytes(id).ok_or(Errno::EACCES)
}

/// The interpreter that a script names, and the argument behind it.
type ScriptLine = (Vec<u8>, Option<Vec<u8>>);

/// What the first line of a script says; `None` if it is no script.
fn script_line(bytes: &[u8]) -> Result<Option<ScriptLine>, Errno> {
    let Some(rest) = bytes.strip_prefix(b"#!") else { return Ok(None) };
    let rest = &rest[..rest.len().min(MOST_LINE_BYTES - 2)];
    let line = rest.split(|byte| *byte == b'\n' || *byte == 0).next().unwrap_or_default();
    let line = line.trim_ascii();
    let end = line.iter().position(|byte| matches!(byte, b' ' | b'\t')).unwrap_or(line.len());
    let (interpreter, argument) = line.split_at(end);
    if interpreter.is_empty() {
        return Err(Errno::ENOEXEC);
    }
    let argument = argument.trim_ascii();
    Ok(Some((interpreter.to_vec(), (!argument.is_empty()).then(|| argument.to_vec()))))
}

impl System {
    /// Puts a program in the place of that of the running task, which is the only one of its process then.
    pub(crate) fn execute(&mut self, program: Program) {
        let Program { mut machine, image, mapped, startup, path } = program;
        let (own, process) = (self.running_task(), self.process.id);
        self.clear_at_end();
        self.flush_all_shared();
        self.remove_tasks(|task| task.process == process && task.id != own);
        // The first task has the number of the process.
        let current = self.scheduler.current();
        current.id = TaskId(process.0);
        current.signals.alternate = None;
        current.robust_list = 0;
        machine.take_time_of(&mut self.machine);
        let id = self.next_space();
        let mut space = Space::new(id, &image, &startup, mapped);
        space.program = Some(image);
        std::mem::swap(&mut self.machine, &mut machine);
        std::mem::swap(&mut self.space, &mut space);
        self.spaces.insert(space.id, ParkedSpace { machine: Box::new(machine), space });
        self.process.space = id;
        self.drop_unused_spaces();
        self.resume_parent();
        self.process.has_executed = true;
        self.process.name = name_of(&path).into();
        self.process.arguments = startup.arguments.into();
        self.process.environment = startup.environment.into();
        self.process.signals.reset_handlers();
        self.process.signals.timers.retain(|timer| timer.id.number().is_none());
        for fd in 0..self.process.descriptors.len() as u32 {
            if self.descriptor(fd).is_ok_and(|descriptor| descriptor.close_on_exec) {
                let _ = self.close(fd);
            }
        }
    }
}
