//! Showing folders in the tree, and what a program changed in them.

use std::sync::Arc;

use crate::calls::identity::USER;
use crate::files::content::Content;
use crate::files::inode::{Directory, Inode, InodeId, Kind};
use crate::files::shown::{Behind, ShownDirectory, ShownEntry, ShownFolder, ShownKind};
use crate::files::tree::{ROOT, Tree};
use crate::system::System;

/// Something in a folder that is not as it was.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Change {
    /// Its path from the folder, without a slash at either end.
    pub path: Vec<u8>,
    /// What became of it.
    pub kind: ChangeKind,
}

/// What became of a file. What is made stands where nothing is, unless it replaces a file of its kind.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum ChangeKind {
    /// The regular file or symbolic link is gone.
    FileRemoved,
    /// The directory is gone, after all that was in it.
    DirectoryRemoved,
    /// There is a directory. Its mode follows behind what is in it.
    DirectoryMade,
    /// A directory or file has another mode, of which these are the lower nine bits.
    Permissions(u32),
    /// There is a regular file, or it has other bytes.
    File {
        /// Its bytes.
        bytes: Vec<u8>,
        /// The lower nine bits of its mode.
        permissions: u32,
    },
    /// There is a symbolic link.
    Link(Vec<u8>),
}

impl Tree {
    /// Shows a folder, and makes the directories that lead to it. `None` if something else is in its place.
    pub fn show(&mut self, folder: &ShownFolder) -> Option<()> {
        let mut directory = ROOT;
        for name in folder.guest.split(|byte| *byte == b'/').filter(|name| !name.is_empty()) {
            if !self.get(directory).is_directory() {
                return None;
            }
            directory = match self.entry(directory, name) {
                Some(found) => found,
                None => {
                    let kind = Kind::Directory(Directory::empty());
                    self.add(directory, name, Inode::new(kind, 0o755, USER as u32, 0))?
                }
            };
        }
        match &mut self.get_mut(directory).kind {
            Kind::Directory(shown) if shown.shows.as_ref().is_some_and(|shows| shows.is_top()) => {
                None
            }
            Kind::Directory(shown) => {
                shown.show(folder.top.clone());
                Some(())
            }
            _ => None,
        }
    }

    /// Adds the entries of the directory outside that a directory shows, but for those whose names are taken.
    pub(super) fn read_shown(&mut self, id: InodeId) {
        let inode = self.get_mut(id);
        let (modified, changed, links) = (inode.modified, inode.changed, inode.links);
        let Kind::Directory(directory) = &mut inode.kind else { return };
        directory.is_unread = false;
        let Some(outside) = directory.shows.clone() else { return };
        for (entry, behind) in outside.entries() {
            let Kind::Directory(directory) = &self.get(id).kind else { return };
            match directory.entries.get(&entry.name[..]).copied() {
                Some(taken) => self.show_below(taken, behind),
                None => {
                    let inode = shown_inode(entry, behind);
                    if self.add(id, &entry.name, inode).is_none() {
                        break;
                    }
                }
            }
        }
        // It was so all along.
        let inode = self.get_mut(id);
        (inode.modified, inode.changed, inode.links) = (modified, changed, links);
    }

    /// Shows a directory outside in one that is there from the start.
    fn show_below(&mut self, id: InodeId, behind: &Behind) {
        if let Behind::Directory(outside) = behind
            && let Kind::Directory(directory) = &mut self.get_mut(id).kind
            && directory.shows.is_none()
            && !directory.is_closed
        {
            directory.show(outside.clone());
        }
    }
}

fn shown_inode(entry: &ShownEntry, behind: &Behind) -> Inode {
    let kind = match (&entry.kind, behind) {
        (_, Behind::File(file)) => Kind::File(Content::showing(file.clone())),
        (_, Behind::Directory(outside)) => {
            let mut directory = Directory::empty();
            directory.show(outside.clone());
            Kind::Directory(directory)
        }
        (ShownKind::Link(target), Behind::Link) => Kind::Link(target.clone().into()),
        (ShownKind::File(_) | ShownKind::Directory, Behind::Link) => Kind::Link((*b"").into()),
    };
    let (owner, group) = entry.owner.unwrap_or((USER as u32, USER as u32));
    let mut inode = Inode::new(kind, entry.permissions & 0o7777, owner, entry.modified);
    inode.group = group;
    // The name by which it is found is counted when it is added.
    inode.links = entry.links.saturating_sub(1);
    inode
}

impl System {
    /// What the program changed in a folder that it was shown, in an order in which it can be done again. What it did in
    /// another folder that is shown inside of this one is not part of it.
    pub fn changes(&mut self, folder: &ShownFolder) -> Vec<Change> {
        self.flush_all_shared();
        let mut directory = Some(ROOT);
        for name in folder.guest.split(|byte| *byte == b'/').filter(|name| !name.is_empty()) {
            directory = directory.and_then(|directory| self.tree.entry(directory, name));
        }
        let mut changes = Vec::new();
        match directory {
            Some(directory) => self.tree.compare(directory, &folder.top, &mut changes),
            None => remove_all(&folder.top, &mut changes),
        }
        changes
    }
}

/// Removes what is in a directory outside.
fn remove_all(outside: &ShownDirectory, changes: &mut Vec<Change>) {
    for (entry, behind) in outside.entries() {
        remove(entry, behind, outside, changes);
    }
}

fn remove(
    entry: &ShownEntry,
    behind: &Behind,
    outside: &ShownDirectory,
    changes: &mut Vec<Change>,
) {
    let mut kind = ChangeKind::FileRemoved;
    if let Behind::Directory(below) = behind {
        remove_all(below, changes);
        kind = ChangeKind::DirectoryRemoved;
    }
    changes.push(Change { path: outside.path_of(&entry.name), kind });
}

impl Tree {
    /// What is not in a directory as in one outside.
    fn compare(&mut self, id: InodeId, outside: &Arc<ShownDirectory>, changes: &mut Vec<Change>) {
        let same = |shown: &Arc<ShownDirectory>| Arc::ptr_eq(shown, outside);
        match &self.get(id).kind {
            Kind::Directory(own) if own.is_unread && own.shows.as_ref().is_some_and(same) => return,
            _ => {}
        }
        let Some(entries) = self.entries(id).cloned() else { return };
        for (old, behind) in outside.entries() {
            let now = entries.get(&old.name[..]).map(|id| &self.get(*id).kind);
            let stays = match (&old.kind, now) {
                (ShownKind::File(_), Some(Kind::File(_)))
                | (ShownKind::Directory, Some(Kind::Directory(_))) => true,
                (ShownKind::Link(old), Some(Kind::Link(now))) => **old == **now,
                _ => false,
            };
            if !stays {
                remove(old, behind, outside, changes);
            }
        }
        for (name, &id) in entries.iter() {
            let old = outside.entries().iter().find(|(old, _)| old.name == **name);
            self.compare_entry(id, name, old, outside, changes);
        }
    }

    fn compare_entry(
        &mut self,
        id: InodeId,
        name: &[u8],
        old: Option<&(ShownEntry, Behind)>,
        outside: &Arc<ShownDirectory>,
        changes: &mut Vec<Change>,
    ) {
        let inode = self.get(id);
        let permissions = inode.permissions & 0o777;
        let mut push = |kind| changes.push(Change { path: outside.path_of(name), kind });
        let old_permissions = old.map(|(old, _)| old.permissions & 0o777);
        let behind = old.map(|(_, behind)| behind);
        match &inode.kind {
            Kind::File(content) => {
                if let (Some(Behind::File(file)), Some(own)) = (behind, content.unchanged())
                    && Arc::ptr_eq(file, own)
                {
                    if old_permissions != Some(permissions) {
                        push(ChangeKind::Permissions(permissions));
                    }
                    return;
                }
                let mut bytes = vec![0; content.len() as usize];
                content.read(0, &mut bytes);
                push(ChangeKind::File { bytes, permissions });
            }
            Kind::Directory(directory) => {
                let shows = directory.shows.as_ref();
                if directory.is_closed || shows.is_some_and(|shows| shows.is_top()) {
                    return;
                }
                let is_old = matches!(behind, Some(Behind::Directory(_)));
                let below = match behind {
                    Some(Behind::Directory(below)) => below.clone(),
                    _ => {
                        push(ChangeKind::DirectoryMade);
                        outside.nothing(name)
                    }
                };
                self.compare(id, &below, changes);
                if !is_old || old_permissions != Some(permissions) {
                    let kind = ChangeKind::Permissions(permissions);
                    changes.push(Change { path: outside.path_of(name), kind });
                }
            }
            Kind::Link(target) => match old.map(|(old, _)| &old.kind) {
                Some(ShownKind::Link(old)) if **old == **target => {}
                _ => push(ChangeKind::Link(target.to_vec())),
            },
            Kind::Device(_) | Kind::Proc(_) | Kind::Fifo | Kind::Socket => {}
        }
    }
}
