//! Signals: handlers are accepted and never called.

use sotto_machine::{Fault, Signal};

use crate::Errno;
use crate::arguments::Address;
use crate::calls::call::{Call, Outcome, notice, told_as_zeros};
use crate::calls::identity::PROCESS;
use crate::report::Notice;
use crate::stop::Termination;

/// `rt_sigaction(2)`. What was there before is told as zeros: the default action.
pub(crate) fn rt_sigaction(
    call: &mut Call,
    _: u32,
    _: Address,
    old: Address,
    _: u64,
) -> Result<u64, Errno> {
    let bytes = 8 + 3 * call.abi.word_bytes();
    told_as_zeros(call.system, old, bytes)
}

/// `rt_sigprocmask(2)`. What was there before is told as zeros: no signal is held back.
pub(crate) fn rt_sigprocmask(
    call: &mut Call,
    _: u64,
    _: Address,
    old: Address,
    _: u64,
) -> Result<u64, Errno> {
    told_as_zeros(call.system, old, 8)
}

/// `sigaltstack(2)`
pub(crate) fn sigaltstack(call: &mut Call, _: Address, old: Address) -> Result<u64, Errno> {
    let bytes = 3 * call.abi.word_bytes();
    told_as_zeros(call.system, old, bytes)
}

/// Highest number of a signal. Source: signal(7), "Real-time signals".
const LAST_SIGNAL: u32 = 64;

/// `kill(2)`: a positive number names a process, 0 and the negated number of a group that group, -1 every other
/// process.
pub(crate) fn kill(_: &mut Call, to: u64, number: u32) -> (Outcome, Option<Notice>) {
    match to as i32 as i64 {
        0 => signal(number),
        to if to.unsigned_abs() == PROCESS => signal(number),
        to => no_such_process(to),
    }
}

/// `tgkill(2)`.
pub(crate) fn tgkill(
    _: &mut Call,
    process: u64,
    thread: u64,
    number: u32,
) -> (Outcome, Option<Notice>) {
    match (process as i32 as i64, thread as i32 as i64) {
        (..=0, _) | (_, ..=0) => (Errno::EINVAL.into(), None),
        (process, thread) if [process, thread] == [PROCESS as i64; 2] => signal(number),
        (_, thread) => no_such_process(thread),
    }
}

fn no_such_process(to: i64) -> (Outcome, Option<Notice>) {
    let message = format!("a signal to {to}, which is not this program");
    (Errno::ESRCH.into(), notice(message, "this program is 1000"))
}

/// Sends the program itself a signal.
fn signal(number: u32) -> (Outcome, Option<Notice>) {
    if number > LAST_SIGNAL {
        return (Errno::EINVAL.into(), None);
    }
    match Signal::from_number(number.into()) {
        // Source: signal(7), "Standard signals", the column "Action".
        Some(signal) if signal.is_ignored() => (Outcome::Returned(0), None),
        Some(signal) if !signal.stops() => {
            (Outcome::Terminated(Termination::Killed(signal, Fault::Raised(signal))), None)
        }
        None if number == 0 => (Outcome::Returned(0), None),
        _ => {
            let message = format!(
                "signal {number} stops a program or is a real-time signal, which is not modelled"
            );
            (
                Outcome::Returned(0),
                notice(message, "the program goes on as if it had not been sent"),
            )
        }
    }
}
