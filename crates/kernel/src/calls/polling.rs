//! Waiting for descriptors. Sources: poll(2), select(2).

use crate::Errno;
use crate::arguments::Address;
use crate::calls::call::{Answer, Call, Outcome, put};
use crate::calls::readiness::{
    POLLERR, POLLHUP, POLLIN, POLLNVAL, POLLOUT, POLLRDNORM, POLLWRNORM, Wakes,
};
use crate::calls::time::read_time;
use crate::files::open::MAX_DESCRIPTORS;
use crate::layout::number_at;
use crate::signals::SignalSet;
use crate::system::System;
use crate::task::Wait;

/// Looks at `count` structures and waits up to a number of nanoseconds, or for ever.
fn poll_for(call: &mut Call, fds: u64, count: u64, duration: Option<u64>) -> Answer {
    let system = &mut *call.system;
    if count > MAX_DESCRIPTORS.into() {
        return Err(Errno::EINVAL).into();
    }
    let (mut ready, mut wakes) = (0, Wakes::default());
    for number in 0..count {
        let at = fds.wrapping_add(8 * number);
        let mut entry = [0; 8];
        if system.machine.memory_mut().read_bytes(at, &mut entry).is_err() {
            return Err(Errno::EFAULT).into();
        }
        let (fd, events) = (number_at(&entry, 0, 4) as u32, number_at(&entry, 4, 2));
        // A negative number is passed over.
        let found = match (fd as i32, system.descriptor(fd)) {
            (..0, _) => 0,
            (_, Err(_)) => POLLNVAL,
            (_, Ok(descriptor)) => {
                if events & (POLLIN | POLLRDNORM) != 0 {
                    wakes = wakes.or(system.wakes(descriptor.file));
                }
                system.readiness(descriptor.file) & (events | POLLHUP | POLLERR)
            }
        };
        ready += u64::from(found != 0);
        if let Err(errno) = put(system, at + 6, &(found as u16).to_le_bytes()) {
            return Err(errno).into();
        }
    }
    let end = duration.map(|duration| call.deadline(duration));
    if ready > 0 || is_over(call, end) {
        return Ok(ready).into();
    }
    waits_for(call, end, wakes).into()
}

/// Whether the time up to which a call waits has come.
pub(crate) fn is_over(call: &mut Call, end: Option<u64>) -> bool {
    end.is_some_and(|end| end <= call.system.machine.time())
}

/// What a call waits for that looks at descriptors: an event or a time, input, or signals that one of them is read for.
pub(crate) fn waits_for(call: &Call, end: Option<u64>, wakes: Wakes) -> Outcome {
    let Wakes { until, signals, input } = wakes.or(Wakes { until: end, ..Wakes::default() });
    Outcome::Waits(match input {
        // Input comes when it is asked for: no time passes meanwhile.
        true => Wait::Input,
        false => Wait::Event { since: call.system.events, until, signals, restarts: false },
    })
}

/// Waits under another mask, if there is one, which is put back behind the call.
pub(crate) fn under_mask(
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
    let (mut ready, mut wakes) = (0, Wakes::default());
    let mut found = Vec::new();
    for (set, wanted) in sets.into_iter().zip([READS, WRITES, 0]) {
        let asked = read_set(system, set, count)?;
        let mut answer = vec![0; asked.len()];
        for fd in (0..count).filter(|fd| asked[*fd as usize / 8] >> (fd % 8) & 1 != 0) {
            let file = system.descriptor(fd)?.file;
            if system.readiness(file) & wanted != 0 {
                ready += 1;
                answer[fd as usize / 8] |= 1 << (fd % 8);
            }
            if wanted == READS {
                wakes = wakes.or(system.wakes(file));
            }
        }
        found.push((set, answer));
    }
    let end = duration.map(|duration| call.deadline(duration));
    if ready == 0 && !is_over(call, end) {
        return Ok(waits_for(call, end, wakes).into());
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
