//! Descriptors that count events, timers that are read, and signals that are read.
//!
//! Sources: eventfd(2), timerfd_create(2), signalfd(2).

use crate::Errno;
use crate::arguments::{Address, Fd};
use crate::calls::call::{Answer, Call, Outcome, put, words};
use crate::calls::readiness::{POLLIN, POLLOUT};
use crate::calls::time::NANOSECONDS;
use crate::calls::timers::{read_specification, time_of};
use crate::files::epolls::Source;
use crate::files::open::{OpenFile, OpenFlags, What};
use crate::layout::Layout;
use crate::signals::SignalSet;
use crate::signals::info::Detail;
use crate::system::System;
use crate::target::target;

/// Flags of the three calls: those of open, with the bits that the machine has for these.
fn open_flags(call: &Call, flags: u64, others: u64) -> Result<(OpenFlags, bool, u64), Errno> {
    let bits = &target(call.system.arch()).open_bits;
    let flags = flags & 0xffff_ffff;
    if flags & !(bits.nonblock | bits.close_on_exec | others) != 0 {
        return Err(Errno::EINVAL);
    }
    let mut open = OpenFlags::READ | OpenFlags::WRITE;
    open.set(OpenFlags::NONBLOCK, flags & bits.nonblock != 0);
    Ok((open, flags & bits.close_on_exec != 0, 2 | flags & bits.nonblock))
}

fn open(call: &mut Call, what: What, flags: u64, others: u64, name: &str) -> Result<u64, Errno> {
    let (open, close_on_exec, status) = open_flags(call, flags, others)?;
    let file = OpenFile::new(what, open, status, name.as_bytes());
    call.system.open(file, close_on_exec).map(u64::from)
}

/// `eventfd2(2)`
pub(crate) fn eventfd2(call: &mut Call, count: u64, flags: u64) -> Result<u64, Errno> {
    const EFD_SEMAPHORE: u64 = 1;
    let what = What::Event { count: count & 0xffff_ffff, is_semaphore: flags & EFD_SEMAPHORE != 0 };
    open(call, what, flags, EFD_SEMAPHORE, "anon_inode:[eventfd]")
}

/// `eventfd(2)` as it was first
pub(crate) fn eventfd(call: &mut Call, count: u64) -> Result<u64, Errno> {
    eventfd2(call, count, 0)
}

/// `timerfd_create(2)`
pub(crate) fn timerfd_create(call: &mut Call, clock: u64, flags: u64) -> Result<u64, Errno> {
    // Clocks that wake a computer need a privilege.
    match clock as u32 {
        8 | 9 => return Err(Errno::EPERM),
        0 | 1 | 7 => {}
        _ => return Err(Errno::EINVAL),
    }
    let what = What::Timer { clock: clock as u32, at: None, interval: 0 };
    open(call, what, flags, 0, "anon_inode:[timerfd]")
}

/// What a timer that is read shows: what is left until it runs out, and its interval, both in nanoseconds.
fn remaining(system: &mut System, fd: u32) -> Result<(u64, u64), Errno> {
    let now = system.machine.time();
    match system.open_file(fd)?.what {
        What::Timer { at, interval, .. } => {
            let left = at.map_or(0, |at| match at > now || interval == 0 {
                true => at.saturating_sub(now),
                false => interval - (now - at) % interval,
            });
            Ok((left, interval))
        }
        _ => Err(Errno::EINVAL),
    }
}

fn put_remaining(
    system: &mut System,
    width: usize,
    address: u64,
    (left, interval): (u64, u64),
) -> Result<(), Errno> {
    let times = [interval, left].map(|time| [time / NANOSECONDS, time % NANOSECONDS]);
    put(system, address, &words(width, times.as_flattened()))
}

fn set_time(
    call: &mut Call,
    width: usize,
    Fd(fd): Fd,
    flags: u64,
    [Address(new), Address(old)]: [Address; 2],
) -> Result<u64, Errno> {
    const ABSOLUTE: u64 = 1;
    const CANCEL_ON_SET: u64 = 2;
    let system = &mut *call.system;
    let (interval, value) = read_specification(system, width, new)?;
    if flags as u32 as u64 & !(ABSOLUTE | CANCEL_ON_SET) != 0 {
        return Err(Errno::EINVAL);
    }
    let before = remaining(system, fd)?;
    let now = system.machine.time();
    let What::Timer { clock, .. } = system.open_file(fd)?.what else { return Err(Errno::EINVAL) };
    let first = time_of(system, clock.into(), value, now, flags & ABSOLUTE != 0);
    if let What::Timer { at, interval: own, .. } = &mut system.open_file_mut(fd)?.what {
        (*at, *own) = (first, interval);
    }
    system.note_event();
    if old != 0 {
        put_remaining(system, width, old, before)?;
    }
    Ok(0)
}

/// `timerfd_settime(2)`, with words of the machine.
pub(crate) fn timerfd_settime(
    call: &mut Call,
    fd: Fd,
    flags: u64,
    new: Address,
    old: Address,
) -> Result<u64, Errno> {
    let width = call.abi.word_bytes();
    set_time(call, width, fd, flags, [new, old])
}

/// `timerfd_settime(2)`, with words of 64 bits.
pub(crate) fn timerfd_settime64(
    call: &mut Call,
    fd: Fd,
    flags: u64,
    new: Address,
    old: Address,
) -> Result<u64, Errno> {
    set_time(call, 8, fd, flags, [new, old])
}

/// `timerfd_gettime(2)`, with words of the machine.
pub(crate) fn timerfd_gettime(
    call: &mut Call,
    Fd(fd): Fd,
    Address(to): Address,
) -> Result<u64, Errno> {
    let (width, left) = (call.abi.word_bytes(), remaining(call.system, fd)?);
    put_remaining(call.system, width, to, left).map(|()| 0)
}

/// `timerfd_gettime(2)`, with words of 64 bits.
pub(crate) fn timerfd_gettime64(
    call: &mut Call,
    Fd(fd): Fd,
    Address(to): Address,
) -> Result<u64, Errno> {
    let left = remaining(call.system, fd)?;
    put_remaining(call.system, 8, to, left).map(|()| 0)
}

/// `signalfd4(2)`
pub(crate) fn signalfd4(
    call: &mut Call,
    fd: i32,
    Address(set): Address,
    size: u64,
    flags: u64,
) -> Result<u64, Errno> {
    if size != 8 {
        return Err(Errno::EINVAL);
    }
    let bytes = call.system.machine.memory_mut().read::<8>(set).map_err(|_| Errno::EFAULT)?;
    let what = What::Signals(SignalSet(u64::from_le_bytes(bytes)).as_mask());
    open_flags(call, flags, 0)?;
    if fd == -1 {
        return open(call, what, flags, 0, "anon_inode:[signalfd]");
    }
    let file = call.system.open_file_mut(fd as u32)?;
    if !matches!(file.what, What::Signals(_)) {
        return Err(Errno::EINVAL);
    }
    file.what = what;
    Ok(fd as u64)
}

/// `signalfd(2)` as it was first
pub(crate) fn signalfd(call: &mut Call, fd: i32, set: Address, size: u64) -> Result<u64, Errno> {
    signalfd4(call, fd, set, size, 0)
}

/// What reading a descriptor of events gives, or what it waits for.
pub(crate) enum Events {
    Bytes(Vec<u8>),
    /// Something has to happen first, or a time to come.
    Waits(Option<u64>),
}

/// Reads up to `count` bytes of the events of a descriptor; `None` if it is another kind of descriptor.
///
/// # Errors
///
/// EINVAL if there is no room for one event.
pub(crate) fn read_events(
    system: &mut System,
    fd: u32,
    count: u64,
) -> Result<Option<Events>, Errno> {
    let (now, file) = (system.machine.time(), system.descriptor(fd)?.file);
    let least = match &system.open_file(fd)?.what {
        What::Signals(_) => SIGNAL_BYTES as u64,
        what if what.is_event() => 8,
        _ => return Ok(None),
    };
    if count < least {
        return Err(Errno::EINVAL);
    }
    let number = |value: u64| Ok(Some(Events::Bytes(value.to_le_bytes().to_vec())));
    let waits = |until: Option<u64>| Ok(Some(Events::Waits(until)));
    match &mut system.open_file_mut(fd)?.what {
        What::Event { count: 0, .. } => waits(None),
        What::Event { count, is_semaphore } => {
            let taken = if *is_semaphore { 1 } else { *count };
            *count -= taken;
            system.note_ready(Source::File(file), POLLOUT);
            number(taken)
        }
        What::Timer { at, interval, .. } => match *at {
            None => waits(None),
            Some(time) if time > now => waits(Some(time)),
            Some(time) => {
                let missed = (now - time).checked_div(*interval).unwrap_or(0);
                *at = (*interval != 0)
                    .then(|| time.saturating_add(interval.saturating_mul(missed + 1)));
                number(missed + 1)
            }
        },
        What::Signals(set) => {
            let set = *set;
            let mut bytes = Vec::new();
            while bytes.len() as u64 + least <= count {
                let Some(info) = system.take_pending(set) else { break };
                bytes.extend(signal_record(info.number, info.code, &info.detail));
            }
            match bytes.is_empty() {
                true => waits(None),
                false => Ok(Some(Events::Bytes(bytes))),
            }
        }
        _ => Ok(None),
    }
}

/// Bytes of `struct signalfd_siginfo`.
const SIGNAL_BYTES: usize = 128;

fn signal_record(number: u32, code: i32, detail: &Detail) -> Vec<u8> {
    let mut layout = Layout::default();
    layout.put(4, [number, 0, code as u32]);
    match *detail {
        Detail::Sender { process, user, value } => {
            layout.put(4, [process, user]);
            layout.fill_to(44);
            layout.put(4, [value as u32]);
            layout.put(8, [value]);
        }
        Detail::Timer { timer, overrun, value } => {
            layout.fill_to(24);
            layout.put(4, [timer as u32, 0, overrun]);
            layout.fill_to(44);
            layout.put(4, [value as u32]);
            layout.put(8, [value]);
        }
        Detail::Child { process, user, status } => {
            layout.put(4, [process, user]);
            layout.fill_to(40);
            layout.put(4, [status]);
        }
        Detail::Fault { address, .. } => {
            layout.fill_to(72);
            layout.put(8, [address]);
        }
        Detail::None => {}
    }
    layout.fill_to(SIGNAL_BYTES);
    layout.0
}

/// Adds to the events of a descriptor what the bytes say; `None` if it is another kind of descriptor.
pub(crate) fn write_events(system: &mut System, fd: u32, bytes: &[u8]) -> Option<Answer> {
    let number = system.descriptor(fd).ok()?.file;
    let file = system.open_file_mut(fd).ok()?;
    let is_nonblocking = file.flags.contains(OpenFlags::NONBLOCK);
    match &mut file.what {
        What::Event { count, .. } => {
            let Some(Ok(value)) = bytes.get(..8).map(<[u8; 8]>::try_from) else {
                return Some(Err(Errno::EINVAL).into());
            };
            let value = u64::from_le_bytes(value);
            Some(match count.checked_add(value) {
                _ if value == u64::MAX => Err(Errno::EINVAL).into(),
                Some(sum) if sum < u64::MAX => {
                    *count = sum;
                    system.note_ready(Source::File(number), POLLIN);
                    Ok(8).into()
                }
                _ if is_nonblocking => Err(Errno::EAGAIN).into(),
                _ => Outcome::Waits(system.event_wait(None, true)).into(),
            })
        }
        What::Timer { .. } | What::Signals(_) => Some(Err(Errno::EINVAL).into()),
        _ => None,
    }
}
