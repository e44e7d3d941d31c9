//! Waiting for descriptors. Sources: poll(2), select(2).

use crate::Errno;
use crate::arguments::Address;
use crate::calls::call::{Answer, Call, Outcome, put};
use crate::calls::events;
use crate::calls::time::read_time;
use crate::files::open::{MAX_DESCRIPTORS, OpenFlags, What};
use crate::files::pipes::{ATOMIC_BYTES, PipeId};
use crate::layout::number_at;
use crate::signals::SignalSet;
use crate::system::System;
use crate::task::Wait;

const POLLIN: u64 = 1;
const POLLOUT: u64 = 4;
const POLLERR: u64 = 8;
const POLLHUP: u64 = 0x10;
const POLLNVAL: u64 = 0x20;
const POLLRDNORM: u64 = 0x40;
const POLLWRNORM: u64 = 0x100;

/// What a descriptor is ready for.
fn readiness(system: &mut System, fd: u32) -> u64 {
    if let Some((reads, writes, _)) = events::readiness(system, fd) {
        return u64::from(reads) * POLLIN + u64::from(writes) * POLLOUT;
    }
    let Ok(open) = system.open_file(fd) else { return POLLNVAL };
    let flags = open.flags;
    match open.what {
        What::Pipe(id) => pipe_readiness(system, id, flags),
        What::Input => match system.peek_input(1) {
            None => 0,
            Some(bytes) if bytes.is_empty() => POLLHUP,
            Some(_) => POLLIN | POLLRDNORM,
        },
        What::Output(_) => POLLOUT | POLLWRNORM,
        _ => POLLIN | POLLOUT | POLLRDNORM | POLLWRNORM,
    }
}

/// What an end of a pipe is ready for.
fn pipe_readiness(system: &System, id: PipeId, flags: OpenFlags) -> u64 {
    let mut ready = 0;
    let pipe = system.pipes.get(id);
    if flags.contains(OpenFlags::READ) {
        if pipe.is_some_and(|pipe| !pipe.bytes.is_empty()) {
            ready |= POLLIN | POLLRDNORM;
        }
        if !system.has_pipe_end(id, OpenFlags::WRITE) {
            ready |= POLLHUP;
        }
    }
    if flags.contains(OpenFlags::WRITE) {
        if pipe.is_some_and(|pipe| pipe.room() as u64 >= ATOMIC_BYTES) {
            ready |= POLLOUT | POLLWRNORM;
        }
        if !system.has_pipe_end(id, OpenFlags::READ) {
            ready |= POLLERR;
        }
    }
    ready
}

/// Looks at `count` structures and waits up to a number of nanoseconds, or for ever.
fn poll_for(call: &mut Call, fds: u64, count: u64, duration: Option<u64>) -> Answer {
    let system = &mut *call.system;
    if count > MAX_DESCRIPTORS.into() {
        return Err(Errno::EINVAL).into();
    }
    let (mut ready, mut waits_for_input, mut first) = (0, false, None::<u64>);
    let mut signals = 0;
    for number in 0..count {
        let at = fds.wrapping_add(8 * number);
        let mut entry = [0; 8];
        if system.machine.memory_mut().read_bytes(at, &mut entry).is_err() {
            return Err(Errno::EFAULT).into();
        }
        let (fd, events) = (number_at(&entry, 0, 4) as u32, number_at(&entry, 4, 2));
        // A negative number is passed over.
        let found = match fd as i32 {
            ..0 => 0,
            _ => readiness(system, fd) & (events | POLLHUP | POLLNVAL | POLLERR),
        };
        let is_input = system.open_file(fd).is_ok_and(|open| open.what == What::Input);
        waits_for_input |= is_input && events & (POLLIN | POLLRDNORM) != 0;
        ready += u64::from(found != 0);
        if events & POLLIN != 0 {
            let (at, set) = events::wakes(system, fd);
            first = first.into_iter().chain(at).min();
            signals |= set;
        }
        if let Err(errno) = put(system, at + 6, &(found as u16).to_le_bytes()) {
            return Err(errno).into();
        }
    }
    let end = duration.map(|duration| call.deadline(duration));
    if ready > 0 || is_over(call, end) {
        return Ok(ready).into();
    }
    waits_for(call, end.into_iter().chain(first).min(), waits_for_input, signals).into()
}

/// Whether the time up to which a call waits has come.
fn is_over(call: &mut Call, end: Option<u64>) -> bool {
    end.is_some_and(|end| end <= call.system.machine.time())
}

/// What a call waits for that looks at descriptors: an event or a time, input, or signals that one of them is read for.
fn waits_for(call: &Call, until: Option<u64>, input: bool, signals: u64) -> Outcome {
    Outcome::Waits(match input {
        // Input comes when it is asked for: no time passes meanwhile.
        true => Wait::Input,
        false => Wait::Event { since: call.system.events, until, signals, restarts: false },
    })
}

/// Waits under another mask, if there is one, which is put back behind the call.
fn under_mask(
    call: &mut Call,
    mask: u64,
    size: u64,
    wait: impl FnOnce(&mut Call) -> Answer,
) -> Answer {
    if mask != 0 {
        if size != 8 {
            return Err(Errno::EINVAL).into();
        }
        let Ok(bytes) = call.system.machine.memory_mut().read::<8>(mask) else {
            return Err(Errno::EFAULT).into();
        };
        let signals = &mut call.system.scheduler.current().signals;
        if call.waited.is_none() {
            signals.saved_mask = Some(signals.mask);
            signals.mask = SignalSet(u64::from_le_bytes(bytes)).as_mask();
        }
    }
    let answer = wait(call);
    // Unless a handler is to run first, the mask is what it was.
    if !matches!(answer.outcome, Outcome::Waits(_)) {
        call.system.scheduler.restore_mask();
    }
    answer
}

/// `poll(2)`
pub(crate) fn poll(call: &mut Call, Address(fds): Address, count: u64, time: i32) -> Answer {
    let duration = u64::try_from(time).ok().map(|millis| millis * 1_000_000);
    poll_for(call, fds, count & 0xffff_ffff, duration)
}

/// `ppoll(2)`
pub(crate) fn ppoll(
    call: &mut Call,
    fds: Address,
    count: u64,
    time: Address,
    mask: Address,
    size: u64,
) -> Answer {
    let width = call.abi.word_bytes();
    poll_under(call, (fds, count), (time, width), (mask, size))
}

/// `ppoll(2)` with seconds of 64 bits
pub(crate) fn ppoll_time64(
    call: &mut Call,
    fds: Address,
    count: u64,
    time: Address,
    mask: Address,
    size: u64,
) -> Answer {
    poll_under(call, (fds, count), (time, 8), (mask, size))
}

fn poll_under(
    call: &mut Call,
    (Address(fds), count): (Address, u64),
    (Address(time), width): (Address, usize),
    (Address(mask), size): (Address, u64),
) -> Answer {
    let duration = match time {
        0 => None,
        time => match read_time(call.system, width, time) {
            Ok(duration) => Some(duration),
            Err(errno) => return Err(errno).into(),
        },
    };
    under_mask(call, mask, size, |call| poll_for(call, fds, count & 0xffff_ffff, duration))
}

/// Descriptors of a set. Source: select(2), FD_SETSIZE is no limit of the kernel's.
fn read_set(system: &mut System, address: u64, count: u32) -> Result<Vec<u8>, Errno> {
    let mut bytes = vec![0; (count as usize).div_ceil(64) * 8];
    if address != 0 {
        system.machine.memory_mut().read_bytes(address, &mut bytes).map_err(|_| Errno::EFAULT)?;
    }
    Ok(bytes)
}

const READS: u64 = POLLIN | POLLRDNORM | POLLHUP | POLLERR;
const WRITES: u64 = POLLOUT | POLLWRNORM | POLLERR;

/// Looks at the descriptors below `count` of three sets and waits up to a number of nanoseconds, or for ever.
fn select_for(
    call: &mut Call,
    count: i32,
    sets: [u64; 3],
    duration: Option<u64>,
) -> Result<Answer, Errno> {
    let system = &mut *call.system;
    // Beyond the table of descriptors, which starts with 64, nothing is looked at. Source: Linux, `core_sys_select`.
    let table = system.process.descriptors.len().next_power_of_two().max(64) as u32;
    let count = u32::try_from(count).map_err(|_| Errno::EINVAL)?.min(table);
    let (mut ready, mut input, mut first, mut signals) = (0, false, None::<u64>, 0);
    let mut found = Vec::new();
    for (set, wanted) in sets.into_iter().zip([READS, WRITES, 0]) {
        let asked = read_set(system, set, count)?;
        let mut answer = vec![0; asked.len()];
        for fd in (0..count).filter(|fd| asked[*fd as usize / 8] >> (fd % 8) & 1 != 0) {
            system.open_file(fd)?;
            if readiness(system, fd) & wanted != 0 {
                ready += 1;
                answer[fd as usize / 8] |= 1 << (fd % 8);
            }
            if wanted == READS {
                input |= system.open_file(fd)?.what == What::Input;
                let (at, set) = events::wakes(system, fd);
                first = first.into_iter().chain(at).min();
                signals |= set;
            }
        }
        found.push((set, answer));
    }
    let end = duration.map(|duration| call.deadline(duration));
    if ready == 0 && !is_over(call, end) {
        let until = end.into_iter().chain(first).min();
        return Ok(waits_for(call, until, input, signals).into());
    }
    for (set, answer) in found.into_iter().filter(|(set, _)| *set != 0) {
        put(call.system, set, &answer)?;
    }
    Ok(Ok(ready).into())
}

/// `select(2)`, whose time is in seconds and microseconds.
pub(crate) fn select(
    call: &mut Call,
    count: i32,
    Address(reads): Address,
    Address(writes): Address,
    Address(exceptions): Address,
    Address(time): Address,
) -> Answer {
    let width = call.abi.word_bytes();
    let mut duration = None;
    if time != 0 {
        duration = match call.system.read_words(time, width) {
            Ok([seconds, micros]) if seconds >= 0 && micros >= 0 => {
                let seconds = (seconds as u64).saturating_mul(1_000_000_000);
                Some(seconds.saturating_add((micros as u64).saturating_mul(1000)))
            }
            Ok(_) => return Err(Errno::EINVAL).into(),
            Err(errno) => return Err(errno).into(),
        };
    }
    select_for(call, count, [reads, writes, exceptions], duration)
        .unwrap_or_else(|errno| Err(errno).into())
}

fn select_under(
    call: &mut Call,
    count: i32,
    sets: [Address; 3],
    (Address(time), width): (Address, usize),
    Address(mask): Address,
) -> Answer {
    let mut duration = None;
    if time != 0 {
        duration = match read_time(call.system, width, time) {
            Ok(duration) => Some(duration),
            Err(errno) => return Err(errno).into(),
        };
    }
    // The mask comes with its size, in two words.
    let mut set = (0, 8);
    if mask != 0 {
        let word = call.abi.word_bytes();
        set = match call.system.read_words(mask, word) {
            Ok([set, size]) if word == 4 => (u64::from(set as u32), size as u64),
            Ok([set, size]) => (set as u64, size as u64),
            Err(errno) => return Err(errno).into(),
        };
    }
    under_mask(call, set.0, set.1, |call| {
        select_for(call, count, sets.map(|Address(set)| set), duration)
            .unwrap_or_else(|errno| Err(errno).into())
    })
}

/// `pselect(2)`
pub(crate) fn pselect6(
    call: &mut Call,
    count: i32,
    reads: Address,
    writes: Address,
    exceptions: Address,
    time: Address,
    mask: Address,
) -> Answer {
    let width = call.abi.word_bytes();
    select_under(call, count, [reads, writes, exceptions], (time, width), mask)
}

/// `pselect(2)` with seconds of 64 bits
pub(crate) fn pselect6_time64(
    call: &mut Call,
    count: i32,
    reads: Address,
    writes: Address,
    exceptions: Address,
    time: Address,
    mask: Address,
) -> Answer {
    select_under(call, count, [reads, writes, exceptions], (time, 8), mask)
}
