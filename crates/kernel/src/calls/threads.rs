//! What C libraries ask for on behalf of threads; random bytes.

use sotto_isa::x86::storage;

use crate::Errno;
use crate::arguments::Address;
use crate::calls::call::{Call, put};
use crate::system::System;

/// Codes of arch_prctl. Source: arch_prctl(2), <asm/prctl.h>.
const ARCH_SET_GS: u64 = 0x1001;
const ARCH_SET_FS: u64 = 0x1002;
const ARCH_GET_FS: u64 = 0x1003;
const ARCH_GET_GS: u64 = 0x1004;

pub(crate) fn arch_prctl(
    call: &mut Call,
    code: u64,
    Address(address): Address,
) -> Result<u64, Errno> {
    let system = &mut *call.system;
    let (fs, gs) = (storage::FS_BASE, storage::GS_BASE);
    match code {
        ARCH_SET_FS => system.machine.set_register(fs, address),
        ARCH_SET_GS => system.machine.set_register(gs, address),
        ARCH_GET_FS | ARCH_GET_GS => {
            let base = system.machine.register(if code == ARCH_GET_FS { fs } else { gs });
            put(system, address, &base.to_le_bytes())?;
        }
        _ => return Err(Errno::EINVAL),
    }
    Ok(0)
}

/// The first of the segments that a thread describes for itself, and how many there are.
/// Source: <asm/segment.h>.
const FIRST_THREAD_ENTRY: u32 = 12;
const THREAD_ENTRIES: u32 = storage::THREAD_SEGMENTS as u32;

/// The structure holds the number of the segment, its base, its limit and its kind. A number of -1 asks
/// for one that is free, which is told in its place. Source: set_thread_area(2).
pub(crate) fn set_thread_area(
    call: &mut Call,
    Address(description): Address,
) -> Result<u64, Errno> {
    set_segment(call.system, description).map(|()| 0)
}

/// Sets a segment of the running thread as a structure describes it.
pub(crate) fn set_segment(system: &mut System, description: u64) -> Result<(), Errno> {
    let mut words = [0; 8];
    system.machine.memory_mut().read_bytes(description, &mut words).map_err(|_| Errno::EFAULT)?;
    let word =
        |at: usize| u32::from_le_bytes([words[at], words[at + 1], words[at + 2], words[at + 3]]);
    let (number, base) = (word(0), word(4));
    let storage = |entry: u32| storage::thread_segment(entry as u8);
    let entry = match number {
        u32::MAX => {
            let free = |entry: &u32| system.machine.register(storage(*entry)) == 0;
            let entry = (0..THREAD_ENTRIES).find(free).ok_or(Errno::ESRCH)?;
            put(system, description, &(FIRST_THREAD_ENTRY + entry).to_le_bytes())?;
            entry
        }
        _ => {
            let entry = number.checked_sub(FIRST_THREAD_ENTRY).ok_or(Errno::EINVAL)?;
            if entry >= THREAD_ENTRIES {
                return Err(Errno::EINVAL);
            }
            entry
        }
    };
    system.machine.set_register(storage(entry), 1 << 32 | u64::from(base));
    // A segment register that names it has the new base at once. Source: Linux, `do_set_thread_area`.
    let selectors = system.machine.register(storage::SELECTORS);
    for (shift, register) in [(32, storage::FS_BASE), (48, storage::GS_BASE)] {
        if selectors >> shift & 0xfff8 == u64::from((FIRST_THREAD_ENTRY + entry) << 3) {
            system.machine.set_register(register, base.into());
        }
    }
    Ok(())
}

/// `sched_yield(2)`: the time slice is over.
pub(crate) fn sched_yield(call: &mut Call) -> Result<u64, Errno> {
    call.system.end_slice();
    Ok(0)
}

/// `rseq(2)`: the fields that tell the number of the processor.
pub(crate) fn rseq(
    call: &mut Call,
    Address(area): Address,
    _: u64,
    _: u64,
    _: u64,
) -> Result<u64, Errno> {
    put(call.system, area, &[0; 8]).map(|()| 0)
}

/// `getrandom(2)`
pub(crate) fn getrandom(
    call: &mut Call,
    Address(buffer): Address,
    count: u64,
    _: u64,
) -> Result<u64, Errno> {
    let system = &mut *call.system;
    // As much as one call gives without being interrupted. Source: getrandom(2).
    let count = count.min(1 << 20) as usize;
    let mut bytes = Vec::with_capacity(count + 8);
    while bytes.len() < count {
        bytes.extend(system.machine.next_random().to_le_bytes());
    }
    match system.copy_out(buffer, &bytes[..count]) {
        0 if count > 0 => Err(Errno::EFAULT),
        copied => Ok(copied as u64),
    }
}
