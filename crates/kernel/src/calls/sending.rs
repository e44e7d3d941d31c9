//! Sending at sockets: to the other of two that are connected, to a name of AF_UNIX, by UDP.
//!
//! Sources: send(2), unix(7), udp(7); Linux, `net/unix/af_unix.c`, `net/ipv4/tcp.c` and `net/ipv4/udp.c` for the order of the
//! checks.

use std::net::SocketAddr;

use crate::Errno;
use crate::calls::call::Outcome;
use crate::calls::messages::{MSG_NOSIGNAL, MSG_OOB};
use crate::calls::sockets::{blocked, name_port, named, own_address, reachable};
use crate::calls::transfers::{Transfer, Transferred};
use crate::files::addresses::{Family, SocketAddress};
use crate::files::open::FileId;
use crate::files::sockets::{BUFFER_BYTES, Message, Shut, SocketId, SocketKind, State};
use crate::system::System;

/// Bytes of the longest datagram of UDP over IPv4.
const MOST_DATAGRAM_BYTES: u64 = 65_507;

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
                    let answer = (blocked(system, self.id, self.may_wait, false), None);
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
            return Ok((blocked(system, self.id, true, false), None));
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
            return Ok((blocked(system, self.id, self.may_wait, false), None));
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
