//! Folders of this computer that a program is shown: read once when it starts, and on request written back when it has ended.
//!
//! Every access goes through a handle of the folder (`cap_std`), so that no name and no link leads out of it.

use std::ffi::{OsStr, OsString};
use std::io::{self, Read, Write};
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Path, PathBuf};

use cap_std::ambient_authority;
use cap_std::fs::{Dir, MetadataExt, Permissions, PermissionsExt};
use sotto_kernel::{HOME, StartFile, StartKind, System};

use crate::output::{Failure, shown};

/// Files of a folder that are read at most, and bytes of them together.
const MOST_FILES: usize = 20_000;
const MOST_BYTES: u64 = 256 << 20;

/// A folder that a program is shown.
pub struct Folder {
    path: PathBuf,
    handle: Dir,
    /// What the program does to it is written back.
    is_writable: bool,
    /// Where the program finds it, without a slash at the end.
    guest: Vec<u8>,
    /// What was there when it was read.
    files: Vec<StartFile>,
}

impl Folder {
    /// Reads a folder that was asked for as `DIR`, `DIR=GUEST`, `DIR:rw` or `DIR:rw=GUEST`.
    ///
    /// # Errors
    ///
    /// If it cannot be read, or is too large.
    pub fn open(asked: &OsStr) -> Result<Folder, Failure> {
        let bytes = asked.as_bytes();
        let (host, guest) = match bytes.iter().rposition(|byte| *byte == b'=') {
            Some(at) => (&bytes[..at], &bytes[at + 1..]),
            None => (bytes, HOME),
        };
        let (host, is_writable) = match host.strip_suffix(b":rw") {
            Some(host) => (host, true),
            None => (host, false),
        };
        if !guest.starts_with(b"/") {
            let guest = String::from_utf8_lossy(guest).into_owned();
            let message = format!(
                "`{guest}` is no path from the root, which a program would find the files at"
            );
            return Err(Failure::new(message, "write it with a slash: --files DIR=/log"));
        }
        let end = guest.iter().rposition(|byte| *byte != b'/').map_or(0, |last| last + 1);
        let path = PathBuf::from(OsStr::from_bytes(host));
        let refused =
            |error: io::Error| Failure::plain(format!("cannot read {}: {error}", shown(&path)));
        let handle = Dir::open_ambient_dir(&path, ambient_authority()).map_err(refused)?;
        let mut folder =
            Folder { handle, is_writable, guest: guest[..end].to_vec(), files: Vec::new(), path };
        let mut room = MOST_BYTES;
        let top = folder.handle.try_clone().map_err(|error| folder.refused(&error))?;
        let guest = folder.guest.clone();
        folder.read(&top, &guest, &mut room)?;
        Ok(folder)
    }

    fn refused(&self, error: &io::Error) -> Failure {
        Failure::plain(format!("cannot read {}: {error}", shown(&self.path)))
    }

    fn read(&mut self, directory: &Dir, guest: &[u8], room: &mut u64) -> Result<(), Failure> {
        let refused = |error: io::Error| {
            Failure::plain(format!("cannot read {}: {error}", shown(&self.path)))
        };
        let mut names: Vec<OsString> = directory
            .entries()
            .and_then(|entries| entries.map(|entry| Ok(entry?.file_name())).collect())
            .map_err(refused)?;
        names.sort();
        for name in names {
            let path = [guest, b"/", name.as_bytes()].concat();
            // What cannot be looked at is not there for the program either.
            let Ok(about) = directory.symlink_metadata(&name) else { continue };
            let mut below = None;
            let kind = if about.is_symlink() {
                match directory.read_link_contents(&name) {
                    Ok(target) => StartKind::Link(target.into_os_string().into_vec()),
                    Err(_) => continue,
                }
            } else if about.is_dir() {
                let Ok(opened) = directory.open_dir(&name) else { continue };
                below = Some(opened);
                StartKind::Directory
            } else if about.is_file() {
                let Some(left) = room.checked_sub(about.len()) else {
                    return Err(self.too_large());
                };
                *room = left;
                let mut bytes = Vec::new();
                let Ok(file) = directory.open(&name) else { continue };
                if file.take(about.len()).read_to_end(&mut bytes).is_err() {
                    continue;
                }
                StartKind::File(bytes)
            } else {
                continue;
            };
            let modified = u64::try_from(about.mtime()).unwrap_or_default() * 1_000_000_000
                + about.mtime_nsec() as u64;
            let permissions = about.mode() & 0o777;
            self.files.push(StartFile { path: path.clone(), kind, permissions, modified });
            if self.files.len() > MOST_FILES {
                return Err(self.too_large());
            }
            if let Some(below) = below {
                self.read(&below, &path, room)?;
            }
        }
        Ok(())
    }

    fn too_large(&self) -> Failure {
        let path = shown(&self.path);
        let message = format!(
            "{path} has more than {MOST_FILES} files or {} MiB, which are read before the program starts",
            MOST_BYTES >> 20
        );
        Failure::new(message, "name the folder that the program needs, not one above it")
    }

    /// What the program finds.
    pub fn files(&self) -> &[StartFile] {
        &self.files
    }

    /// Writes back what the program changed: each file whole or not at all. What could not be written.
    pub fn write_back(&self, system: &System) -> Vec<String> {
        if !self.is_writable {
            return Vec::new();
        }
        let now = system.files_in(&self.guest);
        let mut failures = Vec::new();
        let mut note = |path: &Path, result: io::Result<()>| {
            if let Err(error) = result {
                failures.push(format!("cannot write {}: {error}", shown(&self.path.join(path))));
            }
        };
        let find = |files: &[StartFile], path: &[u8]| files.iter().position(|f| f.path == path);
        // What is gone, or is something else now, with what is in it before itself.
        for old in self.files.iter().rev() {
            let path = self.host(&old.path);
            let stays = find(&now, &old.path).is_some_and(|at| {
                std::mem::discriminant(&now[at].kind) == std::mem::discriminant(&old.kind)
            });
            match old.kind {
                _ if stays => {}
                StartKind::Directory => note(&path, self.handle.remove_dir(&path)),
                _ => note(&path, self.handle.remove_file(&path)),
            }
        }
        for new in &now {
            let path = self.host(&new.path);
            let old = find(&self.files, &new.path).map(|at| &self.files[at]);
            if old.is_some_and(|old| old.kind == new.kind && old.permissions == new.permissions) {
                continue;
            }
            note(&path, self.put(&path, new, old));
        }
        failures
    }

    /// The path of a file in the folder.
    fn host(&self, guest: &[u8]) -> PathBuf {
        PathBuf::from(OsStr::from_bytes(&guest[(self.guest.len() + 1).min(guest.len())..]))
    }

    fn put(&self, path: &Path, new: &StartFile, old: Option<&StartFile>) -> io::Result<()> {
        let permissions = || Permissions::from_mode(new.permissions & 0o777);
        match &new.kind {
            StartKind::Directory => {
                if old.is_none_or(|old| old.kind != StartKind::Directory) {
                    self.handle.create_dir(path)?;
                }
                self.handle.set_permissions(path, permissions())
            }
            StartKind::Link(target) => {
                if old.is_some_and(|old| matches!(old.kind, StartKind::Link(_))) {
                    self.handle.remove_file(path)?;
                }
                self.handle.symlink(OsStr::from_bytes(target), path)
            }
            StartKind::File(bytes) => {
                let mut name = OsString::from(".sotto-");
                name.push(std::process::id().to_string());
                let beside = path.with_file_name(name);
                let written = self.handle.create(&beside).and_then(|mut file| {
                    file.write_all(bytes)?;
                    file.set_permissions(permissions())?;
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
