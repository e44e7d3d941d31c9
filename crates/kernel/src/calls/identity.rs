//! Who the process is: its number, its user, the system that it runs on; and how it ends.

use crate::Errno;
use crate::arguments::Address;
use crate::calls::call::{Call, Outcome, put};
use crate::stop::Termination;
use crate::target::target;

/// The number of the process and of its first task.
pub(crate) const PROCESS: u64 = 1000;
/// The number of the user and of the group.
pub(crate) const USER: u64 = 1000;

/// `_exit(2)` as the system call: of one task.
pub(crate) fn exit(_: &mut Call, status: i32) -> Outcome {
    // The low 8 bits count.
    Outcome::TaskEnded(i32::from(status as u8))
}

/// `exit_group(2)`
pub(crate) fn exit_group(_: &mut Call, status: i32) -> Outcome {
    Outcome::Terminated(Termination::Exited(i32::from(status as u8)))
}

/// `gettid(2)`
pub(crate) fn task_number(call: &mut Call) -> Result<u64, Errno> {
    Ok(call.system.running_task().0.into())
}

/// `getuid(2)` and its kin
pub(crate) fn user_number(_: &mut Call) -> Result<u64, Errno> {
    Ok(USER)
}

/// The structure of uname: six names of 65 bytes. Source: uname(2).
pub(crate) fn uname(call: &mut Call, Address(address): Address) -> Result<u64, Errno> {
    let machine = target(call.system.arch()).platform;
    let mut bytes = Vec::new();
    for name in ["Linux", "skerry", "6.1.0", "#1 Sotto", machine, "(none)"] {
        let start = bytes.len();
        bytes.extend(name.as_bytes());
        bytes.resize(start + 65, 0);
    }
    put(call.system, address, &bytes)?;
    Ok(0)
}
