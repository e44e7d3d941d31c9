//! Sending and receiving at sockets.
//!
//! Sources: send(2), recv(2), sendmmsg(2), recvmmsg(2), unix(7), cmsg(3); Linux, `net/unix/af_unix.c`, `net/ipv4/tcp.c` and
//! `net/ipv4/udp.c` for the order of the checks.

use std::net::SocketAddr;

use crate::Errno;
use crate::arguments::{Address, Fd};
use crate::calls::call::{Answer, Call, Outcome, put};
use crate::calls::identity::USER;
use crate::calls::polling::is_over;
use crate::calls::socket_options::{PASS_CREDENTIALS, timeout};
use crate::calls::sockets::{
    name_port, named, own_address, put_address, reachable, read_address, socket_of,
};
use crate::calls::time::read_time;
use crate::calls::transfers::{Transfer, Transferred, ranges_of};
use crate::files::addresses::{Family, SocketAddress};
use crate::files::open::FileId;
use crate::files::sockets::{BUFFER_BYTES, Message, Shut, SocketId, SocketKind, State};
use crate::layout::{Layout, number_at};
use crate::process::ProcessId;
use crate::system::System;

const MSG_OOB: u64 = 1;
const MSG_PEEK: u64 = 2;
const MSG_CTRUNC: u64 = 8;
const MSG_TRUNC: u64 = 0x20;
const MSG_DONTWAIT: u64 = 0x40;
const MSG_WAITALL: u64 = 0x100;
const MSG_ERRQUEUE: u64 = 0x2000;
const MSG_NOSIGNAL: u64 = 0x4000;
const MSG_WAITFORONE: u64 = 0x1_0000;
const MSG_CMSG_CLOEXEC: u64 = 0x4000_0000;
/// Bytes of the longest datagram of UDP over IPv4.
const MOST_DATAGRAM_BYTES: u64 = 65_507;
/// Open files that one message carries at most. Source: unix(7), SCM_RIGHTS.
const MOST_RIGHTS: usize = 253;

/// What is sent at a socket.
pub(crate) struct Sending<'a> {
    pub transfer: &'a Transfer<'a>,
    pub id: SocketId,
    pub flags: u64,
    pub may_wait: bool,
    /// To whom, if it is said.
    pub to: Option<SocketAddress>,
    /// Open files that go with it.
    pub rights: Vec<FileId>,
}

/// What a call that cannot go on answers: it waits, or says that it cannot.
fn blocked(system: &mut System, id: SocketId, may_wait: bool, reads: bool) -> Transferred {
    if !may_wait {
        return (Errno::EAGAIN.into(), None);
    }
    let now = system.machine.time();
    let end = timeout(system, id, reads).map(|duration| {
        let task = system.scheduler.current();
        *task.deadline.get_or_insert(now.saturating_add(duration))
    });
    match end {
        Some(end) if end <= now => (Errno::EAGAIN.into(), None),
        end => (Outcome::Waits(system.event_wait(end, end.is_none())), None),
    }
}

impl Sending<'_> {
    /// Sends it, or as much of it as there is room for.
    pub fn send(self, system: &mut System) -> Transferred {
        match self.send_some(system) {
            Ok(transferred) => transferred,
            Err(errno) => (errno.into(), None),
        }
    }

    fn send_some(self, system: &mut System) -> Result<Transferred, Errno> {
        if self.flags & MSG_OOB != 0 {
            return Err(Errno::EOPNOTSUPP);
        }
        let socket = system.socket(self.id)?;
        match (socket.kind, socket.family) {
            (SocketKind::Stream | SocketKind::Sequence, _) => self.send_connected(system),
            (SocketKind::Datagram, Family::Unix) => self.send_message(system),
            (SocketKind::Datagram, _) => self.send_datagram(system),
        }
    }

    /// Nobody will read it.
    fn broken(&self, system: &mut System) -> Errno {
        if self.flags & MSG_NOSIGNAL == 0 {
            system.send_pipe_signal();
        }
        Errno::EPIPE
    }

    fn message(&self, system: &mut System, bytes: Vec<u8>, from: SocketAddress) -> Message {
        for file in &self.rights {
            system.open_files.share(*file);
        }
        Message { bytes, from, sender: system.process.id, rights: self.rights.clone() }
    }

    /// Sends to the other of two that are connected.
    fn send_connected(self, system: &mut System) -> Result<Transferred, Errno> {
        let before = std::mem::take(system.transferred());
        let socket = system.socket_mut(self.id)?;
        let (family, kind) = (socket.family, socket.kind);
        if self.to.is_some() && family == Family::Unix {
            let is_connected = socket.peer_name.is_some();
            return Err(if is_connected { Errno::EISCONN } else { Errno::EOPNOTSUPP });
        }
        let done = |count: u64| Ok((Outcome::Returned(count as i64), None));
        if let Some(errno) = socket.error.take() {
            return match before {
                0 if errno == Errno::EPIPE => Err(self.broken(system)),
                0 => Err(errno),
                before => done(before),
            };
        }
        let is_shut = socket.shut.contains(Shut::WRITE);
        let peer = match socket.state {
            _ if is_shut && before > 0 => return done(before),
            _ if is_shut => return Err(self.broken(system)),
            State::Connected(peer) => peer,
            State::Disconnected => {
                // It is sent, and the answer is that nobody is there.
                socket.error = Some(Errno::EPIPE);
                socket.shut = Shut::all();
                let count = self.transfer.total();
                system.note_change(self.id);
                return done(count);
            }
            _ if family == Family::Unix => return Err(Errno::ENOTCONN),
            _ => return Err(self.broken(system)),
        };
        let left = self.transfer.total() - before;
        if left == 0 && kind == SocketKind::Stream {
            return done(before);
        }
        if kind == SocketKind::Sequence && left > BUFFER_BYTES as u64 {
            return Err(Errno::EMSGSIZE);
        }
        let room = system.socket(peer)?.room();
        let fits = match kind {
            SocketKind::Stream => room > 0,
            _ => room as u64 >= left && room > 0,
        };
        if !fits {
            system.socket_mut(self.id)?.was_full = true;
            return match (self.may_wait, before) {
                (false, 1..) => done(before),
                _ => {
                    let answer = blocked(system, self.id, self.may_wait, false);
                    if matches!(answer.0, Outcome::Waits(_)) {
                        *system.transferred() = before;
                    }
                    Ok(answer)
                }
            };
        }
        let (mut bytes, refused) = self.transfer.gather(system, before);
        if refused && (bytes.is_empty() || kind == SocketKind::Sequence) {
            return match before {
                0 => Ok(self.transfer.refused(system, false)),
                before => done(before),
            };
        }
        bytes.truncate(room);
        let sent = before + bytes.len() as u64;
        let from = system.socket(self.id)?.name.clone();
        let mut message = self.message(system, bytes, from);
        if before > 0 {
            // They went with the first part.
            for file in std::mem::take(&mut message.rights) {
                system.release(file);
            }
        }
        system.socket_mut(peer)?.put(message);
        system.note_arrival(peer);
        if sent < self.transfer.total() && !refused {
            if !self.may_wait {
                system.socket_mut(self.id)?.was_full = true;
                return done(sent);
            }
            *system.transferred() = sent;
            return Ok(blocked(system, self.id, true, false));
        }
        done(sent)
    }

    /// Sends a message of AF_UNIX to a socket that has a name, or to the one that was said.
    fn send_message(self, system: &mut System) -> Result<Transferred, Errno> {
        let socket = system.socket(self.id)?;
        let (state, is_shut) = (socket.state.clone(), socket.shut.contains(Shut::WRITE));
        let from = socket.name.clone();
        let peer = match (&self.to, state) {
            (Some(name), _) => {
                let peer = named(system, name)?;
                if system.socket(peer)?.is_connection() {
                    return Err(Errno::EPROTOTYPE);
                }
                peer
            }
            (None, State::Connected(peer)) => peer,
            (None, State::Disconnected) => {
                system.socket_mut(self.id)?.state = State::Open;
                return Err(Errno::ECONNREFUSED);
            }
            (None, _) => return Err(Errno::ENOTCONN),
        };
        let length = self.transfer.total();
        if length > BUFFER_BYTES as u64 - 32 {
            return Err(Errno::EMSGSIZE);
        }
        let other = system.socket(peer)?;
        if matches!(other.state, State::Connected(its) if its != self.id) {
            return Err(Errno::EPERM);
        }
        if is_shut || other.shut.contains(Shut::READ) {
            return Err(Errno::EPIPE);
        }
        let room = other.room();
        if room == 0 || (room as u64) < length {
            return Ok(blocked(system, self.id, self.may_wait, false));
        }
        let (bytes, refused) = self.transfer.gather(system, 0);
        if refused {
            return Ok(self.transfer.refused(system, false));
        }
        let message = self.message(system, bytes, from);
        system.socket_mut(peer)?.put(message);
        system.note_arrival(peer);
        Ok((Outcome::Returned(length as i64), None))
    }

    /// Sends a datagram of UDP. Nobody learns whether it arrives, but who is connected with a port that nobody has.
    fn send_datagram(self, system: &mut System) -> Result<Transferred, Errno> {
        let length = self.transfer.total();
        if length > MOST_DATAGRAM_BYTES {
            return Err(Errno::EMSGSIZE);
        }
        let socket = system.socket_mut(self.id)?;
        let family = socket.family;
        let is_connected = socket.peer_name.is_some();
        let to = match &self.to {
            Some(to) => to.internet(),
            None => socket.peer_name.as_ref().and_then(SocketAddress::internet),
        };
        let to = to.ok_or(Errno::EDESTADDRREQ)?;
        if to.port() == 0 {
            return Err(Errno::EINVAL);
        }
        let to = reachable(family, to)?;
        if socket.shut.contains(Shut::WRITE) {
            return Err(self.broken(system));
        }
        if let Some(errno) = socket.error.take() {
            return Err(errno);
        }
        name_port(system, self.id, family.any())?;
        let (bytes, refused) = self.transfer.gather(system, 0);
        if refused {
            return Ok(self.transfer.refused(system, false));
        }
        let own = system.socket(self.id)?.name.internet().ok_or(Errno::EINVAL)?;
        let ip = if own.ip().is_unspecified() { own_address(to) } else { own.ip() };
        let from = SocketAddr::new(ip.to_canonical(), own.port());
        match system.sockets.at(to, SocketKind::Datagram, Some(from)) {
            Some(peer) => {
                // What finds no room is lost, and so is what nobody reads any more.
                let other = system.socket(peer)?;
                if other.room() >= bytes.len() && !other.shut.contains(Shut::READ) {
                    let message = self.message(system, bytes, SocketAddress::Internet(from));
                    system.socket_mut(peer)?.put(message);
                    system.note_arrival(peer);
                }
            }
            None if is_connected => {
                system.socket_mut(self.id)?.error = Some(Errno::ECONNREFUSED);
                system.note_change(self.id);
            }
            None => {}
        }
        Ok((Outcome::Returned(length as i64), None))
    }
}

/// What is read at a socket.
pub(crate) struct Receiving<'a> {
    pub transfer: &'a Transfer<'a>,
    pub id: SocketId,
    pub flags: u64,
    pub may_wait: bool,
}

/// What was read.
#[derive(Default)]
pub(crate) struct Received {
    /// What the call returns.
    count: u64,
    from: Option<SocketAddress>,
    sender: Option<ProcessId>,
    rights: Vec<FileId>,
    /// What is told of it: MSG_TRUNC if it was longer.
    flags: u64,
}

impl Receiving<'_> {
    /// Reads, and what the call returns; `Err` if it read nothing.
    pub fn receive(&self, system: &mut System) -> Result<Received, Transferred> {
        let refuse = |errno: Errno| Err((Outcome::from(errno), None));
        if self.flags & MSG_ERRQUEUE != 0 {
            return refuse(Errno::EAGAIN);
        }
        let Some(socket) = system.sockets.get(self.id) else { return refuse(Errno::ENOTSOCK) };
        if self.flags & MSG_OOB != 0 {
            let is_message = socket.kind != SocketKind::Stream;
            return refuse(if is_message { Errno::EOPNOTSUPP } else { Errno::EINVAL });
        }
        let is_unconnected = matches!(socket.state, State::Open | State::Listening { .. });
        match (socket.kind, socket.family) {
            (SocketKind::Stream, Family::Unix) if is_unconnected => refuse(Errno::EINVAL),
            (SocketKind::Datagram, _) => self.receive_message(system),
            _ if is_unconnected => refuse(Errno::ENOTCONN),
            (SocketKind::Stream, _) => self.receive_bytes(system),
            (SocketKind::Sequence, _) => self.receive_message(system),
        }
    }

    /// What there is to say when nothing waits to be read; `None` if it may come.
    fn ended(&self, system: &mut System) -> Option<Result<Received, Transferred>> {
        let socket = system.sockets.get_mut(self.id)?;
        if let Some(errno) = socket.error.take() {
            // A connection whose other end was closed before ends, whatever came of what was sent then.
            let is_over = errno == Errno::EPIPE;
            return Some(match is_over {
                true => {
                    socket.error = Some(errno);
                    Ok(Received::default())
                }
                false => Err((errno.into(), None)),
            });
        }
        let is_shut = socket.shut.contains(Shut::READ);
        is_shut.then(|| Ok(Received::default()))
    }

    fn receive_bytes(&self, system: &mut System) -> Result<Received, Transferred> {
        let before = std::mem::take(system.transferred());
        let peeks = self.flags & MSG_PEEK != 0;
        let wanted = (self.transfer.total() - before) as usize;
        let (mut bytes, mut received) = (Vec::new(), Received::default());
        let mut taken = Vec::new();
        if let Some(socket) = system.sockets.get(self.id) {
            for message in socket.messages() {
                let has_rights = !message.rights.is_empty();
                if bytes.len() == wanted && !bytes.is_empty() || has_rights && !bytes.is_empty() {
                    break;
                }
                let count = message.bytes.len().min(wanted - bytes.len());
                bytes.extend(&message.bytes[..count]);
                taken.push(count);
                received.sender = Some(message.sender);
                received.rights.clone_from(&message.rights);
                if has_rights {
                    break;
                }
            }
        }
        if taken.is_empty() {
            return match self.ended(system) {
                _ if before > 0 => Ok(Received { count: before, ..received }),
                Some(end) => end,
                None => Err(blocked(system, self.id, self.may_wait, true)),
            };
        }
        let copied = self.transfer.scatter(system, before, &bytes);
        if copied < bytes.len() {
            return Err(self.transfer.refused(system, true));
        }
        if peeks {
            received.rights.iter().for_each(|file| system.open_files.share(*file));
        } else {
            received.rights.clear();
            for count in taken {
                let socket = system.sockets.get_mut(self.id);
                let rights = socket.map(|socket| socket.take_bytes(count)).unwrap_or_default();
                received.rights.extend(rights);
            }
            system.note_room(self.id);
        }
        received.count = before + copied as u64;
        let waits = self.flags & MSG_WAITALL != 0 && !peeks && self.may_wait;
        let is_open = system
            .sockets
            .get(self.id)
            .is_some_and(|socket| !socket.shut.contains(Shut::READ) && socket.error.is_none());
        let is_part = received.count < self.transfer.total() && received.rights.is_empty();
        if waits && is_part && is_open {
            *system.transferred() = received.count;
            return Err(blocked(system, self.id, true, true));
        }
        Ok(received)
    }

    fn receive_message(&self, system: &mut System) -> Result<Received, Transferred> {
        let first = system.sockets.get(self.id).and_then(|socket| socket.first().cloned());
        let Some(message) = first else {
            let is_sequence =
                system.sockets.get(self.id).is_some_and(|socket| socket.is_connection());
            return match self.ended(system) {
                Some(end) => end,
                // Datagrams may still come from others when this one's end is shut down for reading: nothing is sent to it.
                None if is_sequence || self.may_wait => {
                    Err(blocked(system, self.id, self.may_wait, true))
                }
                None => Err((Errno::EAGAIN.into(), None)),
            };
        };
        let length = message.bytes.len();
        let count = length.min(self.transfer.total() as usize);
        let copied = self.transfer.scatter(system, 0, &message.bytes[..count]);
        if copied < count {
            return Err(self.transfer.refused(system, true));
        }
        if self.flags & MSG_PEEK != 0 {
            message.rights.iter().for_each(|file| system.open_files.share(*file));
        } else {
            system.sockets.get_mut(self.id).and_then(|socket| socket.take_message());
            system.note_room(self.id);
        }
        let is_cut = length > count;
        let told = if is_cut && self.flags & MSG_TRUNC != 0 { length } else { count };
        Ok(Received {
            count: told as u64,
            from: Some(message.from),
            sender: Some(message.sender),
            rights: message.rights,
            flags: if is_cut { MSG_TRUNC } else { 0 },
        })
    }
}

impl System {
    /// Gives back open files that came with something which is read by a call that does not take them.
    fn drop_rights(&mut self, received: &Received) {
        received.rights.iter().for_each(|file| self.release(*file));
    }
}

/// Reads a socket as a file.
pub(crate) fn read_socket(
    system: &mut System,
    transfer: &Transfer,
    id: SocketId,
    may_wait: bool,
) -> Transferred {
    match (Receiving { transfer, id, flags: 0, may_wait }).receive(system) {
        Ok(received) => {
            system.drop_rights(&received);
            (Outcome::Returned(received.count as i64), None)
        }
        Err(transferred) => transferred,
    }
}

/// `sendto(2)`
pub(crate) fn sendto(
    call: &mut Call,
    Fd(fd): Fd,
    Address(buffer): Address,
    count: u64,
    flags: u64,
    Address(address): Address,
    length: u64,
) -> Transferred {
    let system = &mut *call.system;
    let ranges = [(buffer, count)];
    let transfer = Transfer { call: "sendto", fd, ranges: &ranges, position: None };
    if let Err(refused) = transfer.check(system, false) {
        return refused;
    }
    let prepared = socket_of(system, fd).and_then(|(id, may_wait)| {
        let family = system.socket(id)?.family;
        let to = match address {
            0 => None,
            _ => {
                let bytes = read_address(system, address, length)?;
                addressed(system, id, &bytes, family)?
            }
        };
        Ok((id, may_wait, to))
    });
    match prepared {
        Ok((id, may_wait, to)) => {
            let may_wait = may_wait && flags & MSG_DONTWAIT == 0;
            let (transfer, rights) = (&transfer, Vec::new());
            Sending { transfer, id, flags, may_wait, to, rights }.send(system)
        }
        Err(errno) => (errno.into(), None),
    }
}

/// The address to which something is sent; connections over the Internet look at none.
fn addressed(
    system: &System,
    id: SocketId,
    bytes: &[u8],
    family: Family,
) -> Result<Option<SocketAddress>, Errno> {
    match system.socket(id)?.kind {
        SocketKind::Stream if family != Family::Unix => Ok(None),
        _ if bytes.is_empty() => Ok(None),
        _ => SocketAddress::parse(bytes, family).map(Some),
    }
}

/// `recvfrom(2)`
pub(crate) fn recvfrom(
    call: &mut Call,
    Fd(fd): Fd,
    Address(buffer): Address,
    count: u64,
    flags: u64,
    Address(address): Address,
    Address(length): Address,
) -> Transferred {
    let system = &mut *call.system;
    let ranges = [(buffer, count)];
    let transfer = Transfer { call: "recvfrom", fd, ranges: &ranges, position: None };
    if let Err(refused) = transfer.check(system, true) {
        return refused;
    }
    let (id, may_wait) = match socket_of(system, fd) {
        Ok(found) => found,
        Err(errno) => return (errno.into(), None),
    };
    let may_wait = may_wait && flags & MSG_DONTWAIT == 0;
    let received = match (Receiving { transfer: &transfer, id, flags, may_wait }).receive(system) {
        Ok(received) => received,
        Err(transferred) => return transferred,
    };
    system.drop_rights(&received);
    let family = system.sockets.get(id).map_or(Family::Unix, |socket| socket.family);
    let name = name_told(&received, family);
    match put_address(system, address, length, &name) {
        Ok(()) => (Outcome::Returned(received.count as i64), None),
        Err(errno) => (errno.into(), None),
    }
}

/// The name of who sent something, as it is told: nothing where there is none.
fn name_told(received: &Received, family: Family) -> Vec<u8> {
    match &received.from {
        None | Some(SocketAddress::Unnamed) => Vec::new(),
        Some(from) => from.bytes(family),
    }
}

/// `struct msghdr`. Source: recvmsg(2).
struct Header {
    at: u64,
    name: u64,
    name_bytes: u64,
    vector: u64,
    count: u64,
    control: u64,
    control_bytes: u64,
    word: usize,
}

impl Header {
    fn read(call: &mut Call, at: u64) -> Result<Header, Errno> {
        let word = call.abi.word_bytes();
        let mut bytes = vec![0; 7 * word];
        let memory = call.system.machine.memory_mut();
        memory.read_bytes(at, &mut bytes).map_err(|_| Errno::EFAULT)?;
        let value = |index: usize| number_at(&bytes, index * word, word);
        Ok(Header {
            at,
            name: value(0),
            // It is an int, whatever the width of a word.
            name_bytes: value(1) & 0xffff_ffff,
            vector: value(2),
            count: value(3),
            control: value(4),
            control_bytes: value(5),
            word,
        })
    }

    /// Bytes of the structure.
    fn bytes(word: usize) -> u64 {
        7 * word as u64
    }

    fn put(&self, system: &mut System, index: u64, value: u64, width: usize) -> Result<(), Errno> {
        put(system, self.at + index * self.word as u64, &value.to_le_bytes()[..width])
    }

    /// Open files that are to go with what is sent.
    fn rights(&self, system: &mut System) -> Result<Vec<FileId>, Errno> {
        const SOL_SOCKET: u64 = 1;
        const SCM_RIGHTS: u64 = 1;
        const SCM_CREDENTIALS: u64 = 2;
        /// Source: socket(7), /proc/sys/net/core/optmem_max.
        const MOST_BYTES: u64 = 131_072;
        if self.control_bytes > MOST_BYTES {
            return Err(Errno::ENOBUFS);
        }
        let mut bytes = vec![0; self.control_bytes as usize];
        system
            .machine
            .memory_mut()
            .read_bytes(self.control, &mut bytes)
            .map_err(|_| Errno::EFAULT)?;
        let (head, mut at, mut rights) = (self.word + 8, 0, Vec::new());
        while at + head <= bytes.len() {
            let length = number_at(&bytes, at, self.word) as usize;
            if length < head || length > bytes.len() - at {
                return Err(Errno::EINVAL);
            }
            let level = number_at(&bytes, at + self.word, 4);
            let kind = number_at(&bytes, at + self.word + 4, 4);
            let data = &bytes[at + head..at + length];
            match (level, kind) {
                (SOL_SOCKET, SCM_RIGHTS) => {
                    for fd in data.chunks_exact(4) {
                        let fd = number_at(fd, 0, 4) as u32;
                        rights.push(system.descriptor(fd)?.file);
                    }
                }
                (SOL_SOCKET, SCM_CREDENTIALS) => {
                    if data.len() != 12 {
                        return Err(Errno::EINVAL);
                    }
                    let [process, user, group] = [0, 4, 8].map(|at| number_at(data, at, 4));
                    if process != u64::from(system.process.id.0) || user != USER || group != USER {
                        return Err(Errno::EPERM);
                    }
                }
                (SOL_SOCKET, _) => return Err(Errno::EINVAL),
                _ => {}
            }
            at += length.next_multiple_of(self.word);
        }
        if rights.len() > MOST_RIGHTS {
            return Err(Errno::EINVAL);
        }
        Ok(rights)
    }

    /// Tells what came with a message: who sent it, and open files, which get descriptors; flags about what found no room.
    fn put_control(
        &self,
        system: &mut System,
        received: &Received,
        credentials: bool,
        close_on_exec: bool,
    ) -> Result<(u64, u64), Errno> {
        let (word, head) = (self.word, self.word + 8);
        let room = self.control_bytes as usize;
        let (mut layout, mut flags) = (Layout::default(), 0);
        if let (true, Some(sender)) = (credentials, received.sender) {
            if room < head + 12 {
                flags |= MSG_CTRUNC;
            } else {
                layout.put(word, [(head + 12) as u64]);
                layout.put(4, [1, 2, u64::from(sender.0), USER, USER]);
                layout.fill_to((head + 12).next_multiple_of(word).min(room));
            }
        }
        let left = (room - layout.0.len()).saturating_sub(head) / 4;
        let mut given = Vec::new();
        for (index, file) in received.rights.iter().enumerate() {
            match system.install(*file, close_on_exec) {
                Ok(fd) if index < left => given.push(fd),
                Ok(fd) => {
                    flags |= MSG_CTRUNC;
                    let _ = system.close(fd);
                }
                Err(_) => {
                    flags |= MSG_CTRUNC;
                    system.release(*file);
                }
            }
        }
        if !given.is_empty() {
            let end = layout.0.len() + head + 4 * given.len();
            layout.put(word, [(head + 4 * given.len()) as u64]);
            layout.put(4, [1u64, 1]);
            layout.put(4, given);
            layout.fill_to(end.next_multiple_of(word).min(room).max(end));
        }
        if !layout.0.is_empty() {
            put(system, self.control, &layout.0)?;
        }
        Ok((layout.0.len() as u64, flags))
    }
}

fn send_header(call: &mut Call, fd: u32, at: u64, flags: u64) -> Transferred {
    let prepared = Header::read(call, at).and_then(|header| {
        let (id, may_wait) = socket_of(call.system, fd)?;
        let family = call.system.socket(id)?.family;
        let to = match header.name {
            0 => None,
            name => {
                let bytes = read_address(call.system, name, header.name_bytes)?;
                addressed(call.system, id, &bytes, family)?
            }
        };
        let rights = match header.control_bytes {
            0 => Vec::new(),
            _ => header.rights(call.system)?,
        };
        let rights = if family == Family::Unix { rights } else { Vec::new() };
        Ok((header, id, may_wait && flags & MSG_DONTWAIT == 0, to, rights))
    });
    let (header, id, may_wait, to, rights) = match prepared {
        Ok(prepared) => prepared,
        Err(errno) => return (errno.into(), None),
    };
    let ranges = match ranges_of(call, "sendmsg", header.vector, header.count, false) {
        Ok(ranges) => ranges,
        Err(refused) => return too_many(refused, header.count),
    };
    let transfer = &Transfer { call: "sendmsg", fd, ranges: &ranges, position: None };
    Sending { transfer, id, flags, may_wait, to, rights }.send(call.system)
}

/// What the calls of messages say of a vector that is too long: another error than those of files.
fn too_many(refused: Transferred, count: u64) -> Transferred {
    const MAX_VECTORS: u64 = 1024;
    match count > MAX_VECTORS {
        true => (Errno::EMSGSIZE.into(), refused.1),
        false => refused,
    }
}

/// `sendmsg(2)`
pub(crate) fn sendmsg(
    call: &mut Call,
    Fd(fd): Fd,
    Address(header): Address,
    flags: u64,
) -> Transferred {
    send_header(call, fd, header, flags)
}

fn receive_header(call: &mut Call, fd: u32, at: u64, flags: u64) -> Transferred {
    let prepared = Header::read(call, at).and_then(|header| {
        let (id, may_wait) = socket_of(call.system, fd)?;
        Ok((header, id, may_wait && flags & MSG_DONTWAIT == 0))
    });
    let (header, id, may_wait) = match prepared {
        Ok(prepared) => prepared,
        Err(errno) => return (errno.into(), None),
    };
    let ranges = match ranges_of(call, "recvmsg", header.vector, header.count, true) {
        Ok(ranges) => ranges,
        Err(refused) => return too_many(refused, header.count),
    };
    let system = &mut *call.system;
    let transfer = &Transfer { call: "recvmsg", fd, ranges: &ranges, position: None };
    let received = match (Receiving { transfer, id, flags, may_wait }).receive(system) {
        Ok(received) => received,
        Err(transferred) => return transferred,
    };
    match tell_header(system, &header, id, &received, flags) {
        Ok(()) => (Outcome::Returned(received.count as i64), None),
        Err(errno) => (errno.into(), None),
    }
}

fn tell_header(
    system: &mut System,
    header: &Header,
    id: SocketId,
    received: &Received,
    flags: u64,
) -> Result<(), Errno> {
    let socket = system.socket(id)?;
    let (family, credentials) = (socket.family, socket.option(PASS_CREDENTIALS, 0) != 0);
    let close_on_exec = flags & MSG_CMSG_CLOEXEC;
    if header.name != 0 {
        let name = name_told(received, family);
        let told = name.len().min(header.name_bytes as usize);
        put(system, header.name, &name[..told])?;
        header.put(system, 1, name.len() as u64, 4)?;
    }
    let (control, cut) = header.put_control(system, received, credentials, close_on_exec != 0)?;
    header.put(system, 5, control, header.word)?;
    header.put(system, 6, received.flags | cut | close_on_exec, 4)
}

/// `recvmsg(2)`
pub(crate) fn recvmsg(
    call: &mut Call,
    Fd(fd): Fd,
    Address(header): Address,
    flags: u64,
) -> Transferred {
    receive_header(call, fd, header, flags)
}

/// Messages that one call transfers at most. Source: sendmmsg(2).
const MOST_MESSAGES: u64 = 1024;

/// Does something with each of a list of messages; how many there were before one failed or had to wait. `may_wait` says whether
/// it waits for one that is not the first.
fn each(
    call: &mut Call,
    Address(list): Address,
    count: u64,
    may_wait: bool,
    mut transfer: impl FnMut(&mut Call, u64, bool) -> Transferred,
) -> Answer {
    let word = call.abi.word_bytes();
    let size = (Header::bytes(word) + 4).next_multiple_of(word as u64);
    let mut done = std::mem::take(call.system.transferred());
    while done < count.min(MOST_MESSAGES) {
        let at = list.wrapping_add(done * size);
        let (outcome, notice) = transfer(call, at, done == 0);
        match outcome {
            Outcome::Returned(bytes) if bytes >= 0 => {
                let told =
                    put(call.system, at + Header::bytes(word), &(bytes as u32).to_le_bytes());
                if let (Err(errno), 0) = (told, done) {
                    return Err(errno).into();
                }
                done += 1;
            }
            Outcome::Waits(wait) if done == 0 || may_wait => {
                *call.system.transferred() = done;
                return Outcome::Waits(wait).into();
            }
            _ if done > 0 => break,
            outcome => return (outcome, notice).into(),
        }
    }
    Ok(done).into()
}

/// `sendmmsg(2)`
pub(crate) fn sendmmsg(
    call: &mut Call,
    Fd(fd): Fd,
    list: Address,
    count: u64,
    flags: u64,
) -> Answer {
    let flags = flags & 0xffff_ffff;
    each(call, list, count & 0xffff_ffff, false, |call, at, is_first| {
        let own = if is_first { flags } else { flags | MSG_DONTWAIT };
        send_header(call, fd, at, own)
    })
}

/// `recvmmsg(2)`
pub(crate) fn recvmmsg(
    call: &mut Call,
    fd: Fd,
    list: Address,
    count: u64,
    flags: u64,
    time: Address,
) -> Answer {
    let width = call.abi.word_bytes();
    receive_each(call, fd, (list, count), flags, (time, width))
}

/// `recvmmsg(2)` with seconds of 64 bits
pub(crate) fn recvmmsg_time64(
    call: &mut Call,
    fd: Fd,
    list: Address,
    count: u64,
    flags: u64,
    time: Address,
) -> Answer {
    receive_each(call, fd, (list, count), flags, (time, 8))
}

fn receive_each(
    call: &mut Call,
    Fd(fd): Fd,
    (list, count): (Address, u64),
    flags: u64,
    (Address(time), width): (Address, usize),
) -> Answer {
    let flags = flags & 0xffff_ffff;
    let mut end = None;
    if time != 0 {
        match read_time(call.system, width, time) {
            Ok(duration) => end = Some(call.deadline(duration)),
            Err(errno) => return Err(errno).into(),
        }
    }
    // The time is looked at between messages. Source: recvmmsg(2), BUGS.
    let is_late = |call: &mut Call| is_over(call, end);
    each(call, list, count & 0xffff_ffff, flags & MSG_WAITFORONE == 0, |call, at, is_first| {
        let waits = is_first || flags & MSG_WAITFORONE == 0 && !is_late(call);
        let own = if waits { flags } else { flags | MSG_DONTWAIT };
        receive_header(call, fd, at, own & !(MSG_WAITALL | MSG_WAITFORONE))
    })
}
