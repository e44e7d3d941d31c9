//! Open files and the descriptors that name them. Source: open(2), "Open file descriptions".

use std::sync::Arc;

use bitflags::bitflags;

use crate::Errno;
use crate::calls::limits::most_descriptors;
use crate::files::epolls::EpollId;
use crate::files::inode::InodeId;
use crate::files::pipes::PipeId;
use crate::files::sockets::SocketId;
use crate::files::tree::Tree;
use crate::process::ProcessId;
use crate::signals::SignalSet;
use crate::system::System;

bitflags! {
    /// How a file was opened, as every machine's kernel sees it.
    #[derive(Copy, Clone, PartialEq, Eq, Debug)]
    pub(crate) struct OpenFlags: u32 {
        const READ = 1;
        const WRITE = 2;
        /// Each write goes to the end.
        const APPEND = 4;
        const NONBLOCK = 8;
        /// It names a place and cannot be read or written.
        const PATH = 16;
    }
}

/// What is open.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) enum What {
    /// Standard input.
    Input,
    /// Standard output, 1, or standard error, 2.
    Output(u8),
    /// A file of the tree.
    Inode(InodeId),
    /// A file of /proc, with its text as of when it was opened.
    Proc(InodeId, Vec<u8>),
    /// A counter of events: what it stands at, and whether reading takes one of them.
    Event {
        count: u64,
        is_semaphore: bool,
    },
    /// A timer that is read: its clock; when it runs out, in nanoseconds since the start, and after
    /// how many it does so again.
    Timer {
        clock: u32,
        at: Option<u64>,
        interval: u64,
    },
    /// Pending signals of a set.
    Signals(SignalSet),
    /// An end of a pipe: that which is read, or that which is written, as the flags say.
    Pipe(PipeId),
    Socket(SocketId),
    /// A set of descriptors that are waited for.
    Epoll(EpollId),
    /// A process.
    Process(ProcessId),
}

/// The number of an open file.
#[derive(Copy, Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub(crate) struct FileId(u32);

impl What {
    /// Whether it counts events, so that it is read and written by whole records.
    pub fn is_event(&self) -> bool {
        matches!(self, What::Event { .. } | What::Timer { .. } | What::Signals(_))
    }

    /// The inode, if it is a file.
    pub fn inode(&self) -> Option<InodeId> {
        match self {
            What::Inode(id) | What::Proc(id, _) => Some(*id),
            What::Input | What::Output(_) => None,
            What::Event { .. } | What::Timer { .. } | What::Signals(_) | What::Pipe(_) => None,
            What::Socket(_) | What::Epoll(_) | What::Process(_) => None,
        }
    }
}

/// An open file, which several descriptors may share.
#[derive(Clone, Debug)]
pub(crate) struct OpenFile {
    pub what: What,
    pub flags: OpenFlags,
    /// What F_GETFL tells, in the machine's numbers.
    pub status: u64,
    /// The path by which it was opened, or the name of a stream, for showing.
    pub name: Arc<str>,
    /// The directory and the name by which it was opened, if it has one.
    pub place: Option<(InodeId, Arc<[u8]>)>,
    /// Where the next transfer begins; in a directory, how many entries were told.
    pub offset: u64,
    /// The names in a directory, as of when the first of them were told.
    pub names: Option<Arc<[Arc<[u8]>]>>,
    /// Descriptors that name it, and messages that carry one.
    uses: u32,
}

/// A descriptor of a process.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) struct Descriptor {
    /// The open file.
    pub file: FileId,
    /// It is closed when another program is executed.
    pub close_on_exec: bool,
}

/// Descriptors that a process may have. Source: getrlimit(2), RLIMIT_NOFILE.
pub(crate) const MAX_DESCRIPTORS: u32 = 1024;

/// The open files of the system.
#[derive(Clone)]
pub(crate) struct OpenFiles(Vec<Option<OpenFile>>);

impl OpenFile {
    /// A file that was opened by a path.
    pub fn new(what: What, flags: OpenFlags, status: u64, path: &[u8]) -> OpenFile {
        let name = path.escape_ascii().to_string().into();
        OpenFile { what, flags, status, name, place: None, offset: 0, names: None, uses: 1 }
    }
}

impl OpenFile {
    /// The path of the file from the root, as it was opened; of a stream, that by which it can be opened again.
    pub fn path(&self, tree: &Tree) -> Vec<u8> {
        let named = |(directory, name): &(InodeId, Arc<[u8]>)| {
            let path = tree.has(*directory).then(|| tree.path(*directory)).flatten()?;
            let path = path.strip_suffix(b"/").unwrap_or(&path).to_vec();
            Some([&path, &b"/"[..], name].concat())
        };
        match &self.what {
            What::Input => b"/dev/stdin".to_vec(),
            What::Output(1) => b"/dev/stdout".to_vec(),
            What::Output(_) => b"/dev/stderr".to_vec(),
            _ => {
                let path = self.place.as_ref().and_then(named);
                path.unwrap_or_else(|| self.name.as_bytes().to_vec())
            }
        }
    }
}

impl OpenFiles {
    /// The three standard streams, as the first three descriptors name them.
    pub fn with_streams() -> (OpenFiles, Vec<Option<Descriptor>>) {
        let stream = |number: u8| {
            let (what, flags) = match number {
                0 => (What::Input, OpenFlags::READ),
                _ => (What::Output(number), OpenFlags::WRITE),
            };
            let name = ["standard input", "standard output", "standard error"][usize::from(number)];
            let status = u64::from(number != 0);
            Some(OpenFile::new(what, flags, status, name.as_bytes()))
        };
        let descriptor = |number| Some(Descriptor { file: FileId(number), close_on_exec: false });
        (OpenFiles((0..3).map(stream).collect()), (0..3).map(descriptor).collect())
    }

    /// Counts one more use of an open file.
    pub fn share(&mut self, file: FileId) {
        if let Some(open) = &mut self.0[file.0 as usize] {
            open.uses += 1;
        }
    }

    /// An open file.
    pub fn get(&self, file: FileId) -> Option<&OpenFile> {
        self.0.get(file.0 as usize)?.as_ref()
    }

    /// The open files.
    pub fn iter(&self) -> impl Iterator<Item = &OpenFile> {
        self.0.iter().flatten()
    }

    /// Whether an inode is open.
    fn has(&self, id: InodeId) -> bool {
        self.0.iter().flatten().any(|open| open.what.inode() == Some(id))
    }
}

impl System {
    /// The descriptor of a number.
    ///
    /// # Errors
    ///
    /// EBADF if it is not open.
    pub(crate) fn descriptor(&self, fd: u32) -> Result<Descriptor, Errno> {
        let found = self.process.descriptors.get(fd as usize).copied().flatten();
        found.ok_or(Errno::EBADF)
    }

    /// The open file that a descriptor names.
    ///
    /// # Errors
    ///
    /// EBADF if it is not open.
    pub(crate) fn open_file(&self, fd: u32) -> Result<&OpenFile, Errno> {
        let descriptor = self.descriptor(fd)?;
        self.open_files.get(descriptor.file).ok_or(Errno::EBADF)
    }

    /// The same, to be changed.
    ///
    /// # Errors
    ///
    /// EBADF if it is not open.
    pub(crate) fn open_file_mut(&mut self, fd: u32) -> Result<&mut OpenFile, Errno> {
        let descriptor = self.descriptor(fd)?;
        self.open_files.0[descriptor.file.0 as usize].as_mut().ok_or(Errno::EBADF)
    }

    /// Changes a descriptor that is open.
    pub(crate) fn set_close_on_exec(&mut self, fd: u32, close_on_exec: bool) {
        if let Some(Some(descriptor)) = self.process.descriptors.get_mut(fd as usize) {
            descriptor.close_on_exec = close_on_exec;
        }
    }

    /// Opens something, under the lowest number that is free.
    ///
    /// # Errors
    ///
    /// EMFILE if there are too many.
    pub(crate) fn open(&mut self, file: OpenFile, close_on_exec: bool) -> Result<u32, Errno> {
        let fd = self.free_descriptor(0)?;
        let files = &mut self.open_files.0;
        let free = files.iter().position(Option::is_none).unwrap_or(files.len());
        if free == files.len() {
            files.push(None);
        }
        files[free] = Some(file);
        self.put_descriptor(fd, Descriptor { file: FileId(free as u32), close_on_exec });
        Ok(fd)
    }

    /// Makes the lowest number that is free name an open file, of which this is one of the uses.
    ///
    /// # Errors
    ///
    /// EMFILE if there are too many.
    pub(crate) fn install(&mut self, file: FileId, close_on_exec: bool) -> Result<u32, Errno> {
        let fd = self.free_descriptor(0)?;
        self.put_descriptor(fd, Descriptor { file, close_on_exec });
        Ok(fd)
    }

    /// The lowest number from `least` on that is free.
    ///
    /// # Errors
    ///
    /// EMFILE if there is none.
    pub(crate) fn free_descriptor(&self, least: u32) -> Result<u32, Errno> {
        let is_free =
            |fd: &u32| self.process.descriptors.get(*fd as usize).copied().flatten().is_none();
        (least..most_descriptors(&self.process.limits)).find(is_free).ok_or(Errno::EMFILE)
    }

    fn put_descriptor(&mut self, fd: u32, descriptor: Descriptor) {
        let descriptors = &mut self.process.descriptors;
        if descriptors.len() <= fd as usize {
            descriptors.resize(fd as usize + 1, None);
        }
        descriptors[fd as usize] = Some(descriptor);
    }

    /// Makes a number name the same open file as another does; what it named before is closed.
    ///
    /// # Errors
    ///
    /// EBADF if `fd` is not open.
    pub(crate) fn duplicate(
        &mut self,
        fd: u32,
        to: u32,
        close_on_exec: bool,
    ) -> Result<u32, Errno> {
        let Descriptor { file, .. } = self.descriptor(fd)?;
        let _ = self.close(to);
        self.open_files.share(file);
        self.put_descriptor(to, Descriptor { file, close_on_exec });
        Ok(to)
    }

    /// Closes a descriptor, and the open file with the last one that names it.
    ///
    /// # Errors
    ///
    /// EBADF if it is not open.
    pub(crate) fn close(&mut self, fd: u32) -> Result<(), Errno> {
        let Descriptor { file, .. } = self.descriptor(fd)?;
        self.process.descriptors[fd as usize] = None;
        self.release(file);
        Ok(())
    }

    /// Takes back a use of an open file, and closes it with the last.
    pub(crate) fn release(&mut self, file: FileId) {
        let slot = &mut self.open_files.0[file.0 as usize];
        let Some(open) = slot else { return };
        open.uses -= 1;
        if open.uses > 0 {
            return;
        }
        let closed = slot.take();
        self.note_event();
        self.unwatch(file);
        match closed.map(|open| open.what) {
            Some(What::Pipe(id)) => self.close_pipe_end(id),
            Some(What::Socket(id)) => self.close_socket(id),
            Some(What::Epoll(id)) => self.epolls.remove(id),
            Some(what) => what.inode().into_iter().for_each(|id| self.drop_unused(id)),
            None => {}
        }
    }

    /// Drops an inode if it has no name and is not open.
    pub(crate) fn drop_unused(&mut self, id: InodeId) {
        let is_used = self.open_files.has(id)
            || self.is_mapped(id)
            || self.pipes.of_fifo(id).is_some()
            || self.sockets.has_inode(id)
            || self.all_processes().any(|it| it.directory == id);
        self.tree.drop_unused(id, is_used);
    }

    /// Whether one of the standard streams is open under its number.
    pub(crate) fn is_open(&self, fd: u32) -> bool {
        self.descriptor(fd).is_ok()
    }
}
