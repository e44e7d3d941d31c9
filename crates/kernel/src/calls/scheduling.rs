//! Processors, priorities, limits and what was used. There is one processor.
//!
//! Sources: sched_setaffinity(2), sched_setscheduler(2), sched_get_priority_max(2), getcpu(2), getpriority(2), membarrier(2),
//! getrlimit(2), getrusage(2), times(2), sysinfo(2), prctl(2), personality(2).

use crate::Errno;
use crate::arguments::Address;
use crate::calls::call::{Call, put, words};
use crate::calls::identity::USER;
use crate::calls::waiting::named;
use crate::layout::Layout;
use crate::process::ProcessId;
use crate::system::System;
use crate::task::TaskId;

/// Whether a number names the process or one of its tasks.
fn check_process(system: &System, number: u64) -> Result<(), Errno> {
    match number as i32 {
        ..0 => Err(Errno::EINVAL),
        0 => Ok(()),
        number if system.tasks().any(|task| task == TaskId(number as u32)) => Ok(()),
        _ => Err(Errno::ESRCH),
    }
}

/// `sched_getaffinity(2)` as the system call, which returns the bytes of the set.
pub(crate) fn affinity(
    call: &mut Call,
    process: u64,
    size: u64,
    Address(mask): Address,
) -> Result<u64, Errno> {
    let word = call.abi.word_bytes() as u64;
    let size = size & 0xffff_ffff;
    if size == 0 || !size.is_multiple_of(word) {
        return Err(Errno::EINVAL);
    }
    match check_process(call.system, process) {
        Err(_) => return Err(Errno::ESRCH),
        Ok(()) => put(call.system, mask, &1u64.to_le_bytes()[..word as usize])?,
    }
    Ok(word)
}

/// `sched_setaffinity(2)`
pub(crate) fn set_affinity(
    call: &mut Call,
    process: u64,
    size: u64,
    Address(mask): Address,
) -> Result<u64, Errno> {
    let mut first = [0];
    let first = &mut first[..1.min(size as usize)];
    call.system.machine.memory_mut().read_bytes(mask, first).map_err(|_| Errno::EFAULT)?;
    check_process(call.system, process).map_err(|_| Errno::ESRCH)?;
    if first.first().is_some_and(|first| first & 1 != 0) { Ok(0) } else { Err(Errno::EINVAL) }
}

/// `sched_getscheduler(2)`: SCHED_OTHER.
pub(crate) fn policy(call: &mut Call, process: u64) -> Result<u64, Errno> {
    check_process(call.system, process).map(|()| 0)
}

/// The priority that a structure has.
fn priority_at(system: &mut System, address: u64) -> Result<i32, Errno> {
    if address == 0 {
        return Err(Errno::EINVAL);
    }
    let bytes = system.machine.memory_mut().read::<4>(address).map_err(|_| Errno::EFAULT)?;
    Ok(i32::from_le_bytes(bytes))
}

/// `sched_setscheduler(2)`
pub(crate) fn set_policy(
    call: &mut Call,
    process: u64,
    policy: i32,
    Address(parameters): Address,
) -> Result<u64, Errno> {
    const RESET_ON_FORK: i32 = 0x4000_0000;
    if policy < 0 {
        return Err(Errno::EINVAL);
    }
    let priority = priority_at(call.system, parameters)?;
    check_process(call.system, process)?;
    match (policy & !RESET_ON_FORK, priority) {
        (0 | 3 | 5, 0) => Ok(0),
        // Real-time policies need a privilege.
        (1 | 2, 1..=99) => Err(Errno::EPERM),
        _ => Err(Errno::EINVAL),
    }
}

/// `sched_getparam(2)`
pub(crate) fn parameters(
    call: &mut Call,
    process: u64,
    Address(to): Address,
) -> Result<u64, Errno> {
    if to == 0 {
        return Err(Errno::EINVAL);
    }
    check_process(call.system, process)?;
    put(call.system, to, &[0; 4]).map(|()| 0)
}

/// `sched_setparam(2)`
pub(crate) fn set_parameters(
    call: &mut Call,
    process: u64,
    Address(from): Address,
) -> Result<u64, Errno> {
    let priority = priority_at(call.system, from)?;
    check_process(call.system, process)?;
    if priority == 0 { Ok(0) } else { Err(Errno::EINVAL) }
}

/// `sched_get_priority_max(2)`
pub(crate) fn highest_priority(_: &mut Call, policy: u64) -> Result<u64, Errno> {
    match policy as u32 {
        1 | 2 => Ok(99),
        0 | 3 | 5 | 6 => Ok(0),
        _ => Err(Errno::EINVAL),
    }
}

/// `sched_get_priority_min(2)`
pub(crate) fn lowest_priority(call: &mut Call, policy: u64) -> Result<u64, Errno> {
    highest_priority(call, policy).map(|highest| highest.min(1))
}

/// `getcpu(2)`
pub(crate) fn processor(
    call: &mut Call,
    Address(processor): Address,
    Address(node): Address,
    _: Address,
) -> Result<u64, Errno> {
    for address in [processor, node].into_iter().filter(|address| *address != 0) {
        put(call.system, address, &[0; 4])?;
    }
    Ok(0)
}

/// The process that `which` and `who` name, the first of several. Source: getpriority(2), PRIO_PROCESS, PRIO_PGRP, PRIO_USER.
fn priority_of(system: &System, which: u64, who: u64) -> Result<ProcessId, Errno> {
    let who = who as u32;
    match which as i32 {
        0 => named(system, who.into()).map(|process| process.id),
        1 => {
            let group = if who == 0 { system.process.group } else { who };
            let mut all = system.all_processes();
            all.find(|process| process.group == group).map(|process| process.id).ok_or(Errno::ESRCH)
        }
        2 if matches!(u64::from(who), 0 | USER) => Ok(system.process.id),
        2 => Err(Errno::ESRCH),
        _ => Err(Errno::EINVAL),
    }
}

/// `getpriority(2)` as the system call, which returns 20 less the nice value.
pub(crate) fn nice(call: &mut Call, which: u64, who: u64) -> Result<u64, Errno> {
    let process = priority_of(call.system, which, who)?;
    let nice = call.system.process(process).map_or(0, |process| process.nice);
    Ok((20 - nice) as u64)
}

/// `setpriority(2)`
pub(crate) fn set_nice(call: &mut Call, which: u64, who: u64, nice: i32) -> Result<u64, Errno> {
    let process = priority_of(call.system, which, who)?;
    let process = call.system.process_mut(process).ok_or(Errno::ESRCH)?;
    let nice = nice.clamp(-20, 19);
    // To be preferred again needs a privilege.
    if nice < process.nice {
        return Err(Errno::EACCES);
    }
    process.nice = nice;
    Ok(0)
}

/// Commands of membarrier that have an effect at once, since tasks change between instructions: global, private, and their
/// registration. Source: membarrier(2), <linux/membarrier.h>.
const BARRIERS: u64 = 0x1f;

/// `membarrier(2)`: what one task wrote is what the others read, so that nothing is to be done.
pub(crate) fn membarrier(_: &mut Call, command: u64, flags: u64) -> Result<u64, Errno> {
    match command as u32 as u64 {
        _ if flags as u32 != 0 => Err(Errno::EINVAL),
        0 => Ok(BARRIERS),
        command if command.is_power_of_two() && command & BARRIERS != 0 => Ok(0),
        _ => Err(Errno::EINVAL),
    }
}

/// `personality(2)`: that of Linux, which stays.
pub(crate) fn personality(_: &mut Call, _: u64) -> Result<u64, Errno> {
    Ok(0)
}

/// `struct rusage`: two times of two words, and fourteen words.
pub(crate) fn usage(
    call: &mut Call,
    to: u64,
    nanoseconds: u64,
    kilobytes: u64,
) -> Result<u64, Errno> {
    let word = call.abi.word_bytes();
    let micros = nanoseconds / 1000;
    let mut layout = Layout::default();
    layout.put(word, [micros / 1_000_000, micros % 1_000_000, 0, 0, kilobytes]);
    layout.fill_to(18 * word);
    put(call.system, to, &layout.0).map(|()| 0)
}

/// `getrusage(2)`
pub(crate) fn getrusage(call: &mut Call, who: i32, Address(to): Address) -> Result<u64, Errno> {
    let (time, memory) = match who {
        -1 => (call.system.process.children_time, 0),
        0 | 1 => {
            let time = call.system.used_time();
            (time, call.system.machine.memory().touched_bytes() / 1024)
        }
        _ => return Err(Errno::EINVAL),
    };
    usage(call, to, time, memory)
}

/// Nanoseconds of a clock tick, of which there are 100 in a second.
const TICK: u64 = 10_000_000;

/// `times(2)`: time of the processor in this process, in the kernel for it, and the same of its children.
pub(crate) fn times(call: &mut Call, Address(to): Address) -> Result<u64, Errno> {
    let (now, used) = (call.system.machine.time(), call.system.used_time());
    let children = call.system.process.children_time;
    if to != 0 {
        let width = call.abi.word_bytes();
        put(call.system, to, &words(width, &[used / TICK, 0, children / TICK, 0]))?;
    }
    Ok(now / TICK)
}

/// `sysinfo(2)`: memory is counted in pages.
pub(crate) fn sysinfo(call: &mut Call, Address(to): Address) -> Result<u64, Errno> {
    let word = call.abi.word_bytes();
    let seconds = call.system.machine.time() / 1_000_000_000;
    let total = call.system.space.memory_limit / 4096;
    let free = total.saturating_sub(call.system.machine.memory().touched_bytes() / 4096);
    let mut layout = Layout::default();
    layout.put(word, [seconds, 0, 0, 0, total, free, 0, 0, 0, 0]);
    layout.put(2, [1u64]);
    layout.fill_to(if word == 8 { 88 } else { 44 });
    layout.put(word, [0u64, 0]);
    layout.put(4, [4096u64]);
    layout.fill_to(if word == 8 { 112 } else { 64 });
    put(call.system, to, &layout.0).map(|()| 0)
}

// Options of prctl. Source: prctl(2), <linux/prctl.h>.
const PR_SET_PDEATHSIG: u64 = 1;
const PR_GET_PDEATHSIG: u64 = 2;
const PR_GET_DUMPABLE: u64 = 3;
const PR_SET_DUMPABLE: u64 = 4;
const PR_SET_NAME: u64 = 15;
const PR_GET_NAME: u64 = 16;
const PR_GET_SECCOMP: u64 = 21;
const PR_SET_NO_NEW_PRIVS: u64 = 38;
const PR_GET_NO_NEW_PRIVS: u64 = 39;

/// `prctl(2)`
pub(crate) fn prctl(call: &mut Call, option: u64, second: u64) -> Result<u64, Errno> {
    let system = &mut *call.system;
    match option {
        PR_SET_NAME => {
            let mut name = Vec::new();
            for at in 0..15 {
                let byte = system.machine.memory_mut().read::<1>(second.wrapping_add(at));
                match byte.map_err(|_| Errno::EFAULT)? {
                    [0] => break,
                    [byte] => name.push(byte),
                }
            }
            system.process.name = name.into();
            Ok(0)
        }
        PR_GET_NAME => {
            let mut name = system.process.name.to_vec();
            name.resize(16, 0);
            put(system, second, &name).map(|()| 0)
        }
        PR_SET_PDEATHSIG if second <= 64 => Ok(0),
        PR_GET_PDEATHSIG => put(system, second, &[0; 4]).map(|()| 0),
        PR_GET_DUMPABLE => Ok(1),
        PR_SET_DUMPABLE if second <= 1 => Ok(0),
        PR_GET_SECCOMP => Ok(0),
        PR_SET_NO_NEW_PRIVS if second == 1 => {
            system.process.has_no_new_privileges = true;
            Ok(0)
        }
        PR_GET_NO_NEW_PRIVS if second == 0 => Ok(system.process.has_no_new_privileges.into()),
        _ => Err(Errno::EINVAL),
    }
}
