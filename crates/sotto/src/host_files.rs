//! Folders of this computer that a program is shown: read as it wants them, and on request written back when it has ended.
//!
//! Every access goes through a handle of the folder (`cap_std`), so that no name and no link leads out of it.

use std::ffi::{OsStr, OsString};
use std::io::{self, Read, Write};
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use cap_std::ambient_authority;
use cap_std::fs::{Dir, Metadata, MetadataExt, Permissions, PermissionsExt};
use sotto_kernel::{ChangeKind, FolderReader, HOME, ShownEntry, ShownFolder, ShownKind, System};

use sotto_session::recording::Recorder;

use crate::output::{Failure, shown};

/// A folder that a program is shown.
pub struct Folder {
    path: PathBuf,
    handle: Arc<Dir>,
    /// What the program does to it is written back.
    is_writable: bool,
    shown: ShownFolder,
}

impl Folder {
    /// Opens a folder that was asked for as `DIR`, `DIR=GUEST`, `DIR:rw` or `DIR:rw=GUEST`. Without `GUEST` it is found in the
    /// directory in which a program starts, and the root of this computer as the root.
    ///
    /// # Errors
    ///
    /// If it cannot be read.
    pub fn open(asked: &OsStr) -> Result<Folder, Failure> {
        let bytes = asked.as_bytes();
        let (host, guest) = match bytes.iter().rposition(|byte| *byte == b'=') {
            Some(at) => (&bytes[..at], Some(&bytes[at + 1..])),
            None => (bytes, None),
        };
        let (host, is_writable) = match host.strip_suffix(b":rw") {
            Some(host) => (host, true),
            None => (host, false),
        };
        let guest = guest.unwrap_or(if host == b"/" { b"/" } else { HOME });
        if !guest.starts_with(b"/") {
            let guest = String::from_utf8_lossy(guest).into_owned();
            let message = format!(
                "`{guest}` is no path from the root, which a program would find the files at"
            );
            return Err(Failure::new(message, "write it with a slash: --files DIR=/log"));
        }
        let end = guest.iter().rposition(|byte| *byte != b'/').map_or(0, |last| last + 1);
        let path = PathBuf::from(OsStr::from_bytes(host));
        if is_writable && end == 0 {
            let message =
                format!("what is written to the root is not written back to {}", shown(&path));
            return Err(Failure::new(
                message,
                "name the folder that is to be written as well: --files / --files DIR:rw=/log",
            ));
        }
        let refused =
            |error: io::Error| Failure::plain(format!("cannot read {}: {error}", shown(&path)));
        let handle = Dir::open_ambient_dir(&path, ambient_authority()).map_err(refused)?;
        handle.entries().map_err(refused)?;
        let handle = Arc::new(handle);
        let reader =
            Arc::new(Reader { top: handle.clone(), user: nix::unistd::geteuid().as_raw() });
        let shown = ShownFolder::new(guest[..end].to_vec(), reader);
        Ok(Folder { path, handle, is_writable, shown })
    }

    /// Keeps from now on what the program reads of it.
    pub fn record(&mut self, recorder: &mut Recorder) {
        self.shown = recorder.folder(&self.shown);
    }

    /// What the program finds.
    pub fn shown(&self) -> ShownFolder {
        self.shown.clone()
    }

    /// Writes back what the program changed: each file whole or not at all. What could not be written.
    pub fn write_back(&self, system: &mut System) -> Vec<String> {
        if !self.is_writable {
            return Vec::new();
        }
        let mut failures = Vec::new();
        for change in system.changes(&self.shown) {
            let path = Path::new(OsStr::from_bytes(&change.path));
            if let Err(error) = self.put(path, &change.kind) {
                failures.push(format!("cannot write {}: {error}", shown(&self.path.join(path))));
            }
        }
        failures
    }

    fn put(&self, path: &Path, change: &ChangeKind) -> io::Result<()> {
        match change {
            ChangeKind::FileRemoved => self.handle.remove_file(path),
            ChangeKind::DirectoryRemoved => self.handle.remove_dir(path),
            ChangeKind::DirectoryMade => self.handle.create_dir(path),
            ChangeKind::Permissions(mode) => {
                self.handle.set_permissions(path, Permissions::from_mode(*mode))
            }
            ChangeKind::Link(target) => self.handle.symlink(OsStr::from_bytes(target), path),
            ChangeKind::File { bytes, permissions } => {
                let mut name = OsString::from(".sotto-");
                name.push(std::process::id().to_string());
                let beside = path.with_file_name(name);
                let written = self.handle.create(&beside).and_then(|mut file| {
                    file.write_all(bytes)?;
                    file.set_permissions(Permissions::from_mode(*permissions))?;
                    file.sync_all()
                });
                let placed = written.and_then(|()| self.handle.rename(&beside, &self.handle, path));
                if placed.is_err() {
                    let _ = self.handle.remove_file(&beside);
                }
                placed
            }
        }
    }
}

/// Reads a folder for a program.
struct Reader {
    top: Arc<Dir>,
    /// Whose files are the program's own.
    user: u32,
}

impl Reader {
    fn directory(&self, path: &[u8]) -> io::Result<Dir> {
        match path.is_empty() {
            true => self.top.try_clone(),
            false => self.top.open_dir(OsStr::from_bytes(path)),
        }
    }

    fn entry(&self, directory: &Dir, name: OsString, about: &Metadata) -> Option<ShownEntry> {
        let kind = if about.is_symlink() {
            let target = directory.read_link_contents(&name).ok()?;
            ShownKind::Link(target.into_os_string().into_vec())
        } else if about.is_dir() {
            ShownKind::Directory
        } else if about.is_file() {
            ShownKind::File(about.len())
        } else {
            return None;
        };
        let modified = u64::try_from(about.mtime()).unwrap_or_default() * 1_000_000_000
            + about.mtime_nsec() as u64;
        Some(ShownEntry {
            links: if kind == ShownKind::Directory { about.nlink() as u32 } else { 1 },
            kind,
            name: name.into_vec(),
            permissions: about.mode() & 0o777,
            owner: (about.uid() != self.user).then(|| (about.uid(), about.gid())),
            modified,
        })
    }
}

impl FolderReader for Reader {
    fn entries(&self, path: &[u8]) -> Vec<ShownEntry> {
        let Ok(directory) = self.directory(path) else { return Vec::new() };
        let Ok(entries) = directory.entries() else { return Vec::new() };
        let mut names: Vec<OsString> = entries.flatten().map(|entry| entry.file_name()).collect();
        names.sort();
        // What cannot be looked at is not there for the program either.
        let entry = |name: OsString| {
            let about = directory.symlink_metadata(&name).ok()?;
            self.entry(&directory, name, &about)
        };
        names.into_iter().filter_map(entry).collect()
    }

    fn contents(&self, path: &[u8]) -> Option<Vec<u8>> {
        let mut bytes = Vec::new();
        self.top.open(OsStr::from_bytes(path)).ok()?.read_to_end(&mut bytes).ok()?;
        Some(bytes)
    }
}

/// The folders that were asked for.
///
/// # Errors
///
/// See [`Folder::open`].
pub fn folders(asked: &[OsString]) -> Result<Vec<Folder>, Failure> {
    asked.iter().map(|asked| Folder::open(asked)).collect()
}

/// The same where nothing is written back.
///
/// # Errors
///
/// See [`Folder::open`]; and a folder that is to be written.
pub fn folders_to_read(asked: &[OsString]) -> Result<Vec<Folder>, Failure> {
    let folders = folders(asked)?;
    match folders.iter().find(|folder| folder.is_writable) {
        Some(folder) => Err(Failure::new(
            format!("{} is written back by `sotto run` alone", shown(&folder.path)),
            "leave `:rw` out: what the program writes stays in memory",
        )),
        None => Ok(folders),
    }
}
