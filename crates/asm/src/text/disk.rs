//! Files that a source names. How they are found is the caller's business.

use std::ops::Range;

/// Gives the contents of files that a source includes.
pub trait Disk {
    /// Reads the file called `name`, named in the file `from` as it was called when it was given.
    ///
    /// Gives the name to show for it, which is also how a later include of the same file is
    /// recognised, and its bytes.
    ///
    /// # Errors
    ///
    /// Why not, in words that fit after "cannot read `name`: ".
    fn read(&self, name: &str, from: &str) -> Result<(String, Vec<u8>), String>;

    /// Reads a part of a file likewise, and tells how many bytes the whole has. Of a part that reaches beyond the end of
    /// the file, what there is.
    ///
    /// # Errors
    ///
    /// As [`Disk::read`].
    fn read_part(
        &self,
        name: &str,
        from: &str,
        part: Range<u64>,
    ) -> Result<(String, u64, Vec<u8>), String> {
        let (shown, bytes) = self.read(name, from)?;
        let size = bytes.len() as u64;
        let part = part.start.min(size) as usize..part.end.min(size) as usize;
        Ok((shown, size, bytes.get(part).unwrap_or_default().to_vec()))
    }
}

/// No files at all.
pub struct NoDisk;

impl Disk for NoDisk {
    fn read(&self, _: &str, _: &str) -> Result<(String, Vec<u8>), String> {
        Err("there are no other files here".to_string())
    }
}
