//! Receiving at sockets: bytes of a stream, and messages.
//!
//! Sources: recv(2), unix(7); Linux, `net/unix/af_unix.c`, `net/ipv4/tcp.c` and `net/ipv4/udp.c` for the order of the checks.

use crate::Errno;
use crate::calls::call::Outcome;
use crate::calls::messages::{MSG_ERRQUEUE, MSG_OOB, MSG_PEEK, MSG_TRUNC, MSG_WAITALL};
use crate::calls::sockets::blocked;
use crate::calls::transfers::{Transfer, Transferred};
use crate::files::addresses::{Family, SocketAddress};
use crate::files::open::FileId;
use crate::files::sockets::{Shut, SocketId, SocketKind, State};
use crate::process::ProcessId;
use crate::system::System;

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
    pub count: u64,
    pub from: Option<SocketAddress>,
    pub sender: Option<ProcessId>,
    pub rights: Vec<FileId>,
    /// What is told of it: MSG_TRUNC if it was longer.
    pub flags: u64,
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
                None => Err((blocked(system, self.id, self.may_wait, true), None)),
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
            return Err((blocked(system, self.id, true, true), None));
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
                    Err((blocked(system, self.id, self.may_wait, true), None))
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
    pub(crate) fn drop_rights(&mut self, received: &Received) {
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
