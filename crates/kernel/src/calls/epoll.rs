//! Sets of descriptors that are waited for: making them, changing them, waiting.
//!
//! Sources: epoll_create(2), epoll_ctl(2), epoll_wait(2), epoll(7); Linux, `fs/eventpoll.c` for the order in which events are told.

use crate::Errno;
use crate::abi::SyscallAbi;
use crate::arguments::{Address, Fd};
use crate::calls::call::{Answer, Call, put};
use crate::calls::polling::{is_over, under_mask, waits_for};
use crate::calls::readiness::{DEEPEST, POLLIN, Wakes};
use crate::calls::time::read_time;
use crate::files::epolls::{EDGE, EXCLUSIVE, Entry, EpollId, Key, ONE_SHOT};
use crate::files::open::{OpenFile, OpenFlags, What};
use crate::layout::number_at;
use crate::system::System;
use crate::target::target;

/// Offset of the data in `struct epoll_event`, behind the events. Source: <linux/eventpoll.h>.
pub(crate) fn data_offset(abi: SyscallAbi) -> usize {
    // On x86 the structure is packed, so that it is the same in programs of 32 and 64 bits.
    match abi {
        SyscallAbi::X86_64 | SyscallAbi::X86_32 => 4,
        SyscallAbi::Arm64 => 8,
    }
}

/// `epoll_create1(2)`
pub(crate) fn epoll_create1(call: &mut Call, flags: u64) -> Result<u64, Errno> {
    let close_on_exec = target(call.abi.arch()).open_bits.close_on_exec;
    if flags & 0xffff_ffff & !close_on_exec != 0 {
        return Err(Errno::EINVAL);
    }
    let system = &mut *call.system;
    system.free_descriptor(0)?;
    let what = What::Epoll(system.epolls.add());
    let access = OpenFlags::READ | OpenFlags::WRITE;
    let file = OpenFile::new(what, access, 2, b"anon_inode:[eventpoll]");
    system.open(file, flags & close_on_exec != 0).map(u64::from)
}

/// `epoll_create(2)`
pub(crate) fn epoll_create(call: &mut Call, size: i32) -> Result<u64, Errno> {
    if size <= 0 {
        return Err(Errno::EINVAL);
    }
    epoll_create1(call, 0)
}

const EPOLL_CTL_ADD: u64 = 1;
const EPOLL_CTL_DEL: u64 = 2;
const EPOLL_CTL_MOD: u64 = 3;

/// The set that a descriptor names.
fn set_of(system: &System, fd: u32) -> Result<EpollId, Errno> {
    match system.open_file(fd)?.what {
        What::Epoll(id) => Ok(id),
        _ => Err(Errno::EINVAL),
    }
}

/// How deep sets are in a set; `None` if one is in itself or they are too deep.
fn depth(system: &System, id: EpollId, outer: EpollId, left: u32) -> Option<u32> {
    let left = left.checked_sub(1)?;
    let mut deepest = 0;
    for key in system.epolls.get(id)?.entries.keys() {
        if let Some(What::Epoll(inner)) = system.open_files.get(key.0).map(|open| &open.what) {
            if *inner == outer {
                return None;
            }
            deepest = deepest.max(1 + depth(system, *inner, outer, left)?);
        }
    }
    Some(deepest)
}

/// `epoll_ctl(2)`
pub(crate) fn epoll_ctl(
    call: &mut Call,
    Fd(set): Fd,
    operation: u64,
    Fd(fd): Fd,
    Address(event): Address,
) -> Result<u64, Errno> {
    let operation = operation & 0xffff_ffff;
    let (offset, system) = (data_offset(call.abi), &mut *call.system);
    let mut asked = [0; 16];
    if operation != EPOLL_CTL_DEL {
        let bytes = &mut asked[..offset + 8];
        system.machine.memory_mut().read_bytes(event, bytes).map_err(|_| Errno::EFAULT)?;
    }
    system.open_file(set)?;
    let key: Key = (system.descriptor(fd)?.file, fd);
    // Files and directories are always ready.
    if matches!(system.open_file(fd)?.what, What::Inode(_) | What::Proc(..)) {
        return Err(Errno::EPERM);
    }
    let id = set_of(system, set)?;
    if system.descriptor(set)?.file == key.0 {
        return Err(Errno::EINVAL);
    }
    let (events, data) = (number_at(&asked, 0, 4), number_at(&asked, offset, 8));
    let inner = match system.open_file(fd)?.what {
        What::Epoll(inner) => Some(inner),
        _ => None,
    };
    if events & EXCLUSIVE != 0 {
        const WITH_EXCLUSIVE: u64 = 0xb000_001d;
        let is_allowed = operation == EPOLL_CTL_ADD && inner.is_none();
        if operation != EPOLL_CTL_DEL && (!is_allowed || events & !WITH_EXCLUSIVE != 0) {
            return Err(Errno::EINVAL);
        }
    }
    let known = system.epolls.get(id).and_then(|set| set.entries.get(&key));
    let (is_known, was_exclusive) =
        (known.is_some(), known.is_some_and(|entry| entry.events & EXCLUSIVE != 0));
    if let (EPOLL_CTL_ADD, Some(inner)) = (operation, inner)
        && depth(system, inner, id, DEEPEST).is_none()
    {
        return Err(Errno::ELOOP);
    }
    let Some(set) = system.epolls.get_mut(id) else { return Err(Errno::EBADF) };
    match operation {
        EPOLL_CTL_ADD if is_known => return Err(Errno::EEXIST),
        EPOLL_CTL_ADD => {
            set.entries.insert(key, Entry { events, data, seen: None });
        }
        EPOLL_CTL_DEL => {
            return set.remove(key).map(|_| 0).ok_or(Errno::ENOENT);
        }
        EPOLL_CTL_MOD if was_exclusive => return Err(Errno::EINVAL),
        EPOLL_CTL_MOD => {
            let entry = set.entries.get_mut(&key).ok_or(Errno::ENOENT)?;
            *entry = Entry { events, data, seen: None };
        }
        _ => return Err(Errno::EINVAL),
    }
    look_at(system, id, key);
    system.note_event();
    Ok(0)
}

/// Queues an entry if it is ready.
fn look_at(system: &mut System, id: EpollId, key: Key) {
    let wanted = system.epolls.get(id).and_then(|set| Some(set.entries.get(&key)?.wanted()));
    let is_ready = system.readiness(key.0) & wanted.unwrap_or(0) != 0;
    if let (true, Some(set)) = (is_ready, system.epolls.get_mut(id)) {
        set.queue(key);
    }
}

/// Queues what became ready without anybody of the system: timers that ran out, signals, input, and sets of such.
fn look_at_others(system: &mut System, id: EpollId) {
    let keys: Vec<Key> =
        system.epolls.get(id).map(|set| set.entries.keys().copied().collect()).unwrap_or_default();
    let now = system.machine.time();
    for key in keys {
        let seen = match system.open_files.get(key.0).map(|open| &open.what) {
            Some(What::Timer { at: Some(at), .. }) if *at <= now => Some(*at),
            Some(What::Signals(_) | What::Input | What::Epoll(_)) => None,
            _ => continue,
        };
        let Some(entry) = system.epolls.get_mut(id).and_then(|set| set.entries.get_mut(&key))
        else {
            continue;
        };
        let is_change = seen.is_none() || entry.seen != seen;
        entry.seen = seen;
        // What is told once for each change is told when the timer runs out after it was read.
        if is_change {
            look_at(system, id, key);
        }
    }
}

/// What a set has to tell, up to so many entries: events and data.
fn collect(system: &mut System, id: EpollId, most: usize) -> Vec<(u64, u64)> {
    look_at_others(system, id);
    let Some(set) = system.epolls.get_mut(id) else { return Vec::new() };
    let queued = std::mem::take(&mut set.ready);
    let (mut told, mut again, mut rest) = (Vec::new(), Vec::new(), Vec::new());
    for key in queued {
        if told.len() == most {
            rest.push(key);
            continue;
        }
        let wanted = system.epolls.get(id).and_then(|set| Some(set.entries.get(&key)?.wanted()));
        let events = system.readiness(key.0) & wanted.unwrap_or(0);
        let entry = system.epolls.get_mut(id).and_then(|set| set.entries.get_mut(&key));
        let (Some(entry), true) = (entry, events != 0) else { continue };
        told.push((events, entry.data));
        if entry.events & ONE_SHOT != 0 {
            entry.events &= EDGE | ONE_SHOT;
        } else if entry.events & EDGE == 0 {
            again.push(key);
        }
    }
    if let Some(set) = system.epolls.get_mut(id) {
        set.ready = [rest, again].concat();
    }
    told
}

/// Waits up to a number of nanoseconds, or for ever.
fn wait_for(
    call: &mut Call,
    Fd(fd): Fd,
    Address(events): Address,
    most: i32,
    duration: Option<u64>,
) -> Result<Answer, Errno> {
    let most = usize::try_from(most).ok().filter(|most| *most > 0).ok_or(Errno::EINVAL)?;
    let id = set_of(call.system, fd)?;
    let offset = data_offset(call.abi);
    let told = collect(call.system, id, most);
    let end = duration.map(|duration| call.deadline(duration));
    if told.is_empty() && !is_over(call, end) {
        let wakes = call.system.wakes(call.system.descriptor(fd)?.file);
        // A timer that ran out and was told once does not make it ready again.
        let until = next_change(call.system, id);
        return Ok(waits_for(call, end, Wakes { until, ..wakes }).into());
    }
    let mut bytes = Vec::new();
    for (events, data) in &told {
        let start = bytes.len();
        bytes.extend((*events as u32).to_le_bytes());
        bytes.resize(start + offset, 0);
        bytes.extend(data.to_le_bytes());
    }
    put(call.system, events, &bytes)?;
    Ok(Ok(told.len() as u64).into())
}

/// When the first of the timers of a set runs out.
fn next_change(system: &mut System, id: EpollId) -> Option<u64> {
    let now = system.machine.time();
    let entries = system.epolls.get(id)?.entries.iter();
    let asked = entries.filter(|(_, entry)| entry.wanted() & POLLIN != 0);
    asked.filter_map(|(key, _)| system.wakes(key.0).until).filter(|at| *at > now).min()
}

fn milliseconds(time: i32) -> Option<u64> {
    u64::try_from(time).ok().map(|millis| millis * 1_000_000)
}

/// `epoll_wait(2)`
pub(crate) fn epoll_wait(call: &mut Call, fd: Fd, events: Address, most: i32, time: i32) -> Answer {
    wait_for(call, fd, events, most, milliseconds(time)).unwrap_or_else(|errno| Err(errno).into())
}

/// `epoll_pwait(2)`
pub(crate) fn epoll_pwait(
    call: &mut Call,
    fd: Fd,
    events: Address,
    most: i32,
    time: i32,
    Address(mask): Address,
    size: u64,
) -> Answer {
    under_mask(call, mask, size, |call| epoll_wait(call, fd, events, most, time))
}

/// `epoll_pwait2(2)`
pub(crate) fn epoll_pwait2(
    call: &mut Call,
    fd: Fd,
    events: Address,
    most: i32,
    Address(time): Address,
    Address(mask): Address,
    size: u64,
) -> Answer {
    let duration = match time {
        0 => None,
        time => match read_time(call.system, 8, time) {
            Ok(duration) => Some(duration),
            Err(errno) => return Err(errno).into(),
        },
    };
    under_mask(call, mask, size, |call| {
        wait_for(call, fd, events, most, duration).unwrap_or_else(|errno| Err(errno).into())
    })
}
