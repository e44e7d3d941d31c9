//! Waiting for descriptors. Source: poll(2).

use crate::Errno;
use crate::arguments::Address;
use crate::calls::call::{Answer, Call, Outcome, put};
use crate::calls::time::read_time;
use crate::files::open::{MAX_DESCRIPTORS, What};
use crate::layout::number_at;
use crate::signals::SignalSet;
use crate::system::System;
use crate::task::Wait;

const POLLIN: u64 = 1;
const POLLOUT: u64 = 4;
const POLLHUP: u64 = 0x10;
const POLLNVAL: u64 = 0x20;
const POLLRDNORM: u64 = 0x40;
const POLLWRNORM: u64 = 0x100;

/// What a descriptor is ready for.
fn readiness(system: &mut System, fd: u32) -> u64 {
    let Ok(open) = system.open_file(fd) else { return POLLNVAL };
    match open.what {
        What::Input => match system.peek_input(1) {
            None => 0,
            Some(bytes) if bytes.is_empty() => POLLHUP,
            Some(_) => POLLIN | POLLRDNORM,
        },
        What::Output(_) => POLLOUT | POLLWRNORM,
        What::Inode(_) | What::Proc(..) => POLLIN | POLLOUT | POLLRDNORM | POLLWRNORM,
    }
}

/// Looks at `count` structures and waits up to a number of nanoseconds, or for ever.
fn poll_for(call: &mut Call, fds: u64, count: u64, duration: Option<u64>) -> Answer {
    let system = &mut *call.system;
    if count > MAX_DESCRIPTORS.into() {
        return Err(Errno::EINVAL).into();
    }
    let (mut ready, mut waits_for_input) = (0, false);
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
            _ => readiness(system, fd) & (events | POLLHUP | POLLNVAL),
        };
        let is_input = system.open_file(fd).is_ok_and(|open| open.what == What::Input);
        waits_for_input |= is_input && events & (POLLIN | POLLRDNORM) != 0;
        ready += u64::from(found != 0);
        if let Err(errno) = put(system, at + 6, &(found as u16).to_le_bytes()) {
            return Err(errno).into();
        }
    }
    let is_over = call.waited.is_some_and(|wait| matches!(wait, Wait::Until(_)));
    if ready > 0 || duration == Some(0) || (is_over && !call.interrupted) {
        return Ok(ready).into();
    }
    let now = system.machine.time();
    let until = duration.map(|duration| Wait::Until(now.saturating_add(duration)));
    Outcome::Waits(match until {
        // Input comes when it is asked for: no time passes meanwhile.
        _ if waits_for_input => Wait::Input,
        Some(until) => until,
        None => Wait::Signal,
    })
    .into()
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
    let answer = poll_for(call, fds, count & 0xffff_ffff, duration);
    // Unless a handler is to run first, the mask is what it was.
    if !matches!(answer.outcome, Outcome::Waits(_)) {
        call.system.scheduler.restore_mask();
    }
    answer
}
