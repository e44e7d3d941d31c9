//! The tree of files in memory, as a program finds it: a few devices, /proc/self, /etc, /tmp and a home.

use std::sync::Arc;

use rpds::{RedBlackTreeMapSync, StackSync, VectorSync};

use crate::files::content::Content;
use crate::files::inode::{Device, Directory, Inode, InodeId, Kind, ProcFile};

/// The root directory.
pub(crate) const ROOT: InodeId = InodeId(0);
/// Bytes that all files together may hold.
pub(crate) const MAX_BYTES: u64 = 1 << 30;
/// Inodes that there may be.
const MAX_INODES: usize = 1 << 20;

/// All inodes. A clone shares everything with the original until one of them is changed.
#[derive(Clone)]
pub(crate) struct Tree {
    inodes: VectorSync<Option<Inode>>,
    /// The directory of the process's descriptors, whose entries are made when they are wanted.
    pub descriptors: InodeId,
    /// Numbers of inodes that were dropped.
    free: StackSync<InodeId>,
    /// Bytes that the blocks of all files take.
    bytes: u64,
}

/// What the files that are there from the start say of the program.
pub(crate) struct Origin<'a> {
    /// The name by which it was started.
    pub name: &'a [u8],
    /// The number of its process.
    pub process: u64,
    /// The user that it runs as.
    pub user: u32,
    /// The time at which it starts, in nanoseconds since 1970.
    pub time: u64,
}

/// The directory in which a program starts.
pub const HOME: &[u8] = b"/home/keeper";

impl Tree {
    /// The tree as a program finds it.
    pub fn new(origin: &Origin) -> Tree {
        let Origin { name, process, user, time } = *origin;
        let mut root = Inode::new(Kind::Directory(Directory::empty()), 0o755, 0, time);
        root.links = 2;
        let mut tree = Tree {
            inodes: VectorSync::new_sync().push_back(Some(root)),
            descriptors: ROOT,
            free: StackSync::new_sync(),
            bytes: 0,
        };
        let mut add = |at: InodeId, name: &[u8], kind: Kind, permissions: u32, owner: u32| {
            let inode = Inode::new(kind, permissions, owner, time);
            tree.add(at, name, inode).expect("the first files find room")
        };
        let directory = || Kind::Directory(Directory::empty());
        let closed = || Kind::Directory(Directory { is_closed: true, ..Directory::empty() });
        let file = |text: &str| {
            let mut content = Content::default();
            content.write(0, text.as_bytes());
            Kind::File(content)
        };
        let link = |target: &[u8]| Kind::Link(target.into());

        let dev = add(ROOT, b"dev", closed(), 0o755, 0);
        for (name, device) in [
            ("null", Device::Null),
            ("zero", Device::Zero),
            ("full", Device::Full),
            ("random", Device::Random),
            ("urandom", Device::Random),
            ("tty", Device::Terminal),
        ] {
            add(dev, name.as_bytes(), Kind::Device(device), 0o666, 0);
        }
        for (name, number) in [("stdin", 0), ("stdout", 1), ("stderr", 2)] {
            add(dev, name.as_bytes(), Kind::Device(Device::Stream(number)), 0o600, user);
        }
        let etc = add(ROOT, b"etc", directory(), 0o755, 0);
        add(etc, b"hostname", file("skerry\n"), 0o644, 0);
        add(etc, b"hosts", file("127.0.0.1 localhost\n127.0.1.1 skerry\n"), 0o644, 0);
        let home = format!("keeper:x:{user}:{user}:keeper:/home/keeper:/bin/sh\n");
        add(etc, b"passwd", file(&format!("root:x:0:0:root:/root:/bin/sh\n{home}")), 0o644, 0);
        add(etc, b"group", file(&format!("root:x:0:\nkeeper:x:{user}:\n")), 0o644, 0);
        add(ROOT, b"tmp", directory(), 0o1777, 0);
        let homes = add(ROOT, b"home", directory(), 0o755, 0);
        add(homes, b"keeper", directory(), 0o755, user);

        let proc = add(ROOT, b"proc", closed(), 0o555, 0);
        let number = process.to_string();
        add(proc, b"self", link(number.as_bytes()), 0o777, 0);
        let own = add(proc, number.as_bytes(), directory(), 0o555, user);
        for (name, file) in [
            ("cmdline", ProcFile::CommandLine),
            ("comm", ProcFile::Name),
            ("environ", ProcFile::Environment),
            ("maps", ProcFile::Maps),
            ("status", ProcFile::Status),
        ] {
            add(own, name.as_bytes(), Kind::Proc(file), 0o444, user);
        }
        let program = match name.starts_with(b"/") {
            true => name.to_vec(),
            false => [HOME, b"/", name].concat(),
        };
        add(own, b"exe", link(&program), 0o777, user);
        add(own, b"cwd", link(HOME), 0o777, user);
        let descriptors = add(own, b"fd", directory(), 0o500, user);
        add(dev, b"fd", link(b"/proc/self/fd"), 0o777, 0);
        tree.descriptors = descriptors;
        tree
    }

    /// An inode that is there.
    pub fn get(&self, id: InodeId) -> &Inode {
        let inode = self.inodes.get(id.0 as usize).and_then(Option::as_ref);
        inode.expect("who has a number of an inode keeps it there")
    }

    /// The same, to be changed.
    pub fn get_mut(&mut self, id: InodeId) -> &mut Inode {
        let inode = self.inodes.get_mut(id.0 as usize).and_then(Option::as_mut);
        inode.expect("as above")
    }

    fn directory(&self, id: InodeId) -> Option<&Directory> {
        match &self.get(id).kind {
            Kind::Directory(directory) => Some(directory),
            _ => None,
        }
    }

    /// The entries of a directory; `None` if it is none.
    pub fn entries(&mut self, id: InodeId) -> Option<&RedBlackTreeMapSync<Arc<[u8]>, InodeId>> {
        if self.directory(id)?.is_unread {
            self.read_shown(id);
        }
        self.directory(id).map(|directory| &directory.entries)
    }

    /// Whether an inode is a directory without entries.
    pub fn is_empty_directory(&mut self, id: InodeId) -> bool {
        self.entries(id).is_some_and(RedBlackTreeMapSync::is_empty)
    }

    /// The inode behind a name of a directory.
    pub fn entry(&mut self, directory: InodeId, name: &[u8]) -> Option<InodeId> {
        self.entries(directory)?.get(name).copied()
    }

    /// The directory in which a directory is.
    pub fn parent(&self, directory: InodeId) -> InodeId {
        self.directory(directory).map_or(ROOT, |directory| directory.parent)
    }

    /// Adds an inode under a name; `None` if there is no room.
    pub fn add(&mut self, directory: InodeId, name: &[u8], mut inode: Inode) -> Option<InodeId> {
        let id = self.next_id()?;
        let time = inode.changed;
        if let Kind::Directory(made) = &mut inode.kind {
            made.parent = directory;
            // Its own `.`; that of the parent is counted when it is linked.
            inode.links = 1;
        }
        self.bytes += allocated(&inode);
        self.inodes.set_mut(id.0 as usize, Some(inode));
        self.link(directory, name, id, time);
        Some(id)
    }

    /// Adds an inode without a name; `None` if there is no room.
    pub fn add_unnamed(&mut self, inode: Inode) -> Option<InodeId> {
        let id = self.next_id()?;
        self.bytes += allocated(&inode);
        self.inodes.set_mut(id.0 as usize, Some(inode));
        Some(id)
    }

    /// A number that is free; `None` if there are too many.
    fn next_id(&mut self) -> Option<InodeId> {
        if let Some(id) = self.free.peek().copied() {
            self.free.pop_mut();
            return Some(id);
        }
        if self.inodes.len() >= MAX_INODES {
            return None;
        }
        self.inodes.push_back_mut(None);
        Some(InodeId(self.inodes.len() as u32 - 1))
    }

    /// Gives an inode one more name, which is free.
    pub fn link(&mut self, directory: InodeId, name: &[u8], id: InodeId, time: u64) {
        let inode = self.get_mut(id);
        inode.links += 1;
        inode.changed = time;
        let is_directory = inode.is_directory();
        if let Kind::Directory(linked) = &mut inode.kind {
            linked.parent = directory;
        }
        let holder = self.get_mut(directory);
        (holder.modified, holder.changed) = (time, time);
        holder.links += u32::from(is_directory);
        if let Kind::Directory(holder) = &mut holder.kind {
            holder.entries.insert_mut(name.into(), id);
        }
    }

    /// Takes a name away; the inode behind it stays, to be [dropped](Tree::drop_unused) when nobody uses it.
    pub fn unlink(&mut self, directory: InodeId, name: &[u8], time: u64) {
        let holder = self.get_mut(directory);
        (holder.modified, holder.changed) = (time, time);
        let Kind::Directory(holder) = &mut holder.kind else { return };
        let Some(&id) = holder.entries.get(name) else { return };
        holder.entries.remove_mut(name);
        let is_directory = self.get(id).is_directory();
        self.get_mut(directory).links -= u32::from(is_directory);
        let inode = self.get_mut(id);
        inode.links -= 1;
        inode.changed = time;
    }

    /// Drops an inode that has no name and that nothing has open, if so it is.
    pub fn drop_unused(&mut self, id: InodeId, is_open: bool) {
        let inode = self.get(id);
        // What is left of a directory without a name is its own `.`.
        let unnamed = inode.links == 0 || (inode.is_directory() && inode.links == 1);
        if unnamed && !is_open && id != ROOT {
            self.bytes -= allocated(inode);
            self.inodes.set_mut(id.0 as usize, None);
            self.free.push_mut(id);
        }
    }

    /// Whether an inode is there.
    pub fn has(&self, id: InodeId) -> bool {
        self.inodes.get(id.0 as usize).is_some_and(Option::is_some)
    }

    /// Bytes that files may still take.
    pub fn room(&self) -> u64 {
        MAX_BYTES.saturating_sub(self.bytes)
    }

    /// The bytes of a regular file; `None` if it is none, or they cannot be had.
    pub fn file_bytes(&self, id: InodeId) -> Option<Vec<u8>> {
        let Kind::File(content) = &self.get(id).kind else { return None };
        let mut bytes = vec![0; content.len() as usize];
        content.is_readable().then(|| content.read(0, &mut bytes))?;
        Some(bytes)
    }

    /// Changes the contents of a regular file; whether it is one.
    pub fn change_content(
        &mut self,
        id: InodeId,
        time: u64,
        change: impl FnOnce(&mut Content),
    ) -> bool {
        let inode = self.get_mut(id);
        let Kind::File(content) = &mut inode.kind else { return false };
        let before = content.allocated();
        change(content);
        let after = content.allocated();
        (inode.modified, inode.changed) = (time, time);
        self.bytes = self.bytes + after - before;
        true
    }

    /// Whether a directory is another one, or lies in it.
    pub fn is_within(&self, mut directory: InodeId, other: InodeId) -> bool {
        loop {
            if directory == other {
                return true;
            }
            if directory == ROOT {
                return false;
            }
            directory = self.parent(directory);
        }
    }

    /// The path of a directory from the root; `None` if it has no name any more.
    pub fn path(&self, mut directory: InodeId) -> Option<Vec<u8>> {
        let mut names: Vec<Arc<[u8]>> = Vec::new();
        while directory != ROOT {
            let parent = self.parent(directory);
            if !self.has(parent) {
                return None;
            }
            names.push(
                self.directory(parent)?.entries.iter().find(|(_, id)| **id == directory)?.0.clone(),
            );
            directory = parent;
        }
        let path: Vec<u8> = names.iter().rev().flat_map(|name| [b"/", &**name].concat()).collect();
        Some(if path.is_empty() { b"/".to_vec() } else { path })
    }

    /// Bytes that a snapshot takes beyond what is shared with others, about: the few nodes on the way to what is changed
    /// until the next one.
    pub fn own_bytes(&self) -> usize {
        4096
    }
}

fn allocated(inode: &Inode) -> u64 {
    match &inode.kind {
        Kind::File(content) => content.allocated(),
        _ => 0,
    }
}
