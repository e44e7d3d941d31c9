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
    tree: &mut Tree,
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::files::content::Content;
    use crate::files::inode::{Directory, Inode};
    use crate::files::tree::Origin;

    fn tree() -> Tree {
        let origin = Origin { name: b"lamp", process: 1000, user: 1000, time: 0 };
        let mut tree = Tree::new(&origin);
        let mut add = |path: &str, kind: Kind, permissions: u32| {
            let (directory, name) = path.rsplit_once('/').unwrap();
            let at = walk(&mut tree, ROOT, format!("{directory}/").as_bytes(), LastLink::Followed);
            let inode = Inode::new(kind, permissions, 1000, 0);
            tree.add(at.unwrap().inode.unwrap(), name.as_bytes(), inode).unwrap();
        };
        let directory = || Kind::Directory(Directory::empty());
        add("/tmp/lamps", directory(), 0o755);
        add("/tmp/lamps/north", Kind::File(Content::of(b"lit")), 0o644);
        add("/tmp/way", Kind::Link((*b"lamps/").into()), 0o777);
        add("/tmp/loop", Kind::Link((*b"loop").into()), 0o777);
        add("/tmp/shut", directory(), 0o000);
        tree
    }

    fn path(path: &str, last_link: LastLink) -> Result<Option<Vec<u8>>, Errno> {
        let mut tree = tree();
        let found = walk(&mut tree, ROOT, path.as_bytes(), last_link)?;
        Ok(found.inode.and_then(|id| match tree.get(id).is_directory() {
            true => tree.path(id),
            false => Some(path.as_bytes().to_vec()),
        }))
    }

    #[test]
    fn paths_lead_through_directories_links_and_parents() {
        let followed = |text: &str| path(text, LastLink::Followed);
        let text = |path: &str| Ok(Some(path.as_bytes().to_vec()));
        assert_eq!(followed("/tmp//lamps/./../lamps"), text("/tmp/lamps"));
        assert_eq!(followed("/.."), text("/"));
        assert_eq!(followed("/tmp/way"), text("/tmp/lamps"));
        assert_eq!(followed("/tmp/way/north"), text("/tmp/way/north"));
        assert_eq!(followed("/tmp/lamps/south"), Ok(None));
        assert_eq!(followed("/tmp/lamps/north/deep"), Err(Errno::ENOTDIR));
        assert_eq!(followed("/tmp/none/at/all"), Err(Errno::ENOENT));
        assert_eq!(followed("/tmp/loop"), Err(Errno::ELOOP));
        assert_eq!(followed("/tmp/shut/lamp"), Err(Errno::EACCES));
        assert_eq!(followed(""), Err(Errno::ENOENT));
        assert_eq!(followed(&format!("/{}", "x".repeat(256))), Err(Errno::ENAMETOOLONG));
    }

    #[test]
    fn a_slash_behind_a_link_asks_for_what_it_leads_to_unless_the_name_is_meant() {
        let (meant, name) = (LastLink::Meant, LastLink::Name);
        let link = |found: Result<Option<Vec<u8>>, Errno>| found.unwrap().unwrap();
        assert_eq!(link(path("/tmp/way", meant)), b"/tmp/way");
        assert_eq!(link(path("/tmp/way/", meant)), b"/tmp/lamps");
        assert_eq!(link(path("/tmp/way/", name)), b"/tmp/way/");
        let mut tree = tree();
        let file = walk(&mut tree, ROOT, b"/tmp/lamps/north/", meant).unwrap();
        assert_eq!(file.existing(&tree), Err(Errno::ENOTDIR));
    }
}
