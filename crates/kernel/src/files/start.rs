//! Files that a program is given from outside, and what becomes of them.

use std::collections::BTreeMap;

use crate::calls::identity::USER;
use crate::files::content::Content;
use crate::files::inode::{Inode, InodeId, Kind};
use crate::files::tree::{ROOT, Tree};
use crate::files::walk::{LastLink, walk};
use crate::system::System;

/// A file as it is given to a program, or found when that has ended. It belongs to the user of the program.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct StartFile {
    /// Its path from the root, without a slash at the end.
    pub path: Vec<u8>,
    /// What it is.
    pub kind: StartKind,
    /// The lower twelve bits of its mode.
    pub permissions: u32,
    /// When its contents changed, in nanoseconds since 1970.
    pub modified: u64,
}

/// What a file is.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum StartKind {
    /// A regular file with these bytes.
    File(Vec<u8>),
    /// A directory.
    Directory,
    /// A symbolic link to this path.
    Link(Vec<u8>),
}

impl Tree {
    /// Adds a file, with the directories that lead to it. A directory that is there already stays. `false` if there is no room,
    /// or something else is in its place.
    pub fn place(&mut self, file: &StartFile) -> bool {
        let user = USER as u32;
        let mut parts = file.path.split(|byte| *byte == b'/').filter(|part| !part.is_empty());
        let Some(name) = parts.next_back() else { return true };
        let mut directory = ROOT;
        for part in parts {
            let found = self.entry(directory, part);
            let next = found.or_else(|| {
                let kind = Kind::Directory { entries: BTreeMap::new(), parent: directory };
                self.add(directory, part, Inode::new(kind, 0o755, user, file.modified))
            });
            match next {
                Some(next) if self.get(next).is_directory() => directory = next,
                _ => return false,
            }
        }
        let kind = match &file.kind {
            StartKind::File(bytes) if self.room() < bytes.len() as u64 + 8192 => return false,
            StartKind::File(bytes) => Kind::File(Content::of(bytes)),
            StartKind::Directory => Kind::Directory { entries: BTreeMap::new(), parent: directory },
            StartKind::Link(target) => Kind::Link(target.clone().into()),
        };
        if let Some(found) = self.entry(directory, name) {
            return file.kind == StartKind::Directory && self.get(found).is_directory();
        }
        let inode = Inode::new(kind, file.permissions & 0o7777, user, file.modified);
        self.add(directory, name, inode).is_some()
    }
}

impl System {
    /// The files in a directory and below it, directories before what is in them; none if there is no such directory.
    pub fn files_in(&self, path: &[u8]) -> Vec<StartFile> {
        let found = walk(&self.tree, ROOT, path, LastLink::Followed).ok();
        let mut files = Vec::new();
        if let Some(id) = found.and_then(|found| found.inode) {
            self.collect(id, path, &mut files);
        }
        files
    }

    fn collect(&self, directory: InodeId, path: &[u8], files: &mut Vec<StartFile>) {
        let Kind::Directory { entries, .. } = &self.tree.get(directory).kind else { return };
        for (name, &id) in entries {
            let inode = self.tree.get(id);
            let path = [path, b"/", name].concat();
            let kind = match &inode.kind {
                Kind::File(content) => {
                    let mut bytes = vec![0; content.len() as usize];
                    content.read(0, &mut bytes);
                    StartKind::File(bytes)
                }
                Kind::Directory { .. } => StartKind::Directory,
                Kind::Link(target) => StartKind::Link(target.to_vec()),
                Kind::Device(_) | Kind::Proc(_) => continue,
            };
            let (permissions, modified) = (inode.permissions, inode.modified);
            files.push(StartFile { path: path.clone(), kind, permissions, modified });
            self.collect(id, &path, files);
        }
    }
}
