//! From a path to an inode. Source: path_resolution(7).

use crate::Errno;
use crate::files::inode::{InodeId, Kind, Want};
use crate::files::tree::{ROOT, Tree};

/// Longest name in a directory. Source: <limits.h>, NAME_MAX.
const MAX_NAME_BYTES: usize = 255;
/// Symbolic links that are followed on one way. Source: path_resolution(7).
const MAX_LINKS: usize = 40;

/// What becomes of a symbolic link in the last part of a path.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) enum LastLink {
    /// It is followed.
    Followed,
    /// It is meant itself, unless a slash behind it asks for a directory.
    Meant,
    /// It is a name in its directory, whatever is behind it.
    Name,
}

impl LastLink {
    /// Followed, or meant.
    pub fn followed_if(follow: bool) -> LastLink {
        if follow { LastLink::Followed } else { LastLink::Meant }
    }
}

/// The last part of a path.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) enum Last {
    /// A name in the directory that was reached.
    Name(Vec<u8>),
    /// `.`, or the path is `/`.
    Dot,
    /// `..`
    DotDot,
}

/// Where a path leads.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) struct Found {
    /// The directory of the last part.
    pub directory: InodeId,
    /// The last part.
    pub last: Last,
    /// What is there; `None` if nothing is.
    pub inode: Option<InodeId>,
    /// The path ends with a slash, and so asks for a directory.
    pub slash: bool,
}

impl Found {
    /// The inode, which must be there, and be a directory if the path asks for one.
    ///
    /// # Errors
    ///
    /// ENOENT or ENOTDIR.
    pub fn existing(&self, tree: &Tree) -> Result<InodeId, Errno> {
        let id = self.inode.ok_or(Errno::ENOENT)?;
        if self.slash && !tree.get(id).is_directory() {
            return Err(Errno::ENOTDIR);
        }
        Ok(id)
    }
}

/// Follows a path from a directory, or from the root. The last part may be missing.
///
/// # Errors
///
/// As path_resolution(7) has them: ENOENT, ENOTDIR, EACCES, ELOOP, ENAMETOOLONG.
pub(crate) fn walk(
    tree: &Tree,
    start: InodeId,
    path: &[u8],
    last_link: LastLink,
) -> Result<Found, Errno> {
    if path.is_empty() {
        return Err(Errno::ENOENT);
    }
    let mut directory = if path[0] == b'/' { ROOT } else { start };
    let mut parts = parts_of(path);
    let mut slash = path.ends_with(b"/");
    let mut links = 0;
    loop {
        let Some(part) = parts.pop() else {
            // Nothing but slashes.
            return Ok(Found { directory, last: Last::Dot, inode: Some(directory), slash });
        };
        let is_last = parts.is_empty();
        if !tree.get(directory).is_directory() {
            return Err(Errno::ENOTDIR);
        }
        tree.get(directory).check(Want::Execute)?;
        if part.len() > MAX_NAME_BYTES {
            return Err(Errno::ENAMETOOLONG);
        }
        let (last, inode) = match &part[..] {
            b"." => (Last::Dot, Some(directory)),
            b".." => (Last::DotDot, Some(tree.parent(directory))),
            name => (Last::Name(part.clone()), tree.entry(directory, name)),
        };
        let link = inode.and_then(|id| match &tree.get(id).kind {
            Kind::Link(target)
                if !is_last
                    || last_link == LastLink::Followed
                    || last_link == LastLink::Meant && slash =>
            {
                Some(target.clone())
            }
            _ => None,
        });
        if let Some(target) = link {
            links += 1;
            if links > MAX_LINKS {
                return Err(Errno::ELOOP);
            }
            if target.starts_with(b"/") {
                directory = ROOT;
            }
            slash |= is_last && target.ends_with(b"/");
            parts.extend(parts_of(&target));
            continue;
        }
        match inode {
            _ if is_last => return Ok(Found { directory, last, inode, slash }),
            Some(id) => directory = id,
            None => return Err(Errno::ENOENT),
        }
    }
}

/// The parts between slashes, the last one first.
fn parts_of(path: &[u8]) -> Vec<Vec<u8>> {
    let parts = path.split(|byte| *byte == b'/').filter(|part| !part.is_empty());
    let mut parts: Vec<Vec<u8>> = parts.map(<[u8]>::to_vec).collect();
    parts.reverse();
    parts
}
