//! Making sockets, naming them, connecting them and shutting them down.
//!
//! Sources: socket(2), socketpair(2), bind(2), listen(2), accept(2), connect(2), shutdown(2), getsockname(2), getpeername(2),
//! socketcall(2); Linux, `net/socket.c`, `net/unix/af_unix.c` and `net/ipv4/af_inet.c` for the order of the checks.

use std::net::{IpAddr, SocketAddr};

use crate::Errno;
use crate::arguments::{Address, Argument, Fd};
use crate::calls::call::{Answer, Call, Outcome, notice, put};
use crate::calls::messages;
use crate::calls::paths::{AT_FDCWD, find_path};
use crate::calls::socket_options::{self, timeout};
use crate::files::addresses::{Family, MAX_ADDRESS_BYTES, SocketAddress, is_own};
use crate::files::inode::{Kind, Want};
use crate::files::open::{OpenFile, OpenFlags, What};
use crate::files::sockets::{Shut, Socket, SocketId, SocketKind, State};
use crate::files::walk::LastLink;
use crate::layout::number_at;
use crate::report::Notice;
use crate::system::System;
use crate::target::target;

/// The bits of a type that are one; the others are flags.
const TYPE: u64 = 0xf;

/// The family and the kind that a program asks for.
fn kind_of(domain: u64, kind: u64, protocol: u64) -> Result<(Family, SocketKind), Errno> {
    const HIGHEST_TYPE: u64 = 10;
    const RAW: u64 = 3;
    let (domain, protocol) = (domain & 0xffff_ffff, protocol & 0xffff_ffff);
    if kind & TYPE > HIGHEST_TYPE {
        return Err(Errno::EINVAL);
    }
    let family = Family::from_number(domain).ok_or(Errno::EAFNOSUPPORT)?;
    if family == Family::Unix && protocol > 1 {
        return Err(Errno::EPROTONOSUPPORT);
    }
    let found = match (family, kind & TYPE) {
        (Family::Unix, 1) => (SocketKind::Stream, None),
        (Family::Unix, 2 | RAW) => (SocketKind::Datagram, None),
        (Family::Unix, 5) => (SocketKind::Sequence, None),
        (Family::Internet | Family::Internet6, 1) => (SocketKind::Stream, Some(6)),
        (Family::Internet | Family::Internet6, 2) => (SocketKind::Datagram, Some(17)),
        // Who is no administrator has no packets of the network.
        (Family::Internet | Family::Internet6, RAW) if protocol != 0 => return Err(Errno::EPERM),
        (Family::Internet | Family::Internet6, RAW) => return Err(Errno::EPROTONOSUPPORT),
        _ => return Err(Errno::ESOCKTNOSUPPORT),
    };
    match found {
        (kind, None) => Ok((family, kind)),
        (kind, Some(own)) if protocol == 0 || protocol == own => Ok((family, kind)),
        _ => Err(Errno::EPROTONOSUPPORT),
    }
}

/// Gives a socket a descriptor.
fn install(call: &mut Call, id: SocketId, flags: u64) -> Result<u32, Errno> {
    let bits = &target(call.abi.arch()).open_bits;
    let mut access = OpenFlags::READ | OpenFlags::WRITE;
    access.set(OpenFlags::NONBLOCK, flags & bits.nonblock != 0);
    let name = format!("socket:[{}]", inode_of(id));
    let file = OpenFile::new(What::Socket(id), access, 2 | flags & bits.nonblock, name.as_bytes());
    call.system.open(file, flags & bits.close_on_exec != 0)
}

/// The number of the inode of a socket, behind those of the pipes.
pub(crate) fn inode_of(id: SocketId) -> u64 {
    1_000_000 + u64::from(id.0)
}

fn check_flags(call: &Call, flags: u64) -> Result<(), Errno> {
    let bits = &target(call.abi.arch()).open_bits;
    match flags & 0xffff_ffff & !(bits.nonblock | bits.close_on_exec) {
        0 => Ok(()),
        _ => Err(Errno::EINVAL),
    }
}

/// `socket(2)`
pub(crate) fn socket(call: &mut Call, domain: u64, kind: u64, protocol: u64) -> Result<u64, Errno> {
    check_flags(call, kind & !TYPE)?;
    let (family, socket_kind) = kind_of(domain, kind, protocol)?;
    call.system.free_descriptor(0)?;
    let process = call.system.process.id;
    let id = call.system.sockets.add(Socket::new(family, socket_kind, process));
    install(call, id, kind & !TYPE).map(u64::from)
}

/// `socketpair(2)`
pub(crate) fn socketpair(
    call: &mut Call,
    domain: u64,
    kind: u64,
    protocol: u64,
    Address(to): Address,
) -> Result<u64, Errno> {
    check_flags(call, kind & !TYPE)?;
    let (family, socket_kind) = kind_of(domain, kind, protocol)?;
    if family != Family::Unix {
        return Err(Errno::EOPNOTSUPP);
    }
    let process = call.system.process.id;
    let [one, other] =
        [(); 2].map(|()| call.system.sockets.add(Socket::new(family, socket_kind, process)));
    call.system.join(one, other);
    let first = match install(call, one, kind & !TYPE) {
        Ok(first) => first,
        Err(errno) => {
            call.system.close_socket(one);
            call.system.close_socket(other);
            return Err(errno);
        }
    };
    let second = install(call, other, kind & !TYPE).inspect_err(|_| {
        call.system.close_socket(other);
        let _ = call.system.close(first);
    })?;
    let bytes = [first.to_le_bytes(), second.to_le_bytes()].concat();
    if let Err(errno) = put(call.system, to, &bytes) {
        call.system.close(first)?;
        call.system.close(second)?;
        return Err(errno);
    }
    Ok(0)
}

/// The socket that a descriptor names, and whether its calls may wait.
///
/// # Errors
///
/// EBADF if it is not open, ENOTSOCK if it is something else.
pub(crate) fn socket_of(system: &System, fd: u32) -> Result<(SocketId, bool), Errno> {
    let open = system.open_file(fd)?;
    match open.what {
        _ if open.flags.contains(OpenFlags::PATH) => Err(Errno::EBADF),
        What::Socket(id) => Ok((id, !open.flags.contains(OpenFlags::NONBLOCK))),
        _ => Err(Errno::ENOTSOCK),
    }
}

impl System {
    /// A socket that is there as long as a descriptor names it.
    ///
    /// # Errors
    ///
    /// ENOTSOCK if it is not.
    pub(crate) fn socket(&self, id: SocketId) -> Result<&Socket, Errno> {
        self.sockets.get(id).ok_or(Errno::ENOTSOCK)
    }

    /// The same, to be changed.
    ///
    /// # Errors
    ///
    /// ENOTSOCK if it is not.
    pub(crate) fn socket_mut(&mut self, id: SocketId) -> Result<&mut Socket, Errno> {
        self.sockets.get_mut(id).ok_or(Errno::ENOTSOCK)
    }
}

/// What a call at a socket answers that cannot go on: it waits, up to the time that the socket has for reading or writing, or says
/// that it cannot.
pub(crate) fn blocked(system: &mut System, id: SocketId, may_wait: bool, reads: bool) -> Outcome {
    if !may_wait {
        return Errno::EAGAIN.into();
    }
    let now = system.machine.time();
    let end = timeout(system, id, reads).map(|duration| system.deadline(duration));
    match end {
        Some(end) if end <= now => Errno::EAGAIN.into(),
        end => Outcome::Waits(system.event_wait(end, end.is_none())),
    }
}

/// The bytes of an address that a program names.
pub(crate) fn read_address(
    system: &mut System,
    address: u64,
    length: u64,
) -> Result<Vec<u8>, Errno> {
    let length = usize::try_from(length as i32).map_err(|_| Errno::EINVAL)?;
    if length > MAX_ADDRESS_BYTES {
        return Err(Errno::EINVAL);
    }
    let mut bytes = vec![0; length];
    system.machine.memory_mut().read_bytes(address, &mut bytes).map_err(|_| Errno::EFAULT)?;
    Ok(bytes)
}

/// Tells an address: as much of it as there is room for, and how long it is.
pub(crate) fn put_address(
    system: &mut System,
    to: u64,
    length_at: u64,
    address: &[u8],
) -> Result<(), Errno> {
    if to == 0 {
        return Ok(());
    }
    let room = system.machine.memory_mut().read::<4>(length_at).map_err(|_| Errno::EFAULT)?;
    let room = usize::try_from(i32::from_le_bytes(room)).map_err(|_| Errno::EINVAL)?;
    put(system, to, &address[..address.len().min(room)])?;
    put(system, length_at, &(address.len() as u32).to_le_bytes())
}

/// Whether an address of the Internet is one that sockets here may have.
fn check_own(address: SocketAddr) -> Result<(), Errno> {
    /// Source: ip(7), /proc/sys/net/ipv4/ip_unprivileged_port_start.
    const FIRST_FREE_PORT: u16 = 1024;
    match address.port() {
        _ if !is_own(address.ip()) => Err(Errno::EADDRNOTAVAIL),
        1..FIRST_FREE_PORT => Err(Errno::EACCES),
        _ => Ok(()),
    }
}

/// Gives a socket of the Internet a port, if it has none.
pub(crate) fn name_port(system: &mut System, id: SocketId, address: IpAddr) -> Result<(), Errno> {
    if !system.socket(id)?.name.is_none() {
        return Ok(());
    }
    let port = system.sockets.free_port(id, address).ok_or(Errno::EADDRNOTAVAIL)?;
    system.socket_mut(id)?.name = SocketAddress::Internet(SocketAddr::new(address, port));
    Ok(())
}

/// `bind(2)`
pub(crate) fn bind(
    call: &mut Call,
    Fd(fd): Fd,
    Address(address): Address,
    length: u64,
) -> Result<u64, Errno> {
    let system = &mut *call.system;
    let (id, _) = socket_of(system, fd)?;
    let bytes = read_address(system, address, length)?;
    let socket = system.socket(id)?;
    let (family, has_name) = (socket.family, !socket.name.is_none());
    let mut name = SocketAddress::parse(&bytes, family)?;
    match &name {
        SocketAddress::Internet(address) => {
            check_own(*address)?;
            if has_name || socket.peer_name.is_some() {
                return Err(Errno::EINVAL);
            }
            let address = match address.port() {
                0 => {
                    let free = system.sockets.free_port(id, address.ip());
                    SocketAddr::new(address.ip(), free.ok_or(Errno::EADDRINUSE)?)
                }
                _ if !system.sockets.is_free(id, *address) => return Err(Errno::EADDRINUSE),
                _ => *address,
            };
            name = SocketAddress::Internet(address);
        }
        SocketAddress::Unnamed | SocketAddress::Abstract(_) => {
            if has_name {
                // A socket that has a name keeps it when it asks for any.
                return if name == SocketAddress::Unnamed { Ok(0) } else { Err(Errno::EINVAL) };
            }
            if name == SocketAddress::Unnamed {
                name = free_name(system);
            } else if system.sockets.of_name(&name).is_some() {
                return Err(Errno::EADDRINUSE);
            }
        }
        SocketAddress::Path(path) => {
            let path = path.clone();
            let found = find_path(system, AT_FDCWD, &path, LastLink::Name)?;
            if found.inode.is_some() {
                return Err(Errno::EADDRINUSE);
            }
            if has_name {
                return Err(Errno::EINVAL);
            }
            let permissions = 0o777 & !system.process.umask;
            let inode = system.make(&found, Kind::Socket, permissions)?;
            system.socket_mut(id)?.inode = Some(inode);
        }
    }
    system.socket_mut(id)?.name = name;
    Ok(0)
}

/// A name of AF_UNIX that no socket has: five digits. Source: unix(7), "Autobind feature".
fn free_name(system: &System) -> SocketAddress {
    let names = (1u32..).map(|n| SocketAddress::Abstract(format!("{n:05x}").into_bytes().into()));
    let mut names = names.filter(|name| system.sockets.of_name(name).is_none());
    names.next().unwrap_or(SocketAddress::Unnamed)
}

/// `listen(2)`
pub(crate) fn listen(call: &mut Call, Fd(fd): Fd, backlog: i32) -> Result<u64, Errno> {
    /// Source: listen(2), /proc/sys/net/core/somaxconn.
    const MOST: usize = 4096;
    let system = &mut *call.system;
    let (id, _) = socket_of(system, fd)?;
    let socket = system.socket(id)?;
    let (family, process) = (socket.family, system.process.id);
    if !socket.is_connection() {
        return Err(Errno::EOPNOTSUPP);
    }
    if !matches!(socket.state, State::Open | State::Listening { .. }) {
        return Err(Errno::EINVAL);
    }
    match family {
        Family::Unix if socket.name.is_none() => return Err(Errno::EINVAL),
        Family::Unix => {}
        family => name_port(system, id, family.any())?,
    }
    let socket = system.socket_mut(id)?;
    let most = usize::try_from(backlog).map_or(MOST, |backlog| backlog.min(MOST));
    socket.process = process;
    match &mut socket.state {
        State::Listening { backlog, .. } => *backlog = most,
        state => *state = State::Listening { backlog: most, waiting: Vec::new() },
    }
    Ok(0)
}

/// The socket that a name of AF_UNIX leads to.
pub(crate) fn named(system: &mut System, name: &SocketAddress) -> Result<SocketId, Errno> {
    match name {
        SocketAddress::Path(path) => {
            let found = find_path(system, AT_FDCWD, path, LastLink::Followed)?;
            let inode = found.existing(&system.tree)?;
            let about = system.tree.get(inode);
            about.check(Want::Write)?;
            let is_socket = matches!(about.kind, Kind::Socket);
            let socket = is_socket.then(|| system.sockets.of_inode(inode)).flatten();
            socket.ok_or(Errno::ECONNREFUSED)
        }
        SocketAddress::Abstract(_) => system.sockets.of_name(name).ok_or(Errno::ECONNREFUSED),
        SocketAddress::Unnamed | SocketAddress::Internet(_) => Err(Errno::EINVAL),
    }
}

/// Where something is sent that is sent to an address: to the computer itself, or nowhere.
pub(crate) fn reachable(family: Family, address: SocketAddr) -> Result<SocketAddr, Errno> {
    match address.ip() {
        ip if ip.is_unspecified() => Ok(SocketAddr::new(family.loopback(), address.port())),
        ip if is_own(ip) => Ok(SocketAddr::new(ip.to_canonical(), address.port())),
        _ => Err(Errno::ENETUNREACH),
    }
}

/// The own address of who sends to an address.
pub(crate) fn own_address(to: SocketAddr) -> IpAddr {
    match to.ip() {
        IpAddr::V4(_) => Family::Internet.loopback(),
        IpAddr::V6(_) => Family::Internet6.loopback(),
    }
}

/// What to say when another computer is asked for.
fn unreachable(name: &SocketAddress) -> Option<Notice> {
    notice(
        format!("`connect` was asked for {name}, and this computer is the only one that there is"),
        "connect to 127.0.0.1, where another process of the program listens",
    )
}

/// `connect(2)`
pub(crate) fn connect(
    call: &mut Call,
    Fd(fd): Fd,
    Address(address): Address,
    length: u64,
) -> Answer {
    match connect_to(call, fd, address, length) {
        Ok(answer) => answer,
        Err(errno) => Err(errno).into(),
    }
}

fn connect_to(call: &mut Call, fd: u32, address: u64, length: u64) -> Result<Answer, Errno> {
    const UNSPECIFIED: u64 = 0;
    let system = &mut *call.system;
    let (id, may_wait) = socket_of(system, fd)?;
    let bytes = read_address(system, address, length)?;
    let socket = system.socket(id)?;
    let family = socket.family;
    let is_dissolved = bytes.len() >= 2 && number_at(&bytes, 0, 2) == UNSPECIFIED;
    if is_dissolved && !socket.is_connection() {
        let socket = system.socket_mut(id)?;
        (socket.peer_name, socket.state) = (None, State::Open);
        return Ok(Ok(0).into());
    }
    let name = SocketAddress::parse(&bytes, family)?;
    if !socket.is_connection() {
        return connect_datagrams(system, id, name);
    }
    if socket.is_new && socket.family != Family::Unix {
        let socket = system.socket_mut(id)?;
        socket.is_new = false;
        let result = socket.error.take().map_or(Ok(0), Err);
        return Ok(result.into());
    }
    match socket.state {
        State::Open => {}
        State::Listening { .. } if family == Family::Unix => return Err(Errno::EINVAL),
        _ => return Err(Errno::EISCONN),
    }
    let listener = match &name {
        SocketAddress::Internet(address) => {
            let Ok(to) = reachable(family, *address) else {
                return Ok((Outcome::from(Errno::ENETUNREACH), unreachable(&name)).into());
            };
            name_port(system, id, own_address(to))?;
            let found = system.sockets.at(to, SocketKind::Stream, None);
            let socket = system.socket_mut(id)?;
            if let Some(own) = socket.name.internet().filter(|own| own.ip().is_unspecified()) {
                let own = SocketAddr::new(own_address(to), own.port());
                socket.name = SocketAddress::Internet(own);
            }
            match found {
                Some(listener) => listener,
                // Nobody answers before the call has returned.
                None if !may_wait => {
                    (socket.is_new, socket.error) = (true, Some(Errno::ECONNREFUSED));
                    return Err(Errno::EINPROGRESS);
                }
                None => return Err(Errno::ECONNREFUSED),
            }
        }
        name => {
            let found = named(system, name)?;
            if system.socket(found)?.kind != system.socket(id)?.kind {
                return Err(Errno::EPROTOTYPE);
            }
            found
        }
    };
    let own = system.socket(id)?.clone();
    let taken = system.socket(listener)?;
    let State::Listening { backlog, waiting } = &taken.state else {
        return Err(Errno::ECONNREFUSED);
    };
    if waiting.len() > *backlog {
        return Ok(blocked(system, id, may_wait, false).into());
    }
    let mut other = Socket::new(family, own.kind, taken.process);
    (other.name, other.options) = (taken.name.clone(), taken.options.clone());
    if let SocketAddress::Internet(address) = &name {
        let to = reachable(family, *address)?;
        other.family = taken.family;
        other.name = SocketAddress::Internet(to);
    }
    let other = system.sockets.add(other);
    system.join(id, other);
    if let State::Listening { waiting, .. } = &mut system.socket_mut(listener)?.state {
        waiting.push(other);
    }
    system.note_arrival(listener);
    if family != Family::Unix && !may_wait {
        system.socket_mut(id)?.is_new = true;
        return Err(Errno::EINPROGRESS);
    }
    Ok(Ok(0).into())
}

/// Says to whom datagrams go that name nobody, and from whom they are taken.
fn connect_datagrams(
    system: &mut System,
    id: SocketId,
    name: SocketAddress,
) -> Result<Answer, Errno> {
    if let SocketAddress::Internet(address) = &name {
        let family = system.socket(id)?.family;
        let Ok(to) = reachable(family, *address) else {
            return Ok((Outcome::from(Errno::ENETUNREACH), unreachable(&name)).into());
        };
        name_port(system, id, own_address(to))?;
        let socket = system.socket_mut(id)?;
        socket.peer_name = Some(SocketAddress::Internet(to));
        if let Some(own) = socket.name.internet().filter(|own| own.ip().is_unspecified()) {
            socket.name = SocketAddress::Internet(SocketAddr::new(own_address(to), own.port()));
        }
        return Ok(Ok(0).into());
    }
    let peer = named(system, &name)?;
    let other = system.socket(peer)?;
    if other.is_connection() {
        return Err(Errno::EPROTOTYPE);
    }
    // Who is connected with another takes nothing from this one.
    if matches!(other.state, State::Connected(its) if its != id) {
        return Err(Errno::EPERM);
    }
    let process = other.process;
    let socket = system.socket_mut(id)?;
    (socket.state, socket.peer_name) = (State::Connected(peer), Some(name));
    socket.peer_process = process;
    Ok(Ok(0).into())
}

/// `accept4(2)`
pub(crate) fn accept4(
    call: &mut Call,
    Fd(fd): Fd,
    Address(address): Address,
    Address(length): Address,
    flags: u64,
) -> Answer {
    accept_one(call, fd, address, length, flags).unwrap_or_else(|errno| Err(errno).into())
}

/// `accept(2)`
pub(crate) fn accept(call: &mut Call, fd: Fd, address: Address, length: Address) -> Answer {
    accept4(call, fd, address, length, 0)
}

fn accept_one(
    call: &mut Call,
    fd: u32,
    address: u64,
    length: u64,
    flags: u64,
) -> Result<Answer, Errno> {
    check_flags(call, flags)?;
    let (id, may_wait) = socket_of(call.system, fd)?;
    call.system.free_descriptor(0)?;
    let socket = call.system.socket_mut(id)?;
    if !socket.is_connection() {
        return Err(Errno::EOPNOTSUPP);
    }
    let State::Listening { waiting, .. } = &mut socket.state else { return Err(Errno::EINVAL) };
    if waiting.is_empty() {
        return Ok(blocked(call.system, id, may_wait, true).into());
    }
    let taken = waiting.remove(0);
    call.system.note_event();
    let new = install(call, taken, flags)?;
    let peer = call.system.socket(taken)?;
    let name = peer.peer_name.clone().unwrap_or(SocketAddress::none(peer.family));
    let bytes = name.bytes(peer.family);
    if let Err(errno) = put_address(call.system, address, length, &bytes) {
        call.system.close(new)?;
        return Err(errno);
    }
    Ok(Ok(new.into()).into())
}

/// `shutdown(2)`
pub(crate) fn shutdown(call: &mut Call, Fd(fd): Fd, how: u64) -> Result<u64, Errno> {
    let system = &mut *call.system;
    let (id, _) = socket_of(system, fd)?;
    let shut = match how & 0xffff_ffff {
        0 => Shut::READ,
        1 => Shut::WRITE,
        2 => Shut::all(),
        _ => return Err(Errno::EINVAL),
    };
    let socket = system.socket_mut(id)?;
    let is_unix = socket.family == Family::Unix;
    let is_connected = socket.peer_name.is_some();
    if !is_unix && !is_connected && !matches!(socket.state, State::Listening { .. }) {
        return Err(Errno::ENOTCONN);
    }
    socket.shut |= shut;
    let (state, is_stream) = (socket.state.clone(), socket.is_connection());
    system.note_change(id);
    if let (State::Connected(peer), true) = (state, is_stream)
        && let Some(other) = system.sockets.get_mut(peer)
    {
        if shut.contains(Shut::WRITE) {
            other.shut |= Shut::READ;
        }
        // Who sends over the Internet is not told that nobody reads.
        if shut.contains(Shut::READ) && is_unix {
            other.shut |= Shut::WRITE;
        }
        system.note_change(peer);
    }
    Ok(0)
}

/// `getsockname(2)`
pub(crate) fn getsockname(
    call: &mut Call,
    Fd(fd): Fd,
    Address(address): Address,
    Address(length): Address,
) -> Result<u64, Errno> {
    let (id, _) = socket_of(call.system, fd)?;
    let socket = call.system.socket(id)?;
    let bytes = socket.name.bytes(socket.family);
    tell_name(call, address, length, &bytes)
}

/// `getpeername(2)`
pub(crate) fn getpeername(
    call: &mut Call,
    Fd(fd): Fd,
    Address(address): Address,
    Address(length): Address,
) -> Result<u64, Errno> {
    let (id, _) = socket_of(call.system, fd)?;
    let socket = call.system.socket(id)?;
    let is_over = socket.state == State::Disconnected && socket.family != Family::Unix;
    let name = socket.peer_name.as_ref().filter(|_| !is_over || !socket.shut.is_all());
    let bytes = name.ok_or(Errno::ENOTCONN)?.bytes(socket.family);
    tell_name(call, address, length, &bytes)
}

fn tell_name(call: &mut Call, address: u64, length: u64, bytes: &[u8]) -> Result<u64, Errno> {
    if address == 0 {
        // The length is looked at first.
        let system = &mut *call.system;
        system.machine.memory_mut().read::<4>(length).map_err(|_| Errno::EFAULT)?;
        return Err(Errno::EFAULT);
    }
    put_address(call.system, address, length, bytes).map(|()| 0)
}

/// `socketcall(2)`: all calls of sockets in one, with their arguments in memory.
pub(crate) fn socketcall(call: &mut Call, which: u64, Address(arguments): Address) -> Answer {
    /// How many arguments each has, from 1 on. Source: Linux, `net/socket.c`, `nargs`.
    const COUNTS: [usize; 20] = [3, 3, 3, 2, 3, 3, 3, 4, 4, 4, 6, 6, 2, 5, 5, 3, 3, 4, 5, 4];
    let which = which & 0xffff_ffff;
    let count = usize::try_from(which).ok().and_then(|which| which.checked_sub(1));
    let Some(&count) = count.and_then(|index| COUNTS.get(index)) else {
        return Err(Errno::EINVAL).into();
    };
    let mut bytes = [0; 24];
    let memory = call.system.machine.memory_mut();
    if memory.read_bytes(arguments, &mut bytes[..4 * count]).is_err() {
        return Err(Errno::EFAULT).into();
    }
    let word = |index: usize| number_at(&bytes, 4 * index, 4);
    let address = |index: usize| Address(word(index));
    let fd = Fd(word(0) as u32);
    match which {
        1 => socket(call, word(0), word(1), word(2)).into(),
        2 => bind(call, fd, address(1), word(2)).into(),
        3 => connect(call, fd, address(1), word(2)),
        4 => listen(call, fd, i32::from_register(word(1))).into(),
        5 => accept(call, fd, address(1), address(2)),
        6 => getsockname(call, fd, address(1), address(2)).into(),
        7 => getpeername(call, fd, address(1), address(2)).into(),
        8 => socketpair(call, word(0), word(1), word(2), address(3)).into(),
        9 => messages::sendto(call, fd, address(1), word(2), word(3), Address(0), 0).into(),
        10 => messages::recvfrom(call, fd, address(1), word(2), word(3), Address(0), Address(0))
            .into(),
        11 => messages::sendto(call, fd, address(1), word(2), word(3), address(4), word(5)).into(),
        12 => messages::recvfrom(call, fd, address(1), word(2), word(3), address(4), address(5))
            .into(),
        13 => shutdown(call, fd, word(1)).into(),
        14 => socket_options::setsockopt(call, fd, word(1), word(2), address(3), word(4)).into(),
        15 => socket_options::getsockopt(call, fd, word(1), word(2), address(3), address(4)).into(),
        16 => messages::sendmsg(call, fd, address(1), word(2)).into(),
        17 => messages::recvmsg(call, fd, address(1), word(2)).into(),
        18 => accept4(call, fd, address(1), address(2), word(3)),
        19 => messages::recvmmsg(call, fd, address(1), word(2), word(3), address(4)),
        _ => messages::sendmmsg(call, fd, address(1), word(2), word(3)),
    }
}
