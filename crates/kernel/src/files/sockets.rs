//! Sockets between the processes of the system. No other computer can be reached, and neither can this one's own kernel.
//!
//! Sources: socket(7), unix(7), ip(7), tcp(7), udp(7).

use std::collections::{BTreeMap, VecDeque};
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

use bitflags::bitflags;

use crate::Errno;
use crate::calls::readiness::{
    POLLERR, POLLHUP, POLLIN, POLLOUT, POLLRDHUP, POLLRDNORM, POLLWRBAND, POLLWRNORM,
};
use crate::files::addresses::{Family, SocketAddress};
use crate::files::epolls::Source;
use crate::files::inode::InodeId;
use crate::files::open::FileId;
use crate::process::ProcessId;
use crate::system::System;

/// Bytes that wait at a socket to be read. Source: socket(7), /proc/sys/net/core/rmem_default.
pub(crate) const BUFFER_BYTES: usize = 212_992;
/// Messages that wait at a socket of AF_UNIX to be read. Source: unix(7), /proc/sys/net/unix/max_dgram_qlen.
const MOST_MESSAGES: usize = 11;
/// The first of the ports that sockets get which name none. Source: ip(7), /proc/sys/net/ipv4/ip_local_port_range.
const FIRST_PORT: u16 = 32_768;
const LAST_PORT: u16 = 60_999;

/// The number of a socket.
#[derive(Copy, Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub(crate) struct SocketId(pub u32);

/// How a socket transfers.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) enum SocketKind {
    /// Bytes, whatever they were written in.
    Stream,
    /// Messages, each by itself.
    Datagram,
    /// Messages between two that are connected.
    Sequence,
}

impl SocketKind {
    /// Its number. Source: <linux/net.h>.
    pub fn number(self) -> u64 {
        match self {
            SocketKind::Stream => 1,
            SocketKind::Datagram => 2,
            SocketKind::Sequence => 5,
        }
    }
}

bitflags! {
    /// What was shut down.
    #[derive(Copy, Clone, PartialEq, Eq, Debug, Default)]
    pub(crate) struct Shut: u8 {
        const READ = 1;
        const WRITE = 2;
    }
}

/// What waits at a socket to be read.
#[derive(Clone, Debug)]
pub(crate) struct Message {
    pub bytes: Vec<u8>,
    /// Who sent it.
    pub from: SocketAddress,
    pub sender: ProcessId,
    /// Open files that come with it. Source: unix(7), SCM_RIGHTS.
    pub rights: Vec<FileId>,
}

/// What a socket is.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) enum State {
    /// Neither connected nor listening.
    Open,
    /// It takes connections: how many may wait, and those that do.
    Listening { backlog: usize, waiting: Vec<SocketId> },
    /// It is one of two.
    Connected(SocketId),
    /// It was, and the other is closed.
    Disconnected,
}

/// An option that is a number: of a level.
pub(crate) type OptionKey = (u64, u64);

/// A socket.
#[derive(Clone)]
pub(crate) struct Socket {
    pub family: Family,
    pub kind: SocketKind,
    pub state: State,
    pub name: SocketAddress,
    /// The file that has its name.
    pub inode: Option<InodeId>,
    /// With whom it is connected.
    pub peer_name: Option<SocketAddress>,
    /// The process that made it, or that made it listen, and that which did so with the other.
    pub process: ProcessId,
    pub peer_process: ProcessId,
    queue: Arc<VecDeque<Message>>,
    /// Bytes in the queue.
    pub queued: usize,
    pub shut: Shut,
    /// What went wrong meanwhile, and is told once.
    pub error: Option<Errno>,
    /// It was connected without waiting, and nobody has asked since whether it is.
    pub is_new: bool,
    /// A write found no room.
    pub was_full: bool,
    /// Options that were set.
    pub options: Arc<BTreeMap<OptionKey, i64>>,
}

impl Socket {
    /// A socket that nothing was done with.
    pub fn new(family: Family, kind: SocketKind, process: ProcessId) -> Socket {
        Socket {
            family,
            kind,
            state: State::Open,
            name: SocketAddress::none(family),
            inode: None,
            peer_name: None,
            process,
            peer_process: process,
            queue: Arc::default(),
            queued: 0,
            shut: Shut::empty(),
            error: None,
            is_new: false,
            was_full: false,
            options: Arc::default(),
        }
    }

    /// Whether it is one of two, which transfer bytes or messages in their order.
    pub fn is_connection(&self) -> bool {
        self.kind != SocketKind::Datagram
    }

    /// The first message.
    pub fn first(&self) -> Option<&Message> {
        self.queue.front()
    }

    /// The messages, the first to be read first.
    pub fn messages(&self) -> impl Iterator<Item = &Message> {
        self.queue.iter()
    }

    /// Takes the first message.
    pub fn take_message(&mut self) -> Option<Message> {
        let message = Arc::make_mut(&mut self.queue).pop_front()?;
        self.queued -= message.bytes.len();
        Some(message)
    }

    /// Takes bytes of the first message, and the message with its last; the open files that came with it.
    pub fn take_bytes(&mut self, count: usize) -> Vec<FileId> {
        let Some(first) = Arc::make_mut(&mut self.queue).front_mut() else { return Vec::new() };
        let rights = std::mem::take(&mut first.rights);
        if count < first.bytes.len() {
            first.bytes.drain(..count);
            self.queued -= count;
        } else {
            self.take_message();
        }
        rights
    }

    /// Puts a message into the queue. Bytes of a stream are put to those before, unless open files come with either.
    pub fn put(&mut self, message: Message) {
        self.queued += message.bytes.len();
        let queue = Arc::make_mut(&mut self.queue);
        match queue.back_mut() {
            Some(last)
                if self.kind == SocketKind::Stream
                    && last.rights.is_empty()
                    && message.rights.is_empty()
                    && last.sender == message.sender =>
            {
                last.bytes.extend(message.bytes);
            }
            _ => queue.push_back(message),
        }
    }

    /// Bytes that there is room for.
    pub fn room(&self) -> usize {
        let is_full = self.family == Family::Unix
            && self.kind != SocketKind::Stream
            && self.queue.len() >= MOST_MESSAGES;
        if is_full { 0 } else { BUFFER_BYTES.saturating_sub(self.queued) }
    }

    /// An option that is a number, or what it is when it was not set.
    pub fn option(&self, key: OptionKey, unset: i64) -> i64 {
        self.options.get(&key).copied().unwrap_or(unset)
    }

    /// Whether it takes what is sent to an address.
    fn has_address(&self, address: SocketAddr) -> bool {
        /// IPPROTO_IPV6, IPV6_V6ONLY. Source: ipv6(7).
        const ONLY_6: OptionKey = (41, 26);
        let Some(own) = self.name.internet() else { return false };
        let to = address.ip().to_canonical();
        let is_it = match own.ip() {
            IpAddr::V6(own) if own.is_unspecified() => to.is_ipv6() || self.option(ONLY_6, 0) == 0,
            IpAddr::V4(own) if own.is_unspecified() => to.is_ipv4(),
            own => own.to_canonical() == to,
        };
        is_it && own.port() == address.port()
    }
}

/// The sockets.
#[derive(Clone, Default)]
pub(crate) struct Sockets {
    all: BTreeMap<SocketId, Socket>,
    last: u32,
    /// The last port that was given to a socket which named none.
    last_port: u16,
}

impl Sockets {
    pub fn add(&mut self, socket: Socket) -> SocketId {
        self.last += 1;
        self.all.insert(SocketId(self.last), socket);
        SocketId(self.last)
    }

    pub fn get(&self, id: SocketId) -> Option<&Socket> {
        self.all.get(&id)
    }

    pub fn get_mut(&mut self, id: SocketId) -> Option<&mut Socket> {
        self.all.get_mut(&id)
    }

    /// Whether a file is the name of a socket.
    pub fn has_inode(&self, inode: InodeId) -> bool {
        self.all.values().any(|socket| socket.inode == Some(inode))
    }

    /// The socket whose name a file is.
    pub fn of_inode(&self, inode: InodeId) -> Option<SocketId> {
        self.find(|socket| socket.inode == Some(inode))
    }

    /// The socket of AF_UNIX with a name that is no path.
    pub fn of_name(&self, name: &SocketAddress) -> Option<SocketId> {
        self.find(|socket| socket.name == *name && socket.inode.is_none() && !socket.is_accepted())
    }

    /// The socket that takes what comes to an address: a connection, or a datagram from another.
    pub fn at(
        &self,
        address: SocketAddr,
        kind: SocketKind,
        from: Option<SocketAddr>,
    ) -> Option<SocketId> {
        let takes = |socket: &Socket| {
            socket.kind == kind
                && socket.has_address(address)
                && match kind {
                    SocketKind::Datagram => match &socket.peer_name {
                        Some(peer) => peer.internet() == from,
                        None => true,
                    },
                    _ => matches!(socket.state, State::Listening { .. }),
                }
        };
        // One that is connected with the sender comes before one that takes from everybody.
        self.find(|socket| takes(socket) && socket.peer_name.is_some()).or_else(|| self.find(takes))
    }

    /// Whether a socket of a kind may get an address: others that have the port must not be in the way.
    pub fn is_free(&self, own: SocketId, address: SocketAddr) -> bool {
        /// SOL_SOCKET, SO_REUSEADDR and SO_REUSEPORT. Source: socket(7).
        const REUSE: [OptionKey; 2] = [(1, 2), (1, 15)];
        let Some(socket) = self.get(own) else { return false };
        let reuses = |socket: &Socket| REUSE.iter().any(|key| socket.option(*key, 0) != 0);
        !self.all.iter().any(|(id, other)| {
            let Some(name) = other.name.internet() else { return false };
            let overlaps = name.ip() == address.ip()
                || name.ip().is_unspecified()
                || address.ip().is_unspecified();
            let listens = matches!(other.state, State::Listening { .. });
            *id != own
                && other.kind == socket.kind
                && name.port() == address.port()
                && overlaps
                && !(reuses(other) && reuses(socket) && !listens)
        })
    }

    /// A port that no socket of the kind has; `None` if there is none.
    pub fn free_port(&mut self, own: SocketId, address: IpAddr) -> Option<u16> {
        let count = u32::from(LAST_PORT - FIRST_PORT) + 1;
        let first =
            if self.last_port == 0 { 0 } else { u32::from(self.last_port - FIRST_PORT) + 1 };
        let ports = (0..count).map(|n| FIRST_PORT + ((first + n) % count) as u16);
        let port =
            ports.into_iter().find(|port| self.is_free(own, SocketAddr::new(address, *port)));
        self.last_port = port.unwrap_or(self.last_port);
        port
    }

    fn find(&self, is_it: impl Fn(&Socket) -> bool) -> Option<SocketId> {
        self.all.iter().find(|(_, socket)| is_it(socket)).map(|(id, _)| *id)
    }

    /// Bytes that a snapshot of them takes.
    pub fn bytes(&self) -> usize {
        self.all.values().map(|socket| size_of::<Socket>() + socket.queued).sum()
    }

    /// Bytes that wait to be read at sockets that are connected with this one.
    fn sent_bytes(&self, socket: &Socket) -> usize {
        match socket.state {
            State::Connected(peer) => self.get(peer).map_or(0, |peer| peer.queued),
            _ => 0,
        }
    }
}

impl Socket {
    /// Whether it is the end of a connection that another socket took, whose name it has.
    fn is_accepted(&self) -> bool {
        self.is_connection() && self.peer_name.is_some()
    }
}

impl System {
    /// What a socket is ready for.
    pub(crate) fn socket_readiness(&self, id: SocketId) -> u64 {
        let Some(socket) = self.sockets.get(id) else { return POLLHUP };
        let is_unix = socket.family == Family::Unix;
        let mut ready = 0;
        if socket.error.is_some() {
            ready |= POLLERR;
        }
        if let State::Listening { waiting, .. } = &socket.state {
            return if waiting.is_empty() { ready } else { ready | POLLIN | POLLRDNORM };
        }
        let is_unconnected = socket.is_connection() && socket.state == State::Open;
        if socket.shut.is_all() || is_unconnected {
            ready |= POLLHUP;
        }
        if socket.shut.contains(Shut::READ) {
            ready |= POLLIN | POLLRDNORM | POLLRDHUP;
        }
        if socket.first().is_some() {
            ready |= POLLIN | POLLRDNORM;
        }
        let has_room = match socket.state {
            State::Connected(peer) if socket.kind == SocketKind::Stream => {
                self.sockets.sent_bytes(socket) < BUFFER_BYTES / 2
                    || self.sockets.get(peer).is_none()
            }
            State::Connected(peer) => self.sockets.get(peer).is_none_or(|peer| peer.room() > 0),
            _ => true,
        };
        if has_room || socket.shut.contains(Shut::WRITE) && !is_unix {
            ready |= POLLOUT | POLLWRNORM;
            if is_unix || socket.kind == SocketKind::Datagram {
                ready |= POLLWRBAND;
            }
        }
        ready
    }

    /// Notes that there is something to read at a socket.
    pub(crate) fn note_arrival(&mut self, id: SocketId) {
        self.note_ready(Source::Socket(id), POLLIN | POLLRDNORM | POLLRDHUP);
    }

    /// Notes that there is room again for who sends to a socket.
    pub(crate) fn note_room(&mut self, receiver: SocketId) {
        self.note_event();
        let senders: Vec<SocketId> = self
            .sockets
            .all
            .iter()
            .filter(|(_, socket)| socket.state == State::Connected(receiver))
            .map(|(id, _)| *id)
            .collect();
        for id in senders {
            let Some(socket) = self.sockets.get_mut(id) else { continue };
            // Those of AF_UNIX tell each time that something was read.
            let is_told = std::mem::take(&mut socket.was_full) || socket.family == Family::Unix;
            if is_told && self.socket_readiness(id) & POLLOUT != 0 {
                self.note_ready(Source::Socket(id), POLLOUT | POLLWRNORM | POLLWRBAND);
            }
        }
    }

    /// Notes that a socket was shut down or that something went wrong with it.
    pub(crate) fn note_change(&mut self, id: SocketId) {
        let all = POLLIN | POLLRDNORM | POLLOUT | POLLWRNORM | POLLRDHUP | POLLHUP | POLLERR;
        self.note_ready(Source::Socket(id), all);
    }

    /// Connects two sockets with each other.
    pub(crate) fn join(&mut self, one: SocketId, other: SocketId) {
        for (id, peer) in [(one, other), (other, one)] {
            let Some(Socket { name, process, .. }) = self.sockets.get(peer).cloned() else {
                return;
            };
            if let Some(socket) = self.sockets.get_mut(id) {
                (socket.state, socket.peer_name) = (State::Connected(peer), Some(name));
                socket.peer_process = process;
            }
        }
    }

    /// Closes a socket that no descriptor names any more.
    pub(crate) fn close_socket(&mut self, id: SocketId) {
        let Some(socket) = self.sockets.all.remove(&id) else { return };
        let waiting = match &socket.state {
            State::Listening { waiting, .. } => waiting.clone(),
            _ => Vec::new(),
        };
        // Who waited to be taken is told that nobody does, and so is who sent something that was not read.
        let is_lost = socket.first().is_some() && socket.is_connection();
        let peers: Vec<SocketId> = self
            .sockets
            .all
            .iter()
            .filter(|(_, other)| other.state == State::Connected(id))
            .map(|(id, _)| *id)
            .collect();
        for peer in peers {
            let Some(other) = self.sockets.get_mut(peer) else { continue };
            if !other.is_connection() {
                other.state = State::Disconnected;
                continue;
            }
            other.state = State::Disconnected;
            other.shut |= Shut::READ;
            if other.family == Family::Unix || is_lost {
                other.shut |= Shut::WRITE;
            }
            if is_lost {
                other.error = Some(Errno::ECONNRESET);
            }
            self.note_change(peer);
        }
        for waiting in waiting {
            // It counts as something that was not read.
            if let Some(State::Connected(client)) =
                self.sockets.get(waiting).map(|socket| socket.state.clone())
                && let Some(client) = self.sockets.get_mut(client)
            {
                client.error = Some(Errno::ECONNRESET);
                client.shut = Shut::all();
            }
            self.close_socket(waiting);
        }
        for message in socket.messages() {
            message.rights.iter().for_each(|file| self.release(*file));
        }
        socket.inode.into_iter().for_each(|inode| self.drop_unused(inode));
    }
}
