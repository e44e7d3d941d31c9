//! Folders outside of the system that a program is shown. What is in them is read when it is first wanted, and stays for the
//! program what it was then, so that going back in time finds the same.

use std::fmt;
use std::sync::{Arc, OnceLock};

/// Bytes that a file of such a folder may have to be read.
const MAX_FILE_BYTES: u64 = 256 << 20;

/// Reads a folder. Paths are from the folder, without a slash at either end; that of the folder itself is empty.
pub trait FolderReader: Send + Sync {
    /// What is in a directory, by ascending names; nothing if it cannot be read.
    fn entries(&self, path: &[u8]) -> Vec<ShownEntry>;
    /// The bytes of a regular file; `None` if it cannot be read.
    fn contents(&self, path: &[u8]) -> Option<Vec<u8>>;
}

/// A file in a directory of a folder.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct ShownEntry {
    /// Its name.
    pub name: Vec<u8>,
    /// What it is.
    pub kind: ShownKind,
    /// The lower twelve bits of its mode.
    pub permissions: u32,
    /// The user it belongs to, and the group; `None` if that is the user of the program.
    pub owner: Option<(u32, u32)>,
    /// Its names; of a directory, two and one for each directory in it.
    pub links: u32,
    /// When its contents changed, in nanoseconds since 1970.
    pub modified: u64,
}

/// What a file is.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum ShownKind {
    /// A regular file with so many bytes.
    File(u64),
    /// A directory.
    Directory,
    /// A symbolic link to this path.
    Link(Vec<u8>),
}

/// A folder, and where the program finds it.
#[derive(Clone)]
pub struct ShownFolder {
    /// Its path from the root, without a slash at the end; empty for the root itself.
    pub guest: Vec<u8>,
    pub(crate) top: Arc<ShownDirectory>,
}

impl ShownFolder {
    /// A folder that a program finds at a path.
    pub fn new(guest: Vec<u8>, reader: Arc<dyn FolderReader>) -> ShownFolder {
        ShownFolder { guest, top: ShownDirectory::new(reader, Vec::new()) }
    }

    /// What reads it.
    pub fn reader(&self) -> Arc<dyn FolderReader> {
        self.top.reader.clone()
    }
}

impl fmt::Debug for ShownFolder {
    fn fmt(&self, formatter: &mut fmt::Formatter) -> fmt::Result {
        write!(formatter, "ShownFolder at {}", self.guest.escape_ascii())
    }
}

/// A directory of a folder.
pub(crate) struct ShownDirectory {
    reader: Arc<dyn FolderReader>,
    path: Vec<u8>,
    entries: OnceLock<Vec<(ShownEntry, Behind)>>,
}

/// What is behind an entry.
#[derive(Clone)]
pub(crate) enum Behind {
    File(Arc<ShownFile>),
    Directory(Arc<ShownDirectory>),
    Link,
}

impl ShownDirectory {
    fn new(reader: Arc<dyn FolderReader>, path: Vec<u8>) -> Arc<ShownDirectory> {
        Arc::new(ShownDirectory { reader, path, entries: OnceLock::new() })
    }

    /// What is in it, as when that was first asked for.
    pub fn entries(&self) -> &[(ShownEntry, Behind)] {
        let behind = |entry: ShownEntry| {
            let (reader, path) = (self.reader.clone(), self.path_of(&entry.name));
            let behind = match entry.kind {
                ShownKind::File(length) => {
                    let bytes = OnceLock::new();
                    Behind::File(Arc::new(ShownFile { reader, path, length, bytes }))
                }
                ShownKind::Directory => Behind::Directory(ShownDirectory::new(reader, path)),
                ShownKind::Link(_) => Behind::Link,
            };
            (entry, behind)
        };
        self.entries
            .get_or_init(|| self.reader.entries(&self.path).into_iter().map(behind).collect())
    }

    /// Whether it is the folder itself.
    pub fn is_top(&self) -> bool {
        self.path.is_empty()
    }

    /// The path of a file in it.
    pub fn path_of(&self, name: &[u8]) -> Vec<u8> {
        match self.path.is_empty() {
            true => name.to_vec(),
            false => [&self.path, &b"/"[..], name].concat(),
        }
    }

    /// A directory in it that is not there outside.
    pub fn nothing(&self, name: &[u8]) -> Arc<ShownDirectory> {
        let made = ShownDirectory::new(self.reader.clone(), self.path_of(name));
        let _ = made.entries.set(Vec::new());
        made
    }
}

/// A regular file of a folder.
pub(crate) struct ShownFile {
    reader: Arc<dyn FolderReader>,
    path: Vec<u8>,
    /// Bytes that it had when its directory was read.
    pub length: u64,
    bytes: OnceLock<Option<Box<[u8]>>>,
}

impl ShownFile {
    /// Its bytes, as when they were first asked for; `None` if they cannot be read.
    pub fn bytes(&self) -> Option<&[u8]> {
        let read = || {
            let is_small = self.length <= MAX_FILE_BYTES;
            let mut bytes = is_small.then(|| self.reader.contents(&self.path))??;
            // The size was told already.
            bytes.resize(self.length as usize, 0);
            Some(bytes.into_boxed_slice())
        };
        self.bytes.get_or_init(read).as_deref()
    }
}
