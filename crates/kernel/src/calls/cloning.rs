//! Making tasks: threads and processes. Sources: clone(2), fork(2), vfork(2).

use sotto_machine::Signal;

use crate::Errno;
use crate::abi::SyscallAbi;
use crate::arguments::Address;
use crate::calls::call::{Answer, Call, Outcome, notice, put};
use crate::layout::number_at;
use crate::process::ProcessId;
use crate::processes::{MOST_TASKS, NewTask};
use crate::system::System;

/// The signal that fork(2) sends the parent when the child ends.
const SIGCHLD: u64 = Signal::SIGCHLD.number() as u64;

// Flags. Source: clone(2), <linux/sched.h>.
const EXIT_SIGNAL: u64 = 0xff;
const CLONE_VM: u64 = 0x100;
const CLONE_FS: u64 = 0x200;
const CLONE_FILES: u64 = 0x400;
const CLONE_SIGHAND: u64 = 0x800;
const CLONE_PIDFD: u64 = 0x1000;
const CLONE_VFORK: u64 = 0x4000;
const CLONE_PARENT: u64 = 0x8000;
const CLONE_THREAD: u64 = 0x1_0000;
const CLONE_SYSVSEM: u64 = 0x4_0000;
const CLONE_SETTLS: u64 = 0x8_0000;
const CLONE_PARENT_SETTID: u64 = 0x10_0000;
const CLONE_CHILD_CLEARTID: u64 = 0x20_0000;
const CLONE_DETACHED: u64 = 0x40_0000;
const CLONE_UNTRACED: u64 = 0x80_0000;
const CLONE_CHILD_SETTID: u64 = 0x100_0000;
const CLONE_IO: u64 = 0x8000_0000;
const CLONE_CLEAR_SIGHAND: u64 = 0x1_0000_0000;

/// The flags, with their names.
pub(crate) const CLONE: &[(&str, u64)] = &[
    ("CLONE_VM", CLONE_VM),
    ("CLONE_FS", CLONE_FS),
    ("CLONE_FILES", CLONE_FILES),
    ("CLONE_SIGHAND", CLONE_SIGHAND),
    ("CLONE_PIDFD", CLONE_PIDFD),
    ("CLONE_VFORK", CLONE_VFORK),
    ("CLONE_PARENT", CLONE_PARENT),
    ("CLONE_THREAD", CLONE_THREAD),
    ("CLONE_SYSVSEM", CLONE_SYSVSEM),
    ("CLONE_SETTLS", CLONE_SETTLS),
    ("CLONE_PARENT_SETTID", CLONE_PARENT_SETTID),
    ("CLONE_CHILD_CLEARTID", CLONE_CHILD_CLEARTID),
    ("CLONE_CHILD_SETTID", CLONE_CHILD_SETTID),
    ("SIGCHLD", SIGCHLD),
];

/// The arguments of clone, whichever call they came by.
#[derive(Default)]
struct Request {
    flags: u64,
    exit_signal: u64,
    /// The stack pointer, or 0 for that of who makes the task.
    stack: u64,
    /// Where the number of the task is written for who makes it, and for itself.
    parent_number: u64,
    /// Where a descriptor that names it is written.
    descriptor_at: u64,
    child_number: u64,
    thread_pointer: u64,
}

/// Checks a request, and makes the task when the call is completed.
fn start(call: &mut Call, request: &Request) -> Answer {
    let Request { flags, .. } = *request;
    let has = |flag: u64| flags & flag != 0;
    let is_thread = has(CLONE_THREAD);
    let needs = [(CLONE_SIGHAND, CLONE_VM), (CLONE_THREAD, CLONE_SIGHAND)];
    let lacks = needs.iter().any(|(flag, other)| has(*flag) && !has(*other));
    if lacks || has(CLONE_SIGHAND) && has(CLONE_CLEAR_SIGHAND) || request.exit_signal > 64 {
        return Err(Errno::EINVAL).into();
    }
    let known = CLONE.iter().fold(0, |all, (_, flag)| all | flag)
        | CLONE_DETACHED
        | CLONE_UNTRACED
        | CLONE_IO
        | CLONE_CLEAR_SIGHAND;
    if flags & !known != 0 || !is_thread && has(CLONE_FILES | CLONE_FS) {
        let message = format!("`clone` with the flags {flags:#x} makes what is not modelled");
        let help = "modelled are threads of a process (CLONE_VM, CLONE_THREAD), copies of it (fork) and vfork";
        return (Outcome::from(Errno::EINVAL), notice(message, help)).into();
    }
    let system = &mut *call.system;
    if system.scheduler.tasks.len().max(system.all_processes().count()) >= MOST_TASKS {
        let message =
            format!("there are {MOST_TASKS} threads and processes, and no more may be made");
        return (Outcome::from(Errno::EAGAIN), notice(message, "let some end, and wait for them"))
            .into();
    }
    if has(CLONE_PIDFD) {
        // The old call has one address for both numbers.
        let is_shared = request.descriptor_at == request.parent_number;
        if has(CLONE_DETACHED) || is_thread || has(CLONE_PARENT_SETTID) && is_shared {
            return Err(Errno::EINVAL).into();
        }
        let id = ProcessId(system.scheduler.last_id + 1);
        let opened = system.open_process(id, false).and_then(|fd| {
            let told = put(system, request.descriptor_at, &fd.to_le_bytes());
            told.inspect_err(|_| {
                let _ = system.close(fd);
            })
        });
        if let Err(errno) = opened {
            return Err(errno).into();
        }
    }
    let id = system.scheduler.next_id();
    if has(CLONE_PARENT_SETTID)
        && let Err(errno) = put(system, request.parent_number, &id.to_le_bytes())
    {
        return Err(errno).into();
    }
    Outcome::Started(Box::new(NewTask {
        id,
        is_thread,
        shares_memory: has(CLONE_VM),
        suspends_parent: has(CLONE_VFORK) && !is_thread,
        is_sibling: has(CLONE_PARENT),
        clears_handlers: has(CLONE_CLEAR_SIGHAND),
        exit_signal: request.exit_signal as u32,
        stack: Some(request.stack).filter(|stack| *stack != 0),
        thread_pointer: has(CLONE_SETTLS).then_some(request.thread_pointer),
        tell_at: has(CLONE_CHILD_SETTID).then_some(request.child_number),
        clear_at_end: if has(CLONE_CHILD_CLEARTID) { request.child_number } else { 0 },
    }))
    .into()
}

/// Which arguments the flags ask for.
pub(crate) fn counts(abi: SyscallAbi, values: &[u64; 6]) -> u8 {
    let asks = |flags: u64| u8::from(values[0] & flags != 0);
    let child = asks(CLONE_CHILD_SETTID | CLONE_CHILD_CLEARTID);
    let (fourth, fifth) = match abi.clone_has_pointer_last() {
        true => (child, asks(CLONE_SETTLS)),
        false => (asks(CLONE_SETTLS), child),
    };
    0b11 | asks(CLONE_PARENT_SETTID | CLONE_PIDFD) << 2 | fourth << 3 | fifth << 4
}

/// `clone(2)`, whose last two arguments machines have in their own order.
pub(crate) fn clone(
    call: &mut Call,
    flags: u64,
    Address(stack): Address,
    Address(parent_number): Address,
    fourth: u64,
    fifth: u64,
) -> Answer {
    let (child_number, thread_pointer) = match call.abi.clone_has_pointer_last() {
        true => (fourth, fifth),
        false => (fifth, fourth),
    };
    let request = Request {
        flags: flags & !EXIT_SIGNAL,
        exit_signal: flags & EXIT_SIGNAL,
        stack,
        parent_number,
        descriptor_at: parent_number,
        child_number,
        thread_pointer,
    };
    start(call, &request)
}

/// `clone3(2)`
pub(crate) fn clone3(call: &mut Call, Address(arguments): Address, size: u64) -> Answer {
    match read_arguments(call.system, arguments, size) {
        Ok(request) => start(call, &request),
        Err(errno) => Err(errno).into(),
    }
}

/// The structure `clone_args`.
fn read_arguments(system: &mut System, at: u64, size: u64) -> Result<Request, Errno> {
    const LEAST: u64 = 64;
    if size < LEAST {
        return Err(Errno::EINVAL);
    }
    if size > 4096 {
        return Err(Errno::E2BIG);
    }
    let mut bytes = vec![0; size as usize];
    system.machine.memory_mut().read_bytes(at, &mut bytes).map_err(|_| Errno::EFAULT)?;
    if bytes.iter().skip(88).any(|byte| *byte != 0) {
        return Err(Errno::E2BIG);
    }
    bytes.resize(88, 0);
    let word = |number: usize| number_at(&bytes, 8 * number, 8);
    let (flags, stack, stack_size) = (word(0), word(5), word(6));
    // The number cannot be chosen, and there are no control groups.
    if word(8) != 0 || flags & EXIT_SIGNAL != 0 || (stack == 0) != (stack_size == 0) {
        return Err(Errno::EINVAL);
    }
    if flags & CLONE_THREAD != 0 && word(4) != 0 {
        return Err(Errno::EINVAL);
    }
    Ok(Request {
        flags,
        exit_signal: word(4),
        stack: stack.wrapping_add(stack_size),
        parent_number: word(3),
        descriptor_at: word(1),
        child_number: word(2),
        thread_pointer: word(7),
    })
}

/// `fork(2)`
pub(crate) fn fork(call: &mut Call) -> Answer {
    start(call, &Request { exit_signal: SIGCHLD, ..Request::default() })
}

/// `vfork(2)`
pub(crate) fn vfork(call: &mut Call) -> Answer {
    let flags = CLONE_VM | CLONE_VFORK;
    start(call, &Request { flags, exit_signal: SIGCHLD, ..Request::default() })
}
