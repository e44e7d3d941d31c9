//! Folders in a recording: what a program saw of them.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};

use serde::{Deserialize, Serialize};
use sotto_kernel::{FolderReader, ShownEntry, ShownFolder, ShownKind};

use super::RecordingError;
use super::bytes::Bytes;

/// A folder, as far as a program looked into it.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RecordedFolder {
    /// Where the program finds it: a path from the root, empty for the root itself.
    pub(super) at: Bytes,
    /// The directories that were read.
    pub(super) directories: Vec<RecordedDirectory>,
    /// The files whose bytes were read.
    pub(super) files: Vec<RecordedFile>,
}

/// A directory that was read.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RecordedDirectory {
    path: Bytes,
    entries: Vec<RecordedEntry>,
}

/// A file in such a directory.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RecordedEntry {
    name: Bytes,
    kind: RecordedKind,
    permissions: u32,
    /// Its user and its group, unless it belongs to the user of the program.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    owner: Option<(u32, u32)>,
    links: u32,
    modified: u64,
}

/// What a file is.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum RecordedKind {
    /// A regular file with so many bytes.
    File(u64),
    /// A directory.
    Directory,
    /// A symbolic link to this path.
    Link(LinkTarget),
}

/// A path that a symbolic link leads to.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize)]
#[serde(transparent)]
pub struct LinkTarget(Bytes);

/// A file whose bytes were read.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RecordedFile {
    path: Bytes,
    /// Its bytes; nothing if they could not be read.
    bytes: Option<Bytes>,
}

impl From<ShownEntry> for RecordedEntry {
    fn from(entry: ShownEntry) -> RecordedEntry {
        let ShownEntry { name, kind, permissions, owner, links, modified } = entry;
        let kind = match kind {
            ShownKind::File(bytes) => RecordedKind::File(bytes),
            ShownKind::Directory => RecordedKind::Directory,
            ShownKind::Link(target) => RecordedKind::Link(LinkTarget(Bytes(target))),
        };
        RecordedEntry { name: Bytes(name), kind, permissions, owner, links, modified }
    }
}

impl From<&RecordedEntry> for ShownEntry {
    fn from(entry: &RecordedEntry) -> ShownEntry {
        let RecordedEntry { name, kind, permissions, owner, links, modified } = entry.clone();
        let kind = match kind {
            RecordedKind::File(bytes) => ShownKind::File(bytes),
            RecordedKind::Directory => ShownKind::Directory,
            RecordedKind::Link(LinkTarget(target)) => ShownKind::Link(target.0),
        };
        ShownEntry { name: name.0, kind, permissions, owner, links, modified }
    }
}

impl RecordedFolder {
    /// Whether a program can be shown it.
    pub(super) fn check(&self) -> Result<(), RecordingError> {
        let damaged = |what: String| Err(RecordingError::Damaged(what));
        let at = &self.at.0;
        if !at.is_empty() && !at.starts_with(b"/") || at.ends_with(b"/") || at.contains(&0) {
            return damaged(format!("no folder can be at `{}`", at.escape_ascii()));
        }
        for directory in &self.directories {
            let entries = &directory.entries;
            for entry in entries {
                let name = &entry.name.0[..];
                let is_name = !matches!(name, b"" | b"." | b"..")
                    && !name.contains(&b'/')
                    && !name.contains(&0);
                if !is_name {
                    return damaged(format!("no file has the name `{}`", name.escape_ascii()));
                }
                let is_kind = match &entry.kind {
                    RecordedKind::File(bytes) => *bytes <= i64::MAX as u64,
                    RecordedKind::Directory => true,
                    RecordedKind::Link(LinkTarget(to)) => !to.0.is_empty() && !to.0.contains(&0),
                };
                if !is_kind {
                    let name = name.escape_ascii();
                    return damaged(format!(
                        "`{name}` is a file of no such size, or a link to nothing"
                    ));
                }
                if entry.permissions > 0o7777 {
                    return damaged(format!("`{}` has no such permissions", name.escape_ascii()));
                }
            }
            if !entries.is_sorted_by(|one, other| one.name < other.name) {
                let path = directory.path.0.escape_ascii();
                return damaged(format!("the names in the directory `{path}` are not in order"));
            }
        }
        Ok(())
    }

    /// The folder, as a program is shown it again.
    pub(super) fn shown(&self) -> ShownFolder {
        let directories = self.directories.iter().map(|directory| {
            let entries = directory.entries.iter().map(ShownEntry::from).collect();
            (directory.path.0.clone(), entries)
        });
        let bytes = |file: &RecordedFile| file.bytes.as_ref().map(|bytes| bytes.0.clone());
        let files = self.files.iter().map(|file| (file.path.0.clone(), bytes(file)));
        let seen = Seen { directories: directories.collect(), files: files.collect() };
        ShownFolder::new(self.at.0.clone(), Arc::new(Replayed(seen)))
    }
}

/// What was read of a folder.
#[derive(Default)]
struct Seen {
    directories: BTreeMap<Vec<u8>, Vec<ShownEntry>>,
    files: BTreeMap<Vec<u8>, Option<Vec<u8>>>,
}

/// A folder of a recording. What the program did not look at then is not there.
struct Replayed(Seen);

impl FolderReader for Replayed {
    fn entries(&self, path: &[u8]) -> Vec<ShownEntry> {
        self.0.directories.get(path).cloned().unwrap_or_default()
    }

    fn contents(&self, path: &[u8]) -> Option<Vec<u8>> {
        self.0.files.get(path).cloned().flatten()
    }
}

/// A folder that is read for a program, and what was read.
pub(super) struct Observed {
    at: Vec<u8>,
    reader: Arc<dyn FolderReader>,
    seen: Mutex<Seen>,
}

impl Observed {
    /// The folder, so that what is read of it is kept.
    pub fn of(folder: &ShownFolder) -> Arc<Observed> {
        let (at, reader) = (folder.guest.clone(), folder.reader());
        Arc::new(Observed { at, reader, seen: Mutex::default() })
    }

    /// The folder as a program is shown it.
    pub fn shown(self: &Arc<Self>) -> ShownFolder {
        ShownFolder::new(self.at.clone(), self.clone())
    }

    fn seen(&self) -> std::sync::MutexGuard<'_, Seen> {
        // What a panic elsewhere left is whole: entries are put in at once.
        self.seen.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }

    /// What was read of it.
    pub fn recorded(&self) -> RecordedFolder {
        let seen = self.seen();
        let entries = |entries: &[ShownEntry]| entries.iter().cloned().map(Into::into).collect();
        let directories = seen.directories.iter().map(|(path, found)| RecordedDirectory {
            path: Bytes(path.clone()),
            entries: entries(found),
        });
        let files = seen.files.iter().map(|(path, bytes)| RecordedFile {
            path: Bytes(path.clone()),
            bytes: bytes.clone().map(Bytes),
        });
        RecordedFolder {
            at: Bytes(self.at.clone()),
            directories: directories.collect(),
            files: files.collect(),
        }
    }
}

impl FolderReader for Observed {
    fn entries(&self, path: &[u8]) -> Vec<ShownEntry> {
        let entries = self.reader.entries(path);
        self.seen().directories.insert(path.to_vec(), entries.clone());
        entries
    }

    fn contents(&self, path: &[u8]) -> Option<Vec<u8>> {
        let contents = self.reader.contents(path);
        self.seen().files.insert(path.to_vec(), contents.clone());
        contents
    }
}
