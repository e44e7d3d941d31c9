//! Users and groups. There is one user without privileges.
//!
//! Sources: getuid(2), getgroups(2), setuid(2), setresuid(2), setfsuid(2), capget(2).

use crate::Errno;
use crate::abi::SyscallAbi;
use crate::arguments::Address;
use crate::calls::call::{Call, put};
use crate::calls::identity::USER;
use crate::calls::waiting::named;
use crate::system::System;

/// `getgroups(2)`: there are none beside the user's own.
pub(crate) fn groups(_: &mut Call, size: i32, _: Address) -> Result<u64, Errno> {
    if size < 0 { Err(Errno::EINVAL) } else { Ok(0) }
}

/// `setgroups(2)`
pub(crate) fn set_groups(_: &mut Call, _: u64, _: Address) -> Result<u64, Errno> {
    Err(Errno::EPERM)
}

/// `getresuid(2)` and `getresgid(2)`: the real, effective and saved number, of so many bytes each.
fn tell_three(system: &mut System, to: [u64; 3], width: usize) -> Result<u64, Errno> {
    for address in to {
        put(system, address, &USER.to_le_bytes()[..width])?;
    }
    Ok(0)
}

/// `getresuid(2)` and `getresgid(2)`
pub(crate) fn three_numbers(
    call: &mut Call,
    Address(real): Address,
    Address(effective): Address,
    Address(saved): Address,
) -> Result<u64, Errno> {
    tell_three(call.system, [real, effective, saved], 4)
}

/// The same as it was first: with numbers of 16 bits on 32-bit x86.
pub(crate) fn first_three_numbers(
    call: &mut Call,
    Address(real): Address,
    Address(effective): Address,
    Address(saved): Address,
) -> Result<u64, Errno> {
    let width = if call.abi == SyscallAbi::X86_32 { 2 } else { 4 };
    tell_three(call.system, [real, effective, saved], width)
}

/// Whether the user may have a number; -1 leaves it as it is.
fn may_have(number: u64) -> bool {
    number as u32 as u64 == USER || number as u32 == u32::MAX
}

fn change(numbers: &[u64]) -> Result<u64, Errno> {
    if numbers.iter().all(|number| may_have(*number)) { Ok(0) } else { Err(Errno::EPERM) }
}

/// `setuid(2)` and `setgid(2)`
pub(crate) fn set_one(_: &mut Call, number: u64) -> Result<u64, Errno> {
    if number as u32 == u32::MAX { Err(Errno::EINVAL) } else { change(&[number]) }
}

/// `setreuid(2)` and `setregid(2)`
pub(crate) fn set_two(_: &mut Call, real: u64, effective: u64) -> Result<u64, Errno> {
    change(&[real, effective])
}

/// `setresuid(2)` and `setresgid(2)`
pub(crate) fn set_three(_: &mut Call, real: u64, effective: u64, saved: u64) -> Result<u64, Errno> {
    change(&[real, effective, saved])
}

/// A number as the first calls took it: with 16 bits on 32-bit x86, of which -1 stays -1.
fn first_number(call: &Call, number: u64) -> u64 {
    match call.abi {
        SyscallAbi::X86_32 if number as u16 == u16::MAX => u32::MAX.into(),
        SyscallAbi::X86_32 => number & 0xffff,
        SyscallAbi::X86_64 | SyscallAbi::Arm64 => number,
    }
}

/// `setuid(2)` and `setgid(2)` as they were first
pub(crate) fn first_set_one(call: &mut Call, number: u64) -> Result<u64, Errno> {
    let number = first_number(call, number);
    set_one(call, number)
}

/// `setreuid(2)` and `setregid(2)` as they were first
pub(crate) fn first_set_two(call: &mut Call, real: u64, effective: u64) -> Result<u64, Errno> {
    change(&[real, effective].map(|number| first_number(call, number)))
}

/// `setresuid(2)` and `setresgid(2)` as they were first
pub(crate) fn first_set_three(
    call: &mut Call,
    real: u64,
    effective: u64,
    saved: u64,
) -> Result<u64, Errno> {
    change(&[real, effective, saved].map(|number| first_number(call, number)))
}

/// `setfsuid(2)` and `setfsgid(2)`, which tell the number that there was.
pub(crate) fn set_file_user(_: &mut Call, _: u64) -> Result<u64, Errno> {
    Ok(USER)
}

/// The version of capabilities. Source: capget(2), _LINUX_CAPABILITY_VERSION_3.
const CAPABILITIES: u32 = 0x2008_0522;

fn check_capabilities(system: &mut System, header: u64) -> Result<(), Errno> {
    let bytes = system.machine.memory_mut().read::<8>(header).map_err(|_| Errno::EFAULT)?;
    let (version, process) = (bytes[..4].try_into(), bytes[4..].try_into());
    let number = |bytes: Result<[u8; 4], _>| bytes.map_or(0, u32::from_le_bytes);
    if number(version) != CAPABILITIES {
        put(system, header, &CAPABILITIES.to_le_bytes())?;
        return Err(Errno::EINVAL);
    }
    named(system, number(process).into()).map(|_| ())
}

/// `capget(2)`: the user has no capabilities.
pub(crate) fn capabilities(
    call: &mut Call,
    Address(header): Address,
    Address(data): Address,
) -> Result<u64, Errno> {
    match check_capabilities(call.system, header) {
        // Without a place for the answer the version is what is asked for.
        Err(Errno::EINVAL) if data == 0 => return Ok(0),
        checked => checked?,
    }
    if data != 0 {
        put(call.system, data, &[0; 24])?;
    }
    Ok(0)
}

/// `capset(2)`: nothing can be added to nothing.
pub(crate) fn set_capabilities(
    call: &mut Call,
    Address(header): Address,
    Address(data): Address,
) -> Result<u64, Errno> {
    check_capabilities(call.system, header)?;
    let mut sets = [0; 24];
    call.system.machine.memory_mut().read_bytes(data, &mut sets).map_err(|_| Errno::EFAULT)?;
    if sets == [0; 24] { Ok(0) } else { Err(Errno::EPERM) }
}
