//! Files: what input and output are kept in, the tree of files in memory, paths, open files, pipes and sockets.

pub(crate) mod addresses;
pub(crate) mod changes;
pub(crate) mod content;
pub(crate) mod epolls;
pub(crate) mod inode;
pub(crate) mod logs;
pub(crate) mod open;
pub(crate) mod pipes;
pub(crate) mod proc;
pub(crate) mod shown;
pub(crate) mod sockets;
pub(crate) mod tree;
pub(crate) mod walk;
