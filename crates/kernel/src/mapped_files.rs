//! Which files are behind which memory. Source: mmap(2).
//!
//! The bytes of a file are copied when it is mapped. Those of a shared mapping are brought together with the file whenever one
//! of both is used: before a call reads or changes the file, and after a call changed it.

use std::sync::Arc;

use sotto_machine::PAGE_BYTES;

use crate::files::content::Content;
use crate::files::inode::{InodeId, Kind};
use crate::system::System;

/// A part of memory that a file is behind.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct MappedFile {
    /// First address.
    pub start: u64,
    /// Address after the last byte, at the end of a page.
    pub end: u64,
    /// The offset in the file of the first byte.
    pub offset: u64,
    /// The path by which the file was opened.
    pub path: Arc<str>,
    pub(crate) inode: InodeId,
    /// What is written into memory is written to the file.
    pub(crate) is_shared: bool,
    /// It may be written, if it is shared: the file was opened so.
    pub(crate) may_write: bool,
    /// It is memory without a file, which is shared with processes that are made. The file that stands for it is used while there
    /// are other address spaces.
    pub(crate) is_anonymous: bool,
}

/// All of a process, by ascending address.
#[derive(Clone, Default)]
pub(crate) struct MappedFiles(pub Arc<Vec<MappedFile>>);

impl MappedFiles {
    /// Notes that memory is not a file's any more.
    pub fn remove(&mut self, start: u64, end: u64) {
        if self.0.iter().all(|file| file.end <= start || end <= file.start) {
            return;
        }
        let mut kept = Vec::new();
        for file in self.0.iter() {
            if file.start < start {
                kept.push(MappedFile { end: file.end.min(start), ..file.clone() });
            }
            if file.end > end {
                let cut = file.start.max(end);
                let offset = file.offset + (cut - file.start);
                kept.push(MappedFile { start: cut, offset, ..file.clone() });
            }
        }
        kept.retain(|file| file.start < file.end);
        self.0 = Arc::new(kept);
    }

    /// Notes that a file is behind memory, and nothing else any more.
    pub fn add(&mut self, file: MappedFile) {
        self.remove(file.start, file.end);
        let files = Arc::make_mut(&mut self.0);
        let at = files.partition_point(|other| other.start < file.start);
        files.insert(at, file);
    }

    /// Notes that memory was moved, to where nothing was, and resized.
    pub fn relocate(&mut self, start: u64, end: u64, to: u64, bytes: u64) {
        let moved: Vec<MappedFile> =
            self.0.iter().filter(|file| start <= file.start && file.end <= end).cloned().collect();
        self.remove(start, end);
        for mut file in moved {
            let is_last = file.end == end;
            (file.start, file.end) = (file.start - start + to, file.end - start + to);
            if is_last {
                file.end = to + bytes;
            }
            if file.start < file.end {
                self.add(file);
            }
        }
    }

    fn shared(&self, id: InodeId) -> Vec<MappedFile> {
        let shared = self.0.iter().filter(|file| file.is_shared && file.inode == id);
        shared.cloned().collect()
    }

    /// The inodes that are mapped so that they are written.
    fn shared_inodes(&self) -> Vec<InodeId> {
        self.0.iter().filter(|file| file.is_shared).map(|file| file.inode).collect()
    }

    /// The inodes that stand for shared memory without a file.
    pub fn anonymous_inodes(&self) -> Vec<InodeId> {
        self.0.iter().filter(|file| file.is_anonymous).map(|file| file.inode).collect()
    }

    /// Whether an inode is mapped.
    pub fn has(&self, id: InodeId) -> bool {
        self.0.iter().any(|file| file.inode == id)
    }
}

impl System {
    /// The files that are mapped into memory, by ascending address. As long as nothing of it changes this is the same list.
    pub fn mapped_files(&self) -> Arc<Vec<MappedFile>> {
        self.space.mapped.0.clone()
    }

    /// Whether these are the files that are mapped, as [`System::mapped_files`] told them.
    pub fn has_mapped(&self, files: &Arc<Vec<MappedFile>>) -> bool {
        Arc::ptr_eq(files, &self.space.mapped.0)
    }

    /// Whether an inode is mapped into an address space.
    pub(crate) fn is_mapped(&self, id: InodeId) -> bool {
        self.space.mapped.has(id) || self.spaces.values().any(|other| other.space.mapped.has(id))
    }

    /// The bytes of a mapped file; `None` if it is no regular file that can be read.
    pub fn mapped_bytes(&self, file: &MappedFile) -> Option<Vec<u8>> {
        if !self.tree.has(file.inode) {
            return None;
        }
        self.tree.file_bytes(file.inode)
    }

    /// Brings what was written into shared memory to a file, before that is used.
    pub(crate) fn flush_shared(&mut self, id: InodeId) {
        for file in self.space.mapped.shared(id) {
            let time = self.wall_time();
            let Kind::File(content) = &self.tree.get(id).kind else { continue };
            let length = content.len();
            let mut changed = Vec::new();
            for start in (file.start..file.end).step_by(PAGE_BYTES as usize) {
                let offset = file.offset + (start - file.start);
                let count = length.saturating_sub(offset).min(PAGE_BYTES) as usize;
                let (mut own, mut others) = (vec![0; count], vec![0; count]);
                content.read(offset, &mut others);
                let read = self.machine.memory().read_bytes(start, &mut own);
                if read.is_ok() && own != others {
                    changed.push((offset, own));
                }
            }
            if !changed.is_empty() {
                self.tree.change_content(id, time, |content| {
                    changed.iter().for_each(|(offset, bytes)| content.write(*offset, bytes));
                });
            }
        }
    }

    /// Brings what was written into all shared memory to the files.
    pub(crate) fn flush_all_shared(&mut self) {
        let unused = match self.spaces.is_empty() {
            true => self.space.mapped.anonymous_inodes(),
            false => Vec::new(),
        };
        for id in self.space.mapped.shared_inodes() {
            if !unused.contains(&id) {
                self.flush_shared(id);
            }
        }
    }

    /// The same before there is another address space.
    pub(crate) fn flush_for_copy(&mut self) {
        for id in self.space.mapped.shared_inodes() {
            self.flush_shared(id);
        }
    }

    /// Brings what is in files to all shared memory, which may have changed while other address spaces were in use.
    pub(crate) fn load_all_shared(&mut self) {
        for id in self.space.mapped.shared_inodes() {
            self.load_shared(id);
        }
    }

    /// Brings the bytes of files to memory that was added behind them.
    pub(crate) fn load_grown(&mut self, start: u64, end: u64) {
        for file in self.mapped_files().iter() {
            let from = file.start.max(start);
            if from < file.end.min(end)
                && let Kind::File(content) = &self.tree.get(file.inode).kind
            {
                let mut bytes = vec![0; (file.end.min(end) - from) as usize];
                let read = content.read(file.offset + (from - file.start), &mut bytes);
                self.load_mapped(from, &bytes[..read]);
            }
        }
    }

    /// Pages of private mappings of a file that hold what the file does, with their offsets: the kernel has not copied these yet, so
    /// that they change with the file.
    fn untouched_pages(&self, id: InodeId) -> Vec<(u64, u64)> {
        let mut untouched = Vec::new();
        for file in self.space.mapped.0.iter().filter(|file| !file.is_shared && file.inode == id) {
            let Kind::File(content) = &self.tree.get(id).kind else { continue };
            let (mut own, mut others) = ([0; PAGE_BYTES as usize], [0; PAGE_BYTES as usize]);
            for start in (file.start..file.end).step_by(PAGE_BYTES as usize) {
                let offset = file.offset + (start - file.start);
                let read = content.read(offset, &mut others);
                others[read..].fill(0);
                if self.machine.memory().read_bytes(start, &mut own).is_ok() && own == others {
                    untouched.push((start, offset));
                }
            }
        }
        untouched
    }

    /// Changes a file for a call, with what shared memory is behind it.
    pub(crate) fn change_file(&mut self, id: InodeId, change: impl FnOnce(&mut Content)) {
        self.flush_shared(id);
        let time = self.wall_time();
        let untouched = self.untouched_pages(id);
        self.tree.change_content(id, time, change);
        for (start, offset) in untouched {
            let Kind::File(content) = &self.tree.get(id).kind else { continue };
            let mut bytes = [0; PAGE_BYTES as usize];
            let read = content.read(offset, &mut bytes);
            bytes[read..].fill(0);
            self.load_mapped(start, &bytes);
        }
        self.load_shared(id);
    }

    /// Brings the bytes of a file to shared memory.
    fn load_shared(&mut self, id: InodeId) {
        for file in self.space.mapped.shared(id) {
            let Kind::File(content) = &self.tree.get(id).kind else { continue };
            let (mut old, mut new) = ([0; PAGE_BYTES as usize], [0; PAGE_BYTES as usize]);
            let mut changed = Vec::new();
            for start in (file.start..file.end).step_by(PAGE_BYTES as usize) {
                let read = content.read(file.offset + (start - file.start), &mut new);
                new[read..].fill(0);
                if self.machine.memory().read_bytes(start, &mut old).is_ok() && old != new {
                    changed.push((start, new));
                }
            }
            for (start, bytes) in changed {
                self.load_mapped(start, &bytes);
            }
        }
    }
}
