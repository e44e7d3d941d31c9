//! Time: a nanosecond for each instruction, from a fixed start.

use crate::Errno;
use crate::arguments::Address;
use crate::calls::call::{Call, put, words};
use crate::process::Process;

/// 2026-01-01 00:00 UTC, in seconds of the clock that counts from 1970.
const START_SECONDS: u64 = 1_767_225_600;

/// Whether there is a clock of this number. Source: clock_gettime(2), <linux/time.h>.
fn is_clock(number: u64) -> bool {
    matches!(number as u32, 0..=9 | 11)
}

/// The time in seconds and in parts of `unit` nanoseconds.
fn time(process: &mut Process, width: usize, address: u64, unit: u64) -> Result<u64, Errno> {
    let now = process.executed();
    let seconds = START_SECONDS + now / 1_000_000_000;
    put(process, address, &words(width, &[seconds, now % 1_000_000_000 / unit]))?;
    Ok(0)
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
    if is_clock(clock) { time(call.process, width, to, 1) } else { Err(Errno::EINVAL) }
}

/// `gettimeofday(2)`
pub(crate) fn gettimeofday(
    call: &mut Call,
    Address(to): Address,
    _: Address,
) -> Result<u64, Errno> {
    let width = call.abi.word_bytes();
    if to == 0 { Ok(0) } else { time(call.process, width, to, 1000) }
}
