//! The calls that send and receive at sockets, with addresses and with what comes beside the bytes.
//!
//! Sources: send(2), recv(2), sendmmsg(2), recvmmsg(2), unix(7), cmsg(3).

use crate::Errno;
use crate::arguments::{Address, Fd};
use crate::calls::call::{Answer, Call, Outcome, put};
use crate::calls::identity::USER;
use crate::calls::polling::is_over;
use crate::calls::receiving::{Received, Receiving};
use crate::calls::sending::Sending;
use crate::calls::socket_options::PASS_CREDENTIALS;
use crate::calls::sockets::{put_address, read_address, socket_of};
use crate::calls::time::read_time;
use crate::calls::transfers::{MAX_VECTORS, Transfer, Transferred, ranges_of};
use crate::files::addresses::{Family, SocketAddress};
use crate::files::open::FileId;
use crate::files::sockets::{SocketId, SocketKind};
use crate::layout::{Layout, number_at};
use crate::system::System;

// Flags. Source: send(2), recv(2), <linux/socket.h>.
pub(crate) const MSG_OOB: u64 = 1;
pub(crate) const MSG_PEEK: u64 = 2;
const MSG_CTRUNC: u64 = 8;
pub(crate) const MSG_TRUNC: u64 = 0x20;
const MSG_DONTWAIT: u64 = 0x40;
pub(crate) const MSG_WAITALL: u64 = 0x100;
pub(crate) const MSG_ERRQUEUE: u64 = 0x2000;
pub(crate) const MSG_NOSIGNAL: u64 = 0x4000;
const MSG_WAITFORONE: u64 = 0x1_0000;
const MSG_CMSG_CLOEXEC: u64 = 0x4000_0000;
/// Open files that one message carries at most. Source: unix(7), SCM_RIGHTS.
const MOST_RIGHTS: usize = 253;

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
