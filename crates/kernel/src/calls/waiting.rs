//! Waiting for processes, and who belongs together: parents, process groups and sessions.
//!
//! Sources: wait4(2), waitid(2), getpid(2), setpgid(2), setsid(2), credentials(7).

use sotto_machine::Signal;

use crate::Errno;
use crate::arguments::Address;
use crate::calls::call::{Answer, Call, Outcome, put};
use crate::calls::identity::USER;
use crate::calls::scheduling;
use crate::layout::Layout;
use crate::process::{News, OUTSIDE, Process, ProcessId};
use crate::processes::{change_of, change_of_news};
use crate::stop::Termination;
use crate::system::System;

/// `getpid(2)`
pub(crate) fn process_number(call: &mut Call) -> Result<u64, Errno> {
    Ok(call.system.process.id.0.into())
}

/// `getppid(2)`
pub(crate) fn parent(call: &mut Call) -> Result<u64, Errno> {
    Ok(call.system.process.parent.0.into())
}

/// `getpgrp(2)`
pub(crate) fn group(call: &mut Call) -> Result<u64, Errno> {
    Ok(call.system.process.group.into())
}

/// The process of a number, or the own one for 0.
pub(crate) fn named(system: &System, number: u64) -> Result<&Process, Errno> {
    match number as u32 {
        0 => Ok(&system.process),
        number => system.process(ProcessId(number)).ok_or(Errno::ESRCH),
    }
}

/// `getpgid(2)`
pub(crate) fn group_of(call: &mut Call, process: u64) -> Result<u64, Errno> {
    named(call.system, process).map(|process| process.group.into())
}

/// `getsid(2)`
pub(crate) fn session_of(call: &mut Call, process: u64) -> Result<u64, Errno> {
    named(call.system, process).map(|process| process.session.into())
}

/// `setpgid(2)`
pub(crate) fn set_group(call: &mut Call, process: u64, group: u64) -> Result<u64, Errno> {
    let system = &mut *call.system;
    if (group as i32) < 0 {
        return Err(Errno::EINVAL);
    }
    let (own, own_session) = (system.process.id, system.process.session);
    let found = named(system, process)?;
    let (id, session) = (found.id, found.session);
    let (is_child, has_executed) = (found.parent == own, found.has_executed);
    if id != own && !is_child {
        return Err(Errno::ESRCH);
    }
    if is_child && id != own {
        if session != own_session {
            return Err(Errno::EPERM);
        }
        if has_executed {
            return Err(Errno::EACCES);
        }
    }
    // The leader of a session stays in its group.
    if session == id.0 {
        return Err(Errno::EPERM);
    }
    let group = if group as u32 == 0 { id.0 } else { group as u32 };
    let mut all = system.all_processes();
    if group != id.0 && !all.any(|other| other.group == group && other.session == own_session) {
        return Err(Errno::EPERM);
    }
    drop(all);
    if let Some(process) = system.process_mut(id) {
        process.group = group;
    }
    Ok(0)
}

/// `setsid(2)`, which the leader of a group may not make.
pub(crate) fn set_session(call: &mut Call) -> Result<u64, Errno> {
    let system = &mut *call.system;
    let own = system.process.id.0;
    if system.all_processes().any(|process| process.group == own) {
        return Err(Errno::EPERM);
    }
    (system.process.group, system.process.session) = (own, own);
    Ok(own.into())
}

/// Whose changes are waited for.
#[derive(Copy, Clone)]
enum Whose {
    Any,
    Process(u32),
    Group(u32),
}

const SIGCHLD: u32 = Signal::SIGCHLD.number() as u32;

/// What changes are waited for, and how. Source: waitid(2), <linux/wait.h>.
const WNOHANG: u64 = 1;
const WSTOPPED: u64 = 2;
const WEXITED: u64 = 4;
const WCONTINUED: u64 = 8;
const WNOWAIT: u64 = 0x100_0000;
/// Of threads and other kinds of children.
const WNOTHREAD: u64 = 0x2000_0000;
const WALL: u64 = 0x4000_0000;
const WCLONE: u64 = 0x8000_0000;

/// A change of a child.
#[derive(Copy, Clone)]
enum Change {
    Ended(Termination),
    News(News),
}

impl Change {
    /// The status as wait4 tells it. Source: wait(2), <sys/wait.h>.
    fn status(self) -> u32 {
        match self {
            Change::Ended(Termination::Exited(status)) => (status as u32 & 0xff) << 8,
            Change::Ended(Termination::Killed(signal, _)) => signal.number() as u32,
            Change::News(News::Stopped(signal)) => signal << 8 | 0x7f,
            Change::News(News::Continued) => 0xffff,
        }
    }

    /// The code and the status as waitid tells them.
    fn code(self) -> (i32, u32) {
        match self {
            Change::Ended(ending) => change_of(ending),
            Change::News(news) => change_of_news(news),
        }
    }
}

/// Looks for a change of a child. `Ok(None)` says that there are children, and none has changed so.
fn find(system: &System, whose: Whose, options: u64) -> Result<Option<(ProcessId, Change)>, Errno> {
    let own = system.process.id;
    let is_wanted = |process: &&Process| {
        let is_it = match whose {
            Whose::Any => true,
            Whose::Process(number) => process.id.0 == number,
            Whose::Group(group) => process.group == group,
        };
        let is_clone = process.exit_signal != SIGCHLD;
        let is_kind = options & WALL != 0 || is_clone == (options & WCLONE != 0);
        process.parent == own && is_it && is_kind
    };
    let mut any = false;
    for process in system.all_processes().filter(is_wanted) {
        any = true;
        let change = match (process.ended, process.news) {
            (Some(ending), _) if options & WEXITED != 0 => Change::Ended(ending),
            (None, Some(news @ News::Stopped(_))) if options & WSTOPPED != 0 => Change::News(news),
            (None, Some(News::Continued)) if options & WCONTINUED != 0 => {
                Change::News(News::Continued)
            }
            _ => continue,
        };
        return Ok(Some((process.id, change)));
    }
    if any { Ok(None) } else { Err(Errno::ECHILD) }
}

/// Takes a change that a parent was told of, and with it what is left of a process that ended.
fn take(system: &mut System, id: ProcessId, change: Change) {
    match change {
        Change::Ended(_) => {
            if let Some(child) = system.processes.remove(&id) {
                system.process.children_time += child.used_time + child.children_time;
            }
        }
        Change::News(_) => {
            if let Some(process) = system.process_mut(id) {
                process.news = None;
            }
        }
    }
}

/// `wait4(2)`
pub(crate) fn wait4(
    call: &mut Call,
    process: i32,
    Address(status): Address,
    options: u64,
    Address(usage): Address,
) -> Answer {
    let options = options & 0xffff_ffff;
    const KNOWN: u64 = WNOHANG | WSTOPPED | WCONTINUED | WNOTHREAD | WALL | WCLONE;
    if options & !KNOWN != 0 {
        return Err(Errno::EINVAL).into();
    }
    if process == i32::MIN {
        return Err(Errno::ESRCH).into();
    }
    let whose = match process {
        ..-1 => Whose::Group(process.unsigned_abs()),
        -1 => Whose::Any,
        0 => Whose::Group(call.system.process.group),
        _ => Whose::Process(process as u32),
    };
    let (id, change) = match find(call.system, whose, options | WEXITED) {
        Ok(Some(found)) => found,
        Ok(None) if options & WNOHANG != 0 => return Ok(0).into(),
        Ok(None) => return Outcome::Waits(call.system.event_wait(None, true)).into(),
        Err(errno) => return Err(errno).into(),
    };
    let told = tell(call, id, status, usage, change);
    take(call.system, id, change);
    told.map(|()| u64::from(id.0)).into()
}

fn tell(
    call: &mut Call,
    id: ProcessId,
    status: u64,
    usage: u64,
    change: Change,
) -> Result<(), Errno> {
    if status != 0 {
        put(call.system, status, &change.status().to_le_bytes())?;
    }
    tell_usage(call, id, usage)
}

/// Tells what a child has used, with what its own children did that it waited for.
fn tell_usage(call: &mut Call, id: ProcessId, to: u64) -> Result<(), Errno> {
    if to == 0 {
        return Ok(());
    }
    let time = call.system.process(id).map_or(0, |child| child.used_time + child.children_time);
    scheduling::usage(call, to, time, 0).map(|_| ())
}

/// `waitpid(2)`
pub(crate) fn waitpid(call: &mut Call, process: i32, status: Address, options: u64) -> Answer {
    wait4(call, process, status, options, Address(0))
}

/// `waitid(2)`
pub(crate) fn waitid(
    call: &mut Call,
    kind: u64,
    id: u64,
    Address(info): Address,
    options: u64,
    Address(usage): Address,
) -> Answer {
    let (kind, id, options) = (kind as u32, id as u32, options & 0xffff_ffff);
    const KNOWN: u64 =
        WNOHANG | WSTOPPED | WEXITED | WCONTINUED | WNOWAIT | WNOTHREAD | WALL | WCLONE;
    // What changes of state are waited for must be said.
    if options & !KNOWN != 0 || options & (WSTOPPED | WEXITED | WCONTINUED) == 0 {
        return Err(Errno::EINVAL).into();
    }
    let whose = match (kind, id) {
        (0, _) => Whose::Any,
        (1, 1..) => Whose::Process(id),
        (2, 0) => Whose::Group(call.system.process.group),
        (2, _) => Whose::Group(id),
        (3, fd) => match call.system.named_process(fd) {
            Ok(process) => Whose::Process(process.0),
            Err(errno) => return Err(errno).into(),
        },
        _ => return Err(Errno::EINVAL).into(),
    };
    let found = match find(call.system, whose, options) {
        Ok(None) if options & WNOHANG == 0 => {
            return Outcome::Waits(call.system.event_wait(None, true)).into();
        }
        Ok(found) => found,
        Err(errno) => return Err(errno).into(),
    };
    let mut layout = Layout::default();
    if let Some((process, change)) = found {
        let (code, status) = change.code();
        layout.put(4, [SIGCHLD, 0, code as u32]);
        layout.fill_to(if call.abi.word_bytes() == 8 { 16 } else { 12 });
        layout.put(4, [process.0, USER as u32, status]);
    }
    // Without a change the first fields are zeros, and the others stay. Source: waitid(2).
    layout.fill_to(if call.abi.word_bytes() == 8 { 28 } else { 24 });
    let told = match info {
        0 => Ok(()),
        info => put(call.system, info, &layout.0),
    };
    if let Err(errno) = told {
        return Err(errno).into();
    }
    if let Some((process, change)) = found
        && options & WNOWAIT == 0
    {
        if let Err(errno) = tell_usage(call, process, usage) {
            return Err(errno).into();
        }
        take(call.system, process, change);
    }
    Ok(0).into()
}

/// Processes that a number of kill(2) names beside a single one: those of a group, or all but the own one.
pub(crate) fn several(system: &System, number: i32) -> Vec<ProcessId> {
    let own = &system.process;
    let group = match number {
        0 => Some(own.group),
        -1 => None,
        _ => Some(number.unsigned_abs()),
    };
    let is_meant = |process: &&Process| match group {
        Some(group) => process.group == group,
        None => process.id != own.id && process.id != OUTSIDE,
    };
    system.all_processes().filter(is_meant).map(|process| process.id).collect()
}
