//! Limits of a process. Source: getrlimit(2).

use crate::Errno;
use crate::arguments::Address;
use crate::calls::call::{Call, put, words};
use crate::calls::waiting::named;
use crate::files::open::MAX_DESCRIPTORS;
use crate::process::ProcessId;
use crate::system::System;

/// "No limit". Source: getrlimit(2), <sys/resource.h>.
const RLIM_INFINITY: u64 = u64::MAX;
const RLIMIT_STACK: usize = 3;
const RLIMIT_CORE: usize = 4;
const RLIMIT_NOFILE: usize = 7;
/// Resources that have limits.
pub(crate) const RESOURCES: usize = 16;

/// The limits of a process: soft and hard, by resource. That of open files is kept to; the others are kept alone.
pub(crate) type Limits = [(u64, u64); RESOURCES];

/// The limits that a program starts with.
pub(crate) fn first_limits() -> Limits {
    let mut limits = [(RLIM_INFINITY, RLIM_INFINITY); RESOURCES];
    limits[RLIMIT_STACK].0 = crate::load::STACK_BYTES;
    limits[RLIMIT_CORE].0 = 0;
    limits[RLIMIT_NOFILE] = (MAX_DESCRIPTORS.into(), MAX_DESCRIPTORS.into());
    limits
}

/// Descriptors that a process may have.
pub(crate) fn most_descriptors(limits: &Limits) -> u32 {
    limits[RLIMIT_NOFILE].0.min(MAX_DESCRIPTORS.into()) as u32
}

fn read(system: &mut System, width: usize, address: u64) -> Result<(u64, u64), Errno> {
    let [soft, hard] = system.read_words(address, width)?;
    // What is all ones stands for no limit.
    Ok((soft as u64, hard as u64))
}

fn change(
    call: &mut Call,
    width: usize,
    (process, resource): (ProcessId, u64),
    new: u64,
    old: u64,
) -> Result<u64, Errno> {
    let index = resource as u32 as usize;
    let limits = call.system.process(process).map(|process| &process.limits);
    let before = *limits.ok_or(Errno::ESRCH)?.get(index).ok_or(Errno::EINVAL)?;
    if new != 0 {
        let (soft, hard) = read(call.system, width, new)?;
        if soft > hard {
            return Err(Errno::EINVAL);
        }
        if hard > before.1 {
            return Err(Errno::EPERM);
        }
        if let Some(process) = call.system.process_mut(process) {
            process.limits[index] = (soft, hard);
        }
    }
    if old != 0 {
        put(call.system, old, &words(width, &[before.0, before.1]))?;
    }
    Ok(0)
}

/// `prlimit(2)`
pub(crate) fn prlimit64(
    call: &mut Call,
    process: u64,
    resource: u64,
    Address(new): Address,
    Address(old): Address,
) -> Result<u64, Errno> {
    let id = named(call.system, process)?.id;
    change(call, 8, (id, resource), new, old)
}

/// `getrlimit(2)`
pub(crate) fn getrlimit(
    call: &mut Call,
    resource: u64,
    Address(limits): Address,
) -> Result<u64, Errno> {
    let width = call.abi.word_bytes();
    if limits == 0 && (resource as u32 as usize) < RESOURCES {
        return Err(Errno::EFAULT);
    }
    let own = call.system.process.id;
    change(call, width, (own, resource), 0, limits)
}

/// `setrlimit(2)`
pub(crate) fn setrlimit(
    call: &mut Call,
    resource: u64,
    Address(limits): Address,
) -> Result<u64, Errno> {
    let width = call.abi.word_bytes();
    if limits == 0 {
        return Err(Errno::EFAULT);
    }
    let own = call.system.process.id;
    change(call, width, (own, resource), limits, 0)
}
