//! Calls about signals: actions, masks, sending, waiting, and coming back from handlers.
//!
//! Sources: sigaction(2), sigprocmask(2), sigpending(2), sigsuspend(2), sigwaitinfo(2), sigaltstack(2), sigreturn(2), kill(2),
//! tkill(2), sigqueue(3), pause(2).

use sotto_machine::{Fault, Signal};

use crate::Errno;
use crate::abi::SyscallAbi;
use crate::arguments::Address;
use crate::calls::call::{Answer, Call, Outcome, notice, put};
use crate::calls::identity::USER;
use crate::calls::time::read_time;
use crate::calls::waiting::several;
use crate::layout::{Layout, number_at};
use crate::process::ProcessId;
use crate::report::Notice;
use crate::signals::deliver::{SS_DISABLE, stack_of, stack_words};
use crate::signals::info::{Detail, SI_TKILL, SI_USER, SignalInfo};
use crate::signals::{
    Action, LAST_SIGNAL, Recipient, SA_RESTORER, SIG_DFL, SIG_IGN, SignalSet, is_catchable,
};
use crate::stop::Termination;
use crate::system::System;
use crate::task::{TaskId, Wait};

/// Bytes of a set of signals.
const SET_BYTES: u64 = 8;

fn read_set(system: &mut System, address: u64) -> Result<SignalSet, Errno> {
    let bytes = system.machine.memory_mut().read::<8>(address).map_err(|_| Errno::EFAULT)?;
    Ok(SignalSet(u64::from_le_bytes(bytes)))
}

/// `rt_sigaction(2)`
pub(crate) fn rt_sigaction(
    call: &mut Call,
    number: u32,
    Address(new): Address,
    Address(old): Address,
    size: u64,
) -> (Outcome, Option<Notice>) {
    match change_action(call, number, new, old, size) {
        Ok(notice) => (Outcome::Returned(0), notice),
        Err(errno) => (errno.into(), None),
    }
}

fn change_action(
    call: &mut Call,
    number: u32,
    new: u64,
    old: u64,
    size: u64,
) -> Result<Option<Notice>, Errno> {
    let width = call.abi.word_bytes();
    let system = &mut *call.system;
    if size != SET_BYTES {
        return Err(Errno::EINVAL);
    }
    let mut wanted = None;
    if new != 0 {
        let mut bytes = [0; 32];
        let bytes = &mut bytes[..3 * width + 8];
        system.machine.memory_mut().read_bytes(new, bytes).map_err(|_| Errno::EFAULT)?;
        let word = |number: usize| number_at(bytes, number * width, width);
        let mask = SignalSet(number_at(bytes, 3 * width, 8)).as_mask();
        wanted = Some(Action { handler: word(0), flags: word(1), restorer: word(2), mask });
    }
    if !(1..=LAST_SIGNAL).contains(&number) || (wanted.is_some() && !is_catchable(number)) {
        return Err(Errno::EINVAL);
    }
    let before = system.process.signals.action(number);
    let mut reason = None;
    if let Some(action) = wanted {
        system.process.signals.set_action(number, action);
        let is_routine = !matches!(action.handler, SIG_DFL | SIG_IGN);
        // Source: Linux, `x64_setup_rt_frame`.
        if is_routine && action.flags & SA_RESTORER == 0 && call.abi == SyscallAbi::X86_64 {
            let message = "a handler without SA_RESTORER: on x86-64 it cannot return, and the signal will kill the program";
            let help = "add 0x04000000 to sa_flags, and in sa_restorer the address of code that calls rt_sigreturn (15)";
            reason = notice(message.to_string(), help);
        }
    }
    if old != 0 {
        let mut layout = Layout::default();
        layout.put(width, [before.handler, before.flags, before.restorer]);
        layout.put(8, [before.mask.0]);
        put(system, old, &layout.0)?;
    }
    Ok(reason)
}

const SIG_BLOCK: u64 = 0;
const SIG_UNBLOCK: u64 = 1;
const SIG_SETMASK: u64 = 2;

/// `rt_sigprocmask(2)`
pub(crate) fn rt_sigprocmask(
    call: &mut Call,
    how: u64,
    Address(new): Address,
    Address(old): Address,
    size: u64,
) -> Result<u64, Errno> {
    let system = &mut *call.system;
    if size != SET_BYTES {
        return Err(Errno::EINVAL);
    }
    let before = system.scheduler.current().signals.mask;
    if new != 0 {
        let set = read_set(system, new)?;
        let mask = match how & 0xffff_ffff {
            SIG_BLOCK => before.with(set),
            SIG_UNBLOCK => SignalSet(before.0 & !set.0),
            SIG_SETMASK => set,
            _ => return Err(Errno::EINVAL),
        };
        system.scheduler.current().signals.mask = mask.as_mask();
    }
    if old != 0 {
        put(system, old, &before.0.to_le_bytes())?;
    }
    Ok(0)
}

/// `rt_sigpending(2)`
pub(crate) fn rt_sigpending(
    call: &mut Call,
    Address(set): Address,
    size: u64,
) -> Result<u64, Errno> {
    let system = &mut *call.system;
    if size > SET_BYTES {
        return Err(Errno::EINVAL);
    }
    let running = system.scheduler.running;
    let numbers = (1..=LAST_SIGNAL).map(SignalSet::of);
    let pending = numbers.filter(|one| system.has_pending(running, *one));
    let all = pending.fold(0, |all, one| all | one.0);
    put(system, set, &all.to_le_bytes()[..size as usize])?;
    Ok(0)
}

/// `rt_sigsuspend(2)`
pub(crate) fn rt_sigsuspend(call: &mut Call, Address(set): Address, size: u64) -> Answer {
    if size != SET_BYTES {
        return Err(Errno::EINVAL).into();
    }
    let set = match read_set(call.system, set) {
        Ok(set) => set.as_mask(),
        Err(errno) => return Err(errno).into(),
    };
    let signals = &mut call.system.scheduler.current().signals;
    if call.waited.is_none() {
        signals.saved_mask = Some(signals.mask);
        signals.mask = set;
    }
    // The mask comes back with the handler that ends the wait.
    Outcome::Waits(Wait::Signal).into()
}

/// `pause(2)`
pub(crate) fn pause(_: &mut Call) -> Outcome {
    Outcome::Waits(Wait::Signal)
}

/// `rt_sigtimedwait(2)`
pub(crate) fn rt_sigtimedwait(
    call: &mut Call,
    set: Address,
    info: Address,
    time: Address,
    size: u64,
) -> Answer {
    let width = call.abi.word_bytes();
    wait_for_signal(call, set, info, time, size, width)
}

/// `rt_sigtimedwait(2)` with seconds of 64 bits
pub(crate) fn rt_sigtimedwait_time64(
    call: &mut Call,
    set: Address,
    info: Address,
    time: Address,
    size: u64,
) -> Answer {
    wait_for_signal(call, set, info, time, size, 8)
}

fn wait_for_signal(
    call: &mut Call,
    Address(set): Address,
    Address(info): Address,
    Address(time): Address,
    size: u64,
    width: usize,
) -> Answer {
    let word = call.abi.word_bytes();
    let system = &mut *call.system;
    if size != SET_BYTES {
        return Err(Errno::EINVAL).into();
    }
    let set = match read_set(system, set) {
        Ok(set) => set.as_mask(),
        Err(errno) => return Err(errno).into(),
    };
    let duration = match time {
        0 => None,
        time => match read_time(system, width, time) {
            Ok(duration) => Some(duration),
            Err(errno) => return Err(errno).into(),
        },
    };
    if let Some(taken) = system.take_pending(set) {
        if info != 0
            && let Err(errno) = put(system, info, &taken.layout(word))
        {
            return Err(errno).into();
        }
        return Ok(taken.number.into()).into();
    }
    if call.waited.is_some() || duration == Some(0) {
        return Err(Errno::EAGAIN).into();
    }
    let now = system.machine.time();
    let until = duration.map(|duration| now.saturating_add(duration));
    Outcome::Waits(Wait::SignalOf { set: set.0, until }).into()
}

/// Smallest stack for handlers. Source: sigaltstack(2), MINSIGSTKSZ of <asm/signal.h>.
fn least_stack(abi: SyscallAbi) -> u64 {
    match abi {
        SyscallAbi::X86_64 | SyscallAbi::X86_32 => 2048,
        SyscallAbi::Arm64 => 5120,
    }
}

/// `sigaltstack(2)`
pub(crate) fn sigaltstack(
    call: &mut Call,
    Address(new): Address,
    Address(old): Address,
) -> Result<u64, Errno> {
    const SS_AUTODISARM: u32 = 1 << 31;
    let width = call.abi.word_bytes();
    let least = least_stack(call.abi);
    let system = &mut *call.system;
    let stack_pointer = system.machine.register(system.arch().stack_pointer());
    let before = system.scheduler.current().signals.alternate;
    if new != 0 {
        let mut bytes = [0; 24];
        let bytes = &mut bytes[..3 * width];
        system.machine.memory_mut().read_bytes(new, bytes).map_err(|_| Errno::EFAULT)?;
        let (base, flags) = (number_at(bytes, 0, width), number_at(bytes, width, 4) as u32);
        let size = number_at(bytes, 2 * width, width);
        if before.is_some_and(|stack| stack.holds(stack_pointer)) {
            return Err(Errno::EPERM);
        }
        if flags & !(SS_DISABLE | SS_AUTODISARM | 1) != 0 {
            return Err(Errno::EINVAL);
        }
        if flags & SS_DISABLE == 0 && size < least {
            return Err(Errno::ENOMEM);
        }
        system.scheduler.current().signals.alternate = stack_of(base, flags, size);
    }
    if old != 0 {
        let (base, flags, size) = stack_words(before, stack_pointer);
        let mut layout = Layout::default();
        layout.put(width, [base, flags.into(), size]);
        put(system, old, &layout.0)?;
    }
    Ok(0)
}

/// `rt_sigreturn(2)`
pub(crate) fn rt_sigreturn(_: &mut Call) -> Outcome {
    Outcome::Sigreturn { is_rt: true }
}

/// `sigreturn(2)`
pub(crate) fn sigreturn(_: &mut Call) -> Outcome {
    Outcome::Sigreturn { is_rt: false }
}

fn sender(system: &System, number: u32, code: i32, value: u64) -> SignalInfo {
    let (process, user) = (system.process.id.0, USER as u32);
    SignalInfo { number, code, detail: Detail::Sender { process, user, value } }
}

/// `kill(2)`: a positive number names a process, 0 and the negated number of a group that group, -1 every other
/// process.
pub(crate) fn kill(call: &mut Call, to: u64, number: u32) -> (Outcome, Option<Notice>) {
    let system = &mut *call.system;
    let (to, info) = (to as i32, sender(system, number, SI_USER, 0));
    if to > 0 {
        return to_process(system, to, info);
    }
    if number > LAST_SIGNAL {
        return (Errno::EINVAL.into(), None);
    }
    let (own, mut meant) = (system.process.id, several(system, to));
    if meant.is_empty() {
        return (Errno::ESRCH.into(), None);
    }
    // What it does to the process itself comes last.
    meant.sort_by_key(|process| *process == own);
    let mut last = (Outcome::Returned(0), None);
    for process in meant {
        last = signal(system, info, Recipient::Process(process));
    }
    last
}

/// Sends a process a signal.
pub(crate) fn to_process(
    system: &mut System,
    to: i32,
    info: SignalInfo,
) -> (Outcome, Option<Notice>) {
    let id = ProcessId(to as u32);
    match system.process(id) {
        Some(_) => signal(system, info, Recipient::Process(id)),
        None => no_such_process(system, to.into()),
    }
}

/// `tgkill(2)`
pub(crate) fn tgkill(
    call: &mut Call,
    process: u64,
    thread: u64,
    number: u32,
) -> (Outcome, Option<Notice>) {
    match (process as i32 as i64, thread as i32 as i64) {
        (..=0, _) | (_, ..=0) => (Errno::EINVAL.into(), None),
        (process, thread) => {
            let of = call.system.process_of(TaskId(thread as u32));
            match of == Some(ProcessId(process as u32)) {
                true => to_thread(call.system, thread, number),
                false => no_such_process(call.system, thread),
            }
        }
    }
}

/// `tkill(2)`
pub(crate) fn tkill(call: &mut Call, thread: u64, number: u32) -> (Outcome, Option<Notice>) {
    match thread as i32 as i64 {
        ..=0 => (Errno::EINVAL.into(), None),
        thread => to_thread(call.system, thread, number),
    }
}

fn to_thread(system: &mut System, thread: i64, number: u32) -> (Outcome, Option<Notice>) {
    let id = TaskId(thread as u32);
    let is_there = system.tasks().any(|task| task == id);
    match is_there {
        true => signal(system, sender(system, number, SI_TKILL, 0), Recipient::Task(id)),
        false => no_such_process(system, thread),
    }
}

/// `rt_sigqueueinfo(2)`: what is told of the signal comes from the program, which may not pretend to be the kernel to others.
pub(crate) fn rt_sigqueueinfo(
    call: &mut Call,
    to: u64,
    number: u32,
    info: Address,
) -> (Outcome, Option<Notice>) {
    let to = ProcessId(to as u32);
    match queued_info(call, to, info) {
        Ok(info) => to_process(call.system, to.0 as i32, SignalInfo { number, ..info }),
        Err(errno) => (errno.into(), None),
    }
}

/// What a program says of a signal that it sends to a process, with the number that stands there.
///
/// # Errors
///
/// EFAULT if it cannot be read, EPERM if it pretends to another process that it comes from the kernel.
fn queued_info(
    call: &mut Call,
    to: ProcessId,
    Address(info): Address,
) -> Result<SignalInfo, Errno> {
    let width = call.abi.word_bytes();
    let system = &mut *call.system;
    let mut bytes = [0; 48];
    system.machine.memory_mut().read_bytes(info, &mut bytes).map_err(|_| Errno::EFAULT)?;
    let from = if width == 8 { 16 } else { 12 };
    let (number, code) = (number_at(&bytes, 0, 4) as u32, number_at(&bytes, 8, 4) as i32);
    let detail = Detail::Sender {
        process: number_at(&bytes, from, 4) as u32,
        user: number_at(&bytes, from + 4, 4) as u32,
        value: number_at(&bytes, from + 8, width),
    };
    // Who it is from is told to others as it is.
    if to != system.process.id && code >= 0 {
        return Err(Errno::EPERM);
    }
    Ok(SignalInfo { number, code, detail })
}

/// What is told of a signal: what the program says, or as kill(2) does if it says nothing.
///
/// # Errors
///
/// EFAULT and EPERM as for rt_sigqueueinfo(2).
pub(crate) fn sent_info(
    call: &mut Call,
    to: ProcessId,
    number: u32,
    info: Address,
) -> Result<SignalInfo, Errno> {
    match info.0 {
        0 => Ok(sender(call.system, number, SI_USER, 0)),
        _ => queued_info(call, to, info),
    }
}

fn no_such_process(system: &System, to: i64) -> (Outcome, Option<Notice>) {
    let own = system.process.id.0;
    let message = format!("a signal to {to}, which is no process or thread of this run");
    (Errno::ESRCH.into(), notice(message, &format!("this process is {own}")))
}

/// Sends a signal. What it does to who sends it is done at once.
fn signal(system: &mut System, info: SignalInfo, to: Recipient) -> (Outcome, Option<Notice>) {
    let number = info.number;
    match number {
        0 => return (Outcome::Returned(0), None),
        1..=LAST_SIGNAL => {}
        _ => return (Errno::EINVAL.into(), None),
    }
    let is_own = match to {
        Recipient::Process(id) => id == system.process.id,
        Recipient::Task(id) => system.process_of(id) == Some(system.process.id),
    };
    let action = system.process.signals.action(number);
    let is_held_back = system.scheduler.current().signals.mask.contains(number);
    let standard = Signal::from_number(number.into());
    let stops_only =
        standard.is_some_and(Signal::stops) && system.process.id != system.first_process;
    if is_own && action.handler == SIG_DFL && !is_held_back && !stops_only {
        match standard {
            // Source: signal(7), "Standard signals", the column "Action".
            Some(signal) if signal.is_ignored() => {}
            Some(signal) if !signal.stops() => {
                let ending = Termination::Killed(signal, Fault::Raised(signal));
                return (Outcome::Terminated(ending), None);
            }
            _ => {
                let message = format!(
                    "signal {number} stops a program or is a real-time signal, which is not modelled"
                );
                let help = "the program goes on as if it had not been sent";
                return (Outcome::Returned(0), notice(message, help));
            }
        }
    }
    system.send(info, to);
    (Outcome::Returned(0), None)
}
