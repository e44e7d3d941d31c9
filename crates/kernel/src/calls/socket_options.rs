//! Options of sockets. Sources: getsockopt(2), socket(7), tcp(7), ip(7), ipv6(7).

use std::sync::Arc;

use crate::Errno;
use crate::arguments::{Address, Fd};
use crate::calls::call::{Call, put, words};
use crate::calls::identity::USER;
use crate::calls::sockets::socket_of;
use crate::files::addresses::Family;
use crate::files::sockets::{BUFFER_BYTES, OptionKey, Socket, SocketId, SocketKind, State};
use crate::layout::number_at;
use crate::system::System;

const SOL_SOCKET: u64 = 1;
const IPPROTO_IP: u64 = 0;
const IPPROTO_TCP: u64 = 6;
const IPPROTO_IPV6: u64 = 41;
/// Sizes of buffers, of which a socket takes double what it is told.
const SO_SNDBUF: u64 = 7;
const SO_RCVBUF: u64 = 8;
const SO_TYPE: u64 = 3;
const SO_ERROR: u64 = 4;
const SO_LINGER: u64 = 13;
pub(crate) const PASS_CREDENTIALS: OptionKey = (SOL_SOCKET, 16);
const SO_PEERCRED: u64 = 17;
const SO_RCVTIMEO: u64 = 20;
const SO_SNDTIMEO: u64 = 21;
const SO_ACCEPTCONN: u64 = 30;
const SO_PROTOCOL: u64 = 38;
const SO_DOMAIN: u64 = 39;
/// Times with words of 64 bits, on machines of 32.
const SO_RCVTIMEO_NEW: u64 = 66;
const SO_SNDTIMEO_NEW: u64 = 67;

/// Options that are a number which is kept and has no effect here, with what it is when it was not set.
const PLAIN: &[(OptionKey, i64)] = &[
    // SO_REUSEADDR, SO_DONTROUTE, SO_BROADCAST, SO_KEEPALIVE, SO_OOBINLINE, SO_PRIORITY, SO_REUSEPORT
    ((SOL_SOCKET, 2), 0),
    ((SOL_SOCKET, 5), 0),
    ((SOL_SOCKET, 6), 0),
    ((SOL_SOCKET, 9), 0),
    ((SOL_SOCKET, 10), 0),
    ((SOL_SOCKET, 12), 0),
    ((SOL_SOCKET, 15), 0),
    // SO_PASSCRED, SO_RCVLOWAT, SO_TIMESTAMP
    (PASS_CREDENTIALS, 0),
    ((SOL_SOCKET, 18), 1),
    ((SOL_SOCKET, 29), 0),
    // IP_TOS, IP_TTL, IP_PKTINFO, IP_RECVERR
    ((IPPROTO_IP, 1), 0),
    ((IPPROTO_IP, 2), 64),
    ((IPPROTO_IP, 8), 0),
    ((IPPROTO_IP, 11), 0),
    // TCP_NODELAY, TCP_CORK, TCP_KEEPIDLE, TCP_KEEPINTVL, TCP_KEEPCNT, TCP_QUICKACK, TCP_USER_TIMEOUT
    ((IPPROTO_TCP, 1), 0),
    ((IPPROTO_TCP, 3), 0),
    ((IPPROTO_TCP, 4), 7200),
    ((IPPROTO_TCP, 5), 75),
    ((IPPROTO_TCP, 6), 9),
    ((IPPROTO_TCP, 12), 1),
    ((IPPROTO_TCP, 18), 0),
    // IPV6_UNICAST_HOPS, IPV6_RECVPKTINFO, IPV6_V6ONLY
    ((IPPROTO_IPV6, 16), 64),
    ((IPPROTO_IPV6, 49), 0),
    ((IPPROTO_IPV6, 26), 0),
];

/// Options that are switched on by any number but 0.
const SWITCHES: &[OptionKey] = &[
    (SOL_SOCKET, 2),
    (SOL_SOCKET, 5),
    (SOL_SOCKET, 6),
    (SOL_SOCKET, 9),
    (SOL_SOCKET, 10),
    (SOL_SOCKET, 15),
    PASS_CREDENTIALS,
    (IPPROTO_TCP, 1),
    (IPPROTO_TCP, 3),
    (IPPROTO_IPV6, 26),
];

/// Whether a socket has options of a level.
fn has_level(socket: &Socket, level: u64) -> bool {
    match level {
        SOL_SOCKET => true,
        IPPROTO_IP => socket.family != Family::Unix,
        IPPROTO_IPV6 => socket.family == Family::Internet6,
        IPPROTO_TCP => socket.family != Family::Unix && socket.kind == SocketKind::Stream,
        _ => false,
    }
}

/// What is said of an option that a socket does not have.
fn unknown(socket: &Socket, level: u64) -> Errno {
    if has_level(socket, level) || socket.family != Family::Unix {
        Errno::ENOPROTOOPT
    } else {
        Errno::EOPNOTSUPP
    }
}

/// The option of a time, whatever the width of its words; `None` if it is another.
fn time_option(name: u64, word: usize) -> Option<(u64, usize)> {
    match name {
        SO_RCVTIMEO | SO_SNDTIMEO => Some((name, word)),
        SO_RCVTIMEO_NEW => Some((SO_RCVTIMEO, 8)),
        SO_SNDTIMEO_NEW => Some((SO_SNDTIMEO, 8)),
        _ => None,
    }
}

/// How long a call on a socket may wait that reads or that writes, in nanoseconds, if there is a limit.
pub(crate) fn timeout(system: &System, id: SocketId, reads: bool) -> Option<u64> {
    let name = if reads { SO_RCVTIMEO } else { SO_SNDTIMEO };
    let time = system.sockets.get(id)?.option((SOL_SOCKET, name), 0);
    u64::try_from(time).ok().filter(|time| *time > 0)
}

/// `setsockopt(2)`
pub(crate) fn setsockopt(
    call: &mut Call,
    Fd(fd): Fd,
    level: u64,
    name: u64,
    Address(value): Address,
    length: u64,
) -> Result<u64, Errno> {
    let word = call.abi.word_bytes();
    let system = &mut *call.system;
    let (level, name, length) = (level & 0xffff_ffff, name & 0xffff_ffff, length as i32);
    let (id, _) = socket_of(system, fd)?;
    let length = usize::try_from(length).map_err(|_| Errno::EINVAL)?;
    let socket = system.socket(id)?;
    if !has_level(socket, level) {
        return Err(unknown(socket, level));
    }
    if let (SOL_SOCKET, Some((name, width))) = (level, time_option(name, word)) {
        if length < 2 * width {
            return Err(Errno::EINVAL);
        }
        let [seconds, micros] = system.read_words(value, width)?;
        if !(0..1_000_000).contains(&micros) {
            return Err(Errno::EDOM);
        }
        let time = seconds.max(0).saturating_mul(1_000_000_000).saturating_add(micros * 1000);
        return set(system, id, (level, name), time);
    }
    if length < 4 {
        return Err(Errno::EINVAL);
    }
    let bytes = system.machine.memory_mut().read::<4>(value).map_err(|_| Errno::EFAULT)?;
    let number = i64::from(i32::from_le_bytes(bytes));
    let key = (level, name);
    match key {
        (SOL_SOCKET, SO_SNDBUF | SO_RCVBUF) => {
            /// Source: socket(7), SO_RCVBUF and SO_SNDBUF.
            const LEAST: [i64; 2] = [4608, 2304];
            let least = LEAST[usize::from(name == SO_RCVBUF)];
            let most = BUFFER_BYTES as i64;
            set(system, id, key, (2 * number.clamp(0, most)).max(least))
        }
        (SOL_SOCKET, SO_LINGER) => {
            if length < 8 {
                return Err(Errno::EINVAL);
            }
            let bytes = system.machine.memory_mut().read::<8>(value).map_err(|_| Errno::EFAULT)?;
            set(system, id, key, u64::from_le_bytes(bytes) as i64)
        }
        _ if SWITCHES.contains(&key) => set(system, id, key, i64::from(number != 0)),
        _ if PLAIN.iter().any(|(plain, _)| *plain == key) => set(system, id, key, number),
        _ => Err(Errno::ENOPROTOOPT),
    }
}

fn set(system: &mut System, id: SocketId, key: OptionKey, value: i64) -> Result<u64, Errno> {
    Arc::make_mut(&mut system.socket_mut(id)?.options).insert(key, value);
    Ok(0)
}

/// `getsockopt(2)`
pub(crate) fn getsockopt(
    call: &mut Call,
    Fd(fd): Fd,
    level: u64,
    name: u64,
    Address(value): Address,
    Address(length): Address,
) -> Result<u64, Errno> {
    let word = call.abi.word_bytes();
    let system = &mut *call.system;
    let (level, name) = (level & 0xffff_ffff, name & 0xffff_ffff);
    let (id, _) = socket_of(system, fd)?;
    let room = system.machine.memory_mut().read::<4>(length).map_err(|_| Errno::EFAULT)?;
    let room = usize::try_from(number_at(&room, 0, 4) as i32).map_err(|_| Errno::EINVAL)?;
    let socket = system.socket_mut(id)?;
    if !has_level(socket, level) {
        return Err(unknown(socket, level));
    }
    let number = |value: u64| value.to_le_bytes()[..4].to_vec();
    let key = (level, name);
    let bytes = match key {
        (SOL_SOCKET, SO_ERROR) => {
            socket.is_new = false;
            number(socket.error.take().map_or(0, |errno| errno as u64))
        }
        (SOL_SOCKET, SO_TYPE) => number(socket.kind.number()),
        (SOL_SOCKET, SO_DOMAIN) => number(socket.family.number()),
        (SOL_SOCKET, SO_PROTOCOL) => number(match (socket.family, socket.kind) {
            (Family::Unix, _) => 0,
            (_, SocketKind::Datagram) => 17,
            _ => 6,
        }),
        (SOL_SOCKET, SO_ACCEPTCONN) => {
            number(u64::from(matches!(socket.state, State::Listening { .. })))
        }
        (SOL_SOCKET, SO_PEERCRED) => {
            // A process, a user and a group; nobody while it is not connected.
            let is_connected = socket.peer_name.is_some() && socket.family == Family::Unix;
            let peer = if is_connected { socket.peer_process.0 } else { 0 };
            let user = if is_connected { USER } else { u32::MAX.into() };
            words(4, &[peer.into(), user, user])
        }
        (SOL_SOCKET, SO_SNDBUF | SO_RCVBUF) => {
            number(socket.option(key, BUFFER_BYTES as i64) as u64)
        }
        (SOL_SOCKET, SO_LINGER) => (socket.option(key, 0) as u64).to_le_bytes().to_vec(),
        (SOL_SOCKET, name) if time_option(name, word).is_some() => {
            let (name, width) = time_option(name, word).unwrap_or((name, word));
            let time = socket.option((level, name), 0) as u64;
            words(width, &[time / 1_000_000_000, time % 1_000_000_000 / 1000])
        }
        _ => {
            let plain = PLAIN.iter().find(|(plain, _)| *plain == key);
            let (_, unset) = plain.ok_or(Errno::ENOPROTOOPT)?;
            number(socket.option(key, *unset) as u64)
        }
    };
    let told = bytes.len().min(room);
    put(system, value, &bytes[..told])?;
    put(system, length, &(told as u32).to_le_bytes())?;
    Ok(0)
}
