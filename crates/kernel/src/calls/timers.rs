//! Timers that send signals: those of setitimer, and those that a program makes.
//!
//! Sources: alarm(2), setitimer(2), timer_create(2), timer_settime(2), timer_getoverrun(2), sigevent(3type).

use sotto_machine::Signal;

use crate::Errno;
use crate::arguments::Address;
use crate::calls::call::{Call, put, words};
use crate::calls::time::{NANOSECONDS, is_clock, read_time};
use crate::layout::{Layout, number_at};
use crate::signals::LAST_SIGNAL;
use crate::signals::timers::{Notify, Timer, TimerId};
use crate::system::System;
use crate::task::TaskId;

const MICROSECONDS: u64 = 1_000_000;

/// Sets a timer of setitimer, in nanoseconds from now; what was left of it, and its interval.
fn set_interval(system: &mut System, id: TimerId, value: u64, interval: u64) -> (u64, u64) {
    let before = system.remaining(id);
    system.process.signals.timers.retain(|timer| timer.id != id);
    if value != 0 {
        let at = system.now_of(id).saturating_add(value);
        let notify = Notify::Signal { number: id.signal(), value: 0, task: None };
        system.process.signals.timers.push(Timer {
            id,
            at: Some(at),
            interval,
            notify,
            overrun: 0,
        });
    }
    before
}

/// `alarm(2)`
pub(crate) fn alarm(call: &mut Call, seconds: u64) -> Result<u64, Errno> {
    let value = (seconds & 0xffff_ffff).saturating_mul(NANOSECONDS);
    let (left, _) = set_interval(call.system, TimerId::Real, value, 0);
    // A rest counts as a second, so that 0 says that there was no timer.
    Ok(left.div_ceil(NANOSECONDS))
}

fn interval_timer(which: u64) -> Result<TimerId, Errno> {
    match which as u32 {
        0 => Ok(TimerId::Real),
        1 => Ok(TimerId::Virtual),
        2 => Ok(TimerId::Profiling),
        _ => Err(Errno::EINVAL),
    }
}

/// `struct itimerval`: interval and value, in seconds and microseconds.
fn put_interval(
    system: &mut System,
    width: usize,
    address: u64,
    (left, interval): (u64, u64),
) -> Result<(), Errno> {
    let mut layout = Layout::default();
    for time in [interval, left] {
        // What is left of a timer that has not run out is not nothing.
        let micros = time.div_ceil(1000);
        layout.put(width, [micros / MICROSECONDS, micros % MICROSECONDS]);
    }
    put(system, address, &layout.0)
}

/// `setitimer(2)`
pub(crate) fn setitimer(
    call: &mut Call,
    which: u64,
    Address(new): Address,
    Address(old): Address,
) -> Result<u64, Errno> {
    let id = interval_timer(which)?;
    let width = call.abi.word_bytes();
    let system = &mut *call.system;
    let mut times = [0; 2];
    if new != 0 {
        for (number, time) in times.iter_mut().enumerate() {
            let at = new.wrapping_add((2 * width * number) as u64);
            let [seconds, micros] = system.read_words(at, width)?;
            if seconds < 0 || !(0..MICROSECONDS as i64).contains(&micros) {
                return Err(Errno::EINVAL);
            }
            let seconds = (seconds as u64).saturating_mul(NANOSECONDS);
            *time = seconds.saturating_add(micros as u64 * 1000);
        }
    }
    let [interval, value] = times;
    let before = set_interval(system, id, value, interval);
    if old != 0 {
        put_interval(system, width, old, before)?;
    }
    Ok(0)
}

/// `getitimer(2)`
pub(crate) fn getitimer(call: &mut Call, which: u64, Address(to): Address) -> Result<u64, Errno> {
    let left = call.system.remaining(interval_timer(which)?);
    let width = call.abi.word_bytes();
    put_interval(call.system, width, to, left).map(|()| 0)
}

// How a timer tells that it ran out. Source: sigevent(3type), <asm-generic/siginfo.h>.
const SIGEV_SIGNAL: u32 = 0;
const SIGEV_NONE: u32 = 1;
const SIGEV_THREAD: u32 = 2;
const SIGEV_THREAD_ID: u32 = 4;

/// Timers that a process may have. The kernel has a limit of pending signals in its place.
const MOST_TIMERS: usize = 1024;

/// `timer_create(2)`
pub(crate) fn timer_create(
    call: &mut Call,
    clock: u64,
    Address(event): Address,
    Address(to): Address,
) -> Result<u64, Errno> {
    let word = call.abi.word_bytes();
    let system = &mut *call.system;
    if !is_clock(clock) || matches!(clock as u32, 4..=6) {
        return Err(Errno::EINVAL);
    }
    let used = |number: &i32| {
        system.process.signals.timers.iter().any(|timer| timer.id.number() == Some(*number))
    };
    let number = (0..MOST_TIMERS as i32).find(|number| !used(number)).ok_or(Errno::EAGAIN)?;
    let mut notify = Notify::Signal {
        number: Signal::SIGALRM.number() as u32,
        value: number as u64,
        task: None,
    };
    if event != 0 {
        let mut bytes = [0; 24];
        let bytes = &mut bytes[..word + 16];
        system.machine.memory_mut().read_bytes(event, bytes).map_err(|_| Errno::EFAULT)?;
        let value = number_at(bytes, 0, word);
        let signal = number_at(bytes, word, 4) as u32;
        let is_signal = (1..=LAST_SIGNAL).contains(&signal);
        notify = match number_at(bytes, word + 4, 4) as u32 {
            SIGEV_NONE => Notify::Nothing,
            SIGEV_SIGNAL | SIGEV_THREAD if is_signal => {
                Notify::Signal { number: signal, value, task: None }
            }
            SIGEV_THREAD_ID if is_signal => {
                let task = TaskId(number_at(bytes, word + 8, 4) as u32);
                if !system.tasks().any(|other| other == task) {
                    return Err(Errno::EINVAL);
                }
                Notify::Signal { number: signal, value, task: Some(task) }
            }
            _ => return Err(Errno::EINVAL),
        };
    }
    put(system, to, &number.to_le_bytes())?;
    let id = TimerId::Made { number, clock: clock as u32 };
    let timer = Timer { id, at: None, interval: 0, notify, overrun: 0 };
    system.process.signals.timers.push(timer);
    Ok(0)
}

fn made(system: &System, number: u64) -> Result<TimerId, Errno> {
    let mut ids = system.process.signals.timers.iter().map(|timer| timer.id);
    ids.find(|id| id.number() == Some(number as i32)).ok_or(Errno::EINVAL)
}

/// `struct itimerspec`: interval and value, in seconds and nanoseconds.
fn put_specification(
    system: &mut System,
    width: usize,
    address: u64,
    (left, interval): (u64, u64),
) -> Result<(), Errno> {
    let times = [interval, left].map(|time| [time / NANOSECONDS, time % NANOSECONDS]);
    put(system, address, &words(width, times.as_flattened()))
}

/// Reads `struct itimerspec`: interval and value, in nanoseconds.
pub(crate) fn read_specification(
    system: &mut System,
    width: usize,
    address: u64,
) -> Result<(u64, u64), Errno> {
    let interval = read_time(system, width, address)?;
    let value = read_time(system, width, address.wrapping_add(2 * width as u64))?;
    Ok((interval, value))
}

/// When something runs out that was asked for by a value: from now, or at a time of its clock.
pub(crate) fn time_of(
    system: &mut System,
    clock: u64,
    value: u64,
    now: u64,
    is_absolute: bool,
) -> Option<u64> {
    match (value, is_absolute) {
        (0, _) => None,
        (value, true) => Some(system.since_start(clock, value)),
        (value, false) => Some(now.saturating_add(value)),
    }
}

fn set_made(
    call: &mut Call,
    width: usize,
    number: u64,
    flags: u64,
    [Address(new), Address(old)]: [Address; 2],
) -> Result<u64, Errno> {
    const TIMER_ABSTIME: u64 = 1;
    let system = &mut *call.system;
    if new == 0 {
        return Err(Errno::EINVAL);
    }
    let (interval, value) = read_specification(system, width, new)?;
    let id = made(system, number)?;
    let (before, now) = (system.remaining(id), system.now_of(id));
    let at = time_of(system, id.clock(), value, now, flags & TIMER_ABSTIME != 0);
    let timers = &mut system.process.signals.timers;
    if let Some(timer) = timers.iter_mut().find(|timer| timer.id == id) {
        (timer.at, timer.interval, timer.overrun) = (at, interval, 0);
    }
    if old != 0 {
        put_specification(system, width, old, before)?;
    }
    Ok(0)
}

/// `timer_settime(2)`, with words of the machine.
pub(crate) fn timer_settime(
    call: &mut Call,
    timer: u64,
    flags: u64,
    new: Address,
    old: Address,
) -> Result<u64, Errno> {
    let width = call.abi.word_bytes();
    set_made(call, width, timer, flags, [new, old])
}

/// `timer_settime(2)`, with words of 64 bits.
pub(crate) fn timer_settime64(
    call: &mut Call,
    timer: u64,
    flags: u64,
    new: Address,
    old: Address,
) -> Result<u64, Errno> {
    set_made(call, 8, timer, flags, [new, old])
}

/// `timer_gettime(2)`, with words of the machine.
pub(crate) fn timer_gettime(
    call: &mut Call,
    timer: u64,
    Address(to): Address,
) -> Result<u64, Errno> {
    let left = call.system.remaining(made(call.system, timer)?);
    let width = call.abi.word_bytes();
    put_specification(call.system, width, to, left).map(|()| 0)
}

/// `timer_gettime(2)`, with words of 64 bits.
pub(crate) fn timer_gettime64(
    call: &mut Call,
    timer: u64,
    Address(to): Address,
) -> Result<u64, Errno> {
    let left = call.system.remaining(made(call.system, timer)?);
    put_specification(call.system, 8, to, left).map(|()| 0)
}

/// `timer_getoverrun(2)`
pub(crate) fn timer_getoverrun(call: &mut Call, timer: u64) -> Result<u64, Errno> {
    let id = made(call.system, timer)?;
    let timers = &call.system.process.signals.timers;
    Ok(timers.iter().find(|timer| timer.id == id).map_or(0, |timer| timer.overrun))
}

/// `timer_delete(2)`
pub(crate) fn timer_delete(call: &mut Call, timer: u64) -> Result<u64, Errno> {
    let id = made(call.system, timer)?;
    call.system.process.signals.timers.retain(|timer| timer.id != id);
    Ok(0)
}
