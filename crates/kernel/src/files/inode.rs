//! Inodes: files, directories, symbolic links and devices, with owner, permissions and times.
//!
//! Source: inode(7).

use std::collections::BTreeMap;
use std::sync::Arc;

use rpds::RedBlackTreeMapSync;

use crate::Errno;
use crate::calls::identity::USER;
use crate::files::content::Content;
use crate::files::shown::ShownDirectory;

/// The number of an inode in its tree.
#[derive(Copy, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub(crate) struct InodeId(pub u32);

/// Types of files as a mode has them.
pub(crate) const S_IFIFO: u32 = 0o010_000;
const S_IFCHR: u32 = 0o020_000;
const S_IFDIR: u32 = 0o040_000;
pub(crate) const S_IFREG: u32 = 0o100_000;
const S_IFLNK: u32 = 0o120_000;
pub(crate) const S_IFSOCK: u32 = 0o140_000;
/// Only owners take names away from a directory with this bit.
pub(crate) const S_ISVTX: u32 = 0o1000;

/// What a process wants to do with an inode.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) enum Want {
    Read = 4,
    Write = 2,
    /// Execute, or go through a directory.
    Execute = 1,
}

/// A device.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) enum Device {
    /// Takes everything and holds nothing.
    Null,
    /// Gives zeros.
    Zero,
    /// Gives zeros and has no room.
    Full,
    /// Gives random bytes.
    Random,
    /// The terminal of the process, which has none.
    Terminal,
    /// One of the standard streams: 0, 1 or 2.
    Stream(u8),
}

impl Device {
    /// Its major and minor number. Source: Linux, Documentation/admin-guide/devices.txt.
    pub fn number(self) -> (u32, u32) {
        match self {
            Device::Null => (1, 3),
            Device::Zero => (1, 5),
            Device::Full => (1, 7),
            Device::Random => (1, 9),
            Device::Terminal => (5, 0),
            Device::Stream(number) => (136, number.into()),
        }
    }
}

/// A file of /proc, whose text is made when it is opened.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) enum ProcFile {
    CommandLine,
    Environment,
    Maps,
    Name,
    Status,
}

/// What a directory holds.
#[derive(Clone)]
pub(crate) struct Directory {
    /// Its entries, as far as they were read.
    pub entries: RedBlackTreeMapSync<Arc<[u8]>, InodeId>,
    pub parent: InodeId,
    /// The directory outside that it shows.
    pub shows: Option<Arc<ShownDirectory>>,
    /// The entries of that were not read yet.
    pub is_unread: bool,
    /// Nothing that is outside shows in it.
    pub is_closed: bool,
}

impl Directory {
    /// A directory without entries; its parent is set when it gets a name.
    pub fn empty() -> Directory {
        Directory {
            entries: RedBlackTreeMapSync::new_sync(),
            parent: InodeId(0),
            shows: None,
            is_unread: false,
            is_closed: false,
        }
    }

    /// Shows a directory outside, whose entries are read when they are wanted.
    pub fn show(&mut self, outside: Arc<ShownDirectory>) {
        (self.shows, self.is_unread) = (Some(outside), true);
    }
}

/// What an inode is.
#[derive(Clone)]
pub(crate) enum Kind {
    File(Content),
    Directory(Directory),
    Link(Arc<[u8]>),
    Device(Device),
    Proc(ProcFile),
    /// The name of a pipe.
    Fifo,
    /// The name of a socket.
    Socket,
}

/// Extended attributes: names and values.
pub(crate) type Attributes = BTreeMap<Box<[u8]>, Box<[u8]>>;

/// An inode.
#[derive(Clone)]
pub(crate) struct Inode {
    pub kind: Kind,
    /// The lower twelve bits of the mode.
    pub permissions: u32,
    pub owner: u32,
    pub group: u32,
    pub links: u32,
    /// Extended attributes by their names.
    pub attributes: Arc<Attributes>,
    /// Times in nanoseconds since 1970: of the last access, of the last change of the contents, of any change.
    pub accessed: u64,
    pub modified: u64,
    pub changed: u64,
}

impl Inode {
    /// An inode that was made at a time, without a link yet.
    pub fn new(kind: Kind, permissions: u32, owner: u32, time: u64) -> Inode {
        let (accessed, modified, changed) = (time, time, time);
        let attributes = Arc::default();
        let (group, links) = (owner, 0);
        Inode { kind, permissions, owner, group, links, attributes, accessed, modified, changed }
    }

    /// The mode: type and permissions.
    pub fn mode(&self) -> u32 {
        let kind = match self.kind {
            Kind::File(_) | Kind::Proc(_) => S_IFREG,
            Kind::Directory(_) => S_IFDIR,
            Kind::Link(_) => S_IFLNK,
            Kind::Device(Device::Stream(_)) | Kind::Fifo => S_IFIFO,
            Kind::Socket => S_IFSOCK,
            Kind::Device(_) => S_IFCHR,
        };
        kind | self.permissions
    }

    /// Bytes as `stat` tells them.
    pub fn size(&self) -> u64 {
        match &self.kind {
            Kind::File(content) => content.len(),
            Kind::Link(target) => target.len() as u64,
            Kind::Directory(_) | Kind::Device(_) | Kind::Proc(_) => 0,
            Kind::Fifo | Kind::Socket => 0,
        }
    }

    pub fn is_directory(&self) -> bool {
        matches!(self.kind, Kind::Directory(_))
    }

    /// Whether the user of the process may do something with it. Source: path_resolution(7), "Permissions".
    ///
    /// # Errors
    ///
    /// EACCES if not.
    pub fn check(&self, want: Want) -> Result<(), Errno> {
        let user = USER as u32;
        let shift = match () {
            () if self.owner == user => 6,
            () if self.group == user => 3,
            () => 0,
        };
        let granted = self.permissions >> shift & want as u32 != 0;
        if granted { Ok(()) } else { Err(Errno::EACCES) }
    }

    /// Whether it belongs to the user of the process.
    pub fn is_own(&self) -> bool {
        self.owner == USER as u32
    }
}
