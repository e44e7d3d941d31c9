//! Time: a nanosecond for each instruction, from the start that was asked for, and the time in which all tasks wait.

use crate::Errno;
use crate::arguments::Address;
use crate::calls::call::{Answer, Call, Outcome, put, words};
use crate::system::System;
use crate::task::Wait;

/// How long the system has been up when a program starts, in nanoseconds.
const UPTIME: u64 = 100 * NANOSECONDS;

/// Whether there is a clock of this number. Source: clock_gettime(2), <linux/time.h>.
pub(crate) fn is_clock(number: u64) -> bool {
    matches!(number as u32, 0..=9 | 11)
}

/// Whether a clock counts the time of the processor in the program.
pub(crate) fn is_cpu_clock(number: u64) -> bool {
    matches!(number as u32, 2 | 3)
}

impl System {
    /// What a clock showed when the program started, in nanoseconds.
    fn clock_start(&self, clock: u64) -> u64 {
        match clock as u32 {
            0 | 5 | 8 | 11 => self.start_time,
            2 | 3 => 0,
            _ => UPTIME,
        }
    }

    /// What a clock shows, in nanoseconds.
    fn clock(&mut self, clock: u64) -> u64 {
        let now = if is_cpu_clock(clock) { self.used_time() } else { self.machine.time() };
        self.clock_start(clock).saturating_add(now)
    }

    /// The nanoseconds from the start of the program to a time of a clock; those of the processor that all processes had or will
    /// have, if it is one of the processor.
    pub(crate) fn since_start(&mut self, clock: u64, time: u64) -> u64 {
        if is_cpu_clock(clock) {
            let others = self.machine.busy_time() - self.used_time();
            return time.saturating_add(others);
        }
        time.saturating_sub(self.clock_start(clock))
    }
}

/// The time of day in seconds and in parts of `unit` nanoseconds.
fn put_time(
    system: &mut System,
    width: usize,
    address: u64,
    (time, unit): (u64, u64),
) -> Result<u64, Errno> {
    let parts = [time / NANOSECONDS, time % NANOSECONDS / unit];
    put(system, address, &words(width, &parts)).map(|()| 0)
}

/// `clock_gettime(2)`, with words of the machine.
pub(crate) fn clock_gettime(call: &mut Call, clock: u64, to: Address) -> Result<u64, Errno> {
    let width = call.abi.word_bytes();
    tell_clock(call, width, clock, to)
}

/// `clock_gettime(2)`, with words of 64 bits.
pub(crate) fn clock_gettime64(call: &mut Call, clock: u64, to: Address) -> Result<u64, Errno> {
    tell_clock(call, 8, clock, to)
}

fn tell_clock(
    call: &mut Call,
    width: usize,
    clock: u64,
    Address(to): Address,
) -> Result<u64, Errno> {
    if !is_clock(clock) {
        return Err(Errno::EINVAL);
    }
    let time = call.system.clock(clock);
    put_time(call.system, width, to, (time, 1))
}

/// `gettimeofday(2)`
pub(crate) fn gettimeofday(
    call: &mut Call,
    Address(to): Address,
    _: Address,
) -> Result<u64, Errno> {
    let width = call.abi.word_bytes();
    let time = call.system.wall_time();
    if to == 0 { Ok(0) } else { put_time(call.system, width, to, (time, 1000)) }
}

pub(crate) const NANOSECONDS: u64 = 1_000_000_000;

/// A time of two words, in nanoseconds.
///
/// # Errors
///
/// EFAULT if it cannot be read, EINVAL if it is no time. Source: nanosleep(2).
pub(crate) fn read_time(system: &mut System, width: usize, address: u64) -> Result<u64, Errno> {
    let [seconds, rest] = system.read_words(address, width)?;
    if seconds < 0 || !(0..NANOSECONDS as i64).contains(&rest) {
        return Err(Errno::EINVAL);
    }
    Ok((seconds as u64).saturating_mul(NANOSECONDS).saturating_add(rest as u64))
}

/// Waits up to a time, in nanoseconds since the start.
fn wait_until(call: &Call, time: u64) -> Answer {
    match call.waited {
        Some(_) if !call.interrupted => Outcome::Returned(0).into(),
        _ => Outcome::Waits(Wait::Until(time)).into(),
    }
}

/// Tells how much remains of a wait that a signal ends.
fn tell_rest(call: &mut Call, width: usize, address: u64) -> Result<(), Errno> {
    let (true, Some(Wait::Until(time))) = (call.interrupted && address != 0, call.waited) else {
        return Ok(());
    };
    let rest = time.saturating_sub(call.system.machine.time());
    put(call.system, address, &words(width, &[rest / NANOSECONDS, rest % NANOSECONDS]))
}

/// `nanosleep(2)`
pub(crate) fn nanosleep(
    call: &mut Call,
    Address(time): Address,
    Address(remaining): Address,
) -> Answer {
    let width = call.abi.word_bytes();
    if let Err(errno) = tell_rest(call, width, remaining) {
        return Err(errno).into();
    }
    match read_time(call.system, width, time) {
        Ok(duration) => {
            let now = call.system.machine.time();
            wait_until(call, now.saturating_add(duration))
        }
        Err(errno) => Err(errno).into(),
    }
}

/// The flag by which the time to wait for is one of the clock. Source: clock_nanosleep(2).
const TIMER_ABSTIME: u64 = 1;
/// The clocks of threads, of which nothing can be waited for. Source: clock_nanosleep(2).
const THREAD_CLOCK: u32 = 3;

/// `clock_nanosleep(2)`, with words of the machine.
pub(crate) fn clock_nanosleep(
    call: &mut Call,
    clock: u64,
    flags: u64,
    time: Address,
    remaining: Address,
) -> Answer {
    let width = call.abi.word_bytes();
    sleep_by(call, width, clock, flags, [time, remaining])
}

/// `clock_nanosleep(2)`, with words of 64 bits.
pub(crate) fn clock_nanosleep64(
    call: &mut Call,
    clock: u64,
    flags: u64,
    time: Address,
    remaining: Address,
) -> Answer {
    sleep_by(call, 8, clock, flags, [time, remaining])
}

fn sleep_by(
    call: &mut Call,
    width: usize,
    clock: u64,
    flags: u64,
    [Address(time), Address(remaining)]: [Address; 2],
) -> Answer {
    if !is_clock(clock) || clock as u32 == THREAD_CLOCK {
        return Err(Errno::EINVAL).into();
    }
    if flags & TIMER_ABSTIME == 0
        && let Err(errno) = tell_rest(call, width, remaining)
    {
        return Err(errno).into();
    }
    match read_time(call.system, width, time) {
        Ok(time) if flags & TIMER_ABSTIME != 0 => {
            let time = call.system.since_start(clock, time);
            wait_until(call, time)
        }
        Ok(duration) => {
            let now = call.system.machine.time();
            wait_until(call, now.saturating_add(duration))
        }
        Err(errno) => Err(errno).into(),
    }
}

/// `clock_getres(2)`: a nanosecond.
fn tell_resolution(
    call: &mut Call,
    width: usize,
    clock: u64,
    Address(to): Address,
) -> Result<u64, Errno> {
    if !is_clock(clock) && !is_cpu_clock(clock) {
        return Err(Errno::EINVAL);
    }
    if to != 0 {
        put(call.system, to, &words(width, &[0, 1]))?;
    }
    Ok(0)
}

/// `clock_getres(2)`, with words of the machine.
pub(crate) fn clock_getres(call: &mut Call, clock: u64, to: Address) -> Result<u64, Errno> {
    let width = call.abi.word_bytes();
    tell_resolution(call, width, clock, to)
}

/// `clock_getres(2)`, with words of 64 bits.
pub(crate) fn clock_getres64(call: &mut Call, clock: u64, to: Address) -> Result<u64, Errno> {
    tell_resolution(call, 8, clock, to)
}

/// `time(2)`
pub(crate) fn seconds(call: &mut Call, Address(to): Address) -> Result<u64, Errno> {
    let seconds = call.system.wall_time() / NANOSECONDS;
    if to != 0 {
        let width = call.abi.word_bytes();
        put(call.system, to, &words(width, &[seconds]))?;
    }
    Ok(seconds)
}

/// `clock_settime(2)`, which the user may not.
pub(crate) fn clock_settime(
    call: &mut Call,
    clock: u64,
    Address(time): Address,
) -> Result<u64, Errno> {
    let width = call.abi.word_bytes();
    match clock as u32 {
        0 | 11 => {}
        _ => return Err(Errno::EINVAL),
    }
    read_time(call.system, width, time)?;
    Err(if clock as u32 == 0 { Errno::EPERM } else { Errno::EINVAL })
}

/// `settimeofday(2)`, which the user may not.
pub(crate) fn settimeofday(_: &mut Call, _: Address, _: Address) -> Result<u64, Errno> {
    Err(Errno::EPERM)
}
