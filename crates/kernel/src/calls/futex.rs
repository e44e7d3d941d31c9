//! Futexes: words of memory at which tasks wait for each other.
//!
//! Sources: futex(2), get_robust_list(2); Linux, `kernel/futex/`.

use crate::Errno;
use crate::abi::SyscallAbi;
use crate::arguments::Address;
use crate::calls::call::{Answer, Call, Outcome, put};
use crate::calls::time::read_time;
use crate::files::inode::InodeId;
use crate::space::SpaceId;
use crate::system::System;
use crate::target::target;
use crate::task::{TaskId, Wait};

/// A futex, by which tasks of several processes find each other too.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) enum FutexKey {
    /// A word of an address space.
    Memory(SpaceId, u64),
    /// A word of a file that is mapped.
    File(InodeId, u64),
}

/// A wait at a futex.
#[derive(Clone, Debug)]
pub(crate) struct FutexWait {
    pub key: FutexKey,
    /// What wakes it: a bit in common.
    bitset: u32,
    /// Who waits longer is woken first.
    order: u64,
    pub is_woken: bool,
    /// It waits to own the word, which has the number of its owner.
    pub is_lock: bool,
}

// Operations. Source: futex(2), <linux/futex.h>.
const FUTEX_WAIT: u64 = 0;
const FUTEX_WAKE: u64 = 1;
const FUTEX_REQUEUE: u64 = 3;
const FUTEX_CMP_REQUEUE: u64 = 4;
const FUTEX_WAKE_OP: u64 = 5;
const FUTEX_LOCK_PI: u64 = 6;
const FUTEX_UNLOCK_PI: u64 = 7;
const FUTEX_TRYLOCK_PI: u64 = 8;
const FUTEX_WAIT_BITSET: u64 = 9;
const FUTEX_WAKE_BITSET: u64 = 10;
const FUTEX_LOCK_PI2: u64 = 13;
const FUTEX_CLOCK_REALTIME: u64 = 0x100;
const FUTEX_COMMAND: u64 = 0x7f;
const ANY: u32 = u32::MAX;
const CLOCK_REALTIME: u64 = 0;
const CLOCK_MONOTONIC: u64 = 1;

// Bits of a word with the number of its owner.
const FUTEX_WAITERS: u32 = 0x8000_0000;
const FUTEX_OWNER_DIED: u32 = 0x4000_0000;
const FUTEX_TID_MASK: u32 = 0x3fff_ffff;

impl System {
    /// The word of a futex.
    ///
    /// # Errors
    ///
    /// EINVAL if the address is no multiple of 4, EFAULT if it cannot be read.
    fn futex_word(&mut self, address: u64) -> Result<u32, Errno> {
        if !address.is_multiple_of(4) {
            return Err(Errno::EINVAL);
        }
        let bytes = self.machine.memory_mut().read::<4>(address).map_err(|_| Errno::EFAULT)?;
        Ok(u32::from_le_bytes(bytes))
    }

    /// Which futex an address names in the address space that is shown.
    fn futex_key(&self, address: u64) -> FutexKey {
        let files = self.space.mapped.0.iter();
        let mut shared = files.filter(|file| file.is_shared);
        match shared.find(|file| (file.start..file.end).contains(&address)) {
            Some(file) => FutexKey::File(file.inode, file.offset + (address - file.start)),
            None => FutexKey::Memory(self.space.id, address),
        }
    }

    /// The tasks that wait at a futex, who waits longest first.
    fn waiters(&self, key: FutexKey) -> Vec<usize> {
        let waits = |wait: &FutexWait| wait.key == key && !wait.is_woken;
        let tasks = self.scheduler.tasks.iter().enumerate();
        let mut found: Vec<(u64, usize)> = tasks
            .filter_map(|(index, task)| {
                task.futex.as_ref().filter(|wait| waits(wait)).map(|wait| (wait.order, index))
            })
            .collect();
        found.sort_unstable();
        found.into_iter().map(|(_, index)| index).collect()
    }

    /// Wakes up to `most` tasks that wait at a futex with a bit in common; how many.
    fn wake(&mut self, key: FutexKey, most: u64, bitset: u32) -> u64 {
        let mut woken = 0;
        let by = (self.running_task(), self.executed);
        for index in self.waiters(key) {
            if woken == most {
                break;
            }
            if let Some(wait) = &mut self.scheduler.tasks[index].futex
                && wait.bitset & bitset != 0
                && !wait.is_lock
            {
                wait.is_woken = true;
                self.scheduler.tasks[index].woken_by = Some(by);
                woken += 1;
            }
        }
        woken
    }

    /// Wakes up to `most` tasks that wait at an address.
    pub(crate) fn wake_at(&mut self, address: u64, most: u64) -> u64 {
        self.wake(self.futex_key(address), most, ANY)
    }

    /// Lets up to `most` tasks that wait at one futex wait at another.
    fn requeue(&mut self, from: FutexKey, to: FutexKey, most: u64) -> u64 {
        let mut moved = 0;
        for index in self.waiters(from).into_iter().take(most.min(1 << 31) as usize) {
            self.events += 1;
            if let Some(wait) = &mut self.scheduler.tasks[index].futex {
                (wait.key, wait.order) = (to, self.events);
                moved += 1;
            }
        }
        moved
    }

    /// Begins to wait at a futex.
    fn wait_at(&mut self, key: FutexKey, bitset: u32, is_lock: bool, until: Option<u64>) -> Answer {
        self.events += 1;
        let order = self.events;
        self.scheduler.current().futex =
            Some(FutexWait { key, bitset, order, is_woken: false, is_lock });
        Outcome::Waits(Wait::Futex { until }).into()
    }

    fn set_word(&mut self, address: u64, value: u32) -> Result<(), Errno> {
        put(self, address, &value.to_le_bytes())
    }

    /// Gives a lock to the task that waits longest for it, or leaves it free.
    fn unlock(&mut self, address: u64) -> Result<(), Errno> {
        let key = self.futex_key(address);
        let waiters = self.waiters(key);
        let Some(&next) = waiters.first() else { return self.set_word(address, 0) };
        let id = self.scheduler.tasks[next].id.0;
        let others = if waiters.len() > 1 { FUTEX_WAITERS } else { 0 };
        self.set_word(address, id | others)?;
        if let Some(wait) = &mut self.scheduler.tasks[next].futex {
            wait.is_woken = true;
        }
        self.scheduler.tasks[next].woken_by = Some((self.running_task(), self.executed));
        Ok(())
    }

    /// Tells the futexes of the list of a task that ends that their owner died. Source: Linux, `exit_robust_list`.
    pub(crate) fn end_robust_list(&mut self) {
        const MOST: usize = 2048;
        let width = target(self.arch()).abi.word_bytes();
        let task = self.scheduler.current();
        let (head, id) = (std::mem::take(&mut task.robust_list), task.id.0);
        if head == 0 {
            return;
        }
        let word = |system: &mut System, at: u64| -> Option<u64> {
            let mut bytes = [0; 8];
            let read = system.machine.memory_mut().read_bytes(at, &mut bytes[..width]);
            read.ok().map(|()| u64::from_le_bytes(bytes))
        };
        let (Some(mut entry), Some(offset), Some(pending)) = (
            word(self, head),
            word(self, head.wrapping_add(width as u64)),
            word(self, head.wrapping_add(2 * width as u64)),
        ) else {
            return;
        };
        let offset = if width == 4 { i64::from(offset as i32) as u64 } else { offset };
        let mut entries = Vec::new();
        while entry & !1 != head && entries.len() < MOST {
            entries.push(entry);
            match word(self, entry & !1) {
                Some(next) => entry = next,
                None => break,
            }
        }
        if pending != 0 {
            entries.push(pending);
        }
        for entry in entries {
            let address = (entry & !1).wrapping_add(offset);
            let Ok(value) = self.futex_word(address) else { continue };
            if value & FUTEX_TID_MASK != id {
                continue;
            }
            let dead = value & FUTEX_WAITERS | FUTEX_OWNER_DIED;
            if self.machine.memory_mut().write(address, dead.to_le_bytes()).is_ok() {
                // A lock that tasks wait to own goes to one of them.
                let is_lock = entry & 1 != 0;
                match is_lock && !self.waiters(self.futex_key(address)).is_empty() {
                    true => {
                        let _ = self.unlock(address);
                        if let Ok(value) = self.futex_word(address) {
                            let _ = self.set_word(address, value | FUTEX_OWNER_DIED);
                        }
                        self.written.clear();
                    }
                    false => {
                        self.wake_at(address, 1);
                    }
                }
            }
        }
    }
}

/// Which arguments an operation looks at. Source: futex(2), the operations.
pub(crate) fn counts(_: SyscallAbi, values: &[u64; 6]) -> u8 {
    match values[1] & FUTEX_COMMAND {
        FUTEX_WAIT => 0b00_1111,
        FUTEX_WAKE => 0b00_0111,
        FUTEX_REQUEUE => 0b01_1111,
        FUTEX_WAIT_BITSET => 0b10_1111,
        FUTEX_WAKE_BITSET => 0b10_0111,
        FUTEX_LOCK_PI | FUTEX_LOCK_PI2 => 0b00_1011,
        FUTEX_UNLOCK_PI | FUTEX_TRYLOCK_PI => 0b00_0011,
        _ => 0b11_1111,
    }
}

/// `futex(2)`, with a time in words of the machine.
pub(crate) fn futex(
    call: &mut Call,
    address: Address,
    operation: u64,
    value: u64,
    fourth: u64,
    second: Address,
    last: u64,
) -> Answer {
    let width = call.abi.word_bytes();
    futex_with(call, width, address, operation, [value, fourth, last], second)
}

/// `futex(2)`, with a time in words of 64 bits.
pub(crate) fn futex_time64(
    call: &mut Call,
    address: Address,
    operation: u64,
    value: u64,
    fourth: u64,
    second: Address,
    last: u64,
) -> Answer {
    futex_with(call, 8, address, operation, [value, fourth, last], second)
}

fn futex_with(
    call: &mut Call,
    width: usize,
    Address(address): Address,
    operation: u64,
    values: [u64; 3],
    Address(second): Address,
) -> Answer {
    match carry_out(call, width, address, operation, values, second) {
        Ok(answer) => answer,
        Err(errno) => Err(errno).into(),
    }
}

/// When a wait ends: after a time for FUTEX_WAIT, at a time of a clock for the others.
fn end_of(
    call: &mut Call,
    width: usize,
    operation: u64,
    address: u64,
) -> Result<Option<u64>, Errno> {
    if address == 0 {
        return Ok(None);
    }
    let time = read_time(call.system, width, address)?;
    let command = operation & FUTEX_COMMAND;
    let is_real = operation & FUTEX_CLOCK_REALTIME != 0 || command == FUTEX_LOCK_PI;
    Ok(Some(match command {
        FUTEX_WAIT => call.deadline(time),
        _ => call.system.since_start(if is_real { CLOCK_REALTIME } else { CLOCK_MONOTONIC }, time),
    }))
}

fn carry_out(
    call: &mut Call,
    width: usize,
    address: u64,
    operation: u64,
    [value, fourth, last]: [u64; 3],
    second: u64,
) -> Result<Answer, Errno> {
    let command = operation & FUTEX_COMMAND;
    // It was waited for, and something ended that.
    if matches!(call.waited, Some(Wait::Futex { .. })) && !call.interrupted {
        let woken = call.system.scheduler.current().futex.take().is_some_and(|wait| wait.is_woken);
        return if woken { Ok(Ok(0).into()) } else { Err(Errno::ETIMEDOUT) };
    }
    call.system.scheduler.current().futex = None;
    if call.interrupted {
        return Err(Errno::EINTR);
    }
    let (count, other) = (value as u32 as i32, fourth as u32 as i32);
    match command {
        FUTEX_WAIT | FUTEX_WAIT_BITSET => {
            let bitset = if command == FUTEX_WAIT { ANY } else { last as u32 };
            if bitset == 0 {
                return Err(Errno::EINVAL);
            }
            let until = end_of(call, width, operation, fourth)?;
            let system = &mut *call.system;
            if system.futex_word(address)? != value as u32 {
                return Err(Errno::EAGAIN);
            }
            if until.is_some_and(|until| until <= system.machine.time()) {
                return Err(Errno::ETIMEDOUT);
            }
            let key = system.futex_key(address);
            Ok(system.wait_at(key, bitset, false, until))
        }
        FUTEX_WAKE | FUTEX_WAKE_BITSET => {
            let bitset = if command == FUTEX_WAKE { ANY } else { last as u32 };
            if bitset == 0 || !address.is_multiple_of(4) {
                return Err(Errno::EINVAL);
            }
            // The kernel wakes one even if none were asked for.
            let most = count.max(1) as u64;
            let key = call.system.futex_key(address);
            Ok(Ok(call.system.wake(key, most, bitset)).into())
        }
        FUTEX_REQUEUE | FUTEX_CMP_REQUEUE => {
            if count < 0 || other < 0 || !second.is_multiple_of(4) {
                return Err(Errno::EINVAL);
            }
            let system = &mut *call.system;
            let word = system.futex_word(address)?;
            if command == FUTEX_CMP_REQUEUE && word != last as u32 {
                return Err(Errno::EAGAIN);
            }
            let (from, to) = (system.futex_key(address), system.futex_key(second));
            let woken = system.wake(from, count as u64, ANY);
            let moved = system.requeue(from, to, other as u64);
            Ok(Ok(woken + moved).into())
        }
        FUTEX_WAKE_OP => wake_and_change(call.system, address, second, [count, other], last),
        FUTEX_LOCK_PI | FUTEX_LOCK_PI2 | FUTEX_TRYLOCK_PI => {
            let until = match command {
                FUTEX_TRYLOCK_PI => None,
                _ => end_of(call, width, operation, fourth)?,
            };
            lock(call.system, address, command == FUTEX_TRYLOCK_PI, until)
        }
        FUTEX_UNLOCK_PI => {
            let system = &mut *call.system;
            let own = system.running_task().0;
            if system.futex_word(address)? & FUTEX_TID_MASK != own {
                return Err(Errno::EPERM);
            }
            system.unlock(address)?;
            Ok(Ok(0).into())
        }
        _ => Err(Errno::ENOSYS),
    }
}

/// FUTEX_LOCK_PI: the word has the number of the task that owns it, or 0.
fn lock(
    system: &mut System,
    address: u64,
    only_tries: bool,
    until: Option<u64>,
) -> Result<Answer, Errno> {
    let (own, word) = (system.running_task().0, system.futex_word(address)?);
    let owner = word & FUTEX_TID_MASK;
    if owner == 0 {
        let keeps = word & FUTEX_OWNER_DIED;
        system.set_word(address, own | keeps)?;
        return Ok(Ok(0).into());
    }
    if owner == own {
        return Err(Errno::EDEADLK);
    }
    if only_tries {
        return Err(Errno::EAGAIN);
    }
    if !system.tasks().any(|task| task == TaskId(owner)) {
        return Err(Errno::ESRCH);
    }
    system.set_word(address, word | FUTEX_WAITERS)?;
    let key = system.futex_key(address);
    Ok(system.wait_at(key, ANY, true, until))
}

/// FUTEX_WAKE_OP: changes the second word, wakes at the first, and at the second if its old value compares.
fn wake_and_change(
    system: &mut System,
    first: u64,
    second: u64,
    [count, other]: [i32; 2],
    encoded: u64,
) -> Result<Answer, Errno> {
    let encoded = encoded as u32;
    let extended = |bits: u32| ((bits << 20) as i32) >> 20;
    let (operation, comparison) = (encoded >> 28 & 7, encoded >> 24 & 0xf);
    let (mut operand, compared) = (extended(encoded >> 12 & 0xfff), extended(encoded & 0xfff));
    if encoded >> 31 != 0 {
        operand = 1i32.wrapping_shl(operand as u32);
    }
    let old = system.futex_word(second)? as i32;
    let new = match operation {
        0 => operand,
        1 => old.wrapping_add(operand),
        2 => old | operand,
        3 => old & !operand,
        4 => old ^ operand,
        _ => return Err(Errno::ENOSYS),
    };
    let compares = match comparison {
        0 => old == compared,
        1 => old != compared,
        2 => old < compared,
        3 => old <= compared,
        4 => old > compared,
        5 => old >= compared,
        _ => return Err(Errno::ENOSYS),
    };
    system.set_word(second, new as u32)?;
    let mut woken = system.wake_at(first, count.max(1) as u64);
    if compares {
        woken += system.wake_at(second, other.max(1) as u64);
    }
    Ok(Ok(woken).into())
}

/// `set_robust_list(2)`
pub(crate) fn set_robust_list(
    call: &mut Call,
    Address(head): Address,
    size: u64,
) -> Result<u64, Errno> {
    if size != 3 * call.abi.word_bytes() as u64 {
        return Err(Errno::EINVAL);
    }
    call.system.scheduler.current().robust_list = head;
    Ok(0)
}

/// `get_robust_list(2)`
pub(crate) fn get_robust_list(
    call: &mut Call,
    thread: u64,
    Address(head): Address,
    Address(size): Address,
) -> Result<u64, Errno> {
    let width = call.abi.word_bytes();
    let system = &mut *call.system;
    let id = match thread as u32 {
        0 => system.running_task(),
        id => TaskId(id),
    };
    let task = system.scheduler.tasks.iter().find(|task| task.id == id).ok_or(Errno::ESRCH)?;
    let list = task.robust_list;
    put(system, size, &(3 * width as u64).to_le_bytes()[..width])?;
    put(system, head, &list.to_le_bytes()[..width])?;
    Ok(0)
}

/// `set_tid_address(2)`
pub(crate) fn set_tid_address(call: &mut Call, Address(address): Address) -> Result<u64, Errno> {
    call.system.scheduler.current().clear_at_end = address;
    Ok(call.system.running_task().0.into())
}
