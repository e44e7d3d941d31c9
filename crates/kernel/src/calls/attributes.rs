//! Extended attributes of files: those of the class `user`, which regular files and directories have.
//!
//! Sources: xattr(7), setxattr(2), getxattr(2), listxattr(2), removexattr(2).

use std::sync::Arc;

use crate::Errno;
use crate::arguments::{Address, Fd};
use crate::calls::call::{Call, put};
use crate::calls::paths::{find, open_inode};
use crate::files::inode::{InodeId, Kind, Want};
use crate::files::walk::LastLink;
use crate::system::System;

/// Longest name, and largest value. Source: <linux/limits.h>.
const MAX_NAME_BYTES: usize = 255;
const MAX_VALUE_BYTES: u64 = 65_536;

const XATTR_CREATE: u64 = 1;
const XATTR_REPLACE: u64 = 2;

/// The file that a call names by a path.
fn by_path(call: &mut Call, path: Address, last_link: LastLink) -> Result<InodeId, Errno> {
    const HERE: Fd = Fd(-100i32 as u32);
    find(call.system, HERE, path, last_link)?.existing(&call.system.tree)
}

/// The file that a call names by a descriptor.
fn by_descriptor(call: &mut Call, fd: Fd) -> Result<InodeId, Errno> {
    open_inode(call.system, fd)?.ok_or(Errno::EOPNOTSUPP)
}

/// The name of an attribute, which must be of a class that there is.
fn name(system: &mut System, address: u64) -> Result<Vec<u8>, Errno> {
    let mut name = Vec::new();
    for at in 0..=MAX_NAME_BYTES as u64 {
        let byte = system.machine.memory_mut().read::<1>(address.wrapping_add(at));
        match byte.map_err(|_| Errno::EFAULT)? {
            [0] if name.is_empty() => return Err(Errno::ERANGE),
            [0] => return Ok(name),
            [byte] => name.push(byte),
        }
    }
    Err(Errno::ERANGE)
}

/// Checks the class of a name. `missing` is the error for what the user may not see.
fn check_class(
    system: &System,
    id: InodeId,
    name: &[u8],
    want: Want,
    missing: Errno,
) -> Result<(), Errno> {
    let inode = system.tree.get(id);
    match name {
        [b'u', b's', b'e', b'r', b'.', _, ..] => match inode.kind {
            Kind::File(_) | Kind::Directory(_) => inode.check(want),
            _ if want == Want::Write => Err(Errno::EPERM),
            _ => Err(missing),
        },
        name if name.starts_with(b"trusted.") => {
            Err(if want == Want::Write { Errno::EPERM } else { missing })
        }
        b"user." => Err(Errno::EINVAL),
        _ => Err(Errno::EOPNOTSUPP),
    }
}

fn set(
    call: &mut Call,
    id: InodeId,
    Address(name_at): Address,
    Address(value_at): Address,
    size: u64,
    flags: u64,
) -> Result<u64, Errno> {
    let system = &mut *call.system;
    if flags as u32 & !3 != 0 {
        return Err(Errno::EINVAL);
    }
    let name = name(system, name_at)?;
    if size > MAX_VALUE_BYTES {
        return Err(Errno::E2BIG);
    }
    let mut value = vec![0; size as usize];
    system.machine.memory_mut().read_bytes(value_at, &mut value).map_err(|_| Errno::EFAULT)?;
    check_class(system, id, &name, Want::Write, Errno::ENODATA)?;
    let time = system.wall_time();
    let inode = system.tree.get_mut(id);
    match inode.attributes.contains_key(&name[..]) {
        true if flags & XATTR_CREATE != 0 => return Err(Errno::EEXIST),
        false if flags & XATTR_REPLACE != 0 => return Err(Errno::ENODATA),
        _ => {}
    }
    inode.changed = time;
    Arc::make_mut(&mut inode.attributes).insert(name.into(), value.into());
    Ok(0)
}

fn get(
    call: &mut Call,
    id: InodeId,
    Address(name_at): Address,
    Address(value_at): Address,
    size: u64,
) -> Result<u64, Errno> {
    let system = &mut *call.system;
    let name = name(system, name_at)?;
    check_class(system, id, &name, Want::Read, Errno::ENODATA)?;
    let value = system.tree.get(id).attributes.get(&name[..]).cloned().ok_or(Errno::ENODATA)?;
    tell(system, value_at, size, &value)
}

/// Puts bytes where there is room for `size`; with 0 only their number is asked for.
fn tell(system: &mut System, address: u64, size: u64, bytes: &[u8]) -> Result<u64, Errno> {
    if size != 0 {
        if (bytes.len() as u64) > size {
            return Err(Errno::ERANGE);
        }
        put(system, address, bytes)?;
    }
    Ok(bytes.len() as u64)
}

fn list(call: &mut Call, id: InodeId, Address(list_at): Address, size: u64) -> Result<u64, Errno> {
    let system = &mut *call.system;
    let mut names = Vec::new();
    for name in system.tree.get(id).attributes.keys() {
        names.extend_from_slice(name);
        names.push(0);
    }
    tell(system, list_at, size, &names)
}

fn remove(call: &mut Call, id: InodeId, Address(name_at): Address) -> Result<u64, Errno> {
    let system = &mut *call.system;
    let name = name(system, name_at)?;
    check_class(system, id, &name, Want::Write, Errno::ENODATA)?;
    let time = system.wall_time();
    let inode = system.tree.get_mut(id);
    if !inode.attributes.contains_key(&name[..]) {
        return Err(Errno::ENODATA);
    }
    Arc::make_mut(&mut inode.attributes).remove(&name[..]);
    inode.changed = time;
    Ok(0)
}

/// Makes the three calls of a kind: by a path, by a path whose last link is meant itself, and by a descriptor.
macro_rules! three_ways {
    ($what:ident($($argument:ident: $type:ident),*): $by_path:ident, $by_link:ident, $by_descriptor:ident; $name:literal) => {
        #[doc = concat!("`", $name, "(2)` by a path")]
        pub(crate) fn $by_path(call: &mut Call, path: Address $(, $argument: $type)*) -> Result<u64, Errno> {
            let id = by_path(call, path, LastLink::Followed)?;
            $what(call, id $(, $argument)*)
        }
        #[doc = concat!("`", $name, "(2)` by a path that may be a link's")]
        pub(crate) fn $by_link(call: &mut Call, path: Address $(, $argument: $type)*) -> Result<u64, Errno> {
            let id = by_path(call, path, LastLink::Meant)?;
            $what(call, id $(, $argument)*)
        }
        #[doc = concat!("`", $name, "(2)` by a descriptor")]
        pub(crate) fn $by_descriptor(call: &mut Call, fd: Fd $(, $argument: $type)*) -> Result<u64, Errno> {
            let id = by_descriptor(call, fd)?;
            $what(call, id $(, $argument)*)
        }
    };
}

three_ways!(set(name: Address, value: Address, size: u64, flags: u64): setxattr, lsetxattr, fsetxattr; "setxattr");
three_ways!(get(name: Address, value: Address, size: u64): getxattr, lgetxattr, fgetxattr; "getxattr");
three_ways!(list(names: Address, size: u64): listxattr, llistxattr, flistxattr; "listxattr");
three_ways!(remove(name: Address): removexattr, lremovexattr, fremovexattr; "removexattr");
